"""Species and their properties."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from fractions import Fraction
from typing import Any

import sympy as sp

from molino.core.annotations import PlainData
from molino.core.chemistry.composition import composition
from molino.core.chemistry.equation import Equation, coefficient_text
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE, read_heat_capacity
from molino.core.chemistry.vapor_pressure import read_vapor_pressure
from molino.core.dual import Number, exp
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, quantities, quantity, read_fields, schema_of, several_forms
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value


@dataclass(frozen=True, eq=False)
class Species(Frozen, Printed):
    """A chemical species and its data; an error names a property that a run needs and that is missing.

    Parameters
    ----------
    name : str
        Its name in reaction equations.
    formula : str, optional
        Elements, groups, hydrates and charge: "C5H10O5", "Ca(OH)2", "CuSO4·5H2O", "SO4^2-". If every species of a
        reaction has one, the reaction must balance.
    molar_mass : optional
        Of a lump without formula; otherwise it follows from the formula.
    heat_capacity : quantity, sequence or HeatCapacity, optional
        "75 J/mol/K" (or per mass), the coefficients of a polynomial in T, or `HeatCapacity` for all forms.
    enthalpy_of_formation, gibbs_of_formation : optional
        At 298.15 K, energy per amount.
    entropy : optional
        Absolute, at 298.15 K and standard state, "J/mol/K".
    critical_temperature, critical_pressure, acentric_factor : optional
    density, molar_volume : optional
        Of the pure liquid, at 298.15 K; either one.
    rackett_factor : optional
        Z_RA of the Rackett equation for the expansion of the liquid, v = R T_c/P_c Z_RA^(1 + (1 - T/T_c)^(2/7)) (H. G.
        Rackett, J. Chem. Eng. Data 15 (1970) 514; C. F. Spencer, R. P. Danner, ibid. 17 (1972) 236), with the critical
        temperature. The volume at 298.15 K is from the density, if given, otherwise from the critical pressure.
    solubility_parameter, relative_volume, relative_area : optional
        Of the liquid, for activity models: of Hildebrand "18.2 MPa^0.5", and r and q of UNIQUAC.
    vapor_pressure : VaporPressure or mapping, optional
        Over temperature: {"antoine": [A, B, C], "pressure": "bar", "temperature": "degC"}, or of a `VaporPressure`.
    source : str
        The source of the numbers, for the results.

    Raises
    ------
    InputError
        With all faults, and properties that are specified twice.

    Examples
    --------
    >>> water = mo.Species("water", formula="H2O")
    >>> round(water.require("molar_mass", "this").si, 6)
    0.018015
    """

    name: str
    formula: str | None = None
    molar_mass: QuantityField = quantity("molar mass")
    heat_capacity: ReadField = quantities("heat capacity")
    enthalpy_of_formation: QuantityField = quantity("energy per amount", sign="any")
    gibbs_of_formation: QuantityField = quantity("energy per amount", sign="any")
    entropy: QuantityField = quantity("heat capacity", sign="any")
    critical_temperature: QuantityField = quantity("temperature")
    critical_pressure: QuantityField = quantity("pressure")
    acentric_factor: QuantityField = quantity("number", sign="any")
    density: QuantityField = quantity("density")
    molar_volume: QuantityField = quantity("molar volume")
    rackett_factor: QuantityField = quantity("number", most=1.0)
    solubility_parameter: QuantityField = quantity("solubility parameter")
    relative_volume: QuantityField = quantity("number")
    relative_area: QuantityField = quantity("number")
    vapor_pressure: ReadField = several_forms()
    source: str = ""

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[^\W\d][^\s+*/\[\]]*\+*", self.name):
            advice = "a name starts with a letter and has no blanks, brackets, * or /"
            raise InputError(f"'{self.name}' cannot be the name of a species", advice=advice)
        faults = Faults()
        by_formula = None
        with faults.at(self.name):
            if self.formula is not None:
                by_formula = composition(self.formula).molar_mass
        read_fields(self, faults, self.name)
        own = self.molar_mass.si if isinstance(self.molar_mass, Value) else None
        if own is not None and by_formula is not None and abs(own / by_formula - 1) > 2e-3:
            message = f"molar_mass is {self.molar_mass}, but {self.formula} weighs {by_formula * 1e3:.5g} g/mol"
            faults.add(self.name, message, "correct one of them, or leave the molar mass out")
        with faults.at(self.name):
            if self.heat_capacity is not None:
                read_cp = read_heat_capacity(self.heat_capacity, own if own is not None else by_formula)
                read_cp.check_sign()
                settle(self, heat_capacity=read_cp)
                twice = [n for n in ("enthalpy_of_formation", "gibbs_of_formation", "entropy") if getattr(self, n)]
                if read_cp.seven and twice:
                    message = f"{' and '.join(twice)} are included in the seven coefficients, and given again"
                    raise InputError(message, "", "leave them out")
        with faults.at(self.name):
            if self.vapor_pressure is not None:
                settle(self, vapor_pressure=read_vapor_pressure(self.vapor_pressure))
        if self.density is not None and self.molar_volume is not None:
            faults.add(self.name, "density and molar_volume specify the same thing twice", "give one of them")
        faults.raise_any()

    def require(self, name: str, asker: str) -> Any:
        """A property that `asker` needs: its `Value` (or `HeatCapacity`).

        Raises
        ------
        InputError
            With the species, the property and its use.
        """
        found = getattr(self, name)
        if found is None and name == "molar_mass" and self.formula is not None:
            return Value(composition(self.formula).molar_mass, None)
        if found is None and name == "molar_volume" and self.density is not None:
            return Value(self.require("molar_mass", asker).si / self.density.si, None)
        if found is None and name == "molar_volume" and self.rackett_factor is not None:
            Tc, Pc = (self.require(f"critical_{one}", asker).si for one in ("temperature", "pressure"))
            return Value(GAS_CONSTANT * Tc / Pc * self.rackett_factor.si ** (1 + self._rackett_power), None)
        if found is None:
            words = name.replace("_", " ")
            advice = f"give {name} to mo.Species, in [species.{self.name}] or the species table, or look it up"
            if name == "molar_mass":
                advice = f"give its formula or its molar_mass, as in Species('{self.name}', 'H2O')"
            raise InputError(f"{self.name} has no {words}, which {asker} needs", f"species {self.name}", advice)
        return found

    @property
    def has_molar_volume(self) -> bool:
        """Whether the molar volume of the liquid is known."""
        return any(x is not None for x in (self.molar_volume, self.density, self.rackett_factor))

    @property
    def _rackett_power(self) -> float:
        """(1 - T/T_c)^(2/7) at 298.15 K."""
        Tc = self.require("critical_temperature", "the Rackett equation").si
        if Tc <= STANDARD_TEMPERATURE:
            message = f"its critical temperature is {self.critical_temperature}: it is not a liquid at 298.15 K"
            raise InputError(message, f"species {self.name}", "leave the Rackett factor out, and give a molar volume")
        return float((1 - STANDARD_TEMPERATURE / Tc) ** (2 / 7))

    def expansion(self, T: Number | sp.Expr) -> Any:
        """Molar volume of the liquid at a temperature in K over that at 298.15 K: a number, or over a symbol."""
        if self.rackett_factor is None:
            return 1.0
        Tc, power = self.require("critical_temperature", "the Rackett equation").si, self._rackett_power
        exponent = ((1 - T / Tc) ** (2 / 7) - power) * math.log(self.rackett_factor.si)
        return exp(exponent)

    def enthalpy(self, T: sp.Expr, asker: str) -> sp.Expr:
        """Molar enthalpy over temperature in J/mol, relative to the elements at 298.15 K; H_f + integral of Cp dT."""
        Cp = self.require("heat_capacity", asker)
        if Cp.seven:
            return Cp.enthalpy(T)
        return sp.Float(self.require("enthalpy_of_formation", asker).si) + Cp.enthalpy(T)

    def standard_entropy(self, T: sp.Expr, asker: str) -> sp.Expr:
        """Molar entropy over temperature in J/(mol K); S + integral of Cp/T dT.

        Without an absolute entropy it is the entropy of formation (H_f - G_f) / 298.15 K: in a balanced reaction the
        entropies of the elements cancel.
        """
        Cp = self.require("heat_capacity", asker)
        if Cp.seven:
            return Cp.entropy(T)
        if self.entropy is not None:
            return sp.Float(self.entropy.si) + Cp.entropy(T)
        if self.gibbs_of_formation is None:
            self.require("entropy", asker)
        formed = self.require("enthalpy_of_formation", asker).si - self.gibbs_of_formation.si
        return sp.Float(formed / STANDARD_TEMPERATURE) + Cp.entropy(T)

    @property
    def entropy_is_absolute(self) -> bool:
        """Whether its entropy is absolute, and not relative to the elements at 298.15 K."""
        return self.entropy is not None or (self.heat_capacity is not None and self.heat_capacity.seven)

    def __str__(self) -> str:
        shown = {n.replace("_", " "): v for n, v in self.known().items()}
        if "molar mass" not in shown and self.formula is not None:
            shown = {"molar mass": f"{composition(self.formula).molar_mass * 1e3:.5g} g/mol", **shown}
        if self.vapor_pressure is not None:
            shown["vapor pressure"] = str(self.vapor_pressure)
        lines = [f"{self.name}, {self.formula}" if self.formula else self.name]
        lines += [f"  {name:<24}{value}" for name, value in shown.items()]
        return "\n".join([*lines, f"  {'source':<24}{self.source}"] if self.source else lines)

    def known(self) -> PlainData:
        """The properties that were given, by name."""
        return {f.name: v for f in fields(self) if f.name in PROPERTIES and (v := getattr(self, f.name)) is not None}


def beyond_validity(species: Iterable[Species], low: float, high: float) -> list[str]:
    """The species whose heat capacity is not valid from one temperature in K to another, in words."""
    found = []
    for one in species:
        valid = one.heat_capacity.valid if one.heat_capacity is not None else None
        if valid is not None and (low < valid[0].si or high > valid[1].si):
            found.append(f"{one.name} beyond {valid[0]} to {valid[1]}")
    return found


PROPERTIES: dict[str, str] = {name: schema.kind for name, schema in schema_of(Species).items()}
"""Each property of a species with its kind of quantity."""


def check_balance(equation: Equation, formulas: Mapping[str, str]) -> None:
    """Raise InputError if a reaction gains or loses an element or charge; skipped while a formula is missing.

    The message has the coefficient that would correct it, if a single one can.
    """
    net = equation.net
    if equation.is_one_sided or any(name not in formulas for name in net):
        return
    counts = {name: conserved(formulas[name]) for name in net}
    off: dict[str, Fraction] = {}
    for name, moles in net.items():
        for kind, count in counts[name].items():
            off[kind] = off.get(kind, Fraction(0)) + moles * count
    off = {kind: surplus for kind, surplus in off.items() if surplus}
    if not off:
        return
    parts = []
    for verb, sign in (("gains", 1), ("loses", -1)):
        changed = [f"{coefficient_text(abs(n))}{kind}" for kind, n in off.items() if n * sign > 0 and kind != "charge"]
        parts += [f"{verb} {' and '.join(changed)}"] if changed else []
    if "charge" in off:
        parts.append(f"its charge changes by {float(off['charge']):+g}")
    mends = []
    for name, moles in net.items():
        ratios = {off.get(kind, Fraction(0)) / count for kind, count in counts[name].items() if count}
        if len(ratios) == 1 and off.keys() <= counts[name].keys():
            corrected = moles - ratios.pop()
            if corrected and (corrected > 0) == (moles > 0):
                mends.append(f"{coefficient_text(abs(corrected))}{name}")
    advice = f"it balances with {' or with '.join(mends)}" if mends else "check the coefficients and the formulas"
    raise InputError(f"'{equation.text}' does not balance: it {', '.join(parts)}", advice=advice)


def conserved(formula: str) -> dict[str, Fraction]:
    """The conserved amounts in a species: the atoms of each element, and the charge."""
    found = composition(formula)
    return {**found.atoms, **({"charge": Fraction(found.charge)} if found.charge else {})}
