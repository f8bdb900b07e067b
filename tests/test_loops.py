"""Loops of vessels: separators, recycles, exchange between feed and effluent, changes of pressure and phase."""

from __future__ import annotations

import math
import pickle
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import brentq, fsolve, minimize_scalar

import molino as mo
from conftest import Typed

R = 8.31446261815324
ANTOINE = {"antoine": [5.2, 1580.0, 240.0], "pressure": "bar", "temperature": "degC"}
SPECIES = [
    mo.Species("G", heat_capacity="29 J/mol/K"),
    mo.Species("M", heat_capacity="50 J/mol/K", vapor_pressure=ANTOINE, molar_volume="40 cm3/mol"),
    mo.Species("I", heat_capacity="30 J/mol/K"),
]
MAKE = mo.Reaction("2 G -> M", rate="k*(p[G] - p[M]/(Keq*p[G]))", name="make", enthalpy="-60 kJ/mol",
                   k=mo.Arrhenius(k="2e-5 mol/m3/s/Pa", at="500 K", Ea="70 kJ/mol"), Keq="1e-6 1/Pa")  # fmt: skip
CHEMISTRY = mo.Chemistry(MAKE, species=SPECIES)
MAKE_UP = mo.Feed({"G": "99 mol%", "I": "rest"}, flow="1 mol/s", T="400 K", P="50 bar")


def _bed(name: str, volume: str = "30 L") -> mo.PlugFlow:
    return mo.PlugFlow(CHEMISTRY, volume=volume, heat="adiabatic", name=name)


def _synthesis() -> mo.Train:
    """Three beds with an exchanger and a quench between them, a condenser, a recycle and a purge."""
    return mo.Train(
        [
            mo.Mix("back", name="mixer"), mo.Split(0.2, to="cold"), mo.Exchanger("500 K", name="heater"),
            _bed("bed 1"), mo.Exchanger("510 K", name="cooler"), _bed("bed 2"), mo.Mix("cold", name="quench"), _bed("bed 3"),
            mo.Condenser("310 K", to="crude", gases=["G", "I"], name="condenser"), mo.Purge(0.05),
            mo.Compressor("52 bar", efficiency=0.8), mo.Valve("50 bar"), mo.To("back"),
        ],
        feed=MAKE_UP, name="synthesis",
    )  # fmt: skip


def _rate(n: np.ndarray, T: float, P: float) -> float:
    G, M, _ = n / n.sum() * P
    k = 2e-5 * math.exp(-70e3 / R * (1 / T - 1 / 500))
    return float(k * (G - M / (1e-6 * G)))


CP = np.array([29.0, 50.0, 30.0])
FORMED = np.array([0.0, -60e3 - (50 - 2 * 29) * 0.0, 0.0])  # at 298.15 K, with that of G zero


def _H(n: np.ndarray, T: float) -> float:
    return float(n @ (FORMED + CP * (T - 298.15)))


def _after_bed(n: np.ndarray, T: float, volume: float) -> tuple[np.ndarray, float]:
    H = _H(n, T)

    def slope(V: float, xi: np.ndarray) -> list[float]:
        m = n + np.array([-2, 1, 0]) * xi[0]
        return [_rate(m, 298.15 + (H - m @ FORMED) / (m @ CP), 50e5)]

    found = solve_ivp(slope, (0, volume), [0.0], method="LSODA", rtol=1e-12, atol=1e-14)
    m = n + np.array([-2, 1, 0]) * found.y[0, -1]
    return m, 298.15 + (H - m @ FORMED) / (m @ CP)


def _by_hand() -> tuple[np.ndarray, np.ndarray, float, float]:
    """Crude, purge, work of the compressor and outlet temperature of bed 3, by successive solution with SciPy."""
    fresh = np.array([0.99, 0.0, 0.01])

    def pass_(back: np.ndarray) -> tuple[np.ndarray, ...]:
        n, T_back = back[:3], back[3]
        mixed = fresh + n
        T = brentq(lambda T: _H(mixed, T) - _H(fresh, 400.0) - _H(n, T_back), 200, 900, xtol=1e-12)
        cold, main = 0.2 * mixed, 0.8 * mixed
        main, _ = _after_bed(main, 500.0, 0.03)
        main, T2 = _after_bed(main, 510.0, 0.03)
        both = main + cold
        T3 = brentq(lambda x: _H(both, x) - _H(main, T2) - _H(cold, T), 200, 900, xtol=1e-12)
        out, T4 = _after_bed(both, T3, 0.03)
        y = 10 ** (5.2 - 1580.0 / (310 - 273.15 + 240.0)) / 50
        vapor = np.array([out[0], y / (1 - y) * (out[0] + out[2]), out[2]])
        crude, purge, rest = out - vapor, 0.05 * vapor, 0.95 * vapor
        ideal = 310 * (52 / 50) ** (R * rest.sum() / (rest @ CP))
        work = float(rest @ CP) * (ideal - 310) / 0.8
        return np.append(rest, 310 + work / float(rest @ CP)), crude, purge, np.array([work, T4])

    back = np.array([1.0, 0.01, 0.1, 310.0])
    for _ in range(30):
        back = pass_(back)[0]
    back = fsolve(lambda z: pass_(z)[0] - z, back, xtol=1e-13)
    _, crude, purge, more = pass_(back)
    return crude, purge, float(more[0]), float(more[1])


def test_a_synthesis_loop_agrees_with_an_independent_solution() -> None:
    run, (crude, purge, work, T) = _synthesis().run(), _by_hand()
    assert [*run.stream("crude").amounts.values()] == pytest.approx(crude, rel=1e-8, abs=1e-12)
    assert [*run.stream("purge").amounts.values()] == pytest.approx(purge, rel=1e-8)
    assert run.works["compressor"] == pytest.approx(work, rel=1e-8)
    assert pytest.approx(T, rel=1e-9) == run.stream("after bed 3").T
    assert run.metric("fraction of M in crude") == pytest.approx(1.0)
    assert run.metric("molar flow of I in purge") == pytest.approx(0.01, rel=1e-9)  # all that enters
    assert max(run.closure.values()) < 1e-8
    assert {one.name for one in run.streams_out()} == {"crude", "purge"}
    assert {"condenser", "compressor", "quench", "purge"} <= run.step_closures.keys()
    assert max(run.step_closures.values()) < 1e-8
    assert "balances of each step closed" in run.facts()["checked"]


def test_derivatives_go_through_every_step_of_a_loop() -> None:
    loop, metrics = _synthesis(), ["conversion of G", "duty", "molar flow of M in crude", "temperature"]
    names = [
        "purge.share",
        "condenser.T",
        "cold.share",
        "cooler.T",
        "compressor.efficiency",
        "bed 2.volume",
        "flow",
        "make.k",
    ]
    exact = np.array([[*loop.run().sensitivity(m, names).values()] for m in metrics])
    for name, column in zip(names, exact.T, strict=True):
        condition = loop.spec.condition(name)
        step = 1e-4 * condition.own
        sides = [loop.with_({name: condition.give(condition.own + s * step)}).run() for s in (1, -1)]
        changes = [(sides[0].metric(m) - sides[1].metric(m)) / (2 * step) for m in metrics]
        scale = [abs(loop.run().metric(m)) / condition.own for m in metrics]
        assert column == pytest.approx(changes, rel=1e-5, abs=1e-6 * max(scale))


def test_a_loop_with_two_recycles_of_ten_units_closes_in_ten_steps() -> None:
    steps = [
        mo.Mix("light"), mo.Exchanger("500 K", name="heater"), _bed("bed 1"), mo.Exchanger("480 K"), _bed("bed 2"),
        mo.Separator({"M": 0.6}, to="heavy"), mo.Split(0.3, to="light"), mo.Mix("back"), _bed("bed 3"),
        mo.Condenser("310 K", to="crude", gases=["G", "I"]), mo.Purge(0.1), mo.To("back"),
    ]  # fmt: skip
    loop = mo.Train(steps, feed=MAKE_UP)
    run = loop.run()
    assert len(loop.spec.network.units) == 11
    assert len(loop.spec.network.torn) == 2
    assert run.steps <= 10
    assert max(run.closure.values()) < 1e-10
    assert [unit.label for unit, _ in run.units][-1] == "purge"


@pytest.mark.parametrize(("UA", "factor"), [(1000.0, 1.0), (1000.0, 0.5), (50.0, 2.0)])
def test_an_exchanger_between_feed_and_effluent_has_the_effectiveness_of_counter_flow(UA: float, factor: float) -> None:
    """E = (1 - exp(-N (1 - C)))/(1 - C exp(-N (1 - C))), at C = 1 N/(1 + N) (W. M. Kays, A. L. London, 1984, ch. 2)."""
    still = mo.Chemistry(mo.Reaction("A -> B", k="0 1/s", enthalpy="0 J/mol"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="0.1 L/s", T="300 K", heat_capacity="4 MJ/m3/K")
    tube = mo.PlugFlow(still, volume="1 L", heat="adiabatic")
    exchanger = mo.FeedEffluent(UA=UA, name="E")
    steps = [exchanger.feed, tube, mo.Exchanger("360 K"), mo.Split(1 - factor, to="away")] if factor < 1 else [exchanger.feed, tube, mo.Exchanger("360 K")]  # fmt: skip
    if factor > 1:
        steps.append(mo.SideFeed(mo.Feed({"A": "1 mol/L"}, flow="0.1 L/s", T="360 K", heat_capacity="4 MJ/m3/K")))
    run = mo.Train([*steps, exchanger.effluent], feed=feed).run()
    small, large = sorted((400.0, 400.0 * factor))
    N, C = UA / small, small / large
    E = N / (1 + N) if C == 1 else (1 - math.exp(-N * (1 - C))) / (1 - C * math.exp(-N * (1 - C)))
    assert pytest.approx(E * small * 60, rel=1e-9) == 400 * (run.stream("after E, feed").T - 300)
    near = mo.Train(
        [(own := mo.FeedEffluent(approach="8 K")).feed, tube, mo.Exchanger("360 K"), own.effluent], feed=feed
    )
    assert pytest.approx(308.0, rel=1e-10) == near.run().products[0].T


def test_pressure_steps_have_the_work_of_the_textbook() -> None:
    tube = mo.PlugFlow(CHEMISTRY, volume="1 L", T="450 K")
    run = mo.Train(
        [mo.Valve("5 bar"), mo.Compressor("20 bar", efficiency=0.7), mo.Exchanger("450 K"), tube], feed=MAKE_UP
    ).run()
    Cp = 0.99 * 29 + 0.01 * 30
    ideal = 400 * (4 ** (R / Cp) - 1)
    assert run.works["compressor"] == pytest.approx(Cp * ideal / 0.7, rel=1e-10)
    assert pytest.approx(400 + ideal / 0.7, rel=1e-10) == run.stream("after compressor").T
    assert run.stream("after valve").volume == pytest.approx(R * 400 / 5e5, rel=1e-12)
    wet = mo.Feed(
        {"A": "1 mol/L"}, flow="2 L/s", T="300 K", P="1 bar", heat_capacity="4 MJ/m3/K", model="constant density"
    )
    vessel = mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/s", enthalpy="0 J/mol")), volume="1 L", T="300 K")
    pump = mo.Train([mo.Pump("21 bar", efficiency=0.5), vessel], feed=wet).run()
    assert pump.works["pump"] == pytest.approx(2e-3 * 20e5 / 0.5)
    assert pytest.approx(300 + 20e5 / 4e6) == pump.stream("after pump").T


def test_a_flash_agrees_with_the_phase_equilibrium() -> None:
    light = {"antoine": [4.5, 1150.0, 230.0], "pressure": "bar", "temperature": "degC"}
    species = [mo.Species(n, heat_capacity=c, vapor_pressure=v, molar_volume="80 cm3/mol") for n, c, v in (("A", "120 J/mol/K", light), ("B", "150 J/mol/K", ANTOINE))]  # fmt: skip
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0 1/s", enthalpy="0 J/mol"), species=species)
    feed = mo.Feed({"A": "40 mol%", "B": "rest"}, flow="1 mol/s", T="420 K", P="20 bar", model="additive volumes")
    tube = mo.PlugFlow(chemistry, volume="1 L", T="420 K")
    phases = mo.thermo.PhaseEquilibrium(species)
    for step, given in ((mo.Flash(T="360 K", P="3 bar", to="vapor", leaving="gas"), {"T": "360 K"}), (mo.Flash(P="3 bar", to="vapor", leaving="gas"), {"feed_T": "420 K"})):  # fmt: skip
        train, split = mo.Train([tube, step], feed=feed), phases.flash({"A": 0.4, "B": 0.6}, P="3 bar", **given)
        run = train.run()
        vapor = run.stream("vapor")
        assert vapor.total == pytest.approx(split.vapor_fraction, rel=1e-8)
        assert vapor.amounts["A"] / vapor.total == pytest.approx(split.y[0], rel=1e-8)
        assert pytest.approx(split.T, rel=1e-8) == vapor.T
        assert max(run.closure.values()) < 1e-9
        exact = [*run.sensitivity("molar flow of A in vapor", ["flash.P", "feed T"]).values()]
        sides = [[train.with_({n: v + s}).run().stream("vapor").amounts["A"] for s in (h, -h)] for n, v, h in (("flash.P", 3e5, 10.0), ("feed T", 420.0, 0.01))]  # fmt: skip
        assert exact == pytest.approx([(a - b) / (2 * h) for (a, b), h in zip(sides, (10.0, 0.01), strict=True)], rel=1e-5, abs=1e-12)  # fmt: skip


def test_a_train_gives_its_feed_to_vessels_without_one() -> None:
    feed, tank = (
        mo.Feed({"A": "1 mol/L"}, flow="1 L/s"),
        mo.StirredTank(mo.Chemistry(mo.Reaction("A -> B", k="1 1/s")), volume="1 L"),
    )
    train = mo.Train([tank, tank], feed)
    assert train.run().conversion("A") == pytest.approx(0.75)
    assert train.with_({"flow": "2 L/s"}).run().conversion("A") == pytest.approx(1 - 1 / 1.5**2)
    assert train.with_(feed=mo.Feed({"A": "2 mol/L"}, flow="1 L/s")).run().entering["A"] == pytest.approx(2.0)
    with pytest.raises(mo.InputError, match="no feed is given"):
        tank.run()


IGNITES = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-80 kJ/mol"))
COLD = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")


def _autothermal(UA: str = "20 kW/K") -> mo.Train:
    exchanger = mo.FeedEffluent(UA=UA, name="E")
    return mo.Train(
        [exchanger.feed, mo.PlugFlow(IGNITES, volume="200 L", heat="adiabatic", name="bed"), exchanger.effluent], COLD
    )


def _off(T: float, UA: float = 20e3) -> tuple[float, float]:
    """Inlet temperature of the bed that the exchanger gives, less the assumed one, and the conversion of the bed: with
    equal heat capacity flows E = N/(1 + N)."""
    Q, rise, N = 0.1 / 60, 80e3 * 2000 / 4.2e6, UA / (0.1 / 60 * 4.2e6)

    def slope(V: float, x: np.ndarray) -> list[float]:
        return [3e14 / 60 * math.exp(-1e5 / R / (T + rise * x[0])) * (1 - x[0]) / Q]

    X = float(solve_ivp(slope, (0, 0.2), [0.0], method="LSODA", rtol=1e-12, atol=1e-14).y[0, -1])
    return 300 + N / (1 + N) * (T + rise * X - 300) - T, X


def test_an_autothermal_bed_has_three_states() -> None:
    """All three agree with an independent shooting; the cold one is reached from the feed."""
    found = _autothermal().steady_states()
    assert found.stable == (True, False, True)
    ends = ((300.01, 310.0), (325.0, 345.0), (400.0, 415.0))
    roots = [brentq(lambda T: _off(T)[0], *pair, xtol=1e-12, rtol=1e-15) for pair in ends]
    for run, T in zip(found, roots, strict=True):
        assert pytest.approx(T, rel=1e-8) == run.stream("after E, feed").T
        assert run.conversion("A") == pytest.approx(_off(T)[1], rel=1e-8)
    assert _autothermal().run().conversion("A") == pytest.approx(found[0].conversion("A"), rel=1e-8)
    assert _autothermal("300 kW/K").run().conversion("A") > 0.99  # beyond ignition


def test_ignition_and_extinction_of_an_autothermal_bed_are_the_extremes_of_its_feed_temperature() -> None:
    """The feed temperature at which a bed inlet temperature is steady, T - E/(1 - E) rise X(T), has two extremes."""
    N, rise = 10e3 / (0.1 / 60 * 4.2e6), 80e3 * 2000 / 4.2e6
    feed_T = [lambda T, s=s: s * (T - N * rise * _off(T)[1]) for s in (-1, 1)]
    ends = ((315.0, 333.0), (335.0, 360.0))
    by_hand = [abs(minimize_scalar(f, bounds=pair, method="bounded", options={"xatol": 1e-7}).fun) for f, pair in zip(feed_T, ends, strict=True)]  # fmt: skip
    branch = _autothermal("10 kW/K").branch({"feed T": ("280 K", "330 K")})
    assert [fold.kind for fold in branch.folds] == ["ignition", "extinction"]
    assert [fold.value for fold in branch.folds] == pytest.approx(by_hand, rel=1e-6)
    assert branch.stable[0]
    assert branch.stable[-1]
    assert not branch.stable.all()
    assert branch.runs[-1].conversion("A") > 0.99
    assert "ignition at feed T" in str(branch)


@pytest.mark.parametrize("seed", range(6))
def test_a_recycle_ratio_is_a_mixer_and_a_split(seed: int) -> None:
    """Random lines of tubes and tanks: the ratio R and the explicit loop that returns R/(1 + R) agree."""
    random = np.random.default_rng(seed)
    first = mo.Reaction("A -> B", k="0.2 1/min", name="r")
    chemistry = mo.Chemistry([first, mo.Reaction("2 B -> C", k="0.1 L/mol/min", name="s")])
    kinds = random.choice([mo.PlugFlow, mo.StirredTank], size=int(random.integers(1, 4)))
    vessels = [kind(chemistry, volume=f"{random.uniform(1, 8)} L", name=f"v{n}") for n, kind in enumerate(kinds)]
    ratio, feed = float(random.uniform(0.2, 4)), mo.Feed({"A": "1 mol/L", "C": "0.1 mol/L"}, flow="1 L/min")
    short = mo.Train(vessels, feed, recycle=ratio)
    loop = mo.Train([mo.Mix("back"), *vessels, mo.Split(ratio / (1 + ratio), to="back")], feed)
    one, two = short.run(), loop.run()
    assert [*two.last.amounts.values()] == pytest.approx([*one.last.amounts.values()], rel=1e-9)
    assert two.residence_time_si == pytest.approx(one.residence_time_si, rel=1e-9)
    slopes = [run.sensitivity("yield of B on A", ["v0.volume", "flow", "r.k"]) for run in (one, two)]
    assert [*slopes[0].values()] == pytest.approx([*slopes[1].values()], rel=1e-6)
    by_ratio = one.sensitivity("conversion of A", ["recycle"])["recycle"]
    by_share = two.sensitivity("conversion of A", ["back.share"])["back.share"]
    assert by_ratio == pytest.approx(by_share / (1 + ratio) ** 2, rel=1e-6)  # d(R/(1 + R))/dR


def test_a_recycle_ratio_around_a_loop_is_two_loops() -> None:
    """Both are closed together, and side feeds without names are two streams."""
    chemistry, feed = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube, tank = mo.PlugFlow(chemistry, volume="5 L"), mo.StirredTank(chemistry, volume="5 L")
    inner = [tube, mo.Mix("inner"), tank, mo.Split(0.3, to="inner")]
    short = mo.Train(inner, feed, recycle=1.0).run()
    loops = mo.Train([mo.Mix("outer"), *inner, mo.Split(0.5, to="outer")], feed).run()
    assert short.conversion("A") == pytest.approx(loops.conversion("A"), rel=1e-9)
    more = [mo.SideFeed(mo.Feed({"A": f"{c} mol/L"}, flow="1 L/min")) for c in (2, 3)]
    run = mo.Train([tube, more[0], tube, more[1], mo.Split(0.5, to="side")], feed).run()
    assert run.entering["A"] * 60 == pytest.approx(6.0)
    assert [run.stream(s).amounts["A"] * 60 for s in ("side feed", "side feed 2")] == pytest.approx([2.0, 3.0])
    assert max(run.closure.values()) < 1e-9


def test_a_loop_is_copied_whole_and_not_followed_over_time() -> None:
    loop = _autothermal()
    loop.run()
    copy = pickle.loads(pickle.dumps(loop))
    assert copy == loop
    assert copy.run().conversion("A") == pytest.approx(loop.run().conversion("A"), rel=1e-12)
    changed = loop.with_({"E.UA": "25 kW/K", "bed.volume": "100 L"})
    assert changed.steps[0].exchanger is changed.steps[2].exchanger
    assert changed.spec.condition("E.UA").own == pytest.approx(25e3)
    with pytest.raises(mo.InputError, match="over time"):
        loop.follow("1 h")
    figure = loop.branch({"bed.volume": ("10 L", "12 L")}).figure()
    assert "highest temperature [K]" in figure.axes[0].get_ylabel()
    assert figure.axes[1].get_xlabel().startswith("bed.volume")


def test_a_bypass_and_a_separator_split_what_they_say() -> None:
    """X = (1 - s)(1 - exp(-k V/((1 - s) Q))) past a by-pass; recoveries split a stream species by species."""
    chemistry, feed = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube, share = mo.PlugFlow(chemistry, volume="5 L", name="tube"), 0.25
    run = mo.Train([mo.Split(share, to="past"), tube, mo.Mix("past")], feed).run()
    assert run.conversion("A") == pytest.approx((1 - share) * (1 - math.exp(-1 / (1 - share))), rel=1e-9)
    apart = mo.Train([tube, mo.Separator({"A": 0.1, "B": 0.9}, to="product")], feed)
    out, product = apart.run().runs[0].stream_out(), apart.run().stream("product")
    assert [product.amounts[s] / out.amounts[s] for s in ("A", "B")] == pytest.approx([0.1, 0.9])
    assert apart.run().conversion("A") == pytest.approx(1 - math.exp(-1), rel=1e-9)  # of all that leaves
    named = mo.Train([tube, mo.Separator({"A": 0.1, "B": 0.9}, to="outlet")], feed).run()
    assert named.metric("molar flow of B in outlet") == pytest.approx(product.amounts["B"])  # not the main one
    slope = apart.run().sensitivity("molar flow of B in product", ["separator.recovery of B"])
    assert slope["separator.recovery of B"] == pytest.approx(out.amounts["B"], rel=1e-9)


def test_a_loop_is_optimized_over_its_purge() -> None:
    """The inert fraction that the purge may have is the active limit, at the optimum that a fine sweep finds."""
    loop = _synthesis()
    best = mo.optimize(loop, maximize="molar flow of M in crude", free={"purge.share": (0.01, 0.3)}, subject_to=["fraction of I in purge <= 0.3"])  # fmt: skip
    assert best.run.metric("fraction of I in purge") == pytest.approx(0.3, rel=1e-6)
    share = brentq(lambda s: loop.with_({"purge.share": s}).run().metric("fraction of I in purge") - 0.3, 0.02, 0.3)
    assert best.vessel.spec.condition("purge.share").own == pytest.approx(share, rel=1e-6)


TUBE = mo.PlugFlow(CHEMISTRY, volume="1 L", T="450 K")
WRONG: dict[str, tuple[Callable[[], object], str]] = {
    "a stream that no step gives": (lambda: mo.Train([mo.Mix("bakc"), TUBE, mo.To("back")], MAKE_UP), "did you mean 'back'"),
    "a stream taken twice": (lambda: mo.Train([mo.Split(0.1, to="a"), TUBE, mo.Mix("a"), TUBE, mo.Mix("a")], MAKE_UP), "two steps take it"),
    "a stream given twice": (lambda: mo.Train([mo.Purge(0.1), TUBE, mo.Purge(0.1)], MAKE_UP), "two steps give it"),
    "a line after its end": (lambda: mo.Train([TUBE, mo.To("a"), TUBE], MAKE_UP), "the line has ended"),
    "half an exchanger": (lambda: mo.Train([mo.FeedEffluent(UA=1).feed, TUBE], MAKE_UP), "'effluent' is missing"),
    "no feed": (lambda: mo.Train([TUBE]), "no feed is given"),
    "a feed that enters nothing": (lambda: mo.Train([mo.From("x"), TUBE, mo.Split(0.5, to="x")], MAKE_UP), "its feed enters nothing"),
    "a name of a step": (lambda: mo.Split(0.5, to="after bed"), "given to streams by their steps"),
    "two feeds": (lambda: mo.Train([TUBE.with_(feed=MAKE_UP)], mo.Feed({"G": "1 mol/s"}, T=300, P=1e5)), "is not that of its first vessel"),
    "a liquid into a bed": (lambda: mo.Train([TUBE, mo.Condenser("250 K", gases=["G", "I"], to="crude"), mo.To("a"), mo.From("crude"), TUBE], MAKE_UP).run(), "it is fed with a liquid"),
    "a species without a vapor pressure": (lambda: mo.Train([TUBE, mo.Condenser("310 K", gases="G")], MAKE_UP).run(), "gases = \\['I'\\]"),
    "a valve that compresses": (lambda: mo.Train([TUBE, mo.Valve("60 bar")], MAKE_UP).run(), "higher pressure"),
    "nothing leaves": (lambda: mo.Train([mo.Mix("back"), TUBE, mo.To("back")], MAKE_UP).run(), "no stream leaves it"),
    "a share above one": (lambda: mo.Split(1.5, to="a"), "give at most 1"),
    "UA and approach": (lambda: mo.FeedEffluent(UA=1, approach=2), "both given"),
    "an approach too wide": (lambda: mo.Train([(e := mo.FeedEffluent(approach="900 K")).feed, TUBE, e.effluent], MAKE_UP).run(), "less than the approach"),
    "a pump of a gas": (lambda: mo.Train([TUBE, mo.Pump("60 bar")], MAKE_UP).run(), "use mo.Compressor"),
    "a recovery above one": (lambda: mo.Separator({"M": 1.2}), "more than everything"),
    "a condenser without T": (lambda: mo.Condenser(), "neither T nor duty"),
    "an unknown recovery": (lambda: mo.Train([TUBE, mo.Separator({"Q": 0.5})], MAKE_UP).run(), "'Q' is not a species"),
    "a metric of an unknown stream": (lambda: mo.compare([mo.Train([TUBE, mo.Purge(0.1)], MAKE_UP)], ["molar flow in purg"]), "did you mean 'purge'"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_wrong_loops_are_reported(name: str) -> None:
    make, content = WRONG[name]
    with pytest.raises(mo.MolinoError, match=content):
        make()


JOB = """
[species.G]
heat_capacity = "29 J/mol/K"
[species.M]
heat_capacity = "50 J/mol/K"
molar_volume = "40 cm3/mol"
vapor_pressure = { antoine = [5.2, 1580, 240], pressure = "bar", temperature = "degC" }

[reactions.make]
equation = "2 G -> M"
k = { k = "1e-5 m3/mol/s", at = "500 K", Ea = "60 kJ/mol" }
enthalpy = "-50 kJ/mol"

[feeds.make-up]
contents = { G = "1 mol/mol" }
flow = "1 mol/s"
T = "300 K"
P = "50 bar"

[vessels.bed]
kind = "plug flow"
volume = "20 L"
heat = "adiabatic"

[vessels.loop]
kind = "train"
feed = "make-up"
steps = [
  { mix = "back" },
  { feed_effluent = { UA = "50 W/K" }, name = "preheater" },
  { exchanger = { T = "500 K" }, name = "heater" },
  { vessel = "bed" },
  { effluent = "preheater" },
  { condenser = { T = "310 K", gases = ["G"], to = "crude" } },
  { purge = { share = 0.05 } },
  { compressor = { P = "51 bar" } },
  { to = "back" },
]

[sweep.purge]
vessel = "loop"
metrics = ["conversion of G", "molar flow of M in crude"]
conditions = { "purge.share" = [0.02, 0.1] }
"""


def test_a_loop_in_a_job_runs_and_is_swept(tmp_path: Path, molino: Typed) -> None:
    (tmp_path / "loop.toml").write_text(JOB)
    shown = molino("run", tmp_path / "loop.toml").output
    assert "streams of loop" in shown
    assert "after preheater, effluent" in shown
    assert "work of compressor" in shown
    run = mo.load_job(tmp_path / "loop.toml").vessels["loop"].run()
    assert "bed" not in mo.load_job(tmp_path / "loop.toml").vessels
    assert max(run.closure.values()) < 1e-8
    swept = molino("sweep", tmp_path / "loop.toml").output
    assert "molar flow of M in crude" in swept
    (tmp_path / "loop.toml").write_text(JOB.replace('{ effluent = "preheater" }', '{ effluent = "preheat" }').replace('{ to = "back" }', '{ to = "back", mix = "x" }'))  # fmt: skip
    wrong = molino("check", tmp_path / "loop.toml").output
    assert "did you mean 'preheater'" in wrong
    assert "mix and to are in one step" in wrong
