"""Chemistries and libraries of reactions as TOML, in the tables of a job file."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import tomlkit
from tomlkit.items import InlineTable

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Constant, Entry, Plain, Unknown
from molino.core.chemistry.heat_capacity import HeatCapacity
from molino.core.chemistry.library import Library
from molino.core.chemistry.species import Species
from molino.core.chemistry.temperature_dependence import VantHoff
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.errors import Faults
from molino.core.units import Value
from molino.desk.job.parse import read_tables
from molino.desk.job.reactions import library_of, read_chemistry_tables
from molino.desk.tables.write import whole


@checked
def read_chemistry(path: str | Path) -> Chemistry:
    """The chemistry of a job file, or of a file that `write_chemistry` wrote.

    Parameters
    ----------
    path : str or Path
        A .toml file.

    Returns
    -------
    Chemistry

    Raises
    ------
    InputError
        With every fault of its tables [units], [species], [constants], [reactions] and [covariance].

    Examples
    --------
    >>> from importlib.resources import files
    >>> mo.files.read_chemistry(files("molino.demo") / "ether.toml").names
    ('methanol', 'ether', 'water')
    """
    job = read_tables(Path(path))
    chemistry = read_chemistry_tables(job)
    job.raise_merged()
    assert chemistry is not None
    return chemistry


@checked
def read_library(path: str | Path) -> Library:
    """A library of reactions: a TOML file with [species], [constants] and [reactions] as in a job file.

    Constants of a rate law may be missing; see `Library.needs`.

    Parameters
    ----------
    path : str or Path
        A .toml file.

    Returns
    -------
    Library

    Raises
    ------
    InputError
        With every fault of the file.

    Examples
    --------
    >>> from importlib.resources import files
    >>> library = mo.files.read_library(files("molino.demo") / "cob-reactions.toml")
    >>> len(library) > 3
    True
    """
    return library_of(Path(path))


@checked
def write_chemistry(chemistry: Chemistry, path: str | Path) -> Path:
    """Write a chemistry as TOML, each number with its unit and all digits; `read_chemistry` restores it.

    The covariance of a fit is included.

    Parameters
    ----------
    chemistry : Chemistry
    path : str or Path

    Returns
    -------
    Path

    Raises
    ------
    InputError
        If a rate law is a Python function.
    WriteError
        If the file cannot be written.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = mo.files.write_chemistry(chem, Path(folder) / "chemistry.toml")
    ...     again = mo.files.read_chemistry(path)
    >>> again == chem
    True
    """
    content = chemistry_text(chemistry)
    with whole(Path(path)) as temporary:
        temporary.write_text(content, encoding="utf-8")
    return Path(path)


def chemistry_text(chemistry: Chemistry) -> str:
    """The content of `write_chemistry`."""
    faults = Faults()
    for reaction in chemistry.reactions:
        if reaction.is_python:
            message = "its rate law is a Python function, which a file cannot contain"
            faults.add(f"reaction {reaction.name}", message, "write it as a formula")
    faults.raise_any()
    document = tomlkit.document()
    species = tomlkit.table()
    for one in chemistry.species:
        species[one.name] = _inline(_species(one))
    document["species"] = species
    if chemistry.constants:
        constants = tomlkit.table()
        for name, held in chemistry.constants.items():
            constants[name] = _constant(held)
        document["constants"] = constants
    reactions = tomlkit.table(is_super_table=True)
    for reaction in chemistry.reactions:
        table = tomlkit.table()
        table["equation"] = str(reaction.equation)
        if reaction.rate is not None:
            table["rate"] = reaction.rate
        if reaction.basis != "volume":
            table["basis"] = reaction.basis
        if reaction.enthalpy is not None:
            table["enthalpy"] = _entry(reaction.enthalpy)
            table["enthalpy_at"] = _number(reaction.enthalpy_at)
        for name, held in reaction.constants.items() if reaction.has_kinetics else ():
            table[name] = _constant(held)
        reactions[str(reaction.name)] = table
    document["reactions"] = reactions
    if chemistry.covariance is not None:
        covariance = tomlkit.table()
        covariance["names"] = list(chemistry.covariance.names)
        covariance["matrix"] = np.asarray(chemistry.covariance.matrix).tolist()
        covariance["degrees_of_freedom"] = chemistry.covariance.degrees_of_freedom
        if chemistry.covariance.refits is not None:
            covariance["refits"] = np.asarray(chemistry.covariance.refits).tolist()
        if chemistry.covariance.temperatures is not None:
            covariance["temperatures"] = list(chemistry.covariance.temperatures)
        if chemistry.covariance.concentrations:
            covariance["concentrations"] = _inline(chemistry.covariance.concentrations)
        document["covariance"] = covariance
    return tomlkit.dumps(document)


def _inline(content: ByName) -> InlineTable:
    table = tomlkit.inline_table()
    for key, value in content.items():
        table[key] = value
    return table


def _number(value: Value) -> float | str:
    """A number, or a text with its unit; as many digits as a float has."""
    if not value.deviation:
        return value.si if value.unit is None else f"{value.to(value.unit):.16g} {value.unit}".strip()
    deviation = value.deviation / units.unit(value.unit or "").factor
    return f"{value.number:.16g} +- {deviation:.16g} {value.unit or ''}".strip()


def _entry(part: Entry) -> float | str | InlineTable:
    if isinstance(part, Value):
        return _number(part)
    assert isinstance(part, Unknown)
    named = {"guess": part.guess, "lower": part.lower, "upper": part.upper}
    return _inline({name: _number(value) for name, value in named.items() if value is not None})


def _constant(held: Constant) -> float | str | InlineTable:
    if isinstance(held, Plain):
        return _entry(held.value)
    if isinstance(held, FromSpecies):
        return _inline({"from_species": held.of, "standard": _number(held.standard)})
    parts = {name or ("K" if isinstance(held, VantHoff) else "k"): _entry(part) for name, part in held.parts().items()}
    if isinstance(held, VantHoff) and held.a is not None and held.unit is not None:
        parts["unit"] = held.unit
    return _inline(parts)


def _species(one: Species) -> PlainData:
    found: PlainData = {"formula": one.formula} if one.formula else {}
    for name, value in one.known().items():
        found[name] = _heat_capacity(value) if isinstance(value, HeatCapacity) else _number(value)
    if (law := one.vapor_pressure) is not None:
        numbers = {name: getattr(law, name) for name in ("a", "b", "c", "d", "e", "shift")}
        valid = {"valid": [_number(T) for T in law.valid]} if law.valid is not None else {}
        found["vapor_pressure"] = _inline({**numbers, **valid})
    return {**found, "source": one.source} if one.source else found


def _heat_capacity(held: HeatCapacity) -> InlineTable:
    given: PlainData = {}
    if held.seven:
        given = {"low": list(held.low or ()), "high": list(held.high or ()), "middle": _number(held.middle)}
    else:
        given = {"coefficients": [_number(c) for c in held.coefficients]}
    if held.valid is not None:
        given["valid"] = [_number(T) for T in held.valid]
    return _inline(given)
