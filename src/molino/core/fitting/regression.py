"""`fit`: rate constants from concentrations, by least squares on the integrated balances."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.optimize import least_squares

from molino.core.balances.solve import integrate
from molino.core.balances.system import Case
from molino.core.chemistry.constants import Parameter
from molino.core.chemistry.network import Chemistry, Covariance
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.experiments import Experiment, Experiments, as_experiments
from molino.core.fitting.result import Estimate, Fit, Points
from molino.core.units import GAS_CONSTANT, Value
from molino.core.vessels.batch import Batch

Progress = Callable[[int, float], None]
"""Called after each evaluation with its number and the weighted sum of squares."""

_MOST_ROUNDS = 12
_TOLERANCE, _COARSE = 1e-10, 1e-4
_MOST_EVALUATIONS = 200


@dataclass(frozen=True)
class _Sample:
    """One experiment made ready: its case, where samples are, and which of them count for which species."""

    name: str
    case: Case
    times: np.ndarray
    columns: np.ndarray
    rows: np.ndarray
    values: np.ndarray
    responses: np.ndarray


class _Scale:
    """The variables that the search moves, and the parameters that they stand for.

    A constant that stays positive moves by its logarithm, so that a start several times off is no obstacle; others
    move in units of their guess. Where both A and Ea of an Arrhenius law are unknown, A moves as the logarithm of the
    constant at the mean temperature, ln A - Ea/(R T_mean), which takes the correlation of the two out (D. J. Pritchard,
    D. W. Bacon, Chem. Eng. Sci. 33 (1978) 1539).
    """

    def __init__(self, free: Sequence[Parameter], mean_temperature: float) -> None:
        self.free = free
        self.logarithmic = np.array([p.lower >= 0 and p.value > 0 for p in free])
        self.unit = np.array(
            [1.0 if log else abs(p.value) or 1.0 for p, log in zip(free, self.logarithmic, strict=True)]
        )
        names = [p.name for p in free]
        self.mix = np.eye(len(free))
        for i, p in enumerate(free):
            energy = p.name.removesuffix(".A") + ".Ea"
            default = p.lower == 0 and p.upper == np.inf
            if p.name.endswith(".A") and energy in names and default and np.isfinite(mean_temperature):
                j = names.index(energy)
                self.mix[i, j] = self.unit[j] / (GAS_CONSTANT * mean_temperature)

    def inward(self, parameters: np.ndarray) -> np.ndarray:
        """Variables from parameters."""
        plain = parameters / self.unit
        with np.errstate(divide="ignore", invalid="ignore"):
            plain = np.where(self.logarithmic, np.log(np.abs(parameters)), plain)
        return np.asarray(np.linalg.solve(self.mix, plain) if np.isfinite(plain).all() else plain)

    def outward(self, variables: np.ndarray) -> np.ndarray:
        """Parameters from variables."""
        plain = self.mix @ variables
        return np.asarray(np.where(self.logarithmic, np.exp(np.minimum(plain, 700.0)), plain * self.unit))

    def slope(self, parameters: np.ndarray) -> np.ndarray:
        """d(parameter)/d(variable), shape (parameters, variables)."""
        return np.asarray(np.where(self.logarithmic, parameters, self.unit)[:, None] * self.mix)

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        lower = np.array([p.lower for p in self.free])
        upper = np.array([p.upper for p in self.free])
        with np.errstate(divide="ignore"):
            low = np.where(self.logarithmic, np.log(np.maximum(lower, 0.0)), lower / self.unit)
            high = np.where(self.logarithmic, np.log(np.maximum(upper, 0.0)), upper / self.unit)
        return low, high


def fit(
    chemistry: Chemistry,
    experiments: Experiments | Experiment | Sequence[Experiment | Experiments],
    *,
    progress: Progress | None = None,
) -> Fit:
    """Fit the unknown constants of a chemistry to batch runs, all at once, on the integrated balances.

    The sum of squares of (measured - calculated) / s is made least, with one s for each measured species: its
    residual standard deviation, found along with the constants (Y. Bard, Nonlinear Parameter Estimation, 1974,
    section 4-9: maximum likelihood with unknown diagonal covariance). Slopes are exact, from the sensitivity equations.
    The search is the trust-region method of `scipy.optimize.least_squares` (M. A. Branch, T. F. Coleman, Y. Li, SIAM
    J. Sci. Comput. 21 (1999) 1), within the bounds of each `Unknown`.

    Parameters
    ----------
    chemistry : Chemistry
        With at least one `Unknown`.
    experiments : Experiments, or runs
        From `mo.read_experiments`, or made in Python.
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
    """
    data = as_experiments(experiments)
    free = chemistry.unknowns
    samples, responses = _prepare(chemistry, data, free)
    temperatures = [run.T for run in data if run.T is not None]
    mean = 1 / float(np.mean([1 / t for t in temperatures])) if temperatures else np.nan
    scale = _Scale(free, mean)
    symbols = tuple(p.symbol for p in free)
    measured = np.concatenate([s.values for s in samples])
    which = np.concatenate([s.responses for s in samples])
    evaluations = 0

    def calculate(parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Calculated values, shape (points,), and their slopes by the parameters, shape (points, parameters)."""
        values, slopes = [], []
        changed = dict(zip(symbols, parameters.tolist(), strict=True))
        for sample in samples:
            try:
                solution = integrate(sample.case.with_values(changed), sample.times, by=symbols)
            except SolveError as error:
                raise SolveError(fault.within(f"run {sample.name}") for fault in error.faults) from error
            assert solution.sensitivities is not None
            values.append(solution.states[sample.rows, sample.columns])
            slopes.append(solution.sensitivities[sample.rows, sample.columns])
        return np.concatenate(values), np.concatenate(slopes)

    last: tuple[bytes, np.ndarray, np.ndarray] | None = None
    weights = _first_weights(measured, which, len(responses))

    def evaluate(variables: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        nonlocal last, evaluations
        key = variables.tobytes()
        if last is None or last[0] != key:
            parameters = scale.outward(variables)
            values, slopes = calculate(parameters)
            last = (key, values, slopes @ scale.slope(parameters))
            evaluations += 1
            if progress is not None:
                progress(evaluations, float(np.sum(((measured - values) * weights) ** 2)))
        return last[1], last[2]

    def residuals(variables: np.ndarray) -> np.ndarray:
        try:
            return np.asarray((evaluate(variables)[0] - measured) * weights)
        except SolveError:
            if last is None:
                raise
            return np.full(len(measured), 1e6)  # a step too far: the search takes it back

    def jacobian(variables: np.ndarray) -> np.ndarray:
        return np.asarray(evaluate(variables)[1] * weights[:, None])

    variables = scale.inward(np.array([p.value for p in free]))
    settled = len(responses) == 1
    for _ in range(_MOST_ROUNDS):
        tolerance = _TOLERANCE if settled else _COARSE
        found = least_squares(
            residuals, variables, jac=jacobian, bounds=scale.bounds(),
            xtol=tolerance, ftol=tolerance, gtol=1e-15, max_nfev=_MOST_EVALUATIONS,
        )  # fmt: skip
        variables = found.x
        if found.status <= 0:
            said = f"the search did not settle in {_MOST_EVALUATIONS} evaluations"
            raise SolveError(said, "fit", "start from other guesses, set bounds, or fit fewer constants")
        spread = _spread(evaluate(variables)[0] - measured, which, len(responses), len(free))
        change = float(np.max(np.abs(1 / spread[which] / weights - 1)))
        weights = 1 / spread[which]
        if settled and (change < 1e-6 or len(responses) == 1):
            break
        settled = settled or change < 1e-3
    values, slopes = evaluate(variables)
    points = _points(data, samples, responses, values, measured, weights, slopes)
    return _result(chemistry, data, free, scale, variables, points, responses, evaluations)


def check_data(chemistry: Chemistry, data: Experiments) -> None:
    """Raise InputError with everything that keeps data and the unknowns of a chemistry from fitting together."""
    _prepare(chemistry, data, chemistry.unknowns)


def _prepare(
    chemistry: Chemistry, data: Experiments, free: Sequence[Parameter]
) -> tuple[list[_Sample], tuple[str, ...]]:
    """Each experiment as a case, and the species that are measured and calculated."""
    faults = Faults()
    if not free:
        faults.add(
            "fit", "the chemistry has no unknown constant", "write k=mo.Unknown('0.02 1/min') where one is sought"
        )
    known = set(chemistry.names)
    responses = tuple(s for s in data.species if s in known)
    for name in sorted({n for run in data for n in (*run.measured, *run.initial)} - known):
        faults.add(data.source or "data", f"'{name}' is not a species of the chemistry", nearest(name, known))
    samples = []
    for run in data:
        with faults.at(f"run {run.name}"):
            charge = {s: c for s, c in run.charge.items() if s in known}
            vessel = Batch(chemistry, charge, T=Value(run.T) if run.T is not None else None, name=f"run {run.name}")
            kept = tuple(s for s in responses if s in run.measured)
            whole = vessel.case
            case = Case(whole.balances.reduced(kept), whole.values)
            columns, rows, values, index = [], [], [], []
            times = run.times if run.times[0] == 0 else np.concatenate([[0.0], run.times])
            shift = len(times) - len(run.times)
            for n, species in enumerate(responses):
                if species in run.measured:
                    counted = np.flatnonzero(run.observed(species))
                    rows.append(counted + shift)
                    columns.append(np.full(len(counted), case.balances.names.index(species)))
                    values.append(run.measured[species][counted])
                    index.append(np.full(len(counted), n))
            if not values:
                raise InputError("no species of the chemistry was measured", "", "name columns after the species")
            samples.append(_Sample(run.name, case, times, *map(np.concatenate, (columns, rows, values, index))))
    total = sum(len(s.values) for s in samples)
    if not faults.found and total <= len(free):
        said = f"{total} observations for {len(free)} unknown constants"
        faults.add("fit", said, "measure more, or give some constants as numbers")
    faults.raise_any()
    return samples, responses


def _first_weights(measured: np.ndarray, which: np.ndarray, count: int) -> np.ndarray:
    """One over the root mean square of each response, until its residuals are known."""
    size = np.array([np.sqrt(np.mean(measured[which == n] ** 2)) if (which == n).any() else 1.0 for n in range(count)])
    return np.asarray(1 / np.where(size > 0, size, 1.0)[which])


def _spread(residuals: np.ndarray, which: np.ndarray, count: int, parameters: int) -> np.ndarray:
    """Residual standard deviation of each response; the parameters' degrees of freedom are shared out by size."""
    total = len(residuals)
    spread = np.ones(count)
    for n in range(count):
        own = residuals[which == n]
        if len(own):
            spread[n] = np.sqrt(np.sum(own**2) / (len(own) * (1 - parameters / total)))
    floor = 1e-10 * max(float(np.max(np.abs(residuals), initial=0.0)), float(np.max(spread)), 1e-300)
    return np.maximum(spread, floor)


def _points(
    data: Experiments, samples: list[_Sample], responses: tuple[str, ...], values: np.ndarray, measured: np.ndarray,
    weights: np.ndarray, slopes: np.ndarray,
) -> Points:  # fmt: skip
    """Every observation with what was calculated and its leverage (diagonal of the hat matrix)."""
    orthonormal, _ = np.linalg.qr(slopes * weights[:, None])
    return Points(
        tuple(run.name for run, s in zip(data, samples, strict=True) for _ in s.values),
        np.concatenate([s.times[s.rows] for s in samples]),
        tuple(responses[n] for s in samples for n in s.responses),
        measured,
        values,
        1 / weights,
        np.sum(orthonormal**2, axis=1),
        slopes,
    )


def _result(
    chemistry: Chemistry, data: Experiments, free: Sequence[Parameter], scale: _Scale, variables: np.ndarray,
    points: Points, responses: tuple[str, ...], evaluations: int,
) -> Fit:  # fmt: skip
    """Values, and C = s^2 (J'J)^-1 (N. R. Draper, H. Smith, Applied Regression Analysis, 3rd ed. 1998, ch. 24)."""
    parameters = scale.outward(variables)
    weighted = points.slopes / points.spread[:, None]
    degrees = len(points.measured) - len(free)
    variance = float(np.sum((points.residuals / points.spread) ** 2) / degrees)
    _, singular, right = np.linalg.svd(weighted, full_matrices=False)
    determined = singular > 1e-8 * max(singular[0], 1e-300)
    inverse = right[determined].T / singular[determined]
    inner = variance * inverse @ inverse.T
    lost = np.any(np.abs(right[~determined]) > 1e-3, axis=0)
    outward = scale.slope(parameters)
    covariance = outward @ inner @ outward.T
    errors = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    errors[lost] = np.inf
    values: dict[str, float] = dict(zip([p.name for p in free], parameters.tolist(), strict=True))
    kept = Covariance(tuple(values), covariance, degrees)
    estimates = []
    for p, value, error in zip(free, parameters, errors, strict=True):
        at_bound = any(
            np.isfinite(b) and abs(value - b) <= 1e-6 * max(abs(b), abs(p.value)) for b in (p.lower, p.upper)
        )
        estimates.append(Estimate(p.name, float(value), float(error), p.unit, at_bound, degrees))
    fitted: dict[str, Any] = {"chemistry": chemistry.with_values(values, kept), "covariance": covariance}
    return Fit(tuple(estimates), responses, points, data, evaluations=evaluations, **fitted)
