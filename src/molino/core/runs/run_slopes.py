"""Exact derivatives of metrics of a run by conditions of its vessel."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.engines import start
from molino.core.balances.settings import ATOL, RTOL
from molino.core.chemistry.constants import parameter_symbol
from molino.core.contract.metric import Metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.runs.run_data import RunData
from molino.core.runs.sensitivity import end_slope, expression_slopes, slopes_along
from molino.core.runs.trajectory import moved_expressions


def slopes(run: RunData, metrics: Sequence[Metric], conditions: Sequence[str]) -> np.ndarray:
    """Exact d(metric)/d(condition), shape (metrics, conditions)."""
    if any(m.is_of_a_whole_run for m in metrics):
        return np.array([_slopes_of(run, metric, conditions) for metric in metrics])
    by, by_condition, by_end = moved_by(run, conditions)
    expressions = tuple(run.vessel.spec.expression(m) for m in metrics)
    found = np.zeros((len(metrics), len(conditions)))
    if by:
        found = found + expression_slopes(run.trajectory, expressions, by) @ by_condition
    if not run.is_steady and by_end.any():
        found = found + np.outer([end_slope(run.trajectory, e) for e in expressions], by_end)
    return found


def _slopes_of(run: RunData, metric: Metric, conditions: Sequence[str]) -> np.ndarray:
    """The derivatives of one metric, shape (conditions,)."""
    if metric.is_of_a_whole_run:
        return np.asarray(run.analysis(metric).slopes(metric, conditions))
    return np.asarray(slopes(run, (metric,), conditions)[0])


def moved_by(run: RunData, conditions: Sequence[str]) -> tuple[tuple[sp.Symbol, ...], np.ndarray, np.ndarray]:
    """The parameters that depend on conditions, their derivatives, shape (parameters, conditions), and those of the
    end."""
    own = [run.vessel.spec.own_number(name) for name in conditions]
    _, by_condition, _, by_end = ParameterMap(run.vessel, tuple(conditions)).with_slopes(own)
    parameters = run.vessel.spec.model.balances.parameters
    touched = [i for i in range(len(parameters)) if by_condition[i].any()]
    return tuple(parameters[i] for i in touched), by_condition[touched], by_end


def slopes_where(run: RunData, at: float, metric: Metric, conditions: Sequence[str]) -> np.ndarray:
    """Exact derivatives of a metric by conditions at an extreme along the run, shape (conditions,).

    The place of an inner extreme moves too, but there the derivative of the metric along the run is zero.
    """
    if at >= run.trajectory.end:
        return np.asarray(slopes(run, (metric,), conditions)[0])
    by, by_condition, _ = moved_by(run, conditions)
    if not by:
        return np.zeros(len(conditions))
    found = slopes_along(run.trajectory, at, (run.vessel.spec.expression(metric),), by)[0]
    return np.asarray(found @ by_condition)


def constant_slopes(run: RunData, metric: Metric, names: Sequence[str]) -> np.ndarray:
    """Exact d(metric)/d(constant), shape (constants,), by the full names of the constants."""
    symbols = tuple(parameter_symbol(name) for name in names)
    if {*symbols} <= {*run.vessel.spec.model.balances.parameters} and not metric.is_of_a_whole_run:
        return np.asarray(expression_slopes(run.trajectory, (run.vessel.spec.expression(metric),), symbols)[0])
    conditions = [run.vessel.spec.constant_name(name) for name in names]
    return np.asarray(slopes(run, (metric,), conditions)[0])


def error_of(run: RunData, metric: Metric) -> float:
    """The error of a metric at the end that the tolerances of the integration allow, in SI.

    sum |dm/dy_i| (rtol |y_i| + atol s_i) over the states y of sizes s; zero at a steady state.
    """
    if run.is_steady or metric.is_of_a_whole_run:
        return 0.0
    case, y = run.trajectory.last, run.trajectory.end_state
    expressions = moved_expressions(case, (run.vessel.spec.expression(metric),))
    by = compiled(case.balances).gradient(expressions, case.balances.symbols)(case.values)(y, run.trajectory.end)
    return float(np.abs(by[0]) @ (RTOL * np.abs(y) + ATOL * start(case)[1]))


def extreme(run: RunData, metric: Metric, sign: float) -> tuple[float, float]:
    """Where along the run a metric is highest (lowest, for a negative sign), and its value there."""
    if run.is_steady:
        return run.trajectory.end, run.metric(metric)
    return run.trajectory.most(run.vessel.spec.expression(metric), sign)
