"""The error from repeated measurements, and other findings on data before a fit."""

from __future__ import annotations

import math
from collections.abc import Hashable, Iterator, Mapping, Sequence
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np

from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.findings import Finding, Review
from molino.core.chemistry.symbolic_network import combination_text, null_space
from molino.core.display import Display
from molino.core.statistics import student_t_quantile

if TYPE_CHECKING:
    from molino.core.fitting.experiment import Experiment

_DRIFT = 0.02
"""Relative imbalance of measured species below which nothing is reported."""


def groups(conditions: Sequence[Hashable], which: np.ndarray) -> list[np.ndarray]:
    """Indices of observations of one response under the same conditions, where there are two or more."""
    found: dict[Hashable, list[int]] = {}
    for i, condition in enumerate(conditions):
        found.setdefault((condition, int(which[i])), []).append(i)
    return [np.array(members) for members in found.values() if len(members) > 1]


def pooled_scatter(
    conditions: Sequence[Hashable], measured: np.ndarray, which: np.ndarray
) -> dict[int, tuple[float, int]]:
    """For each response the standard deviation of replicates, pooled, and its degrees of freedom.

    s^2 = sum over groups of squares about the group's mean / sum of (members - 1) (N. R. Draper, H. Smith, Applied
    Regression Analysis, 3rd ed. 1998, section 2.1).
    """
    sums: dict[int, tuple[float, int]] = {}
    for members in groups(conditions, which):
        n = int(which[members[0]])
        squares, degrees = sums.get(n, (0.0, 0))
        own = measured[members]
        sums[n] = squares + float(np.sum((own - own.mean()) ** 2)), degrees + len(members) - 1
    return {n: (math.sqrt(squares / degrees), degrees) for n, (squares, degrees) in sums.items()}


def review_data(
    runs: Sequence[Experiment], kinds: Mapping[str, str], display: Display, chemistry: Chemistry | None
) -> Review:
    """Scatter of replicates; and, with the chemistry, conserved sums of measured species that are not constant."""
    drifts = _drifts(runs, chemistry) if chemistry is not None else ()
    return Review.of([*_replicates(runs, kinds, display), *drifts])


def _replicates(runs: Sequence[Experiment], kinds: Mapping[str, str], display: Display) -> Iterator[Finding]:
    for response, kind in kinds.items():
        rows = [
            (r.condition, float(t), v)
            for r in runs
            if response in r.measured
            for t, v, seen in zip(r.times, r.measured[response], r.observed(response), strict=True)
            if seen
        ]
        values = np.array([v for _, _, v in rows])
        scatter = pooled_scatter([(c, t) for c, t, _ in rows], values, np.zeros(len(rows), dtype=int))
        if scatter:
            ((standard_deviation, degrees),) = scatter.values()
            text = display.difference_text(standard_deviation, kind)
            yield Finding(
                "note", response, f"the standard deviation of replicates is {text} ({degrees} degrees of freedom)"
            )


def _drifts(runs: Sequence[Experiment], chemistry: Chemistry) -> Iterator[Finding]:
    names = chemistry.names
    for run in (run for run in runs if run.is_simple):
        seen = [i for i, s in enumerate(names) if s in run.measured]
        hidden = [i for i in range(len(names)) if i not in seen]
        columns = [*chemistry.network.stoichiometry, *([(i, Fraction(1))] for i in hidden)]
        for weights in null_space(columns, seen):
            if len(weights) > 1 and not (run.gas and run.vessel != "batch"):
                yield from _drift(
                    run, {names[i]: float(w) for i, w in weights.items()}, combination_text(weights, names)
                )


def _drift(run: Experiment, weights: dict[str, float], text: str) -> Iterator[Finding]:
    """A finding if a conserved sum deviates from its initial value, by the t-test of its mean deviation."""
    whole = np.sum([w * run.measured[s] for s, w in weights.items()], axis=0)
    start = sum(w * run.charge.get(s, 0.0) for s, w in weights.items())
    size = sum(abs(w) * run.charge.get(s, 0.0) for s, w in weights.items())
    away = (whole - start)[np.isfinite(whole) & (run.times > 0)]
    if len(away) < 3 or not size > 0:
        return
    mean, error = float(away.mean()), float(away.std(ddof=1)) / math.sqrt(len(away))
    if abs(mean) > _DRIFT * size and abs(mean) > student_t_quantile(0.995, len(away) - 1) * error:
        word = "less" if mean < 0 else "more"
        message = f"{text} should be constant, but is on average {abs(mean) / size:.0%} {word} than the input"
        advice = "a species is lost, missing from the scheme, or wrongly calibrated"
        yield Finding("warning", f"run {run.name}", message, advice)
