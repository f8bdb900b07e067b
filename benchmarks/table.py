"""The table of benchmarks: rows, how they are timed, and how they are printed."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from molino.core.balances.machine.choice import ACCOUNT

Work = Callable[[int], object]
"""A piece of work; the number of its turn changes its input, so that no answer is cached."""
ROWS: dict[str, tuple[Callable[[], Pair], tuple[float, float]]] = {}
SECONDS = 1.5
"""Time that each side of a row takes in all its turns, about."""


@dataclass(frozen=True)
class Pair:
    """One row: the same work by Molino, by the strongest script by hand, and at the limit (numba), if there is one.

    `agree` is the largest relative difference of their results that counts as the same, `clock` tells the time.
    """

    ours: Work
    by_hand: Work
    limit: Work | None = None
    agree: float = 1e-6
    clock: Callable[[], float] = time.perf_counter


def row(title: str, without: float, fast: float | None = None) -> Callable[[Callable[[], Pair]], Callable[[], Pair]]:
    """Register a row, with the ratios (by hand over Molino) to reach without and with machine code."""

    def registered(make: Callable[[], Pair]) -> Callable[[], Pair]:
        ROWS[title] = make, (without, fast or without)
        return make

    return registered


def difference(one: object, other: object) -> float:
    """The largest difference of two results over the largest value of each column (at least 1e-6 of the whole)."""
    a, b = np.atleast_1d(np.asarray(one, dtype=float)), np.atleast_1d(np.asarray(other, dtype=float))
    size = np.max(np.abs(b), axis=0) if b.ndim > 1 else np.max(np.abs(b))
    return float(np.max(np.abs(a - b) / np.maximum(size, max(1e-6 * np.max(np.abs(b)), 1e-300))))


def engine(name: str) -> None:
    """Use machine code ("with") or not ("without")."""
    ACCOUNT.is_installed = ACCOUNT.is_asked = name == "with"


def times(works: dict[str, Work], clock: Callable[[], float]) -> dict[str, float]:
    """The shortest time of each, in turn, so that all meet the same state of the machine."""
    for name, work in works.items():
        engine(name)
        work(0)  # compilation
    begin = time.perf_counter()
    first = dict.fromkeys(works, np.inf)
    turn = 1
    while turn < 3 or time.perf_counter() - begin < SECONDS * len(works):
        for name, work in works.items():
            engine(name)
            start = clock()
            work(turn)
            first[name] = min(first[name], clock() - start)
        turn += 1
    return first


def measured(title: str, has_fast: bool) -> Iterator[str]:
    """The lines of one row."""
    make, (without, fast) = ROWS[title]
    pair = make()
    works = {"by hand": pair.by_hand, "without": pair.ours} | ({"with": pair.ours} if has_fast else {})
    works |= {"limit": pair.limit} if pair.limit is not None else {}
    engine("without")
    apart = [difference(pair.ours(0), pair.by_hand(0))]
    if has_fast:
        engine("with")
        apart.append(difference(pair.ours(0), pair.by_hand(0)))
    found = times(works, pair.clock)
    hand = found["by hand"]
    cells = [f"{title:<58}", f"{1e3 * hand:>9.4g} ms", f"{hand / found['without']:>8.2f} ({without:.2g})"]
    cells.append(f"{hand / found['with']:>8.2f} ({fast:.2g})" if has_fast else " " * 12)
    cells.append(f"{hand / found['limit']:>8.1f}" if "limit" in found else " " * 8)
    cells.append(f"{max(apart):>9.0e}{'' if max(apart) <= pair.agree else ' DIFFERENT'}")
    yield " ".join(cells)


HEADER = f"{'work':<58} {'by hand':>12} {'without':>12} {'with':>12} {'limit':>8} {'differ':>9}"
