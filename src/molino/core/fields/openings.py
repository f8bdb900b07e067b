"""The openings and the baffles of a basin."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, dataclass

import numpy as np

from molino.core import units
from molino.core.contents.feed import Feed
from molino.core.errors import Faults, InputError
from molino.core.fields.grid import Grid, lines_through
from molino.core.fields.stream_function import FlowConditions
from molino.core.fields.transport import SIDES
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, option, quantities, quantity, read_fields, several_forms
from molino.core.units import Value

PROFILES = ("uniform", "parabolic")


def _pair(given: object, place: str, zero: bool = True) -> tuple[Value, Value]:
    """Two lengths."""
    if not isinstance(given, list | tuple) or len(given) != 2:
        raise InputError(f"{given!r} is not a pair of lengths", place, "give two, like ('0 m', '0.5 m')")
    return (units.positive(given[0], "length", place, zero=zero), units.positive(given[1], "length", place, zero=zero))


@dataclass(frozen=True, eq=False)
class Inlet(Frozen, Printed):
    """An inlet: an opening in a side of a basin with a feed.

    Parameters
    ----------
    side : "left", "right", "bottom" or "top"
    between : pair of lengths
        From the lower (left) corner of the side.
    feed : Feed
    profile : "uniform" or "parabolic"
        Of the velocity across the opening.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> print(mo.fields.Inlet("left", ("0 m", "0.5 m"), mo.Feed({"A": "1 mol/L"}, flow="1 L/s")))
    inlet on the left side, 0 m to 0.5 m, fed 1 L/s of A 1 mol/L
    """

    side: str = option(MISSING, SIDES)
    between: ReadField = quantities("length", MISSING)
    feed: ReadField = several_forms()
    profile: str = option("uniform", PROFILES)

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "inlet")
        with faults.at():
            settle(self, between=_pair(self.between, "inlet, between"))
        if not isinstance(self.feed, Feed):
            faults.add("inlet", "no feed is given", "give mo.Feed({...}, flow=...)")
        faults.raise_any()

    def __str__(self) -> str:
        low, high = self.between
        return f"inlet on the {self.side} side, {low} to {high}, fed {self.feed}"


@dataclass(frozen=True, eq=False)
class Outlet(Frozen, Printed):
    """An outlet: an opening in a side of a basin.

    Parameters
    ----------
    side : "left", "right", "bottom" or "top"
    between : pair of lengths
        From the lower (left) corner of the side.
    share : number, optional
        Fraction of the total outflow. Without fractions all outlets have the same pressure, which determines the flow.
    profile : "free", "uniform" or "parabolic"
        Of the velocity across the opening; "free" is determined by the flow.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> print(mo.fields.Outlet("right", ("1.5 m", "2 m")))
    outlet on the right side, 1.5 m to 2 m
    """

    side: str = option(MISSING, SIDES)
    between: ReadField = quantities("length", MISSING)
    share: QuantityField = quantity("number", most=1.0)
    profile: str = option("free", ("free", *PROFILES))

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "outlet")
        with faults.at():
            settle(self, between=_pair(self.between, "outlet, between"))
        faults.raise_any()

    def __str__(self) -> str:
        low, high = self.between
        part = f", {self.share} of the flow" if self.share is not None else ""
        return f"outlet on the {self.side} side, {low} to {high}{part}"


@dataclass(frozen=True, eq=False)
class Baffle(Frozen, Printed):
    """A thin wall inside a basin, along one of its sides.

    Parameters
    ----------
    start, end : pair of lengths
        From the lower left corner: (along the length, along the width).

    Raises
    ------
    InputError
        If it is not a straight line parallel to a side.

    Examples
    --------
    >>> print(mo.fields.Baffle(("2 m", "0 m"), ("2 m", "1.5 m")))
    baffle from (2 m, 0 m) to (2 m, 1.5 m)
    """

    start: ReadField = quantities("length", MISSING)
    end: ReadField = quantities("length", MISSING)

    def __post_init__(self) -> None:
        faults = Faults()
        for name in ("start", "end"):
            with faults.at():
                settle(self, **{name: _pair(getattr(self, name), f"baffle, {name}")})
        faults.raise_any()
        (a, b), (c, d) = self.start, self.end
        if (a.si == c.si) == (b.si == d.si):
            raise InputError("it is not a straight line parallel to a side", str(self), "keep one of the two numbers")

    @property
    def is_along_x(self) -> bool:
        """Whether it is parallel to the length."""
        return bool(self.start[1].si == self.end[1].si)

    def __str__(self) -> str:
        (a, b), (c, d) = self.start, self.end
        return f"baffle from ({a}, {b}) to ({c}, {d})"


@dataclass(frozen=True, eq=False)
class Layout:
    """Openings and walls of a rectangle in SI, for a grid and the conditions of a flow.

    Attributes
    ----------
    length, width : float
    inlets : tuple of (Inlet, flow per depth in m^2/s)
    outlets : tuple of Outlet
    baffles : tuple of Baffle
    moving : mapping of side to float
        Velocities of sides that move.
    """

    length: float
    width: float
    inlets: tuple[tuple[Inlet, float], ...]
    outlets: tuple[Outlet, ...]
    baffles: tuple[Baffle, ...]
    moving: Mapping[str, float]

    @property
    def _openings(self) -> list[Inlet | Outlet]:
        return [*(inlet for inlet, _ in self.inlets), *self.outlets]

    def check(self, faults: Faults, label: str) -> None:
        """Add a fault for each opening that is not on its side or overlaps another, and each baffle that is outside."""
        spans: list[tuple[str, float, float, str]] = []
        for one in self._openings:
            low, high = (v.si for v in one.between)
            side = self.length if one.side in ("bottom", "top") else self.width
            if not 0 <= low < high <= side * (1 + 1e-12):
                faults.add(
                    label,
                    f"{one}: it is not on its side of {side:g} m",
                    f"give two increasing numbers from 0 to {side:g} m",
                )
                continue
            for other, a, b, text in spans:
                if other == one.side and low < b and a < high:
                    faults.add(label, f"{one} overlaps {text}", "set them apart")
            spans.append((one.side, low, high, str(one)))
        for baffle in self.baffles:
            x, y = zip(*((v.si for v in end) for end in (baffle.start, baffle.end)), strict=True)
            if max(x) > self.length * (1 + 1e-12) or max(y) > self.width * (1 + 1e-12):
                faults.add(label, f"{baffle} is outside", f"the basin is {self.length:g} m by {self.width:g} m")
        given = [o.share.si for o in self.outlets if o.share is not None]
        if given and len(given) < len(self.outlets) - 1:
            faults.add(label, "some outlets have a share and several have none", "give it to all but one, or to none")
        if given and (sum(given) > 1 + 1e-9 or (len(given) == len(self.outlets) and abs(sum(given) - 1) > 1e-9)):
            faults.add(label, f"the shares of the outlets add up to {sum(given):.6g}", "let them add up to 1")

    def grid(self, cells: tuple[int, int], grading: float) -> Grid:
        """Lines through every end of an opening or baffle."""
        x, y = [0.0, self.length], [0.0, self.width]
        for one in self._openings:
            (x if one.side in ("bottom", "top") else y).extend(v.si for v in one.between)
        for baffle in self.baffles:
            for end in (baffle.start, baffle.end):
                x.append(end[0].si)
                y.append(end[1].si)
        return Grid(lines_through(x, cells[0], grading), lines_through(y, cells[1], grading))

    def conditions(self, grid: Grid, free_slip: bool) -> FlowConditions:
        """The conditions of a flow on a grid; `free_slip` for a potential flow."""
        return _Conditions(self, grid, free_slip).found


class _Conditions:
    """The stream function along the sides, counter-clockwise from the end of an outlet, and on the baffles."""

    def __init__(self, layout: Layout, grid: Grid, free_slip: bool) -> None:
        self.layout, self.grid = layout, grid
        self.shape = (grid.nx + 1, grid.ny + 1)
        self.held, self.groups = np.full(self.shape, np.nan), np.full(self.shape, -1)
        self.slips = {s: np.full(self.shape[0 if s in ("bottom", "top") else 1], free_slip) for s in SIDES}
        self.next_group = 0
        self._sides()
        blocked_x, blocked_y = self._baffles()
        self.found = FlowConditions(self.held, self.groups, blocked_x, blocked_y, self.slips, dict(layout.moving))

    def _perimeter(self) -> list[tuple[int, int, str, float]]:
        """Nodes counter-clockwise from the lower left corner: i, j, the side that begins there, place on that side."""
        nx, ny, (x, y) = self.grid.nx, self.grid.ny, (self.grid.x, self.grid.y)
        found = [(i, 0, "bottom", float(x[i])) for i in range(nx)]
        found += [(nx, j, "right", float(y[j])) for j in range(ny)]
        found += [(i, ny, "top", float(x[i])) for i in range(nx, 0, -1)]
        return found + [(0, j, "left", float(y[j])) for j in range(ny, 0, -1)]

    def _outflows(self) -> list[tuple[str, float, float, float, str]]:
        """Each opening: side, from, to, outflow per depth (nan if free), profile."""
        layout = self.layout
        fed = sum(flow for _, flow in layout.inlets)
        found = [(one.side, *(v.si for v in one.between), -flow, one.profile) for one, flow in layout.inlets]
        given = [o.share.si if o.share is not None else None for o in layout.outlets]
        missing = 1 - sum(g for g in given if g is not None)
        for one, share in zip(layout.outlets, given, strict=True):
            alone = len(layout.outlets) == 1 or any(g is not None for g in given)
            flow = fed * (share if share is not None else missing) if alone else np.nan
            found.append((one.side, *(v.si for v in one.between), flow, one.profile))
        return found

    def _sides(self) -> None:
        nodes, openings = self._perimeter(), self._outflows()
        # an edge goes from a node to the next; the opening that it belongs to, if any
        owner = []
        for n, (_, _, side, at) in enumerate(nodes):
            k, m, _, _ = nodes[(n + 1) % len(nodes)]
            far = float(self.grid.x[k] if side in ("bottom", "top") else self.grid.y[m])
            middle = (at + far) / 2
            owner.append(next((o for o, (s, a, b, _, _) in enumerate(openings) if s == side and a < middle < b), None))
        begin = self._first(owner, openings)
        level, group = 0.0, -1
        n, count = begin, len(nodes)
        while n < begin + count:
            i, j, _, _ = nodes[n % count]
            self.held[i, j], self.groups[i, j] = level, group
            o = owner[n % count]
            if o is None:
                n += 1
                continue
            edges = [n]
            while owner[(edges[-1] + 1) % count] == o and edges[-1] + 1 < begin + count:
                edges.append(edges[-1] + 1)
            level, group = self._across(nodes, edges, openings[o], level, group)
            n = edges[-1] + 1

    def _first(self, owner: list[int | None], openings: list[tuple[str, float, float, float, str]]) -> int:
        """The first node: after an outlet with free flow, if there is one, otherwise after any opening."""
        count = len(owner)
        ends = [n for n in range(count) if owner[n] is not None and owner[(n + 1) % count] != owner[n]]
        free = [n for n in ends if np.isnan(openings[owner[n]][3])]  # type: ignore[index]
        return (free or ends or [count - 1])[0] + 1

    def _across(
        self,
        nodes: list[tuple[int, int, str, float]],
        edges: list[int],
        opening: tuple[str, float, float, float, str],
        level: float,
        group: int,
    ) -> tuple[float, int]:
        """The nodes inside an opening; the level and group after it."""
        side, low, high, flow, profile = opening
        count = len(nodes)
        inside = [nodes[e % count] for e in edges[1:]]
        along = 0 if side in ("bottom", "top") else 1
        if profile == "free":
            for i, j, _, _ in inside:
                self.held[i, j], self.groups[i, j] = np.nan, -1
                self.slips[side][i if along == 0 else j] = True
        else:
            first = nodes[edges[0] % count]
            begins = float((self.grid.x if along == 0 else self.grid.y)[first[0] if along == 0 else first[1]])
            for i, j, _, _ in inside:
                at = float((self.grid.x if along == 0 else self.grid.y)[i if along == 0 else j])
                s = abs(at - begins) / (high - low)
                share = s if profile == "uniform" else s * s * (3 - 2 * s)
                self.held[i, j], self.groups[i, j] = level + flow * share, group
        if np.isnan(flow):
            self.next_group += 1
            return 0.0, self.next_group - 1
        return level + flow, group

    def _baffles(self) -> tuple[np.ndarray, np.ndarray]:
        g = self.grid
        blocked_x, blocked_y = np.zeros((g.nx + 1, g.ny), dtype=bool), np.zeros((g.nx, g.ny + 1), dtype=bool)
        waiting: list[set[tuple[int, int]]] = []
        for baffle in self.layout.baffles:
            i, k = (int(np.argmin(np.abs(g.x - end[0].si))) for end in (baffle.start, baffle.end))
            j, m = (int(np.argmin(np.abs(g.y - end[1].si))) for end in (baffle.start, baffle.end))
            (i, k), (j, m) = sorted((i, k)), sorted((j, m))
            if baffle.is_along_x:
                blocked_y[i:k, j] = True
            else:
                blocked_x[i, j:m] = True
            waiting.append({(a, b) for a in range(i, k + 1) for b in range(j, m + 1)})
        merged: list[set[tuple[int, int]]] = []
        for nodes in waiting:
            touching = [other for other in merged if other & nodes]
            merged = [other for other in merged if not other & nodes] + [nodes.union(*touching)]
        for nodes in merged:
            on_side = [n for n in nodes if n[0] in (0, g.nx) or n[1] in (0, g.ny)]
            levels = {(self.held[n], self.groups[n]) for n in on_side if np.isfinite(self.held[n])}
            if len(levels) > 1 or len(levels) < bool(on_side):
                message = "an inner wall separates an inlet from all outlets, or is in an opening"
                raise InputError(message, "baffles", "leave a path from each inlet to an outlet")
            if levels:
                level, group = levels.pop()
            else:
                level, group = 0.0, self.next_group
                self.next_group += 1
            for n in nodes:
                self.held[n], self.groups[n] = level, group
        return blocked_x, blocked_y
