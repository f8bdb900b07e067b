"""All steady states of a train, along a curve over the sizes of its vessels, and their stability.

The unknowns are the returned stream, which one pass must reproduce, and the states of the tanks, whose rates of change
must be zero. The curve is followed through its folds from vessels so small that nothing reacts. Start-ups from points
on it search for states off the curve.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import overload

import numpy as np

from molino.core.annotations import PlainData
from molino.core.balances.continuation import ArcLength, LogStates, Point
from molino.core.balances.source import NotFinite
from molino.core.display import Display
from molino.core.errors import MolinoError, SolveError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.trains.closing import run_train
from molino.core.trains.loop import Loop, has_states
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_run import TrainRun
from molino.core.vessels.steady_curve import EXHAUSTED

Points = list[tuple[np.ndarray, float]]

_SMALLEST, _LARGEST = math.log(1e-6), math.log(1e3)
"""Logarithms of the range of sizes along the curve, in units of the vessels' own sizes."""
_FARTHEST = 30.0
"""Logarithm of a change of sizes beyond which a Newton step has left the curve."""
_LONGEST, _BEND = 1.0, 0.9
"""The longest step along the curve, in logarithms, and the cosine of the largest bend between two points."""
_MOST_POINTS = 400
_DIFFERENCE = 1e-6
"""Step of the differences that give the Jacobian of the residual; Newton's method corrects their error."""
_SAME = 1e-6
"""Distance in scaled unknowns within which two steady states are the same."""
_ROUNDS = 60
"""Rounds of a start-up."""
_SETTLED = 1e-3
"""The change of a start-up per round below which Newton's method continues."""
_START_UPS = 8
"""Start-ups from places along the curve."""


@dataclass(frozen=True, eq=False)
class TrainSteadyStates(Frozen, Result, Sequence["TrainRun"]):
    """The steady states of a train that were found.

    Attributes
    ----------
    train : TrainFields
    runs : tuple of TrainRun
        Along the curve from the least sizes, then those that start-ups found off it.
    growth : tuple of arrays
        Of each: for a train of tanks the eigenvalues in 1/s of their balances, for a train of tubes the growth factors
        of a disturbance per pass, empty if it has both.
    by_pass : bool
        Whether they are factors of one pass.
    farthest : float
        The largest multiple of its sizes up to which the curves were followed; infinite without a recycle.

    Examples
    --------
    >>> grows = mo.Chemistry(mo.Reaction("A + B -> 2 B", k="1 L/mol/min"))
    >>> tube = mo.PlugFlow(grows, mo.Feed({"A": "1 mol/L", "B": "0.001 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> found = mo.Train([tube], recycle=1).steady_states()
    >>> len(found), found.stable
    (1, (True,))
    """

    train: TrainFields
    runs: tuple[TrainRun, ...]
    growth: tuple[np.ndarray, ...]
    by_pass: bool
    farthest: float

    def __len__(self) -> int:
        return len(self.runs)

    @overload
    def __getitem__(self, n: int) -> TrainRun: ...
    @overload
    def __getitem__(self, n: slice) -> Sequence[TrainRun]: ...

    def __getitem__(self, n: int | slice) -> TrainRun | Sequence[TrainRun]:
        return self.runs[n]

    def __iter__(self) -> Iterator[TrainRun]:
        return iter(self.runs)

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.train.spec.display

    @property
    def stable(self) -> tuple[bool | None, ...]:
        """Whether the train returns to each after a small disturbance; None where tanks and tubes are mixed."""
        return tuple(is_stable(own, self.by_pass) for own in self.growth)

    def table(self) -> Table:
        """One row per steady state: temperature and conversions of the outlet, and stability."""
        rows = []
        for run, stable, own in zip(self.runs, self.stable, self.growth, strict=True):
            row: PlainData = {}
            if np.isfinite(run.last.T):
                row[self.display.heading("T", "temperature")] = self.display.number(run.last.T, "temperature")
            row |= {name: value for name, value in run.summary().items() if name.startswith("conversion")}
            row["stable"] = {True: "yes", False: "no", None: "not determined"}[stable]
            if len(own) and self.by_pass:
                row["a disturbance grows in one pass by"] = float(np.abs(own).max())
            elif len(own):
                per = f" [1/{self.display.unit('time')}]" if self.display.unit("time") else ""
                row[f"largest eigenvalue{per}"] = float(own.real.max()) / float(self.display.number(1.0, "time"))
            rows.append(row)
        return frame(rows)

    def to_dict(self) -> PlainData:
        """Plain data: each steady state with its stability and its run."""
        return {
            "states": [
                {"stable": stable, "growth": [[v.real, v.imag] for v in own.tolist()], **run.to_dict()}
                for run, stable, own in zip(self.runs, self.stable, self.growth, strict=True)
            ]
        }

    def __str__(self) -> str:
        count = f"{len(self)} steady state{'s' if len(self) != 1 else ''}"
        search = f"along sizes up to {self.farthest:.3g} times its own, and from start-ups"
        message = f"{count} ({search if math.isfinite(self.farthest) else 'without recycle'})"
        return f"{message}\n{self.table().to_string(index=False, float_format=lambda x: f'{x:.5g}')}"


class _Search:
    """The steady states of a train at its own sizes.

    Attributes
    ----------
    found : list of arrays
        Their states; see `Loop.states`.
    farthest : float
        The largest multiple of its sizes up to which the curves were followed.
    """

    def __init__(self, train: TrainFields) -> None:
        self.loop = loop = Loop(train)
        first = run_train(loop.at(_SMALLEST))
        loop.begin(first)
        self.found: list[np.ndarray] = []
        self.farthest = math.exp(_LARGEST)
        self.first = loop.states(first)

    def tracer(self, inner: LogStates) -> ArcLength:
        """Follows a curve in some unknowns."""
        scale = self.loop.scale

        def residual(z: np.ndarray) -> np.ndarray:
            if not abs(z[-1]) < _FARTHEST:
                raise NotFinite(OverflowError("the sizes have no finite value"), z, float(z[-1]))
            try:
                found = self.loop.around(inner.states(z[:-1], scale), float(z[-1]))[1]
            except (MolinoError, ArithmeticError) as error:
                raise NotFinite(ArithmeticError(str(error)), z, float(z[-1])) from error
            return np.asarray(found / scale)

        def jacobian(z: np.ndarray) -> np.ndarray:
            here = residual(z)
            steps = _DIFFERENCE * np.eye(len(z))
            return np.column_stack([(residual(z + step) - here) / _DIFFERENCE for step in steps])

        return ArcLength(residual, jacobian, largest=_LONGEST, bend=_BEND, most=_MOST_POINTS)

    def follow(self, states: np.ndarray, s: float, direction: float) -> Points | None:
        """States along the curve with their sizes, until it leaves the range; None if it returns to its beginning.

        Steady states at size 1 are kept.
        """
        scale, inner, points = self.loop.scale, LogStates(self.loop.amounts, states), list[Point]()
        tracer = self.tracer(inner)
        walk = tracer.walk(np.append(inner.unknowns(states, scale), s), _SMALLEST, _LARGEST, direction)
        try:
            for z, along in walk:
                for there in tracer.crossings(points[-1], (z, along), 0.0) if points else ():
                    crossed = inner.states(there[:-1], scale)
                    if not self.add(crossed) and s == 0 and self._is_same(crossed, states):
                        return None
                points.append((z, along))
                if (inner.logarithmic & (z[:-1] < EXHAUSTED)).any():  # a species is washed out there
                    break
        except SolveError:
            self.farthest = min(self.farthest, math.exp(points[-1][0][-1]) if points else 0.0)
        return [(inner.states(z[:-1], scale), float(z[-1])) for z, _ in points]

    def _is_same(self, one: np.ndarray, other: np.ndarray) -> bool:
        return bool(np.max(np.abs(one - other) / self.loop.scale) < _SAME)

    def add(self, states: np.ndarray) -> bool:
        """Keep a steady state; return whether it is a new one."""
        is_new = not any(self._is_same(states, other) for other in self.found)
        if is_new:
            self.found.append(states)
        return is_new

    def start_up(self, states: np.ndarray) -> np.ndarray | None:
        """The steady state to which rounds through the train converge from given states; None if they do not."""
        loop = self.loop
        try:
            for _ in range(_ROUNDS):
                there = loop.states(loop.around(states, 0.0, settles=True)[0])
                change = float(np.max(np.abs(there - states) / loop.scale))
                states = there
                if change < _SETTLED:
                    break
            inner = LogStates(loop.amounts, states)
            pinned = self.tracer(inner).pinned(np.append(inner.unknowns(states, loop.scale), 0.0), 0.0)
            return inner.states(pinned[:-1], loop.scale)
        except (MolinoError, ArithmeticError):
            return None

    def all_states(self) -> list[np.ndarray]:
        """The search for all steady states."""
        points = self.follow(self.first, _SMALLEST, 1.0) or []
        places = np.unique(np.linspace(0, len(points) - 1, _START_UPS).astype(int))
        along = [points[n][0] for n in places]
        for begin in (*along, *self.loop.reacted(self.first)):
            states = self.start_up(begin)
            if states is None or not self.add(states):
                continue
            for direction in (1.0, -1.0):
                if self.follow(states, 0.0, direction) is None:
                    break
        return self.found

    def run(self, states: np.ndarray) -> TrainRun:
        """The run of a steady state."""
        return self.loop.around(states, 0.0)[0]


def growth_of(loop: Loop, states: np.ndarray, s: float) -> np.ndarray:
    """Eigenvalues of its tanks, or factors of a pass; see `TrainSteadyStates`."""
    count = loop.flows
    is_alone = len(loop.tanks) in (0, sum(size is not None for size in loop.sizes))
    is_split = any(len(step.vessels_in_it) > 1 for step in loop.train.spec.other_steps)
    if not is_alone or (not loop.tanks and is_split):
        return np.zeros(0)
    if not loop.tanks:
        return np.asarray(np.linalg.eigvals(loop.torn_slopes(states, s, loop.around(states, s)[0])))
    steps = _DIFFERENCE * np.maximum(np.abs(states), _DIFFERENCE * loop.scale)
    by = np.column_stack(
        [
            (loop.around(states + h * axis, s)[1] - loop.around(states - h * axis, s)[1]) / (2 * h)
            for h, axis in zip(steps, np.eye(len(states)), strict=True)
        ]
    )
    run = loop.around(states, s)[0]
    tanks = [loop.train.vessels[n].spec.volume_si for n in loop.tanks]
    taus = [V / float(run.runs[n].vessel.spec.fed.volume) for n, V in zip(loop.tanks, tanks, strict=True)]
    inner = by[count:, count:] - by[count:, :count] @ np.linalg.solve(by[:count, :count], by[:count, count:])
    return np.asarray(np.linalg.eigvals(inner / np.repeat(taus, loop.lengths)[:, None]))


def is_stable(growth: np.ndarray, by_pass: bool) -> bool | None:
    """Whether a disturbance decays; None where its growth is unknown."""
    if not len(growth):
        return None
    return bool(np.abs(growth).max() < 1 if by_pass else growth.real.max() < 0)


def train_steady_states(train: TrainFields) -> TrainSteadyStates:
    """All steady states of a train that are found; see `Train.steady_states`."""
    if not train.spec.network.torn and not any(has_states(vessel) for vessel in train.vessels):  # no recycle
        return TrainSteadyStates(train, (run_train(train),), (np.zeros(1),), True, math.inf)
    search = _Search(train)
    found = search.all_states()
    return TrainSteadyStates(
        train,
        tuple(search.run(z) for z in found),
        tuple(growth_of(search.loop, z, 0.0) for z in found),
        not search.loop.tanks,
        search.farthest,
    )
