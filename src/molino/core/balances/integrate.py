"""From a `Case` to numbers over time or along a tube: states at any point, events, exact sensitivities.

One contract, whichever engine is behind it: LSODA as `scipy.integrate.odeint` drives it (with a full or a banded
Jacobian), an implicit method with sparse algebra where there are many states, or collocation over the whole stretch
where what lies downstream acts upstream.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from math import isfinite
from typing import Any

import numpy as np
import sympy as sp
from numpy.polynomial import chebyshev
from scipy.integrate import DOP853, ODEintWarning, odeint, solve_ivp
from scipy.optimize import brentq

from molino.core.balances.compiled import Function, SparseMaker, compiled
from molino.core.balances.functions import Functions, WithSensitivities, functions_of
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.balances.two_point import TwoPoint
from molino.core.errors import SolveError
from molino.core.frozen import Frozen

RTOL = 1e-10
ATOL = 1e-13
"""Default tolerances of integration: relative to each state, and absolute as a fraction of its scale."""

RUN_OUT = 1e-6
"""How far below zero, as a fraction of its scale, a state must lie to count as consumed beyond its end."""

# What odeint warns of is in what it returns, too, and a run says it in words. To enter `catch_warnings` at each
# integration takes a tenth of a small one, and is not safe among threads.
warnings.filterwarnings("ignore", category=ODEintWarning, module=r"molino\.")

_MOST_RESTARTS = 24
"""Starts behind a place at which an integration stopped before it counts as stuck."""
_EXHAUSTED = 1e-10
"""Share of its scale at which an amount that a rate of an order below one consumes is exhausted."""
_CLOSER = 101
"""Points on a stretch that is integrated again with short steps."""
_MOST_STEPS_CLOSER = 3_000
_MOST_STEPS_KINKS = 10_000
"""Steps between two points with a rate of an order below one, which may chatter where it exhausts its reactant."""
_DONE = "Integration successful."
_MOST_ROWS = 6000
_MOST_ROUNDS = 6
_APART = 1e-14
"""How far apart, relative to the end, two points lie at least that are not one."""
_STARTING = 17
"""Steps that an integration may take to come from its first, far below what the tolerance allows, to a long one."""
_NODES = -np.cos(np.pi * (np.arange(9) + 0.5) / 9)
"""Points, from -1 to 1, through which a polynomial is laid to find where something crosses zero."""
_TO_SERIES = np.linalg.inv(chebyshev.chebvander(_NODES, len(_NODES) - 1))
_TO_SLOPES = chebyshev.chebvander(np.linspace(-1, 1, 17), len(_NODES) - 2) @ chebyshev.chebder(np.eye(len(_NODES)))
_TO_POWERS = np.linalg.solve(np.vander(_NODES, increasing=True), chebyshev.chebvander(_NODES, len(_NODES) - 1))


@dataclass(frozen=True)
class Report:
    """What an integration did."""

    method: str
    steps: int
    evaluations: int
    jacobians: int

    @classmethod
    def of(cls, several: Sequence[Report]) -> Report:
        """What several integrations did together."""
        counts = (sum(getattr(r, name) for r in several) for name in ("steps", "evaluations", "jacobians"))
        segments = f" in {len(several)} stages" if len(several) > 1 else ""
        return cls(several[-1].method + segments, *counts)

    def __str__(self) -> str:
        many = f", {self.jacobians} Jacobian{'s' if self.jacobians > 1 else ''}" if self.jacobians else ""
        evaluations = f", {self.evaluations} evaluations" if self.evaluations else ""
        return f"{self.method}, {self.steps} steps{evaluations}{many}"


@dataclass(frozen=True)
class Event:
    """Something that happens where an expression of the balances comes to zero.

    `direction` is 1 where it must rise through zero, -1 where it must fall, 0 for both; a terminal event ends the
    integration. Where the expression stands still at zero, no faster than rounding of numbers of `scale` may move it,
    nothing happens.
    """

    name: str
    expression: sp.Expr
    direction: int = 0
    terminal: bool = False
    scale: float = 0.0


@dataclass(frozen=True, eq=False)
class LocatedEvent(Frozen):
    """Where an event happened, and the states there, shape (states,)."""

    event: Event
    at: float
    state: np.ndarray


@dataclass(frozen=True, eq=False)
class Settings(Frozen):
    """How an integration was asked for."""

    rtol: float = RTOL
    atol: float = ATOL
    by: tuple[sp.Symbol, ...] = ()
    initial: np.ndarray | None = None
    slopes: np.ndarray | None = None
    most: int = 100_000
    """Steps from one point to the next."""


AlongSolution = Callable[[np.ndarray, np.ndarray], np.ndarray]
"""Values at points of shape (points,) with states of shape (points, states)."""


@dataclass(frozen=True, eq=False)
class Solution(Frozen):
    """States along the independent variable, at the points asked for and at any other.

    Attributes
    ----------
    points : array, shape (points,)
    states : array, shape (points, states)
    sensitivities : array, shape (points, states, parameters), or None
    steps : array, shape (points,)
        How many steps were taken up to each point.
    events : tuple of LocatedEvent
        In order.
    failure : SolveError or None
        Why it ended before the last point asked for.
    """

    case: Case
    points: np.ndarray
    states: np.ndarray
    sensitivities: np.ndarray | None
    steps: np.ndarray
    report: Report
    settings: Settings = field(default_factory=Settings)
    events: tuple[LocatedEvent, ...] = ()
    failure: SolveError | None = None

    @property
    def begin(self) -> float:
        return float(self.points[0])

    @property
    def end(self) -> float:
        return float(self.points[-1])

    def at(self, points: np.ndarray) -> np.ndarray:
        """States at any points between begin and end, shape (points, states), as exact as the integration itself.

        They come from an integration through these points; its steps differ from those of this one, within the
        tolerance, where the first of the points does, by which LSODA chooses its first step.
        """
        wanted = np.asarray(points, dtype=float)
        if len(wanted) == len(self.points) and (wanted == self.points).all():
            return self.states
        grid = np.unique(np.concatenate([[self.begin], wanted]))
        grid = grid[np.append(True, np.diff(grid) > _APART * max(abs(self.end), abs(self.begin)))]
        found = _solve(self.case, grid, replace(self.settings, by=(), slopes=None))
        if found.failure is not None:
            raise found.failure
        after = np.clip(np.searchsorted(grid, wanted), 1, max(len(grid) - 1, 1))
        is_before = wanted - grid[after - 1] < grid[np.minimum(after, len(grid) - 1)] - wanted
        return found.states[np.minimum(np.where(is_before, after - 1, after), len(grid) - 1)]

    @cached_property
    def resolved(self) -> tuple[np.ndarray, np.ndarray]:
        """Points, and the states there, so close that between two of them the integration took a step or two."""
        found, plain = self, replace(self.settings, by=(), slopes=None)
        for _ in range(_MOST_ROUNDS):
            taken = np.diff(found.steps)
            taken[0] -= _STARTING
            several = np.flatnonzero(taken > 3)
            if not len(several) or len(found.points) > _MOST_ROWS:
                break
            between = [found.points]
            for i in several:
                low, high, many = found.points[i], found.points[i + 1], min(int(taken[i]), _MOST_ROWS // 10)
                between.append(np.linspace(low, high, many // 2 + 2)[1:-1])
                if low == found.begin:  # where steps begin small
                    between.append(low + (high - low) * np.geomspace(1e-6, 1.0, many + 1)[:-1])
            found = _solve(self.case, np.unique(np.concatenate(between)), plain)
        return found.points, found.states

    def evaluate(self, expression: sp.Expr) -> AlongSolution:
        """The values of an expression of the balances."""
        make = compiled(self.case.balances).outputs((expression,))(self.case.values)

        def values(points: np.ndarray, states: np.ndarray) -> np.ndarray:
            with np.errstate(all="ignore"):
                return np.array(np.broadcast_to(np.asarray(make(states.T, points)[0], dtype=float), points.shape))

        return values

    def slope(self, expression: sp.Expr) -> AlongSolution:
        """The slope of an expression along the solution, exact: (de/dy) dy/dt + de/dt."""
        balances, whole = self.case.balances, compiled(self.case.balances)
        gradient = whole.gradient((expression,), (*balances.symbols, balances.independent))
        if whole.grouped is None and not balances.has_equations:
            return self._columns_of_slope(gradient)
        functions, partial = functions_of(self.case), gradient(self.case.values)

        def values(points: np.ndarray, states: np.ndarray) -> np.ndarray:
            found = np.empty(len(points))
            for n, (t, y) in enumerate(zip(points, states, strict=True)):
                try:
                    by = partial(y, t)[0]
                    found[n] = by[:-1] @ functions.slopes(y, t) + by[-1]
                except NotFinite:
                    found[n] = np.nan
            return found

        return values

    def _columns_of_slope(self, gradient: SparseMaker) -> AlongSolution:
        """The slope of an expression at all points at once."""
        make_rhs = compiled(self.case.balances).outputs(self.case.balances.rhs)(self.case.values)
        entries, places = gradient.make_array(self.case.values), [j for _, j in gradient.pattern]
        n = len(self.case.balances.states)

        def values(points: np.ndarray, states: np.ndarray) -> np.ndarray:
            with np.errstate(all="ignore"):
                rhs, by = make_rhs(states.T, points), entries(states.T, points)
                total = np.zeros(len(points))
                for place, slope in zip(places, by, strict=True):
                    total = total + (slope * rhs[place] if place < n else slope)
            return total

        return values

    def values(self, expression: sp.Expr) -> np.ndarray:
        """The values of an expression at the resolved points."""
        return self._on_resolved("evaluate", expression)

    def _on_resolved(self, name: str, expression: sp.Expr) -> np.ndarray:
        """Values or slopes of an expression at the resolved points, remembered."""
        key = name, expression
        if key not in self._memory:
            points, states = self.resolved
            self._memory[key] = getattr(self, name)(expression)(points, states)
        return self._memory[key]

    @cached_property
    def _memory(self) -> dict[tuple[str, sp.Expr], np.ndarray]:
        return {}

    def crossings(self, expression: sp.Expr, level: float = 0.0) -> list[tuple[float, np.ndarray]]:
        """Every point at which an expression passes a level, and the states there."""
        evaluate = self.evaluate(expression)
        points, states = self.resolved
        values = self.values(expression) - level
        slopes = self._on_resolved("slope", expression)
        changes = values[:-1] * values[1:] < 0
        turns = (values[:-1] * slopes[:-1] < 0) & (values[1:] * slopes[1:] > 0)  # it comes nearer and goes off again
        found = [(float(points[i]), states[i]) for i in np.flatnonzero(values == 0)]
        for i in np.flatnonzero(changes | turns):
            try:
                found += self._roots(int(i), lambda p, s: evaluate(p, s) - level)
            except SolveError:
                if changes[i]:  # that it comes nearer may be noise, that it passes is not
                    raise
        return sorted(found, key=lambda pair: pair[0])

    def extrema(self, expression: sp.Expr) -> list[tuple[float, np.ndarray]]:
        """Every point at which an expression turns round, and the states there."""
        slope, values = self.slope(expression), self._on_resolved("slope", expression)
        found = []
        for i in np.flatnonzero(values[:-1] * values[1:] < 0):
            try:
                found += self._roots(int(i), slope)
            except SolveError:  # too many steps for so short a way: it has come to rest, and the rest is noise
                continue
        return found

    def most(self, expression: sp.Expr, sign: float = 1.0) -> tuple[float, np.ndarray, float]:
        """Where an expression is highest (lowest, for a negative sign): the point, the states and the value there."""
        evaluate = self.evaluate(expression)
        points, states = self.resolved
        row = int(np.nanargmax(sign * self.values(expression)))
        candidates = [(float(points[row]), states[row]), *self.extrema(expression)]
        values = evaluate(np.array([t for t, _ in candidates]), np.array([y for _, y in candidates]))
        best = int(np.nanargmax(sign * values))
        return *candidates[best], float(values[best])

    def _roots(self, i: int, function: AlongSolution) -> list[tuple[float, np.ndarray]]:
        """Where a function comes to zero between two neighbours of the resolved points.

        Polynomials through it and through the states at Chebyshev's points give the roots and the states there; where
        those of the states have not converged, Newton's steps on short integrations do.
        """
        points, states = self.resolved
        low, high, state = float(points[i]), float(points[i + 1]), states[i]

        def local(at: np.ndarray) -> np.ndarray:
            if at[0] - low < 1e-12 * max(abs(low), high - low):  # no step is as short as that
                return np.repeat(state[None], len(at), axis=0)
            grid = np.concatenate([[low], at]) if at[0] > low else at
            found = _solve(
                self.case,
                grid,
                Settings(self.settings.rtol, self.settings.atol, initial=state, most=_MOST_STEPS_CLOSER),
            )
            if found.failure is not None:
                raise found.failure
            return found.states[len(grid) - len(at) :]

        nodes = low + (high - low) * (1 + _NODES) / 2
        there = local(nodes)
        values = function(nodes, there)
        if not np.isfinite(values).all():
            return []
        of_function, of_states = _TO_SERIES @ values, _TO_SERIES @ there
        converged = (np.abs(of_states[-2:]).max(axis=0) <= self.settings.rtol * np.abs(of_states).max(axis=0)).all()
        found = []
        for root in _real_roots(of_function):
            at = low + (high - low) * (1 + root) / 2
            if converged:
                found.append((at, chebyshev.chebval(root, of_states)))
                continue
            y, slope = local(np.array([at]))[0], chebyshev.chebder(of_function) * (2 / (high - low))
            for _ in range(3):
                by = float(chebyshev.chebval(2 * (at - low) / (high - low) - 1, slope))
                step = float(function(np.array([at]), y[None])[0]) / by if by else 0.0
                if not abs(step) > 1e-14 * max(abs(at), high - low):
                    break
                at = float(np.clip(at - step, low, high))
                y = local(np.array([at]))[0]
            found.append((at, y))
        return found

    def cut(self, at: float, state: np.ndarray, events: tuple[LocatedEvent, ...]) -> Solution:
        """The same, ended at a point."""
        keep = self.points < at
        points = np.append(self.points[keep], at)
        states = np.concatenate([self.states[keep], state[None]])
        steps = np.append(self.steps[keep], self.steps[min(int(keep.sum()), len(self.steps) - 1)])
        return replace(self, points=points, states=states, steps=steps, events=events, sensitivities=None, failure=None)


def _horner(powers: list[float], x: float) -> float:
    found = 0.0
    for factor in powers:
        found = found * x + factor
    return found


def _real_roots(series: np.ndarray) -> list[float]:
    """The real roots of a Chebyshev series from -1 to 1, in order."""
    slopes = _TO_SLOPES @ series
    if (slopes > 0).all() or (slopes < 0).all():  # so there is one at most
        powers = (_TO_POWERS @ series)[::-1].tolist()
        if _horner(powers, -1.0) * _horner(powers, 1.0) < 0:
            return [float(brentq(lambda x: _horner(powers, x), -1.0, 1.0, xtol=1e-15))]
    near = chebyshev.chebroots(series)
    real = np.sort(near[np.abs(near.imag) < 2e-9].real)
    return [float(np.clip(root, -1.0, 1.0)) for root in real if abs(root) <= 1 + 2e-9]


def start(case: Case) -> tuple[np.ndarray, np.ndarray]:
    """Initial values and scales of the states, each of shape (states,); not to be written to."""
    return _beginning(case)[:2]


def _beginning(case: Case) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """As `start`, and the size by which the absolute tolerance of each state counts.

    That is its scale, or where it begins if that is less: a seed of 1e-12 of the charge, from which everything grows,
    must not be lost in errors of 1e-13.
    """
    if "start" not in case.remembered:
        case.remembered["start"] = _started(case)
    return case.remembered["start"]  # type: ignore[no-any-return]


def _started(case: Case) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    try:
        both = compiled(case.balances).start(case.values)(np.empty(0), 0.0)
    except (NotFinite, ArithmeticError, ValueError) as error:
        raise SolveError(
            f"the initial state has no finite value ({error})", "start", "check the numbers given"
        ) from error
    half = len(both) // 2
    y0, sizes = both[:half], both[half:]
    if min(sizes) <= 0:
        sizes = [size if size > 0 else 1.0 for size in sizes]
    first, scale = np.array(y0, dtype=float), np.array(sizes, dtype=float)
    seeds = [i for i in case.balances.amounts if 0 < y0[i] < sizes[i]]
    if not seeds:
        return first, scale, scale
    tolerated = scale.copy()
    tolerated[seeds] = first[seeds]
    return first, scale, tolerated


def integrate(
    case: Case,
    points: Sequence[float] | np.ndarray,
    *,
    by: tuple[sp.Symbol, ...] = (),
    initial: np.ndarray | None = None,
    slopes: np.ndarray | None = None,
    rtol: float = RTOL,
    atol: float = ATOL,
    events: Sequence[Event] = (),
    partial: bool = False,
    most: int = Settings.most,
) -> Solution:
    """Integrate balances from points[0] through points[-1].

    LSODA: Adams or backward differentiation formulas of variable order, the choice made along the way (A. C.
    Hindmarsh, in Scientific Computing, 1983, 55; L. Petzold, SIAM J. Sci. Stat. Comput. 4 (1983) 136), with the exact
    Jacobian where the problem is stiff, banded where that pays; backward differentiation formulas with sparse algebra
    where there are many states that few others touch.

    Parameters
    ----------
    case : Case
    points : array, shape (points,)
        Where results are wanted, rising; the first is where the initial state holds.
    by : tuple of Symbol
        Parameters to give exact sensitivities for.
    initial : array, shape (states,), optional
        Instead of the initial state of the balances.
    slopes : array, shape (states, parameters), optional
        Sensitivities of that initial state; zero if left out.
    rtol, atol : float
        Tolerances, relative to the state and as a fraction of its scale.
    events : sequence of Event
        To be located; the first terminal one ends the solution.
    partial : bool
        Whether a solution that cannot go on is returned as far as it came, with its `failure`.
    most : int
        Steps from one point to the next.

    Raises
    ------
    SolveError
        Names the state and place at which it stuck, or at which a temperature, pressure or volume falls to zero, and
        what to change.
    """
    found = _solve(case, points, Settings(rtol, atol, by, initial, slopes, most))
    if len(case.balances.bounded):
        found = _bounded(found)
    if events:
        found = _with_events(found, events)
    if found.failure is not None and not partial:
        raise found.failure
    return found


def _solve(case: Case, points: Sequence[float] | np.ndarray, settings: Settings) -> Solution:
    """As `integrate`, whatever the bounds; with the `failure` of one that cannot go on."""
    if case.balances.extent is not None:
        return _over_whole(case, np.asarray(points, dtype=float), settings)
    y0, scale, tolerated = _beginning(case)
    by, atol, initial = settings.by, settings.atol, settings.initial
    absolute = atol * tolerated
    functions = functions_of(case, by)
    given = y0 if initial is None else np.asarray(initial, dtype=float)
    first = functions.first(given, settings.slopes, initial is not None)
    if by:
        numbers = np.array([case.value(p) for p in by])
        sizes = np.where(numbers != 0, np.abs(numbers), 1.0)
        absolute = functions.with_sensitivities(absolute, 1e2 * atol * scale, sizes)
    times = np.ascontiguousarray(points, dtype=float)
    rows, steps, report, failure = _advance(case, functions, first, times, settings, functions.kept(absolute), scale)
    times = failure.rows if failure is not None and failure.rows is not None else times[: len(rows)]
    states, sensitivities = functions.unfold(rows, times)
    return Solution(case, times, states, sensitivities, steps, report, settings, failure=failure)


def _over_whole(case: Case, points: np.ndarray, settings: Settings) -> Solution:
    """What collocation over the whole stretch says at some points, wherever they begin."""
    key = f"two point {settings.rtol:g}"
    if key not in case.remembered:
        case.remembered[key] = TwoPoint(case, start(case)[1], settings.rtol)
    found: TwoPoint = case.remembered[key]
    sensitivities = found.sensitivities(points, settings.by) if settings.by else None
    steps = found.nodes_before(points)
    report = Report(f"collocation on {len(found.x)} nodes", len(found.x) - 1, 0, 0)
    return Solution(case, points, found.at(points), sensitivities, steps, report, settings)


def end_state(case: Case, end: float, rtol: float = RTOL, atol: float = ATOL) -> np.ndarray:
    """The states at the end alone, for what loops: as `integrate`, with nothing around it.

    Raises
    ------
    SolveError
        As `integrate`.
    """
    balances = case.balances
    if compiled(balances).is_plain and not balances.kinks:
        y0, _, tolerated = _beginning(case)
        try:
            y, info = _odeint(functions_of(case), y0, np.array((0.0, end)), rtol, atol * tolerated)
            last = y[1]
            if info["message"] == _DONE and all(last[i] > 0 for i in balances.bounded) and isfinite(sum(last.tolist())):
                return np.asarray(last)
        except NotFinite:
            pass
    return np.asarray(integrate(case, (0.0, end), rtol=rtol, atol=atol).states[-1])


def by_another_engine(solution: Solution) -> tuple[np.ndarray, str] | None:
    """The states at the end of a solution from its own beginning, by a method other than the one that found them and at
    a hundredth of its tolerances, and that method; None where it cannot go on, or where the whole stretch is solved at
    once.

    An implicit Runge-Kutta method of order 5 (E. Hairer, G. Wanner, Solving Ordinary Differential Equations II, 1996),
    or where amounts are exhausted by rates of an order below one an explicit one of order 8.
    """
    case, stretch = solution.case, np.array([solution.begin, solution.end])
    if case.balances.extent is not None or not stretch[1] > stretch[0]:
        return None
    settings = Settings(max(1e-2 * solution.settings.rtol, 1e-12), 1e-2 * solution.settings.atol)
    _, scale, tolerated = _beginning(case)
    functions, first, absolute = functions_of(case), solution.states[0], settings.atol * tolerated
    kinks = _Kinks(case, functions, scale, settings.atol)
    try:
        if not kinks.places:
            with np.errstate(all="ignore"):
                found = solve_ivp(
                    lambda t, y: np.array(functions.rhs(y, t)),
                    stretch,
                    first,
                    method="Radau",
                    rtol=settings.rtol,
                    atol=absolute,
                )
            if found.success:
                return found.y[:, -1], "an implicit Runge-Kutta method of order 5"
        passed = _by_runge_kutta(first, stretch, settings.rtol, absolute, kinks)
    except NotFinite:
        return None
    return None if passed is None else (passed[0], "an explicit Runge-Kutta method of order 8")


def _with_events(solution: Solution, events: Sequence[Event]) -> Solution:
    """The solution with its events, ended at the first terminal one."""
    located = []
    for event in events:
        slope = solution.slope(event.expression)
        still = 1e-9 * event.scale / max(solution.end - solution.begin, 1e-300)
        for at, state in solution.crossings(event.expression):
            speed = float(slope(np.array([at]), state[None])[0])
            happens = abs(speed) >= still and speed * event.direction >= 0
            if happens and (at > solution.begin or not event.terminal):
                located.append(LocatedEvent(event, at, state))
    located.sort(key=lambda found: found.at)
    for n, found in enumerate(located):
        if found.event.terminal:
            return solution.cut(found.at, found.state, tuple(located[: n + 1]))
    return replace(solution, events=tuple(located))


def _bounded(solution: Solution) -> Solution:
    """The solution up to where a temperature, a pressure or a volume falls to zero."""
    balances = solution.case.balances
    watched = balances.bounded
    below = [i for i in watched if solution.states[:, i].min() <= 0]
    if not below:
        return solution
    place = below[0]
    state = balances.states[place]
    crossed = solution.crossings(state.symbol)
    at, there = crossed[0] if crossed else (solution.begin, solution.states[0])
    message = f"the {state.kind} falls to zero at {balances.independent} = {at:.6g}"
    failure = SolveError(message, "integration", "a result below it would not be physical: check the numbers behind it")
    failure.reached, failure.symbol = at, state.symbol
    return replace(solution.cut(at, there, ()), failure=failure)


Rows = tuple[np.ndarray, np.ndarray, Report, SolveError | None]


def _advance(
    case: Case,
    functions: Functions,
    first: np.ndarray,
    times: np.ndarray,
    settings: Settings,
    absolute: np.ndarray,
    scale: np.ndarray,
) -> Rows:
    """Rows of states as far as they can be had, steps up to each, what was done, and what stopped it."""
    rtol = settings.rtol
    if len(times) == 1:
        return first[None], np.zeros(1, dtype=int), Report("nothing to integrate", 0, 0, 0), None
    if functions.is_sparse:
        return _by_sparse(case, functions, first, times, rtol, absolute)
    try:
        most = min(settings.most, _MOST_STEPS_KINKS) if case.balances.kinks else settings.most
        y, info = _odeint(functions, first, times, rtol, absolute, most=most)
    except NotFinite as error:
        return _up_to(case, functions, first, times, rtol, absolute, _not_finite(case, error))
    report = Report(
        {1: "LSODA (Adams)", 2: "LSODA (BDF)"}.get(int(info["mused"][-1]), "LSODA"),
        int(info["nst"][-1]),
        int(info["nfe"][-1]),
        int(info["nje"][-1]),
    )
    steps = np.zeros(len(times), dtype=int)
    steps[1:] = info["nst"]
    kinks = _Kinks(case, functions, scale, settings.atol)
    rows = kinks.cut(_finished(times, y, info))
    steps = steps[: len(rows)]
    if len(rows) < len(times):
        rows, steps = _resumed(rows, steps, times, settings, absolute, kinks)
    if len(rows) == len(times):
        return rows, steps, report, None
    points = times[: len(rows)]
    goal, failure = times[len(rows)], None
    for _ in range(3):  # nearer and nearer to where it sticks
        closer = np.linspace(points[-1], goal, _CLOSER)
        try:
            fine, counts = _odeint(functions, rows[-1], closer, rtol, absolute, most=_MOST_STEPS_CLOSER)
        except NotFinite as error:
            failure = failure or _not_finite(case, error)
            break
        failure = _stuck(case, times[-1], closer, fine, scale, counts)
        further = _first_failure(closer, counts) + 1 if counts["message"] != _DONE else len(closer)
        further = min(further, int(np.argmin(np.append(np.isfinite(fine).all(axis=1), False))))
        if further < len(closer):
            goal = closer[further]
        rows, points = np.concatenate([rows, fine[1:further]]), np.concatenate([points, closer[1:further]])
        steps = np.concatenate([steps, steps[-1] + counts["nst"][: max(further - 1, 0)]])
        if further == len(closer) or goal - points[-1] < 1e-9 * goal:
            break
    assert failure is not None
    failure.rows = points
    return rows, steps, report, failure


class _Kinks:
    """The amounts that a rate of an order below one exhausts, and where they count as exhausted.

    There the rates have slopes without bound; a step across would leave the amount negative for good. Sensitivities of
    an exhausted amount are zero.
    """

    def __init__(self, case: Case, functions: Functions, scale: np.ndarray, atol: float) -> None:
        self.functions, self.count = functions, len(scale)
        self.places = [] if case.balances.has_equations else [*case.balances.kinks]
        self.least = max(_EXHAUSTED, 10 * atol) * scale[self.places]
        self.band = functions.band
        place = functions.sensitivity.place if isinstance(functions, WithSensitivities) else []
        self.slopes = {i: [self.count + n for n, (own, _) in enumerate(place) if own == i] for i in self.places}

    def callbacks(self) -> tuple[Any, Any]:
        """Those of the functions, with zero for the slopes that have no finite value where an amount is exhausted."""
        rhs, jacobian = self.functions.callbacks()

        def tamed(y: np.ndarray, t: float) -> np.ndarray:
            found = np.array(rhs(y, t))
            found[self.count :] = np.nan_to_num(found[self.count :], nan=0.0, posinf=0.0, neginf=0.0)
            return found

        def tamed_jacobian(y: np.ndarray, t: float) -> np.ndarray:
            return np.asarray(np.nan_to_num(np.array(jacobian(y, t)), nan=0.0, posinf=0.0, neginf=0.0))

        return (tamed, tamed_jacobian) if any(self.slopes.values()) else (rhs, jacobian)

    def cut(self, rows: np.ndarray) -> np.ndarray:
        """The rows before the first, but for the beginning, in which one is negative."""
        negative = (rows[1:, self.places] < -self.least).any(axis=1)
        return rows[: 1 + int(np.argmax(np.append(negative, True)))]

    def settled(self, y: np.ndarray) -> np.ndarray:
        """The states with the exhausted amounts at zero."""
        found = y.copy()
        for place, least in zip(self.places, self.least, strict=True):
            if abs(y[place]) < least:
                found[[place, *self.slopes[place]]] = 0.0
        return found


def _resumed(
    rows: np.ndarray, steps: np.ndarray, times: np.ndarray, settings: Settings, absolute: np.ndarray, kinks: _Kinks
) -> tuple[np.ndarray, np.ndarray]:
    """Rows continued beyond where an integration stopped, and the steps up to each, as far as that goes.

    The stretch at which it stopped is integrated with short steps, by a method that passes the place where a reactant
    is exhausted; a start behind it is free of the step size and order that led there.
    """
    at, y, taken = times[len(rows) - 1], rows[-1], int(steps[-1])
    for _ in range(_MOST_RESTARTS):
        closer = np.linspace(at, times[len(rows)], _CLOSER)
        try:
            fine, counts = _odeint(kinks, y, closer, settings.rtol, absolute, most=_MOST_STEPS_CLOSER)
            good = len(kinks.cut(_finished(closer, fine, counts)))
            y, at = fine[good - 1], closer[good - 1]
            taken += int(counts["nst"][good - 2]) if good > 1 else 0
            if good < len(closer):
                passed = _by_runge_kutta(y, closer[good - 1 : good + 1], settings.rtol, absolute, kinks)
                if passed is None:
                    break
                y, at, taken = passed[0], closer[good], taken + passed[1]
            if at < times[len(rows)]:
                continue
            rows, steps = np.concatenate([rows, y[None]]), np.append(steps, taken)
            if len(rows) == len(times):
                break
            behind, counts = _odeint(kinks, y, times[len(rows) - 1 :], settings.rtol, absolute, most=settings.most)
        except NotFinite:
            break
        more = kinks.cut(_finished(times[len(rows) - 1 :], behind, counts))
        rows = np.concatenate([rows, more[1:]])
        steps = np.concatenate([steps, taken + counts["nst"][: len(more) - 1]])
        if len(rows) == len(times):
            break
        at, y, taken = times[len(rows) - 1], rows[-1], int(steps[-1])
    return rows, steps


def _by_runge_kutta(
    first: np.ndarray, stretch: np.ndarray, rtol: float, absolute: np.ndarray, kinks: _Kinks
) -> tuple[np.ndarray, int] | None:
    """The states at the end of a stretch, and the steps taken; None where this method cannot pass it either.

    An explicit method of order 8 (J. R. Dormand, P. J. Prince, J. Comput. Appl. Math. 6 (1980) 19) needs no slopes of
    the rates. Steps that leave an amount negative are halved until it is exhausted.
    """
    if not np.isfinite(first).all():
        return None
    rhs = kinks.callbacks()[0]

    def started(t: float, y: np.ndarray, longest: float) -> DOP853:
        return DOP853(
            lambda t, y: np.array(rhs(y, t)), t, y, stretch[1], rtol=max(rtol, 1e-12), atol=absolute, max_step=longest
        )

    solver, taken = started(stretch[0], kinks.settled(first), np.inf), 0
    while solver.status == "running" and taken < _MOST_STEPS_CLOSER:
        t, y = solver.t, solver.y
        with np.errstate(all="ignore"):  # a step too far is taken back
            solver.step()
        taken += 1
        if (solver.y[kinks.places] < 0).any():
            rest = kinks.settled(y)
            solver = started(t, rest, np.inf if (rest != y).any() else (solver.t - t) / 2)
    return (kinks.settled(solver.y), taken) if solver.status == "finished" and np.isfinite(solver.y).all() else None


def _finished(times: np.ndarray, y: np.ndarray, info: dict[str, Any]) -> np.ndarray:
    """The rows that an integration finished, the first one included."""
    good = len(times) if info["message"] == _DONE else _first_failure(times, info) + 1
    while good > 1 and not np.isfinite(y[good - 1]).all():
        good -= 1
    return y[:good]


def _odeint(
    functions: Functions | _Kinks,
    first: np.ndarray,
    times: np.ndarray,
    rtol: float,
    absolute: np.ndarray,
    stop: bool = False,
    most: int = Settings.most,
) -> tuple[np.ndarray, dict[str, Any]]:
    """Rows by LSODA; with `stop` it does not look beyond the last."""
    rhs, jacobian = functions.callbacks()
    return lsoda(
        rhs, jacobian, first, times, rtol, absolute, mxstep=most, tcrit=times[-1:] if stop else None, **functions.band
    )


def lsoda(
    rhs: Function,
    jacobian: Function | None,
    first: np.ndarray,
    times: np.ndarray,
    rtol: float,
    absolute: np.ndarray,
    **further: Any,
) -> tuple[np.ndarray, dict[str, Any]]:
    """Rows by LSODA as SciPy's `odeint` drives it, and what it counted; a failure is in its message, not a warning."""
    asked = {"Dfun": jacobian, "rtol": rtol, "atol": absolute, "full_output": True, "mxstep": Settings.most, **further}
    try:
        return odeint(rhs, first, times, **asked)  # type: ignore[no-any-return]
    except ODEintWarning:  # somebody has turned warnings into errors
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ODEintWarning)
            return odeint(rhs, first, times, **asked)  # type: ignore[no-any-return]


def _up_to(
    case: Case,
    functions: Functions,
    first: np.ndarray,
    times: np.ndarray,
    rtol: float,
    absolute: np.ndarray,
    failure: SolveError,
) -> Rows:
    """The rows before a place at which something has no finite value."""
    reach = failure.reached - times[0]
    for share in (1 - 1e-6, 1 - 1e-4, 0.99, 0.9, 0.5, 0.1):
        end = times[0] + share * reach
        grid = np.append(times[times < end], end)
        if len(grid) < 2:
            continue
        try:
            y, info = _odeint(functions, first, grid, rtol, absolute, stop=True)
        except NotFinite:
            continue
        if info["message"] == _DONE and np.isfinite(y).all():
            own = times[times < end]
            report = Report("LSODA", int(info["nst"][-1]), int(info["nfe"][-1]), int(info["nje"][-1]))
            return y[: len(own)], np.concatenate([[0], info["nst"]])[: len(own)], report, failure
    return first[None], np.zeros(1, dtype=int), Report("LSODA", 0, 1, 0), failure


def _by_sparse(
    case: Case, functions: Functions, first: np.ndarray, times: np.ndarray, rtol: float, absolute: np.ndarray
) -> Rows:
    """Rows by backward differentiation formulas with a sparse Jacobian (L. F. Shampine, M. W. Reichelt, SIAM J. Sci.
    Comput. 18 (1997) 1)."""
    try:
        with np.errstate(all="ignore"):  # differences of an order not reached yet hold anything, and are not used
            found = solve_ivp(
                lambda t, y: functions.rhs(y, t),
                (times[0], times[-1]),
                first,
                method="BDF",
                t_eval=times,
                jac=functions.sparse_jacobian_at,
                rtol=max(rtol, 1e-12),
                atol=absolute,
            )
    except NotFinite as error:
        failure = _not_finite(case, error)
        return first[None], np.zeros(1, dtype=int), Report("sparse BDF", 0, 0, 0), failure
    rows = found.y.T
    steps = np.zeros(len(rows), dtype=int)
    failed = None
    if found.status < 0:
        failed = SolveError(
            f"stopped at {case.balances.independent} = {found.t[-1]:.6g}: {found.message}",
            "integration",
            "look for a rate that grows without end, or end the run earlier",
        )
        failed.reached = float(found.t[-1])
    return rows, steps, Report("sparse BDF", len(found.t), int(found.nfev), int(found.njev)), failed


def _not_finite(case: Case, error: NotFinite) -> SolveError:
    states = np.asarray(error.states, dtype=float)
    gone = [name for name, value in zip(case.balances.names, states, strict=False) if not value > 0]
    message = f"a rate law has no finite value at {case.balances.independent} = {error.at:.6g} ({error.cause})"
    if gone:
        message += f"; zero there: {', '.join(gone[:6])}"
    found = SolveError(message, "integration", "check denominators, logarithms and negative orders in the rate laws")
    found.reached = float(error.at)
    fallen = [i for i in case.balances.bounded if not states[i] > 0]
    if fallen:
        found.symbol = case.balances.symbols[fallen[0]]
    return found


def _first_failure(times: np.ndarray, info: dict[str, Any]) -> int:
    """Index of the first stretch that was not finished; what LSODA reports of those behind it means nothing."""
    return int(np.argmax(~(info["tcur"] >= times[1:])))


def _stuck(
    case: Case, end: float, times: np.ndarray, y: np.ndarray, scale: np.ndarray, info: dict[str, Any]
) -> SolveError:
    failed = _first_failure(times, info) if info["message"] != _DONE else len(times) - 1
    message = f"stopped at {case.balances.independent} = {times[failed]:.6g} of {end:.6g}"
    n = len(scale)
    change = np.zeros(0)
    if y.shape[1] >= n:
        with np.errstate(all="ignore"):
            change = np.abs(y[failed, :n] - y[max(failed - 1, 0), :n]) / scale
    if np.isfinite(change).any():
        message += f", where {case.balances.names[int(np.nanargmax(change))]} changes fastest"
    reason = str(info["message"]).split("(")[0].strip(" .").lower()
    advice = "look for a rate that grows without end; check the rate laws, or end the run before this place"
    found = SolveError(f"{message} (LSODA: {reason})", "integration", advice)
    found.reached = float(times[failed])
    return found


def observe(
    case: Case,
    expressions: tuple[sp.Expr, ...],
    points: np.ndarray,
    states: np.ndarray,
    sensitivities: np.ndarray,
    by: tuple[sp.Symbol, ...],
) -> tuple[np.ndarray, np.ndarray]:
    """Expressions of the balances at some points, and their whole derivatives by parameters.

    dm/dp = (dm/dy) S + (partial m/partial p).

    Parameters
    ----------
    states : array, shape (points, states)
    sensitivities : array, shape (points, states, parameters)

    Returns
    -------
    values : array, shape (points, expressions)
    slopes : array, shape (points, expressions, parameters)
    """
    whole, symbols = compiled(case.balances), case.balances.symbols
    rows = whole.outputs(expressions)(case.values)(states.T, points)
    values = np.array([np.broadcast_to(np.asarray(row, dtype=float), points.shape) for row in rows]).T
    gradient = whole.gradient(expressions, (*symbols, *by))(case.values)
    n = len(symbols)
    found = []
    for state, point, sensitivity in zip(states, points, sensitivities, strict=True):
        partial = gradient(state, point)
        found.append(partial[:, :n] @ sensitivity + partial[:, n:])
    return values, np.array(found)
