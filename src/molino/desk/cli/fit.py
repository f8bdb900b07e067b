"""`molino fit`: rate constants from the data."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from molino.desk.cli.common import (
    AsJson,
    Debug,
    JobPath,
    as_asked,
    console,
    do_fits,
    handle_errors,
    print_files_written,
    read_job,
    show_table,
    write_species,
)
from molino.desk.cli.fit_report import after, before

if TYPE_CHECKING:
    from molino.core.fitting.fit_result import Fit
    from molino.desk.job.load import Job

ProfileLikelihood = Annotated[bool, typer.Option("--profile-likelihood", help="Profile-likelihood intervals, too.")]
Refits = Annotated[
    int | None,
    typer.Option("--bootstrap", metavar="N", min=2, help="Fit N times to resampled data.", show_default=False),
]


def fit(
    job: JobPath,
    profile_likelihood: ProfileLikelihood = False,
    bootstrap: Refits = None,
    as_json: AsJson = False,
    debug: Debug = False,
) -> None:
    """Fit the unknown constants to the data: values, 95 % intervals, correlation, and how far to trust them.

    What [fit.NAME] asks for besides the fit is done, too: screening of orders, rates, the line over temperature,
    profile likelihoods, bootstrap, candidate laws, the next experiment.
    """
    with handle_errors(as_json, debug):
        as_asked(do(read_job(job), quiet=as_json, profile_likelihood=profile_likelihood, bootstrap=bootstrap), as_json)


def do(job: Job, quiet: bool, profile_likelihood: bool = False, bootstrap: int | None = None) -> dict[str, Any]:
    """Fit, write, print unless quiet; gives the result as plain data."""
    from molino.core.errors import InputError
    from molino.desk.tables.write import write_json

    if not job.fits:
        raise InputError("there is no [fit.NAME] table", job.path.name, "add one, with data = 'NAME' of a [data.NAME]")
    studies = {
        name: replace(
            study,
            profile_likelihood=study.profile_likelihood or profile_likelihood,
            bootstrap=bootstrap or study.bootstrap,
        )
        for name, study in job.fits.items()
    }
    early = {name: before(job, name, study, quiet) for name, study in studies.items()}
    fits = do_fits(job, quiet)
    content: dict[str, Any] = {"job": job.path.name, "title": job.title, "fits": {}}
    files: list[Path] = []
    for name, found in fits.items():
        if not quiet:
            show(name, found)
        files += write(job, name, found)
        late = after(job, name, studies[name], found, early[name], quiet)
        content["fits"][name] = {**plain(found), **early[name].content, **late.content}
        files += [*early[name].files, *late.files]
    files = [write_json(job.results / "fit.json", content), *write_species(job), *files]
    if not quiet:
        print_files_written(job, files)
    if any(found.optimum.stopped for found in fits.values()):
        raise typer.Exit(130)
    return content


def show(name: str, found: Fit) -> None:
    """Print a fit as in a laboratory report."""
    from rich.text import Text

    out = console()
    display = found.data.display
    show_table(found.table(), f"fit {name}: {len(found.estimates)} constants from {found.extent}")
    if len(found.estimates) > 1:
        import pandas as pd

        names = [e.name for e in found.estimates]
        lower = [
            [f"{found.correlation[i, j]:.3f}" if j <= i else "" for j in range(len(names))] for i in range(len(names))
        ]
        frame = pd.DataFrame(lower, columns=names)
        frame.insert(0, "correlation", names)
        show_table(frame)
    for r in found.by_species:
        sd = display.text(r.standard_deviation, found.data.kind, 3)
        out.print(f"{r.species}: residual standard deviation {sd}, R² {r.r_squared:.4f} ({r.observations} values)")
    for line in found.diagnosis.lines:
        out.print(Text(line))
    for gone in found.data.left_out:
        out.print(f"left out, as the job says: {found.data.describe(gone)}")
    for warning in found.warnings:
        out.print(Text.assemble(("look: ", "bold yellow"), warning))
    for p in found.outliers if found.parameter_map.runs else ():
        time = f"{display.number(p.time, 'time'):.6g} {display.unit('time')}".strip()
        line = f'leave_out = [{{ run = "{p.run}", time = "{time}", species = "{p.species}" }}]'
        out.print(Text(f"  to leave it out, write in [fit.{name}]:  {line}"))


def write(job: Job, name: str, found: Fit) -> list[Path]:
    """Tables and figures of a fit, and the fitted chemistry with its covariance."""
    from molino.desk import figures
    from molino.desk.figures.style import save
    from molino.desk.job.chemistry import write_chemistry
    from molino.desk.tables.write import slug, write_tables

    stem = f"fit-{slug(name)}"
    tables = {"constants": found.table(), "observations": found.points_table()}
    files = write_tables(job.results, stem, tables)
    files.append(write_chemistry(found.chemistry, job.results / f"{stem}.toml"))
    if found.parameter_map.runs:
        files.append(save(figures.fit(found), job.results / f"{stem}.png"))
    return [*files, save(figures.residuals(found), job.results / f"{stem}-residuals.png")]


def plain(found: Fit) -> dict[str, Any]:
    """A fit as plain data."""
    display, diagnosis = found.data.display, found.diagnosis
    constants = {}
    for e in found.estimates:
        value, error, low, high = e.shown()
        constants[e.name] = {"value": value, "standard_error": error, "low_95": low, "high_95": high, "unit": e.unit,
                             "value_si": e.value, "at_bound": e.at_bound}  # fmt: skip
    lack = diagnosis.lack_of_fit
    return {
        "constants": constants,
        "correlation": found.correlation.tolist(),
        "degrees_of_freedom": found.degrees_of_freedom,
        "observations": len(found.points.measured),
        "sum_of_squares_si": found.sum_of_squares,
        "species": {
            r.species: {
                "residual_standard_deviation": float(display.number(r.standard_deviation, found.data.kind)),
                "unit": display.unit(found.data.kind), "r_squared": r.r_squared, "observations": r.observations,
            }
            for r in found.by_species
        },
        "runs_of_signs": {
            s.response: {"runs": s.runs, "expected": s.expected, "p": s.probability} for s in diagnosis.signs
        },
        "normality_p": diagnosis.normality,
        "lack_of_fit": None if lack is None else {"F": lack.ratio, "p": lack.probability},
        "out_of_line": [
            {"run": p.run, "time_s": p.time, "species": p.species, "measured_si": p.measured,
             "calculated_si": p.calculated, "standard_deviations": p.deviations}
            for p in found.outliers
        ],
        "left_out": [{"run": g.run, "time_s": g.time, "species": g.species} for g in found.data.left_out],
        "stopped": found.optimum.stopped,
        "notes": found.warnings,
    }  # fmt: skip
