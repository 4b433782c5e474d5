package value

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/source"
)

// TestDistinct counts values, and makes as many: lawful ones, no two alike.
func TestDistinct(t *testing.T) {
	for typ, want := range map[string]uint64{
		"bool": 2, "int8": 256, "uint8 where 3..7": 5, "int64 where -2..2": 5, "decimal where \"1.0\"..\"1.0\"": 1,
		"float64 where 0..0": 2, "float64 where 1..1": 1,
		"text where length 0..0": 1, `text where pattern "^[ab]$"`: 2, `text where pattern "^[a-c]{0,2}$"`: 13,
		`text where pattern "^(ab|c)$", length 2..9`: 1,
		"bytes where length 1..1":                    256, "date where \"2026-07-01\"..\"2026-07-03\"": 3,
		"duration where \"PT0S\"..\"PT0.000000001S\"": 2,
		"Deck": 3, "Twice": 9, "Either": 5, "[bool] where count 0..2": 7, "[bool] where count 2..2, unique": 2,
		"{Deck: bool} where count 1..1": 6, "[Twice] where count 1..1": 9,
		"text": Countless, "uuid": Countless, "any": Countless, "float32": Countless, "decimal where 0..1": Countless,
		"Chain": Countless,
	} {
		text := "module skerry.count\nenum Deck { #0 open #1 car #2 saloon }\nmessage Twice { #1 a bool? #2 b Deck " +
			"}\nunion Either { #1 yes bool #2 deck Deck }\nmessage Chain { #1 next Chain? #2 n bool }\nmessage M { #1 v " +
			typ + " }\n"
		defs, findings := check.Load([]*source.File{source.NewFile("count.faithful", text)})
		require.Zero(t, source.Errors(findings), "%s %v", typ, findings)
		modules := defs.Modules[0].Messages
		f := modules[len(modules)-1].ByName("v")
		if f == nil {
			for _, m := range modules {
				if m.Name == "M" {
					f = m.ByName("v")
				}
			}
		}
		got := Capacity(f.Type, f.Bounds, 1000)
		assert.Equal(t, want, got, typ)
		if strings.HasPrefix(typ, "[bool] where count 2") || strings.HasPrefix(typ, "{") ||
			typ == "Chain" { // not all of them are made
			continue
		}
		list := Distinct(f.Type, f.Bounds, 300)
		assert.Len(t, list, int(min(want, 300)), typ)
		for i, v := range list {
			assert.Empty(t, Validate(&Message{Type: f.Message, Fields: map[int]Value{1: v}}), typ)
			for _, before := range list[:i] {
				require.False(t, alike(before, v), "%s: %v and %v", typ, before, v)
			}
		}
	}
}
