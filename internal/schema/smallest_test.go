package schema

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
)

func TestSmallest(t *testing.T) {
	defs, findings := load(t, `module m
message Plain { #1 a int32 #2 b text? #3 c bool = true }
message Tree { #1 left Branch #2 right Branch }
union Branch { #1 leaf Plain #2 tree Tree }
message Lists { #1 a [Tree] where count 3..5 #2 b {text: Plain} where count >= 2 #3 c [Plain] #4 d Long #5 e [Long] where count >= 2 }
type Long = text where length >= 640
message Ring { #1 next Way }
union Way { #1 on Ring #2 end Lists #3 stop Tree }
`)
	require.Zero(t, source.Errors(findings))
	sizes := map[string]int64{"Plain": 3, "Tree": 1 + 4 + 4,
		"Lists": 1 + (1 + 3*9) + (1 + 2*(3+1)) + 1 + 11 + (1 + 2*11), "Ring": 1 + 1 + 9}
	for _, m := range defs.Modules[0].Messages {
		assert.Equal(t, sizes[m.Name], m.Smallest, m.Name)
	}
	assert.Equal(t, int64(4), defs.Modules[0].Unions[0].Smallest)
	assert.Equal(t, int64(10), defs.Modules[0].Unions[1].Smallest)
}

// TestExplosionsAreRefused has what grows exponentially with its text.
func TestExplosionsAreRefused(t *testing.T) {
	var doubling strings.Builder
	doubling.WriteString("module m\n")
	for i := range 200 {
		fmt.Fprintf(&doubling, "message Mm%d { #1 a Mm%d #2 b Mm%d }\n", i, i+1, i+1)
	}
	doubling.WriteString("message Mm200 { #1 a int32 }\n")
	nested := "module m\ntype Tt0 = [int32] where count 10..10\n"
	for i := 1; i < 30; i++ {
		nested += fmt.Sprintf("type Tt%d = [Tt%d] where count 10..10\n", i, i-1)
	}
	for name, text := range map[string]string{
		"doubling":        doubling.String(),
		"counts":          "module m\nmessage M { #1 a [N] where count 1000..1000 }\nmessage N { #1 b [int32] where count 4000000000..4000000000 }",
		"beyond counting": "module m\nmessage M { #1 a [N] where count >= 4000000000 }\ntype N = [int32] where count >= 4000000000",
		"nested":          nested,
	} {
		start := time.Now()
		_, findings := load(t, text)
		assert.Less(t, time.Since(start), 5*time.Second, name)
		errors := 0
		for _, f := range findings {
			if f.Severity == source.Error {
				errors++
				assert.Equal(t, "huge-value", f.Name, "%s: %s", name, f.Message)
			}
		}
		assert.LessOrEqual(t, errors, 2, name)
		assert.Positive(t, errors, name)
	}
}
