"""Sensitivities by the constant parts of balances, such as rate constants at a constant temperature.

If several parameters (a rate constant at a reference temperature, its activation energy) act through one constant part
(the rate constant at the temperature of the run), the sensitivity by that part is integrated once, and the chain rule
gives those by the parameters: dy/dp = (dy/dh) dh/dp + dy/dp at constant h.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import sympy as sp

from molino.core.balances.compiled import Maker
from molino.core.balances.derivatives import Derivatives
from molino.core.balances.functions import with_numbers
from molino.core.balances.source import Program, build, needed
from molino.core.balances.system import Balances, Case
from molino.core.symbols import Role, in_order

_PART = Role("constant part", "part {}")


@dataclass(frozen=True, eq=False)
class ConstantParts:
    """Balances with their constant parts as parameters.

    Attributes
    ----------
    balances : Balances
    by : tuple of Symbol
        Parts, and parameters that act in other ways, by which sensitivities are integrated.
    """

    balances: Balances
    by: tuple[sp.Symbol, ...]
    make_parts: Maker
    make_slopes: Maker
    place: tuple[tuple[int, int], ...]
    shape: tuple[int, int]

    def case(self, case: Case) -> Case:
        """The case with the values of its parts."""
        return Case(self.balances, (*case.values, *with_numbers(self.make_parts, case.values)(np.empty(0), 0.0)))

    def slopes(self, case: Case) -> np.ndarray:
        """The derivatives of `by` by the parameters, shape (by, parameters)."""
        found = np.zeros(self.shape)
        rows, columns = np.array(self.place).T
        found[rows, columns] = with_numbers(self.make_slopes, case.values)(np.empty(0), 0.0)
        return found


@lru_cache(maxsize=256)
def constant_parts(balances: Balances, by: tuple[sp.Symbol, ...]) -> ConstantParts | None:
    """The balances in terms of their constant parts, if these are fewer than the parameters of sensitivities."""
    if balances.extent is not None or balances.conditions or len(by) < 2:
        return None
    program = Program(dict(balances.definitions), balances.rhs, [*balances.symbols, balances.independent], share=False)
    used = {s for e in (*program.varying.values(), *program.outputs) for s in e.free_symbols}
    derivatives = Derivatives(program.fixed.items(), by)
    rows = {s: derivatives.of(program.fixed[s]) for s in in_order(used & program.fixed.keys())}
    parts = {s: _PART(str(n)) for n, s in enumerate(rows) if rows[s]}
    direct = used | {s for state in balances.states for s in state.initial.free_symbols}
    entries = {(s, p): slope for s in parts for p, slope in rows[s].items()}
    entries |= {(p, p): sp.Integer(1) for p in by if p in direct}
    inner = tuple(dict.fromkeys(s for s, _ in entries))
    if len(inner) >= len(by):
        return None
    swap = parts | {symbol: e for e, symbol in program.hoisted.items() if symbol not in parts}
    definitions = dict(balances.definitions) | {s: e.xreplace(swap) for s, e in program.varying.items()}
    rhs = tuple(e.xreplace(swap) for e in program.outputs)
    made = Balances(
        balances.independent,
        balances.states,
        tuple((s, definitions[s]) for s in needed(definitions, rhs)),
        rhs,
        (*balances.parameters, *parts.values()),
    )
    place = tuple((inner.index(s), by.index(p)) for s, p in entries)
    over = ((), balances.independent, balances.parameters)
    make_parts = build(program.fixed, [*parts], *over)
    make_slopes = build(derivatives.definitions, [*entries.values()], *over)
    names = tuple(parts.get(s, s) for s in inner)
    return ConstantParts(made, names, make_parts, make_slopes, place, (len(inner), len(by)))
