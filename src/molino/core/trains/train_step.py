"""The base of the steps of a train besides its vessels, and of their results."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Protocol

from molino.core import units
from molino.core.contents.feed import Feed
from molino.core.contents.streams import Fluid, Stream
from molino.core.contract.condition import Condition, number_condition
from molino.core.dual import Number
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import read_fields, schema_of, settings_of
from molino.core.units import Value
from molino.core.vessels.flow_vessel import FlowVessel

AFTER = "after "
"""Begins the names of streams that are called after their step."""


@dataclass(frozen=True)
class Passed:
    """The outlets of a step, with the heat and the work that it takes in, in W.

    `to_pressure` is the part of the work that raises the pressure of a liquid, which its enthalpy does not show.
    """

    streams: tuple[Stream, ...]
    duty: Number = 0.0
    work: Number = 0.0
    to_pressure: Number = 0.0


class Surroundings(Protocol):
    """The data of a pass through a train that a step needs."""

    def fluid_of(self, stream: Stream) -> Fluid:
        """The fluid of a stream, by its phase."""

    def fluid_in(self, phase: str) -> Fluid:
        """The fluid in a phase, "liquid" or "gas"; InputError if its properties are missing."""

    def phase_of(self, stream: Stream) -> str:
        """ "liquid" or "gas"."""

    def in_phase(self, stream: Stream, phase: str) -> Stream:
        """The stream as one of a phase."""

    def number(self, step: TrainStep, name: str) -> Number:
        """The number of a condition of a step, with its derivative if it is asked for."""

    def through(self, vessel: FlowVessel, stream: Stream) -> Passed:
        """The outlet of a vessel fed with a stream."""


class TrainStep(Frozen, Printed):
    """Base of the steps of a train besides its vessels.

    A step takes the stream of the line, and possibly named ones (`takes`), and gives the stream that continues the
    line, and possibly named ones (`gives`).
    """

    noun: ClassVar[str]
    name: str

    @property
    def label(self) -> str:
        """Its name, or its kind."""
        return self.name or self.noun

    def __post_init__(self) -> None:
        self.read()

    def read(self) -> None:
        """Read its fields; InputError with all faults."""
        faults = Faults()
        read_fields(self, faults, self.label)
        faults.raise_any()

    @property
    def takes(self) -> tuple[str, ...]:
        """Named streams that enter it besides that of the line."""
        return ()

    @property
    def gives(self) -> tuple[str, ...]:
        """Named streams that leave it besides that of the line."""
        return ()

    @property
    def feed_of_own(self) -> Feed | None:
        """A fresh feed that enters it besides the stream of the line."""
        return None

    @property
    def vessels_in_it(self) -> tuple[FlowVessel, ...]:
        """Its vessels."""
        return ()

    def with_vessels(self, vessels: Sequence[FlowVessel]) -> TrainStep:
        """The same with other vessels."""
        return self

    def conditions(self) -> dict[str, Condition]:
        """Its conditions by name: its numbers that are given."""
        found = {}
        for name, kind in settings_of(type(self)).items():
            own: Value | None = getattr(self, name)
            if own is not None:
                sign = schema_of(type(self))[name].sign
                found[name] = number_condition(name, kind, own, self._put(name), any_sign=sign == "any")
        return found

    def _put(self, name: str) -> Callable[[object], TrainStep]:
        step: Any = self
        return lambda value: replace(step, **{name: value})

    def require_met(self, streams: Sequence[Stream]) -> None:
        """Raise an error if its numbers cannot be met with its inlets; only of the closed train, whose first passes may
        be far from it."""

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        """Its outlets for its inlets, in the order of the line, then of `takes`."""
        raise NotImplementedError


def read_share_of(value: object, name: str) -> Value:
    """A fraction of a flow, below one."""
    share = units.positive(value, "number", name)
    if share.si >= 1:
        raise InputError(f"{name} = {value} is not a fraction of a flow", "", "give a number between 0 and 1")
    return share


def share_condition(name: str, own: Value, put: Any) -> Condition:
    """The condition of a fraction of a flow."""
    return Condition(name, "number", lambda v: (read_share_of(v, name).si, "number"), put, own.si, "number", value=own)


def require_name(faults: Faults, place: str, field: str, given: object) -> None:
    """Add a fault for a name of a stream that is not a text, or like those of streams without a name of their own."""
    if not isinstance(given, str) or not given:
        faults.add(place, f"{field} = {given!r} is not the name of a stream", f"write {field}='purge'")
    elif given.startswith(AFTER):
        faults.add(place, f"{field} = '{given}': such names are given to streams by their steps", "give another name")
