"""Equations as text, as LaTeX, and in the subset of LaTeX of Matplotlib."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

import sympy as sp

from molino.core.chemistry.constants import Constant, Plain, parameter_symbol
from molino.core.chemistry.formula import GAS, TEMPERATURE, constant, names_in
from molino.core.chemistry.reaction_set import ReactionSet
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.printing import Printed
from molino.core.symbols import Role, for_the_eye, roman, symbol_latex
from molino.core.unit_tables import GAS_CONSTANT

_DIGITS = 6


@dataclass(frozen=True)
class Line:
    """One equation: its left and right side as plain text and as LaTeX."""

    text: tuple[str, str]
    latex: tuple[str, str]


@dataclass(frozen=True)
class Equations(Printed):
    """Equations: as text (`print`), as an aligned block (`latex`), as a figure (`figures.equations`).

    Attributes
    ----------
    lines : tuple
        The left and the right side of each equation.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> equations = mo.Batch(chem, {"A": "1 mol/L"}).equations()
    >>> print(str(equations).partition("\\n")[0])
       d(n_A)/dt = -V*r_r1
    """

    lines: tuple[Line, ...]

    @property
    def text(self) -> str:
        """One equation a line."""
        width = max((len(line.text[0]) for line in self.lines), default=0)
        return "\n".join(f"{line.text[0]:>{width}} = {line.text[1]}" for line in self.lines)

    @property
    def latex(self) -> str:
        """An `aligned` environment (of the package amsmath), for a display equation."""
        rows = (" &= ".join(line.latex) for line in self.lines)
        return "\\begin{aligned}\n" + " \\\\\n".join(rows) + "\n\\end{aligned}"

    def _repr_latex_(self) -> str:
        return f"$$\n{self.latex}\n$$"

    def __str__(self) -> str:
        return self.text


def line(left: str | sp.Expr, right: sp.Expr, left_latex: str = "") -> Line:
    """An equation from its sides; a left side that is text has its own LaTeX."""
    if isinstance(left, str):
        return Line((left, plain_text(right)), (left_latex, latex_text(right)))
    return Line((plain_text(left), plain_text(right)), (latex_text(left), latex_text(right)))


def latex_text(e: sp.Expr) -> str:
    """An expression as LaTeX, with the symbols of the trade."""
    shown = _rounded(e).replace(sp.exp, sp.Function("exp"))  # exp(...) on the line, where a raised one is too small
    shown, names = for_the_eye(shown)
    return str(sp.latex(shown, symbol_names=names, order="none"))


def plain_text(e: sp.Expr) -> str:
    """An expression as plain text: 'k_dehydration*[xylose]*[acid]'."""
    return str(sp.sstr(for_the_eye(_rounded(e))[0], order="none"))


def _rounded(e: sp.Expr) -> sp.Expr:
    """Numbers with few digits, the gas constant as R."""
    swap: dict[sp.Expr, sp.Expr] = {n: sp.Float(n, _DIGITS) for n in e.atoms(sp.Float)}
    for n in swap:
        for number, letter in ((GAS_CONSTANT, GAS), (1 / GAS_CONSTANT, 1 / GAS)):
            if abs(abs(float(n)) / number - 1.0) < 1e-12:
                swap[n] = sp.sign(n) * letter
    return e.xreplace(swap)


RATE = Role("rate", "r_{}", "r_{{{}}}", "rate of {}")
INTRINSIC_RATE = Role("intrinsic rate", "r0_{}", "r^0_{{{}}}", "intrinsic rate of {}")
_GIBBS = Role("Gibbs energy of reaction", "dG", "\\Delta G")()


def rate_laws(chemistry: ReactionSet, intrinsic: Collection[str] = ()) -> Iterable[Line]:
    """The rate of each reaction, and the temperature dependence of its constants.

    `intrinsic` are the reactions whose rate is limited in the catalyst.
    """
    for reaction in chemistry.reactions:
        own = {
            constant(n): parameter_symbol(f"{reaction.name}.{n}" if n in reaction.constants else n)
            for n in names_in(reaction.formula)
        }
        rate = INTRINSIC_RATE if reaction.name in intrinsic else RATE
        yield line(rate(str(reaction.name)), reaction.formula.xreplace(own))
        yield from _over_temperature(reaction.constants, f"{reaction.name}.")
    yield from _over_temperature(chemistry.constants, "")


def _over_temperature(constants: Mapping[str, Constant], owner: str) -> Iterable[Line]:
    for name, held in constants.items():
        if isinstance(held, Plain):
            continue
        home = f"{owner}{name}"
        if isinstance(held, FromSpecies):
            gibbs = sp.exp(-_GIBBS / (GAS * TEMPERATURE))
            yield Line(
                (home, f"exp(-dG/(R*T)) of {held.of}"), (symbol_latex(parameter_symbol(home)), latex_text(gibbs))
            )
            continue
        law = held.expression({part: parameter_symbol(f"{home}.{part or 'ref'}") for part in held.parts()})
        yield line(parameter_symbol(home), law)


def chemistry_equations(chemistry: ReactionSet) -> Equations:
    """The rate laws, and the net rate at which each species is formed: R_i = sum of nu_ij r_j."""
    lines = [*rate_laws(chemistry)]
    network = chemistry.network
    made: list[list[sp.Expr]] = [[] for _ in network.species]
    for name, column in zip(network.reactions, network.stoichiometry, strict=True):
        for i, moles in column:
            made[i].append(sp.Rational(moles) * RATE(name))
    for species, terms in zip(network.species, made, strict=True):
        lines.append(line(f"R_{species}", sp.Add(*terms), f"R_{{{roman(species)}}}"))
    return Equations(tuple(lines))
