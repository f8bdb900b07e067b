"""How vessels write their balances: kinetics, what is in and what flows, and the balances of all well-mixed vessels.

Every vessel states what flows in, what flows out and what passes through its walls; the balances of the species, of
energy and of the accounts by which a run is closed are written here, once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import sympy as sp

from molino.core.balances.system import ZERO, Balances, State
from molino.core.chemistry.constants import parameter_symbol
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration, species_in
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE
from molino.core.chemistry.structure import Structure
from molino.core.thermo.energy import CAPACITY, reference
from molino.core.thermo.medium import Content, Medium, molar_volume
from molino.core.units import GAS_CONSTANT
from molino.core.vessels.catalyst import (
    ACTIVITY,
    CatalystShape,
    Effectiveness,
    catalyst_symbols,
    per_vessel_volume,
    thiele_square,
)
from molino.core.vessels.feed import inlet_symbol
from molino.core.vessels.heat import STIRRER, WALL, HeatShape
from molino.core.vessels.schedule import slope_of

VOLUME = sp.Symbol("volume", positive=True)
FLOW = sp.Symbol("flow", positive=True)
"""Volumetric flow of the feed."""
LOCAL_FLOW = sp.Symbol("local flow", positive=True)
"""Volumetric flow along a tube or out of a tank, where it differs from that of the feed."""
HELD = sp.Symbol("volume of contents", positive=True)
"""Volume of what is in a vessel, where it changes."""
FEED_T = sp.Symbol("feed T", positive=True)
START_T = sp.Symbol("start T", positive=True)
HEAT = sp.Symbol("heat")
"""Heat that came in through the walls, since the start or up to here."""
RELEASED = sp.Symbol("heat released")
"""By the reactions, since the start or up to here."""
WARMING = sp.Symbol("dT/dt")
DEMAND = sp.Symbol("heat taken up")
"""By reaction and by what flows in, at constant temperature."""
HELD_CAPACITY = sp.Symbol("heat capacity of contents", positive=True)


def start_symbol(species: str) -> sp.Symbol:
    """The parameter that holds a species' concentration in the vessel at t = 0."""
    return sp.Symbol(f"start[{species}]", nonnegative=True)


@dataclass(frozen=True)
class Setup:
    """All that changes the form of a vessel's balances; compiled balances are kept by it."""

    structure: Structure
    medium: Medium
    heat: HeatShape
    catalyst: CatalystShape

    @property
    def knows_heat(self) -> bool:
        return self.medium.energy is not None

    @cached_property
    def symbols(self) -> tuple[sp.Symbol, ...]:
        """The parameters that every vessel has: chemistry, contents, temperature, catalyst, properties."""
        species = self.structure.species
        found: list[sp.Symbol] = [*(parameter_symbol(name) for name in self.structure.parameters)]
        found += [] if self.heat.moves else [TEMPERATURE]
        found += catalyst_symbols(self.structure, self.catalyst)
        if self.medium.model == "additive volumes":
            found += [molar_volume(s) for s in species]
        if self.knows_heat:
            found += [reference(s) for s in species]
            assert self.medium.energy is not None
            asks = any(CAPACITY in rise.free_symbols for rise in self.medium.energy.rises)
            found += [CAPACITY] if asks or self.medium.energy.carried else []
            found += [START_T] if self.heat.moves else [START_T, slope_of(TEMPERATURE)]
        return tuple(found)


@dataclass(frozen=True)
class Account:
    """Two expressions that must come to the same, and the size that the difference is counted by."""

    wanted: sp.Expr
    there: sp.Expr
    size: tuple[sp.Expr, ...] = ()


@dataclass(frozen=True, eq=False)
class Written:
    """The balances that a vessel wrote, and how to read conversions and closures off them.

    `inlet` and `outlet` hold, for each species, the amount (batch) or molar flow that went in and that comes out, as
    expressions of the parameters and of the states. `totals` are further states, with their slopes, that nothing else
    depends on: heat and what flowed by, followed only in a run. `amounts` and `energy` are the accounts by which a run
    is closed, over balances with totals; at a steady state `inlet` and `outlet` themselves are compared, and `steady`
    is the account of energy. `duty` is the heat that must come in through the walls in W (in a batch: J), `heat_made`
    what the reactions of a tank set free and `heat_removed` what it takes to warm the feed and leaves through the
    walls, less the stirrer's power, both in W.
    """

    balances: Balances
    inlet: Mapping[str, sp.Expr]
    outlet: Mapping[str, sp.Expr]
    kinds: Mapping[str, str] = field(default_factory=dict)
    totals: tuple[tuple[State, sp.Expr], ...] = ()
    amounts: Mapping[str, Account] = field(default_factory=dict)
    energy: Account | None = None
    steady: Account | None = None
    duty: sp.Expr | None = None
    heat_made: sp.Expr = ZERO
    heat_removed: sp.Expr = ZERO

    @cached_property
    def followed(self) -> Balances:
        """The balances with their totals."""
        if not self.totals:
            return self.balances
        return replace(
            self.balances,
            states=(*self.balances.states, *(state for state, _ in self.totals)),
            rhs=(*self.balances.rhs, *(slope for _, slope in self.totals)),
        )


@dataclass(frozen=True)
class Kinetics:
    """Concentrations, rates and production of each species in a volume of liquid or gas."""

    definitions: tuple[tuple[sp.Symbol, sp.Expr], ...]
    production: tuple[sp.Expr, ...]
    """Net amount formed per volume and time, sum over reactions of coefficient times rate, for each species."""
    heat: sp.Expr
    """Heat taken up by the reactions per volume and time, sum of rate times enthalpy of reaction (ideal)."""


@lru_cache(maxsize=256)
def kinetics(setup: Setup, amounts: tuple[sp.Symbol, ...], per: sp.Symbol) -> Kinetics:
    """Rates where concentrations are amounts (or molar flows) per volume (or volumetric flow).

    In an ideal gas the partial pressure of a species is its concentration times R T, in a real one its fraction of the
    pressure. A rate that pores hold back is the rate law times its effectiveness factor, one over a catalyst that ages
    that times the activity.
    """
    structure, form = setup.structure, setup.catalyst
    definitions = [(concentration(s), n / per) for s, n in zip(structure.species, amounts, strict=True)]
    whole = sp.Add(*(concentration(s) for s in structure.species))
    for symbol in sorted(structure.symbols, key=str):
        kind = species_in(symbol)
        if kind is not None and kind[0] == "p":
            own = concentration(kind[1])
            real = setup.medium.real is not None
            definitions.append((symbol, own / whole * PRESSURE if real else own * GAS_CONSTANT * TEMPERATURE))
        if kind is not None and kind[0] == "x":
            definitions.append((symbol, concentration(kind[1]) / whole))
    laws = dict(zip(structure.reactions, structure.rates, strict=True))
    for reaction, species, shape in form.pores:
        square, factor = sp.Symbol(f"square modulus of {reaction}"), effectiveness(reaction)
        definitions.append((square, thiele_square(structure, reaction, laws[reaction], species)))
        definitions.append((factor, Effectiveness(square, sp.Float(shape))))
        laws[reaction] = laws[reaction] * factor
    rates = {name: sp.Symbol(f"rate of {name}") for name in structure.reactions}
    for name, basis in zip(structure.reactions, structure.bases, strict=True):
        ages = form.law is not None and basis != "volume"
        definitions.append((rates[name], laws[name] * ACTIVITY if ages else laws[name]))
    made: list[list[sp.Expr]] = [[] for _ in structure.species]
    heats = []
    factors = per_vessel_volume(structure)
    for rate, factor, column in zip(rates.values(), factors, structure.stoichiometry, strict=True):
        for i, moles in column:
            made[i].append(sp.Rational(moles) * factor * rate)
        if setup.medium.energy is not None:
            energy = setup.medium.energy
            change = sp.Add(*(sp.Rational(moles) * energy.enthalpy(i, TEMPERATURE) for i, moles in column))
            heats.append(factor * rate * sp.expand(change))
    return Kinetics(tuple(definitions), tuple(sp.Add(*terms) for terms in made), sp.Add(*heats))


def effectiveness(reaction: str) -> sp.Symbol:
    """The symbol of a reaction's effectiveness factor."""
    return sp.Symbol(f"effectiveness of {reaction}")


def shown(setup: Setup) -> tuple[dict[str, sp.Expr], dict[str, str]]:
    """What every vessel shows beside its states (concentrations, temperature, rates), and the kinds that are not
    concentrations or rates."""
    structure = setup.structure
    found: dict[str, sp.Expr] = {s: concentration(s) for s in structure.species}
    kinds = {}
    if setup.heat.moves or setup.knows_heat:
        found["T"], kinds["T"] = TEMPERATURE, "temperature"
    found |= {f"rate of {name}": sp.Symbol(f"rate of {name}") for name in structure.reactions}
    for reaction, _, _ in setup.catalyst.pores:
        name = f"effectiveness of {reaction}"
        found[name], kinds[name] = effectiveness(reaction), "number"
    return found, kinds


def states(
    structure: Structure, letter: str, kind: str, initial: Iterable[sp.Expr], scale: sp.Expr
) -> tuple[State, ...]:
    """One state for each species, all of one scale."""
    symbols = (sp.Symbol(f"{letter}_{s}") for s in structure.species)
    return tuple(State(s, n, kind, e, scale) for s, n, e in zip(structure.species, symbols, initial, strict=True))


def total(structure: Structure, symbol: Callable[[str], sp.Symbol]) -> sp.Expr:
    """The sum of a symbol over the species."""
    return sp.Add(*(symbol(s) for s in structure.species))


def by_species(setup: Setup, expressions: Sequence[sp.Expr]) -> dict[str, sp.Expr]:
    return dict(zip(setup.structure.species, expressions, strict=True))


def reacting_enthalpy(setup: Setup, amounts: Sequence[sp.Expr], T: sp.Expr) -> sp.Expr:
    """Sum of n_i h_i(T) with the enthalpies of the ideal state, by which heats of reaction are counted."""
    assert setup.medium.energy is not None
    return sp.Add(*(n * setup.medium.energy.enthalpy(i, T) for i, n in enumerate(amounts)))


@dataclass(frozen=True)
class Inflow:
    """A stream into a well-mixed vessel, by the name that its parameters carry ('' where there is only one)."""

    name: str = ""

    def _of(self, text: str) -> str:
        return f"{text} of {self.name}" if self.name else text

    @property
    def flow(self) -> sp.Symbol:
        return sp.Symbol(self._of("flow"), positive=True) if self.name else FLOW

    @property
    def T(self) -> sp.Symbol:
        return sp.Symbol(self._of("T"), positive=True) if self.name else FEED_T

    def inside(self, species: str) -> sp.Symbol:
        """Concentration of a species in it."""
        symbol = inlet_symbol(species)
        return sp.Symbol(self._of(str(symbol)), nonnegative=True) if self.name else symbol

    def symbols(self, setup: Setup) -> tuple[sp.Symbol, ...]:
        species = (self.inside(s) for s in setup.structure.species)
        return (*species, self.flow, *([self.T] if setup.knows_heat else []))


WITHDRAWN = sp.Symbol("withdrawal", nonnegative=True)
OVERFLOWING = sp.Symbol("overflowing", nonnegative=True)
"""1 while a vessel is full and what comes in pushes as much out, otherwise 0."""


@lru_cache(maxsize=256)
def well_mixed(setup: Setup, inflows: tuple[Inflow, ...], volume: str, leaving: bool, charged: bool) -> Written:
    """The balances of a well-mixed vessel.

        dn_i/dt = F_i,in - Q_out c_i + V sum_j nu_ij r_j
        C dT/dt = Q_wall + W - sum_in F_i (h_i(T) - h_i(T_in)) - V sum_j dH_j r_j,   C = sum_i n_i Cp_i + C_wall

    from the balances of species and of enthalpy (at constant volume: of internal energy, with Cp - R for Cp and
    dH_j - RT sum nu_ij for dH_j, of an ideal gas); what leaves takes enthalpy along in proportion to the amounts and
    so leaves the temperature as it is (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section
    13.1).

    Parameters
    ----------
    setup : Setup
    inflows : streams in
    volume : "fixed" (a parameter), "carried" (a state, of a liquid that is dosed) or "follows" (from what is in it)
    leaving : whether something flows out (with a fixed volume as much as keeps it full)
    charged : whether it begins with the contents of `inlet_symbol` (a batch) instead of `start_symbol`
    """
    structure, medium, heat = setup.structure, setup.medium, setup.heat
    species = structure.species
    begin = inlet_symbol if charged else start_symbol
    size = VOLUME * (total(structure, begin) + sum((total(structure, f.inside) for f in inflows), ZERO))
    held = states(structure, "n", "amount", [VOLUME * begin(s) for s in species], size)
    amounts = tuple(s.symbol for s in held)
    V = VOLUME if volume == "fixed" else HELD
    rigid = medium.is_gas and volume == "fixed" and not leaving
    definitions: list[tuple[sp.Symbol, sp.Expr]] = []
    followed_activity = setup.catalyst.law is not None and not (leaving and volume == "fixed")
    if setup.catalyst.law is not None and not followed_activity:
        definitions.append((ACTIVITY, setup.catalyst.law))
    inside = Content(medium, amounts, TEMPERATURE, PRESSURE)
    definitions += inside.definitions
    if rigid:
        definitions.append((PRESSURE, TEMPERATURE / VOLUME * GAS_CONSTANT * sp.Add(*amounts)))
    if volume == "follows":
        definitions.append((HELD, inside.volume))
    content = kinetics(setup, amounts, V)
    definitions += content.definitions
    made = [V * one for one in content.production]
    entering = [sp.Add(*(f.flow * f.inside(s) for f in inflows)) for s in species]
    flowing_in = sp.Add(*(f.flow for f in inflows))
    extra, more, slopes = [], [], []
    if followed_activity:
        assert setup.catalyst.law is not None
        begins = setup.catalyst.law.xreplace({TEMPERATURE: START_T if setup.knows_heat else TEMPERATURE})
        extra.append(State("activity", ACTIVITY, "number", begins, sp.Integer(1)))
        slopes.append(setup.catalyst.slope)
    demand, capacity = ZERO, ZERO
    if setup.knows_heat:
        demand = V * content.heat
        for f in inflows:
            fed = [f.flow * f.inside(s) for s in species]
            demand += medium.warming(fed, TEMPERATURE, f.T, f.flow)
            stream = Content(medium, fed, f.T, PRESSURE)
            demand -= stream.written_out(stream.departure)
        gains = zip(entering, made, strict=True)
        demand += sp.Add(*(inside.departure_by_amount(i) * (e + m) for i, (e, m) in enumerate(gains)))
        capacity = medium.capacity(inside, V) + (WALL if heat.wall else 0)
        if rigid:
            demand -= GAS_CONSTANT * TEMPERATURE * sp.Add(*made)
            capacity -= GAS_CONSTANT * sp.Add(*amounts)
    work = STIRRER if heat.stirrer else ZERO
    through = heat.through_wall(TEMPERATURE)
    if setup.knows_heat:
        definitions += [(DEMAND, demand), (HELD_CAPACITY, capacity)]
        demand, capacity = DEMAND, HELD_CAPACITY
    if heat.moves:
        definitions.append((WARMING, (through + work - demand) / capacity))
        extra.append(State("T", TEMPERATURE, "temperature", START_T, START_T))
        slopes.append(WARMING)
    warming = WARMING if heat.moves else slope_of(TEMPERATURE) if setup.knows_heat else ZERO
    out: sp.Expr = ZERO
    if leaving:
        out = flowing_in
        if not medium.carries_volume:
            gains = zip(entering, made, strict=True)
            grows = [inside.volume_by_amount(i) * (e + m) for i, (e, m) in enumerate(gains)]
            out = sp.Add(*grows) + inside.volume_by_T * warming
        if volume != "fixed":
            out = WITHDRAWN + OVERFLOWING * (out - WITHDRAWN)
            more += [WITHDRAWN, OVERFLOWING]
        if out != flowing_in:
            definitions.append((LOCAL_FLOW, out))
            out = LOCAL_FLOW
    leaves = [out * n / V for n in amounts]
    if volume == "carried":
        extra.append(State("volume", HELD, "volume", VOLUME, VOLUME))
        slopes.append(flowing_in - out)
    rhs = [e - o + m for e, o, m in zip(entering, leaves, made, strict=True)]
    derived, kinds = shown(setup)
    own: list[tuple[str, str, sp.Expr]] = []
    if volume != "fixed":
        own.append(("volume", "volume", HELD))
    if rigid:
        own.append(("pressure", "pressure", PRESSURE))
    if heat.flowing:
        own.append(("coolant outlet T", "temperature", heat.coolant_out(TEMPERATURE)))
    needed = through if heat.moves else capacity * warming + demand - work
    if setup.knows_heat:
        own.append(("heat flow", "power", needed))
    if setup.catalyst.law is not None:
        own.append(("activity", "number", ACTIVITY))
    derived |= {name: e for name, _, e in own}
    kinds |= {name: kind for name, kind, _ in own}
    symbols = [*setup.symbols, *heat.symbols, *more, VOLUME]
    symbols += [begin(s) for s in species] if charged or inflows else []
    for f in inflows:
        symbols += f.symbols(setup)
    if medium.is_gas and not rigid:
        symbols.append(PRESSURE)
    balances = Balances(sp.Symbol("t"), (*held, *extra), tuple(definitions), (*rhs, *slopes),
                        tuple(dict.fromkeys(symbols)), derived)  # fmt: skip
    start = [VOLUME * begin(s) for s in species]
    found = _Mixed(setup, inflows, amounts, start, entering, leaves, V, out, needed, work, rigid, size, content.heat)
    return _accounts(found, balances, kinds, leaving, leaving and volume == "fixed")


@dataclass(frozen=True)
class _Mixed:
    """What a well-mixed vessel holds, takes in and gives off, as expressions; what it is closed by follows from it."""

    setup: Setup
    inflows: tuple[Inflow, ...]
    amounts: tuple[sp.Symbol, ...]
    start: list[sp.Expr]
    entering: list[sp.Expr]
    leaves: list[sp.Expr]
    volume: sp.Expr
    out: sp.Expr
    needed: sp.Expr
    """Heat through the walls."""
    work: sp.Expr
    rigid: bool
    size: sp.Expr
    """Of the amounts."""
    reacting: sp.Expr
    """Heat taken up by the reactions per volume."""


def _accounts(mixed: _Mixed, balances: Balances, kinds: Mapping[str, str], leaving: bool, through: bool) -> Written:
    """What a well-mixed vessel is closed by: what came in, what is there and what went out, of species and energy."""
    setup, inflows, amounts, start = mixed.setup, mixed.inflows, mixed.amounts, mixed.start
    entering, leaves, V, needed, work = mixed.entering, mixed.leaves, mixed.volume, mixed.needed, mixed.work
    medium, species, size = setup.medium, setup.structure.species, mixed.size
    totals: list[tuple[State, sp.Expr]] = []

    def counted(name: str, kind: str, scale: sp.Expr, slope: sp.Expr) -> sp.Expr:
        symbol = sp.Symbol(name)
        totals.append((State(name, symbol, kind, ZERO, scale), slope))
        return symbol

    came = [
        counted(f"{s} fed", "amount in", size, e) if inflows else ZERO for s, e in zip(species, entering, strict=True)
    ]
    went = [
        counted(f"{s} out", "amount out", size, o) if leaving else ZERO for s, o in zip(species, leaves, strict=True)
    ]
    amounts_closed = {
        s: Account(a + c, n + g) for s, a, c, n, g in zip(species, start, came, amounts, went, strict=True)
    }
    inlet = by_species(setup, entering if through else [a + c for a, c in zip(start, came, strict=True)])
    outlet = by_species(setup, leaves if through else [n + g for n, g in zip(amounts, went, strict=True)])
    energy = steady = duty = None
    if setup.knows_heat:
        streams = [([f.flow * f.inside(s) for s in species], f) for f in inflows]

        def stored(enthalpy: sp.Expr, n: Sequence[sp.Expr], T: sp.Expr) -> sp.Expr:
            found = enthalpy + (WALL * (T - sp.Float(STANDARD_TEMPERATURE)) if setup.heat.wall else 0)
            return found - GAS_CONSTANT * T * sp.Add(*n) if mixed.rigid else found

        rough = size * GAS_CONSTANT * sp.Integer(1000)
        counted("heat", "energy", rough, needed)
        counted(str(RELEASED), "energy", rough, -V * mixed.reacting)
        brought = sp.Add(*(medium.stream_enthalpy(n, f.T, PRESSURE, f.flow) for n, f in streams))
        held = medium.enthalpy(Content(medium, amounts, TEMPERATURE, PRESSURE), V)
        taken = mixed.out / V * held if leaving else ZERO
        carried = counted("enthalpy brought", "energy", rough, brought - taken) if inflows else ZERO
        worked = counted("stirring", "energy", rough, work) if work != 0 else ZERO
        now = stored(held, amounts, TEMPERATURE)
        then = stored(medium.stream_enthalpy(start, START_T, PRESSURE, VOLUME), start, START_T)
        sizes = (HEAT, reacting_enthalpy(setup, amounts, START_T) - reacting_enthalpy(setup, start, START_T), carried,
                 medium.warming(amounts, TEMPERATURE, START_T, V))  # fmt: skip
        energy = Account(then + HEAT + carried + worked, now, sizes)
        duty = needed if through else HEAT
        if through:
            warmed = sp.Add(*(medium.warming(n, TEMPERATURE, f.T, f.flow) for n, f in streams))
            reacted = reacting_enthalpy(setup, entering, TEMPERATURE) - reacting_enthalpy(setup, leaves, TEMPERATURE)
            steady = Account(brought + needed + work, taken, (needed, warmed, reacted))
    made = removed = ZERO
    if setup.knows_heat:
        made = -V * mixed.reacting
        removed = DEMAND + made - needed - work
    return Written(
        balances, inlet, outlet, kinds, tuple(totals), amounts_closed, energy, steady, duty, made, removed
    )  # fmt: skip
