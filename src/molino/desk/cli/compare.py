"""`molino compare`: vessels side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import compare as step


def compare(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Put vessels side by side: as they stand, or each sized for the same target."""
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
