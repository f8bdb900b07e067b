"""Robust fits: observations far from the model count for less (P. J. Huber, Robust Statistics, 1981, chapter 7)."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy

from molino.core.errors import SolveError
from molino.core.fitting.least_squares import Progress, minimise
from molino.core.fitting.least_squares_problem import Optimum, Problem, degrees_by_group

_TUNING = 1.345
"""Residuals beyond this many standard deviations count for less: an efficiency of 95 % with normal errors."""
_INSIDE = float(2 * scipy.special.ndtr(_TUNING) - 1)
_CONSISTENT = float(_INSIDE - 2 * _TUNING * np.exp(-(_TUNING**2) / 2) / np.sqrt(2 * np.pi) + _TUNING**2 * (1 - _INSIDE))
"""Expectation of the square of a standard normal deviation that is cut at the tuning constant."""
_MOST_ROUNDS = 100
_SETTLED = 1e-8
"""Change of the constants, relative, at which the rounds end."""


def robustly(problem: Problem, optimum: Optimum, progress: Progress | None) -> tuple[Problem, Optimum, np.ndarray]:
    """The robust optimum, as the least-squares optimum of pseudo-values, and the weight of each observation.

    A pseudo-value is the calculated value plus s psi(r/s)/m, with the residual r, psi its value cut at 1.345, m the
    fraction that is not cut, and s the scale of Huber's proposal 2. Their least-squares optimum is the robust one, and
    their covariance is its asymptotic covariance.

    Raises
    ------
    SolveError
        If it does not converge.
    """
    if optimum.stopped:
        return problem, optimum, np.ones(len(problem.measured))
    measured = problem.measured
    for _ in range(_MOST_ROUNDS):
        residuals = measured - optimum.values
        scale = _scale(problem, residuals, optimum)
        cut = np.where(problem.is_prior, residuals, np.clip(residuals, -_TUNING * scale, _TUNING * scale))
        kept = np.ones(len(measured))
        for n in np.unique(problem.group[~problem.is_prior]):
            own = problem.group == n
            kept[own] = np.mean(np.abs(residuals[own]) <= _TUNING * scale[own])
        problem = replace(problem, measured=np.where(problem.is_prior, measured, optimum.values + cut / kept))
        before = optimum.parameters
        optimum = minimise(problem, before, tolerance=1e-12, progress=progress)
        change = np.abs(optimum.parameters - before) / np.maximum(np.abs(before), 1e-300)
        if np.max(change) < _SETTLED:
            with np.errstate(divide="ignore", invalid="ignore"):
                return problem, optimum, np.where(residuals == cut, 1.0, cut / residuals)
    raise SolveError(f"the robust estimate did not converge in {_MOST_ROUNDS} rounds", "fit", "exclude the outliers")


def _scale(problem: Problem, residuals: np.ndarray, optimum: Optimum) -> np.ndarray:
    """The standard deviation of each observation by Huber's proposal 2: the mean square of cut residuals is that of
    normal errors."""
    weighted = optimum.information_rows(problem)
    degrees = degrees_by_group(problem, weighted, np.ones(len(residuals)))
    found = problem.size.copy()
    for n in np.unique(problem.group[~problem.is_prior]):
        own = problem.group == n
        scaled = np.abs(residuals[own] / problem.size[own])
        factor = float(np.median(scaled)) / 0.6745 or float(np.max(scaled)) or 1e-300
        for _ in range(_MOST_ROUNDS):
            squares = float(np.sum(np.minimum(scaled, _TUNING * factor) ** 2)) / (degrees[n] * _CONSISTENT)
            following = float(np.sqrt(squares))
            if abs(following - factor) <= 1e-12 * factor:
                break
            factor = following
        found[own] = factor * problem.size[own]
    return np.asarray(np.maximum(found, 1e-300))
