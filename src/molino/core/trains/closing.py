"""Running a train: one pass through its units, and the closure of its loops."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from molino.core.checks import require_passed
from molino.core.contents.streams import Stream
from molino.core.errors import Fault, SolveError
from molino.core.runs.run import Run
from molino.core.trains.torn import Torn
from molino.core.trains.train_fields import RECYCLE, TrainFields
from molino.core.trains.train_pass import TrainPass, TrainStreams
from molino.core.trains.train_run import TrainRun
from molino.core.trains.train_step import TrainStep

_ROUNDS = 3
"""Rounds of successive substitution before Newton's method."""
_MOST_STEPS, _MOST_TRIALS = 400, 30
_FARTHEST, _WARMER = 0.1, 0.02
"""The largest change of a torn flow in a step of the start-up of a loop, in units of the torn stream, and of the torn
temperature and pressure, in units of those of the feed."""
_UNSTABLE = 0.5
"""The longest step, as a fraction of the time in which a disturbance grows e-fold: longer steps return to the unstable
state."""
_CLOSED = 1e-12
"""Tolerance of the closure of a loop, in units of the feed."""
_CONVERGES = 0.5
"""A Newton step is accepted if it leaves less than this fraction of the difference."""
_BELOW_ZERO = 1e-9
"""Largest negative torn flow that is rounding, as a fraction of the torn stream."""


def run_train(train: TrainFields) -> TrainRun:
    """Run all units in order; with loops, until they are closed."""
    for vessel in train.vessels:
        vessel.spec.require_known()
    has_loops = bool(train.spec.network.torn)
    run = _Loops(train).closed() if has_loops else run_of(train, TrainPass(train).through_all({}))
    for unit, _ in run.units:
        if isinstance(unit.step, TrainStep):
            unit.step.require_met([run.by_name[name] for name in unit.inlets])
    require_passed(run.checks, train.label)
    return run


def run_of(train: TrainFields, passed: TrainStreams, steps: int = 0) -> TrainRun:
    """The run of a pass."""
    return TrainRun(train, tuple(passed.runs), passed.streams, tuple(passed.units), steps)


def first_torn(train: TrainFields) -> dict[str, Stream]:
    """The torn streams at the start: of a recycle ratio as given, or in the state of the feed; others as one pass with
    empty torn streams gives them."""
    fresh, torn = train.spec.fresh, train.spec.network.torn
    empty = {name: fresh.part(0.0).named(name) for name in torn}
    found = {name: s for name, s in TrainPass(train).through_all(empty).streams.items() if name in torn}
    if train.recycle.si:
        found[RECYCLE] = _first_returned(train, found[RECYCLE].T)
    return found


def _first_returned(train: TrainFields, passed_T: float) -> Stream:
    """The stream of a recycle ratio at the start; at a passed temperature where temperatures are not computed."""
    fresh = train.spec.fresh
    found = replace(fresh, volume=train.recycle.si * train.spec.fed_in_all.volume, name=RECYCLE)
    if not train.spec.follows_T:
        found = replace(found, T=passed_T)
    if train.returned is not None:
        own = {name: getattr(train.feed, name) for name in ("heat_capacity", "density", "model")}
        fed = train.first.with_(feed=replace(train.returned, **own)).spec.fed
        amounts = {s: float(fed.concentrations.get(s, 0.0)) for s in fresh.amounts}
        T = train.returned.T.si if train.returned.T is not None and train.spec.follows_T else found.T
        found = replace(found, amounts=amounts, T=T)
    whole = train.recycle.si * fresh.total / found.total
    return replace(found, amounts={s: n * whole for s, n in found.amounts.items()})


class _Loops:
    """The closure of the loops of a train by Newton's method, from a start-up where it does not converge."""

    def __init__(self, train: TrainFields) -> None:
        self.train, self.torn = train, Torn(train)
        self.first = first_torn(train)

    def around(self, z: np.ndarray) -> tuple[TrainStreams, np.ndarray]:
        """A pass with given torn streams, and their change."""
        passed = TrainPass(self.train).through_all(self.torn.streams(z, self.first))
        return passed, self.torn.values(passed.streams) - z

    def tried(self, z: np.ndarray) -> tuple[TrainStreams, np.ndarray] | None:
        """The same; None if a unit cannot be run with them."""
        try:
            return self.around(z)
        except SolveError:
            return None

    def jacobian(self, z: np.ndarray, passed: TrainStreams) -> np.ndarray:
        """The derivatives of the change by the torn streams."""
        return torn_slopes(self.train, self.torn, z, passed.runs, self.first) - np.eye(len(z))

    def can_return(self, z: np.ndarray, scale: np.ndarray) -> bool:
        """Whether flows, temperatures and pressures of torn streams are physical."""
        is_flow = self.torn.is_flow
        return not (z[is_flow] < -_BELOW_ZERO * scale[is_flow]).any() and bool((z[~is_flow] > 0).all())

    def closed(self) -> TrainRun:
        """The run of the closed train."""
        torn, is_flow = self.torn, self.torn.is_flow
        z = torn.values(self.first)
        passed, off = self.around(z)
        length = 1.0
        for n in range(_MOST_STEPS):
            scale = torn.scale(z)
            if np.max(np.abs(off) / np.maximum(scale, 1.0)) < _CLOSED:
                return run_of(self.train, passed, n)
            if n < _ROUNDS and (tried := self.tried(z + off)) is not None:
                z = z + off
                passed, off = tried
                continue
            by = self.jacobian(z, passed)
            growth = float(np.linalg.eigvals(by).real.max())
            there = z - np.linalg.solve(by, off) if growth < 0 else z
            tried = self.tried(there) if growth < 0 and self.can_return(there, scale) else None
            if tried is not None and np.linalg.norm(tried[1]) < _CONVERGES * np.linalg.norm(off):
                z, (passed, off) = there, tried
                continue
            length = min(length, _UNSTABLE / growth) if growth > 0 else length
            largest = np.where(is_flow, _FARTHEST * scale, _WARMER)
            for _ in range(_MOST_TRIALS):
                step = np.linalg.solve(np.eye(len(z)) / length - by, off)
                share = float(np.max(np.abs(step) / largest))
                there = np.where(is_flow, np.maximum(z + step, 0.0), z + step)
                if share <= 1 and (tried := self.tried(there)) is not None:
                    break
                length *= min(0.5, 0.8 / max(share, 1e-300))
            else:
                break
            z, (passed, off) = there, tried
            length *= float(np.clip(0.8 / max(share, 1e-300), 1.0, 4.0))
        left = float(np.max(np.abs(off) / np.maximum(torn.scale(z), 1.0)))
        if left > 1e-9:
            names = " and ".join(torn.names)
            message = f"the loop does not close: {names} still differs by {left:.2g} of the feed"
            advice = "see steady_states(), or give a smaller ratio; a species that no outlet removes accumulates"
            raise SolveError([Fault(self.train.label, message, advice)])
        return run_of(self.train, passed, n)


def torn_slopes(
    train: TrainFields,
    torn: Torn,
    z: np.ndarray,
    runs: Sequence[Run],
    like: Mapping[str, Stream],
    inputs: Sequence[str] = (),
) -> np.ndarray:
    """Exact derivatives of the computed torn streams by the given ones, and by some conditions, shape (torn, torn +
    inputs); of a pass with known runs."""
    again = TrainPass(train, inputs, torn.count, runs)
    return torn.slopes(again.through_all(torn.seeded(z, like, again.size)).streams, again.size)
