"""Functions of time from their Laplace transforms."""

from __future__ import annotations

from collections.abc import Callable
from math import comb

import numpy as np

Transform = Callable[[np.ndarray], np.ndarray]

_DIGITS = 18.4
"""A of the method: the error of the series is exp(-A), 1e-8."""
_AVERAGED = 11
"""Terms whose sums are averaged."""
FEW, MANY = 38, 160
"""Terms that are summed directly: for wide curves, and for narrow peaks."""
_WEIGHTS = np.array([comb(_AVERAGED, k) for k in range(_AVERAGED + 1)]) / 2.0**_AVERAGED


def inverted(transform: Transform, times: np.ndarray, terms: int = MANY) -> np.ndarray:
    """f(t) from F(s), by a Fourier series with Euler summation, to 1e-8 of its size where f is smooth.

    J. Abate, W. Whitt, The Fourier-series method for inverting transforms of probability distributions, Queueing
    Systems 10 (1992) 5, algorithm EULER.

    Parameters
    ----------
    transform : function of complex arrays of any shape
    times : array, shape (points,), above zero
    terms : int
        Number of terms before the averaging.

    Returns
    -------
    array, shape (points,)
    """
    k = np.arange(terms + _AVERAGED + 1)
    s = (_DIGITS + 2j * np.pi * k[:, None]) / (2 * times)
    rows = np.real(transform(s)) * np.where(k % 2 == 0, 1.0, -1.0)[:, None]
    rows[0] *= 0.5
    sums = np.cumsum(rows, axis=0)[terms:]
    return np.asarray(np.exp(_DIGITS / 2) / times * (_WEIGHTS @ sums))
