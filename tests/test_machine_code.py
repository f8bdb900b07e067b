"""The engine in machine code against the one in Python: random networks, fallbacks, and when it is used."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import sympy as sp

import molino as mo
from molino.core import disk_cache
from molino.core.balances.compiled import compiled
from molino.core.balances.constant_parts import constant_parts
from molino.core.balances.integrate import Event, integrate
from molino.core.balances.machine import choice
from molino.core.balances.many_cases import integrate_many
from molino.core.balances.system import Balances, Case, State
from molino.core.errors import SolveError

pytest.importorskip("numba")
POINTS = np.linspace(0.0, 3.0, 21)


@pytest.fixture
def account(monkeypatch: pytest.MonkeyPatch) -> choice.Account:
    """An account that begins at zero, with machine code installed."""
    fresh = choice.Account()
    fresh.is_installed, fresh.is_asked = True, False
    monkeypatch.setattr(choice, "ACCOUNT", fresh)
    return fresh


def network(seed: int) -> Case:
    """A random network of orders 1, 3/2 and 2, with inhibition; half of them with heat and Arrhenius constants.

    The constants of a third of them have a range of nine decades.
    """
    random = np.random.default_rng(seed)
    n, m, is_hot, wide = *random.integers([2, 1], [9, 10]), random.random() < 0.5, random.choice([1, 3, 6])
    c, k, E, start = (sp.symbols(f"{name}:{count}") for name, count in (("c", n), ("k", m), ("E", m), ("start", n)))
    T, feed_T = sp.symbols("T feed_T")
    made, laws, heat = [sp.Integer(0)] * n, [], sp.Integer(0)
    for q in range(m):
        left, right = random.integers(0, n, (2, int(random.integers(1, 3))))
        law = k[q] * sp.exp(-E[q] * (1 / T - sp.Rational(1, 350))) if is_hot else k[q]
        for i in left:
            law *= c[i] ** random.choice([1, 1, 1, 2, sp.Rational(3, 2)])
        law /= 1 + c[random.integers(0, n)] if random.random() < 0.2 else 1
        rate = sp.Symbol(f"rate{q}")
        laws.append((rate, law))
        for i, j in zip(left, right, strict=True):
            made[i] -= rate
            made[j] += rate
        heat += float(random.uniform(-20, 40)) * rate
    states = [State(str(s), s, "concentration", first, sp.Integer(1)) for s, first in zip(c, start, strict=True)]
    values = [*10 ** random.uniform(-wide, wide / 2, m), *random.uniform(1e3, 1e4, m)]
    values += [*np.where(random.random(n) < 0.4, 0.0, random.uniform(0.1, 2.0, n)), 350.0]
    if is_hot:
        states, made = [*states, State("T", T, "temperature", feed_T, feed_T)], [*made, heat]
    balances = Balances(sp.Symbol("t"), tuple(states), tuple(laws), tuple(made), (*k, *E, *start, feed_T))
    return Case(balances, tuple(float(v) for v in values))


@pytest.mark.parametrize("seed", range(40))
def test_random_networks_agree_with_the_engine_in_python(account: choice.Account, seed: int) -> None:
    """States and exact sensitivities; both within a hundred tolerances of an integration to 1e-12."""
    case = network(seed)
    by = (case.balances.parameters[0], case.balances.parameters[-2])
    size = np.array([abs(case.value(p)) or 1.0 for p in by])
    found = []
    for account.is_asked, rtol in ((False, 1e-10), (True, 1e-10), (True, 1e-12)):
        account.of.clear()
        found.append(integrate(case, POINTS, by=by, rtol=rtol, atol=1e-3 * rtol))
    python, machine, exact = found
    assert "machine code" in machine.report.method
    assert "LSODA" in python.report.method
    scale = np.abs(exact.states).max(axis=0) + 1e-3
    assert np.max(np.abs(machine.states - exact.states) / scale) < 1e-8
    assert np.max(np.abs(machine.states - python.states) / scale) < 5e-8
    slopes = [np.asarray(run.sensitivities) * size for run in found]
    assert np.max(np.abs(slopes[1] - slopes[2])) < 1e-7 * (np.max(np.abs(slopes[2])) + 1e-2)


def test_stiff_balances_change_to_backward_differentiation(account: choice.Account) -> None:
    """Constants 0.04, 1e4, 3e7 over 1e8 s, with sensitivities, as by LSODA; the sum is constant."""
    a, b, c, k = sp.symbols("a b c k")
    rhs = (1e4 * b * c - k * a, k * a - 1e4 * b * c - 3e7 * b * b, 3e7 * b * b)
    states = tuple(State(str(s), s, "number", sp.Integer(s == a), sp.Integer(1)) for s in (a, b, c))
    case = Case(Balances(sp.Symbol("t"), states, (), rhs, (k,)), (0.04,))
    points = np.concatenate([[0.0], np.logspace(-5, 8, 60)])
    account.is_asked = True
    machine = integrate(case, points, by=(k,))
    account.is_asked = False
    account.of.clear()
    python = integrate(case, points, by=(k,))
    assert machine.report.method == "backward differentiation, machine code"
    assert machine.states == pytest.approx(python.states, rel=1e-7, abs=1e-12)
    assert machine.sensitivities == pytest.approx(python.sensitivities, rel=1e-5, abs=1e-9)
    assert machine.states.sum(axis=1) == pytest.approx(1.0, abs=1e-9)


def test_many_cases_are_integrated_in_one_call(account: choice.Account) -> None:
    """As one by one, stiff ones among them."""
    case = network(3)
    random = np.random.default_rng(5)
    values = np.array(case.values) * 10 ** random.uniform(-1, 3, (150, 1))
    values[:, -2:] = case.values[-2:]
    ends = random.uniform(0.5, 3.0, 150)
    account.is_asked = True
    together = integrate_many(case.balances, values, ends)
    assert account.record(compiled(case.balances)).machines[()] is not None
    account.is_installed = False
    for i in range(0, 150, 10):
        single = integrate(Case(case.balances, tuple(values[i])), [0.0, ends[i]])
        assert together[i] == pytest.approx(single.states[-1], rel=1e-7, abs=1e-9)


def test_the_machine_takes_over_when_it_repays(account: choice.Account, monkeypatch: pytest.MonkeyPatch) -> None:
    """After as many evaluations in Python as its making costs; other balances then only need those of its writing."""
    case = network(1)
    methods = [integrate(case, POINTS).report.method for _ in range(2)]
    account.evaluations = 10**6
    monkeypatch.setattr(choice, "are_compiled", lambda: False)
    methods += [integrate(case, POINTS).report.method for _ in range(20)]
    assert "machine" not in "".join(methods)
    monkeypatch.setattr(choice, "are_compiled", lambda: True)
    account.of.clear()
    while "LSODA" in methods[-1]:
        methods.append(integrate(case, POINTS).report.method)
    counted = account.record(compiled(case.balances)).evaluations[()]
    assert 10_000 <= counted < 20_000
    account.of.clear()
    assert "LSODA" in integrate(case, POINTS).report.method


def test_events_are_located_alike(account: choice.Account) -> None:
    case = network(7)
    state = case.balances.symbols[int(np.argmax(np.ptp(integrate(case, POINTS).states, axis=0)))]
    trace = integrate(case, POINTS).states[:, case.balances.index(state)]
    event = Event("half way", state - sp.Float((trace[0] + trace[-1]) / 2), terminal=True)
    places = []
    for account.is_asked in (False, True):
        account.of.clear()
        places.append(integrate(case, POINTS, events=[event]).events[0].at)
    assert places[1] == pytest.approx(places[0], rel=1e-8)


def test_heat_capacities_in_two_ranges_are_followed_across_their_limit(account: choice.Account) -> None:
    low, high = [4.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0], [3.0, 1e-3, 0.0, 0.0, 0.0, 0.0, 0.0]
    capacity = mo.thermo.HeatCapacity(low=low, high=high, middle="1000 K")
    species = [mo.Species(s, "N2", heat_capacity=capacity) for s in "AB"]
    law = mo.Reaction("A -> B", k="0.5 1/s", enthalpy="-20 kJ/mol")
    feed = mo.Feed({"A": "1 mol/s"}, T="700 K", P="1 bar")
    ends = []
    for account.is_asked in (False, True):
        account.of.clear()
        run = mo.PlugFlow(mo.Chemistry(law, species=species), feed, volume="500 L", heat="adiabatic").run()
        ends.append(run.temperatures[-1])
        assert ("machine code" in str(run)) == account.is_asked
    assert ends[0] > 1050.0
    assert ends[1] == pytest.approx(ends[0], rel=1e-8)


def test_a_law_in_python_and_a_law_without_a_value_are_left_to_python(account: choice.Account) -> None:
    account.is_asked = True
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate=lambda A: 0.3 * A))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    run = mo.PlugFlow(chemistry, feed, volume="5 L").run()
    assert "LSODA" in str(run)
    y = sp.Symbol("y")
    case = Case(Balances(sp.Symbol("t"), (State("y", y, "number", sp.Integer(1), sp.Integer(1)),), (), (y**2,), ()), ())
    with pytest.raises(SolveError, match=r"stopped at t = 1\b|grows without limit"):
        integrate(case, [0.0, 0.5, 2.0])


def test_a_setting_turns_it_off_and_none_is_needed(tmp_path: Path) -> None:
    """Without the extra, or with MOLINO_MACHINE_CODE=off, numba is never loaded."""
    script = (
        "import sys, molino as mo\n"
        "feed = mo.Feed({'A': '1 mol/L'}, flow='1 L/min')\n"
        "tube = mo.PlugFlow(mo.Chemistry(mo.Reaction('A -> B', k='0.2 1/min')), feed, volume='5 L')\n"
        "swept = mo.sweep(tube, {'volume': mo.span('1 L', '9 L', 400)}, ['conversion of A'])\n"
        "print('numba' in sys.modules, float(swept.values['conversion of A'][-1]))"
    )
    printed = []
    for setting in ("off", "always"):
        env = {**os.environ, "MOLINO_MACHINE_CODE": setting}
        done = subprocess.run([sys.executable, "-c", script], env=env, capture_output=True, text=True, check=True)
        printed.append(done.stdout.split())
    assert [p[0] for p in printed] == ["False", "True"]
    assert float(printed[1][1]) == pytest.approx(float(printed[0][1]), rel=1e-8)


def test_sensitivities_by_constant_parts_are_those_by_the_parameters(account: choice.Account) -> None:
    """k and Ea act through k(T): one part each, and the same derivatives as by each parameter alone."""
    account.is_installed = False
    laws = [
        mo.Reaction("A -> B", name="r1", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")),
        mo.Reaction("B -> C", name="r2", k=mo.Arrhenius(k="0.05 1/min", at="330 K", Ea="60 kJ/mol")),
    ]
    case = mo.Batch(mo.Chemistry(laws), {"A": "2 mol/L"}, T="345 K", time="10 min").spec.case
    chosen = [p for p in case.balances.parameters if str(p) in ("r1.k", "r1.k.Ea", "r2.k", "r2.k.Ea", "T", "in[A]")]
    by = (*chosen,)
    parts = constant_parts(case.balances, by)
    assert parts is not None
    assert len(by) == 6
    assert len(parts.by) == 3  # both rate constants, and the charge
    points = np.linspace(0.0, 600.0, 7)
    whole = integrate(case, points, by=by, slopes=_slopes_at_start(case, by))
    short = integrate(case, points, by=by)
    assert short.case is case
    size = np.max(np.abs(whole.sensitivities), axis=(0, 1))
    assert np.max(np.abs(short.sensitivities - whole.sensitivities) / size) < 1e-8


def _slopes_at_start(case: Case, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """Those of the initial state, whose use makes each parameter have its own sensitivity."""
    numbers = dict(zip(case.balances.parameters, case.values, strict=True))
    return np.array([[float(s.initial.diff(p).subs(numbers)) for p in by] for s in case.balances.states])


def test_steady_states_of_many_tanks_are_those_of_single_runs(account: choice.Account) -> None:
    """An exothermic tank over feed temperatures, with ignition among them: each as its own start-up leads to it."""
    law = mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-200 kJ/mol")
    feed = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
    tank = mo.StirredTank(mo.Chemistry(law), feed, volume="1 m3", heat="adiabatic")
    temperatures = np.linspace(280.0, 330.0, 26).tolist()
    swept = []
    for account.is_asked in (False, True):
        account.of.clear()
        swept.append(mo.sweep(tank, {"feed T": temperatures}, ["conversion of A"]).values["conversion of A"])
    assert swept[0].min() < 0.1
    assert swept[0].max() > 0.9
    assert swept[1] == pytest.approx(swept[0], rel=1e-7)
    account.is_installed = False
    for i in (0, 12, 25):
        single = tank.with_(feed=feed.with_(T=temperatures[i])).run().conversion("A")
        assert swept[1][i] == pytest.approx(single, rel=1e-7)


def test_a_fit_is_the_same_by_both_engines(account: choice.Account) -> None:
    """Constants, their errors and the sum of squares."""
    random = np.random.default_rng(6)
    times = np.linspace(0.0, 60.0, 9)[1:]
    runs = []
    for T, k in ((320.0, 0.01), (335.0, 0.03), (350.0, 0.08)):
        left = 1000.0 * np.exp(-k * times) * (1 + 0.01 * random.standard_normal(len(times)))
        runs.append(mo.Experiment(f"{T:g} K", times, {"A": left}, {"A": 1000.0}, T=T))
    k = mo.Arrhenius(k=mo.Unknown("0.02 1/s"), at="335 K", Ea=mo.Unknown("60 kJ/mol"))
    chemistry = mo.Chemistry(mo.Reaction("A -> B", name="r", k=k))
    found = []
    for account.is_asked in (False, True):
        account.of.clear()
        fit = mo.fit(chemistry, runs)
        found.append([*fit.values.values(), *(e.standard_error for e in fit.estimates)])
    assert found[1] == pytest.approx(found[0], rel=1e-8)


@pytest.mark.parametrize("n", [1, 2, 5, 17])
def test_linear_systems_are_solved(n: int) -> None:
    from molino.core.balances.machine.implicit import factorize, substitute

    random = np.random.default_rng(n)
    matrix, right = random.normal(size=(n, n)), random.normal(size=n)
    matrix[0, 0] = 0.0 if n > 1 else matrix[0, 0]  # rows must be exchanged
    columns, exchanged, x = matrix.T.copy(), np.zeros(n, dtype=np.int64), right[None].copy()
    assert factorize(columns, exchanged)
    substitute(columns, exchanged, x, 0)
    assert x[0] == pytest.approx(np.linalg.solve(matrix, right), rel=1e-10)
    assert not factorize(np.zeros((n, n)), exchanged)


def test_machine_code_of_old_source_is_removed_from_the_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(disk_cache, "folder", lambda: tmp_path)
    source = tmp_path / "source"
    source.mkdir()
    (source / "a.py").write_text("1")
    first = disk_cache.folder_of_code("machine", source)
    assert first is not None
    (first / "kept").write_text("code")
    assert disk_cache.folder_of_code("machine", source) == first
    assert (first / "kept").exists()
    (source / "a.py").write_text("12")
    second = disk_cache.folder_of_code("machine", source)
    assert second != first
    assert first.exists()  # another installation may use it
    for n in range(3, 7):
        (source / "a.py").write_text("1" * n)
        last = disk_cache.folder_of_code("machine", source)
        os.utime(last, (n * 1e9, n * 1e9))
    assert not first.exists()
    assert len([*tmp_path.glob("machine-*")]) == 4


@pytest.mark.parametrize("is_asked", [False, True])
def test_constants_without_a_value_are_an_error_of_the_constants(account: choice.Account, is_asked: bool) -> None:
    """Also where sensitivities are by constant parts."""
    account.is_asked = is_asked
    law = mo.Reaction("A -> B", name="r", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol"))
    case = mo.Batch(mo.Chemistry(law), {"A": "2 mol/L"}, T="345 K", time="10 min").spec.case
    by = tuple(p for p in case.balances.parameters if str(p) in ("r.k", "r.k.Ea"))
    for chosen in ((), by):
        with pytest.raises(SolveError, match="the rate constants have no finite value"):
            integrate(case.with_values({by[1]: 1e12}), POINTS, by=chosen)


def test_a_case_that_cannot_be_integrated_is_named_and_the_others_are_known(account: choice.Account) -> None:
    """A rate of the second order in its own product grows without limit in the longest batch alone."""
    law = mo.Reaction("A -> 2 A", rate="k*[A]^2", k="1 L/mol/s")
    batch = mo.Batch(mo.Chemistry(law), {"A": "1 mol/L"}, time="0.5 s")
    account.is_asked = True
    swept = mo.sweep(batch, {"time": ["0.2 s", "0.5 s", "0.8 s", "3 s"]}, ["concentration of A"])
    found = swept.values["concentration of A"]
    assert found[:3] == pytest.approx([1e3 / 0.8, 1e3 / 0.5, 1e3 / 0.2], rel=1e-8)
    assert np.isnan(found[3])
