"""Tubes over time: closed forms, transforms, fronts that move through a bed, and nothing lost on the way."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

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
    model, k = mo.mixing.AxialDispersion(8, "closed"), 0.2
    from molino.core.mixing.inversion import inverted

    t = run.times[4:] / 60
    wanted = inverted(lambda s: model.transfer(s + k, 5.0) / s, t)
    assert run.outlet["concentration of A"][4:] / 1e3 == pytest.approx(wanted, abs=3e-4)
    assert run.outlet["concentration of A"][-1] == pytest.approx(tube.run().final["A"].to("mol/m^3"), rel=1e-4)


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
    run = tube.follow("18 min", contents={"inert": "1 mol/L"}, cells=60)
    through = run.left["A"] / run.fed["A"]
    held = 0.4 + 600 * 2 * 5 / 6 / 100  # the fluid, and rho_b q*/c0, per volume of bed
    assert np.interp(0.5, through, run.times) / 60 == pytest.approx(held, rel=0.01)
    assert np.trapezoid(1 - through, run.times) / 60 == pytest.approx(held, rel=0.005)
    assert run.inside["loading of A"][-1] == pytest.approx(2 * 5 / 6, rel=1e-3)
    assert max(run.closure.values()) < 1e-6
    decays = mo.Deactivation("300 L/mol/h", poison="S")
    poisoned = mo.PlugFlow(
        mo.Chemistry([mo.Reaction("A -> B", k="0.02 m3/kg/min", basis="catalyst mass", name="main"),
                      mo.Reaction("S -> Z", k="0.01 m3/kg/min", basis="catalyst mass", name="uptake")]),
        mo.Feed({"A": "1 mol/L", "S": "0.01 mol/L"}, flow="1 L/min"), volume="1 L",
        catalyst=mo.Catalyst(bulk_density="600 kg/m3", voidage=0.4, deactivation=decays),
    )  # fmt: skip
    aged = poisoned.follow("70 min", cells=24)
    activity = aged.inside["activity"]
    assert (np.diff(activity, axis=0) <= 1e-9).all()
    assert (np.diff(activity[60]) > 0).all()  # the front moves in from the inlet
    assert aged.conversion("A")[5] > aged.conversion("A")[-1]
    for ask in (
        poisoned.run,
        lambda: mo.sweep(poisoned, {"volume": [1e-4, 1e-3]}, ["conversion of A"]),
        lambda: mo.evaluator(poisoned, ["volume"], ["conversion of A"]),
        lambda: mo.size(poisoned, "conversion of A", target=0.5),
        lambda: mo.Experiment("1", ["1 L"], {"conversion of A": [0.5]}, vessel=poisoned),
        lambda: mo.StirredTank(poisoned.chemistry, poisoned.feed, volume="1 L", catalyst=poisoned.catalyst).steady(),
    ):
        with pytest.raises(mo.InputError, match="depends on the history"):
            ask()
    for name, value in (("adsorption", bed.adsorption), ("heat_capacity", "1 kJ/kg/K")):
        packing = mo.Catalyst(bulk_density="600 kg/m3", voidage=0.4, **{name: value})
        with pytest.raises(mo.InputError, match="used only in tubes that are followed over time"):
            mo.StirredTank(FIRST, FEED, volume="1 L", catalyst=packing)


def test_what_is_not_followed_is_refused_with_its_remedy() -> None:
    species = [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"]
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1 1/s", enthalpy="-30 kJ/mol"), species=species)
    gas = mo.Feed({"A": "1 mol/s"}, T="400 K", P="2 bar")
    tube = mo.PlugFlow(chem, gas, diameter="50 mm", length="2 m", pressure_drop=mo.PressureDrop("0.02 mPa*s"),
                       heat=mo.Jacket("300 K", UA="2 W/K", flow="3 W/K"))  # fmt: skip
    with pytest.raises(mo.InputError) as caught:
        tube.follow("1 min", cells=3)
    text = str(caught.value)
    assert all(word in text for word in ("cells = 3", "a pressure that falls", "a coolant of changing temperature"))
    with pytest.raises(mo.InputError, match="no length or volume"):
        mo.PlugFlow(FIRST, FEED).follow("1 min")
    with pytest.raises(mo.InputError, match=r"kg"):
        mo.Adsorption({"A": "K*[A]"}, "0.1 1/s", {"K": "3 1/s"})
    with pytest.raises(mo.InputError, match="no bulk density"):
        mo.Catalyst(adsorption=mo.Adsorption({"A": "K*[A]"}, "0.1 1/s", {"K": "3 L/kg"}))


def test_a_warm_front_is_held_back_by_the_packing() -> None:
    """It moves at u C/(e C + (1 - e) C_s) where the packing takes its heat up; half of it has passed by then."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1e-12 1/s", enthalpy="0 kJ/mol"),
                        [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"])  # fmt: skip
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="300 K", heat_capacity="4 MJ/m3/K")
    packing = mo.Catalyst(bulk_density="1500 kg/m3", voidage=0.4, heat_capacity="0.9 kJ/kg/K")
    bed = mo.PlugFlow(chem, feed, volume="2 L", heat="adiabatic", catalyst=packing)
    run = bed.follow("4 min", changes=[mo.Change("feed T", "320 K", at="0.5 min")], cells=120)
    T = run.outlet["temperature"]
    held = 2 * (0.4 + 1500 * 0.9e3 / 4e6)
    assert np.interp(310, T, run.times) / 60 - 0.5 == pytest.approx(held, rel=0.01)
    assert T[0] == pytest.approx(300)
    assert T[-1] == pytest.approx(320, abs=0.01)
    assert run.closure["energy"] < 1e-5
    assert "highest temperature inside" in run.facts()


def test_a_catalyst_that_decays_everywhere_alike_is_that_of_its_age() -> None:
    """The outlet at t is that of the steady tube with the same catalyst looked at after t, where t is long."""

    def bed(**more: str) -> mo.PlugFlow:
        catalyst = mo.Catalyst(bulk_density="600 kg/m3", deactivation=mo.Deactivation("0.05 1/h", order=2, **more))
        chem = mo.Chemistry(mo.Reaction("A -> B", k="0.003 m3/kg/min", basis="catalyst mass"))
        return mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="1 L", catalyst=catalyst)

    run = bed().follow("40 h", cells=60, points=5)
    for hours in (10, 20, 40):
        wanted = bed(age=f"{hours} h").run().conversion("A")
        assert run.conversion("A")[int(hours / 10)] == pytest.approx(wanted, rel=2e-3)
    later = bed(age="10 h").follow("10 h", cells=60, points=2)  # a bed that has an age already begins with it
    assert later.inside["activity"][0] == pytest.approx(1 / 1.5)
    assert later.conversion("A")[-1] == pytest.approx(bed(age="20 h").run().conversion("A"), rel=2e-3)


def test_a_ramp_of_the_feed_and_a_step_of_the_coolant_are_followed() -> None:
    chem = mo.Chemistry(mo.Reaction("A -> B", rate="k*exp(-E/T)*[A]", enthalpy="-40 kJ/mol", name="r"),
                        [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"],
                        {"k": "4e5 1/s", "E": "6000 K"})  # fmt: skip
    feed = mo.Feed({"A": "1 mol/L"}, flow="2 L/min", T="320 K", heat_capacity="3.8 MJ/m3/K")
    tube = mo.PlugFlow(chem, feed, volume="4 L", heat=mo.Jacket("315 K", UA="200 W/K"))
    changes = [mo.Change("feed T", "335 K", at="2 min", over="3 min"), mo.Change("coolant T", "305 K", at="8 min")]
    run = tube.follow("20 min", contents="steady", changes=changes, cells=100)
    later = tube.with_({"feed T": "335 K", "coolant T": "305 K"}).run()
    assert run.outlet["temperature"][0] == pytest.approx(tube.run().stream_out().T, abs=0.05)
    assert run.outlet["temperature"][-1] == pytest.approx(later.stream_out().T, abs=0.05)
    assert run.left["A"][-1] == pytest.approx(later.stream_out().amounts["A"], rel=2e-3)
    assert run.outlet["duty"][-1] == pytest.approx(later.duty_si, rel=2e-3)
    assert max(run.closure.values()) < 1e-5
    with pytest.raises(mo.InputError, match="the size of a vessel is constant"):
        tube.follow("1 min", changes=[mo.Change("volume", "3 L", at="10 s")])
    with pytest.raises(mo.InputError, match="'X' is not a species"):
        tube.follow("1 min", contents={"X": "1 mol/L"})
    with pytest.raises(mo.InputError, match="are not moments"):
        tube.follow("1 min", points=[120.0])


@settings(max_examples=6, deadline=None)
@given(
    first=st.floats(0.01, 3.0), second=st.floats(0.01, 3.0), share=st.floats(0.1, 0.9), peclet=st.floats(0.5, 80.0),
    is_gas=st.booleans(), has_dispersion=st.booleans(),
)  # fmt: skip
def test_nothing_is_lost_on_the_way_whatever_the_numbers(
    first: float, second: float, share: float, peclet: float, is_gas: bool, has_dispersion: bool
) -> None:
    chem = mo.Chemistry([mo.Reaction("2 A -> B", k=f"{first} L/mol/min", name="one"),
                         mo.Reaction("B -> 3 C", k=f"{second} 1/min", name="two")])  # fmt: skip
    if is_gas:
        feed = mo.Feed({"A": f"{share} mol/mol", "C": "rest"}, flow="1 mol/min", T="400 K", P="3 bar")
    else:
        feed = mo.Feed({"A": f"{share} mol/L"}, flow="1 L/min")
    more = {"dispersion": mo.Dispersion(peclet=peclet)} if has_dispersion else {}
    tube: mo.PlugFlow = (mo.DispersedTube if has_dispersion else mo.PlugFlow)(chem, feed, volume="5 L", **more)
    run = tube.follow(
        "30 min", changes=[mo.Change("flow", "2 mol/min" if is_gas else "2 L/min", at="12 min")], cells=24
    )
    assert max(run.closure.values()) < 1e-5
    for name, rows in run.inside.items():
        assert rows.min() > -1e-6 * max(float(rows.max()), 1.0), name
    for s in "ABC":
        assert (run.left[s] >= -1e-12).all()


def test_a_train_over_time_is_that_of_its_closed_form() -> None:
    """Three tanks after a step: the Erlang distribution, with reaction; then a tube behind a tank."""
    tank = mo.StirredTank(FIRST, FEED, volume="3 L")
    run = mo.Train([tank] * 3).follow("60 min", contents={"B": "1 mol/L"})
    t, a = run.times / 60, 1 / 3 + 0.2
    wanted = (1 / 3 / a) ** 3 * (1 - np.exp(-a * t) * (1 + a * t + (a * t) ** 2 / 2))
    assert run.outlet["concentration of A"] / 1e3 == pytest.approx(wanted, abs=2e-4)
    assert run.conversion("A")[-1] == pytest.approx(mo.Train([tank] * 3).run().conversion("A"), abs=1e-4)
    tube = mo.PlugFlow(FIRST, FEED, volume="5 L")
    seen: list[float] = []
    mixed = mo.Train([tank, tube]).follow("40 min", contents={"B": "1 mol/L"}, cells=150, progress=seen.append)
    later = np.maximum(mixed.times / 60 - 5, 0)
    wanted = (1 / 3 / a) * (1 - np.exp(-a * later)) * np.exp(-1.0)
    assert mixed.outlet["concentration of A"] / 1e3 == pytest.approx(wanted, abs=2e-3)
    assert seen == sorted(seen)
    assert "settling time of 2" in mixed.facts()
    assert len(mixed.to_dict()["vessels"]) == 2
    hot = mo.Chemistry(mo.Reaction("A -> B", rate="k*exp(-E/T)*[A]", enthalpy="-40 kJ/mol"),
                       [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"], {"k": "4e5 1/s", "E": "6000 K"})  # fmt: skip
    warm = mo.Feed({"A": "1 mol/L"}, flow="2 L/min", T="330 K", heat_capacity="3.8 MJ/m3/K")
    steps = [mo.StirredTank(hot, warm, volume="3 L", heat=mo.Jacket("320 K", UA="60 W/K")),
             mo.PlugFlow(hot, warm, volume="4 L", heat="adiabatic")]  # fmt: skip
    followed, rest = mo.Train(steps).follow("40 min", cells=60), mo.Train(steps).run()
    assert followed.outlet["temperature"][-1] == pytest.approx(rest.stream_out().T, abs=0.1)
    assert followed.conversion("A")[-1] == pytest.approx(rest.conversion("A"), abs=1e-3)
    with pytest.raises(mo.InputError, match="recycle is not followed"):
        mo.Train([tank, tube], recycle=0.5).follow("1 min")
    with pytest.raises(mo.InputError, match="is not followed"):
        mo.Train([tube, mo.Exchanger("300 K")]).follow("1 min")


def test_the_error_of_a_tail_is_estimated_moment_by_moment() -> None:
    """A bed that is flushed: the mean outlet hardly depends on the grid, the tail does."""
    bed = mo.Catalyst(bulk_density="800 kg/m3", voidage=0.4, adsorption=mo.Adsorption(
        {"A": "q*K*[A]/(1+K*[A])"}, "0.05 1/s", {"K": "50 L/mol", "q": "2 mol/kg"}))  # fmt: skip
    tube = mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", k=1e-12)), mo.Feed({"B": "0.1 mol/L"}, flow="1 L/min"),
                       diameter="5 cm", length="1 m", catalyst=bed)  # fmt: skip
    few, many = (tube.follow("4 h", contents={"A": "0.1 mol/L"}, cells=n) for n in (50, 160))
    off = np.abs(few.left["A"] - many.left["A"]).max() / few.left["B"].max()
    assert few.grid_error < off <= few.moment_error < 0.05
    assert "at any moment" in str(few)
