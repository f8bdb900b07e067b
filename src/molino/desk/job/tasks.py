"""Sizes and comparisons that a job asks for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from molino.core import units
from molino.core.errors import Faults, nearest
from molino.core.vessels.metrics import Metric, parse_metric
from molino.desk.job.context import JobContext


@dataclass(frozen=True)
class Size:
    """A sizing that the job asks for."""

    vessel: str
    metric: Metric
    target: Any
    vary: str | None


@dataclass(frozen=True)
class Compare:
    """A comparison that the job asks for; with `size_for`, each vessel is sized first."""

    vessels: tuple[str, ...]
    metrics: tuple[Metric, ...]
    size_for: Metric | None
    target: Any


def read_tasks(job: JobContext) -> tuple[dict[str, Size], dict[str, Compare]]:
    """The sizes and comparisons of a job, their faults noted."""
    sizes, compares = {}, {}

    def known(name: str, faults: Faults) -> None:
        if name not in job.known("vessels"):
            faults.add("", f"there is no vessel '{name}'", nearest(name, job.known("vessels")))

    def target(metric: Metric, given: Any) -> Any:
        value = job.in_unit(given, metric.kind)
        units.read(value, metric.kind, "target")
        return value

    for name, size in job.file.size.items():
        with job.at(f"[size.{name}]"):
            faults = Faults()
            known(size.vessel, faults)
            with faults.at():
                metric = parse_metric(size.metric)
                sizes[name] = Size(size.vessel, metric, target(metric, size.target), size.vary)
            faults.raise_any()
    for name, table in job.file.compare.items():
        with job.at(f"[compare.{name}]"):
            faults = Faults()
            metrics: list[Metric] = []
            for vessel in table.vessels:
                known(vessel, faults)
            for text in table.metrics:
                with faults.at():
                    metrics.append(parse_metric(text))
            if (table.size_for is None) != (table.target is None):
                faults.add("", "size_for and target go together", "give both, or neither")
            size_for = wanted = None
            with faults.at():
                size_for = parse_metric(table.size_for) if table.size_for is not None else None
                if size_for is not None and table.target is not None:
                    wanted = target(size_for, table.target)
            faults.raise_any()
            compares[name] = Compare(tuple(table.vessels), tuple(metrics), size_for, wanted)
    return sizes, compares
