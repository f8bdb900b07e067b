"""The noise of a measured signal in a residence time distribution, and its smoothing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import make_smoothing_spline

from molino.core.frozen import Frozen


@dataclass(frozen=True, eq=False)
class Noise(Frozen):
    """Changes of results by one standard deviation of each measurement; a variance is the sum of squares of a row.

    Attributes
    ----------
    F : array, shape (points, measurements)
    raw : array, shape (3, measurements)
    recovery : array, shape (measurements,)
    """

    F: np.ndarray
    raw: np.ndarray
    recovery: np.ndarray


def smoothed(t: np.ndarray, y: np.ndarray, smoothing: float | None, slope: bool = False) -> np.ndarray:
    """A cubic smoothing spline through a curve, in a scaled time, or its derivative; not negative."""
    x, width = (t - t[0]) / (t[-1] - t[0]), float(t[-1] - t[0])
    spline = make_smoothing_spline(x, y, lam=smoothing)
    return np.asarray(np.maximum(spline.derivative()(x) / width if slope else spline(x), 0.0))
