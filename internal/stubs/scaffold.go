package stubs

import (
	"bytes"
	"encoding/json"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// Samples make the sample of a message as JSON, indented.
type Samples func(m *schema.Message) string

// SamplesOf makes samples from declared examples, else within bounds.
func SamplesOf(defs *schema.Definitions) Samples {
	return func(m *schema.Message) string {
		text, err := value.EncodeJSON(value.Example(defs, m))
		if err != nil {
			return "{}" // no value of it can be written, which its author finds out soon
		}
		var b bytes.Buffer
		if json.Indent(&b, text, "", "  ") != nil {
			return string(text)
		}
		return b.String()
	}
}
