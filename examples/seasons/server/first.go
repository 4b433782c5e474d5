package main

import (
	"context"
	"math"
	"net/http"

	"skerry.example/seasons/gen/faithful/wire"
	"skerry.example/seasons/gen/skerry/booking"
	"skerry.example/seasons/gen/skerry/common"
	"skerry.example/seasons/gen/skerry/fleet"
	web1 "skerry.example/seasons/gen_1_0_0/faithful/web"
	wire1 "skerry.example/seasons/gen_1_0_0/faithful/wire"
	booking1 "skerry.example/seasons/gen_1_0_0/skerry/booking"
	common1 "skerry.example/seasons/gen_1_0_0/skerry/common"
	fleet1 "skerry.example/seasons/gen_1_0_0/skerry/fleet"
)

// firstSeason serves 1.0.0: requests are turned into those of today, answers and
// errors back. What 1.0.0 had no word for is left out.
func firstSeason(l *line) http.Handler {
	return booking1.ServeBookings(booking1.BookingsCalls{
		Book: func(ctx context.Context, request *booking1.BookRequest) (*booking1.Booking, error) {
			today := &booking.BookRequest{Sailing: request.Sailing, Deck: as[fleet.Deck](request.Deck), Email: request.Email}
			for _, p := range request.Passengers {
				today.Passengers = append(today.Passengers, booking.Passenger{Name: p.Name, Born: p.Born, NeedsHelp: p.NeedsHelp})
			}
			if v := request.Vehicle; v != nil {
				today.Vehicle = &booking.Vehicle{Plate: v.Plate, Metres: float64(v.Metres)}
			}
			b, err := l.book(ctx, today)
			return firstBooking(b), firstError(err)
		},
		Booking: func(ctx context.Context, request *booking1.BookingRequest) (*booking1.Booking, error) {
			b, err := l.find(ctx, &booking.BookingRequest{ID: wire.UUID(request.ID)})
			return firstBooking(b), firstError(err)
		},
	}, web1.WithBase("/v1"))
}

// firstBooking is a booking as 1.0.0 has it: the fare with all extras in
// hundredths, metres in whole ones.
func firstBooking(b *booking.Booking) *booking1.Booking {
	if b == nil {
		return nil
	}
	first := &booking1.Booking{
		ID:      wire1.UUID(b.ID),
		Sailing: b.Sailing,
		Fare:    b.Fare.Hundredths,
		MadeAt:  b.MadeAt,
		State:   as[booking1.BookingState](b.State),
		Deck:    as[fleet1.Deck](b.Deck),
		Email:   b.Email,
		Ticket:  b.Ticket,
	}
	for _, p := range b.Passengers {
		first.Passengers = append(first.Passengers, booking1.Passenger{Name: p.Name, Born: p.Born, NeedsHelp: p.NeedsHelp})
	}
	if v := b.Vehicle; v != nil {
		first.Vehicle = &booking1.Vehicle{Plate: v.Plate, Metres: int32(math.Ceil(v.Metres))}
	}
	for _, extra := range b.Extras {
		first.Fare += extra.Hundredths
	}
	return first
}

// as turns a member of an enum, or nil, into that of another version, by its name.
func as[To, From ~string](member *From) *To {
	if member == nil {
		return nil
	}
	to := To(*member)
	return &to
}

// firstError is an error as 1.0.0 has it.
func firstError(err error) error {
	if full, ok := asToday[*booking.SailingFull](err); ok {
		return &booking1.SailingFull{SeatsLeft: full.SeatsLeft}
	}
	if missing, ok := asToday[*common.NotFound](err); ok {
		return &common1.NotFound{What: missing.What}
	}
	return err
}
