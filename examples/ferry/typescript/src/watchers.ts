// Makes spans of calls with OpenTelemetry.
import { ROOT_CONTEXT, type Context, type Span, SpanKind, SpanStatusCode, context, trace } from "@opentelemetry/api";
import { W3CTraceContextPropagator } from "@opentelemetry/core";

import type { ClientWatcher } from "./gen/faithful/client.js";
import type { Middleware, Watcher } from "./gen/faithful/server.js";
import type { Trace, Watched } from "./gen/faithful/web.js";

const tracer = trace.getTracer("skerry-line");
const carry = new W3CTraceContextPropagator();

/** Makes a span of each call that a server answers; the trace of the handler is that span's. */
export const watchServer: Watcher = (call, header) => {
  const parent = extracted({ traceparent: header("traceparent") ?? "", tracestate: header("tracestate") ?? "" });
  const span = begin(call, SpanKind.SERVER, parent);
  const headers: Record<string, string> = {};
  inject(span, parent, headers);
  return {
    trace: { traceparent: headers["traceparent"] ?? "", tracestate: headers["tracestate"] ?? "" },
    done: (w) => {
      const refused = w.status >= 400 && w.status < 500; // which is an error of the caller alone
      end(span, w, w.received, w.sent, refused ? undefined : w.failed);
    },
  };
};

/** Runs the handler in that span, so that whatever else makes spans finds it. */
export const inSpan: Middleware = (call, next) => context.with(extracted(call.trace), next);

/** Makes a span of each call that a client makes. */
export const watchClient: ClientWatcher = (call, headers) => {
  const span = begin(call, SpanKind.CLIENT, context.active());
  inject(span, context.active(), headers);
  return (w) => {
    end(span, w, w.sent, w.received, w.failed);
  };
};

function extracted(of: Trace | undefined): Context {
  return of === undefined ? ROOT_CONTEXT : carry.extract(ROOT_CONTEXT, of, { get: (from: Trace, key) => from[key as keyof Trace], keys: (from: Trace) => Object.keys(from) });
}

function inject(span: Span, parent: Context, headers: Record<string, string>): void {
  carry.inject(trace.setSpan(parent, span), headers, { set: (into: Record<string, string>, key, value) => (into[key] = value) });
}

function begin(call: string, kind: SpanKind, parent: Context): Span {
  const dot = call.lastIndexOf(".");
  return tracer.startSpan(call, { kind, attributes: { "rpc.service": call.slice(0, dot), "rpc.method": call.slice(dot + 1) } }, parent);
}

function end(span: Span, w: Watched, request: number, response: number, failed: unknown): void {
  span.setAttributes({
    "http.response.status_code": w.status,
    "http.request.resend_count": Math.max(0, w.tries - 1),
    "http.request.body.size": request,
    "http.response.body.size": response,
  });
  if (failed !== undefined) {
    span.setStatus({ code: SpanStatusCode.ERROR, message: failed instanceof Error ? failed.message : "" });
  }
  span.end();
}
