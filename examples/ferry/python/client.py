"""A client of the Skerry Line: an example of how generated clients are used."""

from __future__ import annotations

import sys
from uuid import UUID

from gen.faithful.client import ClientOptions
from gen.faithful.web import MissingCredential, Problem
from gen.faithful.wire import Instant
from gen.skerry.booking import (
    LARGEST_PARTY,
    BookingRequest,
    BookingsClient,
    BookRequest,
    Passenger,
    SailingFull,
    SailingsRequest,
    Vehicle,
)
from gen.skerry.common import NotFound, Spot
from gen.skerry.fleet import Deck, FleetClient, FleetRequest, Position, StalePosition, VesselRequest
from gen.skerry.quay import (
    BoardingScan,
    DoorCode,
    FollowRequest,
    FootPassage,
    Language,
    Names,
    Notice,
    NoticeRequest,
    PassageFoot,
    PassageVehicle,
    QuayClient,
    Refusal,
    SailingCode,
    Signal,
    VehiclePassage,
)


def bookings_story(bookings: BookingsClient, fleet: FleetClient) -> None:
    """Calls everything once, and says what came back."""
    sailings = bookings.sailings(SailingsRequest(from_="Eiderwick")).sailings
    for s in sailings:
        print(f"sails      {s.code} at {s.leaves_at.to_datetime():%H:%M}, {s.from_} to {s.to}")

    request = BookRequest(
        sailing="EID-0715",
        passengers=[Passenger(name="Ada Quill"), Passenger(name="Tom Skua", needs_help=True)],
        deck=Deck.CAR,
        vehicle=Vehicle(plate="SK 1204", metres=4.5),
    )
    booked = bookings.book(request)
    fare = f"{booked.fare.currency} {booked.fare.hundredths // 100}.{booked.fare.hundredths % 100:02d}"
    print(f"booked     {len(booked.passengers)} passengers, deck {booked.deck}, {fare}")

    found = bookings.booking(BookingRequest(id=booked.id))
    print(f"found      the booking again: {'true' if found.id == booked.id else 'false'}, {found.state}")

    # The four kinds of failure are told apart by their classes.
    request.passengers = [Passenger(name="A walking group")] * LARGEST_PARTY
    try:
        bookings.book(request)
    except SailingFull as full:
        print(f"full       {full.seats_left} seats are left")
    try:
        fleet.vessel(VesselRequest(id=UUID(int=0)))
    except NotFound as unknown:
        print(f"not found  {unknown.what}")
    try:
        bookings.cancel(BookingRequest(id=booked.id))
    except Problem as problem:
        print(f"problem    {problem}")

    now = Instant.now()
    position = Position(vessel=sailings[0].vessel, spot=Spot(latitude=12.5, longitude=-30.25), seen_at=now)
    fleet.report(position)
    position.seen_at = Instant(now.seconds - 3600)
    try:
        fleet.report(position)
    except StalePosition:
        print("stale      the server knows a later position")


def quay_story(base: str, vessel: UUID, options: ClientOptions) -> None:
    """Streams in all three ways, and shows credentials."""
    screen = QuayClient(base, options)
    with screen.follow(FollowRequest(vessel=vessel, decks=[])) as positions:
        for position in positions:
            print(f"follows    at {position.seen_at.to_datetime():%H:%M}")

    notice = NoticeRequest(code=SailingCode("EID-0715"), language=Language("x-skerry"))
    try:
        screen.unpost(notice)
    except MissingCredential as missing:
        print(f"missing    {missing.needs}")

    options["credentials"] = {"door": "north pier", "crew": "a token"}
    door = QuayClient(base, options)
    scans = [
        BoardingScan(
            id=UUID("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
            sailing=SailingCode("EID-0715"),
            passage=passage,
            door_code=DoorCode("K7PLM2"),
            seen_at=Instant.now(),
            seats=2,
            luggage=[],
            names=Names({}),
        )
        for passage in (
            PassageFoot(FootPassage(dogs=1)),
            PassageVehicle(VehiclePassage(plate="SK 1204", metres=4.5, refused={})),
            PassageVehicle(VehiclePassage(plate="SK 9", metres=16.0, refused={})),
        )
    ]
    summary = door.board(scans)
    print(f"boarded    {summary.boarded}, refused {summary.refused[Refusal.WRONG_FERRY]} on the wrong ferry")

    with door.talk([Signal(text="Lines off at 07:15.")]) as signals:
        for signal in signals:
            print(f"talks      {signal.text}")

    posted = door.post(Notice(code=notice.code, language=notice.language, body="Fog."))
    print(f"posted     {posted.body} for {posted.code}")
    door.unpost(notice)


def main() -> None:
    base = sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8080"
    options: ClientOptions = {"encoding": "json" if sys.argv[2:] == ["json"] else "cbor"}
    fleet = FleetClient(base, options)
    bookings_story(BookingsClient(base, options), fleet)
    quay_story(base, fleet.list_(FleetRequest()).vessels[0].id, options)


if __name__ == "__main__":
    main()
