"""The terms of a balance: reaction, convection, walls, stirrer. Each is a small function of a place in a vessel.

A term contributes to the balance of each species, to the enthalpy balance, and to the accounts of the closure of a run.
A vessel is a list of terms; `well_mixed` and `along_tube` add them up.

The unknown of the enthalpy balance is the temperature: C dT/dt = sum of the contributions at constant temperature
(`heating`). The transport of a term across the boundary, for the energy account, is written separately from the
enthalpy of the whole stream (`enthalpy`): the two share no expression, so that the account is an independent check.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import sympy as sp

from molino.core.balances.balance_symbols import (
    AREA,
    COOLANT,
    COOLANT_FLOW,
    COOLANT_LEAVES,
    COOLANT_T,
    FEED_P,
    FEED_T,
    FLOW,
    INLET,
    LAMINAR,
    MASS_FLUX,
    STIRRER,
    STREAM_FLOW,
    STREAM_T,
    TRANSFER,
    TURBULENT,
)
from molino.core.balances.system import ZERO, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.terms.model import Kinetics, ModelKey, Reading
from molino.core.thermo.phase_model import Content


@dataclass(frozen=True, eq=False)
class Place:
    """A place of a vessel, as symbols.

    Attributes
    ----------
    key : ModelKey
    amounts : tuple of Symbol
        Amounts of the species, or along a tube their molar flows.
    holds : expression
        Their volume (volumetric flow).
    extent : expression
        The volume that the balances refer to: the whole vessel where it is well mixed, 1 along a tube.
    content : Content
        Volume and enthalpy of the amounts.
    kinetics : Kinetics
        Concentrations, rates and production per volume.
    outflow : expression
        The volumetric flow of the outlet; zero without one.
    """

    key: ModelKey
    amounts: tuple[sp.Symbol, ...]
    holds: sp.Expr
    extent: sp.Expr
    content: Content
    kinetics: Kinetics
    outflow: sp.Expr = ZERO

    @property
    def species(self) -> tuple[str, ...]:
        return self.key.network.species


@dataclass(frozen=True, eq=False)
class Crossing:
    """The transport of a term into or out of a vessel, for the closure of a run.

    Attributes
    ----------
    way : 'in' or 'out'
    flows : tuple of expressions
        Molar flow of each species.
    enthalpy : expression or None
        Its enthalpy flow; None if enthalpies are unknown.
    """

    way: str
    flows: tuple[sp.Expr, ...]
    enthalpy: sp.Expr | None = None


@dataclass(frozen=True, eq=False)
class Holding:
    """The contents of a term in states of its own, besides those of the place.

    Attributes
    ----------
    amounts, first : tuple of expressions
        Of each species, now and at the beginning.
    capacity, enthalpy, first_enthalpy : expression
        Its heat capacity, and its enthalpy now and at the beginning; zero if enthalpies are unknown.
    """

    amounts: tuple[sp.Expr, ...]
    first: tuple[sp.Expr, ...]
    capacity: sp.Expr = ZERO
    enthalpy: sp.Expr = ZERO
    first_enthalpy: sp.Expr = ZERO


@dataclass(frozen=True, eq=False)
class Contribution:
    """The contribution of a term to the balances at a place.

    Attributes
    ----------
    name : str
    species : tuple of expressions
        To the balance of each species; empty for none.
    heating : expression
        To C dT/dt, at constant temperature and composition.
    volume : expression
        Volumetric flow into a liquid whose volume is a state.
    crossings : tuple of Crossing
        Its transport across the boundary.
    holds : Holding or None
        Its contents in states of its own.
    is_wall, is_work : bool
        Whether it is the heat through the walls, or the work of the stirrer.
    is_proportional : bool
        Whether it removes the contents unchanged, which does not change their temperature.
    states : tuple of (State, slope)
        Further unknowns.
    conditions : tuple of (Symbol, expression)
        Values given at the end for unknowns at the beginning.
    definitions, parameters, readings
        Its definitions, its parameters and its readings.
    """

    name: str
    species: tuple[sp.Expr, ...] = ()
    heating: sp.Expr = ZERO
    volume: sp.Expr = ZERO
    crossings: tuple[Crossing, ...] = ()
    holds: Holding | None = None
    is_wall: bool = False
    is_work: bool = False
    is_proportional: bool = False
    states: tuple[tuple[State, sp.Expr], ...] = ()
    conditions: tuple[tuple[sp.Symbol, sp.Expr], ...] = ()
    definitions: tuple[tuple[sp.Symbol, sp.Expr], ...] = ()
    parameters: tuple[sp.Symbol, ...] = ()
    readings: dict[str, Reading] = field(default_factory=dict)
    entered: tuple[sp.Expr, ...] = ()
    left: tuple[sp.Expr, ...] = ()
    """Along a tube: the flow of each species in or out through its wall, from the inlet to here."""
    leaving_P: sp.Expr | None = None
    """The pressure of the outlet, if known."""
    leaves: tuple[str, tuple[sp.Expr, ...]] | None = None
    """A further outlet at the temperature of the place: its name, and the molar flow of each species.
    """


Term = Callable[[Place], Contribution]


def reaction(place: Place) -> Contribution:
    """V sum_j nu_ij r_j to each species, -V sum_j dH_j r_j to the temperature."""
    made = tuple(place.extent * one for one in place.kinetics.production)
    heating = -place.extent * place.kinetics.heat if place.key.has_energy else ZERO
    return Contribution("reaction", made, heating)


@dataclass(frozen=True)
class Inflow:
    """A stream into a well-mixed vessel, with a name for its parameters ('' for a single one).

    F_i to each species, -sum_i F_i (h_i(T) - h_i(T_in)) to the temperature.
    """

    name: str = ""

    @property
    def flow(self) -> sp.Symbol:
        return STREAM_FLOW(self.name) if self.name else FLOW

    @property
    def T(self) -> sp.Symbol:
        return STREAM_T(self.name) if self.name else FEED_T

    def inside(self, species: str) -> sp.Symbol:
        """Concentration of a species in it."""
        return INLET(self.name, species) if self.name else INLET(species)

    def __call__(self, place: Place) -> Contribution:
        fed = [self.flow * self.inside(s) for s in place.species]
        own = (*(self.inside(s) for s in place.species), self.flow)
        if not place.key.has_energy:
            crossing = Crossing("in", tuple(fed))
            return Contribution("feed", tuple(fed), volume=self.flow, crossings=(crossing,), parameters=own)
        stream = Content(place.key.phase, fed, self.T, PRESSURE, f"{self.name or 'feed'} ")
        heating, enthalpy = stream_heat(place, stream, self.flow)
        return Contribution(
            "feed",
            tuple(fed),
            heating,
            self.flow,
            (Crossing("in", tuple(fed), enthalpy),),
            definitions=tuple(stream.definitions),
            parameters=(*own, self.T),
        )


def stream_heat(place: Place, stream: Content, carried: sp.Expr) -> tuple[sp.Expr, sp.Expr]:
    """The contribution of an inlet at its own temperature to C dT/dt, and its enthalpy flow."""
    phase = place.key.phase
    heating = stream.departure - phase.sensible_enthalpy(stream.n, TEMPERATURE, stream.T, carried)
    return heating, phase.enthalpy(stream, carried)


def outflow(place: Place) -> Contribution:
    """-Q c_i to each species; the outflow does not change the temperature."""
    leaves = tuple(place.outflow * n / place.holds for n in place.amounts)
    taken = None
    if place.key.has_energy:
        taken = place.outflow / place.holds * place.key.phase.enthalpy(place.content, place.holds)
    crossing = Crossing("out", leaves, taken)
    return Contribution("outflow", tuple(-e for e in leaves), crossings=(crossing,), is_proportional=True)


def coolant(place: Place) -> Contribution:
    """Heat through the wall of a well-mixed vessel to its coolant."""
    heat = place.key.heat
    readings = {}
    if heat.is_flowing:
        leaves = heat.coolant_out(TEMPERATURE)
        readings["coolant outlet temperature"] = Reading(leaves, "temperature", "coolant outlet T")
    through = heat.through_wall(TEMPERATURE)
    return Contribution("coolant", heating=through, is_wall=True, parameters=heat.symbols, readings=readings)


def coolant_along(place: Place) -> Contribution:
    """U a (T_c - T) along a tube, with the coolant's own balance C_c dT_c/dV = -+ U a (T_c - T) where it flows."""
    heat = place.key.heat
    if not heat.is_flowing:
        through = TRANSFER * (COOLANT - TEMPERATURE)
        return Contribution("coolant", heating=through, is_wall=True, parameters=(TRANSFER, COOLANT))
    through = TRANSFER * (COOLANT_T - TEMPERATURE)
    counter = heat.coolant == "counter-current"
    begins = COOLANT_LEAVES if counter else COOLANT
    state = State("coolant T", COOLANT_T, "temperature", begins, COOLANT)
    slope = (1 if counter else -1) * through / COOLANT_FLOW
    return Contribution(
        "coolant",
        heating=through,
        is_wall=True,
        states=((state, slope),),
        conditions=((COOLANT_LEAVES, COOLANT_T - COOLANT),) if counter else (),
        parameters=(TRANSFER, COOLANT, *([COOLANT_LEAVES] if counter else []), COOLANT_FLOW),
        readings={
            "coolant temperature": Reading(COOLANT_T, "temperature", "coolant T"),
            "coolant outlet temperature": Reading(begins if counter else COOLANT_T, "temperature", "coolant outlet T"),
        },
    )


def stirring(place: Place) -> Contribution:
    """The power of the stirrer, dissipated as heat."""
    return Contribution("stirrer", heating=STIRRER, is_work=True, parameters=(STIRRER,))


def pressure_fall(place: Place) -> Contribution:
    """dP/dV = -(f_1 G/rho + f_2 G^2/rho)/A along a tube, with the density G A/Q; of a real gas it changes H."""
    density = MASS_FLUX * AREA / place.holds
    slope = -(LAMINAR + TURBULENT * MASS_FLUX) * MASS_FLUX / density / AREA
    state = State("P", PRESSURE, "pressure", FEED_P, FEED_P)
    heating = -place.content.departure_by_P * slope if place.key.has_energy else ZERO
    return Contribution(
        "pressure drop",
        heating=heating,
        states=((state, slope),),
        parameters=(FEED_P, AREA, MASS_FLUX, LAMINAR, TURBULENT),
        readings={"pressure": Reading(PRESSURE, "pressure", "P")},
    )


class Sum:
    """The contributions of some terms at a place, added up."""

    def __init__(self, place: Place, terms: Sequence[Term]) -> None:
        self.place = place
        self.parts = [term(place) for term in terms]

    def _species(self, *, of: Callable[[Contribution], bool]) -> list[sp.Expr]:
        chosen = [part.species for part in self.parts if part.species and of(part)]
        return [sp.Add(*(row[i] for row in chosen)) for i in range(len(self.place.species))]

    @property
    def rhs(self) -> list[sp.Expr]:
        """The sum of the contributions to each species."""
        return self._species(of=lambda part: True)

    @property
    def gains(self) -> list[sp.Expr]:
        """The terms that change the composition: all except proportional outflows."""
        return self._species(of=lambda part: not part.is_proportional)

    def _crossing(self, way: str) -> list[Crossing]:
        return [one for part in self.parts for one in part.crossings if one.way == way]

    def _flows(self, way: str) -> list[sp.Expr]:
        return [sp.Add(*(one.flows[i] for one in self._crossing(way))) for i in range(len(self.place.species))]

    @property
    def entering(self) -> list[sp.Expr]:
        """The molar flow of each species into the place."""
        return self._flows("in")

    @property
    def leaving(self) -> list[sp.Expr]:
        return self._flows("out")

    @property
    def crosses_in(self) -> bool:
        return bool(self._crossing("in"))

    @property
    def crosses_out(self) -> bool:
        return bool(self._crossing("out"))

    @property
    def holds(self) -> list[Holding]:
        """The contents of terms in states of their own."""
        return [part.holds for part in self.parts if part.holds is not None]

    @property
    def volume(self) -> sp.Expr:
        """Volumetric flow into the place."""
        return sp.Add(*(part.volume for part in self.parts))

    @property
    def wall(self) -> sp.Expr:
        """Heat through the walls to a coolant."""
        return sp.Add(*(part.heating for part in self.parts if part.is_wall))

    @property
    def work(self) -> sp.Expr:
        return sp.Add(*(part.heating for part in self.parts if part.is_work))

    @property
    def demand(self) -> sp.Expr:
        """Heat consumed at constant temperature by terms other than wall and work, and by real mixing."""
        inside = [part.heating for part in self.parts if not part.is_wall and not part.is_work]
        mixing = [self.place.content.departure_by_amount(i) * gain for i, gain in enumerate(self.gains)]
        return sp.Add(*(-e for e in inside), *mixing)

    @property
    def heats(self) -> tuple[sp.Expr, ...]:
        """The contributions of terms other than walls to the temperature; the scales of the energy account."""
        return tuple(part.heating for part in self.parts if not part.is_wall and part.heating != 0)

    @property
    def enthalpy(self) -> sp.Expr | None:
        """The net transport across the boundary; None without any."""
        known = [one for part in self.parts for one in part.crossings if one.enthalpy is not None]
        return self.enthalpy_of("in") - self.enthalpy_of("out") if known else None

    def enthalpy_of(self, way: str) -> sp.Expr:
        """The transport in or out across the boundary."""
        return sp.Add(*(one.enthalpy for one in self._crossing(way) if one.enthalpy is not None))

    @property
    def states(self) -> list[tuple[State, sp.Expr]]:
        return [pair for part in self.parts for pair in part.states]

    @property
    def conditions(self) -> tuple[tuple[sp.Symbol, sp.Expr], ...]:
        return tuple(pair for part in self.parts for pair in part.conditions)

    @property
    def definitions(self) -> list[tuple[sp.Symbol, sp.Expr]]:
        return [pair for part in self.parts for pair in part.definitions]

    @property
    def parameters(self) -> list[sp.Symbol]:
        return [symbol for part in self.parts for symbol in part.parameters]

    @property
    def readings(self) -> dict[str, Reading]:
        return {name: reading for part in self.parts for name, reading in part.readings.items()}
