"""`Run`: what comes out of a vessel."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Self, TypeVar

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import ATOL, RTOL, RUN_OUT, Report, by_another_engine, integrate, start
from molino.core.balances.steady import RESIDUAL, growth_rates, imbalance, steady
from molino.core.balances.system import TIME, Case
from molino.core.checks import Check, checked_fact, closure_check, require_passed
from molino.core.chemistry.chemistry import Covariance
from molino.core.chemistry.constants import parameter_symbol, si
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration
from molino.core.chemistry.species import beyond_validity
from molino.core.errors import Fault, Faults, InputError, SolveError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.results import Result, entry, in_columns
from molino.core.units import Display
from molino.core.vessels import metrics
from molino.core.vessels.base import Vessel
from molino.core.vessels.cooling_failure import CoolingFailure
from molino.core.vessels.data_range import fitted_fact
from molino.core.vessels.hot_spot import HotSpot
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.model import StreamForm
from molino.core.vessels.parameter_map import ParameterMap
from molino.core.vessels.phase_limits import phase_facts
from molino.core.vessels.piecewise_linear import PiecewiseLinear, segments
from molino.core.vessels.roles import FLOW, PASSED_TIME, RELEASED, SENSIBLE, SINCE, VOLUME, slope_of
from molino.core.vessels.sensitivity import end_slope, expression_slopes, slopes_along
from molino.core.vessels.streams import Fluid, Stream, is_whole, stream_dict, stream_table
from molino.core.vessels.trajectory import Switch, Trajectory, at_rest, integrate_segments, moved_expressions

if TYPE_CHECKING:
    import pandas as pd

AnyRun = TypeVar("AnyRun", bound="RunResult")
MovingNumbers = Mapping[sp.Symbol, PiecewiseLinear]
VERIFY = ("usual", "thorough")
"""How a run is verified: by what its checks list, or also by a second integration."""
_COARSER = 1e2
_AGREEMENT, _LOSS = 1e-6, 1e3
"""Share of each state by which two integrations may differ, or so many times the tolerance, if that is more."""
_ROWS = 101
_STEEP = 0.08
"""Between two rows of a table no state changes by more than this share of its range."""
_MOST_ROWS = 1200
_LOOSEST = 0.01
"""The largest tolerance that is accepted."""
ROUNDING = 1e-14
"""Rounding error of a sum of enthalpies, as a share of it."""


def follow(
    vessel: Vessel, end: float, points: Any, *, rtol: float, atol: float, moving_numbers: MovingNumbers | None = None,
    switch: Switch | None = None,
) -> Run:  # fmt: skip
    """Integrate a vessel's balances from 0 to `end` and check that no species goes below zero.

    `moving_numbers` are those that change on the way, besides the vessel's own; `switch` says what events do.
    """
    vessel._require_known()
    check_tolerances(vessel.label, rtol=rtol, atol=atol)
    wanted = _wanted(vessel, end, points)
    whole = Case(vessel._model.followed, vessel._case.values)
    if whole.balances.extent is not None:
        whole.remembered["near"] = vessel._near_profiles
    several = segments(whole, vessel._moving_numbers() | dict(moving_numbers or {}), end)
    try:
        account = vessel._model.energy
        lacks = account.there - account.wanted if account is not None else None
        trajectory = integrate_segments(several, rtol, atol, switch, unbalanced=lacks)
    except SolveError as error:
        raise explained(vessel, error) from error
    check_run_out(vessel, trajectory)
    return Run(vessel, trajectory, wanted)


def verified(run: AnyRun, verify: str) -> AnyRun:
    """A run of a vessel or train, verified as asked; InputError for another word."""
    if verify not in VERIFY:
        raise InputError(f"verify = {verify!r}", "run", f"give one of {', '.join(VERIFY)}")
    return run.thoroughly_verified() if verify == "thorough" else run


def check_tolerances(label: str, **given: Any) -> None:
    """Raise InputError for tolerances that are not numbers above zero and small enough to mean anything."""
    faults = Faults()
    for name, value in given.items():
        is_number = isinstance(value, float | int | np.floating) and not isinstance(value, bool)
        if not is_number or not 0 < value <= _LOOSEST:
            faults.add(
                f"{label}, {name}", f"{value!r} is not a tolerance", f"give a number up to {_LOOSEST:g}, like 1e-8"
            )
    faults.raise_any()


def settled(vessel: Vessel, state: np.ndarray, report: Report) -> Run:
    """The run of one steady state."""
    return Run(vessel, at_rest(vessel._case, state, report))


def _wanted(vessel: Vessel, end: float, points: Any) -> tuple[float, ...] | None:
    """Where a result has rows: so many from 0 to the end, or at given places, with 0 and the end put in if missing."""
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


def explained(vessel: Vessel, error: SolveError) -> SolveError:
    """What stopped a run, with the place in its units and the number to look at."""
    if error.symbol != TEMPERATURE:
        return error
    kind = "time" if vessel._model.balances.independent == TIME else "volume"
    at = vessel._display.text(error.reached, kind)
    message = f"the temperature falls to 0 K at {kind} {at}: more heat is taken up than there is"
    heats = {str(r.name): r.enthalpy for r in vessel.chemistry.reactions if r.enthalpy is not None}
    worst = max(heats, key=lambda name: abs(si(heats[name]))) if heats else ""
    advice = f"check the enthalpy of reaction {worst} ({heats[worst]}) and the heat capacity" if worst else (
        "check the enthalpies of formation and the heat capacities"
    )  # fmt: skip
    found = SolveError([Fault(vessel.label, message, advice)])
    found.reached, found.symbol = error.reached, error.symbol
    return found


def check_run_out(vessel: Vessel, trajectory: Trajectory) -> None:
    """Raise SolveError where a rate law goes on consuming a species that has run out."""
    balances = vessel._model.followed
    if all(part.states.min() >= 0 for part in trajectory.parts):
        return
    amounts = balances.amounts
    held = np.concatenate([part.states for part in trajectory.parts])[:, amounts]
    below = held < -RUN_OUT * np.max(np.abs(held))
    if not below.any():
        return
    column = int(np.argwhere(below)[0][1])
    name, symbol = balances.names[amounts[column]], balances.symbols[amounts[column]]
    points = np.concatenate([part.points for part in trajectory.parts])
    latest = points[int(np.argmax(below[:, column]))]
    at = next((t for t in reversed(trajectory.crossings(symbol)) if t <= latest), latest)
    kind = "time" if balances.independent == TIME else "volume"
    message = f"{name} runs out at {kind} {vessel._display.text(at, kind)}, and a rate law goes on consuming it"
    raise SolveError(message, vessel.label, f"make that rate fall to zero with [{name}], or end the run earlier")


class RunResult(Frozen, Result):
    """What metrics evaluate: a run of a vessel, or of a train."""

    def metric(self, metric: Metric | str) -> float:
        """A metric at the end, in SI."""
        raise NotImplementedError

    def _constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(constant), shape (constants,), by the full names of the constants."""
        raise NotImplementedError

    def _covariance(self) -> Covariance | None:
        """Covariance of the fitted constants."""
        raise NotImplementedError

    def thoroughly_verified(self) -> Self:
        """The same after a second integration by another method, at a hundredth of the tolerances, that agrees."""
        raise NotImplementedError

    def standard_error(self, metric: Metric | str) -> float | None:
        """Standard error of a metric in SI from the covariance of the fitted constants; None where there is none.

        s^2 = g C g, g the slopes by the fitted parameters (propagation of error, first order).
        """
        covariance = self._covariance()
        if covariance is None:
            return None
        asked = parse_metric(metric) if isinstance(metric, str) else metric
        slope = self._constant_slopes(asked, covariance.names)
        return float(np.sqrt(max(slope @ covariance.matrix @ slope, 0.0)))

    def conversion(self, species: str) -> float:
        """(fed - left) / fed; see `metrics.conversion`."""
        return self.metric(metrics.conversion(species))

    def yield_of(self, product: str, on: str) -> float:
        """Product formed per reactant fed, by stoichiometry; see `metrics.yield_of`."""
        return self.metric(metrics.yield_of(product, on))

    def selectivity(self, wanted: str, over: str | None = None, on: str | None = None) -> float:
        """Wanted over unwanted formed (`over`), or per reactant converted (`on`); see `metrics.selectivity`."""
        return self.metric(metrics.selectivity(wanted, over, on))

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        raise NotImplementedError

    def facts(self) -> dict[str, str]:
        """The main results, by name, with units."""
        raise NotImplementedError

    def to_dict(self) -> dict[str, Any]:
        """Plain data: sizes, conversions, concentrations, temperature, duty, closures, streams in and out."""
        run: Any = self  # a run of a vessel, or of a train: both have what follows
        display, summary = run.display, run.summary()
        shares = {name.replace(" ", "_"): v for name, v in summary.items() if name.startswith("conversion")}
        final = {
            name.removeprefix("concentration of "): float(display.number(value, "concentration"))
            for name, value in summary.items()
            if name.startswith("concentration")
        }
        out = run.stream_out()
        ends = {kind: entry(display, value, kind) for kind, value in (("temperature", out.T), ("pressure", out.P))
                if np.isfinite(value)}  # fmt: skip
        duty = {"duty": entry(display, run.duty_si, run.duty_kind)} if run.has_duty else {}
        sizes = {name: entry(display, value, kind) for name, value, kind in (
            ("residence_time", run.residence_time_si, "time"), ("volume", run.volume_si, "volume"),
        ) if np.isfinite(value)}  # fmt: skip
        return {
            "kind": run.vessel.noun,
            "steady": run.is_steady,
            **sizes,
            **shares,
            "concentrations": {"unit": display.unit("concentration"), **final},
            "closure": dict(run.closure),
            "checks": [check.to_dict() for check in run.checks],
            **ends,
            **duty,
            "streams_in": [stream_dict(stream, display) for stream in run.streams_in()],
            "streams_out": [stream_dict(stream, display) for stream in run.streams_out()],
        }

    def lines(self, title: str) -> str:
        """A title, and the facts below it in two columns."""
        return "\n".join([title, *in_columns(self.facts())])


@dataclass(frozen=True, eq=False)
class Run(RunResult):
    """The result of running a vessel: arrays in SI inside, units outside.

    `vessel` is what ran, `trajectory` the course of its states, `wanted` the points asked for. Numbers without a place
    are those at the end: at the outlet of a tube, after the time of a batch or a start-up, at steady state. What is
    highest, when something happens and how long it takes does not depend on the points.

    Attributes
    ----------
    vessel : Vessel
    trajectory : Trajectory
        The course of its states through all stages.
    wanted : tuple of float or None
        The points asked for.
    settling_band : float
        Within which share of its largest distance from the steady state a quantity of a tank has settled.
    verified : tuple of Check
        What a thorough verification found.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> run = tube.run()
    >>> round(run.residence_time_si), run.to_dict()["kind"]
    (300, 'plug flow')
    """

    vessel: Vessel
    trajectory: Trajectory
    wanted: tuple[float, ...] | None = None
    settling_band: float = 0.02
    verified: tuple[Check, ...] = ()

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self.vessel._display

    def _covariance(self) -> Covariance | None:
        return self.vessel.chemistry.covariance

    @property
    def report(self) -> Report:
        """What the integration did."""
        return self.trajectory.report

    @property
    def is_steady(self) -> bool:
        """Whether this is a steady state of a tank rather than something followed."""
        return bool(np.isinf(self.trajectory.end))

    @property
    def is_over_time(self) -> bool:
        """Whether it runs over time, and not along a tube."""
        return bool(self.vessel._model.balances.independent == TIME)

    @cached_property
    def points(self) -> np.ndarray:
        """Times in s, or volumes passed in m^3, at which it has rows, shape (points,): those asked for, or even ones
        with more where something moves."""
        if self.wanted is not None or self.is_steady:
            return np.array(self.wanted if self.wanted is not None else [np.inf])
        return self._moving_points()

    @cached_property
    def states(self) -> np.ndarray:
        """States of its balances with their totals, shape (points, states)."""
        return self.trajectory.at(self.points)

    def _moving_points(self) -> np.ndarray:
        """Even points, and more where a state changes by much between two of them, also in the first decades."""
        points = np.linspace(0.0, self.trajectory.end, _ROWS)
        core = len(self.vessel._model.balances.states)
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
        """Without those of the first decades in which nothing has moved yet."""
        even = np.linspace(0.0, self.trajectory.end, _ROWS)
        early = (points > 0) & (points < even[1])
        if not early.any():
            return points
        states = self.trajectory.at(points)[:, : len(self.vessel._model.balances.states)]
        span = np.where(np.ptp(states, axis=0) > 0, np.ptp(states, axis=0), np.inf)
        still = np.max(np.abs(states - states[0]) / span, axis=1) < 1e-3
        return np.asarray(points[~(early & still)])

    def at(self, points: Any) -> Run:
        """The same run with other rows: at times in s, or volumes passed in m^3."""
        return replace(self, wanted=_wanted(self.vessel, self.trajectory.end, points))

    def evaluate(self, expressions: tuple[sp.Expr, ...]) -> list[np.ndarray]:
        """Expressions of the balances at each point, each of shape (points,)."""
        return self.trajectory.evaluate(expressions, self.points, self.states)

    def _at_end(self, expressions: tuple[sp.Expr, ...]) -> list[float]:
        return self.trajectory.at_end(expressions)

    def profile(self, metric: Metric) -> np.ndarray:
        """A metric at each point, shape (points,): as if the vessel ended there."""
        return self.evaluate((self.vessel._expression(metric),))[0]

    def metric(self, metric: Metric | str) -> float:
        """A metric at the end, in SI: by its text ("conversion of A"), or as `mo.conversion("A")` makes it."""
        asked = parse_metric(metric) if isinstance(metric, str) else metric
        if asked.is_of_a_whole_run:
            return self._safety(asked).metric(asked)
        return self._at_end((self.vessel._expression(asked),))[0]

    def _safety(self, metric: Metric) -> CoolingFailure | HotSpot:
        """What a metric of a whole run is found by."""
        return self._hot_spot if metric.what == "hot spot sensitivity" else self._cooling_failure

    @cached_property
    def _cooling_failure(self) -> CoolingFailure:
        return CoolingFailure(self)

    @cached_property
    def _hot_spot(self) -> HotSpot:
        return HotSpot(self)

    def sensitivity(self, metric: Metric | str, settings: Sequence[str]) -> dict[str, float]:
        """Exact slopes of a metric by settings of the vessel, in SI: `run.sensitivity("conversion of A", ["T"])`.

        dm/dg = (dm/dp) (dp/dg) + (dm/d(end)) (d(end)/dg) with the parameters p of the balances, from the sensitivity
        equations along a run, by the implicit function theorem at a steady state.

        Parameters
        ----------
        metric : Metric or str
        settings : sequence of str
            Names as `with_` takes them: "T", "flow", "length", "[A]", "r.k".

        Raises
        ------
        InputError
            If there is no such metric or setting.
        """
        asked = parse_metric(metric) if isinstance(metric, str) else metric
        return dict(zip(settings, self._slopes_of((asked,), settings)[0].tolist(), strict=True))

    def _slopes_of(self, metrics: Sequence[Metric], settings: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(setting), shape (metrics, settings)."""
        if any(m.is_of_a_whole_run for m in metrics):
            rows = [self._safety(m).slopes(m, settings) if m.is_of_a_whole_run else self._slopes_of((m,), settings)[0]
                    for m in metrics]  # fmt: skip
            return np.array(rows)
        by, by_setting, by_end = self._moved_by(settings)
        expressions = tuple(self.vessel._expression(m) for m in metrics)
        found = np.zeros((len(metrics), len(settings)))
        if by:
            found = found + expression_slopes(self.trajectory, expressions, by) @ by_setting
        if not self.is_steady and by_end.any():
            found = found + np.outer([end_slope(self.trajectory, e) for e in expressions], by_end)
        return found

    def _moved_by(self, settings: Sequence[str]) -> tuple[tuple[sp.Symbol, ...], np.ndarray, np.ndarray]:
        """The parameters that settings move, their slopes, shape (parameters, settings), and those of the end."""
        own = [self.vessel._setting(name).own for name in settings]
        _, by_setting, _, by_end = ParameterMap(self.vessel, tuple(settings)).with_slopes(own)
        parameters = self.vessel._model.balances.parameters
        touched = [i for i in range(len(parameters)) if by_setting[i].any()]
        return tuple(parameters[i] for i in touched), by_setting[touched], by_end

    def error_of(self, metric: Metric) -> float:
        """The error of a metric at the end that the tolerances of the integration allow, in SI.

        sum |dm/dy_i| (rtol |y_i| + atol s_i) over the states y of sizes s; zero at a steady state.
        """
        if self.is_steady or metric.is_of_a_whole_run:
            return 0.0
        case, y = self.trajectory.last, self.trajectory.end_state
        expressions = moved_expressions(case, (self.vessel._expression(metric),))
        by = compiled(case.balances).gradient(expressions, case.balances.symbols)(case.values)(y, self.trajectory.end)
        return float(np.abs(by[0]) @ (RTOL * np.abs(y) + ATOL * start(case)[1]))

    def _extreme(self, metric: Metric, sign: float) -> tuple[float, float]:
        """Where along the run a metric is highest (lowest, for a negative sign), and its value there."""
        if self.is_steady:
            return self.trajectory.end, self.metric(metric)
        return self.trajectory.most(self.vessel._expression(metric), sign)

    def _slopes_where(self, at: float, metric: Metric, settings: Sequence[str]) -> np.ndarray:
        """Exact slopes of a metric by settings at an extreme along the run, shape (settings,).

        The place of an extreme inside moves, too, but along it the metric does not change.
        """
        if at >= self.trajectory.end:
            return np.asarray(self._slopes_of((metric,), settings)[0])
        by, by_setting, _ = self._moved_by(settings)
        if not by:
            return np.zeros(len(settings))
        found = slopes_along(self.trajectory, at, (self.vessel._expression(metric),), by)[0]
        return np.asarray(found @ by_setting)

    def _constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        symbols = tuple(parameter_symbol(name) for name in names)
        if {*symbols} <= {*self.vessel._model.balances.parameters} and not metric.is_of_a_whole_run:
            return np.asarray(expression_slopes(self.trajectory, (self.vessel._expression(metric),), symbols)[0])
        settings = [self.vessel._constant_setting(name) for name in names]
        return np.array(list(self.sensitivity(metric, settings).values()))

    @cached_property
    def series(self) -> Mapping[str, np.ndarray]:
        """What is read along it, in SI, each of shape (points,): 'concentration of A', 'temperature', 'rate of r'."""
        readings = self.vessel._model.readings
        rows = self.evaluate(tuple(r.expression for r in readings.values()))
        return FrozenMapping(dict(zip(readings, rows, strict=True)))

    @property
    def concentrations(self) -> dict[str, np.ndarray]:
        """Concentration of each species in mol/m^3, shape (points,)."""
        return {s: self.series[f"concentration of {s}"] for s in self.vessel.chemistry.names}

    @property
    def has_temperature(self) -> bool:
        """Whether a temperature is known."""
        return "temperature" in self.series or np.isfinite(self._number(TEMPERATURE))

    @property
    def temperatures(self) -> np.ndarray:
        """Temperature in K, shape (points,); InputError where none is known."""
        if "temperature" in self.series:
            return np.asarray(self.series["temperature"])
        if not self.has_temperature:
            raise InputError("no temperature is given", self.vessel.label, "give T")
        return np.full(len(self.points), self._number(TEMPERATURE))

    @property
    def final(self) -> dict[str, Any]:
        """Concentration of each species at the end, as quantities."""
        species = self.vessel.chemistry.names
        ends = self._at_end(tuple(concentration(s) for s in species))
        return {s: self.display.quantity(c, "concentration") for s, c in zip(species, ends, strict=True)}

    @property
    def final_temperature(self) -> Any:
        """Temperature at the end, as a quantity."""
        return self.display.quantity(float(self.temperatures[-1]), "temperature")

    @cached_property
    def _highest_T(self) -> tuple[float, float]:
        """Where the temperature is highest, and how high it is."""
        if self.is_steady or "temperature" not in self.vessel._model.readings:
            return self.trajectory.end, float(np.max(self.temperatures))
        return self.trajectory.most(TEMPERATURE)

    @property
    def max_temperature(self) -> Any:
        """The highest temperature of the run, as a quantity."""
        return self.display.quantity(self._highest_T[1], "temperature")

    @property
    def duty_si(self) -> float:
        """Heat that came in through the walls: in W, of a batch or semi-batch in J; InputError where not known."""
        self.vessel._require_energy()
        duty = self.vessel._model.duty
        assert duty is not None
        return self._at_end((duty,))[0]

    @property
    def duty_kind(self) -> str:
        """Whether the duty is a power (what flows) or an energy (what was charged)."""
        return "power" if np.isfinite(self._number(FLOW)) else "energy"

    @property
    def duty(self) -> Any:
        """Heat that came in through the walls (negative: taken away), as a quantity.

        A power; of a batch or semi-batch the energy since the start. InputError with what the species lack where it
        cannot be worked out.
        """
        return self.display.quantity(self.duty_si, self.duty_kind)

    @property
    def heat_released(self) -> Any:
        """Heat that the reactions set free, as a quantity: a power in a steady tank or a tube, otherwise an energy.

        InputError with what the species lack where it cannot be worked out.
        """
        self.vessel._require_energy()
        if self.is_steady:
            return self.display.quantity(self._at_end((self.vessel._model.heat_generation,))[0], "power")
        return self.display.quantity(self._at_end((RELEASED,))[0], "energy" if self.is_over_time else "power")

    @property
    def time_to_maximum_rate(self) -> Any:
        """When the temperature rises fastest, as a quantity; InputError where it is prescribed."""
        if not self.vessel.is_non_isothermal or not self.is_over_time or self.is_steady:
            raise InputError(
                "the temperature is prescribed, or nothing runs over time", self.vessel.label, "heat='adiabatic'"
            )
        return self.display.quantity(self.trajectory.most(SENSIBLE)[0], "time")

    @property
    def _fluid_share(self) -> float:
        """The share of the vessel's volume that the fluid takes up."""
        catalyst = self.vessel.catalyst
        return float(catalyst.voidage.si) if catalyst is not None else 1.0

    @property
    def residence_time_si(self) -> float:
        """In s: the time that the fluid is inside, of a bed its void volume over the flow; the time of a batch."""
        return float(self._times(np.array([self.trajectory.end]), self.trajectory.end_state[None])[0])

    def _times(self, points: np.ndarray, states: np.ndarray) -> np.ndarray:
        """The time in s that the fluid has been inside at some points."""
        names = self.vessel._model.followed.symbols
        if PASSED_TIME in names and not self.is_steady:
            return np.asarray(states[:, names.index(PASSED_TIME)] * self._fluid_share)
        flow = self._number(FLOW)
        if not np.isfinite(flow):
            return points
        if self.is_over_time:
            return np.full(len(points), self.space_time_si * self._fluid_share)
        return points / flow * self._fluid_share

    @property
    def space_time_si(self) -> float:
        """In s: volume (of a bed with its solids) over volumetric flow of the feed, or the time of a batch."""
        flow = self._number(FLOW)
        if not np.isfinite(flow):
            return self.trajectory.end
        return self.volume_si / flow

    @property
    def residence_time(self) -> Any:
        """The time that what flows stays in the vessel, or the time of a batch, as a quantity."""
        return self.display.quantity(self.residence_time_si, "time")

    @property
    def space_time(self) -> Any:
        """Volume over volumetric flow of the feed, or the time of a batch, as a quantity."""
        return self.display.quantity(self.space_time_si, "time")

    @property
    def volume_si(self) -> float:
        """Volume of the vessel in m^3; nan of one that has none."""
        volume = self._number(VOLUME)
        return volume if np.isfinite(volume) else np.nan if self.is_steady else self.trajectory.end

    def _number(self, symbol: sp.Symbol) -> float:
        """A parameter of the last stage; nan where the balances have none such."""
        case = self.trajectory.last
        return case.value(symbol) if symbol in case.balances.parameters else np.nan

    @property
    def kinds(self) -> dict[str, str]:
        """The kind of quantity of each series."""
        return {name: reading.kind for name, reading in self.vessel._model.readings.items()}

    @cached_property
    def headings(self) -> dict[str, str]:
        """The short heading of each series; the long one where that of a species or of what runs along is the same."""
        species, along = {*self.vessel.chemistry.names}, {"time", "length", "volume", "residence time"}
        found = {}
        for name, reading in self.vessel._model.readings.items():
            taken = along if name == f"concentration of {reading.heading}" else species
            found[name] = name if reading.heading in taken else reading.heading
        return found

    @cached_property
    def closure(self) -> dict[str, float]:
        """How far each element (or stoichiometric invariant), mass and energy are from closing, as a share of all.

        What went in, less what went out, against what is there, at every point of a run; of a steady tank what flows
        in against what flows out. Energy counts relative to the largest of heat, warming and heat of reaction.
        """
        model, species = self.vessel._model, self.vessel.chemistry.network.species
        if self.is_steady:
            both = [model.inlet[s] for s in species] + [model.outlet[s] for s in species]
        else:
            both = [model.amounts[s].wanted for s in species] + [model.amounts[s].there for s in species]
        rows = np.array(self.trajectory.evaluate_parts(tuple(both)))
        wanted, there = rows[: len(species)], rows[len(species) :]
        found = {}
        for name, weights in self.vessel._conserved().items():
            size = np.max(np.abs(weights) @ np.maximum(np.abs(wanted), np.abs(there)))
            found[name] = float(np.max(np.abs(weights @ (there - wanted))) / size) if size else 0.0
        energy = model.steady if self.is_steady else model.energy
        if energy is not None:
            wanted, there, *sizes = self.trajectory.evaluate_parts((energy.wanted, energy.there, *energy.sizes))
            size = max(float(np.max(np.abs(row))) for row in sizes)
            rounding = ROUNDING * float(np.max(np.abs(wanted)))  # enthalpies count from a reference far away
            off = max(float(np.max(np.abs(there - wanted))) - rounding, 0.0)
            found["energy"] = off / size if size else 0.0
        return found

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The closure of its balances, the lowest amount, and at steady state what the plain balances leave."""
        balances = self.vessel._model.balances
        found, amounts = list(closure_check(self.closure)), balances.amounts
        if amounts:
            held = np.concatenate([part.states[:, amounts] for part in self.trajectory.parts])
            below = float(max(-np.min(held), 0.0) / max(np.max(np.abs(held)), 1e-300)) + 0.0  # and not -0
            found.append(Check("amounts not negative", below, RUN_OUT, "the states at all points of the run"))
        if self.is_steady and balances.states and np.isfinite(time := self.space_time_si):
            left = imbalance(self.trajectory.last, self.trajectory.end_state, time)
            found.append(Check("steady", left, RESIDUAL, "the plain balances at the state, times the space time"))
        return (*found, *self.verified)

    def thoroughly_verified(self) -> Self:
        """The same run after a second integration by another method, at a hundredth of the tolerances, that agrees.

        Raises
        ------
        SolveError
            Where it does not agree, or the other method cannot follow the run.
        """
        worst, methods = 0.0, dict[str, None]()
        for part in self.trajectory.parts:
            if not part.end > part.begin:
                continue
            if part.case.balances.extent is not None:
                again = integrate(part.case, part.points, rtol=_COARSER * max(part.settings.rtol, 1e-10)).states[-1]
                method = "collocation on fewer nodes, to a hundred times the tolerance"
            else:
                found = by_another_engine(part)
                if found is None:
                    raise SolveError("no other method could follow it", self.vessel.label, "run it without verify")
                again, method = found
            size = np.maximum(np.abs(part.states).max(axis=0), start(part.case)[1])
            worst, methods[method] = max(worst, float(np.max(np.abs(again - part.states[-1]) / size))), None
        if not methods:  # a steady state, which is checked by the plain balances
            return self
        tolerance = max(part.settings.rtol for part in self.trajectory.parts)
        check = Check("a second integration agrees", worst, max(_AGREEMENT, _LOSS * tolerance), " and ".join(methods))
        require_passed([check], self.vessel.label, "give smaller rtol and atol, and look for what depends on them")
        return replace(self, verified=(check,))

    @cached_property
    def _growth(self) -> float | None:
        """The largest growth rate of a disturbance of a steady state in 1/s; None where there is none over time."""
        if not self.vessel._has_steady_state:
            return None
        rates = growth_rates(self.trajectory.last, self.trajectory.end_state).real
        return float(np.max(rates)) if len(rates) else None

    def table(self, show: Mapping[str, str] | None = None) -> pd.DataFrame:
        """Time or position, concentrations, temperature, rates and what else there is, with units in the headings.

        Parameters
        ----------
        show : mapping of kind to unit, optional
            Units for this table, {"concentration": "kmol/m3", "temperature": "K"}; otherwise those of the vessel.

        Raises
        ------
        InputError
            For a kind that is none, or a unit of another dimension.
        """
        import pandas as pd

        display = self.vessel.with_(show={**self.vessel.show, **show})._display if show else self.display
        columns: list[tuple[str, Any]] = []
        if not self.is_steady:
            for name, kind, values in self.positions():
                columns.append((display.heading(name, kind), display.number(values, kind)))
        kinds, headings = self.kinds, self.headings
        for name, values in self.series.items():
            columns.append((display.heading(headings[name], kinds[name]), display.number(values, kinds[name])))
        return pd.DataFrame(dict(columns))

    @property
    def flows(self) -> dict[str, np.ndarray]:
        """Amount (or molar flow) of each species that is there or came out, in SI, shape (points,)."""
        names = self.vessel.chemistry.names
        return dict(zip(names, self.evaluate(tuple(self.vessel._model.outlet[s] for s in names)), strict=True))

    @property
    def fluid(self) -> Fluid:
        """What its streams are made of."""
        return self.vessel._fluid

    def inlet_amounts(self) -> dict[str, float]:
        """Amount (or molar flow) of each species that went in, up to the end."""
        names = self.vessel.chemistry.names
        return dict(zip(names, self._at_end(tuple(self.vessel._model.inlet[s] for s in names)), strict=True))

    def first_pressure(self) -> float:
        """The pressure in Pa where it begins; nan where none is known."""
        if PRESSURE not in self.trajectory.parts[0].case.balances.known:
            return np.nan
        first = self.trajectory.parts[0]
        row = self.trajectory.evaluate((PRESSURE,), first.points[:1], first.states[:1])
        return float(row[0][0])

    def stream_in(self) -> Stream:
        """What goes in, or was charged, in SI."""
        return self.vessel._stream_in(self)

    def streams_in(self) -> list[Stream]:
        """Everything that goes in: the feed (or charge), a side feed and a sweep."""
        return [self.stream_in(), *self.vessel._side_streams(self)]

    def stream_out(self) -> Stream:
        """What comes out, or is in a batch at its end, in SI."""
        return self._stream(self.vessel._model.streams[0])

    def streams_out(self) -> list[Stream]:
        """Everything that comes out: the outlet, and what goes through a membrane."""
        return [self._stream(form) for form in self.vessel._model.streams]

    def _stream(self, form: StreamForm) -> Stream:
        known = self.trajectory.last.balances.known
        amounts = self._at_end(tuple(form.amounts.values()))

        def at_end(e: sp.Expr | None) -> float:
            return self._at_end((e,))[0] if e is not None and e.free_symbols <= known else np.nan

        P = at_end(form.P)
        P = P if np.isfinite(P) or form.P is None else self.vessel._given_pressure()
        pressure = P if form.P is not None else self.vessel._given_pressure()
        return Stream(form.name, dict(zip(form.amounts, amounts, strict=True)), at_end(form.volume), at_end(form.T),
                      pressure if form.name == self.vessel._model.streams[0].name else P, form.flowing)  # fmt: skip

    @property
    def has_duty(self) -> bool:
        """Whether its species have what a balance of energy, and so its duty, takes."""
        return self.vessel._model.duty is not None

    def stream_table(self) -> pd.DataFrame:
        """What goes in and what comes out, side by side: flows, fractions, temperature, pressure and density.

        Of a batch or semi-batch what was charged (and fed), and what is in it (and came out) at the end.
        """
        came, fluid = self.streams_in(), self.vessel._fluid
        return stream_table([*came, *self.streams_out()], fluid, self.display, is_whole(fluid, came[0]))

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """(name, kind, SI values) of what runs along: time, or length, volume and residence time of a tube."""
        if self.is_over_time:
            return [("time", "time", self.points)]
        area = self.vessel._cross_section()
        along = [("length", "length", self.points / area)] if np.isfinite(area) else []
        times = self._times(self.points, self.states)
        return [*along, ("volume", "volume", self.points), ("residence time", "time", times)]

    def settling_time(self, band: float | None = None) -> Any:
        """When a tank has come to its steady state to within a band and stays there, as a quantity.

        Every amount, and the temperature, counts by its own largest distance from the steady state that it ends in:
        with band 0.02 all are within two per cent of that from then on. If left out, the band is that of the run.

        Raises
        ------
        InputError
            If this is no start-up of a tank, or the band is none.
        SolveError
            If it does not settle within this run.
        """
        times = self._settling(self.settling_band if band is None else band)
        if any(math.isinf(time) for time in times.values()):
            raise SolveError("it does not settle within this run", self.vessel.label, "run it for longer")
        return self.display.quantity(max(times.values(), default=0.0), "time")

    def settling_times(self, band: float | None = None) -> dict[str, Any]:
        """As `settling_time`, for each species and the temperature by itself; None for what does not settle."""
        times = self._settling(self.settling_band if band is None else band)
        return {n: None if math.isinf(t) else self.display.quantity(t, "time") for n, t in times.items()}

    def _settling(self, band: float) -> dict[str, float]:
        """When each state that moves has settled, in s; inf where it has not by the end."""
        if self.is_steady or not self.vessel._has_steady_state:
            raise InputError("only the run of a tank over time settles", self.vessel.label, "tank.run('6 h')")
        if not 0 < band < 1:
            raise InputError(f"band = {band!r}", self.vessel.label, "give a fraction, like 0.02")
        balances = self.vessel._model.balances
        case, n = Case(balances, self._last_values()), len(balances.states)
        rest, _ = steady(case, self.space_time_si, self.trajectory.end_state[:n])
        times: dict[str, float] = {}
        for i, state in enumerate(balances.states):
            if state.kind not in ("amount", "temperature"):
                continue
            ends = [self.trajectory.most(state.symbol, sign)[1] for sign in (1.0, -1.0)]
            far = max(abs(end - rest[i]) for end in ends)
            if far <= 1e-9 * abs(rest[i]):
                continue
            name = "temperature" if state.kind == "temperature" else str(state.name)
            if abs(self.trajectory.end_state[i] - rest[i]) > band * far:
                times[name] = math.inf
                continue
            levels = (rest[i] + band * far, rest[i] - band * far)
            passed = [at for level in levels for at in self.trajectory.crossings(state.symbol, float(level))]
            times[name] = max(passed, default=0.0)
        return times

    @property
    def _is_start_up(self) -> bool:
        """Whether it is a tank over time, of which it can be asked when it settles."""
        return not self.is_steady and self.vessel._has_steady_state

    def _last_values(self) -> tuple[float, ...]:
        """The numbers of the plain balances as they stand at the end."""
        case, end = self.trajectory.last, self.trajectory.end
        held = dict(zip(case.balances.parameters, case.values, strict=True))
        since = held.get(SINCE, 0.0)
        return tuple(
            held[p] + held.get(slope_of(p), 0.0) * (end - since) for p in self.vessel._model.balances.parameters
        )

    def out_of_range(self) -> list[str]:
        """Where a heat capacity was used outside of the range in which it holds, in words."""
        if self.vessel._model.duty is None or self.vessel._mixture_capacity is not None:
            return []
        low, high = float(np.min(self.temperatures)), max(float(np.max(self.temperatures)), self._highest_T[1])
        return beyond_validity(self.vessel.chemistry.species, low, high)

    @cached_property
    def reactants(self) -> tuple[str, ...]:
        """The species fed that some reaction consumes."""
        return self.vessel._consumed

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        found = {f"conversion of {s}": self.conversion(s) for s in self.reactants}
        species = self.vessel.chemistry.names
        ends = self._at_end(tuple(concentration(s) for s in species))
        return found | {f"concentration of {s}": c for s, c in zip(species, ends, strict=True)}

    def facts(self) -> dict[str, str]:
        """The main results, by name, with units."""
        display, flows = self.display, np.isfinite(self._number(FLOW))
        found = {}
        if not self.is_steady and flows and self.is_over_time:
            found["run for"] = display.text(self.trajectory.end, "time")
        if np.isfinite(self.residence_time_si):
            found["residence time" if flows else "time"] = display.text(self.residence_time_si, "time")
        if abs(self.space_time_si / self.residence_time_si - 1) > 1e-6:
            found["space time"] = display.text(self.space_time_si, "time")
        for name, value in self.summary().items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        readings = self.vessel._model.readings
        ends = [n for n, r in readings.items() if r.kind in ("temperature", "pressure", "volume")]
        for name, value in zip(ends, self._at_end(tuple(readings[n].expression for n in ends)), strict=True):
            found[name] = display.text(value, readings[name].kind, 5)
            if name == "temperature" and self.vessel.is_non_isothermal and not self.is_steady:
                at, highest = self._highest_T
                if 0 < at < self.trajectory.end:
                    found["highest temperature"] = display.text(highest, "temperature", 5)
        if self.vessel._model.duty is not None and self.vessel._heat_shape.mode != "adiabatic":
            found["duty" if self.duty_kind == "power" else "heat added"] = display.text(self.duty_si, self.duty_kind)
        if self._is_start_up:
            for name, time in self._settled_or_none().items():
                text = display.text(time, "time") if math.isfinite(time) else "not within this run"
                found[f"settling time of {name} ({100 * self.settling_band:g} %)"] = text
        if (doubt := self.vessel._doubtful_size) is not None:
            found["note"] = doubt.what
        found |= phase_facts(self) | self.vessel._more_facts(self)
        if beyond := self.out_of_range():
            found["heat capacity of"] = "; ".join(beyond)
        warm = self.temperatures if self.has_temperature else np.array([np.nan])
        peaks = {s: float(np.max(row)) for s, row in self.concentrations.items()}
        found |= fitted_fact(self._covariance(), (np.min(warm), np.max(warm)), peaks, display)
        if self.is_steady and self._growth is not None:
            found["stability"] = "stable" if self._growth < 0 else "unstable: left after any disturbance"
        return {**found, **checked_fact(self.checks), "solved by": str(self.report)}

    def to_dict(self) -> dict[str, Any]:
        """Plain data: sizes, conversions, concentrations, temperature, duty, closures, streams in and out."""
        more = phase_facts(self) | self.vessel._more_facts(self)
        found = {**super().to_dict(), **more, "solved_by": str(self.report)}
        if self._is_start_up:
            times = {n: entry(self.display, t, "time") for n, t in self._settled_or_none().items()}
            found["settling"] = {"band": self.settling_band, **times}
        return found

    def _settled_or_none(self) -> dict[str, float]:
        """When each quantity has settled; nothing where the steady state that it ends in cannot be found."""
        try:
            return self._settling(self.settling_band)
        except SolveError:
            return {}

    def __str__(self) -> str:
        return self.lines(str(self.vessel))
