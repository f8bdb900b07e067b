"""What a vessel comes to when its cooling fails: its contents left to themselves, from any moment of a run on.

From that moment on nothing is fed and no heat passes the walls, so that what has accumulated reacts adiabatically. The
highest temperature of that course, at the worst moment of the run, is the maximum temperature of the synthesis
reaction (R. Gygax, Chem. Eng. Sci. 43 (1988) 1759; F. Stoessel, Chem. Eng. Prog. 89 (1993) 68).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import sympy as sp
from scipy.optimize import minimize_scalar

from molino.core.balances.balance_symbols import AMOUNT, HELD_CAPACITY, INLET, RELEASED, SENSIBLE, START_T, VOLUME
from molino.core.balances.engines import ATOL, RTOL
from molino.core.balances.integrate import integrate
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
"""How long the contents are followed after a failure, in s."""
_POINTS = np.concatenate([[0.0], np.geomspace(1e-3, HORIZON, 96)])
_MOMENTS = 25
"""Even moments of a run at which a failure is looked at, besides the ends of its stages."""
_ROUGH = 1e-6
"""Relative tolerance of the courses that are only compared."""
_NEAR = 1e-7
"""Share of the run to which the worst moment is found."""

_ROUNDED = 1e-8
"""By which the smaller of two amounts is rounded off where they are alike, as a squared share of their sum."""

Place = tuple[sp.Expr, float]
"""An expression of the vessel's balances, and where along its run it is taken."""


@dataclass(frozen=True, eq=False)
class AdiabaticCourse(Frozen):
    """The contents of a vessel after its cooling failed.

    Attributes
    ----------
    trajectory : Trajectory
        Over the time since the failure.
    places : mapping of parameter to Place
        Where the numbers of its balances come from.
    highest_at, highest : float
        When it is hottest, in s since the failure, and how hot in K.
    """

    trajectory: Trajectory
    places: dict[sp.Symbol, Place]
    highest_at: float
    highest: float

    def fastest(self) -> float:
        """When the temperature rises fastest, in s since the failure; 0 where it does at once."""
        at, _ = self.trajectory.most(SENSIBLE, 1.0)
        return at if at > _POINTS[1] else 0.0


def temperature_when_reacted(vessel: Vessel, is_cautious: bool = False) -> sp.Expr:
    """The temperature once the reactant that is short has reacted adiabatically, over states of the vessel.

    T + xi (-dH) / C with xi the smallest n_i / nu_i, rounded off where two are alike: of one irreversible reaction, the
    temperature after a failure of cooling at that moment (F. Stoessel, Chem. Eng. Prog. 89 (1993) 68). A cautious one
    takes the reactants that are dosed for those that are short.

    Raises
    ------
    InputError
        If there are several reactions, or a reversible one, whose end takes an integration.
    """
    model, reactions = vessel.spec.model, vessel.chemistry.reactions
    energy = vessel.spec.key.phase.energy
    if len(reactions) != 1 or reactions[0].equation.reversible or energy is None:
        message = "with a profile, the temperature after cooling failure takes one irreversible reaction"
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
    """What comes of a failure of cooling during a run of a batch or semi-batch.

    Parameters
    ----------
    run : Run

    Raises
    ------
    InputError
        If nothing is known of its heat, or it is no batch that could fail so.
    """

    def __init__(self, run: RunData) -> None:
        vessel = run.vessel
        self.run, self.vessel, key = run, vessel, vessel.spec.key
        if not run.is_over_time or vessel.spec.model.is_flowing:
            message = "a failure of cooling is computed for charged vessels"
            raise InputError(message, vessel.label, "ask it of a batch or semi-batch")
        if getattr(vessel, "gas", None) is not None:
            message = "a gas is supplied to it, and whether it still is after a failure of cooling is not known"
            advice = "charge what the gas brings with the rest, and leave the gas out: on the safe side"
            raise InputError(message, vessel.label, advice)
        vessel.spec.require_energy()
        if key.catalyst.law is not None:
            message = "its catalyst decays, and the contents after a failure of cooling are followed without that"
            raise InputError(message, vessel.label, "leave the deactivation out, which is on the safe side")
        closed = getattr(vessel, "constant_volume", True)
        volume: Volume = (
            "follows" if key.phase.model == "additive volumes" or (vessel.is_gas and not closed) else "fixed"
        )
        own = replace(key, heat=HeatShape("adiabatic", "constant", key.heat.wall))
        self.model = well_mixed(own, (), volume, "charge")
        self.parameters = self.model.balances.parameters

    def _places(self, at: float) -> dict[sp.Symbol, Place]:
        """Where the numbers of the contents come from, at a moment of the run."""
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
        """The contents from a moment of the run on, in s; SolveError where they cannot be followed."""
        when = self.vessel.spec.display.text(at, "time")
        return self._course(self._places(at), f"after a failure of cooling at {when}", rtol)

    def released(self, course: AdiabaticCourse) -> float:
        """The heat of reaction in J that is still set free after a failure."""
        case = Case(self.model.followed, course.trajectory.last.values)
        return Trajectory((integrate(case, _POINTS),)).at_end((RELEASED,))[0]

    def _course(self, places: dict[sp.Symbol, Place], when: str, rtol: float = RTOL) -> AdiabaticCourse:
        numbers = self._numbers(places)
        if not np.isfinite(numbers).all():
            raise SolveError(f"not every number is known {when}", self.vessel.label, "check what it is charged with")
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
        """Moments of the run that are looked at first, in s, shape (moments,)."""
        trajectory = self.run.trajectory
        ends = [part.end for part in trajectory.parts]
        return np.unique(np.concatenate([np.linspace(0.0, trajectory.end, _MOMENTS), ends]))

    @cached_property
    def courses(self) -> list[AdiabaticCourse]:
        """The contents from each of these moments on, roughly."""
        return [self.course(float(at), _ROUGH) for at in self.moments]

    @cached_property
    def worst(self) -> tuple[float, AdiabaticCourse]:
        """The moment of the run in s from which the contents come to the highest temperature, and their course."""
        moments, courses = self.moments, self.courses
        i = int(np.argmax([c.highest for c in courses]))
        low, high = float(moments[max(i - 1, 0)]), float(moments[min(i + 1, len(moments) - 1)])
        best = float(moments[i]), self.course(float(moments[i]))
        found = minimize_scalar(
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
        """All that is charged and dosed, brought together at the temperature of the start and left to itself."""
        end, model = self.run.trajectory.end, self.vessel.spec.model
        places = self._places(end)
        places |= {INLET(s): (model.inlet[s] / model.volume, end) for s in self.vessel.chemistry.names}
        places[START_T] = (TEMPERATURE, 0.0)
        return self._course(places, "with all that goes in brought together")

    @property
    def rise(self) -> float:
        """The adiabatic temperature rise in K of all that is charged and dosed; negative where heat is taken up."""
        start = self.whole.trajectory.parts[0].states[0][self.model.balances.index(TEMPERATURE)]
        last = self.whole.trajectory.at_end((TEMPERATURE,))[0]
        return float((self.whole.highest if self.whole.highest > start * (1 + 1e-9) else last) - start)

    def out_of_range(self) -> list[str]:
        """Where a heat capacity is used outside of the range in which it holds, in words; see `Run.out_of_range`."""
        if self.vessel.spec.mixture_capacity is not None:
            return []
        T = self.worst[1].trajectory.parts[0].states[:, self.model.balances.index(TEMPERATURE)]
        return beyond_validity(self.vessel.chemistry.species, float(T.min()), self.worst[1].highest)

    @property
    def accumulation(self) -> float:
        """The share of all heat of reaction of the run that has not been released yet at the worst moment."""
        at, course = self.worst
        trajectory = self.run.trajectory
        then = float(trajectory.evaluate((RELEASED,), np.array([at]), trajectory.at(np.array([at])))[0][0])
        left = self.released(course)
        total = max(trajectory.at_end((RELEASED,))[0] + self.released(self.courses[-1]), then + left)
        return left / total if total > 0 else 0.0

    # the decomposition that this may set off

    def _decomposition(self) -> Decomposition:
        found: Decomposition | None = getattr(self.vessel, "decomposition", None)
        if found is None:
            message = "nothing is known of a decomposition"
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
            message = "the mass of its contents is not known, by which a decomposition counts"
            raise InputError(message, vessel.label, "give its density, like '980 kg/m3'")
        return HELD_CAPACITY / sp.Add(*(sp.Float(masses[s]) * AMOUNT(s) for s in vessel.chemistry.names))

    def time_to_maximum_rate(self) -> float:
        """Time in s from the highest temperature after a failure to the highest rate of decomposition."""
        course = self.worst[1]
        return self._decomposition().time_to_maximum_rate(course.highest, self.capacity_after(course))

    def capacity_after(self, course: AdiabaticCourse) -> Value:
        """Heat capacity per mass where the contents are hottest."""
        points = np.array([course.highest_at])
        row = course.trajectory.evaluate((self.specific_capacity,), points, course.trajectory.at(points))[0]
        return Value(float(row[0]), "J/kg/K")

    # as metrics of the run

    def metric(self, metric: Metric) -> float:
        """One of the metrics of a failure of cooling, in SI."""
        if metric.what == "adiabatic rise":
            return self.rise
        return self.worst[1].highest if metric.kind == "temperature" else self.time_to_maximum_rate()

    def slopes(self, metric: Metric, conditions: Sequence[str]) -> np.ndarray:
        """Exact slopes of such a metric by conditions of the vessel, shape (conditions,).

        That the worst moment moves, too, makes no difference in the first order (the envelope theorem).
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
        """Of expressions where the contents are hottest, shape (expressions, conditions): by the chain rule through the
        numbers that the contents begin with."""
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
        """Slopes of the initial numbers of the contents by conditions of the vessel, shape (numbers, conditions)."""
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
    """The analysis of a failure of cooling during a run, made once."""
    return run.analysis_by(CoolingFailure)
