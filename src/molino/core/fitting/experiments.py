"""Measured concentrations: what was in it, how hot it was, what was found and when."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from molino.core import units
from molino.core.chemistry.checks import Review
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.replicates import review_data
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.units import Display

VESSELS = ("batch", "stirred tank", "plug flow")
"""Where a run can be made."""


@dataclass(frozen=True, eq=False)
class Experiment(Frozen):
    """One run: a batch followed over time, or the outlet of a tank or tube at steady state over the space time.

    Attributes
    ----------
    name : str
    times : array of s, shape (samples,), not falling
        Since the start of a batch, or space times (volume over volumetric flow of the feed). Samples at the same time
        are replicates.
    measured : mapping of species to array of mol/m^3, shape (samples,); nan where nothing was measured
    initial : mapping of species to mol/m^3
        What was charged, or is fed. In a batch a species measured at time zero and not named here starts from that
        measurement (the mean, if there are several), which then does not count as an observation; one neither named nor
        measured starts from zero.
    T : float, optional
        Temperature in K.
    vessel : str
        "batch", "stirred tank" or "plug flow".
    gas : bool
        Whether it held an ideal gas, whose flow changes along a tube with the moles; that of a liquid stays.

    Examples
    --------
    >>> import molino as mo
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> run.times.tolist(), run.charge
    ([60.0, 120.0, 240.0, 480.0], {'A': 1000.0})
    """

    name: str
    times: np.ndarray
    measured: Mapping[str, np.ndarray]
    initial: Mapping[str, float] = field(default_factory=dict)
    T: float | None = None
    vessel: str = "batch"
    gas: bool = False

    def __post_init__(self) -> None:
        faults = Faults()
        if self.vessel not in VESSELS:
            faults.add("vessel", f"'{self.vessel}' is not a vessel for runs", nearest(self.vessel, VESSELS))
        times = np.asarray(self.times, dtype=float)
        settle(self, times=times)
        if times.ndim != 1 or not len(times) or not np.isfinite(times).all() or times[0] < 0:
            faults.add("time", "times must be numbers from zero up", "check the time column")
        elif (np.diff(times) < 0).any():
            row = int(np.argmax(np.diff(times) < 0)) + 1
            message = f"time goes back at sample {row + 1} ({times[row]:g} s after {times[row - 1]:g} s)"
            faults.add("time", message, "put the samples in order, or give each run a name")
        elif self.vessel != "batch" and times[0] == 0:
            faults.add("space time", "a space time of zero is no run", "delete the line; what is fed is the feed")
        measured = {species: np.asarray(values, dtype=float) for species, values in self.measured.items()}
        settle(self, measured=measured)
        for species, values in measured.items():
            if values.shape != times.shape:
                faults.add(species, f"{len(values)} values for {len(times)} times", "give one for each, nan if missing")
            elif (values < 0).any():
                row = int(np.argmax(values < 0))
                message = f"negative concentration {values[row]:g} mol/m^3 at sample {row + 1}"
                faults.add(species, message, "correct it, or leave the cell empty")
        for species, value in self.initial.items():
            if not value >= 0:
                faults.add(f"initial {species}", f"negative concentration {value:g} mol/m^3", "check the sign")
        if self.T is not None and not self.T > 0:
            faults.add("T", f"{self.T:g} K is not a temperature", "check the unit")
        if self.gas and self.T is None:
            faults.add("T", "a run with a gas has no temperature", "add a column T [degC]")
        faults.raise_any(f"run {self.name}")

    @property
    def charge(self) -> dict[str, float]:
        """Concentrations at the start (or of the feed) in mol/m^3: given, or else measured at time zero."""
        first = self.times == 0
        seen = {
            s: float(np.mean(v[first & np.isfinite(v)]))
            for s, v in self.measured.items()
            if np.isfinite(v[first]).any()
        }
        return {**seen, **self.initial}

    def observed(self, species: str) -> np.ndarray:
        """Which samples of a species count as observations, shape (samples,), bool."""
        counts = np.isfinite(self.measured[species])
        return np.asarray(counts if species in self.initial else counts & (self.times > 0))

    @property
    def condition(self) -> tuple[Any, ...]:
        """What replicates of a run share: vessel, temperature and charge (as given, not as measured)."""
        return (self.vessel, self.gas, self.T, tuple(sorted(self.initial.items()) or sorted(self.charge.items())))

    @property
    def time_word(self) -> str:
        return "time" if self.vessel == "batch" else "space time"


@dataclass(frozen=True)
class ExcludedPoint:
    """A measurement that was left out because the user asked for it."""

    run: str
    time: float
    species: str
    value: float
    """In mol/m^3."""


@dataclass(frozen=True, eq=False)
class Experiments(Frozen, Printed, Sequence[Experiment]):
    """A set of runs, with the units in which they came, what was left out of them, and what was made of signals.

    Examples
    --------
    >>> import molino as mo
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
            message = f"run {', '.join(twice)} is there twice" if twice else "there are no runs"
            raise InputError(message, self.source or "experiments", "give each run a name of its own" if twice else "")

    def __getitem__(self, index: Any) -> Any:
        return self.runs[index]

    def __len__(self) -> int:
        return len(self.runs)

    def __iter__(self) -> Iterator[Experiment]:
        return iter(self.runs)

    @property
    def species(self) -> tuple[str, ...]:
        """Every species that was measured."""
        return tuple(dict.fromkeys(s for run in self.runs for s in run.measured))

    @property
    def kind(self) -> str:
        """What was measured."""
        return "concentration"

    @property
    def temperatures(self) -> tuple[float, ...]:
        """Of the runs, in K, where known."""
        return tuple(run.T for run in self.runs if run.T is not None)

    @property
    def display(self) -> Display:
        """The units in which the data came."""
        return Display(self.show, unitless=not self.show)

    def only(self, *names: str) -> Experiments:
        """Some of the runs, by name; InputError offers the nearest."""
        known = {r.name: r for r in self.runs}
        faults = Faults()
        for name in names:
            if name not in known:
                faults.add(self.source or "experiments", f"there is no run '{name}'", nearest(name, known))
        faults.raise_any()
        kept = tuple(gone for gone in self.left_out if gone.run in names)
        return replace(self, runs=tuple(known[name] for name in names), left_out=kept)

    def without(self, run: str, time: Any, species: str) -> Experiments:
        """Leave one measurement out; it stays listed in `left_out`.

        Parameters
        ----------
        run, species : str
        time : str, float or quantity
            Of the sample.

        Raises
        ------
        InputError
            If there is no such measurement.
        """
        faults = Faults()
        where = f"leave out {run}, {time}, {species}"
        at = units.read(time, "time", where).si
        found = {r.name: r for r in self.runs}.get(run)
        if found is None:
            raise InputError(f"there is no run '{run}'", where, nearest(run, (r.name for r in self.runs)))
        if species not in found.measured:
            faults.add(where, f"'{species}' was not measured in {run}", nearest(species, found.measured))
            faults.raise_any()
        there = np.isfinite(found.measured[species])
        sample = int(np.argmin(np.abs(found.times - at) + np.where(there, 0.0, 1e-9 * max(at, 1.0))))
        if abs(found.times[sample] - at) > 1e-6 * max(at, 1.0) or not np.isfinite(found.measured[species][sample]):
            message = (
                f"nothing was measured then; the nearest sample is at {self.display.text(found.times[sample], 'time')}"
            )
            raise InputError(message, where, "give the time of a sample")
        values = found.measured[species].copy()
        gone = ExcludedPoint(run, float(found.times[sample]), species, float(values[sample]))
        values[sample] = np.nan
        changed = replace(found, measured={**found.measured, species: values})
        runs = tuple(changed if r is found else r for r in self.runs)
        return replace(self, runs=runs, left_out=(*self.left_out, gone))

    def __str__(self) -> str:
        display = self.display
        lines = [f"{len(self)} run{'s' if len(self) != 1 else ''}" + (f" from {self.source}" if self.source else "")]
        for run in self.runs:
            count = sum(int(run.observed(s).sum()) for s in run.measured)
            at = f" at {display.text(run.T, 'temperature')}" if run.T is not None else ""
            at = at if run.vessel == "batch" else f", {run.vessel}{at}"
            charged = ", ".join(f"{s} {display.text(c, 'concentration')}" for s, c in run.charge.items() if c > 0)
            measured = ", ".join(run.measured)
            lines.append(
                f"  {run.name}{at}: {charged}; {count} values of {measured} to {display.text(run.times[-1], 'time')}"
            )
        lines += [f"  {note}" for note in self.notes]
        lines += [f"  left out: {self.describe(gone)}" for gone in self.left_out]
        return "\n".join(lines)

    def check(self, chemistry: Chemistry | None = None) -> Review:
        """What there is to report of the data before a fit; see `replicates.review_data`."""
        return review_data(self, chemistry)

    def describe(self, point: ExcludedPoint) -> str:
        """A measurement in words."""
        value = self.display.text(point.value, "concentration")
        return f"run {point.run}, {self.display.text(point.time, 'time')}, {point.species} {value}"


def as_experiments(data: Experiments | Experiment | Sequence[Experiment | Experiments]) -> Experiments:
    """One set of runs from a set, a run, or several of either; the units shown are those of the first set."""
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
