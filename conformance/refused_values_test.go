package conformance

import (
	"encoding"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/faithful/wire"
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

// TestPlacesOfWhatCannotBeWritten has writers say where the value is that they refuse, in both
// encodings.
func TestPlacesOfWhatCannotBeWritten(t *testing.T) {
	bad := "\xff\",[{"
	deep := vectors.Node{Name: "a", Children: []vectors.Node{{Name: "b"}, {Name: `"x":{`, ByName: map[string]vectors.Node{
		"fine": {}, "odd/~\"k,": {Left: &vectors.Node{Name: bad}}}}}}
	late := time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		message interface {
			encoding.BinaryAppender
			encoding.BinaryMarshaler
			json.Marshaler
		}
		path, detail string
		binaryOnly   bool
	}{
		{&deep, "/children/1/by_name/odd~1~0\"k,/left/name", "text that is not UTF-8", false},
		{&vectors.Lists{Names: []string{"", bad}}, "/names/1", "text that is not UTF-8", false},
		{&vectors.Lists{Times: []time.Time{{}, {}, late}}, "/times/2", "an instant outside the years 0001 to 9999", false},
		{&vectors.Lists{Decks: []shared.Deck{shared.DeckCar, ""}}, "/decks/1", "Deck is not set", false},
		{&vectors.Lists{Decks: []shared.Deck{"?sun"}, Leaves: []shared.Leaf{{Third: &bad}}}, "/decks/0",
			`"?sun" is not listed in Deck, and binary payloads contain numbers`, true},
		{&vectors.Lists{Grid: [][]int32{{1, 2}, {}}, Maps: []map[string]shared.Leaf{{}, {"": {Third: &bad}}}},
			"/maps/1//third", "text that is not UTF-8", false},
		{&vectors.Maps{Names: map[string]string{bad: ""}}, "/names", "text that is not UTF-8", false},
		{&language.Keys{Decks: map[shared.Deck]uint8{"banana": 1}}, "/decks/banana", "", false},
		{&language.Chain{Passage: []language.Passage{nil}}, "/passage/0", "Passage is not set", false},
		{&language.Chain{Next: language.PassageInner{Value: language.PassagesOther{Value: language.Chain{
			Passage: []language.Passage{language.PassageDeck{Value: "banana"}}}}}},
			"/next/inner/other/passage/0/deck", "", false},
		{&vectors.Changes{Optionals: &vectors.OptionalsPatch{}, Scalars: vectors.ScalarsPatch{
			Count: wire.Set[uint32](1), Ratio: wire.Clear[float64]()}}, "/scalars/ratio",
			"the field is required, and can't be cleared", false},
	} {
		refused := func(err error) {
			var problem *wire.Error
			if assert.ErrorAs(t, err, &problem, c.path) {
				assert.Equal(t, c.path, problem.Path, "%s", problem.Detail)
				assert.Contains(t, problem.Detail, c.detail)
			}
		}
		_, err := c.message.MarshalBinary()
		refused(err)
		kept, err := c.message.AppendBinary([]byte("kept"))
		refused(err)
		assert.Equal(t, "kept", string(kept))
		if !c.binaryOnly {
			_, err = c.message.MarshalJSON()
			refused(err)
		}
	}
}
