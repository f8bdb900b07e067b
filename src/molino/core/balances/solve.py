"""From a `Case` to numbers: integrate over time or volume, and find steady states."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import sympy as sp
from scipy.integrate import ODEintWarning, odeint
from scipy.optimize import root

from molino.core.balances.compiled import Function, compiled
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.errors import SolveError

RTOL = 1e-10
ATOL = 1e-13
"""Default tolerances of integration: relative to each state, and absolute as a fraction of its scale."""

RUN_OUT = 1e-6
"""How far below zero, as a fraction of its scale, a state must lie to count as consumed beyond its end."""

_MOST_STEPS = 100_000
_DONE = "Integration successful."


@dataclass(frozen=True)
class Report:
    """What an integration did."""

    method: str
    steps: int
    evaluations: int
    jacobians: int

    @classmethod
    def of(cls, several: Sequence[Report]) -> Report:
        """What several integrations did together."""
        counts = (sum(getattr(r, name) for r in several) for name in ("steps", "evaluations", "jacobians"))
        stages = f" in {len(several)} stages" if len(several) > 1 else ""
        return cls(several[-1].method + stages, *counts)

    def __str__(self) -> str:
        many = f", {self.jacobians} Jacobian{'s' if self.jacobians > 1 else ''}" if self.jacobians else ""
        return f"{self.method}, {self.steps} steps, {self.evaluations} evaluations{many}"


@dataclass(frozen=True)
class Solution:
    """States along the independent variable.

    Attributes
    ----------
    points : array, shape (points,)
    states : array, shape (points, states)
    sensitivities : array, shape (points, states, parameters), or None
    """

    points: np.ndarray
    states: np.ndarray
    sensitivities: np.ndarray | None
    report: Report


def start(case: Case) -> tuple[np.ndarray, np.ndarray]:
    """Initial values and scales of the states, each of shape (states,)."""
    try:
        both = np.array(compiled(case.balances).start(case.values)(np.empty(0), 0.0), dtype=float)
    except (NotFinite, ArithmeticError, ValueError) as error:
        raise SolveError(
            f"the initial state has no finite value ({error})", "start", "check the numbers given"
        ) from error
    half = len(both) // 2
    scale = np.where(both[half:] > 0, both[half:], 1.0)
    return both[:half], scale


def functions(case: Case) -> tuple[Function, Function]:
    """The right-hand side and its Jacobian with the case's numbers in them."""
    whole = compiled(case.balances)
    try:
        return whole.rhs(case.values), whole.jacobian(case.values)
    except (ArithmeticError, ValueError) as error:
        advice = "check the temperature and the constants"
        raise SolveError(f"the rate constants have no finite value ({error})", "balances", advice) from error


def integrate(
    case: Case,
    points: Sequence[float] | np.ndarray,
    *,
    by: tuple[sp.Symbol, ...] = (),
    initial: np.ndarray | None = None,
    slopes: np.ndarray | None = None,
    rtol: float = RTOL,
    atol: float = ATOL,
) -> Solution:
    """Integrate balances from points[0] through points[-1].

    LSODA as `scipy.integrate.odeint` drives it: Adams or backward differentiation formulas of variable order, the
    choice made along the way (A. C. Hindmarsh, in Scientific Computing, 1983, 55; L. Petzold, SIAM J. Sci. Stat.
    Comput. 4 (1983) 136), with the exact Jacobian where the problem is stiff.

    Parameters
    ----------
    case : Case
    points : array, shape (points,)
        Where results are wanted, rising; the first is where the initial state holds.
    by : tuple of Symbol
        Parameters to give exact sensitivities for.
    initial : array, shape (states,), optional
        Instead of the initial state of the balances.
    slopes : array, shape (states, parameters), optional
        Sensitivities of that initial state; zero if left out.
    rtol, atol : float
        Tolerances, relative to the state and as a fraction of its scale.

    Raises
    ------
    SolveError
        Names the state and place at which it stuck, and what to change.
    """
    whole = compiled(case.balances)
    n = len(case.balances.states)
    y0, scale = start(case)
    rhs, jacobian = functions(case)
    absolute = atol * scale
    sensitivity = whole.sensitivity(by) if by else None
    if sensitivity is not None:
        rhs = sensitivity.make(case.values)
        y0 = np.array(sensitivity.make_initial(case.values)(np.empty(0), 0.0), dtype=float)
        numbers = np.array([case.value(p) for p in by])
        sizes = np.where(numbers != 0, np.abs(numbers), 1.0)
        absolute = np.concatenate([absolute, [1e2 * atol * scale[i] / sizes[j] for i, j in sensitivity.place]])
        jacobian = sensitivity.jacobian(jacobian)
        if initial is not None:
            y0 = np.concatenate([initial, sensitivity.fold(np.zeros((n, len(by))) if slopes is None else slopes)])
    elif initial is not None:
        y0 = initial
    times = np.ascontiguousarray(points, dtype=float)

    def drive(y0: np.ndarray, times: np.ndarray) -> tuple[np.ndarray, dict[str, Any]]:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ODEintWarning)
            return odeint(  # type: ignore[no-any-return]
                rhs, y0, times, Dfun=jacobian, rtol=rtol, atol=absolute, full_output=True, mxstep=_MOST_STEPS
            )

    try:
        y, info = drive(y0, times)
        if info["message"] != _DONE or not np.isfinite(y).all():
            failed = _first_failure(times, info)
            closer = np.linspace(times[failed], times[failed + 1], 201)
            y, info = drive(y[failed], closer)
            raise _stuck(case, times[-1], closer, y, scale, info)
    except NotFinite as error:
        raise _not_finite(case, error) from error
    report = Report(
        {1: "LSODA (Adams)", 2: "LSODA (BDF)"}.get(int(info["mused"][-1]), "LSODA"),
        int(info["nst"][-1]),
        int(info["nfe"][-1]),
        int(info["nje"][-1]),
    )
    return Solution(times, y[:, :n], sensitivity.unfold(y[:, n:]) if sensitivity is not None else None, report)


def _not_finite(case: Case, error: NotFinite) -> SolveError:
    states = zip(case.balances.names, np.asarray(error.states, dtype=float), strict=False)
    gone = [name for name, value in states if not value > 0]
    said = f"a rate law has no finite value at {case.balances.independent} = {error.at:.6g} ({error})"
    if gone:
        said += f"; zero there: {', '.join(gone[:6])}"
    found = SolveError(said, "integration", "check denominators, logarithms and negative orders in the rate laws")
    found.reached = error.at
    return found


def _first_failure(times: np.ndarray, info: dict[str, Any]) -> int:
    """Index of the first stretch that was not finished; what LSODA reports of those behind it means nothing."""
    return int(np.argmax(~(info["tcur"] >= times[1:])))


def _stuck(
    case: Case, end: float, times: np.ndarray, y: np.ndarray, scale: np.ndarray, info: dict[str, Any]
) -> SolveError:
    failed = _first_failure(times, info) if info["message"] != _DONE else len(times) - 1
    said = f"stopped at {case.balances.independent} = {times[failed]:.6g} of {end:.6g}"
    n = len(scale)
    with np.errstate(all="ignore"):
        change = np.abs(y[failed, :n] - y[max(failed - 1, 0), :n]) / scale
    if np.isfinite(change).any():
        said += f", where {case.balances.names[int(np.nanargmax(change))]} changes fastest"
    message = str(info["message"]).split("(")[0].strip(" .").lower()
    advice = "look for a rate that grows without end; check the rate laws, or end the run before this place"
    found = SolveError(f"{said} (LSODA: {message})", "integration", advice)
    found.reached = float(times[failed])
    return found


def observe(
    case: Case, expressions: tuple[sp.Expr, ...], points: np.ndarray, states: np.ndarray, sensitivities: np.ndarray,
    by: tuple[sp.Symbol, ...],
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """Expressions of the balances at some points, and their whole derivatives by parameters.

    dm/dp = (dm/dy) S + (partial m/partial p).

    Parameters
    ----------
    states : array, shape (points, states)
    sensitivities : array, shape (points, states, parameters)

    Returns
    -------
    values : array, shape (points, expressions)
    slopes : array, shape (points, expressions, parameters)
    """
    whole, symbols = compiled(case.balances), case.balances.symbols
    rows = whole.outputs(expressions)(case.values)(states.T, points)
    values = np.array([np.broadcast_to(np.asarray(row, dtype=float), points.shape) for row in rows]).T
    gradient = whole.gradient(expressions, (*symbols, *by))(case.values)
    n = len(symbols)
    found = []
    for state, point, sensitivity in zip(states, points, sensitivities, strict=True):
        partial = gradient(state, point)
        found.append(partial[:, :n] @ sensitivity + partial[:, n:])
    return values, np.array(found)


def steady_slopes(case: Case, state: np.ndarray, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """d(state)/d(parameter) at a steady state, shape (states, parameters).

    J S = -(partial f/partial p), by the implicit function theorem.
    """
    whole = compiled(case.balances)
    forcing = whole.gradient(case.balances.rhs, by)(case.values)(state, 0.0)
    return np.asarray(np.linalg.solve(whole.jacobian(case.values)(state, 0.0), -forcing))


def steady(case: Case, time_scale: float, near: np.ndarray | None = None) -> tuple[np.ndarray, Report]:
    """The steady state that the balances tend to from their initial state, shape (states,), and how it was found.

    The start-up is followed over some `time_scale`s with a coarse tolerance; from there Powell's hybrid method with the
    exact Jacobian (M. J. D. Powell, in Numerical Methods for Nonlinear Algebraic Equations, 1970, 87; MINPACK) goes
    to the root, which must lie near to where the start-up arrived. With `near`, a state of the same tank at slightly
    other numbers, the root next to it is tried first.

    Raises
    ------
    SolveError
        If nothing settles, as with a lasting oscillation.
    """
    y, scale = start(case)
    rhs, jacobian = functions(case)
    positive = case.balances.positive
    if near is not None:
        found, evaluations = _polish(rhs, jacobian, near, scale, time_scale)
        if found is not None and np.all(np.abs(found - near) <= 0.1 * scale):
            return found, Report("Powell's hybrid", 0, evaluations, 1)
    for horizon in (8.0, 64.0, 512.0, 4096.0):
        start_up = integrate(case, [0.0, horizon * time_scale], initial=y, rtol=1e-5, atol=1e-8)
        gone = np.flatnonzero(positive & (start_up.states[-1] < -RUN_OUT * scale))
        if len(gone):
            said = f"{case.balances.names[gone[0]]} runs out, and a rate law goes on consuming it"
            raise SolveError(said, "steady state", f"make that rate fall to zero with [{case.balances.names[gone[0]]}]")
        y = np.where(positive, np.maximum(start_up.states[-1], 0.0), start_up.states[-1])
        found, evaluations = _polish(rhs, jacobian, y, scale, time_scale)
        if found is not None and np.all(np.abs(found - y) <= 0.02 * scale):
            report = start_up.report
            method = f"start-up over {horizon:g} residence times, then Powell's hybrid"
            return found, Report(method, report.steps, report.evaluations + evaluations, report.jacobians + 1)
    size = float(np.max(np.abs(np.array(rhs(y, 0.0))) * time_scale / scale))
    said = f"no steady state after {horizon:g} residence times (still changing by {size:.2g} of its size in each)"
    raise SolveError(said, "steady state", "run it over time and look: it may oscillate for ever")


def _polish(
    rhs: Function, jacobian: Function, guess: np.ndarray, scale: np.ndarray, time_scale: float
) -> tuple[np.ndarray | None, int]:
    """The root next to a guess in scaled states, or None, and the evaluations it took."""
    weights = time_scale / scale

    def residual(z: np.ndarray) -> np.ndarray:
        return np.array(rhs(z * scale, 0.0)) * weights

    def slope(z: np.ndarray) -> np.ndarray:
        return jacobian(z * scale, 0.0) * scale * weights[:, None]  # type: ignore[no-any-return]

    try:
        found = root(residual, guess / scale, jac=slope, method="hybr", options={"xtol": 1e-13})
    except NotFinite:
        return None, 0
    if np.max(np.abs(found.fun)) > 1e-9 or np.min(found.x) < -1e-9:
        return None, found.nfev
    return np.asarray(found.x * scale), found.nfev
