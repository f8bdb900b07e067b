"""Constants from observations of vessels: an adiabatic batch, a calorimeter, a stirred tank's start, a tube.

The mill hydrogenates furfural to furfuryl alcohol (hydrogen in excess, so of first order; all numbers are made up).
Four plans of measurements with known constants: noise is drawn, the constants are fitted, and over many sets it is
counted how often the 95 % intervals hold the truth. The table is in docs/fitting.md.

    python examples/observed_vessels.py [SETS]
"""

import sys
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

import molino as mo

TRUTH = {"r.k": 0.012 / 60, "r.k.Ea": 65e3, "r.enthalpy": -62e3}


def chemistry(*sought: str) -> mo.Chemistry:
    """The reaction with its true constants, or with guesses of those sought."""

    def value(name: str, unit: str) -> Any:
        return mo.Unknown(f"{TRUTH[name] * 1.3} {unit}") if name in sought else f"{TRUTH[name]} {unit}"

    k = mo.Arrhenius(k=value("r.k", "1/s"), at="120 degC", Ea=value("r.k.Ea", "J/mol"))
    reaction = mo.Reaction("furfural -> alcohol", name="r", k=k, enthalpy=value("r.enthalpy", "J/mol"))
    return mo.Chemistry(reaction)


@dataclass(frozen=True)
class Plan:
    """What is measured: vessels by run, along what and where, the noise of each response, and the unknowns."""

    vessels: Mapping[str, Any]
    along: str
    places: np.ndarray
    noise: Mapping[str, float]
    truth: Mapping[str, float]
    options: Mapping[str, Any] = field(default_factory=dict)
    delay: float = 0.0
    """In s: samples are taken so much later than noted."""

    def data(self, seed: int, scale: float = 1.0) -> list[mo.Experiment]:
        """One synthetic set, with `scale` times the noise."""
        random = np.random.default_rng(seed)
        runs = []
        for name, vessel in self.vessels.items():
            exact = self.exact[name]
            measured = {
                r: [row[r] for row in exact] + scale * random.normal(0, s, len(exact)) for r, s in self.noise.items()
            }
            runs.append(mo.Experiment(name, self.places, measured, vessel=vessel, along=self.along))
        return runs

    @cached_property
    def exact(self) -> dict[str, list[dict[str, float]]]:
        """What is to be seen without noise, by run, at each place."""
        places = [float(place) + self.delay for place in self.places]
        return {name: [self.seen(vessel, place) for place in places] for name, vessel in self.vessels.items()}

    def seen(self, vessel: Any, place: float) -> dict[str, float]:
        """What is to be seen at one place."""
        if self.along == "time":
            run = vessel.run(place)
        else:
            run = vessel.with_({self.along: place}).run()
        return {r: run.metric(r if " " in r or r == "temperature" else f"concentration of {r}") for r in self.noise}

    def fit(self, seed: int, scale: float = 1.0) -> mo.results.Fit:
        """The constants of one set."""
        sought = [name for name in self.truth if name in TRUTH]
        return mo.fit(chemistry(*sought), self.data(seed, scale), **self.options)


KNOWN = chemistry()
LIQUOR = {"furfural": "2 mol/L"}
HEAT = {"heat_capacity": "2.1 MJ/m3/K"}
FEED = mo.Feed(LIQUOR, flow="0.5 L/min", T="110 degC", **HEAT)
flask = mo.Batch(KNOWN, LIQUOR, T="100 degC", heat="adiabatic", time="4 h", **HEAT)
calorimeter = mo.Batch(
    KNOWN, LIQUOR, T="115 degC", volume="1 L", heat=mo.Jacket(T="115 degC", UA="1.5 W/K"), time="4 h", **HEAT
)
tank = mo.StirredTank(KNOWN, FEED, volume="20 L", T="120 degC", contents={"furfural": 0.0, "alcohol": 0.0})
tube = mo.PlugFlow(KNOWN, FEED, diameter="60 mm", heat="adiabatic")
PLANS = {
    "adiabatic batch, temperature": Plan(
        {"flask": flask}, "time", np.linspace(10, 240, 24) * 60, {"temperature": 0.3}, TRUTH
    ),
    "jacketed batch, heat flow and temperature": Plan(
        {"calorimeter": calorimeter}, "time", np.linspace(10, 240, 24) * 60, {"temperature": 0.2, "heat flow": 0.3},
        {**TRUTH, "UA": 1.5}, {"unknowns": {"UA": "2 W/K"}},
    ),
    "start of a tank, feed and delay unknown": Plan(
        {"tank": tank}, "time", np.linspace(10, 120, 20) * 60, {"furfural": 12.0, "alcohol": 8.0},
        {"r.k": TRUTH["r.k"], "[furfural]": 2000.0, "delay": 90.0},
        {"unknowns": {"[furfural]": "1.8 mol/L"}, "delay": True}, 90.0,
    ),
    "tube at five places, two feeds": Plan(
        {"cool": tube, "warm": tube.with_({"feed T": "125 degC"})}, "length", np.array([2.0, 4.0, 6.0, 8.0, 10.0]),
        {"temperature": 0.4, "conversion of furfural": 0.01}, TRUTH,
    ),
}  # fmt: skip


def held(name: str, seed: int) -> list[str]:
    """The constants whose interval holds the truth in one set."""
    plan, found = PLANS[name], PLANS[name].fit(seed)
    return [n for n, true in plan.truth.items() if found[n].interval[0] < true < found[n].interval[1]]


if __name__ == "__main__":
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 0
    for name, plan in PLANS.items():
        print(f"{name}\n{plan.fit(0)}\n")
    if sets:
        print(f"95 % intervals that hold the truth, of {sets} sets:")
    for name, plan in PLANS.items() if sets else ():
        counts = Counter(n for seed in range(sets) for n in held(name, seed))
        print(f"  {name}: " + ", ".join(f"{n} {100 * counts[n] / sets:.1f} %" for n in plan.truth))
