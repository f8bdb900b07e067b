"""Right-hand sides with kinks at the exhaustion of an amount."""

from __future__ import annotations

import numpy as np

from molino.core.balances.compiled import Function
from molino.core.balances.functions import Functions, WithSensitivities
from molino.core.balances.system import Case

_EXHAUSTED = 1e-10
"""Fraction of its scale at which an amount that a rate of an order below one consumes is exhausted."""


class Kinks:
    """The amounts that a rate of an order below one exhausts, and the values at which they are exhausted.

    There the derivatives of the rates are infinite; a step across would make the amount negative. Sensitivities of an
    exhausted amount are zero.
    """

    def __init__(self, case: Case, functions: Functions, scale: np.ndarray, atol: float) -> None:
        self.functions, self.count = functions, len(scale)
        self.places = [] if case.balances.has_equations else [*case.balances.kinks]
        self.least = max(_EXHAUSTED, 10 * atol) * scale[self.places]
        self.band = functions.band
        place = functions.sensitivity.place if isinstance(functions, WithSensitivities) else []
        self.slopes = {i: [self.count + n for n, (own, _) in enumerate(place) if own == i] for i in self.places}

    def callbacks(self) -> tuple[Function, Function]:
        """Those of the functions, with zero for derivatives that are not finite at the exhaustion of an amount."""
        rhs, jacobian = self.functions.callbacks()

        def tamed(y: np.ndarray, t: float) -> np.ndarray:
            found = np.array(rhs(y, t))
            found[self.count :] = np.nan_to_num(found[self.count :], nan=0.0, posinf=0.0, neginf=0.0)
            return found

        def tamed_jacobian(y: np.ndarray, t: float) -> np.ndarray:
            return np.asarray(np.nan_to_num(np.array(jacobian(y, t)), nan=0.0, posinf=0.0, neginf=0.0))

        return (tamed, tamed_jacobian) if any(self.slopes.values()) else (rhs, jacobian)

    def cut(self, rows: np.ndarray) -> np.ndarray:
        """The rows before the first (except the initial one) in which an amount is negative."""
        negative = (rows[1:, self.places] < -self.least).any(axis=1)
        return rows[: 1 + int(np.argmax(np.append(negative, True)))]

    def settled(self, y: np.ndarray) -> np.ndarray:
        """The states with the exhausted amounts at zero."""
        found = y.copy()
        for place, least in zip(self.places, self.least, strict=True):
            if abs(y[place]) < least:
                found[[place, *self.slopes[place]]] = 0.0
        return found
