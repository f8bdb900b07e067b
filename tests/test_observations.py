"""Fits to whatever was observed of a vessel: values and slopes, tables, jobs, intervals that hold."""

from __future__ import annotations

import importlib.util
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import molino as mo
from molino.core.fitting.regression import prepare

EXAMPLES = Path(__file__).parents[1] / "examples"
HEAT = {"heat_capacity": "3.5 MJ/m3/K"}
A = {"A": "2 mol/L"}
OVER = np.linspace(600, 3 * 3600, 7)
ALONG = np.array([2.0, 5.0, 10.0, 15.0, 20.0])


def scheme(equation: str = "A -> B") -> mo.Chemistry:
    k = mo.Arrhenius(k=mo.Unknown("0.012 1/min"), at="40 degC", Ea=mo.Unknown("75 kJ/mol"))
    return mo.Chemistry(mo.Reaction(equation, name="r", k=k, enthalpy=mo.Unknown("-85 kJ/mol")))


C, GAS = scheme(), scheme("A -> 2 B")
FEED = mo.Feed(A, flow="1 L/min", T="60 degC", **HEAT)
COLD = {"T": "30 degC", "volume": "1 L", "time": "3 h", **HEAT}
PIPE = {"diameter": "50 mm", "length": "20 m"}
DOSES = {"d": mo.Dosing(mo.Feed(A, flow="20 mL/min", T="20 degC"), windows=[("0 min", "50 min")])}
RAMP = [("0 min", "35 degC"), ("60 min", "50 degC"), ("2 h", "50 degC")]
TANK = mo.StirredTank(C, FEED, volume="20 L", contents={"A": 0.0, "B": 0.0})


@dataclass(frozen=True)
class Case:
    vessel: Any
    along: str
    responses: Sequence[str]
    unknowns: dict[str, Any] = field(default_factory=dict)
    places: Any = None
    changes: Sequence[mo.Change] = ()


CASES = {
    "adiabatic batch": Case(mo.Batch(C, A, heat="adiabatic", **COLD), "time", ["temperature"], {}, OVER),
    "calorimeter": Case(mo.Batch(C, A, heat=mo.Jacket(T="35 degC", UA="2 W/K"), **COLD), "time",
                        ["temperature", "heat flow"], {"UA": "1.5 W/K"}, OVER),
    "coolant on a ramp": Case(mo.Batch(C, A, heat=mo.Jacket(T=RAMP, UA="2 W/K"), **COLD), "time",
                              ["temperature", "duty"], {"UA": "1.5 W/K"}, OVER),
    "isothermal calorimeter": Case(mo.Batch(C, A, **COLD), "time", ["heat flow", "conversion of A"],
                                   {"[A]": "1.9 mol/L"}, OVER),
    "gas taken up": Case(mo.Batch(GAS, {"A": "1 bar"}, T="60 degC", volume="1 L", constant_volume=False),
                         "time", ["volume", "fraction of B"], {}, OVER),
    "closed gas": Case(mo.Batch(GAS, {"A": "1 bar"}, T="60 degC"), "time", ["pressure"], {}, OVER),
    "dosed until it overflows": Case(
        mo.SemiBatch(C, {"B": "0.1 mol/L"}, T="40 degC", volume="1 L", doses=DOSES, capacity="1.8 L", time="3 h",
                     heat=mo.Jacket(T="40 degC", UA="2 W/K"), **HEAT),
        "time", ["temperature", "A", "volume"], {"coolant T": "41 degC"}, OVER),
    "start of a tank": Case(TANK, "time", ["A", "B"], {"flow": "1.1 L/min"}, OVER),
    "steps of a tank": Case(
        mo.StirredTank(C, FEED, volume="20 L"), "time", ["A", "temperature", "flow"], {"feed T": "61 degC"}, OVER,
        [mo.Change("[A]", "1 mol/L", at="30 min"), mo.Change("flow", "2 L/min", at="80 min", over="20 min")]),
    "tank at rest": Case(mo.StirredTank(C, FEED, volume="20 L", heat=mo.Jacket(T="60 degC", UA="20 W/K")), "",
                         ["temperature", "A", "heat flow"], {"UA": "18 W/K"}),
    "tanks of sizes": Case(mo.StirredTank(C, FEED, T="60 degC"), "space_time", ["A"], {"[A]": "1.9 mol/L"},
                           np.array([600.0, 1200.0, 2000.0, 3000.0, 5000.0])),
    "adiabatic tube": Case(mo.PlugFlow(C, FEED, heat="adiabatic", **PIPE), "length",
                           ["temperature", "conversion of A"], {"feed T": "61 degC"}, ALONG),
    "tube of unknown width": Case(mo.PlugFlow(C, FEED, T="60 degC", **PIPE), "length", ["conversion of A"],
                                  {"diameter": "45 mm"}, ALONG),
    "end of a tube": Case(mo.PlugFlow(C, FEED, T="60 degC", **PIPE), "", ["conversion of A", "duty"],
                          {"length": "18 m"}),
    "counter-current coolant": Case(
        mo.PlugFlow(C, FEED, heat=mo.Jacket(T="50 degC", U="100 W/m2/K", flow="60 W/K", counter_current=True), **PIPE),
        "length", ["temperature", "coolant temperature"], {"U": "90 W/m2/K"}, ALONG),
    "tube under a profile": Case(mo.PlugFlow(C, FEED, heat=mo.Profile([("0 m", "40 degC"), ("10 m", "80 degC")]),
                                             **PIPE), "length", ["A"], {"[A]": "1.9 mol/L"}, ALONG),
    "train": Case(
        mo.Train([mo.StirredTank(C, FEED, volume="20 L", T="60 degC", name="one"),
                  mo.PlugFlow(C, FEED, T="60 degC", name="two", **PIPE)], recycle=0.5),
        "", ["conversion of A", "fraction of B"], {"one.volume": "18 L"}),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_what_is_calculated_is_what_a_run_reports_with_exact_slopes(name: str) -> None:
    case = CASES[name]
    chemistry, count = case.vessel.chemistry, 6 if case.places is None else len(case.places)
    measured = {r: np.full(count, 300.0) for r in case.responses}
    run = mo.Experiment("1", case.places, measured, vessel=case.vessel, along=case.along, changes=case.changes)
    problem, points, _ = prepare(chemistry, mo.Experiments((run,)), unknowns=case.unknowns)
    start = np.array([p.value for p in problem.free])
    values, slopes = problem.model(start)
    for i in range(len(start)):
        step = np.zeros(len(start))
        step[i] = 2e-5 * abs(start[i])
        (above, _), (below, _) = problem.model(start + step), problem.model(start - step)
        central = (above - below) / (2 * step[i])
        rounding = 1e-8 * float(np.abs(values).max()) / abs(start[i])
        near = 1e-5 * float(np.abs(central).max()) + rounding
        assert slopes[:, i] == pytest.approx(central, abs=near), problem.free[i].name
    vessel = case.vessel.with_(case.unknowns).with_(chemistry=chemistry.at_guess())
    for n, (response, place) in enumerate(zip(points.response, points.time, strict=True)):
        if case.along == "time":
            found = vessel.run(float(place), **({"changes": case.changes} if case.changes else {}))
        elif case.along and "counter" not in name and "profile" not in name:
            sizes = dict.fromkeys(vessel._sizes) if isinstance(vessel, mo.StirredTank) else {"length": None}
            found = vessel.with_(**{**sizes, case.along: float(place)}).outcome()
        elif case.along:
            at = vessel.with_({case.along: float(place)})._end_si
            profile = vessel.run([at]).profile(mo.concentration("A") if response == "A" else mo.Metric(response, ""))
            assert values[n] == pytest.approx(profile[1 if at < vessel._end_si else -1], rel=1e-6)
            continue
        else:
            found = vessel.outcome()
        metric = f"concentration of {response}" if response in ("A", "B") else response
        assert values[n] == pytest.approx(found.metric(metric), rel=1e-7), (response, place)


@cache
def load_example(name: str) -> Any:
    spec = importlib.util.spec_from_file_location(name, EXAMPLES / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@pytest.mark.parametrize("name", list(load_example("observed_vessels").PLANS))
def test_constants_of_observed_vessels_are_found_with_intervals_that_hold(name: str) -> None:
    """A batch by its temperature alone, a calorimeter, a tank's start, a tube at five places: exact without noise; with
    it, in 200 sets the 95 % intervals miss about as often as they may, 1.5 % of chance in each count."""
    example = load_example("observed_vessels")
    fit = example.PLANS[name].fit(0, 1e-6)
    for constant, true in example.PLANS[name].truth.items():
        assert fit[constant].value == pytest.approx(true, rel=2e-5), constant
    counts = Counter(constant for seed in range(200) for constant in example.held(name, seed))
    for constant in example.PLANS[name].truth:
        assert 0.91 < counts[constant] / 200 < 0.985, counts


def test_a_fit_shows_every_response_in_its_own_unit_and_leaves_a_point_out() -> None:
    plan = load_example("observed_vessels").PLANS["jacketed batch, heat flow and temperature"]
    data = mo.Experiments(tuple(plan.data(3)), show={"temperature": "degC", "power": "W", "time": "min"})
    chemistry = load_example("observed_vessels").chemistry("r.k", "r.k.Ea", "r.enthalpy")
    sought = {"UA": mo.Unknown("2 W/K", lower="1 W/K")}
    fit = mo.fit(chemistry, data, unknowns=sought, errors={"temperature": "0.2 degC", "heat flow": "0.3 W"})
    assert re.search(r"temperature: residual standard deviation 0\.[12]\d+ K, R²", str(fit))
    assert re.search(r"heat flow: residual standard deviation 0\.[234]\d+ W, R²", str(fit))
    table = fit.points_table()
    assert set(table["unit"]) == {"degC", "W"}
    first = table.iloc[0]
    assert first["residual"] == pytest.approx(first["measured"] - first["calculated"], abs=1e-9)
    assert fit.to_dict()["responses"]["temperature"]["unit"] == "K"
    known = fit.chemistry
    assert known.covariance is not None
    assert known.covariance.names == ("r.k", "r.k.Ea", "r.enthalpy")
    vessel = fit.vessel_of("calorimeter")
    assert vessel.heat.UA.si == pytest.approx(fit["UA"].value)
    run = vessel.run("60 min")
    assert run.standard_error("temperature") > 0
    slope = run.sensitivity("temperature", ["r.enthalpy"])["r.enthalpy"]
    assert run.standard_error("temperature") > abs(slope) * fit["r.enthalpy"].standard_error * 0.01
    less = data.without("calorimeter", "10 min", "heat flow")
    assert "left out: run calorimeter, 10 min, heat flow" in str(less)


WRONG: list[tuple[Callable[[], Any], str]] = [
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, {"A": 1.0}, vessel=TANK), "vessel brings its contents"),
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, vessel=TANK, along="lenght"), "not observed along 'lenght'"),
    (lambda: mo.Experiment("1", OVER, {"temperature": OVER}), "of the vessel only its kind is known"),
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, vessel=CASES["train"].vessel), "leave the times out"),
    (lambda: mo.Experiment("1", ["5 min"], {"A": ["2 bar"]}, vessel=TANK), "not a concentration"),
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, vessel=CASES["calorimeter"].vessel,
                           changes=[mo.Change("T", "20 degC")]), "only a stirred tank"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"pressure": OVER}, vessel=TANK)), "no pressure is known"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"A": OVER}, vessel=TANK), unknowns={"coolant T": 300.0}),
     "no run has a vessel with 'coolant T'"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"A": OVER}, vessel=TANK), unknowns={"flow": "3 kg"}), "flow"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"A": OVER}, vessel=TANK), unknowns={"r.k": 1.0}),
     "unknown of the chemistry already"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"A": OVER, "temperature": OVER}, vessel=TANK), errors="same"),
     "one error for a concentration and a temperature"),
    (lambda: mo.fit(C, mo.Experiment("1", ALONG * 2, {"A": ALONG}, vessel=CASES["adiabatic tube"].vessel)),
     "length 40 m, beyond its end"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"A": OVER}, vessel=TANK, changes=[mo.Change("flow", "2 L/min", at=9)]),
                    unknowns={"flow": "1 L/min"}), "changes while it runs"),
    (lambda: mo.screen_orders([mo.Experiment("1", OVER, {"A": OVER[::-1]}, vessel=TANK)], "A"), "takes isothermal runs"),
    (lambda: mo.fit(C, mo.Rates(OVER, {"A": OVER}, T=np.full(7, 300.0))), "no rate depends on r.enthalpy"),
]  # fmt: skip


@pytest.mark.parametrize(("make", "what"), WRONG)
def test_wrong_observations_say_what_to_do(make: Callable[[], Any], what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        make()
