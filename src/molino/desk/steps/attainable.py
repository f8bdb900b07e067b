"""What any arrangement of vessels can make of a feed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.core.errors import Failures
from molino.desk.steps.common import console, known_chemistry, load_figures, print_written, results_of, show_progress

if TYPE_CHECKING:
    from molino.core.design.attainable import AttainableRegion, BestTrain
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Find the regions, write, print unless quiet; gives the result as plain data."""
    from molino.core.design.attainable import attainable as region_of
    from molino.core.errors import InputError

    if not job.regions:
        message = "add one with feed and axes = ['conversion of A', 'yield of B on A']"
        raise InputError("there is no [attainable.NAME] table", job.path.name, message)
    chemistry, source = known_chemistry(job, quiet)
    found: dict[str, AttainableRegion] = {}
    trains: dict[str, BestTrain] = {}
    failures = Failures()
    for name, task in job.regions.items():
        with failures.at(f"[attainable.{name}]"), show_progress(f"growing {name}", quiet) as tell_of:

            def show(rounds: int, points: int, tell_of: Any = tell_of) -> None:
                tell_of(f"round {rounds}, {points} points")

            found[name] = region_of(chemistry, task.feed, axes=task.axes, T=task.T, heat=task.heat, progress=show)
            if task.maximize is not None:
                trains[name] = found[name].best(task.maximize, task.subject_to)
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "source": source,
               "regions": {name: region.to_dict() for name, region in found.items()},
               "trains": {name: train.to_dict() for name, train in trains.items()}}  # fmt: skip
    folder, figures = results_of(job, "attainable", content), load_figures()
    for name, region in found.items():
        folder.result(region, "attainable", name)
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
