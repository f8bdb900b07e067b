"""The program with finitely many variables of a question with free profiles, with exact first and second derivatives.

The run is divided into phases, and each phase into pieces. Over a piece a free condition is constant or linear; in a
phase it may be at a bound throughout. The ends of phases may also be free.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import sympy as sp

from molino.core.balances.collocation import NODES, QUADRATURE, Collocation, Layout, PointFunctions, Trajectories
from molino.core.balances.engines import start
from molino.core.balances.source import build
from molino.core.balances.system import Case
from molino.core.chemistry.formula import constant
from molino.core.contract.metric import Metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.vessel import Vessel
from molino.core.design.optimize.free_profile import MovingNumber
from molino.core.design.optimize.interior_point import Place
from molino.core.design.optimize.objective import Limit, MetricExpression
from molino.core.design.optimize.problem import FreeNumber, FreeRanges
from molino.core.errors import SolveError
from molino.core.safety.cooling_failure import temperature_when_reacted

LOW, HIGH, FREE = "low", "high", "free"
SHORTEST = 2e-4
"""The smallest fraction of the run that a phase may take."""
_DIFFERENCE = 1e-4
_FAILURE = "temperature after cooling failure"


@dataclass(frozen=True)
class Phase:
    """A part of a run.

    Attributes
    ----------
    begin, end : float
        As fractions of the run.
    kinds : tuple of 'low', 'high' or 'free'
        Of each free profile.
    edges : tuple of float
        Ends of its pieces, as fractions of the phase, from 0 to 1.
    elements : int
        Collocation elements of each piece.
    is_along_limit : bool
        Whether a limit along the run is active in it; then the first and the last piece are constant, since a condition
        has steps where a limit becomes active or inactive.
    """

    begin: float
    end: float
    kinds: tuple[str, ...]
    edges: tuple[float, ...]
    elements: int = 2
    is_along_limit: bool = False

    @property
    def pieces(self) -> int:
        """Number of pieces."""
        return len(self.edges) - 1

    @property
    def count(self) -> int:
        """Its collocation elements."""
        return self.pieces * self.elements

    @property
    def element_edges(self) -> np.ndarray:
        """Ends of its elements, as fractions of the phase, shape (elements + 1,)."""
        edges = np.array(self.edges)
        inside = edges[:-1, None] + np.diff(edges)[:, None] * np.arange(self.elements) / self.elements
        return np.append(inside.ravel(), 1.0)


def is_along(limit: Limit) -> bool:
    """Whether a limit applies along the whole run: stated so, or on the temperature after a failure at any moment."""
    return limit.is_everywhere or limit.expression.metrics[0].what == _FAILURE


def along_run(vessel: Vessel, metric: Metric, is_cautious: bool = False) -> sp.Expr:
    """A metric over states and parameters at any moment of the run; see `temperature_when_reacted`."""
    is_of_failure = metric.what == _FAILURE
    return temperature_when_reacted(vessel, is_cautious) if is_of_failure else vessel.spec.expression(metric)


def even(pieces: int) -> tuple[float, ...]:
    """The edges of pieces of equal length."""
    return tuple(np.linspace(0.0, 1.0, pieces + 1).tolist())


class DynamicQuestion:
    """A question with free profiles as functions of points, the same for every division into phases.

    Parameters
    ----------
    vessel : Vessel
        With a profile of any values for each free profile.
    moving : sequence of MovingNumber
    free : sequence of FreeNumber
        Further free conditions, constant over the run.
    objective : MetricExpression
    is_highest : bool
    limits : sequence of Limit
    is_cautious : bool
        Whether a limit on the temperature after a cooling failure considers dosed reactants only.
    """

    def __init__(
        self,
        vessel: Vessel,
        moving: Sequence[MovingNumber],
        free: Sequence[FreeNumber],
        objective: MetricExpression,
        is_highest: bool,
        limits: Sequence[Limit],
        is_cautious: bool = False,
    ) -> None:
        self.vessel, self.moving, self.free = vessel, tuple(moving), tuple(free)
        self.objective, self.sign = objective, -1.0 if is_highest else 1.0
        self.limits, self.is_cautious = tuple(limits), is_cautious
        self.map = ParameterMap(vessel, tuple(n.name for n in free))
        self.ranges = FreeRanges(free)
        self._mapped: tuple[bytes, Any] = b"", None
        self._prepare()

    def _prepare(self) -> None:
        vessel = self.vessel
        self.at_end = [limit for limit in self.limits if not is_along(limit)]
        self.everywhere = [limit for limit in self.limits if is_along(limit)]
        ends = [self._symbolic(self.objective), *(self._symbolic(limit.expression) for limit in self.at_end)]
        paths = [self._symbolic(limit.expression) for limit in self.everywhere]
        self.balances = vessel.spec.model.balances_for([*ends, *paths])
        own = [n.value if math.isfinite(n.value) else (n.low + n.high) / 2 for n in self.free]
        values, by, _, _ = self.map.with_slopes(own) if own else (vessel.spec.case.values, np.zeros((0, 0)), 0.0, 0.0)
        controlled = [s for m in self.moving for s in m.symbols]
        self.touched = [
            i for i, s in enumerate(self.balances.parameters) if own and by[i].any() and s not in controlled
        ]
        inputs = (*controlled, *(self.balances.parameters[i] for i in self.touched), self.balances.independent)
        self.inputs = inputs
        rates = PointFunctions(self.balances, self.balances.rhs, inputs)
        self.values = dict(zip(self.balances.parameters, values, strict=True))
        fixed = [self.values[s] for s in rates.fixed]
        self.scale = start(Case(self.balances, tuple(values)))[1]
        self.collocation = Collocation(rates.at(fixed), self.scale)
        self.ends = PointFunctions(self.balances, ends, inputs).at(fixed)
        self.paths = PointFunctions(self.balances, paths, inputs).at(fixed) if paths else None
        self.first = self._first_states()
        self.end_sizes = np.array([max(abs(limit.value), 1e-12) for limit in self.at_end])
        self.path_sizes = np.array([max(abs(limit.value), 1e-12) for limit in self.everywhere])
        self.end_signs = np.array([limit.sign for limit in self.at_end])
        self.path_values = np.array([limit.value for limit in self.everywhere])
        self.path_signs = np.array([limit.sign for limit in self.everywhere])
        self.is_equal = np.array([limit.way == "=" for limit in self.at_end], dtype=bool)

    def _symbolic(self, expression: MetricExpression) -> sp.Expr:
        """An expression of metrics over states and parameters."""
        pairs = zip(expression.metrics, expression.factors, strict=True)
        known = {
            constant(f"m{i}"): along_run(self.vessel, m, self.is_cautious) / factor
            for i, (m, factor) in enumerate(pairs)
        }
        return expression.formula.xreplace(known)

    def _first_states(self) -> Any:
        """The initial states as a function of parameters, with their derivatives by those that depend on free
        conditions."""
        initial = [state.initial for state in self.balances.states]
        symbols, independent = self.balances.parameters, self.balances.independent
        slopes = [sp.diff(e, symbols[i]) for e in initial for i in self.touched]
        return tuple(build({}, outputs, (), independent, symbols) for outputs in (initial, slopes))

    @cached_property
    def is_affine(self) -> bool:
        """Whether balances, initial states and end are affine in the free conditions."""
        rng = np.random.default_rng(0)
        rows = [self._stacked(self.ranges.numbers(rng.uniform(0.1, 0.9, len(self.free))))[1] for _ in range(2)]
        return bool(np.allclose(rows[0], rows[1], rtol=1e-9, atol=1e-14 * np.abs(rows[0]).max(initial=0.0)))

    def at_numbers(self, numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray, float, np.ndarray, np.ndarray, Any]:
        """Affected parameters, their derivatives by the fractions, the end, its derivatives, initial states and
        theirs."""
        if not len(numbers):
            values = tuple(self.values.values())
            n = len(self.balances.states)
            first = np.array(self.first[0](values)((), 0.0), dtype=float)
            return np.zeros(0), np.zeros((0, 0)), self.vessel.spec.end_si, np.zeros(0), first, np.zeros((n, 0))
        if self._mapped[0] != (key := numbers.tobytes()):
            self._mapped = key, self.map.with_slopes(numbers.tolist())
        values, by, end, by_end = self._mapped[1]
        width = self.ranges.widths(numbers)
        first = np.array(self.first[0](values)((), 0.0), dtype=float)
        partial = np.array(self.first[1](values)((), 0.0), dtype=float).reshape(len(first), len(self.touched))
        own = by[self.touched] * width
        return np.array(values)[self.touched], own, end, by_end * width, first, partial @ own

    def _stacked(self, numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        touched, by, end, by_end, first, by_first = self.at_numbers(numbers)
        return np.concatenate([touched, [end], first]), np.concatenate([by, by_end[None], by_first])

    def curved(self, z: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """Second derivatives by the fractions of affected parameters, end and initial states, weighted and summed.

        By central differences of their exact derivatives; zero where they are affine.
        """
        count = len(self.free)
        found = np.zeros((count, count))
        if not count or (self.is_affine and not self.ranges.is_log.any()):
            return found
        for j in range(count):
            away = np.zeros(count)
            away[j] = _DIFFERENCE
            high, low = (self._stacked(self.ranges.numbers(z + sign * away))[1] for sign in (1, -1))
            found[j] = weights @ (high - low) / (2 * _DIFFERENCE)
        return (found + found.T) / 2


@dataclass(eq=False)
class ProfilePlace(Place):
    """A place with its trajectories, and the fractions of the run at which phases end."""

    trajectories: Trajectories
    last: np.ndarray
    """States and inputs at the end, shape (local,)."""
    path_points: np.ndarray


class ProfileProgram:
    """The program of one division into phases; see `interior_point.Program`.

    Parameters
    ----------
    question : DynamicQuestion
    phases : sequence of Phase
    moves_ends : bool
        Whether the ends of phases are free.

    Attributes
    ----------
    end_margins : array, shape (limits at the end,)
    path_margins : array, shape (elements, limits along)
        The amounts by which limits are tightened, in SI, since collocation enforces them at its points only.
    """

    def __init__(self, question: DynamicQuestion, phases: Sequence[Phase], moves_ends: bool) -> None:
        self.question, self.phases = question, tuple(phases)
        self.moves_ends = moves_ends and len(phases) > 1
        self.reference: ProfilePlace | None = None
        self._lay_out()
        self.end_margins = np.zeros(len(question.at_end))
        self.path_margins = np.zeros((len(self.owner), len(question.everywhere)))

    def _lay_out(self) -> None:
        """Number the z, and define how the free profiles at each point depend on them."""
        question, phases = self.question, self.phases
        self.node_at: list[tuple[int, int, np.ndarray]] = []
        at = 0
        for j, phase in enumerate(phases):
            for k, (kind, moving) in enumerate(zip(phase.kinds, question.moving, strict=True)):
                if kind == FREE:
                    nodes = np.arange(at, at + phase.pieces + (moving.kind == "linear"))
                    if phase.is_along_limit and phase.pieces > 2 and moving.kind == "linear":
                        nodes = np.clip(nodes, at + 1, at + phase.pieces - 1) - 1
                    self.node_at.append((j, k, nodes))
                    at = int(nodes[-1]) + 1
        self.ends_at = np.arange(at, at + (len(phases) - 1 if self.moves_ends else 0))
        at += len(self.ends_at)
        self.numbers_at = np.arange(at, at + len(question.free))
        self.count = at + len(question.free)
        self.owner = np.repeat(np.arange(len(phases)), [p.count for p in phases])
        self.relative = np.concatenate([p.element_edges[:-1] for p in phases])
        self.share = np.concatenate([np.diff(p.element_edges) for p in phases])
        total, inputs = len(self.owner), len(question.inputs)
        self.base = np.zeros((total, 3, inputs))
        self.by = np.zeros((total, 3, inputs, self.count))
        begins = np.cumsum([0, *(p.count for p in phases)])
        column = 0
        for k, moving in enumerate(question.moving):
            for a, b in moving.symbols.values():
                for j, phase in enumerate(phases):
                    rows = slice(begins[j], begins[j + 1])
                    level = moving.high if phase.kinds[k] == HIGH else moving.low
                    self.base[rows, :, column] = a + b * level
                for j, own, nodes in self.node_at:
                    if own == k:
                        self._lay_nodes(phases[j], begins[j], nodes, column, b * (moving.high - moving.low), moving)
                column += 1

    def _lay_nodes(
        self, phase: Phase, begin: int, nodes: np.ndarray, column: int, width: float, moving: MovingNumber
    ) -> None:
        for e in range(phase.count):
            piece, inside = divmod(e, phase.elements)
            if moving.kind == "constant":
                self.by[begin + e, :, column, nodes[piece]] = width
                continue
            x = (inside + NODES) / phase.elements
            self.by[begin + e, :, column, nodes[piece]] += width * (1 - x)
            self.by[begin + e, :, column, nodes[piece + 1]] += width * x

    def element_shares(self, z: np.ndarray, inside: np.ndarray) -> np.ndarray:
        """Fractions of the run at fractions `inside` of each element, shape (elements, len(inside))."""
        marks = self.marks(z)
        along = self.relative[:, None] + self.share[:, None] * inside
        return np.asarray(marks[:-1][self.owner][:, None] + np.diff(marks)[self.owner][:, None] * along)

    def marks(self, z: np.ndarray) -> np.ndarray:
        """The fractions of the run at which phases begin and end, shape (phases + 1,)."""
        if self.moves_ends:
            return np.concatenate([[0.0], z[self.ends_at], [1.0]])
        return np.array([0.0, *(p.end for p in self.phases)])

    def layout(self, z: np.ndarray) -> tuple[Layout, np.ndarray]:
        """The conditions that a z sets, and the fractions of the run of the points, shape (elements, 3)."""
        question = self.question
        numbers = question.ranges.numbers(z[self.numbers_at])
        touched, by, end, by_end, first, by_first = question.at_numbers(numbers)
        marks, n_moving = self.marks(z), sum(len(m.symbols) for m in question.moving)
        theta, size = np.diff(marks), self.count
        by_theta = np.zeros((len(theta), size))
        by_begin = np.zeros((len(theta), size))
        for n, column in enumerate(self.ends_at):
            by_theta[n, column] += 1.0
            by_theta[n + 1, column] -= 1.0
            by_begin[n + 1, column] += 1.0
        by_whole = np.zeros(size)
        by_whole[self.numbers_at] = by_end
        lengths = end * theta[self.owner] * self.share
        slope_of_share = by_theta[self.owner] * self.share[:, None]
        by_lengths = end * slope_of_share + np.outer(theta[self.owner] * self.share, by_whole)
        inputs, by_inputs = self.base + self.by @ z, self.by.copy()
        place = slice(n_moving, n_moving + len(touched))
        inputs[:, :, place] = touched
        by_inputs[:, :, place, self.numbers_at[0] if len(self.numbers_at) else 0 : None] = by if len(touched) else 0.0
        along = self.relative[:, None] + self.share[:, None] * NODES
        passed = marks[:-1][self.owner][:, None] + theta[self.owner][:, None] * along
        inputs[:, :, -1] = end * passed
        by_passed = by_begin[self.owner][:, None, :] + by_theta[self.owner][:, None, :] * along[:, :, None]
        by_inputs[:, :, -1, :] = end * by_passed + passed[:, :, None] * by_whole
        whole_first = np.zeros((len(first), size))
        whole_first[:, self.numbers_at] = by_first
        return Layout(inputs, by_inputs, lengths, by_lengths, (slope_of_share, by_whole), first, whole_first), passed

    def at(self, z: np.ndarray) -> ProfilePlace | None:
        """Its values; None where it is undefined."""
        question = self.question
        layout, _ = self.layout(z)
        if (layout.lengths <= 0).any():
            return None
        try:
            trajectories = question.collocation.solve(layout, self._guess(z, layout))
        except (SolveError, np.linalg.LinAlgError):
            return None
        points = trajectories.points
        ends = question.ends.value(points[-1:, 2])[0]
        left = question.end_signs * (ends[1:] - [limit.value for limit in question.at_end]) - self.end_margins
        left = left / question.end_sizes
        is_equal = question.is_equal
        path = np.zeros((0, points.shape[2]))
        parts = [left[~is_equal]]
        if question.paths is not None:
            path = points[:, 2]
            values = question.path_signs * (question.paths.value(path) - question.path_values) - self.path_margins
            parts.append((values / question.path_sizes).T.ravel())
        parts += self._own_rows(z)
        whole = np.concatenate(parts)
        if not (math.isfinite(ends[0]) and np.isfinite(whole).all()):
            return None
        return ProfilePlace(z, question.sign * float(ends[0]), whole, left[is_equal], trajectories, points[-1, 2], path)

    def _own_rows(self, z: np.ndarray) -> list[np.ndarray]:
        """The margins of the lengths of phases above the shortest, and of the steepest slopes."""
        found = [np.diff(self.marks(z)) - SHORTEST] if self.moves_ends else []
        end = self.question.at_numbers(self.question.ranges.numbers(z[self.numbers_at]))[2]
        for moving, steps, sizes in self.slope_limits:
            change = (moving.high - moving.low) * (steps @ z)
            allowed = moving.slope * sizes * end
            found += [(allowed - change) / (moving.high - moving.low), (allowed + change) / (moving.high - moving.low)]
        return found

    @cached_property
    def slope_limits(self) -> list[tuple[MovingNumber, np.ndarray, np.ndarray]]:
        """Free profiles with a steepest slope: differences of neighboring nodes, and the fractions between them."""
        found = []
        for j, k, nodes in self.node_at:
            moving, phase = self.question.moving[k], self.phases[j]
            if moving.slope is None:
                continue
            steps = np.zeros((len(nodes) - 1, self.count))
            np.add.at(steps, (np.arange(len(nodes) - 1), nodes[:-1]), -1.0)
            np.add.at(steps, (np.arange(len(nodes) - 1), nodes[1:]), 1.0)
            found.append((moving, steps, (phase.end - phase.begin) * np.diff(phase.edges)))
        return found

    def _guess(self, z: np.ndarray, layout: Layout) -> np.ndarray:
        if self.reference is not None:
            trajectories = self.reference.trajectories
            moved = trajectories.sensitivities @ (z - self.reference.z)
            size = float(np.max(np.abs(moved) / self.question.scale))
            return np.asarray(trajectories.states + (moved if size < 0.5 else 0.0))
        return np.asarray(self.guess)

    guess: np.ndarray
    """Initial guess of the states at the points, shape (elements, 3, states)."""

    def begin_with(self, states: Any) -> None:
        """Set the initial guess of the states by a function of fractions of the run."""
        marks = np.array([0.0, *(p.end for p in self.phases)])
        along = self.relative[:, None] + self.share[:, None] * NODES
        passed = marks[:-1][self.owner][:, None] + np.diff(marks)[self.owner][:, None] * along
        self.guess = states(passed.ravel()).reshape(len(self.owner), 3, -1)

    def slopes(self, place: Place) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Derivatives of the objective, the margins and the equalities by z."""
        assert isinstance(place, ProfilePlace)
        question, self.reference = self.question, place
        dq = place.trajectories.sensitivities_of_points
        ends = question.ends.slopes(place.last[None])[0] @ dq[-1, 2]
        scaled = (question.end_signs / question.end_sizes)[:, None] * ends[1:]
        rows = [scaled[~question.is_equal]]
        if question.paths is not None:
            whole = np.einsum("epl,elz->pez", question.paths.slopes(place.path_points), dq[:, 2])
            factor = (question.path_signs / question.path_sizes)[:, None, None]
            rows.append((factor * whole).reshape(-1, self.count))
        if self.moves_ends:
            marks = np.zeros((len(self.phases) + 1, self.count))
            marks[1:-1][np.arange(len(self.ends_at)), self.ends_at] = 1.0
            rows.append(np.diff(marks, axis=0))
        for moving, steps, sizes in self.slope_limits:
            end = np.zeros(self.count)
            end[self.numbers_at] = question.at_numbers(question.ranges.numbers(place.z[self.numbers_at]))[3]
            allowed = np.outer(moving.slope * sizes / (moving.high - moving.low), end)
            rows += [allowed - steps, allowed + steps]
        return question.sign * ends[0], np.concatenate(rows), scaled[question.is_equal]

    def curvature(self, place: Place, of_left: np.ndarray, of_equal: np.ndarray) -> np.ndarray:
        """Second derivatives of objective - of_left left - of_equal equal, shape (z, z)."""
        assert isinstance(place, ProfilePlace)
        question, trajectories = self.question, place.trajectories
        dq, n = trajectories.sensitivities_of_points, trajectories.states.shape[2]
        weights, path = self.weights(of_left, of_equal)
        slopes_at_end = weights @ question.ends.slopes(place.last[None])[0]
        along = np.zeros((*dq.shape[:2], dq.shape[2]))
        found = dq[-1, 2].T @ question.ends.curvature(place.last[None], weights[None])[0] @ dq[-1, 2]
        if question.paths is not None and path.any():
            along[:, 2] = np.einsum("ep,epl->el", path, question.paths.slopes(place.path_points))
            second = question.paths.curvature(place.path_points, path)
            found = found + np.einsum("elz,ely->zy", dq[:, 2], second @ dq[:, 2])
        omega, of_first = trajectories.adjoint(slopes_at_end[:n], along[..., :n])
        found = found + trajectories.curvature(question.collocation.evaluator, omega)
        if len(self.numbers_at):
            pushed = trajectories.layout.lengths[:, None, None] * np.einsum("ejk,ejkl->ejl", omega, trajectories.slopes)
            of_inputs = (pushed + along).sum(axis=(0, 1)) + slopes_at_end
            begin = n + sum(len(m.symbols) for m in question.moving)
            of_touched = of_inputs[begin : begin + len(question.touched)]
            lengths = trajectories.layout.lengths
            end = question.at_numbers(question.ranges.numbers(place.z[self.numbers_at]))[2]
            of_end = float(np.einsum("ejk,ejk,e->", omega, trajectories.rates, lengths)) / end
            own = question.curved(place.z[self.numbers_at], np.concatenate([of_touched, [of_end], of_first]))
            found[np.ix_(self.numbers_at, self.numbers_at)] += own
        return np.asarray((found + found.T) / 2)

    def weights(self, of_left: np.ndarray, of_equal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The weights of objective and limits at the end, and of the limits along, shape (elements, limits)."""
        question, count = self.question, len(self.owner)
        held = np.zeros(len(question.at_end))
        inequalities = int((~question.is_equal).sum())
        held[~question.is_equal] = of_left[:inequalities]
        held[question.is_equal] = of_equal
        ends = np.concatenate([[question.sign], -held * question.end_signs / question.end_sizes])
        along = of_left[inequalities : inequalities + count * len(question.everywhere)]
        path = -along.reshape(len(question.everywhere), count).T * question.path_signs / question.path_sizes
        return ends, path

    def switching(self, place: ProfilePlace, of_left: np.ndarray, of_equal: np.ndarray) -> np.ndarray:
        """The derivative of the Hamiltonian by each free profile at each point, shape (elements, 3, moving).

        The gain of the Lagrange function per unit of the condition there, and per unit of the independent variable.
        """
        question, trajectories = self.question, place.trajectories
        n = trajectories.states.shape[2]
        weights, path = self.weights(of_left, of_equal)
        slopes_at_end = weights @ question.ends.slopes(place.last[None])[0]
        shape = (*trajectories.states.shape[:2], len(question.everywhere), n + len(question.inputs))
        along, direct = np.zeros((*shape[:2], shape[3])), np.zeros((*shape[:2], shape[3]))
        if question.paths is not None:
            along[:, 2] = np.einsum("ep,epl->el", path, question.paths.slopes(place.path_points))
        omega, _ = trajectories.adjoint(slopes_at_end[:n], along[..., :n])
        direct = np.einsum("ejk,ejkl->ejl", omega, trajectories.slopes) / QUADRATURE[:, None]
        direct = direct + along / (trajectories.layout.lengths[:, None, None] * QUADRATURE[:, None])
        found, column = [], n
        for moving in question.moving:
            rates = [b for _, b in moving.symbols.values()]
            found.append(direct[..., column : column + len(rates)] @ np.array(rates))
            column += len(rates)
        return np.stack(found, axis=-1)

    def nodes(self, z: np.ndarray) -> list[tuple[np.ndarray, np.ndarray]]:
        """Each free profile over fractions of the run: positions (two at one place are a step) and values in SI."""
        marks, found = self.marks(z), []
        held: Mapping[tuple[int, int], np.ndarray] = {(j, k): nodes for j, k, nodes in self.node_at}
        for k, moving in enumerate(self.question.moving):
            at: list[float] = []
            values: list[float] = []
            for j, phase in enumerate(self.phases):
                begin, end = float(marks[j]), float(marks[j + 1])
                if phase.kinds[k] != FREE:
                    level = moving.high if phase.kinds[k] == HIGH else moving.low
                    at, values = [*at, begin, end], [*values, level, level]
                    continue
                own = moving.low + (moving.high - moving.low) * z[held[j, k]]
                edges = begin + (end - begin) * np.array(phase.edges)
                if moving.kind == "linear":
                    at, values = [*at, *edges.tolist()], [*values, *own.tolist()]
                else:
                    for a, b, value in zip(edges[:-1], edges[1:], own, strict=True):
                        at, values = [*at, float(a), float(b)], [*values, float(value), float(value)]
            found.append((np.array(at), np.array(values)))
        return found
