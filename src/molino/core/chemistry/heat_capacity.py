"""Heat capacities over temperature, and the enthalpy and entropy that follow from them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.numeric_function import NumericFunction
from molino.core.errors import Faults, InputError, UnitError
from molino.core.frozen import Frozen, settle
from molino.core.schema import QuantityField, ReadField, numbers, quantities, quantity
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS
from molino.core.units import Value

STANDARD_TEMPERATURE = 298.15
"""Reference temperature in K of enthalpies and Gibbs energies of formation and entropies."""


class Below(NumericFunction):
    """Below(T, limit, low, high): `low` where T < limit, otherwise `high`."""

    nargs = 4
    is_choice = True

    @staticmethod
    def number(*args: float) -> float:
        value, limit, low, high = args
        return low if value < limit else high

    @classmethod
    def columns(cls, *args: Any) -> Any:
        value, limit, low, high = args
        return np.where(value < limit, low, high)

    def fdiff(self, argindex: int = 1) -> sp.Expr:
        if argindex in (1, 2):
            return sp.Integer(0)
        where = (sp.Integer(1), sp.Integer(0)) if argindex == 3 else (sp.Integer(0), sp.Integer(1))
        return Below(*self.args[:2], *where)

    @classmethod
    def eval(cls, T: sp.Expr, limit: sp.Expr, low: sp.Expr, high: sp.Expr) -> sp.Expr | None:
        if low == high:
            return low
        if T.is_number and limit.is_number:
            return low if limit > T else high
        return None


@dataclass(frozen=True, eq=False)
class HeatCapacity(Frozen):
    """A molar heat capacity at constant pressure: constant, polynomial in T, or seven coefficients in two ranges.

    Cp = c_0 + c_1 T + c_2 T^2 + ...                      from `coefficients`
    Cp / R = a_1 + a_2 T + a_3 T^2 + a_4 T^3 + a_5 T^4    from `low` below `middle`, from `high` above

    With seven coefficients a_6 and a_7 give enthalpy and entropy: H/(R T) = a_1 + a_2 T/2 + ... + a_5 T^4/5 + a_6/T and
    S/R = a_1 ln T + a_2 T + a_3 T^2/2 + ... + a_7 (B. J. McBride, S. Gordon, M. A. Reno, Coefficients for Calculating
    Thermodynamic and Transport Properties of Individual Species, 1993, eqs. 2-4). Otherwise H and S are relative to
    298.15 K, by integrating Cp and Cp/T.

    Parameters
    ----------
    coefficients : quantity or sequence of quantities, optional
        c_0 in "J/mol/K", c_1 in "J/mol/K^2" and so on; bare numbers are SI.
    low, high : seven floats, optional
    middle : temperature, optional
        The boundary of the two ranges; by default 1000 K.
    valid : pair of temperatures, optional
        The range of validity.

    Raises
    ------
    InputError
        If neither or both forms are given, or a number is invalid.

    Examples
    --------
    >>> cp = mo.thermo.HeatCapacity(["20 J/mol/K", "0.05 J/mol/K^2"], valid=["300 K", "1000 K"])
    >>> print(mo.Species("A", heat_capacity=cp).heat_capacity)
    20 J/mol/K + 0.05 J/mol/K² T
    """

    coefficients: ReadField = quantities("heat capacity")
    low: Sequence[float] | None = numbers()
    high: Sequence[float] | None = numbers()
    middle: QuantityField = quantity("temperature")
    valid: ReadField = quantities("temperature")

    def __post_init__(self) -> None:
        faults = Faults()
        ways = [self.coefficients is not None, self.low is not None, self.high is not None]
        if ways not in ([True, False, False], [False, True, True]):
            message = "a heat capacity needs coefficients, or low and high with seven numbers each"
            raise InputError(message, advice="give one of the two forms")
        if self.coefficients is not None:
            several = isinstance(self.coefficients, list | tuple)
            given = list(self.coefficients) if several else [self.coefficients]
            read = []
            for power, number in enumerate(given):
                with faults.at(f"heat capacity, coefficient {power}"):
                    value = units.read(number)
                    wanted = SI_UNITS["heat capacity"] + (f"^{power + 1}" if power else "")
                    if value.unit is not None and units.unit(value.unit).dimension != units.unit(wanted).dimension:
                        raise UnitError(f"'{number}' is not in {wanted} or similar", advice=f"give it in {wanted}")
                    read.append(value if value.unit is not None else Value(value.number, wanted))
            settle(self, coefficients=tuple(read))
            if not read and not faults.found:
                faults.add("heat capacity", "no coefficient is given", "give at least one, like '75 J/mol/K'")
        for name in ("low", "high"):
            seven = getattr(self, name)
            if seven is not None:
                with faults.at(f"heat capacity, {name}"):
                    if isinstance(seven, str) or len(seven) != 7:
                        raise InputError(f"{len(seven)} numbers", "", "give the seven coefficients a1 to a7")
                    settle(self, **{name: tuple(units.read(a, "number").si for a in seven)})
        with faults.at("heat capacity"):
            middle = 1000.0 if self.middle is None and self.low is not None else self.middle
            if middle is not None:
                settle(self, middle=units.positive(middle, "temperature", "middle"))
            if self.valid is not None:
                settle(self, valid=tuple(units.positive(t, "temperature", "valid") for t in self.valid))
                if len(self.valid) != 2 or not self.valid[0].si < self.valid[1].si:
                    raise InputError("valid is not a range of temperatures", "", "give two, the lower first")
        faults.raise_any()

    def check_sign(self) -> None:
        """Raise InputError if it is negative in its range (at 298.15 K without one)."""
        low, high = [t.si for t in self.valid] if self.valid is not None else [STANDARD_TEMPERATURE] * 2
        for T in np.linspace(low, high, 9):
            number = float(self.value(sp.Float(T)))
            if not 0 <= number < math.inf:
                message = f"it is {number:.4g} J/mol/K at {T:.5g} K"
                raise InputError(
                    message, "heat capacity", "heat capacities must be positive: check signs and coefficients"
                )

    @property
    def seven(self) -> bool:
        """Whether enthalpy and entropy are included."""
        return self.low is not None

    def _ranges(self, T: sp.Expr, form: Any) -> sp.Expr:
        assert self.low is not None
        assert self.high is not None
        low, high = (sp.Float(GAS_CONSTANT) * form([sp.Float(a) for a in seven]) for seven in (self.low, self.high))
        return Below(T, sp.Float(self.middle.si), low, high)

    def value(self, T: sp.Expr) -> sp.Expr:
        """Cp in J/(mol K)."""
        if self.seven:
            return self._ranges(T, lambda a: sum(a[n] * T**n for n in range(5)))
        return sp.Add(*(sp.Float(c.si) * T**n for n, c in enumerate(self.coefficients)))

    def enthalpy(self, T: sp.Expr) -> sp.Expr:
        """In J/mol: with seven coefficients the enthalpy itself, otherwise relative to 298.15 K."""
        if self.seven:
            return self._ranges(T, lambda a: sum(a[n] * T ** (n + 1) / (n + 1) for n in range(5)) + a[5])
        t0 = sp.Float(STANDARD_TEMPERATURE)
        return sp.Add(
            *(sp.Float(c.si) * (T ** (n + 1) - t0 ** (n + 1)) / (n + 1) for n, c in enumerate(self.coefficients))
        )

    def entropy(self, T: sp.Expr) -> sp.Expr:
        """In J/(mol K): with seven coefficients the entropy itself, otherwise relative to 298.15 K."""
        if self.seven:
            return self._ranges(T, lambda a: a[0] * sp.log(T) + sum(a[n] * T**n / n for n in range(1, 5)) + a[6])
        t0 = sp.Float(STANDARD_TEMPERATURE)
        rises = [sp.Float(c.si) * (T**n - t0**n) / n for n, c in enumerate(self.coefficients) if n]
        return sp.Add(sp.Float(self.coefficients[0].si) * sp.log(T / t0), *rises)

    def __str__(self) -> str:
        if self.seven:
            return f"seven coefficients, ranges meet at {self.middle}"
        return " + ".join(
            f"{c}" + ("" if n == 0 else " T" if n == 1 else f" T^{n}") for n, c in enumerate(self.coefficients)
        )


def read_heat_capacity(given: object, molar_mass: float | None) -> HeatCapacity:
    """A heat capacity from the argument of a Species; one per mass is converted by the molar mass (kg/mol)."""
    if isinstance(given, HeatCapacity):
        return given
    if isinstance(given, list | tuple):
        return HeatCapacity(given)
    if isinstance(given, Mapping):
        strange = sorted(given.keys() - {f.name for f in fields(HeatCapacity)})
        if strange:
            raise InputError(f"unknown: {', '.join(strange)}", "heat_capacity", "give coefficients, or low and high")
        return HeatCapacity(**given)
    value = units.read(given, name="heat_capacity")
    if value.unit is not None and units.unit(value.unit).dimension == units.unit("J/kg/K").dimension:
        if molar_mass is None:
            raise InputError(f"'{given}' is per mass", "heat_capacity", "give the formula or the molar mass as well")
        value = Value(value.si * molar_mass, SI_UNITS["heat capacity"])
    return HeatCapacity(value)
