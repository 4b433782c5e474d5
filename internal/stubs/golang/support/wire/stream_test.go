package wire

import (
	"bytes"
	"encoding/hex"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// items are well-formed CBOR, one of each shape.
var items = []string{"00", "1903e8", "3863", "f5", "f97e00", "fb3ff8000000000000", "60", "6161",
	"7818" + "616161616161616161616161616161616161616161616161", "7f616161626163ff", "5f41004101ff",
	"80", "820102", "9f01820203ff", "a0", "a10102", "bf6161016162a0ff", "c11a00000001", "c1c1c10a", "a101a101a101a10180",
	"a1028260d9d9f7a0", "9f9fff60ff"}

// TestSplitting cuts a sequence at every byte: the elements come out the same.
func TestSplitting(t *testing.T) {
	var cbor, json []byte
	var wantCBOR, wantJSON []string
	for _, item := range items {
		b, err := hex.DecodeString(item)
		require.NoError(t, err)
		cbor = append(cbor, b...)
		wantCBOR = append(wantCBOR, item)
	}
	for _, element := range []string{`{"value":{"a":"}\"{\\"}}`, `{"end":{}}`, `{"heartbeat":[[{}],"]"]}`, `{}`,
		"{\n\"x\":\n1}"} {
		json = append(append(append(json, 0x1e), element...), '\n')
		wantJSON = append(wantJSON, element)
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for round := range 300 {
		for _, encoding := range []struct {
			json     bool
			sequence []byte
			want     []string
		}{{false, cbor, wantCBOR}, {true, json, wantJSON}} {
			s := NewSplitter(encoding.json)
			var buffer []byte
			var got []string
			for rest := encoding.sequence; len(rest) > 0; {
				step := 1
				if round > 0 {
					step = min(len(rest), 1+rng.IntN(20))
				}
				buffer, rest = append(buffer, rest[:step]...), rest[step:]
				for {
					from, n, err := s.Next(buffer)
					require.NoError(t, err)
					if n == 0 {
						break
					}
					element := buffer[from:n]
					if encoding.json {
						got = append(got, string(element))
					} else {
						got = append(got, hex.EncodeToString(element))
					}
					buffer = buffer[n:]
				}
			}
			assert.Equal(t, encoding.want, got)
			assert.Empty(t, bytes.TrimSpace(buffer))
		}
	}
	for _, bad := range []string{"ff", "1c", "9b7fffffffffffffff", "5b7fffffffffffffff",
		hex.EncodeToString(bytes.Repeat([]byte{0x81}, 1000))} {
		b, _ := hex.DecodeString(bad)
		_, _, err := NewSplitter(false).Next(b)
		assert.Error(t, err, bad)
	}
	_, _, err := NewSplitter(true).Next([]byte("x"))
	assert.Error(t, err)
}
