"""`molino show`: a stored result, printed again."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import asdict
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from molino.core.annotations import ByName
from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.progress import Running, bar, running
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    import pandas as pd

Stored = Annotated[
    Path,
    typer.Argument(
        metavar="RESULT",
        help="A file of results: .json, .csv, .parquet, or a report; or a folder of them.",
        show_default=False,
    ),
]
Follow = Annotated[bool, typer.Option("--follow", "-f", help="Watch the command that writes to it.")]
_ROWS = 40
_EVERY = 1.0
"""Seconds between two looks at a command."""


def show(result: Stored, follow: Follow = False, as_json: AsJson = False, debug: Debug = False) -> None:
    """Print a stored result again: its quantities with units and its tables; of a report the questions and answers.

    Of a folder: its files, the cases of long sweeps so far, and the command that writes to it now.
    """
    with handle_errors(as_json, debug):
        if result.is_dir() or running(result) is not None:
            if follow:
                _watch(result)
            _show_folder(result, as_json)
            return
        content = _read(result)
        if as_json:
            as_asked(content if isinstance(content, Mapping) else {"rows": content.to_dict("records")}, as_json)
            return
        if isinstance(content, Mapping):
            _show_all(str(content.get("title") or result.name), content)
        else:
            more = f", the first {_ROWS} of {len(content)} rows" if len(content) > _ROWS else ""
            show_table(content.head(_ROWS), f"{result.name}{more}")


def _show_folder(folder: Path, as_json: bool) -> None:
    """The files of a folder, its long sweeps, and the command that writes to it."""
    import pandas as pd

    from molino.desk.tables.sweep_folder import MANIFEST
    from molino.desk.tables.sweep_parts import read_sweep

    files = sorted(p for p in folder.glob("*") if p.is_file() and not p.name.startswith("."))
    sweeps = [read_sweep(p.parent) for p in sorted({*folder.glob(MANIFEST), *folder.glob(f"*/{MANIFEST}")})]
    now = running(folder)
    if as_json:
        own = {"files": [p.name for p in files], "sweeps": [s.to_dict() for s in sweeps]}
        as_asked({**own, "running": None if now is None else asdict(now)}, as_json)
        return
    out = console()
    if files:
        changed = [datetime.fromtimestamp(p.stat().st_mtime).isoformat(" ", "minutes") for p in files]
        sizes = [f"{p.stat().st_size / 1e3:,.1f}" for p in files]
        table = pd.DataFrame({"file": [p.name for p in files], "size [kB]": sizes, "written": changed})
        show_table(table, f"{len(files)} files in {folder}")
    for swept in sweeps:
        out.print(f"{swept}")
    if now is not None:
        out.print(_line(now), style="bold")
    elif not files and not sweeps:
        out.print("no results are in this folder, and no command writes to it")


def _watch(folder: Path) -> None:
    """Show the progress of the command that writes to a folder, until it ends."""
    out, last = console(), ""
    with bar(stderr=False) as progress:
        task = progress.add_task("waiting for a command", total=None)
        while (now := running(folder)) is not None:
            progress.update(task, description=_line(now), completed=now.done, total=now.of or None)
            if not out.is_terminal and now.text != last:
                out.print(_line(now))
                last = now.text
            time.sleep(_EVERY)


def _line(now: Running) -> str:
    """What a command does now, and since when."""
    since = datetime.fromtimestamp(now.since).isoformat(" ", "seconds")
    return f"molino {now.command} since {since} (process {now.process}): {now.text}"


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
