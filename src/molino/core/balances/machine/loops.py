"""Integration of one case, and of many, by the explicit or the implicit method, whichever the balances need."""

# mypy: allow-untyped-defs, allow-untyped-calls
from __future__ import annotations

import numpy as np

from molino.core.balances.machine.calls import FINISHED, NOT_STIFF, STIFF, in_machine_code, prepare
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
    steps = counts[0]  # an integer that is not a literal, so that each method is compiled once
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
def integrate_cases(
    head,
    body,
    size,
    head_jacobian,
    jacobian,
    size_jacobian,
    values,
    first,
    ends,
    rtol,
    absolute,
    most,
    states,
    outcomes,
):
    """Integrate each case with the outcome STIFF from 0 to its own end; states and outcomes are filled."""
    cases, n = first.shape
    fixed, fixed_jacobian = np.zeros(size + 1), np.zeros(size_jacobian + 1)
    rows, counts, points = np.empty((2, n)), np.zeros(2, dtype=np.int64), np.zeros(2)
    none, blocks, y = np.zeros(0, dtype=np.int64), np.zeros(1, dtype=np.int64), np.empty(n)
    for i in range(cases):
        if outcomes[i] != STIFF:
            continue
        prepare(head, values[i], fixed)
        if jacobian != 0:
            prepare(head_jacobian, values[i], fixed_jacobian)
        points[1] = ends[i]
        for j in range(n):
            y[j] = first[i, j]
        outcome, _, _, _, _ = integrate_one(
            body, fixed, jacobian, fixed_jacobian, n, none, blocks, y, points, rtol, absolute[i], most, rows, counts
        )
        for j in range(n):
            states[i, j] = rows[1, j]
        outcomes[i] = outcome
        if outcome == STIFF:
            return
