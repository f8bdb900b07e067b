"""Given conversion, equilibrium, tank, tube and batch on one feed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.core.errors import Failures, InputError
from molino.desk.steps.common import (
    console,
    known_chemistry,
    load_figures,
    print_written,
    results_of,
    show_progress,
    show_table,
)

if TYPE_CHECKING:
    from molino.core.design.survey import Survey
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Survey, write, print unless quiet; gives the result as plain data."""
    from molino.core.design.survey import survey as survey_of

    if not job.surveys:
        raise InputError("there is no [survey.NAME] table", job.path.name, "add one with feed, or vessel")
    chemistry, source = known_chemistry(job, quiet)
    found: dict[str, Survey] = {}
    failures = Failures()
    for name, task in job.surveys.items():
        with failures.at(f"[survey.{name}]"), show_progress(f"surveying {name}", quiet):
            found[name] = survey_of(chemistry, task.feed, **task.arguments)
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "source": source,
               "surveys": {name: one.to_dict() for name, one in found.items()}}  # fmt: skip
    folder, figures = results_of(job, "survey", content), load_figures()
    for name, one in found.items():
        folder.result(one, "survey", name)
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
