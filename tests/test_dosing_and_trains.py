"""Semi-batch vessels and trains: closed forms, what flows in and out, recycles, stream tables."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad

import molino as mo

FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
FEED = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="330 K")
WARM = mo.Chemistry(
    mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="85 kJ/mol"), enthalpy="-80 kJ/mol", name="r")
)
WATERY = {"heat_capacity": "4.2 MJ/m3/K"}
HOT_FEED = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="330 K", **WATERY)


def test_dosing_a_first_order_reactant_against_the_closed_form() -> None:
    """dn/dt = F - k n while it is dosed, whatever the volume; then n falls by exp(-k t)."""
    dose = mo.Dosing(mo.Feed({"A": "4 mol/L"}, flow="10 L/min"), windows=[("10 min", "40 min")])
    run = mo.SemiBatch(FIRST, {"B": "1 mol/L"}, {"a": dose}, volume="200 L", time="60 min").run(points=61)
    t = run.points / 60
    dosed = np.where(t < 10, 0.0, np.where(t < 40, 200 * (1 - np.exp(-0.2 * (t - 10))), 0.0))
    after = 200 * (1 - math.exp(-6)) * np.exp(-0.2 * (t - 40))
    n = run.concentrations["A"] * run.series["volume"]
    assert n == pytest.approx(np.where(t < 40, dosed, after), rel=1e-8, abs=1e-7)
    assert run.series["volume"] == pytest.approx(0.2 + 0.01 * np.clip(t - 10, 0, 30))
    assert run.conversion("A") == pytest.approx(1 - after[-1] / 1200, rel=1e-9)
    sized = mo.size(run.vessel, "conversion of A", 0.99)
    assert sized.run.conversion("A") == pytest.approx(0.99, rel=1e-9)
    assert sized.value / 60 == pytest.approx(40 + math.log(200 * (1 - math.exp(-6)) / 12) / 0.2, rel=1e-7)
    ramp = mo.Dosing(mo.Feed({"A": "4 mol/L"}, flow=1), rate=[("0 min", 0), ("20 min", "12 L/min"), ("20 min", 0)])
    ramped = mo.SemiBatch(FIRST, {"B": "1 mol/L"}, {"a": ramp}, volume="200 L", time="30 min").run()
    assert ramped.series["volume"][-1] == pytest.approx(0.32)
    a, b = 4 * 12 / 20, 0.2  # dn/dt = a t - b n in mol and min
    top = a / b * 20 - a / b**2 * (1 - math.exp(-b * 20))
    assert ramped.concentrations["A"][-1] * 0.32 == pytest.approx(top * math.exp(-2), rel=1e-8)


def test_a_fast_reaction_uses_up_what_is_dosed() -> None:
    """A + B -> C at once: all of B is gone as long as there is A, and the conversion of A follows the dose."""
    fast = mo.Chemistry(mo.Reaction("A + B -> C", k="5000 L/mol/min", enthalpy="-60 kJ/mol", name="r"))
    dose = mo.Dosing(mo.Feed({"B": "3 mol/L"}, flow="5 L/min", T="300 K"))
    vessel = mo.SemiBatch(
        fast, {"A": "2 mol/L"}, {"b": dose}, volume="300 L", T="300 K", time="30 min", heat="adiabatic", **WATERY
    )
    run = vessel.run()
    assert run.conversion("B") > 0.9999
    assert run.conversion("A") == pytest.approx(15 * 30 / 600, rel=1e-4)
    rise = 60e3 * 450 * run.conversion("B") / (4.2e6 * 0.45)
    assert run.temperatures[-1] == pytest.approx(300 + rise, rel=1e-8)
    assert max(run.closure.values()) < 1e-8


@settings(max_examples=8, deadline=None)
@given(capacity=st.floats(0.25, 0.5), taken=st.just(0.0) | st.floats(1e-6, 8.0), late=st.floats(5.0, 40.0))
def test_overflow_and_withdrawal_against_an_independent_script(capacity: float, taken: float, late: float) -> None:
    dose = mo.Dosing(mo.Feed({"A": 3000.0}, flow="10 L/min"), windows=[(0, "50 min")])
    run = mo.SemiBatch(
        FIRST, {"A": 500.0}, {"a": dose}, volume="0.2 m3", capacity=capacity, time="60 min",
        withdrawal=[(0, 0), (60 * late, 0), (60 * late, f"{taken} L/min")],
    ).run()  # fmt: skip
    n, V, t, h = np.array([100.0, 0.0]), 0.2, 0.0, 60.0 / 6000
    while t < 60 - h / 2:
        inflow = 0.01 if t < 50 - h / 2 else 0.0
        out = taken / 1000 if t >= late - h / 2 else 0.0
        out = max(out, inflow) if capacity - 1e-12 <= V and inflow > out else out

        def slope(_: float, y: np.ndarray, inflow: float = inflow, out: float = out) -> np.ndarray:
            rate = 0.2 * y[0]
            return np.array([inflow * 3000 - out * y[0] / y[2] - rate, rate - out * y[1] / y[2], inflow - out])

        y = np.array([*n, V])
        y = y + h * slope(0, y + h / 2 * slope(0, y))
        n, V, t = y[:2], float(y[2]), t + h
    assert run.series["volume"][-1] == pytest.approx(V, rel=1e-3)
    assert run.concentrations["A"][-1] * run.series["volume"][-1] == pytest.approx(n[0], rel=5e-3)
    assert np.max(run.series["volume"]) <= capacity * (1 + 1e-9)
    assert max(run.closure.values()) < 1e-9


def test_tanks_in_series_approach_plug_flow_at_the_theoretical_rate() -> None:
    """1 - X_N = (1 + k tau/N)^-N, which nears exp(-k tau) as (k tau)^2/(2 N)."""
    misses = []
    for n in (10, 20, 40):
        run = mo.Train([mo.StirredTank(FIRST, FEED, volume=f"{1000 / n} L")] * n).run()
        assert run.conversion("A") == pytest.approx(1 - (1 + 2 / n) ** -n, rel=1e-10)
        misses.append((1 - run.conversion("A")) / math.exp(-2) - 1)
    assert np.array(misses) * np.array([10, 20, 40]) == pytest.approx([2.0, 2.0, 2.0], rel=0.2)
    assert misses[1] / misses[2] == pytest.approx(2.0, rel=0.05)


@pytest.mark.parametrize("ratio", [0.3, 2.0, 40.0])
def test_a_recycle_lies_between_plug_flow_and_mixed_flow(ratio: float) -> None:
    """k tau = (R + 1) ln((c0 + R c)/((R + 1) c)) (O. Levenspiel, 1999, eq. 6.22)."""
    run = mo.Train([mo.PlugFlow(FIRST, FEED, volume="1 m3")], recycle=ratio).run()
    c = 1 - run.conversion("A")
    assert (ratio + 1) * math.log((1 + ratio * c) / ((ratio + 1) * c)) == pytest.approx(2.0, rel=1e-7)
    assert 2 / 3 < run.conversion("A") < 1 - math.exp(-2)
    assert max(run.closure.values()) < 1e-8
    hot = mo.Train([mo.PlugFlow(WARM, HOT_FEED, volume="100 L", heat="adiabatic")], recycle=ratio).run()
    assert pytest.approx(330 + 2000 * 80e3 / 4.2e6 * hot.conversion("A"), rel=1e-7) == hot.last.T
    assert max(hot.closure.values()) < 1e-8


def test_side_feeds_exchangers_and_parallel_vessels() -> None:
    side = mo.Feed({"A": "3 mol/L"}, flow="20 L/min", T="300 K", **WATERY)
    train = mo.Train(
        [
            mo.PlugFlow(WARM, HOT_FEED, volume="100 L", heat="adiabatic", name="bed"),
            mo.Exchanger("335 K", name="cooler"),
            mo.SideFeed(side, "fresh"),
            mo.Parallel([mo.StirredTank(WARM, HOT_FEED, volume="50 L", name="pot"), mo.PlugFlow(WARM, HOT_FEED, volume="90 L")], [0.25, 0.75]),
            mo.Exchanger(duty="50 kW"),
        ],
        name="line",
    )  # fmt: skip
    run = train.run()
    Q1, Q2 = 100 / 6e4, 120 / 6e4
    bed, pot, _ = run.runs
    assert run.exchanged["cooler"] == pytest.approx(4.2e6 * Q1 * (335 - bed.temperatures[-1]), rel=1e-9)
    mixed_T = (100 * 335 + 20 * 300) / 120
    assert pot.vessel.feed.T.si == pytest.approx(mixed_T, rel=1e-10)
    assert pot.vessel.spec.fed.volume == pytest.approx(0.25 * Q2)
    assert pytest.approx(mixed_T + 50e3 / (4.2e6 * Q2), rel=1e-9) == run.last.T
    assert run.entering["A"] == pytest.approx((200 + 60) / 60)
    assert run.conversion("A") == pytest.approx(1 - run.last.amounts["A"] / run.entering["A"])
    assert run.duty_si == pytest.approx(sum(r.duty_si for r in run.runs) + sum(run.exchanged.values()))
    assert max(run.closure.values()) < 1e-9
    table = run.stream_table()
    assert list(table.columns[1:]) == [
        "feed",
        "after bed",
        "after cooler",
        "fresh",
        "after fresh",
        "after parallel",
        "after exchanger",
    ]
    rows = dict(zip(table["stream"], table["after fresh"], strict=True))
    assert rows["temperature [K]"] == pytest.approx(mixed_T)
    assert "A [mol/mol]" not in rows  # what else is in the liquid is not known
    compared = mo.compare(
        [train, mo.PlugFlow(WARM, HOT_FEED, volume="100 L", heat="adiabatic")],
        ["conversion of A", "temperature", "duty"],
    )
    assert compared.values[0]["temperature"] == run.last.T
    assert "line" in str(compared)
    for text in (str(train), str(run)):
        assert "cooler" in text or "exchanger" in text


def test_the_uncertainty_of_constants_goes_through_a_train() -> None:
    from molino.core.chemistry.reaction_set import Covariance

    known = mo.Chemistry(
        mo.Reaction("A -> B", k=0.2 / 60, name="r"), covariance=Covariance(("r.k",), np.array([[1e-8]]), 20)
    )
    tank = mo.StirredTank(known, mo.Feed({"A": 2000.0}, flow=0.1 / 60), volume=0.5)
    errors = mo.compare([mo.Train([tank, tank]), tank]).errors
    kt = 0.2 * 5
    assert errors[0]["conversion of A"] == pytest.approx(2 * (1 + kt) ** -3 * 300 * 1e-4, rel=1e-5)
    assert errors[1]["conversion of A"] == pytest.approx((1 + kt) ** -2 * 300 * 1e-4, rel=1e-8)


def test_stream_tables_of_single_vessels() -> None:
    species = [mo.Species("A", "C2H6O"), mo.Species("B", "C2H4"), mo.Species("W", "H2O")]
    chem = mo.Chemistry(mo.Reaction("A -> B + W", k="0.1 1/s", name="r"), species=species)
    feed = mo.Feed({"A": "60 mol%", "W": "rest"}, flow="10 kmol/h", T="500 K", P="2 bar")
    run = mo.PlugFlow(chem, feed, volume="0.5 m3", show={"mass flow": "kg/h"}).run()
    table = run.stream_table().set_index("stream")
    assert table.loc["total [kg/h]", "feed"] == pytest.approx(table.loc["total [kg/h]", "outlet"], rel=1e-9)
    assert table.loc["A [kmol/h]", "outlet"] == pytest.approx(6 * (1 - run.conversion("A")))
    assert table.loc["total [kmol/h]", "outlet"] == pytest.approx(10 + 6 * run.conversion("A"))
    density = table.loc["total [kg/h]", "outlet"] / table.loc["volumetric flow [m³/h]", "outlet"]
    assert table.loc["density [kg/m³]", "outlet"] == pytest.approx(density)
    batch = mo.Batch(chem, feed, volume="1 m3").run("10 s").stream_table()
    assert list(batch.columns) == ["stream", "charge", "contents"]
    shown = run.table({"temperature": "K", "concentration": "mol/m3", "volume": "L"})
    assert "volume [L]" in shown.columns
    assert shown["A [mol/m3]"].iloc[0] == pytest.approx(0.6 * 2e5 / 8.31446261815324 / 500)


GOOD = mo.Dosing(mo.Feed({"A": 1.0}, flow=1))
WRONG: dict[str, tuple[Callable[[], object], str]] = {
    "windows and a rate": (lambda: mo.Dosing(FEED, windows=[(0, 1)], rate=[(0, 1)]), "give one of them"),
    "a gas": (lambda: mo.Dosing(mo.Feed({"A": "1 bar"}, 1, T=300)), "a gas is dosed"),
    "no window": (lambda: mo.SemiBatch(FIRST, {"B": 1}, {"a": mo.Dosing(FEED, windows=["now"])}), "is not a window"),
    "windows that overlap": (lambda: mo.SemiBatch(FIRST, {"B": 1}, {"a": mo.Dosing(FEED, windows=[(0, 5), (3, 9)])}), "does not come after"),
    "nothing dosed": (lambda: mo.SemiBatch(FIRST, {"B": 1}, {}), "no dosing is given"),
    "no time": (lambda: mo.SemiBatch(FIRST, {"B": 1}, {"a": GOOD}).run(), "no time is given"),
    "too much charged": (lambda: mo.SemiBatch(FIRST, {"B": 1}, {"a": GOOD}, volume=3, capacity=2), "is larger than the capacity"),
    "emptied": (lambda: mo.SemiBatch(FIRST, {"B": 1}, {"a": mo.Dosing(FEED, windows=[(0, 1)])}, volume=1, withdrawal=0.1).run(60), "it is empty before"),
    "a stranger": (lambda: mo.SemiBatch(FIRST, {"Q": 1}, {"a": GOOD}), "'Q' is not a species"),
    "a dose without T": (lambda: mo.SemiBatch(WARM, {"A": 1}, {"a": GOOD}, T=300, heat="adiabatic", **WATERY), "the feed has no temperature"),
    "a batch in a train": (lambda: mo.Train([mo.Batch(FIRST, {"A": 1})]), "does not flow through"),
    "an empty train": (lambda: mo.Train([mo.Exchanger(300)]), "no vessel is given"),
    "a split of two": (lambda: mo.Parallel([mo.PlugFlow(FIRST, FEED, volume=1)] * 2, [0.5, 0.6]), "are not shares"),
    "T and duty": (lambda: mo.Exchanger(300, 5), "both given"),
    "other species": (lambda: mo.Train([mo.PlugFlow(FIRST, FEED, volume=1), mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> C", k=1)), FEED, volume=1)]), "different species"),
    "the size of a train": (lambda: mo.size(mo.Train([mo.PlugFlow(FIRST, FEED, volume=1)]), "conversion of A", 0.5), "which vessel of the train"),
    "mixing without heat": (
        lambda: mo.Train([mo.PlugFlow(FIRST, FEED, volume=1), mo.SideFeed(mo.Feed({"A": 1}, 1, T=300)), mo.PlugFlow(FIRST, FEED, volume=1)]).run(), "A has no heat capacity",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_what_is_wrong_is_reported(name: str) -> None:
    make, content = WRONG[name]
    with pytest.raises(mo.InputError, match=content):
        make()


HOT = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-200 kJ/mol"))
COLD = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")


def _volume_for(X: float, ratio: float) -> float:
    """Of an adiabatic tube with recycle: Q (1 + R) times the integral of dX / k (1 - X) from X R / (1 + R) to X."""

    def time(x: float) -> float:
        return 1 / (3e14 / 60 * math.exp(-100e3 / 8.31446261815324 / (300 + 2e5 * 2e3 / 4.2e6 * x)) * (1 - x))

    inside = quad(time, X * ratio / (1 + ratio), X, epsrel=1e-11, limit=200)[0]
    return 0.1 / 60 * (1 + ratio) * float(inside)


def test_a_train_of_one_tank_has_the_steady_states_of_the_tank() -> None:
    tank = mo.StirredTank(HOT, COLD, volume="1 m3", heat="adiabatic")
    own, found = tank.steady_states(("280 K", "430 K")), mo.Train([tank]).steady_states()
    assert found.stable == own.stable == (True, False, True)
    for one, run, growth, eigenvalues in zip(own, found, found.growth, own.eigenvalues, strict=True):
        assert pytest.approx(one.temperatures[-1], rel=1e-8) == run.last.T
        assert growth.real.max() == pytest.approx(eigenvalues.real.max(), rel=1e-4)


def test_a_loop_of_an_adiabatic_tube_has_three_steady_states_and_settles_by_what_it_begins_with() -> None:
    loop = mo.Train([mo.PlugFlow(HOT, COLD, volume="1 m3", heat="adiabatic")], recycle=5)
    found = loop.steady_states()
    assert found.stable == (True, False, True)
    for run in found[:2]:
        assert _volume_for(run.conversion("A"), 5.0) == pytest.approx(1.0, rel=1e-6)
    assert "3 steady states" in str(found)
    hot = loop.with_(returned=mo.Feed({"B": "2 mol/L"}, flow="1 L/min", T="390 K")).run()
    assert loop.run().conversion("A") == pytest.approx(found[0].conversion("A"), rel=1e-8)
    assert hot.conversion("A") == pytest.approx(found[2].conversion("A"), rel=1e-8)


@pytest.mark.parametrize(("volume", "is_hot"), [(3.0482, False), (3.0491, True)])
def test_a_loop_that_nearly_ignites_and_one_that_just_does_both_close(volume: float, is_hot: bool) -> None:
    run = mo.Train([mo.PlugFlow(HOT, COLD, volume=volume, heat="adiabatic")], recycle=5).run()
    assert (run.last.T > 390) == is_hot
    if not is_hot:
        assert _volume_for(run.conversion("A"), 5.0) == pytest.approx(volume, rel=1e-6)


def test_growth_that_its_feed_does_not_start_is_found_in_a_tank_and_in_a_loop() -> None:
    """Cells that grow on S, none of them fed: washed out, or S = K D / (mu - D)."""
    chemistry = mo.Chemistry(mo.Reaction("S -> X", rate="mu*[X]*[S]/(K+[S])", mu="0.3 1/h", K="0.1 mol/L"))
    tank = mo.StirredTank(chemistry, mo.Feed({"S": "1 mol/L"}, flow="1 L/h"), volume="5 L")
    for found in (tank.steady_states(), mo.Train([tank]).steady_states()):
        assert found.stable == (False, True)
        assert [run.conversion("S") for run in found] == pytest.approx([0.0, 0.8], abs=1e-9)


def test_steady_states_of_tubes_without_a_recycle_are_one_and_need_sizes() -> None:
    tube = mo.PlugFlow(FIRST, FEED, volume="1 m3")
    found = mo.Train([tube, tube]).steady_states()
    assert found.stable == (True,)
    assert found[0].conversion("A") == pytest.approx(1 - math.exp(-4), rel=1e-8)
    with pytest.raises(mo.InputError, match="no volume is given"):
        mo.Train([mo.PlugFlow(FIRST, FEED)], recycle=1).steady_states()
