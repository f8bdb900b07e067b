"""The base of results: facts, tables, plain data, and their display in a notebook."""

from __future__ import annotations

import html
import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, TypeAlias

from molino.core.annotations import PlainData
from molino.core.checks import Check, closure_check
from molino.core.display import Display
from molino.core.errors import InputError
from molino.core.printing import Printed
from molino.core.units import number_text, pretty_heading

if TYPE_CHECKING:
    import pandas as pd

Table: TypeAlias = "pd.DataFrame"
"""A table of results, with units in the headings."""
_ROWS_SHOWN = 20


class Drawing:
    """The function that draws a result; the desk provides it, so that the core imports no figures."""

    draw: Callable[..., object] | None = None


DRAWING = Drawing()


class Result(Printed):
    """Base of results: `print` shows facts, `table` is a DataFrame, `to_dict` plain data."""

    def table(self) -> Table:
        """Its main table, with units in the headings."""
        raise NotImplementedError

    def facts(self) -> Mapping[str, str]:
        """The main results, by name, with units."""
        return {}

    @property
    def headline(self) -> str:
        """Its title, in a line."""
        return str(self).partition("\n")[0]

    def figure(self, **options: Any) -> Any:
        """The figure of the result, a Matplotlib `Figure`; the options are those of its function in `mo.figures`.

        Raises
        ------
        InputError
            For a result that has no figure.
        """
        if DRAWING.draw is None:
            raise InputError("no figures are available", "figure", "import molino, whose desk has the figures")
        return DRAWING.draw(self, **options)

    def answer(self) -> tuple[str, str] | None:
        """The question and the answer, each in a line; None for a result without one."""
        return None

    @property
    def checks(self) -> tuple[Check, ...]:
        """The properties verified before it was returned, each with name, value, limit and method."""
        return closure_check(getattr(self, "closure", {}))

    def to_dict(self) -> PlainData:
        """Plain data for JSON: numbers in the units of results, each with its unit."""
        raise NotImplementedError

    def _repr_html_(self) -> str:
        rows = "".join(f"<tr><th>{html.escape(n)}</th><td>{html.escape(t)}</td></tr>" for n, t in self.facts().items())
        title = html.escape(self.headline)
        shown = self.table().rename(columns=lambda c: pretty_heading(str(c)))
        table = shown.to_html(index=False, max_rows=_ROWS_SHOWN, float_format=lambda x: number_text(x, 4), na_rep="")
        return f"<p><b>{title}</b></p>" + (f"<table>{rows}</table>" if rows else "") + table


def conversions_of(label: str, facts: Mapping[str, str]) -> tuple[str, str] | None:
    """The conversion of a vessel, as `Result.answer`; None without a reaction."""
    shares = [f"{name} {text}" for name, text in facts.items() if name.startswith("conversion of")]
    return (f"What does {label} convert?", "; ".join(shares)) if shares else None


def in_columns(facts: Mapping[str, str], indent: str = "  ") -> list[str]:
    """Facts in two columns, a line each."""
    width = max(len(name) for name in facts)
    return [f"{indent}{name:<{width}}  {text}" for name, text in facts.items()]


def frame(data: Any = None, **options: Any) -> Table:
    """A DataFrame of rows or columns; pandas is imported on first use."""
    import pandas as pd

    return pd.DataFrame(data, **options)


def sentence(text: str) -> str:
    """A text with a capital letter and a full stop."""
    return f"{text[:1].upper()}{text[1:]}."


def plain_dict(items: Mapping[Any, Any]) -> PlainData:
    """A mapping as plain data; see `plain`."""
    return {str(key): plain(value) for key, value in items.items()}


def plain(item: Any) -> object:
    """Plain data of mappings, lists, texts and numbers for JSON: None for a number that is not finite."""
    if isinstance(item, Mapping):
        return plain_dict(item)
    if isinstance(item, list | tuple):
        return [plain(value) for value in item]
    if isinstance(item, bool | str | int) or item is None:
        return item
    number = float(item)
    return number if math.isfinite(number) else None


def entry(display: Display, value: float, kind: str) -> PlainData:
    """A number in the unit of results, with that unit."""
    return {"value": float(display.number(value, kind)), "unit": display.unit(kind)}
