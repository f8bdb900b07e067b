"""The correlation of each residual with the next of its run."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.fitting.least_squares_problem import RANK
from molino.core.statistics import chi_squared_probability, p_text

_FEWEST = 8
"""Smallest number of pairs of neighbors."""


@dataclass(frozen=True)
class SerialCorrelation:
    """The correlation of each residual of one response with the next of its run.

    Attributes
    ----------
    response : str
    correlation : float
        Of residuals over their standard deviation, lag one.
    durbin_watson : float
        The sum of squared differences of neighbors over the sum of squares: about 2 without correlation (J. Durbin, G.
        S. Watson, Biometrika 37 (1950) 409).
    probability : float
        Of a correlation at least as large, if errors are independent: by its mean and variance, given the derivatives
        by the constants (J. Durbin, G. S. Watson, Biometrika 38 (1951) 159, section 3).
    ljung_box : float
        Probability of correlations over several lags at least as large (G. M. Ljung, G. E. P. Box, Biometrika 65
        (1978) 297).
    """

    response: str
    correlation: float
    durbin_watson: float
    probability: float
    ljung_box: float

    def __str__(self) -> str:
        return (
            f"{self.response}: serial correlation {self.correlation:.2f} (Durbin-Watson {self.durbin_watson:.2f}, p "
            f"{p_text(self.probability)}; Ljung-Box p {p_text(self.ljung_box)})"
        )


def serial_correlation(
    response: str, residuals: np.ndarray, run: np.ndarray, times: np.ndarray, rows: np.ndarray
) -> SerialCorrelation | None:
    """The serial correlation of the residuals of one response within its runs; None with few samples.

    Parameters
    ----------
    residuals : array, shape (points,)
        Over their standard deviation.
    run, times : arrays, shape (points,)
    rows : array, shape (points, parameters)
        Derivatives of the calculated values over the standard deviation.
    """
    order = np.lexsort((times, run))
    e, run, times, rows = residuals[order], run[order], times[order], rows[order]
    links = np.flatnonzero((run[1:] == run[:-1]) & (np.diff(times) > 0))
    if len(links) < _FEWEST:
        return None
    squares = float(e @ e)
    correlation = float(e[links] @ e[links + 1]) / squares
    starts = np.r_[True, run[1:] != run[:-1]]
    differences = float(np.sum(np.diff(e)[run[1:] == run[:-1]] ** 2))
    size = np.linalg.norm(rows, axis=0)
    left, singular, _ = np.linalg.svd(rows[:, size > 0] / size[size > 0], full_matrices=False)
    basis = left[:, singular > RANK * max(float(singular[0]), 1e-300)] if singular.size else np.zeros((len(e), 0))
    lagged = _neighbor_sums(basis, links)
    inner = basis.T @ lagged
    degrees = len(e) - basis.shape[1]
    trace = -float(np.trace(inner))
    squared = 0.5 * len(links) - 2 * float(np.sum(lagged**2)) + float(np.sum(inner**2))
    mean = trace / degrees
    variance = 2 * (squared - trace**2 / degrees) / (degrees * (degrees + 2))
    z = (correlation - mean) / math.sqrt(max(variance, 1e-300))
    lags = min(10, len(e) // 5)
    total = 0.0
    for lag in range(1, lags + 1):
        pairs = np.flatnonzero(run[lag:] == run[:-lag])
        if len(pairs):
            r = float(e[pairs] @ e[pairs + lag]) / squares
            total += len(e) * (len(e) + 2) * r**2 / len(pairs)
    ljung_box = 1 - chi_squared_probability(total, max(lags, 1))
    watson = differences / squares * len(e) / max(len(e) - int(starts.sum()) + 1, 1)
    return SerialCorrelation(response, correlation, watson, float(scipy.special.ndtr(-z)), ljung_box)


def _neighbor_sums(rows: np.ndarray, links: np.ndarray) -> np.ndarray:
    """Half of the sum of both neighbors of each row within its run, shape of `rows`."""
    found = np.zeros_like(rows)
    found[links] += 0.5 * rows[links + 1]
    found[links + 1] += 0.5 * rows[links]
    return found
