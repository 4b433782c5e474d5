package main

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"time"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

// serve makes a server of two services, with everything that one may have.
func serve() http.Handler {
	bookings := booking.ServeBookings(booking.BookingsCalls{
		Book: func(_ context.Context, request *booking.BookRequest) (*booking.Booking, error) {
			if len(request.Passengers) > 5 {
				return nil, &booking.SailingFull{SeatsLeft: 5}
			}
			return &booking.Booking{Sailing: request.Sailing, Passengers: request.Passengers, MadeAt: time.Now()}, nil
		},
		Booking: func(context.Context, *booking.BookingRequest) (*booking.Booking, error) {
			return nil, errors.New("the database speaks of its password")
		},
	},
		web.WithAuthorizer(func(ctx context.Context, _ *web.Call, credentials web.Credentials) (context.Context, error) {
			if key, shown := credentials.Value("door"); shown &&
				subtle.ConstantTimeCompare([]byte(key), []byte("north pier")) == 0 {
				return nil, web.Forbidden("this is not the key of a door")
			}
			return ctx, nil
		}),
		web.WithMiddleware(func(ctx context.Context, call *web.Call, next func(context.Context) error) error {
			fmt.Println("server    ", call.Name)
			return next(ctx)
		}),
		web.WithOnError(func(_ context.Context, call string, err error) {
			fmt.Println("server    ", "told of an error in", call)
		}),
	)
	pier := quay.ServeQuay(quay.QuayCalls{
		Unpost: func(ctx context.Context, _ *quay.NoticeRequest) error {
			<-ctx.Done() // the client has had enough
			return ctx.Err()
		},
	})
	return web.Serve(bookings, pier)
}

// calls makes calls, and tells their failures apart.
func calls() error {
	server := httptest.NewServer(serve()) // or web.NewServer(serve()) with its limits
	defer server.Close()
	ctx := context.Background()

	client := booking.NewBookingsClient(server.URL, web.WithTimeout(5*time.Second), web.WithTries(2),
		web.WithHeader("Desk", "7"))
	party := []booking.Passenger{{Name: "Ada Quill"}}
	booked, err := client.Book(ctx, &booking.BookRequest{Sailing: "EID-0715", Passengers: party})
	if err != nil {
		return err
	}
	fmt.Println("client    ", "booked", booked.Sailing, "for", len(booked.Passengers))

	for range 5 {
		party = append(party, party[0])
	}
	_, err = client.Book(ctx, &booking.BookRequest{Sailing: "EID-0715", Passengers: party})
	fmt.Println("failure   ", failure(err))
	_, err = client.Booking(ctx, &booking.BookingRequest{})
	fmt.Println("failure   ", failure(err))
	_, err = client.Book(ctx, &booking.BookRequest{Sailing: "EID-0715"})
	fmt.Println("failure   ", failure(err))
	_, err = booking.NewBookingsClient("http://127.0.0.1:1").Book(ctx,
		&booking.BookRequest{Sailing: "EID-0715", Passengers: party})
	fmt.Println("failure   ", failure(err))

	notice := &quay.NoticeRequest{Code: "EID-0715", Language: "x-skerry"}
	fmt.Println("failure   ", failure(quay.NewQuayClient(server.URL).Unpost(ctx, notice)))
	thief := quay.NewQuayClient(server.URL, web.WithCredential("door", "a copy"))
	fmt.Println("failure   ", failure(thief.Unpost(ctx, notice)))

	// A value that is asked for on every call, and a call that is given up.
	door := quay.NewQuayClient(server.URL, web.WithCredentialFunc("door",
		func(context.Context) (string, error) { return "north pier", nil }))
	short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	fmt.Println("failure   ", failure(door.Unpost(short, notice)))
	return nil
}

// failure tells the kinds of failure apart.
func failure(err error) string {
	var (
		full        *booking.SailingFull
		notFound    *common.NotFound
		problem     *web.Problem
		invalid     *wire.InvalidRequest
		missing     *web.MissingCredential
		unreachable *web.Unreachable
		bad         *web.BadAnswer
	)
	switch {
	case err == nil:
		return "none"
	case errors.As(err, &full): // an error that the call declares
		return fmt.Sprintf("full, %d seats are left", full.SeatsLeft)
	case errors.As(err, &notFound):
		return "not found: " + notFound.What
	case errors.As(err, &problem): // another that the server answered with
		return fmt.Sprintf("the problem %s, %d", problem.Name(), problem.Status)
	case errors.As(err, &invalid): // nothing was sent: the definitions do not allow it
		return "invalid: " + invalid.Violations[0].Pointer
	case errors.As(err, &missing): // nothing was sent: no credential was given
		return "missing " + missing.Needs
	case errors.As(err, &unreachable): // no answer: refused, lost, cancelled or timed out
		return "no answer"
	case errors.As(err, &bad): // one that is not understood
		return "a bad answer"
	}
	return err.Error()
}
