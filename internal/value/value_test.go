package value

import (
	"encoding/hex"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

func messages(t testing.TB, text string) map[string]*schema.Message {
	defs, findings := check.Load([]*source.File{source.NewFile("f", "module m\n"+text)})
	require.Empty(t, findings)
	all := map[string]*schema.Message{}
	for _, m := range defs.Modules[0].Messages {
		all[m.Name] = m
	}
	return all
}

const oneField = `
enum Deck { #0 open #300 car }
message Leaf { #1 a int32? }
`

// written are values of one field with their bytes, worked out by hand from
// the RFCs.
var written = []struct {
	typ   string
	value Value
	cbor  string // of the field's value
	json  string
}{
	{"bool", true, "f5", "true"},
	{"int32", int64(0), "00", "0"},
	{"int32", int64(23), "17", "23"},
	{"int32", int64(24), "1818", "24"},
	{"int32", int64(-1), "20", "-1"},
	{"int32", int64(-256), "38ff", "-256"},
	{"int32", int64(math.MinInt32), "3a7fffffff", "-2147483648"},
	{"int64", int64(65536), "1a00010000", "65536"},
	{"int64", int64(1<<53 - 1), "1b001fffffffffffff", "9007199254740991"},
	{"int64", int64(1 << 53), "1b0020000000000000", `"9007199254740992"`},
	{"int64", int64(math.MinInt64), "3b7fffffffffffffff", `"-9223372036854775808"`},
	{"uint32", uint64(math.MaxUint32), "1affffffff", "4294967295"},
	{"float64", 1.5, "fb3ff8000000000000", "1.5"},
	{"float64", 100.0, "fb4059000000000000", "100"},
	{"float64", math.Copysign(0, -1), "fb8000000000000000", "-0"},
	{"float64", 1e21, "fb444b1ae4d6e2ef50", "1e+21"},
	{"float64", 123456789012345680000.0, "fb441ac53a7e04bcda", "123456789012345680000"},
	{"float64", 1e-6, "fb3eb0c6f7a0b5ed8d", "0.000001"},
	{"float64", 1e-7, "fb3e7ad7f29abcaf48", "1e-7"},
	{"float64", math.NaN(), "fb7ff8000000000000", `"NaN"`},
	{"float64", math.Inf(-1), "fbfff0000000000000", `"-Infinity"`},
	{"text", "", "60", `""`},
	{"text", "é🚢", "66c3a9f09f9aa2", `"é🚢"`},
	{"text", "\"\\/\b\f\n\r\t\x01\x7f", "6a225c2f080c0a0d09017f", `"\"\\/\b\f\n\r\t\u0001` + "\x7f\""},
	{"bytes", []byte{}, "40", `""`},
	{"bytes", []byte{0xfb, 0xff}, "42fbff", `"-_8"`},
	{"uuid", schema.UUID{0x6f, 0x0c, 15: 1}, "d825506f0c0000000000000000000000000001",
		`"6f0c0000-0000-0000-0000-000000000001"`},
	{"instant", schema.Instant{}, "c100", `"1970-01-01T00:00:00Z"`},
	{"instant", schema.Instant{Seconds: -2, Nanos: 500_000_000}, "d903e9a20121221901f4", `"1969-12-31T23:59:58.5Z"`},
	{"instant", schema.Instant{Seconds: 1, Nanos: 1_000}, "d903e9a201012501", `"1970-01-01T00:00:01.000001Z"`},
	{"instant", schema.Instant{Seconds: 1, Nanos: 1}, "d903e9a201012801", `"1970-01-01T00:00:01.000000001Z"`},
	{"instant", schema.Instant{Seconds: schema.MinInstantSeconds}, "c13b0000000e7791f6ff", `"0001-01-01T00:00:00Z"`},
	{"instant", schema.Instant{Seconds: schema.MaxInstantSeconds, Nanos: 999_999_999},
		"d903e9a2011b0000003afff4417f281a3b9ac9ff", `"9999-12-31T23:59:59.999999999Z"`},
	{"Deck", Enum{Number: 300}, "19012c", `"car"`},
	{"Deck", Enum{Number: 7}, "07", "7"},
	{"[int32]", List{}, "80", "[]"},
	{"[[int32]]", List{List{int64(1)}, List{}}, "82810180", "[[1],[]]"},
	{"{text: bool}", &Map{Entries: []Entry{{"b", true}, {"aa", false}}}, "a26162f5626161f4", `{"b":true,"aa":false}`},
	{"Leaf", &Message{Fields: map[int]Value{}}, "a0", "{}"},
}

func TestWritten(t *testing.T) {
	for _, w := range written {
		m := messages(t, oneField+"message X { #1 v "+w.typ+" }")["X"]
		v := &Message{Type: m, Fields: map[int]Value{1: w.value}}
		if leaf, ok := w.value.(*Message); ok {
			leaf.Type = m.Fields[0].Type.Message
		}
		b, err := EncodeCBOR(v)
		require.NoError(t, err)
		assert.Equal(t, "a101"+w.cbor, hex.EncodeToString(b), "%s %v", w.typ, w.value)
		j, err := EncodeJSON(v)
		require.NoError(t, err)
		assert.Equal(t, `{"v":`+w.json+`}`, string(j))
		for _, read := range []func() (*Message, error){
			func() (*Message, error) { return DecodeCBOR(m, b, 0) },
			func() (*Message, error) { return DecodeJSON(m, j, 0) },
		} {
			again, err := read()
			require.NoError(t, err, "%s %v", w.typ, w.value)
			assert.True(t, Equal(v, again), "%s %v: %v", w.typ, w.value, again.Fields[1])
		}
	}
}

// refused are payloads, with the error that a person reads.
var refused = []struct{ message, encoding, payload, want string }{
	{"Tree", "cbor", "a1016161", "/kids: expected a list, found nothing: the field is required (byte 0)"},
	{"Tree", "cbor", "a20161610281a10103", "/kids/0/name: expected text, found the integer 3 (byte 8)"},
	{"Tree", "cbor", "a3016161028003a1616bf5", "/by_name/k: expected a map for Tree, found true (byte 10)"},
	{"Tree", "cbor", "a201616102800a", "the payload: more bytes after the end (byte 6)"},
	{"Tree", "cbor", "a2016161016161", "/name: field #1 comes twice (byte 4)"},
	{"Tree", "cbor", "a201", "the payload: a length of 2, more than the payload contains (byte 1)"},
	{"Tree", "json", `{"name":"a"}`, "/kids: expected a list, found nothing: the field is required (byte 0)"},
	{"Tree", "json", `{"name":"a","kids":[{"name":3}]}`, "/kids/0/name: expected text, found the number 3 (byte 28)"},
	{"Tree", "json", `{"name":"a","kids":[],"by_name":{"a/b~c":null}}`,
		"/by_name/a~1b~0c: expected an object for Tree, found null (byte 41)"},
	{"Tree", "json", `{"name":"é","kids":[]} x`, "the payload: more text after the end (byte 24)"},
	{"Tree", "json", `{"name":"a" "kids":[]}`, `the payload: expected ',' or '}', found the string "kids" (byte 12)`},
	{"Tree", "json", `{"name":"a","name":"b","kids":[]}`, "/name: the name comes twice (byte 12)"},
	{"Tree", "json", "\xff", "the payload: bytes that are not UTF-8 (byte 0)"},
}

const tree = "message Tree { #1 name text #2 kids [Tree] #3 by_name {text: Tree}? }"

func TestRefused(t *testing.T) {
	m := messages(t, tree)["Tree"]
	for _, r := range refused {
		var err error
		if r.encoding == "cbor" {
			payload, hexErr := hex.DecodeString(r.payload)
			require.NoError(t, hexErr)
			_, err = DecodeCBOR(m, payload, 0)
		} else {
			_, err = DecodeJSON(m, []byte(r.payload), 0)
		}
		require.Error(t, err, r.payload)
		assert.Equal(t, r.want, err.Error(), r.payload)
	}
}

func TestNotWritten(t *testing.T) {
	all := messages(t, tree+"enum Deck { #0 open } message Other { #1 deck Deck? #2 t text? }")
	deep := MinimalMessage(all["Tree"])
	for range MaxDepth {
		outer := MinimalMessage(all["Tree"])
		outer.Fields[2] = List{deep}
		deep = outer
	}
	for want, m := range map[string]*Message{
		"/kids/0/kids/0":               deep,
		"/name: the field is required": {Type: all["Tree"], Fields: map[int]Value{2: List{}}},
		"/deck: the name \"sun\" is not listed in Deck, and binary payloads contain numbers": {Type: all["Other"],
			Fields: map[int]Value{1: Enum{Number: -1, Name: "sun"}}},
		"/t: text that is not UTF-8": {Type: all["Other"], Fields: map[int]Value{2: "\xff"}},
	} {
		_, err := EncodeCBOR(m)
		assert.ErrorContains(t, err, want)
	}
	j, err := EncodeJSON(&Message{Type: all["Other"], Fields: map[int]Value{1: Enum{Number: -1, Name: "sun"}}})
	require.NoError(t, err)
	assert.Equal(t, `{"deck":"sun"}`, string(j), "JSON holds names")
}

func TestUnknownIsKeptInPlace(t *testing.T) {
	m := messages(t, "message M { #3 a text #7 b text? }")["M"]
	in := `{"#1":"AQ","a":"x","#5":"gWFi","b":"y","#9":"9g","later":[1.0,"\u0041"],"#x":null}`
	v, err := DecodeJSON(m, []byte(in), 0)
	require.NoError(t, err)
	out, err := EncodeJSON(v)
	require.NoError(t, err)
	assert.Equal(t, in, string(out))
	b, err := EncodeCBOR(v)
	require.NoError(t, err)
	assert.Equal(t, "a5"+"0101"+"036178"+"05816162"+"076179"+"09f6", hex.EncodeToString(b),
		"names have no binary encoding")
	again, err := DecodeCBOR(m, b, 0)
	require.NoError(t, err)
	out, err = EncodeJSON(again)
	require.NoError(t, err)
	assert.Equal(t, `{"#1":"AQ","a":"x","#5":"gWFi","b":"y","#9":"9g"}`, string(out))
}

func TestDefaultsAndLeavingOut(t *testing.T) {
	m := messages(t, "message M { #1 a int32 = 5 #2 b text? }")["M"]
	v, err := DecodeCBOR(m, []byte{0xa0}, 0)
	require.NoError(t, err)
	assert.Equal(t, map[int]Value{1: int64(5)}, v.Fields)
	empty := &Message{Type: m, Fields: map[int]Value{}}
	for want, encode := range map[string]func(*Message) ([]byte, error){"a10105": EncodeCBOR, "a0": EncodeCBORWithout} {
		b, err := encode(empty)
		require.NoError(t, err)
		assert.Equal(t, want, hex.EncodeToString(b))
	}
	j, err := EncodeJSONWithout(empty)
	require.NoError(t, err)
	assert.Equal(t, "{}", string(j))
}

func TestValidate(t *testing.T) {
	m := messages(t, "enum Deck { #0 open #1 car } message M { #1 deck Deck #2 list [Deck] #3 map {text: Deck} #4 "+
		"inner M? }")["M"]
	v, err := DecodeJSON(m, []byte(`{"deck":9,"list":["open","sun"],"map":{"a/b":7,"c":"car"},"inner":{"deck":"moon","list":[],"map":{}}}`), 0)
	require.NoError(t, err, "what is not listed can be read")
	var got []string
	for _, x := range Validate(v) {
		got = append(got, x.Pointer+" "+x.Detail)
	}
	assert.Equal(t, []string{"/deck must be one of open, car", "/list/1 must be one of open, car",
		"/map/a~1b must be one of open, car", "/inner/deck must be one of open, car"}, got)
}

func TestEqual(t *testing.T) {
	assert.True(t, Equal(math.NaN(), math.NaN()))
	assert.True(t, Equal(0.0, math.Copysign(0, -1)))
	assert.False(t, Equal(int64(1), uint64(1)))
	assert.False(t, Equal(List{int64(1)}, List{int64(1), int64(2)}))
	assert.False(t, Equal(&Map{Entries: []Entry{{"a", true}}}, &Map{Entries: []Entry{{"b", true}}}))
	assert.True(t, Equal([]byte{1}, []byte{1}))
}

func TestTextForms(t *testing.T) {
	for in, want := range map[string]string{"2026-07-15T09:30:00+02:00": "2026-07-15T07:30:00Z",
		"2024-02-29T00:00:00.120Z": "2024-02-29T00:00:00.12Z", "0001-01-01T01:00:00+01:00": "0001-01-01T00:00:00Z"} {
		i, err := schema.ParseInstant(in)
		require.NoError(t, err)
		assert.Equal(t, want, i.String())
	}
	for _, in := range []string{"", "2026-07-15", "2026-07-15 09:30:00Z", "2026-7-15T09:30:00Z", "2026-07-15T9:30:00Z",
		"2026-13-01T00:00:00Z", "2023-02-29T00:00:00Z", "2026-07-15T24:00:00Z", "2026-07-15T09:30:60Z",
		"2026-07-15T09:30:00,5Z", "2026-07-15T09:30:00+2:00", "2026-07-15T09:30:00+02:60", "2026-07-15T09:30:00z",
		"9999-12-31T23:59:59-00:01", "0000-01-01T00:00:00Z", "2026-07-15T09:30:00.Z", "2026-07-15T09:30:00Zx"} {
		_, err := schema.ParseInstant(in)
		assert.Error(t, err, in)
	}
}

const everyType = `enum Deck { #0 open #1 car }
message All { #1 a bool #2 b int32 = 1 #3 c int64? #4 d uint32 #5 e float64? #6 f text #7 g bytes? #8 h uuid #9 i instant? #10 j Deck = car #11 k [All] #12 l {text: [Deck]} #13 m All? }`

// TestRandomValuesSurvive writes and reads random values in both encodings.
func TestRandomValuesSurvive(t *testing.T) {
	m := messages(t, everyType)["All"]
	rng := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		v := RandomMessage(rng, m, 3)
		b, err := EncodeCBOR(v)
		require.NoError(t, err)
		require.NoError(t, cbor.Wellformed(b))
		fromCBOR, err := DecodeCBOR(m, b, 0)
		require.NoError(t, err)
		require.True(t, Equal(v, fromCBOR))
		j, err := EncodeJSON(v)
		require.NoError(t, err)
		fromJSON, err := DecodeJSON(m, j, 0)
		require.NoError(t, err)
		require.True(t, Equal(v, fromJSON), "%s", j)
	}
	for _, v := range Edges(&schema.Type{Kind: schema.KindMessage, Message: m}) {
		_, err := EncodeCBOR(v.(*Message))
		require.NoError(t, err, "every edge is lawful")
	}
}

func TestBudget(t *testing.T) {
	m := messages(t, "message M { #1 a [bool] }")["M"]
	payload := append([]byte{0xa1, 0x01, 0x98, 50}, strings.Repeat("\xf4", 50)...)
	_, err := DecodeCBOR(m, payload, 53)
	require.NoError(t, err)
	_, err = DecodeCBOR(m, payload, 52)
	var e *Error
	require.ErrorAs(t, err, &e)
	assert.True(t, e.TooLarge)
	_, err = DecodeJSON(m, []byte(`{"a":[`+strings.Repeat("true,", 49)+`true]}`), 52)
	require.ErrorAs(t, err, &e)
	assert.True(t, e.TooLarge)
}

// FuzzDecode holds that whatever is read can be written, and is read again as
// the same.
func FuzzDecode(f *testing.F) {
	m := messages(f, everyType)["All"]
	rng := rand.New(rand.NewPCG(3, 4))
	for range 20 {
		v := RandomMessage(rng, m, 2)
		b, _ := EncodeCBOR(v)
		j, _ := EncodeJSON(v)
		f.Add(b, false)
		f.Add(j, true)
	}
	f.Fuzz(func(t *testing.T, data []byte, isJSON bool) {
		read, write := DecodeCBOR, EncodeCBOR
		if isJSON {
			read, write = DecodeJSON, EncodeJSON
		}
		v, err := read(m, data, 0)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		out, err := write(v)
		require.NoError(t, err)
		again, err := read(m, out, 0)
		require.NoError(t, err)
		require.True(t, Equal(v, again))
	})
}
