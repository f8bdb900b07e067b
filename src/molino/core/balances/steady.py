"""Steady states of balances, their derivatives by parameters, and their eigenvalues."""

from __future__ import annotations

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.engines import start
from molino.core.balances.functions import Functions
from molino.core.balances.integrate import RUN_OUT, integrate
from molino.core.balances.machine.choice import machine_of
from molino.core.balances.settings import Report, Settings
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.errors import SolveError


def steady_slopes(case: Case, state: np.ndarray, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """d(state)/d(parameter) at a steady state, shape (states, parameters).

    J S = -(partial f/partial p), by the implicit function theorem.
    """
    whole = compiled(case.balances)
    forcing = whole.gradient(case.balances.rhs, by)(case.values)(state, 0.0)
    return np.asarray(np.linalg.solve(whole.jacobian(case.values)(state, 0.0), -forcing))


HORIZONS, SETTLING = (8.0, 64.0, 512.0, 4096.0), Settings(1e-5, 1e-8)
"""Lengths of a start-up in time scales, and its tolerances."""
RESIDUAL = 1e-8
"""Largest change of a state within one space time, relative to its scale, at a steady state."""


def imbalance(case: Case, state: np.ndarray, time_scale: float) -> float:
    """The largest change of a state within a time, relative to its scale, by the balances."""
    rates = np.abs(np.asarray(Functions(case).rhs(state, 0.0), dtype=float))
    return float(np.max(rates * time_scale / start(case)[1]))


def steady(
    case: Case, time_scale: float, near: np.ndarray | None = None, begin: np.ndarray | None = None
) -> tuple[np.ndarray, Report]:
    """The steady state that is reached from the initial state, shape (states,), and a report.

    `begin` is another initial state than that of the balances.

    The start-up is integrated over some `time_scale`s with a coarse tolerance; from there Powell's hybrid method with
    the exact Jacobian (M. J. D. Powell, in Numerical Methods for Nonlinear Algebraic Equations, 1970, 87; MINPACK)
    finds the root, which must be near the end of the start-up. With `near`, a state of the same tank at similar
    conditions, the root near it is tried first.

    Raises
    ------
    SolveError
        If no steady state is reached, as with a sustained oscillation.
    """
    machine = machine_of(compiled(case.balances)) if near is None and begin is None else None
    if machine is not None:
        values = np.array([case.values])
        found = machine.steady(values, np.array([time_scale]), HORIZONS[0], SETTLING)[0]
        if np.isfinite(found).all():
            method = f"start-up over {HORIZONS[0]:g} residence times, then Newton's method, machine code"
            return found, Report(method, 0, 0, 0)
    y, scale = start(case)
    y = y if begin is None else begin
    functions = Functions(case)
    positive = case.balances.amounts
    if near is not None:
        found, evaluations = _polish(functions, near, scale, time_scale)
        if found is not None and np.all(np.abs(found - near) <= 0.1 * scale):
            return found, Report("Powell's hybrid", 0, evaluations, 1)
    for horizon in HORIZONS:
        start_up = integrate(case, [0.0, horizon * time_scale], initial=y, rtol=SETTLING.rtol, atol=SETTLING.atol)
        gone = [i for i in positive if start_up.states[-1][i] < -RUN_OUT * scale[i]]
        if gone:
            message = f"{case.balances.names[gone[0]]} is exhausted, and a rate law still consumes it"
            raise SolveError(
                message, "steady state", f"make that rate fall to zero with [{case.balances.names[gone[0]]}]"
            )
        y = start_up.states[-1].copy()
        y[positive] = np.maximum(y[positive], 0.0)
        found, evaluations = _polish(functions, y, scale, time_scale)
        if found is not None and np.all(np.abs(found - y) <= 0.02 * scale):
            report = start_up.report
            method = f"start-up over {horizon:g} residence times, then Powell's hybrid"
            return found, Report(method, report.steps, report.evaluations + evaluations, report.jacobians + 1)
    size = float(np.max(np.abs(np.array(functions.rhs(y, 0.0))) * time_scale / scale))
    message = f"no steady state after {horizon:g} residence times (still changing by {size:.2g} of its size in each)"
    raise SolveError(message, "steady state", "run it over time: it may oscillate")


def _polish(
    functions: Functions, guess: np.ndarray, scale: np.ndarray, time_scale: float
) -> tuple[np.ndarray | None, int]:
    """The root near a guess in scaled states, or None, and the number of evaluations."""
    weights = time_scale / scale

    def residual(z: np.ndarray) -> np.ndarray:
        return np.array(functions.rhs(z * scale, 0.0)) * weights

    def slope(z: np.ndarray) -> np.ndarray:
        return functions.state_jacobian(z * scale, 0.0) * scale * weights[:, None]  # type: ignore[no-any-return]

    try:
        found = scipy.optimize.root(residual, guess / scale, jac=slope, method="hybr", options={"xtol": 1e-13})
    except NotFinite:
        return None, 0
    if np.max(np.abs(found.fun)) > 1e-9 or np.min(found.x) < -1e-9:
        return None, found.nfev
    return np.asarray(found.x * scale), found.nfev


def growth_rates(case: Case, state: np.ndarray) -> np.ndarray:
    """The eigenvalues of the Jacobian at a steady state in 1/s: it is stable if all have a negative real part."""
    functions = Functions(case)
    full = np.asarray(functions.state_jacobian(state, 0.0))
    z = case.balances.algebraic
    if z.any():
        full = full[np.ix_(~z, ~z)] - full[np.ix_(~z, z)] @ np.linalg.solve(full[np.ix_(z, z)], full[np.ix_(z, ~z)])
    return np.asarray(np.linalg.eigvals(full))
