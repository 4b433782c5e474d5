"""The documented ways of using the clients for asyncio: docs/python.md quotes it."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from uuid import UUID

import uvicorn

from gen.faithful.server import Context, Served, listen, serve
from gen.faithful.wire import Instant
from gen.skerry.booking import AsyncBookingsClient, BookRequest, Passenger, SailingFull, serve_bookings
from gen.skerry.common import Spot
from gen.skerry.fleet import Position
from gen.skerry.quay import AsyncQuayClient, FollowRequest, Quay, serve_quay
from ways import BookingDesk


class Screen(Quay):
    async def follow(self, request: FollowRequest, context: Context) -> AsyncIterator[Position]:
        for _ in range(3):
            yield Position(vessel=request.vessel, spot=Spot(latitude=12.5, longitude=-30.25), seen_at=Instant.now())

    async def ring(self, context: Context) -> None:
        await asyncio.sleep(1000)


def served() -> Served:
    return serve(serve_bookings(BookingDesk()), serve_quay(Screen()))


async def crew() -> str:
    """A credential may be asked for on every call, and waited for."""
    return "a token"


async def calls(base: str) -> None:
    bookings = AsyncBookingsClient(base, {"timeout": 5.0})
    booked = await bookings.book(BookRequest(sailing="EID-0715", passengers=[Passenger(name="Ada Quill")]))
    print("client    ", "booked", booked.sailing, "for", len(booked.passengers))
    try:
        await bookings.book(BookRequest(sailing="EID-0715", passengers=[Passenger(name="Ada Quill")] * 6))
    except SailingFull as full:
        print("full      ", full.seats_left, "seats are left")

    quay = AsyncQuayClient(base, {"credentials": {"crew": crew}})
    request = FollowRequest(vessel=UUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"), decks=[])
    async with quay.follow(request) as positions:
        print("follows   ", len([position async for position in positions]), "positions")

    ringing = asyncio.ensure_future(quay.ring())
    await asyncio.sleep(0.05)
    ringing.cancel()  # which reaches the handler on the other side
    try:
        await ringing
    except asyncio.CancelledError:
        print("no answer ", "it was cancelled")
    await bookings.aclose()
    await quay.aclose()


async def main() -> None:
    listener = listen()
    app = served()
    config = uvicorn.Config(app, log_level="critical", **app.uvicorn_limits())
    server = uvicorn.Server(config)
    serving = asyncio.ensure_future(server.serve([listener]))
    await calls(f"http://127.0.0.1:{listener.getsockname()[1]}")
    server.should_exit = True
    await serving


if __name__ == "__main__":
    asyncio.run(main())
