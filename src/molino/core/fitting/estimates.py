"""Fitted constants with their standard errors and intervals."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.display import Display
from molino.core.fitting.correlated_errors import with_unknown_errors
from molino.core.fitting.least_squares_problem import RANK, Optimum, Problem, Scale, degrees_by_group
from molino.core.statistics import half_width
from molino.core.units import Value

_MANY = 1e6
"""Degrees of freedom of a constant whose error is known."""


@dataclass(frozen=True)
class Estimate:
    """One fitted constant, in SI; `shown()` has it in its unit."""

    name: str
    value: float
    standard_error: float
    unit: str | None
    at_bound: bool
    degrees_of_freedom: float
    at: Value | None = None
    """The reference temperature of a rate or equilibrium constant."""

    def label(self, display: Display) -> str:
        """Its name with its temperature, "main.k at 50 °C"."""
        return f"{self.name} at {display.text(self.at.si, 'temperature')}" if self.at is not None else self.name

    @property
    def interval(self) -> tuple[float, float]:
        """95 % confidence interval, value -/+ t(0.975, degrees of freedom) standard errors.

        For a pre-exponential factor, whose logarithm the data determine: exp(ln A -/+ t s/A).
        """
        half = half_width(self.standard_error, self.degrees_of_freedom)
        if self.name.endswith(".A") and self.value > 0:
            factor = float(np.exp(np.minimum(half / self.value, 700.0)))
            return self.value / factor, self.value * factor
        return self.value - half, self.value + half

    def shown(self) -> tuple[float, float, float, float]:
        """Value, standard error and interval in the unit of the constant."""
        if self.unit is None:
            return (self.value, self.standard_error, *self.interval)
        found = units.unit(self.unit)
        low, high = (found.from_si(bound) for bound in self.interval)
        return found.from_si(self.value), self.standard_error / found.factor, low, high


def estimates_of(problem: Problem, optimum: Optimum) -> tuple[tuple[Estimate, ...], np.ndarray, dict[str, str]]:
    """Estimates, their covariance and the reasons why some constants are not determined.

    C = s^2 (J'J)^-1 (N. R. Draper, H. Smith, Applied Regression Analysis, 3rd ed. 1998, ch. 24). If several responses
    have their own errors, estimated with the constants, C and the degrees of freedom of each constant include the
    uncertainty of these errors (see `_with_unknown_errors`). The rank is that of the constants in the scale of the
    search.
    """
    scale = Scale(problem.free, problem.mean_temperature)
    outward = scale.slope(optimum.parameters)
    weighted = optimum.information_rows(problem) @ outward
    variance = optimum.variance(problem)
    _, singular, right = np.linalg.svd(weighted, full_matrices=False)
    determined = singular > RANK * max(singular[0], 1e-300)
    inverse = right[determined].T / singular[determined]
    plain = variance * inverse @ inverse.T
    counts = optimum.information_counts(problem)
    widened, by_constant = _with_unknown_errors(problem, optimum, weighted, counts, variance, plain, outward)
    covariance = outward @ widened @ outward.T
    errors = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    lost = np.any(np.abs(right[~determined]) > 1e-3, axis=0)
    errors[lost] = np.inf
    names = [p.name for p in problem.free]
    reasons = {}
    for i in np.flatnonzero(lost):
        with_it = {
            int(j) for row in right[~determined] if abs(row[i]) > 1e-3 for j in np.flatnonzero(np.abs(row) > 1e-3)
        }
        others = [names[j] for j in sorted(with_it - {int(i)})]
        reasons[names[i]] = (
            f"a change of it is compensated by {' and '.join(others)}" if others else "no measured value depends on it"
        )
    found = []
    for p, value, error, own in zip(problem.free, optimum.parameters, errors, by_constant, strict=True):
        near = 1e-6 * max(abs(p.value), abs(float(value)))
        at_bound = any(np.isfinite(b) and abs(value - b) <= near for b in (p.lower, p.upper))
        found.append(Estimate(p.name, float(value), float(error), p.unit, at_bound, own, p.at))
    return tuple(found), covariance, reasons


def _with_unknown_errors(
    problem: Problem,
    optimum: Optimum,
    weighted: np.ndarray,
    counts: np.ndarray,
    variance: float,
    plain: np.ndarray,
    outward: np.ndarray,
) -> tuple[np.ndarray, list[float]]:
    """The covariance P of the search's variables, and degrees of freedom, if groups have their own errors.

    With the information B_r of group r, of n_r degrees of freedom, C = P + 4 P (sum_r (B_r - B_r P B_r)/n_r) P, and
    Student's t of a constant c has (c P c)^2 / sum_r ((c P B_r P c)^2/n_r) degrees of freedom (M. G. Kenward, J. H.
    Roger, Biometrics 53 (1997) 983, with independent groups). For one group: P itself, and observations less constants.
    A limit counts by its information relative to that of a value, in `counts`.
    """
    count = weighted.shape[1]
    most = _MANY if problem.priors else max(float(counts.sum()) - count, 1.0)
    degrees = degrees_by_group(problem, weighted, counts)
    if problem.chains is not None and optimum.tau is not None and variance > 0:
        return _with_correlated_errors(problem, optimum, plain, outward)
    if len(degrees) == 1 or not variance > 0:
        return plain, [most] * count
    rows = [weighted[problem.group == n] / np.sqrt(variance) for n in range(len(degrees))]
    within = [plain @ (own.T @ own) @ plain for own in rows]
    lost = sum((PBP - PBP @ (own.T @ own) @ plain) / n for PBP, own, n in zip(within, rows, degrees, strict=True))
    spread = np.array([np.diag(outward @ PBP @ outward.T) for PBP in within])
    size = np.diag(outward @ plain @ outward.T)
    with np.errstate(divide="ignore", invalid="ignore"):
        own = size**2 / np.sum(spread**2 / degrees[:, None], axis=0)
    own = np.where(np.isfinite(own), np.minimum(own, most), most)
    return plain + 4 * lost, [max(float(n), 1.0) for n in own]


def _with_correlated_errors(
    problem: Problem, optimum: Optimum, plain: np.ndarray, outward: np.ndarray
) -> tuple[np.ndarray, list[float]]:
    """The same with estimated correlation times of errors; degrees of freedom 2 v^2 / (variance of v) (F. E.
    Satterthwaite, Biometrics Bull. 2 (1946) 110)."""
    assert problem.chains is not None
    assert optimum.tau is not None
    weights, _ = problem.deviations(optimum.values, optimum.standard_deviation).steps
    rows = (optimum.slopes @ outward) * weights[:, None]
    group = np.where(problem.is_prior, -1, problem.group)
    widened, spread = with_unknown_errors(rows, group, problem.chains, optimum.tau)
    variances = np.diag(outward @ plain @ outward.T)
    of_variances = np.sum(np.array([np.diag(outward @ own @ outward.T) for own in spread]) ** 2, axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        degrees = 2 * variances**2 / of_variances
    most = float(len(rows) - rows.shape[1])
    return widened, [float(np.clip(n, 1.0, most)) if np.isfinite(n) else most for n in degrees]
