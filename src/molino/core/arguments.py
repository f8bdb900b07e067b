"""Errors of Python in a public function become an InputError if an argument is not of its annotated type.

Arguments are examined only after a call has failed with one of Python's own errors. If all of them are of their
annotated types, the error is a fault of Molino and is raised unchanged.
"""

from __future__ import annotations

import inspect
import types
import typing
from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from typing import Any, ParamSpec, TypeVar

import numpy as np

from molino.core.annotations import ByName, PlainData
from molino.core.errors import Fault, InputError, MolinoError

P = ParamSpec("P")
R = TypeVar("R")
RAW = (TypeError, ValueError, AttributeError, LookupError, ArithmeticError, AssertionError, OSError, RecursionError)
"""The errors that Python and its packages raise for invalid arguments."""
_PLAIN = (str, int, float, np.number)
_LONGEST = 60
_LARGEST = 10**9
"""The largest whole number of counts, sizes and seeds."""


def checked(function: Callable[P, R]) -> Callable[P, R]:
    """A public function or method whose invalid arguments are reported by name."""

    @wraps(function)
    def call(*args: P.args, **kwargs: P.kwargs) -> R:
        try:
            return function(*args, **kwargs)
        except MolinoError:
            raise
        except RAW as error:
            given = _bound(function, args, kwargs, error)
            raise_wrong(given, resolved_hints(function), function.__name__, error)
            raise

    return call


def _bound(function: Any, args: Any, kwargs: Any, error: Exception) -> PlainData:
    """The arguments by name; InputError for those that the function does not have."""
    try:
        bound = inspect.signature(function).bind(*args, **kwargs)
    except TypeError as wrong:
        name = function.__qualname__.removesuffix(".__init__")
        raise InputError(str(wrong), name, f"see help(mo.{name})") from error
    return {name: value for name, value in bound.arguments.items() if name not in ("self", "cls")}


def raise_wrong(given: ByName, hints: ByName, place: str, error: Exception) -> None:
    """Raise InputError for arguments that are not of their annotated type, or that cannot be read."""
    wrong = [(n, v) for n, v in given.items() if not _fits(v, hints.get(n, Any))]
    if not wrong:
        wrong = [(n, v) for n, v in given.items() if _is_suspect(v, hints.get(n, Any))]
    if wrong:
        faults = [
            Fault(f"{place}, {name}", f"{short(value)} is not a valid value", _advice(hints.get(name, Any), name))
            for name, value in wrong
        ]
        raise InputError(faults) from error


def check_starts(n_starts: object, where: str) -> None:
    """Raise InputError for a number of starts that is not a whole number from 1 to 1000."""
    if isinstance(n_starts, bool) or not isinstance(n_starts, int) or not 1 <= n_starts <= 1000:
        raise InputError(f"n_starts = {n_starts!r}", where, "give a whole number from 1 to 1000")


def short(value: object) -> str:
    """A value for a message."""
    if isinstance(value, _PLAIN) or value is None or isinstance(value, list | tuple | dict):
        try:
            text = repr(value)
        except ValueError:
            text = "a number of thousands of digits"
    else:
        text = f"a {type(value).__name__}"
    return text if len(text) <= _LONGEST else text[: _LONGEST - 3] + "..."


def _advice(hint: object, name: str) -> str:
    if hint is int:
        return f"give a whole number from 0 to {_LARGEST}"
    words = getattr(hint, "__name__", "") or str(hint).replace("typing.", "")
    words = words.replace("collections.abc.", "")
    words = " or ".join(part.rpartition(".")[2].strip(" '") for part in words.split("|")) if "[" not in words else words
    return (
        f"give {name} as described" if hint in (Any, object) or "Any" in words or "object" in words else f"give {words}"
    )


def resolved_hints(owner: object) -> PlainData:
    """Annotations; those whose names are imported only for type checkers are `Any`."""
    try:
        return typing.get_type_hints(owner)
    except NameError:
        found = {}
        space = vars(inspect.getmodule(owner) or types)
        for name, text in getattr(owner, "__annotations__", {}).items():
            try:
                found[name] = eval(text, dict(space)) if isinstance(text, str) else text
            except (NameError, TypeError):
                found[name] = Any
        return found


def _is_suspect(value: Any, hint: object) -> bool:
    """Whether a value cannot be read although its annotation accepts anything."""
    if hint in (Any, object):
        return _is_foreign(value)
    if hint is int:
        return not 0 <= value <= _LARGEST
    parts = typing.get_args(hint)
    if typing.get_origin(hint) in (typing.Union, types.UnionType):
        return any(_is_suspect(value, part) for part in parts if _fits(value, part))
    members = value.values() if isinstance(value, dict) else value if isinstance(value, list | tuple) else ()
    return any(_is_suspect(member, [part for part in parts if part is not ...][-1]) for member in members if parts)


def _is_foreign(value: object) -> bool:
    """Whether a value is neither a text, a quantity, an object of Molino, nor a collection of them."""
    members = value.values() if isinstance(value, dict) else value if isinstance(value, list | tuple) else ()
    if any(type(member).__module__.startswith("molino.") for member in members):
        return False
    if isinstance(value, bool) or value is None:
        return True
    if isinstance(value, _PLAIN) or (hasattr(value, "magnitude") and hasattr(value, "units")):
        return False
    return not type(value).__module__.startswith("molino.")


def _fits(value: object, hint: object) -> bool:
    """Whether a value is of an annotated type."""
    if hint is Any or isinstance(hint, TypeVar | str):
        return True
    if hint is None or hint is type(None):
        return value is None
    origin, parts = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return any(_fits(value, part) for part in parts)
    if origin is typing.Literal:
        return value in parts if isinstance(value, str | int) else False
    if origin is typing.Annotated:
        return _fits(value, parts[0])
    if origin is not None and inspect.isclass(origin):
        return _fits_generic(value, origin, parts)
    if hint is float:
        return isinstance(value, int | float | np.number) and not isinstance(value, bool)
    if hint is int:
        return isinstance(value, int | np.integer) and not isinstance(value, bool)
    return isinstance(value, hint) if inspect.isclass(hint) else True


def _fits_generic(value: Any, origin: Any, parts: Sequence[object]) -> bool:
    if origin in (Callable, typing.Callable) or issubclass(origin, Callable):  # type: ignore[arg-type]
        return callable(value)
    if issubclass(origin, Mapping):
        pairs = value.items() if isinstance(value, Mapping) and len(parts) == 2 else ()
        return isinstance(value, Mapping) and all(_fits(k, parts[0]) and _fits(v, parts[1]) for k, v in pairs)
    if issubclass(origin, tuple):
        if not isinstance(value, list | tuple):
            return False
        is_open = not parts or parts[-1] is ...
        wanted = [parts[0] if parts else Any] * len(value) if is_open else list(parts)
        return len(value) == len(wanted) and all(_fits(v, p) for v, p in zip(value, wanted, strict=True))
    if isinstance(value, str | bytes | Mapping):
        return False
    try:
        items = list(value)
    except TypeError:
        return False
    return not parts or all(_fits(v, parts[0]) for v in items)
