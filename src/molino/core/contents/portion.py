"""The portion of a species in a feed or charge, in the form it is given."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from molino.core import units
from molino.core.errors import InputError, UnitError
from molino.core.unit_tables import EXAMPLES, SI_UNITS
from molino.core.units import Value

_RATIO = re.compile(
    r"\s*(?P<number>[-+.\deE]+)\s*(?P<top>\w+)?\s+per\s+(?:(?P<bottom>k?mol|k?g|t|lb)\s+)?(?P<of>\S+)\s*"
)
_PERCENT = re.compile(r"\s*(?P<number>[-+.\deE]+)\s*(?P<of>mol|wt|mass|vol)?\s*-?%\s*")
REST = "rest"


@dataclass(frozen=True)
class Portion:
    """The portion of a species as given: its kind, its number, and the reference species of a ratio."""

    text: str
    kind: str
    value: Value | None = None
    of: str | None = None
    mass: tuple[bool, bool] = (False, False)
    """For a ratio: whether the species and its reference are by mass."""

    @property
    def extensive(self) -> bool:
        """Whether it is an amount, and not only a proportion."""
        return self.kind in ("amount", "molar flow", "mass", "mass flow")

    @property
    def by_mass(self) -> bool:
        """Whether a molar mass is needed to read it."""
        return "mass" in self.kind or any(self.mass)

    def with_number(self, number: float) -> Portion:
        """Another number in SI, in the same form: a fraction stays a fraction, "3 per A" a ratio to A."""
        value = Value(number, None if self.value is None else self.value.unit)
        top, bottom = ("kg" if by_mass else "mol" for by_mass in self.mass)
        text = {
            "mole fraction": f"{number:.6g} mol/mol",
            "mass fraction": f"{number:.6g} kg/kg",
            "ratio": f"{number:.6g} {top} per {bottom} {self.of}",
        }.get(self.kind, str(value))
        return replace(self, text=text, value=value)

    def __str__(self) -> str:
        return str(self.value) if self.kind in SI_UNITS and self.value is not None else self.text


def read_portion(given: object, flowing: bool) -> Portion:
    """Read one entry of a feed or charge; a bare number is a concentration in mol/m^3.

    Raises
    ------
    InputError
        For text that is not a portion.
    """
    if isinstance(given, Portion):
        return given
    if isinstance(given, str) and (parts := units.split_deviation(given)) is not None:
        nominal, number, deviation = parts
        portion = read_portion(nominal, flowing)
        if portion.value is None or number <= 0:
            raise InputError(f"'{given}' has a standard deviation and no number above zero", "", "give its number")
        value = replace(portion.value, deviation=deviation * portion.value.si / number)
        return replace(portion, text=given.strip(), value=value)
    if isinstance(given, str):
        text = given.strip()
        if text == REST:
            return Portion(text, REST)
        if match := _RATIO.fullmatch(given):
            return _ratio(text, match)
        if match := _PERCENT.fullmatch(given):
            if match["of"] in (None, "vol"):
                advice = "write mol% or wt%" + (" (of a gas mol% is vol%)" if match["of"] else "")
                raise InputError(f"'{text}' has no reference", "", advice)
            kind = "mole fraction" if match["of"] == "mol" else "mass fraction"
            return Portion(text, kind, Value(_fraction(float(match["number"]) / 100, text)))
    value = units.read(given)
    if value.unit is not None:
        plain = value.unit.replace(" ", "")
        if plain in ("mol/mol", "kmol/kmol", "kg/kg", "g/g"):
            kind = "mole fraction" if "mol" in plain else "mass fraction"
            return Portion(str(given), kind, Value(_fraction(value.si, str(given))))
    total, mass = ("molar flow", "mass flow") if flowing else ("amount", "mass")
    for kind in ("concentration", total, mass, "density", "pressure"):
        same = value.unit is None or units.unit(value.unit).dimension == units.unit(SI_UNITS[kind]).dimension
        if same:
            read = units.positive(value, kind, "", zero=True)
            return Portion(
                str(given), {"density": "mass concentration", "pressure": "partial pressure"}.get(kind, kind), read
            )
    advice = f"write it like '0.35 mol/L', '{EXAMPLES[total]}', '30 mol%', '6 per xylose', '1.2 bar' or 'rest'"
    raise UnitError(
        f"'{given}' is neither a concentration nor {units.article(total)}, nor a fraction or ratio", "", advice
    )


def _fraction(number: float, text: str) -> float:
    if not 0 <= number <= 1:
        raise InputError(f"'{text}' is not a fraction", "", "a fraction lies between 0 and 1 (0 and 100 %)")
    return number


def _ratio(text: str, match: re.Match[str]) -> Portion:
    """'6 per xylose', '6 mol per mol xylose', '2 kg per kg water'."""
    factors, mass = [], []
    for unit in (match["top"] or "mol", match["bottom"] or match["top"] or "mol"):
        dimension = units.unit(unit).dimension
        if dimension not in (units.unit("mol").dimension, units.unit("kg").dimension):
            raise UnitError(f"'{text}': a ratio is of amounts or masses", "", "write it like '6 mol per mol xylose'")
        factors.append(units.unit(unit).factor)
        mass.append(dimension == units.unit("kg").dimension)
    number = units.positive(match["number"], "number", "", zero=True).si
    return Portion(text, "ratio", Value(number * factors[0] / factors[1]), match["of"], (mass[0], mass[1]))
