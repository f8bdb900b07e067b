"""Comparisons of vessels."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.desk.steps.common import (
    content_of,
    do_each,
    known_vessels,
    load_figures,
    print_written,
    require_tasks,
    results_of,
)
from molino.desk.steps.progress import Tell
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    from molino.core.design.comparison import Comparison
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import Compare


def do(job: Job, quiet: bool) -> PlainData:
    """Compare, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.comparison import compare
    from molino.core.design.size.sizing import size

    figures = load_figures()

    require_tasks(job, "compare", job.compares, "add one with vessels and metrics")
    vessels, source, _ = known_vessels(job, quiet)

    def put_side_by_side(task: Compare, _: Tell) -> Comparison:
        chosen = [vessels[name] for name in task.vessels]
        if task.size_for is None:
            return compare(chosen, task.metrics)
        return compare([size(vessel, task.size_for, task.target) for vessel in chosen], task.metrics)

    found, failures = do_each("compare", job.compares, quiet, put_side_by_side)
    if not found:
        failures.raise_any(job.path.name)
    content = content_of(job, source, comparisons=found)
    folder = results_of(job, "compare", content, found)
    folder.tables("compare", {name: c.table() for name, c in found.items()})
    for name, c in found.items():
        folder.figure(figures.comparison(c), "compare", name)
    if not quiet:
        console().print(source, style="dim")
        for name, result in found.items():
            wanted = job.compares[name]
            target = f": each sized for {wanted.size_for} = {wanted.target}" if wanted.size_for is not None else ""
            show_table(result.table(), f"compare {name}{target}")
        print_written(folder)
    failures.raise_any(job.path.name)
    return content
