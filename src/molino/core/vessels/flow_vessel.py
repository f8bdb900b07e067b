"""What vessels have in common through which a feed flows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np

from molino.core import units
from molino.core.balances.integrate import Report
from molino.core.balances.system import Balances, Case
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError
from molino.core.units import Value
from molino.core.vessels.base import Setting, Vessel
from molino.core.vessels.feed import Feed, flow_kind, read_flow
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.streams import Stream
from molino.core.vessels.walls import Membrane

if TYPE_CHECKING:
    from molino.core.vessels.run import Run


class FlowVessel(Vessel):
    """A vessel with a feed: a stirred tank, a tube."""

    feed: Feed
    T: Any
    wall: Membrane | None
    _has_side: ClassVar[bool] = False
    """Whether something is fed elsewhere than at its inlet."""

    _is_closed: ClassVar[bool] = False

    def _started_with(self) -> set[str]:
        wall = self.wall
        if wall is None:
            return super()._started_with()
        beyond = {s for s, given in wall.outside.items() if given.si > 0}
        return super()._started_with() | beyond | ({*wall.sweep.contents} if wall.sweep is not None else set())

    def _check_membrane(self) -> None:
        """Raise InputError for a wall through which nothing can pass as it is given."""
        if self.wall is None:
            return
        if not isinstance(self.wall, Membrane):
            raise InputError(f"{self.wall!r} is no membrane", "wall", "write mo.Membrane({'H2': ...}, ...)")
        self.wall.check(self.chemistry.names, self.is_gas)
        if self._phase.real is not None:
            message = "a membrane lets an ideal gas or a liquid through, and this is a real gas"
            raise InputError(message, "wall", "leave the model of the feed out")

    def _check_sizes(self, faults: Faults) -> None:
        """Add a fault where its size is given more than once."""
        given = [n for n in self._sizes if getattr(self, n) is not None]
        if len(given) > 1:
            faults.add(self.label, f"{' and '.join(given)} specify the same thing twice", "give one of them")

    def _stated_sizes(self, given: Mapping[str, Number]) -> dict[str, Number]:
        """The size that is given, by its name; or its own."""
        own = {n: v.si for n in self._sizes if (v := getattr(self, n)) is not None}
        return {n: given[n] for n in self._sizes if n in given} or own

    def _volume(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Volume in m^3; nan while it is not known."""
        sizes = self._stated_sizes(given)
        if "volume" in sizes:
            return sizes["volume"]
        if "catalyst_mass" in sizes:
            return sizes["catalyst_mass"] / self.catalyst.bulk_density.si  # type: ignore[union-attr]
        return sizes["space_time"] * fed.volume if "space_time" in sizes else np.nan

    def _size_of(self, name: str, passed: float) -> float:
        if name == "catalyst_mass":
            return float(passed * self.catalyst.bulk_density.si)  # type: ignore[union-attr]
        return passed / float(self._fed.volume) if name == "space_time" else passed

    def _is_lone(self, name: str) -> bool:
        keeps = name == "T" and self.heat is None and self._first_T is not None
        return super()._is_lone(name) or keeps

    @property
    def _volume_si(self) -> float:
        """Volume in m^3; nan while it is not known."""
        return float(self._end({}, self._fed))

    def _require_volume(self) -> None:
        """Raise InputError while the volume is not known."""

    def steady(self, near: np.ndarray | None = None) -> Run:
        """The steady state that it settles to."""
        raise InputError(
            f"{units.article(self.noun)} has no steady state over time", self.label, "run it: it is steady"
        )

    def _rest(self, case: Case, near: np.ndarray | None = None) -> tuple[Case, np.ndarray, Report]:
        """The state at rest of a case of its balances (which may come with further numbers), and how it was found."""
        raise NotImplementedError

    def _rest_many(self, balances: Balances, values: np.ndarray) -> np.ndarray:
        """The state at rest of each of many cases, shape (cases, states); nan where one is not found."""
        found = np.full((len(values), len(balances.states)), np.nan)
        near: np.ndarray | None = None
        for i, row in enumerate(values):
            try:
                found[i] = near = self._rest(Case(balances, tuple(row.tolist())), near)[1]
            except SolveError:
                near = None
        return found

    @property
    def _fluid_model(self) -> Any:
        return self.feed.model

    @property
    def _mixture_capacity(self) -> Value | None:
        return self.feed.heat_capacity  # type: ignore[no-any-return]

    @property
    def _density(self) -> Value | None:
        return self.feed.density  # type: ignore[no-any-return]

    @property
    def is_gas(self) -> bool:
        return self.feed.is_gas

    @property
    def _first_T(self) -> Value | None:
        """The temperature at its inlet (of a tank at t = 0)."""
        return self.T or self.feed.T  # type: ignore[no-any-return]

    @property
    def _feed_T(self) -> Value | None:
        return self.feed.T or self._first_T

    def _given_pressure(self) -> float:
        return float(self.feed.pressure(self._fed, {}))

    def _mixture(self, given: Mapping[str, Number]) -> Mixture:
        if self.is_non_isothermal and "T" in given:
            given = {"feed T": given["T"], **given}
        return self.feed.mixture(self._by_name, given)

    def _temperatures(self, given: Mapping[str, Number]) -> tuple[Number, Number]:
        """Of the vessel (at its inlet, at t = 0) and of the feed."""
        own = self._first_T.si if self._first_T is not None else np.nan
        if self.is_non_isothermal:
            fed = given.get("feed T", given.get("T", self.feed.T.si if self.feed.T is not None else own))
            return (self.T.si if self.T is not None else fed), fed
        fed = given.get("feed T", self.feed.T.si if self.feed.T is not None else np.nan)
        follows = self.T is None and "feed T" in given
        T = given.get("T", fed if follows else own)
        return T, (fed if self.feed.T is not None or "feed T" in given else T)

    def _given_below(self) -> list[tuple[str, Value | None]]:
        return self.feed.given()

    def _contents(self) -> Contents:
        return self.feed.contents  # type: ignore[no-any-return]

    def _with_contents(self, contents: Contents) -> Self:
        return self.with_(feed=replace(self.feed, contents=contents))

    def _more_settings(self) -> Iterable[Setting]:
        def with_T(value: Any) -> FlowVessel:
            return self.with_(feed=replace(self.feed, T=value))

        own = self.feed.flows[0] if self.feed.flows else None
        flow, form = (own.si, str(flow_kind(own))) if own is not None else (np.nan, "")
        yield self._number("feed T", "temperature", self.feed.T, with_T)
        yield self._number("feed P", "pressure", self.feed.P, lambda v: self.with_(feed=replace(self.feed, P=v)))

        def with_flow(value: Any) -> FlowVessel:
            return self.with_(feed=replace(self.feed, flow=value))

        yield Setting("flow", "volumetric flow", read_flow_form, with_flow, float(flow), form, value=own)
        if self.is_non_isothermal:
            yield self._number("T", "temperature", self.feed.T, with_T)
        for name, (kind, value, put) in (self.wall.settings() if self.wall is not None else {}).items():
            yield Setting(name, kind or "number", lambda v, kind=kind: (units.read(v, kind or None).si, kind),  # type: ignore[misc]
                          lambda v, put=put: self.with_(wall=put(v)), value.si, kind)  # type: ignore[misc]  # fmt: skip

    def _stream_in(self, run: Run) -> Stream:
        T = self._feed_T.si if self._feed_T is not None else np.nan
        return self._stream_of("feed", self._fed, float(T), self._given_pressure())

    def _stream_of(self, name: str, fed: Mixture, T: float, P: float) -> Stream:
        amounts = {s: float(fed.concentrations.get(s, 0.0) * fed.volume) for s in self.chemistry.names}
        return Stream(name, amounts, float(fed.volume), T, P)

    def _side_stream(self, name: str, feed: Feed) -> Stream:
        """A feed that comes in elsewhere than at the inlet."""
        fed = feed.mixture(self._by_name)
        own = self._first_T
        T = feed.T if feed.T is not None else own
        return self._stream_of(name, fed, T.si if T is not None else np.nan, float(feed.pressure(fed, {})))


def read_flow_form(value: Any) -> tuple[float, str]:
    read = read_flow(value)
    return read.si, str(flow_kind(read))
