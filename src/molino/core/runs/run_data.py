"""The fields of a run, and the quantities that are read from its trajectory."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeVar

import numpy as np
import sympy as sp

from molino.core.annotations import ByName, PlainData
from molino.core.balances.balance_symbols import FLOW, PASSED_TIME, SINCE, VOLUME, slope_of
from molino.core.balances.settings import Report
from molino.core.balances.system import TIME
from molino.core.checks import Check
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration
from molino.core.chemistry.reaction_set import Covariance
from molino.core.contents.streams import Fluid, Stream
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.display import Display
from molino.core.errors import InputError
from molino.core.frozen import FrozenMapping
from molino.core.runs.trajectory import Trajectory
from molino.core.terms.model import StreamForm

_ROWS = 101
_STEEP = 0.08
"""Between two rows of a table no state changes by more than this share of its range."""
_MOST_ROWS = 1200


Analysis = TypeVar("Analysis")
_ROUNDING = 1e-11
"""Negative amounts up to this fraction of the largest are rounding errors."""


def without_rounding(rows: ByName) -> PlainData:
    """Amounts or concentrations by species, with negative rounding errors set to zero."""
    largest = max((float(np.max(np.abs(row))) for row in rows.values()), default=0.0)
    return {name: np.where((row < 0) & (row >= -_ROUNDING * largest), 0.0, row) for name, row in rows.items()}


@dataclass(frozen=True, eq=False)
class RunData(RunResult):
    """The trajectory of a vessel, and the quantities along it and at its end.

    Attributes
    ----------
    vessel : Vessel
    trajectory : Trajectory
        The states through all stages.
    wanted : tuple of float or None
        The requested points.
    settling_band : float
        A quantity of a tank has settled within this fraction of its largest distance from the steady state.
    verified : tuple of Check
        The result of a thorough verification.
    """

    vessel: Vessel
    trajectory: Trajectory
    wanted: tuple[float, ...] | None = None
    settling_band: float = 0.02
    verified: tuple[Check, ...] = ()

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    @property
    def covariance(self) -> Covariance | None:
        return self.vessel.chemistry.covariance

    @property
    def report(self) -> Report:
        """The report of the integration."""
        return self.trajectory.report

    @property
    def is_steady(self) -> bool:
        """Whether this is a steady state of a tank."""
        return bool(np.isinf(self.trajectory.end))

    @property
    def is_over_time(self) -> bool:
        """Whether it runs over time, and not along a tube."""
        return bool(self.vessel.spec.model.balances.independent == TIME)

    @cached_property
    def points(self) -> np.ndarray:
        """Times in s, or volumes in m^3, of the rows, shape (points,): the requested ones, or even ones with more where
        a state changes."""
        if self.wanted is not None or self.is_steady:
            return np.array(self.wanted if self.wanted is not None else [np.inf])
        return self._moving_points()

    @cached_property
    def states(self) -> np.ndarray:
        """States of its balances with their totals, shape (points, states)."""
        return self.trajectory.at(self.points)

    def _moving_points(self) -> np.ndarray:
        """Even points, with more where a state changes much between two of them, also in the first decades."""
        points = np.linspace(0.0, self.trajectory.end, _ROWS)
        core = len(self.vessel.spec.model.balances.states)
        for n in range(5):
            states = self.trajectory.at(points)[:, :core]
            span = np.ptp(states, axis=0)
            moved = np.abs(np.diff(states, axis=0)) / np.where(
                span > 1e-12 * np.max(np.abs(states), axis=0), span, np.inf
            )
            steep = np.flatnonzero(np.max(moved, axis=1) > _STEEP)
            if not len(steep) or len(points) > _MOST_ROWS:
                break
            between = [np.linspace(points[i], points[i + 1], 5)[1:-1] for i in steep]
            if n == 0 and steep[0] == 0:
                between.append(points[1] * np.geomspace(1e-8, 1.0, 49)[:-1])
            points = np.unique(np.concatenate([points, *between]))
        return self._thinned(points)

    def _thinned(self, points: np.ndarray) -> np.ndarray:
        """Without those of the first decades before the first change."""
        even = np.linspace(0.0, self.trajectory.end, _ROWS)
        early = (points > 0) & (points < even[1])
        if not early.any():
            return points
        states = self.trajectory.at(points)[:, : len(self.vessel.spec.model.balances.states)]
        span = np.where(np.ptp(states, axis=0) > 0, np.ptp(states, axis=0), np.inf)
        still = np.max(np.abs(states - states[0]) / span, axis=1) < 1e-3
        return np.asarray(points[~(early & still)])

    def evaluate(self, expressions: tuple[sp.Expr, ...]) -> list[np.ndarray]:
        """Expressions of the balances at each point, each of shape (points,)."""
        return self.trajectory.evaluate(expressions, self.points, self.states)

    def at_end(self, expressions: tuple[sp.Expr, ...]) -> list[float]:
        return self.trajectory.at_end(expressions)

    @cached_property
    def series(self) -> Mapping[str, np.ndarray]:
        """The series along the run in SI, each of shape (points,): 'concentration of A', 'temperature', 'rate of r'."""
        readings = self.vessel.spec.model.readings
        rows = dict(zip(readings, self.evaluate(tuple(r.expression for r in readings.values())), strict=True))
        kept = [name for name, reading in readings.items() if reading.kind == "concentration"]
        return FrozenMapping(rows | without_rounding({name: rows[name] for name in kept}))

    @property
    def concentrations(self) -> dict[str, np.ndarray]:
        """Concentration of each species in mol/m^3, shape (points,)."""
        return {s: self.series[f"concentration of {s}"] for s in self.vessel.chemistry.names}

    @property
    def has_temperature(self) -> bool:
        """Whether a temperature is known."""
        return "temperature" in self.series or np.isfinite(self.number(TEMPERATURE))

    @property
    def temperatures(self) -> np.ndarray:
        """Temperature in K, shape (points,); InputError if unknown."""
        if "temperature" in self.series:
            return np.asarray(self.series["temperature"])
        if not self.has_temperature:
            raise InputError("no temperature is given", self.vessel.label, "give T")
        return np.full(len(self.points), self.number(TEMPERATURE))

    @cached_property
    def highest_T(self) -> tuple[float, float]:
        """The place of the highest temperature, and its value."""
        if self.is_steady or "temperature" not in self.vessel.spec.model.readings:
            return self.trajectory.end, float(np.max(self.temperatures))
        return self.trajectory.most(TEMPERATURE)

    @property
    def duty_si(self) -> float:
        """Heat into the vessel through its walls: in W, of a batch or semi-batch in J; InputError if unknown."""
        self.vessel.spec.require_energy()
        duty = self.vessel.spec.model.duty
        assert duty is not None
        return self.at_end((duty,))[0]

    @property
    def duty_kind(self) -> str:
        """Whether the duty is a power (flow vessels) or an energy (charged vessels)."""
        return "power" if np.isfinite(self.number(FLOW)) else "energy"

    @property
    def has_duty(self) -> bool:
        """Whether its species have the properties that an energy balance, and so its duty, needs."""
        return self.vessel.spec.model.duty is not None

    @property
    def fluid_share(self) -> float:
        """The fraction of the vessel's volume that is fluid."""
        catalyst = self.vessel.catalyst
        return float(catalyst.voidage.si) if catalyst is not None else 1.0

    @property
    def residence_time_si(self) -> float:
        """In s: the residence time of the fluid, of a bed its void volume over the flow; the time of a batch."""
        return float(self.times(np.array([self.trajectory.end]), self.trajectory.end_state[None])[0])

    def times(self, points: np.ndarray, states: np.ndarray) -> np.ndarray:
        """The residence time in s of the fluid at some points."""
        names = self.vessel.spec.model.followed.symbols
        if PASSED_TIME in names and not self.is_steady:
            return np.asarray(states[:, names.index(PASSED_TIME)] * self.fluid_share)
        flow = self.number(FLOW)
        if not np.isfinite(flow):
            return points
        if self.is_over_time:
            return np.full(len(points), self.space_time_si * self.fluid_share)
        return points / flow * self.fluid_share

    @property
    def space_time_si(self) -> float:
        """In s: volume (of a bed with its solids) over volumetric flow of the feed, or the time of a batch."""
        flow = self.number(FLOW)
        if not np.isfinite(flow):
            return self.trajectory.end
        return self.volume_si / flow

    @property
    def volume_si(self) -> float:
        """Volume of the vessel in m^3; nan for one without."""
        volume = self.number(VOLUME)
        return volume if np.isfinite(volume) else np.nan if self.is_steady else self.trajectory.end

    def number(self, symbol: sp.Symbol) -> float:
        """A parameter of the last stage; nan if the balances do not have it."""
        case = self.trajectory.last
        return case.value(symbol) if symbol in case.balances.parameters else np.nan

    @property
    def kinds(self) -> dict[str, str]:
        """The kind of quantity of each series."""
        return {name: reading.kind for name, reading in self.vessel.spec.model.readings.items()}

    @cached_property
    def headings(self) -> dict[str, str]:
        """The short heading of each series; the long one where another series has the same."""
        species, along = {*self.vessel.chemistry.names}, {"time", "length", "volume", "residence time"}
        found = {}
        for name, reading in self.vessel.spec.model.readings.items():
            taken = along if name == f"concentration of {reading.heading}" else species
            found[name] = name if reading.heading in taken else reading.heading
        return found

    @property
    def flows(self) -> dict[str, np.ndarray]:
        """Amount (or molar flow of the outlet) of each species in SI, shape (points,)."""
        names = self.vessel.chemistry.names
        rows = self.evaluate(tuple(self.vessel.spec.model.outlet[s] for s in names))
        return without_rounding(dict(zip(names, rows, strict=True)))

    @property
    def outlet_concentrations(self) -> dict[str, float]:
        """Concentration of each species at the end in mol/m^3."""
        names = self.vessel.chemistry.names
        ends = self.at_end(tuple(concentration(s) for s in names))
        return {s: float(c) for s, c in without_rounding(dict(zip(names, ends, strict=True))).items()}

    @property
    def fluid(self) -> Fluid:
        """The fluid of its streams."""
        return self.vessel.spec.fluid

    def inlet_amounts(self) -> dict[str, float]:
        """Amount (or molar flow) of each species that was fed, up to the end."""
        names = self.vessel.chemistry.names
        return dict(zip(names, self.at_end(tuple(self.vessel.spec.model.inlet[s] for s in names)), strict=True))

    def first_pressure(self) -> float:
        """The pressure in Pa at the beginning; nan if unknown."""
        if PRESSURE not in self.trajectory.parts[0].case.balances.known:
            return np.nan
        first = self.trajectory.parts[0]
        row = self.trajectory.evaluate((PRESSURE,), first.points[:1], first.states[:1])
        return float(row[0][0])

    def stream_in(self) -> Stream:
        """The feed or charge, in SI."""
        return self.vessel.spec.stream_in(self)

    def streams_in(self) -> list[Stream]:
        """All inlets: the feed (or charge), a side feed and a sweep."""
        return [self.stream_in(), *self.vessel.spec.side_streams(self)]

    def stream_out(self) -> Stream:
        """The outlet, or the contents of a batch at its end, in SI."""
        return self.stream(self.vessel.spec.model.streams[0])

    def streams_out(self) -> list[Stream]:
        """All outlets: the outlet, and the permeate of a membrane."""
        return [self.stream(form) for form in self.vessel.spec.model.streams]

    def stream(self, form: StreamForm) -> Stream:
        known = self.trajectory.last.balances.known
        amounts = self.at_end(tuple(form.amounts.values()))

        def at_end(e: sp.Expr | None) -> float:
            return self.at_end((e,))[0] if e is not None and e.free_symbols <= known else np.nan

        P = at_end(form.P)
        P = P if np.isfinite(P) or form.P is None else self.vessel.spec.feed_pressure()
        pressure = P if form.P is not None else self.vessel.spec.feed_pressure()
        return Stream(
            form.name,
            {s: float(n) for s, n in without_rounding(dict(zip(form.amounts, amounts, strict=True))).items()},
            at_end(form.volume),
            at_end(form.T),
            pressure if form.name == self.vessel.spec.model.streams[0].name else P,
            form.flowing,
        )

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """(name, kind, SI values) of the axes: time, or length, volume and residence time of a tube."""
        if self.is_over_time:
            return [("time", "time", self.points)]
        area = self.vessel.spec.cross_section()
        along = [("length", "length", self.points / area)] if np.isfinite(area) else []
        times = self.times(self.points, self.states)
        return [*along, ("volume", "volume", self.points), ("residence time", "time", times)]

    @property
    def is_start_up(self) -> bool:
        """Whether it is a tank over time, which has settling times."""
        return not self.is_steady and self.vessel.spec.has_steady_state

    def last_values(self) -> tuple[float, ...]:
        """The numbers of the plain balances at the end."""
        case, end = self.trajectory.last, self.trajectory.end
        held = dict(zip(case.balances.parameters, case.values, strict=True))
        since = held.get(SINCE, 0.0)
        return tuple(
            held[p] + held.get(slope_of(p), 0.0) * (end - since) for p in self.vessel.spec.model.balances.parameters
        )

    @cached_property
    def reactants(self) -> tuple[str, ...]:
        """The species fed that some reaction consumes."""
        return self.vessel.spec.reactants

    def metric(self, metric: Metric | str) -> float:
        """A metric at the end, in SI: by its text ("conversion of A"), or as `mo.results.conversion("A")` makes it."""
        asked = read_metric(metric)
        if asked.is_of_a_whole_run:
            return float(self.analysis(asked).metric(asked))
        return self.at_end((self.vessel.spec.expression(asked),))[0]

    @cached_property
    def _analyses(self) -> dict[Any, Any]:
        return {}

    def analysis(self, metric: Metric) -> Any:
        """The analysis of the whole run that a metric needs, made once."""
        self.vessel.spec.check_metric(metric)
        return self.analysis_by(self.vessel.spec.run_metrics[metric.what])

    def analysis_by(self, kind: Callable[[RunData], Analysis]) -> Analysis:
        """An analysis of the whole run by its class, made once."""
        if kind not in self._analyses:
            self._analyses[kind] = kind(self)
        return self._analyses[kind]  # type: ignore[no-any-return]


def wanted_points(vessel: Vessel, end: float, points: object) -> tuple[float, ...] | None:
    """The places of rows: a number of them from 0 to the end, or given ones, to which 0 and the end are added."""
    if points is None:
        return None
    advice = "give a whole number from 2 up, or numbers in SI between 0 and the end"
    if isinstance(points, int) and points >= 2:
        return tuple(np.linspace(0.0, end, points).tolist())
    try:
        given = np.atleast_1d(np.asarray(points, dtype=float))
    except (TypeError, ValueError):
        given = np.array([np.nan])
    near = 1e-9 * end
    if isinstance(points, int) or given.ndim != 1 or not ((given >= 0) & (given <= end + near)).all():
        raise InputError(f"points = {points!r} are not places between 0 and {end:g}", vessel.label, advice)
    return (0.0, *np.unique(given[(given > near) & (given < end - near)]).tolist(), end)
