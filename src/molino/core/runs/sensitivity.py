"""Exact derivatives at the end of a trajectory by the parameters of its balances and by its end."""

from __future__ import annotations

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import observe
from molino.core.balances.steady import steady_slopes
from molino.core.runs.trajectory import Trajectory, moved_expressions, sensitivities_at, sensitivities_at_end


def _is_steady(trajectory: Trajectory) -> bool:
    return bool(np.isinf(trajectory.end))


def state_slopes(trajectory: Trajectory, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """d(state)/d(parameter) at the end, shape (states, parameters), including those of boundary values.

    By the states' own equations along a run, by the implicit function theorem at a steady state. A value u at the
    beginning that follows from a condition h(y, p, u) = 0 at the end moves by du/dp = -(h_y S_u + h_u)^-1 (h_y S_p +
    h_p).
    """
    if _is_steady(trajectory):
        return steady_slopes(trajectory.last, trajectory.end_state, by)
    unknown = tuple(symbol for symbol, _ in trajectory.last.balances.loose)
    found = sensitivities_at_end(trajectory, (*by, *unknown))
    if not unknown:
        return found
    return np.asarray(found[:, : len(by)] + found[:, len(by) :] @ _boundary_slopes(trajectory, found, by, unknown))


def slopes_at(trajectory: Trajectory, points: np.ndarray, by: tuple[sp.Symbol, ...]) -> tuple[np.ndarray, np.ndarray]:
    """States, shape (points, states), and d(state)/d(parameter), shape (points, states, parameters), at rising points.

    Including those of boundary values, as in `state_slopes`.
    """
    unknown = tuple(symbol for symbol, _ in trajectory.last.balances.loose)
    if not unknown:
        return sensitivities_at(trajectory, points, by)
    states, found = sensitivities_at(trajectory, points, (*by, *unknown))
    moves = _boundary_slopes(trajectory, sensitivities_at_end(trajectory, (*by, *unknown)), by, unknown)
    return states, found[:, :, : len(by)] + found[:, :, len(by) :] @ moves


def _boundary_slopes(
    trajectory: Trajectory, at_end: np.ndarray, by: tuple[sp.Symbol, ...], unknown: tuple[sp.Symbol, ...]
) -> np.ndarray:
    """du/dp of values u at the beginning that follow from conditions at the end, shape (values, parameters)."""
    case, y, k = trajectory.last, trajectory.end_state, len(by)
    conditions = tuple(e for _, e in case.balances.conditions)
    symbols = (*case.balances.symbols, *by, *unknown)
    partial = compiled(case.balances).gradient(conditions, symbols)(case.values)(y, trajectory.end)
    whole = partial[:, : len(y)] @ at_end + partial[:, len(y) :]
    return np.asarray(-np.linalg.solve(whole[:, k:], whole[:, :k]))


def expression_slopes(
    trajectory: Trajectory, expressions: tuple[sp.Expr, ...], by: tuple[sp.Symbol, ...]
) -> np.ndarray:
    """d(expression)/d(parameter) at the end, shape (expressions, parameters)."""
    case, end = trajectory.last, 0.0 if _is_steady(trajectory) else trajectory.end
    sensitivity = state_slopes(trajectory, by)[None]
    moved = moved_expressions(case, expressions)
    _, found = observe(case, moved, np.array([end]), trajectory.end_state[None], sensitivity, by)
    return np.asarray(found[0])


def slopes_along(
    trajectory: Trajectory, at: float, expressions: tuple[sp.Expr, ...], by: tuple[sp.Symbol, ...]
) -> np.ndarray:
    """d(expression)/d(parameter) at a place along the run, shape (expressions, parameters)."""
    case = trajectory.parts[int(trajectory.owners(np.array([at]))[0])].case
    states, sensitivity = slopes_at(trajectory, np.array([at]), by)
    _, found = observe(case, moved_expressions(case, expressions), np.array([at]), states, sensitivity, by)
    return np.asarray(found[0])


def slope_along(trajectory: Trajectory, expression: sp.Expr) -> float:
    """d(expression)/d(independent variable) at the end, along the trajectory."""
    case, state, end = trajectory.last, trajectory.end_state, trajectory.end
    whole = compiled(case.balances)
    symbols = (*case.balances.symbols, case.balances.independent)
    partial = whole.gradient(moved_expressions(case, (expression,)), symbols)(case.values)(state, end)[0]
    return float(partial[:-1] @ np.array(whole.rhs(case.values)(state, end)) + partial[-1])


def end_slope(trajectory: Trajectory, expression: sp.Expr) -> float:
    """d(expression)/d(end), including initial values that follow from conditions at the end."""
    along, balances = slope_along(trajectory, expression), trajectory.last.balances
    if not balances.loose:
        return along
    unknown = tuple(symbol for symbol, _ in balances.conditions)
    conditions = tuple(e for _, e in balances.conditions)
    case, y, end = trajectory.last, trajectory.end_state, trajectory.end
    S, whole, n = sensitivities_at_end(trajectory, unknown), compiled(balances), len(trajectory.end_state)
    partial = whole.gradient(conditions, (*balances.symbols, *unknown, balances.independent))(case.values)(y, end)
    rhs = np.array(whole.rhs(case.values)(y, end))
    moved = -np.linalg.solve(partial[:, :n] @ S + partial[:, n:-1], partial[:, :n] @ rhs + partial[:, -1])
    by = whole.gradient((expression,), (*balances.symbols, *unknown))(case.values)(y, end)[0]
    return along + float((by[:n] @ S + by[n:]) @ moved)
