"""A run that is mislabeled is named, with the condition that would explain it."""

from __future__ import annotations

import numpy as np
import pytest

import molino as mo

GAS_CONSTANT = 8.31446261815324
TIMES = np.linspace(3, 30, 8)
LAW = mo.Chemistry(
    mo.Reaction("A -> B", name="r", k=mo.Arrhenius(k=mo.Unknown("0.1 1/min"), at="60 degC", Ea=mo.Unknown("60 kJ/mol")))
)


def campaign(seed: int, T: float = 0.0, charge: float = 1.0) -> tuple[mo.Experiments, str]:
    """Eight runs at three temperatures, with 2 % noise; one ran T warmer (or colder, at the warmest) than noted, and
    with another charge by a factor. Its name, too."""
    random, runs = np.random.default_rng(seed), []
    odd = int(random.integers(8))
    for n, celsius in enumerate((50, 50, 60, 60, 60, 70, 70, 70)):
        noted = (1.0, 1.5)[n % 2]
        warmer = (T if celsius < 70 else -T) if n == odd else 0.0
        k = 0.05 * np.exp(-75e3 / GAS_CONSTANT * (1 / (celsius + warmer + 273.15) - 1 / 333.15))
        c = noted * (charge if n == odd else 1.0) * np.exp(-k * TIMES) + 0.02 * random.standard_normal(8)
        runs.append(mo.Experiment(f"K{n + 1}", TIMES * 60, {"A": 1e3 * c}, {"A": 1e3 * noted}, celsius + 273.15))
    show = {"time": "min", "concentration": "mol/L", "temperature": "degC"}
    return mo.Experiments(tuple(runs), show=show), f"K{odd + 1}"


def test_a_mislabeled_temperature_is_named_in_simulated_campaigns() -> None:
    """20 here; all of 100 in docs/fitting.md."""
    named = explained = 0
    for seed in range(20):
        data, odd = campaign(seed, T=10.0)
        found = mo.fit(LAW, data).run_influence()
        named += found.odd is not None and found.odd.run == odd
        explained += bool(found.explanations) and found.explanations[0].startswith("T = ")
    assert named == 20
    assert explained >= 19


def test_the_fit_names_the_run_in_place_of_its_outliers() -> None:
    data, odd = campaign(0, T=10.0)
    fit = mo.fit(LAW, data)
    (warning,) = fit.warnings
    assert f"run {odd} disagrees with the others as a whole" in warning
    assert "T = 60" in warning
    assert "instead of 70 °C would explain it" in warning
    found = fit.run_influence()
    without = mo.fit(LAW, data.only(*(run.name for run in data if run.name != odd)))
    assert found.odd is not None
    assert found.odd.values == pytest.approx([without.values[e.name] for e in fit.estimates], rel=1e-5)
    table = found.table().set_index("without")
    assert table.loc[odd, "F"] == table["F"].max()
    errors = np.array([e.standard_error for e in fit.estimates])
    moved = (np.array(list(without.values.values())) - np.array(list(fit.values.values()))) / errors
    assert table.loc[odd, ["change of r.k", "change of r.k.Ea"]].tolist() == pytest.approx(moved.tolist(), rel=1e-4)


def test_a_wrong_charge_is_explained_by_it() -> None:
    data, odd = campaign(4, charge=1.3)
    found = mo.fit(LAW, data).run_influence()
    assert found.odd is not None
    assert found.odd.run == odd
    assert found.explanations[0].startswith(
        "initial A 1.3" if data[int(odd[1]) - 1].charge["A"] == 1000 else "initial A 1.9"
    )


def test_sound_campaigns_have_no_odd_run() -> None:
    verdicts = [mo.fit(LAW, campaign(seed)[0]).run_influence().odd for seed in range(20)]
    assert sum(odd is not None for odd in verdicts) <= 2
    with pytest.raises(mo.InputError, match="at least 3 are needed"):
        mo.fit(LAW, campaign(0)[0].only("K1", "K3")).run_influence()


def test_a_poor_fit_of_few_points_gets_a_note() -> None:
    t = np.array([2.0, 5, 10, 20, 40, 80])
    run = mo.Experiment("1", t * 60, {"A": 1000 / (1 + 0.2 * t)}, {"A": 1000.0})
    first = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    assert "another law may fit better" in " ".join(mo.fit(first, run).warnings)
