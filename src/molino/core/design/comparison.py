"""`compare`: a comparison of several vessels."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import conversion, read_metric
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.design.size.size_result import Sizing
from molino.core.display import Display
from molino.core.errors import Faults
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame, sentence
from molino.core.runs.run import Run
from molino.core.trains.train import Train

_EQUAL = 1e-6
"""The relative difference up to which two vessels have the same value."""


@dataclass(frozen=True, eq=False)
class Comparison(Frozen, Result):
    """Vessels with their runs and metrics.

    Attributes
    ----------
    runs : tuple of Run or TrainRun
    metrics : tuple of Metric
    sizings : tuple of Sizing or None
        For each vessel the sizing that it is the result of; None for a vessel as given.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> found = mo.compare([tube, tank])
    >>> [round(row["conversion of A"], 3) for row in found.values]
    [0.632, 0.5]
    """

    runs: tuple[RunResult, ...]
    metrics: tuple[Metric, ...]
    sizings: tuple[Sizing | None, ...]

    @property
    def labels(self) -> tuple[str, ...]:
        """A name for each vessel, numbered where two have the same."""
        plain = [run.vessel.label for run in self.runs]
        return tuple(f"{n} {plain[: i + 1].count(n)}" if plain.count(n) > 1 else n for i, n in enumerate(plain))

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.runs[0].display

    @cached_property
    def values(self) -> list[dict[str, float]]:
        """For each vessel, each metric by its text, in SI."""
        return [{str(m): run.metric(m) for m in self.metrics} for run in self.runs]

    @cached_property
    def errors(self) -> list[dict[str, float | None]]:
        """For each vessel the standard error of each metric at this size, from the fitted constants, in SI."""
        return [{str(m): run.standard_error(m) for m in self.metrics} for run in self.runs]

    @cached_property
    def size_errors(self) -> list[float | None]:
        """For each sized vessel the relative standard error of its residence time (and volume)."""
        return [s.standard_error / s.value if s is not None and s.standard_error else None for s in self.sizings]

    def table(self) -> Table:
        """One row per vessel: kind, volume, length, residence time and metrics, with units in the headings."""
        display = self.display
        rows = []
        for label, run, values in zip(self.labels, self.runs, self.values, strict=True):
            row: PlainData = {"vessel": label, "kind": run.vessel.noun}
            row[display.heading("volume", "volume")] = display.number(run.volume_si, "volume")
            positions = (
                {name: (kind, along[-1]) for name, kind, along in run.positions()}
                if isinstance(run, Run) and not run.is_steady
                else {}
            )
            if "length" in positions:
                row[display.heading("length", "length")] = display.number(positions["length"][1], "length")
            row[display.heading("residence time", "time")] = display.number(run.residence_time_si, "time")
            for metric in self.metrics:
                row[display.heading(str(metric), metric.kind)] = display.number(values[str(metric)], metric.kind)
            rows.append(row)
        table = frame(rows)
        first = [c for c in table.columns if c.split(" [")[0] in ("vessel", "kind", "volume", "length")]
        return table[[*first, *(c for c in table.columns if c not in first)]]

    def to_dict(self) -> PlainData:
        """Plain data: for each vessel its metrics, with standard errors, and its run."""
        rows = {}
        for label, run, values, errors in zip(self.labels, self.runs, self.values, self.errors, strict=True):
            metrics = {
                str(m): {**entry(run.display, values[str(m)], m.kind), "standard_error_si": errors[str(m)]}
                for m in self.metrics
            }
            rows[label] = {"metrics": metrics, "run": run.to_dict()}
        return rows

    def answer(self) -> tuple[str, str] | None:
        """The question, and for each metric the vessels with the lowest and the highest value."""
        goals = {str(one.goal) for one in self.sizings if one is not None}
        goal = f" for {goals.pop()}" if len(goals) == 1 and None not in self.sizings else ""
        volumes = [run.volume_si if run.duty_kind == "power" else np.nan for run in self.runs]
        columns = [("volume", "volume", volumes)]
        columns += [(str(m), m.kind, [own[str(m)] for own in self.values]) for m in self.metrics]
        parts = []
        for name, kind, numbers in columns:
            known = np.array([np.nan if x is None else float(x) for x in numbers])
            if np.isfinite(known).sum() < 2 or np.nanmax(known) - np.nanmin(known) <= _EQUAL * np.nanmax(np.abs(known)):
                continue
            parts.append(f"{name} {' to '.join(self._end(known, end, kind) for end in (np.nanmin, np.nanmax))}")
        return (f"How do the vessels compare{goal}?", sentence("; ".join(parts))) if parts else None

    def _end(self, numbers: np.ndarray, end: Callable[[np.ndarray], float], kind: str) -> str:
        """The lowest or highest number, with the vessels that have it."""
        value = float(end(numbers))
        near = np.abs(numbers - value) <= _EQUAL * abs(value)
        names = [label for label, is_near in zip(self.labels, near, strict=True) if is_near]
        return f"{self.display.text(value, kind)} ({', '.join(names)})"

    @property
    def headline(self) -> str:
        """The number of vessels, and the metrics."""
        return f"{len(self.table())} vessels compared: {', '.join(str(m) for m in self.metrics)}"

    def __str__(self) -> str:
        rows = self.table().set_index("vessel").T
        shown = rows.map(lambda x: x if isinstance(x, str) else "" if np.isnan(x) else f"{x:.4g}")
        return str(shown.rename_axis(columns=None).to_string())


@checked
def compare(vessels: Sequence[Vessel | Train | Sizing], metrics: Sequence[Metric | str] = ()) -> Comparison:
    """Compare several vessels, on the same feed or not.

    Parameters
    ----------
    vessels : sequence of vessels or sizings
        A batch is run for its time, a tube to its end, a tank to its steady state; a `Sizing` means its vessel.
    metrics : sequence of Metric or str, optional
        By default the conversion of each reactant fed.

    Returns
    -------
    Comparison

    Raises
    ------
    InputError
        With the reasons why vessels cannot be run.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> found = mo.compare([tube, tank], ["conversion of A"])
    >>> [round(row["conversion of A"], 3) for row in found.values]
    [0.632, 0.5]
    """
    faults = Faults()
    if not vessels:
        faults.add("compare", "no vessel is given", "give at least one")
    asked = []
    for text in metrics:
        with faults.at("compare"):
            asked.append(read_metric(text))
    runs: list[RunResult] = []
    sizings = tuple(item if isinstance(item, Sizing) else None for item in vessels)
    for item in vessels:
        with faults.at():
            runs.append(item.run if isinstance(item, Sizing) else item.run())
    faults.raise_any()
    if not asked:
        names = dict.fromkeys(n for run in runs for n in run.summary() if n.startswith("conversion of "))
        asked = [conversion(name.removeprefix("conversion of ")) for name in names]
    for run in runs:
        for metric in asked:
            with faults.at(run.vessel.label):
                run.vessel.spec.check_metric(metric)
    faults.raise_any()
    return Comparison(tuple(runs), tuple(asked), sizings)
