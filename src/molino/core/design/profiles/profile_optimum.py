"""The answer to a question with free profiles: the search and its result as an `Optimum`."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
import scipy

from molino.core import units
from molino.core.balances.collocation import QUADRATURE
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.design.optimize.objective import Limit
from molino.core.design.optimize.optimal_profile import Arc, OptimalProfile
from molino.core.design.optimize.optimum import PROFILE_MET as _MET, Optimum, factor_of
from molino.core.design.optimize.problem import Question
from molino.core.design.optimize.surroundings import ActiveLimit
from molino.core.design.profiles.profile_program import FREE, HIGH, DynamicQuestion, along_run, is_along
from molino.core.design.profiles.profile_search import ProfileResult, ProfileSearch
from molino.core.errors import InputError, NotFoundError, SolveError
from molino.core.terms.heat import Profile
from molino.core.units import Value

_ACTIVE = 1e-5
"""Fraction of the largest switching function, or of the objective, below which a multiplier is zero."""
_ROUGHLY = 5e-3
"""Largest residual of the first-order conditions, relative to the objective, without a remark."""
_SINGULAR = 1e-5
_MOST_MARGINS, _BY_ELEMENT = 6, 3
"""Rounds in which limits are tightened, and the number of those by elements."""
_FURTHER, _NEIGHBORS = 1.5, 5
"""The factor by which the limit of an element is tightened per violation, and the number of neighbors with it."""
_WITHIN = np.linspace(0.0, 1.0, 9)
"""The fractions of an element at which the run is compared with limits along it."""
_SAME_PLACE = 1e-10
"""Fraction of the run within which two places are the same."""
_AT_BOUND = 1e-8
"""Fraction of its range within which a condition is set to its bound."""
_OTHER = 1e-3

Courses = Sequence[tuple[np.ndarray, np.ndarray]]


def answer_with_profiles(
    question: Question, n_starts: int, seed: int, progress: Callable[[int, float], None] | None = None
) -> Optimum:
    """The optimum of a question with free profiles.

    Raises
    ------
    NotFoundError
        If the limits cannot be met together.
    SolveError
        If the vessel cannot be run anywhere within these bounds.
    """
    has_failure = any(is_along(limit) and not limit.is_everywhere for limit in question.limits)
    answers = [_found(question, cautious, n_starts, seed, progress) for cautious in {False, has_failure}]
    return min(answers, key=lambda a: (max(a.missed - _MET, 0.0), a.best.place.value)).optimum()


def _found(
    question: Question, is_cautious: bool, n_starts: int, seed: int, progress: Callable[[int, float], None] | None
) -> _Answer:
    dynamic = DynamicQuestion(
        _standing(question),
        question.moving,
        question.free,
        question.objective,
        question.is_highest,
        question.limits,
        is_cautious,
    )
    steps = itertools.count(1)

    def report(value: float) -> None:
        if progress is not None:
            progress(next(steps), value)

    def run(courses: Courses, numbers: np.ndarray) -> RunResult:
        return vessel_with(question, courses, numbers).run()

    search = ProfileSearch(dynamic, run, n_starts, seed, report)
    best = search.best()
    if best is None:
        error = search.first_error
        message = "it could not be run anywhere within these bounds"
        faults = (
            *(error.faults if error is not None else ()),
            *SolveError(message, question.vessel.label, "choose other bounds").faults,
        )
        raise SolveError(faults)
    return _tightened(_Answer(question, dynamic, search, best))


def _tightened(found: _Answer) -> _Answer:
    """The same with limits tightened by their violation in the run, until they are met."""
    for n in range(_MOST_MARGINS):
        of_end, of_path = found.margins(is_last=n >= _BY_ELEMENT)
        is_needed = (of_end.any() or of_path.any()) and not found.search.is_stopped
        closer = found.search.with_margins(found.best, of_end, of_path) if is_needed else None
        if closer is None or closer.missed > _MET:
            break
        found = _Answer(found.question, found.dynamic, found.search, closer)
    return found


def _standing(question: Question) -> Vessel:
    """The vessel with a constant profile for each free profile."""
    vessel = question.vessel
    assert isinstance(vessel, Vessel)
    if vessel.spec.switch() is not None:
        message = "a vessel with a capacity may overflow, which a search for profiles does not support"
        advice = f"leave the capacity out, and add the limit 'volume everywhere <= {getattr(vessel, 'capacity', '')}'"
        raise InputError(message, vessel.label, advice)
    middle = {m.name: Profile([(0.0, m.given((m.low + m.high) / 2))]) for m in question.moving}
    found = vessel.with_(middle)
    symbols = {s for m in question.moving for s in m.symbols}
    for symbol, course in found.spec.moving_numbers().items():
        if symbol not in symbols and len({*course.values}) > 1:
            message = "another condition changes during the run, besides those that are free"
            raise InputError(message, vessel.label, "free that one, too, or give it one value")
    return found


def vessel_with(question: Question, courses: Courses, numbers: np.ndarray) -> Vessel:
    """The vessel with courses over fractions of the run, and free conditions in SI."""
    vessel = question.at(numbers.tolist()) if len(numbers) else question.vessel
    assert isinstance(vessel, Vessel)
    along, factor = vessel.spec.profile_axis
    end, unit = vessel.spec.end_si / factor, vessel.spec.display.unit(along)
    profiles = {}
    for moving, (at, values) in zip(question.moving, courses, strict=True):
        pairs = _without_repetition(at, values)
        points = [(Value(t * end, unit) if unit else t * end, moving.given(v)) for t, v in pairs]
        profiles[moving.name] = Profile(points)
    return vessel.with_(profiles)


def _without_repetition(at: np.ndarray, values: np.ndarray) -> list[tuple[float, float]]:
    """The points of a course without duplicates, and without points between two of the same value."""
    found: list[tuple[float, float]] = []
    for t, v in zip(at.tolist(), values.tolist(), strict=True):
        if found and abs(t - found[-1][0]) < _SAME_PLACE:
            t = found[-1][0]
        if not found or (t, v) != found[-1]:
            found.append((t, v))
    inside = [p for a, p, b in zip(found, found[1:], found[2:], strict=False) if not a[1] == p[1] == b[1]]
    return [found[0], *inside, *found[1:][-1:]]


def _miss(limit: Limit, left: float) -> float:
    """The relative violation of a limit."""
    return (abs(left) if limit.way == "=" else max(-left, 0.0)) / max(abs(limit.value), 1e-12)


class _Answer:
    """The result of a search as an `Optimum`."""

    def __init__(
        self, question: Question, dynamic: DynamicQuestion, search: ProfileSearch, best: ProfileResult
    ) -> None:
        self.question, self.dynamic, self.search, self.best = question, dynamic, search, best
        z = best.place.z.copy()
        nodes = np.concatenate([*(n for _, _, n in best.program.node_at), best.program.numbers_at]).astype(int)
        z[nodes] = np.where(z[nodes] < _AT_BOUND, 0.0, np.where(z[nodes] > 1 - _AT_BOUND, 1.0, z[nodes]))
        self.courses = best.program.nodes(z)
        self.numbers = dynamic.ranges.numbers(z[best.program.numbers_at])
        self.vessel = vessel_with(question, self.courses, self.numbers)
        self.run: Any = self.vessel.run()
        self.switching = best.switching()
        self.own = factor_of(question.objective, question.vessel.spec.display)

    def optimum(self) -> Optimum:
        question, run = self.question, self.run
        objective = question.objective
        value = objective.value([run.metric(m) for m in objective.metrics])
        if self.missed > 20 * _MET:
            raise self._not_met()
        first_order = self._first_order(value)
        remark = objective.counts(question.vessel.spec.display)
        if self.dynamic.is_cautious:
            remark = "note: every dosed reactant is assumed to be limiting: a better optimum may exist"
        if first_order > _ROUGHLY:
            remark = "note: the first-order conditions are met only approximately: give more starts or pieces"
        free = tuple(replace(n, value=float(x)) for n, x in zip(question.free, self.numbers, strict=True))
        return Optimum(
            self.vessel,
            run,
            objective,
            question.is_highest,
            value,
            free,
            question.limits,
            self.left,
            tuple(self._active()),
            self._slopes(),
            first_order,
            self.search.iterations,
            self._others(value),
            remark,
            self.search.is_stopped,
            profiles=tuple(self._profile(k) for k in range(len(question.moving))),
            multipliers=self._multipliers(),
            starts=max(len(self.search.ends), 1),
            missed=self.missed,
        )

    def margins(self, is_last: bool) -> tuple[np.ndarray, np.ndarray]:
        """The violations in the run of each limit at the end, and of each along it, in SI; see `ProfileProgram`.

        Along the run by elements, since the violation varies; in the last rounds by the largest.
        """
        program, vessel, trajectory = self.best.program, self.vessel, self.run.trajectory
        of_end = np.zeros(len(self.dynamic.at_end))
        lefts = [left for left, limit in zip(self.left, self.question.limits, strict=True) if not is_along(limit)]
        for n, (left, limit) in enumerate(zip(lefts, self.dynamic.at_end, strict=True)):
            if abs(min(left, 0.0) if limit.way != "=" else left) > _MET * max(abs(limit.value), 1e-12):
                of_end[n] = -left
        of_path = np.zeros_like(program.path_margins)
        if of_path.size:
            at = program.element_shares(self.best.place.z, _WITHIN) * trajectory.end
            points, back = np.unique(at, return_inverse=True)
            expressions = tuple(along_run(vessel, limit.expression.metrics[0]) for limit in self.dynamic.everywhere)
            values = trajectory.evaluate(expressions, points, trajectory.at(points))
            for n, (limit, own) in enumerate(zip(self.dynamic.everywhere, values, strict=True)):
                least = (limit.sign * (own[back.reshape(at.shape)] - limit.value)).min(axis=1)
                allowed = _MET * max(abs(limit.value), 1e-12)
                over = np.where(least < -allowed, -least, 0.0)
                of_path[:, n] = over.max() if is_last else _FURTHER * scipy.ndimage.maximum_filter1d(over, _NEIGHBORS)
                if not limit.is_everywhere and not over.any():  # after a cooling failure, by separate runs
                    miss = -limit.sign * (self.run.metric(limit.expression.metrics[0]) - limit.value)
                    of_path[:, n] = miss if miss > allowed else 0.0
        return of_end, of_path

    @cached_property
    def left(self) -> tuple[float, ...]:
        """The margin of each limit in the run, in SI."""
        found = []
        for limit in self.question.limits:
            if limit.is_everywhere:
                number = self.run.extreme(limit.expression.metrics[0], -limit.sign)[1]
            else:
                number = limit.expression.value([self.run.metric(m) for m in limit.expression.metrics])
            found.append(float(limit.sign * (number - limit.value)))
        return tuple(found)

    @property
    def missed(self) -> float:
        """The largest relative violation of a limit in the run."""
        return max((_miss(limit, own) for limit, own in zip(self.question.limits, self.left, strict=True)), default=0.0)

    def _not_met(self) -> NotFoundError:
        display, texts = self.question.vessel.spec.display, []
        for limit, own in zip(self.question.limits, self.left, strict=True):
            if _miss(limit, own) > 20 * _MET:
                there = limit.expression.shown_text(display, limit.value + limit.sign * own, 5)
                texts.append(f"{limit.text(display)} (it reaches {there})")
        what = f"no course was found within these bounds that meets {' and '.join(texts)}"
        advice = "give more starts or pieces, widen the bounds, free another number, or ask for less"
        return NotFoundError(f"{what}; the search is local and not a proof", self.question.vessel.label, advice)

    def _first_order(self, value: float) -> float:
        """The possible first-order gain of the course, relative to the objective; see `Optimum`."""
        program = self.best.program
        lengths = self.best.place.trajectories.layout.lengths
        total = 0.0
        for k, moving in enumerate(self.question.moving):
            own = self.switching[..., k] * (moving.high - moving.low)
            for j, phase in enumerate(program.phases):
                rows = program.owner == j
                part = own[rows]
                if phase.kinds[k] == FREE and self.best.limit_along(j) is not None:
                    continue  # multipliers of the limit exist only at ends of elements
                if phase.kinds[k] == FREE:
                    nodes = next(n for i, q, n in program.node_at if (i, q) == (j, k))
                    part = self._of_nodes(part, phase.elements, self.best.place.z[nodes], moving.kind)
                else:
                    part = np.maximum(part if phase.kinds[k] == HIGH else -part, 0.0)
                total += float(np.sum(np.abs(part) @ QUADRATURE * lengths[rows]))
        size = max(abs(value), 1e-300)
        return (
            max(total / size, self.best.solution.left_over)
            if self.search.pieces is None
            else float(self.best.solution.left_over)
        )

    @staticmethod
    def _of_nodes(part: np.ndarray, elements: int, z: np.ndarray, kind: str) -> np.ndarray:
        """The correction of the switching function at nodes that are at a bound."""
        found = part.copy()
        for p in range(len(part) // elements):
            ends = z[p : p + 2] if kind == "linear" else z[p : p + 1]
            rows = slice(p * elements, (p + 1) * elements)
            if (ends < _ACTIVE).any():
                found[rows] = np.minimum(found[rows], 0.0)
            if (ends > 1 - _ACTIVE).any():
                found[rows] = np.maximum(found[rows], 0.0)
        return found

    def _multipliers(self) -> tuple[float, ...]:
        """Gain of the objective per unit in SI by which a limit is relaxed."""
        solution, dynamic = self.best.solution, self.dynamic
        begin, count = int((~dynamic.is_equal).sum()), len(self.best.program.owner)
        inequalities, equalities = iter(solution.of_left[:begin]), iter(solution.of_equal)
        along = solution.of_left[begin : begin + count * len(dynamic.everywhere)]
        paths = iter(along.reshape(len(dynamic.everywhere), count).sum(axis=1))
        found = []
        for limit in self.question.limits:
            own = next(paths) if is_along(limit) else next(equalities if limit.way == "=" else inequalities)
            found.append(float(own) / max(abs(limit.value), 1e-12))
        return tuple(found)

    def _active(self) -> list[ActiveLimit]:
        """Active limits and bounds with their multipliers."""
        question, solution, dynamic = self.question, self.best.solution, self.dynamic
        display, unit = question.vessel.spec.display, question.objective.unit(question.vessel.spec.display)
        scale = max(abs(self.best.place.value), 1e-12)
        found = []
        for limit, own in zip(question.limits, self._multipliers(), strict=True):
            if abs(own) * max(abs(limit.value), 1e-12) > _ACTIVE * scale:
                worth = abs(own) * factor_of(limit.expression, display) / self.own
                found.append(ActiveLimit(limit.text(display), worth, limit.expression.unit(display), unit))
        for k, moving in enumerate(question.moving):
            found += self._active_bounds(k, moving, scale, unit)
        found += self._active_slopes(scale, unit)
        for n, at in enumerate(self.best.program.numbers_at):
            number = question.free[n]
            factor = units.unit(number.unit).factor if number.unit else 1.0
            width = float(dynamic.ranges.widths(self.numbers)[n])
            for end, own, word in ((number.low, solution.low[at], "lower"), (number.high, solution.high[at], "upper")):
                if own > _ACTIVE * scale:
                    text = f"{number.name} at its {word} bound {number.text(end)}"
                    found.append(ActiveLimit(text, float(own) / width * factor / self.own, number.unit, unit))
        return found

    def _active_bounds(self, k: int, moving: Any, scale: float, unit: str) -> list[ActiveLimit]:
        """The bounds of a free profile, each with the gain of moving it along all of its arcs."""
        program, z = self.best.program, self.best.place.z
        lengths = self.best.place.trajectories.layout.lengths
        worth = {"lower": 0.0, "upper": 0.0}
        for j, phase in enumerate(program.phases):
            rows = program.owner == j
            own = float(np.sum(self.switching[rows, :, k] @ QUADRATURE * lengths[rows]))
            if phase.kinds[k] != FREE:
                worth["upper" if phase.kinds[k] == HIGH else "lower"] += abs(own)
        for _, own_k, nodes in program.node_at:
            if own_k == k and self.search.pieces is not None:
                width = moving.high - moving.low
                worth["lower"] += float(self.best.solution.low[nodes][z[nodes] < _ACTIVE].sum()) / width
                worth["upper"] += float(self.best.solution.high[nodes][z[nodes] > 1 - _ACTIVE].sum()) / width
        factor = units.unit(moving.unit).factor if moving.unit else 1.0
        found = []
        for word, end in (("lower", moving.low), ("upper", moving.high)):
            if worth[word] * (moving.high - moving.low) > _ACTIVE * scale:
                text = f"{moving.name} at its {word} bound {moving.text(end)}"
                found.append(ActiveLimit(text, worth[word] * factor / self.own, moving.unit, unit))
        return found

    def _active_slopes(self, scale: float, unit: str) -> list[ActiveLimit]:
        """The steepest slopes that are active, with the gain of a steeper one."""
        program, solution, vessel = self.best.program, self.best.solution, self.vessel
        along, factor = vessel.spec.profile_axis
        per = vessel.spec.display.unit(along)
        found, at = [], len(solution.of_left) - sum(2 * len(sizes) for _, _, sizes in program.slope_limits)
        for moving, _, sizes in program.slope_limits:
            assert moving.slope is not None
            rates = sizes * vessel.spec.end_si / (moving.high - moving.low)
            for word in ("rises", "falls"):
                own = float(solution.of_left[at : at + len(sizes)] @ rates)
                at += len(sizes)
                if own * moving.slope > _ACTIVE * scale:
                    own_unit = "K" if moving.unit == "degC" else moving.unit
                    slope_unit = f"{own_unit or '1'}/{per}" if per else own_unit
                    steepest = units.number_text(moving.slope * factor * self._slope_factor(moving.unit, per), 4)
                    text = f"{moving.name} {word} at its steepest slope, {steepest} {units.pretty(slope_unit)}".rstrip()
                    worth = own / factor / self._slope_factor(moving.unit, per) / self.own
                    found.append(ActiveLimit(text, worth, slope_unit, unit))
        return found

    @staticmethod
    def _slope_factor(unit: str, per: str) -> float:
        """The factor from a slope in SI to the units of results."""
        own = units.unit(unit).factor if unit else 1.0
        return float((units.unit(per).factor if per else 1.0) / own)

    def _slopes(self) -> np.ndarray:
        """Derivatives of the objective and of each limited expression by the free conditions in SI, with the profiles
        scaled to the run."""
        question, program = self.question, self.best.program
        rows = np.full((1 + len(question.limits), len(question.free)), np.nan)
        if not len(question.free):
            return rows
        gradient, left, equal = program.slopes(self.best.place)
        width = self.dynamic.ranges.widths(self.numbers)
        rows[0] = self.dynamic.sign * gradient[program.numbers_at] / width
        inequalities, equalities = iter(left), iter(equal)
        for i, limit in enumerate(question.limits):
            if not is_along(limit):
                own = next(equalities if limit.way == "=" else inequalities)[program.numbers_at]
                rows[1 + i] = limit.sign * own * max(abs(limit.value), 1e-12) / width
        return rows

    def _profile(self, k: int) -> OptimalProfile:
        question = self.question
        moving, (at, values) = question.moving[k], self.courses[k]
        along, factor = self.vessel.spec.profile_axis
        end = self.vessel.spec.end_si / factor
        place = self.best.place
        points = place.trajectories.layout.inputs[..., -1].ravel() / factor
        own = (self.dynamic.sign * self._smooth(self.switching[..., k]) * factor).ravel()
        pairs = _without_repetition(at, values)
        times, held = np.array([t * end for t, _ in pairs]), np.array([v for _, v in pairs])
        arcs = [part for arc in self._arcs(k, end) for part in _edges(arc, moving, times, held)]
        unit = question.vessel.spec.display.unit(along)
        return OptimalProfile(moving, along, unit, times, held, tuple(_joined(arcs)), points, own)

    def _smooth(self, switching: np.ndarray) -> np.ndarray:
        """The switching function with means over pieces where a limit along the run is active.

        The multipliers of such a limit exist only at ends of elements.
        """
        found, program = switching.copy(), self.best.program
        for j, phase in enumerate(program.phases):
            if self.best.limit_along(j) is not None:
                rows = program.owner == j
                means = (found[rows] @ QUADRATURE).reshape(phase.pieces, phase.elements).mean(axis=1)
                found[rows] = np.repeat(means, phase.elements)[:, None]
        return found

    def _arcs(self, k: int, end: float) -> list[Arc]:
        """The arcs of a moving number, neighbors of one kind joined."""
        program = self.best.program
        marks = program.marks(self.best.place.z)
        if self.search.pieces is not None:
            return [Arc(0.0, end, f"in {program.phases[0].pieces} {self.question.moving[k].kind} pieces")]
        found: list[Arc] = []
        for j, phase in enumerate(program.phases):
            kind = {"low": "at its lower bound", "high": "at its upper bound"}.get(phase.kinds[k], "")
            kind = kind or self._kind_between(k, j)
            found.append(Arc(float(marks[j]) * end, float(marks[j + 1]) * end, kind))
        return _joined(found)

    def _kind_between(self, k: int, j: int) -> str:
        """The kind of an arc between bounds: along a limit, singular, or at the best value."""
        program, place, dynamic = self.best.program, self.best.place, self.dynamic
        rows, path_limit = program.owner == j, self.best.limit_along(j)
        if path_limit is not None:
            return f"along the limit {path_limit.text(self.question.vessel.spec.display)}"
        weights, path = program.weights(self.best.solution.of_left, self.best.solution.of_equal)
        n_states = place.trajectories.states.shape[2]
        at_end = weights @ dynamic.ends.slopes(place.last[None])[0]
        along = np.zeros_like(place.trajectories.points)
        if dynamic.paths is not None:
            along[:, 2] = np.einsum("ep,epl->el", path, dynamic.paths.slopes(place.path_points))
        omega, _ = place.trajectories.adjoint(at_end[:n_states], along[..., :n_states])
        points = place.trajectories.points[rows].reshape(-1, place.trajectories.points.shape[2])
        second = dynamic.collocation.evaluator.curvature(points, omega[rows].reshape(len(points), -1))
        first = np.einsum(
            "mk,mkl->ml",
            np.abs(omega[rows].reshape(len(points), -1)),
            np.abs(dynamic.collocation.evaluator.slopes(points)),
        )
        column = n_states + sum(len(m.symbols) for m in self.question.moving[:k])
        moving = self.question.moving[k]
        width = (moving.high - moving.low) * abs(next(iter(moving.symbols.values()))[1])
        bend, size = np.abs(second[:, column, column]) * width, first[:, column]
        return "singular" if np.median(bend) <= _SINGULAR * np.median(size) else "between its bounds"

    def _others(self, value: float) -> tuple[tuple[float, str], ...]:
        """Other optima that were found on even pieces."""
        found: list[tuple[float, str]] = []
        ends = sorted(self.search.ends, key=lambda r: r.place.value)
        reference = next((r for r in ends if r.missed < 1e-4), None)
        for end in ends:
            if reference is None or end is reference or end.missed > 1e-4:
                continue
            differs = abs(end.value - reference.value) > _OTHER * max(abs(reference.value), 1e-12)
            if differs and all(abs(end.value - v) > _OTHER * abs(v) for v, _ in found):
                texts = []
                for moving, (_, values) in zip(self.question.moving, end.program.nodes(end.place.z), strict=True):
                    low, high = moving.text(float(values.min()), 4), moving.text(float(values.max()), 4)
                    texts.append(f"{moving.name} from {low} to {high}")
                found.append((end.value, ", ".join(texts)))
        return tuple(found[:3]) if math.isfinite(value) else ()


def _joined(arcs: Sequence[Arc]) -> list[Arc]:
    """Arcs, neighbors of one kind as one."""
    found: list[Arc] = []
    for arc in arcs:
        if found and found[-1].kind == arc.kind:
            found[-1] = replace(found[-1], end=arc.end)
        else:
            found.append(arc)
    return found


def _edges(arc: Arc, moving: Any, times: np.ndarray, values: np.ndarray) -> list[Arc]:
    """An arc between bounds, without the sections at its ends in which the condition is at a bound."""
    if arc.kind not in ("between its bounds", "singular"):
        return [arc]
    inside = (times >= arc.begin) & (times <= arc.end)
    near = _AT_BOUND * (moving.high - moving.low)
    first, last = [], []
    begin, end = arc.begin, arc.end
    for bound, kind in ((moving.low, "at its lower bound"), (moving.high, "at its upper bound")):
        at = (np.abs(values - bound) <= near)[inside]
        if not at.any() or at.all():
            continue
        lead = times[inside][max(int(np.argmin(at)) - 1, 0)]
        tail = times[inside][len(at) - max(int(np.argmin(at[::-1])), 1)]
        if at[0] and lead > begin:
            first, begin = [Arc(begin, float(lead), kind)], float(lead)
        if at[-1] and tail < end:
            last, end = [Arc(float(tail), end, kind)], float(tail)
    return [*first, Arc(begin, end, arc.kind), *last]
