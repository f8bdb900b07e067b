"""`molino run`: every vessel of the job as it stands."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from molino.desk.cli.common import (
    AsJson,
    Debug,
    JobPath,
    as_asked,
    console,
    guard,
    known_vessels,
    read_job,
    show_table,
    write_species,
    wrote,
)

if TYPE_CHECKING:
    from molino.core.vessels.run import Run
    from molino.desk.job.load import Job

VesselName = Annotated[str | None, typer.Option("--vessel", help="Only this vessel.", show_default=False)]


def run(job: JobPath, vessel: VesselName = None, as_json: AsJson = False, debug: Debug = False) -> None:
    """Run the vessels as they stand: batches and tubes to their end, tanks to steady state (and through start-up)."""
    with guard(as_json, debug):
        as_asked(do(read_job(job), as_json, vessel), as_json)


def do(job: Job, quiet: bool, only: str | None = None) -> dict[str, Any]:
    """Run, write, print unless quiet; gives the result as plain data."""
    from molino.core.errors import Faults, InputError, nearest
    from molino.desk import figures
    from molino.desk.figures.style import save
    from molino.desk.tables.write import slug, write_json, write_tables

    if not job.vessels:
        raise InputError("there is no [vessels.NAME] table", job.path.name, "add one")
    if only is not None and only not in job.vessels:
        raise InputError(f"there is no vessel '{only}'", job.path.name, nearest(only, job.vessels))
    vessels, source = known_vessels(job, quiet)
    runs: dict[str, Run] = {}
    faults = Faults()
    for name in vessels if only is None else [only]:
        with faults.at(job.path.name):
            runs[name] = vessels[name].outcome()
            if name in job.start_ups:
                runs[f"{name} start-up"] = vessels[name].run(job.start_ups[name])  # type: ignore[attr-defined]
    faults.raise_any()
    content = {"job": job.path.name, "title": job.title, "source": source,
               "vessels": {name: plain(r) for name, r in runs.items()}}  # fmt: skip
    files: list[Path] = [write_json(job.results / "run.json", content), *write_species(job)]
    files += write_tables(job.results, "run", {name: r.table() for name, r in runs.items()})
    files += [
        save(figures.profile(r), job.results / f"run-{slug(name)}.png") for name, r in runs.items() if not r.is_steady
    ]
    if quiet:
        return content
    import pandas as pd
    from rich.text import Text

    out = console()
    out.print(source, style="dim")
    for vessel in {name: r.vessel for name, r in runs.items() if not name.endswith(" start-up")}.values():
        out.print(Text(str(vessel)))
    facts = {name: r.facts() for name, r in runs.items()}
    rows = dict.fromkeys(fact for own in sorted(facts.values(), key=len, reverse=True) for fact in own)
    show_table(
        pd.DataFrame([{"at the end": fact, **{n: own.get(fact, "") for n, own in facts.items()}} for fact in rows])
    )
    wrote(job, files)
    return content


def plain(run: Run) -> dict[str, Any]:
    """A run as plain data, in the units shown."""
    display = run.vessel.display
    numbers = {name: value for name, value in run.summary().items() if name.startswith("conversion")}
    final = {s: float(display.number(c[-1], "concentration")) for s, c in run.concentrations.items()}
    return {
        "kind": run.vessel.noun,
        "steady": run.is_steady,
        "residence_time": {"value": float(display.number(run.residence_time_si, "time")), "unit": display.unit("time")},
        "volume": {"value": float(display.number(run.volume_si, "volume")), "unit": display.unit("volume")},
        **{name.replace(" ", "_"): value for name, value in numbers.items()},
        "concentrations": {"unit": display.unit("concentration"), **final},
        "closure": run.closure,
        "solved_by": str(run.report),
    }
