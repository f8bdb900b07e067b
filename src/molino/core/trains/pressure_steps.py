"""The steps of a train that change the pressure: compressors, pumps and valves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import MISSING, dataclass, replace
from typing import ClassVar

import numpy as np
import scipy

from molino.core.contents.stream_properties import at_enthalpy, enthalpy, entropy_change, with_volume
from molino.core.contents.streams import Fluid, Stream
from molino.core.dual import Number, root, value_of
from molino.core.errors import InputError
from molino.core.schema import QuantityField, quantity
from molino.core.trains.train_step import Passed, Surroundings, TrainStep

_COLDEST, _HOTTEST = 100.0, 4000.0
"""Range in K in which the temperature of equal entropy is searched."""
_SAME = 1e-9
"""Relative difference within which two pressures are equal."""


@dataclass(frozen=True, eq=False)
class Compressor(TrainStep):
    """An adiabatic compressor of a gas: the work of an isentropic one, divided by the efficiency.

        W = (H(T_s, P) - H(T_0, P_0))/efficiency,  S(T_s, P) = S(T_0, P_0)

    (J. M. Smith, H. C. Van Ness, M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005,
    section 7.3).

    Parameters
    ----------
    P : pressure
        At the outlet.
    efficiency : float
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/s", enthalpy="-50 kJ/mol"))
    >>> feed = mo.Feed({"A": "1 mol/s"}, T="300 K", P="1 bar", heat_capacity="30 J/mol/K")
    >>> tube = mo.PlugFlow(chem, feed, volume="0.1 m3", T="300 K")
    >>> run = mo.Train([mo.Compressor("2 bar"), mo.Exchanger("300 K"), tube]).run()
    >>> {name: round(work) for name, work in run.works.items()}
    {'compressor': 1906}
    """

    noun: ClassVar[str] = "compressor"
    P: QuantityField = quantity("pressure", MISSING, setting=True)
    efficiency: QuantityField = quantity("number", 1.0, most=1.0, setting=True)
    name: str = ""

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        stream, fluid = streams[0], at.fluid_of(streams[0])
        if at.phase_of(stream) != "gas":
            raise InputError(f"{stream.name or 'its inlet'} is a liquid", self.label, "use mo.Pump")
        P = at.number(self, "P")
        if not value_of(stream.total) > 0:
            return Passed((replace(stream, P=P),))
        ideal = replace(stream, T=_isentropic(fluid, stream, P), P=P)
        before = enthalpy(fluid, stream)
        work = (enthalpy(fluid, ideal) - before) / at.number(self, "efficiency")
        return Passed((at_enthalpy(fluid, replace(stream, P=P), before + work),), work=work)

    def __str__(self) -> str:
        return f"{self.label} to {self.P}"


def _isentropic(fluid: Fluid, stream: Stream, P: Number) -> Number:
    """The temperature of equal entropy at another pressure."""
    plain, end = stream.plain(), float(value_of(P))

    def off(T: Number, stream: Stream, P: Number) -> Number:
        return entropy_change(fluid, stream, T, P)

    T = float(scipy.optimize.brentq(off, _COLDEST, _HOTTEST, args=(plain, end), xtol=1e-11, rtol=1e-15))
    return root(off, T, (stream, P), (plain, end))


@dataclass(frozen=True, eq=False)
class Pump(TrainStep):
    """A pump of a liquid of constant volume: W = Q (P - P_0)/efficiency; the part that is lost warms the liquid, if its
    enthalpies are known.

    Parameters
    ----------
    P : pressure
        At the outlet.
    efficiency : float
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/s", T="300 K", P="1 bar", model="constant density")
    >>> run = mo.Train([mo.Pump("11 bar"), mo.PlugFlow(chem, feed, volume="5 L")]).run()
    >>> round(run.works["pump"], 6)
    1000.0
    """

    noun: ClassVar[str] = "pump"
    P: QuantityField = quantity("pressure", MISSING, setting=True)
    efficiency: QuantityField = quantity("number", 1.0, most=1.0, setting=True)
    name: str = ""

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        stream, fluid = streams[0], at.fluid_of(streams[0])
        if at.phase_of(stream) != "liquid":
            raise InputError(f"{stream.name or 'its inlet'} is a gas", self.label, "use mo.Compressor")
        if not np.isfinite(value_of(stream.volume)):
            advice = "give a density or molar_volume to its species"
            raise InputError("the volume of the liquid is unknown", self.label, advice)
        P, efficiency = at.number(self, "P"), at.number(self, "efficiency")
        if not np.isfinite(value_of(stream.P)):
            raise InputError("the pressure of its inlet is unknown", self.label, "give P of the feed")
        ideal = stream.volume * (P - stream.P)
        work, out = ideal / efficiency, replace(stream, P=P)
        if value_of(efficiency) == 1.0 or fluid.phase.energy is None:
            return Passed((out,), 0.0, work, ideal)
        return Passed((at_enthalpy(fluid, out, enthalpy(fluid, stream) + work - ideal),), 0.0, work, ideal)

    def __str__(self) -> str:
        return f"{self.label} to {self.P}"


@dataclass(frozen=True, eq=False)
class Valve(TrainStep):
    """A valve: the enthalpy is constant (of a stream whose enthalpies are unknown, the temperature).

    Parameters
    ----------
    P : pressure
        At the outlet.
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> print(mo.Valve("2 bar"))
    valve to 2 bar
    """

    noun: ClassVar[str] = "valve"
    P: QuantityField = quantity("pressure", MISSING, setting=True)
    name: str = ""

    def require_met(self, streams: Sequence[Stream]) -> None:
        before = float(streams[0].P)
        if self.P.si > before * (1 + _SAME):
            message = f"its outlet, {self.P}, has a higher pressure than its inlet, {before:.6g} Pa"
            raise InputError(message, self.label, "use a compressor or a pump")

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        stream, fluid, P = streams[0], at.fluid_of(streams[0]), at.number(self, "P")
        out = replace(stream, P=P)
        if not fluid.phase.mixes_with_heat or not value_of(stream.total) > 0:
            return Passed((with_volume(fluid, out),))
        return Passed((at_enthalpy(fluid, out, enthalpy(fluid, stream)),))

    def __str__(self) -> str:
        return f"{self.label} to {self.P}"
