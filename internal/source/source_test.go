package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPosition(t *testing.T) {
	f := NewFile("f", "a\r\n\té世x\n\nend")
	for offset, want := range map[uint32]Position{0: {1, 1}, 1: {1, 2}, 3: {2, 1}, 4: {2, 2}, 6: {2, 3}, 9: {2, 4},
		11: {3, 1}, 12: {4, 1}, 15: {4, 4}, 99: {4, 4}} {
		assert.Equal(t, want, f.Position(offset), "offset %d", offset)
	}
	for line, want := range map[int]string{0: "", 1: "a", 2: "\té世x", 3: "", 4: "end", 5: ""} {
		assert.Equal(t, want, f.Line(line), "line %d", line)
	}
	assert.Equal(t, Position{1, 1}, NewFile("empty", "").Position(0))
}

func TestNearest(t *testing.T) {
	for _, c := range []struct{ word, candidates, want string }{
		{"chek", "new check generate", "check"},
		{"Bokking", "Booking Sailing", "Booking"},
		{"recieve", "receive relieve", "receive"},
		{"BOOKING", "Booking", "Booking"},
		{"in", "int32 text", ""},
		{"boolean", "bool", ""},
		{"whatever", "text bytes", ""},
		{"", "a b", "a"},
		{"x", "", ""},
		{"Passge", "passage Passage", "Passage"},
		{"passge", "Passage passage", "passage"},
	} {
		assert.Equal(t, c.want, Nearest(c.word, strings.Fields(c.candidates)), c.word)
	}
	long := strings.Repeat("a", 10_000)
	assert.Empty(t, Nearest(long, []string{"a", long + "b"}), "nobody mistypes such a word")
}

func TestFindingsAreSorted(t *testing.T) {
	a, b := NewFile("a", "xyz"), NewFile("b", "xyz")
	var f Findings
	f.Add(Finding{Name: "3", Place: Place{b, Span{1, 2}}})
	f.Add(Finding{Name: "2", Place: Place{b, Span{0, 1}}, Severity: Advice})
	f.Add(Finding{Name: "1", Place: Place{a, Span{2, 3}}})
	f.Add(Finding{Name: "0"})
	var names string
	for _, x := range f.Sorted() {
		names += x.Name
	}
	assert.Equal(t, "0123", names)
	assert.Equal(t, 3, Errors(f.Sorted()))
}
