"""The search for optimal profiles: first on even pieces, then by their arcs.

On even pieces of constant values an interior-point method finds the approximate places at which conditions are at a
bound or between. These define the arcs of the course (at its lower bound, between bounds, at its upper bound); their
ends become variables of the program, and the part between bounds is piecewise linear, refined until it is converged.
The switching function gives the residual of the first-order conditions of L. S. Pontryagin.
"""

from __future__ import annotations

import copy
import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from molino.core.balances.collocation import NODES
from molino.core.design.optimize.interior_point import InteriorPoint, Place, Solution
from molino.core.design.optimize.objective import Limit
from molino.core.design.profiles.profile_program import (
    FREE,
    HIGH,
    LOW,
    SHORTEST,
    DynamicQuestion,
    Phase,
    ProfilePlace,
    ProfileProgram,
    even,
)
from molino.core.errors import SolveError
from molino.core.parallel import Here, in_order

_FIRST_PIECES = 20
_SLOPE_PIECES = 40
"""Default number of pieces where a slope is limited."""
_AT_BOUND = 0.02
"""Fraction of its range within which a condition is at its bound on even pieces."""
_JUMPS = 0.25
"""Fraction of a step below which the next change between pieces is not part of it."""
_LEAST_JUMP = 1e-3
"""The smallest change of value that may be a step, as a fraction of the range."""
_ACTIVE = 1e-4
_NEAR = 1e-5
"""The first barrier parameter of a search from an earlier solution: small, since a larger one leaves it."""
_ROUGH, _FINE = 1e-5, 1e-9
"""Largest residual of the first-order conditions at first, and in the end."""
_MOST_ROUNDS = 12
_FINEST = 64
"""Largest number of pieces."""
_PIECES = 16
"""First number of pieces of a free arc over the whole run."""
_HALVED = 0.1
"""Pieces whose residual is above this fraction of the largest are halved."""
_SAME, _WORSE = 1e-8, 1e-7
"""Relative difference of objectives that are equally good."""
_SETTLED = 2e-8
"""Relative change of the objective for twice as many pieces at which the refinement ends."""

Runs = Callable[[Sequence[tuple[np.ndarray, np.ndarray]], np.ndarray], Any]
"""A run with courses (fractions of the run, values in SI) and free conditions."""


@dataclass(eq=False)
class ProfileResult:
    """The result of a search.

    Attributes
    ----------
    program : ProfileProgram
    solution : Solution
    """

    program: ProfileProgram
    solution: Solution

    @property
    def place(self) -> ProfilePlace:
        assert isinstance(self.solution.place, ProfilePlace)
        return self.solution.place

    @property
    def value(self) -> float:
        """The objective in SI."""
        return self.program.question.sign * self.place.value

    @property
    def missed(self) -> float:
        """The relative violations of limits."""
        place = self.place
        return float(max(np.maximum(-place.left, 0).max(initial=0.0), np.abs(place.equal).max(initial=0.0)))

    def limit_along(self, j: int) -> Limit | None:
        """The limit along the run that is active in the largest part of a phase."""
        question, rows = self.program.question, self.program.owner == j
        count, begin = len(rows), int((~question.is_equal).sum())
        for n, limit in enumerate(question.everywhere):
            left = self.place.left[begin + n * count : begin + (n + 1) * count][rows]
            if np.median(left) < _ACTIVE:
                return limit
        return None

    def switching(self) -> np.ndarray:
        """See `ProfileProgram.switching`; of the objective to be minimized."""
        return self.program.switching(self.place, self.solution.of_left, self.solution.of_equal)


class ProfileSearch:
    """One question.

    Parameters
    ----------
    question : DynamicQuestion
    run : callable
        See `Runs`; for the initial guess of the states.
    n_starts, seed : int
    progress : callable (objective so far in SI), optional
    """

    def __init__(
        self,
        question: DynamicQuestion,
        run: Runs,
        n_starts: int,
        seed: int,
        progress: Callable[[float], None] | None = None,
    ) -> None:
        self.question, self.run, self.n_starts, self.seed = question, run, n_starts, seed
        self.progress = Here(progress)
        self.iterations, self.is_stopped = 0, False
        self.ends: list[ProfileResult] = []
        self.first_error: SolveError | None = None
        given = [m.pieces for m in question.moving if m.pieces is not None]
        steep = any(m.slope is not None for m in question.moving)
        self.pieces = given[0] if given else (_SLOPE_PIECES if steep else None)

    def best(self) -> ProfileResult | None:
        """The best of all starts; None if none could be run."""
        try:
            for other in in_order(partial(_searched, Here(self), self), self._starts()):
                self._add(other)
        except KeyboardInterrupt:
            self.is_stopped = True
        if not self.ends:
            return None
        best = min(self.ends, key=lambda r: (r.missed if r.missed > 1e-6 else 0.0, r.place.value))
        is_done = self.pieces is not None or best.missed > 1e-4 or self.is_stopped
        return best if is_done else self._with_arcs(best, self._arcs_of(best))

    def _add(self, other: ProfileSearch) -> None:
        """Add the end that another search has found from its start."""
        if other is not self:
            self.ends += other.ends
            self.iterations += other.iterations
            self.first_error = self.first_error or other.first_error

    def _starts(self) -> list[tuple[np.ndarray, np.ndarray]]:
        """Constant levels of the free profiles, and the free conditions, as fractions of their ranges."""
        question = self.question
        moving, count = len(question.moving), len(question.free)
        own = question.ranges.shares(np.array([n.value for n in question.free])) if count else np.zeros(0)
        own = np.where(np.isfinite(own), np.clip(own, 0.05, 0.95), 0.5)
        from scipy.stats import qmc

        spread = qmc.LatinHypercube(moving + count, seed=self.seed).random(self.n_starts)[1:]
        return [(np.full(moving, 0.5), own), *((0.1 + 0.8 * row[:moving], 0.1 + 0.8 * row[moving:]) for row in spread)]

    def search_from(self, levels: np.ndarray, numbers: np.ndarray) -> None:
        """On even pieces, from one start."""
        question, pieces = self.question, self.pieces or _FIRST_PIECES
        elements = max(2, math.ceil(40 / pieces))
        phase = Phase(0.0, 1.0, (FREE,) * len(question.moving), even(pieces), elements)
        own = question if self.pieces is not None else _constant(question)
        program = ProfileProgram(own, [phase], False)
        z = np.empty(program.count)
        for _, k, nodes in program.node_at:
            z[nodes] = levels[k]
        z[program.numbers_at] = numbers
        try:
            run = self.run(program.nodes(z), question.ranges.numbers(numbers))
        except SolveError as error:
            self.first_error = self.first_error or error
            return
        end, n = run.trajectory.end, len(question.balances.states)
        program.begin_with(lambda shares: run.trajectory.at(np.unique(shares) * end)[:, :n])
        found = self._solve(program, z, 0.1, _ROUGH if self.pieces is None else _FINE)
        self.ends += [found] if found is not None else []

    def _solve(self, program: ProfileProgram, z: np.ndarray, barrier: float, tolerance: float) -> ProfileResult | None:
        def report(place: Place) -> None:
            if self.progress.own is not None:
                self.progress.own(self.question.sign * place.value)

        solution = InteriorPoint(program, barrier, tolerance, progress=report).solve(z)
        if solution is None:
            return None
        self.iterations += solution.iterations
        return ProfileResult(program, solution)

    def _with_arcs(self, rough: ProfileResult, phases: list[Phase]) -> ProfileResult:
        """The same with its arcs and their free ends, refined until it is converged."""
        best, tried = rough, [rough]
        before, forms, is_finer = math.nan, {_form(phases)}, False
        for _ in range(_MOST_ROUNDS):
            try:
                found = self._again(best, phases)
            except KeyboardInterrupt:
                self.is_stopped = True
                break
            is_kept = found is not None and found.missed <= 1e-6
            if found is not None and is_kept:
                is_worse = found.place.value > best.place.value + _WORSE * abs(best.place.value)
                best = found
                tried.append(best)
                if is_worse and is_finer:
                    break
            elif len(tried) == 1:
                break
            changed = _changed(best) if is_kept else None
            if changed is not None and (form := _form(changed)) not in forms:
                phases, is_finer = changed, False
                forms.add(form)
                continue
            settled = abs(best.place.value - before) <= _SETTLED * max(abs(before), 1e-12)
            refined = None if settled else _refined(best)
            if refined is None:
                break
            before, phases, is_finer = best.place.value, refined, True
        least = min(r.place.value for r in tried)
        return next(r for r in reversed(tried) if r.place.value <= least + _SAME * abs(least))

    def with_margins(self, last: ProfileResult, of_end: np.ndarray, of_path: np.ndarray) -> ProfileResult | None:
        """The same phases with limits tightened by further margins, in SI; see `ProfileProgram`."""
        if self.pieces is not None or len(last.program.phases) == 1:
            program, z = last.program, np.clip(last.place.z, 1e-4, 1 - 1e-4)
            begin = 1e-4
        else:
            program, z = self._continued(last, _current(last))
            begin = _NEAR
        program.end_margins = last.program.end_margins + of_end
        program.path_margins = last.program.path_margins + of_path
        return self._solve(program, z, begin, _FINE)

    def _again(self, last: ProfileResult, phases: Sequence[Phase]) -> ProfileResult | None:
        """A search with another division, from the solution of the last one."""
        return self._solve(*self._continued(last, phases), _NEAR, _FINE)

    def _continued(self, last: ProfileResult, phases: Sequence[Phase]) -> tuple[ProfileProgram, np.ndarray]:
        """The program of another division, and its first place: the end of the last search."""
        program = ProfileProgram(self.question, phases, True)
        z = np.empty(program.count)
        courses = last.program.nodes(last.place.z)
        for j, k, nodes in program.node_at:
            phase, moving = phases[j], self.question.moving[k]
            at = phase.begin + (phase.end - phase.begin) * np.array(phase.edges)
            at[0], at[-1] = at[0] + 1e-9, at[-1] - 1e-9
            if last.program.question.moving[k].kind != moving.kind:  # pieces with a step have values in between
                inset = min(1 / last.program.phases[0].pieces, (phase.end - phase.begin) / 3)
                low = phase.begin + (inset if phase.begin > 0 else 0.0)
                at = np.clip(at, low, phase.end - (inset if phase.end < 1 else 0.0))
            values = _course_at(*courses[k], at)
            z[nodes] = np.clip((values - moving.low) / (moving.high - moving.low), 1e-4, 1 - 1e-4)
        z[program.ends_at] = [p.end for p in phases[:-1]] if len(program.ends_at) else []
        z[program.numbers_at] = last.place.z[last.program.numbers_at]
        shares, states = _states_of(last)
        program.begin_with(lambda at: np.column_stack([np.interp(at, shares, column) for column in states.T]))
        return program, z

    def _arcs_of(self, rough: ProfileResult) -> list[Phase]:
        """The phases that a course on even pieces suggests."""
        program, place = rough.program, rough.place
        count, size = program.phases[0].pieces, _size_of(rough)
        kinds: list[list[str]] = []
        short: list[list[Phase]] = []
        marks: set[float] = set()
        is_active = _active_pieces(rough, count)
        leads = bool((is_active[:, 0] & (_left_at_first(rough) > _AT_BOUND)).any())
        for _, _, nodes in program.node_at:
            z, low, high = place.z[nodes], rough.solution.low[nodes], rough.solution.high[nodes]
            is_low, is_high = z < np.minimum(low / size, _AT_BOUND), 1 - z < np.minimum(high / size, _AT_BOUND)
            own = [LOW if a else HIGH if b else FREE for a, b in zip(is_low, is_high, strict=True)]
            short.append(_short_arcs(own, z, leads))
            ends = _ends_of(own, z, count) | {m for arc in short[-1] for m in (arc.begin, arc.end)}
            kinds.append(own)
            marks |= ends
        if len(is_active):
            ends = {i / count for row in is_active for i in range(1, count) if row[i] != row[i - 1]}
            marks |= {end for end in ends if all(abs(end - m) > 1.1 / count for m in marks)}
        edges = [0.0, *sorted(m for m in marks if 1e-6 < m < 1 - 1e-6), 1.0]
        phases = []
        for a, b in itertools.pairwise(edges):
            middle = min(int((a + b) / 2 * count), count - 1)
            is_along = bool(is_active[:, middle].any())
            at_bound = [next((p.kinds[0] for p in own if p.begin <= (a + b) / 2 <= p.end), "") for own in short]
            words = tuple(word or own[middle] for word, own in zip(at_bound, kinds, strict=True))
            phase = Phase(a, b, words, even(1), is_along_limit=is_along and not any(at_bound))
            phases.append(_divided(phase))
        return phases


def _searched(here: Here[ProfileSearch], begun: ProfileSearch, start: tuple[np.ndarray, np.ndarray]) -> ProfileSearch:
    """The search from one start: in this process that of all starts, in another one its own."""
    search = here.own
    if search is None:
        search = copy.copy(begun)
        search.ends, search.iterations, search.first_error = [], 0, None
    search.search_from(*start)
    return search


def _constant(question: DynamicQuestion) -> DynamicQuestion:
    """The same with pieces of constant values."""
    found = copy.copy(question)
    found.moving = tuple(replace(m, kind="constant") for m in question.moving)
    return found


def _ends_of(own: list[str], z: np.ndarray, count: int) -> set[float]:
    """The ends of arcs; a single piece between two bounds contains the switch between them, and joins the one
    before."""
    found = set()
    for i in range(1, count - 1):
        if own[i] == FREE and {own[i - 1], own[i + 1]} == {LOW, HIGH}:
            share = z[i] if own[i - 1] == HIGH else 1 - z[i]
            found.add((i + float(share)) / count)
            own[i] = own[i - 1] if share > 0.5 else own[i + 1]
    for i, step in itertools.product(range(count), (1, -1)):  # a step from a bound to the part between
        before, after, next_one = i - step, i + step, i + 2 * step
        if min(before, next_one) < 0 or max(before, next_one) >= count:
            continue
        jump = z[before] - z[after]
        if own[before] != FREE and own[i] == own[after] == FREE and abs(z[after] - z[next_one]) < _JUMPS * abs(jump):
            share = float(np.clip((z[i] - z[after]) / jump, 0.0, 1.0))
            found.add((i + share if step > 0 else i + 1 - share) / count)
    for i in range(1, count):
        if own[i] != own[i - 1] and not any(abs(i / count - f) < 1 / count for f in found):
            found.add(i / count)
    return found


def _short_arcs(own: Sequence[str], z: np.ndarray, leads: bool) -> list[Phase]:
    """Arcs at a bound within the first or the last piece, whose value then deviates from the line through the next two.

    If a limit along the run is active in the first piece, but not at the start, a short arc `leads` to it. An arc that
    is not needed shrinks to zero and is removed.
    """
    found, count = [], len(own)
    for first, after, next_one in ((0, 1, 2), (count - 1, count - 2, count - 3)):
        if count < 4 or any(own[i] != FREE for i in (first, after, next_one)):
            continue
        line = float(np.clip(2 * z[after] - z[next_one], 0.0, 1.0))
        jump = float(z[first]) - line
        if abs(jump) > max(abs(z[after] - z[next_one]), _LEAST_JUMP) or (leads and first == 0):
            kind, bound = (HIGH, 1.0) if jump > 0 else (LOW, 0.0)
            share = float(np.clip(jump / (bound - line), 0.01, 0.9)) / count
            begin, end = (0.0, share) if first == 0 else (1 - share, 1.0)
            found.append(Phase(begin, end, (kind,), even(1)))
    return found


def _active_pieces(rough: ProfileResult, count: int) -> np.ndarray:
    """Whether each limit along the run is active in each piece, shape (limits, pieces)."""
    program = rough.program
    question, elements = program.question, program.phases[0].elements
    inequalities = int((~question.is_equal).sum())
    along = rough.place.left[inequalities : inequalities + len(program.owner) * len(question.everywhere)]
    weights = rough.solution.of_left[inequalities : inequalities + len(along)]
    shape = (len(question.everywhere), count, elements)
    left, weights = along.reshape(shape), weights.reshape(shape) / _size_of(rough)
    return np.asarray((left < np.minimum(weights, _AT_BOUND)).any(axis=2))


def _left_at_first(found: ProfileResult) -> np.ndarray:
    """The relative margin of each limit along the run at its beginning."""
    question, points = found.program.question, found.place.trajectories.points
    if question.paths is None:
        return np.zeros(0)
    values = question.paths.value(points[:1, 0])[0]
    return np.asarray(question.path_signs * (values - question.path_values) / question.path_sizes)


def _size_of(found: ProfileResult) -> float:
    """The largest derivative of the objective, which scales multipliers."""
    return max(float(np.abs(found.program.slopes(found.place)[0]).max()), 1e-300)


def _divided(phase: Phase) -> Phase:
    """A phase with even pieces (at bounds: elements) for its length."""
    length = phase.end - phase.begin
    if FREE in phase.kinds:
        pieces = int(np.clip(math.ceil(_PIECES * length), 6, _PIECES))
        return replace(phase, edges=_denser_at_ends(pieces), elements=2)
    return replace(phase, edges=even(1), elements=int(np.clip(math.ceil(2 * _PIECES * length), 4, 24)))


def _denser_at_ends(pieces: int) -> tuple[float, ...]:
    """The edges of pieces that are short at both ends, where steps and bends occur."""
    return tuple(((1 - np.cos(np.pi * np.arange(pieces + 1) / pieces)) / 2).tolist())


def _refined(found: ProfileResult) -> list[Phase] | None:
    """The phases with pieces halved where the switching function is farthest from zero; None if no piece needs it."""
    program, switching = found.program, np.abs(found.switching())
    phases = _current(found)
    lengths = found.place.trajectories.layout.lengths
    ranges = np.array([m.high - m.low for m in program.question.moving])
    miss = (switching * ranges).max(axis=1) * lengths[:, None]
    misses: list[np.ndarray] = []
    for j, phase in enumerate(phases):
        free = [k for k, kind in enumerate(phase.kinds) if kind == FREE]
        own = miss[program.owner == j][:, free].max(axis=1, initial=0.0)
        misses.append(own.reshape(phase.pieces, phase.elements).max(axis=1))
    most = max(float(m.max(initial=0.0)) for m in misses)
    total = sum(p.pieces for p in phases)
    if most <= 1e-12 * max(abs(found.place.value), 1e-12) or total >= _FINEST:
        return None
    ranked = np.sort(np.concatenate(misses))[::-1]
    least = max(_HALVED * most, float(ranked[min(_FINEST - total, len(ranked) - 1)]))
    halved = []
    for phase, own in zip(phases, misses, strict=True):
        edges = [0.0]
        for p, (a, b) in enumerate(itertools.pairwise(phase.edges)):
            edges += [(a + b) / 2, b] if own[p] > least else [b]
        halved.append(replace(phase, edges=tuple(edges)))
    return halved


def _current(found: ProfileResult) -> list[Phase]:
    """The phases of a result with their ends as found."""
    marks = found.program.marks(found.place.z)
    pairs = zip(found.program.phases, marks[:-1], marks[1:], strict=True)
    return [
        replace(p, begin=float(a), end=float(b), is_along_limit=found.limit_along(j) is not None)
        for j, (p, a, b) in enumerate(pairs)
    ]


def _form(phases: Sequence[Phase]) -> tuple[tuple[float, tuple[str, ...]], ...]:
    """The key of a division into phases."""
    return tuple((round(p.begin, 3), p.kinds) for p in phases)


def _changed(found: ProfileResult) -> list[Phase] | None:
    """The phases that the result suggests; None if they need no change."""
    phases, program = _current(found), found.program
    kept = [p for p in phases if p.end - p.begin > 3 * SHORTEST]
    if len(kept) < len(phases) and kept:
        return _closed(kept)
    switching = found.switching()
    size = float(np.abs(switching).max())
    new: list[Phase] = []
    is_new = False
    for j, phase in enumerate(phases):
        rows = np.flatnonzero(program.owner == j)
        parts = [phase]
        for k, kind in enumerate(phase.kinds):
            if kind == FREE:
                nodes = next(n for i, own, n in program.node_at if (i, own) == (j, k))
                parts = [piece for p in parts for piece in _saturated(p, k, found.place.z[nodes])]
            else:
                own = switching[rows, :, k].mean(axis=1) * (1.0 if kind == LOW else -1.0)
                parts = [piece for p in parts for piece in _wrong(p, k, own < -1e-4 * size)]
        is_new |= len(parts) > 1 or parts[0].kinds != phase.kinds
        new += parts
    return _closed(new) if is_new else None


def _closed(phases: Sequence[Phase]) -> list[Phase]:
    """Consecutive phases, with neighbors at the same bounds joined."""
    found: list[Phase] = []
    for phase in phases:
        if found and found[-1].kinds == phase.kinds:
            is_along = found[-1].is_along_limit or phase.is_along_limit
            found[-1] = replace(found[-1], end=phase.end, is_along_limit=is_along)
        else:
            found.append(replace(phase, begin=found[-1].end if found else 0.0))
    found[-1] = replace(found[-1], end=1.0)
    return [_divided(p) for p in found]


def _saturated(phase: Phase, k: int, z: np.ndarray) -> list[Phase]:
    """A phase without the pieces at its beginning and end in which a free condition is at a bound."""
    at = np.where(z < 1e-4, LOW, np.where(z > 1 - 1e-4, HIGH, FREE))
    if len(z) < 3 or phase.pieces + 1 != len(z):
        return [phase]
    begin, end = 0, len(z) - 1
    while begin < end and at[begin] != FREE and at[begin + 1] == at[begin]:
        begin += 1
    while end > begin and at[end] != FREE and at[end - 1] == at[end]:
        end -= 1
    edges = phase.begin + (phase.end - phase.begin) * np.array(phase.edges)
    found = []
    if begin:
        kinds = (*phase.kinds[:k], str(at[0]), *phase.kinds[k + 1 :])
        found.append(replace(phase, end=float(edges[begin]), kinds=kinds))
    if end - begin >= 1 and not (begin and end < len(z) - 1 and end - begin == 1):
        found.append(replace(phase, begin=float(edges[begin]), end=float(edges[end])))
    if end < len(z) - 1:
        kinds = (*phase.kinds[:k], str(at[-1]), *phase.kinds[k + 1 :])
        cut = found[-1].end if found else phase.begin
        found.append(replace(phase, begin=cut, kinds=kinds))
    return found or [phase]


def _wrong(phase: Phase, k: int, is_wrong: np.ndarray) -> list[Phase]:
    """A phase at a bound, with conditions made free that the switching function would move off it."""
    if not is_wrong.any():
        return [phase]
    rows = np.flatnonzero(is_wrong)
    first, last = int(rows[0]), int(rows[-1]) + 1
    edges = phase.begin + (phase.end - phase.begin) * phase.element_edges
    free = (*phase.kinds[:k], FREE, *phase.kinds[k + 1 :])
    parts = []
    if first:
        parts.append(replace(phase, end=float(edges[first])))
    parts.append(replace(phase, begin=float(edges[first]), end=float(edges[last]), kinds=free))
    if last < len(is_wrong):
        parts.append(replace(phase, begin=float(edges[last])))
    return parts


def _course_at(at: np.ndarray, values: np.ndarray, shares: np.ndarray) -> np.ndarray:
    """A course at some fractions of the run; at a step the value after it."""
    index = np.clip(np.searchsorted(at, shares, side="right"), 1, len(at) - 1)
    a, b, u, v = at[index - 1], at[index], values[index - 1], values[index]
    width = np.where(b > a, b - a, 1.0)
    return np.asarray(np.where(b > a, u + (v - u) * (shares - a) / width, v))


def _states_of(found: ProfileResult) -> tuple[np.ndarray, np.ndarray]:
    """Fractions of the run and the states there, from the beginning."""
    program, trajectories = found.program, found.place.trajectories
    shares = program.element_shares(found.place.z, NODES)
    states = np.concatenate([trajectories.layout.first[None], trajectories.states.reshape(len(shares) * 3, -1)])
    return np.concatenate([[0.0], shares.ravel()]), states
