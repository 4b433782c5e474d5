package value

import (
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
)

const wholeLanguage = `
enum Deck { #0 open #1 car json "carDeck" #300 upper }
type Code = text where pattern "^[A-Z]{3}$"
union Passage { #1 foot Leaf #2 group [text] json "people" #3 again Passage }
message Leaf { #1 a int32? }
`

// readAs are payloads of one field, CBOR (0x and hexadecimal digits) or JSON, and
// both encodings that are written again: "" says that it is refused, "-" that it has
// no binary encoding.
var readAs = []struct{ typ, payload, cbor, json string }{
	// Decimals (RFC 8949, section 3.4.4): the scale stays.
	{"decimal", "0xc4820000", "c4820000", `"0"`},
	{"decimal", `"1.50"`, "c482211896", `"1.50"`},
	{"decimal", `1.50`, "c482211896", `"1.50"`},
	{"decimal", `"-273.15"`, "c48221396ab2", `"-273.15"`},
	{"decimal", `"0.00"`, "c4822100", `"0.00"`},
	{"decimal", `1e2`, "c482001864", `"100"`},
	{"decimal", `"12E-1"`, "c482200c", `"1.2"`},
	{"decimal", "0xc4820201", "c482001864", `"100"`},
	{"decimal", "0xc49f2001ff", "c4822001", `"0.1"`},
	{"decimal", "0xc48200c2420001", "c4820001", `"1"`},
	{"decimal", "0xc48200c34100", "c4820020", `"-1"`},
	{"decimal", `"9999999999999999999999999999999999"`, "c48200c24f01ed09bead87c0378d8e63ffffffff",
		`"9999999999999999999999999999999999"`},
	{"decimal", `"-18446744073709551616"`, "c482003bffffffffffffffff", `"-18446744073709551616"`},
	{"decimal", `"-18446744073709551617"`, "c48200c349010000000000000000", `"-18446744073709551617"`},
	{"decimal", `"0.1234567890123456789012345678901234"`, "c4823821c24e3cde6fff9732de825cd07e96aff2",
		`"0.1234567890123456789012345678901234"`},
	{"decimal", `"99999999999999999999999999999999999"`, "", ""}, {"decimal", `"-0"`, "", ""}, {"decimal", `-0`, "", ""},
	{"decimal", `"1."`, "", ""}, {"decimal", `".5"`, "", ""}, {"decimal", `"01"`, "", ""},
	{"decimal", `"+1"`, "", ""}, {"decimal", `"1e40"`, "", ""}, {"decimal", `"1e-40"`, "", ""},
	{"decimal", `"1e999999999999"`, "", ""}, {"decimal", `"NaN"`, "", ""}, {"decimal", "0x01", "", ""},
	{"decimal", "0xc48100", "", ""},
	{"decimal", "0xc483000000", "", ""}, {"decimal", "0xc482f500", "", ""}, {"decimal", "0xc48200f5", "", ""},
	{"decimal", "0xc4820061", "", ""}, {"decimal", "0xc5820001", "", ""}, {"decimal", "0xc482182801", "", ""},
	{"decimal", "0xc49f0001", "", ""},
	{"decimal", "0xc4821b7fffffffffffffff01", "", ""}, {"decimal", "0xc4821b7fffffffffffffff00", "c4820000", `"0"`},

	// Dates (RFC 8943).
	{"date", `"1970-01-01"`, "d86400", `"1970-01-01"`},
	{"date", `"1969-12-31"`, "d86420", `"1969-12-31"`},
	{"date", `"2026-07-15"`, "d8641950a9", `"2026-07-15"`},
	{"date", `"0001-01-01"`, "d8643a000af939", `"0001-01-01"`},
	{"date", `"9999-12-31"`, "d8641a002cc0a0", `"9999-12-31"`},
	{"date", "0xd8641a002cc0a1", "", ""}, {"date", "0xd8643a000af93a", "", ""}, {"date", "0x00", "", ""},
	{"date", `"2026-02-29"`, "", ""}, {"date", `"2026-7-15"`, "", ""}, {"date", `"0000-01-01"`, "", ""},
	{"date", `20260715`, "", ""},
	{"date", "0xd864f90000", "", ""},

	// Durations (RFC 9581): the fraction is unsigned, and added.
	{"duration", `"PT0S"`, "d903eaa10100", `"PT0S"`},
	{"duration", `"PT1.5S"`, "d903eaa201012201" + "f4", ""},
	{"duration", `"P1DT1H1M1.5S"`, "d903eaa2011a00015fcd221901f4", `"PT90061.5S"`},
	{"duration", `"-PT1.5S"`, "d903eaa20121221901f4", `"-PT1.5S"`},
	{"duration", `"-PT0S"`, "d903eaa10100", `"PT0S"`},
	{"duration", `"PT0.000000001S"`, "d903eaa201002801", `"PT0.000000001S"`},
	{"duration", `"PT9223372036.854775807S"`, "d903eaa2011b0000000225c17d04281a32f2d7ff", `"PT9223372036.854775807S"`},
	{"duration", `"-PT9223372036.854775808S"`, "d903eaa2013b0000000225c17d04281a08a7f200", `"-PT9223372036.854775808S"`},
	{"duration", `"PT9223372036.854775808S"`, "", ""}, {"duration", `"P"`, "", ""}, {"duration", `"PT"`, "", ""},
	{"duration", `"P1W"`, "", ""}, {"duration", `"PT1S1M"`, "", ""}, {"duration", `"PT1.5M"`, "", ""},
	{"duration", `"pt1s"`, "", ""}, {"duration", `"PT1.S"`, "", ""}, {"duration", `"PT1.0000000001S"`, "", ""},
	{"duration", `"P1D2D"`, "", ""}, {"duration", "0xd903eaa0", "", ""}, {"duration", "0xd903ea01", "", ""},
	{"duration", "0xd903e9a10100", "", ""}, {"duration", "0xd903eaa101f5", "", ""},
	{"duration", "0xd903eaa2010122" + "00", "", ""},

	// any: whatever JSON can say.
	{"any", "0xf6", "f6", "null"},
	{"any", `{"b":[1,-1,1.0,0.5,18446744073709551615,"x",true,null],"aa":{}}`,
		"a261628801" + "20fb3ff0000000000000fb3fe00000000000001bffffffffffffffff6178f5f6626161a0",
		`{"b":[1,-1,1.0,0.5,18446744073709551615,"x",true,null],"aa":{}}`},
	{"any", "0xf93c00", "fb3ff0000000000000", "1.0"},
	{"any", `1e21`, "fb444b1ae4d6e2ef50", "1e+21"},
	{"any", `-0`, "00", "0"},
	{"any", `-0.0`, "fb8000000000000000", "-0.0"},
	{"any", `18446744073709551616`, "", ""}, {"any", `1e400`, "", ""}, {"any", "0xf97e00", "", ""},
	{"any", "0xc100", "", ""}, {"any", "0x4100", "", ""}, {"any", "0xa10102", "", ""}, {"any", `{"a":1,"a":2}`, "", ""},
	{"any", "0xa2616101616102", "", ""},
	{"any", "0x3bffffffffffffffff", "", ""}, {"any", "0xff", "", ""}, {"any", "0xf7", "", ""},
	{"any", "0x" + strings.Repeat("81", 101) + "00", "", ""},

	// Unions: exactly one alternative; an unlisted one is kept.
	{"Passage", `{"foot":{}}`, "a101a0", `{"foot":{}}`},
	{"Passage", "0xa102816161", "a102816161", `{"people":["a"]}`},
	{"Passage", "0xbf0281616" + "1ff", "a102816161", `{"people":["a"]}`},
	{"Passage", `{"#2":"gWFh"}`, "a102816161", `{"people":["a"]}`},
	{"Passage", "0xa109c249010000000000000000", "a109c249010000000000000000", `{"#9":"wkkBAAAAAAAAAAA"}`},
	{"Passage", `{"#9":"wkkBAAAAAAAAAAA"}`, "a109c249010000000000000000", `{"#9":"wkkBAAAAAAAAAAA"}`},
	{"Passage", `{"later":[1.0]}`, "-", `{"later":[1.0]}`},
	{"Passage", `{"group":["a"]}`, "-", `{"group":["a"]}`}, // its name in JSON is people
	{"Passage", `{}`, "", ""}, {"Passage", `{"foot":{},"people":[]}`, "", ""}, {"Passage", "0xa0", "", ""},
	{"Passage", "0xa201a00280", "", ""}, {"Passage", "0xa100a0", "", ""}, {"Passage", "0x81a0", "", ""},
	{"Passage", `"foot"`, "", ""},
	{"Passage", "0xa10180", "", ""}, {"Passage", `{"#0":"AA"}`, "", ""},
	{"Passage", "0x" + strings.Repeat("a103", 101) + "a101a0", "", ""}, {"Passage", `{"#9":"//"}`, "", ""},

	// Maps by other keys: the order of the encoded keys; in JSON the keys are text.
	{"{int32: bool}", `{"-1":true,"10":false,"2":true}`, "a302f50af420f5", `{"2":true,"10":false,"-1":true}`},
	{"{uint64: bool}", `{"18446744073709551615":true}`, "a11bfffffffffffffffff5", `{"18446744073709551615":true}`},
	{"{Deck: bool}", `{"upper":true,"carDeck":false,"7":true,"sun":true}`, "-",
		`{"carDeck":false,"7":true,"upper":true,"sun":true}`},
	{"{Deck: bool}", `{"1":true,"0":false}`, "a200f401f5", `{"open":false,"carDeck":true}`},
	{"{Code: bool}", `{"ABC":true}`, "a163414243f5", `{"ABC":true}`},
	{"{int32: bool}", `{"01":true}`, "", ""}, {"{int32: bool}", `{"1.0":true}`, "", ""},
	{"{int8: bool}", `{"128":true}`, "", ""}, {"{int32: bool}", "0xa2" + "01f5" + "1801f5", "", ""},
	{"{Deck: bool}", `{"1":true,"carDeck":true}`, "", ""},
	{"{Deck: bool}", `{"65536":true}`, "", ""}, {"{int32: bool}", "0xa16131f5", "", ""},

	// Names in JSON: only they are read; numbers always are.
	{"Deck", `"carDeck"`, "01", `"carDeck"`},
	{"Deck", `1`, "01", `"carDeck"`},
	{"Deck", `"car"`, "-", `"car"`},
}

func TestWholeLanguage(t *testing.T) {
	for _, r := range readAs {
		m := messages(t, wholeLanguage+"message X { #1 v "+r.typ+" }")["X"]
		var v *Message
		var err error
		if digits, isBinary := strings.CutPrefix(r.payload, "0x"); isBinary {
			data, hexErr := hex.DecodeString(digits)
			require.NoError(t, hexErr, r.payload)
			v, err = DecodeCBOR(m, append([]byte{0xa1, 1}, data...), 0)
		} else {
			v, err = DecodeJSON(m, []byte(`{"v":`+r.payload+`}`), 0)
		}
		what := r.typ + " " + r.payload
		if r.cbor == "" {
			require.Error(t, err, what)
			continue
		}
		require.NoError(t, err, what)
		b, err := EncodeCBOR(v)
		if r.cbor == "-" {
			require.Error(t, err, what)
		} else {
			require.NoError(t, err, what)
			if r.json != "" {
				assert.Equal(t, "a101"+r.cbor, hex.EncodeToString(b), what)
			}
			assert.NoError(t, cbor.Wellformed(b), what)
			again, err := DecodeCBOR(m, b, 0)
			require.NoError(t, err, what)
			assert.True(t, Equal(v, again), what)
		}
		j, err := EncodeJSON(v)
		require.NoError(t, err, what)
		if r.json != "" {
			assert.Equal(t, `{"v":`+r.json+`}`, string(j), what)
		}
		again, err := DecodeJSON(m, j, 0)
		require.NoError(t, err, what)
		assert.True(t, Equal(v, again), what)
	}
}

// TestRandomValuesOfTheWholeLanguage writes and reads random values in both
// encodings, and has an independent reader look at the binary ones.
func TestRandomValuesOfTheWholeLanguage(t *testing.T) {
	m := messages(t, wholeLanguage+`message X { #1 a decimal? #2 b [date] #3 c duration = "PT1S" #4 d any? #5 e Passage? #6 f {Deck: decimal} #7 g {int8: X} #8 h [Passage] #9 i Deck? json "i-th" #10 j {Code: any} }`)["X"]
	rng := rand.New(rand.NewPCG(11, 23))
	for range 3000 {
		v := RandomMessage(rng, m, 4)
		b, err := EncodeCBOR(v)
		require.NoError(t, err)
		require.NoError(t, cbor.Wellformed(b))
		j, err := EncodeJSON(v)
		require.NoError(t, err)
		fromBinary, err := DecodeCBOR(m, b, 0)
		require.NoError(t, err, "%x", b)
		fromText, err := DecodeJSON(m, j, 0)
		require.NoError(t, err, "%s", j)
		require.True(t, Equal(fromBinary, fromText), "%x\n%s", b, j)
		again, err := EncodeCBOR(fromText)
		require.NoError(t, err)
		require.Equal(t, hex.EncodeToString(b), hex.EncodeToString(again), "%s", j)
	}
}

// TestMinimalKeepsBounds makes the smallest values of types with bounds.
func TestMinimalKeepsBounds(t *testing.T) {
	m := messages(t, wholeLanguage+`
type Few = [int32] where count 2..3, unique
message X {
  #1 a int32 where 5..9 #2 b int32 where <= -3 #3 c text where length 3..5 #4 d text where pattern "^[A-Z]{2}-[0-9]+$" #5 e bytes where length 4..4 #6 f Few #7 g {Deck: bool} where count 2..2
  #8 h decimal where "0.5".."0.75" #9 i date where >= "2026-01-01" #10 j duration where <= "-PT1S" #11 k float32 where >= 1 #12 l Passage #13 m instant where "2026-01-01T00:00:00Z".."2026-01-01T00:00:00Z" #14 n Code #15 o uint8 where >= 200
}`)["X"]
	assert.Empty(t, Validate(MinimalMessage(m)))
}

func TestBounds(t *testing.T) {
	m := messages(t, wholeLanguage+`
type Short = text where length 1..3
message X {
  #1 fare decimal? where "0.50".."12.5" #2 day date? where >= "2026-01-01" #3 wait duration? where <= "PT1H" #4 at instant? where <= "2026-01-01T00:00:00Z" #5 codes [Short]? where count 1..2, unique
  #6 keys {Short: int8}? where count <= 1 #7 fares [decimal]? where unique #8 passage Passage? #9 short Short? where length 2..9 json "short-one" #10 x [[float64]]? where unique #11 deck Deck?
}`)["X"]
	v, err := DecodeJSON(m, []byte(`{"fare":"0.4","day":"2025-12-31","wait":"PT3601S","at":"2026-01-01T00:00:00.5Z","codes":["a","","abcd","a"],"keys":{"a":1,"long~":2},"fares":["1.5","1.50",2],"passage":{"later":1},"short-one":"x","x":[[0],[-0],["NaN"],["NaN"]],"deck":9}`), 0)
	require.NoError(t, err)
	assert.Equal(t, []Violation{
		{Pointer: "/fare", Detail: "must be 0.50 to 12.5, not 0.4"},
		{Pointer: "/day", Detail: "must be at least 2026-01-01, not 2025-12-31"},
		{Pointer: "/wait", Detail: "must be at most PT3600S, not PT3601S"},
		{Pointer: "/at", Detail: "must be at most 2026-01-01T00:00:00Z, not 2026-01-01T00:00:00.5Z"},
		{Pointer: "/codes", Detail: "must have 1 to 2 entries, not 4"},
		{Pointer: "/codes/3", Detail: "must be unique, and is equal to element 0"},
		{Pointer: "/codes/1", Detail: "must have 1 to 3 characters, not 0"},
		{Pointer: "/codes/2", Detail: "must have 1 to 3 characters, not 4"},
		{Pointer: "/keys", Detail: "must have at most 1 entries, not 2"},
		{Pointer: "/keys/long~0", Detail: "must have 1 to 3 characters, not 5"},
		{Pointer: "/fares/1", Detail: "must be unique, and is equal to element 0"},
		{Pointer: "/passage", Detail: "must be one of foot, people, again"},
		{Pointer: "/short-one", Detail: "must have 2 to 9 characters, not 1"},
		{Pointer: "/x/3", Detail: "must be unique, and is equal to element 2"},
		{Pointer: "/deck", Detail: "must be one of open, carDeck, upper"},
	}, Validate(v))
	assert.Empty(t, Validate(&Message{Type: m, Fields: map[int]Value{1: schema.Decimal{Coefficient: "50", Scale: 2}}}))
}
