"""Rate constants and the parameters in them.

A constant is a number with its unit, an `Unknown` to be fitted, or a law over temperature; each has *parts*, which
become parameters of the balances, and is an expression of them.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import MISSING, dataclass
from functools import partial
from typing import ClassVar, Protocol, cast

import sympy as sp

from molino.core import units
from molino.core.errors import Faults, InputError, UnitError
from molino.core.frozen import checked_fields, settle
from molino.core.schema import ReadField, several_forms
from molino.core.symbols import Quantity, Role, roman
from molino.core.units import Value


@dataclass(frozen=True)
class Unknown:
    """A number to be fitted.

    Parameters
    ----------
    guess : str, float or quantity
        The start of the fit; an error by a factor of five is acceptable. "120 +- 3 L/mol" is known from elsewhere to
        a standard deviation of 3 L/mol: a normal prior.
    lower, upper : optional
        Bounds, in any unit of the same dimension. By default a constant is positive, and an activation energy or an
        order (a constant in an exponent) is free.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> mo.Unknown("0.02 L/mol/min", lower="0.001 L/mol/min").guess.unit
    'L/mol/min'
    """

    guess: ReadField = several_forms(MISSING)
    lower: ReadField = several_forms()
    upper: ReadField = several_forms()

    @checked_fields
    def __post_init__(self) -> None:
        faults = Faults()
        for name in ("guess", "lower", "upper"):
            with faults.at():
                if name == "guess" or getattr(self, name) is not None:
                    settle(self, **{name: units.with_deviation(getattr(self, name), partial(units.read, name=name))})
        faults.raise_any()
        for name in ("lower", "upper"):
            bound = getattr(self, name)
            both = bound is not None and bound.unit and self.guess.unit
            if both and units.unit(bound.unit).dimension != units.unit(self.guess.unit).dimension:
                raise UnitError(f"the {name} bound {bound} and the guess {self.guess} differ in dimension")
        low = self.lower.si if self.lower is not None else float("-inf")
        high = self.upper.si if self.upper is not None else float("inf")
        if not low < high or not low <= self.guess.si <= high:
            message = (
                f"the guess {self.guess} is not between its bounds {self.lower or 'none'} and {self.upper or 'none'}"
            )
            raise InputError(message, advice="give lower < upper with the guess between them")

    @property
    def unit(self) -> str | None:
        unit: str | None = self.guess.unit
        return unit

    @property
    def deviation(self) -> float:
        """The standard deviation of its prior in SI; infinite without one."""
        return float(self.guess.deviation or math.inf)

    def bounds(self, lower: float, upper: float) -> tuple[float, float]:
        """Its bounds in SI, or those given."""
        return (
            self.lower.si if self.lower is not None else lower,
            self.upper.si if self.upper is not None else upper,
        )

    def __str__(self) -> str:
        bounds = f", {self.lower or ''} to {self.upper or ''}" if self.lower or self.upper else ""
        return f"unknown ({'' if self.guess.deviation else 'guess '}{self.guess}{bounds})"


@dataclass(frozen=True)
class NotGiven:
    """A rate constant that is not given: of a reaction at a given conversion or at equilibrium."""

    unit: str | None = None

    def __str__(self) -> str:
        return "not given"


Entry = Value | Unknown | NotGiven
"""The possible values of a number."""


def entry(given: object, kind: str | None = None, name: str = "") -> Entry:
    """Read a number, a quantity or an Unknown, and check its dimension against `kind`, if given."""
    if isinstance(given, Unknown):
        units.read(given.guess, kind, name)
        return given
    return units.read(given, kind, name)


def si(part: Entry) -> float:
    """The SI number of an entry: its value, or its guess; nan if not given."""
    if isinstance(part, NotGiven):
        return math.nan
    return part.guess.si if isinstance(part, Unknown) else part.si


class Constant(Protocol):
    """The interface of all constants: parts, replacement of parts, expression."""

    free: ClassVar[frozenset[str]]
    """Parts that may be negative."""

    @property
    def unit(self) -> str | None:
        """The unit of its value; None for a bare number."""

    def parts(self) -> dict[str, Entry]:
        """Its numbers by suffix: '' for the value itself, 'Ea' and so on."""

    def with_parts(self, parts: Mapping[str, Entry]) -> Constant:
        """The same with other numbers."""

    def expression(self, symbols: Mapping[str, sp.Expr]) -> sp.Expr:
        """The constant over temperature, with a symbol for each part."""


@dataclass(frozen=True)
class Plain:
    """A constant that does not depend on temperature."""

    free: ClassVar[frozenset[str]] = frozenset()
    value: Entry

    def parts(self) -> dict[str, Entry]:
        return {"": self.value}

    def with_parts(self, parts: Mapping[str, Entry]) -> Plain:
        return Plain(parts[""])

    def expression(self, symbols: Mapping[str, sp.Expr]) -> sp.Expr:
        return symbols[""]

    @property
    def unit(self) -> str | None:
        return self.value.unit

    def __str__(self) -> str:
        return str(self.value)


def read_constant(given: object, name: str) -> Constant:
    """A constant from the argument of a Reaction: a law over temperature, an Unknown, a quantity or a number."""
    if hasattr(given, "with_parts"):
        return cast("Constant", given)
    return Plain(entry(given, name=name))


@dataclass(frozen=True)
class Parameter:
    """A number of the chemistry, which can be fitted, swept or optimized."""

    name: str
    """Reaction and constant, e.g. 'dehydration.k' or 'dehydration.k.Ea'."""
    value: float
    """In SI; the guess, where the parameter is unknown."""
    unit: str | None
    """The unit in which it was given."""
    unknown: bool = False
    lower: float = float("-inf")
    upper: float = float("inf")
    size: float = 1.0
    """The unit of a change of it if its guess is zero."""
    at: Value | None = None
    """The reference temperature of a rate or equilibrium constant."""
    deviation: float = float("inf")
    """The standard deviation of the prior of an unknown one."""

    @classmethod
    def of_unknown(cls, name: str, given: Unknown, lower: float = -math.inf, upper: float = math.inf) -> Parameter:
        """The parameter of an unknown number, with bounds if it has none."""
        low, high = given.bounds(lower, upper)
        value = given.guess.si
        return cls(name, value, given.unit, True, low, high, abs(value) or 1.0, deviation=given.deviation)

    @property
    def symbol(self) -> sp.Symbol:
        return parameter_symbol(self.name)


_PARTS = {"Ea": "E", "enthalpy": "\\Delta H", "at": "T", "A": "A", "n": "n", "a": "a", "b": "b"}


def _parameter_latex(name: str) -> str:
    """'dehydration.k' as k with the reaction below it, 'dehydration.k.Ea' as E with both."""
    reaction, _, rest = name.rpartition(".")
    if reaction and rest in (*_PARTS, "ref"):
        owner, _, held = reaction.rpartition(".")
        if rest == "ref":
            return f"{held if len(held) == 1 else roman(held)}_{{{roman(f'{owner} ref'.strip())}}}"
        return f"{_PARTS[rest]}_{{{roman(f'{owner} {held}'.strip())}}}"
    letter = rest if len(rest) == 1 else roman(rest)
    if match := re.fullmatch(r"([A-Za-z])_(\w+)", rest):
        letter = f"{match[1]}_{{{roman(match[2])}}}"
        return f"{{{letter}}}^{{{roman(reaction)}}}" if reaction else letter
    return f"{letter}_{{{roman(reaction)}}}" if reaction else letter


PARAMETER = Role("parameter", "{}", _parameter_latex)


def parameter_symbol(name: str) -> Quantity:
    """The symbol of a parameter in the balances."""
    return PARAMETER(name)
