package report

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostileTexts are what a terminal would obey, and how it is shown.
var hostileTexts = map[string]string{
	"\x1b]0;title\x07":      `\x1b]0;title\x07`,
	"\x1b[2J\x1b[H":         `\x1b[2J\x1b[H`,
	"\u009b31m":             `\u009b31m`,
	"over\rwritten":         `over\x0dwritten`,
	"back\b\b\b\bgone":      `back\x08\x08\x08\x08gone`,
	"a\u202egnp.exe":        `a\u202egnp.exe`,
	"\u2066\ufeff\u2028end": `\u2066\ufeff\u2028end`,
	"half \xff\xc3":         `half \xff\xc3`,
	"plain ümläut 世界\tx":    "plain ümläut 世界\tx",
}

func TestLinesShowControls(t *testing.T) {
	for text, want := range hostileTexts {
		assert.Equal(t, want+"\n", printed(false, func(p *Printer) { p.Line("%s", text) }))
		assert.Equal(t, "\x1b[1m"+want+"\x1b[0m\n", printed(true, func(p *Printer) { p.Line("%s", p.In(Bold, text)) }))
		out := printed(false, func(p *Printer) {
			require.NoError(t, p.JSON(map[string]string{"text": strings.ToValidUTF8(text, "?")}))
		})
		assert.NotContains(t, strings.ReplaceAll(out, "\n", ""), "\u202e")
		var back map[string]string
		require.NoError(t, json.Unmarshal([]byte(out), &back))
		assert.Equal(t, strings.ToValidUTF8(text, "?"), back["text"], "the same JSON")
	}
	assert.Equal(t, `\x1b[31mred`+"\n", printed(true, func(p *Printer) { p.Line("\x1b[31mred") }),
		"a style that is none of ours")
}

// TestScreens writes in pieces of every size.
func TestScreens(t *testing.T) {
	for text, want := range hostileTexts {
		text, want = "\x1b[1;31mred\x1b[0m "+text+" é世\n", "\x1b[1;31mred\x1b[0m "+want+" é世\n"
		for size := 1; size <= len(text); size++ {
			var b bytes.Buffer
			s := Screen(&b)
			for rest := text; rest != ""; {
				n := min(size, len(rest))
				wrote, err := s.Write([]byte(rest[:n]))
				require.NoError(t, err)
				require.Equal(t, n, wrote)
				rest = rest[n:]
			}
			require.Equal(t, want, b.String(), "in pieces of %d", size)
		}
	}
}
