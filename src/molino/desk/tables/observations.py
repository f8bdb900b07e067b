"""Read observations of a vessel: any metric, over time, along it, or at its outlet under several conditions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.contract.metrics import parse_metric
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment, axes_of, condition_kinds, response_of
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.signals import Signal
from molino.core.runs.scheduled_changes import Change
from molino.core.terms.heat import Jacket
from molino.core.trains.train import Train
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value
from molino.desk.tables.cells import heading_parts
from molino.desk.tables.layout import CellTable, complete_lines

_PROFILES = {"coolant T"}
"""Conditions that may change within a run over time, as a measured input."""


@dataclass(frozen=True)
class _Column:
    """A column: 'run', 'axis', 'measured', 'signal' or 'condition', with its subject, kind and unit."""

    heading: str
    role: str
    what: str
    kind: str
    unit: str | None


def read_observations(
    table: CellTable, vessel: Vessel | Train, signals: Mapping[str, Signal], changes: Sequence[Change]
) -> Experiments:
    """The table of a vessel; see `read_experiments`.

    Raises
    ------
    InputError
        With every fault of the table: file, line, column, and remedy.
    """
    cells, path = table.cells, table.path
    faults = Faults()
    columns: list[_Column] = []
    for heading in cells.columns:
        with faults.at(f"column '{heading}'"):
            columns.append(_column(str(heading), vessel, signals))
    for name in sorted(signals.keys() - {c.what for c in columns if c.role == "signal"}):
        faults.add("headings", f"there is no column of the signal '{name}'", nearest(name, cells.columns))
    keys = [(c.role, c.what) for c in columns]
    for _, what in sorted({key for key in keys if keys.count(key) > 1}):
        faults.add("headings", f"two columns for {what or 'the run'}", "keep one")
    axes = [c for c in columns if c.role == "axis"]
    if len(axes) > 1:
        names = " and ".join(f"'{c.heading}'" for c in axes)
        faults.add("headings", f"{names} are both axes of samples", "keep one")
    if not faults.found and not any(c.role in ("measured", "signal") for c in columns):
        faults.add("headings", "no column has observations", shape_of(vessel))
    faults.raise_any(path.name)
    numbers = {c.heading: _numbers(table, c, faults) for c in columns if c.role != "run"}
    kept = complete_lines(table, [c.heading for c in axes], numbers, faults)
    faults.raise_any(path.name)
    numbers = {heading: values[kept] for heading, values in numbers.items()}
    table.keep(kept, "without a time or place")
    cells = table.cells
    runs = []
    for name, rows in _by_run(cells, columns, numbers).items():
        with faults.at(f"run {name}"):
            runs.append(_experiment(name, vessel, columns, {h: v[rows] for h, v in numbers.items()}, signals, changes))
    faults.raise_any(path.name)
    show = {**vessel.spec.display.chosen}
    for column in columns:
        if column.unit is not None and column.kind and column.role != "signal":
            show[column.kind] = column.unit
    signal_notes = [f"column '{name}': {signal}" for name, signal in signals.items()]
    return Experiments(tuple(runs), path.name, show, (), (*table.notes, *signal_notes))


def shape_of(vessel: Vessel | Train) -> str:
    axes = _axes(vessel)
    where = f"{' or '.join(f'{a} [{SI_UNITS[kind]}]' for a, kind in axes.items())}, " if axes else ""
    return (
        f"the table needs the columns: {where}and the observations, like 'temperature [degC]', 'A [mol/L]', "
        "'conversion of A'; it may have columns run, and of conditions of the vessel, like 'T [degC]'"
    )


def _axes(vessel: Vessel | Train) -> dict[str, str]:
    """The possible axes of samples of a vessel, in words, with the kinds of quantity."""
    return {name.replace("_", " "): kind for name, kind in axes_of(vessel).items()}


def _column(heading: str, vessel: Vessel | Train, signals: Mapping[str, Signal]) -> _Column:
    name, unit = heading_parts(heading)
    role, what, kind = _meaning(name, vessel, signals)
    if unit is not None and role in ("axis", "measured"):
        units.expect(unit, kind)
    return _Column(heading, role, what, kind, unit)


def _meaning(name: str, vessel: Vessel | Train, signals: Mapping[str, Signal]) -> tuple[str, str, str]:
    """Role, subject and kind of quantity of a column by its name."""
    if not name:
        raise InputError("it has no name", "", "name it, or delete the column")
    if name in signals:
        return "signal", name, ""
    if name.lower() == "run":
        return "run", "", ""
    settings, axes, species = condition_kinds(vessel), _axes(vessel), vessel.chemistry.names
    first, _, rest = name.partition(" ")
    if first == "initial" and rest in ("T", "volume") and rest in settings:
        return "condition", rest, settings[rest]
    if first in ("initial", "feed") and rest in species:
        name = f"[{rest}]"
        if name not in settings:
            raise InputError(f"{rest} is not in the feed or charge of the vessel", "", "add it there, as 0 if absent")
    if name in species:
        return "measured", name, "concentration"
    try:
        metric = parse_metric(name)
    except InputError:
        metric = None
    if metric is not None and not (metric.what == "volume" and "volume" in axes):
        vessel.spec.expression(metric)
        return "measured", response_of(metric), metric.kind
    if name in axes:
        return "axis", name.replace(" ", "_"), axes[name]
    if name in settings:
        return "condition", name, settings[name]
    known = [*axes, *settings, *species, "temperature", "heat flow", "pressure"]
    raise InputError(
        f"'{name}' is not a metric or condition of {vessel.label}", "", nearest(name, known) or shape_of(vessel)
    )


def _numbers(table: CellTable, column: _Column, faults: Faults) -> np.ndarray:
    """A column as numbers, in SI if it has a kind of quantity; nan for empty or unreadable cells."""
    found = table.numbers(column.heading, faults)
    if column.role in ("axis", "measured") and column.unit is not None:
        return np.asarray(units.unit(column.unit).to_si(found))
    return found


def _by_run(
    cells: pd.DataFrame, columns: Sequence[_Column], numbers: Mapping[str, np.ndarray]
) -> dict[str, np.ndarray]:
    """The lines of each run: by its name, otherwise by the conditions."""
    count = len(cells)
    named = next((c for c in columns if c.role == "run"), None)
    if named is not None:
        texts = cells[named.heading].str.strip().to_numpy()
        return {str(name): texts == name for name in dict.fromkeys(texts)}
    if any(c.role == "axis" for c in columns):
        return {"1": np.ones(count, dtype=bool)}
    keys = [tuple(float(numbers[c.heading][i]) for c in columns if c.role == "condition") for i in range(count)]
    return {str(n): np.array([k == key for k in keys]) for n, key in enumerate(dict.fromkeys(keys), 1)}


def _experiment(
    name: str,
    vessel: Vessel | Train,
    columns: Sequence[_Column],
    numbers: Mapping[str, np.ndarray],
    signals: Mapping[str, Signal],
    changes: Sequence[Change],
) -> Experiment:
    faults = Faults()
    axis = next((c for c in columns if c.role == "axis"), None)
    times = numbers[axis.heading] if axis is not None else None
    own = vessel
    for column in (c for c in columns if c.role == "condition"):
        with faults.at(f"column '{column.heading}'"):
            own = _under(own, column, numbers[column.heading], times if axis and axis.what == "time" else None)
    measured: dict[str, np.ndarray] = {}
    for column in (c for c in columns if c.role in ("measured", "signal")):
        with faults.at(f"column '{column.heading}'"):
            values, response = numbers[column.heading], column.what
            if column.role == "signal":
                signal = signals[column.what]
                vessel.spec.expression(signal.metric)
                values, response = signal.read(values, column.unit), response_of(signal.metric)
            if response in measured:
                raise InputError(f"{response} is also measured in another column", "", "keep one")
            if np.isfinite(values).any():
                measured[response] = values
    faults.raise_any()
    along = axis.what if axis is not None else ""
    if times is not None and along != "time":
        order = np.argsort(times, kind="stable")  # along a vessel the order of the lines is irrelevant
        times, measured = times[order], {r: v[order] for r, v in measured.items()}
    return Experiment(name, times, measured, vessel=own, along=along, changes=changes)  # type: ignore[arg-type]


def _under(vessel: Vessel | Train, column: _Column, values: np.ndarray, times: np.ndarray | None) -> Vessel | Train:
    """The vessel under a condition that is constant in a run; that of a coolant may change over time."""
    known = values[np.isfinite(values)]
    if not len(known):
        return vessel
    if np.ptp(known) <= 1e-9 * max(abs(float(known[0])), 1.0):
        return vessel.with_({column.what: _value(float(known[0]), column.unit)})
    heat = getattr(vessel, "heat", None)  # a train has none of its own
    if column.what not in _PROFILES or times is None or not isinstance(heat, Jacket):
        raise InputError("it changes within the run", "", "a run has one condition: split it, or name the runs")
    seen = np.isfinite(values)
    points = [(float(t), _value(float(v), column.unit)) for t, v in zip(times[seen], values[seen], strict=True)]
    if points[0][0] > 0:
        points.insert(0, (0.0, points[0][1]))
    return vessel.with_(heat=replace(heat, T=points))


def _value(number: float, unit: str | None) -> Value:
    return Value(float(units.unit(unit).to_si(number)), unit) if unit else Value(number)
