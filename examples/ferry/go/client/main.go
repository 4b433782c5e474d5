// A client of the Skerry Line: an example of how generated clients are used.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log"
	"slices"
	"time"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
)

func main() {
	server := flag.String("server", "http://127.0.0.1:8080", "where the server is")
	json := flag.Bool("json", false, "send JSON instead of CBOR")
	flag.Parse()
	var options []web.ClientOption
	if *json {
		options = append(options, web.WithJSON())
	}
	vessels := fleet.NewFleetClient(*server, options...)
	if err := story(booking.NewBookingsClient(*server, options...), vessels); err != nil {
		log.Fatal(err)
	}
	list, err := vessels.List(context.Background(), &fleet.FleetRequest{})
	if err != nil {
		log.Fatal(err)
	}
	if err := quayStory(*server, list.Vessels[0].ID, options...); err != nil {
		log.Fatal(err)
	}
}

// story calls everything once, and says what came back.
func story(bookings *booking.BookingsClient, vessels *fleet.FleetClient) error {
	ctx := context.Background()
	sailings, err := bookings.Sailings(ctx, &booking.SailingsRequest{From: wire.Pointer("Eiderwick")})
	if err != nil {
		return err
	}
	for _, s := range sailings.Sailings {
		fmt.Printf("sails      %s at %s, %s to %s\n", s.Code, s.LeavesAt.Format("15:04"), s.From, s.To)
	}

	request := &booking.BookRequest{
		Sailing:    "EID-0715",
		Passengers: []booking.Passenger{{Name: "Ada Quill"}, {Name: "Tom Skua", NeedsHelp: wire.Pointer(true)}},
		Deck:       wire.Pointer(fleet.DeckCar),
		Vehicle:    &booking.Vehicle{Plate: "SK 1204", Metres: 4.5},
	}
	booked, err := bookings.Book(ctx, request)
	if err != nil {
		return err
	}
	fmt.Printf("booked     %d passengers, deck %s, %s %d.%02d\n", len(booked.Passengers), booked.DeckOrDefault(),
		booked.Fare.CurrencyOrDefault(), booked.Fare.Hundredths/100, booked.Fare.Hundredths%100)

	found, err := bookings.Booking(ctx, &booking.BookingRequest{ID: booked.ID})
	if err != nil {
		return err
	}
	fmt.Printf("found      the booking again: %t, %s\n", found.ID == booked.ID, found.StateOrDefault())

	// The four kinds of failure are told apart by errors.As.
	request.Passengers = slices.Repeat([]booking.Passenger{{Name: "A walking group"}}, int(booking.LargestParty))
	_, err = bookings.Book(ctx, request)
	if full := new(booking.SailingFull); errors.As(err, &full) {
		fmt.Printf("full       %d seats are left\n", full.SeatsLeft)
	} else {
		return fmt.Errorf("a full party: %w", err)
	}
	_, err = vessels.Vessel(ctx, &fleet.VesselRequest{})
	if unknown := new(common.NotFound); errors.As(err, &unknown) {
		fmt.Printf("not found  %s\n", unknown.What)
	} else {
		return fmt.Errorf("vessel: %w", err)
	}
	_, err = bookings.Cancel(ctx, &booking.BookingRequest{ID: booked.ID})
	if problem := new(web.Problem); errors.As(err, &problem) {
		fmt.Printf("problem    %s\n", problem)
	} else {
		return fmt.Errorf("cancel: %w", err)
	}

	position := &fleet.Position{Vessel: sailings.Sailings[0].Vessel, Spot: common.Spot{Latitude: 12.5, Longitude: -30.25},
		SeenAt: time.Now()}
	if err := vessels.Report(ctx, position); err != nil {
		return err
	}
	position.SeenAt = position.SeenAt.Add(-time.Hour)
	if stale := new(fleet.StalePosition); errors.As(vessels.Report(ctx, position), &stale) {
		fmt.Println("stale      the server knows a later position")
	}
	return nil
}
