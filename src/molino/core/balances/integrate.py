"""Integration of a `Case` over time or along a tube: states at any point, events, exact sensitivities.

One contract for all engines: LSODA through `scipy.integrate.odeint` (with a full or a banded Jacobian), machine code
(`machine`), an implicit method with sparse algebra for many states, or collocation over the whole interval for
conditions at both ends.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from math import isfinite

import numpy as np
import scipy
import sympy as sp
from numpy.polynomial import chebyshev

from molino.core.balances.compiled import SparseMaker, compiled
from molino.core.balances.constant_parts import constant_parts
from molino.core.balances.engines import DONE, MOST_STEPS_CLOSER, advance, beginning, by_odeint, by_runge_kutta, start
from molino.core.balances.functions import functions_of
from molino.core.balances.kinks import Kinks
from molino.core.balances.machine.choice import machine_of, spent
from molino.core.balances.settings import ATOL, RTOL, Report, Settings
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.balances.two_point import TwoPoint
from molino.core.errors import SolveError
from molino.core.frozen import Frozen, Unchecked

RUN_OUT = 1e-6
"""Negative value of a state, as a fraction of its scale, below which it is consumed beyond exhaustion."""

_MOST_ROWS = 6000
_MOST_ROUNDS = 6
_APART = 1e-14
"""Smallest distance of two different points, relative to the end."""
_STARTING = 17
"""Number of steps that an integration may need to increase its first step to the one that the tolerance allows."""
_NODES = -np.cos(np.pi * (np.arange(9) + 0.5) / 9)
"""Points, from -1 to 1, of the polynomial interpolation that locates zeros."""
_TO_SERIES = np.linalg.inv(chebyshev.chebvander(_NODES, len(_NODES) - 1))
_TO_SLOPES = chebyshev.chebvander(np.linspace(-1, 1, 17), len(_NODES) - 2) @ chebyshev.chebder(np.eye(len(_NODES)))
_TO_POWERS = np.linalg.solve(np.vander(_NODES, increasing=True), chebyshev.chebvander(_NODES, len(_NODES) - 1))


@dataclass(frozen=True)
class Event:
    """An event: an expression of the balances becomes zero.

    `direction` is 1 if it must rise through zero, -1 if it must fall, 0 for both; a terminal event ends the
    integration. An expression that remains at zero, within rounding of numbers of `scale`, is not an event.
    """

    name: str
    expression: sp.Expr
    direction: int = 0
    terminal: bool = False
    scale: float = 0.0


Switch = Callable[[Case, bool, np.ndarray | None], tuple[Case, tuple[Event, ...], bool]]
"""An event handler: from the case of a stage and whether the event has happened, the case to integrate and the events
to watch."""


@dataclass(frozen=True, eq=False)
class LocatedEvent(Frozen):
    """The place of an event, and the states there, shape (states,)."""

    event: Event
    at: float
    state: np.ndarray


AlongSolution = Callable[[np.ndarray, np.ndarray], np.ndarray]
"""Values at points of shape (points,) with states of shape (points, states)."""


@dataclass(frozen=True, eq=False)
class Solution(Unchecked):
    """States along the independent variable, at the requested points and at any other.

    Attributes
    ----------
    points : array, shape (points,)
    states : array, shape (points, states)
    sensitivities : array, shape (points, states, parameters), or None
    steps : array, shape (points,)
        Number of steps up to each point.
    events : tuple of LocatedEvent
        In order.
    failure : SolveError or None
        The reason why it ended before the last requested point.
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
        """States at any points between begin and end, shape (points, states), as accurate as the integration itself.

        They are from an integration through these points; its steps differ from those of this one, within the
        tolerance, since LSODA chooses its first step by the first point.
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
        """Points, and the states there, with at most a step or two of the integration between them."""
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
        """Values or derivatives of an expression at the resolved points, cached."""
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
        turns = (values[:-1] * slopes[:-1] < 0) & (values[1:] * slopes[1:] > 0)  # it approaches and recedes
        found = [(float(points[i]), states[i]) for i in np.flatnonzero(values == 0)]
        for i in np.flatnonzero(changes | turns):
            try:
                found += self._roots(int(i), lambda p, s: evaluate(p, s) - level)
            except SolveError:
                if changes[i]:  # an approach may be noise, a crossing is not
                    raise
        return sorted(found, key=lambda pair: pair[0])

    def extrema(self, expression: sp.Expr) -> list[tuple[float, np.ndarray]]:
        """Every extremum of an expression, and the states there."""
        slope, values = self.slope(expression), self._on_resolved("slope", expression)
        found = []
        for i in np.flatnonzero(values[:-1] * values[1:] < 0):
            try:
                found += self._roots(int(i), slope)
            except SolveError:  # too many steps for this short interval: it is constant, and the rest is noise
                continue
        return found

    def most(self, expression: sp.Expr, sign: float = 1.0) -> tuple[float, np.ndarray, float]:
        """The maximum of an expression (minimum for a negative sign): the point, the states and the value there."""
        evaluate = self.evaluate(expression)
        points, states = self.resolved
        row = int(np.nanargmax(sign * self.values(expression)))
        candidates = [(float(points[row]), states[row]), *self.extrema(expression)]
        values = evaluate(np.array([t for t, _ in candidates]), np.array([y for _, y in candidates]))
        best = int(np.nanargmax(sign * values))
        return *candidates[best], float(values[best])

    def _roots(self, i: int, function: AlongSolution) -> list[tuple[float, np.ndarray]]:
        """The zeros of a function between two neighbours of the resolved points.

        Polynomials through it and through the states at Chebyshev points give the roots and the states there; if those
        of the states have not converged, Newton steps on short integrations do.
        """
        points, states = self.resolved
        low, high, state = float(points[i]), float(points[i + 1]), states[i]

        def local(at: np.ndarray) -> np.ndarray:
            if at[0] - low < 1e-12 * max(abs(low), high - low):  # steps are longer
                return np.repeat(state[None], len(at), axis=0)
            grid = np.concatenate([[low], at]) if at[0] > low else at
            found = _solve(
                self.case,
                grid,
                Settings(self.settings.rtol, self.settings.atol, initial=state, most=MOST_STEPS_CLOSER),
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
        """The same, cut at a point."""
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
    if (slopes > 0).all() or (slopes < 0).all():  # so there is at most one
        powers = (_TO_POWERS @ series)[::-1].tolist()
        if _horner(powers, -1.0) * _horner(powers, 1.0) < 0:
            return [float(scipy.optimize.brentq(lambda x: _horner(powers, x), -1.0, 1.0, xtol=1e-15))]
    near = chebyshev.chebroots(series)
    real = np.sort(near[np.abs(near.imag) < 2e-9].real)
    return [float(np.clip(root, -1.0, 1.0)) for root in real if abs(root) <= 1 + 2e-9]


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

    LSODA: Adams or backward differentiation formulas of variable order, the choice made along the way (A. C. Hindmarsh,
    in Scientific Computing, 1983, 55; L. Petzold, SIAM J. Sci. Stat. Comput. 4 (1983) 136), with the exact Jacobian for
    stiff problems, banded where that is faster; backward differentiation formulas with sparse algebra for many weakly
    coupled states.

    Parameters
    ----------
    case : Case
    points : array, shape (points,)
        Points of the result, rising; the first is that of the initial state.
    by : tuple of Symbol
        Parameters for exact sensitivities.
    initial : array, shape (states,), optional
        By default the initial state of the balances.
    slopes : array, shape (states, parameters), optional
        Sensitivities of that initial state; by default zero.
    rtol, atol : float
        Tolerances, relative to the state and as a fraction of its scale.
    events : sequence of Event
        Events to be located; the first terminal one ends the solution.
    partial : bool
        Whether an incomplete solution is returned, with its `failure`.
    most : int
        Largest number of steps from one point to the next.

    Raises
    ------
    SolveError
        With the state and the place at which it stopped, or at which a temperature, pressure or volume falls to zero,
        and a remedy.
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
    """As `integrate`, without bounds; an incomplete solution has its `failure`."""
    if case.balances.extent is not None:
        return _over_whole(case, np.asarray(points, dtype=float), settings)
    by, atol, initial = settings.by, settings.atol, settings.initial
    parts = constant_parts(case.balances, by) if settings.slopes is None else None
    if parts is not None:
        found = _solve(parts.case(case), points, replace(settings, by=parts.by))
        slopes = None if found.sensitivities is None else found.sensitivities @ parts.slopes(case)
        return replace(found, case=case, settings=settings, sensitivities=slopes)
    times = np.ascontiguousarray(points, dtype=float)
    whole = compiled(case.balances)
    machine = machine_of(whole, by) if initial is None and settings.slopes is None and len(times) > 1 else None
    solved = None if machine is None else machine.run(case.values, times, settings)
    if solved is not None:
        rows, steps, report = solved
        n = len(case.balances.states)
        sensitivities = whole.sensitivity(by).unfold(rows[:, n:]) if by else None
        return Solution(case, times, rows[:, :n] if by else rows, sensitivities, steps, report, settings)
    y0, scale, tolerated = beginning(case)
    absolute = atol * tolerated
    functions = functions_of(case, by)
    given = y0 if initial is None else np.asarray(initial, dtype=float)
    first = functions.first(given, settings.slopes, initial is not None)
    if by:
        numbers = np.array(case.select(by))
        sizes = np.where(numbers != 0, np.abs(numbers), 1.0)
        absolute = functions.with_sensitivities(absolute, 1e2 * atol * scale, sizes)
    rows, steps, report, failure = advance(case, functions, first, times, settings, functions.kept(absolute), scale)
    times = failure.rows if failure is not None and failure.rows is not None else times[: len(rows)]
    states, sensitivities = functions.unfold(rows, times)
    return Solution(case, times, states, sensitivities, steps, report, settings, failure=failure)


def _over_whole(case: Case, points: np.ndarray, settings: Settings) -> Solution:
    """The solution by collocation over the whole interval at some points."""
    key = f"two point {settings.rtol:g}"
    if key not in case.remembered:
        case.remembered[key] = TwoPoint(case, start(case)[1], settings.rtol)
    found: TwoPoint = case.remembered[key]
    sensitivities = found.sensitivities(points, settings.by) if settings.by else None
    steps = found.nodes_before(points)
    report = Report(f"collocation on {len(found.x)} nodes", len(found.x) - 1, 0, 0)
    return Solution(case, points, found.at(points), sensitivities, steps, report, settings)


def end_state(case: Case, end: float, rtol: float = RTOL, atol: float = ATOL) -> np.ndarray:
    """The states at the end alone, for loops: as `integrate`, without a result object.

    Raises
    ------
    SolveError
        As `integrate`.
    """
    balances = case.balances
    if compiled(balances).is_plain and not balances.kinks:
        whole = compiled(balances)
        machine = machine_of(whole)
        if machine is not None:
            found = machine.run(case.values, np.array((0.0, end)), Settings(rtol, atol))
            if found is not None and all(found[0][1][i] > 0 for i in balances.bounded):
                return np.asarray(found[0][1])
        y0, _, tolerated = beginning(case)
        try:
            y, info = by_odeint(functions_of(case), y0, np.array((0.0, end)), rtol, atol * tolerated)
            last = y[1]
            if info["message"] == DONE and all(last[i] > 0 for i in balances.bounded) and isfinite(sum(last.tolist())):
                spent(whole, (), int(info["nfe"][-1]))
                return np.asarray(last)
        except NotFinite:
            pass
    return np.asarray(integrate(case, (0.0, end), rtol=rtol, atol=atol).states[-1])


def by_another_engine(solution: Solution) -> tuple[np.ndarray, str] | None:
    """The states at the end of a solution by a different method at a hundredth of its tolerances, and that method; None
    if it fails, or if the whole interval is solved at once.

    An implicit Runge-Kutta method of order 5 (E. Hairer, G. Wanner, Solving Ordinary Differential Equations II, 1996),
    or, if rates of an order below one exhaust amounts, an explicit one of order 8.
    """
    case, stretch = solution.case, np.array([solution.begin, solution.end])
    if case.balances.extent is not None or not stretch[1] > stretch[0]:
        return None
    settings = Settings(max(1e-2 * solution.settings.rtol, 1e-12), 1e-2 * solution.settings.atol)
    _, scale, tolerated = beginning(case)
    functions, first, absolute = functions_of(case), solution.states[0], settings.atol * tolerated
    kinks = Kinks(case, functions, scale, settings.atol)
    try:
        if not kinks.places:
            with np.errstate(all="ignore"):
                found = scipy.integrate.solve_ivp(
                    lambda t, y: np.array(functions.rhs(y, t)),
                    stretch,
                    first,
                    method="Radau",
                    rtol=settings.rtol,
                    atol=absolute,
                )
            if found.success:
                return found.y[:, -1], "an implicit Runge-Kutta method of order 5"
        passed = by_runge_kutta(first, stretch, settings.rtol, absolute, kinks)
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
    failure = SolveError(message, "integration", "negative values are not physical: check the inputs")
    failure.reached, failure.symbol = at, state.symbol
    return replace(solution.cut(at, there, ()), failure=failure)


def observe(
    case: Case,
    expressions: tuple[sp.Expr, ...],
    points: np.ndarray,
    states: np.ndarray,
    sensitivities: np.ndarray,
    by: tuple[sp.Symbol, ...],
) -> tuple[np.ndarray, np.ndarray]:
    """Expressions of the balances at some points, and their total derivatives by parameters.

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
