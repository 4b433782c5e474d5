package report

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"faithfulcourier/internal/compare/change"
)

// TestSentencesFold: on a terminal lines are broken between words, and what is quoted
// stays whole; piped they are one line.
func TestSentencesFold(t *testing.T) {
	const text = `the source "https://quay.example" was not fetched yet; fetch it with: faithful check`
	for _, c := range []struct {
		width int
		want  string
	}{
		{0, "at: " + text},
		{200, "at: " + text},
		{44, "at: the source \"https://quay.example\" was\n  not fetched yet; fetch it with: faithful\n  check"},
	} {
		var b strings.Builder
		New(&b, Look{Width: c.width}).Sentence("at: ", text, 2)
		assert.Equal(t, c.want+"\n", b.String(), c.width)
		for line := range strings.Lines(b.String()) {
			if c.width > 0 {
				assert.LessOrEqual(t, len(strings.TrimSuffix(line, "\n")), c.width)
			}
		}
	}
	var b strings.Builder
	p := New(&b, Look{Colour: true, Width: 50})
	p.Sentence(p.In(Bold, "a.faithful:1:1")+": ", "seats is required "+p.In(Faint, "(a-rule)")+" and more words", 4)
	assert.Equal(t, ""+
		"\x1b[1ma.faithful:1:1\x1b[0m: seats is required \x1b[2m(a-rule)\x1b[0m and\n    more words\n", b.String())
}

// TestTablesFold: the last column of a table goes on below itself.
func TestTablesFold(t *testing.T) {
	var b strings.Builder
	New(&b, Look{Width: 50}).Table("  ", [][]string{{"a", "b"}, {"long", strings.Repeat("word ", 15) + "end"}})
	assert.Equal(t, ""+
		"  a     b\n  long  word word word word word word word word\n"+
		"        word word word word word word word end\n", b.String())
}

func TestOneBlank(t *testing.T) {
	assert.Equal(t, `#5 fare int64 = "a  b" where 1..2`, change.OneBlank(`#5  fare       int64 = "a  b"   where 1..2`))
}
