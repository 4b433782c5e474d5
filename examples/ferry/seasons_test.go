package ferry

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	booking1 "faithfulcourier/examples/ferry/go/gen_1_0_0/skerry/booking"
	common1 "faithfulcourier/examples/ferry/go/gen_1_0_0/skerry/common"
	fleet1 "faithfulcourier/examples/ferry/go/gen_1_0_0/skerry/fleet"
	"faithfulcourier/internal/toolchain"
)

// TestOneProgramServesTwoVersions lets clients of 1.0.0 and of today work on the
// same bookings, through one server.
func TestOneProgramServesTwoVersions(t *testing.T) {
	program := t.TempDir() + "/seasons"
	toolchain.Run(t, ".", "go", "build", "-o", program, "./go/seasons")
	address := start(t, []string{program})
	ctx := context.Background()
	first, today := booking1.NewBookingsClient(address+"/v1"), booking.NewBookingsClient(address)

	old, err := first.Book(ctx, &booking1.BookRequest{Sailing: "NOR-0715", Passengers: []booking1.Passenger{{Name: "Ada Maren"}},
		Vehicle: &booking1.Vehicle{Plate: "SK 4127", Metres: 4}, Deck: new(fleet1.DeckCar)})
	require.NoError(t, err)
	assert.Equal(t, int64(1250+400), old.Fare, "with the extras that 1.0.0 has no word for")
	assert.Equal(t, fleet1.DeckCar, old.DeckOrDefault())
	b, err := today.Booking(ctx, &booking.BookingRequest{ID: [16]byte(old.ID)})
	require.NoError(t, err)
	assert.Equal(t, int64(1250), b.Fare.Hundredths)
	assert.Equal(t, int64(400), b.Extras["car deck"].Hundredths)
	assert.InEpsilon(t, 4.0, b.Vehicle.Metres, 0)

	made, err := today.Book(ctx, &booking.BookRequest{Sailing: "NOR-0715", Passengers: []booking.Passenger{{Name: "Per"}, {Name: "Eli"}},
		Vehicle: &booking.Vehicle{Plate: "SK 88", Metres: 4.5}, Deck: new(fleet.DeckOpen)})
	require.NoError(t, err)
	seen, err := first.Booking(ctx, &booking1.BookingRequest{ID: [16]byte(made.ID)})
	require.NoError(t, err)
	assert.Equal(t, int32(5), seen.Vehicle.Metres, "a started metre is a whole one")
	assert.Len(t, seen.Passengers, 2)

	// Errors are those of each version.
	_, err = first.Book(ctx, &booking1.BookRequest{Sailing: "NOR-0715", Passengers: make([]booking1.Passenger, 3), Email: nil})
	require.Error(t, err, "passengers without names are refused by 1.0.0, too")
	three := []booking1.Passenger{{Name: "a"}, {Name: "b"}, {Name: "c"}}
	_, err = first.Book(ctx, &booking1.BookRequest{Sailing: "NOR-0715", Passengers: three})
	var full *booking1.SailingFull
	require.ErrorAs(t, err, &full)
	assert.Equal(t, int32(2), full.SeatsLeft)
	_, err = first.Booking(ctx, &booking1.BookingRequest{})
	var missing *common1.NotFound
	require.ErrorAs(t, err, &missing)

	// Each half says which definitions it speaks.
	digests := map[string]bool{}
	for _, base := range []string{address + "/v1", address} {
		answer, err := http.Post(base+"/skerry/booking/bookings/booking", "application/json", strings.NewReader(`{}`))
		require.NoError(t, err)
		answer.Body.Close()
		digests[answer.Header.Get("Faithful-Definitions")] = true
	}
	assert.Len(t, digests, 2)

	// The stubs of 1.0.0 are those that generate makes today.
	output, err := toolchain.Faithful(t, ".", "generate", "--of", "1.0.0", "--only", "go", "--dry").CombinedOutput()
	require.NoError(t, err, "%s", output)
	toolchain.Run(t, ".", "go", "vet", "./go/...")
}
