"""A least-squares problem, its scales and its optimum."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
import scipy

from molino.core.chemistry.constants import Parameter
from molino.core.errors import SolveError
from molino.core.fitting.censoring import Deviations, deviations
from molino.core.fitting.correlated_errors import Chains, Links
from molino.core.frozen import Frozen
from molino.core.unit_tables import GAS_CONSTANT

RANK = 1e-8
"""Singular values below this fraction of the largest mean undetermined parameters."""
_WIDEST_RATIO = 6.0
"""Largest logarithm of the ratio of the relative and the constant part of errors."""
_NEAR_OPTIMUM, _FARTHEST_NEAR = 0.5, 0.5
"""Distance from the optimum in standard errors at which the sum of squares is checked, and the largest in scaled
parameters."""


class Model(Protocol):
    """The model of the observations."""

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Calculated values, shape (points,), and their derivatives by the parameters, shape (points, parameters)."""

    def rough(self) -> Model:
        """The same to fewer digits, for the way to an optimum."""

    def plain(self) -> Model:
        """The same for values alone: where it is faster, its derivatives are zero."""


@dataclass(frozen=True, eq=False)
class Fixed(Frozen):
    """A model with some of its parameters fixed."""

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

    def plain(self) -> Fixed:
        return replace(self, model=self.model.plain())


@dataclass(frozen=True, eq=False)
class WithPriors(Frozen):
    """A model with some of its parameters as its last observations."""

    model: Model
    index: np.ndarray

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        values, slopes = self.model(parameters)
        return np.append(values, parameters[self.index]), np.vstack([slopes, np.eye(len(parameters))[self.index]])

    def rough(self) -> WithPriors:
        return replace(self, model=self.model.rough())

    def plain(self) -> WithPriors:
        return replace(self, model=self.model.plain())


@dataclass(frozen=True, eq=False)
class Problem(Frozen):
    """Observations, their model, and their errors.

    Attributes
    ----------
    free : tuple of Parameter
        The unknowns, with guess and bounds.
    model : Model
    measured : array, shape (points,)
    size : array, shape (points,)
        Standard deviation of each observation up to a factor.
    group : array of int, shape (points,)
        Observations of one group have a common factor, which is estimated with the parameters.
    side : array of int, shape (points,)
        0 of a value, -1 of a limit that the value is below, 1 of one that it is above.
    chains : Chains, optional
        Observations with correlated errors.
    tau : array of s, shape (responses,), optional
        Their correlation times, if they are known; otherwise they are estimated with the parameters.
    priors : int
        The number of last observations that are priors of parameters, with known errors.
    is_mixed : bool
        Whether the errors of a group have a constant and a relative part, which are both estimated.
    mean_temperature : float
        At which a pre-exponential factor and its activation energy are least correlated; nan without one.
    """

    free: tuple[Parameter, ...]
    model: Model
    measured: np.ndarray
    size: np.ndarray
    group: np.ndarray
    side: np.ndarray
    mean_temperature: float = np.nan
    chains: Chains | None = None
    tau: np.ndarray | None = None
    priors: int = 0
    is_mixed: bool = False

    @property
    def is_prior(self) -> np.ndarray:
        """Whether each observation is the prior of a parameter; shape (points,), bool."""
        return np.arange(len(self.measured)) >= len(self.measured) - self.priors

    def with_priors(self) -> Problem:
        """The same with the priors of its parameters as its last observations, whose errors are known."""
        index = [i for i, p in enumerate(self.free) if np.isfinite(p.deviation)]
        if not index:
            return self
        zeros = np.zeros(len(index), dtype=int)
        chains = self.chains.with_separate(len(index)) if self.chains is not None else None
        return replace(
            self,
            model=WithPriors(self.model, np.array(index)),
            measured=np.append(self.measured, [self.free[i].value for i in index]),
            size=np.append(self.size, [self.free[i].deviation for i in index]),
            group=np.append(self.group, zeros + self.group.max(initial=-1) + 1),
            side=np.append(self.side, zeros),
            chains=chains,
            priors=len(index),
        )

    def without_priors(self) -> Problem:
        """The same without the priors of its parameters."""
        model, own = self.model, ~self.is_prior
        if not isinstance(model, WithPriors):
            return self
        chains = self.chains.first(int(own.sum())) if self.chains is not None else None
        arrays = {name: getattr(self, name)[own] for name in ("measured", "size", "group", "side")}
        return replace(self, **arrays, model=model.model, chains=chains, priors=0)

    def links(self, tau: np.ndarray | None) -> Links:
        """The correlations of errors at correlation times."""
        if self.chains is None or tau is None:
            return Links.none(len(self.measured))
        return self.chains.links(tau)

    def sum_of_squares(self, calculated: np.ndarray, standard_deviation: np.ndarray, tau: np.ndarray | None) -> float:
        """Of the weighted, independent residuals; with limits -2 log(likelihood) up to a constant."""
        return float(np.sum(self.links(tau).whiten(self.deviations(calculated, standard_deviation).scaled) ** 2))

    def deviations(self, calculated: np.ndarray, standard_deviation: np.ndarray) -> Deviations:
        """The deviations of the observations from calculated values."""
        return deviations(self.measured, self.side, calculated, standard_deviation)

    def fixing(self, index: Sequence[int], values: Sequence[float], optimum: Optimum) -> Problem:
        """The same with some parameters fixed, and the errors as at an optimum."""
        left = np.array([i for i in range(len(self.free)) if i not in index], dtype=int)
        whole = np.array([p.value for p in self.free])
        whole[list(index)] = values
        free = tuple(self.free[i] for i in left)
        return replace(self.with_errors_of(optimum), free=free, model=Fixed(self.model, whole, left))

    def weighed(self, standard_deviation: np.ndarray, measured: np.ndarray | None = None) -> Problem:
        """The same with known standard deviations (and, if given, other measurements)."""
        group = np.zeros(len(self.measured), dtype=int)
        found = self.measured if measured is None else measured
        return replace(self, size=standard_deviation, group=group, measured=found, is_mixed=False)

    def with_errors_of(self, optimum: Optimum) -> Problem:
        """The same with the standard deviations, and their correlations, of an optimum."""
        return replace(self.weighed(optimum.standard_deviation), tau=optimum.tau)

    def as_values(self) -> Problem:
        """The same with all observations as values, with independent errors."""
        return replace(self, side=np.zeros_like(self.side), chains=None, tau=None)


def leverage(weighted: np.ndarray) -> np.ndarray:
    """Diagonal of the hat matrix, shape (points,), of derivatives over standard deviations, shape (points,
    parameters)."""
    size = np.sqrt(np.sum(weighted**2, axis=0))
    tall, square = np.linalg.qr(weighted / np.where(size > 0, size, 1.0))
    left, singular, _ = np.linalg.svd(square, full_matrices=False)
    return np.asarray(np.sum((tall @ left[:, singular > RANK * max(singular[0], 1e-300)]) ** 2, axis=1))


def degrees_by_group(problem: Problem, weighted: np.ndarray, counts: np.ndarray) -> np.ndarray:
    """Degrees of freedom of each group of observations with a common error: their number less their leverage.

    For one group all observations less parameters; infinite for priors. At least a tenth of the value for equal
    leverage of all observations, so that a group that is fitted by its own parameters has an error.
    """
    groups = int(problem.group.max(initial=0)) + 1
    total, many = float(counts.sum()), np.bincount(problem.group, counts, minlength=groups)
    even = many * max(1 - weighted.shape[1] / total, 1e-12)
    if groups == 1 or not weighted.size:
        return np.asarray(even)
    own = many - np.bincount(problem.group, leverage(weighted), minlength=groups)
    found = np.maximum(own, 0.1 * even)
    found[problem.group[problem.is_prior]] = np.inf
    return np.asarray(found)


def mixed_errors(residuals: np.ndarray, values: np.ndarray, leverage: np.ndarray, degrees: float) -> np.ndarray:
    """The standard deviations of a group, s^2 = a^2 + (b value)^2, shape (points,).

    The pseudo-likelihood with leverages: sum of (1 - h) log s^2 + r^2/s^2 is minimized (R. J. Carroll, D. Ruppert,
    Transformation and Weighting in Regression, 1988, section 3.3).
    """
    relative = np.abs(values) / max(float(np.sqrt(np.mean(values**2))), 1e-300)

    def sizes(log_ratio: float) -> np.ndarray:
        return np.asarray(np.hypot(1.0, np.exp(log_ratio) * relative))

    def deviance(log_ratio: float) -> float:
        size = sizes(log_ratio)
        squares = max(float(np.sum((residuals / size) ** 2)), 1e-300)
        return 2 * float(np.sum((1 - leverage) * np.log(size))) + degrees * float(np.log(squares))

    grid = np.linspace(-_WIDEST_RATIO, _WIDEST_RATIO, 21)
    best = int(np.argmin([deviance(float(x)) for x in grid]))
    ends = float(grid[max(best - 1, 0)]), float(grid[min(best + 1, len(grid) - 1)])
    size = sizes(scipy.optimize.minimize_scalar(deviance, bounds=ends, method="bounded", options={"xatol": 1e-10}).x)
    return np.asarray(size * np.sqrt(np.sum((residuals / size) ** 2) / degrees))


class Scale:
    """The variables of the search, and their map to the parameters.

    The variable of a positive constant is its logarithm, so that a guess may be several times too large or small;
    others are in units of their guess. If both A and Ea of an Arrhenius law are unknown, the variable of A is the
    logarithm of the constant at the mean temperature, ln A - Ea/(R T_mean), which removes the correlation of the two
    (D. J. Pritchard, D. W. Bacon, Chem. Eng. Sci. 33 (1978) 1539).
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
    """The minimum of the sum of squares (or, if `stopped`, the best before an interruption)."""

    parameters: np.ndarray
    values: np.ndarray
    slopes: np.ndarray
    """d(value)/d(parameter), shape (points, parameters)."""
    standard_deviation: np.ndarray
    """Standard deviation of each observation, shape (points,)."""
    evaluations: int
    stopped: bool = False
    tau: np.ndarray | None = None
    """Correlation times of the errors of each response in s."""

    def left_to_move(self, problem: Problem) -> float:
        """Relative distance of the determined constants from a stationary point.

        The size of a Gauss-Newton step from here: zero if the gradient is zero.
        """
        links = problem.links(self.tau)
        _, left = problem.deviations(self.values, self.standard_deviation).steps
        weighted, left = self.information_rows(problem), links.whiten(left)
        size = np.sqrt(np.sum(weighted**2, axis=0))
        held = (size > 0) & (self.parameters != 0)
        if not held.any() or self.stopped:
            return 0.0
        step = np.linalg.lstsq(weighted[:, held] / size[held], left, rcond=RANK)[0] / size[held]
        sizes = np.array([p.size if p.value == 0 else 0.0 for p in problem.free])[held]
        return float(np.max(np.abs(step / np.maximum(np.abs(self.parameters[held]), sizes))))

    def fall_near(self, problem: Problem) -> float:
        """Relative decrease of the sum of squares at half a standard error along its flattest direction.

        Zero if it increases, as at a minimum, but not at a saddle; nan if the data hardly determine the direction, or
        the model is undefined there.
        """
        scale = Scale(problem.free, problem.mean_temperature)
        weighted = self.information_rows(problem) @ scale.slope(self.parameters)
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
        here = self.sum_of_squares(problem)
        there = problem.sum_of_squares(values, self.standard_deviation, self.tau)
        return max(here - there, 0.0) / max(here, 1e-300)

    def sum_of_squares(self, problem: Problem) -> float:
        """See `Problem.sum_of_squares`."""
        return problem.sum_of_squares(self.values, self.standard_deviation, self.tau)

    def variance(self, problem: Problem) -> float:
        """Weighted sum of squares over degrees of freedom; one if the errors were estimated with the fit."""
        if problem.priors and problem.group.any():
            return 1.0
        return self.expected_squares(problem) / (len(problem.measured) - len(problem.free))

    def expected_squares(self, problem: Problem) -> float:
        """The same with the expectation of the square of each limit."""
        found = problem.deviations(self.values, self.standard_deviation)
        values = problem.side == 0
        white = problem.links(self.tau).whiten(found.scaled)[values]
        return float(white @ white) + float(np.sum(found.expected[~values]))

    def information_counts(self, problem: Problem) -> np.ndarray:
        """The information of each observation relative to that of a value, shape (points,): 1, less for a limit."""
        found = problem.deviations(self.values, self.standard_deviation)
        return np.asarray(found.information * self.standard_deviation**2)

    def information_rows(self, problem: Problem) -> np.ndarray:
        """Derivatives whose cross product is the information on the parameters, shape (points, parameters)."""
        weights, _ = problem.deviations(self.values, self.standard_deviation).steps
        return problem.links(self.tau).whiten(self.slopes * weights[:, None])
