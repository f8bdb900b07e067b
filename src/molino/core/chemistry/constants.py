"""Rate constants and the parameters in them.

A constant is a number with its unit, an `Unknown` to be fitted, or an `Arrhenius` law; each names its *parts*, which
become parameters of the balances, and writes itself as an expression of them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import Faults, InputError, UnitError
from molino.core.units import GAS_CONSTANT, Value


@dataclass(frozen=True)
class Unknown:
    """A number to be found by a fit.

    Parameters
    ----------
    guess : str, float or quantity
        Where the fit starts; a factor of five off is fine.
    lower, upper : optional
        Bounds, in any unit of the same dimension. Without them a constant stays above zero, and an activation energy
        or an order (a constant in an exponent) is free.
    """

    guess: Any
    lower: Any = None
    upper: Any = None

    def __post_init__(self) -> None:
        faults = Faults()
        for name in ("guess", "lower", "upper"):
            with faults.at():
                if getattr(self, name) is not None:
                    object.__setattr__(self, name, units.read(getattr(self, name), name=name))
        faults.raise_any()
        for name in ("lower", "upper"):
            bound = getattr(self, name)
            both = bound is not None and bound.unit and self.guess.unit
            if both and units.unit(bound.unit).dimension != units.unit(self.guess.unit).dimension:
                raise UnitError(f"the {name} bound {bound} and the guess {self.guess} differ in dimension")
        low = self.lower.si if self.lower is not None else float("-inf")
        high = self.upper.si if self.upper is not None else float("inf")
        if not low < high or not low <= self.guess.si <= high:
            said = f"the guess {self.guess} is not between its bounds {self.lower or 'none'} and {self.upper or 'none'}"
            raise InputError(said, advice="give lower < upper with the guess between them")

    @property
    def unit(self) -> str | None:
        unit: str | None = self.guess.unit
        return unit

    def __str__(self) -> str:
        bounds = f", {self.lower or ''} to {self.upper or ''}" if self.lower or self.upper else ""
        return f"unknown (guess {self.guess}{bounds})"


Entry = Value | Unknown
"""What can stand where a number is asked for."""


def entry(given: Any, kind: str | None = None, name: str = "") -> Entry:
    """Read a number, a quantity or an Unknown, holding its dimension against `kind` where one is given."""
    if isinstance(given, Unknown):
        units.read(given.guess, kind, name)
        return given
    return units.read(given, kind, name)


def si(part: Entry) -> float:
    """The SI number of an entry: its value, or its guess."""
    return part.guess.si if isinstance(part, Unknown) else part.si


@dataclass(frozen=True)
class Plain:
    """A constant that does not depend on temperature."""

    value: Entry

    def parts(self) -> dict[str, Entry]:
        return {"": self.value}

    def with_parts(self, parts: Mapping[str, Entry]) -> Plain:
        return Plain(parts[""])

    def expression(self, symbols: Mapping[str, sp.Symbol]) -> sp.Expr:
        return symbols[""]

    @property
    def unit(self) -> str | None:
        return self.value.unit

    def __str__(self) -> str:
        return str(self.value)


_PARTS = {part: sp.Symbol(f"part {part}") for part in ("", "A", "Ea", "at")}
_BY_FACTOR = _PARTS["A"] * sp.exp(-_PARTS["Ea"] / GAS_CONSTANT / TEMPERATURE)
_BY_REFERENCE = _PARTS[""] * sp.exp(-_PARTS["Ea"] / GAS_CONSTANT * (1 / TEMPERATURE - 1 / _PARTS["at"]))


@dataclass(frozen=True)
class Arrhenius:
    """A rate constant that follows the Arrhenius law.

    Give either the pre-exponential factor `A` and the activation energy, or the value `k` at the reference
    temperature `at` and the activation energy:

        k(T) = A exp(-Ea / (R T))            k(T) = k exp(-Ea/R (1/T - 1/T_at))

    (S. Arrhenius, Z. Phys. Chem. 4 (1889) 226; the second form is the first divided by itself at T_at). Fits are
    better conditioned in the second form, with `at` in the middle of the measured temperatures.

    Parameters
    ----------
    k, A : str, float, quantity or Unknown
        In the unit that the rate law needs, e.g. "0.02 L/mol/min"; a bare number is SI.
    Ea : str, float, quantity or Unknown
        Energy per amount, e.g. "120 kJ/mol".
    at : str, float or quantity
        Temperature at which `k` holds.

    Raises
    ------
    InputError
        If too much or too little is given, or a number is out of place.
    """

    k: Any = None
    A: Any = None
    Ea: Any = None
    at: Any = None

    def __post_init__(self) -> None:
        given = sorted(name for name in ("k", "A", "Ea", "at") if getattr(self, name) is not None)
        if given not in (["A", "Ea"], ["Ea", "at", "k"]):
            said = "Arrhenius was given " + (", ".join(given) or "nothing")
            raise InputError(said, advice="give A and Ea, or k, at (its temperature) and Ea")
        faults = Faults()
        kinds = {"Ea": "energy per amount", "at": "temperature", "k": None, "A": None}
        for name in given:
            with faults.at():
                if name == "at":
                    part: Entry = units.positive(self.at, "temperature", "at")
                else:
                    part = entry(getattr(self, name), kinds[name], name)
                object.__setattr__(self, name, part)
        faults.raise_any()

    def parts(self) -> dict[str, Entry]:
        return {("" if f.name == "k" else f.name): part for f in fields(self) if (part := getattr(self, f.name))}

    def with_parts(self, parts: Mapping[str, Entry]) -> Arrhenius:
        return replace(self, **{name or "k": part for name, part in parts.items()})

    def expression(self, symbols: Mapping[str, sp.Symbol]) -> sp.Expr:
        law = _BY_FACTOR if "A" in symbols else _BY_REFERENCE
        return law.xreplace({_PARTS[part]: symbol for part, symbol in symbols.items()})

    @property
    def unit(self) -> str | None:
        return (self.k if self.A is None else self.A).unit  # type: ignore[no-any-return]

    def __str__(self) -> str:
        if self.A is not None:
            return f"{self.A} exp(-Ea/RT), Ea = {self.Ea}"
        return f"{self.k} at {self.at}, Ea = {self.Ea}"


Constant = Plain | Arrhenius


def read_constant(given: Any, name: str) -> Constant:
    """A constant from what stands in a Reaction: an Arrhenius law, an Unknown, a quantity or a number."""
    if isinstance(given, Plain | Arrhenius):
        return given
    return Plain(entry(given, name=name))


@dataclass(frozen=True)
class Parameter:
    """A number of the chemistry that somebody may fit, sweep or optimise."""

    name: str
    """Reaction and constant, e.g. 'dehydration.k' or 'dehydration.k.Ea'."""
    value: float
    """In SI; the guess, where the parameter is unknown."""
    unit: str | None
    """The unit it came in."""
    unknown: bool = False
    lower: float = float("-inf")
    upper: float = float("inf")

    @property
    def symbol(self) -> sp.Symbol:
        return parameter_symbol(self.name)


def parameter_symbol(name: str) -> sp.Symbol:
    """The symbol under which a parameter stands in the balances."""
    return sp.Symbol(name)
