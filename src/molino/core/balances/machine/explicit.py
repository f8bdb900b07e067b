"""An explicit Runge-Kutta pair of orders 8(5,3) with dense output of order 7, for balances that are not stiff.

J. R. Dormand, P. J. Prince, J. Comput. Appl. Math. 6 (1980) 19; E. Hairer, S. P. Norsett, G. Wanner, Solving Ordinary
Differential Equations I, 1993, section II.5 (the coefficients are SciPy's), and II, 1996, section IV.2 (stiffness).
Own code, since SciPy's calls a Python function at each stage: it takes 30 to 130 times as long.
"""

# mypy: allow-untyped-defs, allow-untyped-calls
from __future__ import annotations

import math

import numpy as np
from scipy.integrate import DOP853

from molino.core.balances.machine.calls import (
    FINISHED,
    NOT_FINITE,
    SMALLEST_STEP,
    STEP_TOO_SMALL,
    STIFF,
    TOO_MANY_STEPS,
    evaluate,
    in_machine_code,
)

_A = np.ascontiguousarray(DOP853.A[:12, :12])
_B = np.ascontiguousarray(DOP853.B)[None]
_C, _E3, _E5 = (np.ascontiguousarray(c) for c in (DOP853.C, DOP853.E3, DOP853.E5))
_D = np.ascontiguousarray(DOP853.D)
_A_DENSE, _C_DENSE = np.ascontiguousarray(DOP853.A_EXTRA), np.ascontiguousarray(DOP853.C_EXTRA)
NOW, NEW, WORK = range(3)
"""Rows of states: at the beginning of a step, at its end, and of a stage."""
_STABLE = 6.1
"""Step times largest eigenvalue at which the method becomes unstable."""
_STIFF_STEPS = 5
"""Number of steps at that limit after which the balances are stiff."""
_CALM_STEPS = 6
"""Number of other steps after which those are forgotten."""
_MOST_RESIDUAL = 20.0
"""Residual of the polynomial of a step over the tolerance above which it is repeated: the estimated error of the step
says nothing about its inside. In random networks the error inside is 3 tolerances where it is 20."""
_LONG = 200
"""Number of steps after which an implicit method is tried if as many remain."""


@in_machine_code
def first_step(body, fixed, t, Y, K, end, rtol, absolute, order):
    """A first step for a method of some order (Hairer, Norsett, Wanner, section II.4); the slopes are in K[0]."""
    n = Y.shape[1]
    d0 = d1 = d2 = 0.0
    for i in range(n):
        size = absolute[i] + rtol * abs(Y[NOW, i])
        d0 = max(d0, abs(Y[NOW, i]) / size)
        d1 = max(d1, abs(K[0, i]) / size)
    step = 1e-6 * (end - t) if d0 < 1e-5 or d1 < 1e-5 else 0.01 * d0 / d1
    step = min(step, end - t)
    for i in range(n):
        Y[WORK, i] = Y[NOW, i] + step * K[0, i]
    evaluate(body, t + step, Y, WORK, fixed, K, 1)
    for i in range(n):
        d2 = max(d2, abs(K[1, i] - K[0, i]) / (absolute[i] + rtol * abs(Y[NOW, i])))
    largest = max(d1, d2 / step)
    if not math.isfinite(largest):
        return 1e-6 * step
    if largest <= 1e-15:
        return min(max(1e-6 * (end - t), step * 1e-3), end - t)
    return min(100 * step, (0.01 / largest) ** (1.0 / order), end - t)


@in_machine_code
def _combine(Y, row, step, weights, s, count, K):
    """Y[row] = Y[NOW] + step * sum of weights[s, j] K[j]."""
    n = Y.shape[1]
    for i in range(n):
        Y[row, i] = 0.0
    for j in range(count):
        weight = weights[s, j]
        if weight != 0.0:
            for i in range(n):
                Y[row, i] += weight * K[j, i]
    for i in range(n):
        Y[row, i] = Y[NOW, i] + step * Y[row, i]


@in_machine_code
def _advance(body, fixed, t, step, Y, K):
    """The states after a step, with the slopes of its 13 stages; Y[WORK] has the states of the last but one.

    Sums are written out without the coefficients that are zero: in loops they take most of the time of small balances.
    """
    n = Y.shape[1]
    for i in range(n):
        Y[WORK, i] = Y[NOW, i] + step * (_A[1, 0] * K[0, i])
    evaluate(body, t + _C[1] * step, Y, WORK, fixed, K, 1)
    for i in range(n):
        Y[WORK, i] = Y[NOW, i] + step * (_A[2, 0] * K[0, i] + _A[2, 1] * K[1, i])
    evaluate(body, t + _C[2] * step, Y, WORK, fixed, K, 2)
    for i in range(n):
        Y[WORK, i] = Y[NOW, i] + step * (_A[3, 0] * K[0, i] + _A[3, 2] * K[2, i])
    evaluate(body, t + _C[3] * step, Y, WORK, fixed, K, 3)
    for i in range(n):
        Y[WORK, i] = Y[NOW, i] + step * (_A[4, 0] * K[0, i] + _A[4, 2] * K[2, i] + _A[4, 3] * K[3, i])
    evaluate(body, t + _C[4] * step, Y, WORK, fixed, K, 4)
    for i in range(n):
        Y[WORK, i] = Y[NOW, i] + step * (_A[5, 0] * K[0, i] + _A[5, 3] * K[3, i] + _A[5, 4] * K[4, i])
    evaluate(body, t + _C[5] * step, Y, WORK, fixed, K, 5)
    for i in range(n):
        total = _A[6, 0] * K[0, i] + _A[6, 3] * K[3, i] + _A[6, 4] * K[4, i] + _A[6, 5] * K[5, i]
        Y[WORK, i] = Y[NOW, i] + step * total
    evaluate(body, t + _C[6] * step, Y, WORK, fixed, K, 6)
    for i in range(n):
        total = _A[7, 0] * K[0, i] + _A[7, 3] * K[3, i] + _A[7, 4] * K[4, i] + _A[7, 5] * K[5, i]
        total += _A[7, 6] * K[6, i]
        Y[WORK, i] = Y[NOW, i] + step * total
    evaluate(body, t + _C[7] * step, Y, WORK, fixed, K, 7)
    for i in range(n):
        total = _A[8, 0] * K[0, i] + _A[8, 3] * K[3, i] + _A[8, 4] * K[4, i] + _A[8, 5] * K[5, i]
        total += _A[8, 6] * K[6, i] + _A[8, 7] * K[7, i]
        Y[WORK, i] = Y[NOW, i] + step * total
    evaluate(body, t + _C[8] * step, Y, WORK, fixed, K, 8)
    for i in range(n):
        total = _A[9, 0] * K[0, i] + _A[9, 3] * K[3, i] + _A[9, 4] * K[4, i] + _A[9, 5] * K[5, i]
        total += _A[9, 6] * K[6, i] + _A[9, 7] * K[7, i] + _A[9, 8] * K[8, i]
        Y[WORK, i] = Y[NOW, i] + step * total
    evaluate(body, t + _C[9] * step, Y, WORK, fixed, K, 9)
    for i in range(n):
        total = _A[10, 0] * K[0, i] + _A[10, 3] * K[3, i] + _A[10, 4] * K[4, i] + _A[10, 5] * K[5, i]
        total += _A[10, 6] * K[6, i] + _A[10, 7] * K[7, i] + _A[10, 8] * K[8, i] + _A[10, 9] * K[9, i]
        Y[WORK, i] = Y[NOW, i] + step * total
    evaluate(body, t + _C[10] * step, Y, WORK, fixed, K, 10)
    for i in range(n):
        total = _A[11, 0] * K[0, i] + _A[11, 3] * K[3, i] + _A[11, 4] * K[4, i] + _A[11, 5] * K[5, i]
        total += _A[11, 6] * K[6, i] + _A[11, 7] * K[7, i] + _A[11, 8] * K[8, i] + _A[11, 9] * K[9, i]
        total += _A[11, 10] * K[10, i]
        Y[WORK, i] = Y[NOW, i] + step * total
    evaluate(body, t + _C[11] * step, Y, WORK, fixed, K, 11)
    for i in range(n):
        total = _B[0, 0] * K[0, i] + _B[0, 5] * K[5, i] + _B[0, 6] * K[6, i] + _B[0, 7] * K[7, i]
        total += _B[0, 8] * K[8, i] + _B[0, 9] * K[9, i] + _B[0, 10] * K[10, i] + _B[0, 11] * K[11, i]
        Y[NEW, i] = Y[NOW, i] + step * total
    evaluate(body, t + step, Y, NEW, fixed, K, 12)


@in_machine_code
def _error(step, Y, K, rtol, absolute):
    """The estimated error of a step over its tolerance, the largest of all states; NaN if a value is not finite."""
    largest5 = largest3 = 0.0
    for i in range(Y.shape[1]):
        by5 = _E5[0] * K[0, i] + _E5[5] * K[5, i] + _E5[6] * K[6, i] + _E5[7] * K[7, i]
        by5 += _E5[8] * K[8, i] + _E5[9] * K[9, i] + _E5[10] * K[10, i] + _E5[11] * K[11, i]
        by3 = _E3[0] * K[0, i] + _E3[5] * K[5, i] + _E3[6] * K[6, i] + _E3[7] * K[7, i]
        by3 += _E3[8] * K[8, i] + _E3[9] * K[9, i] + _E3[10] * K[10, i] + _E3[11] * K[11, i]
        if not math.isfinite(by5 + by3 + Y[NEW, i] + K[12, i]):
            return math.nan
        size = absolute[i] + rtol * max(abs(Y[NOW, i]), abs(Y[NEW, i]))
        largest5 = max(largest5, abs(by5 / size))
        largest3 = max(largest3, abs(by3 / size))
    if largest5 == 0.0 and largest3 == 0.0:
        return 0.0
    return step * largest5 * largest5 / math.sqrt(largest5 * largest5 + 0.01 * largest3 * largest3)


@in_machine_code
def _is_limited(step, Y, K, rtol, absolute):
    """Whether stability limits the step: it times the largest eigenvalue, from the last two stages."""
    over = under = 0.0
    for i in range(Y.shape[1]):
        size = absolute[i] + rtol * abs(Y[NEW, i])
        over += ((K[12, i] - K[11, i]) / size) ** 2
        under += ((Y[NEW, i] - Y[WORK, i]) / size) ** 2
    return under > 0 and step * math.sqrt(over / under) > _STABLE


@in_machine_code
def _prepare_dense(body, fixed, t, step, Y, K, F):
    """The coefficients F of the polynomial of a step."""
    for s in range(3):
        _combine(Y, WORK, step, _A_DENSE, s, 13 + s, K)
        evaluate(body, t + _C_DENSE[s] * step, Y, WORK, fixed, K, 13 + s)
    for i in range(Y.shape[1]):
        change = Y[NEW, i] - Y[NOW, i]
        F[0, i] = change
        F[1, i] = step * K[0, i] - change
        F[2, i] = 2 * change - step * (K[12, i] + K[0, i])
        for q in range(4):
            total = 0.0
            for j in range(16):
                total += _D[q, j] * K[j, i]
            F[3 + q, i] = step * total


@in_machine_code
def _residual(body, fixed, t, step, Y, K, F, rtol, absolute):
    """The residual of the balances, times the step and over the tolerance, of the polynomial in the middle of it."""
    largest = 0.0
    for i in range(Y.shape[1]):
        value = slope = 0.0
        for q in range(7):
            sign = 1.0 if q % 2 == 0 else -1.0
            slope = 0.5 * slope + sign * (value + F[6 - q, i])
            value = 0.5 * (value + F[6 - q, i])
        Y[WORK, i], K[14, i] = Y[NOW, i] + value, slope
    evaluate(body, t + 0.5 * step, Y, WORK, fixed, K, 13)
    for i in range(Y.shape[1]):
        left = abs(K[14, i] - step * K[13, i]) / (absolute[i] + rtol * abs(Y[WORK, i]))
        if not left <= largest:
            largest = left
    return largest


@in_machine_code
def _fill(points, done, t, reached, step, Y, F, rows, counts, steps):
    """The rows at the points of a step; the number of points done."""
    while done < len(points) and points[done] <= reached:
        x = (points[done] - t) / step
        for i in range(Y.shape[1]):
            value = Y[NEW, i]
            if points[done] < reached:
                value = F[6, i] * x
                for q in range(1, 7):
                    value = (value + F[6 - q, i]) * (x if q % 2 == 0 else 1 - x)
                value += Y[NOW, i]
            rows[done, i] = value
        counts[done] = steps
        done += 1
    return done


@in_machine_code
def explicit(body, fixed, t, y, goal, done, steps):
    """Integrate from t, y (which is replaced) through the points from number `done`, after some steps.

    `goal` has the points, rtol and the absolute tolerances, the most steps from one point to the next, and the rows and
    numbers of steps to be filled. Returns the outcome, the place reached, the number of points done, and those of steps
    and evaluations.
    """
    points, rtol, absolute, most, rows, counts = goal
    n, end = len(y), points[-1]
    K, F, Y = np.zeros((16, n)), np.zeros((7, n)), np.zeros((3, n))
    for i in range(n):
        Y[NOW, i] = y[i]
    evaluate(body, t, Y, NOW, fixed, K, 0)
    for i in range(n):
        if not math.isfinite(K[0, i]):
            return NOT_FINITE, t, done, steps, 1
    step = first_step(body, fixed, t, Y, K, end, rtol, absolute, 8.0)
    evaluations, is_again, limited, calm, since, begun, outcome = 2, False, 0, 0, steps, steps, FINISHED
    while done < len(points) and outcome == FINISHED:
        if steps - since >= most:
            outcome = TOO_MANY_STEPS
            break
        if step < SMALLEST_STEP * max(abs(t), abs(end)):
            outcome = STEP_TOO_SMALL
            break
        step = end - t if t + 1.01 * step >= end else step
        _advance(body, fixed, t, step, Y, K)
        evaluations, steps = evaluations + 12, steps + 1
        error = _error(step, Y, K, rtol, absolute)
        if not error <= 1.0:
            step, is_again = step * (0.1 if math.isnan(error) else max(0.2, 0.9 * error**-0.125)), True
            continue
        is_limited = _is_limited(step, Y, K, rtol, absolute)
        reached = end if step == end - t else t + step
        if points[done] < reached:
            _prepare_dense(body, fixed, t, step, Y, K, F)
            evaluations += 4
            if not _residual(body, fixed, t, step, Y, K, F, rtol, absolute) <= _MOST_RESIDUAL:
                step, is_again, limited, calm = 0.5 * step, True, limited + 1, 0
                continue
        calm = 0 if is_limited else calm + 1
        limited = limited + 1 if is_limited else (0 if calm == _CALM_STEPS else limited)
        if points[done] <= reached:
            done = _fill(points, done, t, reached, step, Y, F, rows, counts, steps)
            since = steps
        is_long = (steps - begun) % _LONG == 0 and end - reached > _LONG * step
        outcome = STIFF if limited >= _STIFF_STEPS or is_long else FINISHED
        t = reached
        for i in range(n):
            Y[NOW, i], K[0, i] = Y[NEW, i], K[12, i]
        growth = 10.0 if error == 0.0 else min(10.0, 0.9 * error**-0.125)
        step, is_again = step * (min(1.0, growth) if is_again else growth), False
    for i in range(n):
        y[i] = Y[NOW, i]
    return outcome, t, done, steps, evaluations
