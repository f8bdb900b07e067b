"""How often the 95 % intervals of a fit hold the truth for data of a laboratory: limits of detection, errors that are
correlated over time, replicates, errors given with the values. The table is in docs/fitting.md.

    python examples/laboratory_coverage.py [SETS]
"""

import sys
from collections.abc import Callable
from functools import partial

import numpy as np
from loky import get_reusable_executor

import molino as mo

K = 0.05
"""The true constant in 1/min."""
LAW = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.08 1/min")))
CHARGES = (1000.0, 700.0)


def _runs(times: np.ndarray, measure: Callable[[np.ndarray], dict[str, object]]) -> list[mo.Experiment]:
    """Two charges; `measure` turns exact concentrations into the fields of a run."""
    exact = [charge * np.exp(-K * times) for charge in CHARGES]
    return [
        mo.Experiment(f"{charge:g}", times * 60, initial={"A": charge}, **measure(c))
        for charge, c in zip(CHARGES, exact, strict=True)
    ]


def limits(random: np.random.Generator) -> list[mo.Experiment]:
    """A third of the values lies below the limit of detection."""

    def measure(c: np.ndarray) -> dict[str, object]:
        found = c + 30 * random.standard_normal(len(c))
        low = found < 100
        return {"measured": {"A": np.where(low, np.nan, found)}, "below": {"A": np.where(low, 100.0, np.nan)}}

    return _runs(np.array([2, 5, 10, 15, 20, 30, 40, 50, 60, 80.0]), measure)


def correlated(random: np.random.Generator, rho: float = 0.9) -> list[mo.Experiment]:
    """The errors of neighboring samples have a correlation of 0.9."""

    def measure(c: np.ndarray) -> dict[str, object]:
        e = random.standard_normal(len(c))
        for i in range(1, len(e)):
            e[i] = rho * e[i - 1] + np.sqrt(1 - rho**2) * e[i]
        return {"measured": {"A": c + 15 * e}}

    return _runs(np.linspace(2, 44, 20), measure)


def replicates(random: np.random.Generator) -> list[mo.Experiment]:
    """Each sample is analyzed three times."""
    times = np.repeat([3, 8, 15, 25, 40.0], 3)
    return _runs(times, lambda c: {"measured": {"A": c + 20 * random.standard_normal(len(c))}})


def given(random: np.random.Generator) -> list[mo.Experiment]:
    """Errors differ tenfold, and are given up to a factor."""

    def measure(c: np.ndarray) -> dict[str, object]:
        s = np.linspace(50, 5, len(c))
        return {"measured": {"A": c + s * random.standard_normal(len(c))}, "deviations": {"A": 2 * s}}

    return _runs(np.linspace(3, 40, 10), measure)


def signal(random: np.random.Generator, is_known: bool = True) -> list[mo.Experiment]:
    """An absorbance with an offset; its slope is unknown, or known to 3 %."""
    slope = 1.2e-3 * (1 + 0.03 * random.standard_normal() * is_known)
    guess = "1.2 +- 0.036 L/mol" if is_known else "2 L/mol"
    calibration = mo.Signal("A", slope=mo.Unknown(guess), blank=mo.Unknown(0.0))

    def measure(c: np.ndarray) -> dict[str, object]:
        values = 0.05 + slope * c + 0.01 * random.standard_normal(len(c))
        return {"measured": {"absorbance": values}, "signals": {"absorbance": calibration}}

    return _runs(np.linspace(0, 45, 10), measure)


def offset(random: np.random.Generator) -> list[mo.Experiment]:
    """Every value of A is 30 mol/m3 too high."""
    return _runs(np.linspace(3, 60, 10), lambda c: {"measured": {"A": c + 30 + 8 * random.standard_normal(len(c))}})


def two_parts(random: np.random.Generator) -> list[mo.Experiment]:
    """Errors of 5 mol/m3 and 4 % of the value."""
    times = np.linspace(2, 80, 12)
    return _runs(times, lambda c: {"measured": {"A": c + np.hypot(5, 0.04 * c) * random.standard_normal(len(c))}})


def outliers(random: np.random.Generator, share: float = 0.1) -> list[mo.Experiment]:
    """One value in ten has an error ten times as large."""

    def measure(c: np.ndarray) -> dict[str, object]:
        s = np.where(random.random(len(c)) < share, 50, 5)
        return {"measured": {"A": c + s * random.standard_normal(len(c))}}

    return _runs(np.linspace(2, 25, 15), measure)


PLANS: dict[str, tuple[Callable[..., list[mo.Experiment]], dict[str, object]]] = {
    "limits of detection": (limits, {}),
    "correlated errors": (correlated, {"autocorrelated": True}),
    "correlated errors, taken as independent": (correlated, {}),
    "correlation of 0.5": (partial(correlated, rho=0.5), {"autocorrelated": True}),
    "independent, taken as correlated": (partial(correlated, rho=0.0), {"autocorrelated": True}),
    "three replicates": (replicates, {"errors": "replicates"}),
    "errors given with the values": (given, {}),
    "constant and relative errors": (two_parts, {"errors": "constant and relative"}),
    "one outlier in ten, robust": (outliers, {"robust": True}),
    "no outlier, robust": (partial(outliers, share=0.0), {"robust": True}),
    "offset": (offset, {"offset": "A"}),
    "offset, not fitted": (offset, {}),
    "signal, slope and blank unknown": (partial(signal, is_known=False), {}),
    "signal, slope known to 3 %": (signal, {}),
}


def held(plan: str, seed: int) -> bool:
    """Whether the interval of one set holds the constant."""
    make, options = PLANS[plan]
    _, _, low, high = mo.fit(LAW, make(np.random.default_rng(seed)), **options)["r.k"].shown()
    return low < K < high


if __name__ == "__main__":
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    print(f"95 % intervals that hold the truth, of {sets} sets:")
    for plan in PLANS:
        count = sum(get_reusable_executor().map(partial(held, plan), range(sets)))
        print(f"  {plan:<42}{100 * count / sets:6.1f} %", flush=True)
