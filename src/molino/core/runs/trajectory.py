"""The course of a vessel's states through all stages of a run: at any point, with extremes and crossings."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import HEAT, SINCE, slope_of
from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import Event, Solution, Switch, integrate
from molino.core.balances.piecewise_linear import Segment
from molino.core.balances.settings import Report
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen

_UNIT = np.unique(np.concatenate([np.linspace(0.0, 1.0, 49), np.geomspace(1e-8, 1.0, 33)]))
_CLOSE = 1e-12
"""Relative length of a rest of a stage that is not integrated."""


def probing_points(begin: float, end: float) -> np.ndarray:
    """Points of an integration: even ones, and on a logarithmic scale from the beginning."""
    span = end - begin
    if span < 1e-9 * end:
        return np.array([begin, end])
    found = begin + span * _UNIT
    found[-1] = end
    return found if begin == 0.0 else found[(found - begin > 1e-12 * end) | (_UNIT == 0.0)]


@dataclass(frozen=True, eq=False)
class Trajectory(Frozen):
    """Consecutive solutions, each beginning at the end of the one before.

    `unbalanced` is the residual of the energy balance: where a prescribed temperature has a step, the heat for it is
    added to the duty.
    """

    parts: tuple[Solution, ...]
    unbalanced: sp.Expr | None = None

    @property
    def end(self) -> float:
        return self.parts[-1].end

    @property
    def last(self) -> Case:
        """The balances with the numbers of the last stage."""
        return self.parts[-1].case

    @property
    def end_state(self) -> np.ndarray:
        return np.asarray(self.parts[-1].states[-1])

    @cached_property
    def report(self) -> Report:
        return Report.of([part.report for part in self.parts])

    def owners(self, points: np.ndarray) -> np.ndarray:
        """The part of each point; a point at a step belongs to the part after it."""
        ends = np.array([part.end for part in self.parts[:-1]])
        return np.searchsorted(ends, points, side="right")

    def at(self, points: np.ndarray) -> np.ndarray:
        """States at any points, shape (points, states)."""
        if len(self.parts) == 1:
            return self.parts[0].at(points)
        owners = self.owners(points)
        found = np.empty((len(points), self.parts[0].states.shape[1]))
        for n, part in enumerate(self.parts):
            own = owners == n
            if own.any():
                found[own] = part.at(points[own])
        return found

    def evaluate(self, expressions: tuple[sp.Expr, ...], points: np.ndarray, states: np.ndarray) -> list[np.ndarray]:
        """Expressions of the balances at some points, each of shape (points,)."""
        if len(self.parts) == 1:
            return _evaluated(self.parts[0].case, expressions, points, states)
        owners = self.owners(points)
        found = [np.empty(len(points)) for _ in expressions]
        for n, part in enumerate(self.parts):
            own = owners == n
            if not own.any():
                continue
            for held, row in zip(found, _evaluated(part.case, expressions, points[own], states[own]), strict=True):
                held[own] = row
        return found

    def evaluate_parts(self, expressions: tuple[sp.Expr, ...]) -> list[np.ndarray]:
        """Expressions at the points of all parts, each with the numbers of its part: twice at a step."""
        rows = [_evaluated(part.case, expressions, part.points, part.states) for part in self.parts]
        return [np.concatenate([row[n] for row in rows]) for n in range(len(expressions))]

    def at_end(self, expressions: tuple[sp.Expr, ...]) -> list[float]:
        """Expressions of the balances at the end."""
        case, moved = self.last, moved_expressions(self.last, expressions)
        return numbers_at(compiled(case.balances).outputs(moved)(case.values), self.end_state, self.end)

    def most(self, expression: sp.Expr, sign: float = 1.0) -> tuple[float, float]:
        """The place at which an expression is highest (lowest, for a negative sign), and its value there."""
        found = []
        for part in self.parts:
            at, _, value = part.most(moved_expressions(part.case, (expression,))[0], sign)
            found.append((at, value))
        return max(found, key=lambda pair: sign * pair[1])

    def crossings(self, expression: sp.Expr, level: float = 0.0) -> list[float]:
        """Every point at which an expression passes a level."""
        return [
            at for part in self.parts for at, _ in part.crossings(moved_expressions(part.case, (expression,))[0], level)
        ]


def numbers_at(outputs: Callable[..., list[float]], state: np.ndarray, at: float) -> list[float]:
    """Generated outputs over columns at a single point; nan for a division by zero."""
    try:
        return [float(number) for number in outputs(state.tolist(), at)]
    except NotFinite:  # a selectivity where nothing has formed
        with np.errstate(divide="ignore", invalid="ignore"):
            return [float(number) for number in outputs(state, np.float64(at))]


def _evaluated(
    case: Case, expressions: tuple[sp.Expr, ...], points: np.ndarray, states: np.ndarray
) -> list[np.ndarray]:
    moved = moved_expressions(case, expressions)
    with np.errstate(divide="ignore", invalid="ignore"):
        rows = compiled(case.balances).outputs(moved)(case.values)(states.T, points)
    return [row if np.shape(row) == points.shape else np.full(points.shape, row) for row in rows]


def moved_expressions(case: Case, expressions: tuple[sp.Expr, ...]) -> tuple[sp.Expr, ...]:
    """Expressions of plain balances for those of a stage, in which some parameters move."""
    held = {*case.balances.parameters}
    if SINCE not in held:
        return expressions
    along = case.balances.independent - SINCE
    swap = {p: p + slope_of(p) * along for p in case.balances.parameters if slope_of(p) in held}
    return tuple(e.xreplace(swap) for e in expressions)


def integrate_segments(
    segments: Sequence[Segment],
    rtol: float,
    atol: float,
    switch: Switch | None = None,
    points: Callable[[float, float], np.ndarray] = probing_points,
    unbalanced: sp.Expr | None = None,
) -> Trajectory:
    """Integrate through stages, each beginning at the end of the one before; `switch` handles events.

    `unbalanced` as in `Trajectory`.
    """
    begin, state = 0.0, None
    parts: list[Solution] = []
    happened = False
    for segment in segments:
        while not parts or segment.end - begin > _CLOSE * segment.end:
            case, events = segment.case, tuple[Event, ...]()
            if switch is not None:
                case, events, happened = switch(segment.case, happened, state)
                if events and state is not None and _has_happened(case, events[0], begin, state):
                    case, events, happened = switch(segment.case, True, state)
            if parts and state is not None and _temperature_jumps(parts[-1], case, unbalanced):
                state = state + _heat_of_jump(parts[-1], case, state, unbalanced)
            try:
                found = integrate(case, points(begin, segment.end), initial=state, rtol=rtol, atol=atol, events=events)
            except SolveError as error:
                error.parts = tuple(parts)
                raise
            parts.append(found)
            begin, state = found.end, found.states[-1]
            if not (found.events and found.events[-1].event.terminal) or begin >= segment.end:
                break
            happened = True
    return Trajectory(tuple(parts), unbalanced)


def _has_happened(case: Case, event: Event, at: float, state: np.ndarray) -> bool:
    value = compiled(case.balances).outputs((event.expression,))(case.values)(state[:, None], np.array([at]))[0]
    return float(np.ravel(value)[0]) >= -1e-12


def sensitivities_at_end(trajectory: Trajectory, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """d(state)/d(parameter) at the end, shape (states, parameters); see `sensitivities_at`."""
    return np.asarray(sensitivities_at(trajectory, np.array([trajectory.end]), by)[1][-1])


def sensitivities_at(
    trajectory: Trajectory, points: np.ndarray, by: tuple[sp.Symbol, ...]
) -> tuple[np.ndarray, np.ndarray]:
    """States, shape (points, states), and d(state)/d(parameter), shape (points, states, parameters), at rising points.

    The time of an event depends on the parameters: S has a step of (f_before - f_after) dt/dp with dt/dp = -(g_y S +
    g_p)/(g_y f + g_t) (W. F. Feehery, J. E. Tolsma, P. I. Barton, Appl. Numer. Math. 25 (1997) 41).

    Raises
    ------
    InputError
        If one of the parameters changes during the run.
    """
    _check_constant(trajectory, by)
    owners = trajectory.owners(points)
    state, slopes, states, found = None, None, [], []
    for n, part in enumerate(trajectory.parts):
        rtol, atol = part.settings.rtol, part.settings.atol
        own = points[owners == n]
        last = n + 1 == len(trajectory.parts) or not (owners > n).any()
        ends = own if last and len(own) and own[-1] > part.begin else np.append(own, part.end)
        grid = np.unique(np.append(part.begin, ends))
        solution = integrate(part.case, grid, initial=state, by=by, slopes=slopes, rtol=rtol, atol=atol)
        S = solution.sensitivities
        if S is None:
            S = np.zeros((*solution.states.shape, 0))
        rows = np.searchsorted(grid, own)
        states.append(solution.states[rows])
        found.append(S[rows])
        if last:
            break
        state, slopes = solution.states[-1], S[-1]
        after = trajectory.parts[n + 1].case
        if _temperature_jumps(part, after, trajectory.unbalanced):
            slopes = slopes + _slopes_of_jump(part, after, state, slopes, by, trajectory.unbalanced)
            state = state + _heat_of_jump(part, after, state, trajectory.unbalanced)
        if part.events and part.events[-1].event.terminal:
            slopes = slopes + _jump(part, trajectory.parts[n + 1].case, state, slopes, by)
    return np.concatenate(states), np.concatenate(found)


def _temperature_jumps(part: Solution, after: Case, unbalanced: sp.Expr | None) -> bool:
    """Whether a prescribed temperature has a step after a stage, and heat is computed."""
    if unbalanced is None or HEAT not in after.balances.symbols or TEMPERATURE not in after.balances.parameters:
        return False
    ends = [moved_expressions(case, (TEMPERATURE,)) for case in (part.case, after)]
    states, at = part.states[-1:].T, np.array([part.end])
    T = [
        float(np.ravel(compiled(c.balances).outputs(e)(c.values)(states, at)[0])[0])
        for c, e in zip((part.case, after), ends, strict=True)
    ]
    return abs(T[1] - T[0]) > 1e-12 * abs(T[0])


def _heat_of_jump(part: Solution, after: Case, state: np.ndarray, unbalanced: sp.Expr | None) -> np.ndarray:
    """The heat that brings the contents to another temperature, in its place among the states."""
    assert unbalanced is not None
    rows = []
    for case in (part.case, after):
        moved = moved_expressions(case, (unbalanced,))
        row = compiled(case.balances).outputs(moved)(case.values)(state[:, None], np.array([part.end]))[0]
        rows.append(float(np.ravel(row)[0]))
    found = np.zeros(len(state))
    found[after.balances.index(HEAT)] = rows[1] - rows[0]
    return found


def _slopes_of_jump(
    part: Solution,
    after: Case,
    state: np.ndarray,
    slopes: np.ndarray,
    by: tuple[sp.Symbol, ...],
    unbalanced: sp.Expr | None,
) -> np.ndarray:
    """Derivatives of the heat of a step by parameters, in its row."""
    assert unbalanced is not None
    n, rows = len(state), []
    for case in (part.case, after):
        moved = moved_expressions(case, (unbalanced,))
        gradient = compiled(case.balances).gradient(moved, (*case.balances.symbols, *by))
        partial = gradient(case.values)(state, part.end)[0]
        rows.append(partial[:n] @ slopes + partial[n:])
    found = np.zeros_like(slopes)
    found[after.balances.index(HEAT)] = rows[1] - rows[0]
    return found


def _check_constant(trajectory: Trajectory, by: tuple[sp.Symbol, ...]) -> None:
    """Raise InputError for a parameter that changes during the run."""
    cases = [part.case for part in trajectory.parts]
    for symbol in by:
        ramps = any(slope_of(symbol) in case.balances.parameters and case.value(slope_of(symbol)) for case in cases)
        if ramps or len({case.value(symbol) for case in cases if symbol in case.balances.parameters}) > 1:
            message = f"{symbol} changes during the run, so there is no derivative by it"
            raise InputError(message, "", "take the derivative by a constant condition")


def _jump(part: Solution, after: Case, state: np.ndarray, slopes: np.ndarray, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    balances, at = part.case.balances, part.end
    whole, event = compiled(balances), part.events[-1].event.expression
    partial = whole.gradient((event,), (*balances.symbols, *by, balances.independent))(part.case.values)(state, at)[0]
    n = len(state)
    before = np.array(whole.rhs(part.case.values)(state, at))
    behind = np.array(compiled(after.balances).rhs(after.values)(state, at))
    moves = -(partial[:n] @ slopes + partial[n:-1]) / (partial[:n] @ before + partial[-1])
    return np.outer(before - behind, moves)


def at_rest(case: Case, state: np.ndarray, report: Report) -> Trajectory:
    """The trajectory of a steady state: one point, at the end of time."""
    return Trajectory((Solution(case, np.array([np.inf]), state[None, :], None, np.zeros(1, dtype=int), report),))
