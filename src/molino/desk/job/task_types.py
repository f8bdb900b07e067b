"""The tasks of a job, as read from its file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from molino.core.annotations import ByName
from molino.core.contents.feed import Feed
from molino.core.contract.metric import Metric
from molino.core.design.optimize.problem import Question
from molino.core.fitting.experiment import Experiment


@dataclass(frozen=True)
class Size:
    """A sizing of a job."""

    vessel: str
    metric: Metric
    target: Any
    free: str | None
    confidence: float | None = None
    spread: ByName = field(default_factory=dict)
    seed: int = 0
    next: tuple[Experiment, ...] = ()
    several: int = 1


@dataclass(frozen=True)
class Compare:
    """A comparison of a job; with `size_for`, each vessel is sized first."""

    vessels: tuple[str, ...]
    metrics: tuple[Metric, ...]
    size_for: Metric | None
    target: Any


@dataclass(frozen=True)
class SweepTask:
    """A sweep of a job; `conditions` are those of `mo.sweep`."""

    vessel: str
    conditions: Any
    metrics: tuple[str, ...]
    figure: str
    has_parquet: bool
    in_parts: bool = False


@dataclass(frozen=True)
class OptimizeTask:
    """An optimization of a job."""

    vessel: str
    question: Question
    n_starts: int
    seed: int
    next: tuple[Experiment, ...] = ()
    several: int = 1


@dataclass(frozen=True)
class RegionTask:
    """An attainable region of a job, and its objective."""

    feed: Feed
    axes: tuple[str, ...]
    T: Any
    heat: str | None
    maximize: str | None
    subject_to: tuple[str, ...]


@dataclass(frozen=True)
class RecommendTask:
    """A recommendation of a job."""

    feed: Feed
    maximize: str | None
    minimize: str | None
    target: tuple[str, ...]
    free: ByName
    heat: str | None
    show: Mapping[str, str]


@dataclass(frozen=True)
class SurveyTask:
    """A survey of a job: its subject, and the arguments of `mo.survey`."""

    feed: Feed
    arguments: ByName


@dataclass(frozen=True)
class EquilibriumTask:
    """Equilibrium curves of a job: the vessel, the metric, and the arguments of their function."""

    vessel: str
    metric: Metric
    arguments: ByName
