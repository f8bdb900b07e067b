"""The balances of a basin on one grid: its flow, its steady fields, its fields over time, its tracer."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from molino.core.annotations import ByName, PlainData
from molino.core.balances.balance_symbols import HELD, WALL, slope_of
from molino.core.balances.collocation import PointEvaluator
from molino.core.checks import Check
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import SolveError
from molino.core.fields.basin_run import BasinInTime, BasinRun
from molino.core.fields.basin_specification import BasinFields
from molino.core.fields.basin_stepper import BELOW, Stepper
from molino.core.fields.grid import Grid
from molino.core.fields.stream_function import Flow, factor
from molino.core.fields.transport import SIDES, Fed, Sums, Transport, settled
from molino.core.mixing.distribution import RINGING, ResidenceTimeDistribution
from molino.core.runs.cells import filled_with
from molino.core.runs.over_time import grid_errors
from molino.core.terms.tube_cells import cell_model

_RENEWED = 6
"""Largest number of rounds in which the derivatives of the rates are updated."""
_START_UP = ((0.02, 50), (0.2, 50))
"""Steps of a start-up from the feed, in mean residence times and their number, after which a steady field is searched
again."""
_LONGEST = 12.0
"""Largest time of a tracer in mean residence times."""


@dataclass(frozen=True, eq=False)
class SteadyField:
    """Concentrations at steady state, shape (species, cells), and the outflow through the cells of each side, per
    depth."""

    c: np.ndarray
    leaving: list[np.ndarray]

    def __add__(self, other: SteadyField) -> SteadyField:
        return SteadyField(self.c + other.c, [a + b for a, b in zip(self.leaving, other.leaving, strict=True)])


class BasinField:
    """A basin on a grid."""

    def __init__(self, basin: BasinFields, grid: Grid, near: Flow | None = None) -> None:
        self.basin, self.grid = basin, grid
        self.flow, conditions = basin.spec.flow_on(grid, near)
        self.transport = Transport(self.flow, conditions.blocked_x, conditions.blocked_y)
        self.conditions = conditions
        self.species = basin.chemistry.names
        plug = basin.spec.plug
        numbers, _ = plug.spec.own_parameters
        constants = dict(numbers) | {HELD: 1.0, WALL: 0.0, slope_of(TEMPERATURE): 0.0}
        model = cell_model(plug.spec.key, ())
        self.local: PointEvaluator = model.local.at([float(constants[s]) for s in model.local.fixed])
        self.made = model.places["species"]
        D = [float(v.si) if (v := basin.diffusivity.get(s)) is not None else 0.0 for s in self.species]
        self.D = np.array(D)

    @cached_property
    def _fed(self) -> np.ndarray:
        """Concentrations of each inlet, shape (inlets, species)."""
        return np.array([[float(m.concentrations.get(s, 0.0)) for s in self.species] for m in self.basin.spec.mixtures])

    @property
    def _mean_fed(self) -> np.ndarray:
        """Mean concentrations of the feeds, shape (species,)."""
        flows = np.array([float(mixture.volume) for mixture in self.basin.spec.mixtures])
        return np.asarray(flows @ self._fed / flows.sum())

    def _through(self, values: np.ndarray) -> list[np.ndarray]:
        """A number of each inlet for each cell at the ports of the sides."""
        g, found = self.grid, []
        (xm, ym) = g.middle
        for side, port in zip(SIDES, self.transport.ports_in, strict=True):
            i, j = np.divmod(port.cells, g.ny)
            at = xm[i] if side in ("bottom", "top") else ym[j]
            row = np.zeros(len(port.cells))
            for inlet, value in zip(self.basin.inlets, values, strict=True):
                low, high = (v.si for v in inlet.between)
                row[(inlet.side == side) & (at > low) & (at < high)] = value
            found.append(row)
        return found

    # at steady state

    @cached_property
    def _independent(self) -> np.ndarray:
        """Independent directions of the reactions, shape (species, independent)."""
        matrix = np.asarray(self.basin.chemistry.network.matrix, dtype=float)
        chosen: list[int] = []
        for j in range(matrix.shape[1]):
            if np.linalg.matrix_rank(matrix[:, [*chosen, j]]) > len(chosen):
                chosen.append(j)
        return matrix[:, chosen]

    def steady(self) -> SteadyField:
        """The concentrations at steady state.

        If all species have equal diffusivity and equal feeds, only the independent extents of reaction are computed.
        """
        is_alike = bool((self.D[0] == self.D).all())
        if is_alike and (self._fed == self._fed[0]).all():
            columns, base = self._independent, self._carried(self._fed[:1].T, np.ones((1, self.grid.cells)))
            if columns.shape[1] == 0:
                return base
            D = np.full(columns.shape[1], self.D[0])
            feds: list[Fed] = [[0.0] * len(SIDES)] * columns.shape[1]
            sums = Sums(base.c, columns)
            return self._carried(columns, self._reacting(sums, D, feds), sums) + base
        count = len(self.species)
        feds = [self._through(self._fed[:, i]) for i in range(count)]
        sums = Sums(np.zeros((count, self.grid.cells)), np.eye(count))
        return self._carried(sums.columns, self._reacting(sums, self.D, feds), sums if is_alike else None)

    def _carried(self, columns: np.ndarray, fields: np.ndarray, sums: Sums | None = None) -> SteadyField:
        """Concentrations as sums of transported fields, and the outlet as the same sums of their outflows."""
        return SteadyField(columns @ fields, [columns @ one for one in self.transport.leaving(fields, sums)])

    def _reacting(self, sums: Sums, D: np.ndarray, feds: list[Fed]) -> np.ndarray:
        """The steady fields x with c = base + columns x, shape (fields, cells)."""
        base, columns = sums.base, sums.columns
        transport, cells, r = self.transport, self.grid.cells, columns.shape[1]
        inverse = np.linalg.pinv(columns)
        turned = np.einsum("ia,bj->abij", inverse, columns).reshape(-1, r * r)
        schemes = [transport.scheme(float(d)) for d in D]
        load = np.concatenate([transport.entering(fed) for fed in feds])
        held: PlainData = {"rounds": 0}

        def rates(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            """Sources of the fields by reactions in each cell, and their derivatives, shapes (r, cells) and (cells, r,
            r)."""
            made, by_c = self._rates(base + columns @ x.reshape(r, cells))
            return inverse @ made, (by_c.reshape(cells, -1) @ turned).reshape(cells, r, r)

        def renew(by: np.ndarray) -> None:
            blocks = [[-scipy.sparse.diags(by[:, i, j]) for j in range(r)] for i in range(r)]
            for i in range(r):
                blocks[i][i] = blocks[i][i] + schemes[i].matrix
            held["factors"], held["by"] = factor(scipy.sparse.bmat(blocks)), by

        def step(x: np.ndarray) -> np.ndarray:
            made, by = rates(x)
            held["rounds"] += 1
            moved = np.max(np.abs(by - held["by"])) > 1e-12 * np.max(np.abs(by)) if "by" in held else True
            if moved and held["rounds"] <= _RENEWED:
                renew(by)
            kept = np.einsum("kij,jk->ik", held["by"], x.reshape(r, cells))
            beyond = transport.corrections(x.reshape(r, cells), feds, schemes, sums)
            return np.asarray(held["factors"].solve(load - beyond.ravel() + (made - kept).ravel()))

        def found_from(first: np.ndarray) -> np.ndarray:
            held.clear()
            held["rounds"] = 0
            x = settled(step, first.ravel()).c.reshape(r, cells)
            c = base + columns @ x
            if c.min() < -BELOW * float(np.max(np.abs(c))):
                raise SolveError("the steady field has negative concentrations", self.basin.label, "take a finer grid")
            return x

        x = np.zeros((r, cells))
        residence = float(transport.volumes.sum()) / transport.passed
        for share, steps in _START_UP:
            try:
                return found_from(x)
            except SolveError:
                stepper = Stepper(transport, share * residence, D, feds, rates, sums)
                for _ in range(steps):
                    x = stepper.advance(x)
        return found_from(x)

    def mean_of(self, leaving: Sequence[np.ndarray]) -> np.ndarray:
        """The flow-averaged outlet, from the outflow through the cells of each side."""
        return np.asarray(sum(one.sum(axis=-1) for one in leaving) / self.transport.passed)

    def mean_outlet(self, c: np.ndarray, sums: Sums | None = None) -> np.ndarray:
        """The same for transported fields, shape (fields, cells)."""
        return self.mean_of(self.transport.leaving(c, sums))

    def run_of(self, found: SteadyField, coarse: BasinRun | None) -> BasinRun:
        """The result of a steady field; `coarse` is that on a grid with half the lines."""
        basin, g = self.basin, self.grid
        out, c, shape = self.mean_of(found.leaving), found.c, (g.nx, g.ny)
        depth = float(basin.depth.si)
        fed = self._mean_fed
        made = self.local.value(c.T)[:, self.made].T @ self.transport.volumes * depth / basin.spec.fed_flow
        closure = {
            name: float(abs(weights @ (out - fed)) / max(float(np.abs(weights) @ fed), 1e-300))
            for name, weights in basin.spec.plug.spec.conserved().items()
        }
        closure["species"] = float(np.max(np.abs(out - fed - made))) / max(float(np.max(fed)), 1e-300)
        age = self.transport.steady(float(np.max(self.D, initial=0.0)), [0.0] * 4, self.transport.volumes).c
        return BasinRun(
            basin,
            g,
            self.flow,
            {f"concentration of {s}": c[i].reshape(shape) for i, s in enumerate(self.species)},
            dict(zip(self.species, fed, strict=True)),
            dict(zip(self.species, out, strict=True)),
            coarse,
            age.reshape(shape),
            self._outlets(found.leaving),
            closure,
        )

    def _outlets(self, leaving: Sequence[np.ndarray]) -> list[dict[str, float]]:
        """Flow in m^3/s and mean concentrations of each outlet."""
        g, found = self.grid, []
        (xm, ym) = g.middle
        for outlet in self.basin.outlets:
            n = SIDES.index(outlet.side)
            port = self.transport.ports_out[n]
            i, j = np.divmod(port.cells, g.ny)
            at = xm[i] if outlet.side in ("bottom", "top") else ym[j]
            low, high = (v.si for v in outlet.between)
            own = (at > low) & (at < high)
            flow = float(port.flows[own].sum())
            one = {"flow": flow * float(self.basin.depth.si)}
            for s, row in zip(self.species, leaving[n], strict=True):
                one[s] = float(row[own].sum()) / flow if flow else math.nan
            found.append(one)
        return found

    # over time

    def follow(
        self,
        end: float,
        contents: ByName | None,
        steps: int,
        points: int,
        progress: Callable[[float], None] | None,
        half: BasinInTime | None,
    ) -> BasinInTime:
        """The fields over time from the contents at the start; `half` is the basin with half the lines and steps."""
        start = filled_with(self.basin.spec.plug, contents)
        c = np.repeat(np.array([start.get(s, 0.0) for s in self.species])[:, None], self.grid.cells, axis=1)
        feds: list[Fed] = [self._through(self._fed[:, i]) for i in range(len(self.species))]
        times = np.linspace(0.0, end, steps + 1)
        kept = np.unique(np.round(np.linspace(0, steps, points)).astype(int))
        is_alike = bool((self.D[0] == self.D).all())
        sums = Sums(np.zeros_like(c), np.eye(len(c))) if is_alike else None
        stepper = Stepper(self.transport, end / steps, self.D, feds, self._rates, sums)
        fields, out = [c], [self.mean_outlet(c, sums)]
        conserved = self.basin.spec.plug.spec.conserved()
        weights, volumes = np.array([*conserved.values()]).reshape(-1, len(c)), self.transport.volumes
        entering, flow = stepper.entering.sum(axis=1), self.transport.passed
        gap, size = np.zeros(len(weights)), np.abs(weights) @ (entering * end + c @ volumes)
        for n in range(1, steps + 1):
            c = stepper.advance(c)
            out.append(self.mean_outlet(c, sums))
            added = np.maximum(
                -c, 0.0
            )  # negative within the error of a step: set to zero, and included in the imbalance
            gap += weights @ ((entering - flow * out[-1] - stepper.accumulated) * end / steps - added @ volumes)
            c = c + added
            if n in kept:
                fields.append(c)
            if progress is not None:
                progress(n / steps)
        shape = (len(fields), self.grid.nx, self.grid.ny)
        left, names = np.array(out), [f"concentration of {s}" for s in self.species]
        errors = (math.nan, math.nan)
        if half is not None:
            errors = grid_errors(times, left.T, np.array([np.interp(times, half.times, half.outlet[n]) for n in names]))
        return BasinInTime(
            self.basin,
            self.grid,
            self.flow,
            times,
            times[kept],
            {name: np.array([f[i] for f in fields]).reshape(shape) for i, name in enumerate(names)},
            {name: left[:, i] for i, name in enumerate(names)},
            dict(zip(self.species, self._mean_fed, strict=True)),
            dict(zip(conserved, (np.abs(gap) / np.maximum(size, 1e-300)).tolist(), strict=True)),
            *errors,
        )

    def _rates(self, c: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The production of each species in each cell, and its derivatives; see `Rates`."""
        V = self.transport.volumes
        made = self.local.value(c.T)[:, self.made].T * V
        return made, self.local.slopes(c.T)[:, self.made, : len(self.species)] * V[:, None, None]

    # a tracer

    def raw_moments(self, D: float) -> list[float]:
        """The first three moments of the residence time about zero, from balances of the age."""
        transport, found, age = self.transport, list[float](), np.ones(self.grid.cells)
        for k in (1, 2, 3):
            age = transport.steady(D, [0.0] * len(SIDES), k * transport.volumes * age).c
            found.append(sum(float(one.sum()) for one in transport.leaving(age[None])) / transport.passed)
        return found

    def distribution(self, D: float, steps: int, progress: Callable[[float], None] | None) -> ResidenceTimeDistribution:
        """E and F by a step of tracer, with the moments of the age."""
        transport = self.transport
        raw = self.raw_moments(D)
        tau = raw[0]
        spread = math.sqrt(max(raw[1] - tau**2, 0.0))
        end = min(tau + 6 * spread, _LONGEST * tau) if spread > 0.02 * tau else 1.3 * tau
        stepper = Stepper(transport, end / steps, np.array([D]), [[1.0] * len(SIDES)])
        c, F = np.zeros((1, self.grid.cells)), [0.0]
        for n in range(1, steps + 1):
            c = stepper.advance(c)
            F.append(float(self.mean_outlet(c)[0]))
            if progress is not None:
                progress(n / steps)
        times = np.linspace(0.0, end, steps + 1)
        lowest = max(-float(np.diff(F).min() / np.diff(F).max()), 0.0)
        curve = np.maximum.accumulate(np.clip(F, 0.0, 1.0))
        E = np.maximum(np.gradient(curve, times), 0.0)
        rate = float(E[-1] / (1 - curve[-1])) if curve[-1] < 1 - 1e-9 else math.nan
        cut = f"at {times[-1] / tau:.3g} mean residence times, where {100 * curve[-1]:.4g} % have left"
        notes = {
            "from": f"a step of tracer through {self.basin.label}, {self.grid.nx} x {self.grid.ny} cells",
            "cut": cut,
        }
        return ResidenceTimeDistribution(
            times,
            E,
            curve,
            np.array(raw),
            rate,
            self.basin.spec.plug.volume,
            self.basin.inlets[0].feed.flow if len(self.basin.inlets) == 1 else None,
            notes=notes,
            display=self.basin.spec.display,
            verified=(Check("E not negative", lowest, RINGING, "the curve as it was computed"),),
        )
