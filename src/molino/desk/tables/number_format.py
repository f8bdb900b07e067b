"""Texts of a column as numbers: decimal points or commas, groups of thousands, limits of detection, and errors."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from molino.desk.tables.clock import is_clock

LARGEST = 1e30
"""Beyond this a number is not a measurement."""
_EXPONENT = r"(?:[eE][-+]?\d+|\s?[x×·*]\s?10\s?\^?\s?\(?[-+]?\d+\)?)"
_BODY = rf"[-+]?(?:\d[\d.,'’ ]*|[.,]\d+)(?<! ){_EXPONENT}?"
_CELL = re.compile(
    rf"(?P<limit><=|>=|[<>≤≥])?\s*(?P<number>{_BODY})(?:\s*(?:±|\+/?-)\s*(?P<deviation>{_BODY}))?", re.UNICODE
)
_PARTS = re.compile(rf"(?P<sign>[-+]?)(?P<body>[\d.,'’ ]+)(?P<exponent>{_EXPONENT}?)")
_ONE = re.compile(r"[1-9]\d{0,2}[.,]\d{3}")
_LIMITED = r"^(?:<=|>=|[<>≤≥])?\s*[-+]?"
OTHER = {".": ",", ",": "."}
NAMES = {".": "decimal point", ",": "decimal comma"}
_CLEAR = {
    sign: re.compile(
        rf"{_LIMITED}(?:\d*[{sign}](?!\d{{3}}$)\d*|(?:0\d*|\d{{4,}})?[{sign}]\d{{3}})(?:[eE][-+]?\d+)?$", re.M
    )
    for sign in OTHER
}
"""Cells with one sign, which can only be a decimal one."""
_UNCLEAR = {sign: re.compile(rf"{_LIMITED}[1-9]\d{{0,2}}[{sign}]\d{{3}}$", re.M) for sign in OTHER}
"""Cells with one sign, which may separate thousands."""
_SEVERAL = re.compile(r"^.*(?:[.,].*[.,]|[ '’±]).*$", re.M)


class NumberCell(str):
    """A cell that holds a number and not a text, written with a decimal point."""


@dataclass(frozen=True)
class ColumnNumbers:
    """The numbers of a column, each of shape (lines,).

    Attributes
    ----------
    values : array of float
        nan where a cell is empty or cannot be read; a limit of detection is its number.
    limits : array of int
        -1 where the cell is "< number", 1 where it is "> number", otherwise 0.
    deviations : array of float
        The number after "±"; nan without one.
    """

    values: np.ndarray
    limits: np.ndarray
    deviations: np.ndarray


@dataclass
class Signs:
    """The evidence for the decimal sign in some cells: the first cell that is clear, or unclear, for each sign."""

    clear: dict[str, str] = field(default_factory=dict)
    unclear: dict[str, str] = field(default_factory=dict)

    @classmethod
    def of(cls, texts: Iterable[str]) -> Signs:
        """The evidence of texts; a `NumberCell` has none."""
        joined = "\n".join(text for text in texts if type(text) is str)
        found = cls()
        for patterns, kind in ((_CLEAR, found.clear), (_UNCLEAR, found.unclear)):
            for sign, pattern in patterns.items():
                if (first := pattern.search(joined)) is not None:
                    kind[sign] = first.group()
        for line in _SEVERAL.finditer(joined):
            cell = _CELL.fullmatch(line.group())
            for part in (cell["number"], cell["deviation"]) if cell else ():
                if part is not None:
                    found._add(part, line.group())
        return found

    def _add(self, number: str, text: str) -> None:
        """The evidence of one number, if its sign, or the groups of its thousands, are in order."""
        parts = _PARTS.fullmatch(number)
        body = parts["body"] if parts is not None else ""
        if parts is not None and _ONE.fullmatch(body) and not parts["exponent"]:
            self.unclear.setdefault("." if "." in body else ",", text)
            return
        possible = [sign for sign in OTHER if np.isfinite(_number(number, sign))]
        if len(possible) == 1:
            self.clear.setdefault(possible[0], text)

    @property
    def sign(self) -> str | None:
        """The only sign with clear evidence."""
        return next(iter(self.clear)) if len(self.clear) == 1 else None


def is_number_like(cell: str) -> bool:
    """Whether a text is a number, with a limit or an error, or a time of day."""
    if type(cell) is NumberCell or (cell.isascii() and cell.isdigit()):
        return True
    return _CELL.fullmatch(cell) is not None or (":" in cell and is_clock(cell))


def read_numbers(texts: Sequence[str], decimal: str | None) -> ColumnNumbers:
    """The numbers of the cells of a column.

    Parameters
    ----------
    texts : sequence of str
    decimal : "." or ",", optional
        The decimal sign; None if each cell is clear by itself.
    """
    values = np.full(len(texts), np.nan)
    limits, deviations = np.zeros(len(texts), dtype=int), np.full(len(texts), np.nan)
    plain: list[Any] = list(texts)
    if decimal == ",":  # a point, which separates thousands, is read below
        plain = [t if type(t) is NumberCell else "" if "." in t else t.replace(",", ".") for t in texts]
    values = np.array(pd.to_numeric(pd.Series(plain, dtype=object), errors="coerce"), dtype=float)
    for i in np.flatnonzero(np.isnan(values)).tolist():
        cell = _CELL.fullmatch(texts[i]) if texts[i] else None
        if cell is None:
            continue
        values[i] = _number(cell["number"], decimal)
        if cell["limit"] is not None:
            limits[i] = -1 if cell["limit"][0] in "<≤" else 1
        if cell["deviation"] is not None:
            deviations[i] = _number(cell["deviation"], decimal)
            values[i] = values[i] if np.isfinite(deviations[i]) else np.nan
    values[~(np.abs(values) <= LARGEST)] = np.nan
    limits[np.isnan(values)] = 0
    return ColumnNumbers(values, limits, deviations)


def _number(text: str, decimal: str | None) -> float:
    """A number by its decimal sign; nan if it does not follow it."""
    parts = _PARTS.fullmatch(text)
    if parts is None:
        return float("nan")
    if decimal is None:
        signs = Signs()
        signs._add(text, text)
        decimal = signs.sign or "."
    group, sign = re.escape(OTHER[decimal]), re.escape(decimal)
    whole = rf"\d+|\d{{1,3}}(?P<group>[{group} '’])\d{{3}}(?:(?P=group)\d{{3}})*"
    match = re.fullmatch(rf"(?P<whole>{whole})?(?:{sign}(?P<part>\d*))?", parts["body"].rstrip())
    if match is None or not (match["whole"] or match["part"]):
        return float("nan")
    digits = re.sub(r"\D", "", match["whole"] or "0")
    power = re.search(r"[-+]?\d+\)?$", parts["exponent"])
    return float(f"{parts['sign']}{digits}.{match['part'] or '0'}e{power.group().rstrip(')') if power else 0}")
