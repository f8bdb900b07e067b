"""What vessels have in common in which a gas passes through the liquid."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.dual import Number
from molino.core.errors import InputError
from molino.core.units import Value
from molino.core.vessels.base import Setting, Vessel
from molino.core.vessels.feed import flow_kind
from molino.core.vessels.flow_vessel import read_flow_form
from molino.core.vessels.gas_phase import GasPhase
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.roles import GAS_P
from molino.core.vessels.streams import Stream
from molino.core.vessels.terms import Term

if TYPE_CHECKING:
    from molino.core.vessels.run import Run

_DEPLETED, _SATURATED = 0.1, 0.9
"""Of what the gas would saturate: below the one transfer alone limits, above the other kinetics alone."""
_FAST = 1.0
"""Hatta number from which on much of a reaction takes place in the film."""


class GasVessel(Vessel):
    """A vessel of liquid through which a gas may pass."""

    gas: GasPhase | None
    _gas_in_plug_flow: ClassVar[bool] = False

    def _check_gas(self) -> None:
        """Raise InputError for a gas that does not go together with the vessel."""
        if self.gas is None:
            return
        if not isinstance(self.gas, GasPhase):
            raise InputError(f"{self.gas!r} is no gas phase", "gas", "write mo.GasPhase(feed, kLa, henry)")
        if self.is_gas:
            raise InputError("a gas passes through a liquid, and this vessel holds a gas", "gas", "leave it out")
        self.gas.check(self.chemistry, self.is_non_isothermal)
        if self._gas_T is None or self._first_T is None:
            message = "no temperature is given, and the concentrations of the gas depend on it"
            raise InputError(message, "gas", "give T, like '60 degC'")

    @property
    def _gas_T(self) -> Value | None:
        """The temperature of the gas where it comes in."""
        own = self.gas.feed.T if self.gas is not None and self.gas.has_flow else None
        return own if own is not None else self._first_T

    @property
    def _gas_species(self) -> tuple[str, ...]:
        """What is fed with the gas."""
        return tuple(self.gas.contents) if isinstance(self.gas, GasPhase) else ()

    def _gas_terms(self) -> tuple[Term, ...]:
        return () if self.gas is None else (self.gas.term(self.chemistry, self._gas_in_plug_flow),)

    @cached_property
    def _gas_fed(self) -> Mixture:
        """The feed of the gas, worked out."""
        assert self.gas is not None
        return self.gas.mixture(self._by_name, {}, self._gas_T)

    def _head(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Pressure of the liquid over the inlet of the gas in Pa."""
        return 0.0

    def _gas_numbers(self, given: Mapping[str, Number], fed: Mixture, T: Number) -> dict[sp.Symbol, Number]:
        if self.gas is None:
            return {}
        mixture = self.gas.mixture(self._by_name, given, self._gas_T) if "gas flow" in given else self._gas_fed
        return self.gas.numbers(given, mixture, T, self._head(given, fed))

    def _goes_in(self, species: str) -> bool:
        return super()._goes_in(species) or species in self._gas_species

    def _more_settings(self) -> Iterable[Setting]:
        yield from super()._more_settings()
        if self.gas is None:
            return
        gas = self.gas

        def with_flow(value: Any) -> GasVessel:
            return self.with_(gas=replace(gas, feed=replace(gas.feed, flow=value)))

        if gas.has_flow and gas.feed.flow not in (None, ()):
            own = gas.feed.flows[0]
            form = str(flow_kind(own))
            yield Setting("gas flow", "volumetric flow", read_flow_form, with_flow, own.si, form, value=own)
        for name, kind, value, make in gas.settings():

            def put(v: Any, make: Any = make) -> GasVessel:
                return self.with_(gas=make(v))

            if isinstance(value, Value) and kind:
                yield self._number(name, kind, value, put)
            elif isinstance(value, Value):  # of a Henry's constant, whose unit may be any
                yield Setting(name, "number", lambda v: (units.read(v).si, "constant"), put, value.si, "constant")

    def _gas_stream(self, run: Run) -> list[Stream]:
        """What came in with the gas (of a batch since the start, with what was there)."""
        if self.gas is None:
            return []
        came, liquid = run.inlet_amounts(), self._stream_in(run).amounts
        amounts = {s: max(n - liquid.get(s, 0.0), 0.0) if s in self._gas_species else 0.0 for s, n in came.items()}
        T = float(self._gas_T.si) if self._gas_T is not None else np.nan
        P = float(self._gas_numbers({}, self._fed, T)[GAS_P])
        volume = sum(amounts.values()) * units.GAS_CONSTANT * T / P
        return [Stream("gas fed", amounts, volume, T, P, run.stream_out().is_flowing)]

    def _more_facts(self, run: Run) -> dict[str, str]:
        if self.gas is None:
            return {}
        found, display = {}, run.display
        held = self._dispersion(float(run.stream_out().volume) if not self._has_steady_state else self._end_volume)
        found["volume of gas and liquid"] = display.text(held, "volume")
        ends = {name: float(values[-1]) for name, values in run.series.items()}
        consumed = {self.chemistry.network.species[i] for column in self.chemistry.network.stoichiometry
                    for i, moles in column if moles < 0}  # fmt: skip
        for s in self.gas.henry:
            if s in self._gas_species:
                found[f"absorption of {s}"] = display.text(ends[f"absorption of {s}"], "molar flow")
                found[f"what limits {s}"] = self._limit_in_words(s, ends, s in consumed)
        return found

    @property
    def _end_volume(self) -> float:
        return float(self._volume_si)  # type: ignore[attr-defined]

    def _dispersion(self, liquid: float) -> float:
        assert self.gas is not None
        return float(liquid / (1 - self.gas.holdup.si))

    def _limit_in_words(self, species: str, ends: Mapping[str, float], is_consumed: bool) -> str:
        """Whether transfer or kinetics limits what is taken up of a species."""
        assert self.gas is not None
        full = ends[f"saturation of {species}"]
        word = "transfer" if full < _DEPLETED else "kinetics" if full > _SATURATED else "transfer and kinetics"
        text = f"{word if is_consumed else 'solubility'}: the liquid is {100 * full:.3g} % saturated"
        for reaction, film in self.gas.film.items():
            if film.species == species:
                hatta, faster = ends[f"Hatta number of {reaction}"], ends[f"enhancement of {species}"]
                where = "fast, much of it takes place in the film" if hatta > _FAST else "slow in the film"
                text += f"; {reaction} is {where} (Hatta number {hatta:.3g}, absorption {faster:.3g} times as fast)"
        return text
