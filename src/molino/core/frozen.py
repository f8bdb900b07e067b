"""The base of all objects with fields: frozen, and copied, pickled, hashed and compared by the given values."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import MISSING, fields, is_dataclass, replace
from functools import cache, wraps
from typing import Any, Self, TypeVar

import numpy as np

from molino.core.annotations import PlainData
from molino.core.arguments import RAW, raise_wrong, resolved_hints, short
from molino.core.errors import Fault, InputError, MolinoError, nearest

T = TypeVar("T")
F = TypeVar("F", bound=Callable[..., Any])

assign = object.__setattr__
"""Sets a field of a frozen object during its construction."""


def settle(instance: object, **values: Any) -> None:
    """Set fields of a frozen object during its construction: texts become values."""
    for name, value in values.items():
        assign(instance, name, value)


def of_class(function: F) -> F:
    """A function of a class, computed once for each."""
    return cache(function)  # type: ignore[return-value]


@of_class
def field_names(kind: Any) -> frozenset[str]:
    """The names of the fields of a class."""
    return frozenset(f.name for f in fields(kind))


def copied(instance: T) -> T:
    """A frozen object with the fields of another, without its cached values."""
    found = object.__new__(type(instance))
    found.__dict__.update({name: getattr(instance, name) for name in field_names(type(instance))})
    return found


class FrozenMapping(Mapping[Any, Any]):
    """A mapping that does not change, and can be hashed."""

    def __init__(self, given: Mapping[Any, Any] | None = None) -> None:
        self._held = dict(given or {})

    def __getitem__(self, key: object) -> Any:
        return self._held[key]

    def __iter__(self) -> Iterator[Any]:
        return iter(self._held)

    def __len__(self) -> int:
        return len(self._held)

    def __hash__(self) -> int:
        return hash(content(self))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Mapping) and content(self) == content(other)

    def __repr__(self) -> str:
        return repr(self._held)


def content(value: object) -> Any:
    """A value in a form that can be hashed and compared: mappings, lists, arrays and dataclasses by their contents.

    An unknown number (NaN) is the same as another.
    """
    if isinstance(value, Mapping):
        return frozenset((key, content(held)) for key, held in value.items())
    if isinstance(value, list | tuple):
        return tuple(content(held) for held in value)
    if isinstance(value, np.ndarray):
        return value.shape, value.dtype.str, value.tobytes()
    if isinstance(value, float) and value != value:
        return "not a number"
    if is_dataclass(value) and not isinstance(value, type | Frozen):
        return type(value).__name__, tuple(content(getattr(value, f.name)) for f in fields(value) if f.compare)
    return value


def checked_fields(own: Callable[[Any], None]) -> Callable[[Any], None]:
    """A `__post_init__` that reports invalid fields by name."""

    @wraps(own)
    def settle_fields(self: Any) -> None:
        try:
            own(self)
        except MolinoError:
            raise
        except RAW as error:
            given = {f.name: getattr(self, f.name) for f in fields(self) if f.init}
            raise_wrong(given, resolved_hints(type(self)), type(self).__name__, error)
            raise

    return settle_fields


_LONGEST = 110
"""Characters of a `repr`."""
_MEANT = {
    "V": "volume",
    "L": "length",
    "D": "diameter",
    "d": "diameter",
    "tau": "space_time",
    "residence_time": "space_time",
    "dH": "enthalpy",
    "temperature": "T",
    "pressure": "P",
    "F": "flow",
    "Q": "flow",
}
"""Fields by other terms of the trade."""


def meant(name: str, known: Iterable[str]) -> str:
    """The known name that is meant by another term of the trade, or the nearest one."""
    known = [*known]
    word = _MEANT.get(name, "")
    return f"did you mean '{word}'?" if word in known else nearest(name, known)


@of_class
def _arguments(cls: Any) -> tuple[dict[str, None], set[str]] | None:
    """The arguments of a dataclass in order, and those of them that must be given."""
    settings: Any = getattr(cls, "__dataclass_params__", None)
    if settings is None or not settings.init:
        return None
    given = [f for f in fields(cls) if f.init]
    needed = {f.name for f in given if f.default is MISSING and f.default_factory is MISSING}
    return dict.fromkeys(f.name for f in given), needed


def _refuse(cls: Any, known: list[str], needed: set[str], args: tuple[Any, ...], kwargs: PlainData) -> None:
    """Raise all that is wrong with the arguments of a dataclass."""
    faults = [
        Fault(cls.__name__, f"unknown argument '{name}'", meant(name, known))
        for name in sorted(kwargs.keys() - {*known})
    ]
    missing = [name for name in known[len(args) :] if name in needed and name not in kwargs]
    help_text = f"see help(mo.{cls.__name__})"
    if missing:
        verb = "is" if len(missing) == 1 else "are"
        faults.append(Fault(cls.__name__, f"{' and '.join(missing)} {verb} not given", help_text))
    if len(args) > len(known):
        faults.append(Fault(cls.__name__, f"{len(args)} arguments are given, and it has {len(known)}", help_text))
    raise InputError(faults)


class Frozen:
    """Base of frozen dataclasses (with eq=False) that are compared by their fields.

    Cached values are not pickled or copied. If the construction fails, the fields are compared with their annotations.
    """

    def __init_subclass__(cls, **kwargs: Any) -> None:
        super().__init_subclass__(**kwargs)
        if "__repr__" not in cls.__dict__:  # a dataclass would show all its fields
            cls.__repr__ = Frozen.__repr__  # type: ignore[method-assign]
        own = cls.__dict__.get("__post_init__")
        if own is not None:
            cls.__post_init__ = checked_fields(own)  # type: ignore[attr-defined]

    def __new__(cls, *args: Any, **kwargs: Any) -> Self:
        arguments = _arguments(cls)
        if arguments is not None:
            order, needed = arguments
            is_known = len(args) <= len(order) and kwargs.keys() <= order.keys()
            if not is_known or not needed <= {*kwargs, *[*order][: len(args)]}:
                _refuse(cls, [*order], needed, args, kwargs)
        return super().__new__(cls)

    def with_(self, **changed: Any) -> Self:
        """The same with some fields changed: `feed.with_(T="60 degC")`.

        Raises
        ------
        InputError
            For an unknown field, or with all faults of the changed object.
        """
        return replace(self, **changed)  # type: ignore[type-var]

    def __repr__(self) -> str:
        text = str(self).partition("\n")[0] if type(self).__str__ is not object.__str__ else self._fields_text()
        text = f"<{type(self).__name__}: {text}>"
        return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 4]}...>"

    def _fields_text(self) -> str:
        shown = (f"{f.name}={short(getattr(self, f.name))}" for f in fields(self))  # type: ignore[arg-type]
        return ", ".join(shown)

    def _held(self) -> PlainData:
        return {f.name: getattr(self, f.name) for f in fields(self)}  # type: ignore[arg-type]

    def __reduce__(self) -> tuple[Any, ...]:  # the arguments are not checked again
        return object.__new__, (type(self),), self.__getstate__()

    def __getstate__(self) -> PlainData:
        return self._held()

    def __setstate__(self, state: PlainData) -> None:
        settle(self, **state)

    def _compared(self) -> tuple[Any, ...]:
        return tuple(content(getattr(self, f.name)) for f in fields(self) if f.compare)  # type: ignore[arg-type]

    def __eq__(self, other: object) -> bool:
        if type(self) is not type(other):
            return NotImplemented
        return self is other or self._compared() == other._compared()

    def __hash__(self) -> int:
        return hash((type(self).__name__, self._compared()))


class Unchecked(Frozen):
    """Base of frozen objects that Molino alone makes, many times: their arguments are not checked."""

    def __new__(cls, *args: Any, **kwargs: Any) -> Self:
        return object.__new__(cls)
