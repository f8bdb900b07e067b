"""`discriminate`: comparison of rate laws by the data, and the experiment that distinguishes them best."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import Fault, InputError, SolveError
from molino.core.fitting.censoring import common_factor, deviations
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.fitting.fit_result import Fit
from molino.core.fitting.least_squares import Progress, minimise
from molino.core.fitting.rate_model import RateModel
from molino.core.fitting.rates.rates import Rates
from molino.core.fitting.regression import fit
from molino.core.frozen import Frozen
from molino.core.parallel import Here, Workers, in_order
from molino.core.results import Result, Table, frame
from molino.core.statistics import f_tail_probability, p_text

_ENOUGH = 0.95
"""Akaike weight above which one law is chosen."""
_APART = 0.5
"""Standard deviations below which no experiment distinguishes two laws."""
_SAME = 1e-3
"""A law contains another if it reproduces the other's curves within this fraction of the scatter."""
_LEVEL = 0.01
_MOST_NESTED = 8
"""The best laws, pairs of which are tested for being nested."""
_MOST_SHOWN, _MOST_NAMED, _MOST_TESTS = 12, 4, 3
"""Laws in print, laws in the verdict, and F-tests in the verdict."""


@dataclass(frozen=True)
class Nested:
    """The F-test of a law against a more general one that contains it."""

    inner: str
    outer: str
    ratio: float
    probability: float
    """Probability of such a gain by chance."""


@dataclass(frozen=True)
class LargestDifference:
    """Conditions at which two laws differ most, in standard deviations of one measurement.

    `contents` are the charge or feed (for rates: the concentrations), in mol/m^3; `time` in s, None for rates.
    """

    first: str
    second: str
    T: float | None
    contents: Mapping[str, float]
    time: float | None
    response: str
    deviations: float
    values: tuple[float, float]


@dataclass(frozen=True, eq=False)
class Discrimination(Frozen, Result):
    """Candidates fitted to the same data.

    Attributes
    ----------
    fits : mapping of name to Fit
        The best first.
    aicc, weights : mapping of name to float
        AICc = sum of n ln(S/n) over the groups of errors + 2 K + 2 K (K + 1)/(N - K - 1), K constants and errors (C. M.
        Hurvich, C.-L. Tsai, Biometrika 76 (1989) 297), and Akaike weights exp(-delta/2)/sum (K. P. Burnham, D. R.
        Anderson, Model Selection and Multimodel Inference, 2nd ed. 2002, section 2.9).
    nested : tuple of Nested
    apart : Apart or None
        The conditions, around those measured, at which the two best differ most.
    failed : mapping of name to str
        Candidates that could not be fitted, with the reason.

    Examples
    --------
    >>> first = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> second = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", name="r", k=mo.Unknown("0.1 L/mol/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> found = mo.discriminate({"first": first, "second": second}, run)
    >>> found.chosen
    'first'
    """

    fits: Mapping[str, Fit]
    aicc: Mapping[str, float]
    weights: Mapping[str, float]
    nested: tuple[Nested, ...]
    apart: LargestDifference | None
    failed: Mapping[str, str]

    @property
    def chosen(self) -> str | None:
        """The law chosen by the data; None if they cannot tell."""
        best = next(iter(self.fits))
        rejected = {n.inner for n in self.nested if n.probability < _LEVEL}
        others = [name for name in self.fits if name != best and name not in rejected]
        wider = {n.outer for n in self.nested if n.inner == best and n.probability >= _LEVEL}
        if all(self.weights[best] >= _ENOUGH * (self.weights[best] + self.weights[o]) or o in wider for o in others):
            return best
        return None

    @property
    def verdict(self) -> str:
        """The chosen law, or a statement that the data cannot tell, with the reason."""
        names = list(self.fits)
        if len(names) == 1:
            return f"{names[0]} alone could be fitted"
        weight = f"weight {self.weights[names[0]]:.2f}"
        tests = [
            f"'{n.outer}' is not significantly better than '{n.inner}' (F, p {p_text(n.probability)})"
            if n.probability >= _LEVEL
            else f"'{n.outer}' is significantly better than '{n.inner}' within it (F, p {p_text(n.probability)})"
            for n in self.nested
            if names[0] in (n.inner, n.outer)
        ]
        tests = tests[:_MOST_TESTS]
        because = "; ".join([weight, *tests])
        if self.chosen is not None:
            return f"{self.chosen}: {because}"
        near = [n for n in names if self.weights[n] > 0.05 * self.weights[names[0]]]
        share = ", ".join(f"{n} {self.weights[n]:.2f}" for n in near[:_MOST_NAMED])
        others = f" and {len(near) - _MOST_NAMED} others" if len(near) > _MOST_NAMED else ""
        return f"these data cannot tell {' from '.join(near[:_MOST_NAMED])}{others} (weights {share})" + (
            "; " + "; ".join(tests) if tests else ""
        )

    def table(self) -> Table:
        """One row per law: constants, sum of squares (weighted as in the fit of the best), AICc, weight."""
        best = next(iter(self.fits.values()))
        rows = []
        for name, found in self.fits.items():
            squares = found.points.squares(best.points)
            rows.append(
                {
                    "law": name,
                    "constants": len(found.estimates),
                    "weighted sum of squares": squares,
                    "AICc": self.aicc[name],
                    "difference": self.aicc[name] - min(self.aicc.values()),
                    "weight": round(self.weights[name], 4),
                }
            )
        return frame(rows)

    def facts(self) -> dict[str, str]:
        """The verdict, the next experiment, and the candidates that could not be fitted."""
        found = {"verdict": self.verdict, **({"next": self.next_text} if self.apart is not None else {})}
        return found | {f"{name} could not be fitted": why for name, why in self.failed.items()}

    def to_dict(self) -> PlainData:
        """Plain data: the laws, the chosen one, and the reason."""
        return {
            "laws": self.table().to_dict("records"),
            "chosen": self.chosen,
            "verdict": self.verdict,
            "next": self.next_text,
            "failed": dict(self.failed),
        }

    def __str__(self) -> str:
        width = max(len(n) for n in self.fits)
        lines = [f"{len(self.fits)} laws on {next(iter(self.fits.values())).extent}"]
        lines.append(f"  {'':<{width}}  constants  weighted squares   AICc   weight")
        for row in self.table().head(_MOST_SHOWN).itertuples(index=False):
            lines.append(f"  {row[0]:<{width}}  {row[1]:>9}  {row[2]:>16.5g}  {row[3]:>6.1f}  {row[5]:>6.3f}")
        if len(self.fits) > _MOST_SHOWN:
            lines.append(f"  and {len(self.fits) - _MOST_SHOWN} others with smaller weights")
        lines += [f"  {name} could not be fitted: {why}" for name, why in self.failed.items()]
        lines.append(f"verdict: {self.verdict}")
        return "\n".join([*lines, f"next: {self.next_text}"] if self.apart is not None else lines)

    @property
    def next_text(self) -> str:
        """The conditions at which the two best laws differ most, in words."""
        if self.apart is None:
            return ""
        a, display = self.apart, next(iter(self.fits.values())).data.display
        if a.deviations < _APART:
            apart = f"at most {a.deviations:.2g} standard deviations apart"
            return f"none of the conditions tried distinguishes '{a.first}' from '{a.second}': {apart}"
        data = next(iter(self.fits.values())).data
        places = [display.text(a.T, "temperature")] if a.T is not None else []
        places += [f"{s} {display.text(c, 'concentration', 3)}" for s, c in a.contents.items() if c > 0]
        places += [display.text(a.time, "time", 3)] if a.time is not None else []
        one, two = (display.text(c, data.kind_of(a.response), 3) for c in a.values)
        return (
            f"'{a.first}' and '{a.second}' differ most at {', '.join(places)}: {a.response} {one} or {two}, "
            f"{a.deviations:.3g} standard deviations apart"
        )


@checked
def discriminate(
    candidates: Mapping[str, Chemistry],
    data: Experiment | Sequence[Experiment] | Rates,
    *,
    workers: Workers = None,
    progress: Progress | None = None,
    **options: Any,
) -> Discrimination:
    """Fit several chemistries to the same data and compare them by their Akaike weights.

    Nested laws are detected: one is fitted to the calculated values of the other, and must reproduce them. Such pairs
    are compared by the F-test for the extra sum of squares (D. M. Bates, D. G. Watts, Nonlinear Regression Analysis and
    Its Applications, 1988, section 3.10).

    Parameters
    ----------
    candidates : mapping of name to Chemistry
        Two or more, each with `Unknown` constants.
    data : Experiments, runs, or Rates
    workers : int, "all", Executor or Client of `distributed`, optional
        A number of processes; by default all cores, if it takes long. The numbers do not depend on the workers.
    progress : callable, optional
        As for `fit`; of work on other processes, at the end of each fit.
    options
        As for `fit`: errors, fit_initial, unknowns, delay, n_starts.

    Returns
    -------
    Discrimination

    Raises
    ------
    InputError
        If there are fewer than two candidates, or one is incompatible with the data.
    SolveError
        If none can be fitted.

    Examples
    --------
    >>> first = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> second = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", name="r", k=mo.Unknown("0.1 L/mol/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> mo.discriminate({"first": first, "second": second}, run).chosen
    'first'
    """
    if not isinstance(candidates, Mapping) or len(candidates) < 2:
        raise InputError("there are not two candidates", "discriminate", "give {'name': chemistry, ...}, two or more")
    if options.get("robust"):
        raise InputError("robust fits have no likelihood", "discriminate", "leave 'robust' out, and exclude outliers")
    runs = data if isinstance(data, Rates) else as_experiments(data)
    fits, failed = _fit_each(candidates, runs, workers, progress, options)
    aicc = {name: _aicc(found) for name, found in fits.items()}
    order = sorted(fits, key=lambda name: aicc[name])
    raw = {name: math.exp(-(aicc[name] - aicc[order[0]]) / 2) for name in order}
    weights = {name: w / sum(raw.values()) for name, w in raw.items()}
    ordered = {name: fits[name] for name in order}
    apart = None
    if len(order) > 1:
        apart = _farthest_rate(ordered, runs) if isinstance(runs, Rates) else _farthest(ordered)
    near = {name: found for n, (name, found) in enumerate(ordered.items()) if n < _MOST_NESTED}
    return Discrimination(ordered, aicc, weights, tuple(_nested(near)), apart, failed)


def _fit_each(
    candidates: Mapping[str, Chemistry],
    runs: Experiments | Rates,
    workers: Workers,
    progress: Progress | None,
    options: ByName,
) -> tuple[dict[str, Fit], dict[str, str]]:
    """The fits, and the reason of each candidate that could not be fitted."""
    fits: dict[str, Fit] = {}
    failed: dict[str, str] = {}
    faults: list[Fault] = []
    work = partial(_fitted, runs, options, Here(progress))
    for name, found in zip(candidates, in_order(work, candidates.values(), workers), strict=True):
        if isinstance(found, InputError):
            faults += [fault.within(f"candidate {name}") for fault in found.faults]
        elif isinstance(found, SolveError):
            failed[name] = found.faults[0].what
        else:
            fits[name] = found
            if progress is not None:
                progress(found.evaluations, found.sum_of_squares)
    if faults:
        raise InputError(faults)
    if not fits:
        raise SolveError("no candidate could be fitted", "discriminate", "; ".join(failed.values()))
    return fits, failed


def _fitted(
    runs: Experiments | Rates, options: ByName, progress: Here[Progress | None], chemistry: Chemistry
) -> Fit | InputError | SolveError:
    """A fit, or its error."""
    try:
        return fit(chemistry, runs, progress=progress.own, **options)
    except (InputError, SolveError) as error:
        return error


def _aicc(found: Fit) -> float:
    problem, total = found.problem.without_priors(), len(found.points.measured)
    points = found.points
    size = points.standard_deviation if problem.is_mixed else problem.size
    scaled = (points.measured - points.calculated) / size
    scaled = points.links.whiten(scaled) if points.links is not None else scaled
    value, groups = 0.0, np.unique(problem.group)
    floor = 1e-30 * float(np.max(np.abs(found.points.measured / size))) ** 2
    for n in groups:
        own = problem.group == n
        side, many = points.side[own], int(own.sum())
        start = float(np.median(points.standard_deviation[own] / size[own]))
        squared = common_factor(scaled[own], side, np.ones(many), many, start) ** 2 + floor  # maximum likelihood
        limits = deviations(scaled[own], side, np.zeros(many), np.full(many, math.sqrt(squared))).scaled[side != 0]
        value += int((side == 0).sum()) * math.log(squared) + float(limits @ limits)
        value += 2 * float(np.sum(np.log(size[own]))) if problem.is_mixed else 0.0
        if len(limits):
            values = scaled[own][side == 0]
            value += float(values @ values) / squared - len(values)
    count = len(found.estimates) + len(groups) * (2 if problem.is_mixed else 1)
    if problem.chains is not None and points.links is not None:
        value += points.links.log_determinant
        count += problem.chains.responses
    if total <= count + 1:
        raise InputError(
            f"{total} observations for {count} constants and errors", "discriminate", "measure more, or fit fewer"
        )
    return value + 2 * count + 2 * count * (count + 1) / (total - count - 1)


def _nested(fits: Mapping[str, Fit]) -> Iterator[Nested]:
    for inner, small in fits.items():
        for outer, large in fits.items():
            more = len(large.estimates) - len(small.estimates)
            if more <= 0 or large.degrees_of_freedom < 1 or not _holds(large, small):
                continue
            squares = [f.points.squares(large.points) for f in (small, large)]
            ratio = max(squares[0] - squares[1], 0.0) / more / (squares[1] / large.degrees_of_freedom)
            yield Nested(inner, outer, ratio, f_tail_probability(ratio, more, large.degrees_of_freedom))


def _holds(large: Fit, small: Fit) -> bool:
    """Whether the wider law can reproduce the calculated values of the other, from its own optimum or from its
    guess."""
    problem = (
        large.problem.without_priors().weighed(large.points.standard_deviation, small.points.calculated).as_values()
    )
    for start in (large.optimum.parameters, None):
        try:
            found = minimise(problem, start, tolerance=1e-9)
        except SolveError:
            continue
        if np.max(np.abs(found.values - small.points.calculated) / large.points.standard_deviation) < _SAME:
            return True
    return False


def _farthest(fits: Mapping[str, Fit]) -> LargestDifference | None:
    """The conditions, around those measured, at which the two best laws differ most relative to their uncertainty."""
    (first, one), (second, two) = list(fits.items())[:2]
    best: LargestDifference | None = None
    for run in _around(one.parameter_map.runs):
        try:
            left, right = one.band(run, run.times), two.band(run, run.times)
        except (InputError, SolveError):
            continue
        scatter = {
            s: float(np.mean(one.points.standard_deviation[np.array(one.points.response) == s])) for s in one.responses
        }
        for species in left.values:
            away = np.abs(left.values[species] - right.values[species]) / scatter[species]
            n = int(np.argmax(away))
            if best is None or away[n] > best.deviations:
                values = float(left.values[species][n]), float(right.values[species][n])
                place = run.T, dict(run.initial), float(run.times[n])
                best = LargestDifference(first, second, *place, species, float(away[n]), values)
    return best


def _farthest_rate(fits: Mapping[str, Fit], data: Rates) -> LargestDifference | None:
    """The same for rates: concentrations from a quarter of the smallest to four times the largest, T as measured."""
    from scipy.stats import qmc

    (first, one), (second, two) = list(fits.items())[:2]
    count = len(data.concentrations) + (data.T is not None)
    drawn = qmc.Sobol(count, scramble=False).random(1024).T
    levels = {}
    for share, (species, c) in zip(drawn, data.concentrations.items(), strict=False):
        low, high = float(np.min(c[c > 0], initial=np.max(c))) / 4, float(np.max(c)) * 4
        levels[species] = low * (high / low) ** share if high > 0 else np.zeros(len(share))
    T = None if data.T is None else data.T.min() + np.ptp(data.T) * drawn[-1]
    planned = Rates(np.zeros(1024), levels, data.species, T, kind=data.kind)
    try:
        left, right = (RateModel.of(f.sought, planned)(f.optimum.parameters)[0] for f in (one, two))
    except SolveError:
        return None
    away = np.abs(left - right) / float(np.mean(one.points.standard_deviation))
    n = int(np.argmax(away))
    at = None if T is None else float(T[n])
    contents = {s: float(c[n]) for s, c in levels.items()}
    return LargestDifference(
        first, second, at, contents, None, data.response, float(away[n]), (float(left[n]), float(right[n]))
    )


def _around(runs: tuple[Experiment, ...]) -> Iterator[Experiment]:
    """Conditions around those of the runs: charges from a quarter to four times, times to three times as long."""
    seen = set()
    for run in runs:
        for factors in [(f,) * len(run.charge) for f in (0.25, 0.5, 1.0, 2.0, 4.0)] + [
            tuple(f if i == n else 1.0 for i in range(len(run.charge)))
            for n in range(len(run.charge))
            for f in (0.25, 4.0)
        ]:
            charge = {s: c * f for (s, c), f in zip(run.charge.items(), factors, strict=True)}
            times = float(run.times[-1]) * np.linspace(0.05, 3.0, 40)
            key = (run.T, tuple(charge.items()))
            if key not in seen:
                seen.add(key)
                yield run.planned(f"next, {len(seen)}", times, charge)
