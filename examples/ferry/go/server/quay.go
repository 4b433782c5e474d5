package main

import (
	"context"
	"crypto/subtle"
	"fmt"
	"iter"
	"time"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

// authorize lets in whoever shows the key of the door; a real one would look at the
// crew's token, too.
func authorize(ctx context.Context, call *web.Call, credentials web.Credentials) (context.Context, error) {
	if key, shown := credentials.Value("door"); shown &&
		subtle.ConstantTimeCompare([]byte(key), []byte("north pier")) == 0 {
		return nil, web.Forbidden("this is not the key of a door")
	}
	return ctx, nil
}

func (l *line) quayCalls() quay.QuayCalls {
	return quay.QuayCalls{
		Follow: l.follow,
		Board:  l.board,
		Talk:   l.talk,
		Post: func(_ context.Context, notice *quay.Notice) (*quay.Notice, error) {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.notices[notice.Code] = notice
			return notice, nil
		},
		Unpost: func(_ context.Context, request *quay.NoticeRequest) error {
			l.mu.Lock()
			defer l.mu.Unlock()
			if _, posted := l.notices[request.Code]; !posted {
				return &common.NotFound{What: fmt.Sprintf("a notice for %s", request.Code)}
			}
			delete(l.notices, request.Code)
			return nil
		},
		// The other calls are not written yet: they answer 501.
	}
}

// follow sends where a vessel is, a few times; a real one would go on until the
// caller leaves, which ctx tells.
func (l *line) follow(ctx context.Context, request *quay.FollowRequest, send func(*fleet.Position) error) error {
	if request.Vessel != l.vessel.ID {
		return &common.NotFound{What: "vessel " + request.Vessel.String()}
	}
	for minute := range 3 {
		position := &fleet.Position{
			Vessel: request.Vessel,
			Spot:   common.Spot{Latitude: 12.5 + float64(minute)/100, Longitude: -30.25},
			SeenAt: l.sailings[0].LeavesAt.Add(time.Duration(minute) * time.Minute),
		}
		if err := send(position); err != nil {
			return err // the caller has left
		}
	}
	return ctx.Err()
}

// board counts passages as they come through the door.
func (l *line) board(_ context.Context, scans iter.Seq2[*quay.BoardingScan, error]) (*quay.BoardingSummary, error) {
	summary := &quay.BoardingSummary{Refused: map[quay.Refusal]uint32{}}
	for scan, err := range scans {
		if err != nil {
			return nil, err // the tablet was cut off: nothing counts
		}
		switch passage := scan.Passage.(type) {
		case quay.PassageFoot, quay.PassageGroup:
			summary.Boarded += uint32(scan.SeatsOrDefault())
		case quay.PassageVehicle:
			if passage.Value.Metres > 12 {
				summary.Refused[quay.RefusalWrongFerry]++
			} else {
				summary.Boarded += uint32(scan.SeatsOrDefault())
			}
		default: // what this server's definitions do not know yet
			summary.Refused[quay.RefusalOther]++
		}
	}
	return summary, nil
}

// talk answers every signal.
func (l *line) talk(_ context.Context, signals iter.Seq2[*quay.Signal, error], send func(*quay.Signal) error) error {
	for signal, err := range signals {
		if err != nil {
			return err
		}
		if err := send(&quay.Signal{Text: "Understood: " + signal.Text}); err != nil {
			return err
		}
	}
	return nil
}
