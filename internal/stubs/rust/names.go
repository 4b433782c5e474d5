package rust

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// keywords are the words that no name may be, those of later editions among them; verbs are the methods that every
// message has. A field of one of them gets a trailing "_". The lists are frozen.
var (
	keywords = strings.Fields(`abstract as async await become box break const continue crate do dyn else enum extern false
		final fn for gen if impl in let loop macro match mod move mut override priv pub ref return self static struct super
		trait true try type typeof union unsafe unsized use virtual where while yield`)
	verbs = strings.Fields(`append_cbor append_json apply_to between build builder clone from_cbor from_json to_cbor
		to_json unlisted validate violations`)
)

func safe(name string, lists ...[]string) string {
	if slices.ContainsFunc(lists, func(list []string) bool { return slices.Contains(list, name) }) {
		return name + "_"
	}
	return name
}

// FieldName is the Rust name of a field, and of what sets it in a builder.
func FieldName(f *schema.Field) string { return safe(f.Name, keywords, verbs) }

// variant is a name of the definitions as one of an enum of Rust; "Unlisted" is taken, and "Self" is a word.
func variant(name string) string {
	v := syntax.PascalCase(name)
	if v == "Unlisted" || v == "Self" {
		return v + "_"
	}
	return v
}

// MemberName is the Rust variant of an enum's member.
func MemberName(m *schema.Member) string { return variant(m.Name) }

// AlternativeName is the Rust variant of an alternative.
func AlternativeName(a *schema.Alternative) string { return variant(a.Name) }

// moduleName is a part of a module's name as a module of Rust.
func moduleName(part string, first bool) string {
	if first && part == "faithful" {
		return part + "_"
	}
	return safe(part, keywords)
}

// Path is the module of Rust that has what a module declares.
func Path(m *schema.Module) string {
	parts := strings.Split(m.Name, ".")
	for i, part := range parts {
		parts[i] = moduleName(part, i == 0)
	}
	return strings.Join(parts, "::")
}
