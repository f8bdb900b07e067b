"""The second phase along a run: vapor in a liquid, or liquid in a gas."""

from __future__ import annotations

import numpy as np
import scipy

from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.contract.phase_limits import PhaseLimit, phase_limit, two_liquids
from molino.core.runs.run_data import RunData


def phase_facts(run: RunData) -> dict[str, str]:
    """The place where a second phase first appears along a run, or the closest approach to one."""
    spec = run.vessel.spec
    limit = phase_limit(spec)
    if not run.has_temperature:
        return {}
    out = run.stream_out()
    liquids = {"liquid": text} if (text := two_liquids(spec, out.T, out.amounts)) else {}
    if limit is None:
        return liquids
    return liquids | _of_second_phase(run, limit)


def _of_second_phase(run: RunData, limit: PhaseLimit) -> dict[str, str]:
    """A statement where along a run vapor appears in a liquid, or liquid in a gas."""
    spec = run.vessel.spec
    names, display = spec.chemistry.names, run.display
    outlets = tuple(spec.model.streams[0].amounts[s] for s in names)
    known, own = run.trajectory.last.balances.known, spec.feed_pressure()
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
        word, over, shown = "condensation", found - 1.0, f"{np.max(found):.3g} of saturation"
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
        where = (
            float(scipy.optimize.brentq(off, *ends, xtol=1e-9 * ends[1]))
            if off(ends[0]) < 0 < off(ends[1])
            else ends[1]
        )
        kind = "time" if run.is_over_time else "volume"
        begins = f"from {kind} {display.text(where, kind)} on"
    what = "it condenses" if limit.is_gas else "it boils"
    return {word: f"{what} {begins}: {shown}"}
