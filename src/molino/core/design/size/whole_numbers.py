"""The least whole number of tubes, or of equal tanks in series, that reaches a target."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.size.size_search import SizeSearchResult
from molino.core.errors import SolveError
from molino.core.trains.train import Train

TANKS = "tanks_in_series"
"""The name of the number of equal tanks."""
_NEXT_TO_NOTHING = 1e-9
"""A fraction of its size that leaves the feed unchanged."""
_MOST = {"tubes": 2**20, TANKS: 256}


@dataclass
class WholeNumberResult:
    """The least number that reaches a target, with the metric for it and for one less.

    Attributes
    ----------
    number : int or None
        None if the target is not reached.
    value, before : float
        The metric with that number, and with one less; nan if it cannot be run.
    vessel, run
        With that number.
    search : SizeSearchResult
        The best value, if the target cannot be reached.
    """

    number: int | None = None
    value: float = math.nan
    before: float = math.nan
    vessel: Any = None
    run: Any = None
    search: SizeSearchResult = field(default_factory=SizeSearchResult)


def with_count(vessel: Vessel, free: str, number: int) -> Vessel | Train:
    """The vessel with a number of tubes; or a number of equal tanks in series."""
    if free != TANKS:
        return vessel.with_({free: number})
    name = vessel.name or "tank"
    steps: list[Any] = [vessel.with_(name=f"{name} {n}") for n in range(1, number + 1)]
    return Train(steps, name=name)


def least_number(vessel: Vessel, metric: Metric, target: float, free: str) -> WholeNumberResult:
    """Search by doubling the number until the target (or a peak) is passed, then by bisection.

    A number that cannot be run (a bed that chokes) does not reach the target.
    """
    found: dict[int, tuple[float, Any, Any]] = {}

    def at(number: int) -> float:
        if number not in found:
            one = with_count(vessel, free, number)
            try:
                run = one.run()
                found[number] = run.metric(metric), one, run
            except SolveError:
                found[number] = math.nan, one, None
        return found[number][0]

    answer, begin = WholeNumberResult(), int(vessel.spec.conditions[free].own) if free != TANKS else 1
    sign = _direction(vessel, metric, target, at(2 * begin), at(begin))
    reached = _first_reached(at, target, sign, begin, _MOST[free])
    if reached is None:
        values = {n: value for n, (value, _, _) in found.items() if math.isfinite(value)}
        best = max(values, key=lambda n: sign * values[n], default=begin)
        search = answer.search
        search.first, search.best, search.best_at = at(begin), values.get(best), float(best)
        search.has_changed = len({*values.values()}) > 1
        search.turned = best not in (max(values, default=1), 1)
        most = max(values, default=begin)
        search.tried = f"numbers from 1 to {most}"
        if search.turned:
            search.certificate = f"numbers on both sides of {best} were run"
        elif most < _MOST[free] // 2:
            search.certificate = f"the metric is constant over the last doublings, up to {most}"
        return answer
    low, high = reached
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if sign * (at(middle) - target) >= 0 else (middle, high)
    answer.number, answer.before = high, at(low) if low else math.nan
    answer.value, answer.vessel, answer.run = found[high]
    return answer


def _direction(vessel: Vessel, metric: Metric, target: float, second: float, here: float) -> float:
    """Whether the metric must rise (1) or fall (-1) from the inlet to the target."""
    size = next(name for name in vessel.spec.sizes if getattr(vessel, name) is not None)
    try:
        first = vessel.with_({size: vessel.spec.conditions[size].own * _NEXT_TO_NOTHING}).run().metric(metric)
    except SolveError:
        first = math.nan
    if not math.isfinite(first):  # a selectivity is undefined there
        return -1.0 if second < here else 1.0
    return 1.0 if target >= first else -1.0


def _first_reached(
    at: Callable[[int], float], target: float, sign: float, begin: int, most: int
) -> tuple[int, int] | None:
    """A number that does not reach the target and a larger one that does."""
    high = begin
    while sign * (at(high) - target) >= 0:
        low = high // 2
        if low == 0 or not sign * (at(low) - target) >= 0:
            return low, high
        high = low
    last, number = begin, 2 * begin
    values = [(begin, sign * at(begin))]
    while number <= most:
        value = at(number)
        if sign * (value - target) >= 0:
            return last, number
        values.append((number, sign * value))
        recent = [v for _, v in values[-3:] if math.isfinite(v)]
        if len(recent) == 3 and recent[1] > max(recent[0], recent[2]):
            return _peak(at, target, sign, values[-3][0], values[-1][0])
        if len(recent) == 3 and abs(recent[2] - recent[0]) < 1e-9 * max(abs(target), abs(recent[2])):
            return None
        last, number = number, 2 * number
    return None


def _peak(at: Callable[[int], float], target: float, sign: float, low: int, high: int) -> tuple[int, int] | None:
    """Whether the target is reached between two numbers around a maximum of the metric."""
    first = low
    while high - low > 2:
        third = max((high - low) // 3, 1)
        left, right = low + third, high - third
        low, high = (low, right) if sign * at(left) >= sign * at(right) else (left, high)
    best = max(range(low, high + 1), key=lambda n: sign * at(n))
    return (first, best) if sign * (at(best) - target) >= 0 else None
