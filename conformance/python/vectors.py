"""Holds the stubs against the vectors of a file, or with - against each line of the input."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from typing import Any, TypeVar

from gen.faithful.wire import WireError
from gen.skerry.language import types as language
from gen.skerry.many import types as many
from gen.skerry.shared import types as shared
from gen.skerry.vectors import types as vectors

CLASSES: dict[str, Any] = {}
for module in (language, many, shared, vectors):
    CLASSES.update({name: value for name, value in vars(module).items() if hasattr(value, "from_cbor")})

T = TypeVar("T")


def attempt(act: Callable[[], T]) -> T | None:
    """What comes of an attempt; None when it is refused."""
    try:
        return act()
    except WireError:
        return None


def disagreement(v: dict[str, Any]) -> str | None:
    """What is wrong with a vector, or None."""
    cls = CLASSES[v["message"]]
    payload = bytes.fromhex(v["payload"])
    m = attempt(lambda: cls.from_cbor(payload) if v["encoding"] == "cbor" else cls.from_json(payload))
    if m is None:
        return "refused" if v["accepted"] else None
    if not v["accepted"]:
        return f"taken; the reference: {v.get('why')}"
    cbor = attempt(lambda: m.to_cbor().hex())
    if cbor != v["cbor"]:
        return f"writes {cbor}, not {v['cbor']}"
    text = attempt(m.to_json)
    if text != v["json"]:
        return f"writes {text}, not {v['json']}"
    found = [{"pointer": x.pointer, "detail": x.detail} for x in m.validate()]
    wanted = v["violations"] or []
    return None if found == wanted else f"violates {found}, not {wanted}"


def main() -> int:
    if sys.argv[1] == "-":
        for line in sys.stdin:
            print(json.dumps(disagreement(json.loads(line))), flush=True)
        return 0
    with open(sys.argv[1], encoding="utf-8") as file:
        everything = json.load(file)
    bad = 0
    for v in everything:
        problem = disagreement(v)
        if problem is not None:
            bad += 1
            if bad <= 10:
                shown = (
                    bytes.fromhex(v["payload"]).decode(errors="replace") if v["encoding"] == "json" else v["payload"]
                )
                print(f"{v['message']} as {v['encoding']}: {shown}\n  {problem}")
    print(f"{bad} of {len(everything)} payloads disagree" if bad else f"{len(everything)} payloads agree")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
