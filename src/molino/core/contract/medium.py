"""The fluid in a vessel: phase, enthalpies and properties."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import sympy as sp

from molino.core import units
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.species import Species
from molino.core.contents.feed import equation_of, is_molar, is_real, volume_model
from molino.core.contents.streams import Fluid
from molino.core.contract.definition import Definition
from molino.core.dual import Number
from molino.core.errors import InputError
from molino.core.terms.catalyst import NO_CATALYST
from molino.core.terms.model import ModelKey
from molino.core.thermo.activity import ActivityModel
from molino.core.thermo.energy import CAPACITY, Energy, enthalpies, moved_references
from molino.core.thermo.phase_model import MODELS, PhaseModel, RealGas, molar_volume
from molino.core.unit_tables import SI_UNITS


class Medium(Definition):
    """The fluid in a vessel as its definition and its chemistry give it."""

    @cached_property
    def species_by_name(self) -> dict[str, Species]:
        """The species of its chemistry."""
        return {s.name: s for s in self.chemistry.species}

    @cached_property
    def thermal(self) -> tuple[Energy, dict[sp.Symbol, float]] | InputError:
        """The enthalpies of its species, or the missing properties."""
        given, per = self.mixture_capacity, None
        if given is not None:
            molar = units.unit(SI_UNITS["heat capacity"]).dimension
            bare_gas = given.unit is None and self.is_gas
            per = "mole" if bare_gas or (given.unit and units.unit(given.unit).dimension == molar) else "volume"
        if per == "volume" and (self.is_gas or volume_model(self.fluid_model) == "additive volumes"):
            message = "a heat capacity per volume belongs to a liquid of constant density"
            return InputError(message, "heat_capacity", "give it per mole, or one to each species")
        found = enthalpies(self.chemistry, per, given.si if given is not None else 0.0)
        if isinstance(found, InputError):
            return found
        return found[0], found[1] | ({CAPACITY: given.si} if given is not None else {})

    def require_energy(self) -> None:
        """Raise InputError with the properties that are missing for an energy balance."""
        if isinstance(self.thermal, InputError):
            raise self.thermal
        if self.first_T is None:
            raise InputError("no temperature is given, and heat depends on it", self.label, "give T")

    @cached_property
    def phase(self) -> PhaseModel:
        """The contents that it is filled with."""
        thermal = self.thermal
        energy = None if isinstance(thermal, InputError) or self.first_T is None else thermal[0]
        if is_real(self.fluid_model):
            equation = equation_of(self.fluid_model, self.species_by_name)
            return PhaseModel(self.chemistry.names, equation.form, energy, RealGas.of(equation))
        model = volume_model(self.fluid_model) or MODELS[2 if self.is_gas else 0]
        activity = self.activity_model.numbers if self.activity_model is not None else None
        expansions = self.expansions if model == MODELS[1] else ()
        return PhaseModel(self.chemistry.names, model, energy, None, activity, expansions)

    @property
    def expansions(self) -> tuple[sp.Expr, ...]:
        """The expansion coefficients of species whose molar volume changes with temperature."""
        if all(s.rackett_factor is None for s in self.chemistry.species):
            return ()
        return tuple(sp.sympify(s.expansion(TEMPERATURE)) for s in self.chemistry.species)

    @cached_property
    def activity_model(self) -> ActivityModel | None:
        """The activity model of its liquid over all its species, if given."""
        given = self.fluid_model
        return given.over(self.chemistry.species) if isinstance(given, ActivityModel) else None

    @cached_property
    def key(self) -> ModelKey:
        """The properties that determine the form of its balances."""
        form = self.vessel.catalyst.form if self.vessel.catalyst is not None else NO_CATALYST
        return ModelKey(self.chemistry.network, self.phase, self.heat_shape, form)

    def property_numbers(self, given: Mapping[str, Number]) -> dict[sp.Symbol, Number]:
        """The parameters that come with catalyst, heat and the properties of the species."""
        vessel = self.vessel
        found: dict[sp.Symbol, Number] = {}
        if self.phase.model == "additive volumes":
            found = {
                molar_volume(s.name): s.require("molar_volume", "an additive liquid").si for s in self.chemistry.species
            }
        if not isinstance(self.thermal, InputError):
            found |= moved_references(self.chemistry, self.thermal[1], given)
        found |= vessel.heat.numbers(given) if vessel.heat is not None else {}
        return found | (vessel.catalyst.numbers() if vessel.catalyst is not None else {})

    @cached_property
    def fluid(self) -> Fluid:
        """The fluid of its streams."""
        numbers = {} if isinstance(self.thermal, InputError) else self.thermal[1]
        if self.phase.model == "additive volumes":
            numbers = numbers | {s: float(v) for s, v in self.property_numbers({}).items()}
        density = self.density.si if self.density is not None and not is_molar(self.density) else None
        lacks = self.thermal if isinstance(self.thermal, InputError) else None
        return Fluid(self.label, self.phase, numbers, self.chemistry.species, density, lacks)
