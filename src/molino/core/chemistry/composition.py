"""The atoms, the charge and the molar mass of a formula."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from types import MappingProxyType

from molino.core.errors import InputError

_ATOMIC_MASSES = """
H 1.008 He 4.0026 Li 6.94 Be 9.0122 B 10.81 C 12.011 N 14.007 O 15.999 F 18.998 Ne 20.180 Na 22.990 Mg 24.305 Al 26.982
Si 28.085 P 30.974 S 32.06 Cl 35.45 Ar 39.95 K 39.098 Ca 40.078 Sc 44.956 Ti 47.867 V 50.942 Cr 51.996 Mn 54.938
Fe 55.845 Co 58.933 Ni 58.693 Cu 63.546 Zn 65.38 Ga 69.723 Ge 72.630 As 74.922 Se 78.971 Br 79.904 Kr 83.798 Rb 85.468
Sr 87.62 Y 88.906 Zr 91.224 Nb 92.906 Mo 95.95 Tc 97 Ru 101.07 Rh 102.91 Pd 106.42 Ag 107.87 Cd 112.41 In 114.82
Sn 118.71 Sb 121.76 Te 127.60 I 126.90 Xe 131.29 Cs 132.91 Ba 137.33 La 138.91 Ce 140.12 Pr 140.91 Nd 144.24 Pm 145
Sm 150.36 Eu 151.96 Gd 157.25 Tb 158.93 Dy 162.50 Ho 164.93 Er 167.26 Tm 168.93 Yb 173.05 Lu 174.97 Hf 178.49 Ta 180.95
W 183.84 Re 186.21 Os 190.23 Ir 192.22 Pt 195.08 Au 196.97 Hg 200.59 Tl 204.38 Pb 207.2 Bi 208.98 Po 209 At 210 Rn 222
Fr 223 Ra 226 Ac 227 Th 232.04 Pa 231.04 U 238.03 Np 237 Pu 244 Am 243 Cm 247 Bk 247 Cf 251 Es 252 Fm 257 Md 258 No 259
Lr 262
"""
_WORDS = _ATOMIC_MASSES.split()
ATOMIC_MASSES = dict(zip(_WORDS[::2], (float(mass) for mass in _WORDS[1::2]), strict=True))
"""Standard atomic weights in g/mol, abridged to five digits (IUPAC, Pure Appl. Chem. 94 (2022) 573); for elements
without one the mass number of the isotope of longest life."""

_TOKEN = re.compile(
    r"(?P<element>[A-Z][a-z]?)(?P<n>\d{1,6}(?:\.\d{1,6})?)?|(?P<open>[(\[])|(?P<close>[)\]])(?P<m>\d{1,6}(?:\.\d{1,6})?)?"
)
_CHARGE = re.compile(r"\^\{?(?P<raised>\d*[+-]|[+-]\d*)\}?$|(?P<signs>\++|-+)$|(?P<signed>[+-]\d)$")
_WATERS = re.compile(r"\.(?=(?:\d+(?:\.\d+)?)?H2O$)")
_WRITE = "write formulas like C5H4O2, Ca(OH)2, CuSO4·5H2O or SO4^2-"


@dataclass(frozen=True)
class Composition:
    """Atoms of each element, charge number, and molar mass in kg/mol."""

    atoms: Mapping[str, Fraction]
    charge: int
    molar_mass: float


@cache
def composition(formula: str) -> Composition:
    """Read a chemical formula.

    Groups are in brackets ('Ca(OH)2'), parts of a hydrate are joined by '·' or '*' ('CuSO4·5H2O', with a plain dot
    before whole waters too), a charge ends it ('NH4+', 'SO4^2-', 'Fe+3', 'e-'). Counts may have decimals, as in the
    formulas of biomass ('CH1.8O0.5N0.2').

    Raises
    ------
    InputError
        With the place in the formula. 'Ca2+' is refused: two atoms or two charges?
    """
    body, charge = _charge(formula.strip())
    if body == "e" and charge:
        return Composition(MappingProxyType({}), charge, 5.48580e-7)
    atoms: dict[str, Fraction] = {}
    for part in re.split(r"[·*•]", _WATERS.sub("·", body, count=1)):
        match = re.match(r"\d{1,6}(?:\.\d{1,6})?", part)
        times = Fraction(match[0]) if match else Fraction(1)
        for element, count in _atoms(part[match.end() :] if match else part, formula).items():
            atoms[element] = atoms.get(element, Fraction(0)) + times * count
    mass = sum(float(count) * ATOMIC_MASSES[element] for element, count in atoms.items()) * 1e-3
    return Composition(MappingProxyType(atoms), charge, mass)


def _charge(formula: str) -> tuple[str, int]:
    match = _CHARGE.search(formula)
    if not match:
        return formula, 0
    body = formula[: match.start()]
    if match["signs"]:
        count = len(match["signs"])
        digits = re.search(r"\d+$", body)
        if digits and (len(digits[0]) > 1 or re.fullmatch(r"[A-Z][a-z]?\d", body)):
            raised = f"{body[:-1]}^{body[-1]}{match['signs']}"
            message = f"'{formula}' can be read in two ways"
            raise InputError(message, advice=f"write {raised} for the charge, or {body}^{match['signs']} for the atoms")
        return body, count if match["signs"][0] == "+" else -count
    text = match["raised"] or match["signed"]
    number = int(text.strip("+-") or 1)
    return body, number if "+" in text else -number


def _atoms(part: str, formula: str) -> dict[str, Fraction]:
    """Count the atoms of one part of a formula."""
    stack: list[dict[str, Fraction]] = [{}]
    position = 0
    while position < len(part):
        match = _TOKEN.match(part, position)
        if not match or (match["close"] and len(stack) == 1):
            raise InputError(f"cannot read '{formula}' at '{part[position:]}'", advice=_WRITE)
        if match["open"]:
            stack.append({})
        elif match["close"]:
            group = stack.pop()
            for name, count in group.items():
                stack[-1][name] = stack[-1].get(name, Fraction(0)) + count * Fraction(match["m"] or 1)
        else:
            name = match["element"]
            if name not in ATOMIC_MASSES:
                raise InputError(f"'{name}' in '{formula}' is not an element", advice="check capitals: CO or Co")
            stack[-1][name] = stack[-1].get(name, Fraction(0)) + Fraction(match["n"] or 1)
        position = match.end()
    if len(stack) > 1 or not stack[0]:
        raise InputError(f"the formula '{formula}' ends too early", advice="close its brackets, name its elements")
    return stack[0]
