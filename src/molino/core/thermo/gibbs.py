"""The state of least Gibbs energy of mixtures and pure phases, by its dual: the potentials of what is conserved.

With the amounts n of species in phases, their chemical potentials g over R T (of the pure species in the state of the
phase) and totals b of what is conserved (elements), a n = b, the least of sum n_i (g_i + ln x_i) has the dual

    highest b.y   with   ln sum_i exp(a_i.y - g_i) <= 0 for each mixture,   a_i.y <= g_i for each pure phase

in the potentials y of the elements: a convex problem of as many unknowns as there are elements, whose multipliers are
the amounts of the phases (W. B. White, S. M. Johnson, G. B. Dantzig, J. Chem. Phys. 28 (1958) 751, for the potentials;
S. Boyd, L. Vandenberghe, Convex Optimization, 2004, chapters 4 and 11, for geometric programs and interior points). So
traces need no starting point and no lower limit, and phases appear and vanish by themselves.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core.errors import SolveError

_LEAST = 1e-250
"""An amount that stands for none at all while the search goes on."""
_MOST = 400
_APART = 1e-6
"""Of the amount of a phase and its distance from existing one is so much less than the other where the search ends."""
_BY_WAY_OF = tuple(n / 16 for n in range(1, 17))
"""Shares of the potentials that lead to where the direct way fails."""
_TRACE = 1e-12
"""What a next search begins with at least."""
_STALLED = 4
"""Steps without progress, to rounding, after which it is done."""
_LEAST_GAP = 1e-22
"""Their product at which both are nothing: a phase at the boundary of existing."""


@dataclass(frozen=True)
class LeastGibbs:
    """Where the Gibbs energy is least.

    Attributes
    ----------
    amounts : array, shape (species,)
    potentials : array, shape (conserved,)
        Over R T; nan of what is not there.
    phases : array, shape (phases,)
        Amount of each phase; 0 where it does not exist.
    distances : array, shape (phases,)
        How far each phase is from existing: minus the logarithm of the sum of its activities; 0 where it exists.
    iterations : int
    """

    amounts: np.ndarray
    potentials: np.ndarray
    phases: np.ndarray
    distances: np.ndarray
    iterations: int


class GibbsProblem:
    """Species in phases, with what each holds of what is conserved.

    Parameters
    ----------
    holds : array, shape (species, conserved)
        Not negative, like the atoms of each element in a species.
    phases : sequence of sequence of int
        The species of each phase, by their places: several of a mixture, one of a pure phase.
    """

    def __init__(self, holds: np.ndarray, phases: Sequence[Sequence[int]]) -> None:
        self.holds, self.phases = np.asarray(holds, dtype=float), [np.array(p, dtype=int) for p in phases]
        self._known: dict[bytes, _Reduced] = {}

    def solve(self, g: np.ndarray, totals: np.ndarray) -> LeastGibbs:
        """The amounts of least Gibbs energy.

        Parameters
        ----------
        g : array, shape (species,)
            Chemical potential over R T of each species alone in the state of its phase.
        totals : array, shape (conserved,)
            Not negative; of what is 0 no species that holds it exists.

        Raises
        ------
        SolveError
            If it is not found.
        """
        there = totals > 0
        key = there.tobytes()
        if key not in self._known:
            self._known[key] = _Reduced(self, there)
        reduced = self._known[key]
        amounts, potentials = np.zeros(len(self.holds)), np.full(len(totals), np.nan)
        phases, distances = np.zeros(len(self.phases)), np.full(len(self.phases), np.inf)
        found = None
        if len(reduced.species):
            size = float(totals.sum())
            found = _found(reduced, g[reduced.species], totals[reduced.rows] / size)
            amounts[reduced.species] = size * found.amounts
            potentials[reduced.rows] = found.potentials
            phases[reduced.places], distances[reduced.places] = size * found.phases, found.distances
        if (np.abs(amounts @ self.holds - totals) > 1e-9 * totals).any():
            message = "no amounts of these species hold the totals of what is conserved"
            raise SolveError(message, "equilibrium", "add species that hold the rest")
        return LeastGibbs(amounts, potentials, phases, distances, found.iterations if found is not None else 0)


class _Reduced:
    """The species that can exist with some of what is conserved absent, and independent ones of the rest."""

    def __init__(self, whole: GibbsProblem, there: np.ndarray) -> None:
        can = np.asarray((whole.holds[:, ~there] == 0).all(axis=1), dtype=bool)
        self.species = np.flatnonzero(can)
        place = np.full(len(can), -1)
        place[self.species] = np.arange(len(self.species))
        kept = [(k, place[p[can[p]]]) for k, p in enumerate(whole.phases) if can[p].any()]
        self.places, self.phases = [k for k, _ in kept], [p for _, p in kept]
        rows: list[int] = []
        for j in np.flatnonzero(there):
            part = whole.holds[self.species][:, [*rows, int(j)]]
            if np.linalg.matrix_rank(part) == len(rows) + 1:
                rows.append(int(j))
        self.rows = np.array(rows, dtype=int)
        self.holds = whole.holds[np.ix_(self.species, self.rows)]

    @cached_property
    def owner(self) -> np.ndarray:
        """The phase of each species."""
        found = np.zeros(len(self.species), dtype=int)
        for k, members in enumerate(self.phases):
            found[members] = k
        return found


def _found(problem: _Reduced, g: np.ndarray, totals: np.ndarray) -> LeastGibbs:
    """From equal amounts; where that fails, by way of smaller differences of the potentials."""
    start: np.ndarray | None = None
    for share in (1.0, *_BY_WAY_OF):
        try:
            with np.errstate(all="ignore"):
                found = _Search(problem, share * g, totals).solve(start)
        except SolveError:
            if share == 1.0 and start is not None:
                raise
            continue
        if share == 1.0:
            return found
        start = np.maximum(found.amounts, _TRACE)
    raise _not_found()


def _not_found() -> SolveError:
    return SolveError("the least Gibbs energy was not found", "equilibrium", "check the numbers of the species")


class _Search:
    def __init__(self, problem: _Reduced, g: np.ndarray, totals: np.ndarray) -> None:
        self.p, self.g, self.b, self.a = problem, g, totals, problem.holds
        self.count = len(problem.phases)
        self.member = np.zeros((self.count, len(g)))
        self.member[problem.owner, np.arange(len(g))] = 1.0

    def solve(self, start: np.ndarray | None = None) -> LeastGibbs:
        """Newton's method in the logarithms of the amounts and the potentials.

        g_i + ln(n_i/N) = a_i.y + s in each phase, N its amount and s its distance from existing, with N s going to
        zero: a primal-dual method of interior points.
        """
        a, g, owner, b = self.a, self.g, self.p.owner, self.b
        m, K = len(b), self.count
        n = np.full(len(g), 1.0 / max(float(a.sum()), 1.0)) if start is None else start
        N, s, y = self.member @ n, np.ones(K), np.zeros(m)
        whole, share, last, stalled = np.zeros((m + K, m + K)), 0.0, np.inf, 0
        for step in range(_MOST):
            gap = float(N @ s) / K
            mu = gap * (0.01 if share == 1.0 else 0.1)
            fixed = 1.0 + (mu / N)[owner] - g - np.log(n / N[owner])
            weighted, free = a * n[:, None], 1.0 - s
            per_phase = self.member @ weighted
            held = self.member @ n
            whole[:m, :m], whole[:m, m:] = a.T @ weighted, per_phase.T * free
            whole[m:, :m] = per_phase
            whole[m:, m:] = np.diag(held * free - N)
            right = np.concatenate([b - weighted.T @ fixed, N - self.member @ (n * fixed)])
            change = _solved(whole, right)
            y, d = change[:m], change[m:]
            D = a @ y + (d * free)[owner] + fixed - 1.0
            ds = mu / N - s - s * d
            share = self._share(n / N[owner], D, d, s, ds)
            n, s = np.maximum(n * np.exp(np.minimum(share * D, 300.0)), _LEAST), s + share * ds
            N = self.member @ n
            if not (np.isfinite(N).all() and np.isfinite(s).all()):
                raise _not_found()
            missed, exists = float(np.max(np.abs(n @ a - b) / b)), s < N
            moved = float(np.max(np.abs(D[exists[owner]]), initial=0.0))
            is_decided = bool((np.minimum(N, s) < _APART * np.maximum(N, s)).all()) or gap < _LEAST_GAP
            is_there = is_decided and missed < 1e-9 and float(s[exists].max(initial=0.0)) < 1e-15
            stalled += is_there and share == 1.0 and moved > 0.3 * last
            if share == 1.0 and is_there and ((moved < 1e-13 and missed < 1e-13) or stalled > _STALLED):
                amounts = self._closed(np.where(exists[owner], n, 0.0))
                return LeastGibbs(amounts, y, np.where(exists, N, 0.0), np.where(exists, 0.0, s), step)
            last = moved
        raise _not_found()

    def _closed(self, n: np.ndarray) -> np.ndarray:
        """Amounts with what is conserved to rounding, by potentials that are moved by next to nothing."""
        for _ in range(2):
            weighted = self.a * n[:, None]
            n = n * (1 + self.a @ _solved(self.a.T @ weighted, self.b - n @ self.a))
        return n

    @staticmethod
    def _share(x: np.ndarray, D: np.ndarray, d: np.ndarray, s: np.ndarray, ds: np.ndarray) -> float:
        """How far to go: no phase and no species that matters by more than e^2 at once, no trace beyond 1e-4."""
        share = 1.0
        matters = (x > 1e-8) | (D < 0)
        most = max(float(np.abs(d).max()), float(np.max(np.where(matters & (x > 1e-8), np.abs(D), 0.0))))
        if most > 2.0:
            share = 2.0 / most
        rises = ~matters & (D > 0)
        if rises.any():
            share = min(share, float(np.min((-9.2 - np.log(x[rises])) / D[rises])))
        falls = ds < 0
        if falls.any():
            share = min(share, 0.9 * float(np.min(-s[falls] / ds[falls])))
        return max(share, 1e-6)


def _solved(matrix: np.ndarray, right: np.ndarray) -> np.ndarray:
    """A system whose rows and columns may be of very different sizes."""
    size = 1 / np.sqrt(np.maximum(np.abs(np.diag(matrix)), 1e-300))
    size = np.where(np.diag(matrix) == 0, 1.0, size)
    scaled = matrix * size[:, None] * size
    try:
        found = np.linalg.solve(scaled, right * size)
        if np.isfinite(found).all():
            return np.asarray(found * size)
    except np.linalg.LinAlgError:
        pass
    try:
        return np.asarray(np.linalg.lstsq(scaled, right * size, rcond=1e-14)[0] * size)
    except np.linalg.LinAlgError as error:
        raise _not_found() from error
