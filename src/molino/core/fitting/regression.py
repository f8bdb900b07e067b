"""`fit`: the unknown constants of a chemistry from data, by least squares on the balances or on the rates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry, Covariance
from molino.core.chemistry.constants import Parameter
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.experiments import Experiment, Experiments, as_experiments
from molino.core.fitting.fit_result import Fit, Points, estimates_of
from molino.core.fitting.least_squares import COARSE, Model, Optimum, Problem, Progress, Scale, left_at, minimise
from molino.core.fitting.model import DELAY, BalanceModel, Sample, sample_of
from molino.core.fitting.rates import RateModel, Rates
from molino.core.fitting.replicates import pooled_scatter
from molino.core.frozen import Frozen
from molino.core.vessels.roles import INLET

ERRORS = ("each", "same", "relative", "replicates")
"""What can be reported about the errors without numbers."""

_APART = 10.0
"""Other starts of a fit are drawn up to this factor from the guess."""


@dataclass(frozen=True, eq=False)
class FitParameterMap(Frozen):
    """Which parameter of a fit stands for which symbol in the balances of each run."""

    free: tuple[Parameter, ...]
    runs: tuple[Experiment, ...]
    """With the guesses of unknown starts as what was charged."""
    places: Mapping[str, Mapping[sp.Symbol, int]]
    delay: int | None = None


def fit(
    chemistry: Chemistry,
    data: Experiments | Experiment | Rates | Sequence[Experiment | Experiments],
    *,
    errors: Any = "each",
    fit_initial: str | Sequence[str] | Mapping[str, str | Sequence[str]] = (),
    delay: Any = False,
    per_run: str | Sequence[str] = (),
    n_starts: int = 1,
    seed: int = 0,
    progress: Progress | None = None,
) -> Fit:
    """Fit the unknown constants of a chemistry to runs, all at once, on the integrated balances; or to rates.

    The sum of squares of (measured - calculated) / s is made least. Slopes are exact, from the sensitivity equations of
    batches and tubes and the implicit function theorem in tanks. The search is the trust-region method of
    `scipy.optimize.least_squares` (M. A. Branch, T. F. Coleman, Y. Li, SIAM J. Sci. Comput. 21 (1999) 1), within the
    bounds of each `Unknown`. Ctrl-C ends it with the best so far.

    Parameters
    ----------
    chemistry : Chemistry
        With `Unknown` constants.
    data : Experiments, runs, or Rates
        From `mo.read_experiments`, `mo.read_rates`, or made in Python.
    errors : str or mapping of species to quantity
        What s is. "each": one for each species, its residual standard deviation, found along with the constants (Y.
        Bard, Nonlinear Parameter Estimation, 1974, section 4-9). "same": one for all, ordinary least squares.
        "relative": proportional to each measured value, one factor a species. "replicates": the scatter of replicates
        of each species. Or given numbers, {"xylose": "0.004 mol/L"}; the factor that they are all off by is found.
    fit_initial : species, or several, or mapping of run to species
        Concentrations at the start (or in the feed) that are not known well: what was charged is then a guess.
    delay : bool or time
        Whether the samples were taken (and stopped to react) later than noted, by a time that is sought; the guess.
    per_run : name, or several
        Unknown constants that each run has for itself.
    n_starts : int
        How many starts the search is made from: the guess, and others drawn up to a factor of ten from it (in units of
        the guess where a constant may be negative), by Latin hypercube.
    seed : int
        Of that drawing.
    progress : callable, optional
        Called with the number of evaluations and the sum of squares so far.

    Returns
    -------
    Fit

    Raises
    ------
    InputError
        With everything that keeps data and chemistry from fitting together.
    SolveError
        If the balances cannot be integrated at the guess, or the search does not settle.

    Examples
    --------
    >>> import molino as mo
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> round(fit.values["r.k"] * 60, 3)
    0.199
    """
    runs = data if isinstance(data, Rates) else as_experiments(data)
    problem, points, parameter_map = prepare(chemistry, runs, errors, fit_initial, delay, per_run)
    if not isinstance(n_starts, int) or n_starts < 1:
        raise InputError(f"n_starts = {n_starts!r}", "fit", "give a whole number of starts, 1 or more")
    optimum, came = _best_of(problem, n_starts, seed, progress)
    points = replace(
        points, calculated=optimum.values, standard_deviation=optimum.standard_deviation, slopes=optimum.slopes
    )
    return _result(chemistry, runs, problem, optimum, points, parameter_map, came if n_starts > 1 else None)


def check_data(chemistry: Chemistry, data: Experiments | Rates, **options: Any) -> None:
    """Raise InputError with everything that keeps data, options and the unknowns of a chemistry from fitting."""
    prepare(chemistry, data, **options)


def prepare(
    chemistry: Chemistry, data: Experiments | Rates, errors: Any = "each",
    fit_initial: str | Sequence[str] | Mapping[str, str | Sequence[str]] = (), delay: Any = False,
    per_run: str | Sequence[str] = (),
) -> tuple[Problem, Points, FitParameterMap]:  # fmt: skip
    """The least-squares problem, its observations and what its parameters stand for."""
    faults = Faults()
    if isinstance(data, Rates):
        if fit_initial or delay or per_run:
            faults.add("fit", "rates have neither starts nor delays nor runs", "take these options out")
        parameter_map = FitParameterMap(chemistry.unknowns, (), {})
        points, model = _rate_points(chemistry, data, faults)
    else:
        parameter_map = _parameter_map(chemistry, data, fit_initial, delay, per_run, faults)
        points, model = _points(chemistry, data, parameter_map, faults)
    if not parameter_map.free:
        faults.add(
            "fit", "the chemistry has no unknown constant", "write k=mo.Unknown('0.02 1/min') where one is sought"
        )
    total = len(points.measured)
    if not faults.found and total <= len(parameter_map.free):
        message = f"{total} observations for {len(parameter_map.free)} unknown constants"
        faults.add("fit", message, "measure more, or give some constants as numbers")
    size, group = np.ones(total), np.zeros(total, dtype=int)
    if not faults.found:
        with faults.at("errors"):
            size, group = _weights(errors, data, points)
    faults.raise_any()
    temperatures = [T for T in data.temperatures if np.isfinite(T)]
    mean = 1 / float(np.mean([1 / T for T in temperatures])) if temperatures else np.nan
    return Problem(parameter_map.free, model, points.measured, size, group, mean), points, parameter_map


def _names(given: str | Sequence[str]) -> tuple[str, ...]:
    """One name, or several."""
    return (given,) if isinstance(given, str) else tuple(given)


def _parameter_map(
    chemistry: Chemistry, data: Experiments, fit_initial: Any, delay: Any, per_run: str | Sequence[str], faults: Faults
) -> FitParameterMap:
    """Every parameter that is sought, and where it stands in each run."""
    display = data.display
    per_run = _names(per_run)
    shared = [p for p in chemistry.unknowns if p.name not in per_run]
    for name in sorted({*per_run} - {p.name for p in chemistry.unknowns}):
        hint = nearest(name, (p.name for p in chemistry.unknowns))
        faults.add("per_run", f"'{name}' is not an unknown constant", hint)
    free = list(shared)
    places = {run.name: {p.symbol: i for i, p in enumerate(shared)} for run in data}
    for p in (p for p in chemistry.unknowns if p.name in per_run):
        for run in data:
            places[run.name][p.symbol] = len(free)
            free.append(replace(p, name=f"{p.name}, {run.name}"))
    if not isinstance(fit_initial, Mapping):
        fit_initial = {run.name: fit_initial for run in data}
    fit_initial = {name: _names(species) for name, species in fit_initial.items()}
    for name in fit_initial.keys() - places.keys():
        faults.add("fit_initial", f"there is no run '{name}'", nearest(name, places))
    runs = []
    for run in data:
        guesses = dict(run.charge)
        for species in fit_initial.get(run.name, ()):
            if species not in chemistry.names:
                faults.add(
                    "fit_initial", f"'{species}' is not a species of the chemistry", nearest(species, chemistry.names)
                )
                continue
            seen = run.measured.get(species, np.array([np.nan]))
            first = seen[np.isfinite(seen)][:1]
            guesses[species] = guesses.get(species) or (float(first[0]) if len(first) else 0.0)
            guess, typical = guesses[species], float(max([*guesses.values(), 1e-300]))
            places[run.name][INLET(species)] = len(free)
            unit = display.unit("concentration") or None
            word = "start" if run.vessel == "batch" else "feed"
            free.append(Parameter(f"{word} {species}, {run.name}", guess, unit, True, 0.0, np.inf, typical))
        sought = {s: guesses[s] for s in fit_initial.get(run.name, ()) if s in guesses}
        runs.append(replace(run, initial={**run.initial, **sought}))
    place = None
    if delay is not False and delay is not None:
        first_sample = min(
            (float(run.times[run.times > 0].min()) for run in data if (run.times > 0).any()), default=1.0
        )
        with faults.at("delay"):
            guess = 0.0 if delay is True else units.read(delay, "time", "delay").si
            place = len(free)
            unit = display.unit("time") or None
            free.append(Parameter(DELAY, guess, unit, True, -0.999 * first_sample, np.inf, first_sample))
            if not any(run.vessel == "batch" for run in data):
                raise InputError("no run is a batch", "", "outlets at steady state have no delay")
    return FitParameterMap(tuple(free), tuple(runs), places, place)


def _points(
    chemistry: Chemistry, data: Experiments, parameter_map: FitParameterMap, faults: Faults
) -> tuple[Points, Model]:
    """Every observation of the runs, and the balances that calculate them."""
    known = set(chemistry.names)
    responses = tuple(s for s in data.species if s in known)
    for name in sorted({n for run in data for n in (*run.measured, *run.initial)} - known):
        advice = f"{nearest(name, known)}; an inert is listed among the species of the chemistry"
        faults.add(data.source or "data", f"'{name}' is not a species of the chemistry", advice)
    samples: list[Sample] = []
    seen: list[tuple[Experiment, str, int]] = []
    for run in parameter_map.runs:
        with faults.at(f"run {run.name}"):
            own = tuple(s for s in responses if s in run.measured)
            here = [(s, int(row)) for s in own for row in np.flatnonzero(run.observed(s))]
            if not here:
                raise InputError("no species of the chemistry was measured", "", "name columns after the species")
            rows, columns = np.array([[row, own.index(s)] for s, row in here]).T
            places = parameter_map.places[run.name]
            samples.append(sample_of(run, chemistry, own, run.times, rows, columns, places, parameter_map.delay))
            seen += [(run, s, row) for s, row in here]
    variables = {"time": np.array([run.times[row] for run, _, row in seen])}
    if all(run.T is not None for run, _, _ in seen):
        variables["temperature"] = np.array([float(run.T or 0.0) for run, _, _ in seen])
    for charged in sorted({s for run in parameter_map.runs for s in run.initial}):
        levels = np.array([run.charge.get(charged, 0.0) for run, _, _ in seen])
        if len(np.unique(levels)) > 1:
            variables[f"initial {charged}"] = levels
    count = len(seen)
    points = Points(
        tuple(run.name for run, _, _ in seen),
        variables["time"],
        tuple(s for _, s, _ in seen),
        np.array([run.measured[s][row] for run, s, row in seen], dtype=float),
        np.zeros(count), np.ones(count), np.zeros((count, len(parameter_map.free))),
        tuple((run.condition, float(run.times[row])) for run, _, row in seen),
        variables,
    )  # fmt: skip
    return points, BalanceModel(tuple(samples))


def _rate_points(chemistry: Chemistry, data: Rates, faults: Faults) -> tuple[Points, Model]:
    """Every measured rate, and the rate laws that calculate it."""
    count = len(data.rate)
    empty = np.zeros(count)
    model: Model = RateModel.empty()
    with faults.at(data.source or "rates"):
        model = RateModel.of(chemistry, data)
    points = Points(
        data.run, data.time, (data.response,) * count, data.rate, empty, np.ones(count),
        np.zeros((count, len(chemistry.unknowns))), data.conditions, data.variables,
    )  # fmt: skip
    return points, model


def _weights(errors: Any, data: Experiments | Rates, points: Points) -> tuple[np.ndarray, np.ndarray]:
    """Standard deviation of each observation up to a factor, and which observations share that factor."""
    names = list(dict.fromkeys(points.species))
    which = np.array([names.index(s) for s in points.species])
    one, together = np.ones(len(which)), np.zeros(len(which), dtype=int)
    if isinstance(errors, Mapping):
        faults = Faults()
        for name in sorted(errors.keys() - set(names)):
            faults.add("", f"'{name}' was not measured", nearest(name, names))
        for name in sorted(set(names) - errors.keys()):
            faults.add("", f"no error of {name} is given", "give one for each measured species")
        given = {}
        for name in [n for n in names if n in errors]:
            with faults.at():
                given[name] = units.positive(errors[name], data.kind, name).si
        faults.raise_any()
        return np.array([given[s] for s in points.species]), together
    if errors == "each":
        return one, which
    if errors == "same":
        return one, together
    if errors == "relative":
        size = np.abs(points.measured)
        if not (size > 0).all():
            raise InputError("a measured value is zero", "", "'relative' has no error for it: leave it out, or 'each'")
        return size, which
    if errors == "replicates":
        scatter = pooled_scatter(points.replicates, points.measured, which)
        for n, name in enumerate(names):
            if not scatter.get(n, (0.0, 0))[0] > 0:
                raise InputError(f"{name} has no replicates that scatter", "", "give its error as a number, or 'each'")
        return np.array([scatter[int(n)][0] for n in which]), together
    advice = nearest(errors, ERRORS) if isinstance(errors, str) else f"one of {', '.join(ERRORS)}, or numbers"
    raise InputError(f"errors = {errors!r}", "", advice)


def _best_of(problem: Problem, n_starts: int, seed: int, progress: Progress | None) -> tuple[Optimum, tuple[int, int]]:
    """The best optimum from several starts, and how many of how many came to it."""
    if n_starts == 1:
        return minimise(problem, progress=progress), (1, 1)
    from scipy.stats import qmc

    scale = Scale(problem.free, problem.mean_temperature)
    guess = scale.inward(np.array([p.value for p in problem.free]))
    apart = np.where(scale.logarithmic, np.log(_APART), 1.0)
    drawn = qmc.LatinHypercube(len(guess), seed=seed).random(n_starts - 1) * 2 - 1
    fixed = problem.weighed(_typical(problem))  # one sum of squares for all starts, so that they can be compared
    ends: list[tuple[float, np.ndarray]] = []
    evaluations, stopped = 0, False
    for start in [guess, *(guess + apart * one for one in drawn)]:
        try:
            found = minimise(fixed, scale.outward(start), tolerance=COARSE**1.5, progress=progress)
        except SolveError:
            continue
        ends.append((float(np.sum(((problem.measured - found.values) / fixed.size) ** 2)), found.parameters))
        evaluations, stopped = evaluations + found.evaluations, found.stopped
        if stopped:
            break
    if not ends:
        raise SolveError(f"none of {n_starts} starts settled", "fit", "give other guesses, or bounds")
    least = min(ends, key=lambda end: end[0])
    came = sum(squares <= least[0] * 1.01 + 1e-12 for squares, _ in ends)
    if stopped:
        return left_at(problem, least[1], evaluations), (came, n_starts)
    found = minimise(problem, least[1], progress=progress)
    return replace(found, evaluations=evaluations + found.evaluations), (came, n_starts)


def _typical(problem: Problem) -> np.ndarray:
    """The root mean square of each group times the size of its observations."""
    standard_deviation = np.empty(len(problem.measured))
    for n in np.unique(problem.group):
        own = problem.group == n
        standard_deviation[own] = problem.size[own] * (
            np.sqrt(np.mean((problem.measured[own] / problem.size[own]) ** 2)) or 1.0
        )
    return standard_deviation


def _result(
    chemistry: Chemistry, data: Experiments | Rates, problem: Problem, optimum: Optimum, points: Points,
    parameter_map: FitParameterMap, came: tuple[int, int] | None,
) -> Fit:  # fmt: skip
    estimates, covariance, reasons = estimates_of(problem, optimum)
    shared = [i for i, p in enumerate(problem.free) if p.name in {q.name for q in chemistry.unknowns}]
    values = {problem.free[i].name: float(optimum.parameters[i]) for i in shared}
    kept = Covariance(tuple(values), covariance[np.ix_(shared, shared)], estimates[0].degrees_of_freedom)
    known = chemistry.with_values(values, kept) if values else chemistry
    return Fit(
        estimates, tuple(dict.fromkeys(points.species)), points, data, known, covariance, optimum.evaluations,
        problem, optimum, chemistry, parameter_map, reasons, came,
    )  # fmt: skip
