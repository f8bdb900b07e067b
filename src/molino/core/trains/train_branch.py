"""Steady states of a train as one condition varies."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import ClassVar

import numpy as np

from molino.core.balances.continuation import ArcLength, LogStates
from molino.core.balances.source import NotFinite
from molino.core.errors import MolinoError
from molino.core.trains.closing import run_train
from molino.core.trains.loop import Loop
from molino.core.trains.steady_states import growth_of, is_stable
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_run import TrainRun
from molino.core.units import QuantityLike
from molino.core.vessels.branch import FINE, Branch, Course, folds_of, read_range

_DIFFERENCE = 1e-6
_LONGEST, _BEND = 0.5, 0.99


@dataclass(frozen=True, eq=False)
class TrainBranch(Branch):
    """The steady states of a train along a curve, as one condition varies.

    Attributes
    ----------
    vessel : Train
    condition, kind, values, states, temperatures, stable, folds
        As of `Branch`; the temperatures are the highest at the outlets of its vessels.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> branch = mo.Train([tube], recycle=1).branch({"flow": ("1 L/min", "2 L/min")})
    >>> len(branch.folds), bool(branch.stable.all())
    (0, True)
    """

    temperature_name: ClassVar[str] = "highest temperature"
    vessel: TrainFields

    @cached_property
    def runs(self) -> tuple[TrainRun, ...]:
        """Each point as the run of a steady state."""
        loop = Loop(self.vessel, lambda value: _with(self.vessel, self.condition, value))
        loop.begin(run_train(loop.at(float(self.values[0]))))
        return tuple(loop.around(y, float(v))[0] for y, v in zip(self.states, self.values, strict=True))


def _with(train: TrainFields, name: str, value: float) -> TrainFields:
    """The train with another number of a condition, in SI."""
    return train.with_({name: train.spec.condition(name).give(value)})


def train_branch(train: TrainFields, free: Mapping[str, Sequence[QuantityLike]]) -> TrainBranch:
    """The curve of steady states as a condition varies; see `Train.branch`."""
    for vessel in train.vessels:
        vessel.spec.require_known()
    name, low, high = read_range(train, free)
    course = Course(low, high)
    loop = Loop(train, lambda p: _with(train, name, course.value(p / FINE)))
    first = run_train(loop.at(0.0))
    loop.begin(first)
    begin, scale = loop.states(first), loop.scale
    inner = LogStates(loop.amounts, begin)

    @lru_cache(maxsize=8)
    def passed(key: bytes) -> tuple[TrainRun, np.ndarray]:
        z = np.frombuffer(key)
        try:
            return loop.around(inner.states(z[:-1], scale), float(z[-1]))
        except (MolinoError, ArithmeticError) as error:
            raise NotFinite(ArithmeticError(str(error)), z, float(z[-1])) from error

    def residual(z: np.ndarray) -> np.ndarray:
        return np.asarray(passed(z.tobytes())[1] / scale)

    def jacobian(z: np.ndarray) -> np.ndarray:
        if not loop.tanks:
            by = loop.torn_slopes(inner.states(z[:-1], scale), float(z[-1]), passed(z.tobytes())[0], (name,))
            by[:, :-1] -= np.eye(len(begin))
            by[:, -1] *= course.slope(float(z[-1]) / FINE) / FINE
            return np.asarray(by * np.append(scale, 1.0) / scale[:, None])
        steps = _DIFFERENCE * np.eye(len(z))
        return np.column_stack([(residual(z + step) - residual(z - step)) / (2 * _DIFFERENCE) for step in steps])

    def hottest(z: np.ndarray) -> float:
        run = passed(z.tobytes())[0]
        return max(float(one.stream_out().T) for one in run.runs)

    tracer = ArcLength(residual, jacobian, largest=_LONGEST, bend=_BEND)
    curve = tracer.trace(np.append(inner.unknowns(begin, scale), 0.0), 0.0, FINE)
    states = np.array([inner.states(z[:-1], scale) for z in curve.points])
    values = np.array([course.value(p / FINE) for p in curve.points[:, -1]])
    T = np.array([hottest(z) for z in curve.points])
    growth = [growth_of(loop, y, float(z[-1])) for z, y in zip(curve.points, states, strict=True)]
    stable = np.array([bool(is_stable(own, not loop.tanks)) for own in growth])
    folds = folds_of(tracer, curve, T, stable, hottest, course)
    return TrainBranch(train, name, train.spec.condition(name).kind, values, states, T, stable, folds)
