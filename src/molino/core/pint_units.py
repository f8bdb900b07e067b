"""Units by pint, which is imported only for a unit that no process has resolved before."""

from __future__ import annotations

import atexit
import re
from fractions import Fraction
from functools import cache
from typing import TYPE_CHECKING, Any, TypeAlias

from molino.core.disk_cache import keep, kept, state_of_package
from molino.core.errors import UnitError
from molino.core.unit_tables import LIKELY, PINT_NAMES, PLANT_UNITS, UNITS_WITH_DIGITS

if TYPE_CHECKING:
    import pint

Resolved: TypeAlias = "tuple[float, float, dict[str, str]]"
"""Factor and offset to SI, and the dimension."""
_MOST_KEPT = 2000
"""Number of units above which those of a process are not kept on disk."""


@cache
def registry() -> pint.UnitRegistry[Any]:
    """The one pint registry, made when a unit is first read."""
    import pint

    units: pint.UnitRegistry[Any] = pint.UnitRegistry(autoconvert_offset_to_baseunit=True, on_redefinition="ignore")
    units.formatter.default_format = "~C"
    for line in PLANT_UNITS:
        units.define(line)
    return units


def product(first: str, second: str) -> str:
    """The unit of a product: '1/kg' and 'kg/h' make '1/h'."""
    found = registry().Unit(spell_out(first or "dimensionless")) * registry().Unit(spell_out(second or "dimensionless"))
    return f"{found:~C}".replace("**", "^").replace("dimensionless", "")


def spell_out(text: str) -> str:
    """'m3/h', 'mol L-1', 'm³', '°C' in the notation of pint."""
    plain = text.strip().replace("°C", "degC").replace("°F", "degF").replace("·", "*").replace("^", "**")
    plain = plain.translate(str.maketrans("²³⁻¹µμ", "23-1uu"))
    plain = "1" + plain if plain.startswith("/") else plain
    plain = UNITS_WITH_DIGITS.sub(lambda m: f"({PINT_NAMES[m[1]]})", plain)
    plain = re.sub(r"(?<=[A-Za-z])(-?\d+(?:\.\d+)?)", r"**(\1)", plain)
    return re.sub(r"(?<=[\w)])\s+(?=[A-Za-z(])", "*", plain)


def resolved(text: str) -> Resolved:
    """Factor, offset and dimension of a unit; UnitError if it is unknown."""
    if text not in _known():
        _known()[text] = _by_pint(text)
    return _known()[text]


def _by_pint(text: str) -> Resolved:
    """Factor, offset and dimension of a unit."""
    spelled = spell_out(text)
    try:
        found = registry().parse_units(spelled if spelled != "1" else "")
        dimension = {
            base: str(Fraction(str(power)).limit_denominator(1000)) for base, power in found.dimensionality.items()
        }
        zero = registry().Quantity(0.0, found).to_base_units().magnitude
        one = registry().Quantity(1.0, found).to_base_units().magnitude
    except Exception as error:  # pint raises a dozen kinds, some of them Python's own
        hint = LIKELY.get(text)
        advice = f"did you mean '{hint}'?" if hint else "write units like mol/L, 1/min, m3/h, degC, kJ/mol"
        raise UnitError(f"unknown unit '{text}'", advice=advice) from error
    return float(one - zero), float(zero), dimension


@cache
def _known() -> dict[str, Resolved]:
    """The units resolved by this process and by earlier ones: to start pint takes longer than most commands need."""
    key = f"units of {state_of_package('pint')} and {PLANT_UNITS!r}"
    known = kept(key)
    found: dict[str, Resolved] = known if isinstance(known, dict) else {}
    earlier = len(found)

    def remember() -> None:
        if earlier < len(found) <= _MOST_KEPT:
            keep(key, found)

    atexit.register(remember)
    return found
