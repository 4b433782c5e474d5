package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/skerry/language"
	"faithfulcourier/conformance/go/gen/skerry/shared"
	"faithfulcourier/conformance/go/gen/skerry/vectors"
)

// TestEnumValuesThatAreNone refuses, in both encodings, as a value and as a key of a map, texts
// that stand for no value of an enum.
func TestEnumValuesThatAreNone(t *testing.T) {
	for _, none := range []shared.Deck{"banana", "", "#x", "#65536", "#"} {
		value, key := vectors.Scalars{Deck: none}, language.Keys{Decks: map[shared.Deck]uint8{none: 1}}
		for _, write := range []func() ([]byte, error){value.MarshalBinary, value.MarshalJSON, key.MarshalBinary,
			key.MarshalJSON} {
			payload, err := write()
			assert.Error(t, err, "%q as %q", none, payload)
		}
	}
	key := language.Keys{Decks: map[shared.Deck]uint8{"#7": 1, "?sun": 2}}
	text, err := key.MarshalJSON()
	require.NoError(t, err)
	assert.Contains(t, string(text), `"decks":{"7":1,"sun":2}`)
	_, err = key.MarshalBinary()
	assert.ErrorContains(t, err, "binary payloads contain numbers")
}
