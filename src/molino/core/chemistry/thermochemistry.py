"""Enthalpy, entropy and equilibrium of a reaction, from the properties of its species."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import ClassVar

import sympy as sp

from molino.core import units
from molino.core.chemistry.constants import Entry
from molino.core.chemistry.equation import Equation
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.heat_capacity import HeatCapacity
from molino.core.chemistry.species import Species
from molino.core.dimension_text import si_text
from molino.core.errors import Faults, InputError
from molino.core.frozen import settle
from molino.core.schema import ReadField, several_forms
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value


def _changed(
    equation: Equation, species: Mapping[str, Species], asker: str, *needs: str
) -> list[tuple[sp.Rational, Species]]:
    """Coefficient and species for each that reacts; all missing properties are reported together.

    If no species has a heat capacity, all are zero: that of the reaction is assumed zero.
    """
    found = [(moles, species[name]) for name, moles in equation.net.items()]
    constant = not any(s.heat_capacity for _, s in found)
    faults = Faults()
    for _, one in found:
        seven = one.heat_capacity is not None and one.heat_capacity.seven
        for need in ("heat_capacity",) if not constant else ():
            with faults.at():
                one.require(need, asker)
        for need in needs if not seven else ():
            with faults.at():
                if need != "entropy" or one.gibbs_of_formation is None:
                    one.require(need, asker)
    faults.raise_any()
    if constant:
        found = [(moles, replace(s, heat_capacity=HeatCapacity(0.0))) for moles, s in found]
    return [(sp.Rational(moles), s) for moles, s in found]


def reaction_enthalpy(equation: Equation, species: Mapping[str, Species], T: sp.Expr, asker: str) -> sp.Expr:
    """sum of nu_i h_i(T) in J per mole of reaction (Kirchhoff's law); InputError with missing properties."""
    return sp.Add(
        *(moles * s.enthalpy(T, asker) for moles, s in _changed(equation, species, asker, "enthalpy_of_formation"))
    )


def reaction_entropy(equation: Equation, species: Mapping[str, Species], T: sp.Expr, asker: str) -> sp.Expr:
    """sum of nu_i s_i(T) in J/K per mole of reaction."""
    found = _changed(equation, species, asker, "enthalpy_of_formation", "entropy")
    if all(s.entropy_is_absolute or s.gibbs_of_formation is not None for _, s in found):
        counted = {s.entropy_is_absolute for _, s in found}
        if len(counted) > 1 and all(s.gibbs_of_formation is not None for _, s in found):
            found = [(moles, replace(s, entropy=None)) for moles, s in found]
        elif len(counted) > 1:
            relative = ", ".join(s.name for _, s in found if not s.entropy_is_absolute)
            message = f"{relative}: a Gibbs energy of formation, where the others have an absolute entropy"
            raise InputError(message, asker, "give all species the entropy, or all the Gibbs energy of formation")
    return sp.Add(*(moles * s.standard_entropy(T, asker) for moles, s in found))


def log_equilibrium(equation: Equation, species: Mapping[str, Species], T: sp.Expr, asker: str) -> sp.Expr:
    """ln K = -(dH - T dS) / (R T) over temperature, K in activities."""
    _changed(equation, species, asker, "enthalpy_of_formation", "entropy")
    enthalpy = reaction_enthalpy(equation, species, T, asker)
    entropy = reaction_entropy(equation, species, T, asker)
    return (-enthalpy / T + entropy) / GAS_CONSTANT


def _is_pressure(value: Value) -> bool:
    return value.unit is None or units.unit(value.unit).dimension == units.unit("Pa").dimension


@dataclass(frozen=True)
class FromSpecies:
    """The equilibrium constant of a reaction, from the thermochemistry of its species.

        ln K = -dG(T) / (R T),   dG = sum of nu_i (h_i(T) - T s_i(T))

    (J. M. Smith, H. C. Van Ness, M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005,
    chapter 13). Each species needs its enthalpy of formation and its entropy or Gibbs energy of formation; if none of
    them has a heat capacity, that of the reaction is assumed zero.

    Parameters
    ----------
    of : "concentrations", "pressures" or "activities"
        The quantities of K: K_c = K (P/(R T))^dnu or K c^dnu at the standard state, K_p = K P^dnu, or K itself.
    standard : str
        The standard state of the species' numbers: a pressure (ideal gas) or a concentration (solutes).
    law, unit
        Set by `Chemistry`, from its species.

    Raises
    ------
    InputError
        For another `of`, or a standard that does not fit it.

    Examples
    --------
    >>> A = mo.Species("A", enthalpy_of_formation="-100 kJ/mol", entropy="200 J/mol/K", heat_capacity=50.0)
    >>> B = mo.Species("B", enthalpy_of_formation="-110 kJ/mol", entropy="190 J/mol/K", heat_capacity=50.0)
    >>> law = mo.Reaction("A <=> B", k="0.2 1/min", K=mo.thermo.FromSpecies("concentrations"))
    >>> chem = mo.Chemistry(law, species=[A, B])
    >>> run = mo.Batch(chem, {"A": "1 mol/L"}, T="350 K", time="2 h").run()
    >>> round(run.conversion("A"), 3)
    0.903
    """

    of: str = "concentrations"
    standard: ReadField = several_forms("1 bar")
    free: ClassVar[frozenset[str]] = frozenset()
    law: sp.Expr | None = field(default=None, repr=False, compare=False)
    unit: str | None = field(default=None, repr=False, compare=False)

    def __post_init__(self) -> None:
        kinds = ("concentrations", "pressures", "activities")
        if self.of not in kinds:
            raise InputError(f"of = {self.of!r}", "", f"an equilibrium constant is of {', '.join(kinds)}")
        given = units.read(self.standard, name="standard")
        kind = "pressure" if _is_pressure(given) else "concentration"
        settle(self, standard=units.positive(given, kind, "standard"))
        if self.of == "pressures" and kind != "pressure":
            raise InputError(f"the standard state is {given}", "standard", "give a pressure, like '1 bar'")

    def bound(self, equation: Equation, species: Mapping[str, Species]) -> FromSpecies:
        """The same for one reaction: with its law over T and its unit. InputError with missing properties."""
        asker = f"K of '{equation}'"
        ln_K = log_equilibrium(equation, species, TEMPERATURE, asker)
        change = sum(equation.net.values(), Fraction(0))
        state = sp.Float(self.standard.si)
        base = units.unit("Pa" if self.of == "pressures" else "mol/m^3").dimension
        if self.of == "concentrations" and _is_pressure(self.standard):
            state = state / (GAS_CONSTANT * TEMPERATURE)
        if self.of == "activities":
            return replace(self, law=sp.exp(ln_K), unit="")
        dimension = {name: power * change for name, power in base.items() if change}
        return replace(self, law=state ** sp.Rational(change) * sp.exp(ln_K), unit=si_text(dimension))

    def parts(self) -> dict[str, Entry]:
        return {}

    def with_parts(self, parts: Mapping[str, Entry]) -> FromSpecies:
        return self

    def expression(self, symbols: Mapping[str, sp.Expr]) -> sp.Expr:
        if self.law is None:
            raise InputError("an equilibrium constant from species belongs to one reaction", "", "give it there")
        return self.law

    def __str__(self) -> str:
        return f"from the species' thermochemistry, of {self.of}, standard state {self.standard}"
