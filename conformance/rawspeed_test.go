package conformance

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
	"faithfulcourier/internal/toolchain"
)

// rawFloors are how fast a body travels as it is at least, as a part of the bare transport's speed: bounds
// that only a mistake goes under, a copy too many or a wait for each piece. The target is 0.8, and what
// was measured against it is in docs/speed.md; on a busy machine, a single run has been as low as 0.59.
var rawFloors = map[string]float64{"go": 0.5, "typescript": 0.5, "python": 0.5}

const rawMiB = 200

// zeros is so much of nothing.
func zeros() io.Reader {
	block := bytes.Repeat([]byte{0}, 64<<10)
	readers := make([]io.Reader, rawMiB*16)
	for i := range readers {
		readers[i] = bytes.NewReader(block)
	}
	return io.MultiReader(readers...)
}

// TestRawBodiesFast measures bodies that travel as they are, up and down, in each language against what
// carries them there: net/http, node:http, uvicorn with http.client. It takes medians, and measures
// again where they are not good enough.
func TestRawBodiesFast(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what is measured")
	}
	for language, measure := range map[string]func(t *testing.T) func() (up, down float64){
		"go": rawSpeedOfGo,
		"typescript": func(t *testing.T) func() (up, down float64) {
			toolchain.Require(t, "typescript")
			return rawSpeedOf(t, ".", "node", filepath.Join(typescriptPrograms(t), "matrix", "rawspeed.js"))
		},
		"python": func(t *testing.T) func() (up, down float64) {
			return rawSpeedOf(t, "python", toolchain.Python(t), "-m", "matrix.rawspeed")
		},
	} {
		t.Run(language, func(t *testing.T) {
			again := measure(t)
			var up, down float64
			lowest := toolchain.Measured(func(ratio float64) bool { return ratio >= rawFloors[language] }, func() float64 {
				up, down = again()
				return min(up, down)
			})
			t.Logf("up %.2f, down %.2f of the bare transport's speed", up, down)
			assert.GreaterOrEqual(t, lowest, rawFloors[language])
		})
	}
}

// rawSpeedOf measures in a program that prints both ratios.
func rawSpeedOf(t *testing.T, dir, program string, args ...string) func() (up, down float64) {
	return func() (up, down float64) {
		shown := toolchain.Run(t, dir, program, append(args, strconv.Itoa(rawMiB))...)
		_, err := fmt.Sscan(strings.TrimSpace(shown), &up, &down)
		require.NoError(t, err, "%s", shown)
		return up, down
	}
}

func rawSpeedOfGo(t *testing.T) func() (up, down float64) {
	const size = int64(rawMiB) << 20
	ours := httptest.NewServer(matrix.ServePier(matrix.PierCalls{
		Stow: func(_ context.Context, crate *matrix.Crate) (*matrix.Total, error) {
			n, err := io.Copy(io.Discard, crate.Load)
			return &matrix.Total{Total: uint64(n)}, err
		},
		Unload: func(context.Context, *matrix.CrateRequest) (*matrix.Unloaded, error) {
			return &matrix.Unloaded{Load: web.Body{Reader: zeros(), Length: size}}, nil
		},
	}))
	t.Cleanup(ours.Close)
	client := matrix.NewPierClient(ours.URL)
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			w.Header().Set("Content-Length", strconv.FormatInt(size, 10))
			_, _ = io.Copy(w, zeros())
			return
		}
		n, _ := io.Copy(io.Discard, r.Body)
		_, _ = fmt.Fprint(w, n)
	}))
	t.Cleanup(bare.Close)
	took := func(act func() int64) float64 {
		start := time.Now()
		require.Equal(t, size, act())
		return time.Since(start).Seconds()
	}
	ratio := func(theirs, ours func() int64) float64 {
		all := make([]float64, 9)
		for i := range all {
			all[i] = took(theirs) / took(ours)
		}
		slices.Sort(all)
		return all[len(all)/2]
	}
	return func() (up, down float64) {
		return ratio(func() int64 {
				r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, bare.URL, zeros())
				require.NoError(t, err)
				r.ContentLength = size
				response, err := http.DefaultClient.Do(r)
				require.NoError(t, err)
				defer response.Body.Close()
				var n int64
				_, err = fmt.Fscan(response.Body, &n)
				require.NoError(t, err)
				return n
			}, func() int64 {
				total, err := client.Stow(t.Context(), &matrix.Crate{Load: web.Body{Reader: zeros(), Length: size}})
				require.NoError(t, err)
				return int64(total.Total)
			}), ratio(func() int64 {
				response, err := http.Get(bare.URL)
				require.NoError(t, err)
				defer response.Body.Close()
				n, err := io.Copy(io.Discard, response.Body)
				require.NoError(t, err)
				return n
			}, func() int64 {
				answer, err := client.Unload(t.Context(), &matrix.CrateRequest{Size: uint64(size)})
				require.NoError(t, err)
				n, err := io.Copy(io.Discard, answer.Load)
				require.NoError(t, err)
				return n
			})
	}
}
