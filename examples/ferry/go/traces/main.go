// The command traces follows calls through two services with OpenTelemetry, and prints the
// spans of it as a tree.
package main

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/codes"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"
	"go.opentelemetry.io/otel/trace"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
)

func main() {
	spans := tracetest.NewInMemoryExporter() // a real one sends them to a collector
	provider := sdk.NewTracerProvider(sdk.WithSyncer(spans))
	otel.SetTracerProvider(provider)
	if err := calls(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for _, span := range spans.GetSpans() {
		if !span.Parent.IsValid() {
			show(spans.GetSpans(), span, "")
		}
	}
}

var guillemot = wire.MustUUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01")

// calls makes two calls; the handler of the first asks the other service.
func calls(ctx context.Context) error {
	harbour := httptest.NewServer(fleet.ServeFleet(fleet.FleetCalls{
		Vessel: func(_ context.Context, request *fleet.VesselRequest) (*fleet.Vessel, error) {
			if request.ID != guillemot {
				return nil, &common.NotFound{What: "vessel " + request.ID.String()}
			}
			return &fleet.Vessel{ID: request.ID, Name: "Guillemot"}, nil
		},
	}, web.WithWatcher(watchServer)))
	defer harbour.Close()
	vessels := fleet.NewFleetClient(harbour.URL, web.WithClientWatcher(watchClient))

	desk := httptest.NewServer(booking.ServeBookings(booking.BookingsCalls{
		Sailings: func(ctx context.Context, _ *booking.SailingsRequest) (*booking.SailingsAnswer, error) {
			_, err := vessels.Vessel(ctx, &fleet.VesselRequest{ID: guillemot})
			return &booking.SailingsAnswer{}, err
		},
	}, web.WithWatcher(watchServer)))
	defer desk.Close()
	bookings := booking.NewBookingsClient(desk.URL, web.WithClientWatcher(watchClient))

	if _, err := bookings.Sailings(ctx, &booking.SailingsRequest{}); err != nil {
		return err
	}
	_, _ = vessels.Vessel(ctx, &fleet.VesselRequest{}) // there is no such vessel
	return nil
}

// show prints a span, and those below it.
func show(all tracetest.SpanStubs, span tracetest.SpanStub, indent string) {
	status := ""
	for _, attribute := range span.Attributes {
		if attribute.Key == "http.response.status_code" {
			status = attribute.Value.String()
		}
	}
	kind := map[trace.SpanKind]string{trace.SpanKindClient: "client", trace.SpanKindServer: "server"}[span.SpanKind]
	failed := map[bool]string{true: " error"}[span.Status.Code == codes.Error]
	fmt.Printf("%s%s %s %s%s\n", indent, kind, span.Name, status, failed)
	for _, below := range all {
		if below.Parent.SpanID() == span.SpanContext.SpanID() && below.SpanContext.TraceID() == span.SpanContext.TraceID() {
			show(all, below, indent+"  ")
		}
	}
}
