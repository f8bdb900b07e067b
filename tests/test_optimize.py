"""Optima against closed forms, what holds them, and how they are asked for in Python, in jobs and on the command line."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.optimize import brentq

import molino as mo
from conftest import Typed
from molino.core.design.optimize.problem import Question
from molino.core.fitting.fit_result import Fit
from molino.core.unit_tables import GAS_CONSTANT
from molino.desk import figures
from molino.desk.job.load import Job

K1, K2, FLOW, C0 = 0.2 / 60, 0.1 / 60, 1e-3 / 60, 1000.0
SERIES = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
SEEDED = mo.Feed({"A": "0.99 mol/L", "B": "0.01 mol/L"}, flow="1 L/min")
GROWTH = mo.Chemistry(mo.Reaction("A + B -> 2 B", k="1 L/mol/min"))
A1, E1, A2, E2 = 5e5, 50e3, 5e10, 90e3
EXOTHERMIC = mo.Chemistry([
    mo.Reaction("A -> B", k=mo.Arrhenius(A=A1, Ea=E1)), mo.Reaction("B -> A", k=mo.Arrhenius(A=A2, Ea=E2)),
])  # fmt: skip
VOLUME = ("0.1 L", "60 L")


def tank(chem: mo.Chemistry, name: str = "", feed: mo.Feed = FEED, **more: Any) -> mo.StirredTank:
    return mo.StirredTank(chem, feed, volume="5 L", name=name, **more)


def tube(chem: mo.Chemistry, name: str = "", feed: mo.Feed = FEED, **more: Any) -> mo.PlugFlow:
    return mo.PlugFlow(chem, feed, volume="5 L", name=name, **more)


def hot(T: float) -> tuple[float, float]:
    """Both constants of the exothermic chemistry at a temperature."""
    return A1 * math.exp(-E1 / GAS_CONSTANT / T), A2 * math.exp(-E2 / GAS_CONSTANT / T)


def best_T_of_tube() -> float:
    """Where X = k1/(k1 + k2) (1 - exp(-(k1 + k2) t)) is stationary."""

    def conversion(T: float) -> float:
        k, back = hot(T)
        return k / (k + back) * -math.expm1(-(k + back) * 300.0)

    return brentq(lambda T: conversion(T + 1e-3) - conversion(T - 1e-3), 300.0, 500.0, xtol=1e-9)


def growth_recycle(x: float) -> tuple[float, float]:
    """Recycle and volume of the smallest tube with recycle that brings A to a fraction x: dV/dR = 0."""
    a0, b0 = 990.0, 10.0
    k, last = 1e-3 / 60, 990.0 * (1 - x)

    def volume(R: float) -> float:
        first = (a0 + R * last) / (1 + R)
        return (1 + R) * FLOW * quad(lambda a: 1 / (k * a * (a0 + b0 - a)), last, first, epsabs=0, epsrel=1e-12)[0]

    R = brentq(lambda R: volume(R + 1e-4) - volume(R - 1e-4), 1e-2, 3.0, xtol=1e-10)
    return R, volume(R)


V_OF_COST = FLOW / K1 * (math.sqrt(100 * K1 / (2000 * FLOW)) - 1)
PROBLEMS: dict[str, tuple[Callable[[], Any], dict[str, Any], dict[str, float]]] = {
    "series, batch": (
        lambda: mo.Batch(SERIES, {"A": C0}, T="300 K", time="3 min"),
        {"maximize": "concentration of B", "free": {"time": ("1 min", "60 min")}},
        {"time": math.log(K1 / K2) / (K1 - K2)},
    ),
    "series, tube": (
        lambda: tube(SERIES), {"maximize": "yield of B on A", "free": {"volume": VOLUME}},
        {"volume": FLOW * math.log(K1 / K2) / (K1 - K2)},
    ),
    "series, tank": (
        lambda: tank(SERIES), {"maximize": "yield of B on A", "free": {"volume": VOLUME}},
        {"volume": FLOW / math.sqrt(K1 * K2)},
    ),
    "equal tanks": (
        lambda: mo.Train([tank(FIRST, n).with_(volume=f"{v} L") for n, v in (("a", 1), ("b", 7), ("c", 2))]),
        {"maximize": "conversion of A", "free": {f"{n}.volume": VOLUME for n in "abc"}, "subject_to": ["volume = 12 L"]},
        {f"{n}.volume": 4e-3 for n in "abc"},
    ),
    "fastest growth": (
        lambda: tank(GROWTH, feed=SEEDED), {"maximize": "production of B per volume", "free": {"volume": VOLUME}},
        {"volume": FLOW * (990.0 - 500.0) / (1e-3 / 60 * 500.0**2)},
    ),
    "growth with recycle": (
        lambda: mo.Train([tube(GROWTH, "tube", SEEDED)], recycle=1.0),
        {"minimize": "volume", "free": {"recycle": (0.05, 3.0), "tube.volume": VOLUME},
         "subject_to": ["conversion of A >= 0.9"]},
        dict(zip(("recycle", "tube.volume"), growth_recycle(0.9), strict=True)),
    ),
    "reversible exothermic tank": (
        lambda: tank(EXOTHERMIC, T="350 K"), {"maximize": "conversion of A", "free": {"T": ("310 K", "450 K")}},
        {"T": E2 / GAS_CONSTANT / math.log(A2 * 300.0 * (E2 - E1) / E1)},
    ),
    "reversible exothermic tube": (
        lambda: tube(EXOTHERMIC, T="350 K"), {"maximize": "conversion of A", "free": {"T": ("310 K", "450 K")}},
        {"T": best_T_of_tube()},
    ),
    "cost": (
        lambda: tank(FIRST),
        {"minimize": "2000 [1/m3]*volume - 100*conversion of A", "free": {"volume": VOLUME}}, {"volume": V_OF_COST},
    ),
    "least volume": (
        lambda: tube(FIRST),
        {"minimize": "volume", "free": {"volume": VOLUME}, "subject_to": ["conversion of A >= 0.9"]},
        {"volume": FLOW / K1 * math.log(10)},
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", PROBLEMS)
def test_optima_meet_their_closed_form(name: str) -> None:
    make, question, exact = PROBLEMS[name]
    found = mo.optimize(make(), **question, n_starts=1)
    assert {n.name: n.value for n in found.free} == pytest.approx(exact, rel=1e-6)
    assert found.first_order < 1e-6
    assert found.integrations <= 30


def test_what_holds_an_optimum_says_what_it_is_worth() -> None:
    held = mo.optimize(tube(FIRST), minimize="volume", free={"volume": VOLUME}, subject_to=["conversion of A >= 0.9"])
    assert [h.text for h in held.active_limits] == ["conversion of A >= 0.9"]
    assert held.active_limits[0].worth == pytest.approx(1e3 * FLOW / K1 / 0.1, rel=1e-6)  # dV/dX in L
    bound = mo.optimize(tube(SERIES), maximize="yield of B on A", free={"volume": ("1 L", "4 L")})
    assert bound.active_limits[0].text == "volume at its upper bound 4 L"
    moved = [
        mo.optimize(tube(SERIES), maximize="yield of B on A", free={"volume": ("1 L", f"{v} L")}).value
        for v in (4.01, 3.99)
    ]
    assert bound.active_limits[0].worth == pytest.approx((moved[0] - moved[1]) / 0.02, rel=1e-4)
    with pytest.raises(mo.NotFoundError, match=r"no point .* meets conversion of A >= 0.9 \(it reaches 0.55067\)"):
        mo.optimize(
            tube(FIRST), minimize="volume", free={"volume": ("1 L", "4 L")}, subject_to=["conversion of A >= 0.9"]
        )


def test_a_limit_everywhere_is_held_at_the_highest_place() -> None:
    chem = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="1e9 1/min", Ea="70 kJ/mol"), enthalpy="-80 kJ/mol"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K", heat_capacity="4 MJ/m3/K")
    adiabatic = mo.PlugFlow(chem, feed, volume="400 L", heat="adiabatic")
    limit = ["temperature everywhere <= 345 K"]
    found = mo.optimize(adiabatic, maximize="conversion of A", free={"feed T": ("310 K", "340 K")}, subject_to=limit)
    assert found.run.metric("temperature") == pytest.approx(345.0, abs=1e-6)
    cooled = mo.PlugFlow(chem, feed, volume="400 L", heat=mo.Jacket(T="320 K", UA="4 W/K"))
    best = mo.optimize(cooled, maximize="conversion of A", free={"feed T": ("310 K", "360 K")}, subject_to=limit)
    assert max(best.run.max_temperature.number, best.run.series["temperature"].max()) == pytest.approx(345.0, abs=1e-5)
    assert best.run.metric("temperature") < 344.9  # the peak lies inside
    by_hand = brentq(
        lambda T: cooled.with_({"feed T": T}).run().max_temperature.to("K") - 345.0, 310.0, 345.0, xtol=1e-8
    )
    assert best.free[0].value == pytest.approx(by_hand, abs=1e-4)


def test_whole_numbers_and_several_optima(fitted: Fit, job: Job) -> None:
    coil = job.with_chemistry(fitted.chemistry)["coil"]
    question: dict[str, Any] = {"minimize": "40*volume - 3.1*mass flow of furfural"}
    found = mo.optimize(coil, **question, free={"tubes": (1, 12), "T": ("150 degC", "170 degC")})
    values = [
        mo.optimize(coil.with_(tubes=n), **question, free={"T": ("150 degC", "170 degC")}).value for n in range(1, 13)
    ]
    assert found.free[0].value == 1 + int(np.argmin(values))
    assert found.value == pytest.approx(min(values), rel=1e-9)
    assert "the metrics are volume in m³, mass flow of furfural in kg/s" in str(found)
    batch = mo.Batch(SERIES, {"A": C0}, T="300 K", time="3 min")
    both = mo.optimize(
        batch, maximize="(concentration of B - 200 [mol/m3])^2", free={"time": ("6 s", "60 min")}, n_starts=6
    )
    assert both.free[0].value == pytest.approx(math.log(K1 / K2) / (K1 - K2), rel=1e-6)
    assert any("time = 0.1 min" in where or "time = 6 s" in where for _, where in both.others)
    assert "another optimum" in both.facts()


@pytest.mark.parametrize(
    ("given", "bounds", "unit"),
    [
        ("1 mol/L", ("0.2 mol/L", "3 mol/L"), 1000.0),
        ("1 per A", ("0.2 per A", "3 per A"), 1.0),
        (1000.0, (200.0, 3000.0), 1000.0),
    ],
)
def test_what_is_fed_is_free_in_the_form_it_is_given(given: Any, bounds: Any, unit: float) -> None:
    """A ratio or a fraction is never taken for a concentration: all forms lead to one feed."""
    chem = mo.Chemistry(mo.Reaction("A + B -> C", k="2 L/mol/min"))
    both = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L", "B": given}, flow="1 L/min"), volume="5 L", T="300 K")
    found = mo.optimize(both, minimize="(conversion of A - 0.95)^2", free={"[B]": bounds}, n_starts=1)
    b = brentq(lambda b: b - 1 - math.log((b - 0.95) / (b * 0.05)) / 10.0, 1.01, 2.0)
    assert found.free[0].value == pytest.approx(b * unit, rel=1e-5)
    assert found.vessel.run().conversion("A") == pytest.approx(0.95, abs=1e-6)  # type: ignore[call-arg,union-attr]


def test_fractions_are_drawn_as_fractions() -> None:
    gas = mo.Feed({"A": "60 mol%", "B": "rest"}, flow="1 mol/s", T="500 K", P="2 bar")
    tube = mo.PlugFlow(FIRST, gas, volume="50 L", T="500 K")
    free = mo.optimize(tube, maximize="molar flow of B", free={"[A]": ("20 mol%", "80 mol%")}, n_starts=1)
    assert free.run.metric("molar flow of B") == pytest.approx(
        tube.with_({"[A]": "20 mol%"}).run().metric("molar flow of B")
    )
    hot = tube.with_(T=None, heat=mo.Profile([("0 L", "500 K"), ("50 L", "510 K")]))  # one that runs whole
    assert mo.evaluator(hot, ["[A]"], ["molar flow of B"])(0.2)[0] == pytest.approx(
        hot.with_({"[A]": "20 mol%"}).run().metric("molar flow of B")
    )
    spread = mo.spread_sources(tube, "molar flow of B", spread={"[A]": "5 mol%"})
    slope = tube.run().sensitivity("molar flow of B", ["[A]"])["[A]"]
    assert spread.standard_deviation == pytest.approx(abs(slope) * 0.05, rel=0.02)
    with pytest.raises(mo.InputError, match="not in the form in which"):
        mo.spread_sources(tube, "molar flow of B", spread={"[A]": "1 mol/m3"})


WRONG = {
    "nothing best": ({"free": {"volume": VOLUME}}, "no objective is given"),
    "no metric": ({"maximize": "3*4", "free": {"volume": VOLUME}}, "there is no metric in"),
    "bounds": ({"maximize": "conversion of A", "free": {"volume": ("3 L", "1 L")}}, "3 L is not below 1 L"),
    "no setting": ({"maximize": "conversion of A", "free": {"volum": VOLUME}}, "did you mean 'volume'"),
    "dimensions": ({"maximize": "2 [1/kg]*volume + conversion of A", "free": {"volume": VOLUME}}, "of different dimensions"),
    "limit": ({"maximize": "conversion of A", "free": {"volume": VOLUME}, "subject_to": ["volume < 3 L"]}, "is not a limit"),
    "limit's unit": ({"maximize": "conversion of A", "free": {"volume": VOLUME}, "subject_to": ["volume <= 3 kg"]}, "kg is a unit of mass"),
    "two sizes": ({"maximize": "conversion of A", "free": {"volume": VOLUME, "space_time": ("1 min", "9 min")}}, "each specify its size"),
    "everywhere": ({"maximize": "conversion of A", "free": {"volume": VOLUME}, "subject_to": ["2*conversion of A everywhere <= 1"]}, "not a single metric"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_question_is_refused_in_words(name: str) -> None:
    question, what = WRONG[name]
    with pytest.raises(mo.InputError, match=what):
        mo.optimize(tube(FIRST), **question)


def test_a_job_is_optimized_and_drawn(molino: Typed, folder: Path) -> None:
    path = folder / "valdeoro.toml"
    text = path.read_text(encoding="utf-8") + (
        '\n[optimize.best]\nvessel = "coil"\nmaximize = "yield of furfural on xylose"\n'
        'free = { T = [150, 185], length = [10, 400] }\nsubject_to = ["conversion of xylose >= 0.9"]\n'
    )
    path.write_text(text, encoding="utf-8")
    assert "optimize best" in molino("check", path).stdout
    shown = molino("optimize", path)
    assert "T at its upper bound 185 °C: relaxing it by 1 °C gains" in " ".join(shown.stdout.split())
    content = json.loads((folder / "results" / "valdeoro" / "optimize.json").read_text(encoding="utf-8"))["optima"][
        "best"
    ]
    assert content["free"]["T"] == {"value": pytest.approx(185.0), "low": 150.0, "high": 185.0, "unit": "degC"}
    assert content["first_order"] < 1e-6
    assert (folder / "results" / "valdeoro" / "optimize-best.png").is_file()
    path.write_text(text.replace("conversion of xylose >= 0.9", "conversion of xylos > 0.9"), encoding="utf-8")
    assert "is not a limit" in molino("check", path).stderr


def test_the_surroundings_show_the_limits() -> None:
    found = mo.optimize(
        tube(SERIES), maximize="yield of B on A", free={"volume": VOLUME}, subject_to=["conversion of A >= 0.9"]
    )
    around = found.surroundings(21)
    assert np.nanmax(np.where(around.left[0] >= -1e-6, around.values[0], np.nan)) == pytest.approx(
        found.value, rel=1e-9
    )
    figure = figures.optimum(found)
    assert "active: conversion of A >= 0.9" in figure.get_suptitle()


@pytest.mark.parametrize("recycle", [0.0, 0.5])
def test_steps_of_a_train_are_numbers_like_any_other(recycle: float) -> None:
    """An exchanger, a side feed and a split: exact slopes against differences, and an optimum against a fine sweep."""
    chemistry = mo.Chemistry(
        [mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="340 K", Ea="60 kJ/mol"), enthalpy="-40 kJ/mol", name="r"),
         mo.Reaction("B -> C", k=mo.Arrhenius(k="0.05 1/min", at="340 K", Ea="80 kJ/mol"), enthalpy="-30 kJ/mol", name="s")]
    )  # fmt: skip
    feed, side = (mo.Feed({"A": c}, flow=f"{q} L/min", T=f"{T} K", heat_capacity="4 MJ/m3/K")
                  for c, q, T in (("2 mol/L", 10, 330), ("1 mol/L", 3, 310)))  # fmt: skip
    given: dict[str, Any] = {"heat": "adiabatic"}
    tube, small = (
        mo.PlugFlow(chemistry, feed, volume=f"{v} L", name=n, **given) for v, n in ((30, "tube"), (10, "small"))
    )
    tank = mo.StirredTank(chemistry, feed, volume="20 L", name="tank", **given)
    pair = mo.Parallel([tank, small], [0.6, 0.4], name="pair")
    for exchanger in (mo.Exchanger("335 K"), mo.Exchanger(duty="5 kW", name="heater")):
        train = mo.Train([tube, exchanger, mo.SideFeed(side), pair], recycle=recycle)
        names = [f"{exchanger.label}.{'T' if exchanger.T is not None else 'duty'}", "side feed.flow", "side feed.T",
                 "side feed.share", "pair.share"]  # fmt: skip
        for metric in ("yield of B on A", "duty", "temperature") if recycle else ("conversion of A", "volumetric flow"):
            exact = train.run().sensitivity(metric, names)
            for name in names:
                own = train.spec.condition(name).own
                ends = [train.with_({name: own * (1 + away)}).run().metric(metric) for away in (1e-4, -1e-4)]
                scale = abs(train.run().metric(metric) / own)
                assert exact[name] == pytest.approx((ends[0] - ends[1]) / (2e-4 * own), rel=1e-4, abs=1e-6 * scale)
    train = train.with_(recycle=0.0)
    free = {"heater.duty": ("-60 kW", "20 kW"), "pair.share": (0.05, 0.95)}
    best = mo.optimize(train, maximize="yield of B on A", free=free, n_starts=1)
    assert best.first_order < 1e-5
    grid = {"heater.duty": mo.span("-60 kW", "20 kW", 5), "pair.share": mo.span(0.05, 0.95, 5)}
    assert best.value >= np.nanmax(mo.sweep(train, grid, ["yield of B on A"]).numbers) - 1e-9
    with pytest.raises(mo.InputError, match="between 0 and 1"):
        train.with_({"pair.share": 1.2})


def test_one_mistake_in_a_job_is_one_fault_with_its_place_once(molino: Typed, folder: Path) -> None:
    """A limit that cannot be read is not also a missing one, and the task is named only in the table."""
    path = folder / "valdeoro.toml"
    text = path.read_text(encoding="utf-8")
    path.write_text(text.replace('subject_to = ["conversion of xylose >= 0.9"]', 'subject_to = ["conversion > 1"]', 2))
    found = json.loads(molino("check", path, "--json").stdout)["errors"]
    assert {fault["what"] for fault in found} == {"'conversion > 1' is not a limit"}
    (places,) = {fault["where"] for fault in found}
    assert "[optimize.furfural], subject_to" in places
    assert "optimize, subject_to" not in places
    for given, word in ({}, "no objective is given"), (
        {"maximize": "conversion of A", "minimize": "volume"}, "two objectives are given"
    ):  # fmt: skip
        with pytest.raises(mo.InputError) as error:
            mo.optimize(tube(FIRST), free={"volume": VOLUME}, **given)
        assert [fault.what for fault in error.value.faults] == [word]


def test_an_answer_names_the_bounds_that_an_optimum_is_at() -> None:
    best = mo.optimize(tube(FIRST), maximize="conversion of A", free={"volume": VOLUME})
    question, answer = best.answer()
    assert question.startswith("What is the highest conversion of A of")
    assert answer.endswith("(upper bound).")
    inside = mo.optimize(tube(SERIES), maximize="yield of B on A", free={"volume": VOLUME})
    assert "bound" not in inside.answer()[1]


def test_the_search_by_an_evaluator_ends_where_that_by_runs_does(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of a tube and of a tank, with a limit; the answer of both has its run, and counts what was computed."""
    law = [mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.05 1/min")]
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    for vessel in (mo.PlugFlow, mo.StirredTank):
        asked = {
            "maximize": "yield of B on A",
            "free": {"volume": ("1 L", "80 L"), "flow": ("0.5 L/min", "2 L/min")},
            "subject_to": ["conversion of A <= 0.7"],
        }
        plant = vessel(mo.Chemistry(law), feed, volume="5 L")
        quick = mo.optimize(plant, **asked)
        with monkeypatch.context() as patch:
            patch.setattr(Question, "evaluator", None)
            slow = mo.optimize(plant, **asked)
        assert quick.value == pytest.approx(slow.value, rel=1e-7)
        assert quick.run.conversion("A") == pytest.approx(slow.run.conversion("A"), rel=1e-5)
        assert quick.first_order < 1e-6
        assert "integrations" in str(quick)


def test_a_molar_flow_stays_one_where_a_vessel_is_run_again() -> None:
    """An evaluator of a tube with a counter-current coolant, which needs whole runs, takes mol/s for a flow in mol/min."""
    law = mo.Reaction("A -> B", rate="k*[A]", k="0.5 1/s", enthalpy="-30 kJ/mol")
    species = [mo.Species(s, "N2", heat_capacity="40 J/mol/K") for s in "AB"]
    feed = mo.Feed({"A": "100 mol%"}, flow="20 mol/min", T="400 K", P="2 bar")
    jacket = mo.Jacket("380 K", UA="5 W/K", flow="10 W/K", counter_current=True)
    tube = mo.PlugFlow(mo.Chemistry(law, species=species), feed, volume="20 L", heat=jacket)
    held = mo.evaluator(tube, ["flow"], ["conversion of A"])
    for flow in (15.0, 20.0, 30.0):
        wanted = tube.with_(feed=feed.with_(flow=f"{flow} mol/min")).run().conversion("A")
        assert held(flow / 60)[0] == pytest.approx(wanted, rel=1e-8)
