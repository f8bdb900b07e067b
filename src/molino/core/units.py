"""Quantities in, SI floats inside, quantities out; the arithmetic of units is pint's.

`read` turns what a person writes (a string, a pint quantity, a bare number) into a `Value`: an SI float together with
the unit it came in, so that results can be shown the way the question was asked. A bare number is taken as SI.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cache, lru_cache
from typing import TYPE_CHECKING, Any

from molino.core.arguments import short
from molino.core.errors import InputError, UnitError

if TYPE_CHECKING:
    import numpy as np
    import pint

GAS_CONSTANT = 8.31446261815324
"""Molar gas constant R in J/(mol K), exact since the 2019 revision of the SI (CODATA 2018)."""

Dimension = Mapping[str, Fraction]
"""Exponents of base dimensions, e.g. {"[length]": 3, "[substance]": -1}; empty for a pure number."""

SI_UNITS = {
    "amount": "mol",
    "area": "m^2",
    "concentration": "mol/m^3",
    "density": "kg/m^3",
    "diameter": "m",
    "diffusivity": "m^2/s",
    "energy": "J",
    "energy per amount": "J/mol",
    "energy per mass": "J/kg",
    "flux": "mol/m^2/s",
    "heat capacity": "J/mol/K",
    "heat capacity flow": "W/K",
    "heat capacity per mass": "J/kg/K",
    "heat capacity per volume": "J/m^3/K",
    "heat per temperature": "J/K",
    "heat flux": "W/m^2",
    "heat transfer coefficient": "W/m^2/K",
    "length": "m",
    "loading": "mol/kg",
    "mass": "kg",
    "mass flow": "kg/s",
    "mass transfer coefficient": "m/s",
    "molar mass": "kg/mol",
    "molar volume": "m^3/mol",
    "molar flow": "mol/s",
    "number": "",
    "power": "W",
    "power per mass": "W/kg",
    "pressure": "Pa",
    "rate": "mol/m^3/s",
    "rate per area": "mol/m^2/s",
    "rate per catalyst mass": "mol/kg/s",
    "solubility parameter": "Pa^0.5",
    "specific area": "1/m",
    "temperature": "K",
    "temperature difference": "K",
    "thermal conductivity": "W/m/K",
    "time": "s",
    "transfer coefficient": "1/s",
    "viscosity": "Pa*s",
    "volume": "m^3",
    "volumetric flow": "m^3/s",
}
"""The SI unit of each kind of quantity that Molino asks for."""

EXAMPLES = {
    "amount": "2.5 kmol",
    "area": "12 cm^2",
    "concentration": "0.35 mol/L",
    "density": "980 kg/m3",
    "diameter": "80 mm",
    "diffusivity": "2e-6 m2/s",
    "energy": "3 MJ",
    "energy per amount": "120 kJ/mol",
    "energy per mass": "350 kJ/kg",
    "flux": "0.2 mol/m2/h",
    "heat capacity": "75 J/mol/K",
    "heat capacity flow": "2 kW/K",
    "heat capacity per mass": "4.2 kJ/kg/K",
    "heat capacity per volume": "4.2 MJ/m3/K",
    "heat per temperature": "25 kJ/K",
    "heat flux": "2 kW/m2",
    "heat transfer coefficient": "400 W/m2/K",
    "length": "60 m",
    "loading": "1.5 mol/kg",
    "mass": "250 kg",
    "mass flow": "5 t/h",
    "mass transfer coefficient": "2e-4 m/s",
    "molar mass": "96.1 g/mol",
    "molar volume": "83 cm3/mol",
    "molar flow": "4 kmol/h",
    "number": "0.9",
    "power": "15 kW",
    "power per mass": "12 W/kg",
    "pressure": "3 bar",
    "rate": "0.2 mol/L/min",
    "rate per area": "0.2 mol/m2/h",
    "rate per catalyst mass": "0.2 mol/kg/h",
    "solubility parameter": "18.2 MPa^0.5",
    "specific area": "300 m2/m3",
    "temperature": "175 degC",
    "temperature difference": "40 K",
    "thermal conductivity": "0.6 W/m/K",
    "time": "3 h",
    "transfer coefficient": "0.1 1/s",
    "viscosity": "0.02 mPa*s",
    "volume": "4 m3",
    "volumetric flow": "12 m3/h",
}

_MOST = 1e30
"""Largest number in SI of a known kind of quantity."""
_LEAST = {"length": 1e-30, "diameter": 1e-30, "area": 1e-60, "volume": 1e-90, "time": 1e-30}
"""Smallest numbers in SI that are not zero: powers would vanish."""
_LEAST_OF_ANY = 2.3e-308
"""The same of all else: below it floats lose their digits."""
_MOST_OF = {"temperature": 1e7, "energy per amount": 1e10, "length": 1e9, "diameter": 1e9}
"""The same of kinds that matter by exponentials or powers; a temperature may be an activation energy over R, too."""
_MOST_OF_ANY = 1e200
"""The same of a rate constant, whose unit may be any."""
_NUMBER = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(.*?)\s*$", re.DOTALL)
_SPREAD = re.compile(
    r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(?:\+/?-|±)\s*((?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)(.*)",
    re.DOTALL,
)
_LIKELY = {"C": "degC", "c": "degC", "°": "degC", "deg C": "degC", "F": "degF", "deg": "degC", "Celsius": "degC"}
_BASE_NAMES = {
    "[length]": "m",
    "[mass]": "kg",
    "[time]": "s",
    "[temperature]": "K",
    "[substance]": "mol",
    "[current]": "A",
}


def _gas(volume: str, temperature: float) -> str:
    """The amount of ideal gas in a volume at 1 atm, as pint defines a unit."""
    return f"{101325 / (GAS_CONSTANT * temperature):.15g} * mole * ({volume}) / meter**3"


_PLANT_UNITS = (
    "bbl = 42 * gallon",
    "barrel = 42 * gallon",
    "lbm = pound",
    "bpd = 42 * gallon / day",
    "gpm = gallon / minute",
    "cfm = foot**3 / minute",
    "lpm = liter / minute",
    "tpd = 1000 * kilogram / day",
    "lbmol = 453.59237 * mole",
    "kgmol = 1000 * mole",
    "gmol = mole",
    "psia = psi",
    "bara = bar",
    "ata = 98066.5 * pascal",
    "psig = 6894.757293168361 * pascal; offset: 101325",
    "barg = 100000 * pascal; offset: 101325",
    "kPag = 1000 * pascal; offset: 101325",
    "mm_water = 9.80665 * pascal",
    "inch_water = 249.08891 * pascal",
    "MMBTU = 1e6 * Btu",
    "MMBtu = 1e6 * Btu",
    f"normal_cubic_meter = {_gas('1 * meter**3', 273.15)}",
    f"standard_cubic_meter = {_gas('1 * meter**3', 288.15)}",
    f"scf = {_gas('0.3048**3 * meter**3', 288.7055555555556)}",
    "scfm = scf / minute",
    "scfh = scf / hour",
    "MSCFD = 1000 * scf / day",
    "MMSCFD = 1e6 * scf / day",
    f"sccm = {_gas('1e-6 * meter**3', 273.15)} / minute",
    f"slpm = {_gas('1e-3 * meter**3', 273.15)} / minute",
)
"""Units of plants beyond pint's: gauge pressures count from 1 atm, normal volumes (Nm3, sccm, slpm) are amounts of
ideal gas at 0 degC and 1 atm, standard ones at 15 degC (Sm3) or 60 degF (scf); a barrel is that of oil, 42 gallons."""
_WHOLE = re.compile(r"(?<![A-Za-z])(Nm3|Sm3|mmH2O|inH2O)(?![A-Za-z0-9])")
"""Units whose digits are no exponents."""
_NAMES = {"Nm3": "normal_cubic_meter", "Sm3": "standard_cubic_meter", "mmH2O": "mm_water", "inH2O": "inch_water"}
"""What pint knows them by."""
AMBIGUOUS = {
    "ton": "ton is read as the short ton of 2000 lb; t is the tonne of 1000 kg",
    "cal": "cal is read as the thermochemical calorie of 4.184 J",
    "kcal": "kcal is read as 1000 thermochemical calories of 4.184 J",
    "gal": "gal is read as the US gallon of 3.785 L",
    "gpm": "gpm is read in US gallons of 3.785 L",
    "BTU": "BTU is read as the international one of 1055.06 J",
    "bbl": "bbl is read as the oil barrel of 42 US gallons",
    "barrel": "barrel is read as the oil barrel of 42 US gallons",
    "hp": "hp is read as the mechanical horsepower of 745.7 W",
}
"""Units with two meanings in the trade, and how each is read."""


def ambiguous(text: str) -> list[str]:
    """How units with two meanings in a quantity are read, like "3 ton/h"."""
    words = re.findall(r"[A-Za-z]+", text) if re.match(r"\s*[-+.\d]", text) else []
    return [AMBIGUOUS[word] for word in words if word in AMBIGUOUS]


@cache
def registry() -> pint.UnitRegistry[Any]:
    """The one pint registry, made when a unit is first read."""
    import pint

    units: pint.UnitRegistry[Any] = pint.UnitRegistry(autoconvert_offset_to_baseunit=True, on_redefinition="ignore")
    units.formatter.default_format = "~C"
    for line in _PLANT_UNITS:
        units.define(line)
    return units


@dataclass(frozen=True)
class Unit:
    """A unit reduced to what conversion needs: SI value = factor * number + offset."""

    text: str
    factor: float
    offset: float
    dimension: Dimension

    def to_si(self, number: Any) -> Any:
        return number * self.factor + self.offset

    def from_si(self, number: Any) -> Any:
        return (number - self.offset) / self.factor


def product(first: str, second: str) -> str:
    """The unit of a product: '1/kg' and 'kg/h' make '1/h'."""
    found = registry().Unit(_spell_out(first or "dimensionless")) * registry().Unit(
        _spell_out(second or "dimensionless")
    )
    return f"{found:~C}".replace("**", "^").replace("dimensionless", "")


def _spell_out(text: str) -> str:
    """Write 'm3/h', 'mol L-1', 'm³', '°C' the way pint reads them."""
    plain = text.strip().replace("°C", "degC").replace("°F", "degF").replace("·", "*").replace("^", "**")
    plain = plain.translate(str.maketrans("²³⁻¹µμ", "23-1uu"))
    plain = "1" + plain if plain.startswith("/") else plain
    plain = _WHOLE.sub(lambda m: f"({_NAMES[m[1]]})", plain)
    plain = re.sub(r"(?<=[A-Za-z])(-?\d+(?:\.\d+)?)", r"**(\1)", plain)
    return re.sub(r"(?<=[\w)])\s+(?=[A-Za-z(])", "*", plain)


@cache
def unit(text: str) -> Unit:
    """Look a unit up by its text ("mol/L/min", "m3/h", "degC").

    Raises
    ------
    UnitError
        If nobody knows the unit.
    """
    if "%" in text and text.strip() != "%":
        raise UnitError(f"'{text[:80]}' is not a unit", advice="a share stands alone: '20 mol%', '3 wt%'")
    risky = r"\d{3}|\d\s*(\*\*|\^)"  # numbers raised to numbers: no unit is written so, and they can take for ever
    if len(text) > 80 or not re.fullmatch(r"[\w\s*/^().%°·²³⁻¹+-]*", text) or re.search(risky, text):
        raise UnitError(f"'{text[:80]}' is not a unit", advice="write units like mol/L, 1/min, m3/h, degC")
    spelled = _spell_out(text)
    try:
        found = registry().parse_units(spelled if spelled != "1" else "")
        dimension = {base: Fraction(str(power)).limit_denominator(1000) for base, power in found.dimensionality.items()}
        zero = registry().Quantity(0.0, found).to_base_units().magnitude
        one = registry().Quantity(1.0, found).to_base_units().magnitude
    except Exception as error:  # pint raises a dozen kinds, some of them Python's own
        hint = _LIKELY.get(text.strip())
        advice = f"did you mean '{hint}'?" if hint else "write units like mol/L, 1/min, m3/h, degC, kJ/mol"
        raise UnitError(f"unknown unit '{text}'", advice=advice) from error
    return Unit(text.strip(), float(one - zero), float(zero), dimension)


@dataclass(frozen=True)
class Value:
    """A number in SI, the unit that it came in (None for a bare number), and its standard deviation in SI, if any."""

    si: float
    unit: str | None = None
    deviation: float = 0.0

    def to(self, text: str) -> float:
        """The number in another unit of the same dimension."""
        return float(unit(text).from_si(self.si))

    @property
    def quantity(self) -> Any:
        """The same as a pint quantity, in the unit it came in."""
        return registry().Quantity(self.to(self.unit or ""), _spell_out(self.unit or ""))

    def text(self, digits: int) -> str:
        """The number to some digits, with the unit it came in."""
        number = self.si if self.unit is None else self.to(self.unit)
        return f"{number_text(number, digits)} {pretty(self.unit or '')}".rstrip()

    def __str__(self) -> str:
        if not isinstance(self.si, float | int):
            return "several numbers"
        if not self.deviation:
            return self.text(6)
        number = self.si if self.unit is None else self.to(self.unit)
        deviation = self.deviation / (unit(self.unit).factor if self.unit else 1.0)
        return f"{number_text(number, 6)} ± {number_text(deviation, 6)} {pretty(self.unit or '')}".rstrip()


def number_text(number: float, digits: int) -> str:
    """A number to some digits; below a million with all before the point, 11574 and not 1.157e+04."""
    return f"{number:.0f}" if 10.0**digits <= abs(number) < 1e6 else f"{number:.{digits}g}"


def split(text: str) -> tuple[float, str]:
    """Split "12 m3/h" into the number and the text of the unit."""
    match = _NUMBER.match(text)
    if match and _SPREAD.match(text):
        message = f"{short(text)} has a standard deviation, which does not count here"
        raise InputError(
            message, advice="leave it out; a feed, a charge, a size and a condition of a vessel may have one"
        )
    if not match or (match[2] and match[2][0] in ".,"):
        advice = "write a number and its unit, like '0.35 mol/L'"
        if re.search(r"\d,\d", text):
            advice += ", with a decimal point"
        raise InputError(f"{short(text)} is not a quantity", advice=advice)
    return float(match[1]), match[2]


def read(given: Any, kind: str | None = None, name: str = "") -> Value:
    """Read a quantity.

    Parameters
    ----------
    given : str, int, float, pint quantity or Value
        What a person wrote: "12 m3/h", a quantity of any pint registry, or a bare number, which is taken as SI.
    kind : str, optional
        A key of `SI_UNITS`; the dimension is held against it. Without it any dimension goes.
    name : str
        The argument, for the message.

    Returns
    -------
    Value
        The SI number and the unit that it came in.

    Raises
    ------
    UnitError
        If the unit is unknown or of another dimension than `kind`.
    InputError
        If there is no finite number.
    """
    try:
        if isinstance(given, Value):
            value = given
        elif isinstance(given, str):
            number, text = split(given)
            value = Value(float(unit(text).to_si(number)), text) if text else Value(number)
        elif isinstance(given, bool) or given is None:
            raise InputError(f"{given!r} is not a quantity", advice=_example(kind))
        elif hasattr(given, "magnitude") and hasattr(given, "units"):
            text = f"{given.units:~C}"
            value = Value(float(unit(text).to_si(float(given.magnitude))), text)
        else:
            value = Value(float(given))
    except OverflowError:
        value = Value(math.inf)
    except (TypeError, ValueError) as error:
        raise InputError(f"{short(given)} is not a quantity", where=name, advice=_example(kind)) from error
    except InputError as error:
        raise type(error)(fault.within(name) if name else fault for fault in error.faults) from error
    if not math.isfinite(value.si):
        raise InputError(f"{short(given)} is not a finite number", where=name, advice=_example(kind))
    most = _MOST if kind else _MOST_OF_ANY
    least = 0.0 if kind == "number" else _LEAST.get(kind or "", _LEAST_OF_ANY)
    if abs(value.si) > most or 0 < abs(value.si) < least:
        size = "large" if abs(value.si) > 1 else "small"
        raise InputError(f"{short(given)} is too {size} to compute with", where=name, advice=_example(kind))
    if kind is not None and value.unit is not None:
        expect(value.unit, kind, name, str(given))
    if kind in _MOST_OF and abs(value.si) > _MOST_OF[kind]:
        message = f"{short(given)} is beyond what Molino computes with ({_MOST_OF[kind]:g} {SI_UNITS[kind]})"
        raise InputError(message, where=name, advice=_example(kind))
    return value


def split_deviation(text: str) -> tuple[str, float, float] | None:
    """'12 +- 1 m3/h' (or with ±) as '12 m3/h', 12 and 1; None where there is no standard deviation."""
    match = _SPREAD.fullmatch(text)
    return None if match is None else (f"{match[1]}{match[3]}", float(match[1]), float(match[2]))


def with_deviation(given: Any, reader: Callable[[Any], Value]) -> Value:
    """Read what may have a standard deviation, "12 +- 1 m3/h"; `reader` reads the number without."""
    parts = split_deviation(given) if isinstance(given, str) else None
    if parts is None:
        return reader(given)
    value = reader(parts[0])
    return replace(value, deviation=parts[2] * (unit(value.unit).factor if value.unit else 1.0))


def read_numbers(given: Any, kind: str, name: str = "") -> np.ndarray:
    """Several numbers in SI, shape (numbers,): an array (in SI), a pint quantity of one, or quantities in a list.

    Raises
    ------
    UnitError, InputError
        As `read`.
    """
    import numpy as np

    if hasattr(given, "magnitude") and hasattr(given, "units"):
        text = f"{given.units:~C}"
        expect(text, kind, name)
        return np.atleast_1d(np.asarray(unit(text).to_si(np.asarray(given.magnitude, dtype=float))))
    items = [given] if isinstance(given, str) or np.ndim(given) == 0 else list(given)
    if any(isinstance(item, str | Value) or hasattr(item, "magnitude") for item in items):
        return np.array([read(item, kind, name).si for item in items])
    try:
        return np.asarray(items, dtype=float)
    except (TypeError, ValueError) as error:
        raise InputError(f"{given!r} are not numbers", where=name, advice=_example(kind)) from error


def read_difference(given: Any, kind: str, name: str = "") -> float:
    """A difference of two quantities in SI, like a standard deviation: "0.5 degC" are 0.5 K."""
    value = positive(given, kind, name)
    found = unit(value.unit) if value.unit else None
    difference = value.si if found is None else float(found.from_si(value.si)) * found.factor
    if not difference > 0:
        raise InputError(f"{given!s} must be above zero", where=name, advice="give a size, like '0.5 K'")
    return difference


def _example(kind: str | None) -> str:
    return f"write it like '{EXAMPLES[kind]}'" if kind else "write it like '0.35 mol/L'"


def expect(text: str, kind: str, name: str = "", given: str | None = None) -> Unit:
    """Look a unit up and hold its dimension against a kind of quantity; UnitError if they differ."""
    found, wanted = unit(text), unit(SI_UNITS[kind])
    if found.dimension != wanted.dimension:
        message = given if given is not None else text
        advice = (
            f"give {article(kind)}, like '{EXAMPLES[kind]}'"
            if kind != "number"
            else "give a plain number, without unit"
        )
        if kind == "temperature" and text.strip() in _LIKELY:
            advice = f"did you mean '{_LIKELY[text.strip()]}'?"
        raise UnitError(
            f"'{message}' is not {article(kind)}: {text or '1'} is a unit of {describe(found.dimension)}", name, advice
        )
    if kind == "temperature difference" and found.offset:
        message = given if given is not None else text
        raise UnitError(f"'{message}' is a temperature, and no difference of two", name, "give it in K")
    return found


def article(noun: str) -> str:
    """'a length', 'an amount'."""
    return f"{'an' if noun[0] in 'aeiou' else 'a'} {noun}"


def positive(given: Any, kind: str, name: str, zero: bool = False) -> Value:
    """Read a quantity that must be above zero (or, with `zero`, not below it)."""
    return (_positive_known if isinstance(given, str | Value) else _positive)(given, kind, name, zero)


def _positive(given: Any, kind: str, name: str, zero: bool) -> Value:
    value = read(given, kind, name)
    if value.si < 0 or (value.si == 0 and not zero):
        what = "must not be negative" if zero else "must be above zero"
        advice = "temperatures are absolute: check the unit" if kind == "temperature" else "check the sign"
        raise InputError(f"{kind} {given!s} {what}", where=name, advice=advice)
    return value


_positive_known = lru_cache(maxsize=8192)(_positive)


def si_text(dimension: Dimension) -> str:
    """A unit in SI base units for a dimension, e.g. 'm^3/mol/s'."""
    up = [_power(_BASE_NAMES.get(base, base), power) for base, power in dimension.items() if power > 0]
    down = [_power(_BASE_NAMES.get(base, base), -power) for base, power in dimension.items() if power < 0]
    return "/".join(["*".join(up) or "1", *down]) if up or down else ""


def everyday_text(dimension: Dimension) -> str:
    """A unit of the laboratory for a dimension: 'L/mol/min' where SI says m^3/mol/s."""
    left = {base: power for base, power in dimension.items() if power}
    litres = left.get("[length]", Fraction(0)) / 3
    if litres.denominator != 1:
        return si_text(left)
    bases = {"mol": "[substance]", "kg": "[mass]", "min": "[time]"}
    names = {"L": litres, **{name: left.get(base, Fraction(0)) for name, base in bases.items()}}
    if left.keys() - {"[length]", *bases.values()}:
        return si_text(left)
    up = [_power(name, power) for name, power in names.items() if power > 0]
    down = [_power(name, -power) for name, power in names.items() if power < 0]
    return "/".join(["*".join(up) or "1", *down]) if up or down else "no unit"


def _power(name: str, power: Fraction) -> str:
    return name if power == 1 else f"{name}^{power}" if power.denominator == 1 else f"{name}^{float(power):g}"


_OTHER_WORDS = {
    "mass transfer coefficient": "speed",
    "transfer coefficient": "frequency or first-order rate constant",
}
"""What else has the unit of a kind."""


def describe(dimension: Dimension) -> str:
    """A dimension in words: the kind it belongs to, or its SI unit."""
    for kind, text in SI_UNITS.items():
        if text and unit(text).dimension == dimension and kind not in ("diameter",):
            return _OTHER_WORDS.get(kind, kind)
    return si_text(dimension) or "a pure number"


def pretty(text: str) -> str:
    """A unit for the eye: 'm3/h' as 'm³/h', 'degC' as '°C'."""
    shown = text.strip().replace("**", "^").replace("degC", "°C").replace("degF", "°F")
    return re.sub(r"(?<=[A-Za-z])\^?([23])(?![\dA-Za-z.])", lambda m: {"2": "²", "3": "³"}[m[1]], shown)


def pretty_heading(heading: str) -> str:
    """A heading with its unit for the eye: 'flow [m3/h]' as 'flow [m³/h]'."""
    name, bracket, unit = heading.partition(" [")
    return f"{name} [{pretty(unit.rstrip(']'))}]" if bracket else name


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
"""Units in which results are shown where nothing that was given says otherwise."""


@dataclass(frozen=True)
class Display:
    """Which unit each kind of quantity is shown in: the one it was given in; without any unit, plain numbers."""

    chosen: Mapping[str, str]
    unitless: bool = False

    @classmethod
    def of(cls, given: Iterable[tuple[str, Value | None]], prefer: Mapping[str, str], with_units: bool) -> Display:
        """From the values of a study by kind, and from what is preferred over them.

        `with_units` says that something else in the study (a rate constant) came with a unit.
        """
        values = [(kind, value) for kind, value in given if value is not None]
        unitless = not with_units and not prefer and all(value.unit is None for _, value in values)
        chosen: dict[str, str] = {}
        for kind, value in values:
            chosen.setdefault(kind, value.unit if value.unit is not None else SI_UNITS[kind])
        return cls({**chosen, **prefer}, unitless)

    def unit(self, kind: str) -> str:
        """The text of the unit for a kind; '' where numbers stand without one."""
        if self.unitless or kind == "number":
            return ""
        if kind in self.chosen:
            return self.chosen[kind]
        if kind.startswith("rate") or kind == "flux":
            per = {"rate per catalyst mass": "mol/kg", "rate per area": "mol/m2", "flux": "mol/m2"}
            return f"{per.get(kind) or self.unit('concentration')}/{self.unit('time')}"
        return HABIT[kind]

    def number(self, si: Any, kind: str) -> Any:
        """SI numbers in the unit shown."""
        text = self.unit(kind)
        return unit(text).from_si(si) if text else si

    def heading(self, name: str, kind: str) -> str:
        """A column heading: 'xylose [mol/L]'."""
        text = self.unit(kind)
        return f"{name} [{text}]" if text else name

    def label(self, name: str, kind: str) -> str:
        """An axis label: as a heading, with the unit pretty."""
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

    def quantity(self, si: float, kind: str) -> Any:
        """A pint quantity in the unit shown."""
        text = self.unit(kind)
        return registry().Quantity(float(self.number(si, kind)), _spell_out(text))
