"""The network of a train: its units, the streams between them, the order of calculation, and the torn streams."""

from __future__ import annotations

import itertools
from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from molino.core.errors import Faults, nearest
from molino.core.trains.heat_steps import ExchangerSide
from molino.core.trains.steps import From, Step, To
from molino.core.trains.train_step import AFTER
from molino.core.vessels.flow_vessel import FlowVessel

FEED, PRODUCT = "feed", "product"
"""The names of the feed of a train, and of its product if it has a recycle ratio."""
_MOST_TORN = 4
"""The largest number of streams among which the fewest that open all loops are searched."""


@dataclass(frozen=True)
class Unit:
    """A step with the names of its streams.

    Attributes
    ----------
    step : FlowVessel or TrainStep
    inlets, outlets : tuples of str
    first : int
        The place of its first vessel among all.
    """

    step: Step
    inlets: tuple[str, ...]
    outlets: tuple[str, ...]
    first: int

    @property
    def label(self) -> str:
        return self.step.label


@dataclass(frozen=True)
class Network:
    """The units of a train in the order of calculation.

    Attributes
    ----------
    units : tuple of Unit
    torn : tuple of str
        Streams with which the calculation begins, and which it must reproduce.
    products : tuple of str
        Streams that leave the train, the main one first.
    streams : tuple of str
        All, in the order of the steps.
    """

    units: tuple[Unit, ...]
    torn: tuple[str, ...]
    products: tuple[str, ...]
    streams: tuple[str, ...]


def network_of(steps: Sequence[Step], label: str, always: tuple[str, ...] = ()) -> Network:
    """The network of the steps of a train, in which some streams are always torn.

    Raises
    ------
    InputError
        For a stream that is taken and never given, given or taken twice, a line without a beginning, or a feed that
        enters nothing.
    """
    lines = _Lines(label)
    for step in steps:
        lines.add(step)
    units = lines.finished()
    torn, order = _ordered(units, always)
    taken = {s for unit in units for s in unit.inlets}
    products = [s for unit in units for s in unit.outlets if s not in taken]
    ends = [s for s in products if s.startswith(AFTER) or s == PRODUCT]
    main = ends[-1] if ends else products[0]
    ordered = tuple(dict.fromkeys([main, *products]))
    return Network(tuple(units[n] for n in order), torn, ordered, tuple(lines.streams))


class _Lines:
    """Reads the steps of a train in order."""

    def __init__(self, label: str) -> None:
        self.label, self.faults = label, Faults()
        self.current: str | None = FEED
        self.units: list[Unit] = []
        self.sides: dict[int, int] = {}
        self.vessels = 0
        self.streams = {FEED: None}
        self.own: list[str] = []

    def add(self, step: Step) -> None:
        if isinstance(step, From):
            self.current = step.stream
        elif isinstance(step, To):
            self._end(step.stream)
        elif isinstance(step, ExchangerSide):
            self._add_side(step)
        else:
            self._add_unit(step)

    def _end(self, name: str) -> None:
        given = {s for unit in self.units for s in unit.outlets}
        if self.current is None or self.current not in given or not self.current.startswith(AFTER):
            what = "there is no stream" if self.current is None else f"the stream has a name already, {self.current}"
            self.faults.add(f"{self.label}, to {name}", what, "give To after a step that continues the line")
        else:
            new = {self.current: name}
            renamed = (tuple(new.get(s, s) for s in u.outlets) for u in self.units)
            self.units = [Unit(u.step, u.inlets, outs, u.first) for u, outs in zip(self.units, renamed, strict=True)]
            self.streams = {new.get(s, s): None for s in self.streams}
        self.current = None

    def _taken(self, step: Step) -> str:
        if self.current is None:
            self.faults.add(f"{self.label}, {step.label}", "the line has ended before it", "begin another: From('...')")
        return self.current or ""

    def _new(self, wanted: str) -> str:
        """A new stream with a name like the wanted one."""
        name = unused(wanted, self.streams)
        self.streams[name] = None
        return name

    def _add_unit(self, step: Step) -> None:
        takes: tuple[str, ...] = ()
        gives: tuple[str, ...] = ()
        own: tuple[str, ...] = ()
        count = 1
        if not isinstance(step, FlowVessel):
            takes, gives, count = step.takes, step.gives, len(step.vessels_in_it)
            own = (self._new(step.label),) if step.feed_of_own is not None else ()
        self.own += own
        out = self._new(f"{AFTER}{step.label}")
        self.streams |= dict.fromkeys(gives)
        self.units.append(Unit(step, (self._taken(step), *takes, *own), (out, *gives), self.vessels))
        self.vessels += count
        self.current = out

    def _add_side(self, side: ExchangerSide) -> None:
        place = self.sides.setdefault(id(side.exchanger), len(self.units))
        if place == len(self.units):
            self.units.append(Unit(side.exchanger, ("", ""), ("", ""), self.vessels))
        n, unit, out = ("feed", "effluent").index(side.side), self.units[place], self._new(f"{AFTER}{side.label}")
        if unit.inlets[n]:
            self.faults.add(f"{self.label}, {side.label}", "it is in the train twice", "give another exchanger a name")
        ends = [*unit.inlets], [*unit.outlets]
        ends[0][n], ends[1][n] = self._taken(side), out
        self.units[place] = Unit(unit.step, tuple(ends[0]), tuple(ends[1]), unit.first)
        self.current = out

    def finished(self) -> list[Unit]:
        """The units; InputError with all faults."""
        given = [FEED, *self.own, *(s for unit in self.units for s in unit.outlets)]
        taken = [s for unit in self.units for s in unit.inlets]
        for place in self.sides.values():
            unit = self.units[place]
            for side, outlet in zip(("feed", "effluent"), unit.outlets, strict=True):
                if not outlet:
                    self.faults.add(f"{self.label}, {unit.label}", f"its side '{side}' is missing", f"give .{side} too")
        for unit in self.units:
            for s in unit.inlets:
                if s and s not in given:
                    named = [x for x in given if not x.startswith(AFTER)]
                    self.faults.add(f"{self.label}, {unit.label}", f"no step gives the stream '{s}'", nearest(s, named))
        if FEED not in taken:
            self.faults.add(self.label, "its feed enters nothing", "begin the steps with the line of the feed")
        if not self.faults.found and {*given} <= {*taken}:
            advice = "give mo.Purge(...), mo.Separator(...), or a line without To"
            self.faults.add(self.label, "no stream leaves it", advice)
        for s in _repeated(given):
            self.faults.add(f"{self.label}, stream {s}", "two steps give it", "give them different names")
        for s in _repeated(taken):
            if s:
                self.faults.add(f"{self.label}, stream {s}", "two steps take it", "split it: mo.Split(0.5, to='...')")
        self.faults.raise_any()
        return self.units


def _repeated(names: Iterable[str]) -> list[str]:
    counts: dict[str, int] = {}
    for name in names:
        counts[name] = counts.get(name, 0) + 1
    return [name for name, count in counts.items() if count > 1]


def unused(wanted: str, taken: Container[str]) -> str:
    """A name, numbered if it is used already."""
    found, count = wanted, 2
    while found in taken:
        found, count = f"{wanted} {count}", count + 1
    return found


def _ordered(units: Sequence[Unit], always: tuple[str, ...]) -> tuple[tuple[str, ...], list[int]]:
    """The fewest streams that open all loops, besides those always torn, and the order of calculation of the units.

    Candidates are the streams within the strongly connected components that meet another one, so that a unit has a
    flow while a torn stream is empty; those against the order of the steps first.
    """
    giver = {s: n for n, unit in enumerate(units) for s in unit.outlets}
    edges = [(giver[s], n, s) for n, unit in enumerate(units) for s in unit.inlets if s in giver]
    order = _sequence(units, giver, always)
    if order is not None:
        return always, order
    rows, columns = np.array([(a, b) for a, b, _ in edges]).T
    graph = coo_array((np.ones(len(edges)), (rows, columns)), shape=(len(units), len(units)))
    part = connected_components(graph, directed=True, connection="strong")[1]
    inside = [(a, b, s) for a, b, s in edges if part[a] == part[b]]
    meeting = [(a < b, s) for a, b, s in inside if len(units[b].inlets) > 1 and s not in always]
    candidates = [s for _, s in sorted(meeting, key=lambda pair: pair[0])]
    for count in range(1, _MOST_TORN + 1):
        for more in itertools.combinations(candidates, count):
            order = _sequence(units, giver, (*always, *more))
            if order is not None:
                return (*always, *more), order
    torn = tuple(dict.fromkeys((*always, *(s for a, b, s in inside if a >= b))))
    order = _sequence(units, giver, torn)
    assert order is not None
    return torn, order


def _sequence(units: Sequence[Unit], giver: dict[str, int], torn: Iterable[str]) -> list[int] | None:
    """An order in which every unit comes after those that give its inlets, except the torn ones; None if there is
    none."""
    waits = [{giver[s] for s in unit.inlets if s in giver and s not in torn} for unit in units]
    order: list[int] = []
    left = dict.fromkeys(range(len(units)))
    while left:
        ready = next((n for n in left if not waits[n] & left.keys()), None)
        if ready is None:
            return None
        order.append(ready)
        del left[ready]
    return order
