// A server that speaks two versions of the definitions: 1.0.0, for clients of the
// first season, below /v1, and those of today. The stubs of 1.0.0 are made by
// faithful generate --of 1.0.0.
package main

import (
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"log"
	"net"
	"net/http"
	"sync"
	"time"

	"skerry.example/seasons/gen/faithful/web"
	"skerry.example/seasons/gen/faithful/wire"
	"skerry.example/seasons/gen/skerry/booking"
	"skerry.example/seasons/gen/skerry/common"
	"skerry.example/seasons/gen/skerry/fleet"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "the address to listen on")
	flag.Parse()
	listener, err := net.Listen("tcp", *listen)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Printf("listening on http://%s\n", listener.Addr())
	log.Fatal(web.NewServer(bothSeasons()).Serve(listener))
}

// bothSeasons serves two versions of one line.
func bothSeasons() http.Handler {
	l := &line{seats: map[string]int32{"EID-0715": 5}, bookings: map[wire.UUID]*booking.Booking{}}
	mux := http.NewServeMux()
	mux.Handle("/", booking.ServeBookings(l.calls()))
	mux.Handle("/v1/", firstSeason(l))
	return mux
}

// line is the ferry line, as the definitions of today have it.
type line struct {
	mu       sync.Mutex
	seats    map[string]int32 // left, by sailing
	bookings map[wire.UUID]*booking.Booking
}

func (l *line) calls() booking.BookingsCalls {
	return booking.BookingsCalls{Book: l.book, Booking: l.find}
}

func (l *line) book(_ context.Context, request *booking.BookRequest) (*booking.Booking, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	left, known := l.seats[request.Sailing]
	wanted := int32(len(request.Passengers))
	switch {
	case !known:
		return nil, &common.NotFound{What: "sailing " + request.Sailing}
	case wanted > left:
		return nil, &booking.SailingFull{SeatsLeft: left}
	}
	l.seats[request.Sailing] = left - wanted
	b := &booking.Booking{
		ID:         newID(),
		Sailing:    request.Sailing,
		Passengers: request.Passengers,
		Vehicle:    request.Vehicle,
		Fare:       common.Money{Hundredths: 1250 * int64(wanted)},
		MadeAt:     time.Now(),
		Deck:       request.Deck,
		Extras:     map[string]common.Money{},
		Email:      request.Email,
	}
	if request.DeckOrDefault() == fleet.DeckCar {
		b.Extras["car deck"] = common.Money{Hundredths: 400}
	}
	l.bookings[b.ID] = b
	return b, nil
}

func (l *line) find(_ context.Context, request *booking.BookingRequest) (*booking.Booking, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if b, ok := l.bookings[request.ID]; ok {
		return b, nil
	}
	return nil, &common.NotFound{What: "booking " + request.ID.String()}
}

// newID makes a random uuid (RFC 9562, section 5.4).
func newID() wire.UUID {
	var u wire.UUID
	_, _ = rand.Read(u[:]) // it never fails
	u[6], u[8] = u[6]&0x0f|0x40, u[8]&0x3f|0x80
	return u
}

// asToday returns the error of today's definitions of a kind, or nil.
func asToday[E error](err error) (e E, ok bool) { return e, errors.As(err, &e) }
