package stubs

import (
	"iter"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// Sent is what a program of Calling sends. Head and Request are nil where the call has none; Request is an element of a
// request that is a stream.
type Sent struct {
	Base          string // of the server, as in http://127.0.0.1:8080
	Head, Request *value.Message
	Variable      func(credential string) string // of the environment, that holds a credential
}

// Given yields the fields of a message whose values have to be written: those that are there, and are not their
// defaults.
func Given(m *value.Message) iter.Seq2[*schema.Field, value.Value] {
	return func(yield func(*schema.Field, value.Value) bool) {
		for _, f := range m.Type.Fields {
			v, there := m.Fields[f.Number]
			if !there || f.IsRaw() || f.Presence == schema.Defaulted && value.Equal(v, value.Default(f.Default)) {
				continue
			}
			if !yield(f, v) {
				return
			}
		}
	}
}
