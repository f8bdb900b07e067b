"""Equilibrium of a feed over temperature and pressure, with adiabatic beds."""

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
    from molino.core.design.equilibrium_curve_result import EquilibriumCurves
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import EquilibriumTask


def do(job: Job, quiet: bool) -> PlainData:
    """Compute the curves, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.equilibrium_curves import equilibrium_curves
    from molino.core.vessels.flow_vessel import FlowVessel

    require_tasks(job, "equilibrium", job.equilibria, "add one with vessel, metric and T = [low, high]")
    vessels, source, _ = known_vessels(job, quiet)

    def draw(task: EquilibriumTask, _: Tell) -> EquilibriumCurves:
        vessel = vessels[task.vessel]
        assert isinstance(vessel, FlowVessel)
        return equilibrium_curves(vessel, task.metric, **task.arguments)

    found, failures = do_each("equilibrium", job.equilibria, quiet, draw)
    if not found:
        failures.raise_any(job.path.name)
    content = content_of(job, source, equilibria=found)
    folder, figures = results_of(job, "equilibrium", content, found), load_figures()
    folder.tables("equilibrium", {name: one.table() for name, one in found.items()})
    folder.tables("beds", {name: one.beds() for name, one in found.items() if one.lines})
    for name, one in found.items():
        folder.figure(figures.equilibrium(one), "equilibrium", name)
    if not quiet:
        console().print(source, style="dim")
        for name, one in found.items():
            facts = one.facts()
            for heading in [h for h in facts if h.startswith("equilibrium")]:
                console().print(f"{name}: {heading}: {facts[heading]}")
            if one.lines:
                show_table(one.beds(), f"adiabatic beds of {name}")
            if "target" in facts:
                console().print(facts["target"])
        print_written(folder)
    failures.raise_any(job.path.name)
    return content
