"""A gas that is bubbled through the liquid of a vessel, or is above it, and dissolves in it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import MISSING, dataclass, field, replace

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import (
    DIFFUSIVITY,
    FILM_COEFFICIENT,
    GAS_FED,
    GAS_FEED_T,
    GAS_P,
    GAS_RATIO,
    GAS_START,
    GAS_START_P,
    HEAD,
    HENRY,
    KLA,
    KLA_RATIO,
    PARTNER_DIFFUSIVITY,
)
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Constant, Entry, Unknown, read_constant, si
from molino.core.chemistry.symbolic_network import SymbolicNetwork
from molino.core.contents.feed import Feed
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, option, part, quantity, read_fields, several_forms
from molino.core.terms.gas_transfer import Film, GasTerm
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value

_PER_CONCENTRATION, _SOLUBILITY = "Pa*m^3/mol", "mol/m^3/Pa"


@dataclass(frozen=True, eq=False)
class FilmReaction(Frozen, Printed):
    """A fast reaction in the liquid film at the bubbles, which enhances the absorption.

    The Hatta number Ha = sqrt(2/(n + 1) (r/c) D)/k_L, with r/c at the interface, for a reaction of order n in the
    dissolved species; without depletion of its partner the film theory gives E = Ha/tanh(Ha), with depletion

        E = -q/2 + sqrt(q^2/4 + q + E_1^2),  q = (E_1^2 - 1)/(E_i - 1),  E_i = 1 + D_B c_B nu_A/(D_A c_A* nu_B)

    where E_1 = Ha/tanh(Ha) (W. J. DeCoursey, Chem. Eng. Sci. 29 (1974) 1867, with the film theory for first order in
    it; within 2 % of the implicit equation of D. W. van Krevelen, P. J. Hoftijzer, Rec. Trav. Chim. 67 (1948) 563).

    Parameters
    ----------
    species : str
        The dissolved species.
    diffusivity : quantity
        In the liquid, "2e-9 m2/s".
    order : float
        Of the reaction in it.
    partner : str, optional
        The reactant of the liquid that can be depleted in the film; by default the only other reactant.
    partner_diffusivity : quantity, optional
        By default that of the species.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> print(mo.FilmReaction("O2", diffusivity="2e-9 m2/s"))
    O2 of diffusivity 2e-09 m²/s
    """

    species: str = option("")
    diffusivity: QuantityField = quantity("diffusivity")
    order: QuantityField = quantity("number", 1.0, sign="nonnegative")
    partner: str = option("")
    partner_diffusivity: QuantityField = quantity("diffusivity")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "film reaction")
        if self.diffusivity is None:
            faults.add("film reaction", "the diffusivity is not given", "give it, like '2e-9 m2/s'")
        faults.raise_any()

    def partner_in(self, network: SymbolicNetwork, reaction: str) -> str:
        """The species that can be depleted in the film; '' without one.

        Raises
        ------
        InputError
            If the reaction does not consume the species or the partner, or has several possible partners.
        """
        column = network.stoichiometry[network.reactions.index(reaction)]
        consumed = [network.species[i] for i, moles in column if moles < 0]
        if self.species not in consumed:
            raise InputError(f"{reaction} does not consume {self.species}", "", nearest(self.species, consumed))
        others = [s for s in consumed if s != self.species]
        if self.partner and self.partner not in others:
            raise InputError(f"{reaction} does not consume {self.partner}", "", nearest(self.partner, others))
        if not self.partner and len(others) > 1:
            raise InputError(f"which of {', '.join(others)} can be depleted in the film?", "", "give partner='...'")
        return self.partner or (others[0] if others else "")

    def __str__(self) -> str:
        return f"{self.species} of diffusivity {self.diffusivity}" + (f", partner {self.partner}" * bool(self.partner))


@dataclass(frozen=True, eq=False)
class GasPhase(Frozen, Printed):
    """An ideal gas that is bubbled through the liquid of a vessel, and dissolves in it.

    k_L a (p_i/H_i - c_i) mol of each species pass into a volume of liquid per time (O. Levenspiel, Chemical Reaction
    Engineering, 3rd ed. 1999, chapters 23 and 24). Where H depends on temperature, the enthalpy in the gas is larger by
    R T^2 dlnH/dT, the heat of absorption. For a liquid with one heat capacity of the whole, the sensible heat of the
    gas is ignored. The gas has the temperature of the liquid.

    Parameters
    ----------
    feed : Feed, or mapping of species to quantity
        The gas flow, mo.Feed({"H2": "95 mol%", "N2": "rest"}, flow=..., T=..., P=...). Or a gas that is supplied as it
        is absorbed, at constant pressure and without an outlet: {"H2": "1 mol/mol"} with P, or partial pressures,
        {"H2": "10 bar"}.
    kLa : quantity
        Transfer coefficient times the area of the bubbles per volume of liquid, "0.1 1/s".
    henry : mapping of species to constant
        p = H c: "1300 bar*L/mol" or, inverted, "0.8 mmol/L/bar"; or over temperature as mo.VantHoff(...). A species
        without one does not dissolve, and does not leave the liquid.
    kLa_ratio : mapping of species to number, optional
        Ratio of k_L a of a species to `kLa`: {"CO": 0.7}, the root of the ratio of the diffusivities.
    P : pressure, optional
        In the vessel, at the top of the liquid; by default that of the feed.
    holdup : float
        Volume fraction of gas in gas and liquid. `volume` of a tank is of its liquid.
    kL : quantity, optional
        Transfer coefficient of the liquid film, "2e-4 m/s"; for reactions in it.
    film : mapping of reaction to FilmReaction, optional
        Reactions in the film that enhance the absorption.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A + H2 -> B", k="0.05 L/mol/s"))
    >>> gas = mo.GasPhase(mo.Feed({"H2": "1 mol/mol"}, flow="2 mol/s", T="350 K", P="10 bar"), "0.2 1/s",
    ...                   {"H2": "1300 bar*L/mol"})
    >>> tank = mo.StirredTank(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/s"), volume="1 m3", T="350 K", gas=gas)
    >>> run = tank.steady()
    >>> round(run.conversion("A"), 3)
    0.244
    >>> [stream.name for stream in run.streams_out()]
    ['outlet', 'off-gas']
    """

    feed: ReadField = several_forms(MISSING)
    kLa: QuantityField = quantity("transfer coefficient")
    henry: ByName = field(default_factory=dict)
    kLa_ratio: ByName = field(default_factory=dict)
    P: QuantityField = quantity("pressure")
    holdup: QuantityField = quantity("number", 0.1)
    kL: QuantityField = quantity("mass transfer coefficient")
    film: Mapping[str, FilmReaction] = part(FilmReaction, several=True)

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "gas")
        if isinstance(self.feed, Mapping):
            with faults.at("gas"):
                settle(self, feed=Contents(self.feed, True, "gas"))
        if not isinstance(self.feed, Feed | Contents):
            faults.add("gas", f"{self.feed!r} is not a gas", "write mo.Feed({'H2': '1 mol/mol'}, flow=..., P='10 bar')")
            faults.raise_any()
        if isinstance(self.feed, Feed) and (not self.feed.is_gas or self.feed.is_real):
            message = "its feed is a real gas" if self.feed.is_real else "its feed is a liquid"
            faults.add("gas", message, "give P to the feed, and no model: an ideal gas")
        if isinstance(self.feed, Contents) and self.P is None and not self.feed.is_gas:
            faults.add("gas", "the pressure is not given", "give P='10 bar', or partial pressures")
        if self.kLa is None:
            faults.add("gas", "kLa is not given", "give it, like '0.1 1/s'")
        if not self.henry:
            faults.add(
                "gas", "no Henry's constant is given, so that no species dissolves", "henry={'H2': '1300 bar*L/mol'}"
            )
        if isinstance(self.holdup, Value) and self.holdup.si >= 1:
            faults.add("gas", f"holdup = {self.holdup}", "give the volume fraction of the gas, between 0 and 1")
        settle(self, henry=FrozenMapping(self._read_henry(faults)), film=FrozenMapping(dict(self.film)))
        ratios = {}
        for name, given in dict(self.kLa_ratio).items():
            with faults.at("gas, kLa_ratio"):
                ratios[name] = units.positive(given, "number", name)
                if name not in self.henry:
                    raise InputError(f"{name} has no Henry's constant", "", nearest(name, self.henry))
        settle(self, kLa_ratio=FrozenMapping(ratios))
        if self.film and self.kL is None:
            faults.add("gas", "kL is not given, which a reaction in the film needs", "give it, like '2e-4 m/s'")
        for name, reaction in self.film.items():
            if not isinstance(reaction, FilmReaction):
                advice = "write mo.FilmReaction('O2', diffusivity='2e-9 m2/s')"
                faults.add(f"gas, film, {name}", f"{reaction!r} is not a reaction in the film", advice)
            elif reaction.species not in self.henry:
                advice = nearest(reaction.species, self.henry)
                faults.add(f"gas, film, {name}", f"{reaction.species} has no Henry's constant", advice)
        faults.raise_any()

    def _read_henry(self, faults: Faults) -> dict[str, Constant]:
        found: dict[str, Constant] = {}
        for name, given in dict(self.henry).items():
            with faults.at(f"gas, henry, {name}"):
                held = read_constant(given, name)
                if any(isinstance(part, Unknown) for part in held.parts().values()):
                    raise InputError("a Henry's constant is not fitted", "", "give a number")
                dimension = units.unit(held.unit or _PER_CONCENTRATION).dimension
                if dimension not in (units.unit(_PER_CONCENTRATION).dimension, units.unit(_SOLUBILITY).dimension):
                    message = f"'{held}' is neither a pressure per concentration nor a concentration per pressure"
                    advice = "give it like '1300 bar*L/mol'; one per mole fraction, over the moles of liquid per volume"
                    raise UnitError(message, "", advice)
                if si(held.parts()[""]) <= 0:
                    raise InputError(f"{held} is not above zero", "", "correct it")
                found[name] = held
        return found

    def check(self, chemistry: Chemistry, needs_T: bool) -> None:
        """Raise InputError if it does not fit a chemistry."""
        faults, network = Faults(), chemistry.network
        for name in dict.fromkeys([*self.contents, *self.henry]):
            if name not in chemistry.names:
                advice = nearest(name, chemistry.names, "declare it: Chemistry(..., species=[...])")
                faults.add("gas", f"the chemistry has no species {name}", advice)
        for name, reaction in self.film.items():
            with faults.at(f"gas, film, {name}"):
                if name not in network.reactions:
                    raise InputError(f"unknown reaction '{name}'", "", nearest(name, network.reactions))
                if network.bases[network.reactions.index(name)] != "volume":
                    raise InputError("its rate is not per volume of liquid", "", "leave it out")
                reaction.partner_in(network, name)
        by_species = [reaction.species for reaction in self.film.values()]
        for name in dict.fromkeys(s for s in by_species if by_species.count(s) > 1):
            faults.add("gas, film", f"{name} reacts in the film by several reactions", "give the fastest")
        if needs_T and self.has_flow and self.feed.T is None:
            faults.add("gas", "its feed has no temperature, which the energy balance needs", "give T")
        faults.raise_any()

    @property
    def has_flow(self) -> bool:
        """Whether the flow is given; otherwise the gas is supplied as it is absorbed."""
        return isinstance(self.feed, Feed)

    @property
    def contents(self) -> Contents:
        """The composition of the inflow."""
        return self.feed.contents if isinstance(self.feed, Feed) else self.feed  # type: ignore[no-any-return]

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value with its kind, for choosing the units of results."""
        return [*self.feed.given(), ("pressure", self.P)]

    @property
    def species(self) -> tuple[str, ...]:
        """The species of the gas."""
        return tuple(dict.fromkeys([*self.contents, *self.henry]))

    def henry_expressions(self) -> dict[str, sp.Expr]:
        """Pressure over concentration at equilibrium in Pa m^3/mol, for each dissolved species."""
        found = {}
        for name, held in self.henry.items():
            e = held.expression({part: _henry_symbol(name, part) for part in held.parts()})
            turned = units.unit(held.unit or _PER_CONCENTRATION).dimension == units.unit(_SOLUBILITY).dimension
            found[name] = 1 / e if turned else e
        return found

    def term(self, chemistry: Chemistry, in_plug_flow: bool) -> GasTerm:
        """Its term in the balances of a liquid."""
        network, films = chemistry.network, []
        for name, one in self.film.items():
            partner = one.partner_in(network, name)
            column = dict(network.stoichiometry[network.reactions.index(name)])
            own = -sp.Rational(column[network.species.index(one.species)])
            other = -sp.Rational(column[network.species.index(partner)]) if partner else sp.Integer(1)
            films.append(Film(name, one.species, one.order.si, partner, own, own / other))
        symbols: list[sp.Symbol] = [KLA, GAS_P, GAS_RATIO, *([HEAD] if in_plug_flow else [])]
        symbols += [*([GAS_START_P] if in_plug_flow else []), *(GAS_START(s) for s in self.contents)]
        symbols += [*(GAS_FED(s) for s in self.contents), *(KLA_RATIO(s) for s in self.kLa_ratio)]
        symbols += [_henry_symbol(n, part) for n, held in self.henry.items() for part in held.parts()]
        symbols += [FILM_COEFFICIENT] if films else []
        for film in films:
            symbols += [DIFFUSIVITY(film.reaction), *([PARTNER_DIFFUSIVITY(film.reaction)] if film.partner else [])]
        return GasTerm(
            self.species,
            tuple(self.contents),
            tuple(self.henry_expressions().items()),
            tuple(self.kLa_ratio),
            tuple(films),
            tuple(symbols),
            self.has_flow,
            in_plug_flow,
        )

    def numbers(
        self, given: Mapping[str, Number], mixture: Mixture, T: Number, head: Number
    ) -> dict[sp.Symbol, Number]:
        """The parameters it sets, in SI.

        Parameters
        ----------
        given : conditions by name that replace its own
        mixture : its feed computed
        T : temperature of the vessel, and of the gas feed unless it has its own
        head : pressure of the liquid over the bottom in Pa
        """
        share = given.get("holdup", self.holdup.si)
        own = self.feed.T if self.has_flow else None
        if self.P is None and self.has_flow and self.feed.P is not None:
            pressure = self.feed.P.si
        else:
            pressure = sum(mixture.concentrations.values()) * GAS_CONSTANT * T if self.P is None else self.P.si
        found: dict[sp.Symbol, Number] = {
            KLA: given.get("kLa", self.kLa.si),
            GAS_RATIO: share / (1 - share),
            HEAD: head,
            GAS_P: given.get("gas P", pressure),
            GAS_FEED_T: own.si if own is not None else T,
        }
        found |= {GAS_FED(s): c * mixture.volume for s, c in mixture.concentrations.items()}
        whole = sum(mixture.concentrations.values())
        first = found[GAS_P] / (T * GAS_CONSTANT)
        found |= {GAS_START(s): c / whole * first for s, c in mixture.concentrations.items()}
        found[GAS_START_P] = found[GAS_P]
        found |= {KLA_RATIO(s): ratio.si for s, ratio in self.kLa_ratio.items()}
        for name, held in self.henry.items():
            for which, value in held.parts().items():
                found[_henry_symbol(name, which)] = given.get(_henry_name(name, which), si(value))
        if self.kL is not None:
            found[FILM_COEFFICIENT] = self.kL.si
        for name, reaction in self.film.items():
            other = reaction.partner_diffusivity or reaction.diffusivity
            found |= {DIFFUSIVITY(name): reaction.diffusivity.si, PARTNER_DIFFUSIVITY(name): other.si}
        return found

    def mixture(self, species: ByName, given: Mapping[str, Number], T: Value | None) -> Mixture:
        """The mixture of its feed; of one without a flow, one mol/s."""
        if not self.has_flow:
            found: Mixture = self.feed.mixture([Value(1.0, "mol/s")], species, T, self.P, None)
            return found
        feed = self.feed if self.feed.T is not None or T is None else replace(self.feed, T=T)
        return feed.mixture(species, {"flow": given["gas flow"]} if "gas flow" in given else {})  # type: ignore[no-any-return]

    def conditions(self) -> Iterator[tuple[str, str, Entry | None, Callable[[QuantityLike], GasPhase]]]:
        """Its conditions by name: the kind of quantity, its value, and a function that makes it with another."""
        yield "kLa", "transfer coefficient", self.kLa, lambda v: replace(self, kLa=v)
        yield "holdup", "number", self.holdup, lambda v: replace(self, holdup=v)
        yield "gas P", "pressure", self.P or (self.feed.P if self.has_flow else None), lambda v: replace(self, P=v)
        for name, held in self.henry.items():
            for which, value in held.parts().items():
                yield _henry_name(name, which), "", value, self._put(name, which)

    def _put(self, name: str, part: str) -> Callable[[QuantityLike], GasPhase]:
        def put(value: QuantityLike) -> GasPhase:
            held = self.henry[name]
            changed = held.with_parts({**held.parts(), part: units.read(value, name=name)})
            return replace(self, henry={**self.henry, name: changed})

        return put

    def __str__(self) -> str:
        parts = [f"gas {self.feed}{'' if self.has_flow else ' supplied as it is absorbed'}", f"kLa {self.kLa}"]
        parts += [f"Henry's constant of {s} {held}" for s, held in self.henry.items()]
        parts += [f"at {self.P}"] if self.P is not None else []
        parts += [f"{name} in the film: {one}" for name, one in self.film.items()]
        return ", ".join(parts)


def _henry_name(species: str, part: str) -> str:
    return f"Henry's constant of {species}" + (f".{part}" if part else "")


def _henry_symbol(species: str, part: str) -> sp.Symbol:
    return HENRY(f"{species}.{part}" if part else species)
