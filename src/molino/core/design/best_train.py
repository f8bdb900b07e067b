"""A point of an attainable region, and the train that reaches it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from molino.core.contract.metric import Metric
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, in_columns, plain_dict
from molino.core.trains.train import Train
from molino.core.trains.train_run import TrainRun


@dataclass(frozen=True, eq=False)
class Point:
    """A point of the region and how it is made: 'feed', 'tube', 'tank' or 'mixture' of others."""

    state: np.ndarray
    kind: str
    volume: float = 0.0
    parent: Point | None = None
    parts: tuple[tuple[float, Point], ...] = ()
    branch: int = 0
    """Which tube or tank it belongs to; points of one lie on one curve."""
    order: int = 0
    """Where on that curve."""


@dataclass(frozen=True, eq=False)
class BestTrain(Frozen, Result):
    """The train that reaches a point of an attainable region.

    Attributes
    ----------
    train : Train
    run : TrainRun
        Of it.
    point : array, shape (axes,)
        What the region promises, in SI.
    reached : array, shape (axes,)
        What the train gives, in SI.
    metrics : tuple of Metric
        The axes.
    description : str
        What the train consists of, in words.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> region = mo.attainable(chem, feed, axes=("conversion of A", "yield of B on A"))
    >>> best = region.best("yield of B on A")
    >>> best.description, round(best.run.yield_of("B", on="A"), 3)
    ('tube', 0.5)
    """

    train: Train
    run: TrainRun
    point: np.ndarray
    reached: np.ndarray
    metrics: tuple[Metric, ...]
    description: str

    def facts(self) -> dict[str, str]:
        """What it consists of, and what it reaches."""
        display = self.train.spec.display
        found = {"train": self.description}
        for metric, wanted, there in zip(self.metrics, self.point, self.reached, strict=True):
            text = display.text(float(there), metric.kind)
            found[str(metric)] = f"{text} (the region promises {display.text(float(wanted), metric.kind)})"
        return found

    def answer(self) -> tuple[str, str]:
        """What any arrangement could reach, and by which train."""
        return "How far could any arrangement go?", "; ".join(f"{what} {text}" for what, text in self.facts().items())

    def table(self) -> Table:
        """The streams of the train."""
        return self.run.stream_table()

    def to_dict(self) -> dict[str, Any]:
        """Plain data: the train in words, what was promised and what is reached."""
        return plain_dict(
            {
                "train": self.description,
                "promised": dict(zip(map(str, self.metrics), self.point.tolist(), strict=True)),
                "reached": dict(zip(map(str, self.metrics), self.reached.tolist(), strict=True)),
                "run": self.run.to_dict(),
            }
        )

    def __str__(self) -> str:
        return "\n".join([*in_columns(self.facts(), ""), str(self.run)])
