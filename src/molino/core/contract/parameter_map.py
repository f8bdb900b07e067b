"""From the numbers that a user gives to those in the balances, with the exact Jacobian, for one case or many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.balances.compiled import Maker
from molino.core.balances.source import build
from molino.core.balances.system import TIME
from molino.core.contract.vessel import Vessel
from molino.core.dual import Dual, value_of
from molino.core.errors import InputError
from molino.core.symbols import Role

SETTING = Role("setting", "{}", sign="positive")


@dataclass(frozen=True)
class ParameterMap:
    """How some settings of a vessel (flow, ratio, diameter, tubes, temperature, ...) stand in its balances.

    Attributes
    ----------
    vessel : Vessel
    names : tuple of str
        Settings by name, each as `Vessel.with_` takes it, in SI and in the form in which the vessel has it.
    """

    vessel: Vessel
    names: tuple[str, ...]

    def table(self, numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The parameters of many cases at once.

        Parameters
        ----------
        numbers : array, shape (cases, settings)

        Returns
        -------
        parameters : array, shape (cases, parameters)
        ends : array, shape (cases,)
        """
        given = {name: numbers[:, i] for i, name in enumerate(self.names)}
        found, end = self.vessel.spec.parameters(given)
        parameters = self.vessel.spec.model.balances.parameters
        full = np.empty((len(numbers), len(parameters)))
        for i, symbol in enumerate(parameters):
            full[:, i] = found.get(symbol, 0.0)
        return full, np.broadcast_to(np.asarray(end, dtype=float), len(numbers)).copy()

    @cached_property
    def _generated(self) -> tuple[Maker, list[int], list[float]] | None:
        """The map as generated code: what plain arithmetic makes of symbols in place of numbers, where it stands among
        parameters and end, and the numbers that do not change. None where something on the way is no plain arithmetic
        (a mixture that takes a system of equations, a real gas)."""
        symbols = [SETTING(name) for name in self.names]
        try:
            found, end = self.vessel.spec.parameters(dict(zip(self.names, symbols, strict=True)))
            numbers = [*(found.get(s, 0.0) for s in self.vessel.spec.model.balances.parameters), end]
            places = [i for i, number in enumerate(numbers) if isinstance(number, sp.Basic)]
            still = [0.0 if i in places else float(number) for i, number in enumerate(numbers)]
            return build({}, [numbers[i] for i in places], (), TIME, tuple(symbols)), places, still
        except (TypeError, AttributeError, ValueError, InputError, NotImplementedError):
            return None

    def values(self, numbers: Sequence[float]) -> tuple[tuple[float, ...], float]:
        """The parameters of one case, and where it ends."""
        if self._generated is not None:
            make, places, still = self._generated
            found = still.copy()
            for place, number in zip(places, make(numbers)((), 0.0), strict=True):
                found[place] = number
            return tuple(found[:-1]), found[-1]
        return self.values_once(numbers)

    def values_once(self, numbers: Sequence[float]) -> tuple[tuple[float, ...], float]:
        """As `values`, for a case or two, for which it does not pay to generate code."""
        known, end = self.vessel.spec.parameters(dict(zip(self.names, numbers, strict=True)))
        return tuple(float(known.get(s, 0.0)) for s in self.vessel.spec.model.balances.parameters), float(end)

    def with_slopes(self, numbers: Sequence[float]) -> tuple[tuple[float, ...], np.ndarray, float, np.ndarray]:
        """Parameters, their slopes by the settings, shape (parameters, settings), where it ends, and its slopes."""
        given = dict(zip(self.names, Dual.seeds([float(n) for n in numbers]), strict=True))
        found, end = self.vessel.spec.parameters(given)
        parameters = self.vessel.spec.model.balances.parameters
        values = tuple(float(value_of(found.get(s, 0.0))) for s in parameters)
        slopes = np.zeros((len(parameters), len(self.names)))
        for i, symbol in enumerate(parameters):
            number = found.get(symbol)
            if isinstance(number, Dual):
                slopes[i] = number.slope
        by_end = end.slope if isinstance(end, Dual) else np.zeros(len(self.names))
        return values, slopes, float(value_of(end)), np.asarray(by_end)

    def values_and_slopes(self, numbers: Sequence[float]) -> tuple[tuple[float, ...], np.ndarray]:
        """Parameters, and their slopes by the settings, shape (parameters, settings)."""
        values, slopes, _, _ = self.with_slopes(numbers)
        return values, slopes
