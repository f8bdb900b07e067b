"""`Balances`: the equations of a vessel as symbols; and `Case`: the same with its numbers."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
import sympy as sp

from molino.core.annotations import PlainData
from molino.core.chemistry.formula import species_in
from molino.core.errors import InputError
from molino.core.frozen import Frozen, Unchecked
from molino.core.symbols import Role, in_order

ZERO = sp.Integer(0)
TIME = Role("time", "t")()
POSITION = Role("volume passed", "V")()

AMOUNTS = ("amount", "molar flow", "concentration", "mole fraction")
"""Kinds of states that cannot be negative."""
ABOVE_ZERO = ("temperature", "pressure", "volume", "volumetric flow")
"""Kinds of states that must be positive."""


@dataclass(frozen=True)
class State:
    """One unknown of the balances.

    Attributes
    ----------
    name : str
        For messages.
    symbol : sympy Symbol
    kind : str
        The kind of quantity.
    initial : expression of the parameters
        Its value at the beginning; of an algebraic state the first guess.
    scale : expression of the parameters
        The size of the state: errors far below it are irrelevant, unless its initial value is far below it.
    algebraic : bool
        Whether its right-hand side is an equation, 0 = f (index 1), and not its derivative.
    """

    name: str
    symbol: sp.Symbol
    kind: str
    initial: sp.Expr
    scale: sp.Expr
    algebraic: bool = False


@dataclass(frozen=True)
class Balances(Frozen):
    """A set of balances d(state)/d(independent) = right-hand side, with algebraic ones.

    Attributes
    ----------
    independent : sympy Symbol
        Time, or the volume from the inlet.
    states : tuple of State
    definitions : tuple of (Symbol, expression)
        Intermediate quantities (concentrations, rates), each in terms of states, parameters, the independent variable
        and definitions before it.
    rhs : tuple of expressions
        One for each state.
    parameters : tuple of Symbol
        Every number that may be fitted, swept, sized or optimized. Their values are in a `Case`.
    conditions : tuple of (Symbol, expression)
        Boundary conditions: an unknown parameter (an initial value), and an expression that must be zero at the end.
        `boundary.solve_boundary` finds the parameter.
    extent : Symbol, optional
        The parameter of the distance to that end, if conditions downstream act upstream (dispersion). The states are
        then found over the whole interval at once.
    """

    independent: sp.Symbol
    states: tuple[State, ...]
    definitions: tuple[tuple[sp.Symbol, sp.Expr], ...]
    rhs: tuple[sp.Expr, ...]
    parameters: tuple[sp.Symbol, ...]
    conditions: tuple[tuple[sp.Symbol, sp.Expr], ...] = ()
    extent: sp.Symbol | None = None

    def __post_init__(self) -> None:
        if len(self.rhs) != len(self.states):
            raise InputError(f"{len(self.rhs)} right-hand sides for {len(self.states)} states", "balances")
        known = {self.independent, *(s.symbol for s in self.states), *self.parameters}
        for symbol, expression in self.definitions:
            self._check_known(expression, known, f"the definition of {symbol}")
            known.add(symbol)
        for state, expression in zip(self.states, self.rhs, strict=True):
            self._check_known(expression, known, f"the balance of {state.name}")
        for symbol, expression in self.conditions:
            self._check_known(expression, known, f"the condition for {symbol}")
        for state in self.states:
            self._check_known(state.initial, set(self.parameters), f"the initial value of {state.name}")

    @staticmethod
    def _check_known(expression: sp.Expr, known: set[sp.Symbol], place: str) -> None:
        strangers = in_order(expression.free_symbols - known)
        if strangers:
            raise InputError(f"{place} uses {', '.join(map(str, strangers))}, which is not defined", "balances")

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        return hash((self.independent, self.states, self.definitions, self.rhs, self.parameters))

    @property
    def loose(self) -> tuple[tuple[sp.Symbol, sp.Expr], ...]:
        """The conditions that an integration from the beginning does not satisfy automatically."""
        return self.conditions if self.extent is None else ()

    @cached_property
    def symbols(self) -> tuple[sp.Symbol, ...]:
        """The states' symbols, in order."""
        return tuple(state.symbol for state in self.states)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The states' names, in order; for messages."""
        return tuple(state.name for state in self.states)

    @cached_property
    def known(self) -> frozenset[sp.Symbol]:
        """Every symbol that has a value along a solution."""
        return frozenset({*self.symbols, *self.parameters, *(s for s, _ in self.definitions), self.independent})

    @cached_property
    def places(self) -> dict[sp.Symbol, int]:
        """The place of each parameter."""
        return {symbol: i for i, symbol in enumerate(self.parameters)}

    def index(self, symbol: sp.Symbol) -> int:
        """The place of a state."""
        return self.symbols.index(symbol)

    def is_kind(self, kinds: Iterable[str]) -> np.ndarray:
        """Whether each state is of given kinds of quantity; shape (states,)."""
        return np.array([state.kind in kinds for state in self.states], dtype=bool)

    @cached_property
    def bounded(self) -> tuple[int, ...]:
        """The places of the states that must be positive."""
        return tuple(i for i, state in enumerate(self.states) if state.kind in ABOVE_ZERO)

    @cached_property
    def amounts(self) -> list[int]:
        """The places of the states that are amounts or flows of a species, which cannot be negative."""
        return np.flatnonzero(self.is_kind(AMOUNTS)).tolist()

    @cached_property
    def has_equations(self) -> bool:
        """Whether some states are algebraic."""
        return bool(self.algebraic.any())

    @cached_property
    def kinks(self) -> tuple[int, ...]:
        """The places of the amounts that a rate of an order between zero and one consumes: it exhausts them, and its
        derivative is infinite there."""
        bases = {
            symbol
            for e in (*self.rhs, *(e for _, e in self.definitions))
            for p in e.atoms(sp.Pow)
            if p.exp.is_number and 0 < p.exp < 1
            for symbol in p.base.free_symbols
        }
        species = {owner for symbol in bases if (owner := self._owner(symbol)) is not None}
        return tuple(i for i in self.amounts if self.names[i] in species)

    def _owner(self, symbol: sp.Symbol) -> str | None:
        """The species whose amount or concentration a symbol is."""
        if symbol in self.symbols:
            return self.names[self.index(symbol)]
        found = species_in(symbol)
        return found[1] if found is not None else None

    @cached_property
    def is_autonomous(self) -> bool:
        """Whether they do not contain the independent variable."""
        return not any(self.independent in e.free_symbols for e in (*self.rhs, *(e for _, e in self.definitions)))

    @cached_property
    def algebraic(self) -> np.ndarray:
        """Whether each state is algebraic; shape (states,)."""
        return np.array([state.algebraic for state in self.states], dtype=bool)

    def opened(self, symbols: tuple[sp.Symbol, ...]) -> Balances:
        """The same balances with some parameters as further, constant states; see `opened_symbol`."""
        return _opened(self, symbols)

    def reduced(self, keep: tuple[sp.Symbol, ...]) -> Balances:
        """The same balances with only the states that given ones depend on.

        A constant state (a catalyst) becomes its initial parameter. For a fit, which needs the measured species alone.
        """
        return _reduced(self, keep)


_OPENED = Role("opened", "{}")


def opened_symbol(parameter: sp.Symbol) -> sp.Symbol:
    """The symbol of a parameter that is a state."""
    return _OPENED(parameter.name)


@lru_cache(maxsize=256)
def _opened(balances: Balances, symbols: tuple[sp.Symbol, ...]) -> Balances:
    swap = {symbol: opened_symbol(symbol) for symbol in symbols}
    return replace(
        balances,
        states=(*balances.states, *(State(str(s), swap[s], "number", s, sp.Integer(1)) for s in symbols)),
        definitions=tuple((s, e.xreplace(swap)) for s, e in balances.definitions),
        rhs=(*(e.xreplace(swap) for e in balances.rhs), *(ZERO for _ in symbols)),
    )


@lru_cache(maxsize=256)
def _reduced(balances: Balances, keep: tuple[sp.Symbol, ...]) -> Balances:
    rows = list(zip(balances.states, balances.rhs, strict=True))
    still = {s.symbol: s.initial for s, f in rows if f == 0 and s.symbol not in keep and not s.algebraic}
    definitions = {symbol: e.xreplace(still) for symbol, e in balances.definitions}
    rhs = {s.symbol: f.xreplace(still) for s, f in rows}
    reached: set[sp.Symbol] = set()
    waiting = [*keep]
    while waiting:
        symbol = waiting.pop()
        if symbol not in reached:
            reached.add(symbol)
            waiting += definitions.get(symbol, rhs.get(symbol, ZERO)).free_symbols
    return Balances(
        balances.independent,
        tuple(s for s, _ in rows if s.symbol in reached),
        tuple((symbol, e) for symbol, e in definitions.items() if symbol in reached),
        tuple(rhs[s.symbol] for s, _ in rows if s.symbol in reached),
        balances.parameters,
    )


@dataclass(frozen=True, eq=False)
class Case(Unchecked):
    """Balances together with the numbers of their parameters (SI), in the order of `balances.parameters`."""

    balances: Balances
    values: tuple[float, ...]

    def __post_init__(self) -> None:
        if len(self.values) != len(self.balances.parameters):
            raise InputError(f"{len(self.values)} values for {len(self.balances.parameters)} parameters", "balances")

    def with_values(self, changed: Mapping[sp.Symbol, float]) -> Case:
        """The same balances with some parameters changed."""
        values = list(self.values)
        for symbol, value in changed.items():
            if symbol in self.balances.places:
                values[self.balances.places[symbol]] = float(value)
        return Case(self.balances, tuple(values))

    @cached_property
    def remembered(self) -> PlainData:
        """Cached values of this case: its start, its functions."""
        return {}

    def value(self, symbol: sp.Symbol) -> float:
        return self.values[self.balances.places[symbol]]

    def select(self, symbols: Iterable[sp.Symbol]) -> list[float]:
        """The values of several parameters."""
        return [self.values[self.balances.places[symbol]] for symbol in symbols]
