"""How far the uncertainty of fitted constants reaches into what a vessel does (first order, exact sensitivities)."""

from __future__ import annotations

import numpy as np
import sympy as sp

from molino.core.balances.solve import integrate, observe, steady_slopes
from molino.core.chemistry.constants import parameter_symbol
from molino.core.vessels.metrics import Metric
from molino.core.vessels.run import Run


def slopes(run: Run, metric: Metric, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """Exact d(metric)/d(parameter) at the end of a run, shape (parameters,).

    With the sensitivities of the states from their own equations along a run, and from the implicit function theorem
    at a steady state.
    """
    case, end = run.vessel.case, float(run.solution.points[-1])
    if run.is_steady:
        end = 0.0
        sensitivity = steady_slopes(case, run.solution.states[-1], by)
    else:
        followed = integrate(case, [0.0, end], by=by)
        assert followed.sensitivities is not None
        sensitivity = followed.sensitivities[-1]
    expression = run.vessel.expression(metric)
    _, found = observe(
        case, (expression,), np.array([end]), run.solution.states[-1:], sensitivity[None], by
    )  # fmt: skip
    return np.asarray(found[0, 0])


def standard_error(run: Run, metric: Metric) -> float | None:
    """Standard error of a metric from the covariance of the fitted constants; None where there is none.

    s^2 = g C g, g the slopes by the fitted parameters (propagation of error, first order).
    """
    covariance = run.vessel.chemistry.covariance
    if covariance is None:
        return None
    slope = slopes(run, metric, tuple(parameter_symbol(name) for name in covariance.names))
    return float(np.sqrt(max(slope @ covariance.matrix @ slope, 0.0)))
