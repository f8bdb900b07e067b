"""How far the uncertainty of fitted constants reaches into what a vessel does (first order, exact sensitivities)."""

from __future__ import annotations

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.solve import integrate
from molino.core.chemistry.constants import parameter_symbol
from molino.core.vessels.metrics import Metric
from molino.core.vessels.run import Run


def slopes(run: Run, metric: Metric, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """Exact d(metric)/d(parameter) at the end of a run, shape (parameters,).

    dm/dp = (dm/dy) S + (partial m/partial p), with S from the sensitivity equations along a run, and at a steady
    state from J S = -(partial f/partial p) (implicit function theorem).
    """
    case, state, end = run.vessel.case, run.solution.states[-1], float(run.solution.points[-1])
    whole, symbols = compiled(case.balances), case.balances.symbols
    expression = run.vessel.expression(metric)
    if run.is_steady:
        end = 0.0
        forcing = whole.gradient(case.balances.rhs, by)(case.values)(state, end)
        sensitivity = np.linalg.solve(whole.jacobian(case.values)(state, end), -forcing)
    else:
        followed = integrate(case, [0.0, end], by=by)
        assert followed.sensitivities is not None
        sensitivity = followed.sensitivities[-1]
    partial = whole.gradient((expression,), (*symbols, *by))(case.values)(state, end)[0]
    return np.asarray(partial[: len(symbols)] @ sensitivity + partial[len(symbols) :])


def standard_error(run: Run, metric: Metric) -> float | None:
    """Standard error of a metric from the covariance of the fitted constants; None where there is none.

    s^2 = g C g, g the slopes by the fitted parameters (propagation of error, first order).
    """
    covariance = run.vessel.chemistry.covariance
    if covariance is None:
        return None
    slope = slopes(run, metric, tuple(parameter_symbol(name) for name in covariance.names))
    return float(np.sqrt(max(slope @ covariance.matrix @ slope, 0.0)))
