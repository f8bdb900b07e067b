"""Finding tables in a sheet: titles above them, blank rows and columns, merged headings, several blocks."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import pandas as pd

from molino.core import units
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.desk.tables.cell_table import CellTable, TableOptions
from molino.desk.tables.cells import Sheet, letters, read_sheets
from molino.desk.tables.headings import read_heading
from molino.desk.tables.number_format import NAMES, is_number_like

_KNOWN = {"run", "time", "t", "temperature", "space time", "residence time", "rate", "name", "vessel"}


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


def read_table(source: str | Path | pd.DataFrame, shape: str, options: TableOptions) -> CellTable:
    """The table of a file or data frame as text.

    Parameters
    ----------
    source : str, Path or DataFrame
    shape : str
        The expected columns, for errors.
    options : TableOptions
        By default the first sheet with a table, and the headings that are found.

    Raises
    ------
    InputError
        For a file that cannot be read as a table, or has several that are not runs of one.
    """
    if options.decimal not in (None, *NAMES):
        raise InputError(f"decimal = {options.decimal!r}", "", "it is '.' or ','")
    sheets = read_sheets(source, options.sheet, options.separator)
    found = [(one, _blocks(one, options.header_row, options.columns)) for one in sheets]
    with_tables = [(one, blocks) for one, blocks in found if blocks]
    if not with_tables and options.header_row is None:  # texts alone
        weak = ((one, _blocks(one, one.rows[0][0], options.columns)) for one in sheets if one.rows)
        with_tables = [(one, blocks) for one, blocks in weak if blocks]
    if not with_tables:
        first, line = sheets[0], options.header_row
        where = f"line {line} has no headings" if line is not None else "there are headings but no data"
        raise InputError(where if first.rows else "the file is empty", first.path.name, shape)
    chosen, blocks = with_tables[0]
    if isinstance(options.columns, Mapping):
        _rename(chosen, blocks, options.columns)
    table = _joined(chosen, blocks)
    table.decimal = options.decimal
    others = [one.name for one in sheets if one is not chosen and one.rows]
    if others:
        table.remarks.append(f"other sheets not read: {', '.join(others)}")
    if isinstance(options.columns, Sequence) and not isinstance(options.columns, str):
        _select(table, list(options.columns))
    return table


def has_table(source: str | Path | pd.DataFrame, options: TableOptions) -> bool:
    """Whether a sheet has headings above numbers."""
    return any(_blocks(one, options.header_row, options.columns) for one in read_sheets(source, options.sheet))


def _rename(sheet: Sheet, blocks: list[_Block], names: Mapping[str, str | None]) -> None:
    """Headings by the given names, of columns by their heading or letter; None or '' leaves a column out."""
    faults, unused = Faults(), set(names)
    for block in blocks:
        own = {key: c for c in block.headings for key in (letters(c), read_heading(block.headings[c]).name)}
        own |= {heading: c for c, heading in block.headings.items()}
        places = {own[name]: name for name in names if name in own}
        unused -= {*places.values()}
        block.headings = {c: names[places[c]] or "" if c in places else h for c, h in block.headings.items()}
        block.headings = {c: heading for c, heading in block.headings.items() if heading}
    for name in sorted(unused):
        faults.add("columns", f"unknown column '{name}'", nearest(name, blocks[0].headings.values()))
    faults.raise_any(sheet.path.name)


def _select(table: CellTable, wanted: list[str]) -> None:
    """Only some columns, by their headings or names."""
    by_name = {read_heading(h).name: label for label, h in table.headings.items()}
    by_name |= {h: label for label, h in table.headings.items()}
    faults = Faults()
    for name in wanted:
        if name not in by_name:
            faults.add("columns", f"unknown column '{name}'", nearest(name, by_name))
    faults.raise_any(table.path.name)
    table.cells = table.cells[[by_name[name] for name in wanted]]


def _blocks(
    sheet: Sheet, header_row: int | None, columns: str | Sequence[str] | Mapping[str, str | None] | None
) -> list[_Block]:
    """The tables of a sheet."""
    rows = sheet.rows
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
        if is_number_like(cells[-1]) or is_number_like(cells[0]):  # most lines of a long table
            n += 1
            continue
        texts = [c for c, cell in enumerate(cells) if cell]
        is_title = len({cells[c] for c in texts}) < len(texts) - len(texts) // 2
        further = rows[n + 1][1]
        has_numbers = any(is_number_like(cells[c]) for c in texts)
        if is_title or has_numbers or (n and _are_units(cells, rows[n - 1][1], further)):
            n += 1
            continue
        below = n + 1
        if below + 1 < len(rows) and _are_units(further, cells, rows[below + 1][1]):
            below += 1
        data = rows[below][1]
        over = [c for c in texts if c < len(data) and data[c]]
        numbers = [c for c in over if is_number_like(data[c])]
        if len(numbers) * 2 >= len(over) and numbers and (not found or _looks_like(cells, rows[found[0]][1])):
            (found if len(texts) > 1 else single).append(n)
        n += 1
    return found or single[:1]


def _looks_like(cells: list[str], first: list[str]) -> bool:
    """Whether a later line has headings: those of the first, or known words, or with units."""
    own = {cell for cell in cells if cell}
    return own == {cell for cell in first if cell} or any(
        (one := read_heading(cell)).name.lower() in _KNOWN or _unit_of(one.unit) is not None for cell in own
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
    if not texts or any(is_number_like(row[c]) for c in texts) or any(is_number_like(cell) for cell in headings):
        return False
    if not all(c < len(headings) and headings[c] and read_heading(headings[c]).unit is None for c in texts):
        return False
    over = [c for c in texts if c < len(below) and is_number_like(below[c])]
    return bool(over) and any(_unit_of(row[c].strip("[]() ")) is not None for c in texts)


def _title_above(rows: list[tuple[int, list[str]]], n: int) -> int:
    """The first line of the title of a block with headings in a line."""
    while n > 0 and not any(is_number_like(cell) for cell in rows[n - 1][1]) and sum(map(bool, rows[n - 1][1])) <= 2:
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
        unit = _unit_of(read_heading(text).unit)
        if c in headings and unit is not None and read_heading(headings[c]).unit is None and not is_tall:
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
        kept = body
        if len(groups) > 1 or len(columns) < max(columns) + 1:
            kept = [(at, row) for at, row in body if any(c < len(row) and row[c] for c in columns)]
        title = next((upper[c][0] for c in columns if c in upper and not upper[c][1]), "")
        if len(groups) == 1:
            title = _title(rows, n)
        if kept:
            found.append(_Block(line, {c: headings[c] for c in columns}, kept, title))
    if len(groups) == 1 and sheet.separator:
        _check_widths(sheet, headings, body)
    return found


def _check_widths(sheet: Sheet, headings: dict[int, str], body: list[tuple[int, list[str]]]) -> None:
    """Raise InputError for lines of a CSV file with fewer or more cells than there are headings."""
    faults, width = Faults(), max(headings) + 1
    for line, row in body:
        if len(row) != width and ((len(row) < width and sum(map(bool, row)) > 1) or any(row[width:])):
            faults.add(f"line {line}", f"{len(row)} cells for {width} headings", "check the separators")
    faults.raise_any(sheet.path.name)


def _upper(sheet: Sheet, rows: list[tuple[int, list[str]]], n: int) -> dict[int, tuple[str, bool]]:
    """The text above each column in the line above the headings, and whether it is merged down into them."""
    if n == 0 or any(is_number_like(cell) for cell in rows[n - 1][1]) or rows[n][0] - rows[n - 1][0] > 1:
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
    return texts[0] if texts and not any(is_number_like(cell) for cell in texts) else ""


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
    frames, headings, columns = [], dict[str, str](), dict[str, int]()
    for block in blocks:
        labels = _labels(block.headings)
        headings |= {label: block.headings[c] for c, label in labels.items()}
        columns |= {label: c for c, label in labels.items()}
        frames.append(_frame(block, labels))
    if len(blocks) > 1:
        names = [{read_heading(h).name for h in b.headings.values()} for b in blocks]
        titles = [b.title for b in blocks]
        are_named = all(titles) and len({*titles}) == len(titles)
        if not are_named and any(own != names[0] for own in names):
            listed = "; ".join(b.label for b in blocks)
            advice = f"name one: header_row = {first.line}, or columns = 'A:C'"
            raise InputError(f"{len(blocks)} tables were found: {listed}", sheet.label, advice)
        runs = list[str]()
        for number, (title, frame) in enumerate(zip(titles, frames, strict=True), 1):
            own = next((label for label in frame.columns if read_heading(headings[label]).name == "run"), None)
            if own is None:
                frame.insert(0, "run", title if are_named else str(number))
                headings["run"], own = "run", "run"
            runs += list(dict.fromkeys(str(run) for run in frame[own] if run))
        remarks.append(f"{len(blocks)} blocks read as runs: {', '.join(dict.fromkeys(runs))}")
    frame = pd.concat(frames).fillna("") if len(frames) > 1 else frames[0]
    place = f"{sheet.label}, headings in line {lines}"
    return CellTable(
        sheet.path, frame, place, headings, columns, is_comma_separated=sheet.separator == ",", remarks=remarks
    )


def _labels(headings: Mapping[int, str]) -> dict[int, str]:
    """A label of each column: its heading, with a number if it is repeated."""
    found = dict[int, str]()
    for c, heading in headings.items():
        count = sum(other == heading for at, other in headings.items() if at < c)
        found[c] = f"{heading} ({count + 1})" if count else heading
    return found


def _frame(block: _Block, labels: Mapping[int, str]) -> pd.DataFrame:
    lines = [line for line, _ in block.rows]
    columns = {label: [row[c] if c < len(row) else "" for _, row in block.rows] for c, label in labels.items()}
    return pd.DataFrame(columns, index=lines, dtype=object)
