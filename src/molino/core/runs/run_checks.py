"""The closures of a run, and the checks by which it is verified."""

from __future__ import annotations

import numpy as np

from molino.core.balances.engines import start
from molino.core.balances.integrate import RUN_OUT, by_another_engine, integrate
from molino.core.balances.steady import RESIDUAL, growth_rates, imbalance
from molino.core.checks import Check, closure_check, require_passed
from molino.core.chemistry.species import beyond_validity
from molino.core.errors import SolveError
from molino.core.runs.run_data import RunData

_COARSER = 1e2
_AGREEMENT, _LOSS = 1e-6, 1e3
"""Relative difference of two integrations that is accepted, or this multiple of the tolerance, if larger."""
ROUNDING = 1e-14
"""Rounding error of a sum of enthalpies, as a share of it."""


def closure(run: RunData) -> dict[str, float]:
    """The relative imbalance of each element (or stoichiometric invariant), mass and energy.

    In minus out minus accumulated, at every point of a run; of a steady tank in minus out. Energy is relative to the
    largest of heat, sensible heat and heat of reaction.
    """
    model, species = run.vessel.spec.model, run.vessel.chemistry.network.species
    if run.is_steady:
        both = [model.inlet[s] for s in species] + [model.outlet[s] for s in species]
    else:
        both = [model.amounts[s].wanted for s in species] + [model.amounts[s].there for s in species]
    rows = np.array(run.trajectory.evaluate_parts(tuple(both)))
    wanted, there = rows[: len(species)], rows[len(species) :]
    found = {}
    for name, weights in run.vessel.spec.conserved().items():
        size = np.max(np.abs(weights) @ np.maximum(np.abs(wanted), np.abs(there)))
        found[name] = float(np.max(np.abs(weights @ (there - wanted))) / size) if size else 0.0
    energy = model.steady if run.is_steady else model.energy
    if energy is not None:
        wanted, there, *sizes = run.trajectory.evaluate_parts((energy.wanted, energy.there, *energy.sizes))
        size = max(float(np.max(np.abs(row))) for row in sizes)
        rounding = ROUNDING * float(np.max(np.abs(wanted)))  # the reference of enthalpies is far away
        off = max(float(np.max(np.abs(there - wanted))) - rounding, 0.0)
        found["energy"] = off / size if size else 0.0
    return found


def checks(run: RunData) -> tuple[Check, ...]:
    """The closure of its balances, the lowest amount, and at steady state the residual of the plain balances."""
    balances = run.vessel.spec.model.balances
    found, amounts = list(closure_check(closure(run))), balances.amounts
    if amounts:
        held = np.concatenate([part.states[:, amounts] for part in run.trajectory.parts])
        below = float(max(-np.min(held), 0.0) / max(np.max(np.abs(held)), 1e-300)) + 0.0  # and not -0
        found.append(Check("amounts not negative", below, RUN_OUT, "the states at all points of the run"))
    if run.is_steady and balances.states and np.isfinite(time := run.space_time_si):
        left = imbalance(run.trajectory.last, run.trajectory.end_state, time)
        found.append(Check("steady", left, RESIDUAL, "the plain balances at the state, times the space time"))
    return (*found, *run.verified)


def second_integration(run: RunData) -> Check | None:
    """The same run after a second integration by another method, at a hundredth of the tolerances, that agrees.

    Raises
    ------
    SolveError
        Where it does not agree, or the other method cannot follow the run.
    """
    worst, methods = 0.0, dict[str, None]()
    for part in run.trajectory.parts:
        if not part.end > part.begin:
            continue
        if part.case.balances.extent is not None:
            again = integrate(part.case, part.points, rtol=_COARSER * max(part.settings.rtol, 1e-10)).states[-1]
            method = "collocation on fewer nodes, to a hundred times the tolerance"
        else:
            found = by_another_engine(part)
            if found is None:
                raise SolveError("no other method could follow it", run.vessel.label, "run it without verify")
            again, method = found
        size = np.maximum(np.abs(part.states).max(axis=0), start(part.case)[1])
        worst, methods[method] = max(worst, float(np.max(np.abs(again - part.states[-1]) / size))), None
    if not methods:  # a steady state, which is checked by the plain balances
        return None
    tolerance = max(part.settings.rtol for part in run.trajectory.parts)
    check = Check("a second integration agrees", worst, max(_AGREEMENT, _LOSS * tolerance), " and ".join(methods))
    require_passed([check], run.vessel.label, "give smaller rtol and atol, and look for results that depend on them")
    return check


def growth(run: RunData) -> float | None:
    """The largest growth rate of a disturbance of a steady state in 1/s; None if it has no states over time."""
    if not run.vessel.spec.has_steady_state:
        return None
    rates = growth_rates(run.trajectory.last, run.trajectory.end_state).real
    return float(np.max(rates)) if len(rates) else None


def out_of_range(run: RunData) -> list[str]:
    """Heat capacities that were used outside their range, in words."""
    if run.vessel.spec.model.duty is None or run.vessel.spec.mixture_capacity is not None:
        return []
    low, high = float(np.min(run.temperatures)), max(float(np.max(run.temperatures)), run.highest_T[1])
    return beyond_validity(run.vessel.chemistry.species, low, high)
