package stubs

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestCodeBreaksWhatIsTooLong lays out texts that just fit, and that are a
// character too long, inside of other groups and after an indent.
func TestCodeBreaksWhatIsTooLong(t *testing.T) {
	wide := func(n int) string { return strings.Repeat("x", n) }
	for _, c := range []struct{ name, text, want string }{
		{"fits", Call("f", wide(Width-6), "b"), "f(" + wide(Width-6) + ", b)"},
		{"arguments together", Call("f", wide(Width-5), "b"), "f(\n  " + wide(Width-5) + ", b\n)"},
		{"arguments apart", Call("f", wide(Width-4), "b"), "f(\n  " + wide(Width-4) + ",\n  b,\n)"},
		{"a single argument gets no comma", Call("f", wide(Width)), "f(\n  " + wide(Width) + "\n)"},
		{"no arguments", Call("f"), "f()"},
		{"what follows counts", Call("f", wide(Width-9)) + " -> int", "f(\n  " + wide(Width-9) + "\n) -> int"},
		{"rows", Rows("[", []string{wide(Width), "b"}, "]"), "[\n  " + wide(Width) + ",\n  b,\n]"},
		{"padded", Padded("{", []string{"a", "b"}, "}"), "{ a, b }"},
		{"nothing padded", Padded("{", nil, "}"), "{}"},
		{"inner group stays whole", Call("f", Call("g", wide(60), "b"), wide(60)),
			"f(\n  g(" + wide(60) + ", b),\n  " + wide(60) + ",\n)"},
		{"inner group breaks as well", Call("f", Call("g", wide(Width), "b")),
			"f(\n  g(\n    " + wide(Width) + ",\n    b,\n  )\n)"},
		{"optional brackets", Optional("(", []string{"a", "b"}, ")"), "a, b"},
		{"brackets that are needed", Optional("(", []string{wide(Width), "b"}, ")"), "(\n  " + wide(Width) + ",\n  b,\n)"},
		{"alternatives", "T =" + Alternatives('|', "A", "B"), "T = A | B"},
		{"alternatives apart", "T =" + Alternatives('|', wide(Width), "B"), "T =\n  | " + wide(Width) + "\n  | B"},
		{"characters, not bytes", Call("f", strings.Repeat("é", Width-3)), "f(" + strings.Repeat("é", Width-3) + ")"},
	} {
		t.Run(c.name, func(t *testing.T) {
			code := NewCode("  ")
			code.P("%s", c.text)
			assert.Equal(t, c.want+"\n", string(code.Bytes()))
		})
	}
	code := NewCode("    ")
	code.Deeper(1, func() { code.P("%s", Call("f", wide(Width-6), "b")) })
	assert.Equal(t, "    f(\n        "+wide(Width-6)+",\n        b,\n    )\n", string(code.Bytes()))
}
