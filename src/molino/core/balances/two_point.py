"""Balances with conditions at both ends (dispersion): states over the whole interval at once, by collocation.

With dispersion the balances are unstable in both directions, so that they cannot be integrated from one end. The states
at all places are found together by collocation at Lobatto points, of fourth order, on a mesh adapted to the residual
(J. Kierzenka, L. F. Shampine, ACM Trans. Math. Softw. 27 (2001) 299), by `scipy.integrate.solve_bvp`. Sensitivities are
those of the collocation equations themselves, by one linear system for all parameters.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.collocation import PointEvaluator, PointFunctions
from molino.core.balances.system import Balances, Case
from molino.core.errors import SolveError

_BELOW_ZERO = 1e-4
"""Largest negative amount of a first solution that is its error, relative to the largest amount."""
_MOST_NODES = 20_000
_FIRST_NODES = 41
_DENSE_NODES = 401
_STRETCHES = (0.01, 0.03, 0.1, 0.3, 0.6, 1.0)
"""Fractions of the whole interval, each the guess of the next, if a flat guess fails."""
_TIGHTEST = 1e-9
_LOOSEST = 1e-6
"""Relative residuals: the smallest that is requested, and the largest that is returned."""


@lru_cache(maxsize=256)
def _functions(balances: Balances, which: str, inputs: tuple[sp.Symbol, ...]) -> PointFunctions:
    """Right-hand sides, initial values or conditions, with their derivatives by the states, the place and some
    parameters."""
    expressions = {
        "rhs": balances.rhs,
        "beginning": tuple(state.initial for state in balances.states),
        "conditions": tuple(e for _, e in balances.conditions),
    }[which]
    return PointFunctions(balances, expressions, (balances.independent, *inputs))


class TwoPoint:
    """The states of a case over the whole interval between its conditions.

    Parameters
    ----------
    case : Case
        Of balances with an `extent`.
    scale : array, shape (states,)
        Sizes at which the states matter.
    rtol : float
        Relative residual between the nodes.

    Raises
    ------
    SolveError
        If no states meet the conditions at both ends.
    """

    def __init__(self, case: Case, scale: np.ndarray, rtol: float) -> None:
        self.case, self.scale, self.rtol = case, scale, max(rtol, _TIGHTEST)
        balances = case.balances
        assert balances.extent is not None
        self.end = case.value(balances.extent)
        self.unknown = tuple(symbol for symbol, _ in balances.conditions)
        self.n, self.k = len(balances.states), len(self.unknown)
        self._solve()

    def _evaluator(self, which: str, by: tuple[sp.Symbol, ...]) -> PointEvaluator:
        functions = _functions(self.case.balances, which, by)
        return functions.at([self.case.value(p) for p in functions.fixed])

    def _columns(self, x: np.ndarray, y: np.ndarray, by: tuple[sp.Symbol, ...], p: np.ndarray) -> np.ndarray:
        """Points for an evaluator: states in SI, place, and the values of `by`, those of the unknowns being p."""
        values = {**{s: self.case.value(s) for s in by}, **dict(zip(self.unknown, p, strict=True))}
        rest = [np.full(len(x), values[s]) for s in by]
        return np.column_stack([y.T * self.scale, x * self.end, *rest])

    def _first(self, attempt: Any, attempt_part: Any, begins: np.ndarray, p: np.ndarray) -> Any:
        """A first profile: from a flat one, from profiles of the vessel without dispersion, or by lengthening it."""
        mesh = np.linspace(0.0, 1.0, _FIRST_NODES)
        flat = np.repeat(begins[:, None], _FIRST_NODES, axis=1)
        found = attempt(mesh, flat, p, 1e-4)
        dense = np.linspace(0.0, 1.0, _DENSE_NODES)
        for states in self._near(dense, begins) if not self._is_physical(found) else ():
            found = attempt(dense, states, p, 1e-4)
            if self._is_physical(found):
                break
        if not self._is_physical(found):
            near = (mesh, flat, p)
            for part in _STRETCHES:
                found = attempt_part(part, *near)
                if found is None:
                    break
                near = found.x, found.y, found.p
        return found

    def _solve(self) -> None:
        n, k, scale = self.n, self.k, self.scale
        first = np.array([self.case.value(symbol) for symbol in self.unknown])
        size = np.where(first != 0, np.abs(first), 1.0)
        rhs, beginning, conditions = (self._evaluator(w, self.unknown) for w in ("rhs", "beginning", "conditions"))
        share = 1.0
        # a condition is scaled by its state at the guess
        begins = beginning.value(self._columns(np.zeros(1), np.zeros((n, 1)), self.unknown, first))[0] / scale
        at_end = self._columns(np.ones(1), begins[:, None], self.unknown, first)
        weights = np.max(np.abs(conditions.slopes(at_end)[0][:, :n] * scale), axis=1)

        def fun(x: np.ndarray, y: np.ndarray, p: np.ndarray) -> np.ndarray:
            found = rhs.value(self._columns(x * share, y, self.unknown, p * size))
            return found.T * (self.end * share / scale)[:, None]

        def slopes(x: np.ndarray, y: np.ndarray, p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            found = rhs.slopes(self._columns(x * share, y, self.unknown, p * size))
            found = found * (self.end * share / scale)[:, None]
            by_y, by_p = found[..., :n] * scale, found[..., n + 1 :] * size
            return by_y.transpose(1, 2, 0), by_p.transpose(1, 2, 0)

        def ends(left: np.ndarray, right: np.ndarray, p: np.ndarray) -> np.ndarray:
            start = beginning.value(self._columns(np.zeros(1), left[:, None], self.unknown, p * size))[0]
            there = conditions.value(self._columns(np.array([share]), right[:, None], self.unknown, p * size))[0]
            return np.concatenate([left - start / scale, there / weights])

        def end_slopes(left: np.ndarray, right: np.ndarray, p: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
            start = beginning.slopes(self._columns(np.zeros(1), left[:, None], self.unknown, p * size))[0]
            there = conditions.slopes(self._columns(np.array([share]), right[:, None], self.unknown, p * size))[0]
            by_left = np.vstack([np.eye(n), np.zeros((k, n))])
            by_right = np.vstack([np.zeros((n, n)), there[:, :n] * scale / weights[:, None]])
            by_p = np.vstack([-start[:, n + 1 :] / scale[:, None], there[:, n + 1 :] / weights[:, None]]) * size
            return by_left, by_right, by_p

        def attempt(x: np.ndarray, y: np.ndarray, p: np.ndarray, tol: float) -> Any:
            options = {"fun_jac": slopes, "bc_jac": end_slopes, "tol": tol, "max_nodes": _MOST_NODES}
            try:
                with np.errstate(all="ignore"):
                    found = scipy.integrate.solve_bvp(fun, ends, x, y, p, **options)
            except (ValueError, ArithmeticError, np.linalg.LinAlgError):
                return None
            return found if found.status == 0 and np.isfinite(found.y).all() else None

        def attempt_part(part: float, x: np.ndarray, y: np.ndarray, p: np.ndarray) -> Any:
            nonlocal share
            share = part
            found = attempt(x, y, p, 1e-3)
            share = 1.0
            return found

        found = self._first(attempt, attempt_part, begins, first / size)
        if found is not None:
            found = self._tightened(attempt, found)
        if found is None:
            message = "no profile was found that meets the conditions at both ends"
            raise SolveError(message, "collocation", "try more dispersion, a shorter vessel, or less heat of reaction")
        self.x, self.y, self.p = found.x, found.y, found.p * size
        self.sol = found.sol
        self.evaluations = int(found.niter)

    def _is_physical(self, found: Any) -> bool:
        """Whether there is a solution without negative amounts: the equations also have others."""
        if found is None:
            return False
        amounts = found.y[self.case.balances.amounts]
        return bool(amounts.min(initial=0.0) >= -_BELOW_ZERO * np.abs(amounts).max(initial=0.0))

    def _near(self, shares: np.ndarray, begins: np.ndarray) -> Iterator[np.ndarray]:
        """Scaled states of the guesses of the case, as far as they can be computed."""
        for known in self.case.remembered["near"](shares) if "near" in self.case.remembered else ():
            states = np.repeat(begins[:, None], len(shares), axis=1)
            for i, symbol in enumerate(self.case.balances.symbols):
                if symbol in known:
                    states[i] = known[symbol] / self.scale[i]
            yield states

    def _tightened(self, attempt: Callable[..., Any], found: Any) -> Any:
        """The same to the tolerance, or as near as the nodes and the rounding of steep profiles allow."""
        best = None
        for tol in (_LOOSEST, 1e-7, 1e-8, self.rtol):
            if tol < self.rtol:
                continue
            closer = attempt(found.x, found.y, found.p, tol)
            if closer is None:
                break
            best = found = closer
        return best

    def at(self, points: np.ndarray) -> np.ndarray:
        """States at some places, shape (points, states)."""
        return np.asarray(self.sol(np.clip(points / self.end, 0.0, 1.0)).T * self.scale)

    def nodes_before(self, points: np.ndarray) -> np.ndarray:
        """The number of elements of the mesh before each point."""
        return np.searchsorted(self.x, points / self.end * (1 + 1e-12), side="right") - 1

    def sensitivities(self, points: np.ndarray, by: tuple[sp.Symbol, ...]) -> np.ndarray:
        """d(state)/d(parameter) at some places, shape (points, states, parameters)."""
        nodes, slopes = self._linearized(by)
        found = scipy.interpolate.CubicHermiteSpline(self.x, nodes, slopes, axis=0)(points / self.end)
        extent = self.case.balances.extent
        if extent in by:  # the mesh is proportional to the extent; a place in the vessel is not
            at = self.at(points)
            rhs = self._evaluator("rhs", self.unknown).value(
                self._columns(points / self.end, at.T / self.scale[:, None], self.unknown, self.p)
            )
            found[:, :, by.index(extent)] -= (points / self.end)[:, None] * rhs / self.scale
        return np.asarray(found * self.scale[:, None])

    @cached_property
    def _middle(self) -> tuple[np.ndarray, np.ndarray]:
        middle = (self.x[1:] + self.x[:-1]) / 2
        return middle, np.asarray(self.sol(middle))

    def _parts(self, x: np.ndarray, y: np.ndarray, by: tuple[sp.Symbol, ...]) -> tuple[np.ndarray, np.ndarray]:
        """Derivatives of the scaled right-hand sides by the states, and by parameters, at some places."""
        extent = self.case.balances.extent
        columns = self._columns(x, y, by, self.p)
        evaluator, n = self._evaluator("rhs", by), self.n
        found = evaluator.slopes(columns) * (self.end / self.scale[:, None])
        by_p = found[..., n + 1 :].copy()
        if extent in by:  # dy/dx = end f(y, x end): of the end also as a factor, and of the place
            j = by.index(extent)
            by_p[..., j] += evaluator.value(columns) / self.scale + x[:, None] * found[..., n]
        return found[..., :n] * self.scale, by_p

    def _linearized(self, by: tuple[sp.Symbol, ...]) -> tuple[np.ndarray, np.ndarray]:
        """Sensitivities of the scaled states at the nodes, and their derivatives along the interval, shape (nodes,
        states, parameters)."""
        n, k, m = self.n, self.k, len(self.x)
        wanted = (*by, *(u for u in self.unknown if u not in by))
        order = [wanted.index(u) for u in self.unknown]
        J, g = self._parts(self.x, self.y, wanted)
        middle, between = self._middle
        Jm, gm = self._parts(middle, between, wanted)
        h, eye = np.diff(self.x)[:, None, None], np.eye(n)
        left = -eye - h / 6 * (J[:-1] + 4 * Jm @ (eye / 2 + h / 8 * J[:-1]))
        right = eye - h / 6 * (J[1:] + 4 * Jm @ (eye / 2 - h / 8 * J[1:]))
        free = h / 6 * (g[:-1] + g[1:] + 4 * (gm - h / 8 * Jm @ (g[1:] - g[:-1])))
        beginning, conditions = (self._evaluator(w, wanted) for w in ("beginning", "conditions"))
        b = beginning.slopes(self._columns(np.zeros(1), self.y[:, :1], wanted, self.p))[0][:, n + 1 :]
        c = conditions.slopes(self._columns(np.ones(1), self.y[:, -1:], wanted, self.p))[0]
        b = b / self.scale[:, None]
        size = np.max(np.abs(c[:, :n] * self.scale), axis=1, keepdims=True)
        c_y, c_p = c[:, :n] * self.scale / size, c[:, n + 1 :] / size
        if self.case.balances.extent in by:
            c_p[:, by.index(self.case.balances.extent)] += c[:, n] / size[:, 0]
        # the unknown initial values are the last k columns, in units of their size
        unit = np.where(self.p != 0, np.abs(self.p), 1.0)
        rows, columns, entries = [], [], []

        def put(block: np.ndarray, row: np.ndarray, column: np.ndarray) -> None:
            rows.append(np.broadcast_to(row, block.shape).ravel())
            columns.append(np.broadcast_to(column, block.shape).ravel())
            entries.append(block.ravel())

        one, element = np.arange(n), np.arange(m - 1)[:, None, None] * n
        put(left, element + one[:, None], element + one)
        put(right, element + one[:, None], element + n + one)
        put(-free[:, :, order] * unit, element + one[:, None], np.arange(m * n, m * n + k))
        base = (m - 1) * n
        put(eye, base + one[:, None], one[None])
        put(-b[:, order] * unit, base + one[:, None], np.arange(m * n, m * n + k)[None])
        put(c_y, base + n + np.arange(k)[:, None], base + one[None])
        put(c_p[:, order] * unit, base + n + np.arange(k)[:, None], np.arange(m * n, m * n + k)[None])
        size_of = m * n + k
        matrix = scipy.sparse.coo_matrix(
            (np.concatenate(entries), (np.concatenate(rows), np.concatenate(columns))), (size_of, size_of)
        ).tocsc()
        # derivatives by the unknowns are zero: they follow from the conditions
        given = np.array([s not in self.unknown for s in by], dtype=float)
        right_side = np.concatenate([free[:, :, : len(by)].reshape(-1, len(by)), b[:, : len(by)], -c_p[:, : len(by)]])
        found = scipy.sparse.linalg.splu(matrix).solve(right_side * given)
        nodes = found[: m * n].reshape(m, n, len(by))
        moved = found[m * n :] * unit[:, None]
        slopes = J @ nodes + g[:, :, : len(by)] * given + g[:, :, order] @ moved
        return nodes, slopes
