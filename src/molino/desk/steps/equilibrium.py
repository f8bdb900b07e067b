"""How far a feed could go over temperature and pressure, and by how many beds."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.core.errors import Failures, InputError
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
    from molino.core.design.equilibrium_curves import EquilibriumCurves
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Find the curves, write, print unless quiet; gives the result as plain data."""
    from molino.core.design.equilibrium_curves import equilibrium_curves
    from molino.core.vessels.flow_vessel import FlowVessel

    if not job.equilibria:
        message = "add one with vessel, metric and T = [low, high]"
        raise InputError("there is no [equilibrium.NAME] table", job.path.name, message)
    vessels, source, _ = known_vessels(job, quiet)
    found: dict[str, EquilibriumCurves] = {}
    failures = Failures()
    for name, task in job.equilibria.items():
        with failures.at(f"[equilibrium.{name}]"), show_progress(f"equilibrium of {name}", quiet):
            vessel = vessels[task.vessel]
            assert isinstance(vessel, FlowVessel)
            found[name] = equilibrium_curves(vessel, task.metric, **task.arguments)
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "source": source,
               "equilibria": {name: one.to_dict() for name, one in found.items()}}  # fmt: skip
    folder, figures = results_of(job, "equilibrium", content), load_figures()
    for name, one in found.items():
        folder.result(one, "equilibrium", name)
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
