"""The base of vessels that are charged at the start: batch and semi-batch."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import ClassVar, Self

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contents.feed import mixture_of, portions_in, replaced
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.run_result import RunResult
from molino.core.contract.specification import Specification
from molino.core.contract.vessel import Vessel
from molino.core.contract.vessel_fields import VesselFields
from molino.core.dual import Number
from molino.core.errors import InputError
from molino.core.safety.cooling_failure import CoolingFailure
from molino.core.schema import ReadField
from molino.core.terms.heat import Profile
from molino.core.units import QuantityLike, Value


class ChargedSpecification(Specification):
    """The specification of a ChargedVessel."""

    vessel: ChargedVessel

    has_history: ClassVar[bool] = True
    run_metrics: ClassVar[ByName] = dict.fromkeys(
        ("adiabatic rise", "temperature after cooling failure", "time to maximum rate"), CoolingFailure
    )

    @property
    def fluid_model(self) -> object:
        return self.vessel.model

    @property
    def mixture_capacity(self) -> Value | None:
        return self.vessel.heat_capacity  # type: ignore[no-any-return]

    @property
    def density(self) -> Value | None:
        return self.vessel.density  # type: ignore[no-any-return]

    @property
    def profile(self) -> PiecewiseLinear:
        """The temperature profile over time."""
        return self.vessel.heat.piecewise("time", self.label)  # type: ignore[no-any-return]

    @property
    def first_T(self) -> Value | None:
        return Value(self.profile.after(0.0)) if isinstance(self.vessel.heat, Profile) else self.vessel.T

    def start_T(self, given: Mapping[str, Number]) -> Number:
        own = self.first_T
        return given.get("T", own.si if own is not None else np.nan)

    def is_independent(self, name: str) -> bool:
        """Also the temperature of a liquid that is constant: it changes neither the charge nor the form of the
        balances."""
        vessel = self.vessel
        is_liquid = vessel.model is None and not self.is_gas
        holds = name == "T" and vessel.heat is None and vessel.T is not None and is_liquid
        return super().is_independent(name) or holds

    def charge_pressure(self, given: Mapping[str, Number]) -> Value | None:
        """The pressure of a gas that is charged."""
        return None

    def mixture(self, given: Mapping[str, Number]) -> Mixture:
        vessel = self.vessel
        contents = vessel.charge.with_numbers(portions_in(given))
        T, P = replaced(self.first_T, given, "T"), self.charge_pressure(given)
        totals = [replaced(vessel.volume, given, "volume"), vessel.total]
        return mixture_of(contents, totals, self.species_by_name, T, P, vessel.density, vessel.model)

    def moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        found = super().moving_numbers()
        return found | {TEMPERATURE: self.profile} if isinstance(self.vessel.heat, Profile) else found

    def end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        return given.get("time", self.vessel.time.si if self.vessel.time is not None else np.nan)

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return self.vessel.charge.given()  # type: ignore[no-any-return]

    def contents(self) -> Contents:
        return self.vessel.charge  # type: ignore[no-any-return]

    def with_contents(self, contents: Contents) -> VesselFields:
        return self.vessel.with_(charge=contents)

    def stream_in(self, run: RunResult) -> Stream:
        amounts = run.inlet_amounts()
        T = float(run.temperatures[0]) if run.has_temperature else np.nan
        return Stream("charge", amounts, float(self.fed.volume), T, run.first_pressure(), False)


class ChargedVessel(Vessel):
    """A vessel with a charge and a time."""

    charge: ReadField
    T: ReadField
    volume: ReadField
    time: ReadField
    total: ReadField
    density: ReadField
    heat_capacity: ReadField
    model: ReadField

    @cached_property
    def spec(self) -> ChargedSpecification:
        raise NotImplementedError

    def _at_time(self, time: QuantityLike | None, missing: tuple[str, str]) -> Self:
        """The vessel with its own time, or with another one."""
        given = self.time if time is None else units.positive(time, "time", f"{self.label}, time")
        if given is None:
            raise InputError(missing[0], self.label, missing[1])
        return self if time is None else self.with_(time=given)


def read_total(given: object) -> Value:
    """The amount or mass of a whole charge."""
    value = units.read(given, name="total")
    is_mass = value.unit is not None and units.unit(value.unit).dimension == units.unit("kg").dimension
    return units.positive(value, "mass" if is_mass else "amount", "total")
