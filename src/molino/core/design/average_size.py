"""The size of a vessel by several rate laws, and their average."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.size.size_result import Sizing
from molino.core.design.size.sizing import size
from molino.core.errors import NotFoundError, SolveError, UnreachableError
from molino.core.fitting.discrimination import Discrimination
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.statistics import student_t_quantile
from molino.core.trains.train import Train
from molino.core.units import QuantityLike

_LEAST = 0.01
"""Akaike weight below which a law is left out."""


@dataclass(frozen=True, eq=False)
class AverageSize(Frozen, Result):
    """A size by several rate laws, and its average.

    Made by `average_size`.

    Attributes
    ----------
    sizings : mapping of name to Sizing
        By each law, the heaviest first.
    weights : mapping of name to float
        Akaike weights of these laws; their sum is 1.
    value, standard_error : float
        The weighted mean, and its standard error, which includes the difference between the laws, in SI.
    interval : pair of float
        95 %, in SI.
    failed : mapping of name to str
        Laws by which the target is not reached, with the reason.

    Examples
    --------
    >>> first = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> found = mo.discriminate(mo.candidate_laws("A -> B", run, orders={"A": (0.5, 1)}), run)
    >>> tube = mo.PlugFlow(first, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"))
    >>> list(mo.average_size(found, tube, "conversion of A", 0.9, free="volume").weights)
    ['k [A]']
    """

    sizings: Mapping[str, Sizing]
    weights: Mapping[str, float]
    value: float
    standard_error: float
    interval: tuple[float, float]
    failed: Mapping[str, str]

    def table(self) -> Table:
        """One row per law, and the average: weight, size and 95 % interval."""
        first = next(iter(self.sizings.values()))
        heading = first.display.heading(first.free, first.kind)
        rows = []
        for name, one in self.sizings.items():
            ends = [None, None] if one.interval is None else first.display.number(np.array(one.interval), first.kind)
            rows.append((name, round(self.weights[name], 4), first.display.number(one.value, first.kind), *ends))
        ends = [first.display.number(end, first.kind) for end in self.interval]
        rows.append(("average", 1.0, first.display.number(self.value, first.kind), *ends))
        return frame(rows, columns=["law", "weight", heading, "95 % low", "95 % high"])

    @property
    def headline(self) -> str:
        """The average with its interval, and the range of the laws, in words."""
        first = next(iter(self.sizings.values()))
        shown = [first.display.text(x, first.kind) for x in (self.value, *self.interval)]
        ends = [f(one.value for one in self.sizings.values()) for f in (min, max)]
        between = " to ".join(first.display.text(end, first.kind) for end in ends)
        return (
            f"{first.free} for {first.metric} {first.target:g}: {shown[0]} ({shown[1]} to {shown[2]}, 95 %), averaged "
            f"over {len(self.sizings)} laws, which give {between}"
        )

    def to_dict(self) -> PlainData:
        """Plain data: the size by each law, and the average."""
        return {
            "laws": self.table().to_dict("records"),
            "value_si": self.value,
            "standard_error_si": self.standard_error,
            "interval_si": list(self.interval),
            "failed": dict(self.failed),
        }

    def __str__(self) -> str:
        lines = [self.headline, self.table().to_string(index=False, float_format=lambda x: f"{x:.4g}")]
        return "\n".join([*lines, *(f"  {name}: {why}" for name, why in self.failed.items())])


@checked
def average_size(
    candidates: Discrimination,
    vessel: Vessel | Train,
    metric: Metric | str,
    target: QuantityLike,
    free: str | None = None,
    **options: Any,
) -> AverageSize:
    """Size a vessel by each fitted candidate law, and average the sizes by the Akaike weights.

    The standard error is sum w sqrt(s^2 + (x - mean)^2), with the weight w, the size x and its standard error s by each
    law (K. P. Burnham, D. R. Anderson, Model Selection and Multimodel Inference, 2nd ed. 2002, section 4.3.2). Laws
    with a weight below 1 % are left out.

    Parameters
    ----------
    candidates : Discrimination
        From `discriminate`.
    vessel : Vessel or Train
        Its chemistry is replaced by that of each law.
    metric, target, free, options
        As for `size`.

    Returns
    -------
    AverageSize

    Raises
    ------
    SolveError
        If the target is not reached by any law.

    Examples
    --------
    >>> first = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> second = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^1.1", name="r", k=mo.Unknown(1e-3)))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> found = mo.discriminate({"first": first, "1.1": second}, run)
    >>> tube = mo.PlugFlow(first, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"))
    >>> average = mo.average_size(found, tube, "conversion of A", 0.9, free="volume")
    >>> low, high = average.interval
    >>> bool(low < 11.51e-3 < high)
    True
    """
    sizings: dict[str, Sizing] = {}
    failed: dict[str, str] = {}
    for name, fit in candidates.fits.items():
        if candidates.weights[name] < _LEAST:
            continue
        try:
            sizings[name] = size(vessel.with_(chemistry=fit.chemistry), metric, target, free, **options)
        except (SolveError, UnreachableError, NotFoundError) as fault:
            failed[name] = str(fault.faults[0].what)
    if not sizings:
        reasons = "; ".join(f"{name}: {why}" for name, why in failed.items())
        raise SolveError(f"no law reaches the target ({reasons})", str(metric), "take a smaller target")
    total = sum(candidates.weights[name] for name in sizings)
    weights = {name: candidates.weights[name] / total for name in sizings}
    mean = sum(weights[name] * one.value for name, one in sizings.items())
    error = sum(
        weights[name] * math.hypot(one.standard_error or 0.0, one.value - mean) for name, one in sizings.items()
    )
    degrees = min(candidates.fits[name].degrees_of_freedom for name in sizings)
    half = student_t_quantile(0.975, degrees) * error
    return AverageSize(sizings, weights, mean, error, (mean - half, mean + half), failed)
