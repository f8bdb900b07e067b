"""Tables of a job file, made from the schema of the core's classes, and their values."""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema, create_model

from molino.core.annotations import PlainData
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.schema import FieldSchema, help_of, is_required, schema_of


def check_quantity(given: object) -> Any:
    """A number, or a text with a unit."""
    if isinstance(given, bool) or not isinstance(given, str | int | float):
        raise ValueError("give a number, or a text with a unit like '0.35 mol/L'")
    return given


def check_quantities(given: object) -> Any:
    """One of them, or several in a list."""
    return [check_quantity(one) for one in given] if isinstance(given, list) else check_quantity(given)


def _profile(given: object) -> Any:
    if isinstance(given, list):
        if any(not isinstance(pair, list) or len(pair) != 2 for pair in given):
            raise ValueError("a profile is a list of pairs, [[time, value], ...]")
        return [[check_quantity(a), check_quantity(b)] for a, b in given]
    return check_quantity(given)


NUMBER_OR_TEXT = {"type": ["string", "number"]}
ONE_OR_MORE = [NUMBER_OR_TEXT, {"type": "array", "items": NUMBER_OR_TEXT}]
_PAIRS = {"type": "array", "items": {"type": "array", "items": NUMBER_OR_TEXT}}

Quantity = Annotated[Any, BeforeValidator(check_quantity), WithJsonSchema(NUMBER_OR_TEXT)]
"""A bare number (with the unit in [units]), or a text with a unit."""
Quantities = Annotated[Any, BeforeValidator(check_quantities), WithJsonSchema({"anyOf": ONE_OR_MORE})]
"""One quantity, or several in a list."""
ProfileField = Annotated[Any, BeforeValidator(_profile), WithJsonSchema({"anyOf": [NUMBER_OR_TEXT, _PAIRS]})]
"""A quantity, or a profile of [time, quantity] pairs."""


def _pairs(given: object) -> Any:
    if not isinstance(given, list):
        raise ValueError("a profile is a list of pairs, [[time, value], ...]")
    return _profile(given)


Pairs = Annotated[Any, BeforeValidator(_pairs), WithJsonSchema(_PAIRS)]
"""A profile of [time, quantity] pairs."""


class Table(BaseModel):
    """A table in which every key is known."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class UnknownTable(Table):
    """An unknown constant for a fit: { guess = "0.02 L/mol/min", lower = ..., upper = ... }."""

    guess: Quantity
    lower: Quantity | None = None
    upper: Quantity | None = None


def _entry(given: object) -> Any:
    return UnknownTable.model_validate(given) if isinstance(given, dict) else check_quantity(given)


_ENTRY_SCHEMA: PlainData = {"anyOf": [NUMBER_OR_TEXT, UnknownTable.model_json_schema()]}
Entry = Annotated[Any, BeforeValidator(_entry), WithJsonSchema(_ENTRY_SCHEMA)]
"""A quantity, or a table for an unknown one."""


class ConstantsTable(Table):
    """Constants over temperature, with a fitted law: { T = [...], k = [...] }, or K = [...]."""

    T: list[Quantity]
    k: list[Quantity] | None = None
    K: list[Quantity] | None = None


class FromSpeciesTable(Table):
    """An equilibrium constant from the species: { from_species = "concentrations", standard = "1 bar" }."""

    from_species: str
    standard: Quantity = "1 bar"


def _annotation(schema: FieldSchema) -> Any:
    """The possible values of a key for a field of the core."""
    if schema.choices:
        return Literal[schema.choices]
    if schema.holds in ("part", "parts"):
        inner: Any = table_of(schema.part)
        return dict[str, inner] if schema.holds == "parts" else inner
    if schema.holds == "constant":
        return Constant
    return {
        "quantity": Quantity,
        "quantities": Quantities,
        "profile": ProfileField,
        "contents": dict[str, Quantity],
        "entry": Entry,
        "numbers": list[float],
        "flag": bool,
        "count": int,
        "text": str,
    }[schema.holds]


@cache
def table_of(cls: type) -> type[Table]:
    """The table of a class whose fields are all declared."""
    return extended(cls)


def extended(cls: type, base: type[Table] = Table) -> type[Table]:
    """The table of a class: a key for each declared field, and those written by hand."""
    fields: PlainData = {}
    lines = help_of(cls)
    for name, schema in schema_of(cls).items():
        if name in base.model_fields:
            continue
        required = is_required(cls, name)
        annotation = _annotation(schema)
        default = Field(description=lines.get(name, "")) if required else Field(None, description=lines.get(name, ""))
        fields[name] = (annotation if required else annotation | None, default)
    summary = ((base if base is not Table else cls).__doc__ or "").strip().partition("\n")[0]
    return create_model(f"{cls.__name__}Table", __base__=base, __doc__=summary, **fields)


ArrheniusTable: Any = table_of(Arrhenius)
VantHoffTable: Any = table_of(VantHoff)


def constant_table(given: PlainData) -> Any:
    """The form of constant of a table."""
    for table, keys in (
        (UnknownTable, ("guess",)),
        (FromSpeciesTable, ("from_species",)),
        (ConstantsTable, ("T",)),
        (VantHoffTable, ("K", "enthalpy", "a", "b")),
    ):
        if given.keys() & {*keys}:
            return table
    return ArrheniusTable


def _constant(given: object) -> Any:
    return constant_table(given).model_validate(given) if isinstance(given, dict) else check_quantity(given)


_FORMS = (ArrheniusTable, VantHoffTable, ConstantsTable, FromSpeciesTable)
_CONSTANT_SCHEMA = {"anyOf": [*_ENTRY_SCHEMA["anyOf"], *(form.model_json_schema() for form in _FORMS)]}
Constant = Annotated[Any, BeforeValidator(_constant), WithJsonSchema(_CONSTANT_SCHEMA)]
"""A rate constant: a quantity, an unknown one, or a law over temperature."""
