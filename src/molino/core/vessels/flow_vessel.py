"""The base of vessels with a feed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from functools import cached_property
from typing import Any, ClassVar

import numpy as np

from molino.core import units
from molino.core.balances.settings import Report
from molino.core.balances.system import Balances, Case
from molino.core.contents.feed import NO_FEED, Feed, NoFeed, flow_kind, read_flow, require_feed
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.condition import Condition, number_condition
from molino.core.contract.run_result import RunResult
from molino.core.contract.specification import Specification
from molino.core.contract.vessel import Vessel
from molino.core.contract.vessel_fields import VesselFields
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import settle
from molino.core.runs.run import Run
from molino.core.schema import ReadField, read_fields
from molino.core.terms.walls import Membrane
from molino.core.units import Value


class FlowSpecification(Specification):
    """The specification of a FlowVessel."""

    vessel: FlowVessel
    has_side_feed: ClassVar[bool] = False
    """Whether there is a feed besides that of the inlet."""

    is_closed: ClassVar[bool] = False
    is_mixed: ClassVar[bool] = False
    """Whether it is well mixed."""

    def validate(self) -> None:
        vessel = self.vessel
        if vessel.feed is None or isinstance(vessel.feed, NoFeed):  # it is checked with the feed of a train
            faults = Faults()
            settle(vessel, feed=NO_FEED)
            read_fields(vessel, faults, self.label)
            faults.raise_any()
            return
        require_feed(vessel.feed, self.label)
        self.validate_fed()

    def validate_fed(self) -> None:
        """Read the fields of the vessel and check them together with its feed; InputError with all faults."""
        raise NotImplementedError

    def present_at_start(self) -> set[str]:
        wall = self.vessel.wall
        if wall is None:
            return super().present_at_start()
        beyond = {s for s, given in wall.outside.items() if given.si > 0}
        return super().present_at_start() | beyond | ({*wall.sweep.contents} if wall.sweep is not None else set())

    def check_membrane(self) -> None:
        """Raise InputError for a wall that does not fit the vessel."""
        vessel = self.vessel
        if vessel.wall is None:
            return
        if not isinstance(vessel.wall, Membrane):
            raise InputError(f"{vessel.wall!r} is not a membrane", "wall", "write mo.Membrane({'H2': ...}, ...)")
        vessel.wall.check(self.chemistry.names, self.is_gas)
        if self.phase.real is not None:
            message = "a membrane is for an ideal gas or a liquid, and this is a real gas"
            raise InputError(message, "wall", "leave the model of the feed out")

    def check_sizes(self, faults: Faults) -> None:
        """Add a fault if its size is given more than once."""
        given = [n for n in self.sizes if getattr(self.vessel, n) is not None]
        if len(given) > 1:
            faults.add(self.label, f"{' and '.join(given)} specify the same thing twice", "give one of them")

    def stated_sizes(self, given: Mapping[str, Number]) -> dict[str, Number]:
        """The given size, by its name; or the default one."""
        own = {n: v.si for n in self.sizes if (v := getattr(self.vessel, n)) is not None}
        return {n: given[n] for n in self.sizes if n in given} or own

    def volume(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Volume in m^3; nan if unknown."""
        sizes = self.stated_sizes(given)
        if "volume" in sizes:
            return sizes["volume"]
        if "catalyst_mass" in sizes:
            return sizes["catalyst_mass"] / self.vessel.catalyst.bulk_density.si  # type: ignore[union-attr]
        return sizes["space_time"] * fed.volume if "space_time" in sizes else np.nan

    def size_at(self, name: str, passed: float) -> float:
        if name == "catalyst_mass":
            return float(passed * self.vessel.catalyst.bulk_density.si)  # type: ignore[union-attr]
        return passed / float(self.fed.volume) if name == "space_time" else passed

    def is_independent(self, name: str) -> bool:
        keeps = name == "T" and self.vessel.heat is None and self.first_T is not None
        return super().is_independent(name) or keeps

    @property
    def volume_si(self) -> float:
        """Volume in m^3; nan if unknown."""
        return float(self.end({}, self.fed))

    def require_volume(self) -> None:
        """Raise InputError if the volume is unknown."""

    @property
    def start_contents(self) -> Contents | None:
        """The contents at t = 0; None if they are those of the feed."""
        return None

    def as_tube(self) -> FlowVessel:
        """The tube of cells by which it is followed over time; InputError if it cannot be."""
        raise InputError(f"over time {self.vessel} is not followed", "", "give stirred tanks and tubes")

    def solve_steady(self, case: Case, near: np.ndarray | None = None) -> tuple[Case, np.ndarray, Report]:
        """The steady state of a case of its balances (with further numbers, for some vessels), and a report."""
        raise NotImplementedError

    def solve_steady_many(self, balances: Balances, values: np.ndarray) -> np.ndarray:
        """The steady state of each of many cases, shape (cases, states); nan if not found."""
        found = np.full((len(values), len(balances.states)), np.nan)
        near: np.ndarray | None = None
        for i, row in enumerate(values):
            try:
                found[i] = near = self.solve_steady(Case(balances, tuple(row.tolist())), near)[1]
            except SolveError:
                near = None
        return found

    @property
    def fluid_model(self) -> Any:
        return self.vessel.feed.model

    @property
    def mixture_capacity(self) -> Value | None:
        return self.vessel.feed.heat_capacity  # type: ignore[no-any-return]

    @property
    def density(self) -> Value | None:
        return self.vessel.feed.density  # type: ignore[no-any-return]

    @property
    def is_gas(self) -> bool:
        return self.vessel.feed.is_gas

    @property
    def first_T(self) -> Value | None:
        """The temperature at its inlet (of a tank at t = 0)."""
        return self.vessel.T or self.vessel.feed.T  # type: ignore[no-any-return]

    @property
    def feed_T(self) -> Value | None:
        return self.vessel.feed.T or self.first_T

    def feed_pressure(self) -> float:
        return float(self.vessel.feed.pressure(self.fed, {}))

    def mixture(self, given: Mapping[str, Number]) -> Mixture:
        if self.is_non_isothermal and "T" in given:
            given = {"feed T": given["T"], **given}
        return self.vessel.feed.mixture(self.species_by_name, given)

    def temperatures(self, given: Mapping[str, Number]) -> tuple[Number, Number]:
        """Of the vessel (at its inlet, at t = 0) and of the feed."""
        vessel = self.vessel
        own = self.first_T.si if self.first_T is not None else np.nan
        if self.is_non_isothermal:
            fed = given.get("feed T", given.get("T", vessel.feed.T.si if vessel.feed.T is not None else own))
            return (vessel.T.si if vessel.T is not None else fed), fed
        fed = given.get("feed T", vessel.feed.T.si if vessel.feed.T is not None else np.nan)
        follows = vessel.T is None and "feed T" in given
        T = given.get("T", fed if follows else own)
        return T, (fed if vessel.feed.T is not None or "feed T" in given else T)

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return self.vessel.feed.given()

    def contents(self) -> Contents:
        return self.vessel.feed.contents  # type: ignore[no-any-return]

    def with_contents(self, contents: Contents) -> VesselFields:
        return self.vessel.with_(feed=replace(self.vessel.feed, contents=contents))

    def more_conditions(self) -> Iterable[Condition]:
        vessel = self.vessel

        def with_T(value: Any) -> FlowVessel:
            return vessel.with_(feed=replace(vessel.feed, T=value))

        own = vessel.feed.flows[0] if vessel.feed.flows else None
        flow, form = (own.si, str(flow_kind(own))) if own is not None else (np.nan, "")
        yield number_condition("feed T", "temperature", vessel.feed.T, with_T)
        yield number_condition(
            "feed P", "pressure", vessel.feed.P, lambda v: vessel.with_(feed=replace(vessel.feed, P=v))
        )

        def with_flow(value: object) -> FlowVessel:
            return vessel.with_(feed=replace(vessel.feed, flow=value))

        yield Condition("flow", "volumetric flow", read_flow_form, with_flow, float(flow), form, value=own)
        if self.is_non_isothermal:
            yield number_condition("T", "temperature", vessel.feed.T, with_T)
        for name, (kind, value, put) in (vessel.wall.conditions() if vessel.wall is not None else {}).items():
            yield self._wall_condition(name, kind, value, put)

    def _wall_condition(self, name: str, kind: str, value: Value, put: Callable[[Any], Membrane]) -> Condition:
        def read(given: object) -> tuple[float, str]:
            return units.read(given, kind or None).si, kind

        return Condition(name, kind or "number", read, lambda v: self.vessel.with_(wall=put(v)), value.si, kind)

    def stream_in(self, run: RunResult) -> Stream:
        T = self.feed_T.si if self.feed_T is not None else np.nan
        return self.stream_of("feed", self.fed, float(T), self.feed_pressure())

    def stream_of(self, name: str, fed: Mixture, T: float, P: float) -> Stream:
        amounts = {s: float(fed.concentrations.get(s, 0.0) * fed.volume) for s in self.chemistry.names}
        return Stream(name, amounts, float(fed.volume), T, P)

    def side_stream(self, name: str, feed: Feed) -> Stream:
        """A feed besides that of the inlet."""
        fed = feed.mixture(self.species_by_name)
        own = self.first_T
        T = feed.T if feed.T is not None else own
        return self.stream_of(name, fed, T.si if T is not None else np.nan, float(feed.pressure(fed, {})))


class FlowVessel(Vessel):
    """A vessel with a feed: a stirred tank, a tube."""

    feed: Feed
    T: ReadField
    wall: Membrane | None

    @cached_property
    def spec(self) -> FlowSpecification:
        raise NotImplementedError

    def run(self) -> Run:
        """The run of the vessel to its end, or its steady state."""
        raise NotImplementedError

    def steady(self, near: np.ndarray | None = None) -> Run:
        """The steady state."""
        raise InputError(
            f"{units.article(self.noun)} has no steady state over time", self.label, "run it: it is steady"
        )


def read_flow_form(value: object) -> tuple[float, str]:
    read = read_flow(value)
    return read.si, str(flow_kind(read))
