package command

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/toolchain"
)

// chained are definitions of messages each of which leads to all others.
func chained(t *testing.T, messages int) *schema.Definitions {
	var b strings.Builder
	b.WriteString("module line\n")
	for i := range messages {
		fmt.Fprintf(&b, "message Leg%d {\n  #1 name text\n  #2 next Leg%d?\n  #3 others [Leg%d]\n}\n", i, (i+1)%messages,
			(i*7+3)%messages)
	}
	defs, findings := check.Load([]*source.File{source.NewFile("f", b.String())})
	require.Zero(t, source.Errors(findings))
	return defs
}

// TestGenerateGrows holds in each language that four times as many messages that lead to each other take little more
// than four times as long.
func TestGenerateGrows(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	few, many := chained(t, 1000), chained(t, 4000)
	for _, l := range languages {
		took := func(defs *schema.Definitions) float64 {
			start := time.Now()
			_, err := l.Generate(defs, stubs.About{Name: "line", Version: "1.0.0"}, stubs.Everything("skerry.example/line"))
			require.NoError(t, err)
			return time.Since(start).Seconds()
		}
		took(few) // what is made once
		ratio := toolchain.Measured(func(r float64) bool { return r < 6 }, func() float64 { return took(many) / took(few) })
		t.Logf("%s: four times as many messages take %.1f times as long", l.Name(), ratio)
		assert.Less(t, ratio, 8.0, l.Name())
	}
}
