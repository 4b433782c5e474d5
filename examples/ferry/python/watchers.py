"""Makes spans of calls with OpenTelemetry."""

from __future__ import annotations

from collections.abc import Callable

from opentelemetry import trace
from opentelemetry.context import Context
from opentelemetry.trace import Span, SpanKind, StatusCode
from opentelemetry.trace.propagation.tracecontext import TraceContextTextMapPropagator

from gen.faithful.trace import current_trace
from gen.faithful.web import Trace, Watched

_tracer = trace.get_tracer("skerry-line")
_carry = TraceContextTextMapPropagator()


def watch_server(call: str, headers: dict[str, str]) -> Callable[[Watched], None]:
    """Makes a span of each call that a server answers; the handler is in its trace."""
    parent = _carry.extract(headers, Context())
    span = _begin(call, SpanKind.SERVER, parent)
    carrier = _injected(span, parent)
    current_trace.set(Trace(carrier["traceparent"], carrier.get("tracestate", "")))

    def done(w: Watched) -> None:
        refused = 400 <= w.status < 500  # which is an error of the caller alone
        _end(span, w, w.received, w.sent, None if refused else w.failed)

    return done


def watch_client(call: str, headers: dict[str, str]) -> Callable[[Watched], None]:
    """Makes a span of each call that a client makes."""
    now = current_trace.get()
    parent = Context() if now is None else _carry.extract(vars(now), Context())
    span = _begin(call, SpanKind.CLIENT, parent)
    headers.update(_injected(span, parent))
    return lambda w: _end(span, w, w.sent, w.received, w.failed)


def _injected(span: Span, parent: Context) -> dict[str, str]:
    carrier: dict[str, str] = {}
    _carry.inject(carrier, trace.set_span_in_context(span, parent))
    return carrier


def _begin(call: str, kind: SpanKind, parent: Context) -> Span:
    service, _, method = call.rpartition(".")
    return _tracer.start_span(call, parent, kind, {"rpc.service": service, "rpc.method": method})


def _end(span: Span, w: Watched, request: int, response: int, failed: BaseException | None) -> None:
    span.set_attributes(
        {
            "http.response.status_code": w.status,
            "http.request.resend_count": max(0, w.tries - 1),
            "http.request.body.size": request,
            "http.response.body.size": response,
        }
    )
    if failed is not None:
        span.set_status(StatusCode.ERROR, str(failed))
    span.end()
