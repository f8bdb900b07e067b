"""Surveys: given conversion, equilibrium, tank, tube and batch on one feed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.desk.steps.common import (
    content_of,
    do_each,
    known_chemistry,
    load_figures,
    print_written,
    require_tasks,
    results_of,
)
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool) -> PlainData:
    """Survey, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.survey import survey as survey_of

    require_tasks(job, "survey", job.surveys, "add one with feed, or vessel")
    chemistry, source = known_chemistry(job, quiet)
    found, failures = do_each(
        "survey", job.surveys, quiet, lambda task, _: survey_of(chemistry, task.feed, **task.arguments)
    )
    if not found:
        failures.raise_any(job.path.name)
    content = content_of(job, source, surveys=found)
    folder, figures = results_of(job, "survey", content, found), load_figures()
    folder.tables("survey", {name: one.table() for name, one in found.items()})
    for name, one in found.items():
        folder.figure(figures.comparison(one.comparison), "survey", name)
    if not quiet:
        console().print(source, style="dim")
        for name, one in found.items():
            show_table(one.table(), f"survey {name}")
            for label, text in one.remarks.items():
                console().print(f"{label}: {text}")
        print_written(folder)
    failures.raise_any(job.path.name)
    return content
