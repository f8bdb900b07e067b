"""The search for an optimum: sequential quadratic programming from several starts, whole numbers around it."""

from __future__ import annotations

import contextlib
import copy
import itertools
import math
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
import scipy

from molino.core import units
from molino.core.contract.vessel import Vessel
from molino.core.design.optimize.objective import Limit
from molino.core.design.optimize.optimum import FIRST_ORDER, MET, SADDLE, Optimum, factor_of
from molino.core.design.optimize.problem import FreeRanges, Point, Question
from molino.core.design.optimize.sequential import SequentialProgram
from molino.core.design.optimize.surroundings import ActiveLimit
from molino.core.design.stoichiometric_bounds import stoichiometric_bounds
from molino.core.errors import NotFoundError, SolveError, UnreachableError
from molino.core.parallel import Here, in_order
from molino.core.trains.train import Train

_AT_BOUND = 1e-7
"""Fraction of its range within which a condition is at its bound."""
_NEAR_LIMIT = 1e-7
"""A limit is active if a step of this length reaches it, as a fraction of the ranges of the free conditions."""
_SAME_RUN = 1e-7
"""Relative difference of an evaluator and a run that are the same."""
_LIKE = 1e-6
"""Relative difference of objectives that are equally good, by the tolerance of limits."""
_SAME = 1e-4
"""Fraction of the ranges within which two optima are the same."""
_ASIDE = 1e-3
"""Distance from an optimum, as a fraction of the ranges, of the point for its second-order check."""


class Search:
    """Sequential quadratic programming from several starts, in variables z from 0 to 1 between the bounds."""

    def __init__(
        self, question: Question, n_starts: int, seed: int, progress: Callable[[int, float], None] | None
    ) -> None:
        self.question, self.n_starts, self.seed, self.progress = question, n_starts, seed, Here(progress)
        self.sign = -1.0 if question.is_highest else 1.0
        self.ranges = FreeRanges(question.free)
        self.is_whole = self.ranges.is_whole
        self.sizes = np.array([max(abs(limit.value), 1e-12) for limit in question.limits])
        self.seen: dict[bytes, Point | None] = {}
        self.ends: list[Point] = []
        self.first_error: SolveError | None = None
        self.evaluator = question.evaluator
        """Takes the place of runs during the search, as long as it agrees with them."""
        self.is_compared = False
        self.gain = 0.0
        """The relative gain of the objective at a place near the optimum."""

    def point(self, numbers: np.ndarray) -> Point | None:
        """The run of the vessel with these conditions; None if it fails."""
        key = numbers.tobytes()
        if key not in self.seen:
            try:
                self.seen[key] = self._new_point(numbers)
            except SolveError as error:
                self.first_error, self.seen[key] = self.first_error or error, None
            if self.progress.own is not None:
                self._tell(self.progress.own)
        return self.seen[key]

    def _tell(self, progress: Callable[[int, float], None]) -> None:
        best = min((p for p in self.seen.values() if p is not None), key=self.rank, default=None)
        progress(len(self.seen), best.value if best is not None else math.nan)

    def _new_point(self, numbers: np.ndarray) -> Point:
        """A place by the evaluator; the first one is also run, and must agree."""
        if self.evaluator is not None and self.is_compared:
            return self.question.sketched(numbers, self.evaluator)
        run = self.question.evaluated(numbers)
        if self.evaluator is not None:
            with contextlib.suppress(SolveError):
                self.is_compared = self._agrees(self.question.sketched(numbers, self.evaluator), run)
            self.evaluator = self.evaluator if self.is_compared else None
        return run

    def _agrees(self, sketched: Point, run: Point) -> bool:
        """Whether a place by the evaluator has the objective and the margins of its run."""
        sizes = np.append(self.sizes, max(abs(run.value), 1e-300))
        apart = np.abs(np.append(sketched.left, sketched.value) - np.append(run.left, run.value))
        return bool(np.max(apart / sizes) <= _SAME_RUN)

    def _run(self, point: Point) -> Point | None:
        """A place with its run; None if the run fails, or differs from the evaluator."""
        if point.run is not None:
            return point
        try:
            found = self.question.evaluated(point.numbers)
        except SolveError:
            return None
        self.seen[point.numbers.tobytes()] = found
        return found if self._agrees(point, found) else None

    def misses(self, point: Point) -> np.ndarray:
        """The relative violation of each limit, shape (limits,)."""
        is_equal = np.array([limit.way == "=" for limit in self.question.limits], dtype=bool)
        left = point.left / self.sizes if len(self.sizes) else point.left
        return np.asarray(np.where(is_equal, np.abs(left), np.maximum(-left, 0.0)))

    def rank(self, point: Point) -> tuple[float, float]:
        """The order of places: first by the limits, then by the objective."""
        missed = float(self.misses(point).max(initial=0.0))
        return (missed if missed > MET else 0.0), self.sign * point.value

    def best(self) -> Optimum:
        """The best of all starts, with its run; by runs alone where a run differs from the evaluator."""
        found = self._best()
        if found is None:
            self.evaluator, self.ends, self.first_error = None, [], None
            self.seen.clear()
            found = self._best()
        assert found is not None
        return found

    def _best(self) -> Optimum | None:
        """The best of all starts; None where its run fails, or differs from the evaluator."""
        is_stopped = False
        try:
            starts = self._starts()
            first = self.ranges.numbers(starts[0])
            self.point(np.where(self.is_whole, np.round(first), first))  # to compare the evaluator with a run
            for other in in_order(partial(_searched, Here(self), self), starts):
                self._add(other)
        except KeyboardInterrupt:
            is_stopped = True
        found = [p for p in self.seen.values() if p is not None]
        if not found:
            faults = [*(self.first_error.faults if self.first_error is not None else ())]
            where = self.question.vessel.label
            message = "it could not be run anywhere within these bounds" if faults else "interrupted before a first run"
            raise SolveError((*faults, *SolveError(message, where, "choose other bounds").faults))
        best = min(found, key=self.rank)
        if self.rank(best)[0] > 0:
            if (confirmed := self._run(best)) is None:
                return None
            raise self._not_met(confirmed)
        if not is_stopped and (place := self._place_aside(best)) is not None:
            self.search_from(place)
            best = min((p for p in self.seen.values() if p is not None), key=self.rank)
            self._place_aside(best)
        near = self.sign * best.value + _LIKE * max(abs(best.value), 1e-300)
        alike = [p for p in self.ends if self.rank(p)[0] == 0 and self.sign * p.value <= near]
        chosen = self._run(min(alike, key=lambda p: _first_order(self, p)[1], default=best))
        return None if chosen is None else self._optimum(chosen, is_stopped)

    def _add(self, other: Search) -> None:
        """Add the places that another search has found from its start."""
        if other is self:
            return
        for key, point in other.seen.items():
            if point is not None:
                point.question = self.question
            if key not in self.seen or "slopes" in vars(point):
                self.seen[key] = point
        self.ends += other.ends
        self.first_error = self.first_error or other.first_error
        if self.progress.own is not None:
            self._tell(self.progress.own)

    def _place_aside(self, best: Point) -> np.ndarray | None:
        """A place near an optimum at which the objective is better (the optimum is then a saddle), if any.

        Active limits and bounds do not change in the first order in the direction to this place, so that the Lagrange
        function decides (the second-order condition; J. Nocedal, S. J. Wright, Numerical Optimization, 2006, section
        12.5).
        """
        _, _, multipliers = _first_order(self, best)
        z, widths = self.ranges.shares(best.numbers), self.ranges.widths(best.numbers)
        fixed = [best.slopes[1 + i] * widths for i, m in enumerate(multipliers) if m]
        fixed += [np.eye(len(z))[j] for j in range(len(z)) if self.is_whole[j] or not _ASIDE < z[j] < 1 - _ASIDE]
        free = scipy.linalg.null_space(np.array(fixed)) if fixed else np.eye(len(z))
        if not free.shape[1]:
            return None
        along = free @ np.random.default_rng(self.seed).normal(size=free.shape[1])
        place = np.clip(z + _ASIDE * along / np.linalg.norm(along), 0.0, 1.0)
        point = self.point(self.ranges.numbers(place))
        if point is None:
            return None
        gain = self.sign * (best.value - point.value) + float(np.array(multipliers) @ (point.left - best.left))
        self.gain = max(gain / max(abs(best.value), 1e-300), 0.0)
        return place if self.gain > SADDLE else None

    def _starts(self) -> list[np.ndarray]:
        """The starts: the vessel's own conditions (or the middle), then places spread over the ranges."""
        own = np.array([n.value for n in self.question.free])
        first = np.where(np.isfinite(own), np.clip(self.ranges.shares(own), 0.0, 1.0), 0.5)
        from scipy.stats import qmc

        spread = qmc.LatinHypercube(len(own), seed=self.seed).random(self.n_starts)[1:]
        return [first, *(0.05 + 0.9 * spread)]

    def search_from(self, z: np.ndarray) -> None:
        """Search from one start; whole numbers by steps that are halved, the other conditions for each of them."""
        if not self.is_whole.any():
            self._continuous(z)
            return
        whole = np.round(self.ranges.numbers(z))
        found: dict[bytes, tuple[tuple[float, float], np.ndarray]] = {}

        def at(counts: np.ndarray) -> tuple[float, float]:
            if counts.tobytes() not in found:
                begin = min(found.values(), key=lambda pair: pair[0])[1] if found else z
                end = self._continuous(np.where(self.is_whole, self.ranges.shares(counts), begin))
                rank = (math.inf, math.inf) if end is None else self.rank(end)
                found[counts.tobytes()] = rank, begin if end is None else self.ranges.shares(end.numbers)
            return found[counts.tobytes()][0]

        steps = np.where(self.is_whole, np.maximum((self.ranges.high - self.ranges.low) // 4, 1.0), 0.0)
        while steps.max() >= 1:
            has_moved = False
            for i, sign in itertools.product(np.flatnonzero(steps), (1.0, -1.0)):
                other = whole.copy()
                other[i] = np.clip(whole[i] + sign * steps[i], self.ranges.low[i], self.ranges.high[i])
                if at(other) < at(whole):
                    whole, has_moved = other, True
            if not has_moved:
                steps = steps // 2

    def _continuous(self, z: np.ndarray) -> Point | None:
        """The best from one start with fixed whole numbers."""
        moving = np.flatnonzero(~self.is_whole)
        if not len(moving):
            point = self.point(np.round(self.ranges.numbers(z)))
            self.ends += [point] if point is not None else []
            return point
        program = _Program(self, z, moving)
        end = program.solve()
        self.ends += [end] if end is not None else []
        return end

    def _not_met(self, best: Point) -> UnreachableError | NotFoundError:
        """The error of limits that are not met together, with the best values; proven if stoichiometry excludes one of
        them."""
        question, texts = self.question, []
        display = question.vessel.spec.display
        certificate = next(filter(None, (_forbidden(question.vessel, limit) for limit in question.limits)), "")
        for limit, left, missed in zip(question.limits, best.left, self.misses(best), strict=True):
            if missed > MET:
                there = limit.expression.shown_text(display, limit.value + limit.sign * left, 5)
                texts.append(f"{limit.text(display)} (it reaches {there})")
        others = len(question.limits) - len(texts)
        together = ", with the other limits met" if others else ""
        nearest = f"nearest at {question.place(best.numbers.tolist())}"
        advice, label = "widen the bounds, free another number, or ask for less", question.vessel.label
        if certificate:
            what = f"{' and '.join(texts)} cannot be met: {certificate}; {nearest}"
            return UnreachableError(what, label, advice, certificate=certificate)
        tried = f"{self._count_starts()} and {len(self.seen)} runs, which are not a proof"
        what = f"no point within these bounds was found that meets {' and '.join(texts)}{together}; {nearest}"
        return NotFoundError(f"{what}. Tried: {tried}", label, f"{advice}; or give more starts")

    def _count_starts(self) -> str:
        return f"{self.n_starts} start{'s' if self.n_starts > 1 else ''}"

    def _optimum(self, best: Point, is_stopped: bool) -> Optimum:
        question = self.question
        held, first_order, multipliers = _first_order(self, best)
        free = tuple(replace(n, value=float(x)) for n, x in zip(question.free, best.numbers, strict=True))
        slopes = best.slopes.copy()
        slopes[1:] *= np.array([limit.sign for limit in question.limits])[:, None]
        changes = np.abs(slopes) * (self.ranges.high - self.ranges.low)
        slopes[changes < 1e-9 * np.maximum(changes.max(axis=1, keepdims=True), abs(best.value))] = 0.0  # rounding
        remark = question.objective.counts(question.vessel.spec.display)
        if first_order > FIRST_ORDER and not is_stopped:
            remark = "note: the first-order conditions are met only approximately: give more starts, or sweep around it"
        return Optimum(
            best.run.vessel,
            best.run,
            question.objective,
            question.is_highest,
            best.value,
            free,
            question.limits,
            tuple(best.left.tolist()),
            held,
            slopes,
            first_order,
            self._count(),
            self._others(best),
            remark,
            is_stopped,
            multipliers=multipliers,
            starts=self.n_starts,
            missed=float(self.misses(best).max(initial=0.0)),
            gain=self.gain,
        )

    def _count(self) -> int:
        """Number of integrations so far: of runs, and of their derivatives."""
        return len(self.seen) + sum("slopes" in vars(p) for p in self.seen.values() if p is not None)

    def _others(self, best: Point) -> tuple[tuple[float, str], ...]:
        """Other optima that were found, the best first."""
        found: list[Point] = [best]
        for end in sorted(self.ends, key=self.rank):
            z = self.ranges.shares(end.numbers)
            is_new = all(np.max(np.abs(z - self.ranges.shares(p.numbers))) > _SAME for p in found)
            is_same_whole = not self.is_whole.any() or np.array_equal(
                end.numbers[self.is_whole], best.numbers[self.is_whole]
            )
            if is_new and is_same_whole and self.rank(end)[0] == 0 and _first_order(self, end)[1] < 1e-3:
                found.append(end)
        return tuple((p.value, self.question.place(p.numbers.tolist())) for p in found[1:4])


def _forbidden(vessel: Vessel | Train, limit: Limit) -> str:
    """The stoichiometric certificate against a limit on a single metric; empty if none."""
    if not isinstance(vessel, Vessel) or len(limit.expression.metrics) != 1:
        return ""
    metric = limit.expression.metrics[0]
    if str(limit.expression) != str(metric) or metric.is_of_a_whole_run:
        return ""
    low, high = stoichiometric_bounds(vessel, metric)
    end = high if limit.sign > 0 else low
    if limit.sign * (limit.value - end) <= 1e-9 * abs(end):
        return ""
    return f"stoichiometry allows no {metric} {'above' if limit.sign > 0 else 'below'} {end:.6g}"


class _Program:
    """One nonlinear program: some z are variable, the others fixed."""

    def __init__(self, search: Search, z: np.ndarray, moving: np.ndarray) -> None:
        self.search, self.z, self.moving = search, z.copy(), moving
        first = self._at(z[moving])
        self.scale = max(abs(first.value), 1e-12) if first is not None else 1.0

    def solve(self) -> Point | None:
        """The best from here; None if it cannot be run here."""
        is_equal = np.array([limit.way == "=" for limit in self.search.question.limits], dtype=bool)
        end = SequentialProgram(self._values, self._slopes, is_equal).solve(self.z[self.moving])
        return self._at(end) if end is not None else None

    def _at(self, moved: np.ndarray) -> Point | None:
        z = self.z.copy()
        z[self.moving] = moved
        numbers = self.search.ranges.numbers(z)
        return self.search.point(np.where(self.search.is_whole, np.round(numbers), numbers))

    def _values(self, moved: np.ndarray) -> tuple[float, np.ndarray] | None:
        point = self._at(moved)
        if point is None:
            return None
        return self.search.sign * point.value / self.scale, point.left / self.search.sizes

    def _slopes(self, moved: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Derivatives of the objective and of the margins of the limits by the variable z."""
        point = self._at(moved)
        assert point is not None
        rows = (point.slopes * self.search.ranges.widths(point.numbers))[:, self.moving]
        return self.search.sign * rows[0] / self.scale, rows[1:] / self.search.sizes[:, None]


def _searched(here: Here[Search], begun: Search, z: np.ndarray) -> Search:
    """The search from one start: in this process that of all starts, in another one its own."""
    search = here.own
    if search is None:
        search = copy.copy(begun)
        search.seen, search.ends = dict(begun.seen), []
    search.search_from(z)
    return search


def _first_order(search: Search, point: Point) -> tuple[tuple[ActiveLimit, ...], float, tuple[float, ...]]:
    """Active bounds and limits at a place, the residual of the first-order conditions, and multipliers of limits.

    Non-negative multipliers by least squares of the gradient of the objective on those of the active limits (C. L.
    Lawson, R. J. Hanson, Solving Least Squares Problems, 1974, chapter 23); the residual is relative to the objective,
    over the whole ranges of the free conditions.
    """
    question, display = search.question, search.question.vessel.spec.display
    widths = search.ranges.widths(point.numbers)
    z = search.ranges.shares(point.numbers)
    moving = np.flatnonzero(~search.is_whole)
    slope = search.sign * point.slopes[0] * widths
    columns: list[np.ndarray] = []
    owners: list[tuple[str, int]] = []
    for i, limit in enumerate(question.limits):
        row = point.slopes[1 + i] * widths
        allowed = max(10 * MET * search.sizes[i], _NEAR_LIMIT * float(np.abs(row).max(initial=0.0)))
        if abs(point.left[i]) <= allowed or limit.way == "=":
            columns.append(row)
            owners.append(("limit", i))
            if limit.way == "=":
                columns.append(-row)
                owners.append(("limit", i))
    for j in moving:
        for kind, is_there, sign in (("low", z[j] <= _AT_BOUND, 1.0), ("high", z[j] >= 1 - _AT_BOUND, -1.0)):
            if is_there:
                columns.append(sign * np.eye(len(z))[j])
                owners.append((kind, int(j)))
    rest, multipliers = slope[moving], np.zeros(len(owners))
    if columns and len(moving):
        matrix = np.array(columns)[:, moving].T
        size = np.maximum(np.linalg.norm(matrix, axis=0), 1e-300)
        multipliers = scipy.optimize.nnls(matrix / size, slope[moving])[0] / size
        rest = slope[moving] - matrix @ multipliers
    seen = max((abs(p.value) for p in search.seen.values() if p is not None), default=0.0)
    total = max(abs(point.value), float(np.abs(slope).max(initial=0.0)), 1e-6 * seen, 1e-300)
    left = float(np.abs(rest).max(initial=0.0)) / total if len(moving) else math.nan
    held: dict[tuple[str, int], float] = {}
    of_limits = np.zeros(len(question.limits))
    for owner, number, column in zip(owners, multipliers.tolist(), columns, strict=True):
        if number * np.linalg.norm(column) > 1e-6 * total:
            if owner[0] == "limit":
                of_limits[owner[1]] += number * np.sign(column @ point.slopes[1 + owner[1]])
            held[owner] = number
    own, objective_unit = factor_of(question.objective, display), question.objective.unit(display)
    found = []
    for (kind, i), number in held.items():
        if kind == "limit":
            expression = question.limits[i].expression
            worth = number * factor_of(expression, display) / own
            found.append(ActiveLimit(question.limits[i].text(display), worth, expression.unit(display), objective_unit))
        else:
            free = question.free[i]
            factor = units.unit(free.unit).factor if free.unit else 1.0
            end = free.low if kind == "low" else free.high
            bound = f"{free.name} at its {'lower' if kind == 'low' else 'upper'} bound {free.text(end)}"
            found.append(ActiveLimit(bound, number / widths[i] * factor / own, free.unit, objective_unit))
    return tuple(found), left, tuple(of_limits.tolist())
