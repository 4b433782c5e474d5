// Package syntax reads the text of one definition file into a syntax tree.
// It knows the grammar and nothing of meaning: names are not looked up, and
// literals are not checked against types.
//
//	scanner  text → tokens
//	parser   tokens → tree, with one finding for each mistake
package syntax

import (
	"strings"

	"faithfulcourier/internal/source"
)

// File is the tree of one file.
type File struct {
	Source *source.File
	Doc    Doc
	Module Name // dotted; empty when the file has none
	Uses   []Use
	Decls  []Decl
}

// Name is a name where it stands.
type Name struct {
	Text string
	Span source.Span
}

// Doc is a block of /// lines; the zero Doc is none.
type Doc struct{ Span source.Span }

// Text returns the documentation as CommonMark, without the slashes.
func (d Doc) Text(file *source.File) string {
	if d.Span.End == 0 {
		return ""
	}
	block := file.Text[d.Span.Start:d.Span.End]
	if !strings.Contains(block, "\n") {
		return docLine(block[len("///"):])
	}
	var lines []string
	for line := range strings.SplitSeq(block, "\n") {
		if rest, ok := strings.CutPrefix(strings.TrimLeft(line, " \t"), "///"); ok {
			lines = append(lines, docLine(rest))
		}
	}
	return strings.Join(lines, "\n")
}

func docLine(rest string) string { return strings.TrimRight(strings.TrimPrefix(rest, " "), " \t\r") }

// Use is "use a.b.c as x"; Alias is the last part where none is written.
type Use struct {
	Module Name
	Alias  Name
}

// Decl is a declaration: *Const, *Enum, *Message or *Service.
type Decl interface{ Common() *Head }

// Head is what every declaration has.
type Head struct {
	Doc        Doc
	Name       Name
	Deprecated Name // the reason and where it stands, or empty; below, too
}

// Common returns h itself, so that whatever embeds it is a Decl.
func (h *Head) Common() *Head { return h }

// Const is a named scalar.
type Const struct {
	Head
	Type  *Type
	Value Literal
}

// Enum is a list of numbered members.
type Enum struct {
	Head
	Members []Member
	Retired []Retired
}

// Member is one member of an enum.
type Member struct {
	Doc        Doc
	Number     Number
	Name       Name
	Deprecated Name
}

// Number is what follows "#". Value is -1 where the text is no number from 0
// to 65535; that has been reported.
type Number struct {
	Value int
	Span  source.Span // with the "#"
}

// Retired is a number, a name or both that may not be used again. Value is -1
// and Name empty where they are not given.
type Retired struct {
	Number Number
	Name   Name
}

// Message is a message, or an error when Status is set.
type Message struct {
	Head
	IsError bool
	Status  Name // the digits
	Fields  []Field
	Retired []Retired
}

// Field is one field of a message or error.
type Field struct {
	Doc      Doc
	Number   Number
	Name     Name
	Type     *Type
	Optional bool
	Default  *Literal

	Deprecated Name
}

// TypeForm tells the forms of a type apart.
type TypeForm uint8

// The forms of a type.
const (
	NamedType TypeForm = iota // a scalar or a declared name
	ListType
	MapType
)

// Type is a type as written.
type Type struct {
	Form  TypeForm
	Span  source.Span
	Alias Name // before the dot, or empty
	Name  Name
	Key   *Type
	Elem  *Type
}

// LiteralForm tells the forms of a literal apart.
type LiteralForm uint8

// The forms of a literal.
const (
	NumberLiteral LiteralForm = iota
	TextLiteral
	BoolLiteral
	WordLiteral  // an enum's member
	ConstLiteral // NAME or alias.NAME
)

// Literal is a literal as written. For a TextLiteral, Text is the value, its
// escapes undone; otherwise it is the source text without the alias.
type Literal struct {
	Form  LiteralForm
	Span  source.Span
	Alias Name
	Text  string
}

// Service is a list of calls.
type Service struct {
	Head
	Fails []Ref
	Calls []Call
}

// Call is one call; a nil side is "()".
type Call struct {
	Doc      Doc
	Name     Name
	Request  *Ref
	Response *Ref
	Fails    []Ref
	Safe     bool

	Deprecated Name
}

// Ref is a declared name, as written.
type Ref struct {
	Alias Name
	Name  Name
}

// Span covers alias and name.
func (r Ref) Span() source.Span {
	if r.Alias.Text != "" {
		return source.Span{Start: r.Alias.Span.Start, End: r.Name.Span.End}
	}
	return r.Name.Span
}

// String returns the reference as written.
func (r Ref) String() string {
	if r.Alias.Text != "" {
		return r.Alias.Text + "." + r.Name.Text
	}
	return r.Name.Text
}
