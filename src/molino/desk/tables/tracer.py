"""Read tracer tests."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.arguments import checked
from molino.core.errors import Faults, InputError, UnitError
from molino.core.mixing.tracer_test import TracerTest
from molino.core.unit_tables import SI_UNITS
from molino.desk.tables.cell_table import CellTable, TableOptions, complete_lines
from molino.desk.tables.clock import has_clock, seconds_of
from molino.desk.tables.headings import read_heading
from molino.desk.tables.layout import read_table

_SHAPE = "write a column 'time [min]', one of the signal at the outlet, and optionally one 'inlet'"
_INLET = re.compile(r"(?i).*\b(in|inlet|feed)\b.*")
_OUTLET = re.compile(r"(?i).*\b(out|outlet|effluent)\b.*")
_KINDS = ("concentration", "density")


@checked
def read_tracer(
    path: str | Path | pd.DataFrame,
    sheet: str | None = None,
    *,
    header_row: int | None = None,
    columns: str | Sequence[str] | Mapping[str, str | None] | None = None,
    decimal: str | None = None,
    separator: str | None = None,
    **options: Any,
) -> TracerTest:
    """Read a tracer test from a table: a column of times, one of the signal at the outlet, optionally one at the inlet.

    A signal in a unit of concentration is read in SI; any other unit, or none, is that of the detector.

    Parameters
    ----------
    path : str, Path or DataFrame
        CSV, XLSX, or a data frame.
    sheet : str, optional
    header_row, columns, decimal, separator
        As for `read_experiments`.
    **options
        Other fields of `TracerTest`: kind="step up", volume="2 m3", flow="10 L/min", injected="5 g", ...

    Returns
    -------
    TracerTest

    Raises
    ------
    InputError
        With every fault of the table: file, line, column, and remedy.

    Examples
    --------
    >>> import pandas as pd
    >>> table = pd.DataFrame({"time [min]": [0, 5, 10, 15, 20, 25, 30, 35], "tracer [g/L]": [0, 3, 5, 5, 4, 2, 1, 0]})
    >>> print(mo.mixing.read_tracer(table, flow="1 L/min").distribution().mean)
    15 min
    """
    table = read_table(path, _SHAPE, TableOptions(sheet, header_row, columns, decimal, separator))
    notes: list[str] = []
    rows, unit = _rows(table, notes)
    show = {"time": unit, **dict(options.pop("show", {}))} if unit else dict(options.pop("show", {}))
    if "inlet" in rows:
        options.setdefault("kind", "measured inlet")
    options |= {"show": show, "notes": (*table.notes, *notes)}
    try:
        return TracerTest(rows["time"], rows["signal"], inlet=rows.get("inlet"), **options)
    except InputError as error:
        raise type(error)(fault.within(table.path.name) for fault in error.faults) from error


def _rows(table: CellTable, notes: list[str]) -> tuple[dict[str, np.ndarray], str | None]:
    """Times and signals of complete lines, in order of time, and the unit of time."""
    faults = Faults()
    roles = _roles([str(heading) for heading in table.cells.columns], faults)
    faults.raise_any(table.path.name)
    numbers: dict[str, np.ndarray] = {}
    for role, heading in roles.items():
        with faults.at(f"column '{heading}'"):
            numbers[role] = _column(table, heading, role, faults, notes)
    faults.raise_any(table.path.name)
    by_heading = {heading: numbers[role] for role, heading in roles.items()}
    lines = np.arange(len(table.cells))
    kept = complete_lines(table, [roles["time"]], by_heading, lines, faults)
    faults.raise_any(table.path.name)
    for role in roles:
        kept &= np.isfinite(numbers[role])
    table.note_left_out(lines[~kept], "without a time or signal")
    order = np.argsort(numbers["time"][kept], kind="stable")
    rows = {role: values[kept][order] for role, values in numbers.items()}
    time = read_heading(table.headings[roles["time"]])
    return rows, time.unit or ("min" if has_clock(table.cells[roles["time"]]) else None)


def _roles(headings: list[str], faults: Faults) -> dict[str, str]:
    """The columns of time, signal and inlet."""
    times = [h for h in headings if _is_time(h)]
    if len(times) != 1:
        message = "no column has times" if not times else f"{' and '.join(times)} are both times"
        faults.add("headings", message, _SHAPE)
        return {}
    others = [h for h in headings if h not in times]
    inlets = [h for h in others if _INLET.fullmatch(read_heading(h).name)]
    signals = [h for h in others if h not in inlets]
    if len(signals) > 1:
        signals = [h for h in signals if _OUTLET.fullmatch(read_heading(h).name)] or signals
    if len(signals) != 1 or len(inlets) > 1:
        several = signals if len(signals) > 1 else inlets
        message = (
            f"{len(several)} columns could be the signal: {', '.join(several)}" if several else "there is no signal"
        )
        faults.add("headings", message, "name the columns: columns=['time', 'outlet'], or 'inlet' and 'outlet'")
        return {}
    return {"time": times[0], "signal": signals[0]} | ({"inlet": inlets[0]} if inlets else {})


def _is_time(text: str) -> bool:
    heading = read_heading(text)
    if heading.name.lower() not in ("time", "t", "clock time"):
        return False
    try:
        return heading.unit is None or units.unit(heading.unit).dimension == units.unit("s").dimension
    except UnitError:
        return False


def _column(table: CellTable, heading: str, role: str, faults: Faults, notes: list[str]) -> np.ndarray:
    """A column in SI: times, concentrations, or the signal of a detector."""
    texts, own = [str(text) for text in table.cells[heading]], read_heading(heading)
    if role == "time" and (own.clock or has_clock(texts)):
        seconds, remark = seconds_of(texts, own.clock, [np.arange(len(texts))], own.name == "clock time")
        notes.append(f"column '{heading}': {remark}")
        return seconds
    read, unit = table.numbers(heading, faults), own.unit
    found = read.values
    if read.limits.any():
        raise InputError("it has limits (<)", "", "write a number, 0 or an empty cell")
    if role == "time":
        return found if unit is None else np.asarray(units.unit(unit).to_si(found))
    try:
        dimension = units.unit(unit).dimension if unit else None
    except UnitError:
        dimension = None
    if unit and dimension in [units.unit(SI_UNITS[kind]).dimension for kind in _KINDS]:
        return np.asarray(units.unit(unit).to_si(found))
    if unit and role == "signal":
        notes.append(f"the signal is in {unit}, the unit of its detector")
    return found
