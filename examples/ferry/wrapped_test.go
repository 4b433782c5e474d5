package ferry

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/http/httptest"
	"reflect"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

// quayCalls are streams that end at once.
var quayCalls = quay.QuayCalls{
	Follow: func(_ context.Context, _ *quay.FollowRequest, send func(*fleet.Position) error) error {
		return send(&fleet.Position{})
	},
	Talk: func(context.Context, iter.Seq2[*quay.Signal, error], func(*quay.Signal) error) error { return nil },
}

// TestClientMiddlewareSeesEveryCall counts what goes through it, sockets included.
func TestClientMiddlewareSeesEveryCall(t *testing.T) {
	server := httptest.NewServer(quay.ServeQuay(quayCalls))
	defer server.Close()
	var seen []string
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithClientMiddleware(
		func(r *http.Request, next func(*http.Request) (*http.Response, error)) (*http.Response, error) {
			seen = append(seen, r.Method+" "+r.Header.Get("Upgrade"))
			response, err := next(r)
			if err == nil {
				response.Body = io.NopCloser(response.Body) // which hides what else it is
			}
			return response, err
		}))
	ctx := context.Background()
	for range client.Follow(ctx, &quay.FollowRequest{}) {
		continue
	}
	talk, err := client.Talk(ctx)
	require.NoError(t, err)
	talk.Close()
	assert.Equal(t, []string{"GET ", "GET websocket"}, seen)
}

// TestMiddlewareIsAroundAStream looks at what middleware of a server sees of a stream, and
// that it can't make a whole one of half.
func TestMiddlewareIsAroundAStream(t *testing.T) {
	var happened []string
	broken := errors.New("the line is cut")
	calls := quay.QuayCalls{
		Follow: func(_ context.Context, request *quay.FollowRequest, send func(*fleet.Position) error) error {
			happened = append(happened, "element")
			if err := send(&fleet.Position{}); err != nil || len(request.Decks) == 0 {
				return err
			}
			return broken
		},
	}
	server := httptest.NewServer(quay.ServeQuay(calls, web.WithOnError(func(context.Context, string, error) {}),
		web.WithMiddleware(func(ctx context.Context, _ *web.Call, next func(context.Context) error) error {
			happened = append(happened, "before")
			if err := next(ctx); err != nil && !errors.Is(err, broken) {
				return err
			}
			happened = append(happened, "after")
			return nil
		})))
	defer server.Close()
	client := quay.NewQuayClient(server.URL)
	var failed error
	for _, request := range []*quay.FollowRequest{{}, {Decks: []fleet.Deck{fleet.DeckCar}}} {
		require.NoError(t, failed)
		for _, err := range client.Follow(context.Background(), request) {
			failed = err
		}
	}
	var problem *web.Problem
	require.ErrorAs(t, failed, &problem)
	assert.Equal(t, []string{"before", "element", "after", "before", "element", "after"}, happened)
}

// TestNothingIsNoRequest gives clients nil.
func TestNothingIsNoRequest(t *testing.T) {
	server := httptest.NewServer(quay.ServeQuay(quayCalls))
	defer server.Close()
	ctx := context.Background()
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithCredential("door", "north pier"))
	const says = "what is sent is nil"
	_, err := booking.NewBookingsClient(server.URL).Book(ctx, nil)
	require.ErrorContains(t, err, says)
	for _, err := range client.Follow(ctx, nil) {
		require.ErrorContains(t, err, says)
	}
	require.ErrorContains(t, client.Board(ctx).Send(nil), says)
}

// TestForeignValues holds scalars to what other packages ask of them.
func TestForeignValues(t *testing.T) {
	id := wire.NewUUID()
	assert.NotEqual(t, id, wire.NewUUID())
	assert.Equal(t, byte(0x40), id[6]&0xf0)
	text, err := json.Marshal(map[wire.UUID]wire.Decimal{id: wire.MustDecimal("12.50")})
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf(`{"%s":"12.50"}`, id), string(text))
	day := wire.NewDate(2026, time.July, 15)
	for _, v := range []interface {
		driver.Valuer
		fmt.Stringer
	}{id, wire.MustDecimal("-0.50"), day} {
		column, err := v.Value()
		require.NoError(t, err)
		assert.Equal(t, v.String(), column)
		for _, column := range []any{column, []byte(v.String())} {
			again := reflect.New(reflect.TypeOf(v))
			require.NoError(t, again.Interface().(sql.Scanner).Scan(column))
			assert.Equal(t, v, again.Elem().Interface())
			require.Error(t, again.Interface().(sql.Scanner).Scan(true))
			require.Error(t, again.Interface().(sql.Scanner).Scan("x"))
		}
	}
	var other wire.UUID
	require.NoError(t, other.Scan(id[:]))
	assert.Equal(t, id, other)
	var date wire.Date
	require.NoError(t, date.Scan(time.Date(2026, time.July, 15, 23, 0, 0, 0, time.UTC)))
	assert.Equal(t, day, date)
	var decimal wire.Decimal
	require.NoError(t, decimal.Scan(int64(7)))
	assert.Equal(t, "7", decimal.String())
	require.Error(t, decimal.Scan(1.5))

	type word string
	mixed, err := wire.AnyOf(map[word]any{"a": []string{"b"}, "c": []int{1}, "d": (*int)(nil), "e": word("f")})
	require.NoError(t, err)
	assert.JSONEq(t, `{"a":["b"],"c":[1],"d":null,"e":"f"}`, mixed.String())
	for _, none := range []any{[]byte("b"), struct{}{}, map[int]string{}, func() {}} {
		_, err := wire.AnyOf(none)
		require.Error(t, err, "%T", none)
	}
	assert.False(t, reflect.TypeFor[wire.Any]().Comparable())
}

// bare is a writer of responses as careless wrappers make it: it has no Flush, and no Unwrap.
type bare struct{ inner http.ResponseWriter }

func (b bare) Header() http.Header            { return b.inner.Header() }
func (b bare) WriteHeader(status int)         { b.inner.WriteHeader(status) }
func (b bare) Write(data []byte) (int, error) { return b.inner.Write(data) }

// unwrapped is one that says what it wraps.
type unwrapped struct{ bare }

func (u unwrapped) Unwrap() http.ResponseWriter { return u.inner }

// TestWrappedWriters streams through writers that others have wrapped.
func TestWrappedWriters(t *testing.T) {
	for name, wrap := range map[string]func(http.ResponseWriter) http.ResponseWriter{
		"bare":      func(w http.ResponseWriter) http.ResponseWriter { return bare{w} },
		"unwrapped": func(w http.ResponseWriter) http.ResponseWriter { return unwrapped{bare{w}} },
	} {
		var told []error
		served := quay.ServeQuay(quayCalls,
			web.WithOnError(func(_ context.Context, _ string, err error) { told = append(told, err) }))
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			served.ServeHTTP(wrap(w), r)
		}))
		elements := 0
		var failed error
		client := quay.NewQuayClient(server.URL)
		for _, err := range client.Follow(context.Background(), &quay.FollowRequest{}) {
			if failed = err; err == nil {
				elements++
			}
		}
		server.Close()
		if name == "unwrapped" {
			require.NoError(t, failed)
			assert.Equal(t, 1, elements)
			assert.Empty(t, told)
			continue
		}
		var problem *web.Problem
		require.ErrorAs(t, failed, &problem)
		assert.Equal(t, "internal", problem.Name())
		require.Len(t, told, 1)
		assert.ErrorContains(t, told[0], "give it a method Unwrap() http.ResponseWriter")
	}
}

// TestCallsAtOnceShareConnections counts the connections of many callers of one client.
func TestCallsAtOnceShareConnections(t *testing.T) {
	var opened atomic.Int64
	server := httptest.NewUnstartedServer(booking.ServeBookings(booking.BookingsCalls{
		Sailings: func(context.Context, *booking.SailingsRequest) (*booking.SailingsAnswer, error) {
			return &booking.SailingsAnswer{}, nil
		},
	}))
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			opened.Add(1)
		}
	}
	server.Start()
	defer server.Close()
	client := booking.NewBookingsClient(server.URL)
	var group sync.WaitGroup
	for range 32 {
		group.Add(1)
		go func() {
			defer group.Done()
			for range 40 {
				_, err := client.Sailings(context.Background(), &booking.SailingsRequest{})
				assert.NoError(t, err)
			}
		}()
	}
	group.Wait()
	assert.LessOrEqual(t, opened.Load(), int64(64), "connections of 32 callers")
}
