"""Steps in time of the concentrations in a basin."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import scipy

from molino.core.fields.stream_function import factor
from molino.core.fields.transport import Fed, Sums, Transport

_ROUNDS = 2
"""Corrections of the scheme within one step of time."""
_NEAR, _PATIENCE, _MOST_ROUNDS = 1e-6, 6, 24
"""Tolerances of a step with reaction: the relative change at which it is solved, the number of corrections after which
the derivatives of the rates are updated, and the largest number."""
_FORESEEN = 1e-5
"""The relative change up to which the extrapolation from the previous steps needs no further correction: a larger one
is visible in E, the derivative of the outlet concentration."""
BELOW = 1e-6
"""Largest negative value after a step, relative to the largest."""
Rates = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]
"""The production in each cell from fields, shape (fields, cells), and its derivatives, shapes (fields, cells) and
(cells, fields, fields)."""


class Stepper:
    """Equal time steps by backward differentiation of second order; the first one is Euler's.

    The scheme of first order and the linearized rates are implicit; the remainder, and that of the scheme of second
    order, are corrected within the step. A step with negative values is repeated by Euler's formula.
    """

    def __init__(
        self,
        transport: Transport,
        dt: float,
        D: np.ndarray,
        feds: Sequence[Fed],
        rates: Rates | None = None,
        sums: Sums | None = None,
    ) -> None:
        self.transport, self.D, self.feds, self.rates, self.sums = transport, D, feds, rates, sums
        self.inertia = transport.volumes / dt
        self.entering = np.array([transport.entering(fed) for fed in feds])
        self.before: np.ndarray | None = None
        self.schemes = [transport.scheme(float(d)) for d in D]
        self._factors: dict[float, tuple[Any, np.ndarray | None]] = {}
        self.accumulated = np.zeros(len(D))
        """Accumulation of each field in the last step, per time."""

    def advance(self, c: np.ndarray) -> np.ndarray:
        """One step on, shape (fields, cells)."""
        found = None
        if self.before is not None:
            found = self._solved(1.5, 2 * c - self.before / 2, np.maximum(2 * c - self.before, 0.0))
            if (found.min(axis=1) < -BELOW * max(float(np.max(np.abs(found))), 1e-300)).any():
                found = None
        if found is None:
            found = self._solved(1.0, c, c)
        self.before = c
        return found

    def _renewed(self, share: float, by: np.ndarray | None) -> tuple[Any, np.ndarray | None]:
        """The factors of the implicit part, with the derivatives of the rates in them."""
        n = len(self.D)
        blocks: list[list[Any]] = [[None] * n for _ in range(n)]
        for i in range(n):
            for j in range(n):
                if by is not None and by[:, i, j].any():
                    blocks[i][j] = scipy.sparse.diags(-by[:, i, j])
            own = self.schemes[i].matrix + scipy.sparse.diags(share * self.inertia)
            blocks[i][i] = own if blocks[i][i] is None else own + blocks[i][i]
        self._factors[share] = factor(blocks[0][0] if n == 1 else scipy.sparse.bmat(blocks)), by
        return self._factors[share]

    def _solved(self, share: float, past: np.ndarray, guess: np.ndarray) -> np.ndarray:
        """c with share V c/dt + (outflow) = past V/dt + (inflow) + (production)."""
        made, by = self.rates(guess) if self.rates is not None else (None, None)
        factors, held = self._factors.get(share) or self._renewed(share, by)
        most = _ROUNDS if self.rates is None else _MOST_ROUNDS
        for n in range(1, most + 1):
            load = past * self.inertia + self.entering
            load = load - self.transport.corrections(guess, self.feds, self.schemes, self.sums)
            if made is not None and held is not None:
                load += made - np.einsum("kij,jk->ik", held, guess)
            found = factors.solve(load.ravel()).reshape(guess.shape)
            size = float(np.max(np.abs(found - guess))) / max(float(np.max(np.abs(found))), 1e-300)
            guess = found
            if self.rates is None and size < _FORESEEN:
                break
            if self.rates is not None:
                made, by = self.rates(guess)
                if n >= _ROUNDS and size < _NEAR:
                    break
                if n % _PATIENCE == 0:
                    factors, held = self._renewed(share, by)
        self.accumulated = np.asarray((share * guess - past) @ self.inertia)
        return guess
