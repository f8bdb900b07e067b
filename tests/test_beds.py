"""Pressure along tubes, catalyst particles and their age, real gases: against closed forms and integrals."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import solve_bvp
from scipy.optimize import brentq
from scipy.special import i0, i1

import molino as mo
from molino.core.chemistry.composition import composition
from molino.core.terms.effectiveness import SHAPES, Effectiveness, EffectivenessSlope

R = 8.31446261815324
SLOW = mo.Chemistry(mo.Reaction("A -> B", k="1e-9 1/s", name="r"), species={"A": "N2", "B": "N2"})
AIR = mo.Feed({"A": "100 mol%"}, flow="1 kmol/h", T="400 K", P="5 bar")
PACKED = mo.Catalyst(voidage=0.4, particle_diameter="3 mm")
DROP = mo.PressureDrop("0.022 mPa*s")
M = composition("N2").molar_mass


def test_ergun_against_its_integral_for_constant_properties() -> None:
    """P^2 = P0^2 - 2 b P0 L for a gas of constant temperature and moles; a straight line in a liquid."""
    bed = mo.PlugFlow(SLOW, AIR, diameter="50 mm", length="4 m", catalyst=PACKED, pressure_drop=DROP)
    run = bed.run()
    area = math.pi / 4 * 0.05**2
    G = 1e3 / 3600 * M / area
    rho = 5e5 * M / R / 400
    e, d, mu = 0.4, 3e-3, 2.2e-5
    slope = (150 * mu * (1 - e) ** 2 / (e**3 * d**2) * G + 1.75 * (1 - e) / (e**3 * d) * G**2) / rho
    z = run.positions()[0][2]
    assert run.series["pressure"] == pytest.approx(np.sqrt(5e5**2 - 2 * slope * 5e5 * z), rel=1e-6)
    assert run.series["pressure"][-1] < 4.99e5
    water = mo.Feed(
        {"A": "1 mol/L"}, flow="1 m3/h", T="300 K", P="4 bar", density="1000 kg/m3", model="constant density"
    )
    wet = mo.PlugFlow(
        SLOW, water, diameter="50 mm", length="2 m", catalyst=PACKED, pressure_drop=mo.PressureDrop("1 mPa*s")
    )
    u = 1 / 3600 / area
    fall = 150e-3 * 0.36 / (0.064 * 9e-6) * u + 1.75 * 0.6 / (0.064 * 3e-3) * 1000 * u**2
    assert wet.run().series["pressure"][-1] == pytest.approx(4e5 - 2 * fall, rel=1e-9)
    shared = bed.with_(tubes=4, feed=mo.Feed({"A": "100 mol%"}, flow="4 kmol/h", T="400 K", P="5 bar")).run()
    assert shared.series["pressure"][-1] == pytest.approx(run.series["pressure"][-1], rel=1e-9)


def test_friction_in_an_empty_tube_from_laminar_to_rough() -> None:
    """Hagen-Poiseuille below Re 2000; C. F. Colebrook's equation within 3 % for rough walls at high Re."""

    def fall(flow: float, roughness: float, mu: float) -> float:
        feed = mo.Feed({"A": 1.0}, flow=flow, T=300, P="50 bar", density=1000.0, model="constant density")
        drop = mo.PressureDrop(mu, roughness)
        run = mo.PlugFlow(SLOW, feed, diameter=0.02, length=10.0, pressure_drop=drop).run()
        return float(50e5 - run.series["pressure"][-1])

    u = 0.05
    flow = u * math.pi / 4 * 0.02**2
    assert fall(flow, 0.0, 1e-3) == pytest.approx(32 * 1e-3 * u * 10 / 0.02**2, rel=1e-3)
    u, rough, reynolds = 3.0, 5e-5, 3.0 * 0.02 / 1e-6
    f = brentq(
        lambda f: 1 / math.sqrt(f) + 2 * math.log10(rough / 0.02 / 3.7 + 2.51 / reynolds / math.sqrt(f)), 1e-3, 1
    )
    assert fall(u * math.pi / 4 * 0.02**2, rough, 1e-3) == pytest.approx(f * 1000 * u**2 / 2 / 0.02 * 10, rel=0.03)


def test_a_bed_that_chokes_is_reported_with_the_place() -> None:
    fast = mo.Feed({"A": "100 mol%"}, flow="6 kmol/h", T="400 K", P="2 bar")
    bed = mo.PlugFlow(SLOW, fast, diameter="30 mm", length="5 m", catalyst=PACKED, pressure_drop=DROP, name="bed")
    G = 6e3 / 3600 * M / (math.pi / 4 * 0.03**2)
    slope = (150 * 2.2e-5 * 0.36 / (0.064 * 9e-6) * G + 1.75 * 0.6 / (0.064 * 3e-3) * G**2) / (2e5 * M / R / 400)
    end = 2e5 / 2 / slope  # where P^2 comes to nothing
    with pytest.raises(mo.SolveError) as error:
        bed.run()
    assert "the tube chokes: its pressure falls to zero at length" in str(error.value)
    place = float(str(error.value).partition("at length ")[2].split()[0])
    assert (
        place / 1000 == pytest.approx(end, rel=0.02)
        if "mm of" in str(error.value)
        else place == pytest.approx(end, rel=0.02)
    )
    assert bed.with_(length=0.5 * end).run().series["pressure"][-1] == pytest.approx(2e5 * math.sqrt(0.5), rel=1e-6)
    assert "more tubes" in str(error.value)


def test_a_gas_tube_with_expansion_temperature_and_pressure() -> None:
    """First order, A -> 3 B, isothermal with falling pressure: dX/dW by quadrature of an independent script."""
    chem = mo.Chemistry(mo.Reaction("A -> 3 B", k="0.4 1/s", name="r"), species={"A": "C3H6O3", "B": "CH2O"})
    feed = mo.Feed({"A": "80 mol%", "B": "rest"}, flow="0.2 kmol/h", T="500 K", P="3 bar")
    tube = mo.PlugFlow(chem, feed, diameter="40 mm", length="3 m", catalyst=PACKED, pressure_drop=DROP).run()
    area, F = math.pi / 4 * 0.04**2, 200 / 3600
    flux = F * (0.8 * composition("C3H6O3").molar_mass + 0.2 * composition("CH2O").molar_mass) / area
    first, second = 150 * 2.2e-5 * 0.36 / (0.064 * 9e-6), 1.75 * 0.6 / (0.064 * 3e-3)
    y, n = np.array([0.0, 3e5]), 30_000
    h = 3.0 / n

    def slopes(y: np.ndarray) -> np.ndarray:
        Q = F * (1 + 1.6 * y[0]) * R * 500 / y[1]
        rho = flux * area / Q
        return np.array([0.4 * 0.4 * (1 - y[0]) / Q * area, -(first * flux + second * flux**2) / rho])

    for _ in range(n):  # the midpoint rule, fine enough for six digits
        y = y + h * slopes(y + h / 2 * slopes(y))
    assert tube.conversion("A") == pytest.approx(y[0], rel=1e-6)
    assert tube.series["pressure"][-1] == pytest.approx(y[1], rel=1e-6)
    whole = mo.Catalyst(voidage=0.4, particle_diameter="3 mm", bulk_density="800 kg/m3")
    idle = mo.Reaction("A -> 3 B", rate="w*[A]", w="1e-30 L/kg/s", basis="catalyst mass")
    beside = mo.PlugFlow(mo.Chemistry([*chem.reactions, idle], species=chem.species),
                         feed, diameter="40 mm", length="3 m", catalyst=whole, pressure_drop=DROP).run()  # fmt: skip
    assert beside.conversion("A") == pytest.approx(tube.conversion("A"), rel=1e-9)  # per volume means of fluid, always


@pytest.mark.parametrize(("shape", "exponent"), [("slab", 0), ("cylinder", 1), ("sphere", 2)])
def test_effectiveness_factors_against_closed_forms_and_the_particle_itself(shape: str, exponent: int) -> None:
    for phi in (1e-4, 0.01, 0.011, 0.3, 1.0, 4.0, 40.0):
        exact = {
            "slab": math.tanh(phi) / phi,
            "cylinder": i1(2 * phi) / (phi * i0(2 * phi)),
            "sphere": (3 * phi / math.tanh(3 * phi) - 1) / (3 * phi**2),
        }[shape]
        assert mo.thermo.effectiveness_factor(phi, shape) == pytest.approx(exact, rel=1e-7 if phi > 1e-3 else 1e-5)
    for square in (1e-5, 9.9e-5, 1.01e-4, 0.5, 30.0):
        step = 1e-4 * square
        ends = [Effectiveness.number(square + h, SHAPES[shape]) for h in (step, -step)]
        assert EffectivenessSlope.number(square, SHAPES[shape]) == pytest.approx(
            (ends[0] - ends[1]) / 2 / step, rel=1e-4
        )
    outer = {"slab": 1.0, "cylinder": 2.0, "sphere": 3.0}[shape]  # radius in units of V/S
    phi, first = 1.7, 1e-3

    def slopes(r: np.ndarray, y: np.ndarray) -> np.ndarray:
        return np.vstack([y[1], phi**2 * y[0] - exponent * y[1] / r])

    def ends(left: np.ndarray, right: np.ndarray) -> np.ndarray:
        return np.array([left[1] - phi**2 * left[0] * first / (exponent + 1), right[0] - 1])

    r = np.linspace(first, outer, 400)
    found = solve_bvp(slopes, ends, r, np.vstack([np.ones(400), np.zeros(400)]), tol=1e-8, max_nodes=100_000)
    assert found.success
    assert found.y[1, -1] / phi**2 == pytest.approx(mo.thermo.effectiveness_factor(phi, shape), rel=1e-6)


def test_pores_age_and_mass_of_a_catalyst() -> None:
    """A bed of first order with an effectiveness factor is one with a smaller rate constant; so is an aged one."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.002 m3/kg/s", basis="catalyst mass", name="r"))
    feed = mo.Feed({"A": "100 mol/m3"}, flow="1 m3/min")
    particles = {"particle_density": "1400 kg/m3", "voidage": 0.4, "particle_diameter": "6 mm"}
    internal_diffusion = mo.Catalyst(**particles, internal_diffusion={"r": mo.InternalDiffusion("A", "2e-5 m2/s")})
    assert internal_diffusion.bulk_density.si == pytest.approx(840)
    run = mo.PlugFlow(chem, feed, catalyst_mass="20 kg", catalyst=internal_diffusion).run()
    eta = mo.thermo.effectiveness_factor(1e-3 * math.sqrt(0.002 * 1400 / 2e-5))
    assert run.series["effectiveness of r"] == pytest.approx(eta)
    assert run.conversion("A") == pytest.approx(1 - math.exp(-0.002 * eta * 20 * 60), rel=1e-8)
    assert run.volume_si == pytest.approx(20 / 840)
    sized = mo.size(mo.PlugFlow(chem, feed, catalyst=internal_diffusion), "conversion of A", 0.5, free="catalyst_mass")
    assert sized.value == pytest.approx(math.log(2) / (0.002 * eta * 60), rel=1e-8)
    second = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k="2e-5 m6/mol/kg/s", basis="catalyst mass", name="r"))
    tank = mo.StirredTank(
        second,
        feed,
        volume="0.02 m3",
        catalyst=mo.Catalyst(**particles, internal_diffusion={"r": mo.InternalDiffusion("A", "2e-5 m2/s", order=2)}),
    ).steady()
    c = tank.concentrations["A"][-1]
    modulus = 1e-3 * math.sqrt(1.5 * 2e-5 * c * 1400 / 2e-5)
    assert 100 - c == pytest.approx(1.2 * 840 * 2e-5 * c**2 * mo.thermo.effectiveness_factor(modulus), rel=1e-8)
    for order, left in ((1, math.exp(-0.5)), (2, 1 / 1.5), (0.5, 0.75**2)):
        aged = mo.Catalyst(bulk_density="840 kg/m3", deactivation=mo.Deactivation("0.001 1/h", order, "500 h"))
        spent = mo.PlugFlow(chem, feed, catalyst_mass="20 kg", catalyst=aged).run()
        assert spent.conversion("A") == pytest.approx(1 - math.exp(-0.002 * left * 20 * 60), rel=1e-8)
        assert mo.StirredTank(chem, feed, catalyst_mass="20 kg", catalyst=aged).steady().conversion(
            "A"
        ) == pytest.approx(1 - 1 / (1 + 0.002 * left * 1200), rel=1e-9)
    fresh = mo.Catalyst(bulk_density="1 kg/m3", deactivation=mo.Deactivation("0.001 1/s"))
    batch = mo.Batch(chem, {"A": 100.0}, time="30 min", catalyst=fresh).run()
    assert batch.series["activity"] == pytest.approx(np.exp(-1e-3 * batch.points), rel=1e-9)
    assert batch.concentrations["A"][-1] == pytest.approx(100 * math.exp(-2 * (1 - math.exp(-1.8))), rel=1e-8)


SPECIES = [
    mo.Species("A", "CH4O", heat_capacity=(21.0, 0.071), enthalpy_of_formation="-201 kJ/mol", critical_temperature="512.6 K", critical_pressure="80.9 bar", acentric_factor=0.556),
    mo.Species("E", "C2H6O", heat_capacity=(17.0, 0.179), enthalpy_of_formation="-184 kJ/mol", critical_temperature="400.1 K", critical_pressure="53.7 bar", acentric_factor=0.2),
    mo.Species("W", "H2O", heat_capacity=33.6, enthalpy_of_formation="-241.8 kJ/mol", critical_temperature="647.1 K", critical_pressure="220.6 bar", acentric_factor=0.344),
]  # fmt: skip
REAL = mo.Chemistry(mo.Reaction("2 A -> E + W", rate="k*p[A]", k="0.01 mol/m3/s/bar", name="r"), species=SPECIES)


@pytest.mark.parametrize("form", ["Soave", "Peng-Robinson"])
def test_an_adiabatic_tube_of_a_real_gas_keeps_the_enthalpy_of_the_equation_of_state(form: str) -> None:
    """Outlet temperature and flow from `CubicEquation`, which shares no expression with the balances."""
    pairs = {("A", "W"): -0.08}
    model = mo.thermo.CubicEquation(SPECIES, form, pairs)
    feed = mo.Feed({"A": "90 mol%", "W": "rest"}, flow="50 kmol/h", T="540 K", P="40 bar", model=model)
    tube = mo.PlugFlow(REAL, feed, volume="2 m3", heat="adiabatic")
    run = tube.run()
    assert run.conversion("A") > 0.1

    def enthalpy(flows: dict[str, float], T: float) -> float:
        ideal = 0.0
        for s in SPECIES:
            rise = sum(
                c.si * (T ** (n + 1) - 298.15 ** (n + 1)) / (n + 1) for n, c in enumerate(s.heat_capacity.coefficients)
            )
            ideal += flows.get(s.name, 0.0) * (s.enthalpy_of_formation.si + rise)
        return ideal + sum(flows.values()) * model.at(T, 40e5, flows, "gas").enthalpy_departure

    out = run.stream_out()
    fed = {"A": 45e3 / 3600, "W": 5e3 / 3600}
    T = brentq(lambda T: enthalpy(dict(out.amounts), T) - enthalpy(fed, 540.0), 450, 800, xtol=1e-9)
    assert pytest.approx(T, rel=1e-6) == out.T
    state = model.at(out.T, 40e5, out.amounts, "gas")
    assert out.volume == pytest.approx(sum(out.amounts.values()) / state.concentration, rel=1e-9)
    assert 0.6 < state.Z < 0.97
    assert max(run.closure.values()) < 1e-8
    inlet = run.concentrations["A"][0]
    assert inlet == pytest.approx(0.9 * model.at(540, 40e5, fed, "gas").concentration, rel=1e-9)


def test_a_real_gas_becomes_an_ideal_one_at_low_pressure() -> None:
    outlets = []
    for model in ("ideal gas", "Soave"):
        feed = mo.Feed({"A": "1 mol/mol"}, flow="1 kmol/h", T="600 K", P="0.01 bar", model=model)
        outlets.append(mo.PlugFlow(REAL, feed, volume="30 m3", heat="adiabatic").run())
    assert outlets[0].conversion("A") == pytest.approx(outlets[1].conversion("A"), rel=1e-4)
    assert outlets[0].temperatures[-1] == pytest.approx(outlets[1].temperatures[-1], rel=1e-4)


def test_a_liquid_expands_by_the_rackett_equation() -> None:
    """What flows out takes up sum F_i v_i(T), and all closes; without a density v = R Tc/Pc Z^(1 + (1 - T/Tc)^(2/7))."""
    own = {"critical_temperature": "514 K", "rackett_factor": 0.25}
    pair = [mo.Species(s, "C2H6O", heat_capacity="110 J/mol/K", density="790 kg/m3", **own) for s in "AB"]
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.02 1/s", enthalpy="-20 kJ/mol"), pair)
    feed = mo.Feed({"A": "1 mol/mol"}, flow="10 mol/s", T="300 K", model="additive volumes")

    def v(T: float) -> float:
        return 46.069e-6 / 0.79 * 0.25 ** ((1 - T / 514) ** (2 / 7) - (1 - 298.15 / 514) ** (2 / 7))

    for one in (
        mo.PlugFlow(chem, feed, volume="0.1 m3", heat="adiabatic"),
        mo.StirredTank(chem, feed, volume="0.1 m3", heat="adiabatic"),
        mo.StirredTank(chem, feed, volume="0.1 m3", T="360 K"),
        mo.Batch(chem, {"A": "10 mol"}, T="300 K", time="1 min", heat="adiabatic", model="additive volumes"),
    ):
        run = one.run()  # fmt: skip
        out = run.stream_out()
        assert out.volume == pytest.approx(sum(out.amounts.values()) * v(out.T), rel=1e-4)
        assert max(run.closure.values()) < 1e-11
        assert out.T > 350
    assert feed.mixture({s.name: s for s in pair}).volume == pytest.approx(10 * v(300.0), rel=1e-4)
    assert mo.StirredTank(chem, feed, volume="0.1 m3", T="360 K").run("1 s").flows["A"][0] < 10.1
    alone = mo.Species("A", "C2H6O", critical_pressure="61.4 bar", **own)
    expected = 8.31446 * 514 / 61.4e5 * 0.25 ** (1 + (1 - 298.15 / 514) ** (2 / 7))
    assert alone.require("molar_volume", "a test").si == pytest.approx(expected, rel=1e-6)
    with pytest.raises(mo.InputError, match="not a liquid at 298"):
        mo.Species("H2", "H2", critical_temperature="33 K", critical_pressure="13 bar", rackett_factor=0.3).expansion(
            300.0
        )


@settings(max_examples=15, deadline=None)
@given(v=st.floats(2e-5, 2e-4), c=st.floats(200.0, 4000.0))
def test_additive_volumes_shrink_and_swell(v: float, c: float) -> None:
    """A -> B of another molar volume, first order in the amount: n_A = n0 exp(-k t) whatever the volume does."""
    species = [mo.Species("A", molar_volume=1e-4), mo.Species("B", molar_volume=v), mo.Species("S", molar_volume=5e-5)]
    chem = mo.Chemistry(mo.Reaction("A -> B", k=1e-3), species=species)
    mix = {"A": c, "S": (1 - 1e-4 * c) / 5e-5}
    run = mo.Batch(chem, mix, volume=2.0, time=1500.0, model="additive volumes").run()
    left = 2 * c * np.exp(-1e-3 * run.points)
    assert run.series["volume"] == pytest.approx(2 + (2 * c - left) * (v - 1e-4), rel=1e-9)
    assert run.concentrations["A"] * run.series["volume"] == pytest.approx(left, rel=1e-8)
    tube = mo.PlugFlow(chem, mo.Feed({**mix}, flow=0.001, model="additive volumes"), volume=1.0).run()
    time = tube.residence_time_si
    assert tube.conversion("A") == pytest.approx(1 - math.exp(-1e-3 * time), rel=1e-8)
    tank = mo.StirredTank(chem, tube.vessel.feed, volume=1.0).steady()
    assert max(max(r.closure.values()) for r in (run, tube, tank)) < 1e-9


WRONG: dict[str, tuple[Callable[[], object], str]] = {
    "no diameter": (lambda: mo.PlugFlow(SLOW, AIR, volume=1, pressure_drop=DROP), "diameter of the tube is not given"),
    "no pressure": (lambda: mo.PlugFlow(SLOW, mo.Feed({"A": 1}, 1), diameter=1, length=1, pressure_drop=DROP), "pressure of the feed is not given"),
    "no voidage": (
        lambda: mo.PlugFlow(SLOW, AIR, diameter=1, length=1, pressure_drop=DROP, catalyst=mo.Catalyst(particle_diameter=0.01)), "voidage of the bed",
    ),
    "no drop": (lambda: mo.PlugFlow(SLOW, AIR, volume=1, pressure_drop="Ergun"), "is not a pressure drop"),
    "a viscosity of length": (lambda: mo.PressureDrop("3 m"), "not a viscosity"),
    "a shape": (lambda: mo.Catalyst(shape="ring"), "unknown shape 'ring'"),
    "density without voidage": (lambda: mo.Catalyst(particle_density=1000), "and no voidage"),
    "three that do not fit": (lambda: mo.Catalyst(particle_density=1000, voidage=0.4, bulk_density=900), "give two of the three"),
    "pores of nothing": (lambda: mo.Catalyst(internal_diffusion={"r": mo.InternalDiffusion("A", 1e-6)}), "without particles"),
    "pores of a stranger": (
        lambda: mo.PlugFlow(SLOW, AIR, volume=1, catalyst=mo.Catalyst(particle_density=1e3, voidage=0.4, particle_diameter=0.01, internal_diffusion={"q": mo.InternalDiffusion("A", 1)})),
        "unknown reaction 'q'",
    ),
    "an order below": (lambda: mo.InternalDiffusion("A", 1e-6, order=-2), "has no modulus"),
    "a decay per length": (lambda: mo.Deactivation("3 1/m"), "is not per time"),
    "a mass without density": (lambda: mo.PlugFlow(SLOW, AIR, catalyst_mass="3 kg"), "no bulk density"),
    "volume and mass": (lambda: mo.StirredTank(SLOW, AIR, volume=1, catalyst_mass=2), "same thing twice"),
    "an unknown model": (lambda: mo.Feed({"A": 1}, 1, model="van"), "unknown model 'van'"),
    "a real gas without T": (lambda: mo.PlugFlow(REAL, mo.Feed({"A": "1 mol/mol"}, "1 mol/s", P=1e5, model="Soave"), volume=1), "needs T and P"),
    "no critical point": (lambda: mo.PlugFlow(SLOW, mo.Feed({"A": "1 mol/mol"}, "1 mol/s", T=300, P=1e5, model="Soave"), volume=1), "A has no critical temperature"),
    "a rigid real gas": (lambda: mo.Batch(REAL, {"A": "1 mol/mol"}, T=300, P=1e5, volume=1, model="Soave"), "give constant_volume=False"),
    "volumes that do not add up": (
        lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=1), species=[mo.Species("A", molar_volume=1e-4), mo.Species("B", molar_volume=1e-4)]), {"A": 3.0}, model="additive volumes"),
        "the specifications contradict each other",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_what_is_wrong_with_a_bed_is_reported(name: str) -> None:
    make, content = WRONG[name]
    with pytest.raises(mo.InputError, match=content):
        make()
