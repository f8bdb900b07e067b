"""Tubes over time: closed forms, transforms, fronts that move through a bed, and nothing lost on the way."""

from __future__ import annotations

import numpy as np
import pytest

import molino as mo

FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")


def rms(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.sqrt(np.mean((a - b) ** 2)))


def test_plug_flow_keeps_a_step_sharp_and_comes_to_its_steady_state() -> None:
    """Filled with B at first: until the feed has come through, what leaves is B; then c0 exp(-k tau)."""
    tube = mo.PlugFlow(FIRST, FEED, volume="5 L")
    step = mo.Change("[A]", "2 mol/L", at="10 min")
    seen: list[float] = []
    run = tube.follow("20 min", contents={"B": "0.5 mol/L"}, changes=[step], cells=200, progress=seen.append)
    t, left = run.times / 60, run.outlet["concentration of A"] / 1e3
    wanted = np.where(t < 5, 0, np.where(t < 15, 1, 2)) * np.exp(-1.0)
    assert left[-1] == pytest.approx(2 * np.exp(-1), rel=1e-4)
    assert left[(t > 6) & (t < 14)] == pytest.approx(np.exp(-1), rel=1e-3)
    assert np.mean(np.abs(left - wanted)) < 0.004  # the step is a few of 200 cells wide
    assert left.min() > -1e-9
    assert left.max() < 2 * np.exp(-1) * (1 + 1e-4)
    assert max(run.closure.values()) < 1e-6
    assert seen == sorted(seen)
    assert seen[-1] == 1.0
    assert 0 < run.grid_error < 0.01
    steady = tube.follow("3 min", contents="steady", cells=100)
    assert np.ptp(steady.outlet["concentration of A"]) < 0.05  # of 368 mol/m3
    assert list(run.profile("2 min").columns)[:2] == ["volume [L]", "A [mol/L]"]
    assert run.settling_times()["concentration of A"] == pytest.approx(15.3 * 60, abs=30)


def test_dispersion_over_time_is_that_of_the_transform() -> None:
    """First order: what leaves after a step in an empty tube has the transform G(s + k)/s, G that of the tracer."""
    tube = mo.DispersedTube(FIRST, FEED, volume="5 L", dispersion=mo.Dispersion(peclet=8))
    run = tube.follow("25 min", contents={"B": "1 mol/L"}, cells=300)
    model, k = mo.AxialDispersion(8, "closed"), 0.2
    from molino.core.mixing.inversion import inverted

    t = run.times[4:] / 60
    wanted = inverted(lambda s: model.transfer(s + k, 5.0) / s, t)
    assert run.outlet["concentration of A"][4:] / 1e3 == pytest.approx(wanted, abs=3e-4)
    assert run.outlet["concentration of A"][-1] == pytest.approx(tube.run().final["A"].m_as("mol/m^3"), rel=1e-4)


@pytest.mark.parametrize("heat", ["isothermal", "adiabatic", "jacket"])
@pytest.mark.parametrize("peclet", [None, 6])
def test_gases_and_liquids_come_to_the_steady_state_of_the_same_tube(heat: str, peclet: float | None) -> None:
    species = [mo.Species(s, heat_capacity="80 J/mol/K") for s in "AB"]
    law = mo.Reaction("A -> 2 B", rate="k*exp(-E/T)*[A]", enthalpy="-30 kJ/mol", name="r")
    chem = mo.Chemistry(law, species, {"k": "4e5 1/s", "E": "6000 K"})
    gas = mo.Feed({"A": "60 mol%", "B": "40 mol%"}, flow="2 mol/s", T="400 K", P="2 bar")
    exchange = mo.Jacket("390 K", UA="150 W/K") if heat == "jacket" else heat
    more = {} if peclet is None else {"dispersion": mo.Dispersion(peclet=peclet)}
    cls: type = mo.PlugFlow if peclet is None else mo.DispersedTube
    tube = cls(chem, gas, volume="80 L", heat=exchange, **more)
    run, end = tube.follow("60 s", cells=80), tube.run().stream_out()
    assert {*run.closure} >= ({"energy"} if heat != "isothermal" else set())
    assert max(run.closure.values()) < 1e-5
    assert run.left["A"][-1] == pytest.approx(end.amounts["A"], rel=2e-3)
    assert run.outlet["volumetric flow"][-1] == pytest.approx(end.volume, rel=1e-3)
    if heat != "isothermal":
        assert run.outlet["temperature"][-1] == pytest.approx(end.T, abs=0.3)
    if heat != "adiabatic":
        assert run.outlet["duty"][-1] == pytest.approx(tube.run().duty_si, rel=5e-3)


def test_a_bed_takes_up_what_its_isotherm_says() -> None:
    """A front of a favourable isotherm stands at the time that its capacity takes to fill; poison likewise."""
    bed = mo.Catalyst(bulk_density="600 kg/m3", voidage=0.4, adsorption=mo.Adsorption(
        {"A": "q_m*b*[A]/(1 + b*[A])"}, "1 1/s", {"q_m": "2 mol/kg", "b": "50 L/mol"}))  # fmt: skip
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1e-9 1/s"))
    feed = mo.Feed({"A": "0.1 mol/L", "inert": "1 mol/L"}, flow="1 L/min")
    chem = mo.Chemistry(chem.reactions, ["inert"])
    tube = mo.PlugFlow(chem, feed, volume="1 L", catalyst=bed)
    run = tube.follow("30 min", contents={"inert": "1 mol/L"}, cells=150)
    through = run.left["A"] / run.fed["A"]
    held = 0.4 + 600 * 2 * 5 / 6 / 100  # the fluid, and rho_b q*/c0, per volume of bed
    assert np.interp(0.5, through, run.times) / 60 == pytest.approx(held, rel=0.01)
    assert np.trapezoid(1 - through, run.times) / 60 == pytest.approx(held, rel=0.005)
    assert run.inside["loading of A"][-1] == pytest.approx(2 * 5 / 6, rel=1e-3)
    assert max(run.closure.values()) < 1e-6
    decays = mo.Deactivation("30 L/mol/h", poison="S")
    poisoned = mo.PlugFlow(
        mo.Chemistry([mo.Reaction("A -> B", k="0.02 m3/kg/min", basis="catalyst mass", name="main"),
                      mo.Reaction("S -> Z", k="0.01 m3/kg/min", basis="catalyst mass", name="uptake")]),
        mo.Feed({"A": "1 mol/L", "S": "0.01 mol/L"}, flow="1 L/min"), volume="1 L",
        catalyst=mo.Catalyst(bulk_density="600 kg/m3", voidage=0.4, deactivation=decays),
    )  # fmt: skip
    aged = poisoned.follow("12 h", cells=60)
    activity = aged.inside["activity"]
    assert (np.diff(activity, axis=0) <= 1e-9).all()
    assert (np.diff(activity[60]) > 0).all()  # the front moves in from the inlet
    assert aged.conversion("A")[5] > aged.conversion("A")[-1]
    with pytest.raises(mo.InputError, match="follow it over time"):
        poisoned.run()


def test_what_is_not_followed_is_refused_with_its_remedy() -> None:
    species = [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"]
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1 1/s", enthalpy="-30 kJ/mol"), species=species)
    gas = mo.Feed({"A": "1 mol/s"}, T="400 K", P="2 bar")
    tube = mo.PlugFlow(chem, gas, diameter="50 mm", length="2 m", pressure_drop=mo.PressureDrop("0.02 mPa*s"),
                       heat=mo.Jacket("300 K", UA="2 W/K", flow="3 W/K"))  # fmt: skip
    with pytest.raises(mo.InputError) as caught:
        tube.follow("1 min", cells=3)
    text = str(caught.value)
    assert all(word in text for word in ("cells = 3", "pressure that falls", "coolant that warms up"))
    with pytest.raises(mo.InputError, match="no length or volume"):
        mo.PlugFlow(FIRST, FEED).follow("1 min")
    with pytest.raises(mo.InputError, match=r"kg"):
        mo.Adsorption({"A": "K*[A]"}, "0.1 1/s", {"K": "3 1/s"})
    with pytest.raises(mo.InputError, match="no bulk density"):
        mo.Catalyst(adsorption=mo.Adsorption({"A": "K*[A]"}, "0.1 1/s", {"K": "3 L/kg"}))
