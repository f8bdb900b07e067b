"""Diagnostics of residuals: runs of signs, normality, influence, lack of fit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.fitting.experiment import OUTLET
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.least_squares_problem import RANK
from molino.core.fitting.replicates import groups
from molino.core.frozen import Frozen
from molino.core.statistics import chi_squared_probability, f_tail_probability, p_text

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
class SerialCorrelation:
    """The correlation of each residual of one response with the next of its run.

    Attributes
    ----------
    response : str
    correlation : float
        Of residuals over their standard deviation, lag one.
    durbin_watson : float
        The sum of squared differences of neighbors over the sum of squares: about 2 without correlation (J. Durbin, G.
        S. Watson, Biometrika 37 (1950) 409).
    probability : float
        Of a correlation at least as large, if errors are independent: by its mean and variance, given the derivatives
        by the constants (J. Durbin, G. S. Watson, Biometrika 38 (1951) 159, section 3).
    ljung_box : float
        Probability of correlations over several lags at least as large (G. M. Ljung, G. E. P. Box, Biometrika 65
        (1978) 297).
    """

    response: str
    correlation: float
    durbin_watson: float
    probability: float
    ljung_box: float

    def __str__(self) -> str:
        return (
            f"{self.response}: serial correlation {self.correlation:.2f} (Durbin-Watson {self.durbin_watson:.2f}, p "
            f"{p_text(self.probability)}; Ljung-Box p {p_text(self.ljung_box)})"
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
    run_of = np.array(points.run)[own]
    own = own[np.lexsort((points.time[own], run_of))]
    run_of = np.array(points.run)[own]
    links = np.flatnonzero((run_of[1:] == run_of[:-1]) & (np.diff(points.time[own]) > 0))
    if len(links) < _FEWEST:
        return None
    e = scaled[own]
    squares = float(e @ e)
    correlation = float(e[links] @ e[links + 1]) / squares
    starts = np.r_[True, run_of[1:] != run_of[:-1]]
    differences = float(np.sum(np.diff(e)[run_of[1:] == run_of[:-1]] ** 2))
    rows = points.slopes / points.standard_deviation[:, None]
    weighted = (points.links.whiten(rows) if points.links is not None else rows)[own]
    size = np.linalg.norm(weighted, axis=0)
    left, singular, _ = np.linalg.svd(weighted[:, size > 0] / size[size > 0], full_matrices=False)
    basis = left[:, singular > RANK * max(float(singular[0]), 1e-300)] if singular.size else np.zeros((len(e), 0))
    lagged = _neighbor_sums(basis, links)
    inner = basis.T @ lagged
    degrees = len(e) - basis.shape[1]
    trace = -float(np.trace(inner))
    squared = 0.5 * len(links) - 2 * float(np.sum(lagged**2)) + float(np.sum(inner**2))
    mean = trace / degrees
    variance = 2 * (squared - trace**2 / degrees) / (degrees * (degrees + 2))
    z = (correlation - mean) / math.sqrt(max(variance, 1e-300))
    lags = min(10, len(e) // 5)
    total = 0.0
    for lag in range(1, lags + 1):
        pairs = np.flatnonzero(run_of[lag:] == run_of[:-lag])
        if len(pairs):
            r = float(e[pairs] @ e[pairs + lag]) / squares
            total += len(e) * (len(e) + 2) * r**2 / len(pairs)
    ljung_box = 1 - chi_squared_probability(total, max(lags, 1))
    watson = differences / squares * len(e) / max(len(e) - int(starts.sum()) + 1, 1)
    return SerialCorrelation(response, correlation, watson, float(scipy.special.ndtr(-z)), ljung_box)


def _neighbor_sums(rows: np.ndarray, links: np.ndarray) -> np.ndarray:
    """Half of the sum of both neighbors of each row within its run, shape of `rows`."""
    found = np.zeros_like(rows)
    found[links] += 0.5 * rows[links + 1]
    found[links + 1] += 0.5 * rows[links]
    return found


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
