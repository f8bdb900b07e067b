"""Random small problems by seed: kinetics with their rates once more in plain Python, and vessels around them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

import molino as mo

R = 8.31446261815324
T_REF = 330.0
Rate = Callable[[Mapping[str, float], float], float]
"""Concentrations in mol/m^3 and temperature in K to a rate in mol/m^3/s."""

KINDS = ("order", "two reactants", "reversible", "consecutive", "parallel", "autocatalytic", "saturation", "inhibition",
         "second order loss")  # fmt: skip
HEATS = ("isothermal", "adiabatic", "cooled")


@dataclass(frozen=True)
class Step:
    """One reaction: its equation and rate law as text, its constants, and both again as plain Python."""

    equation: str
    law: str
    nu: Mapping[str, float]
    constants: Mapping[str, float]
    rate: Callable[[Mapping[str, float], Mapping[str, float]], float]


@dataclass(frozen=True)
class Problem:
    """Kinetics, a feed and how heat leaves; all numbers in SI."""

    kind: str
    steps: tuple[Step, ...]
    fed: Mapping[str, float]
    flow: float
    tau: float
    T: float = T_REF
    gas_pressure: float = 0.0
    heat: str = "isothermal"
    Ea: float = 0.0
    enthalpy: float = 0.0
    capacity: float = 4e6
    UA_per_volume: float = 0.0

    @property
    def is_gas(self) -> bool:
        return self.gas_pressure > 0

    @property
    def species(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(s for step in self.steps for s in step.nu))

    def factor(self, T: float) -> float:
        """By how much the first constant of each step is larger than at `T_REF`."""
        return math.exp(-self.Ea / R * (1 / T - 1 / T_REF))

    def rates(self, c: Mapping[str, float], T: float) -> list[float]:
        """The rate of each step in mol/m^3/s, by plain Python."""
        factor = self.factor(T)
        return [factor * step.rate(c, step.constants) for step in self.steps]

    def chemistry(self) -> mo.Chemistry:
        reactions = []
        for n, step in enumerate(self.steps):
            first, *others = step.constants
            k: Any = step.constants[first]
            if self.Ea:
                k = mo.Arrhenius(k=k, at=T_REF, Ea=self.Ea)
            heat = {"enthalpy": self.enthalpy} if self.enthalpy else {}
            more = {name: step.constants[name] for name in others}
            reactions.append(mo.Reaction(step.equation, rate=step.law, name=f"r{n}", **{first: k}, **more, **heat))
        return mo.Chemistry(reactions)

    def feed(self) -> mo.Feed:
        more: dict[str, Any] = {}
        if self.heat != "isothermal":
            more["heat_capacity"] = self.capacity
        if self.is_gas:
            whole = sum(self.fed.values())
            flow = self.flow * self.gas_pressure / R / self.T
            shares = {s: f"{c / whole!r} mol/mol" for s, c in self.fed.items()}
            return mo.Feed(shares, flow=f"{flow!r} mol/s", T=self.T, P=self.gas_pressure, **more)
        return mo.Feed(dict(self.fed), flow=self.flow, T=self.T, **more)

    def heating(self, volume: float) -> dict[str, Any]:
        if self.heat == "adiabatic":
            return {"heat": "adiabatic"}
        if self.heat == "cooled":
            return {"heat": mo.Jacket(self.T - 10.0, UA=self.UA_per_volume * volume)}
        return {}

    def tank(self, volume: float | None = None) -> mo.StirredTank:
        size = {} if volume is None else {"volume": volume}
        return mo.StirredTank(self.chemistry(), self.feed(), **size, **self.heating(self.flow * self.tau))

    def tube(self, volume: float | None = None) -> mo.PlugFlow:
        size: dict[str, Any] = {} if volume is None else {"volume": volume}
        heat = self.heating(1.0)
        if self.heat == "cooled":
            size = {"diameter": 0.1} | ({} if volume is None else {"length": volume / (math.pi * 0.1**2 / 4)})
            heat = {"heat": mo.Jacket(self.T - 10.0, U=self.UA_per_volume * 0.1 / 4)}
        return mo.PlugFlow(self.chemistry(), self.feed(), **size, **heat)

    def batch(self, time: float | None = None) -> mo.Batch:
        size = {} if time is None else {"time": time}
        heat: dict[str, Any] = self.heating(1e-3)
        capacity = {"heat_capacity": self.capacity} if self.heat != "isothermal" else {}
        return mo.Batch(self.chemistry(), dict(self.fed), volume=1e-3, T=self.T, **size, **heat, **capacity)


def _power(n: float) -> str:
    return f"^{n:g}" if n != 1 else ""


def _one(equation: str, law: str, nu: Mapping[str, float], constants: Mapping[str, float], rate: Any) -> Step:
    return Step(equation, law, nu, constants, rate)


def pick(rng: np.random.Generator, low: float, high: float) -> float:
    """A number between two, evenly by its logarithm."""
    return float(np.exp(rng.uniform(np.log(low), np.log(high))))


def kinetics(rng: np.random.Generator, kind: str) -> tuple[tuple[Step, ...], dict[str, float], float]:
    """Steps, concentrations fed in mol/m^3, and the time in s that the first step takes."""
    a0, tau = pick(rng, 10.0, 5000.0), pick(rng, 10.0, 1e5)
    if kind == "order":
        n = float(rng.choice([0.5, 0.75, 1.0, 1.5, 2.0, 3.0]))
        k = a0 ** (1 - n) / tau
        step = _one("A -> B", f"k*[A]{_power(n)}", {"A": -1, "B": 1}, {"k": k},
                    lambda c, p: p["k"] * max(c["A"], 0.0) ** n)  # fmt: skip
        return (step,), {"A": a0}, tau
    if kind == "two reactants":
        excess = float(rng.choice([1.0, pick(rng, 0.3, 5.0)]))
        step = _one("A + B -> C", "k*[A]*[B]", {"A": -1, "B": -1, "C": 1}, {"k": 1 / tau / a0},
                    lambda c, p: p["k"] * c["A"] * c["B"])  # fmt: skip
        return (step,), {"A": a0, "B": excess * a0}, tau
    if kind == "reversible":
        K = pick(rng, 0.1, 30.0)
        step = _one("A -> B", "k*([A] - [B]/K)", {"A": -1, "B": 1}, {"k": 1 / tau, "K": K},
                    lambda c, p: p["k"] * (c["A"] - c["B"] / p["K"]))  # fmt: skip
        return (step,), {"A": a0}, tau
    if kind == "consecutive":
        ratio = pick(rng, 0.03, 10.0)
        one = _one("A -> B", "k*[A]", {"A": -1, "B": 1}, {"k": 1 / tau}, lambda c, p: p["k"] * c["A"])
        two = _one("B -> C", "k2*[B]", {"B": -1, "C": 1}, {"k2": ratio / tau}, lambda c, p: p["k2"] * c["B"])
        return (one, two), {"A": a0}, tau
    if kind == "parallel":
        n, ratio = float(rng.choice([0.5, 1.0, 2.0])), pick(rng, 0.05, 5.0)
        one = _one("A -> B", "k*[A]", {"A": -1, "B": 1}, {"k": 1 / tau}, lambda c, p: p["k"] * c["A"])
        two = _one("A -> C", f"k2*[A]{_power(n)}", {"A": -1, "C": 1}, {"k2": ratio / tau * a0 ** (1 - n)},
                   lambda c, p: p["k2"] * max(c["A"], 0.0) ** n)  # fmt: skip
        return (one, two), {"A": a0}, tau
    if kind == "autocatalytic":
        seed = pick(rng, 1e-4, 0.1)
        step = _one("A + B -> 2 B", "k*[A]*[B]", {"A": -1, "B": 1}, {"k": 1 / tau / a0},
                    lambda c, p: p["k"] * c["A"] * c["B"])  # fmt: skip
        return (step,), {"A": a0, "B": seed * a0}, tau
    if kind == "saturation":
        K = a0 * pick(rng, 0.03, 10.0)
        step = _one("A -> B", "v*[A]/(K + [A])", {"A": -1, "B": 1}, {"v": (K + a0) / tau, "K": K},
                    lambda c, p: p["v"] * c["A"] / (p["K"] + c["A"]))  # fmt: skip
        return (step,), {"A": a0}, tau
    if kind == "inhibition":
        K = a0 * pick(rng, 0.03, 3.0)
        step = _one("A -> B", "k*[A]/(1 + [A]/K)^2", {"A": -1, "B": 1}, {"k": 1 / tau, "K": K},
                    lambda c, p: p["k"] * c["A"] / (1 + c["A"] / p["K"]) ** 2)  # fmt: skip
        return (step,), {"A": a0}, tau
    ratio = pick(rng, 0.01, 10.0)
    one = _one("A -> B", "k*[A]", {"A": -1, "B": 1}, {"k": 1 / tau}, lambda c, p: p["k"] * c["A"])
    two = _one("2 B -> C", "k2*[B]^2", {"B": -2, "C": 1}, {"k2": ratio / tau / a0},
               lambda c, p: p["k2"] * c["B"] ** 2)  # fmt: skip
    return (one, two), {"A": a0}, tau


def problem(rng: np.random.Generator, kinds: tuple[str, ...] = KINDS, heats: tuple[str, ...] = HEATS) -> Problem:
    """A random liquid problem."""
    kind = str(rng.choice(kinds))
    steps, fed, tau = kinetics(rng, kind)
    heat = str(rng.choice(heats))
    more: dict[str, Any] = {}
    if heat != "isothermal":
        rise = rng.uniform(-40.0, 120.0)
        more = {
            "heat": heat, "Ea": rng.uniform(2e4, 9e4), "enthalpy": -rise * 4e6 / fed["A"],
            "UA_per_volume": pick(rng, 0.1, 10.0) * 4e6 / tau if heat == "cooled" else 0.0,
        }  # fmt: skip
    return Problem(kind, steps, fed, pick(rng, 1e-5, 1e-2), tau, **more)


def gas_problem(rng: np.random.Generator) -> Problem:
    """A random isothermal gas whose moles change: A -> m B."""
    m = int(rng.choice([1, 2, 3]))
    n = float(rng.choice([1.0, 1.5, 2.0]))
    P = pick(rng, 5e4, 2e6)
    share = rng.uniform(0.2, 1.0)
    total = P / R / T_REF
    a0, tau = total * share, pick(rng, 1.0, 1e3)
    step = _one(f"A -> {m} B" if m > 1 else "A -> B", f"k*[A]{_power(n)}", {"A": -1, "B": m},
                {"k": a0 ** (1 - n) / tau}, lambda c, p: p["k"] * max(c["A"], 0.0) ** n)  # fmt: skip
    return Problem("gas", (step,), {"A": a0, "B": total - a0}, pick(rng, 1e-4, 1e-1), tau, gas_pressure=P)
