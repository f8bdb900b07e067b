"""Several experiments as one set of data."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import overload

import numpy as np

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Unknown
from molino.core.chemistry.findings import Review
from molino.core.display import Display
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import OUTLET, Experiment
from molino.core.fitting.replicates import review_data
from molino.core.fitting.signals import Signal
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.units import QuantityLike, Value


@dataclass(frozen=True)
class ExcludedPoint:
    """A measurement that the user has excluded."""

    run: str
    time: float
    """In s; a position in SI for samples along a vessel."""
    response: str
    """A species (its concentration), or a metric."""
    value: float
    """In SI."""
    because: str = ""


@dataclass(frozen=True, eq=False)
class Experiments(Frozen, Printed, Sequence[Experiment]):
    """A set of runs, with the units of the data, the excluded points, and notes on signals.

    Parameters
    ----------
    runs : tuple of Experiment
    source : str
        The source of the data, for messages.
    show : mapping of kind to unit
        Units of results, {"time": "min"}.
    left_out : tuple of ExcludedPoint
    notes : tuple of str
        Notes on the conversion of signals.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> runs = mo.read_experiments(data)
    >>> len(runs), runs.species
    (6, ('xylose', 'furfural'))
    """

    runs: tuple[Experiment, ...]
    source: str = ""
    show: Mapping[str, str] = field(default_factory=dict)
    left_out: tuple[ExcludedPoint, ...] = ()
    notes: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        names = [run.name for run in self.runs]
        twice = sorted({name for name in names if names.count(name) > 1})
        if twice or not names:
            message = f"run {', '.join(twice)} appears twice" if twice else "there are no runs"
            advice = "give each run a name of its own" if twice else "give data of at least one run"
            raise InputError(message, self.source or "experiments", advice)
        for name, signal in self.signals.items():
            if any(run.signals.get(name, signal) != signal for run in self.runs):
                advice = "give one to all runs; per_run fits its unknowns in each run"
                raise InputError(f"the signal '{name}' has several calibrations", self.source or "experiments", advice)

    @overload
    def __getitem__(self, index: int) -> Experiment: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Experiment]: ...

    def __getitem__(self, index: int | slice) -> Experiment | Sequence[Experiment]:
        return self.runs[index]

    def __len__(self) -> int:
        return len(self.runs)

    def __iter__(self) -> Iterator[Experiment]:
        return iter(self.runs)

    @property
    def responses(self) -> tuple[str, ...]:
        """Everything that was observed: species (their concentrations) and metrics."""
        return tuple(dict.fromkeys(r for run in self.runs for r in run.measured))

    @property
    def species(self) -> tuple[str, ...]:
        """Every species whose concentration was measured."""
        return tuple(dict.fromkeys(r for run in self.runs for r in run.measured if run.is_species(r)))

    def kind_of(self, response: str) -> str:
        """The kind of quantity of the observations."""
        having = next((run for run in self.runs if response in run.measured), self.runs[0])
        return having.kind_of(response)

    @property
    def signals(self) -> dict[str, Signal]:
        """The calibrations of responses that are signals."""
        return {name: signal for run in self.runs for name, signal in run.signals.items()}

    @property
    def temperatures(self) -> tuple[float, ...]:
        """Of the runs, in K, where known."""
        return tuple(T for run in self.runs if (T := run.temperature) is not None)

    @property
    def highest_concentrations(self) -> dict[str, float]:
        """Of each species that was measured or charged, in mol/m^3."""
        found = dict[str, float]()
        for run in self.runs:
            seen = {
                r: float(np.nanmax(v)) for r, v in run.measured.items() if r in self.species and np.isfinite(v).any()
            }
            for species, c in (*seen.items(), *run.charge.items()):
                found[species] = max(found.get(species, 0.0), c)
        return found

    def require_simple(self, what: str) -> None:
        """Raise InputError if a run has a given vessel, for functions that need isothermal runs."""
        own = [run.name for run in self.runs if not run.is_simple]
        if own:
            message = f"{what} needs isothermal runs, and run {', '.join(own)} has a given vessel"
            raise InputError(message, self.source or "experiments", "fit it on its balances: mo.fit(chemistry, runs)")

    @property
    def display(self) -> Display:
        """The units of the data; those of a given vessel if the data are plain numbers."""
        vessels = [run.vessel for run in self.runs if not run.is_simple]
        show = self.show or {kind: unit for run in reversed(self.runs) for kind, unit in run.show.items()}
        if vessels and not show:
            return vessels[0].spec.display  # type: ignore[no-any-return]
        return Display(show, unitless=not show)

    @property
    def is_by_pressure(self) -> bool:
        """Whether the data are partial pressures, which results then show."""
        return "pressure" in self.show and all(run.gas and run.is_simple and run.T is not None for run in self.runs)

    def only(self, *names: str) -> Experiments:
        """Some of the runs, by name; InputError offers the nearest."""
        known = {r.name: r for r in self.runs}
        faults = Faults()
        for name in names:
            if name not in known:
                faults.add(self.source or "experiments", f"unknown run '{name}'", nearest(name, known))
        faults.raise_any()
        kept = tuple(gone for gone in self.left_out if gone.run in names)
        return replace(self, runs=tuple(known[name] for name in names), left_out=kept)

    def without(self, run: str, time: QuantityLike, response: str, because: str = "") -> Experiments:
        """Exclude one measurement; it remains listed in `left_out`.

        Parameters
        ----------
        run : str
        time : str, float or quantity
            Time of the sample; its position for samples along a vessel.
        response : str
            The species, or the metric.
        because : str, optional
            The reason, for reports.

        Raises
        ------
        InputError
            For an unknown measurement.
        """
        faults = Faults()
        where = f"leave out {run}, {time}, {response}"
        found = {r.name: r for r in self.runs}.get(run)
        if found is None:
            raise InputError(f"unknown run '{run}'", where, nearest(run, (r.name for r in self.runs)))
        at = units.read(time, found.axis_kind, where).si
        if response not in found.measured:
            faults.add(where, f"'{response}' was not measured in {run}", nearest(response, found.measured))
            faults.raise_any()
        values = found.with_limits(response)
        there = np.isfinite(values)
        sample = int(np.argmin(np.abs(found.times - at) + np.where(there, 0.0, 1e-9 * max(at, 1.0))))
        if abs(found.times[sample] - at) > 1e-6 * max(at, 1.0) or not there[sample]:
            nearest_at = self.display.text(found.times[sample], found.axis_kind)
            message = f"there is no sample at that time; the nearest is at {nearest_at}"
            raise InputError(message, where, f"give the {found.axis} of a sample")
        gone = ExcludedPoint(run, float(found.times[sample]), response, float(values[sample]), because)
        changed = found.without_sample(response, sample)
        runs = tuple(changed if r is found else r for r in self.runs)
        return replace(self, runs=runs, left_out=(*self.left_out, gone))

    def with_offsets(self, responses: Sequence[str]) -> Experiments:
        """The same with a common offset of some responses as an unknown."""
        faults, signals = Faults(), {}
        for response in responses:
            if response not in self.responses:
                faults.add("", f"'{response}' was not measured", nearest(response, self.responses))
            elif response in self.signals:
                faults.add("", f"'{response}' is a signal", "give it blank=mo.Unknown(0)")
            else:
                unit = self.display.difference_unit(self.kind_of(response)) or None
                signals[response] = Signal(response, blank=Unknown(Value(0.0, unit)))
        faults.raise_any()
        if not signals:
            return self
        runs = tuple(
            replace(run, signals={**run.signals, **{r: s for r, s in signals.items() if r in run.measured}})
            for run in self.runs
        )
        return replace(self, runs=runs)

    def place(self, run: str, time: float) -> str:
        """The place of a sample, in words: '30 min', 'length 2 m', 'at the outlet'."""
        found = next((r for r in self.runs if r.name == run), None)
        if found is None or found.along == "time" or found.is_simple:
            return self.display.text(time, "time")
        if found.along == OUTLET:
            return "at the outlet"
        return f"{found.axis} {self.display.text(time, found.axis_kind)}"

    def __str__(self) -> str:
        display = self.display
        lines = [f"{len(self)} run{'s' if len(self) != 1 else ''}" + (f" from {self.source}" if self.source else "")]
        for run in self.runs:
            count = sum(int(run.observed(s).sum()) for s in run.measured)
            limited = sum(int((run.limits(s) != 0).sum()) for s in run.measured)
            measured = f"{count} value{'s' * (count != 1)} of {', '.join(run.measured)}"
            measured += f" and {limited} limit{'s' * (limited > 1)}" if limited else ""
            if not run.is_simple:
                to = f" to {self.place(run.name, run.times[-1])}" if run.along != OUTLET else " at the outlet"
                lines.append(f"  {run.name}, {run.vessel.title}: {measured}{to}")
                continue
            at = f" at {display.text(run.T, 'temperature')}" if run.T is not None else ""
            at = at if run.vessel == "batch" else f", {run.vessel}{at}"
            charged = ", ".join(f"{s} {display.text(c, 'concentration')}" for s, c in run.charge.items() if c > 0)
            lines.append(f"  {run.name}{at}: {charged}; {measured} to {display.text(run.times[-1], 'time')}")
        lines += [f"  {note}" for note in self.notes]
        lines += [f"  left out: {self.describe(gone)}" for gone in self.left_out]
        return "\n".join(lines)

    def check(self, chemistry: Chemistry | None = None) -> Review:
        """Findings on the data before a fit; see `replicates.review_data`."""
        kinds = {response: self.kind_of(response) for response in self.responses}
        return review_data(self.runs, kinds, self.display, chemistry)

    def describe(self, point: ExcludedPoint) -> str:
        """A measurement in words."""
        value = self.display.text(point.value, self.kind_of(point.response))
        text = f"run {point.run}, {self.place(point.run, point.time)}, {point.response} {value}"
        return f"{text}: {point.because}" if point.because else text


def as_experiments(data: Experiments | Experiment | Sequence[Experiment | Experiments]) -> Experiments:
    """One set of runs from a set, a run, or several of either; the units of results are those of the first set."""
    if isinstance(data, Experiments):
        return data
    if isinstance(data, Experiment):
        return Experiments((data,))
    runs: list[Experiment] = []
    if isinstance(data, str) or not all(isinstance(item, Experiment | Experiments) for item in data):
        raise InputError(f"{data!r} are not experiments", "data", "read them first: mo.read_experiments('runs.csv')")
    sets = [item if isinstance(item, Experiments) else Experiments((item,)) for item in data]
    for item in sets:
        runs += item.runs
    source = ", ".join(s.source for s in sets if s.source)
    show = {kind: unit for s in reversed(sets) for kind, unit in s.show.items()}
    left_out = tuple(gone for s in sets for gone in s.left_out)
    return Experiments(tuple(runs), source, show, left_out, tuple(note for s in sets for note in s.notes))
