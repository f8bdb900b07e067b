"""What vessels have in common that are charged at the start: batch and semi-batch."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.dual import Number
from molino.core.errors import InputError
from molino.core.units import Value
from molino.core.vessels.base import Vessel
from molino.core.vessels.feed import mixture_of, portions_in, replaced
from molino.core.vessels.heat import Profile
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.piecewise_linear import PiecewiseLinear
from molino.core.vessels.streams import Stream

if TYPE_CHECKING:
    from molino.core.vessels.run import Run


class ChargedVessel(Vessel):
    """A vessel with a charge, and a time that it runs for."""

    _keeps_history: ClassVar[bool] = True
    _run_metrics: ClassVar[tuple[str, ...]] = (
        "adiabatic rise", "temperature after cooling failure", "time to maximum rate",
    )  # fmt: skip
    charge: Any
    T: Any
    volume: Any
    time: Any
    total: Any
    density: Any
    heat_capacity: Any
    model: Any

    @property
    def _fluid_model(self) -> Any:
        return self.model

    @property
    def _mixture_capacity(self) -> Value | None:
        return self.heat_capacity  # type: ignore[no-any-return]

    @property
    def _density(self) -> Value | None:
        return self.density  # type: ignore[no-any-return]

    @property
    def _profile(self) -> PiecewiseLinear:
        """The temperature profile over time."""
        return self.heat.piecewise("time", self.label)  # type: ignore[no-any-return]

    @property
    def _first_T(self) -> Value | None:
        return Value(self._profile.after(0.0)) if isinstance(self.heat, Profile) else self.T

    def _start_T(self, given: Mapping[str, Number]) -> Number:
        own = self._first_T
        return given.get("T", own.si if own is not None else np.nan)

    def _charge_pressure(self, given: Mapping[str, Number]) -> Value | None:
        """The pressure of a gas that is charged."""
        return None

    def _mixture(self, given: Mapping[str, Number]) -> Mixture:
        contents = self.charge.with_numbers(portions_in(given))
        T, P = replaced(self._first_T, given, "T"), self._charge_pressure(given)
        totals = [replaced(self.volume, given, "volume"), self.total]
        return mixture_of(contents, totals, self._by_name, T, P, self.density, self.model)

    def _moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        found = super()._moving_numbers()
        return found | {TEMPERATURE: self._profile} if isinstance(self.heat, Profile) else found

    def _end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        return given.get("time", self.time.si if self.time is not None else np.nan)

    def _given_below(self) -> list[tuple[str, Value | None]]:
        return self.charge.given()  # type: ignore[no-any-return]

    def _contents(self) -> Contents:
        return self.charge  # type: ignore[no-any-return]

    def _with_contents(self, contents: Contents) -> Self:
        return self.with_(charge=contents)

    def _for(self, time: Any, missing: tuple[str, str]) -> Self:
        """The vessel with its time, or with another one."""
        given = self.time if time is None else units.positive(time, "time", f"{self.label}, time")
        if given is None:
            raise InputError(missing[0], self.label, missing[1])
        return self if time is None else self.with_(time=given)

    def _stream_in(self, run: Run) -> Stream:
        amounts = run.inlet_amounts()
        T = float(run.temperatures[0]) if run.has_temperature else np.nan
        return Stream("charge", amounts, float(self._fed.volume), T, run.first_pressure(), False)


def read_total(given: Any) -> Value:
    """The amount or mass of a whole charge."""
    value = units.read(given, name="total")
    is_mass = value.unit is not None and units.unit(value.unit).dimension == units.unit("kg").dimension
    return units.positive(value, "mass" if is_mass else "amount", "total")
