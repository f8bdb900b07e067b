"""Tables as people keep them: CSV or XLSX with headings that carry units, read as text by line."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import pandas as pd

from molino.core import units
from molino.core.errors import Faults, InputError, UnitError

_HEADING = re.compile(r"\s*(?P<name>.*?)\s*(?:\[(?P<unit>[^\[\]]*)\]|(?<=\s)\((?P<bracket>.*)\))?\s*")


def heading_parts(heading: object) -> tuple[str, str | None]:
    """Name and unit of a heading: 'time [min]' or 'time (min)' -> ('time', 'min')."""
    match = _HEADING.fullmatch(str(heading))
    assert match is not None
    return match["name"], match["unit"] or match["bracket"]


def sheet_names(source: object) -> list[str]:
    """The sheets of an .xlsx file; InputError if it is none."""
    path = Path(str(source))
    if isinstance(source, pd.DataFrame) or not path.is_file() or path.suffix.lower() not in (".xlsx", ".xlsm"):
        raise InputError("only an .xlsx file has sheets", path.name, "give the name of one, with its path")
    with pd.ExcelFile(path) as book:
        return [str(name) for name in book.sheet_names]


def read_cells(source: str | Path | pd.DataFrame, sheet: str | None, shape: str) -> tuple[pd.DataFrame, Path]:
    """The cells of a file or data frame as text, indexed by line, and the name to speak of it by.

    `shape` says in an error what the table should hold. Raises InputError for what cannot be read as a table.
    """
    if isinstance(source, pd.DataFrame):
        body = source.to_numpy(dtype=object)
        rows = [[str(c) for c in source.columns], *([_text(cell) for cell in row] for row in body)]
        return _shaped(rows, Path("table"), shape), Path("table")
    return _cells(Path(source), sheet, shape), Path(source)


def _cells(path: Path, sheet: str | None, shape: str) -> pd.DataFrame:
    """The table as text, indexed by line of the file."""
    if not path.is_file():
        nearby = ", ".join(sorted(p.name for p in path.parent.glob("*") if p.suffix in (".csv", ".xlsx")))
        raise InputError(
            "there is no such file", str(path), f"tables next to it: {nearby}" if nearby else "check the path"
        )
    try:
        if path.suffix.lower() in (".xlsx", ".xlsm"):
            chosen = sheet if sheet is not None else 0
            raw = pd.read_excel(path, sheet_name=chosen, header=None, dtype=object)
            rows = [[_text(cell) for cell in row] for row in raw.to_numpy()]
            rows[1:] = [[_decimal_point(cell) for cell in row] for row in rows[1:]]
        else:
            text = path.read_text(encoding="utf-8-sig")
            first = text.split("\n", 1)[0]
            separator = max(";\t,", key=first.count)
            rows = _split(text, separator)
    except (UnicodeDecodeError, ValueError, OSError) as error:
        raise InputError(f"cannot be read ({error})", path.name, "save it as CSV (UTF-8) or XLSX") from error
    return _shaped(rows, path, shape)


def _shaped(rows: Iterable[list[str]], path: Path, shape: str) -> pd.DataFrame:
    """Rows of text under their headings, indexed by line."""
    numbered = [(line, row) for line, row in enumerate(rows, 1) if any(row)]
    if len(numbered) < 2:
        what = "the file is empty" if not numbered else "there are headings but no data"
        raise InputError(what, path.name, shape)
    (_, headings), *body = numbered
    while headings and not headings[-1]:
        headings.pop()
    merged = _with_units(headings, body[0][1], body[1][1]) if len(body) > 1 else None
    if merged is not None:
        headings, body = merged, body[1:]
    faults = Faults()
    for line, row in body:
        if len(row) < len(headings) or any(row[len(headings) :]):
            faults.add(f"line {line}", f"{len(row)} cells for {len(headings)} headings", "check the separators")
    for heading in {h for h in headings if headings.count(h) > 1}:
        faults.add("headings", f"'{heading}' stands twice", "keep one")
    faults.raise_any(path.name)
    cells = [row[: len(headings)] for _, row in body]
    return pd.DataFrame(cells, columns=headings, index=[line for line, _ in body], dtype=str)


def _text(cell: object) -> str:
    return "" if cell is None or (isinstance(cell, float) and np.isnan(cell)) else str(cell).strip()


def _decimal_point(cell: str) -> str:
    """'0,35' as '0.35'."""
    return re.sub(r"^([-+]?\d*),(\d+(?:[eE][-+]?\d+)?)$", r"\1.\2", cell)


def _with_units(headings: list[str], row: list[str], below: list[str]) -> list[str] | None:
    """Headings with the units of a row below them, if it is such a row: units or empty, above numbers."""
    found = [cell.strip("[]() ") for cell in row[: len(headings)]]
    if not any(found) or len(row) < len(headings) or any(heading_parts(h)[1] for h in headings):
        return None
    for text, number in zip(found, below, strict=False):
        if text and (_is_number(text) or not _is_number(number or "0")):
            return None
        try:
            units.unit(text or "1")
        except UnitError:
            return None
    return [f"{h} [{unit}]" if unit else h for h, unit in zip(headings, found, strict=True)]


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _split(text: str, separator: str) -> list[list[str]]:
    rows = [[cell.strip() for cell in row] for row in csv.reader(text.splitlines(), delimiter=separator)]
    if separator != ",":
        rows[1:] = [[_decimal_point(cell) for cell in row] for row in rows[1:]]
    return rows
