"""The kinds of quantities, their units, and the units of plants."""

from __future__ import annotations

import re
from collections.abc import Mapping
from fractions import Fraction

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
    "electrical conductivity": "S/m",
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
    "voltage": "V",
    "volume": "m^3",
    "volumetric flow": "m^3/s",
}
"""The SI unit of each kind of quantity."""
EXAMPLES = {
    "amount": "2.5 kmol",
    "area": "12 cm^2",
    "concentration": "0.35 mol/L",
    "density": "980 kg/m3",
    "diameter": "80 mm",
    "diffusivity": "2e-6 m2/s",
    "electrical conductivity": "12 mS/cm",
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
    "voltage": "35 mV",
    "volume": "4 m3",
    "volumetric flow": "12 m3/h",
}
MOST = 1e30
"""Largest number in SI of a known kind of quantity."""
LEAST = {"length": 1e-30, "diameter": 1e-30, "area": 1e-60, "volume": 1e-90, "time": 1e-30}
"""Smallest numbers in SI that are not zero: powers would vanish."""
MOST_OF = {"temperature": 1e7, "energy per amount": 1e10, "length": 1e9, "diameter": 1e9}
"""The same for kinds in exponentials or powers; a temperature may also be an activation energy over R."""
BASE_NAMES = {
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


PLANT_UNITS = (
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
"""Plant units that pint does not have: gauge pressures are relative to 1 atm, normal volumes (Nm3, sccm, slpm) are
amounts of ideal gas at 0 degC and 1 atm, standard ones at 15 degC (Sm3) or 60 degF (scf); a barrel is that of oil, 42
gallons."""
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
"""Units with two meanings in the trade, and the meaning used."""
OTHER_WORDS = {
    "mass transfer coefficient": "speed",
    "transfer coefficient": "frequency or first-order rate constant",
}
"""Other quantities with the unit of a kind."""

LIKELY = {"C": "degC", "c": "degC", "°": "degC", "deg C": "degC", "F": "degF", "deg": "degC", "Celsius": "degC"}
"""Units of temperature that were probably meant."""
UNITS_WITH_DIGITS = re.compile(r"(?<![A-Za-z])(Nm3|Sm3|mmH2O|inH2O)(?![A-Za-z0-9])")
"""Units whose digits are not exponents."""
PINT_NAMES = {"Nm3": "normal_cubic_meter", "Sm3": "standard_cubic_meter", "mmH2O": "mm_water", "inH2O": "inch_water"}


def ambiguous(text: str) -> list[str]:
    """The meanings used for ambiguous units of a quantity, like "3 ton/h"."""
    words = re.findall(r"[A-Za-z]+", text) if re.match(r"\s*[-+.\d]", text) else []
    return [AMBIGUOUS[word] for word in words if word in AMBIGUOUS]
