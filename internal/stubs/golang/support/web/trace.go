package web

import (
	"context"
	"net/http"
)

type traceKey struct{}

type trace struct{ parent, state string }

// WithTrace returns a context in a trace (W3C Trace Context): calls that a
// client makes with it pass it on. Servers make such a context for handlers.
func WithTrace(ctx context.Context, traceparent, tracestate string) context.Context {
	return context.WithValue(ctx, traceKey{}, trace{traceparent, tracestate})
}

// TraceOf returns the traceparent and tracestate of a context, or "".
func TraceOf(ctx context.Context) (traceparent, tracestate string) {
	t, _ := ctx.Value(traceKey{}).(trace)
	return t.parent, t.state
}

// passTrace puts the trace of a context into a request.
func passTrace(ctx context.Context, header http.Header) {
	parent, state := TraceOf(ctx)
	if parent != "" {
		header.Set("Traceparent", parent)
	}
	if state != "" {
		header.Set("Tracestate", state)
	}
}
