"""Look a species up in open data that come with an installed package; nothing is downloaded."""

from __future__ import annotations

import math
import re
from typing import Any

from molino.core.arguments import checked
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE, HeatCapacity
from molino.core.chemistry.species import Species
from molino.core.chemistry.vapor_pressure import VaporPressure
from molino.core.errors import InputError
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value


@checked
def look_up(identifier: str, phase: str = "gas", name: str = "") -> Species:
    """A species with the properties that the package `chemicals` has of it (the extra `molino[species]`).

    The formula, the critical constants, the acentric factor, the density of the liquid at 298.15 K and the vapor
    pressure (R. H. Perry, D. W. Green, Perry's Chemical Engineers' Handbook, 8th ed. 2008, table 2-8). Of the given
    phase the enthalpy of formation, the entropy and the heat capacity: of a gas a polynomial of degree four (B. E.
    Poling, J. M. Prausnitz, J. P. O'Connell, The Properties of Gases and Liquids, 5th ed. 2001, appendix A), of a
    liquid one of degree three (M. Zábranský, Z. Kolská, V. Růžička, E. S. Domalski, J. Phys. Chem. Ref. Data 39 (2010)
    013103) or the number at 298.15 K. Of a liquid also the Rackett factor. `source` names the data set of each number,
    and the properties that are missing.

    Parameters
    ----------
    identifier : str
        A name or a CAS number.
    phase : "gas" or "liquid"
    name : str, optional
        Its name; by default the identifier, or the common name where that is a number.

    Returns
    -------
    Species

    Raises
    ------
    InputError
        If the extra is not installed, or the package does not know the species.

    Examples
    --------
    >>> import importlib.util
    >>> if importlib.util.find_spec("chemicals"):
    ...     water = mo.files.look_up("water")
    """
    chemicals, found = _search(identifier, phase)
    properties = _constants(chemicals, found.CASs, phase)
    properties |= _heat_capacity(chemicals, found.CASs, phase)
    density = _liquid_density(chemicals, found.CASs, found.MW)
    if density is not None:
        properties["density"] = Value(density, "kg/m^3"), "PERRY_8 at 298.15 K"
    expansion = chemicals.volume.rho_data_COSTALD
    if phase == "liquid" and found.CASs in expansion.index and {"critical_temperature", "density"} <= properties.keys():
        properties["rackett_factor"] = Value(float(expansion.loc[found.CASs]["Z_RA"])), "COSTALD"
    vapor_pressure = _vapor_pressure(chemicals, found.CASs)
    if vapor_pressure is not None:
        properties["vapor_pressure"] = vapor_pressure, "PERRY_8"
    sources = [f"{key} {source}" for key, (_, source) in properties.items()]
    missing = [key.replace("_", " ") for key in _LOOKED_UP if key not in properties]
    source = f"chemicals {chemicals.__version__}, CAS {found.CASs}, {phase}: {', '.join(sources)}"
    source += f"; without {', '.join(missing)}" if missing else ""
    called = name or re.sub(r"^[\W\d_]+", "", identifier if re.match(r"[^\W\d]", identifier) else found.common_name)
    given = {key: value for key, (value, _) in properties.items()}
    return Species(called.replace(" ", "_"), found.formula, source=source, **given)


_CONSTANTS = {
    "critical_temperature": ("Tc", "K"),
    "critical_pressure": ("Pc", "Pa"),
    "acentric_factor": ("omega", ""),
    "enthalpy_of_formation": ("Hf", "J/mol"),
    "entropy": ("S0", "J/mol/K"),
}
"""Each property, the function of the package that gives it (of the last two one per phase), and its unit."""
_LOOKED_UP = (*_CONSTANTS, "heat_capacity", "density", "vapor_pressure")


def _search(identifier: str, phase: str) -> tuple[Any, Any]:
    """The package, and its entry of a species."""
    try:
        import chemicals
    except ImportError as error:
        message = f"looking up '{identifier}' needs the package 'chemicals', which is not installed"
        raise InputError(message, "look_up", "install it: pip install 'molino[species]'") from error
    if phase not in ("gas", "liquid"):
        raise InputError(f"phase = {phase!r}", "look_up", "give 'gas' or 'liquid'")
    try:
        return chemicals, chemicals.search_chemical(identifier)
    except ValueError as error:
        advice = "try another name or the CAS number, or give the properties yourself"
        raise InputError(f"the package 'chemicals' has no '{identifier}'", "look_up", advice) from error


def _constants(chemicals: object, cas: str, phase: str) -> dict[str, tuple[Any, str]]:
    found: dict[str, tuple[Any, str]] = {}
    for key, (stem, unit) in _CONSTANTS.items():
        function = stem + phase[0] if stem in ("Hf", "S0") else stem
        number = getattr(chemicals, function)(cas)
        if number is not None and math.isfinite(number):
            found[key] = Value(float(number), unit), getattr(chemicals, function + "_methods")(cas)[0]
    return found


def _heat_capacity(chemicals: Any, cas: str, phase: str) -> dict[str, tuple[Any, str]]:
    over_T = _liquid_heat_capacity(chemicals, cas) if phase == "liquid" else None
    if over_T is not None:
        return {"heat_capacity": (over_T, "ZABRANSKY_SPLINE")}
    poling = chemicals.heat_capacity.Cp_data_Poling
    if cas not in poling.index:
        return {}
    row = poling.loc[cas]
    if phase == "gas" and math.isfinite(row["a0"]):
        unit = ["J/mol/K", *(f"J/mol/K^{n + 1}" for n in range(1, 5))]
        terms = [Value(float(row[f"a{n}"]) * GAS_CONSTANT, unit[n]) for n in range(5)]
        return {"heat_capacity": (HeatCapacity(terms, valid=(float(row["Tmin"]), float(row["Tmax"]))), "POLING")}
    if phase == "liquid" and math.isfinite(row["Cpl"]):
        return {"heat_capacity": (Value(float(row["Cpl"]), "J/mol/K"), "POLING")}
    return {}


def _liquid_heat_capacity(chemicals: Any, cas: str) -> HeatCapacity | None:
    """The piece around 298.15 K of a cubic spline, Cp/R = sum of a_n (T/100 K)^n."""
    chemicals.heat_capacity.Cp_data_Poling  # noqa: B018 - loads the tables
    found = chemicals.heat_capacity.zabransky_dict_iso_s.get(cas)
    for piece in found.models if found is not None else ():
        if piece.Tmin <= STANDARD_TEMPERATURE <= piece.Tmax:
            terms = [
                Value(a * GAS_CONSTANT / 100**n, f"J/mol/K^{n + 1}" if n else "J/mol/K")
                for n, a in enumerate(piece.coeffs)
            ]
            return HeatCapacity(terms, valid=(piece.Tmin, piece.Tmax))
    return None


def _vapor_pressure(chemicals: Any, cas: str) -> VaporPressure | None:
    """ln P = C1 + C2/T + C3 ln T + C4 T^C5, in Pa and K."""
    table = chemicals.vapor_pressure.Psat_data_Perrys2_8
    if cas not in table.index:
        return None
    row = table.loc[cas]
    numbers = [float(row[f"C{n}"]) for n in range(1, 6)]
    if not all(map(math.isfinite, numbers)):
        return None
    a, b, c, d, e = numbers
    return VaporPressure(a, b, c, d, e, valid=(float(row["Tmin"]), float(row["Tmax"])))


def _liquid_density(chemicals: Any, cas: str, molar_mass: float) -> float | None:
    """Density of the liquid in kg/m^3 at 298.15 K (Perry's Chemical Engineers' Handbook, 8th ed. 2008, table 2-32)."""
    table = chemicals.volume.rho_data_Perry_8E_105_l
    if cas not in table.index:
        return None
    row = table.loc[cas]
    if not row["Tmin"] <= STANDARD_TEMPERATURE <= row["Tmax"]:
        return None
    density = chemicals.EQ105(STANDARD_TEMPERATURE, *(float(row[f"C{n}"]) for n in range(1, 5)))
    return float(density) * molar_mass * 1e-3
