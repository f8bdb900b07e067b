"""The bootstrap: repeated fits to resampled data, on all cores."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import InputError, SolveError, nearest
from molino.core.fitting.draws import Draws
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.least_squares import minimise
from molino.core.fitting.least_squares_problem import Problem
from molino.core.frozen import Frozen
from molino.core.parallel import Workers, in_order
from molino.core.statistics import student_t_quantile

KINDS = ("residuals", "cases")
_EVALUATIONS = 2_000
"""Evaluations of a right-hand side by a refit in each run, about."""


@dataclass(frozen=True, eq=False)
class Bootstrap(Draws):
    """Constants from resampled data.

    Attributes
    ----------
    names : tuple of str
    draws : array, shape (refits that converged, constants)
        In SI.
    units : tuple of str or None
        The units of the constants.
    fitted : Chemistry
        The chemistry of the fit.
    kind : str
        The resampled quantity, "residuals" or "cases".
    asked : int
        The requested number of refits.
    observations, degrees_of_freedom : int
        Of the fit.

    Examples
    --------
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> draws = fit.bootstrap(20)
    >>> draws.draws.shape
    (20, 1)
    """

    kind: str
    asked: int
    observations: int
    degrees_of_freedom: float

    @cached_property
    def chemistry(self) -> Chemistry:
        """The chemistry of the fit with the refits as the distribution of its constants: sizes and optima at a
        confidence, and the sources of a spread, draw the constants from the refits.

        Refits of cases are widened about the fitted constants by sqrt(observations/degrees of freedom), as in
        `intervals`.
        """
        is_cases = self.kind == "cases"
        return self.chemistry_over(math.sqrt(self.observations / self.degrees_of_freedom) if is_cases else 1.0)

    @property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """Expanded percentile 95 % intervals.

        Plain percentiles are too narrow for few observations, like z in place of Student's t; those at normal(-/+
        t(0.975)) are used, for cases normal(-/+ t sqrt(observations/degrees of freedom)), whose residuals are not
        widened (T. C. Hesterberg, Am. Stat. 69 (2015) 371).
        """
        t = student_t_quantile(0.975, self.degrees_of_freedom)
        t *= math.sqrt(self.observations / self.degrees_of_freedom) if self.kind == "cases" else 1.0
        low, high = np.percentile(self.draws, [100 * scipy.special.ndtr(-t), 100 * scipy.special.ndtr(t)], axis=0)
        return {n: (float(a), float(b)) for n, a, b in zip(self.names, low, high, strict=True)}

    def to_dict(self) -> PlainData:
        """Plain data: the number of refits, and each constant with its interval."""
        return {"refits": len(self.draws), "kind": self.kind, "constants": self.table().to_dict("records")}

    def __str__(self) -> str:
        lines = [f"bootstrap of {self.kind}: {len(self.draws)} refits of {self.asked}"]
        return "\n".join([*lines, *self.lines()])


@dataclass(frozen=True, eq=False)
class _Resampler(Frozen):
    """The data of a worker."""

    problem: Problem
    start: np.ndarray
    fitted: np.ndarray
    adjusted: np.ndarray
    """Residuals over their standard deviation, widened for leverage and centered in each response."""
    response: np.ndarray
    case: np.ndarray
    kind: str

    def draw(self, seed: np.random.SeedSequence) -> np.ndarray:
        """The constants of one refit; nan if it did not converge."""
        random = np.random.default_rng(seed)
        problem, counts = self.problem, None
        if self.kind == "cases":
            many = int(self.case.max()) + 1
            counts = np.bincount(random.integers(0, many, many), minlength=many)[self.case].astype(float)
            counts = np.append(counts, np.ones(problem.priors))
        else:
            noise = random.standard_normal(len(self.fitted))  # of a prior the deviation is known
            for n in np.unique(self.response):
                own = np.flatnonzero(self.response == n)
                noise[own] = random.choice(self.adjusted[own[problem.side[own] == 0]], len(own))
            problem = _drawn(problem, self.fitted + problem.links(problem.tau).color(noise) * problem.size)
        try:
            return minimise(problem, self.start, counts=counts, tolerance=1e-6).parameters
        except SolveError:
            return np.full(len(self.start), np.nan)


def _drawn(problem: Problem, values: np.ndarray) -> Problem:
    """The problem with drawn values; where one is beyond the limit of that observation it is known as the limit."""
    limited = (problem.side != 0) & (problem.side * (values - problem.measured) > 0)
    measured = np.where(limited, problem.measured, values)
    return replace(problem, measured=measured, side=np.where(limited, problem.side, 0))


def bootstrap(
    fit: FitData,
    times: int = 1000,
    kind: str = "residuals",
    seed: int = 0,
    workers: Workers = None,
    progress: Callable[[int, int], None] | None = None,
) -> Bootstrap:
    """Refit to resampled data, starting from the optimum, with the errors fixed at those of the fit.

    "residuals": residuals, over their standard deviation and widened by 1/sqrt(1 - leverage), are drawn with
    replacement within each response and put on the calculated values (A. C. Davison, D. V. Hinkley, Bootstrap Methods
    and their Application, 1997, section 6.3). "cases": samples, each with all its measured values, are drawn with
    replacement. The result depends on the seed alone, not on the number of workers.

    Parameters
    ----------
    times : int
        Refits.
    kind : "residuals" or "cases"
    seed : int
    workers : int, "all", Executor or Client, optional
        A number of processes; by default all cores, if it takes long.
    progress : callable, optional
        Called with the refits done and requested.

    Raises
    ------
    InputError
        For an unknown kind, or fewer than two refits.
    SolveError
        If fewer than nine in ten converge.
    """
    if kind not in KINDS:
        raise InputError(f"'{kind}' is not a way to resample", "bootstrap", nearest(kind, KINDS))
    if times < 2:
        raise InputError(f"{times} refits", "bootstrap", "ask for 1000 or so")
    if fit.points.weight is not None and kind == "residuals":
        raise InputError("residuals of a robust fit", "bootstrap", "resample cases: kind='cases'")
    work = _resampler(fit, kind)
    seeds = np.random.SeedSequence(seed).spawn(times)
    rows: list[np.ndarray] = []
    for found in in_order(work.draw, seeds, workers, evaluations=times * _EVALUATIONS * len(set(fit.points.run))):
        rows.append(found)
        if progress is not None:
            progress(len(rows), times)
    draws = np.array(rows)
    draws = draws[np.isfinite(draws).all(axis=1)]
    if len(draws) < 0.9 * times:
        message = f"only {len(draws)} of {times} refits converged"
        raise SolveError(message, "bootstrap", "the data hardly determine the constants: look at their profiles")
    own, count = tuple(e.unit for e in fit.estimates), len(fit.points.measured)
    return Bootstrap(tuple(fit.values), draws, own, fit.chemistry, kind, times, count, fit.degrees_of_freedom)


def _resampler(fit: FitData, kind: str) -> _Resampler:
    points = fit.points
    names = list(fit.responses)
    response = np.array([names.index(s) for s in points.response])
    adjusted = points.independent / np.sqrt(np.maximum(1 - points.leverage, 1e-6))
    for n in range(len(names)):
        own = (response == n) & points.is_value
        if not own.any():
            message = f"{names[n]} has limits alone, and no residual to draw from"
            raise InputError(message, "bootstrap", "resample cases: kind='cases'")
        adjusted[own] -= adjusted[own].mean()
    places = enumerate(zip(points.run, points.time.tolist(), strict=True))
    if fit.problem.chains is not None:  # whole runs
        places = enumerate((run, 0.0) for run in points.run)
    keys: list[object] = [(run, time) if np.isfinite(time) else i for i, (run, time) in places]
    samples = {key: n for n, key in enumerate(dict.fromkeys(keys))}
    case = np.array([samples[key] for key in keys])
    weighed = fit.problem.with_errors_of(fit.optimum)
    return _Resampler(weighed, fit.optimum.parameters, fit.optimum.values, adjusted, response, case, kind)
