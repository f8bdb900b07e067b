"""The base of results over time: the outlet, settling times, tables and plain data."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from molino.core.annotations import ByName, PlainData
from molino.core.balances.integrate import RUN_OUT
from molino.core.checks import Check, checked_fact
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame, in_columns

_KINDS = {"duty": "power", "activity": "number", "temperature": "temperature", "volumetric flow": "volumetric flow"}
_LATE, _STILL = 0.9, 0.1
"""A quantity is steady if it changes by less than the second fraction (of the band) in the time after the first
fraction."""


def kind_of(name: str) -> str:
    """The kind of a quantity over time: 'concentration of A', 'temperature', 'loading of A'."""
    return _KINDS.get(name, "loading" if name.startswith("loading") else "concentration")


def heading_of(name: str) -> str:
    """Its short heading."""
    return name.removeprefix("concentration of ")


def columns_of(display: Display, rows: ByName) -> PlainData:
    """Columns of a table, with units in their headings."""
    return {display.heading(heading_of(n), kind_of(n)): display.number(row, kind_of(n)) for n, row in rows.items()}


def settling_times(times: np.ndarray, rows: Mapping[str, np.ndarray], band: float) -> dict[str, float]:
    """The times after which each concentration and the temperature remain within a band of their final value; see
    `OverTime`."""
    found, late = {}, times >= _LATE * times[-1]
    for name, row in rows.items():
        if not (name.startswith("concentration") or name == "temperature"):
            continue
        away = np.abs(row - row[-1])
        far = float(np.max(away))
        if far <= 1e-6 * max(float(np.max(np.abs(row))), 1e-300) or np.ptp(row[late]) > _STILL * band * far:
            continue
        outside = np.flatnonzero(away > band * far)
        if not len(outside):
            found[name] = 0.0
            continue
        i = int(outside[-1])  # it enters the band between this moment and the next
        part = (away[i] - band * far) / (away[i] - away[i + 1])
        found[name] = float(times[i] + part * (times[i + 1] - times[i]))
    return found


def negative_check(inside: Mapping[str, np.ndarray]) -> Check:
    """The check that no amount is negative: the lowest value relative to the largest of all quantities of its kind."""
    lowest, largest = dict[str, float](), dict[str, float]()
    for name, row in inside.items():
        if (kind := kind_of(name)) != "temperature":
            lowest[kind] = min(lowest.get(kind, 0.0), float(row.min()))
            largest[kind] = max(largest.get(kind, 1e-300), float(row.max()))
    below = max((-low / largest[kind] for kind, low in lowest.items()), default=0.0)
    return Check("amounts not negative", below, RUN_OUT, "all cells at all moments")


def grid_errors(times: np.ndarray, fine: np.ndarray, coarse: np.ndarray) -> tuple[float, float]:
    """Differences of the mean outlet, and of the outlet at a moment, between two grids, relative to the largest value.

    Parameters
    ----------
    times : array, shape (times,)
    fine, coarse : array, shape (species, times)
        Flows or concentrations at the outlet.
    """
    means = np.trapezoid(fine, times), np.trapezoid(coarse, times)
    mean = float(np.max(np.abs(means[0] - means[1]))) / max(float(np.max(np.abs(means[0]))), 1e-300)
    moment = float(np.max(np.abs(fine - coarse))) / max(float(np.max(np.abs(fine))), 1e-300)
    return mean, moment


class OverTime(Frozen, Result):
    """Base of results over time, which have `times`, `outlet`, the errors of the grid and `settling_band`."""

    times: np.ndarray
    inside: Mapping[str, np.ndarray]
    outlet: Mapping[str, np.ndarray]
    grid_error: float
    moment_error: float
    settling_band: float

    @property
    def display(self) -> Display:
        """The units of results."""
        raise NotImplementedError

    def names(self) -> tuple[str, str]:
        """The label and the noun of the vessel."""
        raise NotImplementedError

    def settling_times(self, band: float | None = None) -> dict[str, float]:
        """The times in s after which each outlet concentration and the temperature remain within a band of their final
        value.

        The band is relative to the largest distance from the final value. Quantities that are constant, or not steady
        at the end (a change of more than a tenth of the band in the last tenth of the time), are omitted.
        """
        return settling_times(self.times, self.outlet, self.settling_band if band is None else band)

    def table(self) -> Table:
        """The outlet over time, with units in the headings."""
        time = {self.display.heading("time", "time"): self.display.number(self.times, "time")}
        return frame(time | columns_of(self.display, self.outlet))

    def _how_it_ends(self) -> dict[str, str]:
        """The outlet at the end and the settling times, by name, with units."""
        show, found = self.display, dict[str, str]()
        for name, row in self.outlet.items():
            label = f"{name} at the end" if name == "duty" else f"{name} at the outlet"
            found[label] = show.text(float(row[-1]), kind_of(name), 5 if name == "temperature" else 4)
        for name, at in self.settling_times().items():
            found[f"settling time of {heading_of(name)} ({100 * self.settling_band:g} %)"] = show.text(at, "time")
        return found

    def _verified(self) -> dict[str, str]:
        """The checks, and the outlet compared with that of a coarser grid."""
        return checked_fact(self.checks) | {
            "mean outlet, against half as many cells": f"{100 * self.grid_error:.2g} %",
            "outlet at any moment, against half as many": f"{100 * self.moment_error:.2g} % at most",
        }

    def to_dict(self) -> PlainData:
        """The outlet over time, the settling times and the error of the grid, as plain data."""
        show = self.display
        rows = {n: (show.unit(kind_of(n)), show.number(row, kind_of(n)).tolist()) for n, row in self.outlet.items()}
        return {
            "kind": f"{self.names()[1]} over time",
            "time": {"unit": show.unit("time"), "values": show.number(self.times, "time").tolist()},
            "outlet": {n: {"unit": unit, "values": values} for n, (unit, values) in rows.items()},
            "settling": {n: entry(show, t, "time") for n, t in self.settling_times().items()},
            "grid_error": self.grid_error if math.isfinite(self.grid_error) else None,
            "moment_error": self.moment_error if math.isfinite(self.moment_error) else None,
        }

    def __str__(self) -> str:
        return "\n".join([f"{self.names()[0]} over time", *in_columns(self.facts())])
