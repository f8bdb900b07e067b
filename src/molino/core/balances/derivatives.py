"""Exact derivatives of balances, sparse and through their definitions."""

from __future__ import annotations

from collections.abc import Iterable

import sympy as sp

from molino.core.balances.source import SLOPE, guarded, plain
from molino.core.balances.system import ZERO
from molino.core.symbols import Role, in_order

_DERIVATIVE = Role("derivative", "derivative {}")


class Derivatives:
    """Partial derivatives through the definitions, only by the symbols that occur.

    Forward accumulation (A. Griewank, A. Walther, Evaluating Derivatives, 2nd ed. 2008, section 3.1): each definition
    used gets one new definition per symbol that it depends on, so that shared parts are written once and the size is
    proportional to the number of nonzero derivatives.
    """

    def __init__(self, definitions: Iterable[tuple[sp.Symbol, sp.Expr]], by: tuple[sp.Symbol, ...]) -> None:
        self.by = frozenset(by)
        self.known: dict[sp.Symbol, dict[sp.Symbol, sp.Expr]] = {}
        self.given: dict[sp.Symbol, sp.Expr] = dict(definitions)
        self.definitions: dict[sp.Symbol, sp.Expr] = dict(self.given)

    def of(self, expression: sp.Expr) -> dict[sp.Symbol, sp.Expr]:
        """Nonzero derivatives of an expression by the chosen symbols."""
        total: dict[sp.Symbol, sp.Expr] = {}
        for symbol in in_order(expression.free_symbols):
            if symbol in self.by:
                total[symbol] = total.get(symbol, ZERO) + slope_of(expression, symbol)
            elif inner := self._of_definition(symbol):
                outer = slope_of(expression, symbol)
                for wrt, slope in inner.items():
                    total[wrt] = total.get(wrt, ZERO) + outer * slope
        return {wrt: slope for wrt, slope in total.items() if slope != 0}

    def _of_definition(self, symbol: sp.Symbol) -> dict[sp.Symbol, sp.Expr]:
        """Those of a definition, computed on first use."""
        if symbol not in self.given:
            return {}
        if symbol not in self.known:
            gradient = {}
            for wrt, slope in self.of(self.given[symbol]).items():
                if slope.is_Atom:
                    gradient[wrt] = slope
                    continue
                name = _DERIVATIVE(str(len(self.definitions)))
                self.definitions[name] = slope
                gradient[wrt] = name
            self.known[symbol] = gradient
        return self.known[symbol]


def slope_of(expression: sp.Expr, symbol: sp.Symbol) -> sp.Expr:
    """The derivative of one expression by one of its symbols, with powers that are defined at zero."""
    if isinstance(expression, sp.Add):
        return sp.Add(*(slope_of(term, symbol) for term in expression.args if symbol in term.free_symbols))
    slope = plain(expression).diff(symbol)  # also of a derivative
    # the derivative of x^n is n x^n / x, which is undefined at x = 0: collect the powers of x
    if any(p.exp.free_symbols for p in slope.atoms(sp.Pow)):
        slope = sp.powsimp(slope)
    return guarded(slope, SLOPE)
