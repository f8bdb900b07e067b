"""`optimize`: the conditions and sizes at which a metric is best, and the active constraints."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from molino.core.annotations import ByName
from molino.core.arguments import check_starts, checked
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.confidence import UncertainNumbers, drawn_metric, draws_for, margin, share_reaching
from molino.core.design.optimize.free_profile import FreeProfile
from molino.core.design.optimize.optimum import Optimum
from molino.core.design.optimize.optimum_search import Search
from molino.core.design.optimize.problem import Question, read_question
from molino.core.design.profiles.profile_optimum import answer_with_profiles
from molino.core.errors import SolveError
from molino.core.parallel import Workers, using
from molino.core.trains.train import Train

_QUANTILE, _MOST_MOVES = 1e-5, 12
"""Relative tolerance of the quantile of a limit, and the largest number of moves of limits."""


@checked
def optimize(
    vessel: Vessel | Train,
    *,
    free: Mapping[str, Sequence[object] | FreeProfile],
    maximize: Metric | str | None = None,
    minimize: Metric | str | None = None,
    subject_to: Sequence[str] = (),
    n_starts: int = 3,
    seed: int = 0,
    confidence: float | None = None,
    spread: ByName | None = None,
    workers: Workers = None,
    progress: Callable[[int, float], None] | None = None,
) -> Optimum:
    """Find the conditions and sizes at which a metric of a vessel or train is best.

    By sequential quadratic programming with exact gradients (see `core.design.sequential`), starting from the vessel's
    own conditions and from others in the ranges (Latin hypercube). The result meets the first-order conditions of W.
    Karush, H. W. Kuhn and A. W. Tucker, and has the multiplier of each active bound and limit.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
    free : mapping of condition to (low, high)
        Conditions ("T", "length", "tubes", "feed T", "[A]"; of a train "recycle", "coil.length") with their bounds; or
        with a `FreeProfile` for "T", "coolant T", a constant of the chemistry, or "NAME rate" of a dosing.
    maximize, minimize : metric or str
        One of the two: a metric, or an expression like "yield of B on A - 0.1*conversion of A". Numbers may have units
        in brackets: "3 [1/kg]*mass flow of B - 40 [1/h/m3]*volume".
    subject_to : sequence of str
        Limits like "conversion of A >= 0.9"; "temperature everywhere <= 240 degC" applies at every place.
    n_starts, seed : int (number of starts of the search; that of starts and draws)
    confidence : float, optional
        The probability of meeting each limit, like 0.95, given the covariance of the fitted constants and `spread`:
        limits are moved until this share of the draws meets them at the optimum.
    spread : mapping of condition to the standard deviation of another uncertain one, {"flow": "1 m3/h"}, optional
    workers, progress : int, "all", Executor or Client, and callable (runs, best value so far in SI), optional

    Returns
    -------
    Optimum

    Raises
    ------
    NotFoundError, SolveError
        If no point that meets all limits is found; if the vessel cannot be run anywhere in these bounds.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> best = mo.optimize(tube, maximize="yield of B on A", free={"volume": ("1 L", "50 L")},
    ...                    subject_to=["conversion of A >= 0.8"])
    >>> round(best.free[0].value * 1e3, 3), [h.text for h in best.active_limits]
    (8.047, ['conversion of A >= 0.8'])
    """
    check_starts(n_starts, "optimize")
    question = read_question(vessel, free, maximize, minimize, subject_to, confidence=confidence, spread=spread)
    with using(workers):
        return answer(question, n_starts, seed, progress)


def answer(
    question: Question, n_starts: int, seed: int, progress: Callable[[int, float], None] | None = None
) -> Optimum:
    """The answer to a question that has been read; see `optimize`."""
    question.require_known()
    if question.moving:
        return answer_with_profiles(question, n_starts, seed, progress)
    found = Search(question, n_starts, seed, progress).best()
    return (
        found if question.confidence is None or found.is_stopped else _with_confidence(question, found, seed, progress)
    )


def _with_confidence(
    question: Question, nominal: Optimum, seed: int, progress: Callable[[int, float], None] | None
) -> Optimum:
    """The optimum whose limits are met with a probability: each limit is moved by the deviation of its quantile, and
    the optimum searched again from the one before, until limits no longer move."""
    assert question.confidence is not None
    moves, found, integrations = np.zeros(len(question.limits)), nominal, nominal.integrations
    before: tuple[np.ndarray, np.ndarray] | None = None
    for _ in range(_MOST_MOVES):
        left, reached = _quantiles(question, found, seed)
        size = np.array([max(abs(limit.value), 1e-12) for limit in question.limits])
        slack = np.array(found.left) > 1e-6 * size  # inactive limits may have a larger margin
        miss = np.where(slack & (left >= 0), 0.0, left)
        if (np.abs(miss) <= _QUANTILE * size).all():
            break
        slope = np.ones(len(moves))
        if before is not None:  # the change of a quantile per move, from the last one
            way = moves - before[0]
            slope = np.where(np.abs(way) > 0, (left - before[1]) / np.where(way == 0, 1.0, way), 1.0)
        before = moves, left
        moves = np.maximum(moves - miss / np.clip(slope, 0.2, 5.0), 0.0)
        limits = tuple(
            replace(limit, value=limit.value + limit.sign * move)
            for limit, move in zip(question.limits, moves, strict=True)
        )
        free = tuple(replace(n, value=held.value) for n, held in zip(question.free, found.free, strict=True))
        found = Search(replace(question, limits=limits, free=free), 1, seed, progress).best()
        integrations += found.integrations
    left, reached = _quantiles(question, found, seed)
    names = [limit.text(question.vessel.spec.display) for limit in found.limits]
    texts = dict(zip(names, (limit.text(question.vessel.spec.display) for limit in question.limits), strict=True))
    active_limits = tuple(
        replace(h, text=f"{texts[h.text]} with {question.confidence:.4g} confidence") if h.text in texts else h
        for h in found.active_limits
    )
    own = tuple(float(a + b) for a, b in zip(found.left, moves, strict=True))
    remark = found.remark
    if (left < -10 * _QUANTILE * np.array([max(abs(limit.value), 1e-12) for limit in question.limits])).any():
        remark = "note: a limit is not met with that confidence yet; look at the share of the draws"
    return replace(
        found,
        limits=question.limits,
        left=own,
        active_limits=active_limits,
        confidence=question.confidence,
        reached=reached,
        integrations=integrations,
        remark=remark,
        starts=nominal.starts,
    )


def _quantiles(question: Question, found: Optimum, seed: int) -> tuple[np.ndarray, tuple[float, ...]]:
    """The margin of the quantile of each limit at an optimum in SI, and the fraction of draws that meet it."""
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
        message = "too many draws cannot be run at the optimum to compute a probability"
        raise SolveError(message, question.vessel.label, "ask for less confidence, or narrower bounds")
    return np.array(left), tuple(reached)
