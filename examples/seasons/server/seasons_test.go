package main

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"skerry.example/seasons/gen/skerry/booking"
	"skerry.example/seasons/gen/skerry/fleet"
	booking1 "skerry.example/seasons/gen_1_0_0/skerry/booking"
	common1 "skerry.example/seasons/gen_1_0_0/skerry/common"
	fleet1 "skerry.example/seasons/gen_1_0_0/skerry/fleet"
)

func must[T any](t *testing.T) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

func equal[T comparable](t *testing.T, want, got T, what string) {
	t.Helper()
	if want != got {
		t.Errorf("%s: %v instead of %v", what, got, want)
	}
}

// TestBothSeasons lets clients of 1.0.0 and of today work on the same bookings.
func TestBothSeasons(t *testing.T) {
	server := httptest.NewServer(bothSeasons())
	defer server.Close()
	ctx := context.Background()
	first, today := booking1.NewBookingsClient(server.URL+"/v1"), booking.NewBookingsClient(server.URL)

	car, open := fleet1.DeckCar, fleet.DeckOpen
	old := must[*booking1.Booking](t)(first.Book(ctx,
		&booking1.BookRequest{Sailing: "EID-0715", Passengers: []booking1.Passenger{{Name: "Ada Maren"}},
			Vehicle: &booking1.Vehicle{Plate: "SK 4127", Metres: 4}, Deck: &car}))
	equal(t, 1250+400, old.Fare, "the fare, with the extras that 1.0.0 has no word for")
	equal(t, fleet1.DeckCar, old.DeckOrDefault(), "the deck")
	seen := must[*booking.Booking](t)(today.Booking(ctx, &booking.BookingRequest{ID: [16]byte(old.ID)}))
	equal(t, 1250, seen.Fare.Hundredths, "the fare, today")
	equal(t, 400, seen.Extras["car deck"].Hundredths, "the extra")
	equal(t, 4.0, seen.Vehicle.Metres, "the car")

	made := must[*booking.Booking](t)(today.Book(ctx,
		&booking.BookRequest{Sailing: "EID-0715", Passengers: []booking.Passenger{{Name: "Per"}, {Name: "Eli"}},
			Vehicle: &booking.Vehicle{Plate: "SK 88", Metres: 4.5}, Deck: &open}))
	again := must[*booking1.Booking](t)(first.Booking(ctx, &booking1.BookingRequest{ID: [16]byte(made.ID)}))
	equal(t, 5, again.Vehicle.Metres, "a started metre is a whole one")
	equal(t, 2, len(again.Passengers), "passengers")

	// Errors are those of each version, and so are bounds.
	var full *booking1.SailingFull
	_, err := first.Book(ctx, &booking1.BookRequest{Sailing: "EID-0715",
		Passengers: []booking1.Passenger{{Name: "a"}, {Name: "b"}, {Name: "c"}}})
	if !errors.As(err, &full) || full.SeatsLeft != 2 {
		t.Errorf("a full sailing: %v", err)
	}
	var missing *common1.NotFound
	if _, err := first.Booking(ctx, &booking1.BookingRequest{}); !errors.As(err, &missing) {
		t.Errorf("an unknown booking: %v", err)
	}
	if _, err := first.Book(ctx, &booking1.BookRequest{Sailing: "tomorrow",
		Passengers: []booking1.Passenger{{Name: "a"}}}); err == nil {
		t.Error("1.0.0 has bounds, too")
	}

	// Each half says which definitions it speaks.
	digests := map[string]bool{}
	for _, base := range []string{server.URL + "/v1", server.URL} {
		answer := must[*http.Response](t)(http.Post(base+"/skerry/booking/bookings/booking", "application/json",
			strings.NewReader("{}")))
		answer.Body.Close()
		digests[answer.Header.Get("Faithful-Definitions")] = true
	}
	equal(t, 2, len(digests), "digests")
}
