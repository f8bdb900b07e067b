"""`molino sweep`: a vessel under many conditions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import sweep as step


def sweep(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Run vessels under many conditions: every combination of some, or a list of cases.

    Prints the first rows, the highest and lowest of each metric and what could not be computed; all cases go into
    tables (CSV, XLSX, with `parquet = true` also Parquet) and a figure. Ctrl-C keeps what has been computed.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
