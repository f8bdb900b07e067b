"""Rates at known concentrations, measured or derived from runs."""

from __future__ import annotations

import math
from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field

import numpy as np

from molino.core.annotations import PlainData
from molino.core.chemistry.reaction import BASES
from molino.core.display import Display
from molino.core.errors import Faults, nearest
from molino.core.frozen import Frozen, settle
from molino.core.results import Result, Table, frame
from molino.core.unit_tables import GAS_CONSTANT

_KINDS = tuple(BASES.values())


@dataclass(frozen=True, eq=False)
class Slopes(Frozen):
    """The differentiation of one run: times in s, concentrations in mol/m^3, and the curve through them.

    `smoothing` is the weight of roughness of the spline; nan for differences and straight lines.
    """

    run: str
    times: np.ndarray
    values: np.ndarray
    at: np.ndarray
    curve: np.ndarray
    slope: np.ndarray
    smoothing: float = math.nan


@dataclass(frozen=True, eq=False)
class RateData(Frozen, Result):
    """Rates at known concentrations; see `Rates`, which also derives them from runs."""

    rate: np.ndarray
    concentrations: Mapping[str, np.ndarray]
    species: str = ""
    T: np.ndarray | None = None
    run: tuple[str, ...] = ()
    time: np.ndarray = field(default_factory=lambda: np.array([]))
    kind: str = "rate"
    source: str = ""
    show: Mapping[str, str] = field(default_factory=dict)
    how: str = "measured"
    slopes: tuple[Slopes, ...] = ()
    notes: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        faults = Faults()
        rate = np.asarray(self.rate, dtype=float)
        count = len(rate)
        settle(self, rate=rate, time=np.asarray(self.time, dtype=float))
        if self.T is not None:
            settle(self, T=np.asarray(self.T, dtype=float))
        columns = {s: np.asarray(c, dtype=float) for s, c in self.concentrations.items()}
        settle(self, concentrations=columns)
        if not self.run:
            settle(self, run=tuple(str(n) for n in range(1, count + 1)))
        if not len(self.time):
            settle(self, time=np.full(count, np.nan))
        if not columns:
            faults.add("rates", "there is no concentration", "give that of each reactant")
        if self.kind not in _KINDS:
            faults.add("rates", f"'{self.kind}' is not a kind of rate", nearest(self.kind, _KINDS))
        others = {**columns, **({"T": self.T} if self.T is not None else {})}
        for name, values in {"rate": rate, **others}.items():
            if values.shape != (count,):
                faults.add(name, f"{values.size} values for {count} rates", "give one for each")
            elif not np.isfinite(values).all():
                faults.add(name, "a value is missing", "leave the line out")
            elif name in columns and (values < 0).any():
                faults.add(name, f"negative concentration {values.min():g} mol/m^3", "check the sign")
        faults.raise_any(self.source)

    def kind_of(self, response: str) -> str:
        """The kind of quantity of the measured values: that of its rates."""
        return self.kind

    @property
    def response(self) -> str:
        """The response, in words."""
        return f"rate of {self.species}" if self.species else "rate"

    @property
    def left_out(self) -> tuple[object, ...]:
        """Always empty: a rate is excluded by deleting its line."""
        return ()

    @property
    def temperatures(self) -> tuple[float, ...]:
        return tuple(self.T.tolist()) if self.T is not None else ()

    @property
    def highest_concentrations(self) -> dict[str, float]:
        """Of each species, in mol/m^3."""
        return {s: float(np.nanmax(c)) for s, c in self.concentrations.items() if np.isfinite(c).any()}

    @property
    def display(self) -> Display:
        """The units of the data."""
        return Display(self.show, unitless=not self.show)

    @property
    def conditions(self) -> tuple[Hashable, ...]:
        """The key of replicates: concentrations and temperature."""
        columns = [*self.concentrations.values(), *([self.T] if self.T is not None else [])]
        return tuple(tuple(float(c[i]) for c in columns) for i in range(len(self.rate)))

    @property
    def is_by_pressure(self) -> bool:
        """Whether the data are partial pressures, which results then show."""
        return "pressure" in self.show and self.T is not None

    @property
    def variables(self) -> dict[str, np.ndarray]:
        """The varied conditions, for residual plots."""
        columns = {f"[{s}]": c for s, c in self.concentrations.items()}
        if self.is_by_pressure and self.T is not None:
            columns = {f"p[{s}]": c * GAS_CONSTANT * self.T for s, c in self.concentrations.items()}
        columns |= {"temperature": self.T} if self.T is not None else {}
        return {name: values for name, values in columns.items() if np.ptp(values) > 1e-9 * np.max(np.abs(values))}

    def table(self) -> Table:
        """One row per rate, with units in the headings."""
        display = self.display
        columns: PlainData = {"run": self.run}
        if np.isfinite(self.time).all():
            columns[display.heading("time", "time")] = display.number(self.time, "time")
        if self.T is not None:
            columns[display.heading("T", "temperature")] = display.number(self.T, "temperature")
        for species, values in self.concentrations.items():
            columns[display.heading(species, "concentration")] = display.number(values, "concentration")
        columns[display.heading(self.response, self.kind)] = display.number(self.rate, self.kind)
        return frame(columns)

    def to_dict(self) -> PlainData:
        """Plain data, in SI; `Rates.from_dict` reads it."""
        return {
            "rate": self.rate.tolist(),
            "species": self.species,
            "kind": self.kind,
            "how": self.how,
            "source": self.source,
            "show": dict(self.show),
            "run": list(self.run),
            "concentrations": {s: c.tolist() for s, c in self.concentrations.items()},
            "T": None if self.T is None else self.T.tolist(),
            "time": self.time.tolist() if np.isfinite(self.time).all() else None,
        }

    def __len__(self) -> int:
        return len(self.rate)

    def __str__(self) -> str:
        display = self.display
        low, high = (display.text(v, self.kind, 3) for v in (float(self.rate.min()), float(self.rate.max())))
        where = f" from {self.source}" if self.source else ""
        weights = [s.smoothing for s in self.slopes if math.isfinite(s.smoothing)]
        detail = f", smoothing {min(weights):.2g} to {max(weights):.2g}" if weights else ""
        text = f"{len(self)} values of {self.response}{where}, {low} to {high}: {self.how}{detail}"
        return "\n".join([text, *(f"  {note}" for note in self.notes)])
