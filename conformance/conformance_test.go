// Package conformance holds the stubs of every language against the reference
// reader and writer: on valid payloads, on invalid ones, and on payloads
// damaged at random, each must take and refuse the same and write the same
// bytes.
package conformance

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/many"
	"faithfulcourier/conformance/go/gen/skerry/shared"
	"faithfulcourier/conformance/go/gen/skerry/vectors"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

// vector is a payload and what must become of it.
type vector struct {
	Message  string  `json:"message"`
	Form     string  `json:"form"`    // of the payload: "cbor" or "json"
	Payload  string  `json:"payload"` // hexadecimal
	Accepted bool    `json:"accepted"`
	CBOR     *string `json:"cbor"` // what is written then, hexadecimal; null when it must be refused
	JSON     *string `json:"json"`
	Why      string  `json:"why,omitempty"`

	Violations []value.Violation `json:"violations"` // what validate says of it
}

func messages(t testing.TB) map[string]*schema.Message {
	defs, findings, err := project.Load(".", "draft")
	require.NoError(t, err)
	require.Empty(t, findings)
	all := map[string]*schema.Message{}
	for _, m := range defs.Modules {
		for _, msg := range m.Messages {
			all[msg.Name] = msg
		}
	}
	return all
}

// goMessages makes the generated counterpart of each message.
var goMessages = map[string]func() wire.Message{
	"Scalars":   func() wire.Message { return new(vectors.Scalars) },
	"Optionals": func() wire.Message { return new(vectors.Optionals) },
	"Defaults":  func() wire.Message { return new(vectors.Defaults) },
	"Lists":     func() wire.Message { return new(vectors.Lists) },
	"Maps":      func() wire.Message { return new(vectors.Maps) },
	"Node":      func() wire.Message { return new(vectors.Node) },
	"Empty":     func() wire.Message { return new(vectors.Empty) },
	"Bounded":   func() wire.Message { return new(vectors.Bounded) },
	"Renamed":   func() wire.Message { return new(vectors.Renamed) },
	"Broken":    func() wire.Message { return new(vectors.Broken) },
	"Leaf":      func() wire.Message { return new(shared.Leaf) },
	"Many":      func() wire.Message { return new(many.Many) },
}

// judged lets the reference decide what must become of a payload.
func judged(t *schema.Message, form string, payload []byte) vector {
	v := vector{Message: t.Name, Form: form, Payload: hex.EncodeToString(payload)}
	read := value.DecodeCBOR
	if form == "json" {
		read = value.DecodeJSON
	}
	m, err := read(t, payload, 0)
	if err != nil {
		v.Why = err.Error()
		return v
	}
	v.Accepted = true
	v.Violations = value.Validate(m)
	if b, err := value.EncodeCBOR(m); err == nil {
		s := hex.EncodeToString(b)
		v.CBOR = &s
	}
	if b, err := value.EncodeJSON(m); err == nil {
		s := string(b)
		v.JSON = &s
	}
	return v
}

// allVectors are valid payloads at every edge, invalid ones, and damaged
// ones; the same for every language and every run.
func allVectors(t testing.TB) []vector {
	rng := rand.New(rand.NewPCG(7, 15))
	all := messages(t)
	var names []string
	for name := range all {
		require.Contains(t, goMessages, name)
		names = append(names, name)
	}
	slices.Sort(names)
	var list []vector
	for _, name := range names {
		m := all[name]
		samples := value.Edges(&schema.Type{Kind: schema.KindMessage, Message: m})
		for range 30 {
			samples = append(samples, value.RandomMessage(rng, m, 4))
		}
		for _, s := range samples {
			message := s.(*value.Message)
			if rng.IntN(3) == 0 {
				addUnknown(rng, message)
			}
			b, err := value.EncodeCBOR(message)
			require.NoError(t, err)
			j, err := value.EncodeJSON(message)
			require.NoError(t, err)
			require.NoError(t, cbor.Wellformed(b), "an independent reader takes what we write")
			require.True(t, json.Valid(j), "an independent reader takes what we write: %s", j)
			list = append(list, judged(m, "cbor", b), judged(m, "json", j))
			for range 4 {
				list = append(list, judged(m, "cbor", damaged(rng, b)), judged(m, "json", damaged(rng, j)))
			}
		}
	}
	for _, x := range invalid {
		payload := []byte(x.payload)
		if x.form == "cbor" {
			var err error
			payload, err = hex.DecodeString(strings.ReplaceAll(x.payload, " ", ""))
			require.NoError(t, err)
		}
		v := judged(all[x.message], x.form, payload)
		require.False(t, v.Accepted, "%s %s must be refused", x.message, x.payload)
		list = append(list, v)
	}
	for _, x := range lenient {
		payload := []byte(x.payload)
		if x.form == "cbor" {
			payload, _ = hex.DecodeString(strings.ReplaceAll(x.payload, " ", ""))
		}
		v := judged(all[x.message], x.form, payload)
		require.True(t, v.Accepted, "%s %s must be read: %s", x.message, x.payload, v.Why)
		list = append(list, v)
	}
	return list
}

func addUnknown(rng *rand.Rand, m *value.Message) {
	items := [][]byte{{0x01}, {0x82, 0x01, 0x61, 'x'}, {0xc1, 0x00}, {0xf6}, {0xbf, 0x01, 0x02, 0xff}, {0xf9, 0x3c, 0x00}}
	for range 1 + rng.IntN(3) {
		n := 1 + rng.IntN(70)
		taken := m.Type.ByNumber(n) != nil || slices.ContainsFunc(m.Unknown, func(u value.Unknown) bool { return u.Number == n })
		if !taken {
			m.Unknown = append(m.Unknown, value.Unknown{Number: n, CBOR: items[rng.IntN(len(items))]})
		}
	}
	slices.SortFunc(m.Unknown, func(a, b value.Unknown) int { return a.Number - b.Number })
	if rng.IntN(2) == 0 {
		m.Unknown = append(m.Unknown, value.Unknown{Name: "later \"name\"", JSON: `{"a":[1,2.50,null],"a":"\u00e9"}`})
	}
}

// damaged changes a few bytes of a payload.
func damaged(rng *rand.Rand, payload []byte) []byte {
	b := bytes.Clone(payload)
	for range 1 + rng.IntN(3) {
		if len(b) == 0 {
			return []byte{byte(rng.Uint32())}
		}
		i := rng.IntN(len(b))
		switch rng.IntN(6) {
		case 0:
			b[i] ^= 1 << rng.IntN(8)
		case 1:
			b[i] = byte(rng.Uint32())
		case 2:
			b = slices.Insert(b, i, byte(rng.Uint32()))
		case 3:
			b = slices.Delete(b, i, i+1)
		case 4:
			b = b[:i]
		case 5:
			b = slices.Insert(b, i, b[i:min(len(b), i+1+rng.IntN(8))]...)
		}
	}
	return b
}

type payload struct{ message, form, payload string }

// invalid are payloads that every reader refuses, each for a reason of its
// own.
var invalid = []payload{
	{"Leaf", "cbor", ""},                              // nothing
	{"Leaf", "cbor", "80"},                            // an array
	{"Leaf", "cbor", "a0"},                            // a required field is missing
	{"Leaf", "cbor", "a1 07 01 00"},                   // trailing bytes
	{"Leaf", "cbor", "a2 07 01 07 01"},                // a field twice
	{"Leaf", "cbor", "a2 07 01 18 07 01"},             // twice, in other lengths
	{"Leaf", "cbor", "a3 07 01 09 01 09 02"},          // an unknown twice
	{"Leaf", "cbor", "a2 07 01 00 01"},                // number 0
	{"Leaf", "cbor", "a2 07 01 1a 00 01 00 00 01"},    // number 65536
	{"Leaf", "cbor", "a2 07 01 61 37 01"},             // a text as key
	{"Leaf", "cbor", "a2 07 01 20 01"},                // a negative key
	{"Leaf", "cbor", "ba ff ff ff ff 07 01"},          // a length that lies
	{"Leaf", "cbor", "bb ff ff ff ff ff ff ff ff"},    // one that overflows
	{"Leaf", "cbor", "bf 07 01"},                      // no break
	{"Leaf", "cbor", "a2 07 01 03 f6"},                // null for an optional field
	{"Leaf", "cbor", "a2 07 01 03 62 c3 28"},          // not UTF-8
	{"Leaf", "cbor", "a2 07 01 03 7f 61 c3 61 a9 ff"}, // a character over two chunks
	{"Leaf", "cbor", "a2 07 01 03 7f 7f ff ff"},       // a chunk of chunks
	{"Leaf", "cbor", "a2 07 01 03 7f 41 61 ff"},       // a chunk of bytes
	{"Leaf", "cbor", "a2 07 01 09 ff"},                // a break as value
	{"Leaf", "cbor", "a2 07 01 09 f8 10"},             // a simple value of two bytes under 32
	{"Leaf", "cbor", "a2 07 01 09 1c"},                // a reserved length
	{"Leaf", "cbor", "a2 07 01 09 1f"},                // an integer of no length
	{"Leaf", "cbor", "a2 07 01 09 62 c3 28"},          // not UTF-8, inside of an unknown
	{"Leaf", "cbor", "a1 07 1a 80 00 00 00"},          // over int32
	{"Leaf", "cbor", "a1 07 3a 80 00 00 00"},          // under int32
	{"Leaf", "cbor", "a1 07 f9 3c 00"},                // a float for an integer
	{"Leaf", "cbor", "a1 07 c2 41 01"},                // a bignum for an integer
	{"Leaf", "cbor", "a1 07 c1 01"},                   // a tag that nothing calls for
	{"Leaf", "cbor", "d9 d9 f7 a1 07 01"},             // the tag of CBOR itself
	{"Leaf", "cbor", "a2 07 01 09" + strings.Repeat("81", 100) + "01"},
	{"Node", "cbor", strings.Repeat("a4 01 60 03 80 04 a0 02", 101) + "a3 01 60 03 80 04 a0"},
	{"Maps", "cbor", "a7 01 a2 61 61 f4 61 61 f5 02 a0 03 a0 04 a0 05 a0 06 a0 07 a0"}, // a key twice
	{"Optionals", "cbor", "a1 08 50" + strings.Repeat("00", 16)},                       // a uuid without its tag
	{"Optionals", "cbor", "a1 08 d8 25 4f" + strings.Repeat("00", 15)},                 // one that is too short
	{"Optionals", "cbor", "a1 09 c1 fb 3f f0 00 00 00 00 00 00"},                       // an instant as a float
	{"Optionals", "cbor", "a1 09 d9 03 e9 a2 01 00 28 00"},                             // a fraction of 0
	{"Optionals", "cbor", "a1 09 d9 03 e9 a2 01 00 22 19 03 e8"},                       // 1000 thousandths
	{"Optionals", "cbor", "a1 09 d9 03 e9 a3 01 00 22 01 28 01"},                       // two fractions
	{"Optionals", "cbor", "a1 09 d9 03 e9 a1 22 01"},                                   // no seconds
	{"Optionals", "cbor", "a1 09 d9 03 e9 a2 01 00 02 01"},                             // another key
	{"Optionals", "cbor", "a1 09 c1 1b 00 00 00 3a ff f4 41 80"},                       // year 10000
	{"Optionals", "cbor", "a1 0a 1a 00 01 00 00"},                                      // member 65536
	{"Optionals", "cbor", "a1 05 1b 00 20 00 00 00 00 00 01"},                          // 2^53+1 for a float
	{"Optionals", "cbor", "a1 0c 9b 00 00 00 00 ff ff ff ff"},
	{"Optionals", "cbor", "a1 07 5b 7f ff ff ff ff ff ff ff 00"},
	{"Optionals", "cbor", "a1 0e 18 80"},                      // 128 for an int8
	{"Optionals", "cbor", "a1 0e 38 80"},                      // -129
	{"Optionals", "cbor", "a1 0f 20"},                         // -1 for a uint64
	{"Optionals", "cbor", "a1 11 81 19 01 00"},                // 256 for a uint8
	{"Optionals", "cbor", "a1 10 1a 01 00 00 01"},             // 2^24+1 for a float32
	{"Optionals", "cbor", "a1 10 fb 47 f0 00 00 00 00 00 00"}, // 2^128 for a float32
	{"Optionals", "json", `{"i8":128}`}, {"Optionals", "json", `{"i8":-129}`}, {"Optionals", "json", `{"u64":-1}`}, {"Optionals", "json", `{"u64":18446744073709551616}`}, {"Optionals", "json", `{"u64":"018"}`},
	{"Optionals", "json", `{"f32":3.5e38}`}, {"Optionals", "json", `{"f32":3.40282357e38}`}, {"Optionals", "json", `{"u8s":[256]}`}, {"Optionals", "json", `{"u8s":["-0"]}`},
	{"Leaf", "json", ``}, {"Leaf", "json", `[]`}, {"Leaf", "json", `null`}, {"Leaf", "json", `{}`},
	{"Leaf", "json", "\ufeff{\"number\":1}"},
	{"Leaf", "json", `{"number":1} x`}, {"Leaf", "json", `{"number":1,}`}, {"Leaf", "json", `{"number" 1}`}, {"Leaf", "json", `{number:1}`},
	{"Leaf", "json", `{"number":1,"number":1}`}, {"Leaf", "json", `{"number":1,"\u006eumber":1}`}, {"Leaf", "json", `{"number":1,"#7":"AQ"}`},
	{"Leaf", "json", `{"number":null}`}, {"Leaf", "json", `{"number":1.0}`}, {"Leaf", "json", `{"number":1e0}`}, {"Leaf", "json", `{"number":01}`},
	{"Leaf", "json", `{"number":"01"}`}, {"Leaf", "json", `{"number":"-0"}`}, {"Leaf", "json", `{"number":" 1"}`}, {"Leaf", "json", `{"number":+1}`},
	{"Leaf", "json", `{"number":2147483648}`}, {"Leaf", "json", `{"number":-}`}, {"Leaf", "json", `{"number":1,"later":-}`}, {"Leaf", "json", `{"number":1.}`},
	{"Leaf", "json", `{"number":1,"x":01}`}, {"Leaf", "json", `{"number":1,"x":1,"x":2}`}, {"Leaf", "json", `{"number":1,"x":nul}`}, {"Leaf", "json", `{"number":1,"x":[1,]}`},
	{"Leaf", "json", `{"number":1,"third":"\ud800"}`}, {"Leaf", "json", `{"number":1,"third":"\x"}`}, {"Leaf", "json", "{\"number\":1,\"third\":\"\n\"}"}, {"Leaf", "json", `{"number":1,"third":"a}`},
	{"Leaf", "json", "{\"number\":1,\"third\":\"\xff\"}"}, {"Leaf", "json", `{"number":1,"x":"\udc00"}`}, {"Leaf", "json", "{\"number\":1,\"\xc3\":1}"},
	{"Leaf", "json", `{"number":1,"#0":"AQ"}`}, {"Leaf", "json", `{"number":1,"#09":"AQ"}`}, {"Leaf", "json", `{"number":1,"#65536":"AQ"}`}, {"Leaf", "json", `{"number":1,"#9":"AQE"}`},
	{"Leaf", "json", `{"number":1,"#9":1}`}, {"Leaf", "json", `{"number":1,"#9":"/w"}`}, {"Leaf", "json", `{"number":1,"#9":"AQ","#9":"AQ"}`}, {"Leaf", "json", `{"#7":"YQ"}`},
	{"Leaf", "json", `{"number":1,"x":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + `}`},
	{"Optionals", "json", `{"data":"A"}`}, {"Optionals", "json", `{"data":"AB"}`}, {"Optionals", "json", `{"data":"AA="}`}, {"Optionals", "json", `{"data":"AA\n"}`}, {"Optionals", "json", `{"data":"AAA==="}`},
	{"Optionals", "json", `{"ratio":1e400}`}, {"Optionals", "json", `{"ratio":"1"}`}, {"Optionals", "json", `{"ratio":NaN}`}, {"Optionals", "json", `{"ratio":true}`},
	{"Optionals", "json", `{"at":"2026-02-29T00:00:00Z"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:60Z"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00"}`},
	{"Optionals", "json", `{"at":"2026-01-01t00:00:00Z"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00.Z"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00.1234567890Z"}`},
	{"Optionals", "json", `{"at":"0001-01-01T00:00:00+00:01"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00+24:00"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00,5Z"}`},
	{"Optionals", "json", `{"key":"6f0c"}`}, {"Optionals", "json", `{"key":"0b9f6a523-d1c-4e6b-9a57-5f2f3f1d7c01"}`}, {"Optionals", "json", `{"key":"gb9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"}`},
	{"Optionals", "json", `{"deck":70000}`}, {"Optionals", "json", `{"deck":1.5}`}, {"Optionals", "json", `{"deck":true}`}, {"Optionals", "json", `{"list":[1,null]}`}, {"Optionals", "json", `{"map":{"a":null}}`},
	{"Optionals", "json", `{"map":{"a":"","a":""}}`}, {"Optionals", "json", `{"flag":"true"}`}, {"Optionals", "json", `{"flag":tru}`}, {"Optionals", "json", `{"large":9223372036854775808}`},
}

// lenient are payloads that writers don't write and readers take.
var lenient = []payload{
	{"Leaf", "cbor", "bf 07 01 ff"}, {"Leaf", "cbor", "b8 01 18 07 1b 00 00 00 00 00 00 00 01"}, {"Leaf", "cbor", "a2 07 01 03 7f 61 61 60 61 62 ff"}, {"Leaf", "cbor", "a2 07 01 09 d9 d9 f7 c1 01"},
	{"Optionals", "cbor", "a1 09 d9 03 e9 a1 01 00"}, {"Optionals", "cbor", "a1 09 d9 03 e9 bf 28 1a 1d cd 65 00 01 21 ff"}, {"Optionals", "cbor", "a1 05 f9 7c 00"}, {"Optionals", "cbor", "a1 05 f9 80 00"},
	{"Optionals", "cbor", "a1 05 f9 00 01"}, {"Optionals", "cbor", "a1 05 fa 3f c0 00 00"}, {"Optionals", "cbor", "a1 05 1b 80 00 00 00 00 00 00 00"}, {"Optionals", "cbor", "a1 05 3b ff ff ff ff ff ff ff ff"},
	{"Optionals", "cbor", "a1 0a 07"}, {"Optionals", "cbor", "a1 0c 9f 01 20 ff"}, {"Optionals", "cbor", "a1 08 d8 25 5f 48 00 01 02 03 04 05 06 07 48 00 01 02 03 04 05 06 07 ff"},
	{"Optionals", "json", `{"deck":7,"name":null,"list":null}`}, {"Optionals", "json", `{"deck":"sun"}`}, {"Optionals", "json", `{"deck":"7"}`}, {"Optionals", "json", `{"large":"9007199254740993","small":-0}`},
	{"Optionals", "json", `{"data":"+/-_"}`}, {"Optionals", "json", `{"data":"AAA="}`}, {"Optionals", "json", `{"at":"2026-01-01T00:30:00.120+01:00"}`}, {"Optionals", "json", `{"key":"0B9F6A52-3D1C-4E6B-9A57-5F2F3F1D7C01"}`},
	{"Optionals", "json", `{"ratio":123456789012345678901234567890,"#2":"Bg","#":1,"#x":2}`}, {"Optionals", "json", `{"ratio":1E-400}`}, {"Optionals", "json", `{"map":{"ab":"","c":"","\u0000":""}}`},
	{"Optionals", "cbor", "a1 10 fb 3f b9 99 99 99 99 99 9a"}, {"Optionals", "cbor", "a1 10 f9 3c 00"}, {"Optionals", "cbor", "a1 10 1a 01 00 00 00"}, {"Optionals", "cbor", "a1 0f 1b ff ff ff ff ff ff ff ff"},
	{"Optionals", "json", `{"f32":3.4028235677973366e38}`}, {"Optionals", "json", `{"f32":1.00000017881393432617187499}`}, {"Optionals", "json", `{"f32":1.00000017881393432617187500}`}, {"Optionals", "json", `{"f32":1.00000017881393432617187501}`},
	{"Optionals", "json", `{"f32":1.00000005960464477539062500001}`}, {"Optionals", "json", `{"f32":-1.00000005960464477539062500001}`}, {"Optionals", "json", `{"f32":1.000000059604644775390625}`}, {"Optionals", "json", `{"f32":7.0064923216240853e-46}`}, {"Optionals", "json", `{"f32":7.0064923216240854e-46}`},
	{"Optionals", "json", `{"f32":16777217,"u64":"18446744073709551615","i8":-128}`}, {"Optionals", "json", `{"f32":"-Infinity","f32s":["NaN",-0,1e-50]}`},
	{"Leaf", "json", " { \"x\" : [ 1 , { } ] ,\n\"number\" : 1 } "}, {"Leaf", "json", `{"number":1,"third":"\ud83d\udea2\/"}`}, {"Leaf", "json", `{"#3":"YWE","number":1}`}, {"Defaults", "json", `{"small":null}`},
}

func TestGoStubs(t *testing.T) {
	list := allVectors(t)
	accepted := 0
	for _, v := range list {
		data, err := hex.DecodeString(v.Payload)
		require.NoError(t, err)
		m := goMessages[v.Message]()
		if v.Form == "cbor" {
			err = wire.Unmarshal(data, m)
		} else {
			err = wire.UnmarshalText(data, m)
		}
		what := fmt.Sprintf("%s as %s: %s", v.Message, v.Form, v.Payload)
		if v.Form == "json" {
			what += " " + string(data)
		}
		if !v.Accepted {
			require.Error(t, err, "%s\nthe reference: %s", what, v.Why)
			continue
		}
		accepted++
		require.NoError(t, err, what)
		written, err := wire.AppendBinary(nil, m)
		if v.CBOR == nil {
			require.Error(t, err, what)
		} else {
			require.NoError(t, err, what)
			require.Equal(t, *v.CBOR, hex.EncodeToString(written), what)
		}
		text, err := wire.AppendText(nil, m)
		require.NoError(t, err, what)
		require.Equal(t, *v.JSON, string(text), what)
		require.Equal(t, v.Violations, violations(m), what)
	}
	t.Logf("%d payloads, of which the reference takes %d", len(list), accepted)
}

// violations are those of a generated message, as the reference has them.
func violations(m wire.Message) []value.Violation {
	var invalid *wire.Invalid
	if !errors.As(wire.Validate(m), &invalid) {
		return nil
	}
	var list []value.Violation
	for _, v := range invalid.Violations {
		list = append(list, value.Violation(v))
	}
	return list
}

func TestTypeScriptStubs(t *testing.T) {
	toolchain.Require(t, "typescript")
	dir := toolchain.BuildTypeScript(t, "typescript")
	list := allVectors(t)
	text, err := json.Marshal(list)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "vectors.json")
	require.NoError(t, os.WriteFile(file, text, 0o666))
	output, err := exec.Command("node", filepath.Join(dir, "vectors.js"), file).CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Equal(t, fmt.Sprintf("%d payloads agree\n", len(list)), string(output))
}

// TestReadingNeedsLittleMemory gives readers lengths that lie: nothing may be
// allocated on their word.
func TestReadingNeedsLittleMemory(t *testing.T) {
	all := messages(t)
	lies := []string{
		"a2 02 1a 00 98 96 80", // an entry ends the payload
		"ab 09 9a 00 0f 42 40" + strings.Repeat("a1 07 01", 20),
		"a7 05 ba 00 0f 42 40" + strings.Repeat("61 61 a1 07 01", 10),
		"a1 07 5a 7f ff ff ff 00",
	}
	for _, name := range []string{"Lists", "Maps", "Optionals"} {
		for _, lie := range lies {
			data, err := hex.DecodeString(strings.ReplaceAll(lie, " ", ""))
			require.NoError(t, err)
			padded := append(data, make([]byte, 1<<20)...)
			for _, payload := range [][]byte{data, padded} {
				limit := uint64(64<<10 + 64*len(payload))
				assert.Less(t, allocated(func() { _ = wire.Unmarshal(payload, goMessages[name]()) }), limit, "%s %s", name, lie)
				assert.Less(t, allocated(func() { _, _ = value.DecodeCBOR(all[name], payload, 0) }), limit, "%s %s", name, lie)
			}
		}
	}
	// A true list of the smallest items costs a small multiple, too.
	payload := append([]byte{0xaa, 0x09, 0x9a, 0, 1, 0x86, 0xa0}, bytes.Repeat([]byte{0xa1, 7, 1}, 100_000)...)
	assert.Less(t, allocated(func() { _ = wire.Unmarshal(payload, new(vectors.Lists)) }), uint64(64*len(payload)))
	// So many items that the budget ends it.
	payload = append([]byte{0xaa, 0x01, 0x9a, 0, 0x1e, 0x84, 0x80}, bytes.Repeat([]byte{0xf4}, 2_000_000)...)
	err := wire.Unmarshal(payload, new(vectors.Lists))
	var e *wire.Error
	require.ErrorAs(t, err, &e)
	assert.True(t, e.TooLarge)
	_, err = value.DecodeCBOR(all["Lists"], payload, 0)
	require.ErrorContains(t, err, "more items")
}

// manyUnknown are payloads of as many unknown fields as they can hold, in the
// worst order.
func manyUnknown() (asCBOR, asJSON []byte) {
	asCBOR = []byte{0xb9, 0xff, 0xff, 0x07, 0x01}
	for n := 65535; n > 0; n-- {
		if n != 7 {
			asCBOR = append(asCBOR, 0x19, byte(n>>8), byte(n), 0)
		}
	}
	asJSON = []byte(`{"number":1`)
	for n := range 200_000 {
		asJSON = fmt.Appendf(asJSON, `,"a%d":0`, n)
	}
	return asCBOR, append(asJSON, '}')
}

func TestManyUnknownFieldsCostTheirLength(t *testing.T) {
	asCBOR, asJSON := manyUnknown()
	for form, payload := range map[string][]byte{"cbor": asCBOR, "json": asJSON} {
		leaf := new(shared.Leaf)
		start := time.Now()
		read, write := wire.Unmarshal, wire.AppendBinary
		if form == "json" {
			read, write = wire.UnmarshalText, wire.AppendText
		}
		// The number 3 is known to Leaf, as a text; here it is not.
		payload = bytes.Replace(payload, []byte{0x19, 0, 3, 0}, []byte{0x03, 0x60}, 1)
		require.NoError(t, read(payload, leaf), form)
		written, err := write(nil, leaf)
		require.NoError(t, err)
		require.NoError(t, read(written, leaf))
		assert.Less(t, time.Since(start), 3*time.Second, form)
	}
	assert.Error(t, wire.UnmarshalText(bytes.Replace(asJSON, []byte(`"a5"`), []byte(`"a6"`), 1), new(shared.Leaf)), "one that comes twice is found")
}

func allocated(f func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	f()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}

func TestGeneratedFilesAreCurrent(t *testing.T) {
	for _, dir := range []string{".", "../examples/ferry"} {
		output, err := toolchain.Faithful(t, dir, "generate", "--dry").CombinedOutput()
		require.NoError(t, err, "%s: run faithful generate there:\n%s", dir, output)
	}
}

// TestTypeScriptSupport runs the tests of what the TypeScript stubs share.
func TestTypeScriptSupport(t *testing.T) {
	toolchain.Require(t, "typescript")
	dir := toolchain.BuildTypeScript(t, "typescript")
	output, err := exec.Command("node", "--test", filepath.Join(dir, "support.test.js")).CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Regexp(t, `# pass [1-9]`, string(output))
}
