"""Optimal profiles against closed forms and published problems of dynamic optimization, each from constant starts."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import quad, solve_ivp
from typer.testing import CliRunner

import molino as mo
from molino.desk.cli import app

GAS = 8.31446261815324
K, KI, RISE = 0.5, 2.0, 2.0
"""Of a rate S / (K + S + S^2 / KI), whose substrate is supplied at RISE at most."""


def _inhibited(s: float) -> float:
    return s / (K + s + s * s / KI)


def _k1(T: float) -> float:
    return 2e5 * math.exp(-5000 / T)


def _k2(T: float) -> float:
    return 1e11 * math.exp(-10000 / T)


REVERSIBLE = mo.Reaction(
    "A <-> B", rate="k1*[A] - k2*[B]", k1=mo.Arrhenius(A=2e5, Ea=5000 * GAS), k2=mo.Arrhenius(A=1e11, Ea=10000 * GAS)
)
SUPPLY = [mo.Reaction("D -> S", rate="u"), mo.Reaction("S -> P", rate="k*[S]/(K + [S] + [S]^2/Ki)", k=1.0, K=K, Ki=KI)]


def _fastest(x: float) -> float:
    """The rate of A <-> B at the temperature, between 300 and 400 K, at which it is highest (K. G. Denbigh)."""
    ratio = 10000 * 1e11 * x / (5000 * 2e5 * (1 - x)) if x > 0 else 0.0
    T = 5000 / math.log(ratio) if ratio > 1 else 400.0
    T = min(max(T, 300.0), 400.0)
    return _k1(T) * (1 - x) - _k2(T) * x


def _conversion_after(time: float) -> float:
    found = solve_ivp(
        lambda t, x: [_fastest(x[0])], (0, time), [0.0], rtol=1e-11, atol=1e-13, method="LSODA", max_step=0.02
    )
    return float(found.y[0, -1])


def _supplied(level: float, time: float) -> float:
    """What S -> P makes where S rises as fast as it can to a level and is kept there."""
    until = quad(lambda s: 1 / (RISE - _inhibited(s)), 0, level, epsabs=1e-13)[0]
    made = quad(lambda s: _inhibited(s) / (RISE - _inhibited(s)), 0, level, epsabs=1e-13)[0]
    return float(made + _inhibited(level) * (time - until))


def _batch(reactions: list[mo.Reaction], charge: dict[str, object], **given: object) -> mo.Batch:
    return mo.Batch(mo.Chemistry(reactions, constants={"u": 1.0}), charge, **given)


def _parallel() -> tuple[mo.results.Optimum, float, str]:
    """B. Srinivasan, S. Palanki, D. Bonvin, Comput. Chem. Eng. 27 (2003) 1; published 0.57353 to 0.573545."""
    batch = _batch([mo.Reaction("A -> B", rate="u*[A]"), mo.Reaction("A -> C", rate="u^2/2*[A]")], {"A": 1.0}, time=1.0)
    best = mo.optimize(batch, maximize="concentration of B", free={"u": mo.FreeProfile(0, 5)})
    return best, 0.573545, "between its bounds"


def _pyrolysis(**free: object) -> mo.results.Optimum:
    """Oil shale (C. S. Wen, T. F. Yen, Chem. Eng. Sci. 32 (1977) 346); ln k0 and E/R of its five reactions."""
    numbers = ((8.86, 10215.4), (24.25, 18820.5), (23.67, 17008.9), (18.75, 14190.8), (20.70, 15599.8))
    equations = ("A -> B", "B -> P", "A + B -> 2 B", "A + B -> B + C", "A + B -> B + D")
    rates = ("k*[A]", "k*[B]", *["k*[A]*[B]"] * 3)
    reactions = [mo.Reaction(e, rate=r, k=mo.Arrhenius(A=math.exp(a), Ea=b * GAS))
                 for e, r, (a, b) in zip(equations, rates, numbers, strict=True)]  # fmt: skip
    batch = mo.Batch(mo.Chemistry(reactions), {"A": 1.0}, T=710.0, time=9.3)
    return mo.optimize(
        batch, maximize="concentration of B", free={"T": mo.FreeProfile(698.15, 748.15), **free}, n_starts=1
    )  # fmt: skip


def _bang() -> tuple[mo.results.Optimum, float, str]:
    """The catalyst of A -> B is added so late that B is at its peak at the end."""
    reactions = [mo.Reaction("A -> B", rate="u*[A]"), mo.Reaction("B -> C", rate="k2*[B]", k2=1.0)]
    best = mo.optimize(
        _batch(reactions, {"A": 1.0}, time=2.0), maximize="concentration of B", free={"u": mo.FreeProfile(0, 3)}
    )
    late = math.log(3) / 2
    assert best.profiles[0].arcs[0].end == pytest.approx(2 - late, abs=1e-5)
    return best, 1.5 * (math.exp(-late) - math.exp(-3 * late)), "at its lower bound, at its upper bound"


def _singular() -> tuple[mo.results.Optimum, float, str]:
    """Substrate inhibition: the substrate is kept where the rate is highest, at sqrt(K KI)."""
    best = mo.optimize(
        _batch(SUPPLY, {"D": 100.0}, time=5.0), maximize="concentration of P", free={"u": mo.FreeProfile(0, RISE)}
    )
    assert best.profiles[0].value_at(3.0) == pytest.approx(_inhibited(1.0), abs=5e-3)
    return best, _supplied(math.sqrt(K * KI), 5.0), "at its upper bound, singular"


def _along_a_limit() -> tuple[mo.results.Optimum, float, str]:
    limit = "concentration of S everywhere <= 0.6"
    best = mo.optimize(
        _batch(SUPPLY, {"D": 100.0}, time=5.0), maximize="concentration of P", free={"u": mo.FreeProfile(0, RISE)},
        subject_to=[limit],
    )  # fmt: skip
    slope = (_supplied(0.601, 5.0) - _supplied(0.599, 5.0)) / 0.002
    assert best.active_limits[0].worth == pytest.approx(slope, rel=1e-3)
    return best, _supplied(0.6, 5.0), f"at its upper bound, along the limit {limit}"


def _reversible_tube() -> tuple[mo.results.Optimum, float, str]:
    """Best temperature progression of a reversible exothermic reaction, along a tube with diameter."""
    chemistry = mo.Chemistry([REVERSIBLE])
    tube = mo.PlugFlow(chemistry, mo.Feed({"A": 1.0}, flow=0.1), diameter=1.0, length=4 / math.pi, T=350.0)
    best = mo.optimize(tube, maximize="conversion of A", free={"T": mo.FreeProfile(300.0, 400.0)}, n_starts=1)
    return best, _conversion_after(10.0), "at its upper bound, between its bounds"


def _shortest_time() -> tuple[mo.results.Optimum, float, str]:
    """The same reaction to a conversion of 0.6, in the shortest time: the end is free."""
    batch = mo.Batch(mo.Chemistry([REVERSIBLE]), {"A": 1.0}, T=350.0, time=5.0)
    best = mo.optimize(
        batch, minimize="batch time", free={"T": mo.FreeProfile(300.0, 400.0), "time": (1.0, 50.0)},
        subject_to=["conversion of A >= 0.6"], n_starts=1,
    )  # fmt: skip
    exact = quad(lambda x: 1 / _fastest(x), 0, 0.6, epsabs=1e-12, limit=200)[0]
    assert best.active_limits[0].worth == pytest.approx(1 / _fastest(0.6), rel=1e-4)
    return best, exact, "at its upper bound, between its bounds"


def _two_at_once() -> tuple[mo.results.Optimum, float, str]:
    """Two profiles of reactions that do not touch each other."""
    batch = _batch([REVERSIBLE, *SUPPLY], {"A": 1.0, "D": 100.0}, T=350.0, time=5.0)
    best = mo.optimize(
        batch, maximize="concentration of B + concentration of P", n_starts=1,
        free={"u": mo.FreeProfile(0, RISE), "T": mo.FreeProfile(300.0, 400.0)},
    )  # fmt: skip
    return best, _conversion_after(5.0) + _supplied(1.0, 5.0), "at its upper bound, singular"


def _dosing() -> tuple[mo.results.Optimum, float, str]:
    """What reacts in the first order is dosed as early as the pump and the volume allow."""
    dose = mo.Dosing(mo.Feed({"B": 2.0}, flow=0.5))
    vessel = mo.SemiBatch(mo.Chemistry(mo.Reaction("B -> C", k=0.3)), {"C": 1.0}, {"pump": dose}, volume=1.0, time=6.0)
    best = mo.optimize(
        vessel, maximize="amount of C", free={"pump rate": mo.FreeProfile(0, 1.0)}, subject_to=["volume <= 3"]
    )
    left = 2.0 / 0.3 * (1 - math.exp(-0.6)) * math.exp(-0.3 * 4)
    return best, 5.0 - left, "at its upper bound, at its lower bound"


def _jacket() -> tuple[mo.results.Optimum, float, str]:
    """Heated as fast as the jacket allows up to the highest temperature, and kept there."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.02 1/min", at="330 K", Ea="70 kJ/mol"),
                                         enthalpy="0 kJ/mol"))  # fmt: skip
    batch = mo.Batch(chemistry, {"A": "1 mol/L"}, volume="1 m3", T="310 K", heat=mo.Jacket("300 K", UA="7 kW/K"),
                     heat_capacity="4.2 MJ/m3/K", time="30 min")  # fmt: skip
    best = mo.optimize(
        batch, maximize="conversion of A", free={"coolant T": mo.FreeProfile("290 K", "360 K")}, n_starts=1,
        subject_to=["temperature everywhere <= 345 K"],
    )  # fmt: skip

    def rate(T: float) -> float:
        return 0.02 / 60 * math.exp(-70e3 / GAS * (1 / T - 1 / 330))

    until = 600 * math.log(50 / 15)
    warm = quad(lambda t: rate(360 - 50 * math.exp(-t / 600)), 0, until)[0]
    exact = 1 - math.exp(-warm - rate(345.0) * (1800 - until))
    return best, exact, "at its upper bound, along the limit temperature everywhere <= 345 K"


PROBLEMS = (_parallel, _bang, _singular, _along_a_limit, _reversible_tube, _shortest_time, _two_at_once, _dosing,
            _jacket)  # fmt: skip


@pytest.mark.parametrize("problem", PROBLEMS)
def test_profiles_reach_closed_forms_and_say_of_which_arcs_they_consist(
    problem: Callable[[], tuple[mo.results.Optimum, float, str]],
) -> None:
    best, exact, arcs = problem()
    assert best.value == pytest.approx(exact, rel=2e-6)
    assert best.first_order < 2e-3
    assert arcs in ", ".join(arc.kind for arc in best.profiles[0].arcs)
    profile = best.profiles[0]
    again = best.vessel.with_({profile.name: mo.Profile(profile.points())}).run()
    value = best.objective.value([again.metric(m) for m in best.objective.metrics])
    assert value == pytest.approx(best.value, rel=1e-9)  # what is shown can be run
    for limit, left in zip(best.limits, best.left, strict=True):
        assert left >= -2e-5 * abs(limit.value)


@pytest.mark.parametrize(
    "limit", ["concentration of B everywhere <= 300 mol/m3", "temperature after cooling failure <= 345 K"]
)
def test_the_shortest_safe_dosing_fills_at_once_and_then_keeps_to_the_limit(limit: str) -> None:
    """A + B -> C: at the limit A reacts in the first order; 50 K per mol/L of B that has accumulated."""
    k, fed, pump, level = 1e-7, 5000.0, 1e-3, 300.0
    dose = mo.Dosing(mo.Feed({"B": fed}, flow=pump, T=330.0))
    vessel = mo.SemiBatch(
        mo.Chemistry(mo.Reaction("A + B -> C", k=k, enthalpy=-2e5)), {"A": 2000.0}, {"pump": dose}, volume=1.0,
        time=5e4, T=330.0, heat_capacity=4e6,
    )  # fmt: skip
    best = mo.optimize(
        vessel, minimize="batch time", free={"pump rate": mo.FreeProfile(0, pump), "time": (1e3, 3e5)},
        subject_to=[limit, "conversion of A >= 0.9"], n_starts=1,
    )  # fmt: skip

    def full(t: float, n: np.ndarray) -> float:
        return n[1] / (1 + pump * t) - level

    full.terminal = True  # type: ignore[attr-defined]
    filled = solve_ivp(
        lambda t, n: np.array([-1, -1]) * k * n[0] * n[1] / (1 + pump * t) + [0, pump * fed], (0, 1e5), [2000.0, 0.0],
        events=full, rtol=1e-10, atol=1e-8,
    )  # fmt: skip
    exact = filled.t[-1] + math.log(filled.y[0, -1] / 200.0) / (k * level)
    assert best.value <= exact * (1 + 2e-4)
    assert "failure" in limit or best.value >= exact * (1 - 2e-6)  # once A is short, more B does no harm
    kinds = [arc.kind for arc in best.profiles[0].arcs]
    assert kinds[0] == "at its upper bound"
    assert kinds[1].startswith("along the limit")
    assert {check.name: check for check in best.checks}["limits met"].is_passed


def test_the_oil_shale_problem_to_all_published_digits_with_and_without_a_free_end() -> None:
    fixed = _pyrolysis()
    assert fixed.value == pytest.approx(0.3538, abs=5e-5)
    kinds = [arc.kind for arc in fixed.profiles[0].arcs]
    assert kinds == ["at its lower bound", "at its upper bound", "between its bounds", "at its lower bound"]
    ended = _pyrolysis(time=(2.0, 20.0))
    assert ended.value >= fixed.value - 1e-9
    assert ended.free[0].value == pytest.approx(9.28, abs=0.02)
    signs = ended.profiles[0]
    inside = (signs.switching_times > 0.45 * 9.28) & (signs.switching_times < 0.5 * 9.28)
    assert (signs.switching[inside] > 0).all()  # at its upper bound, where more would gain


def test_pieces_agree_with_numbers_that_are_free_by_themselves() -> None:
    first = mo.Reaction("A -> B", k=mo.Arrhenius(A="0.535e11 1/min", Ea="75.3 kJ/mol"))
    second = mo.Reaction("B -> C", k=mo.Arrhenius(A="0.461e18 1/min", Ea="125.5 kJ/mol"))
    batch = mo.Batch(mo.Chemistry([first, second]), {"A": "1 mol/L"}, T="340 K", time="8 min")
    bounds = ("320 K", "390 K")
    one = mo.optimize(batch, maximize="yield of B on A", free={"T": mo.FreeProfile(*bounds, pieces=1, kind="constant")})
    same = mo.optimize(batch, maximize="yield of B on A", free={"T": bounds})
    assert one.value == pytest.approx(same.value, rel=1e-9)
    assert one.profiles[0].values[0] == pytest.approx(same.free[0].value, rel=1e-6)
    steep = mo.optimize(batch, maximize="yield of B on A", free={"T": mo.FreeProfile(*bounds, slope="2 K/min")})
    free = mo.optimize(batch, maximize="yield of B on A", free={"T": mo.FreeProfile(*bounds)})
    assert one.value < steep.value < free.value
    rates = np.diff(steep.profiles[0].values) / np.diff(steep.profiles[0].times)
    assert np.abs(rates).max() == pytest.approx(2 / 60, rel=1e-6)
    assert "falls at its steepest slope" in steep.active_limits[0].text


def test_given_profiles_of_any_number_that_may_move() -> None:
    tube = mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", rate="u*[A]"), constants={"u": "0.2 1/min"}),
                       mo.Feed({"A": "1 mol/L"}, flow="10 L/min"), volume="50 L")  # fmt: skip
    moved = tube.with_({"u": mo.Profile([("0 L", "0 1/min"), ("50 L", "0.4 1/min")])})
    assert moved.run().conversion("A") == pytest.approx(1 - math.exp(-1.0), rel=1e-8)
    with pytest.raises(mo.InputError, match="flow cannot change during a run"):
        tube.with_({"flow": mo.Profile([(0, 1.0)])})
    hot = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-50 kJ/mol"))
    batch = mo.Batch(hot, {"A": 1e3}, T=300.0, heat="adiabatic", heat_capacity="4.2 MJ/m3/K", time="5 min")
    with pytest.raises(mo.InputError, match="follows from an energy balance"):
        mo.optimize(batch, maximize="conversion of A", free={"T": mo.FreeProfile("290 K", "360 K")})
    dose = mo.Dosing(mo.Feed({"B": 2.0}, flow=0.1))
    vessel = mo.SemiBatch(mo.Chemistry(mo.Reaction("B -> C", k=0.3)), {"C": 1.0}, {"pump": dose}, volume=1.0, time=6.0)
    slope = vessel.run().sensitivity("amount of C", ["pump rate"])["pump rate"]
    high, low = (vessel.with_({"pump rate": q}).run().metric("amount of C") for q in (0.1001, 0.0999))
    assert slope == pytest.approx((high - low) / 0.0002, rel=1e-6)


def test_free_profiles_in_a_job(tmp_path: Path) -> None:
    job = tmp_path / "job.toml"
    job.write_text(
        '[units]\ntime = "min"\ntemperature = "K"\nconcentration = "mol/L"\n'
        '[reactions.wanted]\nequation = "A -> B"\nk = { A = "0.535e11 1/min", Ea = "75.3 kJ/mol" }\n'
        '[reactions.loss]\nequation = "B -> C"\nk = { A = "0.461e18 1/min", Ea = "125.5 kJ/mol" }\n'
        '[vessels.kettle]\nkind = "batch"\ncharge = { A = 1 }\nT = 340\ntime = 8\n'
        '[optimize.heating]\nvessel = "kettle"\nmaximize = "yield of B on A"\n'
        'free = { T = { low = 320, high = 345 }, time = [2, 12] }\nsubject_to = ["batch time <= 8"]\n'
    )
    answer = CliRunner().invoke(app, ["optimize", str(job), "--json"])
    assert answer.exit_code == 0, answer.output
    found = json.loads(answer.stdout)["optima"]["heating"]
    assert found["profiles"]["T"]["arcs"][0]["kind"] == "at its upper bound"
    assert found["value"] == pytest.approx(0.652638, abs=1e-6)
    assert (tmp_path / "results" / "job" / "optimize-heating.png").is_file()
    bad = (
        job.read_text().replace("low = 320", "low = 350").replace("T = 340", "T = 340\nprofiles = { flow = [[0, 1]] }")
    )
    job.write_text(bad)
    refused = CliRunner().invoke(app, ["check", str(job)])
    assert refused.exit_code == 2
    assert "cannot be varied" in refused.output


def test_a_coolant_may_follow_a_profile_along_a_tube() -> None:
    """Against a script of its own, and as a free profile better than any constant temperature."""
    first = mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol"), enthalpy="-80 kJ/mol")
    second = mo.Reaction("B -> C", k=mo.Arrhenius(k="0.05 1/min", at="350 K", Ea="90 kJ/mol"), enthalpy="-80 kJ/mol")
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K", heat_capacity="4 kJ/L/K")
    jacket = mo.Jacket("330 K", U="300 W/m2/K", area="0.8 m2")
    tube = mo.PlugFlow(mo.Chemistry([first, second]), feed, volume="20 L", heat=jacket)
    Q = 1e-3 / 60

    def slope(z: float, y: np.ndarray) -> list[float]:
        A, B, _, T = y
        one, two = (k / 60 * math.exp(-Ea / 8.31446261815324 * (1 / T - 1 / 350)) * n / Q
                    for k, Ea, n in ((0.2, 60e3, A), (0.05, 90e3, B)))  # fmt: skip
        heat = 80e3 * (one + two) + 300 * 0.8 / 0.02 * (340 - 1000 * z - T)
        return [-one, one - two, two, heat / (4e6 * Q)]

    course = mo.Profile([("0 L", "340 K"), ("20 L", "320 K")])
    by_hand = solve_ivp(slope, (0, 0.02), [1000 * Q, 0, 0, 330], rtol=1e-10, atol=1e-14, method="LSODA")
    found = tube.with_({"coolant T": course}).run()
    assert found.metric("yield of B on A") == pytest.approx(by_hand.y[1, -1] / (1000 * Q), rel=1e-8)
    best = mo.optimize(
        tube, maximize="yield of B on A", free={"coolant T": mo.FreeProfile("300 K", "360 K")}
    )  # fmt: skip
    constant = mo.optimize(tube, maximize="yield of B on A", free={"coolant T": ("300 K", "360 K")})
    assert best.value > constant.value
    assert best.profiles[0].arcs[0].kind == "at its upper bound"
    assert "coolant T on a profile" in str(best.vessel)
    flowing = tube.with_(heat=mo.Jacket("330 K", U="300 W/m2/K", area="0.8 m2", flow="100 W/K"))
    with pytest.raises(mo.InputError, match="its coolant flows"):
        flowing.with_({"coolant T": course})


def test_a_moving_number_under_a_root_has_its_curvature() -> None:
    """k sqrt(u): the best course is low until a time and then high; no such time does better."""
    chem = mo.Chemistry([mo.Reaction("A -> B", rate="k*[A]*sqrt(u)", k="0.1 1/min", u=0.5, name="r"),
                         mo.Reaction("B -> C", k="0.05 1/min")])  # fmt: skip
    batch = mo.Batch(chem, {"A": "1 mol/L"}, time="30 min")
    best = mo.optimize(batch, maximize="yield of B on A", free={"r.u": mo.FreeProfile(0.1, 1)})
    assert [arc.kind for arc in best.profiles[0].arcs] == ["at its lower bound", "at its upper bound"]
    switch = best.profiles[0].arcs[0].end
    assert 600 < switch < 1200  # in s
    for at in (0.9 * switch, switch, 1.1 * switch):
        course = mo.Profile([("0 s", 0.1), (f"{at} s", 0.1), (f"{at} s", 1.0)])
        assert batch.with_({"r.u": course}).run().metric("yield of B on A") <= best.value * (1 + 1e-9)
