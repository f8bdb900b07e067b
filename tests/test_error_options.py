"""Errors with two parts, and robust fits."""

import numpy as np
import pytest
import scipy

import molino as mo

K = 0.2 / 60
TIMES = np.linspace(30, 1500, 25)
CHARGES = (1000.0, 600.0)
LAW = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))


def runs(error):
    """Two runs; `error` of the exact concentrations."""
    exact = [c * np.exp(-K * TIMES) for c in CHARGES]
    return [
        mo.Experiment(f"{charge:g}", TIMES, {"A": c + error(c)}, {"A": charge})
        for charge, c in zip(CHARGES, exact, strict=True)
    ]


def with_outliers(random, count=3):
    def error(c):
        e = 5 * random.standard_normal(len(c))
        e[random.choice(len(c), count, replace=False)] += 150
        return e

    return runs(error)


def test_a_robust_fit_minimizes_the_huber_loss_and_names_the_outliers():
    data = with_outliers(np.random.default_rng(3))
    fit = mo.fit(LAW, data, robust=True)
    y = np.concatenate([run.measured["A"] for run in data])

    def residuals(p):
        return np.concatenate([c * np.exp(-p[0] * TIMES) for c in CHARGES]) - y

    kept = fit.points.weight < 1
    edge = np.min(np.abs(fit.points.residuals[kept] * fit.points.weight[kept]))  # 1.345 s
    assert edge == pytest.approx(np.max(np.abs(fit.points.residuals[kept] * fit.points.weight[kept])))
    by_scipy = scipy.optimize.least_squares(
        residuals, [0.003], loss="huber", f_scale=edge, x_scale=[1e-3], xtol=1e-15, ftol=1e-15, gtol=1e-15
    )
    assert fit.values["r.k"] == pytest.approx(by_scipy.x[0], rel=1e-6)
    line = next(text for text in fit.warnings if text.startswith("robust"))
    worst = int(np.argmax(np.abs(fit.points.residuals)))
    assert f"run {fit.points.run[worst]}, {fit.points.time[worst]:.4g}" in line
    plain = mo.fit(LAW, data)["r.k"]
    assert fit["r.k"].standard_error < 0.3 * plain.standard_error


def test_a_robust_fit_to_sound_data_hardly_differs():
    random = np.random.default_rng(4)
    data = runs(lambda c: 5 * random.standard_normal(len(c)))
    one, other = mo.fit(LAW, data, robust=True)["r.k"], mo.fit(LAW, data)["r.k"]
    assert abs(one.value - other.value) < 0.5 * other.standard_error
    assert one.standard_error == pytest.approx(other.standard_error, rel=0.2)


def test_constant_and_relative_errors_are_found():
    random = np.random.default_rng(5)
    found = []
    for _ in range(30):
        fit = mo.fit(LAW, runs(lambda c: np.hypot(5, 0.04 * c) * random.standard_normal(len(c))),
                     errors="constant and relative")  # fmt: skip
        s, values = fit.points.standard_deviation, fit.points.calculated
        constant = np.polyfit(values**2, s**2, 1)
        found.append((constant[1], constant[0]))
        assert fit.checks[0].value < 1e-6
    constant, relative = np.sqrt(np.mean(found, axis=0))
    assert constant == pytest.approx(5, rel=0.15)
    assert relative == pytest.approx(0.04, rel=0.15)
    assert "% of the value" in str(fit)


def test_constant_and_relative_errors_are_chosen_by_the_likelihood():
    random = np.random.default_rng(6)
    data = runs(lambda c: np.hypot(3, 0.06 * c) * random.standard_normal(len(c)))
    wrong = mo.Chemistry(mo.Reaction("A -> B", name="r", rate="k*[A]^n", k=mo.Unknown("1e-3"), n=mo.Unknown(1.2)))
    laws = {"first": LAW, "free": wrong}
    found = {e: mo.discriminate(laws, data, errors=e).aicc["first"] for e in ("each", "constant and relative")}
    assert found["constant and relative"] < found["each"] - 10


@pytest.mark.parametrize(
    "options",
    [
        {"robust": True, "autocorrelated": True},
        {"errors": "constant and relative", "autocorrelated": True},
        {"errors": "constant and relative", "robust": True},
    ],
)
def test_options_that_exclude_each_other_are_named(options):
    data = with_outliers(np.random.default_rng(7))
    with pytest.raises(mo.InputError, match="not with"):
        mo.fit(LAW, data, **options)
    with pytest.raises(mo.InputError, match="no likelihood"):
        mo.discriminate({"a": LAW, "b": LAW}, data, robust=True)
