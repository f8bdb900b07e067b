"""A tube followed over time: start-up, steps in the feed, fronts that move through a bed.

The tube is cut into cells of one volume. Convection through a face uses values reconstructed from upstream with a
limiter, of second order where the profile is smooth and without overshoot where it is steep (B. van Leer, J. Comput.
Phys. 14 (1974) 361), and dispersion central differences; the outflow of one cell is the inflow of the next, which
conserves the amounts. A gas, and a liquid of additive volumes, fill the volume of each cell: the flow follows from
reaction and heating upstream (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 5, in cells).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.checks import Check, closure_check, require_passed
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.vessel import Vessel
from molino.core.display import Display
from molino.core.dual import value_of
from molino.core.errors import Faults, InputError
from molino.core.results import Table, frame
from molino.core.runs.cells import Cells, Followed, Progress
from molino.core.runs.metric_of_ends import Ends, metric_of_ends
from molino.core.runs.over_time import OverTime, columns_of, grid_errors, negative_check
from molino.core.runs.scheduled_changes import Change, changed_numbers
from molino.core.terms.heat import Jacket
from molino.core.units import QuantityLike

_ENERGY_CLOSED = 1e-4
"""Largest imbalance of energy: the state is the temperature, so that the errors of all steps, 1e-6 each, add up. Every
step conserves the amounts."""
_MOST_CELLS = 20_000


@dataclass(frozen=True, eq=False)
class TubeInTime(OverTime):
    """A tube followed over time: its outlet, and the profiles inside; made by `PlugFlow.follow`.

    Arrays are in SI. `print` shows the end and the settling times, `table` the outlet over time, `profile` the inside
    at a moment.

    Attributes
    ----------
    vessel : PlugFlow or DispersedTube
    times : array, shape (times,)
    volumes : array, shape (cells,)
        Volume from the inlet to the middle of each cell, in m^3.
    inside : mapping of name to array, shape (times, cells)
        'concentration of A', 'temperature', 'loading of A', 'activity'.
    fed, left : mapping of species to array, shape (times,)
        Molar flows into and out of the tube.
    outlet : mapping of name to array, shape (times,)
        'concentration of A', 'temperature', 'volumetric flow', and 'duty' if known.
    closure : mapping of name to float
        Imbalances of elements, mass and energy over the whole time, relative to the amounts fed and initially present.
    grid_error : float
        Difference of the mean outlet from that of half as many cells, relative to the largest value.
    moment_error : float
        Largest difference of an outlet flow from that of half as many cells at a moment, relative to the largest value.
    settling_band : float

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.Vessel(chem, feed, volume="5 L")
    >>> start = tube.follow("15 min", contents={"B": "1 mol/L"}, cells=50)
    >>> round(float(start.outlet["concentration of A"][-1])), round(tube.run().final["A"].m_as("mol/m^3"))
    (368, 368)
    """

    vessel: Vessel
    times: np.ndarray
    volumes: np.ndarray
    inside: Mapping[str, np.ndarray]
    fed: Mapping[str, np.ndarray]
    left: Mapping[str, np.ndarray]
    outlet: Mapping[str, np.ndarray]
    closure: Mapping[str, float]
    grid_error: float
    moment_error: float
    settling_band: float = 0.02

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    def conversion(self, species: str) -> np.ndarray:
        """1 - outlet/feed at the same moment, shape (times,)."""
        if species not in self.fed or not (self.fed[species] > 0).any():
            raise InputError(f"{species} is not fed", self.vessel.label, "name a species of the feed")
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(1 - self.left[species] / self.fed[species])

    def metric(self, metric: Metric | str) -> float:
        """A metric of the outlet at the end, in SI: "conversion of A", "temperature"."""
        last = {name: float(row[-1]) for name, row in self.outlet.items()}
        fed, left = ({s: float(row[-1]) for s, row in flows.items()} for flows in (self.fed, self.left))
        spec = self.vessel.spec
        own = float(spec.first_T.si) if spec.first_T is not None else np.nan
        ends = Ends(
            fed,
            left,
            left,
            last.get("volumetric flow", float(spec.fed.volume)),
            last.get("temperature", own),
            spec.feed_pressure(),
            last.get("duty", np.nan),
            spec.end_si,
            np.nan,
        )
        return float(value_of(metric_of_ends([self.vessel], read_metric(metric), ends)))

    def names(self) -> tuple[str, str]:
        return self.vessel.label, self.vessel.noun

    def profile(self, time: QuantityLike) -> Table:
        """The quantities along the tube at a moment (in s, or with a unit)."""
        at = units.positive(time, "time", "time", zero=True).si
        if at > self.times[-1] * (1 + 1e-9):
            raise InputError(f"it was followed to {self.display.text(self.times[-1], 'time')}", "time", "ask earlier")
        n, area = int(np.argmin(np.abs(self.times - at))), self.vessel.spec.cross_section()
        along = ("length", self.volumes / area) if np.isfinite(area) else ("volume", self.volumes)
        columns = {self.display.heading(along[0], along[0]): self.display.number(along[1], along[0])}
        return frame(columns | columns_of(self.display, {name: rows[n] for name, rows in self.inside.items()}))

    def facts(self) -> dict[str, str]:
        """The end, the settling times and the closure, by name, with units."""
        show = self.display
        found = {"followed for": show.text(float(self.times[-1]), "time"), "cells": str(len(self.volumes))}
        for s in self.vessel.spec.reactants:
            if self.fed[s][-1] > 0 and np.isfinite(x := self.conversion(s)[-1]):
                found[f"conversion of {s} at the end"] = f"{x:.4g}"
        found |= self._how_it_ends()
        if "temperature" in self.inside:
            rows = self.inside["temperature"]
            found["highest temperature inside"] = show.text(float(rows.max()), "temperature", 5)
        return found | self._verified()

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The closure of its balances, and the lowest concentration of all cells and moments."""
        energy = {name: c for name, c in self.closure.items() if name == "energy"}
        amounts = {name: c for name, c in self.closure.items() if name != "energy"}
        return (*closure_check(amounts), *closure_check(energy, _ENERGY_CLOSED), negative_check(self.inside))

    def to_dict(self) -> PlainData:
        """The outlet over time, settling times, closures and the error of the grid, as plain data."""
        return {**super().to_dict(), "cells": len(self.volumes), "closure": dict(self.closure)}


def follow_tube(
    vessel: Vessel,
    time: QuantityLike,
    contents: object,
    changes: Sequence[Change],
    cells: int,
    points: object,
    progress: Progress | None,
    settling_band: float,
) -> TubeInTime:
    """As `PlugFlow.follow`."""
    end = units.positive(time, "time", f"{vessel.label}, time").si
    vessel.spec.require_constants()
    check_followed(vessel, cells, settling_band)
    times = moments(points, end, vessel.label)
    moved = changed_numbers(vessel, changes)
    found = Cells(vessel, cells, moved).run(contents, times, progress)
    half = Cells(vessel, max(cells // 2, 2), moved).run(contents, times, None)
    return in_time(vessel, times, found, half, settling_band)


def in_time(vessel: Vessel, times: np.ndarray, found: Followed, half: Followed | None, band: float) -> TubeInTime:
    """The result, with its difference from half as many cells (nan for a single cell)."""
    errors = (np.nan, np.nan)
    if half is not None:
        errors = grid_errors(times, *(np.array([run.left[s] for s in found.left]) for run in (found, half)))
    made = TubeInTime(
        vessel, times, found.volumes, found.inside, found.fed, found.left, found.outlet, found.closure, *errors, band
    )
    require_passed(made.checks, f"{vessel.label} over time", "give more cells")
    return made


def moments(points: object, end: float, label: str) -> np.ndarray:
    """The moments of rows: a number of them from 0 to the end, or given ones."""
    if isinstance(points, int) and not isinstance(points, bool) and points >= 2:
        return np.linspace(0.0, end, points)
    try:
        given = np.unique(np.asarray(points, dtype=float))
    except (TypeError, ValueError):
        given = np.array([np.nan])
    if isinstance(points, bool | int) or given.ndim != 1 or not ((given >= 0) & (given <= end * (1 + 1e-9))).all():
        advice = "give a whole number from 2 up, or numbers in s between 0 and the end"
        raise InputError(f"points = {points!r} are not moments between 0 and {end:g} s", label, advice)
    return np.unique(np.concatenate([[0.0], given[(given > 0) & (given < end)], [end]]))


def check_followed(vessel: Vessel, cells: int, band: float) -> None:
    """Raise InputError for features that are not available over time."""
    faults = Faults()
    if not np.isfinite(vessel.spec.end_si):
        faults.add(vessel.label, "no length or volume is given", "give it, or size it: mo.size(...)")
    if isinstance(cells, bool) or not isinstance(cells, int) or not 4 <= cells <= _MOST_CELLS:
        faults.add(vessel.label, f"cells = {cells!r}", f"give a whole number from 4 to {_MOST_CELLS:,}")
    if not 0 < band < 1:
        faults.add(vessel.label, f"settling_band = {band!r}", "give a fraction, like 0.02")
    unfollowed = "not available over time"
    for what, remedy in vessel.spec.not_followed():
        faults.add(vessel.label, f"{unfollowed}: {what}", remedy)
    if vessel.spec.phase.real is not None or vessel.spec.phase.activity is not None:
        faults.add(vessel.label, f"{unfollowed}: an equation of state or activity model", "leave the model out")
    if isinstance(vessel.heat, Jacket) and vessel.heat.flow is not None:
        faults.add(vessel.label, f"{unfollowed}: a coolant of changing temperature", "leave its flow out")
    if vessel.spec.moving_numbers():
        faults.add(vessel.label, f"{unfollowed}: numbers with a profile along the tube", "leave profiles out")
    packing = vessel.catalyst
    if packing is not None and packing.adsorption is not None and vessel.is_non_isothermal:
        message = (
            f"{unfollowed}: adsorption where the temperature is not prescribed, since it has no heat of adsorption"
        )
        faults.add(vessel.label, message, "prescribe the temperature")
    faults.raise_any()
