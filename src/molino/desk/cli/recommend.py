"""`molino recommend`: arrangements of vessels side by side, each at its own best."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import recommend as step


def recommend(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Put batch, tanks, tubes, recycle and side feed side by side, each at its own best temperature and size.

    Prints the ranking with the interval of each, and why the first is first; draws it.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
