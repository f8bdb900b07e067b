"""Errors of neighboring samples that are correlated: first-order autoregressive in continuous time.

The correlation of two errors of one response in a run is exp(-(time between)/tau), with one tau for each response
(R. H. Jones, Longitudinal Data with Serial Correlation, 1993, chapter 3).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
import scipy.sparse.linalg

from molino.core.frozen import Frozen

_SHORTEST, _LONGEST = 0.05, 20.0
"""Range of tau: of the shortest time between samples, and of the longest run."""
_GRID = 24
_STEP = 1e-3
"""Step of the correlation in numerical derivatives."""
_LEAST = 0.02
"""The correlation of samples at the median distance, below which its uncertainty is that of this one."""


@dataclass(frozen=True, eq=False)
class Links(Frozen):
    """The observation before each one in its chain, -1 at the first, and the correlation with it; shape (points,)."""

    before: np.ndarray
    rho: np.ndarray

    @classmethod
    def none(cls, count: int) -> Links:
        """Independent errors."""
        return cls(np.full(count, -1), np.zeros(count))

    @property
    def linked(self) -> np.ndarray:
        """Indices of observations with a correlation."""
        return np.flatnonzero(self.rho > 0)

    def whiten(self, rows: np.ndarray) -> np.ndarray:
        """Independent rows of unit variance from correlated ones: (x_i - rho x_before) / sqrt(1 - rho^2)."""
        own = self.linked
        if not len(own):
            return rows
        found, rho = rows.copy(), self.rho[own].reshape(-1, *[1] * (rows.ndim - 1))
        found[own] = (rows[own] - rho * rows[self.before[own]]) / np.sqrt(1 - rho**2)
        return found

    def color(self, draws: np.ndarray) -> np.ndarray:
        """Correlated errors from independent ones: the inverse of `whiten`."""
        found = draws.copy()
        for i in self.linked.tolist():  # the one before has a smaller index
            found[i] = self.rho[i] * found[self.before[i]] + np.sqrt(1 - self.rho[i] ** 2) * draws[i]
        return found

    @property
    def log_determinant(self) -> float:
        """Of the correlation matrix."""
        return float(np.sum(np.log1p(-(self.rho[self.linked] ** 2))))

    def matrix(self) -> scipy.sparse.csr_array:
        """The matrix of `whiten`."""
        own, count = self.linked, len(self.rho)
        root = np.ones(count)
        root[own] = 1 / np.sqrt(1 - self.rho[own] ** 2)
        lower = scipy.sparse.coo_array((-self.rho[own] * root[own], (own, self.before[own])), shape=(count, count))
        return scipy.sparse.csr_array(scipy.sparse.diags_array(root) + lower)


@dataclass(frozen=True, eq=False)
class Chains(Frozen):
    """The chains of observations, each of one response in one run, in order of time.

    Attributes
    ----------
    before : array of int, shape (points,)
        The observation before, -1 at the first of a chain.
    gap : array, shape (points,)
        Time since the one before, in s.
    group : array of int, shape (points,)
        The response, which has its own tau.
    """

    before: np.ndarray
    gap: np.ndarray
    group: np.ndarray

    @classmethod
    def of(cls, run: Sequence[str], response: Sequence[str], times: np.ndarray, is_value: np.ndarray) -> Chains:
        """The chains of observations; a replicate, and a limit, is in none."""
        before, gap = np.full(len(times), -1), np.full(len(times), np.nan)
        names = list(dict.fromkeys(response))
        last: dict[tuple[str, str], int] = {}
        for i, key in enumerate(zip(run, response, strict=True)):
            if not is_value[i]:
                continue
            earlier = last.get(key)
            if earlier is not None and times[i] <= times[earlier]:
                continue
            if earlier is not None:
                before[i], gap[i] = earlier, times[i] - times[earlier]
            last[key] = i
        return cls(before, gap, np.array([names.index(r) for r in response]))

    def with_separate(self, count: int) -> Chains:
        """The same with more observations at the end, in no chain."""
        return Chains(
            np.append(self.before, np.full(count, -1)),
            np.append(self.gap, np.full(count, np.nan)),
            np.append(self.group, np.full(count, -1)),
        )

    def first(self, count: int) -> Chains:
        """The first of its observations."""
        return Chains(self.before[:count], self.gap[:count], self.group[:count])

    @property
    def responses(self) -> int:
        """The number of responses."""
        return int(self.group.max(initial=-1)) + 1

    def links(self, tau: np.ndarray) -> Links:
        """The correlations for correlation times tau in s, shape (responses,); 0 for independent errors."""
        own, rho = self.before >= 0, np.zeros(len(self.before))
        times = tau[self.group[own]]
        with np.errstate(divide="ignore"):
            rho[own] = np.where(times > 0, np.exp(-self.gap[own] / np.where(times > 0, times, 1.0)), 0.0)
        return Links(self.before, rho)

    def estimate(self, scaled: np.ndarray, rows: np.ndarray, tau: np.ndarray) -> np.ndarray:
        """The correlation times by restricted maximum likelihood, shape (responses,).

        Parameters
        ----------
        scaled : array, shape (points,)
            Residuals over their standard deviation.
        rows : array, shape (points, parameters)
            Derivatives over the standard deviation.
        tau : array, shape (responses,)
            The present ones, which are kept for all responses but the one that is estimated.
        """
        found = tau.copy()
        for n in range(self.responses):
            own = self.group == n
            gaps = self.gap[own & (self.before >= 0)]
            if not len(gaps):
                continue
            low, high = np.log(_SHORTEST * gaps.min()), np.log(_LONGEST * gaps.sum())

            def criterion(log_tau: float, n: int = n, own: np.ndarray = own) -> float:
                trial = found.copy()
                trial[n] = np.exp(log_tau)
                links = self.links(trial)
                white, left = links.whiten(rows), links.whiten(scaled)[own]
                size = np.maximum(np.linalg.norm(white, axis=0), 1e-300)
                _, log = np.linalg.slogdet((white / size).T @ (white / size) + 1e-14 * np.eye(rows.shape[1]))
                lost = rows.shape[1] * float(own.sum()) / len(own)
                degrees = max(float(own.sum()) - lost, 1.0)
                within = np.log(max(float(left @ left), 1e-300))
                only = Links(self.before, np.where(own, links.rho, 0.0))
                curvature = float(log) + 2 * float(np.sum(np.log(size)))
                return float(degrees * within + only.log_determinant + curvature)

            grid = np.linspace(low, high, _GRID)
            values = [criterion(x) for x in grid]
            best = int(np.argmin(values))
            if best == 0:
                found[n] = 0.0
                continue
            ends = grid[best - 1], grid[min(best + 1, _GRID - 1)]
            within = scipy.optimize.minimize_scalar(criterion, bounds=ends, method="bounded", options={"xatol": 1e-9})
            found[n] = float(np.exp(within.x))
        return found


def with_unknown_errors(
    rows: np.ndarray, group: np.ndarray, chains: Chains, tau: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Covariance of constants, and the contributions to its variance, with estimated errors and correlation times.

    C + 2 C (sum_ij W_ij (Q_ij - P_i C P_j - R_ij/4)) C, with W the covariance of the parameters of the errors by their
    restricted likelihood (M. G. Kenward, J. H. Roger, Biometrics 53 (1997) 983).

    Parameters
    ----------
    rows : array, shape (points, constants)
        Derivatives over the standard deviation, not whitened.
    group : array of int, shape (points,)
        The group of the standard deviation of each observation.
    chains, tau
        The chains, and their correlation times.

    Returns
    -------
    covariance : array, shape (constants, constants)
    gradients : array, shape (parameters of the errors, constants, constants)
        Scaled so that the sum of their squares is the variance of each element of the covariance.
    """
    white = chains.links(tau).whiten(rows)
    plain = np.linalg.pinv(white.T @ white, rcond=1e-14, hermitian=True)
    first, second, third, fisher = _derivatives(rows, group, chains, tau)
    count = len(first)
    restricted = fisher.copy()
    for i in range(count):
        for j in range(count):
            lost = 2 * np.trace(plain @ second[i][j]) - np.trace(plain @ first[i] @ plain @ first[j])
            restricted[i, j] -= 0.5 * float(lost)
    values, vectors = np.linalg.eigh(0.5 * (restricted + restricted.T))
    values = np.maximum(values, 0.1 * np.linalg.eigvalsh(fisher).min())
    W = vectors / values @ vectors.T
    inner = sum(
        W[i, j] * (second[i][j] - first[i] @ plain @ first[j] - 0.25 * third[i][j])
        for i in range(count)
        for j in range(count)
    )
    root = vectors / np.sqrt(values)
    gradients = np.array([plain @ p @ plain for p in first])
    spread = np.einsum("ik,iab->kab", root, gradients)
    widened = plain + 2 * plain @ inner @ plain
    return 0.5 * (widened + widened.T), spread


def _derivatives(
    rows: np.ndarray, group: np.ndarray, chains: Chains, tau: np.ndarray
) -> tuple[list[np.ndarray], list[list[np.ndarray]], list[list[np.ndarray]], np.ndarray]:
    """P, Q and R of the variances, relative to themselves, and of the correlations at the median distance of samples,
    and their Fisher information."""
    groups, count = int(group.max()) + 1, int(group.max()) + 1 + chains.responses
    zero = np.zeros((rows.shape[1],) * 2)
    first = [zero for _ in range(count)]
    second = [[zero for _ in range(count)] for _ in range(count)]
    third = [[zero for _ in range(count)] for _ in range(count)]
    fisher = np.eye(count)
    linked = chains.before >= 0
    distances = [float(np.median(chains.gap[linked & (chains.group == n)], axis=None)) for n in range(chains.responses)]
    floor = np.array([-d / np.log(_LEAST) for d in distances])
    tau = np.maximum(tau, floor)
    here = chains.links(tau)
    white = here.whiten(rows)
    for g in range(groups):
        own = group == g
        first[g] = second[g][g] = white[own].T @ white[own]
        fisher[g, g] = 0.5 * int(own.sum())
    for n, distance in enumerate(distances):
        k, own = groups + n, linked & (chains.group == n)
        phi, rho = float(np.exp(-distance / tau[n])), here.rho[own]
        first[k], second[k][k], third[k][k] = _by_correlation(rows, chains, tau, n, distance, here)
        slope = chains.gap[own] / distance * rho / phi
        fisher[k, k] = float(np.sum((1 + rho**2) / (1 - rho**2) ** 2 * slope**2))
        g = int(group[own][0])  # a response has one standard deviation
        second[g][k] = second[k][g] = first[k]
        fisher[g, k] = fisher[k, g] = -float(np.sum(rho / (1 - rho**2) * slope))
    return first, second, third, fisher


def _by_correlation(
    rows: np.ndarray, chains: Chains, tau: np.ndarray, n: int, distance: float, here: Links
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """P, Q and R of one correlation: J'V^-1 V' V^-1 J, J'V^-1 V' V^-1 V' V^-1 J and J'V^-1 V'' V^-1 J."""
    phi = float(np.exp(-distance / tau[n]))
    step = _STEP * min(1.0, 10 * (1 - phi))
    precisions = []
    for moved in (phi - step, phi, phi + step):
        times = tau.copy()
        times[n] = -distance / np.log(moved)
        whitening = chains.links(times).matrix()
        precisions.append(whitening.T @ whitening)
    slope = (precisions[2] - precisions[0]) @ rows / (2 * step)
    bend = (precisions[2] - 2 * precisions[1] + precisions[0]) @ rows / step**2
    half = scipy.sparse.linalg.spsolve_triangular(here.matrix().T.tocsr(), slope, lower=False)
    Q = half.T @ half
    return -(rows.T @ slope), Q, 2 * Q - rows.T @ bend
