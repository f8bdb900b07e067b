"""Effectiveness factors of catalyst particles."""

from __future__ import annotations

import math

import numpy as np
import scipy
import sympy as sp

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.numeric_function import NumericFunction
from molino.core.errors import InputError, nearest

SHAPES = {"slab": 2.0, "cylinder": 4.0, "sphere": 6.0}
"""Thickness or diameter over the volume-to-surface ratio."""
_SERIES = {2.0: (1 / 3, 2 / 15), 4.0: (1 / 2, 1 / 3), 6.0: (3 / 5, 18 / 35)}
"""Coefficients of the effectiveness factor 1 - a s + b s^2 near s = 0, by shape."""
_SMALL = 1e-4
"""Square of the Thiele modulus below which three terms of the series are exact."""


class Effectiveness(NumericFunction):
    """Effectiveness(square, shape): the factor over the square of the Thiele modulus; shape as in `SHAPES`."""

    nargs = 2

    @staticmethod
    def number(*args: float) -> float:
        square, shape = args
        if square < _SMALL:
            first, second = _SERIES[shape]
            return 1.0 - first * square + second * square**2 if square > 0 else 1.0
        modulus = math.sqrt(square)
        if shape == SHAPES["slab"]:
            return math.tanh(modulus) / modulus
        if shape == SHAPES["cylinder"]:
            return float(scipy.special.i1e(2 * modulus) / scipy.special.i0e(2 * modulus)) / modulus
        return (3 * modulus / math.tanh(3 * modulus) - 1) / (3 * square)

    def fdiff(self, argindex: int = 1) -> sp.Expr:
        return EffectivenessSlope(*self.args)


class EffectivenessSlope(NumericFunction):
    """The derivative of `Effectiveness` by the square of the modulus."""

    nargs = 2

    @staticmethod
    def number(*args: float) -> float:
        square, shape = args
        if square < _SMALL:
            first, second = _SERIES[shape]
            return 2 * second * square - first if square > 0 else 0.0
        modulus = math.sqrt(square)
        if shape == SHAPES["slab"]:
            flat = math.tanh(modulus)
            return (modulus * (1 - flat**2) - flat) / (2 * modulus**3)
        if shape == SHAPES["cylinder"]:
            x = 2 * modulus
            ratio = float(scipy.special.i1e(x) / scipy.special.i0e(x))
            return (2 * (1 - ratio / x - ratio**2) / x - 2 * ratio / x**2) / modulus
        x = 3 * modulus
        coth, square_csch = 1 / math.tanh(x), (1 / math.sinh(x) ** 2 if x < 300 else 0.0)
        return (3 * (coth - x * square_csch) / x**2 - 6 * (x * coth - 1) / x**3) * 1.5 / modulus


@checked
def effectiveness_factor(modulus: float | np.ndarray, shape: str = "sphere") -> float | np.ndarray:
    """Effectiveness factor of a first-order reaction in a catalyst particle.

    The modulus is based on the ratio L of the particle's volume to its outer surface, so that the three shapes nearly
    coincide: phi = L sqrt(k rho_p / D). Slab tanh(phi)/phi; cylinder I_1(2 phi)/(phi I_0(2 phi)); sphere (3 phi coth(3
    phi) - 1)/(3 phi^2) (R. Aris, Chem. Eng. Sci. 6 (1957) 262).

    Parameters
    ----------
    modulus : float or array, not negative
    shape : "sphere", "cylinder" (long) or "slab"

    Returns
    -------
    float or array
        Of the shape of the modulus.

    Raises
    ------
    InputError
        For another shape, or a negative modulus.

    Examples
    --------
    >>> round(mo.thermo.effectiveness_factor(1.0), 4)
    0.6716
    """
    if shape not in SHAPES:
        raise InputError(f"unknown shape '{shape}'", "effectiveness", nearest(shape, SHAPES))
    if np.ndim(modulus):
        several = np.asarray(modulus, dtype=float)
        return np.reshape([effectiveness_factor(float(one), shape) for one in several.ravel()], several.shape)
    phi = units.positive(modulus, "number", "modulus", zero=True).si
    return Effectiveness.number(phi**2, SHAPES[shape])
