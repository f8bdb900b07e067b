"""The excess Gibbs energy of the activity models, with exact derivatives."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import sympy as sp

from molino.core.symbols import Role
from molino.core.unit_tables import GAS_CONSTANT

_COORDINATION = 10
_PART = Role("part of the excess Gibbs energy", "{}")
Coefficients = tuple[float, float, float, float]
"""a + b/T + c ln T + d T, T in K."""
Jet = tuple[sp.Expr, sp.Expr, sp.Expr]
"""A function of temperature, with its first two derivatives."""
_NONE: Jet = (sp.Integer(0), sp.Integer(0), sp.Integer(0))
_ONE: Jet = (sp.Integer(1), sp.Integer(0), sp.Integer(0))


@dataclass(frozen=True)
class ActivityNumbers:
    """The parameters of an activity model by species and pair, without names."""

    form: str
    pairs: tuple[tuple[Coefficients, ...], ...]
    nonrandomness: tuple[tuple[float, ...], ...]
    pure: tuple[tuple[float, ...], ...]

    @cached_property
    def _hash(self) -> int:
        return hash((self.form, self.pairs, self.nonrandomness, self.pure))

    def __hash__(self) -> int:
        return self._hash


def _times(one: Jet, two: Jet) -> Jet:
    return (
        one[0] * two[0],
        one[1] * two[0] + one[0] * two[1],
        one[2] * two[0] + 2 * one[1] * two[1] + one[0] * two[2],
    )


def _scaled(number: float, one: Jet) -> Jet:
    factor = sp.Float(number)
    return factor * one[0], factor * one[1], factor * one[2]


@dataclass(frozen=True)
class _Sum:
    """A sum over the amounts, with its weights and its derivatives in T."""

    symbols: tuple[sp.Symbol, sp.Symbol, sp.Symbol]
    weights: tuple[tuple[sp.Expr, ...], tuple[sp.Expr, ...], tuple[sp.Expr, ...]]


class ExcessGibbs:
    """The excess Gibbs energy over R T of some amounts, as symbols, with the derived quantities.

    Attributes
    ----------
    definitions : list of (Symbol, expression)
        The definitions of the expressions below.
    total : expression
    """

    def __init__(self, numbers: ActivityNumbers, n: Sequence[sp.Expr], T: sp.Expr, place: str = "") -> None:
        self.place, self.numbers, self.T, self.count = place, numbers, T, range(len(n))
        self.definitions: list[tuple[sp.Symbol, sp.Expr]] = []
        self.n = [x if x.is_Symbol else self._defined(f"amount {i}", x) for i, x in enumerate(map(sp.sympify, n))]
        self.sums: list[_Sum] = []
        self.total = {
            "Wilson": self._wilson,
            "NRTL": self._nrtl,
            "UNIQUAC": self._uniquac,
            "regular solution": self._regular,
        }[numbers.form]()
        self.slopes = [_PART(f"{place}{s.symbols[0].owner[0]}", "slope") for s in self.sums]
        self.definitions += [(g, self.total.diff(s.symbols[0])) for g, s in zip(self.slopes, self.sums, strict=True)]
        self.by_T = sp.Add(*(self.total.diff(s.symbols[0]) * s.symbols[1] for s in self.sums))

    def log_coefficient(self, i: int) -> sp.Expr:
        """ln gamma_i."""
        return self.total.diff(self.n[i]) + sp.Add(
            *(g * s.weights[0][i] for g, s in zip(self.slopes, self.sums, strict=True))
        )

    @property
    def enthalpy(self) -> sp.Expr:
        """Excess enthalpy in J."""
        return -GAS_CONSTANT * self.T**2 * self.by_T

    def enthalpy_by_amount(self, i: int) -> sp.Expr:
        return -GAS_CONSTANT * self.T**2 * self._by_amount(self.by_T, i)

    @property
    def enthalpy_by_T(self) -> sp.Expr:
        curve = sp.Add(*(self.by_T.diff(s.symbols[k]) * s.symbols[k + 1] for s in self.sums for k in (0, 1)))
        return -GAS_CONSTANT * self.T * (2 * self.by_T + self.T * curve)

    def _by_amount(self, e: sp.Expr, i: int) -> sp.Expr:
        """The partial derivative of an expression in the amounts and the sums."""
        inner = (e.diff(s.symbols[k]) * s.weights[k][i] for s in self.sums for k in (0, 1))
        return e.diff(self.n[i]) + sp.Add(*inner)

    def _defined(self, name: str, e: sp.Expr) -> sp.Expr:
        """A symbol that is defined as an expression; numbers are returned unchanged."""
        if not e.free_symbols:
            return e
        symbol = _PART(f"{self.place}{name}")
        self.definitions.append((symbol, e))
        return symbol

    def _kept(self, name: str, one: Jet) -> Jet:
        """The same with a symbol for each of its expressions."""
        return (
            self._defined(name, one[0]),
            self._defined(f"{name} slope", one[1]),
            self._defined(f"{name} curve", one[2]),
        )

    def _sum(self, name: str, weights: Sequence[Jet]) -> sp.Symbol:
        """A sum over the amounts with weights over T."""
        symbols = [_PART(f"{self.place}{name}", f"sum{k}") for k in range(3)]
        rows = [tuple(weight[k] for weight in weights) for k in range(3)]
        for symbol, row in zip(symbols, rows, strict=True):
            self.definitions.append((symbol, sp.Add(*(w * x for w, x in zip(row, self.n, strict=True)))))
        self.sums.append(_Sum((symbols[0], symbols[1], symbols[2]), (rows[0], rows[1], rows[2])))
        return symbols[0]

    def _power(self, i: int, j: int) -> Jet:
        """a + b/T + c ln T + d T of a pair."""
        (a, b, c, d), T = map(sp.Float, self.numbers.pairs[i][j]), self.T
        return self._kept(
            f"power {i} {j}", (a + b / T + c * sp.log(T) + d * T, -b / T**2 + c / T + d, 2 * b / T**3 - c / T**2)
        )

    def _exp(self, name: str, one: Jet) -> Jet:
        """exp of a function of temperature."""
        e = self._defined(name, sp.exp(one[0]))
        return self._kept(f"{name} of", (e, one[1] * e, (one[2] + one[1] ** 2) * e))

    def _whole(self) -> sp.Symbol:
        return self._sum("total amount", [_ONE] * len(self.n))

    def _wilson(self) -> sp.Expr:
        whole = self._whole()
        found = []
        for i in self.count:
            row = [self._exp(f"exp {i} {j}", self._power(i, j)) if i != j else _ONE for j in self.count]
            found.append(-self.n[i] * sp.log(self._sum(f"L{i}", row) / whole))
        return sp.Add(*found)

    def _nrtl(self) -> sp.Expr:
        found = []
        for i in self.count:
            tau = [self._power(j, i) if i != j else _NONE for j in self.count]
            even = [-self.numbers.nonrandomness[j][i] for j in self.count]
            G = [self._exp(f"exp {j} {i}", _scaled(even[j], t)) if i != j else _ONE for j, t in enumerate(tau)]
            both = [self._kept(f"both {j} {i}", _times(t, g)) for j, (t, g) in enumerate(zip(tau, G, strict=True))]
            found.append(self.n[i] * self._sum(f"C{i}", both) / self._sum(f"S{i}", G))
        return sp.Add(*found)

    def _uniquac(self) -> sp.Expr:
        r, q = ([one[k] for one in self.numbers.pure] for k in (0, 1))
        whole = self._whole()
        R, Q = (self._sum(name, [_scaled(x, _ONE) for x in of]) for name, of in (("volumes", r), ("areas", q)))
        found = []
        for i in self.count:
            row = [_scaled(q[j], self._exp(f"exp {j} {i}", self._power(j, i)) if i != j else _ONE) for j in self.count]
            found += [
                self.n[i] * sp.log(r[i] * whole / R),
                _COORDINATION / 2 * q[i] * self.n[i] * sp.log(q[i] * R / (Q * r[i])),
                -q[i] * self.n[i] * sp.log(self._sum(f"M{i}", row) / Q),
            ]
        return sp.Add(*found)

    def _regular(self) -> sp.Expr:
        (delta, v), T = ([one[k] for one in self.numbers.pure] for k in (0, 1)), self.T
        whole = self._sum("volumes", [_scaled(x, _ONE) for x in v])
        per_T = self._kept("per T", (1 / T, -1 / T**2, 2 / T**3))
        found = []
        for i in self.count:
            off = [
                (delta[i] - delta[j]) ** 2 + 2 * self.numbers.pairs[i][j][0] * delta[i] * delta[j] for j in self.count
            ]
            row = [_scaled(v[j] * a / GAS_CONSTANT, per_T) if i != j else _NONE for j, a in enumerate(off)]
            found.append(v[i] * self.n[i] * self._sum(f"B{i}", row) / (2 * whole))
        return sp.Add(*found)
