package value

import (
	"bytes"
	"maps"
	"slices"

	"faithfulcourier/internal/schema"
)

// Apply is what a message is once a patch of it is applied: what is cleared is absent, or has
// its default. Of unlisted fields null takes one away. Neither is changed.
func Apply(patch, to *Message) *Message {
	out := &Message{Type: to.Type, Fields: maps.Clone(to.Fields)}
	for _, f := range patch.Type.Fields {
		switch v, there := patch.Fields[f.Number]; {
		case !there:
		case !isCleared(v):
			out.Fields[f.Number] = v
		case f.Changes.Presence == schema.Defaulted:
			out.Fields[f.Number] = Default(f.Changes.Default)
		default:
			delete(out.Fields, f.Number)
		}
	}
	out.Unlisted = slices.Clone(to.Unlisted)
	for _, u := range patch.Unlisted {
		i := slices.IndexFunc(out.Unlisted, u.sameField)
		switch {
		case u.clears() && i >= 0:
			out.Unlisted = slices.Delete(out.Unlisted, i, i+1)
		case u.clears():
		case i >= 0:
			out.Unlisted[i] = u
		default:
			out.Unlisted = append(out.Unlisted, u)
		}
	}
	sortUnlisted(out.Unlisted)
	return out
}

func (u UnlistedField) sameField(other UnlistedField) bool {
	return u.Number == other.Number && u.Name == other.Name
}

// clears tells whether a patch clears an unlisted field.
func (u UnlistedField) clears() bool {
	return bytes.Equal(u.CBOR, []byte{0xf6}) || u.Number == 0 && u.JSON == "null"
}
