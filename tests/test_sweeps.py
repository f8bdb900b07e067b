"""Sweeps: grids and lists of conditions of every vessel and of trains, what cannot be computed, tables and figures."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import molino as mo
from conftest import Typed

SPECIES = [mo.Species(s, "C2H6O", heat_capacity="110 J/mol/K") for s in ("A", "B", "C")]
CHEMISTRY = mo.Chemistry(
    [
        mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol"), name="one", enthalpy="-20 kJ/mol"),
        mo.Reaction("B -> C", k="0.03 1/min", name="two", enthalpy="-5 kJ/mol"),
    ],
    species=SPECIES,
)  # fmt: skip
FEED = mo.Feed({"A": "2 mol/L", "B": "0.1 mol/L"}, flow="1 L/min", T="350 K")
BED = mo.Catalyst(bulk_density="800 kg/m3")
TUBE = mo.PlugFlow(
    CHEMISTRY, FEED, diameter="30 mm", length="7 m", tubes=2, name="tube", catalyst=BED, heat="adiabatic"
)
TANK = mo.StirredTank(CHEMISTRY, FEED, volume="4 L", name="tank", T="350 K")
BATCH = mo.Batch(CHEMISTRY, FEED, volume="3 L", time="8 min", heat="adiabatic")
LINE = mo.Train([TANK, TUBE.with_(catalyst=None)], recycle=0.4)
OPEN = ["molar flow", "molar flow of B", "mass flow", "mass flow of B", "mass fraction of B", "production of B", "duty",
        "production of B per volume", "volumetric flow", "volume", "fraction of B", "temperature"]  # fmt: skip
CLOSED = [
    "amount",
    "amount of B",
    "mass",
    "mass fraction of B",
    "production of B",
    "production of B per volume",
    "heat",
]
GRIDS: dict[str, tuple[Any, dict[str, Any], list[str]]] = {
    "tube": (TUBE, {"feed T": mo.span("340 K", "80 degC", 2), "tubes": [2, 3], "[B]": ["0.1 mol/L", "0 mol/L"]},
             [*OPEN, "catalyst mass", "production of B per catalyst mass"]),
    "tank": (TANK, {"T": ["70 degC", 350.0], "flow": ["1 L/min"], "one.k": ["0.2 1/min", "12 1/h"]}, OPEN),
    "batch": (BATCH, {"T": mo.span("340 K", "350 K", 2), "[A]": ["1 mol/L", "2 mol/L"], "time": "9 min"}, CLOSED),
    "train": (LINE, {"recycle": [0, 0.4], "tube.length": mo.log_span("1 m", "4 m", 2), "feed T": ["70 degC"],
                     "two.k": ["0.03 1/min", "0.06 1/min"]}, OPEN),
}  # fmt: skip


@pytest.mark.parametrize("name", GRIDS)
def test_a_sweep_gives_what_single_runs_give(name: str) -> None:
    vessel, vary, metrics = GRIDS[name]
    swept = mo.sweep(vessel, vary, metrics)
    assert swept.is_grid
    assert len(swept.table()) == np.prod(swept.shape)
    assert not any(swept.reasons)
    for case, row in enumerate(swept.numbers):
        given = {c.name: c.values[i] for c, i in zip(swept.conditions, swept.places[case], strict=True)}
        run = vessel.with_(given).run()
        assert row == pytest.approx([run.metric(m) for m in metrics], rel=1e-6, abs=1e-12)
    for condition in swept.conditions:
        assert condition.numbers is not None
        assert f"{condition.heading}" in swept.table().columns


@pytest.mark.parametrize("vessel", [TUBE, TANK, BATCH, LINE], ids=lambda v: v.label)
def test_metrics_of_flows_amounts_and_production_follow_from_what_comes_out(vessel: Any) -> None:
    run = vessel.run()
    kg = 0.046068  # C2H6O, IUPAC 2021
    stream = run.stream_out() if vessel is not LINE else None
    per = 1.0 if vessel is not BATCH else run.residence_time_si
    whole, mass = ("amount", "mass") if vessel is BATCH else ("molar flow", "mass flow")
    total = run.metric(whole)
    assert run.metric(mass) == pytest.approx(total * kg, rel=1e-4)
    assert sum(run.metric(f"{whole} of {s}") for s in "ABC") == pytest.approx(total)
    assert sum(run.metric(f"mass fraction of {s}") for s in "ABC") == pytest.approx(1)
    if stream is not None:
        assert run.metric(f"{whole} of B") == pytest.approx(stream.amounts["B"])
    made = {s: run.metric(f"production of {s}") for s in "ABC"}
    assert sum(made.values()) == pytest.approx(0, abs=1e-12 * total)
    fed = 2.1e3 * (3e-3 if vessel is BATCH else 1e-3 / 60)
    assert total == pytest.approx(fed)  # neither reaction changes the number of moles
    assert -made["A"] * per == pytest.approx(run.metric("conversion of A") * fed * 2 / 2.1)
    assert run.metric("production of B per volume") == pytest.approx(made["B"] / run.metric("volume"))
    assert run.metric("volume") == pytest.approx(run.volume_si)
    heat = "heat" if vessel is BATCH else "duty"
    assert run.metric(heat) == pytest.approx(run.duty_si, abs=1e-6)
    other = "duty" if vessel is BATCH else "amount of A"
    with pytest.raises(mo.InputError, match="ask for"):
        run.metric(other)


def test_what_cannot_be_computed_has_a_reason_and_keeps_nothing_back() -> None:
    gas = mo.Chemistry(mo.Reaction("A + B -> C", k="9 L/mol/s", name="r"))
    feed = mo.Feed({"A": "20 mol%", "B": "2 per A", "C": "rest"}, flow="1 mol/s", T="500 K", P="1 bar")
    tube = mo.PlugFlow(gas, feed, volume="5 L")
    swept = mo.sweep(tube, {"[A]": ["10 mol%", "40 mol%", "20 mol%"], "volume": ["5 L", "10 L"]}, ["conversion of A"])
    found = swept.values["conversion of A"]
    assert np.isnan(found[1]).all()
    assert np.isfinite(found[[0, 2]]).all()
    assert [bool(r) for r in swept.reasons] == [False, False, True, True, False, False]
    assert "rest is negative" in swept.table()["reason"][2]
    assert "2 of 6 cases" in swept.facts()["not computed"]
    assert found[2, 0] == pytest.approx(tube.run().conversion("A"))
    cases = [{"[A]": "20 mol%", "[B]": "70 mol%"}, {"[A]": "85 mol%", "[B]": "10 mol%"}]  # valid only together
    listed = mo.sweep(tube, cases, ["conversion of A", "selectivity of C on A"])
    assert listed.shape == (2,)
    assert not any(listed.reasons)
    undefined = mo.sweep(tube, {"[A]": ["0 mol%", "5 mol%"]}, ["selectivity of C on A", "fraction of C"])
    assert "A is not fed" in undefined.reasons[0]
    assert undefined.values["fraction of C"][0] == pytest.approx(1.0)


def test_an_interruption_keeps_what_was_computed() -> None:
    def stop(done: int, of: int) -> None:
        assert of == 3
        if done == 2:
            raise KeyboardInterrupt

    swept = mo.sweep(LINE, {"recycle": [0, 0.2, 0.4]}, ["conversion of A"], progress=stop)
    assert swept.is_stopped
    assert np.isfinite(swept.values["conversion of A"]).tolist() == [True, True, False]
    assert "interrupted" in swept.reasons[2]
    assert json.loads(json.dumps(swept.to_dict()))["interrupted"] is True


def test_the_least_whole_number_of_tubes_and_of_tanks() -> None:
    chemistry = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min", name="r"), mo.Reaction("B -> C", k="0.1 1/min")])
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube = mo.PlugFlow(chemistry, feed, diameter="2 cm", length="1 m", tubes=3)
    liters = math.pi / 4 * 0.02**2 * 1e3  # of one tube
    for metric, target, wanted in (
        ("conversion of A", 0.9, math.log(10) / 0.2 / liters), ("concentration of A", "0.3 mol/L", -math.log(0.3) / 0.2 / liters),
        ("yield of B on A", 0.3, None),
    ):  # fmt: skip
        sized = mo.size(tube.with_(tubes=30), metric, target, free="tubes")
        assert sized.value == sized.vessel.tubes  # type: ignore[union-attr]
        if wanted is not None:
            assert sized.value == math.ceil(wanted)
        less = tube.with_(tubes=int(sized.value) - 1).run().metric(metric)
        assert (less - sized.target) * sized.margin < 0  # type: ignore[operator]
    assert sized.value < 22 < 30  # before the peak of the yield
    tank = mo.StirredTank(chemistry, feed, volume="3 L")
    tanks = mo.size(tank, "conversion of A", 0.95, free="tanks_in_series")
    assert tanks.value == math.ceil(math.log(20) / math.log(1 + 0.2 * 3))  # 1 - X = (1 + k tau)^-n
    assert tanks.margin == pytest.approx(0.05 - (1 + 0.6) ** -tanks.value)
    assert "6 give 0.940395" in str(tanks)
    for vessel, free, message in ((tube, "tubes", "the most is 0.49"), (tank, "tanks_in_series", "the most is 0.42")):
        with pytest.raises(mo.UnreachableError, match=message):
            mo.size(vessel, "yield of B on A", 0.6, free=free)
    with pytest.raises(mo.InputError, match="no size yet"):
        mo.size(tube.with_(length=None), "conversion of A", 0.5, free="tubes")


def test_when_each_quantity_of_a_tank_settles() -> None:
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tank = mo.StirredTank(mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), feed, volume="3 L", contents={})
    run = tank.run("30 min", settling_band=0.05)
    rate = 1 / 3 + 0.2  # of A, per min: flow and reaction; of A + B the flow alone
    assert run.settling_times()["A"].to("min") == pytest.approx(-math.log(0.05) / rate, rel=1e-6)
    assert run.settling_time() == max(run.settling_times().values())
    assert run.to_dict()["settling"]["band"] == 0.05
    assert "settling time of A (5 %)" in run.facts()
    assert tank.run("7 min").facts()["settling time of B (2 %)"] == "not within this run"
    assert tank.run("7 min").settling_times(0.02)["B"] is None


def test_spans_and_their_faults() -> None:
    assert [v.si for v in mo.span("0 degC", "20 degC", 3)] == pytest.approx([273.15, 283.15, 293.15])
    assert mo.span("20 mol%", "40 mol%", 3) == ("20 mol%", "30 mol%", "40 mol%")
    assert mo.log_span(1, 100, 3) == pytest.approx((1, 10, 100))
    for ask, message in (
        (lambda: mo.span("1 L", "3 bar", 3), "different kinds"),
        (lambda: mo.log_span(0, 1, 3), "equal ratios are not possible"),
        (lambda: mo.span("1 L", None, 3), "span, high"),
        (lambda: mo.span("1 L", "2 L", 2.5), "not a number of points"),
        (lambda: mo.sweep(TUBE, {"length": ["1 m"], "volume": ["1 L"]}, ["volume"]), "each specify its size"),
        (lambda: mo.sweep(TUBE, {"tubes": [1.5]}, ["volume"]), "is not a whole number"),
        (lambda: mo.sweep(TUBE, [{"tubes": 1}, {"length": 2}], ["volume"]), "case 1: it has no length"),
        (lambda: mo.sweep(LINE, {"tube.flow": [1]}, ["volume"]), "cannot be varied"),
        (lambda: mo.sweep(None, {"T": [1]}, ["volume"]), "is not a vessel"),  # type: ignore[arg-type]
        (lambda: mo.sweep(TUBE, None, None), "is not a set of conditions"),  # type: ignore[arg-type]
        (lambda: mo.sweep(TUBE, {"tubes": [*range(1, 1000)], "length": [*range(1, 1000)]}, ["volume"]), "combinations"),
    ):
        with pytest.raises(mo.InputError, match=message):
            ask()


def test_figures_of_sweeps_mark_the_operating_point() -> None:
    line = mo.sweep(TUBE, {"feed T": mo.span("340 K", "360 K", 5)}, ["conversion of A", "temperature"])
    first, second = mo.figures.sweep(line).axes
    (star,) = [one for one in first.lines if one.get_marker() == "*"]
    assert (star.get_xdata()[0], star.get_ydata()[0]) == pytest.approx((350, TUBE.run().conversion("A")))  # type: ignore[index]
    assert second.get_ylabel() == "temperature [K]"
    family = mo.sweep(TUBE, {"length": ["7 m", "9 m"], "feed T": mo.span("340 K", "360 K", 3)}, ["conversion of A"])
    axes = mo.figures.sweep(family).axes[0]
    assert axes.get_xlabel() == "feed T [K]"
    assert [text.get_text() for text in axes.get_legend().get_texts()] == ["7 m", "9 m"]  # type: ignore[union-attr]
    conditions = {"length": mo.log_span("1 m", "20 m", 7), "tubes": [1, 2], "feed T": mo.span("340 K", "360 K", 8)}
    plane = mo.figures.sweep(mo.sweep(TUBE, conditions, ["conversion of A"]))
    assert plane.axes[0].get_ylabel() == "length [m]"
    assert plane.axes[0].get_yscale() == "log"
    assert "tubes = 2" in plane.get_suptitle()
    listed = mo.sweep(TUBE, [{"tubes": 1, "length": "3 m"}, {"tubes": 2, "length": "4 m"}], ["conversion of A"])
    assert mo.figures.sweep(listed).axes[0].get_xlabel() == "case"
    with pytest.raises(mo.InputError, match="single case"):
        mo.figures.sweep(mo.sweep(TUBE, {"tubes": 1}, ["conversion of A"]))


@pytest.mark.parametrize("kind", ["fit", "orders", "bed", "start-up", "semi-batch", "train", "tracer", "optimize"])
def test_a_start_runs_as_written(molino: Typed, tmp_path: Path, kind: str) -> None:
    folder = tmp_path / "mine"
    made = molino("new", folder, "--kind", kind)
    assert made.exit_code == 0, made.output
    text = (folder / "job.toml").read_text()
    commands = [
        c
        for c in ("check", "fit", "run", "size", "compare", "sweep", "tracer", "optimize", "recommend")
        if f"molino {c} job.toml" in text
    ]
    for command in commands:
        assert molino(command, folder / "job.toml").exit_code == 0, command
    if kind == "orders":
        assert "verdict: first order" in molino("orders", folder / "series.csv").stdout
    again = molino("new", folder, "--kind", kind)
    assert again.exit_code == 2
    assert (folder / "job.toml").read_text() == text


def test_a_sweep_in_a_job(molino: Typed, folder: Path) -> None:
    job = folder / "valdeoro.toml"
    text = job.read_text()
    more = ('[sweep.ratios]\nvessel = "coil"\nconditions = { "[acid]" = ["0.2 per xylose", "0.4 per xylose"] }\nparquet = true\n'
            'metrics = ["conversion of xylose", "molar flow of furfural"]\n[sweep.cases]\nvessel = "tank"\n'
            'metrics = ["conversion of xylose"]\ncases = [{ T = 165, volume = 4 }, { T = 175, volume = "8000 L" }]\n')  # fmt: skip
    job.write_text(f"{text}\n{more}")
    done = molino("sweep", job)
    assert done.exit_code == 0, done.output
    assert "108 cases, the first 12" in done.stdout
    results = folder / "results" / "valdeoro"
    table = pd.read_csv(results / "sweep-temperature.csv")
    assert list(table.columns) == ["T [degC]", "flow [m3/h]", "conversion of xylose", "yield of furfural on xylose"]
    assert len(table) == 108
    assert pd.read_excel(results / "sweep.xlsx", sheet_name="temperature").shape == table.shape
    ratios = pd.read_parquet(results / "sweep-ratios.parquet")
    assert list(ratios.columns) == [
        "[acid] [mol per mol xylose]",
        "conversion of xylose",
        "molar flow of furfural [kmol/h]",
    ]
    cases = json.loads((results / "sweep.json").read_text())["sweeps"]["cases"]
    assert cases["conditions"]["volume"] == {"unit": "m3", "values": [4.0, 8.0]}
    assert (results / "sweep-temperature.png").stat().st_size > 10_000
    assert "unchanged in" in molino("sweep", job).stdout
    job.write_text(f"{text}\n{more}".replace("points = 36", "points = 0").replace("T = 165", "TT = 165"))
    wrong = molino("check", job)
    assert wrong.exit_code == 2
    assert "[sweep.temperature]" in wrong.stderr
    assert "[sweep.cases]" in wrong.stderr
