"""The steps of a train, and the specification that other modules read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed, require_feed
from molino.core.contents.other_phase import other_phase
from molino.core.contents.streams import Fluid, Stream
from molino.core.contract.condition import Condition
from molino.core.contract.metric import Metric
from molino.core.contract.plant import Plant
from molino.core.contract.vessel import Vessel
from molino.core.display import Display
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import settle
from molino.core.runs.metric_of_ends import train_expression
from molino.core.schema import ReadField, several_forms
from molino.core.trains.heat_steps import ExchangerSide
from molino.core.trains.network import PRODUCT, Network, network_of
from molino.core.trains.steps import Mix, Return, SideFeed, Step, To, check_vessels
from molino.core.trains.train_step import TrainStep, read_share_of
from molino.core.units import Value
from molino.core.vessels.flow_vessel import FlowVessel

RECYCLE = "recycle"
"""The name of the stream of a recycle ratio."""


class TrainSpecification:
    """The specification of a train, through which other modules read it."""

    def __init__(self, train: TrainFields) -> None:
        self.train = train

    @property
    def label(self) -> str:
        """The name of the train, or its kind."""
        return self.train.label

    @property
    def chemistry(self) -> Chemistry:
        """The chemistry of its vessels."""
        return self.train.chemistry

    @cached_property
    def display(self) -> Display:
        return self.train.first.with_(show={**self.train.first.show, **self.train.show}).spec.display

    @cached_property
    def other_steps(self) -> list[TrainStep]:
        """Its steps that are not vessels; an exchanger between two places once."""
        found = dict[int, TrainStep]()
        for step in self.train.steps:
            if isinstance(step, TrainStep):
                own = step.exchanger if isinstance(step, ExchangerSide) else step
                found[id(own)] = own
        return [*found.values()]

    @cached_property
    def step_conditions(self) -> dict[str, tuple[Step, Condition]]:
        """The conditions of steps that are not vessels, by the step's name; none for steps with the same name."""
        others = self.other_steps
        labels = [*(step.label for step in others), *(v.name for v in self.train.vessels)]
        return {
            f"{step.label}.{name}": (step, setting)
            for step in others
            if labels.count(step.label) == 1
            for name, setting in step.conditions().items()
        }

    @cached_property
    def side_shares(self) -> dict[str, tuple[SideFeed, float, float]]:
        """The side feeds whose fraction is a condition: the step, its flow and that of the feed in SI."""
        found = {}
        main = self.train.first.spec.conditions["flow"]
        for name, (step, setting) in self.step_conditions.items():
            if isinstance(step, SideFeed) and name.endswith(".flow") and setting.form == main.form:
                found[f"{step.label}.share"] = step, setting.own, main.own
        return found

    def vessel_condition(self, name: str) -> tuple[FlowVessel, str]:
        """The vessel that a condition like 'bed.length' belongs to, and the condition."""
        for vessel in self.train.vessels:
            setting = name.removeprefix(f"{vessel.name}.")
            if vessel.name and setting != name and setting in vessel.spec.own_conditions:
                return vessel, setting
        raise InputError(f"'{name}' cannot be varied", self.label, nearest(name, self.conditions))

    def owners(self, name: str) -> tuple[tuple[FlowVessel, ...], str]:
        """The vessels that a condition belongs to: the first for one of the feed, all for a constant."""
        if name in self.train.first.spec.conditions and name not in self.train.first.spec.own_conditions:
            is_feed = name in self.train.first.spec.feed_conditions
            return ((self.train.first,) if is_feed else tuple(self.train.vessels)), name
        owner, setting = self.vessel_condition(name)
        return (owner,), setting

    @cached_property
    def conditions(self) -> dict[str, Condition]:
        """The conditions by name."""

        def put(name: str) -> Callable[[object], TrainFields]:
            return lambda value: self.train.with_({name: value})

        first = self.train.first
        found = {
            "recycle": Condition(
                "recycle",
                "number",
                _read_ratio,
                put("recycle"),
                self.train.recycle.si,
                "number",
                value=self.train.recycle,
            )
        }
        for vessel in self.train.vessels:
            for one in vessel.spec.own_conditions if vessel.name else ():
                name = f"{vessel.name}.{one}"
                found[name] = replace(vessel.spec.conditions[one], name=name, put=put(name))
        for name in first.spec.conditions.keys() - first.spec.own_conditions:
            found[name] = replace(first.spec.conditions[name], put=put(name))
        found |= {
            name: replace(setting, name=name, put=put(name)) for name, (_, setting) in self.step_conditions.items()
        }
        for name, (_, side, main) in self.side_shares.items():
            found[name] = Condition(
                name,
                "number",
                lambda v: (read_share_of(v, "share").si, "number"),
                put(name),
                side / (side + main),
                "number",
            )
        return found

    def condition(self, name: str) -> Condition:
        if name not in self.conditions:
            raise InputError(f"'{name}' cannot be varied", self.label, nearest(name, self.conditions))
        return self.conditions[name]

    @cached_property
    def fresh(self) -> Stream:
        """The feed of the first vessel."""
        fed = self.train.first.spec.fed
        amounts = {s: fed.concentrations.get(s, 0.0) * fed.volume for s in self.chemistry.names}
        T = self.train.feed.T.si if self.train.feed.T is not None else np.nan
        return Stream("feed", amounts, float(fed.volume), T, self.train.first.spec.feed_pressure())

    @cached_property
    def network(self) -> Network:
        """The units and streams; with a recycle ratio the end of the line returns to its beginning."""
        train, steps = self.train, [*self.train.steps]
        if train.recycle.si:
            steps = [Mix(RECYCLE, name="mixed feed"), *steps, Return(train.recycle), To(PRODUCT)]
        return network_of(steps, train.label, (RECYCLE,) if train.recycle.si else ())

    @cached_property
    def other_fluid(self) -> Fluid:
        """The fluid of the phase that its vessels do not have."""
        return other_phase(self.train.first.spec.fluid)

    @property
    def follows_T(self) -> bool:
        """Whether the temperature of the streams is computed."""
        return bool(np.isfinite(self.fresh.T)) and self.train.first.spec.key.has_energy

    @cached_property
    def side_feeds(self) -> list[SideFeed]:
        """The steps with a fresh feed."""
        return [step for step in self.train.steps if isinstance(step, SideFeed)]

    @cached_property
    def fresh_streams(self) -> tuple[Stream, ...]:
        """All fresh feeds."""
        return (self.fresh, *(step.stream(self.train.first) for step in self.side_feeds))

    @property
    def fed_in_all(self) -> Stream:
        """The sum of all fresh feeds; in the state of the feed."""
        amounts = {s: sum(x.amounts[s] for x in self.fresh_streams) for s in self.chemistry.names}
        return replace(self.fresh, amounts=amounts, volume=sum(x.volume for x in self.fresh_streams))

    def expression(self, metric: Metric) -> None:
        """Raise InputError if it has no such quantity."""
        train_expression(self.train.vessels, metric, self.network.streams)
        metric.require_fed(self.is_fed, self.label)

    def check_metric(self, metric: Metric) -> None:
        """Raise InputError if a run of it has no such metric."""
        self.expression(metric)

    def is_fed(self, species: str) -> bool:
        """Whether a species is in one of its fresh feeds."""
        return any(stream.amounts.get(species, 0.0) > 0 for stream in self.fresh_streams)


@dataclass(frozen=True, eq=False)
class TrainFields(Plant):
    """The steps of a train, its recycle, and its conditions by name."""

    noun: ClassVar[str] = "train"
    steps: Sequence[Step]
    feed: ReadField = several_forms()
    recycle: ReadField = several_forms(0.0)
    returned: Feed | None = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        settle(self, steps=tuple(self.steps))
        check_vessels(faults, self.vessels, self.label)
        for step in self.steps:
            if isinstance(step, Vessel) and not isinstance(step, FlowVessel):
                faults.add(self.label, f"{step.title} does not flow through", "give stirred tanks and plug-flow tubes")
            elif not isinstance(step, Step):
                advice = "give vessels, and steps such as mo.Exchanger, mo.Split, mo.Condenser"
                faults.add(self.label, f"{step!r} is not a step of a train", advice)
        with faults.at(self.label):
            settle(self, recycle=units.with_deviation(self.recycle, _read_recycle))
        if self.returned is not None and not isinstance(self.returned, Feed):
            faults.add(self.label, f"{self.returned!r} is not a feed", "give returned=mo.Feed(...)")
        for vessel in self.vessels:
            if vessel.wall is not None or vessel.spec.has_side_feed:
                message = f"{vessel.title} has a side stream, which a train does not support"
                faults.add(self.label, message, "run it by itself, or give SideFeed steps between shorter tubes")
        if not faults.found and any(v.chemistry.names != self.chemistry.names for v in self.vessels):
            faults.add(self.label, "the vessels have different species", "give them one chemistry")
        if not faults.found:
            with faults.at():
                self._give_feed()
        faults.raise_any()
        _ = self.spec.network

    def _give_feed(self) -> None:
        """Give the feed to the vessels that have none."""
        own = next((v.feed for v in self.vessels if isinstance(v.feed, Feed)), None)
        feed = self.feed if self.feed is not None else own
        if feed is None:
            raise InputError(
                "no feed is given", self.label, "give feed=mo.Feed(...) to the train, or to its first vessel"
            )
        require_feed(feed, self.label)
        if isinstance(self.first.feed, Feed) and self.first.feed != feed:
            message = f"its feed, {feed}, is not that of its first vessel, {self.first.feed}"
            raise InputError(message, self.label, "give one of them")
        faults, filled = Faults(), dict[int, FlowVessel]()
        for vessel in self.vessels:
            with faults.at():
                filled[id(vessel)] = vessel if isinstance(vessel.feed, Feed) else vessel.with_(feed=feed)
        faults.raise_any()
        settle(self, steps=tuple(_renewed(step, lambda v: filled[id(v)]) for step in self.steps), feed=feed)

    @cached_property
    def spec(self) -> TrainSpecification:
        """The specification that other modules read."""
        return TrainSpecification(self)

    @property
    def vessels(self) -> list[FlowVessel]:
        """Every vessel in it."""
        steps = [s for s in self.steps if isinstance(s, FlowVessel | TrainStep)]
        return [v for s in steps for v in ((s,) if isinstance(s, FlowVessel) else s.vessels_in_it)]

    @property
    def first(self) -> FlowVessel:
        """The vessel with the feed."""
        return self.vessels[0]

    @property
    def chemistry(self) -> Chemistry:
        return self.first.chemistry

    def with_(self, conditions: ByName | None = None, /, **changed: Any) -> Self:
        """The same train with some fields replaced, `chemistry` in every vessel, or some conditions.

        `train.with_({"bed.length": "4 m", "recycle": 2, "feed T": "60 degC"})`: a condition of a vessel by the vessel's
        name, "recycle", those of its feed ("flow", "feed T", "feed P", "[A]"), a constant of the chemistry ("r.k"), and
        of its other steps by their names (by their kind, if there is one such step): "exchanger.T" or "exchanger.duty",
        "side feed.flow" and "side feed.T", "side feed.share" (of the constant sum of its flow and that of the feed),
        and "parallel.share", the fraction to the first of two.
        """
        chemistry, feed = changed.pop("chemistry", None), changed.pop("feed", None)
        if any(isinstance(v, FlowVessel) and isinstance(v.feed, Feed) for v in changed.get("steps", ())):
            changed["feed"] = None
        found = replace(self, **changed)
        if feed is not None:
            found = found.with_vessels(lambda vessel: vessel.with_(feed=feed))
        if chemistry is not None:
            found = found.with_vessels(lambda vessel: vessel.with_(chemistry=chemistry))
        own: dict[tuple[FlowVessel, ...], PlainData] = {}
        rest = dict(conditions or {})
        for name in [n for n in rest if n not in ("recycle", *found.spec.step_conditions, *found.spec.side_shares)]:
            owners, setting = found.spec.owners(name)
            own.setdefault(owners, {})[setting] = rest.pop(name)
        changes = {
            id(v): {k: x for owners, given in own.items() if v in owners for k, x in given.items()}
            for v in found.vessels
        }
        found = found.with_vessels(lambda v: v.with_(changes[id(v)]) if changes[id(v)] else v) if own else found
        for name in sorted(
            rest, key=lambda n: n in found.spec.side_shares
        ):  # a share refers to the flows after the other changes
            if name == "recycle":
                found = replace(found, recycle=rest[name])
            elif name in found.spec.side_shares:
                found = found.with_side_share(name, rest[name])
            else:
                step, of_step = found.spec.step_conditions[name]
                changed_step = of_step.put(rest[name])
                found = replace(found, steps=[_in_place(s, step, changed_step) for s in found.steps])
        return found

    def with_vessels(self, change: Callable[[FlowVessel], FlowVessel]) -> Self:
        return replace(self, steps=[_renewed(step, change) for step in self.steps], feed=None)

    def with_side_share(self, name: str, value: object) -> Self:
        """The same with another fraction of the total feed at the side."""
        (step, side, main), share = self.spec.side_shares[name], read_share_of(value, "share").si
        flows = {"flow": (1 - share) * (side + main), f"{step.label}.flow": share * (side + main)}
        shown = {n: Value(q, self.spec.conditions[n].value.unit) for n, q in flows.items()}  # type: ignore[union-attr]
        return self.with_(shown)

    def __str__(self) -> str:
        around = f", recycle ratio {self.recycle}" if self.recycle.si else ""
        return (
            f"{self.title}{around}: "
            + ", then ".join(s.title if isinstance(s, FlowVessel) else str(s) for s in self.steps)
            + f", fed {self.feed}"
        )


def _read_recycle(value: object) -> Value:
    return units.positive(value, "number", "recycle", zero=True)


def _read_ratio(value: object) -> tuple[float, str]:
    return _read_recycle(value).si, "number"


def _renewed(step: Step, change: Callable[[FlowVessel], FlowVessel]) -> Step:
    """A step with its vessels changed."""
    if isinstance(step, FlowVessel):
        return change(step)
    return step.with_vessels([change(v) for v in step.vessels_in_it]) if step.vessels_in_it else step


def _in_place(one: Step, old: Step, new: Any) -> Step:
    """A step with another in place of an old one."""
    if isinstance(one, ExchangerSide) and one.exchanger is old:
        return replace(one, exchanger=new)
    return new if one is old else one
