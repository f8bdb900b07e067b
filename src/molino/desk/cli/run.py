"""`molino run`: every vessel of the job as it stands."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import run as step

VesselName = Annotated[str | None, typer.Option("--vessel", help="Only this vessel.", show_default=False)]


def run(job: JobPath, vessel: VesselName = None, as_json: AsJson = False, debug: Debug = False) -> None:
    """Run the vessels as they stand: batches, tubes and trains to their end, tanks to steady state (or all of them)."""
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), as_json, vessel), as_json)
