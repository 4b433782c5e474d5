"""The documented ways of using the generated Python, in a program that runs without a network: docs/python.md quotes it."""

from __future__ import annotations

import asyncio
import hmac
import threading
from collections.abc import Awaitable, Callable
from datetime import date
from decimal import Decimal
from uuid import UUID

import uvicorn

from gen.faithful.client import Cancellation
from gen.faithful.server import Context, Forbidden, Served, listen, serve
from gen.faithful.web import BadAnswer, MissingCredential, Problem, Unreachable
from gen.faithful.wire import Duration, Instant, InvalidRequest, WireError, unlisted_fields
from gen.skerry.booking import (
    Booking,
    BookingRequest,
    Bookings,
    BookingsClient,
    BookRequest,
    Passenger,
    SailingFull,
    Vehicle,
    serve_bookings,
)
from gen.skerry.common import Money, NotFound
from gen.skerry.fleet import Deck
from gen.skerry.quay import (
    FIRST_SEASON,
    LARGEST_GROUP,
    BoardingScan,
    DoorCode,
    Fare,
    FootPassage,
    Language,
    Names,
    NoticeRequest,
    PassageFoot,
    PassageVehicle,
    Quay,
    QuayClient,
    SailingCode,
    VehiclePassage,
    serve_quay,
)


def messages() -> None:
    """Messages are made by name; defaults and optional fields may be left out."""
    request = BookRequest(
        sailing="EID-0715",
        passengers=[Passenger(name="Ada Quill")],
        email="ada@example.org",
    )
    print("messages  ", request.sailing, "on deck", request.deck)
    if request.vehicle is None:
        print("messages  ", "no vehicle,", request.email)


def encodings() -> None:
    """Encodings are CBOR and JSON."""
    money = Money(hundredths=2500)
    binary = money.to_cbor()
    print("encodings ", binary.hex())
    print("encodings ", money.to_json())

    read = Money.from_cbor(binary)
    print("encodings ", read.hundredths, read.currency)

    # What can't be read says where, and why.
    try:
        Money.from_json('{"hundredths":"many"}')
    except WireError as wrong:
        print("encodings ", wrong.path, "is wrong")


def bounds() -> None:
    """Bounds are held against by validate, which finds everything at once."""
    request = BookRequest(sailing="tomorrow", passengers=[], vehicle=Vehicle(plate="SK 1204", metres=40))
    for violation in request.validate():
        print("bounds    ", violation.pointer, violation.detail)


def open_() -> None:
    """Enums and unions are open: a default branch is for what is added later."""
    for deck in (Deck.CAR, Deck("#9")):
        match deck:
            case Deck.CAR:
                print("open      ", "drive on")
            case Deck.OPEN | Deck.SALOON:
                print("open      ", "walk on")
            case _:  # one that these definitions do not list, too
                print("open      ", "a deck with the number", deck.number())
    for passage in (
        PassageFoot(FootPassage(dogs=1)),
        PassageVehicle(VehiclePassage(plate="SK 1204", metres=4.5, refused={})),
    ):
        match passage:
            case PassageFoot(value=foot):
                print("open      ", "on foot with", foot.dogs, "dog")
            case PassageVehicle(value=vehicle):
                print("open      ", "on wheels,", vehicle.plate)
            case _:
                print("open      ", "in another way")


def unlisted() -> None:
    """Unlisted fields are preserved and passed on: a newer program has sent the field 9, and another one by its name."""
    money = Money.from_json('{"hundredths":2500,"currency":"SKD","#9":"AQ","paid_by":"card"}')
    money.hundredths = 3000
    print("unlisted  ", len(unlisted_fields(money)), money.to_json())


def scan() -> BoardingScan:
    """Scalars beyond Python's own have types of faithful.wire."""
    return BoardingScan(
        id=UUID("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
        sailing=SailingCode("EID-0715"),
        passage=PassageFoot(FootPassage()),
        door_code=DoorCode("K7PLM2"),
        paid=Fare(Decimal("48.50")),
        seen_at=Instant.parse("2026-07-15T06:58:12Z"),
        born=date(1968, 5, 1),
        waited=Duration.seconds(90),
        luggage=[Decimal("12.5")],
        names=Names({}),
        phone="555 0136",
        remarks={"pram": True},
    )


def scalars() -> None:
    s = scan()
    print("scalars   ", s.id, s.paid, s.seen_at, s.born, round(s.waited.to_timedelta().total_seconds()))
    print("scalars   ", LARGEST_GROUP, FIRST_SEASON)


def secrets() -> None:
    """Secrets stay out of what is printed and logged."""
    s = scan()
    hidden = "K7PLM2" not in f"{s!r} {s}" and "555 0136" not in f"{s!r} {s}"
    print("secrets   ", len(s.door_code), len(s.phone or ""), "(secret)" if hidden else s)


class BookingDesk(Bookings):
    """A service is a class with a method for each call that is implemented."""

    async def book(self, request: BookRequest, context: Context) -> Booking:
        if len(request.passengers) > 5:
            raise SailingFull(seats_left=5)
        return Booking(
            id=UUID("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
            sailing=request.sailing,
            passengers=request.passengers,
            fare=Money(hundredths=2500),
            made_at=Instant.now(),
            extras={},
        )

    def booking(self, request: BookingRequest, context: Context) -> Booking:  # in a thread
        raise RuntimeError("the database speaks of its password")


class Pier(Quay):
    async def unpost(self, request: NoticeRequest, context: Context) -> None:
        await asyncio.sleep(1000)  # cancelled when the client has had enough


def authorize(call: str | None, credentials: dict[str, str], headers: dict[str, str]) -> None:
    if not hmac.compare_digest(credentials.get("skerry.quay.door", "north pier"), "north pier"):
        raise Forbidden("this is not the key of a door")


async def told(context: Context, following: Callable[[], Awaitable[None]]) -> None:
    print("server    ", context.call)
    await following()


def served() -> Served:
    """A server of two services: an ASGI application."""
    bookings = serve_bookings(
        BookingDesk(),
        {
            "authorizer": authorize,
            "middleware": [told],
            "on_error": lambda call, problem, _: print("server    ", "told of an error in", call),
        },
    )
    return serve(bookings, serve_quay(Pier()))


def failure(call: Callable[[], object]) -> str:
    """Tells the kinds of failure apart."""
    try:
        call()
        return "none"
    except SailingFull as full:  # an error that the call declares
        return f"full, {full.seats_left} seats are left"
    except NotFound as missing:
        return f"not found: {missing.what}"
    except Problem as problem:  # another that the server answered with
        return f"the problem {problem.problem}, {problem.status}"
    except InvalidRequest as invalid:  # nothing was sent: the definitions do not allow it
        return f"invalid: {invalid.violations[0].pointer}"
    except MissingCredential:  # nothing was sent: no credential was given
        return "missing crew | door"
    except Unreachable:  # refused, lost, cancelled or timed out
        return "no answer"
    except BadAnswer:  # one that is not understood
        return "a bad answer"


def calls() -> None:
    """Makes calls, and tells their failures apart."""
    listener = listen()
    app = served()
    server = uvicorn.Server(uvicorn.Config(app, log_level="error", **app.uvicorn_limits()))
    threading.Thread(target=server.run, args=([listener],), daemon=True).start()
    base = f"http://127.0.0.1:{listener.getsockname()[1]}"

    client = BookingsClient(base, {"timeout": 5.0, "tries": 2, "headers": {"desk": "7"}})
    booked = client.book(BookRequest(sailing="EID-0715", passengers=[Passenger(name="Ada Quill")]))
    print("client    ", "booked", booked.sailing, "for", len(booked.passengers))

    party = BookRequest(sailing="EID-0715", passengers=[Passenger(name="Ada Quill")] * 6)
    print("failure   ", failure(lambda: client.book(party)))
    print("failure   ", failure(lambda: client.booking(BookingRequest(id=booked.id))))
    print("failure   ", failure(lambda: client.book(BookRequest(sailing="EID-0715", passengers=[]))))
    print("failure   ", failure(lambda: BookingsClient("http://127.0.0.1:1").book(party)))

    notice = NoticeRequest(code=SailingCode("EID-0715"), language=Language("x-skerry"))
    print("failure   ", failure(lambda: QuayClient(base).unpost(notice)))
    thief = QuayClient(base, {"credentials": {"door": "a copy"}})
    print("failure   ", failure(lambda: thief.unpost(notice)))

    # A value that is asked for on every call, and a call that is given up.
    keeper = QuayClient(base, {"credentials": {"door": lambda: "north pier"}})
    enough = Cancellation()
    threading.Timer(0.05, enough.cancel).start()
    print("failure   ", failure(lambda: keeper.unpost(notice, cancellation=enough)))


if __name__ == "__main__":
    for way in (messages, encodings, bounds, open_, unlisted, scalars, secrets, calls):
        way()
