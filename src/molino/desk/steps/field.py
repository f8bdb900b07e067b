"""Laminar tubes and basins, at steady state and over time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.core.errors import Failures, InputError
from molino.desk.steps.common import known_chemistry, load_figures, print_written, results_of
from molino.desk.steps.progress import Tell, show_progress
from molino.desk.steps.terminal import console

if TYPE_CHECKING:
    from molino.desk.job.fields import FieldTask
    from molino.desk.job.load import Job
    from molino.desk.tables.write import ResultsFolder


def do(job: Job, quiet: bool) -> PlainData:
    """Compute, write, print unless quiet; returns the result as plain data."""
    if not job.fields:
        raise InputError("there is no [fields.NAME] table", job.path.name, "add one of kind 'basin' or 'laminar tube'")
    chemistry, source = known_chemistry(job, quiet)
    failures, found = Failures(), dict[str, PlainData]()
    for name, task in job.fields.items():
        with failures.at(f"[fields.{name}]"):
            known = replace(task, field=replace(task.field, chemistry=chemistry))
            found[name] = _worked_out(name, known, quiet)
    if not found:
        failures.raise_any(job.path.name)
    content = {
        "job": job.path.name,
        "title": job.title,
        "source": source,
        "fields": {
            name: {what: result.to_dict() for what, result in results.items()} for name, results in found.items()
        },
    }
    folder = results_of(job, "field", content)
    for name, results in found.items():
        for what, result in results.items():
            folder.result(result, "field", name, what)
        with show_progress(f"drawing {name}", quiet):
            _write(folder, name, job.fields[name], results)
    if not quiet:
        from rich.text import Text

        console().print(source, style="dim")
        for results in found.values():
            for result in results.values():
                console().print(Text(str(result)))
        print_written(folder)
    failures.raise_any(job.path.name)
    return content


def _worked_out(name: str, task: FieldTask, quiet: bool) -> PlainData:
    """The steady field, that over time and the residence time distribution, as requested."""

    vessel = task.field
    found: PlainData = {}
    with show_progress(f"{name} at steady state", quiet):
        found["steady"] = vessel.run()
    if task.follow is not None:
        with show_progress(f"{name} over time", quiet) as tell_of:
            found["over time"] = vessel.follow(**task.follow, progress=_share(tell_of))
    if task.has_tracer:
        with show_progress(f"tracer through {name}", quiet) as tell_of:
            found["residence times"] = vessel.distribution(progress=_share(tell_of))
    return found


def _share(tell_of: Tell) -> Callable[[float], None]:
    return lambda share: tell_of(f"{100 * share:.0f} %", share, 1)


def _write(folder: ResultsFolder, name: str, task: FieldTask, results: PlainData) -> None:
    """Tables and figures of one field."""
    from molino.core.fields.basin_run import BasinInTime

    figures, steady = load_figures(), results["steady"]
    folder.csv(steady.table(), "field", name)
    folder.figure(figures.field(steady, task.show), "field", name)
    folder.figure(figures.across(steady), "field", name, "across")
    over_time = results.get("over time")
    if over_time is not None:
        folder.csv(over_time.table(), "field", name, "over-time")
        folder.figure(figures.over_time(over_time), "field", name, "over-time")
        if isinstance(over_time, BasinInTime):
            folder.figure(figures.sequence(over_time), "field", name, "sequence")
            if task.has_animation:
                folder.animation(lambda: figures.animation(over_time), "field", name)
    if "residence times" in results:
        folder.csv(results["residence times"].table(), "field", name, "tracer")
        folder.figure(figures.tracer(results["residence times"]), "field", name, "tracer")
