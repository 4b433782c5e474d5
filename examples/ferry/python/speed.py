"""Measures the codecs against json.dumps and json.loads, in interleaved rounds: the median of the ratios."""

from __future__ import annotations

import gc
import json
import statistics
import sys
import time
from collections.abc import Callable, Sequence
from typing import Any
from uuid import UUID

from gen.faithful.wire import Instant
from gen.skerry.booking import Booking, BookingState, Passenger, Vehicle
from gen.skerry.common import Money, Spot
from gen.skerry.fleet import Deck, DeckPlan, FleetAnswer, Position, Vessel, VesselState


def at(i: int) -> Instant:
    return Instant(1784000000 + i * 3600, (i % 3) * 250_000_000)


BOOKINGS = [
    Booking(
        id=UUID(int=i << 64 | 9),
        sailing=f"EID-{i:04d}",
        passengers=[
            Passenger(name=f"Passenger number {n} of Skerry", born=at(n), needs_help=n == 2) for n in range(1 + i % 4)
        ],
        vehicle=Vehicle(plate="SK 1204", metres=4.5 + i / 7) if i % 2 == 0 else None,
        fare=Money(hundredths=i * 1250),
        made_at=at(i),
        state=BookingState.PAID,
        deck=Deck.CAR,
        extras={key: Money(hundredths=990) for key in ("meal", "cabin")[: i % 3]},
        email="somebody@skerry.example" if i % 2 == 0 else None,
        ticket=bytes(40) if i % 2 == 0 else None,
    )
    for i in range(100)
]
POSITIONS = [
    Position(vessel=UUID(int=i), spot=Spot(latitude=12 + i / 7, longitude=-30 - i / 9), seen_at=at(i), knots=i / 3)
    for i in range(100)
]
FLEETS = [
    FleetAnswer(
        vessels=[
            Vessel(
                id=UUID(int=i),
                name=f"Vessel {n}",
                decks=[DeckPlan(deck=Deck.SALOON, seats=d * 20, lanes=d) for d in range(4)],
                state=VesselState.MOORED,
                names={key: f"Vessel {n} in {key}" for key in ("x-skerry", "x-sound", "x-bay", "x-isle")},
            )
            for n in range(5)
        ]
    )
    for i in range(100)
]


LISTS = [FleetAnswer(vessels=[v for fleet in FLEETS for v in fleet.vessels] * 20)]


def ratio(ours: Callable[[int], object], reference: Callable[[int], object], count: int) -> float:
    def run(f: Callable[[int], object]) -> float:
        start = time.perf_counter()
        for _ in range(5 if count > 1 else 1):
            for i in range(count):
                f(i)
        return time.perf_counter() - start

    for _ in range(5 if count > 1 else 1):
        run(ours)
        run(reference)
    return statistics.median(run(ours) / run(reference) for _ in range(31 if count > 1 else 7))


def measure(name: str, values: Sequence[Any]) -> None:
    payloads = [value.to_cbor() for value in values]
    texts = [value.to_json() for value in values]
    plains = [json.loads(text) for text in texts]
    cls = type(values[0])
    for value, payload, text in zip(values, payloads, texts, strict=True):
        assert cls.from_cbor(payload) == value
        assert cls.from_json(text) == value

    def compare(encoding: str, write: Callable[[int], object], read: Callable[[int], object]) -> None:
        encode = ratio(write, lambda i: json.dumps(plains[i]), len(values))
        decode = ratio(read, lambda i: json.loads(texts[i]), len(values))
        print(f"python {name}: {encoding} encode {encode:.2f} of json.dumps, decode {decode:.2f} of json.loads")

    compare("CBOR", lambda i: values[i].to_cbor(), lambda i: cls.from_cbor(payloads[i]))
    compare("JSON", lambda i: values[i].to_json(), lambda i: cls.from_json(texts[i]))


LARGEST = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
"""How many vessels the largest payload holds: 100,000 are 40 MB as JSON, and half of that as CBOR."""


def grows(make: Callable[[FleetAnswer], Any], write: Callable[[Any], Any], read: Callable[[Any], Any]) -> float:
    """Times a vessel in four payloads, each ten times as large as the one before: by how much it grows with each."""
    gc.disable()  # what it takes grows with all that the program holds
    times = []
    for vessels in (LARGEST // 1_000, LARGEST // 100, LARGEST // 10, LARGEST):
        value = make(FleetAnswer(vessels=(LISTS[0].vessels * (LARGEST // 10_000))[:vessels]))
        rounds = []
        for _ in range(max(2, 10_000 // vessels)):
            start = time.perf_counter()
            read(write(value))
            rounds.append(time.perf_counter() - start)
        times.append(min(rounds) / vessels)
    gc.enable()
    return float((times[-1] / times[0]) ** (1 / 3))


def growth(name: str, write: Callable[[FleetAnswer], Any], read: Callable[[Any], FleetAnswer]) -> None:
    ours = grows(lambda answer: answer, write, read)
    reference = grows(lambda answer: json.loads(answer.to_json()), json.dumps, json.loads)
    print(f"python {name}: tenfold payloads take {ours:.2f} of tenfold time, json.dumps and json.loads {reference:.2f}")


if __name__ == "__main__":
    measure("position", POSITIONS)
    measure("booking", BOOKINGS)
    measure("fleet", FLEETS)
    measure("list", LISTS)
    growth("CBOR", FleetAnswer.to_cbor, lambda payload: FleetAnswer.from_cbor(payload, 100_000_000))
    growth("JSON", FleetAnswer.to_json, lambda text: FleetAnswer.from_json(text, 100_000_000))
