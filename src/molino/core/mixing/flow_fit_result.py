"""The results of fitting flow models."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from molino.core.annotations import PlainData
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.mixing.compartments import Compartments
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.mixing.flow_model import FlowModel
from molino.core.mixing.flow_models import TankWithDeadZone
from molino.core.results import Result, Table, entry, frame, in_columns, plain_dict
from molino.core.units import Value

_BEYOND = 1.5
"""Largest residual of a model in units of the noise."""
_SURE = 1e-3
"""Weight below which a model is rejected."""


@dataclass(frozen=True, eq=False)
class FlowFit(Frozen, Result):
    """One model fitted to a test.

    Attributes
    ----------
    model : FlowModel
        With its parameters.
    mean_si : float
        Space time of the active volume (for a tank with a dead zone: of the whole volume) in s.
    halves : mapping of str to float
        Half of the 95 % interval of each fitted parameter, "mean" in s.
    squares : float
        Sum of squares of the residuals, in the unit of the signal.
    count : int
        Number of fitted parameters, including the size of the signal if fitted.
    aicc : float
    times, seen, found : arrays, shape (points,)
        The measured signal (without its baseline), and that of the model.
    space_time : float
        Volume over flow in s; nan if unknown.
    noise : float
        Standard deviation of the signal.
    display : Display

    Examples
    --------
    >>> import numpy as np
    >>> t = np.linspace(1, 60, 60)
    >>> test = mo.mixing.TracerTest(t, mo.mixing.TanksInSeries(3).E(t, 12.0) + 1e-4 * np.sin(7 * t))
    >>> round(mo.mixing.fit_flow_models(test, [mo.mixing.TanksInSeries()]).best.mean_si, 1)
    12.0
    """

    model: FlowModel
    mean_si: float
    halves: Mapping[str, float]
    squares: float
    count: int
    aicc: float
    times: np.ndarray
    seen: np.ndarray
    found: np.ndarray
    space_time: float
    noise: float
    display: Display

    @property
    def distribution(self) -> ResidenceTimeDistribution:
        """The residence time distribution of the model."""
        return self.model.distribution(Value(self.mean_si, "s"), self.display.chosen)

    @property
    def dead_fraction(self) -> float:
        """The dead fraction of the volume; nan if volume or flow is unknown."""
        if isinstance(self.model, TankWithDeadZone):
            return 1 - float(self.model.active.si)
        return 1 - self.mean_si / self.space_time

    @property
    def residual(self) -> float:
        """Root mean square of the residuals over the highest signal."""
        return math.sqrt(self.squares / len(self.seen)) / float(np.max(np.abs(self.seen)))

    def facts(self) -> dict[str, str]:
        """Mean and parameters with their 95 % intervals, residuals."""
        shown, found = self.display, dict[str, str]()
        half = self.halves.get("mean")
        extra = f" ± {float(shown.number(half, 'time')):.2g}" if half is not None else ""
        found["mean residence time"] = shown.text(self.mean_si, "time") + extra
        for name in self.halves:
            if name != "mean":
                value = self.number(name)
                found[name] = f"{value:.4g} ± {self.halves[name]:.2g}"
        if math.isfinite(self.dead_fraction):
            found["dead fraction"] = f"{self.dead_fraction:.3g}"
        return found | {"residuals": f"{100 * self.residual:.3g} % of the highest signal", "AICc": f"{self.aicc:.1f}"}

    def number(self, name: str) -> float:
        if isinstance(self.model, Compartments):
            a, _, b = name.partition(" to ")
            held = self.model.flows[a][b] if b else {**self.model.tanks, **self.model.tubes}[name]
            return float(held.si)
        return float(getattr(self.model, name).si)

    def table(self) -> Table:
        """Times, the measured values and those of the model."""
        shown = self.display
        return frame(
            {
                shown.heading("time", "time"): shown.number(self.times, "time"),
                "measured": self.seen,
                "model": self.found,
            }
        )

    def to_dict(self) -> PlainData:
        """Mean, parameters with half intervals, dead fraction, residuals, AICc."""
        numbers = {n: {"value": self.number(n), "half_interval": h} for n, h in self.halves.items() if n != "mean"}
        return plain_dict(
            {
                "model": str(self.model),
                "mean": entry(self.display, self.mean_si, "time"),
                "numbers": numbers,
                "dead_fraction": self.dead_fraction,
                "residual": self.residual,
                "aicc": self.aicc,
            }
        )

    def __str__(self) -> str:
        return "\n".join([str(self.model), *in_columns(self.facts())])


@dataclass(frozen=True, eq=False)
class FlowComparison(Frozen, Result):
    """Models fitted to one test, the most likely first.

    Attributes
    ----------
    fits : tuple of FlowFit
    weights : tuple of float
        Akaike weights, by AICc (K. P. Burnham, D. R. Anderson, Model Selection and Multimodel Inference, 2nd ed. 2002,
        chapter 2).
    remarks : mapping of str to str
        Models that were not fitted, with the reason.

    Examples
    --------
    >>> import numpy as np
    >>> t = np.linspace(0, 60, 121)
    >>> test = mo.mixing.TracerTest(t, mo.mixing.TanksInSeries(3).E(np.maximum(t, 1e-6), 12.0) + 1e-4 * np.sin(7 * t))
    >>> found = mo.mixing.fit_flow_models(test, [mo.mixing.TanksInSeries(), mo.mixing.LaminarFlow()])
    >>> print(found.best.model.noun, round(found.best.model.n.si, 2))
    tanks in series 3.0
    """

    fits: tuple[FlowFit, ...]
    weights: tuple[float, ...]
    remarks: Mapping[str, str]

    @property
    def best(self) -> FlowFit:
        """The most likely."""
        return self.fits[0]

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.best.display

    def table(self) -> Table:
        """One row per model: mean, parameters, residuals, AICc, weight."""
        rows = []
        for one, weight in zip(self.fits, self.weights, strict=True):
            shown = one.display
            numbers = ", ".join(
                f"{name} {one.number(name):.4g} ± {h:.2g}" for name, h in one.halves.items() if name != "mean"
            )
            rows.append(
                {
                    "model": title(one.model),
                    shown.heading("mean", "time"): float(shown.number(one.mean_si, "time")),
                    "numbers": numbers,
                    "dead fraction": one.dead_fraction,
                    "residuals [%]": 100 * one.residual,
                    "AICc": one.aicc,
                    "weight": weight,
                }
            )
        return frame(rows).dropna(axis="columns", how="all")

    def verdict(self) -> str:
        """The models that the test does not reject, in words."""
        left = [title(f.model) for f, w in zip(self.fits, self.weights, strict=True) if w >= _SURE]
        best = self.best
        noise = best.noise / float(np.max(np.abs(best.seen)))
        more = ""
        if best.residual > _BEYOND * noise:
            left_over, own = (f"{100 * x:.2g} %" for x in (best.residual, noise))
            more = f"; residuals of {left_over} are above the noise of {own}: not all of the signal is described"
        if len(left) == 1:
            return f"{left[0]}: all others are rejected{more}"
        return f"{left[0]} is the most likely; {', '.join(left[1:])} cannot be rejected{more}"

    def facts(self) -> dict[str, str]:
        """The verdict, and the reasons of models that were not fitted."""
        return {"verdict": self.verdict(), **self.remarks}

    def to_dict(self) -> PlainData:
        """Every fit with its weight."""
        rows = [one.to_dict() | {"weight": weight} for one, weight in zip(self.fits, self.weights, strict=True)]
        return plain_dict({"verdict": self.verdict(), "models": rows, "not_fitted": dict(self.remarks)})

    def __str__(self) -> str:
        table = self.table().to_string(index=False, float_format=lambda x: f"{x:.4g}")
        return "\n".join(["flow models", table, *in_columns(self.facts())])


def title(model: FlowModel) -> str:
    boundaries = getattr(model, "boundaries", "")
    return f"{model.noun}, {boundaries}" if boundaries else model.noun
