"""Data in: signals, outlets, sheets, rates, checks; and what is made of rates."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import matplotlib.figure
import numpy as np
import pandas as pd
import pytest

import molino as mo

R = 8.31446261815324
TIMES = np.array([0.0, 10.0, 20.0, 40.0])
LEFT = np.array([2.0, 1.5, 1.1, 0.6])  # mol/L of 2 charged


def table(**columns: Any) -> pd.DataFrame:
    return pd.DataFrame({"time [min]": TIMES, "T [degC]": 50, "initial A [mol/L]": 2.0, **columns})


SIGNALS: dict[str, tuple[dict[str, Any], mo.Signal]] = {
    "absorbance": ({"absorbance": 0.02 + 0.12 * LEFT}, mo.Signal("A", slope="0.12 L/mol", blank=0.02)),
    "conductivity": ({"conductivity [mS/cm]": 1 + 3 * LEFT}, mo.Signal("A", slope="3 mS/cm*L/mol", blank="0.1 S/m")),
    "conversion": ({"conversion": 1 - LEFT / 2}, mo.Signal("A", conversion=True)),
    "conversion in per cent": ({"X [%]": 100 - 50 * LEFT}, mo.Signal("A", conversion=True)),
    "rotation": ({"rotation": -4 + 5 * LEFT}, mo.Signal("A", start=6.0, end=-4.0)),
    "titrated": ({"V [mL]": 0.3 + 25 * LEFT * 2 / 0.5}, mo.Signal("A", titrant="0.5 mol/L", sample="25 mL", per=2, blank="0.3 mL")),
    "pressure": ({"P [bar]": (2 + 2 * (2 - LEFT)) * 1e3 * R * 323.15 / 1e5}, mo.Signal("A", reaction="A -> 2 B + C")),
    "pressure from a start": ({"P [bar]": 1.5 + 2 * (2 - LEFT) * 1e3 * R * 323.15 / 1e5}, mo.Signal("A", reaction="A -> 2 B + C", start="1.5 bar")),
    "pressure of a product": ({"P [bar]": (2 - 0.5 * (2 - LEFT)) * 1e3 * R * 323.15 / 1e5}, mo.Signal("A", reaction="2 A -> B")),
}  # fmt: skip


@pytest.mark.parametrize("name", SIGNALS)
def test_signals_become_concentrations(name: str) -> None:
    columns, signal = SIGNALS[name]
    (heading,) = columns
    runs = mo.read_experiments(table(**columns), signals={heading.partition(" [")[0]: signal})
    assert runs[0].measured["A"] == pytest.approx(1000 * LEFT, rel=1e-12)
    assert str(signal) in str(runs)
    assert runs[0].gas == ("pressure" in name)


WRONG_SIGNALS: list[tuple[dict[str, Any], dict[str, Any], str]] = [
    ({}, {}, "nothing is given"),
    ({"slope": 2.0, "conversion": True}, {}, "conversion, slope is given"),
    ({"slope": "2 mol/L"}, {"s": LEFT}, "it is signal per concentration"),
    ({"slope": "2 L/mol", "blank": "1 bar"}, {"s": LEFT}, "blank 1 bar and the column"),
    ({"reaction": "A -> B"}, {"s [bar]": LEFT}, "does not change the moles"),
    ({"reaction": "C -> B"}, {"s [bar]": LEFT}, "A does not take part"),
    ({"slope": 1.0, "blank": 1.0}, {"s": LEFT}, "negative concentration of A"),
    ({"conversion": True}, {"q": LEFT}, "no column of the signal 's'"),
    ({"conversion": True}, {"s": 1 - LEFT / 2, "A [mol/L]": LEFT}, "measured in another column"),
    ({"start": 1.0, "end": 1.0}, {"s": LEFT}, "start and end are the same"),
]


@pytest.mark.parametrize(("form", "columns", "what"), WRONG_SIGNALS)
def test_wrong_signals(form: dict[str, Any], columns: dict[str, Any], what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        mo.read_experiments(table(**columns), signals={"s": mo.Signal("A", **form)})


def test_a_sheet_a_run_and_partial_pressures(tmp_path: Path) -> None:
    with pd.ExcelWriter(tmp_path / "lab.xlsx") as book:
        for name, T in (("cold", 300), ("hot", 400)):
            frame = pd.DataFrame({"time [min]": TIMES, "T [K]": T, "A [bar]": LEFT})
            frame.to_excel(book, sheet_name=name, index=False)
    runs = mo.read_experiments(tmp_path / "lab.xlsx", "*")
    assert [r.name for r in runs] == ["cold", "hot"]
    assert runs[1].measured["A"] == pytest.approx(LEFT * 1e5 / (R * 400))
    assert runs[1].gas
    law = mo.Reaction("A -> B", rate="k*p[A]", k=mo.Unknown("1e-3 mol/L/min/bar"))
    assert mo.fit(mo.Chemistry(law), runs)["r1.k"].value > 0
    with pytest.raises(mo.InputError, match="file has sheets"):
        mo.read_experiments(tmp_path / "lab.csv", "*")


def test_outlets_are_grouped_by_their_feed() -> None:
    lines = pd.DataFrame({
        "space time [s]": [20, 5, 10, 10], "feed A [mol/m3]": [1, 1, 2, 2], "T [degC]": 60, "A [mol/m3]": [0.4, 0.7, 1.0, 1.02],
    })  # fmt: skip
    runs = mo.read_experiments(lines, vessel="stirred tank")
    assert [(r.vessel, r.times.tolist(), r.charge) for r in runs] == [
        ("stirred tank", [5.0, 20.0], {"A": 1.0}), ("stirred tank", [10.0, 10.0], {"A": 2.0}),
    ]  # fmt: skip
    assert runs[0].measured["A"].tolist() == [0.7, 0.4]
    (note,) = runs.check().findings
    assert "the standard deviation of replicates is 0.0141 mol/m³ (1 degrees of freedom)" in note.what
    with pytest.raises(mo.InputError, match="a space time is given without a vessel"):
        mo.read_experiments(lines)
    mixed = mo.read_experiments(lines.assign(vessel=["plug flow", "plug flow", "stirred tank", "stirred tank"]))
    assert [r.vessel for r in mixed] == ["plug flow", "stirred tank"]
    with pytest.raises(mo.InputError, match="line 2: 'tank' is not a vessel"):
        mo.read_experiments(lines.assign(vessel="tank"))


def test_a_balance_that_drifts_is_reported() -> None:
    chemistry = mo.Chemistry([mo.Reaction("A -> 2 B", k=0.1), mo.Reaction("B -> C", k=0.1)])
    t = np.linspace(1, 10, 8)
    a = 2 * np.exp(-0.2 * t)
    noise = np.random.default_rng(3).normal(0, 0.005, (3, 8))
    whole = {"A": a + noise[0], "B": 1.0 * (2 - a) + noise[1], "C": 1.0 * (2 - a) + noise[2]}
    sound = mo.Experiments((mo.Experiment("1", t, whole, {"A": 2.0}),))
    assert sound.check(chemistry).findings == ()
    (drift,) = (
        mo.Experiments((mo.Experiment("1", t, {**whole, "C": 0.8 * whole["C"]}, {"A": 2.0}),)).check(chemistry).findings
    )
    assert (drift.level, drift.where) == ("warning", "run 1")
    assert "less than the input" in drift.what
    without_c = mo.Experiments((mo.Experiment("1", t, {"A": 0.5 * a, "B": a}, {"A": 2.0}),))
    assert without_c.check(chemistry).findings == ()  # nothing is kept among these two


# rates


def runs_of_order(
    n: float, fit_initial: tuple[float, ...] = (0.5, 1.0, 2.0), noise: float = 0.0
) -> list[mo.Experiment]:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=0.05, n=n))
    random = np.random.default_rng(6)
    times = np.linspace(1, 20, 20)
    made = []
    for i, start in enumerate(fit_initial):
        a = mo.Batch(chemistry, {"A": start}).run(20.0, points=np.r_[0, times]).concentrations["A"][1:]
        a = np.maximum(a + random.normal(0, noise * start, 20), 0)
        made.append(mo.Experiment(f"{i}", times, {"A": a, "B": start - a}, {"A": start}))
    return made


def test_slopes_are_rates() -> None:
    for method in ("spline", "differences"):
        rates = mo.Rates.from_curves(
            runs_of_order(1.5), "A", method=method, smoothing=1e-9 if method == "spline" else None
        )
        inner = np.tile(np.r_[False, np.ones(18, bool), False], 3)
        exact = 0.05 * rates.concentrations["A"] ** 1.5
        assert rates.rate[inner] == pytest.approx(exact[inner], rel=0.02)
    formed = mo.Rates.from_curves(runs_of_order(1.5), "B")
    assert (formed.rate > 0).all()
    noisy = mo.Rates.from_curves(runs_of_order(1.0, noise=0.01), "A")
    raw = mo.Rates.from_curves(runs_of_order(1.0, noise=0.01), "A", method="differences")
    true = 0.05 * raw.concentrations["A"]
    assert np.std(noisy.rate - true) < 0.5 * np.std(raw.rate - true)  # smoothing pays
    assert "smoothing" in str(noisy)


def test_initial_rates_and_a_differential_reactor_give_the_order() -> None:
    levels = (0.2, 0.5, 1.0, 2.0, 4.0)
    early = mo.Rates.initial(runs_of_order(1.5, levels), "A", within=0.2)
    assert early.power_law().orders["A"] == pytest.approx(1.5, abs=0.05)
    assert early.concentrations["A"].tolist() == list(levels)
    fed = [mo.Experiment(f"{c}", [0.2], {"A": [c - 0.2 * 0.05 * c**1.5]}, {"A": c}, vessel="plug flow") for c in levels]
    short = mo.Rates.differential(fed, "A")
    assert short.power_law().orders["A"] == pytest.approx(1.5, abs=0.01)
    with pytest.raises(mo.InputError, match="a batch has no outlet"):
        mo.Rates.differential(runs_of_order(1.0), "A")


def test_a_power_law_is_multiple_linear_regression() -> None:
    """Against the normal equations, its numbers with units; activation energy from several temperatures."""
    random = np.random.default_rng(1)
    a, b, T = random.uniform(0.1, 2, 30), random.uniform(0.1, 2, 30), random.uniform(320, 360, 30)
    rate = 0.3 * a**1.4 * b**-0.5 * np.exp(-60e3 / R * (1 / T - 1 / 340)) * np.exp(random.normal(0, 0.05, 30))
    frame = pd.DataFrame({"rate [mol/L/min]": rate, "A [mol/L]": a, "B [mol/L]": b, "T [K]": T})
    law = mo.read_rates(frame).power_law()
    matrix = np.array([np.ones(30), np.log(a), np.log(b), -(1 / T - np.mean(1 / T)) / R]).T
    values, squares, *_ = np.linalg.lstsq(matrix, np.log(rate), rcond=None)
    assert law.values == pytest.approx(values, rel=1e-8)
    errors = np.sqrt(np.diag(np.linalg.inv(matrix.T @ matrix)) * squares / 26)
    assert law.errors == pytest.approx(errors, rel=1e-6)
    low, high = law.interval("A")
    assert low < 1.4 < high
    assert law.interval("Ea")[0] < 60e3 < law.interval("Ea")[1]
    assert law.table()["unit"].tolist() == [law.k_unit, "", "", "kJ/mol"]
    assert law.k_unit.startswith("mol/L/min / (mol/L)^0.9")
    assert "order in B" in str(law)
    assert law.significance < 1e-10
    with pytest.raises(mo.InputError, match="A and C vary together"):
        mo.read_rates(frame.assign(**{"C [mol/L]": 2 * a})).power_law()
    with pytest.raises(mo.InputError, match="did you mean 'A'"):
        mo.read_rates(frame).power_law("a")


def test_any_rate_law_is_fitted_to_rates_per_catalyst_mass() -> None:
    p = np.array([0.2, 0.5, 1.0, 2.0, 4.0])
    frame = pd.DataFrame({"rate [mol/kg/h]": 3 * p / (1 + 0.8 * p), "A [bar]": p, "T [degC]": 200})
    law = mo.Reaction(
        "A -> B",
        rate="k*p[A]/(1 + K*p[A])",
        basis="catalyst mass",
        k=mo.Unknown("1 mol/kg/h/bar"),
        K=mo.Unknown("0.1 1/bar"),
    )
    found = mo.fit(mo.Chemistry(law), mo.read_rates(frame))
    assert found["r1.k"].shown()[0] == pytest.approx(3, rel=1e-9)
    assert found["r1.K"].shown()[0] == pytest.approx(0.8, rel=1e-9)
    by_volume = mo.Reaction("A -> B", rate="k*p[A]", k=mo.Unknown("1 mol/L/h/bar"))
    with pytest.raises(mo.InputError, match="the data contain a rate per catalyst mass, the rate laws a rate"):
        mo.fit(mo.Chemistry(by_volume), mo.read_rates(frame))
    twice = mo.Chemistry(
        [mo.Reaction("A -> B", name="1", k=mo.Unknown("1 1/h")), mo.Reaction("B -> C", name="2", k="2 1/h")]
    )
    flow = pd.DataFrame({"rate of B [mol/L/h]": [3.0, 1.0, -2.0], "A [mol/L]": [1, 1, 1], "B [mol/L]": [0, 1, 2.5]})
    assert mo.fit(twice, mo.read_rates(flow))["1.k"].shown()[0] == pytest.approx(3, rel=1e-9)
    with pytest.raises(mo.InputError, match=r"needs \[B\], which the data do not have"):
        mo.fit(twice, mo.read_rates(flow.drop(columns="B [mol/L]")))
    with pytest.raises(mo.InputError, match="2 reactions for a single rate"):
        mo.fit(twice, mo.read_rates(flow.rename(columns={"rate of B [mol/L/h]": "rate [mol/L/h]"})))
    with pytest.raises(mo.InputError, match="rates have neither starts"):
        mo.fit(mo.Chemistry(law), mo.read_rates(frame), delay=True)


@pytest.mark.parametrize("kind", ["slopes", "power_law", "residuals", "fit"])
def test_figures_of_rates(kind: str) -> None:
    rates = mo.Rates.from_curves(runs_of_order(1.0, noise=0.01), "A")
    law = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=mo.Unknown(0.1), n=mo.Unknown(1)))
    given = {"slopes": lambda: rates, "power_law": lambda: rates.power_law("A")}.get(kind, lambda: mo.fit(law, rates))()
    figure = getattr(mo.figures, kind)(given)
    assert isinstance(figure, matplotlib.figure.Figure)
    shown = [axes for axes in figure.axes if axes.get_visible()]
    assert all(axes.lines for axes in shown)
    if kind == "power_law":
        x, y = shown[1].lines[0].get_data()
        slope = np.diff(np.log(np.asarray(y, float))) / np.diff(np.log(np.asarray(x, float)))
        assert slope[0] == pytest.approx(rates.power_law("A").orders["A"])


WRONG_RATES: list[tuple[dict[str, Any], str]] = [
    ({"rate": [1.0, 2.0]}, "3 values for 2 rates"),
    ({"concentrations": {}}, "there is no concentration"),
    ({"concentrations": {"A": [1.0, -2.0, 1.0]}}, r"negative concentration -2 mol/m\^3"),
    ({"concentrations": {"A": [1.0, np.nan, 1.0]}}, "a value is missing"),
    ({"T": np.array([300.0])}, "1 values for 3 rates"),
    ({"kind": "rate per area of wall"}, "did you mean 'rate per area'"),
]


@pytest.mark.parametrize(("change", "what"), WRONG_RATES)
def test_wrong_rates(change: dict[str, Any], what: str) -> None:
    sound = {"rate": [1.0, 2.0, 3.0], "concentrations": {"A": [1.0, 2.0, 3.0]}}
    with pytest.raises(mo.InputError, match=what):
        mo.Rates(**{**sound, **change})


WRONG_TABLES: list[tuple[dict[str, Any], str]] = [
    ({"A [mol/L]": [1, 2]}, "no rate column"),
    ({"rate [mol/L/s]": [1, 2], "rate of A [mol/L/s]": [1, 2], "A [mol/L]": [1, 2]}, "more than one rate column"),
    ({"rate [mol/L]": [1, 2], "A [mol/L]": [1, 2]}, r"column 'rate \[mol/L\]': 'mol/L' is not a unit of rate"),
    ({"rate [mol/L/s]": [1, 2]}, "no column of measured concentrations"),
    ({"rate [mol/L/s]": [1, 2], "A [bar]": [1, 2]}, "a partial pressure needs a temperature"),
    ({"rate [mol/L/s]": ["", ""], "A [mol/L]": [1, 2]}, "no line is complete"),
    ({"rate [mol/L/s]": [1, 2], "A [mol/L]": [1, -2]}, "line 3, column 'A .mol/L.': -2 is a negative concentration"),
]


@pytest.mark.parametrize(("columns", "what"), WRONG_TABLES)
def test_wrong_tables_of_rates(columns: dict[str, Any], what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        mo.read_rates(pd.DataFrame(columns))


def test_too_little_for_a_slope_is_reported_for_every_run() -> None:
    few = [mo.Experiment(n, [1.0, 2.0], {"A": [0.9, 0.8]}, {"A": 1.0}) for n in ("a", "b")]
    for make, needed in ((mo.Rates.from_curves, 5), (lambda r, s: mo.Rates.from_curves(r, s, "differences"), 3)):
        with pytest.raises(mo.InputError) as error:
            make(few, "A")
        assert str(error.value).count(f"at least {needed} are needed") == 2
    assert mo.Rates.initial(few, "A", within=0.5).rate == pytest.approx([0.1, 0.1])  # the charge counts as a sample
    with pytest.raises(mo.InputError, match="'Q' was not measured"):
        mo.Rates.initial(few, "Q")
    with pytest.raises(mo.InputError, match="did you mean 'spline'"):
        mo.Rates.from_curves(few, "A", "splines")


@pytest.mark.parametrize("text", [
    "time (min);A (mol/L)\n0,0;1,0\n5,5;0,6\n10,0;0,4\n20,5;0,1\n30,0;0,05\n",
    "time (min)\tA (mol/L)\n0,0\t1,0\n5,5\t0,6\n10,0\t0,4\n20,5\t0,1\n30,0\t0,05\n",
    "time (min),A (mol/L)\n0.0,1.0\n5.5,0.6\n10.0,0.4\n20.5,0.1\n30.0,0.05\n",
    "made; by; hand\ntime (min),A (mol/L)\n0.0,1.0\n5.5,0.6\n10.0,0.4\n20.5,0.1\n30.0,0.05\n",
])  # fmt: skip
def test_commas_between_numbers_and_in_them_are_told_apart(tmp_path: Path, text: str) -> None:
    (tmp_path / "series.csv").write_text(text)
    (run,) = mo.read_experiments(tmp_path / "series.csv")
    assert run.times / 60 == pytest.approx([0, 5.5, 10, 20.5, 30])
    assert run.measured["A"] / 1e3 == pytest.approx([1, 0.6, 0.4, 0.1, 0.05])
