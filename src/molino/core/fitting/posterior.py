"""The posterior distribution of fitted constants, sampled by an ensemble of walkers."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import Check
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import InputError, SolveError
from molino.core.fitting.draws import Draws
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.least_squares_problem import Model, Problem, Scale
from molino.core.frozen import Frozen
from molino.core.units import Value

_MOST_STEPS, _BLOCK = 20_000, 100
"""Largest number of steps of each walker, and the steps between tests of convergence."""
_LONG = 50.0
"""The chains are long enough from this many autocorrelation times on."""
_BURN = 5.0
"""Autocorrelation times that are discarded at the beginning."""
_AGREE = 0.01
"""Largest deviation of split R-hat from 1."""
_FACTOR, _ERRORS = 1000.0, 100.0
"""The range of flat priors about the estimate: a factor of a positive constant, standard errors of others. Without a
range the density would not be bounded where a large constant has no more effect."""
_TAIL = 5.0
"""Degrees of freedom of Student's t of independent proposals."""
_CURVES = 400
"""Draws of which prediction bands are computed."""


@dataclass(frozen=True, eq=False)
class PredictionBand(Frozen):
    """A response of one run over times (or positions), each of shape (points,), in SI: the median, and the 95 %
    intervals of the mean and of one measurement."""

    times: np.ndarray
    median: np.ndarray
    mean: tuple[np.ndarray, np.ndarray]
    measurement: tuple[np.ndarray, np.ndarray]


@dataclass(frozen=True, eq=False)
class Posterior(Draws):
    """The posterior distribution of the constants of a fit.

    Made by `Fit.posterior`.

    Attributes
    ----------
    names : tuple of str
    draws : array, shape (draws, constants)
        In SI.
    units : tuple of str or None
        The units of the constants.
    fitted : Chemistry
        The chemistry of the fit.
    chains : array, shape (steps, walkers, constants)
        Every step, in SI, with the discarded beginning.
    discarded : int
        The number of discarded steps.
    autocorrelation, effective, r_hat : arrays, shape (constants,)
        Autocorrelation time in steps, effective number of draws, split R-hat.
    accepted : float
        The accepted fraction of steps.
    priors : tuple of str
        The prior of each constant, and of the errors, in words.
    fit : FitData

    Examples
    --------
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> posterior = mo.fit(open_chem, run).posterior(400)
    >>> low, high = posterior.intervals["r.k"]
    >>> bool(low < 0.2 / 60 < high)
    True
    """

    chains: np.ndarray
    discarded: int
    autocorrelation: np.ndarray
    effective: np.ndarray
    r_hat: np.ndarray
    accepted: float
    priors: tuple[str, ...]
    fit: FitData = field(repr=False)

    @property
    def checks(self) -> tuple[Check, ...]:
        """The agreement of the chains."""
        worst = float(np.max(np.abs(self.r_hat - 1)))
        method = "split R-hat: the variance between halves of chains over that within them, less 1"
        return (Check("chains agree", worst, _AGREE, method),)

    @property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """95 % intervals: the percentiles 2.5 and 97.5."""
        low, high = np.percentile(self.draws, [2.5, 97.5], axis=0)
        return {n: (float(a), float(b)) for n, a, b in zip(self.names, low, high, strict=True)}

    @property
    def chemistry(self) -> Chemistry:
        """The chemistry of the fit with the draws as the distribution of its constants: sizes and optima at a
        confidence, and the sources of a spread, draw the constants from the posterior."""
        return self.chemistry_over(1.0)

    def bands(self, run: str, points: int = 61, seed: int = 0) -> dict[str, PredictionBand]:
        """The measured responses of a run with their prediction bands, by response."""
        found = next((r for r in self.fit.parameter_map.runs if r.name == run), None)
        if found is None:
            raise InputError(f"unknown run '{run}'", "bands", ", ".join(r.name for r in self.fit.parameter_map.runs))
        first = 0.02 * float(found.times[-1]) if found.along == "space_time" else 0.0
        return self.band(found, np.linspace(first, float(found.times[-1]), points), seed)

    def band(self, run: Experiment, times: np.ndarray, seed: int = 0) -> dict[str, PredictionBand]:
        """The responses of a measured or planned run at times (or sizes) in SI, with their prediction bands."""
        random = np.random.default_rng(seed)
        chosen = random.choice(len(self.draws), min(_CURVES, len(self.draws)), replace=False)
        rows = []
        for i in chosen:
            responses, values, _, s = self.fit.expected(run, times, self.draws[i])
            rows.append(values)
        curves = np.array(rows)
        degrees = self.fit.degrees_of_freedom
        width = np.sqrt(degrees / random.chisquare(degrees, len(curves)))  # s is estimated
        noisy = curves + s * width[:, None, None] * random.standard_normal(curves.shape)
        median, low, high = np.percentile(curves, [50, 2.5, 97.5], axis=0)
        below, above = np.percentile(noisy, [2.5, 97.5], axis=0)
        return {
            r: PredictionBand(times, median[:, n], (low[:, n], high[:, n]), (below[:, n], above[:, n]))
            for n, r in enumerate(responses)
        }

    def to_dict(self) -> PlainData:
        """Plain data: the constants with intervals, and the convergence."""
        return {
            "draws": len(self.draws),
            "constants": self.table().to_dict("records"),
            "effective_draws": dict(zip(self.names, self.effective.tolist(), strict=True)),
            "r_hat": dict(zip(self.names, self.r_hat.tolist(), strict=True)),
            "autocorrelation_steps": dict(zip(self.names, self.autocorrelation.tolist(), strict=True)),
            "accepted": self.accepted,
            "priors": list(self.priors),
            "checks": [check.to_dict() for check in self.checks],
        }

    def __str__(self) -> str:
        steps, walkers, _ = self.chains.shape
        lines = [f"posterior: {len(self.draws)} draws of {walkers} walkers, {steps} steps each", *self.lines()]
        lines.append(
            f"  at least {np.min(self.effective):.0f} effective draws, R-hat at most {np.max(self.r_hat):.4f}, "
            f"autocorrelation up to {np.max(self.autocorrelation):.0f} steps, {self.accepted:.0%} accepted"
        )
        return "\n".join([*lines, *(f"  prior: {text}" for text in self.priors)])


class _Density:
    """The logarithm of the posterior density of the variables of the search."""

    def __init__(self, fit: FitData, model: Model) -> None:
        self.problem: Problem = fit.problem
        self.model, self.scale = model, Scale(fit.problem.free, fit.problem.mean_temperature)
        self.errors, self.tau = fit.optimum.standard_deviation, fit.optimum.tau
        problem, best = fit.problem, fit.optimum.parameters
        errors = np.array([e.standard_error for e in fit.estimates])
        is_log = self.scale.logarithmic
        low, high = (np.array([getattr(p, e) for p in problem.free]) for e in ("lower", "upper"))
        self.low = np.maximum(low, np.where(is_log, best / _FACTOR, best - _ERRORS * errors))
        self.high = np.minimum(high, np.where(is_log, best * _FACTOR, best + _ERRORS * errors))
        self.has_known_errors = bool(problem.side.any()) or problem.chains is not None or problem.is_mixed
        self.groups = [problem.group == n for n in np.unique(problem.group[~problem.is_prior])]
        self.is_log_normal = self.scale.logarithmic & np.isfinite([p.deviation for p in problem.free])

    def __call__(self, variables: np.ndarray) -> float:
        with np.errstate(all="ignore"):
            parameters = self.scale.outward(variables)
            if not ((parameters >= self.low) & (parameters <= self.high) & np.isfinite(parameters)).all():
                return -math.inf
            try:
                values, _ = self.model(parameters)
            except SolveError:
                return -math.inf
            found = float(np.sum(np.log(parameters[self.is_log_normal])))
            if self.has_known_errors:
                return found - 0.5 * self.problem.sum_of_squares(values, self.errors, self.tau)
            squares = ((self.problem.measured - values) / self.problem.size) ** 2
            found -= 0.5 * float(np.sum(squares[self.problem.is_prior]))
            for own in self.groups:
                found -= 0.5 * int(own.sum()) * math.log(max(float(np.sum(squares[own])), 1e-300))
        return found if math.isfinite(found) else -math.inf

    def priors(self) -> tuple[str, ...]:
        """The priors, in words."""
        found = []
        for i, (p, is_log) in enumerate(zip(self.problem.free, self.scale.logarithmic, strict=True)):
            if np.isfinite(p.deviation):
                found.append(f"{p.name}: normal, {Value(p.value, p.unit, p.deviation)}")
                continue
            text = "flat in its logarithm" if is_log else "flat"
            ends = (Value(float(end[i]), p.unit).text(3) for end in (self.low, self.high))
            found.append(f"{p.name}: {text}, from {' to '.join(ends)}")
        errors = "as estimated by the fit" if self.has_known_errors else "flat in their logarithms, integrated out"
        return (*found, f"standard deviations of the errors: {errors}")


@dataclass(frozen=True, eq=False)
class _Proposal(Frozen):
    """Draws from a multivariate Student's t around the optimum, independent of the present place, so that a nearly
    normal posterior is sampled in few steps (L. Tierney, Ann. Stat. 22 (1994) 1701)."""

    center: np.ndarray
    root: np.ndarray

    def __call__(self, places: np.ndarray, random: np.random.RandomState) -> tuple[np.ndarray, np.ndarray]:
        """New places, shape (walkers, variables), and log q(present) - log q(new)."""
        normal = random.standard_normal(places.shape)
        tail = np.sqrt(_TAIL / random.chisquare(_TAIL, len(places)))
        found = self.center + (normal * tail[:, None]) @ self.root.T
        return found, self._log_density(places) - self._log_density(found)

    def _log_density(self, places: np.ndarray) -> np.ndarray:
        away = np.linalg.solve(self.root, (places - self.center).T)
        count = places.shape[1]
        return np.asarray(-0.5 * (_TAIL + count) * np.log1p(np.sum(away**2, axis=0) / _TAIL))


def sample_posterior(
    fit: FitData, draws: int = 2000, seed: int = 0, progress: Callable[[int, int], None] | None = None
) -> Posterior:
    """Sample the posterior distribution of the constants of a fit.

    An ensemble of walkers by the package emcee: independent draws around the optimum, and differential evolution (C. J.
    F. ter Braak, J. A. Vrugt, Stat. Comput. 18 (2008) 435). Priors are flat in the logarithm of a positive constant,
    up to a factor of 1000 from the estimate, flat in others, up to 100 standard errors, within bounds; and normal where
    an `Unknown` has a standard deviation.
    The standard deviations of the errors are integrated out with a prior 1/s. Sampling ends when the chains have 50
    autocorrelation times, `draws` effective draws, and a split R-hat below 1.01 (A. Vehtari et al., Bayesian Anal. 16
    (2021) 667).

    Parameters
    ----------
    draws : int
        Effective number of draws.
    seed : int
    progress : callable, optional
        Called with the effective draws so far and those requested.

    Raises
    ------
    InputError
        If the package emcee is missing, or a constant is not determined, whose posterior is improper.
    SolveError
        If the chains do not converge.
    """
    try:
        import emcee
    except ImportError as error:
        raise InputError("the package emcee is missing", "posterior", "pip install 'molino[bayes]'") from error
    open_ended = [e.name for e in fit.estimates if not np.isfinite(e.standard_error)]
    if open_ended or fit.points.weight is not None:
        message = f"{', '.join(open_ended)} is not determined" if open_ended else "a robust fit has no likelihood"
        raise InputError(message, "posterior", "give priors, mo.Unknown('0.2 +- 0.1 1/min'), or leave robust out")
    model = fit.problem.model.rough().plain()
    density = _Density(fit, model)
    inverse = np.linalg.inv(density.scale.slope(fit.optimum.parameters))
    covariance = inverse @ fit.covariance @ inverse.T
    count = len(fit.estimates)
    walkers = max(4 * count, 16)
    random = np.random.default_rng(seed)
    covariance += 1e-14 * np.diag(np.diag(covariance))
    start = _starts(density, fit.optimum.parameters, covariance, walkers, random)
    proposal = _Proposal(density.scale.inward(fit.optimum.parameters), np.linalg.cholesky(covariance))
    moves = [(emcee.moves.MHMove(proposal), 0.6), (emcee.moves.DEMove(), 0.3), (emcee.moves.DESnookerMove(), 0.1)]
    sampler = emcee.EnsembleSampler(walkers, count, density, moves=moves)
    state: Any = emcee.State(start, random_state=np.random.RandomState(seed).get_state())
    while sampler.iteration < _MOST_STEPS:
        state = sampler.run_mcmc(state, _BLOCK)
        chains = sampler.get_chain()
        tau = np.maximum(emcee.autocorr.integrated_time(chains, tol=0, quiet=True), 1.0)
        discarded = int(min(_BURN * np.max(tau), 0.5 * len(chains)))
        kept = chains[discarded:]
        effective, r_hat = len(kept) * walkers / tau, _split_r_hat(kept)
        if progress is not None:
            progress(int(min(np.min(effective), draws)), draws)
        is_long = len(kept) > _LONG * np.max(tau)
        if is_long and np.min(effective) >= draws and np.max(np.abs(r_hat - 1)) <= _AGREE:
            return _posterior(fit, density, chains, discarded, tau, effective, r_hat, sampler.acceptance_fraction)
    message = f"the chains did not converge in {_MOST_STEPS} steps (R-hat {np.max(r_hat):.3f}, autocorrelation "
    raise SolveError(f"{message}{np.max(tau):.0f} steps)", "posterior", "give priors or bounds, or fit fewer constants")


def _starts(
    density: _Density, best: np.ndarray, covariance: np.ndarray, walkers: int, random: np.random.Generator
) -> np.ndarray:
    """The first places of the walkers: draws around the optimum where the density is not zero."""
    center, found = density.scale.inward(best), []
    root = np.linalg.cholesky(covariance)
    for n in range(100 * walkers):
        width = 0.7 if n < 50 * walkers else 0.1
        one = center + width * root @ random.standard_normal(len(center))
        if math.isfinite(density(one)):
            found.append(one)
        if len(found) == walkers:
            return np.array(found)
    raise SolveError("the density is zero around the optimum", "posterior", "widen the bounds")


def _split_r_hat(chains: np.ndarray) -> np.ndarray:
    """Split R-hat of each variable from chains, shape (steps, walkers, variables)."""
    half = len(chains) // 2
    halves = np.concatenate([chains[:half], chains[half : 2 * half]], axis=1)
    within = np.mean(np.var(halves, axis=0, ddof=1), axis=0)
    between = np.var(np.mean(halves, axis=0), axis=0, ddof=1)
    return np.asarray(np.sqrt((half - 1) / half + between / within))


def _posterior(
    fit: FitData,
    density: _Density,
    chains: np.ndarray,
    discarded: int,
    tau: np.ndarray,
    effective: np.ndarray,
    r_hat: np.ndarray,
    accepted: np.ndarray,
) -> Posterior:
    outward = np.apply_along_axis(density.scale.outward, 2, chains)
    thin = max(int(np.max(tau) / 2), 1)
    draws = outward[discarded::thin].reshape(-1, chains.shape[2])
    return Posterior(
        tuple(fit.values),
        draws,
        tuple(e.unit for e in fit.estimates),
        fit.chemistry,
        outward,
        discarded,
        tau,
        effective,
        r_hat,
        float(np.mean(accepted)),
        density.priors(),
        fit,
    )
