"""Make the measurements of the Valdeoro mill (invented): cob-liquor.csv next to this script.

Six batch runs of dilute xylose with acid at 150, 165 and 180 degC; xylose -> furfural -> resin, both first order in the
sugar or furfural and in acid. The concentrations come from the closed form of two first-order steps in series,
with noise of a fixed seed on top, and one furfural value is wrong on purpose, as in a real notebook.

    python make_data.py          writes cob-liquor.csv
"""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np

TRUTH = {
    "dehydration.k": 0.30,  # L/mol/min at 165 degC
    "dehydration.k.Ea": 128.0,  # kJ/mol
    "resin.k": 0.055,  # L/mol/min at 165 degC
    "resin.k.Ea": 96.0,  # kJ/mol
}
NOISE = {"xylose": 0.0040, "furfural": 0.0030}  # mol/L, 1 to 2 % of what is charged
ACID = 0.10  # mol/L
RUNS = [  # name, degC, mol/L of xylose charged, last sample in min
    ("B1", 150.0, 0.20, 240.0),
    ("B2", 150.0, 0.35, 240.0),
    ("B3", 165.0, 0.20, 84.0),
    ("B4", 165.0, 0.35, 84.0),
    ("B5", 180.0, 0.20, 30.0),
    ("B6", 180.0, 0.35, 30.0),
]
SAMPLES = 12
WRONG = ("B4", 6, 0.62)  # run, sample, factor on its furfural
SEED = 1910


def first_order(name: str, celsius: float) -> float:
    """Pseudo-first-order constant in 1/min at a temperature."""
    kelvin = celsius + 273.15
    energy = TRUTH[f"{name}.k.Ea"] * 1000.0
    return TRUTH[f"{name}.k"] * ACID * float(np.exp(-energy / 8.31446261815324 * (1 / kelvin - 1 / 438.15)))


def series(charged: float, k1: float, k2: float, t: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A -> B -> C from A alone: concentrations of A and B."""
    a = charged * np.exp(-k1 * t)
    return a, charged * k1 / (k2 - k1) * (np.exp(-k1 * t) - np.exp(-k2 * t))


def rows(seed: int = SEED, spoil: bool = True) -> list[list[str]]:
    """The table as text, headings first."""
    random = np.random.default_rng(seed)
    table = [["run", "T [degC]", "initial xylose [mol/L]", "initial acid [mol/L]", "time [min]", "xylose [mol/L]",
              "furfural [mol/L]"]]  # fmt: skip
    for run, celsius, charged, last in RUNS:
        times = np.round(last * np.arange(1, SAMPLES + 1) / SAMPLES, 1)
        xylose, furfural = series(charged, first_order("dehydration", celsius), first_order("resin", celsius), times)
        xylose = xylose + random.normal(0.0, NOISE["xylose"], SAMPLES)
        furfural = furfural + random.normal(0.0, NOISE["furfural"], SAMPLES)
        for i, t in enumerate(times):
            value = furfural[i] * (WRONG[2] if spoil and (run, i) == WRONG[:2] else 1.0)
            table.append([run, f"{celsius:g}", f"{charged:.2f}", f"{ACID:.2f}", f"{t:g}", f"{max(xylose[i], 0):.4f}",
                          f"{max(value, 0):.4f}"])  # fmt: skip
    return table


if __name__ == "__main__":
    target = Path(__file__).with_name("cob-liquor.csv")
    with target.open("w", newline="", encoding="utf-8") as out:
        csv.writer(out, lineterminator="\n").writerows(rows())
