"""The faults of the structure of a job file, in words: place, fact and remedy."""

from __future__ import annotations

import re
from typing import Any, get_args, get_origin

from pydantic import BaseModel

from molino.core.annotations import ByName
from molino.core.arguments import short
from molino.core.errors import Fault, nearest
from molino.desk.job import models, shapes

_NUMBERED = {
    "greater_than": "gt",
    "less_than": "lt",
    "greater_than_equal": "ge",
    "less_than_equal": "le",
    "too_short": "min_length",
    "too_long": "max_length",
}
_NAMED = (
    "species",
    "constants",
    "reactions",
    "feeds",
    "vessels",
    "data",
    "fit",
    "size",
    "compare",
    "sweep",
    "optimize",
    "attainable",
    "recommend",
    "survey",
    "equilibrium",
    "profile",
)
"""Tables with names."""
_LONGEST = 80


def fault_of(error: Any, raw: ByName) -> Fault:
    """A fault that pydantic found."""
    steps = [str(step) for step in error["loc"] if step not in models.VESSELS]
    place = place_of(steps)
    kind = error["type"]
    if kind == "extra_forbidden":
        return Fault(
            _table(steps[:-1]),
            f"unknown key {short(steps[-1])}",
            nearest(steps[-1], _keys(steps[:-1], raw), "remove it"),
        )
    if kind == "missing":
        return Fault(_table(steps[:-1]), f"'{steps[-1]}' is missing", f"add {steps[-1]} = ...")
    if kind.startswith("union_tag"):
        given = error.get("ctx", {}).get("tag", "nothing")
        return Fault(place, f"kind = '{given}' is not a vessel", nearest(given, models.VESSELS))
    what, advice = _in_words(error, steps, raw)
    return Fault(place, f"{short(error['input'])} {what}", advice)


def place_of(steps: list[str]) -> str:
    """'[vessels.coil] length', or '[units]'."""
    if len(steps) < 2:
        return f"[{steps[0]}]" if steps else ""
    shown = [_quoted(step) for step in steps]
    return f"[{'.'.join(shown[:2])}]" + (f" {'.'.join(shown[2:])}" if len(shown) > 2 else "")


def _table(steps: list[str]) -> str:
    """'[vessels.coil.heat]', or '' for the whole file."""
    return f"[{'.'.join(_quoted(step) for step in steps)}]" if steps else ""


def _quoted(step: str) -> str:
    return step if re.fullmatch(r"[\w-]+", step) else short(step)


def _in_words(error: Any, steps: list[str], raw: ByName) -> tuple[str, str]:
    """The fault of a value, and the remedy."""
    kind, context = error["type"], error.get("ctx", {})
    if kind in ("dict_type", "model_type", "model_attributes_type", "mapping_type"):
        keys = _keys(steps, raw)
        return (
            "is not a table",
            f"write a table, with {', '.join(keys[:6])}" if keys else "write a table: { KEY = value }",
        )
    if kind in _NUMBERED:
        number = context[_NUMBERED[kind]]
        if kind in ("greater_than", "less_than"):
            side = "above" if kind == "greater_than" else "below"
            return f"is not {side} {number}", f"give a number {side} {number}"
        word = "less" if kind in ("greater_than_equal", "too_short") else "more"
        unit = "" if kind.endswith("equal") else " entry" if number == 1 else " entries"
        return f"is {word} than {number}{unit}", f"give {number}{unit} or {'more' if word == 'less' else 'less'}"
    if kind in ("literal_error", "enum"):
        known = re.findall(r"'([^']*)'", str(context.get("expected", "")))
        return "is not one of the possible values", nearest(str(error["input"]), [k for k in known if k])
    if kind == "value_error":
        return "is not a valid value", str(error["msg"]).removeprefix("Value error, ")
    return {
        "list_type": ("is not a list", "write it in brackets: [ ... ]"),
        "string_type": ("is not a text", "write it in quotes"),
        "bool_type": ("is neither true nor false", "write true or false, without quotes"),
        "bool_parsing": ("is neither true nor false", "write true or false, without quotes"),
        "finite_number": ("is not a finite number", "write a finite number"),
    }.get(kind) or (
        ("is not a whole number", "write a whole number, without quotes")
        if kind.startswith("int")
        else ("is not a number", "write a number, without quotes")
        if kind.startswith("float")
        else ("is not a valid value", str(error["msg"]))
    )


def name_faults(raw: ByName) -> list[Fault]:
    """Names that cannot be printed."""
    found = []
    for table in _NAMED:
        content = raw.get(table, {})
        for name in content if isinstance(content, dict) else ():
            if not name.strip() or not name.isprintable() or len(name) > _LONGEST or name != name.strip():
                advice = f"give a name of 1 to {_LONGEST} printable characters, without blanks around it"
                found.append(Fault(f"[{table}]", f"{short(name)} is not a name", advice))
    return found


def _keys(steps: list[str], raw: ByName) -> list[str]:
    """The keys that a table knows."""
    model: Any = models.JobFile
    content: Any = raw
    for step in steps:
        try:
            content = content[int(step)] if isinstance(content, list) else content.get(step, {})
        except (AttributeError, ValueError, IndexError):
            content = {}
        model = _model_below(model, step, content)
        if model is None:
            return []
    if isinstance(model, list):
        return []
    return [field.alias or name for name, field in model.model_fields.items()]


def _model_below(model: Any, step: str, content: object) -> object:
    """The model of the value of a key of a table (or of an entry of a mapping or list of tables)."""
    if isinstance(model, list):
        (inner,) = model
        if inner == "constant":
            return shapes.constant_table(content) if isinstance(content, dict) else None
        if inner == "vessel":
            kind = content.get("kind", "") if isinstance(content, dict) else ""
            return models.VESSELS.get(kind) if isinstance(kind, str) else None
        return inner
    if step == "heat":
        return models.heat_table(content) if isinstance(content, dict) else None
    if step == "heat_capacity" and isinstance(content, dict):
        return models.HeatCapacityTable
    if step == "vessels":
        return ["vessel"]
    if step == "constants":
        return ["constant"]
    found = model.model_fields.get(step)
    if found is None:
        return shapes.constant_table(content) if isinstance(content, dict) else None
    inner = _tables_in(found.annotation)
    if inner is None:
        return shapes.UnknownTable if isinstance(content, dict) and "guess" in content else None
    return [inner] if isinstance(content, list) or _is_mapping(found.annotation) else inner


def _is_mapping(annotation: object) -> bool:
    return get_origin(annotation) is dict or any(_is_mapping(a) for a in get_args(annotation))


def _tables_in(annotation: object) -> object:
    """The table type in an annotation, at any depth."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((t for a in get_args(annotation) if (t := _tables_in(a)) is not None), None)
