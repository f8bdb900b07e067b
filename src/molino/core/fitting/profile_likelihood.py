"""Profile likelihood: intervals and joint regions without linearization of the model."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.errors import InputError, SolveError, nearest
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.least_squares import minimise
from molino.core.fitting.least_squares_problem import RANK, Fixed, Scale
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.statistics import f_quantile

_FARTHEST = 12
"""Number of steps outward, each 1.5 times the one before, after which a profile is flat."""
_DECADES = math.log(1e12)
"""Range of the logarithm of a constant within which the data must bound it."""
_BEGINNINGS = 3
_ASIDE = 1e-3
"""Relative distance from an end of the refits that confirm it."""
_AGREES = 0.02
"""Relative tolerance of the profile at an end."""
_ENOUGH = 1e-3
"""Tolerance of the ends of intervals, as a fraction of their distance from the estimate."""


@dataclass(frozen=True, eq=False)
class ProfileLikelihood(Frozen, Result):
    """The profile of one constant, in SI.

    `values` and `tau` are the constant and sign(value - estimate) sqrt((S - S_min) / s^2), a straight line if the model
    is linear; `interval` is the range of |tau| < t(0.975). An open (`flat`) end is infinite, or the bound.

    Attributes
    ----------
    name : str
    estimate : float
        In SI.
    interval : pair of float
        In SI.
    values, tau : arrays, shape (points,)
    unit : str or None
        The unit of the constant.
    flat : pair of bool
        Whether the lower and the upper end are open.

    Examples
    --------
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> found = fit.profile_likelihood("r.k")["r.k"]
    >>> low, high = found.interval
    >>> bool(low < fit.values["r.k"] < high)
    True
    """

    name: str
    estimate: float
    interval: tuple[float, float]
    values: np.ndarray
    tau: np.ndarray
    unit: str | None
    flat: tuple[bool, bool]

    def shown(self) -> tuple[float, float]:
        """The interval in the unit of the constant."""
        if self.unit is None:
            return self.interval
        found = units.unit(self.unit)
        return found.from_si(self.interval[0]), found.from_si(self.interval[1])

    def table(self) -> Table:
        """One row: the ends of the interval, or 'open'."""
        ends = ["open" if flat else f"{end:.4g}" for flat, end in zip(self.flat, self.shown(), strict=True)]
        return frame([(self.name, self.unit or "", *ends)], columns=["constant", "unit", "95 % low", "95 % high"])

    def to_dict(self) -> PlainData:
        """Plain data: the ends of the interval, and which of them are open."""
        return {"low_95": self.shown()[0], "high_95": self.shown()[1], "unit": self.unit, "open": list(self.flat)}

    def __str__(self) -> str:
        low, high = self.shown()
        unit = units.pretty(self.unit or "")
        left, right = (
            ("no lower end" if self.flat[0] else f"{low:.4g}"),
            ("no upper end" if self.flat[1] else f"{high:.4g}"),
        )
        return f"{self.name}: {left} to {right} {unit}".rstrip() + " (profile, 95 %)"


@dataclass(frozen=True, eq=False)
class Region(Frozen):
    """Joint 95 % region of two constants, in SI: `outline` by its profile, `ellipse` of the linear model.

    Each of shape (points, 2), closed; nan where the outline is open. `units` are those of the constants.
    """

    names: tuple[str, str]
    estimate: tuple[float, float]
    outline: np.ndarray
    ellipse: np.ndarray
    units: tuple[str | None, str | None]


class _Follower:
    """The least sum of squares with some constants fixed, and the errors fixed at those of the fit."""

    def __init__(self, fit: FitData, indices: tuple[int, ...]) -> None:
        self.fit, self.indices = fit, indices
        self.problem = fit.problem.with_errors_of(fit.optimum)
        self.scale = Scale(fit.problem.free)
        self.at = fit.optimum.parameters
        self.least = fit.optimum.sum_of_squares(fit.problem)
        held = self.problem.fixing(indices, [float(self.at[i]) for i in indices], fit.optimum)
        self.left = held.model.left if isinstance(held.model, Fixed) else np.array([], dtype=int)
        self.warm = self.at[self.left]
        self.before: list[np.ndarray] = []

    def excess(self, variables: np.ndarray, limit: float = math.inf) -> float:
        """(S - S_min) / s^2 for these values of the fixed variables; inf if no refit succeeds.

        The refit begins at the last one. If it is not below `limit`, others begin at the estimate and at all earlier
        ones, and the least is used: a search that ends early must not look like a crossing.
        """
        whole = self.scale.inward(self.at)
        whole[list(self.indices)] = variables
        values = self.scale.outward(whole)[list(self.indices)]
        held = self.problem.fixing(self.indices, values.tolist(), self.fit.optimum)
        least = math.inf
        for begin in (self.warm, self.at[self.left], *self.before[-_BEGINNINGS:]):
            try:
                found = minimise(held, begin, tolerance=1e-6)
            except SolveError:
                continue
            if found.stopped:
                raise KeyboardInterrupt
            squares = self.problem.sum_of_squares(found.values, self.problem.size, self.problem.tau)
            excess = max(squares - self.least, 0.0) / self.fit.variance
            if excess < least:
                least, best = excess, found.parameters
            if least < limit:
                break
        if math.isfinite(least):
            self.before.append(self.warm)
            self.warm = best
        return least


def index_of(fit: FitData, name: str) -> int:
    names = list(fit.values)
    if name not in names:
        raise InputError(f"no constant '{name}' was fitted", "profile_likelihood", nearest(name, names))
    return names.index(name)


def _widening(fit: FitData, i: int) -> float:
    """The variance of a constant over that with known errors of the responses; see `estimates.estimates_of`."""
    weighted = fit.optimum.information_rows(fit.problem)
    size = np.sqrt(np.sum(weighted**2, axis=0))
    if not np.isfinite(fit.estimates[i].standard_error) or not (size > 0).all():
        return 1.0
    row = np.linalg.pinv(weighted / size, rcond=RANK)[i]
    plain = float(row @ row)
    return max(float(fit.covariance[i, i] * size[i] ** 2) / max(plain * fit.variance, 1e-300), 1.0)


def _reach(fit: FitData, i: int, scale: Scale) -> float:
    """The half width of the linear 95 % interval, in variables of the search."""
    error = fit.estimates[i].standard_error / abs(scale.slope(fit.optimum.parameters)[i, i])
    return float(np.clip(error, 1e-12, 0.5)) if math.isfinite(error) else 0.5


def _crossing(
    fit: FitData, i: int, scale: Scale, limit: float, sign: float, bound: float, seen: dict[float, float]
) -> float:
    """The crossing of the limit on one side, in the variable of the search; nan without one."""
    follower = _Follower(fit, (i,))
    centre = float(scale.inward(fit.optimum.parameters)[i])

    def above(z: float) -> float:
        if z not in seen:
            seen[z] = sign * math.sqrt(min(follower.excess(np.array([z]), limit), 1e12))
        return abs(seen[z]) - math.sqrt(limit)

    inner, outer, length = centre, centre, _reach(fit, i, scale)
    if scale.logarithmic[i]:
        bound = max(bound, centre - _DECADES) if sign < 0 else min(bound, centre + _DECADES)
    for _ in range(_FARTHEST):
        outer = max(bound, outer + sign * length) if sign < 0 else min(bound, outer + sign * length)
        if above(outer) >= 0:
            found = float(
                scipy.optimize.brentq(above, inner, outer, xtol=_ENOUGH * max(abs(outer - centre), 1e-9), rtol=1e-9)
            )
            return found if _is_crossing(fit, i, found, limit) else math.nan
        if outer == bound:
            break
        inner, length = outer, 1.5 * length
    return math.nan


def profile_likelihood(fit: FitData, name: str) -> ProfileLikelihood:
    """Vary one constant, with the others refitted, until (S - S_min)/s^2 = F(0.95; 1, degrees of freedom).

    D. M. Bates, D. G. Watts, Nonlinear Regression Analysis and Its Applications, 1988, section 6.1. F is increased by
    the variance of estimated errors of responses. A side is open (flat) if the limit is not reached within some hundred
    times the linear interval, within twelve decades of the estimate or before a bound; also if a refit fails or the
    profile jumps, neither of which is a crossing.

    Raises
    ------
    InputError
        If no such constant was fitted.
    """
    i = index_of(fit, name)
    limit = f_quantile(0.95, 1, fit.estimates[i].degrees_of_freedom) * _widening(fit, i)
    p = fit.problem.free[i]
    scale = Scale(fit.problem.free)
    low, high = scale.bounds()
    seen: dict[float, float] = {float(scale.inward(fit.optimum.parameters)[i]): 0.0}
    ends, flat = [], []
    for sign, bound in ((-1.0, float(low[i])), (1.0, float(high[i]))):
        found = _crossing(fit, i, scale, limit, sign, bound, seen)
        open_end = not math.isfinite(found)
        flat.append(open_end)
        ends.append(bound if open_end else found)
    parameters = fit.optimum.parameters.copy()

    def outward(z: float) -> float:
        if not math.isfinite(z):
            return 0.0 if z < 0 and scale.logarithmic[i] else z
        variables = scale.inward(fit.optimum.parameters)
        variables[i] = z
        return float(scale.outward(variables)[i])

    places = sorted(seen)
    values = np.array([outward(z) for z in places])
    return ProfileLikelihood(
        name,
        float(parameters[i]),
        (outward(ends[0]), outward(ends[1])),
        values,
        np.array([seen[z] for z in places]),
        p.unit,
        (flat[0], flat[1]),
    )


def _is_crossing(fit: FitData, i: int, z: float, limit: float) -> bool:
    """Whether the profile is continuous at the crossing: refits from both sides agree there."""
    squares = []
    for side in (-1.0, 1.0):
        follower = _Follower(fit, (i,))
        follower.excess(np.array([z + side * _ASIDE * max(abs(z), 1.0)]))
        squares.append(follower.excess(np.array([z])))
    return all(math.isfinite(s) and abs(math.sqrt(s / limit) - 1) < _AGREES for s in squares)


def region(fit: FitData, first: str, second: str, points: int = 36) -> Region:
    """The joint 95 % region (S - S_min)/s^2 < 2 F(0.95; 2, degrees of freedom), with the other constants refitted.

    Searched along rays of equal angle in the plane in which the linear region is a circle (G. E. P. Box, J. S. Hunter,
    W. G. Hunter, Statistics for Experimenters, 2nd ed. 2005, chapter 10).

    Raises
    ------
    InputError
        If the constants were not fitted, are the same, or are not determined by the data.
    """
    i, j = index_of(fit, first), index_of(fit, second)
    pair = fit.covariance[np.ix_([i, j], [i, j])]
    if i == j or not all(math.isfinite(fit.estimates[n].standard_error) for n in (i, j)):
        message = "a region needs two constants that the data determine"
        raise InputError(message, f"{first} and {second}", "look at the profile of each")
    limit = 2 * f_quantile(0.95, 2, fit.degrees_of_freedom)
    scale = Scale(fit.problem.free)
    slope = np.diag(scale.slope(fit.optimum.parameters))[[i, j]]
    centre = scale.inward(fit.optimum.parameters)[[i, j]]
    low, high = (bound[[i, j]] for bound in scale.bounds())
    root = np.linalg.cholesky(pair / np.outer(slope, slope)) * math.sqrt(limit)
    outline = []
    follower = _Follower(fit, (i, j))
    for angle in np.linspace(0, 2 * math.pi, points, endpoint=False):
        way = root @ np.array([math.cos(angle), math.sin(angle)])

        def above(r: float, way: np.ndarray = way) -> float:
            variables = centre + r * way
            if (variables < low).any() or (variables > high).any():
                return 1e6
            return math.sqrt(min(follower.excess(variables), 1e12)) - math.sqrt(limit) if r > 0 else -math.sqrt(limit)

        outer = 1.0
        while above(outer) < 0 and outer < 8:
            outer *= 1.5
        if above(outer) < 0:
            outline.append([math.nan, math.nan])
            continue
        outline.append((centre + scipy.optimize.brentq(above, 0.0, outer, xtol=1e-2) * way).tolist())
    outline.append(outline[0])
    circle = np.linspace(0, 2 * math.pi, 121)
    straight = np.linalg.cholesky(pair) * math.sqrt(limit) @ np.array([np.cos(circle), np.sin(circle)])
    estimate = float(fit.optimum.parameters[i]), float(fit.optimum.parameters[j])

    def outward(rows: list[list[float]]) -> np.ndarray:
        logs, unit = scale.logarithmic[[i, j]], scale.unit[[i, j]]
        return np.asarray(np.where(logs, np.exp(np.array(rows)), np.array(rows) * unit))

    own = fit.problem.free[i].unit, fit.problem.free[j].unit
    return Region((first, second), estimate, outward(outline), np.array(estimate) + straight.T, own)
