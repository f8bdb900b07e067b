"""The design tasks of a job, each checked with its vessels."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import parse_metric
from molino.core.contract.vessel import Vessel
from molino.core.design.attainable import read_region
from molino.core.design.confidence import check_confidence
from molino.core.design.equilibrium_curves import at_equilibrium, check_curves
from molino.core.design.optimize.free_profile import FreeProfile
from molino.core.design.optimize.objective import Limit, read_expression, read_limit
from molino.core.design.optimize.problem import read_question
from molino.core.design.recommending import check_recommendation
from molino.core.design.size.sizing import check_size
from molino.core.design.spans import MOST, log_span, span
from molino.core.design.sweeping import check_sweep
from molino.core.dimension_text import si_text
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.terms.heat import Adiabatic
from molino.core.trains.train import Train
from molino.core.unit_tables import SI_UNITS
from molino.core.vessels.at_conversion import AtConversion
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.plug_flow import PlugFlow
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.studies import read_candidates
from molino.desk.job.task_types import (
    Compare,
    EquilibriumTask,
    OptimizeTask,
    RecommendTask,
    RegionTask,
    Size,
    SurveyTask,
    SweepTask,
)
from molino.desk.job.vessels import read_heat_table
from molino.desk.tables.write import check_parquet

Vessels = Mapping[str, Vessel | Train]


def vessel_named(job: JobContext, name: str, vessels: Vessels) -> Vessel | Train:
    """A vessel by its name; InputError, without a message if its own faults have been reported."""
    if name not in job.known("vessels"):
        raise InputError(f"unknown vessel '{name}'", "", nearest(name, job.known("vessels"), "add it"))
    if name not in vessels:
        raise InputError(())
    return vessels[name]


def read_sizes(job: JobContext, vessels: Vessels) -> dict[str, Size]:
    """The sizes of a job; faults are added."""
    found = {}
    for name, table in job.file.size.items():
        with job.at(f"[size.{name}]"):
            metric = parse_metric(table.metric)
            target = _target(job, metric, table.target)
            vessel = vessel_named(job, table.vessel, vessels)
            check_size(vessel, metric, table.free)
            spread = {c: _spread(job, vessel, c, given) for c, given in table.spread.items()}
            check_confidence(vessel, table.confidence, spread)
            found[name] = Size(
                table.vessel,
                metric,
                target,
                table.free,
                table.confidence,
                spread,
                table.seed,
                *_next(job, table.next, vessel),
            )
    return found


def read_compares(job: JobContext, vessels: Vessels) -> dict[str, Compare]:
    """The comparisons of a job; faults are added."""
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
                        one.spec.expression(metric)
                if size_for is not None:
                    with faults.at():
                        check_size(one, size_for, None)
                elif isinstance(one, Vessel) and one.spec.needs_size:
                    faults.add(
                        "",
                        f"{one.label} has no size yet",
                        f"give its {one.spec.default_size()}, or size_for and target",
                    )
            faults.raise_any()
            found[name] = Compare(tuple(table.vessels), tuple(metrics), size_for, wanted)
    return found


def read_sweeps(job: JobContext, vessels: Vessels) -> dict[str, SweepTask]:
    """The sweeps of a job; faults are added."""
    found = {}
    for name, table in job.file.sweep.items():
        with job.at(f"[sweep.{name}]"):
            vessel = vessel_named(job, table.vessel, vessels)
            if bool(table.conditions) == bool(table.cases):
                raise InputError(
                    "give either conditions or cases", "", "conditions = { T = [...] }, or cases = [{ T = ... }, ...]"
                )
            faults = Faults()
            conditions: Any = {}
            for condition, given in table.conditions.items():
                with faults.at(condition):
                    conditions[condition] = _values(job, vessel, condition, given)
            if table.cases:
                conditions = [{c: _condition(job, vessel, c, v) for c, v in case.items()} for case in table.cases]
            if table.parquet or table.parts:
                with faults.at():
                    check_parquet()
            faults.raise_any()
            check_sweep(vessel, conditions, table.metrics, math.inf if table.parts else MOST)
            own = table.figure, table.parquet, table.parts
            found[name] = SweepTask(table.vessel, conditions, tuple(table.metrics), *own)
    return found


def read_optimizations(job: JobContext, vessels: Vessels) -> dict[str, OptimizeTask]:
    """The optimizations of a job; faults are added."""
    found = {}
    for name, table in job.file.optimize.items():
        with job.at(f"[optimize.{name}]"):
            vessel = vessel_named(job, table.vessel, vessels)
            free = {c: _free(job, vessel, c, ends) for c, ends in table.free.items()}
            spread = {c: _spread(job, vessel, c, given) for c, given in table.spread.items()}
            question = read_question(
                vessel,
                free,
                table.maximize,
                table.minimize,
                table.subject_to,
                vessel.spec.display,
                job.in_unit,
                table.confidence,
                spread,
            )
            found[name] = OptimizeTask(
                table.vessel, question, table.n_starts, table.seed, *_next(job, table.next, vessel)
            )
    return found


def read_regions(job: JobContext, feeds: Mapping[str, Feed], chemistry: Chemistry | None) -> dict[str, RegionTask]:
    """The attainable regions of a job; faults are added."""
    found = {}
    for name, table in job.file.attainable.items():
        with job.at(f"[attainable.{name}]"):
            feed = job.feed_named(table.feed, feeds)
            if chemistry is None:
                continue
            T = None if table.T is None else job.in_unit(table.T, "temperature")
            template, metrics = read_region(chemistry, feed, tuple(table.axes), T, table.heat)
            faults = Faults()
            limits: list[str] = []
            for text in table.subject_to:
                with faults.at("subject_to"):
                    limits.append(_limit_text(read_limit(text, template, job.in_unit)))
            asked = None
            if table.maximize is not None:
                with faults.at("maximize"):
                    asked = read_expression(table.maximize, template)
            elif table.subject_to:
                faults.add("subject_to", "limits are given without an objective", "give maximize")
            strange = [str(m) for m in (asked.metrics if asked is not None else ()) if m not in metrics]
            if strange:
                faults.add("maximize", f"{', '.join(strange)} is not an axis", "maximize one of the axes")
            faults.raise_any()
            found[name] = RegionTask(feed, tuple(table.axes), T, table.heat, table.maximize, tuple(limits))
    return found


def read_recommendations(
    job: JobContext, feeds: Mapping[str, Feed], chemistry: Chemistry | None
) -> dict[str, RecommendTask]:
    """The recommendations of a job; faults are added."""
    found = {}
    for name, table in job.file.recommend.items():
        with job.at(f"[recommend.{name}]"):
            feed = job.feed_named(table.feed, feeds)
            if chemistry is None:
                continue
            kinds = {"T": "temperature", "feed T": "temperature", "feed P": "pressure"}
            within = {n: tuple(job.in_unit(end, kinds.get(n, "")) for end in ends) for n, ends in table.free.items()}
            texts = (table.target,) if isinstance(table.target, str) else tuple(table.target)
            check_recommendation(chemistry, feed, table.maximize, table.minimize, texts, within, table.heat)
            tube = PlugFlow(chemistry, feed, space_time=1.0, T=within["T"][0] if "T" in within else None)
            limits = tuple(_limit_text(read_limit(text, tube, job.in_unit)) for text in texts)
            found[name] = RecommendTask(feed, table.maximize, table.minimize, limits, within, table.heat, job.units)
    return found


def read_surveys(
    job: JobContext, feeds: Mapping[str, Feed], vessels: Vessels, chemistry: Chemistry | None
) -> dict[str, SurveyTask]:
    """The surveys of a job; faults are added."""
    found = {}
    for name, table in job.file.survey.items():
        with job.at(f"[survey.{name}]"):
            if (table.feed is None) == (table.vessel is None):
                word = "neither" if table.feed is None else "both"
                raise InputError(f"{word} feed and vessel are given", "", "give one of them")
            given: PlainData = {"show": job.units, "metrics": [parse_metric(m) for m in table.metrics]}
            if table.vessel is not None:
                vessel = vessel_named(job, table.vessel, vessels)
                if not isinstance(vessel, FlowVessel):
                    raise InputError(f"{table.vessel} has no feed of its own", "vessel", "name a tank or tube")
                feed, given["catalyst"] = vessel.feed, vessel.catalyst
                shares_heat = isinstance(vessel.heat, Adiabatic)
                given |= {"heat": vessel.heat if shares_heat else None, "T": None if shares_heat else vessel.T}
            else:
                feed = job.feed_named(table.feed or "", feeds)
            if table.heat is not None:
                given["heat"] = read_heat_table(job, table.heat, "time")
            if table.T is not None:
                given["T"] = job.in_unit(table.T, "temperature")
            if table.conversions is not None:
                given["conversions"] = {r: job.in_unit(x, "number") for r, x in table.conversions.items()}
            if table.residence_time is not None:
                given["residence_time"] = units.positive(
                    job.in_unit(table.residence_time, "time"), "time", "residence_time"
                )
            if chemistry is not None:
                if table.conversions is not None:
                    AtConversion(chemistry, feed, given["conversions"])
                found[name] = SurveyTask(feed, given)
    return found


def read_equilibria(job: JobContext, vessels: Vessels) -> dict[str, EquilibriumTask]:
    """The equilibrium curves of a job; faults are added."""
    found = {}
    for name, table in job.file.equilibrium.items():
        with job.at(f"[equilibrium.{name}]"):
            vessel = vessel_named(job, table.vessel, vessels)
            if not isinstance(vessel, FlowVessel):
                raise InputError(f"{table.vessel} has no feed of its own", "vessel", "name a tank or tube")
            metric = parse_metric(table.metric)
            at_equilibrium(vessel).spec.check_metric(metric)
            given: PlainData = {"T": tuple(job.in_unit(t, "temperature") for t in table.T), "beds": table.beds}
            given["P"] = None if table.P is None else [job.in_unit(p, "pressure") for p in table.P]
            given["inlet"] = job.in_unit(table.inlet, "temperature")
            given["approach"] = job.in_unit(table.approach, "temperature difference")
            if table.target is not None:
                given["target"] = _target(job, metric, table.target)
            check_curves(vessel, metric, **given)
            found[name] = EquilibriumTask(table.vessel, metric, given)
    return found


def _limit_text(limit: Limit) -> str:
    """A limit with its value in SI, as the core reads it."""
    unit = SI_UNITS[limit.expression.kind] if limit.expression.kind else si_text(limit.expression.dimension)
    everywhere = " everywhere" if limit.is_everywhere else ""
    return f"{limit.expression}{everywhere} {limit.way} {limit.value:.12g} {unit}".rstrip()


def _next(
    job: JobContext, table: models.CandidatesTable | None, vessel: Vessel | Train
) -> tuple[tuple[Experiment, ...], int]:
    """The candidates for the next experiment, and the number of experiments."""
    if table is None:
        return (), 1
    faults = Faults()
    found: list[Experiment] = []
    with faults.at("next"):
        found = read_candidates(job, table, vessel.chemistry)
    faults.raise_any()
    return tuple(found), table.several


def _free(job: JobContext, vessel: Vessel | Train, name: str, given: Any) -> Any:
    """The bounds of a free number, or a free profile."""
    if not isinstance(given, models.FreeProfileTable):
        return [_condition(job, vessel, name, end) for end in given]
    low, high = (_condition(job, vessel, name, end) for end in (given.low, given.high))
    if given.slope is not None and not isinstance(given.slope, str) and job.units:
        raise InputError(f"the slope {given.slope} of {name} has no unit", "", "write it with one, like '2 K/min'")
    return FreeProfile(low, high, given.pieces, given.kind, given.slope)


def _target(job: JobContext, metric: Metric, given: object) -> Any:
    value = job.in_unit(given, metric.kind)
    units.read(value, metric.kind, "target")
    return value


def _condition(job: JobContext, vessel: Vessel | Train, name: str, given: object) -> Any:
    """A value of a condition; unknown conditions are reported by the sweep."""
    return job.condition(vessel.spec.conditions[name], given) if name in vessel.spec.conditions else given


def _spread(job: JobContext, vessel: Vessel | Train, name: str, given: object) -> Any:
    """A standard deviation of a condition, a bare number in the unit of its kind; InputError if it is invalid."""
    value = _condition(job, vessel, name, given)
    setting = vessel.spec.condition(name)
    if setting.form in SI_UNITS:
        units.read_difference(value, setting.form, f"spread, {name}")
    return value


def _values(job: JobContext, vessel: Vessel | Train, name: str, given: object) -> Any:
    if isinstance(given, models.SpanTable):
        spaced = log_span if given.spacing == "log" else span
        low, high = (_condition(job, vessel, name, end) for end in (given.first, given.to))
        return spaced(low, high, given.points)
    several = given if isinstance(given, list) else [given]
    return [_condition(job, vessel, name, value) for value in several]
