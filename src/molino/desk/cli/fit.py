"""`molino fit`: rate constants from the data."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from molino.desk.cli.common import (
    AsJson,
    Debug,
    JobPath,
    as_asked,
    console,
    do_fits,
    guard,
    read_job,
    show_table,
    write_species,
    wrote,
)

if TYPE_CHECKING:
    from molino.core.fitting.result import Fit
    from molino.desk.job.load import Job


def fit(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Fit the unknown constants to the data: values, 95 % intervals, correlation, and points out of line."""
    with guard(as_json, debug):
        as_asked(do(read_job(job), quiet=as_json), as_json)


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Fit, write, print unless quiet; gives the result as plain data."""
    from molino.core.errors import InputError
    from molino.desk.tables.write import write_json

    if not job.fits:
        raise InputError("there is no [fit.NAME] table", job.path.name, "add one, with data = 'NAME' of a [data.NAME]")
    fits = do_fits(job, quiet)
    content = {"job": job.path.name, "title": job.title, "fits": {name: plain(f) for name, f in fits.items()}}
    files: list[Path] = [write_json(job.results / "fit.json", content), *write_species(job)]
    for name, found in fits.items():
        files += write(job, name, found)
    if quiet:
        return content
    for name, found in fits.items():
        show(name, found)
    wrote(job, files)
    return content


def show(name: str, found: Fit) -> None:
    """Print a fit as in a laboratory report."""
    from rich.padding import Padding
    from rich.text import Text

    out = console()
    display = found.experiments.display
    count = f"{len(found.points.measured)} observations in {len(found.experiments)} runs"
    show_table(found.table(), f"fit {name}: {len(found.estimates)} constants from {count}")
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
        sd = display.text(r.standard_deviation, "concentration", 3)
        out.print(f"{r.species}: residual standard deviation {sd}, R² {r.r_squared:.4f} ({r.observations} values)")
    for gone in found.experiments.left_out:
        out.print(f"left out, as the job says: {found.experiments.describe(gone)}")
    for warning in found.warnings:
        out.print(Padding(Text.assemble(("look: ", "bold yellow"), warning), (0, 0, 0, 0)))
    for p in found.odd_points:
        time = f"{display.number(p.time, 'time'):.6g} {display.unit('time')}".strip()
        line = f'leave_out = [{{ run = "{p.run}", time = "{time}", species = "{p.species}" }}]'
        out.print(Text(f"  to leave it out, write in [fit.{name}]:  {line}"))


def write(job: Job, name: str, found: Fit) -> list[Path]:
    """Tables and figure of a fit, and the fitted chemistry with its covariance."""
    from molino.desk import figures
    from molino.desk.figures.style import save
    from molino.desk.job.chemistry import write_chemistry
    from molino.desk.tables.write import slug, write_tables

    stem = f"fit-{slug(name)}"
    tables = {"constants": found.table(), "observations": found.points_table()}
    files = write_tables(job.results, stem, tables)
    files.append(write_chemistry(found.chemistry, job.results / f"{stem}.toml"))
    return [*files, save(figures.fit(found), job.results / f"{stem}.png")]


def plain(found: Fit) -> dict[str, Any]:
    """A fit as plain data."""
    display = found.experiments.display
    constants = {}
    for e in found.estimates:
        value, error, low, high = e.shown()
        constants[e.name] = {"value": value, "standard_error": error, "low_95": low, "high_95": high, "unit": e.unit,
                             "value_si": e.value, "at_bound": e.at_bound}  # fmt: skip
    return {
        "constants": constants,
        "correlation": found.correlation.tolist(),
        "degrees_of_freedom": found.degrees_of_freedom,
        "observations": len(found.points.measured),
        "species": {
            r.species: {
                "residual_standard_deviation": float(display.number(r.standard_deviation, "concentration")),
                "unit": display.unit("concentration"), "r_squared": r.r_squared, "observations": r.observations,
            }
            for r in found.by_species
        },
        "out_of_line": [
            {"run": p.run, "time_s": p.time, "species": p.species, "measured_si": p.measured,
             "calculated_si": p.calculated, "standard_deviations": p.deviations}
            for p in found.odd_points
        ],
        "left_out": [{"run": g.run, "time_s": g.time, "species": g.species} for g in found.experiments.left_out],
        "notes": found.warnings,
    }  # fmt: skip
