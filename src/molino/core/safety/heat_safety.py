"""`heat_safety`: cooling failure of a batch, and the distance of a cooled tube to runaway."""

from __future__ import annotations

import math

import numpy as np
import scipy

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError, MolinoError, SolveError
from molino.core.runs.run import Run
from molino.core.safety.cooling_failure import CoolingFailure, failure_of
from molino.core.safety.hot_spot import HotSpot, hot_spot_of
from molino.core.safety.safety_results import HeatSafety, RunawayBoundary, Safety, UndeterminedSafety

_SENSITIVE = 2.0
"""Sensitivity of the hot spot in K per K; a tube whose highest value is below it does not run away."""
_RANGE = 60.0
"""Default range in K of the coolant temperature on both sides, in search of the boundary."""
_PLACES = 25
_AFTER_FAILURE, _HOT_SPOT = "temperature after cooling failure", "hot spot sensitivity"
_WARM = 1.0
"""Temperature rise in K above which a size or an optimum reports the safety of its vessel."""
_AROUND = (0.003, 0.01, 0.03)
"""Fractions of the range around the boundary, for a closer search."""
_NEAR = 1e-3
"""Tolerance in K of the boundary."""


@checked
def heat_safety(vessel: object, within: object = _RANGE) -> HeatSafety | RunawayBoundary:
    """Evaluate a cooling failure of a batch or semi-batch, or the distance of a cooled tube to runaway.

    Parameters
    ----------
    vessel : Vessel, Run, Sizing or Optimum
        A batch or semi-batch with known heat, also an isothermal one; or a tube with a jacket.
    within : temperature difference
        Range of the coolant temperature of a tube on both sides, in search of the boundary of runaway.

    Returns
    -------
    HeatSafety or RunawayBoundary

    Raises
    ------
    InputError
        If its heat is unknown, or it is another kind of vessel.
    SolveError
        If the integration after a failure fails.

    Examples
    --------
    >>> hot = mo.Chemistry(mo.Reaction("A + B -> C", k="0.02 L/mol/min", enthalpy="-180 kJ/mol"))
    >>> dose = mo.Dosing(mo.Feed({"B": "6 mol/L"}, flow="5 L/min", T="300 K"), windows=[("0 min", "60 min")])
    >>> kettle = mo.SemiBatch(hot, {"A": "3 mol/L"}, {"B": dose}, volume="500 L", T="320 K", time="6 h",
    ...                       heat_capacity="3.6 MJ/m3/K")
    >>> found = mo.heat_safety(kettle)
    >>> round(found.worst_time / 60), round(found.temperature_after_failure)
    (50, 372)
    """
    run = vessel if isinstance(vessel, Run) else getattr(vessel, "run", None)
    if isinstance(vessel, Vessel):
        run = vessel.run()
    if not isinstance(run, Run):
        message = f"{vessel!r} is not a single vessel, nor a run, size or optimum of one"
        raise InputError(message, "heat safety", "give a batch, semi-batch or tube")
    metrics = run.vessel.spec.run_metrics
    if _AFTER_FAILURE in metrics:
        CoolingFailure(run)
        return HeatSafety(run)
    if _HOT_SPOT not in metrics:
        message = f"the heat safety of {units.article(run.vessel.noun)} is not computed"
        raise InputError(message, run.vessel.label, "give a batch, semi-batch or tube; see steady_states of a tank")
    return _boundary(run, units.positive(within, "temperature difference", "within").si)


def _boundary(run: Run, within: float) -> RunawayBoundary:
    """The search over the coolant temperature, and the boundary of highest sensitivity."""
    HotSpot(run)
    vessel = run.vessel
    own = float(vessel.spec.condition("coolant T").own)
    if not math.isfinite(own):
        raise InputError("the temperature of its coolant changes", vessel.label, "give it one temperature")

    def at(coolant: float) -> tuple[float, float]:
        """The highest temperature and its sensitivity; nan if it cannot be run."""
        try:
            moved = vessel.with_({"coolant T": coolant}).run()
            assert isinstance(moved, Run)
            spot = HotSpot(moved)
            return spot.place[1], spot.sensitivity
        except SolveError:
            return math.nan, math.nan

    def relative(coolant: float) -> float:
        highest, sensitivity = at(coolant)
        found = sensitivity * coolant / highest
        return found if math.isfinite(found) else -math.inf

    coolants = np.linspace(max(own - within, 0.5 * own), own + within, 2 * (_PLACES // 2) + 1)
    rows = np.array([at(float(c)) for c in coolants])
    kept = np.isfinite(rows).all(axis=1)
    if not kept.any():
        raise SolveError(
            "it cannot be run with any coolant temperature near its own", vessel.label, "check its heat transfer"
        )
    coolants, rows = coolants[kept], rows[kept]
    i = int(np.argmax(rows[:, 1] * coolants / rows[:, 0]))
    boundary = None
    if 0 < i < len(coolants) - 1:
        found = scipy.optimize.minimize_scalar(
            lambda c: -relative(float(c)),
            bounds=(coolants[i - 1], coolants[i + 1]),
            method="bounded",
            options={"xatol": _NEAR},
        )
        place = float(found.x)
        row = at(place)
        if row[1] > _SENSITIVE:
            boundary = place
            around = [place, *(place + sign * share * within for sign in (1, -1) for share in _AROUND)]
            more = np.array([row, *(at(c) for c in around[1:])])
            coolants, rows = np.concatenate([coolants, around]), np.concatenate([rows, more])
            order = np.argsort(coolants)[np.isfinite(rows[np.argsort(coolants)]).all(axis=1)]
            coolants, rows = coolants[order], rows[order]
    return RunawayBoundary(run, coolants, rows[:, 0], rows[:, 1], boundary)


def safety_of(run: object) -> Safety | None:
    """The safety that a size or an optimum reports; None without an exothermic reaction.

    For a batch or semi-batch with an adiabatic rise of more than 1 K, and for a cooled tube that becomes hotter than
    its feed and its coolant.
    """
    if not isinstance(run, Run) or not run.has_duty or not run.vessel.chemistry.reactions:
        return None
    spec = run.vessel.spec
    is_charged = _AFTER_FAILURE in spec.run_metrics
    if not is_charged and not (_HOT_SPOT in spec.run_metrics and spec.heat_shape.mode == "jacket"):
        return None
    try:
        if is_charged:
            return HeatSafety(run) if failure_of(run).rise > _WARM else None
        first = float(run.trajectory.evaluate((TEMPERATURE,), np.zeros(1), run.trajectory.at(np.zeros(1)))[0][0])
        warmest = max(first, float(run.vessel.spec.condition("coolant T").own))
        return heat_safety(run) if hot_spot_of(run).place[1] > warmest + _WARM else None
    except MolinoError as error:
        return UndeterminedSafety(error.faults[0].what)
