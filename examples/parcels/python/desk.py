"""A desk at a quay: it sends a parcel, takes a photo of it, and hands parcels over as they are scanned."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from uuid import UUID

from gen.faithful.web import NotModified, Problem
from gen.faithful.wire import Body
from gen.skerry.parcels import (
    Amendment,
    Desk,
    Name,
    Parcel,
    ParcelChanged,
    ParcelPatch,
    ParcelRequest,
    ParcelsClient,
    Photo,
    PhotoRequest,
    Quay,
    Scan,
    Sending,
    SignIn,
)

BASE, PHOTO, COPY = sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])


def scans(parcels: list[UUID]) -> Iterator[Scan]:
    """What the scanner reads; the call goes on meanwhile."""
    for parcel in parcels:
        yield Scan(parcel=parcel)


with ParcelsClient(BASE, {"credentials": {"desk": "skerry desk"}}) as desk:
    visitor = desk.sign_in(SignIn(name=Name("Håkon Tern"))).visitor
    assert visitor is not None

    with ParcelsClient(BASE, {"credentials": {"visitor": visitor}}) as home:
        sent = home.send(Sending(parcel=Parcel(to=Name("Marit Skua"), quay=Quay("Skerry"), note="Glass.")))
        print("sent      ", sent.parcel.to_text())

        # Only what differs travels.
        after = replace(sent.parcel, grams=1500, note=None)
        changes = ParcelPatch.between(sent.parcel, after)
        print("changes   ", changes.to_text())
        changed = home.amend(Amendment(id=sent.id, known=sent.tag, changes=changes))
        print("now       ", changed.parcel.to_text())
        try:
            home.amend(Amendment(id=sent.id, known=sent.tag, changes=ParcelPatch(to=Name("Ada Petrel"))))
        except ParcelChanged as error:
            print("refused   ", error.id == sent.id)

    with PHOTO.open("rb") as file:
        desk.put_photo(Photo(id=sent.id, photo=Body(file, media_type="image/png")))
    answer = desk.photo(PhotoRequest(id=sent.id))
    with COPY.open("wb") as copy:
        for chunk in answer.photo:
            copy.write(chunk)
    print("photo     ", answer.photo.media_type, COPY.stat().st_size, "bytes")
    try:
        desk.photo(PhotoRequest(id=sent.id, known=answer.tag))
    except NotModified:
        print("photo     ", "is still the same")

    stray = UUID("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f")
    handed = desk.hand_over(Desk(quay=Quay("Skerry"), device="scanner 2"), scans([sent.id, stray]))
    print("handed    ", handed.parcels, "and", len(handed.never_sent), "that nobody has sent")
    print("it is at  ", desk.parcel(ParcelRequest(id=sent.id)).at)

    try:
        desk.send(Sending(parcel=sent.parcel), options={"credentials": {"visitor": "nobody"}})
    except Problem as problem:
        print("problem   ", problem)
