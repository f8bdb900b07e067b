"""How often the 95 % intervals of a fit hold the truth.

Makes synthetic sets of the demo's measurements with known constants and noise, fits each, and counts. The figure
stands in docs/fitting.md.

    python examples/interval_coverage.py [SETS]
"""

import sys

import numpy as np

import molino as mo
from molino.demo import make_data

sets = int(sys.argv[1]) if len(sys.argv) > 1 else 400
k = {n: mo.Arrhenius(k=mo.Unknown(g), at="165 degC", Ea=mo.Unknown("110 kJ/mol"))
     for n, g in (("dehydration", "0.1 L/mol/min"), ("resin", "0.01 L/mol/min"))}  # fmt: skip
chemistry = mo.Chemistry(
    [
        mo.Reaction("xylose -> furfural + 3 water", rate="k*[xylose]*[acid]", name="dehydration", k=k["dehydration"]),
        mo.Reaction("furfural -> resin", rate="k*[furfural]*[acid]", name="resin", k=k["resin"]),
    ]
)


def measured(seed: int) -> list[mo.Experiment]:
    """One synthetic set: the demo's plan of runs with fresh noise, in SI."""
    random = np.random.default_rng(seed)
    runs = []
    for name, celsius, charged, last in make_data.RUNS:
        minutes = last * np.arange(1, make_data.SAMPLES + 1) / make_data.SAMPLES
        rates = [make_data.first_order(step, celsius) for step in ("dehydration", "resin")]
        curves = make_data.series(charged, *rates, minutes)
        noisy = {
            s: np.maximum(c + random.normal(0, make_data.NOISE[s], len(minutes)), 0) * 1000
            for s, c in zip(("xylose", "furfural"), curves, strict=True)
        }
        initial = {"xylose": charged * 1000, "acid": make_data.ACID * 1000}
        runs.append(mo.Experiment(name, minutes * 60, noisy, initial, celsius + 273.15))
    return runs


held = dict.fromkeys(make_data.TRUTH, 0)
for seed in range(sets):
    fit = mo.fit(chemistry, measured(seed))
    for name, true in make_data.TRUTH.items():
        _, _, low, high = fit[name].shown()
        held[name] += low < true < high
print(f"95 % intervals that hold the truth, of {sets} sets:")
for name, count in held.items():
    print(f"  {name:<18}{100 * count / sets:6.1f} %")
print(f"  {'all constants':<18}{100 * sum(held.values()) / sets / len(held):6.1f} %")
