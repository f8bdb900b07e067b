"""The terms of a balance: reaction, convection, walls, stirrer. Each is a small function of a place in a vessel.

A term says what it contributes to the balance of each species, to the balance of enthalpy, and to the accounts by
which a run is closed. A vessel is a list of terms; `well_mixed` and `along_tube` add them up.

The balance of enthalpy is written with the temperature as its unknown: C dT/dt = sum of what each term adds at constant
temperature (`heating`). What a term brings across the boundary, by which the account of energy is closed, is written by
itself, from the enthalpy of the stream as a whole (`enthalpy`): the two share no expression, so that the account
remains a check.
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
    """What is at one place of a vessel, as symbols.

    Attributes
    ----------
    key : ModelKey
    amounts : tuple of Symbol
        Amounts of the species, or along a tube their molar flows.
    holds : expression
        The volume (volumetric flow) that they take up.
    extent : expression
        The volume of vessel that the balances count for: all of it where it is well mixed, 1 along a tube.
    content : Content
        Volume and enthalpy of the amounts.
    kinetics : Kinetics
        Concentrations, rates and production per volume.
    outflow : expression
        The volumetric flow that leaves; zero where nothing does.
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
    """What a term brings into a vessel, or takes out of it, for the accounts by which a run is closed.

    Attributes
    ----------
    way : 'in' or 'out'
    flows : tuple of expressions
        Molar flow of each species.
    enthalpy : expression or None
        Enthalpy flow with it; None where nothing is known of heat.
    """

    way: str
    flows: tuple[sp.Expr, ...]
    enthalpy: sp.Expr | None = None


@dataclass(frozen=True, eq=False)
class Holding:
    """What a term holds in states of its own, besides the contents that the balances are written for.

    Attributes
    ----------
    amounts, first : tuple of expressions
        Of each species, now and where the run begins.
    capacity, enthalpy, first_enthalpy : expression
        Its heat capacity, and its enthalpy now and where the run begins; zero where nothing is known of heat.
    """

    amounts: tuple[sp.Expr, ...]
    first: tuple[sp.Expr, ...]
    capacity: sp.Expr = ZERO
    enthalpy: sp.Expr = ZERO
    first_enthalpy: sp.Expr = ZERO


@dataclass(frozen=True, eq=False)
class Contribution:
    """What one term adds to the balances at a place.

    Attributes
    ----------
    name : str
    species : tuple of expressions
        To the balance of each species; empty for none.
    heating : expression
        To C dT/dt, at constant temperature and composition.
    volume : expression
        Volumetric flow that it brings to a liquid whose volume is carried along.
    crossings : tuple of Crossing
        What crosses the boundary with it.
    holds : Holding or None
        What it holds in states of its own.
    is_wall, is_work : bool
        Whether it is the heat through the walls, or the work of the stirrer.
    is_proportional : bool
        Whether it takes the contents along as they are, and so leaves their temperature as it is.
    states : tuple of (State, slope)
        Further unknowns that come with it.
    conditions : tuple of (Symbol, expression)
        Values given at the end for unknowns at the beginning.
    definitions, parameters, readings
        What it defines, the numbers it brings, and what people look at.
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
    """Along a tube: the flow in or out through its wall up to here, of each species."""
    leaving_P: sp.Expr | None = None
    """The pressure of the stream that leaves, where it is known."""
    leaves: tuple[str, tuple[sp.Expr, ...]] | None = None
    """A stream of its own that leaves, at the temperature of the place: its name, and the molar flow of each species.
    """


Term = Callable[[Place], Contribution]


def reaction(place: Place) -> Contribution:
    """V sum_j nu_ij r_j to each species, -V sum_j dH_j r_j to the temperature."""
    made = tuple(place.extent * one for one in place.kinetics.production)
    heating = -place.extent * place.kinetics.heat if place.key.has_energy else ZERO
    return Contribution("reaction", made, heating)


@dataclass(frozen=True)
class Inflow:
    """A stream into a well-mixed vessel, by the name that its parameters carry ('' where there is only one).

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
    """What a stream that comes in at its own temperature adds to C dT/dt, and the enthalpy that it brings."""
    phase = place.key.phase
    heating = stream.departure - phase.sensible_enthalpy(stream.n, TEMPERATURE, stream.T, carried)
    return heating, phase.enthalpy(stream, carried)


def outflow(place: Place) -> Contribution:
    """-Q c_i to each species; the outflow takes enthalpy in proportion, and so leaves the temperature as it is."""
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
    """The power of the stirrer, all of which ends as heat."""
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
        """What all add to each species."""
        return self._species(of=lambda part: True)

    @property
    def gains(self) -> list[sp.Expr]:
        """What changes the composition: all but what takes the contents along as they are."""
        return self._species(of=lambda part: not part.is_proportional)

    def _crossing(self, way: str) -> list[Crossing]:
        return [one for part in self.parts for one in part.crossings if one.way == way]

    def _flows(self, way: str) -> list[sp.Expr]:
        return [sp.Add(*(one.flows[i] for one in self._crossing(way))) for i in range(len(self.place.species))]

    @property
    def entering(self) -> list[sp.Expr]:
        """The molar flow of each species that comes in."""
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
        """What terms hold in states of their own."""
        return [part.holds for part in self.parts if part.holds is not None]

    @property
    def volume(self) -> sp.Expr:
        """Volumetric flow that comes in."""
        return sp.Add(*(part.volume for part in self.parts))

    @property
    def wall(self) -> sp.Expr:
        """Heat through the walls, where a coolant takes it up."""
        return sp.Add(*(part.heating for part in self.parts if part.is_wall))

    @property
    def work(self) -> sp.Expr:
        return sp.Add(*(part.heating for part in self.parts if part.is_work))

    @property
    def demand(self) -> sp.Expr:
        """Heat taken up at constant temperature by what is neither wall nor work, and by real mixing."""
        inside = [part.heating for part in self.parts if not part.is_wall and not part.is_work]
        mixing = [self.place.content.departure_by_amount(i) * gain for i, gain in enumerate(self.gains)]
        return sp.Add(*(-e for e in inside), *mixing)

    @property
    def heats(self) -> tuple[sp.Expr, ...]:
        """What each term that crosses no wall adds to the temperature; sizes by which energy is counted."""
        return tuple(part.heating for part in self.parts if not part.is_wall and part.heating != 0)

    @property
    def enthalpy(self) -> sp.Expr | None:
        """What is brought across the boundary, less what is taken; None where nothing crosses it."""
        known = [one for part in self.parts for one in part.crossings if one.enthalpy is not None]
        return self.enthalpy_of("in") - self.enthalpy_of("out") if known else None

    def enthalpy_of(self, way: str) -> sp.Expr:
        """What comes in, or goes out, with what crosses the boundary."""
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
