"""What all vessels share: contents, kinetics, one balance, and the numbers that go into them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, fields, replace
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING, Any, ClassVar, Self

import sympy as sp

from molino.core import units
from molino.core.balances.system import Balances, Case, State
from molino.core.chemistry.constants import parameter_symbol
from molino.core.chemistry.formula import TEMPERATURE, concentration, species_in
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.reaction import BASES
from molino.core.chemistry.species import Species
from molino.core.chemistry.structure import Structure
from molino.core.chemistry.typeset import Equations
from molino.core.errors import Faults, InputError
from molino.core.printing import Printed
from molino.core.units import GAS_CONSTANT, Display, Value
from molino.core.vessels.catalyst import Catalyst, catalyst_symbols, check_catalyst, per_vessel_volume
from molino.core.vessels.equations import vessel_equations
from molino.core.vessels.feed import check_contents, inlet_symbol
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.review import VesselReview, review_vessel

if TYPE_CHECKING:
    from molino.core.vessels.metrics import Metric
    from molino.core.vessels.run import Run

VOLUME = sp.Symbol("volume", positive=True)
FLOW = sp.Symbol("flow", positive=True)
"""Volumetric flow of the feed."""
LOCAL_FLOW = sp.Symbol("local flow", positive=True)
"""Volumetric flow along a tube or out of a tank, where it differs from that of the feed."""


@dataclass(frozen=True, eq=False)
class Written:
    """The balances that a vessel wrote, and how to read conversions off them.

    `inlet` and `outlet` hold, for each species, the amount (batch) or molar flow that went in and that comes out, as
    expressions of the parameters and of the states.
    """

    balances: Balances
    inlet: Mapping[str, sp.Expr]
    outlet: Mapping[str, sp.Expr]


@dataclass(frozen=True)
class Kinetics:
    """Concentrations, rates and production of each species in a volume of liquid."""

    definitions: tuple[tuple[sp.Symbol, sp.Expr], ...]
    production: tuple[sp.Expr, ...]
    """Net amount formed per volume and time, sum over reactions of coefficient times rate, for each species."""


@lru_cache(maxsize=256)
def kinetics(structure: Structure, amounts: tuple[sp.Symbol, ...], per: sp.Symbol) -> Kinetics:
    """Rates where concentrations are amounts (or molar flows) per volume (or volumetric flow).

    In an ideal gas the partial pressure of a species is its concentration times R T.
    """
    used = structure.symbols
    definitions = [(concentration(s), n / per) for s, n in zip(structure.species, amounts, strict=True)]
    for symbol in sorted(used, key=str):
        kind = species_in(symbol)
        if kind is not None and kind[0] == "p":
            definitions.append((symbol, concentration(kind[1]) * GAS_CONSTANT * TEMPERATURE))
        if kind is not None and kind[0] == "x":
            definitions.append((symbol, concentration(kind[1]) / total(structure, concentration)))
    rates = [sp.Symbol(f"rate of {name}") for name in structure.reactions]
    definitions += zip(rates, structure.rates, strict=True)
    made: list[list[sp.Expr]] = [[] for _ in structure.species]
    for rate, factor, column in zip(rates, per_vessel_volume(structure), structure.stoichiometry, strict=True):
        for i, moles in column:
            made[i].append(sp.Rational(moles) * factor * rate)
    return Kinetics(tuple(definitions), tuple(sp.Add(*terms) for terms in made))


def derived(structure: Structure) -> dict[str, sp.Expr]:
    """What every vessel shows beside its states: concentrations and rates."""
    shown: dict[str, sp.Expr] = {s: concentration(s) for s in structure.species}
    return shown | {f"rate of {name}": sp.Symbol(f"rate of {name}") for name in structure.reactions}


def states(
    structure: Structure, letter: str, kind: str, initial: Iterable[sp.Expr], scale: sp.Expr
) -> tuple[State, ...]:
    """One state for each species, all of one scale."""
    symbols = (sp.Symbol(f"{letter}_{s}") for s in structure.species)
    return tuple(State(s, n, kind, e, scale) for s, n, e in zip(structure.species, symbols, initial, strict=True))


def total(structure: Structure, symbol: Callable[[str], sp.Symbol]) -> sp.Expr:
    """The sum of a symbol over the species."""
    return sp.Add(*(symbol(s) for s in structure.species))


def parameters(structure: Structure, *more: sp.Symbol) -> tuple[sp.Symbol, ...]:
    """Every parameter of a vessel: those of the chemistry, the inlet, the temperature, and the vessel's own."""
    return (
        *(parameter_symbol(name) for name in structure.parameters),
        *(inlet_symbol(s) for s in structure.species),
        TEMPERATURE,
        *catalyst_symbols(structure),
        *more,
    )


class Vessel(Printed):
    """Base of the vessels; each is a frozen dataclass with `chemistry`, and `with_` makes a changed one."""

    noun: ClassVar[str]
    """What it is called in messages."""
    sizes: ClassVar[tuple[str, ...]]
    """What of it `size` can vary."""
    name: str
    chemistry: Chemistry
    catalyst: Catalyst | None
    show: Mapping[str, str]

    def with_(self, **changed: Any) -> Self:
        """The same vessel with some fields replaced: `coil.with_(length="80 m")`."""
        known = {f.name for f in fields(self)}  # type: ignore[arg-type]
        strange = sorted(changed.keys() - known)
        if strange:
            advice = f"it has {', '.join(sorted(known))}"
            raise InputError(f"a {self.noun} has no {', '.join(strange)}", self.label, advice)
        return replace(self, **changed)  # type: ignore[type-var]

    @property
    def label(self) -> str:
        """Its name, or what it is."""
        return self.name or self.noun

    @property
    def title(self) -> str:
        """Name and noun: 'coil: plug flow'."""
        return f"{self.name}: {self.noun}" if self.name else self.noun

    def write(self) -> Written:
        """The vessel's balances as symbols."""
        raise NotImplementedError

    def numbers(self) -> dict[sp.Symbol, float]:
        """The vessel's own parameters: temperature, volume, flow."""
        raise NotImplementedError

    @property
    def gas(self) -> bool:
        """Whether it holds an ideal gas rather than a liquid of constant density."""
        raise NotImplementedError

    def mixture(self) -> Mixture:
        """What is fed or charged, worked out; InputError with what is missing or contradicts."""
        raise NotImplementedError

    @cached_property
    def fed(self) -> Mixture:
        """What is fed or charged: concentrations in mol/m^3, and volumetric flow in m^3/s or volume in m^3."""
        return self.mixture()

    def inlet(self) -> dict[str, float]:
        """Concentrations of the feed or charge in mol/m^3."""
        return self.fed.concentrations

    @cached_property
    def by_name(self) -> dict[str, Species]:
        """The species of its chemistry."""
        return {s.name: s for s in self.chemistry.species}

    @property
    def end(self) -> float:
        """Where the independent variable ends: the time of a batch, the volume of a tube; nan while not known."""
        raise NotImplementedError

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value that was given, with its kind."""
        raise NotImplementedError

    def outcome(self) -> Run:
        """The run by which the vessel is judged: at its end, or at steady state."""
        raise NotImplementedError

    @cached_property
    def written(self) -> Written:
        return self.write()

    @cached_property
    def case(self) -> Case:
        """The balances with the numbers of this vessel (unknown constants at their guess)."""
        species = self.inlet()
        numbers: dict[sp.Symbol, float] = {p.symbol: p.value for p in self.chemistry.parameters}
        numbers |= {inlet_symbol(s): species.get(s, 0.0) for s in self.chemistry.names} | self.numbers()
        if self.catalyst is not None:
            numbers |= self.catalyst.numbers()
        balances = self.written.balances
        return Case(balances, tuple(float(numbers.get(p, 0.0)) for p in balances.parameters))

    @cached_property
    def display(self) -> Display:
        """The units in which its results are shown."""
        with_units = any(p.unit is not None for p in self.chemistry.parameters)
        return Display.of(self.given(), self.show, with_units)

    @property
    def rate_kinds(self) -> dict[str, str]:
        """The kind of quantity of each rate that results show, by its name there."""
        return {f"rate of {r.name}": BASES[r.basis] for r in self.chemistry.reactions}

    def expression(self, metric: Metric) -> sp.Expr:
        """A metric over the states and parameters of this vessel; InputError if it cannot be told of it."""
        found = metric.expression(self.chemistry.structure, self.written)
        for species in metric.reactants:
            if not self.inlet().get(species, 0.0) > 0:
                raise InputError(
                    f"{metric}: no {species} goes in", self.label, "name a reactant that is fed or charged"
                )
        return found

    def check(self) -> VesselReview:
        """What is to be said before it runs: the chemistry's findings, its own, and the count of equations."""
        return review_vessel(self)

    def equations(self) -> Equations:
        """Its balances as it wrote them: plain text (`print`), LaTeX (`.latex`), and `figures.equations`."""
        return vessel_equations(self)

    def require_known(self) -> None:
        """Raise InputError if constants still wait for a fit."""
        waiting = [p.name for p in self.chemistry.unknowns]
        if waiting:
            advice = "fit them first (mo.fit), give numbers, or take the guesses (chemistry.at_guess())"
            raise InputError(f"unknown: {', '.join(waiting)}", self.label, advice)


def feed_pressure(vessel: Vessel) -> float:
    """Pressure of a gas feed in Pa: sum(c) R T; nan for a liquid."""
    feed = vessel.feed  # type: ignore[attr-defined]
    return float(sum(vessel.inlet().values()) * GAS_CONSTANT * feed.T.si) if vessel.gas else math.nan


def check_vessel(faults: Faults, vessel: Vessel, species: Iterable[str] | None, temperature: Value | None) -> None:
    """What holds for every vessel: known species, something that reacts, a temperature where one is needed."""
    if species is not None:
        with faults.at():
            check_contents(species, vessel.chemistry, vessel.label)
        if not faults.found:
            with faults.at(vessel.label):
                object.__setattr__(vessel, "fed", vessel.mixture())
    structure = vessel.chemistry.structure
    with faults.at(vessel.label):
        check_catalyst(structure, vessel.catalyst)
    if structure.by_temperature and temperature is None:
        said = f"no temperature is given, and {', '.join(structure.by_temperature)} depends on it"
        faults.add(vessel.label, said, "give T, like '175 degC'")
    if structure.by_pressure and species is not None and not vessel.gas:
        said = f"a rate law asks for the pressure {', '.join(structure.by_pressure)}, but this vessel holds a liquid"
        faults.add(vessel.label, said, "give P of a gas (in the feed or charge), or write it with concentrations")
    for kind, text in vessel.show.items():
        with faults.at(f"{vessel.label}, show"):
            if kind not in units.SI_UNITS:
                raise InputError(f"'{kind}' is not a kind of quantity", "", "kinds: " + ", ".join(units.SI_UNITS))
            units.expect(text, kind)


def convert(faults: Faults, vessel: Vessel, **kinds: str) -> None:
    """Read the named fields of a vessel in place, each a positive quantity of its kind (or None)."""
    for name, kind in kinds.items():
        given = getattr(vessel, name)
        if given is not None:
            with faults.at(vessel.label):
                object.__setattr__(vessel, name, units.positive(given, kind, name))
