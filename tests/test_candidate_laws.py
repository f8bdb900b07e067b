"""Families of candidate laws, what they imply for a size, and the screening of orders with other errors."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import molino as mo
from conftest import Typed

A = np.repeat([0.2, 0.5, 1.0, 2.0, 3.0], 4)
B = np.tile([0.2, 0.6, 1.2, 2.5], 5)


def rates_of(law, noise=0.02, seed=1):
    """Rates in mol/L/min at 20 compositions, with relative noise."""
    scatter = 1 + noise * np.random.default_rng(seed).standard_normal(20)
    contents = {"A": A * 1000, "B": B * 1000}
    return mo.Rates(law(A, B) * scatter * 1000 / 60, contents, show={"concentration": "mol/L", "time": "min"})


@pytest.mark.parametrize(
    ("law", "name"),
    [
        (lambda a, b: 0.05 * a * b / (1 + 0.9 * a), "k [A] [B]/(1 + K_A [A])"),
        (lambda a, b: 0.05 * a * b / (1 + 0.9 * a + 1.5 * b) ** 2, "k [A] [B]/(1 + K_A [A] + K_B [B])^2"),
        (lambda a, b: 0.05 * a / (1 + 0.9 * b), "k [A]/(1 + K_B [B])"),
        (lambda a, b: 0.05 * a * b / (1 + (0.9 * a) ** 0.5) ** 2, "k [A] [B]/(1 + (K_A [A])^0.5)^2"),
        (lambda a, b: 0.05 * a**1.5 * b**0.5, "k [A]^1.5 [B]^0.5"),
    ],
)
def test_the_law_that_made_the_rates_is_chosen_of_its_family(law, name) -> None:
    data = rates_of(law)
    options = {"dissociating": "A", "adsorbing": "B"} if "^0.5)" in name else {"adsorbing": ["A", "B"]}
    laws = mo.candidate_laws(
        "A + B -> C", data, orders={"A": (0, 2), "B": (0, 1)}, limiting=["surface", "adsorption"], **options
    )
    found = mo.discriminate(laws, data, errors="relative")
    assert found.chosen == name
    assert len(found.fits) + len(found.failed) == len(laws)
    best = found.fits[name]
    assert best["r.k"].shown()[0] == pytest.approx(0.05, rel=0.1)
    assert "mol/L" in (best["r.k"].unit or "") or "L/mol" in (best["r.k"].unit or "") or best["r.k"].unit == "1/min"
    assert len(found.figure().axes) == 3


def test_reversible_laws_are_at_rest_at_equilibrium() -> None:
    data = rates_of(lambda a, b: 0.05 * a * b)
    laws = mo.candidate_laws("A + B -> C", data, orders={"A": (0.5, 1), "B": (1, 1)}, equilibrium="2 L/mol")
    assert list(laws) == ["k [A]^0.5 [B]", "k [A]^0.5 [B], reversible", "k [A] [B]", "k [A] [B], reversible"]
    for name in list(laws)[1::2]:
        chemistry = laws[name].with_values({"r.k": 1e-3})
        batch = mo.Batch(chemistry, {"A": "1 mol/L", "B": "1 mol/L", "C": "4 mol/L"}, time="1 h", volume="1 L")
        c = {s: v[-1] for s, v in batch.run().concentrations.items()}
        assert c["C"] / (c["A"] * c["B"]) == pytest.approx(2e-3, rel=0.05)


def test_species_with_signs_in_their_names_have_constants() -> None:
    run = mo.Experiment("1", [60.0, 240.0, 480.0], {"SO4^2-": [820.0, 448.0, 204.0]}, {"SO4^2-": 1000.0})
    laws = mo.candidate_laws("SO4^2- -> B", run, adsorbing="SO4^2-")
    assert list(laws) == ["k [SO4^2-]/(1 + K_SO4_2 [SO4^2-])"]


def test_wrong_descriptions_are_named() -> None:
    data = rates_of(lambda a, b: a * b)
    with pytest.raises(mo.InputError) as found:
        mo.candidate_laws("A + B -> C", data, orders={"X": (0, 1), "A": (2, 1)}, step=-1, limiting="melting")
    text = str(found.value)
    for part in ("'X' is not in", "orders from 2 to 1", "a step of -1", "unknown step 'melting'"):
        assert part in text
    with pytest.raises(mo.InputError, match="zero in all data"):
        mo.candidate_laws("A + B -> C", mo.Rates(data.rate, {**data.concentrations, "C": 0 * A}), adsorbing="C")
    with pytest.raises(mo.InputError, match="no law is described"):
        mo.candidate_laws("A + B -> C", data)
    with pytest.raises(mo.InputError, match="at most 200"):
        mo.candidate_laws("A + B -> C", data, orders={"A": (0, 3), "B": (0, 3)}, step=0.1)


def test_the_average_size_includes_the_difference_between_the_laws() -> None:
    random = np.random.default_rng(3)
    times = np.linspace(60, 500, 9)
    values = 1000 * np.exp(-0.2 / 60 * times) + 60 * random.standard_normal(9)
    run = mo.Experiment("1", times, {"A": values}, {"A": 1000.0})
    laws = mo.candidate_laws("A -> B", run, orders={"A": (0.5, 2)})
    found = mo.discriminate(laws, run)
    tube = mo.PlugFlow(next(iter(laws.values())), mo.Feed({"A": "1 mol/L"}, flow="1 L/min"))
    average = mo.average_size(found, tube, "conversion of A", 0.95, free="volume")
    sizes = {name: one.value for name, one in average.sizings.items()}
    assert len(sizes) >= 3
    mean = sum(average.weights[name] * v for name, v in sizes.items())
    assert average.value == pytest.approx(mean)
    errors = [average.weights[n] * np.hypot(one.standard_error, one.value - mean) for n, one in average.sizings.items()]
    assert average.standard_error == pytest.approx(sum(errors))
    assert average.standard_error > average.sizings[next(iter(sizes))].standard_error
    assert average.interval[0] < np.log(20) / (0.2 / 60) * 1e-3 / 60 < average.interval[1]
    assert list(average.table()["law"])[-1] == "average"


def test_a_family_in_a_job(molino: Typed, tmp_path: Path) -> None:
    data = rates_of(lambda a, b: 0.05 * a * b / (1 + 0.9 * a))
    table = pd.DataFrame({"rate [mol/L/min]": data.rate * 60e-3, "A [mol/L]": A, "B [mol/L]": B})
    table.to_csv(tmp_path / "rates.csv", index=False)
    job = tmp_path / "job.toml"
    job.write_text(
        """
[reactions.r]
equation = "A + B -> C"
k = { guess = "0.1 L/mol/min" }
[data.rates]
file = "rates.csv"
kind = "rates"
[fit.law]
data = "rates"
errors = "relative"
[fit.law.family]
orders = { A = [0, 1], B = [0, 1] }
adsorbing = ["A", "B"]
"""
    )
    done = molino("fit", job)
    assert done.exit_code == 0, done.output
    assert "verdict: k [A] [B]/(1 + K_A [A])" in " ".join(done.stdout.split())
    assert (tmp_path / "results" / "job" / "fit-law-candidates.png").exists()


def _series(random, rho=0.0, given=False):
    times, runs = np.linspace(2, 44, 20), []
    for c0 in (1000.0, 700.0):
        e = random.standard_normal(20)
        for i in range(1, 20):
            e[i] = rho * e[i - 1] + np.sqrt(1 - rho**2) * e[i]
        s = np.linspace(40, 2, 20) if given else np.full(20, 15.0)
        values = np.maximum(c0 * np.exp(-0.05 * times) + s * e, 0.1)
        runs.append(
            mo.Experiment(f"{c0:g}", times * 60, {"A": values}, {"A": c0}, deviations={"A": 3 * s} if given else {})
        )
    return runs


def test_a_screening_with_correlated_errors_does_not_reject_the_true_order() -> None:
    random = np.random.default_rng(8)
    wrong = {False: 0, True: 0}
    named = 0
    for _ in range(12):
        runs = _series(random, rho=0.9)
        for option in wrong:
            found = mo.screen_orders(runs, "A", autocorrelated=option)
            wrong[option] += found.law("first order").probability < 0.01
            named += not option and "autocorrelated" in str(found)
    assert wrong[False] >= 3
    assert wrong[True] <= 1
    assert named >= 10


def test_a_screening_uses_standard_deviations_in_the_data() -> None:
    runs = _series(np.random.default_rng(9), given=True)
    given, same = mo.screen_orders(runs, "A"), mo.screen_orders(runs, "A", errors="same")
    assert (given.errors, same.errors) == ("given", "same")
    width = [np.diff(s.order_interval)[0] for s in (given, same)]
    assert width[0] < 0.7 * width[1]
    assert "errors as given" in str(given)


def test_each_response_has_its_own_option_for_errors() -> None:
    random = np.random.default_rng(10)
    times = np.linspace(30, 900, 15)
    c = 1000 * np.exp(-0.2 / 60 * times)
    measured = {"A": c * (1 + 0.05 * random.standard_normal(15)), "B": 1000 - c + 8 * random.standard_normal(15)}
    run = mo.Experiment("1", times, measured, {"A": 1000.0})
    law = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    fit = mo.fit(law, run, errors={"A": "relative", "B": "8 mol/m3"})
    s, names = fit.points.standard_deviation, np.array(fit.points.response)
    assert np.ptp(s[names == "A"] / measured["A"]) < 1e-9
    assert np.ptp(s[names == "B"]) < 1e-9
    factor, probability = fit.error_factor
    assert factor == pytest.approx(s[names == "B"][0] / 8)
    assert probability > 0.01
    with pytest.raises(mo.InputError, match="option of all responses"):
        mo.fit(law, run, errors={"A": "same", "B": "each"})
