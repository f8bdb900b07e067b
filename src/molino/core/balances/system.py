"""`Balances`: what a vessel writes, as symbols; and `Case`: the same with its numbers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import numpy as np
import sympy as sp

from molino.core.errors import InputError

ZERO = sp.Integer(0)


@dataclass(frozen=True)
class State:
    """One unknown of the balances.

    `symbol` moves with the independent variable; `initial` and `scale` are expressions of the parameters. The scale
    is the size at which the state matters: errors far below it are of no account.
    """

    name: str
    symbol: sp.Symbol
    kind: str
    initial: sp.Expr
    scale: sp.Expr


@dataclass(frozen=True)
class Balances:
    """A set of balances d(state)/d(independent) = right-hand side.

    Attributes
    ----------
    independent : sympy Symbol
        Time, or the volume of vessel passed.
    states : tuple of State
    definitions : tuple of (Symbol, expression)
        Intermediate quantities (concentrations, rates), each in terms of states, parameters, the independent variable
        and definitions before it.
    rhs : tuple of expressions
        One for each state.
    parameters : tuple of Symbol
        Every number that somebody may fit, sweep, size or optimise. Their values come with a `Case`.
    derived : mapping of name to expression
        What people look at beside the states.
    """

    independent: sp.Symbol
    states: tuple[State, ...]
    definitions: tuple[tuple[sp.Symbol, sp.Expr], ...]
    rhs: tuple[sp.Expr, ...]
    parameters: tuple[sp.Symbol, ...]
    derived: Mapping[str, sp.Expr] = field(default_factory=dict, hash=False)

    def __post_init__(self) -> None:
        if len(self.rhs) != len(self.states):
            raise InputError(f"{len(self.rhs)} right-hand sides for {len(self.states)} states", "balances")
        known = {self.independent, *(s.symbol for s in self.states), *self.parameters}
        for symbol, expression in self.definitions:
            self._closed(expression, known, f"the definition of {symbol}")
            known.add(symbol)
        for state, expression in zip(self.states, self.rhs, strict=True):
            self._closed(expression, known, f"the balance of {state.name}")
        for name, expression in self.derived.items():
            self._closed(expression, known, name)
        for state in self.states:
            self._closed(state.initial, set(self.parameters), f"the initial value of {state.name}")

    @staticmethod
    def _closed(expression: sp.Expr, known: set[sp.Symbol], place: str) -> None:
        strangers = sorted(str(s) for s in expression.free_symbols - known)
        if strangers:
            raise InputError(f"{place} uses {', '.join(strangers)}, which nothing defines", "balances")

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        return hash((self.independent, self.states, self.definitions, self.rhs, self.parameters))

    @cached_property
    def symbols(self) -> tuple[sp.Symbol, ...]:
        """The states' symbols, in order."""
        return tuple(state.symbol for state in self.states)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The states' names, in order."""
        return tuple(state.name for state in self.states)

    @cached_property
    def positive(self) -> np.ndarray:
        """Which states are amounts or flows of a species, that cannot go below zero; shape (states,)."""
        return np.array([state.kind in ("amount", "molar flow", "concentration") for state in self.states], dtype=bool)

    def reduced(self, keep: tuple[str, ...]) -> Balances:
        """The same balances with only the states that those kept depend on.

        A state that nothing changes (a catalyst) becomes the parameter that it started from. For a fit, which follows
        the measured species alone.
        """
        return _reduced(self, keep)


@lru_cache(maxsize=256)
def _reduced(balances: Balances, keep: tuple[str, ...]) -> Balances:
    rows = list(zip(balances.states, balances.rhs, strict=True))
    still = {s.symbol: s.initial for s, f in rows if f == 0 and s.name not in keep}
    definitions = {symbol: e.xreplace(still) for symbol, e in balances.definitions}
    rhs = {s.symbol: f.xreplace(still) for s, f in rows}
    reached: set[sp.Symbol] = set()
    waiting = [s.symbol for s, _ in rows if s.name in keep]
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


@dataclass(frozen=True)
class Case:
    """Balances together with the numbers of their parameters (SI), in the order of `balances.parameters`."""

    balances: Balances
    values: tuple[float, ...]

    def __post_init__(self) -> None:
        if len(self.values) != len(self.balances.parameters):
            raise InputError(f"{len(self.values)} values for {len(self.balances.parameters)} parameters", "balances")

    def with_values(self, changed: Mapping[sp.Symbol, float]) -> Case:
        """The same balances with some parameters changed."""
        pairs = zip(self.balances.parameters, self.values, strict=True)
        return replace(self, values=tuple(float(changed.get(symbol, value)) for symbol, value in pairs))

    @property
    def values_by_symbol(self) -> dict[sp.Symbol, float]:
        return dict(zip(self.balances.parameters, self.values, strict=True))

    def value(self, symbol: sp.Symbol) -> float:
        return self.values[self.balances.parameters.index(symbol)]
