"""A primal-dual interior-point method for programs of up to a few hundred numbers, with exact second derivatives.

Minimize f(z) with 0 < z < 1, left(z) >= 0 and equal(z) = 0. Newton's method on the first-order conditions, the
complementarity of each bound relaxed to a barrier parameter that goes to zero (A. V. Fiacco, G. P. McCormick, Nonlinear
Programming, 1968; R. H. Byrd, M. E. Hribar, J. Nocedal, SIAM J. Optim. 9 (1999) 877); curvature is added where the
Hessian is not positive definite on the null space of the equalities, and steps are accepted by a filter of objective
and missed limits (R. Fletcher, S. Leyffer, Math. Program. 91 (2002) 239).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import scipy

_NEAREST = 1e-9
"""Smallest distance of a start from a bound."""
_BOUNDARY = 0.995
"""The largest fraction of the way to a bound that a step may take."""
_ARMIJO, _GAIN, _NEAR_LIMITS = 1e-4, 1e-5, 1e-4
_STALLED, _NEARLY = 6, 1e-6
"""Number of steps without gain after which it ends, if the residual of the first-order conditions is below the second
number."""
_SHORTEST = 1e-7
_MOST_CURVATURE = 1e12


@dataclass(eq=False)
class Place:
    """A program evaluated at one z.

    Attributes
    ----------
    z : array, shape (numbers,)
    value : float
    left : array, shape (limits,)
        The margins of the inequalities; not negative where they are met.
    equal : array, shape (equalities,)
    """

    z: np.ndarray
    value: float
    left: np.ndarray
    equal: np.ndarray


class Program(Protocol):
    """The interface of a program."""

    def at(self, z: np.ndarray) -> Place | None:
        """Its values; None where it is undefined."""

    def slopes(self, place: Place) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Derivatives of the objective, the margins and the equalities by z."""

    def curvature(self, place: Place, of_left: np.ndarray, of_equal: np.ndarray) -> np.ndarray:
        """Second derivatives of objective - of_left left - of_equal equal, shape (numbers, numbers)."""


@dataclass(eq=False)
class Solution:
    """The end of a search.

    Attributes
    ----------
    place : Place
    of_left, of_equal, low, high : array
        Multipliers of the inequalities, equalities, and bounds at 0 and 1; those of inequalities and bounds are not
        negative.
    left_over : float
        Residual of the first-order conditions.
    iterations : int
    """

    place: Place
    of_left: np.ndarray
    of_equal: np.ndarray
    low: np.ndarray
    high: np.ndarray
    left_over: float
    iterations: int


class InteriorPoint:
    """One search.

    Parameters
    ----------
    program : Program
    barrier : float
        Its first barrier parameter, relative to the gradient of the objective; small for a start near an optimum.
    tolerance : float
        Largest residual of the first-order conditions, relative to the gradients.
    most : int
        Largest number of Newton steps.
    """

    def __init__(
        self,
        program: Program,
        barrier: float = 0.1,
        tolerance: float = 1e-9,
        most: int = 150,
        progress: Callable[[Place], None] | None = None,
    ) -> None:
        self.program, self.tolerance, self.most, self.progress = program, tolerance, most, progress
        self.first_barrier = barrier

    def solve(self, z: np.ndarray) -> Solution | None:
        """Search from a place between the bounds; None if the program is undefined there."""
        place = self.program.at(np.clip(z, _NEAREST, 1 - _NEAREST))
        if place is None:
            return None
        gradient, of_left, of_equal = self.program.slopes(place)
        self.unit = max(float(np.abs(gradient).max(initial=0.0)), 1e-300)
        self.barrier = self.first_barrier
        state = _State(place, gradient / self.unit, of_left, of_equal)
        state.slack = np.maximum(place.left, max(self.barrier, 1e-6))
        state.y = self.barrier / state.slack
        state.low, state.high = self.barrier / place.z, self.barrier / (1 - place.z)
        self.extra = 0.0
        self.filter: list[tuple[float, float]] = []
        iteration, least, since = 0, math.inf, 0
        for iteration in range(1, self.most + 1):  # noqa: B007
            left_over = state.left_over(0.0)
            least, since = (left_over, 0) if left_over < 0.5 * least else (least, since + 1)
            if left_over <= self.tolerance or (since > _STALLED and left_over < _NEARLY):
                break
            while state.left_over(self.barrier) <= 10 * self.barrier and self.barrier > self.tolerance / 10:
                self.barrier = max(self.tolerance / 10, min(0.2 * self.barrier, self.barrier**1.5))
                self.filter = []
            if not self._step(state):
                break
            if self.progress is not None:
                self.progress(state.place)
        unit = self.unit
        return Solution(
            state.place,
            state.y * unit,
            state.of_equal * unit,
            state.low * unit,
            state.high * unit,
            state.left_over(0.0),
            iteration,
        )

    def _step(self, state: _State) -> bool:
        """One step of Newton's method; False if no step is an improvement."""
        program, place, mu = self.program, state.place, self.barrier
        curvature = program.curvature(place, state.y * self.unit, state.of_equal * self.unit) / self.unit
        z, s = place.z, state.slack
        diagonal = state.low / z + state.high / (1 - z)
        weight = state.y / s
        matrix = curvature + (state.rows.T * weight) @ state.rows
        matrix[np.arange(len(z)), np.arange(len(z))] += diagonal
        target = mu / s - weight * (place.left - s)
        right = -(state.gradient - mu / z + mu / (1 - z) - state.rows.T @ target)
        for _ in range(25):
            solved = self._solve(matrix, state.equal_rows, right, -place.equal)
            if solved is not None and self._move(state, *solved, mu):
                self.extra = self.extra / 4 if self.extra > 1e-9 else 0.0
                return True
            self.extra = max(1e-6, 8 * self.extra)
            if self.extra > _MOST_CURVATURE:
                return False
        return False

    def _solve(
        self, matrix: np.ndarray, rows: np.ndarray, right: np.ndarray, equal: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray] | None:
        """The step and the multipliers of the equalities; None if the matrix is not positive definite on their null
        space."""
        own = matrix + self.extra * np.eye(len(matrix))
        if not len(rows):
            try:
                return np.asarray(scipy.linalg.cho_solve(scipy.linalg.cho_factor(own), right)), np.zeros(0)
            except (scipy.linalg.LinAlgError, ValueError):
                return None
        q, r = np.linalg.qr(rows.T, mode="complete")
        count = len(rows)
        along, across = q[:, count:], q[:, :count]
        try:
            normal = across @ np.linalg.solve(r[:count].T, equal)
            reduced = scipy.linalg.cho_factor(along.T @ own @ along)
            step = normal + along @ scipy.linalg.cho_solve(reduced, along.T @ (right - own @ normal))
            return step, np.linalg.solve(r[:count], across.T @ (own @ step - right))
        except (scipy.linalg.LinAlgError, ValueError):
            return None

    def _move(self, state: _State, step: np.ndarray, of_equal: np.ndarray, mu: float) -> bool:
        """Go along a step as far as the penalty function falls; False if it does not."""
        place, z, s = state.place, state.place.z, state.slack
        ds = state.rows @ step + (place.left - s)
        dy = mu / s - state.y - state.y / s * ds
        dlow, dhigh = mu / z - state.low - state.low / z * step, mu / (1 - z) - state.high + state.high / (1 - z) * step
        longest = min(_reach(z, step), _reach(1 - z, -step), _reach(s, ds))
        slope = float(state.gradient @ step - mu * (step / z).sum() + mu * (step / (1 - z)).sum() - mu * (ds / s).sum())
        here = self._measures(place, s, mu)
        share = longest
        while share > _SHORTEST * longest:
            there = self.program.at(z + share * step)
            if there is not None:
                slack = s + share * ds
                slack = np.where(there.left > slack, there.left, slack)
                if self._is_better(here, self._measures(there, slack, mu), share * slope):
                    break
            share *= 0.5 if share > 0.2 * longest else 0.2
        else:
            return False
        assert there is not None
        dual = min(_reach(state.low, dlow), _reach(state.high, dhigh), _reach(state.y, dy))
        state.slack = slack
        state.y, state.low, state.high = state.y + dual * dy, state.low + dual * dlow, state.high + dual * dhigh
        state.of_equal = of_equal if share == longest else state.of_equal + share * (of_equal - state.of_equal)
        gradient, rows, equal_rows = self.program.slopes(there)
        state.place, state.gradient, state.rows, state.equal_rows = there, gradient / self.unit, rows, equal_rows
        for multiplier, distance in ((state.y, slack), (state.low, there.z), (state.high, 1 - there.z)):
            np.clip(multiplier, mu / 1e10 / distance, 1e10 * mu / distance, out=multiplier)
        return True

    def _measures(self, place: Place, slack: np.ndarray, mu: float) -> tuple[float, float]:
        """The violation of limits, and the objective with its barriers."""
        logs = np.log(slack).sum() + np.log(place.z).sum() + np.log(1 - place.z).sum()
        missed = np.abs(place.left - slack).sum() + np.abs(place.equal).sum()
        return float(missed), float(place.value / self.unit - mu * logs)

    def _is_better(self, here: tuple[float, float], there: tuple[float, float], slope: float) -> bool:
        """Whether a step is accepted: it must improve one of the measures, and no earlier place may be better in both.

        Near the limits, the objective must decrease sufficiently if it decreases along the step.
        """
        rounding = 1e-11 * max(abs(here[1]), 1.0)
        if not all(there[0] <= (1 - _GAIN) * m or there[1] <= v - _GAIN * m + rounding for m, v in self.filter):
            return False
        if here[0] < _NEAR_LIMITS and slope < 0 and (-slope) ** 2.3 > here[0] ** 1.1:
            return there[1] <= here[1] + _ARMIJO * slope + rounding
        if there[0] <= (1 - _GAIN) * here[0] or there[1] <= here[1] - _GAIN * here[0] + rounding:
            self.filter.append(here)
            return True
        return False


class _State:
    """The state of the search: place, gradients, slacks and multipliers."""

    slack: np.ndarray
    y: np.ndarray
    low: np.ndarray
    high: np.ndarray

    def __init__(self, place: Place, gradient: np.ndarray, rows: np.ndarray, equal_rows: np.ndarray) -> None:
        self.place, self.gradient, self.rows, self.equal_rows = place, gradient, rows, equal_rows
        self.of_equal = np.zeros(len(place.equal))

    def left_over(self, mu: float) -> float:
        """The largest residual of the first-order conditions with a barrier parameter."""
        rest = self.gradient - self.low + self.high - self.rows.T @ self.y - self.equal_rows.T @ self.of_equal
        place, z = self.place, self.place.z
        parts = [
            rest,
            place.left - self.slack,
            place.equal,
            self.slack * self.y - mu,
            z * self.low - mu,
            (1 - z) * self.high - mu,
        ]
        return float(max((np.abs(part).max(initial=0.0) for part in parts), default=0.0))


def _reach(distance: np.ndarray, change: np.ndarray) -> float:
    """The largest fraction of a change, at most one, after which every distance is positive."""
    falling = change < 0
    if not falling.any():
        return 1.0
    return float(min(1.0, _BOUNDARY * np.min(distance[falling] / -change[falling])))
