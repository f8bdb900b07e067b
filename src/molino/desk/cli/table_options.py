"""The options of commands that read a table without a job file."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

import typer

from molino.core.annotations import PlainData

Sheet = Annotated[str | None, typer.Option("--sheet", help="The sheet of an XLSX file.", show_default=False)]
HeaderRow = Annotated[
    int | None,
    typer.Option(
        "--header-row", min=1, help="The line of the headings, if not found automatically.", show_default=False
    ),
]
Columns = Annotated[
    list[str] | None,
    typer.Option(
        "--columns",
        help="The columns of the table, B:E; or the meaning of one, 'Zeit=time \\[min]' ('pH=' leaves it out); may be "
        "repeated.",
        show_default=False,
    ),
]
Decimal = Annotated[str | None, typer.Option("--decimal", help="The decimal sign, '.' or ','.", show_default=False)]
Separator = Annotated[
    str | None,
    typer.Option("--separator", help="The separator of a CSV file: ',', ';' or tab.", show_default=False),
]
Units = Annotated[
    list[str] | None,
    typer.Option("--units", help="The unit of columns without one, 'time=min'; may be repeated.", show_default=False),
]
Response = Annotated[
    str | None,
    typer.Option(
        "--response", help="'A \\[mol/L]', if each column except the time is a run of it.", show_default=False
    ),
]
DetectionLimits = Annotated[
    list[str] | None,
    typer.Option("--detection-limit", help="Of cells like n.d., 'A=0.25 mmol/L'; may be repeated.", show_default=False),
]


def pairs(texts: Sequence[str] | None, option: str) -> dict[str, str]:
    """'NAME=VALUE' of a repeated option as a mapping; InputError for another form."""
    from molino.core.errors import InputError

    found = {}
    for text in texts or ():
        name, sign, value = text.partition("=")
        if not sign or not name.strip():
            raise InputError(f"'{text}' has no value", option, f"write {option} 'NAME=VALUE'")
        found[name.strip()] = value.strip()
    return found


def columns_of(texts: Sequence[str] | None) -> str | list[str] | dict[str, str] | None:
    """The columns as for `read_experiments`: a range, several headings, or meanings by heading."""
    if not texts:
        return None
    if any("=" in text for text in texts):
        return pairs(texts, "--columns")
    return texts[0] if len(texts) == 1 else list(texts)


def reading(
    sheet: str | None, header_row: int | None, columns: Sequence[str] | None, decimal: str | None, separator: str | None
) -> PlainData:
    """The place and meaning of a table as arguments of `read_experiments`; the word 'tab' is a separator."""
    separator = "\t" if separator in ("tab", "\\t") else separator
    found = {"sheet": sheet, "header_row": header_row, "columns": columns_of(columns)}
    return {**found, "decimal": decimal, "separator": separator}
