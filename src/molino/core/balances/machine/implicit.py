"""Backward differentiation of orders 1 to 5 with nearly constant steps, for stiff balances.

L. F. Shampine, M. W. Reichelt, SIAM J. Sci. Comput. 18 (1997) 1: numerical differentiation formulas with a simplified
Newton method. The sensitivities, as further states, are solved with the factors of the states' Jacobian alone (T. Maly,
L. R. Petzold, Appl. Numer. Math. 20 (1996) 57). Own code, since SciPy's calls Python functions and takes hundreds of
times as long.
"""

# mypy: allow-untyped-defs, allow-untyped-calls
from __future__ import annotations

import math

import numpy as np

from molino.core.balances.machine.calls import (
    FINISHED,
    NOT_FINITE,
    NOT_STIFF,
    SMALLEST_STEP,
    STEP_TOO_SMALL,
    TOO_MANY_STEPS,
    evaluate,
    in_machine_code,
)
from molino.core.balances.machine.explicit import NEW, NOW, WORK, first_step

GUESS, CORRECTION, BEND, OUT = range(3, 7)
"""Further rows of states: as predicted, their correction, the differences weighted, and slopes or residuals."""
_ORDERS = 5
_KAPPA = np.array([0.0, -0.1850, -1 / 9, -0.0823, -0.0415, 0.0])
_GAMMA = np.concatenate([[0.0], np.cumsum(1 / np.arange(1, _ORDERS + 1))])
_ALPHA = (1 - _KAPPA) * _GAMMA
_ERRORS = _KAPPA * _GAMMA + 1 / np.arange(1, _ORDERS + 2)
_SAME = np.cumprod(
    np.vstack([np.ones(_ORDERS + 1), [[(i - 1 - j) / i for j in range(_ORDERS + 1)] for i in range(1, _ORDERS + 1)]]),
    axis=0,
)
"""The (upper triangular) matrix of `_rescale` for an unchanged step."""
_WORTH = (0.9, 1.2)
"""Factors between which a step is not changed, since the factors of the Jacobian then remain."""
_MOST_GROWTH = 10.0
"""Largest factor of a step over the last."""
_NEWTON_STEPS = 4
_NEWTON = 0.01
"""Error of the iterations as a fraction of the tolerance."""
_CALM = 0.2
"""Step times the norm of the Jacobian below which an explicit method is stable with longer steps."""


@in_machine_code
def factorize(columns, rows):
    """Factors L and U of a matrix of shape (columns, rows), in place, with exchanged rows; whether it is regular."""
    n = len(columns)
    for k in range(n):
        pivot = k
        for i in range(k + 1, n):
            if abs(columns[k, i]) > abs(columns[k, pivot]):
                pivot = i
        rows[k] = pivot
        if not abs(columns[k, pivot]) > 0.0:
            return False
        if pivot != k:
            for j in range(n):
                columns[j, k], columns[j, pivot] = columns[j, pivot], columns[j, k]
        inverse = 1.0 / columns[k, k]
        for i in range(k + 1, n):
            columns[k, i] *= inverse
        for j in range(k + 1, n):
            factor = columns[j, k]
            if factor != 0.0:
                for i in range(k + 1, n):
                    columns[j, i] -= factor * columns[k, i]
    return True


@in_machine_code
def substitute(columns, rows, V, row):
    """Solve with the factors of `factorize` for V[row], in place."""
    n = len(columns)
    for k in range(n):
        if rows[k] != k:
            V[row, k], V[row, rows[k]] = V[row, rows[k]], V[row, k]
    for k in range(n):
        value = V[row, k]
        if value != 0.0:
            for i in range(k + 1, n):
                V[row, i] -= columns[k, i] * value
    for k in range(n - 1, -1, -1):
        V[row, k] /= columns[k, k]
        value = V[row, k]
        if value != 0.0:
            for i in range(k):
                V[row, i] -= columns[k, i] * value


@in_machine_code
def _solve(factors, exchanged, V, place, blocks):
    """Solve for the states and for the sensitivities by each parameter, in place of the residuals V[OUT]."""
    n = len(factors)
    substitute(factors, exchanged, V, OUT)
    for b in range(len(blocks) - 1):
        for i in range(n):
            V[WORK, i] = 0.0
        for m in range(blocks[b], blocks[b + 1]):
            V[WORK, place[m]] = V[OUT, n + m]
        substitute(factors, exchanged, V, WORK)
        for m in range(blocks[b], blocks[b + 1]):
            V[OUT, n + m] = V[WORK, place[m]]


@in_machine_code
def _rescale(D, R, order, factor):
    """The differences for a step that is changed by a factor; R is working space."""
    for j in range(1, order + 1):
        R[0, j] = 1.0
        for i in range(1, order + 1):
            R[i, j] = R[i - 1, j] * (i - 1 - factor * j) / i
    for m in range(D.shape[1]):
        for j in range(1, order + 1):
            R[0, j] = 0.0
            for k in range(1, order + 1):
                R[0, j] += R[k, j] * D[k, m]
        for i in range(1, order + 1):
            total = 0.0
            for j in range(1, i + 1):
                total += _SAME[j, i] * R[0, j]
            D[i, m] = total


@in_machine_code
def _size(V, row, weight, scale):
    """The largest of weight * V[row] over its scale."""
    largest = 0.0
    for i in range(len(scale)):
        value = abs(V[row, i]) / scale[i]
        if not value <= largest:  # also NaN
            largest = value
    return weight * largest


@in_machine_code
def _predict(D, V, scale, order, rtol, absolute):
    """The states that the differences predict, and the scales of their tolerances."""
    for i in range(len(scale)):
        total, bend = D[0, i], 0.0
        for k in range(1, order + 1):
            total += D[k, i]
            bend += D[k, i] * _GAMMA[k]
        V[GUESS, i], V[BEND, i] = total, bend / _ALPHA[order]
        scale[i] = absolute[i] + rtol * abs(total)


@in_machine_code
def _differentiate(jacobian, fixed, t, V, J, scale):
    """Fill the Jacobian J, flat in one row; its norm by rows, of states relative to their scales."""
    n = int(math.sqrt(J.shape[1]))
    evaluate(jacobian, t, V, GUESS, fixed, J, 0)
    largest = 0.0
    for i in range(n):
        total = 0.0
        for j in range(n):
            total += abs(J[0, i * n + j]) * scale[j]
        if not total / scale[i] <= largest:
            largest = total / scale[i]
    return largest


@in_machine_code
def _factorize(J, factors, exchanged, c):
    """Factors of 1 - c J; whether it is regular."""
    n = len(factors)
    for j in range(n):
        for i in range(n):
            factors[j, i] = -c * J[0, i * n + j]
        factors[j, j] += 1.0
    return factorize(factors, exchanged)


@in_machine_code
def _newton(body, fixed, t, c, V, scale, factors, exchanged, place, blocks, rate):
    """The states of a step and their correction: whether it converges, the number of iterations, and their rate."""
    size, last = len(scale), 0.0
    for i in range(size):
        V[NEW, i], V[CORRECTION, i] = V[GUESS, i], 0.0
    for k in range(_NEWTON_STEPS):
        evaluate(body, t, V, NEW, fixed, V, OUT)
        for i in range(size):
            V[OUT, i] = c * V[OUT, i] - V[BEND, i] - V[CORRECTION, i]
        _solve(factors, exchanged, V, place, blocks)
        change = _size(V, OUT, 1.0, scale)
        if not math.isfinite(change):
            return False, k + 1, 1.0
        if k > 0:
            rate = max(0.3 * rate, change / last)
            if rate >= 0.9 or rate ** (_NEWTON_STEPS - 1 - k) * change > (1 - rate) * _NEWTON:
                return False, k + 1, 1.0
        for i in range(size):
            V[NEW, i] += V[OUT, i]
            V[CORRECTION, i] += V[OUT, i]
        if change == 0.0 or rate * change <= (1 - rate) * _NEWTON:
            return True, k + 1, rate
        last = change
    return False, _NEWTON_STEPS, 1.0


@in_machine_code
def _correct(code, t, c, V, J, scale, factors, exchanged, rate, age, norm, has_factors):
    """As `_newton`, with new factors where there are none, and after a failure with a new Jacobian.

    Also returns the age in steps of the Jacobian (-1: none), its norm, and the number of new ones.
    """
    body, fixed, jacobian, fixed_jacobian, _, place, blocks = code
    made = 0
    while True:
        if age < 0:
            norm, age, has_factors = _differentiate(jacobian, fixed_jacobian, t, V, J, scale), 0, False
            made += 1
        converged, iterations = False, 0
        if not has_factors:
            has_factors, rate = _factorize(J, factors, exchanged, c), 1.0
        if has_factors:
            converged, iterations, rate = _newton(body, fixed, t, c, V, scale, factors, exchanged, place, blocks, rate)
        if converged or age == 0:
            return converged, iterations, rate, age, norm, made
        age = -1


@in_machine_code
def _error(V, scale, order, rtol, absolute):
    """The estimated error of a step over its tolerance."""
    for i in range(len(scale)):
        scale[i] = absolute[i] + rtol * abs(V[NEW, i])
    return _size(V, CORRECTION, _ERRORS[order], scale)


@in_machine_code
def _accept(D, V, order):
    """The differences after a step."""
    for i in range(D.shape[1]):
        D[order + 2, i] = V[CORRECTION, i] - D[order + 1, i]
        D[order + 1, i] = V[CORRECTION, i]
        for k in range(order, -1, -1):
            D[k, i] += D[k + 1, i]


@in_machine_code
def _fill(points, done, reached, step, order, D, rows, counts, steps):
    """The rows at the points up to the place reached; the number of points done."""
    while done < len(points) and points[done] <= reached:
        for i in range(D.shape[1]):
            rows[done, i] = D[0, i]
        share = 1.0
        if points[done] < reached:
            for k in range(order):
                share *= (points[done] - (reached - step * k)) / (step * (1 + k))
                for i in range(D.shape[1]):
                    rows[done, i] += D[k + 1, i] * share
        counts[done] = steps
        done += 1
    return done


@in_machine_code
def _next_order(D, scale, order, error):
    """The order of the longest next step, and the factor of that step."""
    best, factor = order, error ** (-1 / (order + 1)) if error > 0 else _MOST_GROWTH
    for other in (order - 1, order + 1):
        if 1 <= other <= _ORDERS:
            estimate = _size(D, other + 1, _ERRORS[other], scale)
            change = estimate ** (-1 / (other + 1)) if estimate > 0 else _MOST_GROWTH
            if change > factor:
                best, factor = other, change
    return best, factor


@in_machine_code
def _begin(body, fixed, t, y, V, D, end, rtol, absolute):
    """Fill the differences of order 1 at the states y; the first step, NaN if a slope is not finite."""
    for i in range(len(y)):
        V[NOW, i] = y[i]
    evaluate(body, t, V, NOW, fixed, D, 0)
    if not math.isfinite(_size(D, 0, 1.0, absolute)):
        return math.nan
    step = first_step(body, fixed, t, V, D, end, rtol, absolute, 2.0)
    for i in range(len(y)):
        D[1, i], D[0, i] = D[0, i] * step, y[i]
    return step


@in_machine_code
def implicit(code, t, y, goal, done, steps, patience):
    """As `explicit`, until the balances have not been stiff for `patience` successive steps.

    `code` has the body and the fixed values of the right-hand side and of the Jacobian of the first states; the others
    are sensitivities: the state of each, and the limits of those by one parameter.
    """
    points, rtol, absolute, most, rows, counts = goal
    body, fixed, _jacobian, _fixed_jacobian, n, _place, _blocks = code
    size, end = len(y), points[-1]
    D, V, R = np.zeros((_ORDERS + 3, size)), np.zeros((7, size)), np.ones((_ORDERS + 1, _ORDERS + 1))
    J, factors, exchanged, scale = np.zeros((1, n * n)), np.zeros((n, n)), np.zeros(n, np.int64), np.empty(size)
    step = _begin(body, fixed, t, y, V, D, end, rtol, absolute)
    if math.isnan(step):
        return NOT_FINITE, t, done, steps, 1, 0
    order, age = np.int64(1), np.int64(-1)  # not literals, so that each function is compiled once
    equal, evaluations, jacobians, calm, since, rate = 0, 2, 0, 0, steps, 1.0
    norm, has_factors, outcome = 0.0, False, FINISHED
    while done < len(points) and calm < patience:
        if steps - since >= most or step < SMALLEST_STEP * abs(t):
            outcome = TOO_MANY_STEPS if steps - since >= most else STEP_TOO_SMALL
            break
        if t + step * (1 + 1e-12) > end:
            _rescale(D, R, order, (end - t) / step)
            step, equal, has_factors = end - t, 0, False
        reached = end if step == end - t else t + step
        steps, c = steps + 1, step / _ALPHA[order]
        _predict(D, V, scale, order, rtol, absolute)
        converged, iterations, rate, age, norm, made = _correct(
            code, reached, c, V, J, scale, factors, exchanged, rate, age, norm, has_factors
        )
        evaluations, jacobians, has_factors = evaluations + iterations, jacobians + made, True
        error = _error(V, scale, order, rtol, absolute) if converged else math.inf
        safety = 0.9 * (2 * _NEWTON_STEPS + 1) / (2 * _NEWTON_STEPS + iterations)
        if error > 1:
            factor = max(0.2, safety * error ** (-1 / (order + 1))) if converged else 0.5
            _rescale(D, R, order, factor)
            step, equal, has_factors, calm = step * factor, 0, False, 0
            age = age if math.isfinite(norm) else np.int64(-1)
            continue
        _accept(D, V, order)
        if points[done] <= reached:
            done = _fill(points, done, reached, step, order, D, rows, counts, steps)
            since = steps
        t, age, equal, calm = reached, age + 1, equal + 1, calm + 1 if step * norm < _CALM else 0
        if equal > order:
            other, factor = _next_order(D, scale, order, error)
            factor = min(_MOST_GROWTH, safety * factor)
            if _WORTH[0] < factor < _WORTH[1]:
                continue
            order = other
            _rescale(D, R, order, factor)
            step, equal, has_factors = step * factor, 0, False
    for i in range(size):
        y[i] = D[0, i]
    if outcome == FINISHED and done < len(points):
        outcome = NOT_STIFF
    return outcome, t, done, steps, evaluations, jacobians
