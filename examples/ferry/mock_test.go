package ferry

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/internal/check"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/toolchain"
)

// TestMockIsQuick holds the calls a second of a mock, which logs each, against
// those of a generated Go server that gives the same answers. The target is 0.5.
func TestMockIsQuick(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	paths, err := filepath.Glob("definitions/*.faithful")
	require.NoError(t, err)
	var files []*source.File
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		files = append(files, source.NewFile(path, string(text)))
	}
	defs, _ := check.Load(files)
	sheet, err := os.ReadFile("answers.toml")
	require.NoError(t, err)
	read, err := remote.ReadSheet(defs, source.NewFile("answers.toml", string(sheet)), remote.Sampled(defs, 0))
	require.NoError(t, err)
	mock, err := remote.NewMock(defs, read, remote.MockOptions{Log: func(l *remote.Logged) {
		fmt.Fprintln(io.Discard, l.At, l.Status, l.Call, l.Answer, l.Took, l.Method, l.Path)
	}})
	require.NoError(t, err)
	mocked := httptest.NewServer(mock)
	defer mocked.Close()
	ctx := context.Background()
	answer, err := booking.NewBookingsClient(mocked.URL).Sailings(ctx, &booking.SailingsRequest{})
	require.NoError(t, err)
	generated := httptest.NewServer(booking.ServeBookings(booking.BookingsCalls{Sailings: func(context.Context,
		*booking.SailingsRequest) (*booking.SailingsAnswer, error) {
		return answer, nil
	}}))
	defer generated.Close()
	same, err := booking.NewBookingsClient(generated.URL).Sailings(ctx, &booking.SailingsRequest{})
	require.NoError(t, err)
	a, err := answer.MarshalBinary()
	require.NoError(t, err)
	b, err := same.MarshalBinary()
	require.NoError(t, err)
	require.True(t, bytes.Equal(a, b), "the same answers")

	many := func(base string) time.Duration {
		client := booking.NewBookingsClient(base)
		begin := time.Now()
		for range 1500 {
			_, err := client.Sailings(ctx, &booking.SailingsRequest{})
			require.NoError(t, err)
		}
		return time.Since(begin)
	}
	share := toolchain.Measured(func(share float64) bool { return share >= 0.5 }, func() float64 {
		best := 0.0
		for range 3 {
			best = max(best, float64(many(generated.URL))/float64(many(mocked.URL)))
		}
		return best
	})
	t.Logf("a mock answers %.2f of the calls a second of a generated server (target 0.5)", share)
	assert.Greater(t, share, 0.3)
}
