"""Settling times of a tank over time."""

from __future__ import annotations

import math

from molino.core.balances.steady import steady
from molino.core.balances.system import Case
from molino.core.errors import InputError, SolveError
from molino.core.runs.run_data import RunData


def settling_times(run: RunData, band: float) -> dict[str, float]:
    """The settling time in s of each state that changes; inf if it has not settled at the end."""
    if run.is_steady or not run.vessel.spec.has_steady_state:
        raise InputError("only the run of a tank over time settles", run.vessel.label, "tank.run('6 h')")
    if not 0 < band < 1:
        raise InputError(f"band = {band!r}", run.vessel.label, "give a fraction, like 0.02")
    balances = run.vessel.spec.model.balances
    case, n = Case(balances, run.last_values()), len(balances.states)
    rest, _ = steady(case, run.space_time_si, run.trajectory.end_state[:n])
    times: dict[str, float] = {}
    for i, state in enumerate(balances.states):
        if state.kind not in ("amount", "temperature"):
            continue
        ends = [run.trajectory.most(state.symbol, sign)[1] for sign in (1.0, -1.0)]
        far = max(abs(end - rest[i]) for end in ends)
        if far <= 1e-9 * abs(rest[i]):
            continue
        name = "temperature" if state.kind == "temperature" else str(state.name)
        if abs(run.trajectory.end_state[i] - rest[i]) > band * far:
            times[name] = math.inf
            continue
        levels = (rest[i] + band * far, rest[i] - band * far)
        passed = [at for level in levels for at in run.trajectory.crossings(state.symbol, float(level))]
        times[name] = max(passed, default=0.0)
    return times


def settled_or_none(run: RunData) -> dict[str, float]:
    """The settling time of each quantity; nothing if the final steady state is not found."""
    try:
        return settling_times(run, run.settling_band)
    except SolveError:
        return {}
