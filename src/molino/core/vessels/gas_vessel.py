"""The base of vessels with a gas in the liquid."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from functools import cached_property
from typing import ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import GAS_P
from molino.core.contents.feed import flow_kind
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.condition import Condition, number_condition
from molino.core.contract.run_result import RunResult
from molino.core.contract.specification import Specification
from molino.core.contract.vessel import Vessel
from molino.core.dual import Number
from molino.core.errors import InputError
from molino.core.terms.gas_phase import GasPhase
from molino.core.terms.terms import Term
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value
from molino.core.vessels.flow_vessel import read_flow_form

_DEPLETED, _SATURATED = 0.1, 0.9
"""Saturation of the liquid: below the first only transfer is limiting, above the second only kinetics."""
_FAST = 1.0
"""Hatta number above which a large part of a reaction takes place in the film."""


class GasSpecification(Specification):
    """The specification of a GasVessel."""

    vessel: GasVessel
    gas_in_plug_flow: ClassVar[bool] = False

    def check_gas(self) -> None:
        """Raise InputError for a gas that does not fit the vessel."""
        vessel = self.vessel
        if vessel.gas is None:
            return
        if not isinstance(vessel.gas, GasPhase):
            raise InputError(f"{vessel.gas!r} is not a gas phase", "gas", "write mo.GasPhase(feed, kLa, henry)")
        if self.is_gas:
            raise InputError("a gas phase needs a liquid, and this vessel holds a gas", "gas", "leave it out")
        vessel.gas.check(self.chemistry, self.is_non_isothermal)
        if self.gas_T is None or self.first_T is None:
            message = "no temperature is given, and the concentrations of the gas depend on it"
            raise InputError(message, "gas", "give T, like '60 degC'")

    @property
    def gas_T(self) -> Value | None:
        """The temperature of the gas at its inlet."""
        own = self.vessel.gas.feed.T if self.vessel.gas is not None and self.vessel.gas.has_flow else None
        return own if own is not None else self.first_T

    @property
    def gas_species(self) -> tuple[str, ...]:
        """The species fed with the gas."""
        return tuple(self.vessel.gas.contents) if isinstance(self.vessel.gas, GasPhase) else ()

    def gas_terms(self) -> tuple[Term, ...]:
        return () if self.vessel.gas is None else (self.vessel.gas.term(self.chemistry, self.gas_in_plug_flow),)

    @cached_property
    def gas_fed(self) -> Mixture:
        """The mixture of the gas feed."""
        assert self.vessel.gas is not None
        return self.vessel.gas.mixture(self.species_by_name, {}, self.gas_T)

    def head(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Pressure of the liquid over the inlet of the gas in Pa."""
        return 0.0

    def gas_numbers(self, given: Mapping[str, Number], fed: Mixture, T: Number) -> dict[sp.Symbol, Number]:
        if self.vessel.gas is None:
            return {}
        mixture = (
            self.vessel.gas.mixture(self.species_by_name, given, self.gas_T) if "gas flow" in given else self.gas_fed
        )
        return self.vessel.gas.numbers(given, mixture, T, self.head(given, fed))

    def is_fed(self, species: str) -> bool:
        return super().is_fed(species) or species in self.gas_species

    def more_conditions(self) -> Iterable[Condition]:
        vessel = self.vessel
        yield from super().more_conditions()
        if vessel.gas is None:
            return
        gas = vessel.gas

        def with_flow(value: object) -> GasVessel:
            return vessel.with_(gas=replace(gas, feed=replace(gas.feed, flow=value)))

        if gas.has_flow and gas.feed.flow not in (None, ()):
            own = gas.feed.flows[0]
            form = str(flow_kind(own))
            yield Condition("gas flow", "volumetric flow", read_flow_form, with_flow, own.si, form, value=own)
        for name, kind, value, make in gas.conditions():

            def put(v: QuantityLike, make: Callable[[QuantityLike], GasPhase] = make) -> GasVessel:
                return vessel.with_(gas=make(v))

            if isinstance(value, Value) and kind:
                yield number_condition(name, kind, value, put)
            elif isinstance(value, Value):  # of a Henry's constant, whose unit may be any
                yield Condition(name, "number", lambda v: (units.read(v).si, "constant"), put, value.si, "constant")

    def gas_stream(self, run: RunResult) -> list[Stream]:
        """The inflow with the gas (of a batch since the start, with the initial contents)."""
        if self.vessel.gas is None:
            return []
        came, liquid = run.inlet_amounts(), self.stream_in(run).amounts
        amounts = {s: max(n - liquid.get(s, 0.0), 0.0) if s in self.gas_species else 0.0 for s, n in came.items()}
        T = float(self.gas_T.si) if self.gas_T is not None else np.nan
        P = float(self.gas_numbers({}, self.fed, T)[GAS_P])
        volume = sum(amounts.values()) * GAS_CONSTANT * T / P
        return [Stream("gas fed", amounts, volume, T, P, run.stream_out().is_flowing)]

    def more_facts(self, run: RunResult) -> dict[str, str]:
        if self.vessel.gas is None:
            return {}
        found, display = {}, run.display
        held = self.dispersion(float(run.stream_out().volume) if not self.has_steady_state else self.end_volume)
        found["volume of gas and liquid"] = display.text(held, "volume")
        ends = {name: float(values[-1]) for name, values in run.series.items()}
        consumed = {
            self.chemistry.network.species[i]
            for column in self.chemistry.network.stoichiometry
            for i, moles in column
            if moles < 0
        }
        for s in self.vessel.gas.henry:
            if s in self.gas_species:
                found[f"absorption of {s}"] = display.text(ends[f"absorption of {s}"], "molar flow")
                found[f"limiting step of {s}"] = self.limit_in_words(s, ends, s in consumed)
        return found

    @property
    def end_volume(self) -> float:
        return float(self.volume_si)  # type: ignore[attr-defined]

    def dispersion(self, liquid: float) -> float:
        assert self.vessel.gas is not None
        return float(liquid / (1 - self.vessel.gas.holdup.si))

    def limit_in_words(self, species: str, ends: Mapping[str, float], is_consumed: bool) -> str:
        """Whether transfer or kinetics limits the absorption of a species."""
        assert self.vessel.gas is not None
        full = ends[f"saturation of {species}"]
        word = "transfer" if full < _DEPLETED else "kinetics" if full > _SATURATED else "transfer and kinetics"
        text = f"{word if is_consumed else 'solubility'}: the liquid is {100 * full:.3g} % saturated"
        for reaction, film in self.vessel.gas.film.items():
            if film.species == species:
                hatta, faster = ends[f"Hatta number of {reaction}"], ends[f"enhancement of {species}"]
                where = "fast, a large part of it takes place in the film" if hatta > _FAST else "slow in the film"
                text += f"; {reaction} is {where} (Hatta number {hatta:.3g}, absorption {faster:.3g} times as fast)"
        return text


class GasVessel(Vessel):
    """A vessel of liquid that may have a gas phase."""

    gas: GasPhase | None

    @cached_property
    def spec(self) -> GasSpecification:
        raise NotImplementedError
