"""Search for the size that reaches a target: along one run, or by whole runs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.engines import start
from molino.core.balances.functions import functions_of
from molino.core.balances.integrate import Event, Solution, integrate
from molino.core.balances.system import Case
from molino.core.contract.metric import Metric
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.errors import SolveError
from molino.core.runs.run import Run
from molino.core.runs.trajectory import moved_expressions
from molino.core.trains.train import Train

ROUNDING = 1e-12
"""Relative tolerance of a target."""
FLAT = 1e-9
"""Smallest relative change of a metric, per doubling of the size, that can cross a target."""
_CONVERGES = 0.7
"""Largest ratio of the changes over two successive thousandfold ranges of size for which a metric has an asymptote."""
_OVER_NOISE = 10.0
"""A metric crosses a target where it changes by more than this multiple of its error while the size doubles."""
_GROWTH = 10.0
_FARTHEST = 1e12
"""In units of the time of the fastest change."""
_FIRST = 3.0
"""The first stretch of a search, in units of that time."""
_CHOKES = "the tube chokes"
_LESS_LOSS = "give more tubes, a larger diameter or particle, less flow or a higher pressure"
_BEGINNING = np.concatenate([[0.0], np.geomspace(1e-6, 0.1, 40)[:-1], np.linspace(0.1, 1.0, 54)])


@dataclass
class SizeSearchResult:
    """The result of a search: the size at which a target is reached, or the best value.

    Attributes
    ----------
    passed : float or None
        Time, or volume of the vessel; None if the target is not reached.
    first : float
        The metric at the inlet or start.
    best, best_at : float
        The value nearest to the target, and its place.
    has_changed, turned, is_there : bool
        Whether the metric changes, whether it has an extremum, whether the target is met at the inlet.
    limit, advice : str
        The reason why the search ended, and the remedy.
    run : vessel to run, optional
        The run of the sized vessel, if known already.
    is_stable, remark
        Of a steady state.
    others : tuple of float
        Further times or volumes at which the target is met.
    asymptote : float or None
        The limit of the metric for infinite size, if known.
    certificate : str
        The proof that the target cannot be met; empty without one.
    tried : str
        The searches that found no answer.
    uncovered : str
        The reason why larger sizes were not searched.
    """

    passed: float | None = None
    first: float = np.nan
    best: float | None = None
    best_at: float = 0.0
    has_changed: bool = False
    turned: bool = False
    is_there: bool = False
    limit: str = ""
    advice: str = ""
    run: Callable[[Any], Run] | None = None
    is_stable: bool = True
    remark: str = ""
    others: tuple[float, ...] = ()
    certificate: str = ""
    asymptote: float | None = None
    tried: str = ""
    uncovered: str = ""


@dataclass
class TargetApproach:
    """The progress of a metric towards a target as the size grows."""

    target: float
    answer: SizeSearchResult = field(default_factory=SizeSearchResult)
    sign: float = 0.0
    last: float = np.nan

    @property
    def scale(self) -> float:
        """The scale of deviations from the target: its own size, however large the metric is elsewhere."""
        return abs(self.target) or max(abs(self.answer.first), 1e-300)

    def is_at(self, value: float) -> bool:
        return abs(value - self.target) <= ROUNDING * self.scale

    def see(self, at: float, value: float) -> bool:
        """Take a value into account; whether the target is reached."""
        if not np.isfinite(value):
            return False
        answer = self.answer
        if self.sign == 0.0:
            answer.first = answer.best = self.last = value
            answer.best_at = at
            self.sign = 1.0 if self.target > value else -1.0
            answer.is_there = self.is_at(value)
            return False
        answer.has_changed = answer.has_changed or value != answer.first
        assert answer.best is not None
        if self.sign * (value - answer.best) > 0:
            answer.best, answer.best_at = value, at
        self.last = value
        return self.is_at(value) or self.sign * (value - self.target) > 0

    def close(self) -> SizeSearchResult:
        """The answer if the target was not reached."""
        answer = self.answer
        if answer.best is not None:
            answer.turned = abs(answer.best - self.last) > 1e-6 * max(abs(answer.best), 1e-12)
        return answer


def along_run(vessel: Vessel, metric: Metric, target: float) -> SizeSearchResult:
    """The place where a run of growing length crosses the target."""
    approach, expression = TargetApproach(target), vessel.spec.expression(metric)
    pieces = _segmented_pieces(vessel) if vessel.spec.has_segments else _pieces(vessel, expression)
    solution = None
    for solution, moved, begin, settled in pieces:
        found = _passed(solution, moved(expression), approach, begin)
        if found is not None:
            approach.answer.passed = found
            return approach.answer
        if approach.answer.is_there:
            return approach.answer
        if settled:
            approach.answer.certificate = "one run was followed until it is constant"
            return approach.close()
        if solution.failure is not None:
            return _limited(approach.close(), solution.failure)
        if solution.events and solution.events[-1].event.terminal:
            answer = approach.close()
            name = solution.events[-1].event.name
            answer.certificate = f"the run was followed to where {name}"
            if name == _CHOKES:
                answer.limit, answer.advice = f"there {name}", _LESS_LOSS
            return answer
    answer = approach.close()
    if vessel.spec.has_segments:
        answer.tried = "runs up to a million times as long as the last change of conditions"
    elif solution is None:
        answer.certificate = "all rates of reaction and transfer are zero at the inlet"
    else:
        answer.tried = f"one run, followed to {_FARTHEST:.0e} times the time of its fastest change"
    return answer


def _limited(answer: SizeSearchResult, failure: SolveError) -> SizeSearchResult:
    """The answer of a search that ended with a run that stopped: proven if the pressure falls to zero."""
    fault = failure.faults[0]
    if failure.symbol is not None and str(failure.symbol) == "P":
        answer.limit, answer.advice = "there the pressure falls to zero", _LESS_LOSS
        answer.certificate = "the run was followed to where the pressure falls to zero"
    else:
        answer.limit, answer.advice = f"there {fault.what}", fault.advice
        answer.tried = f"runs of growing size, up to one that failed: {fault.what}"
    return answer


def _passed(solution: Solution, expression: sp.Expr, approach: TargetApproach, begin: float) -> float | None:
    """The place in a section where the target is reached: the first crossing, or an extremum that just reaches it."""
    evaluate, slope, values = solution.evaluate(expression), solution.slope(expression), solution.values(expression)
    if approach.sign == 0.0:
        finite = values[np.isfinite(values)]  # a selectivity has no value at the inlet
        approach.see(solution.begin, float(finite[0]) if len(finite) else np.nan)
        if approach.answer.is_there:
            return None
    candidates = [(at, y, True) for at, y in solution.crossings(expression, approach.target)]
    candidates += [(at, y, False) for at, y in solution.extrema(expression)]
    for at, y, crosses in sorted(candidates, key=lambda c: c[0]):
        if at <= begin:
            continue
        if crosses:
            steep = abs(float(slope(np.array([at]), y[None])[0])) * at
            if steep > _OVER_NOISE * _noise(solution, expression, at, y, approach.scale):
                return at
            continue
        value = float(evaluate(np.array([at]), y[None])[0])
        if _is_significant(solution.resolved[0], values, at, value, approach.scale) and approach.see(at, value):
            return at if approach.is_at(value) else None
    end = float(values[-1])
    approach.see(solution.end, end)
    at_limit = solution.failure is not None or bool(solution.events)
    return solution.end if at_limit and approach.is_at(end) else None


def _noise(solution: Solution, expression: sp.Expr, at: float, y: np.ndarray, scale: float) -> float:
    """The error of an expression by the tolerance of the integration: rtol sum |(dm/dy_i) y_i|."""
    balances = solution.case.balances
    by = compiled(balances).gradient((expression,), balances.symbols)(solution.case.values)(y, at)[0]
    return float(solution.settings.rtol * np.abs(by) @ np.abs(y) + ROUNDING * scale)


def _is_significant(points: np.ndarray, values: np.ndarray, at: float, value: float, scale: float) -> bool:
    """Whether an extremum is more than rounding of a constant metric."""
    near = (points > at / 1.5) & (points < at * 1.5)
    return bool(near.any()) and bool(np.max(np.abs(values[near] - value)) > FLAT * scale)


Pieces = Iterator[tuple[Solution, Callable[[sp.Expr], sp.Expr], float, bool]]
"""Sections of a run, with the evaluation of expressions, the new part, and whether it is constant at its end."""


def _pieces(vessel: Vessel, expression: sp.Expr) -> Pieces:
    """Sections of one integration, each ten times as long as all before it, until it is constant."""
    model = vessel.spec.model
    balances = model.balances_for((expression,))
    case = Case(balances, vessel.spec.case.values)
    state, scale = start(case)
    functions = functions_of(case)
    fastest = max(float(np.max(np.abs(functions.slopes(state, 0.0)) / scale)), _fastest(functions, state, scale))
    if fastest == 0:
        return
    events = _ends_of(vessel, case, scale)
    begin, end, initial = 0.0, _FIRST / fastest, None
    while end * fastest < _FARTHEST:
        first = end * _BEGINNING if begin == 0 else np.geomspace(begin, end, 61)
        solution = integrate(case, first, initial=initial, partial=True, events=events)
        if solution.failure is not None or (solution.events and solution.events[-1].event.terminal):
            yield solution, lambda e: e, 0.0, False
            return
        begin, initial = solution.end, solution.states[-1]
        rate = float(np.max(np.abs(functions.slopes(initial, begin)) / scale))
        settled = rate * begin < 1e-10 and not _grows(functions, initial, begin)
        yield solution, lambda e: e, 0.0, settled
        if settled:
            return
        end = _GROWTH * begin


def _ends_of(vessel: Vessel, case: Case, scale: np.ndarray) -> list[Event]:
    """The end of a search: a species that is exhausted while a rate law still consumes it, or a bed that chokes."""
    found = []
    limit = vessel.spec.margin()
    if limit is not None:
        found.append(Event(_CHOKES, limit, -1, terminal=True))
    first, _ = start(case)
    slopes = functions_of(case).slopes
    for i in case.balances.amounts:
        gone = first.copy()
        gone[i] = 0.0
        try:
            still = slopes(gone, 0.0)[i] < -1e-9 * max(abs(slopes(first, 0.0)[i]), 1e-300)
        except ArithmeticError:
            continue
        if still:
            name = case.balances.names[i]
            found.append(Event(f"{name} is exhausted", case.balances.symbols[i], -1, terminal=True))
    return found


def _fastest(functions: Any, state: np.ndarray, scale: np.ndarray) -> float:
    """The largest entry of the Jacobian with every state in units of its scale."""
    full = np.asarray(functions.state_jacobian(state, 0.0))
    return float(np.max(np.abs(full) * scale / scale[:, None]))


def _grows(functions: Any, state: np.ndarray, begin: float) -> bool:
    """Whether a small amount may still grow: a seed of an autocatalytic reaction."""
    growth = np.linalg.eigvals(np.asarray(functions.state_jacobian(state, begin)))
    return bool(np.max(growth.real) * begin > 1e-3) and bool((state > 0).all() or (state[state > 0] < 1e-6).any())


def _segmented_pieces(vessel: Vessel) -> Pieces:
    """Whole runs, the first to the last change of conditions, each further one twice as long; the new part of each."""
    last = max((t for piecewise in vessel.spec.moving_numbers().values() for t in piecewise.times), default=0.0)
    per_time = 1.0 if "time" in vessel.spec.sizes else float(vessel.spec.fed.volume)
    begin, end = 0.0, last or 3600.0 * per_time
    name = "time" if "time" in vessel.spec.sizes else "volume"
    for _ in range(20):
        run = vessel.with_({name: end}).run()
        assert isinstance(run, Run)
        for part in run.trajectory.parts:
            if part.end > begin:
                yield part, lambda e, p=part: moved_expressions(p.case, (e,))[0], begin, False  # type: ignore[misc]
        begin, end = end, 2 * end


def by_whole_runs(vessel: Vessel | Train, metric: Metric, target: float, free: str = "volume") -> SizeSearchResult:
    """The size at which whole runs of growing size cross the target, with exact derivatives by the size."""
    approach = TargetApproach(target)

    def at(x: float) -> tuple[float, float]:
        run: RunResult = vessel.with_({free: x}).run()
        return run.metric(metric), run.sensitivity(metric, [free])[free]

    x = _first_size(vessel, free)
    value, slope = at(x)
    approach.see(x, value)
    if approach.answer.is_there:
        return approach.answer
    still = 0
    for _ in range(120):
        further = 1.5 * x
        try:
            new, new_slope = at(further)
        except SolveError as error:
            return _limited(approach.close(), error)
        if approach.sign * (new - target) >= 0:
            approach.answer.passed = _root(lambda s: at(s)[0] - target, x, further)
            return approach.answer
        if approach.sign * slope > 0 > approach.sign * new_slope:  # it turns in between
            top = _root(lambda s: at(s)[1], x, further)
            height = at(top)[0]
            if approach.see(top, height):
                reached = approach.is_at(height)
                approach.answer.passed = top if reached else _root(lambda s: at(s)[0] - target, x, top)
                return approach.answer
        still = still + 1 if abs(new - value) < 1e-11 * approach.scale else 0
        approach.see(further, new)
        if still > 8 and approach.answer.has_changed:
            break
        x, value, slope = further, new, new_slope
    return _confirmed(approach.close(), lambda size: at(size)[0], x, target, approach.scale)


def _confirmed(
    answer: SizeSearchResult, at: Callable[[float], float], size: float, target: float, scale: float
) -> SizeSearchResult:
    """The answer with its certificate, if runs a thousand and a million times as large confirm its asymptote."""
    answer.tried = f"runs of growing size, up to {size:.3g} in SI"
    try:
        values = [at(factor * size) for factor in (1.0, 1e3, 1e6)]
    except SolveError:
        return answer
    if answer.turned or settle_asymptote(answer, values, target, scale):
        answer.certificate = "runs of growing size, and at a thousand and a million times the largest"
    return answer


def settle_asymptote(answer: SizeSearchResult, values: Sequence[float], target: float, scale: float) -> bool:
    """Whether a metric at sizes a thousand times apart has an asymptote that does not pass the target; it is kept.

    Aitken's extrapolation of the three values: the remaining change is d r/(1 - r), d the last change and r its ratio
    to the one before (A. C. Aitken, Proc. R. Soc. Edinburgh 46 (1926) 289).
    """
    before, last = values[1] - values[0], values[2] - values[1]
    ratio = last / before if before else 0.0
    if abs(last) <= FLAT * abs(values[2] - answer.first):
        remaining = 0.0
    elif abs(ratio) < _CONVERGES:
        remaining = last * ratio / (1 - ratio)
    else:
        return False
    answer.asymptote = values[2] + remaining
    tolerance = 0.01 * abs(remaining) + FLAT * scale
    sign = 1.0 if target > answer.first else -1.0
    return sign * (target - answer.asymptote) >= -tolerance


def _root(function: Callable[[float], float], low: float, high: float) -> float:
    return float(scipy.optimize.brentq(function, low, high, xtol=1e-300, rtol=1e-13))


def _first_size(vessel: Vessel | Train, free: str) -> float:
    """A size in which little reacts."""
    owner: Vessel
    if not isinstance(vessel, Vessel):
        if free == "recycle":
            return 1e-3
        owner, name = vessel.spec.vessel_condition(free)
        own = owner.spec.size_at(name, float(owner.spec.fed.volume))
    else:
        owner, own = vessel, float(vessel.spec.fed.volume)
    probe = owner.with_({"volume": float(owner.spec.fed.volume)})
    numbers, _ = probe.spec.parameters({})
    case = Case(
        probe.spec.model.balances, tuple(float(numbers.get(p, 0.0)) for p in probe.spec.model.balances.parameters)
    )
    state, scale = start(case)
    functions = functions_of(case)
    per_time = 1.0 if owner.spec.has_steady_state else float(owner.spec.fed.volume)
    fastest = max(_fastest(functions, state, scale), float(np.max(np.abs(functions.slopes(state, 0.0)) / scale)))
    return 1e-3 * own / max(fastest * per_time, 1e-300)
