"""The outlet of a laminar tube: at steady state, and over time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import Check, checked_fact
from molino.core.contract.metric import Metric
from molino.core.display import Display
from molino.core.errors import InputError
from molino.core.fields.laminar_specification import LaminarTubeFields
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, conversions_of, entry, frame, in_columns
from molino.core.runs.over_time import OverTime, columns_of, heading_of, kind_of
from molino.core.units import pretty

_LAMINAR = 2100.0
"""Reynolds number, with the hydraulic diameter, up to which flow is laminar."""
_UNDERSHOOT = 0.01
"""The lowest negative concentration, relative to the largest, that is an error of the grid at a front."""
_INNERMOST = 3
"""Nodes for the extrapolation of a profile to the axis: with all of them a step at the wall would affect it."""


class _OfLaminar(Frozen, Result):
    """The base of both results: conversions."""

    tube: LaminarTubeFields
    mixed: Mapping[str, np.ndarray]
    inside: Mapping[str, np.ndarray]
    below_zero: float

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.tube.spec.display

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """Closures, and the bounds of the concentrations at all places and moments."""
        fed = self.tube.spec.plug.spec.fed.concentrations
        sources = {
            s: np.append(self.inside[f"concentration of {s}"][0].ravel(), float(fed.get(s, 0.0)))
            for s in self.tube.chemistry.names
        }
        positive = Check("amounts not negative", self.below_zero, _UNDERSHOOT, "before negative ones were set to zero")
        return (*super().checks, positive, *self.tube.spec.bound_checks(self.inside, sources)[1:])

    def conversion(self, species: str) -> float:
        """1 - (mixing cup of the outlet)/(feed), at the end."""
        fed = float(self.tube.spec.plug.spec.fed.concentrations.get(species, 0.0))
        if not fed > 0:
            raise InputError(f"{species} is not fed", self.tube.label, "name a species of the feed")
        return float(1 - self.mixed[f"concentration of {species}"][-1] / fed)

    def metric(self, metric: Metric | str) -> float:
        """A metric of the mixing cup at the outlet (of a tube over time: at the end), in SI: "conversion of A"."""
        left = {s: self.mixed[f"concentration of {s}"][-1] for s in self.tube.chemistry.names}
        T = float(self.mixed["temperature"][-1]) if "temperature" in self.mixed else None
        return self.tube.spec.metric(metric, left, T)

    def ideal_conversions(self) -> dict[str, float]:
        """Conversions of the same volume in plug flow and as a stirred tank, if the temperature is prescribed."""
        return {} if self.tube.is_non_isothermal else self.tube.spec.alike()


@dataclass(frozen=True, eq=False)
class LaminarRun(_OfLaminar):
    """The steady state of a laminar tube; made by `LaminarTube.run`. Arrays are in SI.

    Attributes
    ----------
    tube : LaminarTube
    z : array, shape (places,)
        Distance from the inlet.
    radii : array, shape (nodes,)
        Distance from the axis; the last is the wall.
    inside : mapping of name to array, shape (places, nodes)
        'concentration of A', 'temperature'.
    mixed : mapping of name to array, shape (places,)
        The same, flow-averaged (mixing cup).
    velocity : array, shape (places, nodes)
    pressure_lost : array, shape (places,)
        Pressure loss up to each place in Pa; nan without a viscosity.
    heat : float
        Through the wall into the fluid, in W; nan if the temperature is prescribed.
    closure : mapping of name to float
        Imbalances of elements, mass and energy, relative to the feed.
    grid_error : float
        Change of the outlet with two thirds as many nodes, relative to the largest concentration.
    below_zero : float
        The lowest negative concentration that was set to zero, relative to the largest.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> run = mo.fields.LaminarTube(chem, feed, diameter="20 mm", length="16 m").run()
    >>> run.profile(run.z[-1]).columns.tolist()
    ['distance [m]', 'velocity [m/s]', 'A [mol/L]', 'B [mol/L]']
    """

    tube: LaminarTubeFields
    z: np.ndarray
    radii: np.ndarray
    inside: Mapping[str, np.ndarray]
    mixed: Mapping[str, np.ndarray]
    velocity: np.ndarray
    pressure_lost: np.ndarray
    heat: float
    closure: Mapping[str, float]
    grid_error: float
    below_zero: float

    def at_axis(self, name: str) -> np.ndarray:
        """A quantity on the axis (the middle plane of a slit), shape (places,)."""
        near, x = self.inside[name][:, :_INNERMOST], (self.radii[:_INNERMOST] / self.radii[-1]) ** 2
        return np.asarray(np.polynomial.polynomial.polyfit(x, near.T, _INNERMOST - 1)[0])

    def at_wall(self, name: str) -> np.ndarray:
        """A quantity on the wall, shape (places,)."""
        return np.asarray(self.inside[name][:, -1])

    def table(self) -> Table:
        """Mixing cup, axis and wall along the tube, with units in the headings."""
        columns = {self.display.heading("length", "length"): self.display.number(self.z, "length")}
        for name, row in self.mixed.items():
            kind = kind_of(name)
            for where, values in (
                ("", row),
                (" on the axis", self.at_axis(name)),
                (" at the wall", self.at_wall(name)),
            ):
                columns[self.display.heading(heading_of(name) + where, kind)] = self.display.number(values, kind)
        if np.isfinite(self.pressure_lost).all():
            unit = self.display.difference_unit("pressure")
            lost = self.display.difference(self.pressure_lost, "pressure")
            columns[f"pressure drop [{unit}]" if unit else "pressure drop"] = lost
        return frame(columns)

    def profile(self, z: float) -> Table:
        """The radial profile at the row nearest to a distance from the inlet in m, from the axis to the wall."""
        n = int(np.argmin(np.abs(self.z - z)))
        columns = {
            self.display.heading("distance", "length"): self.display.number(self.radii, "length"),
            self.display.heading("velocity", "mass transfer coefficient"): self.display.number(
                self.velocity[n], "mass transfer coefficient"
            ),
        }
        return frame(columns | columns_of(self.display, {name: rows[n] for name, rows in self.inside.items()}))

    def answer(self) -> tuple[str, str] | None:
        """Its conversion, compared with plug flow and a stirred tank."""
        return conversions_of(self.tube.label, self.facts())

    def facts(self) -> dict[str, str]:
        """The outlet, compared with plug flow and a stirred tank, by name, with units."""
        show, tube = self.display, self.tube
        found = {"residence time": show.text(tube.spec.volume / float(tube.spec.plug.spec.fed.volume), "time")}
        if np.isfinite(tube.Reynolds):
            found["Reynolds number"] = f"{tube.Reynolds:.4g}" + ("" if tube.Reynolds < _LAMINAR else ": not laminar")
        for s in tube.spec.plug.spec.reactants:
            found[f"conversion of {s}"] = f"{self.conversion(s):.4g}"
        found |= {name: f"{x:.4g}" for name, x in self.ideal_conversions().items()}
        for name, row in self.mixed.items():
            found[f"{name}, mixed"] = show.text(float(row[-1]), kind_of(name), 5 if name == "temperature" else 4)
        if "temperature" in self.inside:
            rows = self.inside["temperature"]
            found["temperatures inside"] = f"{show.text(float(rows.min()), 'temperature', 5)} to " + show.text(
                float(rows.max()), "temperature", 5
            )
            found["heat through the wall"] = show.text(self.heat, "power")
        if np.isfinite(self.pressure_lost[-1]):
            lost = float(show.difference(self.pressure_lost[-1], "pressure"))
            found["pressure drop"] = f"{lost:.4g} {pretty(show.difference_unit('pressure'))}".rstrip()
        found |= checked_fact(self.checks)
        found["grid: two thirds of the nodes change the outlet by"] = f"{self.grid_error:.1e}"
        return found

    def to_dict(self) -> PlainData:
        """The outlet, closures and the error of the grid, as plain data."""
        mixed = {n: entry(self.display, float(row[-1]), kind_of(n)) for n, row in self.mixed.items()}
        shares = {f"conversion_of_{s}": self.conversion(s) for s in self.tube.spec.plug.spec.reactants}
        return {
            "kind": self.tube.noun,
            **shares,
            "mixed": mixed,
            "closure": dict(self.closure),
            "grid_error": self.grid_error,
        }

    def __str__(self) -> str:
        return "\n".join([str(self.tube), *in_columns(self.facts())])


@dataclass(frozen=True, eq=False)
class LaminarInTime(_OfLaminar, OverTime):
    """A laminar tube over time; made by `LaminarTube.follow`. Arrays are in SI.

    Attributes
    ----------
    tube : LaminarTube
    times : array, shape (times,)
    z : array, shape (cells,)
        Middles of the cells along it.
    radii : array, shape (nodes,)
    inside : mapping of name to array, shape (times, cells, nodes)
    outlet : mapping of name to array, shape (times,)
        Mixing cup of the outlet.
    grid_error, moment_error : float
        Differences of the mean outlet, and of the outlet at one moment, from half as many cells and two thirds of the
        nodes, relative to the largest concentration.
    below_zero : float
        The lowest negative concentration that was set to zero, relative to the largest.
    settling_band : float

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> pipe = mo.fields.LaminarTube(chem, feed, diameter="20 mm", length="16 m")
    >>> start = pipe.follow("20 min", contents={"B": "1 mol/L"}, cells=20, nodes=6)
    >>> abs(start.conversion("A") - pipe.run().conversion("A")) < 0.02
    True
    """

    tube: LaminarTubeFields
    times: np.ndarray
    z: np.ndarray
    radii: np.ndarray
    inside: Mapping[str, np.ndarray]
    outlet: Mapping[str, np.ndarray]
    grid_error: float
    moment_error: float
    below_zero: float
    settling_band: float = 0.02

    @property
    def mixed(self) -> Mapping[str, np.ndarray]:  # type: ignore[override]
        """The outlet, mixed."""
        return self.outlet

    def names(self) -> tuple[str, str]:
        return self.tube.label, self.tube.noun

    def facts(self) -> dict[str, str]:
        """The end and the settling times, by name, with units."""
        found = {"followed for": self.display.text(float(self.times[-1]), "time")}
        for s in self.tube.spec.plug.spec.reactants:
            found[f"conversion of {s} at the end"] = f"{self.conversion(s):.4g}"
        found |= self._how_it_ends()
        found["cells along, nodes across"] = f"{len(self.z)}, {len(self.radii)}"
        return found | self._verified()
