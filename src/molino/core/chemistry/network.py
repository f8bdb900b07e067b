"""Reactions and the chemistry that they make up."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from types import MappingProxyType
from typing import Any

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.constants import (
    Constant,
    Entry,
    Parameter,
    Plain,
    Unknown,
    parameter_symbol,
    read_constant,
    si,
)
from molino.core.chemistry.dimensions import check_dimensions
from molino.core.chemistry.equation import Equation, coefficient_text, parse_equation
from molino.core.chemistry.formula import GAS, TEMPERATURE, constant, names_in, parse_formula, species_in
from molino.core.chemistry.species import Species, check_elements, elements
from molino.core.errors import Faults, InputError, nearest
from molino.core.printing import Printed
from molino.core.units import GAS_CONSTANT, Dimension, Value


@dataclass(frozen=True, init=False)
class Reaction:
    """A reaction equation with its rate law.

    Parameters
    ----------
    equation : str
        Like "xylose -> furfural + 3 water" or "A + B <-> C".
    rate : str, optional
        The rate law as a formula, e.g. "k*[xylose]*[acid]", amount per volume and time per mole of reaction as
        written. Left out, the reaction is elementary (law of mass action): k times the concentrations on the left,
        each to its coefficient, less the backward rate, where the arrow runs both ways.
    name : str, optional
        For messages and parameters; otherwise r1, r2, ... by position.
    **constants : str, float, quantity, Arrhenius or Unknown
        The constants in the rate law. An elementary reaction takes `k`, and if reversible also `k_reverse` or the
        equilibrium constant in concentrations `K` (backward constant = k / K).

    Raises
    ------
    InputError
        With all that is wrong in it.
    """

    equation: Equation
    rate: str | None
    name: str | None
    constants: Mapping[str, Constant]

    def __init__(self, equation: str | Equation, rate: str | None = None, name: str | None = None, **constants: Any):
        faults = Faults()
        held: dict[str, Constant] = {}
        place = name or str(equation)
        with faults.at(place):
            if not isinstance(equation, str | Equation) or not isinstance(rate, str | None):
                raise InputError(
                    "equation and rate law are texts", "", "write mo.Reaction('A -> B', rate='k*[A]', k=...)"
                )
            equation = parse_equation(equation) if isinstance(equation, str) else equation
        for key, given in constants.items():
            with faults.at(f"{place}, {key}"):
                held[key] = read_constant(given, "")
        with faults.at(place):
            if isinstance(rate, str):
                parse_formula(rate)
            elif isinstance(equation, Equation):
                _check_elementary(equation, held)
        faults.raise_any()
        object.__setattr__(self, "equation", equation)
        object.__setattr__(self, "rate", rate)
        object.__setattr__(self, "name", name)
        object.__setattr__(self, "constants", MappingProxyType(held))

    @cached_property
    def formula(self) -> sp.Expr:
        """The rate law over [species] and the constants by their own names."""
        return parse_formula(self.law)

    @property
    def law(self) -> str:
        """The rate law as text; that of an elementary reaction written out."""
        if self.rate is not None:
            return self.rate
        forward, backward = (_mass_action(side) for side in (self.equation.left, self.equation.right))
        if not self.equation.reversible:
            return f"k*{forward}"
        return f"k*({forward} - {backward}/K)" if "K" in self.constants else f"k*{forward} - k_reverse*{backward}"

    @cached_property
    def asks(self) -> frozenset[str]:
        """The species whose concentration (pressure, fraction) the rate law asks for."""
        found = (species_in(s) for s in self.formula.free_symbols)
        return frozenset(kind[1] for kind in found if kind is not None)

    def with_constants(self, constants: Mapping[str, Constant]) -> Reaction:
        """The same reaction with some constants replaced."""
        return Reaction(self.equation, self.rate, self.name, **{**self.constants, **constants})

    def __str__(self) -> str:
        held = "; ".join(f"{name} = {value}" for name, value in self.constants.items())
        return f"{self.equation}    rate {self.law}" + (f"    with {held}" if held else "")


def _mass_action(side: Sequence[tuple[str, Fraction]]) -> str:
    """Concentrations to their coefficients: '[A]^2*[B]'."""
    return "*".join(f"[{name}]" + ("" if n == 1 else f"^({n})" if n.denominator > 1 else f"^{n}") for name, n in side)


def _check_elementary(equation: Equation, held: Mapping[str, Constant]) -> None:
    faults = Faults()
    allowed = {"k", "k_reverse", "K"} if equation.reversible else {"k"}
    for key in sorted(held.keys() - allowed):
        reverse = key in ("k_reverse", "K")
        advice = "write the arrow as <->" if reverse else f"give a rate formula; {nearest(key, allowed)}"
        faults.add("", f"an elementary {'one-way ' if reverse else ''}reaction has no constant '{key}'", advice)
    if equation.reversible and len(held.keys() & {"k_reverse", "K"}) != 1:
        faults.add("", "a reversible elementary reaction takes one of k_reverse and K", "give one of them, not both")
    faults.raise_any()


@dataclass(frozen=True)
class Structure:
    """What of a chemistry does not change with its numbers; compiled balances are kept by it."""

    species: tuple[str, ...]
    reactions: tuple[str, ...]
    stoichiometry: tuple[tuple[tuple[int, Fraction], ...], ...]
    """For each reaction, (index of species, moles formed per mole of reaction; consumed ones negative)."""
    rates: tuple[sp.Expr, ...]
    """Rate laws in mol/m^3/s over [species], T, P and parameters."""
    parameters: tuple[str, ...]

    @cached_property
    def symbols(self) -> frozenset[sp.Symbol]:
        """Every symbol in some rate law."""
        return frozenset().union(*(rate.free_symbols for rate in self.rates))

    @cached_property
    def by_temperature(self) -> tuple[str, ...]:
        """The reactions whose rate depends on temperature."""
        return tuple(n for n, rate in zip(self.reactions, self.rates, strict=True) if TEMPERATURE in rate.free_symbols)

    @cached_property
    def matrix(self) -> np.ndarray:
        """Stoichiometric coefficients, shape (species, reactions)."""
        full = np.zeros((len(self.species), len(self.reactions)))
        for j, column in enumerate(self.stoichiometry):
            for i, moles in column:
                full[i, j] = float(moles)
        return full

    def __hash__(self) -> int:
        return hash((self.species, self.reactions, self.rates))


@dataclass(frozen=True)
class Covariance:
    """Covariance of fitted parameters, in their SI units; shape (parameters, parameters)."""

    names: tuple[str, ...]
    matrix: np.ndarray = field(repr=False)
    degrees_of_freedom: int = 0


@dataclass(frozen=True)
class Chemistry(Printed):
    """Species, reactions and rate laws.

    Parameters
    ----------
    reactions : sequence of Reaction
    species : sequence of Species or names, or mapping of name to formula, optional
        Formulas are checked against the equations. Species that no reaction names (a catalyst, a solvent) may be
        listed; those in equations and rate laws are found without.
    constants : mapping, optional
        Constants that several rate laws share.

    Raises
    ------
    InputError
        With everything that is wrong: unknown names, unbalanced equations, constants missing or unused, dimensions.
    """

    reactions: Sequence[Reaction]
    species: Any = ()
    constants: Mapping[str, Any] = field(default_factory=dict)
    covariance: Covariance | None = None
    bare: dict[str, dict[str, Dimension]] = field(init=False, repr=False, compare=False)
    """For each reaction, the dimension that each constant given as a bare number must have, where it can be told."""

    def __post_init__(self) -> None:
        faults = Faults()
        given = self.species.items() if isinstance(self.species, Mapping) else self.species
        listed: list[Species] = []
        for item in given:
            with faults.at("species"):
                made = item if isinstance(item, Species) else Species(*((item,) if isinstance(item, str) else item))
                listed.append(made)
        shared: dict[str, Constant] = {}
        for name, value in self.constants.items():
            with faults.at(f"constant {name}"):
                shared[name] = read_constant(value, "")
        reactions = [self.reactions] if isinstance(self.reactions, Reaction) else list(self.reactions)
        if not all(isinstance(r, Reaction) for r in reactions):
            faults.add("chemistry", "a reaction is not a Reaction", "write mo.Reaction('A -> B', k=...)")
            faults.raise_any()
        if not reactions:
            faults.add("chemistry", "no reaction is given", "give at least one")
        named = [
            r if r.name else Reaction(r.equation, r.rate, f"r{i}", **r.constants) for i, r in enumerate(reactions, 1)
        ]
        names = [str(r.name) for r in named]
        for name in sorted({n for n in names if names.count(n) > 1}):
            faults.add(f"reaction {name}", "the name is used twice", "give each reaction a name of its own")
        object.__setattr__(self, "reactions", tuple(named))
        object.__setattr__(self, "constants", MappingProxyType(shared))
        object.__setattr__(self, "species", self._all_species(named, listed, faults))
        self._check(faults)
        faults.raise_any()

    @staticmethod
    def _all_species(reactions: Iterable[Reaction], listed: list[Species], faults: Faults) -> tuple[Species, ...]:
        found = {name: Species(name) for reaction in reactions for name in reaction.equation.species}
        for species in listed:
            found[species.name] = species
        for reaction in reactions:
            for name in sorted(reaction.asks):
                if name in found:
                    continue
                if listed or difflib.get_close_matches(name, found, n=1, cutoff=0.8):
                    said = f"[{name}] in the rate law is not a species of this chemistry"
                    faults.add(f"reaction {reaction.name}", said, nearest(name, found) + " (or list it as a species)")
                else:
                    found[name] = Species(name)
        return tuple(found.values())

    def _check(self, faults: Faults) -> None:
        formulas = {s.name: s.formula for s in self.species if s.formula}
        shared_used: set[str] = set()
        object.__setattr__(self, "bare", {})
        with_units = any(p.unit is not None for p in self.parameters)
        for reaction in self.reactions:
            place = f"reaction {reaction.name}"
            with faults.at(place):
                check_elements(reaction.equation, formulas)
            asked = set(names_in(reaction.formula))
            known = {**self.constants, **reaction.constants}
            for name in sorted(asked - known.keys()):
                hint = nearest(name, [*known, *(f"[{s.name}]" for s in self.species)])
                faults.add(place, f"the rate law asks for '{name}', which is not given", hint or f"give {name}=...")
            for name in sorted(reaction.constants.keys() - asked):
                said = f"the constant '{name}' is given but the rate law does not use it"
                faults.add(place, said, nearest(name, asked) or "take it out")
            shared_used |= asked & self.constants.keys() - reaction.constants.keys()
            if with_units and asked <= known.keys():
                with faults.at(place):
                    constants = {n: known[n] for n in asked}
                    self.bare[str(reaction.name)] = check_dimensions(
                        reaction.formula,
                        {n: units.unit(c.unit).dimension if c.unit is not None else None for n, c in constants.items()},
                        {n: si(c.value) for n, c in constants.items() if isinstance(c, Plain)},
                        units.unit(units.SI_UNITS["rate"]).dimension,
                    )
        for name in sorted(self.constants.keys() - shared_used):
            faults.add(f"constant {name}", "no rate law uses it", "take it out, or name it in a rate law")

    def _homes(self) -> Iterable[tuple[str, Constant, sp.Expr]]:
        """Every constant with the full name it goes by and the formulas it stands in."""
        for name, shared in self.constants.items():
            yield name, shared, sp.Add(*(r.formula for r in self.reactions if name not in r.constants), evaluate=False)
        for reaction in self.reactions:
            for name, own in reaction.constants.items():
                yield f"{reaction.name}.{name}", own, reaction.formula

    @cached_property
    def parameters(self) -> tuple[Parameter, ...]:
        """Every number in the rate laws, in order of the reactions, in SI."""
        found = []
        for home, held, formula in self._homes():
            free = _exponents(formula)
            for suffix, part in held.parts().items():
                name = f"{home}.{suffix}" if suffix else home
                unknown = isinstance(part, Unknown)
                stays_positive = suffix != "Ea" and home.rpartition(".")[2] not in free
                lower, upper = (0.0 if stays_positive and si(part) > 0 else -np.inf), np.inf
                if isinstance(part, Unknown):
                    lower = part.lower.si if part.lower is not None else lower
                    upper = part.upper.si if part.upper is not None else upper
                found.append(Parameter(name, si(part), part.unit, unknown, lower, upper))
        return tuple(found)

    @cached_property
    def structure(self) -> Structure:
        """The symbols of the chemistry, without its numbers."""
        index = {s.name: i for i, s in enumerate(self.species)}
        rates, columns = [], []
        for reaction in self.reactions:
            swap: dict[sp.Symbol, sp.Expr] = {GAS: sp.Float(GAS_CONSTANT)}
            for name in names_in(reaction.formula):
                own = name in reaction.constants
                held = reaction.constants[name] if own else self.constants[name]
                home = f"{reaction.name}.{name}" if own else name
                symbols = {part: parameter_symbol(f"{home}.{part}" if part else home) for part in held.parts()}
                swap[constant(name)] = held.expression(symbols)
            rates.append(reaction.formula.xreplace(swap))
            columns.append(tuple((index[name], moles) for name, moles in reaction.equation.net.items()))
        return Structure(
            tuple(index),
            tuple(str(r.name) for r in self.reactions),
            tuple(columns),
            tuple(rates),
            tuple(p.name for p in self.parameters),
        )

    @property
    def unknowns(self) -> tuple[Parameter, ...]:
        """The parameters that wait for a fit."""
        return tuple(p for p in self.parameters if p.unknown)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the species."""
        return self.structure.species

    def with_values(self, values: Mapping[str, float], covariance: Covariance | None = None) -> Chemistry:
        """The same chemistry with parameters set to numbers in SI, by their full names ('dehydration.k.Ea')."""
        unknown_names = sorted(values.keys() - {p.name for p in self.parameters})
        if unknown_names:
            hints = [nearest(name, (p.name for p in self.parameters)) for name in unknown_names]
            raise InputError(f"no parameter named {', '.join(unknown_names)}", "chemistry", "; ".join(hints))

        def renew(home: str, held: Constant) -> Constant:
            parts: dict[str, Entry] = {}
            for suffix, part in held.parts().items():
                name = f"{home}.{suffix}" if suffix else home
                parts[suffix] = Value(float(values[name]), part.unit) if name in values else part
            return held.with_parts(parts)

        reactions = [
            r.with_constants({name: renew(f"{r.name}.{name}", held) for name, held in r.constants.items()})
            for r in self.reactions
        ]
        constants = {name: renew(name, held) for name, held in self.constants.items()}
        return replace(self, reactions=reactions, constants=constants, covariance=covariance)

    def __str__(self) -> str:
        lines = [f"{len(self.species)} species, {len(self.reactions)} reactions"]
        for reaction in self.reactions:
            lines += [f"  {reaction.name}: {reaction.equation}", f"    rate {reaction.law}"]
            lines += [f"    {name} = {held}" for name, held in reaction.constants.items()]
        lines += [f"  {name} = {held}, shared" for name, held in self.constants.items()]
        return "\n".join(lines)

    def at_guess(self) -> Chemistry:
        """The same chemistry with every unknown set to its guess."""
        return self.with_values({p.name: p.value for p in self.unknowns})

    def invariants(self) -> dict[str, np.ndarray]:
        """What no reaction changes: weights over the species, each of shape (species,).

        Where every species in a reaction has a formula these are the elements (atoms per molecule). Otherwise they are
        the stoichiometric invariants: a basis of w with w . nu = 0 for every reaction (R. Aris, Introduction to the
        Analysis of Chemical Reactors, 1965, section 2.2), by exact elimination.
        """
        reacting = {i for column in self.structure.stoichiometry for i, _ in column}
        by_index = dict(enumerate(self.species))
        if all(by_index[i].formula for i in reacting):
            atoms = {i: elements(str(by_index[i].formula)) for i in reacting}
            kinds = dict.fromkeys(e for counts in atoms.values() for e in counts)
            size = len(self.species)
            return {e: np.array([atoms.get(i, {}).get(e, 0.0) for i in range(size)], dtype=float) for e in kinds}
        return _null_space(self.structure, sorted(reacting))


def _null_space(structure: Structure, reacting: list[int]) -> dict[str, np.ndarray]:
    """Left null space of the stoichiometric matrix in exact fractions, named like 'xylose + furfural'."""
    rows: list[tuple[int, dict[int, Fraction]]] = []
    for column in structure.stoichiometry:
        left = dict(column)
        for pivot, row in rows:
            if pivot in left:
                times = left[pivot]
                for i, value in row.items():
                    left[i] = left.get(i, Fraction(0)) - times * value
        left = {i: value for i, value in left.items() if value}
        if not left:
            continue
        pivot = max(left)
        row = {i: value / left[pivot] for i, value in left.items()}
        for n, (other, values) in enumerate(rows):
            if pivot in values:
                times = values[pivot]
                merged = {i: values.get(i, Fraction(0)) - times * row.get(i, Fraction(0)) for i in values.keys() | row}
                rows[n] = (other, {i: value for i, value in merged.items() if value})
        rows.append((pivot, row))
    pivots = {pivot for pivot, _ in rows}
    found = {}
    for free in (i for i in reacting if i not in pivots):
        weights = {free: Fraction(1), **{pivot: -row[free] for pivot, row in rows if free in row}}
        scale = math.lcm(*(w.denominator for w in weights.values()))
        vector = np.zeros(len(structure.species))
        vector[list(weights)] = [float(w * scale) for w in weights.values()]
        terms = [f"{'-' if w < 0 else '+'} {coefficient_text(abs(w * scale))}{structure.species[i]}"
                 for i, w in sorted(weights.items())]  # fmt: skip
        found[" ".join(terms).removeprefix("+ ")] = vector
    return found


def _exponents(formula: sp.Expr) -> set[str]:
    """Names of the constants that stand in an exponent or under exp, where they may well be negative."""
    nodes = [node for node in sp.preorder_traversal(formula) if isinstance(node, sp.Pow | sp.exp)]
    return {s.name for node in nodes for s in node.exp.free_symbols}
