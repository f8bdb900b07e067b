"""Single integrations of compiled balances."""

from __future__ import annotations

from collections.abc import Callable
from math import exp

import numpy as np
import sympy as sp
from scipy.integrate import odeint

from molino.core.balances.integrate import integrate
from molino.core.balances.system import ZERO, Balances, Case, State
from molino.core.unit_tables import GAS_CONSTANT as R
from table import Pair, row

ONE = sp.Integer(1)


def raw(rhs: Callable[..., list[sp.Expr]], k: float) -> Case:
    """Three states as raw balances with one parameter."""
    a, b, c, symbol = sp.symbols("a b c k")
    states = tuple(State(str(s), s, "number", v, ONE) for s, v in zip((a, b, c), (ONE, ZERO, ZERO), strict=True))
    return Case(Balances(sp.Symbol("t"), states, (), tuple(map(sp.sympify, rhs(a, b, c, symbol))), (symbol,)), (k,))


def compared(case: Case, points: np.ndarray, script: Callable[[float], np.ndarray], atol: float) -> Pair:
    """An integration at rtol 1e-8; its first parameter changes with the turn."""
    symbol, own = case.balances.parameters[0], case.values[0]

    def changed(turn: int) -> float:
        return own * (1 + 1e-9 * turn)

    return Pair(
        lambda turn: integrate(case.with_values({symbol: changed(turn)}), points, rtol=1e-8, atol=atol).states,
        lambda turn: script(changed(turn)),
    )


@row("integration: 3 states, 101 rows", 1.0, 8.0)
def series() -> Pair:
    points = np.linspace(0.0, 10.0, 101)

    def script(k: float) -> np.ndarray:
        def rhs(y: np.ndarray, t: float) -> list[float]:
            a, b, _ = y.tolist()
            r1, r2 = k * a, 0.2 * b
            return [-r1, r1 - r2, r2]

        return odeint(rhs, [1.0, 0.0, 0.0], points, rtol=1e-8, atol=1e-11)

    return compared(raw(lambda a, b, c, k: [-k * a, k * a - 0.2 * b, 0.2 * b], 0.5), points, script, 1e-11)


HEATS, CAPACITY = (-4.0e4, 4.0e4, -3.0e4, -1.5e4), 4.0e6
FACTORS, ENERGIES = (2.0e7, 4.0e9, 6.0e6, 3.0e5), (6.0e4, 8.5e4, 6.2e4, 5.5e4)
COEFFICIENTS = ((-1, 1, 0, 0), (-1, 1, -1, 0), (1, -1, -1, 0), (0, 0, 1, -1), (0, 0, 0, 1))
"""A + B -> C, C -> A + B, C + B -> D, D -> E in J, mol, m^3, s, K; adiabatic."""


def adiabatic_case() -> Case:
    T, c, rates = sp.Symbol("T"), sp.symbols("A B C D E"), sp.symbols("r1:5")
    factors, energies, heats = sp.symbols("A1:5"), sp.symbols("E1:5"), sp.symbols("H1:5")
    capacity, *starts = sp.symbols("rho_cp a0 b0 T0")
    orders = (c[0] * c[1] / 1000, c[2], c[2] * c[1] / 1000, c[3])
    laws = [a * sp.exp(-e / (R * T)) * o for a, e, o in zip(factors, energies, orders, strict=True)]
    rhs = [sum(n * r for n, r in zip(row, rates, strict=True)) for row in COEFFICIENTS]
    rhs.append(-sum(h * r for h, r in zip(heats, rates, strict=True)) / capacity)
    states = [
        State(str(s), s, "concentration", i, starts[0] + starts[1])
        for s, i in zip(c, (starts[0], starts[1], ZERO, ZERO, ZERO), strict=True)
    ]
    states.append(State("T", T, "temperature", starts[2], starts[2]))
    parameters = (*factors, *energies, *heats, capacity, *starts)
    balances = Balances(sp.Symbol("t"), tuple(states), tuple(zip(rates, laws, strict=True)), tuple(rhs), parameters)
    return Case(balances, (*FACTORS, *ENERGIES, *HEATS, CAPACITY, 1000.0, 1500.0, 330.0))


@row("integration: 6 states, 4 reactions, adiabatic, 101 rows", 1.0, 8.0)
def adiabatic() -> Pair:
    points = np.linspace(0.0, 600.0, 101)

    def script(factor: float) -> np.ndarray:
        def rhs(y: np.ndarray, t: float) -> list[float]:
            a, b, c, d, _, T = y.tolist()
            over = -1 / (R * T)
            r1 = factor * exp(6.0e4 * over) * a * b * 1e-3
            r2 = 4.0e9 * exp(8.5e4 * over) * c
            r3 = 6.0e6 * exp(6.2e4 * over) * c * b * 1e-3
            r4 = 3.0e5 * exp(5.5e4 * over) * d
            heat = (4.0e4 * (r1 - r2) + 3.0e4 * r3 + 1.5e4 * r4) / CAPACITY
            return [r2 - r1, r2 - r1 - r3, r1 - r2 - r3, r3 - r4, r4, heat]

        return odeint(rhs, [1000.0, 1500.0, 0.0, 0.0, 0.0, 330.0], points, rtol=1e-8, atol=1e-8)

    return compared(adiabatic_case(), points, script, 4e-12)


@row("stiff integration: 3 states, 101 rows", 1.0, 4.0)
def stiff() -> Pair:
    """Constants 0.04, 1e4 and 3e7 over 1e8 s."""
    points = np.concatenate([[0.0], np.logspace(-5, 8, 100)])

    def script(k: float) -> np.ndarray:
        def rhs(y: np.ndarray, t: float) -> list[float]:
            a, b, c = y.tolist()
            r1, r2, r3 = k * a, 1e4 * b * c, 3e7 * b * b
            return [r2 - r1, r1 - r2 - r3, r3]

        def jacobian(y: np.ndarray, t: float) -> list[list[float]]:
            _, b, c = y.tolist()
            return [[-k, 1e4 * c, 1e4 * b], [k, -1e4 * c - 6e7 * b, -1e4 * b], [0.0, 6e7 * b, 0.0]]

        return odeint(rhs, [1.0, 0.0, 0.0], points, Dfun=jacobian, rtol=1e-8, atol=1e-13, mxstep=5000)

    case = raw(lambda a, b, c, k: [1e4 * b * c - k * a, k * a - 1e4 * b * c - 3e7 * b * b, 3e7 * b * b], 0.04)
    return compared(case, points, script, 1e-13)


def random_network(species: int = 20, reactions: int = 25) -> list[tuple[list[int], list[int], float]]:
    """Reactants, products and constant of reactions of the first and second order; constants from 1e-3 to 1e6."""
    random = np.random.default_rng(4)
    found = []
    for n in range(reactions):
        left = [n % species] if n % 3 else [n % species, int(random.integers(0, species))]
        right = [int(random.integers(0, species)) for _ in left] if n >= species else [(n + 1) % species, *left[1:]]
        found.append((left, right, float(10 ** random.uniform(-3, 6))))
    return found


def written_out(network: list[tuple[list[int], list[int], float]], species: int) -> str:
    """The lines that one would write: each rate and balance, and entry of the Jacobian; the first constant is k."""
    balances, entries, lines = [""] * species, dict[tuple[int, int], str](), []
    for n, (left, right, value) in enumerate(network):
        k = "k" if n == 0 else repr(value)
        lines.append(f"    r{n} = {k} * " + " * ".join(f"y{i}" for i in left))
        change = {i: right.count(i) - left.count(i) for i in {*left, *right}}
        for i, v in change.items():
            balances[i] += f"{v:+d} * r{n} "
        for j in {*left}:
            others = left.copy()
            others.remove(j)
            slope = " * ".join([f"{left.count(j)} * {k}", *(f"y{i}" for i in others)])
            for i, v in change.items():
                entries[i, j] = entries.get((i, j), "") + f"{v:+d} * {slope} "
    names = f"    {', '.join(f'y{i}' for i in range(species))} = y.tolist()"
    jacobian = [f"    J[{i}, {j}] = {text}" for (i, j), text in entries.items()]
    return "\n".join([
        "def made(k):", "  def rhs(y, t):", names, *lines, f"    return [{', '.join(b or '0.0' for b in balances)}]",
        "  def jacobian(y, t):", names, f"    J = zeros(({species}, {species}))", *jacobian, "    return J",
        "  return rhs, jacobian",
    ])  # fmt: skip


@row("stiff integration: 20 species, 25 reactions, 101 rows", 1.0, 4.0)
def larger() -> Pair:
    network, species = random_network(), 20
    points = np.concatenate([[0.0], np.logspace(-6, 4, 100)])
    space = {"zeros": np.zeros}
    exec(written_out(network, species), space)
    start = np.array([1.0 if i < 4 else 0.0 for i in range(species)])

    def script(k: float) -> np.ndarray:
        rhs, jacobian = space["made"](k)  # type: ignore[operator]
        return odeint(rhs, start, points, Dfun=jacobian, rtol=1e-8, atol=1e-13, mxstep=5000)

    y, rates, k = sp.symbols(f"y:{species}"), sp.symbols(f"r:{len(network)}"), sp.Symbol("k")
    made, laws = [ZERO] * species, []
    for n, (rate, (left, right, value)) in enumerate(zip(rates, network, strict=True)):
        laws.append((rate, (value if n else k) * sp.Mul(*(y[i] for i in left))))
        for side, sign in ((left, -1), (right, 1)):
            for i in side:
                made[i] += sign * rate
    states = tuple(State(str(s), s, "number", sp.Float(v), ONE) for s, v in zip(y, start, strict=True))
    case = Case(Balances(sp.Symbol("t"), states, tuple(laws), tuple(made), (k,)), (network[0][2],))
    return compared(case, points, script, 1e-13)
