"""The balances along a tube in plug flow."""

from __future__ import annotations

from functools import cached_property, lru_cache

import sympy as sp

from molino.core.balances.balance_symbols import (
    ACTIVITY,
    BROUGHT,
    DEMAND,
    FEED_P,
    FEED_T,
    FLOW,
    HEAT,
    HELD_CAPACITY,
    INLET,
    LOCAL_FLOW,
    MOLAR_FLOW,
    PASSED_TIME,
    RELEASED,
    START_T,
    slope_of,
)
from molino.core.balances.system import POSITION, ZERO, Balances, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, species_in
from molino.core.terms.model import (
    Account,
    Model,
    ModelKey,
    Reading,
    StreamForm,
    by_species,
    common_readings,
    kinetics,
    reacting_enthalpy,
    total,
)
from molino.core.terms.terms import Place, Sum, Term, coolant_along, pressure_fall, reaction
from molino.core.thermo.phase_model import Content


@lru_cache(maxsize=256)
def along_tube(key: ModelKey, terms: tuple[Term, ...]) -> Model:
    """The model of a tube in plug flow.

        dF_i/dV = sum_j nu_ij r_j
        sum_i F_i Cp_i dT/dV = U a (T_c - T) - sum_j dH_j r_j

    (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, ch. 5; H. S. Fogler, Elements of Chemical Reaction
    Engineering, 5th ed. 2016, section 12.1).

    Parameters
    ----------
    key : ModelKey
    terms : tuple of Term
        Besides reaction and coolant, which follow from the key: `pressure_fall`, a membrane, a side feed, with
        `entered` and `left` as integrals from the inlet.
    """
    return Tube(key, terms).model()


class Tube:
    """The parts of the model of a tube in plug flow."""

    def __init__(self, key: ModelKey, terms: tuple[Term, ...]) -> None:
        falls, more = pressure_fall in terms, [term for term in terms if term is not pressure_fall]
        self.key, self.phase, self.falls = key, key.phase, falls
        self.species = key.network.species
        self.flows = tuple(MOLAR_FLOW(s) for s in self.species)
        self.fed = [FLOW * INLET(s) for s in self.species]
        self.scale = FLOW * total(key.network, INLET)
        self.grows = key.phase.carries_volume and any(getattr(term, "brings_volume", False) for term in more)
        """Whether the flow of a liquid is a state of its own."""
        self.here = LOCAL_FLOW if self.grows or not key.phase.carries_volume else FLOW
        carried = self._carried()
        asked = frozenset(s for term in more for s in getattr(term, "asked", ()) if species_in(s) is not None)
        content = Content(key.phase, carried, TEMPERATURE, PRESSURE)
        self.place = Place(key, carried, self.here, sp.Integer(1), content, kinetics(key, carried, self.here, asked))
        all_terms: list[Term] = [reaction, *([pressure_fall] if falls else []), *more]
        all_terms += [coolant_along] if key.heat.mode == "jacket" else []
        self.sum = Sum(self.place, all_terms)

    def _carried(self) -> tuple[sp.Symbol, ...]:
        """The molar flows by convection, which define the composition."""
        return self.flows

    @property
    def flowing(self) -> Content:
        """Volume and enthalpy of the flow, convective and dispersive."""
        return self.place.content

    @cached_property
    def inlet_P(self) -> sp.Symbol:
        return FEED_P if self.falls else PRESSURE

    @cached_property
    def needed(self) -> sp.Expr:
        """Heat through the wall per volume: to a coolant, or the duty that holds the temperature constant."""
        if self.key.heat.is_non_isothermal:
            return self.sum.wall
        return DEMAND + HELD_CAPACITY * slope_of(TEMPERATURE)

    def _definitions(self) -> list[tuple[sp.Symbol, sp.Expr]]:
        found = [*self.place.content.definitions]
        if not self.phase.carries_volume:
            found.append((LOCAL_FLOW, self.place.content.volume))
        if self.key.catalyst.law is not None:
            found.append((ACTIVITY, self.key.catalyst.law))
        found += [*self.place.kinetics.definitions, *self.sum.definitions]
        if self.key.has_energy:
            capacity = self.phase.capacity(self.flowing, self.here)
            found += [(DEMAND, self.sum.demand), (HELD_CAPACITY, capacity)]
        return found

    def _states(self) -> list[tuple[State, sp.Expr]]:
        pairs = zip(self.species, self.flows, self.fed, self.sum.rhs, strict=True)
        found = [(State(s, F, "molar flow", first, self.scale), slope) for s, F, first, slope in pairs]
        found += self.sum.states
        if self.grows:
            found.append((State("flow", LOCAL_FLOW, "volumetric flow", FLOW, FLOW), self.sum.volume))
        if self.key.heat.is_non_isothermal:
            slope = (self.sum.wall - DEMAND) / HELD_CAPACITY
            found.append((State("T", TEMPERATURE, "temperature", FEED_T, FEED_T), slope))
        return found

    def _parameters(self) -> list[sp.Symbol]:
        found = [*self.key.symbols, *(INLET(s) for s in self.species), FLOW, *self.sum.parameters]
        found += [PRESSURE] if self.phase.is_gas and not self.falls else []
        found += [FEED_T] if self.key.has_energy else []
        return list(dict.fromkeys(found))

    def _readings(self) -> dict[str, Reading]:
        found = common_readings(self.key) | self.sum.readings
        if self.here == LOCAL_FLOW:
            found["volumetric flow"] = Reading(LOCAL_FLOW, "volumetric flow", "flow")
        return found

    def _balances(self) -> Balances:
        states = self._states()
        return Balances(
            POSITION,
            tuple(s for s, _ in states),
            tuple(self._definitions()),
            tuple(f for _, f in states),
            tuple(self._parameters()),
            self.sum.conditions,
        )

    def model(self) -> Model:
        key, balances = self.key, self._balances()
        totals: list[tuple[State, sp.Expr]] = []
        if self.here == LOCAL_FLOW:
            totals.append((State("residence time", PASSED_TIME, "time", ZERO, sp.Integer(1)), 1 / LOCAL_FLOW))
        entered, left = self._crossed("entered"), self._crossed("left")
        came = [fed + e for fed, e in zip(self.fed, entered, strict=True)]
        went = [F + e for F, e in zip(self.flows, left, strict=True)]
        energy = duty = None
        if key.has_energy:
            energy, duty = self._energy(totals)
        amounts = {s: Account(c, w) for s, c, w in zip(self.species, came, went, strict=True)}
        return Model(
            balances,
            by_species(key, came),
            by_species(key, went),
            self._readings(),
            self._streams(),
            POSITION,
            tuple(totals),
            amounts,
            energy,
            None,
            duty,
        )

    def _crossed(self, way: str) -> list[sp.Expr]:
        """The amounts of each species that entered or left through the wall, from the inlet."""
        rows = [getattr(part, way) for part in self.sum.parts if getattr(part, way)]
        return [sp.Add(*(row[i] for row in rows)) for i in range(len(self.species))]

    def _energy(self, totals: list[tuple[State, sp.Expr]]) -> tuple[Account, sp.Expr]:
        """The energy account from the inlet to here, and the duty of this part."""
        key, phase, size = self.key, self.phase, self.scale * 8314
        first: sp.Expr = ZERO
        if not key.heat.is_non_isothermal:  # heating of the feed from its own temperature to the prescribed one
            first = phase.sensible_enthalpy(self.fed, START_T, FEED_T, FLOW)
            for T, sign in ((START_T, 1), (FEED_T, -1)):
                stream = Content(phase, self.fed, T, self.inlet_P)
                first += sign * stream.written_out(stream.departure)
        totals.append((State("heat", HEAT, "energy flow", first, size), self.needed))
        totals.append((State("heat released", RELEASED, "energy flow", ZERO, size), -self.place.kinetics.heat))
        crossing = self.sum.enthalpy
        if crossing is not None:
            totals.append((State("enthalpy brought", BROUGHT, "energy flow", ZERO, size), crossing))
        brought = BROUGHT if crossing is not None else ZERO
        start = phase.stream_enthalpy(self.fed, FEED_T, self.inlet_P, FLOW)
        there = self._enthalpy_flow()
        reacted = reacting_enthalpy(key, self.flows, FEED_T) - reacting_enthalpy(key, self.fed, FEED_T)
        warmed = phase.sensible_enthalpy(self.flows, TEMPERATURE, FEED_T, self.here)
        account = Account(start + HEAT + brought, there, (HEAT, reacted, warmed, brought))
        if key.heat.mode == "adiabatic":
            return account, ZERO
        return account, HEAT if crossing is not None else there - start

    def _enthalpy_flow(self) -> sp.Expr:
        """The enthalpy that passes a cross-section."""
        return self.phase.enthalpy(self.flowing, self.here)

    def _streams(self) -> tuple[StreamForm, ...]:
        P = PRESSURE if self.phase.is_gas or self.falls else None
        found = [StreamForm("outlet", by_species(self.key, self.flows), self.here, TEMPERATURE, P, True)]
        kept = (
            None if self.key.heat.is_non_isothermal else TEMPERATURE
        )  # the outflow along the tube has no single temperature
        for part in self.sum.parts:
            if part.leaves is not None:
                name, flows = part.leaves
                found.append(StreamForm(name, by_species(self.key, flows), None, kept, part.leaving_P, True))
        return tuple(found)
