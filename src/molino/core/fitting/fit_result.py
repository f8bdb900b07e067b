"""`Fit`: the fitted constants, their uncertainty, and the residuals."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.checks import checked_fact
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.errors import InputError
from molino.core.fitting.bootstrap import Bootstrap, bootstrap
from molino.core.fitting.common_offset import offset_notes
from molino.core.fitting.experiment import OUTLET
from molino.core.fitting.fit_data import Band, FitData, Outlier
from molino.core.fitting.fit_lines import correlation_lines, error_lines, prior_lines, robust_lines
from molino.core.fitting.next_experiment import Decision, NextExperiment, grid, next_experiment
from molino.core.fitting.posterior import Posterior, sample_posterior
from molino.core.fitting.profile_likelihood import ProfileLikelihood, Region, profile_likelihood, region
from molino.core.fitting.residual_diagnostics import LEVEL, Diagnosis, diagnose
from molino.core.fitting.run_influence import FEWEST, RunInfluence, run_influence
from molino.core.parallel import Workers, in_order
from molino.core.results import Table, entry, frame, plain_dict
from molino.core.statistics import p_text, student_t_quantile
from molino.core.units import QuantityLike, Value

_ODD = 0.05
_NUMERICAL = 1e-8
"""Residuals below this fraction of the data are rounding, without outliers."""


@dataclass(frozen=True, eq=False)
class Fit(FitData):
    """The result of `fit`. `chemistry` has the fitted constants with their covariance.

    Made by `fit`.

    Attributes
    ----------
    estimates : tuple of Estimate
        The constants, with standard errors and intervals.
    responses : tuple of str
        The fitted responses: species and metrics.
    points : Points
        Every observation, measured and calculated.
    data : Experiments or Rates
    chemistry : Chemistry
        With the constants as fitted, and their covariance.
    covariance : array, shape (constants, constants)
        In SI.
    evaluations : int
    problem, optimum : Problem, Optimum
        The least-squares problem and its optimum.
    sought : Chemistry
        With its unknowns.
    parameter_map : FitParameterMap
        The places of each parameter in each run.
    reasons : mapping of name to str
        The reason why a constant is not determined.
    n_starts : pair of int, optional
        The number of starts that reached this optimum, and the number of all starts.
    errors : object
        The option of `fit` for the errors.

    Examples
    --------
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> [estimate.name for estimate in fit.estimates], fit.degrees_of_freedom
    (['r.k'], 3)
    """

    @cached_property
    def outliers(self) -> tuple[Outlier, ...]:
        """Outliers, worst first.

        By the externally studentised residual t = e / (s_(i) sqrt(1 - h)), with s_(i) from all points but this one,
        compared with Student's t at 5 % over all points (Bonferroni; R. D. Cook, S. Weisberg, Residuals and Influence
        in Regression, 1982, section 2.2). They are part of the fit: `Experiments.without` excludes one.
        """
        points, degrees = self.points, self.degrees_of_freedom
        if (
            degrees < 2
            or points.weight is not None
            or np.max(points.standard_deviation) < _NUMERICAL * np.max(np.abs(points.measured))
        ):
            return ()
        scaled = points.independent / np.sqrt(np.maximum(1 - points.leverage, 1e-12))
        variance = self.variance
        others = np.maximum((degrees * variance - scaled**2) / (degrees - 1), 1e-300)
        off = scaled / np.sqrt(others)
        limit = student_t_quantile(1 - _ODD / (2 * len(off)), degrees - 1)
        return tuple(
            Outlier(
                points.run[i],
                float(points.time[i]),
                points.response[i],
                float(points.measured[i]),
                float(points.calculated[i]),
                float(off[i]),
                points.limit_sign(i),
            )
            for i in np.argsort(-np.abs(off))
            if abs(off[i]) > limit
        )

    def run_influence(self, workers: Workers = None) -> RunInfluence:
        """Refit without each run: the change of the constants, and a run that disagrees with the others as a whole,
        with the mislabeled condition that would explain it; see `core.fitting.run_influence`."""
        return run_influence(self, workers)

    @cached_property
    def odd_run(self) -> RunInfluence | None:
        """The influence of runs if one disagrees with the others; looked for if there are outliers or other signs."""
        suspicious = self.points.weight is None and bool(self.outliers or self.diagnosis.warnings)
        if not suspicious or len(self.parameter_map.runs) < FEWEST or self.optimum.stopped:
            return None
        found = self.run_influence()
        return found if found.odd is not None else None

    @cached_property
    def offset_notes(self) -> list[str]:
        """The responses with a common offset, in words; see `core.fitting.common_offset`."""
        return list(offset_notes(self))

    @property
    def is_stopped(self) -> bool:
        """Whether an interruption ended it: the best so far."""
        return self.optimum.stopped

    @property
    def warnings(self) -> list[str]:
        """Warnings about the constants."""
        display = self.data.display
        warnings = []
        if self.optimum.stopped:
            warnings.append(f"interrupted after {self.evaluations} evaluations: the best so far, not the optimum")
        for e in self.estimates:
            if not np.isfinite(e.standard_error):
                advice = "fix it or one that it is correlated with, or measure at other temperatures or feeds"
                warnings.append(f"{e.name} is not determined by these data: {self.reasons[e.name]}; {advice}")
            elif e.at_bound:
                warnings.append(f"{e.name} ended at its bound, where its interval is not valid")
            elif e.value > 0 and e.standard_error > e.value and ".Ea" not in e.name:
                warnings.append(
                    f"{e.name} is hardly determined (standard error {e.standard_error / e.value:.3g} times its value): "
                    f"its profile says how far the data bound it"
                )
        warnings += robust_lines(self)
        if self.n_starts is not None and self.n_starts[0] < self.n_starts[1]:
            warnings.append(f"{self.n_starts[0]} of {self.n_starts[1]} starts reached this optimum, none a better one")
        if self.error_factor is not None and self.error_factor[1] < LEVEL:
            factor, probability = self.error_factor
            reason = "the law is incomplete, or the errors are larger" if factor > 1 else "the errors are smaller"
            warnings.append(f"the scatter is {factor:.3g} times the given errors (p {p_text(probability)}): {reason}")
        unused = int(np.isfinite(self.points.given).sum()) if self.error_factor is None else 0
        if unused and self.errors is None:
            total = len(self.points.measured)
            warnings.append(
                f"{unused} of {total} observations have a standard deviation, which is not used: 'given' needs all"
            )
        odd = self.odd_run
        if odd is not None:
            warnings.append(odd.verdict)
        else:
            warnings += self.offset_notes
        for p in (p for p in self.outliers if odd is None or odd.odd is None or p.run != odd.odd.run):
            kind = self.data.kind_of(p.response)
            measured, calculated = (display.text(c, kind, 4) for c in (p.measured, p.calculated))
            measured = p.sign + measured
            warnings.append(
                f"{self.place(p.run, p.time)}, {p.response}: {measured} measured, {calculated} calculated, "
                f"{abs(p.deviations):.1f} standard deviations off; it is part of this fit"
            )
        return warnings if odd is not None else [*warnings, *self.diagnosis.warnings]

    @cached_property
    def diagnosis(self) -> Diagnosis:
        """Runs of signs, normality, influence, lack of fit."""
        return diagnose(self)

    def profile_likelihood(self, *names: str, workers: Workers = None) -> dict[str, ProfileLikelihood]:
        """Profile-likelihood intervals of some constants, or of all; see `core.fitting.profile_likelihood`."""
        names = names or tuple(self.values)
        return dict(zip(names, in_order(partial(profile_likelihood, self), names, workers), strict=True))

    def region(self, first: str, second: str, *, points: int = 36) -> Region:
        """The joint 95 % region of two constants by its profile, and its ellipse; see
        `core.fitting.profile_likelihood`."""
        return region(self, first, second, points)

    def bootstrap(
        self,
        times: int = 1000,
        kind: str = "residuals",
        seed: int = 0,
        workers: Workers = None,
        progress: Callable[[int, int], None] | None = None,
    ) -> Bootstrap:
        """Refit to resampled data, on all cores if it takes long; see `core.fitting.bootstrap`."""
        return bootstrap(self, times, kind, seed, workers, progress)

    def posterior(
        self, draws: int = 2000, seed: int = 0, progress: Callable[[int, int], None] | None = None
    ) -> Posterior:
        """Sample the posterior distribution of the constants; see `core.fitting.posterior`."""
        return sample_posterior(self, draws, seed, progress)

    def next_experiment(
        self,
        narrow: str | Decision,
        *,
        T: Sequence[QuantityLike] = (),
        charges: Sequence[ByName] = (),
        times: Sequence[Sequence[QuantityLike]] = (),
        vessel: str = "batch",
        several: int = 1,
    ) -> NextExperiment:
        """Find the combination of temperature, charge and times that would narrow a constant or a decision most.

        Parameters
        ----------
        narrow : str, Sizing or Optimum
            A fitted constant; "D" or "A" for all constants by that criterion; or a decision from them: the result of
            `mo.size` or `mo.optimize`.
        T, charges, times : sequences
            Of temperatures, of charges by species, and of lists of sampling times; every combination is a candidate.
        vessel : str
            The kind of vessel.
        several : int
            Number of experiments that are made together; one may be repeated.

        Returns
        -------
        NextExperiment

        Raises
        ------
        InputError
            If the constant was not fitted, or there is no candidate.
        """
        return next_experiment(self, narrow, grid(T, charges, times, vessel), several)

    def over_temperature(self, constant: str) -> Arrhenius:
        """The Arrhenius law through a constant that was fitted per run; see `Arrhenius.through`.

        Raises
        ------
        InputError
            If it was common to all runs, or runs have no temperature or the same one.
        """
        own = [(run, self.values.get(f"{constant}, {run.name}")) for run in self.parameter_map.runs]
        given = [(run.temperature, value) for run, value in own if value is not None]
        if not given or any(T is None for T, _ in given):
            advice = f"fit with per_run=['{constant}'], and give each run a temperature"
            raise InputError(
                f"'{constant}' was not fitted per run, or runs have no temperature", "over temperature", advice
            )
        unit = self[f"{constant}, {self.parameter_map.runs[0].name}"].unit
        shown = self.data.display.unit("temperature") or None
        return Arrhenius.through([Value(float(T or 0.0), shown) for T, _ in given], [Value(v, unit) for _, v in given])

    def curves(self, points: int = 121) -> dict[str, Band]:
        """For each run the calculated values of each species or metric that was measured, with its bands."""
        return {run.name: self.curve_of(run.name, points) for run in self.parameter_map.runs}

    def curve_of(self, name: str, points: int = 121) -> Band:
        """The calculated responses over a whole run, with their bands; at the outlet for a run observed there."""
        run = next(run for run in self.parameter_map.runs if run.name == name)
        last = float(run.times[-1])
        first = 0.02 * last if run.along == "space_time" else 0.0
        at = run.times if run.along == OUTLET else np.linspace(min(first, float(run.times[0])), last, points)
        return self.band(run, at)

    def answer(self) -> tuple[str, str]:
        """The question, and the constants with intervals."""
        found = []
        for one in self.estimates:
            value, _, low, high = one.shown()
            unit = units.pretty(one.unit or "")
            found.append(f"{one.label(self.data.display)} {value:.4g} ({low:.4g} to {high:.4g}) {unit}".rstrip())
        return "What are the constants (95 % intervals)?", "; ".join(found)

    def facts(self) -> dict[str, str]:
        """Residual diagnostics and excluded points, by name."""
        found: dict[str, str] = {}
        for line in self.notes():
            name, _, text = line.partition(": ")
            name = f"{name}, signs" if name in found else name
            found[name] = f"{found[name]}; {text}" if name in found else text
        return found | ({"note": "; ".join(self.warnings)} if self.warnings else {})

    def table(self) -> Table:
        """One row per constant: value, standard error and 95 % interval in its unit."""
        rows = []
        for e in self.estimates:
            value, error, low, high = e.shown()
            numbers = {"value": value, "standard error": error, "95 % low": low, "95 % high": high}
            rows.append({"constant": e.label(self.data.display), "unit": e.unit or "", **numbers})
        return frame(rows)

    def points_table(self) -> Table:
        """One row per observation: measured, calculated, residual, leverage, with units in the headings, or in a
        separate column if they differ."""
        display, points = self.data.display, self.points
        columns: PlainData = {"run": points.run}
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
        if not points.is_value.all():
            columns["limit"] = [points.limit_sign(i).strip() for i in range(len(names))]
        residuals = np.array([display.difference(x, kinds[r]) for x, r in zip(points.residuals, names, strict=True)])
        unit = display.difference_unit(kinds[self.responses[0]])
        columns[f"residual [{unit}]" if alike and unit else "residual"] = residuals
        return frame({**columns, "leverage": points.leverage, "influence": self.diagnosis.influence})

    def to_dict(self) -> PlainData:
        """Plain data: constants with intervals, correlation, statistics by species, outliers, notes."""
        display, diagnosis = self.data.display, self.diagnosis
        constants = {}
        for e in self.estimates:
            value, error, low, high = e.shown()
            constants[e.name] = {
                "value": value,
                "standard_error": error,
                "low_95": low,
                "high_95": high,
                "unit": e.unit,
                "value_si": e.value,
                "at_bound": e.at_bound,
                **({"at": entry(display, e.at.si, "temperature")} if e.at is not None else {}),
            }
        lack = diagnosis.lack_of_fit
        return plain_dict(
            {
                "constants": constants,
                "correlation": self.correlation.tolist(),
                "degrees_of_freedom": self.degrees_of_freedom,
                "observations": len(self.points.measured),
                "limits": int((~self.points.is_value).sum()),
                "sum_of_squares_si": self.sum_of_squares,
                "responses": {
                    r.name: {
                        "residual_standard_deviation": float(
                            display.difference(r.standard_deviation, self.data.kind_of(r.name))
                        ),
                        "unit": display.difference_unit(self.data.kind_of(r.name)),
                        "r_squared": r.r_squared,
                        "observations": r.observations,
                    }
                    for r in self.by_response
                },
                "runs_of_signs": {
                    s.response: {"runs": s.runs, "expected": s.expected, "p": s.probability} for s in diagnosis.signs
                },
                "serial_correlation": {
                    s.response: {
                        "lag_one": s.correlation,
                        "durbin_watson": s.durbin_watson,
                        "p": s.probability,
                        "ljung_box_p": s.ljung_box,
                    }
                    for s in diagnosis.serial
                },
                "correlation_times_s": None if self.optimum.tau is None else self.optimum.tau.tolist(),
                "normality_p": diagnosis.normality,
                "lack_of_fit": None if lack is None else {"F": lack.ratio, "p": lack.probability},
                "outliers": [
                    {
                        "run": p.run,
                        "time_s": p.time,
                        "response": p.response,
                        "measured_si": p.measured,
                        "calculated_si": p.calculated,
                        "standard_deviations": p.deviations,
                    }
                    for p in self.outliers
                ],
                "left_out": [{"run": g.run, "time_s": g.time, "response": g.response} for g in self.data.left_out],
                "stopped": self.optimum.stopped,
                "notes": self.warnings,
                "checks": [check.to_dict() for check in self.checks],
            }
        )

    def notes(self) -> list[str]:
        """Statements for a report: residuals by species, their tests, and the excluded points."""
        lines = []
        for r in self.by_response:
            sd = self.data.display.difference_text(r.standard_deviation, self.data.kind_of(r.name))
            r_squared = f"R² {r.r_squared:.4f} ({r.observations} values)"
            lines.append(f"{r.name}: residual standard deviation {sd}, {r_squared}")
        left_out = [f"left out: {self.data.describe(gone)}" for gone in self.data.left_out]
        came, count = self.n_starts or (1, 1)
        starts = f"search: {came} of {count} starts reached this optimum" if count > 1 else "search: from one start"
        if self.error_factor is not None:
            factor, probability = self.error_factor
            lines.append(f"errors: as given, times {factor:.3g} (p {p_text(probability)})")
        lines += [*error_lines(self), *correlation_lines(self), *prior_lines(self)]
        checked = [f"{name}: {text}" for name, text in checked_fact(self.checks).items()]
        return [*lines, *self.diagnosis.lines, *left_out, starts, *checked]

    def __str__(self) -> str:
        many = "s" if len(self.estimates) != 1 else ""
        lines = [f"Fit of {len(self.estimates)} constant{many} to {self.extent}"]
        numbers = [(e, [f"{x:.4g}" for x in e.shown()]) for e in self.estimates]
        labels = [e.label(self.data.display) for e in self.estimates]
        width = max(map(len, labels))
        lines.append(f"  {'':<{width}}  {'value':>10}  {'std. error':>10}    95 % interval")
        for label, (e, (value, error, low, high)) in zip(labels, numbers, strict=True):
            unit = units.pretty(e.unit or "")
            lines.append(f"  {label:<{width}}  {value:>10}  {error:>10}    {low} to {high}  {unit}".rstrip())
        shown = self.correlated
        if len(shown) > 1:
            lines.append("  correlation")
            for n, i in enumerate(shown):
                row = "".join(f"{x:>8.3f}" for x in self.correlation[i, shown[: n + 1]])
                lines.append(f"  {self.estimates[i].name:<{width}}{row}")
        lines += [f"  {line}" for line in self.notes()]
        lines += [f"  note: {text}" for text in self.warnings]
        return "\n".join(lines)
