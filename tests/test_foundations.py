"""Answers that cannot be silently wrong: what was, each with the truth it is held to."""

from __future__ import annotations

import ast
import doctest
import html
import importlib
import inspect
import itertools
import json
import re
from operator import attrgetter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import sympy as sp

import molino as mo
from molino._public import listed
from molino.core.balances.boundary import solve_boundary
from molino.core.balances.integrate import Event, integrate
from molino.core.balances.system import ZERO, Balances, Case, State
from molino.core.contract.parameter_map import ParameterMap

ROOT = Path(__file__).parents[1]
CORE = ROOT / "src" / "molino" / "core"
SERIES = mo.Chemistry([mo.Reaction("A -> B", k="0.5 1/min"), mo.Reaction("B -> C", k="0.2 1/min")])
FEED = mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="330 K")

PUBLIC = listed()


# names are not roles


@pytest.mark.parametrize("name", ["t", "V", "Q", "n_A", "F_A", "x", "lambda", "k", "A", "T_c", "é"])
def test_a_shared_constant_is_a_constant_whatever_it_is_called(name: str) -> None:
    chem = mo.Chemistry([mo.Reaction("A -> B", rate=f"{name}*[A]")], constants={name: 0.1})
    assert not chem.check().at("error")
    feed = mo.Feed({"A": 1.0}, flow=1.0)
    for one, left in (
        (mo.Batch(chem, {"A": 1.0}, time=10.0), np.exp(-1)), (mo.PlugFlow(chem, feed, volume=10.0), np.exp(-1)),
        (mo.StirredTank(chem, feed, volume=10.0), 0.5),
    ):  # fmt: skip
        assert one.run().metric("concentration of A") == pytest.approx(left, rel=1e-8)


def test_a_species_called_as_a_quantity_is_a_species() -> None:
    chem = mo.Chemistry(mo.Reaction("T -> P", k="0.1 1/s", enthalpy="-20 kJ/mol"))
    run = mo.Batch(chem, {"T": "1 mol/L"}, T="300 K", heat="adiabatic", heat_capacity="4 MJ/m3/K", time="10 s").run()
    made = 1000 * (1 - np.exp(-1))
    assert run.metric("concentration of P") == pytest.approx(made, rel=1e-8)
    assert run.series["temperature"][-1] == pytest.approx(300 + made * 20e3 / 4e6, rel=1e-8)
    assert run.final["P"].to("mol/m^3") == pytest.approx(made, rel=1e-8)


# what a run says does not depend on the rows asked for


def hot_spot() -> mo.PlugFlow:
    law = mo.Reaction("A -> B", k=mo.Arrhenius(k="0.3 1/min", at="330 K", Ea="110 kJ/mol"), enthalpy="-100 kJ/mol")
    feed = mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="345 K", heat_capacity="4 MJ/m3/K")
    return mo.PlugFlow(mo.Chemistry(law), feed, volume="60 L", heat=mo.Jacket("335 K", UA="2 kW/K"))


def test_extrema_and_times_are_those_of_the_solution_not_of_the_rows() -> None:
    tube = hot_spot()
    highest = [tube.run(points=n).max_temperature.to("K") for n in (2, 7, 101, 2000)]
    assert np.ptp(highest) < 1e-6
    assert highest[0] >= np.max(tube.run(points=20001).series["temperature"]) - 1e-9
    grown = mo.Chemistry(mo.Reaction("A + B -> 2 B", k=1.0, enthalpy="-4 kJ/mol"))
    kept = {"T": 300.0, "heat": "adiabatic", "heat_capacity": "4 MJ/m3/K"}
    batch = mo.Batch(grown, {"A": 1.0, "B": 1e-3}, time="20 s", **kept)
    fastest = [batch.run(points=n).time_to_maximum_rate.to("s") for n in (2, 11, 500)]
    assert fastest == pytest.approx([np.log(1e3) / 1.001] * 3, rel=1e-6)
    tank = mo.StirredTank(SERIES, FEED, volume="60 L", contents={"A": 0.0})
    assert len({round(tank.run("3 h", points=n).settling_time().to("s"), 3) for n in (2, 30, 999)}) == 1


def test_default_rows_lie_where_things_move() -> None:
    """A front far narrower than a hundredth of the tube is shown; so are the first decades of a fast start."""
    series = hot_spot().run().series["temperature"]
    assert np.max(np.abs(np.diff(series))) < 0.1 * np.ptp(series)
    fast = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=1e4)), {"A": 1.0}, time=10.0).run()
    inside = fast.points[(fast.points > 0) & (fast.points < 1e-4)]
    assert len(inside) > 3


def test_events_are_located() -> None:
    """A falling body: y = 10 - g t^2/2 meets the ground at sqrt(20/g); an oscillator crosses zero at every half turn."""
    t, y, v = sp.symbols("t y v")
    states = (
        State("y", y, "number", sp.Integer(10), sp.Integer(1)), State("v", v, "number", ZERO, sp.Integer(1))
    )  # fmt: skip
    falling = Case(Balances(t, states, (), (v, sp.Float(-9.81)), ()), ())
    found = integrate(falling, [0.0, 50.0], events=[Event("ground", y, -1, terminal=True)])
    assert found.points[-1] == pytest.approx(np.sqrt(20 / 9.81), rel=1e-10)
    turning = Case(Balances(t, states, (), (v, -y), ()), ())
    events = integrate(turning, [0.0, 20.0], rtol=1e-11, atol=1e-13, events=[Event("through", y)]).events
    assert [e.at for e in events] == pytest.approx(np.pi * (np.arange(6) + 0.5), rel=1e-8)


# sizes


def test_a_yield_near_its_peak_is_reached() -> None:
    tank = mo.StirredTank(SERIES, FEED)
    peak = 1 / (1 + np.sqrt(0.2 / 0.5)) ** 2
    for target in (0.375, 0.375247, peak * (1 - 1e-9)):
        found = mo.size(tank, "yield of B on A", target)
        assert found.run.metric("yield of B on A") == pytest.approx(target, rel=1e-9)
    with pytest.raises(mo.UnreachableError, match=r"0\.3752"):
        mo.size(tank, "yield of B on A", peak * (1 + 1e-6))
    same = mo.Chemistry([mo.Reaction("A -> B", k="0.5 1/min"), mo.Reaction("B -> C", k="0.5 1/min")])
    found = mo.size(mo.StirredTank(same, FEED), "yield of B on A", 0.25 * (1 - 1e-10))
    assert found.value == pytest.approx(2 * 1e-4 * 60, rel=1e-4)
    top = (0.2 / 0.5) ** (0.2 / (0.5 - 0.2))
    tube = mo.size(mo.PlugFlow(SERIES, FEED), "yield of B on A", top * (1 - 1e-9))
    assert tube.value == pytest.approx(1e-4 * 60 * np.log(0.5 / 0.2) / 0.3, rel=1e-3)
    assert tube.value < 1e-4 * 60 * np.log(0.5 / 0.2) / 0.3


def test_a_target_before_the_bed_chokes_is_reached() -> None:
    chem = mo.Chemistry(
        mo.Reaction("A -> B", k="1.25 1/s"), species=[mo.Species(s, molar_mass="30 g/mol") for s in "AB"]
    )
    bed = mo.PlugFlow(
        chem, mo.Feed({"A": "10 mol/s"}, T="500 K", P="5 bar"), diameter="150 mm",
        catalyst=mo.Catalyst(voidage=0.4, particle_diameter="5 mm"), pressure_drop=mo.PressureDrop("0.02 mPa*s"),
    )  # fmt: skip
    found = mo.size(bed, "conversion of A", 0.05)
    assert found.run.metric("conversion of A") == pytest.approx(0.05, rel=1e-8)
    assert found.vessel.length.si < 1.0
    assert found.run.series["pressure"][-1] > 2e5
    with pytest.raises(mo.SolveError, match="chokes"):
        bed.with_(length="3 m").run()


def test_an_inhibited_tank_is_sized_with_its_stability() -> None:
    """v c/(K + c + c^2/Ki) turns a tank over: V = Q (c0 - c)/r(c), unstable where the rate falls with c."""
    law = mo.Reaction("A -> B", rate="v*[A]/(K + [A] + [A]^2/Ki)", v="1 mol/L/min", K="0.1 mol/L", Ki="0.1 mol/L")
    tank = mo.StirredTank(mo.Chemistry(law), FEED)
    for conversion in (0.3, 0.9, 0.99):
        c = 2 * (1 - conversion)
        rate = c / (0.1 + c + c**2 / 0.1)
        found = mo.size(tank, "conversion of A", conversion)
        assert found.value == pytest.approx(6e-3 * 2 * conversion / rate, rel=1e-8)
        slope = (0.1 - c**2 / 0.1) / (0.1 + c + c**2 / 0.1) ** 2
        assert found.is_stable == (1 + found.value / 6e-3 * slope > 0)
        assert bool(found.remark) or found.is_stable


def test_a_train_is_sized_by_a_vessel_in_it_and_by_its_recycle() -> None:
    tank, tube = mo.StirredTank(SERIES, FEED, volume="20 L", name="tank"), mo.PlugFlow(SERIES, FEED, name="tube",
                                                                                       diameter="10 cm", length="1 m")  # fmt: skip
    train = mo.Train([tank, tube])
    found = mo.size(train, "conversion of A", 0.9, free="tube.length")
    assert found.vessel.run().metric("conversion of A") == pytest.approx(0.9, rel=1e-8)
    assert pytest.approx(np.exp(-0.5 / 60 * found.value * np.pi / 4 * 0.01 / 1e-4)) == (1 - 0.9) * (1 + 0.5 / 60 * 200)
    loop = mo.Train([tube.with_(length="5 m")], recycle=1.0)
    back = mo.size(loop, "conversion of A", 0.85, free="recycle")
    R, tau = back.value, 5 * np.pi / 4 * 0.01 / 1e-4
    left = np.exp(-0.5 / 60 * tau / (1 + R))
    assert left / (1 + R - R * left) == pytest.approx(0.15, rel=1e-7)


# numbers are parameters


def mapped() -> list[tuple[Any, list[str]]]:
    gas = mo.Feed({"A": "3 mol/s", "B": "2 per A", "C": "1 mol/s"}, T="500 K", P="5 bar")
    chem = mo.Chemistry(
        mo.Reaction("A -> B", k=mo.Arrhenius(k="0.5 1/s", at="500 K", Ea="60 kJ/mol"), enthalpy="-20 kJ/mol"),
        species=[mo.Species(s, molar_mass="44 g/mol", heat_capacity="60 J/mol/K") for s in "ABC"],
    )
    bed = mo.PlugFlow(
        chem, gas, diameter="40 mm", length="1 m", tubes=50, heat=mo.Jacket("490 K", U="60 W/m2/K"),
        catalyst=mo.Catalyst(voidage=0.4, particle_diameter="5 mm"), pressure_drop=mo.PressureDrop("0.02 mPa*s"),
    )  # fmt: skip
    warm = mo.Feed({"A": "20 wt%", "B": "rest"}, flow="2 t/h", T="330 K", density="1000 kg/m3")
    heats = mo.Reaction("A -> B", k=mo.Arrhenius(k="0.3 1/min", at="330 K", Ea="60 kJ/mol"), enthalpy="-40 kJ/mol")
    liquid = mo.Chemistry(heats, species=[mo.Species(s, "C2H6O", heat_capacity="110 J/mol/K") for s in "AB"])
    counter = mo.PlugFlow(liquid, warm, diameter="60 mm", length="20 m",
                          heat=mo.Jacket("310 K", U="300 W/m2/K", flow="2 kW/K", counter_current=True))  # fmt: skip
    tank = mo.StirredTank(liquid, warm, space_time="10 min", heat=mo.Jacket("310 K", UA="1 kW/K", flow="2 kW/K"))
    batch = mo.Batch(liquid, {"A": "2 mol/L"}, volume="1 m3", T="330 K", time="10 min", heat="adiabatic")
    line = mo.Train([tank.with_(name="tank", heat="adiabatic"), counter.with_(name="tube", heat="adiabatic")])
    return [
        (bed, ["[A]", "[B]", "feed P", "T", "diameter", "tubes", "length", "coolant T", "U", "r1.k.Ea"]),
        (counter, ["diameter", "length", "coolant T", "coolant flow", "feed T", "flow"]),
        (tank, ["space_time", "feed T", "flow", "UA", "coolant flow"]), (batch, ["T", "[A]", "time"]),
        (line, ["tank.space_time", "tube.length", "feed T", "flow", "r1.k.Ea"]),
        (line.with_({"recycle": 0.5, "tank.space_time": "1 min", "tube.length": "1 m"}), ["tank.space_time", "recycle", "feed T", "flow", "r1.k.Ea"]),
    ]  # fmt: skip


UNITS = {
    (0, "[A]"): "mol/s",
    (0, "[B]"): "per A",
    (1, "flow"): "kg/s",
    (2, "flow"): "kg/s",
    (4, "flow"): "kg/s",
    (5, "flow"): "kg/s",
}


@pytest.mark.parametrize("case", range(6))
def test_slopes_by_what_was_given_are_exact(case: int) -> None:
    one, names = mapped()[case]
    exact = one.run().sensitivity(
        "conversion of A", names
    )  # fmt: skip
    for name in names:
        at, unit = 50 if name == "tubes" else one.spec.condition(name).own, UNITS.get((case, name), "")
        step = 2e-4 if case > 3 else 3e-5
        if name == "tubes":
            low, high, span = one.with_(tubes=at - 1), one.with_(tubes=at + 1), 2.0
        else:
            low, high = (one.with_({name: f"{at * f!r} {unit}" if unit else at * f}) for f in (1 - step, 1 + step))
            span = 2 * step * at
        tight = {"rtol": 1e-11, "atol": 1e-13} if case in (0, 1, 3) else {}
        ends = [(v.run(**tight) if case != 2 else v.steady()).metric("conversion of A") for v in (low, high)]
        difference = (ends[1] - ends[0]) / span
        assert exact[name] == pytest.approx(difference, rel=1e-3 if name == "tubes" else 2e-4, abs=1e-9 / at), name


def test_the_map_of_many_cases_is_that_of_each() -> None:
    bed, _ = mapped()[0]
    names = ("T", "[A]", "tubes", "diameter")
    rows = np.array([[480.0, 2.0, 40.0, 0.03], [510.0, 4.0, 60.0, 0.05]])
    table, ends = ParameterMap(bed, names).table(rows)
    for row, values, end in zip(rows, table, ends, strict=True):
        changed = bed.with_({"T": row[0], "[A]": f"{row[1]} mol/s", "tubes": int(row[2]), "diameter": row[3]})
        assert values == pytest.approx(changed.spec.case.values, rel=1e-12, nan_ok=True)
        assert end == pytest.approx(changed.spec.end_si, rel=1e-12)
    held = mo.evaluator(bed, names, ["conversion of A"])
    wanted = [
        bed.with_({"T": T, "[A]": f"{F} mol/s", "tubes": int(n), "diameter": d}).run().metric("conversion of A")
        for T, F, n, d in rows.tolist()
    ]
    assert [float(np.ravel(held(*row))[0]) for row in rows.tolist()] == pytest.approx(wanted, rel=1e-7)


# the balances hold what is to come


def test_algebraic_states_follow_their_equation() -> None:
    """A <-> B at once, B -> C: with K the slow balance is dS/dt = -k K/(1 + K) S of the sum S."""
    t, s, b, k, K = sp.symbols("t s b k K")
    states = (
        State("sum", s, "number", sp.Integer(1), sp.Integer(1)),
        State("B", b, "number", sp.Float(0.3), sp.Integer(1), algebraic=True),
    )
    case = Case(Balances(t, states, (), (-k * b, K * (s - b) - b), (k, K)), (2.0, 3.0))
    found = integrate(case, np.linspace(0, 2, 5), by=(k, K), rtol=1e-10, atol=1e-12)
    wanted = np.exp(-1.5 * found.points)
    assert found.states[:, 0] == pytest.approx(wanted, rel=1e-7)
    assert found.states[:, 1] == pytest.approx(0.75 * wanted, rel=1e-7)
    assert found.sensitivities is not None
    assert found.sensitivities[-1, 0] == pytest.approx([-0.75 * 2 * wanted[-1], -2.0 * 2 / 16 * wanted[-1]], rel=1e-5)


@pytest.mark.parametrize("neighbours", [1, 40])
def test_several_hundred_states_go_by_banded_or_sparse_algebra(neighbours: int) -> None:
    """Diffusion over n cells, joined to the next (a band) or also to one far away (sparse): modes fall by their
    eigenvalues."""
    n, t = 400, sp.Symbol("t")
    y = sp.symbols(f"y0:{n}")
    L = np.zeros((n, n))
    for i, step in itertools.product(range(n), {1, neighbours}):
        j = (i + step) % n if neighbours > 1 else i + step
        if j < n:
            L[i, j] += 50
            L[j, i] += 50
            L[i, i] -= 50
            L[j, j] -= 50
    values, vectors = np.linalg.eigh(L)
    mode = vectors[:, -3] + 0.1 * vectors[:, 0]
    rhs = [sp.Add(*(sp.Float(L[i, j]) * y[j] for j in np.flatnonzero(L[i]))) for i in range(n)]
    states = tuple(State(str(s), s, "number", sp.Float(v), sp.Integer(1)) for s, v in zip(y, mode, strict=True))
    found = integrate(Case(Balances(t, states, (), tuple(rhs), ()), ()), [0.0, 1.0], rtol=1e-9, atol=1e-11)
    wanted = vectors @ (np.exp(values) * (vectors.T @ mode))
    assert found.states[-1] == pytest.approx(wanted, abs=1e-6)


def test_values_at_both_ends_are_met() -> None:
    """Dispersion y'' = Pe y' + Pe Da y as two states, y'(1) = 0 and y(0) - y'(0)/Pe = 1 (P. V. Danckwerts, Chem. Eng.
    Sci. 2 (1953) 1)."""
    z, y, w, first, Pe, Da = sp.symbols("z y w first Pe Da")
    states = (
        State("y", y, "number", first, sp.Integer(1)), State("w", w, "number", Pe * (first - 1), sp.Integer(1))
    )  # fmt: skip
    balances = Balances(z, states, (), (w, Pe * w + Pe * Da * y), (first, Pe, Da), ((first, w),))
    with pytest.raises(mo.SolveError, match="grow so fast"):
        solve_boundary(Case(balances, (0.9, 60.0, 1.5)), 1.0)
    for number in (2.0, 12.0):
        found = integrate(solve_boundary(Case(balances, (0.9, number, 1.5)), 1.0), [0.0, 1.0], rtol=1e-11, atol=1e-13)
        a = np.sqrt(1 + 4 * 1.5 / number)
        wanted = 4 * a * np.exp(number / 2) / (
            (1 + a) ** 2 * np.exp(a * number / 2) - (1 - a) ** 2 * np.exp(-a * number / 2)
        )  # fmt: skip
        assert found.states[-1, 0] == pytest.approx(wanted, rel=1e-8 if number < 10 else 1e-5)


# physical bounds


def test_a_temperature_cannot_fall_below_zero() -> None:
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1 1/min", enthalpy="1000 kJ/mol", name="cold"))
    batch = mo.Batch(chem, {"A": "5 mol/L"}, T="330 K", heat="adiabatic", heat_capacity="4 MJ/m3/K", time="20 min")
    with pytest.raises(mo.SolveError, match=r"falls to 0 K at time 0\.3065 min(.|\n)*reaction cold"):
        batch.run()


@pytest.mark.parametrize("seed", [1e-4, 1e-11, 1e-16, 1e-25])
def test_a_seed_of_any_size_grows_in_its_time(seed: float) -> None:
    grown = mo.Chemistry(mo.Reaction("A + B -> 2 B", k=1.0))
    batch = mo.Batch(grown, {"A": 1.0, "B": seed}, time=np.log(1 / seed))
    wanted = (1 + seed) / (1 + seed**seed) - seed  # 0.5 of a small seed
    assert batch.run().metric("conversion of A") == pytest.approx(wanted, abs=2e-5)
    assert batch.run(rtol=1e-11, atol=1e-13).metric("conversion of A") == pytest.approx(wanted, abs=1e-8)


def test_residence_time_is_that_of_the_fluid_inside() -> None:
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.1 m3/kg/s", basis="catalyst mass"))
    bed = mo.PlugFlow(chem, FEED, volume="60 L", catalyst=mo.Catalyst(bulk_density="850 kg/m3", voidage=0.4))
    run = bed.run()
    assert run.residence_time_si == pytest.approx(0.4 * 600, rel=1e-9)
    assert run.space_time_si == pytest.approx(600, rel=1e-12)


def test_closures_hold_from_any_temperature_of_feed_and_start() -> None:
    """What comes in at its own temperature is an account of its own: a wrong one would show."""
    law = mo.Reaction("A -> B", k="0.3 1/min", enthalpy="-40 kJ/mol")
    feed = mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="290 K", heat_capacity="4 MJ/m3/K")
    tank = mo.StirredTank(mo.Chemistry(law), feed, volume="60 L", T="350 K", heat="adiabatic")
    run = tank.run("1 h")
    assert max(run.closure.values()) < 1e-8
    X = tank.steady().metric("conversion of A")
    assert run.series["temperature"][-1] == pytest.approx(290 + 2000 * X * 40e3 / 4e6, abs=0.5)


# how the house is built


def test_no_module_of_the_core_imports_itself_at_the_end_of_a_chain() -> None:
    names = {
        ".".join(("molino", *path.relative_to(CORE.parent).with_suffix("").parts)): path for path in CORE.rglob("*.py")
    }
    run_time = {name: imports_at_load(path) & names.keys() for name, path in names.items()}
    done: set[str] = set()
    while ready := {name for name, asked in run_time.items() if name not in done and asked <= done}:
        done |= ready
    assert done == names.keys(), sorted(names.keys() - done)


def imports_at_load(path: Path) -> set[str]:
    """What a module imports when it is loaded, not for its types alone."""
    tree = ast.parse(path.read_text())
    tree.body = [n for n in tree.body if not (isinstance(n, ast.If) and "TYPE_CHECKING" in ast.dump(n.test))]
    found: set[str] = set()
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("molino"):
            found |= {node.module, *(f"{node.module}.{alias.name}" for alias in node.names)}
    return found


def test_one_helper_sets_fields() -> None:
    for path in CORE.rglob("*.py"):
        assert "object.__setattr__" not in path.read_text() or path.name == "frozen.py", path


@pytest.mark.parametrize("name", sorted({*PUBLIC.values()}))
def test_every_public_name_has_an_example_that_runs(name: str) -> None:
    module = importlib.import_module(name)
    for public in (n.rpartition(".")[2] for n, home in PUBLIC.items() if home == name):
        assert ">>> " in (getattr(module, public).__doc__ or ""), public
    assert doctest.testmod(module, extraglobs={"mo": mo}).failed == 0


@pytest.mark.parametrize("name", sorted(PUBLIC))
def test_every_public_docstring_names_what_goes_in_and_comes_out(name: str) -> None:
    """Each argument or field under Parameters or Attributes; what a function returns."""
    public = attrgetter(name)(mo)
    if not callable(public):
        return
    text = inspect.getdoc(public) or ""
    sections = re.findall(r"(?:Parameters|Attributes)\n-+\n(.*?)(?=\n\w[^\n]*\n-+\n|\Z)", text, re.DOTALL)
    headings = [entry.partition("\n")[0].partition(" : ")[0] for s in sections for entry in re.split(r"\n(?=\S)", s)]
    documented = {part.strip().lstrip("*") for heading in headings for part in heading.split(",")}
    asked = {p for p in inspect.signature(public).parameters if not p.startswith("_")}
    assert asked <= documented | {"constants"}, name
    assert inspect.isclass(public) or "Returns\n-------" in text, name


# results as plain data


def results() -> dict[str, Any]:
    """One result of each kind that a fit or a tank gives."""
    law = {"first": "k*[A]", "second": "k*[A]^2"}
    k = {"first": mo.Unknown("0.1 1/min"), "second": mo.Unknown("0.1 L/mol/min")}
    open_laws = {n: mo.Chemistry(mo.Reaction("A -> B", rate=law[n], name="r", k=k[n])) for n in law}
    times, left = np.array([60.0, 120, 240, 480, 700]), np.array([820.0, 675, 448, 204, 99])
    run = mo.Experiment("1", times, {"A": left}, {"A": 1000.0}, 300.0)
    fit, screened = mo.fit(open_laws["first"], run), mo.screen_orders([run], "A")
    rates = mo.Rates.from_curves([run], "A")
    hot = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-200 kJ/mol"))
    cold = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
    tank = mo.StirredTank(hot, cold, volume="1 m3", heat="adiabatic")
    return {
        "fit": fit, "profile": fit.profile_likelihood("r.k")["r.k"], "bootstrap": fit.bootstrap(10, workers=1),
        "laws": mo.discriminate(open_laws, run), "rates": rates, "power law": rates.power_law("A"),
        "screening": screened, "prediction": screened.predict("10 min", "1"),
        "next": fit.next_experiment("r.k", charges=[{"A": 1000.0}], times=[[60.0, 300.0], [600.0, 900.0]]),
        "steady": tank.steady_states(("280 K", "430 K")), "branch": tank.branch({"feed T": ("280 K", "320 K")}),
        "run": tank.steady(), "size": mo.size(tank, "conversion of A", 0.99), "compare": mo.compare([tank]),
    }  # fmt: skip


def test_every_result_gives_plain_data_a_table_and_a_notebook_view() -> None:
    for name, result in results().items():
        data = json.loads(json.dumps(result.to_dict(), allow_nan=False))
        assert data, name
        assert len(result.table()) >= 1, name
        shown = result._repr_html_()
        assert "<table" in shown, name
        for fact, text in result.facts().items():
            assert html.escape(fact) in shown, name
            assert html.escape(text) in shown, name
    rates = results()["rates"]
    again = mo.Rates.from_dict(json.loads(json.dumps(rates.to_dict())))
    assert again.table().equals(rates.table())
    assert again.power_law("A").values.tolist() == rates.power_law("A").values.tolist()
