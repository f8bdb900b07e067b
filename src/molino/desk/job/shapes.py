"""Tables of a job file, made from the schema of the core's classes, and their values."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import TYPE_CHECKING, Annotated, Any, Literal, TypeAlias, TypeVar

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, WithJsonSchema, create_model

from molino.core.annotations import PlainData
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.schema import FieldSchema, help_of, is_required, schema_of

Scalar: TypeAlias = float | str
"""A number, or a text with a unit."""


def check_quantity(given: object) -> Scalar:
    """A number, or a text with a unit."""
    if isinstance(given, bool) or not isinstance(given, str | int | float):
        raise ValueError("give a number, or a text with a unit like '0.35 mol/L'")
    return given


def check_quantities(given: object) -> Scalar | list[Scalar]:
    """One of them, or several in a list."""
    return [check_quantity(one) for one in given] if isinstance(given, list) else check_quantity(given)


def _pairs(given: object) -> list[list[Scalar]]:
    if not isinstance(given, list) or any(not isinstance(pair, list) or len(pair) != 2 for pair in given):
        raise ValueError("a profile is a list of pairs, [[time, value], ...]")
    return [[check_quantity(a), check_quantity(b)] for a, b in given]


def _profile(given: object) -> Scalar | list[list[Scalar]]:
    return _pairs(given) if isinstance(given, list) else check_quantity(given)


class OneOf:
    """The JSON Schema of a value that has one of several forms: schemas, or tables, whose schema is made on request."""

    def __init__(self, *forms: PlainData | type[BaseModel]) -> None:
        self.forms = forms

    def __get_pydantic_json_schema__(self, schema: object, handler: object) -> PlainData:
        return {"anyOf": [form if isinstance(form, dict) else form.model_json_schema() for form in self.forms]}


NUMBER_OR_TEXT: PlainData = {"type": ["string", "number"]}
ONE_OR_MORE: list[PlainData] = [NUMBER_OR_TEXT, {"type": "array", "items": NUMBER_OR_TEXT}]
_PAIRS: PlainData = {"type": "array", "items": {"type": "array", "items": NUMBER_OR_TEXT}}

Quantity = Annotated[Scalar, PlainValidator(check_quantity), WithJsonSchema(NUMBER_OR_TEXT)]
"""A bare number (with the unit in [units]), or a text with a unit."""
Quantities = Annotated[Scalar | list[Scalar], PlainValidator(check_quantities), OneOf(*ONE_OR_MORE)]
"""One quantity, or several in a list."""
ProfileField = Annotated[Scalar | list[list[Scalar]], PlainValidator(_profile), OneOf(NUMBER_OR_TEXT, _PAIRS)]
"""A quantity, or a profile of [time, quantity] pairs."""


Pairs = Annotated[list[list[Scalar]], PlainValidator(_pairs), WithJsonSchema(_PAIRS)]
"""A profile of [time, quantity] pairs."""


class Table(BaseModel):
    """A table in which every key is known."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, defer_build=True)
    if TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any: ...  # a key for a declared field of a class of the core


class UnknownTable(Table):
    """An unknown constant for a fit: { guess = "0.02 L/mol/min", lower = ..., upper = ... }."""

    guess: Quantity
    lower: Quantity | None = None
    upper: Quantity | None = None


def _entry(given: object) -> Scalar | UnknownTable:
    return UnknownTable.model_validate(given) if isinstance(given, dict) else check_quantity(given)


Entry = Annotated[Scalar | UnknownTable, PlainValidator(_entry), OneOf(NUMBER_OR_TEXT, UnknownTable)]
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


def _annotation(schema: FieldSchema) -> object:
    """The possible values of a key for a field of the core."""
    if schema.choices:
        return Literal[schema.choices]
    if schema.holds in ("part", "parts"):
        inner = table_of(schema.part)
        return dict[str, inner] if schema.holds == "parts" else inner  # type: ignore[valid-type]
    if schema.holds == "constant":
        return Constant
    return {
        "quantity": Quantity,
        "quantities": Quantities,
        "profile": ProfileField,
        "contents": dict[str, Quantity],
        "entry": Entry,
        "entries": dict[str, Entry],
        "numbers": list[float],
        "flag": bool,
        "count": int,
        "text": str,
    }[schema.holds]


T = TypeVar("T", bound=Table)


def extended(cls: type, base: type[T]) -> type[T]:
    """A table with a key for each declared field of a class of the core, besides its own."""
    fields: PlainData = {}
    lines = help_of(cls)
    for name, schema in schema_of(cls).items():
        if name in base.model_fields:
            continue
        annotation: Any = _annotation(schema)
        required, text = is_required(cls, name), lines.get(name, "")
        fields[name] = (
            (annotation, Field(description=text)) if required else (annotation | None, Field(None, description=text))
        )
    summary = (base.__doc__ or cls.__doc__ or "").strip().partition("\n")[0]
    return create_model(f"{cls.__name__}Table", __base__=base, __doc__=summary, **fields)


def with_fields_of(cls: type) -> Callable[[type[T]], type[T]]:
    """The decorator of a table that has the declared fields of a class of the core."""
    return lambda base: extended(cls, base)


@cache
def table_of(cls: type) -> type[Table]:
    """The table of a class whose fields are all declared."""
    return extended(cls, type("Declared", (Table,), {}))


@with_fields_of(Arrhenius)
class ArrheniusTable(Table): ...


@with_fields_of(VantHoff)
class VantHoffTable(Table): ...


def constant_table(given: PlainData) -> type[Table]:
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


def _constant(given: object) -> Scalar | Table:
    return constant_table(given).model_validate(given) if isinstance(given, dict) else check_quantity(given)


Constant = Annotated[
    Scalar | Table,
    PlainValidator(_constant),
    OneOf(NUMBER_OR_TEXT, UnknownTable, ArrheniusTable, VantHoffTable, ConstantsTable, FromSpeciesTable),
]
"""A rate constant: a quantity, an unknown one, or a law over temperature."""
