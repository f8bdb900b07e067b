"""The result of a sweep."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.checks import Check
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.display import Display
from molino.core.errors import MolinoError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame, sentence
from molino.core.trains.train import Train

AGREES = 1e-6
"""Largest difference between a case computed together with others and alone, relative to the largest value."""
_SHOWN = 12
"""The number of printed rows."""


@dataclass(frozen=True, eq=False)
class SweptCondition(Frozen):
    """A condition of a sweep.

    Attributes
    ----------
    name : str
    values : tuple
        As they were given.
    numbers : array or None, shape (values,)
        In `unit`; None if the values have several forms ("3 mol/L" and "20 mol%").
    unit : str
        '' of plain numbers.
    own : float
        The vessel's own value in that unit; nan if it has another form.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> swept = mo.sweep(tube, {"volume": ["1 L", "5 L"]}, ["conversion of A"])
    >>> swept.conditions[0].heading, swept.conditions[0].numbers.tolist()
    ('volume [L]', [1.0, 5.0])
    """

    name: str
    values: tuple[object, ...]
    numbers: np.ndarray | None
    unit: str
    own: float

    @property
    def heading(self) -> str:
        """Name and unit: 'T [degC]'."""
        return f"{self.name} [{self.unit}]" if self.unit else self.name

    @property
    def label(self) -> str:
        """As `heading`, with a typeset unit."""
        return f"{self.name} [{units.pretty(self.unit)}]" if self.unit else self.name

    def text(self, i: int) -> str:
        """A value with its unit."""
        if self.numbers is None:
            return str(self.values[i])
        return f"{units.number_text(float(self.numbers[i]), 6)} {units.pretty(self.unit)}".rstrip()

    def cells(self, places: np.ndarray) -> np.ndarray | list[str]:
        """Its values at some places: numbers, or texts if they have several forms."""
        return [str(self.values[i]) for i in places] if self.numbers is None else self.numbers[places]


@dataclass(frozen=True, eq=False)
class Sweep(Frozen, Result):
    """Metrics of a vessel under many conditions.

    Attributes
    ----------
    vessel : Vessel or Train
    metrics : tuple of Metric
    conditions : tuple of SweptCondition
    shape : tuple of int
        Number of values of each condition of a grid; (cases,) of a list of cases.
    places : array of int, shape (cases, conditions)
        The place of the value of each condition in each case.
    numbers : array, shape (cases, metrics)
        In SI; nan for a case that could not be computed.
    reasons : tuple of str
        For each case the reason, or ''.
    is_stopped : bool
        Whether it was interrupted; the cases computed by then are kept.
    apart : float
        The largest relative difference between cases computed together and single runs; nan without single runs.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> swept = mo.sweep(tube, {"volume": ["1 L", "5 L"]}, ["conversion of A"])
    >>> swept.values["conversion of A"].round(4).tolist()
    [0.1813, 0.6321]
    """

    vessel: Vessel | Train
    metrics: tuple[Metric, ...]
    conditions: tuple[SweptCondition, ...]
    shape: tuple[int, ...]
    places: np.ndarray
    numbers: np.ndarray
    reasons: tuple[str, ...]
    is_stopped: bool = False
    apart: float = math.nan

    @property
    def checks(self) -> tuple[Check, ...]:
        """The check by single runs of some cases, drawn by seed; none for fewer than a hundred cases, or if all are run
        singly."""
        if math.isnan(self.apart):
            return ()
        return (Check("single runs agree", self.apart, AGREES, "some cases, drawn by seed, by single runs"),)

    @cached_property
    def values(self) -> Mapping[str, np.ndarray]:
        """Each metric by its text, in SI, over the grid: shape (values of the first condition, of the second, ...)."""
        return {str(m): self.numbers[:, i].reshape(self.shape) for i, m in enumerate(self.metrics)}

    @property
    def is_grid(self) -> bool:
        """Whether it has every combination of its conditions, and is not a list of cases."""
        return len(self.shape) == len(self.conditions)

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    @property
    def varied(self) -> tuple[SweptCondition, ...]:
        """The conditions with more than one value."""
        return tuple(c for c in self.conditions if len(c.values) > 1)

    @cached_property
    def operating_point(self) -> np.ndarray:
        """The metrics of the vessel under its own conditions in SI, shape (metrics,); nan if undefined."""
        try:
            run = self.vessel.run()
            return np.array([run.metric(m) for m in self.metrics])
        except MolinoError:
            return np.full(len(self.metrics), np.nan)

    def at(self, case: int) -> str:
        """The conditions of a case in words: 'T = 175 °C, flow = 12 m³/h'."""
        pairs = zip(self.conditions, self.places[case], strict=True)
        shown = self.varied or self.conditions
        return ", ".join(f"{c.name} = {c.text(i)}" for c, i in pairs if c in shown)

    def table(self) -> Table:
        """One row per case: conditions and metrics as numbers with units in the headings, and the reason of a case
        without numbers."""
        columns: PlainData = {c.heading: c.cells(self.places[:, i]) for i, c in enumerate(self.conditions)}
        for i, metric in enumerate(self.metrics):
            heading = self.display.heading(str(metric), metric.kind)
            columns[heading] = self.display.number(self.numbers[:, i], metric.kind)
        if any(self.reasons):
            columns["reason"] = list(self.reasons)
        return frame(columns)

    def facts(self) -> dict[str, str]:
        """The highest and lowest value of each metric, with its conditions, and the number of cases without one."""
        found = {}
        for i, metric in enumerate(self.metrics):
            column = self.numbers[:, i]
            if not np.isfinite(column).any():
                continue
            for word, case in (("highest", int(np.nanargmax(column))), ("lowest", int(np.nanargmin(column)))):
                text = self.display.text(float(column[case]), metric.kind)
                found[f"{word} {metric}"] = f"{text} at {self.at(case)}"
        missing = sum(bool(reason) for reason in self.reasons)
        if missing:
            first = next(n for n, reason in enumerate(self.reasons) if reason)
            found["not computed"] = (
                f"{missing} of {len(self.reasons)} cases, as {self.at(first)}: {self.reasons[first]}"
            )
        return found

    def answer(self) -> tuple[str, str] | None:
        """The question, and the range of each metric with its conditions."""
        facts, parts = self.facts(), []
        for metric in self.metrics:
            ends = [facts.get(f"{word} {metric}") for word in ("lowest", "highest")]
            if None not in ends:
                parts.append(f"{metric} from {ends[0]} to {ends[1]}")
        over = " and ".join(one.name for one in self.varied)
        question = f"What is the effect of {over} on {self.vessel.label}?"
        return (question, sentence("; ".join(parts))) if over and parts else None

    def to_dict(self) -> PlainData:
        """Plain data: conditions and metrics with units, each metric as nested lists in the order of the conditions."""
        metrics = {}
        for m in self.metrics:
            shown = self.display.number(self.values[str(m)], m.kind)
            metrics[str(m)] = {"unit": self.display.unit(m.kind), "values": shown.tolist()}
        return {
            "vessel": self.vessel.label,
            "grid": self.is_grid,
            "conditions": {
                c.name: {"unit": c.unit, "values": np.asarray(c.cells(np.arange(len(c.values)))).tolist()}
                for c in self.conditions
            },
            "metrics": metrics,
            "not_computed": [
                {"conditions": self.at(n), "reason": reason} for n, reason in enumerate(self.reasons) if reason
            ],
            "checks": [check.to_dict() for check in self.checks],
            "interrupted": self.is_stopped,
        }

    @property
    def headline(self) -> str:
        """The vessel and the conditions of the sweep."""
        over = ", ".join(one.name for one in self.varied) or "its draws"
        return f"{self.vessel.label} over {over}: {len(self.reasons)} cases"

    def __str__(self) -> str:
        table = self.table()
        lines = [table.head(_SHOWN).to_string(index=False, float_format=lambda x: f"{x:.4g}")]
        if len(table) > _SHOWN:
            lines.append(f"... {len(table) - _SHOWN} more cases: table() has all of them")
        return "\n".join([*lines, *(f"{name}: {text}" for name, text in self.facts().items())])
