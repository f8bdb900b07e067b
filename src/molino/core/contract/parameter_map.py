"""The map from conditions to the parameters of the balances, with the exact Jacobian, for one case or many."""

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
    """The map from some conditions of a vessel to the parameters of its balances.

    Attributes
    ----------
    vessel : Vessel
    names : tuple of str
        Conditions by the names that `Vessel.with_` takes, in SI and in the form of the vessel.
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
        """The map as generated code: the results of the arithmetic on symbols, their places among parameters and end,
        and the constant parameters. None if the map is not plain arithmetic (a mixture by a system of equations, a real
        gas)."""
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
        """The parameters of one case, and its end."""
        if self._generated is not None:
            make, places, still = self._generated
            found = still.copy()
            for place, number in zip(places, make(numbers)((), 0.0), strict=True):
                found[place] = number
            return tuple(found[:-1]), found[-1]
        return self.values_once(numbers)

    def values_once(self, numbers: Sequence[float]) -> tuple[tuple[float, ...], float]:
        """As `values`, without generated code, for few cases."""
        known, end = self.vessel.spec.parameters(dict(zip(self.names, numbers, strict=True)))
        return tuple(float(known.get(s, 0.0)) for s in self.vessel.spec.model.balances.parameters), float(end)

    def with_slopes(self, numbers: Sequence[float]) -> tuple[tuple[float, ...], np.ndarray, float, np.ndarray]:
        """Parameters, their derivatives by the conditions, shape (parameters, conditions), the end, and its
        derivatives."""
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
        """Parameters, and their derivatives by the conditions, shape (parameters, conditions)."""
        values, slopes, _, _ = self.with_slopes(numbers)
        return values, slopes
