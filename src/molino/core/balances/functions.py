"""The functions for integrations and steady states: of a case, with sensitivities, or with algebraic states."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.compiled import Compiled, Function, Maker, compiled
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.errors import SolveError

_MANY = 80
"""Number of states above which a Jacobian is treated as banded or sparse."""
_FULL = 0.15
"""Fraction of nonzero entries above which it is treated as full."""


def with_numbers(make: Maker, values: Sequence[float]) -> Function:
    """A generated function with the numbers of its parameters; SolveError if a constant has no finite value."""
    try:
        return make(values)
    except (ArithmeticError, ValueError) as error:
        advice = "check the temperature and the constants"
        raise SolveError(f"the rate constants have no finite value ({error})", "balances", advice) from error


class Functions:
    """Right-hand side and Jacobian of a case.

    `rhs(x, t)` and `jacobian(x, t)` are functions of the integrated states x; here all states.
    """

    def __init__(self, case: Case) -> None:
        self.balances, self.values = case.balances, case.values  # not the case, which would be a reference cycle
        self.whole: Compiled = compiled(case.balances)
        self.band: dict[str, int] = {}
        if len(case.balances.states) > _MANY and self.whole.grouped is None:
            self._choose_algebra()

    is_sparse = False
    by: tuple[sp.Symbol, ...] = ()
    """The parameters of sensitivities."""

    def _made(self, make: Maker) -> Function:
        """A function with the parameters of the case."""
        return with_numbers(make, self.values)

    @cached_property
    def rhs(self) -> Function:
        return self._made(self.whole.rhs)

    @cached_property
    def state_jacobian(self) -> Function:
        return self._made(self.whole.jacobian)

    @cached_property
    def jacobian(self) -> Function:
        return self.state_jacobian

    def callbacks(self) -> tuple[Function, Function]:
        """Right-hand side and Jacobian for one integration: they may return the same array at every call.

        The Jacobian is derived on first use: never for problems that are not stiff.
        """
        jacobian: Function | None = None

        def when_asked(y: np.ndarray, t: float) -> np.ndarray:
            nonlocal jacobian
            if jacobian is None:
                jacobian = self.jacobian if self.band else self._made(self.whole.filling_jacobian)
            return np.asarray(jacobian(y, t))

        return self._made(self.whole.filling_rhs), when_asked

    def _choose_algebra(self) -> None:
        """A band if all entries are near the diagonal, sparse algebra if they are few."""
        n = len(self.balances.states)
        pattern = np.array(self.whole.entries.pattern, dtype=int).reshape(-1, 2)
        below, above = int(np.max(pattern[:, 0] - pattern[:, 1])), int(np.max(pattern[:, 1] - pattern[:, 0]))
        entries = self.whole.entries.make(self.values)
        row, column = pattern.T
        if below + above + 1 < n / 4:
            place = (row - column + above, column)

            def packed(y: object, t: float) -> np.ndarray:
                full = np.zeros((below + above + 1, n))
                full[place] = entries(y, t)
                return full

            self.jacobian, self.band = packed, {"ml": below, "mu": above}
        elif len(pattern) < _FULL * n * n:
            self.is_sparse = True
            self._sparse = entries, row, column

    def sparse_jacobian_at(self, t: float, y: np.ndarray) -> scipy.sparse.csc_matrix:
        """The Jacobian as a sparse matrix."""
        entries, row, column = self._sparse
        n = len(self.balances.states)
        return scipy.sparse.csc_matrix((entries(np.asarray(y), t), (row, column)), shape=(n, n))

    def slopes(self, y: np.ndarray, t: float) -> np.ndarray:
        """dy/dt of all states."""
        return np.asarray(self.rhs(y, t), dtype=float)

    def first(self, y0: np.ndarray, slopes: np.ndarray | None, given: bool) -> np.ndarray:
        """The initial values of the integrated states."""
        return y0

    def kept(self, values: np.ndarray) -> np.ndarray:
        """The integrated states among values for all states."""
        return values

    def with_sensitivities(self, absolute: np.ndarray, scale: np.ndarray, sizes: np.ndarray) -> np.ndarray:
        """The absolute tolerances of states and sensitivities."""
        raise NotImplementedError

    def unfold(self, rows: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, np.ndarray | None]:
        """All states, and their sensitivities, from the integrated states."""
        return rows, None


class WithSensitivities(Functions):
    """The states followed by their sensitivities by some parameters, from the compiled equations of both."""

    def __init__(self, case: Case, by: tuple[sp.Symbol, ...]) -> None:
        super().__init__(case)
        self.by = by
        self.sensitivity = self.whole.sensitivity(by)
        self.band, self.is_sparse = {}, False

    def callbacks(self) -> tuple[Function, Function]:
        return self._made(self.sensitivity.filling), self.jacobian

    @cached_property
    def jacobian(self) -> Function:
        return self.sensitivity.jacobian(self.state_jacobian)

    def first(self, y0: np.ndarray, slopes: np.ndarray | None, given: bool) -> np.ndarray:
        if not given:
            return np.array(self.sensitivity.make_initial(self.values)(np.empty(0), 0.0), dtype=float)
        start = np.zeros((len(y0), len(self.by))) if slopes is None else slopes
        return np.concatenate([y0, self.sensitivity.fold(start)])

    def with_sensitivities(self, absolute: np.ndarray, scale: np.ndarray, sizes: np.ndarray) -> np.ndarray:
        return np.concatenate([absolute, [scale[i] / sizes[j] for i, j in self.sensitivity.place]])

    def unfold(self, rows: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, np.ndarray | None]:
        n = len(self.balances.states)
        return rows[:, :n], self.sensitivity.unfold(rows[:, n:])


class WithEquations(Functions):
    """Balances with algebraic states, 0 = g(x, z): z is solved for at every call.

    dx/dt = f(x, z(x)), d(dx/dt)/dx = f_x - f_z g_z^-1 g_x, by the implicit function theorem; index 1 means that g_z is
    regular. Sensitivities S = dx/dp likewise: dS/dt = (f_x - f_z g_z^-1 g_x) S + f_p - f_z g_z^-1 g_p.
    """

    def __init__(self, case: Case, by: tuple[sp.Symbol, ...] = ()) -> None:
        super().__init__(case)
        self.by = by
        self.z = np.flatnonzero(case.balances.algebraic)
        self.x = np.flatnonzero(~case.balances.algebraic)
        self.near = np.zeros(len(self.z))
        self.band, self.is_sparse = {}, False
        self.forcing = self.whole.gradient(case.balances.rhs, by)(case.values) if by else None

    def callbacks(self) -> tuple[Function, Function]:
        return self._rhs, self._jacobian

    @cached_property
    def _size(self) -> np.ndarray:
        start = np.array(self.whole.start(self.values)(np.empty(0), 0.0), dtype=float)
        scale = start[len(start) // 2 :]
        return np.where(scale > 0, scale, 1.0)[self.z]

    def solve(self, x: np.ndarray, t: float) -> np.ndarray:
        """All states at x: z by Newton's method from its last value."""
        y = np.empty(len(self.x) + len(self.z))
        y[self.x], y[self.z] = x, self.near
        for _ in range(50):
            off = np.asarray(self.rhs(y, t))[self.z]
            by = np.asarray(self.state_jacobian(y, t))[np.ix_(self.z, self.z)]
            try:
                step = np.linalg.solve(by, off)
            except np.linalg.LinAlgError as error:
                raise NotFinite(ArithmeticError("the equations are singular"), y, t) from error
            y[self.z] -= step
            if np.max(np.abs(step) / np.maximum(self._size, np.abs(y[self.z]))) < 1e-13:
                self.near = y[self.z].copy()
                return y
        raise NotFinite(ArithmeticError("the equations have no solution near"), y, t)

    def _parts(self, y: np.ndarray, t: float) -> tuple[np.ndarray, np.ndarray]:
        """The Jacobian of x alone, and f_z g_z^-1."""
        full = np.asarray(self.state_jacobian(y, t))
        factors = scipy.linalg.lu_factor(full[np.ix_(self.z, self.z)].T)
        through = scipy.linalg.lu_solve(factors, full[np.ix_(self.x, self.z)].T).T
        return full[np.ix_(self.x, self.x)] - through @ full[np.ix_(self.z, self.x)], through

    def _rhs(self, x: np.ndarray, t: float) -> np.ndarray:
        n = len(self.x)
        y = self.solve(x[:n], t)
        dx = np.asarray(self.rhs(y, t), dtype=float)[self.x]
        if self.forcing is None:
            return dx
        own, through = self._parts(y, t)
        by = self.forcing(y, t)
        S = x[n:].reshape(n, len(self.by))
        return np.concatenate([dx, (own @ S + by[self.x] - through @ by[self.z]).ravel()])

    def _jacobian(self, x: np.ndarray, t: float) -> np.ndarray:
        n = len(self.x)
        own, _ = self._parts(self.solve(x[:n], t), t)
        return own if self.forcing is None else scipy.linalg.block_diag(own, np.kron(own, np.eye(len(self.by))))

    def slopes(self, y: np.ndarray, t: float) -> np.ndarray:
        full = np.asarray(self.state_jacobian(y, t))
        found = np.array(self.rhs(y, t), dtype=float)
        independent = self.balances.independent
        by_t = self.whole.gradient(self.balances.rhs, (independent,))(self.values)(y, t)[self.z, 0]
        moved = full[np.ix_(self.z, self.x)] @ found[self.x] + by_t
        found[self.z] = -np.linalg.solve(full[np.ix_(self.z, self.z)], moved)
        return found

    def first(self, y0: np.ndarray, slopes: np.ndarray | None, given: bool) -> np.ndarray:
        self.near = y0[self.z].copy()
        if not self.by:
            return y0[self.x]
        if slopes is None and not given:
            slopes = np.zeros((len(y0), len(self.by)))
            for i, state in enumerate(self.balances.states):
                for j, p in enumerate(self.by):
                    slope = state.initial.diff(p)
                    slopes[i, j] = (
                        float(slope.xreplace(dict(zip(self.balances.parameters, self.values, strict=True))))
                        if slope != 0
                        else 0.0
                    )
        start = np.zeros((len(y0), len(self.by))) if slopes is None else slopes
        return np.concatenate([y0[self.x], start[self.x].ravel()])

    def kept(self, values: np.ndarray) -> np.ndarray:
        return values[self.x] if not self.by else values

    def with_sensitivities(self, absolute: np.ndarray, scale: np.ndarray, sizes: np.ndarray) -> np.ndarray:
        return np.concatenate([absolute[self.x], (scale[self.x, None] / sizes).ravel()])

    def unfold(self, rows: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, np.ndarray | None]:
        n = len(self.x)
        states = np.array([self.solve(row[:n], t) for row, t in zip(rows, points, strict=True)])
        if not self.by:
            return states, None
        sensitivities = np.zeros((len(rows), states.shape[1], len(self.by)))
        assert self.forcing is not None
        for k, (row, y, t) in enumerate(zip(rows, states, points, strict=True)):
            S, full, by = row[n:].reshape(n, len(self.by)), self.state_jacobian(y, t), self.forcing(y, t)
            sensitivities[k, self.x] = S
            right = full[np.ix_(self.z, self.x)] @ S + by[self.z]
            sensitivities[k, self.z] = -np.linalg.solve(full[np.ix_(self.z, self.z)], right)
        return states, sensitivities


def functions_of(case: Case, by: tuple[sp.Symbol, ...] = ()) -> Functions:
    """The functions for an integration of a case; read-only."""
    if case.balances.has_equations:
        return WithEquations(case, by)
    if by:
        return WithSensitivities(case, by)
    if "functions" not in case.remembered:
        case.remembered["functions"] = Functions(case)
    return case.remembered["functions"]  # type: ignore[no-any-return]
