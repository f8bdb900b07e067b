"""Read runs and rates from CSV or XLSX."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from molino.core.arguments import checked
from molino.core.contract.plant import Plant
from molino.core.contract.vessel import Vessel
from molino.core.display import HABIT
from molino.core.errors import Faults, InputError
from molino.core.fitting.experiment import NOISE, VESSELS, Experiment
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rates.rates import Rates
from molino.core.fitting.signals import Signal
from molino.core.runs.scheduled_changes import Change
from molino.core.trains.train import Train
from molino.core.unit_tables import GAS_CONSTANT
from molino.desk.tables.cells import sheet_names
from molino.desk.tables.layout import read_table
from molino.desk.tables.measured_columns import Asked, Column, Table, read
from molino.desk.tables.observations import read_observations, shape_of

_SHAPE = (
    "the table needs the columns: run, time [min] (or space time [min] of tanks and tubes), T [degC], initial A "
    "[mol/L] (or feed A), A [mol/L] for each species A"
)
_RATES_SHAPE = "the table needs the columns: rate [mol/L/min] (or rate of A), A [mol/L] for each species A, T [degC]"


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
    """Read runs from a table: batches over time, outlets of tanks and tubes, or observations of a given vessel.

    Headings have units: `run`, `time [min]`, `T [degC]`, `initial xylose [mol/L]` (the charge, constant in a run), and
    a column of measured concentrations per species, `xylose [mol/L]`. An empty cell ("-", "n.d.", "NA") was not
    measured. Without a unit numbers are SI. Units of pressure mean partial pressures of an ideal gas.

    Titles, blank rows and columns, merged headings, decimal commas, a row of units and comments are understood. Blocks
    with the same headings are runs. Unreadable cells are left out and counted in `print(runs)`. Outlets have `space
    time [min]` (volume over volumetric flow of the feed) instead of time, and `feed xylose [mol/L]`.

    With a `vessel` the columns are metrics of it: `temperature [degC]`, `heat flow [W]`, `pressure [bar]`,
    `conversion of A`, `A [mol/L]`, over `time [min]`, along `length [m]`, or at its outlet. A column named like a
    condition of the vessel (`T [degC]`, `flow [L/min]`, `feed A [mol/L]`, `coolant T [degC]`) sets it, run by run.

    Parameters
    ----------
    path : str, Path or DataFrame
        A .csv file (commas or semicolons), an .xlsx file, or the table itself.
    sheet : str, optional
        Of an .xlsx file; by default the first with a table; "*" reads every sheet as a run.
    header_row : int, optional
    columns : str or sequence of str, optional
        "B:E" or headings, where the sheet has other cells.
    signals : mapping of column to Signal, optional
    vessel : "stirred tank" or "plug flow", Vessel or Train, optional
        Where outlets were measured, if there is no column `vessel`; or the observed vessel.
    changes : sequence of Change, optional

    Returns
    -------
    Experiments

    Examples
    --------
    >>> from importlib.resources import files
    >>> mo.read_experiments(files("molino.demo") / "cob-liquor.csv").species
    ('xylose', 'furfural')
    """
    if sheet == "*":
        options = {"header_row": header_row, "columns": columns, "signals": signals}
        return _of_all_sheets(path, **options, vessel=vessel, changes=changes)
    if isinstance(vessel, Plant):
        cells = read_table(path, sheet, shape_of(vessel), header_row, columns)
        return read_observations(cells, vessel, signals or {}, changes)
    if changes:
        raise InputError("changes need the vessel that was changed", "changes", "give vessel=mo.StirredTank(...)")
    return _measured(Asked(path, sheet, header_row, columns, signals or {}), vessel)


def _of_all_sheets(path: str | Path | pd.DataFrame, **options: Any) -> Experiments:
    faults = Faults()
    sets: list[tuple[str, Experiments]] = []
    for name in sheet_names(path):
        with faults.at(f"sheet '{name}'"):
            sets.append((name, read_experiments(path, name, **options)))
    faults.raise_any()
    runs = [replace(r, name=name) if len(found) == 1 else r for name, found in sets for r in found]
    first = sets[0][1]
    notes = tuple(dict.fromkeys(n for _, found in sets for n in found.notes if not n.startswith("other sheets")))
    return Experiments(tuple(runs), first.source, first.show, (), notes)


def _measured(asked: Asked, vessel: str | None) -> Experiments:
    """Runs of measured concentrations."""
    table = read(asked, _SHAPE, ("time", "space time"))
    faults = Faults()
    runs = []
    for name, rows in _by_run(table).items():
        with faults.at():
            runs.append(_experiment(name, table, rows, asked.signals, vessel))
    faults.raise_any(table.path.name)
    signal_notes = [f"column '{name}': {signal}" for name, signal in asked.signals.items()]
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

    `rate` is the rate of a single reaction; `rate of xylose` the rate at which a species is consumed (a reactant) or
    formed (a product). Its unit shows whether it is per catalyst mass or area: mol/kg/h, mol/m2/h. Partial pressures
    are read as in `read_experiments`. A line with an empty cell is skipped.

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
        With every fault of the table: file, line, column, and remedy.

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
    return _rates(read(Asked(path, sheet, header_row, columns, {}), _RATES_SHAPE, ("rate",)))


def _rates(table: Table) -> Rates:
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


def _shown(table: Table) -> dict[str, str]:
    """The units of the table; for partial pressures the usual unit of concentrations."""
    return {"concentration": HABIT["concentration"], **table.shown} if table.shown else {}


def _concentration(column: Column, values: np.ndarray, T: np.ndarray | float | None) -> np.ndarray:
    """In mol/m^3; c = p / (R T) for a partial pressure."""
    if column.kind != "pressure":
        return values
    if T is None:
        raise InputError("a partial pressure needs a temperature", column.heading, "add a column T [degC]")
    return np.asarray(values / (GAS_CONSTANT * T))


def _by_run(table: Table) -> dict[str, np.ndarray]:
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


def _experiment(
    name: str, table: Table, rows: np.ndarray, signals: Mapping[str, Signal], vessel: str | None
) -> Experiment:
    faults = Faults()
    numbers = {heading: values[rows] for heading, values in table.numbers.items()}

    def constant(column: Column) -> float | None:
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
                raise InputError(f"{signal.of} is also measured in another column", "", "keep one")
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
            advice = "add a column 'vessel' (stirred tank or plug flow), or give vessel='plug flow'"
            faults.add(f"run {name}", "a space time is given without a vessel", advice)
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
