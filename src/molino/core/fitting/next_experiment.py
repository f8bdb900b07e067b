"""The next experiment: which of the candidates would narrow a constant most."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from molino.core import units
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.experiments import Experiment
from molino.core.frozen import Frozen
from molino.core.results import Result
from molino.core.statistics import half_width

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.fitting.fit_result import Fit


@dataclass(frozen=True)
class Candidate:
    """One experiment that could be made, and the half width of the 95 % interval it would leave, in SI."""

    run: Experiment
    half_width: float


@dataclass(frozen=True, eq=False)
class NextExperiment(Frozen, Result):
    """Candidates, the best first, for narrowing one constant; `now` is its half width without any of them, in SI.

    Attributes
    ----------
    constant : str
    now : float
        Half width of its 95 % interval now, in SI.
    candidates : tuple of Candidate
        The best first.
    fit : Fit

    Examples
    --------
    >>> import molino as mo
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> from molino.core.fitting.next_experiment import grid, next_experiment
    >>> best = next_experiment(fit, "r.k", grid([], [{"A": 1000.0}], [[60.0, 300.0], [600.0, 900.0]]))
    >>> len(best.table())
    2
    """

    constant: str
    now: float
    candidates: tuple[Candidate, ...]
    fit: Fit

    @property
    def best(self) -> Candidate:
        return self.candidates[0]

    def table(self) -> pd.DataFrame:
        """One row a candidate: its conditions, and the half width after it."""
        import pandas as pd

        display = self.fit.data.display
        unit = self.fit[self.constant].unit or ""
        factor = units.unit(unit).factor
        rows = []
        for candidate in self.candidates:
            run = candidate.run
            row: dict[str, Any] = {}
            if run.T is not None:
                row[display.heading("T", "temperature")] = float(display.number(run.T, "temperature"))
            for species in dict.fromkeys(s for other in self.candidates for s in other.run.initial):
                c = run.initial.get(species, 0.0)
                row[display.heading(species, "concentration")] = float(display.number(c, "concentration"))
            row[display.heading("samples at", "time")] = ", ".join(
                f"{display.number(t, 'time'):.4g}" for t in run.times
            )
            heading = f"± of {self.constant}" + (f" [{unit}]" if unit else "")
            row[heading] = candidate.half_width / factor
            row["of now"] = f"{candidate.half_width / self.now:.0%}" if math.isfinite(self.now) else "determined"
            rows.append(row)
        return pd.DataFrame(rows)

    def to_dict(self) -> dict[str, Any]:
        """Plain data: the constant to be narrowed, and every candidate, the best first."""
        return {"constant": self.constant, "candidates": self.table().to_dict("records")}

    def __str__(self) -> str:
        display, unit = self.fit.data.display, self.fit[self.constant].unit or ""
        factor = units.unit(unit).factor
        now = f"± {self.now / factor:.3g} {units.pretty(unit)}".rstrip() if math.isfinite(self.now) else "undetermined"
        best = self.best
        at = f"{display.text(best.run.T, 'temperature')}, " if best.run.T is not None else ""
        charged = ", ".join(f"{s} {display.text(c, 'concentration')}" for s, c in best.run.initial.items() if c > 0)
        times = ", ".join(f"{display.number(t, 'time'):.4g}" for t in best.run.times)
        message = (
            f"{self.constant} is now {now}; of {len(self.candidates)} candidates the best is {at}{charged}, samples at "
            f"{times} {units.pretty(display.unit('time'))}: ± {best.half_width / factor:.3g} {units.pretty(unit)}"
        )
        return message.rstrip()


def grid(
    T: Sequence[Any] = (), charges: Sequence[Mapping[str, Any]] = (), times: Sequence[Sequence[Any]] = (),
    vessel: str = "batch",
) -> list[Experiment]:  # fmt: skip
    """Every combination of temperatures, charges and lists of sampling times, as runs still to be made."""
    faults = Faults()
    if not charges or not times:
        faults.add(
            "candidates", "charges and times are needed", "charges=[{'A': '1 mol/L'}], times=[['10 min', '1 h']]"
        )
    read_T: list[float | None] = []
    for one in T:
        with faults.at("candidates"):
            read_T.append(units.positive(one, "temperature", "T").si)
    read_charges, read_times = [], []
    for charge in charges:
        with faults.at("candidates"):
            read_charges.append({s: units.positive(c, "concentration", s, zero=True).si for s, c in charge.items()})
    for row in times:
        with faults.at("candidates"):
            read_times.append(sorted(units.positive(t, "time", "times").si for t in row))
    faults.raise_any()
    return [
        Experiment(f"candidate {n}", np.array(t), {}, c, at, vessel)
        for n, (at, c, t) in enumerate(itertools.product(read_T or [None], read_charges, read_times), 1)
    ]


def next_experiment(fit: Fit, constant: str, candidates: Sequence[Experiment]) -> NextExperiment:
    """Order candidates by the half width that would be left of a constant's 95 % interval.

    C_new = (C^-1 + sum of g' g / s^2)^-1, with g the slopes of what would be measured, at the constants found so far
    (A. C. Atkinson, A. N. Donev, Optimum Experimental Designs, 1992, chapter 18). All measured species are taken to be
    measured again, with the errors that were found.

    Raises
    ------
    InputError
        If no such constant was fitted, there is no candidate, or the fit was to rates.
    """
    if not fit.parameter_map.runs:
        raise InputError("this fit was to rates", "next experiment", "plan with a fit to runs")
    if constant not in fit.values:
        raise InputError(f"no constant '{constant}' was fitted", "next experiment", nearest(constant, fit.values))
    if not candidates:
        raise InputError("there is no candidate", "next experiment", "give T, charges and times to choose from")
    i = list(fit.values).index(constant)
    size = np.where(fit.optimum.parameters != 0, np.abs(fit.optimum.parameters), 1.0)
    points = fit.points
    weighted = points.slopes * size / points.standard_deviation[:, None] / math.sqrt(fit.variance)
    information = weighted.T @ weighted
    found = []
    for run in candidates:
        try:
            _, _, slopes, standard_deviation = fit.expected(run, run.times)
        except (InputError, SolveError) as fault:
            raise InputError(f.within(run.name) for f in fault.faults) from fault
        rows = (slopes / standard_deviation[:, :, None]).reshape(-1, len(size)) * size
        error = _error(information + rows.T @ rows, i) * size[i]
        found.append(Candidate(run, half_width(error, fit.degrees_of_freedom + len(rows))))
    now = half_width(fit.estimates[i].standard_error, fit.degrees_of_freedom)
    return NextExperiment(constant, now, tuple(sorted(found, key=lambda c: c.half_width)), fit)


def _error(information: np.ndarray, i: int) -> float:
    """Standard error of one constant; infinite where it is still not determined."""
    values, vectors = np.linalg.eigh(information)
    known = values > 1e-14 * values[-1]
    if np.any(np.abs(vectors[i, ~known]) > 1e-3):
        return math.inf
    return math.sqrt(float(np.sum(vectors[i, known] ** 2 / values[known])))
