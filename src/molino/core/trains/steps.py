"""The steps of a train besides its vessels: exchangers, side feeds, parallel vessels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from molino.core import units
from molino.core.contents.feed import Feed, flow_kind, require_feed
from molino.core.contents.streams import Stream, at_enthalpy, enthalpy
from molino.core.contract.condition import Condition
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, quantity, read_fields, several_forms
from molino.core.vessels.flow_vessel import FlowVessel, read_flow_form


@dataclass(frozen=True, eq=False)
class Exchanger(Frozen, Printed):
    """A heat exchanger between two vessels.

    Parameters
    ----------
    T : temperature, optional
        The outlet temperature.
    duty : power, optional
        The heat flow instead ("-250 kW" cools).
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-50 kJ/mol"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="350 K", heat_capacity="4.2 MJ/m3/K")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L", heat="adiabatic")
    >>> run = mo.Train([tube, mo.Exchanger("340 K"), tube]).run()
    >>> {name: round(duty) for name, duty in run.exchanged.items()}
    {'exchanger': -1227}
    """

    T: QuantityField = quantity("temperature", setting=True)
    duty: QuantityField = quantity("power", sign="any", setting=True)
    name: str = ""

    def __post_init__(self) -> None:
        if (self.T is None) == (self.duty is None):
            message = "neither T nor duty is given" if self.T is None else "T and duty are both given"
            raise InputError(message, "exchanger", "give one of them")
        faults = Faults()
        read_fields(self, faults, "exchanger")
        faults.raise_any()

    @property
    def label(self) -> str:
        return self.name or "exchanger"

    def conditions(self) -> dict[str, Condition]:
        """Its conditions by name."""
        name, kind, own = ("T", "temperature", self.T) if self.T is not None else ("duty", "power", self.duty)

        def read(value: object) -> tuple[float, str]:
            given = units.positive(value, kind, name) if name == "T" else units.read(value, kind, name)
            return given.si, kind

        return {name: Condition(name, kind, read, lambda v: replace(self, **{name: v}), own.si, kind, value=own)}

    def passed(self, vessel: FlowVessel, stream: Stream) -> tuple[Stream, float]:
        """Its outlet stream and its duty in W, for the fluid of a vessel."""
        vessel.spec.require_energy()
        fluid = vessel.spec.fluid
        before = enthalpy(fluid, stream)
        if self.T is None:
            return at_enthalpy(fluid, stream, before + self.duty.si), float(self.duty.si)
        after = replace(stream, T=self.T.si)
        return after, enthalpy(fluid, after) - before

    def __str__(self) -> str:
        return f"{self.label} to {self.T}" if self.T is not None else f"{self.label} of {self.duty}"


@dataclass(frozen=True, eq=False)
class SideFeed(Frozen, Printed):
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

    feed: Feed
    name: str = ""

    def __post_init__(self) -> None:
        require_feed(self.feed, "side feed")

    @property
    def label(self) -> str:
        return self.name or "side feed"

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

    def __str__(self) -> str:
        return f"{self.label} of {self.feed}"


@dataclass(frozen=True, eq=False)
class Parallel(Frozen, Printed):
    """Parallel vessels: the stream is split between them and their outlets are mixed.

    Parameters
    ----------
    vessels : sequence of StirredTank or PlugFlow
    split : sequence of float, optional
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

    vessels: Sequence[FlowVessel]
    split: ReadField = several_forms()
    name: str = ""

    def __post_init__(self) -> None:
        faults = Faults()
        check_vessels(faults, self.vessels, "parallel")
        count = len(self.vessels)
        given = [1 / count] * count if self.split is None and count else self.split or []
        shares = []
        for one in given:
            with faults.at("parallel, split"):
                shares.append(units.positive(one, "number", "share").si)
        if len(shares) != count or abs(sum(shares) - 1) > 1e-9:
            faults.add("parallel, split", f"{self.split!r} is not a split among {count}", "give shares of sum 1")
        faults.raise_any()
        settle(self, vessels=tuple(self.vessels), split=tuple(shares))

    @property
    def label(self) -> str:
        return self.name or "parallel"

    def conditions(self) -> dict[str, Condition]:
        """Its conditions by name: of two vessels the fraction to the first; the second has the rest."""
        if len(self.vessels) != 2:
            return {}

        def read(value: object) -> tuple[float, str]:
            share = units.positive(value, "number", "split").si
            if share >= 1:
                raise InputError(
                    f"{value} is not a fraction of the flow", "", "give the fraction to the first vessel, below 1"
                )
            return share, "number"

        def put(value: object) -> Parallel:
            share = read(value)[0]
            return replace(self, split=(share, 1 - share))

        return {"split": Condition("split", "number", read, put, self.split[0], "number")}

    def __str__(self) -> str:
        return f"{self.label}: " + " in parallel with ".join(str(v.title) for v in self.vessels)


Step = FlowVessel | Exchanger | SideFeed | Parallel


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
