"""Steady states of a tank along a curve over its volume."""

from __future__ import annotations

import math
from collections.abc import Sequence
from contextlib import suppress
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from molino.core.balances.balance_symbols import AMOUNT, START, VOLUME
from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import CLOSE, ArcLength, LogStates, Point
from molino.core.balances.engines import start
from molino.core.balances.functions import Functions
from molino.core.balances.source import NotFinite
from molino.core.balances.steady import steady
from molino.core.balances.system import AMOUNTS, Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.vessel import Vessel
from molino.core.errors import SolveError
from molino.core.vessels.flow_vessel import FlowVessel

_SMALLEST, _LARGEST = 0.03, 1e18
"""The range of volumes, in units of the volume in which the fastest reaction converts a noticeable share."""
_FARTHEST = 300.0
"""Logarithm of a change of volume beyond which a Newton step has left the curve."""
_NEARER = -12.0
"""Logarithm of the first volume over the smallest; almost nothing reacts in it."""
LOWEST = -40.0
"""Logarithm of the smallest volume to which a curve is followed back after a fold."""
_NEAR_ENOUGH = 1e-5
"""Size of the last Newton step along the curve; smaller where a target is met."""
LONGEST = 5.0
"""The longest step along the curve, in logarithms of amounts and of the volume."""
IS_EXHAUSTED = "is exhausted"
EXHAUSTED = -90.0
"""Logarithm of a scaled amount below which a species is exhausted (by a rate law that does not vanish with it)."""
_LARGEST_STEP = 2.0
"""Longest step in the logarithm of an amount on the way to the first steady state."""
SAME = 1e-5
"""Relative distance within which two steady states are the same."""
_CONVERTED = (0.5, 0.99)
"""Conversions of the feed at the beginning of further start-ups."""
_START_UPS = (-2.0, 0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0, 11.0)
"""Decimal logarithms of the volumes, over the smallest, at which start-ups search for steady states off the curve."""


class _AtVolume(NamedTuple):
    """The parameters that depend on the volume, their slopes by its logarithm, and the scales of the states."""

    volume: float
    moved: np.ndarray
    by: np.ndarray
    scale: np.ndarray
    weights: np.ndarray


class SteadyCurve:
    """Steady states over s, the logarithm of the volume: F(z, s) = tau f(y, p)/scale with V = V_0 e^s.

    States are unknowns as in `LogStates`. The parameters that depend on the volume (itself, and in a jacketed tank the
    heat transfer) are passed to the balances together with the states.
    """

    def __init__(self, tank: Vessel) -> None:
        self.vessel = vessel = tank.with_({"volume": 1.0})
        self.map = ParameterMap(vessel, ("volume",))
        self.balances, self.flow = vessel.spec.model.balances, float(vessel.spec.fed.volume)
        self.fed = {s: vessel.spec.fed.concentrations.get(s, 0.0) for s in vessel.chemistry.names}
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
        """Whether no other parameter depends on the volume."""
        opened = self.balances.opened(moving)
        self.whole, self.n = compiled(opened), len(self.state)
        self.values, self.moving, self.symbols = values, moving, opened.symbols
        self.rhs, self.full_jacobian = self.whole.filling_rhs(values), self.whole.filling_jacobian(values)
        self.grows = np.where(self.amounts, 1.0, 0.0)
        """Which scaled states are constant where a state is proportional to the volume: the amounts."""
        self._only_amounts = bool(self.amounts.all())
        self.choose(self.state)

    def choose(self, y: np.ndarray) -> None:
        """Decide which unknowns are logarithms, by the species that are present."""
        self.inner = LogStates(self.amounts, y)
        self._last: tuple[bytes, tuple[_AtVolume, np.ndarray]] | None = None

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
        if self._last is None or self._last[0] != key:
            here = self.parts(float(z[-1]))
            self._last = key, (here, np.concatenate([self.states(z), here.moved]))
        return self._last[1]

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

    def beginning(self) -> np.ndarray:
        """The steady state of a volume in which almost nothing reacts; decides which unknowns are logarithmic."""
        case, here, tau = self.case(_NEARER), self.parts(_NEARER), self.time(_NEARER)
        rhs, y, steps = Functions(case).rhs, start(case)[0].copy(), self.amounts
        for species, concentration in self.fed.items():  # independent of its contents at t = 0
            if (symbol := AMOUNT(species)) in self.balances.symbols:
                y[self.balances.index(symbol)] = float(concentration) * here.volume
        for _ in range(self.n + 2):  # each round adds the products of one more generation
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
        """The point at given states; decides which unknowns are logarithmic by the species that are present."""
        self.choose(y)
        return self.point(y, s)

    def settled_states(self, decades: Sequence[float] = _START_UPS) -> tuple[list[tuple[np.ndarray, float]], int]:
        """Steady states from start-ups, each with the logarithm of its volume; and the number of start-ups without one.

        They begin with the contents at t = 0, and with the state of the largest vessel, in which all has reacted.
        """
        found, failed = list[tuple[np.ndarray, float]](), 0
        burnt: np.ndarray | None = None
        for decade in reversed(decades):
            s = decade * math.log(10.0)
            case, time = self.case(s), self.time(s)
            for begin in (None, burnt):
                if begin is None and found and burnt is None:
                    continue
                try:
                    y, _ = steady(case, time, begin=None if begin is None else begin * self.parts(s).scale)
                except (SolveError, ArithmeticError):
                    failed += 1
                    continue
                found.append((y, s))
                if burnt is None:
                    burnt = y / self.parts(s).scale
        return found, failed

    def tracer(self) -> ArcLength:
        """The curve by arc length."""
        return ArcLength(self.residual, self.jacobian, largest=LONGEST, close=_NEAR_ENOUGH)


def converted(chemistry: Chemistry, fed: np.ndarray) -> list[np.ndarray]:
    """The feed with half and nearly all of it converted, by each reaction in turn; arrays of shape (species,)."""
    found = []
    for column in chemistry.network.stoichiometry:
        change = np.zeros(len(fed))
        change[[i for i, _ in column]] = [float(moles) for _, moles in column]
        consumed = change < 0
        most = float(np.min(fed[consumed] / -change[consumed])) if consumed.any() else 0.0
        found += [fed + share * most * change for share in _CONVERTED if most > 0]
    return found


def filled(tank: FlowVessel, y: np.ndarray, concentrations: np.ndarray) -> np.ndarray:
    """The states of a tank with other amounts, by their concentrations."""
    found, balances = y.copy(), tank.spec.model.balances
    for s, c in zip(tank.chemistry.names, concentrations, strict=True):
        if AMOUNT(s) in balances.symbols:
            found[balances.index(AMOUNT(s))] = c * tank.spec.volume_si
    return found


def states_at_volume(tank: FlowVessel, volume: float) -> list[np.ndarray]:
    """All steady states found of a tank at a volume, shape (states,) each, in the order of the curve.

    Those on the curve from a volume in which nothing reacts, through its folds, and those on which start-ups settle,
    from the contents at t = 0, from a fully reacted state and, where the feed starts no reaction, from a feed that each
    reaction has converted, with the curves through them.
    """
    curve = SteadyCurve(tank)
    s = math.log(volume / curve.first)
    found: list[np.ndarray] = []

    def add(y: np.ndarray) -> bool:
        scale = curve.parts(s).scale
        is_new = all(np.max(np.abs(y - other) / scale) > SAME for other in found)
        if is_new:
            found.append(y)
        return is_new

    def follow(begin: np.ndarray, direction: float) -> None:
        tracer, points = curve.tracer(), list[Point]()
        for here in tracer.walk(begin, LOWEST, curve.span, direction):
            for crossed in tracer.crossings(points[-1], here, s) if points else ():
                add(curve.states(crossed))
            if (curve.inner.logarithmic & (here[0][:-1] < EXHAUSTED)).any():
                return
            points.append(here)

    follow(curve.beginning(), 1.0)
    top = (s + math.log(1e6)) / math.log(10.0)
    settled = [y for y, at in curve.settled_states((s / math.log(10.0), top))[0] if abs(at - s) < 1e-9]
    case, time = curve.case(s), curve.time(s)
    fed = np.array(list(curve.fed.values()), dtype=float)
    untouched = filled(tank, start(case)[0], fed)
    is_idle = any(np.max(np.abs(y - untouched) / curve.parts(s).scale) < SAME for y in found)
    for concentrations in converted(tank.chemistry, fed) if is_idle else ():
        with suppress(SolveError, ArithmeticError):
            settled.append(steady(case, time, begin=filled(tank, start(case)[0], concentrations))[0])
    for y in settled:
        if add(y):
            for direction in (-1.0, 1.0):
                follow(curve.at_states(y, s), direction)
    return found
