"""The dimension of a rate law, computed from its formula and constants.

Each constant's dimension is known (it came with a unit) or not (a bare number). Every sum, every argument of exp or
log and the rate law as a whole give linear equations in the exponents of the base dimensions; they are solved by
elimination in exact fractions. A contradiction names a constant and the unit that would resolve it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fractions import Fraction

import sympy as sp

from molino.core import units
from molino.core.chemistry.formula import GAS, PRESSURE, TEMPERATURE, constant, species_in
from molino.core.dimension_text import everyday_text
from molino.core.errors import InputError, UnitError
from molino.core.symbols import Quantity
from molino.core.unit_tables import Dimension

_ENERGY_PER_AMOUNT_TEMPERATURE = "J/mol/K"

Exponents = dict[str, Fraction]
"""Exponents of base dimensions ('[length]') and of constants of unknown dimension ('k') alike."""


def _plus(a: Mapping[str, Fraction], b: Mapping[str, Fraction], times: Fraction = Fraction(1)) -> Exponents:
    total = dict(a)
    for name, power in b.items():
        total[name] = total.get(name, Fraction(0)) + times * power
    return {name: power for name, power in total.items() if power}


class _Walk:
    """Collects the equations that the dimensions of a formula must satisfy."""

    def __init__(self, known: Mapping[str, Dimension | None], orders: Mapping[str, float]) -> None:
        self.known, self.orders = known, orders
        self.equations: list[tuple[Exponents, str]] = []

    def dimension(self, e: sp.Basic) -> Exponents:
        if e.is_Number:
            return {}
        if isinstance(e, Quantity):
            return self.symbol(e)
        if isinstance(e, sp.Mul):
            total: Exponents = {}
            for factor in e.args:
                total = _plus(total, self.dimension(factor))
            return total
        if isinstance(e, sp.Add):
            first = self.dimension(e.args[0])
            for term in e.args[1:]:
                self.equations.append((_plus(first, self.dimension(term), Fraction(-1)), f"the sum {e}"))
            return first
        if isinstance(e, sp.Pow) and e.base is not sp.E:
            base = self.dimension(e.base)
            if e.exp.free_symbols:
                self.pure(e.exp, f"the exponent {e.exp}")
                try:
                    power = float(e.exp.xreplace({constant(name): sp.Float(n) for name, n in self.orders.items()}))
                except TypeError:
                    return self.to_unknown_power(e, base)
            else:
                power = float(e.exp)
            return {name: p * Fraction(power).limit_denominator(1000) for name, p in base.items()}
        self.pure(e.args[0] if isinstance(e, sp.exp | sp.log) else e.exp, str(e))
        return {}

    def to_unknown_power(self, e: sp.Pow, base: Exponents) -> Exponents:
        """A power with an unknown exponent: its base must be a pure number."""
        if any(name.startswith("[") for name in base):
            message = f"{e} has no unit while the order {e.exp} is unknown, and neither has the rate constant"
            raise InputError(message, "", f"divide the base: ({e.base}/c0)^{e.exp} with c0='1 mol/L'")
        self.equations.append((base, f"the base of {e}"))
        return {}

    def symbol(self, s: Quantity) -> Exponents:
        kind = species_in(s)
        if kind is not None:
            return dict(units.unit({"": "mol/m^3", "p": "Pa", "f": "Pa", "x": "", "a": ""}[kind[0]]).dimension)
        if s in (TEMPERATURE, PRESSURE):
            return dict(units.unit("K" if s == TEMPERATURE else "Pa").dimension)
        if s == GAS:
            return dict(units.unit(_ENERGY_PER_AMOUNT_TEMPERATURE).dimension)
        known = self.known.get(str(s.owner))
        return {str(s.owner): Fraction(1)} if known is None else dict(known)

    def pure(self, e: sp.Expr, where: str) -> None:
        """An exponent or an argument of exp: dimensionless, where a bare number may have any dimension
        (exp(-5000/T))."""
        for term in sp.Add.make_args(e):
            total = self.dimension(term)
            if not any(c.is_Number and abs(c) != 1 for c in sp.Mul.make_args(term)):
                self.equations.append((total, where))


def _contradiction(equations: list[tuple[Exponents, str]]) -> tuple[str | None, dict[str, Exponents]]:
    """Solve for the unknown dimensions: (the equation that fails, or None) and the result."""
    solved: dict[str, Exponents] = {}
    for equation, where in equations:
        left = dict(equation)
        for name in [n for n in left if n in solved]:
            left = _plus(left, _plus(solved[name], {name: Fraction(-1)}), left[name])
        pivot = next((name for name in left if not name.startswith("[")), None)
        if pivot is None:
            if left:
                return where, solved
            continue
        rest = {name: -power / left[pivot] for name, power in left.items() if name != pivot}
        for name, found in solved.items():
            if pivot in found:
                times = found[pivot]
                solved[name] = _plus({n: p for n, p in found.items() if n != pivot}, rest, times)
        solved[pivot] = rest
    return None, solved


def check_dimensions(
    rate: sp.Expr, known: Mapping[str, Dimension | None], orders: Mapping[str, float], rate_dimension: Dimension
) -> dict[str, Dimension]:
    """Check the dimension of a rate law.

    Parameters
    ----------
    rate : sympy expression
        The formula, with constants as symbols.
    known : mapping
        Dimension of each constant; None for a bare number.
    orders : mapping
        Numbers of the constants in exponents.
    rate_dimension : mapping
        Dimension of the whole rate law, e.g. amount/volume/time.

    Returns
    -------
    dict
        The dimension that each unitless constant must have, if the formula determines it.

    Raises
    ------
    UnitError
        With the unit that a constant must have; InputError if no constant can correct it.
    """
    failed, solved = _solve(rate, known, orders, rate_dimension)
    if failed is None:
        return {n: d for n, d in solved.items() if all(b.startswith("[") for b in d)}
    for name in _suspects(known):
        still, solved = _solve(rate, {**known, name: None}, orders, rate_dimension)
        needed = solved.get(name)
        if still is None and needed is not None and all(base.startswith("[") for base in needed):
            unit_needed = everyday_text(needed)
            came = known[name]
            message = f"{name} is in {everyday_text(came or {})}, but the rate law {rate} needs it in {unit_needed}"
            raise UnitError(message, advice=f"give {name} in {unit_needed}, or another unit of the same dimension")
    message = f"the dimensions do not agree in {failed}"
    raise InputError(
        message, advice="check the units of the constants, and give each number in the formula a name and unit"
    )


def _suspects(known: Mapping[str, Dimension | None]) -> Iterator[str]:
    """Constants whose unit may be wrong, rate constants first."""
    yield from sorted((n for n, d in known.items() if d is not None), key=lambda n: (not n.startswith("k"), n))


def _solve(
    rate: sp.Expr, known: Mapping[str, Dimension | None], orders: Mapping[str, float], rate_dimension: Dimension
) -> tuple[str | None, dict[str, Exponents]]:
    walk = _Walk(known, orders)
    total = walk.dimension(rate)
    message = f"{rate}, which must be in {everyday_text(rate_dimension)}"
    walk.equations.append((_plus(total, rate_dimension, Fraction(-1)), message))
    return _contradiction(walk.equations)


def dimension_of(formula: sp.Expr, known: Mapping[str, Dimension]) -> Dimension:
    """The dimension of a formula whose constants are all of known dimension.

    Raises
    ------
    UnitError
        If the terms of a sum, an exponent or the argument of a function do not agree.
    """
    walk = _Walk(known, {})
    total = walk.dimension(formula)
    for equation, where in walk.equations:
        if equation:
            raise UnitError(f"the dimensions do not agree in {where}", "", "check the units of its numbers")
    return total
