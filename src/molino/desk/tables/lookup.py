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
    """A species with the properties that the package `chemicals` holds of it (the extra `molino[species]`).

    Formula, critical constants and acentric factor, the density of the liquid at 298.15 K, the vapor pressure (R. H.
    Perry, D. W. Green, Perry's Chemical Engineers' Handbook, 8th ed. 2008, table 2-8), and for the phase asked for the
    enthalpy of formation, the entropy and the heat capacity (of the gas a polynomial of fourth degree: B. E.
    Poling, J. M. Prausnitz, J. P. O'Connell, The Properties of Gases and Liquids, 5th ed. 2001, appendix A; of a liquid
    one of third degree: M. Zábranský, Z. Kolská, V. Růžička, E. S. Domalski, J. Phys. Chem. Ref. Data 39 (2010) 013103,
    or the number at 298.15 K), and of the liquid the Rackett factor. `source` names the data set that each number came
    from, and what there is none of.

    Parameters
    ----------
    identifier : str
        A name or a CAS number.
    phase : "gas" or "liquid"
    name : str, optional
        What to call it; otherwise the identifier, or for a number the common name.

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
    try:
        import chemicals
    except ImportError as error:
        message = f"looking up '{identifier}' needs the package 'chemicals', which is not installed"
        raise InputError(message, "look_up", "install it: pip install 'molino[species]'") from error
    if phase not in ("gas", "liquid"):
        raise InputError(f"phase = {phase!r}", "look_up", "give 'gas' or 'liquid'")
    try:
        found = chemicals.search_chemical(identifier)
    except ValueError as error:
        advice = "try another name or the CAS number, or give the properties yourself"
        raise InputError(f"'{identifier}' is not known there", "look_up", advice) from error
    cas = found.CASs
    sources: list[str] = []
    given: dict[str, Any] = {}
    letter = phase[0]
    asked = {
        "critical_temperature": ("Tc", "K"),
        "critical_pressure": ("Pc", "Pa"),
        "acentric_factor": ("omega", ""),
        "enthalpy_of_formation": (f"Hf{letter}", "J/mol"),
        "entropy": (f"S0{letter}", "J/mol/K"),
    }
    for key, (function, unit) in asked.items():
        number = getattr(chemicals, function)(cas)
        if number is not None and math.isfinite(number):
            given[key] = Value(float(number), unit)
            sources.append(f"{key} {getattr(chemicals, function + '_methods')(cas)[0]}")
    poling = chemicals.heat_capacity.Cp_data_Poling
    if cas in poling.index:
        row = poling.loc[cas]
        if phase == "gas" and math.isfinite(row["a0"]):
            terms = [
                Value(float(row[f"a{n}"]) * GAS_CONSTANT, f"J/mol/K^{n + 1}" if n else "J/mol/K") for n in range(5)
            ]
            given["heat_capacity"] = HeatCapacity(terms, valid=(float(row["Tmin"]), float(row["Tmax"])))
        elif phase == "liquid" and math.isfinite(row["Cpl"]):
            given["heat_capacity"] = Value(float(row["Cpl"]), "J/mol/K")
        if "heat_capacity" in given:
            sources.append("heat_capacity POLING")
    over_T = _liquid_heat_capacity(chemicals, cas) if phase == "liquid" else None
    if over_T is not None:
        given["heat_capacity"] = over_T
        sources = [one for one in sources if not one.startswith("heat_capacity")] + ["heat_capacity ZABRANSKY_SPLINE"]
    density = _liquid_density(chemicals, cas, found.MW)
    if density is not None:
        given["density"] = Value(density, "kg/m^3")
        sources.append("density PERRY_8 at 298.15 K")
    expansion = chemicals.volume.rho_data_COSTALD
    if phase == "liquid" and cas in expansion.index and {"critical_temperature", "density"} <= given.keys():
        given["rackett_factor"] = Value(float(expansion.loc[cas]["Z_RA"]))
        sources.append("rackett_factor COSTALD")
    vapor_pressure = _vapor_pressure(chemicals, cas)
    if vapor_pressure is not None:
        given["vapor_pressure"] = vapor_pressure
        sources.append("vapor_pressure PERRY_8")
    lacking = [
        name.replace("_", " ") for name in (*asked, "heat_capacity", "density", "vapor_pressure") if name not in given
    ]
    message = f"chemicals {chemicals.__version__}, CAS {found.CASs}, {phase}: {', '.join(sources)}"
    message += f"; it has no {', no '.join(lacking)}" if lacking else ""
    called = name or re.sub(r"^[\W\d_]+", "", identifier if re.match(r"[^\W\d]", identifier) else found.common_name)
    return Species(called.replace(" ", "_"), found.formula, source=message, **given)


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
