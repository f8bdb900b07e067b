"""Integrated rate laws of one run: a series of concentrations, a line, a law."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from molino.core.statistics import half_width

LEVEL = 0.01
"""A law is ruled out where data as far from it, or farther, would come about once in a hundred times."""
Model = Callable[[np.ndarray, np.ndarray, "Series"], np.ndarray]
"""Concentration over time from ln c0, ln k (and ln of the level), and the run."""


@dataclass(frozen=True)
class Series:
    """One run made ready: times in s and concentrations in mol/m^3 of the species, shape (samples,)."""

    run: str
    times: np.ndarray
    values: np.ndarray
    excess: float = math.nan
    """Partner less species at the start in mol/m^3, which a reaction of one with one keeps."""
    is_relative: bool = False
    """Whether errors are proportional to the values."""

    @property
    def sizes(self) -> np.ndarray:
        """What residuals are divided by, shape (samples,): ones, or with relative errors the values."""
        return self.values if self.is_relative else np.ones(len(self.values))


@dataclass(frozen=True)
class Line:
    """The straight line of one law through one run: transformed = intercept + slope t.

    `used` says which samples have a transform (above zero); `transformed`, shape (samples used,), holds it. k is the
    slope with the sign that makes it a rate constant, in SI, with the half width of its 95 % interval.
    """

    used: np.ndarray
    transformed: np.ndarray
    slope: float
    intercept: float
    r_squared: float
    k: float
    half_width: float


@dataclass(frozen=True)
class Law:
    """One law on all runs: its lines, and the curves of least squares through the concentrations.

    Attributes
    ----------
    name : str
    order : float
        Of the species; nan for a law that is not a power of it.
    lines : tuple of Line or None
        For each run; None where fewer than three samples have a transform.
    logarithms : tuple of arrays, shape (2,) or (3,)
        For each run ln c0, ln k and, where the law has one, ln of the concentration at equilibrium; by non-linear least
        squares.
    covariances : tuple of arrays
        Of `logarithms`.
    residuals : tuple of arrays, shape (samples,)
        Measured less calculated in mol/m^3; with relative errors as fractions of the measured values.
    probability : float
        Of data as far from this law as these, or farther, if it were true: the least of F-tests of its sum of squares
        against those of the other laws.
    """

    name: str
    order: float
    model: Model
    lines: tuple[Line | None, ...]
    logarithms: tuple[np.ndarray, ...]
    covariances: tuple[np.ndarray, ...]
    residuals: tuple[np.ndarray, ...]
    degrees_of_freedom: int
    probability: float = math.nan

    @property
    def sum_of_squares(self) -> float:
        """Of all residuals, in (mol/m^3)^2, or of relative residuals."""
        return float(sum(r @ r for r in self.residuals))

    @property
    def standard_deviation(self) -> float:
        """Residual standard deviation in mol/m^3, or with relative errors as a fraction."""
        return math.sqrt(self.sum_of_squares / self.degrees_of_freedom)

    @property
    def possible(self) -> bool:
        """Whether the data leave it standing."""
        return self.probability >= LEVEL

    def k(self, run: int) -> float:
        """Rate constant of a run in SI, by non-linear least squares."""
        return math.exp(self.logarithms[run][1])

    def interval(self, run: int) -> tuple[float, float]:
        """95 % interval of k, taken on its logarithm."""
        half = half_width(math.sqrt(self.covariances[run][1, 1]), self.degrees_of_freedom)
        factor = math.exp(min(half, 700.0))
        return self.k(run) / factor, self.k(run) * factor

    def half_life(self, run: int) -> float:
        """Time in s in which the concentration falls to half of that at the start; nan for a law without an order."""
        n, k, c0 = self.order, self.k(run), math.exp(self.logarithms[run][0])
        if not math.isfinite(n):
            return math.nan
        return math.log(2) / k if n == 1 else (2 ** (n - 1) - 1) / ((n - 1) * k * c0 ** (n - 1))
