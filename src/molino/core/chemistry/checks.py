"""The check of a chemistry before a run: errors, warnings and notes, each with its place."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from fractions import Fraction

import numpy as np
import scipy
import sympy as sp

from molino.core import units
from molino.core.chemistry.constants import Constant, Unknown, si
from molino.core.chemistry.findings import Finding
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, species_in
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE, Below
from molino.core.chemistry.python_rate_law import PythonFunction
from molino.core.chemistry.reaction import Reaction
from molino.core.chemistry.reaction_set import ReactionSet
from molino.core.chemistry.symbolic_network import combination_text, null_space
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.dimension_text import si_text
from molino.core.errors import InputError, SolveError
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value


def review(chemistry: ReactionSet, T: Value | None) -> Iterator[Finding]:
    """The findings of a chemistry, one by one."""
    kelvin = T.si if T is not None else _reference_temperature(chemistry)
    yield from _what_is_not_checked(chemistry)
    yield from _species(chemistry)
    yield from _rank(chemistry)
    for reaction in chemistry.reactions:
        for name, constant in reaction.constants.items():
            yield from _habit(f"reaction {reaction.name}, {name}", constant)
    for name, constant in chemistry.constants.items():
        yield from _habit(f"constant {name}", constant)
    for rate in _rates(chemistry, kelvin).values():
        yield from _signs(rate)
    for at in (kelvin, 1.1 * kelvin):
        yield from _equilibria(chemistry, at)


def _reference_temperature(chemistry: ReactionSet) -> float:
    """The first reference temperature of a constant, or 298.15 K."""
    held = [c for r in chemistry.reactions for c in r.constants.values()] + list(chemistry.constants.values())
    found = [part for c in held if isinstance(part := getattr(c, "at", None), Value)]
    return found[0].si if found else STANDARD_TEMPERATURE


def _what_is_not_checked(chemistry: ReactionSet) -> Iterator[Finding]:
    reacting = {name for r in chemistry.reactions for name in r.equation.net}
    without = [s.name for s in chemistry.species if not s.formula and s.name in reacting]
    if without:
        message = f"elements are not checked in reactions of species without formula: {_listed(without)}"
        yield Finding("note", "species", message, "give formulas")
    if chemistry.parameters and all(p.unit is None for p in chemistry.parameters):
        message = "all constants are bare numbers: dimensions are not checked, and other units are converted to SI"
        yield Finding("note", "constants", message, "give units, like '0.02 L/mol/min'")
    for name, needed in chemistry.unitless.items():
        for constant, dimension in needed.items():
            if dimension:
                message = f"a bare number, taken as {si_text(dimension)}"
                yield Finding("note", f"reaction {name}, {constant}", message, "write its unit")
    for reaction in chemistry.reactions:
        place = f"reaction {reaction.name}"
        if reaction.equation.is_one_sided:
            way = "from nothing" if not reaction.equation.left else "to nothing"
            message = f"'{reaction.equation}' goes {way}: elements and mass are not conserved, and not checked"
            yield Finding("note", place, message, "name the species on the other side if they are to be checked")
        if reaction.is_python:
            message = (
                "the rate law is a Python function: no dimension check, numeric derivatives, slower than a formula"
            )
            yield Finding("note", place, message, "write a formula if possible")
        by_name = {s.name: s for s in chemistry.species}
        for name, held in reaction.constants.items():
            if isinstance(held, FromSpecies) and not any(by_name[s].heat_capacity for s in reaction.equation.net):
                message = "no heat capacities are given: the enthalpy of reaction is assumed constant"
                yield Finding("note", f"{place}, {name}", message)


def _listed(names: Iterable[str], most: int = 8) -> str:
    names = list(names)
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def _species(chemistry: ReactionSet) -> Iterator[Finding]:
    asked = {name for r in chemistry.reactions for name in r.asks}
    in_equations = {name for r in chemistry.reactions for name in r.equation.species}
    idle = [s.name for s in chemistry.species if s.name not in in_equations and s.name not in asked]
    if idle:
        yield Finding("note", "species", f"in no reaction and no rate law: {_listed(idle)}", "inert, or a misspelling?")
    catalysts = [s.name for s in chemistry.species if s.name not in in_equations and s.name in asked]
    if catalysts:
        yield Finding("note", "species", f"only in rate laws, neither formed nor consumed: {_listed(catalysts)}")
    made, used = set(), set()
    for reaction in chemistry.reactions:
        for name, moles in reaction.equation.net.items():
            if moles > 0 or reaction.equation.reversible:
                made.add(name)
            if moles < 0 or reaction.equation.reversible:
                used.add(name)
    starters = [s.name for s in chemistry.species if s.name in used - made]
    if starters:
        yield Finding("note", "species", f"not formed by a reaction, must be fed or charged: {_listed(starters)}")
    ends = [s.name for s in chemistry.species if s.name in made - used]
    if ends:
        yield Finding("note", "species", f"not consumed by a reaction, end products: {_listed(ends)}")
    present = {s.name for s in chemistry.species} - (made - set(starters))
    reached = reachable(chemistry, present)[0]
    seeds = [s.name for s in chemistry.species if s.name not in reached]
    if starters and seeds:
        message = f"formed only from themselves or each other: {_listed(seeds)}"
        yield Finding("note", "species", message, "feed or charge some")


def reachable(chemistry: ReactionSet, present: Iterable[str]) -> tuple[set[str], list[Reaction]]:
    """The species that can be formed from those present, and the reactions that can never start."""
    there = set(present)
    waiting = list(chemistry.reactions)
    while True:
        started = []
        for reaction in waiting:
            sides = [reaction.equation.left] + ([reaction.equation.right] if reaction.equation.reversible else [])
            if any(all(name in there for name, _ in side) for side in sides):
                started.append(reaction)
        if not started:
            return there, waiting
        there |= {name for reaction in started for name in reaction.equation.species}
        waiting = [r for r in waiting if r not in started]


_MOST_COMBINED = 60
"""Number of reactions above which dependent ones are counted, but not listed."""


def _rank(chemistry: ReactionSet) -> Iterator[Finding]:
    count = len(chemistry.reactions)
    rank = int(np.linalg.matrix_rank(chemistry.network.matrix))
    if rank == count:
        return
    message = f"{rank} of {count} reactions are independent"
    if count <= _MOST_COMBINED:
        rows: dict[int, list[tuple[int, Fraction]]] = {}
        for j, column in enumerate(chemistry.network.stoichiometry):
            for i, moles in column:
                rows.setdefault(i, []).append((j, moles))
        names = chemistry.network.reactions
        texts = [combination_text(weights, names) for weights in null_space(rows.values(), range(count))]
        message += f"; without net change: {_listed(sorted(texts, key=len), 4)}"
    yield Finding("note", "reactions", message)


def _habit(place: str, held: Constant) -> Iterator[Finding]:
    """Warnings about constants outside the usual range."""
    if not isinstance(held, Arrhenius):
        return
    energy = si(held.Ea)
    guess = " (a guess)" if isinstance(held.Ea, Unknown) else ""
    if energy < 0:
        message = f"the activation energy {held.Ea} is negative{guess}"
        yield Finding(
            "warning", place, message, "check the sign; adsorption and equilibrium constants are VantHoff(enthalpy=...)"
        )
    elif 0 < energy < 1e3 or energy > 6e5:
        message = f"an activation energy of {energy / 1e3:.3g} kJ/mol is out of the usual{guess}"
        yield Finding("warning", place, message, "check the unit: J/mol or kJ/mol?")
    n = si(held.n) if held.n is not None else 0.0
    if held.unit is None or isinstance(held.k, Unknown) or isinstance(held.A, Unknown):
        return
    if held.A is not None:
        T = 1000.0 if held.n is not None else 1.0
        factor = si(held.A) * T**n
    else:
        factor = si(held.k) * math.exp(min(energy / GAS_CONSTANT / si(held.at) - n, 500.0))
    limits = {
        "1/s": (1e17, "a molecule's vibrations (1e13 to 1e17 1/s)"),
        "m^3/mol/s": (1e9, "collisions (1e12 L/mol/s)"),
    }
    for unit, (most, what) in limits.items():
        if units.unit(held.unit).dimension == units.unit(unit).dimension and factor > most:
            message = f"the pre-exponential factor {factor:.2g} {unit} is above the frequency of {what}"
            yield Finding("warning", place, message, "check the units of the constant and of the activation energy")


class _Rate:
    """A rate law with numbers, to be evaluated at compositions."""

    def __init__(self, reaction: Reaction, law: sp.Expr, numbers: Mapping[sp.Symbol, float], T: float) -> None:
        self.reaction, self.T, self.law = reaction, T, law
        self.numbers = {s: numbers[s] for s in law.free_symbols if s in numbers}
        self.symbols = [(s, *kind) for s in law.free_symbols if (kind := species_in(s)) is not None]

    def at(self, concentrations: Mapping[str, float]) -> float:
        """The rate in SI at concentrations in mol/m^3 (by default 1); nan where it is not finite."""
        values = dict(self.numbers)
        whole = sum(concentrations.values()) or 1.0
        for symbol, kind, name in self.symbols:
            c = concentrations.get(name, 1.0)
            p, x = c * GAS_CONSTANT * self.T, c / whole
            values[symbol] = {"": c, "p": p, "f": p, "x": x, "a": x}[kind]
        try:
            return float(_number(self.law, values))
        except (TypeError, ArithmeticError, ValueError, SolveError):
            return math.nan


def _number(e: sp.Basic, values: Mapping[sp.Symbol, float]) -> float:
    """An expression of the grammar at given values, in floats; much faster than substitution."""
    if e.is_Symbol:
        return values[e]
    if e.is_Number:
        return float(e)
    parts = [_number(a, values) for a in e.args]
    if e.is_Add:
        return math.fsum(parts)
    if e.is_Mul:
        return math.prod(parts)
    if e.is_Pow:
        return float(parts[0] ** parts[1])
    if isinstance(e, Below):
        return parts[2] if parts[0] < parts[1] else parts[3]
    if isinstance(e, PythonFunction):
        return e.func.call(*parts)  # type: ignore[no-any-return]
    return {sp.exp: math.exp, sp.log: math.log}[e.func](*parts) if e.args else float(e)


def _rates(chemistry: ReactionSet, T: float) -> dict[str, _Rate]:
    """Every rate law with its numbers, by the name of its reaction."""
    numbers = {p.symbol: p.value for p in chemistry.parameters} | {TEMPERATURE: T, PRESSURE: 1e5}
    pairs = zip(chemistry.reactions, chemistry.network.rates, strict=True)
    return {str(r.name): _Rate(r, law, numbers, T) for r, law in pairs if r.has_kinetics}


def _signs(rate: _Rate) -> Iterator[Finding]:
    """Findings for a rate that consumes an exhausted species, or runs against its arrow."""
    place = f"reaction {rate.reaction.name}"
    equation = rate.reaction.equation
    names = sorted({*equation.species, *(name for _, _, name in rate.symbols)})
    draws = np.random.default_rng(1).uniform(-1.0, 4.0, (3, len(names)))
    trials = [dict.fromkeys(names, 1000.0), *(dict(zip(names, (10.0**row).tolist(), strict=True)) for row in draws)]
    here = [rate.at(trial) for trial in trials]
    finite = [value for value in here if math.isfinite(value)]
    if not finite:
        yield Finding(
            "warning", place, "the rate law is not finite at any composition that was tried", "check its formula"
        )
        return
    consumed = [name for name, moles in equation.net.items() if moles < 0]
    products = {name: 0.0 for name, moles in equation.net.items() if moles > 0}
    forward = [value for trial in trials if math.isfinite(value := rate.at({**trial, **products}))]
    if not equation.reversible and consumed:
        if all(value < 0 for value in finite) and all(value <= 0 for value in forward):
            message = f"the rate is negative: {', '.join(consumed)}, consumed by the equation, would be formed"
            yield Finding(
                "error", place, message, "a rate law gives the rate of the reaction as written: remove the minus sign"
            )
        elif any(value < 0 for value in finite):
            message = "the rate is negative at some compositions, but the reaction is not reversible"
            yield Finding("warning", place, message, "write <-> for a reversible reaction, or check the formula")
    if equation.reversible and forward and all(value < 0 for value in forward):
        message = f"the rate is negative where there is no {' and no '.join(products)}: it runs against its arrow"
        yield Finding("error", place, message, "a rate is that of the reaction as written: remove the minus sign")
        return
    for name, moles in equation.net.items():
        if moles > 0 and not equation.reversible:
            continue
        across = {other for other, n in equation.net.items() if n * moles < 0}
        gone = [rate.at({**trial, name: 0.0}) for trial in trials]
        gone += [rate.at({**trial, name: 0.0, **dict.fromkeys(across, 0.0)}) for trial in trials]
        if all(math.isnan(value) for value in gone):
            message = f"the rate is not finite where {name} is exhausted"
            yield Finding(
                "warning", place, message, "a negative order or a logarithm? add a constant to the denominator"
            )
        worst = [float(moles) * g / abs(h) for g, h in zip(gone, here + here, strict=True) if math.isfinite(g) and h]
        if worst and min(worst) < -1e-9:
            message = f"the rate consumes {name} where it is exhausted"
            yield Finding(
                "warning",
                place,
                message,
                f"make it fall to zero with [{name}]: otherwise runs stop where {name} is exhausted",
            )


_FAR = 0.1
"""Largest logarithmic deviation of an equilibrium composition from the thermochemistry that is not reported."""


def _equilibria(chemistry: ReactionSet, T: float) -> Iterator[Finding]:
    """Findings for reversible reactions, and pairs of opposite ones, whose equilibrium contradicts the
    thermochemistry."""
    known = {s.name: s for s in chemistry.species if s.enthalpy_of_formation or s.heat_capacity}
    known_reactions = [r for r in chemistry.reactions if r.equation.net.keys() <= known.keys()]
    for name, equation_of, rates in _both_ways(known_reactions, _rates(chemistry, T) if known_reactions else {}):
        net = equation_of.equation.net
        try:
            standard = [c for c in equation_of.constants.values() if isinstance(c, FromSpecies)]
            form = FromSpecies("concentrations", standard[0].standard) if standard else FromSpecies()
            law = form.bound(equation_of.equation, known).law
        except InputError:
            continue
        assert law is not None
        expected = float(law.xreplace({TEMPERATURE: sp.Float(T)}))

        def rate(log_s: float, rates: list[tuple[float, _Rate]] = rates, net: Mapping[str, Fraction] = net) -> float:
            trial = {s: 1.0 if moles < 0 else math.exp(log_s) for s, moles in net.items()}
            return sum(sign * one.at(trial) for sign, one in rates)

        formed = float(sum(moles for moles in net.values() if moles > 0))
        low, high = rate(-60.0), rate(60.0)
        at = f"at {T:.5g} K"
        if not (math.isfinite(low) and math.isfinite(high)):
            continue
        if low * high >= 0:
            message = f"the rate vanishes at no composition, and the thermochemistry gives K = {expected:.3g} (SI) {at}"
            yield Finding("warning", name, message, "check the backward term")
            continue
        found = formed * float(scipy.optimize.brentq(rate, -60.0, 60.0, xtol=1e-9))
        off = found - math.log(expected)
        if abs(off) > _FAR:
            dimension = units.unit(str(form.bound(equation_of.equation, known).unit)).dimension
            unit = f" {si_text(dimension)}" if dimension else ""
            message = (
                f"{at} the rate vanishes at K = {math.exp(found):.3g}{unit}, the thermochemistry gives {expected:.3g}"
            )
            yield Finding(
                "warning",
                name,
                message,
                "check the backward constant and the species, or take K = mo.thermo.FromSpecies()",
            )


def _both_ways(
    reactions: Iterable[Reaction], rates: Mapping[str, _Rate]
) -> Iterator[tuple[str, Reaction, list[tuple[float, _Rate]]]]:
    """Reversible reactions: the place, a reaction that gives the direction, and the rates with their signs."""
    one_way = {}
    for reaction in reactions:
        if reaction.equation.reversible:
            yield f"reaction {reaction.name}", reaction, [(1.0, rates[str(reaction.name)])]
        else:
            one_way[frozenset(reaction.equation.net.items())] = reaction
    for key, forward in one_way.items():
        backward = one_way.get(frozenset((name, -moles) for name, moles in key))
        if backward is not None and str(forward.name) < str(backward.name):
            pair = [(1.0, rates[str(forward.name)]), (-1.0, rates[str(backward.name)])]
            yield f"reactions {forward.name} and {backward.name}", forward, pair
