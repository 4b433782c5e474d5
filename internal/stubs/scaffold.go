package stubs

import (
	"bytes"
	"encoding/json"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
	"faithfulcourier/internal/value"
)

// Start is a file that a user starts from; Path is relative to the folder of the server.
type Start struct {
	File
	// Joins are lines that files written along with this one have for it. One that was
	// there before is the user's, who adds them.
	Joins []Join
}

// Join is what a file needs to know of another: whole lines, without indents.
type Join struct {
	Path  string
	Lines []string
}

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

// ServiceFolder is the folder of a service in a scaffold: its name, with its module's
// where another service has the same.
func ServiceFolder(defs *schema.Definitions, s *schema.Service) string {
	name := syntax.SnakeCase(s.Name)
	for _, m := range defs.Modules {
		for _, other := range m.Services {
			if other != s && syntax.SnakeCase(other.Name) == name {
				return strings.ReplaceAll(s.Module.Name, ".", "_") + "_" + name
			}
		}
	}
	return name
}

// SampleCredentials are made values for what a call needs first, by full name.
func SampleCredentials(c *schema.Call) (list [][2]string) {
	for _, credential := range conversation.FirstNeeded(c) {
		value := "sample"
		if credential.Kind == "basic" {
			value = "user:password"
		}
		list = append(list, [2]string{credential.FullName(), value})
	}
	return list
}
