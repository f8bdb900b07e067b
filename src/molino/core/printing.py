"""The base of printed objects: a notebook shows the same text."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from IPython.lib.pretty import PrettyPrinter

import html
import inspect

from molino.core.arguments import checked


class Printed:
    """Base of printed objects: a notebook shows the text of `print`, and invalid arguments of public methods are
    reported by name."""

    def __init_subclass__(cls, **kwargs: object) -> None:
        super().__init_subclass__(**kwargs)
        cls._repr_pretty_ = Printed._repr_pretty_  # type: ignore[method-assign]  # IPython asks each class for its own
        for name, held in list(cls.__dict__.items()):
            if name.startswith("_"):
                continue
            if inspect.isfunction(held):
                setattr(cls, name, checked(held))
            elif isinstance(held, classmethod):
                setattr(cls, name, classmethod(checked(held.__func__)))

    def _repr_pretty_(self, printer: PrettyPrinter, cycle: bool) -> None:
        printer.text(type(self).__name__ if cycle else str(self))

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(str(self))}</pre>"
