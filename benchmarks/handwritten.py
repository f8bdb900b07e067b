"""The scripts that a competent engineer would write by hand with NumPy and SciPy, to time Molino against."""

from __future__ import annotations

from math import exp

import numpy as np
from scipy import sparse
from scipy.integrate import odeint, solve_ivp
from scipy.optimize import fsolve, least_squares, minimize
from scipy.sparse.linalg import splu

R = 8.31446261815324
RTOL, ATOL = 1e-10, 1e-13  # those that Molino works with, concentrations in mol/L

# --- six states, four reactions, adiabatic: A + B -> C, C -> A + B, C + B -> D, D -> E, and the temperature ---
FACTORS = np.array([2.0e7, 4.0e9, 6.0e6, 3.0e5])  # 1/s or m^3/mol/s
ENERGIES = np.array([6.0e4, 8.5e4, 6.2e4, 5.5e4])  # J/mol
HEATS = np.array([-4.0e4, 4.0e4, -3.0e4, -1.5e4])  # J/mol
HEAT_CAPACITY = 4.0e6  # J/m^3/K
COEFFICIENTS = np.array(
    [[-1, 1, 0, 0], [-1, 1, -1, 0], [1, -1, -1, 0], [0, 0, 1, -1], [0, 0, 0, 1]], dtype=float
)  # fmt: skip
ADIABATIC_START = np.array([1000.0, 1500.0, 0.0, 0.0, 0.0, 330.0])
ADIABATIC_TIMES = np.linspace(0.0, 600.0, 101)


def adiabatic_rhs(y: np.ndarray, t: float) -> list[float]:
    a, b, c, d, _, temperature = y.tolist()
    over = -1 / (R * temperature)
    r1 = 2.0e7 * exp(6.0e4 * over) * a * b * 1e-3
    r2 = 4.0e9 * exp(8.5e4 * over) * c
    r3 = 6.0e6 * exp(6.2e4 * over) * c * b * 1e-3
    r4 = 3.0e5 * exp(5.5e4 * over) * d
    return [
        r2 - r1, r2 - r1 - r3, r1 - r2 - r3, r3 - r4, r4, (4.0e4 * (r1 - r2) + 3.0e4 * r3 + 1.5e4 * r4) / HEAT_CAPACITY
    ]  # fmt: skip


def adiabatic() -> np.ndarray:
    return odeint(adiabatic_rhs, ADIABATIC_START, ADIABATIC_TIMES, rtol=1e-8, atol=1e-8)


# --- three states, isothermal: A -> B -> C in a batch ---
SERIES_TIMES = np.linspace(0.0, 10.0, 101)


def series_rhs(y: np.ndarray, t: float) -> list[float]:
    a, b, _ = y.tolist()
    r1, r2 = 0.5 * a, 0.2 * b
    return [-r1, r1 - r2, r2]


def series() -> np.ndarray:
    return odeint(series_rhs, [1.0, 0.0, 0.0], SERIES_TIMES, rtol=1e-8, atol=1e-11)


# --- stiff: three species, constants 0.04, 1e4, 3e7 ---
STIFF_TIMES = np.concatenate([[0.0], np.logspace(-5, 8, 100)])


def stiff_rhs(y: np.ndarray, t: float) -> list[float]:
    a, b, c = y.tolist()
    r1, r2, r3 = 0.04 * a, 1e4 * b * c, 3e7 * b * b
    return [r2 - r1, r1 - r2 - r3, r3]


def stiff_jacobian(y: np.ndarray, t: float) -> list[list[float]]:
    _, b, c = y.tolist()
    return [[-0.04, 1e4 * c, 1e4 * b], [0.04, -1e4 * c - 6e7 * b, -1e4 * b], [0.0, 6e7 * b, 0.0]]


def stiff() -> np.ndarray:
    return odeint(stiff_rhs, [1.0, 0.0, 0.0], STIFF_TIMES, Dfun=stiff_jacobian, rtol=1e-8, atol=1e-13, mxstep=5000)


# --- stiff: twenty species, twenty-five reactions of the first and second order, constants from 1e-3 to 1e6 ---
LARGER_SPECIES = 20
_random = np.random.default_rng(4)
LARGER_REACTIONS: list[tuple[list[int], list[int], float]] = []
"""Reactants, products and constant of each reaction; amounts of half a unit of the first four at the beginning."""
for _n in range(25):
    _left = [_n % 20] if _n % 3 else [_n % 20, int(_random.integers(0, 20))]
    _right = [int(_random.integers(0, 20)) for _ in _left] if _n >= 20 else [(_n + 1) % 20, *_left[1:]]
    LARGER_REACTIONS.append((_left, _right, float(10 ** _random.uniform(-3, 6))))
LARGER_TIMES = np.concatenate([[0.0], np.logspace(-6, 4, 100)])
LARGER_START = np.array([1.0 if i < 4 else 0.0 for i in range(20)])


def _written_out() -> str:
    """The lines that one would write: each rate and balance, and each entry of the Jacobian."""
    rates, slopes = [], {}
    signs: list[dict[int, int]] = []
    for n, (left, right, k) in enumerate(LARGER_REACTIONS):
        rates.append(f"r{n} = {k!r} * " + " * ".join(f"y{i}" for i in left))
        sign: dict[int, int] = {}
        for i in left:
            sign[i] = sign.get(i, 0) - 1
        for i in right:
            sign[i] = sign.get(i, 0) + 1
        signs.append({i: v for i, v in sign.items() if v})
        for j in set(left):
            others = left.copy()
            others.remove(j)
            slopes[n, j] = " * ".join([repr(k * left.count(j)), *(f"y{i}" for i in others)])
    balances, entries = [], dict[tuple[int, int], list[str]]()
    for i in range(LARGER_SPECIES):
        balances.append(" ".join(f"{v:+d} * r{n}" if abs(v) > 1 else f"{'+-'[v < 0]} r{n}"
                                 for n, s in enumerate(signs) if (v := s.get(i, 0))) or "0.0")  # fmt: skip
    for (n, j), _ in slopes.items():
        for i, v in signs[n].items():
            entries.setdefault((i, j), []).append(f"{v:+d} * d{n}_{j}" if abs(v) > 1 else f"{'+-'[v < 0]} d{n}_{j}")
    names = ", ".join(f"y{i}" for i in range(LARGER_SPECIES))
    lines = ["def larger_rhs(y, t):", f"    {names} = y.tolist()", *(f"    {r}" for r in rates)]
    lines += [f"    return [{', '.join(balances)}]", "", "def larger_jacobian(y, t):", f"    {names} = y.tolist()"]
    lines += [f"    d{n}_{j} = {text}" for (n, j), text in slopes.items()]
    lines += [f"    J = zeros(({LARGER_SPECIES}, {LARGER_SPECIES}))"]
    lines += [f"    J[{i}, {j}] = {' '.join(terms)}" for (i, j), terms in entries.items()]
    return "\n".join([*lines, "    return J"])


_larger = {"zeros": np.zeros}
exec(_written_out(), _larger)


def larger() -> np.ndarray:
    return odeint(
        _larger["larger_rhs"], LARGER_START, LARGER_TIMES, Dfun=_larger["larger_jacobian"], rtol=1e-8, atol=1e-13,
        mxstep=5000,
    )  # fmt: skip


# --- one case of a tube: A -> B -> C over temperature, conversion at its end ---
def tube_case(T: float) -> float:
    over = -1 / R * (1 / T - 1 / 330.0)
    k1, k2 = 0.2 / 60 * exp(80e3 * over), 0.05 / 60 * exp(60e3 * over)

    def rhs(y: np.ndarray, V: float) -> list[float]:
        a, b, _ = y.tolist()
        r1, r2 = k1 * a / 1e-4, k2 * b / 1e-4
        return [-r1, r1 - r2, r2]

    end = odeint(rhs, [0.2, 0.0, 0.0], [0.0, 0.06], rtol=RTOL, atol=ATOL * 0.2)[-1] / 1e-4
    return 1 - float(end[0]) / 2000.0


# --- the demo's fit: xylose -> furfural -> resin, four constants, six runs ---
def fit_demo(runs: list[dict]) -> np.ndarray:
    """Least squares with slopes by finite differences, weights found in rounds as in a first fit and a second."""

    def model(p: np.ndarray, run: dict) -> np.ndarray:
        scale = np.exp(-p[[1, 3]] * 1e3 / R * (1 / run["T"] - 1 / 438.15))
        k1, k2 = p[[0, 2]] * scale * run["acid"]

        def rhs(t: float, y: np.ndarray) -> list[float]:
            r1, r2 = k1 * y[0], k2 * y[1]
            return [-r1, r1 - r2]

        start = [run["xylose0"], 0.0]
        times = run["t"]
        found = solve_ivp(rhs, (0, times[-1]), start, method="LSODA", t_eval=times, rtol=RTOL, atol=ATOL)
        return found.y

    spread = np.array([1.0, 1.0])
    p = np.array([0.1, 110.0, 0.01, 110.0])
    for _ in range(4):

        def residuals(p: np.ndarray, spread: np.ndarray = spread) -> np.ndarray:
            parts = []
            for run in runs:
                calculated = model(p, run)
                parts += [(calculated[0] - run["xylose"]) / spread[0], (calculated[1] - run["furfural"]) / spread[1]]
            return np.concatenate(parts)

        found = least_squares(residuals, p, x_scale=np.abs(p))
        p, plain = found.x, found.fun
        taken = np.sum(np.linalg.qr(found.jac * p)[0] ** 2, axis=1)  # of each degree of freedom by the constants
        first = np.concatenate([np.r_[np.ones(len(r["t"]), bool), np.zeros(len(r["t"]), bool)] for r in runs])
        spread = spread * [np.sqrt(np.sum(plain[own] ** 2) / np.sum(1 - taken[own])) for own in (first, ~first)]
    return p


# --- a five-constant scheme, A -> B, A -> C, C -> D, C <-> E, from a guess a factor of two off ---
FIVE_TIMES = np.array([1230, 3060, 4920, 7800, 10680, 15030, 22620, 36420], dtype=float)
FIVE_TRUTH = np.array([5.9e-5, 3.0e-5, 2.0e-5, 2.7e-4, 4.0e-5])
FIVE_GUESS = FIVE_TRUTH * np.array([2.0, 0.5, 2.0, 0.5, 2.0])


def five_curves(k: np.ndarray) -> np.ndarray:
    """Concentrations of A to E at the samples, shape (samples, 5), from 100 of A."""

    def rhs(t: float, y: np.ndarray) -> list[float]:
        a, _, c, _, e = y
        r1, r2, r3, r4 = k[0] * a, k[1] * a, k[2] * c, k[3] * c - k[4] * e
        return [-r1 - r2, r1, r2 - r3 - r4, r3, r4]

    found = solve_ivp(
        rhs, (0, FIVE_TIMES[-1]), [100.0, 0, 0, 0, 0], method="LSODA", t_eval=FIVE_TIMES, rtol=RTOL, atol=100 * ATOL
    )
    return found.y.T


def fit_five(measured: np.ndarray) -> np.ndarray:
    """Ordinary least squares over the logarithms of the constants, slopes by finite differences."""
    found = least_squares(
        lambda p: (five_curves(np.exp(p)) - measured).ravel(), np.log(FIVE_GUESS), xtol=1e-10, ftol=1e-10, gtol=1e-12
    )
    return np.exp(found.x)


# --- one call of the right-hand side of a large network, vectorised ---
def network_rhs(
    matrix: np.ndarray, constants: np.ndarray, first: np.ndarray, second: np.ndarray, y: np.ndarray
) -> np.ndarray:
    """Rates k a b for all reactions at once (a lone reactant meets a one behind the last species)."""
    c = np.append(y, 1.0)
    return matrix @ (constants * c[first] * c[second])


# --- a thousand cases: a tank and a tube each, xylose -> furfural -> resin at other temperatures and flows ---
def thousand(cases: np.ndarray, constants: np.ndarray, volume: float) -> np.ndarray:
    """Conversion in a tank and a tube for rows of (temperature, flow); constants k1, E1, k2, E2 in SI at 438.15 K."""
    found = []
    feed = np.array([350.0, 0.0, 0.0, 0.0, 100.0])
    matrix = np.array([[-1.0, 0.0], [1.0, -1.0], [3.0, 0.0], [0.0, 1.0], [0.0, 0.0]])
    for temperature, flow in cases:
        k = constants[[0, 2]] * np.exp(-constants[[1, 3]] / R * (1 / temperature - 1 / 438.15))

        def rates(c: np.ndarray, k: np.ndarray = k) -> np.ndarray:
            return matrix @ (k * c[:2] * c[4])

        k1, k2 = k.tolist()

        def along(c: np.ndarray, v: float, q: float = flow, k1: float = k1, k2: float = k2) -> list[float]:
            xylose, furfural, _, _, acid = c.tolist()
            r1, r2 = k1 * xylose * acid / q, k2 * furfural * acid / q
            return [-r1, r1 - r2, 3 * r1, r2, 0.0]

        tank = fsolve(lambda c, q=flow, r=rates: q * (feed - c) + volume * r(c), feed, xtol=1e-10)
        tube = odeint(along, feed, [0.0, volume], rtol=RTOL, atol=ATOL * 450)[-1]
        found.append([1 - tank[0] / 350.0, 1 - tube[0] / 350.0])
    return np.array(found)


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


def beds(rows: np.ndarray, area: float, masses: np.ndarray, P: float) -> np.ndarray:
    """Conversion of methanol for rows of (T, molar flow of methanol)."""
    ends = BED_POINTS[[0, -1]]
    found = [bed(np.array([F, 0.0, 0.0]), T, P, area, masses, ends, RTOL, ATOL)[-1, 0] / F for T, F in rows]
    return 1 - np.array(found)


GASES = {
    "CH4": (-74.9, 186.3, 50.0), "H2O": (-241.8, 188.8, 37.0), "CO": (-110.5, 197.7, 31.0),
    "CO2": (-393.5, 213.8, 48.0),
    "H2": (0.0, 130.7, 29.5), "N2": (0.0, 191.6, 30.0), "O2": (0.0, 205.2, 33.0), "OH": (39.0, 183.7, 31.0),
    "H": (218.0, 114.7, 20.8), "O": (249.2, 161.1, 20.8), "N": (472.7, 153.3, 20.8), "NO": (90.3, 210.8, 32.0),
    "NO2": (33.2, 240.1, 45.0), "NH3": (-45.9, 192.8, 45.0), "HCN": (135.1, 201.8, 45.0), "C2H2": (226.7, 200.9, 60.0),
    "C2H4": (52.5, 219.3, 70.0), "CH3": (145.7, 194.2, 45.0), "CH2O": (-108.6, 218.9, 50.0), "N2O": (82.1, 219.9, 48.0),
}  # fmt: skip
"""Rounded textbook values: enthalpy of formation in kJ/mol, entropy and heat capacity in J/(mol K)."""
ATOMS = np.array([
    [1, 4, 0, 0], [0, 2, 1, 0], [1, 0, 1, 0], [1, 0, 2, 0], [0, 2, 0, 0], [0, 0, 0, 2], [0, 0, 2, 0], [0, 1, 1, 0],
    [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1], [0, 0, 1, 1], [0, 0, 2, 1], [0, 3, 0, 1], [1, 1, 0, 1], [2, 2, 0, 0],
    [2, 4, 0, 0], [1, 3, 0, 0], [1, 2, 1, 0], [0, 0, 1, 2],
], dtype=float)  # fmt: skip
BURNT = np.array([1.0, 0, 0, 0, 0, 6.0, 1.6, *[0.0] * 13])
"""Methane in some air, in mol."""


def least_gibbs(T: float, bar: float = 10.0) -> np.ndarray:
    """Amounts of twenty gases at equilibrium: by sequential quadratic programming, exact gradient."""
    numbers = np.array(list(GASES.values()))
    h = numbers[:, 0] * 1e3 + numbers[:, 2] * (T - 298.15)
    s = numbers[:, 1] + numbers[:, 2] * np.log(T / 298.15)
    g = (h / T - s) / R + np.log(bar)
    totals = BURNT @ ATOMS

    def energy(n: np.ndarray) -> tuple[float, np.ndarray]:
        mu = g + np.log(n / n.sum())
        return float(n @ mu), mu

    kept = {"type": "eq", "fun": lambda n: n @ ATOMS - totals, "jac": lambda n: ATOMS.T}
    found = minimize(energy, np.full(20, 0.4), jac=True, method="SLSQP", bounds=[(1e-12, None)] * 20,
                     constraints=[kept], options={"ftol": 1e-12, "maxiter": 500})  # fmt: skip
    return found.x


def basin_field(psi: np.ndarray, n: int, D: float, k: float, c_fed: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A basin of 4 m by 2 m, n by n cells: the stream function by five points from its values on the sides, central
    differences for what is carried and diffuses, one factorization each. Returns c, the matrix and what is fed."""
    dx, dy = 4 / n, 2 / n
    node = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    inner = node[1:-1, 1:-1].ravel()
    sides = np.setdiff1d(node.ravel(), inner)
    along = [sparse.diags([1.0, -2.0, 1.0], [-1, 0, 1], (n + 1, n + 1)) / d**2 for d in (dx, dy)]
    laplace = (sparse.kron(along[0], sparse.eye(n + 1)) + sparse.kron(sparse.eye(n + 1), along[1])).tocsr()
    found = psi.ravel().copy()
    solver = splu(laplace[inner][:, inner].tocsc(), permc_spec="MMD_AT_PLUS_A")
    found[inner] = solver.solve(-(laplace[inner][:, sides] @ found[sides]))
    field = found.reshape(n + 1, n + 1)
    u, v, cell = np.diff(field, axis=1), -np.diff(field, axis=0), np.arange(n * n).reshape(n, n)
    parts = []
    for a, b, F, g in (
        (cell[:-1], cell[1:], u[1:-1], D * dy / dx),
        (cell[:, :-1], cell[:, 1:], v[:, 1:-1], D * dx / dy),
    ):
        a, b, F = a.ravel(), b.ravel(), F.ravel()
        parts += [(a, a, F / 2 + g), (a, b, F / 2 - g), (b, a, -F / 2 - g), (b, b, -F / 2 + g)]
    parts.append((cell[-1], cell[-1], u[-1]))
    rows, columns, values = (np.concatenate([part[i] for part in parts]) for i in range(3))
    matrix = sparse.coo_matrix((values, (rows, columns)), (n * n, n * n)).tocsc()
    fed = np.zeros(n * n)
    fed[cell[0]] = u[0]
    c = splu((matrix + sparse.diags(np.full(n * n, k * dx * dy))).tocsc()).solve(fed * c_fed)
    return c, matrix, fed


def basin_tracer(matrix: sparse.csc_matrix, fed: np.ndarray, area: float, dt: float, steps: int) -> np.ndarray:
    """A step of tracer through it by Crank and Nicolson's method; F at the outlet, as the volume fills."""
    V = np.full(len(fed), area)
    solver = splu((sparse.diags(V / dt) + matrix / 2).tocsc())
    explicit = (sparse.diags(V / dt) - matrix / 2).tocsr()
    out = np.asarray(matrix.sum(axis=0)).ravel()  # what leaves each cell through the outlet
    c, found = np.zeros(len(fed)), []
    for _ in range(steps):
        c = solver.solve(explicit @ c + fed)
        found.append(out @ c / out.sum())
    return np.array(found)
