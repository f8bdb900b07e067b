"""`molino rerun`: a report run again, and compared."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.progress import show_progress
from molino.desk.steps.terminal import console, show_table

ReportPath = Annotated[Path, typer.Argument(metavar="REPORT", help="A page of molino report.", show_default=False)]
Inputs = Annotated[
    Path | None,
    typer.Option(
        "--inputs",
        metavar="FOLDER",
        help="Use job and data of this folder instead of those in the report.",
        show_default=False,
    ),
]
Extracted = Annotated[
    Path | None,
    typer.Option("--extract", metavar="FOLDER", help="Keep the job and its data in this folder.", show_default=False),
]
_SHOWN = 12


def rerun(
    report: ReportPath, inputs: Inputs = None, extract: Extracted = None, as_json: AsJson = False, debug: Debug = False
) -> None:
    """Extract job and data from a report, run them again, and list the numbers that differ.

    Exit code 1 if an input or a number differs.
    """
    with handle_errors(as_json, debug):
        import tempfile

        from rich.text import Text

        from molino.core.errors import InputError
        from molino.desk.report.rerun import rerun as run_again

        if extract is not None and extract.exists() and (not extract.is_dir() or any(extract.iterdir())):
            raise InputError("it exists already, and is not empty", str(extract), "name a new folder")
        if inputs is not None and not inputs.is_dir():
            raise InputError("the folder does not exist", str(inputs), "name the folder of the job")
        with tempfile.TemporaryDirectory() as temporary, show_progress("running again", as_json):
            found = run_again(report, extract or Path(temporary), inputs, True)
        if not as_json:
            console().print(Text(str(found)))
            if found.differences:
                more = f", the first {_SHOWN}" if len(found.differences) > _SHOWN else ""
                show_table(found.table().head(_SHOWN), f"what differs{more}")
        as_asked(found.to_dict(), as_json)
        if not found.is_same:
            raise typer.Exit(1)
