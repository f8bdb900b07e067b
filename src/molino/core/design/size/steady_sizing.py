"""The volume of a tank for a target, along the curve of its steady states."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from molino.core.balances.continuation import CLOSE, Curve
from molino.core.balances.settings import Report
from molino.core.balances.steady import growth_rates, steady
from molino.core.balances.system import Case, opened_symbol
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.size.size_search import FLAT, SizeSearchResult, TargetApproach, settle_asymptote
from molino.core.errors import SolveError
from molino.core.runs.follow import settled
from molino.core.vessels.steady_curve import EXHAUSTED, IS_EXHAUSTED, LOWEST, SAME, SteadyCurve

_FURTHER = math.log(1e3)
"""Range of the search for others beyond a volume that meets the target."""

Point = tuple[np.ndarray, np.ndarray, float, float]
"""A point of the curve, its tangent, the metric there and its derivative by the arc length."""


class _MetricCurve(SteadyCurve):
    """The curve with a metric along it."""

    def __init__(self, tank: Vessel, metric: Metric) -> None:
        super().__init__(tank)
        swap = {symbol: opened_symbol(symbol) for symbol in self.moving}
        expression = (self.vessel.spec.expression(metric).xreplace(swap),)
        self.evaluate = self.whole.outputs(expression)(self.values)
        self.gradient = self.whole.gradient(expression, self.symbols)(self.values)

    def metric(self, z: np.ndarray) -> float:
        try:
            _, y = self._opened(z)
            with np.errstate(all="ignore"):
                return float(self.evaluate(y, 0.0)[0])
        except ArithmeticError:  # it is undefined there: a selectivity without products
            return math.nan

    def metric_slopes(self, z: np.ndarray) -> np.ndarray:
        """d(metric)/dz."""
        (here, y), n = self._opened(z), self.n
        partial = self.gradient(y, 0.0)[0]
        by_volume = partial[:n] @ (self.grows * y[:n]) + partial[n:] @ here.by
        return np.append(partial[:n] * self.inner.slopes(y[:n], here.scale), by_volume)

    def slope(self, z: np.ndarray, along: np.ndarray) -> float:
        """d(metric)/d(arc length)."""
        try:
            return float(self.metric_slopes(z) @ along)
        except ArithmeticError:
            return math.nan


@dataclass
class _Walk:
    """One walk along the curve: its points, and whether it reached the end of the range."""

    points: list[Point]
    ended: str = ""
    """The reason why it stopped before the end of the range; empty if it did not."""

    def at(self, s: float) -> Iterator[np.ndarray]:
        """Guesses of the points at a volume, by linear interpolation between neighbours."""
        for (z, *_), (further, *_) in pairwise(self.points):
            if min(z[-1], further[-1]) <= s <= max(z[-1], further[-1]) and further[-1] != z[-1]:
                yield z + (s - z[-1]) / (further[-1] - z[-1]) * (further - z)


class _Search:
    """The search along the curve for the volumes at which the target is met."""

    def __init__(self, tank: Vessel, metric: Metric, target: float) -> None:
        self.tank, self.target = tank, target
        self.curve = _MetricCurve(tank, metric)
        self.approach = TargetApproach(target)
        self.tracer = self.curve.tracer()

    def walk(self, begin: np.ndarray, direction: float = 1.0) -> tuple[list[np.ndarray], _Walk]:
        """All points at which the target is met, from a beginning to the end of the range, and the walk itself."""
        curve, met, walk = self.curve, list[np.ndarray](), _Walk([])
        try:
            for z, along in self.tracer.walk(begin, LOWEST, curve.span, direction):
                curve.steps += 1
                here = z, along, curve.metric(z), curve.slope(z, along)
                if walk.points:
                    met += self._between(walk.points[-1], here)
                walk.points.append(here)
                gone = np.flatnonzero(curve.inner.logarithmic & (z[:-1] < EXHAUSTED))
                if len(gone):
                    walk.ended = f"{curve.balances.names[int(gone[0])]} {IS_EXHAUSTED}"
                if len(gone) or (met and z[-1] > met[0][-1] + _FURTHER):
                    break
        except (SolveError, ArithmeticError) as error:
            if not walk.points:
                raise
            walk.ended = str(error).partition("\n")[0]
        return met, walk

    def _between(self, before: Point, after: Point) -> list[np.ndarray]:
        """The points between two of the curve at which the target is met."""
        (z, along, old, first), (further, turned, new, last) = before, after
        ends = [(z, along, old)]
        is_steep = min(abs(first), abs(last)) > FLAT * self.approach.scale  # not the rounding of a constant metric
        if first * last < 0 and is_steep and math.isfinite(old) and math.isfinite(new):
            piece = Curve(np.array([z, further]), np.array([along, turned]))
            top = self.tracer.between(piece, 0, self.curve.slope)
            ends.append((top, self.tracer.tangent(top, along), self.curve.metric(top)))
        ends.append((further, turned, new))
        found = []
        for (low, across, value), (high, _, next_value) in pairwise(ends):
            volume = self.curve.parts(float(high[-1])).volume
            self.approach.see(volume, next_value)
            if self.approach.is_at(next_value):
                found.append(high)
            elif (value - self.target) * (next_value - self.target) < 0 and not self.approach.is_at(value):
                found.append(self._crossing(low, high, across, (value, next_value)))
        return found

    def _crossing(
        self, low: np.ndarray, high: np.ndarray, along: np.ndarray, values: tuple[float, float]
    ) -> np.ndarray:
        """The crossing of the target in a section of the curve: by Newton's method on balances and metric together, or
        by bisection of the section if that leaves it."""
        curve, target, chord = self.curve, self.target, high - low
        z = low + (target - values[0]) / (values[1] - values[0]) * chord
        length = float(chord @ chord)
        for _ in range(12):
            try:
                rows = np.vstack([curve.jacobian(z), curve.metric_slopes(z)])
                off = np.append(curve.residual(z), curve.metric(z) - target)
                size = np.maximum(np.max(np.abs(rows), axis=1), 1e-300)
                if not np.isfinite(size).all():
                    break
                step = np.linalg.solve(rows / size[:, None], -off / size)
            except (ArithmeticError, np.linalg.LinAlgError):
                break
            z = z + step
            if not np.isfinite(z).all() or not -0.01 * length <= float((z - low) @ chord) <= 1.01 * length:
                break
            if np.max(np.abs(step)) < CLOSE:
                if np.max(np.abs(z - low - float((z - low) @ chord) / length * chord)) < math.sqrt(length):
                    return np.asarray(z)
                break
        piece = Curve(np.array([low, high]), np.array([along, along]))
        return self.tracer.between(piece, 0, lambda p, _: curve.metric(p) - target)

    def elsewhere(self, forward: _Walk) -> list[np.ndarray]:
        """The points at which other branches meet the target; sets the certificate if there are none.

        Start-ups at volumes of all sizes, from the contents at t = 0 and from a fully reacted state, reach any branch
        that attracts them.
        """
        curve, approach = self.curve, self.approach
        states, failed = self.curve.settled_states()
        off_curve = [(y, s) for y, s in states if not self._is_on(forward, y, s)]
        found: list[np.ndarray] = []
        for y, s in off_curve:
            begin = curve.at_states(y, s)
            value = curve.metric(begin)
            approach.see(curve.parts(s).volume, value)
            for direction in (-1.0, 1.0):
                met, _ = self.walk(begin, direction)
                found += met
            if found:
                return found
        exhausted = forward.ended.endswith(IS_EXHAUSTED)  # no start-up reaches a state beyond the end of the curve
        if exhausted or not (forward.ended or off_curve or failed):
            approach.answer.certificate = self._certificate(forward)
        return found

    def _is_on(self, walk: _Walk, y: np.ndarray, s: float) -> bool:
        """Whether a steady state is on the part of the curve of a walk."""
        curve = self.curve
        there = curve.amounts & (y > 1e-12 * curve.parts(s).scale)
        if (there & ~curve.inner.logarithmic).any():
            return False
        for guess in walk.at(s):
            try:
                near = curve.states(self.tracer.pinned(guess, s))
            except (SolveError, ArithmeticError):
                continue
            if np.max(np.abs(near - y) / curve.parts(s).scale) < SAME:
                return True
        return False

    def _certificate(self, walk: _Walk) -> str:
        """The proof that the target cannot be reached; empty without one."""
        answer = self.approach.close()
        followed = "the curve of steady states was followed over its whole length, and start-ups find no other"
        if answer.best is None:
            return ""
        if walk.ended:
            return f"the curve of steady states was followed to its end, where {walk.ended}"
        if answer.turned:
            return followed
        return followed if settle_asymptote(answer, self._over_decades(walk), self.target, self.approach.scale) else ""

    def _over_decades(self, walk: _Walk) -> list[float]:
        """The metric at a millionth and at a thousandth of the last volume of a walk, and there."""
        last = float(walk.points[-1][0][-1])
        places = [last - math.log(1e6), last - math.log(1e3)]
        points = [self.tracer.pinned(next(walk.at(s)), s) for s in places] + [walk.points[-1][0]]
        return [self.curve.metric(z) for z in points]


def along_steady_states(tank: Vessel, metric: Metric, target: float) -> SizeSearchResult:
    """The least volume at which a steady state meets the target, and the others.

    Newton's method at growing arc length, with the exact derivatives of balances, volume and metric (H. B. Keller, in
    Applications of Bifurcation Theory, 1977, 359), in logarithms of amounts.
    """
    search = _Search(tank, metric, target)
    curve, approach = search.curve, search.approach
    begin = curve.beginning()
    approach.see(0.0, curve.metric(begin))
    if approach.answer.is_there:
        return approach.answer
    met, forward = search.walk(begin)
    if not met:
        met = search.elsewhere(forward)
    elif forward.ended and not forward.ended.endswith(IS_EXHAUSTED):
        approach.answer.uncovered = forward.ended
    if not met:
        approach.close()
        approach.answer.tried = forward.ended or "the curve of steady states and start-ups at volumes of all sizes"
        return approach.answer
    return _answered(tank, curve, approach, met)


def _answered(tank: Vessel, curve: _MetricCurve, approach: TargetApproach, met: list[np.ndarray]) -> SizeSearchResult:
    met = sorted(met, key=lambda z: float(z[-1]))
    z, answer = met[0], approach.answer
    s = float(z[-1])
    volume, _, _, scale, _ = curve.parts(s)
    state, case = curve.states(z), curve.case(s)
    report = Report("curve of steady states over the volume", curve.steps, curve.evaluations, curve.evaluations)
    answer.passed = volume
    answer.others = tuple(
        v
        for n, other in enumerate(met[1:])
        if (v := curve.parts(float(other[-1])).volume) > (1 + SAME) * curve.parts(float(met[n][-1])).volume
    )
    answer.run = lambda sized: settled(sized, state, report)
    answer.is_stable = bool(np.max(growth_rates(case, state).real) < 0)
    remark = _remark(case, state, scale, curve.time(s), answer.is_stable)
    if answer.uncovered:
        remark = "; ".join(filter(None, [remark, f"others were not searched beyond a place where {answer.uncovered}"]))
    answer.remark = remark
    return answer


def _remark(case: Case, state: np.ndarray, scale: np.ndarray, time_scale: float, is_stable: bool) -> str:
    """Whether a steady state is stable, and whether the tank reaches it from its contents at t = 0."""
    if not is_stable:
        return "this steady state is unstable: the tank leaves it, unless it is controlled"
    try:
        reached, _ = steady(case, time_scale)
    except SolveError:
        return "stable, but from its contents at t = 0 the tank reaches no steady state"
    if np.max(np.abs(reached - state) / scale) < 1e-6:
        return ""
    remark = "stable, but from its contents at t = 0 the tank reaches another steady state"
    return f"{remark}: start it with contents near this one"
