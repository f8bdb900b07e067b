"""`molino report`: all tasks of a job as one page that a reviewer can run again."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import (
    AsJson,
    Cluster,
    Debug,
    JobPath,
    Quiet,
    WorkerCount,
    as_asked,
    continued,
    handle_errors,
    read_job,
    workers_of,
)
from molino.desk.steps.progress import show_progress
from molino.desk.steps.terminal import console

Target = Annotated[
    Path | None,
    typer.Option("--output", metavar="FILE", help="The file; by default results/JOB/report.html.", show_default=False),
]


def report(
    job: JobPath,
    output: Target = None,
    workers: WorkerCount = None,
    cluster: Cluster = None,
    quiet: Quiet = False,
    as_json: AsJson = False,
    debug: Debug = False,
) -> None:
    """Run all tasks of a job, and write one HTML file: question and answer, data, equations, results.

    It is self-contained, prints to A4, and contains the job and its data: `molino rerun` runs it again.
    """
    with handle_errors(as_json, debug), workers_of(workers, cluster):
        from molino.desk.report.build import page_of_job, write_page

        read = read_job(job)
        is_quiet = as_json or quiet
        with continued(read, "report", {}, is_quiet), show_progress("report", is_quiet) as tell_of:
            page = page_of_job(read, True, tell_of)
        target = output or read.results / "report.html"
        write_page(page, target)
        if not is_quiet:
            from rich.text import Text

            out = console()
            for question, answer in page.answers:
                out.print(Text.assemble((question, "bold"), "\n  ", answer))
            for step, faults in page.record["failed"].items():
                for fault in faults:
                    out.print(Text.assemble(("not done: ", "bold yellow"), f"{step}: {fault}"))
            out.print(f"written: {target} ({target.stat().st_size / 1e6:.1f} MB)", style="dim")
        content = {"report": str(target), "answers": dict(page.answers), "failed": page.record["failed"]}
        as_asked(content, as_json)
        if page.record["failed"]:
            raise typer.Exit(1)
