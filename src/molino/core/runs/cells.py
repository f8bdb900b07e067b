"""The balances of a tube in cells, integrated over time."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import (
    ACTIVITY,
    CONDUCTION,
    FEED_T,
    FLOW,
    HEAT_SPREAD,
    HELD,
    INLET,
    LOADING_AT_START,
    SPREAD,
    WALL,
    slope_of,
)
from molino.core.balances.engines import lsoda
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.balances.system import State
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contents.feed import check_species, mixture_of
from molino.core.contents.mixture import Contents
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError, SolveError
from molino.core.runs.run import Run
from molino.core.terms.tube_cells import CellModel, cell_model
from molino.core.units import Value

_RTOL = 1e-6
_ATOL = 1e-9
_MOST_STEPS = 50_000
Fed = Callable[[float], tuple[float, np.ndarray, float]]
"""Flow, concentrations and temperature of the feed at a moment."""
Progress = Callable[[float], None]
"""Called with the fraction of the time that is done."""


@dataclass(eq=False)
class Followed:
    """The result of `Cells.run`."""

    volumes: np.ndarray
    inside: dict[str, np.ndarray]
    fed: dict[str, np.ndarray]
    left: dict[str, np.ndarray]
    outlet: dict[str, np.ndarray]
    closure: dict[str, float]
    flow: np.ndarray
    """Volumetric flow of the outlet."""


@dataclass(eq=False)
class _Faces:
    """Transport through the faces: flows, enthalpies relative to the cells on either side, conduction."""

    flow: np.ndarray
    species: np.ndarray
    into: np.ndarray
    out_of: np.ndarray
    conducted: np.ndarray
    last: np.ndarray
    last_T: float


class Cells:
    """A tube cut into cells, as a system of ordinary differential equations."""

    def __init__(
        self, vessel: Vessel, cells: int, moved: Mapping[sp.Symbol, PiecewiseLinear], fed: Fed | None = None
    ) -> None:
        self.vessel, self.cells, self.fed = vessel, cells, fed
        self.numbers, _ = vessel.spec.own_parameters
        self.piecewise = moved
        self.volume = vessel.spec.end_si
        self.dV = self.volume / cells
        packing = vessel.catalyst
        self.void = packing.voidage.si if packing is not None else 1.0
        adsorption = packing.adsorption if packing is not None else None
        more = () if adsorption is None else (adsorption.term(),)
        key = vessel.spec.key
        held = {*cell_model(key, (), more).local.fixed}
        moving = tuple(s for s in moved if s in held and not (s == TEMPERATURE and key.heat.is_non_isothermal))
        self.model: CellModel = cell_model(key, moving, more)
        if TEMPERATURE in moving and not key.phase.carries_volume:
            raise InputError(
                "over time the temperature of a gas cannot be prescribed if it changes",
                vessel.label,
                "give it heat exchange, or a constant T",
            )
        self.species = key.network.species
        self.ns, self.m = len(self.species), len(self.model.states)
        self.has_energy, self.follows_T = key.has_energy, self.model.follows_T
        self.constants = dict(self.numbers) | {HELD: self.void, WALL: self._solid()}
        self.constants[slope_of(TEMPERATURE)] = 0.0
        self.constants |= adsorption.numbers if adsorption is not None else {}
        self.constants |= {s: 0.0 for s in self.model.local.fixed if s.role == LOADING_AT_START}
        self.local = self.model.local.at([float(self.constants[s]) for s in self.model.local.fixed])
        self.face = self.model.face.at([float(self.constants.get(s, 0.0)) for s in self.model.face.fixed])
        self.is_dispersed = SPREAD in self.numbers
        self.has_flat_ends = self.is_dispersed or cells == 1

    def _solid(self) -> float:
        """Heat capacity of the packing in J/(m^3 K)."""
        packing = self.vessel.catalyst
        if packing is None or packing.heat_capacity is None:
            return 0.0
        return float(packing.heat_capacity.si * packing.bulk_density.si)

    def _now(self, symbol: sp.Symbol, t: float) -> float:
        course = self.piecewise.get(symbol)
        return float(self.numbers[symbol]) if course is None else self._value(course, t)

    def _value(self, course: PiecewiseLinear, t: float) -> float:
        # a step belongs to the stage that it begins, and to the end of the stage before it
        return course.before(t) if t >= self.stage_end else course.after(t)

    stage_end = np.inf

    def _inlet(self, t: float) -> tuple[float, np.ndarray, float]:
        """Flow, concentrations and temperature of the feed."""
        if self.fed is not None:
            return self.fed(t)
        flow = self._now(FLOW, t)
        c = np.array([self._now(INLET(s), t) for s in self.species])
        T = self._now(FEED_T, t) if FEED_T in self.numbers else np.nan
        return flow, c, T

    def _columns(self, Y: np.ndarray, t: float) -> np.ndarray:
        moving = [np.full(len(Y), self._now(s, t)) for s in self.model.moving]
        return np.column_stack([Y, *moving])

    def _temperature(self, Y: np.ndarray, t: float) -> np.ndarray:
        if self.follows_T:
            return Y[:, self.ns]
        T = self._now(TEMPERATURE, t) if TEMPERATURE in self.numbers else np.nan
        return np.full(len(Y), T)

    def _at_face(self, T: np.ndarray, c: np.ndarray, face_T: np.ndarray) -> np.ndarray:
        """Per volume of the stream: its volume, its enthalpy relative to T, and its enthalpy."""
        return self.face.value(np.column_stack([T, c, face_T]))

    def faces(self, Y: np.ndarray, local: np.ndarray, t: float) -> _Faces:
        """Transport through the faces at a moment."""
        ns, phase = self.ns, self.vessel.spec.key.phase
        flow, fed, fed_T = self._inlet(t)
        c, T = Y[:, :ns] / self.void, self._temperature(Y, t)
        if not (self.has_energy and self.follows_T):
            fed_T = T[0]
        ahead, ahead_T = limited(c, fed, self.has_flat_ends), T.copy()
        if self.follows_T:
            ahead_T = limited(T[:, None], np.array([fed_T]), self.has_flat_ends)[:, 0]
        if not phase.carries_volume:
            ahead = ahead / self._at_face(ahead_T, ahead, ahead_T)[:, :1]
        left_c, left_T = np.vstack([fed, ahead[:-1]]), np.concatenate([[fed_T], ahead_T[:-1]])
        spread, conducted = np.zeros((self.cells + 1, ns)), np.zeros(self.cells + 1)
        if self.is_dispersed:
            spread[1:-1], conducted[1:-1] = self._dispersed(Y, local, c, T, t)
        with_heat = self.has_energy and self.follows_T
        zero = np.zeros(self.cells)
        into = out_of = zero
        if with_heat:
            both = self._at_face(np.tile(T, 2), np.vstack([left_c, ahead]), np.concatenate([left_T, ahead_T]))
            into, out_of = both[: self.cells, 1], both[self.cells :, 1]
        into_by_spread = out_by_spread = zero
        if with_heat and self.is_dispersed:
            # dispersion transports no volume: only the enthalpy of the species counts
            nothing = np.zeros((self.cells, ns))
            into_by_spread = self._species_heat(T, spread[:-1], left_T, nothing)
            out_by_spread = self._species_heat(T, spread[1:], ahead_T, nothing)
        if phase.carries_volume:
            flows = np.full(self.cells + 1, flow)
        else:
            flows = self._flows(
                flow, local, left_c, ahead, spread, into, out_of, into_by_spread, out_by_spread, conducted
            )
        species = flows[:, None] * np.vstack([left_c[:1], ahead]) + spread
        return _Faces(
            flows,
            species,
            flows[:-1] * into + into_by_spread,
            flows[1:] * out_of + out_by_spread,
            conducted,
            ahead[-1],
            float(ahead_T[-1]),
        )

    def _species_heat(self, T: np.ndarray, n: np.ndarray, face_T: np.ndarray, nothing: np.ndarray) -> np.ndarray:
        both = [self._at_face(T, one, face_T)[:, 1] for one in (n, nothing)]
        return np.asarray(both[0] - both[1])

    def _dispersed(
        self, Y: np.ndarray, local: np.ndarray, c: np.ndarray, T: np.ndarray, t: float
    ) -> tuple[np.ndarray, np.ndarray]:
        """Molar flows and heat by dispersion through the inner faces."""
        per = self._now(SPREAD, t) / self.dV
        if self.vessel.spec.key.phase.carries_volume:
            flows = -per * np.diff(c, axis=0)
        else:
            whole = c.sum(axis=1, keepdims=True)
            flows = -per * (whole[1:] + whole[:-1]) / 2 * np.diff(c / whole, axis=0)
        if not self.follows_T:
            return flows, np.zeros(self.cells - 1)
        if CONDUCTION in self.numbers:
            k = np.full(self.cells - 1, self._now(CONDUCTION, t))
        else:
            fluid = local[:, self.model.places["capacity"]][:, 1] / self.void
            k = self._now(HEAT_SPREAD, t) * (fluid[1:] + fluid[:-1]) / 2
        return flows, -k * np.diff(T) / self.dV

    def _flows(
        self,
        flow: float,
        local: np.ndarray,
        left_c: np.ndarray,
        ahead: np.ndarray,
        spread: np.ndarray,
        into: np.ndarray,
        out_of: np.ndarray,
        into_by_spread: np.ndarray,
        out_by_spread: np.ndarray,
        conducted: np.ndarray,
    ) -> np.ndarray:
        """The flow through each face that keeps every cell full: sum v_i dn_i/dt + (dV/dT) dT/dt = 0, cell by cell."""
        places = self.model.places
        v, own = local[:, places["volumes"]], local[:, places["species"]]
        out_volume = (v * ahead).sum(axis=1)
        in_volume = (v * left_c).sum(axis=1)
        grows = self.dV * (v * own).sum(axis=1) + (v * (spread[:-1] - spread[1:])).sum(axis=1)
        if self.follows_T:
            by_T = local[:, places["volume by T"]][:, 0] / local[:, places["capacity"]][:, 0]
            heat = local[:, places["heating"]][:, 0] + local[:, places["wall"]][:, 0]
            grows = grows + by_T * (self.dV * heat + into_by_spread - out_by_spread - np.diff(conducted))
            out_volume = out_volume + by_T * out_of
            in_volume = in_volume + by_T * into
        factor, added = in_volume / out_volume, grows / out_volume
        reach = np.cumprod(factor)
        return np.concatenate([[flow], reach * (flow + np.cumsum(added / reach))])

    def slopes(self, flat: np.ndarray, t: float) -> np.ndarray:
        """d/dt of all cells, then of the total inflow and outflow."""
        size = self.cells * self.m
        Y = flat[:size].reshape(self.cells, self.m)
        local = self.local.value(self._columns(Y, t))
        faces, places = self.faces(Y, local, t), self.model.places
        found = np.empty_like(Y)
        found[:, : self.ns] = local[:, places["species"]] - np.diff(faces.species, axis=0) / self.dV
        found[:, self.m - (places["still"].stop - places["still"].start) :] = local[:, places["still"]]
        passed: list[float] = [*faces.species[0], *faces.species[-1]]
        if self.has_energy:
            heating, wall = local[:, places["heating"]][:, 0], local[:, places["wall"]][:, 0]
            streams = (faces.into - faces.out_of - np.diff(faces.conducted)) / self.dV
            if self.follows_T:
                found[:, self.ns] = (heating + wall + streams) / local[:, places["capacity"]][:, 0]
            passed.append(float(wall.sum() * self.dV))
            passed.append(self._enthalpy_in(t) - self._enthalpy_out(faces, Y, t))
        if self.report is not None:
            self.report(t)
        return np.concatenate([found.ravel(), passed])

    report: Callable[[float], None] | None = None

    def _enthalpy_in(self, t: float) -> float:
        flow, fed, T = self._inlet(t)
        row = self._at_face(np.array([T]), fed[None], np.array([T]))
        return float(flow * row[0, 2])

    def _enthalpy_out(self, faces: _Faces, Y: np.ndarray, t: float) -> float:
        T = np.array([faces.last_T])
        return float(faces.flow[-1] * self._at_face(T, faces.last[None], T)[0, 2])

    # the run

    def _start(self, contents: object) -> np.ndarray:
        """The initial contents of the cells, shape (cells, states)."""
        vessel = self.vessel
        middle = (np.arange(self.cells) + 0.5) * self.dV
        T0 = float(self.numbers[FEED_T]) if self.follows_T else np.nan
        Y = np.zeros((self.cells, self.m))
        if isinstance(contents, str):
            if contents != "steady":
                raise InputError(f"contents = '{contents}'", vessel.label, "give 'steady', or concentrations")
            steady = vessel.run()
            assert isinstance(steady, Run)
            run = steady.at(middle)
            keep = np.searchsorted(run.points, middle)
            for i, s in enumerate(self.species):
                Y[:, i] = run.concentrations[s][keep]
            if self.follows_T:
                Y[:, self.ns] = run.temperatures[keep]
        else:
            c = filled_with(vessel, contents)
            Y[:, : self.ns] = np.array([c.get(s, 0.0) for s in self.species])
            if self.follows_T:
                Y[:, self.ns] = T0
        Y[:, : self.ns] *= self.void
        still = self.model.states[self.m - (self.model.places["still"].stop - self.model.places["still"].start) :]
        for n, state in enumerate(still):
            place = self.m - len(still) + n
            if state.symbol == ACTIVITY:
                Y[:, place] = self.local.value(self._columns(Y, 0.0))[:, self.model.places["activity at start"]][:, 0]
        self._fill_loadings(Y, still)
        return Y

    def _fill_loadings(self, Y: np.ndarray, still: Sequence[State]) -> None:
        """Loadings at equilibrium with the contents of the cells, by the isotherm."""
        loadings = [self.m - len(still) + n for n, state in enumerate(still) if state.kind == "loading"]
        if not loadings:
            return
        first = self.local.value(self._columns(Y, 0.0))[:, self.model.places["still"]]
        packing = self.vessel.catalyst
        assert packing is not None
        rate = packing.adsorption.rate.si
        for place in loadings:  # k (q* - 0) of an empty packing is k q*
            Y[:, place] = first[:, place - (self.m - len(still))] / rate

    def run(self, contents: object, times: np.ndarray, progress: Progress | None) -> Followed:
        """Integrate from one change to the next, with rows at the given times."""
        first = self._start(contents)
        size, extra = self.cells * self.m, 2 * self.ns + (2 if self.has_energy else 0)
        flat = np.concatenate([first.ravel(), np.zeros(extra)])
        sizes = np.concatenate([np.tile(self._scales(first, times), self.cells), np.full(extra, 1e30)])
        marks = {t for course in self.piecewise.values() for t in course.times if 0 < t < times[-1]}
        stages = [0.0, *sorted(marks), float(times[-1])]
        rows = np.empty((len(times), len(flat)))
        rows[0] = flat
        done = 0.0

        def report(t: float) -> None:
            nonlocal done
            if progress is not None and t / times[-1] > done + 0.01:
                done = min(t / times[-1], 1.0)
                progress(done)

        self.report = report
        for begin, end in itertools.pairwise(stages):
            self.stage_end = end
            own = (times > begin) & (times <= end)
            grid = np.unique(np.concatenate([[begin], times[own], [end]]))
            found, info = lsoda(
                self.slopes,
                None,
                flat,
                grid,
                _RTOL,
                _ATOL * sizes,
                ml=3 * self.m - 1,
                mu=2 * self.m - 1,
                mxstep=_MOST_STEPS,
                tcrit=[end],
            )
            if info["message"] != "Integration successful." or not np.isfinite(found[-1]).all():
                message = f"stopped between {begin:.6g} s and {end:.6g} s ({info['message'].split('(')[0].strip()})"
                raise SolveError(
                    message, self.vessel.label, "try fewer cells, or look for a rate that grows without limit"
                )
            rows[own] = found[np.searchsorted(grid, times[own])]
            flat = found[-1]
        self.report = None
        if progress is not None:
            progress(1.0)
        return self._read(rows, times, size)

    def _scales(self, first: np.ndarray, times: np.ndarray) -> np.ndarray:
        """The scales of absolute tolerances: those of the contents, and of the inlet at all times."""
        entering = max(float(np.max(self._inlet(t)[1])) for t in times)
        fed = max(entering, float(np.max(first[:, : self.ns])) / self.void, 1e-300)
        found = np.ones(self.m)
        found[: self.ns] = fed * self.void
        if self.follows_T:
            found[self.ns] = 1e2
        return found

    def _read(self, rows: np.ndarray, times: np.ndarray, size: int) -> Followed:
        """Names and closures for the rows of an integration."""
        count, ns = len(times), self.ns
        Y = rows[:, :size].reshape(count, self.cells, self.m)
        inside = {f"concentration of {s}": Y[:, :, i] / self.void for i, s in enumerate(self.species)}
        if self.follows_T:
            inside["temperature"] = Y[:, :, ns]
        still = self.model.states[ns + self.follows_T :]
        inside |= {state.name: Y[:, :, ns + self.follows_T + n] for n, state in enumerate(still)}
        fed, left = np.empty((count, ns)), np.empty((count, ns))
        outlet: dict[str, np.ndarray] = {f"concentration of {s}": np.empty(count) for s in self.species}
        flows, temperatures, duties = np.empty(count), np.empty(count), np.empty(count)
        self.stage_end = np.inf
        held, capacity = [], 0.0
        for n, t in enumerate(times):
            local = self.local.value(self._columns(Y[n], t))
            faces, places = self.faces(Y[n], local, t), self.model.places
            fed[n], left[n] = faces.species[0], faces.species[-1]
            flows[n], temperatures[n] = faces.flow[-1], faces.last_T
            for i, s in enumerate(self.species):
                outlet[f"concentration of {s}"][n] = faces.species[-1, i] / faces.flow[-1]
            if self.has_energy:
                heating, wall = local[:, places["heating"]][:, 0], local[:, places["wall"]][:, 0]
                duties[n] = wall.sum() * self.dV if self.follows_T else self._needed(faces, heating, Y[n], t)
                held.append(float(local[:, places["enthalpy"]].sum() * self.dV))
            if self.follows_T:
                capacity = max(capacity, float(local[:, places["capacity"]][:, 0].sum() * self.dV))
        if self.follows_T:
            outlet["temperature"] = temperatures
        if not self.vessel.spec.key.phase.carries_volume:
            outlet["volumetric flow"] = flows
        if self.has_energy and self.vessel.spec.heat_shape.mode != "adiabatic":
            outlet["duty"] = duties
        sensible = capacity * float(np.ptp(Y[:, :, ns])) if self.follows_T else 0.0
        closure = self._closure(Y, rows[-1, size:], held, sensible)
        return Followed(
            (np.arange(self.cells) + 0.5) * self.dV,
            inside,
            dict(zip(self.species, fed.T, strict=True)),
            dict(zip(self.species, left.T, strict=True)),
            outlet,
            closure,
            flows,
        )

    def _needed(self, faces: _Faces, heating: np.ndarray, Y: np.ndarray, t: float) -> float:
        """Heat that holds a prescribed temperature: heat of reaction, and heating of the feed."""
        flow, fed, T = self._inlet(t)
        own = self._temperature(Y, t)[:1]
        warm = self._at_face(own, fed[None], np.array([T]))[0, 1] if np.isfinite(T) else 0.0
        return float(-heating.sum() * self.dV - flow * warm)

    def _closure(self, Y: np.ndarray, passed: np.ndarray, held: list[float], sensible: float) -> dict[str, float]:
        """Imbalances over the whole time, relative to the amounts fed and initially present.

        The imbalance of energy is relative to the heat, or to the sensible heat between the lowest and the highest
        temperature: the heat of adiabatic reactions is part of the enthalpy.
        """
        ns, found = self.ns, {}
        there = Y[:, :, :ns].sum(axis=1) * self.dV
        for n, state in enumerate(self.model.states):
            if state.kind == "loading":
                i = self.species.index(str(state.name).removeprefix("loading of "))
                packing = self.vessel.catalyst
                assert packing is not None
                there[:, i] += Y[:, :, n].sum(axis=1) * self.dV * packing.bulk_density.si
        came, went = passed[:ns], passed[ns : 2 * ns]
        for name, weights in self.vessel.spec.conserved().items():
            size = float(np.abs(weights) @ (there[0] + np.abs(came)))
            lack = float(weights @ (there[-1] + went - there[0] - came))
            found[name] = abs(lack) / size if size else 0.0
        if held and self.follows_T:
            wall, carried = passed[2 * ns :]
            inside = held[-1] - held[0]
            size = max(abs(wall), abs(carried), abs(inside), sensible, 1e-300)
            found["energy"] = float(abs(inside - wall - carried) / size)
        return found


def filled_with(vessel: Vessel, contents: Any) -> dict[str, float]:
    """Initial concentrations of a vessel in SI: those given, or those of its feed.

    Raises
    ------
    InputError
        For invalid concentrations or unknown species.
    """
    if contents is None:
        return {s: float(c) for s, c in vessel.spec.fed.concentrations.items()}
    place = f"{vessel.label}, contents"
    P = Value(vessel.spec.feed_pressure(), "Pa") if vessel.is_gas else None
    read = contents if isinstance(contents, Contents) else Contents(contents, False, place)
    check_species(read, vessel.chemistry, place)
    found = mixture_of(
        read, [], vessel.spec.species_by_name, vessel.spec.first_T, P, None, vessel.spec.fluid_model
    ).concentrations
    return {s: float(c) for s, c in found.items()}


def limited(u: np.ndarray, fed: np.ndarray, has_flat_ends: bool) -> np.ndarray:
    """Values at the downstream faces of cells, shape (cells, k), with the limiter of van Leer."""
    before = u[:1] if has_flat_ends else np.maximum(2 * fed[None] - u[:1], 0.0)
    after = u[-1:] if has_flat_ends else np.maximum(2 * u[-1:] - u[-2:-1], 0.0)
    a = u - np.vstack([before, u[:-1]])
    b = np.vstack([u[1:], after]) - u
    both = a * b
    with np.errstate(divide="ignore", invalid="ignore"):
        half = np.where(both > 0, both / (a + b), 0.0)
    return np.asarray(u + half)
