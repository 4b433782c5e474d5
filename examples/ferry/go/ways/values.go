// The documented ways of using the generated Go code, in a program that runs
// without a network: docs/go.md quotes it.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"time"

	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

func main() {
	for _, way := range []func() error{messages, encodings, bounds, open, unlisted, scalars, secrets, calls, pages} {
		if err := way(); err != nil {
			log.Fatal(err)
		}
	}
}

// messages are made by keyed literals.
func messages() error {
	request := booking.BookRequest{
		Sailing:    "EID-0715",
		Passengers: []booking.Passenger{{Name: "Ada Quill"}},
		Email:      wire.Pointer("ada@example.org"), // an optional field
	}
	fmt.Println("messages  ", request.Sailing, "on deck", request.DeckOrDefault())
	if request.Vehicle == nil {
		fmt.Println("messages  ", "no vehicle,", *request.Email)
	}
	return nil
}

// encodings are CBOR and JSON, by Go's own interfaces.
func encodings() error {
	money := common.Money{Hundredths: 2500}
	binary, err := money.MarshalBinary()
	if err != nil {
		return err
	}
	fmt.Printf("encodings  %x\n", binary)
	text, err := json.Marshal(money)
	if err != nil {
		return err
	}
	fmt.Printf("encodings  %s\n", text)

	var read common.Money
	if err := read.UnmarshalBinary(binary); err != nil {
		return err
	}
	fmt.Println("encodings ", read.Hundredths, read.CurrencyOrDefault())

	// What can't be read says where, and why.
	var wrong *wire.Error
	if err := read.UnmarshalJSON([]byte(`{"hundredths":"many"}`)); errors.As(err, &wrong) {
		fmt.Println("encodings ", wrong.Path, "is wrong")
	}
	return nil
}

// bounds are held against by Validate, which finds everything at once.
func bounds() error {
	request := booking.BookRequest{Sailing: "tomorrow", Vehicle: &booking.Vehicle{Plate: "SK 1204", Metres: 40}}
	var invalid *wire.InvalidRequest
	if errors.As(request.Validate(), &invalid) {
		for _, v := range invalid.Violations {
			fmt.Println("bounds    ", v.Pointer, v.Detail)
		}
	}
	return nil
}

// open are enums and unions: a default branch is for what is added later.
func open() error {
	for _, deck := range []fleet.Deck{fleet.DeckCar, "#9"} {
		switch deck {
		case fleet.DeckCar:
			fmt.Println("open      ", "drive on")
		case fleet.DeckOpen, fleet.DeckSaloon:
			fmt.Println("open      ", "walk on")
		default: // one that these definitions do not list, too
			number, _ := deck.Number()
			fmt.Println("open      ", "a deck with the number", number)
		}
	}
	for _, passage := range []quay.Passage{
		quay.PassageFoot{Value: quay.FootPassage{Dogs: wire.Pointer[int8](1)}},
		quay.PassageVehicle{Value: quay.VehiclePassage{Plate: "SK 1204", Metres: 4.5}},
	} {
		switch p := passage.(type) {
		case quay.PassageFoot:
			fmt.Println("open      ", "on foot with", *p.Value.Dogs, "dog")
		case quay.PassageVehicle:
			fmt.Println("open      ", "on wheels,", p.Value.Plate)
		default:
			fmt.Println("open      ", "in another way")
		}
	}
	return nil
}

// unlisted fields are preserved and passed on: here a newer program has sent the field
// 9, and another one by its name.
func unlisted() error {
	newer := []byte(`{"hundredths":2500,"currency":"SKD","#9":"AQ","paid_by":"card"}`)
	var money common.Money
	if err := money.UnmarshalJSON(newer); err != nil {
		return err
	}
	money.Hundredths = 3000
	text, err := json.Marshal(money)
	if err != nil {
		return err
	}
	fmt.Printf("unlisted   %d %s\n", len(money.UnlistedFields()), text)
	return nil
}

// scalars beyond Go's own have types of the package wire.
func scalars() error {
	scan := quay.BoardingScan{
		ID:      wire.MustUUID("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
		Paid:    wire.Pointer(wire.MustDecimal("48.50")),
		SeenAt:  time.Date(2026, time.July, 15, 6, 58, 12, 0, time.UTC),
		Born:    wire.Pointer(wire.NewDate(1968, time.May, 1)),
		Waited:  wire.Pointer(90 * time.Second),
		Luggage: []wire.Decimal{wire.MustDecimal("12.5")},
	}
	remarks, err := wire.AnyOf(map[string]any{"pram": true})
	if err != nil {
		return err
	}
	scan.Remarks = remarks
	fmt.Println("scalars   ", scan.ID, *scan.Paid, scan.SeenAt.Format(time.RFC3339), *scan.Born, scan.Waited.Seconds())
	fmt.Println("scalars   ", quay.LargestGroup, quay.FirstSeason)
	return nil
}

// secrets stay out of what is printed and logged.
func secrets() error {
	scan := quay.BoardingScan{DoorCode: "K7PLM2", Passage: quay.PassageFoot{}, Phone: wire.Pointer("555 0136")}
	fmt.Println("secrets   ", len(scan.DoorCode), len(*scan.Phone), quay.DoorCode(scan.DoorCode))
	return nil
}
