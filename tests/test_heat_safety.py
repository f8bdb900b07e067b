"""Failures of cooling, decompositions and runaway: closed forms, independent integrations, and what is refused."""

from __future__ import annotations

import json
import math
import pickle
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad, solve_ivp

import molino as mo
from conftest import Typed
from molino.core.safety.cooling_failure import failure_of

R = 8.31446261815324
COUPLING = mo.Chemistry(
    mo.Reaction("A + B -> C", k=mo.Arrhenius(k="0.02 L/mol/min", at="330 K", Ea="70 kJ/mol"), enthalpy="-180 kJ/mol",
                name="coupling")
)  # fmt: skip
DECAY = mo.Decomposition(heat="500 kJ/kg", rate="10 W/kg", at="150 degC", Ea="120 kJ/mol")
C = 3.6e6
"""Heat capacity of the kettle in J/m^3/K."""


def kettle(minutes: float = 60.0, B: str = "6 mol/L", **changed: Any) -> mo.SemiBatch:
    """1500 mol of A, dosed with B."""
    feed = mo.Feed({"B": B}, flow=f"{300 / minutes} L/min", T="300 K", heat_capacity="3.6 MJ/m3/K")
    given: dict[str, Any] = {"volume": "500 L", "T": "330 K", "time": "4 h", "heat_capacity": "3.6 MJ/m3/K",
                             "density": "950 kg/m3", "decomposition": DECAY} | changed  # fmt: skip
    dose = mo.Dosing(feed, windows=[("0 min", f"{minutes} min")])
    return mo.SemiBatch(COUPLING, {"A": "3 mol/L"}, {"B": dose}, **given)


@settings(max_examples=6)
@given(st.floats(20.0, 300.0), st.floats(300.0, 350.0), st.floats(5.2, 9.0))
def test_a_kettle_is_worst_where_as_much_is_dosed_as_is_there(minutes: float, T: float, B: float) -> None:
    """The maximum temperature of the synthesis reaction follows from the reactant in the minority, all of which reacts.

    T_cf = T + min(n_A, n_B) (-dH)/(C V), worst where both meet (F. Stoessel, Thermal Safety, 2008, section 7.3).
    """
    vessel = kettle(minutes, f"{B} mol/L", T=T, time=f"{3 * minutes} min")
    found, run = mo.heat_safety(vessel), vessel.run()
    assert isinstance(found, mo.results.HeatSafety)
    meet = 1500 / (B * 1e3 * 0.3 / (60 * minutes))  # s
    assert found.worst_time == pytest.approx(min(meet, 60 * minutes), rel=1e-4)
    at = run.at([0.5 * meet, found.worst_time])
    for row, reached in ((2, found.temperature_after_failure), (1, None)):
        c = {s: at.concentrations[s][row] for s in "AB"}
        expected = T + min(c.values()) * 180e3 / C
        if reached is None:
            reached = failure_of(run).course(0.5 * meet).highest
        assert reached == pytest.approx(
            expected, abs=0.02
        )  # a year on, with equal amounts, some is left of second order
    assert found.adiabatic_rise == pytest.approx(1500 * 180e3 / (C * 0.8), rel=1e-4)
    share = min(at.concentrations["A"][2], at.concentrations["B"][2]) * at.series["volume"][2] / 1500
    assert found.accumulation == pytest.approx(share, rel=2e-3)


def test_a_batch_is_worst_at_its_start_and_with_its_wall_less_so() -> None:
    charge = {"A": "1 mol/L", "B": "1.5 mol/L"}
    given: dict[str, Any] = {"volume": "1 m3", "T": "320 K", "time": "3 h", "heat_capacity": "3.6 MJ/m3/K"}
    plain = mo.Batch(COUPLING, charge, **given)
    found = mo.heat_safety(plain.run())
    assert isinstance(found, mo.results.HeatSafety)
    assert found.worst_time == 0
    assert found.accumulation == pytest.approx(1.0)
    assert found.adiabatic_rise == pytest.approx(plain.adiabatic_rise(), rel=1e-8)
    assert found.temperature_after_failure == pytest.approx(320 + 50, rel=1e-8)
    assert found.criticality is None
    assert "give the vessel's decomposition and technical_limit" in str(found)
    walled = mo.Batch(COUPLING, charge, heat=mo.Jacket("320 K", UA="20 kW/K", wall="900 kJ/K"), **given)
    assert mo.heat_safety(walled).temperature_after_failure == pytest.approx(320 + 1000 * 180e3 / (C + 9e5), rel=1e-8)
    fastest = found.time_of_fastest_rise
    end = mo.Batch(COUPLING, charge, heat="adiabatic", **given).run()
    times = np.linspace(0.98 * fastest, 1.02 * fastest, 41)
    slopes = np.gradient(end.at(times).temperatures[1:-1], times)  # without the rows at 0 and at the end
    assert abs(times[np.argmax(slopes)] / fastest - 1) < 2e-3
    cold = mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/min", enthalpy="40 kJ/mol"))
    takes = mo.heat_safety(mo.Batch(cold, {"A": "1 mol/L"}, **given))
    assert takes.adiabatic_rise == pytest.approx(-40e6 / C)
    assert "the temperature does not rise" in str(takes)
    grows = mo.Chemistry(mo.Reaction("2 A -> B", k="1e-4 m3/mol/s", enthalpy="-60 kJ/mol"),
                         [mo.Species(s, heat_capacity=40.0 * n) for n, s in ((1, "A"), (2, "B"))])  # fmt: skip
    for constant in (True, False):  # a gas: at constant volume by its internal energy
        gas = mo.Batch(
            grows, {"A": "100 mol%"}, T="400 K", P="2 bar", volume="1 m3", time="1 h", constant_volume=constant
        )
        reached = mo.heat_safety(gas).temperature_after_failure
        alone = mo.Batch(grows, {"A": "100 mol%"}, T="400 K", P="2 bar", volume="1 m3", time="8760 h",
                         constant_volume=constant, heat="adiabatic").run()  # fmt: skip
        assert reached == pytest.approx(alone.temperatures[-1], rel=1e-5)


@pytest.mark.parametrize("heat", [None, mo.Jacket("325 K", UA="3 kW/K", wall="200 kJ/K")], ids=["isothermal", "jacket"])
def test_slopes_are_those_of_differences(heat: Any) -> None:
    vessel = kettle(B="5.3 mol/L", heat=heat).with_({"[A]": "3.3 mol/L"})
    names = {"T": 0.02, "[A]": 1.0, "coupling.k": 1e-4, "time": 5.0}
    run = vessel.run()
    for metric in ("adiabatic rise", "temperature after cooling failure", "time to maximum rate"):
        exact = run.sensitivity(metric, list(names))
        for name, step in names.items():
            own = vessel.spec.condition(name).own
            step = step if name != "coupling.k" else step * own * 10
            high, low = (vessel.with_({name: own + sign * step}).run().metric(metric) for sign in (1, -1))
            scale = abs(run.metric(metric)) / max(own, 1.0)
            assert exact[name] == pytest.approx((high - low) / (2 * step), rel=2e-3, abs=1e-4 * scale)


@settings(max_examples=25)
@given(st.floats(100.0, 900.0), st.floats(80.0, 160.0), st.floats(330.0, 420.0), st.sampled_from([0.0, 0.5, 1.0, 2.0]))
def test_the_time_to_maximum_rate_is_that_of_an_integration(heat: float, Ea: float, T: float, order: float) -> None:
    """da/dt = q/Q (1 - a)^n exp(...): in time to the highest q; of order zero over temperature, ever further."""
    decay = mo.Decomposition(f"{heat} kJ/kg", "10 W/kg", "420 K", f"{Ea} kJ/mol", order)
    found, rise = decay.time_to_maximum_rate(T, 2000.0), heat / 2

    def k(temperature: Any) -> Any:
        return 10 / (heat * 1e3) * np.exp(-Ea * 1e3 / R * (1 / temperature - 1 / 420))

    if order == 0:
        expected, _ = quad(lambda t: 1 / k(t) / rise, T, T + rise, points=[T + 1, T + 5, T + 20], epsrel=1e-10)
        assert found == pytest.approx(expected, rel=1e-8)
        frank_kamenetskii = 2000 * R * T**2 / (k(T) * heat * 1e3 * Ea * 1e3)  # cp R T^2/(q Ea)
        assert found == pytest.approx(frank_kamenetskii, rel=4 * R * T / (Ea * 1e3) + math.exp(-rise / 25))
    elif not math.isfinite(found):
        assert Ea * 1e3 * rise < order * R * T**2 * (1 + 1e-9)
    else:
        a = np.linspace(0, 1, 200001)[:-1]
        q = k(T + rise * a) * (1 - a) ** order
        course = solve_ivp(lambda a, _: 1 / (k(T + rise * a) * (1 - a) ** order), (0, a[np.argmax(q)]), [0.0], "LSODA",
                           rtol=1e-10, atol=1e-12)  # fmt: skip
        assert found == pytest.approx(course.y[0, -1], rel=1e-4)
    day = decay.temperature_for("24 h", "2 kJ/kg/K")
    if math.isfinite(day):
        assert decay.time_to_maximum_rate(day, 2000.0) == pytest.approx(86400, rel=1e-6)


def test_the_five_classes() -> None:
    """By the order of process temperature, MTSR, technical limit and T_D24 (F. Stoessel, Chem. Eng. Prog. 1993)."""
    vessel = kettle()
    base = mo.heat_safety(vessel)
    reached, day = base.temperature_after_failure, base.temperature_for_24_h
    assert reached < day

    def number(limit: float, rate: str = "10 W/kg") -> int | None:
        decay = mo.Decomposition("500 kJ/kg", rate, "150 degC", "120 kJ/mol")
        return mo.heat_safety(vessel.with_(technical_limit=limit, decomposition=decay)).criticality

    assert number((reached + day) / 2) == 1
    assert number(day + 1) == 2
    assert number(reached - 1) == 3
    assert number(335.0, "500 W/kg") == 4
    assert number(reached + 20, "500 W/kg") == 5
    hot = mo.heat_safety(vessel.with_(technical_limit=335.0))
    assert pickle.loads(pickle.dumps(hot)).criticality == 3
    assert hot.to_dict()["technical_limit"] == {"value": 335.0, "unit": "K"}


def test_a_choice_is_made_within_what_is_safe() -> None:
    """The coldest kettle accumulates, the hottest begins hot: the limit is active at the end of the safe ones."""
    free = {"T": ("320 K", "400 K")}
    limits = ["temperature after cooling failure <= 378 K", "time to maximum rate >= 70 h"]
    best = mo.optimize(kettle(120.0), maximize="conversion of A", free=free, subject_to=limits, n_starts=1)
    assert best.first_order < 1e-5
    left = dict(zip(limits, best.left, strict=True))
    assert min(abs(left[limits[0]]), abs(left[limits[1]]) / 70 / 3600) < 1e-5
    assert best.run.metric("temperature after cooling failure") <= 378 + 1e-4
    assert best.run.metric("time to maximum rate") >= 70 * 3600 * (1 - 1e-6)
    assert "criticality class" in str(best)
    rows = mo.sweep(
        kettle(), {"T": mo.span("320 K", "360 K", 3)}, ["temperature after cooling failure", "adiabatic rise"]
    )
    assert np.ptp(rows.table().iloc[:, -1].to_numpy()) < 1e-3
    held = mo.compare([kettle(60.0), kettle(240.0)], ["temperature after cooling failure"])
    assert held.values[1]["temperature after cooling failure"] < held.values[0]["temperature after cooling failure"]


def test_a_fit_carries_its_uncertainty_to_what_a_failure_comes_to() -> None:
    """The slope by the fitted constant, times its standard error; beyond its heat capacities it says so."""
    chemistry = mo.Chemistry(
        mo.Reaction("A -> B", k=mo.Unknown("0.1 1/min"), enthalpy="-80 kJ/mol", name="r"),
        [mo.Species(s, heat_capacity=mo.thermo.HeatCapacity("900 J/mol/K", valid=["300 K", "350 K"])) for s in "AB"],
    )
    times = np.linspace(60, 900, 20)
    noisy = 1e3 * np.exp(-0.2 / 60 * times) * (1 + 0.01 * np.cos(times))
    known = mo.fit(chemistry, mo.Experiment("1", times, {"A": noisy}, {"A": 1e3})).chemistry
    heated = mo.Jacket("360 K", UA="20 kW/K")
    run = mo.Batch(known, {"A": "2 mol/L"}, T="330 K", volume="1 m3", time="10 min", heat=heated).run()
    metric = "temperature after cooling failure"
    slope, covariance = run.sensitivity(metric, ["r.k"])["r.k"], known.covariance
    assert covariance is not None
    error = run.standard_error(metric)
    assert error is not None
    assert error > 1e-3  # in K
    assert error == pytest.approx(abs(slope) * math.sqrt(covariance.matrix[0, 0]), rel=1e-6)
    assert "A beyond 300 K to 350 K" in str(mo.heat_safety(run))


def hot_tube(coolant: float, UA: float = 40e3) -> mo.PlugFlow:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.01 1/s", at="340 K", Ea="110 kJ/mol"),
                                         enthalpy="-120 kJ/mol"))  # fmt: skip
    feed = mo.Feed({"A": "3 mol/L"}, flow="1 L/s", T="330 K", heat_capacity="2 MJ/m3/K")
    return mo.PlugFlow(chemistry, feed, volume="200 L", heat=mo.Jacket(coolant, UA=UA))


def test_the_boundary_of_runaway_is_where_the_hottest_place_answers_most() -> None:
    """Against a tube written out here: dT_max/dT_c by differences, its peak (M. Morbidelli, A. Varma, 1988)."""

    def hottest(coolant: float) -> float:
        def slopes(_: float, y: Any) -> Any:
            c, T = y
            r = 0.01 * math.exp(-110e3 / R * (1 / T - 1 / 340)) * c
            return [-r, (120e3 * r - 40e3 / 0.2 * (T - coolant)) / 2e6]

        course = solve_ivp(slopes, (0, 200), [3000.0, 330.0], "LSODA", rtol=1e-9, atol=1e-7, dense_output=True)
        return float(course.sol(np.linspace(0, 200, 20001))[1].max())

    found = mo.heat_safety(hot_tube(326.0), within="20 K")
    assert isinstance(found, mo.results.RunawayBoundary)
    assert found.sensitivity == pytest.approx((hottest(326.01) - hottest(325.99)) / 0.02, rel=1e-3)
    assert found.hottest[1] == pytest.approx(hottest(326.0), rel=1e-6)
    assert found.boundary is not None

    def relative(T: float) -> float:
        return (hottest(T + 2e-3) - hottest(T - 2e-3)) / 4e-3 * T / hottest(T)

    peak = relative(found.boundary)
    assert peak > 100
    assert all(relative(found.boundary + away) < peak for away in (-0.3, -0.05, 0.05, 0.3))
    assert found.margin == pytest.approx(found.boundary - 326.0)
    run = hot_tube(326.0).run()
    metric, step = "hot spot sensitivity", 0.02
    high, low = (hot_tube(326.0 + sign * step).run().metric(metric) for sign in (1, -1))
    assert run.sensitivity(metric, ["coolant T"])["coolant T"] == pytest.approx((high - low) / (2 * step), rel=2e-2)
    calm = mo.heat_safety(hot_tube(325.0, UA=4e6), "20 K")
    assert calm.boundary is None
    assert "none with a coolant of" in str(calm)
    best = mo.optimize(hot_tube(322.0), maximize="conversion of A", free={"coolant T": (310.0, 327.5)},
                       subject_to=[f"{metric} <= 3"], n_starts=1)  # fmt: skip
    assert best.run.metric(metric) == pytest.approx(3.0, rel=1e-5)
    assert mo.figures.heat_safety(best.safety).axes


def test_the_resin_example_reports_what_a_failure_of_cooling_comes_to(molino: Typed, tmp_path: Path) -> None:
    """A colder jacket is not a safer one; a feed that is only dosed need not start a reaction by itself."""
    walked = json.loads(molino("demo", tmp_path / "resin", "--example", "resin", "--json").stdout)
    assert list(walked) == ["format", "check", "run", "sweep", "optimize"]
    path, results = tmp_path / "resin" / "resin.toml", tmp_path / "resin" / "results" / "resin"
    for command in ("run", "optimize"):
        assert (results / f"{command}-kettle-heat-safety.png").exists()
    shown = molino("run", path)
    assert "criticality class" in shown.output
    run, best = (json.loads((results / f"{command}.json").read_text()) for command in ("run", "optimize"))
    kept, optimum = run["heat_safety"]["kettle"], best["optima"]["kettle"]
    sized = mo.heat_safety(mo.load_job(path).vessels["kettle"])
    assert kept["criticality"] == sized.criticality == 3
    assert kept["temperature_after_failure"]["unit"] == "degC"
    assert kept["temperature_after_failure"]["value"] == pytest.approx(sized.temperature_after_failure - 273.15)
    assert optimum["value"] == pytest.approx(optimum["heat_safety"]["temperature_after_failure"]["value"])
    values = pd.read_csv(results / "sweep-kettle.csv").iloc[:, 1].to_numpy()
    assert optimum["value"] <= values.min()
    assert np.argmin(values) not in (0, len(values) - 1)
    text = path.read_text()
    for change, word in ((("at = 150, ", "at = '150 kg', "), "kettle], decomposition, at"),
                         (("limit = 98", "limit = '98 K/s'"), "technical_limit")):  # fmt: skip
        path.write_text(text.replace(*change))
        refused = molino("check", path)
        assert refused.exit_code == 2
        assert word in refused.output


def test_what_cannot_be_worked_out_is_refused_in_words() -> None:
    heatless = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/min")), {"A": "1 mol/L"}, T="300 K", time="1 h")
    tank = mo.StirredTank(COUPLING, mo.Feed({"A": 1.0, "B": 1.0}, flow="1 L/s", T=300.0), volume="1 L")
    light = mo.Batch(
        COUPLING, {"A": 1e3, "B": 1e3}, T=300.0, time="1 h", heat_capacity="4 MJ/m3/K", decomposition=DECAY
    )
    tube = hot_tube(325.0)
    for case, words in [
        (lambda: mo.heat_safety(heatless), "heat"), (lambda: mo.heat_safety(tank), "is not computed"),
        (lambda: mo.heat_safety(light).time_to_maximum_rate, "give its density"),
        (lambda: mo.heat_safety(tube.with_(heat="adiabatic")), "has no coolant"),
        (lambda: mo.heat_safety("kettle"), "give a batch"), (lambda: mo.heat_safety(tube, "20 degC"), "give it in K"),
        (lambda: mo.size(kettle(), "adiabatic rise", 10.0), "follows only from a whole run"),
        (lambda: mo.optimize(tube, maximize="adiabatic rise", free={"T": (300.0, 310.0)}), "has no adiabatic rise"),
        (lambda: kettle().with_(decomposition=None).run().metric("time to maximum rate"), "give decomposition"),
        (lambda: mo.Decomposition("500 kJ/kg", "-3 W/kg", "150 degC", "120 kJ/mol"), "above zero"),
        (lambda: mo.Decomposition("500 kJ", "3 W/kg", "150 degC", "120 kJ/mol"), "energy per mass"),
    ]:  # fmt: skip
        with pytest.raises(mo.InputError, match=words):
            case()


def test_the_drawn_temperature_after_a_failure_is_that_at_every_moment() -> None:
    """Between its points the curve is as good as straight: at other moments a failure reaches what the curve shows."""
    found = mo.heat_safety(kettle())
    moments, highest = found.highest_after()
    assert highest.max() == pytest.approx(found.temperature_after_failure, rel=1e-9)
    spread = np.ptp(highest)
    for at in np.random.default_rng(5).uniform(0, moments[-1], 12):
        there = found.after(float(at)).highest
        assert np.interp(at, moments, highest) == pytest.approx(there, abs=6e-3 * spread)
