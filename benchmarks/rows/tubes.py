"""A packed bed, and a tube with dispersion."""

from __future__ import annotations

from importlib.resources import files
from math import exp
from pathlib import Path

import numpy as np
from scipy.integrate import odeint, solve_bvp

import molino as mo
from molino.core.balances.integrate import integrate
from molino.core.unit_tables import GAS_CONSTANT as R
from table import Pair, row

ETHER = ("methanol", "ether", "water")
BED_POINTS = np.linspace(0.0, 420 * np.pi / 4 * 0.07**2 * 6.0, 101)
"""Volume of the bed passed, m^3."""
BED_CP = np.array([[21.2, 0.0709, 2.59e-5], [17.0, 0.1791, 0.0], [32.2, 0.0019, 1.06e-5]])
BED_FORMATION = np.array([-201.0e3, -184.0e3, -241.8e3])


def bed(
    inlet: np.ndarray, T: float, P: float, area: float, masses: np.ndarray, points: np.ndarray = BED_POINTS,
    rtol: float = 1e-8, atol: float = 1e-11,
) -> np.ndarray:  # fmt: skip
    """The adiabatic packed bed of the ether example (no pores): flows in mol/s, T, P along its volume."""
    bulk, voidage, particle, viscosity = 1450 * 0.59, 0.41, 3e-3, 1.9e-5
    flux = float(inlet @ masses) / area
    friction = 150 * viscosity * (1 - voidage) ** 2 / (voidage**3 * particle**2)
    friction += 1.75 * (1 - voidage) / (voidage**3 * particle) * flux
    (a1, b1, c1), (a2, b2, c2), (a3, b3, c3) = BED_CP.tolist()
    a, b, c = (np.array([-2.0, 1.0, 1.0]) @ BED_CP).tolist()
    formed = float(np.array([-2.0, 1.0, 1.0]) @ BED_FORMATION)

    def rhs(y: np.ndarray, V: float) -> list[float]:
        F1, F2, F3, T, P = y.tolist()
        whole = F1 + F2 + F3
        p1, p2, p3 = F1 / whole * P, F2 / whole * P, F3 / whole * P
        over, third = 1 / T - 1 / 553.15, 1 / T - 1 / 573.15
        k = 9e-5 / 1e10 * exp(-92e3 / R * over)
        K = 11.0 * exp(23.8e3 / R * third)
        Km, Kw = 0.05e-5 * exp(35e3 / R * over), 0.42e-5 * exp(50e3 / R * over)
        rate = bulk * k * (p1 * p1 - p2 * p3 / K) / (1 + Km * p1 + Kw * p3) ** 2
        Cp = F1 * (a1 + b1 * T + c1 * T * T) + F2 * (a2 + b2 * T + c2 * T * T) + F3 * (a3 + b3 * T + c3 * T * T)
        heat = formed + a * (T - 298.15) + b / 2 * (T**2 - 298.15**2) + c / 3 * (T**3 - 298.15**3)
        density = flux * area / (whole * R * T / P)
        return [-2 * rate, rate, rate, -heat * rate / Cp, -friction * flux / density / area]

    scales = np.array([*[inlet.sum()] * 3, T, P])
    return odeint(rhs, [*inlet, T, P], points, rtol=rtol, atol=atol * scales)


@row("packed bed: 3 species, T and P, adiabatic, 101 rows", 1.0)
def packed_bed() -> Pair:
    """The bed of the ether example, without pores."""
    given = mo.load_job(Path(str(files("molino.demo") / "ether.toml"))).vessels["bed"]
    vessel = given.with_(catalyst=mo.Catalyst(particle_density=1450.0, voidage=0.41, particle_diameter=3e-3))
    inlet = np.array([vessel.spec.fed.concentrations.get(s, 0.0) * vessel.spec.fed.volume for s in ETHER])
    masses = np.array([vessel.spec.species_by_name[s].require("molar_mass", "this").si for s in ETHER])
    names = vessel.spec.case.balances.names
    order = [names.index(n) for n in (*ETHER, "T", "P")]
    area, T, P = vessel.spec.cross_section(), vessel.feed.T.si, vessel.feed.P.si

    def points(turn: int) -> np.ndarray:
        return BED_POINTS * (1 - 1e-9 * turn)

    return Pair(
        lambda turn: integrate(vessel.spec.case, points(turn), rtol=1e-8, atol=1e-11).states[:, order],
        lambda turn: bed(inlet, T, P, area, masses, points(turn)),
        agree=1e-5,
    )


@row("dispersed tube: second order, Peclet number 20", 1.0)
def dispersed() -> Pair:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k="1 L/mol/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube = mo.DispersedTube(chemistry, feed, volume="5 L", dispersion=mo.Dispersion(peclet=20))

    def volume(turn: int) -> float:
        return 5e-3 * (1 + 1e-5 * turn)

    def ours(turn: int) -> float:
        return tube.with_(volume=volume(turn)).run().conversion("A")

    def by_hand(turn: int) -> float:
        Da, Pe = volume(turn) / 1e-3, 20.0
        z = np.linspace(0.0, 1.0, 41)
        found = solve_bvp(
            lambda z, y: np.array([y[1], Pe * (y[1] + Da * y[0] ** 2)]),
            lambda a, b: np.array([a[0] - a[1] / Pe - 1.0, b[1]]),
            z,
            np.array([np.exp(-z), -np.exp(-z)]),
            fun_jac=lambda z, y: np.array([[0 * z, 1 + 0 * z], [2 * Pe * Da * y[0], Pe + 0 * z]]),
            bc_jac=lambda a, b: (np.array([[1.0, -1 / Pe], [0, 0]]), np.array([[0, 0], [0, 1.0]])),
            tol=1e-9,  # of equal accuracy: both err by less than 1e-13
            max_nodes=100_000,
        )
        return 1 - float(found.y[0, -1])

    return Pair(ours, by_hand)
