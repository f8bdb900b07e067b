"""One experiment: a vessel with its samples."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.contract.metric import Metric
from molino.core.contract.plant import Plant
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.responses import metric_of, response_of
from molino.core.fitting.signals import Signal
from molino.core.frozen import Frozen, settle
from molino.core.runs.scheduled_changes import Change
from molino.core.schema import ReadField, several_forms
from molino.core.trains.train import Train
from molino.core.unit_tables import SI_UNITS

VESSELS = ("batch", "stirred tank", "plug flow")
"""The vessels of a run that is given by its charge or feed and its temperature."""
OUTLET = "outlet"
"""The axis of a single observation: at the outlet, or at steady state."""
CONCENTRATION = "concentration"
COMPOSITIONS = ("conversion", "yield", "selectivity", "fraction", "mass fraction")
"""Metrics of the composition, which can be observed where only the kind of the vessel is known."""
NOISE = 0.05
"""Largest negative concentration that is noise, relative to the largest; it is used as measured."""


def axes_of(vessel: Vessel | Train) -> dict[str, str]:
    """The axes of observations of a vessel, with the kinds of quantity: time, or its sizes."""
    if not isinstance(vessel, Vessel) or not vessel.spec.is_kinetic:
        return {}
    sizes = dict(vessel.spec.sizes)
    return sizes if "time" in sizes or not vessel.spec.has_steady_state else {"time": "time", **sizes}


def condition_kinds(vessel: Vessel | Train) -> dict[str, str]:
    """The conditions of a vessel that `with_` takes, with their kinds of quantity."""
    if not isinstance(vessel, Vessel):
        named = {f"{v.name}.{n}": s.kind for v in vessel.vessels if v.name for n, s in v.spec.conditions.items()}
        return {**named, "recycle": "number"}
    return {name: setting.kind for name, setting in vessel.spec.conditions.items()}


@dataclass(frozen=True, eq=False)
class Experiment(Frozen):
    """One run: a vessel, with its observations.

    Without a given vessel it is isothermal, with a charge (or feed) and a temperature: a batch over time, or the outlet
    of a tank or tube at steady state over the space time.

    Parameters
    ----------
    name : str
    times : array of s, shape (samples,), not decreasing; or quantities; or None
        Times since the start, or space times (volume over volumetric flow of the feed) of an outlet, or the sizes named
        by `along`. Samples at the same time are replicates. None for observations at the outlet or at steady state.
    measured : mapping of species or metric to array, shape (samples,); nan where nothing was measured
        Numbers in SI (of a species: mol/m^3), or quantities with units. With a given vessel any metric of a run can be
        observed: "A" (its concentration), "conversion of A", "temperature", "heat flow", "pressure", "volume",
        "fraction of A in permeate".
    initial : mapping of species to concentration, in mol/m^3 or with units
        The charge or feed. In a batch a species that is measured at time zero and not named here starts from that
        measurement (the mean of several), which is then not an observation; one neither named nor measured starts from
        zero.
    T : temperature, optional
        A bare number is in K.
    vessel : str, Vessel or Train
        "batch", "stirred tank" or "plug flow"; or a vessel with its contents, temperature and heat. Its chemistry is
        replaced by the one that is fitted.
    gas : bool
        Whether it held an ideal gas, whose flow along a tube changes with the moles; that of a liquid is constant.
    along : str, optional
        With a given vessel, the axis of `times`: "time" (a batch, or a tank from its contents at t = 0), or a size:
        "length", "volume", "space_time" (samples along a tube; tanks of several sizes). By default the first that the
        vessel has.
    changes : sequence of Change
        Changes of a stirred tank during the run, as for `StirredTank.run`.
    from_charge : frozenset of str
        Species whose concentrations were computed from a signal and the charge.
    below, above : mapping of species or metric to array, shape (samples,)
        Limits where the value itself was not measured but is below (a limit of detection) or above: in SI, or with
        units; nan elsewhere, and nan in `measured` there.
    deviations : mapping of species or metric to array, shape (samples,)
        Standard deviations of the values, in SI or with units; nan where unknown.
    signals : mapping of response to Signal
        The responses in `measured` that are signals of instruments, with their calibrations.
    show : mapping of kind to unit, optional
        Units of results; by default those of quantities that are given with one.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> run.times.tolist(), run.charge
    ([60.0, 120.0, 240.0, 480.0], {'A': 1000.0})
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), diameter="20 mm", length="3 m")
    >>> run = mo.Experiment("2", ["1 m", "2 m"], {"conversion of A": [0.06, 0.12]}, vessel=tube)
    >>> run.along, run.responses
    ('length', ('conversion of A',))
    """

    name: str
    times: np.ndarray
    measured: Mapping[str, np.ndarray]
    initial: ByName = field(default_factory=dict)
    T: ReadField = several_forms()
    vessel: ReadField = several_forms("batch")
    gas: bool = False
    along: str = ""
    changes: Sequence[Change] = ()
    from_charge: frozenset[str] = frozenset()
    below: Mapping[str, np.ndarray] = field(default_factory=dict)
    above: Mapping[str, np.ndarray] = field(default_factory=dict)
    deviations: Mapping[str, np.ndarray] = field(default_factory=dict)
    signals: Mapping[str, Signal] = field(default_factory=dict)
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        given_units = self._given_units() if not self.show else {}
        if self.is_simple and self.vessel not in VESSELS:
            faults.add("vessel", f"'{self.vessel}' is not a vessel for runs", nearest(self.vessel, VESSELS))
        elif not isinstance(self.vessel, str | Plant):
            faults.add("vessel", f"{self.vessel!r} is not a vessel", f"give a vessel, or one of {', '.join(VESSELS)}")
        faults.raise_any(f"run {self.name}")
        with faults.at():
            self._settle_axis()
        settle(self, changes=tuple(self.changes))
        initial = {}
        for species, value in self.initial.items():
            with faults.at(f"initial {species}"):
                initial[species] = units.read(value, "concentration").si
        settle(self, initial=initial)
        with faults.at("T"):
            settle(self, T=None if self.T is None else units.positive(self.T, "temperature", "T").si)
        if not faults.found:
            measured = {}
            for given, values in self.measured.items():
                with faults.at(str(given)):
                    response = response_of(given)
                    measured[response] = units.read_numbers(values, self.kind_of(response))
            settle(self, measured=measured)
            self._settle_extra(faults)
            self._check_times(faults)
        if not faults.found:
            self._check_values(faults)
        if self.gas and self.T is None:
            faults.add("T", "a run with a gas has no temperature", "add a column T [degC]")
        if not self.is_simple:
            self._check_vessel(faults)
        faults.raise_any(f"run {self.name}")
        settle(self, show=self.show or {kind: unit for kind, unit in given_units.items() if unit is not None})

    def _given_units(self) -> dict[str, str | None]:
        """The units of quantities that are given with one, by kind."""
        found: dict[str, str | None] = {}
        with contextlib.suppress(InputError):  # reported where they are read
            if self.is_simple or self.along in ("", "time"):
                found["time"] = units.unit_of(self.times)
            found["temperature"] = units.unit_of(self.T)
            for response, values in self.measured.items():
                kind = self.kind_of(response_of(response))
                found[kind] = found.get(kind) or units.unit_of(values)
            for value in self.initial.values():
                found["concentration"] = found.get("concentration") or units.unit_of(value)
        return found

    def _settle_extra(self, faults: Faults) -> None:
        """The limits and standard deviations of the measured values."""
        for name in ("below", "above", "deviations"):
            found = {}
            for given, values in getattr(self, name).items():
                with faults.at(f"{name}, {given}"):
                    found[response_of(given)] = self._extra(name, response_of(given), values)
            settle(self, **{name: found})

    def _extra(self, name: str, response: str, values: object) -> np.ndarray:
        """Limits or standard deviations of one response."""
        if response not in self.measured:
            raise InputError("it was not measured", "", nearest(response, self.measured))
        kind, own = self.kind_of(response), self.measured[response]
        is_difference = name == "deviations" and kind == "temperature"
        found = units.read_numbers(values, "temperature difference" if is_difference else kind)
        if found.shape != own.shape:
            raise InputError(f"{len(found)} values for {len(own)} samples", "", "give one for each, nan where none is")
        if name == "deviations" and (found <= 0).any():
            raise InputError("a standard deviation must be above zero", "", "give nan if it is unknown")
        if name != "deviations" and (np.isfinite(found) & np.isfinite(own)).any():
            raise InputError("a sample has a value and a limit", "", "give nan in `measured` there")
        return found

    def _settle_axis(self) -> None:
        """The axis of the samples."""
        if self.is_simple:
            settle(self, along="time" if self.vessel == "batch" else "space_time")
        elif self.times is None:
            settle(self, along=OUTLET)
        elif self.along not in (axes := list(axes_of(self.vessel))):
            if self.along or not axes:
                message = f"{units.article(self.vessel.noun)} is not observed along '{self.along or 'time'}'"
                raise InputError(message, "along", nearest(self.along, axes, "leave the times out"))
            own = [n for n in axes if n == "time" or getattr(self.vessel, n) is not None]
            settle(self, along=(own or axes)[0])
        if self.times is None:
            count = max((np.size(v) for v in self.measured.values()), default=1)
            settle(self, times=np.zeros(count))
        settle(self, times=units.read_numbers(self.times, self.axis_kind, self.along))

    def _check_times(self, faults: Faults) -> None:
        times, axis = self.times, self.along.replace("_", " ")
        if times.ndim != 1 or not len(times) or not np.isfinite(times).all() or times[0] < 0:
            faults.add(axis, f"a {axis} must be a number, not negative", f"check the {axis} column")
        elif (np.diff(times) < 0).any():
            row = int(np.argmax(np.diff(times) < 0)) + 1
            unit = SI_UNITS[self.axis_kind]
            message = f"{axis} goes back at sample {row + 1} ({times[row]:g} {unit} after {times[row - 1]:g} {unit})"
            faults.add(axis, message, "put the samples in order, or give each run a name")
        elif self.is_simple and self.vessel != "batch" and times[0] == 0:
            faults.add(
                "space time", "a space time of zero is not a run", "delete the line: the feed is given by itself"
            )

    def _check_values(self, faults: Faults) -> None:
        largest = self.largest  # noise is relative to it, not to the concentration of a minor species
        for response, values in self.measured.items():
            kind = self.kind_of(response)
            if values.shape != self.times.shape:
                message = f"{len(values)} values for {len(self.times)} times"
                faults.add(response, message, "give one for each, nan if missing")
            elif response in self.signals:
                continue
            elif (
                kind in ("concentration", "pressure", "volume", "temperature")
                and (values < -(NOISE * largest if kind == CONCENTRATION else 0.0)).any()
            ):
                row = int(np.nanargmin(values))
                message = f"negative {kind} {values[row]:g} {SI_UNITS[kind]} at sample {row + 1}"
                faults.add(response, message, "correct it, or leave the cell empty")
            elif self.is_simple and kind != "concentration" and metric_of(response).what not in COMPOSITIONS:
                advice = "give the vessel itself: vessel=mo.Batch(...)"
                faults.add(response, "it is not a concentration, and only the kind of the vessel is known", advice)
        for species, value in self.initial.items():
            if not value >= 0:
                faults.add(f"initial {species}", f"negative concentration {value:g} mol/m^3", "check the sign")

    def _check_vessel(self, faults: Faults) -> None:
        for one in self.vessel.vessels:
            with faults.at("vessel"):
                one.spec.require_no_history()
        if self.initial or self.T is not None or self.gas:
            faults.add("vessel", "the vessel has its own contents and temperature", "leave initial, T and gas out")
        if self.changes and (self.along != "time" or not self.vessel.vessels[0].spec.has_steady_state):
            faults.add("changes", "only a stirred tank over time can have changes", "leave them out")

    def metric_of(self, response: str) -> Metric | None:
        """The metric that was observed; None for a signal."""
        signal = self.signals.get(response)
        return metric_of(response) if signal is None or signal.of == response else None

    def is_species(self, response: str) -> bool:
        """Whether an observation is the concentration of a species."""
        metric = self.metric_of(response)
        return metric is not None and metric.what == CONCENTRATION

    def kind_of(self, response: str) -> str:
        """The kind of quantity of an observation."""
        return self.signals[response].kind if response in self.signals else metric_of(response).kind

    @property
    def is_simple(self) -> bool:
        """Whether it has no given vessel: isothermal, with a charge and a temperature."""
        return isinstance(self.vessel, str)

    @property
    def axis_kind(self) -> str:
        """The kind of quantity of `times`."""
        if self.along in ("time", OUTLET) or self.is_simple:
            return "time"
        return str(self.vessel.spec.sizes[self.along])

    @property
    def responses(self) -> tuple[str, ...]:
        """The observed responses: species (their concentrations) and metrics."""
        return tuple(self.measured)

    @property
    def temperature(self) -> float | None:
        """Its temperature in K: the given one, or the mean of those measured."""
        seen = self.measured.get("temperature", np.array([np.nan]))
        if np.isfinite(seen).any():
            return float(np.nanmean(seen))
        if self.is_simple:
            return None if self.T is None else float(self.T)
        first = self.vessel.vessels[0]
        return float(first.spec.first_T.si) if first.spec.first_T is not None else None

    @property
    def charge(self) -> dict[str, float]:
        """Concentrations at the start (or of the feed) in mol/m^3: given, or measured at time zero."""
        return dict(self._charge)

    @cached_property
    def _charge(self) -> dict[str, float]:
        if not self.is_simple:
            return {}
        first = self.times == 0
        seen = {
            s: float(np.mean(v[first & np.isfinite(v)]))
            for s, v in self.measured.items()
            if self.is_species(s) and np.isfinite(v[first]).any()
        }
        return {**seen, **self.initial}

    @property
    def largest(self) -> float:
        """The largest concentration that was measured or charged, in mol/m^3."""
        rows = [v for r, v in self.measured.items() if self.is_species(r)]
        measured = (float(np.nanmax(np.abs(row), initial=0.0)) for row in rows)
        return max([*measured, *self.initial.values()], default=0.0)

    @property
    def measured_starts(self) -> tuple[str, ...]:
        """The species whose concentration at time zero was measured, and not stated as charged."""
        if not self.is_simple or self.along != "time":
            return ()
        return tuple(s for s in self.charge if s not in self.initial and s not in self.from_charge)

    def with_measured_zeros(self) -> Experiment:
        """The same run with a charge of zero for species that a sample at time zero does not show."""
        absent = {s: 0.0 for s in self.measured_starts if self.charge[s] <= 0}
        return replace(self, initial={**self.initial, **absent}) if absent else self

    def without_sample(self, response: str, sample: int) -> Experiment:
        """The same without the value, or the limit, of one sample."""
        changed: PlainData = {}
        for name in ("measured", "below", "above"):
            own = getattr(self, name)
            if response in own:
                values = own[response].copy()
                values[sample] = np.nan
                changed[name] = {**own, response: values}
        return replace(self, **changed)

    def planned(self, name: str, times: np.ndarray, initial: Mapping[str, float]) -> Experiment:
        """The same run with another charge at other times, not yet measured."""
        nothing: dict[str, np.ndarray] = {}
        return replace(
            self, name=name, times=times, measured=nothing, initial=initial, below=nothing, above=nothing,
            deviations=nothing,
        )  # fmt: skip

    def observed(self, response: str) -> np.ndarray:
        """Whether each sample of a species or metric is an observation, shape (samples,), bool."""
        counts = np.isfinite(self.measured[response])
        defines = self.is_simple and response not in self.initial and self.metric_of(response) is not None
        return np.asarray(counts & (self.times > 0) if defines else counts)

    def limits(self, response: str) -> np.ndarray:
        """The side of each sample's limit: -1 if the value is below, 1 if it is above, 0 without; shape (samples,)."""
        found = np.zeros(len(self.times), dtype=int)
        for side, limits in ((-1, self.below), (1, self.above)):
            if response in limits:
                found[np.isfinite(limits[response])] = side
        is_from_start = not self.is_simple or self.along != "time" or self.metric_of(response) is None
        return found if is_from_start else np.where(self.times > 0, found, 0)

    def with_limits(self, response: str) -> np.ndarray:
        """The values, and the limits where there is one; shape (samples,)."""
        found = self.measured[response].copy()
        for limits in (self.below, self.above):
            if response in limits:
                found = np.where(np.isfinite(limits[response]), limits[response], found)
        return found

    @property
    def condition(self) -> tuple[object, ...]:
        """The key of replicates of a run: vessel, temperature and charge (as given, not as measured)."""
        if not self.is_simple:
            return (id(self.vessel), self.along)
        return (self.vessel, self.gas, self.T, tuple(sorted(self.initial.items()) or sorted(self.charge.items())))

    @property
    def axis(self) -> str:
        """The axis of the samples, in words."""
        return self.along.replace("_", " ")
