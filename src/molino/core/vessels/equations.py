"""A vessel's balances for the eye, from the symbols that it wrote."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sympy as sp

from molino.core.chemistry.typeset import (
    Equations,
    Line,
    latex_text,
    line,
    plain_text,
    rate_laws,
    symbol_latex,
    symbol_text,
)
from molino.core.vessels.catalyst import ACTIVITY, thiele_square

if TYPE_CHECKING:
    from molino.core.vessels.base import Vessel


def vessel_equations(vessel: Vessel) -> Equations:
    """Balances, what is defined in them, the rate laws, and where the integration starts."""
    balances = vessel.written.balances
    along = str(balances.independent)
    lines = []
    defined = dict(balances.definitions)
    inlined = {right for right in balances.rhs if right in defined}
    for state, right in zip(balances.states, balances.rhs, strict=True):
        name, right = symbol_text(str(state.symbol)), defined.get(right, right)
        left = (f"d({name})/d{along}", f"\\frac{{d{symbol_latex(str(state.symbol))}}}{{d{along}}}")
        lines.append(Line((left[0], plain_text(right)), (left[1], latex_text(right))))
    rates = {sp.Symbol(f"rate of {r.name}") for r in vessel.chemistry.reactions}
    setup = vessel.setup
    held_back = {reaction: species for reaction, species, _ in setup.catalyst.pores}
    ages = [] if setup.catalyst.law is None else [
        n for n, basis in zip(setup.structure.reactions, setup.structure.bases, strict=True) if basis != "volume"
    ]  # fmt: skip
    intrinsic = {n: sp.Symbol(f"intrinsic rate of {n}") for n in dict.fromkeys([*held_back, *ages])}
    for name, species in held_back.items():
        defined[sp.Symbol(f"square modulus of {name}")] = thiele_square(setup.structure, name, intrinsic[name], species)
    for name, symbol in intrinsic.items():
        factors = [sp.Symbol(f"effectiveness of {name}")] if name in held_back else []
        defined[sp.Symbol(f"rate of {name}")] = sp.Mul(symbol, *factors, *([ACTIVITY] if name in ages else []))
    rates -= {sp.Symbol(f"rate of {name}") for name in intrinsic}
    lines += [line(symbol, defined[symbol]) for symbol, _ in balances.definitions if symbol not in rates | inlined]
    lines += rate_laws(vessel.chemistry, intrinsic)
    for state in balances.states:
        left = (f"{symbol_text(str(state.symbol))} at {along} = 0", f"{symbol_latex(str(state.symbol))}|_{{{along}=0}}")
        lines.append(Line((left[0], plain_text(state.initial)), (left[1], latex_text(state.initial))))
    return Equations(tuple(lines))
