"""The columns of a table: their meanings, units and numbers in SI."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.signals import Signal
from molino.core.unit_tables import EXAMPLES, SI_UNITS
from molino.desk.tables.cell_table import MISSING, CellTable
from molino.desk.tables.clock import has_clock, is_clock, seconds_of
from molino.desk.tables.headings import Heading, read_heading
from molino.desk.tables.number_format import ColumnNumbers, is_number_like

_TEXTS = ("run", "vessel")
"""The roles of columns of texts."""
OBSERVED = ("measured", "signal", "deviation")
"""The roles of columns that may be repeated: replicates."""
_COLDEST = 150.0
"""A temperature below it, in a table without units, is hardly in K."""


@dataclass(frozen=True)
class Column:
    """A column: its role, subject, kind of quantity and unit.

    Roles are 'run', 'vessel', 'time', 'space time', 'axis', 'temperature', 'initial', 'condition', 'rate', 'measured',
    'signal', and 'deviation' (the standard deviations of another column). `molar_mass` turns mass concentrations into
    molar ones.
    """

    label: str
    role: str
    what: str
    kind: str
    unit: str | None
    clock: str = ""
    molar_mass: float = 1.0

    def to_si(self, numbers: Any) -> Any:
        return (units.unit(self.unit).to_si(numbers) if self.unit and self.kind else numbers) / self.molar_mass

    def difference_to_si(self, numbers: Any) -> Any:
        """A standard deviation in SI."""
        return numbers * (units.unit(self.unit).factor if self.unit and self.kind else 1.0) / self.molar_mass


Meaning = Callable[[Heading], Column]
"""The column of a heading; the label is added by the caller. InputError for a heading without a meaning."""


def decide_columns(table: CellTable, meaning: Meaning, given_units: Mapping[str, str], faults: Faults) -> list[Column]:
    """The meaning of each column; every decision that is not written in its heading is a remark of the table."""
    _join_dates(table)
    found: list[Column] = []
    unused: dict[str, list[str]] = {}
    labels = [str(label) for label in table.cells.columns]
    conditions = [label for label in labels if read_heading(table.headings[label]).form == "quantity"]
    if conditions:
        listed = ", ".join(f"'{label}'" for label in conditions)
        message = f"{listed}: a condition, and not the name of a species"
        advice = "if each column is a run: response = 'A [mol/L]'; otherwise name them: columns = {...}"
        faults.add(f"column{'s' * (len(conditions) > 1)}", message, advice)
    for label in (label for label in labels if label not in conditions):
        heading = read_heading(table.headings[label])
        why = _why_unused(table, label, heading)
        if why:
            unused.setdefault(why, []).append(heading.text)
            continue
        with faults.at(f"column '{label}'"):
            column = _deviation(heading, found, meaning) if heading.form == "deviation" else meaning(heading)
            found.append(replace(column, label=label, clock=heading.clock))
    for why, headings in unused.items():
        listed = ", ".join(f"'{heading}'" for heading in headings)
        table.remarks.append(f"column{'s' * (len(headings) > 1)} {listed} not used: {why}")
    found = _with_units(table, found, given_units, faults)
    read = {c.label: read_heading(table.headings[c.label]) for c in found}
    changed = [
        f"'{h.text}' as {h.canonical}" for h in dict.fromkeys(read.values())
        if h.canonical != h.text.strip().replace("(", "[").replace(")", "]") and h.form != "deviation"
    ]  # fmt: skip
    changed += [f"'{read[c.label].text}' as standard deviations of {c.what}" for c in found if c.role == "deviation"]
    if changed:
        table.remarks.append(f"headings read: {', '.join(changed)}")
    return found


def _why_unused(table: CellTable, label: str, heading: Heading) -> str:
    """The reason for which a column is left out; '' if it is used."""
    if heading.form == "computed":
        return "computed from others"
    if heading.name in ("sample", "date") and heading.unit is None:
        return f"it has no measurement ({heading.name})"
    if heading.name in _TEXTS or heading.unit or heading.clock:
        return ""
    texts = [text for text in table.cells[label] if text.lower() not in MISSING]
    return "no numbers" if texts and not any(is_number_like(text) for text in texts) else ""


def _join_dates(table: CellTable) -> None:
    """Dates of a separate column before the times of day."""
    names = {read_heading(table.headings[label]).name: label for label in table.cells.columns}
    time = names.get("clock time", names.get("time"))
    if "date" in names and time is not None:
        cells = table.cells[time]
        dates = table.cells[names["date"]].replace("", None).ffill().fillna("").str.split(" ").str[0]
        if has_clock(cells) and cells.map(lambda text: not text or is_clock(text)).all():
            table.cells[time] = [f"{d} {t}".strip() if t else "" for d, t in zip(dates, cells, strict=True)]
            table.cells = table.cells.drop(columns=names["date"])
            table.remarks.append(f"column '{names['date']}' read with '{time}'")


def _deviation(heading: Heading, before: Sequence[Column], meaning: Meaning) -> Column:
    """A column of standard deviations: of its name, or of the measured column before it."""
    if heading.name:
        of = meaning(replace(heading, form="plain"))
        unit = heading.unit or next((c.unit for c in before if (c.role, c.what) == (of.role, of.what)), None)
        of = replace(of, unit=unit)
    else:
        measured = [c for c in before if c.role in ("measured", "signal")]
        if not measured:
            raise InputError("it follows no measured column", "", "name it 'SD of A [mol/L]'")
        of = replace(measured[-1], unit=heading.unit or measured[-1].unit)
    return replace(of, role="deviation")


def _with_units(table: CellTable, columns: list[Column], given: Mapping[str, str], faults: Faults) -> list[Column]:
    """The units of columns without one: as given for their kind, or SI if no column has a unit."""
    found, bare = [], list[Column]()
    for column in columns:
        if column.unit is None and column.kind in given and not column.clock:
            column = replace(column, unit=given[column.kind])
        if column.kind == "time" and (column.clock or has_clock(table.cells[column.label])):
            column = replace(column, unit="min")  # of results; the texts are read in s
        if column.unit is None and column.kind and SI_UNITS[column.kind] and column.role != "signal":
            bare.append(column)
        found.append(column)
    own = [c for c in bare if c.role != "deviation"]
    if own and len(own) < sum(bool(c.kind and SI_UNITS[c.kind]) and c.role != "deviation" for c in columns):
        for column in own:
            name = read_heading(table.headings[column.label]).name
            like = units.split(EXAMPLES[column.kind])[1]
            advice = f"write it in the heading, '{name} [{like}]', or give units = {{{column.kind!r}: {like!r}}}"
            if column.role == "measured":
                advice += f"; or leave the column out: columns = {{{name!r}: ''}}"
            faults.add(f"column '{column.label}'", f"its unit is not known ({column.kind})", advice)
    elif own:
        kinds = dict.fromkeys(c.kind for c in own)
        listed = ", ".join(f"{kind} in {units.pretty(SI_UNITS[kind])}" for kind in kinds)
        table.remarks.append(f"no heading has a unit: {listed}")
        for column in (c for c in own if c.kind == "temperature"):
            numbers = table.numbers(column.label, Faults()).values
            if (numbers < _COLDEST).any():
                advice = "write 'T [degC]' or 'T [K]' in the heading, or give units = {'temperature': 'degC'}"
                faults.add(f"column '{column.label}'", f"{np.nanmin(numbers):g} may be degC or K", advice)
    return found


def run_names(table: CellTable, label: str | None, faults: Faults) -> np.ndarray | None:
    """The run of each line; an empty cell has that of the line above."""
    if label is None:
        return None
    texts = table.cells[label].str.strip()
    filled = texts.replace("", None).ffill().fillna("")
    count = int(((texts == "") & (filled != "")).sum())
    if count:
        table.remarks.append(f"{count} line{'s' * (count > 1)} without a run belong to the run above")
    for line in table.cells.index[filled == ""]:
        faults.add(f"line {line}", "no run is named", "write the run in each line, or in the first of each run")
    return np.asarray(filled.to_numpy(dtype=object))


def read_columns(
    table: CellTable,
    columns: Sequence[Column],
    runs: np.ndarray | None,
    detection_limits: Mapping[str, Any],
    faults: Faults,
) -> dict[str, ColumnNumbers]:
    """The numbers of each column that is not of texts, in SI, by label."""
    found: dict[str, ColumnNumbers] = {}
    undetected = dict[str, float]()
    for name in detection_limits:
        own = [c for c in columns if c.role in ("measured", "signal") and c.what == name]
        if not own:
            known = [c.what for c in columns if c.role == "measured"]
            faults.add("detection_limits", f"there is no column of '{name}'", nearest(name, known))
        for column in own:
            with faults.at(f"detection_limits, {name}"):
                limit = units.read(detection_limits[name], column.kind if column.role == "measured" else None).si
                undetected[column.label] = units.unit(column.unit).from_si(limit) if column.unit else limit
    for column in (c for c in columns if c.role not in _TEXTS):
        texts = table.cells[column.label]
        if column.kind == "time" and (column.clock or has_clock(texts)):
            with faults.at(f"column '{column.label}'"):
                found[column.label] = _times(table, column, runs)
            continue
        read = table.numbers(column.label, faults, undetected.get(column.label))
        if column.role not in ("measured", "signal") and read.limits.any():
            line = int(np.flatnonzero(read.limits)[0])
            message = f"'{texts.iloc[line]}' is a limit, not a {column.kind or 'number'}"
            faults.add(f"line {table.cells.index[line]}, column '{column.label}'", message, "write a number")
        if column.role == "deviation":
            values = np.asarray(column.difference_to_si(read.values))
            if (values[np.isfinite(values)] <= 0).any():
                line = table.cells.index[int(np.flatnonzero(values <= 0)[0])]
                advice = "leave the cell empty if it is unknown"
                faults.add(f"line {line}, column '{column.label}'", "a standard deviation is above zero", advice)
            found[column.label] = replace(read, values=values)
        else:
            values, deviations = column.to_si(read.values), column.difference_to_si(read.deviations)
            found[column.label] = ColumnNumbers(np.asarray(values), read.limits, np.asarray(deviations))
    return found


def _times(table: CellTable, column: Column, runs: np.ndarray | None) -> ColumnNumbers:
    texts = [str(text) for text in table.cells[column.label]]
    names = np.zeros(len(texts), dtype=object) if runs is None else runs
    rows = [np.flatnonzero(names == name) for name in dict.fromkeys(names.tolist())]
    is_of_day = read_heading(table.headings[column.label]).name == "clock time"
    seconds, remark = seconds_of(texts, column.clock, rows, is_of_day)
    table.remarks.append(f"column '{column.label}': {remark}")
    return ColumnNumbers(seconds, np.zeros(len(texts), dtype=int), np.full(len(texts), np.nan))


def merge_columns(
    table: CellTable, columns: list[Column], numbers: dict[str, ColumnNumbers], faults: Faults
) -> tuple[list[Column], dict[str, ColumnNumbers], np.ndarray]:
    """Columns of one subject as one: blocks with different units below each other, and replicates side by side.

    Returns
    -------
    columns, numbers
        With one column of each subject.
    lines : array of int
        The line of the table (from 0) of each row of `numbers`; replicates of a line are rows of their own.
    """
    count = len(table.cells)
    groups: dict[tuple[str, str], list[Column]] = {}
    for column in columns:
        groups.setdefault((column.role, column.what), []).append(column)
    copies: dict[str, list[ColumnNumbers]] = {}
    for (role, what), group in groups.items():
        own = [numbers[c.label] for c in group if c.label in numbers]
        if len(group) == 1 or len(own) < len(group):
            if len(group) > 1:
                faults.add("headings", f"two columns for {what or f'the {role}'}", "keep one")
            copies[group[0].label] = own
            continue
        if (np.sum([np.isfinite(one.values) for one in own], axis=0) <= 1).all():
            copies[group[0].label] = [_coalesced(own)]
        elif role in OBSERVED and len({table.headings[c.label] for c in group}) == 1:
            copies[group[0].label] = own
            if role != "deviation":
                table.remarks.append(f"{len(group)} columns '{group[0].label}' read as replicates")
        else:
            listed = " and ".join(f"'{table.headings[c.label]}'" for c in group)
            faults.add("headings", f"two columns for {what or f'the {role}'}: {listed}", "keep one, or name both alike")
            copies[group[0].label] = own[:1]
    kept = [group[0] for group in groups.values()]
    most = max((len(own) for own in copies.values()), default=1)
    if most <= 1:
        return kept, {label: own[0] for label, own in copies.items() if own}, np.arange(count)
    role_of = {c.label: c.role for c in kept}
    lines, copy = np.repeat(np.arange(count), most), np.tile(np.arange(most), count)
    stacked = {
        label: _stacked(own, lines, copy, role_of[label] in OBSERVED) for label, own in copies.items() if own
    }  # fmt: skip
    seen = [np.isfinite(stacked[c.label].values) for c in kept if c.role in ("measured", "signal")]
    used = (copy == 0) | np.any(seen, axis=0)
    return kept, {label: _rows_of(own, used) for label, own in stacked.items()}, lines[used]


def _rows_of(numbers: ColumnNumbers, rows: np.ndarray) -> ColumnNumbers:
    return ColumnNumbers(numbers.values[rows], numbers.limits[rows], numbers.deviations[rows])


def take_rows(numbers: Mapping[str, ColumnNumbers], rows: np.ndarray) -> dict[str, ColumnNumbers]:
    """Some rows of all columns."""
    return {label: _rows_of(own, rows) for label, own in numbers.items()}


@dataclass
class Readings:
    """The observations of one run while they are read, by response, each of shape (samples,)."""

    measured: dict[str, np.ndarray] = field(default_factory=dict)
    below: dict[str, np.ndarray] = field(default_factory=dict)
    above: dict[str, np.ndarray] = field(default_factory=dict)
    deviations: dict[str, np.ndarray] = field(default_factory=dict)

    def add(self, response: str, values: np.ndarray, limits: np.ndarray, deviations: np.ndarray) -> None:
        """The values of a column: those with a limit are not measured."""
        if response in self.measured:
            raise InputError(f"{response} is also measured in another column", "", "keep one")
        self.measured[response] = np.where(limits == 0, values, np.nan)
        for side, own in ((-1, self.below), (1, self.above)):
            if (limits == side).any():
                own[response] = np.where(limits == side, values, np.nan)
        if np.isfinite(deviations).any():
            self.deviations[response] = deviations

    def sorted_by(self, order: np.ndarray) -> Readings:
        by_kind = (self.measured, self.below, self.above, self.deviations)
        return Readings(*({r: v[order] for r, v in own.items()} for own in by_kind))


def calibrated(
    signal: Signal, column: Column, own: ColumnNumbers, read: Callable[[np.ndarray, str | None], np.ndarray]
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Values, limits and standard deviations of a column with a signal: in SI if it is a response of the fit, otherwise
    those that `read` gives for it."""
    if signal.is_response:
        unit = units.expect(column.unit or "", signal.kind, column.label)
        return unit.to_si(own.values), own.limits, own.deviations * unit.factor
    zero, one = read(np.array([0.0, 1.0]), column.unit).tolist()
    return read(own.values, column.unit), own.limits * int(np.sign(one - zero)), own.deviations * abs(one - zero)


def own_signals(signals: Mapping[str, Signal], readings: Readings) -> dict[str, Signal]:
    """The signals of a run that are responses of the fit."""
    return {name: signal for name, signal in signals.items() if signal.is_response and name in readings.measured}


def _coalesced(own: Sequence[ColumnNumbers]) -> ColumnNumbers:
    """One column from several, each of which has the lines that the others lack."""
    first = own[0]
    values, limits, deviations = first.values.copy(), first.limits.copy(), first.deviations.copy()
    for other in own[1:]:
        lacking = np.isnan(values)
        values[lacking], limits[lacking] = other.values[lacking], other.limits[lacking]
        deviations[lacking] = other.deviations[lacking]
    return ColumnNumbers(values, limits, deviations)


def _stacked(own: Sequence[ColumnNumbers], lines: np.ndarray, copy: np.ndarray, is_observed: bool) -> ColumnNumbers:
    """The rows of replicates: those of each column in turn; a single observation once, anything else in each row."""
    if not is_observed:
        return _rows_of(own[0], lines)
    found = _rows_of(own[0], lines)
    for n in range(1, int(copy.max()) + 1):
        here = copy == n
        if n < len(own):
            part = _rows_of(own[n], lines[here])
            found.values[here], found.limits[here], found.deviations[here] = part.values, part.limits, part.deviations
        else:
            found.values[here], found.limits[here], found.deviations[here] = np.nan, 0, np.nan
    return found


def melted(table: CellTable, response: str, axes: Sequence[str]) -> CellTable:
    """A table with a run in each column but those of the axes: the heading is the name of the run."""
    labels = [str(label) for label in table.cells.columns]
    kept = [label for label in labels if read_heading(table.headings[label]).name in axes]
    others = [label for label in labels if label not in kept]
    if not kept or not others:
        message = "no column has times" if not kept else "there is only the column of times"
        raise InputError(message, table.path.name, "'response' is for a column of times and a column of each run")
    frames = []
    for label in others:
        frame = table.cells[kept].copy()
        frame.insert(0, "run", table.headings[label])
        frame[response] = table.cells[label]
        frames.append(frame[frame[response] != ""])
    headings = {"run": "run", response: response} | {label: table.headings[label] for label in kept}
    remark = f"each column is a run of {response}"
    places = {label: table.columns[label] for label in kept}
    return replace(table, cells=pd.concat(frames), headings=headings, columns=places, remarks=[*table.remarks, remark])
