"""Rate constants as they stand in a job file."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from molino.core.chemistry.constants import Unknown
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.errors import InputError
from molino.desk.job import shapes

InUnit = Callable[[Any, str], Any]
"""A bare number of a kind of quantity in the unit of the job."""


def read_constant_table(in_unit: InUnit, given: Any) -> Any:
    """A constant: a quantity, an unknown one, or a law over temperature."""
    if isinstance(given, shapes.FromSpeciesTable):
        return FromSpecies(given.from_species, in_unit(given.standard, "pressure"))
    if isinstance(given, shapes.ConstantsTable):
        if (given.k is None) == (given.K is None):
            raise InputError("a table of constants has T and k, or T and K", "", "give one of k and K")
        temperatures = [in_unit(T, "temperature") for T in given.T]
        if given.k is not None:
            return Arrhenius.through(temperatures, given.k)
        return VantHoff.through(temperatures, given.K or [])
    kinds = {"Ea": "energy per amount", "dH": "energy per amount", "at": "temperature"}
    for table, law in ((shapes.ArrheniusTable, Arrhenius), (shapes.VantHoffTable, VantHoff)):
        if isinstance(given, table):
            parts = {n: part for n in table.model_fields if (part := getattr(given, n)) is not None}
            unit = {"unit": parts.pop("unit")} if "unit" in parts else {}
            return law(**{n: read_entry(in_unit, part, kinds.get(n, "")) for n, part in parts.items()}, **unit)
    return read_entry(in_unit, given, "")


def read_entry(in_unit: InUnit, given: Any, kind: str) -> Any:
    """A quantity, or an unknown one."""
    if isinstance(given, shapes.UnknownTable):
        return Unknown(*(in_unit(part, kind) for part in (given.guess, given.lower, given.upper)))
    return in_unit(given, kind)
