"""Convection and diffusion on a grid: conservative finite volumes, of second order and bounded.

The convective flow through a face is F (c_U + s) with the cell U upstream of it. If diffusion through the face is
strong enough, s is that of central differences, which are implicit; of the remainder, the changes a and b before and
after the cell U give s by the limiter of van Albada, as half of

    ((b^2 + e^2) a + (a^2 + e^2) b)/(a^2 + b^2 + 2 e^2)

which does not overshoot where a profile is steep and is of second order where it is smooth, also at extrema, where the
changes are below e, e^2 = (h/L)^3 of the whole range (G. D. van Albada, B. van Leer, W. W. Roberts, Astron. Astrophys.
108 (1982) 76; V. Venkatakrishnan, J. Comput. Phys. 118 (1995) 120). It is solved as a correction of the implicit part;
the outflow of one cell is always the inflow of the next.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from molino.core.errors import SolveError
from molino.core.fields.stream_function import Flow, factor

SIDES = ("left", "right", "bottom", "top")
"""The sides, in the order of the ports."""
Fed = Sequence[np.ndarray | float]
"""Concentrations of the feed through each side, one or one for each cell there."""
_MOST_ROUNDS = 200
_SETTLED, _UNSETTLED = 1e-11, 1e-6
"""The relative change per round that ends a fixed-point iteration, and the one above which its end is an error."""
_NOTHING = 1e-12
"""Fraction of the largest concentration that is zero."""
_MIXED = 6
"""Number of earlier rounds that are mixed with the last."""


@dataclass(frozen=True, eq=False)
class Scheme:
    """The scheme of one diffusivity: the implicit part and the flux corrected by the limiter.

    Attributes
    ----------
    matrix : sparse matrix
        The outflow of each cell less the inflow from others, by the implicit part. It is an M-matrix, so that results
        are within the bounds of the feed.
    parts : array
        The corrected flux through each face that has one.
    faces : tuple of arrays
        For each of them: the cells upstream, downstream and further upstream, the scale of the change from the last,
        the fraction of the change up to the face, and the smoothing of the limiter.
    sums : sparse matrix
        The outflow of each cell through these faces.
    """

    diffusivity: float
    matrix: scipy.sparse.csc_matrix
    parts: np.ndarray
    faces: tuple[np.ndarray, ...]
    sums: scipy.sparse.csr_matrix

    @cached_property
    def factors(self) -> scipy.sparse.linalg.SuperLU:
        """The matrix, factored."""
        return factor(self.matrix)


@dataclass(frozen=True, eq=False)
class Sums:
    """Concentrations as sums of fields, base + columns @ fields, shapes (species, cells) and (species, fields)."""

    base: np.ndarray
    columns: np.ndarray

    def at(self, cells: np.ndarray) -> Sums:
        return Sums(self.base[:, cells], self.columns)


def _bounded(here: np.ndarray, rises: np.ndarray, most: float, sums: Sums | None) -> np.ndarray:
    """Changes of fields, shape (fields, places), reduced by one factor at each place, so that no concentration changes
    by more than a fraction of itself; each field separately if there are no sums of them."""
    if sums is None:
        limit = most * np.abs(here)
        return np.asarray(np.clip(rises, -limit, limit))
    c, change = sums.base + sums.columns @ here, np.abs(sums.columns @ rises)
    limit = most * np.abs(c) + _NOTHING * np.max(np.abs(c), initial=1e-290)
    factor = np.where(change > limit, limit / np.maximum(change, 1e-300), 1.0).min(axis=0)
    return np.asarray(rises * factor)


@dataclass(frozen=True, eq=False)
class Port:
    """Inlets and outlets: cells, flows per depth (m^2/s, above zero) and the cells behind them.

    Attributes
    ----------
    cells, behind : integer arrays
        The cells at the opening, and those further inside; a cell is its own neighbour behind a wall.
    flows : array
    half, apart, wide : arrays
        Half the size of each cell, its distance from the one behind, and the width of its opening.
    """

    cells: np.ndarray
    behind: np.ndarray
    flows: np.ndarray
    half: np.ndarray
    apart: np.ndarray
    wide: np.ndarray


class Transport:
    """Convection and diffusion of a scalar on a grid.

    Parameters
    ----------
    flow : Flow
    blocked_x, blocked_y : boolean arrays over the faces
        Inner walls without diffusion.
    """

    def __init__(self, flow: Flow, blocked_x: np.ndarray, blocked_y: np.ndarray) -> None:
        self.grid = g = flow.grid
        cell = np.arange(g.cells).reshape(g.nx, g.ny)
        self.volumes = g.areas.ravel()
        (xm, ym), (u, v) = g.middle, (flow.through_x, flow.through_y)
        parts = []
        for before, after, flows, shut, apart, wide, size in (
            (cell[:-1], cell[1:], u[1:-1], blocked_x[1:-1], np.diff(xm)[:, None], g.dy[None], g.dx[:, None]),
            (cell[:, :-1], cell[:, 1:], v[:, 1:-1], blocked_y[:, 1:-1], np.diff(ym)[None], g.dx[:, None], g.dy[None]),
        ):
            sizes = np.broadcast_to(size, (g.nx, g.ny)).ravel()
            shape = before.shape
            parts.append(
                (
                    before.ravel(),
                    after.ravel(),
                    np.where(shut, 0.0, flows).ravel(),
                    np.where(shut, 0.0, np.broadcast_to(wide / apart, shape)).ravel(),
                    np.broadcast_to(apart, shape).ravel(),
                    sizes[before.ravel()],
                    sizes[after.ravel()],
                )
            )
        self.before, self.after, self.flows, self.conductance, apart, size_b, size_a = (
            np.concatenate([part[k] for part in parts]) for k in range(7)
        )
        forward = self.flows >= 0
        self.upstream = np.where(forward, self.before, self.after)
        self.downstream = np.where(forward, self.after, self.before)
        self.half = np.where(forward, size_b, size_a) / 2
        self.apart = apart
        self.ports_in = [self._port(cell, flow, side, True) for side in SIDES]
        self.ports_out = [self._port(cell, flow, side, False) for side in SIDES]
        self._further(cell, blocked_x, blocked_y)
        lengths = (g.x[-1] - g.x[0], g.y[-1] - g.y[0])
        along = np.concatenate([np.full(len(part[0]), one) for part, one in zip(parts, lengths, strict=True)])
        self.blunt = (2 * self.half / along) ** 3
        self._schemes: dict[float, Scheme] = {}

    def _further(self, cell: np.ndarray, blocked_x: np.ndarray, blocked_y: np.ndarray) -> None:
        """The cell upstream of the upstream one, and its distance; the cell itself if a wall or the edge is between."""
        g = self.grid
        (xm, ym), many = g.middle, (g.nx - 1) * g.ny
        i, j = np.divmod(self.upstream, g.ny)
        along_x = np.arange(len(self.upstream)) < many
        step = np.where(self.flows >= 0, -1, 1)
        k, l_ = np.where(along_x, i + step, i), np.where(along_x, j, j + step)
        inside = (k >= 0) & (k < g.nx) & (l_ >= 0) & (l_ < g.ny)
        kc, lc = np.clip(k, 0, g.nx - 1), np.clip(l_, 0, g.ny - 1)
        wall_x = blocked_x[np.clip(np.where(step < 0, i, i + 1), 0, g.nx), j]
        wall_y = blocked_y[i, np.clip(np.where(step < 0, j, j + 1), 0, g.ny)]
        open_ = inside & ~np.where(along_x, wall_x, wall_y)
        further = np.where(open_, kc * g.ny + lc, self.upstream)
        distance = np.where(along_x, np.abs(xm[i] - xm[kc]), np.abs(ym[j] - ym[lc]))
        self.further, self.away = further, np.where(open_, distance, 1.0)
        # the flow from an opening comes from the feed, half a cell away
        first, number = g.cells, {"left": (True, 1), "right": (True, -1), "bottom": (False, 1), "top": (False, -1)}
        for side, port in zip(SIDES, self.ports_in, strict=True):
            wanted_x, way = number[side]
            place = np.full(g.cells, -1)
            place[port.cells] = first + np.arange(len(port.cells))
            fed = (along_x == wanted_x) & (step == -way) & (place[self.upstream] >= 0) & ~inside
            self.further = np.where(fed, place[self.upstream], self.further)
            self.away = np.where(fed, self.half, self.away)
            first += len(port.cells)

    def _port(self, cell: np.ndarray, flow: Flow, side: str, inward: bool) -> Port:
        g = self.grid
        (xm, ym) = g.middle
        one, behind, through, sign, half, apart, wide = {
            "left": (cell[0], cell[1], flow.through_x[0], 1.0, g.dx[0] / 2, xm[1] - xm[0], g.dy),
            "right": (cell[-1], cell[-2], flow.through_x[-1], -1.0, g.dx[-1] / 2, xm[-1] - xm[-2], g.dy),
            "bottom": (cell[:, 0], cell[:, 1], flow.through_y[:, 0], 1.0, g.dy[0] / 2, ym[1] - ym[0], g.dx),
            "top": (cell[:, -1], cell[:, -2], flow.through_y[:, -1], -1.0, g.dy[-1] / 2, ym[-1] - ym[-2], g.dx),
        }[side]
        into = through * sign
        scale = float(np.max(np.abs(flow.psi))) or 1.0
        kept = into > 1e-14 * scale if inward else into < -1e-14 * scale
        shape = int(kept.sum())
        return Port(
            one[kept], behind[kept], np.abs(into[kept]), np.full(shape, half), np.full(shape, apart), wide[kept]
        )

    @cached_property
    def passed(self) -> float:
        """Flow through the basin per depth, in m^2/s."""
        return sum(float(port.flows.sum()) for port in self.ports_out)

    # the scheme

    def scheme(self, diffusivity: float) -> Scheme:
        """The scheme of one diffusivity; central differences have the largest bounded fraction of each face."""
        if diffusivity not in self._schemes:
            a, b, cells = self.before, self.after, self.grid.cells
            size, spread = np.abs(self.flows), diffusivity * self.conductance
            onward = size * self.half / self.apart  # the fraction of the cell behind in a linear profile
            share = np.minimum(1.0, spread / np.maximum(onward, 1e-300))
            of_up, of_down = size - share * onward, share * onward
            forward = self.flows >= 0
            of_before, of_after = np.where(forward, of_up, -of_down), np.where(forward, of_down, -of_up)
            values = [of_before + spread, of_after - spread, spread - of_after, -of_before - spread]
            values += [port.flows for port in self.ports_out]
            out = [port.cells for port in self.ports_out]
            rows, columns = np.concatenate([a, a, b, b, *out]), np.concatenate([a, b, b, a, *out])
            matrix = scipy.sparse.coo_matrix((np.concatenate(values), (rows, columns)), (cells, cells)).tocsc()
            limited = np.flatnonzero((share < 1) & (size > 0))
            many = np.arange(len(limited))
            signs = np.repeat([1.0, -1.0], len(limited))
            places = (np.concatenate([a[limited], b[limited]]), np.concatenate([many, many]))
            sums = scipy.sparse.csr_matrix((signs, places), (cells, len(limited)))
            steeper, halves = self.apart / self.away, self.half / self.apart
            each = (self.upstream, self.downstream, self.further, steeper, halves, self.blunt)
            faces = tuple(one[limited] for one in each)
            self._schemes[diffusivity] = Scheme(diffusivity, matrix, ((1 - share) * self.flows)[limited], faces, sums)
        return self._schemes[diffusivity]

    def slopes(self, c: np.ndarray, fed: Fed, scheme: Scheme) -> np.ndarray:
        """(c at the face) - c_U by the limiter, at the faces that it corrects, before it is bounded."""
        whole = np.concatenate([c, *self._behind(c, fed, scheme.diffusivity)])
        up, down, further, steeper, share, blunt = scheme.faces
        here = c[up]
        after = c[down] - here
        before = (here - whole[further]) * steeper
        e = blunt * max(float(np.ptp(whole)) ** 2, 1e-250) + 1e-290
        a, b = before * before + e, after * after + e
        return np.asarray((b * before + a * after) / (a + b) * share)

    def _behind(self, c: np.ndarray, fed: Fed, diffusivity: float) -> list[np.ndarray]:
        """Just behind each inlet, with diffusion from inside: F c_fed = F c - D dc/dx."""
        found = []
        for port, one in zip(self.ports_in, fed, strict=True):
            spread = diffusivity * port.wide / port.half
            found.append((port.flows * one + spread * c[port.cells]) / (port.flows + spread))
        return found

    def corrections(
        self, fields: np.ndarray, feds: Sequence[Fed], schemes: Sequence[Scheme], sums: Sums | None = None
    ) -> np.ndarray:
        """The outflow of each cell beyond the implicit part, shape (fields, cells).

        No concentration at a face is negative, or more than twice that of the cell upstream: for the fields themselves,
        or for the given sums of them.
        """
        slopes = [self.slopes(c, fed, own) for c, fed, own in zip(fields, feds, schemes, strict=True)]
        alike = all(own is schemes[0] for own in schemes)
        parts = [(slice(None), schemes[0])] if alike else [(slice(n, n + 1), own) for n, own in enumerate(schemes)]
        found = np.empty_like(fields)
        for rows, own in parts:
            each, upstream = np.array(slopes[rows]), own.faces[0]
            each = _bounded(fields[rows, upstream], each, 1.0, sums.at(upstream) if sums and alike else None)
            found[rows] = (own.sums @ (own.parts * each).T).T
        for port, beyond in zip(self.ports_out, self.beyond(fields, sums if alike else None), strict=True):
            found[:, port.cells] += port.flows * beyond  # a cell has one side there
        return found

    def beyond(self, fields: np.ndarray, sums: Sums | None = None) -> list[np.ndarray]:
        """(c at the edge) - c of the cells at each outlet: linear extrapolation from inside, not below half of c."""
        found = []
        for port in self.ports_out:
            here = fields[:, port.cells]
            rise = (here - fields[:, port.behind]) * (port.half / port.apart)
            found.append(_bounded(here, rise, 0.5, sums.at(port.cells) if sums else None))
        return found

    def entering(self, fed: Fed) -> np.ndarray:
        """The inflow through each side with given concentrations, shape (cells,)."""
        found = np.zeros(self.grid.cells)
        for port, c in zip(self.ports_in, fed, strict=True):
            found += np.bincount(port.cells, port.flows * c, self.grid.cells)
        return found

    def leaving(self, fields: np.ndarray, sums: Sums | None = None) -> list[np.ndarray]:
        """The outflow through the cells of each side, per depth, shapes (fields, cells of the side)."""
        return [
            port.flows * (fields[:, port.cells] + beyond)
            for port, beyond in zip(self.ports_out, self.beyond(fields, sums), strict=True)
        ]

    def steady(self, diffusivity: float, fed: Fed, made: np.ndarray) -> Settled:
        """The steady field of the feed and the production in each cell."""
        scheme = self.scheme(diffusivity)
        solver, load = scheme.factors, self.entering(fed) + made

        def step(c: np.ndarray) -> np.ndarray:
            return np.asarray(solver.solve(load - self.corrections(c[None], [fed], [scheme])[0]))

        return settled(step, np.asarray(solver.solve(load)))


@dataclass(frozen=True, eq=False)
class Settled:
    """A steady field: its values, the number of rounds and the relative change of the last one."""

    c: np.ndarray
    rounds: int
    change: float


def settled(step: Callable[[np.ndarray], np.ndarray], first: np.ndarray) -> Settled:
    """The fixed point of a step, with Anderson's acceleration.

    The next values are the mixture of the last steps whose changes cancel best (D. G. Anderson, J. ACM 12 (1965) 547).
    """
    c = first
    values: list[np.ndarray] = []
    changes: list[np.ndarray] = []
    for n in range(_MOST_ROUNDS):
        made = step(c)
        change = made - c
        size = float(np.max(np.abs(change))) / max(float(np.max(np.abs(made))), 1e-300)
        if not np.isfinite(change @ change):
            raise SolveError("the field could not be solved", "field", "use a finer grid, or more diffusion")
        if size < _SETTLED:
            return Settled(made, n + 1, size)
        values, changes = [*values[-_MIXED:], made], [*changes[-_MIXED:], change]
        c = made
        if len(changes) > 1:
            rises = np.array([one - change for one in changes[:-1]])
            sizes = np.sqrt(np.einsum("ij,ij->i", rises, rises)) + 1e-300
            products = rises @ rises.T / np.outer(sizes, sizes)
            shares = np.linalg.lstsq(products, -(rises @ change) / sizes, rcond=1e-14)[0] / sizes
            c = made + shares @ np.array([one - made for one in values[:-1]])
    if size > _UNSETTLED:
        message = f"the field still changes by {size:.1e} of its largest value after {_MOST_ROUNDS} rounds"
        raise SolveError(message, "field", "use another grid or more diffusion, or integrate it over time")
    return Settled(made, _MOST_ROUNDS, size)
