"""The server of the Skerry Line: an example of how generated servers are used."""

from __future__ import annotations

import hmac
import sys
import traceback
from collections.abc import AsyncIterator
from uuid import UUID, uuid4

import uvicorn

from gen.faithful import server as serving
from gen.faithful.server import Context, Elements, Forbidden, listen, serve
from gen.faithful.wire import Instant, Violation
from gen.skerry.booking import (
    Booking,
    BookingRequest,
    Bookings,
    BookRequest,
    Sailing,
    SailingFull,
    SailingsAnswer,
    SailingsRequest,
    serve_bookings,
)
from gen.skerry.common import Money, NotFound, Spot
from gen.skerry.fleet import (
    Deck,
    DeckPlan,
    Fleet,
    FleetAnswer,
    FleetRequest,
    Position,
    StalePosition,
    Vessel,
    VesselRequest,
    VesselState,
    serve_fleet,
)
from gen.skerry.quay import (
    BoardingScan,
    BoardingSummary,
    FollowRequest,
    Notice,
    NoticeRequest,
    PassageFoot,
    PassageGroup,
    PassageVehicle,
    Quay,
    Refusal,
    Signal,
    serve_quay,
)

GUILLEMOT = Vessel(
    id=UUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"),
    name="Guillemot",
    decks=[DeckPlan(deck=Deck.CAR, seats=0, lanes=4), DeckPlan(deck=Deck.SALOON, seats=60)],
    state=VesselState.MOORED,
    names={"x-skerry": "Guillemot", "x-sound": "Lomvi"},
)
MORNING = Instant.parse("2026-07-15T07:15:00Z")
SAILINGS = [
    Sailing(code="EID-0715", vessel=GUILLEMOT.id, leaves_at=MORNING, from_="Eiderwick", to="Skerry"),
    Sailing(
        code="SKE-1030",
        vessel=GUILLEMOT.id,
        leaves_at=Instant(MORNING.seconds + 11_700),
        from_="Skerry",
        to="Eiderwick",
    ),
]


class BookingDesk(Bookings):
    """Sailings and bookings, kept in memory."""

    def __init__(self) -> None:
        self.seats = {"EID-0715": 5, "SKE-1030": 60}
        self.booked: dict[UUID, Booking] = {}

    async def sailings(self, request: SailingsRequest, context: Context) -> SailingsAnswer:
        fitting = [s for s in SAILINGS if request.from_ in (None, s.from_) and request.to in (None, s.to)]
        return SailingsAnswer(sailings=fitting)

    async def book(self, request: BookRequest, context: Context) -> Booking:
        left = self.seats.get(request.sailing)
        if left is None:
            raise NotFound(what=f"sailing {request.sailing}")
        wanted = len(request.passengers)
        if wanted > left:
            raise SailingFull(seats_left=left)
        names = [passenger.name for passenger in request.passengers]
        twice = next((i for i, name in enumerate(names) if name in names[:i]), None)
        if twice is not None:
            raise serving.Refusal(violations=[Violation(f"/passengers/{twice}/name", "must not be in the party twice")])
        self.seats[request.sailing] = left - wanted
        booking = Booking(
            id=uuid4(),
            sailing=request.sailing,
            passengers=request.passengers,
            vehicle=request.vehicle,
            fare=Money(hundredths=1250 * wanted),
            made_at=Instant.now(),
            deck=request.deck,
            extras={},
            email=request.email,
        )
        self.booked[booking.id] = booking
        return booking

    async def booking(self, request: BookingRequest, context: Context) -> Booking:
        if request.id not in self.booked:
            raise NotFound(what=f"booking {request.id}")
        return self.booked[request.id]

    # cancel is not written yet: it answers 501.


class Harbour(Fleet):
    """The one vessel of the line, and where it was seen."""

    def __init__(self) -> None:
        self.positions: dict[UUID, Position] = {}

    async def list_(self, request: FleetRequest, context: Context) -> FleetAnswer:
        return FleetAnswer(vessels=[GUILLEMOT] if request.state in (None, GUILLEMOT.state) else [])

    async def vessel(self, request: VesselRequest, context: Context) -> Vessel:
        if request.id != GUILLEMOT.id:
            raise NotFound(what=f"vessel {request.id}")
        return GUILLEMOT

    async def report(self, request: Position, context: Context) -> None:
        known = self.positions.get(request.vessel)
        if known is not None and known.seen_at > request.seen_at:
            raise StalePosition(known_since=known.seen_at)
        self.positions[request.vessel] = request


class Pier(Quay):
    """The quay: streams in all three ways."""

    def __init__(self) -> None:
        self.notices: dict[str, Notice] = {}

    async def follow(self, request: FollowRequest, context: Context) -> AsyncIterator[Position]:
        if request.vessel != GUILLEMOT.id:
            raise NotFound(what=f"vessel {request.vessel}")
        # A real one would go on until it is cancelled, when the caller leaves.
        for minute in range(3):
            spot = Spot(latitude=12.5 + minute / 100, longitude=-30.25)
            yield Position(vessel=request.vessel, spot=spot, seen_at=Instant(MORNING.seconds + 60 * minute))

    async def board(self, elements: Elements[BoardingScan], context: Context) -> BoardingSummary:
        summary = BoardingSummary(boarded=0, refused={})
        async for scan in elements:
            match scan.passage:
                case PassageFoot() | PassageGroup():
                    summary.boarded += scan.seats
                case PassageVehicle(value=vehicle) if vehicle.metres <= 12:
                    summary.boarded += scan.seats
                case PassageVehicle():
                    summary.refused[Refusal.WRONG_FERRY] = summary.refused.get(Refusal.WRONG_FERRY, 0) + 1
                case _:  # what this server's definitions do not know yet
                    summary.refused[Refusal.OTHER] = summary.refused.get(Refusal.OTHER, 0) + 1
        return summary

    async def talk(self, elements: Elements[Signal], context: Context) -> AsyncIterator[Signal]:
        async for signal in elements:
            yield Signal(text=f"Understood: {signal.text}")

    async def post(self, request: Notice, context: Context) -> Notice:
        self.notices[request.code] = request
        return request

    async def unpost(self, request: NoticeRequest, context: Context) -> None:
        if self.notices.pop(request.code, None) is None:
            raise NotFound(what=f"a notice for {request.code}")

    # The other calls are not written yet: they answer 501.


def authorize(call: str | None, credentials: dict[str, str], headers: dict[str, str]) -> None:
    """Lets in whoever shows the key of the door; a real one would look at the crew's token, too."""
    if not hmac.compare_digest(credentials.get("skerry.quay.door", "north pier"), "north pier"):
        raise Forbidden("this is not the key of a door")


def on_error(call: str, problem: BaseException, _: Context | None) -> None:
    print(call, file=sys.stderr)
    traceback.print_exception(problem)


app = serve(
    serve_bookings(BookingDesk(), {"authorizer": authorize, "on_error": on_error}),
    serve_fleet(Harbour()),
    serve_quay(Pier()),
)


def main() -> None:
    listener = listen(port=int(sys.argv[1]) if len(sys.argv) > 1 else 0)
    print(f"listening on http://127.0.0.1:{listener.getsockname()[1]}", flush=True)
    uvicorn.Server(uvicorn.Config(app, log_level="error", **app.uvicorn_limits())).run([listener])


if __name__ == "__main__":
    main()
