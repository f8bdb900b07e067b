"""`size`: the size of a vessel for a conversion, a yield or an outlet concentration."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from molino.core import units
from molino.core.annotations import ByName
from molino.core.arguments import checked
from molino.core.checks import require_passed
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.vessel import Vessel
from molino.core.design.confidence import UncertainNumbers, check_confidence, find_sources
from molino.core.design.size.size_result import UNRESOLVED, Sizing, shown
from molino.core.design.size.size_search import SizeSearchResult, along_run, by_whole_runs
from molino.core.design.size.sizing_at_confidence import count_at_confidence, size_at_confidence
from molino.core.design.size.steady_sizing import along_steady_states
from molino.core.design.size.whole_numbers import least_number, with_count
from molino.core.design.stoichiometric_bounds import stoichiometric_bounds
from molino.core.errors import InputError, NotFoundError, UnreachableError, nearest
from molino.core.parallel import Workers, using
from molino.core.trains.train import Train, read_plant
from molino.core.units import QuantityLike

_CLOSE = 1e-9
"""Relative distance to a target within which a vessel that does not reach it approaches it."""


@checked
def size(
    vessel: Vessel | Train,
    metric: Metric | str,
    target: QuantityLike,
    free: str | None = None,
    *,
    confidence: float | None = None,
    spread: ByName | None = None,
    seed: int = 0,
    workers: Workers = None,
    progress: Callable[[str], None] | None = None,
) -> Sizing:
    """Find the smallest size of a vessel that reaches a target.

    The time of a batch and the length or volume of a tube are located on one integration, where the metric crosses the
    target or has an extremum; the volume of a tank on the curve of its steady states, through the folds. Vessels with a
    counter-current coolant or a recycle are sized by whole runs.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
        Its own size, if any, is ignored.
    metric : Metric or str
        mo.results.conversion("A"), or its text "conversion of A".
    target : float, str or quantity
        The value to reach.
    free : str, optional
        'time' (batch); 'volume', 'space_time' or 'catalyst_mass' (tank); also 'length' (tube); 'NAME.length' etc. of a
        vessel in a train, or its 'recycle'. Whole numbers: 'tubes', or 'tanks_in_series' (the result is a train).
    confidence : float, optional
        The probability of reaching the target, like 0.95, given the covariance of the fitted constants and `spread`:
        the least size with which this share of 1024 draws reaches it (256 for trains and vessels with events).
    spread, seed : mapping of condition to quantity, and int, optional
        Standard deviations of other uncertain conditions, {"flow": "1 m3/h"}; that of the draws.
    workers, progress : int, "all", Executor or Client, and callable (text), optional

    Returns
    -------
    Sizing

    Raises
    ------
    UnreachableError, NotFoundError
        If the target cannot be reached, with a certificate; if the search ended without a size or a certificate.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"))
    >>> round(mo.size(tube, "conversion of A", 0.9).value * 1e3, 3)
    11.513
    """
    metric = read_metric(metric)
    wanted = units.read(target, metric.kind, f"{vessel.label}, target").si
    free = check_size(vessel, metric, free)
    check_confidence(vessel, confidence, spread, (free,))
    plain = _plain_size(vessel, metric, wanted, free)
    with using(workers):
        return plain if confidence is None else _with_confidence(vessel, plain, confidence, spread, seed, progress)


def _with_confidence(
    vessel: Vessel | Train,
    plain: Sizing,
    confidence: float,
    spread: ByName | None,
    seed: int,
    progress: Callable[[str], None] | None,
) -> Sizing:
    """The size that reaches its target with a probability, beginning at the nominal size."""
    is_count = isinstance(vessel, Vessel) and plain.free in vessel.spec.whole_numbers
    display, kind, metric, wanted = plain.display, plain.kind, plain.metric, plain.target
    uncertain = UncertainNumbers.of(vessel if is_count else plain.vessel, spread)
    if is_count:
        assert isinstance(vessel, Vessel)
        base, sign = vessel, 1.0 if (plain.margin or 0.0) >= 0 else -1.0
        found = count_at_confidence(
            lambda n: with_count(base, plain.free, int(n)),
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
            lambda s: plain.vessel.with_({plain.free: shown(display, s, kind) if kind != "number" else s}),
            plain.value,
            plain.run,
            plain.free,
            uncertain,
            metric,
            wanted,
            confidence,
            seed,
            lambda s: f"{plain.free.replace('_', ' ')} {display.text(s, kind)}",
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


def _plain_size(vessel: Vessel | Train, metric: Metric, wanted: float, free: str) -> Sizing:
    """The size that reaches a target with the nominal numbers."""
    if not isinstance(vessel, Vessel):
        return _size_train(vessel, metric, wanted, free)
    vessel.spec.require_known()
    if free in vessel.spec.whole_numbers:
        return _size_whole(vessel, metric, wanted, free)
    searches: dict[str, Callable[[Vessel, Metric, float], SizeSearchResult]]
    searches = {"steady": along_steady_states, "whole runs": by_whole_runs, "run": along_run}
    answer = searches[vessel.spec.sizing_route](vessel, metric, wanted)
    if answer.passed is None:
        answer.best_at = vessel.spec.size_at(free, answer.best_at)
        raise _unreachable(vessel, metric, wanted, answer, free, vessel.spec.sizes[free])
    value = vessel.spec.size_at(free, answer.passed)
    sized = vessel.with_({free: shown(vessel.spec.display, value, vessel.spec.sizes[free])})
    run = answer.run(sized) if answer.run is not None else sized.run()
    error = run.standard_error(metric)
    if error is not None:
        slope = run.sensitivity(metric, [free])[free]
        error = error / abs(slope) if slope else np.inf
    others = tuple(vessel.spec.size_at(free, other) for other in answer.others)
    return _verified(
        Sizing(
            sized,
            run,
            free,
            vessel.spec.sizes[free],
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
    """The sizing, if it passes its checks; SolveError with the values of those that fail."""
    advice = "give another target or start, and report it: the search and the run of its result disagree"
    is_failed = not all(check.is_passed for check in sizing.checks)
    error = sizing.run.error_of(sizing.metric) if is_failed else 0.0
    if error > UNRESOLVED * abs(sizing.target):
        advice = (
            f"ask for more: the tolerances of the integration allow an error of {units.number_text(error, 2)} in SI"
        )
    require_passed(sizing.checks, f"{sizing.vessel.label}, {sizing.free}", advice)
    return sizing


def check_size(vessel: Vessel | Train, metric: Metric, free: str | None) -> str:
    """The name of the size; InputError if the vessel has no such size or metric."""
    vessel = read_plant(vessel, "size")
    vessel.spec.expression(metric)
    if not isinstance(vessel, Vessel):
        sizes = _train_sizes(vessel)
        if free not in sizes:
            message = "which vessel of the train?" if free is None else f"'{free}' of the train cannot be varied"
            raise InputError(message, vessel.label, nearest(free or "", sizes, "name its vessels"))
        return free
    if not vessel.spec.sizes:
        advice = "sweep a condition, or size a tank or tube on the same feed"
        raise InputError(f"a vessel at {vessel.noun} has no size", vessel.label, advice)
    free, counts = free or vessel.spec.default_size(), vessel.spec.whole_numbers
    if free not in (*vessel.spec.sizes, *counts):
        known = [*vessel.spec.sizes, *counts]
        raise InputError(f"'{free}' of a {vessel.noun} cannot be varied", vessel.label, nearest(free, known))
    if free not in counts:
        vessel.spec.size_at(free, 1.0)
    elif vessel.spec.needs_size:
        message = f"it has no size yet, and the number of {free.replace('_', ' ')} is free"
        raise InputError(message, vessel.label, f"give its {vessel.spec.default_size()}")
    return free


def _size_whole(vessel: Vessel, metric: Metric, wanted: float, free: str) -> Sizing:
    """The least whole number that reaches a target, with the metric of one less."""
    answer = least_number(vessel, metric, wanted, free)
    if answer.number is None:
        raise _unreachable(vessel, metric, wanted, answer.search, free, "number")
    display, kind = vessel.spec.display, metric.kind
    remark = f"{answer.number} give {metric} {display.text(answer.value, kind, 6)}"
    if math.isfinite(answer.before):
        remark += f"; {answer.number - 1} give {display.text(answer.before, kind, 6)}"
    return Sizing(
        answer.vessel,
        answer.run,
        free,
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


def _size_train(train: Train, metric: Metric, wanted: float, free: str) -> Sizing:
    """A vessel of a train by its name, or its recycle."""
    for vessel in train.vessels:
        vessel.spec.require_known()
    kind = _train_sizes(train)[free]
    answer = by_whole_runs(train, metric, wanted, free)
    if answer.passed is None:
        raise _unreachable(train, metric, wanted, answer, free, kind)
    value = answer.passed
    sized = train.with_({free: shown(train.spec.display, value, kind) if kind != "number" else value})
    run = sized.run()
    error = run.standard_error(metric)
    if error is not None:
        slope = run.sensitivity(metric, [free])[free]
        error = error / abs(slope) if slope else np.inf
    return _verified(Sizing(sized, run, free, kind, value, metric, wanted, error))


def _unreachable(
    vessel: Vessel | Train, metric: Metric, target: float, answer: SizeSearchResult, free: str, kind: str
) -> UnreachableError | NotFoundError:
    """The error of a search that found no size: with its certificate, or with the list of searches made."""
    display = vessel.spec.display
    wanted = f"{metric} = {display.text(target, metric.kind, 12)}"
    first, best = answer.first, answer.best
    place = f"{free.replace('_', ' ')} {display.text(answer.best_at, kind)}"
    if answer.is_there:
        message = f"{metric} is {first:.4g} at the inlet already"
        return UnreachableError(message, vessel.label, "ask for more", first, "the metric of the feed")
    if not answer.certificate and isinstance(vessel, Vessel):
        low, high = stoichiometric_bounds(vessel, metric)
        if not low - 1e-9 * abs(low) <= target <= high + 1e-9 * abs(high):
            bound = low if target < low else high
            answer.certificate = f"stoichiometry limits it to {display.text(bound, metric.kind, 6)}"
    if not answer.certificate:
        seen = "" if best is None else f"; the best value seen is {display.text(best, metric.kind, 6)} at {place}"
        message = f"no {free.replace('_', ' ')} was found for {wanted}{seen}"
        message += f". Tried: {answer.tried or answer.limit or 'runs of growing size'}; that proves nothing"
        return NotFoundError(
            message,
            vessel.label,
            answer.advice or "ask for less, or sweep the size",
            math.nan if best is None else best,
        )
    if best is None or not answer.has_changed:
        advice = "check that the feed contains the reactants"
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
        message += ", at the inlet, and it changes only away from the target"
        advice = "change the feed, or ask for a change in the other direction"
    elif answer.turned:
        message += f", at {place}; beyond it the value declines, as the product reacts further"
        advice = "ask for less, or change temperature or feed so that the further reaction is slower"
    elif answer.limit:
        message += f", at {place}: {answer.limit}"
        advice = answer.advice
    else:
        reversible = [str(r.name) for r in vessel.chemistry.reactions if r.equation.reversible]
        if reversible:
            message += f", however large: limited by equilibrium of {', '.join(reversible)}"
            advice = "change the temperature or the feed to shift the equilibrium, or ask for less"
        else:
            message += ", however large: a reactant is exhausted"
            advice = "ask for less, or feed more of the limiting reactant"
    return UnreachableError(f"{message} ({answer.certificate})", vessel.label, advice, best, answer.certificate)
