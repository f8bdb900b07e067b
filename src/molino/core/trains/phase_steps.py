"""The steps of a train in which vapor and liquid separate: flash drums and condensers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from molino.core.contents.stream_properties import enthalpy, log_coefficients, with_volume
from molino.core.contents.streams import Stream
from molino.core.dual import Number, log, roots, value_of
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import settle
from molino.core.schema import QuantityField, option, quantity, several_forms
from molino.core.thermo.phase_split import bracketed, rachford_rice
from molino.core.trains.train_step import Passed, Surroundings, TrainStep, require_name

_ROUNDS, _CLOSE = 500, 1e-14
"""Rounds of successive substitution of the activity coefficients, and the change of mole fractions that ends it."""
_ABSENT = 1e-12
"""Fraction of a phase, below which it is absent."""
_NEVER = 1e30
"""y/x of a species that does not dissolve."""


@dataclass(frozen=True, eq=False)
class Flash(TrainStep):
    """A drum in which vapor and liquid separate in equilibrium: y_i P = x_i gamma_i P_i(T).

    The vapor is an ideal gas. One phase leaves as a named stream, the other continues. Without T and duty it is
    adiabatic.

    Parameters
    ----------
    T : temperature, optional
    P : pressure, optional
        By default that of the inlet.
    duty : power, optional
        Instead of T.
    to : str
        The name of the phase that leaves.
    leaving : "liquid" or "gas"
    gases : sequence of str
        Species that do not dissolve in the liquid; all others need a vapor pressure.
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> antoine = {"antoine": [5.20277, 1580.08, 239.5], "pressure": "bar", "temperature": "degC"}
    >>> species = [mo.Species("M", vapor_pressure=antoine, heat_capacity="50 J/mol/K"),
    ...            mo.Species("G", heat_capacity="29 J/mol/K")]
    >>> chem = mo.Chemistry(mo.Reaction("G -> M", k="0.1 1/s", enthalpy="-90 kJ/mol"), species=species)
    >>> feed = mo.Feed({"G": "1 mol/s"}, T="500 K", P="50 bar")
    >>> bed = mo.PlugFlow(chem, feed, volume="10 L", T="500 K")
    >>> run = mo.Train([bed, mo.Flash(T="310 K", gases=["G"], to="crude")]).run()
    >>> round(run.stream("crude").amounts["M"] / run.runs[0].stream_out().amounts["M"], 3)
    0.997
    """

    noun: ClassVar[str] = "flash"
    T: QuantityField = quantity("temperature", setting=True)
    P: QuantityField = quantity("pressure", setting=True)
    duty: QuantityField = quantity("power", sign="any", setting=True)
    to: str = option("liquid")
    leaving: str = option("liquid", ("liquid", "gas"))
    gases: Sequence[str] = several_forms(())
    name: str = ""

    def __post_init__(self) -> None:
        faults = Faults()
        require_name(faults, self.label, "to", self.to)
        if self.T is not None and self.duty is not None:
            faults.add(self.label, "T and duty are both given", "give one of them, or none if it is adiabatic")
        settle(self, gases=(self.gases,) if isinstance(self.gases, str) else tuple(self.gases))
        with faults.at():
            self.read()
        faults.raise_any()

    @property
    def gives(self) -> tuple[str, ...]:
        return (self.to,)

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        stream = streams[0]
        P = at.number(self, "P") if self.P is not None else stream.P
        if not np.isfinite(value_of(P)):
            raise InputError("its pressure is unknown", self.label, "give P")
        split = _Split(self, stream, P, at)
        if not value_of(stream.total) > 0:
            return Passed(tuple(at.in_phase(x, p) for x, p in zip((stream, stream), self._phases(), strict=True)))
        before = enthalpy(at.fluid_of(stream), stream)
        if self.T is not None:
            T = at.number(self, "T")
            liquid, gas = split.at(T)
            after = sum((enthalpy(at.fluid_of(x), x) for x in (liquid, gas) if value_of(x.total) > 0), 0.0)
            duty = after - before
        else:
            duty = at.number(self, "duty") if self.duty is not None else 0.0
            liquid, gas = split.at_enthalpy(before + duty)
        by_phase = {"liquid": liquid, "gas": gas}
        stays, leaves = self._phases()
        return Passed((by_phase[stays], by_phase[leaves]), duty)

    def _phases(self) -> tuple[str, str]:
        """The phase that continues, and the one that leaves."""
        return ("gas", "liquid") if self.leaving == "liquid" else ("liquid", "gas")

    def __str__(self) -> str:
        at = f" at {self.T}" if self.T is not None else ""
        return f"{self.label}{at}, {self.leaving} to {self.to}"


@dataclass(frozen=True, eq=False)
class Condenser(Flash):
    """A condenser: a `Flash` of a gas at a temperature or with a duty, from which the liquid leaves as "condensate".

    Parameters
    ----------
    T, P, duty, to, leaving, gases, name
        As for `Flash`; T or duty is needed.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> print(mo.Condenser("40 degC", to="crude"))
    condenser at 40 °C, liquid to crude
    """

    noun: ClassVar[str] = "condenser"
    to: str = option("condensate")

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.T is None and self.duty is None:
            raise InputError("neither T nor duty is given", self.label, "give one of them")


class _Split:
    """Vapor and liquid of a stream at a pressure.

    The flows of the liquid l_i satisfy ln(v_i/V) + ln P = ln(l_i/L) + ln gamma_i + ln P_i(T), with v_i = n_i - l_i;
    their derivatives follow from these equations by the implicit function theorem.
    """

    def __init__(self, step: Flash, stream: Stream, P: Number, at: Surroundings) -> None:
        self.step, self.stream, self.P, self.surroundings = step, stream, P, at
        self.liquid_fluid, self.gas_fluid = at.fluid_in("liquid"), at.fluid_in("gas")
        names = [*stream.amounts]
        strange = [s for s in step.gases if s not in names]
        if strange:
            raise InputError(f"'{strange[0]}' is not a species of the chemistry", step.label, "correct gases")
        self.wet = [s for s in names if s not in step.gases and value_of(stream.amounts[s]) > 0]
        species = {s.name: s for s in self.gas_fluid.species}
        faults = Faults()
        for s in self.wet:
            if species[s].vapor_pressure is None:
                faults.add(f"{step.label}, {s}", "it has no vapor pressure", f"give it, or gases = ['{s}']")
        faults.raise_any()
        self.pressures = {s: species[s].vapor_pressure for s in self.wet}

    def _log_ratios(self, T: Number, P: Number, liquid: Mapping[str, Number]) -> list[Number]:
        """ln(y_i/x_i) of the species that dissolve."""
        gammas = log_coefficients(self.liquid_fluid, replace(self.stream, amounts=liquid, T=T, P=P, phase="liquid"))
        return [self.pressures[s].log(T) + gammas[s] - log(P) for s in self.wet]

    def _found(self, T: float) -> dict[str, float]:
        """The flows of the liquid at a temperature, by successive substitution of the activity coefficients."""
        stream, P = self.stream.plain(), float(value_of(self.P))
        names, whole = [*stream.amounts], float(stream.total)
        z = np.array([stream.amounts[s] for s in names]) / whole
        x = np.where([s in self.wet for s in names], z, 0.0)
        if not x.sum() > 0:
            return dict.fromkeys(names, 0.0)
        x = x / x.sum()
        for _ in range(_ROUNDS):
            ratios = dict(zip(self.wet, self._log_ratios(T, P, dict(zip(names, x, strict=True))), strict=True))
            K = np.array([np.exp(ratios[s]) if s in ratios else _NEVER for s in names])
            share, new, _ = rachford_rice(z, K)
            change, x = float(np.max(np.abs(new - x))), new
            if change < _CLOSE or not self.liquid_fluid.phase.mixes_with_heat:
                break
        else:
            raise SolveError("vapor and liquid are not found", self.step.label, "try another temperature or pressure")
        if share > 1 - _ABSENT:
            return dict.fromkeys(names, 0.0)
        return {s: float((1 - share) * whole * xi) if s in self.wet else 0.0 for s, xi in zip(names, x, strict=True)}

    def at(self, T: Number) -> tuple[Stream, Stream]:
        """Liquid and vapor at a temperature."""
        flows = self._found(float(value_of(T)))
        return self._streams(self._exact(flows, T, None)[0], T)

    def at_enthalpy(self, wanted: Number) -> tuple[Stream, Stream]:
        """Liquid and vapor with an enthalpy flow."""
        goal, plain = (
            float(value_of(wanted)),
            _Split(self.step, self.stream.plain(), float(value_of(self.P)), self.surroundings),
        )

        def off(T: float) -> float:
            return float(plain._enthalpy(plain._found(T), T)) - goal

        T = bracketed(off, float(value_of(self.stream.T)))
        flows, exact = self._exact(plain._found(T), T, wanted)
        return self._streams(flows, exact)

    def _enthalpy(self, liquid: Mapping[str, Number], T: Number) -> Number:
        whole = 0.0
        for x, fluid in zip(self._streams(liquid, T), (self.liquid_fluid, self.gas_fluid), strict=True):
            whole = whole + (enthalpy(fluid, x) if value_of(x.total) > 0 else 0.0)
        return whole

    def _exact(self, flows: dict[str, float], T: Number, wanted: Number | None) -> tuple[dict[str, Number], Number]:
        """The flows of the liquid (and, with a given enthalpy, the temperature), with their derivatives."""
        stream, state = self.stream, self.stream.plain()
        held, is_adiabatic = sum(flows.values()), wanted is not None
        wet = self.wet if 0 < held < float(state.total) * (1 - _ABSENT) else []

        def liquid_of(n: Mapping[str, Number], own: Sequence[Number]) -> dict[str, Number]:
            if not wet:  # one phase alone
                return {s: x if held > 0 else 0.0 * x for s, x in n.items()}
            return {s: 0.0 * x for s, x in n.items()} | dict(zip(wet, own, strict=False))

        def residuals(*given: Any) -> list[Number]:
            own, (n, P, T, H) = given[:-4], given[-4:]
            T = own[-1] if is_adiabatic else T
            fluid, found = liquid_of(n, own), list[Number]()
            if wet:
                v = {s: n[s] - fluid[s] for s in n}
                V, L = log(sum(v.values())), log(sum(fluid[s] for s in wet))
                ratios = self._log_ratios(T, P, fluid)
                found = [log(v[s]) - V - log(fluid[s]) + L - k for s, k in zip(wet, ratios, strict=True)]
            if is_adiabatic:
                split = _Split(self.step, replace(state, amounts=n), P, self.surroundings)
                found.append(split._enthalpy(fluid, T) - H)
            return found

        values = [flows[s] for s in wet] + ([float(value_of(T))] if is_adiabatic else [])
        inputs = (stream.amounts, self.P, T, wanted)
        found = roots(residuals, values, inputs, (state.amounts, *(value_of(x) for x in inputs[1:])))
        return liquid_of(stream.amounts, found), found[-1] if is_adiabatic else T

    def _streams(self, liquid: Mapping[str, Number], T: Number) -> tuple[Stream, Stream]:
        stream = self.stream
        vapor = {s: n - liquid[s] for s, n in stream.amounts.items()}
        both = []
        for phase, amounts in (("liquid", liquid), ("gas", vapor)):
            x = self.surroundings.in_phase(replace(stream, amounts=dict(amounts), T=T, P=self.P, name=""), phase)
            part = x.total / stream.total
            x = replace(x, volume=stream.volume * part if x.phase == stream.phase else float("nan") * part)
            both.append(with_volume(self.surroundings.fluid_in(phase), x))
        return both[0], both[1]
