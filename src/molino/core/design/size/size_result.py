"""The result of sizing."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import Check, checked_fact
from molino.core.contract.metric import Metric
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.design.confidence import SpreadSources, draws_for
from molino.core.display import Display
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame
from molino.core.safety.heat_safety import safety_of
from molino.core.safety.safety_results import Safety, safety_lines
from molino.core.statistics import half_width
from molino.core.trains.train import Train
from molino.core.units import Value

_MET = 1e-6
"""Largest relative deviation of the run of the sized vessel from the target, unless the tolerances of the integration
allow a larger one."""
_ERRORS = 10.0
"""Largest difference of two runs in units of the error that their tolerances allow."""
UNRESOLVED = 0.01
"""Largest relative difference of two runs: beyond it the tolerances do not resolve the target."""


@dataclass(frozen=True, eq=False)
class Sizing(Frozen, Result):
    """A vessel sized for a target.

    Attributes
    ----------
    vessel : Vessel or Train
        With its size.
    run : Run or TrainRun
        Of that vessel.
    free, kind : str
        The name of the size, and its kind of quantity.
    value : float
        In SI.
    metric : Metric
    target : float
        In SI.
    standard_error : float or None
        Of the size in SI, from the covariance of the fitted constants; None without one.
    is_stable : bool
        Whether the steady state of a tank is stable.
    remark : str
        A remark on a steady state: whether it is stable, and whether the tank reaches it from its contents at t = 0;
        for a whole number the metric with one less.
    margin : float or None
        For a whole number: the margin of the metric beyond the target, in SI.
    confidence : float or None
        The probability of reaching the target; None for the nominal numbers alone.
    nominal : float or None
        The size in SI for the nominal numbers.
    reached : float
        The fraction of draws that reach the target with it; nan without a confidence.
    sources : SpreadSources or None
        The sources of the spread of the metric.
    others : tuple of float
        Larger sizes in SI at which the target is also met: all up to a thousand times the size of a tank.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> found = mo.size(tube, "conversion of A", 0.9)
    >>> print(str(found).partition("\\n")[0])
    volume 11.51 L for conversion of A = 0.9
    """

    vessel: Vessel | Train
    run: RunResult
    free: str
    kind: str
    value: float
    metric: Metric
    target: float
    standard_error: float | None
    is_stable: bool = True
    remark: str = ""
    margin: float | None = None
    confidence: float | None = None
    nominal: float | None = None
    reached: float = math.nan
    sources: SpreadSources | None = None
    others: tuple[float, ...] = ()

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The target by a separate run of the sized vessel, and the checks of that run."""
        if self.confidence is not None or self.margin is not None:
            return self.run.checks
        reached = self.run.metric(self.metric)
        size = max(abs(self.target), abs(reached), 1e-300)
        allowed = _ERRORS * self.run.error_of(self.metric) / size
        limit, method = max(_MET, min(allowed, UNRESOLVED)), "a separate run of the sized vessel"
        return (Check("target met", abs(reached - self.target) / size, limit, method), *self.run.checks)

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    @cached_property
    def safety(self) -> Safety | None:
        """The heat safety of the sized vessel; None without an exothermic reaction (see `heat_safety`)."""
        return safety_of(self.run)

    @property
    def interval(self) -> tuple[float, float] | None:
        """95 % interval of the size in SI (Student t), from the uncertainty of the fitted constants."""
        covariance = self.vessel.chemistry.covariance
        if self.standard_error is None or covariance is None or self.confidence is not None:
            return None
        half = half_width(self.standard_error, covariance.degrees_of_freedom)
        return max(self.value - half, 0.0), self.value + half

    def table(self) -> Table:
        """One row: target, the result, its value with its interval, the residence time."""
        display, kind = self.display, self.kind
        row: PlainData = {
            "target": f"{self.metric} = {display.text(self.target, self.metric.kind)}",
            "found": self.free.replace("_", " "),
            "value": float(display.number(self.value, kind)),
        }
        if self.margin is not None:
            row["margin"] = float(display.difference(self.margin, self.metric.kind))
        if self.interval is not None:
            low, high = (float(display.number(bound, kind)) for bound in self.interval)
            row |= {"95 % low": low, "95 % high": high}
        if self.confidence is not None:
            row |= {"confidence": self.confidence, "nominal": self._number(self.nominal)}
        time = float(display.number(self.run.residence_time_si, "time"))
        return frame([{**row, "unit": display.unit(kind), display.heading("residence time", "time"): time}])

    def to_dict(self) -> PlainData:
        """Plain data: target, size with its interval, stability, and the run of the sized vessel."""
        display, kind = self.display, self.kind
        interval = None if self.interval is None else [float(display.number(bound, kind)) for bound in self.interval]
        return {
            "metric": str(self.metric),
            "target": float(display.number(self.target, self.metric.kind)),
            "free": self.free,
            **entry(display, self.value, kind),
            "interval_95": interval,
            "confidence": self.confidence,
            "nominal": None if self.nominal is None else self._number(self.nominal),
            "reached_by_draws": None if self.confidence is None else self.reached,
            "sources": None if self.sources is None else self.sources.to_dict()["sources"],
            "margin": None if self.margin is None else float(display.difference(self.margin, self.metric.kind)),
            "stable": self.is_stable,
            "remark": self.remark,
            "other_sizes": [float(display.number(other, kind)) for other in self.others],
            "checks": [check.to_dict() for check in self.checks],
            "heat_safety": None if self.safety is None else self.safety.to_dict(),
            "run": self.run.to_dict(),
        }

    def decided(self) -> tuple[str, str]:
        """The sized quantity, and its kind."""
        return f"{self.free.replace('_', ' ')} of {self.vessel.label}", self.kind

    def slopes_by_constants(self, names: Sequence[str]) -> np.ndarray:
        """Exact derivatives of the nominal size by constants: -(dm/dk) / (dm/dV)."""
        run = self.run
        if self.confidence is not None and self.nominal is not None:
            nominal = self.vessel.with_({self.free: shown(self.display, self.nominal, self.kind)})
            run = nominal.run()
        if self.margin is not None:
            message = f"the size is a whole number of {self.free}, which has no derivatives"
            raise InputError(message, "next experiment", "size its length or volume, and narrow that")
        by_size = float(run.slopes((self.metric,), [self.free])[0, 0])
        return np.asarray(-run.constant_slopes(self.metric, names) / by_size)

    def _number(self, si: float | None) -> float:
        return math.nan if si is None else float(self.display.number(si, self.kind))

    @property
    def goal(self) -> str:
        """The target, in words."""
        sure = f" with {self.confidence:.4g} confidence" if self.confidence is not None else ""
        return f"{self.metric} = {self.display.text(self.target, self.metric.kind)}{sure}"

    def facts(self) -> dict[str, str]:
        """The size, its interval and the sources of its spread, by name, with units."""
        display, kind = self.display, self.kind
        found = {self.free.replace("_", " "): display.text(self.value, kind)}
        if self.interval is not None:
            low, high = (display.text(bound, kind) for bound in self.interval)
            found["95 % interval"] = f"{low} to {high} (from the fit of the constants)"
        if self.confidence is not None and self.nominal is not None:
            found["nominal size"] = display.text(self.nominal, kind)
            found["draws that reach it"] = f"{100 * self.reached:.1f} % of {draws_for(self.vessel)}"
        if self.others:
            found["the target is also met at"] = ", ".join(display.text(other, kind) for other in self.others)
        if self.sources is not None:
            found |= self.sources.facts()
        return found | checked_fact(self.checks[: len(self.checks) - len(self.run.checks)])

    def answer(self) -> tuple[str, str]:
        """The question, and the size with its interval."""
        (name, size), *others = self.facts().items()
        wanted = [(what, text.partition(" (")[0]) for what, text in others if what in ("95 % interval", "nominal size")]
        more = ", ".join(f"{what} {text}" for what, text in wanted)
        is_field = isinstance(getattr(self.vessel, self.free, None), Value)  # not of a train, nor a whole number
        basis = str(self.vessel.with_({self.free: None}) if is_field else self.vessel)
        what = "How many" if name in ("tubes", "tanks in series") else "What"
        answer = f"{size} ({more})" if more else size
        return (
            f"{what} {name} does {self.vessel.label} need for {self.goal}?",
            f"{answer}. Basis: {basis.partition(': ')[2] or basis}.",
        )

    def __str__(self) -> str:
        (name, size), *others = self.facts().items()
        lines = [f"{name} {size} for {self.goal}", *(f"  {name:<22} {text}" for name, text in others)]
        lines += [f"  {self.remark}"] if self.remark else []
        return "\n".join([*lines, str(self.run), *safety_lines(self.safety)])


def shown(display: Display, value: float, kind: str) -> Value:
    return Value(value, None if display.unitless else display.unit(kind))
