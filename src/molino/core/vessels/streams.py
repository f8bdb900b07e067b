"""Streams between vessels: what leaves one as the feed of the next, streams that meet, and the table of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np
import sympy as sp
from scipy.optimize import brentq

from molino.core.balances.source import build
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.species import Species
from molino.core.errors import InputError
from molino.core.thermo.energy import CAPACITY, reference
from molino.core.thermo.medium import Content, Medium
from molino.core.units import Display, Value
from molino.core.vessels.base import Vessel
from molino.core.vessels.feed import Feed
from molino.core.vessels.mixture import Contents
from molino.core.vessels.run import Run
from molino.core.vessels.writing import FLOW, HELD, LOCAL_FLOW, VOLUME

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Stream:
    """What flows at one place, or is held in a batch.

    In SI: mol/s and m^3/s (mol and m^3), K and Pa; nan where T or P is not known.
    """

    name: str
    amounts: Mapping[str, float]
    volume: float
    T: float
    P: float
    flowing: bool = True

    def named(self, name: str) -> Stream:
        return replace(self, name=name)


def _at(run: Run, place: int, symbol: sp.Symbol) -> float:
    """A symbol of the balances at one point of a run; nan if it is none of theirs."""
    balances = run.last_case.balances
    known = {*balances.symbols, *balances.parameters, *(s for s, _ in balances.definitions)}
    return float(run.evaluate((symbol,))[0][place]) if symbol in known else np.nan


def inlet_of(run: Run) -> Stream:
    """What goes into a vessel."""
    written = run.vessel.written
    flowing = hasattr(run.vessel, "feed")
    rows = run.evaluate(tuple(written.inlet[s] for s in run.vessel.chemistry.names))
    place = -1 if not flowing or run.is_steady or not hasattr(run.vessel, "length") else 0
    amounts = {s: float(row[place]) for s, row in zip(run.vessel.chemistry.names, rows, strict=True)}
    if not flowing:
        T = run.temperatures[0] if "T" in run.derived else _at(run, 0, TEMPERATURE)
        dosed = bool(getattr(run.vessel, "doses", ()))
        volume = np.nan if dosed else _at(run, 0, VOLUME)
        return Stream("charged and fed" if dosed else "charge", amounts, volume, float(T), _pressure(run, 0), False)
    feed = run.vessel.feed  # type: ignore[attr-defined]
    T = feed.T.si if feed.T is not None else _at(run, 0, TEMPERATURE)
    P = run.vessel.feed_pressure()
    return Stream("feed", amounts, run.vessel.fed.volume, float(T), P)


def outlet_of(run: Run) -> Stream:
    """What comes out of a vessel, or is in a batch at its end."""
    rows = run.evaluate(tuple(run.vessel.written.outlet[s] for s in run.vessel.chemistry.names))
    amounts = {s: float(row[-1]) for s, row in zip(run.vessel.chemistry.names, rows, strict=True)}
    flowing = hasattr(run.vessel, "feed")
    volume = _at(run, -1, LOCAL_FLOW if flowing else HELD)
    if not np.isfinite(volume):
        volume = _at(run, -1, FLOW if flowing else VOLUME)
    T = float(run.temperatures[-1]) if "T" in run.derived else _at(run, -1, TEMPERATURE)
    names = run.vessel.written.followed.names
    left = any(name.endswith(" out") for name in names)
    held = "contents, with what left" if left else "contents"
    return Stream("outlet" if flowing else held, amounts, volume, T, _pressure(run, -1), flowing)


def _pressure(run: Run, place: int) -> float:
    found = _at(run, place, PRESSURE)
    if np.isfinite(found) or not hasattr(run.vessel, "feed"):
        return found
    return run.vessel.feed_pressure()


def as_feed(stream: Stream, like: Feed) -> Feed:
    """A stream as the feed of a vessel, with the properties of another feed of the same fluid."""
    contents = {s: Value(n, "mol/s") for s, n in stream.amounts.items()}
    gas = like.is_gas
    T = Value(stream.T, "K") if np.isfinite(stream.T) else None
    P = Value(stream.P, "Pa") if np.isfinite(stream.P) and (gas or like.P is not None) else None
    if gas or like.model == "additive volumes":
        return replace(like, contents=Contents(contents, True, "feed"), flow=None, T=T, P=P)
    held = {s: Value(n / stream.volume) for s, n in stream.amounts.items()}
    return replace(like, contents=Contents(held, True, "feed"), flow=Value(stream.volume, "m^3/s"), T=T, P=P)


@lru_cache(maxsize=64)
def _enthalpy(medium: Medium) -> Any:
    """make(enthalpies, heat capacity)(flows, T, P, volume) of a medium."""
    flows = tuple(sp.Symbol(f"F_{s}") for s in medium.species)
    carried = sp.Symbol("carried")
    content = Content(medium, flows, TEMPERATURE, PRESSURE)
    states = (*flows, TEMPERATURE, PRESSURE, carried)
    parameters = (*(reference(s) for s in medium.species), CAPACITY)
    return build(dict(content.definitions), [medium.enthalpy(content, carried)], states, sp.Symbol("t"), parameters)


def enthalpy(vessel: Vessel, stream: Stream, T: float | None = None) -> float:
    """Enthalpy flow of a stream in W, in the fluid of a vessel.

    Raises
    ------
    InputError
        With what the species lack for it.
    """
    vessel.require_heat()
    numbers = vessel.property_numbers()
    values = [*(numbers[reference(s)] for s in vessel.chemistry.names), numbers.get(CAPACITY, np.nan)]
    flows = [stream.amounts.get(s, 0.0) for s in vessel.chemistry.names]
    state = np.array([*flows, stream.T if T is None else T, stream.P, stream.volume])
    return float(_enthalpy(vessel.medium)(values)(state, 0.0)[0])


def at_enthalpy(vessel: Vessel, stream: Stream, wanted: float) -> Stream:
    """The same stream at the temperature at which it carries an enthalpy flow."""

    def off(T: float) -> float:
        return enthalpy(vessel, stream, T) - wanted

    low, high = 150.0, 3000.0
    if off(low) * off(high) > 0:
        said = f"no temperature between {low:g} and {high:g} K gives the stream its enthalpy"
        raise InputError(said, vessel.label, "check the heat capacities and what is taken away")
    return replace(stream, T=float(brentq(off, low, high, xtol=1e-11, rtol=1e-15)))


def adiabatic_rise(vessel: Vessel, reaction: str | None) -> float:
    """Adiabatic temperature rise in K; see `Vessel.adiabatic_rise`."""
    names = [str(r.name) for r in vessel.chemistry.reactions]
    if reaction is None and len(names) > 1:
        raise InputError("which reaction?", vessel.label, f"name one of {', '.join(names)}")
    net = vessel.chemistry.reaction(reaction or names[0]).equation.net
    vessel.require_heat()
    feed = getattr(vessel, "feed", None)
    T = feed.T if feed is not None else vessel.start_T
    if T is None:
        raise InputError("no temperature is given", vessel.label, "give T")
    P = vessel.feed_pressure() if feed is not None else vessel.case.values_by_symbol.get(PRESSURE, np.nan)
    start = Stream("start", vessel.inlet_flows(), vessel.fed.volume, T.si, float(P))
    extent = min(start.amounts[s] / -float(moles) for s, moles in net.items() if moles < 0)
    if extent <= 0:
        raise InputError("a reactant of it is missing", vessel.label, "feed it")
    spent = {s: n + extent * float(net.get(s, 0)) for s, n in start.amounts.items()}
    return float(at_enthalpy(vessel, replace(start, amounts=spent), enthalpy(vessel, start)).T - T.si)


def mixed(vessel: Vessel, streams: Sequence[Stream], name: str) -> Stream:
    """Streams that meet: amounts, volumes (of liquids) and enthalpies add up, the lowest pressure is that of all.

    The temperature is that of all where they have the same, otherwise that at which the sum of the enthalpies is
    carried. InputError where that takes what the species lack.
    """
    amounts = {s: sum(x.amounts.get(s, 0.0) for x in streams) for s in vessel.chemistry.names}
    pressures = [x.P for x in streams if np.isfinite(x.P)]
    whole = Stream(name, amounts, sum(x.volume for x in streams), streams[0].T, min(pressures, default=np.nan))
    warm = [x.T for x in streams if np.isfinite(x.T)]
    if not warm or max(warm) - min(warm) <= 1e-12 * max(warm):
        return whole
    return at_enthalpy(vessel, whole, sum(enthalpy(vessel, x) for x in streams))


def is_whole(vessel: Vessel, stream: Stream) -> bool:
    """Whether the species of a stream are all that is in it, and not only what is dissolved.

    Of a gas and of an additive liquid they are; of a liquid of constant density if they weigh what its density says.
    """
    if not vessel.medium.carries_volume:
        return True
    density = getattr(getattr(vessel, "feed", vessel), "density", None)
    known = all(s.formula is not None or s.molar_mass is not None for s in vessel.chemistry.species)
    if density is None or not known or not stream.volume > 0:
        return False
    mass = sum(n * vessel.by_name[s].require("molar_mass", "the stream table").si for s, n in stream.amounts.items())
    return bool(abs(mass / stream.volume / density.si - 1) < 0.01)


def stream_table(
    streams: Sequence[Stream], species: Mapping[str, Species], display: Display, whole: bool
) -> pd.DataFrame:  # fmt: skip
    """Streams side by side: flows (molar and by mass), fractions, totals, temperature, pressure and density.

    Masses stand only where every species there has a formula or a molar mass, fractions and density only where the
    species are all that there is (`whole`).
    """
    import pandas as pd

    flowing = streams[0].flowing
    kinds = ("molar flow", "mass flow", "volumetric flow") if flowing else ("amount", "mass", "volume")
    names = list(dict.fromkeys(s for x in streams for s in x.amounts))
    masses = {}
    for name in names:
        one = species[name]
        if one.molar_mass is not None or one.formula is not None:
            masses[name] = float(one.require("molar_mass", "the stream table").si)
    with_mass = len(masses) == len(names)
    rows: dict[str, list[float]] = {}

    def row(label: str, kind: str, numbers: Sequence[float]) -> None:
        if np.isfinite(numbers).any():
            rows[display.label(label, kind)] = [float(display.number(n, kind)) for n in numbers]

    def share_label(name: str, unit: str) -> str:
        words = {"mol": "fraction", "kg": "share by weight"}
        return f"{words[unit]} of {name}" if display.bare else f"{name} [{unit}/{unit}]"

    totals = [sum(x.amounts.values()) for x in streams]
    for s in names:
        row(s, kinds[0], [x.amounts.get(s, 0.0) for x in streams])
    row("total", kinds[0], totals)
    if with_mass:
        weights = [sum(n * masses[s] for s, n in x.amounts.items()) for x in streams]
        for s in names:
            row(f"{s} ", kinds[1], [x.amounts.get(s, 0.0) * masses[s] for x in streams])
        row("total ", kinds[1], weights)
    for s in names if whole else ():
        row(share_label(s, "mol"), "number", [x.amounts.get(s, 0.0) / n for x, n in zip(streams, totals, strict=True)])
    if with_mass and whole:
        for s in names:
            shares = [x.amounts.get(s, 0.0) * masses[s] / w for x, w in zip(streams, weights, strict=True)]
            row(share_label(s, "kg"), "number", shares)
    row("volumetric flow" if flowing else "volume", kinds[2], [x.volume for x in streams])
    row("temperature", "temperature", [x.T for x in streams])
    row("pressure", "pressure", [x.P for x in streams])
    if with_mass and whole:
        row("density", "density", [w / x.volume for w, x in zip(weights, streams, strict=True)])
    headings = [x.name for x in streams]
    table = pd.DataFrame(list(rows.values()), columns=headings)
    table.insert(0, "stream", [label.replace("  [", " [") for label in rows])
    return table
