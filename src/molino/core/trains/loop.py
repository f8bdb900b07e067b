"""A train with loops as equations of the torn streams and the states of its tanks."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence

import numpy as np

from molino.core.balances.engines import start
from molino.core.balances.functions import Functions
from molino.core.balances.settings import Report
from molino.core.balances.steady import steady
from molino.core.balances.system import AMOUNTS
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.errors import InputError
from molino.core.runs.follow import settled
from molino.core.runs.run import Run
from molino.core.trains.closing import run_of, torn_slopes
from molino.core.trains.torn import Torn
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_pass import TrainPass
from molino.core.trains.train_run import TrainRun
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.steady_curve import converted, filled

_WARMING = 0.05
"""The fraction of the feed temperature that has the same weight along the curve as a factor of e of an amount."""
_WARMER = (0.0, 100.0, 300.0)
"""K above the temperatures along the curve, in further start-ups."""


class Loop:
    """The equations of a train as a number s changes: by default at sizes e^s times its own.

    Parameters
    ----------
    train : TrainFields
    changed : function of s to TrainFields, optional
    """

    def __init__(self, train: TrainFields, changed: Callable[[float], TrainFields] | None = None) -> None:
        self.changed = changed
        self.train, self.torn = train, Torn(train)
        self.sizes = [_size(vessel) for vessel in train.vessels]
        self.tanks = [n for n, vessel in enumerate(train.vessels) if has_states(vessel)]
        self.flows = self.torn.count
        self._scaled: dict[float, TrainFields] = {}

    def at(self, s: float) -> TrainFields:
        """The train at s."""
        if s not in self._scaled and self.changed is not None:
            self._scaled = {s: self.changed(s)}
        if s not in self._scaled:
            vessels = iter(zip(self.train.vessels, self.sizes, strict=True))

            def sized(vessel: FlowVessel) -> FlowVessel:
                _, size = next(vessels)
                found: FlowVessel = vessel if size is None else vessel.with_({size[0]: size[1] * math.exp(s)})
                return found

            self._scaled = {s: self.train.with_vessels(sized)}
        return self._scaled[s]

    def begin(self, run: TrainRun) -> None:
        """Set the scales, and the unknowns that are logarithms, by a run at any size."""
        train = self.train
        amounts, scales, self.lengths = [], [], list[int]()
        self.like = {name: run.by_name[name] for name in self.torn.names}
        if self.flows:
            amounts += [False] * self.flows  # a torn flow cannot be negative
            scales += self.torn.scale(self.torn.values(self.like), _WARMING).tolist()
        for n in self.tanks:
            case = train.vessels[n].spec.case
            own = start(case)[1].copy()
            is_amount = case.balances.is_kind(AMOUNTS)
            amounts += is_amount.tolist()
            scales += np.where(is_amount, own, _WARMING * own).tolist()
            self.lengths.append(len(own))
        self.scale, self.amounts = np.array(scales), np.array(amounts, dtype=bool)

    def states(self, run: TrainRun) -> np.ndarray:
        """The unknowns of a run in their own units: the torn streams, and the states of its tanks."""
        parts = [self.torn.values(run.by_name)]
        parts += [run.runs[n].trajectory.end_state for n in self.tanks]
        return np.concatenate(parts)

    def reacted(self, states: np.ndarray) -> list[np.ndarray]:
        """Those states with half and nearly all of the feed converted by one reaction, cold and warm."""
        train, names, found = self.train, self.train.chemistry.names, list[np.ndarray]()
        fed = np.array([train.spec.fresh.amounts[s] for s in names])
        warmer = _WARMER if train.spec.follows_T else (0.0,)
        for flows, rise in itertools.product(converted(train.chemistry, fed), warmer):
            there = states.copy()
            for k in range(0, self.flows, self.torn.each):
                total = there[k : k + len(names)].sum()
                there[k : k + len(names)] = total * flows / fed.sum()
                if train.spec.follows_T:
                    there[k + len(names) + self.torn.more.index("T")] += rise / train.spec.fresh.T
            at = self.flows
            for n in self.tanks:
                vessel = train.vessels[n]
                own = there[at : at + len(vessel.spec.model.balances.states)]
                own[:] = filled(vessel, own, flows / train.spec.fresh.volume)
                if TEMPERATURE in vessel.spec.model.balances.symbols:
                    own[vessel.spec.model.balances.index(TEMPERATURE)] += rise
                at += len(own)
            found.append(there)
        return found

    def torn_slopes(self, states: np.ndarray, s: float, run: TrainRun, inputs: Sequence[str] = ()) -> np.ndarray:
        """As the function `torn_slopes`, of a pass with given states."""
        return torn_slopes(self.at(s), self.torn, states[: self.flows], run.runs, self.like, inputs)

    def around(self, states: np.ndarray, s: float, settles: bool = False) -> tuple[TrainRun, np.ndarray]:
        """One pass with given states, and the residual; on request tanks go to their steady states."""
        train, rest = self.at(s), np.split(states, np.cumsum([self.flows, *self.lengths]))
        tanks, changes = rest[1:], dict[int, np.ndarray]()

        def run(vessel: FlowVessel, n: int) -> Run:
            if n not in self.tanks:
                return vessel.run()
            place = self.tanks.index(n)
            y, case, tau = tanks[place], vessel.spec.case, vessel.spec.volume_si / float(vessel.spec.fed.volume)
            report = Report("curve of steady states over the sizes", 0, 0, 0)
            if settles:
                y = steady(case, tau, begin=y)[0]
            changes[place] = np.array(Functions(case).rhs(y, 0.0)) * tau
            return settled(vessel, y, report)

        given = self.torn.streams(rest[0], self.like)
        passed = TrainPass(train, run_of=run).through_all(given)
        back = self.torn.values(passed.streams) - rest[0]
        return run_of(train, passed), np.concatenate([back, *(changes[n] for n in range(len(changes)))])


def _size(vessel: FlowVessel) -> tuple[str, float] | None:
    """The size of a vessel that is scaled with the others, and its value in SI; None for one without."""
    if not vessel.spec.sizes:
        return None
    name = vessel.spec.default_size()
    passed = vessel.spec.volume_si if has_states(vessel) else vessel.spec.end_si
    if not math.isfinite(passed):
        raise InputError(f"no {name} is given", vessel.label, "give it, or size it: mo.size(...)")
    return name, vessel.spec.size_at(name, passed)


def has_states(vessel: FlowVessel) -> bool:
    """Whether its outlet is not determined by its feed alone, as for a tank with several steady states."""
    return vessel.spec.has_steady_state and vessel.spec.is_kinetic
