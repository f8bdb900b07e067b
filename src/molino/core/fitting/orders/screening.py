"""Order screening: simple rate laws of a concentration over time, and whether the data distinguish them.

Each law is tried twice: by its straight line (the usual way in a laboratory), and, since a transformation distorts the
errors, by non-linear least squares on the measured concentrations. The verdict is based on the second.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Literal

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.censoring import deviations
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.fitting.orders.correlated_series import Correlation, serial_of, with_correlation
from molino.core.fitting.orders.integrated_laws import LEVEL, Law, Limits, Line, Model, Series
from molino.core.fitting.orders.screening_result import REVERSIBLE, Screening
from molino.core.statistics import f_quantile, f_tail_probability, half_width

_NAMES = {0.0: "zero order", 1.0: "first order", 2.0: "second order"}
_ROUNDS = 3
"""Rounds of the free order and the correlation time of errors."""
_ORDERS = (-1.0, 4.0)
"""The range of a free order."""


def power_law(t: np.ndarray, c0: float, k: float, n: float) -> np.ndarray:
    """Concentration of dc/dt = -k c^n: (c0^(1-n) + (n-1) k t)^(1/(1-n)), c0 exp(-k t) for n = 1; 0 after exhaustion."""
    if abs(n - 1) < 1e-9:
        return np.asarray(c0 * np.exp(-k * t))
    base = 1 + (n - 1) * k * c0 ** (n - 1) * t
    gone = base <= 0
    return np.asarray(np.where(gone, 0.0, c0 * np.where(gone, 1.0, base) ** (1 / (1 - n))))


def _of_order(n: float) -> Model:
    return partial(_power_law, n)


def _power_law(n: float, p: np.ndarray, t: np.ndarray, s: Series) -> np.ndarray:
    return power_law(t, math.exp(p[0]), math.exp(p[1]), n)


def _two_reactants(p: np.ndarray, t: np.ndarray, s: Series) -> np.ndarray:
    """Concentration of dc/dt = -k c (c + excess) (O. Levenspiel, 1999, eq. 3.15)."""
    c0, k = math.exp(p[0]), math.exp(p[1])
    if abs(s.excess) < 1e-9 * c0:
        return power_law(t, c0, k, 2.0)
    grown = np.exp(np.clip(k * s.excess * t, -700.0, 700.0))
    return np.asarray(c0 * s.excess / ((c0 + s.excess) * grown - c0))


def _to_level(p: np.ndarray, t: np.ndarray, s: Series) -> np.ndarray:
    """Concentration of a reversible first order: c_e + (c0 - c_e) exp(-k t), k the sum of both constants."""
    level = math.exp(p[2])
    return np.asarray(level + (math.exp(p[0]) - level) * np.exp(-math.exp(p[1]) * t))


@checked
def screen_orders(
    data: Experiments | Experiment | Sequence[Experiment | Experiments],
    species: str | None = None,
    *,
    partner: str | None = None,
    reversible: bool = False,
    errors: Literal["same", "relative", "given"] | None = None,
    autocorrelated: bool = False,
) -> Screening:
    """Try zero, first and second order, and a free order n, on the concentration of one species in batch runs.

    Each run has its own rate constant and initial concentration; the order is common. By straight lines: c, ln c and
    1/c over t (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 3). By least squares on the
    concentrations: the sum of squares of each law is compared with that of the free order and of laws that are not
    powers of the concentration, by the F-test for the additional parameters of the other, at least one (D. M. Bates,
    D. G. Watts, Nonlinear Regression Analysis and Its Applications, 1988, section 3.10). A law is rejected if the
    probability of data as far from it is below 1 %. The interval of the free order is by the same test.

    Parameters
    ----------
    data : Experiments, or runs
    species : str, optional
        May be omitted where only one was measured.
    partner : str, optional
        A second reactant, consumed one for one: `-dc/dt = k [species] [partner]` is also tried. The initial
        concentrations of both must be known (`initial ...`, or measured at time zero).
    reversible : bool
        Also try a reversible first order.
    errors : "same", "relative" or "given", optional
        An absolute error, one proportional to the value, or the standard deviations in the data up to a factor: the
        default if each value has one, otherwise "same".
    autocorrelated : bool
        Whether errors within a run are correlated, exp(-(time between)/tau), with tau estimated around the free order.

    Returns
    -------
    Screening

    Raises
    ------
    InputError, SolveError
        For an unknown species, too few values, or relative errors of zero values; if a curve cannot be fitted.

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> mo.screen_orders(mo.read_experiments(data), "xylose").chosen.name
    'first order'
    """
    runs = as_experiments(data)
    named = _measured_species(runs, species)
    if errors not in (None, "same", "relative", "given"):
        raise InputError(f"errors = {errors!r}", "orders", "'same', 'relative' or 'given'")
    plain = _series(runs, named, partner, 4 if reversible else 3, errors == "relative")
    plain, errors = _with_deviations(plain, runs, named, errors)
    series = _with_limits(plain, runs, named)
    correlation = None
    if autocorrelated:
        if any(s.limits is not None for s in series):
            raise InputError("correlated errors with limits of detection", "orders", "leave the limits out")
        for _ in range(_ROUNDS):
            free = _free_order(series)
            series, correlation = with_correlation(series, free, _of_order(free.order), named)
    laws = [_law(name, n, _of_order(n), series) for n, name in _NAMES.items()]
    if partner is not None:
        laws.append(_law(f"second order with {partner}", math.nan, _two_reactants, series))
    if reversible:
        laws.append(_law(REVERSIBLE, math.nan, _to_level, series))
    free = _free_order(series)
    floor = 1e-20 * sum(float(np.sum((s.values / s.sizes) ** 2)) for s in series)  # rounding of exact data
    interval = _order_interval(series, free, (free.sum_of_squares + floor) / free.degrees_of_freedom, correlation)
    compared = [_with_probability(law, free, laws, floor, correlation) for law in (free, *laws)]
    serial = serial_of(series, free, _of_order(free.order), named)
    return Screening(named, runs, series, tuple(compared[1:]), compared[0], interval, errors, correlation, serial)


def _measured_species(runs: Experiments, species: str | None) -> str:
    named = species if species is not None or len(runs.species) != 1 else runs.species[0]
    if named is None or named not in runs.species:
        message = f"'{named}' was not measured" if named else f"{len(runs.species)} species were measured"
        raise InputError(message, "orders", f"name one: {nearest(named or '', runs.species)}")
    return named


def _with_probability(law: Law, free: Law, laws: Sequence[Law], floor: float, correlation: Correlation | None) -> Law:
    """A law with its least F-test probability against the free order and laws that are not powers."""
    probability = 1.0
    for other in (free, *laws):
        if other is not free and math.isfinite(law.order) and math.isfinite(other.order):
            continue  # two fixed orders are both compared with the free order
        more = max(law.degrees_of_freedom - other.degrees_of_freedom, 1)
        variance = (other.sum_of_squares + floor) / other.degrees_of_freedom
        beyond = (law.sum_of_squares - other.sum_of_squares) / more / variance
        degrees: float = other.degrees_of_freedom
        if correlation is not None:
            beyond, degrees = beyond / correlation.factor, min(correlation.degrees_of_freedom, degrees)
        probability = min(probability, f_tail_probability(beyond, more, degrees))
    return replace(law, probability=probability)


def _series(runs: Experiments, species: str, partner: str | None, fewest: int, is_relative: bool) -> tuple[Series, ...]:
    runs.require_simple("a screening of orders")
    faults = Faults()
    found = []
    for run in runs:
        if species not in run.measured:
            continue
        seen = np.isfinite(run.measured[species])
        times, values = run.times[seen], run.measured[species][seen]
        place = f"run {run.name}"
        if len(values) <= fewest:
            faults.add(
                place, f"{len(values)} values of {species}", f"at least {fewest + 1} are needed to screen an order"
            )
            continue
        if not values.max() > 0:
            faults.add(place, f"no {species} was found in any sample", "leave the run out")
            continue
        if (times - times.mean()) @ values >= 0:
            faults.add(
                place, f"{species} does not fall", "an order is screened on a reactant: name one that is consumed"
            )
            continue
        if is_relative and not (values > 0).all():
            faults.add(
                place,
                f"a value of {species} is not above zero, so that its relative error is undefined",
                "leave it out",
            )
            continue
        excess = math.nan
        if partner is not None:
            if partner not in run.charge or species not in run.charge:
                missing = partner if partner not in run.charge else species
                faults.add(place, f"the initial concentration of {missing} is unknown", f"add 'initial {missing}'")
                continue
            excess = run.charge[partner] - run.charge[species]
        found.append(Series(run.name, times, values, excess, is_relative))
    faults.raise_any(runs.source or "orders")
    return tuple(found)


def _with_deviations(
    series: tuple[Series, ...], runs: Experiments, species: str, errors: Literal["same", "relative", "given"] | None
) -> tuple[tuple[Series, ...], Literal["same", "relative", "given"]]:
    """The series with the standard deviations in the data, if they are used, and the option for errors."""
    if errors in ("same", "relative"):
        return series, errors
    own, by_name = [], {run.name: run for run in runs}
    for s in series:
        run = by_name[s.run]
        seen = np.isfinite(run.measured[species])
        own.append(run.deviations[species][seen] if species in run.deviations else np.full(len(s.values), np.nan))
    lacking = sum(int(np.isnan(one).sum()) for one in own)
    if lacking and errors is None:
        return series, "same"
    if lacking:
        raise InputError(f"{lacking} values of {species} have no standard deviation", "orders", "errors='same'")
    typical = float(np.median(np.concatenate(own)))
    return tuple(replace(s, deviations=d / typical) for s, d in zip(series, own, strict=True)), "given"


def _with_limits(series: tuple[Series, ...], runs: Experiments, species: str) -> tuple[Series, ...]:
    """The series with the limits of their runs, in terms of the errors of the values around a free order."""
    by_name = {run.name: run for run in runs}
    sides = {s.run: by_name[s.run].limits(species) for s in series}
    if not any(own.any() for own in sides.values()):
        return series
    error = max(_free_order(series).standard_deviation, 1e-9 * max(float(np.max(s.values / s.sizes)) for s in series))
    found = []
    for s in series:
        run, own = by_name[s.run], sides[s.run]
        where = own != 0
        limits = Limits(run.times[where], run.with_limits(species)[where], own[where], error)
        found.append(replace(s, limits=limits) if where.any() else s)
    return tuple(found)


def _limit_deviations(limits: Limits, calculated: np.ndarray, s: Series) -> tuple[np.ndarray, np.ndarray]:
    """The deviations of limits in the unit of residuals, and minus their derivatives by the calculated values; see
    `core.fitting.censoring`."""
    sizes = limits.error * (limits.values if s.is_relative else np.ones(len(limits.values)))
    found = deviations(limits.values, limits.sides, calculated, sizes)
    return limits.error * found.scaled, limits.error * found.slope


def _law(name: str, order: float, model: Model, series: tuple[Series, ...], free: int = 0) -> Law:
    """A law on every run; `free` further parameters are common to all."""
    whole = [_curve(name, order, model, s) for s in series]
    fits = [(p, r[: len(s.values)], inverse) for (p, r, inverse), s in zip(whole, series, strict=True)]
    count = sum(len(s.values) for s in series) - sum(len(p) for p, _, _ in fits) - free
    squares = sum(float(r @ r) for _, r, _ in whole)
    of_limits = squares - sum(float(r @ r) for _, r, _ in fits)
    covariances = tuple(inverse * squares / max(count, 1) for _, _, inverse in fits)
    lines = tuple(_line(name, order, s, p) for s, (p, _, _) in zip(series, fits, strict=True))
    return Law(
        name,
        order,
        model,
        lines,
        tuple(p for p, _, _ in fits),
        covariances,
        tuple(r for _, r, _ in fits),
        count,
        of_limits,
    )


def _curve(name: str, order: float, model: Model, s: Series) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """ln c0, ln k (and ln of the level) of one run, the residuals, then those of limits, and the inverse of J'J.

    In units of the largest concentration and the last time, to avoid overflow and underflow.
    """
    top, end = float(s.values.max()), float(s.times[-1])
    one = replace(s, times=s.times / end, values=s.values / top, excess=s.excess / top, limits=None)
    unit = 1.0 if s.is_relative else top
    limits = s.limits
    if limits is not None:
        limits = Limits(limits.times / end, limits.values / top, limits.sides, limits.error / unit)
    power = order if math.isfinite(order) else (1.0 if name == REVERSIBLE else 2.0)
    left = min(max(float(one.values[-1]), 0.02), 0.98)
    by_end = -math.log(left) if power == 1 else (left ** (1 - power) - 1) / (power - 1)
    start = [0.0, math.log(max(by_end, 1e-3))]
    if name == REVERSIBLE:
        start = [0.0, start[1] + 1.0, math.log(left)]

    def residuals(p: np.ndarray) -> np.ndarray:
        with np.errstate(all="ignore"):
            p = np.clip(p, -50.0, 50.0)
            off = one.whiten((one.values - model(p, one.times, one)) / one.sizes)
            if limits is not None:
                off = np.concatenate([off, _limit_deviations(limits, model(p, limits.times, one), one)[0]])
        return np.asarray(np.nan_to_num(off, nan=1e3, posinf=1e3, neginf=-1e3))

    times = one.times if limits is None else np.concatenate([one.times, limits.times])

    def slopes(p: np.ndarray) -> np.ndarray:
        """Of dc/dt = -k c^n: dc/d(ln c0) = c^n c0^(1-n), dc/d(ln k) = -k t c^n."""
        c0, k = np.exp(np.clip(p, -50.0, 50.0))
        with np.errstate(all="ignore"):
            c = model(np.clip(p, -50.0, 50.0), times, one)
            by = np.where(c > 0, c**order, 0.0)
            weights = 1 / one.sizes
            if limits is not None:
                weights = np.concatenate([weights, _limit_deviations(limits, c[len(one.times) :], one)[1]])
            found = -np.array([by * c0 ** (1 - order), -k * times * by]).T * weights[:, None]
            found[: len(one.times)] = one.whiten(found[: len(one.times)])
        return np.asarray(np.nan_to_num(found, nan=0.0, posinf=1e3, neginf=-1e3))

    exact: PlainData = {"jac": slopes} if math.isfinite(order) else {}
    best = scipy.optimize.least_squares(
        residuals, start, **exact, method="lm", xtol=1e-12, ftol=1e-12, gtol=1e-12, x_scale=0.1
    )
    if not np.isfinite(best.cost):
        raise SolveError(f"no {name} can be fitted to run {s.run}", "orders", "check the data of the run")
    shift = [math.log(top), (1 - power) * math.log(top) - math.log(end), math.log(top)][: len(start)]
    return best.x + shift, best.fun * unit, np.linalg.pinv(best.jac.T @ best.jac) / unit**2


def _line(name: str, order: float, s: Series, p: np.ndarray) -> Line | None:
    """The straight line of a law through one run, by linear least squares on the transformed values."""
    level = math.exp(p[2]) if len(p) > 2 else 0.0
    two = len(p) == 2 and not math.isfinite(order)
    used = np.ones(len(s.values), dtype=bool) if order == 0 else s.values > (level if level < s.values[0] else -np.inf)
    if two:
        used &= s.values + s.excess > 0
    if used.sum() < 3:
        return None
    t, c = s.times[used], s.values[used]
    if two and abs(s.excess) > 1e-9 * c.max():
        y, sign = np.log((c + s.excess) / c) / s.excess, 1.0
    elif two or (math.isfinite(order) and order not in (0.0, 1.0)):
        power = 1 - (2.0 if two else order)
        y, sign = c**power, math.copysign(1.0, -power) / abs(power)
    elif order == 0:
        y, sign = c, -1.0
    else:
        y, sign = np.log(np.abs(c - level)), -1.0
    away = t - t.mean()
    slope = float(away @ y / (away @ away))
    left = y - y.mean() - slope * away
    total = float((y - y.mean()) @ (y - y.mean()))
    error = math.sqrt(float(left @ left) / max(len(t) - 2, 1) / float(away @ away))
    r_squared = 1 - float(left @ left) / total if total > 0 else math.nan
    half = half_width(error, len(t) - 2) * abs(sign)
    return Line(used, y, slope, float(y.mean() - slope * t.mean()), r_squared, sign * slope, half)


def _sum_of_squares(series: tuple[Series, ...], n: float) -> float:
    return sum(float(r @ r) for r in (_curve("order n", n, _of_order(n), s)[1] for s in series))


def _free_order(series: tuple[Series, ...]) -> Law:
    """The order that minimizes the sum of squares: a grid, then Brent's method around its lowest point."""
    grid = np.linspace(*_ORDERS, 11)
    squares = [_sum_of_squares(series, n) for n in grid]
    lowest = int(np.argmin(squares))
    low, high = grid[max(lowest - 1, 0)], grid[min(lowest + 1, len(grid) - 1)]
    found = scipy.optimize.minimize_scalar(
        lambda n: _sum_of_squares(series, n), bounds=(low, high), method="bounded", options={"xatol": 1e-5}
    )
    n = float(found.x) if found.fun < squares[lowest] else float(grid[lowest])
    return _law("order n", n, _of_order(n), series, free=1)


def _order_interval(
    series: tuple[Series, ...], free: Law, variance: float, correlation: Correlation | None
) -> tuple[float, float]:
    """The orders that are not rejected: those whose sum of squares exceeds the least by up to F(0.99; 1, dof) s^2."""
    degrees = free.degrees_of_freedom if correlation is None else correlation.degrees_of_freedom
    factor = 1.0 if correlation is None else correlation.factor
    limit = free.sum_of_squares + factor * f_quantile(1 - LEVEL, 1, degrees) * variance

    def above(n: float) -> float:
        return _sum_of_squares(series, n) - limit

    ends = []
    for bound in _ORDERS:
        far = above(bound)
        ends.append(
            float(scipy.optimize.brentq(above, free.order, bound, xtol=1e-4)) if far > 0 > above(free.order) else bound
        )
    return ends[0], ends[1]
