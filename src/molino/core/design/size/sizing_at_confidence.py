"""The size that reaches a target with a stated probability, by draws of the uncertain numbers."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy

from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.confidence import UncertainNumbers, drawn_metric, draws_for, margin, share_reaching
from molino.core.errors import NotFoundError
from molino.core.statistics import student_t_quantile
from molino.core.trains.train import Train

_CLOSE = 1e-5
"""Relative tolerance of the size."""
_DOUBLINGS = 12
"""Largest number of doublings of the margin."""
_MOST_COUNT = 2**20


@dataclass
class SizeAtConfidence:
    """A size and the share of draws that reach the target with it."""

    value: float
    reached: float
    vessel: Vessel | Train


class _Search:
    """Margins of a quantile over sizes, each from the same draws."""

    def __init__(
        self,
        make: Callable[[float], Any],
        uncertain: UncertainNumbers,
        metric: Metric,
        target: float,
        sign: float,
        confidence: float,
        seed: int,
        progress: Callable[[str], None] | None,
    ) -> None:
        self.make, self.uncertain, self.metric, self.target = make, uncertain, metric, target
        self.sign, self.confidence, self.progress = sign, confidence, progress
        self.seed = seed
        self.seen: dict[float, tuple[float, float]] = {}

    def margin(self, size: float) -> float:
        if size not in self.seen:
            vessel = self.make(size)
            count = draws_for(vessel)
            values = drawn_metric(vessel, self.uncertain, self.uncertain.draws(count, self.seed), self.metric)
            reached = share_reaching(values, self.target, self.sign)
            self.seen[size] = margin(values, self.target, self.sign, self.confidence), reached
            if self.progress is not None:
                self.progress(f"{len(self.seen)} sizes of {count} draws each, {reached:.1%} reach the target")
        return self.seen[size][0]

    def found(self, size: float) -> SizeAtConfidence:
        self.margin(size)
        return SizeAtConfidence(size, self.seen[size][1], self.make(size))

    def bracket(self, nominal: float, step: float) -> tuple[float, float]:
        """Two sizes: the larger reaches the target with the confidence (or none does), the smaller does not.

        They are equal where all smaller sizes that were tried reach the target."""
        low, high = nominal, nominal + step
        if self.margin(nominal) >= 0:
            high = nominal
            for _ in range(_DOUBLINGS):
                low = nominal - step if step < 0.5 * high else 0.5 * high
                if self.margin(low) < 0:
                    break
                high, step = low, 2 * step
            return (low, high) if self.margin(low) < 0 else (high, high)
        for _ in range(_DOUBLINGS):
            has_turned_back = self.margin(high) <= self.margin(low) and self.seen[high][1] < self.seen[low][1]
            if self.margin(high) >= 0 or has_turned_back:
                break
            low, high = high, nominal + 2 * (high - nominal)
        return low, high

    def not_found(self, label: str, text: Callable[[float], str]) -> NotFoundError:
        best = max(self.seen, key=lambda size: self.seen[size][1])
        message = (
            f"no size was found with which {self.metric} reaches its target with {self.confidence:.0%} confidence: at "
            f"most {self.seen[best][1]:.1%} of the draws reach it, at {text(best)}"
        )
        advice = "ask for less, for less confidence, or measure the most uncertain number (mo.spread_sources)"
        return NotFoundError(message, label, advice)


def size_at_confidence(
    make: Callable[[float], Any],
    nominal: float,
    run: Any,
    free: str,
    uncertain: UncertainNumbers,
    metric: Metric,
    target: float,
    confidence: float,
    seed: int,
    text: Callable[[float], str],
    progress: Callable[[str], None] | None = None,
) -> SizeAtConfidence:
    """The size nearest to the nominal one above which a fraction `confidence` of the draws reaches the target; it is
    below the nominal one if more draws reach the target there.

    Parameters
    ----------
    make : callable
        The vessel of a size in SI.
    nominal : float
        The size that reaches the target with the nominal numbers.
    run : Run or TrainRun
        Of that size.
    text : callable
        A size in words.

    Raises
    ------
    NotFoundError
        If no size reaches it with that confidence.
    """
    slope = float(run.sensitivity(metric, [free])[free])
    sign = 1.0 if slope >= 0 else -1.0
    search = _Search(make, uncertain, metric, target, sign, confidence, seed, progress)
    by = np.array(run.slopes((metric,), uncertain.names))[0]
    deviation = math.sqrt(max(float(by @ uncertain.covariance @ by), 0.0)) / max(abs(slope), 1e-300)
    step = max(student_t_quantile(confidence, uncertain.degrees_of_freedom), 0.5) * deviation
    step = step if 0 < step < math.inf else 1e-3 * nominal
    low, high = search.bracket(nominal, step)
    if search.margin(high) < 0:
        raise search.not_found(run.vessel.label, text)
    best = high
    if low < high and math.isfinite(search.margin(low)) and search.margin(high) > 0:
        best = float(scipy.optimize.brentq(search.margin, low, high, xtol=_CLOSE * nominal, rtol=_CLOSE))
        if search.margin(best) < 0:  # the size must be large enough
            best = min(size for size, (left, _) in search.seen.items() if left >= 0)
    return search.found(best)


def count_at_confidence(
    make: Callable[[float], Any],
    nominal: int,
    label: str,
    uncertain: UncertainNumbers,
    metric: Metric,
    target: float,
    sign: float,
    confidence: float,
    seed: int,
    progress: Callable[[str], None] | None = None,
) -> SizeAtConfidence:
    """As `size_at_confidence`, for a whole number."""
    search = _Search(make, uncertain, metric, target, sign, confidence, seed, progress)
    low, high, step = nominal - 1, nominal, 1
    while low > 0 and search.margin(float(low)) >= 0:
        low, high = low - 1, low
    while search.margin(float(high)) < 0:
        if high > _MOST_COUNT or (low >= nominal and search.seen[float(high)][1] < search.seen[float(low)][1]):
            raise search.not_found(label, lambda n: f"{n:.0f}")
        low, high, step = high, high + step, 2 * step
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if search.margin(float(middle)) >= 0 else (middle, high)
    return search.found(float(high))
