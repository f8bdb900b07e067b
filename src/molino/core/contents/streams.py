"""Streams between vessels: outlets as feeds, and the stream table."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.annotations import PlainData
from molino.core.chemistry.species import Species
from molino.core.contents.feed import Feed, volume_model
from molino.core.contents.mixture import Contents
from molino.core.display import Display
from molino.core.dual import Number, value_of
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.results import Table, entry, frame
from molino.core.thermo.phase_model import PhaseModel
from molino.core.units import Value


@dataclass(frozen=True, eq=False)
class Stream(Frozen):
    """A stream at one place, or the contents of a batch.

    In SI: mol/s and m^3/s (mol and m^3), K and Pa.

    Attributes
    ----------
    name : str
    amounts : mapping of species to float
        Molar flow in mol/s; of contents the amount in mol.
    volume : float
        Volumetric flow in m^3/s, or volume in m^3.
    T, P : float
        In K and Pa; nan if unknown.
    is_flowing : bool
    phase : str
        "liquid" or "gas" if it is not the phase of the fluid of its vessel, otherwise ''.

    Between the steps of a train the numbers may be `Dual`.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> stream = tube.run().stream_out()
    >>> stream.name, round(stream.amounts["A"] * 60, 4)
    ('outlet', 0.3679)
    """

    name: str
    amounts: Mapping[str, Number]
    volume: Number
    T: Number
    P: Number
    is_flowing: bool = True
    phase: str = ""

    def named(self, name: str) -> Stream:
        return replace(self, name=name)

    def plain(self) -> Stream:
        """Its values without derivatives."""
        amounts = {s: float(value_of(n)) for s, n in self.amounts.items()}
        volume, T, P = (float(value_of(x)) for x in (self.volume, self.T, self.P))
        return replace(self, amounts=amounts, volume=volume, T=T, P=P)

    @property
    def total(self) -> Number:
        """The sum of its amounts."""
        return sum(self.amounts.values())

    def part(self, share: Number) -> Stream:
        """A part of it, in the same state."""
        return replace(self, amounts={s: n * share for s, n in self.amounts.items()}, volume=self.volume * share)


@dataclass(frozen=True, eq=False)
class Fluid:
    """The fluid of a stream: the medium with its numbers, and the species.

    `density` is that of the whole in kg/m^3, if given; `label` names the fluid in messages.
    """

    label: str
    phase: PhaseModel
    numbers: Mapping[sp.Symbol, float]
    species: tuple[Species, ...]
    density: float | None = None
    lacks: InputError | None = None
    """Properties of species that an enthalpy needs and that are missing."""

    @cached_property
    def functions(self) -> dict[object, Callable[[np.ndarray, float], list[float]]]:
        """The compiled functions of its properties that have been used."""
        return {}

    def mass_of(self, amounts: Mapping[str, float]) -> float | None:
        """The mass of some amounts in kg; None where a species has neither formula nor molar mass."""
        if any(s.formula is None and s.molar_mass is None for s in self.species):
            return None
        masses = {s.name: float(s.require("molar_mass", "the stream table").si) for s in self.species}
        return sum(n * masses[s] for s, n in amounts.items())


def stream_dict(stream: Stream, display: Display) -> PlainData:
    """A stream as plain data, in the units shown."""
    kind, volume = ("molar flow", "volumetric flow") if stream.is_flowing else ("amount", "volume")
    found: PlainData = {
        "name": stream.name,
        kind.replace(" ", "_"): {
            "unit": display.unit(kind),
            **{s: float(display.number(n, kind)) for s, n in stream.amounts.items()},
        },
    }
    for what, value in ((volume, stream.volume), ("temperature", stream.T), ("pressure", stream.P)):
        if np.isfinite(value):
            found[what.replace(" ", "_")] = entry(display, value, what)
    return found


def as_feed(stream: Stream, like: Feed) -> Feed:
    """A stream as the feed of a vessel, with the properties of another feed of the same fluid.

    Negative flows of a run are rounding (larger ones are refused there), and become zero.
    """
    amounts = {s: max(n, 0.0) for s, n in stream.amounts.items()}
    contents = {s: Value(n, "mol/s") for s, n in amounts.items()}
    gas = like.is_gas
    T = Value(stream.T, "K") if np.isfinite(stream.T) else None
    P = Value(stream.P, "Pa") if np.isfinite(stream.P) and (gas or like.P is not None) else None
    if gas or volume_model(like.model) == "additive volumes":
        return replace(like, contents=Contents(contents, True, "feed"), flow=None, T=T, P=P)
    held = {s: Value(n / stream.volume) for s, n in amounts.items()}
    return replace(like, contents=Contents(held, True, "feed"), flow=Value(stream.volume, "m^3/s"), T=T, P=P)


def is_whole(fluid: Fluid, stream: Stream) -> bool:
    """Whether the species are the whole stream, and not only solutes.

    True for a gas and an additive liquid; for a liquid of constant density if their mass agrees with its density.
    """
    if not fluid.phase.carries_volume:
        return True
    if fluid.density is None or not stream.volume > 0:
        return False
    mass = fluid.mass_of(stream.amounts)
    return mass is not None and bool(abs(mass / stream.volume / fluid.density - 1) < 0.01)


def stream_table(streams: Sequence[Stream], fluid: Fluid, display: Display, whole: bool) -> Table:
    """The stream table: molar and mass flows, fractions, totals, temperature, pressure and density.

    Masses are given if every species has a formula or a molar mass, fractions and density if the species are the whole
    stream (`whole`).
    """
    kinds = ("molar flow", "mass flow", "volumetric flow") if streams[0].is_flowing else ("amount", "mass", "volume")
    names = list(dict.fromkeys(s for x in streams for s in x.amounts))
    masses = {s.name: fluid.mass_of({s.name: 1.0}) for s in fluid.species}
    rows: list[tuple[str, list[float]]] = []

    def row(label: str, kind: str, numbers: Sequence[float]) -> None:
        if np.isfinite(numbers).any():
            rows.append((display.label(label, kind), [float(display.number(n, kind)) for n in numbers]))

    def share_label(name: str, unit: str) -> str:
        words = {"mol": "fraction", "kg": "share by weight"}
        return f"{words[unit]} of {name}" if display.unitless else f"{name} [{unit}/{unit}]"

    totals = [sum(x.amounts.values()) for x in streams]
    for s in names:
        row(s, kinds[0], [x.amounts.get(s, 0.0) for x in streams])
    row("total", kinds[0], totals)
    weights: list[float] = []
    if all(masses[s] is not None for s in names):
        by_mass = {s: float(masses[s] or 0.0) for s in names}
        weights = [sum(n * by_mass[s] for s, n in x.amounts.items()) for x in streams]
        for s in names:
            row(s, kinds[1], [x.amounts.get(s, 0.0) * by_mass[s] for x in streams])
        row("total", kinds[1], weights)
    for s in names if whole else ():
        parts = [_over(x.amounts.get(s, 0.0), n) for x, n in zip(streams, totals, strict=True)]
        row(share_label(s, "mol"), "number", parts)
    if weights and whole:
        for s in names:
            shares = [_over(x.amounts.get(s, 0.0) * by_mass[s], w) for x, w in zip(streams, weights, strict=True)]
            row(share_label(s, "kg"), "number", shares)
    row("volumetric flow" if streams[0].is_flowing else "volume", kinds[2], [x.volume for x in streams])
    row("temperature", "temperature", [x.T for x in streams])
    row("pressure", "pressure", [x.P for x in streams])
    if weights and whole:
        row("density", "density", [_over(w, x.volume) for w, x in zip(weights, streams, strict=True)])
    return frame(
        [[label.replace("  [", " ["), *values] for label, values in rows], columns=["stream", *_distinct(streams)]
    )


def _over(part: float, whole: float) -> float:
    """A ratio; nan of an empty stream."""
    return part / whole if whole else float("nan")


def _distinct(streams: Sequence[Stream]) -> list[str]:
    """A heading for each stream, numbered where two have the same name."""
    found: list[str] = []
    for stream in streams:
        heading, count = stream.name, 2
        while heading in found or heading == "stream":
            heading, count = f"{stream.name} {count}", count + 1
        found.append(heading)
    return found
