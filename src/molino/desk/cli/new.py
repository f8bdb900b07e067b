"""`molino new`: a commented job file and a data table to start from."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.common import console

_FILES = {
    "fit": ("job.toml", "measurements.csv"),
    "orders": ("job.toml", "series.csv"),
    "bed": ("job.toml",),
    "start-up": ("job.toml",),
}
_FIRST = {
    "fit": "molino fit {folder}/job.toml",
    "orders": "molino orders {folder}/series.csv",
    "bed": "molino run {folder}/job.toml",
    "start-up": "molino run {folder}/job.toml",
}
"""The first command of each."""


class Kind(StrEnum):
    """The templates."""

    fit = "fit"
    orders = "orders"
    bed = "bed"
    start_up = "start-up"


StartKind = Annotated[
    Kind,
    typer.Option(
        "--kind",
        help="fit: from data to sized vessels; orders: one measured series; bed: a packed bed; "
        "start-up: a tank over time.",
    ),
]
NewFolder = Annotated[Path, typer.Argument(metavar="FOLDER", help="The folder.", show_default=False)]


def new(folder: NewFolder, kind: StartKind = Kind.fit, as_json: AsJson = False, debug: Debug = False) -> None:
    """Write a commented job file, and a data table, to start from; it can be run unchanged. Existing files are kept."""
    with handle_errors(as_json, debug):
        import shutil
        from importlib.resources import as_file, files

        from molino.core.errors import Faults
        from molino.desk.job.models import job_schema
        from molino.desk.tables.write import whole, write_json

        faults = Faults()
        for name in _FILES[kind]:
            if (folder / name).exists():
                faults.add(str(folder / name), "it exists already", "name another folder: molino new FOLDER")
        faults.raise_any()
        for name in _FILES[kind]:
            with as_file(files("molino.demo") / "starts" / str(kind) / name) as source, whole(folder / name) as written:
                shutil.copyfile(source, written)
        write_json(folder / "job.schema.json", job_schema())
        first = _FIRST[kind].format(folder=folder)
        if not as_json:
            names = ", ".join((*_FILES[kind], "job.schema.json"))
            console().print(
                f"new in {folder}/: {names}\nOpen job.toml: its comments explain each part. Then:\n  {first}"
            )
        as_asked({"folder": str(folder), "files": [*_FILES[kind], "job.schema.json"], "first": first}, as_json)
