"""Steady states of many cases: each start-up, then Newton's method with the exact Jacobian."""

# mypy: allow-untyped-defs, allow-untyped-calls
from __future__ import annotations

import numpy as np

from molino.core.balances.machine.calls import FINISHED, evaluate, in_machine_code, prepare
from molino.core.balances.machine.explicit import NEW, NOW, WORK
from molino.core.balances.machine.implicit import factorize, substitute
from molino.core.balances.machine.loops import begin, integrate_one

_MOST_STEPS = 12
_NEWTON = 1e-14
"""Largest last step, relative to the scale of each state."""
_RESIDUAL, _NEAR, _NEGATIVE = 1e-9, 0.02, 1e-9
"""Largest residual, distance from the end of the start-up, and negative value of a root, relative to the scales."""
_SETTLING_MOST = 20_000


@in_machine_code
def _newton(body, fixed, jacobian, fixed_jacobian, Y, scale):
    """Newton steps from Y[NEW], in place; whether the Jacobian stays regular."""
    n = len(scale)
    J, columns, exchanged = np.zeros((1, n * n)), np.zeros((n, n)), np.zeros(n, np.int64)
    for _ in range(_MOST_STEPS):
        evaluate(body, 0.0, Y, NEW, fixed, Y, WORK)
        evaluate(jacobian, 0.0, Y, NEW, fixed_jacobian, J, 0)
        for j in range(n):
            for i in range(n):
                columns[j, i] = J[0, i * n + j]
        if not factorize(columns, exchanged):
            return False
        substitute(columns, exchanged, Y, WORK)
        change = 0.0
        for i in range(n):
            Y[NEW, i] -= Y[WORK, i]
            change = max(change, abs(Y[WORK, i]) / scale[i])
        if change < _NEWTON:
            break
    return True


@in_machine_code
def _is_root(body, fixed, Y, scale, time_scale):
    """Whether Y[NEW] is a root near Y[NOW], without negative states."""
    evaluate(body, 0.0, Y, NEW, fixed, Y, WORK)
    for i in range(len(scale)):
        left = abs(Y[WORK, i]) * time_scale / scale[i]
        apart = abs(Y[NEW, i] - Y[NOW, i]) / scale[i]
        if not (left < _RESIDUAL and apart <= _NEAR and Y[NEW, i] >= -_NEGATIVE * scale[i]):
            return False
    return True


@in_machine_code
def steady_cases(code, start, jacobian, values, is_amount, time_scales, horizon, rtol, atol, states):
    """Fill the steady state of each case; NaN where none is found at the end of its start-up over some time scales."""
    cases, n = states.shape
    none, blocks = np.zeros(0, dtype=np.int64), np.zeros(1, dtype=np.int64)
    rows, counts, points = np.empty((2, n)), np.zeros(2, dtype=np.int64), np.zeros(2)
    fixed, fixed_jacobian = np.zeros(code[2] + 1), np.zeros(jacobian[2] + 1)
    y, absolute, scale, Y = np.zeros(n), np.zeros(n), np.zeros(n), np.zeros((3, n))
    for c in range(cases):
        for i in range(n):
            states[c, i] = np.nan
        if not begin(start[0], start[1], start[2], values[c], atol, is_amount, none, none, y, absolute, scale):
            continue
        prepare(code[0], values[c], fixed)
        prepare(jacobian[0], values[c], fixed_jacobian)
        points[1] = horizon * time_scales[c]
        outcome, _, _, _, _ = integrate_one(
            *(code[1], fixed, jacobian[1], fixed_jacobian, n, none, blocks),
            *(y, points, rtol, absolute, _SETTLING_MOST, rows, counts),
        )
        if outcome != FINISHED:
            continue
        for i in range(n):
            Y[NOW, i] = max(rows[1, i], 0.0)
            Y[NEW, i] = Y[NOW, i]
        is_regular = _newton(code[1], fixed, jacobian[1], fixed_jacobian, Y, scale)
        if is_regular and _is_root(code[1], fixed, Y, scale, time_scales[c]):
            for i in range(n):
                states[c, i] = Y[NEW, i]
