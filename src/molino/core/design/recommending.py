"""`recommend`: a comparison of arrangements of vessels, each at its own optimum, for one chemistry, feed and target."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.balances.engines import start
from molino.core.balances.functions import functions_of
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed, require_feed
from molino.core.design.optimize.objective import Limit, MetricExpression, read_expression, read_limit
from molino.core.design.optimize.optimum import Optimum
from molino.core.design.optimizing import optimize
from molino.core.design.recommendation import Arrangement, Recommendation, is_as_good
from molino.core.design.size.sizing import size
from molino.core.errors import Faults, InputError, MolinoError, NotFoundError, SolveError, UnreachableError
from molino.core.frozen import FrozenMapping
from molino.core.parallel import Workers, in_order
from molino.core.statistics import half_width
from molino.core.trains.steps import SideFeed
from molino.core.trains.train import Train
from molino.core.units import Value
from molino.core.vessels.batch import Batch
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank

_SIZES = 1e-3, 1e4
"""Range of sizes of the search, as multiples of the size in which the feed would be consumed at its initial rate, or
smaller if a tube or tank that meets the target is smaller."""
_AS_SMALL = 1.02
_RECYCLE = 0.0, 20.0
_SPLIT = 0.5, 0.99
"""The fraction of the feed to the first of two tubes, or to the tube with a by-pass."""
_STARTS = {"tube": 2, "tank": 2, "tubes with a side feed": 1, "tubes with a cold shot": 1}
"""Number of starts of each search, if not one: more for arrangements with several optima."""
_LEARNED = ("tube", "tank")
"""The arrangements whose sizes begin the searches of the others."""
_EVALUATIONS = 50_000
"""Evaluations of a right-hand side that a search takes, about."""
_CONTAINS: dict[str, dict[str, str]] = {
    "2 tanks in series": {"tank": "tank 1"},
    "3 tanks in series": {"2 tanks in series": "", "tank": "tank 1"},
    "tank, then tube": {"tank": "tank", "tube": "tube"},
    "tube with recycle": {"tube": "tube"},
    "tube with a by-pass": {"tube": "tube"},
    "tubes with a side feed": {"tube": "tube 1"},
    "tubes with a cold shot": {"tube": "tube 1"},
}
"""The arrangements that each contains as a limit, and the vessel of each that corresponds to theirs (the same names, if
empty)."""
_ROUGH = 1e-2
"""Largest residual of the first-order conditions of an optimum that is ranked."""
_NEAR_BOUND = 1.1
"""A volume within this factor of its lower bound vanishes, as does a smaller fraction or ratio."""
_OF_A_BATCH = ("number", "concentration", "temperature", "pressure")
"""Kinds of quantity that a batch has in common with flow vessels."""


@checked
def recommend(
    chemistry: Chemistry,
    feed: Feed,
    *,
    maximize: str | None = None,
    minimize: str | None = None,
    target: str | Sequence[str] = (),
    free: Mapping[str, Sequence[Any]] | None = None,
    heat: object = None,
    show: Mapping[str, str] | None = None,
    workers: Workers = None,
    progress: Callable[[str], None] | None = None,
) -> Recommendation:
    """Compare arrangements of vessels, each at its own best conditions and sizes.

    A batch, one to three tanks in series, a tube, a tube with recycle or by-pass, a tank followed by a tube, and two
    tubes with part of the feed in between (adiabatic: a cold shot); each by `optimize`.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
    maximize, minimize : metric or expression; one of the two
    target : limits, like "conversion of A >= 0.9"
    free : mapping of condition to (low, high), optional
        {"T": ("150 degC", "185 degC")}, of each vessel; of the feed where it is adiabatic.
    heat, show, progress : optional
    workers : int, "all", Executor or Client of `distributed`, optional
        A number of processes; by default all cores, if it takes long. The numbers do not depend on the workers.

    Returns
    -------
    Recommendation

    Raises
    ------
    NotFoundError
        If no arrangement that meets the target is found.

    Examples
    --------
    >>> feed = mo.Feed({"A": "1 mol/L", "B": "0.01 mol/L"}, flow="1 L/min")
    >>> chem = mo.Chemistry(mo.Reaction("A + B -> 2 B", k="0.5 L/mol/min"))
    >>> mo.recommend(chem, feed, minimize="volume", target="conversion of A >= 0.6").best.name
    'tank, then tube'
    """
    limits: tuple[str, ...] = (target,) if isinstance(target, str) else tuple(target)
    objective = check_recommendation(chemistry, feed, maximize, minimize, limits, free or {}, heat)
    own_heat = None if heat == "isothermal" else heat
    arrangements = _Arrangements(chemistry, feed, FrozenMapping(free or {}), own_heat, show or {}, limits)
    question = _Task(maximize, minimize, limits)
    makers = arrangements.makers()
    if any(m.kind not in _OF_A_BATCH for m in objective.metrics):
        del makers["batch"]
    found = _each_at_its_best(arrangements, question, makers, workers, progress)
    if "batch" not in makers:
        found.append(Arrangement("batch", None, f"{objective} is not defined for a batch"))
    is_highest = maximize is not None
    return Recommendation(_ranked(found, is_highest), str(maximize or minimize), limits, is_highest)


def _each_at_its_best(
    arrangements: _Arrangements,
    question: _Task,
    makers: Mapping[str, Maker],
    workers: Workers,
    progress: Callable[[str], None] | None,
) -> list[Arrangement]:
    """Each arrangement at its best, the ones from whose sizes the others begin first."""
    found: list[Arrangement] = []
    for names in ([n for n in makers if n in _LEARNED], [n for n in makers if n not in _LEARNED]):
        last_first, best = names[::-1], dict[str, Arrangement]()  # the last ones take the longest
        work = partial(_best_of, arrangements, question, tuple(found))
        each = in_order(work, last_first, workers, evaluations=_EVALUATIONS * len(names))
        for name, one in zip(last_first, each, strict=True):
            best[name] = one
            if progress is not None:
                progress(name)
        before = tuple(found)
        for name in names:
            one = best[name]
            if not _is_last(name, before):
                one = _nested(one, found, arrangements, makers[name], question)
            found.append(arrangements.with_ends(one))
        for one in found:
            arrangements.learn(one)
    return found


def _ranked(found: list[Arrangement], is_highest: bool) -> tuple[Arrangement, ...]:
    """The best first; of equally good ones the smallest and simplest first; those without an optimum last."""
    able = [a for a in found if a.optimum is not None]
    if not able:
        reasons = "; ".join(f"{a.name}: {a.reason}" for a in found)
        raise NotFoundError(f"no arrangement was found that meets the target ({reasons})", "recommend", "ask for less")
    sign = -1.0 if is_highest else 1.0
    able.sort(key=lambda a: sign * a.optimum.value)  # type: ignore[union-attr]
    first = able[0].optimum
    assert first is not None
    alike = [a for a in able if is_as_good(first.value, a.optimum.value)]  # type: ignore[union-attr]
    least = min((a.volume for a in alike if np.isfinite(a.volume)), default=np.nan)

    def cost(a: Arrangement) -> tuple[bool, float, int]:  # similar volumes count as equal: the simpler is first
        return np.isnan(a.volume), 0.0 if a.volume <= _AS_SMALL * least else a.volume, a.parts

    alike.sort(key=cost)
    rest = [a for a in able if a not in alike]
    return (*alike, *rest, *(a for a in found if a.optimum is None))


def check_recommendation(
    chemistry: Any, feed: Any, maximize: object, minimize: object, limits: Sequence[str], free: ByName, heat: object
) -> MetricExpression:
    """The objective; InputError with all faults of the question."""
    faults = Faults()
    if not isinstance(chemistry, Chemistry):
        faults.add("recommend", f"{chemistry!r} is not a chemistry", "give mo.Chemistry(...)")
    with faults.at("recommend"):
        require_feed(feed, "recommend")
    if (maximize is None) == (minimize is None):
        faults.add("recommend", "no objective is given", "give either maximize or minimize")
    if heat not in (None, "isothermal", "adiabatic"):
        faults.add("recommend, heat", f"{heat!r}", "give 'adiabatic', or leave it out")
    faults.raise_any()
    own_heat = None if heat == "isothermal" else heat
    at = {"T": _middle(free["T"])} if _own_T(free, own_heat) else {}
    tube = PlugFlow(chemistry, feed, space_time=1.0, heat=own_heat, **at)
    objective: Any = None
    with faults.at("recommend"):
        objective = read_expression(maximize if maximize is not None else minimize, tube)
    for text in limits:
        with faults.at("recommend, target"):
            read_limit(text, tube)
    for name, ends in free.items():
        with faults.at(f"recommend, free {name}"):
            if isinstance(ends, str) or not isinstance(ends, Sequence) or len(ends) != 2:
                raise InputError(f"{ends!r} are not bounds", "", "give (low, high)")
            low, high = (tube.spec.condition(name).read(end)[0] for end in ends)
            if not low < high:
                raise InputError(f"{ends[0]} is not below {ends[1]}", "", "give (low, high)")
    faults.raise_any()
    return objective  # type: ignore[no-any-return]


Made = tuple[Any, PlainData]
"""A vessel or train, and its free numbers."""
Maker = Callable[[], Made]


class _Arrangements:
    """The makers of each arrangement: the vessel or train, and its free conditions.

    Each search begins at sizes that follow from those of tube and tank.
    """

    def __init__(
        self,
        chemistry: Chemistry,
        feed: Feed,
        free: ByName,
        heat: object,
        show: Mapping[str, str],
        limits: Sequence[str] = (),
    ) -> None:
        is_prescribed = _own_T(free, heat) and not feed.is_gas
        self.chemistry, self.free, self.heat = chemistry, free, heat
        self.feed = replace(feed, T=None) if is_prescribed else feed  # it is heated to the temperature of its vessel
        self.show = show
        self.own = {"T": free["T"]} if _own_T(free, heat) else {}
        self.at = {"T": _middle(free["T"])} if self.own else {}
        self.of_feed = {n: ends for n, ends in free.items() if n != "T" or heat == "adiabatic"}
        base = PlugFlow(chemistry, feed, space_time=1.0, heat=heat, show=show, **self.at)
        base.spec.require_known()
        self.flow, unit, self.display = float(base.spec.fed.volume), _scale(base), base.spec.display
        self.bounds = _SIZES[0] * unit, _SIZES[1] * unit
        self.sizes: dict[Any, float] = {PlugFlow: unit, StirredTank: unit}
        self.begins: dict[Any, ByName] = {PlugFlow: {}, StirredTank: self.ignited}
        if len(limits) == 1:
            self._size(read_limit(limits[0], base))

    def _size(self, limit: Limit) -> None:
        """Begin tube and tank with the smallest sizes that meet a limit on one metric, the tank in that steady
        state."""
        if limit.is_everywhere or len(limit.expression.metrics) != 1:
            return
        for cls in (PlugFlow, StirredTank):
            try:
                sized = size(self.vessel(cls), limit.expression.metrics[0], limit.value)
            except MolinoError:
                continue
            self.bounds = min(self.bounds[0], _SIZES[0] * sized.value), self.bounds[1]
            self.sizes[cls] = sized.value
            if cls is StirredTank and self.heat == "adiabatic" and sized.is_stable:
                self.begins[cls] = _state(sized.run)

    def learn(self, found: Arrangement) -> None:
        """Take over the size of a tube or a tank, if there is one."""
        kinds: PlainData = {"tube": PlugFlow, "tank": StirredTank}
        if found.optimum is not None and found.name in kinds:
            self.sizes[kinds[found.name]] = found.volume
            self.at |= {n.name: Value(n.value) for n in found.optimum.free if n.name == "T" and found.name == "tube"}

    def with_ends(self, one: Arrangement) -> Arrangement:
        """An arrangement with the conditions that are at an end of a chosen range, except the user's ranges and parts
        that vanish."""
        ends = {}
        for n in one.optimum.free if one.optimum is not None else ():
            what = n.name.rpartition(".")[2]
            if what in ("volume", "time") and what not in self.free:
                if n.value >= n.high / _NEAR_BOUND:
                    ends[n.name] = "largest"
                elif n.value <= n.low * _NEAR_BOUND:
                    ends[n.name] = "smallest"
            elif n.name == "recycle" and n.value >= n.high / _NEAR_BOUND:
                ends[n.name] = "largest"
        return replace(one, at_end=FrozenMapping(ends))

    def inside(self, name: str, inner: Arrangement) -> PlainData:
        """The conditions with which an arrangement equals one that it contains, except for vessels of almost no
        volume."""
        assert inner.optimum is not None
        owner = _CONTAINS[name][inner.name]
        values = {n.name: n.value for n in inner.optimum.free}
        _, free = self.makers()[name]()
        found: PlainData = {}
        for one in free:
            vessel, _, what = one.rpartition(".")
            if what == "volume":
                own = values.get(one) if not owner else values.get("volume") if vessel == owner else None
                found[one] = self.bounds[0] * 1.01 if own is None else own
            elif what == "share":
                found[one] = (1 - _SPLIT[1]) * 1.01
            elif one == "recycle":
                found[one] = _RECYCLE[0]
            else:
                source = next((n for n in (one, what, "T" if what == "feed T" else what) if n in values), None)
                source = source or next((n for n in values if n.endswith(f".{what}")), None)
                if source is not None:
                    found[one] = Value(values[source])
        return found

    def is_degenerate(self, found: Optimum) -> bool:
        """Whether a part of it has almost no volume, or its recycle, by-pass or side feed is almost zero."""
        values = {n.name: n.value for n in found.free}
        return any(
            (n.endswith(".volume") and v <= _NEAR_BOUND * self.bounds[0])
            or (n.endswith(".share") and v <= _NEAR_BOUND * (1 - _SPLIT[1]))
            or (n == "recycle" and v <= _NEAR_BOUND - 1)
            for n, v in values.items()
        )

    @cached_property
    def ignited(self) -> PlainData:
        """The contents and the temperature of a tank at t = 0 that lead to its hot steady state, if any."""
        if self.heat != "adiabatic":
            return {}
        try:
            large = StirredTank(
                self.chemistry, self.feed, volume=self.bounds[1], heat=self.heat, show=self.show
            ).steady()
            hot = _state(large)
            StirredTank(self.chemistry, self.feed, volume=self.bounds[1], heat=self.heat, **hot)
        except MolinoError:
            return {}
        return hot if hot["T"].si > self.feed.T.si else {}

    @property
    def returned(self) -> Feed | None:
        """The returned stream that leads a loop to its hot steady state, if any: the contents of a hot tank."""
        hot = self.ignited
        return replace(self.feed, contents=hot["contents"], T=hot["T"]) if hot and not self.feed.is_gas else None

    @property
    def common(self) -> PlainData:
        """The common fields of all vessels."""
        return {"heat": self.heat, "show": self.show, **(self.at if self.own else {})}

    def vessel(self, cls: Any, name: str = "", share: float = 1.0) -> Any:
        volume = float(np.clip(self.sizes[cls] * share, 1.01 * self.bounds[0], 0.99 * self.bounds[1]))
        return cls(self.chemistry, self.feed, volume=volume, name=name, **self.common, **self.begins[cls])

    def tube(self) -> Made:
        return self.vessel(PlugFlow), {"volume": self.bounds, **self.own, **self.of_feed}

    def tank(self) -> Made:
        return self.vessel(StirredTank), {"volume": self.bounds, **self.own, **self.of_feed}

    def batch(self) -> Made:
        unit = self.display.unit("time")
        ends = (b / self.flow for b in self.bounds)
        free = {"time": tuple(Value(t, unit) if unit else t for t in ends), **self.own}
        free |= {n: ends for n, ends in self.of_feed.items() if n == "T"}
        time = self.sizes[PlugFlow] / self.flow
        return Batch(self.chemistry, self.feed, time=time, **self.common), free

    def series(self, parts: Sequence[tuple[str, Any, float]], recycle: float = 0.0) -> Maker:
        """Vessels in series: name, class and the initial size as a fraction of that of a single one."""

        def make() -> Made:
            vessels = [self.vessel(cls, name, share) for name, cls, share in parts]
            free = self._of_parts([name for name, _, _ in parts]) | self._of_whole_feed("feed T")
            returned = self.returned if recycle else None
            return Train(vessels, recycle=recycle, returned=returned), free | ({"recycle": _RECYCLE} if recycle else {})

        return make

    def by_pass(self) -> Made:
        """A tube with a by-pass."""
        tube, past = self.vessel(PlugFlow, "tube"), 2 * (1 - _SPLIT[1])
        free = self._of_parts(["tube"]) | self._of_whole_feed("feed T")
        steps = [tube.with_(feed=self.part(1 - past)), SideFeed(self.part(past), name="by-pass")]
        return Train(steps), free | {"by-pass.share": (1 - _SPLIT[1], 1 - _SPLIT[0])}

    def part(self, share: float) -> Feed:
        """A fraction of the feed."""
        flow = Value(share * self.flow, self.display.unit("volumetric flow") or None)
        return replace(self.feed, flow=flow)

    def side(self) -> Made:
        """Two tubes with part of the feed in between; adiabatic, at its own temperature: a cold shot."""
        half = self.part(0.5)
        first, second = (self.vessel(PlugFlow, f"tube {n}", 0.6) for n in (1, 2))
        steps = [first.with_(feed=half), SideFeed(half, name="side feed"), second]
        free = self._of_parts(["tube 1", "tube 2"]) | {"side feed.share": (1 - _SPLIT[1], _SPLIT[1])}
        if "T" in self.of_feed:
            free |= {"feed T": self.of_feed["T"], "side feed.T": self.of_feed["T"]}
        return Train(steps), free

    def _of_parts(self, names: Sequence[str]) -> PlainData:
        """The free conditions of each vessel of a train."""
        free: PlainData = {f"{name}.volume": self.bounds for name in names}
        return free | {f"{name}.T": ends for name in names for ends in self.own.values()}

    def _of_whole_feed(self, T: str) -> PlainData:
        """The free conditions of the feed; its temperature by the name of the vessel or train."""
        return {(T if name == "T" else name): ends for name, ends in self.of_feed.items()}

    def makers(self) -> dict[str, Maker]:
        tank, tube = StirredTank, PlugFlow
        side = "tubes with a cold shot" if self.heat == "adiabatic" else "tubes with a side feed"
        return {
            "tube": self.tube,
            "tank": self.tank,
            "batch": self.batch,
            "2 tanks in series": self.series([("tank 1", tank, 0.5), ("tank 2", tank, 0.3)]),
            "3 tanks in series": self.series([("tank 1", tank, 0.4), ("tank 2", tank, 0.2), ("tank 3", tank, 0.2)]),
            "tank, then tube": self.series([("tank", tank, 0.5), ("tube", tube, 0.3)]),
            "tube with recycle": self.series([("tube", tube, 1.0)], recycle=0.5),
            "tube with a by-pass": self.by_pass,
            side: self.side,
        }


def _own_T(free: ByName, heat: object) -> bool:
    """Whether the temperature of each vessel is free."""
    return "T" in free and heat is None


def _middle(ends: object) -> Any:
    """The temperature between two bounds at which each search begins."""
    if isinstance(ends, str) or not isinstance(ends, Sequence) or len(ends) != 2:
        raise InputError(f"{ends!r} are not bounds", "recommend, free T", "give (low, high)")
    low, high = (units.positive(end, "temperature", "T") for end in ends)
    return replace(low, si=(low.si + high.si) / 2)


def _state(run: Any) -> PlainData:
    """Contents and temperature at the end of a run, as initial contents of a tank."""
    contents = {s: Value(max(float(c[-1]), 0.0), "mol/m^3") for s, c in run.concentrations.items()}
    return {"contents": contents, "T": Value(float(run.temperatures[-1]))}


def _scale(tube: PlugFlow) -> float:
    """The volume in m^3 in which the feed would be consumed at its initial rate."""
    case = tube.spec.case
    first, scale = start(case)
    rate = np.abs(np.array(functions_of(case).slopes(first, 0.0)) / scale).max()
    if not rate > 0:
        raise SolveError(
            "no reaction starts in the feed", "recommend", "feed the species that the reaction needs to begin"
        )
    return float(1 / rate)


@dataclass(frozen=True)
class _Task:
    """The question for each arrangement."""

    maximize: str | None
    minimize: str | None
    limits: tuple[str, ...]

    def is_better(self, first: Optimum, second: Optimum) -> bool:
        """Whether the first objective is significantly better than the second."""
        if is_as_good(first.value, second.value):
            return False
        return (first.value > second.value) == (self.maximize is not None)


def _best_of(arrangements: _Arrangements, task: _Task, before: Sequence[Arrangement], name: str) -> Arrangement:
    """An arrangement at its best, after comparison with those that it contains if all of them are known."""
    make = arrangements.makers()[name]
    one = _at_its_best(name, make, task, _STARTS.get(name, 1))
    return _nested(one, before, arrangements, make, task) if _is_last(name, before) else one


def _is_last(name: str, before: Sequence[Arrangement]) -> bool:
    """Whether all arrangements that this one contains are known."""
    return _CONTAINS.get(name, {}).keys() <= {one.name for one in before}


def _at_its_best(name: str, make: Maker, task: _Task, n_starts: int, begin: ByName | None = None) -> Arrangement:
    """One arrangement by `optimize`, optionally from given numbers; with the reason if it cannot meet the target."""
    try:
        vessel, free = make()
        vessel = vessel.with_(begin) if begin else vessel
        found = optimize(
            vessel, maximize=task.maximize, minimize=task.minimize, free=free, subject_to=task.limits, n_starts=n_starts
        )
    except (NotFoundError, UnreachableError, SolveError, InputError) as error:
        return Arrangement(name, None, error.faults[0].what if error.faults else str(error))
    if not found.first_order <= _ROUGH:
        message = f"its search ended where the first-order conditions hold to {found.first_order:.1e} only"
        return Arrangement(name, None, message)
    return Arrangement(name, found, "", _half_width(found))


def _nested(
    one: Arrangement, found: Sequence[Arrangement], arrangements: _Arrangements, make: Maker, task: _Task
) -> Arrangement:
    """An arrangement that is at least as good as those it contains: searched again from the best of them if it is not.

    If it is not better than an arrangement that it contains, it is left out.
    """
    contained = [a for a in found if a.name in _CONTAINS.get(one.name, {}) and a.optimum is not None]
    if not contained:
        return one
    inner = contained[0]
    for other in contained[1:]:
        if task.is_better(other.optimum, inner.optimum):  # type: ignore[arg-type]
            inner = other
    assert inner.optimum is not None
    if one.optimum is None or task.is_better(inner.optimum, one.optimum):
        again = _at_its_best(one.name, make, task, 1, arrangements.inside(one.name, inner))
        if again.optimum is not None and (one.optimum is None or task.is_better(again.optimum, one.optimum)):
            one = again
    if one.optimum is None or task.is_better(inner.optimum, one.optimum):
        return Arrangement(one.name, None, f"no better than the {inner.name} that it contains")
    if arrangements.is_degenerate(one.optimum) and not task.is_better(one.optimum, inner.optimum):
        return Arrangement(one.name, None, f"best as the {inner.name} alone")
    return one


def _half_width(found: Optimum) -> float | None:
    """Half of the 95 % interval of the objective, in the unit of results; None without a fit."""
    first = found.vessel.vessels[0]
    covariance = first.chemistry.covariance
    if covariance is None:
        return None
    try:
        slopes = found.slopes_by_constants(covariance.names)
    except MolinoError:
        return None
    error = float(np.sqrt(max(slopes @ covariance.matrix @ slopes, 0.0)))
    size = found.objective.shown(found.display, found.value + error) - found.objective.shown(found.display, found.value)
    return half_width(abs(size), covariance.degrees_of_freedom)
