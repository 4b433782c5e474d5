package conformance

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

var update = flag.Bool("update", false, "write the files of vectors anew")

// The files of vectors: a line each, for readers and writers in any language.
// README.md next to them says what is in a line.
var (
	validFile   = filepath.Join("vectors", "valid.jsonl")
	invalidFile = filepath.Join("vectors", "invalid.jsonl")
)

// kept are the vectors of a file.
func kept(t testing.TB, file string) []vector {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	var list []vector
	for line := range bytes.Lines(text) {
		var v vector
		require.NoError(t, json.Unmarshal(line, &v))
		list = append(list, v)
	}
	return list
}

// TestKeptVectors makes the vectors of the files anew, and holds the reference
// against them.
func TestKeptVectors(t *testing.T) {
	for file, wanted := range map[string][]vector{validFile: valid(t), invalidFile: refused(t)} {
		require.GreaterOrEqual(t, len(wanted), 300, file)
		var text bytes.Buffer
		for _, v := range wanted {
			require.Equal(t, file == validFile, v.Accepted, "%s as %s: %s: %s", v.Message, v.Encoding, v.Payload, v.Why)
			line, err := json.Marshal(v)
			require.NoError(t, err)
			text.Write(append(line, '\n'))
		}
		if *update {
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o777))
			require.NoError(t, os.WriteFile(file, text.Bytes(), 0o666))
		}
		have, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, text.String(), string(have), "%s is out of date: go test ./conformance -run KeptVectors -update",
			file)
	}
}

// valid are payloads that every reader takes: those with a value at the edge
// of its type in one place, and some that no writer writes.
func valid(t *testing.T) []vector {
	var list []vector
	for _, m := range messages(t) {
		if m.Name == "Many" { // the types of the others, only more of them
			continue
		}
		for _, s := range value.Edges(&schema.Type{Kind: schema.KindMessage, Message: m}) {
			b, j := written(t, s.(*value.Message))
			list = append(list, judged(m, "cbor", b), judged(m, "json", j))
		}
	}
	for _, x := range lenient {
		list = append(list, x.judged(t))
	}
	return once(list)
}

// once leaves out what comes a second time.
func once(list []vector) []vector {
	seen := map[string]bool{}
	return slices.DeleteFunc(list, func(v vector) bool {
		key := v.Message + v.Encoding + v.Payload
		again := seen[key]
		seen[key] = true
		return again
	})
}

// refused are payloads that every reader refuses.
func refused(t *testing.T) []vector {
	var list []vector
	for _, x := range slices.Concat(invalid, misplaced(t)) {
		list = append(list, x.judged(t))
	}
	return once(list)
}

// kinds are values of every kind, as CBOR and as JSON.
var kinds = []struct{ kind, cbor, json string }{
	{"an unsigned integer", "01", "1"}, {"a negative integer", "20", "-1"}, {"a float", "f9 3e 00", "1.5"},
	{"a byte string", "41 00", ""}, {"a text", "61 78", `"x"`},
	{"an array", "80", "[]"}, {"a map", "a0", "{}"}, {"a boolean", "f5", "true"}, {"null", "f6", ""},
	{"undefined", "f7", ""}, {"a simple value", "f0", ""},
	{"a time", "c1 01", ""}, {"a decimal", "c4 82 20 01", ""}, {"a date", "d8 64 01", ""},
	{"a duration", "d9 03 ea a1 01 01", ""}, {"a URI", "d8 20 61 78", ""},
}

// lawful are the kinds that a type is read from.
func lawful(t *schema.Type) []string {
	switch {
	case t.Kind == schema.KindUint8, t.Kind == schema.KindUint16, t.Kind == schema.KindUint32, t.Kind == schema.KindUint64:
		return []string{"an unsigned integer"}
	case t.Kind.IsInteger():
		return []string{"an unsigned integer", "a negative integer"}
	}
	switch t.Kind {
	case schema.KindBool:
		return []string{"a boolean"}
	case schema.KindFloat32, schema.KindFloat64:
		return []string{"an unsigned integer", "a negative integer", "a float"}
	case schema.KindText:
		return []string{"a text"}
	case schema.KindBytes:
		return []string{"a byte string"}
	case schema.KindInstant:
		return []string{"a time"}
	case schema.KindDecimal:
		return []string{"a decimal"}
	case schema.KindDate:
		return []string{"a date"}
	case schema.KindDuration:
		return []string{"a duration"}
	case schema.KindEnum:
		return []string{"an unsigned integer"}
	case schema.KindList:
		return []string{"an array"}
	case schema.KindMap, schema.KindMessage:
		return []string{"a map"}
	case schema.KindAny:
		return []string{"an unsigned integer", "a negative integer", "a float", "a text", "an array", "a map", "a boolean",
			"null"}
	}
	return nil
}

// misplaced are values of every kind where a type is not read from them: in
// each optional field, and in the lists and maps of each.
func misplaced(t *testing.T) []payload {
	var list []payload
	for _, name := range []string{"Optionals", "NamedOptionals", "MoreOptionals"} {
		m := messageNamed(t, name)
		for _, f := range m.Fields {
			place := func(typ *schema.Type, beforeCBOR, beforeJSON, afterJSON string) {
				known := lawful(typ)
				for _, k := range kinds {
					if !slices.Contains(known, k.kind) {
						head := hex.EncodeToString(fieldHead(f.Number))
						list = append(list, payload{name, "cbor", head + beforeCBOR + k.cbor})
					}
					text := slices.Contains([]schema.Kind{schema.KindEnum, schema.KindAny}, typ.Kind) && k.kind == "a text" ||
						slices.Contains([]schema.Kind{schema.KindDecimal}, typ.Kind) &&
							slices.Contains([]string{"an unsigned integer", "a negative integer", "a float"}, k.kind)
					if k.json != "" && !slices.Contains(known, k.kind) && !text {
						list = append(list, payload{name, "json",
							fmt.Sprintf("{%q:%s%s%s}", f.JSONName(), beforeJSON, k.json, afterJSON)})
					}
				}
			}
			place(f.Type, "", "", "")
			switch f.Type.Kind {
			case schema.KindList:
				place(f.Type.Elem, "81", "[", "]")
			case schema.KindMap:
				if f.Type.Key.Kind == schema.KindText {
					place(f.Type.Elem, "a16161", `{"a":`, "}")
				}
			}
		}
	}
	return list
}

// fieldHead begins a message of one field.
func fieldHead(number int) []byte {
	switch {
	case number < 24:
		return []byte{0xa1, byte(number)}
	case number < 256:
		return []byte{0xa1, 0x18, byte(number)}
	}
	return []byte{0xa1, 0x19, byte(number >> 8), byte(number)}
}

func (x payload) judged(t testing.TB) vector {
	data := []byte(x.payload)
	if x.encoding == "cbor" {
		var err error
		data, err = hex.DecodeString(strings.ReplaceAll(x.payload, " ", ""))
		require.NoError(t, err)
	}
	return judged(messageNamed(t, x.message), x.encoding, data)
}

type payload struct{ message, encoding, payload string }

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
	{"Optionals", "json", `{"i8":128}`}, {"Optionals", "json", `{"i8":-129}`}, {"Optionals", "json", `{"u64":-1}`},
	{"Optionals", "json", `{"u64":18446744073709551616}`}, {"Optionals", "json", `{"u64":"018"}`},
	{"Optionals", "json", `{"f32":3.5e38}`}, {"Optionals", "json", `{"f32":3.40282357e38}`},
	{"Optionals", "json", `{"u8s":[256]}`}, {"Optionals", "json", `{"u8s":["-0"]}`},
	{"Leaf", "json", ``}, {"Leaf", "json", `[]`}, {"Leaf", "json", `null`}, {"Leaf", "json", `{}`},
	{"Leaf", "json", "\ufeff{\"number\":1}"},
	{"Leaf", "json", `{"number":1} x`}, {"Leaf", "json", `{"number":1,}`}, {"Leaf", "json", `{"number" 1}`},
	{"Leaf", "json", `{number:1}`},
	{"Leaf", "json", `{"number":1,"number":1}`}, {"Leaf", "json", `{"number":1,"\u006eumber":1}`},
	{"Leaf", "json", `{"number":1,"#7":"AQ"}`},
	{"Leaf", "json", `{"number":null}`}, {"Leaf", "json", `{"number":1.0}`}, {"Leaf", "json", `{"number":1e0}`},
	{"Leaf", "json", `{"number":01}`},
	{"Leaf", "json", `{"number":"01"}`}, {"Leaf", "json", `{"number":"-0"}`}, {"Leaf", "json", `{"number":" 1"}`},
	{"Leaf", "json", `{"number":+1}`},
	{"Leaf", "json", `{"number":2147483648}`}, {"Leaf", "json", `{"number":-}`},
	{"Leaf", "json", `{"number":1,"later":-}`}, {"Leaf", "json", `{"number":1.}`},
	{"Leaf", "json", `{"number":1,"x":01}`}, {"Leaf", "json", `{"number":1,"x":1,"x":2}`},
	{"Leaf", "json", `{"number":1,"x":nul}`}, {"Leaf", "json", `{"number":1,"x":[1,]}`},
	{"Leaf", "json", `{"number":1,"third":"\ud800"}`}, {"Leaf", "json", `{"number":1,"third":"\x"}`},
	{"Leaf", "json", "{\"number\":1,\"third\":\"\n\"}"}, {"Leaf", "json", `{"number":1,"third":"a}`},
	{"Leaf", "json", "{\"number\":1,\"third\":\"\xff\"}"}, {"Leaf", "json", `{"number":1,"x":"\udc00"}`},
	{"Leaf", "json", "{\"number\":1,\"\xc3\":1}"},
	{"Leaf", "json", `{"number":1,"#0":"AQ"}`}, {"Leaf", "json", `{"number":1,"#09":"AQ"}`},
	{"Leaf", "json", `{"number":1,"#65536":"AQ"}`}, {"Leaf", "json", `{"number":1,"#9":"AQE"}`},
	{"Leaf", "json", `{"number":1,"#9":1}`}, {"Leaf", "json", `{"number":1,"#9":"/w"}`},
	{"Leaf", "json", `{"number":1,"#9":"AQ","#9":"AQ"}`}, {"Leaf", "json", `{"#7":"YQ"}`},
	{"Leaf", "json", `{"number":1,"x":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + `}`},
	{"Optionals", "json", `{"data":"A"}`}, {"Optionals", "json", `{"data":"AB"}`},
	{"Optionals", "json", `{"data":"AA="}`}, {"Optionals", "json", `{"data":"AA\n"}`},
	{"Optionals", "json", `{"data":"AAA==="}`},
	{"Optionals", "json", `{"ratio":1e400}`}, {"Optionals", "json", `{"ratio":"1"}`},
	{"Optionals", "json", `{"ratio":NaN}`}, {"Optionals", "json", `{"ratio":true}`},
	{"Optionals", "json", `{"at":"2026-02-29T00:00:00Z"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:60Z"}`},
	{"Optionals", "json", `{"at":"2026-01-01T00:00:00"}`},
	{"Optionals", "json", `{"at":"2026-01-01t00:00:00Z"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00.Z"}`},
	{"Optionals", "json", `{"at":"2026-01-01T00:00:00.1234567890Z"}`},
	{"Optionals", "json", `{"at":"0001-01-01T00:00:00+00:01"}`},
	{"Optionals", "json", `{"at":"2026-01-01T00:00:00+24:00"}`}, {"Optionals", "json", `{"at":"2026-01-01T00:00:00,5Z"}`},
	{"Optionals", "json", `{"key":"6f0c"}`}, {"Optionals", "json", `{"key":"00000000-0000-0000-0000-00000000-00-00"}`},
	{"Optionals", "json", `{"key":"0b9f6a523-d1c-4e6b-9a57-5f2f3f1d7c01"}`},
	{"Optionals", "json", `{"key":"gb9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"}`},
	{"Optionals", "json", `{"deck":70000}`}, {"Optionals", "json", `{"deck":1.5}`},
	{"Optionals", "json", `{"deck":true}`}, {"Optionals", "json", `{"list":[1,null]}`},
	{"Optionals", "json", `{"map":{"a":null}}`},
	{"MoreOptionals", "cbor", "a1 01 c4 82 1b ff ff ff ff ff ff ff ff 01"},
	{"MoreOptionals", "cbor", "a1 01 c4 82 3b ff ff ff ff ff ff ff ff 01"},
	{"MoreOptionals", "cbor", "a1 01 c4 81 00"}, {"MoreOptionals", "cbor", "a1 01 c4 83 00 01 02"},
	{"MoreOptionals", "cbor", "a1 01 c4 a0"}, {"MoreOptionals", "cbor", "a1 01 c5 82 00 01"},
	{"MoreOptionals", "cbor", "a1 01 c4 82 18 22 01"}, {"MoreOptionals", "cbor", "a1 01 c4 82 38 22 01"},
	{"MoreOptionals", "cbor", "a1 01 c4 82 f9 3c 00 01"}, {"MoreOptionals", "cbor", "a1 01 c4 82 00 f9 3c 00"},
	{"MoreOptionals", "cbor", "a1 01 c4 82 00 c2 58 20" + strings.Repeat("ff", 32)},
	{"MoreOptionals", "cbor", "a1 01 c4 82 00 c2 61 61"}, {"MoreOptionals", "cbor", "a1 01 c4 82 00 c4 82 00 01"},
	{"MoreOptionals", "cbor", "a1 01 c4 9f 00 01 02 ff"},
	{"MoreOptionals", "cbor", "a1 02 d8 64 1a 00 2c c0 a1"}, {"MoreOptionals", "cbor", "a1 02 d8 64 3a 00 0a f9 3a"},
	{"MoreOptionals", "cbor", "a1 02 d8 64 f9 00 00"}, {"MoreOptionals", "cbor", "a1 02 d8 64 61 61"},
	// dates beyond both ends, as a float, as a text
	{"MoreOptionals", "cbor", "a1 03 d9 03 ea a0"}, {"MoreOptionals", "cbor", "a1 03 d9 03 ea a1 01 f9 00 00"},
	{"MoreOptionals", "cbor", "a1 03 d9 03 ea a1 01 1b 00 00 00 02 25 c1 7d 05"},
	{"MoreOptionals", "cbor", "a1 03 d9 03 ea a2 01 00 01 00"},
	{"MoreOptionals", "cbor", "a1 03 d9 03 ea a2 01 00 22 00"},
	{"MoreOptionals", "cbor", "a1 03 d9 03 ea a2 01 00 22 20"},
	{"MoreOptionals", "cbor", "a1 03 d9 03 ea a2 01 00 23 01"}, {"MoreOptionals", "cbor", "a1 03 d9 03 e9 a1 01 00"},
	{"MoreOptionals", "cbor", "a1 04 f9 7e 00"}, {"MoreOptionals", "cbor", "a1 04 f9 7c 00"},
	{"MoreOptionals", "cbor", "a1 04 a1 01 01"}, {"MoreOptionals", "cbor", "a1 04 a2 61 61 01 61 61 02"},
	// NaN, infinity, a key that is not a text, a key twice
	{"MoreOptionals", "cbor", "a1 04 3b 80 00 00 00 00 00 00 00"}, {"MoreOptionals", "cbor", "a1 04 c2 41 01"},
	{"MoreOptionals", "cbor", "a1 04 81 40"}, {"MoreOptionals", "cbor", "a1 04 62 c3 28"},
	{"NamedOptionals", "cbor", "a1 12 a0"}, {"NamedOptionals", "cbor", "a1 12 a2 01 a0 02 c4 82 00 01"},
	{"NamedOptionals", "cbor", "a1 12 a1 00 01"}, {"NamedOptionals", "cbor", "a1 12 a1 61 31 01"},
	{"NamedOptionals", "cbor", "a1 12 a1 1a 00 01 00 00 01"}, {"NamedOptionals", "cbor", "a1 12 bf 01 a0"},
	{"NamedOptionals", "json", `{"way":{"foot":{},"tonnes":"1"}}`}, {"NamedOptionals", "json", `{"way":{"foot":null}}`},
	{"NamedOptionals", "json", `{"way":{"#0":"AQ"}}`}, {"NamedOptionals", "json", `{"way":{"#1":"AQ"}}`},
	{"NamedOptionals", "json", `{"way":{"#70000":"AQ"}}`},
	{"NamedOptionals", "json", `{"table":{"1.0":"1"}}`}, {"NamedOptionals", "json", `{"table":{"01":"1"}}`},
	{"NamedOptionals", "json", `{"table":{"40000":"1"}}`}, {"NamedOptionals", "json", `{"table":{"1":"1","1":"2"}}`},
	{"NamedOptionals", "json", `{"table":{"-0":"1"}}`},
	{"MoreOptionals", "json", `{"amount":"-0"}`}, {"MoreOptionals", "json", `{"amount":"1."}`},
	{"MoreOptionals", "json", `{"amount":".5"}`}, {"MoreOptionals", "json", `{"amount":"+1"}`},
	{"MoreOptionals", "json", `{"amount":"NaN"}`}, {"MoreOptionals", "json", `{"amount":"1e35"}`},
	{"MoreOptionals", "json", `{"amount":"` + strings.Repeat("9", 35) + `"}`},
	{"MoreOptionals", "json", `{"amount":" 1"}`}, {"MoreOptionals", "json", `{"amount":""}`},
	{"MoreOptionals", "json", `{"amount":"0x1"}`}, {"MoreOptionals", "json", `{"amount":1e-35}`},
	{"MoreOptionals", "json", `{"amount":"1e"}`},
	{"MoreOptionals", "json", `{"day":"2026-02-29"}`}, {"MoreOptionals", "json", `{"day":"2026-13-01"}`},
	{"MoreOptionals", "json", `{"day":"2026-01-00"}`}, {"MoreOptionals", "json", `{"day":"2026-1-1"}`},
	{"MoreOptionals", "json", `{"day":"0000-01-01"}`}, {"MoreOptionals", "json", `{"day":"10000-01-01"}`},
	{"MoreOptionals", "json", `{"day":"2026-01-01T00:00:00Z"}`}, {"MoreOptionals", "json", `{"day":""}`},
	{"MoreOptionals", "json", `{"day":"+2026-01-01"}`}, {"MoreOptionals", "json", `{"day":20454}`},
	{"MoreOptionals", "json", `{"length":"P"}`}, {"MoreOptionals", "json", `{"length":"PT"}`},
	{"MoreOptionals", "json", `{"length":"P1DT"}`}, {"MoreOptionals", "json", `{"length":"1.5S"}`},
	{"MoreOptionals", "json", `{"length":"PT1,5S"}`}, {"MoreOptionals", "json", `{"length":"PT-1S"}`},
	{"MoreOptionals", "json", `{"length":"P1Y"}`},
	{"MoreOptionals", "json", `{"length":"PT9223372037S"}`}, {"MoreOptionals", "json", `{"length":"PT1S1M"}`},
	{"MoreOptionals", "json", `{"length":"pt1s"}`}, {"MoreOptionals", "json", `{"length":"PT1.5M"}`},
	{"MoreOptionals", "json", `{"length":"PT0.0000000001S"}`}, {"MoreOptionals", "json", `{"length":90}`},
	{"MoreOptionals", "json", `{"anything":1e400}`}, {"MoreOptionals", "json", `{"anything":18446744073709551616}`},
	{"MoreOptionals", "json", `{"anything":-9223372036854775809}`},
	{"MoreOptionals", "json", `{"anything":{"a":1,"a":2}}`}, {"MoreOptionals", "json", `{"anything":[1,]}`},
	{"MoreOptionals", "json", `{"anything":"\udc00"}`},
	{"Optionals", "json", `{"map":{"a":"","a":""}}`}, {"Optionals", "json", `{"flag":"true"}`},
	{"Optionals", "json", `{"flag":tru}`}, {"Optionals", "json", `{"large":9223372036854775808}`},
}

// lenient are payloads that writers don't write and readers take.
var lenient = []payload{
	{"MoreOptionals", "cbor", "a1 01 c4 82 1b ff ff ff ff ff ff ff ff 00"},
	{"MoreOptionals", "cbor", "a1 01 c4 82 3b ff ff ff ff ff ff ff ff 00"}, // zero, whatever its exponent
	{"Leaf", "cbor", "bf 07 01 ff"}, {"Leaf", "cbor", "b8 01 18 07 1b 00 00 00 00 00 00 00 01"},
	{"Leaf", "cbor", "a2 07 01 03 7f 61 61 60 61 62 ff"}, {"Leaf", "cbor", "a2 07 01 09 d9 d9 f7 c1 01"},
	{"Optionals", "cbor", "a1 09 d9 03 e9 a1 01 00"},
	{"Optionals", "cbor", "a1 09 d9 03 e9 bf 28 1a 1d cd 65 00 01 21 ff"}, {"Optionals", "cbor", "a1 05 f9 7c 00"},
	{"Optionals", "cbor", "a1 05 f9 80 00"},
	{"Optionals", "cbor", "a1 05 f9 00 01"}, {"Optionals", "cbor", "a1 05 fa 3f c0 00 00"},
	{"Optionals", "cbor", "a1 05 1b 80 00 00 00 00 00 00 00"}, {"Optionals", "cbor", "a1 05 3b ff ff ff ff ff ff ff ff"},
	{"Optionals", "cbor", "a1 0a 07"}, {"Optionals", "cbor", "a1 0c 9f 01 20 ff"},
	{"Optionals", "cbor", "a1 08 d8 25 5f 48 00 01 02 03 04 05 06 07 48 00 01 02 03 04 05 06 07 ff"},
	{"Optionals", "json", `{"deck":7,"name":null,"list":null}`}, {"Optionals", "json", `{"deck":"sun"}`},
	{"Optionals", "json", `{"deck":"7"}`}, {"Optionals", "json", `{"large":"9007199254740993","small":-0}`},
	{"Optionals", "json", `{"data":"+/-_"}`}, {"Optionals", "json", `{"data":"AAA="}`},
	{"Optionals", "json", `{"at":"2026-01-01T00:30:00.120+01:00"}`},
	{"Optionals", "json", `{"key":"0B9F6A52-3D1C-4E6B-9A57-5F2F3F1D7C01"}`},
	{"Optionals", "json", `{"ratio":123456789012345678901234567890,"#2":"Bg","#":1,"#x":2}`},
	{"Optionals", "json", `{"ratio":1E-400}`}, {"Optionals", "json", `{"map":{"ab":"","c":"","\u0000":""}}`},
	{"Optionals", "cbor", "a1 10 fb 3f b9 99 99 99 99 99 9a"}, {"Optionals", "cbor", "a1 10 f9 3c 00"},
	{"Optionals", "cbor", "a1 10 1a 01 00 00 00"}, {"Optionals", "cbor", "a1 0f 1b ff ff ff ff ff ff ff ff"},
	{"Optionals", "json", `{"f32":3.4028235677973366e38}`},
	{"Optionals", "json", `{"f32":1.00000017881393432617187499}`},
	{"Optionals", "json", `{"f32":1.00000017881393432617187500}`},
	{"Optionals", "json", `{"f32":1.00000017881393432617187501}`},
	{"Optionals", "json", `{"f32":1.00000005960464477539062500001}`},
	{"Optionals", "json", `{"f32":-1.00000005960464477539062500001}`},
	{"Optionals", "json", `{"f32":1.000000059604644775390625}`},
	{"Optionals", "json", `{"f32":7.0064923216240853e-46}`}, {"Optionals", "json", `{"f32":7.0064923216240854e-46}`},
	{"Optionals", "json", `{"f32":16777217,"u64":"18446744073709551615","i8":-128}`},
	{"Optionals", "json", `{"f32":"-Infinity","f32s":["NaN",-0,1e-50]}`},
	{"Leaf", "json", " { \"x\" : [ 1 , { } ] ,\n\"number\" : 1 } "},
	{"Leaf", "json", `{"number":1,"third":"\ud83d\udea2\/"}`}, {"Leaf", "json", `{"#3":"YWE","number":1}`},
	{"Defaults", "json", `{"small":null}`},
	{"NamedOptionals", "json", `{"way":{"":{}}}`}, {"Optionals", "json", `{"deck":""}`},
	{"Leaf", "json", `{"number":1,"":[]}`}, {"MoreOptionals", "json", `{"anything":{"":{}}}`},
}
