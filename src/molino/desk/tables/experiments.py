"""Read runs and rates from CSV or XLSX."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.reaction import BASES
from molino.core.contract.plant import Plant
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.fitting.experiment import NOISE, VESSELS, Experiment
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rates import Rates
from molino.core.fitting.signals import Signal
from molino.core.runs.scheduled_changes import Change
from molino.core.trains.train import Train
from molino.core.units import GAS_CONSTANT
from molino.desk.tables.cells import heading_parts, sheet_names
from molino.desk.tables.layout import CellTable, complete_lines, read_table
from molino.desk.tables.observations import read_observations, shape_of

_SHAPE = (
    "the table needs the columns: run, time [min] (or space time [min] of tanks and tubes), T [degC], initial A "
    "[mol/L] (or feed A), A [mol/L] for each species A"
)
_RATES_SHAPE = "the table needs the columns: rate [mol/L/min] (or rate of A), A [mol/L] for each species A, T [degC]"
_TIMES = {"time": "time", "t": "time", "space time": "space time", "residence time": "space time"}


@dataclass(frozen=True)
class _Column:
    """A column of numbers: what it holds, of which species, in which unit."""

    heading: str
    species: str
    unit: str | None
    role: str
    """'time', 'space time', 'temperature', 'initial', 'measured', 'rate', or 'signal'."""
    kind: str

    @classmethod
    def read(cls, heading: str, signals: Mapping[str, Signal]) -> _Column:
        name, unit = heading_parts(heading)
        if not name:
            raise InputError("it has no name", "", "name it, or delete the column")
        plain = name.lower()
        if name in signals:
            return cls(heading, name, unit, "signal", "")
        role, species, kind = "measured", name, "concentration"
        if name == "T" or plain == "temperature":
            role = kind = "temperature"
        elif plain in _TIMES:
            role, kind = _TIMES[plain], "time"
        elif plain == "rate" or plain.startswith("rate of "):
            role, species, kind = "rate", name[8:].strip(), _rate_kind(unit)
        elif plain.startswith(("initial ", "feed ")):
            role, species = "initial", name.partition(" ")[2].strip()
        pressure = unit is not None and kind == "concentration" and _is_pressure(unit)
        if unit is not None:
            units.expect(unit, "pressure" if pressure else kind)
        return cls(heading, species, unit, role, "pressure" if pressure else kind)

    def to_si(self, numbers: np.ndarray) -> np.ndarray:
        if self.role == "signal":
            return numbers
        return np.asarray(units.unit(self.unit).to_si(numbers) if self.unit else numbers)


def _is_pressure(unit: str) -> bool:
    return bool(units.unit(unit).dimension == units.unit("Pa").dimension)


def _rate_kind(unit: str | None) -> str:
    """Which kind of rate a unit is of."""
    if unit is None:
        return "rate"
    dimension = units.unit(unit).dimension
    found = next((k for k in BASES.values() if units.unit(units.SI_UNITS[k]).dimension == dimension), None)
    if found is None:
        raise UnitError(f"'{unit}' is not a unit of rate", "", "like mol/L/min, or mol/kg/h per catalyst mass")
    return found


@dataclass(frozen=True)
class _Table:
    """A table read into columns of SI numbers, nan where a cell is empty."""

    path: Path
    columns: tuple[_Column, ...]
    numbers: Mapping[str, np.ndarray]
    runs: np.ndarray | None
    """The run column, as text; None if there is none."""
    vessels: np.ndarray | None
    notes: tuple[str, ...] = ()

    def of(self, role: str) -> list[_Column]:
        return [c for c in self.columns if c.role == role]

    @property
    def shown(self) -> dict[str, str]:
        """The unit that each kind of quantity came in."""
        found: dict[str, str] = {}
        for column in self.columns:
            if column.unit is not None and column.kind:
                found.setdefault(column.kind, column.unit)
        return found


@dataclass(frozen=True)
class _Asked:
    """Which table of which file, and what its columns may be."""

    source: str | Path | pd.DataFrame
    sheet: str | None
    header_row: int | None
    columns: str | Sequence[str] | None
    signals: Mapping[str, Signal]


def _read(asked: _Asked, shape: str, needed: tuple[str, ...]) -> _Table:
    table = read_table(asked.source, asked.sheet, shape, asked.header_row, asked.columns)
    cells, path, signals = table.cells, table.path, asked.signals
    faults = Faults()
    columns: list[_Column] = []
    texts: dict[str, np.ndarray] = {}
    for heading in cells.columns:
        if heading.strip().lower() in ("run", "vessel"):
            texts[heading.strip().lower()] = cells[heading].str.strip().to_numpy(dtype=object)
            continue
        with faults.at(f"column '{heading}'"):
            columns.append(_Column.read(heading, signals))
    roles = [c.role for c in columns]
    for name in sorted(signals.keys() - {c.species for c in columns if c.role == "signal"}):
        faults.add(
            "headings", f"there is no column of the signal '{name}'", nearest(name, [c.species for c in columns])
        )
    if not faults.found and roles.count(needed[0]) + sum(roles.count(r) for r in needed[1:]) != 1:
        message = (
            f"no {needed[0]} column" if not any(r in roles for r in needed) else f"more than one {needed[0]} column"
        )
        faults.add("headings", message, shape)
    if not faults.found and not any(r in ("measured", "signal") for r in roles):
        faults.add("headings", "no column of measured concentrations", shape)
    keys = [(c.role, c.species) for c in columns]
    for _, species in {k for k in keys if keys.count(k) > 1}:
        faults.add("headings", f"two columns for {species}", "keep one")
    faults.raise_any(path.name)
    read = {c.heading: table.numbers(c.heading, faults) for c in columns}
    sizes: dict[str, float] = {}  # noise of a minor species is small relative to the largest of its kind, not to itself
    for c in columns:
        sizes[c.kind] = max(sizes.get(c.kind, 0.0), float(np.nanmax(np.abs(c.to_si(read[c.heading])), initial=0.0)))
    numbers = {c.heading: _numbers(table, c, read[c.heading], sizes[c.kind], faults) for c in columns}
    kept = complete_lines(table, [c.heading for c in columns if c.role in ("time", "space time")], numbers, faults)
    numbers = {heading: values[kept] for heading, values in numbers.items()}
    texts = {name: values[kept] for name, values in texts.items()}
    table.keep(kept, "without a number of when")
    for line in table.cells.index[texts["run"] == ""] if "run" in texts else ():
        faults.add(f"line {line}", "no run is named", "write the run in each line")
    for line, vessel in zip(table.cells.index, texts.get("vessel", ()), strict=False):
        if vessel not in VESSELS:
            faults.add(f"line {line}", f"'{vessel}' is not a vessel for runs", nearest(str(vessel), VESSELS))
    faults.raise_any(path.name)
    return _Table(path, tuple(columns), numbers, texts.get("run"), texts.get("vessel"), table.notes)


@checked
def read_experiments(
    path: str | Path | pd.DataFrame,
    sheet: str | None = None,
    *,
    header_row: int | None = None,
    columns: str | Sequence[str] | None = None,
    signals: Mapping[str, Signal] | None = None,
    vessel: str | Vessel | Train | None = None,
    changes: Sequence[Change] = (),
) -> Experiments:
    """Read runs from a table: batches over time, outlets of tanks and tubes, or whatever was observed of a vessel.

    Headings carry units: `run`, `time [min]`, `T [degC]`, `initial xylose [mol/L]` (what was charged; the same all
    through a run), and one column of measured concentration for each species, `xylose [mol/L]`. Without `run` the
    whole table is one run. `time (min)` is read, too, and a row of units below the headings. An empty cell (or "-",
    "n.d.", "NA") is a value that was not measured. A heading without unit holds SI numbers. Concentrations in units of
    pressure are partial pressures of an ideal gas; those a little below zero, as noise leaves them, are used.

    Spreadsheets are read as they are: titles above the headings, blank rows and columns, merged headings, decimal
    commas, comments below. Blocks with the same headings, side by side or below each other, are runs, named after what
    stands above each. What cannot be read (a text among numbers, an error value, a formula that nobody computed) is
    left out and counted: `print(runs)` says what was read, and which cells could not be.

    Outlets have `space time [min]` (volume over volumetric flow of the feed) in place of time, and `feed xylose
    [mol/L]`; lines of one feed and temperature are one run, if no run is named.

    With a `vessel` of its own a table holds any metrics of it: `temperature [degC]`, `heat flow [W]`, `pressure [bar]`,
    `volume [L]`, `conversion of A`, `fraction of A`, `A [mol/L]`; over `time [min]`, along it (`length [m]`), or, with
    neither, at its outlet or steady state, each line under its own conditions. A column named like a condition of the
    vessel (`T [degC]`, `initial volume [L]`, `flow [L/min]`, `feed A [mol/L]`, `coolant T [degC]`) changes it, run by
    run; a coolant also over the time of a run.

    Parameters
    ----------
    path : str, Path or DataFrame
        A .csv file, separated by commas or semicolons (then with a decimal comma or point), an .xlsx file, or the
        table itself, whose lines then count from 2, as in a file with headings.
    sheet : str, optional
        Of an .xlsx file; the first that holds a table if left out; "*" for one run a sheet, named after it.
    header_row : int, optional
        The line of the headings, where several could be.
    columns : str or sequence of str, optional
        The columns of the table, "B:E" or their headings, where it does not have the sheet for itself.
    signals : mapping of column to Signal, optional
        Columns that hold what an instrument showed of a concentration, or of another metric.
    vessel : "stirred tank" or "plug flow", Vessel or Train, optional
        Where outlets were measured, if no column `vessel` says so; or the vessel that was observed.
    changes : sequence of Change, optional
        What was changed in a stirred tank on the way, in every run.

    Returns
    -------
    Experiments

    Raises
    ------
    InputError
        With every fault of the table: file, line, column, and what to do.

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> runs = mo.read_experiments(data)
    >>> len(runs), runs.species
    (6, ('xylose', 'furfural'))
    """
    if sheet == "*":
        faults = Faults()
        sets: list[tuple[str, Experiments]] = []
        for name in sheet_names(path):
            with faults.at(f"sheet '{name}'"):
                one = read_experiments(
                    path, name, header_row=header_row, columns=columns, signals=signals, vessel=vessel, changes=changes
                )
                sets.append((name, one))
        faults.raise_any()
        runs = [replace(r, name=name) if len(found) == 1 else r for name, found in sets for r in found]
        first = sets[0][1]
        notes = tuple(dict.fromkeys(n for _, found in sets for n in found.notes if not n.startswith("other sheets")))
        return Experiments(tuple(runs), first.source, first.show, (), notes)
    if isinstance(vessel, Plant):
        cells = read_table(path, sheet, shape_of(vessel), header_row, columns)
        return read_observations(cells, vessel, signals or {}, changes)
    if changes:
        raise InputError("changes are given, and no vessel that they are of", "changes", "vessel=mo.StirredTank(...)")
    table = _read(_Asked(path, sheet, header_row, columns, signals or {}), _SHAPE, ("time", "space time"))
    faults = Faults()
    runs = []
    for name, rows in _by_run(table).items():
        with faults.at():
            runs.append(_experiment(name, table, rows, signals or {}, vessel))
    faults.raise_any(table.path.name)
    signal_notes = [f"column '{name}': {signal}" for name, signal in (signals or {}).items()]
    return Experiments(tuple(runs), table.path.name, _shown(table), (), (*table.notes, *signal_notes))


@checked
def read_rates(
    path: str | Path | pd.DataFrame,
    sheet: str | None = None,
    *,
    header_row: int | None = None,
    columns: str | Sequence[str] | None = None,
) -> Rates:
    """Read measured rates: `rate [mol/L/min]`, `T [degC]`, and the concentrations they were measured at.

    `rate` is that of the one reaction; `rate of xylose` that at which a species is consumed (a reactant) or formed (a
    product). Per catalyst mass or area the unit says so: mol/kg/h, mol/m2/h. Partial pressures are read as in
    `read_experiments`. A line with an empty cell is passed over.

    Parameters
    ----------
    path : str, Path or DataFrame
    sheet : str, optional
        Of an .xlsx file.
    header_row, columns
        As for `read_experiments`.

    Returns
    -------
    Rates

    Raises
    ------
    InputError
        With every fault of the table: file, line, column, and what to do.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder) / "rates.csv"
    ...     text = "rate [mol/L/min],A [mol/L]" + "\\n0.1,0.5" + "\\n0.2,1.0\\n"
    ...     size = path.write_text(text)
    ...     rates = mo.read_rates(path)
    >>> len(rates.rate)
    2
    """
    table = _read(_Asked(path, sheet, header_row, columns, {}), _RATES_SHAPE, ("rate",))
    (rate,) = table.of("rate")
    needed = [*table.of("measured"), rate, *table.of("temperature")]
    whole = np.all([np.isfinite(table.numbers[c.heading]) for c in needed], axis=0)
    if not whole.any():
        raise InputError("no line is complete", table.path.name, _RATES_SHAPE)
    T = next((table.numbers[c.heading][whole] for c in table.of("temperature")), None)
    found = {}
    for c in table.of("measured"):
        found[c.species] = _concentration(c, table.numbers[c.heading][whole], T)
    runs = tuple(str(r) for r in table.runs[whole]) if table.runs is not None else ()
    return Rates(
        table.numbers[rate.heading][whole],
        found,
        rate.species,
        T,
        runs,
        kind=rate.kind,
        source=table.path.name,
        show=_shown(table),
    )


def _shown(table: _Table) -> dict[str, str]:
    """The units of the table; concentrations that came as partial pressures are shown in the unit of habit."""
    return {"concentration": units.HABIT["concentration"], **table.shown} if table.shown else {}


def _concentration(column: _Column, values: np.ndarray, T: np.ndarray | float | None) -> np.ndarray:
    """In mol/m^3; c = p / (R T) where it came as a partial pressure."""
    if column.kind != "pressure":
        return values
    if T is None:
        raise InputError("a partial pressure needs a temperature", column.heading, "add a column T [degC]")
    return np.asarray(values / (GAS_CONSTANT * T))


def _by_run(table: _Table) -> dict[str, np.ndarray]:
    """The lines of each run."""
    count = len(next(iter(table.numbers.values())))
    if table.runs is not None:
        return {str(name): table.runs == name for name in dict.fromkeys(table.runs)}
    if not table.of("space time"):
        return {"1": np.ones(count, dtype=bool)}
    columns = [table.numbers[c.heading] for c in (*table.of("initial"), *table.of("temperature"))]
    vessels = table.vessels if table.vessels is not None else np.full(count, "")
    keys = [(str(vessels[i]), *(float(c[i]) for c in columns)) for i in range(count)]
    return {str(n): np.array([k == key for k in keys]) for n, key in enumerate(dict.fromkeys(keys), 1)}


def _numbers(table: CellTable, column: _Column, found: np.ndarray, size: float, faults: Faults) -> np.ndarray:
    """A column in SI, nan where nothing was measured or could be read; a number far below zero is a fault.

    `size` is the largest of its kind in the table, relative to which it is far.
    """
    if column.kind in ("concentration", "pressure", "time"):
        allowed = 0.0 if column.kind == "time" else NOISE * size
        below, far = found < 0, column.to_si(found) < -allowed
        for i in np.flatnonzero(far)[:3].tolist():
            advice = "correct it, or leave the cell empty (below detection: write 0)"
            message = f"{table.cells[column.heading].iloc[i]} is a negative {column.kind}"
            faults.add(f"line {table.cells.index[i]}, column '{column.heading}'", message, advice)
        if below.any() and not far.any():
            count = int(below.sum())
            table.remarks.append(
                f"column '{column.heading}': {count} value{'s' * (count > 1)} below zero used as noise"
            )
    return column.to_si(found)


def _experiment(
    name: str, table: _Table, rows: np.ndarray, signals: Mapping[str, Signal], vessel: str | None
) -> Experiment:
    faults = Faults()
    numbers = {heading: values[rows] for heading, values in table.numbers.items()}

    def constant(column: _Column) -> float | None:
        known = numbers[column.heading][np.isfinite(numbers[column.heading])]
        if len(known) and np.ptp(known) > 1e-9 * max(abs(float(known[0])), 1.0):
            message = f"'{column.heading}' changes within the run"
            faults.add(f"run {name}", message, "a run has one temperature and one charge: split it, or name the runs")
        return float(known[0]) if len(known) else None

    T = next((constant(c) for c in table.of("temperature")), None)
    (time,) = table.of("time") or table.of("space time")
    times = numbers[time.heading]
    initial: dict[str, float] = {}
    measured: dict[str, np.ndarray] = {}
    with faults.at(f"run {name}"):
        for column in table.of("initial"):
            value = constant(column)
            if value is not None:
                initial[column.species] = float(_concentration(column, np.array(value), T))
        for column in table.of("measured"):
            if np.isfinite(numbers[column.heading]).any():
                measured[column.species] = _concentration(column, numbers[column.heading], T)
    for column in table.of("signal"):
        signal = signals[column.species]
        with faults.at(f"run {name}, column '{column.heading}'"):
            if signal.of in measured:
                raise InputError(f"{signal.of} is measured in another column, too", "", "keep one")
            charged = initial.get(signal.of)
            found = signal.concentration(numbers[column.heading], column.unit, charged, T)
            if (found < -NOISE * np.nanmax(np.abs(found))).any():
                worst = times[int(np.nanargmin(found))]
                message = f"the signal gives a negative concentration of {signal.of} at {worst:g} s"
                raise InputError(message, "", "check the calibration, or leave that cell empty")
            measured[signal.of] = np.where(np.isfinite(found), np.maximum(found, 0.0), np.nan)
    where = "batch"
    if time.role == "space time":
        message = str(table.vessels[rows][0]) if table.vessels is not None else str(vessel or "")
        if message not in VESSELS[1:]:
            advice = "add a column 'vessel' (stirred tank or plug flow), or say vessel='plug flow'"
            faults.add(f"run {name}", "a space time, but no vessel", advice)
        else:
            where = message
            order = np.argsort(times, kind="stable")
            times, measured = times[order], {s: v[order] for s, v in measured.items()}
    faults.raise_any()
    gas = any(c.kind == "pressure" for c in table.columns) or any(
        signals[c.species].reaction for c in table.of("signal")
    )
    from_charge = frozenset(signals[c.species].of for c in table.of("signal") if signals[c.species].needs_charge)
    return Experiment(name, times, measured, initial, T, where, bool(gas), from_charge=from_charge)
