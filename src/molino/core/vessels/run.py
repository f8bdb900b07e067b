"""`Run`: what comes out of a vessel."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.solve import ATOL, RTOL, RUN_OUT, Report, Solution, integrate
from molino.core.errors import InputError, SolveError
from molino.core.printing import Printed
from molino.core.vessels import metrics
from molino.core.vessels.base import FLOW, VOLUME, Vessel
from molino.core.vessels.metrics import Metric

if TYPE_CHECKING:
    import pandas as pd


def follow(vessel: Vessel, end: float, points: Any, tighter: float = 1.0) -> Run:
    """Integrate a vessel's balances from 0 to `end` and check that no species goes below zero.

    `tighter` divides the tolerances.
    """
    vessel.require_known()
    solution = integrate(vessel.case, _rows(vessel, end, points), rtol=RTOL / tighter, atol=ATOL / tighter)
    check_run_out(vessel, solution)
    return Run(vessel, solution)


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
    size = np.max(np.abs(solution.states))
    below = solution.states < -RUN_OUT * size
    if below.any():
        row, column = (int(n) for n in np.argwhere(below)[0])
        name = vessel.written.balances.names[column]
        kind = "time" if str(vessel.written.balances.independent) == "t" else "volume"
        place = vessel.display.text(solution.points[row], kind)
        said = f"{name} has run out before {kind} {place}, and a rate law goes on consuming it"
        advice = f"make that rate fall to zero with [{name}], or end the run earlier"
        raise SolveError(said, vessel.label, advice)


@dataclass(frozen=True, eq=False)
class Run(Printed):
    """The result of running a vessel: arrays in SI inside, units outside.

    `vessel` is what ran; `solution` holds points and states, `report` what the integration did. Numbers without a
    place are those at the end: at the outlet of a tube, after the time of a batch or a start-up, at steady state.
    """

    vessel: Vessel
    solution: Solution

    @property
    def report(self) -> Report:
        return self.solution.report

    @property
    def is_steady(self) -> bool:
        """Whether this is a steady state of a tank rather than something followed."""
        return bool(np.isinf(self.solution.points[-1]))

    def profile(self, metric: Metric) -> np.ndarray:
        """A metric at each point, shape (points,): as if the vessel ended there."""
        expression = self.vessel.expression(metric)
        return self._evaluate((expression,))[0]

    def metric(self, metric: Metric) -> float:
        """A metric at the end, in SI."""
        return float(self.profile(metric)[-1])

    def conversion(self, species: str) -> float:
        """(fed - left) / fed; see `metrics.conversion`."""
        return self.metric(metrics.conversion(species))

    def yield_of(self, product: str, on: str) -> float:
        """Product formed per reactant fed, by stoichiometry; see `metrics.yield_of`."""
        return self.metric(metrics.yield_of(product, on))

    def selectivity(self, wanted: str, over: str | None = None, on: str | None = None) -> float:
        """Wanted over unwanted formed (`over`), or per reactant converted (`on`); see `metrics.selectivity`."""
        return self.metric(metrics.selectivity(wanted, over, on))

    @property
    def concentrations(self) -> dict[str, np.ndarray]:
        """Concentration of each species in mol/m^3, shape (points,)."""
        return {s: self.derived[s] for s in self.vessel.chemistry.names}

    @property
    def final(self) -> dict[str, Any]:
        """Concentration of each species at the end, as quantities."""
        return {s: self.vessel.display.quantity(c[-1], "concentration") for s, c in self.concentrations.items()}

    @property
    def time_word(self) -> str:
        """What volume over the feed's volumetric flow is: in a gas whose flow changes only the space time."""
        return "space time" if self.vessel.gas and self._number(FLOW) is not None else "residence time"

    @property
    def residence_time_si(self) -> float:
        """In s: volume over volumetric flow, or the time of a batch."""
        flow = self._number(FLOW)
        if flow is None:
            return float(self.solution.points[-1])
        volume = self._number(VOLUME)
        return float((volume if volume is not None else self.solution.points[-1]) / flow)

    @property
    def residence_time(self) -> Any:
        """Volume over volumetric flow, or the time of a batch, as a quantity."""
        return self.vessel.display.quantity(self.residence_time_si, "time")

    @property
    def volume_si(self) -> float:
        """Volume of the vessel in m^3."""
        volume = self._number(VOLUME)
        return float(volume if volume is not None else self.solution.points[-1])

    def _number(self, symbol: sp.Symbol) -> float | None:
        case = self.vessel.case
        return case.value(symbol) if symbol in case.balances.parameters else None

    def _evaluate(self, expressions: tuple[sp.Expr, ...]) -> list[np.ndarray]:
        """Expressions of the balances at each point, each of shape (points,)."""
        case = self.vessel.case
        points = self.solution.points
        with np.errstate(divide="ignore", invalid="ignore"):
            rows = compiled(case.balances).outputs(expressions)(case.values)(self.solution.states.T, points)
        return [np.broadcast_to(np.asarray(row, dtype=float), points.shape) for row in rows]

    @cached_property
    def derived(self) -> dict[str, np.ndarray]:
        """What the balances derive (concentrations, rates), in SI, each of shape (points,)."""
        shown = self.vessel.written.balances.derived
        return dict(zip(shown, self._evaluate(tuple(shown.values())), strict=True))

    @cached_property
    def closure(self) -> dict[str, float]:
        """How far each element (or stoichiometric invariant) is from closing, relative to what went in.

        In a batch and a tube: the largest |w . n - w . n_in| over the run. In a tank: the same for w . n against
        its own balance dw/dt = (w_in - w) / tau, which has the closed form w_in + (w_0 - w_in) exp(-t/tau).
        """
        structure, states, points = self.vessel.chemistry.structure, self.solution.states, self.solution.points
        inlet = self._evaluate(tuple(self.vessel.written.inlet[s] for s in structure.species))
        fed = np.array([column[0] for column in inlet])
        leaving = np.array(self._evaluate(tuple(self.vessel.written.outlet[s] for s in structure.species)))
        found = {}
        for name, weights in self.vessel.chemistry.invariants().items():
            wanted = np.full(len(points), weights @ fed)
            size = np.abs(weights) @ np.maximum(np.abs(fed), np.abs(leaving[:, 0]))
            if self._number(FLOW) is not None and self._number(VOLUME) is not None and not self.is_steady:
                wanted = wanted + (weights @ leaving[:, 0] - wanted[0]) * np.exp(-points / self.residence_time_si)
            found[name] = (
                float(np.max(np.abs(weights @ leaving - wanted)) / size) if size else float(np.max(states) * 0)
            )
        return found

    def table(self) -> pd.DataFrame:
        """Time or position, concentrations and rates, with units in the headings."""
        import pandas as pd

        display = self.vessel.display
        columns: dict[str, Any] = {}
        if not self.is_steady:
            for name, kind, values in self.positions():
                columns[display.heading(name, kind)] = display.number(values, kind)
        kinds = self.vessel.rate_kinds
        for name, values in self.derived.items():
            kind = "pressure" if name == "pressure" else kinds.get(name, "concentration")
            columns[display.heading(name, kind)] = display.number(values, kind)
        return pd.DataFrame(columns)

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """(name, kind, SI values) of what runs along: time, or length, volume and residence time of a tube."""
        points = self.solution.points
        if str(self.vessel.written.balances.independent) == "t":
            return [("time", "time", points)]
        area = getattr(self.vessel, "area", np.nan)
        along = [("length", "length", points / area)] if np.isfinite(area) else []
        flow = self._number(FLOW)
        assert flow is not None
        return [*along, ("volume", "volume", points), (self.time_word, "time", points / flow)]

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        structure = self.vessel.chemistry.structure
        consumed = {i for column in structure.stoichiometry for i, moles in column if moles < 0}
        fed = self.vessel.inlet()
        reactants = [s for i, s in enumerate(structure.species) if i in consumed and fed.get(s, 0.0) > 0]
        found = {f"conversion of {s}": self.conversion(s) for s in reactants}
        return found | {f"concentration of {s}": float(c[-1]) for s, c in self.concentrations.items()}

    def facts(self) -> dict[str, str]:
        """What an engineer wants to read of it, by name, with units."""
        display = self.vessel.display
        flow, volume = self._number(FLOW), self._number(VOLUME)
        found = {}
        if not self.is_steady and flow is not None and volume is not None:
            found["start-up for"] = display.text(self.solution.points[-1], "time")
        found[self.time_word] = display.text(self.residence_time_si, "time")
        for name, value in self.summary().items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        if self.closure:
            found[f"balances of {', '.join(self.closure)} close to"] = f"{max(self.closure.values()):.1e}"
        return {**found, "solved by": str(self.report)}

    def __str__(self) -> str:
        facts = self.facts()
        width = max(len(name) for name in facts)
        return "\n".join([str(self.vessel), *(f"  {name:<{width}}  {text}" for name, text in facts.items())])
