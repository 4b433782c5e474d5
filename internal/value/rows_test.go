package value

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
)

// TestEveryScalarIsAValue walks the scalars: each has a smallest value, edges and several
// different values, and each of them is written and read in both encodings.
func TestEveryScalarIsAValue(t *testing.T) {
	for _, s := range schema.Scalars {
		typ := &schema.Type{Kind: s.Kind}
		m := &schema.Message{Fields: []*schema.Field{{Number: 1, Name: "v", Type: typ}}}
		edges, different := Edges(typ), Distinct(typ, nil, 3)
		assert.GreaterOrEqual(t, len(edges), 2, "%s has edges", s.Word)
		assert.GreaterOrEqual(t, len(different), 2, "%s has different values", s.Word)
		assert.GreaterOrEqual(t, Capacity(typ, nil, 1), uint64(2), s.Word)
		for _, v := range append(append(edges, different...), Minimal(typ)) {
			require.NotNil(t, v, s.Word)
			one := &Message{Type: m, Fields: map[int]Value{1: v}}
			binary, err := EncodeCBOR(one)
			require.NoError(t, err, "%s %v", s.Word, v)
			back, err := DecodeCBOR(m, binary, 0)
			require.NoError(t, err, "%s %v", s.Word, v)
			assert.True(t, Equal(v, back.Fields[1]), "%s: %v and %v", s.Word, v, back.Fields[1])
			text, err := EncodeJSON(one)
			require.NoError(t, err, "%s %v", s.Word, v)
			back, err = DecodeJSON(m, text, 0)
			require.NoError(t, err, "%s %s", s.Word, text)
			assert.True(t, Equal(v, back.Fields[1]), "%s: %s", s.Word, text)
		}
	}
}
