"""What all vessels share: contents, kinetics, one balance, and the numbers that go into them."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import fields, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.system import Case
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.reaction import BASES
from molino.core.chemistry.species import Species
from molino.core.chemistry.typeset import Equations
from molino.core.errors import Faults, InputError
from molino.core.printing import Printed
from molino.core.thermo.energy import CAPACITY, Energy, references, shape_of
from molino.core.thermo.medium import MODELS, Medium, RealGas, molar_volume
from molino.core.units import GAS_CONSTANT, Display, Value
from molino.core.vessels.catalyst import NO_CATALYST, Catalyst, check_catalyst
from molino.core.vessels.equations import vessel_equations
from molino.core.vessels.feed import check_contents, equation_of, inlet_symbol, is_real
from molino.core.vessels.heat import COOLANT, Adiabatic, HeatShape, Jacket, Programme, read_heat
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.review import VesselReview, review_vessel
from molino.core.vessels.schedule import Track
from molino.core.vessels.writing import Setup, Written

if TYPE_CHECKING:
    from molino.core.vessels.metrics import Metric
    from molino.core.vessels.run import Run


class Vessel(Printed):
    """Base of the vessels; each is a frozen dataclass with `chemistry`, and `with_` makes a changed one."""

    noun: ClassVar[str]
    """What it is called in messages."""
    sizes: ClassVar[tuple[str, ...]]
    """What of it `size` can vary."""
    name: str
    chemistry: Chemistry
    catalyst: Catalyst | None
    heat: Any
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
    def model(self) -> Any:
        """How its volume follows from what there is, as it was given; None is a liquid, or an ideal gas."""
        return self.feed.model  # type: ignore[attr-defined]

    @property
    def mixture_capacity(self) -> Value | None:
        """The heat capacity of the whole mixture, where one was given."""
        return self.feed.heat_capacity  # type: ignore[attr-defined,no-any-return]

    @property
    def gas(self) -> bool:
        """Whether it holds a gas rather than a liquid."""
        return self.feed.is_gas  # type: ignore[attr-defined,no-any-return]

    @property
    def start_T(self) -> Value | None:
        """Temperature at the start or inlet, None where it is not given."""
        raise NotImplementedError

    @property
    def heat_shape(self) -> HeatShape:
        """What of the heat changes the form of its balances."""
        return self.heat.shape if self.heat is not None else HeatShape()

    @cached_property
    def _thermal(self) -> tuple[Energy, dict[sp.Symbol, float]] | InputError:
        """The enthalpies of its species, or what they lack."""
        given = self.mixture_capacity
        per = None
        if given is not None:
            molar = units.unit(units.SI_UNITS["heat capacity"]).dimension
            bare_gas = given.unit is None and self.gas
            per = "mole" if bare_gas or (given.unit and units.unit(given.unit).dimension == molar) else "volume"
        try:
            if per == "volume" and (self.gas or self.model == "additive volumes"):
                said = "a heat capacity per volume belongs to a liquid of constant density"
                raise InputError(said, "heat_capacity", "give it per mole, or one to each species")
            energy = shape_of(self.chemistry, per)
            numbers = references(self.chemistry, energy, given.si if given is not None else 0.0)
        except InputError as error:
            return error
        return energy, numbers | ({CAPACITY: given.si} if given is not None else {})

    def require_heat(self) -> None:
        """Raise InputError with what the species and reactions lack for an energy balance."""
        if isinstance(self._thermal, InputError):
            raise self._thermal
        if self.start_T is None:
            raise InputError("no temperature is given, and heat hangs on it", self.label, "give T")

    @cached_property
    def medium(self) -> Medium:
        """What it is filled with."""
        thermal = self._thermal
        energy = None if isinstance(thermal, InputError) or self.start_T is None else thermal[0]
        if is_real(self.model):
            equation = equation_of(self.model, self.by_name)
            return Medium(self.chemistry.names, equation.form, energy, RealGas.of(equation))
        return Medium(self.chemistry.names, self.model or MODELS[2 if self.gas else 0], energy)

    @cached_property
    def setup(self) -> Setup:
        """All that changes the form of its balances."""
        form = self.catalyst.form if self.catalyst is not None else NO_CATALYST
        return Setup(self.chemistry.structure, self.medium, self.heat_shape, form)

    def property_numbers(self) -> dict[sp.Symbol, float]:
        """The parameters that come with catalyst, heat and the properties of the species."""
        found: dict[sp.Symbol, float] = {}
        if self.medium.model == "additive volumes":
            found = {
                molar_volume(s.name): s.require("molar_volume", "an additive liquid").si for s in self.chemistry.species
            }
        if not isinstance(self._thermal, InputError):
            found |= self._thermal[1]
        found |= self.heat.numbers() if self.heat is not None else {}
        return found | (self.catalyst.numbers() if self.catalyst is not None else {})

    def tracks(self) -> dict[sp.Symbol, Track]:
        """The numbers that change while it runs."""
        if isinstance(self.heat, Jacket) and isinstance(self.heat.T, Track):
            return {COOLANT: self.heat.T}
        return {}

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

    def conserved(self) -> dict[str, np.ndarray]:
        """What no reaction changes: the invariants of the chemistry, and mass where every species has one."""
        found = dict(self.chemistry.invariants())
        if all(s.formula is not None or s.molar_mass is not None for s in self.chemistry.species):
            masses = [s.require("molar_mass", "the balance of mass").si for s in self.chemistry.species]
            found["mass"] = np.array(masses)
        return found

    def goes_in(self, species: str) -> bool:
        """Whether some of a species is fed or charged."""
        return self.inlet().get(species, 0.0) > 0

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
        numbers |= {inlet_symbol(s): species.get(s, 0.0) for s in self.chemistry.names}
        numbers |= self.property_numbers() | self.numbers()
        balances = self.written.balances
        return Case(balances, tuple(float(numbers.get(p, 0.0)) for p in balances.parameters))

    @cached_property
    def display(self) -> Display:
        """The units in which its results are shown."""
        with_units = any(p.unit is not None for p in self.chemistry.parameters)
        return Display.of(self.given(), self.show, with_units)

    @property
    def is_staged(self) -> bool:
        """Whether numbers change while it runs, so that a run goes by stages."""
        return bool(self.tracks())

    @property
    def moves_T(self) -> bool:
        """Whether its temperature is an unknown of the balances."""
        return self.heat_shape.moves

    @property
    def rate_kinds(self) -> dict[str, str]:
        """The kind of quantity of each rate that results show, by its name there."""
        return {f"rate of {r.name}": BASES[r.basis] for r in self.chemistry.reactions}

    def inlet_flows(self) -> dict[str, float]:
        """Molar flows of the feed (amounts of the charge) by species."""
        return {s: self.inlet().get(s, 0.0) * self.fed.volume for s in self.chemistry.names}

    def feed_pressure(self) -> float:
        """Pressure of the feed in Pa: that given, or of an ideal gas sum(c) R T; nan for a liquid without one."""
        feed = self.feed  # type: ignore[attr-defined]
        if feed.P is not None:
            return float(feed.P.si)
        return float(sum(self.inlet().values()) * GAS_CONSTANT * feed.T.si) if self.gas else math.nan

    def adiabatic_rise(self, reaction: str | None = None) -> float:
        """Adiabatic temperature rise in K of what is fed or charged: by how much one reaction would warm it.

        At constant pressure, from its own temperature to that at which the enthalpy is the same with the reactant that
        runs out first gone; negative where heat is taken up.

        Parameters
        ----------
        reaction : str, optional
            Its name; may be left out where there is only one.

        Raises
        ------
        InputError
            If there is no such reaction, no temperature, nothing that reacts, or with what the species lack.
        """
        from molino.core.vessels.streams import adiabatic_rise

        return adiabatic_rise(self, reaction)

    def expression(self, metric: Metric) -> sp.Expr:
        """A metric over the states and parameters of this vessel; InputError if it cannot be told of it."""
        found = metric.expression(self.chemistry.structure, self.written)
        for species in metric.reactants:
            if not self.goes_in(species):
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


def settle_heat(faults: Faults, vessel: Vessel) -> None:
    """Read what is said of heat."""
    with faults.at():
        object.__setattr__(vessel, "heat", read_heat(vessel.heat, vessel.label))


def check_programme(T: Any, track: Track) -> None:
    """Raise InputError where a temperature is given beside a programme of it, which has been read."""
    if T is not None:
        raise InputError(
            f"both T and a temperature programme from {track.after(0.0):g} K are given", "", "give one of them"
        )


def check_vessel(
    faults: Faults, vessel: Vessel, species: Iterable[str] | None, temperature: Value | None, asks: str = "T"
) -> None:
    """What holds for every vessel: known species, something that reacts, a temperature and heats where needed.

    `asks` says which temperature it is.
    """
    if species is not None:
        with faults.at():
            check_contents(species, vessel.chemistry, vessel.label)
        if not faults.found:
            with faults.at(vessel.label):
                object.__setattr__(vessel, "fed", vessel.mixture())
    structure = vessel.chemistry.structure
    with faults.at(vessel.label):
        check_catalyst(structure, vessel.catalyst)
    if structure.by_temperature and temperature is None and not isinstance(vessel.heat, Programme):
        said = f"no temperature is given, and {', '.join(structure.by_temperature)} depends on it"
        faults.add(vessel.label, said, f"give {asks}, like '175 degC'")
    elif temperature is None and isinstance(vessel.heat, Adiabatic | Jacket):
        faults.add(vessel.label, "no temperature is given for the energy balance", f"give {asks}, like '175 degC'")
    if structure.by_pressure and species is not None and not vessel.gas:
        said = f"a rate law asks for the pressure {', '.join(structure.by_pressure)}, but this vessel holds a liquid"
        faults.add(vessel.label, said, "give P of a gas (in the feed or charge), or write it with concentrations")
    if not faults.found and not isinstance(vessel.heat, Programme | None):
        with faults.at(vessel.label):
            vessel.require_heat()
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


def volume_of_catalyst(vessel: Vessel) -> None:
    """Raise InputError where a mass of catalyst is given that says nothing of the volume."""
    if getattr(vessel, "catalyst_mass", None) is not None and (
        vessel.catalyst is None or vessel.catalyst.bulk_density is None
    ):
        said = "a catalyst mass is given, and the catalyst has no bulk density"
        raise InputError(said, "", "give catalyst=mo.Catalyst(bulk_density='850 kg/m3')")
