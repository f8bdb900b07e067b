"""Chemical equilibria, against a Newton method for the element potentials."""

from __future__ import annotations

import numpy as np

import molino as mo
from molino.core.unit_tables import GAS_CONSTANT as R
from table import Pair, row

GASES = {
    "CH4": (-74.9, 186.3, 50.0), "H2O": (-241.8, 188.8, 37.0), "CO": (-110.5, 197.7, 31.0),
    "CO2": (-393.5, 213.8, 48.0),
    "H2": (0.0, 130.7, 29.5), "N2": (0.0, 191.6, 30.0), "O2": (0.0, 205.2, 33.0), "OH": (39.0, 183.7, 31.0),
    "H": (218.0, 114.7, 20.8), "O": (249.2, 161.1, 20.8), "N": (472.7, 153.3, 20.8), "NO": (90.3, 210.8, 32.0),
    "NO2": (33.2, 240.1, 45.0), "NH3": (-45.9, 192.8, 45.0), "HCN": (135.1, 201.8, 45.0), "C2H2": (226.7, 200.9, 60.0),
    "C2H4": (52.5, 219.3, 70.0), "CH3": (145.7, 194.2, 45.0), "CH2O": (-108.6, 218.9, 50.0), "N2O": (82.1, 219.9, 48.0),
}  # fmt: skip
"""Rounded textbook values: enthalpy of formation in kJ/mol, entropy and heat capacity in J/(mol K)."""
ATOMS = np.array([
    [1, 4, 0, 0], [0, 2, 1, 0], [1, 0, 1, 0], [1, 0, 2, 0], [0, 2, 0, 0], [0, 0, 0, 2], [0, 0, 2, 0], [0, 1, 1, 0],
    [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1], [0, 0, 1, 1], [0, 0, 2, 1], [0, 3, 0, 1], [1, 1, 0, 1], [2, 2, 0, 0],
    [2, 4, 0, 0], [1, 3, 0, 0], [1, 2, 1, 0], [0, 0, 1, 2],
], dtype=float)  # fmt: skip
BURNT = np.array([1.0, 0, 0, 0, 0, 6.0, 1.6, *[0.0] * 13])
"""Methane in some air, in mol."""


def by_newton(T: float, bar: float = 10.0) -> np.ndarray:
    """Amounts of twenty gases at equilibrium: Newton's method for the logarithms of the amounts, reduced to the element
    potentials and the whole amount, with steps of at most two in each logarithm."""
    h = NUMBERS[:, 0] * 1e3 + NUMBERS[:, 2] * (T - 298.15)
    s = NUMBERS[:, 1] + NUMBERS[:, 2] * np.log(T / 298.15)
    g = (h / T - s) / R + np.log(bar)
    logs, whole = np.full(20, np.log(0.4)), np.log(8.0)
    matrix, right = np.empty((5, 5)), np.empty(5)
    for _ in range(200):
        n, N = np.exp(logs), np.exp(whole)
        mu = g + logs - whole
        weighted = ATOMS * n[:, None]
        by_element = weighted.sum(axis=0)
        matrix[:4, :4], matrix[:4, 4], matrix[4, :4], matrix[4, 4] = (
            ATOMS.T @ weighted,
            by_element,
            by_element,
            n.sum() - N,
        )
        right[:4], right[4] = TOTALS - by_element + mu @ weighted, N - n.sum() + n @ mu
        found = np.linalg.solve(matrix, right)
        step = ATOMS @ found[:4] + found[4] - mu
        share = min(1.0, 2.0 / max(np.max(np.abs(np.where(logs < whole - 40, 0.0, step))), abs(found[4]), 1e-300))
        logs, whole = np.maximum(logs + share * step, whole - 80), whole + share * found[4]
        if share == 1.0 and np.max(np.abs(n * step)) < 1e-13 and abs(found[4]) < 1e-13:
            break
    return np.exp(logs)


NUMBERS, TOTALS = np.array(list(GASES.values())), BURNT @ ATOMS


def at_equilibrium() -> mo.AtEquilibrium:
    species = [
        mo.Species(n, n, enthalpy_of_formation=h * 1e3, entropy=s, heat_capacity=c) for n, (h, s, c) in GASES.items()
    ]
    fed = {n: f"{float(x)!r} mol/s" for n, x in zip(GASES, BURNT, strict=True) if x}
    return mo.AtEquilibrium(mo.Chemistry([], species=species), mo.Feed(fed, T="2000 K", P="10 bar"))


@row("equilibrium of 20 gases at one temperature", 1.0)
def one() -> Pair:
    held = mo.evaluator(at_equilibrium(), ["T"], [f"molar flow of {n}" for n in GASES])
    return Pair(lambda turn: held(2000.0 + 1e-2 * turn), lambda turn: by_newton(2000.0 + 1e-2 * turn))


@row("equilibrium of 20 gases at 200 temperatures", 1.0)
def many() -> Pair:
    vessel, asked = at_equilibrium(), [f"molar flow of {n}" for n in ("CO", "NO")]

    def temperatures(turn: int) -> list[float]:
        return np.linspace(1200.0, 3200.0 + 1e-2 * turn, 200).tolist()

    def ours(turn: int) -> np.ndarray:
        found = mo.sweep(vessel, {"T": temperatures(turn)}, asked)
        return np.column_stack([found.values[name] for name in asked])

    return Pair(ours, lambda turn: np.array([by_newton(T)[[2, 11]] for T in temperatures(turn)]))
