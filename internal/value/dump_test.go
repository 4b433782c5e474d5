package value

import (
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
)

func dumped(data []byte, p *Part, indent string) string {
	mark := ""
	if p.Unlisted {
		mark = "?"
	}
	if p.Wrong {
		mark += "!"
	}
	s := fmt.Sprintf("%s%x %s%s|%s|%s%s\n", indent, data[p.Start:p.Body], mark, p.Label, p.Type, p.Text, p.Note)
	for _, part := range p.Parts {
		s += dumped(data, part, indent+"  ")
	}
	return s
}

func TestDump(t *testing.T) {
	defs := loaded(t, everyShape)
	all := defs.Find("All")[0].(*schema.Message)
	data, err := hex.DecodeString("ac" + "0120" + "0c" + "c1190e10" + "10" + "82a10105a0" + "11" + "a16161f5" + "14" +
		"a102816178" + "1601" + "18c8" + "a2616101" + "42820102" +
		"18c9" + "d9d9f7c11903e8" + "18ca" + "f97e00" + "18cb" + "f7" + "04" + "1863" + "18cc" + "40")
	require.NoError(t, err)
	// Field 1 is a bool and holds -1; a key that is not a number is shown as it is.
	whole, err := Dump(all, data)
	require.NoError(t, err)
	assert.Equal(t, `ac |All|12 fields
  0120 !#1 a|bool|-1
  0cc1190e10 #12 l|instant|"1970-01-01T01:00:00Z"
  1082 #16 p|[Leaf]|2 elements
    a1 [0]|Leaf|1 field
      0105 #1 a|int32?|5
    a0 [1]|Leaf|0 fields
  11a1 #17 q|{text: int16}|1 entry
    6161f5 !"a":|int16|true
  14a1 #20 t|Passage|
    0281 #2 group|[text]|1 element
      6178 [0]|text|"x"
  1601 #22 v|Deck|car #1
  18c8a2 ?#200||2 entries
    616101 "a":||1
    42820102 h'8201':||2
  18c9d9d9f7c11903e8 ?#201||55799(1(1000))
  18caf97e00 ?#202||NaN
  18cbf7 ?#203||undefined
  041863 #4 d|uint8|99
  18cc40 ?#204||h''
`, dumped(data, whole, ""))
}

// Every byte of a payload belongs to one part, and what is hostile is taken apart
// as far as it goes.
func TestDumpCoversEveryByte(t *testing.T) {
	defs := loaded(t, everyShape)
	rng := rand.New(rand.NewPCG(8, 9))
	var covers func(p *Part) int
	covers = func(p *Part) int {
		at := p.Body
		for _, part := range p.Parts {
			require.Equal(t, at, part.Start)
			at = covers(part)
		}
		require.LessOrEqual(t, at, p.End)
		return p.End
	}
	for range 300 {
		m := defs.Modules[0].Messages[rng.IntN(3)]
		data, err := EncodeCBOR(RandomMessage(rng, m, 3))
		require.NoError(t, err)
		whole, err := Dump(m, data)
		require.NoError(t, err)
		require.Equal(t, len(data), covers(whole))
		for range 5 {
			hostile := mutated(rng, data)
			_, decodeErr := DecodeCBOR(m, hostile, 0)
			p, dumpErr := Dump(m, hostile)
			require.NotNil(t, p)
			require.False(t, decodeErr == nil && dumpErr != nil, "%x: what can be read can be shown: %v", hostile, dumpErr)
		}
	}
	p, err := Dump(defs.Modules[0].Messages[0], []byte("\xa1\x01"+strings.Repeat("\xc1", 1<<20)+"\x00"))
	require.NoError(t, err)
	assert.Contains(t, p.Parts[0].Text, "1(1(1(…")
}

func TestFits(t *testing.T) {
	defs := loaded(t, "module a message Two { #1 a int32 #2 b text } message One { #1 a int32 } message Other { #1 a "+
		"text where length >= 3 } message Loose { #9 z text? } message Bound { #1 a int32 where 5..9 #2 b text } error Gone 410 { #1 a int32 #2 b text #3 c bool }")
	fits, _, _ := Fits(defs, []byte("\xa2\x01\x02\x02\x61x"))
	var got []string
	for _, f := range fits {
		got = append(got, fmt.Sprintf("%s %d %d %v", f.Message.Name, f.Known, f.Unlisted, f.Lawful))
	}
	assert.Equal(t, []string{"Two 2 0 true", "Bound 2 0 false", "One 1 1 true", "Loose 0 2 true"}, got)
	fits, nearest, err := Fits(defs, []byte("\xa3\x01\x02\x02\x61x\x03\x61y\x00"))
	assert.Empty(t, fits)
	assert.Equal(t, "Bound", nearest.Name)
	assert.Contains(t, err.Error(), "more bytes after the end")
}
