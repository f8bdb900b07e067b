"""Sizes for targets."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.desk.steps.common import (
    content_of,
    do_each,
    known_vessels,
    load_figures,
    next_experiments,
    print_written,
    require_tasks,
    results_of,
    show_next,
)
from molino.desk.steps.progress import Tell
from molino.desk.steps.safety import draw_safety, show_safety
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.design.size.size_result import Sizing
    from molino.core.fitting.next_experiment import NextExperiment
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import Size


def do(job: Job, quiet: bool) -> PlainData:
    """Size, write, print unless quiet; returns the result as plain data. All targets are tried, also if one fails."""
    from molino.core.design.size.sizing import size

    require_tasks(job, "size", job.sizes, "add one with vessel, metric and target")
    vessels, source, fit = known_vessels(job, quiet, any(s.confidence for s in job.sizes.values()))

    def sized(wanted: Size, tell_of: Tell) -> Sizing:
        return size(
            vessels[wanted.vessel],
            wanted.metric,
            wanted.target,
            wanted.free,
            confidence=wanted.confidence,
            spread=wanted.spread or None,
            seed=wanted.seed,
            progress=tell_of,
        )

    found, failures = do_each("size", job.sizes, quiet, sized)
    plans: dict[str, NextExperiment] = {}
    with failures.at("next"):
        tasks = {name: task for name, task in job.sizes.items() if name in found}
        plans = next_experiments(fit, {name: (found[name], task.next, task.several) for name, task in tasks.items()})
    content = content_of(job, source, next=plans, sizes=found)
    if found:
        folder = results_of(job, "size", content, found)
        sources = {name: s.sources for name, s in found.items() if s.sources is not None}
        folder.tables(
            "size",
            {
                "sizes": table(found),
                **{f"{name} spread": s.table() for name, s in sources.items()},
                **{f"{name} next": plan.table() for name, plan in plans.items()},
            },
        )
        safety = {name: s.safety for name, s in found.items() if s.safety is not None}
        draw_safety(folder, "size", safety)
        figures = load_figures()
        for name, one in sources.items():
            folder.figure(figures.spread_sources(one), "size", name, "spread")
        if not quiet:
            console().print(source, style="dim")
            show_table(table(found), "sizes")
            for name, sizing in found.items():
                facts = sizing.facts()
                notes = [f"{fact}: {facts[fact]}" for fact in ("the target is also met at", "checked") if fact in facts]
                for text in filter(None, [sizing.remark, *notes]):
                    console().print(f"{name}: {text}", style="dim", highlight=False, markup=False)
            for name, one in sources.items():
                show_table(one.table(), f"{name}: sources of the spread of {one.metric}")
            show_safety(safety)
            for name, plan in plans.items():
                show_next(name, plan)
            print_written(folder)
    failures.raise_any(job.path.name)
    return content


def table(found: dict[str, Sizing]) -> pd.DataFrame:
    """One row per sizing."""
    import pandas as pd

    rows = [{"size": name, **s.table().to_dict("records")[0]} for name, s in found.items()]
    return pd.DataFrame(rows).dropna(axis="columns", how="all")
