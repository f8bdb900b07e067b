"""Posterior distributions of constants."""

import numpy as np
import pytest
import scipy

import molino as mo
from molino.core.fitting.posterior import Posterior

pytest.importorskip("emcee")

LAW = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown(0.1)))
TIMES = np.array([1.0, 2.0, 3.0, 4.0, 5.5, 7.0, 9.0, 12.0])


def decay(noise=0.1, seed=3, times=TIMES, k=0.2):
    values = 3.0 * np.exp(-k * times) + noise * np.random.default_rng(seed).standard_normal(len(times))
    return mo.Experiment("1", times, {"A": values}, {"A": 3.0})


def percentiles(log_density, low, high):
    """2.5, 50 and 97.5 % of a density over one constant, by quadrature."""
    k = np.geomspace(low, high, 20001)
    log = np.array([log_density(x) for x in k])
    cumulated = scipy.integrate.cumulative_trapezoid(np.exp(log - log.max()), k, initial=0)
    return np.interp([0.025, 0.5, 0.975], cumulated / cumulated[-1], k)


def squares_of(run):
    return lambda k: float(np.sum((run.measured["A"] - 3.0 * np.exp(-k * run.times)) ** 2))


@pytest.fixture(scope="module")
def wide() -> tuple[mo.Experiment, Posterior]:
    run = decay(noise=0.3)
    return run, mo.fit(LAW, run).posterior(4000, seed=1)


def test_it_agrees_with_quadrature_where_the_density_is_far_from_normal(wide) -> None:
    """p(k) is proportional to S(k)^(-n/2)/k, with the error integrated out."""
    run, found = wide
    squares = squares_of(run)
    best = found.fit.values["r.k"]
    low, middle, high = percentiles(lambda k: -4 * np.log(squares(k)) - np.log(k), best / 1000, best * 1000)
    assert (high - middle) > 1.1 * (middle - low)
    assert found.intervals["r.k"] == pytest.approx((low, high), rel=0.04)
    assert np.median(found.draws) == pytest.approx(middle, rel=0.02)
    assert all(check.is_passed for check in found.checks)
    assert "flat in its logarithm" in str(found)


def test_a_normal_prior_multiplies_the_likelihood() -> None:
    law = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.35 +- 0.03")))
    run = decay(noise=0.3)
    found, squares = mo.fit(law, run).posterior(4000, seed=2), squares_of(run)
    low, _, high = percentiles(lambda k: -4 * np.log(squares(k)) - ((k - 0.35) / 0.03) ** 2 / 2, 1e-3, 1.5)
    assert found.intervals["r.k"] == pytest.approx((low, high), rel=0.04)


def test_precise_data_give_the_interval_of_the_linear_model_and_the_same_size() -> None:
    law = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    times = np.linspace(30, 900, 15)
    values = 1000 * np.exp(-0.2 / 60 * times) + 5 * np.random.default_rng(1).standard_normal(15)
    fit = mo.fit(law, mo.Experiment("1", times, {"A": values}, {"A": 1000.0}))
    found = fit.posterior(3000)
    assert found.intervals["r.k"] == pytest.approx(fit["r.k"].interval, rel=5e-3)
    assert found.standard_errors["r.k"] == pytest.approx(fit["r.k"].standard_error, rel=0.15)
    tubes = [
        mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"))
        for chemistry in (fit.chemistry, found.chemistry)
    ]
    sizes = [mo.size(tube, "conversion of A", 0.9, free="volume", confidence=0.95).value for tube in tubes]
    assert sizes[0] == pytest.approx(sizes[1], rel=5e-3)
    band, linear = found.bands("1", points=5)["A"], fit.curve_of("1", 5)
    assert band.median == pytest.approx(linear.values["A"], rel=3e-3)
    half = 0.5 * (band.measurement[1] - band.measurement[0])
    assert half == pytest.approx(linear.prediction["A"], rel=0.25)
    assert fit.posterior(3000).draws.tolist() == found.draws.tolist()  # the seed decides


def test_constants_that_are_not_determined_have_no_posterior() -> None:
    law = mo.Chemistry(mo.Reaction("A -> B", name="r", rate="k*m*[A]", k=mo.Unknown(0.1), m=mo.Unknown(1.0)))
    with pytest.raises(mo.InputError, match="not determined"):
        mo.fit(law, decay()).posterior()
    with pytest.raises(mo.InputError, match="robust"):
        mo.fit(LAW, decay(), robust=True).posterior()


def test_figures_and_plain_data(wide) -> None:
    run, found = wide
    fit = mo.fit(LAW, run)
    assert len(found.figure().axes) == 2
    figure = mo.figures.intervals(fit, fit.profile_likelihood(), fit.bootstrap(30), found)
    labels = [text.get_text() for text in figure.legends[0].get_texts()]
    assert labels == ["linear model", "profile likelihood", "bootstrap", "posterior"]
    assert mo.figures.fit(fit, posterior=found).axes
    assert found.to_dict()["r_hat"]["r.k"] < 1.01
