"""`Fit`: the constants found, how sure they are, and how the data lie around them."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from molino.core import units
from molino.core.checks import Check, checked_fact
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.errors import InputError, nearest
from molino.core.fitting.bootstrap import Bootstrap, bootstrap
from molino.core.fitting.experiments import OUTLET, Experiment
from molino.core.fitting.least_squares import RANK, Optimum, Problem, Scale, degrees_by_group, leverage
from molino.core.fitting.model import TIGHT, sample_of, vessel_of
from molino.core.fitting.next_experiment import Decision, NextExperiment, grid, next_experiment
from molino.core.fitting.profile_likelihood import ProfileLikelihood, Region, profile_likelihood, region
from molino.core.fitting.residual_diagnostics import Diagnosis, diagnose
from molino.core.frozen import Frozen
from molino.core.results import Result, plain
from molino.core.statistics import half_width, student_t_quantile
from molino.core.units import Value

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.vessels.base import Vessel
    from molino.core.vessels.train import Train

_SETTLED = 1e-6
"""How far, relative, a constant may be from the stationary point; ten digits are reached as a rule."""
_LEAST = 1e-6
"""By how much the sum of squares may fall near the optimum, as a share of it: what the settled constants leave."""
_ODD = 0.05
_NUMERICAL = 1e-8
"""Residuals below this fraction of the data are rounding, in which there are no outliers."""


@dataclass(frozen=True)
class Estimate:
    """One fitted constant, in SI; `to(unit)` gives it in another."""

    name: str
    value: float
    standard_error: float
    unit: str | None
    at_bound: bool
    degrees_of_freedom: float

    @property
    def interval(self) -> tuple[float, float]:
        """95 % confidence interval, value -/+ t(0.975, degrees of freedom) standard errors.

        Of a pre-exponential factor, whose logarithm is what the data determine: exp(ln A -/+ t s/A).
        """
        half = half_width(self.standard_error, self.degrees_of_freedom)
        if self.name.endswith(".A") and self.value > 0:
            factor = float(np.exp(np.minimum(half / self.value, 700.0)))
            return self.value / factor, self.value * factor
        return self.value - half, self.value + half

    def shown(self) -> tuple[float, float, float, float]:
        """Value, standard error and interval in the unit the constant came in."""
        if self.unit is None:
            return (self.value, self.standard_error, *self.interval)
        found = units.unit(self.unit)
        low, high = (found.from_si(bound) for bound in self.interval)
        return found.from_si(self.value), self.standard_error / found.factor, low, high


def estimates_of(problem: Problem, optimum: Optimum) -> tuple[tuple[Estimate, ...], np.ndarray, dict[str, str]]:
    """Estimates, their covariance and why some constants are not determined.

    C = s^2 (J'J)^-1 (N. R. Draper, H. Smith, Applied Regression Analysis, 3rd ed. 1998, ch. 24). Where several
    responses have errors of their own, found along with the constants, C and the degrees of freedom of each constant
    allow for how well those errors are known (see `_with_unknown_errors`). The rank is that with the constants scaled
    as the search moves them.
    """
    scale = Scale(problem.free, problem.mean_temperature)
    outward = scale.slope(optimum.parameters)
    weighted = optimum.slopes @ outward / optimum.standard_deviation[:, None]
    degrees = len(problem.measured) - len(problem.free)
    variance = optimum.sum_of_squares(problem.measured) / degrees
    _, singular, right = np.linalg.svd(weighted, full_matrices=False)
    determined = singular > RANK * max(singular[0], 1e-300)
    inverse = right[determined].T / singular[determined]
    plain = variance * inverse @ inverse.T
    widened, by_constant = _with_unknown_errors(problem, weighted, variance, plain, outward)
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
            f"a change of it is made up for by {' and '.join(others)}" if others else "no measured value depends on it"
        )
    found = []
    for p, value, error, own in zip(problem.free, optimum.parameters, errors, by_constant, strict=True):
        near = 1e-6 * max(abs(p.value), abs(float(value)))
        at_bound = any(np.isfinite(b) and abs(value - b) <= near for b in (p.lower, p.upper))
        found.append(Estimate(p.name, float(value), float(error), p.unit, at_bound, own))
    return tuple(found), covariance, reasons


def _with_unknown_errors(
    problem: Problem, weighted: np.ndarray, variance: float, plain: np.ndarray, outward: np.ndarray
) -> tuple[np.ndarray, list[float]]:
    """The covariance P of the search's variables, and degrees of freedom, where groups have errors of their own.

    With the information B_r of group r, of n_r degrees of freedom, C = P + 4 P (sum_r (B_r - B_r P B_r)/n_r) P, and
    Student's t of a constant c has (c P c)^2 / sum_r ((c P B_r P c)^2/n_r) degrees of freedom (M. G. Kenward, J. H.
    Roger, Biometrics 53 (1997) 983, with independent groups). Of one group: P itself, observations less constants.
    """
    count = weighted.shape[1]
    degrees = degrees_by_group(problem, weighted, np.ones(len(weighted)))
    if len(degrees) == 1 or not variance > 0:
        return plain, [len(weighted) - count] * count
    rows = [weighted[problem.group == n] / np.sqrt(variance) for n in range(len(degrees))]
    within = [plain @ (own.T @ own) @ plain for own in rows]
    lost = sum((PBP - PBP @ (own.T @ own) @ plain) / n for PBP, own, n in zip(within, rows, degrees, strict=True))
    spread = np.array([np.diag(outward @ PBP @ outward.T) for PBP in within])
    size = np.diag(outward @ plain @ outward.T)
    with np.errstate(divide="ignore", invalid="ignore"):
        own = size**2 / np.sum(spread**2 / degrees[:, None], axis=0)
    own = np.where(np.isfinite(own), np.minimum(own, len(weighted) - count), len(weighted) - count)
    return plain + 4 * lost, [max(float(n), 1.0) for n in own]


@dataclass(frozen=True, eq=False)
class Points(Frozen):
    """Every observation, each of shape (points,) in SI."""

    run: tuple[str, ...]
    time: np.ndarray
    """Time of each sample; its position, where samples were taken along a vessel."""
    response: tuple[str, ...]
    """What was observed: a species (its concentration), or a metric."""
    measured: np.ndarray
    calculated: np.ndarray
    standard_deviation: np.ndarray
    """Standard deviation."""
    slopes: np.ndarray
    """d(calculated)/d(constant), shape (points, constants)."""
    replicates: tuple[Hashable, ...] = ()
    """What observations under the same conditions share."""
    variables: Mapping[str, np.ndarray] = field(default_factory=dict)
    """What varies: time, temperature, what was charged, or concentrations."""

    @property
    def residuals(self) -> np.ndarray:
        """Measured less calculated."""
        return np.asarray(self.measured - self.calculated)

    @property
    def scaled(self) -> np.ndarray:
        """Residuals over their standard deviation."""
        return np.asarray(self.residuals / self.standard_deviation)

    @cached_property
    def leverage(self) -> np.ndarray:
        """Diagonal of the hat matrix."""
        return leverage(self.slopes / self.standard_deviation[:, None])


@dataclass(frozen=True)
class Response:
    """How one of what was measured, a species or a metric, was met."""

    name: str
    observations: int
    standard_deviation: float
    """Residual standard deviation, in SI."""
    r_squared: float


@dataclass(frozen=True)
class Outlier:
    """An observation that lies further off than chance allows."""

    run: str
    time: float
    response: str
    measured: float
    calculated: float
    deviations: float
    """Externally studentised residual: how many standard deviations off, relative to the other points."""


@dataclass(frozen=True, eq=False)
class Band(Frozen):
    """What is calculated of one run over times (or positions); by response, each of shape (points,), in SI.

    `confidence` and `prediction` are half widths of the 95 % intervals of the mean and of one measurement.
    """

    times: np.ndarray
    values: Mapping[str, np.ndarray]
    confidence: Mapping[str, np.ndarray]
    prediction: Mapping[str, np.ndarray]


@dataclass(frozen=True, eq=False)
class Fit(Frozen, Result):
    """The result of `fit`. `chemistry` has the constants known and carries their covariance.

    `data` is what was fitted (Experiments or Rates), `points` every observation, `estimates` the constants,
    `covariance` theirs, `reasons` why some are not determined, `n_starts` how many of how many starts came to this end.

    Attributes
    ----------
    estimates : tuple of Estimate
        The constants, with standard errors and intervals.
    responses : tuple of str
        Everything that was fitted: species and metrics.
    points : Points
        Every observation, measured and calculated.
    data : Experiments or Rates
    chemistry : Chemistry
        With the constants as fitted, and their covariance.
    covariance : array, shape (constants, constants)
        In SI.
    evaluations : int
    problem, optimum : Problem, Optimum
        What was minimised, and where it is least.
    sought : Chemistry
        With its unknowns.
    parameter_map : FitParameterMap
        What each parameter stands for in each run.
    reasons : mapping of name to str
        Why a constant is not determined.
    n_starts : pair of int, optional
        How many starts of how many came to this optimum.

    Examples
    --------
    >>> import molino as mo
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> [estimate.name for estimate in fit.estimates], fit.degrees_of_freedom
    (['r.k'], 3)
    """

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

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """Gradient and curvature at the optimum, where no bound is active."""
        if any(e.at_bound for e in self.estimates) or self.optimum.stopped:
            return ()
        step = "one Gauss-Newton step from the optimum, relative to the constants"
        found = [Check("constants settled", self.optimum.left_to_move(self.problem.measured), _SETTLED, step)]
        if np.isfinite(fall := self.optimum.fall_near(self.problem)):
            near = "half a standard error along the flattest direction, as a share of it"
            found.append(Check("sum of squares is least", fall, _LEAST, near))
        return tuple(found)

    @property
    def values(self) -> dict[str, float]:
        """Fitted constants by name, in SI."""
        return {e.name: e.value for e in self.estimates}

    @property
    def extent(self) -> str:
        """How much was fitted, in words."""
        count, runs = len(self.points.measured), len(dict.fromkeys(self.points.run))
        return (
            f"{count} rates"
            if not self.parameter_map.runs
            else f"{count} observations in {runs} run{'s' if runs != 1 else ''}"
        )

    def __getitem__(self, name: str) -> Estimate:
        found = {e.name: e for e in self.estimates}
        if name not in found:
            raise InputError(f"no constant '{name}' was fitted", "fit", nearest(name, found))
        return found[name]

    @property
    def degrees_of_freedom(self) -> int:
        """Observations less constants."""
        return len(self.points.measured) - len(self.estimates)

    @property
    def sum_of_squares(self) -> float:
        """Of the residuals, unweighted, in SI: (mol/m^3)^2 for concentrations; nan of several kinds of quantity."""
        if len({self.data.kind_of(response) for response in self.responses}) > 1:
            return float("nan")
        return float(self.points.residuals @ self.points.residuals)

    @property
    def variance(self) -> float:
        """Weighted sum of squares over degrees of freedom; one, where the errors were found along with the fit."""
        return float(self.points.scaled @ self.points.scaled) / self.degrees_of_freedom

    @cached_property
    def correlation(self) -> np.ndarray:
        """Correlation of the fitted constants, shape (constants, constants)."""
        size = np.sqrt(np.maximum(np.diag(self.covariance), 1e-300))
        return np.asarray(np.clip(self.covariance / np.outer(size, size), -1, 1))

    @property
    def correlated(self) -> list[int]:
        """The constants whose correlations are shown: all but the concentrations at the start of single runs."""
        return [i for i, e in enumerate(self.estimates) if not e.name.startswith(("start ", "feed "))]

    @cached_property
    def by_response(self) -> tuple[Response, ...]:
        """Residual standard deviation and R^2 (1 - residual / total sum of squares about the mean) of each response."""
        found = []
        names = np.array(self.points.response)
        for response in self.responses:
            own = names == response
            measured, residuals = self.points.measured[own], self.points.residuals[own]
            total = float(np.sum((measured - measured.mean()) ** 2))
            r_squared = 1 - float(np.sum(residuals**2)) / total if total > 0 else float("nan")
            even = int(own.sum()) * (1 - len(self.estimates) / len(self.points.measured))
            degrees = max(int(own.sum()) - float(self.points.leverage[own].sum()), 0.1 * even)
            standard_deviation = float(np.sqrt(np.sum(residuals**2) / degrees))
            found.append(Response(response, int(own.sum()), standard_deviation, r_squared))
        return tuple(found)

    @cached_property
    def outliers(self) -> tuple[Outlier, ...]:
        """Outliers, worst first.

        By the externally studentised residual t = e / (s_(i) sqrt(1 - h)), with s_(i) from all points but this one,
        held against Student's t at 5 % shared over all points (Bonferroni; R. D. Cook, S. Weisberg, Residuals and
        Influence in Regression, 1982, section 2.2). They still count in the fit: `Experiments.without` leaves one out.
        """
        points, degrees = self.points, self.degrees_of_freedom
        if degrees < 2 or np.max(points.standard_deviation) < _NUMERICAL * np.max(np.abs(points.measured)):
            return ()
        scaled = points.residuals / points.standard_deviation / np.sqrt(np.maximum(1 - points.leverage, 1e-12))
        variance = float(np.sum((points.residuals / points.standard_deviation) ** 2) / degrees)
        others = np.maximum((degrees * variance - scaled**2) / (degrees - 1), 1e-300)
        off = scaled / np.sqrt(others)
        limit = student_t_quantile(1 - _ODD / (2 * len(off)), degrees - 1)
        return tuple(
            Outlier(
                points.run[i], float(points.time[i]), points.response[i], float(points.measured[i]),
                float(points.calculated[i]), float(off[i]),
            )
            for i in np.argsort(-np.abs(off))
            if abs(off[i]) > limit
        )  # fmt: skip

    @property
    def warnings(self) -> list[str]:
        """What the reader must know before believing the constants."""
        display = self.data.display
        warnings = []
        if self.optimum.stopped:
            warnings.append(f"interrupted after {self.evaluations} evaluations: the best so far, not the optimum")
        for e in self.estimates:
            if not np.isfinite(e.standard_error):
                advice = "fix it or one that it goes with, or measure at other temperatures or feeds"
                warnings.append(f"{e.name} is not determined by these data: {self.reasons[e.name]}; {advice}")
            elif e.at_bound:
                warnings.append(f"{e.name} ended on its bound: its interval means nothing there")
            elif e.value > 0 and e.standard_error > e.value and ".Ea" not in e.name:
                warnings.append(
                    f"{e.name} is hardly determined (standard error {e.standard_error / e.value:.3g} times its value): "
                    f"its profile says how far the data bound it"
                )
        if self.n_starts is not None and self.n_starts[0] < self.n_starts[1]:
            warnings.append(
                f"{self.n_starts[0]} of {self.n_starts[1]} starts came to this optimum, none to a better one"
            )
        for p in self.outliers:
            kind = self.data.kind_of(p.response)
            measured, calculated = (display.text(c, kind, 4) for c in (p.measured, p.calculated))
            warnings.append(
                f"{self.place(p.run, p.time)}, {p.response}: {measured} measured, {calculated} calculated, "
                f"{abs(p.deviations):.1f} standard deviations off; it counts in this fit"
            )
        return [*warnings, *self.diagnosis.warnings]

    def place(self, run: str, time: float) -> str:
        """Which observation, in words."""
        if not self.parameter_map.runs:
            return f"observation {run}" if not np.isfinite(time) else f"{run}, {self.data.display.text(time, 'time')}"
        return f"run {run}, {self.data.place(run, time)}"

    @cached_property
    def diagnosis(self) -> Diagnosis:
        """Runs of signs, normality, influence, lack of fit."""
        return diagnose(self)

    def profile_likelihood(self, *names: str) -> dict[str, ProfileLikelihood]:
        """Profile-likelihood intervals of some constants, or of all; see `profiles.profile`."""
        return {name: profile_likelihood(self, name) for name in (names or tuple(self.values))}

    def region(self, first: str, second: str, *, points: int = 36) -> Region:
        """The joint 95 % region of two constants by its profile, and its ellipse; see `profiles.region`."""
        return region(self, first, second, points)

    def bootstrap(
        self, times: int = 1000, kind: str = "residuals", seed: int = 0, workers: int | None = None,
        progress: Callable[[int, int], None] | None = None,
    ) -> Bootstrap:  # fmt: skip
        """Fit again to resampled data, on all cores; see `resampling.bootstrap`."""
        return bootstrap(self, times, kind, seed, workers, progress)

    def next_experiment(
        self, narrow: str | Decision, *, T: Sequence[Any] = (), charges: Sequence[Mapping[str, Any]] = (),
        times: Sequence[Sequence[Any]] = (), vessel: str = "batch", several: int = 1,
    ) -> NextExperiment:  # fmt: skip
        """Which combination of temperature, charge and times would narrow a constant or a decision most.

        Parameters
        ----------
        narrow : str, Sizing or Optimum
            A fitted constant; "D" or "A" for all constants by that criterion; or what was decided with them: the size
            that `mo.size` found, the value of an optimum that `mo.optimize` found.
        T, charges, times : sequences
            Of temperatures, of charges by species, and of lists of sampling times; every combination is a candidate.
        vessel : str
            In which it would be run.
        several : int
            How many experiments are made together; one may be made more than once.

        Returns
        -------
        NextExperiment

        Raises
        ------
        InputError
            If nothing such was fitted, or there is no candidate.
        """
        return next_experiment(self, narrow, grid(T, charges, times, vessel), several)

    def chemistry_of(self, run: str) -> Chemistry:
        """The chemistry with the constants of one run, where some are the run's own."""
        own = {n.removesuffix(f", {run}"): v for n, v in self.values.items() if n.endswith(f", {run}")}
        known = {p.name for p in self.chemistry.numbers}
        return self.chemistry.with_values({n: v for n, v in own.items() if n in known}, self.chemistry.covariance)

    def vessel_of(self, run: str) -> Vessel | Train:
        """The vessel of a run with everything that was fitted: constants, and numbers of the vessel that were sought.

        Raises
        ------
        InputError
            If there is no such run.
        """
        runs = {r.name: r for r in self.parameter_map.runs}
        if run not in runs:
            raise InputError(f"there is no run '{run}'", "fit", nearest(run, runs))
        vessel = vessel_of(runs[run], self.chemistry_of(run))
        known = {p.name for p in self.chemistry.numbers}
        places = self.parameter_map.places[run].settings
        free, numbers = self.problem.free, self.optimum.parameters
        found = {n: Value(float(numbers[i]), free[i].unit) for n, i in places.items() if n not in known}
        return vessel.with_(found) if found else vessel

    def over_temperature(self, constant: str) -> Arrhenius:
        """The Arrhenius law through a constant that each run had for itself; see `Arrhenius.through`.

        Raises
        ------
        InputError
            If it was one for all runs, or runs have no temperature or all the same.
        """
        own = [(run, self.values.get(f"{constant}, {run.name}")) for run in self.parameter_map.runs]
        given = [(run.temperature, value) for run, value in own if value is not None]
        if not given or any(T is None for T, _ in given):
            advice = f"fit with per_run=['{constant}'], and give each run a temperature"
            raise InputError(f"'{constant}' is not known run by run with its temperature", "over temperature", advice)
        unit = self[f"{constant}, {self.parameter_map.runs[0].name}"].unit
        shown = self.data.display.unit("temperature") or None
        return Arrhenius.through([Value(float(T or 0.0), shown) for T, _ in given], [Value(v, unit) for _, v in given])

    def curves(self, points: int = 121) -> dict[str, Band]:
        """For each run what is calculated of each species or metric that was measured, with its bands."""
        return {run.name: self.curve_of(run.name, points) for run in self.parameter_map.runs}

    def curve_of(self, name: str, points: int = 121) -> Band:
        """What is calculated of one run over all of it, with its bands; at the outlet, of a run observed there."""
        run = next(run for run in self.parameter_map.runs if run.name == name)
        last = float(run.times[-1])
        first = 0.02 * last if run.along == "space_time" else 0.0
        at = run.times if run.along == OUTLET else np.linspace(min(first, float(run.times[0])), last, points)
        return self.band(run, at)

    def band(self, run: Experiment, times: np.ndarray) -> Band:
        """What is calculated of a run, measured or only planned, with bands, at times (or sizes) in SI.

        First order: half widths t(0.975) sqrt(g C g) of the mean and t sqrt(g C g + s^2) of one measurement, g the
        exact slopes by the constants (D. M. Bates, D. G. Watts, 1988, section 2.3).
        """
        responses, values, slopes, standard_deviation = self.expected(run, times)
        inner = np.einsum("tsi,ij,tsj->ts", slopes, self.covariance, slopes)
        t = student_t_quantile(0.975, self.degrees_of_freedom)
        mean, one = t * np.sqrt(np.maximum(inner, 0.0)), t * np.sqrt(np.maximum(inner, 0.0) + standard_deviation**2)
        columns = [{s: rows[:, n] for n, s in enumerate(responses)} for rows in (values, mean, one)]
        return Band(np.asarray(times), *columns)

    def expected(
        self, run: Experiment, times: np.ndarray
    ) -> tuple[tuple[str, ...], np.ndarray, np.ndarray, np.ndarray]:  # fmt: skip
        """What is measured in a run (a planned one: what was measured in any), its values and standard deviations,
        shape (times, responses), and slopes, shape (times, responses, constants)."""
        responses = tuple(r for r in self.responses if r in run.measured or not run.measured)
        count = len(responses)
        rows, columns = np.repeat(np.arange(len(times)), count), np.tile(np.arange(count), len(times))
        places = self.parameter_map.places_of(run, self.chemistry)
        sample = sample_of(
            run, self.sought, responses, np.asarray(times), rows, columns, places, self.parameter_map.guesses
        )
        values, slopes = sample.observed(self.optimum.parameters, TIGHT)
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

    def answer(self) -> tuple[str, str]:
        """Which constants, and their values with intervals."""
        found = []
        for one in self.estimates:
            value, _, low, high = one.shown()
            unit = units.pretty(one.unit or "")
            found.append(f"{one.name} {value:.4g} ({low:.4g} to {high:.4g}) {unit}".rstrip())
        return "What are the constants (95 % intervals)?", "; ".join(found)

    def facts(self) -> dict[str, str]:
        """What the residuals show, and what was left out, by name."""
        found: dict[str, str] = {}
        for line in self.notes():
            name, _, text = line.partition(": ")
            name = f"{name}, signs" if name in found else name
            found[name] = f"{found[name]}; {text}" if name in found else text
        return found | ({"note": "; ".join(self.warnings)} if self.warnings else {})

    def table(self) -> pd.DataFrame:
        """One row a constant: value, standard error and 95 % interval in the unit it came in."""
        import pandas as pd

        rows = []
        for e in self.estimates:
            value, error, low, high = e.shown()
            numbers = {"value": value, "standard error": error, "95 % low": low, "95 % high": high}
            rows.append({"constant": e.name, "unit": e.unit or "", **numbers})
        return pd.DataFrame(rows)

    def points_table(self) -> pd.DataFrame:
        """One row an observation: measured, calculated, residual, leverage, with units in the headings, or in a column
        of their own where they differ."""
        import pandas as pd

        display, points = self.data.display, self.points
        columns: dict[str, Any] = {"run": points.run}
        axes = {(run.axis, run.axis_kind) for run in self.parameter_map.runs} or {("time", "time")}
        axis, kind = next(iter(axes))
        if np.isfinite(points.time).all() and len(axes) == 1 and axis != OUTLET:
            columns[display.heading(axis, kind)] = display.number(points.time, kind)
        elif self.parameter_map.runs:
            columns["where"] = [self.data.place(run, at) for run, at in zip(points.run, points.time, strict=True)]
        columns["response"] = points.response
        kinds = {r: self.data.kind_of(r) for r in self.responses}
        alike = len({*kinds.values()}) == 1
        if not alike:
            columns["unit"] = [display.unit(kinds[r]) for r in points.response]
        names = np.array(points.response)
        for name, values in (("measured", points.measured), ("calculated", points.calculated)):
            shown = np.empty(len(names))
            for r, kind in kinds.items():
                shown[names == r] = display.number(values[names == r], kind)
            columns[display.heading(name, kinds[self.responses[0]]) if alike else name] = shown
        residuals = np.array([display.difference(x, kinds[r]) for x, r in zip(points.residuals, names, strict=True)])
        unit = display.difference_unit(kinds[self.responses[0]])
        columns[f"residual [{unit}]" if alike and unit else "residual"] = residuals
        return pd.DataFrame({**columns, "leverage": points.leverage, "influence": self.diagnosis.influence})

    def to_dict(self) -> dict[str, Any]:
        """Plain data: constants with intervals, correlation, statistics by species, outliers, notes."""
        display, diagnosis = self.data.display, self.diagnosis
        constants = {}
        for e in self.estimates:
            value, error, low, high = e.shown()
            constants[e.name] = {"value": value, "standard_error": error, "low_95": low, "high_95": high,
                                 "unit": e.unit, "value_si": e.value, "at_bound": e.at_bound}  # fmt: skip
        lack = diagnosis.lack_of_fit
        return plain({  # type: ignore[no-any-return]
            "constants": constants,
            "correlation": self.correlation.tolist(),
            "degrees_of_freedom": self.degrees_of_freedom,
            "observations": len(self.points.measured),
            "sum_of_squares_si": self.sum_of_squares,
            "responses": {
                r.name: {
                    "residual_standard_deviation": float(
                        display.difference(r.standard_deviation, self.data.kind_of(r.name))
                    ),
                    "unit": display.difference_unit(self.data.kind_of(r.name)),
                    "r_squared": r.r_squared, "observations": r.observations,
                }
                for r in self.by_response
            },
            "runs_of_signs": {
                s.response: {"runs": s.runs, "expected": s.expected, "p": s.probability} for s in diagnosis.signs
            },
            "normality_p": diagnosis.normality,
            "lack_of_fit": None if lack is None else {"F": lack.ratio, "p": lack.probability},
            "outliers": [
                {"run": p.run, "time_s": p.time, "response": p.response, "measured_si": p.measured,
                 "calculated_si": p.calculated, "standard_deviations": p.deviations}
                for p in self.outliers
            ],
            "left_out": [{"run": g.run, "time_s": g.time, "response": g.response} for g in self.data.left_out],
            "stopped": self.optimum.stopped,
            "notes": self.warnings, "checks": [check.to_dict() for check in self.checks],
        })  # fmt: skip

    def notes(self) -> list[str]:
        """What a report says below the constants: residuals by species, tests of them, and what was left out."""
        lines = []
        for r in self.by_response:
            sd = self.data.display.difference_text(r.standard_deviation, self.data.kind_of(r.name))
            r_squared = f"R² {r.r_squared:.4f} ({r.observations} values)"
            lines.append(f"{r.name}: residual standard deviation {sd}, {r_squared}")
        left_out = [f"left out: {self.data.describe(gone)}" for gone in self.data.left_out]
        came, count = self.n_starts or (1, 1)
        starts = f"search: {came} of {count} starts came to this optimum" if count > 1 else "search: from one start"
        checked = [f"{name}: {text}" for name, text in checked_fact(self.checks).items()]
        return [*lines, *self.diagnosis.lines, *left_out, starts, *checked]

    def __str__(self) -> str:
        many = "s" if len(self.estimates) != 1 else ""
        lines = [f"Fit of {len(self.estimates)} constant{many} to {self.extent}"]
        numbers = [(e, [f"{x:.4g}" for x in e.shown()]) for e in self.estimates]
        width = max(len(e.name) for e in self.estimates)
        lines.append(f"  {'':<{width}}  {'value':>10}  {'std. error':>10}    95 % interval")
        for e, (value, error, low, high) in numbers:
            unit = units.pretty(e.unit or "")
            lines.append(f"  {e.name:<{width}}  {value:>10}  {error:>10}    {low} to {high}  {unit}".rstrip())
        shown = self.correlated
        if len(shown) > 1:
            lines.append("  correlation")
            for n, i in enumerate(shown):
                row = "".join(f"{x:>8.3f}" for x in self.correlation[i, shown[: n + 1]])
                lines.append(f"  {self.estimates[i].name:<{width}}{row}")
        lines += [f"  {line}" for line in self.notes()]
        lines += [f"  note: {text}" for text in self.warnings]
        return "\n".join(lines)
