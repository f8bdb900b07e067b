"""A point of an attainable region, and the train that reaches it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from molino.core.annotations import PlainData
from molino.core.contract.metric import Metric
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, in_columns, plain_dict, sentence
from molino.core.trains.train import Train
from molino.core.trains.train_run import TrainRun


@dataclass(frozen=True, eq=False)
class Point:
    """A point of the region and its kind: 'feed', 'tube', 'tank' or 'mixture' of others."""

    state: np.ndarray
    kind: str
    volume: float = 0.0
    parent: Point | None = None
    parts: tuple[tuple[float, Point], ...] = ()
    branch: int = 0
    """The tube or tank of its curve."""
    order: int = 0
    """Its place on that curve."""


@dataclass(frozen=True, eq=False)
class BestTrain(Frozen, Result):
    """The train that reaches a point of an attainable region.

    Attributes
    ----------
    train : Train
    run : TrainRun
        Of it.
    point : array, shape (axes,)
        The point of the region in SI.
    reached : array, shape (axes,)
        The outlet of the train in SI.
    metrics : tuple of Metric
        The axes.
    description : str
        The vessels of the train, in words.

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
        """Its vessels and its outlet."""
        display = self.train.spec.display
        found = {"train": self.description}
        for metric, wanted, there in zip(self.metrics, self.point, self.reached, strict=True):
            text = display.text(float(there), metric.kind)
            found[str(metric)] = f"{text} (point of the region: {display.text(float(wanted), metric.kind)})"
        return found

    def answer(self) -> tuple[str, str]:
        """The best point of all arrangements, and its train."""
        (_, train), *reached = self.facts().items()
        metrics = ", ".join(f"{what} {text.partition(' (')[0]}" for what, text in reached)
        return "What is the best point of all arrangements?", sentence(f"{train}: {metrics}")

    def table(self) -> Table:
        """The streams of the train."""
        return self.run.stream_table()

    def to_dict(self) -> PlainData:
        """Plain data: the train in words, the point of the region and the outlet of the train."""
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
