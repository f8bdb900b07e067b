"""Equations for the eye: plain text, LaTeX, and the part of LaTeX that Matplotlib sets."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import sympy as sp

from molino.core.chemistry.constants import Constant, Plain
from molino.core.chemistry.formula import GAS, TEMPERATURE, constant, names_in, species_in
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.printing import Printed
from molino.core.units import GAS_CONSTANT

if TYPE_CHECKING:
    from molino.core.chemistry.network import Chemistry

_DIGITS = 6


@dataclass(frozen=True)
class Line:
    """One equation: its left and right side as plain text and as LaTeX."""

    text: tuple[str, str]
    latex: tuple[str, str]


@dataclass(frozen=True)
class Equations(Printed):
    """Equations; `print` gives them as plain text, `latex` as an aligned block, `figures.equations` as a picture."""

    lines: tuple[Line, ...]

    @property
    def text(self) -> str:
        """One equation a line."""
        width = max((len(line.text[0]) for line in self.lines), default=0)
        return "\n".join(f"{line.text[0]:>{width}} = {line.text[1]}" for line in self.lines)

    @property
    def latex(self) -> str:
        """An `aligned` environment (of the package amsmath), to stand in a display equation."""
        rows = (" &= ".join(line.latex) for line in self.lines)
        return "\\begin{aligned}\n" + " \\\\\n".join(rows) + "\n\\end{aligned}"

    def _repr_latex_(self) -> str:
        return f"$$\n{self.latex}\n$$"

    def __str__(self) -> str:
        return self.text


def line(left: str | sp.Expr, right: sp.Expr, left_latex: str = "") -> Line:
    """An equation from its sides; a left side that is text brings its LaTeX."""
    if isinstance(left, str):
        return Line((left, plain_text(right)), (left_latex, latex_text(right)))
    return Line((plain_text(left), plain_text(right)), (latex_text(left), latex_text(right)))


def latex_text(e: sp.Expr) -> str:
    """An expression as LaTeX, with the symbols of the trade."""
    shown = _rounded(e).replace(sp.exp, sp.Function("exp"))  # exp(...) on the line, where a raised one is too small
    return str(sp.latex(shown, symbol_names={s: symbol_latex(str(s)) for s in shown.free_symbols}, order="none"))


def plain_text(e: sp.Expr) -> str:
    """An expression as plain text: 'k_dehydration*[xylose]*[acid]'."""
    shown = _rounded(e)
    plain = {s: sp.Symbol(symbol_text(str(s))) for s in shown.free_symbols}
    return str(sp.sstr(shown.xreplace(plain), order="none"))


def _rounded(e: sp.Expr) -> sp.Expr:
    """Numbers with the digits that a reader wants, the gas constant by its letter."""
    swap: dict[sp.Expr, sp.Expr] = {n: sp.Float(n, _DIGITS) for n in e.atoms(sp.Float)}
    for n in swap:
        for number, letter in ((GAS_CONSTANT, GAS), (1 / GAS_CONSTANT, 1 / GAS)):
            if abs(abs(float(n)) / number - 1.0) < 1e-12:
                swap[n] = sp.sign(n) * letter
    return e.xreplace(swap)


def _roman(name: str) -> str:
    """A name upright, its special characters escaped."""
    escaped = re.sub(r"([_&%$#{}])", r"\\\1", name).replace("^", "\\hat{}").replace(" ", "\\ ")
    return f"\\mathrm{{{escaped}}}"


_LETTERS = {
    "flow": ("Q", "Q"), "local flow": ("Q_local", "Q"), "volume": ("V", "V"), "volume of contents": ("V_held", "V"),
    "bulk_density": ("bulk_density", "\\rho_b"), "voidage": ("voidage", "\\varepsilon"),
    "fraction": ("fraction", "\\varphi"), "area": ("area", "a"), "dG": ("dG", "\\Delta G"),
    "heat taken up": ("H_taken", "\\dot{H}"), "heat capacity of contents": ("C_held", "C"),
    "heat capacity": ("Cp_mix", "C_p"), "heat capacity of the wall": ("C_wall", "C_{w}"), "stirrer power": ("W", "W"),
    "coolant T": ("T_coolant", "T_{c,0}"), "Tc": ("T_c", "T_c"), "coolant heat capacity flow": ("C_coolant", "C_c"),
    "UA per volume": ("Ua", "Ua"), "UA": ("UA", "UA"), "cross-section": ("A_tube", "A"), "mass flux": ("G", "G"),
    "viscous resistance": ("f_1", "f_1"), "inertial resistance": ("f_2", "f_2"), "feed T": ("T_feed", "T_0"),
    "start T": ("T_start", "T_0"), "feed P": ("P_feed", "P_0"), "withdrawal": ("Q_out", "Q_{out}"),
    "activity": ("a", "a"), "time on stream": ("t_stream", "t"), "particle_density": ("rho_p", "\\rho_p"),
}  # fmt: skip
"""How quantities of the vessels are written, as plain text and as LaTeX."""
_OF_REACTIONS = {
    "rate of ": ("r", "r"), "intrinsic rate of ": ("r0", "r^0"), "effectiveness of ": ("eta", "\\eta"),
    "square modulus of ": ("phi2", "\\phi^2"), "pores of ": ("pore", "\\pi"),
}  # fmt: skip
_PARTS = {"Ea": "E", "dH": "\\Delta H", "at": "T", "A": "A", "n": "n", "a": "a", "b": "b"}


def symbol_latex(name: str) -> str:
    """A symbol of the balances in LaTeX."""
    if name in _LETTERS:
        return _LETTERS[name][1]
    if match := re.fullmatch(r"(flow|T|in\[(.*)\]) of (.+)", name):
        what = f"[{_roman(match[2])}]" if match[2] else {"flow": "Q"}.get(match[1], match[1])
        return f"{what}_{{{_roman(match[3])}}}"
    if kind := species_in(sp.Symbol(name)):
        inside = _roman(kind[1])
        return f"[{inside}]" if not kind[0] else f"{kind[0]}_{{{inside}}}"
    if match := re.fullmatch(r"(in|start)\[(.*)\]", name):
        return f"[{_roman(match[2])}]_{{\\mathrm{{{match[1]}}}}}"
    for start, (_, letter) in _OF_REACTIONS.items():
        if name.startswith(start):
            return f"{letter}_{{{_roman(name.removeprefix(start))}}}"
    if match := re.fullmatch(r"([nF])_(.+)", name):
        return f"{match[1]}_{{{_roman(match[2])}}}"
    reaction, _, rest = name.rpartition(".")
    if reaction and rest in (*_PARTS, "ref"):
        owner, _, held = reaction.rpartition(".")
        if rest == "ref":
            return f"{held if len(held) == 1 else _roman(held)}_{{{_roman(f'{owner} ref'.strip())}}}"
        return f"{_PARTS[rest]}_{{{_roman(f'{owner} {held}'.strip())}}}"
    letter = rest if len(rest) == 1 else _roman(rest)
    if match := re.fullmatch(r"([A-Za-z])_(\w+)", rest):
        letter = f"{match[1]}_{{{_roman(match[2])}}}"
        return f"{{{letter}}}^{{{_roman(reaction)}}}" if reaction else letter
    return f"{letter}_{{{_roman(reaction)}}}" if reaction else letter


def symbol_text(name: str) -> str:
    """A symbol of the balances in plain text."""
    for start, letter in _OF_REACTIONS.items():
        if name.startswith(start):
            return f"{letter[0]}_{name.removeprefix(start)}"
    if match := re.fullmatch(r"(flow|T|in\[(.*)\]) of (.+)", name):
        return f"{f'[{match[2]}]' if match[2] else {'flow': 'Q'}.get(match[1], match[1])}_{match[3]}"
    return _LETTERS[name][0] if name in _LETTERS else name


def rate_laws(chemistry: Chemistry, intrinsic: Collection[str] = ()) -> Iterable[Line]:
    """The rate of each reaction, and below it how its constants depend on temperature.

    `intrinsic` names those whose rate law is not yet what a catalyst gives.
    """
    for reaction in chemistry.reactions:
        own = {constant(n): sp.Symbol(f"{reaction.name}.{n}" if n in reaction.constants else n)
               for n in names_in(reaction.formula)}  # fmt: skip
        word = "intrinsic rate" if reaction.name in intrinsic else "rate"
        yield line(sp.Symbol(f"{word} of {reaction.name}"), reaction.formula.xreplace(own))
        yield from _over_temperature(reaction.constants, f"{reaction.name}.")
    yield from _over_temperature(chemistry.constants, "")


def _over_temperature(constants: Mapping[str, Constant], owner: str) -> Iterable[Line]:
    for name, held in constants.items():
        if isinstance(held, Plain):
            continue
        home = f"{owner}{name}"
        if isinstance(held, FromSpecies):
            gibbs = sp.exp(-sp.Symbol("dG") / (GAS * TEMPERATURE))
            yield Line((home, f"exp(-dG/(R*T)) of {held.of}"), (symbol_latex(home), latex_text(gibbs)))
            continue
        law = held.expression({part: sp.Symbol(f"{home}.{part or 'ref'}") for part in held.parts()})
        yield line(sp.Symbol(home), law)


def chemistry_equations(chemistry: Chemistry) -> Equations:
    """The rate laws, and the net rate at which each species is formed: R_i = sum of nu_ij r_j."""
    lines = [*rate_laws(chemistry)]
    structure = chemistry.structure
    made: list[list[sp.Expr]] = [[] for _ in structure.species]
    for name, column in zip(structure.reactions, structure.stoichiometry, strict=True):
        for i, moles in column:
            made[i].append(sp.Rational(moles) * sp.Symbol(f"rate of {name}"))
    for species, terms in zip(structure.species, made, strict=True):
        lines.append(line(f"R_{species}", sp.Add(*terms), f"R_{{{_roman(species)}}}"))
    return Equations(tuple(lines))
