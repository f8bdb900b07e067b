"""Rate-law formulas: a small grammar, read into SymPy and never evaluated as Python.

    sum     := product {("+"|"-") product}
    product := factor {("*"|"/") factor}
    factor  := ("+"|"-") factor | atom [("^"|"**") factor]
    atom    := number | name | "[A]" | "p[A]" | "x[A]" | "a[A]" | "f[A]" | function "(" sum ")" | "(" sum ")"

`[A]` is the concentration of A, `p[A]` its partial pressure, `x[A]` its mole fraction, `a[A]` its activity, `f[A]` its
fugacity; `T`, `P` and `R` are known. In the formula of a flux a prime, as in `p[A]'`, means the other side of the wall.
The method is recursive descent (Aho, Lam, Sethi, Ullman, Compilers, 2nd ed. 2007, section 4.4).
"""

from __future__ import annotations

import math
import re
from fractions import Fraction
from functools import cache

import sympy as sp

from molino.core.errors import InputError
from molino.core.symbols import Quantity, Role

FUNCTIONS = {"exp": sp.exp, "log": sp.log, "sqrt": sp.sqrt}
TEMPERATURE = Role("temperature", "T", sign="positive")()
PRESSURE = Role("pressure", "P", sign="positive")()
GAS = Role("gas constant", "R", sign="positive")()
CONSTANT = Role("constant", "{}")
_OF_SPECIES = {
    "": Role("concentration", "[{}]", "[{}]", sign="nonnegative"),
    "p": Role("partial pressure", "p[{}]", "p_{{{}}}", sign="nonnegative"),
    "x": Role("mole fraction", "x[{}]", "x_{{{}}}", sign="nonnegative"),
    "a": Role("activity of a species", "a[{}]", "a_{{{}}}", sign="nonnegative"),
    "f": Role("fugacity", "f[{}]", "f_{{{}}}", sign="nonnegative"),
}
_BEYOND = {
    kind: Role(f"{role.name} on the other side", f"{role.text}'", f"{role.latex or role.text}'", sign="nonnegative")
    for kind, role in _OF_SPECIES.items()
    if kind not in ("a", "f")
}
_KIND_BEYOND = {role.name: kind for kind, role in _BEYOND.items()}
_KIND_OF = {role.name: kind for kind, role in _OF_SPECIES.items()}
KNOWN = {"T": TEMPERATURE, "P": PRESSURE, "R": GAS}

_TOKEN = re.compile(
    r"\s*(?:(?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)"
    r"|(?P<species>(?:[pxaf](?=\s*\[))?\s*\[[^\[\]]*\]'?)"
    r"|(?P<name>[^\W\d]\w*)"
    r"|(?P<op>\*\*|[-+*/^(),]))"
)
_LONGEST = 2000
_DEEPEST = 60
_LOWEST = 12
"""Largest depth of nested denominators: SymPy takes twice as long for each pair."""


def concentration(species: str) -> Quantity:
    """The symbol of a species' concentration in formulas: [A]."""
    return _OF_SPECIES[""](species)


def constant(name: str) -> Quantity:
    """The symbol of a named constant in a formula."""
    return CONSTANT(name)


def species_in(symbol: sp.Basic) -> tuple[str, str] | None:
    """('', 'A') for [A], ('p', 'A') for p[A], the same for 'x', 'a' and 'f'; None for any other symbol."""
    if isinstance(symbol, Quantity) and symbol.role.name in _KIND_OF:
        return _KIND_OF[symbol.role.name], str(symbol.owner)
    return None


def species_beyond(symbol: sp.Basic) -> tuple[str, str] | None:
    """('p', 'A') for p[A]', on the other side of a wall; None for any other symbol."""
    if isinstance(symbol, Quantity) and symbol.role.name in _KIND_BEYOND:
        return _KIND_BEYOND[symbol.role.name], str(symbol.owner)
    return None


def on_this_side(kind: str, species: str) -> Quantity:
    """The symbol of [A], p[A] or x[A], by its kind '', 'p' or 'x'."""
    return _OF_SPECIES[kind](species)


def names_in(expression: sp.Expr) -> list[str]:
    """The constants in a formula, sorted."""
    return sorted(str(s.owner) for s in expression.free_symbols if isinstance(s, Quantity) and s.role == CONSTANT)


@cache
def parse_formula(text: str, both_sides: bool = False) -> sp.Expr:
    """Read a formula into a SymPy expression; with `both_sides` it may contain the other side of a wall, p[A]'.

    Raises
    ------
    InputError
        With the place in the text, if it is not a formula of the grammar above or not a finite number.
    """
    return _Reader(text, both_sides).read()


class _Reader:
    def __init__(self, text: str, both_sides: bool) -> None:
        self.text, self.both_sides = text, both_sides
        self.depth = self.below = 0
        if len(text) > _LONGEST:
            raise InputError(f"the formula is {len(text)} characters long", advice=f"at most {_LONGEST}: split it up")
        self.tokens: list[tuple[str, str, int]] = []
        position = 0
        while text[position:].strip():
            match = _TOKEN.match(text, position)
            if not match:
                start = position + len(text[position:]) - len(text[position:].lstrip())
                self.fail(f"unexpected '{text[start]}'", start)
            assert match is not None
            assert match.lastgroup is not None
            self.tokens.append((match.lastgroup, match[match.lastgroup].strip(), match.start(match.lastgroup)))
            position = match.end()
        self.at = 0

    def fail(self, what: str, position: int | None = None) -> None:
        if position is None:
            position = self.tokens[self.at][2] if self.at < len(self.tokens) else len(self.text)
        message = f"cannot read the formula '{self.text}': {what} at character {position + 1}"
        raise InputError(
            message, advice="use + - * / ^ ( ) exp log sqrt, [A] for a concentration, T, P, R and constants"
        )

    def peek(self) -> str:
        return self.tokens[self.at][1] if self.at < len(self.tokens) else ""

    def take(self, *wanted: str) -> str:
        if self.at < len(self.tokens) and self.tokens[self.at][0] == "op" and self.peek() in wanted:
            self.at += 1
            return self.tokens[self.at - 1][1]
        return ""

    def read(self) -> sp.Expr:
        if not self.tokens:
            self.fail("it is empty")
        found = self.sum()
        if self.at < len(self.tokens):
            kind = self.tokens[self.at][0]
            self.fail(f"unexpected '{self.peek()}'" + ("" if kind == "op" else " (an operator is missing before it)"))
        if found.has(sp.I, sp.zoo, sp.oo, sp.nan):
            self.fail("it has no real value")
        return found

    def sum(self) -> sp.Expr:
        total = self.product()
        while operator := self.take("+", "-"):
            term = self.product()
            total = total + term if operator == "+" else total - term
        return total

    def product(self) -> sp.Expr:
        total = self.factor()
        while operator := self.take("*", "/"):
            self.below += operator == "/"
            if self.below > _LOWEST:
                self.fail(f"more than {_LOWEST} nested denominators")
            factor = self.factor()
            self.below -= operator == "/"
            if operator == "/" and factor == 0:
                self.fail("division by zero")
            total = total * factor if operator == "*" else total / factor
        return total

    def factor(self) -> sp.Expr:
        self.depth += 1
        if self.depth > _DEEPEST:
            self.fail(f"more than {_DEEPEST} levels of signs, powers and brackets")
        if sign := self.take("+", "-"):
            signed = self.factor()
            found = -signed if sign == "-" else signed
        else:
            found = self.atom()
            if self.take("^", "**"):
                found = self.power(found, self.factor())
        self.depth -= 1
        return found

    def power(self, base: sp.Expr, exponent: sp.Expr) -> sp.Expr:
        if base.is_number and exponent.is_number:
            return self.number(lambda: float(base) ** float(exponent))
        if base == 0:
            return self.number(lambda: 0.0)
        return base**exponent

    def atom(self) -> sp.Expr:
        if self.take("("):
            return self.close(self.sum())
        if self.at >= len(self.tokens):
            self.fail("it ends too early")
        kind, text, position = self.tokens[self.at]
        if kind == "op":
            self.fail(f"unexpected '{text}'")
        self.at += 1
        if kind == "number":
            return self.literal(text)
        if kind == "species":
            inside = text[text.index("[") + 1 : text.index("]")].strip()
            if not inside:
                self.fail("no species between the brackets", position)
            if not text.endswith("'"):
                return _OF_SPECIES[text[0].strip("[")](inside)
            if not self.both_sides:
                self.fail("a prime means the other side of a membrane, which does not exist here", position)
            if text[0] in "af":
                self.fail("activity and fugacity on the other side of a membrane are not available", position)
            return _BEYOND[text[0].strip("[")](inside)
        if self.take("("):
            if text not in FUNCTIONS:
                self.fail(f"'{text}' is not a known function (exp, log, sqrt)", position)
            inside_brackets = self.close(self.sum())
            if inside_brackets.is_number:
                return self.number(lambda: getattr(math, text)(float(inside_brackets)))
            return FUNCTIONS[text](inside_brackets)
        if text in FUNCTIONS:
            self.fail(f"'{text}' needs brackets", position)
        return KNOWN[text] if text in KNOWN else constant(text)

    def close(self, inside: sp.Expr) -> sp.Expr:
        if not self.take(")"):
            self.fail("a closing bracket is missing")
        return inside

    def literal(self, text: str) -> sp.Expr:
        if len(text) > 30:
            self.fail(f"the number {text[:30]}... is too long")
        value = float(text)
        if not math.isfinite(value):
            self.fail(f"{text} is too large")
        return sp.Rational(Fraction(text)) if value == 0 or 1e-4 <= value <= 1e6 else sp.Float(value)

    def number(self, compute: object) -> sp.Expr:
        try:
            value = compute()  # type: ignore[operator]
        except (ArithmeticError, ValueError, TypeError):
            value = math.nan
        if isinstance(value, complex) or not math.isfinite(value):
            self.fail("a part of it is not finite just before this")
        return sp.Rational(Fraction(value)) if float(value).is_integer() and abs(value) < 1e6 else sp.Float(value)


def concentration_meant(name: str, species: set[str]) -> str:
    """Advice for `cA`, `C_A` or `pA`; empty for other names."""
    head, rest = name[:1], name[1:].removeprefix("_")
    form = {"c": "[{}]", "C": "[{}]", "p": "p[{}]", "P": "p[{}]", "x": "x[{}]", "y": "x[{}]"}.get(head)
    return f"did you mean '{form.format(rest)}'?" if form is not None and rest in species else ""
