"""Fields, tubes over time and tracer tests of a job."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError
from molino.core.fields.basin import Basin
from molino.core.fields.laminar_tube import LaminarTube
from molino.core.fields.openings import Baffle, Inlet, Outlet
from molino.core.runs.scheduled_changes import changed_numbers
from molino.core.runs.tube_over_time import check_followed
from molino.core.trains.train import Train
from molino.core.trains.train_over_time import followed_vessels
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.shapes import Table
from molino.desk.job.vessels import read_changes

Feeds = Mapping[str, Feed]


@dataclass(frozen=True)
class FollowTube:
    """A tube or train over time of a job; `options` are those of `PlugFlow.follow`."""

    options: ByName


@dataclass(frozen=True)
class FieldTask:
    """A field of a job: the tube or basin, and its tasks."""

    field: LaminarTube | Basin
    follow: ByName | None = None
    has_tracer: bool = False
    has_animation: bool = False
    show: tuple[str, ...] | None = None


@dataclass(frozen=True)
class TracerTask:
    """A tracer test of a job; `reading` are the options of `mo.mixing.read_tracer`."""

    path: Path
    reading: ByName = field(default_factory=dict)
    smoothing: float | None = None
    has_models: bool = True
    rate_constant: str | None = None


def read_follow(job: JobContext, table: models.FollowTubeTable, vessel: Vessel | Train) -> FollowTube:
    """A tube or train over time."""
    faults = Faults()
    found: PlainData = {"cells": table.cells, "settling_band": table.settling_band}
    with faults.at("follow, time"):
        found["time"] = units.positive(job.in_unit(table.time, "time"), "time", "time")
    with faults.at("follow"):
        if isinstance(vessel, Vessel):
            first: Vessel = vessel
            check_followed(vessel, table.cells, table.settling_band)
        else:
            first = followed_vessels(vessel, table.cells, table.settling_band)[0]
        found["changes"] = read_changes(job, table.changes, first)
        changed_numbers(first, found["changes"])
    filled = table.contents
    if filled == "steady" and not isinstance(vessel, Vessel):
        faults.add("follow, contents", "a train over time cannot begin at its steady state", "give its contents")
    faults.raise_any()
    found["contents"] = job.contents(filled) if isinstance(filled, dict) else filled
    return FollowTube(found)


def read_fields(job: JobContext, chemistry: Chemistry | None, feeds: Feeds) -> dict[str, FieldTask]:
    """The fields of a job; faults are added."""
    found: dict[str, FieldTask] = {}
    for name, table in job.file.fields.items():
        with job.at(f"[fields.{name}]"):
            if chemistry is None:
                continue
            is_basin = isinstance(table, models.BasinTable)
            made = (_basin if is_basin else _laminar)(job, name, table, chemistry, feeds)
            follow = _follow(job, table.follow, is_basin) if table.follow is not None else None
            moving = table.follow is not None and table.follow.animation
            found[name] = FieldTask(made, follow, table.tracer, moving, tuple(table.show) if table.show else None)
    return found


def _common(job: JobContext, name: str, cls: type, table: Table) -> PlainData:
    given = {"name": name, "show": job.units, **job.read(cls, table)}
    D = table.diffusivity
    if isinstance(D, dict):
        given["diffusivity"] = {s: job.in_unit(v, "diffusivity") for s, v in D.items()}
    elif D is not None:
        given["diffusivity"] = job.in_unit(D, "diffusivity")
    return given


def _laminar(job: JobContext, name: str, table: Table, chemistry: Chemistry, feeds: Feeds) -> LaminarTube:
    given = _common(job, name, LaminarTube, table)
    return LaminarTube(chemistry, job.feed_named(table.feed, feeds), heat=table.heat, **given)


def _basin(job: JobContext, name: str, table: Table, chemistry: Chemistry, feeds: Feeds) -> Basin:
    faults, given = Faults(), _common(job, name, Basin, table)

    def pair(both: list[object]) -> tuple[object, object]:
        return job.in_unit(both[0], "length"), job.in_unit(both[1], "length")

    inlets, outlets, baffles = [], [], []
    for n, one in enumerate(table.inlets, 1):
        with faults.at(f"inlets {n}"):
            inlets.append(Inlet(one.side, pair(one.between), job.feed_named(one.feed, feeds), one.profile))
    for n, one in enumerate(table.outlets, 1):
        with faults.at(f"outlets {n}"):
            outlets.append(Outlet(one.side, pair(one.between), one.share, one.profile))
    for n, one in enumerate(table.baffles, 1):
        with faults.at(f"baffles {n}"):
            baffles.append(Baffle(pair(one.start), pair(one.end)))
    faults.raise_any()
    given["moving"] = {side: job.in_unit(v, "mass transfer coefficient") for side, v in table.moving.items()}
    return Basin(chemistry, inlets=inlets, outlets=outlets, baffles=baffles, cells=tuple(table.cells), **given)


def _follow(job: JobContext, asked: models.FollowFieldTable, is_basin: bool) -> PlainData:
    found = {"time": units.positive(job.in_unit(asked.time, "time"), "time", "follow, time"), "points": asked.points}
    found["contents"] = None if asked.contents is None else job.contents(asked.contents)
    if is_basin:
        return {**found, "steps": asked.steps}
    if asked.animation:
        raise InputError("only a basin can be animated", "follow, animation", "leave it out")
    return {**found, "cells": asked.cells, "nodes": asked.nodes}


def read_tracers(job: JobContext) -> dict[str, TracerTask]:
    """The tracer tests of a job; faults are added; the tables are read by the command."""
    found = {}
    for name, table in job.file.tracer.items():
        with job.at(f"[tracer.{name}]"):
            path = job.named_file(table.file)
            if not path.is_file():
                raise InputError(f"the file does not exist: {table.file}", "file", "correct the name")
            asked = table.reading
            asked |= {key: getattr(table, key) for key in ("kind", "injected", "calibration", "plateau")}
            for key, kind in (("volume", "volume"), ("flow", "volumetric flow"), ("end", "time")):
                asked[key] = job.in_unit(getattr(table, key), kind)
            reading = {key: value for key, value in asked.items() if value is not None}
            reading |= {"tail": table.tail, "rule": table.rule}
            reading["baseline"] = [tuple(job.in_unit(t, "time") for t in window) for window in table.baseline]
            found[name] = TracerTask(path, reading, table.smoothing, table.models, table.rate_constant)
    return found
