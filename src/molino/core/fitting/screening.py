"""Order screening: which simple rate law a concentration over time follows, and whether the data can tell.

Each law is tried twice: by the straight line that it makes (the laboratory's own way), and, since a transformation
distorts the errors, by non-linear least squares on the concentrations as they were measured. The verdict rests on the
second.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any, Literal

import numpy as np
from scipy.optimize import brentq, least_squares, minimize_scalar

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.statistics import f_quantile, f_tail_probability, half_width, p_text
from molino.core.units import Value

LEVEL = 0.01
"""A law is ruled out where data as far from it, or farther, would come about once in a hundred times."""

_NAMES = {0.0: "zero order", 1.0: "first order", 2.0: "second order"}
_REVERSIBLE = "reversible first order"
_ORDERS = (-1.0, 4.0)
"""Between these a free order is sought."""

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


def power_law(t: np.ndarray, c0: float, k: float, n: float) -> np.ndarray:
    """Concentration of dc/dt = -k c^n: (c0^(1-n) + (n-1) k t)^(1/(1-n)), c0 exp(-k t) for n = 1; 0 once it is gone."""
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
    errors: Literal["same", "relative"] = "same",
) -> Screening:
    """Try zero, first and second order, and a free order n, on the concentration of one species in batch runs.

    Each run has its own rate constant and start; the order is common. By straight lines: c, ln c and 1/c over t
    (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 3). By least squares on the concentrations:
    the sum of squares of each law is held against that of the free order and of laws that are no power of the
    concentration, by the F-test for the parameters that the other has more, at least one (D. M. Bates, D. G. Watts,
    Nonlinear Regression Analysis and Its Applications, 1988, section 3.10); a law is ruled out where data as far from
    it would come about less than once in 100 times. The interval of the free order is by the same test, so that it
    holds the orders that it does not rule out. If one law alone is left it is the verdict; if more are left, the data
    cannot tell.

    Parameters
    ----------
    data : Experiments, or runs
    species : str, optional
        Whose concentration; may be left out where only one was measured.
    partner : str, optional
        A second reactant that is used up one for one: `-dc/dt = k [species] [partner]` is tried, too. What there was of
        both at the start must be known (`initial ...`, or measured at time zero).
    reversible : bool
        Try a reversible first order, too.
    errors : {"same", "relative"}
        Whether all values are off by about the same concentration, or by the same fraction of what was measured.

    Returns
    -------
    Screening

    Raises
    ------
    InputError
        If there is no such species, there are too few values, or one that is not above zero has no relative error.
    SolveError
        If a curve cannot be fitted.

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> mo.screen_orders(mo.read_experiments(data), "xylose").chosen.name
    'first order'
    """
    runs = as_experiments(data)
    named = species if species is not None or len(runs.species) != 1 else runs.species[0]
    if named is None or named not in runs.species:
        message = f"'{named}' was not measured" if named else f"{len(runs.species)} species were measured"
        raise InputError(message, "orders", f"name one: {nearest(named or '', runs.species)}")
    if errors not in ("same", "relative"):
        raise InputError(f"errors = {errors!r}", "orders", "'same' or 'relative'")
    series = _series(runs, named, partner, 4 if reversible else 3, errors == "relative")
    laws = [_law(name, n, _of_order(n), series) for n, name in _NAMES.items()]
    if partner is not None:
        laws.append(_law(f"second order with {partner}", math.nan, _two_reactants, series))
    if reversible:
        laws.append(_law(_REVERSIBLE, math.nan, _to_level, series))
    free = _free_order(series)
    floor = 1e-20 * sum(float(np.sum((s.values / s.sizes) ** 2)) for s in series)  # what rounding leaves of exact data

    def compared(law: Law) -> Law:
        probability = 1.0
        for other in (free, *laws):
            if other is not free and math.isfinite(law.order) and math.isfinite(other.order):
                continue  # two orders are both held against the best one
            more = max(law.degrees_of_freedom - other.degrees_of_freedom, 1)
            variance = (other.sum_of_squares + floor) / other.degrees_of_freedom
            beyond = (law.sum_of_squares - other.sum_of_squares) / more / variance
            probability = min(probability, f_tail_probability(beyond, more, other.degrees_of_freedom))
        return replace(law, probability=probability)

    interval = _order_interval(series, free, (free.sum_of_squares + floor) / free.degrees_of_freedom)
    return Screening(named, runs, series, tuple(compared(law) for law in laws), compared(free), interval, errors)


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
            faults.add(place, f"a value of {species} is not above zero, and has no relative error", "leave it out")
            continue
        excess = math.nan
        if partner is not None:
            if partner not in run.charge or species not in run.charge:
                missing = partner if partner not in run.charge else species
                faults.add(place, f"what there was of {missing} at the start is not known", f"add 'initial {missing}'")
                continue
            excess = run.charge[partner] - run.charge[species]
        found.append(Series(run.name, times, values, excess, is_relative))
    faults.raise_any(runs.source or "orders")
    return tuple(found)


def _law(name: str, order: float, model: Model, series: tuple[Series, ...], free: int = 0) -> Law:
    """A law on every run by itself; `free` parameters more are common to all."""
    fits = [_curve(name, order, model, s) for s in series]
    count = sum(len(s.values) for s in series) - sum(len(p) for p, _, _ in fits) - free
    squares = sum(float(r @ r) for _, r, _ in fits)
    covariances = tuple(inverse * squares / max(count, 1) for _, _, inverse in fits)
    lines = tuple(_line(name, order, s, p) for s, (p, _, _) in zip(series, fits, strict=True))
    return Law(
        name, order, model, lines, tuple(p for p, _, _ in fits), covariances, tuple(r for _, r, _ in fits), count
    )


def _curve(name: str, order: float, model: Model, s: Series) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """ln c0, ln k (and ln of the level) of one run, the residuals, and the inverse of J'J.

    Sought with concentrations counted in the largest and times in the last, so that nothing over- or underflows.
    """
    top, end = float(s.values.max()), float(s.times[-1])
    one = Series(s.run, s.times / end, s.values / top, s.excess / top, s.is_relative)
    unit = 1.0 if s.is_relative else top
    power = order if math.isfinite(order) else (1.0 if name == _REVERSIBLE else 2.0)
    left = min(max(float(one.values[-1]), 0.02), 0.98)
    by_end = -math.log(left) if power == 1 else (left ** (1 - power) - 1) / (power - 1)
    start = [0.0, math.log(max(by_end, 1e-3))]
    if name == _REVERSIBLE:
        start = [0.0, start[1] + 1.0, math.log(left)]

    def residuals(p: np.ndarray) -> np.ndarray:
        with np.errstate(all="ignore"):
            off = (one.values - model(np.clip(p, -50.0, 50.0), one.times, one)) / one.sizes
        return np.asarray(np.nan_to_num(off, nan=1e3, posinf=1e3, neginf=-1e3))

    def slopes(p: np.ndarray) -> np.ndarray:
        """Of dc/dt = -k c^n: dc/d(ln c0) = c^n c0^(1-n), dc/d(ln k) = -k t c^n."""
        c0, k = np.exp(np.clip(p, -50.0, 50.0))
        with np.errstate(all="ignore"):
            c = model(np.clip(p, -50.0, 50.0), one.times, one)
            by = np.where(c > 0, c**order, 0.0)
            found = -np.array([by * c0 ** (1 - order), -k * one.times * by]).T / one.sizes[:, None]
        return np.asarray(np.nan_to_num(found, nan=0.0, posinf=1e3, neginf=-1e3))

    exact: Any = {"jac": slopes} if math.isfinite(order) else {}
    best = least_squares(residuals, start, **exact, method="lm", xtol=1e-12, ftol=1e-12, gtol=1e-12, x_scale=0.1)
    if not np.isfinite(best.cost):
        raise SolveError(f"no {name} goes through run {s.run}", "orders", "look at the data of the run")
    shift = [math.log(top), (1 - power) * math.log(top) - math.log(end), math.log(top)][: len(start)]
    return best.x + shift, best.fun * unit, np.linalg.pinv(best.jac.T @ best.jac) / unit**2


def _line(name: str, order: float, s: Series, p: np.ndarray) -> Line | None:
    """The straight line of a law through one run, by linear least squares on what is transformed."""
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
    """The order at which the sum of squares is least: a grid, then Brent's method around its lowest point."""
    grid = np.linspace(*_ORDERS, 11)
    squares = [_sum_of_squares(series, n) for n in grid]
    lowest = int(np.argmin(squares))
    low, high = grid[max(lowest - 1, 0)], grid[min(lowest + 1, len(grid) - 1)]
    found = minimize_scalar(
        lambda n: _sum_of_squares(series, n), bounds=(low, high), method="bounded", options={"xatol": 1e-5}
    )
    n = float(found.x) if found.fun < squares[lowest] else float(grid[lowest])
    return _law("order n", n, _of_order(n), series, free=1)


def _order_interval(series: tuple[Series, ...], free: Law, variance: float) -> tuple[float, float]:
    """The orders that are not ruled out: those whose sum of squares exceeds the least by up to F(0.99; 1, dof) s^2."""
    limit = free.sum_of_squares + f_quantile(1 - LEVEL, 1, free.degrees_of_freedom) * variance

    def above(n: float) -> float:
        return _sum_of_squares(series, n) - limit

    ends = []
    for bound in _ORDERS:
        far = above(bound)
        ends.append(float(brentq(above, free.order, bound, xtol=1e-4)) if far > 0 > above(free.order) else bound)
    return ends[0], ends[1]


@dataclass(frozen=True, eq=False)
class Screening(Frozen, Result):
    """What the screening of orders found.

    Attributes
    ----------
    species : str
    experiments : Experiments
    series : tuple of Series
    laws : tuple of Law
        Zero, first and second order, and what else was asked for.
    free : Law
        The free order n.
    order_interval : pair of floats
        99 % interval of n, by its profile: the orders that the free one does not rule out.
    errors : str
        "same" or "relative".

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> found = mo.screen_orders(mo.read_experiments(data), "xylose")
    >>> found.chosen.name
    'first order'
    """

    species: str
    experiments: Experiments
    series: tuple[Series, ...]
    laws: tuple[Law, ...]
    free: Law
    order_interval: tuple[float, float]
    errors: str = "same"

    @property
    def chosen(self) -> Law | None:
        """The one law that the data leave standing; None where there is none, or more than one."""
        return self.standing[0] if len(self.standing) == 1 else None

    @property
    def standing(self) -> list[Law]:
        """The laws that the data leave standing; the reversible one, which has one parameter more, only if needed."""
        left = [law for law in self.laws if law.possible]
        simpler = any(law.order == 1 for law in left)
        return [law for law in left if not (simpler and law.name == _REVERSIBLE)]

    @property
    def conversion(self) -> float:
        """The farthest that a run went: (first - last) / first of the measured values."""
        return max(1 - float(s.values[-1]) / float(s.values.max()) for s in self.series)

    @cached_property
    def verdict(self) -> str:
        """The law, or why there is none, with the reason."""
        low, high = self.order_interval
        n = f"n = {self.free.order:.2f} ({low:.2f} to {high:.2f}, 99 %)"
        left = self.standing
        ruled_out = ", ".join(law.name for law in self.laws if not law.possible)
        if len(left) == 1:
            message = f"{left[0].name}: the free order is {n}"
            within = [law.name for law in self.laws if not law.possible and low <= law.order <= high]
            if within:
                message = f"{left[0].name}, which fits better than {' or '.join(within)}; a free order would be {n}"
            return f"{message}; ruled out: {ruled_out}" if ruled_out else message
        if left:
            names = " from ".join([left[0].name, " or ".join(law.name for law in left[1:])])
            far = (
                f"conversion reaches only {self.conversion:.0%}"
                if self.conversion < 0.8
                else (f"the scatter of {self.scatter:.1%} hides the difference")
            )
            return f"these data cannot tell {names}: {far}; the free order is {n}"
        return f"none of these ({ruled_out}): the free order is {n}; a reversible or a mixed law?"

    @property
    def scatter(self) -> float:
        """Residual standard deviation around the free order, as a fraction (of the largest value for equal errors)."""
        if self.errors == "relative":
            return self.free.standard_deviation
        return self.free.standard_deviation / max(float(s.values.max()) for s in self.series)

    def error_heading(self, name: str) -> str:
        """The heading of residuals: with the unit of the concentration, or in per cent for relative errors."""
        return f"{name} [%]" if self.errors == "relative" else self.experiments.display.heading(name, "concentration")

    def error_number(self, residual: Any) -> Any:
        """Residuals in that unit."""
        if self.errors == "relative":
            return 100.0 * residual
        return self.experiments.display.number(residual, "concentration")

    def law(self, name: str) -> Law:
        """A law by name; InputError offers the nearest."""
        for law in (*self.laws, self.free):
            if law.name == name:
                return law
        raise InputError(
            f"there is no '{name}'", "orders", nearest(name, [law.name for law in (*self.laws, self.free)])
        )

    def k_unit(self, law: Law) -> str:
        """The unit of k of a law, in the units that the data came in; '' for bare numbers."""
        display = self.experiments.display
        if display.unitless:
            return ""
        c, t = display.unit("concentration"), display.unit("time")
        if law.name == _REVERSIBLE or law.order == 1:
            return f"1/{t}"
        n = law.order if math.isfinite(law.order) else 2.0
        if n == 0:
            return f"{c}/{t}"
        above, _, below = c.partition("/")
        inverse = f"{below or 1}/{above}"
        return f"{inverse}/{t}" if n == 2 else f"({c})^{1 - n:.3g}/{t}"

    def k_number(self, law: Law, si: float) -> float:
        """k from SI to that unit."""
        display = self.experiments.display
        if display.unitless:
            return si
        n = 1.0 if law.name == _REVERSIBLE else law.order if math.isfinite(law.order) else 2.0
        c, t = (units.unit(display.unit(kind)).factor for kind in ("concentration", "time"))
        return float(si / (c ** (1 - n) / t))

    def table(self) -> Table:
        """One row a law and run: R^2 and k of the line, k of the curve with its 95 % interval, half-life, spread."""
        display = self.experiments.display
        rows: list[dict[str, Any]] = []
        for law in (*self.laws, self.free):
            name = f"order n = {law.order:.3g}" if law is self.free else law.name
            for i, (s, line) in enumerate(zip(self.series, law.lines, strict=True)):
                low, high = (self.k_number(law, bound) for bound in law.interval(i))
                rows.append(
                    {
                        "law": name,
                        **({"run": s.run} if len(self.series) > 1 else {}),
                        "R² of line": line.r_squared if line else math.nan,
                        "intercept": self.line_of(law, i)[0],
                        "slope": self.line_of(law, i)[1],
                        "k of line": self.k_number(law, line.k) if line else math.nan,
                        "k": self.k_number(law, law.k(i)),
                        "95 % low": low,
                        "95 % high": high,
                        "unit": self.k_unit(law),
                        display.heading("half-life", "time"): display.number(law.half_life(i), "time"),
                        self.error_heading("s"): self.error_number(law.standard_deviation),
                        "p": law.probability,
                    }
                )
        return frame(rows)

    def transform(self, law: Law) -> tuple[str, str, float, float]:
        """What the line of a law is drawn of: its name and unit, and shift and factor from SI to that."""
        unit = self.experiments.display.unit("concentration")
        factor = units.unit(unit).factor if unit else 1.0
        name, (above, _, below) = f"[{self.species}]", unit.partition("/")
        inverse = f"{below or 1}/{above}" if unit else ""
        if law.order == 0:
            return name, unit, 0.0, 1.0 / factor
        if law.order == 1:
            return f"ln {name}", "", -math.log(factor), 1.0
        if law.order == 2:
            return f"1/{name}", inverse, 0.0, factor
        if law.name.startswith("second order with"):
            return f"ln([{law.name.rpartition(' ')[2]}]/{name}) / excess", inverse, 0.0, factor
        if not math.isfinite(law.order):
            return f"ln({name} - {name} at equilibrium)", "", -math.log(factor), 1.0
        return f"{name}^{1 - law.order:.3g}", "", 0.0, factor ** -(1 - law.order)

    def line_of(self, law: Law, i: int) -> tuple[float, float]:
        """Intercept and slope of the line of a law through a run, in the units of the data; nan without a line."""
        line, display = law.lines[i], self.experiments.display
        if line is None:
            return math.nan, math.nan
        _, _, shift, factor = self.transform(law)
        time = units.unit(display.unit("time")).factor if display.unit("time") else 1.0
        return line.intercept * factor + shift, line.slope * factor * time

    def line_text(self, law: Law, i: int) -> str:
        """The equation of a line: 'ln [A] = -0.69 - 0.0203 t (t in min)'."""
        intercept, slope = self.line_of(law, i)
        if math.isnan(slope):
            return "no line"
        unit = self.experiments.display.unit("time")
        sign = "-" if slope < 0 else "+"
        text = f"{self.transform(law)[0]} = {intercept:.4g} {sign} {abs(slope):.4g} t"
        return f"{text} (t in {unit})" if unit else text

    def predict(self, time: Any, run: str | None = None, law: str | None = None) -> Prediction:
        """The concentration at a time, with its intervals, by the chosen law (or another by name).

        Parameters
        ----------
        time : str, float or quantity
        run : str, optional
            Whose constant and start; may be left out where there is one run.
        law : str, optional

        Raises
        ------
        InputError
            If there is no such run or law, or none was chosen.
        """
        chosen = self.law(law) if law is not None else self.chosen
        if chosen is None:
            raise InputError("no law was chosen", "orders", f"name one, law='first order'; {self.verdict}")
        names = [s.run for s in self.series]
        if (run is None and len(names) > 1) or (run is not None and run not in names):
            raise InputError(
                f"there is no run '{run}'" if run else "there are several runs", "orders", nearest(run or "", names)
            )
        i = names.index(run) if run is not None else 0
        t = units.positive(time, "time", "time", zero=True).si
        p, s = chosen.logarithms[i], self.series[i]

        def at(q: np.ndarray) -> float:
            return float(chosen.model(q, np.array([t]), s)[0])

        slopes = np.array([(at(p + step) - at(p - step)) / 2e-6 for step in 1e-6 * np.eye(len(p))])
        mean = float(slopes @ chosen.covariances[i] @ slopes)
        one = chosen.standard_deviation * (at(p) if s.is_relative else 1.0)
        halves = [half_width(math.sqrt(v), chosen.degrees_of_freedom) for v in (mean, mean + one**2)]
        return Prediction(t, at(p), halves[0], halves[1], self, s.run)

    def over_temperature(self, law: str | None = None) -> Arrhenius:
        """The Arrhenius law through the rate constants of the runs, by the chosen law (or another by name).

        Raises
        ------
        InputError
            If no law was chosen, a run has no temperature, or all have the same.
        """
        chosen = self.law(law) if law is not None else self.chosen
        if chosen is None:
            raise InputError("no law was chosen", "orders", f"name one, law='first order'; {self.verdict}")
        given = {run.name: run.T for run in self.experiments}
        without = [s.run for s in self.series if given[s.run] is None]
        if without:
            raise InputError(f"no temperature of {', '.join(without)}", "orders", "add a column T [degC]")
        display = self.experiments.display
        T = [Value(float(given[s.run] or 0.0), display.unit("temperature") or None) for s in self.series]
        unit = self.k_unit(chosen) or None
        return Arrhenius.through(T, [Value(chosen.k(i), unit) for i in range(len(self.series))])

    def to_dict(self) -> dict[str, Any]:
        """Plain data: the verdict, and each law with its constants by run, in the units shown."""
        display = self.experiments.display
        laws = {}
        for law in (*self.laws, self.free):
            runs = {}
            for i, (s, line) in enumerate(zip(self.series, law.lines, strict=True)):
                low, high = (self.k_number(law, bound) for bound in law.interval(i))
                runs[s.run] = {
                    "k": self.k_number(law, law.k(i)),
                    "low_95": low,
                    "high_95": high,
                    "unit": self.k_unit(law),
                    "half_life": float(display.number(law.half_life(i), "time")),
                    "line": None
                    if line is None
                    else {
                        "k": self.k_number(law, line.k),
                        "half_width_95": self.k_number(law, line.half_width),
                        "slope_si": line.slope,
                        "intercept_si": line.intercept,
                        "r_squared": line.r_squared,
                    },
                }
            laws[law.name] = {
                "order": law.order,
                "probability": law.probability,
                "possible": law.possible,
                "runs": runs,
            }
        return {
            "species": self.species,
            "errors": self.errors,
            "verdict": self.verdict,
            "chosen": self.chosen.name if self.chosen is not None else None,
            "order": self.free.order,
            "order_interval_99": list(self.order_interval),
            "laws": laws,
        }

    def __str__(self) -> str:
        display = self.experiments.display
        count = sum(len(s.values) for s in self.series)
        lines = [
            f"order of {self.species}: {count} values in {len(self.series)} run{'s' if len(self.series) > 1 else ''}"
        ]
        for law in (*self.laws, self.free):
            name = f"order n = {law.order:.3g}" if law is self.free else law.name
            mark = "*" if law is self.chosen else " "
            squares = [line.r_squared for line in law.lines if line is not None]
            fitted = f"R² of line {min(squares):.4f}" if squares else "no line"
            standard_deviation = (
                f"{100 * law.standard_deviation:.3g} %"
                if self.errors == "relative"
                else display.text(law.standard_deviation, "concentration", 3)
            )
            lines.append(
                f"{mark} {name:<26} {fitted}, s {standard_deviation}"
                + ("" if law is self.free else f", p {p_text(law.probability)}")
            )
            if law is self.chosen or (self.chosen is None and law is self.free):
                for i, s in enumerate(self.series):
                    low, high = (self.k_number(law, bound) for bound in law.interval(i))
                    unit = units.pretty(self.k_unit(law))
                    half = display.text(law.half_life(i), "time", 3) if math.isfinite(law.order) else ""
                    half = f", half-life {half}" if half else ""
                    k = self.k_number(law, law.k(i))
                    lines.append(f"      {s.run}: k = {k:.4g} ({low:.4g} to {high:.4g}) {unit}{half}".rstrip())
                    if law is not self.free:
                        lines.append(f"          line: {self.line_text(law, i)}")
        lines.append("  (s: scatter around the curve; p: how often data lie so far from the law, were it true)")
        return "\n".join([*lines, f"verdict: {self.verdict}"])


@dataclass(frozen=True, eq=False)
class Prediction(Frozen, Result):
    """A predicted concentration in mol/m^3, with the half widths of 95 % intervals of the mean and of one sample.

    Attributes
    ----------
    time : float
        In s.
    value : float
        In mol/m^3.
    confidence, prediction : float
        Half widths of the 95 % intervals of the mean and of one sample, in mol/m^3.
    screening : Screening
    run : str

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> found = mo.screen_orders(mo.read_experiments(data), "xylose")
    >>> print(found.predict("240 min", "B1"))
    xylose in B1 at 240 min: 0.02474 mol/L, 95 %: ± 0.0025 mol/L, of one sample ± 0.0088 mol/L
    """

    time: float
    value: float
    confidence: float
    prediction: float
    screening: Screening
    run: str

    def table(self) -> Table:
        """One row: run, time, value and the half widths."""
        display = self.screening.experiments.display
        numbers = {"value": self.value, "± of the mean": self.confidence, "± of one sample": self.prediction}
        row: dict[str, Any] = {"run": self.run, display.heading("time", "time"): display.number(self.time, "time")}
        return frame(
            [
                row
                | {display.heading(n, "concentration"): display.number(x, "concentration") for n, x in numbers.items()}
            ]
        )

    def to_dict(self) -> dict[str, Any]:
        """Plain data, in SI."""
        return {
            "run": self.run,
            "time_s": self.time,
            "value_si": self.value,
            "half_width_95_mean_si": self.confidence,
            "half_width_95_sample_si": self.prediction,
        }

    def __str__(self) -> str:
        display = self.screening.experiments.display
        mean, one = (display.text(c, "concentration", 2) for c in (self.confidence, self.prediction))
        value = display.text(self.value, "concentration")
        at = display.text(self.time, "time")
        of = f" in {self.run}" if len(self.screening.series) > 1 else ""
        return f"{self.screening.species}{of} at {at}: {value}, 95 %: ± {mean}, of one sample ± {one}"
