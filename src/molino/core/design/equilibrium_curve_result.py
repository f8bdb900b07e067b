"""The result of equilibrium curves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from molino.core.annotations import PlainData
from molino.core.contract.metric import Metric
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame, in_columns, plain_dict
from molino.core.vessels.at_equilibrium import AtEquilibrium


@dataclass(frozen=True, eq=False)
class EquilibriumCurves(Frozen, Result):
    """What a feed could come to over temperature and pressure, and the adiabatic beds that take it there.

    Attributes
    ----------
    vessel : AtEquilibrium
        The feed at equilibrium.
    metric : Metric
    temperatures : array, shape (temperatures,)
        In K.
    pressures : tuple of float
        In Pa; nan of a liquid.
    values : array, shape (pressures, temperatures)
        The metric at equilibrium, in SI; nan where none was found.
    lines : tuple of arrays, each of shape (points, 2)
        Temperature and metric along the operating line of each bed.
    locus : array, shape (points, 2)
        Temperature and metric where the rate is highest over temperature; empty if unknown.
    duties : tuple of float
        Heat into the mixture between the beds in W.
    target : float or None
    is_reached : bool
        Whether the beds reach the target.

    Examples
    --------
    >>> law = {"k": "2 1/h", "K": mo.VantHoff(K=9.0, at="350 K", enthalpy="-60 kJ/mol"), "enthalpy": "-60 kJ/mol"}
    >>> chem = mo.Chemistry(mo.Reaction("A <-> B", **law))
    >>> feed = mo.Feed({"A": "2 mol/L"}, flow="1 m3/h", T="330 K", heat_capacity="4 MJ/m3/K")
    >>> at = mo.AtEquilibrium(chem, feed)
    >>> found = mo.thermo.equilibrium_curves(at, "conversion of A", T=("300 K", "400 K"), target=0.95)
    >>> len(found.lines), found.is_reached
    (2, True)
    """

    vessel: AtEquilibrium
    metric: Metric
    temperatures: np.ndarray
    pressures: tuple[float, ...]
    values: np.ndarray
    lines: tuple[np.ndarray, ...]
    locus: np.ndarray
    duties: tuple[float, ...]
    target: float | None
    is_reached: bool

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    def table(self) -> Table:
        """One row per temperature: the metric at equilibrium at each pressure."""
        display, metric = self.display, self.metric
        found = {display.heading("T", "temperature"): display.number(self.temperatures, "temperature")}
        for P, row in zip(self.pressures, self.values, strict=True):
            at = f" at {display.text(P, 'pressure')}" if np.isfinite(P) else ""
            found[display.heading(f"{metric}{at}", metric.kind)] = display.number(row, metric.kind)
        return frame(found)

    def beds(self) -> Table:
        """One row per bed: temperature and metric at its inlet and outlet, and the duty before the next."""
        display, metric = self.display, self.metric
        rows = []
        for n, line in enumerate(self.lines):
            row: PlainData = {"bed": n + 1}
            for word, (T, value) in (("in", line[0]), ("out", line[-1])):
                row[display.heading(f"T {word}", "temperature")] = display.number(T, "temperature")
                row[display.heading(f"{metric} {word}", metric.kind)] = display.number(value, metric.kind)
            duty = self.duties[n] if n < len(self.duties) else np.nan
            row[display.heading("duty after it", "power")] = display.number(duty, "power")
            rows.append(row)
        return frame(rows)

    def facts(self) -> dict[str, str]:
        """The limits: at the ends of the temperatures, of each bed, and whether the target is reached."""
        display, metric = self.display, self.metric
        found = {}
        for P, row in zip(self.pressures, self.values, strict=True):
            at = f" at {display.text(P, 'pressure')}" if np.isfinite(P) else ""
            ends = [display.text(row[i], metric.kind) for i in (0, -1)]
            cold, hot = (display.text(self.temperatures[i], "temperature") for i in (0, -1))
            found[f"equilibrium{at}"] = f"{metric} {ends[0]} at {cold}, {ends[1]} at {hot}"
        for n, line in enumerate(self.lines, 1):
            (T0, x0), (T1, x1) = line[0], line[-1]
            found[f"bed {n}"] = (
                f"from {display.text(x0, metric.kind)} at {display.text(T0, 'temperature')} to "
                f"{display.text(x1, metric.kind)} at {display.text(T1, 'temperature')}"
            )
        if self.target is not None and self.lines:
            beds = f"{len(self.lines)} bed{'s' if len(self.lines) > 1 else ''}"
            wanted = display.text(self.target, metric.kind)
            found["target"] = (
                f"{metric} {wanted} takes {beds}" if self.is_reached else f"{metric} {wanted} is beyond {beds}"
            )
        return found

    def to_dict(self) -> PlainData:
        """Plain data: curves, operating lines, locus, duties, the target."""
        display, metric = self.display, self.metric

        def pairs(line: np.ndarray) -> list[PlainData]:
            return [{"T": entry(display, T, "temperature"), "value": entry(display, x, metric.kind)} for T, x in line]

        curves = [
            {
                "P": entry(display, P, "pressure") if np.isfinite(P) else None,
                "points": pairs(np.column_stack([self.temperatures, row])),
            }
            for P, row in zip(self.pressures, self.values, strict=True)
        ]
        return plain_dict(
            {
                "metric": str(metric),
                "curves": curves,
                "beds": [pairs(line) for line in self.lines],
                "locus": pairs(self.locus),
                "duties": [entry(display, q, "power") for q in self.duties],
                "target": entry(display, self.target, metric.kind) if self.target is not None else None,
                "is_reached": self.is_reached,
            }
        )

    def __str__(self) -> str:
        return "\n".join([f"equilibrium of {self.vessel.feed}", *in_columns(self.facts())])
