"""`molino size`: how long, how large."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import size as step


def size(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Size the vessels for their targets, with the uncertainty of the fitted constants carried to the size.

    With `confidence` in its table a size is large enough with that probability; where the spread comes from is drawn.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
