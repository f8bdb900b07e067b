"""Laws of rate and equilibrium constants over temperature."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import sympy as sp

from molino.core import schema, units
from molino.core.chemistry.arrhenius_line import TemperatureLine
from molino.core.chemistry.constants import Entry, entry
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import Faults, InputError, UnitError
from molino.core.frozen import Frozen, settle
from molino.core.schema import QuantityField, ReadField, schema_of
from molino.core.symbols import Role
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value

_PART = Role("part of a constant", "part {}")
_PARTS = {part: _PART(part) for part in ("", "A", "Ea", "at", "n", "enthalpy", "a", "b")}
_INVERSE = 1 / TEMPERATURE - 1 / _PARTS["at"]
_BY_FACTOR, _BY_REFERENCE = frozenset({"A", "Ea"}), frozenset({"", "at", "Ea"})
_LAWS = {
    _BY_FACTOR: _PARTS["A"] * sp.exp(-_PARTS["Ea"] / GAS_CONSTANT / TEMPERATURE),
    _BY_REFERENCE: _PARTS[""] * sp.exp(-_PARTS["Ea"] / GAS_CONSTANT * _INVERSE),
    frozenset({"A", "enthalpy"}): _PARTS["A"] * sp.exp(-_PARTS["enthalpy"] / GAS_CONSTANT / TEMPERATURE),
    frozenset({"", "at", "enthalpy"}): _PARTS[""] * sp.exp(-_PARTS["enthalpy"] / GAS_CONSTANT * _INVERSE),
    frozenset({"a", "b"}): sp.exp(_PARTS["a"] + _PARTS["b"] / TEMPERATURE),
}
_LAWS[_BY_FACTOR | {"n"}] = TEMPERATURE ** _PARTS["n"] * _LAWS[_BY_FACTOR]
_LAWS[_BY_REFERENCE | {"n"}] = (TEMPERATURE / _PARTS["at"]) ** _PARTS["n"] * _LAWS[_BY_REFERENCE]


def _parts_of(line: TemperatureLine) -> tuple[Value, Value, Value]:
    """Value, reference temperature and energy of a line, in the units of its table."""
    energy_unit = "kJ/mol" if line.temperatures[0].unit is not None else None
    value = Value(math.exp(line.log_value), line.constants[0].unit)
    return value, Value(line.reference, line.temperatures[0].unit), Value(line.energy, energy_unit)


class TemperatureDependence:
    """Base of the constants that depend on temperature: fields, parts and expression."""

    forms: ClassVar[tuple[tuple[str, ...], ...]]
    """The forms, each a set of fields."""
    may: ClassVar[frozenset[str]] = frozenset()
    """Optional fields of a form."""
    unitless: ClassVar[str]
    """The field that holds the value at the reference temperature; its part has no suffix."""
    free: ClassVar[frozenset[str]] = frozenset({"Ea", "enthalpy", "n", "a", "b"})
    """Parts that may be negative."""
    through_table: TemperatureLine | None

    def __post_init__(self) -> None:
        given = self._given()
        if {*given} - self.may not in [{*form} - self.may for form in self.forms]:
            message = f"{type(self).__name__} was given {', '.join(given) or 'nothing'}"
            ways = "; or ".join(", ".join(name for name in form if name not in self.may) for form in self.forms)
            raise InputError(message, advice=f"give {ways} (at: the temperature of the value)")
        faults = Faults()
        for name in given:
            with faults.at():
                number = getattr(self, name)
                if name == "at":
                    part: Entry = units.positive(number, "temperature", "at")
                else:
                    part = entry(number, schema_of(type(self))[name].kind or None, name)
                if name == "b" and part.unit is not None and units.unit(part.unit).offset:
                    raise UnitError(
                        f"'{number}' is a temperature with an offset", "b", "b multiplies 1/T: give it in K"
                    )
                if name not in self.free and isinstance(part, Value) and part.si < 0:
                    raise InputError(f"{number} must not be negative", name, "check the sign")
                settle(self, **{name: part})
        faults.raise_any()

    def _given(self) -> list[str]:
        """The given fields, in the order of their form."""
        there = {name for form in self.forms for name in form if getattr(self, name) is not None}
        form = next((f for f in self.forms if {*f} - self.may <= there), ())
        return [name for name in form if name in there] + sorted(there - {*form})

    def parts(self) -> dict[str, Entry]:
        return {("" if name == self.unitless else name): getattr(self, name) for name in self._given()}

    def with_parts(self, parts: Mapping[str, Entry]) -> Self:
        named = {name or self.unitless: part for name, part in parts.items()}
        if all(getattr(self, name) == part for name, part in named.items()):
            return self
        return replace(self, **named, through_table=None)  # type: ignore[type-var]

    def expression(self, symbols: Mapping[str, sp.Expr]) -> sp.Expr:
        return _LAWS[frozenset(symbols)].xreplace({_PARTS[part]: symbol for part, symbol in symbols.items()})

    def _by_reference(self, value: Entry, at: Entry, energy: str, size: Entry) -> str:
        """Value, reference temperature and energy; those from a table with their intervals."""
        if self.through_table is None:
            return f"{value} at {at}, {energy} = {size}"
        return self.through_table.text(energy)


@dataclass(frozen=True, eq=False)
class Arrhenius(Frozen, TemperatureDependence):
    """A rate constant that follows the Arrhenius law.

    Give either the pre-exponential factor `A` and the activation energy, or the value `k` at the reference
    temperature `at` and the activation energy; and the temperature exponent `n` where there is one:

        k(T) = A T^n exp(-Ea / (R T))        k(T) = k (T/T_at)^n exp(-Ea/R (1/T - 1/T_at))

    (S. Arrhenius, Z. Phys. Chem. 4 (1889) 226; with T^n: IUPAC Gold Book, "modified Arrhenius equation"; the second
    form is the first divided by itself at T_at). Fits are better conditioned in the second form, with `at` in the
    middle of the measured temperatures.

    Parameters
    ----------
    k, A : str, float, quantity or Unknown
        In the unit that the rate law needs, e.g. "0.02 L/mol/min"; a bare number is SI. With `n`, the T in T^n is in
        kelvin, and A has the unit of the rate constant.
    Ea : str, float, quantity or Unknown
        Energy per amount, e.g. "120 kJ/mol".
    at : str, float or quantity
        Temperature at which `k` holds.
    n : float or Unknown, optional
        Exponent of temperature.
    through_table : TemperatureLine, optional
        The regression line; set by `through`.

    Raises
    ------
    InputError
        If the fields are not one of the forms, or a number is invalid.

    Examples
    --------
    >>> law = mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k=law))
    >>> run = mo.Batch(chem, {"A": "1 mol/L"}, T="340 K", time="5 min").run()
    >>> round(run.conversion("A"), 4)
    0.9053
    """

    forms = (("k", "Ea", "at", "n"), ("A", "Ea", "n"))
    may = frozenset({"n"})
    unitless = "k"
    k: ReadField = schema.entry()
    A: ReadField = schema.entry()
    Ea: ReadField = schema.entry("energy per amount")
    at: QuantityField = schema.quantity("temperature")
    n: ReadField = schema.entry("number")
    through_table: TemperatureLine | None = None

    @classmethod
    def through(cls, T: Sequence[QuantityLike], k: Sequence[QuantityLike]) -> Arrhenius:
        """The Arrhenius law through a table of rate constants, by least squares of ln k over 1/T.

        `print` shows the quality of the fit; `through_table` has the numbers. Raises InputError for tables of unequal
        length, differing dimensions, constants not above zero, or a single temperature.
        """
        line = TemperatureLine.of(T, k, "k")
        value, at, Ea = _parts_of(line)
        return cls(k=value, at=at, Ea=Ea, through_table=line)

    @property
    def unit(self) -> str | None:
        return (self.k if self.A is None else self.A).unit  # type: ignore[no-any-return]

    def __str__(self) -> str:
        n = f", n = {self.n}" if self.n is not None else ""
        if self.A is not None:
            return f"{self.A} {'T^n ' if n else ''}exp(-Ea/RT), Ea = {self.Ea}{n}"
        return self._by_reference(self.k, self.at, "Ea", self.Ea) + n


@dataclass(frozen=True, eq=False)
class VantHoff(Frozen, TemperatureDependence):
    """An equilibrium or adsorption constant that follows the van 't Hoff law.

    Give the value `K` at the reference temperature `at` and the enthalpy of reaction (or adsorption) `enthalpy`; or the
    factor `A` and `enthalpy`; or the coefficients of ln K = a + b/T and the `unit` of K:

        K(T) = K exp(-dH/R (1/T - 1/T_at))      K(T) = A exp(-dH / (R T))      K(T) = exp(a + b/T)

    (J. H. van 't Hoff, Etudes de dynamique chimique, 1884; with a constant enthalpy.) An exothermic reaction has a
    negative enthalpy, and its K falls with temperature.

    Parameters
    ----------
    K, A : str, float, quantity or Unknown
    at : temperature
    enthalpy : str, float, quantity or Unknown
        Energy per amount, with its sign.
    a, b : float or Unknown
        b in K.
    unit : str, optional
        Of K in the third form, e.g. "1/bar"; by default K is a bare number.
    through_table : TemperatureLine, optional
        The regression line; set by `through`.

    Raises
    ------
    InputError
        If the fields are not one of the forms, or a number is invalid.

    Examples
    --------
    >>> law = mo.VantHoff(K=2.0, at="350 K", enthalpy="-40 kJ/mol")
    >>> chem = mo.Chemistry(mo.Reaction("A <=> B", k="0.2 1/min", K=law))
    >>> round(mo.Batch(chem, {"A": "1 mol/L"}, T="350 K", time="2 h").run().conversion("A"), 4)
    0.6667
    """

    forms = (("K", "enthalpy", "at"), ("A", "enthalpy"), ("a", "b"))
    unitless = "K"
    K: ReadField = schema.entry()
    at: QuantityField = schema.quantity("temperature")
    enthalpy: ReadField = schema.entry("energy per amount")
    A: ReadField = schema.entry()
    a: ReadField = schema.entry("number")
    b: ReadField = schema.entry("temperature")
    unit: str | None = schema.option(None)
    through_table: TemperatureLine | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.a is None:
            own = (self.K if self.A is None else self.A).unit
            if self.unit not in (None, own):
                raise InputError("unit belongs to a and b", "", "write the unit with the number, like '0.3 1/bar'")
            settle(self, unit=own)
        elif self.unit is not None and units.unit(self.unit).offset:
            raise UnitError(f"'{self.unit}' cannot be the unit of K", "unit", "give a unit without a zero of its own")

    @classmethod
    def through(cls, T: Sequence[QuantityLike], K: Sequence[QuantityLike]) -> VantHoff:
        """The van 't Hoff law through a table of constants, by least squares of ln K over 1/T; as for `Arrhenius`."""
        line = TemperatureLine.of(T, K, "K")
        value, at, enthalpy = _parts_of(line)
        return cls(K=value, at=at, enthalpy=enthalpy, through_table=line)

    def expression(self, symbols: Mapping[str, sp.Expr]) -> sp.Expr:
        law = super().expression(symbols)
        factor = units.unit(self.unit).factor if self.a is not None and self.unit is not None else 1.0
        return law if factor == 1.0 else sp.Float(factor) * law

    def __str__(self) -> str:
        if self.a is not None:
            return f"exp(a + b/T) {self.unit or ''}".rstrip() + f", a = {self.a}, b = {self.b}"
        if self.A is not None:
            return f"{self.A} exp(-dH/RT), enthalpy = {self.enthalpy}"
        return self._by_reference(self.K, self.at, "enthalpy", self.enthalpy)
