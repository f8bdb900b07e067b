"""`molino attainable`: what any arrangement of vessels can make of a feed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import attainable as step


def attainable(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Find what any steady arrangement of tanks, tubes, by-passes and side feeds can make of a feed.

    Prints the extent of the region and, where something is to be best, the train that reaches it; draws the region with
    what makes each piece of its boundary.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
