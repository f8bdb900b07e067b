"""Gas and liquid: transfer, balances of the gas, film reactions, against closed forms and independent integrations."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import solve_bvp, solve_ivp
from scipy.optimize import brentq
from typer.testing import CliRunner

import molino as mo
from molino.desk.cli import app

R = 8.31446261815324
SECOND = mo.Chemistry([mo.Reaction("A + O2 -> B", k="0.2 L/mol/s", name="r")], ["N2"])
LIQUID = mo.Feed({"A": "2 mol/L"}, flow="0.5 L/s", density="900 kg/m3")
AIR = mo.Feed({"O2": "21 mol%", "N2": "rest"}, flow="0.5 mol/s", T="330 K", P="3 bar")
GAS = mo.GasPhase(AIR, "0.1 1/s", {"O2": "900 bar*L/mol"})
HENRY, K, KLA, FLOW = 9e4, 2e-4, 0.1, 5e-4


def _steady(V: float, oxygen: Any) -> tuple[float, float, float]:
    """[O2], [A] and O2 in the off-gas of a mixed liquid; `oxygen` gives what leaves with the gas for an [O2]."""

    def off(c: float) -> float:
        A = 2000 * FLOW / (FLOW + V * K * c)
        return float(0.105 - oxygen(c) - FLOW * c - V * K * c * A)

    c = brentq(off, 0.0, 0.7, xtol=1e-16)
    return c, 2000 * FLOW / (FLOW + V * K * c), oxygen(c)


def test_a_mixed_gas_and_one_in_plug_flow_against_independent_solutions() -> None:
    def mixed(c: float) -> float:
        def off(out: float) -> float:
            return 0.105 - out - 1.0 * KLA * (out / (out + 0.395) * 3e5 / HENRY - c)

        return float(brentq(off, 0.0, 1e6, xtol=1e-16))

    tank = mo.StirredTank(SECOND, LIQUID, volume="1 m3", T="330 K", gas=GAS)
    run = tank.steady()
    c, A, left = _steady(1.0, mixed)
    out, gas = run.streams_out()
    assert [out.amounts["O2"] / FLOW, out.amounts["A"] / FLOW, gas.amounts["O2"]] == pytest.approx(
        [c, A, left], rel=1e-9
    )
    assert max(run.closure.values()) < 1e-13
    share = 100 * c * HENRY / (left / (left + 0.395) * 3e5)
    assert run.facts()["limiting step of O2"] == f"transfer and kinetics: the liquid is {share:.3g} % saturated"

    V = math.pi / 4 * 0.6**2 * 5 * 0.9
    head = 900 * 9.80665 * 5 * 0.9

    def rising(c: float) -> float:
        def slope(z: float, y: np.ndarray) -> list[float]:
            return [-V * KLA * (y[0] / (y[0] + 0.395) * (3e5 + head * (1 - z)) / HENRY - c)]

        return float(solve_ivp(slope, (0, 1), [0.105], rtol=1e-11, atol=1e-14).y[0, -1])

    column = mo.BubbleColumn(SECOND, LIQUID, diameter="0.6 m", height="5 m", T="330 K", gas=GAS)
    run = column.steady()
    c, A, left = _steady(V, rising)
    out, gas = run.streams_out()
    assert [out.amounts["O2"] / FLOW, out.amounts["A"] / FLOW, gas.amounts["O2"]] == pytest.approx(
        [c, A, left], rel=1e-6
    )
    assert gas.amounts["N2"] == pytest.approx(0.395, rel=1e-12)
    assert max(run.closure.values()) < 1e-13
    assert run.facts()["pressure at the bottom"] == "3.397 bar"
    over_time = column.run("16 h")
    assert over_time.conversion("O2") == pytest.approx(run.conversion("O2"), rel=1e-5)
    assert mo.size(column.with_(height=None), "conversion of A", target=run.conversion("A")).value == pytest.approx(5)
    twice = mo.evaluator(column, ["gas P", "kLa"], ["conversion of A"])(6e5, 0.05)
    assert twice == pytest.approx(
        column.with_({"gas P": "6 bar", "kLa": "0.05 1/s"}).steady().conversion("A"), rel=1e-6
    )
    best = mo.optimize(tank, maximize="conversion of O2", free={"gas flow": ("0.1 mol/s", "2 mol/s")},
                       subject_to=["conversion of A >= 0.03"])  # fmt: skip
    assert best.run.conversion("A") == pytest.approx(0.03, rel=1e-6)


def test_a_liquid_fills_with_gas_and_warms_by_what_dissolves() -> None:
    """Without a reaction c = c* (1 - exp(-kLa t)); the heat of absorption c* R T^2 dlnH/dT warms the liquid."""
    still = mo.Chemistry(
        [], [mo.Species("water", heat_capacity="75 J/mol/K"), mo.Species("CO2", heat_capacity="37 J/mol/K")]
    )
    law = mo.VantHoff(K="30 bar*L/mol", at="300 K", enthalpy="20 kJ/mol")
    gas = mo.GasPhase({"CO2": "2 bar"}, "0.01 1/s", {"CO2": law})
    charge = {"water": "55 mol/L"}
    warm = mo.Batch(still, charge, T="300 K", volume="1 m3", time="2 min", gas=gas)
    run = warm.run()
    assert run.concentrations["CO2"] / 1e3 == pytest.approx(
        2 / 30 * (1 - np.exp(-0.01 * run.points)), rel=1e-6, abs=1e-9
    )
    adiabatic = warm.with_(heat="adiabatic", time="1 h").run()
    T = adiabatic.temperatures[-1]
    c = adiabatic.concentrations["CO2"][-1]
    assert c == pytest.approx(2e5 / (3e3 * math.exp(-20e3 / R * (1 / T - 1 / 300))), rel=1e-4)
    # the gas held cools nothing of note: 20 kJ/mol of what dissolves against 75 J/K of 55,000 mol
    held = 2e5 * 0.1 / 0.9 / (R * 300) * 37
    assert (T - 300) * (55e3 * 75 + c * 37 + held) == pytest.approx(20e3 * c, rel=2e-3)
    assert "limiting step of CO2" in adiabatic.facts()
    assert adiabatic.facts()["limiting step of CO2"].startswith("solubility")
    assert warm.with_({"Henry's constant of CO2": "60 bar*L/mol"}).run().concentrations["CO2"][-1] == pytest.approx(
        c_of(60), rel=1e-6
    )
    slower = mo.GasPhase({"CO2": "2 bar"}, "0.02 1/s", {"CO2": "33.333333333333336 mmol/L/bar"}, kLa_ratio={"CO2": 0.5})
    assert warm.with_(gas=slower).run().concentrations["CO2"][-1] == pytest.approx(c_of(30), rel=1e-6)


def c_of(henry: float) -> float:
    """CO2 after two minutes under 2 bar, in mol/m3."""
    return 2e3 / henry * (1 - math.exp(-1.2))


def test_limits_of_transfer_and_of_kinetics() -> None:
    tank = mo.StirredTank(SECOND, LIQUID, volume="1 m3", T="330 K", gas=GAS)
    plenty = {"gas flow": "500 mol/s", "kLa": "1e4 1/s"}
    full = 0.21 * 3e5 / HENRY
    fast = tank.with_(plenty).steady()
    assert fast.conversion("A") == pytest.approx(K * full * 2000 / (1 + K * full * 2000), rel=2e-3)
    assert fast.facts()["limiting step of O2"].startswith("kinetics")
    slow = tank.with_({"gas flow": "500 mol/s", "kLa": "1e-4 1/s"}).steady()
    assert slow.conversion("A") * 2000 * FLOW == pytest.approx(1e-4 * full, rel=2e-3)
    assert slow.facts()["limiting step of O2"].startswith("transfer:")


def test_a_batch_under_constant_pressure_takes_up_what_it_consumes() -> None:
    """Where transfer alone limits, kLa P/H mol pass into a liter and second for as long as there is A."""
    chemistry = mo.Chemistry(mo.Reaction("A + H2 -> B", k="50 L/mol/s"))
    gas = mo.GasPhase({"H2": "10 bar"}, "0.02 1/s", {"H2": "0.7692307692307692 mmol/L/bar"})
    pot = mo.Batch(chemistry, {"A": "1 mol/L"}, T="350 K", volume="1 m3", time="30 min", gas=gas)
    run = pot.run()
    assert 1000 * run.conversion("A") == pytest.approx(0.02 * 1e6 / 1.3e5 * 1800, rel=1e-3)
    charge, fed = run.streams_in()
    assert charge.amounts == pytest.approx({"A": 1000, "H2": 0, "B": 0})
    held = 1e6 * 0.1 / 0.9 / (R * 350)
    assert fed.amounts["H2"] - held == pytest.approx(1000 * run.conversion("A") + run.stream_out().amounts["H2"])
    assert run.streams_out()[1].amounts["H2"] == pytest.approx(held)
    with pytest.raises(mo.InputError, match="gas is supplied"):
        mo.heat_safety(mo.Batch(chemistry, {"A": "1 mol/L"}, T="350 K", volume="1 m3", time="30 min", gas=gas))


@pytest.mark.parametrize("heat", ["isothermal", "adiabatic", mo.Jacket(UA="20 kW/K", T="340 K")])
def test_energy_closes_and_the_slope_of_henry_is_the_heat_of_absorption(heat: Any) -> None:
    species = [
        mo.Species(n, heat_capacity=Cp) for n, Cp in (("A", "150 J/mol/K"), ("H2", "29 J/mol/K"), ("B", "160 J/mol/K"))
    ]
    hot = mo.Chemistry([mo.Reaction("A + H2 -> B", k="0.05 L/mol/s", enthalpy="-120 kJ/mol")], species)
    law = mo.VantHoff(K="1300 bar*L/mol", at="350 K", enthalpy="5 kJ/mol")
    gas = mo.GasPhase(mo.Feed({"H2": "1 mol/mol"}, flow="5 mol/s", T="320 K", P="10 bar"), "0.2 1/s", {"H2": law})
    for phase in (gas, mo.GasPhase({"H2": "10 bar"}, "0.2 1/s", {"H2": law})):
        run = mo.Batch(hot, {"A": "5 mol/L"}, T="350 K", volume="1 m3", time="20 min", gas=phase, heat=heat).run()
        assert max(run.closure.values()) < 1e-8
    feed = mo.Feed({"A": "5 mol/L"}, flow="1 L/s", T="350 K")
    run = mo.StirredTank(hot, feed, volume="1 m3", gas=gas, heat=heat).steady()
    assert max(run.closure.values()) < 1e-9
    if heat == "isothermal":  # duty: reaction, what dissolves, and the gas that leaves warmer than it came
        taken = 5 - run.streams_out()[1].amounts["H2"]
        made = 5 * run.conversion("A")
        assert run.duty_si == pytest.approx(-(120e3 + 19 * 51.85) * made - 5e3 * taken + 29 * 30 * 5, rel=1e-6)


def test_the_film_speeds_up_absorption_as_its_differential_equations_say() -> None:
    """Against the film itself, D_A A'' = k A B, D_B B'' = 2 k A B, with the concentrations of the bulk at its end."""
    D, D_B, kL, k = 1.8e-9, 3e-9, 2e-4, 10.0
    chemistry = mo.Chemistry([mo.Reaction("CO2 + 2 OH -> C", rate="k*[CO2]*[OH]", k=f"{k} m3/mol/s", name="r")], ["N2"])
    film = {"r": mo.FilmReaction("CO2", f"{D} m2/s", partner_diffusivity=f"{D_B} m2/s")}
    feed = mo.Feed({"CO2": "20 mol%", "N2": "rest"}, flow="50 mol/s", T="300 K", P="1 bar")
    gas = mo.GasPhase(feed, "0.05 1/s", {"CO2": "30 bar*L/mol"}, kL=f"{kL} m/s", film=film)
    width = D / kL

    def slopes(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        rate = k * y[0] * y[2]
        return np.array([y[1], width**2 * rate / D, y[3], 2 * width**2 * rate / D_B])

    for base in ("0.3 mol/L", "3 mol/L"):
        tank = mo.StirredTank(chemistry, mo.Feed({"OH": base}, flow="5 L/s"), volume="0.2 m3", T="300 K", gas=gas)
        run = tank.steady()
        ends = {name: float(values[-1]) for name, values in run.series.items()}
        bulk, inside = ends["concentration of OH"], ends["concentration of CO2"]
        at = ends["fraction of CO2 in the gas"] * 1e5 / 3e3

        def both(a: np.ndarray, b: np.ndarray, known: tuple[float, ...] = (at, inside, bulk)) -> np.ndarray:
            return np.array([a[0] - known[0], a[3], b[0] - known[1], b[2] - known[2]])

        x = 1 - np.cos(np.linspace(0, np.pi / 2, 400))
        guess = np.array([at * np.exp(-20 * x), -20 * at * np.exp(-20 * x), bulk * (0.3 + 0.7 * x), 0 * x + 0.7 * bulk])
        found = solve_bvp(slopes, both, x, guess, tol=1e-6, max_nodes=100_000)
        assert found.success
        exact = -found.y[1, 0] / (at - inside)
        assert ends["enhancement of CO2"] == pytest.approx(exact, rel=0.03)
        assert min(exact / 2, ends["Hatta number of r"]) > 1
        assert "a large part of it takes place in the film" in run.facts()["limiting step of CO2"]
    alone = mo.Chemistry([mo.Reaction("CO2 -> C", k="200 1/s", name="r")], ["N2", "OH"])
    lone = mo.GasPhase(
        feed, "0.05 1/s", {"CO2": "30 bar*L/mol"}, kL=f"{kL} m/s", film={"r": mo.FilmReaction("CO2", f"{D} m2/s")}
    )
    run = mo.StirredTank(alone, mo.Feed({"OH": "1 mol/L"}, flow="5 L/s"), volume="0.2 m3", T="300 K", gas=lone).steady()
    hatta = math.sqrt(200 * D) / kL
    assert run.series["enhancement of CO2"][-1] == pytest.approx(hatta / math.tanh(hatta), rel=1e-12)


def test_an_instantaneous_reaction_is_limited_by_what_comes_to_the_film() -> None:
    """E_i = 1 + D_B c_B nu_A/(D_A c_A* nu_B), whatever the rate constant; the absorption is k_L a (c* + c_B/2 D_B/D_A)."""
    film = {"r": mo.FilmReaction("CO2", "2e-9 m2/s", partner_diffusivity="3e-9 m2/s", partner="OH")}
    feed = mo.Feed({"CO2": "10 mol%", "N2": "rest"}, flow="500 mol/s", T="300 K", P="1 bar")
    for k in ("1e6 m3/mol/s", "1e8 m3/mol/s"):
        chemistry = mo.Chemistry([mo.Reaction("CO2 + 2 OH -> C", rate="k*[CO2]*[OH]", k=k, name="r")], ["N2"])
        gas = mo.GasPhase(feed, "0.05 1/s", {"CO2": "30 bar*L/mol"}, kL="2e-4 m/s", film=film)
        tank = mo.StirredTank(
            chemistry, mo.Feed({"OH": "0.5 mol/L"}, flow="20 L/s"), volume="0.2 m3", T="300 K", gas=gas
        )
        run = tank.steady()
        ends = {name: float(values[-1]) for name, values in run.series.items()}
        at = ends["fraction of CO2 in the gas"] * 1e5 / 3e3
        limit = 1 + 1.5 * ends["concentration of OH"] / (2 * at)
        assert ends["enhancement of CO2"] == pytest.approx(limit, rel=5e-3)
        passed = 0.05 * 0.2 * (at + 0.75 * ends["concentration of OH"])
        assert ends["absorption of CO2"] == pytest.approx(passed, rel=1e-2)


def test_a_column_of_its_own_heat_by_any_of_its_sizes() -> None:
    species = [mo.Species(s, heat_capacity=Cp) for s, Cp in (("A", 150.0), ("O2", 29.0), ("B", 170.0), ("N2", 29.0))]
    law = mo.Arrhenius(k="0.2 L/mol/s", at="330 K", Ea="60 kJ/mol")
    hot = mo.Chemistry([mo.Reaction("A + O2 -> B", k=law, enthalpy="-300 kJ/mol", name="r")], species)
    warm = mo.Feed({"A": "6 mol/L"}, flow="0.5 L/s", T="330 K", density="900 kg/m3")
    jacket = mo.Jacket("320 K", UA="5 kW/K")
    column = mo.BubbleColumn(hot, warm, diameter="0.6 m", height="5 m", gas=GAS, heat=jacket)
    run = column.steady()
    assert max(run.closure.values()) < 1e-10
    volume = math.pi / 4 * 0.36 * 5 * 0.9
    for size in ({"volume": volume}, {"space_time": volume / FLOW}):
        other = mo.BubbleColumn(hot, warm, diameter="0.6 m", gas=GAS, heat=jacket, **size).steady()
        assert pytest.approx(run.stream_out().T, rel=1e-9) == other.stream_out().T
    taken = run.series["absorption of O2"][-1]
    out, off = run.streams_out()
    assert taken == pytest.approx(0.105 - off.amounts["O2"], rel=1e-9)
    assert 320 < out.T < 330
    found = column.steady_states()
    assert any(abs(one.stream_out().T - out.T) < 0.01 for one in found.runs)


@settings(max_examples=6)
@given(
    kLa=st.floats(1e-3, 5.0), flow=st.floats(0.05, 5.0), K=st.floats(1e-6, 1e-1), oxygen=st.floats(0.02, 0.98),
    holdup=st.floats(0.01, 0.5), height=st.floats(0.5, 20.0), in_plug_flow=st.booleans(),
)  # fmt: skip
def test_nothing_is_lost_and_nothing_negative_whatever_the_numbers(
    kLa: float, flow: float, K: float, oxygen: float, holdup: float, height: float, in_plug_flow: bool
) -> None:
    gas = mo.GasPhase(mo.Feed({"O2": f"{oxygen} mol/mol", "N2": "rest"}, flow=f"{flow} mol/s", T="330 K", P="3 bar"),
                      kLa, {"O2": "900 bar*L/mol", "N2": "1500 bar*L/mol"}, holdup=holdup)  # fmt: skip
    chemistry = mo.Chemistry([mo.Reaction("A + O2 -> B", k=K, name="r")], ["N2"])
    feed = mo.Feed({"A": "2 mol/L"}, flow="0.5 L/s", density="900 kg/m3")
    if in_plug_flow:
        run = mo.BubbleColumn(chemistry, feed, diameter="0.6 m", height=height, T="330 K", gas=gas).steady()
    else:
        run = mo.StirredTank(chemistry, feed, volume=0.3 * height, T="330 K", gas=gas).steady()
    out, off = run.streams_out()
    assert max(run.closure.values()) < 1e-10
    assert min(out.amounts.values()) >= 0
    assert min(off.amounts.values()) > -1e-9
    assert 0 <= run.conversion("A") <= 1
    saturated = out.amounts["N2"] / 5e-4 / (off.amounts["N2"] / sum(off.amounts.values()) * 3e5 / 1.5e5)
    assert saturated > (0.9 if kLa * 600 > 20 and not in_plug_flow else 0)  # what does not react comes to equilibrium


def test_a_tank_with_gas_starts_up_and_answers_to_steps() -> None:
    tank = mo.StirredTank(SECOND, LIQUID, volume="1 m3", T="330 K", contents={"A": 0.0}, gas=GAS)
    run = tank.run(
        "8 h",
        changes=[mo.Change("gas flow", "1 mol/s", at="4 h"), mo.Change("gas P", "4 bar", at="5 h", over="10 min")],
    )
    assert max(run.closure.values()) < 1e-10
    after = tank.with_({"gas flow": "1 mol/s", "gas P": "4 bar"}).steady()
    assert run.concentrations["A"][-1] == pytest.approx(after.concentrations["A"][-1], rel=1e-3)
    assert run.series["fraction of O2 in the gas"][-1] == pytest.approx(
        after.series["fraction of O2 in the gas"][-1], rel=1e-3
    )
    assert (
        mo.sweep(tank, {"kLa": ["0.01 1/s", "1 1/s"], "gas flow": ["0.1 mol/s", "5 mol/s"]}, ["conversion of O2"])
        .table()["conversion of O2"]
        .is_monotonic_increasing
        is False
    )
    review = mo.BubbleColumn(SECOND, LIQUID, diameter="0.6 m", height="5 m", T="330 K", gas=GAS).check()
    assert " more" in str(review)  # of a hundred unknowns not all are listed
    assert review.count.degrees_of_freedom == 0


JOB = """
[units]
pressure = "bar"
[species.N2]
[reactions.hydrogenation]
equation = "furfural + H2 -> alcohol"
k = "0.08 L/mol/s"
[feeds.liquor]
contents = { furfural = "2 mol/L" }
flow = "1 L/s"
T = "410 K"
density = "1050 kg/m3"
[feeds.hydrogen]
contents = { H2 = "98 mol%", N2 = "rest" }
flow = "4 mol/s"
T = "410 K"
P = 20
[vessels.column]
kind = "bubble column"
feed = "liquor"
diameter = "0.7 m"
height = "6 m"
T = "410 K"
[vessels.column.gas]
feed = "hydrogen"
kLa = "0.15 1/s"
henry = { H2 = "1200 bar*L/mol" }
[vessels.pot]
kind = "batch"
charge = { furfural = "2 mol/L" }
T = "410 K"
volume = "1 m3"
time = "2 h"
gas = { supply = { H2 = 20 }, P = 20, kLa = "0.05 1/s", henry = { H2 = { K = "1200 bar*L/mol", at = "410 K", enthalpy = "4 kJ/mol" } } }
[size.column]
vessel = "column"
metric = "conversion of furfural"
target = 0.8
[sweep.stirring]
vessel = "column"
conditions = { kLa = ["0.05 1/s", "0.5 1/s"] }
metrics = ["conversion of furfural"]
"""


def test_a_job_holds_gas_and_liquid(tmp_path: Path) -> None:
    path = tmp_path / "job.toml"
    path.write_text(JOB.replace("{ H2 = 20 }", '{ H2 = "1 mol/mol" }'))
    for command in ("check", "run"):
        done = CliRunner().invoke(app, [command, str(path)])
        assert done.exit_code == 0, done.output
    job = mo.load_job(path)
    column, pot = job.vessels["column"], job.vessels["pot"]
    assert column.gas.has_flow
    assert pot == mo.Batch(
        pot.chemistry, {"furfural": "2 mol/L"}, T="410 K", volume="1 m3", time="2 h", name="pot", show=pot.show,
        gas=mo.GasPhase({"H2": "1 mol/mol"}, "0.05 1/s", {"H2": mo.VantHoff(K="1200 bar*L/mol", at="410 K", enthalpy="4 kJ/mol")},
                        P="20 bar"),
    )  # fmt: skip
    path.write_text(JOB.replace('feed = "hydrogen"\nkLa', 'feed = "hydrogens"\nkla'))
    done = CliRunner().invoke(app, ["check", str(path)])
    assert done.exit_code == 2
    assert "kla" in done.output


def filmed(reaction: str, species: str) -> mo.GasPhase:
    film = {reaction: mo.FilmReaction(species, 2e-9)}
    return mo.GasPhase(AIR, 0.1, {"O2": 1.0, "N2": 1.0}, kL=1e-4, film=film)


@pytest.mark.parametrize(("old", "new", "words"), [
    ('feed = "hydrogen"\nkLa', 'feed = "hydrogen"\nsupply = { H2 = "1 mol/mol" }\nkLa', "both feed and supply are given"),
    ('feed = "hydrogen"\nkLa', "kLa", "neither feed nor supply is given"),
    ('feed = "hydrogen"\nkLa', 'feed = "hydrogens"\nkLa', "unknown feed 'hydrogens'"),
    ('henry = { H2 = "1200 bar*L/mol" }', 'henry = { H2 = "1200 bar" }', "neither a pressure per concentration"),
    ('henry = { H2 = "1200 bar*L/mol" }', 'henry = { O2 = "1200 bar*L/mol" }', "the chemistry has no species O2"),
    ('diameter = "0.7 m"\n', "", "a height is given but no diameter"),
    ('height = "6 m"', 'height = "6 m"\nvolume = "2 m3"', "specify the same thing twice"),
    ('kind = "bubble column"', 'kind = "bubble column"\nwidth = 3', "width"),
])  # fmt: skip
def test_faults_of_a_job_with_gas_are_named(tmp_path: Path, old: str, new: str, words: str) -> None:
    text = JOB.replace("{ H2 = 20 }", '{ H2 = "1 mol/mol" }')
    assert old in text
    (tmp_path / "job.toml").write_text(text.replace(old, new, 1))
    done = CliRunner().invoke(app, ["check", str(tmp_path / "job.toml")], env={"COLUMNS": "200"})
    assert done.exit_code == 2
    assert words in " ".join(done.output.split())


WRONG: dict[str, tuple[Any, str]] = {
    "no constant": (lambda: mo.GasPhase(AIR, "0.1 1/s"), "no species dissolves"),
    "unit": (lambda: mo.GasPhase(AIR, "0.1 1/s", {"O2": "4e4 bar"}), "neither a pressure per concentration"),
    "liquid": (lambda: mo.GasPhase(LIQUID, "0.1 1/s", {"O2": 1.0}), "its feed is a liquid"),
    "pressure": (lambda: mo.GasPhase({"O2": "1 mol/mol"}, "0.1 1/s", {"O2": 1.0}), "pressure is not given"),
    "species": (lambda: mo.StirredTank(SECOND, LIQUID, volume=1, T=330, gas=mo.GasPhase(AIR, 0.1, {"H2": 1.0})), "no species H2"),
    "film": (lambda: mo.GasPhase(AIR, 0.1, {"O2": 1.0}, film={"r": mo.FilmReaction("O2", 2e-9)}), "kL is not given"),
    "column": (lambda: mo.BubbleColumn(SECOND, LIQUID, volume=1, T=330), "no gas is given"),
    "train": (lambda: mo.Train([mo.StirredTank(SECOND, LIQUID, volume=1, T=330, gas=GAS)]), "a train does not support"),
    "holdup": (lambda: mo.GasPhase(AIR, 0.1, {"O2": 1.0}, holdup=1.5), "holdup = 1.5"),
    "ratio": (lambda: mo.GasPhase(AIR, 0.1, {"O2": 1.0}, kLa_ratio={"H2": 0.5}), "H2 has no Henry's constant"),
    "no kLa": (lambda: mo.GasPhase(AIR, None, {"O2": 1.0}), "kLa is not given"),
    "real gas": (lambda: mo.GasPhase(mo.Feed({"O2": "1 mol/s"}, T=300.0, P=1e5, model="Soave"), 0.1, {"O2": 1.0}),
                 "its feed is a real gas"),
    "unknown constant": (lambda: mo.GasPhase(AIR, 0.1, {"O2": mo.Unknown(1.0)}), "is not fitted"),
    "no such reaction": (lambda: mo.StirredTank(SECOND, LIQUID, volume=1, T=330, gas=filmed("x", "O2")), "unknown reaction 'x'"),
    "not consumed": (lambda: mo.StirredTank(SECOND, LIQUID, volume=1, T=330, gas=filmed("r", "N2")), "does not consume N2"),
    "no temperature": (lambda: mo.Batch(SECOND, {"A": 1.0}, gas=mo.GasPhase({"O2": "1 mol/mol"}, 0.1, {"O2": 1.0}, P=1e5)),
                       "no temperature is given"),
    "gas in gas": (lambda: mo.StirredTank(SECOND, AIR, volume=1, gas=GAS), "this vessel holds a gas"),
}  # fmt: skip


@pytest.mark.parametrize("case", WRONG)
def test_what_does_not_go_together_is_reported(case: str) -> None:
    make, words = WRONG[case]
    with pytest.raises(mo.InputError, match=words):
        make()
