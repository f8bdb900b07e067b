"""The question of an optimization: free conditions with bounds, an objective, limits; and the run of the vessel at a
place."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from molino.core import units
from molino.core.annotations import ByName
from molino.core.contents.portion import Portion, read_portion
from molino.core.contract.condition import Condition
from molino.core.contract.metric import Metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.vessel import Vessel
from molino.core.design.confidence import check_confidence
from molino.core.design.evaluator import Evaluator
from molino.core.design.optimize.free_profile import FreeProfile, MovingNumber, read_moving
from molino.core.design.optimize.objective import Limit, MetricExpression, read_expression, read_limit
from molino.core.display import Display
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.runs.run_slopes import slopes_where
from molino.core.trains.train import Train, read_plant
from molino.core.trains.train_run import TrainRun
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value

RATIO = 300.0
"""Ratio of the ends of a range above which it is searched by logarithms."""
_DIFFERENCE = 1e-5
"""Step of a difference, as a fraction of the range of a condition."""


@dataclass(frozen=True)
class FreeNumber:
    """A free condition with its bounds and its value at the optimum, in SI.

    Attributes
    ----------
    name, kind, unit : str
        `unit` is its unit in results.
    low, high, value : float
    is_whole : bool
        Whether it is a whole number.
    portion : Portion or None
        The portion of a species in the feed or charge, in the given form (a concentration, a fraction, a ratio).
    """

    name: str
    kind: str
    unit: str
    low: float
    high: float
    value: float
    is_whole: bool = False
    portion: Portion | None = None

    def text_with_bound(self) -> str:
        """Its name and value, and which bound it is at: 'T 185 °C (upper bound)'."""
        near = 1e-6 * abs(self.high - self.low)
        at = {"lower": abs(self.value - self.low) <= near, "upper": abs(self.value - self.high) <= near}
        bounds = [f" ({bound} bound)" for bound, is_there in at.items() if is_there]
        return f"{self.name} {self.text(self.value)}{''.join(bounds[:1])}"

    def given(self, si: float) -> Any:
        """A value in the form that `with_` takes."""
        if self.is_whole:
            return round(si)
        if self.portion is not None:
            return self.portion.with_number(si)
        return Value(si, self.unit) if self.unit else si

    def shown(self, si: float) -> float:
        """A value in its unit."""
        return float(units.unit(self.unit).from_si(si)) if self.unit else si

    def text(self, si: float, digits: int = 5) -> str:
        """A value with its unit."""
        if self.is_whole:
            return f"{si:.0f}"
        if self.portion is not None and not self.unit:
            return str(self.portion.with_number(float(f"{si:.{digits}g}")))
        return f"{units.number_text(self.shown(si), digits)} {units.pretty(self.unit)}".rstrip()


class FreeRanges:
    """The ranges of free conditions, and places in them as fractions from 0 to 1.

    A range whose ends are far apart is logarithmic, except for whole numbers.
    """

    def __init__(self, free: Sequence[FreeNumber]) -> None:
        self.low = np.array([n.low for n in free])
        self.high = np.array([n.high for n in free])
        self.is_whole = np.array([n.is_whole for n in free], dtype=bool)
        self.is_log = (self.low > 0) & (self.high > RATIO * self.low) & ~self.is_whole

    def numbers(self, z: np.ndarray) -> np.ndarray:
        """Free conditions in SI from fractions of their ranges."""
        with np.errstate(all="ignore"):
            powers = self.low * (self.high / self.low) ** z
        return np.asarray(np.where(self.is_log, powers, self.low + (self.high - self.low) * z))

    def shares(self, numbers: np.ndarray) -> np.ndarray:
        """The opposite of `numbers`."""
        with np.errstate(all="ignore"):
            logs = np.log(numbers / self.low) / np.log(self.high / self.low)
        return np.asarray(np.where(self.is_log, logs, (numbers - self.low) / (self.high - self.low)))

    def widths(self, numbers: np.ndarray) -> np.ndarray:
        """d(condition)/d(fraction)."""
        with np.errstate(all="ignore"):
            logs = numbers * np.log(self.high / self.low)
        return np.asarray(np.where(self.is_log, logs, self.high - self.low))


@dataclass(frozen=True, eq=False)
class Question(Frozen):
    """The question of an optimization, read and checked."""

    vessel: Vessel | Train
    objective: MetricExpression
    is_highest: bool
    limits: tuple[Limit, ...]
    free: tuple[FreeNumber, ...]
    confidence: float | None = None
    spread: ByName = field(default_factory=FrozenMapping)
    moving: tuple[MovingNumber, ...] = ()

    def require_known(self) -> None:
        """Raise InputError if constants are unknown."""
        for one in self.vessel.vessels:
            one.spec.require_known()

    @cached_property
    def metrics(self) -> tuple[Metric, ...]:
        """All metrics at the end."""
        expressions = [self.objective, *(limit.expression for limit in self.limits if not limit.is_everywhere)]
        return tuple(dict.fromkeys(m for e in expressions for m in e.metrics))

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(number.name for number in self.free)

    def at(self, numbers: Sequence[float]) -> Vessel | Train:
        """The vessel with given free conditions in SI."""
        return self.vessel.with_({n.name: n.given(float(x)) for n, x in zip(self.free, numbers, strict=True)})

    def place(self, numbers: Sequence[float]) -> str:
        """Free conditions in words."""
        return ", ".join(f"{n.name} = {n.text(float(x), 4)}" for n, x in zip(self.free, numbers, strict=True))

    @cached_property
    def evaluator(self) -> Evaluator | None:
        """The metrics as a compiled function of the free conditions, if these are numbers at the end of one
        integration."""
        vessel = self.vessel
        if not isinstance(vessel, Vessel) or self.moving or any(limit.is_everywhere for limit in self.limits):
            return None
        spec = vessel.spec
        if spec.has_segments or spec.margin() is not None or any(m.is_of_a_whole_run for m in self.metrics):
            return None
        return Evaluator(ParameterMap(vessel, self.names), self.metrics)

    def evaluated(self, numbers: np.ndarray) -> Point:
        """The run with given free conditions in SI; SolveError if it fails."""
        run: Any = self.at(numbers.tolist()).run()
        return self._point(numbers, {m: run.metric(m) for m in self.metrics}, run)

    def sketched(self, numbers: np.ndarray, evaluator: Evaluator) -> Point:
        """As `evaluated`, without a run."""
        found = dict(zip(self.metrics, evaluator(*numbers.tolist()).tolist(), strict=True))
        return self._point(numbers, found, None)

    def _point(self, numbers: np.ndarray, found: dict[Metric, float], run: Any) -> Point:
        value = self.objective.value([found[m] for m in self.objective.metrics])
        left, where = [], []
        for limit in self.limits:
            if limit.is_everywhere:
                at, number = run.extreme(limit.expression.metrics[0], -limit.sign)
            else:
                at, number = math.nan, limit.expression.value([found[m] for m in limit.expression.metrics])
            left.append(limit.sign * (number - limit.value))
            where.append(at)
        if not (math.isfinite(value) and np.isfinite(left).all()):
            message = f"{self.objective} or a limit is not defined at {self.place(numbers.tolist())}"
            raise SolveError(message, self.vessel.label, "it has a division by zero there: choose other bounds")
        return Point(self, numbers, found, run, value, np.array(left), tuple(where))


@dataclass(eq=False)
class Point:
    """A place of the search: its metrics, the run of the vessel (None if it is only sketched), the objective and the
    margin of each limit."""

    question: Question
    numbers: np.ndarray
    metrics: dict[Metric, float]
    run: Any
    value: float
    left: np.ndarray
    where: tuple[float, ...]
    """Extremes along the run for limits that apply everywhere; nan for the others."""

    @cached_property
    def slopes(self) -> np.ndarray:
        """Derivatives of the objective and of the margin of each limit by the free conditions, shape (1 + limits,
        free)."""
        q = self.question
        names = [n.name for n in q.free]
        if self.run is None:
            assert q.evaluator is not None
            by_metric = dict(zip(q.metrics, q.evaluator.slopes(*self.numbers.tolist()), strict=True))
        else:
            by_metric = dict(zip(q.metrics, self.run.slopes(q.metrics, names), strict=True))
        rows = [self._slope(q.objective, by_metric)]
        for limit, at in zip(q.limits, self.where, strict=True):
            if limit.is_everywhere:
                rows.append(limit.sign * self._slope_everywhere(limit, at))
            else:
                rows.append(limit.sign * self._slope(limit.expression, by_metric))
        return np.array(rows)

    def _slope(self, expression: MetricExpression, by_metric: Mapping[Metric, np.ndarray]) -> np.ndarray:
        own = expression.slopes([self.metrics[m] for m in expression.metrics])
        return np.asarray(own @ np.array([by_metric[m] for m in expression.metrics]))

    def _slope_everywhere(self, limit: Limit, at: float) -> np.ndarray:
        metric = limit.expression.metrics[0]
        if not isinstance(self.run, TrainRun):
            return np.asarray(slopes_where(self.run, at, metric, self.question.names))
        found = []
        for j, number in enumerate(self.question.free):  # for a train by central differences
            away = np.zeros(len(self.numbers))
            away[j] = _DIFFERENCE * (number.high - number.low)
            ends = [self.question.at((self.numbers + sign * away).tolist()).run() for sign in (1, -1)]
            high, low = (one.extreme(metric, -limit.sign)[1] for one in ends)
            found.append((high - low) / (2 * away[j]))
        return np.array(found)


def read_question(
    given_vessel: Any,
    free: Any,
    maximize: Any,
    minimize: Any,
    subject_to: Any,
    counted: Display | None = None,
    in_unit: Callable[[object, str], object] | None = None,
    confidence: Any = None,
    spread: Any = None,
) -> Question:
    """The question of an optimization, read and checked; InputError with all its faults."""
    vessel = read_plant(given_vessel, "optimize")
    faults = Faults()
    if (maximize is None) == (minimize is None):
        count = "no objective is given" if maximize is None else "two objectives are given"
        faults.add("optimize", count, "give either maximize or minimize")
    objective: Any = None
    for word, given in (("maximize", maximize), ("minimize", minimize)):
        with faults.at(f"optimize, {word}"):
            objective = objective if given is None else read_expression(given, vessel, counted)
    limits: list[Limit] = []
    for text in [subject_to] if isinstance(subject_to, str) else subject_to:
        with faults.at("optimize, subject_to"):
            limits.append(read_limit(text, vessel, in_unit))
    numbers, moving = _read_all_free(vessel, free, faults)
    with faults.at():
        check_confidence(vessel, confidence, spread, [n.name for n in numbers])
    if confidence is not None:
        _check_limits(vessel, limits, faults)
        if not subject_to:
            faults.add("optimize", "a confidence is given, and no limit", "give subject_to, or take it out")
    with faults.at("optimize, free"):
        _check_moving(moving, numbers, confidence)
    faults.raise_any()
    is_highest, apart = maximize is not None, FrozenMapping(spread or {})
    return Question(vessel, objective, is_highest, tuple(limits), tuple(numbers), confidence, apart, tuple(moving))


def _read_all_free(vessel: Vessel | Train, free: object, faults: Faults) -> tuple[list[FreeNumber], list[MovingNumber]]:
    numbers: list[FreeNumber] = []
    moving: list[MovingNumber] = []
    if not isinstance(free, Mapping) or not free:
        advice = "give conditions with their bounds: {'T': ('150 degC', '190 degC')}"
        faults.add("optimize, free", "nothing is free", advice)
        free = {}
    for name, ends in free.items():
        with faults.at(f"optimize, free {name}"):
            if isinstance(ends, FreeProfile):
                moving.append(_read_moving(vessel, name, ends))
                continue
            numbers.append(_read_free(vessel, vessel.spec.condition(name), ends))
    sizes = [n.name for n in numbers if isinstance(vessel, Vessel) and n.name in vessel.spec.sizes]
    if len(sizes) > 1:
        faults.add("optimize, free", f"{' and '.join(sizes)} each specify its size", "free one of them")
    if isinstance(vessel, Vessel) and vessel.spec.needs_size and not sizes:
        faults.add(vessel.label, "it has no size yet", f"give its {vessel.spec.default_size()}, or free it")
    return numbers, moving


def _check_limits(vessel: Vessel | Train, limits: list[Limit], faults: Faults) -> None:
    """Add faults for limits that cannot be met with a confidence."""
    for limit in limits:
        if limit.is_everywhere or limit.way == "=":
            text = limit.text(vessel.spec.display)
            faults.add("optimize", f"'{text}' cannot be met with a confidence", "limit the outlet, by <= or >=")


def _read_moving(vessel: Vessel | Train, name: str, given: FreeProfile) -> MovingNumber:
    if not isinstance(vessel, Vessel):
        raise InputError("a profile is free in a train", "", "find it for one vessel by itself")
    return read_moving(vessel, name, given)


def _check_moving(moving: Sequence[MovingNumber], numbers: Sequence[FreeNumber], confidence: object) -> None:
    """Raise InputError for options that cannot be combined with free profiles."""
    if not moving:
        return
    if confidence is not None:
        raise InputError("a confidence is given together with free profiles", "", "find the profile first, then size")
    if whole := [n.name for n in numbers if n.is_whole]:
        message = f"{', '.join(whole)} is a whole number, and profiles are free"
        raise InputError(message, "", "run it for each number")
    if len({m.pieces for m in moving}) > 1:
        raise InputError("the free profiles differ in their pieces", "", "give the same number of pieces to each")
    names = {n.name for n in numbers} & {m.name for m in moving}
    if names:
        raise InputError(f"{', '.join(sorted(names))} is free twice", "", "give a profile, or bounds")


def _read_free(vessel: Vessel | Train, setting: Condition, ends: object) -> FreeNumber:
    """A free condition with its bounds; the search begins at the vessel's own value if it is between them."""
    if isinstance(ends, str) or not isinstance(ends, Sequence) or len(ends) != 2:
        raise InputError(f"{ends!r} are not bounds", "", "give (low, high)")
    (low, form), (high, other) = (setting.read(end) for end in ends)
    if form != other:
        raise InputError(f"'{ends[0]}' and '{ends[1]}' are of different kinds", "", "give both in one form")
    if not low < high:
        raise InputError(f"{ends[0]} is not below {ends[1]}", "", "give (low, high)")
    is_whole = setting.name.rpartition(".")[2] == "tubes"
    own = setting.own if setting.form == form and low <= setting.own <= high else math.nan
    unit, portion = "", None
    if setting.name.startswith("["):
        contents = vessel.vessels[0].spec.contents()
        portion = read_portion(ends[0], contents.flowing)
        unit = (portion.value.unit or "") if portion.value is not None else ""
    elif not is_whole and form in SI_UNITS:
        unit = units.read(ends[0]).unit or vessel.spec.display.unit(form)
    return FreeNumber(setting.name, form, unit, low, high, own, is_whole, portion)
