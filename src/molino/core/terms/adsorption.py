"""Adsorption on a packing: loadings that follow an isotherm."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, dataclass, field
from functools import cached_property

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import (
    ADSORPTION_CONSTANT,
    ADSORPTION_RATE,
    BULK_DENSITY,
    LOADING,
    LOADING_AT_START,
)
from molino.core.balances.system import ZERO, State
from molino.core.chemistry.constants import Constant, Unknown, read_constant
from molino.core.chemistry.dimensions import check_dimensions
from molino.core.chemistry.formula import GAS, constant, names_in, parse_formula, species_in
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, quantity, read_fields
from molino.core.symbols import Quantity
from molino.core.terms.model import Reading
from molino.core.terms.terms import Contribution, Place
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value


@dataclass(frozen=True, eq=False)
class Adsorption(Frozen, Printed):
    """Adsorption of species on a packing: dq_i/dt = k (q_i* - q_i), with an isotherm q_i* of the fluid.

    A linear driving force (E. Glueckauf, Trans. Faraday Soc. 51 (1955) 1540); for tubes over time; at steady state its
    rate is zero. Without heat of adsorption.

    Parameters
    ----------
    isotherm : mapping of species to formula
        Loading at equilibrium in mol/kg of packing, {"A": "q_m*b*[A]/(1 + b*[A])"}.
    rate : quantity
        k, "0.05 1/s".
    constants : mapping of name to quantity, Arrhenius, ...
        The constants of the formulas, {"q_m": "2 mol/kg", "b": "0.4 L/mol"}.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> print(mo.Adsorption({"A": "K*[A]"}, "0.1 1/s", {"K": "3 L/kg"}))
    adsorption with a rate of 0.1 1/s: q* of A = K*[A], K = 3 L/kg
    """

    isotherm: Mapping[str, str]
    rate: QuantityField = quantity("transfer coefficient", MISSING)
    constants: ByName = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        if not isinstance(self.isotherm, Mapping) or not self.isotherm:
            advice = """write mo.Adsorption({"A": "K*[A]"}, "0.1 1/s", {"K": "3 L/kg"})"""
            raise InputError("no isotherm is given", "adsorption", advice)
        read_fields(self, faults, "adsorption")
        held = {}
        for name, given in dict(self.constants).items():
            with faults.at("adsorption"):
                held[name] = read_constant(given, name)
                if any(isinstance(p, Unknown) for p in held[name].parts().values()):
                    raise InputError("an isotherm is not fitted", name, "give a number")
        settle(self, isotherm=FrozenMapping(self.isotherm), constants=FrozenMapping(held))
        faults.raise_any("adsorption")
        for species, text in self.isotherm.items():
            with faults.at(f"adsorption, isotherm of {species}"):
                self._check(parse_formula(text))
        faults.raise_any()
        asked = {name for e in self._laws.values() for name in names_in(e)}
        for name in sorted(asked - held.keys()):
            faults.add("adsorption", f"the constant {name} has no value", f"give constants={{'{name}': ...}}")
        for name in sorted(held.keys() - asked):
            faults.add("adsorption", f"no isotherm uses the constant {name}", nearest(name, asked, "leave it out"))
        faults.raise_any()

    def _check(self, law: sp.Expr) -> None:
        """Raise UnitError for a loading that is not in mol/kg."""
        known = {name: units.unit(c.unit).dimension if c.unit else None for name, c in self.constants.items()}
        numbers = {n: p.si for n, c in self.constants.items() if isinstance(p := c.parts().get(""), Value)}
        check_dimensions(law, known, numbers, units.unit("mol/kg").dimension)

    @cached_property
    def _laws(self) -> dict[str, sp.Expr]:
        return {species: parse_formula(text) for species, text in self.isotherm.items()}

    def check(self, species: tuple[str, ...]) -> None:
        """Raise InputError for species that the chemistry does not have."""
        faults = Faults()
        symbols = {s for law in self._laws.values() for s in law.free_symbols}
        named = {*self.isotherm, *(kind[1] for s in symbols if (kind := species_in(s)))}
        for name in sorted(named - {*species}):
            faults.add("adsorption", f"the chemistry has no species {name}", nearest(name, species))
        faults.raise_any()

    @cached_property
    def numbers(self) -> dict[sp.Symbol, float]:
        """The parameters it sets, in SI."""
        found: dict[sp.Symbol, float] = {ADSORPTION_RATE: self.rate.si}
        for name, held in self.constants.items():
            found |= {_part(name, part): value.si for part, value in held.parts().items()}
        return found

    def term(self) -> AdsorptionTerm:
        """Its term in the balances of a place."""
        laws: dict[sp.Symbol, sp.Expr] = {}
        for name, held in self.constants.items():
            one: Constant = held
            laws[constant(name)] = one.expression({part: _part(name, part) for part in one.parts()})
        swap = laws | {GAS: GAS_CONSTANT}
        return AdsorptionTerm(tuple((s, law.xreplace(swap)) for s, law in self._laws.items()), tuple(self.numbers))

    def __str__(self) -> str:
        parts = [f"q* of {species} = {text}" for species, text in self.isotherm.items()]
        parts += [f"{name} = {held}" for name, held in self.constants.items()]
        return f"adsorption with a rate of {self.rate}: " + ", ".join(parts)


def _part(name: str, part: str) -> Quantity:
    return ADSORPTION_CONSTANT(f"{name}.{part}" if part else name)


@dataclass(frozen=True)
class AdsorptionTerm:
    """-rho_b k (q_i* - q_i) to each adsorbed species, with the loadings as further unknowns."""

    isotherms: tuple[tuple[str, sp.Expr], ...]
    constants: tuple[sp.Symbol, ...]

    @property
    def asked(self) -> frozenset[sp.Symbol]:
        """The symbols of the composition in the isotherms."""
        return frozenset(s for _, law in self.isotherms for s in law.free_symbols if species_in(s) is not None)

    def __call__(self, place: Place) -> Contribution:
        slopes = {s: ADSORPTION_RATE * (law - LOADING(s)) for s, law in self.isotherms}
        states = tuple(
            (State(f"loading of {s}", LOADING(s), "loading", LOADING_AT_START(s), sp.Integer(1)), slope)
            for s, slope in slopes.items()
        )
        taken = tuple(-BULK_DENSITY * slopes[s] if s in slopes else ZERO for s in place.species)
        readings = {f"loading of {s}": Reading(LOADING(s), "loading", f"loading of {s}") for s in slopes}
        own = (*self.constants, BULK_DENSITY, *(LOADING_AT_START(s) for s in slopes))
        return Contribution("adsorption", taken, states=states, parameters=own, readings=readings)
