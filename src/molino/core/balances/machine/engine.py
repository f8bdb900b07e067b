"""Balances in machine code: one case, with sensitivities, or many cases in one call."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from molino.core.balances.compiled import Compiled, Parts
from molino.core.balances.machine.calls import FINISHED, STIFF
from molino.core.balances.machine.code import MachineCode, machine_code
from molino.core.balances.machine.loops import fix, integrate_cases, integrate_one
from molino.core.balances.settings import Report

_NO_VALUES = np.zeros(1)


class Machine:
    """The right-hand side and the Jacobian of balances as machine code.

    Parameters
    ----------
    whole : Compiled
    parts : Parts
        The right-hand sides of the states, followed by those of their sensitivities.
    place : sequence of (int, int)
        State and parameter of each sensitivity, in the order of parameters.

    Raises
    ------
    NoMachineCode
        If an expression has none.
    """

    def __init__(self, whole: Compiled, parts: Parts, place: Sequence[tuple[int, int]] = ()) -> None:
        self.entries, self.n = whole.entries, len(whole.balances.states)
        self.code = machine_code(*parts)
        self.jacobian: MachineCode | None = None
        """The code of the states' Jacobian, written for the first stiff case."""
        self.place = np.array([i for i, _ in place], dtype=np.int64)
        changes = [m for m in range(1, len(place)) if place[m][1] != place[m - 1][1]]
        self.blocks = np.array([0, *changes, len(place)] if place else [0], dtype=np.int64)

    def integrate(
        self,
        values: Sequence[float],
        first: np.ndarray,
        points: np.ndarray,
        rtol: float,
        absolute: np.ndarray,
        most: int,
    ) -> tuple[np.ndarray, np.ndarray, Report] | None:
        """The states at points, the steps up to each, and the report; None if the end is not reached."""
        numbers = np.array(values, dtype=float)
        fixed, fixed_jacobian, address = self._fixed(self.code, numbers), _NO_VALUES, 0
        rows, counts = np.empty((len(points), len(first))), np.zeros(len(points), dtype=np.int64)
        while True:
            if self.jacobian is not None:
                fixed_jacobian, address = self._fixed(self.jacobian, numbers), self.jacobian.body
            outcome, steps, evaluations, jacobians, is_stiff = integrate_one(
                *(self.code.body, fixed, address, fixed_jacobian, self.n, self.place, self.blocks),
                *(first.copy(), points, rtol, absolute, most, rows, counts),
            )
            if outcome != STIFF:
                break
            self._write_jacobian()
        if outcome != FINISHED:
            return None
        method = "backward differentiation" if is_stiff else "Runge-Kutta 8(5,3)"
        return rows, counts, Report(f"{method}, machine code", steps, evaluations, jacobians)

    def ends(
        self, values: np.ndarray, first: np.ndarray, ends: np.ndarray, rtol: float, absolute: np.ndarray, most: int
    ) -> np.ndarray:
        """The states of each case at its own end, integrated from 0, shape (cases, states); NaN where it is not
        reached."""
        states, outcomes = first.copy(), np.full(len(first), STIFF)
        nothing = (0, 0, 0)
        while (outcomes == STIFF).any():
            jacobian = nothing if self.jacobian is None else self._entry(self.jacobian)
            integrate_cases(
                *self._entry(self.code), *jacobian, values, first, ends, rtol, absolute, most, states, outcomes
            )
            if self.jacobian is None:
                self._write_jacobian()
        states[outcomes != FINISHED] = np.nan
        return states

    def _write_jacobian(self) -> None:
        self.jacobian = machine_code(*self.entries.parts, places=self.entries.flat.tolist())

    @staticmethod
    def _fixed(code: MachineCode, numbers: np.ndarray) -> np.ndarray:
        """The values that depend on the parameters alone."""
        fixed = np.zeros(code.fixed + 1)
        fix(code.head, numbers, fixed)
        return fixed

    @staticmethod
    def _entry(code: MachineCode) -> tuple[int, int, int]:
        return code.head, code.body, code.fixed
