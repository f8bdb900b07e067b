"""Membranes: species that permeate through the wall of a vessel."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import (
    FLOW,
    FLUX,
    FLUX_CONSTANT,
    INLET,
    PERMEATE_FLOW,
    PERMEATE_P,
    PERMEATE_VOLUME,
    SWEEP,
    SWEEP_FLOW,
    WALL_AREA,
)
from molino.core.balances.system import ZERO, State
from molino.core.chemistry.constants import Constant, Unknown, read_constant
from molino.core.chemistry.dimensions import check_dimensions
from molino.core.chemistry.formula import (
    GAS,
    PRESSURE,
    TEMPERATURE,
    constant,
    names_in,
    on_this_side,
    parse_formula,
    species_beyond,
    species_in,
)
from molino.core.contents.feed import Feed
from molino.core.contents.mixture_equations import Mixture
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, quantity, read_fields
from molino.core.symbols import Quantity, in_order
from molino.core.terms.model import Reading
from molino.core.terms.terms import Contribution, Crossing, Place
from molino.core.thermo.phase_model import Content
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value

_KINDS = {"": "concentration", "p": "pressure", "x": "number"}


def other_side(flux: Mapping[str, str]) -> dict[str, str]:
    """The kind of quantity that the formulas use for each species on the other side.

    Raises
    ------
    InputError
        If a formula cannot be read, or a species is used in two forms.
    """
    faults, found = Faults(), dict[str, str]()
    for text in flux.values():
        with faults.at("membrane"):
            for symbol in in_order(parse_formula(text, both_sides=True).free_symbols):
                kind, species = species_beyond(symbol) or ("", "")
                if species and found.setdefault(species, _KINDS[kind]) != _KINDS[kind]:
                    message = f"{species} beyond the wall is used in two forms"
                    raise InputError(message, "", f"write it as [{species}]' or p[{species}]' throughout")
    faults.raise_any()
    return found


@dataclass(frozen=True, eq=False)
class Membrane(Frozen, Printed):
    """A thin wall of a tube or tank through which species permeate.

    dF_i/dV = sum_j nu_ij r_j - a J_i along a tube, - A J_i in a tank, with the flux J_i out of the vessel by its own
    rate law of the compositions on both sides (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016,
    section 6.4). The permeate has the temperature of the vessel and transports its enthalpy; for a liquid of constant
    density it transports no volume.

    Parameters
    ----------
    flux : mapping of species to formula
        In mol/(m^2 s), {"H2": "L*(p[H2] - p[H2]')"}: [A], p[A] or x[A] is in the vessel, with a prime beyond the wall.
    constants : mapping of name to quantity, Arrhenius, ...
        The constants of the formulas, {"L": "2e-6 mol/m2/s/Pa"}.
    outside : mapping of species to quantity, optional
        The fixed composition on the other side, in the form of the formula, {"H2": "0.1 bar"}. Needed for every primed
        species, unless there is a sweep.
    sweep : Feed, optional
        Along a tube: the stream on the other side, co-current, which takes up the permeate. Its species are those of
        the chemistry; the other side has its pressure and the temperature of the tube.
    area : area, optional
        Of the whole membrane; along a tube by default the wall of all tubes.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> chemistry = mo.Chemistry(mo.Reaction("A <=> B + H2", k="0.7 1/min", K="50 mol/m3"))
    >>> feed = mo.Feed({"A": "10 mol/min"}, T="500 K", P="8.2 atm")
    >>> wall = mo.Membrane({"H2": "k*[H2]"}, {"k": "0.02 m/min"}, area="5 m2")
    >>> tube = mo.PlugFlow(chemistry, feed, volume="0.5 m3", wall=wall)
    >>> [stream.name for stream in tube.run().streams_out()]
    ['outlet', 'permeate']
    """

    flux: Mapping[str, str]
    constants: ByName = field(default_factory=dict)
    outside: ByName = field(default_factory=dict)
    sweep: Feed | None = None
    area: QuantityField = quantity("area")

    def __post_init__(self) -> None:
        faults = Faults()
        if not isinstance(self.flux, Mapping) or not self.flux:
            advice = """write mo.Membrane({"H2": "L*(p[H2] - p[H2]')"}, {"L": "2e-6 mol/m2/s/Pa"})"""
            raise InputError("no flux is given", "membrane", advice)
        settle(self, flux=FrozenMapping(self.flux), constants=FrozenMapping(self._read_constants(faults)))
        read_fields(self, faults, "membrane")
        if self.sweep is not None and not isinstance(self.sweep, Feed):
            faults.add("membrane", f"the sweep {self.sweep!r} is not a feed", "give mo.Feed(...)")
        for species, text in self.flux.items():
            with faults.at(f"membrane, flux of {species}"):
                self._check_flux(parse_formula(text, both_sides=True))
        faults.raise_any()
        self._check_names()
        settle(self, outside=FrozenMapping(self._read_outside()))

    def _read_constants(self, faults: Faults) -> dict[str, Constant]:
        found = {}
        for name, given in dict(self.constants).items():
            with faults.at("membrane"):
                found[name] = read_constant(given, name)
                if any(isinstance(part, Unknown) for part in found[name].parts().values()):
                    raise InputError("the flux through a membrane is not fitted", name, "give a number")
        return found

    def _check_flux(self, flux: sp.Expr) -> None:
        """Raise UnitError for a flux that is not in mol/(m2 s)."""
        faces = {s: constant(f"{on_this_side(*kind)}'") for s in flux.free_symbols if (kind := species_beyond(s))}
        known = {name: units.unit(c.unit).dimension if c.unit else None for name, c in self.constants.items()}
        like = {"": "mol/m^3", "p": "Pa", "x": ""}
        known |= {
            str(c.owner): units.unit(like[kind[0]]).dimension for s, c in faces.items() if (kind := species_beyond(s))
        }
        numbers = {name: part.si for name, c in self.constants.items() if isinstance(part := c.parts().get(""), Value)}
        check_dimensions(flux.xreplace(faces), known, numbers, units.unit("mol/m^2/s").dimension)

    def _check_names(self) -> None:
        """Raise InputError for constants that are missing or unused."""
        faults, asked = Faults(), {name for flux in self._fluxes.values() for name in names_in(flux)}
        for name in sorted(asked - self.constants.keys()):
            faults.add("membrane", f"the constant {name} has no value", f"give constants={{'{name}': ...}}")
        for name in sorted(self.constants.keys() - asked):
            faults.add("membrane", f"no flux uses the constant {name}", nearest(name, asked, "leave it out"))
        faults.raise_any()

    def _read_outside(self) -> dict[str, Value]:
        """The fixed composition on the other side, in SI."""
        faults, found = Faults(), dict[str, Value]()
        wanted = {} if self.sweep is not None else other_side(self.flux)
        if self.sweep is not None and self.outside:
            faults.add(
                "membrane",
                "both outside and sweep are given",
                "give one of them: the composition there follows from the sweep",
            )
        for species, given in self.outside.items():
            if species not in wanted and self.sweep is None:
                faults.add("membrane, outside", f"no flux uses {species} there", nearest(species, wanted))
                continue
            with faults.at("membrane, outside"):
                found[species] = units.positive(given, wanted.get(species, "number"), species, zero=True)
        for species in sorted(wanted.keys() - self.outside.keys()):
            advice = f"give outside={{'{species}': ...}} (0 if it is removed at once), or a sweep"
            faults.add("membrane", f"the content of {species} beyond the wall is not given", advice)
        faults.raise_any()
        return found

    @cached_property
    def _fluxes(self) -> dict[str, sp.Expr]:
        return {species: parse_formula(text, both_sides=True) for species, text in self.flux.items()}

    @property
    def _beyond(self) -> list[sp.Symbol]:
        """The symbols of the other side in the fluxes."""
        found = {s for flux in self._fluxes.values() for s in flux.free_symbols if species_beyond(s)}
        return in_order(found)

    def check(self, species: tuple[str, ...], is_gas: bool) -> None:
        """Raise InputError for species that the chemistry does not have, and for pressures in a liquid.

        A tank refuses a `sweep` itself.
        """
        faults, asked = Faults(), {*self.flux, *(self.sweep.contents if self.sweep is not None else ())}
        symbols = {s for flux in self._fluxes.values() for s in flux.free_symbols}
        kinds = [kind for s in symbols if (kind := species_in(s) or species_beyond(s))]
        for name in sorted((asked | {name for _, name in kinds}) - {*species}):
            advice = nearest(name, species, "declare it: Chemistry(..., species=[...])")
            faults.add("membrane", f"the chemistry has no species {name}", advice)
        if not is_gas and (PRESSURE in symbols or any(kind in ("p", "f") for kind, _ in kinds)):
            faults.add("membrane", "a flux uses pressures, but this vessel holds a liquid", "write it with [A]")
        if self.sweep is not None and self.sweep.is_gas != is_gas:
            faults.add("membrane, sweep", "one side is a gas and the other a liquid", "give both alike")
        if self.sweep is not None and self.sweep.flow is None and not self.sweep.contents.flowing:
            faults.add("membrane, sweep", "the flow is not given", "give flow=...")
        faults.raise_any()

    def term(self, species: tuple[str, ...], along: bool) -> Wall:
        """Its term in the balances."""
        fluxes = tuple(self._expression(self._fluxes[s]) if s in self._fluxes else ZERO for s in species)
        return Wall(
            species,
            fluxes,
            tuple(self._constants),
            self.sweep is not None,
            self.sweep is not None and self.sweep.is_gas,
            along,
        )

    def _expression(self, flux: sp.Expr) -> sp.Expr:
        """A flux with its constants as parameters of the balances."""
        laws: dict[sp.Symbol, sp.Expr] = {
            constant(name): held.expression({part: _part(name, part) for part in held.parts()})
            for name, held in self.constants.items()
        }
        return flux.xreplace(laws | {GAS: GAS_CONSTANT})

    @cached_property
    def _constants(self) -> dict[Quantity, float]:
        """The parameters of the fluxes, in SI."""
        return {
            _part(name, part): value.si for name, held in self.constants.items() for part, value in held.parts().items()
        }

    def conditions(self) -> dict[str, tuple[str, Value, Callable[[QuantityLike], Membrane]]]:
        """Its conditions by name: the kind of quantity, its value, and a function that makes the membrane with
        another."""
        found = {}
        if self.area is not None:
            found["membrane area"] = ("area", self.area, lambda value: replace(self, area=value))
        for name, held in self.constants.items():
            for part, value in held.parts().items():
                found[f"membrane {_part(name, part).owner}"] = ("", value, self._put(name, part))
        return found

    def _put(self, name: str, part: str) -> Callable[[QuantityLike], Membrane]:
        def put(value: QuantityLike) -> Membrane:
            held = self.constants[name]
            changed = held.with_parts({**held.parts(), part: units.read(value, name=name)})
            return replace(self, constants={**self.constants, name: changed})

        return put

    def numbers(
        self, given: Mapping[str, Number], own_area: Number, size: Number, swept: Mixture | None
    ) -> dict[sp.Symbol, Number]:
        """The parameters it sets, in SI.

        Parameters
        ----------
        given : conditions by name that replace its own
        own_area : area per volume of the wall of a tube; used if no area is given
        size : the divisor of its area: the volume of a tube, or 1
        swept : the sweep computed
        """
        area = given.get("membrane area", self.area.si) / size if self.area is not None else own_area
        found: dict[sp.Symbol, Number] = {WALL_AREA: area}
        found |= {s: given.get(f"membrane {s.owner}", value) for s, value in self._constants.items()}
        for symbol in self._beyond:
            kind = species_beyond(symbol)
            if kind is not None and kind[1] in self.outside:
                found[symbol] = self.outside[kind[1]].si
        if swept is not None and self.sweep is not None:
            found |= {SWEEP(s): c * swept.volume for s, c in swept.concentrations.items()}
            found |= {SWEEP_FLOW: swept.volume, PERMEATE_P: self.sweep.pressure(swept, {})}
        return found

    def __str__(self) -> str:
        parts = [f"J of {species} = {text}" for species, text in self.flux.items()]
        parts += [f"{name} {held}" for name, held in self.constants.items()]
        parts += [f"{species} outside {value}" for species, value in self.outside.items()]
        parts += [f"area {self.area}"] if self.area is not None else []
        parts += [f"swept by {self.sweep}"] if self.sweep is not None else []
        return "membrane: " + ", ".join(parts)


def _part(name: str, part: str) -> Quantity:
    return FLUX_CONSTANT(f"{name}.{part}" if part else name)


@dataclass(frozen=True)
class Wall:
    """The term of a membrane: -A J_i to each species, with the flows beyond the wall along a tube.

    Attributes
    ----------
    species : tuple of str
    fluxes : tuple of expressions
        Out of the vessel, in mol/(m^2 s); zero for species that do not permeate.
    constants : tuple of Symbol
    is_swept, is_gas : bool
        Whether there is a stream on the other side, and whether it is a gas.
    along : bool
        Whether it is along a tube.
    """

    species: tuple[str, ...]
    fluxes: tuple[sp.Expr, ...]
    constants: tuple[sp.Symbol, ...]
    is_swept: bool
    is_gas: bool
    along: bool

    @property
    def asked(self) -> frozenset[sp.Symbol]:
        """The symbols of the composition in the fluxes."""
        return frozenset(s for flux in self.fluxes for s in flux.free_symbols if species_in(s) is not None)

    def __call__(self, place: Place) -> Contribution:
        fluxes = {s: flux for s, flux in zip(self.species, self.fluxes, strict=True) if flux != 0}
        beyond = in_order({s for flux in fluxes.values() for s in flux.free_symbols if species_beyond(s)})
        definitions: list[tuple[sp.Symbol, sp.Expr]] = self._other_side(place, beyond) if self.is_swept else []
        definitions += [(FLUX(s), flux) for s, flux in fluxes.items()]
        through = tuple(WALL_AREA * FLUX(s) if s in fluxes else ZERO for s in self.species)
        taken = None
        if place.key.has_energy:
            phase = place.key.phase
            taken = phase.enthalpy(Content(phase, through, TEMPERATURE, PRESSURE), ZERO)
        readings = {f"flux of {s}": Reading(FLUX(s), "flux", f"flux of {s}") for s in fluxes}
        parameters = [WALL_AREA, *self.constants, *([] if self.is_swept else beyond)]
        states: tuple[tuple[State, sp.Expr], ...] = ()
        entered: tuple[sp.Expr, ...] = ()
        left = through
        if self.along:
            scale = FLOW * sp.Add(*(INLET(s) for s in self.species))
            first = {s: SWEEP(s) if self.is_swept else ZERO for s in self.species}
            carried = self.species if self.is_swept else tuple(fluxes)
            states = tuple(
                (
                    State(f"{s} in the permeate", PERMEATE_FLOW(s), "molar flow through a wall", first[s], scale),
                    WALL_AREA * FLUX(s) if s in fluxes else ZERO,
                )
                for s in carried
            )
            left = tuple(PERMEATE_FLOW(s) if s in carried else ZERO for s in self.species)
            readings |= {
                f"permeate flow of {s}": Reading(PERMEATE_FLOW(s), "molar flow", f"{s} permeate") for s in carried
            }
            if self.is_swept:
                entered = tuple(SWEEP(s) for s in self.species)
                parameters += [*entered, SWEEP_FLOW, *([PERMEATE_P] if self.is_gas else [])]
        return Contribution(
            "membrane",
            tuple(-e for e in through),
            crossings=(Crossing("out", through, taken),),
            states=states,
            definitions=tuple(definitions),
            parameters=tuple(parameters),
            readings=readings,
            entered=entered,
            left=left if self.along else (),
            leaves=("permeate", left),
            leaving_P=PERMEATE_P if self.is_swept and self.is_gas else None,
        )

    def _other_side(self, place: Place, asked: list[sp.Symbol]) -> list[tuple[sp.Symbol, sp.Expr]]:
        """The composition beyond the wall from the flows there: an ideal gas, or a liquid of constant volume."""
        whole = sp.Add(*(PERMEATE_FLOW(s) for s in self.species))
        volume = whole * GAS_CONSTANT * TEMPERATURE / PERMEATE_P if self.is_gas else SWEEP_FLOW
        found: list[tuple[sp.Symbol, sp.Expr]] = [(PERMEATE_VOLUME, volume)]
        for symbol in asked:
            kind, species = species_beyond(symbol) or ("", "")
            own = PERMEATE_FLOW(species)
            by_kind = {"": own / PERMEATE_VOLUME, "x": own / whole, "p": own / whole * PERMEATE_P}
            found.append((symbol, by_kind[kind]))
        return found
