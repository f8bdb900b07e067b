"""`optimize`: the conditions and sizes at which a metric is best, and what keeps it from being better."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.optimize import nnls
from scipy.stats import qmc

from molino.core import units
from molino.core.arguments import checked
from molino.core.design.confidence import (
    UncertainNumbers,
    check_confidence,
    drawn_metric,
    draws_for,
    margin,
    share_reaching,
)
from molino.core.design.objective import Limit, MetricExpression, read_expression, read_limit
from molino.core.design.sequential import SequentialProgram
from molino.core.errors import Faults, InputError, SolveError, UnreachableError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.results import Result, plain
from molino.core.units import Display, Value
from molino.core.vessels.base import Setting, Vessel
from molino.core.vessels.metrics import Metric
from molino.core.vessels.mixture import Portion, read_portion
from molino.core.vessels.run import Run
from molino.core.vessels.train import Train, TrainRun

if TYPE_CHECKING:
    import pandas as pd

_MET = 1e-7
"""How far a limit may be missed, relative to its size, and count as met."""
_AT_BOUND = 1e-7
"""The share of its range within which a number is at its bound."""
_LIKE = 1e-6
"""How near, relative, an objective must be to the best one to count as good as that: limits are met to so much only."""
_SAME = 1e-4
"""The share of its range within which two starts have come to the same optimum."""
_RATIO = 300.0
"""A range whose ends are farther apart than this is searched by logarithms."""
_DIFFERENCE = 1e-5
"""The share of its range by which a number is moved for a difference."""
_SURE, _MOST_MOVES = 1e-5, 12
"""How near, relative to a limit, its quantile comes to it; and how often limits are moved for that."""
_FIRST_ORDER = 1e-5
"""What may be left of the first-order conditions, relative to the slopes in them, at an optimum."""


@dataclass(frozen=True)
class FreeNumber:
    """A number that was free: a setting with its bounds and its value at the optimum, in SI.

    Attributes
    ----------
    name, kind, unit : str
        `unit` is the one it is shown in.
    low, high, value : float
    is_whole : bool
        Whether it is a whole number.
    portion : Portion or None
        How much is fed or charged of a species, in the form (a concentration, a fraction, a ratio) that it was given.
    """

    name: str
    kind: str
    unit: str
    low: float
    high: float
    value: float
    is_whole: bool = False
    portion: Portion | None = None

    def given(self, si: float) -> Any:
        """One of its numbers as `with_` takes it."""
        if self.is_whole:
            return round(si)
        if self.portion is not None:
            return self.portion.with_number(si)
        return Value(si, self.unit) if self.unit else si

    def shown(self, si: float) -> float:
        """One of its numbers in its unit."""
        return float(units.unit(self.unit).from_si(si)) if self.unit else si

    def text(self, si: float, digits: int = 5) -> str:
        """One of its numbers with its unit."""
        if self.is_whole:
            return f"{si:.0f}"
        if self.portion is not None and not self.unit:
            return str(self.portion.with_number(float(f"{si:.{digits}g}")))
        return f"{units.number_text(self.shown(si), digits)} {units.pretty(self.unit)}".rstrip()


@dataclass(frozen=True)
class Holder:
    """A limit or bound that holds the optimum.

    Attributes
    ----------
    text : str
        Which.
    worth : float
        What the objective gains for each `per` by which it is relaxed, in the units shown.
    per, unit : str
        The units of what is held and of the objective.
    """

    text: str
    worth: float
    per: str
    unit: str

    def __str__(self) -> str:
        step = f"1 {units.pretty(self.per)}" if self.per else "0.01"
        gain = f"{self.worth * (1.0 if self.per else 0.01):.3g} {units.pretty(self.unit)}".rstrip()
        return f"{self.text}: relaxing it by {step} gains {gain}"


@dataclass(frozen=True, eq=False)
class Optimum(Frozen, Result):
    """Where a vessel or train is best.

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
        By how much each limit is met, in SI.
    held_by : tuple of Holder
        The bounds and limits that hold it, with what each is worth.
    slopes : array, shape (1 + limits, free)
        Of the objective and of each limited expression by the free numbers, in SI.
    first_order : float
        What is left of the first-order conditions, relative to the slopes in them.
    integrations : int
        How many it took, those of slopes among them (of a train, runs of the whole).
    others : tuple of (float, str)
        Other optima that starts came to: the objective there in SI, and where.
    remark : str
    is_stopped : bool
        Whether it was interrupted; it is the best by then.
    confidence : float or None
        With which probability each limit is met; None where only the vessel's own numbers count.
    reached : tuple of float
        The share of draws that meet each limit, with a confidence.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> batch = mo.Batch(chem, {"A": "1 mol/L"}, T="300 K", time="5 min")
    >>> best = mo.optimize(batch, maximize="concentration of B", free={"time": ("1 min", "60 min")})
    >>> round(best.free[0].value / 60, 4), best.held_by
    (6.9315, ())
    """

    vessel: Vessel | Train
    run: Run | TrainRun
    objective: MetricExpression
    is_highest: bool
    value: float
    free: tuple[FreeNumber, ...]
    limits: tuple[Limit, ...]
    left: tuple[float, ...]
    held_by: tuple[Holder, ...]
    slopes: np.ndarray
    first_order: float
    integrations: int
    others: tuple[tuple[float, str], ...] = ()
    remark: str = ""
    is_stopped: bool = False
    confidence: float | None = None
    reached: tuple[float, ...] = ()

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self.vessel._display

    def table(self) -> pd.DataFrame:
        """One row a free number: value, bounds, and the slopes of the objective and of each limited expression by it
        (each in its unit, per unit of the number)."""
        import pandas as pd

        rows: list[dict[str, Any]] = []
        shown = [self.objective, *(limit.expression for limit in self.limits)]
        for j, number in enumerate(self.free):
            row: dict[str, Any] = {
                "free": number.name, "value": number.shown(number.value), "low": number.shown(number.low),
                "high": number.shown(number.high), "unit": number.unit,
            }  # fmt: skip
            factor = units.unit(number.unit).factor if number.unit else 1.0
            for i, expression in enumerate(shown):
                own = _factor(expression, self.display)
                along = " everywhere" if i and self.limits[i - 1].is_everywhere else ""
                row[f"slope of {expression}{along}"] = float(self.slopes[i, j]) * factor / own
            rows.append(row)
        return pd.DataFrame(rows)

    def facts(self) -> dict[str, str]:
        """The optimum, what holds it, and how sure it is."""
        way = "highest" if self.is_highest else "lowest"
        found = {f"{way} {self.objective}": self.objective.shown_text(self.display, self.value)}
        for number in self.free:
            ends = f"({number.text(number.low)} to {number.text(number.high)})"
            found[number.name] = f"{number.text(number.value)}  {ends}"
        for i, (limit, left) in enumerate(zip(self.limits, self.left, strict=True)):
            there = limit.expression.shown_text(self.display, limit.value + limit.sign * left, 5)
            sure = f", met by {100 * self.reached[i]:.1f} % of the draws" if self.reached else ""
            found[limit.text(self.display)] = f"it is {there}{sure}"
        for n, holder in enumerate(self.held_by):
            found["held by" if n == 0 else " " * n] = str(holder)
        if not self.held_by:
            found["held by"] = "nothing: no bound and no limit is active"
        if math.isfinite(self.first_order):
            found["first-order conditions"] = (
                f"hold to {self.first_order:.1e} of the slopes, after {self.integrations} integrations"
            )
        else:
            found["integrations"] = f"{self.integrations}"
        for n, (value, where) in enumerate(self.others):
            found["another optimum" if n == 0 else f"another optimum{' ' * n}"] = (
                f"{self.objective.shown_text(self.display, value)} at {where}"
            )
        return found

    def to_dict(self) -> dict[str, Any]:
        """Plain data: objective, free numbers, limits, what holds it, and the run at the optimum."""
        display = self.display
        return plain({  # type: ignore[no-any-return]
            "objective": str(self.objective), "sense": "maximize" if self.is_highest else "minimize",
            "value": self.objective.shown(display, self.value), "unit": self.objective.unit(display),
            "free": {n.name: {"value": n.shown(n.value), "low": n.shown(n.low), "high": n.shown(n.high),
                              "unit": n.unit} for n in self.free},
            "limits": [{"limit": limit.text(display), "left_si": left}
                       for limit, left in zip(self.limits, self.left, strict=True)],
            "held_by": [{"what": h.text, "worth": h.worth, "unit": h.unit, "per": h.per} for h in self.held_by],
            "first_order": self.first_order, "integrations": self.integrations, "remark": self.remark,
            "other_optima": [{"value": self.objective.shown(display, v), "where": w} for v, w in self.others],
            "confidence": self.confidence, "met_by_draws": list(self.reached),
            "interrupted": self.is_stopped, "run": self.run.to_dict(),
        })  # fmt: skip

    def __str__(self) -> str:
        facts = self.facts()
        width = max(len(name) for name in facts)
        lines = [f"optimum of {self.vessel.label}"]
        lines += [f"  {name:<{width}}  {text}" for name, text in facts.items()]
        lines += [f"  {self.remark}"] if self.remark else []
        return "\n".join([*lines, str(self.run)])

    def surroundings(self, points: int = 0) -> Surroundings:
        """Objective and limits over the free numbers around the optimum.

        One free number gives a line, two a grid; of more, each is varied by itself, the others as at the optimum.

        Parameters
        ----------
        points : int
            Along each number; 0 for 41 of a line, 17 of a grid.

        Returns
        -------
        Surroundings
        """
        return surroundings(self, points)


def _factor(expression: MetricExpression, display: Display) -> float:
    """What a number in the unit shown is in SI."""
    text = expression.unit(display)
    return float(units.unit(text).factor) if text else 1.0


@checked
def optimize(
    vessel: Vessel | Train, *, free: Mapping[str, Sequence[Any]], maximize: Metric | str | None = None,
    minimize: Metric | str | None = None, subject_to: Sequence[str] = (), n_starts: int = 3, seed: int = 0,
    confidence: float | None = None, spread: Mapping[str, Any] | None = None,
    progress: Callable[[int, float], None] | None = None,
) -> Optimum:  # fmt: skip
    """Find the conditions and sizes at which a metric of a vessel or train is best.

    By sequential quadratic programming on exact slopes (see `core.design.sequential`), from the vessel's own numbers
    and from others spread over their ranges (Latin hypercube); whole numbers by a search over them around it. What is
    returned meets the first-order conditions of W. Karush, H. W. Kuhn and A. W. Tucker to what is reported, with the
    worth of each bound and limit that holds it (its multiplier).

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
    free : mapping of condition to (low, high)
        Numbers by the names that `with_` takes ("T", "length", "tubes", "feed T", "[A]"; of a train "recycle",
        "coil.length"), each with its bounds.
    maximize, minimize : metric or str
        One of them: a metric, or an expression of several like "yield of B on A - 0.1*conversion of A". A number in it
        may have a unit in brackets: "3 [1/kg]*mass flow of B - 40 [1/h/m3]*volume".
    subject_to : sequence of str
        Limits like "conversion of A >= 0.9"; "temperature everywhere <= 240 degC" holds all along the run.
    n_starts : int
        From how many places the search starts; more find other optima.
    seed : int
        Of those places, and of draws.
    confidence : float, optional
        The probability with which each limit is to be met, like 0.95, given the covariance of the fitted constants and
        `spread`: limits are moved until that share of the draws meets them at the optimum.
    spread : mapping of condition to quantity, optional
        Standard deviations of other numbers that are uncertain: {"flow": "1 m3/h"}.
    progress : callable (runs, best value so far in SI), optional

    Returns
    -------
    Optimum

    Raises
    ------
    InputError
        With everything that is wrong with the question.
    UnreachableError
        If the limits cannot be met together: says which, and how near one comes.
    SolveError
        If the vessel cannot be run anywhere in these bounds.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> best = mo.optimize(tube, maximize="yield of B on A", free={"volume": ("1 L", "50 L")},
    ...                    subject_to=["conversion of A >= 0.8"])
    >>> round(best.free[0].value * 1e3, 3), [h.text for h in best.held_by]
    (8.047, ['conversion of A >= 0.8'])
    """
    if isinstance(n_starts, bool) or not isinstance(n_starts, int) or not 1 <= n_starts <= 1000:
        raise InputError(f"n_starts = {n_starts!r}", "optimize", "give a whole number from 1 to 1000")
    question = read_question(vessel, free, maximize, minimize, subject_to, confidence=confidence, spread=spread)
    return answer(question, n_starts, seed, progress)


def answer(
    question: Question, n_starts: int, seed: int, progress: Callable[[int, float], None] | None = None
) -> Optimum:  # fmt: skip
    """The answer to a question that has been read; see `optimize`."""
    question.require_known()
    found = _Search(question, n_starts, seed, progress).best()
    return (
        found if question.confidence is None or found.is_stopped else _with_confidence(question, found, seed, progress)
    )


def _with_confidence(
    question: Question, nominal: Optimum, seed: int, progress: Callable[[int, float], None] | None
) -> Optimum:  # fmt: skip
    """The optimum whose limits are met with a probability: each is moved by what its quantile misses, and the optimum
    sought again from the one before, until nothing moves any more."""
    assert question.confidence is not None
    moves, found, integrations = np.zeros(len(question.limits)), nominal, nominal.integrations
    before: tuple[np.ndarray, np.ndarray] | None = None
    for _ in range(_MOST_MOVES):
        left, reached = _quantiles(question, found, seed)
        size = np.array([max(abs(limit.value), 1e-12) for limit in question.limits])
        slack = np.array(found.left) > 1e-6 * size  # what does not hold the optimum may be met by more than needed
        miss = np.where(slack & (left >= 0), 0.0, left)
        if (np.abs(miss) <= _SURE * size).all():
            break
        slope = np.ones(len(moves))
        if before is not None:  # how much a quantile gains by a move, from the last one
            way = moves - before[0]
            slope = np.where(np.abs(way) > 0, (left - before[1]) / np.where(way == 0, 1.0, way), 1.0)
        before = moves, left
        moves = np.maximum(moves - miss / np.clip(slope, 0.2, 5.0), 0.0)
        limits = tuple(
            replace(limit, value=limit.value + limit.sign * move)
            for limit, move in zip(question.limits, moves, strict=True)
        )
        free = tuple(replace(n, value=held.value) for n, held in zip(question.free, found.free, strict=True))
        found = _Search(replace(question, limits=limits, free=free), 1, seed, progress).best()
        integrations += found.integrations
    left, reached = _quantiles(question, found, seed)
    names = [limit.text(question.vessel._display) for limit in found.limits]
    texts = dict(zip(names, (limit.text(question.vessel._display) for limit in question.limits), strict=True))
    held_by = tuple(
        replace(h, text=f"{texts[h.text]} with {question.confidence:.4g} confidence") if h.text in texts else h
        for h in found.held_by
    )
    own = tuple(float(a + b) for a, b in zip(found.left, moves, strict=True))
    remark = found.remark
    if (left < -10 * _SURE * np.array([max(abs(limit.value), 1e-12) for limit in question.limits])).any():
        remark = "note: a limit is not met with that confidence yet; look at the share of the draws"
    return replace(
        found, limits=question.limits, left=own, held_by=held_by, confidence=question.confidence, reached=reached,
        integrations=integrations, remark=remark,
    )  # fmt: skip


def _quantiles(question: Question, found: Optimum, seed: int) -> tuple[np.ndarray, tuple[float, ...]]:
    """By how much the quantile of each limit is met at an optimum in SI, and the share of draws that meet it."""
    assert question.confidence is not None
    uncertain = UncertainNumbers.of(found.vessel, question.spread)
    rows = uncertain.draws(draws_for(found.vessel), seed)
    left, reached = [], []
    for limit in question.limits:
        columns = [drawn_metric(found.vessel, uncertain, rows, m) for m in limit.expression.metrics]
        values = np.array([limit.expression.value(row) for row in np.column_stack(columns)])
        left.append(margin(values, limit.value, limit.sign, question.confidence))
        reached.append(share_reaching(values, limit.value, limit.sign))
    if not np.isfinite(left).all():
        message = "too many draws cannot be run at the optimum for a probability to be taken"
        raise SolveError(message, question.vessel.label, "ask for less confidence, or narrower bounds")
    return np.array(left), tuple(reached)


def read_question(
    vessel: Any, free: Any, maximize: Any, minimize: Any, subject_to: Any, counted: Display | None = None,
    in_unit: Callable[[Any, str], Any] | None = None, confidence: Any = None, spread: Any = None,
) -> Question:  # fmt: skip
    """The question of an optimization, read and checked; InputError with all that is wrong with it."""
    if not isinstance(vessel, Vessel | Train):
        raise InputError(f"{vessel!r} is not a vessel", "optimize", "give a vessel or a train")
    faults = Faults()
    if (maximize is None) == (minimize is None):
        faults.add("optimize", "what is to be best?", "give either maximize or minimize")
    objective: Any = None
    with faults.at("optimize, maximize" if maximize is not None else "optimize, minimize"):
        objective = read_expression(maximize if maximize is not None else minimize, vessel, counted)
    limits: list[Limit] = []
    for text in [subject_to] if isinstance(subject_to, str) else subject_to:
        with faults.at("optimize, subject_to"):
            limits.append(read_limit(text, vessel, in_unit))
    numbers: list[FreeNumber] = []
    if not isinstance(free, Mapping) or not free:
        faults.add(
            "optimize, free", "nothing is free", "give numbers with their bounds: {'T': ('150 degC', '190 degC')}"
        )
    else:
        for name, ends in free.items():
            with faults.at(f"optimize, free {name}"):
                numbers.append(_read_free(vessel, vessel._setting(name), ends))
    sizes = [n.name for n in numbers if isinstance(vessel, Vessel) and n.name in vessel._sizes]
    if len(sizes) > 1:
        faults.add("optimize, free", f"{' and '.join(sizes)} each specify its size", "free one of them")
    if isinstance(vessel, Vessel) and vessel._needs_size and not sizes:
        faults.add(vessel.label, "it has no size yet", f"give its {vessel._default_size()}, or free it")
    with faults.at():
        check_confidence(vessel, confidence, spread)
    if confidence is not None:
        for limit in limits:
            if limit.is_everywhere or limit.way == "=":
                text = limit.text(vessel._display)
                faults.add(
                    "optimize", f"'{text}' cannot be met with a confidence", "hold it at the outlet, by <= or >="
                )
        if not limits:
            faults.add("optimize", "a confidence is given, and no limit", "give subject_to, or take it out")
        for number in numbers:
            if number.name in (spread or {}):
                faults.add("optimize, spread", f"{number.name} is free", "it cannot be free and uncertain")
    faults.raise_any()
    return Question(
        vessel, objective, maximize is not None, tuple(limits), tuple(numbers), confidence, FrozenMapping(spread or {})
    )


def _read_free(vessel: Vessel | Train, setting: Setting, ends: Any) -> FreeNumber:
    """A free number with its bounds; it begins at the vessel's own value where that lies between them."""
    if isinstance(ends, str) or not isinstance(ends, Sequence) or len(ends) != 2:
        raise InputError(f"{ends!r} are no bounds", "", "give (low, high)")
    (low, form), (high, other) = (setting.read(end) for end in ends)
    if form != other:
        raise InputError(f"'{ends[0]}' and '{ends[1]}' are of different kinds", "", "give both in one form")
    if not low < high:
        raise InputError(f"{ends[0]} is not below {ends[1]}", "", "give (low, high)")
    is_whole = setting.name.rpartition(".")[2] == "tubes"
    own = setting.own if setting.form == form and low <= setting.own <= high else math.nan
    unit, portion = "", None
    if setting.name.startswith("["):
        contents = (vessel.first if isinstance(vessel, Train) else vessel)._contents()
        portion = read_portion(ends[0], contents.flowing)
        unit = (portion.value.unit or "") if portion.value is not None else ""
    elif not is_whole and form in units.SI_UNITS:
        unit = units.read(ends[0]).unit or vessel._display.unit(form)
    return FreeNumber(setting.name, form, unit, low, high, own, is_whole, portion)


@dataclass(frozen=True, eq=False)
class Question(Frozen):
    """What an optimization asks for, read and checked."""

    vessel: Vessel | Train
    objective: MetricExpression
    is_highest: bool
    limits: tuple[Limit, ...]
    free: tuple[FreeNumber, ...]
    confidence: float | None = None
    spread: Mapping[str, Any] = FrozenMapping()

    def require_known(self) -> None:
        """Raise InputError if constants still wait for a fit."""
        for one in self.vessel.vessels if isinstance(self.vessel, Train) else [self.vessel]:
            one._require_known()

    @cached_property
    def metrics(self) -> tuple[Metric, ...]:
        """All that is asked for at the end."""
        expressions = [self.objective, *(limit.expression for limit in self.limits if not limit.is_everywhere)]
        return tuple(dict.fromkeys(m for e in expressions for m in e.metrics))

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(number.name for number in self.free)

    def at(self, numbers: Sequence[float]) -> Vessel | Train:
        """The vessel with some free numbers in SI."""
        return self.vessel.with_({n.name: n.given(float(x)) for n, x in zip(self.free, numbers, strict=True)})

    def place(self, numbers: Sequence[float]) -> str:
        """Some free numbers in words."""
        return ", ".join(f"{n.name} = {n.text(float(x), 4)}" for n, x in zip(self.free, numbers, strict=True))


@dataclass(eq=False)
class _Point:
    """A place of the search: the vessel run there, with its objective and what is left of each limit."""

    question: Question
    numbers: np.ndarray
    run: Any
    value: float
    left: np.ndarray
    where: tuple[float, ...]
    """Along the run, of each limit that holds everywhere; nan of the others."""

    @cached_property
    def slopes(self) -> np.ndarray:
        """Of the objective and of what is left of each limit by the free numbers, shape (1 + limits, free)."""
        q = self.question
        names = [n.name for n in q.free]
        by_metric = dict(zip(q.metrics, self.run._slopes_of(q.metrics, names), strict=True))
        rows = [self._slope(q.objective, by_metric)]
        for limit, at in zip(q.limits, self.where, strict=True):
            if limit.is_everywhere:
                rows.append(limit.sign * self._slope_everywhere(limit, at))
            else:
                rows.append(limit.sign * self._slope(limit.expression, by_metric))
        return np.array(rows)

    def _slope(self, expression: MetricExpression, by_metric: Mapping[Metric, np.ndarray]) -> np.ndarray:
        own = expression.slopes([self.run.metric(m) for m in expression.metrics])
        return np.asarray(own @ np.array([by_metric[m] for m in expression.metrics]))

    def _slope_everywhere(self, limit: Limit, at: float) -> np.ndarray:
        metric = limit.expression.metrics[0]
        if not isinstance(self.run, TrainRun):
            return np.asarray(self.run._slopes_where(at, metric, self.question.names))
        found = []
        for j, number in enumerate(self.question.free):  # of a train by central differences
            away = np.zeros(len(self.numbers))
            away[j] = _DIFFERENCE * (number.high - number.low)
            ends = [self.question.at((self.numbers + sign * away).tolist()).outcome() for sign in (1, -1)]
            high, low = (float(one._extreme(metric, -limit.sign)) for one in ends)  # type: ignore[arg-type]
            found.append((high - low) / (2 * away[j]))
        return np.array(found)


class _Search:
    """Sequential quadratic programming from several starts, in numbers z that go from 0 to 1 between their bounds."""

    def __init__(
        self, question: Question, n_starts: int, seed: int, progress: Callable[[int, float], None] | None
    ) -> None:  # fmt: skip
        self.question, self.n_starts, self.seed, self.progress = question, n_starts, seed, progress
        self.sign = -1.0 if question.is_highest else 1.0
        self.low = np.array([n.low for n in question.free])
        self.high = np.array([n.high for n in question.free])
        self.is_whole = np.array([n.is_whole for n in question.free])
        self.is_log = (self.low > 0) & (self.high > _RATIO * self.low) & ~self.is_whole
        self.sizes = np.array([max(abs(limit.value), 1e-12) for limit in question.limits])
        self.seen: dict[bytes, _Point | None] = {}
        self.ends: list[_Point] = []
        self.first_error: SolveError | None = None

    def numbers(self, z: np.ndarray) -> np.ndarray:
        """Free numbers in SI."""
        with np.errstate(all="ignore"):
            powers = self.low * (self.high / self.low) ** z
        return np.asarray(np.where(self.is_log, powers, self.low + (self.high - self.low) * z))

    def unit_interval(self, numbers: np.ndarray) -> np.ndarray:
        """The opposite of `numbers`."""
        with np.errstate(all="ignore"):
            logs = np.log(numbers / self.low) / np.log(self.high / self.low)
        return np.asarray(np.where(self.is_log, logs, (numbers - self.low) / (self.high - self.low)))

    def widths(self, numbers: np.ndarray) -> np.ndarray:
        """d(number)/dz."""
        with np.errstate(all="ignore"):
            logs = numbers * np.log(self.high / self.low)
        return np.asarray(np.where(self.is_log, logs, self.high - self.low))

    def point(self, numbers: np.ndarray) -> _Point | None:
        """The vessel run with these numbers; None where it cannot be."""
        key = numbers.tobytes()
        if key not in self.seen:
            try:
                self.seen[key] = self._run(numbers)
            except SolveError as error:
                self.first_error, self.seen[key] = self.first_error or error, None
            if self.progress is not None:
                best = min((p for p in self.seen.values() if p is not None), key=self.rank, default=None)
                self.progress(len(self.seen), best.value if best is not None else math.nan)
        return self.seen[key]

    def _run(self, numbers: np.ndarray) -> _Point:
        question = self.question
        run: Any = question.at(numbers.tolist()).outcome()
        found = {m: run.metric(m) for m in question.metrics}
        value = question.objective.value([found[m] for m in question.objective.metrics])
        left, where = [], []
        for limit in question.limits:
            if limit.is_everywhere and isinstance(run, TrainRun):
                at, number = math.nan, run._extreme(limit.expression.metrics[0], -limit.sign)
            elif limit.is_everywhere:
                at, number = run._extreme(limit.expression.metrics[0], -limit.sign)
            else:
                at, number = math.nan, limit.expression.value([found[m] for m in limit.expression.metrics])
            left.append(limit.sign * (number - limit.value))
            where.append(at)
        if not (math.isfinite(value) and np.isfinite(left).all()):
            message = f"{question.objective} or a limit is not defined at {question.place(numbers.tolist())}"
            raise SolveError(message, question.vessel.label, "it divides by nothing there: choose other bounds")
        return _Point(question, numbers, run, value, np.array(left), tuple(where))

    def misses(self, point: _Point) -> np.ndarray:
        """By how much each limit is missed, relative to its size, shape (limits,)."""
        is_equal = np.array([limit.way == "=" for limit in self.question.limits], dtype=bool)
        left = point.left / self.sizes if len(self.sizes) else point.left
        return np.asarray(np.where(is_equal, np.abs(left), np.maximum(-left, 0.0)))

    def rank(self, point: _Point) -> tuple[float, float]:
        """The lower the better: first the limits, then the objective."""
        missed = float(self.misses(point).max(initial=0.0))
        return (missed if missed > _MET else 0.0), self.sign * point.value

    def best(self) -> Optimum:
        """The best of all starts."""
        is_stopped = False
        try:
            for z in self._starts():
                self._from(z)
        except KeyboardInterrupt:
            is_stopped = True
        found = [p for p in self.seen.values() if p is not None]
        if not found:
            faults = [*(self.first_error.faults if self.first_error is not None else ())]
            where = self.question.vessel.label
            message = "it could not be run anywhere within these bounds" if faults else "interrupted before a first run"
            raise SolveError((*faults, *SolveError(message, where, "choose other bounds").faults))
        best = min(found, key=self.rank)
        if self.rank(best)[0] > 0:
            raise self._unreachable(best)
        near = self.sign * best.value + _LIKE * max(abs(best.value), 1e-300)
        alike = [p for p in self.ends if self.rank(p)[0] == 0 and self.sign * p.value <= near]
        return self._optimum(min(alike, key=lambda p: _first_order(self, p)[1], default=best), is_stopped)

    def _starts(self) -> list[np.ndarray]:
        """Where to begin: the vessel's own numbers (or the middle), then places spread over the ranges."""
        own = np.array([n.value for n in self.question.free])
        first = np.where(np.isfinite(own), np.clip(self.unit_interval(own), 0.0, 1.0), 0.5)
        spread = qmc.LatinHypercube(len(own), seed=self.seed).random(self.n_starts)[1:]
        return [first, *(0.05 + 0.9 * spread)]

    def _from(self, z: np.ndarray) -> None:
        """Search from one start; the whole numbers by steps that are halved, the others anew for each of them."""
        if not self.is_whole.any():
            self._continuous(z)
            return
        whole = np.round(self.numbers(z))
        found: dict[bytes, tuple[tuple[float, float], np.ndarray]] = {}

        def at(counts: np.ndarray) -> tuple[float, float]:
            if counts.tobytes() not in found:
                begin = min(found.values(), key=lambda pair: pair[0])[1] if found else z
                end = self._continuous(np.where(self.is_whole, self.unit_interval(counts), begin))
                rank = (math.inf, math.inf) if end is None else self.rank(end)
                found[counts.tobytes()] = rank, begin if end is None else self.unit_interval(end.numbers)
            return found[counts.tobytes()][0]

        steps = np.where(self.is_whole, np.maximum((self.high - self.low) // 4, 1.0), 0.0)
        while steps.max() >= 1:
            has_moved = False
            for i, sign in itertools.product(np.flatnonzero(steps), (1.0, -1.0)):
                other = whole.copy()
                other[i] = np.clip(whole[i] + sign * steps[i], self.low[i], self.high[i])
                if at(other) < at(whole):
                    whole, has_moved = other, True
            if not has_moved:
                steps = steps // 2

    def _continuous(self, z: np.ndarray) -> _Point | None:
        """The best from one start with its whole numbers as they are."""
        moving = np.flatnonzero(~self.is_whole)
        if not len(moving):
            point = self.point(np.round(self.numbers(z)))
            self.ends += [point] if point is not None else []
            return point
        program = _Program(self, z, moving)
        end = program.solve()
        self.ends += [end] if end is not None else []
        return end

    def _unreachable(self, best: _Point) -> UnreachableError:
        """Which limits cannot be met together, and how near one comes."""
        question, texts = self.question, []
        display = question.vessel._display
        for limit, left, missed in zip(question.limits, best.left, self.misses(best), strict=True):
            if missed > _MET:
                there = limit.expression.shown_text(display, limit.value + limit.sign * left, 5)
                texts.append(f"{limit.text(display)} (it comes to {there})")
        others = len(question.limits) - len(texts)
        what = (
            f"{' and '.join(texts)} cannot be met within these bounds{', with the other limits met' if others else ''}"
        )
        what += f"; one comes nearest at {question.place(best.numbers.tolist())}"
        return UnreachableError(what, question.vessel.label, "widen the bounds, free another number, or ask for less")

    def _optimum(self, best: _Point, is_stopped: bool) -> Optimum:
        question = self.question
        held, first_order = _first_order(self, best)
        free = tuple(replace(n, value=float(x)) for n, x in zip(question.free, best.numbers, strict=True))
        slopes = best.slopes.copy()
        slopes[1:] *= np.array([limit.sign for limit in question.limits])[:, None]
        changes = np.abs(slopes) * (self.high - self.low)
        slopes[changes < 1e-9 * np.maximum(changes.max(axis=1, keepdims=True), abs(best.value))] = 0.0  # rounding
        remark = question.objective.counts(question.vessel._display)
        if first_order > _FIRST_ORDER and not is_stopped:
            remark = (
                "note: the first-order conditions hold only roughly: give it more starts, or look around it (sweep)"
            )
        return Optimum(
            best.run.vessel, best.run, question.objective, question.is_highest, best.value, free, question.limits,
            tuple(best.left.tolist()), held, slopes, first_order, self._count(), self._others(best), remark,
            is_stopped,
        )  # fmt: skip

    def _count(self) -> int:
        """Integrations so far: of runs, and of their slopes."""
        return len(self.seen) + sum("slopes" in vars(p) for p in self.seen.values() if p is not None)

    def _others(self, best: _Point) -> tuple[tuple[float, str], ...]:
        """Other optima that starts came to, the best of them first."""
        found: list[_Point] = [best]
        for end in sorted(self.ends, key=self.rank):
            z = self.unit_interval(end.numbers)
            is_new = all(np.max(np.abs(z - self.unit_interval(p.numbers))) > _SAME for p in found)
            is_same_whole = not self.is_whole.any() or np.array_equal(
                end.numbers[self.is_whole], best.numbers[self.is_whole]
            )
            if is_new and is_same_whole and self.rank(end)[0] == 0 and _first_order(self, end)[1] < 1e-3:
                found.append(end)
        return tuple((p.value, self.question.place(p.numbers.tolist())) for p in found[1:4])


class _Program:
    """One nonlinear program: some z move, the others stay."""

    def __init__(self, search: _Search, z: np.ndarray, moving: np.ndarray) -> None:
        self.search, self.z, self.moving = search, z.copy(), moving
        first = self._at(z[moving])
        self.scale = max(abs(first.value), 1e-12) if first is not None else 1.0

    def solve(self) -> _Point | None:
        """The best from here; None where it cannot be run here."""
        is_equal = np.array([limit.way == "=" for limit in self.search.question.limits], dtype=bool)
        end = SequentialProgram(self._values, self._slopes, is_equal).solve(self.z[self.moving])
        return self._at(end) if end is not None else None

    def _at(self, moved: np.ndarray) -> _Point | None:
        z = self.z.copy()
        z[self.moving] = moved
        numbers = self.search.numbers(z)
        return self.search.point(np.where(self.search.is_whole, np.round(numbers), numbers))

    def _values(self, moved: np.ndarray) -> tuple[float, np.ndarray] | None:
        point = self._at(moved)
        if point is None:
            return None
        return self.search.sign * point.value / self.scale, point.left / self.search.sizes

    def _slopes(self, moved: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Of the objective and of what is left of the limits by what moves."""
        point = self._at(moved)
        assert point is not None
        rows = (point.slopes * self.search.widths(point.numbers))[:, self.moving]
        return self.search.sign * rows[0] / self.scale, rows[1:] / self.search.sizes[:, None]


def _first_order(search: _Search, point: _Point) -> tuple[tuple[Holder, ...], float]:
    """The bounds and limits that hold a place, and what is left of the first-order conditions.

    Multipliers not below zero by non-negative least squares of the objective's slopes on those of what is active (C. L.
    Lawson, R. J. Hanson, Solving Least Squares Problems, 1974, chapter 23); what is left counts relative to the
    objective, over the whole ranges of the free numbers.
    """
    question, display = search.question, search.question.vessel._display
    widths = search.widths(point.numbers)
    z = search.unit_interval(point.numbers)
    moving = np.flatnonzero(~search.is_whole)
    slope = search.sign * point.slopes[0] * widths
    columns: list[np.ndarray] = []
    owners: list[tuple[str, int]] = []
    for i, limit in enumerate(question.limits):
        if abs(point.left[i]) <= 10 * _MET * search.sizes[i] or limit.way == "=":
            row = point.slopes[1 + i] * widths
            columns.append(row)
            owners.append(("limit", i))
            if limit.way == "=":
                columns.append(-row)
                owners.append(("limit", i))
    for j in moving:
        for kind, is_there, sign in (("low", z[j] <= _AT_BOUND, 1.0), ("high", z[j] >= 1 - _AT_BOUND, -1.0)):
            if is_there:
                columns.append(sign * np.eye(len(z))[j])
                owners.append((kind, int(j)))
    rest, multipliers = slope[moving], np.zeros(len(owners))
    if columns and len(moving):
        matrix = np.array(columns)[:, moving].T
        size = np.maximum(np.linalg.norm(matrix, axis=0), 1e-300)
        multipliers = nnls(matrix / size, slope[moving])[0] / size
        rest = slope[moving] - matrix @ multipliers
    seen = max((abs(p.value) for p in search.seen.values() if p is not None), default=0.0)
    total = max(abs(point.value), float(np.abs(slope).max(initial=0.0)), 1e-6 * seen, 1e-300)
    left = float(np.abs(rest).max(initial=0.0)) / total if len(moving) else math.nan
    held: dict[tuple[str, int], float] = {}
    for owner, number, column in zip(owners, multipliers.tolist(), columns, strict=True):
        if number * np.linalg.norm(column) > 1e-6 * total:
            held[owner] = number
    own, objective_unit = _factor(question.objective, display), question.objective.unit(display)
    found = []
    for (kind, i), number in held.items():
        if kind == "limit":
            expression = question.limits[i].expression
            worth = number * _factor(expression, display) / own
            found.append(Holder(question.limits[i].text(display), worth, expression.unit(display), objective_unit))
        else:
            free = question.free[i]
            factor = units.unit(free.unit).factor if free.unit else 1.0
            end = free.low if kind == "low" else free.high
            bound = f"{free.name} at its {'lower' if kind == 'low' else 'upper'} bound {free.text(end)}"
            found.append(Holder(bound, number / widths[i] * factor / own, free.unit, objective_unit))
    return tuple(found), left


@dataclass(frozen=True, eq=False)
class Surroundings(Frozen):
    """What lies around an optimum.

    Attributes
    ----------
    optimum : Optimum
    names : tuple of tuple of str
        The free numbers of each piece: one, or two.
    grids : tuple of tuple of arrays
        Their values in SI.
    values : tuple of arrays
        The objective in SI over each piece, shape (values of the first, of the second); nan where it has none.
    left : tuple of arrays
        The least of what is left of the limits above or below a value, relative to their sizes: below zero where one is
        not met; nan where it cannot be run.
    """

    optimum: Optimum
    names: tuple[tuple[str, ...], ...]
    grids: tuple[tuple[np.ndarray, ...], ...]
    values: tuple[np.ndarray, ...]
    left: tuple[np.ndarray, ...]


def surroundings(best: Optimum, points: int) -> Surroundings:
    """See `Optimum.surroundings`."""
    question = Question(best.vessel, best.objective, best.is_highest, best.limits, best.free)
    search = _Search(question, 1, 0, None)
    own = np.array([n.value for n in best.free])
    groups = [tuple(range(len(own)))] if len(own) <= 2 else [(i,) for i in range(len(own))]
    grids, values, left = [], [], []
    is_bound = np.array([limit.way != "=" for limit in best.limits], dtype=bool)
    for group in groups:
        own_grids = tuple(_grid(best.free[i], points or (41 if len(group) == 1 else 17)) for i in group)
        shape = tuple(len(g) for g in own_grids)
        found, least = np.full(shape, np.nan), np.full(shape, np.nan)
        for place in np.ndindex(*shape):
            numbers = own.copy()
            for i, axis, n in zip(group, own_grids, place, strict=True):
                numbers[i] = axis[n]
            point = search.point(numbers)
            if point is not None:
                found[place] = point.value
                least[place] = float((point.left / search.sizes)[is_bound].min(initial=1.0))
        grids.append(own_grids)
        values.append(found)
        left.append(least)
    names = tuple(tuple(best.free[i].name for i in group) for group in groups)
    return Surroundings(best, names, tuple(grids), tuple(values), tuple(left))


def _grid(number: FreeNumber, points: int) -> np.ndarray:
    """Values between the bounds of a number; the one at the optimum is among those of a line."""
    if number.is_whole:
        found = np.unique(np.round(np.linspace(number.low, number.high, points)))
    elif number.low > 0 and number.high > _RATIO * number.low:
        found = np.geomspace(number.low, number.high, points)
    else:
        found = np.linspace(number.low, number.high, points)
    return np.unique(np.append(found, number.value)) if points > 20 else found
