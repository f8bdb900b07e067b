"""The attainable regions of a job."""

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
from molino.desk.steps.terminal import console

if TYPE_CHECKING:
    from molino.core.design.attainable_region import AttainableRegion
    from molino.core.design.best_train import BestTrain
    from molino.desk.job.load import Job
    from molino.desk.job.task_types import RegionTask


def do(job: Job, quiet: bool) -> PlainData:
    """Find the regions, write, print unless quiet; returns the result as plain data."""
    from molino.core.design.attainable import attainable as region_of

    advice = "add one with feed and axes = ['conversion of A', 'yield of B on A']"
    require_tasks(job, "attainable", job.regions, advice)
    chemistry, source = known_chemistry(job, quiet)

    def grow(task: RegionTask, tell_of: Tell) -> tuple[AttainableRegion, BestTrain | None]:
        region = region_of(
            chemistry,
            task.feed,
            axes=task.axes,
            T=task.T,
            heat=task.heat,
            progress=lambda rounds, points: tell_of(f"round {rounds}, {points} points"),
        )
        return region, region.best(task.maximize, task.subject_to) if task.maximize is not None else None

    both, failures = do_each("attainable", job.regions, quiet, grow)
    if not both:
        failures.raise_any(job.path.name)
    found = {name: region for name, (region, _) in both.items()}
    trains = {name: train for name, (_, train) in both.items() if train is not None}
    content = content_of(job, source, regions=found, trains=trains)
    folder, figures = results_of(job, "attainable", content, found), load_figures()
    for name, train in trains.items():
        folder.result(train, "attainable", f"{name} best")
    folder.tables("attainable", {name: region.table() for name, region in found.items()})
    for name, region in found.items():
        if len(region.metrics) == 2:
            folder.figure(figures.attainable(region, trains.get(name)), "attainable", name)
    if not quiet:
        console().print(source, style="dim")
        for name, region in found.items():
            console().print(f"{name}: {region}")
            if name in trains:
                console().print(f"best: {trains[name]}")
        print_written(folder)
    failures.raise_any(job.path.name)
    return content
