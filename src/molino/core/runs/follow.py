"""Integrating a vessel to a run."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeVar

import numpy as np
import sympy as sp

from molino.core.balances.integrate import RUN_OUT, Switch
from molino.core.balances.piecewise_linear import PiecewiseLinear, segments
from molino.core.balances.settings import Report
from molino.core.balances.system import TIME, Case
from molino.core.chemistry.constants import si
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.errors import Fault, Faults, InputError, SolveError
from molino.core.runs.run import Run
from molino.core.runs.run_data import wanted_points
from molino.core.runs.trajectory import Trajectory, at_rest, integrate_segments

AnyRun = TypeVar("AnyRun", bound=RunResult)
MovingNumbers = Mapping[sp.Symbol, PiecewiseLinear]
VERIFY = ("usual", "thorough")
"""The ways to verify a run: by its checks, or also by a second integration."""
_LOOSEST = 0.01
"""The largest tolerance that is accepted."""


def follow(
    vessel: Vessel,
    end: float,
    points: object,
    *,
    rtol: float,
    atol: float,
    moving_numbers: MovingNumbers | None = None,
    switch: Switch | None = None,
) -> Run:
    """Integrate a vessel's balances from 0 to `end` and check that no species goes below zero.

    `moving_numbers` are conditions that change during the run, besides the vessel's own; `switch` handles events.
    """
    vessel.spec.require_known()
    check_tolerances(vessel.label, rtol=rtol, atol=atol)
    wanted = wanted_points(vessel, end, points)
    whole = Case(vessel.spec.model.followed, vessel.spec.case.values)
    if whole.balances.extent is not None:
        whole.remembered["near"] = vessel.spec.profile_guesses
    several = segments(whole, vessel.spec.moving_numbers() | dict(moving_numbers or {}), end)
    try:
        account = vessel.spec.model.energy
        lacks = account.there - account.wanted if account is not None else None
        trajectory = integrate_segments(several, rtol, atol, switch, unbalanced=lacks)
    except SolveError as error:
        raise explained(vessel, error) from error
    check_run_out(vessel, trajectory)
    return Run(vessel, trajectory, wanted)


def verified(run: AnyRun, verify: str) -> AnyRun:
    """A run of a vessel or train, verified as requested; InputError for another word."""
    if verify not in VERIFY:
        raise InputError(f"verify = {verify!r}", "run", f"give one of {', '.join(VERIFY)}")
    return run.thoroughly_verified() if verify == "thorough" else run


def check_tolerances(label: str, **given: float) -> None:
    """Raise InputError for tolerances that are not positive, or too large."""
    faults = Faults()
    for name, value in given.items():
        is_number = isinstance(value, float | int | np.floating) and not isinstance(value, bool)
        if not is_number or not 0 < value <= _LOOSEST:
            faults.add(
                f"{label}, {name}", f"{value!r} is not a tolerance", f"give a number up to {_LOOSEST:g}, like 1e-8"
            )
    faults.raise_any()


def settled(vessel: Vessel, state: np.ndarray, report: Report) -> Run:
    """The run of one steady state."""
    return Run(vessel, at_rest(vessel.spec.case, state, report))


def explained(vessel: Vessel, error: SolveError) -> SolveError:
    """The error of a run that stopped, with the place and the parameter to check."""
    if error.symbol != TEMPERATURE:
        return error
    kind = "time" if vessel.spec.model.balances.independent == TIME else "volume"
    at = vessel.spec.display.text(error.reached, kind)
    message = f"the temperature falls to 0 K at {kind} {at}: more heat is consumed than is available"
    heats = {str(r.name): r.enthalpy for r in vessel.chemistry.reactions if r.enthalpy is not None}
    worst = max(heats, key=lambda name: abs(si(heats[name]))) if heats else ""
    advice = (
        f"check the enthalpy of reaction {worst} ({heats[worst]}) and the heat capacity"
        if worst
        else ("check the enthalpies of formation and the heat capacities")
    )
    found = SolveError([Fault(vessel.label, message, advice)])
    found.reached, found.symbol = error.reached, error.symbol
    return found


def check_run_out(vessel: Vessel, trajectory: Trajectory) -> None:
    """Raise SolveError if a rate law consumes a species that is exhausted."""
    balances = vessel.spec.model.followed
    amounts = balances.amounts
    lowest = min(part.states.min() for part in trajectory.parts)
    if lowest >= -RUN_OUT * max(np.max(part.states[0, amounts], initial=0.0) for part in trajectory.parts):
        return
    held = np.concatenate([part.states for part in trajectory.parts])[:, amounts]
    below = held < -RUN_OUT * np.max(np.abs(held))
    if not below.any():
        return
    column = int(np.argwhere(below)[0][1])
    name, symbol = balances.names[amounts[column]], balances.symbols[amounts[column]]
    points = np.concatenate([part.points for part in trajectory.parts])
    latest = points[int(np.argmax(below[:, column]))]
    at = next((t for t in reversed(trajectory.crossings(symbol)) if t <= latest), latest)
    kind = "time" if balances.independent == TIME else "volume"
    message = f"{name} runs out at {kind} {vessel.spec.display.text(at, kind)}, and a rate law goes on consuming it"
    raise SolveError(message, vessel.label, f"make that rate fall to zero with [{name}], or end the run earlier")
