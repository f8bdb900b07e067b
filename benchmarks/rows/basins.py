"""The field and the tracer of a basin."""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

import molino as mo
from molino.core.fields.basin_field import BasinField
from table import Pair, row


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


DIFFUSIVITY = 1e-2
"""In m2/s: so large that central differences, which the script uses, are bounded in all but a few cells."""


def basin(k: float, cells: int = 200) -> mo.fields.Basin:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=k))
    inlet = mo.fields.Inlet("left", ("0 m", "0.5 m"), mo.Feed({"A": "1 mol/L"}, flow="20 L/s"))
    outlet = mo.fields.Outlet("right", ("1.5 m", "2 m"))
    return mo.fields.Basin(
        chemistry, length="4 m", width="2 m", depth="1 m", inlets=inlet, outlets=outlet, diffusivity=DIFFUSIVITY,
        cells=(cells, cells),
    )  # fmt: skip


def solved(vessel: mo.fields.Basin) -> np.ndarray:
    return BasinField(vessel, vessel.spec.grid).steady().c[0]


@row("basin of 200 x 200 cells: flow and field", 1.5)
def field() -> Pair:
    first = basin(0.2 / 60)
    psi = BasinField(first, first.spec.grid).flow.psi

    def k(turn: int) -> float:
        return 0.2 / 60 * (1 + 1e-6 * turn)

    return Pair(
        lambda turn: solved(basin(k(turn))),
        lambda turn: basin_field(psi, 200, DIFFUSIVITY, k(turn), 1000.0)[0],
        agree=1e-4,
    )


@row("basin of 200 x 200 cells: 100 steps of a tracer", 1.5)
def steps() -> Pair:
    vessel = basin(0.2 / 60)
    held = BasinField(vessel, vessel.spec.grid)
    _, matrix, fed = basin_field(held.flow.psi, 200, DIFFUSIVITY, 0.2 / 60, 1000.0)
    end = float(held.distribution(DIFFUSIVITY, 10, None).times[-1])

    def by_hand(turn: int) -> np.ndarray:
        count = 100 + turn % 3
        return basin_tracer(matrix, fed, 8 / 200**2, end / count, count)[::10]

    # Both are of second order in time, by different formulas: their difference falls to a quarter with half the step.
    return Pair(lambda turn: held.distribution(DIFFUSIVITY, 100 + turn % 3, None).F[1::10], by_hand, agree=5e-3)
