"""The unit of a dimension as text, in SI or in units of the laboratory."""

from __future__ import annotations

from fractions import Fraction

from molino.core.unit_tables import BASE_NAMES, Dimension


def si_text(dimension: Dimension) -> str:
    """A unit in SI base units for a dimension, e.g. 'm^3/mol/s'."""
    up = [_power(BASE_NAMES.get(base, base), power) for base, power in dimension.items() if power > 0]
    down = [_power(BASE_NAMES.get(base, base), -power) for base, power in dimension.items() if power < 0]
    return "/".join(["*".join(up) or "1", *down]) if up or down else ""


def everyday_text(dimension: Dimension) -> str:
    """A unit of the laboratory for a dimension: 'L/mol/min' for m^3/mol/s."""
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
