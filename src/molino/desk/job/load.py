"""From a job file to core objects, with every fault reported together, by table and key."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry, Covariance
from molino.core.chemistry.constants import Constant, Unknown, read_constant
from molino.core.chemistry.reaction import Reaction
from molino.core.chemistry.species import PROPERTIES, Species
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.errors import Fault, Faults, InputError, nearest
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rates import Rates
from molino.core.thermo.cubic import CubicEquation
from molino.core.units import Value
from molino.core.vessels.base import Vessel
from molino.core.vessels.batch import Batch
from molino.core.vessels.catalyst import Catalyst, Deactivation, InternalDiffusion
from molino.core.vessels.changes import Change, condition_kind
from molino.core.vessels.feed import Feed, check_contents
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.heat import Adiabatic, Jacket, Profile
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.pressure import PressureDrop
from molino.core.vessels.semi_batch import Dosing, SemiBatch
from molino.core.vessels.stirred_tank import StirredTank
from molino.core.vessels.train import Train
from molino.core.vessels.train_steps import Exchanger, Parallel, SideFeed
from molino.core.vessels.walls import DistributedFeed, Membrane, other_side
from molino.desk.job import models
from molino.desk.job.studies import Study, read_data, study
from molino.desk.tables.lookup import look_up
from molino.desk.tables.species import read_species

_VESSELS = {
    "batch": models.BatchTable, "semi-batch": models.SemiBatchTable, "stirred tank": models.StirredTankTable,
    "plug flow": models.PlugFlowTable, "train": models.TrainTable,
}  # fmt: skip
_KINDS = {
    "T": "temperature",
    "volume": "volume",
    "space_time": "time",
    "time": "time",
    "length": "length",
    "diameter": "diameter",
    "P": "pressure",
    "density": "density",
    "capacity": "volume",
    "catalyst_mass": "mass",
    "heat_capacity": "",
}
_INNER_KINDS = {
    "area": "area", "stirrer": "power", "bulk_density": "density", "particle_density": "density",
    "particle_diameter": "diameter", "roughness": "diameter",
}  # fmt: skip
"""The kind of quantity of each number within the tables heat, catalyst and pressure_drop that [units] can explain."""


@dataclass(frozen=True)
class Size:
    """A sizing that the job asks for."""

    vessel: str
    metric: Metric
    target: Any
    vary: str | None


@dataclass(frozen=True)
class Compare:
    """A comparison that the job asks for; with `size_for`, each vessel is sized first."""

    vessels: tuple[str, ...]
    metrics: tuple[Metric, ...]
    size_for: Metric | None
    target: Any


@dataclass(frozen=True)
class TankTasks:
    """What a job asks of a tank besides its steady state: to be followed, all steady states, their curve."""

    start_up: Value | None
    changes: tuple[Change, ...]
    steady_states: tuple[Any, Any] | None
    branch: tuple[str, tuple[Any, Any]] | None


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
    tanks: Mapping[str, TankTasks] = field(default_factory=dict)
    profiles: Mapping[str, models.ProfileTable] = field(default_factory=dict)

    @cached_property
    def results(self) -> Path:
        """The folder that results go to, next to the job file."""
        return self.path.parent / "results"

    @property
    def single_vessels(self) -> dict[str, Vessel]:
        """The vessels that are no trains of others."""
        return {name: v for name, v in self.vessels.items() if isinstance(v, Vessel)}

    def with_chemistry(self, chemistry: Chemistry) -> Mapping[str, Vessel | Train]:
        """The vessels with another chemistry (the fitted one)."""
        return {name: vessel.with_(chemistry=chemistry) for name, vessel in self.vessels.items()}


def load_job(path: str | Path) -> Job:
    """Read a job file and its data.

    Raises
    ------
    InputError
        With every fault of the file and its data, by table and key.
    """
    return read_tables(Path(path)).build()


def read_tables(path: Path) -> _Builder:
    """A job file against its shape, ready to build core objects from."""
    if not path.is_file():
        nearby = ", ".join(sorted(p.name for p in path.parent.glob("*.toml")))
        raise InputError("there is no such job file", str(path), f"job files next to it: {nearby}" if nearby else "")
    try:
        raw = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise InputError(f"not readable as TOML: {error}", path.name, "texts stand in quotes, tables in [ ]") from error
    parsed, found = _parse(raw)
    return _Builder(parsed, path, raw, found)


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
    steps = [str(step) for step in error["loc"] if step not in _VESSELS]
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
        return Fault(place, f"kind = '{given}' is not a vessel", nearest(given, _VESSELS))
    message = str(error["msg"]).removeprefix("Value error, ")
    return Fault(place, f"{_short(error['input'])}: {message[0].lower()}{message[1:]}" if message else "wrong", "")


def _place(where: str) -> str:
    """A place in the chemistry by its table in the job."""
    what, _, rest = where.partition(" ")
    name, comma, key = rest.partition(", ")
    tables = {"reaction": f"[reactions.{name}]{comma}{key}", "constant": f"[constants] {rest}", "species": "[species]",
              "covariance": "[covariance]"}  # fmt: skip
    return tables.get(what, where)


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) < 60 else text[:57] + "..."


def _keys(steps: list[str], raw: Mapping[str, Any]) -> list[str]:
    """The keys that a table knows."""
    if not steps:
        return list(models.JobFile.model_fields)
    tables: dict[str, Any] = {
        "units": models.UnitsTable, "species": models.SpeciesTable, "feeds": models.FeedTable,
        "data": models.DataTable, "fit": models.FitTable, "size": models.SizeTable, "compare": models.CompareTable,
        "profile": models.ProfileTable,
    }  # fmt: skip
    model = tables.get(steps[0])
    if steps[0] == "vessels" and len(steps) > 1:
        model = _VESSELS.get(raw["vessels"][steps[1]].get("kind"))
    if steps[0] in ("reactions", "constants"):
        depth = len(steps) - (steps[0] == "reactions")
        inner: Any = raw
        for step in steps:
            inner = inner.get(step, {}) if isinstance(inner, dict) else {}
        form = models.constant_table(inner if isinstance(inner, dict) else {})
        model = (models.ReactionTable, form, models.UnknownTable)[min(depth - 1, 2)]
    if steps[0] in ("fit", "data") and len(steps) > 2:
        below: dict[str, Any] = {
                 "screening": models.ScreeningTable, "rates": models.RatesTable, "next": models.NextTable,
                 "temperature": models.TemperatureTable, "candidates": models.CandidateTable,
                 "signals": models.SignalTable, "leave_out": models.LeaveOutTable}  # fmt: skip
        model = below.get(steps[2])
    deeper: dict[str, Any] = {
        "heat_capacity": models.HeatCapacityTable, "catalyst": models.CatalystTable,
        "deactivation": models.DeactivationTable,
        "pressure_drop": models.PressureDropTable, "steady_states": models.SteadyTable, "branch": models.BranchTable,
        "exchanger": models.ExchangerTable, "heat": models.JacketTable,
    }  # fmt: skip
    if steps[-1] in deeper and len(steps) > 2:
        model = deeper[steps[-1]]
    elif len(steps) > 3 and steps[-2] in ("doses", "internal_diffusion", "changes", "steps"):
        model = {"doses": models.DosingTable, "internal_diffusion": models.InternalDiffusionTable,
                 "changes": models.ChangeTable,
                 "steps": models.StepTable}[steps[-2]]  # fmt: skip
    return list(model.model_fields) if model is not None else []


class _Builder:
    """Builds core objects from what is sound of a job file, and gathers what is wrong with it all.

    A name that stands in the file (`raw`) but has no object has had its own faults reported; what refers to it
    is passed over without another word.
    """

    def __init__(self, parsed: models.JobFile, path: Path, raw: Mapping[str, Any], found: list[Fault]) -> None:
        self.file, self.path, self.raw = parsed, path, raw
        self.faults = Faults()
        self.faults.found += found
        self.units: dict[str, str] = {}
        for key, text in parsed.units.model_dump(exclude_none=True).items():
            kind = models.UNIT_KINDS.get(key, key)
            with self.at(f"[units] {key}"):
                units.expect(text, kind)
                self.units[kind] = text

    @contextmanager
    def at(self, place: str) -> Iterator[None]:
        """Note faults under a table of the job, without saying the name of the thing twice."""
        name = place.partition("]")[0].rpartition(".")[2]
        try:
            yield
        except InputError as error:
            for fault in error.faults:
                where = fault.where
                for prefix in (f"reaction {name}", f"run {name}", name):
                    if where == prefix or where.startswith(prefix + ","):
                        where = where[len(prefix) :].lstrip(", ")
                        break
                message = Fault(where, fault.what, fault.advice)
                self.faults.found.append(message.within(place))

    def known(self, table: str) -> list[str]:
        """The names that the file gives in a table, sound or not."""
        content = self.raw.get(table, {})
        return list(content) if isinstance(content, dict) else []

    def whole(self, *tables: str) -> bool:
        """Whether nothing of these tables had to be passed over."""
        return all(set(self.known(t)) == set(getattr(self.file, t)) for t in tables)

    def unitless(self, given: Any, kind: str) -> Any:
        """A bare number in the unit that [units] gives for its kind."""
        if given is None or isinstance(given, str) or kind not in self.units:
            return given
        return f"{given!r} {self.units[kind]}"

    def fields(self, table: models.Table, *names: str) -> dict[str, Any]:
        return {name: self.unitless(getattr(table, name), _KINDS[name]) for name in names}

    def inner(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """The entries of a table within a vessel that are given, bare numbers in the units of the job."""
        return {
            key: self.unitless(value, _INNER_KINDS[key]) if key in _INNER_KINDS else value
            for key, value in given.items()
            if value is not None
        }

    def contents(self, given: Mapping[str, Any]) -> dict[str, Any]:
        return {species: self.unitless(number, "concentration") for species, number in given.items()}

    def feed(self, table: models.FeedTable, chemistry: Chemistry | None) -> Feed:
        given = table.flow if isinstance(table.flow, list) else [table.flow]
        flows = [self.unitless(flow, "volumetric flow") for flow in given]
        fields = self.fields(table, "T", "P", "density", "heat_capacity")
        model: Any = table.model
        if table.pairs:
            if table.model is None:
                raise InputError("binary parameters are given, and no equation of state", "pairs", "give model='Soave'")
            pairs = {(p.species[0], p.species[1]): p.k for p in table.pairs}
            model = CubicEquation(chemistry.species, table.model, pairs) if chemistry is not None else table.model
        return Feed(self.contents(table.contents), flows, model=model, **fields)

    def build(self) -> Job:
        chemistry = self.chemistry()
        feeds = {}
        for name, table in self.file.feeds.items():
            with self.at(f"[feeds.{name}]"):
                feed = self.feed(table, chemistry)
                if chemistry is not None and not self.started_otherwise(name):
                    check_contents(feed.contents, chemistry, "contents")
                feeds[name] = feed
        data = {}
        for name, source in self.file.data.items():
            with self.at(f"[data.{name}]"):
                data[name] = read_data(source, self.path.parent)
        vessels: dict[str, Vessel | Train] = {}
        if chemistry is not None:
            trains = {n: t for n, t in self.file.vessels.items() if isinstance(t, models.TrainTable)}
            for name, vessel in self.file.vessels.items():
                with self.at(f"[vessels.{name}]"):
                    if name not in trains:
                        vessels[name] = self.vessel(name, vessel, chemistry, feeds)
            for name, train in trains.items():
                with self.at(f"[vessels.{name}]"):
                    vessels[name] = self.train(name, train, vessels, feeds)
        fits = {}
        for name, fit in self.file.fit.items():
            with self.at(f"[fit.{name}]"):
                fits[name] = study(self, fit, data, chemistry)
        sizes, compares = self.tasks()
        tanks = {}
        for name, vessel in self.file.vessels.items():
            if isinstance(vessel, models.StirredTankTable):
                with self.at(f"[vessels.{name}]"):
                    tanks[name] = self.tank_tasks(vessel)
        for name, profile in self.file.profile.items():
            with self.at(f"[profile.{name}]"):
                for drawn in profile.vessels:
                    if drawn not in self.known("vessels"):
                        raise InputError(f"there is no vessel '{drawn}'", "", nearest(drawn, self.known("vessels")))
        if chemistry is not None and chemistry.unknowns and not self.known("fit"):
            waiting = ", ".join(p.name for p in chemistry.unknowns)
            advice = "add a [fit.NAME] table with data, or give numbers"
            self.faults.add("", f"{waiting} unknown, and no [fit] to find them", advice)
        self.raise_merged()
        assert chemistry is not None
        return Job(
            self.path,
            self.file.title,
            chemistry,
            feeds,
            vessels,
            data,
            fits,
            sizes,
            compares,
            tanks,
            dict(self.file.profile),
        )

    def started_otherwise(self, feed: str) -> bool:
        """Whether a tank on this feed has other contents at the start, which may hold what the feed lacks."""
        tanks = [v for v in self.file.vessels.values() if isinstance(v, models.StirredTankTable) and v.feed == feed]
        return any(tank.contents is not None for tank in tanks)

    def raise_merged(self) -> None:
        """Raise all faults, each reported once, with every place it stands in."""
        places: dict[tuple[str, str], list[str]] = {}
        for fault in self.faults.found:
            places.setdefault((fault.what, fault.advice), []).append(fault.where)
        merged = Faults()
        merged.found = [Fault(" and ".join(dict.fromkeys(p)), what, advice) for (what, advice), p in places.items()]
        merged.raise_any(self.path.name)

    def parts(self) -> tuple[list[Reaction], list[Species], dict[str, Constant]]:
        """Reactions, species and shared constants, as far as they are sound."""
        reactions: list[Reaction] = []
        species: list[Species] = []
        if self.file.species_table is not None:
            with self.at("species_table"):
                species += read_species(self.path.parent / self.file.species_table)
        for name, table in self.file.species.items():
            with self.at(f"[species.{name}]"):
                listed = next((s for s in species if s.name == name), None)
                species = [s for s in species if s is not listed] + [self.one_species(name, table, listed)]
        for name, reaction in self.file.reactions.items():
            with self.at(f"[reactions.{name}]"):
                reactions.append(self.reaction(name, reaction))
        shared: dict[str, Constant] = {}
        for name, given in self.file.constants.items():
            with self.at(f"[constants] {name}"):
                shared[name] = read_constant(self.constant(given), name)
        return reactions, species, shared

    def reaction(self, name: str, table: models.ReactionTable) -> Reaction:
        constants, faults = {}, Faults()
        for key, given in (table.__pydantic_extra__ or {}).items():
            with faults.at(key):
                constants[key] = self.constant(given)
        faults.raise_any()
        orders = {s: self.entry(n, "") for s, n in table.orders.items()} if table.orders else None
        heat = {"enthalpy": self.unitless(table.enthalpy, "energy per amount")}
        if table.enthalpy_at is not None:
            heat["enthalpy_at"] = self.unitless(table.enthalpy_at, "temperature")
        return Reaction(table.equation, table.rate, name, orders=orders, basis=table.basis, **heat, **constants)

    def chemistry(self) -> Chemistry | None:
        sound = len(self.faults.found)
        reactions, species, shared = self.parts()
        if not self.file.reactions and not self.faults.found:
            self.faults.add("[reactions]", "there is no reaction", "add a [reactions.NAME] table")
        if len(self.faults.found) > sound or not reactions or not self.whole("species", "reactions", "constants"):
            return None
        try:
            chemistry = Chemistry(reactions, species, shared, self.covariance())
        except InputError as error:
            for fault in error.faults:
                self.faults.add(_place(fault.where), fault.what, fault.advice)
            return None
        for finding in chemistry.check().at("error"):
            self.faults.add(_place(finding.where), finding.what, finding.advice)
        self.check_unitless(chemistry)
        return chemistry

    def check_unitless(self, chemistry: Chemistry) -> None:
        """Note rate constants without a unit in a job that has units."""
        if not self.units:
            return
        try:
            found = chemistry.unitless_dimensions()
        except InputError as error:
            for fault in error.faults:
                self.faults.add(_place(fault.where), fault.what, fault.advice)
            return
        for reaction_name, needed in found.items():
            for constant, dimension in needed.items():
                if dimension:
                    message = f"{constant} is a bare number, and [units] does not say what a rate constant is in"
                    advice = f"write it with its unit, {units.everyday_text(dimension)} or alike"
                    self.faults.add(f"[reactions.{reaction_name}]", message, advice)

    def covariance(self) -> Covariance | None:
        table = self.file.covariance
        if table is None:
            return None
        matrix = np.array(table.matrix)
        if matrix.shape != (len(table.names),) * 2:
            message = f"the matrix is not {len(table.names)} by {len(table.names)}"
            raise InputError(message, "covariance", "take it as a fit wrote it, or delete the table")
        return Covariance(tuple(table.names), matrix, table.degrees_of_freedom)

    def one_species(self, name: str, table: models.SpeciesTable, listed: Species | None) -> Species:
        """A species from its table, over what the species table or a look-up knows of it."""
        kinds = {**PROPERTIES, "formula": "", "source": ""}
        given = {key: self.unitless(value, kinds[key]) for key in kinds if (value := getattr(table, key))}
        if isinstance(table.heat_capacity, models.HeatCapacityTable):
            given["heat_capacity"] = table.heat_capacity.model_dump()
        if table.look_up is None:
            return replace(listed, **given) if listed is not None else Species(name, **given)
        found = look_up(table.look_up, phase=table.phase, name=name)
        message = ", ".join(key for key in given if key in PROPERTIES)
        if message:
            given["source"] = f"{found.source}; {table.source or 'the job'}: {message}"
        return replace(found, **given)

    def constant(self, given: Any) -> Any:
        if isinstance(given, models.FromSpeciesTable):
            return FromSpecies(given.from_species, self.unitless(given.standard, "pressure"))
        if isinstance(given, models.ConstantsTable):
            if (given.k is None) == (given.K is None):
                raise InputError("a table of constants has T and k, or T and K", "", "give one of k and K")
            temperatures = [self.unitless(T, "temperature") for T in given.T]
            if given.k is not None:
                return Arrhenius.through(temperatures, given.k)
            return VantHoff.through(temperatures, given.K or [])
        kinds = {"Ea": "energy per amount", "dH": "energy per amount", "at": "temperature"}
        for table, law in ((models.ArrheniusTable, Arrhenius), (models.VantHoffTable, VantHoff)):
            if isinstance(given, table):
                parts = {n: part for n in table.model_fields if (part := getattr(given, n)) is not None}
                unit = {"unit": parts.pop("unit")} if "unit" in parts else {}
                return law(**{n: self.entry(part, kinds.get(n, "")) for n, part in parts.items()}, **unit)
        return self.entry(given, "")

    def entry(self, given: Any, kind: str) -> Any:
        if isinstance(given, models.UnknownTable):
            return Unknown(*(self.unitless(part, kind) for part in (given.guess, given.lower, given.upper)))
        return self.unitless(given, kind)

    def vessel(self, name: str, table: Any, chemistry: Chemistry, feeds: Mapping[str, Feed]) -> Vessel:
        common: dict[str, Any] = {"name": name, "show": self.units}
        faults = Faults()
        with faults.at("catalyst"):
            common["catalyst"] = self.catalyst(table.catalyst) if table.catalyst is not None else None
        with faults.at():
            common["heat"] = self.heat(table.heat, "length" if isinstance(table, models.PlugFlowTable) else "time")
        faults.raise_any()
        if isinstance(table, models.SemiBatchTable):
            doses = {}
            for dose_name, dose in table.doses.items():
                with faults.at(f"doses, {dose_name}"):
                    doses[dose_name] = self.dosing(dose, feeds)
            faults.raise_any()
            numbers = self.fields(table, "T", "volume", "capacity", "time", "density", "heat_capacity")
            withdrawal = self.piecewise(table.withdrawal, "time", "volumetric flow")
            return SemiBatch(
                chemistry, self.contents(table.charge), doses, withdrawal=withdrawal, model=table.model,
                total=self.unitless(table.total, "amount"), **numbers, **common,
            )  # fmt: skip
        feed = self.feed_named(table.feed, feeds) if table.feed is not None else None
        if isinstance(table, models.BatchTable):
            if (table.charge is None) == (feed is None):
                message = "neither charge nor feed is given" if feed is None else "both charge and feed are given"
                raise InputError(message, "", "give one of them")
            charge = feed if feed is not None else self.contents(table.charge or {})
            numbers = self.fields(table, "T", "volume", "time", "P", "density", "heat_capacity")
            return Batch(
                chemistry, charge, total=self.unitless(table.total, "amount"), model=table.model,
                constant_volume=table.constant_volume,
                **numbers, **common,
            )  # fmt: skip
        assert feed is not None
        if table.wall is not None:
            with faults.at("wall"):
                common["wall"] = self.membrane(table.wall, feeds)
        if isinstance(table, models.PlugFlowTable) and table.side is not None:
            with faults.at():
                common["side"] = DistributedFeed(self.feed_named(table.side, feeds, "side"))
        faults.raise_any()
        if isinstance(table, models.StirredTankTable):
            contents = self.contents(table.contents) if table.contents is not None else None
            numbers = self.fields(table, "volume", "space_time", "catalyst_mass", "T")
            return StirredTank(chemistry, feed, contents=contents, **numbers, **common)
        numbers = self.fields(table, "diameter", "length", "volume", "space_time", "catalyst_mass", "T")
        drop = table.pressure_drop
        if drop is not None:
            common["pressure_drop"] = PressureDrop(**self.inner(drop.model_dump()))
        return PlugFlow(chemistry, feed, tubes=table.tubes, **numbers, **common)

    def membrane(self, table: models.MembraneTable, feeds: Mapping[str, Feed]) -> Membrane:
        """The wall of a vessel through which species pass."""
        faults, constants, kinds, sweep = Faults(), {}, dict[str, str](), None
        for name, given in table.constants.items():
            with faults.at(name):
                constants[name] = self.constant(given)
        with faults.at():
            kinds = other_side(table.flux)
        with faults.at():
            sweep = self.feed_named(table.sweep, feeds, "sweep") if table.sweep is not None else None
        faults.raise_any()
        outside = {s: self.unitless(value, kinds.get(s, "")) for s, value in table.outside.items()}
        return Membrane(table.flux, constants, outside, sweep, self.unitless(table.area, "area"))

    def feed_named(self, name: str, feeds: Mapping[str, Feed], key: str = "feed") -> Feed:
        """A feed by its name; InputError without a word where its own faults have been reported."""
        if name in feeds:
            return feeds[name]
        if name in self.known("feeds"):
            raise InputError(())
        advice = nearest(name, self.known("feeds")) or "add a [feeds.NAME] table"
        raise InputError(f"there is no feed '{name}'", key, advice)

    def piecewise(self, given: Any, along: str, kind: str) -> Any:
        """A quantity, or pairs of a profile, bare numbers in the units of the job."""
        if isinstance(given, list):
            return [(self.unitless(at, along), self.unitless(value, kind)) for at, value in given]
        return self.unitless(given, kind)

    def heat(self, table: Any, along: str) -> Any:
        """What a vessel says of heat."""
        if isinstance(table, models.ProfileOverTable):
            return Profile(self.piecewise(table.points, along, "temperature"))
        if isinstance(table, models.AdiabaticTable):
            return Adiabatic(**self.inner(table.model_dump()))
        if isinstance(table, models.JacketTable):
            return Jacket(**{**self.inner(table.model_dump()), "T": self.piecewise(table.T, "time", "temperature")})
        return table

    def catalyst(self, table: models.CatalystTable) -> Catalyst:
        given = self.inner(table.model_dump(exclude={"internal_diffusion", "deactivation"}))
        faults = Faults()
        for reaction, internal_diffusion in table.internal_diffusion.items():
            with faults.at(f"internal_diffusion, {reaction}"):
                given.setdefault("internal_diffusion", {})[reaction] = InternalDiffusion(
                    **internal_diffusion.model_dump()
                )
        if table.deactivation is not None:
            with faults.at():
                age = self.unitless(table.deactivation.age, "time")
                given["deactivation"] = Deactivation(self.constant(table.deactivation.k), table.deactivation.order, age)
        faults.raise_any()
        return Catalyst(**given)

    def dosing(self, table: models.DosingTable, feeds: Mapping[str, Feed]) -> Dosing:
        windows = None
        if table.windows is not None:
            windows = [tuple(self.unitless(t, "time") for t in window) for window in table.windows]
        rate = self.piecewise(table.rate, "time", "volumetric flow")
        return Dosing(self.feed_named(table.feed, feeds), windows, rate)

    def tank_tasks(self, table: models.StirredTankTable) -> TankTasks:
        """What is asked of a tank besides its steady state."""
        faults = Faults()
        changes = []
        for n, change in enumerate(table.changes):
            with faults.at(f"changes {n + 1}"):
                at, over = self.unitless(change.at, "time"), self.unitless(change.over, "time")
                changes.append(Change(change.what, self.unitless(change.to, condition_kind(change.what)), at, over))
        start_up = bounds = curve = None
        with faults.at():
            if table.start_up is not None:
                start_up = units.positive(self.unitless(table.start_up, "time"), "time", "start_up")
            elif changes:
                raise InputError("changes are given, and no time to follow the tank", "", "give start_up = '6 h'")
        if table.steady_states is not None:
            low, high = (self.unitless(T, "temperature") for T in table.steady_states.T)
            bounds = (low, high)
        if table.branch is not None:
            low, high = (self.unitless(v, condition_kind(table.branch.vary)) for v in table.branch.between)
            curve = (table.branch.vary, (low, high))
        faults.raise_any()
        return TankTasks(start_up, tuple(changes), bounds, curve)

    def train(
        self, name: str, table: models.TrainTable, vessels: Mapping[str, Vessel | Train], feeds: Mapping[str, Feed]
    ) -> Train:  # fmt: skip
        faults = Faults()
        steps: list[Any] = []

        def named(vessel: str) -> FlowVessel:
            found = vessels.get(vessel)
            if isinstance(found, FlowVessel):
                return found
            if vessel in self.known("vessels") and found is None:
                raise InputError(())
            raise InputError(f"there is no vessel '{vessel}'", "", nearest(vessel, self.known("vessels")))

        for n, step in enumerate(table.steps):
            with faults.at(f"steps {n + 1}"):
                given = [k for k in ("vessel", "parallel", "side_feed", "exchanger") if getattr(step, k) is not None]
                if len(given) != 1:
                    message = f"{' and '.join(given)} stand in one step" if given else "the step is empty"
                    raise InputError(message, "", "give one of vessel, parallel, side_feed, exchanger")
                if step.vessel is not None:
                    steps += [named(step.vessel)] * step.count
                elif step.parallel is not None:
                    steps.append(Parallel([named(v) for v in step.parallel], step.split))
                elif step.side_feed is not None:
                    steps.append(SideFeed(self.feed_named(step.side_feed, feeds, ""), step.side_feed))
                elif step.exchanger is not None:
                    T, duty = (
                        self.unitless(step.exchanger.T, "temperature"),
                        self.unitless(step.exchanger.duty, "power"),
                    )
                    steps.append(Exchanger(T, duty))
        faults.raise_any()
        return Train(steps, table.recycle, name, self.units)

    def tasks(self) -> tuple[dict[str, Size], dict[str, Compare]]:
        sizes, compares = {}, {}

        def known(name: str, faults: Faults) -> None:
            if name not in self.known("vessels"):
                faults.add("", f"there is no vessel '{name}'", nearest(name, self.known("vessels")))

        def target(metric: Metric, given: Any) -> Any:
            value = self.unitless(given, metric.kind)
            units.read(value, metric.kind, "target")
            return value

        for name, size in self.file.size.items():
            with self.at(f"[size.{name}]"):
                faults = Faults()
                known(size.vessel, faults)
                with faults.at():
                    metric = parse_metric(size.metric)
                    sizes[name] = Size(size.vessel, metric, target(metric, size.target), size.vary)
                faults.raise_any()
        for name, table in self.file.compare.items():
            with self.at(f"[compare.{name}]"):
                faults = Faults()
                metrics: list[Metric] = []
                for vessel in table.vessels:
                    known(vessel, faults)
                for text in table.metrics:
                    with faults.at():
                        metrics.append(parse_metric(text))
                if (table.size_for is None) != (table.target is None):
                    faults.add("", "size_for and target go together", "give both, or neither")
                size_for = wanted = None
                with faults.at():
                    size_for = parse_metric(table.size_for) if table.size_for is not None else None
                    if size_for is not None and table.target is not None:
                        wanted = target(size_for, table.target)
                faults.raise_any()
                compares[name] = Compare(tuple(table.vessels), tuple(metrics), size_for, wanted)
        return sizes, compares
