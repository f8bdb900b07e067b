"""Tracer tests, distributions of residence times, flow models, conversions from them."""

from __future__ import annotations

import json
import math
import pickle
import re
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad, solve_ivp
from scipy.special import expn
from scipy.stats import gamma

import molino as mo
from conftest import DEMO, Typed

TAU = 600.0
COOKER = ("--volume", "6 m3", "--flow", "12 m3/h", "--injected", "1.5 kg", "--calibration", "0.55 g/L",
          "--baseline", "-5 min:-0.5 min", "--baseline", "320 min:360 min")  # fmt: skip


@pytest.mark.parametrize(
    ("n", "kind", "end"), [(1, "pulse", 4.0), (3, "pulse", 6.0), (8, "pulse", 6.0), (3, "step up", 6.0)]
)
def test_intervals_of_noisy_tests_hold_the_truth(n: int, kind: str, end: float) -> None:
    """200 sets with noise of 1 % of the peak and a baseline; below 185 falls one in ten thousand such campaigns."""
    random = np.random.default_rng(n)
    t = np.concatenate([np.linspace(-200, -10, 15), np.linspace(0, end * TAU, 150)])
    clean = (gamma.cdf if kind == "step up" else gamma.pdf)(t, n, scale=TAU / n)
    size = clean.max()
    more = {"injected": f"{1e-3 / size} mol"} if kind == "pulse" else {"plateau": 1.0 / size}
    truth = {"mean": TAU, "variance": TAU**2 / n, "skewness": 2 / math.sqrt(n), "dead fraction": 1 - TAU / 800}
    truth |= {"recovery": 1.0} if kind == "pulse" else {}
    hits = dict.fromkeys(truth, 0)
    for _ in range(200):
        signal = clean / size + 0.3 + random.normal(0, 0.01, len(t))
        found = (
            mo.mixing.TracerTest(t, signal, kind=kind, volume="0.8 m3", flow=1e-3, **more).distribution(1e-4).intervals
        )
        for name, value in truth.items():
            hits[name] += found[name][0] <= value <= found[name][1]
    assert min(hits.values()) >= 185, hits


def test_published_tables_to_their_digits() -> None:
    """O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, examples 11.1 and 13.1; H. S. Fogler, Elements of
    Chemical Reaction Engineering, 5th ed. 2016, examples 16-1 and 16-2, by Simpson's rule."""
    pulse = mo.mixing.TracerTest(np.arange(0, 36, 5) * 60.0, [0, 3, 5, 5, 4, 2, 1, 0], tail="none").distribution()
    assert pulse.mean_si / 60 == pytest.approx(15.0, rel=1e-12)
    assert pulse.variance_si / 3600 == pytest.approx(47.5, rel=1e-12)
    assert pulse.E[1:4] * 60 == pytest.approx([0.03, 0.05, 0.05], rel=1e-12)
    t = np.array([0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 12, 14]) * 60.0
    other = mo.mixing.TracerTest(
        t, [0, 1, 5, 8, 10, 8, 6, 4, 3, 2.2, 1.5, 0.6, 0], tail="none", rule="Simpson"
    ).distribution()
    assert other.mean_si / 60 == pytest.approx(5.15, abs=0.01)  # printed with an area rounded to 50
    assert other.variance_si / 3600 == pytest.approx(6.10, abs=0.01)
    assert other.E[4] * 60 == pytest.approx(0.2, abs=1e-3)


def test_a_measured_inlet_is_taken_out() -> None:
    t = np.linspace(0, 3600, 361)
    fine = np.linspace(0, 3600, 36001)
    inlet = gamma.pdf(fine, 2, scale=100)
    outlet = np.convolve(gamma.pdf(fine, 4, scale=150), inlet)[: len(fine)] * fine[1]
    test = mo.mixing.TracerTest(t, outlet[::100], kind="measured inlet", inlet=inlet[::100])
    found = test.distribution()
    wanted = gamma.pdf(found.times, 4, scale=150)
    assert np.max(np.abs(found.E - wanted)) < 0.01 * wanted.max()
    assert [found.mean_si, found.variance_si] == pytest.approx([600, 90000], rel=2e-3)
    assert found.recovery == pytest.approx(1, abs=5e-3)
    fitted = mo.mixing.fit_flow_models(test, [mo.mixing.TanksInSeries(), mo.mixing.AxialDispersion()]).best
    assert fitted.model.n.si == pytest.approx(4, rel=5e-3)
    assert fitted.mean_si == pytest.approx(600, rel=2e-3)


MODELS: dict[str, tuple[Any, tuple[float, float, float]]] = {
    "tanks": (mo.mixing.TanksInSeries(7.3), (1, 1 / 7.3, 2 / math.sqrt(7.3))),
    "closed": (mo.mixing.AxialDispersion(5), (1, 2 / 5 - 2 / 25 * (1 - math.exp(-5)), math.nan)),
    "near a tank": (mo.mixing.AxialDispersion(0.05), (1, 2 / 0.05 - 2 / 0.0025 * (1 - math.exp(-0.05)), math.nan)),
    "near plug flow": (mo.mixing.AxialDispersion(800), (1, 2 / 800 - 2 / 640000, math.nan)),
    "open": (mo.mixing.AxialDispersion(5, "open"), (1.4, 2 / 5 + 8 / 25, math.nan)),
    "half open": (mo.mixing.AxialDispersion(5, "closed-open"), (1.2, 2 / 5 + 3 / 25, math.nan)),
    "dead zone": (mo.mixing.TankWithDeadZone(0.8, 0.1), (0.8, 2 * 0.64 / 0.9 - 0.64, math.nan)),
    "stagnant": (mo.mixing.StagnantZones(5, 0.8, 0.1), (1, (1 + 2 * 0.04 / 0.1) / 5, math.nan)),
    "recycle": (mo.mixing.Recycle(2, 20), (1, (2 + 1 / 20) / 3, math.nan)),
    "drawn": (mo.mixing.Compartments({"A": 0.3, "B": "rest"}, {}, {"in": {"A": 1}, "A": {"B": 1}, "B": {"out": 1}}),
              (1, 0.3**2 + 0.7**2, math.nan)),
}  # fmt: skip


@pytest.mark.parametrize("name", MODELS)
def test_moments_curves_and_conversions_of_a_model_agree(name: str) -> None:
    """Moments in closed form, by derivatives of the transform and by quadrature of E; conversion by G(k) and by E."""
    model, (mean, variance, skewness) = MODELS[name]
    one, two, three = model.cumulants(TAU)
    assert [one / TAU, two / TAU**2] == pytest.approx([mean, variance], rel=1e-8)
    if math.isfinite(skewness):
        assert three / two**1.5 == pytest.approx(skewness, rel=1e-7)
    t = np.concatenate([np.linspace(1e-3, 3 * TAU, 3000), np.linspace(3 * TAU, 25 * TAU, 2000)[1:]])
    E = model.E(t, TAU)
    assert E.min() >= 0
    assert model.bypassed + np.trapezoid(E, t) == pytest.approx(1, abs=1e-5)
    assert np.trapezoid(E * t, t) == pytest.approx(one, rel=1e-4)
    middle = np.array([0.7 * one])
    assert model.F(middle, TAU)[0] - model.bypassed == pytest.approx(
        np.trapezoid(E[t <= 0.7 * one], t[t <= 0.7 * one]), abs=2e-3
    )
    k = 1.3 / TAU
    left = model.bypassed + np.trapezoid(E * np.exp(-k * t), t)
    assert model.conversion(f"{k} 1/s", f"{TAU} s") == pytest.approx(1 - left, abs=2e-5)


@settings(max_examples=6)
@given(
    volumes=st.lists(st.floats(0.05, 1.0), min_size=3, max_size=3), back=st.floats(0.0, 0.9), split=st.floats(0.05, 0.95),
    tube=st.booleans(), k=st.floats(0.05, 5.0),
)  # fmt: skip
def test_the_mean_of_any_network_is_volume_over_flow(
    volumes: list[float], back: float, split: float, tube: bool, k: float
) -> None:
    """Whatever is joined to whatever, the mean is V/Q (P. V. Danckwerts, 1953), and a closed network of tanks converts by
    its balances."""
    a, b, c = (v / sum(volumes) for v in volumes)
    flows = {"in": {"A": split, "B": "rest"}, "A": {"C": 1}, "B": {"C": 1}, "C": {"A": back, "out": "rest"}}
    tanks, tubes = ({"A": a, "C": "rest"}, {"B": b}) if tube else ({"A": a, "B": b, "C": "rest"}, {})
    model = mo.mixing.Compartments(tanks, tubes, flows)
    assert model.cumulants(TAU)[0] == pytest.approx(TAU, rel=1e-9)
    whole = 1 / (1 - back)
    through = {"A": split + back * whole, "B": 1 - split, "C": whole}
    one = 1 / (1 + k * a / through["A"])
    two = math.exp(-k * b / through["B"]) if tube else 1 / (1 + k * b / through["B"])
    three = 1 / (1 + k * c / through["C"])
    # C = three (F_A one c_A + F_B two)/F_C, c_A = (split + back F_C C)/F_A
    left = three * (split * one + (1 - split) * two) / whole / (1 - three * one * back)
    assert model.conversion(f"{k / TAU} 1/s", f"{TAU} s") == pytest.approx(1 - left, rel=1e-9)
    found = model.distribution(f"{TAU} s")
    assert (np.diff(found.F) >= 0).all()
    assert found.F[-1] == pytest.approx(1, abs=5e-3)


def test_laminar_flow_and_a_second_order_reaction() -> None:
    """F = 1 - tau^2/(4 t^2); segregated conversion by quadrature, first order by 2 E_3(k tau/2)."""
    model = mo.mixing.LaminarFlow()
    assert model.F(np.array([0.4, 0.5, 1.0, 2.0]) * TAU, TAU) == pytest.approx([0, 0, 0.75, 0.9375])
    exact = quad(lambda u: math.exp(-0.6 * u) / u**3, 1, np.inf)[0]
    assert 1 - model.conversion(f"{1.2 / TAU} 1/s", f"{TAU} s") == pytest.approx(2 * exact, rel=1e-8)
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k=f"{2 / TAU} L/mol/s"))
    batch = mo.Batch(chemistry, {"A": "1 mol/L"})
    for n in (1, 2, 5):
        found = mo.mixing.mixing_bounds(batch, mo.mixing.TanksInSeries(n).distribution(f"{TAU} s"))
        wanted = quad(
            lambda t, n=n: gamma.pdf(t, n, scale=TAU / n) * (1 - 1 / (1 + 2 * t / TAU)), 0, 40 * TAU, limit=400
        )[0]
        assert found.conversion("A") == pytest.approx(wanted, abs=2e-5)
        assert "segregation is the upper bound" in found.order_in_words()
    # of one tank: maximum mixedness is the mixed tank itself, 2 x^2 + x = 1 at a Damkoehler number of 2
    one = mo.mixing.mixing_bounds(batch, mo.mixing.TanksInSeries(1).distribution(f"{TAU} s"))
    assert one.conversion("A", "maximum mixedness") == pytest.approx(0.5, abs=2e-4)
    assert one.conversion("A", "mixed tank") == pytest.approx(0.5, abs=1e-7)
    half = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^0.5", k=f"{0.5 / TAU} mol^0.5/L^0.5/s"))
    below = mo.mixing.mixing_bounds(
        mo.Batch(half, {"A": "1 mol/L"}), mo.mixing.TanksInSeries(2).distribution(f"{TAU} s")
    )
    assert "maximum mixedness is the upper bound" in below.order_in_words()
    first = mo.Chemistry(mo.Reaction("A -> B", k=f"{2 / TAU} 1/s"))
    same = mo.mixing.mixing_bounds(
        mo.Batch(first, {"A": "1 mol/L"}), mo.mixing.TanksInSeries(2).distribution(f"{TAU} s")
    )
    assert [same.conversion("A"), same.conversion("A", "maximum mixedness")] == pytest.approx([0.75, 0.75], abs=2e-4)
    assert "has no effect" in same.order_in_words()


def test_networks_convert_as_trains_of_vessels_do() -> None:
    """The same two tanks and a tube, once as a transfer function and once as balances."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="0.1 m3/min")
    vessels = [mo.StirredTank(chemistry, feed, volume="0.3 m3", name="a"), mo.PlugFlow(chemistry, feed, volume="0.5 m3", name="b"),
               mo.StirredTank(chemistry, feed, volume="0.2 m3", name="c")]  # fmt: skip
    line = {"in": {"a": 1}, "a": {"b": 1}, "b": {"c": 1}, "c": {"out": 1}}
    model = mo.mixing.Compartments({"a": 0.3, "c": 0.2}, {"b": 0.5}, line)
    assert model.conversion("0.1 1/min", "10 min") == pytest.approx(mo.Train(vessels).run().conversion("A"), rel=1e-9)
    split = mo.Train([mo.Parallel(vessels[:2], [0.4, 0.6]), vessels[2]])
    ways = {"in": {"a": 0.4, "b": "rest"}, "a": {"c": 1}, "b": {"c": 1}, "c": {"out": 1}}
    both = mo.mixing.Compartments({"a": 0.3, "c": 0.2}, {"b": 0.5}, ways)
    assert both.conversion("0.1 1/min", "10 min") == pytest.approx(split.run().conversion("A"), rel=1e-9)
    batch = mo.Batch(chemistry, {"A": "1 mol/L"})
    by_E = mo.mixing.mixing_bounds(batch, model.distribution("10 min")).conversion("A")
    assert by_E == pytest.approx(model.conversion("0.1 1/min", "10 min"), abs=2e-3)


def test_results_are_plain_data_printed_pickled_and_shown() -> None:
    t = np.linspace(0, 3600, 91)
    random = np.random.default_rng(3)
    signal = mo.mixing.TanksInSeries(4).E(np.maximum(t, 1e-3), TAU) * 1e3 + random.normal(0, 0.01, len(t))
    test = mo.mixing.TracerTest(t, signal, volume="1 m3", flow="5 m3/h", show={"time": "min"})
    found = test.distribution()
    compared = mo.mixing.fit_flow_models(test, [mo.mixing.TanksInSeries(), mo.mixing.LaminarFlow()])
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/min"))
    bounds = mo.mixing.mixing_bounds(mo.Batch(chemistry, {"A": "1 mol/L"}), found)
    for thing in (test, found, compared, compared.best, bounds, mo.mixing.AxialDispersion(3)):
        assert pickle.loads(pickle.dumps(thing)) == thing
        assert len(str(thing).splitlines()[0]) < 100
    for result in (found, compared, compared.best, bounds):
        assert json.loads(json.dumps(result.to_dict())) == result.to_dict()
        assert "<table" in result._repr_html_()
    assert list(found.table().columns) == ["time [min]", "E [1/min]", "E smoothed [1/min]", "F"]
    assert found.facts()["space time"] == "12 min"
    low, high = bounds.interval("A")
    assert low < 1 - 1 / (1 + 0.1 * 10 / 4) ** 4 < high
    assert high - low < 0.02
    assert compared.weights[0] > 0.999
    assert compared.best.to_dict()["numbers"]["n"]["half_interval"] < 0.2
    assert 0.13 < found.dead_fraction < 0.2


def test_segregated_batches_may_warm_up() -> None:
    law = {"k": mo.Arrhenius(k="0.1 1/min", at="330 K", Ea="60 kJ/mol"), "enthalpy": "-80 kJ/mol"}
    batch = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", **law)), {"A": "1 mol/L"}, T="330 K", heat="adiabatic",
                     heat_capacity="4 MJ/m3/K")  # fmt: skip
    found = mo.mixing.mixing_bounds(batch, mo.mixing.TanksInSeries(3).distribution(f"{TAU} s"))

    def slope(t: float, y: np.ndarray) -> list[float]:
        T = 330 + 20 * y[0]
        return [0.1 / 60 * math.exp(-60e3 / 8.31446261815324 * (1 / T - 1 / 330)) * (1 - y[0])]

    course = solve_ivp(slope, (0, 20 * TAU), [0.0], rtol=1e-10, atol=1e-12, dense_output=True)
    wanted = quad(lambda t: gamma.pdf(t, 3, scale=TAU / 3) * course.sol(t)[0], 0, 20 * TAU, limit=400)[0]
    assert found.conversion("A") == pytest.approx(wanted, abs=2e-5)
    with pytest.raises(mo.InputError, match="'maximum mixedness' is not known"):
        found.conversion("A", "maximum mixedness")


def test_fits_find_the_numbers_and_rule_other_models_out() -> None:
    random = np.random.default_rng(7)
    t = np.linspace(0, 3600, 181)
    late = np.maximum(t, 1e-3)
    loop = mo.mixing.Compartments(
        {"A": None, "B": "rest"}, {}, {"in": {"A": 1}, "A": {"B": None, "out": "rest"}, "B": {"A": 1}}
    )
    truth = loop.with_numbers({"A": 0.6, "A to B": 0.3})
    cases: list[tuple[Any, Any, dict[str, float], str]] = [
        (mo.mixing.AxialDispersion(12), mo.mixing.AxialDispersion(), {"peclet": 12}, "pulse"),
        (mo.mixing.TanksInSeries(2.5), mo.mixing.TanksInSeries(), {"n": 2.5}, "step down"),
        (mo.mixing.TankWithDeadZone(0.7, 0.1), mo.mixing.TankWithDeadZone(), {"active": 0.7, "bypass": 0.1}, "step up"),
        (truth, loop, {"A": 0.6, "A to B": 0.3}, "pulse"),
    ]
    for true, model, numbers, kind in cases:
        clean = true.E(late, TAU) if kind == "pulse" else true.F(late, TAU)
        clean = 1 - clean if kind == "step down" else clean
        more = {"plateau": 1 / clean.max()} if kind != "pulse" else {}
        signal = clean / clean.max() + random.normal(0, 0.005, len(t))
        test = mo.mixing.TracerTest(t, signal, kind=kind, volume="0.6 m3", flow=1e-3, **more)
        found = mo.mixing.fit_flow_models(test, [model, mo.mixing.LaminarFlow()])
        assert found.verdict().startswith(found.best.model.noun)
        assert "rejected" in found.verdict()
        for name, value in numbers.items():
            assert abs(found.best.number(name) - value) < 2.5 * found.best.halves[name] < 0.5 * value, name
        assert found.best.dead_fraction == pytest.approx(0.3 if "active" in numbers else 0.0, abs=0.05)
    bare = mo.mixing.fit_flow_models(
        mo.mixing.TracerTest(t, signal), [mo.mixing.TankWithDeadZone(), mo.mixing.TanksInSeries()]
    )
    assert "are unknown" in bare.remarks["tank with dead zone and by-pass"]


def test_the_cooker_is_diagnosed_on_the_command_line(molino: Typed, tmp_path: Path) -> None:
    """As made: 12 % of the volume dead, 4 % of the flow past it."""
    (tmp_path / "cooker-tracer.csv").write_bytes((DEMO / "cooker-tracer.csv").read_bytes())
    done = molino("tracer", tmp_path / "cooker-tracer.csv", *COOKER, "--rate-constant", "0.05 1/min", "--json")
    assert done.exit_code == 0, done.output
    content = json.loads(done.stdout)
    low, high = content["intervals"]["dead_fraction" if "dead_fraction" in content["intervals"] else "dead fraction"]
    assert low < 0.12 < high
    assert "an early peak at 0.5 min" in " ".join(content["diagnosis"])
    assert content["models"]["models"][0]["weight"] > 0.9
    assert 0.5 < content["first_order"]["segregated"]["conversions"]["A"] < 0.7
    results = tmp_path / "results" / "cooker-tracer"
    assert {p.name for p in results.iterdir()} == {"tracer.csv", "tracer.png", "tracer-models.csv", "tracer.json"}
    assert (pd.read_csv(results / "tracer.csv")["F"].diff().dropna() > -1e-3).all()
    refused = molino("tracer", tmp_path / "cooker-tracer.csv", "--baseline", "5 min", "--flow", "2 m")
    assert refused.exit_code == 2
    assert "is not a window of times" in refused.output


def test_tables_as_laboratories_keep_them(tmp_path: Path) -> None:
    """Two detectors, other words, German numbers, gaps; a drift that two windows take out; an end."""
    t = np.arange(-60.0, 3000.0, 20.0)
    clean = np.where(t >= 0, gamma.pdf(t, 2, scale=200) * 400, 0.0)
    frame = pd.DataFrame({"Zeit (min)": t / 60, "Outlet [mV]": clean + 0.2 + 1e-4 * t})
    frame.iloc[40, 1] = np.nan
    text = frame.to_csv(sep=";", decimal=",", index=False)
    (tmp_path / "a.csv").write_text(text)
    test = mo.mixing.read_tracer(tmp_path / "a.csv", baseline=[("-60 s", "-20 s"), ("2700 s", "3000 s")])
    found = test.distribution()
    assert found.mean_si == pytest.approx(400, rel=3e-3)
    assert "min" in found.facts()["mean residence time"]
    assert any("is in mV" in note for note in test.notes)
    assert any("1 line left out" in note for note in test.notes)
    level = mo.mixing.read_tracer(tmp_path / "a.csv", baseline=[("-60 s", "-20 s")]).distribution()
    assert abs(level.mean_si - 400) > 5 * abs(found.mean_si - 400)
    cut = mo.mixing.read_tracer(
        tmp_path / "a.csv", baseline=[("-60 s", "-20 s"), ("2700 s", "3000 s")], end="1200 s"
    ).distribution()
    assert 1 - cut.F[-1] == pytest.approx(gamma.sf(1200, 2, scale=200), rel=0.15)
    assert cut.mean_si == pytest.approx(400, rel=0.02)
    frame["inlet [mV]"] = np.exp(-((t - 100) ** 2) / 2000)
    both = mo.mixing.read_tracer(frame.rename(columns={"Zeit (min)": "time [min]"}).dropna())
    assert both.kind == "measured inlet"
    figure = mo.figures.tracer(found, mo.mixing.fit_flow_models(test, [mo.mixing.TanksInSeries()]))
    labels = [text.get_text() for text in figure.axes[0].get_legend().get_texts()]
    assert {"measured", "smoothed", "tanks in series", "mean ± standard deviation"} <= {*labels}
    assert [axes.get_ylabel() for axes in figure.axes] == ["E [1/min]", "F"]


def test_by_pass_recirculation_and_long_tails_are_named() -> None:
    t = np.linspace(0, 6000, 601)
    late = np.maximum(t, 1e-3)

    def words(model: Any, mean: float = TAU, **more: Any) -> str:
        return "; ".join(mo.mixing.TracerTest(t, model.E(late, mean), **more).distribution().diagnosis())

    flows = {"in": {"short": 0.3, "long": "rest"}, "short": {"out": 1}, "long": {"out": 1}}
    assert "by-pass" in words(mo.mixing.Compartments({}, {"short": 0.03, "long": "rest"}, flows, 40))
    assert "the tracer returns" in words(mo.mixing.Recycle(1.5, 40))
    slow = {"in": {"fast": 0.7, "slow": "rest"}, "fast": {"out": 1}, "slow": {"out": 1}}
    assert "stays longer than three" in words(mo.mixing.Compartments({"fast": 0.2, "slow": "rest"}, {}, slow))
    assert "near a mixed tank" in words(mo.mixing.TanksInSeries(1))
    assert "near plug flow" in words(mo.mixing.TanksInSeries(50))
    known = {"volume": "1 m3", "flow": 1 / 900}
    assert "33.3 % of the volume is dead" in words(mo.mixing.TanksInSeries(5), **known)
    assert "the tracer is retained" in words(mo.mixing.TanksInSeries(5), 1200.0, **known)


def test_steps_and_two_detectors_on_the_command_line(molino: Typed, tmp_path: Path) -> None:
    random = np.random.default_rng(11)
    t = np.linspace(0, 60, 121)
    F = gamma.cdf(t, 2, scale=5)
    step = pd.DataFrame({"time [min]": t, "salt [g/L]": 0.8 * F + random.normal(0, 0.004, len(t))})
    step.to_excel(tmp_path / "step.xlsx", index=False)
    done = molino("tracer", tmp_path / "step.xlsx", "--kind", "step up", "--plateau", 0.8, "--end", "50 min", "--volume",
                  "1.2 m3", "--flow", "6 m3/h", "--no-models", "--json")  # fmt: skip
    assert done.exit_code == 0, done.output
    content = json.loads(done.stdout)
    assert content["mean"]["unit"] == "min"
    assert content["mean"]["value"] == pytest.approx(10, rel=0.02)
    assert content["dead_fraction"] == pytest.approx(1 / 6, abs=0.02)
    assert content["recovery"] is None
    inlet = np.exp(-((t - 4) ** 2) / 4)
    outlet = np.convolve(gamma.pdf(t, 3, scale=3), inlet)[: len(t)] * 0.5
    two = pd.DataFrame({"time [min]": t, "inlet": inlet, "outlet": outlet + random.normal(0, 0.002, len(t))})
    two.to_csv(tmp_path / "two.csv", index=False)
    told = molino("tracer", tmp_path / "two.csv", "--rate-constant", "0.1 1/min").output
    assert "E by deconvolution" in told
    assert float(told.split("mean residence time")[1].split()[0]) == pytest.approx(9, rel=0.05)
    assert "flow models" in told
    assert "verdict: " in told
    assert "tracer-models.csv" in "".join(told.split())
    assert "first order, k = 0.1 1/min: conversion 0.5" in told
    wrong = molino("tracer", tmp_path / "two.csv", "--kind", "pulse", "--volume", "2 bar", "--tail", "straight")
    assert wrong.exit_code == 2
    assert "unknown tail 'straight'" in wrong.output
    assert "2 bar" in wrong.output  # all that is wrong at once
    results = tmp_path / "results"
    assert (results / "step" / "tracer.png").stat().st_size > 5_000
    models = pd.read_csv(results / "two" / "tracer-models.csv")
    assert models["weight"].is_monotonic_decreasing
    best = json.loads((results / "two" / "tracer.json").read_text())["models"]["models"][0]
    assert best["mean"]["value"] == pytest.approx(9, rel=0.05)
    assert best["residual"] < 0.02
    assert 0 < best["weight"] <= 1
    assert molino("tracer", tmp_path / "none.csv").exit_code == 2


WRONG: dict[str, tuple[Any, str]] = {
    "short": (lambda: mo.mixing.TracerTest([0, 1, 2], [0, 1, 0]), "at least 8"),
    "falling times": (lambda: mo.mixing.TracerTest(np.arange(9.0)[::-1], np.ones(9)), "do not rise"),
    "inlet": (lambda: mo.mixing.TracerTest(np.arange(9.0), np.ones(9), kind="measured inlet"), "no inlet is given"),
    "nothing": (lambda: mo.mixing.TracerTest(np.arange(9.0), -np.ones(9)), "no tracer is found"),
    "window": (lambda: mo.mixing.TracerTest(np.arange(9.0), np.ones(9), baseline=[("20 s", "30 s")]), "no point from"),
    "columns": (lambda: mo.mixing.read_tracer(pd.DataFrame({"time [s]": [0, 1], "a": [0, 1], "b": [0, 1]})), "2 columns could be"),
    "no time": (lambda: mo.mixing.read_tracer(pd.DataFrame({"x": [0, 1], "a": [0, 1]})), "no column has times"),
    "unknown": (lambda: mo.mixing.TanksInSeries().distribution("1 h"), "n of the model are unknown"),
    "shares": (lambda: mo.mixing.Compartments({"A": 0.5, "B": 0.6}, {}, {"in": {"A": 1}, "A": {"B": 1}, "B": {"out": 1}}), "add up to 1.1"),
    "loop": (lambda: mo.mixing.Compartments({"A": 1}, {}, {"in": {"A": 1}, "A": {"A": 1}}), "has no outlet"),
    "strangers": (lambda: mo.mixing.Compartments({"A": 1}, {}, {"in": {"C": 1}, "A": {"out": 1}}), "not a compartment"),
    "gas": (lambda: mo.mixing.mixing_bounds(mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=1.0)), {"A": "1 bar"}, T="400 K"),
                                     mo.mixing.TanksInSeries(1).distribution("1 s")), "liquid of constant density"),
}  # fmt: skip


@pytest.mark.parametrize("case", WRONG)
def test_what_is_no_test_or_model_is_reported(case: str) -> None:
    make, words = WRONG[case]
    with pytest.raises(mo.InputError, match=words):
        make()


def test_the_page_on_mixing_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "cooker-tracer.csv").write_bytes((DEMO / "cooker-tracer.csv").read_bytes())
    monkeypatch.chdir(tmp_path)
    page = (Path(__file__).parent.parent / "docs" / "mixing.md").read_text(encoding="utf-8")
    exec(compile("\n".join(re.findall(r"```python\n(.*?)```", page, re.DOTALL)), "mixing", "exec"), {})
    printed = capsys.readouterr().out
    assert "an early peak at 0.5 min" in printed
    assert "segregation is the upper bound" in printed
    assert "('pocket', 'in to out', 'front to pocket')" in printed
    assert (tmp_path / "tracer.png").exists()


def _pulse(t: np.ndarray) -> np.ndarray:
    """Of five tanks in series of 120 s, with noise."""
    s = np.maximum(t, 0.0) / 24.0
    return s**4 * np.exp(-s) / (24 * 24.0) + 1e-5 * np.random.default_rng(0).standard_normal(len(t))


@pytest.mark.parametrize(("drift", "end", "windows", "words"), [
    (2e-6, None, [("-30 s", "0 s")], "does not return to its baseline"),
    (-1e-6, None, [("-30 s", "0 s")], "below the baseline"),
    (0.0, "150 s", [], "extrapolated"),
    (2e-6, None, [("-30 s", "0 s"), ("700 s", "900 s")], ""),
])  # fmt: skip
def test_a_record_that_does_not_end_says_so(drift: float, end: Any, windows: list[Any], words: str) -> None:
    t = np.linspace(-30, 900, 466)
    found = mo.mixing.TracerTest(t, _pulse(t) + drift * (t + 30), baseline=windows, end=end).distribution()
    caution = found.facts().get("caution", "")
    assert words in caution
    assert bool(words) == bool(caution)
    assert words or found.mean_si == pytest.approx(120, rel=2e-3)


def test_maximum_mixedness_of_a_first_order_reaction_is_segregation() -> None:
    """Also after a distribution that jumps and has a long tail (laminar flow, of infinite variance)."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.5 1/min"))
    laminar = mo.mixing.LaminarFlow().distribution("10 min")
    found = mo.mixing.mixing_bounds(mo.Batch(chem, {"A": "1 mol/L"}), laminar)
    exact = 2 * expn(3, 2.5)
    assert 1 - found.conversion("A") == pytest.approx(exact, rel=1e-4)
    assert 1 - found.conversion("A", "maximum mixedness") == pytest.approx(exact, rel=1e-4)
    assert laminar.facts()["variance"] == "infinite"


def test_the_smoothed_curve_follows_an_early_peak_and_a_late_one() -> None:
    """A by-pass of short residence time before a broad main curve, with noise of one per cent of the main peak."""
    t = np.arange(0.0, 121.0, 0.5)
    early = 0.15 * 2.0 * t * np.exp(-t / 0.7) / 0.98
    main = 0.85 * (t / 25.0) ** 2 * np.exp(-2.5 * t / 25.0) * 2.5**3 / (2 * 25.0)
    noise = np.random.default_rng(3).normal(0.0, 0.01 * main.max(), len(t))
    test = mo.mixing.TracerTest(t * 60, early + main + noise)
    found = test.distribution()
    scale = float(np.trapezoid(early + main, t * 60))
    smooth, true = found.smoothed, np.interp(found.times, t * 60, (early + main) / scale)
    peak = slice(1, 5)
    assert smooth[peak].max() == pytest.approx(true[peak].max(), rel=0.15)
    late = found.times > 15 * 60
    assert np.abs(smooth - true)[late].max() < 0.03 * true[late].max()


def test_only_is_refused_for_a_table(molino: Typed, tmp_path: Path) -> None:
    table = tmp_path / "pulse.csv"
    table.write_text("time [s],signal\n0,0\n1,1\n2,2\n3,1\n4,0\n", encoding="utf-8")
    refused = molino("tracer", table, "--only", "pulse")
    assert refused.exit_code == 2
    assert "--only names a table of a job" in refused.stderr
