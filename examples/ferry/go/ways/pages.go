package main

import (
	"context"
	"fmt"
	"iter"
	"net/http/httptest"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
)

// sailingsFrom asks for as many pages as the loop over it reads.
func sailingsFrom(ctx context.Context, bookings *booking.BookingsClient,
	pier string) iter.Seq2[*booking.Sailing, error] {
	return web.Pages(func(after *string) ([]booking.Sailing, *string, error) {
		request := &booking.SailingsRequest{From: &pier, Page: &common.Page{Limit: wire.Pointer[int32](20), After: after}}
		answer, err := bookings.Sailings(ctx, request)
		if err != nil {
			return nil, nil, err
		}
		return answer.Sailings, answer.Next, nil
	})
}

// pages reads two pages of a server that has one sailing on each.
func pages() error {
	server := httptest.NewServer(booking.ServeBookings(booking.BookingsCalls{
		Sailings: func(_ context.Context, request *booking.SailingsRequest) (*booking.SailingsAnswer, error) {
			if request.Page.After == nil {
				first := []booking.Sailing{{Code: "EID-0715"}}
				return &booking.SailingsAnswer{Sailings: first, Next: wire.Pointer("EID-0715")}, nil
			}
			return &booking.SailingsAnswer{Sailings: []booking.Sailing{{Code: "EID-1030"}}}, nil
		},
	}))
	defer server.Close()
	var codes []string
	for sailing, err := range sailingsFrom(context.Background(), booking.NewBookingsClient(server.URL), "Eiderwick") {
		if err != nil {
			return err
		}
		codes = append(codes, sailing.Code)
	}
	if len(codes) != 2 || codes[1] != "EID-1030" {
		return fmt.Errorf("read the sailings %q", codes)
	}
	return nil
}
