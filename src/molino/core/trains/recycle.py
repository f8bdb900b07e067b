"""Running a train: one pass through its steps, and the closure of its recycle."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from molino.core.annotations import ByName
from molino.core.contents.streams import Stream, as_feed, mixed
from molino.core.errors import Fault, SolveError
from molino.core.frozen import FrozenMapping
from molino.core.runs.run import Run
from molino.core.trains.steps import Exchanger, Parallel, SideFeed
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_run import TrainRun
from molino.core.trains.train_slopes import pass_slopes
from molino.core.vessels.flow_vessel import FlowVessel

_ROUNDS = 3
"""Rounds of successive substitution before Newton's method."""
_MOST_STEPS, _MOST_TRIALS = 400, 30
_FARTHEST, _WARMER = 0.1, 0.02
"""The largest change of a returned flow in a step of the start-up of a loop, in units of the recycle, and of the
returned temperature, in units of the feed temperature."""
_UNSTABLE = 0.5
"""The longest step, as a fraction of the time in which a disturbance grows e-fold: longer steps return to the unstable
state."""
_CLOSED = 1e-12
"""Tolerance of the closure of a recycle, in units of the feed."""
_CONVERGES = 0.5
"""A Newton step is accepted if it leaves less than this fraction of the difference."""
_BELOW_ZERO = 1e-9
"""Largest negative returned flow that is rounding, as a fraction of the recycle."""


def run_train(train: TrainFields) -> TrainRun:
    """Run all steps in order; with a recycle, until the loop is closed."""
    for vessel in train.vessels:
        vessel.spec.require_known()
    fresh = train.spec.fresh
    return closed(train, fresh) if train.recycle.si else run_through(train, fresh, fresh)


def joined(train: TrainFields, fresh: Stream, returned: Stream) -> Stream:
    return mixed(train.first.spec.fluid, [fresh, returned], "mixed feed")


def run_through(
    train: TrainFields, stream: Stream, fresh: Stream, run_of: Callable[[FlowVessel], Run] = lambda vessel: vessel.run()
) -> TrainRun:
    """One pass through all steps; `run_of` runs a vessel with its feed."""
    fluid = train.first.spec.fluid
    runs: list[Run] = []
    streams = [fresh] if stream is fresh else [fresh, stream]
    duties: dict[str, float] = {}
    added = [fresh]
    passed = 0.0
    for step in train.steps:
        if isinstance(step, Exchanger):
            stream, duty = step.passed(train.first, stream)
            duties[_unused(step.label, duties)] = duty
        elif isinstance(step, SideFeed):
            side = step.stream(train.first)
            added.append(side)
            stream = mixed(fluid, [stream, side], "mixed")
            streams.append(side)
        else:
            several = step.vessels if isinstance(step, Parallel) else (step,)
            shares = step.split if isinstance(step, Parallel) else (1.0,)
            outs = []
            for vessel, share in zip(several, shares, strict=True):
                part = {s: n * share for s, n in stream.amounts.items()}
                own = replace(stream, amounts=part, volume=stream.volume * share)
                runs.append(run_of(vessel.with_(feed=as_feed(own, vessel.feed))))
                passed += share * float(np.nan_to_num(runs[-1].residence_time_si))
                outs.append(runs[-1].stream_out())
            stream = outs[0] if len(outs) == 1 else mixed(fluid, outs, "")
        streams.append(stream.named(f"after {step.label}"))
    return TrainRun(train, tuple(runs), tuple(streams), FrozenMapping(duties), tuple(added), passed)


def closed(train: TrainFields, fresh: Stream) -> TrainRun:
    ratio, names = train.recycle.si, train.chemistry.names
    kept = np.nan if train.spec.follows_T else run_through(train, fresh, fresh).last.T

    def around(z: np.ndarray) -> TrainRun:
        return run_through(train, joined(train, fresh, train.spec.returned_stream(z, kept)), fresh)

    z = first_returned(train, fresh)
    run = around(z)
    off, length = returned(train, run) - z, 1.0
    largest = np.array([_FARTHEST * max(ratio, 1e-3)] * len(names) + [_WARMER] * (len(z) - len(names)))
    for n in range(_MOST_STEPS):
        if np.max(np.abs(off)) < _CLOSED * max(1.0, ratio):
            return run
        if n < _ROUNDS:
            z = z + off
            run = around(z)
            off = returned(train, run) - z
            continue
        by = pass_slopes(run.completed_pass(), (), len(z))[1][:, : len(z)] - np.eye(len(z))
        growth = float(np.linalg.eigvals(by).real.max())
        there = z - np.linalg.solve(by, off) if growth < 0 else z
        if growth < 0 and can_return(train, there) and (tried := _tried(around, there)) is not None:
            left = returned(train, tried) - there
            if np.linalg.norm(left) < _CONVERGES * np.linalg.norm(off):
                z, run, off = there, tried, left
                continue
        length = min(length, _UNSTABLE / growth) if growth > 0 else length
        for _ in range(_MOST_TRIALS):
            step = np.linalg.solve(np.eye(len(z)) / length - by, off)
            share = float(np.max(np.abs(step) / largest))
            there = np.append(np.maximum(z + step, 0.0)[: len(names)], (z + step)[len(names) :])
            if share <= 1 and (tried := _tried(around, there)) is not None:
                break
            length *= min(0.5, 0.8 / max(share, 1e-300))
        else:
            break
        z, run, length = there, tried, length * float(np.clip(0.8 / max(share, 1e-300), 1.0, 4.0))
        off = returned(train, run) - z
    left = float(np.max(np.abs(off)))
    if left > 1e-9 * max(1.0, ratio):
        message = f"the recycle does not close: the returned stream still differs by {left:.2g} of the feed"
        raise SolveError([Fault(train.label, message, "see steady_states(), or give a smaller ratio")])
    return run


def can_return(train: TrainFields, z: np.ndarray) -> bool:
    """Whether flows and temperature of a returned stream are physical."""
    count = len(train.chemistry.names)
    return not (z[:count] < -_BELOW_ZERO * train.recycle.si).any() and bool((z[count:] > 0).all())


def first_returned(train: TrainFields, fresh: Stream) -> np.ndarray:
    """The returned stream at the start, in units of the feed."""
    amounts, T = fresh.amounts, fresh.T
    if train.returned is not None:
        own = {name: getattr(train.feed, name) for name in ("heat_capacity", "density", "model")}
        fed = train.first.with_(feed=replace(train.returned, **own)).spec.fed
        amounts = {s: float(c) for s, c in fed.concentrations.items()}
        T = train.returned.T.si if train.returned.T is not None else T
    whole = sum(amounts.values())
    flows = [train.recycle.si * amounts.get(s, 0.0) / whole for s in train.chemistry.names]
    return np.array([*flows, *([T / fresh.T] if train.spec.follows_T else [])])


def returned(train: TrainFields, run: TrainRun) -> np.ndarray:
    """The returned stream, in units of the feed."""
    ratio, out, whole = train.recycle.si, run.last, sum(train.spec.fresh.amounts.values())
    flows = [ratio / (1 + ratio) * out.amounts[s] / whole for s in train.chemistry.names]
    return np.array([*flows, *([out.T / train.spec.fresh.T] if train.spec.follows_T else [])])


def _tried(around: Callable[[np.ndarray], TrainRun], z: np.ndarray) -> TrainRun | None:
    """A pass with a given returned stream; None if a vessel cannot be run with it."""
    try:
        return around(z)
    except SolveError:
        return None


def _unused(label: str, taken: ByName) -> str:
    """A label, numbered if it is used already."""
    count = 2
    found = label
    while found in taken:
        found, count = f"{label} {count}", count + 1
    return found
