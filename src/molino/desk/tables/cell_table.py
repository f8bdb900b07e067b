"""A table of texts, and its columns as numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import numpy as np
import pandas as pd

from molino.core.errors import Faults
from molino.desk.tables.cells import letters
from molino.desk.tables.headings import read_heading
from molino.desk.tables.number_format import NAMES, ColumnNumbers, Signs, read_numbers

MISSING = {"", "-", "–", "—", "n/a", "na", "nan", "null", "none", ".", "*", "n.a.", "nat"}
"""Texts that mean that nothing was measured."""
NOT_DETECTED = {"n.d.", "nd", "n.d", "not detected", "<lod", "< lod", "<loq", "< loq", "<dl", "< dl", "bdl", "n.n."}
"""Texts that mean a value below a limit of detection."""
_LISTED = 5  # unreadable cells


@dataclass(frozen=True)
class TableOptions:
    """The place of a table in its file, and the meanings of its columns and numbers; as for `read_experiments`."""

    sheet: str | None = None
    header_row: int | None = None
    columns: str | Sequence[str] | Mapping[str, str | None] | None = None
    decimal: str | None = None
    separator: str | None = None
    units: Mapping[str, str] = field(default_factory=dict)


@dataclass
class CellTable:
    """A table as text.

    Attributes
    ----------
    path : Path
        Its name in messages.
    cells : DataFrame
        Texts, indexed by line; each column has its own label.
    place : str
        Where it was found.
    headings : mapping of label to str
        The heading of each column; the label is the heading, with a number if it is repeated.
    columns : mapping of label to int
        The places of the columns in the sheet.
    decimal : str, optional
        The decimal sign, if it was given.
    is_comma_separated : bool
        Whether commas separate cells, so that an unquoted number has a decimal point.
    remarks, unreadable : lists of str
        Notes, and cells that are neither numbers nor empty, as 'D7 '#DIV/0!''.
    """

    path: Path
    cells: pd.DataFrame
    place: str
    headings: dict[str, str]
    columns: dict[str, int] = field(default_factory=dict)
    decimal: str | None = None
    is_comma_separated: bool = False
    remarks: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)

    @cached_property
    def signs(self) -> dict[str, Signs]:
        """The evidence for the decimal sign in each column."""
        return {str(label): Signs.of(self.cells[label].to_numpy(dtype=object)) for label in self.cells.columns}

    def numbers(self, label: str, faults: Faults, detection_limit: float | None = None) -> ColumnNumbers:
        """A column as numbers; nan for empty cells and for unreadable ones, which are listed.

        If at least half of it cannot be read, it is a fault. A value that was not detected is below the detection
        limit (in the unit of the column) if that is given, otherwise missing.
        """
        texts = self.cells[label].tolist()
        found = read_numbers(texts, self.decimal_of(label, faults))
        unread = np.flatnonzero(np.isnan(found.values))
        lowered = [texts[i].lower() for i in unread.tolist()]
        undetected = unread[[text in NOT_DETECTED for text in lowered]]
        if len(undetected):
            count, heading = len(undetected), self.headings[label]
            cells = f"column '{heading}': {count} cell{'s' * (count > 1)} without a detected value"
            if detection_limit is None:
                name = read_heading(heading).name
                self.remarks.append(f"{cells} not used: give detection_limits = {{{name!r}: ...}} to use them")
            else:
                found.values[undetected], found.limits[undetected] = detection_limit, -1
                self.remarks.append(f"{cells} read as < {detection_limit:g}")
        wrong = unread[[text not in MISSING and text not in NOT_DETECTED for text in lowered]]
        if len(wrong) and len(wrong) * 2 >= len(texts) - (len(unread) - len(wrong)):
            for i in wrong[:3].tolist():
                line = self.cells.index[i]
                advice = "write a number, or leave the cell empty where nothing was measured"
                faults.add(f"line {line}, column '{label}'", f"'{_short(texts[i])}' is not a number", advice)
        else:
            column = letters(self.columns.get(label, 0))
            self.unreadable += [f"{column}{self.cells.index[i]} '{_short(texts[i])}'" for i in wrong.tolist()]
        return found

    def decimal_of(self, label: str, faults: Faults) -> str | None:
        """The decimal sign of a column: as given, or by its numbers, or by those of other columns; a fault if a number
        remains unclear."""
        if self.decimal is not None:
            return self.decimal
        own = self.signs[label]
        if not own.unclear:
            if len(own.clear) > 1:
                cells = " and ".join(f"'{cell}'" for cell in own.clear.values())
                self.remarks.append(f"column '{label}': decimal points and commas, as in {cells}")
            return own.sign
        text = next(iter(own.unclear.values()))
        everywhere = {sign: cell for signs in self.signs.values() for sign, cell in signs.clear.items()}
        clear = own.clear or everywhere
        if len(clear) == 1 or (not clear and self.is_comma_separated and "," not in own.unclear):
            decimal = next(iter(clear), ".")
            number = read_numbers([text], decimal).values[0]
            if decimal not in own.unclear and np.isfinite(number):
                remark = f"column '{label}': '{text}' is {number:g}, with a {NAMES[decimal]}"
                self.remarks.append(remark + ("" if own.clear else f" as in '{clear[decimal]}'"))
            return decimal
        point, comma = (f"{read_numbers([text], sign).values[0]:.12g}" for sign in ".,")
        advice = "give the decimal sign of the table: decimal = '.' or decimal = ','"
        faults.add(f"column '{label}'", f"'{_short(text)}' may be {point} or {comma}", advice)
        return None

    def note_left_out(self, lines: np.ndarray, why: str) -> None:
        """A remark on lines (from 0) that are not used."""
        if not len(lines):
            return
        gone = [str(self.cells.index[line]) for line in dict.fromkeys(lines.tolist())]
        listed = ", ".join(gone[:_LISTED]) + (", ..." if len(gone) > _LISTED else "")
        self.remarks.append(f"{len(gone)} line{'s' * (len(gone) > 1)} left out, {why}: {listed}")

    @property
    def notes(self) -> tuple[str, ...]:
        """Remarks on the reading, and the unreadable cells."""
        lines, columns = self.cells.shape
        count = len(self.unreadable)
        listed = ", ".join(self.unreadable[:_LISTED]) + (", ..." if count > _LISTED else "")
        cells = f"{count} cell{'s' * (count != 1)} could not be read" + (f": {listed}" if count else "")
        return (f"{self.place}: {lines} lines of {columns} columns read; {cells}", *dict.fromkeys(self.remarks))


def complete_lines(
    table: CellTable, axes: Sequence[str], numbers: Mapping[str, np.ndarray], lines: np.ndarray, faults: Faults
) -> np.ndarray:
    """The complete rows; one with numbers and an empty cell of an axis is a fault, a comment is not.

    `lines` are the lines of the table (from 0) of the rows of `numbers`.
    """
    kept = np.ones(len(lines), dtype=bool)
    for label in axes:
        known = np.isfinite(numbers[label])
        others = [values for name, values in numbers.items() if name not in axes]
        has_numbers = np.any([np.isfinite(values) for values in others], axis=0) if others else known
        is_empty = np.array(table.cells[label] == "")[lines]
        for line in dict.fromkeys(lines[~known & has_numbers & is_empty].tolist()):
            place = f"line {table.cells.index[line]}, column '{label}'"
            faults.add(place, "it is missing", "write it, or delete the line")
        kept &= known
    if not kept.any() and not faults.found:
        faults.add("lines", "no line has a time", "check the columns and units")
    return kept


def _short(text: str) -> str:
    return text if len(text) <= 30 else text[:27] + "..."
