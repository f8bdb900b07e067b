"""A pass through the units of a train, of numbers or of numbers with derivatives."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import VOLUME
from molino.core.contents.feed import volume_model
from molino.core.contents.stream_properties import with_volume
from molino.core.contents.streams import Fluid, Stream, as_feed
from molino.core.dual import Dual, Number, value_of
from molino.core.errors import InputError
from molino.core.runs.run import Run
from molino.core.runs.sensitivity import end_slope, expression_slopes
from molino.core.trains.network import FEED, Unit
from molino.core.trains.steps import Return, SideFeed
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_step import Passed, TrainStep
from molino.core.vessels.flow_vessel import FlowVessel

CONSTANT = "constant "
"""Begins the name of an input that is a constant of the chemistry."""


@dataclass(frozen=True)
class TrainStreams:
    """The result of a pass.

    Attributes
    ----------
    streams : mapping of name to Stream
    units : sequence of (unit, its result)
    runs : list of Run
        Of each vessel, in the order of the steps.
    duty, volume, catalyst : numbers
        Of all vessels and exchangers.
    """

    streams: dict[str, Stream]
    units: list[tuple[Unit, Passed]]
    runs: list[Run]
    volume: Number = 0.0
    catalyst: Number = 0.0

    @property
    def duty(self) -> Number:
        """Heat flow in, of all units."""
        return sum((passed.duty for _, passed in self.units), 0.0)


class TrainPass:
    """A pass; with derivatives if there are inputs.

    Parameters
    ----------
    train : TrainFields
    inputs : sequence of str
        Conditions, and constants as "constant NAME", by which derivatives are computed.
    count : int
        Further derivatives, before those by the inputs: those by the torn streams.
    runs : sequence of Run, optional
        The runs of the vessels, if they are known.
    run_of : function of a vessel to its run, and of its place among all
    """

    def __init__(
        self,
        train: TrainFields,
        inputs: Sequence[str] = (),
        count: int = 0,
        runs: Sequence[Run] | None = None,
        run_of: Callable[[FlowVessel, int], Run] | None = None,
    ) -> None:
        self.train, self.inputs, self.count = train, tuple(inputs), count
        self.size = count + len(self.inputs)
        self.known = dict(enumerate(runs or ()))
        self.run_of = run_of or (lambda vessel, _: vessel.run())
        self.own = train.first.spec.fluid
        self.volume: Number = 0.0
        self.catalyst: Number = 0.0
        self.place = 0

    def through_all(self, torn: Mapping[str, Stream]) -> TrainStreams:
        """All streams, from the feeds and the torn streams; those are then replaced by the computed ones."""
        streams = {FEED: self.fresh, **torn}
        results = list[tuple[Unit, Passed]]()
        for unit in self.train.spec.network.units:
            self.place = unit.first
            inlets = []
            for name in unit.inlets:
                if name not in streams:  # a feed of its own
                    assert isinstance(unit.step, SideFeed)
                    streams[name] = self.side(unit.step)
                inlets.append(streams[name])
            step = unit.step
            passed = self.through(step, inlets[0]) if isinstance(step, FlowVessel) else step.passed(inlets, self)
            named = tuple(x.named(name) for x, name in zip(passed.streams, unit.outlets, strict=True))
            streams |= dict(zip(unit.outlets, named, strict=True))
            results.append((unit, replace(passed, streams=named)))
        runs = [self.known[n] for n in sorted(self.known)]
        return TrainStreams(streams, results, runs, self.volume, self.catalyst)

    # numbers

    def seed(self, value: float, place: int) -> Dual:
        return Dual(float(value), np.eye(self.size)[place])

    def seed_of(self, name: str) -> Number:
        """The change of an input: zero, with a derivative of one."""
        return self.seed(0.0, self.count + self.inputs.index(name)) if name in self.inputs else 0.0

    def number(self, step: TrainStep, name: str) -> Number:
        if isinstance(step, Return):
            return step.recycle.si + self.seed_of("recycle")
        full, own = f"{step.label}.{name}", step.conditions()[name].own
        is_its = self.train.spec.step_conditions.get(full, (None,))[0] is step
        return own + (self.seed_of(full) if is_its else 0.0)

    @cached_property
    def fresh(self) -> Stream:
        """The feed, with derivatives by its numbers that are inputs."""
        first, fresh = self.train.first, self.train.spec.fresh
        given: dict[str, Number] = {
            name: first.spec.condition(name).own + self.seed_of(name)
            for name in self.inputs
            if name in first.spec.feed_conditions
        }
        for name, (_, side, main) in self.train.spec.side_shares.items():
            if name in self.inputs:
                given["flow"] = given.get("flow", main) - (side + main) * self.seed_of(name)
        if not given:
            return fresh
        fed = first.spec.mixture(given)
        amounts = {s: fed.concentrations.get(s, 0.0) * fed.volume for s in fresh.amounts}
        T, P = given.get("feed T", fresh.T), given.get("feed P", fresh.P)
        return replace(fresh, amounts=amounts, volume=fed.volume, T=T, P=P)

    def side(self, step: SideFeed) -> Stream:
        """The stream of a side feed: amounts and volume are proportional to its flow."""
        side, conditions = step.stream(self.train.first), step.conditions()
        more: Number = 1.0
        if "flow" in conditions:
            more = self.number(step, "flow") / conditions["flow"].own
        for name, (other, part, main) in self.train.spec.side_shares.items():
            if other is step:
                more = more + (part + main) / part * self.seed_of(name)
        found = side.part(more)
        return replace(found, T=self.number(step, "T")) if "T" in conditions else found

    # phases

    def phase_of(self, stream: Stream) -> str:
        return stream.phase or ("gas" if self.own.phase.is_gas else "liquid")

    def in_phase(self, stream: Stream, phase: str) -> Stream:
        is_own = phase == ("gas" if self.own.phase.is_gas else "liquid")
        return replace(stream, phase="" if is_own else phase)

    def fluid_in(self, phase: str) -> Fluid:
        return self.own if phase == ("gas" if self.own.phase.is_gas else "liquid") else self.train.spec.other_fluid

    def fluid_of(self, stream: Stream) -> Fluid:
        return self.fluid_in(self.phase_of(stream))

    # vessels

    def through(self, vessel: FlowVessel, stream: Stream) -> Passed:
        """The outlet of a vessel: its derivatives by the parameters, times those of the parameters by the inputs."""
        n, self.place = self.place, self.place + 1
        if stream.phase:
            message = f"it is fed with a {stream.phase}, and its rate laws are those of the other phase"
            raise InputError(message, vessel.label, "evaporate or condense the stream before: mo.Flash(...)")
        if not float(value_of(stream.total)) > 0:
            raise InputError("no flow reaches it", vessel.label, "mix a feed into its line")
        if n not in self.known:
            self.known[n] = self.run_of(vessel.with_(feed=as_feed(stream.plain(), vessel.feed)), n)
        run = self.known[n]
        if not self.size:
            volume: Number = float(np.nan_to_num(run.volume_si))
            out, duty = run.stream_out(), run.duty_si if run.vessel.spec.key.has_energy else 0.0
        else:
            out, duty, volume = self._outlet(run, vessel, stream)
        self.volume = self.volume + volume
        self.catalyst = self.catalyst + volume * float(run.vessel.spec.weights.bulk_density or 0.0)
        return Passed((with_volume(self.own, out),), duty)

    def _given(self, fed: FlowVessel, vessel: FlowVessel, stream: Stream) -> dict[str, Number]:
        """The numbers of a vessel that have derivatives, as conditions."""
        is_liquid = not fed.is_gas and volume_model(fed.feed.model) != "additive volumes"
        given: dict[str, Number] = {f"[{s}]": n / stream.volume if is_liquid else n for s, n in stream.amounts.items()}
        if is_liquid:
            given["flow"] = stream.volume
        if fed.feed.T is not None:
            given["feed T"] = stream.T
        if fed.feed.P is not None:
            given["feed P"] = stream.P
        spec, own = self.train.spec, fed.spec
        others = {"recycle", *own.feed_conditions, *spec.step_conditions, *spec.side_shares}
        for name in self.inputs:
            if name.startswith(CONSTANT):
                constant = name.removeprefix(CONSTANT)
                value = next(p.value for p in fed.chemistry.numbers if p.name == constant)
                given[own.constant_name(constant)] = value + self.seed_of(name)
            elif name not in others and spec.vessel_condition(name)[0] is vessel:
                setting = spec.vessel_condition(name)[1]
                given[setting] = own.condition(setting).own + self.seed_of(name)
        return given

    def _outlet(self, run: Run, vessel: FlowVessel, stream: Stream) -> tuple[Stream, Number, Number]:
        """The outlet of a run, its duty and its volume, with their derivatives."""
        fed = run.vessel
        assert isinstance(fed, FlowVessel)
        numbers, end = fed.spec.parameters(self._given(fed, vessel, stream))
        volume = numbers.get(VOLUME, 0.0) if run.is_steady else end
        model, form = fed.spec.model, fed.spec.model.streams[0]
        moving = {s: n for s in model.balances.parameters if isinstance(n := numbers.get(s), Dual) and n.slope.any()}
        known = model.balances.known
        expressions = [*form.amounts.values(), form.volume]
        has_T = form.T is not None and form.T.free_symbols <= known
        has_P = form.P is not None and form.P.free_symbols <= known
        expressions += [form.T] if has_T else []
        expressions += [form.P] if has_P else []
        expressions.append(model.duty if model.duty is not None else sp.Integer(0))
        values = run.at_end(tuple(expressions))
        slopes = np.zeros((len(expressions), self.size))
        if moving:
            by = expression_slopes(run.trajectory, tuple(expressions), tuple(moving))
            slopes += by @ np.array([n.slope for n in moving.values()])
        if isinstance(end, Dual) and not run.is_steady and end.slope.any():
            slopes += np.outer([end_slope(run.trajectory, e) for e in expressions], end.slope)
        found = [Dual(value, slope) for value, slope in zip(values, slopes, strict=True)]
        names, rest, out = [*form.amounts], iter(found[len(form.amounts) + 1 :]), run.stream_out()
        T = next(rest) if has_T else out.T
        P = next(rest) if has_P else out.P
        amounts = dict(zip(names, found, strict=False))
        return replace(out, amounts=amounts, volume=found[len(names)], T=T, P=P), found[-1], volume
