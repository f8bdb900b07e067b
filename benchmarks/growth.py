"""How times grow with the size of the work, and the exponent from each size to the next."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from importlib.util import find_spec
from math import log
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parent), str(Path(__file__).parent / "rows")]

import basins  # noqa: E402
import fits  # noqa: E402
import loops  # noqa: E402
import networks  # noqa: E402

import table  # noqa: E402


def basin(cells: int) -> table.Work:
    side = round(cells**0.5)
    return lambda turn: basins.solved(basins.basin(0.2 / 60 * (1 + 1e-6 * turn), side))


SIZES: dict[str, tuple[Callable[[int], table.Work], tuple[int, ...]]] = {
    "sweep of tubes, by cases": (
        lambda cases: loops.swept(loops.VESSELS["tube"][0], loops.tube, cases // 10, 10).ours,
        (100, 1_000, 10_000, 100_000),
    ),
    "integration of a network, by species": (
        lambda species: networks.compared(species, 3 * species).ours,
        (30, 100, 300),
    ),
    "fit at four temperatures, by constants": (lambda constants: fits.compared(constants // 2).ours, (4, 10, 20)),
    "basin, by cells": (basin, (2_500, 10_000, 40_000)),
}


def shortest(work: table.Work) -> float:
    """The shortest of three times."""
    work(0)
    found = []
    for turn in range(1, 4):
        begin = time.perf_counter()
        work(turn)
        found.append(time.perf_counter() - begin)
    return min(found)


def main() -> None:
    engines = ("without", "with") if find_spec("numba") else ("without",)
    print(f"{'work':<42} {'size':>9}" + "".join(f" {f'{name}, ms':>14} {'exponent':>9}" for name in engines))
    for title, (make, sizes) in SIZES.items():
        last: dict[str, float] = {}
        for n, size in enumerate(sizes):
            work, cells = make(size), ""
            for name in engines:
                table.engine(name)
                taken = shortest(work)
                power = log(taken / last[name]) / log(size / sizes[n - 1]) if n else None
                cells += f" {1e3 * taken:>14.4g} {'' if power is None else f'{power:.2f}':>9}"
                last[name] = taken
            print(f"{title:<42} {size:>9,}{cells}", flush=True)


if __name__ == "__main__":
    main()
