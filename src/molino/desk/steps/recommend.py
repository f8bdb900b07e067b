"""Recommendations of arrangements of vessels."""

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
from molino.desk.steps.progress import Tell
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    from molino.core.design.recommendation import Recommendation
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import RecommendTask


def do(job: Job, quiet: bool) -> PlainData:
    """Rank, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.recommending import recommend as ranking_of

    require_tasks(
        job,
        "recommend",
        job.recommendations,
        "add one with feed, maximize (or minimize), target and free = { T = [low, high] }",
    )
    chemistry, source = known_chemistry(job, quiet)

    def rank(task: RecommendTask, tell_of: Tell) -> Recommendation:
        return ranking_of(
            chemistry,
            task.feed,
            maximize=task.maximize,
            minimize=task.minimize,
            target=task.target,
            free=task.free,
            heat=task.heat,
            show=task.show,
            progress=tell_of,
        )

    found, failures = do_each("recommend", job.recommendations, quiet, rank)
    if not found:
        failures.raise_any(job.path.name)
    content = content_of(job, source, recommendations=found)
    folder, figures = results_of(job, "recommend", content, found), load_figures()
    folder.tables("recommend", {name: one.table() for name, one in found.items()})
    for name, one in found.items():
        folder.figure(figures.recommendation(one), "recommend", name)
    if not quiet:
        console().print(source, style="dim")
        for name, one in found.items():
            show_table(one.table(), name)
            for heading, text in one.facts().items():
                console().print(f"{heading}: {text}")
        print_written(folder)
    failures.raise_any(job.path.name)
    return content
