"""Errors of series of concentrations that are correlated over time."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from molino.core.fitting.correlated_errors import Chains, with_unknown_errors
from molino.core.fitting.orders.integrated_laws import Law, Model, Series
from molino.core.fitting.serial_correlation import SerialCorrelation, serial_correlation

_ROUNDING = 1e-8
"""Residuals below this fraction of the largest value are rounding."""
_STEP = 1e-5
"""Step of numerical derivatives, in logarithms of constants and in the order."""


def serial_of(series: tuple[Series, ...], free: Law, model: Model, species: str) -> SerialCorrelation | None:
    """The serial correlation of the residuals around a free order."""
    s = free.standard_deviation
    if _is_exact(series, free):
        return None
    rows = _rows(series, free, model)
    run = np.concatenate([np.full(len(one.values), n) for n, one in enumerate(series)])
    times = np.concatenate([one.times for one in series])
    return serial_correlation(species, np.concatenate(free.residuals) / s, run, times, rows / s)


@dataclass(frozen=True)
class Correlation:
    """The correlation time tau of errors in s, 0 if they are not correlated; and, since it is estimated, the factor of
    the variance of the order, and its degrees of freedom (M. G. Kenward, J. H. Roger, Biometrics 53 (1997) 983)."""

    tau: float
    factor: float
    degrees_of_freedom: float


def with_correlation(
    series: tuple[Series, ...], free: Law, model: Model, species: str
) -> tuple[tuple[Series, ...], Correlation]:
    """The series with correlated errors, and their correlation, by restricted maximum likelihood around a free
    order."""
    s, degrees = free.standard_deviation, float(free.degrees_of_freedom)
    if _is_exact(series, free):
        return series, Correlation(0.0, 1.0, degrees)
    rows = _rows(tuple(replace(one, links=None) for one in series), free, model)
    names = [one.run for one in series for _ in one.values]
    times = np.concatenate([one.times for one in series])
    chains = Chains.of(names, [species] * len(names), times, np.ones(len(names), dtype=bool))
    off = np.concatenate([(one.values - model(p, one.times, one)) / one.sizes for one, p in _pairs(series, free)])
    tau = chains.estimate(off / s, rows / s, np.zeros(1))
    found = []
    for one in series:
        own = Chains.of([one.run] * len(one.times), [species] * len(one.times), one.times, np.isfinite(one.times))
        found.append(replace(one, links=own.links(tau)))
    if not tau[0] > 0:
        return tuple(found), Correlation(0.0, 1.0, degrees)
    white = chains.links(tau).whiten(rows / s)
    plain = float(np.linalg.inv(white.T @ white)[-1, -1])
    widened, spread = with_unknown_errors(rows / s, np.zeros(len(off), dtype=int), chains, tau)
    effective = 2 * plain**2 / max(float(np.sum(spread[:, -1, -1] ** 2)), 1e-300)
    factor = max(float(widened[-1, -1]) / plain, 1.0)
    return tuple(found), Correlation(float(tau[0]), factor, min(max(effective, 1.0), degrees))


def _is_exact(series: tuple[Series, ...], free: Law) -> bool:
    """Whether the residuals are rounding."""
    return free.standard_deviation <= _ROUNDING * max(float(np.max(one.values / one.sizes)) for one in series)


def _pairs(series: tuple[Series, ...], free: Law) -> list[tuple[Series, np.ndarray]]:
    return list(zip(series, free.logarithms, strict=True))


def _rows(series: tuple[Series, ...], free: Law, model: Model) -> np.ndarray:
    """Derivatives of all calculated values, over their sizes, by the constants of each run and the common order;
    whitened like the residuals."""
    count = 2 * len(series) + 1
    found = []
    for n, (one, p) in enumerate(_pairs(series, free)):
        rows = np.zeros((len(one.values), count))
        for i in range(2):
            step = _STEP * np.eye(2)[i]
            rows[:, 2 * n + i] = (model(p + step, one.times, one) - model(p - step, one.times, one)) / (2 * _STEP)
        above, below = (_moved(model, sign * _STEP)(p, one.times, one) for sign in (1, -1))
        rows[:, -1] = (above - below) / (2 * _STEP)
        found.append(one.whiten(rows / one.sizes[:, None]))
    return np.concatenate(found)


def _moved(model: Model, step: float) -> Model:
    """The model of another order."""
    assert isinstance(model, partial)
    return partial(model.func, model.args[0] + step)
