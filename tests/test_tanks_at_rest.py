"""All steady states of a tank, their stability, ignition and extinction, and tanks that are disturbed."""

from __future__ import annotations

import math
import time
from collections.abc import Callable

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

import molino as mo

R = 8.31446261815324
CHEM = mo.Chemistry(
    mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-200 kJ/mol", name="r")
)
WATERY = {"heat_capacity": "4.2 MJ/m3/K"}
FEED = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", **WATERY)
TANK = mo.StirredTank(CHEM, FEED, volume="1 m3", heat="adiabatic", name="tank")
TAU = 600.0


def k(T: float) -> float:
    return 3e14 / 60 * math.exp(-1e5 / R / T)


def surplus(T: float, feed_T: float = 300.0, UA: float = 0.0, Tc: float = 300.0) -> float:
    """Heat made less heat removed in W, of a first-order reaction."""
    X = k(T) * TAU / (1 + k(T) * TAU)
    Q = 1 / TAU
    return Q * 2000 * 200e3 * X - Q * 4.2e6 * (T - feed_T) - UA * (T - Tc)


def roots(**given: float) -> list[float]:
    T = np.linspace(250, 450, 4001)
    values = [surplus(float(t), **given) for t in T]
    return [
        brentq(lambda t: surplus(t, **given), T[n], T[n + 1], xtol=1e-12)
        for n in range(4000)
        if values[n] * values[n + 1] < 0
    ]


def test_an_adiabatic_tank_has_three_steady_states_the_middle_one_unstable() -> None:
    """O. Levenspiel, 1999, ch. 9: the s-shaped curve of heat generation against the line of heat removal."""
    states = TANK.steady_states(("280 K", "430 K"))
    exact = roots()
    assert len(states) == len(exact) == 3
    assert [float(run.temperatures[-1]) for run in states] == pytest.approx(exact, rel=1e-10)
    assert states.stable == (True, False, True)
    for run, T in zip(states, exact, strict=True):
        assert run.conversion("A") == pytest.approx(k(T) * TAU / (1 + k(T) * TAU), rel=1e-9)
        assert max(run.closure.values()) < 1e-9
    jacobian = np.array([[-1 / TAU - k(exact[1]), -2000 / (1 + k(exact[1]) * TAU) * k(exact[1]) * 1e5 / R / exact[1] ** 2],
                         [k(exact[1]) * 200e3 / 4.2e6, 0.0]])  # fmt: skip
    jacobian[1, 1] = -1 / TAU + 200e3 / 4.2e6 * 2000 / (1 + k(exact[1]) * TAU) * k(exact[1]) * 1e5 / R / exact[1] ** 2
    wanted = sorted(np.linalg.eigvals(jacobian).real)
    held = sorted(states.eigenvalues[1].real)  # B adds one of its own, -1/tau
    assert [held[0], held[-1]] == pytest.approx([wanted[0], wanted[-1]], rel=1e-8)
    crossings = np.flatnonzero(np.diff(np.sign(states.heat_generation - states.heat_removal)))
    assert len(crossings) == 3
    assert states.heat_generation == pytest.approx(
        [2000 * 200e3 / TAU * k(T) * TAU / (1 + k(T) * TAU) for T in states.temperatures]
    )
    text = str(states)
    assert "3 steady states between" in text
    assert text.count(" no") >= 1
    begin = time.perf_counter()
    TANK.steady_states(("280 K", "430 K"))
    assert time.perf_counter() - begin < 1.0  # a tenth of it on a quiet machine: see the benchmarks


def test_a_start_up_goes_to_the_stable_state_on_its_side() -> None:
    low, middle, high = roots()
    for start, end in ((middle - 3, low), (middle + 3, high)):
        run = TANK.with_(T=start, contents={"A": 2000 / (1 + k(middle) * TAU)}).run("10 h")
        assert run.temperatures[-1] == pytest.approx(end, rel=1e-7)
        assert TANK.with_(T=start, contents={"A": 2000 / (1 + k(middle) * TAU)}).steady().temperatures[
            -1
        ] == pytest.approx(end, rel=1e-8)


@pytest.mark.parametrize(("vary", "between"), [("feed T", ("270 K", "320 K")), ("coolant T", ("270 K", "360 K"))])
def test_ignition_and_extinction_are_where_the_curves_touch(vary: str, between: tuple[str, str]) -> None:
    UA = 0.0 if vary == "feed T" else 3e3
    tank = TANK if vary == "feed T" else TANK.with_(heat=mo.Jacket("300 K", UA="3 kW/K"))
    found = tank.branch({vary: between})

    def condition(T: float) -> float:  # the feed or coolant temperature at which T is steady
        made = 2000 * 200e3 / TAU * k(T) * TAU / (1 + k(T) * TAU)
        if vary == "feed T":
            return T - made / (4.2e6 / TAU)
        return T - (made - 4.2e6 / TAU * (T - 300.0)) / UA

    slope = [brentq(lambda T: condition(T + 1e-4) - condition(T - 1e-4), *ends) for ends in ((300, 333), (333, 380))]
    assert [f.kind for f in found.folds] == ["ignition", "extinction"]
    assert [f.temperature for f in found.folds] == pytest.approx(slope, abs=1e-3)
    assert [f.value for f in found.folds] == pytest.approx([condition(T) for T in slope], rel=1e-8)
    assert [condition(float(T)) for T in found.temperatures] == pytest.approx(found.values, rel=1e-8)
    middle = (found.temperatures > slope[0]) & (found.temperatures < slope[1])
    assert not found.stable[middle].any()
    assert found.stable[found.temperatures < slope[0] - 0.1].all()
    table = found.table()
    assert list(table.columns[:2]) == [f"{vary} [K]", "T [K]"]
    for drawn in (mo.figures.branch(found), mo.figures.heat_balance(tank.steady_states(("280 K", "430 K")))):
        assert drawn.axes[0].get_ylabel().endswith("]")
    assert "ignition at" in str(found)


def test_a_tank_without_folds_and_one_that_takes_heat_up() -> None:
    mild = TANK.with_(feed=mo.Feed({"A": "0.1 mol/L"}, flow="100 L/min", T="300 K", **WATERY))
    assert len(mild.steady_states()) == 1
    assert "no ignition" in str(mild.branch({"feed T": ("290 K", "330 K")}))
    cold = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="150 kJ/mol"))
    tank = mo.StirredTank(
        cold, mo.Feed({"A": "1 mol/L"}, flow="100 L/min", T="360 K", **WATERY), volume="1 m3", heat="adiabatic"
    )
    (only,) = tank.steady_states(("290 K", "380 K"))
    X = only.conversion("A")
    assert only.temperatures[-1] == pytest.approx(360 - 1000 * 150e3 / 4.2e6 * X, rel=1e-10)
    assert only.temperatures[-1] == pytest.approx(tank.steady().temperatures[-1], rel=1e-9)


def test_disturbances_step_and_ramp_a_tank_to_its_new_state() -> None:
    linear = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="100 L/min")
    tank = mo.StirredTank(linear, feed, volume="1 m3", contents={"A": "0.2 mol/L"})
    run = tank.run(
        "60 min",
        points=61,
        changes=[mo.Change("[A]", "2 mol/L", at="10 min"), mo.Change("[A]", "1 mol/L", at="30 min", over="20 min")],
    )
    t = run.points / 60
    a = 0.3  # 1/tau + k per minute

    def after(t: float, c0: float, begin: float, level: float, rise: float = 0.0) -> float:
        """dc/dt = (level + rise (t - begin))/tau - a c."""
        s = t - begin
        steady = level * 0.1 / a - rise * 0.1 / a**2
        return steady + rise * 0.1 / a * s + (c0 - steady) * math.exp(-a * s)

    first = after(10, 200, 0, 1000)
    second = after(30, first, 10, 2000)
    third = after(50, second, 30, 2000, -50)
    exact = [
        after(x, 200, 0, 1000) if x < 10 else after(x, first, 10, 2000) if x < 30 else after(x, second, 30, 2000, -50)
        if x < 50 else after(x, third, 50, 1000) for x in t
    ]  # fmt: skip
    assert run.concentrations["A"] == pytest.approx(exact, rel=1e-8)
    assert max(run.closure.values()) < 1e-9
    settled = tank.run("60 min").settling_time(0.02)
    assert settled.to("min") == pytest.approx(math.log(60) / 0.1, rel=1e-3)  # B, by its 800 exp(-t/tau)
    with pytest.raises(mo.SolveError, match="does not settle within this run"):
        tank.run("5 min").settling_time()
    for wrong, content in (
        ([mo.Change("colour", 3)], "cannot be varied"),
        ([mo.Change("volume", "2 m3", at="1 min")], "the size of a vessel is constant"),
        (
            [mo.Change("flow", "80 L/min", at="1 min", over="9 min"), mo.Change("flow", "90 L/min", at="5 min")],
            "begins before the last",
        ),
    ):
        with pytest.raises(mo.InputError, match=content):
            tank.run("1 h", changes=wrong)


def test_the_flow_steps_while_a_concentration_ramps() -> None:
    """And ramps that touch within rounding follow one another."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
    tank = mo.StirredTank(chem, mo.Feed({"A": "1 mol/L"}, flow="100 L/min"), volume="1 m3", contents={"A": "0.2 mol/L"})
    changes = [mo.Change("[A]", "2 mol/L", at=0.1, over=600.2), mo.Change("flow", "200 L/min", at="5 min"),
               mo.Change("[A]", "1 mol/L", at=600.3 - 1e-13, over="2 min")]  # fmt: skip

    def slope(t: float, c: np.ndarray) -> np.ndarray:
        fed = np.interp(t, [0.1, 600.3, 720.3], [1000.0, 2000.0, 1000.0])
        return (0.1 if t < 300 else 0.2) / 60 * (fed - c) - 0.2 / 60 * c

    found = tank.run("20 min", points=5, changes=changes)
    exact = solve_ivp(slope, (0, 1200), [200.0], t_eval=found.points, rtol=1e-10, atol=1e-8, max_step=0.5)
    assert found.concentrations["A"] == pytest.approx(exact.y[0], rel=1e-7)
    both = [mo.Change("[A]", "2 mol/L", at=0, over=600), mo.Change("flow", "200 L/min", at=60, over=60)]
    with pytest.raises(mo.InputError, match="two ramps change the same condition"):
        tank.run("20 min", changes=both)


def test_an_isothermal_tank_has_all_its_steady_states() -> None:
    """v c/(K + c + c^2/Ki): the roots of Q (c0 - c) = V r(c), the middle one unstable."""
    law = mo.Reaction("A -> B", rate="v*[A]/(K + [A] + [A]^2/Ki)", v=0.5, K=0.01, Ki=0.03)
    tank = mo.StirredTank(mo.Chemistry(law), mo.Feed({"A": 1.0}, flow=1.0), volume=10.0)
    roots = np.roots([1 / 0.03, 1 - 1 / 0.03, 0.01 - 1 + 10 * 0.5, -0.01])  # (1 - c)(K + c + c^2/Ki) = V v c
    states = tank.steady_states()
    found = sorted(float(run.concentrations["A"][-1]) for run in states)
    assert found == pytest.approx(sorted(roots.real), rel=1e-9)
    assert [s for _, s in sorted(zip((r.conversion("A") for r in states), states.stable, strict=True))] == [
        True,
        False,
        True,
    ]
    washed_out = mo.StirredTank(mo.Chemistry(mo.Reaction("A + B -> 2 B", k=1.0)), mo.Feed({"A": 1.0}, flow=1.0), volume=5.0,
                                contents={"B": 0.1}).steady_states()  # fmt: skip
    assert sorted(run.conversion("A") for run in washed_out) == pytest.approx([0.0, 0.8], abs=1e-9)


def test_a_tank_of_second_order_is_sized_by_its_closed_form() -> None:
    """V = Q X/(k c0 (1 - X)^2), however small the constant: the curve of steady states stays in the physical region."""
    for k in (1e-6, 1.0, 1e6):
        tank = mo.StirredTank(mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k=k)), mo.Feed({"A": 1.0}, flow=1.0))
        for X in (0.1, 0.9, 0.9999):
            sized = mo.size(tank, "conversion of A", X)
            assert sized.value == pytest.approx(X / k / (1 - X) ** 2, rel=1e-8)
            assert all(check.is_passed for check in sized.checks)
        with pytest.raises(mo.UnreachableError) as refused:
            mo.size(tank, "conversion of A", 1.1)
        assert refused.value.certificate
    slow = mo.StirredTank(mo.Chemistry(mo.Reaction("A -> B", k=1e-30)), mo.Feed({"A": 1.0}, flow=1.0))
    with pytest.raises(mo.NotFoundError, match="proves nothing"):
        mo.size(slow, "conversion of A", 0.5)


WRONG: dict[str, tuple[Callable[[], object], str]] = {
    "bounds of a prescribed T": (
        lambda: TANK.with_(heat=None).steady_states(("300 K", "400 K")),
        "its temperature is prescribed",
    ),
    "no volume": (lambda: TANK.with_(volume=None).steady_states(), "no volume is given"),
    "empty bounds": (lambda: TANK.steady_states(("400 K", "300 K")), "are empty"),
    "bounds in metres": (lambda: TANK.steady_states(("4 m", "300 K")), "not a temperature"),
    "an empty range": (lambda: TANK.branch({"feed T": ("320 K", "300 K")}), "is not a range"),
    "an unknown condition": (lambda: TANK.branch({"colour": (1, 2)}), "cannot be varied"),
    "a band that is none": (lambda: TANK.run("1 h").settling_time(2), "give a fraction"),
}


@pytest.mark.parametrize("name", WRONG)
def test_wrong_questions_are_reported(name: str) -> None:
    make, content = WRONG[name]
    with pytest.raises(mo.InputError, match=content):
        make()
