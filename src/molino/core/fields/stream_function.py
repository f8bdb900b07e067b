"""Flow in a rectangle by its stream function on the nodes of a grid: divergence-free to rounding.

The flow through a face is the difference of the stream function between its nodes, so that every cell is balanced.
Among all such flows that satisfy the conditions at openings and walls

- the potential flow has the least kinetic energy, sum of u^2/2;
- the creeping flow has the least dissipation, sum of |grad u|^2/2 with no slip on the walls (H. von Helmholtz, 1868);
- the laminar flow balances its momentum, sum over the faces of (nu grad u . grad w + w . div(u u)) = 0 for every flow w
  that meets homogeneous conditions, so that the pressure is eliminated; by Newton's method.

Velocities are on the faces, their gradients at cells and nodes (F. H. Harlow, J. E. Welch, Phys. Fluids 8 (1965) 2182),
of second order. On a wall the stream function is constant: given, or unknown for a wall that does not touch a side and
for the part between two free outlets. A free outlet is without friction and at constant pressure.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from molino.core.errors import SolveError
from molino.core.fields.grid import Grid

_CONVERGED = 1e-10
_MOST_NEWTON = 25
_EASIER = 30.0
"""First viscosity of the continuation, relative to the given one, if Newton's method fails from the creeping flow."""
_LONG, _SHORT = 0.7, 0.01
"""Steps of the logarithm of the viscosity of the continuation: the first, and the shortest."""


@dataclass(frozen=True, eq=False)
class FlowConditions:
    """The conditions of a flow on its grid.

    Attributes
    ----------
    held : array, shape (nx + 1, ny + 1)
        The stream function in m^2/s where it is given, relative to the value of its group if it has one; nan elsewhere.
    groups : integer array of the same shape
        Nodes whose walls have one unknown value in common; -1 for none.
    blocked_x, blocked_y : boolean arrays over the faces
        Inner walls: impermeable faces.
    slips : mapping of side to boolean array
        Along each side, by node: whether it is a free outlet, without friction.
    lid : mapping of side to float
        Velocity along a side that moves.
    """

    held: np.ndarray
    groups: np.ndarray
    blocked_x: np.ndarray
    blocked_y: np.ndarray
    slips: dict[str, np.ndarray]
    lid: dict[str, float]


@dataclass(frozen=True, eq=False)
class Flow:
    """A flow on a grid: the stream function, and the flows through the faces per depth, in m^2/s.

    Attributes
    ----------
    grid : Grid
    psi : array, shape (nx + 1, ny + 1)
    iterations : int
        Of Newton's method.
    """

    grid: Grid
    psi: np.ndarray
    iterations: int = 0

    @cached_property
    def through_x(self) -> np.ndarray:
        """Through the faces normal to x, shape (nx + 1, ny)."""
        return np.diff(self.psi, axis=1)

    @cached_property
    def through_y(self) -> np.ndarray:
        """Through the faces normal to y, shape (nx, ny + 1)."""
        return -np.diff(self.psi, axis=0)

    @cached_property
    def velocity(self) -> tuple[np.ndarray, np.ndarray]:
        """Along x and along y in the middles of the cells, in m/s, each of shape (nx, ny)."""
        u, v = self.through_x / self.grid.dy, self.through_y / self.grid.dx[:, None]
        return (u[1:] + u[:-1]) / 2, (v[:, 1:] + v[:, :-1]) / 2

    @property
    def speed(self) -> np.ndarray:
        """In the middles of the cells, in m/s."""
        return np.asarray(np.hypot(*self.velocity))


class FlowProblem:
    """The matrices of a flow on a grid.

    Parameters
    ----------
    grid : Grid
    conditions : FlowConditions
    """

    def __init__(self, grid: Grid, conditions: FlowConditions) -> None:
        self.grid, self.conditions = grid, conditions
        self.shape = (grid.nx + 1, grid.ny + 1)
        self.node = np.arange(self.shape[0] * self.shape[1]).reshape(self.shape)
        self.x_face = np.arange((grid.nx + 1) * grid.ny).reshape(grid.nx + 1, grid.ny)
        self.y_face = self.x_face.size + np.arange(grid.nx * (grid.ny + 1)).reshape(grid.nx, grid.ny + 1)
        self.faces = self.x_face.size + self.y_face.size

    @cached_property
    def velocities(self) -> scipy.sparse.csr_matrix:
        """From the stream function to the velocities on the faces."""
        g, n = self.grid, self.node
        per_y = np.broadcast_to(1 / g.dy, self.x_face.shape).ravel()
        per_x = np.broadcast_to(1 / g.dx[:, None], self.y_face.shape).ravel()
        rows = np.concatenate([np.tile(self.x_face.ravel(), 2), np.tile(self.y_face.ravel(), 2)])
        columns = np.concatenate([n[:, 1:].ravel(), n[:, :-1].ravel(), n[1:].ravel(), n[:-1].ravel()])
        values = np.concatenate([per_y, -per_y, -per_x, per_x])
        return scipy.sparse.csr_matrix((values, (rows, columns)), (self.faces, n.size))

    @cached_property
    def free(self) -> tuple[scipy.sparse.csr_matrix, np.ndarray]:
        """From the unknowns to the stream function: psi = P z + psi_0."""
        held, groups = self.conditions.held.ravel(), self.conditions.groups.ravel()
        alone = ~np.isfinite(held)
        column = np.full(held.size, -1)
        column[alone] = np.arange(alone.sum())
        names = np.unique(groups[groups >= 0])
        for k, name in enumerate(names):
            column[groups == name] = alone.sum() + k
        rows = np.flatnonzero(column >= 0)
        size = (held.size, int(alone.sum()) + len(names))
        P = scipy.sparse.csr_matrix((np.ones(len(rows)), (rows, column[rows])), size)
        return P, np.where(alone, 0.0, held)

    def potential(self) -> Flow:
        """The flow of least kinetic energy."""
        g = self.grid
        wide_x, wide_y = g.wide
        weights = np.concatenate([np.outer(wide_x, g.dy).ravel(), np.outer(g.dx, wide_y).ravel()])
        B, (P, first) = self.velocities, self.free
        A = B.T @ scipy.sparse.diags(weights) @ B
        return Flow(g, self._solved(A, np.zeros(B.shape[1]), P, first))

    def _solved(
        self, A: scipy.sparse.spmatrix, load: np.ndarray, P: scipy.sparse.csr_matrix, first: np.ndarray
    ) -> np.ndarray:
        """psi with P' (A psi + load) = 0."""
        if P.shape[1] == 0:
            return first.reshape(self.shape)
        z = factor(P.T @ A @ P).solve(-np.asarray(P.T @ (A @ first + load)))
        return np.asarray(P @ z + first).reshape(self.shape)

    @cached_property
    def _gradients(self) -> tuple[scipy.sparse.csr_matrix, np.ndarray, np.ndarray]:
        """Gradients G u + g of the velocities on the faces, with no slip on the walls, and their areas."""
        g, c = self.grid, self.conditions
        rows: list[np.ndarray] = []
        columns: list[np.ndarray] = []
        values: list[np.ndarray] = []
        areas: list[np.ndarray] = []
        constants: list[np.ndarray] = []
        count = 0

        def put(
            plus: np.ndarray | None,
            minus: np.ndarray | None,
            distance: np.ndarray | float,
            area: np.ndarray,
            constant: float = 0.0,
        ) -> None:
            """A difference over a distance; if one of both is on a wall, its velocity is in the constant."""
            nonlocal count
            shape = (plus if plus is not None else minus).shape  # type: ignore[union-attr]
            size = int(np.prod(shape))
            if not size:
                return
            row = count + np.arange(size)
            per = 1 / np.broadcast_to(distance, shape).ravel()
            for faces, sign in ((plus, 1.0), (minus, -1.0)):
                if faces is not None:
                    rows.append(row)
                    columns.append(faces.ravel())
                    values.append(sign * per)
            areas.append(np.broadcast_to(area, shape).ravel().astype(float))
            constants.append(np.broadcast_to(constant, shape).ravel() * per)
            count += size

        X, Y, slips, lid = self.x_face, self.y_face, c.slips, c.lid
        wide_x, wide_y = g.wide
        put(X[1:], X[:-1], g.dx[:, None], g.areas)  # du/dx in the cells
        put(Y[:, 1:], Y[:, :-1], g.dy[None], g.areas)  # dv/dy in the cells
        # du/dy and dv/dx at the nodes: between two faces, or from a wall to a face half a cell away
        for faces, d, along, across, blocked, low, high in (
            (X, g.dy, wide_x, wide_y, c.blocked_y, "bottom", "top"),
            (Y.T, g.dx, wide_y, wide_x, c.blocked_x.T, "left", "right"),
        ):
            walled = np.zeros((faces.shape[0], blocked.shape[1]), dtype=bool)
            walled[:-1] |= blocked
            walled[1:] |= blocked
            walled[[0, -1]] = False  # nodes on a side belong to it
            for n in range(1, faces.shape[1]):
                free, shut = ~walled[:, n], walled[:, n]
                put(faces[free, n], faces[free, n - 1], (d[n] + d[n - 1]) / 2, along[free] * across[n])
                put(faces[shut, n], None, d[n] / 2, along[shut] * d[n] / 2)
                put(None, faces[shut, n - 1], d[n - 1] / 2, along[shut] * d[n - 1] / 2)
            rubs = ~slips[low]
            put(faces[rubs, 0], None, d[0] / 2, along[rubs] * d[0] / 2, -lid.get(low, 0.0))
            rubs = ~slips[high]
            put(None, faces[rubs, -1], d[-1] / 2, along[rubs] * d[-1] / 2, lid.get(high, 0.0))
        G = scipy.sparse.csr_matrix(
            (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), (count, self.faces)
        )
        return G, np.concatenate(constants), np.concatenate(areas)

    def creeping(self) -> Flow:
        """The flow of least dissipation, with no slip on the walls."""
        A, load = self._viscous
        P, first = self.free
        return Flow(self.grid, self._solved(A, load, P, first))

    @cached_property
    def _viscous(self) -> tuple[scipy.sparse.csr_matrix, np.ndarray]:
        """Of the dissipation per viscosity: its matrix over the stream function, and the load of moving walls."""
        G, g, areas = self._gradients
        B = self.velocities
        weighted = scipy.sparse.diags(areas) @ G @ B
        whole = G @ B
        return (whole.T @ weighted).tocsr(), np.asarray(weighted.T @ g)

    def _like(self, near: Flow) -> np.ndarray:
        """The stream function of a flow on another grid at the nodes of this one, with the values given here."""
        P, first = self.free
        x, y = np.meshgrid(self.grid.x, self.grid.y, indexing="ij")
        other = scipy.interpolate.RegularGridInterpolator((near.grid.x, near.grid.y), near.psi)(
            np.column_stack([x.ravel(), y.ravel()])
        )
        shares = np.asarray(P.sum(axis=0)).ravel()
        return np.asarray(P @ ((P.T @ (other - first)) / shares) + first)

    def laminar(self, viscosity: float, near: Flow | None = None) -> Flow:
        """The steady flow with inertia, from a similar one or from the creeping one.

        Parameters
        ----------
        viscosity : float
            Kinematic, in m^2/s.
        near : Flow, optional
            The same flow on another grid.

        Raises
        ------
        SolveError
            If no steady flow is found.
        """
        found = self._newton(self._like(near), viscosity) if near is not None else None
        if found is not None:
            return found
        psi = self.creeping().psi.ravel()
        found = self._newton(psi, viscosity)
        if found is not None:
            return found
        # from a higher viscosity to its own, by steps as long as Newton's method allows
        above, step = math.log(_EASIER), _LONG
        found = self._newton(psi, _EASIER * viscosity)
        while found is not None and above > 0:
            next_above = max(above - step, 0.0)
            closer = self._newton(found.psi.ravel(), math.exp(next_above) * viscosity)
            if closer is not None:
                found, above, step = closer, next_above, 1.5 * step
                continue
            step /= 2
            if step < _SHORT:
                found = None
        if found is None:
            advice = "take a higher viscosity, a finer grid, or the creeping flow"
            raise SolveError("no steady laminar flow was found", "flow", advice)
        return found

    def _newton(self, psi: np.ndarray, viscosity: float) -> Flow | None:
        A, load = self._viscous
        P, _ = self.free
        B, (carries, moves, sums) = self.velocities, self._convection
        Q, U = carries @ B, moves @ B
        last = np.inf
        for n in range(_MOST_NEWTON):
            q, u = Q @ psi, U @ psi
            residual = viscosity * (A @ psi + load) + B.T @ (sums @ (q * u))
            J = viscosity * A + B.T @ sums @ (scipy.sparse.diags(u) @ Q + scipy.sparse.diags(q) @ U)
            right = np.asarray(P.T @ residual)
            step = P @ factor(P.T @ J @ P).solve(-right)
            size = float(np.max(np.abs(step))) / max(float(np.ptp(psi)), 1e-300)
            if not np.isfinite(size) or size > 10 or (n >= 6 and size > 0.1 * last):
                return None
            psi = psi + step
            if size < _CONVERGED or (size < 1e-7 and size > 0.5 * last):
                return Flow(self.grid, psi.reshape(self.shape), n + 1)
            last = size
        return None

    @cached_property
    def _convection(self) -> tuple[scipy.sparse.csr_matrix, scipy.sparse.csr_matrix, scipy.sparse.csr_matrix]:
        """Of div(u u) around each face: the flows through its sides, the transported velocity, and their sums.

        Momentum is balanced over the area between the middles of the two cells at a face. Both factors are averages of
        neighbours; a free outlet has the values inside.
        """
        g, c = self.grid, self.conditions
        carry: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
        moved: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
        out: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
        count = 0

        def rows_for(faces: np.ndarray) -> np.ndarray:
            nonlocal count
            found = (count + np.arange(faces.size)).reshape(faces.shape)
            count += faces.size
            return found

        for U, V, along, across, low, high in (
            (self.x_face, self.y_face, g.dx, g.dy, "bottom", "top"),
            (self.y_face.T, self.x_face.T, g.dy, g.dx, "left", "right"),
        ):
            one = np.ones(1)
            # along its own direction, through the cells, and out at the ends
            row = rows_for(U[1:])
            for faces, sign in ((U[:-1], 1.0), (U[1:], -1.0)):
                carry.append((row, faces, np.broadcast_to(across / 2, row.shape)))
                moved.append((row, faces, np.broadcast_to(one / 2, row.shape)))
                out.append((faces, row, np.broadcast_to(one * sign, row.shape)))
            for faces, sign in ((U[0], -1.0), (U[-1], 1.0)):
                row = rows_for(faces)
                carry.append((row, faces, across))
                moved.append((row, faces, np.ones(row.shape)))
                out.append((faces, row, np.full(row.shape, sign)))
            # across it, at the nodes between two faces: half of each of the faces in the other direction
            below, above = U[:, :-1], U[:, 1:]
            row = rows_for(below)
            for part, half in ((row[1:], along), (row[:-1], along)):
                carry.append((part, V[:, 1:-1], np.broadcast_to(half[:, None] / 2, part.shape)))
            nearer = across[1:] / (across[1:] + across[:-1])
            moved.append((row, below, np.broadcast_to(nearer, row.shape)))
            moved.append((row, above, np.broadcast_to(1 - nearer, row.shape)))
            out.append((below, row, np.broadcast_to(one, row.shape)))
            out.append((above, row, np.broadcast_to(-one, row.shape)))
            for side, faces, passing, sign in ((low, U[:, 0], V[:, 0], -1.0), (high, U[:, -1], V[:, -1], 1.0)):
                if not c.slips[side].any():
                    continue
                row = rows_for(faces)
                free = c.slips[side]
                for part, keep, half in ((row[1:], free[1:], along), (row[:-1], free[:-1], along)):
                    carry.append((part[keep], passing[keep], half[keep] / 2))
                moved.append((row, faces, np.ones(row.shape)))
                out.append((faces, row, np.full(row.shape, sign)))
        return (
            _matrix(carry, (count, self.faces)),
            _matrix(moved, (count, self.faces)),
            _matrix(out, (self.faces, count)),
        )


def _matrix(parts: list[tuple[np.ndarray, np.ndarray, np.ndarray]], shape: tuple[int, int]) -> scipy.sparse.csr_matrix:
    rows, columns, values = (np.concatenate([np.ravel(part[k]) for part in parts]) for k in range(3))
    return scipy.sparse.csr_matrix((values, (rows.astype(int), columns.astype(int))), shape)


def factor(matrix: scipy.sparse.spmatrix) -> scipy.sparse.linalg.SuperLU:
    """A sparse matrix of nearly symmetric pattern, factored."""
    return scipy.sparse.linalg.splu(
        scipy.sparse.csc_matrix(matrix),
        permc_spec="MMD_AT_PLUS_A",
        options={"SymmetricMode": True},
        diag_pivot_thresh=0.001,
        panel_size=1,
    )
