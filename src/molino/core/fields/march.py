"""The balances of a laminar tube at nodes across it, integrated along it and over time."""

from __future__ import annotations

import math

import numpy as np

from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import FEED_T, HELD, WALL, slope_of
from molino.core.balances.collocation import PointEvaluator
from molino.core.balances.engines import lsoda
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import SolveError
from molino.core.fields.developing import DEVELOPED_LOSS, Developing, developing
from molino.core.fields.laminar_run import LaminarInTime, LaminarRun
from molino.core.fields.laminar_specification import LaminarTubeFields
from molino.core.fields.radial import radial
from molino.core.runs.cells import Progress, filled_with, limited
from molino.core.runs.over_time import grid_errors
from molino.core.terms.tube_cells import CellModel, cell_model

_RTOL, _ATOL = 1e-9, 1e-12
_MOST_STEPS = 50_000


class March:
    """The balances of a laminar tube at nodes across, as ordinary differential equations along it."""

    def __init__(self, tube: LaminarTubeFields, nodes: int) -> None:
        self.tube, self.grid = tube, radial(tube.geometry, nodes)
        plug = tube.spec.plug
        self.model: CellModel = cell_model(plug.spec.key, ())
        numbers, _ = plug.spec.own_parameters
        constants = dict(numbers) | {HELD: 1.0, WALL: 0.0, slope_of(TEMPERATURE): 0.0}
        self.local: PointEvaluator = self.model.local.at([float(constants[s]) for s in self.model.local.fixed])
        self.species = tube.chemistry.names
        self.ns, self.n, self.follows_T = len(self.species), nodes, self.model.follows_T
        self.m = self.ns + self.follows_T
        self.D = np.array([float(v.si) if (v := tube.diffusivity.get(s)) is not None else 0.0 for s in self.species])
        self.fed = np.array([float(plug.spec.fed.concentrations.get(s, 0.0)) for s in self.species])
        self.first = np.append(self.fed, float(numbers[FEED_T])) if self.follows_T else self.fed
        self.per = 1 / tube.spec.radius**2
        self.developing: Developing | None = None
        if tube.entrance == "developing":
            self.developing = developing(self.grid)
        nu = (
            float(tube.viscosity.si) / tube.spec.density
            if tube.viscosity is not None and tube.spec.density
            else math.nan
        )
        self.scale_z = nu / (tube.spec.velocity * tube.spec.radius**2)
        """Of the length along which the velocity develops."""

    # across

    def _wall(self, inside: np.ndarray, q: np.ndarray, of_T: bool) -> np.ndarray:
        """Values on the wall, shape (k,), from those inside, shape (nodes, k); q are fluxes in over the coefficient."""
        K = self.grid.stiffness
        if of_T and self.tube.wall_T is not None:
            return np.full(inside.shape[1], float(self.tube.wall_T.si))
        return np.asarray((q * self.tube.spec.radius * self.grid.wall_per_area - K[-1, :-1] @ inside) / K[-1, -1])

    def _wall_T(self, T: np.ndarray) -> float:
        flux = 0.0 if self.tube.wall_flux is None else float(self.tube.wall_flux.si)
        k = float(self.tube.conductivity.si)
        return float(self._wall(T[:, None], np.array([flux / k]), True)[0])

    def _spread_T(self, T: np.ndarray) -> np.ndarray:
        """Heat conducted to each node, in W/m^3."""
        K, k = self.grid.stiffness, float(self.tube.conductivity.si)
        return np.asarray(-k * self.per * (K[:-1, :-1] @ T + K[:-1, -1] * self._wall_T(T)) / self.grid.weights)

    def _by_T(self) -> np.ndarray:
        """Derivatives of the conducted heat by the temperatures, shape (nodes, nodes)."""
        K, k = self.grid.stiffness, float(self.tube.conductivity.si)
        whole = K[:-1, :-1] if self.tube.wall_T is not None else self.grid.sealed
        return np.asarray(-k * self.per * whole / self.grid.weights[:, None])

    def slopes(self, flat: np.ndarray, z: float) -> np.ndarray:
        """d/dz of the concentrations (and temperatures) at the nodes, and of the heat from the wall."""
        Y = flat[:-1].reshape(self.m, self.n)
        sources, u, across = self._sources(Y), *self._velocity(z)
        if across is not None:
            walls = self._walls(Y)
            sources = sources - across * (np.column_stack([Y, walls]) @ self.grid.slopes.T)
        return np.append((sources / u).ravel(), self._given(Y))

    def _given(self, Y: np.ndarray) -> float:
        """Heat from a wall of given temperature, in W per m^3."""
        if self.tube.wall_T is None:
            return 0.0
        K, k = self.grid.stiffness, float(self.tube.conductivity.si)
        return float(K[-1, :-1] @ Y[self.ns] + K[-1, -1] * float(self.tube.wall_T.si)) * k * self.per

    def _velocity(self, z: float) -> tuple[np.ndarray, np.ndarray | None]:
        """Axial velocity, and the radial transport per d/dx of a profile, at the nodes."""
        mean = self.tube.spec.velocity
        if self.developing is None:
            return mean * self.grid.developed, None
        u, outward = self.developing.at(z * self.scale_z)
        return mean * u, outward * mean * self.scale_z / self.grid.density

    def _walls(self, Y: np.ndarray) -> np.ndarray:
        found = np.maximum(self._wall(Y[: self.ns].T, np.zeros(self.ns), False), 0.0)  # steep without diffusion
        return np.append(found, self._wall_T(Y[self.ns])) if self.follows_T else found

    def _sources(self, Y: np.ndarray) -> np.ndarray:
        """Reaction and diffusion, d/dt at the nodes, shape (states, nodes)."""
        local, places = self.local.value(Y.T), self.model.places
        found = np.empty_like(Y)
        spread = -self.per * (self.grid.sealed @ Y[: self.ns].T) / self.grid.weights[:, None]
        found[: self.ns] = (local[:, places["species"]] + spread * self.D).T
        if self.follows_T:
            heat = local[:, places["heating"]][:, 0] + self._spread_T(Y[self.ns])
            found[self.ns] = heat / local[:, places["capacity"]][:, 0]
        return found

    def jacobian(self, flat: np.ndarray, z: float) -> np.ndarray:
        """Jacobian of `slopes`, shape (states nodes, states nodes); by differences for a developing velocity."""
        n, m, ns = self.n, self.m, self.ns
        Y = flat[:-1].reshape(m, n)
        local, by = self.local.value(Y.T), self.local.slopes(Y.T)
        places, u = self.model.places, self._velocity(z)[0]
        found = np.zeros((m, n, m, n))
        every = np.arange(n)
        for i in range(ns):
            for j in range(m):
                found[i, every, j, every] += by[:, places["species"].start + i, j]
            found[i, :, i, :] -= self.D[i] * self.per * self.grid.sealed / self.grid.weights[:, None]
        if self.follows_T:
            heat = local[:, places["heating"]][:, 0] + self._spread_T(Y[ns])
            C = local[:, places["capacity"]][:, 0]
            h, c = places["heating"].start, places["capacity"].start
            for j in range(m):
                found[ns, every, j, every] += (by[:, h, j] - heat / C * by[:, c, j]) / C
            found[ns, :, ns, :] += self._by_T() / C[:, None]
        found /= u[None, :, None, None]
        whole = np.zeros((m * n + 1, m * n + 1))
        whole[:-1, :-1] = found.reshape(m * n, m * n)
        if self.tube.wall_T is not None:
            whole[-1, ns * n : -1] = self.grid.stiffness[-1, :-1] * float(self.tube.conductivity.si) * self.per
        return whole

    # along

    def run(self, z: np.ndarray) -> tuple[np.ndarray, float]:
        """States at places along the tube, shape (places, states, nodes), and the heat from the wall in W/m^2."""
        first = np.append(np.repeat(self.first[:, None], self.n, axis=1).ravel(), 0.0)
        jacobian = self.jacobian if self.developing is None else None
        sizes = np.append(self._sizes(), 1e30)
        found, info = lsoda(self.slopes, jacobian, first, z, _RTOL, _ATOL * sizes, mxstep=_MOST_STEPS)
        if info["message"] != "Integration successful." or not np.isfinite(found[-1]).all():
            raise SolveError(
                "the integration along the tube failed",
                self.tube.label,
                "look for a rate that grows without limit, or use more diffusion or conduction",
            )
        return found[:, :-1].reshape(len(z), self.m, self.n), float(found[-1, -1])

    def _sizes(self) -> np.ndarray:
        sizes = np.full(self.m, max(float(self.fed.sum()), 1e-300))
        if self.follows_T:
            sizes[self.ns] = 100.0
        return np.repeat(sizes, self.n)

    def cups(self, rows: np.ndarray) -> np.ndarray:
        """Mixing-cup values of rows at developed velocity, shape (places, states)."""
        return np.asarray(rows @ (self.grid.weights * self.grid.developed))

    def result(self, z: np.ndarray, rows: np.ndarray, gained: float, error: float) -> LaminarRun:
        """The result of the integration."""
        velocities = np.array([self._velocity(float(at))[0] for at in z]) / self.tube.spec.velocity
        cups = np.einsum("zsn,zn->zs", rows, velocities * self.grid.weights)
        walls = np.array([self._walls(row) for row in rows])
        below = self._set_positive(rows[:, : self.ns])
        field = np.concatenate([rows, walls[:, :, None]], axis=2)
        plug = self.tube.spec.plug
        inside = {f"concentration of {s}": field[:, i] for i, s in enumerate(self.species)}
        mixed = {f"concentration of {s}": cups[:, i] for i, s in enumerate(self.species)}
        if self.follows_T:
            inside["temperature"], mixed["temperature"] = field[:, self.ns], cups[:, self.ns]
        heat = self._heat(gained) if self.follows_T else math.nan
        closure = {}
        flows = cups[:, : self.ns]
        for name, weights in plug.spec.conserved().items():
            size = float(np.abs(weights) @ flows[0])
            closure[name] = float(np.max(np.abs((flows - flows[0]) @ weights))) / size if size else 0.0
        if self.follows_T:
            held = self._enthalpies(rows, velocities)
            scale = max(abs(heat), float(np.max(np.abs(held - held[0]))), self._reacted(flows), 1e-300)
            closure["energy"] = abs(float(held[-1] - held[0]) - heat) / scale
        return LaminarRun(
            self.tube,
            z,
            self.grid.radii * self.tube.spec.radius,
            inside,
            mixed,
            np.hstack([velocities, np.zeros((len(z), 1))]) * self.tube.spec.velocity,
            self._pressure_drop(z),
            heat,
            closure,
            error,
            below,
        )

    def _set_positive(self, concentrations: np.ndarray) -> float:
        """Set negative concentrations to zero, and return the lowest relative to the largest."""
        below = max(-float(concentrations.min()), 0.0) / max(float(concentrations.max()), 1e-300)
        np.maximum(concentrations, 0.0, out=concentrations)
        return below

    def _reacted(self, flows: np.ndarray) -> float:
        """Approximate heat of reaction: the scale of energy."""
        T = float(self.first[-1])
        both = np.array([np.append(row, T) for row in (flows[0], flows[-1])])
        h = self.local.value(both)[:, self.model.places["enthalpy"]][:, 0]
        return abs(float(h[1] - h[0])) * self.tube.spec.velocity * self.tube.spec.area

    def _enthalpies(self, rows: np.ndarray, velocities: np.ndarray) -> np.ndarray:
        """Enthalpy flow in W at each place."""
        found = [
            float(self.local.value(row.T)[:, self.model.places["enthalpy"]][:, 0] @ (self.grid.weights * u))
            for row, u in zip(rows, velocities, strict=True)
        ]
        return np.array(found) * self.tube.spec.velocity * self.tube.spec.area

    def _heat(self, gained: float) -> float:
        """Heat in through the wall, in W."""
        tube = self.tube
        if tube.wall_flux is not None:
            wet = self.grid.wall_per_area / tube.spec.radius * tube.spec.area
            return float(tube.wall_flux.si) * wet * float(tube.length.si)
        return gained * tube.spec.area

    def _pressure_drop(self, z: np.ndarray) -> np.ndarray:
        """Pressure loss up to each place in Pa; nan without a viscosity."""
        tube = self.tube
        if tube.viscosity is None:
            return np.full(len(z), math.nan)
        if self.developing is not None:
            head = float(tube.spec.density or math.nan) * tube.spec.velocity**2
            return np.array([self.developing.lost(float(at) * self.scale_z) if at else 0.0 for at in z]) * head
        loss = DEVELOPED_LOSS[tube.geometry] * float(tube.viscosity.si) * tube.spec.velocity / tube.spec.radius**2
        return z * loss

    # over time

    def follow(
        self,
        times: np.ndarray,
        contents: ByName | None,
        cells: int,
        progress: Progress | None,
        coarse: LaminarInTime | None,
    ) -> LaminarInTime:
        """The tube over time, in cells along it; `coarse` is the same with fewer cells and nodes."""
        tube, shape = self.tube, (cells, self.m, self.n)
        dz, u = float(tube.length.si) / cells, tube.spec.velocity * self.grid.developed
        start = self.first.copy()
        if contents is not None:
            filled = filled_with(tube.spec.plug, contents)
            start[: self.ns] = [filled.get(s, 0.0) for s in self.species]
        first = np.broadcast_to(start[None, :, None], shape).copy()
        fed = np.broadcast_to(self.first[:, None], (self.m, self.n))
        done = 0.0

        def slopes(flat: np.ndarray, t: float) -> np.ndarray:
            nonlocal done
            Y = flat.reshape(shape)
            # all places at once: states, then nodes of all cells
            sources = self._sources_of_cells(Y)
            ahead = limited(Y.reshape(cells, -1), fed.ravel(), False).reshape(shape)
            before = np.concatenate([fed[None], ahead[:-1]])
            if progress is not None and t / times[-1] > done + 0.01:
                done = min(t / times[-1], 1.0)
                progress(done)
            return np.asarray((sources - u * (ahead - before) / dz).ravel())

        block = self.m * self.n
        found, info = lsoda(
            slopes,
            None,
            first.ravel(),
            times,
            1e-6,
            1e-9 * np.tile(self._sizes(), cells),
            ml=3 * block - 1,
            mu=2 * block - 1,
            mxstep=_MOST_STEPS,
        )
        if info["message"] != "Integration successful." or not np.isfinite(found[-1]).all():
            raise SolveError("the integration over time failed", tube.label, "use fewer nodes or cells")
        if progress is not None:
            progress(1.0)
        return self._over_time(times, found.reshape(len(times), *shape), fed, dz, coarse)

    def _over_time(
        self, times: np.ndarray, rows: np.ndarray, fed: np.ndarray, dz: float, coarse: LaminarInTime | None
    ) -> LaminarInTime:
        """The result of states at all times, shape (times, cells, states, nodes)."""
        tube, cells = self.tube, rows.shape[1]
        below = self._set_positive(rows[:, :, : self.ns])
        outlet = []
        for row in rows:
            ahead = limited(row.reshape(cells, -1), fed.ravel(), False).reshape(row.shape)
            outlet.append(ahead[-1] @ (self.grid.weights * self.grid.developed))
        left = np.array(outlet)
        names = [f"concentration of {s}" for s in self.species] + (["temperature"] if self.follows_T else [])
        errors = (math.nan, math.nan)
        if coarse is not None:
            errors = grid_errors(times, left.T[: self.ns], np.array([coarse.outlet[n] for n in names[: self.ns]]))
        return LaminarInTime(
            tube,
            times,
            (np.arange(cells) + 0.5) * dz,
            self.grid.radii[:-1] * tube.spec.radius,
            {name: rows[:, :, i] for i, name in enumerate(names)},
            {name: left[:, i] for i, name in enumerate(names)},
            *errors,
            below,
        )

    def _sources_of_cells(self, Y: np.ndarray) -> np.ndarray:
        """As `_sources`, for cells along the tube, shape (cells, states, nodes)."""
        cells = len(Y)
        flat = Y.transpose(0, 2, 1).reshape(cells * self.n, self.m)
        local, places = self.local.value(flat), self.model.places
        found = np.empty_like(Y)
        made = local[:, places["species"]].reshape(cells, self.n, self.ns).transpose(0, 2, 1)
        spread = -self.per * (Y[:, : self.ns] @ self.grid.sealed.T) / self.grid.weights
        found[:, : self.ns] = made + spread * self.D[:, None]
        if self.follows_T:
            heat = local[:, places["heating"]][:, 0].reshape(cells, self.n)
            conducted = np.array([self._spread_T(T) for T in Y[:, self.ns]])
            found[:, self.ns] = (heat + conducted) / local[:, places["capacity"]][:, 0].reshape(cells, self.n)
        return found
