"""Values below a limit of detection, or above one: their likelihood in fits, orders, bootstrap, figures and tables."""

from __future__ import annotations

import numpy as np
import pytest
import scipy

import molino as mo

TIMES = np.array([2, 5, 10, 15, 20, 30, 40, 50, 60, 80.0])
LAW = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.08 1/min")))


def runs(seed: int, lod: float = 100.0, noise: float = 30.0) -> mo.Experiments:
    """First-order decay at 0.05 1/min from two charges, with values under the limit known as limits, in SI."""
    random, found = np.random.default_rng(seed), []
    for charge in (1000.0, 700.0):
        c = charge * np.exp(-0.05 * TIMES) + noise * random.standard_normal(len(TIMES))
        low = c < lod
        below = {"A": np.where(low, lod, np.nan)}
        found.append(
            mo.Experiment(f"{charge:g}", TIMES * 60, {"A": np.where(low, np.nan, c)}, {"A": charge}, below=below)
        )
    return mo.Experiments(tuple(found), show={"time": "min", "concentration": "mol/L"})


def test_the_fit_is_that_of_an_independent_likelihood() -> None:
    data = runs(1)
    fit = mo.fit(LAW, data)
    s = float(fit.points.standard_deviation[0])

    def loss(k: float) -> float:
        total = 0.0
        for run in data:
            f = run.charge["A"] * np.exp(-k * TIMES)
            z = (run.measured["A"] - f) / s
            total += 0.5 * float(np.nansum(z**2)) - float(np.nansum(scipy.stats.norm.logcdf((run.below["A"] - f) / s)))
        return total

    best = scipy.optimize.minimize_scalar(loss, bounds=(0.03, 0.08), method="bounded", options={"xatol": 1e-10})
    assert fit["r.k"].value * 60 == pytest.approx(best.x, rel=1e-6)
    h = 1e-4 * best.x  # the curvature of the likelihood is the information
    curvature = (loss(best.x + h) - 2 * loss(best.x) + loss(best.x - h)) / h**2
    assert fit["r.k"].standard_error * 60 == pytest.approx(curvature**-0.5, rel=0.02)
    assert all(check.value <= check.limit for check in fit.checks)
    assert (~fit.points.is_value).sum() == sum(int(np.isfinite(run.below["A"]).sum()) for run in data)


def test_far_limits_change_nothing_and_a_missed_one_is_an_outlier() -> None:
    data = runs(2)
    plain = [mo.Experiment(r.name, r.times, r.measured, r.charge) for r in data]
    far = [mo.Experiment(r.name, r.times, r.measured, r.charge, below={"A": 50 * r.below["A"]}) for r in data]
    assert mo.fit(LAW, far)["r.k"].value == pytest.approx(mo.fit(LAW, plain)["r.k"].value, rel=1e-9)
    missed = data[0].measured["A"].copy()
    missed[3] = np.nan
    limits = np.where(np.arange(len(TIMES)) == 3, 100.0, np.nan)
    odd = mo.Experiment("1", TIMES * 60, {"A": missed}, {"A": 1000.0}, below={"A": limits})
    (outlier,) = mo.fit(LAW, [odd, data[1]]).outliers
    assert (outlier.sign, outlier.measured) == ("< ", pytest.approx(100.0))


def test_intervals_hold_and_the_constant_is_not_biased() -> None:
    """60 sets here; docs/fitting.md has the coverage of 400."""
    fits = [mo.fit(LAW, runs(seed))["r.k"].shown() for seed in range(60)]
    held = sum(low < 0.05 < high for _, _, low, high in fits)
    assert 53 <= held <= 60  # 57 expected; 99.9 % of binomial counts
    assert np.mean([k for k, *_ in fits]) == pytest.approx(0.05, rel=0.012)


def test_orders_bootstrap_profile_and_figures_know_limits() -> None:
    data = runs(3, noise=10.0)
    screened = mo.screen_orders(data, "A")
    assert screened.chosen is not None
    assert screened.chosen.name == "first order"
    assert screened.laws[2].from_limits > 10 * screened.laws[1].from_limits  # a second order would be seen later
    fit = mo.fit(LAW, data)
    low, high = fit["r.k"].interval
    profile = fit.profile_likelihood()["r.k"].interval
    drawn = fit.bootstrap(60, seed=1, workers=1).intervals["r.k"]
    for ends in (profile, drawn):
        assert ends == pytest.approx((low, high), rel=0.03)
    markers = [line.get_marker() for line in fit.figure().axes[0].lines]
    assert "_" in markers
    table = fit.points_table()
    assert (table["limit"] == "<").sum() == (~fit.points.is_value).sum()
    assert table["residual [mol/L]"].isna().sum() == (~fit.points.is_value).sum()
    assert f"{(~fit.points.is_value).sum()} of them limits" in str(fit)
    assert "limits of A not used in slopes" in str(mo.Rates.from_curves(data, "A"))
    fewer = data.without("1000", "80 min", "A")
    assert np.isnan(fewer[0].below["A"][-1])
    assert len(mo.fit(LAW, fewer).points.measured) == len(fit.points.measured) - 1
    chosen = mo.discriminate({"first": LAW, "second": SECOND}, data)
    assert chosen.chosen == "first"


SECOND = mo.Chemistry(mo.Reaction("A -> B", name="r", rate="k*[A]^2", k=mo.Unknown("0.1 L/mol/min")))


@pytest.mark.parametrize(("extra", "what"), [
    ({"below": {"B": [1.0, 2.0]}}, "below, B: it was not measured"),
    ({"below": {"A": [1.0]}}, "1 values for 2 samples"),
    ({"above": {"A": [1.0, np.nan]}}, "a sample has a value and a limit"),
    ({"deviations": {"A": [0.0, 1.0]}}, "a standard deviation must be above zero"),
])  # fmt: skip
def test_wrong_limits(extra: dict[str, dict[str, list[float]]], what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        mo.Experiment("1", [1.0, 2.0], {"A": [1.0, 0.5]}, {"A": 2.0}, **extra)  # type: ignore[arg-type]
