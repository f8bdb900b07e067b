"""Read runs and rates from CSV or XLSX."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
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
from molino.core.units import QuantityLike
from molino.desk.tables.cell_table import TableOptions
from molino.desk.tables.cells import sheet_names
from molino.desk.tables.columns import Column, Readings, calibrated, own_signals, take_rows
from molino.desk.tables.layout import has_table, read_table
from molino.desk.tables.measured_columns import Asked, Table, read
from molino.desk.tables.observations import read_observations, shape_of

_SHAPE = (
    "the table needs the columns: run, time [min] (or space time [min] of tanks and tubes), T [degC], initial A "
    "[mol/L] (or feed A), A [mol/L] for each species A"
)
_TEMPERATURE = re.compile(
    r"(?<![\w.,])([-+]?\d+(?:[.,]\d+)?(?=\s*(?:°|deg))|[1-9]\d+(?:[.,]\d+)?(?=\s*C)|\d{3}(?:[.,]\d+)?)\s*"
    r"(°C|degC|°F|degF|C|K)(?!\w)"
)
"""A temperature in the name of a run."""
_RATES_SHAPE = "the table needs the columns: rate [mol/L/min] (or rate of A), A [mol/L] for each species A, T [degC]"


@checked
def read_experiments(
    path: str | Path | pd.DataFrame,
    sheet: str | None = None,
    *,
    header_row: int | None = None,
    columns: str | Sequence[str] | Mapping[str, str | None] | None = None,
    decimal: str | None = None,
    separator: str | None = None,
    units: Mapping[str, str] | None = None,
    response: str | None = None,
    detection_limits: Mapping[str, QuantityLike] | None = None,
    chemistry: Chemistry | None = None,
    signals: Mapping[str, Signal] | None = None,
    vessel: str | Vessel | Train | None = None,
    changes: Sequence[Change] = (),
) -> Experiments:
    """Read runs from a table: batches over time, outlets of tanks and tubes, or observations of a given vessel.

    Headings have units: `run`, `time [min]`, `T [degC]`, `initial xylose [mol/L]` (the charge, constant in a run), and
    a column of measured concentrations per species, `xylose [mol/L]`; also `c(A) / mol L-1`, `A (mM)`, `Zeit, h`. Units
    of pressure mean partial pressures of an ideal gas. If no heading has a unit, numbers are SI.

    Titles, blank rows and columns, merged headings, decimal commas, a row of units and comments are understood. An
    empty cell ("-", "NA") was not measured; "<0.25" is below a detection limit; "1.20 ± 0.02", or a column `SD`, gives
    standard deviations; times may be times of day. Blocks with the same headings are runs, repeated columns replicates.
    Every decision about a table is listed in `notes` and by `print(runs)`; an unclear table is an error, which
    names the argument that decides it. Outlets have `space time [min]` (volume over volumetric flow of the feed)
    instead of time, and `feed xylose [mol/L]`.

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
        The line of the headings.
    columns : str, sequence of str, or mapping, optional
        "B:E" or headings, where the sheet has other cells; or the meaning of columns, by heading or letter: {"Zeit":
        "time [min]", "C": "A [mol/L]", "pH": None}, where None leaves a column out.
    decimal : "." or ",", optional
        The decimal sign.
    separator : ";", "," or tab, optional
        Of a .csv file.
    units : mapping of kind to unit, optional
        Of columns without a unit: {"time": "min", "concentration": "mol/L", "temperature": "degC"}.
    response : str, optional
        "A [mol/L]", if each column except the time is a run of this response.
    detection_limits : mapping of column to quantity, optional
        Of cells like "n.d.": {"A": "0.25 mmol/L"}; otherwise they were not measured.
    chemistry : Chemistry, optional
        Of the species: for mass concentrations, and names like cA.
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
    options = TableOptions(sheet, header_row, columns, decimal, separator, units or {})
    limits = detection_limits or {}
    if isinstance(vessel, Plant):
        if response is not None:
            raise InputError("a given vessel has columns of its own", "response", "leave it out")

        def reading(own: TableOptions) -> Experiments:
            cells = read_table(path, shape_of(vessel), own)
            return read_observations(cells, vessel, signals or {}, changes, own.units, limits)
    else:
        if changes:
            raise InputError("changes need the vessel that was changed", "changes", "give vessel=mo.StirredTank(...)")

        def reading(own: TableOptions) -> Experiments:
            return _measured(Asked(path, own, signals or {}, response, limits, chemistry), vessel)

    return _of_all_sheets(path, options, reading) if sheet == "*" else reading(options)


def _of_all_sheets(
    path: str | Path | pd.DataFrame, options: TableOptions, reading: Callable[[TableOptions], Experiments]
) -> Experiments:
    """A run, or the runs, of each sheet with a table."""
    faults = Faults()
    sets: list[tuple[str, Experiments]] = []
    names = sheet_names(path)
    empty = [name for name in names if not has_table(path, replace(options, sheet=name))]
    for name in names if len(empty) == len(names) else [name for name in names if name not in empty]:
        with faults.at(f"sheet '{name}'"):
            sets.append((name, reading(replace(options, sheet=name))))
    faults.raise_any()
    runs = [replace(r, name=name) if len(found) == 1 else r for name, found in sets for r in found]
    first = sets[0][1]
    notes = list(dict.fromkeys(n for _, found in sets for n in found.notes if not n.startswith("other sheets")))
    if empty:
        notes.append(f"sheets without a table not read: {', '.join(empty)}")
    runs, temperature_notes = with_temperatures_of_names(runs)
    return Experiments(tuple(runs), first.source, first.show, (), (*notes, *temperature_notes))


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
    runs, temperature_notes = with_temperatures_of_names(runs)
    notes = (*table.notes, *signal_notes, *temperature_notes)
    of_signals = {
        asked.signals[c.what].kind: c.unit for c in table.of("signal") if c.unit and asked.signals[c.what].is_response
    }
    return Experiments(tuple(runs), table.path.name, of_signals | _shown(table), (), notes)


def with_temperatures_of_names(runs: list[Experiment]) -> tuple[list[Experiment], list[str]]:
    """Isothermal runs without a temperature at those of their names, like 'Run 1, 50 °C', and a note on it."""
    own = [run.is_simple and run.T is None for run in runs]
    found = [_TEMPERATURE.findall(run.name) if lacks else [] for run, lacks in zip(runs, own, strict=True)]
    named = [run.name for run, texts in zip(runs, found, strict=True) if texts]
    if not named:
        return runs, []
    if not all(own) or not all(len(texts) == 1 for texts in found):
        return runs, [f"temperatures in names of runs not read, since not each has one: {', '.join(named[:3])}"]
    kelvin = [
        units.of(float(number.replace(",", ".")), "degC" if unit == "C" else unit).si for ((number, unit),) in found
    ]
    listed = ", ".join(f"{number} {unit}" for ((number, unit),) in found[:5])
    note = f"temperatures read from the names of runs: {listed}{', ...' if len(runs) > 5 else ''}"
    return [replace(run, T=T) for run, T in zip(runs, kelvin, strict=True)], [note]


@checked
def read_rates(
    path: str | Path | pd.DataFrame,
    sheet: str | None = None,
    *,
    header_row: int | None = None,
    columns: str | Sequence[str] | Mapping[str, str | None] | None = None,
    decimal: str | None = None,
    separator: str | None = None,
    units: Mapping[str, str] | None = None,
    chemistry: Chemistry | None = None,
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
    header_row, columns, decimal, separator, units, chemistry
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
    options = TableOptions(sheet, header_row, columns, decimal, separator, units or {})
    return _rates(read(Asked(path, options, chemistry=chemistry), _RATES_SHAPE, ("rate",)))


def _rates(table: Table) -> Rates:
    (rate,) = table.of("rate")
    needed = [*table.of("measured"), rate, *table.of("temperature")]
    whole = np.all([np.isfinite(table.values(c)) for c in needed], axis=0)
    if not whole.any():
        raise InputError("no line is complete", table.path.name, _RATES_SHAPE)
    limited = [c.label for c in needed if table.numbers[c.label].limits.any()]
    if limited:
        message = f"column '{limited[0]}' has limits (<), which are not used with rates"
        raise InputError(message, table.path.name, "leave those cells empty, or fit the runs themselves")
    T = next((table.values(c)[whole] for c in table.of("temperature")), None)
    found = {}
    for c in table.of("measured"):
        found[c.what] = _concentration(c, table.values(c)[whole], T)
    runs = tuple(str(r) for r in table.runs[whole]) if table.runs is not None else ()
    return Rates(
        table.values(rate)[whole],
        found,
        rate.what,
        T,
        runs,
        kind=rate.kind,
        source=table.path.name,
        show=_shown(table),
        notes=table.notes,
    )


def _shown(table: Table) -> dict[str, str]:
    """The units of the table; for partial pressures the usual unit of concentrations."""
    return {"concentration": HABIT["concentration"], **table.shown} if table.shown else {}


def _concentration(column: Column, values: np.ndarray, T: np.ndarray | float | None) -> np.ndarray:
    """In mol/m^3; c = p / (R T) for a partial pressure."""
    if column.kind != "pressure":
        return values
    if T is None:
        raise InputError("a partial pressure needs a temperature", column.label, "add a column T [degC]")
    return np.asarray(values / (GAS_CONSTANT * T))


def _by_run(table: Table) -> dict[str, np.ndarray]:
    """The rows of each run."""
    count = len(next(iter(table.numbers.values())).values)
    if table.runs is not None:
        return {str(name): table.runs == name for name in dict.fromkeys(table.runs)}
    if not table.of("space time"):
        return {"1": np.ones(count, dtype=bool)}
    columns = [table.values(c) for c in (*table.of("initial"), *table.of("temperature"))]
    vessels = table.vessels if table.vessels is not None else np.full(count, "")
    keys = [(str(vessels[i]), *(float(c[i]) for c in columns)) for i in range(count)]
    return {str(n): np.array([k == key for k in keys]) for n, key in enumerate(dict.fromkeys(keys), 1)}


def _experiment(
    name: str, table: Table, rows: np.ndarray, signals: Mapping[str, Signal], vessel: str | None
) -> Experiment:
    faults = Faults()
    numbers = take_rows(table.numbers, rows)

    def constant(column: Column) -> float | None:
        values = numbers[column.label].values
        known = values[np.isfinite(values)]
        if len(known) and np.ptp(known) > 1e-9 * max(abs(float(known[0])), 1.0):
            message = f"'{column.label}' changes within the run"
            faults.add(f"run {name}", message, "a run has one temperature and one charge: split it, or name the runs")
        return float(known[0]) if len(known) else None

    T = next((constant(c) for c in table.of("temperature")), None)
    (time,) = table.of("time") or table.of("space time")
    times = numbers[time.label].values
    initial: dict[str, float] = {}
    readings = Readings()
    with faults.at(f"run {name}"):
        for column in table.of("initial"):
            value = constant(column)
            if value is not None:
                initial[column.what] = float(_concentration(column, np.array(value), T))
        for column in table.of("measured"):
            own = numbers[column.label]
            if np.isfinite(own.values).any():
                scatter = next((numbers[c.label].values for c in table.of("deviation") if c.what == column.what), None)
                deviations = _concentration(column, own.deviations if scatter is None else scatter, T)
                readings.add(column.what, _concentration(column, own.values, T), own.limits, deviations)
    for column in table.of("signal"):
        signal, own = signals[column.what], numbers[column.label]
        with faults.at(f"run {name}, column '{column.label}'"):
            charged = initial.get(signal.of)
            read = partial(signal.concentration, charged=charged, T=T)
            found, limits, deviations = calibrated(signal, column, own, read)
            if signal.is_response:
                readings.add(column.what, found, limits, deviations)
                continue
            if (found < -NOISE * np.nanmax(np.abs(found))).any():
                worst = times[int(np.nanargmin(found))]
                message = f"the signal gives a negative concentration of {signal.of} at {worst:g} s"
                raise InputError(message, "", "check the calibration, or leave that cell empty")
            readings.add(signal.of, found, limits, deviations)
    where = "batch"
    if time.role == "space time":
        message = str(table.vessels[rows][0]) if table.vessels is not None else str(vessel or "")
        if message not in VESSELS[1:]:
            advice = "add a column 'vessel' (stirred tank or plug flow), or give vessel='plug flow'"
            faults.add(f"run {name}", "a space time is given without a vessel", advice)
        else:
            where = message
            order = np.argsort(times, kind="stable")
            times, readings = times[order], readings.sorted_by(order)
    faults.raise_any()
    gas = any(c.kind == "pressure" for c in table.columns) or any(signals[c.what].reaction for c in table.of("signal"))
    from_charge = frozenset(signals[c.what].of for c in table.of("signal") if signals[c.what].needs_charge)
    return Experiment(
        name,
        times,
        readings.measured,
        initial,
        T,
        where,
        bool(gas),
        from_charge=from_charge,
        signals=own_signals(signals, readings),
        below=readings.below,
        above=readings.above,
        deviations=readings.deviations,
    )
