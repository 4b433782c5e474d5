package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

// quayStory streams in all three ways, and shows credentials.
func quayStory(server string, vessel wire.UUID, options ...web.ClientOption) error {
	ctx := context.Background()
	screen := quay.NewQuayClient(server, options...)
	for position, err := range screen.Follow(ctx, &quay.FollowRequest{Vessel: vessel}) {
		if err != nil {
			return err
		}
		fmt.Printf("follows    at %s\n", position.SeenAt.Format("15:04"))
	}

	var missing *web.MissingCredential
	if err := screen.Ring(ctx); !errors.As(err, &missing) {
		return fmt.Errorf("without credentials: %w", err)
	}
	fmt.Printf("missing    %s\n", missing.Needs)

	door := quay.NewQuayClient(server, append(options, web.WithCredential("door", "north pier"),
		web.WithCredential("crew", "a token"))...)
	boarding := door.Board(ctx)
	for _, passage := range []quay.Passage{
		quay.PassageFoot{Value: quay.FootPassage{Dogs: wire.Pointer[int8](1)}},
		quay.PassageVehicle{Value: quay.VehiclePassage{Plate: "SK 1204", Metres: 4.5}},
		quay.PassageVehicle{Value: quay.VehiclePassage{Plate: "SK 9", Metres: 16}},
	} {
		scan := &quay.BoardingScan{
			ID:       wire.MustUUID("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
			Sailing:  "EID-0715",
			Passage:  passage,
			DoorCode: "K7PLM2",
			SeenAt:   time.Now(),
			Seats:    wire.Pointer[int32](2),
		}
		if err := boarding.Send(scan); err != nil {
			return err
		}
	}
	summary, err := boarding.Finish()
	if err != nil {
		return err
	}
	fmt.Printf("boarded    %d, refused %d on the wrong ferry\n", summary.Boarded, summary.Refused[quay.RefusalWrongFerry])

	talk, err := door.Talk(ctx)
	if err != nil {
		return err
	}
	defer talk.Close()
	if err := errors.Join(talk.Send(&quay.Signal{Text: "Lines off at 07:15."}), talk.Finish()); err != nil {
		return err
	}
	for signal, err := range talk.All() {
		if err != nil {
			return err
		}
		fmt.Printf("talks      %s\n", signal.Text)
	}

	notice, err := door.Post(ctx, &quay.Notice{Code: "EID-0715", Language: "x-skerry", Body: "Fog."})
	if err != nil {
		return err
	}
	fmt.Printf("posted     %s for %s\n", notice.Body, notice.Code)
	return door.Unpost(ctx, &quay.NoticeRequest{Code: "EID-0715", Language: "x-skerry"})
}
