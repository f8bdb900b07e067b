"""Optimizations of conditions and sizes."""

from __future__ import annotations

from dataclasses import replace
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
    from molino.core.design.optimize.optimum import Optimum
    from molino.core.fitting.next_experiment import NextExperiment
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import OptimizeTask


def do(job: Job, quiet: bool) -> PlainData:
    """Optimize, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.optimizing import answer

    figures = load_figures()
    require_tasks(
        job, "optimize", job.optimizations, "add one with vessel, maximize (or minimize) and free = { T = [low, high] }"
    )
    is_drawn = any(o.question.confidence for o in job.optimizations.values())
    vessels, source, fit = known_vessels(job, quiet, is_drawn)

    def optimized(wanted: OptimizeTask, tell_of: Tell) -> Optimum:
        question = replace(wanted.question, vessel=vessels[wanted.vessel])

        def show(runs: int, value: float) -> None:
            shown = question.objective.shown_text(question.vessel.spec.display, value)
            tell_of(f"{runs} runs, best so far {shown} (Ctrl-C keeps it)")

        return answer(question, wanted.n_starts, wanted.seed, show)

    found, failures = do_each("optimize", job.optimizations, quiet, optimized)
    if not found:
        failures.raise_any(job.path.name)
    plans: dict[str, NextExperiment] = {}
    with failures.at("next"):
        tasks = {name: task for name, task in job.optimizations.items() if name in found}
        plans = next_experiments(fit, {name: (found[name], task.next, task.several) for name, task in tasks.items()})
    content = content_of(job, source, next=plans, optima=found)
    folder = results_of(job, "optimize", content, found)
    folder.tables(
        "optimize",
        {
            **{name: best.table() for name, best in found.items()},
            **{f"{name} profile": best.profile_table() for name, best in found.items() if best.profiles and best.free},
            **{f"{name} next": plan.table() for name, plan in plans.items()},
        },
    )
    for name, best in found.items():
        folder.figure(figures.optimum(best), "optimize", name)
    safety = {name: best.safety for name, best in found.items() if best.safety is not None}
    draw_safety(folder, "optimize", safety)
    if not quiet:
        console().print(source, style="dim")
        for name, best in found.items():
            show_optimum(name, best)
        show_safety(safety)
        for name, plan in plans.items():
            show_next(name, plan)
        print_written(folder)
    failures.raise_any(job.path.name)
    if any(best.is_stopped for best in found.values()):
        raise KeyboardInterrupt
    return content


def show_optimum(name: str, best: Optimum) -> None:
    """Print an optimum: its active limits, the derivatives there, and the run."""
    import pandas as pd
    from rich.text import Text

    out = console()
    facts = best.facts()
    show_table(pd.DataFrame({"at the optimum": [*facts], "": [*facts.values()]}), f"{name}: {best.vessel.title}")
    if best.free:
        show_table(best.table(), "free conditions, and derivatives by them")
    if best.remark:
        out.print(Text.assemble(("note: ", "bold yellow"), best.remark.removeprefix("note: ")))
    if best.is_stopped:
        out.print("interrupted: the best so far", style="bold yellow")
    out.print(Text(str(best.run)))
