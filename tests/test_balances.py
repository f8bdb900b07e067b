"""The engine: generated functions against finite differences, closed forms and published stiff problems."""

from __future__ import annotations

import numpy as np
import pytest
import sympy as sp

import molino as mo
from molino.core.balances import compiled as compiled_module, grouped
from molino.core.balances.balance_symbols import AMOUNT
from molino.core.balances.compiled import Compiled, compiled
from molino.core.balances.integrate import integrate
from molino.core.balances.source import NotFinite
from molino.core.balances.steady import steady
from molino.core.balances.system import ZERO, Balances, Case, State
from molino.core.chemistry.constants import parameter_symbol

LAW = "k*[A]*[B]^0.7/(1 + K*[C])^2*exp(-E/(R*T)) - q*[C]^n*sqrt([A]) + x[A]*z"
HELD = {"k": 2e3, "K": 0.6, "E": 2.5e4, "q": 0.2, "n": 1.3, "z": 0.01}


@pytest.fixture(scope="module")
def tangled() -> mo.Batch:
    """One of every kind of term in one rate law, and a second reaction."""
    chemistry = mo.Chemistry([mo.Reaction("A + B <-> C", rate=LAW, **HELD), mo.Reaction("C -> D", k=0.05, name="last")])
    return mo.Batch(chemistry, {"A": 1.5, "B": 1.0, "C": 0.2}, T=350.0, volume=2.0)


def test_rates_are_those_of_the_formula(tangled: mo.Batch) -> None:
    a, b, c, temperature = 1.5, 1.0, 0.2, 350.0
    k = HELD["k"] * np.exp(-HELD["E"] / (8.31446261815324 * temperature))
    rate = k * a * b**0.7 / (1 + 0.6 * c) ** 2 - 0.2 * c**1.3 * a**0.5 + a / (a + b + c) * 0.01
    run = tangled.run(1.0)
    assert run.series["rate of r1"][0] == pytest.approx(rate, rel=1e-13)
    assert run.series["rate of last"][0] == pytest.approx(0.05 * c, rel=1e-13)


def test_jacobian_is_the_derivative_of_the_right_hand_side(tangled: mo.Batch) -> None:
    case = tangled.spec.case
    whole = compiled(case.balances)
    rhs, jacobian = whole.rhs(case.values), whole.jacobian(case.values)
    y = np.array([2.1, 1.3, 0.9, 0.4])
    numeric = np.empty((4, 4))
    for j in range(4):
        step = np.zeros(4)
        step[j] = 1e-6
        numeric[:, j] = (np.array(rhs(y + step, 0.0)) - np.array(rhs(y - step, 0.0))) / 2e-6
    assert jacobian(y, 0.0) == pytest.approx(numeric, rel=1e-7, abs=1e-9)


@pytest.mark.parametrize("name", ["r1.k", "r1.K", "r1.E", "r1.q", "r1.n", "r1.z", "last.k"])
def test_sensitivities_are_the_derivatives_of_a_run(tangled: mo.Batch, name: str) -> None:
    times = np.array([0.0, 1.0, 6.0])
    symbol = parameter_symbol(name)
    exact = integrate(tangled.spec.case, times, by=(symbol,)).sensitivities
    value = tangled.spec.case.value(symbol)
    step = 1e-5 * value
    up, down = (integrate(tangled.spec.case.with_values({symbol: value + s}), times).states for s in (step, -step))
    assert exact is not None
    assert exact[:, :, 0] == pytest.approx((up - down) / (2 * step), rel=2e-5, abs=1e-8 * np.max(np.abs(exact)))


def test_sensitivity_of_the_initial_state() -> None:
    """dA/dA0 of a first-order decay is exp(-k t)."""
    batch = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=0.3)), {"A": 2.0})
    start = next(p for p in batch.spec.case.balances.parameters if str(p) == "in[A]")
    found = integrate(batch.spec.case, [0.0, 4.0], by=(start,)).sensitivities
    assert found is not None
    assert found[-1, :, 0] == pytest.approx([np.exp(-1.2), 1 - np.exp(-1.2)], rel=1e-8)


def test_reduced_balances_follow_the_same_course(tangled: mo.Batch) -> None:
    chemistry = mo.Chemistry([mo.Reaction("A -> B + C", rate="k*[A]*[acid]", k=0.3), mo.Reaction("B -> D", k=0.1)])
    whole = mo.Batch(chemistry, {"A": 1.0, "acid": 0.5}).spec.case
    less = Case(whole.balances.reduced((AMOUNT("A"), AMOUNT("B"))), whole.values)
    assert less.balances.names == ("A", "B")
    times = np.linspace(0, 5, 6)
    columns = [whole.balances.names.index(s) for s in less.balances.names]
    assert integrate(less, times).states == pytest.approx(integrate(whole, times).states[:, columns], rel=1e-8)


def test_one_structure_is_compiled_once(monkeypatch: pytest.MonkeyPatch) -> None:
    counted = []
    original = compiled_module.build
    monkeypatch.setattr(compiled_module, "build", lambda *a, **k: counted.append(1) or original(*a, **k))

    def tube(k: float, flow: float, length: float) -> mo.PlugFlow:
        chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]/(3 + [A])", k=k))
        return mo.PlugFlow(chemistry, mo.Feed({"A": 5.0}, flow=flow), diameter=0.1, length=length)

    tube(0.1, 1.0, 10.0).run().conversion("A")
    after_first = len(counted)
    for k in (0.2, 0.3):
        tube(k, 2.0 * k, 20.0).run().conversion("A")
    assert len(counted) == after_first > 0


def raw(rhs: list[sp.Expr], initial: list[float], *, names: str = "y1:{}") -> Case:
    """Balances of pure numbers, scaled by one."""
    states = sp.symbols(names.format(len(rhs) + 1))
    balances = Balances(
        sp.Symbol("t"),
        tuple(State(str(s), s, "number", sp.Float(v), sp.Float(1)) for s, v in zip(states, initial, strict=True)),
        (),
        tuple(sp.sympify(f) for f in rhs),
        (),
    )
    return Case(balances, ())


def test_stiff_autocatalysis_over_eleven_decades() -> None:
    """Three species, constants 0.04, 1e4, 3e7; end values to t = 1e11 from F. Mazzia, C. Magherini, Test Set for
    Initial Value Problem Solvers, release 2.4, 2008, problem ROBER."""
    a, b, c = sp.symbols("y1:4")
    case = raw([-0.04 * a + 1e4 * b * c, 0.04 * a - 1e4 * b * c - 3e7 * b**2, 3e7 * b**2], [1.0, 0.0, 0.0])
    end = integrate(case, [0.0, 1e11], rtol=1e-10, atol=1e-20).states[-1]
    assert end == pytest.approx([0.2083340149701255e-7, 0.8333360770334713e-13, 0.9999999791665050], rel=1e-6)


def test_stiff_eight_species() -> None:
    """High irradiance response, eight species; end values at t = 321.8122, same source, problem HIRES."""
    y = sp.symbols("y1:9")
    rhs = [
        -1.71 * y[0] + 0.43 * y[1] + 8.32 * y[2] + 0.0007,
        1.71 * y[0] - 8.75 * y[1],
        -10.03 * y[2] + 0.43 * y[3] + 0.035 * y[4],
        8.32 * y[1] + 1.71 * y[2] - 1.12 * y[3],
        -1.745 * y[4] + 0.43 * y[5] + 0.43 * y[6],
        -280 * y[5] * y[7] + 0.69 * y[3] + 1.71 * y[4] - 0.43 * y[5] + 0.69 * y[6],
        280 * y[5] * y[7] - 1.81 * y[6],
        -280 * y[5] * y[7] + 1.81 * y[6],
    ]
    end = integrate(raw(rhs, [1.0, 0, 0, 0, 0, 0, 0, 0.0057]), [0.0, 321.8122], rtol=1e-10, atol=1e-14).states[-1]
    published = [0.7371312573325668e-3, 0.1442485726316185e-3, 0.5888729740967575e-4, 0.1175651343283149e-2,
                 0.2386356198831331e-2, 0.6238968252742796e-2, 0.2849998395185769e-2, 0.2850001604814231e-2]  # fmt: skip
    assert end == pytest.approx(published, rel=1e-6)


def test_what_cannot_go_on_says_where() -> None:
    y = sp.Symbol("y1")
    with pytest.raises(mo.SolveError, match=r"stopped at t = (0\.99|1 ).*of 5, where y1"):
        integrate(raw([y**2], [1.0]), np.linspace(0, 5, 11))
    blows = mo.Batch(
        mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]/[C]", k=1.0), species=["A", "B", "C"]), {"A": 1, "C": 0}
    )
    with pytest.raises(mo.SolveError, match=r"no finite value at t = 0.*zero there: B, C"):
        blows.run(1.0)


def test_balances_with_a_stranger_are_refused() -> None:
    y, k = sp.symbols("y k")
    with pytest.raises(mo.InputError, match="balance of y uses k"):
        Balances(sp.Symbol("t"), (State("y", y, "number", ZERO, sp.Integer(1)),), (), (-k * y,), ())


def test_a_lasting_oscillation_has_no_steady_state() -> None:
    """x' = 1 - (b + 1) x + x^2 y, y' = b x - x^2 y circles for ever at b = 3 (I. Prigogine, R. Lefever, J. Chem. Phys.
    48 (1968) 1695) and settles at (1, b) for b = 1.5."""
    x, y = sp.symbols("y1:3")

    def brought_in(b: float) -> Case:
        return raw([1 - (b + 1) * x + x**2 * y, b * x - x**2 * y], [0.5, 0.5])

    settled, _ = steady(brought_in(1.5), 1.0)
    assert settled == pytest.approx([1.0, 1.5], rel=1e-9)
    with pytest.raises(mo.SolveError, match="no steady state after 4096 residence times"):
        steady(brought_in(3.0), 1.0)


def large_network() -> mo.Chemistry:
    """120 species, 180 reactions of four families, some of them rare."""
    random = np.random.default_rng(11)
    reactions = []
    for j in range(180):
        a, b, c, d = (f"S{i}" for i in random.choice(120, 4, replace=False))
        k = mo.Arrhenius(A=float(random.uniform(1, 9)), Ea=float(random.uniform(5e3, 9e3)))
        if j < 120:
            reactions.append(mo.Reaction(f"S{j} -> S{(j + 1) % 120}", k=k))
        elif j < 150:
            reactions.append(mo.Reaction(f"{a} + {b} <-> {c} + {d}", k=k, K=2.0))
        elif j < 165:
            reactions.append(mo.Reaction(f"{a} -> {c}", rate=f"k*[{a}]^0.5*[{b}]", k=k))
        else:
            reactions.append(mo.Reaction(f"{a} -> {c}", rate=f"k*[{a}]/(1 + K*[{b}])^2*exp(-[{d}])", k=k, K=0.7))
    return mo.Chemistry(reactions)


def test_large_balances_as_columns_are_those_one_by_one(monkeypatch: pytest.MonkeyPatch) -> None:
    chemistry = large_network()
    feed = mo.Feed({f"S{i}": 0.1 + 0.01 * i for i in range(0, 120, 3)}, flow=0.5, T=320.0)
    for vessel in (mo.StirredTank(chemistry, feed, volume=2.0), mo.PlugFlow(chemistry, feed, volume=2.0)):
        case = vessel.spec.case
        columns = Compiled(case.balances)
        assert columns.grouped is not None
        y = np.random.default_rng(2).uniform(0.1, 2.0, len(case.balances.states))
        y[7] = 0.0
        rhs, jacobian = columns.rhs(case.values), columns.jacobian(case.values)
        run = vessel.run()
        assert max(run.closure.values(), default=0.0) < 1e-9
        if isinstance(vessel, mo.PlugFlow):
            continue  # compiled one by one takes seconds: the tank's balances hold the same terms
        with monkeypatch.context() as few:
            few.setattr(grouped, "_FEWEST", 10**9)
            scalar = Compiled(case.balances)
            assert scalar.grouped is None
            assert rhs(y, 0.0) == pytest.approx(np.array(scalar.rhs(case.values)(y, 0.0)), rel=1e-12, abs=1e-14)
            assert jacobian(y, 0.0) == pytest.approx(scalar.jacobian(case.values)(y, 0.0), rel=1e-10, abs=1e-12)
    with pytest.raises(NotFinite):
        rhs(np.full_like(y, 1e308), 0.0)
