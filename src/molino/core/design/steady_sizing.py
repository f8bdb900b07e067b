"""The volume of a tank for a target, along the curve of its steady states."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np

from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import CLOSE, ArcLength, Curve, LogStates
from molino.core.balances.functions import Functions
from molino.core.balances.integrate import Report, start
from molino.core.balances.source import NotFinite
from molino.core.balances.steady import growth_rates, steady
from molino.core.balances.system import AMOUNTS, Case, opened_symbol
from molino.core.design.size_search import FLAT, SizeSearchResult, TargetApproach, settle_asymptote
from molino.core.errors import SolveError
from molino.core.vessels.base import Vessel
from molino.core.vessels.metrics import Metric
from molino.core.vessels.parameter_map import ParameterMap
from molino.core.vessels.roles import AMOUNT, START, VOLUME
from molino.core.vessels.run import settled

_SMALLEST, _LARGEST = 0.03, 1e18
"""The range of volumes, in units of the volume in which the fastest reaction converts a noticeable share."""
_FARTHEST = 300.0
"""Logarithm of a volume beyond which a step of Newton's method has lost the curve."""
_NEARER = -12.0
"""Logarithm of the first volume over the smallest; next to nothing reacts in it."""
_LOWEST = -40.0
"""Logarithm of the least volume to which a curve is followed back after a fold."""
_FURTHER = math.log(1e3)
"""How far beyond a volume that meets the target others are looked for."""
_LONGEST = 3.0
"""The longest step along the curve, in logarithms of amounts and of the volume."""
_IS_EXHAUSTED = "is exhausted"
_EXHAUSTED = -90.0
"""Logarithm of a scaled amount at which a species is exhausted: a rate law consumes it whatever is left."""
_LARGEST_STEP = 2.0
"""Longest step in the logarithm of an amount on the way to the first steady state."""
_SAME = 1e-5
"""Relative distance within which two steady states are one."""
_START_UPS = (-2.0, 0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0, 11.0)
"""Decimal logarithms of the volumes, over the smallest, at which start-ups look for steady states off the curve."""

Point = tuple[np.ndarray, np.ndarray, float, float]
"""A point of the curve, its tangent, the metric there and its slope by the arc length."""


class _AtVolume(NamedTuple):
    """The parameters that depend on the volume, their slopes by its logarithm, and the scales of the states."""

    volume: float
    moved: np.ndarray
    by: np.ndarray
    scale: np.ndarray
    weights: np.ndarray


class SteadyCurve:
    """Steady states over s, the logarithm of the volume: F(z, s) = tau f(y, p)/scale with V = V_0 e^s.

    States are unknowns as `LogStates` has them. The parameters that depend on the volume (itself, and in a jacketed
    tank the heat transfer) are passed to the balances together with the states.
    """

    def __init__(self, tank: Vessel, metric: Metric) -> None:
        vessel = tank.with_({"volume": 1.0})
        self.map = ParameterMap(vessel, ("volume",))
        self.balances, self.flow = vessel._model.balances, float(vessel._fed.volume)
        self.fed = {s: vessel._fed.concentrations.get(s, 0.0) for s in vessel.chemistry.names}
        self.evaluations = self.steps = 0
        self.amounts = self.balances.is_kind(AMOUNTS)
        parameters = self.balances.parameters
        values, slopes = self.map.values_and_slopes((self.flow,))
        self.base = Case(self.balances, values)
        self.state, self.base_scale = start(self.base)
        full = np.asarray(Functions(self.base).state_jacobian(self.state, 0.0))
        fastest = max(float(np.max(np.abs(full) * self.base_scale / self.base_scale[:, None])), 1.0)
        self.first = _SMALLEST * self.flow / fastest
        self.span = float(np.log(_LARGEST / _SMALLEST))
        self.places = [i for i, s in enumerate(parameters) if slopes[i].any() and s.role != START]
        moving = tuple(parameters[i] for i in self.places)
        self.only_volume = moving == (VOLUME,)
        """Whether the volume alone changes, and nothing that follows from it."""
        opened = self.balances.opened(moving)
        whole, self.n = compiled(opened), len(self.state)
        swap = {symbol: opened_symbol(symbol) for symbol in moving}
        expression = (vessel._expression(metric).xreplace(swap),)
        self.rhs, self.full_jacobian = whole.filling_rhs(values), whole.filling_jacobian(values)
        self.evaluate = whole.outputs(expression)(values)
        self.gradient = whole.gradient(expression, opened.symbols)(values)
        self.grows = np.where(self.amounts, 1.0, 0.0)
        """Which scaled states are constant where a state is proportional to the volume: the amounts."""
        self._only_amounts = bool(self.amounts.all())
        self.choose(self.state)

    def choose(self, y: np.ndarray) -> None:
        """Settle which unknowns are logarithms, by the species that are there."""
        self.inner = LogStates(self.amounts, y)
        self._last: tuple[bytes, Any] = (b"", None)

    def case(self, s: float) -> Case:
        """The balances with the numbers at a volume."""
        return Case(self.balances, self.map.values_once((self.parts(s).volume,))[0])

    def time(self, s: float) -> float:
        """Space time at a volume in s."""
        return self.parts(s).volume / self.flow

    @lru_cache(maxsize=64)  # noqa: B019 - it lives as long as one sizing
    def parts(self, s: float) -> _AtVolume:
        if not abs(s) < _FARTHEST:
            raise NotFinite(OverflowError("the volume has no finite value"), (), s)
        volume = self.first * math.exp(s)
        if self.only_volume:
            moved = by = np.array([volume])
        else:
            values, slopes = self.map.values_and_slopes((volume,))
            moved, by = np.array(values)[self.places], slopes[self.places, 0] * volume
        scale = self.base_scale * np.where(self.amounts, volume / self.flow, 1.0)
        return _AtVolume(volume, moved, by, scale, volume / self.flow / scale)

    def states(self, z: np.ndarray) -> np.ndarray:
        """The states at a point, shape (states,)."""
        return self.inner.states(z[:-1], self.parts(float(z[-1])).scale)

    def point(self, y: np.ndarray, s: float) -> np.ndarray:
        """The point of the curve at which the states are `y`."""
        return np.append(self.inner.unknowns(y, self.parts(s).scale), s)

    def _opened(self, z: np.ndarray) -> tuple[_AtVolume, np.ndarray]:
        """The numbers at a point, and the states followed by the parameters that depend on the volume."""
        key = z.tobytes()
        if self._last[0] != key:
            here = self.parts(float(z[-1]))
            self._last = key, (here, np.concatenate([self.states(z), here.moved]))
        found: tuple[_AtVolume, np.ndarray] = self._last[1]
        return found

    def residual(self, z: np.ndarray) -> np.ndarray:
        here, y = self._opened(z)
        self.evaluations += 1
        return np.asarray(self.rhs(y, 0.0)[: self.n] * here.weights)

    def jacobian(self, z: np.ndarray) -> np.ndarray:
        (here, y), n = self._opened(z), self.n
        full = self.full_jacobian(y, 0.0)[:n]
        found = np.empty((n, n + 1))
        np.multiply(full[:, :n], self.inner.slopes(y[:n], here.scale), out=found[:, :n])
        found[:, n] = full[:, n:] @ here.by + full[:, :n] @ (self.grows * y[:n])
        found *= here.weights[:, None]
        if not self._only_amounts:
            found[:, n] += (1 - self.grows) * self.rhs(y, 0.0)[:n] * here.weights
        return found

    def metric(self, z: np.ndarray) -> float:
        try:
            _, y = self._opened(z)
            with np.errstate(all="ignore"):
                return float(self.evaluate(y, 0.0)[0])
        except ArithmeticError:  # it has no value there: a selectivity of nothing
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

    def beginning(self) -> np.ndarray:
        """The steady state of a volume in which next to nothing reacts; settles which unknowns are logarithmic."""
        case, here, tau = self.case(_NEARER), self.parts(_NEARER), self.time(_NEARER)
        rhs, y, steps = Functions(case).rhs, start(case)[0].copy(), self.amounts
        for species, concentration in self.fed.items():  # whatever is in it at t = 0
            if (symbol := AMOUNT(species)) in self.balances.symbols:
                y[self.balances.index(symbol)] = float(concentration) * here.volume
        for _ in range(self.n + 2):  # each round brings the products of one more generation
            y = np.where(steps, np.maximum(y + tau * np.asarray(rhs(y, 0.0)), 0.0), y)
        self.choose(y)
        z = self.point(y, _NEARER)
        for _ in range(60):
            try:
                step = np.linalg.solve(self.jacobian(z)[:, :-1], -self.residual(z))
            except (NotFinite, np.linalg.LinAlgError):
                break
            longest = float(np.max(np.abs(step)))
            if not math.isfinite(longest):
                break
            z[:-1] += step * min(1.0, _LARGEST_STEP / max(longest, 1e-300))
            if longest < CLOSE:
                return z
        return self.at_states(steady(case, tau)[0], _NEARER)

    def at_states(self, y: np.ndarray, s: float) -> np.ndarray:
        """The point at some states; settles which unknowns are logarithmic by the species that are there."""
        self.choose(y)
        return self.point(y, s)


@dataclass
class _Walk:
    """One walk along the curve: the points seen, and whether it arrived at the end of the range."""

    points: list[Point]
    ended: str = ""
    """Why it stopped before the end of the range; empty where it did not."""

    def at(self, s: float) -> Iterator[np.ndarray]:
        """Guesses of the points at a volume, by the straight line between neighbours."""
        for (z, *_), (further, *_) in pairwise(self.points):
            if min(z[-1], further[-1]) <= s <= max(z[-1], further[-1]) and further[-1] != z[-1]:
                yield z + (s - z[-1]) / (further[-1] - z[-1]) * (further - z)


class _Search:
    """Looks along the curve for the volumes at which the target is met."""

    def __init__(self, tank: Vessel, metric: Metric, target: float) -> None:
        self.tank, self.target = tank, target
        self.curve = SteadyCurve(tank, metric)
        self.approach = TargetApproach(target)
        self.tracer = ArcLength(self.curve.residual, self.curve.jacobian, largest=_LONGEST)

    def walk(self, begin: np.ndarray, direction: float = 1.0) -> tuple[list[np.ndarray], _Walk]:
        """All points at which the target is met, from a beginning to the end of the range, and the walk itself."""
        curve, met, walk = self.curve, list[np.ndarray](), _Walk([])
        try:
            for z, along in self.tracer.walk(begin, _LOWEST, curve.span, direction):
                curve.steps += 1
                here = z, along, curve.metric(z), curve.slope(z, along)
                if walk.points:
                    met += self._between(walk.points[-1], here)
                walk.points.append(here)
                gone = np.flatnonzero(curve.inner.logarithmic & (z[:-1] < _EXHAUSTED))
                if len(gone):
                    walk.ended = f"{curve.balances.names[int(gone[0])]} {_IS_EXHAUSTED}"
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
    ) -> np.ndarray:  # fmt: skip
        """Where a stretch of the curve passes the target: by Newton's method on balances and metric together, or by
        bisection of the stretch where that leaves it."""
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
        """Where branches that the walk did not pass meet the target; settles the certificate if there are none.

        Start-ups at volumes of all sizes, from what is in the tank at t = 0 and from the state of a vessel so large
        that all has reacted, settle on any branch that attracts them.
        """
        curve, approach = self.curve, self.approach
        states, failed = self._settled_states()
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
        exhausted = forward.ended.endswith(_IS_EXHAUSTED)  # no start-up settles beyond the end of the curve
        if exhausted or not (forward.ended or off_curve or failed):
            approach.answer.certificate = self._certificate(forward)
        return found

    def _settled_states(self) -> tuple[list[tuple[np.ndarray, float]], int]:
        """Steady states from start-ups, each with the logarithm of its volume; and how many did not settle."""
        curve, found, failed = self.curve, list[tuple[np.ndarray, float]](), 0
        burnt: np.ndarray | None = None
        for decade in reversed(_START_UPS):
            s = decade * math.log(10.0)
            case, time = curve.case(s), curve.time(s)
            for begin in (None, burnt):
                if begin is None and found and burnt is None:
                    continue
                try:
                    y, _ = steady(case, time, begin=None if begin is None else begin * curve.parts(s).scale)
                except (SolveError, ArithmeticError):
                    failed += 1
                    continue
                found.append((y, s))
                if burnt is None:
                    burnt = y / curve.parts(s).scale
        return found, failed

    def _is_on(self, walk: _Walk, y: np.ndarray, s: float) -> bool:
        """Whether a steady state lies on the part of the curve that a walk passed."""
        curve = self.curve
        there = curve.amounts & (y > 1e-12 * curve.parts(s).scale)
        if (there & ~curve.inner.logarithmic).any():
            return False
        for guess in walk.at(s):
            try:
                near = curve.states(self.tracer.pinned(guess, s))
            except (SolveError, ArithmeticError):
                continue
            if np.max(np.abs(near - y) / curve.parts(s).scale) < _SAME:
                return True
        return False

    def _certificate(self, walk: _Walk) -> str:
        """What proves that the target is out of reach; empty where nothing does."""
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
    """The least volume at which a steady state meets the target, and the further ones that do.

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
    elif forward.ended and not forward.ended.endswith(_IS_EXHAUSTED):
        approach.answer.uncovered = forward.ended
    if not met:
        approach.close()
        approach.answer.tried = forward.ended or "the curve of steady states and start-ups at volumes of all sizes"
        return approach.answer
    return _answered(tank, curve, approach, met)


def _answered(tank: Vessel, curve: SteadyCurve, approach: TargetApproach, met: list[np.ndarray]) -> SizeSearchResult:
    met = sorted(met, key=lambda z: float(z[-1]))
    z, answer = met[0], approach.answer
    s = float(z[-1])
    volume, _, _, scale, _ = curve.parts(s)
    state, case = curve.states(z), curve.case(s)
    report = Report("curve of steady states over the volume", curve.steps, curve.evaluations, curve.evaluations)
    answer.passed = volume
    answer.others = tuple(
        v for n, other in enumerate(met[1:]) if (v := curve.parts(float(other[-1])).volume)
        > (1 + _SAME) * curve.parts(float(met[n][-1])).volume
    )  # fmt: skip
    answer.run = lambda sized: settled(sized, state, report)
    answer.is_stable = bool(np.max(growth_rates(case, state).real) < 0)
    answer.remark = _remark(case, state, scale, curve.time(s), answer.is_stable)
    return answer


def _remark(case: Case, state: np.ndarray, scale: np.ndarray, time_scale: float, is_stable: bool) -> str:
    """Whether a steady state is stable, and whether the tank comes to it from what is in it at t = 0."""
    if not is_stable:
        return "this steady state is unstable: the tank leaves it, unless it is controlled"
    try:
        reached, _ = steady(case, time_scale)
    except SolveError:
        return "stable, but from what is in it at t = 0 the tank does not settle"
    if np.max(np.abs(reached - state) / scale) < 1e-6:
        return ""
    return "stable, but from what is in it at t = 0 the tank settles elsewhere: start it with contents near this state"
