"""Conditions that change during a run: piecewise linear over time (or along a tube), with steps.

Each interval between two breaks is a stage with its own numbers: their values at its start, and their slopes. The
balances are the same symbols in all stages, so that they are compiled once.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import SINCE, slope_of
from molino.core.balances.system import Balances, Case
from molino.core.errors import Faults, InputError
from molino.core.unit_tables import EXAMPLES


@dataclass(frozen=True)
class PiecewiseLinear:
    """A number over time, linear between points; two points at one time are a step."""

    times: tuple[float, ...]
    values: tuple[float, ...]

    def __post_init__(self) -> None:
        assert len(self.times) == len(self.values)

    @classmethod
    def constant(cls, value: float) -> PiecewiseLinear:
        return cls((0.0,), (value,))

    @classmethod
    def read(
        cls,
        given: object,
        along: str,
        kind: str,
        place: str,
        zero: bool = False,
        read: Callable[[object], float] | None = None,
    ) -> PiecewiseLinear:
        """From (time, value) pairs; InputError for a value that is not valid, or does not rise in time."""
        faults = Faults()
        times, values = [], []
        pairs = [*given] if isinstance(given, list | tuple) else []
        if not pairs or any(not isinstance(pair, list | tuple) or len(pair) != 2 for pair in pairs):
            advice = f"write [('0', '{EXAMPLES[kind]}'), ('{EXAMPLES[along]}', ...)]"
            raise InputError(f"{given!r} is not a list of pairs", place, advice)
        for at, value in pairs:
            with faults.at(place):
                times.append(units.positive(at, along, along, zero=True).si)
            with faults.at(place):
                values.append(read(value) if read is not None else units.positive(value, kind, kind, zero=zero).si)
        if not faults.found and any(b < a for a, b in itertools.pairwise(times)):
            faults.add(place, "the times do not rise", "put the pairs in order; the same time twice is a step")
        faults.raise_any()
        return cls(tuple(times), tuple(values))

    def after(self, t: float) -> float:
        """The value just after t."""
        n = int(np.searchsorted(self.times, t, side="right"))
        if n == 0 or n == len(self.times):
            return self.values[max(n - 1, 0)]
        return self._between(n, t)

    def before(self, t: float) -> float:
        """The value just before t."""
        n = int(np.searchsorted(self.times, t, side="left"))
        if n == 0 or n == len(self.times):
            return self.values[max(n - 1, 0)]
        return self._between(n, t)

    def _between(self, n: int, t: float) -> float:
        (a, b), (u, v) = self.times[n - 1 : n + 1], self.values[n - 1 : n + 1]
        return u + (v - u) * (t - a) / (b - a)

    def integral(self, end: float) -> float:
        """Over time from 0 to the end."""
        marks = [0.0, *(t for t in dict.fromkeys(self.times) if 0 < t < end), end]
        return sum((self.after(a) + self.before(b)) / 2 * (b - a) for a, b in itertools.pairwise(marks))


@lru_cache(maxsize=256)
def moving(balances: Balances, symbols: tuple[sp.Symbol, ...]) -> Balances:
    """The same balances with some parameters linear in time: each s becomes s + slope (t - since)."""
    if not symbols:
        return balances
    swap = {s: s + slope_of(s) * (balances.independent - SINCE) for s in symbols}
    further = [s for s in (SINCE, *(slope_of(s) for s in symbols)) if s not in balances.parameters]
    return replace(
        balances,
        definitions=tuple((s, e.xreplace(swap)) for s, e in balances.definitions),
        rhs=tuple(e.xreplace(swap) for e in balances.rhs),
        parameters=(*balances.parameters, *further),
    )


@dataclass(frozen=True)
class Segment:
    """A stage of a run with its own numbers, up to `end`."""

    end: float
    case: Case


def segments(
    case: Case, moving_numbers: Mapping[sp.Symbol, PiecewiseLinear], end: float, also: Iterable[float] = ()
) -> list[Segment]:
    """The stages of a case from 0 to the end, with the numbers from `tracks`; `also` are further breaks."""
    if not moving_numbers and not also:
        return [Segment(end, case)]
    shifting = tuple(s for s in moving_numbers if _ramps(moving_numbers[s]))
    balances = moving(case.balances, shifting)
    known = dict(zip(case.balances.parameters, case.values, strict=True))
    marks = {t for piecewise in moving_numbers.values() for t in piecewise.times} | {*also}
    breaks = [0.0, *sorted(t for t in marks if 0 < t < end), end]
    found = []
    if len(breaks) > 2 and SINCE not in balances.parameters:
        balances = replace(balances, parameters=(*balances.parameters, SINCE))
    for a, b in itertools.pairwise(breaks):
        numbers = known | {s: piecewise.after(a) for s, piecewise in moving_numbers.items()} | {SINCE: a}
        for s in shifting:
            numbers[slope_of(s)] = (
                (moving_numbers[s].before(b) - moving_numbers[s].after(a)) / (b - a) if b > a else 0.0
            )
        found.append(Segment(b, Case(balances, tuple(float(numbers.get(p, 0.0)) for p in balances.parameters))))
    return found


def _ramps(piecewise: PiecewiseLinear) -> bool:
    """Whether it changes other than by steps."""
    pairs = zip(piecewise.times, piecewise.values, strict=True)
    points: Sequence[tuple[float, float]] = [*pairs]
    return any(b[0] > a[0] and b[1] != a[1] for a, b in itertools.pairwise(points))
