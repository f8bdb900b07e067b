"""The state of least Gibbs energy of mixtures and pure phases, by its dual: the potentials of the conserved amounts.

With the amounts n of species in phases, their chemical potentials g over R T (of the pure species in the state of the
phase) and totals b of the conserved amounts (elements), a n = b, the least of sum n_i (g_i + ln x_i) has the dual

    highest b.y   with   ln sum_i exp(a_i.y - g_i) <= 0 for each mixture,   a_i.y <= g_i for each pure phase

in the potentials y of the elements: a convex problem of as many unknowns as there are elements, whose multipliers are
the amounts of the phases (W. B. White, S. M. Johnson, G. B. Dantzig, J. Chem. Phys. 28 (1958) 751, for the potentials;
S. Boyd, L. Vandenberghe, Convex Optimization, 2004, chapters 4 and 11, for geometric programs and interior points). So
traces need no first guess and no lower limit, and phases appear and vanish automatically.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from molino.core.chemistry.symbolic_network import independent_rows
from molino.core.errors import SolveError

_LEAST = 1e-250
"""The amount of an absent species during the search."""
_MOST = 400
_APART = 1e-6
"""Ratio of the amount of a phase and its distance from existence, or its inverse, at which the search ends."""
_BY_WAY_OF = tuple(n / 16 for n in range(1, 17))
"""Fractions of the potentials for a continuation, if the direct search fails."""
_TRACE = 1e-12
"""The smallest amount at the beginning of a next search."""
_STALLED = 4
"""Number of steps without progress, to rounding, after which the search ends."""
_UNMIXED = 1e-3
"""Fraction of the contents below which a species is absent in the search from the state without mixing."""
_MOST_OF_SET = 60
_MOST_PIVOTS = 200
_SLIGHT = 1e-8
_ROUNDING = 1e-14
"""Fraction of its contributions below which a total is zero."""
_OUT = -1e3
"""Potential of a conserved amount that no existing species contains."""
_MATTERS, _RISES_TO, _LOG_LEAST = -18.4, -9.2, -575.0
"""Logarithms of fractions: of species that limit the step, of the largest rise of a trace per step, and of the smallest
amount."""
_LEAST_GAP = 1e-22
"""Their product at which both are zero: a phase at the boundary of existence."""


@dataclass(frozen=True)
class LeastGibbs:
    """The state of least Gibbs energy.

    Attributes
    ----------
    amounts : array, shape (species,)
    potentials : array, shape (conserved,)
        Over R T; nan for absent ones.
    phases : array, shape (phases,)
        Amount of each phase; 0 where it does not exist.
    distances : array, shape (phases,)
        Distance of each phase from existence: minus the logarithm of the sum of its activities; 0 if it exists.
    iterations : int
    """

    amounts: np.ndarray
    potentials: np.ndarray
    phases: np.ndarray
    distances: np.ndarray
    iterations: int


class GibbsProblem:
    """Species in phases, with the conserved amounts in each.

    Parameters
    ----------
    holds : array, shape (species, conserved)
        Not negative, like the atoms of each element in a species.
    phases : sequence of sequence of int
        The species of each phase, by their places: several for a mixture, one for a pure phase.
    """

    def __init__(self, holds: np.ndarray, phases: Sequence[Sequence[int]]) -> None:
        self.holds, self.phases = np.asarray(holds, dtype=float), [np.array(p, dtype=int) for p in phases]
        self._known: dict[bytes, _Reduced] = {}

    def solve(
        self, g: np.ndarray, totals: np.ndarray, volume: float | None = None, near: np.ndarray | None = None
    ) -> LeastGibbs:
        """The amounts of least Gibbs energy.

        Parameters
        ----------
        g : array, shape (species,)
            Chemical potential over R T of each pure species in the state of its phase.
        totals : array, shape (conserved,)
            Not negative; species that contain an absent one do not exist.
        volume : float, optional
            If the first phase uses amounts per volume, g_i + ln(n_i/V) = a_i.y, in place of fractions.
        near : array, shape (species,), optional
            Amounts of a similar problem, as first guess.

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
            size = 2.0 ** round(float(np.log2(totals.sum())))  # a power of two, so that dividing by it rounds nothing
            per = volume / size if volume is not None else None
            start = near[reduced.species] / size if near is not None else None
            found = _found(reduced, g[reduced.species], totals[reduced.rows] / size, per, start)
            amounts[reduced.species] = size * found.amounts
            potentials[reduced.rows] = found.potentials
            phases[reduced.places], distances[reduced.places] = size * found.phases, found.distances
        if (np.abs(amounts @ self.holds - totals) > 1e-9 * totals).any():
            message = "no amounts of these species give the totals of the conserved amounts"
            raise SolveError(message, "equilibrium", "add species that contain the rest")
        return LeastGibbs(amounts, potentials, phases, distances, found.iterations if found is not None else 0)


class _Reduced:
    """The species that can exist with some of the conserved amounts absent, and independent ones of the rest."""

    def __init__(self, whole: GibbsProblem, there: np.ndarray) -> None:
        can = np.asarray((whole.holds[:, ~there] == 0).all(axis=1), dtype=bool)
        self.species = np.flatnonzero(can)
        place = np.full(len(can), -1)
        place[self.species] = np.arange(len(self.species))
        kept = [(k, place[p[can[p]]]) for k, p in enumerate(whole.phases) if can[p].any()]
        self.places, self.phases = [k for k, _ in kept], [p for _, p in kept]
        totals = np.flatnonzero(there)
        self.rows = totals[independent_rows(whole.holds[self.species][:, totals].T)]
        self.holds = whole.holds[np.ix_(self.species, self.rows)]

        member = np.zeros((len(self.species), len(self.phases)))
        for k, members in enumerate(self.phases):
            member[members, k] = 1.0
        self.both = np.hstack([self.holds, member])
        places = len(self.rows) + np.arange(len(self.phases))
        self.corner = places, places
        self.basis: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None

    @cached_property
    def owner(self) -> np.ndarray:
        """The phase of each species."""
        found = np.zeros(len(self.species), dtype=int)
        for k, members in enumerate(self.phases):
            found[members] = k
        return found


def _found(
    problem: _Reduced, g: np.ndarray, totals: np.ndarray, volume: float | None, near: np.ndarray | None
) -> LeastGibbs:
    """Search from the state without mixing; from equal amounts; by continuation over the differences of the
    potentials."""
    with np.errstate(all="ignore"):
        search = _Search(problem, g, totals, volume)
        ways: list[Callable[[], LeastGibbs]] = [search.by_sets, lambda: search.solve(*search.even())]
        if near is not None:
            ways.insert(0, lambda: search.by_sets(near))
        for way in ways:
            try:
                return way()
            except SolveError:
                continue
        amounts: np.ndarray | None = None
        for share in _BY_WAY_OF:
            search = _Search(problem, share * g, totals, volume)
            n, s = search.even()
            try:
                found = search.solve(n if amounts is None else np.maximum(amounts, _TRACE), s)
            except SolveError:
                if share == 1.0:
                    raise
                continue
            amounts = found.amounts
    return found


def _not_found() -> SolveError:
    return SolveError("the least Gibbs energy was not found", "equilibrium", "check the numbers of the species")


class _Search:
    """Newton's method from the optimal state without mixing.

    In the logarithms of the amounts and the potentials: g_i + ln(n_i/N) = a_i.y + s in each phase, N its amount and s
    its distance from existing, with N s going to zero: a primal-dual method of interior points. A single mixture always
    exists, with s zero.
    """

    def __init__(self, problem: _Reduced, g: np.ndarray, totals: np.ndarray, volume: float | None) -> None:
        self.p, self.g, self.b, self.a = problem, g, totals, problem.holds
        self.volume = volume if 0 in problem.places else None

    def solve(self, n: np.ndarray, s: np.ndarray) -> LeastGibbs:
        """From amounts of the species and distances of the phases."""
        p, g, owner, b, V = self.p, self.g, self.p.owner, self.b, self.volume
        m, K, E = len(b), len(p.phases), p.both
        N, y = self._sizes(n), np.zeros(m)
        if V is not None:
            s[0] = 0.0
        share, last, stalled, right = 0.0, np.inf, 0, np.empty(m + K)
        for step in range(_MOST):
            gap = float(N @ s) / K
            bar = gap * (0.01 if share == 1.0 else 0.1) / N
            if V is not None:
                bar[0] = 0.0
            fixed = (1.0 + bar)[owner] - g - np.log(n / N[owner])
            weighted, free = E * n[:, None], 1.0 - s
            whole = E.T @ weighted
            q = fixed @ weighted
            right[:m], right[m:] = b - q[:m], N - q[m:]
            whole[:, m:] *= free
            whole[p.corner] -= N
            if V is not None:
                whole[m, :], whole[m, m], right[m] = 0.0, 1.0, 0.0
            size = np.abs(whole.diagonal())
            size = np.where(size > 0, 1.0 / np.sqrt(np.maximum(size, 1e-300)), 1.0)
            change = _solved(whole * size[:, None] * size, right * size) * size
            y, d = change[:m], change[m:]
            D = E[:, :m] @ y + (d * free)[owner] + fixed - 1.0
            ds = bar - s - s * d
            share = self._share(n / N[owner], D, d, s, ds)
            n, s = np.maximum(n * np.exp(np.minimum(share * D, 300.0)), _LEAST), s + share * ds
            N = self._sizes(n)
            if not (np.isfinite(N).all() and np.isfinite(s).all()):
                raise _not_found()
            exists = s < N
            missed = float(np.max(np.abs(n @ self.a - b) / b))
            moved = float(np.max(np.abs(D[exists[owner]]), initial=0.0))
            is_decided = bool((np.minimum(N, s) < _APART * np.maximum(N, s)).all()) or gap < _LEAST_GAP
            is_there = is_decided and missed < 1e-9 and float(s[exists].max(initial=0.0)) < 1e-15
            stalled += is_there and share == 1.0 and moved > 0.3 * last
            if share == 1.0 and is_there and ((moved < 1e-13 and missed < 1e-13) or stalled > _STALLED):
                amounts = _closed(self.a, b, np.where(exists[owner], n, 0.0))
                return LeastGibbs(amounts, y, np.where(exists, N, 0.0), np.where(exists, 0.0, s), step)
            last = moved
        raise _not_found()

    def even(self) -> tuple[np.ndarray, np.ndarray]:
        """Equal amounts of all species, each phase at a distance from existence."""
        return np.full(len(self.g), 1.0 / max(float(self.a.sum()), 1.0)), np.ones(len(self.p.phases))

    def _unmixed(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The optimal state without mixing, by the simplex method from one species of each element: the species
        present, their amounts, and the inverse of their contents.

        G. B. Dantzig, Linear Programming and Extensions, 1963, chapter 5.
        """
        a, g, b = self.a, self.g, self.b
        m, count, most = len(b), len(g), 1e4 + 10 * float(np.abs(self.g).max())
        basis, held, inverse, cost = np.arange(count, count + m), b.copy(), np.eye(m), np.full(m, most)
        if (last := self.p.basis) is not None and (b @ last[1]).min() >= 0.0:
            basis, inverse = last[0].copy(), last[1].copy()
            held, cost = b @ inverse, g[basis]
        allowed = -1e-9 * (1 + most * 1e-4)
        for _ in range(_MOST_PIVOTS):
            lowest = g - a @ (inverse @ cost)
            enters = int(lowest.argmin())
            if lowest[enters] > allowed:
                left = np.flatnonzero(basis >= count)
                if not len(left):
                    break
                leaves = int(left[0])  # an artificial variable of amount zero is replaced by any species
                enters = int(np.abs(a @ inverse[:, leaves]).argmax())
                along = a[enters] @ inverse
            else:
                along = a[enters] @ inverse
                rising = along > 1e-9
                ratio = np.full(m, np.inf)
                ratio[rising] = held[rising] / along[rising]
                leaves = int(ratio.argmin())
                if not rising[leaves]:
                    raise _not_found()
            step = held[leaves] / along[leaves]
            held = held - step * along
            held[leaves] = step
            basis[leaves], cost[leaves] = enters, g[enters]
            change = along.copy()
            change[leaves] -= 1.0
            inverse = inverse - np.outer(inverse[:, leaves], change / along[leaves])
        else:
            raise _not_found()
        if last is not None and (basis == last[0]).all():
            inverse, wide = last[1], last[2]
        else:
            try:
                inverse, wide = np.linalg.inv(a[basis]), a[basis].astype(np.longdouble)
            except np.linalg.LinAlgError as error:
                raise _not_found() from error
            self.p.basis = basis, inverse, wide
        held = b @ inverse
        held = held + np.asarray(b - np.longdouble(held) @ wide, dtype=float) @ inverse
        held[np.abs(held) < _ROUNDING * (np.abs(b) @ np.abs(inverse))] = 0.0
        if held.min() < 0:
            raise _not_found()
        return basis, held, inverse

    def by_sets(self, near: np.ndarray | None = None) -> LeastGibbs:
        """Search with the pure phases that exist without mixing; then add and remove phases.

        The conserved amounts are expressed in the species that exist without mixing, so that if one of these contains
        all but traces, the traces balance among themselves without loss by rounding (S. R. Brinkley, J. Chem. Phys. 15
        (1947) 107, for the choice of components).
        """
        p, g = self.p, self.g
        if len(p.phases) > 1 and max(len(members) for members in p.phases[1:]) > 1:
            raise _not_found()
        basis, amounts, inverse = self._unmixed()
        a = self.a @ inverse
        a[np.abs(a) < 1e-12] = 0.0
        can, kept = _that_can_exist(a, amounts)
        n, y = np.zeros(len(g)), g[basis].copy()
        n[basis] = amounts
        fluid = p.phases[0][can[p.phases[0]]]
        pure = np.array([members[0] for members in p.phases[1:] if can[members[0]]], dtype=int)
        if not len(fluid):
            raise _not_found()
        exists = n[pure] > 0
        N = max(float(n[fluid].sum()), _UNMIXED * float(n.sum()))
        start = np.maximum(n[fluid], _UNMIXED * N * np.exp(np.clip(a[fluid] @ y - g[fluid], -600.0, 0.0)))
        if near is not None:
            exists, start = near[pure] > 0, np.maximum(near[fluid], _LEAST)
        steps = 0
        for _ in range(2 * len(pure) + 8):
            start, held, y[kept], more = self._of_set(a[:, kept], amounts[kept], start, fluid, pure[exists])
            steps += more
            wanted = np.where(exists, 0.0, a[pure] @ y - g[pure])
            if held.min(initial=0.0) < 0:
                exists[np.flatnonzero(exists)[int(np.argmin(held))]] = False
            elif wanted.max(initial=0.0) > 1e-13 * (1 + float(np.abs(g).max())):
                exists[int(np.argmax(wanted))] = True
            else:
                n = np.zeros(len(g))
                n[fluid], n[pure[exists]] = start, held
                n = _closed(a[:, kept], amounts[kept], n)
                n = self._with_elements(n)
                y[~kept] = _OUT
                phases = np.array([n[members].sum() for members in p.phases])
                away = np.array([np.maximum(g[k] - a[k] @ y, 0.0) for k in (m[0] for m in p.phases)])
                return LeastGibbs(n, inverse @ y, phases, np.where(phases > 0, 0.0, away), steps)
        raise _not_found()

    def _with_elements(self, n: np.ndarray) -> np.ndarray:
        """The same with element balances to rounding, also for traces, if the correction is within rounding."""
        there = n > 0
        if float(np.max(np.abs(n @ self.a - self.b) / self.b)) < 1e-13:
            return n
        try:
            closed = _closed(self.a, self.b, n)
        except SolveError:
            return n
        if np.isfinite(closed).all() and float(np.max(np.abs(closed[there] / n[there] - 1), initial=0.0)) < _SLIGHT:
            return closed
        return n

    def _of_set(
        self, a: np.ndarray, b: np.ndarray, n: np.ndarray, fluid: np.ndarray, solids: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, int]:
        """The fluid and the amounts of the existing pure phases, without a check of their sign."""
        V, m, k = self.volume, len(b), len(solids)
        g, held = self.g[fluid], np.zeros(k)
        E, pure = np.ones((len(fluid), m + 1)), a[solids]
        E[:, :m] = a[fluid]
        whole, right, scale = np.zeros((m + 1 + k, m + 1 + k)), np.zeros(m + 1 + k), np.ones(m + 1 + k)
        right[m + 1 :] = self.g[solids]
        diagonal = whole.ravel()[:: m + 2 + k][: m + 1]
        N = V if V is not None else float(n.sum())
        logs, last = np.log(n), np.inf
        for step in range(_MOST_OF_SET):
            shares = logs - math.log(N)
            fixed = 1.0 - g - shares
            weighted = E * n[:, None]
            whole[: m + 1, : m + 1] = E.T @ weighted
            q = fixed @ weighted
            right[:m], right[m] = b - q[:m], N - q[m]
            scale[: m + 1] = 1.0 / np.sqrt(np.maximum(diagonal, 1e-300))
            whole[:m, m + 1 :], whole[m + 1 :, :m] = pure.T, pure
            whole[m, m] -= N
            if V is not None:
                whole[m, :], whole[m, m], right[m] = 0.0, 1.0, 0.0
            change = _solved(whole * scale[:, None] * scale, right * scale) * scale
            d, D = abs(float(change[m])), E @ change[: m + 1] + fixed - 1.0
            size = np.abs(D)
            limits = np.where(shares > _MATTERS, 2.0, np.where(D > 0, _RISES_TO - shares, np.inf)) / np.maximum(
                size, 1e-300
            )
            share = min(1.0, max(float(limits.min()), 1e-6), 2.0 / max(d, 1e-300))
            logs = np.maximum(logs + share * D, _LOG_LEAST)
            n = np.exp(logs)
            held = held + share * (change[m + 1 :] - held)
            N = V if V is not None else float(n.sum())
            if share < 1.0 or not (moved := max(float(size.max()), d)) < 1e-5:
                continue
            there = n @ np.abs(E[:, :m]) + held @ np.abs(pure) + np.abs(b)
            missed = float((np.abs(n @ E[:, :m] + held @ pure - b) / np.maximum(there, 1e-300)).max())
            if (moved < 1e-9 and missed < 1e-13) or (0.3 * last < moved < 1e-7):
                return n, held, change[:m], step + 1
            last = moved
        raise _not_found()

    def _sizes(self, n: np.ndarray) -> np.ndarray:
        """The amount of each phase; of one with amounts per volume that volume."""
        N = np.asarray(n @ self.p.both[:, len(self.b) :])
        if self.volume is not None:
            N[0] = self.volume
        return N

    @staticmethod
    def _share(x: np.ndarray, D: np.ndarray, d: np.ndarray, s: np.ndarray, ds: np.ndarray) -> float:
        """The step length: no phase and no significant species changes by more than e^2, no trace above 1e-4."""
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


def _that_can_exist(a: np.ndarray, b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The species that can exist, and the remaining balances, without those of absent conserved amounts."""
    can, kept = np.ones(len(a), dtype=bool), np.ones(len(b), dtype=bool)
    while True:
        empty = kept & (b == 0) & (a[can] >= 0).all(axis=0)
        if not empty.any():
            return can, kept
        can &= ~(a[:, empty] > 0).any(axis=1)
        kept &= ~empty


def _closed(a: np.ndarray, b: np.ndarray, n: np.ndarray) -> np.ndarray:
    """Amounts that satisfy the conservation to rounding, by small changes of the potentials."""
    for _ in range(2):
        weighted = a * n[:, None]
        matrix = a.T @ weighted
        size = 1.0 / np.sqrt(np.maximum(matrix.diagonal(), 1e-300))
        change = a @ (_solved(matrix * size[:, None] * size, (b - n @ a) * size) * size)
        n = n * (1 + change)
        if float(np.abs(change).max()) < 1e-12:
            break
    return n


def _solved(matrix: np.ndarray, right: np.ndarray) -> np.ndarray:
    """The solution of a system, by least squares if it is singular."""
    _, _, found, info = scipy.linalg.lapack.dgesv(matrix, right)
    if info == 0 and np.isfinite(found).all():
        return np.asarray(found)
    if not np.isfinite(matrix).all() or not np.isfinite(right).all():
        raise _not_found()
    try:
        return np.asarray(np.linalg.lstsq(matrix, right, rcond=1e-14)[0])
    except (np.linalg.LinAlgError, ValueError) as error:
        raise _not_found() from error
