"""Observations of which only a limit is known: their part in the likelihood of a fit (J. Tobin, Econometrica 26 (1958)
24).

For normal errors of standard deviation s the likelihood of a value below a limit L is Phi((L - f)/s), of one above it
Phi((f - L)/s), with f the calculated value.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.frozen import Frozen

_FAR = -30.0
"""A limit missed by more standard deviations counts like a measured value."""
_MOST_ROUNDS = 500
_SETTLED = 1e-12
"""Relative change at which an estimated factor of errors has converged."""


@dataclass(frozen=True, eq=False)
class Deviations(Frozen):
    """The deviations of observations from calculated values, in standard deviations, each of shape (points,).

    Attributes
    ----------
    scaled : array
        (measured - calculated) / s of a value; of a limit the signed root of -2 log(likelihood). The sum of squares is
        -2 log(likelihood) up to a constant.
    slope : array
        Minus the derivative of `scaled` by the calculated value.
    gradient : array
        Half of the derivative of the sum of squares by the calculated value, with its sign changed.
    information : array
        Half of its second derivative: 1/s^2 of a value, less of a limit.
    expected : array
        The square of the deviation of a value; of a limit its expectation, given the limit.
    """

    scaled: np.ndarray
    slope: np.ndarray
    gradient: np.ndarray
    information: np.ndarray
    expected: np.ndarray

    @property
    def steps(self) -> tuple[np.ndarray, np.ndarray]:
        """Weights of derivatives, and residuals, whose least squares is a Newton step of the likelihood."""
        weights = np.sqrt(self.information)
        return weights, np.divide(self.gradient, weights, out=np.zeros_like(weights), where=weights > 0)


def deviations(measured: np.ndarray, side: np.ndarray, calculated: np.ndarray, s: np.ndarray) -> Deviations:
    """The deviations of values (side 0), and of limits that the values are below (-1) or above (1)."""
    scaled = (measured - calculated) / s
    slope, gradient, information, expected = 1 / s, scaled / s, 1 / s**2, scaled**2
    limits = np.flatnonzero(side)
    if len(limits):
        scaled, slope, expected = scaled.copy(), slope.copy(), expected.copy()
        own, size = side[limits], s[limits]
        z = -own * scaled[limits]
        log_likelihood = scipy.special.log_ndtr(z)
        mills = np.exp(-0.5 * z**2 - 0.5 * np.log(2 * np.pi) - log_likelihood)
        root = np.sqrt(-2 * log_likelihood)
        curvature = np.where(z < _FAR, 1.0, np.clip(mills * (mills + z), 0.0, 1.0))
        scaled[limits] = own * root
        slope[limits] = np.divide(mills, root, out=np.zeros_like(root), where=root > 0) / size
        gradient[limits] = own * mills / size
        information[limits] = curvature / size**2
        expected[limits] = np.maximum(1 - z * mills, 0.0)
    return Deviations(scaled, slope, gradient, information, expected)


def common_factor(scaled: np.ndarray, side: np.ndarray, counts: np.ndarray, degrees: float, start: float) -> float:
    """The standard deviation of errors up to which their sizes are known.

    Without limits sqrt(sum of squares / degrees of freedom); with them the square of a limit is its expectation (A. P.
    Dempster, N. M. Laird, D. B. Rubin, J. R. Stat. Soc. B 39 (1977) 1), until it no longer changes.

    Parameters
    ----------
    scaled : array, shape (points,)
        (measured - calculated) over the size of the error.
    side, counts : arrays, shape (points,)
        The sides of limits, and multiplicities.
    degrees : float
        Degrees of freedom.
    start : float
        The first guess, where there are limits.
    """
    values = side == 0
    plain = float(np.sum(counts[values] * scaled[values] ** 2))
    if values.all():
        return float(np.sqrt(plain / degrees))
    zero = np.zeros(int((~values).sum()))
    own, limits, weights = side[~values], scaled[~values], counts[~values]
    factor = start
    for _ in range(_MOST_ROUNDS):
        expected = deviations(limits, own, zero, np.full(len(zero), factor)).expected
        following = float(np.sqrt((plain + factor**2 * float(weights @ expected)) / degrees))
        if abs(following - factor) <= _SETTLED * factor:
            return following
        factor = following
    return factor
