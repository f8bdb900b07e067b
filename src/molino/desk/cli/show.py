"""`molino show`: a stored result, printed again."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from molino.core.annotations import ByName
from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.common import console, show_table

if TYPE_CHECKING:
    import pandas as pd

Stored = Annotated[
    Path,
    typer.Argument(metavar="RESULT", help="A file of results: .json, .csv, .parquet, or a report.", show_default=False),
]
_ROWS = 40


def show(result: Stored, as_json: AsJson = False, debug: Debug = False) -> None:
    """Print a stored result again: its quantities with units and its tables; of a report the questions and answers."""
    with handle_errors(as_json, debug):
        content = _read(result)
        if as_json:
            as_asked(content if isinstance(content, Mapping) else {"rows": content.to_dict("records")}, as_json)
            return
        if isinstance(content, Mapping):
            _show_all(str(content.get("title") or result.name), content)
        else:
            more = f", the first {_ROWS} of {len(content)} rows" if len(content) > _ROWS else ""
            show_table(content.head(_ROWS), f"{result.name}{more}")


def _read(path: Path) -> Any:
    """A mapping of plain data, or a table; InputError for other content."""
    import json

    import pandas as pd

    from molino.core.errors import InputError

    kind = path.suffix.lower()
    if not path.is_file():
        raise InputError("the file does not exist", str(path), "name a file in the folder of results")
    try:
        if kind == ".csv":
            return pd.read_csv(path)
        if kind == ".parquet":
            from molino.desk.tables.write import check_parquet

            check_parquet()
            return pd.read_parquet(path)
        if kind == ".html":
            from molino.desk.report.rerun import read_record

            record = read_record(path)
            return {"title": record.job or path.name, "answers": dict(record.answers)}
        found = json.loads(path.read_text(encoding="utf-8")) if kind == ".json" else None
    except (ValueError, OSError) as error:
        raise InputError(
            f"it cannot be read ({str(error)[:80]})", str(path), "name a file that Molino wrote"
        ) from error
    if not isinstance(found, dict):
        raise InputError("it has no results", str(path), "name a .json, .csv, .parquet or .html that Molino wrote")
    return found


def _show_all(title: str, content: ByName) -> None:
    """Facts of plain data as tables, one per name."""
    import pandas as pd

    facts = {key: text for key, value in content.items() if (text := _text(value))}
    shown = {key: text for key, text in facts.items() if key not in ("format", "title", "job")}
    if shown:
        show_table(pd.DataFrame({title: [key.replace("_", " ") for key in shown], "": [*shown.values()]}))
    elif title:
        console().print(title, style="bold")
    for key, value in content.items():
        name = key.replace("_", " ")
        if key == "answers":
            for question, answer in value.items():
                console().print(question, style="bold", markup=False, highlight=False)
                console().print(f"  {answer}", markup=False, highlight=False)
        elif isinstance(value, Mapping) and value and key not in facts:
            rows = _series(value)
            if rows is not None:
                show_table(rows.head(_ROWS), name)
            else:
                _show_all(name, value)
        elif isinstance(value, list) and value and all(isinstance(row, Mapping) for row in value):
            flat = [{k: t for k, v in row.items() if (t := _text(v)) is not None} for row in value]
            show_table(pd.DataFrame(flat).head(_ROWS), name)


def _series(content: ByName) -> pd.DataFrame | None:
    """A table of columns that are { unit, values }; None for anything else."""
    import pandas as pd

    columns = {}
    for name, one in content.items():
        if not (isinstance(one, Mapping) and isinstance(one.get("values"), list)):
            return None
        if any(isinstance(value, list) for value in one["values"]):
            return None
        columns[f"{name} [{one['unit']}]" if one.get("unit") else name] = pd.Series(one["values"])
    return pd.DataFrame(columns) if columns else None


def _text(value: object) -> str | None:
    """A plain value as text: a number with its unit, a text, a short list; None for others."""
    from molino.core.units import number_text, pretty

    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return number_text(float(value), 5)
    if isinstance(value, str):
        return value
    if isinstance(value, Mapping) and set(value) == {"value", "unit"}:
        number = _text(value["value"])
        return f"{number} {pretty(value['unit'])}".rstrip() if number is not None else ""
    if isinstance(value, list) and len(value) <= 6 and all(isinstance(v, int | float | str) for v in value):
        return ", ".join(_text(v) or "" for v in value)
    return None
