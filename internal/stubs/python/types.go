package python

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// types writes constants, named types, enums, unions, messages and errors.
func (g *generator) types() {
	for i, c := range g.module.Consts {
		if i == 0 {
			g.P("")
		}
		g.use("from typing import Final as _Final")
		g.export(c.Name)
		g.P("%s: _Final = %s", c.Name, g.literal(c.Value))
		g.doc(docOf(c.Doc, c.Deprecated))
	}
	for _, n := range g.module.Types {
		g.named(n)
	}
	for _, e := range g.module.Enums {
		g.enum(e)
	}
	for _, m := range g.ordered() {
		g.message(m)
	}
	for _, u := range g.module.Unions {
		g.union(u)
	}
	for _, n := range g.module.Types {
		g.namedCodec(n)
	}
}

// ordered are the messages; their fields name each other in annotations only,
// so any order does.
func (g *generator) ordered() (list []*schema.Message) {
	for _, m := range g.module.Messages {
		list = append(list, m)
		if p := m.Patch(); p != nil {
			list = append(list, p)
		}
	}
	return list
}

// literal writes a constant or default.
func (g *generator) literal(v any) string {
	switch v := v.(type) {
	case bool:
		if v {
			return "True"
		}
		return "False"
	case string:
		return quote(v)
	case float32:
		return pythonFloat(float64(v))
	case float64:
		return pythonFloat(v)
	case []byte:
		return bytesLiteral(v)
	case schema.UUID:
		g.use("from uuid import UUID as _UUID")
		return fmt.Sprintf("_UUID(%s)", quote(v.String()))
	case schema.Instant:
		return fmt.Sprintf("%s.Instant.parse(%s)", g.wire(), quote(v.String()))
	case schema.Decimal:
		g.use("from decimal import Decimal as _Decimal")
		return fmt.Sprintf("_Decimal(%s)", quote(v.String()))
	case schema.Date:
		g.use("from datetime import date as _date")
		day := time.Unix(int64(v)*86400, 0).UTC()
		return fmt.Sprintf("_date(%d, %d, %d)", day.Year(), day.Month(), day.Day())
	case schema.Duration:
		return fmt.Sprintf("%s.Duration.parse(%s)", g.wire(), quote(v.String()))
	case *schema.Member:
		return g.name(&v.Enum.Decl) + "." + MemberName(v)
	}
	return fmt.Sprint(v)
}

func pythonFloat(v float64) string {
	s := strconv.FormatFloat(v, 'g', -1, 64)
	if !strings.ContainsAny(s, ".e") {
		s += ".0"
	}
	return s
}

// literalOf writes a constant or default as a value of a type.
func (g *generator) literalOf(t *schema.Type, v any) string {
	if isDistinct(t) {
		return fmt.Sprintf("%s(%s)", g.name(&t.Named.Decl), g.literal(v))
	}
	return g.literal(v)
}

func (g *generator) top() { g.Blank(2) }

func (g *generator) enum(e *schema.Enum) {
	wire := g.wire()
	g.use("from typing import ClassVar as _ClassVar")
	g.export(e.Name)
	g.top()
	var numbers, renamed []string
	for _, m := range e.Members {
		numbers = append(numbers, fmt.Sprintf("%s: %d", quote(m.Name), m.Number))
		if m.JSON != "" && m.JSON != m.Name {
			renamed = append(renamed, fmt.Sprintf("%s: %s", quote(m.Name), quote(m.JSON)))
		}
	}
	g.P("class %s(", e.Name)
	g.Deeper(1, func() {
		g.P("%s.Enum,", wire)
		g.P("numbers=%s,", stubs.Rows("{", numbers, "}"))
		g.P("renamed=%s,", stubs.Rows("{", renamed, "}"))
	})
	g.In("):", func() {
		doc := e.Doc
		if doc == "" {
			doc = "The enum " + e.FullName() + "."
		}
		g.doc(docOf(doc+"\n\nIt is open: a number that is not listed is preserved as \"#7\", a name as \"?name\",\nand "+
			"listed tells.", e.Deprecated))
		g.P("")
		g.P("__slots__ = ()")
		g.P("")
		for _, m := range e.Members {
			g.P("%s: _ClassVar[%s]", MemberName(m), e.Name)
			g.doc(docOf(m.Doc, m.Deprecated))
		}
	}, "")
	g.P("")
	for _, m := range e.Members {
		g.P("%s.%s = %s", e.Name, MemberName(m), stubs.Call(e.Name, quote(m.Name)))
	}
}

// message writes a message or error.
func (g *generator) message(m *schema.Message) {
	wire := g.wire()
	g.use("from dataclasses import dataclass as _dataclass")
	g.use("from dataclasses import field as _field")
	if !g.apart {
		g.export(m.Name)
	}
	if slices.ContainsFunc(m.Fields, g.computed) {
		g.top()
	}
	for _, f := range m.Fields {
		if g.computed(f) {
			g.P("%s = %s", defaultName(f), g.literalOf(f.Type, f.Default))
		}
	}
	g.top()
	base := ""
	if m.IsError() {
		base = "(" + wire + ".DeclaredError)"
		g.P("@_dataclass(kw_only=True, eq=False, repr=False)")
	} else if m.Raw() != nil {
		g.P("@_dataclass(slots=True, kw_only=True, eq=False)")
	} else {
		g.P("@_dataclass(slots=True, kw_only=True)")
	}
	g.In(fmt.Sprintf("class %s%s:", m.Name, base), func() {
		doc := m.Doc
		if m.IsPatch() {
			doc = fmt.Sprintf("What of a %s is to be changed: a field that is UNCHANGED stays as it is, None clears it.",
				m.PatchOf.Name)
		}
		if doc == "" {
			doc = fmt.Sprintf("The %s %s.", map[bool]string{false: "message", true: "error"}[m.IsError()], m.FullName())
		}
		g.doc(docOf(doc, m.Deprecated))
		g.P("")
		if m.IsError() {
			line, _, _ := strings.Cut(m.Doc, "\n")
			if line == "" {
				line = m.Name
			}
			g.use("from typing import ClassVar as _ClassVar")
			g.P("NAME: _ClassVar[str] = %s", quote(m.FullName()))
			g.P("STATUS: _ClassVar[int] = %d", m.Status)
			g.P("TITLE: _ClassVar[str] = %s", quote(line))
			g.P("")
		}
		for _, f := range m.Fields {
			g.field(f)
		}
		g.P("_unlisted: list[%s.UnlistedField] | None = _field(default=None, repr=False)", wire)
		g.P("")
		if m.Raw() != nil {
			g.rawVerbs(m)
			return
		}
		g.verbs(m)
		if m.IsPatch() {
			g.applying(m)
		}
		g.violations(m)
		g.writeCBOR(m)
		g.readCBOR(m)
		g.writeJSON(m)
		g.readJSON(m)
	}, "")
	if m.Raw() == nil {
		g.P("")
		g.fast(m)
		g.scanned(m)
	}
	if g.exhaustive && !g.apart && !m.IsPatch() {
		g.ofAll(m)
	}
}

// rawVerbs writes what a message has whose body is one field as it is: no codec, and nothing
// that would have to read the body.
func (g *generator) rawVerbs(m *schema.Message) {
	rest := *m
	rest.Fields = slices.DeleteFunc(slices.Clone(m.Fields), (*schema.Field).IsRaw)
	g.method("to_text", []string{"self"}, "str", func() {
		g.P("\"\"\"For people and logs: JSON without the body and what is secret.\"\"\"")
		g.P("return self._write_json(0, %s.FOR_PEOPLE)", g.wire())
	})
	g.validate()
	g.violations(m)
	g.writeJSON(&rest)
}

// rawBounds is what the definitions say of a body.
func (g *generator) rawBounds(raw *schema.Field) string {
	arguments := []string{quote(raw.In.Name)}
	low, high := conversation.RawLength(raw)
	if low > 0 {
		arguments = append(arguments, fmt.Sprintf("low=%d", low))
	}
	if high > 0 {
		arguments = append(arguments, fmt.Sprintf("high=%d", high))
	}
	return stubs.Call(g.wire()+".RawBounds", arguments...)
}

// fieldType is the type of a field that is there.
func (g *generator) fieldType(f *schema.Field) string {
	if f.IsRaw() {
		return g.wire() + ".Body"
	}
	return g.typ(f.Type)
}

// ofAll writes a constructor that takes every field, so that type checkers
// complain where a field is added.
func (g *generator) ofAll(m *schema.Message) {
	parameters, arguments := []string{"*"}, []string{}
	for _, f := range m.Fields {
		t := g.fieldType(f)
		if f.Presence == schema.Optional && f.Type.Kind != schema.KindAny {
			t += " | None"
		}
		parameters = append(parameters, FieldName(f)+": "+t)
		arguments = append(arguments, FieldName(f)+"="+FieldName(f))
	}
	if len(m.Fields) == 0 {
		parameters = nil
	}
	g.export(snake(m.Name) + "_of_all")
	g.top()
	g.def("", snake(m.Name)+"_of_all", parameters, m.Name, func() {
		g.doc("Makes " + m.Name + " of every field. It is outside of the promise that code goes on working when fields " +
			"are added.")
		g.P("return %s", stubs.Call(m.Name, arguments...))
	})
}

// computed tells defaults that are no literals: they are made once, before the
// class.
func (g *generator) computed(f *schema.Field) bool {
	return f.Presence == schema.Defaulted && strings.Contains(strings.TrimLeft(g.literalOf(f.Type, f.Default), `"`),
		"(") && f.Type.Kind != schema.KindText || f.Presence == schema.Defaulted && isDistinct(f.Type)
}

// defaultName is the variable of a default. Names of messages and fields have no two
// underscores in a row, so that nothing else is called so.
func defaultName(f *schema.Field) string {
	return "_" + snake(f.Message.Name) + "__" + f.Name + "__default"
}

func (g *generator) field(f *schema.Field) {
	t, def := g.fieldType(f), ""
	switch {
	case f.Changes != nil:
		t, def = g.changeType(f), g.unchanged()
	case f.Presence == schema.Optional:
		if f.Type.Kind != schema.KindAny {
			t += " | None"
		}
		def = "None"
	case f.Presence == schema.Defaulted:
		if def = g.literalOf(f.Type, f.Default); g.computed(f) {
			def = defaultName(f)
		}
	}
	switch {
	case f.IsSecret() && def == "":
		def = "_field(repr=False)"
	case f.IsSecret():
		def = "_field(default=" + def + ", repr=False)"
	}
	if def != "" {
		def = " = " + def
	}
	g.P("%s: %s%s", FieldName(f), t, def)
	g.doc(docOf(f.Doc, f.Deprecated))
}

// verbs writes the methods that are the same for all types.
func (g *generator) verbs(m *schema.Message) {
	name := m.Name
	wire := g.wire()
	weight := strconv.Itoa(g.weights.inlined(m))
	g.method("to_cbor", []string{"self"}, "bytes", func() { g.P("return %s.to_cbor(self)", wire) })
	g.P("@classmethod")
	g.method("from_cbor", []string{"cls", "payload: bytes", "items: int = " + wire + ".DEFAULT_BUDGET"}, name, func() {
		g.P("return %s", stubs.Call(wire+".from_cbor", "payload", "_fast_"+snake(name), "cls._read_cbor", "items", weight))
	})
	g.method("to_json", []string{"self"}, "str", func() { g.P("return %s.to_json(self)", wire) })
	g.P("@classmethod")
	parameters := []string{"cls", "payload: str | bytes", "items: int = " + wire + ".DEFAULT_BUDGET"}
	g.method("from_json", parameters, name, func() {
		g.P("return %s", stubs.Call(wire+".from_json", "payload", "_scanned_"+snake(name), "cls._read_json", "items", weight))
	})
	g.method("to_text", []string{"self"}, "str", func() {
		g.P("\"\"\"For people and logs: JSON without what is secret.\"\"\"")
		g.P("return self._write_json(0, %s.FOR_PEOPLE)", wire)
	})
	g.validate()
}

func (g *generator) validate() {
	wire := g.wire()
	g.method("validate", []string{"self"}, "list["+wire+".Violation]", func() {
		g.P("\"\"\"Every violation of the definitions, for which a server would refuse it.\"\"\"")
		g.P("found: list[%s.Violation] = []", wire)
		g.P("self._violations(found, \"\")")
		g.P("return found")
	})
}

// snake turns a PascalCase name into snake_case.
func snake(name string) string {
	var b strings.Builder
	for i, r := range name {
		if r >= 'A' && r <= 'Z' {
			if i > 0 {
				b.WriteByte('_')
			}
			r += 'a' - 'A'
		}
		b.WriteRune(r)
	}
	return b.String()
}

func namedSecret(t *schema.Type) bool { return t.Named != nil && t.Named.Secret }
