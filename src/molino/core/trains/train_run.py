"""`TrainRun`: the result of running a train."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import CLOSURE_LIMIT, Check, checked_fact
from molino.core.chemistry.reaction_set import Covariance
from molino.core.contents.stream_properties import enthalpy
from molino.core.contents.streams import Fluid, Stream, is_whole, stream_table
from molino.core.contract.data_range import fitted_fact
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.run_result import RunResult
from molino.core.display import Display
from molino.core.dual import Dual, Number, value_of
from molino.core.errors import InputError, nearest
from molino.core.frozen import FrozenMapping
from molino.core.results import Table, frame
from molino.core.runs.metric_of_ends import Ends, metric_of_ends
from molino.core.runs.phases_along_runs import phase_facts
from molino.core.runs.run import Run
from molino.core.runs.run_checks import ROUNDING
from molino.core.trains.network import Unit, unused
from molino.core.trains.torn import Torn
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_pass import CONSTANT, TrainPass
from molino.core.trains.train_step import Passed, TrainStep
from molino.core.units import Value


@dataclass(frozen=True, eq=False)
class TrainRun(RunResult):
    """The result of running a train.

    Streams and metrics are those of the whole train; `runs` has the run of each vessel.

    Attributes
    ----------
    vessel : Train
    runs : tuple of Run
        Of each vessel in order.
    by_name : mapping of name to Stream
    units : tuple of (unit, its outlets, duty and work)
    steps : int
        The steps in which its loops were closed.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> run = mo.Train([tank, tank]).run()
    >>> [round(one.stream_out().amounts["A"] * 60, 4) for one in run.runs]
    [0.5, 0.25]
    """

    vessel: TrainFields
    runs: tuple[Run, ...]
    by_name: Mapping[str, Stream]
    units: tuple[tuple[Unit, Passed], ...]
    steps: int = 0

    @cached_property
    def streams(self) -> tuple[Stream, ...]:
        """All streams, in the order of the steps."""
        return tuple(self.by_name[name] for name in self.vessel.spec.network.streams)

    def stream(self, name: str) -> Stream:
        """A stream by its name; InputError for an unknown one."""
        if name not in self.by_name:
            raise InputError(f"unknown stream '{name}'", self.vessel.label, nearest(name, self.by_name))
        return self.by_name[name]

    @cached_property
    def exchanged(self) -> Mapping[str, float]:
        """Duty of each exchanger, condenser and drum in W."""
        return self._of_steps("duty")

    @cached_property
    def works(self) -> Mapping[str, float]:
        """Work of each compressor and pump in W."""
        return self._of_steps("work")

    def _of_steps(self, what: str) -> Mapping[str, float]:
        found = dict[str, float]()
        for unit, passed in self.units:
            value = float(value_of(getattr(passed, what)))
            if isinstance(unit.step, TrainStep) and not unit.step.vessels_in_it and value:
                found[unused(unit.label, found)] = value
        return FrozenMapping(found)

    @property
    def residence_time_si(self) -> float:
        """The time in s in all vessels; of parallel ones the mean weighted by the split."""
        times = [float(np.nan_to_num(run.residence_time_si)) for run in self.runs]
        passed = 0.0
        for unit, _ in self.units:
            count = len(unit.step.vessels_in_it) if isinstance(unit.step, TrainStep) else 1
            own = range(unit.first, unit.first + count)
            flows = [sum(self.runs[n].stream_in().amounts.values()) for n in own]
            passed += sum(times[n] * flow for n, flow in zip(own, flows, strict=True)) / sum(flows) if flows else 0.0
        return passed

    @property
    def checks(self) -> tuple[Check, ...]:
        """The closure of its balances, of the whole and of each step, and second integrations of its vessels."""
        method = "species and enthalpy in minus out, of each step that is not a vessel"
        steps = self.step_closures
        each = (Check("balances of each step closed", max(steps.values()), CLOSURE_LIMIT, method),) if steps else ()
        return (*super().checks, *each, *(check for run in self.runs for check in run.verified))

    def thoroughly_verified(self) -> Self:
        """The same with every run of a vessel verified; raises as `Run.thoroughly_verified`."""
        return replace(self, runs=tuple(run.thoroughly_verified() for run in self.runs))

    @property
    def is_steady(self) -> bool:
        """Always true: a train is steady."""
        return True

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    @property
    def covariance(self) -> Covariance | None:
        return self.vessel.chemistry.covariance

    @property
    def last(self) -> Stream:
        """The main product."""
        return self.products[0]

    @cached_property
    def products(self) -> tuple[Stream, ...]:
        """The streams that leave, the main one first: the end of the line, or else the first that is given."""
        return tuple(self.by_name[name] for name in self.vessel.spec.network.products)

    @cached_property
    def product(self) -> dict[str, float]:
        """Molar flow of each species in all products, in mol/s."""
        return {s: sum(x.amounts[s] for x in self.products) for s in self.vessel.chemistry.names}

    @property
    def added(self) -> tuple[Stream, ...]:
        """All fresh feeds."""
        return self.vessel.spec.fresh_streams

    @cached_property
    def entering(self) -> dict[str, float]:
        """Molar flow of each species in all fresh feeds, in mol/s."""
        return {s: sum(x.amounts.get(s, 0.0) for x in self.added) for s in self.vessel.chemistry.names}

    def metric(self, metric: Metric | str) -> float:
        """A metric over the whole train, in SI."""
        asked = read_metric(metric)
        values = self._values()
        return float(value_of(metric_of_ends(self.vessel.vessels, asked, values)))

    def extreme(self, metric: Metric, sign: float) -> tuple[float, float]:
        """The highest (for a negative sign the lowest) value of a metric anywhere in its vessels."""
        found = [one.extreme(metric, sign)[1] for one in self.runs]
        return np.nan, max(found, key=lambda value: sign * value)

    def _values(self) -> Ends:
        """The inputs of the metrics of the train."""
        catalyst = sum(
            float(np.nan_to_num(run.volume_si)) * float(run.vessel.spec.weights.bulk_density or 0.0)
            for run in self.runs
        )
        duty = self.duty_si if self.has_duty else np.nan
        return self._ends(self.by_name, self.added, duty, self.volume_si, catalyst)

    def _ends(
        self, streams: Mapping[str, Stream], added: Sequence[Stream], duty: Number, volume: Number, catalyst: Number
    ) -> Ends:
        names, main = self.vessel.chemistry.names, streams[self.vessel.spec.network.products[0]]
        entering = {s: sum((x.amounts[s] for x in added), 0.0) for s in names}
        leaving = {s: sum((streams[x].amounts[s] for x in self.vessel.spec.network.products), 0.0) for s in names}
        ends = (main.amounts, main.volume, main.T, main.P)
        return Ends(entering, leaving, *ends, duty, volume, catalyst, streams)

    def slopes(self, metrics: Sequence[Metric], settings: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(condition), shape (metrics, conditions)."""
        for name in settings:
            self.vessel.spec.condition(name)
        constants = {self.vessel.first.spec.constant_name(p.name): p.name for p in self.vessel.chemistry.numbers}
        return self.slopes_by_inputs(
            metrics, tuple(f"{CONSTANT}{constants[n]}" if n in constants else n for n in settings)
        )

    def constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        return np.asarray(self.slopes_by_inputs((metric,), tuple(f"{CONSTANT}{name}" for name in names))[0])

    def slopes_by_inputs(self, metrics: Sequence[Metric], inputs: tuple[str, ...]) -> np.ndarray:
        """Exact d(metric)/d(input), shape (metrics, inputs): through every vessel, and the recycle by z = R(z, g),
        dz/dg = (1 - R_z)^-1 R_g."""
        torn = Torn(self.vessel)
        going = TrainPass(self.vessel, inputs, torn.count, self.runs)
        names = torn.names
        given = torn.seeded(torn.values(self.by_name), self.by_name, going.size) if names else {}
        done = going.through_all(given)
        fed = [going.fresh, *(going.side(step) for step in self.vessel.spec.side_feeds)]
        ends = self._ends(done.streams, fed, done.duty, done.volume, done.catalyst)
        wholes = [metric_of_ends(self.vessel.vessels, metric, ends) for metric in metrics]
        slopes = np.array([w.slope if isinstance(w, Dual) else np.zeros(going.size) for w in wholes])
        if not names:
            return slopes
        by = torn.slopes(done.streams, going.size)
        returned = np.linalg.solve(np.eye(torn.count) - by[:, : torn.count], by[:, torn.count :])
        return np.asarray(slopes[:, torn.count :] + slopes[:, : torn.count] @ returned)

    @property
    def duty_si(self) -> float:
        """Heat flow in through all walls and exchangers, in W."""
        return sum(run.duty_si for run in self.runs) + sum(self.exchanged.values())

    @property
    def work_si(self) -> float:
        """Work of all compressors and pumps, in W."""
        return sum(self.works.values())

    @property
    def duty(self) -> Value:
        """Heat flow in through all walls and exchangers, as a quantity."""
        return self.display.quantity(self.duty_si, "power")

    @property
    def volume_si(self) -> float:
        """Volume of all vessels in m^3."""
        return sum(float(np.nan_to_num(run.volume_si)) for run in self.runs)

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """A train as a whole has no axis."""
        return []

    @cached_property
    def closure(self) -> dict[str, float]:
        """The imbalance of each element (or stoichiometric invariant), mass and energy over the whole train."""
        names = self.vessel.chemistry.names
        came, went = (np.array([side[s] for s in names]) for side in (self.entering, self.product))
        found = {}
        for name, weights in self.runs[0].vessel.spec.conserved().items():
            size = float(np.abs(weights) @ np.maximum(came, went))
            found[name] = float(abs(weights @ (went - came))) / size if size else 0.0
        if self.has_duty and all(np.isfinite(x.T) for x in (*self.added, *self.products) if x.total > 0):
            found["energy"] = self._energy_closure(self.added, self.products, self.duty_si, self._work_as_heat)
        return found

    @cached_property
    def step_closures(self) -> dict[str, float]:
        """The largest imbalance of a species, or of energy, of each step without vessels."""
        found = dict[str, float]()
        for unit, passed in self.units:
            if isinstance(unit.step, TrainStep) and not unit.step.vessels_in_it:
                inlets, outlets = [self.by_name[s] for s in unit.inlets], passed.streams
                totals = [
                    (sum(x.amounts[s] for x in inlets), sum(x.amounts[s] for x in outlets)) for s in self.entering
                ]
                size = max((one for one, _ in totals), default=0.0) or 1.0
                worst = max(abs(one - other) / size for one, other in totals)
                if self.has_duty and all(np.isfinite(x.T) for x in (*inlets, *outlets) if x.total > 0):
                    heat = float(passed.duty), float(passed.work - passed.to_pressure)
                    worst = max(worst, self._energy_closure(inlets, outlets, *heat, warming=1.0))
                found[unused(unit.label, found)] = worst
        return found

    @property
    def _work_as_heat(self) -> float:
        """The work that is in the enthalpies of the streams."""
        return sum(float(value_of(passed.work - passed.to_pressure)) for _, passed in self.units)

    def _energy_closure(
        self, entering: Sequence[Stream], leaving: Sequence[Stream], duty: float, work: float, warming: float = 0.0
    ) -> float:
        """The imbalance of energy, in units of the heat that flows; at least of that which warms the outlets by some
        K, for a step through which none may flow."""
        at = TrainPass(self.vessel)

        def whole(streams: Sequence[Stream], T: float | None = None) -> float:
            return sum(float(enthalpy(at.fluid_of(x), x, T)) for x in streams if x.total > 0)

        out, brought, first = whole(leaving), whole(entering), entering[0].T
        cold = whole(leaving, first)
        least = abs(whole(leaving, first + warming) - cold)
        size = max(abs(duty), abs(work), abs(out - cold), abs(cold - brought), least)
        off = max(abs(out - brought - duty - work) - ROUNDING * max(abs(out), abs(brought)), 0.0)
        return off / size if size else 0.0

    @property
    def fluid(self) -> Fluid:
        """The fluid of its streams."""
        return self.vessel.first.spec.fluid

    def streams_out(self) -> list[Stream]:
        """The products, in SI; the main one first."""
        return [*self.products]

    def inner_streams(self) -> list[Stream]:
        """The streams between its units, if it has loops or several products."""
        network = self.vessel.spec.network
        return [*self.streams] if network.torn or len(network.products) > 1 else []

    def stream_in(self) -> Stream:
        """The feed, in SI."""
        return self.streams[0]

    def streams_in(self) -> list[Stream]:
        """All fresh feeds, in SI."""
        return [*self.added]

    def stream_out(self) -> Stream:
        """The main product, in SI."""
        return self.last

    @property
    def has_duty(self) -> bool:
        """Whether the duty of every vessel of the train can be computed."""
        return all(run.vessel.spec.key.has_energy for run in self.runs)

    @property
    def duty_kind(self) -> str:
        return "power"

    def stream_table(self) -> Table:
        """The stream table; see `streams.stream_table`."""
        fluid = self.vessel.first.spec.fluid
        return stream_table(self.streams, fluid, self.display, is_whole(fluid, self.streams[0]))

    def table(self) -> Table:
        """One row per vessel: volume, temperature and conversions over the train up to there."""
        rows = []
        display = self.display
        for run in self.runs:
            row: PlainData = {"vessel": run.vessel.label}
            row[display.heading("volume", "volume")] = display.number(run.volume_si, "volume")
            out = run.stream_out()
            if np.isfinite(out.T):
                row[display.heading("temperature", "temperature")] = display.number(out.T, "temperature")
            row |= {
                display.heading(f"molar flow of {s}", "molar flow"): display.number(n, "molar flow")
                for s, n in out.amounts.items()
            }
            rows.append(row)
        return frame(rows)

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        consumed = {i for column in self.vessel.chemistry.network.stoichiometry for i, moles in column if moles < 0}
        names = self.vessel.chemistry.names
        reactants = [s for i, s in enumerate(names) if i in consumed and self.entering[s] > 0]
        found = {f"conversion of {s}": self.conversion(s) for s in reactants}
        if not self.last.volume > 0:
            return found
        return found | {f"concentration of {s}": n / self.last.volume for s, n in self.last.amounts.items()}

    def facts(self) -> dict[str, str]:
        """The main results, by name, with units."""
        display, found = self.display, dict[str, str]()
        if self.volume_si > 0:
            found["volume"] = display.text(self.volume_si, "volume")
            found["residence time"] = display.text(self.residence_time_si, "time")
        for name, value in self.summary().items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        for name, kind, value in (("temperature", "temperature", self.last.T), ("pressure", "pressure", self.last.P)):
            if np.isfinite(value):
                found[name] = display.text(value, kind, 5)
        for name, duty in self.exchanged.items():
            found[f"duty of {name}"] = display.text(duty, "power")
        for name, work in self.works.items():
            found[f"work of {name}"] = display.text(work, "power")
        if self.has_duty:
            found["duty"] = display.text(self.duty_si, "power")
        found |= self._phases()
        warm = [
            T for run in self.runs if run.has_temperature for T in (np.min(run.temperatures), np.max(run.temperatures))
        ]
        highest = dict[str, float]()
        for run in self.runs:
            highest |= {s: max(highest.get(s, 0.0), float(np.max(row))) for s, row in run.concentrations.items()}
        found |= fitted_fact(self.covariance, warm, highest, display)
        found |= checked_fact(self.checks)
        return found

    def _phases(self) -> dict[str, str]:
        """A statement in which of its vessels a second phase appears."""
        found, asked = dict[str, str](), dict[str, str]()
        for run in self.runs:
            for word, text in phase_facts(run).items():
                asked[word] = "in none of its vessels"
                if not text.startswith("none"):
                    found[f"{word} in {run.vessel.label}"] = text
        words = {name.partition(" in ")[0] for name in found}
        return {word: text for word, text in asked.items() if word not in words} | found

    def to_dict(self) -> PlainData:
        """Plain data, as of a `Run`."""
        return super().to_dict() | self._phases()

    def __str__(self) -> str:
        return self.lines(str(self.vessel))
