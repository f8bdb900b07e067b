"""A signal as a function of metrics and of the constants of its calibration, with derivatives."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.balances.source import SLOPE_FLOOR, Generated, build
from molino.core.balances.system import TIME
from molino.core.frozen import Frozen


@dataclass(frozen=True, eq=False)
class SignalModel(Frozen):
    """A signal as an expression of `symbols`: the responses that it depends on, then its constants."""

    responses: tuple[str, ...]
    constants: tuple[str, ...]
    expression: sp.Expr
    symbols: tuple[sp.Symbol, ...]

    @cached_property
    def _functions(self) -> tuple[Generated, Generated]:
        slopes = [self.expression.diff(symbol) for symbol in self.symbols]
        return (
            build({}, [self.expression], self.symbols, TIME, (), array=True),
            build({}, slopes, self.symbols, TIME, (), array=True),
        )

    def __call__(self, responses: np.ndarray, constants: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The signal, shape (places,), and its derivatives by the responses and the constants, shape (places, symbols).

        Parameters
        ----------
        responses : array, shape (places, responses)
        constants : array, shape (constants,)
        """
        count = len(responses)
        columns = np.concatenate([responses.T, np.repeat(constants[:, None], count, axis=1)])
        value, slopes = self._functions
        (found,) = value(())(columns, 0.0)
        columns[:, :] = np.where(np.abs(columns) < SLOPE_FLOOR, SLOPE_FLOOR, columns)
        rows = slopes(())(columns, 0.0)
        return np.broadcast_to(found, (count,)), np.array([np.broadcast_to(row, (count,)) for row in rows]).T


@dataclass(frozen=True, eq=False)
class CalibratedSignal(Frozen):
    """A signal in one run: its model and its constants, some of them fitted."""

    model: SignalModel
    numbers: np.ndarray
    """Every constant in SI; shape (constants,)."""
    places: Mapping[int, int]
    """The constants that are fitted, with the indices of the parameters."""

    def read(self, values: np.ndarray, slopes: np.ndarray, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The signal, shape (places,), and its derivatives by the parameters, shape (places, parameters), from
        its responses, shape (places, responses), and their derivatives."""
        numbers = self.numbers.copy()
        own, indices = list(self.places), list(self.places.values())
        numbers[own] = parameters[indices]
        signal, by = self.model(values, numbers)
        count = values.shape[1]
        found = np.einsum("pr,prk->pk", by[:, :count], slopes)
        found[:, indices] += by[:, [count + i for i in own]]
        return signal, found
