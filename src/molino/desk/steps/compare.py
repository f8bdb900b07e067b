"""Vessels side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.desk.steps.common import (
    console,
    known_vessels,
    load_figures,
    print_written,
    results_of,
    show_progress,
    show_table,
)

if TYPE_CHECKING:
    from molino.core.design.comparison import Comparison
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Compare, write, print unless quiet; gives the result as plain data."""
    from molino.core.design.comparison import compare
    from molino.core.design.sizing import size
    from molino.core.errors import Failures, InputError

    figures = load_figures()

    if not job.compares:
        raise InputError("there is no [compare.NAME] table", job.path.name, "add one with vessels and metrics")
    vessels, source, _ = known_vessels(job, quiet)
    found: dict[str, Comparison] = {}
    failures = Failures()
    for name, wanted in job.compares.items():
        with failures.at(f"[compare.{name}]"), show_progress(f"comparing {name}", quiet):
            chosen: list[Any] = [vessels[n] for n in wanted.vessels]
            if wanted.size_for is not None:
                chosen = [size(vessel, wanted.size_for, wanted.target) for vessel in chosen]
            found[name] = compare(chosen, wanted.metrics)
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "source": source,
               "comparisons": {name: c.to_dict() for name, c in found.items()}}  # fmt: skip
    folder = results_of(job, "compare", content)
    folder.tables("compare", {name: c.table() for name, c in found.items()})
    for name, c in found.items():
        folder.result(c, "compare", name)
        folder.figure(figures.comparison(c), "compare", name)
    if quiet:
        failures.raise_any(job.path.name)
        return content
    console().print(source, style="dim")
    for name, result in found.items():
        wanted = job.compares[name]
        target = f": each sized for {wanted.size_for} = {wanted.target}" if wanted.size_for is not None else ""
        show_table(result.table(), f"compare {name}{target}")
    print_written(folder)
    failures.raise_any(job.path.name)
    return content
