"""Read observations of a vessel: any metric, over time, along it, or at its outlet under several conditions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from molino.core import units
from molino.core.contract.metrics import parse_metric
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment, axes_of, condition_kinds
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.responses import response_of
from molino.core.fitting.signals import Signal
from molino.core.runs.scheduled_changes import Change
from molino.core.terms.heat import Jacket
from molino.core.trains.train import Train
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value
from molino.desk.tables.cell_table import CellTable, complete_lines
from molino.desk.tables.columns import (
    Column,
    Readings,
    calibrated,
    decide_columns,
    merge_columns,
    own_signals,
    read_columns,
    run_names,
    take_rows,
)
from molino.desk.tables.headings import Heading
from molino.desk.tables.number_format import ColumnNumbers

_PROFILES = {"coolant T"}
"""Conditions that may change within a run over time, as a measured input."""


def read_observations(
    table: CellTable,
    vessel: Vessel | Train,
    signals: Mapping[str, Signal],
    changes: Sequence[Change],
    given_units: Mapping[str, str],
    detection_limits: Mapping[str, Any],
) -> Experiments:
    """The table of a vessel; see `read_experiments`.

    Raises
    ------
    InputError
        With every fault of the table: file, line, column, and remedy.
    """
    path, faults = table.path, Faults()
    columns = decide_columns(table, lambda heading: _meaning(heading, vessel, signals), given_units, faults)
    for name in sorted(signals.keys() - {c.what for c in columns if c.role == "signal"}):
        faults.add("headings", f"there is no column of the signal '{name}'", nearest(name, table.headings.values()))
    if not faults.found and not any(c.role in ("measured", "signal") for c in columns):
        faults.add("headings", "no column has observations", shape_of(vessel))
    faults.raise_any(path.name)
    runs = run_names(table, next((c.label for c in columns if c.role == "run"), None), faults)
    numbers = read_columns(table, columns, runs, detection_limits, faults)
    faults.raise_any(path.name)
    columns, numbers, lines = merge_columns(table, columns, numbers, faults)
    axes = [c for c in columns if c.role == "axis"]
    if len(axes) > 1:
        names = " and ".join(f"'{c.label}'" for c in axes)
        faults.add("headings", f"{names} are both axes of samples", "keep one")
    kept = complete_lines(table, [c.label for c in axes], {c: n.values for c, n in numbers.items()}, lines, faults)
    faults.raise_any(path.name)
    table.note_left_out(lines[~kept], "without a time or place")
    numbers = take_rows(numbers, kept)
    own_runs = None if runs is None else runs[lines[kept]]
    found = []
    for name, rows in _by_run(own_runs, columns, numbers, int(kept.sum())).items():
        with faults.at(f"run {name}"):
            found.append(_experiment(name, vessel, columns, take_rows(numbers, rows), signals, changes))
    faults.raise_any(path.name)
    show = {**vessel.spec.display.chosen}
    for column in columns:
        if column.unit is not None and column.kind and column.role != "signal":
            show[column.kind] = column.unit
    signal_notes = [f"column '{name}': {signal}" for name, signal in signals.items()]
    return Experiments(tuple(found), path.name, show, (), (*table.notes, *signal_notes))


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


def _meaning(heading: Heading, vessel: Vessel | Train, signals: Mapping[str, Signal]) -> Column:
    """The column of a heading in a table of a vessel."""
    role, what, kind = _subject(heading, vessel, signals)
    if heading.unit is not None and kind and role != "signal":
        units.expect(heading.unit, kind)
    return Column("", role, what, kind, heading.unit)


def _subject(heading: Heading, vessel: Vessel | Train, signals: Mapping[str, Signal]) -> tuple[str, str, str]:
    """Role, subject and kind of quantity of a column."""
    name = heading.name
    if not name:
        raise InputError("it has no name", "", "name it, or delete the column")
    signal = next((s for s in (heading.text, name) if s in signals), None)
    if signal is not None:
        return "signal", signal, ""
    if name == "run":
        return "run", "", ""
    name = "time" if name == "clock time" else name
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


def _by_run(
    runs: np.ndarray | None, columns: Sequence[Column], numbers: Mapping[str, ColumnNumbers], count: int
) -> dict[str, np.ndarray]:
    """The rows of each run: by its name, otherwise by the conditions."""
    if runs is not None:
        return {str(name): runs == name for name in dict.fromkeys(runs.tolist())}
    if any(c.role == "axis" for c in columns):
        return {"1": np.ones(count, dtype=bool)}
    conditions = [numbers[c.label].values for c in columns if c.role == "condition"]
    keys = [tuple(float(values[i]) for values in conditions) for i in range(count)]
    return {str(n): np.array([k == key for k in keys]) for n, key in enumerate(dict.fromkeys(keys), 1)}


def _experiment(
    name: str,
    vessel: Vessel | Train,
    columns: Sequence[Column],
    numbers: Mapping[str, ColumnNumbers],
    signals: Mapping[str, Signal],
    changes: Sequence[Change],
) -> Experiment:
    faults = Faults()
    axis = next((c for c in columns if c.role == "axis"), None)
    times = numbers[axis.label].values if axis is not None else None
    own = vessel
    for column in (c for c in columns if c.role == "condition"):
        with faults.at(f"column '{column.label}'"):
            values = numbers[column.label].values
            own = _under(own, column, values, times if axis and axis.what == "time" else None)
    readings = Readings()
    for column in (c for c in columns if c.role in ("measured", "signal")):
        with faults.at(f"column '{column.label}'"):
            read, response = numbers[column.label], column.what
            values, limits, deviations = read.values, read.limits, read.deviations
            if column.role == "signal":
                signal = signals[column.what]
                if not signal.is_response:
                    vessel.spec.expression(signal.metric)
                    response = response_of(signal.metric)
                values, limits, deviations = calibrated(signal, column, read, signal.read)
            else:
                scatter = [numbers[c.label].values for c in columns if (c.role, c.what) == ("deviation", column.what)]
                deviations = scatter[0] if scatter else deviations
            if np.isfinite(values).any():
                readings.add(response, values, limits, deviations)
    faults.raise_any()
    along = axis.what if axis is not None else ""
    if times is not None and along != "time":
        order = np.argsort(times, kind="stable")  # along a vessel the order of the lines is irrelevant
        times, readings = times[order], readings.sorted_by(order)
    return Experiment(
        name,
        times,  # type: ignore[arg-type]
        readings.measured,
        vessel=own,
        along=along,
        changes=changes,
        signals=own_signals(signals, readings),
        below=readings.below,
        above=readings.above,
        deviations=readings.deviations,
    )


def _under(vessel: Vessel | Train, column: Column, values: np.ndarray, times: np.ndarray | None) -> Vessel | Train:
    """The vessel under a condition that is constant in a run; that of a coolant may change over time."""
    known = values[np.isfinite(values)]
    if not len(known):
        return vessel
    if np.ptp(known) <= 1e-9 * max(abs(float(known[0])), 1.0):
        return vessel.with_({column.what: Value(float(known[0]), column.unit)})
    heat = getattr(vessel, "heat", None)  # a train has none of its own
    if column.what not in _PROFILES or times is None or not isinstance(heat, Jacket):
        raise InputError("it changes within the run", "", "a run has one condition: split it, or name the runs")
    seen = np.isfinite(values)
    points = [(float(t), Value(float(v), column.unit)) for t, v in zip(times[seen], values[seen], strict=True)]
    if points[0][0] > 0:
        points.insert(0, (0.0, points[0][1]))
    return vessel.with_(heat=replace(heat, T=points))
