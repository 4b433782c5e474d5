package wire

import (
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestEveryScalarIsCompared walks the scalars: each has a class, and values at which
// another kind differs.
func TestEveryScalarIsCompared(t *testing.T) {
	for _, s := range schema.Scalars {
		if s.Kind != schema.KindAny { // which is what it holds
			assert.NotEqual(t, noClass, classOf(s.Kind), s.Word)
		}
		for _, other := range schema.Scalars {
			if other.Kind == s.Kind {
				continue
			}
			w := newWalker(change.Nothing(), crossing{encoding: "json", position: verdict.Request})
			examples, _ := w.candidates(spot{wt: &schema.Type{Kind: s.Kind}, rt: &schema.Type{Kind: other.Kind}}, 0)
			assert.GreaterOrEqual(t, len(examples), 3, "%s read as %s", s.Word, other.Word)
		}
	}
}
