"""The next experiment: the candidate that would narrow a constant, a decision or all constants most."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.display import Display
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.fit_data import FitData
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.statistics import half_width
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS


@runtime_checkable
class Decision(Protocol):
    """A decision from fitted constants: a size, an optimum."""

    @property
    def display(self) -> Display:
        """The units of results."""

    def decided(self) -> tuple[str, str]:
        """The decided quantity in words, and its kind (or a unit)."""

    def slopes_by_constants(self, names: Sequence[str]) -> np.ndarray:
        """Its derivatives by constants in SI, shape (constants,)."""


@dataclass(frozen=True)
class Candidate:
    """A possible experiment, and the criterion after it.

    Attributes
    ----------
    run : Experiment
    half_width : float
        Of the 95 % interval after it, in SI; for the D- and A-criterion the mean half width of all constants, relative
        to now.
    """

    run: Experiment
    half_width: float


@dataclass(frozen=True, eq=False)
class NextExperiment(Frozen, Result):
    """Candidates, the best first, for narrowing a constant or a decision.

    Attributes
    ----------
    what : str
        The narrowed quantity: a constant, a decision ("length of coil"), or the criterion of all constants.
    unit : str
        The unit of half widths; empty if they are relative to now.
    now : float
        Half width of its 95 % interval now, in SI; 1 for a criterion of all constants.
    candidates : tuple of Candidate
        Single experiments, the best first.
    fit : Fit
    together : tuple of Experiment
        The best set of several experiments.
    after : float
        The half width after the best (or after all of the set), in SI.

    Examples
    --------
    >>> open_chem = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> fit = mo.fit(open_chem, run)
    >>> best = fit.next_experiment("r.k", charges=[{"A": 1000.0}], times=[[60.0, 300.0], [600.0, 900.0]])
    >>> len(best.table())
    2
    """

    what: str
    unit: str
    now: float
    candidates: tuple[Candidate, ...]
    fit: FitData
    together: tuple[Experiment, ...] = ()
    after: float = math.nan

    @property
    def best(self) -> Candidate:
        return self.candidates[0]

    @property
    def _factor(self) -> float:
        return float(units.unit(self.unit).factor) if self.unit else 1.0

    def table(self) -> Table:
        """One row per candidate: its conditions, and the half width after it; those of the best set are marked."""
        display = self.fit.data.display
        rows = []
        for candidate in self.candidates:
            run = candidate.run
            row: PlainData = {}
            if run.T is not None:
                row[display.heading("T", "temperature")] = float(display.number(run.T, "temperature"))
            for species in dict.fromkeys(s for other in self.candidates for s in other.run.initial):
                c, kind = _charged(run, species)
                row[display.heading(species, kind)] = float(display.number(c, kind))
            row[display.heading("samples at", "time")] = ", ".join(
                f"{display.number(t, 'time'):.4g}" for t in run.times
            )
            heading = "half width" + (f" [{self.unit}]" if self.unit else "")
            row[heading] = candidate.half_width / self._factor
            row["of now"] = f"{candidate.half_width / self.now:.0%}" if math.isfinite(self.now) else "determined"
            if self.together:
                row["chosen"] = sum(run is one for one in self.together) or ""
            rows.append(row)
        return frame(rows)

    def to_dict(self) -> PlainData:
        """Plain data: the criterion, every candidate, the best first, and the best set."""
        return {
            "narrow": self.what,
            "unit": self.unit,
            "now": self.now / self._factor,
            "after": self.after / self._factor,
            "together": [run.name for run in self.together],
            "candidates": self.table().to_dict("records"),
        }

    def _width(self, si: float) -> str:
        if not math.isfinite(si):
            return "undetermined"
        return f"± {si / self._factor:.3g} {units.pretty(self.unit)}".rstrip()

    def _in_words(self, run: Experiment) -> str:
        display = self.fit.data.display
        at = f"{display.text(run.T, 'temperature')}, " if run.T is not None else ""
        charged = ", ".join(f"{s} {display.text(*_charged(run, s))}" for s, c in run.initial.items() if c > 0)
        times = ", ".join(f"{display.number(t, 'time'):.4g}" for t in run.times)
        return f"{at}{charged}, samples at {times} {units.pretty(display.unit('time'))}".rstrip()

    def __str__(self) -> str:
        is_relative = self.what in _CRITERIA.values()
        now = "1, relative" if is_relative else self._width(self.now)
        lines = [f"{self.what} is now {now}; of {len(self.candidates)} candidates "]
        if not self.together:
            return f"{lines[0]}the best is {self._in_words(self.best.run)}: {self._width(self.best.half_width)}"
        lines[0] += f"the best {len(self.together)} together leave {self._width(self.after)}:"
        for run in dict.fromkeys(self.together):
            times = sum(run is one for one in self.together)
            lines.append(f"  {self._in_words(run)}" + (f" ({times} times)" if times > 1 else ""))
        return "\n".join(lines)


def grid(
    T: Sequence[object] = (),
    charges: Sequence[ByName] = (),
    times: Sequence[Sequence[object]] = (),
    vessel: str = "batch",
) -> list[Experiment]:
    """Every combination of temperatures, charges and lists of sampling times, as planned runs."""
    faults = Faults()
    if not charges or not times:
        faults.add(
            "candidates", "charges and times are needed", "charges=[{'A': '1 mol/L'}], times=[['10 min', '1 h']]"
        )
    read_T: list[float | None] = []
    for one in T:
        with faults.at("candidates"):
            read_T.append(units.positive(one, "temperature", "T").si)
    read_charges: list[tuple[dict[str, float], bool]] = []
    read_times = []
    for charge in charges:
        with faults.at("candidates"):
            kinds = {species: _kind_of_charge(c) for species, c in charge.items()}
            if len({*kinds.values()}) > 1:
                raise InputError("concentrations and pressures in one charge", "charges", "give one or the other")
            by_pressure = "pressure" in kinds.values()
            if by_pressure and not read_T:
                raise InputError("partial pressures without a temperature", "charges", "T=['200 degC']")
            read_charges.append(
                ({s: units.positive(c, kinds[s], s, zero=True).si for s, c in charge.items()}, by_pressure)
            )
    for row in times:
        with faults.at("candidates"):
            read_times.append(sorted(units.positive(t, "time", "times").si for t in row))
    faults.raise_any()
    return [
        Experiment(
            f"candidate {n}",
            np.array(t),
            {},
            {s: x / (GAS_CONSTANT * at) for s, x in c.items()} if by_pressure and at else c,
            at,
            vessel,
            by_pressure,
        )
        for n, (at, (c, by_pressure), t) in enumerate(itertools.product(read_T or [None], read_charges, read_times), 1)
    ]


def _kind_of_charge(given: object) -> str:
    """Whether a charge is a concentration or a partial pressure."""
    unit = units.unit_of(given)
    is_pressure = unit is not None and units.unit(unit).dimension == units.unit("Pa").dimension
    return "pressure" if is_pressure else "concentration"


def _charged(run: Experiment, species: str) -> tuple[float, str]:
    """The charge of a species, as partial pressure of a gas, and its kind of quantity."""
    c = run.initial.get(species, 0.0)
    return (c * GAS_CONSTANT * run.T, "pressure") if run.gas and run.T is not None else (c, "concentration")


_CRITERIA = {"D": "mean half width of all constants (D-criterion)", "A": "root mean square half width (A-criterion)"}
_MOST_EXCHANGES = 20


def next_experiment(
    fit: FitData, narrow: str | Decision, candidates: Sequence[Experiment], several: int = 1
) -> NextExperiment:
    """Order candidates by the 95 % interval of a constant, a decision or all constants after them.

    C_new = (C^-1 + sum of g' g / s^2)^-1, with the derivatives g of the responses at the present constants (A. C.
    Atkinson, A. N. Donev, Optimum Experimental Designs, 1992, chapters 10 and 18). All measured species are assumed to
    be measured again, with the estimated errors. A decision (a size, the value of an optimum) has the variance d' C d
    with its derivatives d by the constants; the D-criterion is the determinant of C, the A-criterion its trace, with
    constants relative to their present values. Several experiments are chosen one after another and then exchanged as
    long as that improves the criterion (V. V. Fedorov, Theory of Optimal Experiments, 1972).

    Raises
    ------
    InputError
        If the constant was not fitted, there is no candidate, or the fit was to rates.
    """
    if not fit.parameter_map.runs:
        raise InputError("this fit was to rates", "next experiment", "plan with a fit to runs")
    if not candidates:
        raise InputError("there is no candidate", "next experiment", "give T, charges and times to choose from")
    if isinstance(several, bool) or not isinstance(several, int) or several < 1:
        raise InputError(f"several = {several!r}", "next experiment", "give a whole number: 1, 2, 3, ...")
    size = np.where(fit.optimum.parameters != 0, np.abs(fit.optimum.parameters), 1.0)
    information = _information(fit, size)
    criterion = _read_criterion(fit, narrow, size, information)
    gains, counts = [], []
    for run in candidates:
        try:
            _, _, slopes, standard_deviation = fit.expected(run, run.times)
        except (InputError, SolveError) as fault:
            raise InputError(f.within(run.name) for f in fault.faults) from fault
        rows = (slopes / standard_deviation[:, :, None]).reshape(-1, len(size)) * size
        gains.append(rows.T @ rows)
        counts.append(len(rows))

    def after(chosen: Sequence[int]) -> float:
        whole = information + sum((gains[n] for n in chosen), np.zeros_like(information))
        return criterion.half_width(whole, sum(counts[n] for n in chosen))

    found = sorted((Candidate(run, after([n])) for n, run in enumerate(candidates)), key=lambda c: c.half_width)
    chosen = _best_set(after, len(candidates), several) if several > 1 else []
    return NextExperiment(
        criterion.what,
        criterion.unit,
        criterion.half_width(information, 0),
        tuple(found),
        fit,
        tuple(candidates[n] for n in chosen),
        after(chosen) if chosen else found[0].half_width,
    )


def _best_set(after: Callable[[Sequence[int]], float], count: int, several: int) -> list[int]:
    """The best set of candidates, possibly with repetitions."""
    chosen: list[int] = []
    for _ in range(several):
        chosen.append(min(range(count), key=lambda n: after([*chosen, n])))
    least = after(chosen)
    for _ in range(_MOST_EXCHANGES):
        has_gained = False
        for place in range(several):
            others = chosen[:place] + chosen[place + 1 :]
            best = min(range(count), key=lambda n: after([*others, n]))
            if after([*others, best]) < least * (1 - 1e-9):
                chosen, least, has_gained = [*others, best], after([*others, best]), True
        if not has_gained:
            break
    return sorted(chosen)


@dataclass(frozen=True, eq=False)
class _Criterion:
    """The criterion: the variance along a direction of the constants (each relative to its size), or of all of them."""

    what: str
    unit: str
    direction: np.ndarray | None
    degrees_of_freedom: float = 1.0
    kind: str = ""
    now: np.ndarray | None = None

    def half_width(self, information: np.ndarray, more: int) -> float:
        """The criterion of an information matrix, with a number of additional observations."""
        if self.direction is not None:
            return half_width(_error(information, self.direction), self.degrees_of_freedom + more)
        assert self.now is not None
        try:
            if self.kind == "D":
                _, log = np.linalg.slogdet(information)
                _, before = np.linalg.slogdet(self.now)
                return float(np.exp((before - log) / (2 * len(information))))
            return float(np.sqrt(np.trace(np.linalg.inv(information)) / np.trace(np.linalg.inv(self.now))))
        except np.linalg.LinAlgError:
            return math.inf


def _information(fit: FitData, size: np.ndarray) -> np.ndarray:
    """The information on the constants, each relative to its size: the inverse of their covariance if it exists."""
    if not fit.reasons:
        return np.asarray(np.linalg.inv(fit.covariance / np.outer(size, size)))
    weighted = fit.optimum.information_rows(fit.problem) * size / math.sqrt(fit.variance)
    return np.asarray(weighted.T @ weighted)


def _read_criterion(fit: FitData, narrow: str | Decision, size: np.ndarray, information: np.ndarray) -> _Criterion:
    """The criterion to be narrowed; InputError if the constant was not fitted."""
    names = list(fit.values)
    if isinstance(narrow, str):
        if narrow in _CRITERIA:
            return _Criterion(_CRITERIA[narrow], "", None, 1.0, narrow, information)
        if narrow not in fit.values:
            advice = nearest(narrow, [*fit.values, *_CRITERIA])
            raise InputError(f"no constant '{narrow}' was fitted", "next experiment", advice)
        direction = np.zeros(len(size))
        direction[names.index(narrow)] = size[names.index(narrow)]
        return _Criterion(narrow, fit[narrow].unit or "", direction, fit[narrow].degrees_of_freedom)
    if not hasattr(narrow, "slopes_by_constants"):
        advice = "give a constant, 'D', 'A', a size (mo.size) or an optimum (mo.optimize)"
        raise InputError(f"{narrow!r} cannot be narrowed", "next experiment", advice)
    known = {p.name for p in fit.chemistry.numbers}
    own = [name for name in names if name in known]
    if not own:
        raise InputError("it depends on no fitted constant", "next experiment", "fit the constants of its chemistry")
    direction = np.zeros(len(size))
    slopes = narrow.slopes_by_constants(own)
    for name, slope in zip(own, slopes, strict=True):
        direction[names.index(name)] = slope * size[names.index(name)]
    what, kind = narrow.decided()
    degrees = fit.chemistry.covariance.degrees_of_freedom if fit.chemistry.covariance is not None else 1
    return _Criterion(what, narrow.display.unit(kind) if kind in SI_UNITS else kind, direction, degrees)


def _error(information: np.ndarray, direction: np.ndarray) -> float:
    """Standard error along a direction of the constants; infinite if it is not determined."""
    values, vectors = np.linalg.eigh(information)
    known = values > 1e-14 * values[-1]
    along = vectors.T @ direction
    if np.any(np.abs(along[~known]) > 1e-3 * np.linalg.norm(direction)):
        return math.inf
    return math.sqrt(float(np.sum(along[known] ** 2 / values[known])))
