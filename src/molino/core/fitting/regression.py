"""`fit`: the unknown constants of a chemistry from data, by least squares on the balances or on the rates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from molino.core.annotations import ByName
from molino.core.arguments import check_starts, checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.reaction_set import Covariance
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.correlated_errors import Chains
from molino.core.fitting.error_sizes import weights_of
from molino.core.fitting.estimates import estimates_of
from molino.core.fitting.experiment import OUTLET, Experiment
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.fitting.fit_data import Points
from molino.core.fitting.fit_parameters import FitInitial, FitParameterMap, ParameterSearch, names
from molino.core.fitting.fit_result import Fit
from molino.core.fitting.least_squares import COARSE, Progress, left_at, minimise
from molino.core.fitting.least_squares_problem import Model, Optimum, Problem, Scale
from molino.core.fitting.model import BalanceModel, sample_of
from molino.core.fitting.rate_model import RateModel
from molino.core.fitting.rates.rates import Rates
from molino.core.fitting.robust import robustly
from molino.core.fitting.samples import Sample
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike

_APART = 10.0
"""Largest factor of other starts of a fit from the guess."""


@checked
def fit(
    chemistry: Chemistry,
    data: Experiments | Experiment | Rates | Sequence[Experiment | Experiments],
    *,
    errors: object = None,
    autocorrelated: bool = False,
    robust: bool = False,
    fit_initial: FitInitial = None,
    unknowns: ByName | None = None,
    delay: QuantityLike = False,
    offset: str | Sequence[str] = (),
    per_run: str | Sequence[str] = (),
    n_starts: int = 1,
    seed: int = 0,
    progress: Progress | None = None,
) -> Fit:
    """Fit the unknown constants of a chemistry to runs, all at once, on the integrated balances; or to rates.

    The sum of squares of (measured - calculated) / s is minimized with exact derivatives by a trust-region method (M.
    A. Branch, T. F. Coleman, Y. Li, SIAM J. Sci. Comput. 21 (1999) 1). Ctrl-C ends it with the best values so far.

    Parameters
    ----------
    chemistry : Chemistry with `Unknown` constants
    data : Experiments, runs, or Rates
    errors : str or mapping of response to quantity, optional
        The standard deviation s. "given": that of each value in the data, up to an estimated common factor; the default
        if each value has one, otherwise "each". "each": one per response, estimated (Y. Bard, Nonlinear Parameter
        Estimation, 1974, section 4-9). "same": one for all. "relative": proportional to each value, one factor per
        response. "constant and relative": s^2 = a^2 + (b value)^2, a and b of each response estimated (R. J. Carroll,
        D. Ruppert, Transformation and Weighting in Regression, 1988, chapter 3). "replicates": the scatter of
        replicates. Or {"xylose": "0.004 mol/L"}, up to a common factor; or one of these options for each response.
    autocorrelated : bool
        Whether errors of a response within a run are correlated, exp(-(time between)/tau), with a tau for each response
        that is estimated: as of an instrument that drifts, sampled often.
    robust : bool
        Whether values far from the model count for less: beyond 1.345 standard deviations the residual is cut (P. J.
        Huber, Robust Statistics, 1981). The result names them, with their weights.
    fit_initial : species, or several, or mapping of run to species, optional
        Initial (or feed) concentrations to be fitted; by default those measured at time zero and not stated.
    unknowns : mapping of name to quantity or Unknown, optional
        Conditions of the vessels to be fitted, with guesses: {"UA": "40 W/K", "coolant T": mo.Unknown("20 degC")}.
    delay : bool or time
        Whether the samples were taken later than noted, by a time to be fitted; or the guess of it.
    offset : response, or several
        Responses whose values have a common offset, to be fitted: a blank that was not subtracted.
    per_run : name, or several
        Unknown constants, or conditions, with a value per run.
    n_starts, seed : int
        Number of starts: the guess, and others up to a factor of ten from it (Latin hypercube, from the seed).
    progress : callable (evaluations, sum of squares), optional

    Returns
    -------
    Fit

    Raises
    ------
    InputError, SolveError
        For faults of the input; if balances cannot be integrated at the guess, or the search does not converge.

    Examples
    --------
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> round(mo.fit(open_chem, run).values["r.k"] * 60, 3)
    0.199
    """
    check_starts(n_starts, "fit")
    runs = data if isinstance(data, Rates) else as_experiments(data)
    problem, points, parameter_map = prepare(
        chemistry, runs, errors, autocorrelated, robust, fit_initial, unknowns, delay, offset, per_run
    )
    best, came = _best_of(problem, n_starts, seed, progress)
    weight = None
    if robust:
        problem, best, weight = robustly(problem, best, progress)
    own = slice(len(points.measured))  # without the priors
    points = replace(
        points,
        calculated=best.values[own],
        standard_deviation=best.standard_deviation[own],
        slopes=best.slopes[own],
        links=problem.without_priors().links(best.tau),
        weight=None if weight is None else weight[own],
    )
    return _result(chemistry, runs, problem, best, points, parameter_map, came if n_starts > 1 else None, errors)


def check_data(chemistry: Chemistry, data: Experiments | Rates, **options: Any) -> None:
    """Raise InputError with all faults of data, options and unknowns."""
    prepare(chemistry, data, **options)


def prepare(
    chemistry: Chemistry,
    data: Experiments | Rates,
    errors: object = None,
    autocorrelated: bool = False,
    robust: bool = False,
    fit_initial: FitInitial = None,
    unknowns: ByName | None = None,
    delay: QuantityLike = False,
    offset: str | Sequence[str] = (),
    per_run: str | Sequence[str] = (),
) -> tuple[Problem, Points, FitParameterMap]:
    """The least-squares problem, its observations and its parameter map."""
    faults = Faults()
    if isinstance(data, Rates):
        if fit_initial or delay or offset or per_run or unknowns or autocorrelated:
            message = "rates have neither starts nor delays nor offsets nor vessels nor runs"
            faults.add("fit", message, "take these options out")
        parameter_map = FitParameterMap(chemistry.unknowns, (), {})
        points, model = _rate_points(chemistry, data, faults)
    else:
        with faults.at("offset"):
            data = data.with_offsets(names(offset))
        parameter_map = ParameterSearch(chemistry, data, names(per_run), faults).map(fit_initial, unknowns or {}, delay)
        points, model = _points(chemistry, data, parameter_map, faults)
    if not parameter_map.free:
        faults.add("fit", "the chemistry has no unknown constant", "write k=mo.Unknown('0.02 1/min')")
    for p in parameter_map.free:
        if not np.isfinite(p.value):
            faults.add(p.name, "it has no guess", "write k=mo.Unknown('0.02 1/min')")
    total = len(points.measured)
    if total and not np.any(points.measured):
        faults.add("fit", "every measured value is zero, so that no constant is determined", "check the data")
    known = sum(np.isfinite(p.deviation) for p in parameter_map.free)
    if not faults.found and total + known <= len(parameter_map.free):
        message = f"{total} observations for {len(parameter_map.free)} unknown constants"
        faults.add("fit", message, "measure more, or give some constants as numbers")
    size, group = np.ones(total), np.zeros(total, dtype=int)
    if errors is None:
        errors = "given" if total and np.isfinite(points.given[points.is_value]).all() else "each"
    if not faults.found:
        with faults.at("errors"):
            size, group = weights_of(errors, data, points)
    for option, name in ((robust, "robust"), (errors == "constant and relative", "errors = 'constant and relative'")):
        if option and (autocorrelated or points.side.any()):
            faults.add(name, "not with limits of detection or correlated errors", "leave one of the two out")
    if robust and errors == "constant and relative":
        faults.add("robust", "not with errors = 'constant and relative'", "take 'each' or 'relative'")
    faults.raise_any()
    temperatures = [T for T in data.temperatures if np.isfinite(T)]
    mean = 1 / float(np.mean([1 / T for T in temperatures])) if temperatures else np.nan
    chains = Chains.of(points.run, points.response, points.time, points.is_value) if autocorrelated else None
    is_mixed = errors == "constant and relative"
    problem = Problem(
        parameter_map.free, model, points.measured, size, group, points.side, mean, chains, is_mixed=is_mixed
    )
    return problem.with_priors(), points, parameter_map


def _points(
    chemistry: Chemistry, data: Experiments, parameter_map: FitParameterMap, faults: Faults
) -> tuple[Points, Model]:
    """The observations of the runs, and the model that calculates them."""
    known = set(chemistry.names)
    in_data = {n for run in data for n in (*filter(run.is_species, run.measured), *run.initial)}
    in_signals = {n for signal in data.signals.values() for n in signal.species}
    for name in sorted((in_data | in_signals) - known):
        advice = f"{nearest(name, known)}; an inert is listed among the species of the chemistry"
        faults.add(data.source or "data", f"'{name}' is not a species of the chemistry", advice)
    samples: list[Sample] = []
    seen: list[tuple[Experiment, str, int]] = []
    for run in parameter_map.runs:
        with faults.at(f"run {run.name}"):
            own = tuple(r for r in run.measured if r in known or not run.is_species(r))
            here = [(r, int(row)) for r in own for row in np.flatnonzero(run.observed(r) | (run.limits(r) != 0))]
            if not here:
                raise InputError("no species of the chemistry was measured", "", "name columns after the species")
            rows, columns = np.array([[row, own.index(r)] for r, row in here]).T
            places = parameter_map.places[run.name]
            samples.append(sample_of(run, chemistry, own, run.times, rows, columns, places, parameter_map.guesses))
            seen += [(run, r, row) for r, row in here]
    count = len(seen)
    side = np.array([run.limits(r)[row] for run, r, row in seen], dtype=int)
    points = Points(
        tuple(run.name for run, _, _ in seen),
        np.array([run.times[row] for run, _, row in seen]),
        tuple(r for _, r, _ in seen),
        np.array([run.with_limits(r)[row] for run, r, row in seen], dtype=float),
        np.zeros(count),
        np.ones(count),
        np.zeros((count, len(parameter_map.free))),
        side,
        np.array([run.deviations[r][row] if r in run.deviations else np.nan for run, r, row in seen]),
        tuple((run.condition, float(run.times[row])) for run, _, row in seen),
        _variables(seen, data.is_by_pressure),
    )
    return points, BalanceModel(tuple(samples))


def _variables(seen: Sequence[tuple[Experiment, str, int]], by_pressure: bool) -> dict[str, np.ndarray]:
    """The varied conditions of observations: place, temperature, the charge."""
    found = {}
    axes = {run.axis for run, _, _ in seen}
    if len(axes) == 1 and OUTLET not in axes:
        found[axes.pop()] = np.array([run.times[row] for run, _, row in seen])
    temperatures = [run.T for run, _, _ in seen if run.T is not None]
    if len(temperatures) == len(seen):
        found["temperature"] = np.array(temperatures)
    for charged in sorted({s for run, _, _ in seen for s in run.initial}):
        levels = np.array([run.charge.get(charged, 0.0) for run, _, _ in seen])
        if len(np.unique(levels)) > 1 and by_pressure:
            found[f"initial p[{charged}]"] = levels * GAS_CONSTANT * np.array([run.T for run, _, _ in seen])
        elif len(np.unique(levels)) > 1:
            found[f"initial {charged}"] = levels
    return found


def _rate_points(chemistry: Chemistry, data: Rates, faults: Faults) -> tuple[Points, Model]:
    """The measured rates, and the model that calculates them."""
    count = len(data.rate)
    empty = np.zeros(count)
    model: Model = RateModel.empty()
    with faults.at(data.source or "rates"):
        model = RateModel.of(chemistry, data)
    points = Points(
        data.run,
        data.time,
        (data.response,) * count,
        data.rate,
        empty,
        np.ones(count),
        np.zeros((count, len(chemistry.unknowns))),
        np.zeros(count, dtype=int),
        np.full(count, np.nan),
        data.conditions,
        data.variables,
    )
    return points, model


def _best_of(problem: Problem, n_starts: int, seed: int, progress: Progress | None) -> tuple[Optimum, tuple[int, int]]:
    """The best optimum from several starts, the number of starts that reached it, and the number of all."""
    if n_starts == 1:
        return minimise(problem, progress=progress), (1, 1)
    from scipy.stats import qmc

    scale = Scale(problem.free, problem.mean_temperature)
    guess = scale.inward(np.array([p.value for p in problem.free]))
    apart = np.where(scale.logarithmic, np.log(_APART), 1.0)
    drawn = qmc.LatinHypercube(len(guess), seed=seed).random(n_starts - 1) * 2 - 1
    # one sum of squares for all starts, so that they can be compared
    fixed = replace(problem.weighed(_typical(problem)), chains=None)
    ends: list[tuple[float, np.ndarray]] = []
    evaluations, stopped = 0, False
    for start in [guess, *(guess + apart * one for one in drawn)]:
        try:
            found = minimise(fixed, scale.outward(start), tolerance=COARSE**1.5, progress=progress)
        except SolveError:
            continue
        squares = fixed.sum_of_squares(found.values, fixed.size, fixed.tau)
        ends.append((squares, found.parameters))
        evaluations, stopped = evaluations + found.evaluations, found.stopped
        if stopped:
            break
    if not ends:
        raise SolveError(f"none of {n_starts} starts converged", "fit", "give other guesses, or bounds")
    least = min(ends, key=lambda end: end[0])
    came = sum(squares <= least[0] * 1.01 + 1e-12 for squares, _ in ends)
    if stopped:
        return left_at(problem, least[1], evaluations), (came, n_starts)
    found = minimise(problem, least[1], progress=progress)
    return replace(found, evaluations=evaluations + found.evaluations), (came, n_starts)


def _typical(problem: Problem) -> np.ndarray:
    """The root mean square of each group times the size of its observations."""
    standard_deviation = problem.size.copy()
    for n in np.unique(problem.group[~problem.is_prior]):
        own = problem.group == n
        standard_deviation[own] = problem.size[own] * (
            np.sqrt(np.mean((problem.measured[own] / problem.size[own]) ** 2)) or 1.0
        )
    return standard_deviation


def _result(
    chemistry: Chemistry,
    data: Experiments | Rates,
    problem: Problem,
    optimum: Optimum,
    points: Points,
    parameter_map: FitParameterMap,
    came: tuple[int, int] | None,
    errors: object,
) -> Fit:
    estimates, covariance, reasons = estimates_of(problem, optimum)
    shared = [i for i, p in enumerate(problem.free) if p.name in {q.name for q in chemistry.unknowns}]
    values = {problem.free[i].name: float(optimum.parameters[i]) for i in shared}
    fewest = int(min((estimates[i].degrees_of_freedom for i in shared), default=0))
    known_T = [T for T in data.temperatures if np.isfinite(T)]
    ends = (float(min(known_T)), float(max(known_T))) if known_T else None
    in_laws = frozenset[str]().union(*(reaction.asks for reaction in chemistry.reactions))
    highest = {s: c for s, c in data.highest_concentrations.items() if s in in_laws}
    kept = Covariance(tuple(values), covariance[np.ix_(shared, shared)], fewest, None, ends, highest)
    known = chemistry.with_values(values, kept) if values else chemistry
    return Fit(
        estimates,
        tuple(dict.fromkeys(points.response)),
        points,
        data,
        known,
        covariance,
        optimum.evaluations,
        problem,
        optimum,
        chemistry,
        parameter_map,
        reasons,
        came,
        errors,
    )
