"""`molino survey`: given conversion, equilibrium, tank, tube and batch on one feed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import survey as step


def survey(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Put given conversion, equilibrium, stirred tank, tube and batch on one feed, before anything is designed.

    Prints conversion, temperature, duty, residence time and distance from equilibrium of each, and why one is far.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
