"""Symbols with roles and owners.

A symbol is a role and an owner: the amount of species `T`, the temperature, the constant `V` of a rate law and the
volume are four different symbols, whatever names a user chooses. The role determines how a symbol is printed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache

import sympy as sp

from molino.core.annotations import PlainData

Owner = str | tuple[str, ...]
Form = str | Callable[..., str]


@dataclass(frozen=True)
class Role:
    """The meaning of a symbol.

    Attributes
    ----------
    name : str
        Unique.
    text, latex, words : str or function
        Its text, LaTeX, and words in lists of quantities; `{}` is the owner (upright in LaTeX). A function gets the
        owner's names. `words` is `text` if omitted.
    sign : str
        'positive', 'nonnegative', or '' for any.
    """

    name: str
    text: Form = ""
    latex: Form = ""
    words: Form = ""
    sign: str = ""

    def __call__(self, *owner: str) -> Quantity:
        """The symbol of this role for an owner (of one name or several)."""
        return _quantity(self, owner[0] if len(owner) == 1 else owner or "")


class Quantity(sp.Symbol):  # type: ignore[misc]
    """A symbol that is distinguished by role and owner; made by calling a `Role`."""

    __slots__ = ("owner", "role")
    role: Role
    owner: Owner

    def __new__(cls, role: Role, owner: Owner) -> Quantity:
        assumptions: PlainData = {role.sign: True} if role.sign else {}
        cls._sanitize(assumptions, cls)
        found = sp.Symbol.__xnew__(cls, f"{role.name}:{owner!r}" if owner else role.name, **assumptions)
        found.role, found.owner = role, owner
        return found  # type: ignore[no-any-return]

    def _hashable_content(self) -> tuple[str]:
        return (self.name,)

    def __reduce__(self) -> tuple[object, ...]:
        return _quantity, (self.role, self.owner)

    def __reduce_ex__(self, protocol: object) -> tuple[object, ...]:
        return self.__reduce__()

    def _sympystr(self, printer: object) -> str:
        return symbol_text(self)


@cache
def _quantity(role: Role, owner: Owner) -> Quantity:
    return Quantity(role, owner)


def _formed(form: Form, owner: Owner) -> str:
    if not owner:
        return form if isinstance(form, str) else form()
    names = (owner,) if isinstance(owner, str) else owner
    return form(*names) if callable(form) else form.format(*names)


def symbol_text(symbol: sp.Symbol) -> str:
    """A symbol in plain text."""
    if not isinstance(symbol, Quantity):
        return str(symbol.name)
    return _formed(symbol.role.text or symbol.role.name, symbol.owner)


def symbol_words(symbol: sp.Symbol) -> str:
    """A symbol in a list of given and unknown quantities."""
    if not isinstance(symbol, Quantity):
        return str(symbol.name)
    return _formed(symbol.role.words, symbol.owner) if symbol.role.words else symbol_text(symbol)


def symbol_latex(symbol: sp.Symbol) -> str:
    """A symbol in LaTeX."""
    if isinstance(symbol, Quantity) and symbol.role.latex:
        form, owner = symbol.role.latex, symbol.owner
        if isinstance(form, str):
            owner = roman(owner) if isinstance(owner, str) and owner else tuple(map(roman, owner))
        return _formed(form, owner)
    text = symbol_text(symbol)
    return text if len(text) == 1 else roman(text)


def for_the_eye(e: sp.Expr) -> tuple[sp.Expr, dict[sp.Symbol, str]]:
    """An expression in plain symbols, in the order of their letters, and the LaTeX of each.

    Two symbols that would be printed alike are distinguished by their roles.
    """
    symbols = in_order(e.free_symbols)
    texts = [symbol_text(s) for s in symbols]
    swap, latex = {}, {}
    for symbol, text in zip(symbols, texts, strict=True):
        own, printed = text, symbol_latex(symbol)
        if texts.count(text) > 1 and isinstance(symbol, Quantity):
            role = symbol.role.name.replace(" ", "_")
            own, printed = f"{text}_{role}", f"{{{printed}}}_{{{roman(symbol.role.name)}}}"
        swap[symbol] = sp.Symbol(own)
        latex[swap[symbol]] = printed
    return e.xreplace(swap), latex


def roman(name: str) -> str:
    """A name upright, its special characters escaped."""
    escaped = "".join(f"\\{c}" if c in "_&%$#{}" else c for c in name).replace("^", "\\hat{}").replace(" ", "\\ ")
    return f"\\mathrm{{{escaped}}}"


def in_order(symbols: Iterable[sp.Symbol]) -> list[sp.Symbol]:
    """Symbols in an order that does not change from run to run."""
    return sorted(symbols, key=lambda s: s.name)
