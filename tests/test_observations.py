"""Fits to whatever was observed of a vessel: values and slopes, tables, jobs, intervals that hold."""

from __future__ import annotations

import importlib.util
import json
import re
import shutil
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from scipy.stats import binom

import molino as mo
from conftest import DEMO, Typed, spoil
from molino.core.contract.metrics import parse_metric
from molino.core.fitting.experiment import condition_kinds
from molino.core.fitting.regression import prepare
from molino.demo import make_data

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
                              ["temperature", "heat"], {"UA": "1.5 W/K"}, OVER),
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
        mo.StirredTank(C, FEED, volume="20 L"), "time", ["A", "temperature", "volumetric flow"], {"feed T": "61 degC"}, OVER,
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
    "permeate of a tube": Case(
        mo.PlugFlow(GAS, mo.Feed({"A": "100 mol%"}, flow="1 mmol/s", T="60 degC", P="5 bar"), **PIPE, wall=mo.Membrane(
            {"B": "L*(p[B] - p[B]')"}, {"L": "1e-10 mol/m2/s/Pa"},
            sweep=mo.Feed({"A": "1 mmol/s"}, T="60 degC", P="1 bar"))),
        "", ["fraction of B in permeate", "fraction of B"], {"membrane L": "2e-10 mol/m2/s/Pa"}),
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
            sizes = dict.fromkeys(vessel.spec.sizes) if isinstance(vessel, mo.StirredTank) else {"length": None}
            found = vessel.with_(**{**sizes, case.along: float(place)}).run()
        elif case.along:
            at = vessel.with_({case.along: float(place)}).spec.end_si
            profile = vessel.run([at]).profile(
                mo.results.concentration("A") if response == "A" else mo.results.Metric(response, "")
            )
            assert values[n] == pytest.approx(profile[1 if at < vessel.spec.end_si else -1], rel=1e-6)
            continue
        else:
            found = vessel.run()
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
    it, in 60 sets the 95 % intervals miss about as often as they may, 1.5 % of chance in each count."""
    example = load_example("observed_vessels")
    fit = example.PLANS[name].fit(0, 1e-6)
    for constant, true in example.PLANS[name].truth.items():
        assert fit[constant].value == pytest.approx(true, rel=2e-5), constant
    counts = Counter(constant for seed in range(60) for constant in example.held(name, seed))
    for constant in example.PLANS[name].truth:
        assert binom.ppf(0.0075, 60, 0.95) <= counts[constant] <= binom.ppf(0.9925, 60, 0.95), counts


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
    assert fit.to_dict()["sum_of_squares_si"] is None, "squares of K and of W do not add up"
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
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, {"A": 1.0}, vessel=TANK), "vessel has its own contents"),
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, vessel=TANK, along="lenght"), "not observed along 'lenght'"),
    (lambda: mo.Experiment("1", OVER, {"temperature": OVER}), "only the kind of the vessel is known"),
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, vessel=CASES["train"].vessel), "leave the times out"),
    (lambda: mo.Experiment("1", ["5 min"], {"A": ["2 bar"]}, vessel=TANK), "not a concentration"),
    (lambda: mo.Experiment("1", OVER, {"A": OVER}, vessel=CASES["calorimeter"].vessel,
                           changes=[mo.Change("T", "20 degC")]), "only a stirred tank"),
    (lambda: mo.fit(C, mo.Experiment("1", OVER, {"pressure": OVER}, vessel=TANK)), "the pressure is unknown"),
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
                    unknowns={"flow": "1 L/min"}), "changes during the run"),
    (lambda: mo.screen_orders([mo.Experiment("1", OVER, {"A": OVER[::-1]}, vessel=TANK)], "A"), "needs isothermal runs"),
    (lambda: mo.fit(C, mo.Rates(OVER, {"A": OVER}, T=np.full(7, 300.0))), "no rate depends on r.enthalpy"),
]  # fmt: skip


@pytest.mark.parametrize(("make", "what"), WRONG)
def test_wrong_observations_say_what_to_do(make: Callable[[], Any], what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        make()


def test_tables_of_a_vessel_hold_any_metric_under_conditions_of_each_line() -> None:
    """Tanks at rest, each line under its own flow and feed: the constants that made the table come back."""
    known = mo.Chemistry(mo.Reaction("A -> B", name="r", k="0.05 1/min"))
    tank = mo.StirredTank(known, mo.Feed(A, flow="1 L/min"), volume="20 L")
    flows, feeds = [0.5, 1.0, 2.0, 2.0], [1.0, 2.0, 2.0, 2.0]
    runs = [tank.with_({"flow": f"{q} L/min", "[A]": f"{c} mol/L"}).steady() for q, c in zip(flows, feeds, strict=True)]
    absorbed = [0.1 + 0.5 * r.metric("concentration of B") / 1000 for r in runs]
    frame = pd.DataFrame({
        "flow [L/min]": flows, "feed A [mol/L]": feeds, "conversion of A [%]": [100 * r.conversion("A") for r in runs],
        "absorbance": absorbed,
    })  # fmt: skip
    signals = {"absorbance": mo.Signal("B", slope="0.5 L/mol", blank=0.1)}
    data = mo.read_experiments(frame, vessel=tank, signals=signals)
    assert [run.along for run in data] == ["outlet"] * 3, "two lines of one condition are replicates"
    assert data.responses == ("conversion of A", "B")
    fit = mo.fit(mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.02 1/min"))), data)
    assert fit["r.k"].value * 60 == pytest.approx(0.05, rel=1e-8)
    assert fit.points_table()["where"].tolist()[0] == "at the outlet"
    assert mo.figures.fit(fit).axes[0].get_title(loc="left") == "at the outlet"
    tube = mo.PlugFlow(known, mo.Feed(A, flow="1 L/min"), diameter="50 mm")
    places = [3.0, 1.0, 2.0]
    along = pd.DataFrame(
        {
            "length [m]": places,
            "A [mol/L]": [tube.with_(length=z).run().metric("concentration of A") / 1000 for z in places],
        }
    )
    fit = mo.fit(mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.02 1/min"))),
                 mo.read_experiments(along, vessel=tube))  # fmt: skip
    assert fit["r.k"].value * 60 == pytest.approx(0.05, rel=1e-8)
    assert "length [m]" in fit.points_table().columns
    assert fit.place("1", 2.0) == "run 1, length 2 m"


def test_a_coolant_measured_over_time_is_what_the_vessel_felt() -> None:
    known = scheme().at_guess()
    ramp = [("0 min", "35 degC"), ("30 min", "50 degC"), ("60 min", "50 degC")]
    made = mo.Batch(known, A, heat=mo.Jacket(T=ramp, UA="2 W/K"), **COLD)
    minutes = np.arange(0.0, 61.0, 10.0)
    coolant = np.interp(minutes, [0, 30, 60], [35, 50, 50])
    shown = [made.run(m * 60).metric("temperature") - 273.15 if m else 30.0 for m in minutes]
    frame = pd.DataFrame({"time [min]": minutes, "coolant T [degC]": coolant, "temperature [degC]": shown})
    vessel = mo.Batch(known, A, heat=mo.Jacket(T="20 degC", UA="2 W/K"), **COLD)
    data = mo.read_experiments(frame, vessel=vessel)
    fit = mo.fit(mo.Chemistry(mo.Reaction("A -> B", name="r", enthalpy="-85 kJ/mol", k=mo.Arrhenius(
        k=mo.Unknown("0.02 1/min"), at="40 degC", Ea="75 kJ/mol"))), data)  # fmt: skip
    assert fit["r.k"].value * 60 == pytest.approx(0.012, rel=1e-6)


@pytest.mark.parametrize("name", CASES)
def test_no_column_can_be_both_observed_and_a_condition(name: str) -> None:
    """A metric never has the name of a condition, but for the volume, whose condition is 'initial volume'."""
    of_the_whole = {"temperature", "pressure", "duty", "heat", "heat flow", "volume", "catalyst mass", "molar flow",
                    "mass flow", "volumetric flow", "amount", "mass", "coolant temperature"}  # fmt: skip
    for metric in of_the_whole:
        assert str(parse_metric(metric)) == metric
    assert of_the_whole & condition_kinds(CASES[name].vessel).keys() <= {"volume"}


BAD_TABLES = [
    ({"time [min]": [1], "temprature [degC]": [20]}, "(?s)'temprature' is not a metric.*did you mean 'temperature'"),
    ({"time [min]": [1], "temperature [bar]": [20]}, "not a temperature"),
    ({"time [min]": ["", 2], "temperature [degC]": [20, 21]}, "line 2, column 'time \\[min\\]': it is missing"),
    ({"time [min]": [1, 2], "temperature [degC]": ["hot", 21]}, "'hot' is not a number"),
    ({"time [min]": [1, 2], "T [degC]": [20, 21], "temperature [degC]": [20, 21]}, "it changes within the run"),
    ({"time [min]": [1, 2], "T [degC]": [20, 20]}, "no column has observations"),
    ({"time [min]": [1, 2], "A [mol/L]": [1, 1], "concentration of A [mol/L]": [1, 1]}, "two columns for A"),
    ({"time [min]": [1, 2], "feed Q [mol/L]": [1, 1], "A": [1, 2]}, "'feed Q' is not a metric"),
    ({"time [min]": [1, 2], "pressure [bar]": [1, 1]}, "the pressure is unknown"),
]


@pytest.mark.parametrize(("columns", "what"), BAD_TABLES)
def test_wrong_tables_of_a_vessel_name_the_column(columns: dict[str, list[Any]], what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        mo.read_experiments(pd.DataFrame(columns), vessel=CASES["calorimeter"].vessel)


@pytest.fixture
def calorimeter(tmp_path: Path) -> Path:
    """The calorimeter's job of the demo in a folder that a test may spoil."""
    for name in ("calorimeter.toml", "calorimeter.csv"):
        shutil.copy(DEMO / "laboratory" / name, tmp_path / name)
    return tmp_path / "calorimeter.toml"


def test_the_calorimeter_of_the_demo_gives_the_constants_that_made_its_data(molino: Typed, calorimeter: Path) -> None:
    shipped = (DEMO / "laboratory" / "calorimeter.csv").read_text().splitlines()
    assert shipped == [",".join(row) for row in make_data.heat_rows()]
    found = json.loads(molino("fit", calorimeter, "--json").stdout)["fits"]["hydrogenation"]
    for name, true in make_data.HEAT_TRUTH.items():
        constant = found["constants"][name]
        assert constant["low_95"] < true < constant["high_95"], name
        assert constant["high_95"] - constant["low_95"] < 0.06 * abs(true)
    assert found["responses"]["heat flow"]["unit"] == "W"
    results = calorimeter.parent / "results" / calorimeter.stem
    assert {"fit-hydrogenation.png", "fit-hydrogenation-residuals.png"} <= {p.name for p in results.iterdir()}
    chemistry = mo.files.read_chemistry(results / "fit-hydrogenation.toml")
    assert chemistry.covariance is not None
    assert "hydrogenation.enthalpy" in chemistry.covariance.names
    checked = molino("check", calorimeter).stdout
    assert "hydrogenation.enthalpy" in checked
    assert "43 values of temperature, heat flow, furfural" in checked


WRONG_JOBS = [
    (('vessel = "calorimeter" ', 'vessel = "calorimetre" '), "unknown vessel 'calorimetre'.*did you mean"),
    (('unknowns = { UA = "2 W/K" }', 'unknowns = { Ua = "2 W/K" }'), "no run has a vessel with 'Ua'.*'UA'"),
    (('unknowns = { UA = "2 W/K" }', 'unknowns = { UA = "2 mol" }'), "UA"),
    (('"heat flow" = "0.3 W"', '"heat flow" = "0.3 K"'), "not a power"),
    (('file = "calorimeter.csv"', 'file = "calorimeter.csv"\nchanges = [{ what = "T", to = 100 }]'), "only a stirred"),
]


@pytest.mark.parametrize(("change", "what"), WRONG_JOBS)
def test_wrong_jobs_of_a_vessel_say_where(molino: Typed, calorimeter: Path, change: tuple[str, str], what: str) -> None:
    spoil(calorimeter, change)
    result = molino("check", calorimeter)
    assert result.exit_code == 2
    assert re.search(what, " ".join(result.stderr.split())), result.stderr


def test_a_vessel_that_cannot_be_is_an_error_and_no_number() -> None:
    """More leaves through the membrane than is fed: the run cannot be, so nothing is calculated from it either."""
    case = CASES["permeate of a tube"]
    run = mo.Experiment("1", None, {"fraction of B in permeate": [0.1] * 6}, vessel=case.vessel)
    with pytest.raises(mo.SolveError, match=r"[AB] is below zero at volume"):
        mo.fit(case.vessel.chemistry, run, unknowns={"membrane L": "2e-9 mol/m2/s/Pa"})
