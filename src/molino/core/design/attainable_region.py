"""An attainable region: its boundary, and the trains that reach it."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed
from molino.core.contract.metric import Metric
from molino.core.design.best_train import BestTrain, Point
from molino.core.design.optimize.objective import read_expression, read_limit
from molino.core.display import Display
from molino.core.errors import Faults, UnreachableError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame, in_columns, plain_dict
from molino.core.trains.steps import Parallel, SideFeed, Step
from molino.core.trains.train import Train
from molino.core.units import Value
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank

NEIGHBORS = 8
_SMALL = 1e-9
"""The volume of a by-pass as a fraction of the vessel's volume."""


@dataclass(frozen=True, eq=False)
class AttainableRegion(Frozen, Result):
    """The region of possible outlets of a feed, over two or three metrics.

    Attributes
    ----------
    chemistry : Chemistry
    feed : Feed
    metrics : tuple of Metric
        The axes.
    vertices : array, shape (vertices, axes)
        In SI; over two axes in order around the region.
    pieces : tuple of str
        Over two axes the kind of boundary from each vertex to the next: 'tube', 'tank', 'mixing'.
    dimensions : int
        Number of independent concentrations.
    rounds, points : int
        Of the search.
    fed : array, shape (axes,)
        The feed in SI.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> region = mo.attainable(chem, feed, axes=("conversion of A", "yield of B on A"))
    >>> region.contains((0.75, 0.49)), region.contains((0.75, 0.52))
    (True, False)
    """

    chemistry: Chemistry
    feed: Feed
    metrics: tuple[Metric, ...]
    vertices: np.ndarray
    pieces: tuple[str, ...]
    dimensions: int
    rounds: int
    points: int
    fed: np.ndarray
    _made: tuple[Point, ...] = field(repr=False)
    _template: PlugFlow = field(repr=False)

    @property
    def display(self) -> Display:
        """The units of results."""
        return self._template.spec.display

    @cached_property
    def _hull(self) -> scipy.spatial.ConvexHull:
        return scipy.spatial.ConvexHull(self.vertices / self.sizes)

    @cached_property
    def sizes(self) -> np.ndarray:
        return np.asarray(np.maximum(np.ptp(self.vertices, axis=0), 1e-300))

    def distance(self, point: Sequence[float]) -> float:
        """Distance of a point in SI outside the region, relative to the range of each axis; negative inside."""
        scaled = np.asarray(point, dtype=float) / self.sizes
        return float(np.max(self._hull.equations[:, :-1] @ scaled + self._hull.equations[:, -1]))

    def contains(self, point: Sequence[float], tolerance: float = 1e-3) -> bool:
        """Whether a point in SI is inside, within a tolerance relative to the range of each axis.

        Parameters
        ----------
        point : sequence of float
        tolerance : float

        Returns
        -------
        bool
        """
        return self.distance(point) <= tolerance

    @property
    def area(self) -> float:
        """Its area (over three axes its volume) in SI."""
        return float(scipy.spatial.ConvexHull(self.vertices).volume)

    def table(self) -> Table:
        """Its vertices with units in the headings, and the kind of boundary after each (over three axes: of each
        vertex)."""
        columns: PlainData = {}
        for n, metric in enumerate(self.metrics):
            values = self.display.number(self.vertices[:, n], metric.kind)
            columns[self.display.heading(str(metric), metric.kind)] = values
        found = frame(columns)
        found["boundary" if self.pieces else "made by"] = self.pieces or self.kinds
        return found

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kind of each vertex: 'feed', 'tube' or 'tank'."""
        return tuple(point.kind for point in self._made)

    def facts(self) -> dict[str, str]:
        """Extent, boundary and the effort."""
        found = {}
        for n, metric in enumerate(self.metrics):
            ends = self.vertices[:, n].min(), self.vertices[:, n].max()
            low, high = (self.display.text(float(end), metric.kind) for end in ends)
            found[str(metric)] = f"{low} to {high}"
        if self.pieces:
            runs = [kind for kind, _ in itertools.groupby(self.pieces)]
            found["boundary"] = ", ".join(runs[:12])
        found["independent concentrations"] = f"{self.dimensions}"
        found["found in"] = f"{self.rounds} rounds, {self.points} points"
        return found

    def to_dict(self) -> PlainData:
        """Plain data: axes, vertices in SI, boundary."""
        return plain_dict(
            {
                "axes": [str(m) for m in self.metrics],
                "vertices_si": self.vertices.tolist(),
                "boundary": list(self.pieces),
                "dimensions": self.dimensions,
                "rounds": self.rounds,
                "points": self.points,
            }
        )

    def __str__(self) -> str:
        return "\n".join([f"attainable region over {' and '.join(map(str, self.metrics))}", *in_columns(self.facts())])

    def best(self, maximize: str | Metric, subject_to: Sequence[str] = ()) -> BestTrain:
        """The train for the best point of the region.

        Parameters
        ----------
        maximize : str or Metric
            One of the axes, or an expression of them.
        subject_to : sequence of str
            Limits on the axes, like "conversion of A >= 0.9".

        Returns
        -------
        BestTrain

        Raises
        ------
        InputError
            If the objective or a limit is not of the axes.
        UnreachableError
            If no point of the region meets the limits.
        """
        return _best(self, maximize, [subject_to] if isinstance(subject_to, str) else subject_to)


def _best(region: AttainableRegion, maximize: str | Metric, subject_to: Sequence[str]) -> BestTrain:
    faults = Faults()
    template = region._template
    objective: Any = None
    with faults.at("best, maximize"):
        objective = read_expression(maximize, template)
    limits = []
    for text in subject_to:
        with faults.at("best, subject_to"):
            limits.append(read_limit(text, template))
    for expression in [objective, *(limit.expression for limit in limits)]:
        strange = [str(m) for m in expression.metrics if m not in region.metrics] if expression is not None else []
        if strange:
            faults.add("best", f"{', '.join(strange)} is not an axis of the region", "use the axes")
    faults.raise_any()
    column = {m: n for n, m in enumerate(region.metrics)}

    def value(expression: Any, point: np.ndarray) -> float:
        return float(expression.value([point[column[m]] for m in expression.metrics]))

    def met(point: np.ndarray) -> bool:
        return all(
            limit.sign * (value(limit.expression, point) - limit.value) >= -1e-9 * max(abs(limit.value), 1e-12)
            and (limit.way != "=" or abs(value(limit.expression, point) - limit.value) <= 1e-6)
            for limit in limits
        )

    best: tuple[float, np.ndarray, tuple[tuple[float, Point], ...]] | None = None
    hull = scipy.spatial.ConvexHull(region.vertices / region.sizes)
    for facet in hull.simplices:
        for i, j in itertools.combinations(facet.tolist(), 2):
            a, b = region.vertices[i], region.vertices[j]
            for w in _shares(a, b, limits, value):
                point = (1 - w) * a + w * b
                if met(point) and (best is None or value(objective, point) > best[0] + 1e-12 * abs(best[0])):
                    parts = [(1 - w, region._made[i]), (w, region._made[j])]
                    best = value(objective, point), point, tuple((s, p) for s, p in parts if s > 1e-9)
    if best is None:
        texts = " and ".join(limit.text(region.display) for limit in limits)
        certificate = "no point of the attainable region meets them"
        raise UnreachableError(f"no train meets {texts}", "best", "ask for less", certificate=certificate)
    _, point, made = best
    train, description = _train_of(region, made)
    run = train.run()
    reached = np.array([run.metric(m) for m in region.metrics])
    return BestTrain(train, run, point, reached, region.metrics, description)


def _shares(a: np.ndarray, b: np.ndarray, limits: Sequence[Any], value: Callable[..., float]) -> list[float]:
    """Candidates on a mixing line: its ends, and the points where limits are just met."""
    found = [0.0, 1.0]
    for limit in limits:
        ends = value(limit.expression, a) - limit.value, value(limit.expression, b) - limit.value
        if ends[0] * ends[1] < 0:
            found.append(ends[0] / (ends[0] - ends[1]))
    return found


def _chain(point: Point) -> list[Point]:
    """The vessels from the feed to a point."""
    found = []
    while point.kind in ("tube", "tank"):
        if point.volume > 0:
            found.append(point)
        assert point.parent is not None
        point = point.parent
    return [*([point] if point.kind == "mixture" else []), *reversed(found)]


def _train_of(region: AttainableRegion, parts: tuple[tuple[float, Point], ...]) -> tuple[Train, str]:
    """The train that makes a mixture of points, and its steps."""
    if len(parts) == 2 and parts[0][1].branch == parts[1][1].branch and parts[0][1].branch:
        (share, first), (other, second) = parts
        if abs(first.order - second.order) <= NEIGHBORS:  # between two points of one curve
            parts = ((1.0, replace(first, volume=share * first.volume + other * second.volume)),)
    steps, words = _Builder(region).mixture(parts)
    if not steps:
        raise UnreachableError("the best point is the feed itself", "best", "no vessel is needed")
    return Train(steps), ", then ".join(words)


class _Builder:
    """Trains from points."""

    def __init__(self, region: AttainableRegion) -> None:
        self.template = region._template
        self.feed = region.feed

    def vessel(self, point: Point, share: float = 1.0) -> Any:
        """The tank or tube whose outlet is a point, for a fraction of the feed."""
        cls = StirredTank if point.kind == "tank" else PlugFlow
        keep = {"T": self.template.T, "heat": self.template.heat}
        volume = Value(point.volume * share, None)
        return cls(self.template.chemistry, self.feed, volume=volume.si, catalyst=self.template.catalyst, **keep)

    def mixture(self, parts: tuple[tuple[float, Point], ...]) -> tuple[list[Step], list[str]]:
        """Steps that end in a mixture of points."""
        if len(parts) == 1:
            return self.point(parts[0][1])
        if len(parts) > 2:
            return self.point(max(parts, key=lambda p: p[0])[1])
        (share, first), (other, second) = parts
        chains = [_chain(first), _chain(second)]
        if len(chains[0]) > len(chains[1]):
            chains, share, other = chains[::-1], other, share
        shared = 0
        while shared < len(chains[0]) and self._same(chains[0][shared], chains[1][shared]):
            shared += 1
        rests = [chain[shared:] for chain in chains]
        steps, words = self._steps(chains[1][:shared])
        if not rests[0] and len(rests[1]) == 1:
            vessel = self.vessel(rests[1][0], other)
            pipe = PlugFlow(
                self.template.chemistry,
                self.feed,
                volume=rests[1][0].volume * share * _SMALL,
                T=self.template.T,
                heat=self.template.heat,
                catalyst=self.template.catalyst,
            )
            steps.append(Parallel([vessel, pipe], [other, share]))
            return steps, [*words, f"{rests[1][0].kind} with a by-pass of {100 * share:.3g} %"]
        if all(len(rest) == 1 for rest in rests):
            both = [self.vessel(rest[0], s) for rest, s in zip(rests, (share, other), strict=True)]
            steps.append(Parallel(both, [share, other]))
            pairs = zip(rests, (share, other), strict=True)
            kinds = " in parallel with ".join(f"{rest[0].kind} ({100 * s:.3g} %)" for rest, s in pairs)
            return steps, [*words, kinds]
        if shared == 0 and not rests[0]:
            return self._past(rests[1], other, share)
        return self._steps(chains[1] if other >= share else chains[0])

    def _past(self, chain: list[Point], share: float, passed: float) -> tuple[list[Step], list[str]]:
        """Several vessels with a by-pass around all of them."""
        steps, words = self._steps(chain, share)
        flows = self.template.spec.fed.volume
        steps.append(SideFeed(self.feed_with(float(flows) * passed), name="by-pass"))
        return steps, [*words, f"with {100 * passed:.3g} % of the feed in a by-pass around all"]

    def feed_with(self, flow: float) -> Feed:
        """The feed with another flow."""
        return replace(self.feed, flow=flow)

    def point(self, point: Point) -> tuple[list[Step], list[str]]:
        return self._steps(_chain(point))

    def _steps(self, chain: list[Point], share: float = 1.0) -> tuple[list[Step], list[str]]:
        steps: list[Step] = []
        words: list[str] = []
        for point in chain:
            if point.kind == "mixture":
                steps, words = self.mixture(tuple(sorted(point.parts, key=lambda p: -p[0])[:2]))
            else:
                steps.append(self.vessel(point, share))
                words.append(point.kind)
        if share != 1.0 and steps and not isinstance(steps[0], Parallel | SideFeed):
            first: Any = steps[0]
            steps[0] = first.with_(feed=self.feed_with(float(self.template.spec.fed.volume) * share))
        return steps, words

    @staticmethod
    def _same(a: Point, b: Point) -> bool:
        return a is b or (a.kind == b.kind == "tank" and a.parent is b.parent and a.volume == b.volume)
