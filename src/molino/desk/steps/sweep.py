"""Sweeps of a vessel over many conditions."""

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
    from molino.core.design.sweep_result import Sweep
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import SweepTask
    from molino.desk.tables.sweep_parts import SweepParts

_SHOWN = 12
"""The number of printed rows."""


def do(job: Job, quiet: bool) -> PlainData:
    """Sweep, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.sweep_result import Sweep
    from molino.core.design.sweeping import sweep
    from molino.desk.tables.sweep_parts import write_sweep

    figures = load_figures()

    require_tasks(job, "sweep", job.sweeps, "add one with vessel, metrics and conditions = { T = [...] }")
    vessels, source, _ = known_vessels(job, quiet)
    place = job.results_folder()
    folders = {name: job.results / f"sweep-{place.slug(name)}" for name in job.sweeps}

    def swept(named: tuple[str, SweepTask], tell_of: Tell) -> Sweep | SweepParts:
        name, wanted = named

        def show(done: int, cases: int) -> None:
            tell_of(f"{done:,} of {cases:,} cases (Ctrl-C keeps them)", done, cases)

        asked = vessels[wanted.vessel], wanted.conditions, wanted.metrics
        if wanted.in_parts:
            return write_sweep(folders[name], *asked, progress=show)
        return sweep(*asked, progress=show)

    found, failures = do_each("sweep", {name: (name, task) for name, task in job.sweeps.items()}, quiet, swept)
    if not found:
        failures.raise_any(job.path.name)
    content = content_of(job, source, sweeps=found)
    folder = results_of(job, "sweep", content, found)
    tables = {name: one for name, one in found.items() if isinstance(one, Sweep)}
    if tables:
        folder.tables("sweep", {name: one.table() for name, one in tables.items()})
    for name, result in tables.items():
        wanted = job.sweeps[name]
        if wanted.has_parquet:
            folder.parquet(result.table(), "sweep", name)
        if wanted.figure != "none" and result.varied:
            folder.figure(figures.sweep(result, kind=wanted.figure), "sweep", name)
    if not quiet:
        console().print(source, style="dim")
        for name, one in found.items():
            if isinstance(one, Sweep):
                show(name, one)
            else:
                console().print(f"sweep {name}: {one}")
        print_written(folder)
    failures.raise_any(job.path.name)
    if any(result.is_stopped for result in found.values()):
        raise KeyboardInterrupt
    return content


def show(name: str, result: Sweep) -> None:
    """Print the first rows of a sweep, and its extremes."""
    from rich.text import Text

    out = console()
    table = result.table()
    rows = table.head(_SHOWN).drop(columns="reason", errors="ignore")
    more = f", the first {_SHOWN}" if len(table) > _SHOWN else ""
    show_table(rows, f"sweep {name} of {result.vessel.label}: {len(table)} cases{more}")
    for what, text in result.facts().items():
        out.print(Text.assemble((f"{what}: ", "bold"), text))
    if result.is_stopped:
        out.print("interrupted: the computed cases were kept", style="bold yellow")
