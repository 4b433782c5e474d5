package compare

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// TestConnectedMessages compares messages each of which holds all others, with another
// name or type for every Field: the work goes with the fields, not with the ways between
// them.
func TestConnectedMessages(t *testing.T) {
	connected := func(n int, field func(i, j int) string) *schema.Definitions {
		var b strings.Builder
		b.WriteString("module full\n")
		for i := range n {
			fmt.Fprintf(&b, "message Mm%d {\n  #1 a text\n", i)
			for j := range n {
				fmt.Fprintf(&b, "  #%d %s\n", j+2, field(i, j))
			}
			b.WriteString("}\n")
		}
		b.WriteString("service Full { call ask(Mm0) -> Mm1 }\n")
		defs, findings := check.Load([]*source.File{source.NewFile("full.faithful", b.String())})
		require.Zero(t, source.Errors(findings))
		return defs
	}
	promise := Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}}
	// Where a message became a list or a text, nobody reads what it held.
	breaks := map[string]int{"other names": 60, "other types": 60, "lists": 60}
	for name, changed := range map[string]func(i, j int) string{
		"other names": func(_, j int) string { return fmt.Sprintf("g%d Mm%d?", j, j) },
		"other types": func(_, j int) string { return fmt.Sprintf("f%d text?", j) },
		"lists":       func(_, j int) string { return fmt.Sprintf("f%d [Mm%d]", j, j) },
	} {
		const n = 30
		start := time.Now()
		r := Compare(connected(n, func(_, j int) string { return fmt.Sprintf("f%d Mm%d?", j, j) }), connected(n, changed),
			promise)
		took := time.Since(start)
		assert.GreaterOrEqual(t, r.Count(verdict.Breaking), breaks[name], name)
		assert.Less(t, took, 5*time.Second, "%s: it was 60 s when it went with the fourth power", name)
	}
}

// TestLargestMessages compares messages whose smallest value is nearly as large as may be.
func TestLargestMessages(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	doubling := func(last string) *schema.Definitions {
		text := "module big\n"
		for i := range 15 {
			text += fmt.Sprintf("message Mm%d { #1 a Mm%d #2 b Mm%d #3 d %s }\n", i, i+1, i+1, last)
		}
		text += "message Mm15 { #1 a int32 }\nservice Big { call ask(Mm0) -> Mm0 }\n"
		defs, findings := check.Load([]*source.File{source.NewFile("big.faithful", text)})
		require.Zero(t, source.Errors(findings))
		require.Greater(t, defs.Modules[0].Messages[0].Smallest, int64(schema.AdviseNodes))
		return defs
	}
	start := time.Now()
	r := Compare(doubling("text?"), doubling("int32?"),
		Promise{Rollout: "unordered", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}})
	assert.Equal(t, 15, r.Count(verdict.Breaking))
	for _, f := range r.Changes {
		for _, e := range f.Effects {
			if e.Verdict == verdict.Breaking {
				require.NotNil(t, e.Proof, "%s %s", f.Where, e.Covers)
			}
		}
	}
	assert.Less(t, time.Since(start), 20*time.Second)
}
