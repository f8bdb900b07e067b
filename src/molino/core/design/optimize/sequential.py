"""Sequential quadratic programming for few numbers between 0 and 1, with exact slopes.

Each step solves a quadratic program for the Lagrange function, whose second derivatives are approximated by damped BFGS
updates (M. J. D. Powell, in Numerical Analysis, Dundee 1977, Lecture Notes in Mathematics 630, 144), with a line search
on an exact penalty function (S. P. Han, J. Optim. Theory Appl. 22 (1977) 297), with a second-order correction where
limits curve. Near the end, where differences of the objective are rounding, full steps are taken as long as they reduce
the residual of the first-order conditions.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

Values = Callable[[np.ndarray], tuple[float, np.ndarray] | None]
"""Objective, and the margin of each limit (not negative; zero for equalities); None where they are undefined."""
Slopes = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]
"""Derivatives of both, shapes (variables,) and (limits, variables)."""

_LONGEST = 0.5
"""The longest step of any variable, at first; it grows with successful steps."""
_ROUNDING = 1e-9
"""Changes of the objective, relative, that may be rounding of an integration."""
_STEEP = 1e3
"""Weight of the squared violation in a quadratic program whose limits cannot be met together."""


@dataclass
class QuadraticStep:
    """The solution of a quadratic program: the step, multipliers of its rows, and the relaxed fraction of limits."""

    step: np.ndarray
    multipliers: np.ndarray
    unmet: float


def least_distance(rows: np.ndarray, limits: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """The shortest u with rows u >= limits, and the multipliers; None if no such u exists.

    By non-negative least squares (C. L. Lawson, R. J. Hanson, Solving Least Squares Problems, 1974, chapter 23,
    problem LDP).
    """
    count = rows.shape[1]
    matrix = np.vstack([rows.T, limits])
    wanted = np.zeros(count + 1)
    wanted[count] = 1.0
    weights, left = scipy.optimize.nnls(matrix, wanted, maxiter=30 * max(matrix.shape))
    residual = matrix @ weights - wanted
    if left < 1e-10 or abs(residual[count]) < 1e-14:
        return None
    return -residual[:count] / residual[count], -weights / residual[count]


def quadratic_step(
    curvature: np.ndarray, slope: np.ndarray, rows: np.ndarray, limits: np.ndarray, may_miss: np.ndarray
) -> QuadraticStep:
    """The minimum of slope d + d curvature d / 2 with rows d >= limits.

    If the limits that `may_miss` marks cannot be met, they are relaxed by the least common fraction.

    Parameters
    ----------
    curvature : array, shape (numbers, numbers)
        Positive definite.
    rows, limits, may_miss : arrays, shapes (rows, numbers), (rows,) and (rows,)
    """
    count = len(slope)
    relaxed = np.where(may_miss, np.maximum(limits, 0.0), 0.0)
    has_slack = bool(relaxed.any())
    whole = np.column_stack([rows, relaxed]) if has_slack else rows
    if has_slack:
        bounds = np.zeros((1, count + 1))
        bounds[0, count] = 1.0
        whole, limits = np.vstack([whole, bounds]), np.append(limits, 0.0)
    size = max(float(np.abs(np.diag(curvature)).max()), float(np.abs(slope).max()), 1e-300)
    square = np.zeros((whole.shape[1], whole.shape[1]))
    square[:count, :count] = curvature / size
    if has_slack:
        square[count, count] = _STEEP
    linear = np.append(slope / size, [0.0] * has_slack)
    lower = _root(square)
    shift = np.linalg.solve(lower, linear)
    turned = np.linalg.solve(lower, whole.T).T
    lengths = np.maximum(np.linalg.norm(turned, axis=1), 1e-300)
    found = least_distance(turned / lengths[:, None], (limits + turned @ shift) / lengths) if len(whole) else None
    if found is None and len(whole):
        return QuadraticStep(np.zeros(count), np.zeros(len(rows)), 1.0)
    u, multipliers = found if found is not None else (np.zeros(len(linear)), np.zeros(0))
    step = np.linalg.solve(lower.T, u - shift)
    unmet = float(np.clip(step[count], 0.0, 1.0)) if has_slack else 0.0
    return QuadraticStep(step[:count], (multipliers / lengths)[: len(rows)] * size, unmet)


def _root(square: np.ndarray) -> np.ndarray:
    """L with L L' = square; if rounding has made it indefinite, its eigenvalues are raised above zero."""
    try:
        return np.linalg.cholesky(square)
    except np.linalg.LinAlgError:
        values, vectors = np.linalg.eigh(square)
        return np.asarray(vectors * np.sqrt(np.maximum(values, _LEAST_EIGENVALUE * values[-1])))


_LEAST_EIGENVALUE = 1e-12
_JUMP, _LARGEST = 1e12, 1e100
"""The largest factor by which one step may raise the curvature, and the largest change of gradients; beyond these
(limits that cannot be met) the curvature is not updated."""
_TINY, _TINY_STEPS = 1e-6, 5
"""A fraction of the ranges, and the number of consecutive steps below it that end a search."""


class SequentialProgram:
    """One search; `solve` returns its end.

    Parameters
    ----------
    values, slopes : callables
        See `Values` and `Slopes`; `slopes` is called only where `values` is defined.
    is_equal : array of bool, shape (limits,)
        Whether each limit is an equality.
    """

    def __init__(self, values: Values, slopes: Slopes, is_equal: np.ndarray) -> None:
        self.values, self.slopes, self.is_equal = values, slopes, is_equal

    def solve(self, z: np.ndarray, most: int = 150, solved: float = 2e-8) -> np.ndarray | None:
        """Search from a place until no variable would move by more than `solved`, in a limited number of steps.

        None if the objective is undefined at the first place.
        """
        here = self.values(z)
        if here is None:
            return None
        value, left = here
        slope, rows = self.slopes(z)
        curvature, penalty, longest, is_first = np.eye(len(z)), 0.0, _LONGEST, True
        curvature *= max(float(np.abs(slope).max()), 1e-12)
        tiny = 0
        for _ in range(most):
            found = self._quadratic(curvature, slope, rows, left, z, longest)
            step, multipliers = found.step, self._of_limits(found.multipliers)
            size = max(abs(value), float(np.abs(slope).max(initial=0.0)), 1e-300)
            if np.abs(step).max(initial=0.0) < solved:
                break
            penalty = max(1.5 * float(np.abs(multipliers).max(initial=0.0)), 0.5 * penalty)
            moved = self._along(z, value, left, found, slope, penalty, size, rows)
            if moved is None:
                if np.allclose(curvature, np.diag(np.diag(curvature))) and longest < 1e-6:
                    break
                longest, curvature = longest / 8, np.eye(len(z)) * max(float(np.abs(slope).max()), 1e-12)
                if longest < 1e-7:
                    break
                continue
            taken, z_new, value, left = moved
            slope_new, rows_new = self.slopes(z_new)
            change = slope_new - slope - multipliers @ (rows_new - rows)
            s = z_new - z
            if is_first and s @ change > 0:
                curvature, is_first = np.eye(len(z)) * float(s @ change / (s @ s)), False
            curvature = _updated(curvature, s, change)
            longest = (
                min(max(longest, 2 * float(np.abs(s).max())), 1.0)
                if taken == 1
                else max(float(np.abs(s).max()) * 2, 1e-6)
            )
            z, slope, rows = z_new, slope_new, rows_new
            tiny = tiny + 1 if np.abs(s).max() < _TINY else 0
            if tiny == _TINY_STEPS:  # as at a discontinuity, where a vessel ignites
                break
        return z

    def _quadratic(
        self,
        curvature: np.ndarray,
        slope: np.ndarray,
        rows: np.ndarray,
        left: np.ndarray,
        z: np.ndarray,
        longest: float,
    ) -> QuadraticStep:
        eye, equal = np.eye(len(z)), self.is_equal
        matrix = np.vstack([rows, -rows[equal], eye, -eye])
        low, high = np.maximum(-z, -longest), np.minimum(1 - z, longest)
        limits = np.concatenate([-left, left[equal], low, -high])
        may_miss = np.arange(len(limits)) < len(left) + int(equal.sum())
        return quadratic_step(curvature, slope, matrix, limits, may_miss)

    def _of_limits(self, multipliers: np.ndarray) -> np.ndarray:
        """Multipliers of the limits from those of the rows of a quadratic program; those of equalities may be
        negative."""
        count, equal = len(self.is_equal), self.is_equal
        found = multipliers[:count].copy()
        found[equal] -= multipliers[count : count + int(equal.sum())]
        return found

    def _missed(self, left: np.ndarray) -> np.ndarray:
        return np.asarray(np.where(self.is_equal, np.abs(left), np.maximum(-left, 0.0)))

    def _along(
        self,
        z: np.ndarray,
        value: float,
        left: np.ndarray,
        found: QuadraticStep,
        slope: np.ndarray,
        penalty: float,
        size: float,
        rows: np.ndarray,
    ) -> tuple[float, np.ndarray, float, np.ndarray] | None:
        """The line search along a step: the fraction taken, the place, its objective and the margins of its limits."""
        step, missed = found.step, float(self._missed(left).sum())
        merit = value + penalty * missed
        fall = float(slope @ step) - penalty * missed * (1 - found.unmet)
        rounding = _ROUNDING * max(abs(value), 1e-3 * size)
        share = 1.0
        while share > 1e-4:
            place = np.clip(z + share * step, 0.0, 1.0)
            there = self.values(place)
            if there is not None:
                now = there[0] + penalty * float(self._missed(there[1]).sum())
                if now <= merit + 1e-4 * share * min(fall, 0.0) + rounding:
                    return share, place, *there
                if share == 1.0 and len(left):
                    corrected = self._corrected(place, there[1], found, rows)
                    again = self.values(corrected) if corrected is not None else None
                    if corrected is not None and again is not None:
                        now = again[0] + penalty * float(self._missed(again[1]).sum())
                        if now <= merit + 1e-4 * min(fall, 0.0) + rounding:
                            return 1.0, corrected, *again
                curve = now - merit - share * fall
                best = -fall * share**2 / (2 * curve) if curve > 0 and fall < 0 else 0.5 * share
                share = float(np.clip(best, 0.1 * share, 0.5 * share))
            else:
                share *= 0.25
        return None

    def _corrected(
        self,
        place: np.ndarray,
        left: np.ndarray,
        found: QuadraticStep,
        rows: np.ndarray,
    ) -> np.ndarray | None:
        """The place after the shortest move that meets the active limits in the first order."""
        active = np.flatnonzero(np.abs(self._of_limits(found.multipliers)) > 0)
        if not len(active):
            return None
        back = np.linalg.lstsq(rows[active], -left[active], rcond=None)[0]
        return np.asarray(np.clip(place + back, 0.0, 1.0)) if np.abs(back).max() < 0.5 else None


def _updated(curvature: np.ndarray, step: np.ndarray, change: np.ndarray) -> np.ndarray:
    """The damped BFGS update of a positive definite matrix.

    It is omitted across a discontinuity of the gradient, and where rounding would make the matrix indefinite."""
    turned = curvature @ step
    own = float(step @ turned)
    if own <= 1e-300:
        return curvature
    along = float(step @ change)
    theta = 1.0 if along >= 0.2 * own else 0.8 * own / (own - along)
    mixed = theta * change + (1 - theta) * turned
    along, largest = float(step @ mixed), float(np.abs(mixed).max())
    steepest = _JUMP * float(np.diag(curvature).max())
    if not (along > 0 and largest < _LARGEST and largest < math.sqrt(steepest) * math.sqrt(along)):
        return curvature
    found = np.asarray(curvature - np.outer(turned, turned) / own + np.outer(mixed, mixed) / along)
    return found if np.linalg.eigvalsh(found)[0] > 0 else curvature
