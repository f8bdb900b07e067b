"""`molino run`: every vessel of the job as it stands."""

from __future__ import annotations

import math
from collections.abc import Mapping
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
    telling,
    write_species,
    wrote,
)

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from molino.core.vessels.run import Run
    from molino.core.vessels.steady_states import Branch, SteadyStates
    from molino.core.vessels.train import TrainRun
    from molino.desk.job.load import Job

VesselName = Annotated[str | None, typer.Option("--vessel", help="Only this vessel.", show_default=False)]


def run(job: JobPath, vessel: VesselName = None, as_json: AsJson = False, debug: Debug = False) -> None:
    """Run the vessels as they stand: batches, tubes and trains to their end, tanks to steady state (or all of them)."""
    with guard(as_json, debug):
        as_asked(do(read_job(job), as_json, vessel), as_json)


def do(job: Job, quiet: bool, only: str | None = None) -> dict[str, Any]:
    """Run, write, print unless quiet; gives the result as plain data."""
    from molino.core.errors import Faults, InputError, nearest
    from molino.core.vessels.run import Run as RunOfVessel
    from molino.core.vessels.stirred_tank import StirredTank
    from molino.desk import figures
    from molino.desk.figures.style import save
    from molino.desk.tables.write import slug, write_json, write_tables

    if not job.vessels:
        raise InputError("there is no [vessels.NAME] table", job.path.name, "add one")
    if only is not None and only not in job.vessels:
        raise InputError(f"there is no vessel '{only}'", job.path.name, nearest(only, job.vessels))
    vessels, source = known_vessels(job, quiet)
    runs: dict[str, Run | TrainRun] = {}
    states: dict[str, SteadyStates] = {}
    branches: dict[str, Branch] = {}
    faults = Faults()
    for name in vessels if only is None else [only]:
        with faults.at(job.path.name), telling(f"running {name}", quiet):
            vessel = vessels[name]
            runs[name] = vessel.outcome()
            tasks = job.tanks.get(name)
            if tasks is None or not isinstance(vessel, StirredTank):
                continue
            if tasks.start_up is not None:
                runs[f"{name} over time"] = vessel.run(tasks.start_up, changes=tasks.changes)
            if tasks.steady_states is not None:
                states[name] = vessel.steady_states(tasks.steady_states)
            if tasks.branch is not None:
                branches[name] = vessel.branch(*tasks.branch)
    drawn: dict[str, Figure] = {}
    for name, asked in job.profiles.items() if only is None and not faults.found else ():
        with faults.at(f"{job.path.name}, [profile.{name}]"):
            chosen = [one for v in asked.vessels if isinstance(one := runs[v], RunOfVessel)]
            if len(chosen) < len(asked.vessels):
                raise InputError("a train has no profile of its own", "", "name its vessels")
            drawn[name] = figures.profile(chosen, asked.show, asked.log)
    faults.raise_any()
    content = {"job": job.path.name, "title": job.title, "source": source,
               "vessels": {name: plain(r) for name, r in runs.items()}}  # fmt: skip
    if states:
        content["steady_states"] = {name: found.table().to_dict("records") for name, found in states.items()}
    if branches:
        content["folds"] = {
            name: [{"kind": f.kind, curve.vary: f.value, "T": f.temperature} for f in curve.folds]
            for name, curve in branches.items()
        }
    files: list[Path] = [write_json(job.results / "run.json", content), *write_species(job)]
    files += write_tables(job.results, "run", {name: r.table() for name, r in runs.items()})
    streams = {name: r.stream_table() for name, r in runs.items()}
    files += write_tables(job.results, "streams", streams)
    if branches:
        files += write_tables(job.results, "branch", {name: curve.table() for name, curve in branches.items()})
    files += [
        save(figures.profile(r), job.results / f"run-{slug(name)}.png")
        for name, r in runs.items()
        if isinstance(r, RunOfVessel) and not r.is_steady
    ]
    files += [save(figure, job.results / f"profile-{slug(name)}.png") for name, figure in drawn.items()]
    files += [save(figures.heat_balance(f), job.results / f"steady-{slug(n)}.png") for n, f in states.items()]
    files += [save(figures.branch(f), job.results / f"branch-{slug(n)}.png") for n, f in branches.items()]
    if quiet:
        return content
    import pandas as pd
    from rich.text import Text

    out = console()
    out.print(source, style="dim")
    for name, run in runs.items():
        if not name.endswith(" over time"):
            out.print(Text(str(run.vessel)))
    facts = {name: r.facts() for name, r in runs.items()}
    if len(facts) > 3:  # too many to say of each how it was solved: run.json does
        facts = {name: {k: v for k, v in own.items() if k != "solved by"} for name, own in facts.items()}
    names, beside = list(facts), max(1, (out.width - 22) // 14)
    for start in range(0, len(names), beside):
        own = {name: facts[name] for name in names[start : start + beside]}
        rows = dict.fromkeys(fact for one in sorted(own.values(), key=len, reverse=True) for fact in one)
        cells = [{"at the end": fact, **{n: one.get(fact, "") for n, one in own.items()}} for fact in rows]
        show_table(pd.DataFrame(cells))
    for title, table in together(runs).items():
        show_table(table, title)
    for name, found in states.items():
        show_table(found.table(), f"{name}: {str(found).splitlines()[0]}")
    for curve in branches.values():
        out.print(Text(str(curve)))
    wrote(job, files)
    return content


def together(runs: Mapping[str, Run | TrainRun]) -> dict[str, pd.DataFrame]:
    """The streams of all vessels in as few tables as can be: vessels on one feed side by side, batches apart."""
    from molino.core.vessels.run import Run as RunOfVessel
    from molino.core.vessels.streams import inlet_of, is_whole, stream_table

    groups: dict[Any, list[tuple[str, Run | TrainRun]]] = {}
    for name, run in runs.items():
        if not name.endswith(" over time"):
            key = run.vessel.feed if hasattr(run.vessel, "feed") else name
            groups.setdefault(str(key), []).append((name, run))
    found = {}
    for several in groups.values():
        first = several[0][1]
        inlet = inlet_of(first) if isinstance(first, RunOfVessel) else first.streams[0]
        flowing = hasattr(first.vessel, "feed")
        outlets = [run.stream_out() for _, run in several]
        if flowing:
            outlets = [out.named(name) for out, (name, _) in zip(outlets, several, strict=True)]
        title = "streams: feed, and what comes out of each" if flowing else f"contents of {several[0][0]}"
        title = title if title not in found else f"{title} ({', '.join(name for name, _ in several)})"
        single = first.vessel if isinstance(first, RunOfVessel) else first.vessel.first
        whole = is_whole(single, inlet)
        found[title] = stream_table([inlet, *outlets], first.vessel.by_name, first.vessel.display, whole)
    return found


def plain(run: Run | TrainRun) -> dict[str, Any]:
    """A run as plain data, in the units shown."""
    from molino.core.vessels.run import Run as RunOfVessel

    display = run.vessel.display
    summary = run.summary()
    numbers = {name: value for name, value in summary.items() if name.startswith("conversion")}
    final = {
        name.removeprefix("concentration of "): float(display.number(value, "concentration"))
        for name, value in summary.items()
        if name.startswith("concentration")
    }
    found = {
        "kind": run.vessel.noun,
        "steady": run.is_steady,
        "residence_time": {"value": float(display.number(run.residence_time_si, "time")), "unit": display.unit("time")},
        "volume": {"value": float(display.number(run.volume_si, "volume")), "unit": display.unit("volume")},
        **{name.replace(" ", "_"): value for name, value in numbers.items()},
        "concentrations": {"unit": display.unit("concentration"), **final},
        "closure": run.closure,
    }
    out = run.stream_out()
    for name, kind, value in (("temperature", "temperature", out.T), ("pressure", "pressure", out.P)):
        if math.isfinite(value):
            found[name] = {"value": float(display.number(value, kind)), "unit": display.unit(kind)}
    if run.knows_duty:
        kind = run.duty_kind
        found["duty"] = {"value": float(display.number(run.duty_si, kind)), "unit": display.unit(kind)}
    return found | ({"solved_by": str(run.report)} if isinstance(run, RunOfVessel) else {})
