"""Every vessel against the closed forms of the textbook, and sizing against running."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pytest
from scipy.optimize import brentq

import molino as mo

A0, B0 = 2.0, 3.0
K, K2 = 0.21, 0.083
TIMES = np.array([0.5, 2.0, 7.0, 15.0])


def first(t: float) -> dict[str, float]:
    a = A0 * math.exp(-K * t)
    return {"A": a, "B": A0 - a}


def first_tank(t: float) -> dict[str, float]:
    a = A0 / (1 + K * t)
    return {"A": a, "B": A0 - a}


def second(t: float) -> dict[str, float]:
    """2 A -> B at the rate k [A]^2 per mole of reaction: dA/dt = -2 k A^2."""
    a = A0 / (1 + 2 * K * A0 * t)
    return {"A": a, "B": (A0 - a) / 2}


def second_tank(t: float) -> dict[str, float]:
    a = (-1 + math.sqrt(1 + 8 * K * t * A0)) / (4 * K * t)
    return {"A": a, "B": (A0 - a) / 2}


def unequal(t: float) -> dict[str, float]:
    """A + B -> C with unequal feeds (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, eq. 3.13)."""
    ratio = B0 / A0 * math.exp((B0 - A0) * K * t)
    x = B0 * (ratio * A0 - B0) / (ratio * A0 - A0) / B0
    a = (B0 - A0) / (ratio - 1)
    assert x > 0
    return {"A": a, "B": a + B0 - A0, "C": A0 - a}


def unequal_tank(t: float) -> dict[str, float]:
    a = brentq(lambda a: A0 - a - K * t * a * (a + B0 - A0), 0, A0, xtol=1e-16, rtol=1e-15)
    return {"A": a, "B": a + B0 - A0, "C": A0 - a}


def reversible(t: float) -> dict[str, float]:
    rest = A0 * K2 / (K + K2)
    a = rest + (A0 - rest) * math.exp(-(K + K2) * t)
    return {"A": a, "B": A0 - a}


def reversible_tank(t: float) -> dict[str, float]:
    a = A0 * (1 + K2 * t) / (1 + (K + K2) * t)
    return {"A": a, "B": A0 - a}


def series(t: float) -> dict[str, float]:
    a = A0 * math.exp(-K * t)
    b = A0 * K / (K2 - K) * (math.exp(-K * t) - math.exp(-K2 * t))
    return {"A": a, "B": b, "C": A0 - a - b}


def series_tank(t: float) -> dict[str, float]:
    a = A0 / (1 + K * t)
    b = a * K * t / (1 + K2 * t)
    return {"A": a, "B": b, "C": A0 - a - b}


@dataclass(frozen=True)
class Known:
    """A chemistry with what it does in a batch or tube, and in a tank, after a time."""

    reactions: tuple[mo.Reaction, ...]
    inlet: dict[str, float]
    along: Callable[[float], dict[str, float]]
    mixed: Callable[[float], dict[str, float]]


ONLY_A = {"A": A0}
KNOWN = {
    "first order": Known((mo.Reaction("A -> B", k=K),), ONLY_A, first, first_tank),
    "second order": Known((mo.Reaction("2 A -> B", k=K),), ONLY_A, second, second_tank),
    "A + B": Known((mo.Reaction("A + B -> C", k=K),), {"A": A0, "B": B0}, unequal, unequal_tank),
    "reversible": Known((mo.Reaction("A <-> B", k=K, k_reverse=K2),), ONLY_A, reversible, reversible_tank),
    "by K": Known((mo.Reaction("A <-> B", k=K, K=K / K2),), ONLY_A, reversible, reversible_tank),
    "series": Known((mo.Reaction("A -> B", k=K), mo.Reaction("B -> C", k=K2)), ONLY_A, series, series_tank),
    "as formulas": Known(
        (mo.Reaction("A -> B", rate="k*[A]", k=K), mo.Reaction("B -> C", rate="q*[B]^n", q=K2, n=1)),
        ONLY_A, series, series_tank,
    ),
}  # fmt: skip


@pytest.fixture(params=KNOWN, ids=str)
def known(request: pytest.FixtureRequest) -> Known:
    return KNOWN[request.param]


def check(run: object, expected: dict[str, float]) -> None:
    for species, value in expected.items():
        assert run.concentrations[species][-1] == pytest.approx(value, rel=1e-7), species  # type: ignore[attr-defined]


@pytest.mark.parametrize("time", TIMES)
def test_batch(known: Known, time: float) -> None:
    run = mo.Batch(mo.Chemistry(known.reactions), known.inlet).run(time)
    check(run, known.along(time))
    assert max(run.closure.values()) < 1e-12


@pytest.mark.parametrize("time", TIMES)
def test_tube_by_every_way_to_say_its_size(known: Known, time: float) -> None:
    chemistry, feed = mo.Chemistry(known.reactions), mo.Feed(known.inlet, flow=0.4)
    area = 3 * math.pi / 4 * 0.25**2
    ways = [
        mo.PlugFlow(chemistry, feed, volume=0.4 * time),
        mo.PlugFlow(chemistry, feed, space_time=time),
        mo.PlugFlow(chemistry, feed, diameter=0.25, tubes=3, length=0.4 * time / area),
    ]
    for tube in ways:
        run = tube.run()
        check(run, known.along(time))
        assert run.residence_time_si == pytest.approx(time, rel=1e-12)
        assert max(run.closure.values()) < 1e-12


@pytest.mark.parametrize("time", TIMES)
def test_tank_steady_and_at_the_end_of_start_up(known: Known, time: float) -> None:
    tank = mo.StirredTank(mo.Chemistry(known.reactions), mo.Feed(known.inlet, flow=0.4), volume=0.4 * time)
    steady = tank.steady()
    check(steady, known.mixed(time))
    assert max(steady.closure.values()) < 1e-9
    long = tank.run(60 * time)
    check(long, known.mixed(time))
    assert max(long.closure.values()) < 1e-9


def test_start_up_of_a_tank_full_of_solvent() -> None:
    """dc/dt = (c0 - c)/tau - k c from c = 0: c = c0/(1 + k tau) (1 - exp(-(1/tau + k) t))."""
    tau, t = 4.0, 3.0
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=K))
    tank = mo.StirredTank(chemistry, mo.Feed({"A": A0}, flow=1.0), volume=tau, contents={"A": 0})
    expected = A0 / (1 + K * tau) * (1 - math.exp(-(1 / tau + K) * t))
    assert tank.run(t).concentrations["A"][-1] == pytest.approx(expected, rel=1e-8)


def test_size_inverts_run(known: Known) -> None:
    chemistry, feed, time = mo.Chemistry(known.reactions), mo.Feed(known.inlet, flow=0.4), 5.0
    vessels = [
        (mo.Batch(chemistry, known.inlet), "time", 1.0, known.along),
        (mo.StirredTank(chemistry, feed), "volume", 0.4, known.mixed),
        (mo.StirredTank(chemistry, feed), "space_time", 1.0, known.mixed),
        (mo.PlugFlow(chemistry, feed), "volume", 0.4, known.along),
        (mo.PlugFlow(chemistry, feed, diameter=1), "length", 0.4 / (math.pi / 4), known.along),
    ]
    for vessel, free, per_time, closed in vessels:
        after = closed(time)
        converted = (A0 - after["A"]) / A0
        by_conversion = mo.size(vessel, mo.results.conversion("A"), converted, free=free)
        by_outlet = mo.size(vessel, "concentration of A", after["A"], free=free)
        assert by_conversion.value == pytest.approx(time * per_time, rel=1e-6)
        assert by_outlet.value == pytest.approx(time * per_time, rel=1e-6)
        assert by_conversion.run.conversion("A") == pytest.approx(converted, rel=1e-9)


def test_size_for_a_yield_finds_the_first_of_two_crossings() -> None:
    chemistry = mo.Chemistry(KNOWN["series"].reactions)
    time = 2.0
    found = mo.size(mo.Batch(chemistry, ONLY_A), mo.results.yield_of("B", on="A"), series(time)["B"] / A0)
    assert found.value == pytest.approx(time, rel=1e-6)


def test_targets_out_of_reach_say_how_far_one_gets() -> None:
    batch = mo.Batch(mo.Chemistry(KNOWN["series"].reactions), ONLY_A)
    peak = math.log(K / K2) / (K - K2)
    with pytest.raises(mo.UnreachableError, match=r"the most is 0\.545") as error:
        mo.size(batch, "yield of B on A", 0.9)
    assert error.value.best == pytest.approx(series(peak)["B"] / A0, rel=1e-6)
    with pytest.raises(mo.UnreachableError, match="only approached"):
        mo.size(batch, "conversion of A", 1.0)
    with pytest.raises(mo.UnreachableError, match="the most is 1"):
        mo.size(batch, "conversion of A", 1.2)
    with pytest.raises(mo.UnreachableError, match="equilibrium") as error:
        mo.size(
            mo.PlugFlow(mo.Chemistry(KNOWN["reversible"].reactions), mo.Feed(ONLY_A, flow=1)), "conversion of A", 0.9
        )
    assert error.value.best == pytest.approx(K / (K + K2), rel=1e-6)
    with pytest.raises(mo.UnreachableError, match="change in the other direction"):
        mo.size(batch, "concentration of A", 2.5)
    with pytest.raises(mo.UnreachableError, match="already"):
        mo.size(batch, "concentration of A", A0)


def test_autocatalysis_from_a_seed() -> None:
    """A + B -> 2 B: the logistic curve, order one in each, one B net."""
    seed, t = 0.01, 20.0
    run = mo.Batch(mo.Chemistry(mo.Reaction("A + B -> 2 B", k=K)), {"A": A0, "B": seed}).run(t)
    total = A0 + seed
    expected = total / (1 + A0 / seed * math.exp(-K * total * t))
    assert run.concentrations["B"][-1] == pytest.approx(expected, rel=1e-7)


def test_fractional_order_runs_out_cleanly() -> None:
    """-dA/dt = k sqrt(A) ends at t = 2 sqrt(A0)/k; nothing breaks or turns negative after it."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^0.5", k=K))
    end = 2 * math.sqrt(A0) / K
    run = mo.Batch(chemistry, ONLY_A).run(2 * end, points=41)
    exact = np.where(run.points < end, (math.sqrt(A0) - K * run.points / 2) ** 2, 0.0)
    assert run.concentrations["A"] == pytest.approx(exact, abs=1e-7)
    assert run.concentrations["B"][-1] == pytest.approx(A0, rel=1e-7)


def test_a_rate_that_goes_on_without_its_reactant_is_reported() -> None:
    batch = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate="k", k=K)), ONLY_A)
    assert batch.run(9).conversion("A") == pytest.approx(9 * K / A0, rel=1e-8)
    with pytest.raises(mo.SolveError, match=r"A runs out at time 9\.52"):
        batch.run(12, points=np.linspace(0, 12, 121))


def test_sizing_up_to_where_a_reactant_runs_out() -> None:
    """Zero order: conversion k t / A0 reaches one at t = A0/k and no more, in a batch and in a tank alike."""
    chemistry, feed = mo.Chemistry(mo.Reaction("A -> B", rate="k", k=K)), mo.Feed(ONLY_A, flow=1.0)
    for vessel in (mo.Batch(chemistry, ONLY_A), mo.StirredTank(chemistry, feed)):
        assert mo.size(vessel, "conversion of A", 0.9).value == pytest.approx(0.9 * A0 / K, rel=1e-9)
        assert mo.size(vessel, "conversion of A", 1.0).value == pytest.approx(A0 / K, rel=1e-6)
        with pytest.raises(mo.UnreachableError) as error:
            mo.size(vessel, "conversion of A", 1.1)
        assert error.value.best == pytest.approx(1.0, rel=1e-5)
    with pytest.raises(mo.SolveError, match="A is exhausted"):
        mo.StirredTank(chemistry, feed, volume=2 * A0 / K).steady()
    unseeded = mo.Batch(mo.Chemistry(mo.Reaction("A + B -> 2 B", k=K)), {"A": A0, "B": 0})
    with pytest.raises(mo.UnreachableError, match="nothing reacts"):
        mo.size(unseeded, "conversion of A", 0.5)


def test_selectivity_and_yield_by_stoichiometry() -> None:
    """2 A -> B besides A -> 3 C: per A consumed, one B takes two and three C take one."""
    chemistry = mo.Chemistry([mo.Reaction("2 A -> B", rate="k*[A]", k=0.1), mo.Reaction("A -> 3 C", k=0.3)])
    run = mo.Batch(chemistry, {"A": 1.0}).run(4.0)
    lost = 1 - math.exp(-0.5 * 4)  # dA/dt = -(2 x 0.1 + 0.3) A
    assert run.conversion("A") == pytest.approx(lost, rel=1e-8)
    assert run.yield_of("B", on="A") == pytest.approx(lost * 0.2 / 0.5, rel=1e-8)
    assert run.yield_of("C", on="A") == pytest.approx(lost * 0.3 / 0.5, rel=1e-8)
    assert run.selectivity("B", over="C") == pytest.approx(0.2 / 0.3, rel=1e-8)
    assert run.selectivity("C", on="A") == pytest.approx(0.6, rel=1e-8)
    with pytest.raises(mo.InputError, match="do not form A from B"):
        run.yield_of("A", on="B")


def test_compare_puts_vessels_on_one_feed() -> None:
    chemistry, feed = mo.Chemistry(KNOWN["series"].reactions), mo.Feed(ONLY_A, flow=0.4)
    vessels = [mo.Batch(chemistry, feed, name="batch"), mo.PlugFlow(chemistry, feed), mo.StirredTank(chemistry, feed)]
    sized = [mo.size(v, "conversion of A", 0.8) for v in vessels]
    table = mo.compare(sized, ["conversion of A", "yield of B on A"]).table()
    assert table["conversion of A"].to_numpy() == pytest.approx(0.8, rel=1e-9)
    assert table["residence time"].iloc[0] == pytest.approx(-math.log(0.2) / K, rel=1e-6)
    assert table["residence time"].iloc[2] == pytest.approx(4 / K, rel=1e-6)
    assert table["yield of B on A"].iloc[0] == pytest.approx(table["yield of B on A"].iloc[1], rel=1e-6)
    assert table["yield of B on A"].iloc[2] < table["yield of B on A"].iloc[1]


def test_sweep_gives_what_single_runs_give() -> None:
    hot = mo.Arrhenius(k=K, at=350.0, Ea=60e3)
    chemistry = mo.Chemistry([mo.Reaction("A -> B", name="one", k=hot), mo.Reaction("B -> C", rate="k*[B]^1.5", k=K2)])
    feed = mo.Feed({"A": A0}, flow=0.4, T=350.0)
    tank = mo.StirredTank(chemistry, feed, volume=2.0)
    tube = mo.PlugFlow(chemistry, feed, diameter=0.5, length=8.0)
    batch = mo.Batch(chemistry, feed, time=4.0)
    metric = mo.results.yield_of("B", on="A")
    grids = [
        (tank, {"T": [330.0, 370.0], "volume": [0.5, 3.0]}),
        (tube, {"diameter": [0.3, 0.6], "length": [2.0, 9.0], "flow": [0.2, 0.5]}),
        (batch, {"[A]": [1.0, 3.0], "one.k": [0.1, 0.4], "time": [1.0, 5.0]}),
    ]
    for vessel, vary in grids:
        swept = mo.sweep(vessel, vary, [metric, "conversion of A"])
        for row in swept.table().to_dict("records"):
            alone = vessel
            for name, value in ((n, row[n]) for n in vary):
                if name == "flow":
                    alone = alone.with_(feed=mo.Feed({"A": A0}, flow=value, T=350.0))
                elif name == "[A]":
                    alone = alone.with_(charge={"A": value})
                elif name == "one.k":
                    alone = alone.with_(chemistry=chemistry.with_values({"one.k": value}))
                else:
                    alone = alone.with_(**{name: value})
            run = alone.run()
            assert row["yield of B on A"] == pytest.approx(run.metric(metric), rel=1e-7)
            assert row["conversion of A"] == pytest.approx(run.conversion("A"), rel=1e-7)
    with pytest.raises(mo.InputError, match="did you mean 'length'"):
        mo.sweep(tube, {"lenght": [1.0]}, [metric])


@pytest.mark.parametrize("order", [0.3, 0.5])
def test_slopes_past_the_exhaustion_of_a_reactant_are_those_of_its_closed_form(order: float) -> None:
    """c^(1-n) = c0^(1-n) - (1-n) k t until zero; a fit through the exhaustion gives k back."""
    k = 1000 ** (1 - order) / (1 - order) / 300.0  # exhausted after 300 s
    t = np.array([0.0, 60, 120, 200, 260, 290, 330, 500, 900])
    c = np.maximum(1000 ** (1 - order) - (1 - order) * k * t, 0.0) ** (1 / (1 - order))
    law = mo.Reaction("A -> B", rate=f"k*[A]^{order}", k=mo.Unknown(f"{0.7 * k} (mol/m3)^{1 - order}/s"))
    found = mo.fit(mo.Chemistry(law), [mo.Experiment("1", t, {"A": c}, initial={"A": 1000.0})])
    assert next(iter(found.values.values())) == pytest.approx(k, rel=1e-6)
