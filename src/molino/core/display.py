"""The units in which results are shown."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from molino.core.unit_tables import (
    SI_UNITS,
)
from molino.core.units import Value, number_text, pretty, unit

if TYPE_CHECKING:
    pass


HABIT = {
    **SI_UNITS,
    "concentration": "mol/L",
    "time": "min",
    "temperature": "degC",
    "volume": "m3",
    "volumetric flow": "m3/h",
    "molar flow": "kmol/h",
    "mass flow": "kg/h",
    "energy per amount": "kJ/mol",
    "pressure": "bar",
    "power": "kW",
    "energy": "MJ",
    "energy per mass": "kJ/kg",
}
"""Default units of results, for kinds that no input has."""


@dataclass(frozen=True)
class Display:
    """The unit of each kind of quantity in results: that of the inputs; plain numbers if no input has a unit."""

    chosen: Mapping[str, str]
    unitless: bool = False

    @classmethod
    def of(cls, given: Iterable[tuple[str, Value | None]], prefer: Mapping[str, str], with_units: bool) -> Display:
        """From the values of a study by kind, and from preferred units.

        `with_units`: another input of the study (a rate constant) has a unit.
        """
        values = [(kind, value) for kind, value in given if value is not None]
        unitless = not with_units and not prefer and all(value.unit is None for _, value in values)
        chosen: dict[str, str] = {}
        for kind, value in values:
            chosen.setdefault(kind, value.unit if value.unit is not None else SI_UNITS[kind])
        return cls({**chosen, **{kind.replace("_", " "): text for kind, text in prefer.items()}}, unitless)

    def unit(self, kind: str) -> str:
        """The text of the unit of a kind; '' for plain numbers."""
        if self.unitless or kind == "number":
            return ""
        if kind in self.chosen:
            return self.chosen[kind]
        if kind.startswith("rate") or kind == "flux":
            per = {"rate per catalyst mass": "mol/kg", "rate per area": "mol/m2", "flux": "mol/m2"}
            return f"{per.get(kind) or self.unit('concentration')}/{self.unit('time')}"
        return HABIT[kind]

    def rate_constant_unit(self, order: float) -> str:
        """The unit of a rate constant of an overall order: "1/min", "L/mol/min", "(mol/L)^0.5/min"; '' for numbers."""
        return "" if self.unitless else f"{self.concentration_power(1 - order) or 1}/{self.unit('time')}"

    def concentration_power(self, power: float) -> str:
        """The unit of a power of a concentration; '' for a power of zero, and for plain numbers."""
        if self.unitless or abs(power) < 1e-9:
            return ""
        c = self.unit("concentration")
        above, _, below = c.partition("/")
        return {1.0: c, -1.0: f"{below or 1}/{above}"}.get(round(power, 9), f"({c})^{power:.3g}")

    def number(self, si: object, kind: str) -> Any:
        """SI numbers in the unit of results."""
        text = self.unit(kind)
        return unit(text).from_si(si) if text else si

    def heading(self, name: str, kind: str) -> str:
        """A column heading: 'xylose [mol/L]'."""
        text = self.unit(kind)
        return f"{name} [{text}]" if text else name

    def label(self, name: str, kind: str) -> str:
        """An axis label: a heading with a typeset unit."""
        text = self.unit(kind)
        return f"{name} [{pretty(text)}]" if text else name

    def text(self, si: float, kind: str, digits: int = 4) -> str:
        """A number with its unit, for reading."""
        return f"{number_text(self.number(si, kind), digits)} {pretty(self.unit(kind))}".rstrip()

    def difference(self, si: Any, kind: str) -> Any:
        """Differences of SI numbers (standard deviations, residuals) in the unit of differences."""
        text = self.difference_unit(kind)
        return si / unit(text).factor if text else si

    def difference_unit(self, kind: str) -> str:
        """As `unit`; of temperatures K, since 5 °C is also a temperature, and of gauge pressures the plain unit."""
        if kind == "temperature" and not self.unitless:
            return "K"
        text = self.unit(kind)
        return text.removesuffix("g") if kind == "pressure" and text and unit(text).offset else text

    def difference_text(self, si: float, kind: str, digits: int = 3) -> str:
        """A difference with its unit, for reading."""
        return f"{number_text(self.difference(si, kind), digits)} {pretty(self.difference_unit(kind))}".rstrip()

    def quantity(self, si: float, kind: str) -> Value:
        """A value in the unit of results."""
        return Value(float(si), self.unit(kind) or None)
