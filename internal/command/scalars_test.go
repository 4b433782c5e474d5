package command

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// forgetful is a language that forgets a scalar.
type forgetful struct{ stubs.Language }

func (f forgetful) Scalar(k schema.Kind) bool { return k != schema.KindDate && f.Language.Scalar(k) }

// TestEveryLanguageKnowsEveryScalar walks the tables of all languages.
func TestEveryLanguageKnowsEveryScalar(t *testing.T) {
	for _, l := range languages {
		assert.Empty(t, stubs.Lacking(l), l.Name())
		assert.Equal(t, "date", stubs.Lacking(forgetful{l}), "a gap is seen")
	}
}
