"""The model of a vessel: its balances, and the quantities read from them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import sympy as sp

from molino.core.balances.balance_symbols import ACTIVITY, EFFECTIVENESS, START_T, THIELE_SQUARED, slope_of
from molino.core.balances.system import ZERO, Balances, State
from molino.core.chemistry.constants import parameter_symbol
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration, species_in
from molino.core.chemistry.notation import RATE
from molino.core.chemistry.reaction import BASES
from molino.core.chemistry.symbolic_network import SymbolicNetwork
from molino.core.symbols import in_order
from molino.core.terms.catalyst import CatalystShape, catalyst_symbols, per_vessel_volume, thiele_square
from molino.core.terms.effectiveness import Effectiveness
from molino.core.terms.heat import HeatShape
from molino.core.thermo.energy import CAPACITY, reference
from molino.core.thermo.phase_model import STANDARD_PRESSURE, Content, PhaseModel, molar_volume
from molino.core.unit_tables import GAS_CONSTANT


@dataclass(frozen=True)
class ModelKey:
    """The properties that determine the form of a vessel's balances: the key of cached models and compiled balances."""

    network: SymbolicNetwork
    phase: PhaseModel
    heat: HeatShape
    catalyst: CatalystShape

    @property
    def has_energy(self) -> bool:
        """Whether the properties for an energy balance are known."""
        return self.phase.energy is not None

    @cached_property
    def symbols(self) -> tuple[sp.Symbol, ...]:
        """The parameters that every vessel has: chemistry, contents, temperature, catalyst, properties."""
        species = self.network.species
        found: list[sp.Symbol] = [*(parameter_symbol(name) for name in self.network.parameters)]
        found += [] if self.heat.is_non_isothermal else [TEMPERATURE]
        found += catalyst_symbols(self.network, self.catalyst)
        if self.phase.model == "additive volumes":
            found += [molar_volume(s) for s in species]
        if self.phase.energy is not None:
            found += [reference(s) for s in species]
            asks = any(CAPACITY in rise.free_symbols for rise in self.phase.energy.rises)
            found += [CAPACITY] if asks or self.phase.energy.carried else []
            found += [START_T] if self.heat.is_non_isothermal else [START_T, slope_of(TEMPERATURE)]
        return tuple(found)

    @cached_property
    def _hash(self) -> int:
        return hash((self.network, self.phase, self.heat, self.catalyst))

    def __hash__(self) -> int:
        return self._hash


@dataclass(frozen=True)
class Account:
    """Two expressions that must be equal, and the scales of their difference."""

    wanted: sp.Expr
    there: sp.Expr
    sizes: tuple[sp.Expr, ...] = ()


@dataclass(frozen=True)
class Reading:
    """A reading along a run: an expression, its kind of quantity and the heading of its column."""

    expression: sp.Expr
    kind: str
    heading: str


@dataclass(frozen=True)
class StreamForm:
    """A stream out of a vessel, or its contents: amounts (or molar flows) by species, volume (flow), T and P."""

    name: str
    amounts: Mapping[str, sp.Expr]
    volume: sp.Expr | None
    T: sp.Expr | None
    P: sp.Expr | None
    flowing: bool


@dataclass(frozen=True, eq=False)
class Model:
    """The balances of a vessel, and the expressions of conversions, closures and streams.

    `inlet` and `outlet` are the amounts (batch) or molar flows of each species in and out, as expressions of the
    parameters and of the states. `totals` are further states with their derivatives on which no other state depends:
    integrals of heat and flows, only in a run. `amounts` and `energy` are the accounts of the closure of a run, over
    balances with totals; at a steady state `inlet` and `outlet` themselves are compared, and `steady` is the energy
    account. `duty` is the heat into the vessel in W (in a batch: J); of a tank, `heat_generation` is the heat released
    by reactions and `heat_removal` the heat that warms the feed and is lost through the walls, less the stirrer's
    power, both in W. `readings` are further quantities, by name.
    """

    balances: Balances
    inlet: Mapping[str, sp.Expr]
    outlet: Mapping[str, sp.Expr]
    readings: Mapping[str, Reading]
    streams: tuple[StreamForm, ...]
    volume: sp.Expr | None
    totals: tuple[tuple[State, sp.Expr], ...] = ()
    amounts: Mapping[str, Account] = field(default_factory=dict)
    energy: Account | None = None
    steady: Account | None = None
    duty: sp.Expr | None = None
    heat_generation: sp.Expr = ZERO
    heat_removal: sp.Expr = ZERO

    @property
    def is_flowing(self) -> bool:
        """Whether it has an outlet."""
        return self.streams[0].flowing

    @cached_property
    def metrics(self) -> dict[object, sp.Expr]:
        """Metrics over its states that have been requested."""
        return {}

    def balances_for(self, expressions: Iterable[sp.Expr]) -> Balances:
        """The balances that some expressions need: with totals only if one is used."""
        asked = frozenset[sp.Symbol]().union(*(e.free_symbols for e in expressions))
        return self.balances if asked <= self.balances.known else self.followed

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
    """Heat consumed by the reactions per volume and time, sum of rate times enthalpy of reaction (ideal)."""


def compositions(content: Content, asked: Sequence[sp.Symbol]) -> list[tuple[sp.Symbol, sp.Expr]]:
    """Partial pressures, mole fractions, activities and fugacities that are used.

    In an ideal gas the partial pressure of a species is its concentration times R T, in a real one its fraction of the
    pressure. The fugacity is the partial pressure times the fugacity coefficient; the activity of a gas is its fugacity
    over 1 bar, that of a liquid the mole fraction times the activity coefficient, both of which are 1 without a model.
    """
    species, is_real = content.phase.species, content.phase.real is not None
    whole = sp.Add(*(concentration(s) for s in species))
    found: list[tuple[sp.Symbol, sp.Expr]] = []
    for symbol in in_order(asked):
        kind = species_in(symbol)
        if kind is None or not kind[0]:
            continue
        own = concentration(kind[1])
        pressure = own / whole * PRESSURE if is_real else own * GAS_CONSTANT * TEMPERATURE
        coefficient = content.log_coefficient(species.index(kind[1])) if kind[0] in ("a", "f") else ZERO
        coefficient = sp.exp(coefficient) if coefficient != 0 else sp.Integer(1)
        activity = pressure / STANDARD_PRESSURE if content.phase.is_gas else own / whole
        found.append(
            (
                symbol,
                {
                    "p": pressure,
                    "x": own / whole,
                    "f": pressure * coefficient,
                    "a": activity * coefficient,
                }[kind[0]],
            )
        )
    return found


def _slowed(key: ModelKey) -> tuple[dict[str, sp.Expr], list[tuple[sp.Symbol, sp.Expr]]]:
    """The rate law of each reaction with the effects of the catalyst, and its definitions.

    With internal diffusion the rate law is multiplied by the effectiveness factor, with deactivation by the activity.
    """
    network, form = key.network, key.catalyst
    laws = dict(zip(network.reactions, network.rates, strict=True))
    definitions: list[tuple[sp.Symbol, sp.Expr]] = []
    for reaction, species, shape in form.internal_diffusion:
        square, factor = THIELE_SQUARED(reaction), EFFECTIVENESS(reaction)
        definitions.append((square, thiele_square(network, reaction, laws[reaction], species)))
        definitions.append((factor, Effectiveness(square, sp.Float(shape))))
        laws[reaction] = laws[reaction] * factor
    for name, basis in zip(network.reactions, network.bases, strict=True):
        if form.law is not None and basis != "volume":
            laws[name] = laws[name] * ACTIVITY
    return laws, definitions


@lru_cache(maxsize=256)
def kinetics(
    key: ModelKey, amounts: tuple[sp.Symbol, ...], per: sp.Symbol, asked: frozenset[sp.Symbol] = frozenset()
) -> Kinetics:
    """Rates with concentrations as amounts (or molar flows) per volume (or volumetric flow).

    `asked` are symbols of the composition that are used outside rate laws.
    """
    network = key.network
    definitions = [(concentration(s), n / per) for s, n in zip(network.species, amounts, strict=True)]
    definitions += compositions(Content(key.phase, amounts, TEMPERATURE, PRESSURE), [*(network.symbols | asked)])
    laws, more = _slowed(key)
    definitions += [*more, *((RATE(name), law) for name, law in laws.items())]
    made: list[list[sp.Expr]] = [[] for _ in network.species]
    heats = []
    factors = per_vessel_volume(network, key.catalyst)
    for name, factor, column in zip(network.reactions, factors, network.stoichiometry, strict=True):
        rate = RATE(name)
        for i, moles in column:
            made[i].append(sp.Rational(moles) * factor * rate)
        if key.phase.energy is not None:
            energy = key.phase.energy
            change = sp.Add(*(sp.Rational(moles) * energy.enthalpy(i, TEMPERATURE) for i, moles in column))
            heats.append(factor * rate * sp.expand(change))
    return Kinetics(tuple(definitions), tuple(sp.Add(*terms) for terms in made), sp.Add(*heats))


def common_readings(key: ModelKey) -> dict[str, Reading]:
    """The readings of every vessel: concentrations, temperature, rates and effectiveness factors."""
    network = key.network
    found = {f"concentration of {s}": Reading(concentration(s), "concentration", s) for s in network.species}
    if key.heat.is_non_isothermal or key.has_energy:
        found["temperature"] = Reading(TEMPERATURE, "temperature", "T")
    for name, basis in zip(network.reactions, network.bases, strict=True):
        found[f"rate of {name}"] = Reading(RATE(name), BASES[basis], f"rate of {name}")
    for reaction, _, _ in key.catalyst.internal_diffusion:
        found[f"effectiveness of {reaction}"] = Reading(
            EFFECTIVENESS(reaction), "number", f"effectiveness of {reaction}"
        )
    return found


def total(network: SymbolicNetwork, symbol: Callable[[str], sp.Symbol]) -> sp.Expr:
    """The sum of a symbol over the species."""
    return sp.Add(*(symbol(s) for s in network.species))


def by_species(key: ModelKey, expressions: Sequence[sp.Expr]) -> dict[str, sp.Expr]:
    """Expressions, one for each species, by their names."""
    return dict(zip(key.network.species, expressions, strict=True))


def reacting_enthalpy(key: ModelKey, amounts: Sequence[sp.Expr], T: sp.Expr) -> sp.Expr:
    """Sum of n_i h_i(T) with the enthalpies of the ideal state, the reference of heats of reaction."""
    assert key.phase.energy is not None
    return sp.Add(*(n * key.phase.energy.enthalpy(i, T) for i, n in enumerate(amounts)))
