"""How often the 95 % intervals of a fit hold the truth: by Student's t, by profile, by bootstrap.

Two plans of measurements with known constants, many synthetic sets of each: the demo's runs (four constants, 144
observations), and eight rates of a saturation law with 5 % noise (two constants, strongly non-linear). The table stands
in docs/fitting.md.

    python examples/interval_coverage.py [SETS [REFITS]]
"""

import sys
from collections import Counter
from functools import partial

import numpy as np
from loky import get_reusable_executor

import molino as mo
from molino.demo import make_data

LAW = {"only.v": 3.0, "only.K": 0.5}
WAYS = ("t", "profile", "residuals", "cases")


def plant_set(seed: int) -> mo.Experiments:
    """One synthetic set of the demo's plan of runs with fresh noise, in SI."""
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
    return mo.Experiments(tuple(runs))


def saturation_set(seed: int) -> mo.Rates:
    """Eight rates of v [A]/(K + [A])."""
    level = np.array([0.1, 0.2, 0.35, 0.5, 0.8, 1.2, 2.0, 3.0])
    exact = LAW["only.v"] * level / (LAW["only.K"] + level)
    return mo.Rates(exact + np.random.default_rng(seed).normal(0, 0.05 * exact.max(), 8), {"A": level})


k = {n: mo.Arrhenius(k=mo.Unknown(g), at="165 degC", Ea=mo.Unknown("110 kJ/mol"))
     for n, g in (("dehydration", "0.1 L/mol/min"), ("resin", "0.01 L/mol/min"))}  # fmt: skip
PLANT = mo.Chemistry(
    [
        mo.Reaction("xylose -> furfural + 3 water", rate="k*[xylose]*[acid]", name="dehydration", k=k["dehydration"]),
        mo.Reaction("furfural -> resin", rate="k*[furfural]*[acid]", name="resin", k=k["resin"]),
    ]
)
SATURATION = mo.Chemistry(
    mo.Reaction("A -> B", rate="v*[A]/(K + [A])", name="only", v=mo.Unknown(1.0), K=mo.Unknown(1.0))
)
PLANS = {
    "the demo's runs": (PLANT, plant_set, make_data.TRUTH),
    "eight rates, saturation": (SATURATION, saturation_set, LAW),
}


def held(plan: str, seed: int, refits: int) -> list[tuple[str, str]]:
    """The (constant, way) whose interval holds the truth in one set."""
    chemistry, make, truth = PLANS[plan]
    fit = mo.fit(chemistry, make(seed))
    profiles = fit.profile_likelihood()
    drawn = {kind: fit.bootstrap(refits, kind, seed, workers=1).intervals for kind in WAYS[2:]}
    found = []
    for name, shown in truth.items():
        estimate = fit[name]
        true = shown * estimate.value / estimate.shown()[0]
        ends = {"t": estimate.interval, "profile": profiles[name].interval}
        ends |= {kind: intervals[name] for kind, intervals in drawn.items()}
        found += [(name, way) for way, (low, high) in ends.items() if low < true < high]
    return found


if __name__ == "__main__":
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    refits = int(sys.argv[2]) if len(sys.argv) > 2 else 200
    print(f"95 % intervals that hold the truth, of {sets} sets, bootstrap of {refits} refits:")
    print(f"  {'plan':<26}{'constant':<18}{'t':>9}{'profile':>10}{'residuals':>11}{'cases':>9}")
    for plan, (_, _, truth) in PLANS.items():
        rows = get_reusable_executor().map(partial(held, plan, refits=refits), range(sets))
        counts = Counter(pair for row in rows for pair in row)
        for name in truth:
            shares = [f"{100 * counts[name, way] / sets:.1f} %" for way in WAYS]
            print(f"  {plan:<26}{name:<18}{shares[0]:>9}{shares[1]:>10}{shares[2]:>11}{shares[3]:>9}")
