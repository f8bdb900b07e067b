"""The chemistry: species and reactions."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.chemistry.checks import review
from molino.core.chemistry.constants import (
    Constant,
    Entry,
)
from molino.core.chemistry.findings import Review
from molino.core.chemistry.notation import Equations, chemistry_equations
from molino.core.chemistry.reaction import Reaction
from molino.core.chemistry.reaction_set import Covariance, ReactionSet, enthalpy_name
from molino.core.chemistry.thermochemistry import log_equilibrium, reaction_enthalpy
from molino.core.errors import InputError, nearest
from molino.core.results import Table, frame
from molino.core.units import QuantityLike, Value


@dataclass(frozen=True, eq=False)
class Chemistry(ReactionSet):
    """Species, reactions and rate laws.

    Parameters
    ----------
    reactions : sequence of Reaction
        Empty if species are only mixed, dosed or washed out.
    species : sequence of Species or names, or mapping of name to formula or properties, optional
        Equations are checked with the formulas. Species that are in no reaction (a catalyst, a solvent) may be listed;
        those in equations and rate laws need not be listed.
    constants : mapping, optional
        Constants that are common to several rate laws.
    covariance : Covariance, optional
        Of fitted constants.

    Raises
    ------
    InputError
        With all faults: unknown names, unbalanced equations, missing or unused constants, dimensions.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> chem.names
    ('A', 'B', 'C')
    >>> chem.network.matrix.astype(int).tolist()
    [[-1, 0], [1, -1], [0, 1]]
    """

    if TYPE_CHECKING:  # one reaction may be given alone; the field is always a sequence

        def __init__(
            self,
            reactions: Reaction | Sequence[Reaction],
            species: object = (),
            constants: ByName = ...,
            covariance: Covariance | None = None,
        ) -> None: ...

    def with_values(self, values: Mapping[str, float], covariance: Covariance | None = None) -> Chemistry:
        """The same chemistry with parameters set to numbers in SI, by their full names ('dehydration.k.Ea')."""
        unknown_names = sorted(values.keys() - {p.name for p in self.numbers})
        if unknown_names:
            hints = [nearest(name, (p.name for p in self.numbers)) for name in unknown_names]
            raise InputError(f"no parameter named {', '.join(unknown_names)}", "chemistry", "; ".join(hints))

        def renew(home: str, held: Constant) -> Constant:
            parts: dict[str, Entry] = {}
            for suffix, part in held.parts().items():
                name = f"{home}.{suffix}" if suffix else home
                parts[suffix] = Value(float(values[name]), part.unit) if name in values else part
            return held.with_parts(parts)

        def enthalpy(reaction: Reaction) -> Value | None:
            name, own = enthalpy_name(str(reaction.name)), reaction.enthalpy
            return Value(float(values[name]), own.unit) if own is not None and name in values else None

        reactions = [
            r.with_constants(
                {name: renew(f"{r.name}.{name}", held) for name, held in r.constants.items()}, enthalpy=enthalpy(r)
            )
            for r in self.reactions
        ]
        constants = {name: renew(name, held) for name, held in self.constants.items()}
        return replace(self, reactions=reactions, constants=constants, covariance=covariance)

    def __str__(self) -> str:
        """A table of reactions and rate laws, the constants of each below it."""
        if not self.reactions:
            return f"{len(self.species)} species, no reaction"
        rows = [("reaction", "equation", "rate law")]
        for r in self.reactions:
            law = r.law if r.has_kinetics else "none given"
            rows.append((str(r.name), str(r.equation), law + ("" if r.basis == "volume" else f"  (per {r.basis})")))
        widths = [max(len(row[i]) for row in rows) for i in (0, 1)]
        lines = [f"{name:<{widths[0]}}  {equation:<{widths[1]}}  {law}" for name, equation, law in rows]
        for place, reaction in reversed([*enumerate(self.reactions, 1)]):
            if reaction.has_kinetics:
                lines[place + 1 : place + 1] = [f"  {name} = {held}" for name, held in reaction.constants.items()]
        lines += [f"shared: {name} = {held}" for name, held in self.constants.items()]
        count = len(self.reactions)
        lines.append(f"{len(self.species)} species, {count} reaction{'s' if count != 1 else ''}")
        return "\n".join(lines)

    def reaction_enthalpy(self, name: str, T: QuantityLike) -> Value:
        """Enthalpy of a reaction at a temperature from its species, per mole of reaction, as a quantity in kJ/mol.

        sum of nu_i (H_f,i + integral of Cp,i dT). Raises InputError with missing properties.
        """
        reaction, kelvin = self.reaction(name), sp.Float(units.positive(T, "temperature", "T").si)
        asker = f"the enthalpy of '{reaction.equation}'"
        found = reaction_enthalpy(reaction.equation, {s.name: s for s in self.species}, kelvin, asker)
        return Value(float(found), "kJ/mol")

    def equilibrium_constant(self, name: str, T: QuantityLike) -> float:
        """The equilibrium constant of a reaction at a temperature from its species, in activities.

        K = exp(-dG/(R T)), for the standard state of the species' numbers. Raises InputError with missing properties.
        """
        reaction, kelvin = self.reaction(name), sp.Float(units.positive(T, "temperature", "T").si)
        asker = f"K of '{reaction.equation}'"
        return math.exp(float(log_equilibrium(reaction.equation, {s.name: s for s in self.species}, kelvin, asker)))

    def check(self, T: QuantityLike | None = None) -> Review:
        """The findings of the chemistry before a run: errors, warnings and notes.

        Its construction raises errors of elements, names and dimensions. This check also finds species that no reaction
        forms or consumes, dependent reactions, rates that run against their arrow or consume exhausted species,
        equilibria that contradict the thermochemistry, and constants outside the usual range.

        Parameters
        ----------
        T : temperature, optional
            For the evaluation of rates; by default the reference temperature of the first constant that has one.
        """
        return Review.of(review(self, units.positive(T, "temperature", "T") if T is not None else None))

    def matrix(self) -> Table:
        """The stoichiometric matrix as a table: moles of each species (rows) formed by each reaction (columns).

        Returns
        -------
        DataFrame
            Indexed by species, a column per reaction; consumption is negative.
        """
        reactions = [str(r.name) for r in self.reactions]
        return frame(self.network.matrix, index=list(self.names), columns=reactions)

    def equations(self) -> Equations:
        """Rate laws and net rates of formation as text (`print`), LaTeX (`.latex`) and a figure
        (`figures.equations`)."""
        return chemistry_equations(self)

    def at_guess(self) -> Chemistry:
        """The same chemistry with every unknown set to its guess."""
        return self.with_values({p.name: p.value for p in self.unknowns})
