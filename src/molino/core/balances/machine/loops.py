"""Integration of one case, and of many, by the explicit or the implicit method, whichever the balances need."""

# mypy: allow-untyped-defs, allow-untyped-calls
from __future__ import annotations

import math

import numpy as np

from molino.core.balances.machine.calls import (
    FINISHED,
    NOT_FINITE,
    NOT_STIFF,
    STIFF,
    evaluate,
    in_machine_code,
    prepare,
)
from molino.core.balances.machine.explicit import explicit
from molino.core.balances.machine.implicit import implicit

_PATIENCE = 40
"""Number of steps that are not stiff after which the explicit method takes over; doubled at each change."""


@in_machine_code
def fix(head, values, fixed):
    """Fill the values that depend on parameters alone."""
    prepare(head, values, fixed)


@in_machine_code
def integrate_one(
    body, fixed, jacobian, fixed_jacobian, n, place, blocks, y, points, rtol, absolute, most, rows, counts
):
    """Integrate from y (it becomes the last state) at points[0]; rows and counts are filled.

    Returns the outcome, the steps, the evaluations, the Jacobians, and whether the method at the end was the implicit
    one. Without a Jacobian (address 0) it ends where the balances become stiff.
    """
    counts[0] = 0
    for i in range(len(y)):
        rows[0, i] = y[i]
    code = body, fixed, jacobian, fixed_jacobian, n, place, blocks
    goal = points, rtol, absolute, most, rows, counts
    steps = np.int64(0)  # not a literal, so that each method is compiled once
    t, done, patience, evaluations, jacobians, is_stiff = points[0], steps + 1, steps + _PATIENCE, 0, 0, False
    while True:
        if is_stiff:
            outcome, t, done, steps, more, made = implicit(code, t, y, goal, done, steps, patience)
            patience *= 2
            jacobians += made
        else:
            outcome, t, done, steps, more = explicit(body, fixed, t, y, goal, done, steps)
        evaluations += more
        if done == len(points):
            return FINISHED, steps, evaluations, jacobians, is_stiff
        if outcome == NOT_STIFF:
            is_stiff = False
        elif outcome == STIFF and jacobian != 0:
            is_stiff = True
        else:
            return outcome, steps, evaluations, jacobians, is_stiff


@in_machine_code
def begin(head, body, size, values, atol, is_amount, place, columns, first, absolute, scale):
    """Fill the initial states and sensitivities, their absolute tolerances, and the scales; whether they are finite.

    The function gives the initial states, the initial sensitivities, and the scales of the states. `columns` has the
    places of the parameters of the sensitivities. An amount that begins below its scale is tolerated by its initial
    value.
    """
    n, total = len(is_amount), len(first)
    fixed, out = np.zeros(size + 1), np.zeros((1, total + n))
    prepare(head, values, fixed)
    evaluate(body, 0.0, out, 0, fixed, out, 0)
    is_finite = True
    for i in range(total):
        first[i] = out[0, i]
        is_finite = is_finite and math.isfinite(first[i])
    for i in range(n):
        given = out[0, total + i]
        scale[i] = given if given > 0 else 1.0
        absolute[i] = atol * (first[i] if is_amount[i] and 0 < first[i] < given else scale[i])
        is_finite = is_finite and not math.isnan(given)
    for m in range(total - n):
        size_of = abs(values[columns[m]])
        absolute[n + m] = 1e2 * atol * scale[place[m]] / (size_of if size_of > 0 else 1.0)
    return is_finite


@in_machine_code
def integrate_case(
    code, start, jacobian, values, is_amount, place, columns, blocks, points, rtol, atol, most, rows, counts
):
    """As `integrate_one`, from the initial state; each function as addresses of head and body and the number of values
    that depend on the parameters alone."""
    n, total = len(is_amount), rows.shape[1]
    y, absolute, scale = np.zeros(total), np.zeros(total), np.zeros(n)
    if not begin(start[0], start[1], start[2], values, atol, is_amount, place, columns, y, absolute, scale):
        return NOT_FINITE, 0, 0, 0, False
    fixed, fixed_jacobian = np.zeros(code[2] + 1), np.zeros(jacobian[2] + 1)
    prepare(code[0], values, fixed)
    if jacobian[0] != 0:
        prepare(jacobian[0], values, fixed_jacobian)
    return integrate_one(
        code[1], fixed, jacobian[1], fixed_jacobian, n, place, blocks, y, points, rtol, absolute, most, rows, counts
    )


@in_machine_code
def integrate_cases(code, start, jacobian, values, is_amount, ends, rtol, atol, most, states, outcomes):
    """Integrate each case with the outcome STIFF from 0 to its own end; states and outcomes are filled."""
    cases, n = states.shape
    none, blocks = np.zeros(0, dtype=np.int64), np.zeros(1, dtype=np.int64)
    rows, counts, points = np.empty((2, n)), np.zeros(2, dtype=np.int64), np.zeros(2)
    for i in range(cases):
        if outcomes[i] != STIFF:
            continue
        points[1] = ends[i]
        outcomes[i], _, _, _, _ = integrate_case(
            code, start, jacobian, values[i], is_amount, none, none, blocks, points, rtol, atol, most, rows, counts
        )
        for j in range(n):
            states[i, j] = rows[1, j]
        if outcomes[i] == STIFF:
            return
