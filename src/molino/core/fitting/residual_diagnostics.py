"""Diagnostics of residuals: runs of signs, normality, influence, lack of fit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.fitting.experiment import OUTLET
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.replicates import groups
from molino.core.fitting.serial_correlation import SerialCorrelation, serial_correlation
from molino.core.frozen import Frozen
from molino.core.statistics import f_tail_probability, p_text

LEVEL = 0.01
"""Probability below which a test gives a warning."""
_FEW_RUNS, _POOR = 0.2, 0.97
"""Probability of so few runs of signs, and R², below which another law is suggested."""
_FEWEST = 8
"""Smallest number of values for a test of the distribution."""


@dataclass(frozen=True)
class SignRuns:
    """Runs of signs of the residuals of one response, in order of run and time.

    `probability` is that of at most as many runs for random signs.
    """

    response: str
    runs: int
    expected: float
    probability: float

    def __str__(self) -> str:
        return (
            f"{self.response}: {self.runs} runs of signs ({self.expected:.1f} expected, p {p_text(self.probability)})"
        )


@dataclass(frozen=True)
class LackOfFit:
    """Scatter around the model compared with that of replicates: the F ratio and its probability by chance."""

    ratio: float
    degrees: int
    degrees_replicates: int
    probability: float


@dataclass(frozen=True, eq=False)
class Diagnosis(Frozen):
    """The diagnostics of residuals.

    Attributes
    ----------
    signs : tuple of SignRuns
    serial : tuple of SerialCorrelation
        Of responses with enough samples in order of time or place.
    normality : float
        Probability of residuals at least as far from a normal distribution, if they are normal (S. S. Shapiro, M. B.
        Wilk, Biometrika 52 (1965) 591); nan for fewer than eight.
    influence : array, shape (points,)
        Cook's distance: the shift of all constants when a point is excluded (R. D. Cook, Technometrics 19 (1977) 15).
    lack_of_fit : LackOfFit, optional
        If there are replicates.
    lines, warnings : lists of str
        The same in words, and the warnings.
    """

    signs: tuple[SignRuns, ...]
    serial: tuple[SerialCorrelation, ...]
    normality: float
    influence: np.ndarray
    lack_of_fit: LackOfFit | None
    lines: list[str]
    warnings: list[str]


def diagnose(fit: FitData) -> Diagnosis:
    """The diagnostics of the residuals of a fit."""
    points, degrees, count = fit.points, fit.degrees_of_freedom, len(fit.estimates)
    if float(np.max(points.standard_deviation)) < 1e-8 * float(np.max(np.abs(points.measured))):
        return Diagnosis((), (), math.nan, np.zeros(len(points.measured)), None, ["the data are met exactly"], [])
    names = np.array(points.response)
    scaled = points.independent / math.sqrt(fit.variance)
    left = np.maximum(1 - points.leverage, 1e-12)
    influence = scaled**2 * points.leverage / (count * left**2)
    values = points.is_value
    signs = tuple(
        sign_runs(s, _in_order(fit, scaled, (names == s) & values)) for s in fit.responses if values[names == s].any()
    )
    normality = _normality((scaled / np.sqrt(left))[values])
    lack = _lack_of_fit(fit, names)
    serial = tuple(one for s in fit.responses if (one := _serial(fit, s, names, scaled)) is not None)
    correlated = {one.response: one for one in serial if min(one.probability, one.ljung_box) < LEVEL}
    r_squared = {r.name: r.r_squared for r in fit.by_response}
    lines, warnings = [], []
    for found in signs:
        lines.append(str(found))
        if found.response in correlated:
            message = f"each residual is correlated with the next ({correlated[found.response].correlation:.2f})"
            reason = "the law may be wrong"
            if fit.problem.chains is None:
                reason += ", or errors are correlated and the intervals too narrow (option 'autocorrelated')"
            warnings.append(f"{found.response}: {message}: {reason}")
        elif found.probability < LEVEL:
            message = "the probability of so few runs of signs by chance is"
            warnings.append(f"{found.response}: {message} {p_text(found.probability)}: the law may be wrong")
        elif found.probability < _FEW_RUNS and r_squared.get(found.response, 1.0) < _POOR:
            warnings.append(
                f"{found.response}: R² is {r_squared[found.response]:.3g}, with {found.runs} runs of signs: "
                f"another law may fit better"
            )
    lines += [str(one) for one in serial]
    if math.isfinite(normality):
        lines.append(f"residuals normal: p {p_text(normality)}")
    if lack is not None:
        lines.append(
            f"lack of fit compared with replicates: F {lack.ratio:.3g} ({lack.degrees} and {lack.degrees_replicates} "
            f"degrees of freedom, p {p_text(lack.probability)})"
        )
        if lack.probability < LEVEL:
            warnings.append("the scatter around the curves is larger than that of replicates: the law is incomplete")
    worst = int(np.argmax(influence))
    if influence[worst] > 1 and degrees > count:
        where = f"{fit.place(points.run[worst], points.time[worst])}, {points.response[worst]}"
        warnings.append(f"{where}: this single value determines the constants (Cook's distance {influence[worst]:.2g})")
    return Diagnosis(signs, serial, normality, influence, lack, lines, warnings)


def _in_order(fit: FitData, residuals: np.ndarray, own: np.ndarray) -> np.ndarray:
    """Residuals of a response, by run and time; of rates in order of the calculated values."""
    points = fit.points
    place = points.time if fit.parameter_map.runs else points.calculated
    runs = np.array([list(dict.fromkeys(points.run)).index(r) if fit.parameter_map.runs else 0 for r in points.run])
    order = np.lexsort((place[own], runs[own]))
    return np.asarray(residuals[own][order])


def _serial(fit: FitData, response: str, names: np.ndarray, scaled: np.ndarray) -> SerialCorrelation | None:
    """The serial correlation of one response within its runs; None for rates, outlets and few samples."""
    points = fit.points
    along = {run.name for run in fit.parameter_map.runs if run.along != OUTLET}
    own = np.flatnonzero((names == response) & points.is_value & np.isin(points.run, list(along)))
    rows = points.slopes / points.standard_deviation[:, None]
    weighted = points.links.whiten(rows) if points.links is not None else rows
    run_of = np.array(points.run)
    return serial_correlation(response, scaled[own], run_of[own], points.time[own], weighted[own])


def sign_runs(response: str, residuals: np.ndarray) -> SignRuns:
    """Count runs of signs; the probability is exact up to 40 values, then by the normal approximation.

    (A. Wald, J. Wolfowitz, Ann. Math. Stat. 11 (1940) 147.)
    """
    up = residuals > 0
    n, m = int(up.sum()), int((~up).sum())
    runs = 1 + int(np.sum(up[1:] != up[:-1])) if len(up) else 0
    if not n or not m:
        return SignRuns(response, runs, 1.0, 1.0 if len(up) < 8 else 2.0 ** (1 - len(up)))
    expected = 1 + 2 * n * m / (n + m)
    if n + m <= 40:
        return SignRuns(response, runs, expected, sum(_chance(k, n, m) for k in range(2, runs + 1)))
    deviation = math.sqrt((expected - 1) * (expected - 2) / (n + m - 1))
    return SignRuns(response, runs, expected, float(scipy.special.ndtr((runs + 0.5 - expected) / deviation)))


def _chance(runs: int, n: int, m: int) -> float:
    """Probability of exactly so many runs among n and m signs."""

    def ways(a: int, b: int) -> float:
        return math.comb(a, b)

    half = runs // 2
    total = math.exp(-scipy.special.betaln(n + 1, m + 1)) / (n + m + 1)
    if runs % 2 == 0:
        return 2 * ways(n - 1, half - 1) * ways(m - 1, half - 1) / total
    return (ways(n - 1, half) * ways(m - 1, half - 1) + ways(n - 1, half - 1) * ways(m - 1, half)) / total


def _normality(studentised: np.ndarray) -> float:
    if not _FEWEST <= len(studentised) <= 5000 or np.ptp(studentised) == 0:
        return math.nan
    from scipy.stats import shapiro

    return float(shapiro(studentised).pvalue)


def _lack_of_fit(fit: FitData, names: np.ndarray) -> LackOfFit | None:
    """F-test of the residual beyond pure error (N. R. Draper, H. Smith, 1998, section 2.1)."""
    which = np.array([fit.responses.index(s) for s in names])
    pure, degrees = 0.0, 0
    scaled = fit.points.measured / fit.points.standard_deviation
    for group in groups(fit.points.replicates, which):
        members = group[fit.points.is_value[group]]
        if len(members) < 2:
            continue
        own = scaled[members]
        pure += float(np.sum((own - own.mean()) ** 2))
        degrees += len(members) - 1
    other = int(fit.degrees_of_freedom) - degrees
    if degrees < 1 or other < 1 or pure <= 0:
        return None
    total = float(fit.points.scaled @ fit.points.scaled)
    ratio = max(total - pure, 0.0) / other / (pure / degrees)
    return LackOfFit(ratio, other, degrees, f_tail_probability(ratio, other, degrees))
