"""The volume of a tank for a target, along the curve of its steady states."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np

from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import ArcLength, Curve
from molino.core.balances.functions import Functions
from molino.core.balances.integrate import Report, start
from molino.core.balances.source import NotFinite
from molino.core.balances.steady import growth_rates, steady
from molino.core.balances.system import Case
from molino.core.design.searching import Answer, Approach
from molino.core.errors import SolveError
from molino.core.vessels.base import Vessel
from molino.core.vessels.metrics import Metric
from molino.core.vessels.parameter_map import ParameterMap
from molino.core.vessels.roles import START, VOLUME
from molino.core.vessels.run import settled

_SMALLEST, _LARGEST = 1e-3, 1e12
"""Where the curve begins and ends, in units of the volume in which the fastest reaction gets something done."""
_LONGEST = 2.0
"""The longest step along the curve, in scaled states and the logarithm of the volume."""


class _Here(NamedTuple):
    """What holds at one volume: the numbers, their slopes by s, scales, and the balances with these numbers."""

    volume: float
    values: tuple[float, ...]
    by: np.ndarray
    scale: np.ndarray
    weights: np.ndarray
    rhs: Callable[..., Any]
    jacobian: Callable[..., Any]
    forcing: Callable[..., Any]
    gradient: Callable[..., Any]


class _SteadyCurve:
    """Steady states over the logarithm s of the volume: F(z, s) = tau f(y, p)/scale with y = scale z, V = V_0 e^s."""

    def __init__(self, tank: Vessel, metric: Metric) -> None:
        self.tank = tank
        self.map = ParameterMap(tank.with_({"volume": 1.0}), ("volume",))
        vessel = self.map.vessel
        self.balances, self.flow = vessel._model.balances, float(vessel._fed.volume)
        self.whole = compiled(self.balances)
        self.evaluations = self.steps = 0
        self.amounts = self.balances.positive
        unit = self.case(self.flow)
        state, scale = start(unit)
        full = np.asarray(Functions(unit).state_jacobian(state, 0.0))
        fastest = max(float(np.max(np.abs(full) * scale / scale[:, None])), 1.0)
        self.first = _SMALLEST * self.flow / fastest
        self.span = float(np.log(_LARGEST / _SMALLEST))
        self.base, self.base_scale = unit, scale
        by = self.map.values_and_slopes((self.flow,))[1][:, 0]
        still = [s for s, slope in zip(self.balances.parameters, by, strict=True)
                 if slope and s != VOLUME and s.role != START]  # fmt: skip
        self.only_volume = not still
        """Whether the volume alone changes, and nothing that follows from it."""
        moving = (VOLUME,) if self.only_volume else self.balances.parameters
        self.forcing = self.whole.gradient(self.balances.rhs, moving)
        expression = (vessel._expression(metric),)
        self.evaluate = self.whole.outputs(expression)
        self.gradient = self.whole.gradient(expression, (*self.balances.symbols, *moving))
        self.place = self.balances.parameters.index(VOLUME)

    def case(self, volume: float) -> Case:
        return Case(self.balances, self.map.values((volume,))[0])

    @lru_cache(maxsize=64)  # noqa: B019 - it lives as long as one sizing
    def parts(self, s: float) -> _Here:
        volume = self.first * float(np.exp(s))
        if self.only_volume:
            found = list(self.base.values)
            found[self.place] = volume
            values, by = tuple(found), np.ones(1)
        else:
            values, slopes = self.map.values_and_slopes((volume,))
            by = slopes[:, 0]
        scale = np.where(self.amounts, self.base_scale * volume / self.flow, self.base_scale)
        whole = self.whole
        return _Here(
            volume, values, by * volume, scale, volume / self.flow / scale, whole.rhs(values), whole.jacobian(values),
            self.forcing(values), self.gradient(values),
        )  # fmt: skip

    def residual(self, z: np.ndarray) -> np.ndarray:
        here = self.parts(float(z[-1]))
        self.evaluations += 1
        return np.asarray(np.array(here.rhs(z[:-1] * here.scale, 0.0)) * here.weights)

    def jacobian(self, z: np.ndarray) -> np.ndarray:
        here = self.parts(float(z[-1]))
        y, n = z[:-1] * here.scale, len(z) - 1
        full = np.asarray(here.jacobian(y, 0.0))
        grows = np.where(self.amounts, y, 0.0)  # amounts are in units that grow with the volume
        found = np.empty((n, n + 1))
        found[:, :n] = full * here.scale
        found[:, n] = here.forcing(y, 0.0) @ here.by + full @ grows
        found *= here.weights[:, None]
        if not self.amounts.all():
            found[:, n] += np.where(self.amounts, 0.0, np.array(here.rhs(y, 0.0)) * here.weights)
        return found

    def metric(self, z: np.ndarray) -> float:
        here = self.parts(float(z[-1]))
        with np.errstate(all="ignore"):
            found = self.evaluate(here.values)((z[:-1] * here.scale)[:, None], np.zeros(1))[0]
        return float(np.ravel(found)[0])

    def metric_slopes(self, z: np.ndarray) -> np.ndarray:
        """d(metric)/dz."""
        here = self.parts(float(z[-1]))
        y, n = z[:-1] * here.scale, len(z) - 1
        partial = here.gradient(y, 0.0)[0]
        last = partial[:n] @ np.where(self.amounts, y, 0.0) + partial[n:] @ here.by
        return np.append(partial[:n] * here.scale, last)

    def slope(self, z: np.ndarray, along: np.ndarray) -> float:
        """d(metric)/d(arc length)."""
        return float(self.metric_slopes(z) @ along)

    def start(self) -> np.ndarray:
        """The steady state of a volume in which nearly nothing happens."""
        case = self.case(self.first)
        first, scale = start(case)
        fed = first / scale
        tracer = ArcLength(self.residual, self.jacobian)
        try:
            return tracer.pinned(np.append(fed, 0.0), 0.0)
        except SolveError:
            return np.append(steady(case, self.first / self.flow)[0] / scale, 0.0)


def along_steady_states(tank: Vessel, metric: Metric, target: float) -> Answer:
    """Where along the curve of steady states the target is passed, from a volume of nothing through all folds.

    Newton's method at growing arc length, with the exact derivatives of balances, volume and metric (H. B. Keller, in
    Applications of Bifurcation Theory, 1977, 359).
    """
    curve = _SteadyCurve(tank, metric)
    approach = Approach(target)
    tracer = ArcLength(curve.residual, curve.jacobian, largest=_LONGEST)
    previous: tuple[np.ndarray, np.ndarray, float] | None = None
    try:
        for z, along in tracer.walk(curve.start(), -1e-9, curve.span):
            curve.steps += 1
            value = curve.metric(z)
            if previous is None:
                approach.see(0.0, value)
                if approach.answer.is_there:
                    return approach.answer
            else:
                found = _between(curve, tracer, approach, previous, (z, along, value))
                if found is not None:
                    return _answered(tank, curve, approach, found)
                if (z[:-1][curve.amounts] < -1e-9).any():
                    return approach.close()
            previous = z, along, value
    except (SolveError, NotFinite):
        if previous is None:
            raise
    return approach.close()


Here = tuple[np.ndarray, np.ndarray, float]


def _between(
    curve: _SteadyCurve, tracer: ArcLength, approach: Approach, before: Here, after: Here
) -> np.ndarray | None:  # fmt: skip
    """The point between two of the curve at which the target is passed, if it is."""
    (z, along, _), (further, turned, new) = before, after
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
    first, last = (approach.sign * curve.slope(p, t) for p, t in ((z, along), (further, turned)))
    if first > 0 > last and not len(gone):
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
        if np.max(np.abs(step)) < 1e-12:
            return np.asarray(z)
    return tracer.between(piece, 0, lambda p, _: curve.metric(p) - target)


def _answered(tank: Vessel, curve: _SteadyCurve, approach: Approach, z: np.ndarray) -> Answer:
    volume, values, _, scale, *_ = curve.parts(float(z[-1]))
    steps, asked = curve.steps, curve.evaluations
    state, answer = z[:-1] * scale, approach.answer
    case = Case(curve.balances, values)
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
