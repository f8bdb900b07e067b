"""`molino new`: a commented job file and a data table to start from."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.terminal import console


class Kind(StrEnum):
    """The templates."""

    FIT = "fit"
    ORDERS = "orders"
    BED = "bed"
    START_UP = "start-up"
    SEMI_BATCH = "semi-batch"
    TRAIN = "train"
    TRACER = "tracer"
    OPTIMIZE = "optimize"


_TEMPLATES = {
    Kind.FIT: (("measurements.csv",), "from data to sized vessels", "molino fit {folder}/job.toml"),
    Kind.ORDERS: (("series.csv",), "one measured series", "molino orders {folder}/series.csv"),
    Kind.BED: ((), "a packed bed", "molino run {folder}/job.toml"),
    Kind.START_UP: ((), "a tank over time", "molino run {folder}/job.toml"),
    Kind.SEMI_BATCH: ((), "a dosed batch", "molino run {folder}/job.toml"),
    Kind.TRAIN: ((), "vessels in series with a recycle", "molino run {folder}/job.toml"),
    Kind.TRACER: (("tracer.csv",), "a tracer test", "molino tracer {folder}/job.toml"),
    Kind.OPTIMIZE: ((), "the best conditions", "molino optimize {folder}/job.toml"),
}
"""The data files, the purpose and the first command of each template."""

StartKind = Annotated[
    Kind,
    typer.Option(
        "--kind",
        help="; ".join(f"{name}: {purpose}" for name, (_, purpose, _) in _TEMPLATES.items()) + ".",
    ),
]
NewFolder = Annotated[Path, typer.Argument(metavar="FOLDER", help="The folder.", show_default=False)]


def new(folder: NewFolder, kind: StartKind = Kind.FIT, as_json: AsJson = False, debug: Debug = False) -> None:
    """Write a commented job file, and a data table, to start from; it can be run unchanged. Existing files are kept."""
    with handle_errors(as_json, debug):
        import shutil
        from importlib.resources import as_file, files

        from molino.core.errors import Faults
        from molino.desk.job.models import job_schema
        from molino.desk.tables.write import whole, write_json

        data, _, first = _TEMPLATES[kind]
        names = ("job.toml", *data)
        faults = Faults()
        for name in names:
            if (folder / name).exists():
                faults.add(str(folder / name), "it exists already", "name another folder: molino new FOLDER")
        faults.raise_any()
        for name in names:
            with as_file(files("molino.demo") / "starts" / str(kind) / name) as source, whole(folder / name) as target:
                shutil.copyfile(source, target)
        write_json(folder / "job.schema.json", job_schema())
        written = [*names, "job.schema.json"]
        first = first.format(folder=folder)
        if not as_json:
            listed = ", ".join(written)
            console().print(
                f"new in {folder}/: {listed}\nOpen job.toml: its comments explain each part. Then:\n  {first}"
            )
        as_asked({"folder": str(folder), "files": written, "first": first}, as_json)
