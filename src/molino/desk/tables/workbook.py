"""Results as a spreadsheet: a sheet of contents, the tables with charts, and the inputs."""

from __future__ import annotations

import hashlib
import io
import math
import re
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import pandas as pd
from openpyxl import Workbook
from openpyxl.chart import Reference, ScatterChart, Series
from openpyxl.styles import Alignment, Font, PatternFill
from openpyxl.utils import get_column_letter, quote_sheetname
from openpyxl.worksheet.hyperlink import Hyperlink

from molino.desk.tables.sheet_limits import CELL, CONTENTS, ILLEGAL, INPUTS

_HEAD = PatternFill("solid", fgColor="E8EEF0")
_WIDEST, _LEAST = 60, 9
_LOOKED_AT = 200
"""Number of rows that determine the width of a column."""
_CHARTED = 8
"""Number of rows above which a table has a chart."""
_MOST_LINES = 8
_COLORS = ("0072B2", "D55E00", "009E73", "CC79A7", "56B4E9", "E69F00", "000000", "999933")
_TIMES = re.compile(rb"(<dcterms:(?:created|modified)[^>]*>)[^<]*(</dcterms)")
"""The time of a workbook."""


def write_workbook(
    path: Path,
    title: str,
    tables: Mapping[str, pd.DataFrame],
    results: Sequence[tuple[str, Mapping[str, str]]],
    inputs: Mapping[str, Path],
) -> None:
    """Write an XLSX file.

    Parameters
    ----------
    path : Path
    title : str
    tables : mapping of sheet name to DataFrame
        With units in the headings, in names that a sheet can have.
    results : sequence of (str, mapping)
        Each result: its headline and its facts.
    inputs : mapping of name to Path
        The input files; texts are copied to the sheet of inputs.
    """
    book = Workbook()
    first = book.active
    assert first is not None
    first.title = CONTENTS
    for name, table in tables.items():
        _add_table(book.create_sheet(name), table)
    if inputs:
        _add_inputs(book.create_sheet(INPUTS), inputs)
    _add_contents(first, title, tables, results, bool(inputs))
    _save(book, path)


def _save(book: Workbook, path: Path) -> None:
    """Write a workbook without the time of writing, so that the same content gives the same bytes."""
    written = io.BytesIO()
    book.save(written)
    with zipfile.ZipFile(written) as source, zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as target:
        for name in source.namelist():
            content = source.read(name)
            if name == "docProps/core.xml":
                content = _TIMES.sub(rb"\g<1>1980-01-01T00:00:00Z\g<2>", content)
            target.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), content, zipfile.ZIP_DEFLATED)


def _add_contents(
    sheet: Any,
    title: str,
    tables: Mapping[str, pd.DataFrame],
    results: Sequence[tuple[str, Mapping[str, str]]],
    has_inputs: bool,
) -> None:
    """The contents of the file, with links, and the facts of the results."""
    sheet["A1"], sheet["A1"].font = _plain(title), Font(bold=True, size=14)
    row = 3
    for name, text in [*((n, f"{len(t)} rows") for n, t in tables.items()), *([(INPUTS, "")] if has_inputs else [])]:
        cell = sheet.cell(row, 1, _plain(name))
        cell.hyperlink = Hyperlink(ref=cell.coordinate, location=f"{quote_sheetname(name)}!A1")
        cell.style = "Hyperlink"
        sheet.cell(row, 2, text)
        row += 1
    for headline, facts in results:
        row += 1
        sheet.cell(row, 1, _plain(headline)).font = Font(bold=True)
        for name, text in facts.items():
            row += 1
            sheet.cell(row, 1, _plain(name.strip()))
            sheet.cell(row, 2, _plain(text))
        row += 1
    sheet.column_dimensions["A"].width, sheet.column_dimensions["B"].width = 44, 70


def _plain(text: str) -> str:
    """A text for a workbook, which is not read as a formula."""
    text = ILLEGAL.sub(" ", text)[:CELL]
    return f"'{text}" if text.startswith("=") else text


def _add_table(sheet: Any, table: pd.DataFrame) -> None:
    """A table with number formats, frozen headings, fitted column widths, and a chart."""
    formats = [_format_of(table.iloc[:, n]) for n in range(table.shape[1])]
    sheet.append([str(c) for c in table.columns])
    for row in table.itertuples(index=False):
        sheet.append([_value(cell) for cell in row])
    for cell in sheet[1]:
        cell.font, cell.fill = Font(bold=True), _HEAD
        cell.alignment = Alignment(wrap_text=True, vertical="top")
    for n, form in enumerate(formats, 1):
        longest = len(max(str(table.columns[n - 1]).split(" ["), key=len)) + 2
        for cell in sheet[get_column_letter(n)][1 : _LOOKED_AT + 1]:
            if form:
                cell.number_format = form
            else:
                longest = max(longest, len(str(cell.value or "")) + 1)
        if form:
            for cell in sheet[get_column_letter(n)][_LOOKED_AT + 1 :]:
                cell.number_format = form
        sheet.column_dimensions[get_column_letter(n)].width = min(max(_LEAST, longest, 11 if form else 0), _WIDEST)
    sheet.freeze_panes = "A2"
    _add_chart(sheet, table)


def _value(cell: object) -> object:
    if isinstance(cell, float) and not math.isfinite(cell):
        return None if math.isnan(cell) else str(cell)
    return cell.item() if hasattr(cell, "item") else cell


def _format_of(column: pd.Series) -> str:
    """The number format of a column: about four digits of its largest number; empty for a column of texts."""
    if not pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column):
        return ""
    if pd.api.types.is_integer_dtype(column):
        return "0"
    sizes = column.abs().replace([math.inf], math.nan).dropna()
    largest = float(sizes.max()) if len(sizes) else 0.0
    if largest and not 1e-3 <= largest < 1e6:
        return "0.000E+00"
    places = 4 if largest == 0 else min(max(4 - math.ceil(math.log10(largest)), 0), 6)
    return "0." + "0" * places if places else "0"


def _add_chart(sheet: Any, table: pd.DataFrame) -> None:
    """Lines over the first column, if it is the axis of a profile: the columns of the most frequent unit."""
    if len(table) < _CHARTED or table.shape[1] < 2:
        return
    numeric = [pd.api.types.is_numeric_dtype(table.iloc[:, n]) for n in range(table.shape[1])]
    along = table.iloc[:, 0]
    if not numeric[0] or not along.is_monotonic_increasing or along.iloc[0] == along.iloc[-1]:
        return
    groups: dict[str, list[int]] = {}
    for n in range(1, table.shape[1]):
        if numeric[n]:
            groups.setdefault(str(table.columns[n]).partition(" [")[2], []).append(n)
    if not groups:
        return
    chosen = max(groups.values(), key=len)[:_MOST_LINES]
    second = chosen[0]
    chart = ScatterChart(scatterStyle="lineMarker")
    chart.height, chart.width = 9, 17
    chart.x_axis.title = str(table.columns[0])
    unit = str(table.columns[second]).removesuffix("]").partition(" [")[2]
    chart.y_axis.title = f"[{unit}]" if len(chosen) > 1 and unit else str(table.columns[second])
    chart.x_axis.delete = chart.y_axis.delete = False
    x = Reference(sheet, min_col=1, min_row=2, max_row=len(table) + 1)
    for place, n in enumerate(chosen):
        series = Series(Reference(sheet, min_col=n + 1, min_row=1, max_row=len(table) + 1), x, title_from_data=True)
        series.marker.symbol, series.smooth = "none", False
        series.graphicalProperties.line.solidFill = _COLORS[place % len(_COLORS)]
        series.graphicalProperties.line.width = 19_050
        chart.series.append(series)
    sheet.add_chart(chart, f"{get_column_letter(table.shape[1] + 2)}2")


def _add_inputs(sheet: Any, inputs: Mapping[str, Path]) -> None:
    """The input files with their hashes; texts line by line."""
    sheet.append(["file", "SHA-256"])
    texts = {}
    for name, path in inputs.items():
        content = path.read_bytes()
        sheet.append([_plain(name), hashlib.sha256(content).hexdigest()])
        try:
            texts[name] = content.decode("utf-8-sig")
        except UnicodeDecodeError:
            continue
    for cell in sheet[1]:
        cell.font, cell.fill = Font(bold=True), _HEAD
    for name, text in texts.items():
        sheet.append([])
        sheet.append([_plain(name)])
        sheet.cell(sheet.max_row, 1).font = Font(bold=True)
        for line in text.splitlines():
            sheet.append([_plain(line)])
    sheet.column_dimensions["A"].width, sheet.column_dimensions["B"].width = 60, 66
    sheet.freeze_panes = "A2"
