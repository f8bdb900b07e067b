"""The analysis of tracer tests."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.desk.steps.common import load_figures, print_written
from molino.desk.steps.progress import show_progress
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    from molino.core.mixing.tracer_test import TracerTest
    from molino.core.vessels.batch import Batch
    from molino.desk.job.load import Job
    from molino.desk.tables.write import ResultsFolder


def do(job: Job, quiet: bool) -> PlainData:
    """The tracer tests of a job: analyse, write, print unless quiet; returns the result as plain data."""
    from molino.core.errors import Failures, InputError
    from molino.desk.tables.tracer import read_tracer

    if not job.tracers:
        raise InputError("there is no [tracer.NAME] table", job.path.name, "add one with file, volume and flow")
    folder, failures, found = job.results_folder(), Failures(), PlainData()
    for name, task in job.tracers.items():
        with failures.at(f"[tracer.{name}]"), show_progress(f"tracer test {name}", quiet):
            test = read_tracer(task.path, **task.reading)
            found[name] = analysed(
                test, task.smoothing, task.has_models, task.rate_constant, folder, ("tracer", name), quiet
            )
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "tracers": found}
    folder.json(content, "tracer")
    if not quiet:
        print_written(folder)
    failures.raise_any(job.path.name)
    return content


def analysed(
    test: TracerTest,
    smoothing: float | None,
    models: bool,
    rate_constant: str | None,
    folder: ResultsFolder,
    parts: tuple[str, ...],
    quiet: bool,
) -> PlainData:
    """The analysis of one test: written, printed unless quiet, returned as plain data."""
    from molino.core.mixing.conversion import mixing_bounds
    from molino.core.mixing.flow_fit import fit_flow_models

    figures = load_figures()
    found = test.distribution(smoothing)
    compared = fit_flow_models(test) if models else None
    bounds = mixing_bounds(_first_order(rate_constant), found) if rate_constant is not None else None
    content: PlainData = {**found.to_dict(), "notes_of_reading": list(test.notes)}
    folder.result(found, *parts)
    folder.csv(found.table(), *parts)
    folder.figure(figures.tracer(found, compared), *parts)
    if compared is not None:
        folder.csv(compared.table(), *parts, "models")
        content["models"] = compared.to_dict()
    if bounds is not None:
        content["first_order"] = bounds.to_dict()
    if quiet:
        return content
    from rich.text import Text

    out = console()
    for note in test.notes:
        out.print(Text(note), style="dim")
    out.print(Text(str(found)))
    if compared is not None:
        rows = compared.table().drop(columns=["AICc", "dead fraction"], errors="ignore")
        rows["weight"] = [f"{w:.3f}" if w >= 1e-3 else "< 0.001" for w in compared.weights]
        show_table(rows, "flow models")
        for name, words in compared.facts().items():
            out.print(Text(f"{name}: {words}"))
    if bounds is not None and compared is not None:
        of_model = compared.best.model.conversion(rate_constant, f"{compared.best.mean_si!r} s")
        least, most = bounds.interval("A")
        by_E = f"conversion {bounds.conversion('A'):.4g} by E (95 %: {least:.4g} to {most:.4g})"
        by_model = f"{of_model:.4g} by {compared.best.model.noun}"
        out.print(Text(f"first order, k = {rate_constant}: {by_E}, {by_model}"))
    elif bounds is not None:
        out.print(Text(str(bounds)))
    return content


def _first_order(rate_constant: str) -> Batch:
    """A batch in which A reacts in first order."""
    from molino.core.chemistry.chemistry import Chemistry
    from molino.core.chemistry.reaction import Reaction
    from molino.core.vessels.batch import Batch

    return Batch(Chemistry([Reaction("A -> B", k=rate_constant)]), {"A": "1 mol/L"}, name="first order")
