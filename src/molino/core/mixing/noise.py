"""The noise of a measured signal in a residence time distribution, and its smoothing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.frozen import Frozen

_EARLY = 0.02
"""The fraction of a record up to which its time is smoothed as it is."""


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
    """A cubic smoothing spline through a curve, or its derivative; not negative.

    The spline is in x = asinh(s/s_0)/asinh(1/s_0), s the fraction of the record, so that an early peak is as smooth as
    a late one of the same relative width.
    """
    s, whole = (t - t[0]) / (t[-1] - t[0]), np.arcsinh(1 / _EARLY)
    x = np.arcsinh(s / _EARLY) / whole
    spline = scipy.interpolate.make_smoothing_spline(x, y, lam=smoothing)
    scale = 1 / (np.hypot(s, _EARLY) * whole * (t[-1] - t[0]))  # dx/dt
    return np.asarray(np.maximum(spline.derivative()(x) * scale if slope else spline(x), 0.0))
