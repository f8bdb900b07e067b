"""How far the uncertainty of fitted constants reaches into what a vessel does (first order, exact sensitivities)."""

from __future__ import annotations

import numpy as np
import sympy as sp

from molino.core.balances.solve import observe, steady_slopes
from molino.core.chemistry.constants import parameter_symbol
from molino.core.vessels.metrics import Metric
from molino.core.vessels.run import Run, moved_expressions, sensitivities_at_end
from molino.core.vessels.train import TrainRun, derivative_by_constants


def slopes(run: Run, metric: Metric, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """Exact d(metric)/d(parameter) at the end of a run, shape (parameters,).

    With the sensitivities of the states from their own equations along a run, and from the implicit function theorem
    at a steady state.
    """
    case, end = run.last_case, float(run.solution.points[-1])
    states = run.solution.states[-1:]
    if run.is_steady:
        end = 0.0
        sensitivity = steady_slopes(case, states[0], by)
    else:
        sensitivity = sensitivities_at_end(run, by)
    expression = moved_expressions(case, (run.vessel.expression(metric),))
    _, found = observe(case, expression, np.array([end]), states, sensitivity[None], by)
    return np.asarray(found[0, 0])


def standard_error(run: Run | TrainRun, metric: Metric) -> float | None:
    """Standard error of a metric from the covariance of the fitted constants; None where there is none.

    s^2 = g C g, g the slopes by the fitted parameters (propagation of error, first order).
    """
    covariance = run.vessel.chemistry.covariance
    if covariance is None:
        return None
    if isinstance(run, TrainRun) or run.vessel.heat_shape.coolant == "counter-current":
        slope = derivative_by_constants(run, metric, covariance.names)
    else:
        slope = slopes(run, metric, tuple(parameter_symbol(name) for name in covariance.names))
    return float(np.sqrt(max(slope @ covariance.matrix @ slope, 0.0)))
