"""The columns of a table of measurements."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.chemistry.reaction import BASES
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.fitting.experiment import NOISE, VESSELS
from molino.core.fitting.signals import Signal
from molino.core.unit_tables import SI_UNITS
from molino.desk.tables.cells import heading_parts
from molino.desk.tables.layout import CellTable, complete_lines, read_table

_TIMES = {"time": "time", "t": "time", "space time": "space time", "residence time": "space time"}


@dataclass(frozen=True)
class Column:
    """A column of numbers: its content, species and unit."""

    heading: str
    species: str
    unit: str | None
    role: str
    """'time', 'space time', 'temperature', 'initial', 'measured', 'rate', or 'signal'."""
    kind: str

    @classmethod
    def read(cls, heading: str, signals: Mapping[str, Signal]) -> Column:
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
    """The kind of rate of a unit."""
    if unit is None:
        return "rate"
    dimension = units.unit(unit).dimension
    found = next((k for k in BASES.values() if units.unit(SI_UNITS[k]).dimension == dimension), None)
    if found is None:
        raise UnitError(f"'{unit}' is not a unit of rate", "", "like mol/L/min, or mol/kg/h per catalyst mass")
    return found


@dataclass(frozen=True)
class Table:
    """A table read into columns of SI numbers, nan where a cell is empty."""

    path: Path
    columns: tuple[Column, ...]
    numbers: Mapping[str, np.ndarray]
    runs: np.ndarray | None
    """The run column, as text; None if there is none."""
    vessels: np.ndarray | None
    notes: tuple[str, ...] = ()

    def of(self, role: str) -> list[Column]:
        return [c for c in self.columns if c.role == role]

    @property
    def shown(self) -> dict[str, str]:
        """The unit of each kind of quantity."""
        found: dict[str, str] = {}
        for column in self.columns:
            if column.unit is not None and column.kind:
                found.setdefault(column.kind, column.unit)
        return found


@dataclass(frozen=True)
class Asked:
    """A request for a table: file, sheet and columns."""

    source: str | Path | pd.DataFrame
    sheet: str | None
    header_row: int | None
    columns: str | Sequence[str] | None
    signals: Mapping[str, Signal]


def read(asked: Asked, shape: str, needed: tuple[str, ...]) -> Table:
    table = read_table(asked.source, asked.sheet, shape, asked.header_row, asked.columns)
    cells, path, signals = table.cells, table.path, asked.signals
    faults = Faults()
    columns: list[Column] = []
    texts: dict[str, np.ndarray] = {}
    for heading in cells.columns:
        if heading.strip().lower() in ("run", "vessel"):
            texts[heading.strip().lower()] = cells[heading].str.strip().to_numpy(dtype=object)
            continue
        with faults.at(f"column '{heading}'"):
            columns.append(Column.read(heading, signals))
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
    table.keep(kept, "without a time")
    for line in table.cells.index[texts["run"] == ""] if "run" in texts else ():
        faults.add(f"line {line}", "no run is named", "write the run in each line")
    for line, vessel in zip(table.cells.index, texts.get("vessel", ()), strict=False):
        if vessel not in VESSELS:
            faults.add(f"line {line}", f"'{vessel}' is not a vessel for runs", nearest(str(vessel), VESSELS))
    faults.raise_any(path.name)
    return Table(path, tuple(columns), numbers, texts.get("run"), texts.get("vessel"), table.notes)


def _numbers(table: CellTable, column: Column, found: np.ndarray, size: float, faults: Faults) -> np.ndarray:
    """A column in SI, nan for empty or unreadable cells; a large negative number is a fault.

    `size` is the largest of its kind in the table, the scale of negative numbers.
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
