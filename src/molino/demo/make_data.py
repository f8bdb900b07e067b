"""Make the measurements of the Valdeoro mill (invented), and those of the tracer test that `molino new` writes.

Six batch runs of dilute xylose with acid at 150, 165 and 180 degC; xylose -> furfural -> resin, both first order in the
sugar or furfural and in acid. The concentrations come from the closed form of two first-order steps in series,
with noise of a fixed seed on top, and one furfural value is wrong on purpose, as in a real notebook.

Two runs of a jacketed calorimeter in which furfural is hydrogenated to furfuryl alcohol, hydrogen in excess: its
temperature, the heat that comes in through the wall (negative: that leaves), and furfural in three samples a run. The
balances are integrated by the classical Runge-Kutta method.

Two runs with a probe in the liquor: the absorbance of furfural every few minutes, with a blank that was not subtracted;
and samples whose xylose is below the limit of detection at the end.

A tracer test of the cooker: salt put in at once, the conductivity of the outlet, with noise and a base line that
drifts. Two mixed parts in series, each with a pocket in exchange, a part of the flow past them, a part of the volume
dead; integrated by the classical Runge-Kutta method.

    python make_data.py          writes all
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
NOISE = {"xylose": 0.0040, "furfural": 0.0030}  # mol/L, 1 to 2 % of the charge
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
    table = [
        [
            "run",
            "T [degC]",
            "initial xylose [mol/L]",
            "initial acid [mol/L]",
            "time [min]",
            "xylose [mol/L]",
            "furfural [mol/L]",
        ]
    ]
    for run, celsius, charged, last in RUNS:
        times = np.round(last * np.arange(1, SAMPLES + 1) / SAMPLES, 1)
        xylose, furfural = series(charged, first_order("dehydration", celsius), first_order("resin", celsius), times)
        xylose = xylose + random.normal(0.0, NOISE["xylose"], SAMPLES)
        furfural = furfural + random.normal(0.0, NOISE["furfural"], SAMPLES)
        for i, t in enumerate(times):
            value = furfural[i] * (WRONG[2] if spoil and (run, i) == WRONG[:2] else 1.0)
            table.append(
                [
                    run,
                    f"{celsius:g}",
                    f"{charged:.2f}",
                    f"{ACID:.2f}",
                    f"{t:g}",
                    f"{max(xylose[i], 0):.4f}",
                    f"{max(value, 0):.4f}",
                ]
            )
    return table


HEAT_TRUTH = {
    "hydrogenation.k": 0.012,  # 1/min at 120 degC
    "hydrogenation.k.Ea": 65.0,  # kJ/mol
    "hydrogenation.enthalpy": -62.0,  # kJ/mol
    "UA": 1.5,  # W/K
}
HEAT_NOISE = {"temperature": 0.2, "heat flow": 0.3, "furfural": 0.02}  # K, W, mol/L
CALORIMETER = {"volume": 1.0, "capacity": 2100.0, "furfural": 2.0}  # L, J/(L K), mol/L
HEAT_RUNS = [("K1", 105.0, 240), ("K2", 125.0, 160)]  # name, degC of charge and jacket, last sample in min
SAMPLED = (4, 9, 19)


def calorimetry(jacket: float, minutes: np.ndarray) -> np.ndarray:
    """Furfural in mol/L, temperature in degC and heat flow in W over time, shape (3, times)."""
    UA, heat = HEAT_TRUTH["UA"], -1000.0 * HEAT_TRUTH["hydrogenation.enthalpy"]
    volume, capacity = CALORIMETER["volume"], CALORIMETER["volume"] * CALORIMETER["capacity"]

    def slopes(state: np.ndarray) -> np.ndarray:
        c, celsius = state
        energy = 1000.0 * HEAT_TRUTH["hydrogenation.k.Ea"] / 8.31446261815324
        k = HEAT_TRUTH["hydrogenation.k"] / 60 * np.exp(-energy * (1 / (celsius + 273.15) - 1 / 393.15))
        return np.array([-k * c, (UA * (jacket - celsius) + heat * k * c * volume) / capacity])

    state, t, step, found = np.array([CALORIMETER["furfural"], jacket]), 0.0, 2.0, []
    for end in minutes * 60:
        while t < end - 1e-9:
            a = slopes(state)
            b = slopes(state + step / 2 * a)
            c = slopes(state + step / 2 * b)
            d = slopes(state + step * c)
            state, t = state + step / 6 * (a + 2 * b + 2 * c + d), t + step
        found.append([*state, UA * (jacket - state[1])])
    return np.array(found).T


def heat_rows(seed: int = SEED) -> list[list[str]]:
    """The table of the calorimeter as text, headings first."""
    random = np.random.default_rng(seed)
    table = [
        ["run", "T [degC]", "coolant T [degC]", "time [min]", "temperature [degC]", "heat flow [W]", "furfural [mol/L]"]
    ]
    for run, jacket, last in HEAT_RUNS:
        times = last * np.arange(1, 21) / 20
        columns = calorimetry(jacket, times)
        noise = (HEAT_NOISE["furfural"], HEAT_NOISE["temperature"], HEAT_NOISE["heat flow"])
        noisy = [values + random.normal(0.0, s, 20) for values, s in zip(columns, noise, strict=True)]
        for i, t in enumerate(times):
            sample = f"{max(noisy[0][i], 0):.3f}" if i in SAMPLED else ""
            table.append(
                [run, f"{jacket:g}", f"{jacket:g}", f"{t:g}", f"{noisy[1][i]:.2f}", f"{noisy[2][i]:.2f}", sample]
            )
    return table


PROBE_TRUTH = {"slope": 2.36, "blank": 0.043}  # absorbance per mol/L of furfural, absorbance
PROBE_NOISE = 0.004
PROBE_RUNS = [("P1", 165.0, 0.25, 180.0), ("P2", 175.0, 0.25, 90.0)]
DETECTED = 0.012  # mol/L of xylose


def probe_rows(seed: int = SEED) -> list[list[str]]:
    """The table of the probe as text, headings first."""
    random = np.random.default_rng(seed)
    table = [
        [
            "run",
            "T [degC]",
            "initial xylose [mol/L]",
            "initial acid [mol/L]",
            "time [min]",
            "absorbance",
            "xylose [mol/L]",
        ]
    ]
    for run, celsius, charged, last in PROBE_RUNS:
        times = last * np.arange(0, 25) / 24
        xylose, furfural = series(charged, first_order("dehydration", celsius), first_order("resin", celsius), times)
        signal = PROBE_TRUTH["blank"] + PROBE_TRUTH["slope"] * furfural + random.normal(0.0, PROBE_NOISE, 25)
        noisy = xylose + random.normal(0.0, NOISE["xylose"], 25)
        for i, t in enumerate(times):
            sample = f"{noisy[i]:.4f}" if noisy[i] > DETECTED else f"<{DETECTED:g}"
            fixed = [run, f"{celsius:g}", f"{charged:.2f}", f"{ACID:.2f}", f"{t:g}"]
            table.append([*fixed, f"{signal[i]:.4f}", sample if i % 3 == 2 else ""])
    return table


TRACER_TRUTH = {
    "volume": 6.0,
    "flow": 0.2,  # m3, m3/min
    "injected": 1.5,  # kg
    "dead": 0.12,
    "pockets": 0.15,
    "exchange": 0.08,
    "bypass": 0.04,  # shares of volume and of flow
    "calibration": 0.55,  # kg/m3 for 1 mS/cm
    "baseline": 1.20,
    "drift": 0.0004,  # mS/cm, mS/cm/min
}
TRACER_NOISE = 0.003  # mS/cm


def tracer(minutes: np.ndarray) -> np.ndarray:
    """Concentration in kg/m3 of the salt in the outlet of the cooker."""
    true = TRACER_TRUTH
    flow, whole = true["flow"] * (1 - true["bypass"]), true["volume"] * (1 - true["dead"])
    part, pocket = whole * (1 - true["pockets"]) / 2, whole * true["pockets"] / 2
    swap = true["exchange"] * true["flow"]

    def slopes(c: np.ndarray) -> np.ndarray:
        one, one_pocket, two, two_pocket = c
        return np.array(
            [
                (-flow * one - swap * (one - one_pocket)) / part,
                swap * (one - one_pocket) / pocket,
                (flow * (one - two) - swap * (two - two_pocket)) / part,
                swap * (two - two_pocket) / pocket,
            ]
        )

    state, t, step = np.array([true["injected"] * (1 - true["bypass"]) / part, 0.0, 0.0, 0.0]), 0.0, 0.05
    found = []
    for end in minutes:
        while t < end - 1e-9:
            a = slopes(state)
            b = slopes(state + step / 2 * a)
            c = slopes(state + step / 2 * b)
            d = slopes(state + step * c)
            state, t = state + step / 6 * (a + 2 * b + 2 * c + d), t + step
        early = true["bypass"] * true["injected"] / true["flow"] * max(0.0, end) * np.exp(-max(0.0, end) / 0.5) / 0.25
        found.append((1 - true["bypass"]) * state[2] + early if end >= 0 else 0.0)
    return np.array(found)


def tracer_rows(seed: int = SEED) -> list[list[str]]:
    """The table of the tracer test as text, headings first."""
    random = np.random.default_rng(seed)
    times = np.concatenate([np.arange(-5.0, 10.0, 0.5), np.arange(10.0, 60.0, 1.0), np.arange(60.0, 360.1, 2.0)])
    signal = TRACER_TRUTH["baseline"] + TRACER_TRUTH["drift"] * times + tracer(times) / TRACER_TRUTH["calibration"]
    signal += random.normal(0.0, TRACER_NOISE, len(times))
    return [
        ["time [min]", "conductivity [mS/cm]"],
        *([f"{t:g}", f"{y:.4f}"] for t, y in zip(times, signal, strict=True)),
    ]


if __name__ == "__main__":
    here = Path(__file__).parent
    for name, content in (
        ("cob-liquor.csv", rows()),
        ("laboratory/calorimeter.csv", heat_rows()),
        ("laboratory/probe.csv", probe_rows()),
        ("cooker-tracer.csv", tracer_rows()),
        ("starts/tracer/tracer.csv", tracer_rows(seed=1911)),
    ):
        with (here / name).open("w", newline="", encoding="utf-8") as out:
            csv.writer(out, lineterminator="\n").writerows(content)
