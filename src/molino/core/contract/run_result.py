"""The results of runs of vessels and trains."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Self

import numpy as np

from molino.core.annotations import PlainData
from molino.core.chemistry.reaction_set import Covariance
from molino.core.contents.streams import Fluid, Stream, stream_dict
from molino.core.contract import metrics
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, in_columns
from molino.core.schema import ReadField


class RunResult(Frozen, Result):
    """A result that metrics evaluate: a run of a vessel, or of a train."""

    vessel: ReadField

    @property
    def display(self) -> Display:
        """The units of results."""
        raise NotImplementedError

    @property
    def has_temperature(self) -> bool:
        """Whether a temperature is known."""
        raise NotImplementedError

    @property
    def temperatures(self) -> np.ndarray:
        """Temperature in K, shape (points,)."""
        raise NotImplementedError

    @property
    def series(self) -> Mapping[str, np.ndarray]:
        """Every quantity along the run in SI, each of shape (points,)."""
        raise NotImplementedError

    @property
    def is_steady(self) -> bool:
        """Whether it is a steady state, and not a course over time."""
        raise NotImplementedError

    @property
    def residence_time_si(self) -> float:
        """The residence time of the fluid in s, or the time of a batch."""
        raise NotImplementedError

    @property
    def space_time_si(self) -> float:
        """Volume over volumetric flow of the feed in s, or the time of a batch; nan of a train."""
        return float("nan")

    @property
    def volume_si(self) -> float:
        """Volume in m^3; nan for a vessel without one."""
        raise NotImplementedError

    @property
    def has_duty(self) -> bool:
        """Whether the enthalpies for a duty are known."""
        raise NotImplementedError

    @property
    def duty_si(self) -> float:
        """Heat through the walls in W, of a batch or semi-batch in J; InputError where it is unknown."""
        raise NotImplementedError

    @property
    def duty_kind(self) -> str:
        """ "power", or "energy" of a batch or semi-batch."""
        raise NotImplementedError

    @property
    def fluid(self) -> Fluid:
        """The fluid of the streams."""
        raise NotImplementedError

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """(name, kind, SI values) of its axis: time, or length, volume and residence time."""
        raise NotImplementedError

    def stream_in(self) -> Stream:
        """The feed or charge."""
        raise NotImplementedError

    def streams_in(self) -> list[Stream]:
        """All streams that enter."""
        raise NotImplementedError

    def streams_out(self) -> list[Stream]:
        """All streams that leave."""
        raise NotImplementedError

    def inner_streams(self) -> list[Stream]:
        """The streams between the units of a train with loops or several products; none of others."""
        return []

    def stream_table(self) -> Table:
        """The stream table: flows, fractions, temperature, pressure and density."""
        raise NotImplementedError

    def profile(self, metric: Metric | str) -> np.ndarray:
        """A metric at each point of the run, shape (points,): as if the vessel ended there."""
        raise NotImplementedError

    @property
    def concentrations(self) -> dict[str, np.ndarray]:
        """Concentration of each species in mol/m^3, shape (points,)."""
        raise NotImplementedError

    def inlet_amounts(self) -> dict[str, float]:
        """Amount (or molar flow) of each species that entered, up to the end."""
        raise NotImplementedError

    def first_pressure(self) -> float:
        """The pressure in Pa at the start; nan if unknown."""
        raise NotImplementedError

    def stream_out(self) -> Stream:
        """The outlet, or the contents of a batch at its end."""
        raise NotImplementedError

    def metric(self, metric: Metric | str) -> float:
        """A metric at the end, in SI."""
        raise NotImplementedError

    def slopes(self, metrics: Sequence[Metric], conditions: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(condition), shape (metrics, conditions)."""
        raise NotImplementedError

    def extreme(self, metric: Metric, sign: float) -> tuple[float, float]:
        """Where a metric is highest (lowest, for a negative sign), and its value there."""
        raise NotImplementedError

    def error_of(self, metric: Metric) -> float:
        """The error of a metric at the end that the tolerances of the integration allow, in SI."""
        return 0.0

    def sensitivity(self, metric: Metric | str, conditions: Sequence[str]) -> dict[str, float]:
        """Exact derivatives of a metric by conditions, in SI: `run.sensitivity("conversion of A", ["T"])`.

        dm/dg = (dm/dp) (dp/dg) + (dm/d(end)) (d(end)/dg) with the parameters p of the balances, from the sensitivity
        equations along a run, by the implicit function theorem at a steady state; of a train through every vessel and
        the recycle.

        Parameters
        ----------
        metric : Metric or str
        conditions : sequence of str
            Names as `with_` takes them: "T", "flow", "length", "[A]", "r.k", "bed.length", "recycle".

        Raises
        ------
        InputError
            For an unknown metric or condition.
        """
        return dict(zip(conditions, self.slopes((read_metric(metric),), conditions)[0].tolist(), strict=True))

    def constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(constant), shape (constants,), by the full names of the constants."""
        raise NotImplementedError

    @property
    def covariance(self) -> Covariance | None:
        """Covariance of the fitted constants."""
        raise NotImplementedError

    def thoroughly_verified(self) -> Self:
        """The same, verified by a second integration by another method at a hundredth of the tolerances."""
        raise NotImplementedError

    def standard_error(self, metric: Metric | str) -> float | None:
        """Standard error of a metric in SI from the covariance of the fitted constants; None without one.

        s^2 = g C g with the derivatives g by the fitted parameters (first-order propagation of error).
        """
        covariance = self.covariance
        if covariance is None:
            return None
        asked = read_metric(metric)
        slope = self.constant_slopes(asked, covariance.names)
        return float(np.sqrt(max(slope @ covariance.matrix @ slope, 0.0)))

    def conversion(self, species: str) -> float:
        """(inlet - outlet) / inlet; see `metrics.conversion`."""
        return self.metric(metrics.conversion(species))

    def yield_of(self, product: str, on: str) -> float:
        """Product formed per reactant fed, by stoichiometry; see `metrics.yield_of`."""
        return self.metric(metrics.yield_of(product, on))

    def selectivity(self, wanted: str, over: str | None = None, on: str | None = None) -> float:
        """Wanted over unwanted formed (`over`), or per reactant converted (`on`); see `metrics.selectivity`."""
        return self.metric(metrics.selectivity(wanted, over, on))

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        raise NotImplementedError

    def facts(self) -> dict[str, str]:
        """The main results, by name, with units."""
        raise NotImplementedError

    def to_dict(self) -> PlainData:
        """Plain data: sizes, conversions, concentrations, temperature, duty, closures, streams in and out."""
        run: Any = self  # a run of a vessel, or of a train
        display, summary = run.display, run.summary()
        shares = {name.replace(" ", "_"): v for name, v in summary.items() if name.startswith("conversion")}
        final = {
            name.removeprefix("concentration of "): float(display.number(value, "concentration"))
            for name, value in summary.items()
            if name.startswith("concentration")
        }
        out = run.stream_out()
        ends = {
            kind: entry(display, value, kind)
            for kind, value in (("temperature", out.T), ("pressure", out.P))
            if np.isfinite(value)
        }
        duty = {"duty": entry(display, run.duty_si, run.duty_kind)} if run.has_duty else {}
        sizes = {
            name: entry(display, value, kind)
            for name, value, kind in (
                ("residence_time", run.residence_time_si, "time"),
                ("volume", run.volume_si, "volume"),
            )
            if np.isfinite(value)
        }
        return {
            "kind": run.vessel.noun,
            "steady": run.is_steady,
            **sizes,
            **shares,
            "concentrations": {"unit": display.unit("concentration"), **final},
            "closure": dict(run.closure),
            "checks": [check.to_dict() for check in run.checks],
            **ends,
            **duty,
            "streams_in": [stream_dict(stream, display) for stream in run.streams_in()],
            "streams_out": [stream_dict(stream, display) for stream in run.streams_out()],
        }

    def lines(self, title: str) -> str:
        """A title, and the facts below it in two columns."""
        return "\n".join([title, *in_columns(self.facts())])
