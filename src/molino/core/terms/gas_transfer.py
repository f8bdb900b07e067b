"""The term of a gas in a well-mixed liquid: its own balances, and the transfer into the liquid.

With C_i the concentrations in the gas, y_i its mole fractions, G its molar flow and z the relative height (from the
inlet of the gas), in a volume V of liquid with e V of gas in it

    e V dC_i/dt = -d(y_i G)/dz - t_i,    t_i = V E_i k_L a (y_i P/H_i - c_i)
    dG/dz = -sum_i t_i - r,    r = 100 G_in (1 - sum_i C_i R T/P)

where r adds or removes gas to hold the pressure constant, within a hundredth of the residence time of the gas if the
temperature changes; at steady state r is zero. A mixed gas is one place; the balances of a gas in plug flow are
collocated over the height (Radau IIA of three stages in each of some elements: E. Hairer, G. Wanner, Solving Ordinary
Differential Equations II, 2nd ed. 1996, section IV.5), for which the loss of the gas equals the gain of the liquid, to
rounding.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import sympy as sp

from molino.core.balances.balance_symbols import (
    DIFFUSIVITY,
    ENHANCEMENT,
    FILM_COEFFICIENT,
    FLOW_IN_GAS,
    GAS_CONCENTRATION,
    GAS_FED,
    GAS_FEED_T,
    GAS_FLOW,
    GAS_FRACTION,
    GAS_LOSS,
    GAS_P,
    GAS_RATIO,
    GAS_START,
    GAS_START_P,
    HATTA_SQUARED,
    HEAD,
    HENRY_NOW,
    KLA,
    KLA_RATIO,
    PARTNER_DIFFUSIVITY,
    SATURATION,
    START_T,
    TAKEN_UP,
)
from molino.core.balances.collocation import TABLEAU
from molino.core.balances.system import ZERO, State
from molino.core.chemistry.formula import TEMPERATURE, concentration
from molino.core.symbols import Role
from molino.core.terms.effectiveness import SHAPES, Effectiveness
from molino.core.terms.model import Reading
from molino.core.terms.terms import Contribution, Crossing, Holding, Place
from molino.core.unit_tables import GAS_CONSTANT

_ELEMENTS = 4
"""Elements of a gas in plug flow: enough for 1e-5 of the feed with five transfer units."""
_VALVE = 100
"""Ratio of the residence time of the gas to the time constant of its pressure."""
_NONE = sp.Float(1e-200)
"""Regularization of a ratio of two numbers that vanish together."""


@dataclass(frozen=True)
class Film:
    """A reaction in the liquid film: its species, its order, and the species that can be depleted."""

    reaction: str
    species: str
    order: float
    partner: str
    consumed: sp.Rational
    """Moles of the species for one of the reaction."""
    ratio: sp.Rational
    """Moles of the species for one of the partner."""


@dataclass(frozen=True)
class GasTerm:
    """The term of a gas in a well-mixed liquid.

    Attributes
    ----------
    gas : tuple of str
        The species of the gas.
    fed : tuple of str
        Those of its feed.
    henry : tuple of (str, expression)
        Pressure over concentration of dissolved species.
    ratios : tuple of str
        The species with their own transfer coefficient.
    films : tuple of Film
    parameters : tuple of Symbol
    has_flow : bool
        Whether its flow is given.
    in_plug_flow : bool
        Whether it is in plug flow, under a head of liquid; otherwise it is mixed.
    """

    gas: tuple[str, ...]
    fed: tuple[str, ...]
    henry: tuple[tuple[str, sp.Expr], ...]
    ratios: tuple[str, ...]
    films: tuple[Film, ...]
    parameters: tuple[sp.Symbol, ...]
    has_flow: bool
    in_plug_flow: bool

    def __call__(self, place: Place) -> Contribution:
        return _Gas(self, place).contribution()


class _Gas:
    """The balances of a gas at a place."""

    def __init__(self, term: GasTerm, place: Place) -> None:
        self.term, self.place, self.henry = term, place, dict(term.henry)
        self.stages = sp.Matrix(TABLEAU.tolist()) if term.in_plug_flow else sp.eye(1)
        self.n, self.elements = self.stages.shape[0], _ELEMENTS if term.in_plug_flow else 1
        self.step = sp.Rational(1, self.elements)
        self.nodes = range(self.n * self.elements)
        self.definitions: list[tuple[sp.Symbol, sp.Expr]] = [(HENRY_NOW(s), e) for s, e in term.henry]
        for k in self.nodes:
            self._define(k)

    def at(self, role: Role, owner: str, k: int) -> sp.Symbol:
        """A quantity of a species or a reaction at a node."""
        return role(f"{owner} {k + 1}" if self.term.in_plug_flow else owner)

    def of_all(self, role: Role, k: int) -> sp.Symbol:
        """A quantity of the whole gas at a node."""
        return self.at(role, "gas", k)

    def pressure(self, k: int) -> sp.Expr:
        """The pressure at a node: that at the top and the head of the liquid above the node."""
        if not self.term.in_plug_flow:
            return GAS_P
        element, i = divmod(k, self.n)
        height = (element + float(sum(self.stages.row(i)))) / self.elements
        return GAS_P + HEAD * sp.Float(max(1 - height, 0.0))

    def whole(self, k: int) -> sp.Expr:
        """Total concentration of the gas at a node."""
        return sp.Add(*(self.at(GAS_CONCENTRATION, s, k) for s in self.term.gas))

    def _define(self, k: int) -> None:
        """Fractions, concentrations at the interface, and transfer into the liquid per height, at a node."""
        term, whole = self.term, self.whole(k)
        for s in term.gas:
            self.definitions.append((self.at(GAS_FRACTION, s, k), self.at(GAS_CONCENTRATION, s, k) / whole))
        for s in self.henry:
            own = self.at(GAS_FRACTION, s, k) * self.pressure(k) / HENRY_NOW(s)
            self.definitions.append((self.at(SATURATION, s, k), own))
        for film in term.films:
            self.definitions += self._film(film, k)
        for s in self.henry:
            faster = [self.at(ENHANCEMENT, s, k) for film in term.films if film.species == s]
            kLa = sp.Mul(KLA, *([KLA_RATIO(s)] if s in term.ratios else []), *faster)
            rate = self.place.extent * kLa * (self.at(SATURATION, s, k) - concentration(s))
            self.definitions.append((self.at(TAKEN_UP, s, k), rate))

    def _film(self, film: Film, k: int) -> list[tuple[sp.Symbol, sp.Expr]]:
        """The square of the Hatta number, and the enhancement; see `FilmReaction`."""
        network = self.place.key.network
        law = dict(zip(network.reactions, network.rates, strict=True))[film.reaction]
        at = self.at(SATURATION, film.species, k)
        square, found = self.at(HATTA_SQUARED, film.reaction, k), self.at(ENHANCEMENT, film.species, k)
        diffusivity = DIFFUSIVITY(film.reaction)
        rate = law.xreplace({concentration(film.species): at}) * film.consumed
        own = rate / at * diffusivity / FILM_COEFFICIENT**2 * sp.Float(2 / (film.order + 1))
        first = 1 / Effectiveness(square, sp.Float(SHAPES["slab"]))
        if not film.partner:
            return [(square, own), (found, first)]
        room = PARTNER_DIFFUSIVITY(film.reaction) * concentration(film.partner) * film.ratio / diffusivity
        q = (first**2 - 1) * at / (room + _NONE)
        return [(square, own), (found, -q / 2 + sp.sqrt(q**2 / 4 + q + first**2))]

    @property
    def weights(self) -> list[sp.Expr]:
        """Weights of the nodes for integrals over the height."""
        return [self.step * self.stages[self.n - 1, k % self.n] for k in self.nodes]

    def over_height(self, values: list[sp.Expr]) -> sp.Expr:
        return sp.Add(*(w * v for w, v in zip(self.weights, values, strict=True)))

    @property
    def volume(self) -> sp.Expr:
        """Of the gas."""
        return GAS_RATIO * self.place.extent

    def held_by(self, s: str) -> sp.Expr:
        return self.volume * self.over_height([self.at(GAS_CONCENTRATION, s, k) for k in self.nodes])

    def _taken(self, s: str) -> sp.Expr:
        return self.over_height([self.at(TAKEN_UP, s, k) for k in self.nodes]) if s in self.henry else ZERO

    def loss(self, k: int, restored: sp.Expr) -> sp.Expr:
        """Loss of the gas per height at a node, to the liquid and for constant pressure."""
        lacks = 1 - self.whole(k) * GAS_CONSTANT * TEMPERATURE / self.pressure(k)
        return sp.Add(*(self.at(TAKEN_UP, s, k) for s in self.henry)) + restored * lacks

    def slopes(self) -> dict[tuple[str, int], sp.Expr]:
        """Derivatives of the concentrations at each node, by species; also defines the molar flow of the gas there."""
        term, found = self.term, dict[tuple[str, int], sp.Expr]()
        fed_whole = sp.Add(*(GAS_FED(s) for s in term.fed))
        if not term.has_flow:  # the supply holds the pressure constant, and there is no outlet
            restored = 10 * KLA * self.volume * self.pressure(0) / (GAS_CONSTANT * TEMPERATURE)
            self.definitions.append((self.of_all(GAS_FLOW, 0), self.loss(0, restored)))
            for s in term.gas:
                came = self.of_all(GAS_FLOW, 0) * GAS_FED(s) / fed_whole if s in term.fed else ZERO
                found[s, 0] = (came - (self.at(TAKEN_UP, s, 0) if s in self.henry else 0)) / self.volume
            return found
        backward = self.stages.inv()
        before, fed = fed_whole, {s: GAS_FED(s) if s in term.fed else ZERO for s in term.gas}
        for element in range(self.elements):
            own = [element * self.n + i for i in range(self.n)]
            losses = [self.of_all(GAS_LOSS, k) for k in own]
            self.definitions += [(self.of_all(GAS_LOSS, k), self.loss(k, _VALVE * fed_whole)) for k in own]
            for i, k in enumerate(own):
                passed = sp.Add(*(self.step * self.stages[i, j] * loss for j, loss in enumerate(losses)))
                self.definitions.append((self.of_all(GAS_FLOW, k), before - passed))
                own_flows = [self.at(GAS_FRACTION, s, k) * self.of_all(GAS_FLOW, k) for s in term.gas]
                self.definitions += [(self.at(FLOW_IN_GAS, s, k), F) for s, F in zip(term.gas, own_flows, strict=True)]
            for s in term.gas:
                here = [self.at(FLOW_IN_GAS, s, k) - fed[s] for k in own]
                for i, k in enumerate(own):
                    along = sp.Add(*(backward[i, j] / self.step * e for j, e in enumerate(here)))
                    taken = self.at(TAKEN_UP, s, k) if s in self.henry else ZERO
                    found[s, k] = (-along - taken) / self.volume
            last = own[-1]
            before = self.of_all(GAS_FLOW, last)
            fed = {s: self.at(FLOW_IN_GAS, s, last) for s in term.gas}
        return found

    @cached_property
    def heat_of_absorption(self) -> dict[str, sp.Expr]:
        """R T^2 dlnH/dT: the enthalpy of a species in the gas less that in the liquid."""
        T = TEMPERATURE
        return {s: sp.simplify(GAS_CONSTANT * T**2 * sp.log(e).diff(T)) for s, e in self.henry.items()}

    def enthalpy(self, s: str, T: sp.Expr) -> sp.Expr:
        """Of a species in the gas, per mole."""
        energy = self.place.key.phase.energy
        assert energy is not None
        more = self.heat_of_absorption.get(s, ZERO).xreplace({TEMPERATURE: T})
        return energy.enthalpy(self.place.species.index(s), T) + more

    def carried(self, flows: dict[str, sp.Expr], T: sp.Expr) -> sp.Expr | None:
        """The enthalpy of amounts (or flows) of gas."""
        if not self.place.key.has_energy:
            return None
        return sp.Add(*(n * self.enthalpy(s, T) for s, n in flows.items()))

    def _row(self, by_species: dict[str, sp.Expr]) -> tuple[sp.Expr, ...]:
        return tuple(by_species.get(s, ZERO) for s in self.place.species)

    def _holding(self) -> Holding:
        """The contents of the gas: at the start those of its feed."""
        has_energy = self.place.key.has_energy
        held = {s: self.held_by(s) for s in self.term.gas}
        first = {s: self.volume * self.over_height([self.first(s, k) for k in self.nodes]) for s in self.term.fed}
        capacity = (
            sp.Add(*(n * self.enthalpy(s, TEMPERATURE).diff(TEMPERATURE) for s, n in held.items()))
            if has_energy
            else ZERO
        )
        now, then = self.carried(held, TEMPERATURE) or ZERO, self.carried(first, START_T) or ZERO
        return Holding(self._row(held), self._row(first), capacity, now, then)

    def first(self, s: str, k: int) -> sp.Expr:
        """The concentration at a node at the start: that of the feed, under the pressure there."""
        if s not in self.term.fed:
            return ZERO
        return GAS_START(s) * (1 + (self.pressure(k) - GAS_P) / GAS_START_P)

    def first_whole(self, k: int) -> sp.Expr:
        """Total concentration of the gas at a node at the start."""
        return sp.Add(*(self.first(s, k) for s in self.term.fed))

    def contribution(self) -> Contribution:
        term, key = self.term, self.place.key
        slopes, fed_whole = self.slopes(), sp.Add(*(GAS_FED(s) for s in term.fed))
        states = []
        for s, k in slopes:
            name = f"{s} in the gas" + (f" at node {k + 1}" if term.in_plug_flow else "")
            symbol = self.at(GAS_CONCENTRATION, s, k)
            states.append(
                (State(name, symbol, "gas concentration", self.first(s, k), self.first_whole(k)), slopes[s, k])
            )
        taken = {s: self._taken(s) for s in self.henry}
        share = ZERO if term.has_flow else self.of_all(GAS_FLOW, 0) / fed_whole
        came = {s: GAS_FED(s) * (1 if term.has_flow else share) for s in term.fed}
        T_in = GAS_FEED_T if term.has_flow else TEMPERATURE
        crossings = [Crossing("in", self._row(came), self.carried(came, T_in))]
        out = dict[str, sp.Expr]()
        if term.has_flow:
            last = self.nodes[-1]
            out = {s: self.at(FLOW_IN_GAS, s, last) for s in term.gas}
            crossings.append(Crossing("out", self._row(out), self.carried(out, TEMPERATURE)))
        heating: sp.Expr = ZERO
        if key.has_energy:
            absorbed = [flow * self.heat_of_absorption[s] for s, flow in taken.items()]
            warmed = [F * (self.enthalpy(s, T_in) - self.enthalpy(s, TEMPERATURE)) for s, F in came.items()]
            heating = sp.Add(*absorbed, *(warmed if term.has_flow else ()))
        needs_T = (GAS_FEED_T,) if key.has_energy and term.has_flow else ()
        return Contribution(
            "gas",
            self._row(taken),
            heating,
            crossings=tuple(crossings),
            holds=self._holding(),
            states=tuple(states),
            definitions=tuple(self.definitions),
            parameters=(*term.parameters, *needs_T),
            readings=self._readings(taken),
            leaving_P=GAS_P,
            leaves=("off-gas", self._row(out)) if term.has_flow else None,
        )

    def _readings(self, taken: dict[str, sp.Expr]) -> dict[str, Reading]:
        last, found = self.nodes[-1], dict[str, Reading]()
        for s, flow in taken.items():
            mean = self.over_height([self.at(SATURATION, s, k) for k in self.nodes])
            found[f"absorption of {s}"] = Reading(flow, "molar flow", f"absorption of {s}")
            found[f"saturation of {s}"] = Reading(concentration(s) / mean, "number", f"saturation of {s}")
        for s in self.term.gas:
            name = f"fraction of {s} in the gas"
            found[name] = Reading(self.at(GAS_FRACTION, s, last), "number", f"{s} in the gas")
        for film in self.term.films:
            name = f"Hatta number of {film.reaction}"
            found[name] = Reading(sp.sqrt(self.at(HATTA_SQUARED, film.reaction, last)), "number", name)
            name = f"enhancement of {film.species}"
            found[name] = Reading(self.at(ENHANCEMENT, film.species, last), "number", name)
        return found
