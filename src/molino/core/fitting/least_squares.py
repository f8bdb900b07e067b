"""The least-squares search, its scale, and the weights of observations."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy

from molino.core.errors import Fault, SolveError
from molino.core.fitting.censoring import Deviations, common_factor
from molino.core.fitting.least_squares_problem import (
    Optimum,
    Problem,
    Scale,
    degrees_by_group,
    leverage,
    mixed_errors,
)

Progress = Callable[[int, float], None]
"""Called after each evaluation with its number and the sum of squares, scaled by the root mean square of each
response."""

_NEAR = 1e-3
"""Largest distance of a stationary point from the end of the search, in its variables."""
_MOST_ROUNDS = 12
TOLERANCE, COARSE = 1e-10, 1e-4
_MOST_EVALUATIONS = 200
_FAR = 10.0
"""Logarithm of the ratio of a constant to its guess from which on an error names it."""


class _Search:
    """One search, with its last and its best evaluation."""

    def __init__(self, problem: Problem, counts: np.ndarray | None, progress: Progress | None) -> None:
        self.problem, self.progress = problem, progress
        self.model = problem.model.rough()
        self.scale = Scale(problem.free, problem.mean_temperature)
        self.root = 1.0 if counts is None else np.sqrt(counts)
        self.first = self.weights = _first_weights(problem)
        self.has_limits = bool(problem.side.any())
        self.tau = problem.tau
        if problem.chains is not None and self.tau is None:
            self.tau = np.zeros(problem.chains.responses)
        is_correlated = problem.chains is not None and problem.tau is None
        has_own_errors = bool(problem.group.any()) or problem.is_mixed
        self.is_coupled = has_own_errors or self.has_limits or is_correlated  # errors affect the optimum
        self.evaluations = 0
        self.last: tuple[bytes, np.ndarray, np.ndarray] | None = None
        self.best: tuple[float, np.ndarray] = np.inf, np.empty(0)

    def exactly(self) -> None:
        """Continue with tight tolerances."""
        self.model, self.last = self.problem.model, None

    def evaluate(self, variables: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        key = variables.tobytes()
        if self.last is None or self.last[0] != key:
            parameters = self.scale.outward(variables)
            values, slopes = self.model(parameters)
            self.last = (key, values, slopes)
            self.evaluations += 1
            squares = float(np.sum((self.white(self._scaled(values, self.weights)) * self.root) ** 2))
            if squares < self.best[0]:
                self.best = squares, variables.copy()
            if self.progress is not None:
                left = self._scaled(values, self.first) * self.root
                self.progress(self.evaluations, float(np.sum(left**2)))
        return self.last[1], self.last[2]

    def residuals(self, variables: np.ndarray) -> np.ndarray:
        try:
            return np.asarray(-self.white(self._scaled(self.evaluate(variables)[0], self.weights)) * self.root)
        except SolveError:
            if self.last is None:
                raise
            return np.full(len(self.problem.measured), 1e6)  # the step is too long, and is rejected

    def jacobian(self, variables: np.ndarray) -> np.ndarray:
        weights = self._deviations(variables).slope if self.has_limits else self.weights
        rows = self.white(self._slopes(variables) * weights[:, None])
        return np.asarray(rows * np.broadcast_to(self.root, len(rows))[:, None])

    def white(self, rows: np.ndarray) -> np.ndarray:
        """Rows with independent errors."""
        return self.problem.links(self.tau).whiten(rows) if self.tau is not None else rows

    def _scaled(self, values: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """The deviations at calculated values, without the other fields of `Deviations` where there are no limits."""
        if self.has_limits:
            return self.problem.deviations(values, 1 / weights).scaled
        return np.asarray((self.problem.measured - values) * weights)

    def _deviations(self, variables: np.ndarray) -> Deviations:
        return self.problem.deviations(self.evaluate(variables)[0], 1 / self.weights)

    def _slopes(self, variables: np.ndarray) -> np.ndarray:
        """d(calculated)/d(variable)."""
        return np.asarray(self.evaluate(variables)[1] @ self.scale.slope(self.scale.outward(variables)))

    def newton_step(self, variables: np.ndarray) -> np.ndarray:
        """The step to the optimum of a linear model."""
        weights, left = self._deviations(variables).steps
        root = np.broadcast_to(self.root, len(left))
        rows = self.white(self._slopes(variables) * weights[:, None]) * root[:, None]
        return np.asarray(np.linalg.lstsq(rows, self.white(left) * root, rcond=1e-10)[0])

    def least(self, variables: np.ndarray, aim: float) -> tuple[np.ndarray, bool]:
        """The optimum at the present weights to a relative tolerance, and whether it is inside all bounds."""
        low, high = self.scale.bounds()
        found = scipy.optimize.least_squares(
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
            message = f"the search did not converge in {_MOST_EVALUATIONS} evaluations"
            raise SolveError(message, "fit", "start from other guesses, set bounds, or fit fewer constants")
        return np.asarray(found.x), not found.active_mask.any()

    def reweigh(self, variables: np.ndarray) -> float:
        """Update the weights from the residuals; return their relative change."""
        before, change = self.tau, 0.0
        if self.problem.chains is not None and self.problem.tau is None and before is not None:
            rows = self._slopes(variables) * self.weights[:, None]
            self.tau = self.problem.chains.estimate(self._deviations(variables).scaled, rows, before)
            change = float(np.max(np.abs(self.tau - before) / np.maximum(self.tau, 1e-300), initial=0.0))
        standard_deviation = self.standard_deviation(*self.evaluate(variables))
        change = max(change, float(np.max(np.abs(1 / standard_deviation / self.weights - 1))))
        self.weights, self.best = 1 / standard_deviation, (np.inf, variables)
        return change

    def in_rounds(self, variables: np.ndarray, aim: float, enough: float) -> tuple[np.ndarray, bool]:
        """Optimum and weights alternately, until the relative change of the weights is at most `enough`."""
        inside = True
        for _ in range(_MOST_ROUNDS):
            variables, inside = self.least(variables, aim)
            if self.reweigh(variables) < enough or not self.is_coupled:
                break
        return variables, inside

    def polish(self, variables: np.ndarray) -> tuple[np.ndarray, bool]:
        """Plain Gauss-Newton steps as long as each is less than half of the one before; return whether they converged.

        The search ends when the sum of squares hardly decreases, which determines the constants to half the digits.
        """
        before = 1e-2
        low, high = self.scale.bounds()
        for _ in range(_MOST_ROUNDS):
            self.reweigh(variables)
            step = self.newton_step(variables)
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
        """The point of zero gradient near the end of the search, by Powell's hybrid method.

        With large residuals Gauss-Newton steps converge slowly, and the sum of squares determines only half of the
        digits. With errors in several groups, or limits, the weights change too, and the end of the search is kept.
        """
        if self.is_coupled:
            return variables
        size = float(np.linalg.norm(self.residuals(variables)))
        columns = np.maximum(np.linalg.norm(self.jacobian(variables), axis=0), 1e-300)

        def gradient(v: np.ndarray) -> np.ndarray:
            return np.asarray(self.jacobian(v).T @ self.residuals(v) / columns / max(size, 1e-300))

        try:
            found = scipy.optimize.root(gradient, variables, method="hybr", options={"xtol": 1e-13})
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
        scaled = (problem.measured - values) / problem.size
        counts = np.broadcast_to(self.root**2, scaled.shape)
        weights, _ = problem.deviations(values, 1 / self.weights).steps
        weighted = self.white(slopes * weights[:, None]) * np.broadcast_to(self.root, scaled.shape)[:, None]
        scaled = self.white(scaled)
        degrees = degrees_by_group(problem, weighted, counts)
        if problem.is_mixed:
            return self._mixed(values, weighted, degrees)
        factor = np.ones(len(degrees))
        for n in range(len(factor)):
            own = problem.group == n
            if own.any() and np.isfinite(degrees[n]):
                start = float(np.median(1 / (self.weights[own] * problem.size[own])))
                factor[n] = common_factor(scaled[own], problem.side[own], counts[own], max(degrees[n], 1e-12), start)
        floor = 1e-10 * max(float(np.max(np.abs(scaled), initial=0.0)), float(np.max(factor)))
        floor = max(floor, 1e-15 * float(np.max(np.abs(problem.measured / problem.size), initial=0.0)), 1e-200)
        return np.asarray(np.maximum(factor, floor)[problem.group] * problem.size)

    def _mixed(self, values: np.ndarray, weighted: np.ndarray, degrees: np.ndarray) -> np.ndarray:
        """The standard deviations with a constant and a relative part, group by group."""
        problem, hat = self.problem, leverage(weighted)
        found = problem.size.copy()
        for n in np.unique(problem.group[~problem.is_prior]):
            own = problem.group == n
            residuals = problem.measured[own] - values[own]
            found[own] = mixed_errors(residuals, values[own], hat[own], max(float(degrees[n]), 1e-12))
        return np.asarray(np.maximum(found, 1e-12 * float(np.max(np.abs(problem.measured)))))


def minimise(
    problem: Problem,
    start: np.ndarray | None = None,
    *,
    counts: np.ndarray | None = None,
    tolerance: float = TOLERANCE,
    progress: Progress | None = None,
) -> Optimum:
    """Minimize the sum of (measured - calculated)^2 / s^2, with s estimated for each group of observations.

    The trust-region method of `scipy.optimize.least_squares` (M. A. Branch, T. F. Coleman, Y. Li, SIAM J. Sci. Comput.
    21 (1999) 1) within the bounds; s alternately with the parameters, from the residuals of its group over their
    degrees of freedom (restricted maximum likelihood: H. D. Patterson, R. Thompson, Biometrika 58 (1971) 545). `counts`
    is the multiplicity of each observation. An interruption (KeyboardInterrupt) returns the best so far.

    Raises
    ------
    SolveError
        If the model cannot be calculated at the start, or the search does not converge.
    """
    search = _Search(problem, counts, progress)
    scale = search.scale
    begin = start if start is not None else np.array([p.value for p in problem.free])
    if not len(problem.free):
        values, slopes = problem.model(begin)
        return Optimum(begin, values, slopes, search.standard_deviation(values, slopes), 1, tau=search.tau)
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
    except SolveError as error:
        raise _with_constants_far_away(error, problem, begin, search.scale.outward(search.best[1])) from error
    values, slopes = search.evaluate(variables)
    return Optimum(
        scale.outward(variables),
        values,
        slopes,
        search.standard_deviation(values, slopes),
        search.evaluations,
        stopped,
        search.tau,
    )


def _with_constants_far_away(error: SolveError, problem: Problem, begin: np.ndarray, there: np.ndarray) -> SolveError:
    """The error, with the constants that the search has changed beyond all measure."""
    with np.errstate(all="ignore"):
        change = np.abs(np.log(np.abs(there / begin)))
    far = [f"{p.name} = {v:.3g} (SI)" for p, v, c in zip(problem.free, there, change, strict=True) if c > _FAR]
    if not far:
        return error
    advice = "fix them, set bounds, or give data that determine them"
    fault = Fault("fit", f"the search changed constants by orders of magnitude: {', '.join(far[:6])}", advice)
    return SolveError([*error.faults, fault])


def left_at(problem: Problem, parameters: np.ndarray, evaluations: int) -> Optimum:
    """The result of an interrupted search."""
    values, slopes = problem.model(parameters)
    standard_deviation = _Search(problem, None, None).standard_deviation(values, slopes)
    return Optimum(parameters, values, slopes, standard_deviation, evaluations, stopped=True)


def _first_weights(problem: Problem) -> np.ndarray:
    """One over the root mean square of each group, until its residuals are known."""
    scaled = problem.measured / problem.size
    weights = 1 / problem.size
    for n in np.unique(problem.group[~problem.is_prior]):
        own = problem.group == n
        size = np.sqrt(np.mean(scaled[own] ** 2)) if own.any() else 1.0
        weights[own] = 1 / ((size if size > 0 else 1.0) * problem.size[own])
    return weights
