"""Follows calls through two services with OpenTelemetry, and prints the spans of it as a tree."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator
from typing import Any
from uuid import UUID

import uvicorn
from opentelemetry import trace
from opentelemetry.sdk.trace import ReadableSpan, TracerProvider
from opentelemetry.sdk.trace.export import SimpleSpanProcessor
from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter
from opentelemetry.trace import StatusCode

from gen.faithful.server import Context, Served, listen
from gen.skerry.booking import Bookings, BookingsClient, SailingsAnswer, SailingsRequest, serve_bookings
from gen.skerry.common import NotFound
from gen.skerry.fleet import Fleet, FleetClient, Vessel, VesselRequest, serve_fleet
from watchers import watch_client, watch_server

GUILLEMOT = UUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01")

spans = InMemorySpanExporter()  # a real one sends them to a collector
provider = TracerProvider()
provider.add_span_processor(SimpleSpanProcessor(spans))
trace.set_tracer_provider(provider)


@contextlib.contextmanager
def served(app: Served) -> Iterator[str]:
    """Serves an application from a thread, and says where."""
    listener = listen()
    server = uvicorn.Server(uvicorn.Config(app, log_level="error", **app.uvicorn_limits()))
    thread = threading.Thread(target=server.run, args=([listener],))
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield f"http://127.0.0.1:{listener.getsockname()[1]}"
    server.should_exit = True
    thread.join()


class Harbour(Fleet):
    def vessel(self, request: VesselRequest, context: Context) -> Vessel:
        if request.id != GUILLEMOT:
            raise NotFound(what=f"vessel {request.id}")
        return Vessel(id=request.id, name="Guillemot", decks=[], names={})


class Desk(Bookings):
    def __init__(self, vessels: FleetClient) -> None:
        self.vessels = vessels

    def sailings(self, request: SailingsRequest, context: Context) -> SailingsAnswer:
        self.vessels.vessel(VesselRequest(id=GUILLEMOT))
        return SailingsAnswer(sailings=[])


def show(span: ReadableSpan, indent: str) -> None:
    """Prints a span, and those below it."""
    attributes: Any = span.attributes
    failed = " error" if span.status.status_code is StatusCode.ERROR else ""
    print(f"{indent}{span.kind.name.lower()} {span.name} {attributes['http.response.status_code']}{failed}")
    for below in spans.get_finished_spans():
        if below.parent is not None and span.context is not None and below.parent.span_id == span.context.span_id:
            show(below, indent + "  ")


def main() -> None:
    with contextlib.ExitStack() as stack:
        harbour = stack.enter_context(served(serve_fleet(Harbour(), {"watcher": watch_server})))
        vessels = stack.enter_context(FleetClient(harbour, {"watcher": watch_client}))
        desk = stack.enter_context(served(serve_bookings(Desk(vessels), {"watcher": watch_server})))
        bookings = stack.enter_context(BookingsClient(desk, {"watcher": watch_client}))
        bookings.sailings(SailingsRequest())
        with contextlib.suppress(NotFound):
            vessels.vessel(VesselRequest(id=UUID(int=0)))
    for span in spans.get_finished_spans():
        if span.parent is None:
            show(span, "")


if __name__ == "__main__":
    main()
