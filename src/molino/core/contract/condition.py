"""A number of a vessel or train that is changed by its name."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from molino.core import units
from molino.core.chemistry.constants import Parameter
from molino.core.contents.portion import Portion, read_portion
from molino.core.dimension_text import everyday_text
from molino.core.errors import InputError, UnitError
from molino.core.frozen import settle
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value


@dataclass(frozen=True)
class Condition:
    """A number of a vessel or train that is changed by its name.

    Attributes
    ----------
    name : str
    kind : str
        The kind of quantity, for units.
    read : value to (number in SI, form)
        Two values of one form (a volumetric flow and another) can be exchanged in the numbers of a vessel.
    put : value to vessel (or train)
        The same with another value.
    own : float
        The present value in SI; nan if not given.
    form : str
        The form of the present value.
    give : number in SI to value
        Another number in the form of the present value, as `put` takes it: a fraction remains a fraction.
    value : Value or None
        The value as given, possibly with a standard deviation; None if not given.
    """

    name: str
    kind: str
    read: Callable[[Any], tuple[float, str]]
    put: Callable[[Any], Any]
    own: float = math.nan
    form: str = ""
    give: Callable[[float], object] = float
    value: Value | None = None

    def __post_init__(self) -> None:
        if self.give is float and self.form != self.kind and self.form in SI_UNITS:
            unit = SI_UNITS[self.form]  # a bare number is of `kind`: a molar flow would become a volumetric one
            settle(self, give=lambda number: Value(number, unit))


def number_condition(
    name: str, kind: str, own: object, put: Callable[[Any], object], any_sign: bool = False, zero: bool = False
) -> Condition:
    """A condition that holds a quantity of one kind: positive, unless any sign or zero is allowed."""

    def read(value: object) -> tuple[float, str]:
        found = units.read(value, kind, name) if any_sign else units.positive(value, kind, name, zero=zero)
        return found.si, kind

    value = own if isinstance(own, Value) else None
    return Condition(name, kind, read, put, si_or_nan(own), kind if own is not None else "", value=value)


def si_or_nan(value: object) -> float:
    """A value in SI, or a plain number; nan without a value."""
    if isinstance(value, int):
        return float(value)
    return float(value.si) if isinstance(value, Value) else math.nan


def read_count(value: object, name: str) -> float:
    """A whole number, one or more."""
    number = units.positive(value, "number", name).si
    if number != round(number):
        raise InputError(f"{value} is not a whole number", name, "give 1, 2, 3, ...")
    return number


def read_share(value: object, flowing: bool, species: str) -> tuple[float, str]:
    """The portion of a species as a number in SI, with its form."""
    portion = read_portion(value, flowing)
    if portion.value is None:
        raise InputError(f"'{value}' of {species} is not a number", "", "give a quantity")
    return float(portion.value.si), form_of(portion)


def form_of(portion: Portion) -> str:
    """Portions of one form differ only in their number."""
    return f"{portion.kind} {portion.of} {portion.mass}"


def read_constant_number(value: object, parameter: Parameter) -> float:
    """A constant in SI; UnitError for a unit of another dimension than that of the constant."""
    read = units.read(value, name=parameter.name)
    if read.unit is not None and parameter.unit is not None:
        wanted = units.unit(parameter.unit).dimension
        if units.unit(read.unit).dimension != wanted:
            message = f"{parameter.name} = '{value}' is not in a unit like {parameter.unit}"
            raise UnitError(message, "", f"give it in {everyday_text(wanted)}")
    return read.si
