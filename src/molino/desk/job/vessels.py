"""Feeds, vessels and trains of a job, and the tasks of its tanks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.runs.scheduled_changes import Change
from molino.core.terms.adsorption import Adsorption
from molino.core.terms.catalyst import Catalyst
from molino.core.terms.gas_phase import GasPhase
from molino.core.terms.heat import Adiabatic, Duty, Jacket, Profile
from molino.core.terms.side_feed import DistributedFeed
from molino.core.terms.walls import Membrane, other_side
from molino.core.thermo.activity import ACTIVITY_FORMS, ActivityModel
from molino.core.thermo.cubic import CubicEquation
from molino.core.thermo.phase_model import MODELS
from molino.core.trains.heat_steps import Exchanger, FeedEffluent
from molino.core.trains.phase_steps import Condenser, Flash
from molino.core.trains.pressure_steps import Compressor, Pump, Valve
from molino.core.trains.steps import From, Mix, Parallel, Purge, Separator, SideFeed, Split, Step, To
from molino.core.trains.train import Train
from molino.core.trains.train_step import TrainStep
from molino.core.units import Value
from molino.core.vessels.at_conversion import AtConversion
from molino.core.vessels.at_equilibrium import AtEquilibrium
from molino.core.vessels.batch import Batch
from molino.core.vessels.branch import read_range
from molino.core.vessels.bubble_column import BubbleColumn
from molino.core.vessels.dispersed_tube import DispersedTube
from molino.core.vessels.dosing import Dosing
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.semi_batch import SemiBatch
from molino.core.vessels.steady_states import read_bounds
from molino.core.vessels.stirred_tank import StirredTank
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.shapes import Table

Feeds = Mapping[str, Feed]
CLASSES: PlainData = {
    "batch": Batch,
    "semi-batch": SemiBatch,
    "stirred tank": StirredTank,
    "bubble column": BubbleColumn,
    "plug flow": PlugFlow,
    "dispersed tube": DispersedTube,
    "given conversion": AtConversion,
    "equilibrium": AtEquilibrium,
    "train": Train,
}
"""The class of each kind of vessel."""


@dataclass(frozen=True)
class TankTasks:
    """The tasks of a tank besides its steady state: start-up, all steady states, their curve."""

    start_up: Value | None
    changes: tuple[Change, ...]
    steady_states: tuple[object, object] | None
    branch: dict[str, list[object]] | None
    settling_band: float = 0.02


def read_feed(job: JobContext, table: models.FeedTable, chemistry: Chemistry | None) -> Feed:
    """A feed from its table."""
    given = job.read(Feed, table)
    if table.pairs and table.model is None:
        raise InputError("binary parameters are given, and no model", "pairs", "give model = 'Soave' or 'NRTL'")
    if table.model is not None and table.model not in (*MODELS, *ACTIVITY_FORMS):
        raise InputError(f"unknown model '{table.model}'", "model", nearest(table.model, (*MODELS, *ACTIVITY_FORMS)))
    if table.model in ACTIVITY_FORMS:
        given["model"] = _activity_model(table, chemistry) if chemistry is not None else None
    elif table.pairs and chemistry is not None:
        pairs = {(p.species[0], p.species[1]): p.k for p in table.pairs if p.k is not None}
        if len(pairs) < len(table.pairs):
            raise InputError("a pair of an equation of state has no k", "pairs", "give k = 0.1")
        given["model"] = CubicEquation(chemistry.species, table.model, pairs)
    return Feed(**given)


def _activity_model(table: models.FeedTable, chemistry: Chemistry) -> ActivityModel:
    """The activity model of a feed, with both orders of every pair."""
    pairs: dict[tuple[str, str], object] = {}
    even: dict[tuple[str, str], float] = {}
    for pair in table.pairs:
        one, two = pair.species
        if pair.k is not None:
            pairs[one, two] = pair.k
        for names, value in (((one, two), pair.forward), ((two, one), pair.backward)):
            if value is not None:
                pairs[names] = tuple(value) if isinstance(value, list) else value
        if pair.nonrandomness is not None:
            even[one, two] = pair.nonrandomness
    return ActivityModel(chemistry.species, table.model, pairs, even)


def read_vessel(job: JobContext, name: str, table: Table, chemistry: Chemistry, feeds: Feeds) -> Vessel:
    """A vessel from its table: the declared fields of its class, and what refers to other tables."""
    cls, faults = CLASSES[table.kind], Faults()
    given: PlainData = {"name": name, "show": job.units}
    with faults.at():
        given |= job.read(cls, table)
    along = "length" if issubclass(cls, PlugFlow) else "time"
    with faults.at():
        given["heat"] = read_heat_table(job, table.heat, along)
    if table.kind == "semi-batch":
        given["charge"], given["doses"] = job.contents(table.charge), {}
        for dose_name, dose in table.doses.items():
            with faults.at(f"doses, {dose_name}"):
                given["doses"][dose_name] = _dosing(job, dose, feeds)
    if getattr(table, "wall", None) is not None:
        with faults.at("wall"):
            given["wall"] = _membrane(job, table.wall, feeds)
    if getattr(table, "gas", None) is not None:
        with faults.at("gas"):
            given["gas"] = _gas(job, table.gas, feeds)
    if getattr(table, "adsorption", None) is not None:
        with faults.at("adsorption"):
            given["catalyst"] = _taking_up(job, table.adsorption, given.get("catalyst"))
    if table.kind == "given conversion":
        given["keys"], given["in_series"] = table.keys, table.in_series
        given["conversions"] = {r: job.in_unit(x, "number") for r, x in table.conversions.items()}
    if table.kind == "equilibrium":
        given |= {key: getattr(table, key) for key in ("reactions", "species", "solids")}
        given["approach"] = {r: job.in_unit(x, "temperature difference") for r, x in table.approach.items()}
    named = {key: text for key in ("feed", "side") if (text := getattr(table, key, None)) is not None}
    for key, feed_name in named.items():
        with faults.at():
            feed = job.feed_named(feed_name, feeds, key)
            given[key] = DistributedFeed(feed) if key == "side" else feed
    faults.raise_any()
    if named.keys() - given.keys():  # a feed whose faults have been reported
        raise InputError(())
    if table.kind == "batch":
        feed = given.pop("feed", None)
        if (table.charge is None) == (feed is None):
            message = "neither charge nor feed is given" if feed is None else "both charge and feed are given"
            raise InputError(message, "", "give one of them")
        given["charge"] = feed if feed is not None else job.contents(table.charge or {})
    return _with_profiles(job, cls(chemistry, **given), getattr(table, "profiles", {}))


def _with_profiles(job: JobContext, vessel: Vessel, profiles: ByName) -> Vessel:
    """A vessel with profiles of conditions other than its temperature; InputError with all faults."""
    faults, found = Faults(), {}
    for name, pairs in profiles.items():
        with faults.at(f"profiles, {name}"):
            vessel.spec.moved_symbols(name)
            setting, (along, _) = vessel.spec.profile_condition(name), vessel.spec.profile_axis
            found[name] = Profile([(job.in_unit(t, along), job.condition(setting, value)) for t, value in pairs])
    faults.raise_any()
    return vessel.with_(found) if found else vessel


def _membrane(job: JobContext, table: models.MembraneTable, feeds: Feeds) -> Membrane:
    """The membrane of a vessel."""
    faults, constants, kinds, sweep = Faults(), {}, dict[str, str](), None
    for name, given in table.constants.items():
        with faults.at(name):
            constants[name] = job.constant(given)
    with faults.at():
        kinds = other_side(table.flux)
    with faults.at():
        sweep = job.feed_named(table.sweep, feeds, "sweep") if table.sweep is not None else None
    faults.raise_any()
    outside = {s: job.in_unit(value, kinds.get(s, "")) for s, value in table.outside.items()}
    return Membrane(table.flux, constants, outside, sweep, job.in_unit(table.area, "area"))


def _taking_up(job: JobContext, table: models.AdsorptionTable, packing: Catalyst | None) -> Catalyst:
    """The packing of a tube with its adsorption."""
    faults, constants = Faults(), {}
    for name, one in table.constants.items():
        with faults.at(name):
            constants[name] = job.constant(one)
    faults.raise_any()
    found = Adsorption(table.isotherm, job.in_unit(table.rate, "transfer coefficient"), constants)
    if packing is None:
        raise InputError("no packing is given", "", "give catalyst = { bulk_density = '600 kg/m3', voidage = 0.4 }")
    return replace(packing, adsorption=found)


def _gas(job: JobContext, table: models.GasTable, feeds: Feeds) -> GasPhase:
    """The gas in the liquid of a vessel."""
    if (table.feed is None) == (table.supply is None):
        message = "neither feed nor supply is given" if table.feed is None else "both feed and supply are given"
        raise InputError(
            message, "", "name the feed, or give the composition of a gas that is supplied as it is absorbed"
        )
    faults, henry = Faults(), {}
    given = job.read(GasPhase, table)
    for name, one in table.henry.items():
        with faults.at(f"henry, {name}"):
            henry[name] = job.constant(one)
    with faults.at():
        given["feed"] = (
            job.feed_named(table.feed, feeds) if table.feed is not None else job.contents(table.supply or {})
        )
    faults.raise_any()
    return GasPhase(henry=henry, kLa_ratio=table.kLa_ratio, **given)


def read_heat_table(job: JobContext, table: object, along: str) -> object:
    """The heat transfer of a vessel."""
    for cls, shape in (
        (Profile, models.HeldProfileTable),
        (Adiabatic, models.AdiabaticTable),
        (Duty, models.DutyTable),
        (Jacket, models.JacketTable),
    ):
        if isinstance(table, shape):
            return cls(**job.read(cls, table, along if cls is Profile else "time"))
    return table


def _dosing(job: JobContext, table: models.DosingTable, feeds: Feeds) -> Dosing:
    windows = None
    if table.windows is not None:
        windows = [tuple(job.in_unit(t, "time") for t in window) for window in table.windows]
    rate = job.profile(table.rate, "time", "volumetric flow")
    return Dosing(job.feed_named(table.feed, feeds), windows, rate)


def read_changes(job: JobContext, given: Sequence[models.ChangeTable], tank: Vessel) -> tuple[Change, ...]:
    """Steps and ramps of a tank; InputError with all invalid ones."""
    faults, changes = Faults(), []
    for n, change in enumerate(given):
        with faults.at(f"changes {n + 1}"):
            to = job.condition(tank.spec.condition(change.what), change.to)
            changes.append(Change(change.what, to, **job.read(Change, change)))
    faults.raise_any()
    return tuple(changes)


def read_tank_tasks(job: JobContext, table: models.StirredTankTable, tank: Vessel) -> TankTasks:
    """The tasks of a tank besides its steady state."""
    faults = Faults()
    changes: tuple[Change, ...] = ()
    with faults.at():
        changes = read_changes(job, table.changes, tank)
    start_up = bounds = curve = None
    with faults.at():
        if table.start_up is not None:
            start_up = units.positive(job.in_unit(table.start_up, "time"), "time", "start_up")
        elif changes:
            raise InputError("changes are given without a start-up time", "", "give start_up = '6 h'")
    if table.steady_states is not None:
        with faults.at("steady_states"):
            low, high = (job.in_unit(T, "temperature") for T in table.steady_states.T)
            bounds = (low, high)
            read_bounds(tank, bounds)  # type: ignore[arg-type]
    if table.branch is not None:
        with faults.at("branch"):
            curve = {
                name: [job.condition(tank.spec.condition(name), end) for end in ends]
                for name, ends in table.branch.items()
            }
            read_range(tank, curve)
    faults.raise_any()
    return TankTasks(start_up, changes, bounds, curve, table.settling_band)


STEPS: Mapping[str, type[TrainStep]] = {
    "exchanger": Exchanger,
    "feed_effluent": FeedEffluent,
    "split": Split,
    "purge": Purge,
    "separator": Separator,
    "flash": Flash,
    "condenser": Condenser,
    "compressor": Compressor,
    "pump": Pump,
    "valve": Valve,
}
"""The steps of a train that have a table, by its key."""
_KEYS = ("vessel", "parallel", "side_feed", "mix", "begin", "to", "effluent", *STEPS)


def read_train(
    job: JobContext, name: str, table: models.TrainTable, vessels: Mapping[str, Vessel | Train], feeds: Feeds
) -> Train:
    """A train from its table."""
    faults, known = Faults(), dict[str, FeedEffluent]()
    for n, step in enumerate(table.steps):
        with faults.at(f"steps {n + 1}"):
            if step.feed_effluent is not None:
                label = step.name or FeedEffluent.noun
                known[label] = FeedEffluent(**job.read(FeedEffluent, step.feed_effluent), name=step.name)
    steps: list[Step] = []
    for n, step in enumerate(table.steps):
        with faults.at(f"steps {n + 1}"):
            steps += _steps_of(job, step, vessels, feeds, known)
    found = dict[str, Feed | None](feed=None, returned=None)
    for key in found:
        if getattr(table, key) is not None:
            with faults.at(key):
                found[key] = job.feed_named(getattr(table, key), feeds, "")
    faults.raise_any()
    return Train(steps, recycle=table.recycle, name=name, show=job.units, **found)


def _steps_of(
    job: JobContext,
    step: models.StepTable,
    vessels: Mapping[str, Vessel | Train],
    feeds: Feeds,
    exchangers: Mapping[str, FeedEffluent],
) -> list[Step]:
    """The step of a table; several for a vessel that is repeated."""

    def named(vessel: str) -> FlowVessel:
        found = vessels.get(vessel)
        if isinstance(found, FlowVessel):
            return found
        if vessel in job.known("vessels") and found is None:
            raise InputError(())
        raise InputError(f"unknown vessel '{vessel}'", "", nearest(vessel, job.known("vessels")))

    given = [key for key in _KEYS if getattr(step, key) is not None]
    if len(given) != 1:
        message = f"{' and '.join(given)} are in one step" if given else "the step is empty"
        keys = ", ".join("from" if key == "begin" else key for key in _KEYS)
        raise InputError(message, "", f"give one of {keys}")
    key, content = given[0], getattr(step, given[0])
    if key == "vessel":
        return [named(content)] * step.count
    if key == "parallel":
        return [Parallel([named(v) for v in content], step.shares, step.name)]
    if key == "side_feed":
        return [SideFeed(job.feed_named(content, feeds, ""), step.name or content)]
    if key in ("mix", "begin", "to"):
        return [{"mix": Mix, "begin": From, "to": To}[key](content, step.name)]
    if key == "effluent":
        if content not in exchangers:
            raise InputError(f"no feed_effluent has the name '{content}'", "", nearest(content, exchangers))
        return [exchangers[content].effluent]
    if key == "feed_effluent":
        return [exchangers[step.name or FeedEffluent.noun].feed]
    cls: Any = STEPS[key]
    more = {own: getattr(content, own) for own in ("recovery", "gases") if hasattr(content, own)}
    return [cls(**job.read(cls, content), **more, name=step.name)]
