"""The outlet of a basin: at steady state, and over time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import Check, checked_fact
from molino.core.contract.metric import Metric
from molino.core.display import Display
from molino.core.errors import InputError
from molino.core.fields.basin_specification import BasinFields
from molino.core.fields.grid import Grid
from molino.core.fields.stream_function import Flow
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, conversions_of, entry, frame, in_columns
from molino.core.runs.over_time import OverTime, columns_of

_LAMINAR = 2000.0
"""Reynolds number of an inlet up to which a flow is laminar."""
_OLD = 2.0
"""Mean residence times beyond which contents are stagnant."""


def _on_grids(texts: Sequence[str]) -> str:
    """A number, and the same with half the lines."""
    return f"{texts[0]}, with half the lines {texts[1]}" if len(texts) > 1 else texts[0]


class _OfBasin(Frozen, Result):
    """The base of both results."""

    basin: BasinFields
    grid: Grid
    flow: Flow
    fed: Mapping[str, float]

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.basin.spec.display

    def _require_fed(self, species: str) -> float:
        fed = float(self.fed.get(species, 0.0))
        if not fed > 0:
            raise InputError(f"{species} is not fed", self.basin.label, "name a species of a feed")
        return fed

    def _sources(self, *contents: Mapping[str, float]) -> dict[str, np.ndarray]:
        """Concentrations of the feeds, and of the contents at the start, by species."""
        every = [*(mixture.concentrations for mixture in self.basin.spec.mixtures), *contents]
        return {s: np.array([float(one.get(s, 0.0)) for one in every]) for s in self.fed}

    @property
    def reactants(self) -> list[str]:
        network = self.basin.chemistry.network
        consumed = {i for column in network.stoichiometry for i, moles in column if moles < 0}
        return [s for i, s in enumerate(network.species) if i in consumed and self.fed.get(s, 0.0) > 0]

    def _field_table(self, fields: Mapping[str, np.ndarray]) -> Table:
        X, Y = np.meshgrid(*self.grid.middle, indexing="ij")
        u, v = self.flow.velocity
        show = self.display
        columns = {show.heading(n, "length"): show.number(a.ravel(), "length") for n, a in (("x", X), ("y", Y))}
        for name, rows in (("velocity along x", u), ("velocity along y", v)):
            columns[show.heading(name, "mass transfer coefficient")] = show.number(
                rows.ravel(), "mass transfer coefficient"
            )
        return frame(columns | columns_of(show, {name: rows.ravel() for name, rows in fields.items()}))


@dataclass(frozen=True, eq=False)
class BasinRun(_OfBasin):
    """The steady state of a basin; made by `Basin.run`. Arrays are in SI.

    Attributes
    ----------
    basin : Basin
    grid : Grid
        `grid.x` and `grid.y` are its lines.
    flow : Flow
        `flow.psi` is the stream function at the nodes, `flow.velocity` that in the cells.
    inside : mapping of name to array, shape (nx, ny)
        'concentration of A'.
    fed, left : mapping of species to float
        Flow-averaged concentrations of all feeds and of all outlets.
    coarse : BasinRun or None
        The same basin with half the lines.
    age : array, shape (nx, ny)
        Mean age of the fluid in each cell, in s.
    outlets : list of mappings
        Of each outlet its flow in m^3/s and its concentrations.
    closure : mapping of name to float
        Imbalances of elements, mass and each species (with reaction), relative to the feed.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> inlet = mo.fields.Inlet("left", ("0 m", "0.5 m"), mo.Feed({"A": "1 mol/L"}, flow="2 L/s"))
    >>> basin = mo.fields.Basin(chem, length="4 m", width="2 m", depth="1 m", inlets=inlet,
    ...                  outlets=mo.fields.Outlet("right", ("1.5 m", "2 m")), cells=(16, 16))
    >>> run = basin.run()
    >>> run.inside["concentration of A"].shape == run.age.shape
    True
    """

    basin: BasinFields
    grid: Grid
    flow: Flow
    inside: Mapping[str, np.ndarray]
    fed: Mapping[str, float]
    left: Mapping[str, float]
    coarse: BasinRun | None
    age: np.ndarray
    outlets: list[dict[str, float]]
    closure: Mapping[str, float]

    def conversion(self, species: str) -> float:
        """1 - outlet/feed."""
        return float(1 - self.left[species] / self._require_fed(species))

    def metric(self, metric: Metric | str) -> float:
        """A metric of all outlets, in SI: "conversion of A", "yield of B on A"."""
        return self.basin.spec.metric(metric, self.left)

    def extrapolated_conversion(self, species: str) -> tuple[float, float]:
        """The conversion extrapolated to an infinitely fine grid from two of them, and the estimated error of its own.

        For a scheme of second order, fine + (fine - coarse)/3 (L. F. Richardson, Phil. Trans. R. Soc. A 210 (1911)
        307).
        """
        if self.coarse is None:
            raise InputError("there is one grid only", self.basin.label, "ask the run on the finer grid")
        change = (self.conversion(species) - self.coarse.conversion(species)) / 3
        return self.conversion(species) + change, abs(change)

    def ideal_conversions(self) -> dict[str, float]:
        """Conversions of the same volume in plug flow and as a stirred tank; only for one inlet."""
        return self.basin.spec.alike() if len(self.basin.inlets) == 1 else {}

    @property
    def residence_time_si(self) -> float:
        """Volume over flow, in s."""
        return self.basin.spec.volume / self.basin.spec.fed_flow

    @property
    def stagnant_fraction(self) -> float:
        """The fraction of the volume in which the mean age is above two residence times."""
        old = self.age > _OLD * self.residence_time_si
        return float(self.grid.areas[old].sum() / self.grid.areas.sum())

    @property
    def _grids(self) -> list[BasinRun]:
        """The run, and that with half the lines."""
        return [self, *([] if self.coarse is None else [self.coarse])]

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """Closures, and the bounds of the concentrations in all cells."""
        return (*super().checks, *self.basin.spec.bound_checks(self.inside, self._sources()))

    def table(self) -> Table:
        """The field: places, velocities and concentrations of every cell, with units in the headings."""
        return self._field_table(self.inside)

    def across(self, x: float | None = None, y: float | None = None) -> Table:
        """The profile across the basin through the cells nearest to x (or along it, nearest to y), in m.

        Raises
        ------
        InputError
            Unless exactly one of both is given.
        """
        if (x is None) == (y is None):
            raise InputError("a profile is at one x or at one y", self.basin.label, "give one of them, in m")
        n = int(np.argmin(np.abs(self.grid.middle[0 if y is None else 1] - (y if x is None else x))))
        table = self.table()
        keep = np.arange(self.grid.cells).reshape(self.grid.nx, self.grid.ny)
        return table.iloc[keep[n] if y is None else keep[:, n]].reset_index(drop=True)

    def answer(self) -> tuple[str, str] | None:
        """Its conversion, compared with plug flow and a stirred tank."""
        return conversions_of(self.basin.label, self.facts())

    def facts(self) -> dict[str, str]:
        """Conversion compared with plug flow and a stirred tank, ages, closures and the effect of the grid, with
        units."""
        show, basin = self.display, self.basin
        found = {"residence time": show.text(self.residence_time_si, "time")}
        if np.isfinite(basin.Reynolds):
            found["Reynolds number of the inlet"] = f"{basin.Reynolds:.4g}" + (
                "" if basin.Reynolds < _LAMINAR else ": not laminar"
            )
        for s in self.reactants:
            best, error = self.extrapolated_conversion(s)
            found[f"conversion of {s}"] = f"{self.conversion(s):.4g}, on a finer grid {best:.4g} +- {error:.1g}"
        found |= {name: f"{x:.4g}" for name, x in self.ideal_conversions().items()}
        for s, c in self.left.items():
            found[f"outlet concentration of {s}"] = show.text(c, "concentration")
        if len(self.outlets) > 1:
            for n, one in enumerate(self.outlets, 1):
                found[f"flow of outlet {n}"] = show.text(one["flow"], "volumetric flow")
        oldest = [show.text(float(run.age.max()), "time") for run in self._grids]
        stagnant = [f"{100 * run.stagnant_fraction:.3g} %" for run in self._grids]
        found["oldest place"] = _on_grids(oldest)
        found["stagnant: older than two residence times"] = _on_grids([f"{stagnant[0]} of the volume", *stagnant[1:]])
        found["highest speed"] = show.text(float(self.flow.speed.max()), "mass transfer coefficient")
        found |= checked_fact(self.checks)
        return found

    def to_dict(self) -> PlainData:
        """The outlet, ages, closures and the error of the grid, as plain data."""
        show = self.display
        shares = {}
        for s in self.reactants:
            best, error = self.extrapolated_conversion(s)
            shares[f"conversion_of_{s}"] = {"value": self.conversion(s), "extrapolated": best, "grid_error": error}
        left = {s: entry(show, c, "concentration") for s, c in self.left.items()}
        return {
            "kind": self.basin.noun,
            **shares,
            "left": left,
            "residence_time": entry(show, self.residence_time_si, "time"),
            "oldest": entry(show, float(self.age.max()), "time"),
            "stagnant_fraction": self.stagnant_fraction,
            "closure": dict(self.closure),
            "cells": [self.grid.nx, self.grid.ny],
        }

    def __str__(self) -> str:
        return "\n".join([str(self.basin), *in_columns(self.facts())])


@dataclass(frozen=True, eq=False)
class BasinInTime(_OfBasin, OverTime):
    """A basin over time; made by `Basin.follow`. Arrays are in SI.

    Attributes
    ----------
    basin : Basin
    grid : Grid
    flow : Flow
    times : array, shape (steps + 1,)
    moments : array, shape (moments,)
        Moments of the whole field.
    inside : mapping of name to array, shape (moments, nx, ny)
    outlet : mapping of name to array, shape (steps + 1,)
        The flow-averaged outlet.
    fed : mapping of species to float
    closure : mapping of name to float
        Imbalance of each conserved amount over the whole time: in minus out minus accumulated, relative to the sum of
        the amounts fed and initially present.
    grid_error, moment_error : float
        Differences of the mean outlet, and of the outlet at one moment, from a basin with half the lines and steps,
        relative to the largest concentration.
    settling_band : float

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> inlet = mo.fields.Inlet("left", ("0 m", "0.5 m"), mo.Feed({"A": "1 mol/L"}, flow="20 L/s"))
    >>> basin = mo.fields.Basin(chem, length="4 m", width="2 m", depth="1 m", inlets=inlet,
    ...                  outlets=mo.fields.Outlet("right", ("1.5 m", "2 m")), diffusivity="1e-3 m2/s", cells=(16, 16))
    >>> start = basin.follow("1 h", contents={"B": "1 mol/L"}, steps=100)
    >>> abs(round(start.conversion("A") - basin.run().conversion("A"), 3))
    0.0
    """

    basin: BasinFields
    grid: Grid
    flow: Flow
    times: np.ndarray
    moments: np.ndarray
    inside: Mapping[str, np.ndarray]
    outlet: Mapping[str, np.ndarray]
    fed: Mapping[str, float]
    closure: Mapping[str, float]
    grid_error: float
    moment_error: float
    settling_band: float = 0.02

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """Closures, and the bounds of the concentrations in all cells at all moments kept."""
        first = {s: float(self.inside[f"concentration of {s}"].flat[0]) for s in self.fed}
        return (*super().checks, *self.basin.spec.bound_checks(self.inside, self._sources(first)))

    def metric(self, metric: Metric | str) -> float:
        """A metric of all outlets at the end, in SI: "conversion of A", "yield of B on A"."""
        left = {s: float(self.outlet[f"concentration of {s}"][-1]) for s in self.fed}
        return self.basin.spec.metric(metric, left)

    def conversion(self, species: str) -> float:
        """1 - outlet/feed at the end."""
        return float(1 - self.outlet[f"concentration of {species}"][-1] / self._require_fed(species))

    def names(self) -> tuple[str, str]:
        return self.basin.label, self.basin.noun

    def field_table(self, time: float) -> Table:
        """The field at the kept moment that is nearest to a time in s."""
        n = int(np.argmin(np.abs(self.moments - time)))
        return self._field_table({name: rows[n] for name, rows in self.inside.items()})

    def facts(self) -> dict[str, str]:
        """The end and the settling times, by name, with units."""
        found = {"followed for": self.display.text(float(self.times[-1]), "time"), "steps": str(len(self.times) - 1)}
        for s in self.reactants:
            found[f"conversion of {s} at the end"] = f"{self.conversion(s):.4g}"
        return found | self._how_it_ends() | self._verified()
