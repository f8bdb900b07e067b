"""The attainable region: the outlets of all steady arrangements of tanks, tubes, by-passes and side feeds on a feed.

The region is convex, since streams can be mixed. It begins with the feed and grows by the outlets of tubes and tanks
that begin at points of its boundary: extreme points, and points on mixing lines where the rate vector points outwards
(D. Glasser, D. Hildebrandt, C. Crowe, Ind. Eng. Chem. Res. 26 (1987) 1803; M. Feinberg, D. Hildebrandt, Chem. Eng. Sci.
52 (1997) 1637), until no point is added. In two dimensions the boundary consists of tubes, tanks and mixing lines; in
more, tubes from mixed points approximate differential side streams.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
import scipy

from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed, require_feed
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.design.attainable_curves import Curve, Curves
from molino.core.design.attainable_region import NEIGHBORS, AttainableRegion
from molino.core.design.best_train import Point
from molino.core.errors import Faults, InputError
from molino.core.parallel import Workers, in_order
from molino.core.units import QuantityLike
from molino.core.vessels.plug_flow import PlugFlow

_MOST_DIMENSIONS = 4
_OUTWARD = 2e-3
"""The sine of the smallest outward angle of a rate vector at which a tube leaves a mixing line."""
_GROWN = 2e-5
"""Relative growth of the region at which the search ends."""
_MOST_ROUNDS = 20
_OUTSIDE = 1e-4
"""Smallest distance of a new point from the region, in units of its size."""
_LONG = 0.02
"""Smallest length of mixing lines that are examined."""
_MOST_STARTS = 24
"""Points of one curve from which vessels are tried."""


@checked
def attainable(
    chemistry: Chemistry,
    feed: Feed,
    *,
    axes: Sequence[str | Metric],
    T: QuantityLike | None = None,
    heat: object = None,
    workers: Workers = None,
    progress: Callable[[int, int], None] | None = None,
) -> AttainableRegion:
    """Find the outlets of all steady arrangements of tanks, tubes, by-passes and side feeds on a feed.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
        A liquid of constant density, or another fluid in which the axes mix linearly.
    axes : two or three metrics
        Conversions, yields, concentrations or flows that mix linearly.
    T : temperature, optional
        Of all vessels; by default that of the feed.
    heat : "adiabatic", optional
        By default isothermal. Adiabatic vessels need a constant heat capacity per volume.
    workers : int, "all", Executor or Client of `distributed`, optional
        A number of processes; by default all cores, if it takes long. The numbers do not depend on the workers.
    progress : callable (rounds, points), optional

    Returns
    -------
    AttainableRegion

    Raises
    ------
    InputError
        With all faults of the question.
    SolveError
        If no reaction starts in the feed.

    Examples
    --------
    >>> reactions = [mo.Reaction("A -> B", k="1 1/min"), mo.Reaction("B -> C", k="1 1/min"),
    ...              mo.Reaction("2 A -> D", rate="k*[A]^2", k="10 L/mol/min")]
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> region = mo.attainable(mo.Chemistry(reactions), feed, axes=("concentration of A", "concentration of B"))
    >>> region.best("concentration of B").description
    'tank, then tube'
    """
    template, metrics = read_region(chemistry, feed, axes, T, heat)
    template.spec.require_known()
    return _Growth(template, metrics, progress).region(chemistry, workers)


def read_region(
    chemistry: Any, feed: Any, axes: Any, T: Any = None, heat: object = None
) -> tuple[PlugFlow, tuple[Metric, ...]]:
    """A tube on the feed, and the axes of a region; InputError with all faults of the question."""
    faults = Faults()
    if not isinstance(chemistry, Chemistry):
        faults.add("attainable", f"{chemistry!r} is not a chemistry", "give mo.Chemistry(...)")
    with faults.at("attainable"):
        require_feed(feed, "attainable")
    if isinstance(axes, str) or not isinstance(axes, Sequence) or len(axes) not in (2, 3):
        faults.add("attainable, axes", f"{axes!r} are not axes", "give two or three metrics")
    if heat not in (None, "isothermal", "adiabatic"):
        faults.add("attainable, heat", f"{heat!r}", "give 'adiabatic', or leave it out")
    faults.raise_any()
    template = PlugFlow(chemistry, feed, T=T, heat=None if heat == "isothermal" else heat, space_time=1.0)
    metrics: list[Metric] = []
    for axis in axes:
        with faults.at(f"attainable, axis {axis}"):
            metrics.append(read_metric(axis))
            template.spec.expression(metrics[-1])
    faults.raise_any()
    return template, tuple(metrics)


class _Growth:
    """The growing region, in independent coordinates."""

    def __init__(
        self, template: PlugFlow, metrics: tuple[Metric, ...], progress: Callable[[int, int], None] | None
    ) -> None:
        self.template, self.metrics, self.progress = template, metrics, progress
        self.curves = Curves(template, metrics)
        self.scale, self.rate = self.curves.scale, self.curves.rate
        self.feed = Point(self.curves.first.copy(), "feed")
        self.branches = itertools.count(1)
        path = self.curves.tube(self.feed.state)[1]
        self._check_mixing(path[-1])
        self.basis, self.sizes = self._basis(path)

    def shown(self, states: np.ndarray) -> np.ndarray:
        """The axes of some states, shape (points, axes)."""
        both = np.atleast_2d(states)
        with np.errstate(all="ignore"):
            rows = self.curves.output(both.T, np.zeros(len(both)))
        return np.array([np.broadcast_to(np.asarray(r, dtype=float), len(both)) for r in rows]).T

    def _check_mixing(self, end: np.ndarray) -> None:
        """Raise InputError if an axis, or the temperature, does not mix linearly."""
        both = np.array([self.feed.state, end, 0.7 * self.feed.state + 0.3 * end])
        shown = self.shown(both)
        for n, metric in enumerate(self.metrics):
            straight = 0.7 * shown[0, n] + 0.3 * shown[1, n]
            if not abs(shown[2, n] - straight) <= 1e-6 * max(abs(shown[:, n]).max(), 1e-300):
                advice = "take conversions, yields or flows; concentrations if the volume is constant"
                raise InputError(f"{metric} does not mix linearly", "attainable", advice)
        if self.template.is_non_isothermal and (
            self.template.spec.mixture_capacity is None
            or self.template.is_gas
            or self.template.pressure_drop is not None
        ):
            message = "temperatures mix linearly only with a constant heat capacity"
            raise InputError(message, "attainable", "give the feed a heat_capacity per volume")

    def _basis(self, path: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Independent directions of the states, shape (states, dimensions), and the size of their span."""
        rng = np.random.default_rng(0)
        mixed = [
            rng.dirichlet(np.ones(4)) @ np.array([path[i] for i in rng.integers(0, len(path), 4)]) for _ in range(40)
        ]
        rates = np.array([self.rate(state) / self.scale for state in [*path[:: len(path) // 40 or 1], *mixed]])
        rates = rates / np.maximum(np.linalg.norm(rates, axis=1, keepdims=True), 1e-300)
        _, singular, right = np.linalg.svd(rates[np.isfinite(rates).all(axis=1)])
        count = int((singular > 1e-7 * singular[0]).sum())
        if count > _MOST_DIMENSIONS:
            message = f"{count} concentrations are independent, which is too many"
            raise InputError(message, "attainable", f"leave out slow reactions; up to {_MOST_DIMENSIONS} are possible")
        basis = right[:count].T
        places = (np.array(path) / self.scale - self.feed.state / self.scale) @ basis
        return basis, np.maximum(np.ptp(places, axis=0), 1e-3 * np.ptp(places, axis=0).max())

    def places(self, points: Sequence[Point]) -> np.ndarray:
        """Points in scaled independent coordinates, shape (points, dimensions)."""
        states = np.array([p.state for p in points])
        return np.asarray(((states - self.feed.state) / self.scale) @ self.basis / self.sizes)

    def region(self, chemistry: Chemistry, workers: Workers) -> AttainableRegion:
        """Grow until no point is added."""
        self.points, self.hull, made = [self.feed], None, 0
        waiting, rounds = [self.feed], 0
        for rounds in range(1, _MOST_ROUNDS + 1):
            before, new = self._size(), []
            for curves in self._from(waiting, workers):
                for curve in curves:
                    made += len(curve)
                    new += self._add(curve)
                if self.progress is not None:
                    self.progress(rounds, made)
            waiting = new or self._on_mixing_lines()
            if not waiting or (rounds > 3 and self._size() - before < _GROWN * self._size()):
                break
        return self._seen(chemistry, self.points, rounds, made)

    def _from(self, waiting: list[Point], workers: Workers) -> Iterator[list[list[Point]]]:
        """The curves from points that are still extreme."""
        begun: deque[Point] = deque()

        def states() -> Iterator[tuple[bool, np.ndarray]]:
            for begin in waiting:
                if not self._is_gone(begin):
                    begun.append(begin)
                    yield begin.kind != "tube", begin.state

        for found in in_order(self.curves.both, states(), workers):
            begin = begun.popleft()
            if not self._is_gone(begin):
                yield [self._points(curve, begin) for curve in found]

    def _points(self, curve: Curve, begin: Point) -> list[Point]:
        """The points of a curve after its begin."""
        (kind, states, volumes), branch = curve, next(self.branches)
        pairs = enumerate(zip(states, volumes.tolist(), strict=True))
        return [Point(s, kind, v, begin, (), branch, n) for n, (s, v) in pairs][1:]

    def _size(self) -> float:
        return 0.0 if self.hull is None else float(self.hull.volume)

    def _is_gone(self, begin: Point) -> bool:
        """Whether a point is no longer an extreme point."""
        return begin.kind not in ("feed", "mixture") and not any(p is begin for p in self.points)

    def _add(self, curve: list[Point]) -> list[Point]:
        """Add the points of a curve if some are outside; return some of those that are extreme now, from which the
        search continues."""
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

    def _extreme(self, points: list[Point]) -> None:
        """Keep the extreme points, the feed among them, and their hull."""
        places = self.places(points)
        if places.shape[1] == 1:
            kept = [0, int(np.argmin(places)), int(np.argmax(places))]
            self.points = [points[i] for i in dict.fromkeys(kept)]
            return
        try:
            hull = scipy.spatial.ConvexHull(places)
        except scipy.spatial.QhullError:  # the points are on a line
            self.points = points
            return
        self.points = [points[i] for i in dict.fromkeys([0, *hull.vertices.tolist()])]
        self.hull = scipy.spatial.ConvexHull(self.places(self.points))

    def _on_mixing_lines(self) -> list[Point]:
        """Points on mixing lines and planes at which the rate vector points outwards."""
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
                    found.append((out, Point(state, "mixture", parts=parts)))
        found.sort(key=lambda pair: -pair[0])
        return [point for _, point in found[: 2 * _MOST_STARTS]]

    def _seen(self, chemistry: Chemistry, points: list[Point], rounds: int, count: int) -> AttainableRegion:
        """The region over its axes."""
        shown = self.shown(np.array([p.state for p in points]))
        size = np.maximum(np.ptp(shown, axis=0), 1e-300)
        try:
            hull = scipy.spatial.ConvexHull(shown / size)
        except scipy.spatial.QhullError as error:
            message = f"{' and '.join(map(str, self.metrics))} are not independent, so that there is no region"
            raise InputError(message, "attainable", "take other axes") from error
        order = hull.vertices.tolist()
        made = tuple(points[i] for i in order)
        pieces: list[str] = []
        if len(self.metrics) == 2:
            for a, b in zip(made, [*made[1:], made[0]], strict=True):
                pieces.append(_between(a, b))
        return AttainableRegion(
            chemistry,
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


def _between(a: Point, b: Point) -> str:
    """The kind of boundary from one vertex to the next: a curve, if they are neighbors on it, or mixing."""
    if a.branch == b.branch and a.branch:
        return a.kind if abs(a.order - b.order) <= NEIGHBORS else "mixing"
    later, earlier = (a, b) if b is a.parent else (b, a)
    return later.kind if later.parent is earlier and later.order <= NEIGHBORS else "mixing"
