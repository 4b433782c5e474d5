// The server of the Skerry Line: an example of how generated servers are used.
package main

import (
	"cmp"
	"context"
	"crypto/rand"
	"flag"
	"fmt"
	"log"
	"net"
	"slices"
	"sync"
	"time"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "the address to listen on")
	flag.Parse()
	listener, err := net.Listen("tcp", *listen)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Printf("listening on http://%s\n", listener.Addr())
	line := newLine()
	onError := web.WithOnError(func(_ context.Context, call string, err error) { log.Printf("%s: %v", call, err) })
	handler := web.Serve(booking.ServeBookings(line.bookingCalls(), onError, web.WithAuthorizer(authorize)),
		fleet.ServeFleet(line.fleetCalls()), quay.ServeQuay(line.quayCalls()))
	log.Fatal(web.NewServer(handler).Serve(listener))
}

// line is the ferry line, kept in memory.
type line struct {
	mu        sync.Mutex
	vessel    fleet.Vessel
	positions map[wire.UUID]fleet.Position
	sailings  []booking.Sailing
	seats     map[string]int32 // left, by sailing
	bookings  map[wire.UUID]*booking.Booking
	notices   map[quay.SailingCode]*quay.Notice
}

func newLine() *line {
	vessel := wire.MustUUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01")
	day := time.Date(2026, 7, 15, 7, 15, 0, 0, time.UTC)
	return &line{
		vessel: fleet.Vessel{
			ID:    vessel,
			Name:  "Guillemot",
			Decks: []fleet.DeckPlan{{Deck: fleet.DeckCar, Lanes: wire.Pointer[uint32](4)}, {Deck: fleet.DeckSaloon, Seats: 60}},
			State: wire.Pointer(fleet.VesselStateMoored),
			Names: map[string]string{"x-skerry": "Guillemot", "x-sound": "Lomvi"},
		},
		positions: map[wire.UUID]fleet.Position{},
		sailings: []booking.Sailing{
			{Code: "EID-0715", Vessel: vessel, LeavesAt: day, From: "Eiderwick", To: "Skerry"},
			{Code: "SKE-1030", Vessel: vessel, LeavesAt: day.Add(195 * time.Minute), From: "Skerry", To: "Eiderwick"},
		},
		seats:    map[string]int32{"EID-0715": 5, "SKE-1030": 60},
		bookings: map[wire.UUID]*booking.Booking{},
		notices:  map[quay.SailingCode]*quay.Notice{},
	}
}

func (l *line) bookingCalls() booking.BookingsCalls {
	return booking.BookingsCalls{
		Sailings: l.listSailings,
		Book:     l.book,
		Booking:  l.findBooking,
		// Cancel is not written yet: it answers 501.
	}
}

func (l *line) listSailings(_ context.Context, request *booking.SailingsRequest) (*booking.SailingsAnswer, error) {
	page := cmp.Or(request.Page, &common.Page{})
	answer := &booking.SailingsAnswer{Sailings: []booking.Sailing{}}
	for _, s := range l.sailings {
		if request.From != nil && *request.From != s.From || request.To != nil && *request.To != s.To ||
			page.After != nil && s.Code <= *page.After {
			continue
		}
		if len(answer.Sailings) == int(page.LimitOrDefault()) {
			answer.Next = &answer.Sailings[len(answer.Sailings)-1].Code
			break
		}
		answer.Sailings = append(answer.Sailings, s)
	}
	return answer, nil
}

func (l *line) book(_ context.Context, request *booking.BookRequest) (*booking.Booking, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	left, known := l.seats[request.Sailing]
	if !known {
		return nil, &common.NotFound{What: "sailing " + request.Sailing}
	}
	wanted := int32(len(request.Passengers))
	if wanted > left {
		return nil, &booking.SailingFull{SeatsLeft: left}
	}
	if i := repeated(request.Passengers); i >= 0 {
		return nil, &web.Refusal{Violations: []wire.Violation{
			{Pointer: fmt.Sprintf("/passengers/%d/name", i), Detail: "must not be in the party twice"},
		}}
	}
	l.seats[request.Sailing] = left - wanted
	b := &booking.Booking{
		ID:         newUUID(),
		Sailing:    request.Sailing,
		Passengers: request.Passengers,
		Vehicle:    request.Vehicle,
		Fare:       common.Money{Hundredths: 1250 * int64(wanted)},
		MadeAt:     time.Now(),
		Deck:       request.Deck,
		Extras:     map[string]common.Money{},
		Email:      request.Email,
	}
	l.bookings[b.ID] = b
	return b, nil
}

// repeated is the first passenger with the name of one before, or -1.
func repeated(passengers []booking.Passenger) int {
	names := map[string]bool{}
	for i, p := range passengers {
		if names[p.Name] {
			return i
		}
		names[p.Name] = true
	}
	return -1
}

func (l *line) findBooking(_ context.Context, request *booking.BookingRequest) (*booking.Booking, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if b, ok := l.bookings[request.ID]; ok {
		return b, nil
	}
	return nil, &common.NotFound{What: "booking " + request.ID.String()}
}

func (l *line) fleetCalls() fleet.FleetCalls {
	return fleet.FleetCalls{
		List: func(_ context.Context, request *fleet.FleetRequest) (*fleet.FleetAnswer, error) {
			answer := &fleet.FleetAnswer{Vessels: []fleet.Vessel{l.vessel}}
			if request.State != nil {
				answer.Vessels = slices.DeleteFunc(answer.Vessels,
					func(v fleet.Vessel) bool { return v.StateOrDefault() != *request.State })
			}
			return answer, nil
		},
		Vessel: func(_ context.Context, request *fleet.VesselRequest) (*fleet.Vessel, error) {
			if request.ID != l.vessel.ID {
				return nil, &common.NotFound{What: "vessel " + request.ID.String()}
			}
			return &l.vessel, nil
		},
		Report: func(_ context.Context, position *fleet.Position) error {
			l.mu.Lock()
			defer l.mu.Unlock()
			if known, ok := l.positions[position.Vessel]; ok && known.SeenAt.After(position.SeenAt) {
				return &fleet.StalePosition{KnownSince: known.SeenAt}
			}
			l.positions[position.Vessel] = *position
			return nil
		},
	}
}

// newUUID makes a random uuid (RFC 9562, section 5.4).
func newUUID() wire.UUID {
	var u wire.UUID
	_, _ = rand.Read(u[:]) // it never fails
	u[6], u[8] = u[6]&0x0f|0x40, u[8]&0x3f|0x80
	return u
}
