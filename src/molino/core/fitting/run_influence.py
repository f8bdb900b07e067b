"""The influence of whole runs on a fit: the constants without each, and a run that disagrees with the others."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.errors import InputError, SolveError
from molino.core.fitting.censoring import deviations
from molino.core.fitting.correlated_errors import Chains
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.least_squares import minimise
from molino.core.fitting.least_squares_problem import Fixed, Optimum, Problem
from molino.core.fitting.model import TIGHT, BalanceModel, sample_of
from molino.core.frozen import Frozen
from molino.core.parallel import Workers, in_order
from molino.core.results import Result, Table, frame, plain_dict
from molino.core.statistics import f_tail_probability, p_text

_LEVEL = 0.01
"""Probability, over all runs, below which a run disagrees with the others."""
_WARMER = 40.0
"""Largest error of a temperature that is tried, in K."""
_FACTOR = 2.5
"""Largest factor of a charge that is tried."""
FEWEST = 3
"""Smallest number of runs of which one can disagree."""


@dataclass(frozen=True, eq=False)
class LeftOutRun(Frozen):
    """A fit without one run.

    Attributes
    ----------
    run : str
    values : array, shape (constants,)
        The constants of the fit in SI; nan for one that only this run determines.
    moved : array, shape (constants,)
        Their change, in standard errors of the whole fit.
    ratio, probability : float
        The sum of squares that the run adds, for each of its observations, over the variance of the others (F), and the
        probability of one at least so large by chance, if the run is like the others.
    """

    run: str
    values: np.ndarray
    moved: np.ndarray
    ratio: float
    probability: float


@dataclass(frozen=True, eq=False)
class RunInfluence(Frozen, Result):
    """The fits without each run, in order of the runs.

    Attributes
    ----------
    fit : Fit
    without : tuple of LeftOutRun
    odd : LeftOutRun, optional
        The run that disagrees with the others as a whole, at 1 % over all runs.
    explanations : tuple of str
        Mislabeled conditions that would explain it, best first: 'T = 70.1 °C instead of 60 °C'.
    """

    fit: FitData
    without: tuple[LeftOutRun, ...]
    odd: LeftOutRun | None = None
    explanations: tuple[str, ...] = ()

    @property
    def verdict(self) -> str:
        """Whether a run disagrees, and why, in words."""
        if self.odd is None:
            return "no run disagrees with the others as a whole"
        shown = ", ".join(
            f"{e.name} {replace(e, value=float(v)).shown()[0]:.4g} instead of {e.shown()[0]:.4g}"
            for e, v in zip(self.fit.estimates, self.odd.values, strict=True)
            if np.isfinite(v) and not e.name.startswith(("start ", "feed "))
        )
        text = f"run {self.odd.run} disagrees with the others as a whole (F {self.odd.ratio:.3g}, "
        text += f"p {p_text(self.odd.probability)})"
        text += f"; {' or '.join(self.explanations)} would explain it" if self.explanations else ""
        return f"{text}; without it: {shown}"

    def table(self) -> Table:
        """One row per run: F, its probability, and the change of each constant in standard errors."""
        rows = []
        for one in self.without:
            moved = {f"change of {e.name}": m for e, m in zip(self.fit.estimates, one.moved, strict=True)}
            own = ("change of start ", "change of feed ")  # of single runs
            shown = {name: m for name, m in moved.items() if not name.startswith(own)}
            rows.append({"without": one.run, "F": one.ratio, "p": one.probability, **shown})
        return frame(rows)

    def to_dict(self) -> PlainData:
        """Plain data: the verdict and the table."""
        return plain_dict({"verdict": self.verdict, "runs": self.table().to_dict("records")})

    def __str__(self) -> str:
        return f"influence of runs (changes in standard errors)\n{self.table().to_string(index=False)}\n{self.verdict}"


def run_influence(fit: FitData, workers: Workers = None) -> RunInfluence:
    """Refit without each run, and compare each run with the fit to the others.

    F = (S - S_without)/n / s^2, with S_without and s^2 of the fit to the others and n observations of the run, which
    is the test of G. C. Chow, Econometrica 28 (1960) 591, for further observations. The value that is farthest off is
    left out of S and n: one wrong value is an outlier, and not a wrong run.

    Raises
    ------
    InputError
        For fewer than three runs, or rates.
    """
    runs = fit.parameter_map.runs
    if len(runs) < FEWEST:
        raise InputError(f"{len(runs)} runs", "run influence", f"at least {FEWEST} are needed to compare them")
    work = partial(_without, fit)
    found = tuple(one for one in in_order(work, [run.name for run in runs], workers) if one is not None)
    whole = tuple(own for own, _ in found)
    worst = min(found, key=lambda one: (one[0].probability, -one[0].ratio), default=None)
    if worst is None or not worst[0].probability * len(runs) < _LEVEL:
        return RunInfluence(fit, whole)
    return RunInfluence(fit, whole, worst[0], tuple(_explanations(fit, worst[0], worst[1])))


def _without(fit: FitData, name: str) -> tuple[LeftOutRun, Optimum] | None:
    """The fit without a run; None if the others do not determine one."""
    points, problem = fit.points, fit.problem.without_priors()
    own = np.array(points.run) == name
    left = np.flatnonzero(np.any(points.slopes[~own] != 0, axis=0))
    if int((~own).sum()) <= len(left):
        return None
    others = _subset(fit, ~own)
    others = replace(
        others,
        free=tuple(problem.free[i] for i in left),
        model=Fixed(others.model, fit.optimum.parameters, left),
    )
    values = np.full(len(problem.free), np.nan)
    try:
        others = others.with_priors()
        found = minimise(others, fit.optimum.parameters[left], tolerance=1e-7)
        values[left] = found.parameters
        degrees = len(others.measured) - len(left)
        variance = found.variance(others)
        s = _errors(fit, own, found.standard_deviation[~others.is_prior])
        calculated, _ = problem.model(np.where(np.isfinite(values), values, fit.optimum.parameters))
        off = np.where(own, np.abs(problem.deviations(calculated, s).scaled), -1.0)
        without_worst = np.arange(len(own)) != int(np.argmax(off))  # one wrong value is not a wrong run
        together = replace(_subset(fit, without_worst), size=s[without_worst], chains=None).with_priors()
        together = together.weighed(together.size)
        best = minimise(together, fit.optimum.parameters, tolerance=1e-7)
    except SolveError:
        return None
    count = int(own.sum()) - 1
    squares = together.sum_of_squares(best.values, s[without_worst], None) - found.sum_of_squares(others)
    ratio = max(squares, 0.0) / max(count, 1) / max(variance, 1e-300)
    moved = (values - fit.optimum.parameters) / np.array([e.standard_error for e in fit.estimates])
    probability = f_tail_probability(ratio, count, degrees) if count else 1.0
    return LeftOutRun(name, values, moved, ratio, probability), found


def _subset(fit: FitData, kept: np.ndarray) -> Problem:
    """The problem with some of the observations."""
    points, problem = fit.points, fit.problem.without_priors()
    assert isinstance(problem.model, BalanceModel)
    samples, begin = [], 0
    for sample in problem.model.samples:
        here = kept[begin : begin + len(sample.seen.rows)]
        begin += len(here)
        if here.any():
            seen = replace(sample.seen, rows=sample.seen.rows[here], columns=sample.seen.columns[here])
            samples.append(replace(sample, seen=seen))
    chains = problem.chains
    if chains is not None:
        run, response = (tuple(np.array(texts)[kept].tolist()) for texts in (points.run, points.response))
        chains = Chains.of(run, response, points.time[kept], points.is_value[kept])
    _, group = np.unique(problem.group[kept], return_inverse=True)
    return replace(
        problem,
        model=replace(problem.model, samples=tuple(samples)),
        measured=problem.measured[kept],
        size=problem.size[kept],
        group=group,
        side=problem.side[kept],
        chains=chains,
    )


def _errors(fit: FitData, own: np.ndarray, of_others: np.ndarray) -> np.ndarray:
    """The standard deviation of each observation, those of a run by the factors of the others."""
    problem, s = fit.problem.without_priors(), fit.points.standard_deviation.copy()
    s[~own] = of_others
    before = fit.points.standard_deviation
    for g in np.unique(problem.group[own]):
        here, like = own & (problem.group == g), ~own & (problem.group == g)
        if like.any():
            s[here] = float(np.median(s[like] / before[like])) * before[here]
    return s


def _explanations(fit: FitData, odd: LeftOutRun, others: Optimum) -> Iterator[str]:
    """Conditions of the run, other than noted, under which it agrees with the others."""
    run = next(r for r in fit.parameter_map.runs if r.name == odd.run)
    if not run.is_simple:
        return
    display = fit.data.display
    parameters = np.where(np.isfinite(odd.values), odd.values, fit.optimum.parameters)
    points = fit.points
    own = np.array(points.run) == odd.run
    s = _errors(fit, own, others.standard_deviation[: int((~own).sum())])[own]
    rows = [int(np.argmin(np.abs(run.times - t))) for t in points.time[own]]
    responses = tuple(dict.fromkeys(np.array(points.response)[own].tolist()))
    columns = np.array([responses.index(r) for r in np.array(points.response)[own]])

    def squares(changed: Experiment) -> float:
        places = fit.parameter_map.places[odd.run]
        sample = sample_of(
            changed, fit.sought, responses, run.times, np.array(rows), columns, places, fit.parameter_map.guesses
        )
        try:
            values, _ = sample.observed(parameters, TIGHT)
        except SolveError:
            return math.inf
        return float(np.sum(deviations(points.measured[own], points.side[own], values, s).scaled ** 2))

    count, degrees = int(own.sum()), len(points.measured) - int(own.sum()) - len(fit.estimates)
    found: list[tuple[float, str]] = []
    if run.T is not None:
        T = float(run.T)
        best = _least(lambda x: squares(replace(run, T=x)), T - _WARMER, T + _WARMER)
        noted = display.text(T, "temperature", 3)
        found.append((best[1], f"T = {display.text(best[0], 'temperature', 4)} instead of {noted}"))
    for species, charged in run.initial.items():
        if charged > 0 and any(species in reaction.asks for reaction in fit.sought.reactions):

            def scaled(x: float, species: str = species, charged: float = charged) -> float:
                return squares(replace(run, initial={**run.initial, species: math.exp(x) * charged}))

            best = _least(scaled, -math.log(_FACTOR), math.log(_FACTOR))
            values = [display.text(c, "concentration", 3) for c in (math.exp(best[0]) * charged, charged)]
            found.append((best[1], f"initial {species} {values[0]} instead of {values[1]}"))
    for left, text in sorted(found):
        if f_tail_probability(left / (count - 1), count - 1, degrees) > _LEVEL:
            yield text


def _least(function: Callable[[float], float], low: float, high: float) -> tuple[float, float]:
    """The place and value of the least of a function: a grid, then Brent's method."""
    grid = np.linspace(low, high, 17)
    values = [function(float(x)) for x in grid]
    best = int(np.argmin(values))
    ends = float(grid[max(best - 1, 0)]), float(grid[min(best + 1, 16)])
    options = {"xatol": 1e-4 * (high - low)}
    found = scipy.optimize.minimize_scalar(function, bounds=ends, method="bounded", options=options)
    return (float(found.x), float(found.fun)) if found.fun < values[best] else (float(grid[best]), values[best])
