"""Many cases of the same balances at once, as columns of numbers.

All cases are integrated as one system whose Jacobian is a band of small blocks, so that a thousand cost little more
than a few. LSODA limits the largest weighted error of all states (A. C. Hindmarsh, 1983), and so that of each case.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np

from molino.core.balances.compiled import compiled
from molino.core.balances.engines import lsoda
from molino.core.balances.integrate import end_state
from molino.core.balances.machine.choice import machine_of, spent
from molino.core.balances.settings import ATOL, RTOL, Settings
from molino.core.balances.steady import HORIZONS, SETTLING, steady
from molino.core.balances.system import Balances, Case
from molino.core.errors import SolveError

_MOST_STEPS = 20_000
PER_EVALUATION = 100
"""Number of cases in arrays that are evaluated in the time of one case by itself, about."""


def _columns(rows: list[np.ndarray | float], cases: int) -> np.ndarray:
    """Generated outputs, arrays or single numbers, as an array of shape (outputs, cases)."""
    full = np.empty((len(rows), cases))
    for i, row in enumerate(rows):
        full[i] = row
    return full


class _Many:
    """Right-hand sides and Jacobians of many cases; states have shape (states, cases)."""

    def __init__(self, balances: Balances, values: np.ndarray) -> None:
        self.whole, self.balances, self.values = compiled(balances), balances, values
        self.cases, self.n = len(values), len(balances.states)
        self.parameters = list(
            values.T.copy()
        )  # in NumPy an array times a number is slower than the product of two arrays

    @cached_property
    def evaluate(self) -> Callable[[Any, Any], list[Any]]:
        return self.whole.outputs(self.balances.rhs)(self.parameters)

    @cached_property
    def entries(self) -> Callable[[Any, Any], list[Any]]:
        return self.whole.entries.make_array(self.parameters)

    @cached_property
    def pattern(self) -> np.ndarray:
        return np.array(self.whole.entries.pattern, dtype=int).reshape(-1, 2).T

    def start(self) -> tuple[np.ndarray, np.ndarray]:
        states = self.balances.states
        make = self.whole.outputs((*(s.initial for s in states), *(s.scale for s in states)))
        both = _columns(make(self.parameters)(np.zeros((self.n, self.cases)), 0.0), self.cases)
        return both[: self.n], np.where(both[self.n :] > 0, both[self.n :], 1.0)

    def completed(self, y: np.ndarray, is_missing: np.ndarray, time_scales: np.ndarray) -> np.ndarray:
        """Steady states, shape (cases, states), the missing ones solved one by one; nan for a case that has none."""
        for i in np.flatnonzero(is_missing).tolist():
            y[:, i] = np.nan
            with contextlib.suppress(SolveError):
                y[:, i] = steady(self.case(i), float(time_scales[i]))[0]
        return np.asarray(y.T)

    def case(self, i: int) -> Case:
        """One of them by itself."""
        return Case(self.balances, tuple(self.values[i].tolist()))

    def rhs(self, y: np.ndarray, t: np.ndarray | float) -> np.ndarray:
        return _columns(self.evaluate(y, t), self.cases)

    def jacobian(self, y: np.ndarray, t: np.ndarray | float) -> np.ndarray:
        """Nonzero entries, shape (entries, cases)."""
        return _columns(self.entries(y, t), self.cases)


def integrate_many(
    balances: Balances, values: np.ndarray, ends: np.ndarray, *, rtol: float = RTOL, atol: float = ATOL
) -> np.ndarray:
    """Integrate each case from its initial state at 0 to its own end.

    Parameters
    ----------
    balances : Balances
    values : array, shape (cases, parameters)
    ends : array, shape (cases,)

    Returns
    -------
    array, shape (cases, states)
        nan for a case that cannot be integrated.

    Raises
    ------
    SolveError
        If all are integrated as one system, and one of them cannot be integrated, or slows the others.
    """
    many = _Many(balances, values)
    machine = None if balances.kinks else machine_of(many.whole)
    if machine is None and not balances.kinks:
        return _together(many, ends, rtol, atol)
    if machine is not None:
        found = machine.ends(np.ascontiguousarray(values), ends, Settings(rtol, atol, most=_MOST_STEPS))
    else:  # each case has its own place at which a reactant is exhausted
        found = np.full((many.cases, many.n), np.nan)
    for i in np.flatnonzero(np.isnan(found).any(axis=1)).tolist():
        with contextlib.suppress(SolveError):
            found[i] = end_state(many.case(i), float(ends[i]), rtol, atol)
    return found


def _together(many: _Many, ends: np.ndarray, rtol: float, atol: float) -> np.ndarray:
    """All cases as one system by LSODA, shape (cases, states)."""
    cases, n = many.cases, many.n
    y0, scale = many.start()
    row, column = many.pattern

    farthest = float(np.max(ends))
    shares = ends / farthest  # all cases end together
    alike = bool((shares == 1.0).all())
    slopes = np.empty((cases, n))

    def rhs(flat: np.ndarray, s: float) -> np.ndarray:
        t = 0.0 if many.balances.is_autonomous else s * shares
        for i, row in enumerate(many.evaluate(flat.reshape(cases, n).T.copy(), t)):
            slopes[:, i] = row if alike else row * shares
        return slopes.ravel()

    def band(flat: np.ndarray, s: float) -> np.ndarray:
        full = np.zeros((2 * n - 1, cases, n))
        full[row - column + n - 1, :, column] = many.jacobian(flat.reshape(cases, n).T, s * shares) * shares
        return full.reshape(2 * n - 1, cases * n)

    way = np.array([0.0, farthest])
    with np.errstate(all="ignore"):
        y, info = lsoda(
            rhs, band, y0.T.ravel(), way, rtol, atol * scale.T.ravel(), ml=n - 1, mu=n - 1, mxstep=_MOST_STEPS
        )
    if info["message"] != "Integration successful." or not np.isfinite(y[-1]).all():
        raise SolveError("the cases cannot be integrated together", "", "integrate each by itself")
    spent(many.whole, (), int(info["nfe"][-1]) * max(1, cases // PER_EVALUATION))
    return np.asarray(y[-1].reshape(cases, n))


def steady_many(balances: Balances, values: np.ndarray, time_scales: np.ndarray) -> np.ndarray:
    """The steady state of each case, shape (cases, states), as by `steady` for one.

    All start-ups are integrated together over eight time scales, then Newton's method with the exact Jacobian gives the
    root of each. A case that does not converge is solved by `steady`; nan if it has no steady state.
    """
    many = _Many(balances, values)
    machine = machine_of(many.whole)
    if machine is not None:
        y = machine.steady(np.ascontiguousarray(values), time_scales, HORIZONS[0], SETTLING).T
        return many.completed(y, np.isnan(y).any(axis=0), time_scales)
    _, scale = many.start()
    near = np.maximum(
        integrate_many(balances, values, HORIZONS[0] * time_scales, rtol=SETTLING.rtol, atol=SETTLING.atol).T, 0.0
    )
    y = near.copy()
    row, column = many.pattern
    full = np.zeros((many.cases, many.n, many.n))
    with np.errstate(all="ignore"):
        for _ in range(12):
            full[:, row, column] = many.jacobian(y, 0.0).T
            try:
                step = np.linalg.solve(full, many.rhs(y, 0.0).T[:, :, None])[:, :, 0].T
            except np.linalg.LinAlgError:
                break
            y = y - step
            if np.max(np.abs(step) / scale) < 1e-14:
                break
        residual = np.max(np.abs(many.rhs(y, 0.0)) * time_scales / scale, axis=0)
        close = np.all(np.abs(y - near) <= 0.02 * scale, axis=0) & np.all(y >= -1e-9 * scale, axis=0)
    return many.completed(y, ~(close & (residual < 1e-9)), time_scales)
