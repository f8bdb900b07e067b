"""Species and the elements in them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction

from molino.core.chemistry.equation import Equation, coefficient_text
from molino.core.errors import InputError

_SYMBOLS = """
H He Li Be B C N O F Ne Na Mg Al Si P S Cl Ar K Ca Sc Ti V Cr Mn Fe Co Ni Cu Zn Ga Ge As Se Br Kr Rb Sr Y Zr Nb Mo Tc
Ru Rh Pd Ag Cd In Sn Sb Te I Xe Cs Ba La Ce Pr Nd Pm Sm Eu Gd Tb Dy Ho Er Tm Yb Lu Hf Ta W Re Os Ir Pt Au Hg Tl Pb Bi
Po At Rn Fr Ra Ac Th Pa U Np Pu Am Cm Bk Cf Es Fm Md No Lr
"""
ELEMENTS = frozenset(_SYMBOLS.split())


@dataclass(frozen=True)
class Species:
    """A chemical species.

    Parameters
    ----------
    name : str
        As it stands in reaction equations.
    formula : str, optional
        Elements and groups, like "C5H10O5" or "Ca(OH)2". Where every species of a reaction has one, the reaction must
        balance.
    """

    name: str
    formula: str | None = None

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[^\W\d][^\s+*/\[\]]*\+*", self.name):
            advice = "a name starts with a letter and holds no blanks, brackets, * or /"
            raise InputError(f"'{self.name}' cannot be the name of a species", advice=advice)
        if self.formula is not None:
            elements(self.formula)


def elements(formula: str) -> dict[str, int]:
    """Count the atoms of each element in a formula: 'Ca(OH)2' -> {'Ca': 1, 'O': 2, 'H': 2}."""
    stack: list[dict[str, int]] = [{}]
    position = 0
    token = re.compile(r"(?P<element>[A-Z][a-z]?)(?P<n>\d{0,6})|(?P<open>\()|(?P<close>\))(?P<m>\d{0,6})")
    while position < len(formula):
        match = token.match(formula, position)
        if not match or (match["close"] and len(stack) == 1):
            said = f"cannot read '{formula}' at character {position + 1}"
            raise InputError(said, advice="write formulas like C5H4O2 or Ca(OH)2")
        if match["open"]:
            stack.append({})
        elif match["close"]:
            group = stack.pop()
            for name, count in group.items():
                stack[-1][name] = stack[-1].get(name, 0) + count * int(match["m"] or 1)
        else:
            name = match["element"]
            if name not in ELEMENTS:
                raise InputError(f"'{name}' in '{formula}' is not an element", advice="check capitals: CO or Co")
            stack[-1][name] = stack[-1].get(name, 0) + int(match["n"] or 1)
        position = match.end()
    if len(stack) > 1 or not stack[0]:
        raise InputError(f"the formula '{formula}' ends too early", advice="close its brackets, name its elements")
    return stack[0]


def check_elements(equation: Equation, formulas: Mapping[str, str]) -> None:
    """Raise InputError if a reaction gains or loses an element; skipped while a formula is missing.

    The message names the coefficient that would mend it, where one alone can.
    """
    net = equation.net
    if any(name not in formulas for name in net):
        return
    atoms = {name: elements(formulas[name]) for name in net}
    off: dict[str, Fraction] = {}
    for name, moles in net.items():
        for element, count in atoms[name].items():
            off[element] = off.get(element, Fraction(0)) + moles * count
    off = {element: surplus for element, surplus in off.items() if surplus}
    if not off:
        return
    parts = []
    for verb, sign in (("gains", 1), ("loses", -1)):
        atoms_off = [f"{coefficient_text(abs(n))}{element}" for element, n in off.items() if n * sign > 0]
        parts += [f"{verb} {' and '.join(atoms_off)}"] if atoms_off else []
    mends = []
    for name, moles in net.items():
        ratios = {off.get(element, Fraction(0)) / count for element, count in atoms[name].items()}
        if len(ratios) == 1 and off.keys() <= atoms[name].keys():
            mended = moles - ratios.pop()
            if mended and (mended > 0) == (moles > 0):
                mends.append(f"{coefficient_text(abs(mended))}{name}")
    advice = f"it balances with {' or with '.join(mends)}" if mends else "check the coefficients and the formulas"
    raise InputError(f"'{equation.text}' does not balance: it {', '.join(parts)}", advice=advice)
