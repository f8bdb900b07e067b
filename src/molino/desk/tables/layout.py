"""Finding tables in a sheet: titles above them, blank rows and columns, merged headings, several blocks."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.desk.tables.cells import Sheet, heading_parts, is_number, letters, read_sheets

MISSING = {"", "-", "–", "—", "n/a", "na", "nan", "null", "none", "n.d.", "nd", ".", "*", "n.a."}
"""Texts that mean that nothing was measured."""
_KNOWN = {"run", "time", "t", "temperature", "space time", "residence time", "rate", "name", "vessel"}
_LARGEST = 1e30
"""Beyond this a number is not a measurement."""
_LISTED = 5  # unreadable cells


@dataclass
class _Block:
    """A table within a sheet: its headings by column, and its lines."""

    line: int
    """Of the headings."""
    headings: dict[int, str]
    rows: list[tuple[int, list[str]]]
    title: str = ""

    @property
    def label(self) -> str:
        columns = sorted(self.headings)
        place = f"line {self.line}, columns {letters(columns[0])}:{letters(columns[-1])}"
        return f"{place} ({', '.join(list(self.headings.values())[:4])})"


@dataclass
class CellTable:
    """A table as text.

    Attributes
    ----------
    path : Path
        Its name in messages.
    cells : DataFrame
        Texts under their headings, indexed by line.
    place : str
        Where it was found.
    remarks : list of str
    unreadable : list of str
        Cells that are neither numbers nor empty, as 'D7 '#DIV/0!''.
    """

    path: Path
    cells: pd.DataFrame
    place: str
    columns: dict[str, int] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)

    def numbers(self, heading: str, faults: Faults) -> np.ndarray:
        """A column as numbers; nan for empty cells and for unreadable ones, which are listed.

        If at least half of it cannot be read, it is a fault.
        """
        texts = self.cells[heading].to_numpy(dtype=object)
        numbers = np.array(pd.to_numeric(pd.Series(texts, dtype=object), errors="coerce"), dtype=float)
        numbers[~(np.abs(numbers) <= _LARGEST)] = np.nan
        missing = np.array([text.lower() in MISSING for text in texts])
        wrong = np.flatnonzero(np.isnan(numbers) & ~missing)
        if len(wrong) and len(wrong) * 2 >= len(texts) - int(missing.sum()):
            for i in wrong[:3].tolist():
                line = self.cells.index[i]
                advice = "write a number, or leave the cell empty where nothing was measured"
                faults.add(f"line {line}, column '{heading}'", f"'{_short(texts[i])}' is not a number", advice)
        else:
            column = letters(self.columns.get(heading, 0))
            self.unreadable += [f"{column}{self.cells.index[i]} '{_short(texts[i])}'" for i in wrong.tolist()]
        return numbers

    def keep(self, rows: np.ndarray, why: str) -> None:
        """Leave lines out, with a remark."""
        if rows.all():
            return
        gone = [str(line) for line in self.cells.index[~rows]]
        listed = ", ".join(gone[:_LISTED]) + (", ..." if len(gone) > _LISTED else "")
        self.remarks.append(f"{len(gone)} line{'s' * (len(gone) > 1)} left out, {why}: {listed}")
        self.cells = self.cells[rows]

    @property
    def notes(self) -> tuple[str, ...]:
        """Remarks on the reading, and the unreadable cells."""
        lines, columns = self.cells.shape
        count = len(self.unreadable)
        listed = ", ".join(self.unreadable[:_LISTED]) + (", ..." if count > _LISTED else "")
        cells = f"{count} cell{'s' * (count != 1)} could not be read" + (f": {listed}" if count else "")
        return (f"{self.place}: {lines} lines of {columns} columns read; {cells}", *self.remarks)


def read_table(
    source: str | Path | pd.DataFrame,
    sheet: str | None,
    shape: str,
    header_row: int | None = None,
    columns: str | Sequence[str] | None = None,
) -> CellTable:
    """The table of a file or data frame as text.

    Parameters
    ----------
    source : str, Path or DataFrame
    sheet : str, optional
        Of an .xlsx file; by default the first with a table.
    shape : str
        The expected columns, for errors.
    header_row : int, optional
        The line of the headings, if it is not found automatically.
    columns : str or sequence of str, optional
        The columns of the table: "B:E", or headings.

    Raises
    ------
    InputError
        For a file that cannot be read as a table, or has several that are not runs of one.
    """
    sheets = read_sheets(source, sheet)
    found = [(one, _blocks(one, header_row, columns)) for one in sheets]
    with_tables = [(one, blocks) for one, blocks in found if blocks]
    if not with_tables and header_row is None:  # texts alone
        weak = ((one, _blocks(one, one.rows[0][0], columns)) for one in sheets if one.rows)
        with_tables = [(one, blocks) for one, blocks in weak if blocks]
    if not with_tables:
        first = sheets[0]
        where = f"line {header_row} has no headings" if header_row is not None else "there are headings but no data"
        raise InputError(where if first.rows else "the file is empty", first.path.name, shape)
    chosen, blocks = with_tables[0]
    table = _joined(chosen, blocks)
    others = [one.name for one in sheets if one is not chosen and one.rows]
    if others:
        table.remarks.append(f"other sheets not read: {', '.join(others)}")
    if not isinstance(columns, str | None):
        _select(table, list(columns))
    return table


def complete_lines(
    table: CellTable, axes: Sequence[str], numbers: Mapping[str, np.ndarray], faults: Faults
) -> np.ndarray:
    """The complete lines; one with numbers and an empty cell is a fault, a comment is not."""
    kept = np.ones(len(table.cells), dtype=bool)
    for heading in axes:
        known = np.isfinite(numbers[heading])
        others = [values for name, values in numbers.items() if name not in axes]
        has_numbers = np.any([np.isfinite(values) for values in others], axis=0) if others else known
        is_empty = np.array([cell == "" for cell in table.cells[heading]])
        for i in np.flatnonzero(~known & has_numbers & is_empty).tolist():
            place = f"line {table.cells.index[i]}, column '{heading}'"
            faults.add(place, "it is missing", "write it, or delete the line")
        kept &= known
    if not kept.any() and not faults.found:
        faults.add("lines", "no line has a time", "check the columns and units")
    return kept


def _select(table: CellTable, wanted: list[str]) -> None:
    """Only some columns, by their headings or names."""
    by_name = {heading_parts(h)[0]: h for h in table.cells.columns} | {str(h): str(h) for h in table.cells.columns}
    faults = Faults()
    for name in wanted:
        if name not in by_name:
            faults.add("columns", f"unknown column '{name}'", nearest(name, by_name))
    faults.raise_any(table.path.name)
    table.cells = table.cells[[by_name[name] for name in wanted]]


def _blocks(sheet: Sheet, header_row: int | None, columns: str | Sequence[str] | None) -> list[_Block]:
    """The tables of a sheet."""
    rows = [(line, list(row)) for line, row in sheet.rows]
    if isinstance(columns, str):
        first, last = _range_of(columns, sheet.path.name)
        rows = [(line, [cell if first <= c <= last else "" for c, cell in enumerate(row)]) for line, row in rows]
        rows = [(line, row) for line, row in rows if any(row)]
    places = _heading_places(rows)
    wanted = places if header_row is None else [n for n, (line, _) in enumerate(rows) if line == header_row]
    found = []
    for n in wanted:
        end = next((_title_above(rows, further) for further in places if further > n), len(rows))
        found += _side_by_side(sheet, rows, n, end)
    return found


def _range_of(columns: str, name: str) -> tuple[int, int]:
    match = re.fullmatch(r"\s*([A-Za-z]{1,3})\s*:\s*([A-Za-z]{1,3})\s*", columns)
    if not match:
        raise InputError(f"'{columns}' are no columns", name, "write the first and the last, like 'B:E'")
    first, last = (_place_of(text.upper()) for text in match.groups())
    return min(first, last), max(first, last)


def _place_of(text: str) -> int:
    found = 0
    for letter in text:
        found = 26 * found + ord(letter) - ord("A") + 1
    return found - 1


def _heading_places(rows: list[tuple[int, list[str]]]) -> list[int]:
    """The lines of headings: texts above numbers, with an optional line of units between."""
    found: list[int] = []
    single: list[int] = []
    n = 0
    while n < len(rows) - 1:
        cells = rows[n][1]
        texts = [c for c, cell in enumerate(cells) if cell]
        is_title = len({cells[c] for c in texts}) < len(texts) - len(texts) // 2
        further = rows[n + 1][1]
        if is_title or any(is_number(cells[c]) for c in texts) or (n and _are_units(cells, rows[n - 1][1], further)):
            n += 1
            continue
        below = n + 1
        if below + 1 < len(rows) and _are_units(further, cells, rows[below + 1][1]):
            below += 1
        data = rows[below][1]
        over = [c for c in texts if c < len(data) and data[c]]
        numbers = [c for c in over if is_number(data[c])]
        if len(numbers) * 2 >= len(over) and numbers and (not found or _looks_like(cells, rows[found[0]][1])):
            (found if len(texts) > 1 else single).append(n)
        n += 1
    return found or single[:1]


def _looks_like(cells: list[str], first: list[str]) -> bool:
    """Whether a later line has headings: those of the first, or known words, or with units."""
    own = {cell for cell in cells if cell}
    return own == {cell for cell in first if cell} or any(
        heading_parts(cell)[0].lower() in _KNOWN or _unit_of(heading_parts(cell)[1]) is not None for cell in own
    )


def _unit_of(text: str | None) -> str | None:
    """A text if it is a unit."""
    try:
        return units.unit(text).text if text else None
    except UnitError:
        return None


def _are_units(row: list[str], headings: list[str], below: list[str]) -> bool:
    """Whether a line has the units of the headings above it: texts between texts and numbers, at least one of them a
    unit."""
    texts = [c for c, cell in enumerate(row) if cell]
    if not texts or any(is_number(row[c]) for c in texts) or any(is_number(cell) for cell in headings):
        return False
    if not all(c < len(headings) and headings[c] for c in texts) or any(heading_parts(h)[1] for h in headings):
        return False
    over = [c for c in texts if c < len(below) and is_number(below[c])]
    return bool(over) and any(_unit_of(row[c].strip("[]() ")) is not None for c in texts)


def _title_above(rows: list[tuple[int, list[str]]], n: int) -> int:
    """The first line of the title of a block with headings in a line."""
    while n > 0 and not any(is_number(cell) for cell in rows[n - 1][1]) and sum(map(bool, rows[n - 1][1])) <= 2:
        n -= 1
    return n


def _side_by_side(sheet: Sheet, rows: list[tuple[int, list[str]]], n: int, end: int) -> list[_Block]:
    """The blocks below one line of headings."""
    line, cells = rows[n]
    upper = _upper(sheet, rows, n)
    body = rows[n + 1 : end]
    headings = {c: cell for c, cell in enumerate(cells) if cell}
    for c, (text, is_tall) in upper.items():  # headings merged downward, and units of merged headings
        if c not in headings and is_tall:
            headings[c] = text
        unit = _unit_of(heading_parts(text)[1])
        if c in headings and unit is not None and heading_parts(headings[c])[1] is None and not is_tall:
            headings[c] = f"{headings[c]} [{unit}]"
    headings = dict(sorted(headings.items()))
    own_headings = [headings.get(c, "") for c in range(max(headings) + 1)]
    if len(body) > 1 and _are_units(body[0][1], own_headings, body[1][1]):
        faults, (at, own) = Faults(), body[0]
        for c in headings:
            unit = own[c].strip("[]() ") if c < len(own) else ""
            if unit and _unit_of(unit) is None:
                faults.add(f"line {at}, column '{headings[c]}'", f"'{unit}' is not a unit", "correct it")
            headings[c] = f"{headings[c]} [{unit}]" if unit else headings[c]
        faults.raise_any(sheet.path.name)
        body = body[1:]
    groups = _groups(headings)
    found = []
    for columns in groups:
        kept = [(at, row) for at, row in body if any(c < len(row) and row[c] for c in columns)]
        title = next((upper[c][0] for c in columns if c in upper and not upper[c][1]), "")
        if len(groups) == 1:
            title = _title(rows, n)
        if kept:
            found.append(_Block(line, {c: headings[c] for c in columns}, kept, title))
    if len(groups) == 1 and sheet.is_ragged:
        _check_widths(sheet, headings, body)
    return found


def _check_widths(sheet: Sheet, headings: dict[int, str], body: list[tuple[int, list[str]]]) -> None:
    """Raise InputError for lines of a CSV file with fewer or more cells than there are headings."""
    faults, width = Faults(), max(headings) + 1
    for line, row in body:
        if (len(row) < width and sum(map(bool, row)) > 1) or any(row[width:]):
            faults.add(f"line {line}", f"{len(row)} cells for {width} headings", "check the separators")
    faults.raise_any(sheet.path.name)


def _upper(sheet: Sheet, rows: list[tuple[int, list[str]]], n: int) -> dict[int, tuple[str, bool]]:
    """The text above each column in the line above the headings, and whether it is merged down into them."""
    if n == 0 or any(is_number(cell) for cell in rows[n - 1][1]) or rows[n][0] - rows[n - 1][0] > 1:
        return {}
    line, above = rows[n - 1]
    spans = {first: (bottom, last) for top, bottom, first, last in sheet.merged if top <= line <= bottom}
    found: dict[int, tuple[str, bool]] = {}
    filled = [c for c, cell in enumerate(above) if cell]
    for place, c in enumerate(filled):
        bottom, last = spans.get(c, (line, c))
        if c not in spans and not sheet.merged:  # CSV: up to the next
            last = filled[place + 1] - 1 if place + 1 < len(filled) else len(rows[n][1]) - 1
        alone = c >= len(rows[n][1]) or not rows[n][1][c]
        for column in range(c, last + 1):
            found[column] = (above[c], bottom > line or (alone and column == c))
    return found


def _title(rows: list[tuple[int, list[str]]], n: int) -> str:
    """The text right above the headings of a block."""
    if n == 0:
        return ""
    texts = [cell for cell in rows[n - 1][1] if cell]
    return texts[0] if texts and not any(is_number(cell) for cell in texts) else ""


def _groups(headings: dict[int, str]) -> list[list[int]]:
    """The columns of each block: a repeated heading begins another."""
    groups: list[list[int]] = [[]]
    seen: set[str] = set()
    for c, heading in headings.items():
        if heading in seen:
            groups.append([])
            seen = set()
        groups[-1].append(c)
        seen.add(heading)
    first = headings[groups[0][0]]
    whole = all(headings[group[0]] == first for group in groups)  # otherwise a heading is merely repeated
    return groups if whole else [list(headings)]


def _joined(sheet: Sheet, blocks: list[_Block]) -> CellTable:
    """One block, or several as runs of one table."""
    first = blocks[0]
    lines = " and ".join(dict.fromkeys(str(b.line) for b in blocks))
    remarks = list(sheet.notes)
    if len(blocks) == 1:
        faults = Faults()
        names = list(first.headings.values())
        for heading in sorted({h for h in names if names.count(h) > 1}):
            faults.add("headings", f"'{heading}' appears twice", "keep one, or name the columns: columns = 'A:C'")
        faults.raise_any(sheet.path.name)
        frame = _frame(first)
    else:
        alike = all(set(b.headings.values()) == set(first.headings.values()) for b in blocks)
        titles = [b.title for b in blocks]
        if not alike and (not all(titles) or len({*titles}) < len(titles)):
            listed = "; ".join(b.label for b in blocks)
            advice = f"name one: header_row = {first.line}, or columns = 'A:C'"
            raise InputError(f"{len(blocks)} tables were found: {listed}", sheet.label, advice)
        frames = []
        for number, block in enumerate(blocks, 1):
            frame = _frame(block)
            if not any(heading_parts(h)[0].lower() == "run" for h in frame.columns):
                name = block.title if len({*titles}) == len(titles) and block.title else str(number)
                frame.insert(0, "run", name)
            frames.append(frame)
        frame = pd.concat(frames).fillna("")
        remarks.append(f"{len(blocks)} blocks read as runs: {', '.join(dict.fromkeys(frame['run']))}")
    columns = {heading: c for block in blocks for c, heading in block.headings.items()}
    return CellTable(sheet.path, frame, f"{sheet.label}, headings in line {lines}", columns, remarks)


def _frame(block: _Block) -> pd.DataFrame:
    columns = list(block.headings)
    body = [[row[c] if c < len(row) else "" for c in columns] for _, row in block.rows]
    lines = [line for line, _ in block.rows]
    return pd.DataFrame(body, columns=list(block.headings.values()), index=lines, dtype=object)


def _short(text: str) -> str:
    return text if len(text) <= 30 else text[:27] + "..."
