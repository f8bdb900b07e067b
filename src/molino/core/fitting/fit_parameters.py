"""The parameters of a fit, and their places in the runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeAlias

import numpy as np

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import INLET
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Parameter, Unknown
from molino.core.contract.condition import Condition
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment, condition_kinds
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.model import DELAY, LAG
from molino.core.fitting.samples import RunPlaces
from molino.core.frozen import Frozen
from molino.core.trains.train import Train
from molino.core.units import QuantityLike

FitInitial: TypeAlias = str | Sequence[str] | Mapping[str, str | Sequence[str]] | None
"""Species whose initial concentrations are fitted: in every run, or by run."""


@dataclass(frozen=True, eq=False)
class FitParameterMap(Frozen):
    """The map from the parameters of a fit to the balances of each run."""

    free: tuple[Parameter, ...]
    runs: tuple[Experiment, ...]
    """With the guesses of unknown initial concentrations as the charge."""
    places: Mapping[str, RunPlaces]
    guesses: ByName = field(default_factory=dict)
    """Of fitted conditions of vessels, by name."""

    def places_of(self, run: Experiment, chemistry: Chemistry) -> RunPlaces:
        """The places of the parameters in a run; in a planned one, those that are common to all runs."""
        if run.name in self.places:
            return self.places[run.name]
        shared = {p.name: i for i, p in enumerate(self.free)}
        return replace(_chemistry_places(chemistry, shared), signals=shared)


def names(given: str | Sequence[str]) -> tuple[str, ...]:
    """One name, or several."""
    return (given,) if isinstance(given, str) else tuple(given)


def _chemistry_places(chemistry: Chemistry, index: Mapping[str, int]) -> RunPlaces:
    """The places of numbers of the chemistry, by name: constants as symbols, enthalpies as conditions of a vessel."""
    symbols = {p.symbol: index[p.name] for p in chemistry.parameters if p.name in index}
    return RunPlaces(symbols, {p.name: index[p.name] for p in chemistry.enthalpies if p.name in index})


class ParameterSearch:
    """Every fitted parameter, and its places in each run."""

    def __init__(self, chemistry: Chemistry, data: Experiments, per_run: tuple[str, ...], faults: Faults) -> None:
        self.chemistry, self.data, self.per_run, self.faults = chemistry, data, per_run, faults
        self.free: list[Parameter] = []
        self.places = {run.name: RunPlaces({}, {}) for run in data}
        self.runs = list(data)

    def map(self, fit_initial: FitInitial, unknowns: ByName, delay: QuantityLike) -> FitParameterMap:
        seek = {p.name for p in self.chemistry.unknowns}
        calibrated = self._unknowns_of_signals()
        for name in sorted({*self.per_run} - seek - unknowns.keys() - calibrated.keys()):
            hint = nearest(name, [*seek, *unknowns, *calibrated])
            self.faults.add("per_run", f"'{name}' is not an unknown constant", hint)
        for name in sorted(seek & unknowns.keys()):
            self.faults.add("unknowns", f"'{name}' is an unknown of the chemistry already", "leave it out here")
        for p in self.chemistry.unknowns:
            if p.name not in self.per_run:
                self._add(p, self.runs)
        for p in self.chemistry.unknowns:
            for run in self.runs if p.name in self.per_run else ():
                self._add(p, [run])
        for name, (signal, p) in calibrated.items():
            having = [run for run in self.runs if signal in run.measured]
            for several in [[run] for run in having] if name in self.per_run else [having]:
                for run in several:
                    own = self.places[run.name]
                    self.places[run.name] = replace(own, signals={**own.signals, name: len(self.free)})
                self.free.append(replace(p, name=f"{name}, {several[0].name}") if name in self.per_run else p)
        self._starts(fit_initial)
        guesses = {}
        for name in [n for n in unknowns if n not in seek]:
            with self.faults.at(f"unknowns, {name}"):
                guesses[name] = self._setting(name, unknowns[name])
        if delay is not False and delay is not None:
            with self.faults.at("delay"):
                self._delay(delay)
        return FitParameterMap(tuple(self.free), tuple(self.runs), self.places, guesses)

    def _add(self, p: Parameter, runs: Sequence[Experiment]) -> None:
        """A number of the chemistry, for some runs."""
        single = p.name in self.per_run
        place = _chemistry_places(self.chemistry, {p.name: len(self.free)})
        for run in runs:
            own = self.places[run.name]
            self.places[run.name] = replace(
                own, symbols={**own.symbols, **place.symbols}, settings={**own.settings, **place.settings}
            )
        self.free.append(replace(p, name=f"{p.name}, {runs[0].name}") if single else p)

    def _unknowns_of_signals(self) -> dict[str, tuple[str, Parameter]]:
        """The unknown numbers of signals by name, each with the signal and the parameter.

        A slope has the sign of its guess, a delay is positive; a blank and the constants of a formula are free.
        """
        found = {}
        for name, signal in self.data.signals.items():
            entries = {**signal.entries, LAG: signal.delay}
            for part, given in ((part, given) for part, given in entries.items() if isinstance(given, Unknown)):
                guess = given.guess.si
                is_signed = part == LAG or part.startswith("slope")
                ends = ((0.0, np.inf) if guess >= 0 else (-np.inf, 0.0)) if is_signed else (-np.inf, np.inf)
                p = Parameter.of_unknown(f"{name} {part}", given, *ends)
                if guess == 0:
                    p = replace(p, size=self._typical(name) if part != LAG else self._first_time())
                found[p.name] = name, p
        return found

    def _typical(self, response: str) -> float:
        """The largest value of a response."""
        rows = [run.measured[response] for run in self.data if response in run.measured]
        return max((float(np.nanmax(np.abs(row))) for row in rows if np.isfinite(row).any()), default=0.0) or 1.0

    def _first_time(self) -> float:
        """The first time of a sample after the start."""
        runs = [run for run in self.data if run.along == "time" and (run.times > 0).any()]
        return min((float(run.times[run.times > 0].min()) for run in runs), default=1.0)

    def _starts(self, fit_initial: FitInitial) -> None:
        """Concentrations at the start, or of the feed."""
        if fit_initial is None:
            self.runs = [run.with_measured_zeros() for run in self.runs]
            fit_initial = {run.name: run.measured_starts for run in self.runs}
        if not isinstance(fit_initial, Mapping):
            fit_initial = {run.name: fit_initial for run in self.runs}
        fit_initial = {name: names(species) for name, species in fit_initial.items()}
        for name in fit_initial.keys() - self.places.keys():
            self.faults.add("fit_initial", f"unknown run '{name}'", nearest(name, self.places))
        for n, run in enumerate(self.runs):
            for species in fit_initial.get(run.name, ()):
                with self.faults.at("fit_initial"):
                    self.runs[n] = self._start(self.runs[n], species)

    def _start(self, run: Experiment, species: str) -> Experiment:
        names = self.chemistry.names
        if species not in names:
            raise InputError(f"'{species}' is not a species of the chemistry", "", nearest(species, names))
        if species in run.from_charge:
            message = f"run {run.name}: concentrations of {species} were computed from its charge"
            raise InputError(message, "", "observe the metric itself on a vessel: 'conversion of A', 'pressure'")
        word = "start" if run.along == "time" else "feed"
        name, unit = f"{word} {species}, {run.name}", self.data.display.unit("concentration") or None
        own = self.places[run.name]
        if not run.is_simple:
            guess = _vessel(run).spec.condition(f"[{species}]").own
            self.places[run.name] = replace(own, settings={**own.settings, f"[{species}]": len(self.free)})
            self.free.append(Parameter(name, guess, unit, True, 0.0, np.inf, guess or 1.0))
            return run
        seen = run.measured.get(species, np.array([np.nan]))
        first = seen[np.isfinite(seen)][:1]
        guess = run.charge.get(species) or (float(first[0]) if len(first) else 0.0)
        typical = float(max([*run.charge.values(), guess])) or max(one.largest for one in self.runs) or 1.0
        self.places[run.name] = replace(own, symbols={**own.symbols, INLET(species): len(self.free)})
        self.free.append(Parameter(name, guess, unit, True, 0.0, np.inf, typical))
        return replace(run, initial={**run.initial, species: guess})

    def _setting(self, name: str, given: object) -> object:
        """A condition of the vessels; returns its guess."""
        unknown = given if isinstance(given, Unknown) else Unknown(given)
        kinds = {run.name: condition_kinds(run.vessel) for run in self.runs if not run.is_simple}
        having = [run for run in self.runs if name in kinds.get(run.name, ())]
        if not having:
            known = sorted({n for own in kinds.values() for n in own})
            message = f"no run has a vessel with '{name}'" if kinds else "no run has a given vessel"
            raise InputError(message, "", nearest(name, known, "give the runs their vessels: vessel=mo.Batch(...)"))
        setting = _setting_of(having[0].vessel, name)
        lower = setting.read(unknown.lower)[0] if unknown.lower is not None else 0.0
        upper = setting.read(unknown.upper)[0] if unknown.upper is not None else np.inf
        value, _ = setting.read(unknown.guess)
        for several in [[run] for run in having] if name in self.per_run else [having]:
            for run in several:
                own = self.places[run.name]
                self.places[run.name] = replace(own, settings={**own.settings, name: len(self.free)})
            label = f"{name}, {several[0].name}" if name in self.per_run else name
            size, deviation = abs(value) or 1.0, unknown.deviation
            self.free.append(Parameter(label, value, unknown.unit, True, lower, upper, size, deviation=deviation))
        return unknown.guess

    def _delay(self, delay: QuantityLike) -> None:
        """The delay of samples."""
        runs = [run for run in self.runs if run.along == "time"]
        if not runs:
            raise InputError("no run is over time", "", "outlets at steady state have no delay")
        first = self._first_time()
        guess = 0.0 if delay is True else units.read(delay, "time", "delay").si
        for run in runs:
            self.places[run.name] = replace(self.places[run.name], delay=len(self.free))
        unit = self.data.display.unit("time") or None
        self.free.append(Parameter(DELAY, guess, unit, True, -0.999 * first, np.inf, first))


def _vessel(run: Experiment) -> Vessel:
    """The vessel with the feed or charge of a run."""
    return run.vessel.vessels[0]  # type: ignore[no-any-return]


def _setting_of(vessel: Vessel | Train, name: str) -> Condition:
    if not isinstance(vessel, Vessel):
        if name == "recycle":
            raise InputError("a recycle ratio cannot be fitted", "", "give it as a number")
        owner, own = vessel.spec.vessel_condition(name)
        return owner.spec.condition(own)
    return vessel.spec.condition(name)
