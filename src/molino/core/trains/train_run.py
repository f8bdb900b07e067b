"""`TrainRun`: the result of running a train."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import Check, checked_fact
from molino.core.chemistry.reaction_set import Covariance
from molino.core.contents.streams import Fluid, Stream, enthalpy, is_whole, stream_table
from molino.core.contract.data_range import fitted_fact
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.run_result import RunResult
from molino.core.display import Display
from molino.core.dual import Dual, value_of
from molino.core.results import Table, frame
from molino.core.runs.metric_of_ends import Ends, metric_of_ends
from molino.core.runs.phases_along_runs import phase_facts
from molino.core.runs.run import Run
from molino.core.runs.run_checks import ROUNDING
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_slopes import Pass, pass_slopes
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
    streams : tuple of Stream
        From the feed to the outlet.
    exchanged : mapping of name to W
        Duty of each exchanger.
    added : tuple of Stream
        All fresh feeds.
    time_per_pass : float
        The time in s of one pass; of parallel vessels the mean weighted by the split.

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
    streams: tuple[Stream, ...]
    exchanged: Mapping[str, float]
    added: tuple[Stream, ...]
    time_per_pass: float

    @property
    def residence_time_si(self) -> float:
        """The time in s of one pass."""
        return self.time_per_pass

    @property
    def checks(self) -> tuple[Check, ...]:
        """The closure of its balances, and second integrations of its vessels."""
        return (*super().checks, *(check for run in self.runs for check in run.verified))

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
        """The outlet of the last step, before the recycle is split off."""
        return self.streams[-1]

    @cached_property
    def product(self) -> dict[str, float]:
        """Molar flow of each species in the product, in mol/s."""
        share = 1 / (1 + self.vessel.recycle.si)
        return {s: n * share for s, n in self.last.amounts.items()}

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

    def completed_pass(self) -> Pass:
        """The data of the pass for derivatives."""
        train = self.vessel
        joined = self.streams[1] if train.recycle.si else self.streams[0]
        by_step = {name: step for name, (step, _) in train.spec.step_conditions.items()}
        return Pass(
            train.steps,
            self.runs,
            train.spec.fresh,
            joined,
            self.last.T,
            train.recycle.si,
            train.spec.follows_T,
            lambda z: train.spec.returned_stream(z, joined.T),
            train.spec.vessel_condition,
            by_step,
            train.spec.side_shares,
        )

    def _values(self) -> Ends:
        """The inputs of the metrics of the train."""
        last, share = self.last, 1 / (1 + self.vessel.recycle.si)
        catalyst = sum(
            float(np.nan_to_num(run.volume_si)) * float(run.vessel.spec.weights.bulk_density or 0.0)
            for run in self.runs
        )
        duty = self.duty_si if self.has_duty else np.nan
        return Ends(self.entering, self.product, last.volume * share, last.T, last.P, duty, self.volume_si, catalyst)

    def slopes(self, metrics: Sequence[Metric], settings: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(condition), shape (metrics, conditions)."""
        for name in settings:
            self.vessel.spec.condition(name)
        constants = {self.vessel.first.spec.constant_name(p.name): p.name for p in self.vessel.chemistry.numbers}
        return self.slopes_by_inputs(
            metrics, tuple(f"constant {constants[n]}" if n in constants else n for n in settings)
        )

    def constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        return np.asarray(self.slopes_by_inputs((metric,), tuple(f"constant {name}" for name in names))[0])

    def slopes_by_inputs(self, metrics: Sequence[Metric], inputs: tuple[str, ...]) -> np.ndarray:
        """Exact d(metric)/d(input), shape (metrics, inputs): through every vessel, and the recycle by z = R(z, g),
        dz/dg = (1 - R_z)^-1 R_g."""
        count = len(self.vessel.chemistry.names) + self.vessel.spec.follows_T if self.vessel.recycle.si else 0
        ends, by = pass_slopes(self.completed_pass(), inputs, count)
        wholes = [metric_of_ends(self.vessel.vessels, metric, ends) for metric in metrics]
        slopes = np.array([w.slope if isinstance(w, Dual) else np.zeros(count + len(inputs)) for w in wholes])
        if not count:
            return slopes
        returned = np.linalg.solve(np.eye(count) - by[:, :count], by[:, count:])
        return np.asarray(slopes[:, count:] + slopes[:, :count] @ returned)

    @property
    def duty_si(self) -> float:
        """Heat flow in through all walls and exchangers, in W."""
        return sum(run.duty_si for run in self.runs) + sum(self.exchanged.values())

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
        first = self.runs[0].vessel.spec.fluid
        if self.has_duty and all(np.isfinite(x.T) for x in (*self.added, self.last)):
            left = replace(self.last, amounts=self.product, volume=self.last.volume / (1 + self.vessel.recycle.si))
            out, brought = enthalpy(first, left), sum(enthalpy(first, x) for x in self.added)
            warm = abs(enthalpy(first, left) - enthalpy(first, left, self.added[0].T))
            size = max(abs(self.duty_si), warm, abs(enthalpy(first, left, self.added[0].T) - brought))
            off = max(abs(out - brought - self.duty_si) - ROUNDING * max(abs(out), abs(brought)), 0.0)
            found["energy"] = off / size if size else 0.0
        return found

    @property
    def fluid(self) -> Fluid:
        """The fluid of its streams."""
        return self.vessel.first.spec.fluid

    def streams_out(self) -> list[Stream]:
        """The outlet of the last step, in SI."""
        return [self.last]

    def stream_in(self) -> Stream:
        """The feed, in SI."""
        return self.streams[0]

    def streams_in(self) -> list[Stream]:
        """All fresh feeds, in SI."""
        return [*self.added]

    def stream_out(self) -> Stream:
        """The outlet of the last step, in SI."""
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
