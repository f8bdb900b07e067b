"""A train with a recycle as equations of the returned stream and the states of its tanks."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace

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
from molino.core.trains.recycle import joined, returned, run_through
from molino.core.trains.steps import Parallel
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_run import TrainRun
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.steady_curve import converted, filled

_WARMING = 0.05
"""The fraction of the feed temperature that has the same weight along the curve as a factor of e of an amount."""
_WARMER = (0.0, 100.0, 300.0)
"""K above the temperatures along the curve, in further start-ups."""


class Loop:
    """The equations of a train at sizes e^s times its own.

    Parameters
    ----------
    train : TrainFields
    """

    def __init__(self, train: TrainFields) -> None:
        self.train, self.ratio = train, train.recycle.si
        self.sizes = [_size(vessel) for vessel in train.vessels]
        self.tanks = [n for n, vessel in enumerate(train.vessels) if has_states(vessel)]
        self.flows = len(train.chemistry.names) + train.spec.follows_T if self.ratio else 0
        self.kept = math.nan
        self._scaled: dict[float, TrainFields] = {}

    def at(self, s: float) -> TrainFields:
        """The train with its sizes e^s times as large."""
        if s not in self._scaled:
            vessels = iter(zip(self.train.vessels, self.sizes, strict=True))

            def sized(vessel: FlowVessel) -> FlowVessel:
                _, size = next(vessels)
                found: FlowVessel = vessel if size is None else vessel.with_({size[0]: size[1] * math.exp(s)})
                return found

            steps = [
                replace(step, vessels=tuple(sized(v) for v in step.vessels))
                if isinstance(step, Parallel)
                else sized(step)
                if isinstance(step, FlowVessel)
                else step
                for step in self.train.steps
            ]
            self._scaled = {s: self.train.with_(steps=tuple(steps))}
        return self._scaled[s]

    def begin(self, run: TrainRun) -> None:
        """Set the scales, and the unknowns that are logarithms, by a run at any size."""
        train = self.train
        self.kept = math.nan if train.spec.follows_T else run.last.T
        amounts, scales, self.lengths = [], [], list[int]()
        if self.ratio:
            species = len(train.chemistry.names)
            amounts += [False] * self.flows  # a returned flow cannot be negative
            scales += [self.ratio] * species + [_WARMING] * (self.flows - species)
        for n in self.tanks:
            case = train.vessels[n].spec.case
            own = start(case)[1].copy()
            is_amount = case.balances.is_kind(AMOUNTS)
            amounts += is_amount.tolist()
            scales += np.where(is_amount, own, _WARMING * own).tolist()
            self.lengths.append(len(own))
        self.scale, self.amounts = np.array(scales), np.array(amounts, dtype=bool)

    def states(self, run: TrainRun) -> np.ndarray:
        """The unknowns of a run in their own units: the returned stream, and the states of its tanks."""
        parts = [returned(self.train, run)] if self.ratio else []
        parts += [run.runs[n].trajectory.end_state for n in self.tanks]
        return np.concatenate(parts)

    def reacted(self, states: np.ndarray) -> list[np.ndarray]:
        """Those states with half and nearly all of the feed converted by one reaction, cold and warm."""
        train, names, found = self.train, self.train.chemistry.names, list[np.ndarray]()
        fed = np.array([train.spec.fresh.amounts[s] for s in names])
        warmer = _WARMER if train.spec.follows_T else (0.0,)
        for flows, rise in itertools.product(converted(train.chemistry, fed), warmer):
            there = states.copy()
            if self.ratio:
                there[: len(names)] = self.ratio * flows / fed.sum()
                there[len(names) : self.flows] += rise / train.spec.fresh.T
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

    def around(self, states: np.ndarray, s: float, settles: bool = False) -> tuple[TrainRun, np.ndarray]:
        """One pass with given states, and the residual; on request tanks go to their steady states."""
        train, rest = self.at(s), np.split(states, np.cumsum([self.flows, *self.lengths]))
        tanks, changes = iter(rest[1:]), list[np.ndarray]()

        def run_of(vessel: FlowVessel) -> Run:
            if not has_states(vessel):
                return vessel.run()
            y, case, tau = next(tanks), vessel.spec.case, vessel.spec.volume_si / float(vessel.spec.fed.volume)
            report = Report("curve of steady states over the sizes", 0, 0, 0)
            if settles:
                y = steady(case, tau, begin=y)[0]
            changes.append(np.array(Functions(case).rhs(y, 0.0)) * tau)
            return settled(vessel, y, report)

        fresh = train.spec.fresh
        entering = joined(train, fresh, train.spec.returned_stream(rest[0], self.kept)) if self.ratio else fresh
        run = run_through(train, entering, fresh, run_of)
        back = [returned(train, run) - rest[0]] if self.ratio else []
        return run, np.concatenate([*back, *changes])


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
