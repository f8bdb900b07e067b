"""Exact derivatives through a train: every stream as numbers with derivatives."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import VOLUME
from molino.core.contents.feed import volume_model
from molino.core.contents.streams import Stream, at_enthalpy, enthalpy_slopes, mixed
from molino.core.dual import Dual, Number, value_of
from molino.core.runs.metric_of_ends import Ends
from molino.core.runs.run import Run
from molino.core.runs.sensitivity import end_slope, expression_slopes
from molino.core.trains.steps import Exchanger, Parallel, SideFeed, Step
from molino.core.vessels.flow_vessel import FlowVessel


@dataclass(frozen=True)
class NumberStream:
    """A stream as numbers with derivatives."""

    amounts: Mapping[str, Number]
    volume: Number
    T: Number
    P: Number

    def plain(self) -> Stream:
        """Its values alone."""
        amounts = {s: float(value_of(n)) for s, n in self.amounts.items()}
        volume, T, P = (float(value_of(x)) for x in (self.volume, self.T, self.P))
        return Stream("", amounts, volume, T, P)


@dataclass(frozen=True, eq=False)
class Pass:
    """The data of a pass through a train, for its derivatives.

    Attributes
    ----------
    steps, runs : the steps, and the run of each vessel in order
    fresh, joined : the feed, and the feed with the returned stream
    last_T : temperature of the outlet, in K
    recycle : float
        Flow returned over flow of the product.
    follows_T : bool
        Whether the temperature of the returned stream is computed.
    returned : numbers to Stream
        The returned stream, from its flows and temperature in units of the feed.
    owner_of : setting to (vessel, setting)
    by_step : mapping of setting to the step, no vessel, that it belongs to
    side_shares : mapping of setting to (side feed, its flow, that of the feed)
    """

    steps: Sequence[Step]
    runs: Sequence[Run]
    fresh: Stream
    joined: Stream
    last_T: float
    recycle: float
    follows_T: bool
    returned: Callable[[Sequence[Number]], Stream]
    owner_of: Callable[[str], tuple[FlowVessel, str]]
    by_step: Mapping[str, Step]
    side_shares: Mapping[str, tuple[SideFeed, float, float]]

    @property
    def first(self) -> FlowVessel:
        """The vessel that defines the fluid."""
        vessel = self.runs[0].vessel
        assert isinstance(vessel, FlowVessel)
        return vessel

    @property
    def fed(self) -> FlowVessel:
        """The first vessel as it was given, with the fresh feed."""
        vessels = (s.vessels[0] if isinstance(s, Parallel) else s for s in self.steps)
        return next(v for v in vessels if isinstance(v, FlowVessel))


def pass_slopes(done: Pass, inputs: tuple[str, ...], count: int) -> tuple[Ends, np.ndarray]:
    """The result of a pass through a train, with exact derivatives by the returned stream (`count` numbers) and by some
    inputs.

    Returns
    -------
    ends : the inputs of its metrics, as numbers with derivatives by (returned stream, inputs)
    returned : array, shape (count, count + inputs)
        Derivatives of the returned stream.
    """
    return _SlopedPass(done, inputs, count).ends()


class _SlopedPass:
    """The streams of a train as numbers with derivatives."""

    def __init__(self, done: Pass, inputs: tuple[str, ...], count: int) -> None:
        self.done, self.inputs, self.count = done, inputs, count
        self.size = count + len(inputs)
        self.runs = iter(done.runs)
        self.names = done.first.chemistry.names
        self.duty: Number = 0.0
        self.volume: Number = 0.0
        self.catalyst: Number = 0.0
        self.sides = [self._side(step) for step in done.steps if isinstance(step, SideFeed)]
        self.next_side = iter(self.sides)

    @cached_property
    def fresh(self) -> NumberStream:
        """The feed, with derivatives by its numbers that are inputs."""
        first, fresh = self.done.fed, self.done.fresh
        given: dict[str, Number] = {
            name: self.seed(first.spec.condition(name).own, self.count + i)
            for i, name in enumerate(self.inputs)
            if name in first.spec.feed_conditions
        }
        for name, (_, side, main) in self.done.side_shares.items():
            if name in self.inputs:
                given["flow"] = given.get("flow", self.still(main)) - (side + main) * self.seed_of(name)
        T, P = given.get("feed T", self.still(fresh.T)), given.get("feed P", self.still(fresh.P))
        if not given:
            return NumberStream({s: self.still(n) for s, n in fresh.amounts.items()}, self.still(fresh.volume), T, P)
        fed, zero = first.spec.mixture(given), self.still(0.0)
        amounts = {s: fed.concentrations.get(s, 0.0) * fed.volume + zero for s in self.names}
        return NumberStream(amounts, fed.volume + zero, T, P)

    @cached_property
    def whole(self) -> Number:
        """The molar flow of the feed."""
        return sum(self.fresh.amounts.values(), self.still(0.0))

    def seed(self, value: float, place: int) -> Dual:
        return Dual(float(value), np.eye(self.size)[place])

    def still(self, value: float) -> Dual:
        return Dual(float(value), np.zeros(self.size))

    def seed_of(self, name: str) -> Dual:
        """The change of an input: zero, with a derivative of one."""
        return self.seed(0.0, self.count + self.inputs.index(name))

    def input(self, name: str) -> int | None:
        return self.count + self.inputs.index(name) if name in self.inputs else None

    @property
    def ratio(self) -> Number:
        place = self.input("recycle")
        value = self.done.recycle
        return value if place is None else self.seed(value, place)

    def of_step(self, step: Step, name: str, value: float) -> Number:
        """A number of a step that is not a vessel, with its derivative if it is an input."""
        full = f"{step.label}.{name}"
        place = self.input(full) if self.done.by_step.get(full) is step else None
        return self.still(value) if place is None else self.seed(value, place)

    def _side(self, step: SideFeed) -> NumberStream:
        """The stream of a side feed: amounts and volume are proportional to its flow."""
        side = step.stream(self.done.first)
        flow = self.of_step(step, "flow", 1.0)
        own = step.conditions()["flow"].own if "flow" in step.conditions() else 1.0
        more = self.still(1.0) + (flow - 1.0) / own
        for name, (other, part, main) in self.done.side_shares.items():
            if name in self.inputs and other is step:
                more = more + (part + main) / part * self.seed_of(name)
        amounts = {s: n * more for s, n in side.amounts.items()}
        return NumberStream(amounts, side.volume * more, self.of_step(step, "T", side.T), self.still(side.P))

    def ends(self) -> tuple[Ends, np.ndarray]:
        done, stream = self.done, self._first()
        for step in done.steps:
            stream = self._through(step, stream)
        share = 1 / (1 + self.ratio)
        product = {s: n * share for s, n in stream.amounts.items()}
        entering = {s: sum((side.amounts[s] for side in self.sides), n) for s, n in self.fresh.amounts.items()}
        ends = Ends(entering, product, stream.volume * share, stream.T, stream.P, self.duty, self.volume, self.catalyst)
        returned = np.zeros((self.count, self.size))
        if self.count:
            back = self.ratio / (1 + self.ratio)
            rows: list[Number] = [back * stream.amounts[s] / self.whole for s in self.names]
            rows += [stream.T / self.fresh.T] if done.follows_T else []
            returned = np.array([row.slope for row in rows])
        return ends, returned

    def _first(self) -> NumberStream:
        """The feed with the returned stream."""
        done, fresh = self.done, self.done.fresh
        if not done.recycle:
            return self.fresh
        whole = sum(fresh.amounts.values())
        z = [(n - fresh.amounts[s]) / whole for s, n in done.joined.amounts.items()]
        seeds: list[Number] = [self.seed(x, i) for i, x in enumerate(z)]
        seeds += [self.seed(done.last_T / fresh.T, self.count - 1)] if done.follows_T else []
        back = done.returned(seeds)
        more = sum((side.volume - value_of(side.volume) for side in self.sides), self.fresh.volume - fresh.volume)
        volume = (back.volume / done.recycle + more) * self.ratio
        amounts = {s: n * (self.whole * (1 / whole)) for s, n in back.amounts.items()}
        T = back.T * (self.fresh.T * (1 / fresh.T)) if done.follows_T else back.T
        return self._mixed([self.fresh, NumberStream(amounts, volume, T, self.fresh.P)])

    def _through(self, step: Step, stream: NumberStream) -> NumberStream:
        if isinstance(step, Exchanger):
            return self._exchanged(step, stream)
        if isinstance(step, SideFeed):
            return self._mixed([stream, next(self.next_side)])
        several = step.vessels if isinstance(step, Parallel) else (step,)
        shares: Sequence[Number] = step.split if isinstance(step, Parallel) else (1.0,)
        if isinstance(step, Parallel) and len(shares) == 2:
            first = self.of_step(step, "split", step.split[0])
            shares = (first, 1.0 - first)
        outs = []
        for vessel, share in zip(several, shares, strict=True):
            part = {s: n * share for s, n in stream.amounts.items()}
            outs.append(self._vessel(vessel, replace(stream, amounts=part, volume=stream.volume * share)))
        return outs[0] if len(outs) == 1 else self._mixed(outs)

    def _exchanged(self, step: Exchanger, stream: NumberStream) -> NumberStream:
        before = self._enthalpy(stream)
        if step.T is None:
            duty = self.of_step(step, "duty", step.duty.si)
            self.duty = self.duty + duty
            return self._at_enthalpy(stream, before + duty)
        after = replace(stream, T=self.of_step(step, "T", step.T.si))
        self.duty = self.duty + self._enthalpy(after) - before
        return after

    def _vessel(self, vessel: FlowVessel, stream: NumberStream) -> NumberStream:
        """The outlet of a vessel: its derivatives by the parameters, times those of the parameters by the inputs."""
        run = next(self.runs)
        fed = run.vessel
        assert isinstance(fed, FlowVessel)
        is_liquid = not fed.is_gas and volume_model(fed.feed.model) != "additive volumes"
        given: dict[str, Number] = {f"[{s}]": n / stream.volume if is_liquid else n for s, n in stream.amounts.items()}
        if is_liquid:
            given["flow"] = stream.volume
        if fed.feed.T is not None:
            given["feed T"] = stream.T
        if fed.feed.P is not None:
            given["feed P"] = stream.P
        for name in self.inputs:
            place = self.input(name)
            assert place is not None
            if name.startswith("constant "):
                constant = name.removeprefix("constant ")
                value = next(p.value for p in fed.chemistry.numbers if p.name == constant)
                given[fed.spec.constant_name(constant)] = self.seed(value, place)
            elif (
                name != "recycle"
                and name not in fed.spec.feed_conditions
                and name not in self.done.by_step
                and (name not in self.done.side_shares)
            ):
                owner, setting = self.done.owner_of(name)
                if owner is vessel:
                    given[setting] = self.seed(fed.spec.condition(setting).own, place)
        numbers, end = fed.spec.parameters(given)
        volume = numbers.get(VOLUME, 0.0) if run.is_steady else end
        self.volume = self.volume + volume
        self.catalyst = self.catalyst + volume * float(fed.spec.weights.bulk_density or 0.0)
        return self._outlet(run, numbers, end)

    def _outlet(self, run: Run, numbers: Mapping[sp.Symbol, Number], end: Number) -> NumberStream:
        vessel, form = run.vessel, run.vessel.spec.model.streams[0]
        parameters = vessel.spec.model.balances.parameters
        moving = {s: n for s in parameters if isinstance(n := numbers.get(s), Dual) and n.slope.any()}
        known = vessel.spec.model.balances.known
        expressions = [*form.amounts.values(), form.volume]
        has_T = form.T is not None and form.T.free_symbols <= known
        has_P = form.P is not None and form.P.free_symbols <= known
        expressions += [form.T] if has_T else []
        expressions += [form.P] if has_P else []
        duty = vessel.spec.model.duty if vessel.spec.model.duty is not None else sp.Integer(0)
        expressions.append(duty)
        values = run.at_end(tuple(expressions))
        slopes = np.zeros((len(expressions), self.size))
        if moving:
            by = expression_slopes(run.trajectory, tuple(expressions), tuple(moving))
            slopes += by @ np.array([n.slope for n in moving.values()])
        if isinstance(end, Dual) and not run.is_steady and end.slope.any():
            slopes += np.outer([end_slope(run.trajectory, e) for e in expressions], end.slope)
        found = [Dual(value, slope) for value, slope in zip(values, slopes, strict=True)]
        names = [*form.amounts]
        self.duty = self.duty + found[-1]
        rest = iter(found[len(names) + 1 :])
        out = run.stream_out()
        T = next(rest) if has_T else self.still(out.T)
        P = next(rest) if has_P else self.still(out.P)
        return NumberStream(dict(zip(names, found, strict=False)), found[len(names)], T, P)

    def _enthalpy(self, stream: NumberStream) -> Dual:
        """Enthalpy flow of a stream."""
        value, by_amount, by_T, by_volume, by_P = enthalpy_slopes(self.done.first.spec.fluid, stream.plain())
        pairs = [
            *((by_amount[s], n) for s, n in stream.amounts.items()),
            (by_T, stream.T),
            (by_volume, stream.volume),
            (by_P, stream.P),
        ]
        moving = [by * n.slope for by, n in pairs if isinstance(n, Dual) and np.isfinite(by) and by]
        return Dual(value, sum(moving, np.zeros(self.size)))

    def _at_enthalpy(self, stream: NumberStream, wanted: Dual) -> NumberStream:
        """The stream at the temperature that gives it an enthalpy flow: dT = (dH - dH at constant T)/(dH/dT)."""
        fluid = self.done.first.spec.fluid
        T = at_enthalpy(fluid, stream.plain(), float(wanted.value)).T
        there = replace(stream, T=self.still(T))
        by_T = enthalpy_slopes(fluid, there.plain())[2]
        return replace(stream, T=Dual(T, (wanted.slope - self._enthalpy(there).slope) / by_T))

    def _mixed(self, streams: Sequence[NumberStream]) -> NumberStream:
        """Mixed streams, as in `streams.mixed`."""
        first, zero = self.done.first, self.still(0.0)
        amounts = {s: sum((x.amounts[s] for x in streams), zero) for s in self.names}
        T = mixed(first.spec.fluid, [x.plain() for x in streams], "mixed").T
        pressures = [x.P for x in streams if np.isfinite(value_of(x.P))]
        P = min(pressures, key=lambda p: float(value_of(p)), default=self.still(np.nan))
        whole = NumberStream(amounts, sum((x.volume for x in streams), zero), self.still(T), P)
        if not np.isfinite(T) or not first.spec.key.has_energy:
            return whole
        return self._at_enthalpy(whole, sum((self._enthalpy(x) for x in streams), zero))
