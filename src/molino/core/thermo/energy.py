"""Enthalpies of the species of a chemistry, the basis of all energy balances.

h_i(T) = h_i + integral of Cp_i dT from 298.15 K, so that the enthalpy of each reaction is sum of nu_i h_i(T)
(Kirchhoff's law) and the enthalpy flow of a stream is sum of F_i h_i(T), both from the same numbers.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import sympy as sp

from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import si
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE
from molino.core.chemistry.reaction_set import enthalpy_name
from molino.core.chemistry.species import Species
from molino.core.dual import Number
from molino.core.errors import Faults, InputError
from molino.core.symbols import Quantity, Role

CAPACITY = Role("heat capacity of the mixture", "Cp_mix", "C_p", sign="positive")()
"""That of the whole mixture, if given: per volume of a liquid, per mole of a gas."""
_ASKER = "the energy balance"
_HESS = 1e-6
"""Largest inconsistency of given enthalpies of reaction, relative to the largest."""


_REFERENCE = Role("enthalpy at 298.15 K", "h[{}]", "h_{{{}}}")


def reference(species: str) -> Quantity:
    """The parameter of a species' enthalpy at 298.15 K."""
    return _REFERENCE(species)


@dataclass(frozen=True)
class Energy:
    """Enthalpies over temperature, their numbers apart from their shape.

    `rises` are the integrals of each Cp from 298.15 K to T in J/mol, `numbers` the enthalpies at 298.15 K. `carried`:
    whether the heat capacity is that of the volume of the liquid and not of the species.
    """

    species: tuple[str, ...]
    rises: tuple[sp.Expr, ...]
    carried: bool

    def enthalpy(self, i: int, T: sp.Expr) -> sp.Expr:
        """h_i(T) in J/mol."""
        return reference(self.species[i]) + self.rise(i, T)

    def rise(self, i: int, T: sp.Expr) -> sp.Expr:
        """h_i(T) - h_i(298.15 K) in J/mol."""
        return self.rises[i].xreplace({TEMPERATURE: T})

    def capacity(self, i: int, T: sp.Expr) -> sp.Expr:
        """Cp_i in J/(mol K)."""
        return self.rises[i].diff(TEMPERATURE).xreplace({TEMPERATURE: T})


def enthalpies(
    chemistry: Chemistry, per: str | None, capacity: float = 0.0
) -> tuple[Energy, dict[sp.Symbol, float]] | InputError:
    """The enthalpies of the species of a chemistry with their numbers, or the missing properties; computed once for
    each."""
    known = chemistry.memory
    if ("enthalpies", per, capacity) not in known:
        try:
            energy = shape_of(chemistry, per)
            known["enthalpies", per, capacity] = energy, references(chemistry, energy, capacity)
        except InputError as error:
            known["enthalpies", per, capacity] = error
    return known["enthalpies", per, capacity]  # type: ignore[no-any-return]


def shape_of(chemistry: Chemistry, per: str | None) -> Energy:
    """The enthalpies of a chemistry over temperature.

    Parameters
    ----------
    per : "volume", "mole" or None
        The basis of a heat capacity of the whole mixture; None if each species has its own.

    Raises
    ------
    InputError
        With every species without a needed heat capacity.
    """
    names = chemistry.names
    if per == "volume":
        return Energy(names, (sp.Integer(0),) * len(names), True)
    if per == "mole":
        return Energy(names, (CAPACITY * (TEMPERATURE - sp.Float(STANDARD_TEMPERATURE)),) * len(names), False)
    faults = Faults()
    rises = []
    for one in chemistry.species:
        with faults.at():
            Cp = one.require("heat_capacity", _ASKER)
            rise = Cp.enthalpy(TEMPERATURE)
            start = rise.xreplace({TEMPERATURE: sp.Float(STANDARD_TEMPERATURE)}) if Cp.seven else 0
            rises.append(rise - start)
    faults.raise_any()
    return Energy(names, tuple(rises), False)


def references(chemistry: Chemistry, energy: Energy, capacity: float = 0.0) -> dict[sp.Symbol, float]:
    """The enthalpy of each species at 298.15 K in J/mol.

    From the enthalpies of formation. If a reaction has a given enthalpy, those of the species follow from all reactions
    together: the h of least squares among all with sum of nu_i h_i = dH_j for every reaction, which exist only if the
    enthalpies satisfy Hess's law.

    Raises
    ------
    InputError
        With missing properties, or the reactions whose enthalpies contradict each other.
    """
    faults = Faults()
    if all(r.enthalpy is None for r in chemistry.reactions):
        reacting = {name for r in chemistry.reactions for name in r.equation.species}
        found = {}
        for one in chemistry.species:
            with faults.at():
                found[reference(one.name)] = _formation(one) if one.name in reacting else 0.0
        if faults.found:
            lacking = [r for r in chemistry.reactions if not _has_formation(chemistry, r.equation.species)]
            names = ", ".join(str(r.name) for r in lacking)
            faults.add(f"reaction {names}", "and no enthalpy of reaction", "or give enthalpy='-85 kJ/mol' to it")
        faults.raise_any()
        return found
    by_name = {s.name: s for s in chemistry.species}
    wanted = []
    for reaction in chemistry.reactions:
        with faults.at(f"reaction {reaction.name}"):
            if reaction.enthalpy is not None:
                T = {TEMPERATURE: sp.Float(reaction.enthalpy_at.si), CAPACITY: sp.Float(capacity)}
                rise = sum(
                    float(moles) * float(energy.rises[energy.species.index(name)].xreplace(T))
                    for name, moles in reaction.equation.net.items()
                )
                wanted.append(si(reaction.enthalpy) - rise)
            else:
                wanted.append(sum(float(m) * _formation(by_name[n]) for n, m in reaction.equation.net.items()))
    faults.raise_any()
    right = np.array(wanted)
    matrix = chemistry.network.matrix
    found_h = np.linalg.lstsq(matrix.T, right, rcond=None)[0]
    off = np.abs(matrix.T @ found_h - right)
    if np.max(off, initial=0.0) > _HESS * np.max(np.abs(right), initial=1.0):
        names = ", ".join(str(r.name) for r, o in zip(chemistry.reactions, off, strict=True) if o > _HESS * np.max(off))
        message = f"the enthalpies of {names} contradict each other: their sum around a cycle is not zero"
        raise InputError(message, "chemistry", "correct one of them, or leave all out and give enthalpies of formation")
    return {reference(name): float(h) for name, h in zip(energy.species, found_h, strict=True)}


def formation_enthalpies(chemistry: Chemistry) -> dict[sp.Symbol, float] | InputError:
    """The enthalpy of formation of every species at 298.15 K in J/mol, or the missing ones."""
    faults, found = Faults(), {}
    for one in chemistry.species:
        with faults.at():
            found[reference(one.name)] = _formation(one)
    try:
        faults.raise_any()
    except InputError as error:
        return error
    return found


def moved_references(
    chemistry: Chemistry, references: Mapping[sp.Symbol, float], given: Mapping[str, Number]
) -> dict[sp.Symbol, Number]:
    """The enthalpies of the species with other enthalpies of some reactions, by their names, in SI.

    They are the h of least squares with sum of nu_i h_i = dH_j, linear in every dH_j (see `references`).
    """
    moved = [p for p in chemistry.enthalpies if p.name in given]
    if not moved:
        return dict(references)
    if "inverse" not in chemistry.memory:
        chemistry.memory["inverse"] = np.linalg.pinv(chemistry.network.matrix.T)
    inverse = chemistry.memory["inverse"]
    column = {enthalpy_name(str(r.name)): j for j, r in enumerate(chemistry.reactions)}
    found: dict[sp.Symbol, Number] = {}
    for i, name in enumerate(chemistry.names):
        found[reference(name)] = references[reference(name)]
        for p in moved:
            by = float(inverse[i, column[p.name]])
            if by:
                found[reference(name)] = found[reference(name)] + (given[p.name] - p.value) * by
    return found


def _has_formation(chemistry: Chemistry, names: tuple[str, ...]) -> bool:
    by_name = {s.name: s for s in chemistry.species}
    return all(by_name[n].enthalpy_of_formation is not None for n in names)


def _formation(species: Species) -> float:
    """Enthalpy of formation in J/mol at 298.15 K."""
    Cp = species.heat_capacity
    if Cp is not None and Cp.seven:
        return float(Cp.enthalpy(sp.Float(STANDARD_TEMPERATURE)))
    return float(species.require("enthalpy_of_formation", _ASKER).si)
