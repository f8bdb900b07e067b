"""The results of heat safety."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame, in_columns, plain_dict
from molino.core.runs.run import Run
from molino.core.safety.cooling_failure import AdiabaticCourse, CoolingFailure, failure_of
from molino.core.safety.hot_spot import hot_spot_of
from molino.core.units import Value

DAY = 86400.0
_MOST_OF_RISE = 0.97
"""The fraction of the rise up to which the course after a failure is drawn."""
_CLASSES = {
    1: "neither technical limit nor decomposition is reached",
    2: "no decomposition follows; do not keep it hot, as there is no technical limit below the decomposition",
    3: "the technical limit is reached, where evaporation or relief must stop the rise; no decomposition follows",
    4: "the technical limit is reached and must hold, otherwise a decomposition follows",
    5: "a decomposition follows, and no technical limit stops the rise before: change the process",
}
"""The meaning of the classes."""


@dataclass(frozen=True, eq=False)
class HeatSafety(Frozen, Result):
    """The result of a cooling failure of a batch or semi-batch.

    Dosing and cooling stop at a moment of the run, and accumulated reactants react without heat losses (with the
    vessel's wall, if its heat capacity is given). The highest temperature after a failure at the worst moment is the
    maximum temperature of the synthesis reaction. With the decomposition of the contents and a technical limit follows
    the criticality class (F. Stoessel, Chem. Eng. Prog. 89 (1993) 68; Thermal Safety of Chemical Processes, 2008,
    section 3.3).

    Attributes
    ----------
    run : Run
        Of the vessel.

    Examples
    --------
    >>> hot = mo.Chemistry(mo.Reaction("A -> B", k="0.05 1/min", enthalpy="-150 kJ/mol"))
    >>> tank = mo.Batch(hot, {"A": "1 mol/L"}, T="330 K", heat_capacity="3.8 MJ/m3/K", density="950 kg/m3", time="2 h")
    >>> found = mo.heat_safety(tank)
    >>> round(found.adiabatic_rise, 2), round(found.temperature_after_failure, 2), round(found.accumulation, 3)
    (39.47, 369.47, 1.0)
    """

    run: Run

    @property
    def vessel(self) -> Any:
        """The vessel that was run."""
        return self.run.vessel

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.run.display

    @property
    def _failure(self) -> CoolingFailure:
        return failure_of(self.run)

    @property
    def adiabatic_rise(self) -> float:
        """In K, of all charged and dosed material, mixed at the initial temperature."""
        return self._failure.rise

    @property
    def worst_time(self) -> float:
        """The moment in s of the cooling failure that leads to the highest temperature."""
        return self._failure.worst[0]

    @property
    def process_temperature(self) -> float:
        """The temperature in K at that moment."""
        return float(self._failure.worst[1].trajectory.parts[0].states[0][self._T_index])

    @property
    def temperature_after_failure(self) -> float:
        """In K; the maximum temperature of the synthesis reaction (MTSR)."""
        return self._failure.worst[1].highest

    @property
    def accumulation(self) -> float:
        """The fraction of the total heat of reaction that is still to be released at the worst moment."""
        return self._failure.accumulation

    @property
    def time_of_fastest_rise(self) -> float:
        """Time in s from that failure to the fastest temperature rise; 0 if it is at once."""
        return self._failure.worst[1].fastest()

    @property
    def technical_limit(self) -> float | None:
        """The highest technically permitted temperature in K (MTT) of the vessel."""
        limit = self.vessel.technical_limit
        return None if limit is None else float(limit.si)

    @cached_property
    def time_to_maximum_rate(self) -> float | None:
        """Time in s to the maximum rate of decomposition from the highest temperature (TMR_ad); None without one."""
        return None if self.vessel.decomposition is None else self._failure.time_to_maximum_rate()

    @cached_property
    def temperature_for_24_h(self) -> float | None:
        """The temperature in K at which this time is 24 h (T_D24); None without a decomposition."""
        if self.vessel.decomposition is None:
            return None
        capacity = self._failure.capacity_after(self._failure.worst[1])
        return float(self.vessel.decomposition.temperature_for(Value(DAY), capacity))

    @property
    def criticality(self) -> int | None:
        """The criticality class from 1 to 5; None without a decomposition and a technical limit."""
        limit, decomposes = self.technical_limit, self.temperature_for_24_h
        if limit is None or decomposes is None:
            return None
        if self.temperature_after_failure >= decomposes:
            return 4 if limit < decomposes else 5
        if self.temperature_after_failure >= limit:
            return 3
        return 1 if limit < decomposes else 2

    @property
    def _T_index(self) -> int:
        return self._failure.model.balances.index(TEMPERATURE)

    def table(self) -> Table:
        """One row per moment of failure: the process temperature at it, and the highest temperature after it."""
        display, failure = self.display, self._failure
        before = [c.trajectory.parts[0].states[0][self._T_index] for c in failure.courses]
        after = [c.highest for c in failure.courses]
        return frame(
            {
                display.heading("cooling fails at", "time"): display.number(failure.moments, "time"),
                display.heading("temperature", "temperature"): display.number(np.array(before), "temperature"),
                display.heading("highest after it", "temperature"): display.number(np.array(after), "temperature"),
            }
        )

    def highest_after(self) -> tuple[np.ndarray, np.ndarray]:
        """The highest temperature in K after a failure, over its moment in s, as a curve."""
        return self._failure.highest_after

    def after(self, at: float) -> AdiabaticCourse:
        """The contents after a failure at a moment of the run in s."""
        return self._failure.course(at)

    def course(self) -> tuple[np.ndarray, np.ndarray]:
        """The course after a failure at the worst moment: times since it in s and temperatures in K."""
        course = self._failure.worst[1]
        level = self.process_temperature + _MOST_OF_RISE * (course.highest - self.process_temperature)
        span = min(course.trajectory.crossings(TEMPERATURE, level), default=DAY)
        times = np.linspace(0.0, 1.1 * span, 121)
        return times, course.trajectory.at(times)[:, self._T_index]

    def facts(self) -> dict[str, str]:
        """The consequences of a cooling failure, in words."""
        text, T = self.display.text, self._temperature_text
        rise = self.display.difference_text(self.adiabatic_rise, "temperature")
        found = {"adiabatic rise": f"{rise} of all feeds"}
        if self.adiabatic_rise <= 0:
            return {**found, "if cooling fails": "endothermic, the temperature does not rise"}
        fastest = self.time_of_fastest_rise
        when = text(self.worst_time, "time", 3) if self.worst_time else "the start"
        after = f"fastest after {text(fastest, 'time', 3)}" if fastest else "fastest at once"
        found["if cooling fails"] = (
            f"at worst at {when}: from {T(self.process_temperature)} to {T(self.temperature_after_failure)}, {after}"
        )
        found["accumulation then"] = f"{100 * self.accumulation:.3g} % of the heat of reaction"
        if self.technical_limit is not None:
            found["technical limit"] = T(self.technical_limit)
        if (time := self.time_to_maximum_rate) is not None:
            hours = f"{units.number_text(time / 3600, 3)} h"
            what = f"{hours} of the decomposition" if math.isfinite(time) else "the decomposition does not accelerate"
            found["time to maximum rate"] = f"{what} from {T(self.temperature_after_failure)}"
            day = self.temperature_for_24_h or math.inf
            found["24 h to maximum rate"] = f"from {T(day)}" if math.isfinite(day) else "not reached"
        found["criticality class"] = self._class_text()
        if beyond := self._failure.out_of_range():
            found["heat capacity of"] = "; ".join(beyond)
        return found

    def _temperature_text(self, kelvin: float) -> str:
        return self.display.text(kelvin, "temperature", 4)

    def _class_text(self) -> str:
        number = self.criticality
        if number is not None:
            return f"{number} of 5: {_CLASSES[number]}"
        lacking = [n for n in ("decomposition", "technical_limit") if getattr(self.vessel, n) is None]
        return f"not determined: give the vessel's {' and '.join(lacking)}"

    def to_dict(self) -> PlainData:
        """Plain data: temperatures, times, accumulation and class."""
        display = self.display

        def shown(value: float | None, kind: str) -> PlainData | None:
            return None if value is None or not math.isfinite(value) else entry(display, value, kind)

        return plain_dict(
            {
                "adiabatic_rise": shown(self.adiabatic_rise, "temperature difference"),
                "worst_time": shown(self.worst_time, "time"),
                "process_temperature": shown(self.process_temperature, "temperature"),
                "temperature_after_failure": shown(self.temperature_after_failure, "temperature"),
                "accumulation": self.accumulation,
                "time_of_fastest_rise": shown(self.time_of_fastest_rise, "time"),
                "technical_limit": shown(self.technical_limit, "temperature"),
                "time_to_maximum_rate": shown(self.time_to_maximum_rate, "time"),
                "temperature_for_24_h": shown(self.temperature_for_24_h, "temperature"),
                "criticality": self.criticality,
            }
        )

    def __str__(self) -> str:
        return "\n".join(safety_lines(self))


@dataclass(frozen=True, eq=False)
class RunawayBoundary(Frozen, Result):
    """The sensitivity of the hot spot of a cooled tube to its coolant temperature, and the boundary of runaway.

    The sensitivity is d(highest temperature)/d(temperature of the coolant), exact. The boundary of runaway is the
    maximum of the relative sensitivity (T_c/T) dT/dT_c (M. Morbidelli, A. Varma, Chem. Eng. Sci. 43 (1988) 91), if it
    is above 2 K per K there; otherwise the tube is not sensitive, and has no boundary.

    Attributes
    ----------
    run : Run
        Of the tube.
    coolants, highest, sensitivities : array, shape (places,)
        Temperatures of the coolant and highest temperatures in K, and sensitivities in K per K.
    boundary : float or None
        Temperature of the coolant in K at the boundary; None without one in the range.

    Examples
    --------
    >>> hot = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.01 1/s", at="340 K", Ea="110 kJ/mol"),
    ...                                enthalpy="-120 kJ/mol"))
    >>> feed = mo.Feed({"A": "3 mol/L"}, flow="1 L/s", T="330 K", heat_capacity="2 MJ/m3/K")
    >>> tube = mo.PlugFlow(hot, feed, volume="200 L", heat=mo.Jacket("325 K", UA="40 kW/K"))
    >>> found = mo.heat_safety(tube)
    >>> round(found.boundary, 1), round(found.margin, 1), round(found.sensitivity, 2)
    (328.2, 3.2, 1.49)
    """

    run: Run
    coolants: np.ndarray
    highest: np.ndarray
    sensitivities: np.ndarray
    boundary: float | None

    @property
    def vessel(self) -> Any:
        """The tube that was run."""
        return self.run.vessel

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.run.display

    @property
    def coolant(self) -> float:
        """The temperature of its coolant in K."""
        return float(self.vessel.spec.condition("coolant T").own)

    @property
    def hottest(self) -> tuple[float, float]:
        """The place of the highest temperature in m^3 from the inlet, and this temperature in K."""
        return hot_spot_of(self.run).place

    @property
    def sensitivity(self) -> float:
        """The rise in K of the highest temperature per 1 K of the coolant temperature."""
        return hot_spot_of(self.run).sensitivity

    @property
    def margin(self) -> float:
        """The distance in K of the coolant temperature below the boundary; inf without one."""
        return math.inf if self.boundary is None else self.boundary - self.coolant

    def table(self) -> Table:
        """One row per temperature of the coolant: the highest temperature, and its sensitivity."""
        display = self.display
        return frame(
            {
                display.heading("coolant T", "temperature"): display.number(self.coolants, "temperature"),
                display.heading("highest temperature", "temperature"): display.number(self.highest, "temperature"),
                "hot spot sensitivity [K/K]": self.sensitivities,
            }
        )

    def facts(self) -> dict[str, str]:
        """The hot spot, its sensitivity, and the boundary of runaway, in words."""
        display, at = self.display, self.hottest[0]
        area = self.vessel.spec.cross_section()
        place = display.text(at / area, "length", 3) if np.isfinite(area) else display.text(at, "volume", 3)
        low, high = (display.text(K, "temperature", 4) for K in (self.coolants[0], self.coolants[-1]))
        own = display.text(self.coolant, "temperature", 4)
        if self.boundary is None:
            text = f"none with a coolant of {low} to {high}: {self._most:.3g} K per K at most"
        else:
            there = display.text(self.boundary, "temperature", 4)
            margin = display.difference_text(abs(self.margin), "temperature")
            side = "colder, on the safe side" if self.margin > 0 else "warmer: it has run away"
            text = f"coolant of {there}; its own, {own}, is {margin} {side}"
        return {
            "hot spot": f"{display.text(self.hottest[1], 'temperature', 4)} at {place}",
            "hot spot sensitivity": f"{self.sensitivity:.3g} K per K of the coolant",
            "runaway boundary": text,
        }

    @property
    def _most(self) -> float:
        return float(self.sensitivities.max())

    def to_dict(self) -> PlainData:
        """Plain data: the hot spot, its sensitivity, and the boundary."""
        display = self.display
        return plain_dict(
            {
                "hot_spot": entry(display, self.hottest[1], "temperature"),
                "hot_spot_sensitivity": self.sensitivity,
                "coolant": entry(display, self.coolant, "temperature"),
                "boundary": None if self.boundary is None else entry(display, self.boundary, "temperature"),
                "margin": None if self.boundary is None else entry(display, self.margin, "temperature difference"),
            }
        )

    def __str__(self) -> str:
        return "\n".join(safety_lines(self))


@dataclass(frozen=True)
class UndeterminedSafety:
    """The reason why the heat safety of a vessel with an exothermic reaction could not be computed."""

    reason: str

    def facts(self) -> dict[str, str]:
        """The reason."""
        return {"heat safety": f"not determined: {self.reason}"}

    def to_dict(self) -> PlainData:
        """The reason, as plain data."""
        return {"undetermined": self.reason}


Safety = HeatSafety | RunawayBoundary | UndeterminedSafety


def safety_lines(found: Safety | None) -> list[str]:
    """The lines below the printed run."""
    if found is None:
        return []
    label = f"heat safety of {found.vessel.label}" if isinstance(found, Result) else "heat safety"
    return [label, *in_columns(found.facts())]
