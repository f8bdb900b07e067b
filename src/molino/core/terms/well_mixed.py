"""The balances of all vessels that are well mixed: batch, semi-batch, stirred tank."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property, lru_cache
from typing import Literal

import sympy as sp

from molino.core.balances.balance_symbols import (
    ACTIVITY,
    AMOUNT,
    BROUGHT,
    CAME,
    DEMAND,
    HEAT,
    HELD,
    HELD_CAPACITY,
    INLET,
    LOCAL_FLOW,
    OVERFLOWING,
    RELEASED,
    SENSIBLE,
    START,
    START_T,
    VOLUME,
    WALL,
    WENT,
    WITHDRAWN,
    WORKED,
    slope_of,
)
from molino.core.balances.system import TIME, ZERO, Balances, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, species_in
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE
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
from molino.core.terms.terms import Inflow, Place, Sum, Term, coolant, outflow, reaction, stirring
from molino.core.thermo.phase_model import Content
from molino.core.unit_tables import GAS_CONSTANT

Volume = Literal["fixed", "carried", "follows"]
Start = Literal["charge", "contents"]


@lru_cache(maxsize=256)
def well_mixed(key: ModelKey, terms: tuple[Term, ...], volume: Volume, start: Start) -> Model:
    """The model of a well-mixed vessel.

        dn_i/dt = F_i,in - Q_out c_i + V sum_j nu_ij r_j
        C dT/dt = Q_wall + W - sum_in F_i (h_i(T) - h_i(T_in)) - V sum_j dH_j r_j,   C = sum_i n_i Cp_i + C_wall

    from the balances of species and of enthalpy (of an ideal gas at constant volume: of internal energy, with Cp - R
    for Cp and dH_j - RT sum nu_ij for dH_j); the outflow does not change the temperature (H. S. Fogler, Elements of
    Chemical Reaction Engineering, 5th ed. 2016, section 13.1).

    Parameters
    ----------
    key : ModelKey
    terms : tuple of Term
        Besides reaction, coolant and stirring, which follow from the key: each `Inflow`, `outflow` (of a vessel with
        fixed volume the flow that keeps the volume constant), walls, gases.
    volume : "fixed", "carried" or "follows"
        "fixed": a parameter; "carried": a state, of a liquid that is dosed; "follows": from the amounts in it.
    start : "charge" or "contents"
        The symbols of its amounts at the start: `INLET` of a batch, or `START`.
    """
    return _WellMixed(key, terms, volume, start).model()


class _WellMixed:
    def __init__(self, key: ModelKey, terms: tuple[Term, ...], volume: Volume, start: Start) -> None:
        inflows = tuple(term for term in terms if isinstance(term, Inflow))
        more = [term for term in terms if term is not outflow and not isinstance(term, Inflow)]
        leaving, charged = outflow in terms, start == "charge"
        self.key, self.inflows, self.volume, self.leaving, self.charged = key, inflows, volume, leaving, charged
        self.species, self.phase = key.network.species, key.phase
        self.begin = INLET if charged else START
        self.amounts = tuple(AMOUNT(s) for s in self.species)
        self.V = VOLUME if volume == "fixed" else HELD
        self.is_closed_gas = key.phase.is_gas and volume == "fixed" and not leaving
        self.is_through = leaving and volume == "fixed"
        """Whether it has a steady state, with inlet and outlet."""
        self.flowing_in = sp.Add(*(f.flow for f in inflows))
        self.follows_activity = key.catalyst.law is not None and not self.is_through
        simple = key.phase.carries_volume and volume == "fixed"
        asked = frozenset(s for term in more for s in getattr(term, "asked", ()) if species_in(s) is not None)
        content = Content(key.phase, self.amounts, TEMPERATURE, PRESSURE)
        self.place = Place(
            key,
            self.amounts,
            self.V,
            self.V,
            content,
            kinetics(key, self.amounts, self.V, asked),
            ZERO if not leaving else self.flowing_in if simple else LOCAL_FLOW,
        )
        all_terms: list[Term] = [reaction, *inflows, *more]
        all_terms += [coolant] if key.heat.mode in ("jacket", "duty") else []
        all_terms += [stirring] if key.heat.stirrer else []
        self.sum = Sum(self.place, [*all_terms, *([outflow] if leaving else [])])

    @cached_property
    def start(self) -> list[sp.Expr]:
        """Amounts at the start."""
        return [VOLUME * self.begin(s) for s in self.species]

    def _all(self, amounts: Sequence[sp.Expr], which: str) -> list[sp.Expr]:
        """Amounts of the contents and of terms with their own states ('amounts'), or those at the start ('first')."""
        return [sp.Add(n, *(getattr(one, which)[i] for one in self.sum.holds)) for i, n in enumerate(amounts)]

    @cached_property
    def size(self) -> sp.Expr:
        """The scale of amounts."""
        fed = sum((total(self.key.network, f.inside) for f in self.inflows), ZERO)
        return VOLUME * (total(self.key.network, self.begin) + fed)

    @cached_property
    def needed(self) -> sp.Expr:
        """Heat through the walls: to a coolant, or the duty that holds the temperature constant."""
        if self.key.heat.is_non_isothermal:
            return self.sum.wall
        return HELD_CAPACITY * slope_of(TEMPERATURE) + DEMAND - self.sum.work

    def _definitions(self) -> list[tuple[sp.Symbol, sp.Expr]]:
        key, found = self.key, list[tuple[sp.Symbol, sp.Expr]]()
        if key.catalyst.law is not None and not self.follows_activity:
            found.append((ACTIVITY, key.catalyst.law))
        found += self.place.content.definitions
        if self.is_closed_gas:
            found.append((PRESSURE, TEMPERATURE / VOLUME * GAS_CONSTANT * sp.Add(*self.amounts)))
        if self.volume == "follows":
            found.append((HELD, self.place.content.volume))
        found += self.place.kinetics.definitions
        found += self.sum.definitions
        sensible_enthalpy: sp.Expr = ZERO
        if key.has_energy:
            demand, capacity = self.sum.demand, self.phase.capacity(self.place.content, self.V)
            capacity += (WALL if key.heat.wall else 0) + sp.Add(*(one.capacity for one in self.sum.holds))
            if self.is_closed_gas:
                demand -= GAS_CONSTANT * TEMPERATURE * sp.Add(*self.sum.gains)
                capacity -= GAS_CONSTANT * sp.Add(*self.amounts)
            found += [(DEMAND, demand), (HELD_CAPACITY, capacity)]
            sensible_enthalpy = slope_of(TEMPERATURE)
        if key.heat.is_non_isothermal:
            found.append((SENSIBLE, (self.sum.wall + self.sum.work - DEMAND) / HELD_CAPACITY))
            sensible_enthalpy = SENSIBLE
        if self.place.outflow == LOCAL_FLOW:
            found.append((LOCAL_FLOW, self._out(sensible_enthalpy)))
        return found

    def _out(self, sensible_enthalpy: sp.Expr) -> sp.Expr:
        """The volumetric flow of the outlet."""
        out, content = self.flowing_in, self.place.content
        if not self.phase.carries_volume:
            grows = [content.volume_by_amount(i) * gain for i, gain in enumerate(self.sum.gains)]
            out = sp.Add(*grows) + content.volume_by_T * sensible_enthalpy
        return out if self.volume == "fixed" else WITHDRAWN + OVERFLOWING * (out - WITHDRAWN)

    def _states(self) -> list[tuple[State, sp.Expr]]:
        key = self.key
        pairs = zip(self.species, self.amounts, self.start, self.sum.rhs, strict=True)
        found = [(State(s, n, "amount", first, self.size), slope) for s, n, first, slope in pairs]
        if self.follows_activity:
            assert key.catalyst.law is not None
            begins = key.catalyst.law.xreplace({TEMPERATURE: START_T if key.has_energy else TEMPERATURE})
            assert key.catalyst.slope is not None
            found.append((State("activity", ACTIVITY, "number", begins, sp.Integer(1)), key.catalyst.slope))
        found += self.sum.states
        if key.heat.is_non_isothermal:
            found.append((State("T", TEMPERATURE, "temperature", START_T, START_T), SENSIBLE))
        if self.volume == "carried":
            found.append((State("volume", HELD, "volume", VOLUME, VOLUME), self.sum.volume - self.place.outflow))
        return found

    def _parameters(self) -> list[sp.Symbol]:
        found = [*self.key.symbols]
        found += [WALL] if self.key.heat.wall else []
        found += [WITHDRAWN, OVERFLOWING] if self.leaving and self.volume != "fixed" else []
        found.append(VOLUME)
        found += [self.begin(s) for s in self.species] if self.charged or self.inflows else []
        found += self.sum.parameters
        found += [PRESSURE] if self.phase.is_gas and not self.is_closed_gas else []
        return list(dict.fromkeys(found))

    def _readings(self) -> dict[str, Reading]:
        key, found = self.key, common_readings(self.key)
        if self.volume != "fixed":
            found["volume"] = Reading(HELD, "volume", "volume")
        if self.is_closed_gas:
            found["pressure"] = Reading(PRESSURE, "pressure", "pressure")
        found |= self.sum.readings
        if key.has_energy:
            found["heat flow"] = Reading(self.needed, "power", "heat flow")
        if key.catalyst.law is not None:
            found["activity"] = Reading(ACTIVITY, "number", "activity")
        return found

    def model(self) -> Model:
        states = self._states()
        balances = Balances(
            TIME,
            tuple(s for s, _ in states),
            tuple(self._definitions()),
            tuple(f for _, f in states),
            tuple(self._parameters()),
            self.sum.conditions,
        )
        return self._accounts(balances)

    def _accounts(self, balances: Balances) -> Model:
        """The accounts of its closure: inflow, contents and outflow of species and energy."""
        key, species = self.key, self.species
        totals: list[tuple[State, sp.Expr]] = []

        def counted(name: str, symbol: sp.Symbol, kind: str, scale: sp.Expr, slope: sp.Expr) -> sp.Expr:
            totals.append((State(name, symbol, kind, ZERO, scale), slope))
            return symbol

        entering, leaving = self.sum.entering, self.sum.leaving
        came = [
            counted(f"{s} fed", CAME(s), "amount in", self.size, e) if self.sum.crosses_in else ZERO
            for s, e in zip(species, entering, strict=True)
        ]
        went = [
            counted(f"{s} out", WENT(s), "amount out", self.size, o) if self.sum.crosses_out else ZERO
            for s, o in zip(species, leaving, strict=True)
        ]
        put_in = [a + c for a, c in zip(self._all(self.start, "first"), came, strict=True)]
        there = [n + g for n, g in zip(self._all(self.amounts, "amounts"), went, strict=True)]
        amounts = {s: Account(a, n) for s, a, n in zip(species, put_in, there, strict=True)}
        inlet, outlet = (entering, leaving) if self.is_through else (put_in, there)
        energy = steady = duty = None
        made = removed = ZERO
        if key.has_energy:
            needed, work = self.needed, self.sum.work
            rough = self.size * GAS_CONSTANT * sp.Integer(1000)
            counted("heat", HEAT, "energy", rough, needed)
            made = -self.V * self.place.kinetics.heat
            removed = DEMAND + made - needed - work
            counted("heat released", RELEASED, "energy", rough, made)
            crossing = self.sum.enthalpy
            carried = counted("enthalpy brought", BROUGHT, "energy", rough, crossing) if crossing is not None else ZERO
            worked = counted("stirring", WORKED, "energy", rough, work) if work != 0 else ZERO
            energy = self._energy(carried, worked)
            duty = needed if self.is_through else HEAT
            if self.is_through:
                brought, taken = self.sum.enthalpy_of("in"), self.sum.enthalpy_of("out")
                steady = Account(brought + needed + work, taken, (needed, *self.sum.heats))
        return Model(
            balances,
            by_species(key, inlet),
            by_species(key, outlet),
            self._readings(),
            self._streams(leaving, went),
            self.V,
            tuple(totals),
            amounts,
            energy,
            steady,
            duty,
            made,
            removed,
        )

    def _energy(self, carried: sp.Expr, worked: sp.Expr) -> Account:
        """Enthalpy (of a closed gas internal energy) at the start plus the inflow, and of the contents plus the
        outflow."""
        key, phase = self.key, self.phase

        def stored(enthalpy: sp.Expr, n: Sequence[sp.Expr], T: sp.Expr) -> sp.Expr:
            found = enthalpy + (WALL * (T - sp.Float(STANDARD_TEMPERATURE)) if key.heat.wall else 0)
            return found - GAS_CONSTANT * T * sp.Add(*n) if self.is_closed_gas else found

        now = stored(phase.enthalpy(self.place.content, self.V), self.amounts, TEMPERATURE)
        then = stored(phase.stream_enthalpy(self.start, START_T, PRESSURE, VOLUME), self.start, START_T)
        now += sp.Add(*(one.enthalpy for one in self.sum.holds))
        then += sp.Add(*(one.first_enthalpy for one in self.sum.holds))
        sizes = (
            HEAT,
            reacting_enthalpy(key, self.amounts, START_T) - reacting_enthalpy(key, self.start, START_T),
            carried,
            phase.sensible_enthalpy(self.amounts, TEMPERATURE, START_T, self.V),
        )
        return Account(then + HEAT + carried + worked, now, sizes)

    def _streams(self, leaving: Sequence[sp.Expr], went: Sequence[sp.Expr]) -> tuple[StreamForm, ...]:
        """The outlet of a tank; the contents of a batch with the gas outlet."""
        species, P = self.species, PRESSURE if self.phase.is_gas else None
        if not self.is_through:
            if self.sum.holds:  # the only outflow is that of the gas
                contents = StreamForm("contents", by_species(self.key, self.amounts), self.V, TEMPERATURE, P, False)
                gas = [n + g for n, g in zip(self._all([ZERO] * len(species), "amounts"), went, strict=True)]
                pressure = next(part.leaving_P for part in self.sum.parts if part.holds is not None)
                name = "gas, with what left" if self.sum.crosses_out else "gas held"
                return contents, StreamForm(name, by_species(self.key, gas), None, TEMPERATURE, pressure, False)
            held = [n + g for n, g in zip(self.amounts, went, strict=True)]
            name = "contents, with what left" if self.sum.crosses_out else "contents"
            return (StreamForm(name, by_species(self.key, held), self.V, TEMPERATURE, P, False),)
        out = [self.place.outflow * n / self.V for n in self.amounts]
        found = [StreamForm("outlet", by_species(self.key, out), self.place.outflow, TEMPERATURE, P, True)]
        for part in self.sum.parts:
            if part.leaves is not None:
                name, flows = part.leaves
                pressure = part.leaving_P
                volume = None if pressure is None else sp.Add(*flows) * GAS_CONSTANT * TEMPERATURE / pressure
                found.append(StreamForm(name, by_species(self.key, flows), volume, TEMPERATURE, pressure, True))
        return tuple(found)
