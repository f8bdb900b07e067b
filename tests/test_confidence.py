"""Sizes at a stated confidence against closed forms and plain Monte Carlo, and where a spread comes from."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.special import ndtri

import molino as mo
from conftest import Typed
from molino.core.fitting.fit_result import Fit
from molino.core.unit_tables import GAS_CONSTANT
from molino.desk import figures
from molino.desk.job.load import Job

K, FLOW = 0.2 / 60, 1e-3 / 60
TUBE = mo.PlugFlow(
    mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r")), mo.Feed({"A": "1 mol/L"}, flow="1 L/min"),
    volume="5 L", T="300 K",
)  # fmt: skip


@pytest.mark.parametrize("confidence", [0.5, 0.8, 0.95, 0.99])
def test_a_size_at_confidence_has_its_closed_form(confidence: float) -> None:
    spread = 0.15 * K
    found = mo.size(TUBE, "conversion of A", 0.9, confidence=confidence, spread={"r.k": f"{spread} 1/s"})
    least = K - ndtri(confidence) * spread
    assert found.value == pytest.approx(FLOW * math.log(10) / least, rel=3e-3)
    assert found.nominal == pytest.approx(FLOW * math.log(10) / K, rel=1e-8)
    assert found.reached == pytest.approx(confidence, abs=1e-3)
    assert found.interval is None
    falling = mo.size(TUBE, "concentration of A", "0.1 mol/L", confidence=confidence, spread={"r.k": spread})
    assert falling.value == pytest.approx(found.value, rel=1e-4)


def test_the_target_is_reached_in_so_many_of_ten_thousand_draws(fitted: Fit, job: Job) -> None:
    """Draws of their own: multivariate t from NumPy, and the closed form of a first order in place of a run."""
    coil = job.with_chemistry(fitted.chemistry)["coil"]
    spread = {"flow": "0.5 m3/h", "T": "1 K"}
    sized = mo.size(coil, "conversion of xylose", 0.9, confidence=0.95, spread=spread)
    held = fitted.chemistry.covariance
    assert held is not None
    chance, count = np.random.default_rng(5), 10_000
    wide = np.sqrt(held.degrees_of_freedom / chance.chisquare(held.degrees_of_freedom, count))
    values = np.array([fitted[name].value for name in held.names])
    drawn = dict(zip(held.names, (values + chance.multivariate_normal(np.zeros(len(values)), held.matrix, count)
                                  * wide[:, None]).T, strict=True))  # fmt: skip
    T = chance.normal(448.15, 1.0, count)
    flow = chance.normal(12 / 3600, 0.5 / 3600, count)
    k = drawn["dehydration.k"] * np.exp(-drawn["dehydration.k.Ea"] / GAS_CONSTANT * (1 / T - 1 / 438.15))
    volume = sized.value * 4 * math.pi / 4 * 0.08**2
    assert np.mean(1 - np.exp(-k * 100.0 * volume / flow) >= 0.9) == pytest.approx(0.95, abs=0.01)
    assert sized.nominal is not None
    assert sized.value > sized.nominal
    assert sized.sources is not None
    assert sized.sources.table()["source"].tolist()[:2] == ["T", "flow"]
    alone = mo.size(coil, "conversion of xylose", 0.9, confidence=0.95)
    plain = mo.size(coil, "conversion of xylose", 0.9)
    assert plain.interval is not None
    assert plain.value < alone.value < plain.interval[1]  # a one-sided quantile lies within the two-sided interval


def test_whole_numbers_are_large_enough_and_no_larger() -> None:
    tubes = TUBE.with_(volume=None, diameter="20 mm", length="2 m", tubes=1)
    found = mo.size(tubes, "conversion of A", 0.9, "tubes", confidence=0.95, spread={"flow": "0.2 L/min"})
    each = math.pi / 4 * 0.02**2 * 2
    exact = (1 + ndtri(0.95) * 0.2) * FLOW * math.log(10) / K / each
    assert found.value == math.ceil(exact)
    assert found.nominal == math.ceil(FLOW * math.log(10) / K / each)
    tank = mo.StirredTank(TUBE.chemistry, TUBE.feed, volume="3 L", T="300 K")
    series = mo.size(tank, "conversion of A", 0.9, "tanks_in_series", confidence=0.9, spread={"flow": "0.2 L/min"})
    assert isinstance(series.vessel, mo.Train)
    least = (1 + K * 3e-3 / (FLOW * (1 + ndtri(0.9) * 0.2))) ** -series.value
    assert least <= 0.1 < least * (1 + K * 3e-3 / (FLOW * (1 + ndtri(0.9) * 0.2)))


def test_shares_of_a_product_have_their_closed_form() -> None:
    mixed = mo.PlugFlow(mo.Chemistry([], ["A"]), mo.Feed({"A": "2 mol/L"}, flow="1 L/min"), volume="1 L", T="300 K")
    found = mo.spread_sources(mixed, "molar flow of A", spread={"[A]": "0.5 mol/L", "flow": "0.3 L/min"})
    a, b = 0.25**2, 0.3**2  # squares of the coefficients of variation
    whole = a + b + a * b
    assert found.sources == ("[A]", "flow")
    assert found.first == pytest.approx([a / whole, b / whole], abs=0.03)
    assert found.total == pytest.approx([(a + a * b) / whole, (b + a * b) / whole], abs=0.03)
    assert found.linear == pytest.approx([a / (a + b), b / (a + b)], rel=1e-6)
    assert found.standard_deviation == pytest.approx(2e3 * FLOW * math.sqrt(whole), rel=0.03)
    assert len(figures.spread_sources(found).axes[0].patches) == 4


REFUSED: dict[str, tuple[dict[str, Any], type[mo.MolinoError], str]] = {
    "no confidence": ({"spread": {"flow": "0.1 L/min"}}, mo.InputError, "a spread is given without a confidence"),
    "no probability": ({"confidence": 95}, mo.InputError, "give a probability from 0.5 to 0.999"),
    "nothing uncertain": ({"confidence": 0.9}, mo.InputError, "no uncertain numbers"),
    "unit": ({"confidence": 0.9, "spread": {"flow": "1 kg"}}, mo.UnitError, "is not a volumetric flow"),
    "name": ({"confidence": 0.9, "spread": {"flo": 1}}, mo.InputError, "did you mean 'flow'"),
}  # fmt: skip


@pytest.mark.parametrize("name", REFUSED)
def test_a_wrong_confidence_is_refused_in_words(name: str) -> None:
    given, kind, what = REFUSED[name]
    with pytest.raises(kind, match=what):
        mo.size(TUBE, "conversion of A", 0.9, **given)


def test_a_target_that_too_few_draws_reach_is_unreachable() -> None:
    series = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min", name="r"), mo.Reaction("B -> C", k="0.1 1/min")])
    tube = TUBE.with_(chemistry=series)
    with pytest.raises(mo.NotFoundError, match=r"with 95% confidence: at most [4-7]\d\.\d% of the draws"):
        mo.size(tube, "yield of B on A", 0.495, confidence=0.95, spread={"r.k": 0.1 * K})


def test_a_job_asks_for_confidence(molino: Typed, folder: Path) -> None:
    path = folder / "valdeoro.toml"
    content = json.loads(molino("size", path, "--json").stdout)["sizes"]
    assert content["coil_at_95_percent"]["confidence"] == 0.95
    assert content["coil_at_95_percent"]["nominal"] == pytest.approx(content["coil"]["value"], rel=1e-9)
    assert content["coil_at_95_percent"]["sources"]["T"]["total"] > 0.6
    assert (folder / "results" / "valdeoro" / "size-coil_at_95_percent-spread.png").is_file()
    text = path.read_text(encoding="utf-8")
    path.write_text(text.replace('spread = { flow = "0.5 m3/h"', 'spread = { flow = "0.5 m3"'), encoding="utf-8")
    assert "is not a volumetric flow" in molino("check", path).stderr


def test_limits_of_an_optimum_are_met_with_confidence() -> None:
    question: dict[str, Any] = {
        "minimize": "volume",
        "free": {"volume": ("1 L", "60 L")},
        "subject_to": ["conversion of A >= 0.9"],
    }
    spread = {"r.k": 0.15 * K}
    found = mo.optimize(TUBE, **question, confidence=0.95, spread=spread)
    sized = mo.size(TUBE, "conversion of A", 0.9, confidence=0.95, spread=spread)
    assert found.free[0].value == pytest.approx(sized.value, rel=1e-4)
    assert found.reached[0] == pytest.approx(0.95, abs=2e-3)
    assert found.active_limits[0].text == "conversion of A >= 0.9 with 0.95 confidence"
    assert found.left[0] == pytest.approx(found.run.metric("conversion of A") - 0.9, rel=1e-6)
    loose = {**question, "subject_to": ["conversion of A >= 0.9", "concentration of B >= 0.1 mol/L"]}
    assert mo.optimize(TUBE, **loose, confidence=0.95, spread=spread).reached[1] == 1.0
    with pytest.raises(mo.InputError, match="a confidence is given, and no limit"):
        mo.optimize(TUBE, maximize="volume", free={"volume": ("1 L", "2 L")}, confidence=0.9, spread=spread)
    with pytest.raises(mo.InputError, match="cannot be met with a confidence"):
        mo.optimize(TUBE, **{**question, "subject_to": ["conversion of A = 0.9"]}, confidence=0.9, spread=spread)


def test_numbers_may_be_given_with_their_standard_deviation(tmp_path: Path) -> None:
    """As `spread` has them, wherever a vessel has a condition of that name; elsewhere they are refused, never dropped."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.01 1/s", enthalpy="-20 kJ/mol", name="r"))
    feed = mo.Feed({"A": "1 ± 0.1 mol/L"}, flow="1 +- 0.1 L/s", T="27 +- 2 degC", heat_capacity="4 MJ/m3/K")
    tube = mo.PlugFlow(chemistry, feed, volume="300 L", heat=mo.Jacket("290 +- 1 K", UA="2 +- 0.2 kW/K"), name="tube")
    assert str(feed) == "1 ± 0.1 L/s of A 1 ± 0.1 mol/L at 27 ± 2 °C"
    sized = mo.size(tube, "conversion of A", 0.9, confidence=0.9)
    assert sized.value == pytest.approx((1 + 0.1 * ndtri(0.9)) * 0.1 * math.log(10), rel=3e-3)
    assert mo.size(tube, "conversion of A", 0.9).value == pytest.approx(0.1 * math.log(10), rel=1e-8)
    sources = mo.spread_sources(tube, "temperature")
    assert {*sources.sources} == {"[A]", "flow", "feed T", "coolant T", "UA"}
    plain = tube.with_({"[A]": 1e3, "flow": 1e-3, "feed T": 300.15, "coolant T": 290.0, "UA": 2e3})
    spread = {"[A]": 100.0, "flow": 1e-4, "feed T": 2.0, "coolant T": 1.0, "UA": 200.0}
    other = mo.spread_sources(plain, "temperature", spread)
    assert sources.standard_deviation == pytest.approx(other.standard_deviation, rel=0.05)
    assert dict(zip(sources.sources, sources.linear, strict=True)) == pytest.approx(
        dict(zip(other.sources, other.linear, strict=True)), rel=1e-6
    )
    train = mo.Train([plain.with_(feed=feed, name="first"), plain.with_(name="second")], recycle="0.5 +- 0.1")
    kettle = mo.SemiBatch(chemistry, {"A": 1.0}, {"a": mo.Dosing(feed, windows=[(0, 60)])}, volume=1.0, T=300.0, time=60.0,
                          heat_capacity="4 MJ/m3/K")  # fmt: skip
    for case, words in [
        (lambda: mo.size(tube, "conversion of A", "0.9 +- 0.01"), "not used here"),
        (lambda: mo.Reaction("A -> B", k="0.2 +- 0.1 1/s"), "not used here"),
        (lambda: mo.Feed({"A": "0 +- 1 mol/L"}, flow=1.0), "no number above zero"),
        (lambda: mo.size(kettle, "conversion of A", 0.5, confidence=0.9), "does not belong to a condition of the vessel"),
        (lambda: mo.Batch(chemistry, feed, time=1.0), "standard deviations to a charge"),
        (lambda: mo.optimize(tube, maximize="conversion of A", free={"flow": ("1 L/s", "2 L/s")}, confidence=0.9,
                             subject_to=["conversion of A >= 0.5"]), "flow is both free and uncertain"),
        (lambda: mo.size(train, "conversion of A", 0.9, "recycle", confidence=0.9), "recycle is both free and uncertain"),
        (lambda: mo.size(tube.with_(volume="1 +- 0.1 m3"), "conversion of A", 0.9, confidence=0.9), "volume is both free and uncertain"),
    ]:  # fmt: skip
        with pytest.raises(mo.InputError, match=words):
            case()
    job = tmp_path / "job.toml"
    job.write_text('[units]\nvolume = "L"\n[reactions.r]\nequation = "A -> B"\nk = "0.01 1/s"\n[feeds.f]\n'
                   'contents = { A = "1 mol/L" }\nflow = "1 +- 0.1 L/s"\n[vessels.tube]\nkind = "plug flow"\nfeed = "f"\n'
                   'volume = 300\n[size.tube]\nvessel = "tube"\nmetric = "conversion of A"\ntarget = 0.9\n'
                   'confidence = 0.9\n')  # fmt: skip
    task = mo.load_job(job)
    again = mo.size(task.vessels["tube"], "conversion of A", 0.9, confidence=0.9)
    assert again.value == pytest.approx(sized.value, rel=3e-3)


def test_constants_may_be_drawn_from_refits_to_resampled_data(tmp_path: Path, molino: Typed) -> None:
    """Of one constant the size at a confidence is that of a quantile of the refits; a file keeps them."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown("0.1 1/min"), name="r"))
    times, random = np.linspace(60, 900, 60), np.random.default_rng(3)
    noisy = 1e3 * np.exp(-K * times) + random.normal(0, 40, len(times))
    fit = mo.fit(chemistry, mo.Experiment("1", times, {"A": np.maximum(noisy, 0)}, {"A": 1e3}))
    for kind in ("residuals", "cases"):
        draws = fit.bootstrap(400, kind)
        known = draws.chemistry
        sized = mo.size(TUBE.with_(chemistry=known), "conversion of A", 0.9, confidence=0.95)
        wide = math.sqrt(60 / 59) if kind == "cases" else 1.0
        k = fit["r.k"].value + wide * (draws.draws[:, 0] - fit["r.k"].value)
        assert sized.value == pytest.approx(FLOW * math.log(10) / np.quantile(k, 0.05), rel=4e-3)
        assert sized.nominal == pytest.approx(
            mo.size(TUBE.with_(chemistry=fit.chemistry), "conversion of A", 0.9).value
        )
        assert sized.sources is not None
        assert sized.sources.sources == ("r.k",)
    again = mo.files.read_chemistry(mo.files.write_chemistry(known, tmp_path / "known.toml"))
    other = mo.size(TUBE.with_(chemistry=again), "conversion of A", 0.9, confidence=0.95)
    assert other.value == pytest.approx(sized.value, rel=1e-9)
    table = "\n".join(f"{t},{c}" for t, c in zip(times, np.maximum(noisy, 0) / 1e3, strict=True))
    (tmp_path / "data.csv").write_text(f"time [s],A [mol/L]\n0,1\n{table}\n")
    job = tmp_path / "job.toml"
    job.write_text('[units]\ntime = "s"\nvolume = "L"\n[reactions.r]\nequation = "A -> B"\nk = { guess = "0.1 1/min" }\n'
                   '[data.d]\nfile = "data.csv"\n[fit.f]\ndata = ["d"]\nbootstrap = 60\n[feeds.f]\nflow = "1 L/min"\n'
                   'contents = { A = "1 mol/L" }\n[vessels.tube]\nkind = "plug flow"\nfeed = "f"\nvolume = 5\n'
                   '[size.tube]\nvessel = "tube"\nmetric = "conversion of A"\ntarget = 0.9\nconfidence = 0.95\n')  # fmt: skip
    shown = molino("size", job, "--json")
    assert json.loads(shown.stdout)["source"].endswith("drawn from 60 refits to resampled data")
