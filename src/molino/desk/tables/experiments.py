"""Read measured concentrations from CSV or XLSX."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.errors import Faults, InputError
from molino.core.fitting.experiments import Experiment, Experiments
from molino.desk.tables.cells import heading_parts, read_cells

_SHAPE = "the table needs the columns: run, time [min], T [degC], initial A [mol/L], A [mol/L] for each species A"


class _Column:
    """A column of numbers: what it holds, of which species, in which unit."""

    def __init__(self, heading: str, name: str, unit: str | None) -> None:
        self.heading, self.unit = heading, unit
        self.initial = name.lower().startswith("initial ")
        self.species = name[8:].strip() if self.initial else name
        plain = name.lower()
        self.kind = {"time": "time", "t": "time", "temperature": "temperature"}.get(plain, "concentration")
        if name == "T":
            self.kind = "temperature"
        if unit is not None:
            units.expect(unit, self.kind)

    def to_si(self, numbers: np.ndarray) -> np.ndarray:
        return np.asarray(units.unit(self.unit).to_si(numbers) if self.unit else numbers)


def read_experiments(path: str | Path | pd.DataFrame, sheet: str | None = None) -> Experiments:
    """Read batch runs from a table in long form.

    Headings carry units: `run`, `time [min]`, `T [degC]`, `initial xylose [mol/L]` (what was charged; the same all
    through a run), and one column of measured concentration for each species, `xylose [mol/L]`. Without `run` the
    whole table is one run. `time (min)` is read, too. An empty cell is a value that was not measured. A heading without
    unit holds SI numbers.

    Parameters
    ----------
    path : str, Path or DataFrame
        A .csv file, separated by commas or semicolons (then with a decimal comma or point), an .xlsx file, or the
        table itself, whose lines then count from 2, as in a file with headings.
    sheet : str, optional
        Of an .xlsx file; the first if left out.

    Returns
    -------
    Experiments

    Raises
    ------
    InputError
        With every fault of the table: file, line, column, and what to do.
    """
    table, path = read_cells(path, sheet, _SHAPE)
    faults = Faults()
    columns: list[_Column] = []
    for heading in table.columns:
        name, unit = heading_parts(heading)
        if name.lower() == "run":
            continue
        with faults.at(f"column '{heading}'"):
            if not name:
                raise InputError("it has no name", "", "name it, or delete the column")
            columns.append(_Column(heading, name, unit))
    kinds = [c.kind for c in columns]
    if not faults.found and kinds.count("time") != 1:
        said = "no time column" if "time" not in kinds else "more than one time column"
        faults.add("headings", said, _SHAPE)
    if not faults.found and not any(c.kind == "concentration" and not c.initial for c in columns):
        faults.add("headings", "no column of measured concentrations", _SHAPE)
    headings = [(c.kind, c.initial, c.species) for c in columns]
    for _, _, species in {h for h in headings if headings.count(h) > 1}:
        faults.add("headings", f"two columns for {species}", "keep one")
    faults.raise_any(path.name)
    numbers = {c.heading: _numbers(table, c, faults) for c in columns}
    run_column = next((c for c in table.columns if str(c).strip().lower() == "run"), None)
    names = table[run_column].str.strip() if run_column is not None else pd.Series("1", index=table.index)
    for line in table.index[names == ""]:
        faults.add(f"line {line}", "no run is named", "write the run in each line")
    faults.raise_any(path.name)
    runs = []
    for name in dict.fromkeys(names):
        with faults.at():
            runs.append(_experiment(str(name), columns, {h: v[(names == name).to_numpy()] for h, v in numbers.items()}))
    faults.raise_any(path.name)
    shown: dict[str, str] = {}
    for column in columns:
        if column.unit is not None:
            shown.setdefault(column.kind, column.unit)
    return Experiments(tuple(runs), path.name, shown)


def _numbers(table: pd.DataFrame, column: _Column, faults: Faults) -> np.ndarray:
    """A column in SI, nan where a cell is empty; each cell that is no number, or negative, is a fault."""
    found = np.full(len(table), np.nan)
    for i, (line, cell) in enumerate(table[column.heading].items()):
        if cell == "":
            if column.kind == "time":
                faults.add(
                    f"line {line}, column '{column.heading}'", "the time is missing", "write it, or delete the line"
                )
            continue
        try:
            found[i] = float(cell)
        except ValueError:
            advice = "write a number, or leave the cell empty where nothing was measured"
            faults.add(f"line {line}, column '{column.heading}'", f"'{cell}' is not a number", advice)
            continue
        if column.kind != "temperature" and found[i] < 0:
            what = "a negative concentration" if column.kind == "concentration" else "a negative time"
            advice = "mend it, or leave the cell empty (below detection: write 0)"
            faults.add(f"line {line}, column '{column.heading}'", f"{cell} is {what}", advice)
    return column.to_si(found)


def _experiment(name: str, columns: list[_Column], numbers: dict[str, np.ndarray]) -> Experiment:
    faults = Faults()
    conditions: dict[str, float] = {}
    temperature: float | None = None
    measured: dict[str, np.ndarray] = {}
    times = np.array([])
    for column in columns:
        values = numbers[column.heading]
        if column.kind == "time":
            times = values
        elif column.kind == "temperature" or column.initial:
            known = values[np.isfinite(values)]
            if len(known) and np.ptp(known) > 1e-9 * max(abs(float(known[0])), 1.0):
                said = f"'{column.heading}' changes within the run"
                faults.add(f"run {name}", said, "a run has one temperature and one charge: split it")
            elif len(known) and column.kind == "temperature":
                temperature = float(known[0])
            elif len(known):
                conditions[column.species] = float(known[0])
        elif np.isfinite(values).any():
            measured[column.species] = values
    faults.raise_any()
    return Experiment(name, times, measured, conditions, temperature)
