"""`Run`: what comes out of a vessel."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.solve import ATOL, RTOL, RUN_OUT, Report, Solution, integrate, steady
from molino.core.balances.system import Case
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import InputError, SolveError
from molino.core.printing import Printed
from molino.core.vessels import metrics
from molino.core.vessels.base import Vessel
from molino.core.vessels.metrics import Metric
from molino.core.vessels.schedule import SINCE, Stage, Track, slope_of, stages
from molino.core.vessels.writing import FLOW, RELEASED, VOLUME, WARMING

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.vessels.streams import Stream


Tracks = Mapping[sp.Symbol, Track]


@dataclass(frozen=True, eq=False)
class Part:
    """A stage of a run: its numbers, how many of the rows are its own, and where it ended."""

    case: Case
    rows: int
    end: float


Split = Callable[[Case, Tracks, float], list[Stage]]


def follow(
    vessel: Vessel, end: float, points: Any, tighter: float = 1.0, tracks: Tracks | None = None, split: Split = stages
) -> Run:  # fmt: skip
    """Integrate a vessel's balances from 0 to `end` and check that no species goes below zero.

    `tighter` divides the tolerances; `tracks` are numbers that change on the way, beside the vessel's own; `split`
    makes stages of them.
    """
    vessel.require_known()
    rows = _rows(vessel, end, points)
    whole = Case(vessel.written.followed, vessel.case.values)
    moving = vessel.tracks() | dict(tracks or {})
    solution, parts = follow_stages(split(whole, moving, end), rows, tighter)
    check_run_out(vessel, solution)
    return Run(vessel, solution, parts)


def follow_stages(
    several: list[Stage], rows: np.ndarray, tighter: float = 1.0, by: tuple[sp.Symbol, ...] = ()
) -> tuple[Solution, tuple[Part, ...]]:
    """Integrate through stages, each from where the last one ended.

    Returns
    -------
    solution : of shape (rows, states)
    parts : for each stage what it was
    """
    begin, state, reports = 0.0, None, []
    states: list[np.ndarray] = []
    parts: list[Part] = []
    ends = np.array([stage.end for stage in several])
    near = np.abs(rows[:, None] - ends) <= 1e-12 * ends[-1]  # rows that only rounding keeps from the end of a stage
    rows = np.where(near.any(axis=1), ends[np.argmax(near, axis=1)], rows)
    for n, stage in enumerate(several):
        last = n == len(several) - 1
        own = rows[(rows >= begin) & ((rows <= stage.end) if last else (rows < stage.end))]
        points = np.unique(np.concatenate([[begin], own, [stage.end]]))
        found = integrate(stage.case, points, initial=state, rtol=RTOL / tighter, atol=ATOL / tighter, by=by)
        keep = np.isin(points, own)
        states.append(found.states[keep])
        parts.append(Part(stage.case, int(keep.sum()), stage.end))
        reports.append(found.report)
        begin, state = stage.end, found.states[-1]
    return Solution(rows, np.concatenate(states), None, Report.of(reports)), tuple(parts)


def sensitivities_at_end(run: Run, by: tuple[sp.Symbol, ...]) -> np.ndarray:
    """d(state)/d(parameter) at the end of a run, shape (states, parameters), through all stages."""
    begin, state, slopes = 0.0, None, None
    for part in run.parts:
        found = integrate(part.case, [begin, part.end], initial=state, by=by, slopes=slopes)
        assert found.sensitivities is not None
        begin, state, slopes = part.end, found.states[-1], found.sensitivities[-1]
    return np.asarray(slopes)


def _rows(vessel: Vessel, end: float, points: Any) -> np.ndarray:
    """Where a result has rows: so many from 0 to the end, or at given places, with 0 and the end put in if missing."""
    advice = "give a whole number from 2 up, or numbers in SI between 0 and the end"
    if isinstance(points, int) and points >= 2:
        return np.linspace(0.0, end, points)
    try:
        given = np.atleast_1d(np.asarray(points, dtype=float))
    except (TypeError, ValueError):
        given = np.array([np.nan])
    near = 1e-9 * end
    if isinstance(points, int) or given.ndim != 1 or not ((given >= 0) & (given <= end + near)).all():
        raise InputError(f"points = {points!r} are not places between 0 and {end:g}", vessel.label, advice)
    return np.array([0.0, *np.unique(given[(given > near) & (given < end - near)]), end])


def check_run_out(vessel: Vessel, solution: Solution) -> None:
    """Raise SolveError where a rate law goes on consuming a species that has run out."""
    balances = vessel.written.followed
    amounts = np.flatnonzero(balances.positive)
    held = solution.states[:, amounts]
    below = held < -RUN_OUT * np.max(np.abs(held))
    if below.any():
        row, column = (int(n) for n in np.argwhere(below)[0])
        name = balances.names[amounts[column]]
        kind = "time" if str(vessel.written.balances.independent) == "t" else "volume"
        place = vessel.display.text(solution.points[row], kind)
        said = f"{name} has run out before {kind} {place}, and a rate law goes on consuming it"
        advice = f"make that rate fall to zero with [{name}], or end the run earlier"
        raise SolveError(said, vessel.label, advice)


class Judged(Printed):
    """What is judged by metrics: a run of a vessel, or of a train."""

    def metric(self, metric: Metric) -> float:
        """A metric at the end, in SI."""
        raise NotImplementedError

    def conversion(self, species: str) -> float:
        """(fed - left) / fed; see `metrics.conversion`."""
        return self.metric(metrics.conversion(species))

    def yield_of(self, product: str, on: str) -> float:
        """Product formed per reactant fed, by stoichiometry; see `metrics.yield_of`."""
        return self.metric(metrics.yield_of(product, on))

    def selectivity(self, wanted: str, over: str | None = None, on: str | None = None) -> float:
        """Wanted over unwanted formed (`over`), or per reactant converted (`on`); see `metrics.selectivity`."""
        return self.metric(metrics.selectivity(wanted, over, on))

    def facts(self) -> dict[str, str]:
        """What an engineer wants to read of it, by name, with units."""
        raise NotImplementedError

    def lines(self, title: str) -> str:
        """A title, and the facts below it in two columns."""
        facts = self.facts()
        width = max(len(name) for name in facts)
        return "\n".join([title, *(f"  {name:<{width}}  {text}" for name, text in facts.items())])


@dataclass(frozen=True, eq=False)
class Run(Judged):
    """The result of running a vessel: arrays in SI inside, units outside.

    `vessel` is what ran; `solution` holds points and states, `report` what the integration did; `parts` what each
    of its stages was. Numbers without a place are those at the end: at
    the outlet of a tube, after the time of a batch or a start-up, at steady state.
    """

    vessel: Vessel
    solution: Solution
    parts: tuple[Part, ...]

    @property
    def report(self) -> Report:
        return self.solution.report

    @property
    def is_steady(self) -> bool:
        """Whether this is a steady state of a tank rather than something followed."""
        return bool(np.isinf(self.solution.points[-1]))

    @property
    def last_case(self) -> Case:
        """The balances with the numbers of the last stage."""
        return self.parts[-1].case

    @property
    def core_states(self) -> np.ndarray:
        """The states without the totals that only a run follows, shape (points, states)."""
        return self.solution.states[:, : len(self.vessel.written.balances.states)]

    def profile(self, metric: Metric) -> np.ndarray:
        """A metric at each point, shape (points,): as if the vessel ended there."""
        return self.evaluate((self.vessel.expression(metric),))[0]

    def metric(self, metric: Metric) -> float:
        """A metric at the end, in SI."""
        return float(self.profile(metric)[-1])

    @property
    def concentrations(self) -> dict[str, np.ndarray]:
        """Concentration of each species in mol/m^3, shape (points,)."""
        return {s: self.derived[s] for s in self.vessel.chemistry.names}

    @property
    def temperatures(self) -> np.ndarray:
        """Temperature in K, shape (points,); InputError where none is known."""
        if "T" in self.derived:
            return self.derived["T"]
        T = self._number(TEMPERATURE)
        if T is None or not np.isfinite(T):
            raise InputError("no temperature is given", self.vessel.label, "give T")
        return np.full(len(self.solution.points), T)

    @property
    def final(self) -> dict[str, Any]:
        """Concentration of each species at the end, as quantities."""
        return {s: self.vessel.display.quantity(c[-1], "concentration") for s, c in self.concentrations.items()}

    @property
    def final_temperature(self) -> Any:
        """Temperature at the end, as a quantity."""
        return self.vessel.display.quantity(float(self.temperatures[-1]), "temperature")

    @property
    def max_temperature(self) -> Any:
        """The highest temperature of the run, as a quantity."""
        return self.vessel.display.quantity(float(np.max(self.refined().temperatures)), "temperature")

    @property
    def duty_si(self) -> float:
        """Heat that came in through the walls: in W, of a batch or semi-batch in J; InputError where nothing tells."""
        self.vessel.require_heat()
        duty = self.vessel.written.duty
        assert duty is not None
        return float(self.evaluate((duty,))[0][-1])

    @property
    def duty_kind(self) -> str:
        """Whether the duty is a power (what flows) or an energy (what was charged)."""
        return "power" if self._number(FLOW) is not None else "energy"

    @property
    def duty(self) -> Any:
        """Heat that came in through the walls (negative: taken away), as a quantity.

        A power; of a batch or semi-batch the energy since the start. InputError with what the species lack where it
        cannot be told.
        """
        return self.vessel.display.quantity(self.duty_si, self.duty_kind)

    @property
    def heat_released(self) -> Any:
        """Heat that the reactions set free, as a quantity: a power in a steady tank or a tube, otherwise an energy.

        InputError with what the species lack where it cannot be told.
        """
        self.vessel.require_heat()
        if self.is_steady:
            return self.vessel.display.quantity(float(self.evaluate((self.vessel.written.heat_made,))[0][-1]), "power")
        kind = "power" if str(self.vessel.written.balances.independent) == "V" else "energy"
        return self.vessel.display.quantity(float(self.evaluate((RELEASED,))[0][-1]), kind)

    @property
    def time_to_maximum_rate(self) -> Any:
        """When the temperature rises fastest, as a quantity; InputError where it is kept."""
        if "dT/dt" not in self._extras or self.is_steady:
            raise InputError(
                "the temperature is kept, or nothing runs over time", self.vessel.label, "heat='adiabatic'"
            )
        end = float(self.solution.points[-1])
        fine = self.again(np.linspace(0.0, end, 2001))
        slope = fine._extras["dT/dt"]
        top = int(np.argmax(slope))
        near = np.linspace(fine.solution.points[max(top - 1, 0)], fine.solution.points[min(top + 1, 2000)], 201)
        finer = self.again(near)
        best = finer.solution.points[int(np.argmax(finer._extras["dT/dt"]))]
        return self.vessel.display.quantity(float(best), "time")

    @cached_property
    def _extras(self) -> dict[str, np.ndarray]:
        if not self.vessel.moves_T or self.duty_kind != "energy":
            return {}
        return {"dT/dt": self.evaluate((WARMING,))[0]}

    def again(self, points: np.ndarray) -> Run:
        """The same run with other rows."""
        end = float(self.solution.points[-1])
        rows = np.unique(np.concatenate([[0.0], points, [end]]))
        whole = [Stage(part.end, part.case) for part in self.parts]
        solution, parts = follow_stages(whole, rows)
        return Run(self.vessel, solution, parts)

    def refined(self) -> Run:
        """The same run with rows so close that between two of them no state changes by more than a fiftieth of its
        range: for drawing, and for what is highest."""
        if self.is_steady:
            return self
        run = self
        for _ in range(4):
            states, points = run.core_states, run.solution.points
            span = np.ptp(states, axis=0)
            moved = np.max(np.abs(np.diff(states, axis=0)) / np.where(span > 0, span, 1.0), axis=1)
            wide = np.flatnonzero(moved > 0.02)
            if not len(wide) or len(points) > 4000:
                break
            between = [np.linspace(points[n], points[n + 1], 8)[1:-1] for n in wide]
            run = self.again(np.concatenate([points, *between]))
        return run

    @property
    def residence_time_si(self) -> float:
        """In s: of a gas in a tube the time that it took, otherwise volume over flow, or the time of a batch."""
        names = self.vessel.written.followed.names
        if "residence time" in names and not self.is_steady:
            return float(self.solution.states[-1, names.index("residence time")])
        return self.space_time_si

    @property
    def space_time_si(self) -> float:
        """In s: volume over volumetric flow of the feed, or the time of a batch."""
        flow = self._number(FLOW)
        if flow is None:
            return float(self.solution.points[-1])
        volume = self._number(VOLUME)
        return float((volume if volume is not None else self.solution.points[-1]) / flow)

    @property
    def residence_time(self) -> Any:
        """The time that what flows stays in the vessel, or the time of a batch, as a quantity."""
        return self.vessel.display.quantity(self.residence_time_si, "time")

    @property
    def volume_si(self) -> float:
        """Volume of the vessel in m^3."""
        volume = self._number(VOLUME)
        return float(volume if volume is not None else self.solution.points[-1])

    def _number(self, symbol: sp.Symbol) -> float | None:
        case = self.parts[-1].case
        return case.value(symbol) if symbol in case.balances.parameters else None

    def evaluate(self, expressions: tuple[sp.Expr, ...]) -> list[np.ndarray]:
        """Expressions of the balances at each point, each of shape (points,)."""
        found: list[list[np.ndarray]] = [[] for _ in expressions]
        begin = 0
        for part in self.parts:
            case, own = part.case, slice(begin, begin + part.rows)
            begin += part.rows
            points, states = self.solution.points[own], self.solution.states[own]
            moved = moved_expressions(case, expressions)
            with np.errstate(divide="ignore", invalid="ignore"):
                rows = compiled(case.balances).outputs(moved)(case.values)(states.T, points)
            for held, row in zip(found, rows, strict=True):
                held.append(np.broadcast_to(np.asarray(row, dtype=float), points.shape))
        return [np.concatenate(rows) for rows in found]

    @cached_property
    def derived(self) -> dict[str, np.ndarray]:
        """What the balances derive (concentrations, temperature, rates), in SI, each of shape (points,)."""
        shown = self.vessel.written.balances.derived
        return dict(zip(shown, self.evaluate(tuple(shown.values())), strict=True))

    @property
    def kinds(self) -> dict[str, str]:
        """The kind of quantity of each thing derived."""
        own = {**self.vessel.rate_kinds, **self.vessel.written.kinds}
        return {name: own.get(name, "concentration") for name in self.derived}

    @cached_property
    def closure(self) -> dict[str, float]:
        """How far each element (or stoichiometric invariant), mass and energy are from closing, as a share of all.

        What went in, less what went out, against what is there, at every point of a run; of a steady tank what flows
        in against what flows out. Energy counts relative to the largest of heat, warming and heat of reaction.
        """
        written, species = self.vessel.written, self.vessel.chemistry.structure.species
        if self.is_steady:
            both = [written.inlet[s] for s in species] + [written.outlet[s] for s in species]
        else:
            both = [written.amounts[s].wanted for s in species] + [written.amounts[s].there for s in species]
        rows = np.array(self.evaluate(tuple(both)))
        wanted, there = rows[: len(species)], rows[len(species) :]
        found = {}
        for name, weights in self.vessel.conserved().items():
            size = np.max(np.abs(weights) @ np.maximum(np.abs(wanted), np.abs(there)))
            found[name] = float(np.max(np.abs(weights @ (there - wanted))) / size) if size else 0.0
        energy = written.steady if self.is_steady else written.energy
        if energy is not None:
            wanted, there, *sizes = self.evaluate((energy.wanted, energy.there, *energy.size))
            size = max(float(np.max(np.abs(row))) for row in sizes)
            found["energy"] = float(np.max(np.abs(there - wanted)) / size) if size else 0.0
        return found

    def table(self, show: Mapping[str, str] | None = None) -> pd.DataFrame:
        """Time or position, concentrations, temperature, rates and what else there is, with units in the headings.

        Parameters
        ----------
        show : mapping of kind to unit, optional
            Units for this table, {"concentration": "kmol/m3", "temperature": "K"}; otherwise those of the vessel.

        Raises
        ------
        InputError
            For a kind that is none, or a unit of another dimension.
        """
        import pandas as pd

        display = self.vessel.with_(show={**self.vessel.show, **show}).display if show else self.vessel.display
        columns: dict[str, Any] = {}
        if not self.is_steady:
            for name, kind, values in self.positions():
                columns[display.heading(name, kind)] = display.number(values, kind)
        kinds = self.kinds
        for name, values in self.derived.items():
            columns[display.heading(name, kinds[name])] = display.number(values, kinds[name])
        return pd.DataFrame(columns)

    def stream_out(self) -> Stream:
        """What comes out, or is in a batch at its end, in SI."""
        from molino.core.vessels.streams import outlet_of

        return outlet_of(self)

    @property
    def knows_duty(self) -> bool:
        """Whether there is enough to tell the duty."""
        return self.vessel.written.duty is not None

    def stream_table(self) -> pd.DataFrame:
        """What goes in and what comes out, side by side: flows, fractions, temperature, pressure and density.

        Of a batch or semi-batch what was charged (and fed), and what is in it (and came out) at the end.
        """
        from molino.core.vessels.streams import inlet_of, is_whole, outlet_of, stream_table

        both = [inlet_of(self), outlet_of(self)]
        return stream_table(both, self.vessel.by_name, self.vessel.display, is_whole(self.vessel, both[0]))

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """(name, kind, SI values) of what runs along: time, or length, volume and residence time of a tube."""
        points = self.solution.points
        if str(self.vessel.written.balances.independent) == "t":
            return [("time", "time", points)]
        area = getattr(self.vessel, "area", np.nan)
        along = [("length", "length", points / area)] if np.isfinite(area) else []
        names = self.vessel.written.followed.names
        flow = self._number(FLOW)
        assert flow is not None
        times = points / flow
        if "residence time" in names:
            times = self.solution.states[:, names.index("residence time")]
        return [*along, ("volume", "volume", points), ("residence time", "time", times)]

    def settling_time(self, band: float = 0.02) -> Any:
        """When a tank has come to its steady state to within a band and stays there, as a quantity.

        Every concentration, and the temperature, counts by its own largest distance from the steady state that it ends
        in: with band 0.02 all are within two per cent of that from then on.

        Raises
        ------
        InputError
            If this is no start-up of a tank, or the band is none.
        SolveError
            If it does not settle within this run.
        """
        if self.is_steady or not hasattr(self.vessel, "steady"):
            raise InputError("only the run of a tank over time settles", self.vessel.label, "tank.run('6 h')")
        if not 0 < band < 1:
            raise InputError(f"band = {band!r}", self.vessel.label, "give a fraction, like 0.02")
        fine = self.again(np.linspace(0.0, float(self.solution.points[-1]), 4001))
        case = Case(self.vessel.written.balances, self._last_values())
        rest, _ = steady(case, self.space_time_si, fine.core_states[-1])
        watched = [state.kind in ("amount", "temperature") for state in case.balances.states]
        off = np.abs(fine.core_states - rest)[:, watched]
        far = np.max(off, axis=0)
        moved = far > 1e-9 * np.abs(rest[watched])
        outside = np.flatnonzero(np.any(off[:, moved] > band * far[moved], axis=1))
        if len(outside) and outside[-1] == len(off) - 1:
            raise SolveError("it does not settle within this run", self.vessel.label, "run it for longer")
        times = fine.solution.points
        if not len(outside):
            return self.vessel.display.quantity(0.0, "time")
        n = int(outside[-1])
        worst = int(np.argmax(off[n, moved] / far[moved]))
        a, b = off[n : n + 2, moved][:, worst]
        limit = band * far[moved][worst]
        share = (a - limit) / (a - b) if a > b else 1.0
        return self.vessel.display.quantity(float(times[n] + min(share, 1.0) * (times[n + 1] - times[n])), "time")

    def _last_values(self) -> tuple[float, ...]:
        """The numbers of the plain balances as they stand at the end."""
        case, end = self.parts[-1].case, float(self.solution.points[-1])
        held = dict(zip(case.balances.parameters, case.values, strict=True))
        since = held.get(SINCE, 0.0)
        return tuple(
            held[p] + held.get(slope_of(p), 0.0) * (end - since) for p in self.vessel.written.balances.parameters
        )

    def beyond(self) -> list[str]:
        """Where a heat capacity was used outside of the range in which it holds, in words."""
        if self.vessel.written.duty is None or self.vessel.mixture_capacity is not None:
            return []
        low, high = float(np.min(self.temperatures)), float(np.max(self.temperatures))
        found = []
        for species in self.vessel.chemistry.species:
            valid = species.heat_capacity.valid if species.heat_capacity is not None else None
            if valid is not None and (low < valid[0].si or high > valid[1].si):
                found.append(f"{species.name} beyond {valid[0]} to {valid[1]}")
        return found

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        structure = self.vessel.chemistry.structure
        consumed = {i for column in structure.stoichiometry for i, moles in column if moles < 0}
        reactants = [s for i, s in enumerate(structure.species) if i in consumed and self.vessel.goes_in(s)]
        found = {f"conversion of {s}": self.conversion(s) for s in reactants}
        return found | {f"concentration of {s}": float(c[-1]) for s, c in self.concentrations.items()}

    def facts(self) -> dict[str, str]:
        """What an engineer wants to read of it, by name, with units."""
        display = self.vessel.display
        flow, volume = self._number(FLOW), self._number(VOLUME)
        found = {}
        if not self.is_steady and flow is not None and volume is not None:
            found["run for"] = display.text(self.solution.points[-1], "time")
        found["residence time" if flow is not None else "time"] = display.text(self.residence_time_si, "time")
        if abs(self.space_time_si / self.residence_time_si - 1) > 1e-6:
            found["space time"] = display.text(self.space_time_si, "time")
        for name, value in self.summary().items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        kinds = self.kinds
        ends = [n for n, kind in kinds.items() if kind in ("temperature", "pressure", "volume")]
        for name in ends:
            word = {"T": "temperature", "P": "pressure"}.get(name, name)
            found[word] = display.text(float(self.derived[name][-1]), kinds[name], 5)
            if name == "T" and self.vessel.moves_T and not self.is_steady:
                warm = self.refined().temperatures
                if 0 < int(np.argmax(warm)) < len(warm) - 1:
                    found["highest temperature"] = display.text(float(np.max(warm)), "temperature", 5)
        if self.vessel.written.duty is not None and self.vessel.heat_shape.mode != "adiabatic":
            found["duty" if self.duty_kind == "power" else "heat added"] = display.text(self.duty_si, self.duty_kind)
        if beyond := self.beyond():
            found["heat capacity of"] = "; ".join(beyond)
        if self.closure:
            found[f"balances of {', '.join(self.closure)} close to"] = f"{max(self.closure.values()):.2e}"
        return {**found, "solved by": str(self.report)}

    def __str__(self) -> str:
        return self.lines(str(self.vessel))


def moved_expressions(case: Case, expressions: tuple[sp.Expr, ...]) -> tuple[sp.Expr, ...]:
    """Expressions of plain balances for those of a stage, in which some parameters move."""
    held = {*case.balances.parameters}
    if SINCE not in held:
        return expressions
    along = case.balances.independent - SINCE
    swap = {p: p + slope_of(p) * along for p in case.balances.parameters if slope_of(p) in held}
    return tuple(e.xreplace(swap) for e in expressions)
