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

// Decl is a declaration: *Const, *TypeDecl, *Enum, *Union, *Message, *Example,
// *Credential or *Service.
type Decl interface{ Common() *Head }

// Head is what every declaration has.
type Head struct {
	Doc   Doc
	Name  Name
	Marks *Marks // nil for none; below, too
}

// Common returns h itself, so that whatever embeds it is a Decl.
func (h *Head) Common() *Head { return h }

// Marks are what may stand after an item. A Name is the mark's text (of
// Secret and Stored the word itself) and the place of the whole mark.
type Marks struct {
	Deprecated Name
	JSON       Name
	Secret     Name
	Stored     Name
	In         *In
}

// In places a field: Place is query, header, cookie or body; Name is empty where none
// is written, and of a body its media type.
type In struct {
	Span  source.Span
	Place Name
	Name  Name
}

// DeprecatedWhy is the reason of the mark deprecated, or "".
func (m *Marks) DeprecatedWhy() string {
	if m == nil {
		return ""
	}
	return m.Deprecated.Text
}

// Const is a named scalar.
type Const struct {
	Head
	Type  *Type
	Value Literal
}

// TypeDecl is a named type over another, with its own bounds.
type TypeDecl struct {
	Head
	Base  *Type
	Where *Where
}

// Enum is a list of numbered members.
type Enum struct {
	Head
	Members []Member
	Retired []Retired
}

// Member is one member of an enum.
type Member struct {
	Doc    Doc
	Number Number
	Name   Name
	Marks  *Marks
}

// Union is a list of numbered alternatives, of which a value is exactly one.
type Union struct {
	Head
	Alternatives []Alternative
	Retired      []Retired
}

// Alternative is one alternative of a union.
type Alternative struct {
	Doc    Doc
	Number Number
	Name   Name
	Type   *Type
	Marks  *Marks
}

// Number is what follows "#". Value is -1 where the text is not a number from 0
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
	Where    *Where
	Marks    *Marks
}

// Where is what limits the values of a type or field.
type Where struct {
	Span   source.Span
	Bounds []Bound
}

// BoundForm tells the bounds apart.
type BoundForm uint8

// The forms of a bound.
const (
	RangeBound BoundForm = iota
	LengthBound
	CountBound
	PatternBound
	UniqueBound
)

// Bound is one bound. Low and High are the limits of a range, length or count,
// nil where it is open; Low is the text of a pattern.
type Bound struct {
	Form BoundForm
	Span source.Span
	Low  *Literal
	High *Literal
}

// Example is a value of a message or error.
type Example struct {
	Head
	Of    Ref
	Value *Value
}

// ValueForm tells the forms of an example's value apart.
type ValueForm uint8

// The forms of a value.
const (
	LiteralValue ValueForm = iota
	NullValue
	ObjectValue
	ListValue
)

// Value is a value in an example.
type Value struct {
	Form    ValueForm
	Span    source.Span
	Literal Literal
	Pairs   []Pair
	Items   []*Value
}

// Pair is one entry of an object. Key is the name, the digits or, its escapes
// undone, the string.
type Pair struct {
	Key   Name
	Value *Value
}

// Credential is what a caller may have to show. Kind is key, bearer or basic, or
// empty after a mistake;
// Carrier (of a key) is header, query or cookie; Text is the key's name or the
// bearer's format.
type Credential struct {
	Head
	Kind    Name
	Carrier Name
	Text    Name
}

// TypeForm tells the forms of a type apart.
type TypeForm uint8

// The forms of a type.
const (
	NamedType TypeForm = iota // a scalar or a declared name
	ListType
	MapType
	PatchType // what of a message is to be changed: Alias and Name are the message's
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
	WordLiteral   // an enum's member
	ConstLiteral  // NAME or alias.NAME
	BrokenLiteral // one whose mistake has been reported
)

// Literal is a literal as written. For a TextLiteral, Text is the value, its
// escapes undone; otherwise it is the source text without the alias.
type Literal struct {
	Form  LiteralForm
	Span  source.Span
	Alias Name
	Text  string
}

// Service is a list of calls, and what holds for those that don't say their
// own.
type Service struct {
	Head
	Fails []Ref
	Needs *Needs
	Calls []Call
}

// Side is a request or an answer; a nil Message is "()".
type Side struct {
	Message *Ref
	Stream  bool
}

// Call is one call.
type Call struct {
	Doc        Doc
	Name       Name
	Head       *Ref // before a request that is a stream, or nil
	Request    Side
	Response   Side
	HTTP       *HTTP
	Fails      []Ref
	Needs      *Needs // nil where the call says nothing
	Safe       Name   // the word where it stands, or empty
	Idempotent Name
	Marks      *Marks
}

// HTTP is a call's method, path and success status. Path is the string, its
// escapes undone; Status is the digits, or empty.
type HTTP struct {
	Span   source.Span
	Method Name
	Path   Name
	Status Name
}

// Needs is which credentials a call needs: one of the alternatives, and of it
// all. An empty alternative is "nothing".
type Needs struct {
	Span         source.Span
	Alternatives [][]Ref
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
