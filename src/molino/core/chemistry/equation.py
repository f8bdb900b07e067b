"""Reaction equations: 'xylose -> furfural + 3 water', '2.5 B + A <-> C', 'A + B -> 2 B'."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from functools import cache, cached_property

from molino.core.errors import InputError

_ARROW = re.compile(r"<->|<=>|⇌|⇄|->|=>|→|=")
_PLUS = re.compile(r"\s+\+\s*|(?<=[\w)])\+(?=[\w(])")
_TERM = re.compile(r"(?P<count>\d+(?:\.\d+)?(?:\s*/\s*\d+)?|\.\d+)?\s*\*?\s*(?P<name>[^\W\d][^\s+*/\[\]]*\+*)")
_WRITE = "write it like 'A + 2 B -> C' or 'A <-> B', with blanks around + and the arrow"


@dataclass(frozen=True)
class Equation:
    """A reaction equation: moles of each species on the left and on the right, and whether it runs both ways."""

    text: str
    left: tuple[tuple[str, Fraction], ...]
    right: tuple[tuple[str, Fraction], ...]
    reversible: bool

    @cached_property
    def species(self) -> tuple[str, ...]:
        """Every species, in order of appearance."""
        return tuple(dict.fromkeys(name for name, _ in self.left + self.right))

    @cached_property
    def net(self) -> dict[str, Fraction]:
        """Stoichiometric coefficients: formed positive, consumed negative; without species that are unchanged
        overall."""
        left, right = dict(self.left), dict(self.right)
        net = {name: right.get(name, Fraction(0)) - left.get(name, Fraction(0)) for name in self.species}
        return {name: coefficient for name, coefficient in net.items() if coefficient}

    @property
    def is_one_sided(self) -> bool:
        """Whether one side is empty, so that elements are not conserved."""
        return not self.left or not self.right

    def __str__(self) -> str:
        sides = (" + ".join(f"{coefficient_text(n)}{name}" for name, n in side) for side in (self.left, self.right))
        return (" <-> " if self.reversible else " -> ").join(sides).strip()


def coefficient_text(number: Fraction) -> str:
    """A stoichiometric coefficient before a name: '' for 1, '3 ', '2.5 ', '1/3 '."""
    if number == 1:
        return ""
    text = f"{float(number):.6g}"
    return f"{text} " if Fraction(text) == number else f"{number} "


def _side(text: str, equation: str, which: str) -> tuple[tuple[str, Fraction], ...]:
    moles: dict[str, Fraction] = {}
    if not text.strip():
        return ()
    for term in _PLUS.split(text.strip()):
        match = _TERM.fullmatch(term.strip())
        if not match:
            message = f"'{term.strip()}' on the {which}" if term.strip() else f"a species is missing on the {which}"
            raise InputError(f"cannot read the equation '{equation}': {message}", advice=_WRITE)
        try:
            count = Fraction((match["count"] or "1").replace(" ", ""))
        except ZeroDivisionError:
            count = Fraction(0)
        if count == 0:
            raise InputError(
                f"'{equation}' has zero {match['name']}", advice="remove the species or correct its number"
            )
        moles[match["name"]] = moles.get(match["name"], Fraction(0)) + count
    return tuple(moles.items())


@cache
def parse_equation(text: str) -> Equation:
    """Read a reaction equation.

    Coefficients may be whole, decimal or fractions (`1/2 O2`); `->` runs one way, `<->` both ways. A name may have a
    charge (`H+ + OH- -> H2O`) if blanks surround the separating plus signs.

    Raises
    ------
    InputError
        If there is not exactly one arrow, a term cannot be read, or both sides are the same.
    """
    arrows = _ARROW.findall(text)
    if len(arrows) != 1:
        message = "no arrow" if not arrows else f"{len(arrows)} arrows"
        raise InputError(f"the equation '{text}' has {message}", advice=_WRITE)
    left, right = _ARROW.split(text)
    equation = Equation(
        text.strip(), _side(left, text, "left"), _side(right, text, "right"), arrows[0] in ("<->", "<=>", "⇌", "⇄", "=")
    )
    if not equation.species:
        raise InputError(f"'{text}' has no species", advice=_WRITE)
    if not equation.net:
        raise InputError(f"'{text}' changes nothing: both sides are the same", advice="correct the products")
    return equation
