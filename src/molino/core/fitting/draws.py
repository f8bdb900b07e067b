"""Draws of the fitted constants from a distribution: refits to resampled data, or a posterior."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.reaction_set import Covariance
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame


@dataclass(frozen=True, eq=False)
class Draws(Frozen, Result):
    """Draws of constants, shape (draws, constants), in SI, with the units of the constants."""

    names: tuple[str, ...]
    draws: np.ndarray
    units: tuple[str | None, ...]
    fitted: Chemistry = field(repr=False)

    @property
    def standard_errors(self) -> dict[str, float]:
        """Standard deviation of each constant over the draws."""
        return dict(zip(self.names, np.std(self.draws, axis=0, ddof=1).tolist(), strict=True))

    @property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """95 % intervals, in SI."""
        raise NotImplementedError

    def chemistry_over(self, width: float) -> Chemistry:
        """The chemistry of the fit with the draws, their distance from the fit times `width`, as the distribution of
        its constants."""
        held = self.fitted.covariance
        assert held is not None
        values = {p.name: p.value for p in self.fitted.numbers}
        best = np.array([values[name] for name in held.names])
        away = (self.draws[:, [self.names.index(name) for name in held.names]] - best) * width
        own = Covariance(
            held.names,
            np.cov(away.T).reshape((len(best),) * 2),
            held.degrees_of_freedom,
            best + away,
            held.temperatures,
            held.concentrations,
        )
        return self.fitted.with_values({}, own)

    def table(self) -> Table:
        """Median, standard error and 95 % interval in the unit of each constant."""
        rows = []
        for n, (name, text) in enumerate(zip(self.names, self.units, strict=True)):
            unit = units.unit(text or "")
            numbers = [unit.from_si(x) for x in (float(np.median(self.draws[:, n])), *self.intervals[name])]
            rows.append((name, text or "", numbers[0], self.standard_errors[name] / unit.factor, *numbers[1:]))
        return frame(rows, columns=["constant", "unit", "median", "standard error", "95 % low", "95 % high"])

    def lines(self) -> list[str]:
        """Each constant in words."""
        found = []
        for name, unit, *numbers in self.table().itertuples(index=False):
            median, error, low, high = (f"{x:.4g}" for x in numbers)
            message = f"  {name}: median {median} (standard error {error}), 95 %: {low} to {high} {units.pretty(unit)}"
            found.append(message.rstrip())
        return found
