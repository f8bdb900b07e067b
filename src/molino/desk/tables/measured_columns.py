"""Tables of measurements of runs and rates: the meaning of their columns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.reaction import BASES
from molino.core.contract.metrics import parse_metric
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.fitting.experiment import COMPOSITIONS, NOISE, VESSELS
from molino.core.fitting.signals import Signal
from molino.core.unit_tables import SI_UNITS
from molino.desk.tables.cell_table import CellTable, TableOptions, complete_lines
from molino.desk.tables.columns import Column, decide_columns, melted, merge_columns, read_columns, run_names, take_rows
from molino.desk.tables.headings import Heading
from molino.desk.tables.layout import read_table
from molino.desk.tables.number_format import ColumnNumbers

_TIMES = {"time": "time", "clock time": "time", "space time": "space time", "residence time": "space time"}


@dataclass(frozen=True)
class Asked:
    """A request for a table: its source, the place and meaning of its columns, and its chemistry, if it is known."""

    source: str | Path | pd.DataFrame
    options: TableOptions = field(default_factory=TableOptions)
    signals: Mapping[str, Signal] = field(default_factory=dict)
    response: str | None = None
    detection_limits: Mapping[str, Any] = field(default_factory=dict)
    chemistry: Chemistry | None = None


@dataclass(frozen=True)
class Table:
    """A table read into columns of SI numbers, nan where a cell is empty."""

    path: Path
    columns: tuple[Column, ...]
    numbers: Mapping[str, ColumnNumbers]
    runs: np.ndarray | None
    """The run of each row, as text; None if there is no such column."""
    vessels: np.ndarray | None
    notes: tuple[str, ...] = ()

    def of(self, role: str) -> list[Column]:
        return [c for c in self.columns if c.role == role]

    def values(self, column: Column) -> np.ndarray:
        return self.numbers[column.label].values

    @property
    def shown(self) -> dict[str, str]:
        """The unit of each kind of quantity."""
        found: dict[str, str] = {}
        for column in self.columns:
            if column.unit is not None and column.kind and column.molar_mass == 1.0:
                found.setdefault(column.kind, column.unit)
        return found


def read(asked: Asked, shape: str, needed: tuple[str, ...]) -> Table:
    """The table of a request; one of the needed roles must be that of one column."""
    table = read_table(asked.source, shape, asked.options)
    if asked.response is not None:
        table = melted(table, asked.response, tuple(_TIMES))
    faults = Faults()
    columns = decide_columns(table, lambda heading: _meaning(heading, asked), asked.options.units, faults)
    columns = _initial(columns, asked.chemistry)
    roles = [c.role for c in columns]
    for name in sorted(asked.signals.keys() - {c.what for c in columns if c.role == "signal"}):
        faults.add("headings", f"there is no column of the signal '{name}'", nearest(name, [c.what for c in columns]))
    if not faults.found and not any(r in roles for r in needed):
        faults.add("headings", f"no {needed[0]} column", shape)
    if not faults.found and not any(r in ("measured", "signal") for r in roles):
        faults.add("headings", "no column of measured concentrations", shape)
    faults.raise_any(table.path.name)
    texts = {c.role: c.label for c in columns if c.role in ("run", "vessel")}
    runs = run_names(table, texts.get("run"), faults)
    numbers = read_columns(table, columns, runs, asked.detection_limits, faults)
    faults.raise_any(table.path.name)
    columns, numbers, lines = merge_columns(table, columns, numbers, faults)
    count = sum(c.role in needed for c in columns)
    if count > 1:
        faults.add("headings", f"more than one {needed[0]} column", shape)
    sizes: dict[str, float] = {}  # noise of a minor species is small relative to the largest of its kind, not to itself
    for c in (c for c in columns if c.label in numbers):
        largest = float(np.nanmax(np.abs(numbers[c.label].values), initial=0.0))
        sizes[c.kind] = max(sizes.get(c.kind, 0.0), largest)
    for c in (c for c in columns if c.label in numbers and c.role != "deviation"):
        _check_sign(table, c, numbers[c.label].values, lines, sizes[c.kind], faults)
    axes = [c.label for c in columns if c.role in ("time", "space time")]
    kept = complete_lines(table, axes, {c: n.values for c, n in numbers.items()}, lines, faults)
    table.note_left_out(lines[~kept], "without a time")
    vessels = table.cells[texts["vessel"]].str.strip().to_numpy(dtype=object) if "vessel" in texts else None
    if vessels is not None:
        for line, vessel in zip(table.cells.index, vessels, strict=True):
            if vessel not in VESSELS and line in table.cells.index[lines[kept]]:
                faults.add(f"line {line}", f"'{vessel}' is not a vessel for runs", nearest(str(vessel), VESSELS))
    faults.raise_any(table.path.name)
    rows = lines[kept]
    return Table(
        table.path,
        tuple(columns),
        take_rows(numbers, kept),
        None if runs is None else runs[rows],
        None if vessels is None else vessels[rows],
        table.notes,
    )


def _meaning(heading: Heading, asked: Asked) -> Column:
    """The column of a heading in a table of runs or rates."""
    name, unit = heading.name, heading.unit
    if not name:
        raise InputError("it has no name", "", "name it, or delete the column")
    plain = name.lower()
    signal = next((s for s in (heading.text, name) if s in asked.signals), None)
    if signal is not None:
        return Column("", "signal", signal, "", unit)
    if plain in ("run", "vessel"):
        return Column("", plain, "", "", None)
    if name == "T" or plain == "temperature":
        return _expected("temperature", "", "temperature", unit)
    if plain in _TIMES:
        return _expected(_TIMES[plain], "", "time", unit)
    if plain == "rate" or plain.startswith("rate of "):
        return Column("", "rate", _species(name[8:].strip(), asked.chemistry), _rate_kind(unit), unit)
    role = "measured"
    if plain.startswith(("initial ", "feed ")):
        role, name = "initial", name.partition(" ")[2].strip()
    species = _species(name, asked.chemistry)
    composition = _composition(name, asked.chemistry) if role == "measured" else None
    if composition is not None:
        return _expected("measured", composition, "number", unit)
    if unit is None:
        return Column("", role, species, "concentration", None)
    dimension = units.unit(unit).dimension
    kind = next((k for k in ("pressure", "density") if units.unit(SI_UNITS[k]).dimension == dimension), None)
    if kind == "density":
        return Column("", role, species, "density", unit, molar_mass=_molar_mass(species, unit, asked.chemistry))
    return _expected(role, species, kind or "concentration", unit)


def _expected(role: str, what: str, kind: str, unit: str | None) -> Column:
    if unit is not None:
        units.expect(unit, kind)
    return Column("", role, what, kind, unit)


def _species(name: str, chemistry: Chemistry | None) -> str:
    """A species of the chemistry, if it is known, by its name, also as 'cA'; otherwise the name."""
    if chemistry is None or name in chemistry.names:
        return name
    return name[1:] if name[:1] in ("c", "C") and name[1:] in chemistry.names else name


def _composition(name: str, chemistry: Chemistry | None) -> str | None:
    """A metric of the composition, like 'conversion of A', in its own words; None for other names."""
    if chemistry is not None and name in chemistry.names:
        return None
    try:
        metric = parse_metric(name)
    except InputError:
        return None
    return str(metric) if metric.what in COMPOSITIONS else None


def _molar_mass(species: str, unit: str, chemistry: Chemistry | None) -> float:
    if chemistry is None:
        message = f"'{unit}' is a mass concentration, and the molar mass is not known"
        raise InputError(message, "", "give chemistry=..., whose species have formulas, or convert it to mol/L")
    if species not in chemistry.names:
        raise InputError(f"'{species}' is not a species of the chemistry", "", nearest(species, chemistry.names))
    found = next(s for s in chemistry.species if s.name == species)
    return float(found.require("molar_mass", f"the column in {unit}").si)


def _initial(columns: list[Column], chemistry: Chemistry | None) -> list[Column]:
    """Columns like 'A0' next to one of A, or to conversions or fractions, as its initial concentration."""
    measured = {c.what for c in columns if c.role in ("measured", "signal")}
    known = set(chemistry.names) if chemistry is not None else set[str]()
    are_fractions = any(c.role == "measured" and c.kind == "number" for c in columns)
    found = []
    for column in columns:
        name = column.what.removesuffix("0").removesuffix("_")
        is_start = column.role == "measured" and column.what.endswith("0") and column.what not in known
        is_start = is_start and name != "" and (are_fractions or name in measured | known)
        found.append(replace(column, role="initial", what=name) if is_start else column)
    return found


def _rate_kind(unit: str | None) -> str:
    """The kind of rate of a unit."""
    if unit is None:
        return "rate"
    dimension = units.unit(unit).dimension
    found = next((k for k in BASES.values() if units.unit(SI_UNITS[k]).dimension == dimension), None)
    if found is None:
        raise UnitError(f"'{unit}' is not a unit of rate", "", "like mol/L/min, or mol/kg/h per catalyst mass")
    return found


def _check_sign(
    table: CellTable, column: Column, values: np.ndarray, lines: np.ndarray, size: float, faults: Faults
) -> None:
    """A large negative number is a fault, a small one a remark; `size` is the largest number of its kind."""
    if column.kind not in ("concentration", "pressure", "density", "time"):
        return
    allowed = 0.0 if column.kind == "time" else NOISE * size
    below, far = values < 0, values < -allowed
    for i in lines[np.flatnonzero(far)][:3].tolist():
        advice = "correct it, or leave the cell empty (below detection: write < and the limit)"
        message = f"{table.cells[column.label].iloc[i]} is a negative {column.kind}"
        faults.add(f"line {table.cells.index[i]}, column '{column.label}'", message, advice)
    if below.any() and not far.any():
        count = int(below.sum())
        table.remarks.append(f"column '{column.label}': {count} value{'s' * (count > 1)} below zero used as noise")
