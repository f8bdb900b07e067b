"""Sizes, comparisons and sweeps that a job asks for, each checked against its vessels."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from molino.core import units
from molino.core.design.confidence import check_confidence
from molino.core.design.optimizing import Question, read_question
from molino.core.design.sizing import check_size
from molino.core.design.sweeping import check_sweep, log_span, span
from molino.core.errors import Faults, InputError, nearest
from molino.core.vessels.base import Vessel
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.train import Train
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.tables.write import check_parquet

Vessels = Mapping[str, Vessel | Train]


@dataclass(frozen=True)
class Size:
    """A sizing that the job asks for."""

    vessel: str
    metric: Metric
    target: Any
    vary: str | None
    confidence: float | None = None
    spread: Mapping[str, Any] = field(default_factory=dict)
    seed: int = 0


@dataclass(frozen=True)
class Compare:
    """A comparison that the job asks for; with `size_for`, each vessel is sized first."""

    vessels: tuple[str, ...]
    metrics: tuple[Metric, ...]
    size_for: Metric | None
    target: Any


@dataclass(frozen=True)
class SweepTask:
    """A sweep that the job asks for; `vary` as `mo.sweep` takes it."""

    vessel: str
    vary: Any
    metrics: tuple[str, ...]
    figure: str
    has_parquet: bool


@dataclass(frozen=True)
class OptimizeTask:
    """An optimization that the job asks for; its question is of the vessel as the job gives it."""

    vessel: str
    question: Question
    n_starts: int
    seed: int


def vessel_named(job: JobContext, name: str, vessels: Vessels) -> Vessel | Train:
    """A vessel by its name; InputError, without a word where its own faults have been reported."""
    if name not in job.known("vessels"):
        raise InputError(f"there is no vessel '{name}'", "", nearest(name, job.known("vessels"), "add it"))
    if name not in vessels:
        raise InputError(())
    return vessels[name]


def read_sizes(job: JobContext, vessels: Vessels) -> dict[str, Size]:
    """The sizes of a job, their faults noted."""
    found = {}
    for name, table in job.file.size.items():
        with job.at(f"[size.{name}]"):
            metric = parse_metric(table.metric)
            target = _target(job, metric, table.target)
            vessel = vessel_named(job, table.vessel, vessels)
            check_size(vessel, metric, table.vary)
            spread = {c: _spread(job, vessel, c, given) for c, given in table.spread.items()}
            check_confidence(vessel, table.confidence, spread)
            found[name] = Size(table.vessel, metric, target, table.vary, table.confidence, spread, table.seed)
    return found


def read_compares(job: JobContext, vessels: Vessels) -> dict[str, Compare]:
    """The comparisons of a job, their faults noted."""
    found = {}
    for name, table in job.file.compare.items():
        with job.at(f"[compare.{name}]"):
            faults = Faults()
            metrics: list[Metric] = []
            chosen: list[Vessel | Train] = []
            for vessel in table.vessels:
                with faults.at():
                    chosen.append(vessel_named(job, vessel, vessels))
            for text in table.metrics:
                with faults.at():
                    metrics.append(parse_metric(text))
            if (table.size_for is None) != (table.target is None):
                faults.add("", "size_for and target go together", "give both, or neither")
            size_for = wanted = None
            with faults.at():
                size_for = parse_metric(table.size_for) if table.size_for is not None else None
                if size_for is not None and table.target is not None:
                    wanted = _target(job, size_for, table.target)
            for one in chosen:
                for metric in metrics:
                    with faults.at():
                        one._expression(metric)
                if size_for is not None:
                    with faults.at():
                        check_size(one, size_for, None)
                elif isinstance(one, Vessel) and one._needs_size:
                    faults.add(
                        "", f"{one.label} has no size yet", f"give its {one._default_size()}, or size_for and target"
                    )
            faults.raise_any()
            found[name] = Compare(tuple(table.vessels), tuple(metrics), size_for, wanted)
    return found


def read_sweeps(job: JobContext, vessels: Vessels) -> dict[str, SweepTask]:
    """The sweeps of a job, their faults noted."""
    found = {}
    for name, table in job.file.sweep.items():
        with job.at(f"[sweep.{name}]"):
            vessel = vessel_named(job, table.vessel, vessels)
            if bool(table.vary) == bool(table.cases):
                raise InputError("give either vary or cases", "", "vary = { T = [...] }, or cases = [{ T = ... }, ...]")
            faults = Faults()
            vary: Any = {}
            for condition, given in table.vary.items():
                with faults.at(condition):
                    vary[condition] = _values(job, vessel, condition, given)
            if table.cases:
                vary = [{c: _condition(job, vessel, c, v) for c, v in case.items()} for case in table.cases]
            if table.parquet:
                with faults.at():
                    check_parquet()
            faults.raise_any()
            check_sweep(vessel, vary, table.metrics)
            found[name] = SweepTask(table.vessel, vary, tuple(table.metrics), table.figure, table.parquet)
    return found


def read_optimizations(job: JobContext, vessels: Vessels) -> dict[str, OptimizeTask]:
    """The optimizations of a job, their faults noted."""
    found = {}
    for name, table in job.file.optimize.items():
        with job.at(f"[optimize.{name}]"):
            vessel = vessel_named(job, table.vessel, vessels)
            free = {c: [_condition(job, vessel, c, end) for end in ends] for c, ends in table.free.items()}
            spread = {c: _spread(job, vessel, c, given) for c, given in table.spread.items()}
            question = read_question(
                vessel, free, table.maximize, table.minimize, table.subject_to, vessel._display, job.in_unit,
                table.confidence, spread,
            )  # fmt: skip
            found[name] = OptimizeTask(table.vessel, question, table.n_starts, table.seed)
    return found


def _target(job: JobContext, metric: Metric, given: Any) -> Any:
    value = job.in_unit(given, metric.kind)
    units.read(value, metric.kind, "target")
    return value


def _condition(job: JobContext, vessel: Vessel | Train, name: str, given: Any) -> Any:
    """A value of a condition; what is no condition is left for the check of the sweep."""
    return job.condition(vessel._settings[name], given) if name in vessel._settings else given


def _spread(job: JobContext, vessel: Vessel | Train, name: str, given: Any) -> Any:
    """A standard deviation of a condition, a bare number in the unit of its kind; InputError where it is none."""
    value = _condition(job, vessel, name, given)
    setting = vessel._setting(name)
    if setting.form in units.SI_UNITS:
        units.read_difference(value, setting.form, f"spread, {name}")
    return value


def _values(job: JobContext, vessel: Vessel | Train, name: str, given: Any) -> Any:
    if isinstance(given, models.SpanTable):
        spaced = log_span if given.spacing == "log" else span
        low, high = (_condition(job, vessel, name, end) for end in (given.first, given.to))
        return spaced(low, high, given.points)
    several = given if isinstance(given, list) else [given]
    return [_condition(job, vessel, name, value) for value in several]
