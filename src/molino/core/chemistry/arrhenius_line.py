"""The straight line of ln k over 1/T through a table of constants, with its uncertainty."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.errors import Faults, InputError, UnitError
from molino.core.printing import Printed
from molino.core.statistics import f_quantile, half_width
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value


@dataclass(frozen=True)
class TemperatureLine(Printed):
    """ln k = ln k_ref - E/R (1/T - 1/T_ref) by least squares through a table of constants.

    T_ref is the harmonic mean of the temperatures, where ln k_ref and E are uncorrelated (N. R. Draper, H. Smith,
    Applied Regression Analysis, 3rd ed. 1998, section 1.4). All constants have the same relative error. Intervals are
    of 95 %; nan for two temperatures.

    Attributes
    ----------
    temperatures, constants : tuple of Value
    noun : str
        The symbol of the constants, k or K.
    """

    temperatures: tuple[Value, ...]
    constants: tuple[Value, ...]
    noun: str = "k"

    @classmethod
    def of(cls, T: Sequence[QuantityLike], k: Sequence[QuantityLike], noun: str) -> TemperatureLine:
        """Read a table.

        Raises
        ------
        InputError
            For tables of unequal length, differing dimensions, constants not above zero, or a single temperature.
        """
        if len(T) != len(k) or len(T) < 2:
            raise InputError(f"{len(T)} temperatures and {len(k)} constants", "", "give as many of each, two or more")
        faults = Faults()
        temperatures, constants = [], []
        for row, (t, value) in enumerate(zip(T, k, strict=True), 1):
            with faults.at(f"row {row}"):
                temperatures.append(units.positive(t, "temperature", "T"))
            with faults.at(f"row {row}"):
                read = units.read(value, name=noun)
                if read.si <= 0:
                    raise InputError(f"{value} is not above zero", noun, "its logarithm is needed")
                constants.append(read)
        faults.raise_any()
        dimensions = {frozenset(units.unit(c.unit).dimension.items()) if c.unit else None for c in constants}
        if len(dimensions) > 1:
            raise UnitError("the constants of the table differ in dimension", noun, "give all in one unit")
        line = cls(tuple(temperatures), tuple(constants), noun)
        if np.ptp(line.x) <= 1e-9 * line.x.mean():
            raise InputError("all temperatures of the table are the same", "T", "give two different ones or more")
        return line

    @cached_property
    def x(self) -> np.ndarray:
        """1/T in 1/K, shape (constants,)."""
        return np.asarray(1.0 / np.array([t.si for t in self.temperatures]))

    @cached_property
    def y(self) -> np.ndarray:
        """ln k, k in SI, shape (constants,)."""
        return np.asarray(np.log([c.si for c in self.constants]))

    @cached_property
    def reference(self) -> float:
        """T_ref in K."""
        return 1.0 / float(self.x.mean())

    @cached_property
    def log_value(self) -> float:
        """ln k at T_ref."""
        return float(self.y.mean())

    @cached_property
    def energy(self) -> float:
        """E in J/mol: the activation energy, or the enthalpy of reaction of an equilibrium constant."""
        away = self.x - self.x.mean()
        return -GAS_CONSTANT * float(away @ self.y / (away @ away))

    @property
    def degrees_of_freedom(self) -> int:
        return len(self.constants) - 2

    @cached_property
    def standard_deviation(self) -> float:
        """Residual standard deviation of ln k; nan for two temperatures."""
        left = np.log1p(self.deviations)
        return math.sqrt(float(left @ left) / self.degrees_of_freedom) if self.degrees_of_freedom else math.nan

    @cached_property
    def deviations(self) -> np.ndarray:
        """(given - computed) / computed of each constant."""
        computed = self.log_value - self.energy / GAS_CONSTANT * (self.x - self.x.mean())
        return np.asarray(np.expm1(self.y - computed))

    @cached_property
    def r_squared(self) -> float:
        away, left = self.y - self.y.mean(), np.log1p(self.deviations)
        return 1.0 - float(left @ left) / float(away @ away) if np.ptp(self.y) > 0 else math.nan

    def _error(self, x: float) -> float:
        """Standard error of ln k at 1/T = x."""
        away = self.x - self.x.mean()
        return self.standard_deviation * math.sqrt(1 / len(self.x) + (x - self.x.mean()) ** 2 / float(away @ away))

    def at(self, T: float) -> tuple[float, float, float]:
        """k in SI at a temperature in K, and the 95 % band of the line there."""
        value = self.log_value - self.energy / GAS_CONSTANT * (1 / T - 1 / self.reference)
        half = half_width(self._error(1 / T), self.degrees_of_freedom) if self.degrees_of_freedom else math.nan
        return math.exp(value), math.exp(value - half), math.exp(value + half)

    @property
    def energy_half_width(self) -> float:
        """Half of the 95 % interval of E in J/mol."""
        if not self.degrees_of_freedom:
            return math.nan
        away = self.x - self.x.mean()
        return half_width(
            GAS_CONSTANT * self.standard_deviation / math.sqrt(float(away @ away)), self.degrees_of_freedom
        )

    @property
    def factor(self) -> tuple[float, float, float]:
        """The pre-exponential factor A in SI, and its 95 % interval, taken on its logarithm: ln k at 1/T = 0."""
        value = self.log_value + self.energy / GAS_CONSTANT / self.reference
        half = half_width(self._error(0.0), self.degrees_of_freedom) if self.degrees_of_freedom else math.nan
        return math.exp(value), math.exp(value - half), math.exp(value + half)

    @property
    def correlation(self) -> float:
        """Of ln A and E: near one, since both are extrapolated to 1/T = 0."""
        away = self.x - self.x.mean()
        slope = float(self.x.mean()) / math.sqrt(float(away @ away))
        return slope / math.hypot(slope, 1 / math.sqrt(len(self.x)))

    def region(self, count: int = 200) -> tuple[np.ndarray, np.ndarray]:
        """The edge of the joint 95 % region: E in J/mol and ln A (SI), each of shape (count,).

        An ellipse, (E - E^)^2 / s_E^2 + (ln k_ref - ln k_ref^)^2 / s_k^2 = 2 F(0.95; 2, dof), in the coordinates that
        are uncorrelated (Draper and Smith, section 5.5).
        """
        if not self.degrees_of_freedom:
            raise InputError("two temperatures leave no degree of freedom", "joint region", "measure at a third one")
        angle = np.linspace(0.0, 2.0 * np.pi, count)
        size = math.sqrt(2.0 * f_quantile(0.95, 2, self.degrees_of_freedom))
        away = self.x - self.x.mean()
        E = self.energy + size * GAS_CONSTANT * self.standard_deviation / math.sqrt(float(away @ away)) * np.cos(angle)
        log_k = self.log_value + size * self.standard_deviation / math.sqrt(len(self.x)) * np.sin(angle)
        return E, log_k + E / GAS_CONSTANT / self.reference

    def shown(self, si: float) -> float:
        """A constant in the unit of the first one of the table."""
        unit = self.constants[0].unit
        return si if unit is None else float(units.unit(unit).from_si(si))

    def text(self, energy: str = "E") -> str:
        """The line in words: each number with its unit and 95 % interval, and the quality of the fit."""
        unit = units.pretty(self.constants[0].unit or "")

        def with_interval(numbers: tuple[float, float, float]) -> str:
            value, low, high = (self.shown(x) for x in numbers)
            ends = f" ({low:.4g} to {high:.4g})" if self.degrees_of_freedom else ""
            return f"{value:.4g}{ends} {unit}".rstrip()

        at = Value(self.reference, self.temperatures[0].unit)
        half = f" ± {self.energy_half_width / 1e3:.2g}" if self.degrees_of_freedom else ""
        found = f"{with_interval(self.at(self.reference))} at {at.text(4)}, "
        found += f"{energy} = {self.energy / 1e3:.4g}{half} kJ/mol, A = {with_interval(self.factor)}"
        many = f"least squares of ln {self.noun} over 1/T through {len(self.constants)} temperatures"
        if not self.degrees_of_freedom:
            return f"{found}; {many}, exact"
        worst = int(np.argmax(np.abs(self.deviations)))
        off = f"largest deviation {100 * abs(self.deviations[worst]):.2g} % at {self.temperatures[worst].text(4)}"
        return f"{found}, intervals of 95 %; {many}, R² {self.r_squared:.5f}; {off}"

    def __str__(self) -> str:
        return f"{self.noun} = {self.text()}"
