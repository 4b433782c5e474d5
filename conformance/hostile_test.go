package conformance

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

// hostile is a payload that is meant to cost its reader more than its length.
type hostile struct {
	Message  string `json:"message"`
	Encoding string `json:"encoding"`
	Payload  []byte `json:"payload"`
}

const (
	lowBudget = 1000    // how many items the payloads may hold
	anItem    = 2 << 10 // what an item may cost, in bytes
	longest   = 5 * time.Second
)

// hostilePayloads are lies, floods, depths and giants, and a thousand valid
// payloads that were damaged at random.
func hostilePayloads(t *testing.T) []hostile {
	var list []hostile
	add := func(message, encoding string, payload []byte) {
		list = append(list, hostile{message, encoding, payload})
	}
	binary := func(message, head string, rest ...byte) {
		data, err := hex.DecodeString(strings.ReplaceAll(head, " ", ""))
		require.NoError(t, err)
		add(message, "cbor", append(data, rest...))
	}
	const large = 1 << 20
	for _, message := range []string{"Lists", "Maps", "Optionals"} {
		for _, lie := range []string{"a2 02 1a 00 98 96 80", "ab 09 9a 00 0f 42 40" + strings.Repeat("a1 07 01", 20),
			"a7 05 ba 00 0f 42 40" + strings.Repeat("61 61 a1 07 01", 10), "a1 07 5a 7f ff ff ff 00",
			"bb ff ff ff ff ff ff ff ff"} {
			binary(message, lie)
			binary(message, lie, make([]byte, large)...)
		}
	}
	zeros, letters := make([]byte, large), bytes.Repeat([]byte("a"), large)
	binary("Lists", "aa 01 9a 00 10 00 00", bytes.Repeat([]byte{0xf4}, large)...)           // a million booleans
	binary("Optionals", "a1 0c 9a 00 10 00 00", zeros...)                                   // a million integers
	binary("Optionals", "a1 0c 9f", zeros...)                                               // without end
	binary("Optionals", "a1 13 9a 00 10 00 00", bytes.Repeat([]byte{0xf9, 0, 0}, large)...) // a million floats
	binary("Optionals", "a1 06 7a 00 10 00 00", letters...)                                 // a long text
	binary("Optionals", "a1 06 7f", bytes.Repeat([]byte{0x61, 'a'}, large/2)...)            // in chunks, without end
	binary("Optionals", "a1 07 5a 00 10 00 00", zeros...)                                   // long bytes
	binary("Leaf", "a2 07 01 09 5a 00 10 00 00", zeros...)                                  // an unlisted field
	binary("Leaf", "a2 07 01 09", bytes.Repeat([]byte{0x81}, large)...)                     // depth
	binary("Leaf", "a2 07 01 09", bytes.Repeat([]byte{0xc1}, large)...)                     // tags
	binary("Leaf", "a2 07 01 09 9a 00 10 00 00", zeros...)                                  // an unknown list
	binary("MoreOptionals", "a1 04 7a 00 10 00 00", letters...)                             // any
	binary("MoreOptionals", "a1 04", bytes.Repeat([]byte{0x81}, large)...)
	binary("MoreOptionals", "a1 04 9a 00 10 00 00", zeros...)
	binary("MoreOptionals", "a1 01 c4 82 00 c2 5a 00 10 00 00",
		bytes.Repeat([]byte{0xff}, large)...) // a decimal of many digits
	asCBOR, asJSON := manyUnknown()
	add("Leaf", "cbor", asCBOR)
	add("Leaf", "json", asJSON)
	text := func(message, before, middle, after string) {
		add(message, "json", []byte(before+strings.Repeat(middle, large/len(middle))+after))
	}
	text("Optionals", `{"name":"`, "a", `"}`)
	text("Optionals", `{"name":"`, `\u0041`, `"}`)
	text("Optionals", `{"name":"`, "\u00e9", `"}`)
	text("Optionals", `{"data":"`, "AAAA", `"}`)
	text("Optionals", `{"list":[`, "1,", `1]}`)
	text("Optionals", `{"small":`, "1", `}`)
	text("Optionals", `{"ratio":0.`, "1", `}`)
	text("Optionals", `{"ratio":1e`, "9", `}`)
	text("Optionals", `{"large":"`, "9", `"}`)
	text("Optionals", `{"at":"2026-01-01T00:00:00.`, "0", `Z"}`)
	text("Optionals", "", "[", "")
	text("Optionals", `{"x":`, "[", "")
	text("Optionals", `{"x":"`, "a", `"}`)
	text("Optionals", `{"x":`, "1", `}`)
	text("Optionals", `{"`, "a", `":1}`)
	text("Optionals", "", " ", "")
	text("MoreOptionals", `{"anything":`, "[", "")
	text("MoreOptionals", `{"anything":[`, "1,", `1]}`)
	text("MoreOptionals", `{"anything":`, "1", `}`)
	text("MoreOptionals", `{"anything":0.`, "1", `}`)
	text("MoreOptionals", `{"amount":"`, "1", `"}`)
	text("MoreOptionals", `{"amount":"0.`, "1", `"}`)
	text("MoreOptionals", `{"amount":"1e`, "9", `"}`)
	text("MoreOptionals", `{"length":"PT`, "1", `S"}`)
	text("MoreOptionals", `{"day":"`, "1", `"}`)
	rng := rand.New(rand.NewPCG(19, 24))
	good := kept(t, validFile)
	for range 1000 {
		v := good[rng.IntN(len(good))]
		payload, err := hex.DecodeString(v.Payload)
		require.NoError(t, err)
		add(v.Message, v.Encoding, damaged(rng, payload))
	}
	return list
}

func (h hostile) String() string {
	shown := h.Payload
	if len(shown) > 24 {
		shown = shown[:24]
	}
	return fmt.Sprintf("%s as %s: %x… (%d bytes)", h.Message, h.Encoding, shown, len(h.Payload))
}

// TestHostilePayloads lets every reader read them within a low budget: none
// may crash, take longer than a megabyte takes on a slow machine, or more memory
// than eight times the payload and what so few items cost.
func TestHostilePayloads(t *testing.T) {
	list := hostilePayloads(t)
	const most = lowBudget * anItem
	t.Run("go", func(t *testing.T) {
		for _, h := range list {
			read := wire.UnmarshalWithin
			if h.Encoding == "json" {
				read = wire.UnmarshalTextWithin
			}
			start := time.Now()
			cost := allocated(func() { _ = read(h.Payload, goMessages[h.Message]().(wire.Message), lowBudget) })
			assert.Less(t, time.Since(start), longest, h)
			assert.LessOrEqual(t, int(cost), 8*len(h.Payload)+most, h)
		}
	})
	t.Run("reference", func(t *testing.T) {
		for _, h := range list {
			read := value.DecodeCBOR
			if h.Encoding == "json" {
				read = value.DecodeJSON
			}
			m := messageNamed(t, h.Message)
			start := time.Now()
			cost := allocated(func() { _, _ = read(m, h.Payload, lowBudget) })
			assert.Less(t, time.Since(start), longest, h)
			assert.LessOrEqual(t, int(cost), 8*len(h.Payload)+most, h)
		}
	})
	file := filepath.Join(t.TempDir(), "hostile.json")
	written, err := json.Marshal(list)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, written, 0o666))
	held := func(t *testing.T, output string, warming int) {
		lines := strings.Split(strings.TrimSpace(output), "\n")
		require.Len(t, lines, warming+len(list))
		for i, h := range list {
			beyond, took, ok := strings.Cut(lines[warming+i], " ")
			require.True(t, ok, lines[warming+i])
			more, err := strconv.Atoi(beyond)
			require.NoError(t, err)
			assert.LessOrEqual(t, more, most, h)
			ms, err := strconv.ParseFloat(took, 64)
			require.NoError(t, err)
			assert.Less(t, ms, float64(longest.Milliseconds()), h)
		}
	}
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		held(t, toolchain.Run(t, ".", "node", "--expose-gc", "--max-semi-space-size=256",
			filepath.Join(typescriptPrograms(t), "hostile.js"), file, strconv.Itoa(lowBudget)), 50)
	})
	t.Run("python", func(t *testing.T) {
		held(t, toolchain.Run(t, "python", toolchain.Python(t), "hostile.py", file, strconv.Itoa(lowBudget)), 0)
	})
}
