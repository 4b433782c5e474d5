package value

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// sequenceOf makes a sequence of bookings in both encodings, of at least size bytes
// of JSON.
func sequenceOf(t *testing.T, size int) (m *schema.Message, binary, text []byte) {
	t.Helper()
	var files []*source.File
	for _, name := range []string{"booking", "common", "fleet", "quay"} {
		b, err := os.ReadFile("../../examples/ferry/definitions/" + name + ".faithful")
		require.NoError(t, err)
		files = append(files, source.NewFile(name, string(b)))
	}
	defs, _ := check.Load(files)
	m = defs.Find("Booking")[0].(*schema.Message)
	maker := NewMaker(defs, 1)
	for range 200 {
		v, err := maker.Make(m)
		require.NoError(t, err)
		b, err := EncodeCBOR(v)
		require.NoError(t, err)
		binary = append(binary, b...)
		b, err = EncodeJSON(v)
		require.NoError(t, err)
		text = append(append(text, b...), '\n')
	}
	n := size/len(text) + 1
	return m, bytes.Repeat(binary, n), bytes.Repeat(text, n)
}

// A sequence is converted in the time of a part of what encoding/json takes to
// read the same values into maps. The target is a third; the bound is what only a
// mistake would miss on a busy machine.
func TestSpeedOfConverting(t *testing.T) {
	if testing.Short() {
		t.Skip("measuring is left out of the inner loop")
	}
	m, binary, text := sequenceOf(t, 8<<20)
	convert := func(c Conversion, data []byte) time.Duration {
		c.Message = m
		begin := time.Now()
		_, err := c.Run(bytes.NewReader(data), func([]byte, int) error { return nil })
		require.NoError(t, err)
		return time.Since(begin)
	}
	var toCBOR, toJSON, reference []time.Duration
	for range 3 {
		begin := time.Now()
		for d := json.NewDecoder(bytes.NewReader(text)); ; {
			var v map[string]any
			if err := d.Decode(&v); err == io.EOF {
				break
			} else if err != nil {
				require.NoError(t, err)
			}
		}
		reference = append(reference, time.Since(begin))
		toCBOR = append(toCBOR, convert(Conversion{ToCBOR: true}, text))
		toJSON = append(toJSON, convert(Conversion{}, binary))
	}
	ratio := func(list []time.Duration) float64 { return float64(median(list)) / float64(median(reference)) }
	t.Logf("of encoding/json into map[string]any: to CBOR %.2f, to JSON %.2f (target 0.33); encoding/json reads %.0f MB/s",
		ratio(toCBOR), ratio(toJSON), float64(len(text))/1e6/median(reference).Seconds())
	assert.Less(t, ratio(toCBOR), 0.6)
	assert.Less(t, ratio(toJSON), 0.6)
}

func median(list []time.Duration) time.Duration {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[len(sorted)/2]
}
