"""The balances of a vessel as text, LaTeX and figure, from its symbols."""

from __future__ import annotations

import sympy as sp

from molino.core.balances.balance_symbols import ACTIVITY, EFFECTIVENESS, THIELE_SQUARED
from molino.core.balances.system import Balances
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.notation import (
    INTRINSIC_RATE,
    RATE,
    Equations,
    Line,
    latex_text,
    line,
    plain_text,
    rate_laws,
)
from molino.core.symbols import symbol_latex, symbol_text
from molino.core.terms.catalyst import thiele_square
from molino.core.terms.model import ModelKey


def vessel_equations(chemistry: Chemistry, key: ModelKey, balances: Balances) -> Equations:
    """Balances, definitions, rate laws, initial values and end conditions."""
    along = str(balances.independent)
    lines = []
    defined = dict(balances.definitions)
    inlined = {right for right in balances.rhs if right in defined}
    for state, right in zip(balances.states, balances.rhs, strict=True):
        name, right = symbol_text(state.symbol), defined.get(right, right)
        left = (f"d({name})/d{along}", f"\\frac{{d{symbol_latex(state.symbol)}}}{{d{along}}}")
        if state.algebraic:
            left = ("0", "0")
        lines.append(Line((left[0], plain_text(right)), (left[1], latex_text(right))))
    rates = {RATE(str(r.name)) for r in chemistry.reactions}
    limited = {reaction: species for reaction, species, _ in key.catalyst.internal_diffusion}
    ages = (
        []
        if key.catalyst.law is None
        else [n for n, basis in zip(key.network.reactions, key.network.bases, strict=True) if basis != "volume"]
    )
    intrinsic = {n: INTRINSIC_RATE(n) for n in dict.fromkeys([*limited, *ages])}
    for name, species in limited.items():
        defined[THIELE_SQUARED(name)] = thiele_square(key.network, name, intrinsic[name], species)
    for name, symbol in intrinsic.items():
        factors = [EFFECTIVENESS(name)] if name in limited else []
        defined[RATE(name)] = sp.Mul(symbol, *factors, *([ACTIVITY] if name in ages else []))
    rates -= {RATE(name) for name in intrinsic}
    lines += [line(symbol, defined[symbol]) for symbol, _ in balances.definitions if symbol not in rates | inlined]
    lines += rate_laws(chemistry, intrinsic)
    for state in (s for s in balances.states if not s.algebraic):
        left = (f"{symbol_text(state.symbol)} at {along} = 0", f"{symbol_latex(state.symbol)}|_{{{along}=0}}")
        lines.append(Line((left[0], plain_text(state.initial)), (left[1], latex_text(state.initial))))
    for _, condition in balances.conditions:
        lines.append(
            Line(
                (f"0 at the end of {along}", plain_text(condition)),
                (f"0|_{{{along}=\\mathrm{{end}}}}", latex_text(condition)),
            )
        )
    return Equations(tuple(lines))
