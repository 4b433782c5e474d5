"""The client in Python of long streams: it prints how much memory it came to need, in KiB.

The reader of a stream is slow at first.
"""

from __future__ import annotations

import itertools
import resource
import sys
import time
from collections.abc import Iterator

from gen.faithful.wire import Body
from gen.skerry.matrix import CountRequest, Crate, CrateRequest, PierClient, Tick


def ticks(count: int, size: int) -> Iterator[Tick]:
    text = "x" * size
    for i in range(count):
        yield Tick(n=1, text="slow" if i < 50 else text)


def main() -> None:
    base, call, count, size = sys.argv[1], sys.argv[2], int(sys.argv[3]), int(sys.argv[4])
    client = PierClient(base)
    if call == "count":
        seen = 0
        with client.count(CountRequest(count=count, size=size)) as answers:
            for tick in answers:
                if tick.n == 0:
                    time.sleep(1)
                seen += 1
    elif call == "stow":
        blocks = itertools.repeat(bytes(size), count)
        seen = client.stow(Crate(load=Body(blocks, size=count * size))).total // size
    elif call == "unload":
        seen = sum(len(chunk) for chunk in client.unload(CrateRequest(size=count * size)).load) // size
    else:
        seen = client.sum(ticks(count, size)).total
    assert seen == count, seen
    print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)


if __name__ == "__main__":
    main()
