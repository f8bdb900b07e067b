"""Checks of the phase: whether a liquid would boil or a gas condense, and the distance to it.

A liquid boils where its bubble pressure, sum of x_i gamma_i P_i, is above the pressure; a gas condenses where the sum
of p_i/P_i, the activities of the first drop by Raoult's law, is above one.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from molino.core.contract.specification import Specification


@dataclass(frozen=True)
class PhaseLimit:
    """The distance of a vessel to a second phase.

    Attributes
    ----------
    is_gas : bool
    margin : callable (T, P, amounts) to float
        Of a liquid its bubble pressure in Pa; of a gas the sum of p_i/P_i.
    """

    is_gas: bool
    margin: Callable[[float, float, Mapping[str, float]], float]


def phase_limit(spec: Specification) -> PhaseLimit | None:
    """The limit of a vessel; None unless all its species have a vapor pressure."""
    species = spec.chemistry.species
    if not species or any(s.vapor_pressure is None for s in species):
        return None
    names = [s.name for s in species]
    model = spec.activity_model

    def margin(T: float, P: float, amounts: Mapping[str, float]) -> float:
        n = np.array([max(amounts.get(s, 0.0), 0.0) for s in names])
        x = n / n.sum()
        pure = np.exp([s.vapor_pressure.log_number(T)[0] for s in species])
        if spec.is_gas:
            return float((x * P / pure).sum())
        gamma = [*model.coefficients(T, dict(zip(names, x, strict=True))).values()] if model is not None else 1.0
        return float((x * gamma * pure).sum())

    return PhaseLimit(spec.is_gas, margin)


def two_liquids(spec: Specification, T: float, amounts: Mapping[str, float]) -> str:
    """A finding if the liquid of a vessel would split into two; otherwise ''."""
    held = {s: max(n, 0.0) for s, n in amounts.items()}
    if spec.activity_model is None or not np.isfinite(T) or not sum(held.values()) > 0:
        return ""
    second = spec.activity_model.second_liquid(T, held)
    if second is None:
        return ""
    parts = ", ".join(f"{s} {x:.3g}" for s, x in second.items())
    return f"it splits into two liquids; one of them begins with {parts} mol/mol"


def feed_finding(spec: Specification) -> str:
    """A finding if the feed or charge would change its phase; otherwise ''."""
    limit, T, P = phase_limit(spec), spec.feed_T, spec.feed_pressure()
    fed = spec.fed.concentrations
    if limit is None or T is None or not math.isfinite(P) or not sum(fed.values()) > 0:
        return ""
    display, found = spec.display, limit.margin(T.si, P, {s: float(c) for s, c in fed.items()})
    at = f"{display.text(T.si, 'temperature')} and {display.text(P, 'pressure')}"
    if limit.is_gas:
        return f"it would condense at {at}: {found:.3g} times the saturation" if found > 1 else ""
    return f"it would boil at {at}: its bubble pressure is {display.text(found, 'pressure')}" if found > P else ""
