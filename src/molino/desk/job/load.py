"""From a job file to core objects, with every fault reported together, by table and key."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, get_args, get_origin

from pydantic import BaseModel, ValidationError

from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import Fault, InputError, nearest
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rates import Rates
from molino.core.vessels.base import Vessel
from molino.core.vessels.feed import Feed, check_contents
from molino.core.vessels.train import Train
from molino.desk.job import models, shapes
from molino.desk.job.context import JobContext
from molino.desk.job.reactions import read_chemistry_tables
from molino.desk.job.studies import Study, read_data, study
from molino.desk.job.tasks import Compare, Size, SweepTask, read_compares, read_sizes, read_sweeps, vessel_named
from molino.desk.job.vessels import TankTasks, read_feed, read_tank_tasks, read_train, read_vessel
from molino.desk.tables.write import slug


@dataclass(frozen=True, eq=False)
class Job:
    """A job file, read and checked: core objects by the names that the file gives them."""

    path: Path
    title: str
    chemistry: Chemistry
    feeds: Mapping[str, Feed]
    vessels: Mapping[str, Vessel | Train]
    data: Mapping[str, Experiments | Rates]
    fits: Mapping[str, Study]
    sizes: Mapping[str, Size]
    compares: Mapping[str, Compare]
    sweeps: Mapping[str, SweepTask]
    tanks: Mapping[str, TankTasks] = field(default_factory=dict)
    profiles: Mapping[str, models.ProfileTable] = field(default_factory=dict)

    @cached_property
    def results(self) -> Path:
        """The folder that results go to, next to the job file and named after it: no two jobs share one."""
        return self.path.parent / "results" / slug(self.path.stem)

    @property
    def single_vessels(self) -> dict[str, Vessel]:
        """The vessels that are no trains of others."""
        return {name: v for name, v in self.vessels.items() if isinstance(v, Vessel)}

    def with_chemistry(self, chemistry: Chemistry) -> Mapping[str, Vessel | Train]:
        """The vessels with another chemistry (the fitted one)."""
        return {name: vessel.with_(chemistry=chemistry) for name, vessel in self.vessels.items()}


def load_job(path: str | Path) -> Job:
    """Read a job file and its data.

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    Job

    Raises
    ------
    InputError
        With every fault of the file and its data, by table and key.

    Examples
    --------
    >>> import molino as mo
    >>> from importlib.resources import files
    >>> job = mo.load_job(files("molino.demo") / "valdeoro.toml")
    >>> list(job.vessels)
    ['cooker', 'tank', 'coil']
    """
    return build(read_tables(Path(path)))


def read_tables(path: Path) -> JobContext:
    """A job file against its shape, ready to build core objects from."""
    if not path.is_file():
        nearby = ", ".join(sorted(p.name for p in path.parent.glob("*.toml")))
        raise InputError("there is no such job file", str(path), f"job files next to it: {nearby}" if nearby else "")
    try:
        raw = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise InputError(f"not readable as TOML: {error}", path.name, "texts stand in quotes, tables in [ ]") from error
    parsed, found = _parse(raw)
    return JobContext(parsed, path, raw, found)


def _parse(raw: dict[str, Any]) -> tuple[models.JobFile, list[Fault]]:
    """The file against its shape: what is sound of it, and what is wrong with the rest."""
    found: list[Fault] = []
    sound: dict[str, Any] = {
        table: dict(content) if isinstance(content, dict) else content for table, content in raw.items()
    }
    while True:
        try:
            return models.JobFile.model_validate(sound), found
        except ValidationError as error:
            for fault in error.errors():
                found.append(_fault_of(fault, raw))
                table, *rest = (str(step) for step in fault["loc"])
                if fault["type"] == "missing" and not rest:
                    sound[table] = {}
                elif rest and isinstance(sound.get(table), dict):
                    sound[table].pop(rest[0], None)
                else:
                    sound.pop(table, None)


def _fault_of(error: Any, raw: Mapping[str, Any]) -> Fault:
    """A fault of the file's shape in words."""
    steps = [str(step) for step in error["loc"] if step not in models.VESSELS]
    place = f"[{'.'.join(steps[:2])}]" + (f" {'.'.join(steps[2:])}" if len(steps) > 2 else "")
    if len(steps) == 1:
        place = f"[{steps[0]}]"
    kind = error["type"]
    if kind == "extra_forbidden":
        owner = ".".join(steps[:-1])
        place = f"[{owner}]" if owner else ""
        return Fault(place, f"unknown key '{steps[-1]}'", nearest(steps[-1], _keys(steps[:-1], raw)))
    if kind == "missing":
        owner = ".".join(steps[:-1])
        return Fault(f"[{owner}]" if owner else "", f"'{steps[-1]}' is missing", f"add {steps[-1]} = ...")
    if kind.startswith("union_tag"):
        given = error.get("ctx", {}).get("tag", "nothing")
        return Fault(place, f"kind = '{given}' is not a vessel", nearest(given, models.VESSELS))
    message = str(error["msg"]).removeprefix("Value error, ")
    return Fault(place, f"{_short(error['input'])}: {message[0].lower()}{message[1:]}" if message else "wrong", "")


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) < 60 else text[:57] + "..."


def _keys(steps: list[str], raw: Mapping[str, Any]) -> list[str]:
    """The keys that a table knows."""
    model: Any = models.JobFile
    content: Any = raw
    for step in steps:
        content = content[int(step)] if isinstance(content, list) else content.get(step, {})
        model = _model_below(model, step, content)
        if model is None:
            return []
    return list(model.model_fields)


def _model_below(model: Any, step: str, content: Any) -> Any:
    """The model of what stands in a key of a table (or in an entry of a mapping or list of tables)."""
    if isinstance(model, list):
        (inner,) = model
        if inner == "constant" or not isinstance(content, dict):
            return shapes.constant_table(content) if isinstance(content, dict) else None
        return models.VESSELS.get(content.get("kind", "")) if inner == "vessel" else inner
    if step == "heat":
        return models.heat_table(content)
    if step == "heat_capacity" and isinstance(content, dict):
        return models.HeatCapacityTable
    if step == "vessels":
        return ["vessel"]
    if step == "constants":
        return ["constant"]
    found = model.model_fields.get(step)
    if found is None:
        return shapes.constant_table(content) if isinstance(content, dict) else None
    inner = _tables_in(found.annotation)
    if inner is None:
        return shapes.UnknownTable if isinstance(content, dict) and "guess" in content else None
    return [inner] if isinstance(content, list) or _is_mapping(found.annotation) else inner


def _is_mapping(annotation: Any) -> bool:
    return get_origin(annotation) is dict or any(_is_mapping(a) for a in get_args(annotation))


def _tables_in(annotation: Any) -> Any:
    """The one table that an annotation holds, however deep."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((t for a in get_args(annotation) if (t := _tables_in(a)) is not None), None)


def build(job: JobContext) -> Job:
    """The core objects of a job; InputError with all that is wrong."""
    chemistry = read_chemistry_tables(job)
    feeds = {}
    for name, table in job.file.feeds.items():
        with job.at(f"[feeds.{name}]"):
            feed = read_feed(job, table, chemistry)
            if chemistry is not None and not _started_otherwise(job, name):
                check_contents(feed.contents, chemistry, "contents")
            feeds[name] = feed
    vessels: dict[str, Vessel | Train] = {}
    if chemistry is not None:
        trains = {n: t for n, t in job.file.vessels.items() if isinstance(t, models.TrainTable)}
        for name, vessel in job.file.vessels.items():
            with job.at(f"[vessels.{name}]"):
                if name not in trains:
                    vessels[name] = read_vessel(job, name, vessel, chemistry, feeds)
        for name, train in trains.items():
            with job.at(f"[vessels.{name}]"):
                vessels[name] = read_train(job, name, train, vessels, feeds)
    data = {}
    for name, source in job.file.data.items():
        with job.at(f"[data.{name}]"):
            data[name] = read_data(job, source, vessels)
    fits = {}
    for name, fit in job.file.fit.items():
        with job.at(f"[fit.{name}]"):
            fits[name] = study(job, fit, data, chemistry)
    sizes, compares, sweeps = read_sizes(job, vessels), read_compares(job, vessels), read_sweeps(job, vessels)
    tanks = {}
    for name, vessel in job.file.vessels.items():
        if isinstance(vessel, models.StirredTankTable) and isinstance(tank := vessels.get(name), Vessel):
            with job.at(f"[vessels.{name}]"):
                tanks[name] = read_tank_tasks(job, vessel, tank)
    for name, profile in job.file.profile.items():
        with job.at(f"[profile.{name}]"):
            for drawn in profile.vessels:
                _check_profile(vessel_named(job, drawn, vessels), profile)
    if chemistry is not None and chemistry.unknowns and not job.known("fit"):
        waiting = ", ".join(p.name for p in chemistry.unknowns)
        advice = "add a [fit.NAME] table with data, or give numbers"
        job.faults.add("", f"{waiting} unknown, and no [fit] to find them", advice)
    job.raise_merged()
    assert chemistry is not None
    return Job(
        job.path,
        job.file.title,
        chemistry,
        feeds,
        vessels,
        data,
        fits,
        sizes,
        compares,
        sweeps,
        tanks,
        dict(job.file.profile),
    )


def _check_profile(vessel: Vessel | Train, profile: models.ProfileTable) -> None:
    """Raise InputError for a vessel that nothing runs along."""
    if isinstance(vessel, Train):
        raise InputError(f"{vessel.label} is a train, which has no profile of its own", "", "name its vessels")
    del profile


def _started_otherwise(job: JobContext, feed: str) -> bool:
    """Whether a tank on this feed has other contents at the start, which may hold what the feed lacks."""
    tanks = [v for v in job.file.vessels.values() if isinstance(v, models.StirredTankTable) and v.feed == feed]
    return any(tank.contents is not None for tank in tanks)
