"""Fits of rate constants to the data."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.desk.steps.common import do_fits, load_figures, print_written, results_of
from molino.desk.steps.fit_report import after, before, over_temperature
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    from molino.core.fitting.fit_result import Fit
    from molino.desk.job.load import Job
    from molino.desk.tables.write import ResultsFolder


def do(
    job: Job, quiet: bool, profile_likelihood: bool = False, bootstrap: int | None = None, posterior: int | None = None
) -> PlainData:
    """Fit, write, print unless quiet; returns the result as plain data."""
    from molino.core.errors import InputError

    if not job.fits and not job.lines:
        raise InputError("there is no [fit.NAME] table", job.path.name, "add one, with data = 'NAME' of a [data.NAME]")
    studies = {
        name: replace(
            study,
            profile_likelihood=study.profile_likelihood or profile_likelihood,
            bootstrap=bootstrap or study.bootstrap,
            posterior=posterior or study.posterior,
        )
        for name, study in job.fits.items()
    }
    folder = job.results_folder()
    early = {name: before(job, name, study, quiet, folder) for name, study in studies.items()}
    content: PlainData = {"job": job.path.name, "title": job.title, "fits": {}}
    for name, line in job.lines.items():
        content["fits"][name] = over_temperature(job, name, line, quiet, folder).content
    fits = do_fits(job, quiet)
    for name, found in fits.items():
        if not quiet:
            show(name, found)
        measured = [s for s in job.figures.species or () if s in found.responses]
        write(folder, name, found, measured or None)
        late = after(job, name, studies[name], found, early[name], quiet)
        content["fits"][name] = {**found.to_dict(), **early[name].content, **late.content}
    results_of(job, "fit", content, folder=folder)
    if not quiet:
        print_written(folder)
    if any(found.is_stopped for found in fits.values()):
        raise KeyboardInterrupt
    return content


def show(name: str, found: Fit) -> None:
    """Print a fit."""
    from rich.text import Text

    out = console()
    display = found.data.display
    show_table(found.table(), f"fit {name}: {len(found.estimates)} constants from {found.extent}")
    places = found.correlated
    if len(places) > 1:
        import pandas as pd

        names = [found.estimates[i].name for i in places]
        lower = [[f"{found.correlation[i, j]:.3f}" if j <= i else "" for j in places] for i in places]
        frame = pd.DataFrame(lower, columns=names)
        frame.insert(0, "correlation", names)
        show_table(frame)
    for line in found.notes():
        out.print(Text(line))
    for warning in found.warnings:
        out.print(Text.assemble(("note: ", "bold yellow"), warning))
    for p in found.outliers if found.parameter_map.runs else ():
        kind = next(run.axis_kind for run in found.parameter_map.runs if run.name == p.run)
        time = f"{display.number(p.time, kind):.6g} {display.unit(kind)}".strip()
        line = f'leave_out = [{{ run = "{p.run}", time = "{time}", response = "{p.response}" }}]'
        out.print(Text(f"  to leave it out, write in [fit.{name}]:  {line}"))


def write(folder: ResultsFolder, name: str, found: Fit, species: list[str] | None) -> None:
    """Tables and figures of a fit, and the fitted chemistry with its covariance."""
    figures = load_figures()
    from molino.desk.job.chemistry import chemistry_text

    tables = {"constants": found.table(), "observations": found.points_table()}
    for part, table in tables.items():
        folder.csv(table, "fit", name, part)
    folder.result(found, "fit", name)
    folder.sheets(tables, "fit", name)
    folder.text(chemistry_text(found.chemistry), ".toml", "fit", name)
    if found.parameter_map.runs:
        folder.figure(figures.fit(found, species), "fit", name)
    folder.figure(figures.residuals(found), "fit", name, "residuals")
