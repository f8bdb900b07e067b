"""Laws that every random problem obeys: two routes to one answer agree, round trips close, an independent script agrees.

A law takes a random generator; it fails by AssertionError (broken) or MolinoError (refused), and holds otherwise.
"""

from __future__ import annotations

import math
import pickle
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

import molino as mo

from .problems import KINDS, T_REF, Problem, gas_problem, kinetics, pick, problem

Law = Callable[[np.random.Generator], None]
LAWS: dict[str, Law] = {}
ORDERLY = ("order", "two reactants", "reversible", "consecutive", "parallel", "saturation", "second order loss")
"""Kinetics whose rates fall as the reactants do, so that mixing lowers the conversion."""
SINGLE = ("order", "two reactants", "reversible", "autocatalytic", "saturation", "inhibition")


def law(name: str) -> Callable[[Law], Law]:
    """Enter a law under a name."""

    def entered(function: Law) -> Law:
        LAWS[name] = function
        return function

    return entered


def close(a: float, b: float, rel: float = 1e-7, size: float = 0.0) -> None:
    """Two numbers agree."""
    assert abs(a - b) <= rel * max(abs(a), abs(b), size), f"{a!r} and {b!r} differ by {abs(a - b):.2g}"


def with_factor(p: Problem, rng: np.random.Generator, low: float = 0.05, high: float = 3.0) -> float:
    """A volume of a share of the time that the reaction takes."""
    return p.flow * p.tau * pick(rng, low, high)


def metric_of(p: Problem, rng: np.random.Generator) -> str:
    """A metric that changes along the vessel."""
    choices = ["conversion of A", "concentration of A"]
    if "B" in p.steps[0].nu and p.kind in (
        "order",
        "reversible",
        "saturation",
        "inhibition",
        "consecutive",
        "parallel",
    ):
        choices += ["yield of B on A", "concentration of B"]
    if p.heat != "isothermal":
        choices.append("temperature")
    return str(rng.choice(choices))


def inverts(p: Problem, vessel: Any, run: Any, metric: str, size: float, free: str) -> None:
    """The size for the metric of a run is that of the run, or a smaller one with the same metric."""
    target = run.metric(metric)
    if metric == "conversion of A" and target > 1 - 1e-7:  # nothing but rounding is left
        return
    if metric.startswith("concentration") and target < 1e-5 * p.fed["A"]:  # and here the tolerance
        return
    if metric.startswith("yield") and abs(target) < 1e-6:
        return
    found = mo.size(vessel, metric, target, free=free)
    close(found.run.metric(metric), target, 1e-6)
    assert found.value <= size * (1 + 1e-4), f"{found.value} is not the smallest: {size} gives as much"
    assert all(check.is_passed for check in found.checks)


def sized_tank(rng: np.random.Generator, p: Problem, metric: str | None = None) -> None:
    V = with_factor(p, rng, 1e-2, 1e2)
    tank = p.tank(V)
    try:
        run = tank.steady()
    except mo.SolveError as error:
        assert "each of its steady states is unstable" in str(error)
        return  # it oscillates
    inverts(p, tank, run, metric or metric_of(p, rng), V, "volume")


def sized_run(rng: np.random.Generator, p: Problem, kind: str) -> None:
    """Of a tube or a batch."""
    V = with_factor(p, rng)
    vessel = p.tube(V) if kind == "tube" else p.batch(V / p.flow)
    run = vessel.run()
    metric = metric_of(p, rng)
    far = (p.tube(3 * V) if kind == "tube" else p.batch(3 * V / p.flow)).run().metric(metric)
    if abs(far - run.metric(metric)) < 1e-6 * abs(far):  # at its asymptote any size is as good
        return
    free = {"batch": "time", "tube": "length" if p.heat == "cooled" else "volume"}[kind]
    size = {"time": V / p.flow, "volume": V, "length": V / (math.pi * 0.1**2 / 4)}[free]
    inverts(p, vessel, run, metric, size, free)


for _heat in ("isothermal", "adiabatic", "cooled"):
    for _kind in ("tank", "tube", "batch"):

        def _size(rng: np.random.Generator, heat: str = _heat, kind: str = _kind) -> None:
            p = problem(rng, heats=(heat,))
            sized_tank(rng, p) if kind == "tank" else sized_run(rng, p, kind)

        LAWS[f"size and run invert each other: {_heat} {_kind}"] = _size


@law("size and run invert each other: gas in a tank")
def _(rng: np.random.Generator) -> None:
    sized_tank(rng, gas_problem(rng), "conversion of A")


@law("size and run invert each other: gas in a tube")
def _(rng: np.random.Generator) -> None:
    p = gas_problem(rng)
    V = with_factor(p, rng)
    tube = p.tube(V)
    inverts(p, tube, tube.run(), "conversion of A", V, "volume")


@law("the size of a tank is its feed over its rate")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=SINGLE, heats=("isothermal", "adiabatic"))
    limit = min(1.0, p.fed.get("B", math.inf) / p.fed["A"]) if p.kind == "two reactants" else 1.0
    if p.kind == "reversible":
        K = p.steps[0].constants["K"]
        limit = K / (1 + K)
    X = rng.uniform(0.05, 0.99) * limit
    c = {s: p.fed.get(s, 0.0) + n * X * p.fed["A"] for s, n in p.steps[0].nu.items()}
    T = p.T - p.enthalpy * X * p.fed["A"] / p.capacity
    if T < 200:
        return
    V = p.flow * p.fed["A"] * X / p.rates(c, T)[0]
    close(mo.size(p.tank(), "conversion of A", X).value, V, 1e-6)


@law("a target beyond the best is refused with a certificate")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    vessel = p.tank() if rng.random() < 0.5 else p.tube()
    try:
        found = mo.size(vessel, "conversion of A", 1.0 + rng.uniform(1e-3, 1.0))
    except mo.UnreachableError as error:
        assert error.certificate
        return
    raise AssertionError(f"found {found.value}")


@law("the peak of an intermediate is the certificate of a refusal")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("consecutive",), heats=("isothermal",))
    k1, k2 = p.steps[0].constants["k"], p.steps[1].constants["k2"]
    best = 1 / (1 + math.sqrt(k2 / k1)) ** 2  # O. Levenspiel, Chemical Reaction Engineering, 1999, eq. 8.41
    close(mo.size(p.tank(), "yield of B on A", 0.95 * best).run.metric("yield of B on A"), 0.95 * best, 1e-8)
    roots = np.roots([0.95 * best * k1 * k2, 0.95 * best * (k1 + k2) - k1, 0.95 * best])
    close(mo.size(p.tank(), "yield of B on A", 0.95 * best).value / p.flow, float(np.min(roots.real)), 1e-6)
    try:
        mo.size(p.tank(), "yield of B on A", 1.01 * best)
    except mo.UnreachableError as error:
        close(error.best, best, 1e-6)
        return
    raise AssertionError("a yield beyond the best was found")


def right_side(p: Problem, UA: float = 0.0) -> Callable[[float, np.ndarray], np.ndarray]:
    """dc/dt and dT/dt of a liquid by plain Python."""
    names = p.species

    def slopes(_: float, y: np.ndarray) -> np.ndarray:
        c, T = dict(zip(names, y, strict=False)), y[-1]
        rates = p.rates(c, T)
        dc = [sum(step.nu.get(s, 0) * r for step, r in zip(p.steps, rates, strict=True)) for s in names]
        heat = -p.enthalpy * sum(rates) + UA * (p.T - 10.0 - T)
        return np.array([*dc, heat / p.capacity if p.heat != "isothermal" else 0.0])

    return slopes


@law("an independent script agrees: batch")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    t = p.tau * pick(rng, 0.05, 2.0)
    run = p.batch(t).run()
    UA = p.UA_per_volume if p.heat == "cooled" else 0.0
    y0 = [p.fed.get(s, 0.0) for s in p.species]
    own = solve_ivp(right_side(p, UA), (0, t), [*y0, p.T], method="LSODA", rtol=1e-10, atol=1e-10).y[:, -1]
    for s, c in zip(p.species, own, strict=False):
        close(run.concentrations[s][-1], c, 1e-5, p.fed["A"])
    if p.heat != "isothermal":
        close(run.temperatures[-1], own[-1], 1e-6)


@law("an independent script agrees: tank")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal", "adiabatic"))
    V = with_factor(p, rng, 1e-2, 1e2)
    run = p.tank(V).steady()
    T = float(run.temperatures[-1]) if p.heat != "isothermal" else p.T
    c = {s: float(v[-1]) for s, v in run.concentrations.items()}
    rates = p.rates(c, T)
    for s in p.species:
        made = V * sum(step.nu.get(s, 0) * r for step, r in zip(p.steps, rates, strict=True))
        assert abs(p.flow * (p.fed.get(s, 0.0) - c[s]) + made) < 1e-7 * p.flow * p.fed["A"], s
    if p.heat != "isothermal":
        close(p.flow * p.capacity * (T - p.T), -p.enthalpy * V * sum(rates), 1e-6, 1e-6 * p.flow * p.capacity)


@law("an independent script agrees: gas in a tube")
def _(rng: np.random.Generator) -> None:
    p = gas_problem(rng)
    V = with_factor(p, rng)
    m, step = p.steps[0].nu["B"], p.steps[0]
    total = p.gas_pressure / 8.31446261815324 / p.T
    FA, FB = p.flow * p.fed["A"], p.flow * p.fed["B"]

    def slopes(_: float, X: np.ndarray) -> list[float]:
        Q = (FA * (1 + (m - 1) * X[0]) + FB) / total
        return [step.rate({"A": FA * (1 - X[0]) / Q}, step.constants) / FA]

    own = solve_ivp(slopes, (0, V), [0.0], rtol=1e-11, atol=1e-12, method="LSODA").y[0, -1]
    close(p.tube(V).run().conversion("A"), own, 1e-6)


@law("a tube is a batch")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal", "adiabatic"))
    V = with_factor(p, rng)
    tube, batch = p.tube(V).run(), p.batch(V / p.flow).run()
    for s in p.species:
        close(tube.concentrations[s][-1], batch.concentrations[s][-1], 1e-6, 1e-3 * p.fed["A"])


@law("tanks in series lie between tank and tube")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=ORDERLY, heats=("isothermal",))
    V, n = with_factor(p, rng), int(rng.integers(2, 9))
    train = mo.Train([p.tank(V / n).with_(name=f"{i}") for i in range(n)])
    low, middle, high = (v.metric("conversion of A") for v in (p.tank(V).steady(), train.run(), p.tube(V).run()))
    assert low - 1e-9 <= middle <= high + 1e-9, (low, middle, high)


@law("dispersion lies between tank and tube")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=tuple(k for k in ORDERLY if k not in ("order", "parallel")), heats=("isothermal",))
    V = with_factor(p, rng)
    spread = mo.Dispersion(peclet=pick(rng, 0.3, 80.0))
    tube = mo.DispersedTube(p.chemistry(), p.feed(), volume=V, dispersion=spread)
    low, middle, high = (v.metric("conversion of A") for v in (p.tank(V).steady(), tube.run(), p.tube(V).run()))
    assert low - 1e-6 <= middle <= high + 1e-6, (low, middle, high)


@law("a recycle lies between tube and tank")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=ORDERLY, heats=("isothermal",))
    V, ratio = with_factor(p, rng), pick(rng, 0.05, 30.0)
    loop = mo.Train([p.tube(V)], recycle=ratio).run().metric("conversion of A")
    low, high = p.tank(V).steady().metric("conversion of A"), p.tube(V).run().metric("conversion of A")
    assert low - 1e-7 <= loop <= high + 1e-7, (low, loop, high)


@law("a recycle closes: autocatalytic and adiabatic")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("autocatalytic", "order", "inhibition"), heats=("isothermal", "adiabatic"))
    run = mo.Train([p.tube(with_factor(p, rng))], recycle=pick(rng, 0.1, 30.0)).run()
    energy = run.closure.get("energy", 0.0) * run.conversion("A")  # of the heat of all that is fed, as the others
    assert max(energy, *(c for name, c in run.closure.items() if name != "energy")) < 1e-8, run.closure


@law("a recycle of zero is the tube, and a train of one vessel is the vessel")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V = with_factor(p, rng)
    for vessel, run in ((p.tube(V), p.tube(V).run()), (p.tank(V), p.tank(V).steady())):
        close(mo.Train([vessel]).run().metric("conversion of A"), run.metric("conversion of A"), 1e-9, 1e-3)
    close(
        mo.Train([p.tube(V)], recycle=1e-9).run().metric("conversion of A"), p.tube(V).run().conversion("A"), 1e-6, 1e-3
    )


@law("two tubes in series are one, and two half flows in parallel")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal", "adiabatic"))
    V, share = with_factor(p, rng), rng.uniform(0.1, 0.9)
    whole = p.tube(V).run().conversion("A")
    parts = [p.tube(share * V).with_(name="1"), p.tube((1 - share) * V).with_(name="2")]
    close(mo.Train(parts).run().metric("conversion of A"), whole, 1e-6, 1e-2)
    close(mo.Train([mo.Parallel(parts, shares=[share, 1 - share])]).run().metric("conversion of A"), whole, 1e-7, 1e-2)


@law("a sweep is a loop")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V, metric = with_factor(p, rng), metric_of(p, rng)
    vessel = p.tank(V) if rng.random() < 0.5 else p.batch(V / p.flow) if rng.random() < 0.5 else p.tube(V)
    condition = "[A]"
    values = [p.fed["A"] * f for f in rng.uniform(0.5, 1.5, 4)]
    swept = mo.sweep(vessel, {condition: values}, [metric]).values[metric]
    for value, found in zip(values, swept, strict=True):
        try:
            alone = vessel.with_({condition: value}).run().metric(metric)
        except mo.SolveError as error:
            assert "each of its steady states is unstable" in str(error)
            assert math.isnan(found)
        else:
            close(found, alone, 1e-6, 1e-3 * (p.fed["A"] if "concentration" in metric else 1.0))


@law("an evaluator is a run")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V, metric = with_factor(p, rng), metric_of(p, rng)
    vessel = p.tank(V) if rng.random() < 0.5 else p.batch(V / p.flow)
    a = p.fed["A"] * rng.uniform(0.5, 1.5)
    found = mo.evaluator(vessel, ["[A]"], [metric])(a)[0]
    size = 1e-3 * (p.fed["A"] if "concentration" in metric else 1.0)
    close(float(found), vessel.with_({"[A]": a}).run().metric(metric), 1e-6, size)


@law("only flow times time counts")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal", "adiabatic"))
    V, factor = with_factor(p, rng), pick(rng, 1e-4, 1e4)
    larger = replace(p, flow=p.flow * factor)
    close(p.tube(V).run().conversion("A"), larger.tube(V * factor).run().conversion("A"), 1e-7, 1e-2)
    one, other = (
        (mo.size(q.tank(), "conversion of A", 0.3).value for q in (p, larger))
        if p.kind != "reversible"
        else (1.0, factor)
    )
    close(one * factor, other, 1e-7)


def renamed(p: Problem, names: dict[str, str], backward: bool = False) -> Problem:
    """The same problem with other names, its steps perhaps in another order."""

    def text(words: str, brackets: bool) -> str:
        for old, new in names.items():
            words = (
                words.replace(f"[{old}]", f"[{new}]")
                if brackets
                else " ".join(new if w == old else w for w in words.split())
            )
        return words

    steps = [
        replace(s, equation=text(s.equation, False), law=text(s.law, True), nu={names[n]: v for n, v in s.nu.items()})
        for s in p.steps
    ]
    fed = {names[s]: c for s, c in (reversed([*p.fed.items()]) if backward else p.fed.items())}
    return replace(p, steps=tuple(reversed(steps) if backward else steps), fed=fed)


@law("names of species and the order of reactions change nothing")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal", "adiabatic"))
    names = dict(zip(p.species, rng.permutation(["T", "P", "x", "V", "lambda"]).tolist(), strict=False))
    other = renamed(p, names, backward=True)
    V = with_factor(p, rng)
    for one, two in ((p.tube(V).run(), other.tube(V).run()), (p.tank(V).steady(), other.tank(V).steady())):
        close(one.conversion("A"), two.conversion(names["A"]), 1e-6, 1e-2)


@law("units change nothing")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("order", "consecutive", "saturation"), heats=("isothermal",))
    V = with_factor(p, rng)
    feed = mo.Feed({"A": f"{p.fed['A'] / 1e3!r} mol/L"}, flow=f"{p.flow * 6e4!r} L/min", T=f"{p.T - 273.15!r} degC")
    other = mo.PlugFlow(p.chemistry(), feed, volume=f"{V * 1e3!r} L")
    close(other.run().conversion("A"), p.tube(V).run().conversion("A"), 1e-8, 1e-2)


@law("the tolerance changes nothing but digits")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    vessel = p.batch(p.tau * pick(rng, 0.05, 3.0))
    close(vessel.run(rtol=1e-6, atol=1e-9).conversion("A"), vessel.run().conversion("A"), 1e-3, 1e-2)


@law("a pickled vessel and one changed back give the same numbers")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V = with_factor(p, rng)
    tube = p.tube(V)
    first = tube.run().metric("conversion of A")
    assert pickle.loads(pickle.dumps(tube)).run().metric("conversion of A") == first
    size = "length" if p.heat == "cooled" else "volume"
    back = tube.with_({size: 2.0}).with_({size: getattr(tube, size)})
    assert back.run().metric("conversion of A") == first
    again = pickle.loads(pickle.dumps(tube.run()))
    assert again.metric("conversion of A") == first


def experiments(p: Problem, rng: np.random.Generator, noise: float = 0.0) -> tuple[mo.Chemistry, list[mo.Experiment]]:
    """A chemistry with its first constant unknown, and two batches measured."""
    runs = []
    for n, factor in enumerate((1.0, 0.6)):
        q = replace(p, fed={s: factor * c for s, c in p.fed.items()})
        times = p.tau * np.array([0.1, 0.2, 0.4, 0.7, 1.0, 1.5, 2.2])
        exact = q.batch(float(times[-1])).run(points=times).concentrations["A"][1:]
        measured = exact + noise * p.fed["A"] * rng.normal(size=len(times))
        runs.append(mo.Experiment(str(n), times, {"A": measured}, dict(q.fed), p.T))
    reactions = []
    for n, step in enumerate(p.steps):
        first, *others = step.constants
        guess = step.constants[first] * pick(rng, 0.5, 2.0)
        more = {name: step.constants[name] for name in others}
        k: Any = mo.Unknown(guess) if n == 0 else step.constants[first]
        reactions.append(mo.Reaction(step.equation, rate=step.law, name=f"r{n}", **{first: k}, **more))
    return mo.Chemistry(reactions), runs


@law("a fit returns the constants of exact data, whatever the order of its rows")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal",))
    chemistry, runs = experiments(p, rng)
    true = next(iter(p.steps[0].constants.values()))
    for several in (runs, runs[::-1]):
        close(next(iter(mo.fit(chemistry, several).values.values())), true, 1e-5)


@law("the interval of a fit covers noisy data's constant")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("order", "consecutive", "saturation", "two reactants"), heats=("isothermal",))
    chemistry, runs = experiments(p, rng, noise=0.01)
    fit = mo.fit(chemistry, runs)
    true, found = next(iter(p.steps[0].constants.values())), next(iter(fit.values.values()))
    assert abs(found - true) < 8 * fit.estimates[0].standard_error, (found, true, fit.estimates[0].standard_error)


@law("an optimum is not below a fine scan")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("consecutive", "second order loss"), heats=("isothermal",))
    top = p.flow * p.tau * 20
    best = mo.optimize(p.tube(top / 10), maximize="yield of B on A", free={"volume": (top * 1e-4, top)})
    points = np.geomspace(top * 1e-4, top, 60)
    scan = mo.sweep(p.tube(top), {"volume": points.tolist()}, ["yield of B on A"]).values["yield of B on A"]
    assert best.value >= np.max(scan) * (1 - 1e-8), (best.value, np.max(scan))
    assert all(check.is_passed for check in best.checks), best


@law("equilibrium is a long run")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("reversible",), heats=("isothermal", "adiabatic"))
    if p.heat == "adiabatic" and p.T - p.enthalpy * p.fed["A"] / p.capacity < 250:
        return
    K = p.steps[0].constants["K"]
    run = p.batch(p.tau * 1e4).run() if p.heat == "isothermal" else p.tube(p.flow * p.tau * 1e5).run()
    close(run.conversion("A"), K / (1 + K), 1e-6)


@law("matter and energy are conserved")
def _(rng: np.random.Generator) -> None:
    p = gas_problem(rng) if rng.random() < 0.2 else problem(rng)
    V = with_factor(p, rng, 1e-3, 30.0)
    runs = [p.tube(V).run(), p.tank(V).steady(), *([] if p.is_gas else [p.batch(V / p.flow).run()])]
    for run in runs:
        assert max(run.closure.values()) < 1e-7, run.closure
        assert all(check.is_passed for check in run.checks)


@law("no concentration is negative, and no conversion above one")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V = with_factor(p, rng, 0.3, 30.0)
    for run in (p.tube(V).run(), p.batch(V / p.flow).run(), p.tank(V).steady()):
        for s, c in run.concentrations.items():
            assert np.min(c) >= -1e-8 * p.fed["A"], (s, np.min(c))
        assert run.conversion("A") <= 1 + 1e-8


@law("slopes agree with differences: tube")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V = with_factor(p, rng, 0.05, 1.0)
    slopes_agree(p.tube(V), p, lambda v: v.run())


@law("slopes agree with differences: tank")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, heats=("isothermal",))
    V = with_factor(p, rng, 0.05, 5.0)
    slopes_agree(p.tank(V), p, lambda v: v.steady())


def slopes_agree(vessel: Any, p: Problem, run: Callable[[Any], Any]) -> None:
    constant = next(iter(p.steps[0].constants))
    conditions = {"[A]": p.fed["A"], "flow": p.flow, f"r0.{constant}": p.steps[0].constants[constant]}
    found = run(vessel).sensitivity("conversion of A", [*conditions])
    for name, value in conditions.items():
        h = 1e-4 * value
        low, high = (run(vessel.with_({name: value + sign * h})).conversion("A") for sign in (-1, 1))
        close(found[name] * value, (high - low) / (2 * h) * value, 2e-3, 1e-2)


@law("a start-up ends at the steady state")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=ORDERLY, heats=("isothermal",))
    V = with_factor(p, rng)
    tank = p.tank(V)
    close(tank.run(60 * V / p.flow).conversion("A"), tank.steady().conversion("A"), 1e-6, 1e-2)


@law("steady states and folds of an adiabatic tank are those of its curve V(X)")
def _(rng: np.random.Generator) -> None:
    steps, fed, tau = kinetics(rng, "order")
    rise = rng.uniform(40.0, 250.0)
    p = Problem(
        "order", steps, fed, 1e-3, tau, heat="adiabatic", Ea=rng.uniform(5e4, 1.1e5), enthalpy=-rise * 4e6 / fed["A"]
    )
    left = np.concatenate([np.geomspace(1e-14, 1e-3, 4001)[:-1], np.linspace(1e-3, 1 - 1e-6, 40001)])[::-1]
    r = np.array([p.rates({"A": p.fed["A"] * u}, p.T + rise * (1 - u))[0] for u in left])
    V = p.flow * p.fed["A"] * (1 - left) / r
    turns = np.flatnonzero(np.diff(np.sign(np.diff(V)))) + 1
    low, high = 0.1 * min([V[100], *V[turns]]), 10 * max([V[-4001], *V[turns]])
    inside = [V[i] for i in turns if 1.01 * low < V[i] < 0.99 * high]
    branch = p.tank(float(low)).branch({"volume": (float(low), float(high))})
    assert len(branch.folds) == len(inside), (branch.folds, inside)
    for fold, own in zip(sorted(f.value for f in branch.folds), sorted(inside), strict=True):
        close(fold, own, 1e-4)
    at = float(math.sqrt(min(inside) * max(inside))) if inside else float(1.0001 * V[20000])
    count = int(np.sum((V[:-1] - at) * (V[1:] - at) < 0))
    assert len(p.tank(at).steady_states((p.T, p.T + rise))) == count, count


@law("steady states of an isothermal tank are the roots of its balance")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("inhibition", "autocatalytic"), heats=("isothermal",))
    V, a0 = with_factor(p, rng, 0.05, 300.0), p.fed["A"]
    c = a0 * (1 - np.geomspace(1e-9, 1 - 1e-9, 400001)) if rng.random() < 0.5 else a0 * np.geomspace(1e-12, 1, 400001)
    b = p.fed.get("B", 0.0) + a0 - c
    step = p.steps[0]
    rate = np.array(step.rate({"A": c, "B": b}, step.constants))  # type: ignore[dict-item]
    left = p.flow * (a0 - c) - V * rate
    roots = int(np.sum(left[:-1] * left[1:] < 0))
    found = p.tank(V).steady_states()
    for run in found:
        own = {s: float(x[-1]) for s, x in run.concentrations.items()}
        assert abs(p.flow * (a0 - own["A"]) - V * p.rates(own, p.T)[0]) < 1e-7 * p.flow * a0
    assert len(found) >= roots, (len(found), roots)


@law("an arrangement is no worse than those it contains")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("order", "consecutive", "autocatalytic"), heats=("isothermal", "adiabatic"))
    if p.heat == "adiabatic" and p.enthalpy > 0 and p.T - p.enthalpy * p.fed["A"] / p.capacity < 250:
        return
    found = mo.recommend(p.chemistry(), p.feed(), minimize="volume", target="conversion of A >= 0.8",
                         heat=None if p.heat == "isothermal" else "adiabatic")  # fmt: skip
    volumes = {a.name: a.volume for a in found.arrangements if a.optimum is not None}
    sized = {name: mo.size(vessel, "conversion of A", 0.8) for name, vessel in (("tube", p.tube()), ("tank", p.tank()))}
    own = {name: one.value for name, one in sized.items() if one.is_stable}
    for name, size in own.items():
        assert volumes.get(name, math.inf) <= size * (1 + 1e-3), (name, volumes, own)
    assert min(volumes.values()) <= min(own.values()) * (1 + 1e-3)


@law("a job file says what Python says")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=KINDS, heats=("isothermal",))
    V = with_factor(p, rng)
    lines = ["[reactions]"]
    for n, step in enumerate(p.steps):
        held = ", ".join(f"{name} = {value!r}" for name, value in step.constants.items())
        lines.append(f'r{n} = {{ equation = "{step.equation}", rate = "{step.law}", {held} }}')
    fed = ", ".join(f"{s} = {c!r}" for s, c in p.fed.items())
    lines += ["[feeds.f]", f"contents = {{ {fed} }}", f"flow = {p.flow!r}", f"T = {T_REF!r}"]
    for kind, name in (("plug flow", "tube"), ("stirred tank", "tank")):
        lines += [f"[vessels.{name}]", f'kind = "{kind}"', 'feed = "f"', f"volume = {V!r}"]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "job.toml"
        path.write_text("\n".join(lines))
        job = mo.load_job(path)
    close(job.vessels["tube"].run().metric("conversion of A"), p.tube(V).run().conversion("A"), 1e-9, 1e-2)
    close(job.vessels["tank"].run().metric("conversion of A"), p.tank(V).steady().conversion("A"), 1e-9, 1e-2)


@law("a comparison does not depend on the order of its vessels")
def _(rng: np.random.Generator) -> None:
    p = problem(rng)
    V = with_factor(p, rng)
    vessels = [p.tube(V).with_(name="tube"), p.tank(V).with_(name="tank")]
    one, other = (mo.compare(several, ["conversion of A"]).table() for several in (vessels, vessels[::-1]))
    column = next(c for c in one.columns if "conversion" in c)
    assert sorted(one[column]) == sorted(other[column])


@law("a semi-batch that doses at once is a batch, and doses are conserved")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("two reactants",), heats=("isothermal",))
    V, t = 1e-3, p.tau * pick(rng, 0.3, 3.0)
    feed = mo.Feed({"B": p.fed["B"]}, flow=V / t)
    vessel = mo.SemiBatch(p.chemistry(), {"A": p.fed["A"]}, {"dose": mo.Dosing(feed, windows=[(0.0, t)])}, volume=V,
                          time=t, T=p.T)  # fmt: skip
    run = vessel.run()
    assert max(run.closure.values()) < 1e-8
    k = p.steps[0].constants["k"]

    def slopes(s: float, n: np.ndarray) -> list[float]:
        r = k * n[0] * n[1] / (V + V / t * s)
        return [-r, V / t * p.fed["B"] - r]

    own = solve_ivp(slopes, (0, t), [V * p.fed["A"], 0.0], rtol=1e-10, atol=1e-14 * V, method="LSODA").y[0, -1]
    close(run.conversion("A"), 1 - own / (V * p.fed["A"]), 1e-6, 1e-2)


@law("a tank of any order is where its balance crosses zero")
def _(rng: np.random.Generator) -> None:
    p = problem(rng, kinds=("order",), heats=("isothermal",))
    V, step = with_factor(p, rng, 1e-3, 1e4), p.steps[0]
    own = brentq(lambda c: p.flow * (p.fed["A"] - c) - V * step.rate({"A": c}, step.constants), 0.0, p.fed["A"],
                 xtol=1e-300, rtol=1e-14)  # fmt: skip
    close(p.tank(V).steady().concentrations["A"][-1], own, 1e-7, 1e-9 * p.fed["A"])
