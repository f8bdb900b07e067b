"""`Run`: the result of running a vessel."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self

import numpy as np

from molino.core.annotations import PlainData
from molino.core.balances.balance_symbols import FLOW, RELEASED, SENSIBLE
from molino.core.checks import Check, checked_fact
from molino.core.contents.streams import is_whole, stream_table
from molino.core.contract.data_range import fitted_fact
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.review import doubtful_size
from molino.core.errors import InputError, SolveError
from molino.core.results import Table, entry, frame
from molino.core.runs import run_checks, run_slopes, settling
from molino.core.runs.phases_along_runs import phase_facts
from molino.core.runs.run_data import RunData, wanted_points
from molino.core.units import Value


@dataclass(frozen=True, eq=False)
class Run(RunData):
    """The result of running a vessel: arrays in SI inside, units outside.

    Numbers without a place are those at the end: at the outlet of a tube, after the time of a batch or a start-up, at
    steady state. Extremes, times of events and durations do not depend on the points.

    Attributes
    ----------
    vessel : Vessel
    trajectory : Trajectory
        The course of its states through all stages.
    wanted : tuple of float or None
        The requested points.
    settling_band : float
        A quantity of a tank has settled within this fraction of its largest distance from the steady state.
    verified : tuple of Check
        The result of a thorough verification.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> run = tube.run()
    >>> round(run.residence_time_si), run.to_dict()["kind"]
    (300, 'plug flow')
    """

    def at(self, points: object) -> Run:
        """The same run with other rows: at times in s, or volumes passed in m^3."""
        return replace(self, wanted=wanted_points(self.vessel, self.trajectory.end, points))

    def profile(self, metric: Metric | str) -> np.ndarray:
        """A metric at each point, shape (points,): as if the vessel ended there."""
        return self.evaluate((self.vessel.spec.expression(read_metric(metric)),))[0]

    def slopes(self, metrics: Sequence[Metric], conditions: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(condition), shape (metrics, conditions)."""
        return run_slopes.slopes(self, metrics, conditions)

    def constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(constant), shape (constants,), by the full names of the constants."""
        return run_slopes.constant_slopes(self, metric, names)

    def extreme(self, metric: Metric, sign: float) -> tuple[float, float]:
        """Where along the run a metric is highest (lowest, for a negative sign), and its value there."""
        return run_slopes.extreme(self, metric, sign)

    def error_of(self, metric: Metric) -> float:
        """The error of a metric at the end that the tolerances of the integration allow, in SI."""
        return run_slopes.error_of(self, metric)

    @cached_property
    def closure(self) -> dict[str, float]:
        """The imbalance of each element (or stoichiometric invariant), mass and energy; see `run_checks.closure`."""
        return run_checks.closure(self)

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The closures, the lowest amount, at steady state the residual, and a second integration if requested."""
        return run_checks.checks(self)

    def out_of_range(self) -> list[str]:
        """Heat capacities that are used outside their range, in words."""
        return run_checks.out_of_range(self)

    def thoroughly_verified(self) -> Self:
        """The same run, verified by a second integration by another method at a hundredth of the tolerances.

        Raises
        ------
        SolveError
            If it does not agree, or the other method fails.
        """
        check = run_checks.second_integration(self)
        return self if check is None else replace(self, verified=(check,))

    @property
    def final(self) -> dict[str, Value]:
        """Concentration of each species at the end, as quantities."""
        return {s: self.display.quantity(c, "concentration") for s, c in self.outlet_concentrations.items()}

    @property
    def final_temperature(self) -> Value:
        """Temperature at the end, as a quantity."""
        return self.display.quantity(float(self.temperatures[-1]), "temperature")

    @property
    def max_temperature(self) -> Value:
        """The highest temperature of the run, as a quantity."""
        return self.display.quantity(self.highest_T[1], "temperature")

    @property
    def duty(self) -> Value:
        """Heat into the vessel through its walls (negative: cooling), as a quantity.

        A power; of a batch or semi-batch the energy since the start. InputError if properties are missing.
        """
        return self.display.quantity(self.duty_si, self.duty_kind)

    @property
    def heat_released(self) -> Value:
        """Heat released by the reactions, as a quantity: a power in a steady tank or a tube, otherwise an energy.

        InputError if properties are missing.
        """
        self.vessel.spec.require_energy()
        if self.is_steady:
            return self.display.quantity(self.at_end((self.vessel.spec.model.heat_generation,))[0], "power")
        return self.display.quantity(self.at_end((RELEASED,))[0], "energy" if self.is_over_time else "power")

    @property
    def time_to_maximum_rate(self) -> Value:
        """The time at which the temperature rises fastest, as a quantity; InputError if it is prescribed."""
        if not self.vessel.is_non_isothermal or not self.is_over_time or self.is_steady:
            raise InputError(
                "the temperature is prescribed, or the run is not over time", self.vessel.label, "heat='adiabatic'"
            )
        return self.display.quantity(self.trajectory.most(SENSIBLE)[0], "time")

    @property
    def residence_time(self) -> Value:
        """The residence time of the fluid in the vessel, or the time of a batch, as a quantity."""
        return self.display.quantity(self.residence_time_si, "time")

    @property
    def space_time(self) -> Value:
        """Volume over volumetric flow of the feed, or the time of a batch, as a quantity."""
        return self.display.quantity(self.space_time_si, "time")

    def table(self, show: Mapping[str, str] | None = None) -> Table:
        """Time or position, concentrations, temperature, rates and other series, with units in the headings.

        Parameters
        ----------
        show : mapping of kind to unit, optional
            Units for this table, {"concentration": "kmol/m3", "temperature": "K"}; otherwise those of the vessel.

        Raises
        ------
        InputError
            For an unknown kind, or a unit of another dimension.
        """
        display = self.vessel.with_(show={**self.vessel.show, **show}).spec.display if show else self.display
        columns: list[tuple[str, object]] = []
        if not self.is_steady:
            for name, kind, values in self.positions():
                columns.append((display.heading(name, kind), display.number(values, kind)))
        kinds, headings = self.kinds, self.headings
        for name, values in self.series.items():
            columns.append((display.heading(headings[name], kinds[name]), display.number(values, kinds[name])))
        return frame(dict(columns))

    def stream_table(self) -> Table:
        """The stream table of inlet and outlet: flows, fractions, temperature, pressure and density.

        Of a batch or semi-batch the charge and feeds, and the contents and outflow at the end.
        """
        came, fluid = self.streams_in(), self.vessel.spec.fluid
        return stream_table([*came, *self.streams_out()], fluid, self.display, is_whole(fluid, came[0]))

    def settling_time(self, band: float | None = None) -> Value:
        """The time after which a tank remains within a band of its steady state, as a quantity.

        The band of each amount and of the temperature is relative to its own largest distance from the steady state:
        with band 0.02 all are within two per cent of it. By default the band is that of the run.

        Raises
        ------
        InputError
            If this is not a start-up of a tank, or the band is invalid.
        SolveError
            If it does not settle within this run.
        """
        times = settling.settling_times(self, self.settling_band if band is None else band)
        if any(math.isinf(time) for time in times.values()):
            raise SolveError("it does not settle within this run", self.vessel.label, "run it for longer")
        return self.display.quantity(max(times.values(), default=0.0), "time")

    def settling_times(self, band: float | None = None) -> dict[str, Value | None]:
        """As `settling_time`, for each species and the temperature; None if it does not settle."""
        times = settling.settling_times(self, self.settling_band if band is None else band)
        return {n: None if math.isinf(t) else self.display.quantity(t, "time") for n, t in times.items()}

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        found = {f"conversion of {s}": self.conversion(s) for s in self.reactants}
        return found | {f"concentration of {s}": c for s, c in self.outlet_concentrations.items()}

    def facts(self) -> dict[str, str]:
        """The main results, by name, with units."""
        display, flows = self.display, np.isfinite(self.number(FLOW))
        found = {}
        if not self.is_steady and flows and self.is_over_time:
            found["run for"] = display.text(self.trajectory.end, "time")
        if np.isfinite(self.residence_time_si):
            found["residence time" if flows else "time"] = display.text(self.residence_time_si, "time")
        if abs(self.space_time_si / self.residence_time_si - 1) > 1e-6:
            found["space time"] = display.text(self.space_time_si, "time")
        summary = self.summary()
        for name, value in summary.items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        readings = self.vessel.spec.model.readings
        ends = [n for n, r in readings.items() if r.kind in ("temperature", "pressure", "volume")]
        for name, value in zip(ends, self.at_end(tuple(readings[n].expression for n in ends)), strict=True):
            found[name] = display.text(value, readings[name].kind, 5)
            if name == "temperature" and self.vessel.is_non_isothermal and not self.is_steady:
                at, highest = self.highest_T
                if 0 < at < self.trajectory.end:
                    found["highest temperature"] = display.text(highest, "temperature", 5)
        if self.vessel.spec.model.duty is not None and self.vessel.spec.heat_shape.mode != "adiabatic":
            found["duty" if self.duty_kind == "power" else "heat added"] = display.text(self.duty_si, self.duty_kind)
        if self.is_start_up:
            for name, time in settling.settled_or_none(self).items():
                text = display.text(time, "time") if math.isfinite(time) else "not within this run"
                found[f"settling time of {name} ({100 * self.settling_band:g} %)"] = text
        conversions = [value for name, value in summary.items() if name.startswith("conversion")]
        if (doubt := doubtful_size(self.vessel.spec, conversions)) is not None:
            found["note"] = doubt.what
        found |= phase_facts(self) | self.vessel.spec.more_facts(self)
        if beyond := run_checks.out_of_range(self):
            found["heat capacity of"] = "; ".join(beyond)
        warm = self.temperatures if self.has_temperature else np.array([np.nan])
        peaks = {s: float(np.max(row)) for s, row in self.concentrations.items()}
        found |= fitted_fact(self.covariance, (np.min(warm), np.max(warm)), peaks, display)
        if self.is_steady and (growth := run_checks.growth(self)) is not None:
            found["stability"] = "stable" if growth < 0 else "unstable: any small disturbance grows"
        return {**found, **checked_fact(self.checks), "solved by": str(self.report)}

    def to_dict(self) -> PlainData:
        """Plain data: sizes, conversions, concentrations, temperature, duty, closures, streams in and out."""
        more = phase_facts(self) | self.vessel.spec.more_facts(self)
        found = {**super().to_dict(), **more, "solved_by": str(self.report)}
        if self.is_start_up:
            times = {n: entry(self.display, t, "time") for n, t in settling.settled_or_none(self).items()}
            found["settling"] = {"band": self.settling_band, **times}
        return found

    def __str__(self) -> str:
        return self.lines(str(self.vessel))
