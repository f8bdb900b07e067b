"""Species and reactions as one system: parameters, network and invariants."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.arguments import short
from molino.core.chemistry.constants import (
    Constant,
    NotGiven,
    Parameter,
    Plain,
    Unknown,
    parameter_symbol,
    read_constant,
    si,
)
from molino.core.chemistry.dimensions import check_dimensions
from molino.core.chemistry.formula import GAS, concentration_meant, constant, names_in
from molino.core.chemistry.reaction import BASES, Reaction
from molino.core.chemistry.species import PROPERTIES, Species, check_balance, conserved as conserved_atoms
from molino.core.chemistry.symbolic_network import SymbolicNetwork, combination_text, null_space
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS, Dimension
from molino.core.units import Value

_SAME_T = 0.5
"""Difference in K of temperatures that are the same."""
_SAME_C = 0.05
"""Fraction of the highest concentration of the data by which a run may exceed it (the error of a charge)."""


@dataclass(frozen=True, eq=False)
class Covariance(Frozen):
    """Covariance of fitted parameters, in their SI units; shape (parameters, parameters).

    `refits` are parameters from fits to resampled data, shape (refits, parameters), from which draws are taken in place
    of a distribution; None without. `temperatures` are the lowest and the highest of the data in K, `concentrations`
    the highest of each species in mol/m^3.
    """

    names: tuple[str, ...]
    matrix: np.ndarray = field(repr=False)
    degrees_of_freedom: int = 0
    refits: np.ndarray | None = field(default=None, repr=False)
    temperatures: tuple[float, float] | None = None
    concentrations: Mapping[str, float] = field(default_factory=dict)

    def is_above(self, species: str, concentration: float) -> bool:
        """Whether a concentration in mol/m^3 is above that of the data, by more than their error."""
        return species in self.concentrations and concentration > (1 + _SAME_C) * self.concentrations[species]

    def is_beyond(self, low: float, high: float) -> bool:
        """Whether temperatures in K are outside those of the data, by more than their variation."""
        if self.temperatures is None:
            return False
        return low < self.temperatures[0] - _SAME_T or high > self.temperatures[1] + _SAME_T

    def check(self) -> None:
        """Raise InputError for a covariance that cannot be that of a fit."""
        faults, matrix = Faults(), np.asarray(self.matrix, dtype=float)
        advice = "use it as written by a fit, or leave it out"
        if matrix.shape != (len(self.names),) * 2:
            faults.add("covariance", f"the matrix is not {len(self.names)} by {len(self.names)}", advice)
        elif not np.isfinite(matrix).all():
            faults.add("covariance", "the matrix has entries that are not numbers", advice)
        elif (np.diag(matrix) < 0).any():
            faults.add("covariance", "a variance is negative", advice)
        elif not np.allclose(matrix, matrix.T, rtol=1e-6, atol=0.0):
            faults.add("covariance", "the matrix is not symmetric", advice)
        elif (np.abs(matrix) > np.sqrt(np.outer(np.diag(matrix), np.diag(matrix))) * (1 + 1e-3)).any():
            faults.add("covariance", "a correlation is beyond 1", advice)
        refits = np.zeros((2, len(self.names))) if self.refits is None else np.asarray(self.refits, dtype=float)
        if refits.ndim != 2 or refits.shape[1] != len(self.names) or len(refits) < 2 or not np.isfinite(refits).all():
            faults.add("covariance", f"the refits are not rows of {len(self.names)} numbers", advice)
        if self.degrees_of_freedom < 1:
            faults.add("covariance", f"{self.degrees_of_freedom} degrees of freedom", "give 1 or more")
        for species, value in self.concentrations.items():
            if not (math.isfinite(value) and value >= 0):
                faults.add(f"covariance, concentrations, {species}", f"{value} is not a concentration", advice)
        faults.raise_any()


@dataclass(frozen=True, eq=False)
class ReactionSet(Frozen, Printed):
    """Species and reactions, with their parameters and their network."""

    reactions: Sequence[Reaction]
    species: tuple[Species, ...] = ()
    constants: ByName = field(default_factory=dict)
    covariance: Covariance | None = None
    unitless: dict[str, dict[str, Dimension]] = field(init=False, repr=False, compare=False)
    """For each reaction, the dimension that each constant given as a bare number must have, if known."""

    def __post_init__(self) -> None:
        faults = Faults()
        try:
            items = list(self.species.items() if isinstance(self.species, Mapping) else self.species)
        except TypeError as error:
            message, advice = f"{short(self.species)} is not a list of species", "give names or mo.Species(...)"
            raise InputError(message, "species", advice) from error
        listed: list[Species] = []
        for item in items:
            with faults.at("species"):
                listed.append(_read_species(item))
                if listed[-1].name in [s.name for s in listed[:-1]]:
                    raise InputError("it is listed twice", listed[-1].name, "keep one")
        shared: dict[str, Constant] = {}
        for name, value in self.constants.items():
            with faults.at(f"constant {name}"):
                shared[name] = read_constant(value, "")
        reactions = [self.reactions] if isinstance(self.reactions, Reaction) else list(self.reactions)
        if not all(isinstance(r, Reaction) for r in reactions):
            faults.add("chemistry", "a reaction is not a Reaction", "write mo.Reaction('A -> B', k=...)")
            faults.raise_any()
        named = [r if r.name else r.with_constants({}, f"r{i}") for i, r in enumerate(reactions, 1)]
        names = [str(r.name) for r in named]
        for name in sorted({n for n in names if names.count(n) > 1}):
            faults.add(f"reaction {name}", "the name is used twice", "give each reaction a name of its own")
        species = self._all_species(named, listed, faults)
        settle(self, reactions=tuple(_without_kinetics(self._bound(r, species, faults), shared) for r in named))
        settle(self, constants=FrozenMapping(shared))
        settle(self, species=species)
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
                    message = f"[{name}] in the rate law is not a species of this chemistry"
                    advice = f"{nearest(name, found)} (or list it as a species)"
                    faults.add(f"reaction {reaction.name}", message, advice)
                else:
                    found[name] = Species(name)
        return tuple(found.values())

    @staticmethod
    def _bound(reaction: Reaction, species: Sequence[Species], faults: Faults) -> Reaction:
        """The reaction with its equilibrium constants from the species, where requested."""
        asked = {name: c for name, c in reaction.constants.items() if isinstance(c, FromSpecies)}
        for name, held in asked.items():
            with faults.at(f"reaction {reaction.name}, {name}"):
                asked[name] = held.bound(reaction.equation, {s.name: s for s in species})
        return reaction.with_constants(asked) if asked else reaction

    def _check(self, faults: Faults) -> None:
        formulas = {s.name: s.formula for s in self.species if s.formula}
        shared_used: set[str] = set()
        settle(self, unitless={})
        names = [p.name for p in self.numbers]
        for name in sorted({n for n in names if names.count(n) > 1}):
            message = f"two constants have the same full name, '{name}': one of a reaction, one that is shared"
            faults.add("chemistry", message, "rename the shared constant, or the reaction")
        with_units = any(p.unit is not None for p in self.parameters)
        for reaction in self.reactions:
            place = f"reaction {reaction.name}"
            with faults.at(place):
                check_balance(reaction.equation, formulas)
            asked = set(names_in(reaction.formula))
            known = {**self.constants, **reaction.constants}
            for name in sorted(asked - known.keys()):
                hint = concentration_meant(name, {s.name for s in self.species})
                hint = hint or nearest(name, [*known, *(f"[{s.name}]" for s in self.species)])
                faults.add(place, f"the rate law needs '{name}', which is not given", hint or f"give {name}=...")
            for name in sorted(reaction.constants.keys() - asked):
                message = f"the constant '{name}' is given but the rate law does not use it"
                faults.add(place, message, nearest(name, asked, "remove it"))
            shared_used |= asked & self.constants.keys() - reaction.constants.keys()
            if with_units and asked <= known.keys() and not reaction.is_python:
                with faults.at(place):
                    self.unitless[str(reaction.name)] = self._dimensions(reaction)
        for name in sorted(self.constants.keys() - shared_used):
            faults.add(f"constant {name}", "no rate law uses it", "remove it, or use it in a rate law")

    def _dimensions(self, reaction: Reaction) -> dict[str, Dimension]:
        """The dimension that each unitless constant of a reaction must have; UnitError for those that do not fit."""
        known = {**self.constants, **reaction.constants}
        constants = {n: known[n] for n in names_in(reaction.formula)}
        came = {n: units.unit(c.unit).dimension if c.unit is not None else None for n, c in constants.items()}
        orders = {n: c.value.si for n, c in constants.items() if isinstance(c, Plain) and isinstance(c.value, Value)}

        def check(basis: str) -> dict[str, Dimension]:
            wanted = units.unit(SI_UNITS[BASES[basis]]).dimension
            return check_dimensions(reaction.formula, came, orders, wanted)

        try:
            return check(reaction.basis)
        except UnitError as error:
            for other in BASES:
                if BASES[other] == BASES[reaction.basis]:
                    continue
                try:
                    check(other)
                except InputError:
                    continue
                message = f"its constants make it a rate per {other}, and its basis is {reaction.basis}"
                advice = f"write basis = '{other}', or {error.faults[0].advice}"
                raise UnitError(message, advice=advice) from error
            raise

    def unitless_dimensions(self) -> dict[str, dict[str, Dimension]]:
        """As `bare`, also if no constant has a unit; InputError if no dimensions fit a rate law."""
        faults = Faults()
        found = dict(self.unitless)
        for reaction in self.reactions:
            if not reaction.is_python and reaction.name not in found:
                with faults.at(f"reaction {reaction.name}"):
                    found[str(reaction.name)] = self._dimensions(reaction)
        faults.raise_any()
        return found

    def _homes(self) -> Iterable[tuple[str, Constant, sp.Expr]]:
        """Every constant with its full name and its formulas."""
        for name, shared in self.constants.items():
            yield name, shared, sp.Add(*(r.formula for r in self.reactions if name not in r.constants), evaluate=False)
        for reaction in self.reactions:
            for name, own in reaction.constants.items():
                yield f"{reaction.name}.{name}", own, reaction.formula

    @cached_property
    def parameters(self) -> tuple[Parameter, ...]:
        """Every number in the rate laws, in order of the reactions, in SI; see also `enthalpies`."""
        found = []
        for home, held, formula in self._homes():
            free = _exponents(formula)
            for suffix, part in held.parts().items():
                name = f"{home}.{suffix}" if suffix else home
                unknown = isinstance(part, Unknown | NotGiven)
                stays_positive = suffix not in held.free and home.rpartition(".")[2] not in free
                lower, upper = (0.0 if stays_positive and not si(part) <= 0 else -np.inf), np.inf
                deviation = np.inf
                if isinstance(part, Unknown):
                    (lower, upper), deviation = part.bounds(lower, upper), part.deviation
                at = None if suffix else getattr(held, "at", None)
                found.append(Parameter(name, si(part), part.unit, unknown, lower, upper, at=at, deviation=deviation))
        return tuple(found)

    @cached_property
    def enthalpies(self) -> tuple[Parameter, ...]:
        """The enthalpies of reaction that are given, 'dehydration.enthalpy', in SI."""
        found = []
        for reaction in self.reactions:
            given = reaction.enthalpy
            if given is not None:
                lower, upper, deviation = -np.inf, np.inf, np.inf
                if isinstance(given, Unknown):
                    (lower, upper), deviation = given.bounds(lower, upper), given.deviation
                name, unknown = enthalpy_name(str(reaction.name)), isinstance(given, Unknown)
                found.append(
                    Parameter(name, si(given), given.unit, unknown, lower, upper, size=1e4, deviation=deviation)
                )
        return tuple(found)

    @cached_property
    def network(self) -> SymbolicNetwork:
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
        return SymbolicNetwork(
            tuple(index),
            tuple(str(r.name) for r in self.reactions),
            tuple(columns),
            tuple(rates),
            tuple(p.name for p in self.parameters),
            tuple(r.basis for r in self.reactions),
        )

    @cached_property
    def memory(self) -> dict[Any, Any]:
        """Cached values of other modules."""
        return {}

    @property
    def unknowns(self) -> tuple[Parameter, ...]:
        """The unknown numbers."""
        return tuple(p for p in self.numbers if p.unknown)

    @property
    def numbers(self) -> tuple[Parameter, ...]:
        """Every number of the reactions that can be fitted or varied: of the rate laws, and enthalpies of reaction."""
        return (*self.parameters, *self.enthalpies)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the species."""
        return self.network.species

    def reaction(self, name: str) -> Reaction:
        """One reaction by name; InputError offers the nearest."""
        found = next((r for r in self.reactions if r.name == name), None)
        if found is None:
            raise InputError(
                f"unknown reaction '{name}'", "chemistry", nearest(name, [str(r.name) for r in self.reactions])
            )
        return found

    def invariants(self) -> dict[str, np.ndarray]:
        """The conserved amounts: weights over the species, each of shape (species,).

        If every species in a reaction has a formula these are the elements (atoms per molecule) and, with ions, the
        charge. Otherwise they are the stoichiometric invariants: a basis of w with w . nu = 0 for every reaction (R.
        Aris, Introduction to the Analysis of Chemical Reactors, 1965, section 2.2), by exact elimination.
        """
        reacting = {i for column in self.network.stoichiometry for i, _ in column}
        by_index = dict(enumerate(self.species))
        keeps_elements = not any(r.equation.is_one_sided for r in self.reactions)
        if keeps_elements and all(by_index[i].formula for i in reacting):
            atoms = {i: conserved_atoms(str(by_index[i].formula)) for i in reacting}
            kinds = dict.fromkeys(e for counts in atoms.values() for e in counts)
            size = len(self.species)
            return {e: np.array([atoms.get(i, {}).get(e, 0.0) for i in range(size)], dtype=float) for e in kinds}
        names, size = self.names, len(self.species)
        found = {}
        for weights in null_space(self.network.stoichiometry, sorted(reacting)):
            vector = np.zeros(size)
            vector[list(weights)] = [float(w) for w in weights.values()]
            text = combination_text(weights, names)
            found[text if text not in found else combination_text(weights, names, size)] = vector
        return found

    @cached_property
    def conserved(self) -> Mapping[str, np.ndarray]:
        """The conserved amounts: the invariants, and mass if every species has a molar mass; weights over the
        species."""
        found = dict(self.invariants())
        keeps_mass = not any(r.equation.is_one_sided for r in self.reactions)
        if keeps_mass and all(s.formula is not None or s.molar_mass is not None for s in self.species):
            found["mass"] = np.array([s.require("molar_mass", "the mass balance").si for s in self.species])
        return found


def _without_kinetics(reaction: Reaction, shared: Mapping[str, Constant]) -> Reaction:
    """A reaction with neither a rate law nor constants, with constants that are not given."""
    asked = ("k", "k_reverse") if reaction.equation.reversible else ("k",)
    if not reaction.is_elementary or reaction.constants or {*names_in(reaction.formula)} & shared.keys():
        return reaction
    return reaction.with_constants({name: Plain(NotGiven()) for name in asked})


def enthalpy_name(reaction: str) -> str:
    """The name of the enthalpy of a reaction as a condition."""
    return f"{reaction}.enthalpy"


def _read_species(item: object) -> Species:
    """A species from an entry of a list (Species or name) or of a mapping (name, and formula or properties)."""
    if isinstance(item, Species):
        return item
    name, given = (item, None) if isinstance(item, str) else item if isinstance(item, tuple) else (None, None)
    if isinstance(name, str) and isinstance(given, str | None):
        return Species(name, given)
    if isinstance(name, str) and isinstance(given, Mapping):
        strange = sorted(given.keys() - {"formula", "source", *PROPERTIES})
        if strange:
            advice = nearest(strange[0], ["formula", *PROPERTIES])
            raise InputError(f"{', '.join(strange)}: not a property of a species", name, advice)
        return Species(name, **given)
    raise InputError(f"{item!r} is not a species", "", "write mo.Species('water', 'H2O'), a name, or {'water': 'H2O'}")


def _exponents(formula: sp.Expr) -> set[str]:
    """Names of the constants in an exponent or in exp, which may be negative."""
    nodes = [node for node in sp.preorder_traversal(formula) if isinstance(node, sp.Pow | sp.exp)]
    return {name for node in nodes for name in names_in(node.exp)}
