"""Balances in machine code: one case, with sensitivities, or many cases in one call."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import sympy as sp

from molino.core.balances.compiled import Compiled, compiled
from molino.core.balances.machine.calls import FINISHED, STIFF
from molino.core.balances.machine.code import MachineCode, machine_code
from molino.core.balances.machine.loops import fix, integrate_case, integrate_cases, integrate_one
from molino.core.balances.machine.steady import steady_cases
from molino.core.balances.settings import Report, Settings

Rows = tuple[np.ndarray, np.ndarray, Report]
_NO_VALUES, _NO_CODE = np.zeros(1), (0, 0, 0)


class Machine:
    """The right-hand side, the initial state and the Jacobian of balances as machine code.

    Parameters
    ----------
    whole : Compiled
    by : tuple of Symbol
        The parameters of sensitivities.

    Raises
    ------
    NoMachineCode
        If an expression has none.
    """

    def __init__(self, whole: Compiled, by: tuple[sp.Symbol, ...] = ()) -> None:
        balances = whole.balances
        parts, initial = whole.parts, tuple(s.initial for s in balances.states)
        place: tuple[tuple[int, int], ...] = ()
        if by:
            sensitivity = whole.sensitivity(by)
            parts, initial, place = sensitivity.parts, sensitivity.initial, sensitivity.place
        self.balances, self.n = balances, len(balances.states)
        self.code = machine_code(*parts)
        over = balances.independent, balances.parameters
        self.start = machine_code({}, [*initial, *(s.scale for s in balances.states)], (), *over)
        self.jacobian: MachineCode | None = None
        """The code of the states' Jacobian, written for the first stiff case."""
        self.is_amount = np.zeros(self.n, dtype=bool)
        self.is_amount[balances.amounts] = True
        self.place = np.array([i for i, _ in place], dtype=np.int64)
        self.columns = np.array([balances.places[by[j]] for _, j in place], dtype=np.int64)
        changes = [m for m in range(1, len(place)) if place[m][1] != place[m - 1][1]]
        self.blocks = np.array([0, *changes, len(place)] if place else [0], dtype=np.int64)

    def run(self, values: Sequence[float], points: np.ndarray, settings: Settings) -> Rows | None:
        """From the initial state: the states at points, the steps up to each, and the report; None if the end is not
        reached."""
        numbers = np.array(values, dtype=float)
        rows = np.empty((len(points), self.n + len(self.place)))
        counts = np.zeros(len(points), dtype=np.int64)
        while True:
            found = integrate_case(
                *(self.code.entry, self.start.entry, _NO_CODE if self.jacobian is None else self.jacobian.entry),
                *(numbers, self.is_amount, self.place, self.columns, self.blocks, points),
                *(settings.rtol, settings.atol, settings.most, rows, counts),
            )
            if found[0] != STIFF:
                return self._reported(rows, counts, found)
            self._write_jacobian()

    def integrate(
        self, values: Sequence[float], first: np.ndarray, points: np.ndarray, absolute: np.ndarray, settings: Settings
    ) -> Rows | None:
        """As `run`, from other initial values, with absolute tolerances."""
        numbers = np.array(values, dtype=float)
        fixed, fixed_jacobian, address = self._fixed(self.code, numbers), _NO_VALUES, 0
        rows, counts = np.empty((len(points), len(first))), np.zeros(len(points), dtype=np.int64)
        while True:
            if self.jacobian is not None:
                fixed_jacobian, address = self._fixed(self.jacobian, numbers), self.jacobian.body
            found = integrate_one(
                *(self.code.body, fixed, address, fixed_jacobian, self.n, self.place, self.blocks),
                *(first.copy(), points, settings.rtol, absolute, settings.most, rows, counts),
            )
            if found[0] != STIFF:
                return self._reported(rows, counts, found)
            self._write_jacobian()

    def ends(self, values: np.ndarray, ends: np.ndarray, settings: Settings) -> np.ndarray:
        """The states of each case at its own end, integrated from 0, shape (cases, states); NaN where it is not
        reached."""
        states, outcomes = np.empty((len(values), self.n)), np.full(len(values), STIFF)
        while (outcomes == STIFF).any():
            integrate_cases(
                *(self.code.entry, self.start.entry, _NO_CODE if self.jacobian is None else self.jacobian.entry),
                *(values, self.is_amount, ends, settings.rtol, settings.atol, settings.most, states, outcomes),
            )
            if self.jacobian is None:
                self._write_jacobian()
        states[outcomes != FINISHED] = np.nan
        return states

    def steady(self, values: np.ndarray, time_scales: np.ndarray, horizon: float, settings: Settings) -> np.ndarray:
        """The steady state of each case at the end of its start-up, shape (cases, states); NaN where none is found."""
        if self.jacobian is None:
            self._write_jacobian()
        assert self.jacobian is not None
        states = np.empty((len(values), self.n))
        steady_cases(
            *(self.code.entry, self.start.entry, self.jacobian.entry, values, self.is_amount, time_scales, horizon),
            *(settings.rtol, settings.atol, states),
        )
        return states

    @staticmethod
    def _reported(rows: np.ndarray, counts: np.ndarray, found: tuple[int, int, int, int, bool]) -> Rows | None:
        outcome, steps, evaluations, jacobians, is_stiff = found
        if outcome != FINISHED:
            return None
        method = "backward differentiation" if is_stiff else "Runge-Kutta 8(5,3)"
        return rows, counts, Report(f"{method}, machine code", steps, evaluations, jacobians)

    def _write_jacobian(self) -> None:
        entries = compiled(self.balances).entries
        self.jacobian = machine_code(*entries.parts, places=entries.flat.tolist())

    @staticmethod
    def _fixed(code: MachineCode, numbers: np.ndarray) -> np.ndarray:
        """The values that depend on the parameters alone."""
        fixed = np.zeros(code.fixed + 1)
        fix(code.head, numbers, fixed)
        return fixed
