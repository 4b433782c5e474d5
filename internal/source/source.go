// Package source holds the text of definition files, places in them, and
// findings: what is wrong with a definition (an error) or could be better (an
// advice). It knows nothing of the language. Positions are byte offsets; they
// become lines and columns only when a person reads them.
package source

import (
	"cmp"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// MaxFileSize is the largest definition file, in bytes, that is read.
const MaxFileSize = 64 << 20

// File is one definition file. Name is how it is shown to people.
type File struct {
	Name string
	Text string

	path  string
	lines []uint32 // offsets of line starts, made on first use
}

// Path is where the file lies, or "" for text that is in no file.
func (f *File) Path() string { return f.path }

// At says where a file lies.
func (f *File) At(path string) *File {
	f.path = path
	return f
}

// NewFile returns a file over text.
func NewFile(name, text string) *File { return &File{Name: name, Text: text} }

// Span is a half-open range of byte offsets in one file.
type Span struct{ Start, End uint32 }

// Position is a line and a column for people: both begin at 1, and the column
// counts code points.
type Position struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

func (f *File) lineStarts() []uint32 {
	if f.lines == nil {
		f.lines = append(f.lines, 0)
		for i := 0; i < len(f.Text); i++ {
			if f.Text[i] == '\n' {
				f.lines = append(f.lines, uint32(i+1))
			}
		}
	}
	return f.lines
}

// Position returns the line and column of a byte offset; an offset past the
// end is taken as the end.
func (f *File) Position(offset uint32) Position {
	starts := f.lineStarts()
	offset = min(offset, uint32(len(f.Text)))
	line := sort.Search(len(starts), func(i int) bool { return starts[i] > offset })
	column := utf8.RuneCountInString(f.Text[starts[line-1]:offset]) + 1
	return Position{Line: line, Column: column}
}

// Line returns the text of a line, numbered from 1, without its newline.
func (f *File) Line(number int) string {
	starts := f.lineStarts()
	if number < 1 || number > len(starts) {
		return ""
	}
	text := f.Text[starts[number-1]:]
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		text = text[:i]
	}
	return strings.TrimSuffix(text, "\r")
}

// Place is a span in a file. The zero Place is not a place.
type Place struct {
	File *File
	Span Span
}

// Text is what stands at a place.
func (p Place) Text() string { return p.File.Text[p.Span.Start:p.Span.End] }

// ComparePlaces orders places: by the names of files, then as they stand in them.
func ComparePlaces(a, b Place) int {
	return cmp.Or(strings.Compare(a.File.Name, b.File.Name), cmp.Compare(a.Span.Start, b.Span.Start))
}

// Severity tells errors from advice.
type Severity uint8

// The two severities.
const (
	Error Severity = iota
	Advice
)

// Note is a second place that a finding speaks of.
type Note struct {
	Place   Place
	Message string
}

// Finding is one thing to say about definitions. Name is stable and made for
// machines; Message says what is wrong, Fix how to fix it (or is empty).
type Finding struct {
	Name     string
	Severity Severity
	Place    Place
	Message  string
	Fix      string
	Notes    []Note

	Edits []Edit // that carry out the fix, when that can be said exactly
	Sure  bool   // the edits are right for certain, not a guess
}

// Edit puts Text in the place of what stands at Place.
type Edit struct {
	Place Place
	Text  string
}

// Findings collects findings.
type Findings struct{ list []Finding }

// Add keeps a finding.
func (f *Findings) Add(finding Finding) { f.list = append(f.list, finding) }

// Join adds all of other's findings.
func (f *Findings) Join(other *Findings) { f.list = append(f.list, other.list...) }

// Sorted returns all findings by file, then place, then name.
func (f *Findings) Sorted() []Finding {
	slices.SortStableFunc(f.list, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(a.fileName(), b.fileName()),
			cmp.Compare(a.Place.Span.Start, b.Place.Span.Start),
			cmp.Compare(a.Name, b.Name))
	})
	return f.list
}

func (f *Finding) fileName() string {
	if f.Place.File == nil {
		return ""
	}
	return f.Place.File.Name
}

// Errors counts the findings that are errors.
func Errors(list []Finding) int {
	n := 0
	for _, f := range list {
		if f.Severity == Error {
			n++
		}
	}
	return n
}
