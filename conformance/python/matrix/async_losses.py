"""The client in Python, with asyncio, of connections that are cut.

It calls until a call comes through whole, and holds each that does not against
what it is told of it.
"""

from __future__ import annotations

import asyncio
import sys

from gen.faithful.aio import AsyncClientOptions
from gen.faithful.web import Unreachable
from gen.skerry.matrix import AsyncPierClient, CountRequest, Tick


async def act(client: AsyncPierClient, call: str) -> int:
    ticks = [Tick(n=n) for n in range(3)]
    if call == "sum":
        return (await client.sum(ticks)).total
    async with client.count(CountRequest(count=3)) if call == "count" else client.mirror(ticks) as answers:
        return len([tick async for tick in answers])


async def main() -> int:
    base, encoding, call = sys.argv[1:4]
    options: AsyncClientOptions = {"encoding": "json" if encoding == "json" else "cbor", "tries": 1, "timeout": 10.0}
    client = AsyncPierClient(base, options)
    cuts = 0
    while True:
        try:
            n = await act(client, call)
            print(f"whole after {cuts}" if n == 3 else f"cut {cuts}: {n} elements were taken for the whole")
            return 0 if n == 3 else 1
        except Unreachable:
            cuts += 1
        except Exception as error:
            print(f"cut {cuts}: {type(error).__name__}: {error}")
            return 1


if __name__ == "__main__":
    sys.exit(asyncio.run(main()))
