"""Arrangements of vessels side by side, each at its own best."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.core.errors import Failures
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
    from molino.core.design.recommending import Recommendation
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Rank, write, print unless quiet; gives the result as plain data."""
    from molino.core.design.recommending import recommend as ranking_of
    from molino.core.errors import InputError

    if not job.recommendations:
        message = "add one with feed, maximize (or minimize), target and within = { T = [low, high] }"
        raise InputError("there is no [recommend.NAME] table", job.path.name, message)
    chemistry, source = known_chemistry(job, quiet)
    found: dict[str, Recommendation] = {}
    failures = Failures()
    for name, task in job.recommendations.items():
        with failures.at(f"[recommend.{name}]"), show_progress(f"recommending for {name}", quiet) as tell_of:
            found[name] = ranking_of(
                chemistry, task.feed, maximize=task.maximize, minimize=task.minimize, target=task.target,
                within=task.within, heat=task.heat, show=task.show, progress=tell_of,
            )  # fmt: skip
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "source": source,
               "recommendations": {name: one.to_dict() for name, one in found.items()}}  # fmt: skip
    folder, figures = results_of(job, "recommend", content), load_figures()
    for name, one in found.items():
        folder.result(one, "recommend", name)
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
