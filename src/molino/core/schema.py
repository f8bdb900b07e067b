"""The declaration of a field: its kind of quantity, sign, choices and default.

The declaration determines how the core reads and converts the field, the conditions and sizes, the tables of the job
file and their JSON Schema, the use of [units], and the page of keys. Its description is the entry under "Parameters" in
the docstring of its class.
"""

from __future__ import annotations

import dataclasses
import inspect
import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import MISSING, dataclass
from typing import TYPE_CHECKING, Any

from molino.core import units
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import of_class, settle
from molino.core.units import QuantityLike, Value

if TYPE_CHECKING:

    class QuantityField:
        """The type of a field that is given as a quantity and read as a `Value`."""

        def __get__(self, instance: object, owner: object) -> Any: ...
        def __set__(self, instance: object, value: QuantityLike | None) -> None: ...

    class ReadField:
        """The type of a field that is given in one of several forms, from which its class reads it."""

        def __get__(self, instance: object, owner: object) -> Any: ...
        def __set__(self, instance: object, value: object) -> None: ...

else:
    QuantityField = ReadField = Any


@dataclass(frozen=True)
class FieldSchema:
    """The declaration of a field.

    Attributes
    ----------
    holds : str
        The kind of value: 'quantity'; 'quantities' (one or several); 'profile' (a quantity, or pairs of time and
        quantity); 'contents' (quantities by species); 'entry' (a quantity, or an unknown one), 'entries' (several by
        name); 'constant' (that, or a law over temperature); 'numbers' (several, without unit); 'flag', 'count', 'text';
        'part' and 'parts' (an object of a class with fields of its own, or several by name).
    kind : str
        Of quantity; empty for any.
    alternatives : tuple of str
        Other possible kinds; its class distinguishes them and reads it.
    sign : str
        'positive', 'nonnegative', or 'any'.
    most : float
        Its upper bound in SI.
    choices : tuple of str
        The allowed texts; empty for any.
    part : type or None
        The class of a 'part'.
    is_size, is_setting, is_independent : bool
        Whether `size` can find it; whether it is a condition, which may have a standard deviation ("12 +- 1 m3/h");
        whether no check depends on it and other fields.
    """

    holds: str
    kind: str = ""
    alternatives: tuple[str, ...] = ()
    sign: str = "positive"
    most: float = math.inf
    choices: tuple[str, ...] = ()
    part: Any = None
    is_size: bool = False
    is_setting: bool = False
    is_independent: bool = False


def _declared(schema: FieldSchema, default: object) -> Any:
    metadata = {"schema": schema}
    if default is MISSING:
        return dataclasses.field(metadata=metadata)
    if isinstance(default, dict):
        return dataclasses.field(default_factory=dict, metadata=metadata)
    return dataclasses.field(default=default, metadata=metadata)


def quantity(
    kind: str,
    default: object = None,
    *,
    sign: str = "positive",
    most: float = math.inf,
    size: bool = False,
    setting: bool = False,
    independent: bool = False,
    profile: bool = False,
    alternatives: tuple[str, ...] = (),
) -> Any:
    """A field that holds a quantity; MISSING as the default makes it required."""
    holds = "profile" if profile else "quantity"
    schema = FieldSchema(holds, kind, alternatives, sign, most, (), None, size, setting or size, independent)
    return _declared(schema, default)


def quantities(kind: str, default: object = None, *, alternatives: tuple[str, ...] = ()) -> Any:
    """A field that holds one quantity or several, which its class reads; a bare number is of the kind."""
    return _declared(FieldSchema("quantities", kind, alternatives), default)


def option(default: object, choices: Iterable[str] = (), *, setting: bool = False) -> Any:
    """A field that holds a flag, a count or a text, by its default."""
    holds = "flag" if isinstance(default, bool) else "count" if isinstance(default, int) else "text"
    kind = "number" if holds == "count" else ""
    return _declared(FieldSchema(holds, kind, choices=tuple(choices), is_setting=setting), default)


def several_forms(default: object = None) -> Any:
    """A field that is given in one of several forms; a job file has a table of its own for it."""
    return dataclasses.field(default=default)


def entry(kind: str = "", default: object = None) -> Any:
    """A field that holds a quantity or an unknown one, which its class reads."""
    return _declared(FieldSchema("entry", kind, sign="any"), default)


def entries() -> Any:
    """A field that holds quantities or unknown ones by name, which its class reads."""
    return _declared(FieldSchema("entries", sign="any"), {})


def numbers(default: object = None) -> Any:
    """A field that holds several plain numbers, which its class reads."""
    return _declared(FieldSchema("numbers"), default)


def contents(default: object = None) -> Any:
    """A field that holds quantities by species."""
    return _declared(FieldSchema("contents", "concentration"), default)


def constant(default: object = MISSING) -> Any:
    """A field that holds a rate constant: a quantity, or a law over temperature."""
    return _declared(FieldSchema("constant"), default)


def part(cls: type, *, several: bool = False) -> Any:
    """A field that holds an object of a class with a schema of its own, or several by name."""
    return _declared(FieldSchema("parts" if several else "part", part=cls), {} if several else None)


@of_class
def schema_of(cls: Any) -> Mapping[str, FieldSchema]:
    """The declared fields of a class, by name."""
    return {f.name: f.metadata["schema"] for f in dataclasses.fields(cls) if "schema" in f.metadata}


def is_required(cls: Any, name: str) -> bool:
    """Whether a field has no default."""
    (found,) = (f for f in dataclasses.fields(cls) if f.name == name)
    return found.default is MISSING and found.default_factory is MISSING


@of_class
def sizes_of(cls: object) -> Mapping[str, str]:
    """The fields that `size` can find, with their kinds."""
    return {name: schema.kind for name, schema in schema_of(cls).items() if schema.is_size}


@of_class
def settings_of(cls: object) -> Mapping[str, str]:
    """The fields besides the sizes that are conditions, with their kinds."""
    return {n: schema.kind for n, schema in schema_of(cls).items() if schema.is_setting and not schema.is_size}


def read_fields(instance: object, faults: Faults, place: str, only: Iterable[str] | None = None) -> None:
    """Read the quantities of a frozen object, and check its choices."""
    known = schema_of(type(instance))
    for name in known if only is None else only:
        schema, given = known[name], getattr(instance, name)
        if given is None:
            continue
        with faults.at(place):
            if schema.holds == "quantity" and not schema.alternatives:
                settle(instance, **{name: _read(given, schema, name)})
            elif schema.choices and given not in schema.choices:
                raise InputError(f"unknown {name} '{given}'", "", nearest(str(given), schema.choices))


def _read(given: object, schema: FieldSchema, name: str) -> Value:
    if schema.is_setting and isinstance(given, str):
        return units.with_deviation(given, lambda text: _read_number(text, schema, name))
    return _read_number(given, schema, name)


def _read_number(given: object, schema: FieldSchema, name: str) -> Value:
    if schema.sign == "any":
        return units.read(given, schema.kind or None, name)
    found = units.positive(given, schema.kind, name, zero=schema.sign == "nonnegative")
    if found.si > schema.most:
        raise InputError(f"{found} is more than {schema.most:g}", name, f"give at most {schema.most:g}")
    return found


def given_values(instance: object) -> list[tuple[str, Value | None]]:
    """Every given quantity, with its kind; the units of results are chosen from them."""
    known = schema_of(type(instance))
    pairs = [(schema.kind, getattr(instance, name)) for name, schema in known.items() if not schema.alternatives]
    return [(kind, value) for kind, value in pairs if isinstance(value, Value)]


@of_class
def help_of(cls: Any) -> Mapping[str, str]:
    """The description of each parameter in the docstring of a class (and of its bases), in a line."""
    found: dict[str, str] = {}
    for owner in reversed(cls.__mro__):
        section = re.search(
            r"Parameters\n-+\n(.*?)(?:\n\w[^\n]*\n-+\n|\Z)", inspect.cleandoc(owner.__doc__ or ""), re.S
        )
        for entry in re.split(r"\n(?=\S)", section[1]) if section else ():
            heading, _, text = entry.partition("\n")
            names, _, form = heading.partition(" : ")
            line = " ".join(inspect.cleandoc(text).split()) or form
            if not line.startswith("As of a "):  # the description of a base
                found |= {name.strip(): line for name in names.split(",")}
    return found
