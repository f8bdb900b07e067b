"""A vessel under another condition, by the name that a sweep, a disturbance or a continuation gives it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.errors import Faults, InputError, nearest
from molino.core.printing import Printed
from molino.core.vessels.base import Vessel
from molino.core.vessels.heat import Jacket
from molino.core.vessels.schedule import Track

_KINDS = {
    "T": "temperature", "feed T": "temperature", "coolant T": "temperature", "flow": "volumetric flow",
    "volume": "volume", "space_time": "time", "time": "time", "length": "length", "diameter": "diameter",
    "catalyst_mass": "mass", "UA": "heat capacity flow", "U": "heat transfer coefficient", "P": "pressure",
    "coolant flow": "heat capacity flow", "feed P": "pressure",
}  # fmt: skip


def condition_kind(name: str) -> str:
    """The kind of quantity of a condition; 'number' where its name does not tell."""
    return "concentration" if name.startswith("[") else _KINDS.get(name, "number")


def known_conditions(vessel: Vessel) -> list[str]:
    """The names that `under` takes for a vessel."""
    feed = getattr(vessel, "feed", None)
    fields = [n for n in ("T", "diameter", "tubes", "P") if hasattr(vessel, n)]
    found = [*fields, *vessel.sizes, *(("flow", "feed T", "feed P") if feed is not None else ())]
    if isinstance(vessel.heat, Jacket):
        found += ["coolant T", "coolant flow", "U" if vessel.heat.U is not None else "UA"]
    species = feed.contents if feed is not None else getattr(vessel, "charge", ())
    return [*dict.fromkeys(found), *(f"[{s}]" for s in species), *(p.name for p in vessel.chemistry.parameters)]


def under(vessel: Vessel, name: str, value: Any) -> Vessel:
    """The vessel with one condition changed.

    Parameters
    ----------
    name : str
        A field ("T", "volume", "length", "tubes"), the "flow", "feed T" or "feed P" of its feed, the "coolant T",
        "coolant flow", "U" or "UA" of its jacket, what is fed or charged of a species ("[xylose]"), or a constant of
        the chemistry ("dehydration.k"). Where the temperature is not kept, "T" is that of the feed or charge.

    Raises
    ------
    InputError
        If there is no such condition, or the value is none.
    """
    feed = getattr(vessel, "feed", None)
    if name in {p.name for p in vessel.chemistry.parameters}:
        return vessel.with_(chemistry=vessel.chemistry.with_values({name: units.read(value).si}))
    if name.startswith("[") and name.endswith("]"):
        held = feed.contents if feed is not None else vessel.charge  # type: ignore[attr-defined]
        contents = held.with_portion(name[1:-1], value)
        return vessel.with_(feed=replace(feed, contents=contents)) if feed else vessel.with_(charge=contents)
    if name not in known_conditions(vessel):
        raise InputError(f"'{name}' cannot be varied", vessel.label, nearest(name, known_conditions(vessel)))
    if name == "flow" and feed is not None:
        return vessel.with_(feed=replace(feed, flow=value))
    if feed is not None and (name in ("feed T", "feed P") or (name == "T" and vessel.moves_T)):
        return vessel.with_(feed=replace(feed, **{name.removeprefix("feed "): value}))
    jacket = {"coolant T": "T", "coolant flow": "flow", "U": "U", "UA": "UA"}
    if name in jacket and isinstance(vessel.heat, Jacket):
        return vessel.with_(heat=replace(vessel.heat, **{jacket[name]: value}))
    fields: dict[str, Any] = {size: None for size in vessel.sizes if name in vessel.sizes}
    return vessel.with_(**{**fields, name: value})


@dataclass(frozen=True)
class Change(Printed):
    """A step or ramp of a condition while a vessel runs.

    Parameters
    ----------
    what : str
        "flow", "feed T", "[A]" (of the feed), "coolant T", "T" and so on.
    to : value
        What it becomes.
    at : time
        When it begins.
    over : time, optional
        How long it takes, in a straight line; a step if left out.

    Raises
    ------
    InputError
        If a time is none.
    """

    what: str
    to: Any
    at: Any = 0.0
    over: Any = 0.0

    def __post_init__(self) -> None:
        faults = Faults()
        for name in ("at", "over"):
            with faults.at(f"change of {self.what}"):
                object.__setattr__(self, name, units.positive(getattr(self, name), "time", name, zero=True))
        faults.raise_any()

    def __str__(self) -> str:
        ramp = f" over {self.over}" if self.over.si else ""
        return f"{self.what} to {self.to} at {self.at}{ramp}"


def changed_tracks(vessel: Vessel, changes: Sequence[Change]) -> Mapping[sp.Symbol, Track]:
    """The numbers that changes move, over time: each from the vessel before the change to the vessel after it.

    Raises
    ------
    InputError
        With every change that is none, and those that overlap in one number.
    """
    faults = Faults()
    points: dict[sp.Symbol, list[tuple[float, float]]] = {}
    for change in sorted(changes, key=lambda c: c.at.si):
        with faults.at(f"change of {change.what}"):
            after = under(vessel, change.what, change.to)
            if after.written.balances is not vessel.written.balances:
                raise InputError("changes the form of the balances", "", "change a number that is there already")
            if change.what in vessel.sizes:
                raise InputError("a vessel keeps its size while it runs", "", "change feed, flow, T or coolant")
            begin, end = change.at.si, change.at.si + change.over.si
            for symbol, was, now in zip(
                vessel.written.balances.parameters, vessel.case.values, after.case.values, strict=True
            ):
                if was == now or str(symbol).startswith("start"):
                    continue
                held = points.setdefault(symbol, [(0.0, was)])
                if held[-1][0] > begin:
                    raise InputError("begins before the last change of the same number ends", "", "put them one by one")
                held += [(begin, was), (end, now)]
            vessel = after
    faults.raise_any(vessel.label)
    return {s: Track(tuple(t for t, _ in p), tuple(v for _, v in p)) for s, p in points.items()}
