"""Balances over a whole interval at once, by collocation, with exact first and second derivatives of the outlet.

Each element has three Radau points, of order five at its end (E. Hairer, G. Wanner, Solving Ordinary Differential
Equations II, 2nd ed. 1996, section IV.5). All elements are evaluated together, as columns; Newton's method, the
sensitivities and the adjoint equations go from one element to the next by small precomputed matrices.

Some parameters of the balances are inputs, with a value at each point. A design z determines the inputs, the lengths of
the elements and the initial state, by a `Layout`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.annotations import PlainData
from molino.core.balances.derivatives import Derivatives
from molino.core.balances.source import Generated, build
from molino.core.balances.system import ZERO, Balances
from molino.core.errors import SolveError
from molino.core.symbols import Role

_ROOT = np.sqrt(6.0)
NODES = np.array([(4 - _ROOT) / 10, (4 + _ROOT) / 10, 1.0])
"""The Radau points of an element."""
TABLEAU = np.array(
    [
        [(88 - 7 * _ROOT) / 360, (296 - 169 * _ROOT) / 1800, (-2 + 3 * _ROOT) / 225],
        [(296 + 169 * _ROOT) / 1800, (88 + 7 * _ROOT) / 360, (-2 - 3 * _ROOT) / 225],
        [(16 - _ROOT) / 36, (16 + _ROOT) / 36, 1 / 9],
    ]
)
QUADRATURE = TABLEAU[2]
_MOST_NEWTON = 12
_CONVERGED = 1e-11
_WEIGHT = Role("weight", "weight {}")


class PointFunctions:
    """Some expressions of balances with their derivatives by states and inputs, at many points at once.

    Parameters
    ----------
    balances : Balances
    expressions : sequence of expressions
    inputs : sequence of Symbol
        Parameters, or the independent variable, with a value at each point.
    """

    def __init__(self, balances: Balances, expressions: Sequence[sp.Expr], inputs: Sequence[sp.Symbol]) -> None:
        self.balances, self.expressions = balances, tuple(expressions)
        self.local = (*balances.symbols, *inputs)
        self.fixed = tuple(p for p in balances.parameters if p not in inputs)
        self.independent = balances.independent if balances.independent not in inputs else sp.Symbol("unused")

    def _build(
        self, definitions: dict[sp.Symbol, sp.Expr], outputs: list[sp.Expr], more: Iterable[sp.Symbol] = ()
    ) -> Generated:
        return build(definitions, outputs, (*self.local, *more), self.independent, self.fixed, array=True)

    @cached_property
    def _values(self) -> Generated:
        return self._build(dict(self.balances.definitions), list(self.expressions))

    @cached_property
    def _first(self) -> tuple[Derivatives, list[dict[sp.Symbol, sp.Expr]]]:
        derivatives = Derivatives(self.balances.definitions, self.local)
        return derivatives, [derivatives.of(e) for e in self.expressions]

    @cached_property
    def _slopes(self) -> tuple[Generated, list[tuple[int, int]]]:
        derivatives, rows = self._first
        column = {s: j for j, s in enumerate(self.local)}
        entries = {(i, column[s]): e for i, row in enumerate(rows) for s, e in row.items()}
        return self._build(derivatives.definitions, list(entries.values())), list(entries)

    @cached_property
    def _curvature(self) -> tuple[Generated, list[tuple[int, int]]]:
        """Second derivatives of the weighted sum of the expressions, with weights at each point."""
        derivatives, rows = self._first
        weights = [_WEIGHT(str(i)) for i in range(len(rows))]
        sums: dict[sp.Symbol, sp.Expr] = {}
        for weight, row in zip(weights, rows, strict=True):
            for symbol, slope in row.items():
                sums[symbol] = sums.get(symbol, ZERO) + weight * slope
        second = Derivatives(derivatives.definitions.items(), self.local)
        column = {s: j for j, s in enumerate(self.local)}
        entries: dict[tuple[int, int], sp.Expr] = {}
        for symbol, slope in sums.items():
            for other, e in second.of(slope).items():
                if column[other] <= column[symbol]:
                    entries[column[symbol], column[other]] = e
        return self._build(second.definitions, list(entries.values()), weights), list(entries)

    def at(self, values: Sequence[float]) -> PointEvaluator:
        """With the numbers of the other parameters, in the order of `fixed`."""
        return PointEvaluator(self, tuple(values))


@dataclass(eq=False)
class PointEvaluator:
    """`PointFunctions` with numbers."""

    functions: PointFunctions
    values: tuple[float, ...]

    @cached_property
    def _made(self) -> PlainData:
        return {}

    def _call(self, name: str, generated: Generated, columns: np.ndarray) -> np.ndarray:
        """Rows of outputs, shape (outputs, points)."""
        if name not in self._made:
            self._made[name] = generated(self.values)
        with np.errstate(all="ignore"):
            rows = self._made[name](columns, 0.0)
        found = np.empty((len(rows), columns.shape[1]))
        for i, row in enumerate(rows):
            found[i] = row
        return found

    def value(self, points: np.ndarray) -> np.ndarray:
        """For points of shape (points, local): shape (points, expressions)."""
        return self._call("value", self.functions._values, points.T).T

    def slopes(self, points: np.ndarray) -> np.ndarray:
        """Shape (points, expressions, local)."""
        generated, places = self.functions._slopes
        full = np.zeros((len(points), len(self.functions.expressions), len(self.functions.local)))
        for (i, j), row in zip(places, self._call("slopes", generated, points.T), strict=True):
            full[:, i, j] = row
        return full

    def curvature(self, points: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """Second derivatives of the weighted sum, weights of shape (points, expressions): (points, local, local)."""
        generated, places = self.functions._curvature
        n = len(self.functions.local)
        full = np.zeros((len(points), n, n))
        rows = self._call("curvature", generated, np.concatenate([points, weights], axis=1).T)
        for (i, j), row in zip(places, rows, strict=True):
            full[:, i, j] = row
            full[:, j, i] = row
        return full


@dataclass(eq=False)
class Layout:
    """The values determined by a design z: inputs, lengths, initial state, and their derivatives by z.

    Attributes
    ----------
    inputs : array, shape (elements, 3, inputs)
    by_inputs : array, shape (elements, 3, inputs, z)
    lengths : array, shape (elements,)
    by_lengths : array, shape (elements, z)
    curving : pair of arrays, shapes (elements, z) and (z,)
        The factors of s_i b_j + b_i s_j, the second derivatives of the lengths: a length is a fraction of the run times
        its duration, and both are linear in z.
    first : array, shape (states,)
    by_first : array, shape (states, z)
    """

    inputs: np.ndarray
    by_inputs: np.ndarray
    lengths: np.ndarray
    by_lengths: np.ndarray
    curving: tuple[np.ndarray, np.ndarray]
    first: np.ndarray
    by_first: np.ndarray


@dataclass(eq=False)
class Trajectories:
    """The states at all points of a layout, shape (elements, 3, states), with their derivatives.

    Attributes
    ----------
    layout : Layout
    states : array, shape (elements, 3, states)
    rates : array, shape (elements, 3, states)
        Right-hand sides at the points.
    slopes : array, shape (elements, 3, states, local)
        Of the right-hand sides.
    inverse : array, shape (elements, 3 states, 3 states)
        Of the matrix of the collocation equations of each element.
    """

    layout: Layout
    states: np.ndarray
    rates: np.ndarray
    slopes: np.ndarray
    inverse: np.ndarray

    @cached_property
    def points(self) -> np.ndarray:
        """States and inputs, shape (elements, 3, local)."""
        return np.concatenate([self.states, self.layout.inputs], axis=2)

    @cached_property
    def sensitivities(self) -> np.ndarray:
        """d(state)/dz, shape (elements, 3, states, z)."""
        layout = self.layout
        count, _, n = self.states.shape
        by_inputs = self.slopes[..., n:] @ layout.by_inputs
        pushed = layout.lengths[:, None, None] * (TABLEAU @ by_inputs.reshape(count, 3, -1))
        moved = (TABLEAU @ self.rates).reshape(count, 3 * n, 1) * layout.by_lengths[:, None, :]
        own = (self.inverse @ (pushed.reshape(count, 3 * n, -1) + moved)).reshape(count, 3, n, -1)
        found, carried = own, self._carried
        before = layout.by_first
        for e in range(count):
            found[e] += carried[e] @ before
            before = found[e, 2]
        return np.asarray(found)

    @cached_property
    def _carried(self) -> np.ndarray:
        """d(states of an element)/d(state at its beginning), shape (elements, 3, states, states)."""
        count, _, n = self.states.shape
        return np.asarray(self.inverse.reshape(count, 3 * n, 3, n).sum(axis=2).reshape(count, 3, n, n))

    @cached_property
    def sensitivities_of_points(self) -> np.ndarray:
        """d(state or input)/dz, shape (elements, 3, local, z)."""
        return np.concatenate([self.sensitivities, self.layout.by_inputs], axis=2)

    def adjoint(self, at_end: np.ndarray, along: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """The weights of the right-hand sides at the points in a function of the states, shape (elements, 3, states),
        and its derivatives by the initial state.

        The weights times the length of their element are the function's derivatives by the right-hand sides.

        Parameters
        ----------
        at_end : array, shape (states,)
            The function's derivatives by the states at the end.
        along : array, shape (elements, 3, states), optional
            Its derivatives by the states at the points.
        """
        count, _, n = self.states.shape
        transposed = self.inverse.transpose(0, 2, 1)
        found, after = np.empty((count, 3 * n)), np.asarray(at_end, dtype=float)
        for e in range(count - 1, -1, -1):
            total = np.zeros(3 * n) if along is None else along[e].ravel().copy()
            total[2 * n :] += after
            found[e] = transposed[e] @ total
            after = found[e].reshape(3, n).sum(axis=0)
        return np.einsum("ij,eik->ejk", TABLEAU, found.reshape(count, 3, n)), after

    def curvature(self, evaluator: PointEvaluator, weights: np.ndarray) -> np.ndarray:
        """The contribution of the balances to the second derivatives of a function by z, shape (z, z).

        `weights` are those of `adjoint`. With the right-hand sides f, lengths h and weights w of the points q it is the
        sum of h dq' (w f)'' dq + dh' (w f' dq) + (w f' dq)' dh + (w f) h''.
        """
        layout, dq = self.layout, self.sensitivities_of_points
        count, _, size, nz = dq.shape
        flat = self.points.reshape(count * 3, size)
        second = evaluator.curvature(flat, weights.reshape(count * 3, -1)).reshape(count, 3, size, size)
        second = second * layout.lengths[:, None, None, None]
        half = (second @ dq).reshape(count * 3 * size, nz)
        found = dq.reshape(count * 3 * size, nz).T @ half
        if layout.by_lengths.any():
            turned = weights[:, :, None, :] @ self.slopes
            per_element = (turned.reshape(count, 1, -1) @ dq.reshape(count, -1, nz))[:, 0]
            cross = layout.by_lengths.T @ per_element
            shares, whole = layout.curving
            curved = np.outer(np.einsum("ejk,ejk->e", weights, self.rates) @ shares, whole)
            found += cross + cross.T + curved + curved.T
        return np.asarray(found)


class Collocation:
    """The collocation equations of balances with inputs.

    Parameters
    ----------
    evaluator : PointEvaluator
        Of the right-hand sides.
    scale : array, shape (states,)
        Scales of the states.
    """

    def __init__(self, evaluator: PointEvaluator, scale: np.ndarray) -> None:
        self.evaluator, self.scale = evaluator, scale

    def solve(self, layout: Layout, guess: np.ndarray) -> Trajectories:
        """The states at all points, by Newton's method from a guess of shape (elements, 3, states).

        Raises
        ------
        SolveError
            If it does not converge.
        """
        states, last = guess, np.inf
        count, _, n = guess.shape
        for _ in range(_MOST_NEWTON):
            points = np.concatenate([states, layout.inputs], axis=2).reshape(count * 3, -1)
            rates = self.evaluator.value(points).reshape(count, 3, n)
            slopes = self.evaluator.slopes(points).reshape(count, 3, n, -1)
            if not (np.isfinite(rates).all() and np.isfinite(slopes).all()):
                break
            by_states = -layout.lengths[:, None, None, None] * slopes[..., :n].transpose(0, 2, 1, 3)
            matrix = TABLEAU[None, :, None, :, None] * by_states[:, None]
            matrix = matrix.reshape(count, 3 * n, 3 * n)
            matrix[:, np.arange(3 * n), np.arange(3 * n)] += 1.0
            inverse = np.linalg.inv(matrix)
            found = Trajectories(layout, states, rates, slopes, inverse)
            begins = np.concatenate([layout.first[None], states[:-1, 2]])
            left = begins[:, None] + layout.lengths[:, None, None] * (TABLEAU @ rates) - states
            own = (inverse @ left.reshape(count, 3 * n, 1)).reshape(count, 3, n)
            carried, change, step = found._carried, np.zeros(n), own
            for e in range(count):
                step[e] += carried[e] @ change
                change = step[e, 2]
            size = float(np.max(np.abs(step) / self.scale))
            if size < _CONVERGED or (size < 1e-7 and size > 0.5 * last):
                return found
            if not size < 1e6:
                break
            states, last = states + step, size
        raise SolveError("the balances could not be solved over the whole run", "collocation", "choose other bounds")
