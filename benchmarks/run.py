"""Print one table of ratios: each piece of work against the hand-written script, both timed in this run.

Not a test: nothing fails here. Times are the best of several turns, taken in turn so that both meet the same weather.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np
import sympy as sp

sys.path.insert(0, str(Path(__file__).parent))

import handwritten as hand
import molino as mo
from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import integrate
from molino.core.balances.system import ZERO, Balances, Case, State
from molino.core.design import sweeping
from molino.core.design.optimize import optimum_search
from molino.core.design.size import sizing
from molino.core.fields.basin_field import BasinField
from molino.core.unit_tables import GAS_CONSTANT


def adiabatic_case() -> Case:
    """The six-state adiabatic case as raw balances."""
    t, temperature = sp.Symbol("t"), sp.Symbol("T", positive=True)
    c = sp.symbols("A B C D E", nonnegative=True)
    factors, energies = sp.symbols("A1:5"), sp.symbols("E1:5")
    heats, capacity = sp.symbols("H1:5"), sp.Symbol("rho_cp")
    starts = sp.symbols("a0 b0 T0")
    orders = [c[0] * c[1] / 1000, c[2], c[2] * c[1] / 1000, c[3]]
    rates = sp.symbols("r1:5")
    laws = [
        a * sp.exp(-e / (GAS_CONSTANT * temperature)) * o for a, e, o in zip(factors, energies, orders, strict=True)
    ]
    rhs = [sum(int(n) * r for n, r in zip(row, rates, strict=True)) for row in hand.COEFFICIENTS]
    rhs.append(-sum(h * r for h, r in zip(heats, rates, strict=True)) / capacity)
    initial = [starts[0], starts[1], ZERO, ZERO, ZERO]
    states = [State(str(s), s, "concentration", i, starts[0] + starts[1]) for s, i in zip(c, initial, strict=True)]
    states.append(State("T", temperature, "temperature", starts[2], starts[2]))
    parameters = (*factors, *energies, *heats, capacity, *starts)
    balances = Balances(t, tuple(states), tuple(zip(rates, laws, strict=True)), tuple(rhs), parameters)
    numbers = (*hand.FACTORS, *hand.ENERGIES, *hand.HEATS, hand.HEAT_CAPACITY, *hand.ADIABATIC_START[[0, 1, 5]])
    return Case(balances, tuple(float(n) for n in numbers))


def best(turns: int, *works: Callable[[], object]) -> list[float]:
    """Shortest time of each piece of work, taken in turn."""
    times = [[0.0] * 0 for _ in works]
    for _ in range(turns):
        for n, work in enumerate(works):
            begin = time.perf_counter()
            work()
            times[n].append(time.perf_counter() - begin)
    return [min(t) for t in times]


def large_network(
    species: int = 300, reactions: int = 1000
) -> tuple[Callable[[], object], Callable[[], object], float]:
    """A call of the right-hand side of a large network by both, and the seconds to read, check and compile it."""
    random = np.random.default_rng(0)
    pairs = [random.choice(species, 4, replace=False) for _ in range(reactions)]
    texts = [f"S{a} + S{b} -> S{c} + S{d}" for a, b, c, d in pairs]
    texts[:species] = [f"S{j} -> S{(j + 1) % species}" for j in range(species)]
    factors = random.uniform(0.1, 10.0, reactions)
    written = mo.Chemistry(
        [mo.Reaction(t, k=mo.Arrhenius(A=float(a), Ea=2e4)) for t, a in zip(texts, factors, strict=True)]
    )
    with tempfile.TemporaryDirectory() as folder:
        path = mo.files.write_chemistry(written, Path(folder) / "network.toml")
        begin = time.perf_counter()
        chemistry = mo.files.read_chemistry(path)
    assert not chemistry.check().at("warning")
    case = mo.Batch(chemistry, {"S0": 1.0, "S1": 0.5}, T=350.0).spec.case
    whole = compiled(case.balances)
    rhs, _ = whole.rhs(case.values), whole.jacobian(case.values)
    took = time.perf_counter() - begin
    place = {name: i for i, name in enumerate(chemistry.names)}
    sides = [[place[name] for name, _ in r.equation.left] for r in chemistry.reactions]
    first = np.array([side[0] for side in sides])
    second = np.array([side[1] if len(side) > 1 else species for side in sides])
    constants = factors * np.exp(-2e4 / (GAS_CONSTANT * 350.0))
    y = random.uniform(0.1, 1.0, species)
    matrix = chemistry.network.matrix
    return lambda: rhs(y, 0.0), lambda: hand.network_rhs(matrix, constants, first, second, y), took


ETHER = ("methanol", "ether", "water")
Work = Callable[[], np.ndarray]


def packed_bed() -> tuple[Work, Work, Work, Work]:
    """The adiabatic bed of the ether example, without pores, by both; and a sweep of it over T and molar flow."""
    job = mo.load_job(Path(str(files("molino.demo") / "ether.toml")))
    given = job.vessels["bed"]
    bed = given.with_(catalyst=mo.Catalyst(particle_density=1450.0, voidage=0.41, particle_diameter=3e-3))
    inlet = np.array([bed.spec.fed.concentrations.get(s, 0.0) * bed.spec.fed.volume for s in ETHER])
    masses = np.array([bed.spec.species_by_name[s].require("molar_mass", "this").si for s in ETHER])
    names = bed.spec.case.balances.names
    order = [names.index(n) for n in (*ETHER, "T", "P")]
    area, P = bed.spec.cross_section(), bed.feed.P.si

    def ours() -> np.ndarray:
        return integrate(bed.spec.case, hand.BED_POINTS, rtol=1e-8, atol=1e-11).states[:, order]

    pure = bed.with_(feed=mo.Feed({"methanol": f"{float(inlet[0])!r} mol/s"}, T=bed.feed.T.si, P=P))
    temperatures, flows = np.linspace(540.0, 560.0, 12).tolist(), np.linspace(0.8, 1.2, 10).tolist()
    flows = [f * float(inlet[0]) for f in flows]
    rows = np.array([[T, F] for T in temperatures for F in flows])
    volume = float(bed.spec.end_si)

    def our_sweep() -> np.ndarray:
        conditions = {"T": temperatures, "[methanol]": [f"{F!r} mol/s" for F in flows]}
        return np.ravel(mo.sweep(pure, conditions, ["conversion of methanol"]).values["conversion of methanol"])

    assert abs(volume - hand.BED_POINTS[-1]) < 0.01 * volume
    return (
        ours, lambda: hand.bed(inlet, bed.feed.T.si, P, area, masses), our_sweep,
        lambda: hand.beds(rows, area, masses, P),
    )  # fmt: skip


def twenty_gases() -> tuple[mo.AtEquilibrium, Work, Work, Work, Work]:
    """The equilibrium of twenty gases, and one temperature, and a thousand, by both."""
    species = [
        mo.Species(n, n, enthalpy_of_formation=h * 1e3, entropy=s, heat_capacity=c)
        for n, (h, s, c) in hand.GASES.items()
    ]
    fed = {n: f"{float(x)!r} mol/s" for n, x in zip(hand.GASES, hand.BURNT, strict=True) if x}
    at = mo.AtEquilibrium(mo.Chemistry([], species=species), mo.Feed(fed, T="2000 K", P="10 bar"))
    held = mo.evaluator(at, ["T"], [f"molar flow of {n}" for n in hand.GASES])
    temperatures = np.linspace(1200.0, 3200.0, 1000)
    few = temperatures[::50]  # by hand twenty, counted fifty times: its time does not depend on their number
    asked = [f"molar flow of {n}" for n in ("CO", "NO")]

    def sweep() -> np.ndarray:
        found = mo.sweep(at, {"T": temperatures.tolist()}, asked)
        return np.column_stack([found.values[name] for name in asked])

    def by_hand() -> np.ndarray:
        return np.array([hand.least_gibbs(T)[[2, 11]] for T in few])

    return at, lambda: held(2000.0), lambda: hand.least_gibbs(2000.0), sweep, by_hand


def series_case() -> Case:
    """A -> B -> C as raw balances."""
    return raw(lambda a, b, c: [-0.5 * a, 0.5 * a - 0.2 * b, 0.2 * b])


def stiff_case() -> Case:
    return raw(lambda a, b, c: [1e4 * b * c - 0.04 * a, 0.04 * a - 1e4 * b * c - 3e7 * b * b, 3e7 * b * b])


def larger_case() -> Case:
    """Twenty species and twenty-five reactions as raw balances."""
    y = sp.symbols(f"y:{hand.LARGER_SPECIES}")
    rates = sp.symbols(f"r:{len(hand.LARGER_REACTIONS)}")
    made = [sp.Integer(0)] * len(y)
    laws = []
    for rate, (left, right, k) in zip(rates, hand.LARGER_REACTIONS, strict=True):
        laws.append((rate, k * sp.Mul(*(y[i] for i in left))))
        for side, sign in ((left, -1), (right, 1)):
            for i in side:
                made[i] += sign * rate
    states = [State(str(s), s, "number", sp.Float(v), sp.Integer(1)) for s, v in zip(y, hand.LARGER_START, strict=True)]
    return Case(Balances(sp.Symbol("t"), tuple(states), tuple(laws), tuple(made), ()), ())


def raw(rhs: Callable[..., list[sp.Expr]]) -> Case:
    a, b, c = sp.symbols("a b c")
    one = sp.Integer(1)
    states = tuple(State(str(s), s, "number", v, one) for s, v in zip((a, b, c), (one, ZERO, ZERO), strict=True))
    return Case(Balances(sp.Symbol("t"), states, (), tuple(sp.sympify(f) for f in rhs(a, b, c)), ()), ())


def small_tube() -> mo.PlugFlow:
    law = [
        mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")),
        mo.Reaction("B -> C", k=mo.Arrhenius(k="0.05 1/min", at="330 K", Ea="60 kJ/mol")),
    ]
    return mo.PlugFlow(mo.Chemistry(law), mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="330 K"), volume="60 L")


def one_case(rows: list[Row]) -> list[str]:
    """A case of a small tube by `with_`, by an evaluator and by hand; sizes in integrations and steady states."""
    tube, metric = small_tube(), mo.results.conversion("A")
    held = mo.evaluator(tube, ["T"], [metric])
    temperatures = iter(np.linspace(325.0, 335.0, 20000).tolist() * 10)

    def by_with() -> float:
        return tube.with_(T=next(temperatures)).run().metric(metric)

    def by_holding() -> float:
        return float(np.ravel(held(next(temperatures)))[0])

    def by_hand() -> float:
        return hand.tube_case(next(temperatures))

    difference = abs(tube.with_(T=331.0).run().metric(metric) - hand.tube_case(331.0))
    rows.append(("a tube at another temperature, one metric: with_", best(200, by_with, by_hand), difference))
    rows.append(("the same, held compiled and called", best(200, by_holding, by_hand), difference))
    tank = mo.StirredTank(tube.chemistry, tube.feed, volume="60 L")
    sized, run = best(20, lambda: mo.size(tube, metric, 0.8), lambda: tube.with_(T=330.0).run().metric(metric))
    tank_sized, steady = best(
        20, lambda: mo.size(tank, metric, 0.8), lambda: tank.with_(T=330.0).steady().metric(metric)
    )
    a, b = sized / run, tank_sized / steady
    return [f"a tube is sized in the time of {a:.1f} runs, a tank in that of {b:.1f} steady states"]


def three_states() -> tuple[float, float]:
    """Seconds for all steady states of an adiabatic tank, the first time and once compiled."""
    reaction = mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-200 kJ/mol")
    feed = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
    tank = mo.StirredTank(mo.Chemistry(reaction), feed, volume="1 m3", heat="adiabatic")
    begin = time.perf_counter()
    assert len(tank.steady_states(("280 K", "430 K"))) == 3
    first = time.perf_counter() - begin
    return first, best(5, lambda: tank.steady_states(("280 K", "430 K")))[0]


Row = tuple[str, list[float], float]


def basin() -> tuple[Work, Work, Work, Work, float]:
    """A basin of 200 by 200 cells: its field at rest, and 500 steps of a tracer; and how far the fields are apart."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    inlet = mo.fields.Inlet("left", ("0 m", "0.5 m"), mo.Feed({"A": "1 mol/L"}, flow="20 L/s"))
    outlet = mo.fields.Outlet("right", ("1.5 m", "2 m"))
    vessel = mo.fields.Basin(
        chemistry, length="4 m", width="2 m", depth="1 m", inlets=inlet, outlets=outlet,
        diffusivity="1e-4 m2/s", cells=(200, 200),
    )  # fmt: skip
    field = BasinField(vessel, vessel.spec.grid)
    psi, args = field.flow.psi, (200, 1e-4, 0.2 / 60, 1000.0)
    c, matrix, fed = hand.basin_field(psi, *args)
    difference = float(np.max(np.abs(field.steady().c[0] - c))) / 1000
    return (
        lambda: BasinField(vessel, vessel.spec.grid).steady(), lambda: hand.basin_field(psi, *args),
        lambda: field.distribution(1e-4, 500, None), lambda: hand.basin_tracer(matrix, fed, 4 * 2 / 200**2, 5.4, 500),
        difference,
    )  # fmt: skip


def share_of_checks(work: Callable[[], object], owner: Any, name: str, turns: int = 5) -> float:
    """Which share of the time of a piece of work one function in it takes; the median of several turns."""
    function, spent, shares = getattr(owner, name), [0.0], list[float]()

    def timed(*args: Any, **kwargs: Any) -> Any:
        begin = time.process_time()
        try:
            return function(*args, **kwargs)
        finally:
            spent[0] += time.process_time() - begin

    setattr(owner, name, timed)
    try:
        for _ in range(turns):
            spent[0], begin = 0.0, time.process_time()
            work()
            shares.append(spent[0] / max(time.process_time() - begin, 1e-9))
    finally:
        setattr(owner, name, function)
    return float(np.median(shares))


def checks() -> list[tuple[str, float]]:
    """The share of the time that the checks of an answer take, of each kind of answer."""
    chemistry = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.05 1/min")])
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube, tank = mo.PlugFlow(chemistry, feed, volume="5 L"), mo.StirredTank(chemistry, feed, volume="5 L")
    many = {"volume": mo.span("1 L", "9 L", 40), "flow": mo.span("0.5 L/min", "2 L/min", 25)}
    free = {"volume": ("1 L", "50 L")}
    job = mo.load_job(Path(str(files("molino.demo") / "valdeoro.toml")))
    data = job.fits["kinetics"].data
    found = [
        ("sweep of 1000 tubes", share_of_checks(lambda: mo.sweep(tube, many, ["yield of B on A"]), sweeping._Question,
                                                "apart")),
        ("size of a tube", share_of_checks(lambda: mo.size(tube, "conversion of A", 0.9), sizing, "_verified")),
        ("size of a tank", share_of_checks(lambda: mo.size(tank, "conversion of A", 0.9), sizing, "_verified")),
        ("optimum of a tube", share_of_checks(lambda: mo.optimize(tube, maximize="yield of B on A", free=free),
                                              optimum_search.Search, "_place_aside")),
    ]  # fmt: skip
    fitted, run = mo.fit(job.chemistry, data), tube.run()
    for name, one, work in (("fit of the demo", fitted, lambda: mo.fit(job.chemistry, data)),
                            ("run of a tube, where they are asked for", run, tube.run)):  # fmt: skip
        kind = type(one).checks.func if hasattr(type(one).checks, "func") else type(one).checks.fget
        own, whole = best(5, lambda one=one, kind=kind: kind(one), work)
        found.append((name, own / (own + whole)))
    return found


def main() -> None:
    rows: list[Row] = []
    message = one_case(rows)
    for title, case, points, script, atol in (
        ("one integration (3 states, 101 rows)", series_case(), hand.SERIES_TIMES, hand.series, 1e-11),
        ("one stiff integration (3 states, exact Jacobian)", stiff_case(), hand.STIFF_TIMES, hand.stiff, 1e-13),
        ("one stiff integration (20 species, 25 reactions)", larger_case(), hand.LARGER_TIMES, hand.larger, 1e-13),
    ):

        def alike(case: Case = case, points: np.ndarray = points, atol: float = atol) -> np.ndarray:
            return integrate(case, points, rtol=1e-8, atol=atol).states

        difference = float(np.max(np.abs(alike() - script())))
        rows.append((title, best(50, alike, script), difference))
    network, by_numpy, took = large_network()
    difference = float(np.max(np.abs(np.array(network()) - by_numpy())) / np.max(np.abs(by_numpy())))
    rows.append(("one right-hand side (300 species, 1000 reactions)", best(500, network, by_numpy), difference))
    case = adiabatic_case()

    def ours() -> np.ndarray:
        return integrate(case, hand.ADIABATIC_TIMES, rtol=1e-8, atol=4e-12).states

    difference = float(np.max(np.abs(ours() - hand.adiabatic()) / np.max(hand.adiabatic(), axis=0)))
    rows.append(("one integration (6 states, 4 reactions, adiabatic)", best(15, ours, hand.adiabatic), difference))

    job = mo.load_job(Path(str(files("molino.demo") / "valdeoro.toml")))
    data = job.fits["kinetics"].data
    runs = [
        {"T": r.T, "acid": r.initial["acid"] / 1000, "xylose0": r.initial["xylose"] / 1000, "t": r.times / 60,
         "xylose": r.measured["xylose"] / 1000, "furfural": r.measured["furfural"] / 1000}
        for r in data
    ]  # fmt: skip
    shown = np.array([e.shown()[0] for e in mo.fit(job.chemistry, data).estimates])
    difference = float(np.max(np.abs(hand.fit_demo(runs) / shown - 1)))
    rows.append(("the demo's fit (4 constants, 144 points)",
                 best(2, lambda: mo.fit(job.chemistry, data), lambda: hand.fit_demo(runs)), difference))  # fmt: skip

    measured = hand.five_curves(hand.FIVE_TRUTH) + np.random.default_rng(0).normal(0, 0.5, (8, 5))
    guesses = [mo.Unknown(float(g)) for g in hand.FIVE_GUESS]
    scheme = mo.Chemistry([
        mo.Reaction("A -> B", name="1", k=guesses[0]), mo.Reaction("A -> C", name="2", k=guesses[1]),
        mo.Reaction("C -> D", name="3", k=guesses[2]),
        mo.Reaction("C <-> E", rate="k*[C] - back*[E]", name="4", k=guesses[3], back=guesses[4]),
    ])  # fmt: skip
    sampled = {s: np.maximum(column, 0) for s, column in zip("ABCDE", measured.T, strict=True)}
    run = mo.Experiment("1", hand.FIVE_TIMES, sampled, {"A": 100.0})
    found = np.array([*mo.fit(scheme, run, errors="same").values.values()])
    measured = np.maximum(measured, 0)
    difference = float(np.max(np.abs(hand.fit_five(measured) / found - 1)))
    times = best(5, lambda: mo.fit(scheme, run, errors="same"), lambda: hand.fit_five(measured))
    rows.append(("a five-constant scheme (40 points)", times, difference))

    whole = mo.fit(job.chemistry, data)
    begin = time.perf_counter()
    whole.bootstrap(1000)
    refits = time.perf_counter() - begin
    fitted = whole.chemistry
    temperatures, flows = np.linspace(430, 460, 40).tolist(), np.linspace(2e-3, 6e-3, 25).tolist()
    cases = np.array([[t, q] for t in temperatures for q in flows])
    values = [fitted.with_values({}).parameters[i].value for i in (0, 1, 3, 4)]
    metric = mo.results.conversion("xylose")

    def our_thousand() -> np.ndarray:
        feed = mo.Feed({"xylose": 350.0, "acid": 100.0}, flow=4e-3, T=445.0)
        conditions = {"T": temperatures, "flow": flows}
        both = [mo.StirredTank(fitted, feed, volume=4.0), mo.PlugFlow(fitted, feed, volume=4.0)]
        return np.column_stack([mo.sweep(v, conditions, [metric]).values[str(metric)].ravel() for v in both])

    def by_hand() -> np.ndarray:
        return hand.thousand(cases, np.array(values), 4.0)

    difference = float(np.max(np.abs(our_thousand() - by_hand())))
    rows.append(("1000 cases, a tank and a tube each", best(2, our_thousand, by_hand), difference))
    ours_bed, hand_bed, our_beds, hand_beds = packed_bed()
    difference = float(np.max(np.abs(ours_bed() / np.maximum(hand_bed(), 1e-9) - 1)[1:]))
    rows.append(("a packed bed (3 species, T and P, adiabatic)", best(15, ours_bed, hand_bed), difference))
    difference = float(np.max(np.abs(our_beds() - hand_beds())))
    rows.append(("that bed at 120 temperatures and molar flows", best(2, our_beds, hand_beds), difference))
    _, ours_gas, hand_gas, our_gases, hand_gases = twenty_gases()
    difference = float(np.max(np.abs(ours_gas() - hand_gas())))
    rows.append(("equilibrium of 20 gases at one temperature", best(20, ours_gas, hand_gas), difference))
    difference = float(np.max(np.abs(our_gases()[::50] - hand_gases())))
    own, other = best(2, our_gases, hand_gases)
    rows.append(("that at 1000 temperatures", [own, 50 * other], difference))
    ours_basin, hand_basin, ours_tracer, hand_tracer, difference = basin()
    rows.append(("a basin of 200 x 200 cells: flow and field", best(2, ours_basin, hand_basin), difference))
    rows.append(("500 steps of a tracer through it", best(1, ours_tracer, hand_tracer), float("nan")))
    print("\n".join(message))
    print("all steady states of a tank take {:.0f} ms the first time, {:.0f} ms once compiled".format(
        *(1e3 * t for t in three_states())))  # fmt: skip
    print(f"300 species and 1000 reactions are read from a file, checked and compiled in {took:.1f} s")
    print(f"1000 bootstrap refits of the demo's fit take {refits:.1f} s on all cores")
    print(f"{'work':<52}{'ours':>12}{'by hand':>12}{'ratio':>8}{'differ by':>12}")
    for name, (own, other), difference in rows:
        print(f"{name:<52}{own * 1e3:>9.3g} ms{other * 1e3:>9.4g} ms{other / own:>8.1f}{difference:>12.1e}")
    print(f"\n{'answer':<52}{'checks, share of its time':>28}")
    for name, share in checks():
        print(f"{name:<52}{100 * share:>26.1f} %")


if __name__ == "__main__":
    main()
