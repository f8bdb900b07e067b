"""Fits of rate constants and activation energies, against exact sensitivities written out by hand, and refits."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy.linalg
from scipy.integrate import odeint
from scipy.optimize import least_squares

import molino as mo
from molino.core.unit_tables import GAS_CONSTANT as R
from table import Pair, row

AT, TEMPERATURES, TIMES = 330.0, (315.0, 325.0, 335.0, 345.0), np.linspace(0.0, 4000.0, 13)


@dataclass
class Chain:
    """S0 -> S1 -> ... -> Sm, each of the first order, from 1 mol/L; a table of all species at four temperatures."""

    k: np.ndarray
    Ea: np.ndarray
    tables: list[np.ndarray]

    @classmethod
    def of(cls, m: int) -> Chain:
        random = np.random.default_rng(1)
        k, Ea = 10 ** random.uniform(-3.6, -3, m), random.uniform(50e3, 90e3, m)
        tables = []
        for T in TEMPERATURES:
            at = k * np.exp(-Ea / R * (1 / T - 1 / AT))
            matrix = np.diag(np.append(-at, 0.0)) + np.diag(at, -1)
            table = np.array([scipy.linalg.expm(matrix * t)[:, 0] for t in TIMES[1:]]) * 1000.0
            noise = 0.005 * table * random.standard_normal(table.shape) + 0.05 * random.standard_normal(table.shape)
            tables.append(table + noise)
        return cls(k, Ea, tables)


def written_out(m: int) -> tuple[Callable[..., list[float]], list[tuple[int, int]]]:
    """The right-hand side of states and of their sensitivities by the constants k(T), and the places of these."""
    place = [(i, j) for j in range(m) for i in range(j, m + 1)]
    index = {ij: m + 1 + n for n, ij in enumerate(place)}
    lines = [(f"k{i - 1} * y{i - 1}" if i else "0.0") + (f" - k{i} * y{i}" if i < m else "") for i in range(m + 1)]
    for i, j in place:
        text = f"k{i - 1} * y{index[i - 1, j]}" if (i - 1, j) in index else "0.0"
        text += f" - k{i} * y{index[i, j]}" if i < m else ""
        lines.append(text + (f" - y{j}" if i == j else f" + y{j}" if i == j + 1 else ""))
    names = ", ".join(f"y{i}" for i in range(len(lines)))
    source = f"def rhs(y, t, k):\n    {names}, = y.tolist()\n    {', '.join(f'k{i}' for i in range(m))}, = k\n"
    space: dict = {}
    exec(source + f"    return [{', '.join(lines)}]", space)
    return space["rhs"], place


Model = Callable[[np.ndarray], tuple[list[np.ndarray], list[np.ndarray]]]


def model_of(m: int) -> Model:
    """The states at the four temperatures and their slopes, by log k and Ea; the last answer is kept."""
    rhs, place = written_out(m)
    rows, columns = np.array(place).T
    seen: dict[bytes, tuple[list[np.ndarray], list[np.ndarray]]] = {}

    def model(p: np.ndarray) -> tuple[list[np.ndarray], list[np.ndarray]]:
        key = p.tobytes()
        if key not in seen:
            seen.clear()
            states, slopes = [], []
            for T in TEMPERATURES:
                x = -(1 / T - 1 / AT) / R * 1e4
                k = np.exp(p[:m] + p[m:] * x)
                start = np.zeros(m + 1 + len(place))
                start[0] = 1000.0
                found = odeint(rhs, start, TIMES, args=(k.tolist(),), rtol=1e-8, atol=1e-8)[1:]
                S = np.zeros((len(found), m + 1, m))
                S[:, rows, columns] = found[:, m + 1 :]
                states.append(found[:, : m + 1])
                slopes.append(np.concatenate([S * k, S * k * x], axis=2))
            seen[key] = states, slopes
        return seen[key]

    return model


def least(model: Model, tables: list[np.ndarray], weights: np.ndarray, p: np.ndarray) -> np.ndarray:
    """The least weighted sum of squares."""
    return least_squares(
        lambda p: np.concatenate([((a - b) * weights).ravel() for a, b in zip(model(p)[0], tables, strict=True)]),
        p,
        jac=lambda p: np.concatenate([(j * weights[:, None]).reshape(-1, len(p)) for j in model(p)[1]]),
        x_scale="jac",
    ).x


def by_hand(model: Model, tables: list[np.ndarray], p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """log k and Ea by least squares, and the weight of each species, from its residuals in rounds."""
    m = len(p) // 2
    weights = np.ones(m + 1)
    for _ in range(6):
        p = least(model, tables, weights, p)
        left = np.concatenate([a - b for a, b in zip(model(p)[0], tables, strict=True)])
        taken = np.concatenate([(j * weights[:, None]).reshape(-1, 2 * m) for j in model(p)[1]])
        leverage = np.sum(np.linalg.qr(taken / np.linalg.norm(taken, axis=0))[0] ** 2, axis=1).reshape(-1, m + 1)
        last, weights = weights, 1 / np.sqrt((left**2).sum(axis=0) / (1 - leverage).sum(axis=0))
        if np.max(np.abs(weights / last - 1)) < 1e-4:
            break
    return p, weights


def fitted(chain: Chain, guess: np.ndarray, energies: np.ndarray) -> mo.Fit:
    laws = [
        mo.Arrhenius(k=mo.Unknown(float(k)), at=AT, Ea=mo.Unknown(float(Ea)))
        for k, Ea in zip(guess, energies, strict=True)
    ]
    scheme = mo.Chemistry([mo.Reaction(f"S{i} -> S{i + 1}", name=f"r{i}", k=k) for i, k in enumerate(laws)])
    runs = [
        mo.Experiment(f"{T:g} K", TIMES[1:], {f"S{i}": table[:, i] for i in range(len(laws) + 1)}, {"S0": 1000.0}, T=T)
        for T, table in zip(TEMPERATURES, chain.tables, strict=True)
    ]
    return mo.fit(scheme, runs)


def compared(m: int) -> Pair:
    chain, model = Chain.of(m), model_of(m)

    def guess(turn: int) -> tuple[np.ndarray, np.ndarray]:
        return chain.k * (1.1 + 1e-4 * turn), chain.Ea * 0.98

    def ours(turn: int) -> list[float]:
        fit = fitted(chain, *guess(turn))
        return [fit.values[f"r{i}.k"] for i in range(m)]

    def script(turn: int) -> np.ndarray:
        k, Ea = guess(turn)
        return np.exp(by_hand(model, chain.tables, np.concatenate([np.log(k), Ea / 1e4]))[0][:m])

    return Pair(ours, script, agree=1e-4)


for _m in (2, 5, 10):
    row(f"fit of {2 * _m} constants at four temperatures", 0.8, 4.0)(lambda m=_m: compared(m))


@row("bootstrap: 10 refits of 10 constants, one process", 1.0, 8.0)
def refits() -> Pair:
    """The random residuals differ, and so do the means of log k, by their errors."""
    chain, m, count = Chain.of(5), 5, 10
    fit, model = fitted(chain, chain.k * 1.1, chain.Ea), model_of(5)
    best, weights = by_hand(model, chain.tables, np.concatenate([np.log(chain.k), chain.Ea / 1e4]))
    found = [table.copy() for table in model(best)[0]]
    left = np.concatenate([a - b for a, b in zip(found, chain.tables, strict=True)])

    def by_refits(turn: int) -> np.ndarray:
        random, ends = np.random.default_rng(turn), []
        for _ in range(count):
            drawn = [a + np.stack([random.choice(left[:, i], len(a)) for i in range(m + 1)], axis=1) for a in found]
            ends.append(least(model, drawn, weights, best))
        return np.mean(ends, axis=0)[:m]

    def ours(turn: int) -> np.ndarray:
        drawn = fit.bootstrap(count, seed=turn, workers=1)
        return np.log(drawn.draws[:, [drawn.names.index(f"r{i}.k") for i in range(m)]]).mean(axis=0)

    return Pair(ours, by_refits, agree=0.02)
