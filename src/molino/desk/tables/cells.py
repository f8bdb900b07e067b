"""The cells of a table file as text: CSV in the encodings and separators of laboratories, XLSX with merged cells."""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from itertools import pairwise
from operator import attrgetter
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from molino.core.errors import InputError
from molino.desk.tables.number_format import NumberCell

MOST_ROWS = 2_000_000
"""The longest table."""
_MOST_BYTES = 300_000_000
_BOOKS = (".xlsx", ".xlsm")
_LIKE = str.maketrans({"\u2212": "-", "\xa0": " ", "\u202f": " ", "\u2009": " "})
"""Signs and blanks of typesetting, and those of a keyboard."""
_LINE = re.compile("[^\r\n]*(?:\r\n|\r|\n|$)")
_SEPARATORS = {";": "semicolons", "\t": "tabs", ",": "commas"}


@dataclass
class Sheet:
    """The cells of one sheet, or of a CSV file: texts with their lines and columns.

    Attributes
    ----------
    path : Path
        Its name in messages.
    rows : list of (line, cells)
        Lines that are not empty, from 1; cells from column A.
    name : str
        Of the sheet; '' for a CSV file.
    merged : list of (first line, last line, first column, last column)
        Cells that are merged; columns from 0.
    notes : list of str
        Notes on the reading.
    separator : str
        Of the cells of a CSV file, in which a short line is suspicious; '' for other tables.
    """

    path: Path
    rows: list[tuple[int, list[str]]]
    name: str = ""
    merged: list[tuple[int, int, int, int]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    separator: str = ""

    @property
    def label(self) -> str:
        """'lab.xlsx, sheet 'Data''; 'lab.csv (semicolons)'."""
        between = f" ({_SEPARATORS[self.separator]})" if self.separator else ""
        return f"{self.path.name}, sheet '{self.name}'" if self.name else f"{self.path.name}{between}"


def letters(column: int) -> str:
    """The name of a column in a spreadsheet: 0 is A, 26 is AA."""
    found = ""
    column += 1
    while column:
        column, last = divmod(column - 1, 26)
        found = chr(ord("A") + last) + found
    return found


def sheet_names(source: object) -> list[str]:
    """The sheets of an .xlsx file with cells; InputError for another file."""
    path = Path(str(source))
    if isinstance(source, pd.DataFrame) or not path.is_file() or path.suffix.lower() not in _BOOKS:
        raise InputError("only an .xlsx file has sheets", path.name, "give the name of one, with its path")
    return [str(sheet.title) for sheet in _open_book(path).worksheets]


def read_sheets(source: str | Path | pd.DataFrame, name: str | None, separator: str | None = None) -> list[Sheet]:
    """The sheet of a name, or all of them; a CSV file (with a separator, if it is known) and a data frame are one.

    Raises
    ------
    InputError
        For a file that cannot be read as a table.
    """
    if isinstance(source, pd.DataFrame):
        return [_of_frame(source)]
    path = Path(source)
    if not path.is_file():
        nearby = ", ".join(sorted(p.name for p in path.parent.glob("*") if p.suffix.lower() in (".csv", *_BOOKS)))
        what = "it is a folder" if path.is_dir() else "the file does not exist"
        raise InputError(what, str(path), f"tables next to it: {nearby}" if nearby else "check the path")
    if path.stat().st_size > _MOST_BYTES:
        raise InputError(f"it has more than {_MOST_BYTES // 10**6} MB", path.name, "keep the part that is needed")
    if path.suffix.lower() in _BOOKS:
        return list(_of_book(path, name))
    if name is not None:
        raise InputError("a CSV file has no sheets", path.name, "leave the sheet out")
    if separator not in (None, *_SEPARATORS):
        raise InputError(f"separator = {separator!r}", path.name, f"one of {', '.join(map(repr, _SEPARATORS))}")
    return [_of_csv(path, separator)]


def _of_frame(frame: pd.DataFrame) -> Sheet:
    body = frame.to_numpy(dtype=object)
    rows = [[str(c) for c in frame.columns], *([_text(cell) for cell in row] for row in body)]
    return Sheet(Path("table"), [(line, row) for line, row in enumerate(rows, 1) if any(row)])


def _of_csv(path: Path, separator: str | None) -> Sheet:
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror})", path.name, "check its permissions") from error
    notes = []
    try:
        text = raw.decode(_encoding(raw))
    except UnicodeDecodeError:
        if b"\x00" in raw:
            raise InputError("it is not a text file", path.name, "save it as CSV (UTF-8) or XLSX") from None
        text = raw.decode("cp1252", errors="replace")
        notes.append("read as Windows-1252 text, since it is not UTF-8")
    text = text.replace("\x00", "")
    text = text if text.isascii() else text.translate(_LIKE)
    clean = str.strip if "'" not in text else _plain
    separator = separator or _separator(text)
    csv.field_size_limit(2**24)
    rows: list[tuple[int, list[str]]] = []
    reader = csv.reader((line[0] for line in _LINE.finditer(text)), delimiter=separator)
    known = dict[str, str]()  # equal cells are one text: a long table repeats its runs, times and empty cells
    try:
        for row in reader:
            cells = [known.setdefault(cell, cell) for cell in map(clean, row)]
            if any(cells):
                rows.append((reader.line_num, cells))
            if len(rows) > MOST_ROWS:
                raise InputError(f"it has more than {MOST_ROWS:,} lines", path.name, "keep the part that is needed")
    except csv.Error as error:
        raise InputError(f"cannot be read as CSV ({error})", path.name, "check quotes and separators") from error
    return Sheet(path, rows, notes=notes, separator=separator)


def _encoding(raw: bytes) -> str:
    """UTF-16 by its mark, or by the zeros of its Latin letters; otherwise UTF-8."""
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    head = raw[:400]
    for encoding, zeros in (("utf-16-le", head[1::2]), ("utf-16-be", head[::2])):
        if len(head) > 8 and zeros.count(0) > 0.8 * len(zeros) and head.count(0) < 0.7 * len(head):
            return encoding
    return "utf-8-sig"


def _separator(text: str) -> str:
    """The separator of most lines; a comma, which may be a decimal one, only if there is no other."""
    lines = [line for line in text[:200_000].splitlines()[:200] if line.strip()]
    counts = {s: sorted(line.count(s) for line in lines) for s in ";\t,"}
    middle = {s: counts[s][len(lines) // 2] if lines else 0 for s in counts}
    alike = {s: sum(n == middle[s] for n in counts[s]) for s in counts}
    for s in ";\t":
        if middle[s] and alike[s] >= 0.6 * len(lines):
            return s
    return max(middle, key=lambda s: middle[s])


def _open_book(path: Path, formulas: bool = False) -> Any:
    """A workbook with its values (or its formulas); InputError for a damaged one."""
    import openpyxl

    try:
        return openpyxl.load_workbook(path, data_only=not formulas)
    except Exception as error:  # a damaged file raises various errors
        message = f"cannot be read as a spreadsheet ({type(error).__name__}: {str(error)[:80]})"
        raise InputError(message, path.name, "open it, save it again as XLSX, or as CSV (UTF-8)") from error


def _of_book(path: Path, name: str | None) -> Iterator[Sheet]:
    from molino.core.errors import nearest

    book = _open_book(path)
    names = [str(sheet.title) for sheet in book.worksheets]
    if name is not None and name not in names:
        raise InputError(f"unknown sheet '{name}'", path.name, nearest(name, names, "it has only charts"))
    if not names:
        raise InputError("it has no sheet with cells", path.name, "save the table as a separate sheet")
    for sheet in book.worksheets:
        if name is None or sheet.title == name:
            yield _of_sheet(path, sheet)


_cells_of = attrgetter("_cells")
"""The cells of a sheet by place: openpyxl shows the whole rectangle only, up to the farthest one."""


def _of_sheet(path: Path, sheet: Any) -> Sheet:
    """A sheet by its existing cells: one at the far corner costs nothing."""
    lines: dict[int, dict[int, str]] = {}
    blank: list[tuple[int, int]] = []
    for (line, column), cell in _cells_of(sheet).items():
        text = _text(cell.value)
        if text:
            lines.setdefault(line, {})[column - 1] = text
        elif cell.value is None:
            blank.append((line, column))
    found = Sheet(path, [], str(sheet.title))
    if blank and lines:
        for (line, column), formula in _formulas(path, str(sheet.title), blank).items():
            lines.setdefault(line, {})[column - 1] = formula
    for merged in sheet.merged_cells.ranges:
        found.merged.append((merged.min_row, merged.max_row, merged.min_col - 1, merged.max_col - 1))
    usual = _usual_width(lines)
    stray = 0
    for line in sorted(lines):
        cells = {column: text for column, text in lines[line].items() if column < usual}
        stray += len(lines[line]) - len(cells)
        if cells:
            found.rows.append((line, [cells.get(column, "") for column in range(max(cells) + 1)]))
    if stray:
        found.notes.append(f"{stray} stray cell{'s' * (stray > 1)} beyond column {letters(usual - 1)} left out")
    return found


def _usual_width(lines: dict[int, dict[int, str]]) -> int:
    """The number of columns, without cells far to the right of all others."""
    columns = sorted({column for row in lines.values() for column in row})
    for here, further in pairwise(columns):
        if further - here > 50:
            return here + 1
    return columns[-1] + 1 if columns else 0


def _formulas(path: Path, name: str, blank: Sequence[tuple[int, int]]) -> dict[tuple[int, int], str]:
    """Formulas that have not been computed, among cells without a value."""
    sheet = _open_book(path, formulas=True)[name]
    known = _cells_of(sheet)
    cells = {place: known[place].value for place in blank if place in known}
    return {place: str(value)[:60] for place, value in cells.items() if value is not None}


def _text(cell: object) -> str:
    if cell is None or cell is pd.NaT or (isinstance(cell, float) and math.isnan(cell)):
        return ""
    if isinstance(cell, bool | np.bool_):
        return str(bool(cell))
    if isinstance(cell, int | float | np.number):
        return NumberCell(repr(float(cell)) if isinstance(cell, float | np.floating) else int(cell))
    if isinstance(cell, timedelta):
        seconds = cell.total_seconds()
        return f"{int(seconds // 3600)}:{int(seconds // 60) % 60:02}:{seconds % 60:06.3f}".removesuffix(".000")
    return _plain(str(cell))


def _plain(cell: str) -> str:
    """A cell without blanks around it, and without the quote that keeps a spreadsheet from computing it."""
    text = cell.strip()
    if not text.isascii():
        text = text.translate(_LIKE).strip()
    return text[1:] if len(text) > 1 and text[0] == "'" and text[1] in "=+-@" else text
