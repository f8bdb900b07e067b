"""Whether what a vessel takes for a liquid would boil, or for a gas condense, and how far from it one is.

A liquid boils where its bubble pressure, sum of x_i gamma_i P_i, is above the pressure; a gas condenses where the sum
of p_i/P_i, the activities of the first drop by Raoult's law, is above one.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.optimize import brentq

from molino.core.chemistry.formula import PRESSURE, TEMPERATURE

if TYPE_CHECKING:
    from molino.core.vessels.base import Vessel
    from molino.core.vessels.run import Run


@dataclass(frozen=True)
class PhaseLimit:
    """How near a vessel is to a second phase.

    Attributes
    ----------
    is_gas : bool
    margin : callable (T, P, amounts) to float
        Of a liquid its bubble pressure in Pa; of a gas the sum of p_i/P_i.
    """

    is_gas: bool
    margin: Callable[[float, float, Mapping[str, float]], float]


def phase_limit(vessel: Vessel) -> PhaseLimit | None:
    """The limit of a vessel all of whose species have a vapor pressure; None of another."""
    species = vessel.chemistry.species
    if not species or any(s.vapor_pressure is None for s in species):
        return None
    names = [s.name for s in species]
    model = vessel._activity_model

    def margin(T: float, P: float, amounts: Mapping[str, float]) -> float:
        n = np.array([max(amounts.get(s, 0.0), 0.0) for s in names])
        x = n / n.sum()
        pure = np.exp([s.vapor_pressure.log_number(T)[0] for s in species])
        if vessel.is_gas:
            return float((x * P / pure).sum())
        gamma = [*model.coefficients(T, dict(zip(names, x, strict=True))).values()] if model is not None else 1.0
        return float((x * gamma * pure).sum())

    return PhaseLimit(vessel.is_gas, margin)


def two_liquids(vessel: Vessel, T: float, amounts: Mapping[str, float]) -> str:
    """Whether some amounts of the liquid of a vessel would split into two; '' where they would not."""
    held = {s: max(n, 0.0) for s, n in amounts.items()}
    if vessel._activity_model is None or not np.isfinite(T) or not sum(held.values()) > 0:
        return ""
    second = vessel._activity_model.second_liquid(T, held)
    if second is None:
        return ""
    parts = ", ".join(f"{s} {x:.3g}" for s, x in second.items())
    return f"it splits into two liquids; one of them begins with {parts} mol/mol"


def feed_finding(vessel: Vessel) -> str:
    """What there is to report of what is fed or charged; '' where it stays what it is."""
    limit, T, P = phase_limit(vessel), vessel._feed_T, vessel._given_pressure()
    fed = vessel._fed.concentrations
    if limit is None or T is None or not math.isfinite(P) or not sum(fed.values()) > 0:
        return ""
    display, found = vessel._display, limit.margin(T.si, P, {s: float(c) for s, c in fed.items()})
    at = f"{display.text(T.si, 'temperature')} and {display.text(P, 'pressure')}"
    if limit.is_gas:
        return f"it would condense at {at}: {found:.3g} times what makes the first drop" if found > 1 else ""
    return f"it would boil at {at}: its bubble pressure is {display.text(found, 'pressure')}" if found > P else ""


def phase_facts(run: Run) -> dict[str, str]:
    """Along a run: where the second phase appears first, or how near it comes."""
    vessel = run.vessel
    limit = phase_limit(vessel)
    if not run.has_temperature:
        return {}
    out = run.stream_out()
    liquids = {"liquid": text} if (text := two_liquids(vessel, out.T, out.amounts)) else {}
    if limit is None:
        return liquids
    return liquids | _of_second_phase(run, limit)


def _of_second_phase(run: Run, limit: PhaseLimit) -> dict[str, str]:
    """Where along a run vapor appears in a liquid, or liquid in a gas."""
    vessel = run.vessel
    names, display = vessel.chemistry.names, run.display
    outlets = tuple(vessel._model.streams[0].amounts[s] for s in names)
    known, own = run.trajectory.last.balances.known, vessel._given_pressure()
    asked = (*outlets, *(symbol for symbol in (TEMPERATURE, PRESSURE) if symbol in known))

    def at(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The margin at some points, and the pressure."""
        states = run.states if run.is_steady else run.trajectory.at(points)
        rows = np.array(run.trajectory.evaluate(asked, points, states))
        flows, more = rows[: len(names)].T, [*rows[len(names) :]]
        T = more.pop(0) if TEMPERATURE in known else np.full(len(points), np.nan)
        P = more.pop(0) if more else np.full(len(points), own)
        P = np.where(np.isfinite(P), P, own)
        found = [limit.margin(t, p, dict(zip(names, row, strict=True))) for t, p, row in zip(T, P, flows, strict=True)]
        return np.array(found), P

    points = run.points
    found, P = at(points)
    if limit.is_gas:
        word, over, shown = "condensation", found - 1.0, f"{np.max(found):.3g} of what makes the first drop"
    else:
        word, over = "boiling", found - P
        shown = f"bubble pressure up to {display.text(float(np.max(found)), 'pressure')}"
    if not np.isfinite(over).all():
        return {word: shown}
    if not (over > 0).any():
        under = "" if limit.is_gas else f", under {display.text(float(P[int(np.argmax(found - P))]), 'pressure')}"
        return {word: f"none: {shown}{under}"}
    begins = "throughout" if run.is_steady or over[0] > 0 else ""
    if not begins:
        first = int(np.argmax(over > 0))

        def off(point: float) -> float:
            margin, pressure = at(np.array([point]))
            return float(margin[0] - (1.0 if limit.is_gas else pressure[0]))

        ends = float(points[first - 1]), float(points[first])
        where = float(brentq(off, *ends, xtol=1e-9 * ends[1])) if off(ends[0]) < 0 < off(ends[1]) else ends[1]
        kind = "time" if run.is_over_time else "volume"
        begins = f"from {kind} {display.text(where, kind)} on"
    what = "it condenses" if limit.is_gas else "it boils"
    return {word: f"{what} {begins}: {shown}"}
