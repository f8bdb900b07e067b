"""The attainable region: what any steady arrangement of tanks, tubes, by-passes and side feeds can make of a feed.

The region is convex, since streams can be mixed. It begins with the feed and grows by what tubes and tanks make of
points that lie at its boundary already: extreme points, and places on mixing lines where the rate points outwards
(D. Glasser, D. Hildebrandt, C. Crowe, Ind. Eng. Chem. Res. 26 (1987) 1803; M. Feinberg, D. Hildebrandt, Chem. Eng. Sci.
52 (1997) 1637), until nothing is added any more. In two dimensions tubes, tanks and mixing lines make all of the
boundary; in more, tubes that start from mixed points stand for differential side streams.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from molino.core.arguments import checked
from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import ArcLength
from molino.core.balances.functions import functions_of
from molino.core.balances.integrate import lsoda, start
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed, require_feed
from molino.core.contract.metrics import Metric, read_metric
from molino.core.design.optimize.objective import read_expression, read_limit
from molino.core.errors import Faults, InputError, SolveError, UnreachableError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame, in_columns, plain_dict
from molino.core.symbols import in_order
from molino.core.trains.steps import Parallel, SideFeed, Step
from molino.core.trains.train import Train
from molino.core.trains.train_run import TrainRun
from molino.core.units import Display, Value
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank

_MOST_DIMENSIONS = 4
_POINTS = 240
"""Points along a tube."""
_DECADES = (-4.0, 5.0)
"""How much of the time in which the feed would be used up at its own rate a tube is followed for, as powers of ten."""
_FULLEST = 0.9995
"""How far tanks are followed: V / (V + that in which the feed would be used up at its own rate)."""
_STEP = 0.02
_OUTWARD = 2e-3
"""The sine of the angle by which a rate must point outwards for a tube to leave a mixing line."""
_GROWN = 2e-5
"""Growth of the region, relative, at which it is done."""
_MOST_ROUNDS = 20
_OUTSIDE = 1e-4
"""How far outside of the region, in units of its size, a point must lie to count."""
_LONG = 0.02
"""Mixing lines are looked at that are longer."""
_NEIGHBORS = 8
_STILL = 1e-9
_MOST_STARTS = 24
"""Points of one curve from which vessels are tried."""
_SMALL = 1e-9
"""The share of a vessel's volume that its by-pass has."""


@dataclass(frozen=True, eq=False)
class _Point:
    """A point of the region and how it is made: 'feed', 'tube', 'tank' or 'mixture' of others."""

    state: np.ndarray
    kind: str
    volume: float = 0.0
    parent: _Point | None = None
    parts: tuple[tuple[float, _Point], ...] = ()
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


@dataclass(frozen=True, eq=False)
class AttainableRegion(Frozen, Result):
    """What can be made of a feed, over two or three chosen metrics.

    Attributes
    ----------
    chemistry : Chemistry
    feed : Feed
    metrics : tuple of Metric
        The axes.
    vertices : array, shape (vertices, axes)
        Of the region in SI; over two axes in order around it.
    pieces : tuple of str
        Over two axes what makes the boundary from each vertex to the next: 'tube', 'tank', 'mixing'.
    dimensions : int
        How many concentrations move independently of each other.
    rounds, points : int
        What it took.
    fed : array, shape (axes,)
        Where the feed lies, in SI.

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
    _made: tuple[_Point, ...] = field(repr=False)
    _template: PlugFlow = field(repr=False)

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self._template.spec.display

    @cached_property
    def _hull(self) -> ConvexHull:
        return ConvexHull(self.vertices / self.sizes)

    @cached_property
    def sizes(self) -> np.ndarray:
        return np.asarray(np.maximum(np.ptp(self.vertices, axis=0), 1e-300))

    def distance(self, point: Sequence[float]) -> float:
        """How far a point in SI lies outside, as a share of the range of each axis; below zero inside."""
        scaled = np.asarray(point, dtype=float) / self.sizes
        return float(np.max(self._hull.equations[:, :-1] @ scaled + self._hull.equations[:, -1]))

    def contains(self, point: Sequence[float], tolerance: float = 1e-3) -> bool:
        """Whether a point in SI lies inside, to a tolerance as a share of the range of each axis.

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
        return float(ConvexHull(self.vertices).volume)

    def table(self) -> Table:
        """Its vertices with units in the headings, and what makes the boundary behind each (over three axes: each)."""
        columns: dict[str, Any] = {}
        for n, metric in enumerate(self.metrics):
            values = self.display.number(self.vertices[:, n], metric.kind)
            columns[self.display.heading(str(metric), metric.kind)] = values
        found = frame(columns)
        found["boundary" if self.pieces else "made by"] = self.pieces or self.kinds
        return found

    @property
    def kinds(self) -> tuple[str, ...]:
        """What makes each vertex: 'feed', 'tube' or 'tank'."""
        return tuple(point.kind for point in self._made)

    def facts(self) -> dict[str, str]:
        """Extent, boundary and what it took."""
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

    def to_dict(self) -> dict[str, Any]:
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
            If something else than the axes is asked for.
        UnreachableError
            If no point of the region meets the limits.
        """
        return _best(self, maximize, [subject_to] if isinstance(subject_to, str) else subject_to)


@checked
def attainable(
    chem: Chemistry,
    feed: Feed,
    *,
    axes: Sequence[str | Metric],
    T: Any = None,
    heat: Any = None,
    progress: Callable[[int, int], None] | None = None,
) -> AttainableRegion:
    """Find what any steady arrangement of tanks, tubes, by-passes and side feeds can make of a feed.

    Parameters
    ----------
    chem : Chemistry
    feed : Feed
        A liquid of constant density, or whatever else in which what the axes show mixes in straight lines.
    axes : two or three metrics
        Conversions, yields, concentrations or flows: what mixes in straight lines.
    T : temperature, optional
        All vessels are kept at; that of the feed, if left out.
    heat : "adiabatic", optional
        Without heat through any wall; isothermal if left out. The heat capacity must be constant, per volume.
    progress : callable (rounds, points), optional

    Returns
    -------
    AttainableRegion

    Raises
    ------
    InputError
        With everything that is wrong with the question.
    SolveError
        If nothing happens in the feed by itself.

    Examples
    --------
    >>> reactions = [mo.Reaction("A -> B", k="1 1/min"), mo.Reaction("B -> C", k="1 1/min"),
    ...              mo.Reaction("2 A -> D", rate="k*[A]^2", k="10 L/mol/min")]
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> region = mo.attainable(mo.Chemistry(reactions), feed, axes=("concentration of A", "concentration of B"))
    >>> region.best("concentration of B").description
    'tank, then tube'
    """
    template, metrics = read_region(chem, feed, axes, T, heat)
    template.spec.require_known()
    return _Growth(template, metrics, progress).region(chem)


def read_region(
    chem: Any, feed: Any, axes: Any, T: Any = None, heat: Any = None
) -> tuple[PlugFlow, tuple[Metric, ...]]:
    """A tube on the feed, and the axes of a region; InputError with everything that is wrong with the question."""
    faults = Faults()
    if not isinstance(chem, Chemistry):
        faults.add("attainable", f"{chem!r} is no chemistry", "give mo.Chemistry(...)")
    with faults.at("attainable"):
        require_feed(feed, "attainable")
    if isinstance(axes, str) or not isinstance(axes, Sequence) or len(axes) not in (2, 3):
        faults.add("attainable, axes", f"{axes!r} are no axes", "give two or three metrics")
    if heat not in (None, "isothermal", "adiabatic"):
        faults.add("attainable, heat", f"{heat!r}", "give 'adiabatic', or leave it out")
    faults.raise_any()
    template = PlugFlow(chem, feed, T=T, heat=None if heat == "isothermal" else heat, space_time=1.0)
    metrics: list[Metric] = []
    for axis in axes:
        with faults.at(f"attainable, axis {axis}"):
            metrics.append(read_metric(axis))
            template.spec.expression(metrics[-1])
    faults.raise_any()
    return template, tuple(metrics)


class _Growth:
    """The region as it grows, in the coordinates that move independently."""

    def __init__(
        self, template: PlugFlow, metrics: tuple[Metric, ...], progress: Callable[[int, int], None] | None
    ) -> None:
        self.template, self.metrics, self.progress = template, metrics, progress
        expressions = tuple(template.spec.expression(m) for m in metrics)
        balances = template.spec.model.balances
        if not balances.is_autonomous:
            raise InputError("its rates depend on the place itself", "attainable", "leave out what moves along a tube")
        asked = frozenset[Any]().union(*(e.free_symbols for e in expressions))
        self.balances = balances.reduced(tuple(in_order(asked)))
        self.case = Case(self.balances, template.spec.case.values)
        self.functions = functions_of(self.case)
        self.output = compiled(self.balances).outputs(expressions)(self.case.values)
        self.jacobian_at = compiled(self.balances).jacobian(self.case.values)
        first, self.scale = start(self.case)
        self.feed = _Point(first.copy(), "feed")
        self.branches = itertools.count(1)
        rate = self.rate(first)
        if not np.abs(rate / self.scale).max() > 1e-14:
            message = "nothing happens in the feed by itself"
            raise SolveError(message, "attainable", "feed some of what the reaction needs to begin")
        self.whole = float(1 / np.abs(rate / self.scale).max())
        """Volume in which the feed would be used up at its own rate."""
        self._check_mixing()
        self.basis, self.sizes = self._basis()

    def rate(self, state: np.ndarray) -> np.ndarray:
        """What is formed per volume."""
        return np.array(self.functions.slopes(state, 0.0), dtype=float)

    def shown(self, states: np.ndarray) -> np.ndarray:
        """The axes of some states, shape (points, axes)."""
        both = np.atleast_2d(states)
        with np.errstate(all="ignore"):
            rows = self.output(both.T, np.zeros(len(both)))
        return np.array([np.broadcast_to(np.asarray(r, dtype=float), len(both)) for r in rows]).T

    def _check_mixing(self) -> None:
        """Raise InputError where an axis does not mix in straight lines, or the temperature does not."""
        end = self._tube(self.feed)[-1].state
        both = np.array([self.feed.state, end, 0.7 * self.feed.state + 0.3 * end])
        shown = self.shown(both)
        for n, metric in enumerate(self.metrics):
            straight = 0.7 * shown[0, n] + 0.3 * shown[1, n]
            if not abs(shown[2, n] - straight) <= 1e-6 * max(abs(shown[:, n]).max(), 1e-300):
                advice = "take conversions, yields or flows; concentrations where the volume does not change"
                raise InputError(f"{metric} does not mix in a straight line", "attainable", advice)
        if self.template.is_non_isothermal and (
            self.template.spec.mixture_capacity is None
            or self.template.is_gas
            or self.template.pressure_drop is not None
        ):
            message = "temperatures mix in straight lines only with a constant heat capacity"
            raise InputError(message, "attainable", "give the feed a heat_capacity per volume")

    def _basis(self) -> tuple[np.ndarray, np.ndarray]:
        """Directions in which states move, shape (states, dimensions), and the size of what they span."""
        path = [p.state for p in self._tube(self.feed)]
        rng = np.random.default_rng(0)
        mixed = [
            rng.dirichlet(np.ones(4)) @ np.array([path[i] for i in rng.integers(0, len(path), 4)]) for _ in range(40)
        ]
        rates = np.array([self.rate(state) / self.scale for state in [*path[:: len(path) // 40 or 1], *mixed]])
        rates = rates / np.maximum(np.linalg.norm(rates, axis=1, keepdims=True), 1e-300)
        _, singular, right = np.linalg.svd(rates[np.isfinite(rates).all(axis=1)])
        count = int((singular > 1e-7 * singular[0]).sum())
        if count > _MOST_DIMENSIONS:
            message = f"{count} concentrations move independently of each other, which is too many"
            raise InputError(
                message, "attainable", f"leave out reactions that matter little; {_MOST_DIMENSIONS} can be"
            )
        basis = right[:count].T
        places = (np.array(path) / self.scale - self.feed.state / self.scale) @ basis
        return basis, np.maximum(np.ptp(places, axis=0), 1e-3 * np.ptp(places, axis=0).max())

    def places(self, points: Sequence[_Point]) -> np.ndarray:
        """Points in independent coordinates of size one, shape (points, dimensions)."""
        states = np.array([p.state for p in points])
        return np.asarray(((states - self.feed.state) / self.scale) @ self.basis / self.sizes)

    def _tube(self, begin: _Point) -> list[_Point]:
        """What a tube makes of a point, evenly spaced along its course."""
        rate = np.abs(self.rate(begin.state) / self.scale).max()
        if not rate * self.whole > _STILL:
            return [begin]
        volumes = np.concatenate([[0.0], self.whole * np.geomspace(10 ** _DECADES[0], 10 ** _DECADES[1], 90)])
        states = self._along(begin.state, volumes)
        if len(states) < 3:
            return [begin]
        steps = np.linalg.norm(np.diff(states / self.scale, axis=0), axis=1)
        length = np.concatenate([[0.0], np.cumsum(steps)])
        if not length[-1] > 1e-9:
            return [begin]
        even = np.interp(np.linspace(0, length[-1], _POINTS), length, volumes[: len(states)])
        fine = np.unique(np.concatenate([even, volumes[: len(states)][::3]]))
        states = self._along(begin.state, fine)
        branch = next(self.branches)
        pairs = enumerate(zip(states, fine, strict=False))
        return [_Point(s, "tube", float(v), begin, (), branch, n) for n, (s, v) in pairs]

    def _along(self, begin: np.ndarray, volumes: np.ndarray) -> np.ndarray:
        """States along a tube as far as they can be followed."""
        rhs, jacobian = self.functions.callbacks()
        try:
            rows, info = lsoda(rhs, jacobian, begin, volumes, 1e-9, 1e-12 * self.scale)
        except NotFinite:
            return begin[None]
        good = np.isfinite(rows).all(axis=1)
        if info["message"] != "Integration successful.":
            good &= np.append(True, info["tcur"] >= volumes[1:])
        count = len(rows) if good.all() else int(np.argmin(good))
        return np.asarray(np.where((rows[:count] < 0) & (rows[:count] > -1e-9 * self.scale), 0.0, rows[:count]))

    def _tank(self, begin: _Point) -> list[_Point]:
        """What tanks of all sizes make of a point, on the curve that begins with it."""
        n, fed, branch = len(begin.state), begin.state / self.scale, next(self.branches)

        def residual(z: np.ndarray) -> np.ndarray:
            return np.asarray(
                (z[:n] - fed) * (1 - z[n]) - z[n] * self.whole * self.rate(z[:n] * self.scale) / self.scale
            )

        def jacobian(z: np.ndarray) -> np.ndarray:
            own = np.array(self.jacobian_at(z[:n] * self.scale, 0.0), dtype=float)
            rows = (1 - z[n]) * np.eye(n) - z[n] * self.whole * own * self.scale[None, :] / self.scale[:, None]
            last = -(z[:n] - fed) - self.whole * self.rate(z[:n] * self.scale) / self.scale
            return np.column_stack([rows, last])

        found = [begin]
        try:
            for z, _ in ArcLength(residual, jacobian, _STEP).walk(np.append(fed, 0.0), -1e-9, _FULLEST):
                if (z[:n] < -1e-9).any() or len(found) > 400:
                    break
                volume = self.whole * float(z[n]) / (1 - float(z[n]))
                found.append(_Point(np.maximum(z[:n], 0.0) * self.scale, "tank", volume, begin, (), branch, len(found)))
        except (SolveError, NotFinite):
            pass
        return found

    def region(self, chem: Chemistry) -> AttainableRegion:
        """Grow until nothing is added."""
        self.points, self.hull, made = [self.feed], None, 0
        waiting, rounds = [self.feed], 0
        for rounds in range(1, _MOST_ROUNDS + 1):
            before, new = self._size(), []
            for begin in waiting:
                if self._is_gone(begin):
                    continue
                for curve in ([] if begin.kind == "tube" else [self._tube(begin)[1:]]) + [self._tank(begin)[1:]]:
                    made += len(curve)
                    new += self._add(curve)
                if self.progress is not None:
                    self.progress(rounds, made)
            waiting = new or self._on_mixing_lines()
            if not waiting or (rounds > 3 and self._size() - before < _GROWN * self._size()):
                break
        return self._seen(chem, self.points, rounds, made)

    def _size(self) -> float:
        return 0.0 if self.hull is None else float(self.hull.volume)

    def _is_gone(self, begin: _Point) -> bool:
        """Whether a point is no extreme point any more."""
        return begin.kind not in ("feed", "mixture") and not any(p is begin for p in self.points)

    def _add(self, curve: list[_Point]) -> list[_Point]:
        """Add the points of a curve if some lie outside; some of those that are extreme now, from which to go on."""
        if not curve:
            return []
        if self.hull is not None:
            places = self.places(curve)
            outside = (places @ self.hull.equations[:, :-1].T + self.hull.equations[:, -1]).max(axis=1)
            if outside.max() < _OUTSIDE:
                return []
        self._extreme([*self.points, *curve])
        own = [p for p in self.points if p.branch == curve[0].branch]
        most = _MOST_STARTS if self.basis.shape[1] == 2 else _MOST_STARTS // 3
        return [own[i] for i in np.unique(np.linspace(0, len(own) - 1, most).astype(int))] if own else []

    def _extreme(self, points: list[_Point]) -> None:
        """Keep the extreme points, the feed among them, and their hull."""
        places = self.places(points)
        if places.shape[1] == 1:
            kept = [0, int(np.argmin(places)), int(np.argmax(places))]
            self.points = [points[i] for i in dict.fromkeys(kept)]
            return
        try:
            hull = ConvexHull(places)
        except QhullError:  # points on a line, so far
            self.points = points
            return
        self.points = [points[i] for i in dict.fromkeys([0, *hull.vertices.tolist()])]
        self.hull = ConvexHull(self.places(self.points))

    def _on_mixing_lines(self) -> list[_Point]:
        """Places on mixing lines and planes at which the rate points outwards."""
        if self.hull is None:
            return []
        found = []
        for facet, equation in zip(self.hull.simplices, self.hull.equations, strict=True):
            corners = [self.points[i] for i in facet]
            places = self.places(corners)
            if np.ptp(places, axis=0).max() < _LONG:
                continue
            count = len(corners)
            weights = [np.full(count, 1 / count)] if count > 2 else [np.array([w, 1 - w]) for w in (0.15, 0.5, 0.85)]
            for weight in weights:
                state = weight @ np.array([c.state for c in corners])
                rate = (self.rate(state) / self.scale) @ self.basis / self.sizes
                out = float(rate @ equation[:-1]) / max(float(np.linalg.norm(rate)), 1e-300)
                if out > _OUTWARD:
                    parts = tuple((float(w), c) for w, c in zip(weight, corners, strict=True))
                    found.append((out, _Point(state, "mixture", parts=parts)))
        found.sort(key=lambda pair: -pair[0])
        return [point for _, point in found[: 2 * _MOST_STARTS]]

    def _seen(self, chem: Chemistry, points: list[_Point], rounds: int, count: int) -> AttainableRegion:
        """The region over its axes."""
        shown = self.shown(np.array([p.state for p in points]))
        size = np.maximum(np.ptp(shown, axis=0), 1e-300)
        try:
            hull = ConvexHull(shown / size)
        except QhullError as error:
            message = f"{' and '.join(map(str, self.metrics))} depend on each other, and span no region"
            raise InputError(message, "attainable", "take other axes") from error
        order = hull.vertices.tolist()
        made = tuple(points[i] for i in order)
        pieces: list[str] = []
        if len(self.metrics) == 2:
            for a, b in zip(made, [*made[1:], made[0]], strict=True):
                pieces.append(_between(a, b))
        return AttainableRegion(
            chem,
            self.template.feed,
            self.metrics,
            shown[order],
            tuple(pieces),
            self.basis.shape[1],
            rounds,
            count,
            self.shown(self.feed.state)[0],
            made,
            self.template,
        )


def _between(a: _Point, b: _Point) -> str:
    """What makes the boundary from one vertex to the next: a curve, where they are neighbors on it, or mixing."""
    if a.branch == b.branch and a.branch:
        return a.kind if abs(a.order - b.order) <= _NEIGHBORS else "mixing"
    later, earlier = (a, b) if b is a.parent else (b, a)
    return later.kind if later.parent is earlier and later.order <= _NEIGHBORS else "mixing"


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
            faults.add("best", f"{', '.join(strange)} is no axis of the region", "ask for what the axes show")
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

    best: tuple[float, np.ndarray, tuple[tuple[float, _Point], ...]] | None = None
    hull = ConvexHull(region.vertices / region.sizes)
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
        certificate = "the attainable region holds no point that meets them"
        raise UnreachableError(f"no train meets {texts}", "best", "ask for less", certificate=certificate)
    _, point, made = best
    train, description = _train_of(region, made)
    run = train.run()
    reached = np.array([run.metric(m) for m in region.metrics])
    return BestTrain(train, run, point, reached, region.metrics, description)


def _shares(a: np.ndarray, b: np.ndarray, limits: Sequence[Any], value: Callable[..., float]) -> list[float]:
    """Where on a mixing line to look: its ends, and where limits are just met."""
    found = [0.0, 1.0]
    for limit in limits:
        ends = value(limit.expression, a) - limit.value, value(limit.expression, b) - limit.value
        if ends[0] * ends[1] < 0:
            found.append(ends[0] / (ends[0] - ends[1]))
    return found


def _chain(point: _Point) -> list[_Point]:
    """The vessels from the feed to a point."""
    found = []
    while point.kind in ("tube", "tank"):
        if point.volume > 0:
            found.append(point)
        assert point.parent is not None
        point = point.parent
    return [*([point] if point.kind == "mixture" else []), *reversed(found)]


def _train_of(region: AttainableRegion, parts: tuple[tuple[float, _Point], ...]) -> tuple[Train, str]:
    """The train that makes a mixture of points, and what it consists of."""
    if len(parts) == 2 and parts[0][1].branch == parts[1][1].branch and parts[0][1].branch:
        (share, first), (other, second) = parts
        if abs(first.order - second.order) <= _NEIGHBORS:  # between two points of one curve
            parts = ((1.0, replace(first, volume=share * first.volume + other * second.volume)),)
    steps, words = _Builder(region).mixture(parts)
    if not steps:
        raise UnreachableError("the best point is the feed itself", "best", "nothing needs to be built")
    return Train(steps), ", then ".join(words)


class _Builder:
    """Trains from points."""

    def __init__(self, region: AttainableRegion) -> None:
        self.template = region._template
        self.feed = region.feed

    def vessel(self, point: _Point, share: float = 1.0) -> Any:
        """The tank or tube that a point is the outlet of, for a share of the feed."""
        cls = StirredTank if point.kind == "tank" else PlugFlow
        keep = {"T": self.template.T, "heat": self.template.heat}
        volume = Value(point.volume * share, None)
        return cls(self.template.chemistry, self.feed, volume=volume.si, catalyst=self.template.catalyst, **keep)

    def mixture(self, parts: tuple[tuple[float, _Point], ...]) -> tuple[list[Step], list[str]]:
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

    def _past(self, chain: list[_Point], share: float, passed: float) -> tuple[list[Step], list[str]]:
        """Several vessels with a by-pass of fresh feed around all of them."""
        steps, words = self._steps(chain, share)
        flows = self.template.spec.fed.volume
        steps.append(SideFeed(self.feed_with(float(flows) * passed), name="by-pass"))
        return steps, [*words, f"with {100 * passed:.3g} % of the feed past all of it"]

    def feed_with(self, flow: float) -> Feed:
        """The feed with another flow."""
        return replace(self.feed, flow=flow)

    def point(self, point: _Point) -> tuple[list[Step], list[str]]:
        return self._steps(_chain(point))

    def _steps(self, chain: list[_Point], share: float = 1.0) -> tuple[list[Step], list[str]]:
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
    def _same(a: _Point, b: _Point) -> bool:
        return a is b or (a.kind == b.kind == "tank" and a.parent is b.parent and a.volume == b.volume)
