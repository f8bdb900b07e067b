"""Energy: closures in every vessel and heat mode, closed forms, independent balances, runaways."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad, solve_bvp, solve_ivp
from scipy.optimize import brentq

import molino as mo

R = 8.31446261815324
HOT = mo.Chemistry(
    mo.Reaction("A -> B", k=mo.Arrhenius(k="0.05 1/min", at="330 K", Ea="85 kJ/mol"), enthalpy="-80 kJ/mol", name="r")
)
WATERY = {"heat_capacity": "4.2 kJ/kg/K", "density": "1000 kg/m3"}
FEED = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="330 K", **WATERY)

GAS_SPECIES = [
    mo.Species("A", "C2H6O", heat_capacity=(20.0, 0.16, -4e-5), enthalpy_of_formation="-235 kJ/mol"),
    mo.Species("B", "C2H4", heat_capacity=(12.0, 0.12), enthalpy_of_formation="52.5 kJ/mol"),
    mo.Species("water", "H2O", heat_capacity=33.6, enthalpy_of_formation="-241.8 kJ/mol"),
    mo.Species("inert", "N2", heat_capacity=29.1, enthalpy_of_formation=0.0),
]
GAS = mo.Chemistry(
    mo.Reaction("A -> B + water", k=mo.Arrhenius(A="3e6 1/s", Ea="95 kJ/mol"), name="r"), species=GAS_SPECIES
)
VAPOUR = mo.Feed({"A": "40 mol%", "inert": "rest"}, flow="10 kmol/h", T="700 K", P="2 bar")

HEATS: dict[str, Callable[[str], object]] = {
    "isothermal": lambda along: None,
    "adiabatic": lambda along: "adiabatic",
    "coolant held": lambda along: mo.Jacket("310 K", UA="4 kW/K"),
    "coolant flowing": lambda along: mo.Jacket("310 K", UA="4 kW/K", flow="6 kW/K"),
    "profile": lambda along: mo.Profile([(0, "330 K"), (along, "352 K")]),
}


def liquid_vessels(T: float, c: float, minutes: float, heat: str) -> list[object]:
    """One of each liquid vessel under a heat mode."""
    feed = mo.Feed({"A": c}, flow="100 L/min", T=T, **WATERY)
    kept = None if heat == "profile" else T
    time = f"{minutes} min"
    made: list[object] = [
        mo.Batch(HOT, {"A": c}, T=kept, volume="1 m3", time=time, heat=HEATS[heat](time), **WATERY),
        mo.SemiBatch(
            HOT, {"B": 10.0}, {"a": mo.Dosing(feed, windows=[(60, minutes * 30)])}, T=kept, volume="1 m3", time=time,
            heat=HEATS[heat](time), capacity=f"{1000 + minutes * 20} L", withdrawal="2 L/min", **WATERY,
        ),
        mo.PlugFlow(HOT, feed, space_time=time, heat=HEATS[heat](f"{minutes * 0.05} m3")),
    ]  # fmt: skip
    if heat != "profile":
        made.append(mo.StirredTank(HOT, feed, space_time=time, heat=HEATS[heat](time)))
    return made


@settings(max_examples=12, deadline=None)
@given(
    T=st.floats(315.0, 345.0), c=st.floats(100.0, 2500.0), minutes=st.floats(5.0, 60.0), heat=st.sampled_from([*HEATS])
)
def test_elements_and_energy_close_in_every_liquid_vessel(T: float, c: float, minutes: float, heat: str) -> None:
    for vessel in liquid_vessels(T, c, minutes, heat):
        runs = [vessel.run()]
        if isinstance(vessel, mo.StirredTank):
            runs.append(vessel.run("2 h", changes=[mo.Change("flow", "80 L/min", at="1 h", over="10 min")]))
        for run in runs:
            assert "energy" in run.closure
            assert max(run.closure.values()) < 1e-8, (vessel, run.closure)


@settings(max_examples=10, deadline=None)
@given(T=st.floats(620.0, 760.0), x=st.floats(0.05, 0.95), heat=st.sampled_from(["isothermal", "adiabatic", "jacket"]))
def test_elements_and_energy_close_in_every_gas_vessel(T: float, x: float, heat: str) -> None:
    feed = mo.Feed({"A": f"{100 * x} mol%", "inert": "rest"}, flow="10 kmol/h", T=T, P="2 bar")
    mode = mo.Jacket("650 K", UA="0.2 kW/K") if heat == "jacket" else heat
    batches = [
        mo.Batch(
            GAS,
            feed,
            volume="1 m3",
            time="60 s",
            heat=mode,
            constant_volume=constant_volume,
            P=None if constant_volume else "2 bar",
        )
        for constant_volume in (True, False)
    ]
    tank = mo.StirredTank(GAS, feed, volume="2 m3", heat=mode)
    runs = [
        *(b.run() for b in batches),
        tank.steady(),
        tank.run("2 min"),
        mo.PlugFlow(GAS, feed, volume="2 m3", heat=mode).run(),
    ]
    for run in runs:
        assert {"C", "H", "O", "N", "mass", "energy"} >= {*run.closure} >= {"C", "energy"}
        assert max(run.closure.values()) < 1e-8, run.closure
    if heat == "isothermal":
        constant_volume, swelling = runs[:2]
        c = [np.sum([v[[0, -1]] for v in run.concentrations.values()], axis=0) for run in (constant_volume, swelling)]
        assert constant_volume.series["pressure"][-1] / 2e5 == pytest.approx(c[0][1] / c[0][0], rel=1e-9)
        assert c[1][1] == pytest.approx(c[1][0], rel=1e-9)  # at constant T and P
        formed = swelling.conversion("A") * x
        assert swelling.series["volume"][-1] == pytest.approx(1 + formed, rel=1e-9)


def enthalpy(flows: dict[str, float], T: float) -> float:
    """By quadrature of the heat capacities: nothing of the library's."""
    found = 0.0
    for s in GAS_SPECIES:
        Cp = [c.si for c in s.heat_capacity.coefficients]
        rise = quad(lambda t, Cp=Cp: sum(c * t**n for n, c in enumerate(Cp)), 298.15, T, epsabs=1e-9)[0]
        found += flows[s.name] * (s.enthalpy_of_formation.si + rise)
    return found


@pytest.mark.parametrize("kind", [mo.PlugFlow, mo.StirredTank])
def test_adiabatic_outlets_agree_with_an_independent_enthalpy_balance(kind: type) -> None:
    run = kind(GAS, VAPOUR, volume="1.5 m3", heat="adiabatic").run()
    out = run.stream_out()
    total = 10e3 / 3600
    assert out.amounts["B"] > 0.1 * total
    fed = {"A": 0.4 * total, "inert": 0.6 * total, "B": 0.0, "water": 0.0}
    T = brentq(lambda T: enthalpy(dict(out.amounts), T) - enthalpy(fed, 700.0), 300.0, 900.0, xtol=1e-10)
    assert pytest.approx(T, rel=1e-6) == out.T
    assert run.duty_si == pytest.approx(0.0, abs=1e-3)
    assert -run.heat_released.to("W") > 1e4  # it takes heat up
    kept = kind(GAS, VAPOUR, volume="1.5 m3").run()
    wanted = enthalpy(dict(kept.stream_out().amounts), 700.0) - enthalpy(fed, 700.0)
    assert kept.duty_si == pytest.approx(wanted, rel=1e-6)
    assert kept.duty.to("W") == pytest.approx(wanted, rel=1e-6)


def test_adiabatic_batches_rise_by_heat_over_heat_capacity() -> None:
    """dT = c (-dH)/(rho Cp) at full conversion; with a wall the heat is shared; a stirrer adds its power."""
    batch = mo.Batch(HOT, {"A": "2 mol/L"}, T="340 K", volume="1 m3", time="10 h", heat="adiabatic", **WATERY)
    rise = 2000 * 80e3 / 4.2e6
    assert batch.run().temperatures[-1] == pytest.approx(340 + rise, rel=1e-9)
    walled = batch.with_(heat=mo.Adiabatic(wall="1 MJ/K")).run()
    assert walled.temperatures[-1] == pytest.approx(340 + 2000 * 80e3 / 5.2e6, rel=1e-9)
    stirred = batch.with_(heat=mo.Adiabatic(stirrer="2 kW"), charge={"B": 1.0, "A": 1e-9}).run()
    assert stirred.temperatures[-1] == pytest.approx(340 + 2e3 * 36000 / 4.2e6, rel=1e-6)
    assert batch.run().duty_si == pytest.approx(0.0, abs=1.0)
    assert batch.run().heat_released.to("MJ") == pytest.approx(160, rel=1e-8)
    kept = batch.with_(heat=None).run()
    assert kept.duty.to("MJ") == pytest.approx(-160 * kept.conversion("A"), rel=1e-9)


def test_the_adiabatic_rise_is_where_an_adiabatic_vessel_ends() -> None:
    batch = mo.Batch(HOT, {"A": "2 mol/L"}, T="340 K", volume="1 m3", time="20 h", heat="adiabatic", **WATERY)
    assert batch.adiabatic_rise() == pytest.approx(2000 * 80e3 / 4.2e6, rel=1e-9)
    tube = mo.PlugFlow(GAS, VAPOUR, volume="5000 m3", heat="adiabatic")
    fed = {"A": 0.4, "inert": 0.6, "B": 0.0, "water": 0.0}
    gone = {"A": 0.0, "inert": 0.6, "B": 0.4, "water": 0.4}
    T = brentq(lambda T: enthalpy(gone, T) - enthalpy(fed, 700.0), 200.0, 900.0, xtol=1e-10)
    assert tube.adiabatic_rise() == pytest.approx(T - 700, rel=1e-8)
    two = mo.Chemistry(
        [mo.Reaction("A -> B", k=1, enthalpy=-1e3, name="a"), mo.Reaction("B -> C", k=1, enthalpy=-1e3, name="b")]
    )
    both = mo.Batch(two, {"A": 1.0}, T=300, heat_capacity=1e6)
    for wrong, content in ((None, "which reaction"), ("b", "is missing"), ("q", "unknown reaction 'q'")):
        with pytest.raises(mo.InputError, match=content):
            both.adiabatic_rise(wrong)


def test_a_sweep_and_a_size_of_adiabatic_vessels_agree_with_their_runs() -> None:
    tube = mo.PlugFlow(HOT, FEED, volume="1 m3", heat="adiabatic")
    metrics = ["conversion of A", "temperature"]
    swept = mo.sweep(tube, {"T": ["325 K", "335 K"], "flow": ["80 L/min", "120 L/min"]}, metrics)
    for i, T in enumerate((325, 335)):
        for j, flow in enumerate(("80 L/min", "120 L/min")):
            run = tube.with_({"feed T": T, "flow": flow}).run()
            assert swept.values["conversion of A"][i, j] == pytest.approx(run.conversion("A"), rel=1e-8)
            assert swept.values["temperature"][i, j] == pytest.approx(run.temperatures[-1], rel=1e-9)
    tanks = mo.sweep(
        mo.StirredTank(HOT, FEED, volume="1 m3", heat="adiabatic"), {"feed T": ["330 K", "340 K"]}, metrics
    )
    single = mo.StirredTank(
        HOT, mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="340 K", **WATERY), volume="1 m3", heat="adiabatic"
    )
    assert tanks.values["temperature"][1] == pytest.approx(single.steady().temperatures[-1], rel=1e-8)
    hot = mo.size(mo.PlugFlow(HOT, FEED, heat="adiabatic"), mo.results.temperature(), "360 K")
    assert hot.run.temperatures[-1] == pytest.approx(360, rel=1e-10)
    assert hot.run.conversion("A") == pytest.approx(30 * 4.2e6 / 2000 / 80e3, rel=1e-8)


def test_sizes_and_sweeps_go_through_programmes() -> None:
    """Half of A gone where the integral of k over the ramp is ln 2; a tube by its length, a batch by its time."""
    spent = lambda end, T: quad(lambda t: 0.05 / 60 * math.exp(-85e3 / R * (1 / T(t) - 1 / 330)), 0, end)[0]  # noqa: E731
    ramp = mo.Profile([("0 min", "320 K"), ("60 min", "350 K")])
    batch = mo.Batch(HOT, {"A": "1 mol/L"}, volume="1 m3", heat=ramp, **WATERY)
    exact = brentq(lambda end: spent(end, lambda t: 320 + t / 120) - math.log(2), 1.0, 3600.0)
    sized = mo.size(batch, "conversion of A", 0.5)
    assert sized.value == pytest.approx(exact, rel=1e-7)
    later = mo.size(batch, "conversion of A", 0.9999)
    assert later.value > 3600
    assert later.run.conversion("A") == pytest.approx(0.9999, rel=1e-9)
    swept = mo.sweep(batch, {"time": ["30 min", "90 min"]}, ["conversion of A"])
    assert swept.values["conversion of A"] == pytest.approx(
        [batch.run(t).conversion("A") for t in ("30 min", "90 min")]
    )
    feed = mo.Feed({"A": "1 mol/L"}, flow="36 m3/h", T="330 K", **WATERY)
    tube = mo.PlugFlow(HOT, feed, diameter="30 cm", heat=mo.Profile([("0 m", "320 K"), ("100 m", "350 K")]))
    area = math.pi / 4 * 0.09
    length = brentq(
        lambda L: spent(L * area / 0.01, lambda t: min(320 + 0.3 * t * 0.01 / area, 350.0)) - math.log(2), 1, 400
    )
    assert mo.size(tube, "conversion of A", 0.5).value == pytest.approx(length, rel=1e-6)


def test_the_uncertainty_of_a_counter_current_tube_counts_its_coolant() -> None:
    from molino.core.chemistry.reaction_set import Covariance

    chem = mo.Chemistry(HOT.reactions, covariance=Covariance(("r.k",), np.array([[1e-10]]), 20))
    jacket = mo.Jacket("325 K", U="300 W/m2/K", flow="2 kW/K", counter_current=True)
    feed = mo.Feed({"A": "2 mol/L"}, flow="60 L/min", T="330 K", **WATERY)
    sized = mo.size(mo.PlugFlow(chem, feed, diameter="6 cm", tubes=8, heat=jacket), "conversion of A", 0.4)
    k = chem.parameters[0].value
    lengths = [
        mo.size(sized.vessel.with_(chemistry=chem.with_values({"r.k": k * (1 + h)})), "conversion of A", 0.4).value
        for h in (1e-3, -1e-3)
    ]
    assert sized.standard_error == pytest.approx(abs(lengths[0] - lengths[1]) / (2e-3 * k) * 1e-5, rel=1e-3)


def test_a_cooled_batch_follows_newtons_law_of_cooling() -> None:
    inert = mo.Batch(HOT, {"B": "1 mol/L", "A": 1e-12}, T="350 K", volume="2 m3", time="1 h",
                     heat=mo.Jacket("300 K", UA="3 kW/K"), **WATERY)  # fmt: skip
    deactivation = math.exp(-3e3 * 3600 / (2 * 4.2e6))
    assert inert.run().temperatures[-1] == pytest.approx(300 + 50 * deactivation, rel=1e-9)
    mixed = inert.with_(heat=mo.Jacket("300 K", U="500 W/m2/K", area="6 m2", flow="2 kW/K")).run()
    eased = 3e3 * 2e3 / 5e3
    assert mixed.temperatures[-1] == pytest.approx(300 + 50 * math.exp(-eased * 3600 / 8.4e6), rel=1e-9)
    coil = inert.with_(
        heat=mo.Jacket("300 K", UA="3 kW/K", flow="1720 kg/h", heat_capacity="4186 J/kg/K", coil=True)
    ).run()
    C = 1720 / 3600 * 4186
    assert coil.temperatures[-1] == pytest.approx(
        300 + 50 * math.exp(-C * (1 - math.exp(-3e3 / C)) * 3600 / 8.4e6), rel=1e-9
    )
    T = coil.temperatures
    assert coil.series["coolant outlet temperature"] == pytest.approx(T - (T - 300) * math.exp(-3e3 / C), rel=1e-9)
    ramped = inert.with_(heat=mo.Jacket([(0, 300), (3600, 340)], UA="3 kW/K")).run()
    a, b = 3e3 / 8.4e6, 40 / 3600  # dT/dt = a (300 + b t - T)
    exact = 300 + b * 3600 - b / a + (50 + b / a) * math.exp(-a * 3600)
    assert ramped.temperatures[-1] == pytest.approx(exact, rel=1e-9)


def test_a_programme_is_kept_to_with_its_jumps() -> None:
    steps = mo.Profile([("0 min", "320 K"), ("20 min", "320 K"), ("20 min", "340 K"), ("60 min", "340 K")])
    run = mo.Batch(HOT, {"A": "1 mol/L"}, volume="1 m3", time="60 min", heat=steps, **WATERY).run(points=121)
    k = [0.05 / 60 * math.exp(-85e3 / R * (1 / T - 1 / 330)) for T in (320, 340)]
    assert run.concentrations["A"][-1] == pytest.approx(1000 * math.exp(-k[0] * 1200 - k[1] * 2400), rel=1e-9)
    assert run.temperatures[[0, 39, 40, -1]] == pytest.approx([320, 320, 340, 340])
    ramp = mo.Profile([("0 min", "320 K"), ("60 min", "340 K")])
    run = mo.Batch(HOT, {"A": "1 mol/L"}, volume="1 m3", time="60 min", heat=ramp, **WATERY).run()
    spent = quad(lambda t: 0.05 / 60 * math.exp(-85e3 / R * (1 / (320 + t / 180) - 1 / 330)), 0, 3600)[0]
    assert run.concentrations["A"][-1] == pytest.approx(1000 * math.exp(-spent), rel=1e-8)
    assert run.duty_si == pytest.approx(4.2e6 * 20 - 80e3 * 1000 * run.conversion("A"), rel=1e-8)
    tube = mo.PlugFlow(HOT, mo.Feed({"A": "1 mol/L"}, flow="1 m3/h", T="320 K", **WATERY), diameter="20 cm",
                       length="10 m", heat=mo.Profile([("0 m", "320 K"), ("10 m", "340 K")])).run()  # fmt: skip
    assert tube.temperatures == pytest.approx(320 + 20 * tube.positions()[0][2] / 10)


def test_counter_current_coolant_against_a_boundary_value_problem() -> None:
    feed = mo.Feed({"A": "1.5 mol/L"}, flow="60 L/min", T="345 K", **WATERY)
    tube = mo.PlugFlow(HOT, feed, diameter="6 cm", length="30 m", tubes=8,
                       heat=mo.Jacket("320 K", U="350 W/m2/K", flow="2.5 kW/K", counter_current=True))  # fmt: skip
    run = tube.run()
    Q, area = 1e-3, 8 * math.pi / 4 * 0.06**2
    heat, C = 4.2e6 * Q, 2.5e3

    def slopes(z: np.ndarray, y: np.ndarray) -> np.ndarray:
        r = 0.05 / 60 * np.exp(-85e3 / R * (1 / y[1] - 1 / 330)) * y[0]
        through = 350 * 4 / 0.06 * (y[2] - y[1])
        return area * np.array([-r / Q, (80e3 * r + through) / heat, through / C])

    def ends(left: np.ndarray, right: np.ndarray) -> np.ndarray:
        return np.array([left[0] - 1500, left[1] - 345, right[2] - 320])

    z = np.linspace(0, 30, 400)
    first = tube.run(points=400).series
    guess = np.vstack([first[n] * 1.01 for n in ("concentration of A", "temperature", "coolant temperature")])
    exact = solve_bvp(slopes, ends, z, guess, tol=1e-9, max_nodes=100_000)
    assert exact.success
    length = run.positions()[0][2]
    for name, row in (("concentration of A", 0), ("temperature", 1), ("coolant temperature", 2)):
        assert run.series[name] == pytest.approx(exact.sol(length)[row], rel=2e-7, abs=1e-7)
    assert run.duty_si == pytest.approx(C * (320 - run.series["coolant temperature"][0]), rel=1e-9)
    with_flow = tube.with_(heat=mo.Jacket("320 K", U="350 W/m2/K", flow="2.5 kW/K")).run()
    assert with_flow.series["coolant temperature"][0] == 320
    assert with_flow.duty_si == pytest.approx(-C * (with_flow.series["coolant temperature"][-1] - 320), rel=1e-9)
    sized = mo.size(tube, "conversion of A", 0.5)
    assert sized.run.conversion("A") == pytest.approx(0.5, rel=1e-9)
    assert sized.run.series["coolant temperature"][-1] == pytest.approx(320, abs=1e-6)


def test_enthalpies_of_reaction_keep_hess_and_kirchhoff() -> None:
    """Given at another temperature, the heat capacities bring it to 298.15 K; a cycle must add up to nothing."""
    species = [mo.Species("A", heat_capacity=100.0), mo.Species("B", heat_capacity=160.0)]
    reaction = mo.Reaction("A -> B", k=1e-3, enthalpy=-50e3, enthalpy_at=398.15, name="step")
    batch = mo.Batch(mo.Chemistry(reaction, species=species), {"A": 1000.0}, T=398.15, time=2000.0).run()
    assert batch.duty_si == pytest.approx(-50e3 * 1000 * batch.conversion("A"), rel=1e-9)
    cooler = mo.Batch(mo.Chemistry(reaction, species=species), {"A": 1000.0}, T=298.15, time=2000.0).run()
    assert cooler.duty_si == pytest.approx((-50e3 - 60 * 100) * 1000 * cooler.conversion("A"), rel=1e-9)
    cycle = [
        mo.Reaction("A -> B", k=1, enthalpy="-30 kJ/mol", name="one"),
        mo.Reaction("B -> C", k=1, enthalpy="-20 kJ/mol", name="two"),
        mo.Reaction("C -> A", k=1, enthalpy="40 kJ/mol", name="back"),
    ]
    with pytest.raises(mo.InputError, match="contradict each other"):
        mo.Batch(mo.Chemistry(cycle), {"A": 1}, T=300, heat="adiabatic", heat_capacity="4 MJ/m3/K")


def test_without_a_temperature_nothing_is_said_of_heat() -> None:
    chem = mo.Chemistry(
        mo.Reaction("A -> B", k=1e-2, enthalpy=-5e3), species=[mo.Species(s, heat_capacity=50.0) for s in "AB"]
    )
    feed = mo.Feed({"A": 1.0}, 1.0)
    vessels = [mo.Batch(chem, {"A": 1.0}, time=100.0), mo.PlugFlow(chem, feed, volume=100.0), mo.StirredTank(chem, feed, volume=100.0),
               mo.SemiBatch(chem, {"A": 1.0}, {"a": mo.Dosing(mo.Feed({"A": 1.0}, 1e-3))}, time=100.0)]  # fmt: skip
    for vessel in vessels:
        assert [*vessel.run().closure] == ["A + B"]
        with pytest.raises(mo.InputError, match="no temperature is given"):
            _ = vessel.run().duty


def test_a_heat_capacity_beyond_its_range_is_reported() -> None:
    Cp = mo.thermo.HeatCapacity([100.0], valid=("300 K", "340 K"))
    chem = mo.Chemistry(
        mo.Reaction("A -> B", k=1e-2, enthalpy=-5e3), species=[mo.Species(s, heat_capacity=Cp) for s in "AB"]
    )
    error = [mo.Batch(chem, {"A": 1.0}, T=T, time=1e3, heat="adiabatic").run() for T in (301, 280)]
    assert error[0].out_of_range() == ["A beyond 300 K to 340 K", "B beyond 300 K to 340 K"]
    assert "beyond 300 K to 340 K" in str(error[0])
    assert mo.Batch(chem, {"A": 1.0}, T=301, time=1e3).run().out_of_range() == []
    assert error[1].temperatures[-1] == pytest.approx(330 - 50 * math.exp(-10), rel=1e-9)


def test_a_runaway_and_a_hot_spot_are_integrated() -> None:
    """A batch with a rise of 620 K, a tube near ignition: against an implicit method of another kind."""
    violent = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="1e14 1/s", Ea="120 kJ/mol"), enthalpy="-260 kJ/mol"))
    batch = mo.Batch(
        violent, {"A": "10 mol/L"}, T="350 K", volume="1 m3", time="10 h", heat="adiabatic", **WATERY
    ).run()
    rise = 1e4 * 260e3 / 4.2e6
    assert batch.temperatures[-1] == pytest.approx(350 + rise, rel=1e-8)
    assert max(batch.closure.values()) < 1e-8

    def slopes(t: float, y: np.ndarray) -> list[float]:
        r = 1e14 * math.exp(-120e3 / R / y[1]) * y[0]
        return [-r, 260e3 * r / 4.2e6]

    exact = solve_ivp(slopes, [0, 36000], [1e4, 350.0], method="Radau", rtol=1e-11, atol=1e-9, dense_output=True)
    fine = np.linspace(0, 36000, 200_001)
    steepest = fine[np.argmax(np.gradient(exact.sol(fine)[1], fine))]
    assert batch.time_to_maximum_rate.to("s") == pytest.approx(steepest, abs=2.0)
    feed = mo.Feed({"A": "1 mol/L"}, flow="20 L/min", T="375 K", **WATERY)
    tube = mo.PlugFlow(
        violent, feed, diameter="25 mm", length="40 m", tubes=10, heat=mo.Jacket("375 K", U="150 W/m2/K")
    )
    run = tube.run(points=2001)
    assert 380 < float(np.max(run.temperatures)) < 450
    assert np.argmax(run.temperatures) not in (0, 2000)
    assert max(run.closure.values()) < 1e-8
    highest = [tube.run(points=n).max_temperature.to("K") for n in (None, 5, 101, 2001)]
    assert highest == pytest.approx([highest[0]] * 4, rel=1e-9)
    assert highest[0] == pytest.approx(np.max(run.temperatures), rel=1e-4)


FRUCTOSE = {"A": 1000.0}
WRONG: dict[str, tuple[Callable[[], object], list[str]]] = {
    "no heat capacity": (lambda: mo.PlugFlow(HOT, mo.Feed(FRUCTOSE, 1, T=300), volume=1, heat="adiabatic"), ["A has no heat capacity", "B has no"]),
    "no enthalpies": (
        lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=1)), FRUCTOSE, T=300, heat="adiabatic", heat_capacity="4 MJ/m3/K"),
        ["A has no enthalpy of formation", "no enthalpy of reaction", "enthalpy='-85 kJ/mol'"],
    ),
    "per mass without density": (lambda: mo.Feed(FRUCTOSE, 1, T=300, heat_capacity="4.2 kJ/kg/K"), ["needs the density"]),
    "no heat capacity at all": (lambda: mo.Feed(FRUCTOSE, 1, heat_capacity="4 kJ/mol"), ["is not a heat capacity per volume, mass or mole"]),
    "a gas by volume": (
        lambda: mo.PlugFlow(HOT, mo.Feed({"A": "1 bar"}, 1, T=300, heat_capacity="4 MJ/m3/K"), volume=1, heat="adiabatic"),
        ["belongs to a liquid of constant density"],
    ),
    "an unknown mode": (lambda: mo.Batch(HOT, FRUCTOSE, heat="cold"), ["is not a specification of heat transfer", "mo.Jacket"]),
    "T of an adiabatic tube": (lambda: mo.PlugFlow(HOT, FEED, volume=1, T=300, heat="adiabatic"), ["follows from its heat balance", "leave T out"]),
    "no T of the feed": (
        lambda: mo.StirredTank(HOT, mo.Feed(FRUCTOSE, 1, heat_capacity="4 MJ/m3/K"), volume=1, T=300, heat="adiabatic"), ["give T of the feed"],
    ),
    "T and a profile": (lambda: mo.Batch(HOT, FRUCTOSE, T=300, heat=mo.Profile([(0, 300)])), ["both T and a temperature profile"]),
    "times that fall": (lambda: mo.Batch(HOT, FRUCTOSE, heat=mo.Profile([(5, 300), (0, 310)])), ["times do not rise"]),
    "no pairs": (lambda: mo.Batch(HOT, FRUCTOSE, heat=mo.Profile("fast")), ["not a list of pairs"]),
    "U and UA": (lambda: mo.Jacket(300, U=1, UA=1), ["both given"]),
    "neither": (lambda: mo.Jacket(300), ["neither U nor UA"]),
    "UA and area": (lambda: mo.Jacket(300, UA=1, area=2), ["UA includes the area"]),
    "coil without flow": (lambda: mo.Jacket(300, UA=1, coil=True), ["the flow of the coolant is not given"]),
    "a mass flow alone": (lambda: mo.Jacket(300, UA=1, flow="2 t/h"), ["its heat capacity is missing"]),
    "U of a tank without area": (lambda: mo.StirredTank(HOT, FEED, volume=1, heat=mo.Jacket(300, U=1)), ["without the area"]),
    "counter-current in a tank": (lambda: mo.StirredTank(HOT, FEED, volume=1, heat=mo.Jacket(300, UA=1, flow=2, counter_current=True)), ["needs a tube"]),
    "a coil along a tube": (lambda: mo.PlugFlow(HOT, FEED, volume=1, heat=mo.Jacket(300, UA=1, flow=2, coil=True)), ["a coil is in a tank"]),
    "a wall of a tube": (lambda: mo.PlugFlow(HOT, FEED, volume=1, heat=mo.Jacket(300, UA=1, wall=3)), ["has no wall"]),
    "U without diameter": (lambda: mo.PlugFlow(HOT, FEED, volume=1, heat=mo.Jacket(300, U=1)), ["area of heat transfer is unknown"]),
    "a profile of a tank": (lambda: mo.StirredTank(HOT, FEED, volume=1, heat=mo.Profile([(0, 300)])), ["has no profile"]),
    "duty of what is not known": (
        lambda: mo.PlugFlow(HOT, mo.Feed(FRUCTOSE, 1, T=330), volume=1).run().duty, ["A has no heat capacity"],
    ),
    "maximum rate where T is kept": (lambda: mo.Batch(HOT, FRUCTOSE, T=330, time=9).run().time_to_maximum_rate, ["the temperature is prescribed"]),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_what_is_wrong_with_heat_is_reported(name: str) -> None:
    make, parts = WRONG[name]
    with pytest.raises(mo.InputError) as error:
        make()
    for part in parts:
        assert part in str(error.value)


def test_a_jump_of_a_prescribed_temperature_takes_its_heat() -> None:
    """The duty of a jump is the sensible heat of what is there; the account closes, and slopes count it."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/min", enthalpy="-50 kJ/mol"))
    jump = [("0 min", "320 K"), ("5 min", "320 K"), ("5 min", "340 K"), ("10 min", "340 K")]
    batch = mo.Batch(chemistry, {"A": "1 mol/L"}, volume="1 m3", heat=mo.Profile(jump), heat_capacity="4 MJ/m3/K",
                     time="10 min")  # fmt: skip
    run = batch.run()
    ramp = batch.with_({"T": mo.Profile([("0 min", "320 K"), ("10 min", "340 K")])}).run()
    exact = 20 * 4e6 - 50e3 * 1e3 * run.conversion("A")
    assert run.metric("heat") == pytest.approx(exact, rel=1e-9)
    assert ramp.metric("heat") == pytest.approx(exact, rel=1e-9)
    assert run.closure["energy"] < 1e-9
    high, low = (batch.with_({"[A]": c}).run().metric("heat") for c in (1001.0, 999.0))
    assert run.sensitivity("heat", ["[A]"])["[A]"] == pytest.approx((high - low) / 2, rel=1e-6)
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="320 K", heat_capacity="4 MJ/m3/K")
    along = mo.Profile([("0 L", "320 K"), ("5 L", "320 K"), ("5 L", "340 K")])
    tube = mo.PlugFlow(chemistry, feed, volume="10 L", heat=along).run()
    assert tube.duty_si == pytest.approx((20 * 4e6 * 1e-3 - 50e3 * tube.conversion("A")) / 60, rel=1e-9)
    assert tube.closure["energy"] < 1e-9
    tank = mo.StirredTank(chemistry, feed, volume="10 L", T="320 K")
    assert tank.run("30 min", changes=[mo.Change("T", "340 K", at="10 min")]).closure["energy"] < 1e-9
