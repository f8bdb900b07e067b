"""The volume of a tank for a target, along the curve of its steady states."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import CLOSE, ArcLength, Curve
from molino.core.balances.functions import Functions
from molino.core.balances.integrate import Report, start
from molino.core.balances.source import NotFinite
from molino.core.balances.steady import growth_rates, steady
from molino.core.balances.system import AMOUNTS, Case, opened_symbol
from molino.core.design.size_search import SizeSearchResult, TargetApproach
from molino.core.errors import SolveError
from molino.core.vessels.base import Vessel
from molino.core.vessels.metrics import Metric
from molino.core.vessels.parameter_map import ParameterMap
from molino.core.vessels.roles import START, VOLUME
from molino.core.vessels.run import settled

_SMALLEST, _LARGEST = 0.03, 1e12
"""Where the curve begins and ends, in units of the volume in which the fastest reaction gets something done."""
_NEARER = -12.0
"""Logarithm of a volume in the first one, in which next to nothing happens."""
_LONGEST = 3.0
"""The longest step along the curve, in scaled states and the logarithm of the volume."""


Here = tuple[np.ndarray, np.ndarray, float, float]
"""A point of the curve, its tangent, the metric there and its slope by the arc length."""


class _Here(NamedTuple):
    """What holds at one volume: the parameters that move with it, their slopes by s, and the scales."""

    volume: float
    moved: np.ndarray
    by: np.ndarray
    scale: np.ndarray
    weights: np.ndarray


class _SteadyCurve:
    """Steady states over the logarithm s of the volume: F(z, s) = tau f(y, p)/scale with y = scale z, V = V_0 e^s.

    What moves with the volume (itself, and in a jacketed tank the heat transfer) is handed to the balances together
    with the states.
    """

    def __init__(self, tank: Vessel, metric: Metric) -> None:
        self.tank = tank
        vessel = tank.with_({"volume": 1.0})
        self.map = ParameterMap(vessel, ("volume",))
        self.balances, self.flow = vessel._model.balances, float(vessel._fed.volume)
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
        """Which scaled states stand still where a state grows with the volume: the amounts."""

    def case(self, s: float) -> Case:
        """The balances with the numbers at a volume."""
        return Case(self.balances, self.map.values_once((self.parts(s).volume,))[0])

    @lru_cache(maxsize=64)  # noqa: B019 - it lives as long as one sizing
    def parts(self, s: float) -> _Here:
        volume = self.first * math.exp(s)
        if self.only_volume:
            moved = by = np.array([volume])
        else:
            values, slopes = self.map.values_and_slopes((volume,))
            moved, by = np.array(values)[self.places], slopes[self.places, 0] * volume
        scale = self.base_scale * (1 + self.grows * (volume / self.flow - 1))
        return _Here(volume, moved, by, scale, volume / self.flow / scale)

    def _at(self, z: np.ndarray) -> tuple[_Here, np.ndarray]:
        """What holds at a point, and the states with all that moves."""
        here = self.parts(float(z[-1]))
        return here, np.concatenate([z[:-1] * here.scale, here.moved])

    def residual(self, z: np.ndarray) -> np.ndarray:
        here, y = self._at(z)
        self.evaluations += 1
        return np.asarray(self.rhs(y, 0.0)[: self.n] * here.weights)

    def jacobian(self, z: np.ndarray) -> np.ndarray:
        (here, y), n = self._at(z), self.n
        full = self.full_jacobian(y, 0.0)[:n]
        found = np.empty((n, n + 1))
        found[:, :n] = full[:, :n] * here.scale
        found[:, n] = full[:, n:] @ here.by + full[:, :n] @ (self.grows * y[:n])
        found *= here.weights[:, None]
        if not self.amounts.all():
            found[:, n] += (1 - self.grows) * self.rhs(y, 0.0)[:n] * here.weights
        return found

    def metric(self, z: np.ndarray) -> float:
        _, y = self._at(z)
        with np.errstate(all="ignore"):
            return float(self.evaluate(y, 0.0)[0])

    def metric_slopes(self, z: np.ndarray) -> np.ndarray:
        """d(metric)/dz."""
        (here, y), n = self._at(z), self.n
        partial = self.gradient(y, 0.0)[0]
        return np.append(partial[:n] * here.scale, partial[:n] @ (self.grows * y[:n]) + partial[n:] @ here.by)

    def slope(self, z: np.ndarray, along: np.ndarray) -> float:
        """d(metric)/d(arc length)."""
        return float(self.metric_slopes(z) @ along)

    def beginning(self, tracer: ArcLength) -> np.ndarray:
        """The steady state of a volume in which next to nothing happens."""
        fed = self.state / self.base_scale
        try:
            return tracer.pinned(np.append(fed, _NEARER), _NEARER)
        except SolveError:
            here = self.parts(_NEARER)
            return np.append(steady(self.case(_NEARER), here.volume / self.flow)[0] / here.scale, _NEARER)

    def walk(
        self, tracer: ArcLength, begin: np.ndarray, is_passed: Callable[[float], bool]
    ) -> Iterator[tuple[np.ndarray, np.ndarray]]:  # fmt: skip
        """Points and tangents: from the first volume, or from far below it where the target is passed there."""
        walk = tracer.walk(np.append(begin[:-1], 0.0), -1e-9, self.span)
        first = next(walk)
        if is_passed(self.metric(first[0])):
            yield from tracer.walk(begin, _NEARER - 1e-9, self.span)
            return
        yield first
        yield from walk


def along_steady_states(tank: Vessel, metric: Metric, target: float) -> SizeSearchResult:
    """Where along the curve of steady states the target is passed, from a volume of nothing through all folds.

    Newton's method at growing arc length, with the exact derivatives of balances, volume and metric (H. B. Keller, in
    Applications of Bifurcation Theory, 1977, 359).
    """
    curve = _SteadyCurve(tank, metric)
    approach = TargetApproach(target)
    tracer = ArcLength(curve.residual, curve.jacobian, largest=_LONGEST)
    previous: Here | None = None
    try:
        begin = curve.beginning(tracer)
        approach.see(0.0, curve.metric(begin))
        if approach.answer.is_there:
            return approach.answer
        for z, along in curve.walk(tracer, begin, lambda value: approach.sign * (value - target) > 0):
            curve.steps += 1
            value, slope = curve.metric(z), curve.slope(z, along)
            if previous is not None:
                found = _between(curve, tracer, approach, previous, (z, along, value, slope))
                if found is not None:
                    return _answered(tank, curve, approach, found)
                if (z[:-1][curve.amounts] < -1e-9).any():
                    return approach.close()
            previous = z, along, value, slope
    except (SolveError, NotFinite):
        if previous is None:
            raise
    return approach.close()


def _between(
    curve: _SteadyCurve, tracer: ArcLength, approach: TargetApproach, before: Here, after: Here
) -> np.ndarray | None:  # fmt: skip
    """The point between two of the curve at which the target is passed, if it is."""
    (z, along, _, first), (further, turned, new, last) = before, after
    piece = Curve(np.array([z, further]), np.array([along, turned]))
    gone = np.flatnonzero((further[:-1] < -1e-9) & curve.amounts)
    if len(gone):  # beyond its end a species cannot be converted
        place = int(gone[0])
        z_end = tracer.between(piece, 0, lambda p, _: float(p[place]))
        end = curve.metric(z_end)
        if approach.is_at(end):
            return z_end
        piece, new = Curve(np.array([z, z_end]), np.array([along, along])), end
        further = z_end
    if approach.sign * (new - approach.target) > 0:
        return _crossing(curve, tracer, piece, approach.target, (before[2], new))
    if approach.sign * first > 0 > approach.sign * last and not len(gone):
        top = tracer.between(piece, 0, curve.slope)
        height = curve.metric(top)
        if approach.is_at(height):
            return top
        if approach.see(curve.parts(float(top[-1])).volume, height):
            rising = Curve(np.array([z, top]), np.array([along, along]))
            return _crossing(curve, tracer, rising, approach.target, (before[2], height))
    approach.see(curve.parts(float(further[-1])).volume, new)
    return None


def _crossing(
    curve: _SteadyCurve, tracer: ArcLength, piece: Curve, target: float, values: tuple[float, float]
) -> np.ndarray:  # fmt: skip
    """Where a stretch of the curve passes the target: by Newton's method on balances and metric together."""
    (low, high), share = piece.points, (target - values[0]) / (values[1] - values[0])
    z = low + share * (high - low)
    for _ in range(12):
        try:
            rows = np.vstack([curve.jacobian(z), curve.metric_slopes(z)])
            off = np.append(curve.residual(z), curve.metric(z) - target)
            step = np.linalg.solve(rows, -off)
        except (NotFinite, np.linalg.LinAlgError):
            break
        z = z + step
        if not np.isfinite(z).all() or not min(low[-1], high[-1]) - 0.1 <= z[-1] <= max(low[-1], high[-1]) + 0.1:
            break
        if np.max(np.abs(step)) < CLOSE:
            return np.asarray(z)
    return tracer.between(piece, 0, lambda p, _: curve.metric(p) - target)


def _answered(tank: Vessel, curve: _SteadyCurve, approach: TargetApproach, z: np.ndarray) -> SizeSearchResult:
    volume, _, _, scale, _ = curve.parts(float(z[-1]))
    steps, asked = curve.steps, curve.evaluations
    state, answer = z[:-1] * scale, approach.answer
    case = curve.case(float(z[-1]))
    report = Report("curve of steady states over the volume", steps, asked, asked)
    answer.passed = volume
    answer.run = lambda sized: settled(sized, state, report)
    answer.is_stable = bool(np.max(growth_rates(case, state).real) < 0)
    answer.remark = _remark(tank, case, state, scale, volume / curve.flow, answer.is_stable)
    return answer


def _remark(
    tank: Vessel, case: Case, state: np.ndarray, scale: np.ndarray, time_scale: float, is_stable: bool
) -> str:  # fmt: skip
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
