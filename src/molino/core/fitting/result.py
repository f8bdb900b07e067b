"""`Fit`: the constants found, how sure they are, and how the data lie around them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from molino.core import units
from molino.core.chemistry.network import Chemistry
from molino.core.errors import InputError, nearest
from molino.core.fitting.experiments import Experiments
from molino.core.printing import Printed
from molino.core.statistics import half_width, student
from molino.core.units import Value
from molino.core.vessels.batch import Batch

if TYPE_CHECKING:
    import pandas as pd

_ODD = 0.05
_NUMERICAL = 1e-8
"""Residuals below this fraction of the data are rounding, in which nothing is out of line."""


@dataclass(frozen=True)
class Estimate:
    """One fitted constant, in SI; `to(unit)` gives it in another."""

    name: str
    value: float
    standard_error: float
    unit: str | None
    at_bound: bool
    degrees_of_freedom: int

    @property
    def interval(self) -> tuple[float, float]:
        """95 % confidence interval, value -/+ t(0.975, degrees of freedom) standard errors.

        Of a pre-exponential factor, whose logarithm is what the data determine: exp(ln A -/+ t s/A).
        """
        half = half_width(self.standard_error, self.degrees_of_freedom)
        if self.name.endswith(".A") and self.value > 0:
            factor = float(np.exp(np.minimum(half / self.value, 700.0)))
            return self.value / factor, self.value * factor
        return self.value - half, self.value + half

    def shown(self) -> tuple[float, float, float, float]:
        """Value, standard error and interval in the unit the constant came in."""
        if self.unit is None:
            return (self.value, self.standard_error, *self.interval)
        found = units.unit(self.unit)
        low, high = (found.from_si(bound) for bound in self.interval)
        return found.from_si(self.value), self.standard_error / found.factor, low, high


@dataclass(frozen=True, eq=False)
class Points:
    """Every observation, each of shape (points,) in SI; slopes of shape (points, variables of the search)."""

    run: tuple[str, ...]
    time: np.ndarray
    species: tuple[str, ...]
    measured: np.ndarray
    calculated: np.ndarray
    spread: np.ndarray
    """Residual standard deviation of the species."""
    leverage: np.ndarray
    slopes: np.ndarray

    @property
    def residuals(self) -> np.ndarray:
        """Measured less calculated."""
        return np.asarray(self.measured - self.calculated)


@dataclass(frozen=True)
class Response:
    """How one measured species was met."""

    species: str
    observations: int
    standard_deviation: float
    """Residual standard deviation, mol/m^3."""
    r_squared: float


@dataclass(frozen=True)
class OddPoint:
    """An observation that lies further off than chance allows."""

    run: str
    time: float
    species: str
    measured: float
    calculated: float
    deviations: float
    """Externally studentised residual: how many standard deviations off, judged by the other points."""


@dataclass(frozen=True, eq=False)
class Fit(Printed):
    """The result of `fit`. `chemistry` has the constants known and carries their covariance."""

    estimates: tuple[Estimate, ...]
    responses: tuple[str, ...]
    points: Points
    experiments: Experiments
    chemistry: Chemistry
    covariance: np.ndarray
    evaluations: int

    @property
    def values(self) -> dict[str, float]:
        """Fitted constants by name, in SI."""
        return {e.name: e.value for e in self.estimates}

    def __getitem__(self, name: str) -> Estimate:
        found = {e.name: e for e in self.estimates}
        if name not in found:
            raise InputError(f"no constant '{name}' was fitted", "fit", nearest(name, found))
        return found[name]

    @property
    def degrees_of_freedom(self) -> int:
        return self.estimates[0].degrees_of_freedom

    @cached_property
    def correlation(self) -> np.ndarray:
        """Correlation of the fitted constants, shape (constants, constants)."""
        size = np.sqrt(np.maximum(np.diag(self.covariance), 1e-300))
        return np.asarray(np.clip(self.covariance / np.outer(size, size), -1, 1))

    @cached_property
    def by_species(self) -> tuple[Response, ...]:
        """Residual standard deviation and R^2 (1 - residual / total sum of squares about the mean) of each species."""
        found = []
        names = np.array(self.points.species)
        for species in self.responses:
            own = names == species
            measured, residuals = self.points.measured[own], self.points.residuals[own]
            total = float(np.sum((measured - measured.mean()) ** 2))
            r_squared = 1 - float(np.sum(residuals**2)) / total if total > 0 else float("nan")
            found.append(Response(species, int(own.sum()), float(self.points.spread[own][0]), r_squared))
        return tuple(found)

    @cached_property
    def odd_points(self) -> tuple[OddPoint, ...]:
        """Observations out of line, worst first.

        By the externally studentised residual t = e / (s_(i) sqrt(1 - h)), with s_(i) from all points but this one,
        held against Student's t at 5 % shared over all points (Bonferroni; R. D. Cook, S. Weisberg, Residuals and
        Influence in Regression, 1982, section 2.2). They still count in the fit: `Experiments.without` leaves one out.
        """
        points, degrees = self.points, self.degrees_of_freedom
        if degrees < 2 or np.max(points.spread) < _NUMERICAL * np.max(np.abs(points.measured)):
            return ()
        scaled = points.residuals / points.spread / np.sqrt(np.maximum(1 - points.leverage, 1e-12))
        variance = float(np.sum((points.residuals / points.spread) ** 2) / degrees)
        others = np.maximum((degrees * variance - scaled**2) / (degrees - 1), 1e-300)
        off = scaled / np.sqrt(others)
        limit = student(1 - _ODD / (2 * len(off)), degrees - 1)
        return tuple(
            OddPoint(
                points.run[i], float(points.time[i]), points.species[i], float(points.measured[i]),
                float(points.calculated[i]), float(off[i]),
            )
            for i in np.argsort(-np.abs(off))
            if abs(off[i]) > limit
        )  # fmt: skip

    @property
    def warnings(self) -> list[str]:
        """What the reader must know before believing the constants."""
        display = self.experiments.display
        said = []
        for e in self.estimates:
            if not np.isfinite(e.standard_error):
                advice = "fix it or one that it goes with, or measure at other temperatures or feeds"
                said.append(f"{e.name} is not determined by these data: {advice}")
            elif e.at_bound:
                said.append(f"{e.name} ended on its bound: its interval means nothing there")
        for p in self.odd_points:
            measured, calculated = (display.text(c, "concentration", 3) for c in (p.measured, p.calculated))
            time = display.text(p.time, "time")
            said.append(
                f"run {p.run}, {time}, {p.species}: {measured} measured, {calculated} calculated, "
                f"{abs(p.deviations):.1f} standard deviations off; it counts in this fit"
            )
        return said

    def curves(self, points: int = 121) -> dict[str, tuple[np.ndarray, dict[str, np.ndarray]]]:
        """For each run, times in s and the calculated concentration of each measured species, shape (points,)."""
        found = {}
        for run in self.experiments:
            charge = {s: c for s, c in run.charge.items() if s in self.chemistry.names}
            vessel = Batch(self.chemistry, charge, T=Value(run.T) if run.T is not None else None, name=run.name)
            result = vessel.run(Value(float(run.times[-1])), points)
            found[run.name] = (result.solution.points, {s: result.concentrations[s] for s in self.responses})
        return found

    def table(self) -> pd.DataFrame:
        """One row a constant: value, standard error and 95 % interval in the unit it came in."""
        import pandas as pd

        rows = []
        for e in self.estimates:
            value, error, low, high = e.shown()
            numbers = {"value": value, "standard error": error, "95 % low": low, "95 % high": high}
            rows.append({"constant": e.name, "unit": e.unit or "", **numbers})
        return pd.DataFrame(rows)

    def points_table(self) -> pd.DataFrame:
        """One row an observation: measured, calculated, residual, leverage, with units in the headings."""
        import pandas as pd

        display, points = self.experiments.display, self.points
        columns = {"run": points.run, display.heading("time", "time"): display.number(points.time, "time")}
        columns["species"] = points.species
        for name in ("measured", "calculated", "residuals"):
            heading = display.heading(name.removesuffix("s"), "concentration")
            columns[heading] = display.number(getattr(points, name), "concentration")
        return pd.DataFrame({**columns, "leverage": points.leverage})

    def __str__(self) -> str:
        display = self.experiments.display
        count, runs = len(self.points.measured), len(self.experiments)
        lines = [f"Fit of {len(self.estimates)} constants to {count} observations in {runs} runs"]
        numbers = [(e, [f"{x:.4g}" for x in e.shown()]) for e in self.estimates]
        width = max(len(e.name) for e in self.estimates)
        lines.append(f"  {'':<{width}}  {'value':>10}  {'std. error':>10}    95 % interval")
        for e, (value, error, low, high) in numbers:
            unit = units.pretty(e.unit or "")
            lines.append(f"  {e.name:<{width}}  {value:>10}  {error:>10}    {low} to {high}  {unit}".rstrip())
        if len(self.estimates) > 1:
            lines.append("  correlation")
            for i, e in enumerate(self.estimates):
                row = "".join(f"{x:>8.3f}" for x in self.correlation[i, : i + 1])
                lines.append(f"  {e.name:<{width}}{row}")
        for r in self.by_species:
            sd = display.text(r.standard_deviation, "concentration", 3)
            lines.append(
                f"  {r.species}: residual standard deviation {sd}, R2 {r.r_squared:.5f} ({r.observations} values)"
            )
        lines += [f"  left out: {self.experiments.describe(gone)}" for gone in self.experiments.left_out]
        lines += [f"  note: {text}" for text in self.warnings]
        return "\n".join(lines)
