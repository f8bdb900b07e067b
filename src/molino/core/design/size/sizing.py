"""`size`: how long, how large, for a conversion, a yield or an outlet concentration."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from molino.core import units
from molino.core.arguments import checked
from molino.core.checks import Check, checked_fact, require_passed
from molino.core.contract.metrics import Metric, read_metric
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.design.confidence import SpreadSources, UncertainNumbers, check_confidence, draws_for, find_sources
from molino.core.design.size.size_search import SizeSearchResult, along_run, by_whole_runs
from molino.core.design.size.sizing_at_confidence import count_at_confidence, size_at_confidence
from molino.core.design.size.steady_sizing import along_steady_states
from molino.core.design.size.whole_numbers import least_number, with_count
from molino.core.design.stoichiometric_bounds import stoichiometric_bounds
from molino.core.errors import InputError, NotFoundError, UnreachableError, nearest
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame
from molino.core.safety.heat_safety import Safety, safety_lines, safety_of
from molino.core.statistics import half_width
from molino.core.trains.train import Train, read_plant
from molino.core.units import Display, Value

_MET = 1e-6
"""Largest deviation of the sized vessel's own run from the target, as a share of it, where the tolerances of the
integration do not allow a larger one."""
_ERRORS = 10.0
"""By how many times the error that those tolerances allow two runs may differ."""
_UNRESOLVED = 0.01
"""The largest share of the target by which they may differ: beyond it the tolerances do not resolve the target."""
_CLOSE = 1e-9
"""How near to a target, relative, a vessel may come without reaching it, and still approach it."""


@dataclass(frozen=True, eq=False)
class Sizing(Frozen, Result):
    """A vessel sized for a target.

    Attributes
    ----------
    vessel : Vessel or Train
        With its size.
    run : Run or TrainRun
        Of that vessel.
    vary, kind : str
        The size that was found, and its kind of quantity.
    value : float
        In SI.
    metric : Metric
    target : float
        In SI.
    standard_error : float or None
        Of the size in SI, from the covariance of the fitted constants; None without one.
    is_stable : bool
        Whether the steady state of a tank is stable.
    remark : str
        What there is to report about a steady state: whether it is stable, and whether the tank comes to it from its
        contents at t = 0; of a whole number, what one less would give.
    margin : float or None
        Of a whole number: by how much the metric with it passes the target, in SI.
    confidence : float or None
        With which probability it reaches the target; None where only its own numbers count.
    nominal : float or None
        The size in SI that is needed with the numbers as they stand, whatever is uncertain (the nominal size).
    reached : float
        The share of draws that reach the target with it; nan without a confidence.
    sources : SpreadSources or None
        Where the spread of the metric comes from.
    others : tuple of float
        Larger sizes at which the target is met, too, in SI: all up to a thousand times the size of a tank.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> found = mo.size(tube, "conversion of A", 0.9)
    >>> print(str(found).partition("\\n")[0])
    volume 11.51 L for conversion of A = 0.9
    """

    vessel: Vessel | Train
    run: RunResult
    vary: str
    kind: str
    value: float
    metric: Metric
    target: float
    standard_error: float | None
    is_stable: bool = True
    remark: str = ""
    margin: float | None = None
    confidence: float | None = None
    nominal: float | None = None
    reached: float = math.nan
    sources: SpreadSources | None = None
    others: tuple[float, ...] = ()

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The target, by a run of the sized vessel of its own, and the checks of that run."""
        if self.confidence is not None or self.margin is not None:
            return self.run.checks
        reached = self.run.metric(self.metric)
        size = max(abs(self.target), abs(reached), 1e-300)
        allowed = _ERRORS * self.run.error_of(self.metric) / size
        limit, method = max(_MET, min(allowed, _UNRESOLVED)), "the sized vessel by a run of its own"
        return (Check("target met", abs(reached - self.target) / size, limit, method), *self.run.checks)

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self.vessel.spec.display

    @cached_property
    def safety(self) -> Safety | None:
        """The heat safety of the sized vessel; None where nothing exothermic happens in it (see `heat_safety`)."""
        return safety_of(self.run)

    @property
    def interval(self) -> tuple[float, float] | None:
        """95 % interval of the size in SI (Student t), from the uncertainty of the fitted constants."""
        covariance = self.vessel.chemistry.covariance
        if self.standard_error is None or covariance is None or self.confidence is not None:
            return None
        half = half_width(self.standard_error, covariance.degrees_of_freedom)
        return max(self.value - half, 0.0), self.value + half

    def table(self) -> Table:
        """One row: target, what was found, its value with its interval, the residence time."""
        display, kind = self.display, self.kind
        row: dict[str, Any] = {
            "target": f"{self.metric} = {display.text(self.target, self.metric.kind)}",
            "found": self.vary.replace("_", " "),
            "value": float(display.number(self.value, kind)),
        }
        if self.margin is not None:
            row["margin"] = float(display.difference(self.margin, self.metric.kind))
        if self.interval is not None:
            low, high = (float(display.number(bound, kind)) for bound in self.interval)
            row |= {"95 % low": low, "95 % high": high}
        if self.confidence is not None:
            row |= {"confidence": self.confidence, "nominal": self._number(self.nominal)}
        time = float(display.number(self.run.residence_time_si, "time"))
        return frame([{**row, "unit": display.unit(kind), display.heading("residence time", "time"): time}])

    def to_dict(self) -> dict[str, Any]:
        """Plain data: target, size with its interval, stability, and the run of the sized vessel."""
        display, kind = self.display, self.kind
        interval = None if self.interval is None else [float(display.number(bound, kind)) for bound in self.interval]
        return {
            "metric": str(self.metric),
            "target": float(display.number(self.target, self.metric.kind)),
            "vary": self.vary,
            **entry(display, self.value, kind),
            "interval_95": interval,
            "confidence": self.confidence,
            "nominal": None if self.nominal is None else self._number(self.nominal),
            "reached_by_draws": None if self.confidence is None else self.reached,
            "sources": None if self.sources is None else self.sources.to_dict()["sources"],
            "margin": None if self.margin is None else float(display.difference(self.margin, self.metric.kind)),
            "stable": self.is_stable,
            "remark": self.remark,
            "other_sizes": [float(display.number(other, kind)) for other in self.others],
            "checks": [check.to_dict() for check in self.checks],
            "heat_safety": None if self.safety is None else self.safety.to_dict(),
            "run": self.run.to_dict(),
        }

    def _decided(self) -> tuple[str, str]:
        """What was decided, and its kind of quantity."""
        return f"{self.vary.replace('_', ' ')} of {self.vessel.label}", self.kind

    def slopes_by_constants(self, names: Sequence[str]) -> np.ndarray:
        """Exact slopes of the size by constants: -(dm/dk) / (dm/dV), of its nominal value."""
        run: Any = self.run
        if self.confidence is not None and self.nominal is not None:
            nominal = self.vessel.with_({self.vary: _shown(self.display, self.nominal, self.kind)})
            run = nominal.run()
        if self.margin is not None:
            message = f"the size is a whole number of {self.vary}, which has no slopes"
            raise InputError(message, "next experiment", "size its length or volume, and narrow that")
        by_size = float(run.slopes((self.metric,), [self.vary])[0, 0])
        return np.asarray(-run.constant_slopes(self.metric, names) / by_size)

    def _number(self, si: float | None) -> float:
        return math.nan if si is None else float(self.display.number(si, self.kind))

    @property
    def _goal(self) -> str:
        """What it is large enough for, in words."""
        sure = f" with {self.confidence:.4g} confidence" if self.confidence is not None else ""
        return f"{self.metric} = {self.display.text(self.target, self.metric.kind)}{sure}"

    def facts(self) -> dict[str, str]:
        """The size, its interval and where its spread comes from, by name, with units."""
        display, kind = self.display, self.kind
        found = {self.vary.replace("_", " "): display.text(self.value, kind)}
        if self.interval is not None:
            low, high = (display.text(bound, kind) for bound in self.interval)
            found["95 % interval"] = f"{low} to {high} (from the fit of the constants)"
        if self.confidence is not None and self.nominal is not None:
            found["nominal size"] = display.text(self.nominal, kind)
            found["draws that reach it"] = f"{100 * self.reached:.1f} % of {draws_for(self.vessel)}"
        if self.others:
            found["the target is also met at"] = ", ".join(display.text(other, kind) for other in self.others)
        if self.sources is not None:
            found |= self.sources.facts()
        return found | checked_fact(self.checks[: len(self.checks) - len(self.run.checks)])

    def answer(self) -> tuple[str, str]:
        """Which size, and the size with its interval."""
        (name, size), *others = self.facts().items()
        more = "".join(f"; {what} {text}" for what, text in others if what in ("95 % interval", "nominal size"))
        return f"What {name} does {self.vessel.label} need for {self._goal}?", size + more

    def __str__(self) -> str:
        (name, size), *others = self.facts().items()
        lines = [f"{name} {size} for {self._goal}", *(f"  {name:<22} {text}" for name, text in others)]
        lines += [f"  {self.remark}"] if self.remark else []
        return "\n".join([*lines, str(self.run), *safety_lines(self.safety)])


@checked
def size(
    vessel: Vessel | Train,
    metric: Metric | str,
    target: Any,
    vary: str | None = None,
    *,
    confidence: float | None = None,
    spread: Mapping[str, Any] | None = None,
    seed: int = 0,
    progress: Callable[[str], None] | None = None,
) -> Sizing:
    """Find the smallest size of a vessel that reaches a target.

    The time of a batch and the length or volume of a tube are found by following one integration to where the metric
    passes the target, or turns back; the volume of a tank along the curve of its steady states, from nothing through
    its folds. What reaches back from the end (a counter-current coolant, a recycle) is sized by whole runs.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
        Its own size, if it has one, does not matter.
    metric : Metric or str
        mo.conversion("A"), or its text "conversion of A".
    target : float, str or quantity
        The value to reach: a number, or a concentration.
    vary : str, optional
        'time' (batch); 'volume', 'space_time' or 'catalyst_mass' (tank); 'length', too (tube); 'NAME.length' and so on
        of a vessel in a train by its name, or its 'recycle'. Whole numbers: 'tubes' (of tubes given by diameter and
        length), or 'tanks_in_series' (equal tanks, each as large as the one given, which come back as a train).
    confidence : float, optional
        The probability with which the target is to be reached, like 0.95, given the covariance of the fitted constants
        and `spread`: the least size with which that share of 1024 draws reaches it (of 256 where vessels are run one by
        one: trains, vessels in stages).
    spread : mapping of condition to quantity, optional
        Standard deviations of other numbers that are uncertain, by the names that `with_` takes: {"flow": "1 m3/h"};
        besides those that numbers of the vessel were given with (flow="12 +- 1 m3/h").
    seed : int
        Of the draws.
    progress : callable (text), optional
        Called as draws are computed.

    Returns
    -------
    Sizing

    Raises
    ------
    InputError
        If the question cannot be read.
    UnreachableError
        If the target lies beyond what the vessel can do: the best value, and the certificate that proves it.
    NotFoundError
        If the search ended without a size and without such a certificate.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> found = mo.size(tube, "conversion of A", 0.9)
    >>> round(found.value * 1e3, 3)
    11.513
    """
    metric = read_metric(metric)
    wanted = units.read(target, metric.kind, f"{vessel.label}, target").si
    vary = check_size(vessel, metric, vary)
    check_confidence(vessel, confidence, spread, (vary,))
    plain = _plain_size(vessel, metric, wanted, vary)
    return plain if confidence is None else _with_confidence(vessel, plain, confidence, spread, seed, progress)


def _with_confidence(
    vessel: Vessel | Train,
    plain: Sizing,
    confidence: float,
    spread: Mapping[str, Any] | None,
    seed: int,
    progress: Callable[[str], None] | None,
) -> Sizing:
    """The size that reaches its target with a probability, from the one that reaches it as its numbers are."""
    is_count = isinstance(vessel, Vessel) and plain.vary in vessel.spec.whole_numbers
    display, kind, metric, wanted = plain.display, plain.kind, plain.metric, plain.target
    uncertain = UncertainNumbers.of(vessel if is_count else plain.vessel, spread)
    if is_count:
        assert isinstance(vessel, Vessel)
        base, sign = vessel, 1.0 if (plain.margin or 0.0) >= 0 else -1.0
        found = count_at_confidence(
            lambda n: with_count(base, plain.vary, int(n)),
            int(plain.value),
            vessel.label,
            uncertain,
            metric,
            wanted,
            sign,
            confidence,
            seed,
            progress,
        )
    else:
        found = size_at_confidence(
            lambda s: plain.vessel.with_({plain.vary: _shown(display, s, kind) if kind != "number" else s}),
            plain.value,
            plain.run,
            plain.vary,
            uncertain,
            metric,
            wanted,
            confidence,
            seed,
            lambda s: f"{plain.vary.replace('_', ' ')} {display.text(s, kind)}",
            progress,
        )
    run = found.vessel.run()
    sources = (
        None
        if not isinstance(found.vessel, Vessel) and is_count
        else find_sources(found.vessel, metric, uncertain, seed)
    )
    return replace(
        plain,
        vessel=found.vessel,
        run=run,
        value=found.value,
        confidence=float(confidence),
        nominal=plain.value,
        reached=found.reached,
        sources=sources,
        remark="" if is_count else plain.remark,
        margin=run.metric(metric) - wanted if is_count else None,
    )


def _plain_size(vessel: Vessel | Train, metric: Metric, wanted: float, vary: str) -> Sizing:
    """The size that reaches a target with all numbers as they are."""
    if not isinstance(vessel, Vessel):
        return _size_train(vessel, metric, wanted, vary)
    vessel.spec.require_known()
    if vary in vessel.spec.whole_numbers:
        return _size_whole(vessel, metric, wanted, vary)
    searches: dict[str, Callable[[Vessel, Metric, float], SizeSearchResult]]
    searches = {"steady": along_steady_states, "whole runs": by_whole_runs, "run": along_run}
    answer = searches[vessel.spec.sizing_route](vessel, metric, wanted)
    if answer.passed is None:
        answer.best_at = vessel.spec.size_at(vary, answer.best_at)
        raise _unreachable(vessel, metric, wanted, answer, vary, vessel.spec.sizes[vary])
    value = vessel.spec.size_at(vary, answer.passed)
    sized = vessel.with_({vary: _shown(vessel.spec.display, value, vessel.spec.sizes[vary])})
    run = answer.run(sized) if answer.run is not None else sized.run()
    error = run.standard_error(metric)
    if error is not None:
        slope = run.sensitivity(metric, [vary])[vary]
        error = error / abs(slope) if slope else np.inf
    others = tuple(vessel.spec.size_at(vary, other) for other in answer.others)
    return _verified(
        Sizing(
            sized,
            run,
            vary,
            vessel.spec.sizes[vary],
            value,
            metric,
            wanted,
            error,
            answer.is_stable,
            answer.remark,
            others=others,
        )
    )


def _verified(sizing: Sizing) -> Sizing:
    """The sizing, if it passes its checks; SolveError with the numbers of those that fail."""
    advice = "give another target or start, and report it: the search and the run of its result disagree"
    is_failed = not all(check.is_passed for check in sizing.checks)
    error = sizing.run.error_of(sizing.metric) if is_failed else 0.0
    if error > _UNRESOLVED * abs(sizing.target):
        advice = (
            f"ask for more: the tolerances of the integration allow an error of {units.number_text(error, 2)} in SI"
        )
    require_passed(sizing.checks, f"{sizing.vessel.label}, {sizing.vary}", advice)
    return sizing


def check_size(vessel: Vessel | Train, metric: Metric, vary: str | None) -> str:
    """The size that is sought, by its name; InputError where the vessel has no such size or metric."""
    vessel = read_plant(vessel, "size")
    vessel.spec.expression(metric)
    if not isinstance(vessel, Vessel):
        sizes = _train_sizes(vessel)
        if vary not in sizes:
            message = "which vessel of the train?" if vary is None else f"'{vary}' of the train cannot be varied"
            raise InputError(message, vessel.label, nearest(vary or "", sizes, "name its vessels"))
        return vary
    if not vessel.spec.sizes:
        advice = "sweep a condition, or size a tank or tube on the same feed"
        raise InputError(f"a vessel at {vessel.noun} has no size", vessel.label, advice)
    vary, counts = vary or vessel.spec.default_size(), vessel.spec.whole_numbers
    if vary not in (*vessel.spec.sizes, *counts):
        known = [*vessel.spec.sizes, *counts]
        raise InputError(f"'{vary}' of a {vessel.noun} cannot be varied", vessel.label, nearest(vary, known))
    if vary not in counts:
        vessel.spec.size_at(vary, 1.0)
    elif vessel.spec.needs_size:
        message = f"it has no size yet, and the number of {vary.replace('_', ' ')} is sought"
        raise InputError(message, vessel.label, f"give its {vessel.spec.default_size()}")
    return vary


def _size_whole(vessel: Vessel, metric: Metric, wanted: float, vary: str) -> Sizing:
    """The least whole number that reaches a target, with what one less would give."""
    answer = least_number(vessel, metric, wanted, vary)
    if answer.number is None:
        raise _unreachable(vessel, metric, wanted, answer.search, vary, "number")
    display, kind = vessel.spec.display, metric.kind
    remark = f"{answer.number} give {metric} {display.text(answer.value, kind, 6)}"
    if math.isfinite(answer.before):
        remark += f"; {answer.number - 1} give {display.text(answer.before, kind, 6)}"
    return Sizing(
        answer.vessel,
        answer.run,
        vary,
        "number",
        float(answer.number),
        metric,
        wanted,
        None,
        remark=remark,
        margin=answer.value - wanted,
    )


def _train_sizes(train: Train) -> dict[str, str]:
    """The sizes of the vessels of a train by name, and its recycle, each with its kind."""
    return {f"{v.name}.{s}": kind for v in train.vessels if v.name for s, kind in v.spec.sizes.items()} | {
        "recycle": "number"
    }


def _shown(display: Display, value: float, kind: str) -> Value:
    return Value(value, None if display.unitless else display.unit(kind))


def _size_train(train: Train, metric: Metric, wanted: float, vary: str) -> Sizing:
    """A vessel of a train by its name, or its recycle."""
    for vessel in train.vessels:
        vessel.spec.require_known()
    kind = _train_sizes(train)[vary]
    answer = by_whole_runs(train, metric, wanted, vary)
    if answer.passed is None:
        raise _unreachable(train, metric, wanted, answer, vary, kind)
    value = answer.passed
    sized = train.with_({vary: _shown(train.spec.display, value, kind) if kind != "number" else value})
    run = sized.run()
    error = run.standard_error(metric)
    if error is not None:
        slope = run.sensitivity(metric, [vary])[vary]
        error = error / abs(slope) if slope else np.inf
    return _verified(Sizing(sized, run, vary, kind, value, metric, wanted, error))


def _unreachable(
    vessel: Vessel | Train, metric: Metric, target: float, answer: SizeSearchResult, vary: str, kind: str
) -> UnreachableError | NotFoundError:
    """The error of a search that found no size: with its certificate, or with the list of searches made."""
    display = vessel.spec.display
    wanted = f"{metric} = {display.text(target, metric.kind, 12)}"
    first, best = answer.first, answer.best
    place = f"{vary.replace('_', ' ')} {display.text(answer.best_at, kind)}"
    if answer.is_there:
        message = f"{metric} is {first:.4g} at the inlet already"
        return UnreachableError(message, vessel.label, "ask for more", first, "the metric of the feed")
    if not answer.certificate and isinstance(vessel, Vessel):
        low, high = stoichiometric_bounds(vessel, metric)
        if not low - 1e-9 * abs(low) <= target <= high + 1e-9 * abs(high):
            bound = low if target < low else high
            answer.certificate = f"stoichiometry allows no value beyond {display.text(bound, metric.kind, 6)}"
    if not answer.certificate:
        seen = "" if best is None else f"; the best value seen is {display.text(best, metric.kind, 6)} at {place}"
        message = f"no {vary.replace('_', ' ')} was found for {wanted}{seen}"
        message += f". Tried: {answer.tried or answer.limit or 'runs of growing size'}; that proves nothing"
        return NotFoundError(
            message,
            vessel.label,
            answer.advice or "ask for less, or sweep the size and look",
            math.nan if best is None else best,
        )
    if best is None or not answer.has_changed:
        advice = "check that the feed holds what reacts"
        message = f"{wanted} is out of reach: nothing reacts in it"
        return UnreachableError(message, vessel.label, advice, first, answer.certificate)
    end = best if answer.asymptote is None else answer.asymptote
    if abs(end - target) < _CLOSE * max(abs(target), abs(first)) and not answer.limit:
        message = f"{wanted} is only approached, never reached, however large"
        return UnreachableError(message, vessel.label, "ask for a little less", best, answer.certificate)
    word = "the least" if target < first else "the most"
    best = best if answer.turned or answer.limit else end
    message = f"{wanted} is out of reach: {word} is {display.text(best, metric.kind, 6)}"
    if answer.turned and best == first:
        message += ", at the inlet, and from there it only goes the other way"
        advice = "change the feed, or ask for a change in the other direction"
    elif answer.turned:
        message += f", at {place}; after that it turns back, as what is formed reacts on"
        advice = "ask for less, or change temperature or feed so that the further reaction is slower"
    elif answer.limit:
        message += f", at {place}: {answer.limit}"
        advice = answer.advice
    else:
        reversible = [str(r.name) for r in vessel.chemistry.reactions if r.equation.reversible]
        if reversible:
            message += f", however large: limited by equilibrium of {', '.join(reversible)}"
            advice = "change the temperature or the feed so that the equilibrium lies further, or ask for less"
        else:
            message += ", however large: a reactant is exhausted"
            advice = "ask for less, or feed more of what runs out first"
    return UnreachableError(f"{message} ({answer.certificate})", vessel.label, advice, best, answer.certificate)
