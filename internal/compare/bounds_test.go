package compare

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// boundKinds are types that can have bounds, with limits in rising order.
var boundKinds = []struct {
	typ    string
	words  []string
	limits []string
}{
	{"int8", []string{""}, []string{"-128", "-3", "0", "5", "127"}},
	{"uint64", []string{""}, []string{"0", "1", "200", "18446744073709551615"}},
	{"float32", []string{""}, []string{"-1.5", "0", "0.5", "16777216"}},
	{"decimal", []string{""}, []string{`"-1"`, `"0.50"`, `"0.75"`, `"12.5"`}},
	{"date", []string{""}, []string{`"0001-01-01"`, `"1969-12-31"`, `"1970-01-01"`, `"2026-11-23"`, `"9999-12-31"`}},
	{"instant", []string{""}, []string{`"1969-12-31T23:59:59Z"`, `"2026-01-01T00:00:00Z"`, `"2026-01-01T00:00:00.5Z"`}},
	{"duration", []string{""}, []string{`"-PT1S"`, `"PT0S"`, `"PT1H"`}},
	{"text", []string{"length "}, []string{"0", "1", "4", "12"}},
	{"bytes", []string{"length "}, []string{"0", "1", "4", "12"}},
	{"[uint8]", []string{"count "}, []string{"0", "1", "2", "3"}},
	{"{text: bool}", []string{"count "}, []string{"0", "1", "2", "3"}},
}

// TestBoundsAreJudgedRightly draws the bounds of a field before and after a
// change, of each kind that can have them. A break comes with a message that
// the old bounds allow and the new ones refuse; and where nothing breaks, no
// message does that, of the ends of both bounds and many at random.
func TestBoundsAreJudgedRightly(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1970))
	verdicts := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom(boundKinds).Draw(t, "kind")
		draw := func(name string) string {
			low := rapid.IntRange(-1, len(kind.limits)-1).Draw(t, name+" low")
			high := rapid.IntRange(max(low, 0), len(kind.limits)).Draw(t, name+" high")
			word := rapid.SampledFrom(kind.words).Draw(t, name+" word")
			text := ""
			switch {
			case low >= 0 && high < len(kind.limits):
				text = fmt.Sprintf("where %s%s..%s", word, kind.limits[low], kind.limits[high])
			case low >= 0:
				text = fmt.Sprintf("where %s>= %s", word, kind.limits[low])
			case high < len(kind.limits):
				text = fmt.Sprintf("where %s<= %s", word, kind.limits[high])
			}
			if kind.typ == "[uint8]" && rapid.Bool().Draw(t, name+" unique") {
				text = strings.TrimPrefix(text+", unique", ", ")
				if !strings.HasPrefix(text, "where") {
					text = "where " + text
				}
			}
			return text
		}
		before, after := draw("before"), draw("after")
		text := "module m message Ask { #1 n " + kind.typ + " %s } service S { call ask(Ask) -> () }"
		old, next := load(t, fmt.Sprintf(text, before)), load(t, fmt.Sprintf(text, after))
		oldAsk, nextAsk := old.Modules[0].Messages[0], next.Modules[0].Messages[0]
		for _, m := range []*schema.Message{oldAsk, nextAsk} {
			require.Empty(t, value.Validate(value.MinimalMessage(m)), "the smallest message of %s%s", before, after)
		}

		report := Compare(old, next, Promise{Rollout: "server-leads", Covers: []string{"binary", "json"}})
		if b, a := schemaBounds(oldAsk), schemaBounds(nextAsk); b == a {
			require.Empty(t, report.Changes, "%s %q %q", kind.typ, before, after)
			verdicts["same"]++
			return
		}
		require.Len(t, report.Changes, 1)
		changed := report.Changes[0]
		for _, e := range changed.Effects {
			if e.Verdict != verdict.Breaking {
				continue
			}
			require.NotNil(t, e.Proof)
			allowed, err := value.DecodeJSON(oldAsk, []byte(e.Proof.JSON), 0)
			require.NoError(t, err, e.Proof.JSON)
			require.Empty(t, value.Validate(allowed), "%s: %s", before, e.Proof.JSON)
			refused, err := value.DecodeJSON(nextAsk, []byte(e.Proof.JSON), 0)
			require.NoError(t, err, e.Proof.JSON)
			require.NotEmpty(t, value.Validate(refused), "%s: %s", after, e.Proof.JSON)
		}
		verdicts[fmt.Sprint(changed.Verdict())]++
		require.NotEqual(t, verdict.Altering, changed.Verdict(), "limits can always be decided: %s %q %q", kind.typ, before,
			after)
		if changed.Verdict() == verdict.Breaking {
			return
		}
		candidates := []*value.Message{value.MinimalMessage(oldAsk), value.MinimalMessage(nextAsk)}
		for _, literal := range kind.limits {
			for _, bounds := range []string{"where " + kind.words[0] + ">= ", "where " + kind.words[0] + "<= "} {
				candidates = append(candidates, value.MinimalMessage(load(t,
					fmt.Sprintf(text, bounds+literal)).Modules[0].Messages[0]))
			}
		}
		for range 20 {
			candidates = append(candidates, value.RandomMessage(rng, oldAsk, 3))
		}
		for _, c := range candidates {
			c := &value.Message{Type: oldAsk, Fields: c.Fields}
			if len(value.Validate(c)) == 0 {
				c.Type = nextAsk
				require.Empty(t, value.Validate(c), "%s from %q to %q", kind.typ, before, after)
			}
		}
	})
	t.Log(verdicts)
	for _, v := range []verdict.Verdict{verdict.Compatible, verdict.Breaking} {
		assert.Greater(t, verdicts[fmt.Sprint(v)], *changes/20, "few changes %v", v)
	}
}

func schemaBounds(m *schema.Message) string { return m.Fields[0].Bounds.String() }
