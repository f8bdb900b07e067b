"""The optimum of a fit with its observations, and the quantities that follow from them."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from molino.core.checks import Check
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError, nearest
from molino.core.fitting.censoring import Deviations, deviations
from molino.core.fitting.correlated_errors import Links
from molino.core.fitting.estimates import Estimate
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.least_squares_problem import Optimum, Problem, degrees_by_group, leverage
from molino.core.fitting.model import TIGHT, sample_of, vessel_of
from molino.core.frozen import Frozen
from molino.core.results import Result
from molino.core.statistics import chi_squared_probability, student_t_quantile
from molino.core.trains.train import Train
from molino.core.units import Value

_ESTIMATED = ("each", "same", "relative", "constant and relative", "replicates")
"""The options for errors that are estimated, or whose factor is not reported."""
_SETTLED = 1e-6
"""Largest relative distance of a constant from the stationary point; usually ten digits are reached."""
_LEAST = 1e-6
"""Largest relative decrease of the sum of squares near the optimum."""


@dataclass(frozen=True, eq=False)
class Points(Frozen):
    """Every observation, each of shape (points,) in SI."""

    run: tuple[str, ...]
    time: np.ndarray
    """Time of each sample; its position for samples along a vessel."""
    response: tuple[str, ...]
    """The response: a species (its concentration), or a metric."""
    measured: np.ndarray
    calculated: np.ndarray
    standard_deviation: np.ndarray
    """Standard deviation."""
    slopes: np.ndarray
    """d(calculated)/d(constant), shape (points, constants)."""
    side: np.ndarray
    """0 of a value; -1 of a limit that the value is below, 1 of one that it is above."""
    given: np.ndarray
    """Standard deviation in the data; nan without one."""
    replicates: tuple[Hashable, ...] = ()
    """The key of observations under the same conditions."""
    variables: Mapping[str, np.ndarray] = field(default_factory=dict)
    """The varied conditions: time, temperature, the charge, or concentrations."""
    links: Links | None = None
    """The correlations of errors, if they are not independent."""
    weight: np.ndarray | None = None
    """The weight of each observation in a robust fit: 1, or less if it is far from the model."""

    @property
    def residuals(self) -> np.ndarray:
        """Measured less calculated; of a limit nan."""
        return np.asarray(np.where(self.is_value, self.measured - self.calculated, np.nan))

    @property
    def is_value(self) -> np.ndarray:
        """Whether each observation is a value, and not a limit; shape (points,), bool."""
        return np.asarray(self.side == 0)

    @property
    def scaled(self) -> np.ndarray:
        """Residuals over their standard deviation, times their weight in a robust fit; of a limit the signed root of
        -2 log(likelihood)."""
        scaled = self.deviations().scaled
        return scaled if self.weight is None else scaled * self.weight

    @property
    def independent(self) -> np.ndarray:
        """`scaled`, with correlated errors the part that does not follow from the sample before."""
        return self.links.whiten(self.scaled) if self.links is not None else self.scaled

    def squares(self, other: Points) -> float:
        """The sum of squares with the errors of another fit to the same observations."""
        scaled = self.deviations(other.standard_deviation).scaled
        return float(np.sum((other.links.whiten(scaled) if other.links is not None else scaled) ** 2))

    def deviations(self, standard_deviation: np.ndarray | None = None) -> Deviations:
        """The deviations from the calculated values, by default in their own standard deviations."""
        s = self.standard_deviation if standard_deviation is None else standard_deviation
        return deviations(self.measured, self.side, self.calculated, s)

    @cached_property
    def leverage(self) -> np.ndarray:
        """Diagonal of the hat matrix."""
        weights, _ = self.deviations().steps
        rows = self.slopes * weights[:, None]
        return leverage(self.links.whiten(rows) if self.links is not None else rows)

    def limit_sign(self, i: int) -> str:
        """'< ' or '> ' before the number of a limit, otherwise ''."""
        return {-1: "< ", 0: "", 1: "> "}[int(self.side[i])]


@dataclass(frozen=True)
class Response:
    """The quality of the fit of one response."""

    name: str
    observations: int
    standard_deviation: float
    """Residual standard deviation, in SI."""
    r_squared: float


@dataclass(frozen=True)
class Outlier:
    """An observation that deviates more than expected by chance."""

    run: str
    time: float
    response: str
    measured: float
    calculated: float
    deviations: float
    """Externally studentised residual: the deviation in standard deviations of the other points."""
    sign: str = ""
    """'< ' or '> ' if it is a limit."""


@dataclass(frozen=True, eq=False)
class Band(Frozen):
    """The calculated curves of one run over times (or positions); by response, each of shape (points,), in SI.

    `confidence` and `prediction` are half widths of the 95 % intervals of the mean and of one measurement.
    """

    times: np.ndarray
    values: Mapping[str, np.ndarray]
    confidence: Mapping[str, np.ndarray]
    prediction: Mapping[str, np.ndarray]


@dataclass(frozen=True, eq=False)
class FitData(Frozen, Result):
    """The optimum of a fit with its observations; `Fit` adds the analyses of it."""

    estimates: tuple[Estimate, ...]
    responses: tuple[str, ...]
    points: Points
    data: Any
    chemistry: Chemistry
    covariance: np.ndarray
    evaluations: int
    problem: Problem
    optimum: Optimum
    sought: Chemistry
    parameter_map: Any
    reasons: Mapping[str, str] = field(default_factory=dict)
    n_starts: tuple[int, int] | None = None
    errors: object = None

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """Gradient and curvature at the optimum, where no bound is active."""
        if any(e.at_bound for e in self.estimates) or self.optimum.stopped:
            return ()
        step = "a Gauss-Newton step from the optimum, relative to the constants"
        found = [Check("constants settled", self.optimum.left_to_move(self.problem), _SETTLED, step)]
        if np.isfinite(fall := self.optimum.fall_near(self.problem)):
            near = "at half a standard error along the flattest direction, relative"
            found.append(Check("sum of squares is a minimum", fall, _LEAST, near))
        return tuple(found)

    @property
    def values(self) -> dict[str, float]:
        """Fitted constants by name, in SI."""
        return {e.name: e.value for e in self.estimates}

    @property
    def extent(self) -> str:
        """The extent of the data, in words."""
        count, runs = len(self.points.measured), len(dict.fromkeys(self.points.run))
        if not self.parameter_map.runs:
            return f"{count} rates"
        limits = count - int(self.points.is_value.sum())
        of_these = f", {limits} of them limits," if limits else ""
        return f"{count} observations{of_these} in {runs} run{'s' if runs != 1 else ''}"

    def __getitem__(self, name: str) -> Estimate:
        found = {e.name: e for e in self.estimates}
        if name not in found:
            raise InputError(f"no constant '{name}' was fitted", "fit", nearest(name, found))
        return found[name]

    @cached_property
    def degrees_of_freedom(self) -> float:
        """Observations less constants; a limit counts by its information relative to that of a value."""
        if self.points.is_value.all():
            return len(self.problem.measured) - len(self.estimates)
        return max(float(self.optimum.information_counts(self.problem).sum()) - len(self.estimates), 1.0)

    @property
    def sum_of_squares(self) -> float:
        """Of the residuals, unweighted, in SI: (mol/m^3)^2 for concentrations; nan for several kinds of quantity."""
        if len({self.data.kind_of(response) for response in self.responses}) > 1:
            return float("nan")
        return float(np.nansum(self.points.residuals**2))

    @property
    def variance(self) -> float:
        """Weighted sum of squares over degrees of freedom; one if the errors were estimated with the fit."""
        return self.optimum.variance(self.problem)

    @cached_property
    def error_factor(self) -> tuple[float, float] | None:
        """If the errors were given: their estimated common factor, and the probability of one at least so far from 1
        by chance (chi-squared)."""
        points, option = self.points, self.errors
        if option is None and np.isfinite(points.given[points.is_value]).all():
            option = "given"
        options = option if isinstance(option, Mapping) else dict.fromkeys(self.responses, option)
        known = [n for n, r in enumerate(points.response) if options[r] not in (None, *_ESTIMATED)]
        if not known:
            return None
        group = int(self.problem.group[known[0]])
        factor = float(points.standard_deviation[known[0]] / self.problem.size[known[0]])
        rows, counts = self.optimum.information_rows(self.problem), self.optimum.information_counts(self.problem)
        degrees = float(degrees_by_group(self.problem, rows, counts)[group])
        below = chi_squared_probability(factor**2 * degrees, degrees)
        return factor, 2 * min(below, 1 - below)

    @cached_property
    def correlation(self) -> np.ndarray:
        """Correlation of the fitted constants, shape (constants, constants)."""
        size = np.sqrt(np.maximum(np.diag(self.covariance), 1e-300))
        return np.asarray(np.clip(self.covariance / np.outer(size, size), -1, 1))

    @property
    def correlated(self) -> list[int]:
        """The constants whose correlations are shown: all except the initial concentrations of single runs."""
        return [i for i, e in enumerate(self.estimates) if not e.name.startswith(("start ", "feed "))]

    @cached_property
    def by_response(self) -> tuple[Response, ...]:
        """Residual standard deviation and R^2 (1 - residual / total sum of squares about the mean) of each response,
        without limits."""
        found = []
        names = np.array(self.points.response)
        for response in self.responses:
            own = (names == response) & self.points.is_value
            if not own.any():
                continue
            measured, residuals = self.points.measured[own], self.points.residuals[own]
            total = float(np.sum((measured - measured.mean()) ** 2))
            r_squared = 1 - float(np.sum(residuals**2)) / total if total > 0 else float("nan")
            even = int(own.sum()) * (1 - len(self.estimates) / len(self.points.measured))
            degrees = max(int(own.sum()) - float(self.points.leverage[own].sum()), 0.1 * even)
            cut = residuals if self.points.weight is None else residuals * self.points.weight[own]
            standard_deviation = float(np.sqrt(np.sum(cut**2) / degrees))
            found.append(Response(response, int(own.sum()), standard_deviation, r_squared))
        return tuple(found)

    def place(self, run: str, time: float) -> str:
        """An observation, in words."""
        if not self.parameter_map.runs:
            return f"observation {run}" if not np.isfinite(time) else f"{run}, {self.data.display.text(time, 'time')}"
        return f"run {run}, {self.data.place(run, time)}"

    def chemistry_of(self, run: str) -> Chemistry:
        """The chemistry with the constants of one run, if some are fitted per run."""
        own = {n.removesuffix(f", {run}"): v for n, v in self.values.items() if n.endswith(f", {run}")}
        known = {p.name for p in self.chemistry.numbers}
        return self.chemistry.with_values({n: v for n, v in own.items() if n in known}, self.chemistry.covariance)

    def vessel_of(self, run: str) -> Vessel | Train:
        """The vessel of a run with the fitted constants and conditions.

        Raises
        ------
        InputError
            For an unknown run.
        """
        runs = {r.name: r for r in self.parameter_map.runs}
        if run not in runs:
            raise InputError(f"unknown run '{run}'", "fit", nearest(run, runs))
        vessel = vessel_of(runs[run], self.chemistry_of(run))
        known = {p.name for p in self.chemistry.numbers}
        places = self.parameter_map.places[run].settings
        free, numbers = self.problem.free, self.optimum.parameters
        found = {n: Value(float(numbers[i]), free[i].unit) for n, i in places.items() if n not in known}
        return vessel.with_(found) if found else vessel

    def band(self, run: Experiment, times: np.ndarray) -> Band:
        """The calculated responses of a measured or planned run, with bands, at times (or sizes) in SI.

        First-order half widths t(0.975) sqrt(g C g) of the mean and t sqrt(g C g + s^2) of one measurement, with the
        exact derivatives g by the constants (D. M. Bates, D. G. Watts, 1988, section 2.3).
        """
        responses, values, slopes, standard_deviation = self.expected(run, times)
        inner = np.einsum("tsi,ij,tsj->ts", slopes, self.covariance, slopes)
        t = student_t_quantile(0.975, self.degrees_of_freedom)
        mean, one = t * np.sqrt(np.maximum(inner, 0.0)), t * np.sqrt(np.maximum(inner, 0.0) + standard_deviation**2)
        columns = [{s: rows[:, n] for n, s in enumerate(responses)} for rows in (values, mean, one)]
        return Band(np.asarray(times), *columns)

    def expected(
        self, run: Experiment, times: np.ndarray, parameters: np.ndarray | None = None
    ) -> tuple[tuple[str, ...], np.ndarray, np.ndarray, np.ndarray]:
        """The responses of a run (of a planned one: all responses), their values and standard deviations, shape (times,
        responses), and derivatives, shape (times, responses, constants); of other parameters without derivatives."""
        responses = tuple(r for r in self.responses if r in run.measured or not run.measured)
        if not run.measured:  # planned: it would be observed like the others
            run = replace(run, signals={n: s for one in self.parameter_map.runs for n, s in one.signals.items()})
        count = len(responses)
        rows, columns = np.repeat(np.arange(len(times)), count), np.tile(np.arange(count), len(times))
        places = self.parameter_map.places_of(run, self.chemistry)
        sample = sample_of(
            run, self.sought, responses, np.asarray(times), rows, columns, places, self.parameter_map.guesses
        )
        if parameters is not None:
            sample = sample.plain()
        values, slopes = sample.observed(self.optimum.parameters if parameters is None else parameters, TIGHT)
        shape = (len(times), count)
        names = np.array(self.points.response)
        standard_deviation = np.array(
            [np.sqrt(np.mean(self.points.standard_deviation[names == r] ** 2)) for r in responses]
        )
        return (
            responses,
            values.reshape(shape),
            slopes.reshape(*shape, -1),
            np.broadcast_to(standard_deviation * np.sqrt(self.variance), shape),
        )
