"""`Optimum`: the optimum of a vessel or train, its active limits, and its surroundings."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.checks import Check, checked_fact
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.design.optimize.objective import Limit, MetricExpression
from molino.core.design.optimize.optimal_profile import OptimalProfile
from molino.core.design.optimize.problem import RATIO, FreeNumber, Question
from molino.core.design.optimize.surroundings import ActiveLimit
from molino.core.display import Display
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame, in_columns, plain_dict
from molino.core.safety.heat_safety import safety_of
from molino.core.safety.safety_results import Safety, safety_lines
from molino.core.trains.train import Train

MET = 1e-7
"""Largest relative violation of a limit that is met."""
PROFILE_MET = 1e-6
"""The same for an optimal profile."""
FIRST_ORDER = 1e-5
"""Largest residual of the first-order conditions at an optimum, relative to the gradients."""
PROFILE_ORDER = 1e-4
"""The same for an optimal profile, relative to the objective."""
SADDLE = 1e-7
"""Largest relative gain of the objective near an optimum, by rounding and the curvature of limits."""


def factor_of(expression: MetricExpression, display: Display) -> float:
    """SI value of one unit of a displayed number."""
    text = expression.unit(display)
    return float(units.unit(text).factor) if text else 1.0


@dataclass(frozen=True, eq=False)
class Optimum(Frozen, Result):
    """The optimum of a vessel or train.

    Attributes
    ----------
    vessel : Vessel or Train
        At the optimum.
    run : Run or TrainRun
        Of it.
    objective : MetricExpression
    is_highest : bool
        Whether the objective was maximized.
    value : float
        Of the objective, in SI.
    free : tuple of FreeNumber
    limits : tuple of Limit
    left : tuple of float
        The margin of each limit, in SI.
    active_limits : tuple of ActiveLimit
        The active bounds and limits, with their multipliers.
    slopes : array, shape (1 + limits, free)
        Derivatives of the objective and of each limited expression by the free conditions, in SI.
    first_order : float
        Residual of the first-order conditions, relative to the gradients; with profiles, the first-order gain of moving
        each condition over its whole range wherever that improves the objective, relative to the objective.
    integrations : int
        Number of integrations, including those for derivatives (for a train, runs of the whole; with profiles, Newton
        steps).
    others : tuple of (float, str)
        Other optima that were found: the objective in SI, and the place.
    remark : str
    is_stopped : bool
        Whether it was interrupted; it is then the best so far.
    confidence : float or None
        The probability of meeting each limit; None for the nominal numbers alone.
    reached : tuple of float
        The fraction of draws that meet each limit, with a confidence.
    profiles : tuple of OptimalProfile
        The optimal courses of free profiles.
    multipliers : tuple of float
        Gain of the objective per unit in SI by which a limit is relaxed; zero if it is not active.
    starts : int
        Number of starts of the search.
    missed : float
        The largest relative violation of a limit.
    gain : float
        The relative gain of the objective at a place near it.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> batch = mo.Batch(chem, {"A": "1 mol/L"}, T="300 K", time="5 min")
    >>> best = mo.optimize(batch, maximize="concentration of B", free={"time": ("1 min", "60 min")})
    >>> round(best.free[0].value / 60, 4), best.active_limits
    (6.9315, ())
    """

    vessel: Vessel | Train
    run: RunResult
    objective: MetricExpression
    is_highest: bool
    value: float
    free: tuple[FreeNumber, ...]
    limits: tuple[Limit, ...]
    left: tuple[float, ...]
    active_limits: tuple[ActiveLimit, ...]
    slopes: np.ndarray
    first_order: float
    integrations: int
    others: tuple[tuple[float, str], ...] = ()
    remark: str = ""
    is_stopped: bool = False
    confidence: float | None = None
    reached: tuple[float, ...] = ()
    profiles: tuple[OptimalProfile, ...] = ()
    multipliers: tuple[float, ...] = ()
    starts: int = 1
    missed: float = 0.0
    gain: float = 0.0

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The checks of its limits, of the first-order conditions and of a place near it, and those of its run."""
        most = PROFILE_MET if self.profiles else MET
        found = [Check("limits met", self.missed, most, "the run at the optimum")] if self.limits else []
        if math.isfinite(self.first_order):
            limit = FIRST_ORDER if not self.profiles else PROFILE_ORDER
            found.append(
                Check(
                    "first-order conditions met", self.first_order, limit, "exact slopes and non-negative multipliers"
                )
            )
        if not self.profiles:
            found.append(Check("no gain near it", self.gain, SADDLE, "a run in a direction that the limits allow"))
        return (*found, *self.run.checks)

    @property
    def _searched(self) -> str:
        """The extent of the search."""
        starts = f"best of {self.starts} start{'s' if self.starts != 1 else ''}"
        count = len(self.others) + 1
        distinct = f", {count} distinct optima" if count > 1 else ""
        return f"{starts}{distinct}; global optimality is not proven"

    @cached_property
    def safety(self) -> Safety | None:
        """The heat safety of the vessel at the optimum; None without an exothermic reaction."""
        return safety_of(self.run)

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    def table(self) -> Table:
        """One row per free condition: value, bounds, and the derivatives of the objective and of each limited
        expression by it (each in its unit, per unit of the condition)."""
        if self.profiles and not self.free:
            return self.profile_table()
        rows: list[PlainData] = []
        shown = [self.objective, *(limit.expression for limit in self.limits)]
        for j, number in enumerate(self.free):
            row: PlainData = {
                "free": number.name,
                "value": number.shown(number.value),
                "low": number.shown(number.low),
                "high": number.shown(number.high),
                "unit": number.unit,
            }
            factor = units.unit(number.unit).factor if number.unit else 1.0
            for i, expression in enumerate(shown):
                own = factor_of(expression, self.display)
                along = " everywhere" if i and self.limits[i - 1].is_everywhere else ""
                row[f"slope of {expression}{along}"] = float(self.slopes[i, j]) * factor / own
            rows.append(row)
        return frame(rows)

    def profile_table(self) -> Table:
        """The points of the optimal profiles: name, place and value with its unit."""
        rows: list[PlainData] = []
        for profile in self.profiles:
            along = units.unit(profile.along_unit) if profile.along_unit else None
            heading = f"{profile.along} [{profile.along_unit}]" if profile.along_unit else profile.along
            for t, v in zip(profile.times, profile.values, strict=True):
                place = float(along.from_si(t)) if along is not None else float(t)
                value = profile.moving.shown(float(v))
                rows.append({"number": profile.name, heading: place, "value": value, "unit": profile.moving.unit})
        return frame(rows)

    def facts(self) -> dict[str, str]:
        """The optimum, its active limits, and the probability of meeting limits."""
        way = "highest" if self.is_highest else "lowest"
        found = {f"{way} {self.objective}": self.objective.shown_text(self.display, self.value)}
        for number in self.free:
            ends = f"({number.text(number.low)} to {number.text(number.high)})"
            found[number.name] = f"{number.text(number.value)}  {ends}"
        for i, (limit, left) in enumerate(zip(self.limits, self.left, strict=True)):
            there = limit.expression.shown_text(self.display, limit.value + limit.sign * left, 5)
            share = f", met by {100 * self.reached[i]:.1f} % of the draws" if self.reached else ""
            found[limit.text(self.display)] = f"it is {there}{share}"
        for profile in self.profiles:
            found[profile.name] = profile.describe()
        for n, active in enumerate(self.active_limits):
            found["active limit" if n == 0 else f"active limit{' ' * n}"] = str(active)
        if not self.active_limits and any(arc.is_at_bound for profile in self.profiles for arc in profile.arcs):
            found["active limits"] = "only the bounds above, with almost no gain"
        elif not self.active_limits:
            found["active limits"] = "none: no bound and no limit is active"
        if math.isfinite(self.first_order):
            found["first-order conditions"] = f"hold to {self.first_order:.1e} of the {self._steps}"
        else:
            found["integrations"] = f"{self.integrations}"
        for n, (value, where) in enumerate(self.others):
            found["another optimum" if n == 0 else f"another optimum{' ' * n}"] = (
                f"{self.objective.shown_text(self.display, value)} at {where}"
            )
        found["search"] = self._searched
        return found | checked_fact(self.checks[: len(self.checks) - len(self.run.checks)])

    def answer(self) -> tuple[str, str]:
        """The question, and the objective with the conditions at the optimum."""
        (what, value), *_ = self.facts().items()
        free = [number.text_with_bound() for number in self.free]
        free += [f"{profile.name}: {profile.describe()}" for profile in self.profiles]
        return f"What is the {what} of {self.vessel.label}?", f"{value}, with {', '.join(free)}."

    def decided(self) -> tuple[str, str]:
        """The optimized quantity, and its kind or unit."""
        kind = self.objective.kind or self.objective.unit(self.display)
        return f"the best {self.objective} of {self.vessel.label}", kind

    def slopes_by_constants(self, names: Sequence[str]) -> np.ndarray:
        """Exact derivatives of the optimal value by constants.

        Those of its Lagrange function: of the objective, and of the active limits times their multipliers. The shift of
        the free conditions has no effect of first order (envelope theorem).
        """

        def slopes(expression: MetricExpression) -> np.ndarray:
            own = expression.slopes([self.run.metric(m) for m in expression.metrics])
            return np.asarray(own @ np.array([self.run.constant_slopes(m, names) for m in expression.metrics]))

        found = slopes(self.objective)
        sense = 1.0 if self.is_highest else -1.0
        for limit, multiplier in zip(self.limits, self.multipliers, strict=True):
            if multiplier and limit.is_everywhere:
                message = f"a limit at every point of the run is active ({limit.text(self.display)})"
                raise InputError(message, "next experiment", "narrow a constant, or an optimum with limits at the end")
            if multiplier:
                found = found + sense * limit.sign * multiplier * slopes(limit.expression)
        return found

    @property
    def _steps(self) -> str:
        """The scale of the first-order conditions, and the number of integrations."""
        if self.profiles:
            return f"objective, after {self.integrations} steps of Newton's method"
        return f"slopes, after {self.integrations} integrations"

    def to_dict(self) -> PlainData:
        """Plain data: objective, free numbers, limits, which are active, and the run at the optimum."""
        display = self.display
        return plain_dict(
            {
                "objective": str(self.objective),
                "sense": "maximize" if self.is_highest else "minimize",
                "value": self.objective.shown(display, self.value),
                "unit": self.objective.unit(display),
                "free": {
                    n.name: {"value": n.shown(n.value), "low": n.shown(n.low), "high": n.shown(n.high), "unit": n.unit}
                    for n in self.free
                },
                "limits": [
                    {"limit": limit.text(display), "left_si": left}
                    for limit, left in zip(self.limits, self.left, strict=True)
                ],
                "active_limits": [
                    {"what": active.text, "worth": active.worth, "unit": active.unit, "per": active.per}
                    for active in self.active_limits
                ],
                "first_order": self.first_order,
                "integrations": self.integrations,
                "remark": self.remark,
                "other_optima": [{"value": self.objective.shown(display, v), "where": w} for v, w in self.others],
                "confidence": self.confidence,
                "met_by_draws": list(self.reached),
                "profiles": {p.name: p.to_dict(display) for p in self.profiles},
                "heat_safety": None if self.safety is None else self.safety.to_dict(),
                "starts": self.starts,
                "checks": [check.to_dict() for check in self.checks],
                "interrupted": self.is_stopped,
                "run": self.run.to_dict(),
            }
        )

    def __str__(self) -> str:
        is_optimum = all(check.is_passed for check in self.checks)
        title = "optimum" if is_optimum else "best point found (it fails a check of an optimum)"
        lines = [f"{title} of {self.vessel.label}", *in_columns(self.facts())]
        lines += [f"  {self.remark}"] if self.remark else []
        return "\n".join([*lines, str(self.run), *safety_lines(self.safety)])

    def surroundings(self, points: int = 0) -> Surroundings:
        """Objective and limits over the free conditions around the optimum.

        One free condition gives a line, two a grid; of more, each is varied alone, with the others at the optimum.

        Parameters
        ----------
        points : int
            Points along each condition; 0 means 41 for a line, 25 for a grid (17 and 9 for metrics of a cooling
            failure, which need their own runs).

        Returns
        -------
        Surroundings
        """
        return surroundings(self, points)


@dataclass(frozen=True, eq=False)
class Surroundings(Frozen):
    """The surroundings of an optimum.

    Attributes
    ----------
    optimum : Optimum
    names : tuple of tuple of str
        The free conditions of each piece: one or two.
    grids : tuple of tuple of arrays
        Their values in SI.
    values : tuple of arrays
        The objective in SI over each piece, shape (values of the first, of the second); nan where it is undefined.
    left : tuple of arrays
        The smallest relative margin of the limits: negative where one is not met; nan where the vessel cannot be run.
    """

    optimum: Optimum
    names: tuple[tuple[str, ...], ...]
    grids: tuple[tuple[np.ndarray, ...], ...]
    values: tuple[np.ndarray, ...]
    left: tuple[np.ndarray, ...]


def surroundings(best: Optimum, points: int) -> Surroundings:
    """See `Optimum.surroundings`."""
    question = Question(best.vessel, best.objective, best.is_highest, best.limits, best.free)
    sizes = np.array([max(abs(limit.value), 1e-12) for limit in best.limits])
    own = np.array([n.value for n in best.free])
    is_long = any(m.is_of_a_whole_run for m in question.metrics)
    usual = (17, 9) if is_long else (41, 25)
    groups = [tuple(range(len(own)))] if len(own) <= 2 else [(i,) for i in range(len(own))]
    grids, values, left = [], [], []
    is_bound = np.array([limit.way != "=" for limit in best.limits], dtype=bool)
    for group in groups:
        own_grids = tuple(_grid(best.free[i], points or usual[len(group) - 1]) for i in group)
        shape = tuple(len(g) for g in own_grids)
        found, least = np.full(shape, np.nan), np.full(shape, np.nan)
        for place in np.ndindex(*shape):
            numbers = own.copy()
            for i, axis, n in zip(group, own_grids, place, strict=True):
                numbers[i] = axis[n]
            with contextlib.suppress(SolveError):
                point = question.evaluated(numbers)
                found[place] = point.value
                least[place] = float((point.left / sizes)[is_bound].min(initial=1.0))
        grids.append(own_grids)
        values.append(found)
        left.append(least)
    names = tuple(tuple(best.free[i].name for i in group) for group in groups)
    return Surroundings(best, names, tuple(grids), tuple(values), tuple(left))


def _grid(number: FreeNumber, points: int) -> np.ndarray:
    """Values between the bounds of a condition, including the optimum."""
    if number.is_whole:
        found = np.unique(np.round(np.linspace(number.low, number.high, points)))
    elif number.low > 0 and number.high > RATIO * number.low:
        found = np.geomspace(number.low, number.high, points)
    else:
        found = np.linspace(number.low, number.high, points)
    return np.unique(np.append(found, number.value))
