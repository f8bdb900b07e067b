"""`Fit`: the constants found, how sure they are, and how the data lie around them."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.errors import InputError, nearest
from molino.core.fitting.bootstrap import Bootstrap, bootstrap
from molino.core.fitting.experiments import Experiment
from molino.core.fitting.least_squares import Optimum, Problem, Scale
from molino.core.fitting.model import TIGHT, sample_of
from molino.core.fitting.next_experiment import NextExperiment, grid, next_experiment
from molino.core.fitting.profile_likelihood import ProfileLikelihood, Region, profile_likelihood, region
from molino.core.fitting.residual_diagnostics import Diagnosis, diagnose
from molino.core.frozen import Frozen
from molino.core.results import Result
from molino.core.statistics import half_width, student_t_quantile
from molino.core.units import Value

if TYPE_CHECKING:
    import pandas as pd

_ODD = 0.05
_NUMERICAL = 1e-8
"""Residuals below this fraction of the data are rounding, in which there are no outliers."""
RANK = 1e-8
"""Singular values below this fraction of the largest say that constants are not determined."""


@dataclass(frozen=True)
class Estimate:
    """One fitted constant, in SI; `to(unit)` gives it in another."""

    name: str
    value: float
    standard_error: float
    unit: str | None
    at_bound: bool
    degrees_of_freedom: int

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
    """Estimates, C = s^2 (J'J)^-1 and why some constants are not determined.

    (N. R. Draper, H. Smith, Applied Regression Analysis, 3rd ed. 1998, ch. 24.) The rank is that with the constants
    scaled as the search moves them.
    """
    scale = Scale(problem.free, problem.mean_temperature)
    outward = scale.slope(optimum.parameters)
    weighted = optimum.slopes @ outward / optimum.standard_deviation[:, None]
    degrees = len(problem.measured) - len(problem.free)
    variance = optimum.sum_of_squares(problem.measured) / degrees
    _, singular, right = np.linalg.svd(weighted, full_matrices=False)
    determined = singular > RANK * max(singular[0], 1e-300)
    inverse = right[determined].T / singular[determined]
    covariance = outward @ (variance * inverse @ inverse.T) @ outward.T
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
    for p, value, error in zip(problem.free, optimum.parameters, errors, strict=True):
        near = 1e-6 * max(abs(p.value), abs(float(value)))
        at_bound = any(np.isfinite(b) and abs(value - b) <= near for b in (p.lower, p.upper))
        found.append(Estimate(p.name, float(value), float(error), p.unit, at_bound, degrees))
    return tuple(found), covariance, reasons


@dataclass(frozen=True, eq=False)
class Points(Frozen):
    """Every observation, each of shape (points,) in SI."""

    run: tuple[str, ...]
    time: np.ndarray
    species: tuple[str, ...]
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
        weighted = self.slopes / self.standard_deviation[:, None]
        size = np.sqrt(np.sum(weighted**2, axis=0))
        left, singular, _ = np.linalg.svd(weighted / np.where(size > 0, size, 1.0), full_matrices=False)
        return np.asarray(np.sum(left[:, singular > RANK * max(singular[0], 1e-300)] ** 2, axis=1))


@dataclass(frozen=True)
class Response:
    """How one measured species was met."""

    species: str
    observations: int
    standard_deviation: float
    """Residual standard deviation, mol/m^3."""
    r_squared: float


@dataclass(frozen=True)
class Outlier:
    """An observation that lies further off than chance allows."""

    run: str
    time: float
    species: str
    measured: float
    calculated: float
    deviations: float
    """Externally studentised residual: how many standard deviations off, relative to the other points."""


@dataclass(frozen=True, eq=False)
class Band(Frozen):
    """Calculated concentrations of one run over times in s; by species, each of shape (points,), in mol/m^3.

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
        return self.estimates[0].degrees_of_freedom

    @property
    def sum_of_squares(self) -> float:
        """Of the residuals, unweighted, in SI: (mol/m^3)^2 for concentrations."""
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

    @cached_property
    def by_species(self) -> tuple[Response, ...]:
        """Residual standard deviation and R^2 (1 - residual / total sum of squares about the mean) of each species."""
        found = []
        names = np.array(self.points.species)
        for species in self.responses:
            own = names == species
            measured, residuals = self.points.measured[own], self.points.residuals[own]
            total = float(np.sum((measured - measured.mean()) ** 2))
            r_squared = 1 - float(np.sum(residuals**2)) / total if total > 0 else float("nan")
            degrees = int(own.sum()) * (1 - len(self.estimates) / len(self.points.measured))
            standard_deviation = float(np.sqrt(np.sum(residuals**2) / degrees))
            found.append(Response(species, int(own.sum()), standard_deviation, r_squared))
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
                points.run[i], float(points.time[i]), points.species[i], float(points.measured[i]),
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
            measured, calculated = (display.text(c, self.data.kind, 3) for c in (p.measured, p.calculated))
            warnings.append(
                f"{self.place(p.run, p.time)}, {p.species}: {measured} measured, {calculated} calculated, "
                f"{abs(p.deviations):.1f} standard deviations off; it counts in this fit"
            )
        return [*warnings, *self.diagnosis.warnings]

    def place(self, run: str, time: float) -> str:
        """Which observation, in words."""
        if not self.parameter_map.runs:
            return f"observation {run}" if not np.isfinite(time) else f"{run}, {self.data.display.text(time, 'time')}"
        return f"run {run}, {self.data.display.text(time, 'time')}"

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
        self, narrow: str, *, T: Sequence[Any] = (), charges: Sequence[Mapping[str, Any]] = (),
        times: Sequence[Sequence[Any]] = (), vessel: str = "batch",
    ) -> NextExperiment:  # fmt: skip
        """Which combination of temperature, charge and times would narrow a constant most; see `planning`."""
        return next_experiment(self, narrow, grid(T, charges, times, vessel))

    def chemistry_of(self, run: str) -> Chemistry:
        """The chemistry with the constants of one run, where some are the run's own."""
        own = {n.removesuffix(f", {run}"): v for n, v in self.values.items() if n.endswith(f", {run}")}
        known = {p.name for p in self.chemistry.parameters}
        return self.chemistry.with_values({n: v for n, v in own.items() if n in known}, self.chemistry.covariance)

    def over_temperature(self, constant: str) -> Arrhenius:
        """The Arrhenius law through a constant that each run had for itself; see `Arrhenius.through`.

        Raises
        ------
        InputError
            If it was one for all runs, or runs have no temperature or all the same.
        """
        own = [(run, self.values.get(f"{constant}, {run.name}")) for run in self.parameter_map.runs]
        given = [(run.T, value) for run, value in own if value is not None]
        if not given or any(T is None for T, _ in given):
            advice = f"fit with per_run=['{constant}'], and give each run a temperature"
            raise InputError(f"'{constant}' is not known run by run with its temperature", "over temperature", advice)
        unit = self[f"{constant}, {self.parameter_map.runs[0].name}"].unit
        shown = self.data.display.unit("temperature") or None
        return Arrhenius.through([Value(float(T or 0.0), shown) for T, _ in given], [Value(v, unit) for _, v in given])

    def curves(self, points: int = 121) -> dict[str, Band]:
        """For each run the calculated concentration of each measured species, with its bands."""
        found = {}
        for run in self.parameter_map.runs:
            last = float(run.times[-1])
            first = 0.0 if run.vessel == "batch" else min(float(run.times[0]), 0.02 * last)
            found[run.name] = self.band(run, np.linspace(first, last, points))
        return found

    def band(self, run: Experiment, times: np.ndarray) -> Band:
        """The calculated concentrations of a run, measured or only planned, with bands, at times in s.

        First order: half widths t(0.975) sqrt(g C g) of the mean and t sqrt(g C g + s^2) of one measurement, g the
        exact slopes by the constants (D. M. Bates, D. G. Watts, 1988, section 2.3).
        """
        values, slopes, standard_deviation = self.expected(run, times)
        inner = np.einsum("tsi,ij,tsj->ts", slopes, self.covariance, slopes)
        t = student_t_quantile(0.975, self.degrees_of_freedom)
        mean, one = t * np.sqrt(np.maximum(inner, 0.0)), t * np.sqrt(np.maximum(inner, 0.0) + standard_deviation**2)
        columns = [{s: rows[:, n] for n, s in enumerate(self.responses)} for rows in (values, mean, one)]
        return Band(np.asarray(times), *columns)

    def expected(self, run: Experiment, times: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Values and standard deviations (times, species), and slopes (times, species, constants), of a run."""
        places, delay = self.parameter_map.places.get(run.name), self.parameter_map.delay
        if places is None:  # a run only planned: it has the shared constants, and its samples are taken in time
            known = self.chemistry.network.parameters
            places, delay = {p.symbol: i for i, p in enumerate(self.problem.free) if p.name in known}, None
        count = len(self.responses)
        rows, columns = np.repeat(np.arange(len(times)), count), np.tile(np.arange(count), len(times))
        sample = sample_of(run, self.sought, self.responses, np.asarray(times), rows, columns, places, delay)
        values, slopes = sample.observed(self.optimum.parameters, TIGHT)
        shape = (len(times), count)
        names = np.array(self.points.species)
        standard_deviation = np.array(
            [np.sqrt(np.mean(self.points.standard_deviation[names == s] ** 2)) for s in self.responses]
        )
        return (
            values.reshape(shape),
            slopes.reshape(*shape, -1),
            np.broadcast_to(standard_deviation * np.sqrt(self.variance), shape),
        )

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
        """One row an observation: measured, calculated, residual, leverage, with units in the headings."""
        import pandas as pd

        display, points = self.data.display, self.points
        columns: dict[str, Any] = {"run": points.run}
        if np.isfinite(points.time).all():
            columns[display.heading("time", "time")] = display.number(points.time, "time")
        columns["species"] = points.species
        for name in ("measured", "calculated", "residuals"):
            heading = display.heading(name.removesuffix("s"), self.data.kind)
            columns[heading] = display.number(getattr(points, name), self.data.kind)
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
        return {
            "constants": constants,
            "correlation": self.correlation.tolist(),
            "degrees_of_freedom": self.degrees_of_freedom,
            "observations": len(self.points.measured),
            "sum_of_squares_si": self.sum_of_squares,
            "species": {
                r.species: {
                    "residual_standard_deviation": float(display.number(r.standard_deviation, self.data.kind)),
                    "unit": display.unit(self.data.kind), "r_squared": r.r_squared, "observations": r.observations,
                }
                for r in self.by_species
            },
            "runs_of_signs": {
                s.response: {"runs": s.runs, "expected": s.expected, "p": s.probability} for s in diagnosis.signs
            },
            "normality_p": diagnosis.normality,
            "lack_of_fit": None if lack is None else {"F": lack.ratio, "p": lack.probability},
            "outliers": [
                {"run": p.run, "time_s": p.time, "species": p.species, "measured_si": p.measured,
                 "calculated_si": p.calculated, "standard_deviations": p.deviations}
                for p in self.outliers
            ],
            "left_out": [{"run": g.run, "time_s": g.time, "species": g.species} for g in self.data.left_out],
            "stopped": self.optimum.stopped,
            "notes": self.warnings,
        }  # fmt: skip

    def notes(self) -> list[str]:
        """What a report says below the constants: residuals by species, tests of them, and what was left out."""
        lines = []
        for r in self.by_species:
            sd = self.data.display.text(r.standard_deviation, self.data.kind, 3)
            r_squared = f"R² {r.r_squared:.4f} ({r.observations} values)"
            lines.append(f"{r.species}: residual standard deviation {sd}, {r_squared}")
        left_out = [f"left out: {self.data.describe(gone)}" for gone in self.data.left_out]
        return [*lines, *self.diagnosis.lines, *left_out]

    def __str__(self) -> str:
        lines = [f"Fit of {len(self.estimates)} constants to {self.extent}"]
        numbers = [(e, [f"{x:.4g}" for x in e.shown()]) for e in self.estimates]
        width = max(len(e.name) for e in self.estimates)
        lines.append(f"  {'':<{width}}  {'value':>10}  {'std. error':>10}    95 % interval")
        for e, (value, error, low, high) in numbers:
            unit = units.pretty(e.unit or "")
            lines.append(f"  {e.name:<{width}}  {value:>10}  {error:>10}    {low} to {high}  {unit}".rstrip())
        if len(self.estimates) > 1:
            lines.append("  correlation")
            for i, e in enumerate(self.estimates):
                row = "".join(f"{x:>8.3f}" for x in self.correlation[i, : i + 1])
                lines.append(f"  {e.name:<{width}}{row}")
        lines += [f"  {line}" for line in self.notes()]
        lines += [f"  note: {text}" for text in self.warnings]
        return "\n".join(lines)
