package value

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
)

const everyShape = `module a
enum Deck { #0 open #1 car json "carDeck" #300 upper }
type Code = text
union Passage { #1 foot Leaf #2 group [text] json "people" #3 again Passage }
message Leaf { #1 a int32? }
message All {
  #1 a bool #2 b int8 #3 c int64 #4 d uint8 #5 e uint64 #6 f float32 #7 g float64 #8 h decimal #9 i text #10 j bytes
  #11 k uuid #12 l instant #13 m date #14 n duration #15 o any #16 p [Leaf] #17 q {text: int16} #18 r {int32: text} #19 s {Deck: Deck}
  #20 t Passage #21 u Code #22 v Deck #23 w int32 = 7 #24 x text = "as it is" #25 y Deck = car #26 z All? #27 aa [[uint64]]
  #30 ab {uint64: decimal}? #300 ac any? #301 ad float64 = 0.5 #302 ae instant?
}
message Plain { #1 a bool #2 b int32 #3 c text #4 d {text: [float64]} #5 e decimal #6 f instant #7 g [Plain] #8 h text = "x" #9 i Deck? #10 j uuid #11 k uint64 }
`

// bothWays holds a converter against the reader and writer that it stands for.
func bothWays(t *testing.T, c *Converter, m *schema.Message, data []byte, isCBOR bool) {
	t.Helper()
	var want, got []byte
	var wantErr, gotErr error
	var read *Message
	if isCBOR {
		if read, wantErr = DecodeCBOR(m, data, 0); wantErr == nil {
			want, wantErr = EncodeJSON(read)
		}
		got, gotErr = c.ToJSON(nil, data)
	} else {
		if read, wantErr = DecodeJSON(m, data, 0); wantErr == nil {
			want, wantErr = EncodeCBOR(read)
		}
		got, gotErr = c.ToCBOR(nil, data)
	}
	require.Equal(t, wantErr, gotErr, "%q", data)
	if wantErr == nil {
		require.Equal(t, want, got, "%q", data)
	}
}

func TestConverterGivesWhatTheReaderGives(t *testing.T) {
	defs := loaded(t, everyShape)
	rng := rand.New(rand.NewPCG(3, 4))
	for _, m := range defs.Modules[0].Messages {
		c := NewConverter(m, 0)
		for i := range 1500 {
			v := RandomMessage(rng, m, i%4)
			binary, err := EncodeCBOR(v)
			require.NoError(t, err)
			text, err := EncodeJSON(v)
			require.NoError(t, err)
			bothWays(t, c, m, binary, true)
			bothWays(t, c, m, text, false)
			bothWays(t, c, m, indentedJSON(text), false)
			for range 4 {
				bothWays(t, c, m, mutated(rng, binary), true)
				bothWays(t, c, m, mutated(rng, text), false)
			}
		}
	}
	// What writers write goes the straight way, or the tests above compare nothing.
	plain := defs.Modules[0].Messages[2]
	require.Equal(t, "Plain", plain.Name)
	c := NewConverter(plain, 0)
	maker := NewMaker(defs, 1)
	for range 300 {
		v, err := maker.Make(plain)
		require.NoError(t, err)
		binary, err := EncodeCBOR(v)
		require.NoError(t, err)
		text, err := c.ToJSON(nil, binary)
		require.NoError(t, err)
		back, err := c.ToCBOR(nil, text)
		require.NoError(t, err)
		require.Equal(t, binary, back)
	}
	assert.Zero(t, c.slow)
}

func indentedJSON(text []byte) []byte {
	// Blanks between all tokens that are not in strings.
	var out []byte
	inText := false
	for i, b := range text {
		if b == '"' && (i == 0 || text[i-1] != '\\') {
			inText = !inText
		}
		out = append(out, b)
		if !inText && strings.IndexByte("{}[],:", b) >= 0 {
			out = append(out, " \n\t"...)
		}
	}
	return out
}

func mutated(rng *rand.Rand, data []byte) []byte {
	out := bytes.Clone(data)
	for range 1 + rng.IntN(2) {
		i := rng.IntN(len(out))
		switch rng.IntN(4) {
		case 0:
			out[i] = byte(rng.Uint32())
		case 1:
			out = append(out[:i], out[min(i+1+rng.IntN(3), len(out)):]...)
		case 2:
			out = append(out[:i], append([]byte{out[i]}, out[i:]...)...)
		case 3:
			j := rng.IntN(len(out))
			out[i], out[j] = out[j], out[i]
		}
		if len(out) == 0 {
			return []byte{0}
		}
	}
	return out
}

func elementsOf(t *testing.T, e *Elements) (list []string, offsets []int64, err error) {
	t.Helper()
	for {
		one, err := e.Next()
		if err != nil || one == nil {
			return list, offsets, err
		}
		list, offsets = append(list, string(one)), append(offsets, e.Offset())
	}
}

// However the bytes come, the elements are the same.
func TestElementsOfSequences(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	var items []string
	for range 300 {
		var v any = map[string]any{strings.Repeat("k", rng.IntN(40)): []any{rng.Uint64(), "é", []byte{1, 2},
			map[int]any{1: cbor.Tag{Number: 1001, Content: map[int]int{1: 2}}}, 1.5, nil}}
		b, err := cbor.Marshal(v)
		require.NoError(t, err)
		items = append(items, string(b))
	}
	items = append(items, "\xbf\x01\x9f\x01\x02\xff\xff", "\x5f\x41a\x42bc\xff", "\xa0", "\x80", "\xc1\x00", "\x00")
	whole := strings.Join(items, "")
	for name, in := range map[string]io.Reader{"at once": strings.NewReader(whole),
		"byte by byte": iotest.OneByteReader(strings.NewReader(whole)),
		"in halves":    iotest.HalfReader(strings.NewReader(whole))} {
		got, offsets, err := elementsOf(t, NewCBORElements(in, 0))
		require.NoError(t, err, name)
		require.Equal(t, items, got, name)
		require.Equal(t, int64(len(whole)-1), offsets[len(offsets)-1])
	}
	for _, text := range []string{"{\"a\":1}\n{\"b\":\"}\\\"{\"}\n", "\x1e{\"a\":1}\n\x1e{\"b\":\"}\\\"{\"}\n",
		"  {\"a\":1}{\"b\":\"}\\\"{\"}"} {
		got, _, err := elementsOf(t, NewJSONElements(iotest.OneByteReader(strings.NewReader(text)), 0))
		require.NoError(t, err)
		require.Equal(t, []string{`{"a":1}`, `{"b":"}\"{"}`}, got, "%q", text)
	}
	// What is cut off, or no payload at all, is handed on as it is.
	for text, want := range map[string][]string{"{\"a\":1}\n{\"b\":": {`{"a":1}`, `{"b":`},
		"nonsense\n{}": {"nonsense\n", "{}"}, "": nil, " \n": nil, "\"text\"\n7": {"\"text\"\n", "7"}} {
		got, _, err := elementsOf(t, NewJSONElements(strings.NewReader(text), 0))
		require.NoError(t, err)
		require.Equal(t, want, got, "%q", text)
	}
	for hex, want := range map[string][]string{"\xa1\x01": {"\xa1\x01"}, "\xff": {"\xff"},
		"\x5b\xff\xff\xff\xff\xff\xff\xff\xffa": {"\x5b\xff\xff\xff\xff\xff\xff\xff\xffa"}} {
		got, _, err := elementsOf(t, NewCBORElements(strings.NewReader(hex), 0))
		require.NoError(t, err)
		require.Equal(t, want, got, "%q", hex)
	}
	_, _, err := elementsOf(t, NewCBORElements(strings.NewReader("\xa0\x59\xff\xff"+strings.Repeat("x", 1000)), 500))
	var e *Error
	require.ErrorAs(t, err, &e)
	assert.True(t, e.TooLarge)
	assert.Equal(t, 1, e.Offset)
	failing := fmt.Errorf("the disk is gone")
	_, _, err = elementsOf(t, NewCBORElements(iotest.ErrReader(failing), 0))
	assert.True(t, errors.Is(err, failing))
}

func TestConversionOfSequences(t *testing.T) {
	defs := loaded(t, everyShape)
	leaf := defs.Find("Leaf")[0].(*schema.Message)
	const n = 50_000
	var text, lines, binary bytes.Buffer
	for i := range n {
		fmt.Fprintf(&text, "{\"a\": %d}  ", i)
		fmt.Fprintf(&lines, "{\"a\":%d}\n", i)
		b, err := cbor.Marshal(map[int]int{1: i})
		require.NoError(t, err)
		binary.Write(b)
	}
	run := func(c Conversion, in io.Reader) (string, int, error) {
		c.Message = leaf
		var out bytes.Buffer
		written := 0
		count, err := c.Run(in, func(b []byte, elements int) error {
			out.Write(b)
			written += elements
			return nil
		})
		assert.Equal(t, count, written)
		return out.String(), count, err
	}
	got, count, err := run(Conversion{ToCBOR: true}, &text)
	require.NoError(t, err)
	require.Equal(t, n, count)
	require.Equal(t, binary.String(), got)
	got, count, err = run(Conversion{}, iotest.HalfReader(bytes.NewReader(binary.Bytes())))
	require.NoError(t, err)
	require.Equal(t, n, count)
	require.Equal(t, lines.String(), got)

	// What comes before a mistake is written; the mistake has its place.
	broken := append(bytes.Clone(binary.Bytes()), 0xa1, 1, 0x61, 'x')
	got, count, err = run(Conversion{}, bytes.NewReader(broken))
	require.Equal(t, n, count)
	require.Equal(t, lines.String(), got)
	var at *SequenceError
	require.ErrorAs(t, err, &at)
	assert.Equal(t, n+1, at.Element)
	assert.Equal(t, fmt.Sprintf("element %d: /a: expected int32, found a text (byte %d)", n+1, binary.Len()+2),
		err.Error())

	_, count, err = run(Conversion{ToCBOR: true, Limit: 100},
		strings.NewReader("{}{}{\"a\": \""+strings.Repeat("x", 2000)))
	require.ErrorAs(t, err, &at)
	assert.Equal(t, 2, count)
	assert.Equal(t, "element 3: the payload: an element of more than 100 bytes (byte 4)", err.Error())

	gone := errors.New("the disk is gone")
	_, _, err = run(Conversion{ToCBOR: true}, io.MultiReader(strings.NewReader("{}"), iotest.ErrReader(gone)))
	assert.ErrorIs(t, err, gone)
	_, err = (&Conversion{Message: leaf, ToCBOR: true}).Run(strings.NewReader(strings.Repeat("{}", 1000)),
		func([]byte, int) error { return gone })
	assert.ErrorIs(t, err, gone)
}

// FuzzConverter holds a converter against the reader and writer that it stands
// for, on anything.
func FuzzConverter(f *testing.F) {
	defs := loaded(f, everyShape)
	rng := rand.New(rand.NewPCG(7, 8))
	for i := range 30 {
		v := RandomMessage(rng, defs.Modules[0].Messages[i%3], 3)
		binary, err := EncodeCBOR(v)
		require.NoError(f, err)
		text, err := EncodeJSON(v)
		require.NoError(f, err)
		f.Add(binary)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, m := range defs.Modules[0].Messages {
			c := NewConverter(m, 0)
			bothWays(t, c, m, data, true)
			bothWays(t, c, m, data, false)
			_, _ = Dump(m, data) // it ends, and does not fall over
		}
	})
}
