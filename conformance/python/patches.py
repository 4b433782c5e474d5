"""Applies the patches of a file, and makes them anew of what was before and after."""

from __future__ import annotations

import json
import sys
from typing import Any

from vectors import CLASSES


def disagreement(a: dict[str, str]) -> str | None:
    """What is wrong with a patch, or None."""
    of: Any = CLASSES[a["message"]]
    patch: Any = CLASSES[a["message"] + "Patch"]
    before, after = of.from_json(a["before"]), of.from_json(a["after"])
    applied = patch.from_json(a["patch"]).apply(before)
    text = applied.to_json()
    if text != a["after"]:
        return f"gives {text}, not {a['after']}"
    between = patch.between(before, after).to_json()
    again = patch.from_json(between).apply(before)
    # NaN is equal to nothing in Python, so texts are compared.
    if again != after and again.to_json() != a["after"]:
        return f"the patch between the two is {between}, which gives {again.to_json()}"
    return None


def main() -> int:
    with open(sys.argv[1], encoding="utf-8") as file:
        everything = json.load(file)
    bad = 0
    for a in everything:
        problem = disagreement(a)
        if problem is not None:
            bad += 1
            if bad <= 10:
                print(f"{a['message']} {a['before']}\n  {a['patch']}\n  {problem}")
    print(f"{bad} of {len(everything)} patches disagree" if bad else f"{len(everything)} patches agree")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
