"""Runs of the vessels of a job as given."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING

from molino.core.annotations import ByName, PlainData
from molino.core.contract.run_result import RunResult
from molino.core.errors import Failures, MolinoError
from molino.core.parallel import Here, in_order
from molino.desk.steps.common import known_vessels, load_figures, print_written, results_of
from molino.desk.steps.progress import Tell, show_progress
from molino.desk.steps.safety import draw_safety, safety_of_runs, show_safety
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from molino.core.runs.tube_over_time import TubeInTime
    from molino.core.safety.safety_results import Safety
    from molino.core.trains.train_over_time import TrainInTime
    from molino.core.vessels.branch import Branch
    from molino.core.vessels.steady_states import SteadyStates
    from molino.desk.job.load import Job
    from molino.desk.tables.write import ResultsFolder


@dataclass
class _Found:
    """The results of the vessels of a job, by name."""

    runs: dict[str, RunResult] = field(default_factory=dict)
    states: dict[str, SteadyStates] = field(default_factory=dict)
    branches: dict[str, Branch] = field(default_factory=dict)
    drawn: dict[str, Figure] = field(default_factory=dict)
    safety: dict[str, Safety] = field(default_factory=dict)
    followed: dict[str, TubeInTime | TrainInTime] = field(default_factory=dict)
    failures: Failures = field(default_factory=Failures)
    error: MolinoError | None = None
    """That of a single vessel."""

    def add(self, other: _Found) -> None:
        """Add those of one vessel."""
        self.runs |= other.runs
        self.states |= other.states
        self.branches |= other.branches
        self.followed |= other.followed


def do(job: Job, quiet: bool) -> PlainData:
    """Run, write, print unless quiet; returns the result as plain data."""
    from molino.core.errors import InputError

    if not job.vessels:
        raise InputError("there is no [vessels.NAME] table", job.path.name, "add one")
    vessels, source, _ = known_vessels(job, quiet)
    found = _run_all(job, vessels, quiet)
    with show_progress("heat safety", quiet):
        found.safety = safety_of_runs(found.runs)
    content = {
        "job": job.path.name,
        "title": job.title,
        "source": source,
        "heat_safety": {name: safety.to_dict() for name, safety in found.safety.items()},
        "vessels": {name: r.to_dict() for name, r in found.runs.items()},
    }
    if found.states:
        content["steady_states"] = {name: s.to_dict()["states"] for name, s in found.states.items()}
    if found.branches:
        content["branches"] = {name: curve.to_dict() for name, curve in found.branches.items()}
    if found.followed:
        content["over_time"] = {name: tube.to_dict() for name, tube in found.followed.items()}
    if not found.runs and not found.followed:
        found.failures.raise_any(job.path.name)
    folder = _write(job, found, content)
    if not quiet:
        _show(found, source)
        waiting = [name for name, vessel in vessels.items() if _needs_size(vessel)]
        if waiting:
            console().print(f"not run, without a size (see molino size): {', '.join(waiting)}")
        print_written(folder)
    found.failures.raise_any(job.path.name)
    return content


def _run_all(job: Job, vessels: ByName, quiet: bool) -> _Found:
    """Every vessel as given, with all tasks of its table."""
    from molino.core.runs.run import Run as RunOfVessel

    figures = load_figures()

    found = _Found()
    sized = [name for name, vessel in vessels.items() if not _needs_size(vessel)]
    with show_progress("run", quiet) as tell_of:
        each = in_order(partial(_run_one, job, vessels, Here(tell_of)), sized)
        for done, (name, own) in enumerate(zip(sized, each, strict=True), start=1):
            tell_of(name, done, len(sized))
            with found.failures.at(name):
                found.add(own)
                if own.error is not None:
                    raise own.error
    for name, asked in job.profiles.items():
        with found.failures.at(f"[profile.{name}]"):
            followed = [found.runs.get(f"{v} over time", found.runs.get(v)) for v in asked.vessels]
            chosen = [one for one in followed if isinstance(one, RunOfVessel)]
            if len(chosen) == len(followed):  # some may have no size, or could not be run
                found.drawn[name] = figures.profile(
                    chosen,
                    asked.show,
                    asked.log,
                    asked.species or job.figures.species,
                    {**job.figures.limits, **asked.limits},
                )
    return found


def _run_one(job: Job, vessels: ByName, tell_of: Here[Tell], name: str) -> _Found:
    """A vessel as given, with all tasks of its table."""
    vessel, tasks, found = vessels[name], job.tanks.get(name), _Found()

    def tell(what: str, done: float = 0) -> None:
        if tell_of.own is not None:
            tell_of.own(what, done, 1)

    tell(name)
    try:
        poisoned = any(one.spec.poison for one in vessel.vessels)
        if not (name in job.follows and poisoned):
            found.runs[name] = vessel.run()
        if tasks is not None:
            if tasks.start_up is not None:
                found.runs[f"{name} over time"] = vessel.run(
                    tasks.start_up, changes=tasks.changes, settling_band=tasks.settling_band
                )
            if tasks.steady_states is not None:
                found.states[name] = vessel.steady_states(tasks.steady_states)
            if tasks.branch is not None:
                found.branches[name] = vessel.branch(tasks.branch)
        if name in job.follows:
            found.followed[name] = vessel.follow(
                **job.follows[name].options, progress=lambda done: tell(f"{name} over time", done)
            )
    except MolinoError as error:
        found.error = error
    return found


def _needs_size(vessel: object) -> bool:
    """Whether a vessel, or one in a train, has no size."""
    return any(one.spec.needs_size for one in getattr(vessel, "vessels", [vessel]))


def _write(job: Job, found: _Found, content: PlainData) -> ResultsFolder:
    """All tables and figures."""
    from molino.core.runs.run import Run as RunOfVessel
    from molino.core.trains.train_over_time import TrainInTime

    figures = load_figures()

    runs, folder = found.runs, results_of(job, "run", content)
    for name, one in {**runs, **{f"{name} over time": tube for name, tube in found.followed.items()}}.items():
        folder.result(one, "run", name)
    tubes = {f"{name} over time": tube.table() for name, tube in found.followed.items()}
    folder.tables("run", {**{name: r.table() for name, r in runs.items()}, **tubes})
    if runs:
        folder.tables("streams", {name: r.stream_table() for name, r in runs.items()})
    for name, whole in found.followed.items():
        last = whole.vessels[-1] if isinstance(whole, TrainInTime) else whole
        folder.figure(figures.over_time(last), "run", f"{name} over time")
    if found.branches:
        folder.tables("branch", {name: curve.table() for name, curve in found.branches.items()})
    for name, r in runs.items():
        if isinstance(r, RunOfVessel) and not r.is_steady:
            drawn = figures.profile(r, species=job.figures.species, limits=job.figures.limits)
            folder.figure(drawn, "run", name)
    for name, figure in found.drawn.items():
        folder.figure(figure, "profile", name)
    for name, states in found.states.items():
        folder.figure(figures.heat_balance(states), "steady", name)
    for name, curve in found.branches.items():
        folder.figure(figures.branch(curve), "branch", name)
    draw_safety(folder, "run", found.safety)
    return folder


def _show(found: _Found, source: str) -> None:
    """Print vessels, their results, streams and steady states."""
    import pandas as pd
    from rich.text import Text

    out = console()
    out.print(source, style="dim")
    for name, run in found.runs.items():
        if not name.endswith(" over time"):
            out.print(Text(str(run.vessel)))
    facts = {name: r.facts() for name, r in found.runs.items()}
    if len(facts) > 3:  # for many vessels the report of each integration is only in run.json
        facts = {name: {k: v for k, v in own.items() if k != "solved by"} for name, own in facts.items()}
    names, n_columns = list(facts), max(1, (out.width - 22) // 14)
    for start in range(0, len(names), n_columns):
        own = {name: facts[name] for name in names[start : start + n_columns]}
        cells = [{"at the end": fact, **{n: one.get(fact, "") for n, one in own.items()}} for fact in _rows(own)]
        show_table(pd.DataFrame(cells))
    for tube in found.followed.values():
        out.print(Text(str(tube)))
    for title, table in together(found.runs).items():
        show_table(table, title)
    for name, run in found.runs.items():
        if run.inner_streams():
            show_table(by_stream(run), f"streams of {name}")
    show_safety(found.safety)
    for name, states in found.states.items():
        show_table(states.table(), f"{name}: {str(states).splitlines()[0]}")
    for curve in found.branches.values():
        out.print(Text(str(curve)))


def _rows(facts: Mapping[str, Mapping[str, str]]) -> list[str]:
    """The names of all facts of vessels, in order."""
    rows: list[str] = []
    for own in facts.values():
        place = 0
        for fact in own:
            if fact not in rows:
                rows.insert(place, fact)
            place = rows.index(fact) + 1
    return rows


def by_stream(run: RunResult) -> pd.DataFrame:
    """One row per stream: total flow, fractions (or flows, where they are unknown), temperature and pressure."""
    table = run.stream_table().set_index("stream")
    species = [*run.stream_in().amounts]
    shares = [row for row in table.index if row.endswith("[mol/mol]") or row.startswith("fraction of ")]
    flows = [row for row in table.index if row.split(" [")[0] in species and row not in shares]
    state = [row for row in table.index if row.startswith(("temperature", "pressure"))]
    total = next(row for row in table.index if row.startswith("total"))
    found = table.loc[[total, *(shares or flows[: len(species)]), *state]].T
    found.columns.name = None
    return found.reset_index(names="stream")


def together(runs: Mapping[str, RunResult]) -> dict[str, pd.DataFrame]:
    """The streams of all vessels in few tables: vessels on one feed together, batches separately."""
    from molino.core.contents.streams import is_whole, stream_table

    groups: dict[object, list[tuple[str, RunResult]]] = {}
    for name, run in runs.items():
        if not name.endswith(" over time"):
            inlet = run.stream_in()
            key = (inlet.is_flowing, tuple(inlet.amounts.items()), inlet.T, inlet.P) if inlet.is_flowing else name
            groups.setdefault(repr(key), []).append((name, run))
    found: dict[str, pd.DataFrame] = {}
    for several in groups.values():
        first = several[0][1]
        inlet = first.stream_in()
        outlets = []
        for name, run in several:
            outlets += [side.named(f"{name}, {side.name}") for side in run.streams_in()[1:]]
            out, *more = run.streams_out()
            outlets.append(out.named(name) if inlet.is_flowing else out)
            outlets += [stream.named(f"{name}, {stream.name}") for stream in more]
        title = "streams: feed and outlets" if inlet.is_flowing else f"contents of {several[0][0]}"
        title = title if title not in found else f"{title} ({', '.join(name for name, _ in several)})"
        found[title] = stream_table([inlet, *outlets], first.fluid, first.display, is_whole(first.fluid, inlet))
    return found
