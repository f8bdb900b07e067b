"""How often the order screening is right: synthetic runs of known order, noise and conversion, counted.

    python examples/order_verdicts.py [SETS]

Each set is one run of twelve samples; the noise is normal, in per cent of the concentration at the start.
"""

from __future__ import annotations

import sys

import numpy as np

import molino as mo
from molino.core.fitting.orders.screening import power_law

TIMES = np.linspace(0.0, 5400.0, 12)
START = 500.0
NAMES = {0: "zero order", 1: "first order", 2: "second order"}


def constant(order: int, conversion: float) -> float:
    """The rate constant with which the run ends at a conversion."""
    left = 1.0 - conversion
    return float({0: conversion * START, 1: -np.log(left), 2: (1 / left - 1) / START}[order] / TIMES[-1])


def count(order: int, conversion: float, noise: float, sets: int, seed: int = 0) -> dict[str, int]:
    """How many verdicts are right, wrong, or that the data cannot tell; and how many intervals hold n and k."""
    found = dict.fromkeys(("right", "cannot tell", "wrong", "n in interval", "k in interval"), 0)
    k = constant(order, conversion)
    for n in range(sets):
        random = np.random.default_rng([seed, order, n])
        values = power_law(TIMES, START, k, float(order)) + noise * START * random.normal(size=len(TIMES))
        result = mo.screen_orders(mo.Experiment("1", TIMES, {"A": np.maximum(values, 0.0)}), "A")
        name = result.chosen.name if result.chosen is not None else ""
        verdict = "right" if name == NAMES[order] else "cannot tell" if "cannot tell" in result.verdict else "wrong"
        found[verdict] += 1
        low, high = result.order_interval
        found["n in interval"] += low <= order <= high
        low, high = result.law(NAMES[order]).interval(0)
        found["k in interval"] += low <= k <= high
    return found


def main() -> None:
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    print(f"{'order':<14}{'conversion':>11}{'noise':>7}" + "".join(f"{h:>15}" for h in count(0, 0.8, 0.02, 0)))
    for conversion, noise in ((0.8, 0.02), (0.95, 0.02), (0.4, 0.02), (0.8, 0.05)):
        for order, name in NAMES.items():
            found = count(order, conversion, noise, sets)
            cells = "".join(f"{100 * n / sets:>13.1f} %" for n in found.values())
            print(f"{name:<14}{conversion:>11.0%}{noise:>7.0%}{cells}")


if __name__ == "__main__":
    main()
