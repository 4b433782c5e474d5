package report

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/source"
)

func finding(text, part string) source.Finding {
	start := strings.Index(text, part)
	return source.Finding{Name: "x", Message: "wrong",
		Place: source.Place{File: source.NewFile("f.faithful", text),
			Span: source.Span{Start: uint32(start), End: uint32(start + len(part))}}}
}

func printed(colour bool, print func(p *Printer)) string {
	var b strings.Builder
	print(New(&b, Look{Colour: colour}))
	return b.String()
}

func TestUnderlines(t *testing.T) {
	long := strings.Repeat("a ", 500) + "HERE" + strings.Repeat(" b", 500)
	for text, want := range map[string]string{
		"one\n\ttwo HERE\r\nthree": "f.faithful:2:6: error: wrong (x)\n    2 │ \ttwo HERE\n      │ \t    ^^^^\n\n",
		"世界 HERE":                  "f.faithful:1:4: error: wrong (x)\n    1 │ 世界 HERE\n      │      ^^^^\n\n",
		"é \x01 HERE":              "f.faithful:1:5: error: wrong (x)\n    1 │ é \\x01 HERE\n      │        ^^^^\n\n",
		long: "f.faithful:1:1001: error: wrong (x)\n    1 │ " + long[920:1080] + "\n      │ " +
			strings.Repeat(" ", 80) + "^^^^\n\n",
	} {
		assert.Equal(t, want, printed(false, func(p *Printer) { p.Findings([]source.Finding{finding(text, "HERE")}) }))
	}
	two := finding("a HERE\nb HERE", "HERE")
	two.Severity = source.Advice
	two.Fix = "write THERE"
	two.Notes = []source.Note{{Place: source.Place{File: two.Place.File, Span: source.Span{Start: 9, End: 13}},
		Message: "the other"}}
	assert.Equal(t, "f.faithful:1:3: advice: wrong (x)\n    1 │ a HERE\n      │   ^^^^\n    2 │ b HERE\n      │   ^^^^ "+
		"the other\n       fix: write THERE\n\n",
		printed(false, func(p *Printer) { p.Findings([]source.Finding{two}) }))
	over := finding("HERE\nand on", "HERE\nand")
	assert.Contains(t, printed(false, func(p *Printer) { p.Findings([]source.Finding{over}) }),
		"    1 │ HERE\n      │ ^^^^\n", "a part of several lines is underlined to the end of its first")
	assert.Contains(t, printed(true, func(p *Printer) { p.Findings([]source.Finding{two}) }), "\x1b[")
}

func TestManyFindings(t *testing.T) {
	var list []source.Finding
	f := finding(strings.Repeat("HERE\n", 70), "HERE")
	for range 70 {
		list = append(list, f)
	}
	list = append(list, finding("HERE", "HERE"))
	out := printed(false, func(p *Printer) { p.Findings(list) })
	assert.Equal(t, 51, strings.Count(out, "error: wrong"))
	assert.Contains(t, out, "f.faithful: 20 more, not shown\n")
	assert.Len(t, FindingsJSON(list), 71, "JSON has all of them")
	text, err := json.Marshal(FindingsJSON([]source.Finding{list[0],
		{Name: "nowhere", Message: "m", Severity: source.Advice}}))
	require.NoError(t, err)
	assert.JSONEq(t, `[{"name":"x","severity":"error","file":"f.faithful","start":{"line":1,"column":1},"end":{"line":1,"column":5},"message":"wrong"},{"name":"nowhere","severity":"advice","message":"m"}]`, string(text))
}

func TestTables(t *testing.T) {
	assert.Equal(t, "  a    bb  ragged\n  éé   c   x\n  ccc\n", printed(false, func(p *Printer) {
		p.Table("  ", [][]string{{"a", "bb", "ragged"}, {"éé", "c", "x"}, {"ccc", "", ""}})
	}))
	assert.Equal(t, "1 entry, 2 entries, 1 file, 0 files",
		strings.Join([]string{Plural(1, "entry"), Plural(2, "entry"), Plural(1, "file"), Plural(0, "file")}, ", "))
}

func comparison() Comparison {
	proof := func(encoding, payload string) *verdict.Proof {
		return &verdict.Proof{Message: "m.A", Encoding: encoding, JSON: payload, Binary: []byte{0xa1, 1, 2},
			Writer: "an older client", Reader: "a newer server", Outcome: "refuses it: because"}
	}
	effect := func(encoding string, v verdict.Verdict, w *verdict.Proof) *verdict.Effect {
		return &verdict.Effect{Covers: encoding, Position: verdict.Request, NewReads: true,
			Calls: []string{"S.a", "S.b", "S.c", "S.d", "S.e"}, Verdict: v, Sentence: "it goes wrong", Proof: w}
	}
	a := func(kind change.Kind, where, old, new string, effects ...*verdict.Effect) *compare.Change {
		return &compare.Change{Judged: &verdict.Judged{Change: &change.Change{Kind: kind, Where: where, Old: old, New: new},
			Effects: effects}}
	}
	gone := a(change.FieldGone, "m.A.x", "#1 x text", "", effect("binary", verdict.Breaking, proof("binary", "{}")),
		effect("json", verdict.Breaking, proof("json", `{"y":1}`)), effect("http", verdict.Breaking, nil),
		&verdict.Effect{Covers: "go", Position: verdict.Code, Verdict: verdict.Breaking,
			Sentence: "user code no longer compiles", Proof: &verdict.Proof{Code: []string{"_ = m.X"}}})
	gone.Fix = &compare.Fix{Says: "keep it", Lines: []string{"#1 x text"}}
	return Comparison{Old: "1.0.0", New: "draft", Needs: "2.0.0", Report: &compare.Report{Changes: []*compare.Change{gone,
		a(change.FieldDefault, "m.A.y", "1", "2", effect("binary", verdict.Altering, nil),
			effect("json", verdict.Altering, nil)),
		a(change.FieldAdded, "m.A.z", "", "#3 z text?"),
	}}}
}
func TestComparison(t *testing.T) {
	assert.Equal(t, `1.0.0 → draft: 3 changes: 1 breaking, 1 altering, 1 compatible
(breaking: an older or newer program fails · altering: all is read, but may mean something else · compatible: nothing to do)
This change needs version 2.0.0 or higher.

breaking  field-gone  m.A.x
        was #1 x text
    binary, json, http: request of S.a, S.b, S.c, 2 more
      it goes wrong
      proof: an older client writes a m.A
        {}
        a1 01 02
      a newer server refuses it: because
      proof: an older client writes a m.A as JSON
        {"y":1}
      a newer server refuses it: because
      no proof found in http
    go
      user code no longer compiles
      _ = m.X
    fix
      keep it:
        #1 x text

altering  field-default-changed  m.A.y
        1 → 2
    binary, json: request of S.a, S.b, S.c, 2 more
      it goes wrong

compatible  field-added  m.A.z  #3 z text?
`, printed(false, func(p *Printer) { p.Comparison(comparison()) }))
	text, err := json.Marshal(ComparisonJSON(comparison()))
	require.NoError(t, err)
	for _, part := range []string{`"verdict":"breaking"`, `"needs":"2.0.0"`,
		`"counts":{"altering":1,"breaking":1,"compatible":1,"waived":0}`, `"binary":"a10102"`, `"code":["_ = m.X"]`,
		`"direction":"new-reads-old"`, `"effects":[]`} {
		assert.Contains(t, string(text), part)
	}
	empty := Comparison{Old: "a", New: "b", Needs: "1.0.1", Report: &compare.Report{}}
	assert.Equal(t, "a → b: nothing differs\n", printed(false, func(p *Printer) { p.Comparison(empty) }))
	for n, want := range map[int]string{1: "1 change, compatible", 2: "2 changes, all compatible"} {
		c := Comparison{Report: &compare.Report{}}
		for range n {
			c.Changes = append(c.Changes, &compare.Change{Judged: &verdict.Judged{Change: &change.Change{}}})
		}
		assert.Equal(t, want, c.Summary())
	}
}

func TestWrapping(t *testing.T) {
	payload := `{"a":"` + strings.Repeat("x", 50) + `","b":"` + strings.Repeat("é", 50) + `","c":"` +
		strings.Repeat("z", 200) + `"}`
	lines := wrap(payload, 90)
	assert.Equal(t, payload, strings.Join(lines, ""), "nothing is lost")
	for _, line := range lines {
		assert.LessOrEqual(t, len([]rune(line)), 90)
	}
	assert.Equal(t, "00 01 02 … (100 bytes)", strings.Replace(hexLine(append([]byte{0, 1, 2}, make([]byte, 97)...)),
		strings.Repeat("00 ", 25), "", 1))
}

// TestManyChanges shows what is where before it shows each change.
func TestManyChanges(t *testing.T) {
	r := &compare.Report{}
	for i := range 500 {
		f := &compare.Change{Judged: &verdict.Judged{Change: &change.Change{Kind: change.FieldGone,
			Where: fmt.Sprintf("skerry.m%d.Leg.seats", i%5), Old: "#1 seats int32"}}}
		if i%2 == 0 {
			f.Kind, f.Effects = change.FieldType, []*verdict.Effect{{Covers: "json", Verdict: verdict.Breaking,
				Sentence: "it breaks"}}
		}
		r.Changes = append(r.Changes, f)
	}
	out := printed(false, func(p *Printer) { p.Comparison(Comparison{Old: "1.0.0", New: "draft", Report: r}) })
	assert.True(t, strings.HasPrefix(out, `1.0.0 → draft: 500 changes: 250 breaking, 250 compatible
(breaking: an older or newer program fails · compatible: nothing to do)

  breaking    250  field-type-changed  skerry.m0 50, skerry.m2 50, skerry.m4 50, 2 modules more
  compatible  250  field-gone          skerry.m1 50, skerry.m3 50, skerry.m0 50, 2 modules more

`), "%.600s", out)
}
