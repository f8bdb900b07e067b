"""Balances turned into functions of plain numbers, once for each structure."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
import sympy as sp

from molino.core.balances.derivatives import Derivatives
from molino.core.balances.grouped import Grouped
from molino.core.balances.source import Generated, build
from molino.core.balances.system import Balances

Parts = tuple[Mapping[sp.Symbol, sp.Expr], Sequence[sp.Expr], Sequence[sp.Symbol], sp.Symbol, Sequence[sp.Symbol]]
"""The ingredients of a generated function: definitions, outputs, states, the independent variable, parameters."""
Maker = Callable[[Sequence[float]], Callable[[Any, Any], list[Any]]]
Function = Callable[[Any, float], Any]

_MOST_PACKED = 150
"""Number of entries of a matrix up to which zeros are stored with the rest."""


class SparseMaker:
    """A generated function that fills a sparse matrix.

    `pattern` has the entries; `make` gives their values, and `make_array` those of many cases at once.
    """

    def __init__(
        self,
        balances: Balances,
        definitions: Mapping[sp.Symbol, sp.Expr],
        entries: Mapping[tuple[int, int], sp.Expr],
        shape: tuple[int, int],
    ) -> None:
        self.shape, self.pattern = shape, tuple(entries)
        index = np.array(self.pattern, dtype=int).reshape(-1, 2)
        self.flat = index[:, 0] * shape[1] + index[:, 1]
        self.parts: Parts = (
            definitions,
            list(entries.values()),
            balances.symbols,
            balances.independent,
            balances.parameters,
        )
        self.make = build(*self.parts)

    def __call__(self, values: Sequence[float]) -> Function:
        entries, flat, shape = self.make(values), self.flat, self.shape

        def matrix(y: object, t: float) -> np.ndarray:
            full = np.zeros(shape[0] * shape[1])
            full[flat] = entries(y, t)
            return full.reshape(shape)

        return matrix

    @cached_property
    def filling(self) -> Callable[[Sequence[float]], Function]:
        """As `__call__`, for an integrator: a small matrix is the same array at every call."""
        if self.shape[0] * self.shape[1] > _MOST_PACKED:
            return self
        return self.make.filling(self.shape, self.flat.tolist())

    @cached_property
    def make_array(self) -> Maker:
        return build(*self.parts, array=True)


@dataclass(frozen=True, eq=False)
class Sensitivity:
    """The balances with their sensitivities S = d(state)/d(parameter) as further states.

    dS/dt = J S + df/dp, S(0) = dy0/dp (R. P. Dickinson, R. J. Gelinas, J. Comput. Phys. 21 (1976) 123). Entries that
    are structurally zero are omitted.
    """

    parts: Parts
    initial: tuple[sp.Expr, ...]
    place: tuple[tuple[int, int], ...]
    """(state, parameter) of each further state."""
    shape: tuple[int, int]

    @cached_property
    def make(self) -> Generated:
        """make(parameters) -> f(states and sensitivities, t)."""
        return build(*self.parts)

    @cached_property
    def make_initial(self) -> Maker:
        """make(parameters) -> f([], 0): the initial values of states and sensitivities."""
        _, _, _, *over = self.parts
        return build({}, self.initial, (), *over)

    @cached_property
    def blocks(self) -> list[tuple[Any, Any]]:
        """For each parameter: the places of its sensitivities in the whole Jacobian, and their states."""
        found = []
        n = self.shape[0]
        for j in dict.fromkeys(j for _, j in self.place):
            where = np.array([m for m, (_, other) in enumerate(self.place) if other == j])
            rows = np.array([self.place[m][0] for m in where])
            found.append((np.ix_(n + where, n + where), np.ix_(rows, rows)))
        return found

    @cached_property
    def filling(self) -> Callable[[Sequence[float]], Function]:
        """As `make`, for an integrator: the same array at every call."""
        return self.make.filling((self.shape[0] + len(self.place),))

    def jacobian(self, single: Function) -> Function:
        """The states' Jacobian repeated for the sensitivities by each parameter (without the coupling blocks)."""
        n, size = self.shape[0], self.shape[0] + len(self.place)

        def matrix(y: Any, t: float) -> np.ndarray:
            full = np.zeros((size, size))
            full[:n, :n] = single(y[:n], t)
            for target, source in self.blocks:
                full[target] = full[source]
            return full

        return matrix

    def fold(self, slopes: np.ndarray) -> np.ndarray:
        """Sensitivities of shape (states, parameters) as further states."""
        return np.array([slopes[i, j] for i, j in self.place])

    def unfold(self, columns: np.ndarray) -> np.ndarray:
        """Further states of shape (points, entries) as an array of shape (points, states, parameters)."""
        full = np.zeros((len(columns), *self.shape))
        for n, (i, j) in enumerate(self.place):
            full[:, i, j] = columns[:, n]
        return full


class Compiled:
    """Functions of plain numbers for one `Balances`; each is generated on first use, and cached."""

    def __init__(self, balances: Balances) -> None:
        self.balances = balances
        self._sensitivities: dict[tuple[sp.Symbol, ...], Sensitivity] = {}
        self._outputs: dict[tuple[sp.Expr, ...], Maker] = {}
        self._gradients: dict[Any, SparseMaker] = {}

    @cached_property
    def grouped(self) -> Grouped | None:
        """The balances as columns, if they are large enough."""
        return Grouped(self.balances) if Grouped.pays(self.balances) else None

    @cached_property
    def is_plain(self) -> bool:
        """Whether they are few ordinary differential equations, without sparse algebra."""
        b = self.balances
        return self.grouped is None and len(b.states) <= 80 and not b.has_equations and not b.conditions

    @cached_property
    def rhs(self) -> Maker:
        """make(parameters) -> f(y, t), d(state)/d(independent)."""
        if self.grouped is not None:
            return self.grouped.rhs
        return build(*self.parts)

    @cached_property
    def parts(self) -> Parts:
        """Those of the right-hand side."""
        b = self.balances
        return dict(b.definitions), b.rhs, b.symbols, b.independent, b.parameters

    @cached_property
    def filling_rhs(self) -> Callable[[Sequence[float]], Function]:
        """As `rhs`, for an integrator: the same array at every call."""
        return self.rhs.filling((len(self.balances.states),)) if isinstance(self.rhs, Generated) else self.rhs

    @cached_property
    def filling_jacobian(self) -> Callable[[Sequence[float]], Function]:
        """As `jacobian`, for an integrator: the same array at every call."""
        return self.jacobian.filling if isinstance(self.jacobian, SparseMaker) else self.jacobian

    @cached_property
    def start(self) -> Maker:
        """make(parameters) -> f([], 0): the initial values followed by the scales."""
        b = self.balances
        outputs = [*(s.initial for s in b.states), *(s.scale for s in b.states)]
        return build({}, outputs, (), b.independent, b.parameters)

    @cached_property
    def jacobian(self) -> Callable[[Sequence[float]], Function]:
        """make(parameters) -> J(y, t), shape (states, states)."""
        return self.grouped.jacobian if self.grouped is not None else self.entries

    @cached_property
    def entries(self) -> SparseMaker:
        """As `jacobian`, with separate nonzero entries and their pattern."""
        return self.gradient(self.balances.rhs, self.balances.symbols)

    def gradient(self, outputs: tuple[sp.Expr, ...], by: tuple[sp.Symbol, ...]) -> SparseMaker:
        """make(parameters) -> exact derivatives of outputs, shape (outputs, by)."""
        key = (outputs, by)
        if key not in self._gradients:
            derivatives = Derivatives(self.balances.definitions, by)
            place = {symbol: j for j, symbol in enumerate(by)}
            rows = [derivatives.of(output) for output in outputs]
            entries = {(i, place[s]): e for i, row in enumerate(rows) for s, e in row.items()}
            self._gradients[key] = SparseMaker(self.balances, derivatives.definitions, entries, (len(outputs), len(by)))
        return self._gradients[key]

    def outputs(self, expressions: tuple[sp.Expr, ...]) -> Maker:
        """make(parameters) -> f(states, points): each expression along a result; states has shape (states, points)."""
        if expressions not in self._outputs:
            b = self.balances
            self._outputs[expressions] = build(
                dict(b.definitions), expressions, b.symbols, b.independent, b.parameters, array=True
            )
        return self._outputs[expressions]

    def sensitivity(self, by: tuple[sp.Symbol, ...]) -> Sensitivity:
        """The balances with exact sensitivities by some parameters."""
        if by not in self._sensitivities:
            self._sensitivities[by] = self._sensitivity(by)
        return self._sensitivities[by]

    def _sensitivity(self, by: tuple[sp.Symbol, ...]) -> Sensitivity:
        b = self.balances
        derivatives = Derivatives(b.definitions, (*b.symbols, *by))
        rows = [derivatives.of(f) for f in b.rhs]
        initial = {
            (i, j): slope
            for i, state in enumerate(b.states)
            for j, p in enumerate(by)
            if (slope := state.initial.diff(p)) != 0
        }
        place = {symbol: i for i, symbol in enumerate(b.symbols)}
        alive = {*initial, *((i, j) for i, row in enumerate(rows) for j, p in enumerate(by) if p in row)}
        while True:
            reached = {
                (i, j)
                for i, row in enumerate(rows)
                for s in row
                if s in place
                for j in range(len(by))
                if (place[s], j) in alive
            }
            if reached <= alive:
                break
            alive |= reached
        further = {(i, j): sp.Symbol(f"S({i},{j})") for i, j in sorted(alive, key=lambda ij: (ij[1], ij[0]))}
        slopes = []
        for i, j in further:
            terms = [e * further[place[s], j] for s, e in rows[i].items() if s in place and (place[s], j) in further]
            slopes.append(sp.Add(*terms, rows[i].get(by[j], sp.Integer(0))))
        states = (*b.symbols, *further.values())
        parts = (derivatives.definitions, [*b.rhs, *slopes], states, b.independent, b.parameters)
        start = [*(s.initial for s in b.states), *(initial.get(ij, sp.Integer(0)) for ij in further)]
        return Sensitivity(parts, tuple(start), tuple(further), (len(b.states), len(by)))


@lru_cache(maxsize=256)
def compiled(balances: Balances) -> Compiled:
    """The compiled form of balances, made once for each structure."""
    return Compiled(balances)
