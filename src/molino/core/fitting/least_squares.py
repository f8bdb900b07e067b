"""Least squares for whatever is to be fitted: the search, its scale, and the errors that weigh the observations."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
from scipy.optimize import least_squares, root

from molino.core.chemistry.constants import Parameter
from molino.core.errors import SolveError
from molino.core.frozen import Frozen
from molino.core.units import GAS_CONSTANT

Progress = Callable[[int, float], None]
"""Called after each evaluation with its number and the sum of squares, each response in its root mean square."""

_NEAR = 1e-3
"""How far, in variables of the search, a stationary point lies at most from where the search ended."""
_MOST_ROUNDS = 12
TOLERANCE, COARSE = 1e-10, 1e-4
_MOST_EVALUATIONS = 200
RANK = 1e-8
"""Singular values below this fraction of the largest say that parameters are not determined."""


class Model(Protocol):
    """What calculates the observations."""

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Calculated values, shape (points,), and their slopes by the parameters, shape (points, parameters)."""

    def rough(self) -> Model:
        """The same to fewer digits, where that is quicker: for the way to an optimum."""


@dataclass(frozen=True, eq=False)
class Fixed(Frozen):
    """A model with some of its parameters held at numbers."""

    model: Model
    whole: np.ndarray
    left: np.ndarray
    """Indices of the parameters that are still free."""

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        whole = self.whole.copy()
        whole[self.left] = parameters
        values, slopes = self.model(whole)
        return values, slopes[:, self.left]

    def rough(self) -> Fixed:
        return replace(self, model=self.model.rough())


@dataclass(frozen=True, eq=False)
class Problem(Frozen):
    """Observations, what calculates them, and how sure they are.

    Attributes
    ----------
    free : tuple of Parameter
        What is sought, with guess and bounds.
    model : Model
    measured : array, shape (points,)
    size : array, shape (points,)
        Standard deviation of each observation up to a factor.
    group : array of int, shape (points,)
        Observations of one group share that factor, which is found along with the parameters.
    mean_temperature : float
        At which a pre-exponential factor and its activation energy are least correlated; nan if there is none.
    """

    free: tuple[Parameter, ...]
    model: Model
    measured: np.ndarray
    size: np.ndarray
    group: np.ndarray
    mean_temperature: float = np.nan

    def fixing(self, index: Sequence[int], values: Sequence[float], standard_deviation: np.ndarray) -> Problem:
        """The same with some parameters held at numbers, and the standard deviations at theirs."""
        left = np.array([i for i in range(len(self.free)) if i not in index], dtype=int)
        whole = np.array([p.value for p in self.free])
        whole[list(index)] = values
        free = tuple(self.free[i] for i in left)
        return replace(self.weighed(standard_deviation), free=free, model=Fixed(self.model, whole, left))

    def weighed(self, standard_deviation: np.ndarray, measured: np.ndarray | None = None) -> Problem:
        """The same with known standard deviations (and, if given, other measurements)."""
        group = np.zeros(len(self.measured), dtype=int)
        return replace(
            self, size=standard_deviation, group=group, measured=self.measured if measured is None else measured
        )


def leverage(weighted: np.ndarray) -> np.ndarray:
    """Diagonal of the hat matrix, shape (points,), of slopes over standard deviations, shape (points, parameters)."""
    size = np.sqrt(np.sum(weighted**2, axis=0))
    left, singular, _ = np.linalg.svd(weighted / np.where(size > 0, size, 1.0), full_matrices=False)
    return np.asarray(np.sum(left[:, singular > RANK * max(singular[0], 1e-300)] ** 2, axis=1))


def degrees_by_group(problem: Problem, weighted: np.ndarray, counts: np.ndarray) -> np.ndarray:
    """Degrees of freedom of each group of observations that share an error: their number less their leverage.

    Of one group all observations less parameters. At least a tenth of what they would have if the parameters took the
    same share of every observation, so that a group that is met by parameters of its own keeps an error.
    """
    groups = int(problem.group.max(initial=0)) + 1
    total, many = float(counts.sum()), np.bincount(problem.group, counts, minlength=groups)
    even = many * max(1 - weighted.shape[1] / total, 1e-12)
    if groups == 1 or not weighted.size:
        return np.asarray(even)
    own = many - np.bincount(problem.group, leverage(weighted), minlength=groups)
    return np.asarray(np.maximum(own, 0.1 * even))


class Scale:
    """The variables that the search moves, and the parameters that they stand for.

    A constant that stays positive moves by its logarithm, so that a start several times off is no obstacle; others
    move in units of their guess. Where both A and Ea of an Arrhenius law are unknown, A moves as the logarithm of the
    constant at the mean temperature, ln A - Ea/(R T_mean), which takes the correlation of the two out (D. J. Pritchard,
    D. W. Bacon, Chem. Eng. Sci. 33 (1978) 1539).
    """

    def __init__(self, free: Sequence[Parameter], mean_temperature: float = np.nan) -> None:
        self.free = free
        self.logarithmic = np.array([p.lower >= 0 and p.value > 0 for p in free], dtype=bool)
        self.unit = np.array(
            [1.0 if log else abs(p.value) or p.size for p, log in zip(free, self.logarithmic, strict=True)]
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


@dataclass(frozen=True, eq=False)
class Optimum(Frozen):
    """Where the sum of squares is least (or, `stopped`, the best that was found before an interruption)."""

    parameters: np.ndarray
    values: np.ndarray
    slopes: np.ndarray
    """d(value)/d(parameter), shape (points, parameters)."""
    standard_deviation: np.ndarray
    """Standard deviation of each observation, shape (points,)."""
    evaluations: int
    stopped: bool = False

    def left_to_move(self, measured: np.ndarray) -> float:
        """How far the constants that the data determine are from a stationary point, relative to their sizes.

        One Gauss-Newton step from here, by the slopes at the end: zero where the gradient is.
        """
        weighted = self.slopes / self.standard_deviation[:, None]
        size = np.sqrt(np.sum(weighted**2, axis=0))
        held = (size > 0) & (self.parameters != 0)
        if not held.any() or self.stopped:
            return 0.0
        left = (measured - self.values) / self.standard_deviation
        step = np.linalg.lstsq(weighted[:, held] / size[held], left, rcond=RANK)[0] / size[held]
        return float(np.max(np.abs(step / self.parameters[held])))

    def fall_near(self, problem: Problem) -> float:
        """By how much the sum of squares falls, as a share of it, half a standard error along its flattest direction.

        Zero where it rises, as it does at a minimum, but not at a saddle. Not a number where that is not known: the
        data hardly determine the direction, or the model has no values there.
        """
        scale = Scale(problem.free, problem.mean_temperature)
        weighted = self.slopes @ scale.slope(self.parameters) / self.standard_deviation[:, None]
        _, singular, directions = np.linalg.svd(weighted, full_matrices=False)
        known = np.flatnonzero(singular > RANK * max(float(singular[0]), 1e-300))
        if not len(known):
            return np.nan
        step = _NEAR_OPTIMUM / singular[known[-1]] * directions[known[-1]]
        if np.abs(step).max() > _FARTHEST_NEAR:  # hardly determined, which the intervals state
            return np.nan
        try:
            values, _ = problem.model(scale.outward(scale.inward(self.parameters) + step))
        except SolveError:
            return np.nan
        here = self.sum_of_squares(problem.measured)
        there = float(np.sum(((problem.measured - values) / self.standard_deviation) ** 2))
        return max(here - there, 0.0) / max(here, 1e-300)

    def sum_of_squares(self, measured: np.ndarray) -> float:
        """Of the weighted residuals."""
        return float(np.sum(((measured - self.values) / self.standard_deviation) ** 2))


_NEAR_OPTIMUM, _FARTHEST_NEAR = 0.5, 0.5
"""Standard errors from the optimum at which the sum of squares is looked at, and the farthest in scaled parameters."""


class _Search:
    """One search: remembers the last evaluation and the best."""

    def __init__(self, problem: Problem, counts: np.ndarray | None, progress: Progress | None) -> None:
        self.problem, self.progress = problem, progress
        self.model = problem.model.rough()
        self.scale = Scale(problem.free, problem.mean_temperature)
        self.root = 1.0 if counts is None else np.sqrt(counts)
        self.first = self.weights = _first_weights(problem)
        self.evaluations = 0
        self.last: tuple[bytes, np.ndarray, np.ndarray] | None = None
        self.best: tuple[float, np.ndarray] = np.inf, np.empty(0)

    def exactly(self) -> None:
        """From here on to all digits."""
        self.model, self.last = self.problem.model, None

    def evaluate(self, variables: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        key = variables.tobytes()
        if self.last is None or self.last[0] != key:
            parameters = self.scale.outward(variables)
            values, slopes = self.model(parameters)
            self.last = (key, values, slopes)
            self.evaluations += 1
            left = (self.problem.measured - values) * self.root
            squares = float(np.sum((left * self.weights) ** 2))
            if squares < self.best[0]:
                self.best = squares, variables.copy()
            if self.progress is not None:
                self.progress(self.evaluations, float(np.sum((left * self.first) ** 2)))
        return self.last[1], self.last[2]

    def residuals(self, variables: np.ndarray) -> np.ndarray:
        try:
            return np.asarray((self.evaluate(variables)[0] - self.problem.measured) * self.weights * self.root)
        except SolveError:
            if self.last is None:
                raise
            return np.full(len(self.problem.measured), 1e6)  # a step too far: the search takes it back

    def jacobian(self, variables: np.ndarray) -> np.ndarray:
        slopes = self.evaluate(variables)[1] @ self.scale.slope(self.scale.outward(variables))
        return np.asarray(slopes * np.broadcast_to(self.weights * self.root, len(slopes))[:, None])

    def least(self, variables: np.ndarray, aim: float) -> tuple[np.ndarray, bool]:
        """The optimum at the present weights to a relative tolerance, and whether it lies within all bounds."""
        low, high = self.scale.bounds()
        found = least_squares(
            self.residuals,
            np.clip(variables, low, high),
            jac=self.jacobian,
            bounds=(low, high),
            xtol=aim,
            ftol=aim,
            gtol=1e-15,
            max_nfev=_MOST_EVALUATIONS,
        )
        if found.status <= 0:
            message = f"the search did not settle in {_MOST_EVALUATIONS} evaluations"
            raise SolveError(message, "fit", "start from other guesses, set bounds, or fit fewer constants")
        return np.asarray(found.x), not found.active_mask.any()

    def reweigh(self, variables: np.ndarray) -> float:
        """Take the weights from the residuals; how far they changed, relative."""
        standard_deviation = self.standard_deviation(*self.evaluate(variables))
        change = float(np.max(np.abs(1 / standard_deviation / self.weights - 1)))
        self.weights, self.best = 1 / standard_deviation, (np.inf, variables)
        return change

    def in_rounds(self, variables: np.ndarray, aim: float, enough: float) -> tuple[np.ndarray, bool]:
        """Optimum and weights in turns, until the weights change by no more than `enough`."""
        one = int(self.problem.group.max(initial=0)) == 0
        inside = True
        for _ in range(_MOST_ROUNDS):
            variables, inside = self.least(variables, aim)
            if self.reweigh(variables) < enough or one:
                break
        return variables, inside

    def polish(self, variables: np.ndarray) -> tuple[np.ndarray, bool]:
        """Plain Gauss-Newton steps as long as each is less than half of the one before; whether they came to nothing.

        The search ends when the sum of squares hardly falls any more, which tells the constants to half the digits.
        """
        before = 1e-2
        low, high = self.scale.bounds()
        for _ in range(_MOST_ROUNDS):
            self.reweigh(variables)
            step = -np.linalg.lstsq(self.jacobian(variables), self.residuals(variables), rcond=1e-10)[0]
            size = float(np.max(np.abs(step)))
            beyond = (variables + step < low) | (variables + step > high)
            if beyond.any() or not size < 0.5 * before:
                break
            variables, before = variables + step, size
            if size < TOLERANCE**1.1:
                break
        self.reweigh(variables)
        return variables, before < TOLERANCE**0.9

    def stationary(self, variables: np.ndarray) -> np.ndarray:
        """Where the gradient is zero, by Powell's hybrid method, next to where the search ended.

        With large residuals Gauss-Newton steps converge slowly, and the sum of squares tells half of the digits only.
        Of errors in several groups the weights move along, and the end of the search stays.
        """
        if int(self.problem.group.max(initial=0)):
            return variables
        size = float(np.linalg.norm(self.residuals(variables)))
        columns = np.maximum(np.linalg.norm(self.jacobian(variables), axis=0), 1e-300)

        def gradient(v: np.ndarray) -> np.ndarray:
            return np.asarray(self.jacobian(v).T @ self.residuals(v) / columns / max(size, 1e-300))

        try:
            found = root(gradient, variables, method="hybr", options={"xtol": 1e-13})
        except SolveError:
            return variables
        low, high = self.scale.bounds()
        is_inside = ((found.x > low) & (found.x < high)).all()
        is_near = np.max(np.abs(found.x - variables)) < _NEAR
        is_better = np.linalg.norm(gradient(found.x)) < np.linalg.norm(gradient(variables))
        return np.asarray(found.x) if is_inside and is_near and is_better else variables

    def standard_deviation(self, values: np.ndarray, slopes: np.ndarray) -> np.ndarray:
        """Standard deviation of each observation, from the residuals of its group and their degrees of freedom."""
        problem = self.problem
        scaled = (values - problem.measured) / problem.size
        counts = np.broadcast_to(self.root**2, scaled.shape)
        weighted = slopes * np.broadcast_to(self.weights * self.root, scaled.shape)[:, None]
        degrees = degrees_by_group(problem, weighted, counts)
        factor = np.ones(len(degrees))
        for n in range(len(factor)):
            own = problem.group == n
            if own.any():
                factor[n] = np.sqrt(float(np.sum(counts[own] * scaled[own] ** 2)) / max(degrees[n], 1e-12))
        floor = 1e-10 * max(float(np.max(np.abs(scaled), initial=0.0)), float(np.max(factor)))
        floor = max(floor, 1e-15 * float(np.max(np.abs(problem.measured / problem.size), initial=0.0)), 1e-200)
        return np.asarray(np.maximum(factor, floor)[problem.group] * problem.size)


def minimise(
    problem: Problem,
    start: np.ndarray | None = None,
    *,
    counts: np.ndarray | None = None,
    tolerance: float = TOLERANCE,
    progress: Progress | None = None,
) -> Optimum:
    """Make the sum of (measured - calculated)^2 / s^2 least, s found along for each group of observations.

    The trust-region method of `scipy.optimize.least_squares` (M. A. Branch, T. F. Coleman, Y. Li, SIAM J. Sci. Comput.
    21 (1999) 1) within the bounds; s in turns with the parameters, from the residuals of its group over their degrees
    of freedom (restricted maximum likelihood: H. D. Patterson, R. Thompson, Biometrika 58 (1971) 545). `counts` weighs
    each observation by how often it stands there. An interruption (KeyboardInterrupt) gives the best so far.

    Raises
    ------
    SolveError
        If the model cannot be calculated at the start, or the search does not settle.
    """
    search = _Search(problem, counts, progress)
    scale = search.scale
    begin = start if start is not None else np.array([p.value for p in problem.free])
    if not len(problem.free):
        values, slopes = problem.model(begin)
        return Optimum(begin, values, slopes, search.standard_deviation(values, slopes), 1)
    low, high = scale.bounds()
    variables, stopped = np.clip(scale.inward(begin), low, high), False
    search.best = np.inf, variables
    try:
        exact = tolerance <= TOLERANCE
        variables, inside = search.in_rounds(variables, COARSE if exact else tolerance, 1e-3)
        if exact:
            search.exactly()
            found, there = search.polish(variables) if inside else (variables, False)
            if not there:
                found, inside = search.in_rounds(variables, tolerance, 1e-6)
                found = search.stationary(found) if inside else found
            variables = found
    except KeyboardInterrupt:
        variables, stopped = search.best[1], True
    values, slopes = search.evaluate(variables)
    return Optimum(
        scale.outward(variables), values, slopes, search.standard_deviation(values, slopes), search.evaluations, stopped
    )


def left_at(problem: Problem, parameters: np.ndarray, evaluations: int) -> Optimum:
    """What a search that was interrupted leaves behind."""
    values, slopes = problem.model(parameters)
    standard_deviation = _Search(problem, None, None).standard_deviation(values, slopes)
    return Optimum(parameters, values, slopes, standard_deviation, evaluations, stopped=True)


def _first_weights(problem: Problem) -> np.ndarray:
    """One over the root mean square of each group, until its residuals are known."""
    weights = np.empty(len(problem.measured))
    scaled = problem.measured / problem.size
    for n in range(int(problem.group.max(initial=0)) + 1):
        own = problem.group == n
        size = np.sqrt(np.mean(scaled[own] ** 2)) if own.any() else 1.0
        weights[own] = 1 / ((size if size > 0 else 1.0) * problem.size[own])
    return weights
