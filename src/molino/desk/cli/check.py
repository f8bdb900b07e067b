"""`molino check`: what is missing, specified twice, out of balance or of a wrong unit; nothing is run."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import check as step

Written = Annotated[bool, typer.Option("--equations", help="Print the balances of each vessel as they are written.")]


def check(job: JobPath, equations: Written = False, as_json: AsJson = False, debug: Debug = False) -> None:
    """Check a job file and its data: what is missing, specified twice, out of balance or of a wrong unit.

    Nothing is run.

    Then what is worth knowing before a run: warnings, notes, and for each vessel the count of equations and unknowns.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), as_json, equations), as_json)
