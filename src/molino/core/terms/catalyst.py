"""The catalyst in a vessel: its amount, diffusion in its pores, and its deactivation."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from functools import cached_property

import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import (
    ACTIVITY,
    AGE,
    BULK_DENSITY,
    CATALYST_AREA,
    CATALYST_FRACTION,
    DEACTIVATION,
    PARTICLE_DENSITY,
    PORES,
    VOIDAGE,
)
from molino.core.chemistry.constants import Constant, Unknown, read_constant
from molino.core.chemistry.formula import TEMPERATURE, concentration
from molino.core.chemistry.symbolic_network import SymbolicNetwork
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, constant, option, part, quantity, read_fields, several_forms
from molino.core.symbols import Quantity, in_order
from molino.core.terms.effectiveness import SHAPES
from molino.core.units import Value

_FACTORS = {
    "catalyst mass": BULK_DENSITY,
    "catalyst volume": CATALYST_FRACTION,
    "area": CATALYST_AREA,
    "volume": VOIDAGE,
}
"""For each basis of a rate the factor that makes it per volume of vessel."""
_LEAST_VOIDAGE = 0.01
"""Lower limit of the voidage of a packing."""
_FIELDS = {BULK_DENSITY: "bulk_density", CATALYST_FRACTION: "fraction", CATALYST_AREA: "area", VOIDAGE: "voidage"}
"""The field of `Catalyst` for each."""


@dataclass(frozen=True, eq=False)
class InternalDiffusion(Frozen, Printed):
    """Diffusion in the pores of the particles, which limits a reaction.

    phi^2 = L^2 (n + 1)/2 r rho_p/(D c) with r/c at the outer surface, for a reaction of order n in a species
    (generalised modulus: K. B. Bischoff, AIChE J. 11 (1965) 351), L the ratio of volume to surface.

    Parameters
    ----------
    species : str
        The reactant whose diffusion is limiting.
    diffusivity : quantity
        Effective, in the pores, "1e-6 m2/s".
    order : float
        Of the reaction in that species.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> mo.InternalDiffusion("A", "1e-6 m2/s").diffusivity.si
    1e-06
    """

    species: str = option("")
    diffusivity: QuantityField = quantity("diffusivity")
    order: QuantityField = quantity("number", 1.0, sign="any")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "")
        if self.diffusivity is None:
            faults.add("diffusivity", "it is not given", "give it, like '1e-6 m2/s'")
        if isinstance(self.order, Value) and self.order.si <= -1:
            faults.add("order", f"an order of {self.order} has no modulus", "give an order above -1")
        faults.raise_any()

    def __str__(self) -> str:
        return f"internal diffusion of {self.species}, diffusivity {self.diffusivity}, order {self.order}"


@dataclass(frozen=True, eq=False)
class Deactivation(Frozen, Printed):
    """Activity that falls with time on stream: da/dt = -k a^m, from a = 1; with a poison da/dt = -k [poison] a^m.

    (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, ch. 21.) In a batch or semi-batch the activity is a
    state; a tube and a tank have the activity after their `age` at the present local temperature. With a poison it
    depends on the local history: a tube is then followed over time.

    Parameters
    ----------
    k : quantity or Arrhenius
        "0.002 1/h"; with a poison "0.03 L/mol/h".
    order : float
        m; 1 falls exponentially.
    age : time, optional
        Time on stream of the vessel (at the start of a batch).
    poison : str, optional
        A species that deactivates it, at a rate in proportion to its concentration.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> aged = mo.Catalyst(deactivation=mo.Deactivation("0.002 1/h", age="500 h"))
    >>> print(aged.deactivation)
    deactivation with k = 0.002 1/h, order 1, after 500 h
    """

    k: ReadField = constant()
    order: QuantityField = quantity("number", 1.0, sign="nonnegative")
    age: QuantityField = quantity("time", 0.0, sign="nonnegative")
    poison: str = option("")

    def __post_init__(self) -> None:
        faults = Faults()
        with faults.at("deactivation"):
            held: Constant = read_constant(self.k, "k")
            if any(isinstance(part, Unknown) for part in held.parts().values()):
                raise InputError("the decay of a catalyst is not fitted", "k", "give a number")
            wanted, like = ("m^3/mol/s", "0.03 L/mol/h") if self.poison else ("1/s", "0.002 1/h")
            if held.unit is not None and units.unit(held.unit).dimension != units.unit(wanted).dimension:
                what = "per concentration and time" if self.poison else "per time"
                raise InputError(f"k = {held} is not {what}", "k", f"write it like '{like}'")
            settle(self, k=held)
        read_fields(self, faults, "deactivation")
        if self.poison and not faults.found and self.age.si:
            faults.add("deactivation", "the effect of a poison depends on the history", "leave age out")
        faults.raise_any()

    @property
    def rate_constant(self) -> sp.Expr:
        """k over temperature."""
        return self.k.expression({part: _deactivation_symbol(part) for part in self.k.parts()})

    def numbers(self) -> dict[sp.Symbol, float]:
        return {AGE: self.age.si, **{_deactivation_symbol(part): value.si for part, value in self.k.parts().items()}}

    @property
    def left(self) -> sp.Expr:
        """Activity after the time on stream, at constant temperature."""
        spent = self.rate_constant * AGE
        order = sp.nsimplify(self.order.si)
        return sp.exp(-spent) if order == 1 else (1 + (order - 1) * spent) ** (1 / (1 - order))

    @property
    def slope(self) -> sp.Expr:
        """da/dt."""
        there = concentration(self.poison) if self.poison else sp.Integer(1)
        return -self.rate_constant * there * ACTIVITY ** sp.nsimplify(self.order.si)

    def __str__(self) -> str:
        by = f" by {self.poison}" if self.poison else ""
        after = f", after {self.age}" if self.age.si else ""
        return f"deactivation{by} with k = {self.k}, order {self.order}{after}"


def _deactivation_symbol(part: str) -> Quantity:
    return DEACTIVATION(f"deactivation.k.{part}" if part else "deactivation.k")


@dataclass(frozen=True)
class CatalystShape:
    """The properties of a catalyst that determine the form of the balances.

    `has_voids`: whether the fluid fills a part of the vessel; `internal_diffusion`: name, species and shape of each
    reaction that diffusion limits; `law`: the activity at the age; `slope`: its derivative by time.
    """

    has_voids: bool = False
    internal_diffusion: tuple[tuple[str, str, float], ...] = ()
    law: sp.Expr | None = None
    slope: sp.Expr | None = None


@dataclass(frozen=True, eq=False)
class Catalyst(Frozen, Printed):
    """The catalyst of a vessel, per volume of vessel (of liquid, in a batch or tank).

    A rate per catalyst mass times `bulk_density`, per bulk volume of catalyst times `fraction`, per catalytic area
    times `area` is a rate per volume of vessel; one per volume is per volume of fluid and is multiplied by `voidage`
    (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 18).

    Parameters
    ----------
    bulk_density : optional
        Mass of catalyst per volume of vessel, "850 kg/m3"; in a slurry its loading, "20 g/L".
    area : optional
        Catalytic area per volume of vessel, "300 m2/m3".
    fraction : float
        Bulk volume of catalyst per volume of vessel; 1 for a full bed.
    voidage : float
        Fluid volume per volume of vessel, for all rates per volume, which are per volume of fluid (a rate per volume of
        bed has the basis "catalyst volume"), and for the pressure drop.
    particle_density : optional
        Mass of catalyst per volume of particle; the bulk density follows from it and the voidage.
    particle_diameter : optional
        Of a sphere or cylinder, or the thickness of a slab.
    shape : "sphere", "cylinder" or "slab"
    internal_diffusion : mapping of reaction to InternalDiffusion, optional
        The reactions that diffusion in the particles limits; needs particle density and diameter.
    deactivation : Deactivation, optional
        The decrease of its activity with time on stream.
    heat_capacity : heat capacity per mass, optional
        Of the packing, which has the temperature of the fluid in a tube over time; needs the bulk density.
    adsorption : Adsorption, optional
        Adsorption on the packing in a tube over time; needs the bulk density.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="2 L/kg/min", basis="catalyst mass"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> bed = mo.PlugFlow(chem, feed, volume="1 L", catalyst=mo.Catalyst(bulk_density="850 kg/m3"))
    >>> round(bed.run().conversion("A"), 4)
    0.8173
    """

    bulk_density: QuantityField = quantity("density")
    area: QuantityField = quantity("specific area")
    fraction: QuantityField = quantity("number", 1.0, most=1.0)
    voidage: QuantityField = quantity("number", 1.0, most=1.0)
    particle_density: QuantityField = quantity("density")
    particle_diameter: QuantityField = quantity("diameter")
    shape: str = option("sphere", SHAPES)
    internal_diffusion: Mapping[str, InternalDiffusion] = part(InternalDiffusion, several=True)
    deactivation: Deactivation | None = part(Deactivation)
    heat_capacity: QuantityField = quantity("heat capacity per mass")
    adsorption: ReadField = several_forms()

    def __post_init__(self) -> None:
        faults = Faults()
        settle(self, internal_diffusion=FrozenMapping(self.internal_diffusion))
        read_fields(self, faults, "catalyst")
        if not faults.found and self.voidage.si < _LEAST_VOIDAGE:
            faults.add("catalyst, voidage", f"{self.voidage} is not that of a bed", "give a fraction like 0.4")
        if self.particle_density is not None and not faults.found:
            self._settle_density(faults)
        if self.internal_diffusion and (self.particle_density is None or self.particle_diameter is None):
            message = "internal diffusion is given without particles"
            faults.add("catalyst", message, "give particle_density and particle_diameter")
        for name in ("heat_capacity", "adsorption"):
            if getattr(self, name) is not None and self.bulk_density is None:
                faults.add("catalyst", f"{name} is per mass of packing, and no bulk density is given", "give it")
        faults.raise_any()

    def _settle_density(self, faults: Faults) -> None:
        """Bulk density from that of the particles and the voidage; a fault if they contradict."""
        if self.voidage.si == 1.0:
            if self.bulk_density is None:
                faults.add("catalyst", "a particle density is given, and no voidage", "give voidage=0.4 or similar")
            return
        bulk = self.particle_density.si * (1 - self.voidage.si)
        if self.bulk_density is not None and abs(bulk / self.bulk_density.si - 1) > 1e-3:
            message = f"particle_density and voidage make {bulk:.6g} kg/m3, but bulk_density is {self.bulk_density}"
            faults.add("catalyst", message, "give two of the three")
        if self.bulk_density is None:
            settle(self, bulk_density=Value(bulk, "kg/m^3"))

    @cached_property
    def form(self) -> CatalystShape:
        internal_diffusion = tuple(
            (reaction, p.species, SHAPES[self.shape]) for reaction, p in self.internal_diffusion.items()
        )
        has_voids = self.voidage.si < 1
        if self.deactivation is None:
            return CatalystShape(has_voids, internal_diffusion)
        return CatalystShape(has_voids, internal_diffusion, self.deactivation.left, self.deactivation.slope)

    def numbers(self) -> dict[sp.Symbol, float]:
        """The parameters it sets, in SI."""
        found = {s: given.si for s, name in _FIELDS.items() if (given := getattr(self, name)) is not None}
        for reaction, internal_diffusion in self.internal_diffusion.items():
            length = self.particle_diameter.si / SHAPES[self.shape]
            found[resistance(reaction)] = (
                length**2 * (internal_diffusion.order.si + 1) / 2 / internal_diffusion.diffusivity.si
            )
            found[PARTICLE_DENSITY] = self.particle_density.si
        return found | (self.deactivation.numbers() if self.deactivation is not None else {})

    def __str__(self) -> str:
        shown = {
            f.name: getattr(self, f.name)
            for f in fields(self)
            if f.name not in ("internal_diffusion", "deactivation", "adsorption")
        }
        shown = {n: v for n, v in shown.items() if n != "shape" or self.particle_diameter is not None}
        parts = [f"{name.replace('_', ' ')} {value}" for name, value in shown.items() if value is not None]
        parts += [f"{name}: {internal_diffusion}" for name, internal_diffusion in self.internal_diffusion.items()]
        parts += [str(one) for one in (self.deactivation, self.adsorption) if one is not None]
        return "catalyst of " + ", ".join(parts)


NO_CATALYST = CatalystShape()


def resistance(reaction: str) -> Quantity:
    """The parameter L^2 (n + 1)/(2 D) of a reaction limited by diffusion, in s."""
    return PORES(reaction)


def thiele_square(network: SymbolicNetwork, reaction: str, rate: sp.Expr, species: str) -> sp.Expr:
    """Square of the generalised Thiele modulus of a reaction from its rate at the outer surface."""
    return rate * per_particle(network, reaction) / concentration(species) * resistance(reaction)


def per_particle(network: SymbolicNetwork, name: str) -> sp.Expr:
    """The factor that makes the rate of a reaction per volume of particle."""
    basis = network.bases[network.reactions.index(name)]
    if basis == "catalyst mass":
        return PARTICLE_DENSITY
    return _FACTORS[basis] * PARTICLE_DENSITY / _FACTORS["catalyst mass"]


def per_vessel_volume(network: SymbolicNetwork, form: CatalystShape) -> list[sp.Expr]:
    """The factor from the rate of each reaction to a rate per volume of vessel.

    A rate per volume is per volume of fluid: its factor is the voidage of a bed.
    """
    factors = _FACTORS if form.has_voids else {**_FACTORS, "volume": sp.Integer(1)}
    return [factors[basis] for basis in network.bases]


def catalyst_symbols(network: SymbolicNetwork, form: CatalystShape = NO_CATALYST) -> Sequence[sp.Symbol]:
    """The parameters of the catalyst of a vessel."""
    found = dict.fromkeys(f for f in per_vessel_volume(network, form) if f.is_Symbol)
    for reaction, _, _ in form.internal_diffusion:
        found |= dict.fromkeys([*in_order(per_particle(network, reaction).free_symbols), resistance(reaction)])
    if form.law is not None and form.slope is not None:
        inside = {ACTIVITY, TEMPERATURE, *(concentration(s) for s in network.species)}
        found |= dict.fromkeys(in_order((form.law.free_symbols | form.slope.free_symbols) - inside))
    return [*found]


def check_catalyst(network: SymbolicNetwork, catalyst: object) -> None:
    """Raise InputError if a rate needs a property of the catalyst that is not given."""
    if not isinstance(catalyst, Catalyst | None):
        raise InputError(f"{catalyst!r} is not a catalyst", "", "write mo.Catalyst(bulk_density='850 kg/m3')")
    if catalyst is None and set(network.bases) == {"volume"}:
        return
    numbers = (catalyst or Catalyst()).numbers()
    faults = Faults()
    for symbol in catalyst_symbols(network):
        asking = [n for n, b in zip(network.reactions, network.bases, strict=True) if _FACTORS[b] == symbol]
        basis = next(b for b, s in _FACTORS.items() if s == symbol)
        if symbol not in numbers or (catalyst is None and basis == "catalyst volume"):
            message = (
                f"the rate of {', '.join(asking)} is per {basis}, and the vessel's catalyst has no {_FIELDS[symbol]}"
            )
            example = {"area": "'300 m2/m3'", "catalyst volume": "1"}.get(basis, "'850 kg/m3'")
            faults.add("", message, f"give catalyst=mo.Catalyst({_FIELDS[symbol]}={example})")
    ages = catalyst.deactivation if catalyst is not None else None
    if ages is not None and ages.poison and ages.poison not in network.species:
        remedy = nearest(ages.poison, network.species)
        faults.add("catalyst, deactivation", f"'{ages.poison}' is not a species", remedy)
    if catalyst is not None and catalyst.adsorption is not None:
        with faults.at("catalyst"):
            catalyst.adsorption.check(network.species)
    for reaction, internal_diffusion in catalyst.internal_diffusion.items() if catalyst is not None else ():
        if reaction not in network.reactions:
            faults.add(
                "catalyst, internal_diffusion",
                f"unknown reaction '{reaction}'",
                nearest(reaction, network.reactions),
            )
        elif network.bases[network.reactions.index(reaction)] == "volume":
            faults.add(
                "catalyst, internal_diffusion", f"the rate of {reaction} is per volume of fluid", "give it basis=..."
            )
        elif internal_diffusion.species not in network.species:
            faults.add(
                "catalyst, internal_diffusion",
                f"'{internal_diffusion.species}' is not a species",
                nearest(internal_diffusion.species, network.species),
            )
    faults.raise_any()
