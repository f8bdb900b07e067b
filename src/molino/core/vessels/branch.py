"""Steady states as one condition varies."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any, ClassVar

import numpy as np

from molino.core.annotations import PlainData
from molino.core.balances.compiled import Function, compiled
from molino.core.balances.continuation import ArcLength, Curve, LogStates
from molino.core.balances.engines import start
from molino.core.balances.settings import Report
from molino.core.balances.steady import growth_rates
from molino.core.balances.system import AMOUNTS, Case
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.run_result import RunResult
from molino.core.display import Display
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.runs.follow import settled
from molino.core.unit_tables import SI_UNITS
from molino.core.units import QuantityLike, Value
from molino.core.vessels.flow_vessel import FlowVessel

FINE = 10.0
"""Scale of the range of the condition, and of a temperature, along the curve: three per cent are a step."""


def read_range(tank: Any, free: Mapping[str, Sequence[object]]) -> tuple[str, float, float]:
    """The ends of a branch in SI; InputError if they are invalid, or a vessel has no volume."""
    if not isinstance(free, Mapping) or len(free) != 1 or any(len(ends) != 2 for ends in free.values()):
        raise InputError(f"free = {free!r}", tank.label, "give one condition with its range: {'feed T': (low, high)}")
    ((name, ends),) = free.items()
    low, high = (tank.spec.condition(name).read(end)[0] for end in ends)
    if not low < high:
        raise InputError(f"{name} from {low:g} to {high:g} is not a range", tank.label, "give (low, high)")
    for vessel in tank.with_({name: ends[0]}).vessels:
        vessel.spec.require_volume()
    tank.with_({name: ends[1]})
    return name, low, high


@dataclass(frozen=True)
class Fold:
    """A fold, at which steady states vanish: the `value` of the condition (SI), the temperature in K, and whether the
    tank ignites (jumps to a hotter state) or is extinguished there."""

    value: float
    temperature: float
    kind: str


@dataclass(frozen=True, eq=False)
class Branch(Frozen, Result):
    """The steady states of a tank or a train along a curve, as one condition varies, through its folds.

    `values` (SI) and `temperatures` (K), both of shape (points,), with `stable` at each; `states` of shape (points,
    states); `folds` are the points of ignition and extinction.

    Attributes
    ----------
    vessel : StirredTank or Train
    condition, kind : str
        The condition that varies, and its kind of quantity.
    values : array, shape (points,)
        Of the condition, in SI.
    states : array, shape (points, states)
    temperatures : array of K, shape (points,)
        Of a train the highest at the outlets of its vessels.
    stable : array of bool, shape (points,)
    folds : tuple of Fold
        Ignition and extinction.

    Examples
    --------
    >>> law = mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol")
    >>> hot = mo.Chemistry(mo.Reaction("A -> B", k=law, enthalpy="-200 kJ/mol"))
    >>> cold = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
    >>> tank = mo.StirredTank(hot, cold, volume="1 m3", heat="adiabatic")
    >>> branch = tank.branch({"feed T": ("280 K", "320 K")})
    >>> [fold.kind for fold in branch.folds]
    ['ignition']
    """

    temperature_name: ClassVar[str] = "temperature"
    vessel: Any
    condition: str
    kind: str
    values: np.ndarray
    states: np.ndarray
    temperatures: np.ndarray
    stable: np.ndarray
    folds: tuple[Fold, ...]

    @cached_property
    def runs(self) -> tuple[RunResult, ...]:
        """Each point as the run of a steady state."""
        report = Report("curve of steady states", len(self.values), 0, len(self.values))
        return tuple(
            settled(self.vessel.with_({self.condition: Value(float(v))}), y, report)
            for v, y in zip(self.values, self.states, strict=True)
        )

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display  # type: ignore[no-any-return]

    def table(self) -> Table:
        """One row per point: the condition, temperature, conversions and stability."""
        display = self.display
        rows = []
        for value, T, run, stable in zip(self.values, self.temperatures, self.runs, self.stable, strict=True):
            row: PlainData = {display.heading(self.condition, self.kind): display.number(value, self.kind)}
            row[display.heading("T", "temperature")] = display.number(T, "temperature")
            row |= {name: number for name, number in run.summary().items() if name.startswith("conversion")}
            row["stable"] = "yes" if stable else "no"
            rows.append(row)
        return frame(rows)

    def facts(self) -> dict[str, str]:
        """The folds: ignition and extinction."""
        display = self.display
        return {
            f"{fold.kind} at {self.condition} {display.text(fold.value, self.kind, 5)}": "from "
            + display.text(fold.temperature, "temperature", 5)
            for fold in self.folds
        }

    def to_dict(self) -> PlainData:
        """Plain data: the points of the curve in SI, and its folds."""
        folds = [
            {"kind": f.kind, self.condition: f.value, "unit": SI_UNITS[self.kind], "T": f.temperature}
            for f in self.folds
        ]
        return {
            "condition": self.condition,
            "unit": SI_UNITS[self.kind],
            "values": self.values.tolist(),
            "temperatures_K": self.temperatures.tolist(),
            "stable": self.stable.tolist(),
            "folds": folds,
        }

    def __str__(self) -> str:
        display = self.display
        low, high = (display.text(float(v), self.kind) for v in (min(self.values), max(self.values)))
        lines = [f"steady states for {self.condition} from {low} to {high}: {len(self.values)} points"]
        lines += [f"  {fold}, {place}" for fold, place in self.facts().items()]
        return "\n".join(lines if self.folds else [*lines, "  no ignition or extinction"])


@dataclass(frozen=True)
class Course:
    """A condition at a fraction p of its range: logarithmic where the range spans a decade or more."""

    low: float
    high: float

    @property
    def is_logarithmic(self) -> bool:
        return self.low > 0 and self.high >= 10 * self.low

    def value(self, p: float) -> float:
        if self.is_logarithmic:
            return float(self.low * (self.high / self.low) ** p)
        return float(self.low + (self.high - self.low) * p)

    def slope(self, p: float) -> float:
        """d(value)/dp."""
        if self.is_logarithmic:
            return self.value(p) * math.log(self.high / self.low)
        return self.high - self.low


def folds_of(
    tracer: ArcLength,
    curve: Curve,
    T: np.ndarray,
    stable: np.ndarray,
    temperature: Callable[[np.ndarray], float],
    course: Course,
) -> tuple[Fold, ...]:
    """The folds of a curve, where its condition turns back."""
    folds = []
    for n in np.flatnonzero(curve.tangents[:-1, -1] * curve.tangents[1:, -1] < 0):
        z = tracer.between(curve, int(n), lambda _, along: float(along[-1]))
        rises = bool(T[n + 1] > T[n])
        word = "ignition" if bool(stable[n]) == rises else "extinction"
        folds.append(Fold(course.value(float(z[-1]) / FINE), temperature(z), word))
    return tuple(folds)


def branch(tank: FlowVessel, free: Mapping[str, Sequence[QuantityLike]]) -> Branch:
    """The curve of steady states as a condition varies; see `FlowVessel.branch`."""
    tank.spec.require_known()
    name, low, high = read_range(tank, free)
    kind = tank.spec.condition(name).kind
    first = tank.with_({name: free[name][0]})
    begin = first.steady().trajectory.end_state
    balances = first.spec.model.balances
    _, scale = start(first.spec.case)
    amounts = balances.is_kind(AMOUNTS)
    scale = np.where(amounts, scale, scale / FINE)
    weights = first.spec.volume_si / float(first.spec.fed.volume) / scale
    inner = LogStates(amounts, begin)
    whole, course = compiled(balances), Course(low, high)
    numbers = ParameterMap(first, (name,))
    forcing = whole.gradient(balances.rhs, balances.parameters)

    @lru_cache(maxsize=64)
    def parts(p: float) -> tuple[Function, Function, Function, np.ndarray, tuple[float, ...]]:
        values, by = numbers.values_and_slopes((course.value(p / FINE),))
        return (
            whole.rhs(values),
            whole.jacobian(values),
            forcing(values),
            by[:, 0] * course.slope(p / FINE) / FINE,
            values,
        )

    def residual(z: np.ndarray) -> np.ndarray:
        return np.array(parts(float(z[-1]))[0](inner.states(z[:-1], scale), 0.0)) * weights

    def slopes(z: np.ndarray) -> np.ndarray:
        _, jacobian, forced, by, _ = parts(float(z[-1]))
        y = inner.states(z[:-1], scale)
        by_states = jacobian(y, 0.0) * inner.slopes(y, scale) * weights[:, None]
        return np.column_stack([by_states, forced(y, 0.0) @ by * weights])

    tracer = ArcLength(residual, slopes, largest=0.3, bend=0.998)  # smooth as it is drawn
    curve = tracer.trace(np.append(inner.unknowns(begin, scale), 0.0), 0.0, FINE)
    states = np.array([inner.states(z[:-1], scale) for z in curve.points])
    values = np.array([course.value(p / FINE) for p in curve.points[:, -1]])
    place = balances.index(TEMPERATURE) if TEMPERATURE in balances.symbols else None
    fixed = float(first.spec.first_T.si) if first.spec.first_T is not None else np.nan
    T = states[:, place] if place is not None else np.full(len(values), fixed)
    stable = np.array(
        [
            np.max(growth_rates(Case(balances, parts(float(z[-1]))[4]), y).real) < 0
            for z, y in zip(curve.points, states, strict=True)
        ]
    )

    def temperature(z: np.ndarray) -> float:
        return float(inner.states(z[:-1], scale)[place]) if place is not None else fixed

    folds = folds_of(tracer, curve, T, stable, temperature, course)
    return Branch(tank, name, kind, values, states, T, stable, folds)
