"""Balances with conditions at both ends: the initial values that satisfy the conditions at the end."""

from __future__ import annotations

from functools import cached_property

import numpy as np
import scipy

from molino.core.balances.compiled import compiled
from molino.core.balances.engines import start
from molino.core.balances.integrate import integrate
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.errors import SolveError

_MOST_NODES = 4000
_MOST_STEPS = 5000
"""Largest number of steps of one integration: beyond it the integration approaches a point where it fails (a bed that
chokes)."""

_SHORTEST = 5e-4
"""Smallest fraction of the whole interval."""


class Boundary:
    """The conditions at the end of a case as a function of the unknown parameters p of its beginning.

    h(y(end; p), p) = 0, with the exact derivative (dh/dy) S + dh/dp, S = dy/dp along the integration.
    """

    def __init__(self, case: Case, end: float) -> None:
        self.case, self.end = case, end
        self.unknown = tuple(symbol for symbol, _ in case.balances.conditions)
        self.conditions = tuple(e for _, e in case.balances.conditions)

    @cached_property
    def _numbers(self) -> np.ndarray:
        return np.array([self.case.value(p) for p in self.unknown])

    def at(self, p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The conditions and their derivatives, shapes (unknowns,) and (unknowns, unknowns)."""
        case = self.case.with_values(dict(zip(self.unknown, p.tolist(), strict=True)))
        found = integrate(case, [0.0, self.end], by=self.unknown, rtol=1e-11, atol=1e-13, most=_MOST_STEPS)
        whole, y = compiled(case.balances), found.states[-1]
        assert found.sensitivities is not None
        values = np.array(whole.outputs(self.conditions)(case.values)(y[:, None], np.array([self.end])), dtype=float)
        partial = whole.gradient(self.conditions, (*case.balances.symbols, *self.unknown))(case.values)(y, self.end)
        n = len(y)
        return values.reshape(len(p)), partial[:, :n] @ found.sensitivities[-1] + partial[:, n:]

    def is_met(self, p: np.ndarray) -> bool:
        """Whether the conditions are met by an integration from these values, and not only within Newton's steps."""
        sizes = np.array([max(abs(v), 1e-300) for v in p])
        return bool((np.abs(self.at(p)[0]) <= 1e-6 * sizes).all())

    def newton(self, p: np.ndarray) -> np.ndarray | None:
        """Newton's method from a near point; None if it does not reach a root."""
        for _ in range(20):
            try:
                values, slopes = self.at(p)
                step = np.linalg.solve(slopes, -values)
            except (SolveError, np.linalg.LinAlgError):
                return None
            if not np.isfinite(step).all():
                return None
            p = p + step
            if np.max(np.abs(step) / np.maximum(np.abs(p), 1e-300)) < 1e-12:
                return p
        return p if np.max(np.abs(step) / np.maximum(np.abs(p), 1e-300)) < 1e-9 else None

    def collocate(self) -> np.ndarray | None:
        """The unknown beginning by collocation of fourth order (J. Kierzenka, L. F. Shampine, ACM Trans. Math. Softw.
        27 (2001) 299), from constant states; None if it does not converge."""
        balances, n = self.case.balances, len(self.case.balances.states)
        y0, scale = start(self.case)
        whole = compiled(balances)
        evaluate = whole.outputs(balances.rhs)(self.case.values)
        conditions = whole.outputs(self.conditions)(self.case.values)
        initial = {s.symbol: s.initial for s in balances.states}
        loose = [i for i, s in enumerate(balances.states) if initial[s.symbol] in self.unknown]
        fixed = [i for i in range(n) if i not in loose]
        if len(loose) != len(self.unknown):
            return None

        def rhs(x: np.ndarray, z: np.ndarray) -> np.ndarray:
            rows = evaluate(z * scale[:, None], x * self.end)
            return np.array([np.broadcast_to(np.asarray(r, dtype=float), x.shape) for r in rows]) * (
                self.end / scale[:, None]
            )

        def ends(left: np.ndarray, right: np.ndarray) -> np.ndarray:
            there = conditions((right * scale)[:, None], np.array([self.end]))
            size = scale[loose]
            return np.concatenate(
                [(left - y0 / scale)[fixed], np.array([np.ravel(v)[0] for v in there], dtype=float) / size]
            )

        x = np.linspace(0.0, 1.0, 41)
        try:
            with np.errstate(all="ignore"):
                found = scipy.integrate.solve_bvp(
                    rhs, ends, x, np.repeat((y0 / scale)[:, None], len(x), axis=1), tol=1e-5, max_nodes=_MOST_NODES
                )
        except (NotFinite, ValueError, np.linalg.LinAlgError):
            return None
        if found.status != 0 or not np.isfinite(found.y).all():
            return None
        return np.asarray((found.y[:, 0] * scale)[loose])


def solve_boundary(case: Case, end: float, near: np.ndarray | None = None) -> Case:
    """The case with initial values that satisfy the conditions at its end.

    By collocation from a flat guess, then to the last digits by Newton's method on integrations with exact
    sensitivities; if that fails, by continuation from a short interval to the whole.

    Parameters
    ----------
    near : array, shape (unknowns,), optional
        First guess for Newton's method.

    Raises
    ------
    SolveError
        If no initial values satisfy the conditions at the end.
    """
    boundary = Boundary(case, end)
    guesses = [near] if near is not None else []
    for guess in guesses:
        found = boundary.newton(guess)
        if found is not None:
            return case.with_values(dict(zip(boundary.unknown, found.tolist(), strict=True)))
    collocated = boundary.collocate()
    found = boundary.newton(collocated) if collocated is not None else None
    if found is None:
        found = _lengthened(case, end)
    if found is not None and not boundary.is_met(found):
        message = "the balances grow so fast that the initial values do not determine those at the end"
        raise SolveError(message, "boundary values", "use a shorter vessel")
    if found is None:
        message = "no values at the beginning meet the conditions at the end"
        raise SolveError(message, "boundary values", "check flows and areas; try the coolant co-current")
    return case.with_values(dict(zip(boundary.unknown, found.tolist(), strict=True)))


def _lengthened(case: Case, end: float) -> np.ndarray | None:
    """The unknown initial values from shorter intervals, each the guess for the next."""
    p = np.array([case.value(symbol) for symbol, _ in case.balances.conditions])
    reached, step = 0.0, 0.05
    while reached < 1.0:
        share = min(reached + step, 1.0)
        found = Boundary(case, share * end).newton(p)
        if found is None:
            step /= 4
            if step < _SHORTEST:
                return None
            continue
        p, reached, step = found, share, min(2 * step, 0.2)
    return p
