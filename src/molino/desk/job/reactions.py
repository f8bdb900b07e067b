"""Species, reactions and constants of a job: its chemistry."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np

from molino.core.annotations import PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Constant, read_constant
from molino.core.chemistry.formula import names_in, parse_formula
from molino.core.chemistry.heat_capacity import HeatCapacity
from molino.core.chemistry.library import Library
from molino.core.chemistry.reaction import Reaction
from molino.core.chemistry.reaction_set import Covariance
from molino.core.chemistry.species import PROPERTIES, Species
from molino.core.chemistry.vapor_pressure import read_vapor_pressure
from molino.core.dimension_text import everyday_text
from molino.core.errors import Faults, InputError, nearest
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.parse import read_tables
from molino.desk.tables.lookup import look_up
from molino.desk.tables.species import read_species


def _place(where: str) -> str:
    """A place in the chemistry by its table in the job."""
    what, _, rest = where.partition(" ")
    name, comma, key = rest.partition(", ")
    tables = {
        "reaction": f"[reactions.{name}]{comma}{key}",
        "constant": f"[constants] {rest}",
        "species": "[species]",
        "covariance": "[covariance]",
    }
    return tables.get(what, where)


def library_of(path: Path) -> Library:
    """A library of reactions from its file; InputError with all its faults."""
    job = read_tables(path)
    if job.file.library is not None:
        job.faults.add("library", "a library cannot refer to another one", "copy them into it")
    reactions, species, constants = _read_parts(job, None)
    job.raise_merged()
    return Library(tuple(reactions), tuple(species), constants)


def _read_parts(job: JobContext, library: Library | None) -> tuple[list[Reaction], list[Species], dict[str, Constant]]:
    """Valid reactions, species and shared constants, with those of a library."""
    reactions: list[Reaction] = []
    for name, reaction in job.file.reactions.items():
        with job.at(f"[reactions.{name}]"):
            reactions.append(read_reaction(job, name, reaction, library))
    species: list[Species] = []
    shared: dict[str, Constant] = {}
    if library is not None:
        used = {s for r in reactions for s in (*r.equation.species, *r.asks)} | _keys({**job.raw, "reactions": {}})
        species += [s for s in library.species if s.name in used]
        asked = {name for r in reactions for name in names_in(r.formula)}
        shared |= {name: held for name, held in library.constants.items() if name in asked}
    if job.file.species_table is not None:
        with job.at("species_table"):
            species = _merged(species, read_species(job.named_file(job.file.species_table)))
    for name, table in job.file.species.items():
        with job.at(f"[species.{name}]"):
            listed = next((s for s in species if s.name == name), None)
            species = _merged(species, [_species(job, name, table, listed)])
    for name, given in job.file.constants.items():
        with job.at(f"[constants] {name}"):
            shared[name] = read_constant(job.constant(given), name)
    return reactions, species, shared


def _merged(species: list[Species], later: list[Species]) -> list[Species]:
    """Species by name; later ones replace earlier ones."""
    names = {s.name for s in later}
    return [s for s in species if s.name not in names] + later


def _keys(content: object) -> set[str]:
    """All keys of a job at any depth, including the species that it feeds and charges."""
    if isinstance(content, list):
        return {key for inner in content for key in _keys(inner)}
    if not isinstance(content, Mapping):
        return set()
    return {*content, *(key for inner in content.values() for key in _keys(inner))}


def read_reaction(job: JobContext, name: str, table: models.ReactionTable, library: Library | None) -> Reaction:
    """A reaction from its table, or without an equation the one of its name in a library, changed by the given
    values."""
    constants, faults = {}, Faults()
    for key, given in (table.__pydantic_extra__ or {}).items():
        with faults.at(key):
            constants[key] = job.constant(given)
    faults.raise_any()
    orders = {s: job.entry(n, "") for s, n in table.orders.items()} if table.orders else None
    heat = {"enthalpy": job.entry(table.enthalpy, "energy per amount")}
    if table.enthalpy_at is not None:
        heat["enthalpy_at"] = job.in_unit(table.enthalpy_at, "temperature")
    if table.equation is not None:
        return Reaction(table.equation, table.rate, name, orders=orders, basis=table.basis, **heat, **constants)
    if library is None:
        advice = "add equation = ..., or library = 'FILE' at the top of the job for a reaction of the library"
        raise InputError("'equation' is missing", "", advice)
    if name not in list(library):
        advice = f"{nearest(name, library)} (or add equation = ...)"
        raise InputError(f"there is no equation, and no '{name}' in the library {job.file.library}", "", advice)
    listed = library[name]
    rate = table.rate if table.rate is not None or orders else listed.rate
    kept = names_in(listed.formula if rate == listed.rate else parse_formula(rate)) if rate is not None else ["k", "K"]
    constants = {**{n: held for n, held in listed.constants.items() if n in kept}, **constants}
    heat = {
        "enthalpy": heat["enthalpy"] if table.enthalpy is not None else listed.enthalpy,
        "enthalpy_at": heat.get("enthalpy_at", listed.enthalpy_at),
    }
    basis = table.basis if "basis" in table.model_fields_set else listed.basis
    return Reaction(listed.equation, rate, name, orders=orders, basis=basis, **heat, **constants)


def read_chemistry_tables(job: JobContext) -> Chemistry | None:
    """The chemistry of a job; faults are added; None if it cannot be built."""
    sound = len(job.faults.found)
    if job.file.library is not None:
        with job.at("library"):
            job.library = library_of(job.named_file(job.file.library))
        if job.library is None:
            return None
    reactions, species, shared = _read_parts(job, job.library)
    if not job.file.reactions and not species and (job.known("vessels") or job.known("feeds") or job.known("data")):
        job.faults.add("[reactions]", "there is no reaction", "add a [reactions.NAME] table, or [species] to mix")
    is_lost = not job.file.reactions and bool(job.faults.found)  # possibly a misspelled [reactions]
    if is_lost or len(job.faults.found) > sound or not job.whole("species", "reactions", "constants"):
        return None
    try:
        chemistry = Chemistry(reactions, species, shared, _covariance(job))
    except InputError as error:
        for fault in error.faults:
            job.faults.add(_place(fault.where), fault.what, fault.advice)
        return None
    for finding in chemistry.check().at("error"):
        job.faults.add(_place(finding.where), finding.what, finding.advice)
    note_unitless(job, chemistry)
    return chemistry


def note_unitless(job: JobContext, chemistry: Chemistry) -> None:
    """Add faults for rate constants without a unit in a job with units."""
    if not job.units:
        return
    try:
        found = chemistry.unitless_dimensions()
    except InputError as error:
        for fault in error.faults:
            job.faults.add(_place(fault.where), fault.what, fault.advice)
        return
    for reaction_name, needed in found.items():
        for constant, dimension in needed.items():
            if dimension:
                message = f"{constant} is a bare number, and [units] has no unit for rate constants"
                advice = f"write it with its unit, {everyday_text(dimension)} or similar"
                job.faults.add(f"[reactions.{reaction_name}]", message, advice)


def _covariance(job: JobContext) -> Covariance | None:
    table = job.file.covariance
    if table is None:
        return None
    rows = {len(row) for row in table.matrix}
    if rows != {len(table.names)}:
        message = f"the matrix is not {len(table.names)} by {len(table.names)}"
        raise InputError(message, "covariance", "use it as written by a fit, or delete the table")
    if table.refits is not None and {len(row) for row in table.refits} != {len(table.names)}:
        message = f"the refits are not rows of {len(table.names)} numbers"
        raise InputError(message, "covariance", "use them as written by a fit, or delete them")
    refits = None if table.refits is None else np.array(table.refits)
    found = Covariance(
        tuple(table.names),
        np.array(table.matrix),
        table.degrees_of_freedom,
        refits,
        table.temperatures,
        table.concentrations,
    )
    found.check()
    return found


def _species(job: JobContext, name: str, table: models.SpeciesTable, listed: Species | None) -> Species:
    """A species from its table, and from the species table or a look-up."""
    kinds = {**PROPERTIES, "formula": "", "source": ""}
    given: PlainData = {
        key: job.in_unit(v, kinds[key]) for key in kinds if (v := getattr(table, key)) is not None and v != ""
    }
    if isinstance(table.heat_capacity, models.HeatCapacityTable):
        given["heat_capacity"] = HeatCapacity(**job.read(HeatCapacity, table.heat_capacity))
    if table.vapor_pressure is not None:
        held = table.vapor_pressure.model_dump(exclude_none=True)
        if "valid" in held:
            held["valid"] = [job.in_unit(T, "temperature") for T in held["valid"]]
        given["vapor_pressure"] = read_vapor_pressure(held)
    if table.look_up is None:
        return replace(listed, **given) if listed is not None else Species(name, **given)
    found = look_up(table.look_up, phase=table.phase, name=name)
    message = ", ".join(key for key in given if key in PROPERTIES)
    if message:
        given["source"] = f"{found.source}; {table.source or 'the job'}: {message}"
    return replace(found, **given)
