"""One metric of a vessel in a loop: by `with_` and a run, by an evaluator, in sweeps, its size and its optimum."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from importlib.util import find_spec
from math import exp, sqrt
from typing import Any

import numpy as np
from scipy.integrate import odeint
from scipy.optimize import brentq, minimize_scalar

import molino as mo
from molino.core.unit_tables import GAS_CONSTANT as R
from table import Pair, row

RTOL, ATOL = 1e-10, 1e-13
"""Those with which Molino runs, the absolute one as a fraction of the feed."""
FLOW, VOLUME, FED = 1e-4, 0.06, 2000.0
"""In SI: 6 L/min of 2 mol/L through 60 L."""
DORMAND_PRINCE = np.array([
    [0, 0, 0, 0, 0, 0, 0],
    [1 / 5, 0, 0, 0, 0, 0, 0],
    [3 / 40, 9 / 40, 0, 0, 0, 0, 0],
    [44 / 45, -56 / 15, 32 / 9, 0, 0, 0, 0],
    [19372 / 6561, -25360 / 2187, 64448 / 6561, -212 / 729, 0, 0, 0],
    [9017 / 3168, -355 / 33, 46732 / 5247, 49 / 176, -5103 / 18656, 0, 0],
    [35 / 384, 0, 500 / 1113, 125 / 192, -2187 / 6784, 11 / 84, 0],
    [71 / 57600, 0, -71 / 16695, 71 / 1920, -17253 / 339200, 22 / 525, -1 / 40],
])  # fmt: skip
"""Stages of J. R. Dormand, P. J. Prince, J. Comput. Appl. Math. 6 (1980) 19, and the difference of the two orders."""
HOT, CP = -40e3, 4.2e6
LAWS = [
    mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol"), enthalpy="-40 kJ/mol"),
    mo.Reaction("B -> C", k=mo.Arrhenius(k="0.05 1/min", at="330 K", Ea="60 kJ/mol"), enthalpy="-40 kJ/mol"),
]
FEED = mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="330 K", heat_capacity="4.2 MJ/m3/K")
CHEMISTRY = mo.Chemistry(LAWS)
METRIC = "conversion of A"


def constants(T: float) -> tuple[float, float]:
    over = -(1 / T - 1 / 330.0) / R
    return 0.2 / 60 * exp(80e3 * over), 0.05 / 60 * exp(60e3 * over)


def tube(T: float, flow: float = FLOW) -> float:
    k1, k2 = constants(T)

    def rhs(y: np.ndarray, V: float) -> list[float]:
        a, b, _ = y.tolist()
        r1, r2 = k1 * a / flow, k2 * b / flow
        return [-r1, r1 - r2, r2]

    fed = FED * flow
    return 1 - float(odeint(rhs, [fed, 0.0, 0.0], [0.0, VOLUME], rtol=RTOL, atol=ATOL * fed)[-1, 0]) / fed


def batch(T: float) -> float:
    k1, k2 = constants(T)

    def rhs(y: np.ndarray, t: float) -> list[float]:
        a, b, _ = y.tolist()
        r1, r2 = k1 * a, k2 * b
        return [-r1, r1 - r2, r2]

    return 1 - float(odeint(rhs, [FED, 0.0, 0.0], [0.0, 600.0], rtol=RTOL, atol=ATOL * FED)[-1, 0]) / FED


def adiabatic_tube(T0: float) -> float:
    def rhs(y: np.ndarray, V: float) -> list[float]:
        a, b, _, T = y.tolist()
        over = -(1 / T - 1 / 330.0) / R
        r1, r2 = 0.2 / 60 * exp(80e3 * over) * a / FLOW, 0.05 / 60 * exp(60e3 * over) * b / FLOW
        return [-r1, r1 - r2, r2, -HOT * (r1 + r2) / (CP * FLOW)]

    fed = FED * FLOW
    scale = np.array([fed, fed, fed, T0])
    end = odeint(rhs, [fed, 0.0, 0.0, T0], [0.0, VOLUME], rtol=RTOL, atol=ATOL * scale)[-1]
    return 1 - float(end[0]) / fed


SECOND = mo.Chemistry(
    mo.Reaction("A + B -> C", rate="k*[A]*[B]", k=mo.Arrhenius(k="1e-5 m3/mol/s", at="330 K", Ea="80 kJ/mol"))
)
TANK_FEED = mo.Feed({"A": "2 mol/L", "B": "2.5 mol/L"}, flow="6 L/min", T="330 K")


def tank(T: float) -> float:
    """A + B -> C: a quadratic equation for the extent."""
    k = 1e-5 * exp(-80e3 / R * (1 / T - 1 / 330.0)) * VOLUME / FLOW
    a, b = FED, 2500.0
    p = a + b + 1 / k
    return 2 * a * b / (p + sqrt(p * p - 4 * a * b)) / a


VESSELS: dict[str, tuple[Any, Callable[[float], float]]] = {
    "tube": (mo.PlugFlow(CHEMISTRY, FEED, volume="60 L"), tube),
    "batch": (mo.Batch(CHEMISTRY, FEED, time="10 min"), batch),
    "adiabatic tube": (mo.PlugFlow(CHEMISTRY, FEED, volume="60 L", heat="adiabatic"), adiabatic_tube),
    "tank (a quadratic equation by hand)": (mo.StirredTank(SECOND, TANK_FEED, volume="60 L"), tank),
}
REACH = {"tube": (0.9, 4.0), "batch": (0.9, 4.0), "adiabatic tube": (0.9, 4.0)}


def temperature(turn: int) -> float:
    return 330.0 + 1e-4 * turn


def by_with(name: str) -> Pair:
    vessel, script = VESSELS[name]

    def ours(turn: int) -> float:
        T = temperature(turn)
        changed = vessel.with_(feed=FEED.with_(T=T)) if "adiabatic" in name else vessel.with_(T=T)
        return changed.run().metric(METRIC)

    return Pair(ours, lambda turn: script(temperature(turn)))


def by_evaluator(name: str) -> Pair:
    vessel, script = VESSELS[name]
    held = mo.evaluator(vessel, ["T"], [METRIC])
    return Pair(lambda turn: held(temperature(turn)), lambda turn: script(temperature(turn)))


for _name in VESSELS:
    row(f"with_ and run, one metric: {_name}", 0.7)(lambda name=_name: by_with(name))
for _name in VESSELS:
    row(f"evaluator, one metric: {_name}", *REACH.get(_name, (1.0, 1.0)))(lambda name=_name: by_evaluator(name))


@cache
def tubes_at_the_limit() -> Callable[[np.ndarray, np.ndarray], np.ndarray]:
    """All tubes of a sweep on one core by numba: the pair of orders 5(4), written for these two reactions alone."""
    import numba

    A = DORMAND_PRINCE

    @numba.njit(error_model="numpy")
    def conversion(k1: float, k2: float, end: float) -> float:
        y, K, z = np.array([1.0, 0.0, 0.0]), np.empty((7, 3)), np.empty(3)
        t, h = 0.0, 0.01 * end
        while t < end:
            h = min(h, end - t)
            for s in range(7):
                for i in range(3):
                    z[i] = y[i]
                    for q in range(s):
                        z[i] += h * A[s, q] * K[q, i]
                K[s, 0] = -k1 * z[0]
                K[s, 1] = k1 * z[0] - k2 * z[1]
                K[s, 2] = k2 * z[1]
            error = 0.0
            for i in range(3):
                off = 0.0
                for s in range(7):
                    off += h * A[7, s] * K[s, i]
                error = max(error, abs(off) / (1e-13 + 1e-10 * max(abs(y[i]), abs(z[i]))))
            if error <= 1.0:
                t += h
                y[:] = z  # the last stage is the new state
            h *= min(5.0, max(0.2, 0.9 * max(error, 1e-10) ** -0.2))
        return 1 - y[0]

    @numba.njit(error_model="numpy")
    def conversions(k: np.ndarray, ends: np.ndarray) -> np.ndarray:
        found = np.empty(len(ends))
        for n in range(len(ends)):
            found[n] = conversion(k[n, 0], k[n, 1], ends[n])
        return found

    return conversions


def swept(
    vessel: Any, script: Callable[[float, float], float], temperatures: int, flows: int, has_limit: bool = False
) -> Pair:
    """A sweep over temperatures and flows."""

    def cases(turn: int) -> tuple[list[float], list[float]]:
        return (
            np.linspace(325.0, 335.0 + 1e-4 * turn, temperatures).tolist(),
            (FLOW * np.linspace(0.8, 1.2, flows)).tolist(),
        )

    def ours(turn: int) -> np.ndarray:
        T, flow = cases(turn)
        return mo.sweep(vessel, {"T": T, "flow": flow}, [METRIC]).values[METRIC].ravel()

    def by_hand(turn: int) -> list[float]:
        T, flow = cases(turn)
        return [script(t, q) for t in T for q in flow]

    def limit(turn: int) -> np.ndarray:
        T, flow = cases(turn)
        k = np.array([constants(t) for t in T for _ in flow])
        return tubes_at_the_limit()(k, VOLUME / np.tile(flow, len(T)))

    return Pair(ours, by_hand, limit if has_limit and find_spec("numba") else None)


for _count, _without, _fast in ((10, 1.0, 2.0), (1_000, 6.9, 15.0), (10_000, 9.3, 20.0)):
    row(f"sweep of {_count:,} tubes", _without, _fast)(
        lambda count=_count: swept(VESSELS["tube"][0], tube, count // 10, 10, has_limit=count > 10)
    )


@row("sweep of 1,000 tanks (a quadratic equation by hand)", 0.5)
def tanks() -> Pair:
    def script(T: float, flow: float) -> float:
        k = 1e-5 * exp(-80e3 / R * (1 / T - 1 / 330.0)) * VOLUME / flow
        p = FED + 2500.0 + 1 / k
        return 2 * 2500.0 / (p + sqrt(p * p - 4 * FED * 2500.0))

    return swept(VESSELS["tank (a quadratic equation by hand)"][0], script, 100, 10)


@row("sweep of 200 stiff batches", 2.2, 5.0)
def stiff_batches() -> Pair:
    laws = [
        mo.Reaction("A -> B", k="0.04 1/s"),
        mo.Reaction("2 B -> B + C", rate="k*[B]^2", k="3e4 m3/mol/s"),
        mo.Reaction("B + C -> A + C", rate="k*[B]*[C]", k="10 m3/mol/s"),
    ]
    vessel = mo.Batch(mo.Chemistry(laws), {"A": "1 mol/L"}, T="300 K", time="1000 s")

    def starts(turn: int) -> list[float]:
        return (1000.0 * np.linspace(0.5, 1.5 + 1e-4 * turn, 200)).tolist()

    def script(a0: float) -> float:
        def rhs(y: np.ndarray, t: float) -> list[float]:
            a, b, c = y.tolist()
            r1, r2, r3 = 0.04 * a, 3e4 * b * b, 10.0 * b * c
            return [r3 - r1, r1 - r2 - r3, r2]

        def jacobian(y: np.ndarray, t: float) -> list[list[float]]:
            _, b, c = y.tolist()
            return [[-0.04, 10 * c, 10 * b], [0.04, -6e4 * b - 10 * c, -10 * b], [0.0, 6e4 * b, 0.0]]

        end = odeint(rhs, [a0, 0, 0], [0.0, 1000.0], Dfun=jacobian, rtol=RTOL, atol=ATOL * a0, mxstep=10000)[-1]
        return 1 - float(end[0]) / a0

    def ours(turn: int) -> np.ndarray:
        return mo.sweep(vessel, {"[A]": starts(turn)}, [METRIC]).values[METRIC]

    return Pair(ours, lambda turn: [script(a) for a in starts(turn)])


@row("optimize one condition: the volume for most B", 0.5)
def optimum() -> Pair:
    vessel = VESSELS["tube"][0]

    def by_hand(turn: int) -> float:
        k1, k2 = constants(temperature(turn))

        def rhs(y: np.ndarray, V: float) -> list[float]:
            a, b = y.tolist()
            return [-k1 * a / FLOW, (k1 * a - k2 * b) / FLOW]

        def lost(V: float) -> float:
            return -float(odeint(rhs, [FED * FLOW, 0.0], [0.0, V], rtol=RTOL, atol=ATOL * FED * FLOW)[-1, 1])

        return minimize_scalar(lost, bounds=(0.005, 0.5), method="bounded", options={"xatol": 1e-7}).x

    def ours(turn: int) -> float:
        found = mo.optimize(
            vessel.with_(T=temperature(turn)), maximize="yield of B on A", free={"volume": ("5 L", "500 L")}
        )
        return found.vessel.volume.si

    return Pair(ours, by_hand, agree=1e-3)


def integrated_until(rhs: Callable[..., list[float]], start: list[float], near: float, A: float) -> float:
    """Where A reaches a tenth: a bracket on a coarse grid, then Newton's method on the solution from there."""
    y, at = np.array(start), 0.0
    grid = np.linspace(0.0, 2 * near, 21)
    way = odeint(rhs, y, grid, rtol=RTOL, atol=ATOL * A)
    n = int(np.argmax(way[:, 0] < 0.1 * A)) - 1
    y, at = way[n], grid[n]
    for _ in range(8):
        step = (y[0] - 0.1 * A) / -rhs(y, at)[0]
        if abs(step) < 1e-10 * at:
            break
        y, at = odeint(rhs, y, [at, at + step], rtol=RTOL, atol=ATOL * A)[-1], at + step
    return at


def tube_size(T: float) -> float:
    k1, k2 = constants(T)
    fed = FED * FLOW

    def rhs(y: np.ndarray, V: float) -> list[float]:
        a, b = y.tolist()
        r1 = k1 * a / FLOW
        return [-r1, r1 - k2 * b / FLOW]

    return integrated_until(rhs, [fed, 0.0], 2.3 * FLOW / k1, fed)


def batch_size(T: float) -> float:
    k1, k2 = constants(T)
    return integrated_until(lambda y, t: [-k1 * y[0], k1 * y[0] - k2 * y[1]], [FED, 0.0], 2.3 / k1, FED)


def adiabatic_tube_size(T0: float) -> float:
    def rhs(y: np.ndarray, V: float) -> list[float]:
        a, b, T = y.tolist()
        over = -(1 / T - 1 / 330.0) / R
        r1, r2 = 0.2 / 60 * exp(80e3 * over) * a / FLOW, 0.05 / 60 * exp(60e3 * over) * b / FLOW
        return [-r1, r1 - r2, -HOT * (r1 + r2) / (CP * FLOW)]

    return integrated_until(rhs, [FED * FLOW, 0.0, T0], 1.5 * FLOW / constants(T0)[0], FED * FLOW)


def tank_size(T: float) -> float:
    k = 1e-5 * exp(-80e3 / R * (1 / T - 1 / 330.0))
    a, b = 0.1 * FED, 2500.0 - 0.9 * FED
    return 0.9 * FED * FLOW / (k * a * b)


def adiabatic_tank_size(T0: float) -> float:
    """At nine tenths the energy balance gives T by a scalar equation, as the second reaction takes part."""

    def off(T: float) -> float:
        k1, k2 = constants(T)
        V = 9 * FLOW / k1
        b = k1 * V * 0.1 * FED / (FLOW + k2 * V)
        return CP * FLOW * (T - T0) + HOT * V * (k1 * 0.1 * FED + k2 * b)

    return 9 * FLOW / constants(brentq(off, T0, T0 + 60.0, xtol=1e-10, rtol=1e-14))[0]


HOT_TANK = mo.StirredTank(CHEMISTRY, FEED, volume="60 L", heat="adiabatic")
SIZES: dict[str, tuple[Any, Callable[[float], float], float]] = {
    "tube": (VESSELS["tube"][0], tube_size, 2.0),
    "batch": (VESSELS["batch"][0], batch_size, 2.0),
    "adiabatic tube": (VESSELS["adiabatic tube"][0], adiabatic_tube_size, 2.0),
    "tank (algebra by hand)": (VESSELS["tank (a quadratic equation by hand)"][0], tank_size, 0.7),
    "adiabatic tank (one equation by hand)": (HOT_TANK, adiabatic_tank_size, 0.7),
}


def sized(name: str) -> Pair:
    vessel, script, _ = SIZES[name]

    def ours(turn: int) -> float:
        T = temperature(turn)
        changed = vessel.with_(feed=FEED.with_(T=T)) if "adiabatic" in name else vessel.with_(T=T)
        return mo.size(changed, METRIC, 0.9).value

    return Pair(ours, lambda turn: script(temperature(turn)))


for _name, (_, _, _reach) in SIZES.items():
    row(f"size for conversion: {_name}", _reach)(lambda name=_name: sized(name))


@row("sweep of 50 trains with recycle", 0.5, 5.0)
def trains() -> Pair:
    """A tank and a tube, a part of the outlet returned; by hand the outlet by `brentq`."""
    law = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k="1 L/mol/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    steps = [mo.StirredTank(law, feed, volume="2 L"), mo.PlugFlow(law, feed, volume="5 L")]
    train = mo.Train(steps, recycle=0.5)

    def ratios(turn: int) -> list[float]:
        return np.linspace(0.2, 1.5 + 1e-4 * turn, 50).tolist()

    def script(ratio: float) -> float:
        k, q = 1e-3 / 60, 1e-3 / 60 * (1 + ratio)

        def off(out: float) -> float:
            fed = (1000.0 + ratio * out) / (1 + ratio)
            tau = 2e-3 / q
            a = (sqrt(1 + 4 * k * tau * fed) - 1) / (2 * k * tau)
            end = odeint(lambda y, V: -k * y * y / q, a, [0.0, 5e-3], rtol=RTOL, atol=ATOL * 1000.0)[-1, 0]
            return end - out

        return 1 - brentq(off, 0.0, 1000.0, xtol=1e-9) / 1000.0

    def ours(turn: int) -> np.ndarray:
        return mo.sweep(train, {"recycle": ratios(turn)}, [METRIC]).values[METRIC]

    return Pair(ours, lambda turn: [script(r) for r in ratios(turn)])
