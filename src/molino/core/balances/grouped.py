"""Right-hand side and Jacobian of large balances, as NumPy columns instead of scalars.

Definitions of the same shape (k [A] [B] for any k, A and B) are evaluated together: their arguments are gathered from
one vector of values, the shape is computed on columns. The right-hand sides are sums of definitions with coefficients,
a sparse matrix. Each shape is differentiated once, so that a thousand reactions of three families cost three
differentiations.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from math import isfinite
from operator import itemgetter, methodcaller
from typing import Any

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.derivatives import slope_of
from molino.core.balances.source import NotFinite, Program, guarded, plain, scope, write
from molino.core.balances.system import Balances

_ONE = sp.Symbol("#one")

ColumnFunction = Callable[..., Any]


@dataclass(frozen=True)
class _Group:
    """Definitions of one shape: their places, the places of their arguments, and their function."""

    out: slice
    arguments: tuple[np.ndarray, ...]
    gather: tuple[ColumnFunction, ...]
    function: ColumnFunction
    slopes: tuple[ColumnFunction, ...]


class Grouped:
    """Functions of plain numbers for one `Balances` of many definitions.

    The vector of values has first the variable values (states, the independent variable, the number one, the
    definitions in order of their levels), then the constant ones (parameters, and definitions that depend on them
    alone).
    """

    def __init__(self, balances: Balances) -> None:
        self.n = len(balances.states)
        moving = [*balances.symbols, balances.independent]
        safe = {symbol: guarded(e) for symbol, e in balances.definitions}
        program = Program(safe, [guarded(f) for f in balances.rhs], moving, share=False)
        self.definitions = dict(program.varying)
        self.program = program
        terms = [self._linear(output, sp.Integer(1)) for output in program.outputs]
        levels = _levels(self.definitions)
        fixed_levels = _levels(program.fixed)
        self.position: dict[sp.Symbol, int] = {}
        state = {symbol: i for i, symbol in enumerate(balances.symbols)}
        first = {
            s: min((state[a] for a in e.free_symbols if a in state), default=0) for s, e in self.definitions.items()
        }
        in_order = self._ordered(self.definitions, levels, first)
        for symbol in (*moving, _ONE, *in_order):
            self.position[symbol] = len(self.position)
        self.width = len(self.position)
        used = self._first_use(in_order, levels)
        still = sorted(balances.parameters, key=lambda p: used.get(p, len(used)))
        for symbol in (*still, *self._ordered(program.fixed, fixed_levels, used)):
            self.position[symbol] = len(self.position)
        self.parameters = np.array([self.position[p] for p in balances.parameters], dtype=int)
        self.fixed = self._groups(program.fixed, fixed_levels, used)
        self.moving = self._groups(self.definitions, levels, first)
        self.depth = max(levels.values(), default=0)
        entries = [(i, self.position[s], c) for i, row in enumerate(terms) for s, c in row]
        self.rows = np.array([i for i, _, _ in entries], dtype=int)
        self.columns = np.array([j for _, j, _ in entries], dtype=int)
        split = [c.as_coeff_Mul() for _, _, c in entries]
        self.numbers = np.array([float(number) for number, _ in split])
        self.factors = np.array([self.position[_ONE if rest == 1 else rest] for _, rest in split], dtype=int)

    @staticmethod
    def pays(balances: Balances) -> bool:
        """Whether the balances are large enough, and regular enough, for columns to be faster than scalars."""
        definitions = dict(balances.definitions)
        if len(definitions) < _FEWEST:
            return False
        return len({_shape(e)[0] for e in definitions.values()}) < len(definitions) / 8

    def _moves(self, symbols: Sequence[sp.Symbol]) -> tuple[bool, ...]:
        return tuple(symbol in self.program.moving for symbol in symbols)

    def _kind(self, e: sp.Expr, level: int) -> tuple[int, sp.Expr, tuple[bool, ...]]:
        """The key of definitions that are evaluated together."""
        shape, arguments = _shape(e)
        return level, shape, self._moves(arguments)

    def _ordered(
        self, definitions: Mapping[sp.Symbol, sp.Expr], levels: Mapping[sp.Symbol, int], used: Mapping[sp.Symbol, int]
    ) -> list[sp.Symbol]:
        """The definitions in order of level, grouped by kind, within it in the order of their use."""
        first: dict[tuple[int, sp.Expr, tuple[bool, ...]], int] = {}
        keys = {}
        for n, (symbol, e) in enumerate(definitions.items()):
            kind = self._kind(e, levels[symbol])
            keys[symbol] = (levels[symbol], first.setdefault(kind, n), used.get(symbol, len(used)), n)
        return sorted(definitions, key=keys.__getitem__)

    def _first_use(self, in_order: Sequence[sp.Symbol], levels: Mapping[sp.Symbol, int]) -> dict[sp.Symbol, int]:
        """A rank for constant values: the arguments of a group are contiguous, and are read without gathering."""
        groups: dict[tuple[int, sp.Expr, tuple[bool, ...]], list[list[sp.Symbol]]] = {}
        for symbol in in_order:
            e = self.definitions[symbol]
            groups.setdefault(self._kind(e, levels[symbol]), []).append(_shape(e)[1])
        used: dict[sp.Symbol, int] = {}
        for members in groups.values():
            for column in zip(*members, strict=True):
                for symbol in column:
                    if symbol not in self.program.moving:
                        used.setdefault(symbol, len(used))
        return used

    def _linear(self, e: sp.Expr, factor: sp.Expr) -> list[tuple[sp.Symbol, sp.Expr]]:
        """A right-hand side as sum of (variable value, coefficient); nonlinear parts become definitions."""
        if isinstance(e, sp.Add):
            return [term for part in e.args for term in self._linear(part, factor)]
        if not e.free_symbols & self.program.moving:
            return [(_ONE, self._coefficient(factor * e))]
        if isinstance(e, sp.Symbol):
            return [(e, self._coefficient(factor))]
        if isinstance(e, sp.Mul):
            still = [a for a in e.args if not a.free_symbols & self.program.moving]
            rest = [a for a in e.args if a.free_symbols & self.program.moving]
            if still or len(rest) == 1:
                return self._linear(sp.Mul(*rest), factor * sp.Mul(*still))
        extra = sp.Symbol(f"#term {len(self.definitions)}")
        self.definitions[extra] = e
        self.program.moving.add(extra)
        return [(extra, self._coefficient(factor))]

    def _coefficient(self, e: sp.Expr) -> sp.Expr:
        """A number times at most one constant symbol."""
        number, rest = e.as_coeff_Mul()
        return number * (rest if rest == 1 or rest.is_Symbol else self.program.once(rest))

    def _groups(
        self, definitions: Mapping[sp.Symbol, sp.Expr], levels: Mapping[sp.Symbol, int], used: Mapping[sp.Symbol, int]
    ) -> list[_Group]:
        groups: dict[tuple[int, sp.Expr, tuple[bool, ...]], list[tuple[int, list[int]]]] = {}
        for symbol in self._ordered(definitions, levels, used):
            shape, arguments = _shape(definitions[symbol])
            place = self.position[symbol], [self.position[a] for a in arguments]
            groups.setdefault((levels[symbol], shape, self._moves(arguments)), []).append(place)
        made = []
        for (_, shape, _), members in groups.items():
            start = members[0][0]
            columns = tuple(np.array(column) for column in zip(*(places for _, places in members), strict=True))
            holders = [_holder(i) for i in range(len(columns))]
            slopes = tuple(_compile(slope_of(plain(shape), h), holders) for h in holders)
            function = _compile(shape, holders)
            gather = tuple(_gatherer(column) for column in columns)
            made.append(_Group(slice(start, start + len(members)), columns, gather, function, slopes))
        return made

    def make(self, values: Sequence[float]) -> tuple[np.ndarray, scipy.sparse.csr_matrix]:
        """The vector of values with all constant values, and the matrix of the right-hand sides."""
        v = np.empty(len(self.position))
        v[self.parameters] = values
        v[self.position[_ONE]] = 1.0
        with np.errstate(all="ignore"):
            for group in self.fixed:
                v[group.out] = group.function(*[gather(v) for gather in group.gather])
        data = self.numbers * v[self.factors]
        return v, scipy.sparse.csr_matrix((data, (self.rows, self.columns)), shape=(self.n, self.width))

    def rhs(self, values: Sequence[float]) -> Callable[[Any, float], Any]:
        """f(y, t) with the parameters of a case, shape (states,)."""
        v, matrix = self.make(values)
        front = v[: self.width]

        def function(y: object, t: float) -> Any:
            self._fill(v, y, t)
            found = matrix.dot(front)
            if not isfinite(found.sum()):
                raise NotFinite(ArithmeticError("division by zero or overflow"), y, t)
            return found

        return function

    def jacobian(self, values: Sequence[float]) -> Callable[[Any, float], np.ndarray]:
        """J(y, t), shape (states, states): M_s + M_d D, D = L_s + L_d D over the levels of the definitions."""
        v, matrix = self.make(values)
        first = self.n + 2
        rows = [
            np.arange(g.out.start, g.out.stop) - first for g in self.moving for a in g.arguments if a[0] < self.width
        ]
        pairs = [(g, i) for g in self.moving for i, a in enumerate(g.arguments) if a[0] < self.width]
        columns = np.concatenate([g.arguments[i] for g, i in pairs] or [np.empty(0, dtype=int)])
        rows_flat = np.concatenate(rows or [np.empty(0, dtype=int)])
        sizes = [len(g.arguments[i]) for g, i in pairs]
        ends = np.cumsum([0, *sizes])
        data = np.empty(len(columns))

        def function(y: object, t: float) -> np.ndarray:
            self._fill(v, y, t)
            with np.errstate(all="ignore"):
                for (group, i), begin, end in zip(pairs, ends[:-1], ends[1:], strict=True):
                    data[begin:end] = group.slopes[i](*[gather(v) for gather in group.gather])
            local = scipy.sparse.csr_matrix((data, (rows_flat, columns)), shape=(self.width - first, self.width))
            direct = local[:, : self.n]
            total = direct
            for _ in range(self.depth):
                total = direct + local[:, first:] @ total
            return np.asarray((matrix[:, : self.n] + matrix[:, first:] @ total).toarray())

        return function

    def _fill(self, v: np.ndarray, y: object, t: float) -> None:
        v[: self.n] = y
        v[self.n] = t
        with np.errstate(all="ignore"):
            for group in self.moving:
                v[group.out] = group.function(*[gather(v) for gather in group.gather])


_FEWEST = 250
"""Number of definitions below which scalars are faster."""


def _holder(i: int) -> sp.Symbol:
    return sp.Symbol(f"q{i}")


def _shape(e: sp.Expr) -> tuple[sp.Expr, list[sp.Symbol]]:
    """An expression with its symbols replaced by q0, q1, ..., and those symbols."""
    found = list(dict.fromkeys(node for node in sp.preorder_traversal(e) if isinstance(node, sp.Symbol)))
    return e.xreplace({symbol: _holder(i) for i, symbol in enumerate(found)}), found


def _levels(definitions: Mapping[sp.Symbol, sp.Expr]) -> dict[sp.Symbol, int]:
    """The level of each definition; definitions come after those that they use."""
    levels: dict[sp.Symbol, int] = {}
    for symbol, e in definitions.items():
        levels[symbol] = 1 + max((levels[s] for s in e.free_symbols if s in levels), default=-1)
    return levels


def _gatherer(places: np.ndarray) -> ColumnFunction:
    """Takes values from their places; contiguous ones, or one place for all, without copying."""
    if (places == places[0]).all():
        return itemgetter(slice(int(places[0]), int(places[0]) + 1))
    if (np.diff(places) == 1).all():
        return itemgetter(slice(int(places[0]), int(places[-1]) + 1))
    return methodcaller("take", places)


def _compile(e: sp.Expr, holders: Sequence[sp.Symbol]) -> ColumnFunction:
    text = f"lambda {', '.join(h.name for h in holders)}: {write(e, {h: h.name for h in holders})}"
    return eval(compile(text, "<molino balances>", "eval"), scope([e], array=True))  # type: ignore[no-any-return]  # our own text
