"""Errors that are correlated over time within a run: found, and modelled so that intervals hold."""

from __future__ import annotations

import numpy as np
import pytest
import scipy

import molino as mo
from molino.core.fitting.correlated_errors import Chains

LAW = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.08 1/min")))
TIMES = np.linspace(2, 44, 20)


def runs(seed: int, rho: float, noise: float = 15.0) -> mo.Experiments:
    """First-order decay at 0.05 1/min; the errors of neighboring samples have the correlation rho. In SI."""
    random, found = np.random.default_rng(seed), []
    for charge in (1000.0, 700.0):
        e = random.standard_normal(len(TIMES))
        for i in range(1, len(e)):
            e[i] = rho * e[i - 1] + np.sqrt(1 - rho**2) * e[i]
        values = charge * np.exp(-0.05 * TIMES) + noise * e
        found.append(mo.Experiment(f"{charge:g}", TIMES * 60, {"A": values}, {"A": charge}))
    return mo.Experiments(tuple(found), show={"time": "min", "concentration": "mol/L"})


def test_correlation_is_found_and_independent_errors_are_not_called_correlated() -> None:
    found = [[mo.fit(LAW, runs(seed, rho)).diagnosis.serial[0] for seed in range(60)] for rho in (0.0, 0.9)]
    assert 0 <= sum(one.probability < 0.05 for one in found[0]) <= 9  # 3 expected; 99.9 % of binomial counts
    assert sum(one.probability < 1e-3 for one in found[1]) >= 57
    fit = mo.fit(LAW, runs(0, 0.9))
    assert "A: each residual is correlated with the next" in " ".join(fit.warnings)
    assert "autocorrelated" in " ".join(fit.warnings)


def test_the_fit_is_that_of_an_independent_restricted_likelihood() -> None:
    data = runs(1, 0.9)
    fit = mo.fit(LAW, data, autocorrelated=True)
    gaps = np.abs(TIMES[:, None] - TIMES[None, :]) * 60
    charges = np.array([run.charge["A"] for run in data])
    measured = np.concatenate([run.measured["A"] for run in data])

    def loss(p: np.ndarray) -> float:
        k, s, tau = np.exp(p)
        curve = np.exp(-k * TIMES * 60)
        f = np.concatenate([c * curve for c in charges])
        slopes = np.concatenate([-c * k * TIMES * 60 * curve for c in charges])[:, None]
        V = s**2 * np.kron(np.eye(2), np.exp(-gaps / tau))
        e = measured - f
        inner = slopes.T @ np.linalg.solve(V, slopes)
        return float(
            0.5 * np.linalg.slogdet(V)[1] + 0.5 * e @ np.linalg.solve(V, e) + 0.5 * np.linalg.slogdet(inner)[1]
        )

    start = np.log([fit["r.k"].value * 1.02, 12.0, 600.0])
    best = scipy.optimize.minimize(loss, start, method="Nelder-Mead", options={"xatol": 1e-7, "fatol": 1e-10})
    k, s, tau = np.exp(best.x)
    assert fit.optimum.tau is not None
    assert fit.optimum.tau[0] == pytest.approx(tau, rel=0.02)
    assert fit.points.standard_deviation[0] == pytest.approx(s, rel=0.02)
    # the likelihood above also has the slope of the curves at each k, which the fit has at its optimum
    assert fit["r.k"].value == pytest.approx(k, rel=2e-3)
    assert "errors correlated over" in str(fit)


def test_intervals_of_correlated_errors_hold() -> None:
    """50 sets here; docs/fitting.md has the coverage of 400, and of fits that take these errors as independent."""
    fits = [mo.fit(LAW, runs(seed, 0.9), autocorrelated=True)["r.k"].shown() for seed in range(50)]
    assert sum(low < 0.05 < high for _, _, low, high in fits) >= 43  # 47.5 expected; 99.5 % of binomial counts


def test_whitening_is_the_inverse_root_of_the_correlation() -> None:
    times = np.array([1.0, 1.0, 4.0, 9.0, 2.0, 3.0, 7.0])
    chains = Chains.of(("a",) * 4 + ("b",) * 3, ("A",) * 7, times, np.array([1, 1, 1, 1, 1, 0, 1], dtype=bool))
    assert chains.before.tolist() == [-1, -1, 0, 2, -1, -1, 4]  # neither the replicate nor the limit is in a chain
    links = chains.links(np.array([5.0]))
    matrix = links.matrix().toarray()
    correlation = np.linalg.inv(matrix.T @ matrix)
    assert correlation[0, 3] == pytest.approx(np.exp(-8 / 5))
    assert np.diag(correlation) == pytest.approx(np.ones(7))
    assert links.log_determinant == pytest.approx(np.linalg.slogdet(correlation)[1])
    draws = np.random.default_rng(0).standard_normal((7, 2))
    assert links.whiten(links.color(draws)) == pytest.approx(draws)
    assert matrix @ draws == pytest.approx(links.whiten(draws))


def test_bootstrap_profile_and_choice_know_the_correlation() -> None:
    fit = mo.fit(LAW, runs(3, 0.8), autocorrelated=True)
    half = np.diff(fit["r.k"].interval)[0]
    plain = np.diff(mo.fit(LAW, runs(3, 0.8))["r.k"].interval)[0]
    profile = np.diff(fit.profile_likelihood()["r.k"].interval)[0]
    drawn = np.diff(fit.bootstrap(120, seed=2, workers=1).intervals["r.k"])[0]
    assert plain < 0.75 * half
    assert profile == pytest.approx(half, rel=0.1)
    assert drawn > 1.2 * plain
    second = mo.Chemistry(mo.Reaction("A -> B", name="r", rate="k*[A]^2", k=mo.Unknown("0.1 L/mol/min")))
    assert mo.discriminate({"first": LAW, "second": second}, runs(3, 0.8), autocorrelated=True).chosen == "first"


def test_errors_given_with_the_values_are_their_weights() -> None:
    random = np.random.default_rng(5)
    s = np.where(np.arange(20) < 10, 40.0, 4.0)
    values = 1000 * np.exp(-0.05 * TIMES) + s * random.standard_normal(20)
    run = mo.Experiment("1", TIMES * 60, {"A": values}, {"A": 1000.0}, deviations={"A": 3 * s})
    fit = mo.fit(LAW, run)
    assert fit.points.standard_deviation / s == pytest.approx(np.full(20, fit.error_factor[0] * 3))  # type: ignore[index]
    assert fit.error_factor[0] == pytest.approx(1 / 3, rel=0.35)  # type: ignore[index]
    assert "times the given errors" in " ".join(fit.warnings)
    assert mo.fit(LAW, run, errors="each")["r.k"].value != fit["r.k"].value
    some = mo.Experiment(
        "1", run.times, run.measured, run.charge, deviations={"A": np.where(np.arange(20) < 3, 1.0, np.nan)}
    )
    assert "3 of 20 observations have a standard deviation, which is not used" in " ".join(mo.fit(LAW, some).warnings)
    with pytest.raises(mo.InputError, match="17 of 20 values of A have no standard deviation"):
        mo.fit(LAW, some, errors="given")


def test_two_responses_have_their_own_correlation_times() -> None:
    """The fast errors of B are independent, those of A slow; starts that are fitted do not disturb this."""
    law = mo.Chemistry(
        [mo.Reaction("A -> B", name="a", k=mo.Unknown("0.08 1/min")), mo.Reaction("B -> C", name="b", k="0.02 1/min")]
    )
    random, t = np.random.default_rng(8), np.linspace(1, 50, 60)
    a = 1000 * np.exp(-0.05 * t)
    b = 1000 * 0.05 / (0.02 - 0.05) * (np.exp(-0.05 * t) - np.exp(-0.02 * t))
    e = random.standard_normal((2, len(t)))
    for i in range(1, len(t)):
        e[0, i] = 0.9 * e[0, i - 1] + np.sqrt(1 - 0.9**2) * e[0, i]
    run = mo.Experiment("1", t * 60, {"A": a + 10 * e[0], "B": b + 10 * e[1]}, {"A": 1000.0, "B": 0.0})
    fit = mo.fit(law, run, autocorrelated=True)
    assert fit.optimum.tau is not None
    slow, fast = np.exp(-float(t[1] - t[0]) * 60 / np.maximum(fit.optimum.tau, 1e-9))
    assert 0.6 < slow < 0.99
    assert fast < 0.3
    assert fit["a.k"].interval[0] < 0.05 / 60 < fit["a.k"].interval[1]
    again = mo.fit(law, run, autocorrelated=True, n_starts=3, seed=1)
    assert again["a.k"].value == pytest.approx(fit["a.k"].value, rel=1e-6)
    with pytest.raises(mo.InputError, match="rates have neither"):
        mo.fit(LAW, mo.Rates([1.0, 2.0, 3.0], {"A": [1.0, 2.0, 3.0]}), autocorrelated=True)
