"""The equilibrium constant of each reaction: from its rate law, or from the thermochemistry of its species.

A reversible rate law f (t_1 - t_2) is zero where t_1/t_2 = 1. If that ratio is K over a product of concentrations
(pressures, fractions, activities, fugacities) to powers proportional to the stoichiometric coefficients, K is the
equilibrium constant, whatever the factor f (O. A. Hougen, K. M. Watson, Chemical Process Principles III, 1947, chapter
19, for rate laws with adsorption).
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import sympy as sp

from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import TEMPERATURE, species_in
from molino.core.chemistry.reaction import Reaction
from molino.core.chemistry.thermochemistry import log_equilibrium
from molino.core.errors import Faults, InputError, nearest


@dataclass(frozen=True)
class EquilibriumConstant:
    """The equilibrium constant of a reaction.

    Attributes
    ----------
    reaction : str
    log : expression
        ln K over temperature and the constants of the chemistry, in SI.
    measure : str
        The factors of K: '' concentrations, 'p' partial pressures, 'x' mole fractions, 'a' activities, 'f' fugacities.
    """

    reaction: str
    log: sp.Expr
    measure: str


def equilibrium_constants(
    chemistry: Chemistry, reactions: Collection[str] | None = None, solids: Collection[str] = ()
) -> tuple[EquilibriumConstant, ...]:
    """The equilibrium constants of some reactions of a chemistry.

    Parameters
    ----------
    reactions : names, optional
        By default every reversible reaction. If its rate law has no equilibrium constant, that of its species is used.
    solids : names of species
        Pure solids, whose activity is one.

    Raises
    ------
    InputError
        With every reaction without an equilibrium constant, and the reason.
    """
    faults, found = Faults(), []
    names = [str(r.name) for r in chemistry.reactions]
    for name in reactions if reactions is not None else ():
        if name not in names:
            faults.add("equilibrium", f"unknown reaction '{name}'", nearest(str(name), names))
    faults.raise_any()
    for reaction, rate in zip(chemistry.reactions, chemistry.network.rates, strict=True):
        wanted = reaction.equation.reversible if reactions is None else reaction.name in reactions
        if wanted:
            with faults.at(f"reaction {reaction.name}"):
                found.append(_constant(chemistry, reaction, rate, solids))
    faults.raise_any()
    if not found:
        message = "no reaction is reversible, and an equilibrium needs one"
        raise InputError(message, "equilibrium", "write <-> in an equation, or use the least Gibbs energy")
    return tuple(found)


def _constant(chemistry: Chemistry, reaction: Reaction, rate: sp.Expr, solids: Collection[str]) -> EquilibriumConstant:
    lacks = "it has no rate law" if not reaction.has_kinetics else ""
    if reaction.equation.reversible and reaction.has_kinetics:
        try:
            return _from_rate_law(reaction, rate, solids)
        except InputError as error:
            lacks = error.faults[0].what
    try:
        species = {s.name: s for s in chemistry.species}
        log = log_equilibrium(reaction.equation, species, TEMPERATURE, f"K of '{reaction.equation}'")
    except InputError as error:
        if not lacks:
            raise
        message = f"{lacks}, and its species give none: {error.faults[0].what}"
        advice = "write its rate as k*(forward - backward/K), or give the species' thermochemistry"
        raise InputError(message, "", advice) from error
    return EquilibriumConstant(str(reaction.name), log, "a")


def _from_rate_law(reaction: Reaction, rate: sp.Expr, solids: Collection[str]) -> EquilibriumConstant:
    ratio = _ratio(rate)
    if ratio is None:
        raise InputError("its rate law is not a difference of a forward and a backward rate")
    log = sp.expand_log(sp.log(ratio), force=True)
    terms, rest = {}, log
    for symbol in ratio.free_symbols:
        kind = species_in(symbol)
        if kind is not None:
            power = log.coeff(sp.log(symbol))
            terms[kind] = power
            rest -= power * sp.log(symbol)
    rest = sp.expand(rest)
    measures = {measure for (measure, _), power in terms.items() if power != 0}
    if any(species_in(s) is not None for s in rest.free_symbols) or len(measures) != 1:
        raise InputError("its rate law is not zero at a constant product of powers")
    measure = measures.pop()
    net = {s: sp.Rational(moles) for s, moles in reaction.equation.net.items() if s not in solids}
    share = {-terms.get((measure, s), sp.Integer(0)) / moles for s, moles in net.items()}
    strange = {s for (_, s), power in terms.items() if power != 0} - net.keys()
    if len(share) != 1 or strange or 0 in share or not next(iter(share)).is_number:
        raise InputError("its rate law is zero at another ratio than that of its equation")
    return EquilibriumConstant(str(reaction.name), rest / share.pop(), measure)


def _ratio(rate: sp.Expr) -> sp.Expr | None:
    """Forward over backward rate, where one factor of the law is their difference."""
    for factor in sp.Mul.make_args(rate):
        if factor.is_Add:
            terms = sp.Add.make_args(sp.expand_mul(sp.fraction(sp.together(factor))[0]))
            signs = [_is_negative(t) for t in terms]
            if len(terms) == 2 and signs.count(True) == 1:
                backward = signs.index(True)
                return sp.powsimp(terms[1 - backward] / -terms[backward])
    return None


def _is_negative(e: sp.Expr) -> bool:
    return bool(e.as_coeff_Mul()[0].is_negative)
