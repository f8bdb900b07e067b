"""The errors and priors of a fit, in words."""

from __future__ import annotations

import numpy as np

from molino.core.fitting.fit_data import FitData
from molino.core.units import Value

_MOST_NAMED = 5
"""Observations of low weight that are named."""


def correlation_lines(fit: FitData) -> list[str]:
    """The correlation time of the errors of each response, in words."""
    tau = fit.optimum.tau if fit.problem.chains is not None else None
    if tau is None:
        return []
    names = list(dict.fromkeys(fit.points.response))
    return [
        f"{name}: errors correlated over {fit.data.display.text(t, 'time', 3)} (tau)"
        if t > 0
        else f"{name}: errors not correlated"
        for name, t in zip(names, tau.tolist(), strict=True)
    ]


def error_lines(fit: FitData) -> list[str]:
    """The constant and the relative part of the errors of each response, in words."""
    found, names = [], np.array(fit.points.response)
    for name in fit.responses if fit.problem.is_mixed else ():
        own = names == name
        s, values = fit.points.standard_deviation[own], fit.points.calculated[own]
        size = max(float(np.max(np.abs(values))), 1e-300)
        columns = np.column_stack([np.ones(len(s)), (values / size) ** 2])
        constant, relative = np.sqrt(np.maximum(np.linalg.lstsq(columns, s**2, rcond=None)[0], 0.0))
        text = fit.data.display.difference_text(float(constant), fit.data.kind_of(name))
        found.append(f"{name}: errors of {text} and {100 * relative / size:.3g} % of the value")
    return found


def robust_lines(fit: FitData) -> list[str]:
    """The observations that count for less in a robust fit, in words, the lowest weights first."""
    points = fit.points
    if points.weight is None:
        return []
    low = [int(i) for i in np.argsort(points.weight) if points.weight[i] < 1]
    named = "; ".join(
        f"{fit.place(points.run[i], float(points.time[i]))}, {points.response[i]} (weight {points.weight[i]:.2f})"
        for i in low[:_MOST_NAMED]
    )
    more = f" and {len(low) - _MOST_NAMED} others" if len(low) > _MOST_NAMED else ""
    return [f"robust: {len(low)} of {len(points.weight)} values are far off and count for less: {named}{more}"]


def prior_lines(fit: FitData) -> list[str]:
    """The priors, and the distance of the estimates from them, in words."""
    return [
        f"prior: {p.name} {Value(p.value, p.unit, p.deviation)}, {abs(e.value - p.value) / p.deviation:.1f} "
        f"standard deviations from the estimate"
        for p, e in zip(fit.problem.free, fit.estimates, strict=True)
        if np.isfinite(p.deviation)
    ]
