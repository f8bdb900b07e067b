"""The steps of a train that change only flows: mixing, splitting, separation, side feeds, parallel vessels."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import MISSING, dataclass, replace
from typing import Any, ClassVar

import numpy as np

from molino.core import units
from molino.core.contents.feed import Feed, flow_kind, require_feed
from molino.core.contents.stream_properties import mixed, with_volume
from molino.core.contents.streams import Stream
from molino.core.contract.condition import Condition
from molino.core.dual import Number, value_of
from molino.core.errors import Faults, InputError
from molino.core.frozen import FrozenMapping, settle
from molino.core.schema import QuantityField, ReadField, option, quantity, several_forms
from molino.core.trains.train_step import (
    Passed,
    Surroundings,
    TrainStep,
    read_share_of,
    require_name,
    share_condition,
)
from molino.core.units import Value
from molino.core.vessels.flow_vessel import FlowVessel, read_flow_form


@dataclass(frozen=True, eq=False)
class Mix(TrainStep):
    """Named streams join the line, at the lowest of their pressures.

    Parameters
    ----------
    streams : str or sequence of str
    name : str

    Raises
    ------
    InputError
        If they are not names.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> loop = mo.Train([mo.Mix("back"), tube, mo.Separator({"B": 1.0}, to="product"), mo.Purge(0.1), mo.To("back")])
    >>> round(loop.run().conversion("A"), 4)
    0.8274
    """

    noun: ClassVar[str] = "mixer"
    streams: str | Sequence[str]
    name: str = ""

    def __post_init__(self) -> None:
        settle(self, streams=(self.streams,) if isinstance(self.streams, str) else tuple(self.streams))
        faults = Faults()
        for one in self.streams or (None,):
            require_name(faults, self.label, "streams", one)
        faults.raise_any()

    @property
    def takes(self) -> tuple[str, ...]:
        return tuple(self.streams)

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        flowing = [x for x in streams if value_of(x.total) != 0] or [*streams]
        if len({at.phase_of(x) for x in flowing}) > 1:
            listed = ", ".join(f"{x.name} ({at.phase_of(x)})" for x in flowing)
            message = f"liquid and gas meet in a mixer: {listed}"
            raise InputError(message, self.label, "evaporate or condense one of them before: mo.Flash(...)")
        return Passed((mixed(at.fluid_of(flowing[0]), streams, ""),))

    def __str__(self) -> str:
        return f"{self.label} with {' and '.join(self.streams)}"


@dataclass(frozen=True, eq=False)
class _EndOfLine(TrainStep):
    """A beginning or an end of a line with a named stream."""

    stream: str
    name: str = ""

    def __post_init__(self) -> None:
        faults = Faults()
        require_name(faults, self.noun, "stream", self.stream)
        faults.raise_any()

    def __str__(self) -> str:
        return f"{self.noun} {self.stream}"


@dataclass(frozen=True, eq=False)
class From(_EndOfLine):
    """A line begins with a named stream.

    Parameters
    ----------
    stream : str
    name : str
        For messages.

    Raises
    ------
    InputError
        If it is not a name.

    Examples
    --------
    >>> print(mo.From("crude"))
    from crude
    """

    noun: ClassVar[str] = "from"


@dataclass(frozen=True, eq=False)
class To(_EndOfLine):
    """A line ends: its stream has a name, by which another step takes it, or results show it.

    Parameters
    ----------
    stream : str
    name : str
        For messages.

    Raises
    ------
    InputError
        If it is not a name.

    Examples
    --------
    >>> print(mo.To("recycle"))
    to recycle
    """

    noun: ClassVar[str] = "to"


@dataclass(frozen=True, eq=False)
class Split(TrainStep):
    """A fraction of the stream leaves as a named stream; the rest continues.

    Parameters
    ----------
    share : float
        The fraction, between 0 and 1.
    to : str
        The name of the stream that leaves.
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> run = mo.Train([mo.Split(0.25, to="bypass"), tube, mo.Mix("bypass")]).run()
    >>> round(run.conversion("A"), 4)
    0.5523
    """

    noun: ClassVar[str] = "split"
    share: QuantityField = quantity("number", MISSING, most=1.0, setting=True)
    to: str = option("")
    name: str = ""

    def __post_init__(self) -> None:
        faults = Faults()
        require_name(faults, self.label, "to", self.to)
        with faults.at():
            self.read()
        faults.raise_any()

    @property
    def label(self) -> str:
        return self.name or self.to or self.noun

    @property
    def gives(self) -> tuple[str, ...]:
        return (self.to,)

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        share = at.number(self, "share")
        return Passed((streams[0].part(1.0 - share), streams[0].part(share)))

    def __str__(self) -> str:
        return f"{self.share} to {self.to}"


@dataclass(frozen=True, eq=False)
class Purge(Split):
    """A fraction of the stream is removed from a loop; as `Split`, with the name "purge".

    Parameters
    ----------
    share : float
    to : str
    name : str

    Examples
    --------
    >>> print(mo.Purge(0.02))
    0.02 to purge
    """

    to: str = option("purge")


@dataclass(frozen=True, eq=False)
class Separator(TrainStep):
    """A separator by recoveries: a fraction of each species leaves as a named stream; the rest continues.

    Both outlets have the temperature and pressure of the inlet, and its phase.

    Parameters
    ----------
    recovery : mapping of species to float
        The fraction of each that leaves, from 0 to 1; of the species left out nothing leaves.
    to : str
        The name of the stream that leaves.
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> run = mo.Train([tube, mo.Separator({"B": 0.9}, to="product")]).run()
    >>> round(run.stream("product").amounts["B"] * 60, 4)
    0.5689
    """

    noun: ClassVar[str] = "separator"
    recovery: Mapping[str, Any]
    to: str = option("separated")
    name: str = ""

    def __post_init__(self) -> None:
        faults, found = Faults(), {}
        require_name(faults, self.label, "to", self.to)
        if not isinstance(self.recovery, Mapping) or not self.recovery:
            raise InputError(f"recovery = {self.recovery!r}", self.label, "give it like {'methanol': 0.98}")
        for species, share in self.recovery.items():
            with faults.at(f"{self.label}, recovery of {species}"):
                found[species] = units.with_deviation(share, _read_recovery)
        faults.raise_any()
        settle(self, recovery=FrozenMapping(found))

    @property
    def gives(self) -> tuple[str, ...]:
        return (self.to,)

    def conditions(self) -> dict[str, Condition]:
        return {f"recovery of {s}": self._condition(s, own) for s, own in self.recovery.items()}

    def _condition(self, species: str, own: Value) -> Condition:
        def put(value: object) -> Separator:
            return replace(self, recovery={**self.recovery, species: value})

        name = f"recovery of {species}"
        return Condition(name, "number", lambda v: (_read_recovery(v).si, "number"), put, own.si, "number", value=own)

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        stream, fluid = streams[0], at.fluid_of(streams[0])
        strange = [s for s in self.recovery if s not in stream.amounts]
        if strange:
            raise InputError(f"'{strange[0]}' is not a species of the chemistry", self.label, "correct the recovery")
        shares = {s: at.number(self, f"recovery of {s}") if s in self.recovery else 0.0 for s in stream.amounts}
        taken = {s: n * shares[s] for s, n in stream.amounts.items()}
        left = {s: n * (1.0 - shares[s]) for s, n in stream.amounts.items()}
        part = sum(taken.values()) / stream.total if value_of(stream.total) else 0.0  # of the volume of a liquid
        outs = (
            replace(stream, amounts=left, volume=stream.volume * (1.0 - part)),
            replace(stream, amounts=taken, volume=stream.volume * part),
        )
        return Passed(tuple(with_volume(fluid, x) for x in outs))

    def __str__(self) -> str:
        parts = ", ".join(f"{share} of {s}" for s, share in self.recovery.items())
        return f"{self.label}: {parts} to {self.to}"


def _read_recovery(value: object) -> Value:
    share = units.positive(value, "number", "recovery", zero=True)
    if share.si > 1:
        raise InputError(f"a recovery of {value} is more than everything", "", "give a number from 0 to 1")
    return share


@dataclass(frozen=True, eq=False)
class SideFeed(TrainStep):
    """A feed that joins the stream between two vessels.

    Parameters
    ----------
    feed : Feed
    name : str
        For tables and messages.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> run = mo.Train([tube, mo.SideFeed(mo.Feed({"A": "1 mol/L"}, flow="1 L/min")), tube]).run()
    >>> round(run.stream_out().volume * 6e4, 6)
    2.0
    """

    noun: ClassVar[str] = "side feed"
    feed: Feed
    name: str = ""

    def __post_init__(self) -> None:
        require_feed(self.feed, "side feed")

    @property
    def feed_of_own(self) -> Feed:
        return self.feed

    def conditions(self) -> dict[str, Condition]:
        """Its conditions by name: its flow, in the form in which it is given, and its temperature."""
        feed, found = self.feed, dict[str, Condition]()
        if len(feed.flows) == 1 and feed.flows[0] is not None:
            flow = feed.flows[0]
            found["flow"] = Condition(
                "flow",
                "volumetric flow",
                read_flow_form,
                lambda v: replace(self, feed=replace(feed, flow=v)),
                flow.si,
                str(flow_kind(flow)),
                value=flow,
            )
        if feed.T is not None:
            found["T"] = Condition(
                "T",
                "temperature",
                lambda v: (units.positive(v, "temperature", "T").si, "temperature"),
                lambda v: replace(self, feed=replace(feed, T=v)),
                feed.T.si,
                "temperature",
                value=feed.T,
            )
        return found

    def stream(self, like: FlowVessel) -> Stream:
        """Its stream, for the fluid of a vessel."""
        carrier = like.with_(feed=self.feed)
        fed, T = carrier.spec.fed, self.feed.T.si if self.feed.T is not None else np.nan
        amounts = {s: fed.concentrations.get(s, 0.0) * fed.volume for s in like.chemistry.names}
        return Stream(self.label, amounts, float(fed.volume), T, carrier.spec.feed_pressure())

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        return Passed((mixed(at.fluid_of(streams[0]), streams, ""),))

    def __str__(self) -> str:
        return f"{self.label} of {self.feed}"


@dataclass(frozen=True, eq=False)
class Parallel(TrainStep):
    """Parallel vessels: the stream is split between them and their outlets are mixed.

    Parameters
    ----------
    vessels : sequence of StirredTank or PlugFlow
    shares : sequence of float, optional
        The fraction of the stream to each; by default equal.
    name : str
        For tables and messages.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> run = mo.Train([mo.Parallel([tube, tube])]).run()
    >>> round(run.conversion("A"), 4)
    0.8647
    """

    noun: ClassVar[str] = "parallel"
    vessels: Sequence[FlowVessel]
    shares: ReadField = several_forms()
    name: str = ""

    def __post_init__(self) -> None:
        faults = Faults()
        check_vessels(faults, self.vessels, "parallel")
        count = len(self.vessels)
        given = [1 / count] * count if self.shares is None and count else self.shares or []
        shares = []
        for one in given:
            with faults.at("parallel, shares"):
                shares.append(units.positive(one, "number", "share").si)
        if len(shares) != count or abs(sum(shares) - 1) > 1e-9:
            faults.add("parallel, shares", f"{self.shares!r} are not shares of {count}", f"give {count} of sum 1")
        faults.raise_any()
        settle(self, vessels=tuple(self.vessels), shares=tuple(shares))

    @property
    def vessels_in_it(self) -> tuple[FlowVessel, ...]:
        return tuple(self.vessels)

    def with_vessels(self, vessels: Sequence[FlowVessel]) -> Parallel:
        return replace(self, vessels=tuple(vessels))

    def conditions(self) -> dict[str, Condition]:
        """Its conditions by name: of two vessels the fraction to the first; the second has the rest."""
        if len(self.vessels) != 2:
            return {}

        def put(value: object) -> Parallel:
            share = read_share_of(value, "share").si
            return replace(self, shares=(share, 1 - share))

        return {"share": share_condition("share", Value(self.shares[0], "1"), put)}

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        shares: Sequence[Number] = self.shares
        if len(shares) == 2:
            first = at.number(self, "share")
            shares = (first, 1.0 - first)
        outs = [at.through(v, streams[0].part(s)) for v, s in zip(self.vessels, shares, strict=True)]
        whole = mixed(at.fluid_of(streams[0]), [out.streams[0] for out in outs], "")
        return Passed((whole,), sum((out.duty for out in outs), 0.0))

    def __str__(self) -> str:
        return f"{self.label}: " + " in parallel with ".join(str(v.title) for v in self.vessels)


@dataclass(frozen=True, eq=False)
class Return(TrainStep):
    """The end of a train with a recycle ratio R: the fraction R/(1 + R) of the stream returns to its feed.

    Parameters
    ----------
    recycle : Value
    name : str
    """

    noun: ClassVar[str] = "return"
    recycle: Value
    name: str = ""

    @property
    def gives(self) -> tuple[str, ...]:
        return ("recycle",)

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        ratio = at.number(self, "recycle")
        whole = 1.0 + ratio
        return Passed((streams[0].part(1.0 / whole), streams[0].part(ratio / whole)))


Step = FlowVessel | TrainStep


def check_vessels(faults: Faults, given: Sequence[object], place: str) -> None:
    for one in given:
        if not isinstance(one, FlowVessel):
            faults.add(
                place,
                f"{getattr(one, 'title', repr(one))} is not a flow vessel",
                "give stirred tanks and plug-flow tubes",
            )
    if not given:
        faults.add(place, "no vessel is given", "give at least one")
