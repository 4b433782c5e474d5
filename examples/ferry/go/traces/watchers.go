package main

import (
	"context"
	"strings"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
)

var (
	tracer = otel.Tracer("skerry-line")
	carry  = propagation.TraceContext{} // W3C Trace Context
)

// watchServer makes a span of each call that a server answers.
func watchServer(ctx context.Context, call *web.Call) (context.Context, func(web.Watched)) {
	parent, state := web.TraceOf(ctx)
	ctx = carry.Extract(ctx, propagation.MapCarrier{"traceparent": parent, "tracestate": state})
	return begin(ctx, call, trace.SpanKindServer)
}

// watchClient makes a span of each call that a client makes.
func watchClient(ctx context.Context, call *web.Call) (context.Context, func(web.Watched)) {
	return begin(ctx, call, trace.SpanKindClient)
}

// begin begins the span of a call, in whose trace the call is from now on.
func begin(ctx context.Context, call *web.Call, kind trace.SpanKind) (context.Context, func(web.Watched)) {
	method := call.Name[strings.LastIndex(call.Name, ".")+1:]
	ctx, span := tracer.Start(ctx, call.Name, trace.WithSpanKind(kind), trace.WithAttributes(
		attribute.String("rpc.service", strings.TrimSuffix(call.Name, "."+method)), attribute.String("rpc.method", method)))
	into := propagation.MapCarrier{}
	carry.Inject(ctx, into)
	return web.WithTrace(ctx, into["traceparent"], into["tracestate"]), func(w web.Watched) {
		span.SetAttributes(attribute.Int("http.response.status_code", w.Status),
			attribute.Int("http.request.resend_count", max(0, w.Tries-1)),
			attribute.Int64("http.request.body.size", w.Sent), attribute.Int64("http.response.body.size", w.Received))
		if kind == trace.SpanKindServer {
			span.SetAttributes(attribute.Int64("http.request.body.size", w.Received),
				attribute.Int64("http.response.body.size", w.Sent))
		}
		refused := w.Status >= 400 && w.Status < 500 // which is an error of the caller alone
		if w.Err != nil && (kind == trace.SpanKindClient || !refused) {
			span.SetStatus(codes.Error, w.Err.Error())
		}
		span.End()
	}
}
