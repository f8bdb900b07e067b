"""`molino optimize`: the conditions and sizes at which a metric is best."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import optimize as step


def optimize(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Find the conditions and sizes at which a metric of a vessel or train is best, within limits.

    Prints the optimum, its active limits and what each is worth, and the slopes; draws it within its surroundings.
    Ctrl-C keeps the best so far.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
