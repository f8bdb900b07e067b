"""Cooling failure: the adiabatic course of the contents of a vessel from any moment of a run.

From that moment on there is no feed and no heat transfer, so that accumulated reactants react adiabatically. The
highest temperature of that course, for a failure at the worst moment, is the maximum temperature of the synthesis
reaction (R. Gygax, Chem. Eng. Sci. 43 (1988) 1759; F. Stoessel, Chem. Eng. Prog. 89 (1993) 68).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.balance_symbols import AMOUNT, HELD_CAPACITY, INLET, RELEASED, SENSIBLE, START_T, VOLUME
from molino.core.balances.integrate import integrate
from molino.core.balances.settings import ATOL, RTOL
from molino.core.balances.system import Case
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration
from molino.core.chemistry.species import beyond_validity
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.runs.run_data import RunData
from molino.core.runs.run_slopes import moved_by
from molino.core.runs.sensitivity import end_slope, expression_slopes, slopes_along
from molino.core.runs.trajectory import Trajectory
from molino.core.terms.decomposition import Decomposition
from molino.core.terms.heat import HeatShape
from molino.core.terms.well_mixed import Volume, well_mixed
from molino.core.units import Value

HORIZON = 365 * 86400.0
"""The time in s over which the contents are followed after a failure."""
_POINTS = np.concatenate([[0.0], np.geomspace(1e-3, HORIZON, 96)])
_MOMENTS = 25
_STRAIGHT, _FINEST = 2e-3, 1e-3
"""The largest distance of a curve from straight lines, and the shortest of these, relative to the ranges."""
_FLAT = 0.01
"""Distance in K that is too small to be drawn."""
"""Number of even moments of a run at which a failure is computed, besides the ends of its stages."""
_ROUGH = 1e-6
"""Relative tolerance of courses that are only compared."""
_NEAR = 1e-7
"""Fraction of the run within which the worst moment is located."""

_ROUNDED = 1e-8
"""Rounding of the smaller of two similar amounts, as a squared fraction of their sum."""

Place = tuple[sp.Expr, float]
"""An expression of the vessel's balances, and the place of its run at which it is evaluated."""


@dataclass(frozen=True, eq=False)
class AdiabaticCourse(Frozen):
    """The contents of a vessel after its cooling failed.

    Attributes
    ----------
    trajectory : Trajectory
        Over the time since the failure.
    places : mapping of parameter to Place
        The sources of the numbers of its balances.
    highest_at, highest : float
        The time of the highest temperature in s since the failure, and this temperature in K.
    """

    trajectory: Trajectory
    places: dict[sp.Symbol, Place]
    highest_at: float
    highest: float

    def fastest(self) -> float:
        """The time of the fastest temperature rise in s since the failure; 0 if it is at once."""
        at, _ = self.trajectory.most(SENSIBLE, 1.0)
        return at if at > _POINTS[1] else 0.0


def temperature_when_reacted(vessel: Vessel, is_cautious: bool = False) -> sp.Expr:
    """The temperature after adiabatic reaction of the limiting reactant, as an expression of the states of the vessel.

    T + xi (-dH) / C with xi the smallest n_i / nu_i, rounded off where two are similar: for one irreversible reaction
    the temperature after a cooling failure at that moment (F. Stoessel, Chem. Eng. Prog. 89 (1993) 68). A cautious
    value assumes that the dosed reactants are limiting.

    Raises
    ------
    InputError
        For several reactions or a reversible one, whose final state needs an integration.
    """
    model, reactions = vessel.spec.model, vessel.chemistry.reactions
    energy = vessel.spec.key.phase.energy
    if len(reactions) != 1 or reactions[0].equation.reversible or energy is None:
        message = "with a profile, the temperature after cooling failure needs a single irreversible reaction"
        advice = "limit 'temperature everywhere' and the concentration of the accumulated reactant everywhere"
        raise InputError(message, vessel.label, advice)
    network = vessel.chemistry.network
    column = network.stoichiometry[0]
    reactants = [(network.species[i], -n) for i, n in column if n < 0]
    dosed = [pair for pair in reactants if pair[0] not in {*vessel.charge}]  # type: ignore[attr-defined]
    parts = [
        concentration(s) * model.volume / sp.Rational(n) for s, n in (dosed if is_cautious and dosed else reactants)
    ]
    short = parts[0]
    for other in parts[1:]:
        short = (short + other - sp.sqrt((short - other) ** 2 + sp.Float(_ROUNDED) * (short + other) ** 2)) / 2
    change = sp.Add(*(sp.Rational(n) * energy.enthalpy(i, TEMPERATURE) for i, n in column))
    return TEMPERATURE - short * sp.expand(change) / HELD_CAPACITY


class CoolingFailure:
    """A cooling failure during a run of a batch or semi-batch.

    Parameters
    ----------
    run : Run

    Raises
    ------
    InputError
        If its heat is unknown, or it is another kind of vessel.
    """

    def __init__(self, run: RunData) -> None:
        vessel = run.vessel
        self.run, self.vessel, key = run, vessel, vessel.spec.key
        if not run.is_over_time or vessel.spec.model.is_flowing:
            message = "a cooling failure is computed for charged vessels"
            raise InputError(message, vessel.label, "ask it of a batch or semi-batch")
        if getattr(vessel, "gas", None) is not None:
            message = "a gas is supplied to it, and its supply after a cooling failure is unknown"
            advice = "charge the gas with the rest, and leave its supply out: on the safe side"
            raise InputError(message, vessel.label, advice)
        vessel.spec.require_energy()
        if key.catalyst.law is not None:
            message = "its catalyst decays, which is not available after a cooling failure"
            raise InputError(message, vessel.label, "leave the deactivation out, which is on the safe side")
        closed = getattr(vessel, "constant_volume", True)
        volume: Volume = (
            "follows" if key.phase.model == "additive volumes" or (vessel.is_gas and not closed) else "fixed"
        )
        own = replace(key, heat=HeatShape("adiabatic", "constant", key.heat.wall))
        self.model = well_mixed(own, (), volume, "charge")
        self.parameters = self.model.balances.parameters

    def _places(self, at: float) -> dict[sp.Symbol, Place]:
        """The sources of the numbers of the contents at a moment of the run."""
        vessel = self.vessel.spec.model
        found: dict[sp.Symbol, Place] = {INLET(s): (concentration(s), at) for s in self.vessel.chemistry.names}
        found |= {VOLUME: (vessel.volume, at), START_T: (TEMPERATURE, at), PRESSURE: (PRESSURE, at)}
        return {p: found.get(p, (p, at)) for p in self.parameters}

    def _numbers(self, places: dict[sp.Symbol, Place]) -> list[float]:
        trajectory, found = self.run.trajectory, dict[sp.Symbol, float]()
        for at, group in itertools.groupby(places.items(), key=lambda item: item[1][1]):
            members = list(group)
            points = np.array([at])
            rows = trajectory.evaluate(tuple(place[0] for _, place in members), points, trajectory.at(points))
            found |= {symbol: float(row[0]) for (symbol, _), row in zip(members, rows, strict=True)}
        return [found[p] for p in self.parameters]

    def course(self, at: float, rtol: float = RTOL) -> AdiabaticCourse:
        """The contents after a moment of the run in s; SolveError if the integration fails."""
        when = self.vessel.spec.display.text(at, "time")
        return self._course(self._places(at), f"after a cooling failure at {when}", rtol)

    def released(self, course: AdiabaticCourse) -> float:
        """The heat of reaction in J that is released after a failure."""
        case = Case(self.model.followed, course.trajectory.last.values)
        return Trajectory((integrate(case, _POINTS),)).at_end((RELEASED,))[0]

    def _course(self, places: dict[sp.Symbol, Place], when: str, rtol: float = RTOL) -> AdiabaticCourse:
        numbers = self._numbers(places)
        if not np.isfinite(numbers).all():
            raise SolveError(f"a number is unknown {when}", self.vessel.label, "check its charge")
        try:
            solution = integrate(Case(self.model.balances, tuple(numbers)), _POINTS, rtol=rtol, atol=rtol * ATOL / RTOL)
        except SolveError as error:
            advice = "check the rate laws at high temperatures, and the heat capacity"
            raise SolveError(f"{when}: {error.faults[0].what}", self.vessel.label, advice) from error
        trajectory, T = Trajectory((solution,)), solution.states[:, self.model.balances.index(TEMPERATURE)]
        highest_at, highest = solution.end, float(T[-1])
        if T.max() > highest * (1 + 1e-9):  # it becomes colder again
            highest_at, highest = trajectory.most(TEMPERATURE)
        return AdiabaticCourse(trajectory, places, highest_at, highest)

    @cached_property
    def moments(self) -> np.ndarray:
        """The first moments of the search in s, shape (moments,)."""
        trajectory = self.run.trajectory
        ends = [part.end for part in trajectory.parts]
        return np.unique(np.concatenate([np.linspace(0.0, trajectory.end, _MOMENTS), ends]))

    @cached_property
    def courses(self) -> list[AdiabaticCourse]:
        """The contents after each of these moments, to a loose tolerance."""
        return [self.course(float(at), _ROUGH) for at in self.moments]

    @cached_property
    def highest_after(self) -> tuple[np.ndarray, np.ndarray]:
        """Moments in s, and the highest temperature in K after a failure at each: so many that straight lines between
        them are as good as a curve."""
        at = {float(t): course.highest for t, course in zip(self.moments, self.courses, strict=True)}
        at[self.worst[0]] = self.worst[1].highest
        known = sorted(at)
        spread, least = max(at.values()) - min(at.values()), _FINEST * self.run.trajectory.end
        open_parts = list(itertools.pairwise(known))
        while open_parts:
            low, high = open_parts.pop()
            middle = 0.5 * (low + high)
            at[middle] = self.course(middle, _ROUGH).highest
            bend = abs(at[middle] - 0.5 * (at[low] + at[high]))
            if high - low > least and bend > max(_STRAIGHT * spread, _FLAT):
                open_parts += [(low, middle), (middle, high)]
        moments = np.array(sorted(at))
        return moments, np.array([at[float(t)] for t in moments])

    @cached_property
    def worst(self) -> tuple[float, AdiabaticCourse]:
        """The moment of the run in s after which the contents reach the highest temperature, and their course."""
        moments, courses = self.moments, self.courses
        i = int(np.argmax([c.highest for c in courses]))
        low, high = float(moments[max(i - 1, 0)]), float(moments[min(i + 1, len(moments) - 1)])
        best = float(moments[i]), self.course(float(moments[i]))
        found = scipy.optimize.minimize_scalar(
            lambda at: -self.course(float(at)).highest,
            bounds=(low, high),
            method="bounded",
            options={"xatol": _NEAR * self.run.trajectory.end, "maxiter": 24},
        )
        if -found.fun > best[1].highest * (1 + 1e-9):
            best = float(found.x), self.course(float(found.x))
        return best

    @cached_property
    def whole(self) -> AdiabaticCourse:
        """All charged and dosed material, mixed at the initial temperature, adiabatic."""
        end, model = self.run.trajectory.end, self.vessel.spec.model
        places = self._places(end)
        places |= {INLET(s): (model.inlet[s] / model.volume, end) for s in self.vessel.chemistry.names}
        places[START_T] = (TEMPERATURE, 0.0)
        return self._course(places, "with all feeds mixed at the start")

    @property
    def rise(self) -> float:
        """The adiabatic temperature rise in K of all charged and dosed material; negative if endothermic."""
        start = self.whole.trajectory.parts[0].states[0][self.model.balances.index(TEMPERATURE)]
        last = self.whole.trajectory.at_end((TEMPERATURE,))[0]
        return float((self.whole.highest if self.whole.highest > start * (1 + 1e-9) else last) - start)

    def out_of_range(self) -> list[str]:
        """Heat capacities that are used outside their range, in words; see `Run.out_of_range`."""
        if self.vessel.spec.mixture_capacity is not None:
            return []
        T = self.worst[1].trajectory.parts[0].states[:, self.model.balances.index(TEMPERATURE)]
        return beyond_validity(self.vessel.chemistry.species, float(T.min()), self.worst[1].highest)

    @property
    def accumulation(self) -> float:
        """The fraction of the total heat of reaction that is still to be released at the worst moment."""
        at, course = self.worst
        trajectory = self.run.trajectory
        then = float(trajectory.evaluate((RELEASED,), np.array([at]), trajectory.at(np.array([at])))[0][0])
        left = self.released(course)
        total = max(trajectory.at_end((RELEASED,))[0] + self.released(self.courses[-1]), then + left)
        return left / total if total > 0 else 0.0

    # the decomposition that may follow

    def _decomposition(self) -> Decomposition:
        found: Decomposition | None = getattr(self.vessel, "decomposition", None)
        if found is None:
            message = "no decomposition is given"
            raise InputError(message, self.vessel.label, "give decomposition=mo.Decomposition(heat=..., rate=..., ...)")
        return found

    @cached_property
    def specific_capacity(self) -> sp.Expr:
        """Heat capacity of the contents per mass, an expression of their balances.

        Raises
        ------
        InputError
            If their mass is not known.
        """
        density, vessel = self.vessel.spec.fluid.density, self.vessel
        if density is not None:
            return HELD_CAPACITY / (sp.Float(density) * VOLUME)
        masses = vessel.spec.weights.molar_masses
        if vessel.spec.phase.carries_volume or any(m is None for m in masses.values()):
            message = "the mass of its contents is unknown, which a decomposition needs"
            raise InputError(message, vessel.label, "give its density, like '980 kg/m3'")
        return HELD_CAPACITY / sp.Add(*(sp.Float(masses[s]) * AMOUNT(s) for s in vessel.chemistry.names))

    def time_to_maximum_rate(self) -> float:
        """Time in s from the highest temperature after a failure to the highest rate of decomposition."""
        course = self.worst[1]
        return self._decomposition().time_to_maximum_rate(course.highest, self.capacity_after(course))

    def capacity_after(self, course: AdiabaticCourse) -> Value:
        """Heat capacity per mass at the highest temperature."""
        points = np.array([course.highest_at])
        row = course.trajectory.evaluate((self.specific_capacity,), points, course.trajectory.at(points))[0]
        return Value(float(row[0]), "J/kg/K")

    # as metrics of the run

    def metric(self, metric: Metric) -> float:
        """A metric of a cooling failure, in SI."""
        if metric.what == "adiabatic rise":
            return self.rise
        return self.worst[1].highest if metric.kind == "temperature" else self.time_to_maximum_rate()

    def slopes(self, metric: Metric, conditions: Sequence[str]) -> np.ndarray:
        """Exact derivatives of such a metric by conditions of the vessel, shape (conditions,).

        The shift of the worst moment has no effect of first order (envelope theorem).
        """
        if metric.what == "adiabatic rise":
            whole = self._course_slopes(self.whole, (TEMPERATURE,), conditions)[0]
            start = self._place_slopes({START_T: (TEMPERATURE, 0.0)}, conditions)[0]
            return np.asarray(whole - start)
        course = self.worst[1]
        if metric.kind == "temperature":
            return np.asarray(self._course_slopes(course, (TEMPERATURE,), conditions)[0])
        by_T, by_capacity = self._decomposition().log_slopes(course.highest, self.capacity_after(course).si)
        rows = self._course_slopes(course, (TEMPERATURE, self.specific_capacity), conditions)
        return np.asarray(self.time_to_maximum_rate() * (by_T * rows[0] + by_capacity * rows[1]))

    def _course_slopes(
        self, course: AdiabaticCourse, expressions: tuple[sp.Expr, ...], conditions: Sequence[str]
    ) -> np.ndarray:
        """Derivatives of expressions at the highest temperature, shape (expressions, conditions): by the chain rule
        through the initial numbers of the contents."""
        moves = self._place_slopes(course.places, conditions)
        touched = [i for i in range(len(self.parameters)) if moves[i].any()]
        if not touched:
            return np.zeros((len(expressions), len(conditions)))
        by = tuple(self.parameters[i] for i in touched)
        if course.highest_at >= course.trajectory.end:
            own = expression_slopes(course.trajectory, expressions, by)
        else:
            own = slopes_along(course.trajectory, course.highest_at, expressions, by)
        return np.asarray(own @ moves[touched])

    def _place_slopes(self, places: dict[sp.Symbol, Place], conditions: Sequence[str]) -> np.ndarray:
        """Derivatives of the initial numbers of the contents by conditions of the vessel, shape (numbers,
        conditions)."""
        run, rows = self.run, dict[sp.Symbol, np.ndarray]()
        by, by_setting, by_end = moved_by(run, conditions)
        for at, group in itertools.groupby(places.items(), key=lambda item: item[1][1]):
            members = list(group)
            expressions = tuple(place[0] for _, place in members)
            found = np.zeros((len(members), len(conditions)))
            if by:
                found = found + slopes_along(run.trajectory, at, expressions, by) @ by_setting
            if at >= run.trajectory.end and by_end.any():
                found = found + np.outer([end_slope(run.trajectory, e) for e in expressions], by_end)
            rows |= {symbol: row for (symbol, _), row in zip(members, found, strict=True)}
        return np.array([rows[symbol] for symbol in places])


def failure_of(run: RunData) -> CoolingFailure:
    """The analysis of a cooling failure during a run, made once."""
    return run.analysis_by(CoolingFailure)
