"""Rates from concentrations over time, by differentiation."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import scipy

from molino.core import units
from molino.core.errors import InputError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.units import QuantityLike


def measured(runs: Experiment | Sequence[Experiment], species: str) -> tuple[Experiments, list[Experiment]]:
    data = as_experiments(runs)
    data.require_simple("a rate taken from curves")
    if species not in data.species:
        raise InputError(f"'{species}' was not measured", data.source or "rates", nearest(species, data.species))
    return data, [run for run in data if species in run.measured]


def series(run: Experiment, species: str, start: bool = False) -> tuple[np.ndarray, np.ndarray]:
    """Times and values of a species, with replicates averaged; with `start`, also the charge at time zero."""
    seen = np.isfinite(run.measured[species])
    times, values = run.times[seen], run.measured[species][seen]
    distinct, where = np.unique(times, return_inverse=True)
    means = np.bincount(where, values) / np.bincount(where)
    if start and len(distinct) and distinct[0] > 0:
        distinct, means = np.r_[0.0, distinct], np.r_[run.charge.get(species, 0.0), means]
    return distinct, means


def differentiate(
    times: np.ndarray, values: np.ndarray, method: str, smoothing: QuantityLike | None
) -> tuple[np.ndarray, np.ndarray, float]:
    """Curve, slope and the smoothing used, at the samples."""
    if method == "differences":
        return values, np.gradient(values, times, edge_order=2), math.nan
    length, top = float(np.ptp(times)), float(np.max(np.abs(values))) or 1.0
    x, y = (times - times[0]) / length, values / top
    used = _cross_validated(x, y) if smoothing is None else units.read(smoothing, "number", "smoothing").si
    spline = scipy.interpolate.make_smoothing_spline(x, y, lam=used)
    return spline(x) * top, spline.derivative()(x) * top / length, used


def _cross_validated(x: np.ndarray, y: np.ndarray) -> float:
    """The smoothing by robust generalised cross-validation.

    Least n |y - H y|^2 / (n - tr H)^2 (0.3 + 0.7 tr H^2/n): the plain form sometimes follows the noise of a dozen
    samples (M. A. Lukas, Inverse Problems 22 (2006) 1883). H = (I + w K)^-1 of the natural spline (P. J. Green, B. W.
    Silverman, Nonparametric Regression and Generalized Linear Models, 1994, section 2.1).
    """
    count, gaps = len(x), np.diff(x)
    inner = np.arange(count - 2)
    second = np.zeros((count, count - 2))  # second differences, and the product of their hat functions
    second[inner, inner], second[inner + 2, inner] = 1 / gaps[:-1], 1 / gaps[1:]
    second[inner + 1, inner] = -1 / gaps[:-1] - 1 / gaps[1:]
    product = np.diag((gaps[:-1] + gaps[1:]) / 3) + np.diag(gaps[1:-1] / 6, 1) + np.diag(gaps[1:-1] / 6, -1)
    rough, modes = np.linalg.eigh(second @ np.linalg.solve(product, second.T))
    seen = modes.T @ y

    def score(weight: float) -> float:
        kept = 1 / (1 + weight * np.maximum(rough, 0.0))  # eigenvalues of H
        plain = count * np.sum(((1 - kept) * seen) ** 2) / max(count - kept.sum(), 1e-9) ** 2
        return float(plain * (0.3 + 0.7 * np.sum(kept**2) / count))

    return float(min(np.logspace(-8, 1, 37), key=score))
