"""Integrated rate laws: a series of concentrations, a line, a law."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from molino.core.fitting.correlated_errors import Links
from molino.core.statistics import half_width

LEVEL = 0.01
"""A law is rejected if the probability of data at least as far from it is below this."""
Model = Callable[[np.ndarray, np.ndarray, "Series"], np.ndarray]
"""Concentration over time from ln c0, ln k (and ln of the level), and the run."""


@dataclass(frozen=True)
class Limits:
    """Samples of a run of which only a limit is known: times in s, limits in mol/m^3, and their sides (-1 where the
    concentration is below), each of shape (limits,).

    `error` is the standard deviation of a value, with relative errors as a fraction.
    """

    times: np.ndarray
    values: np.ndarray
    sides: np.ndarray
    error: float


@dataclass(frozen=True)
class Series:
    """One run for screening: times in s and concentrations in mol/m^3 of the species, shape (samples,)."""

    run: str
    times: np.ndarray
    values: np.ndarray
    excess: float = math.nan
    """Partner less species in mol/m^3, constant for a reaction of one with one."""
    is_relative: bool = False
    """Whether errors are proportional to the values."""
    limits: Limits | None = None
    deviations: np.ndarray | None = None
    """Given standard deviations, relative to their median over all runs."""
    links: Links | None = None
    """The correlations of errors, if they are not independent."""

    @property
    def sizes(self) -> np.ndarray:
        """Divisors of residuals, shape (samples,): ones, the values with relative errors, or given deviations."""
        if self.deviations is not None:
            return self.deviations
        return self.values if self.is_relative else np.ones(len(self.values))

    def whiten(self, rows: np.ndarray) -> np.ndarray:
        """Rows with independent errors."""
        return rows if self.links is None else self.links.whiten(rows)


@dataclass(frozen=True)
class Line:
    """The straight line of one law through one run: transformed = intercept + slope t.

    `used`: whether a sample has a transform (above zero); `transformed`, shape (samples used,). k is the slope with the
    sign of a rate constant, in SI, with the half width of its 95 % interval.
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
        Of the species; nan for a law that is not a power.
    lines : tuple of Line or None
        For each run; None if fewer than three samples have a transform.
    logarithms : tuple of arrays, shape (2,) or (3,)
        For each run ln c0, ln k and, for a reversible law, ln of the concentration at equilibrium; by non-linear least
        squares.
    covariances : tuple of arrays
        Of `logarithms`.
    residuals : tuple of arrays, shape (samples,)
        Measured less calculated in mol/m^3; with relative errors as fractions of the measured values, with given ones
        relative to their size, with correlated ones the part that does not follow from the sample before.
    from_limits : float
        The part of limits in the sum of squares.
    probability : float
        Of data at least as far from this law, if it were true: the least of F-tests of its sum of squares and those of
        the other laws.
    """

    name: str
    order: float
    model: Model
    lines: tuple[Line | None, ...]
    logarithms: tuple[np.ndarray, ...]
    covariances: tuple[np.ndarray, ...]
    residuals: tuple[np.ndarray, ...]
    degrees_of_freedom: int
    from_limits: float = 0.0
    probability: float = math.nan

    @property
    def sum_of_squares(self) -> float:
        """Of all residuals, in (mol/m^3)^2, or of relative residuals; with that of limits."""
        return float(sum(r @ r for r in self.residuals)) + self.from_limits

    @property
    def standard_deviation(self) -> float:
        """Residual standard deviation in mol/m^3, or with relative errors as a fraction."""
        return math.sqrt(self.sum_of_squares / self.degrees_of_freedom)

    @property
    def possible(self) -> bool:
        """Whether it is not rejected."""
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
        """Time in s in which the concentration falls to half of its initial value; nan for a law without an order."""
        n, k, c0 = self.order, self.k(run), math.exp(self.logarithms[run][0])
        if not math.isfinite(n):
            return math.nan
        return math.log(2) / k if n == 1 else (2 ** (n - 1) - 1) / ((n - 1) * k * c0 ** (n - 1))
