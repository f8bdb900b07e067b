"""Streams between vessels: outlets as feeds, mixing of streams, and the stream table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import lru_cache

import numpy as np
import scipy
import sympy as sp

from molino.core.annotations import PlainData
from molino.core.balances.balance_symbols import FLOW, MOLAR_FLOW
from molino.core.balances.source import Generated, build
from molino.core.balances.system import TIME
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.species import Species
from molino.core.contents.feed import Feed, volume_model
from molino.core.contents.mixture import Contents
from molino.core.display import Display
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.results import Table, entry, frame
from molino.core.thermo.energy import CAPACITY, reference
from molino.core.thermo.phase_model import Content, PhaseModel
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
    amounts: Mapping[str, float]
    volume: float
    T: float
    P: float
    is_flowing: bool = True

    def named(self, name: str) -> Stream:
        return replace(self, name=name)


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


@lru_cache(maxsize=64)
def _enthalpy(phase: PhaseModel) -> Generated:
    """make(enthalpies, heat capacity)(flows, T, P, volume) of a medium."""
    definitions, whole, states, parameters = _enthalpy_symbols(phase)
    return build(definitions, [whole], states, TIME, parameters)


@lru_cache(maxsize=64)
def _enthalpy_gradient(phase: PhaseModel) -> Generated:
    """The same for its slopes by flows, T, P and volume."""
    definitions, whole, states, parameters = _enthalpy_symbols(phase)
    for symbol in reversed(definitions):
        whole = whole.xreplace({symbol: definitions[symbol]})
    return build({}, [whole.diff(s) for s in states], states, TIME, parameters)


def _enthalpy_symbols(
    phase: PhaseModel,
) -> tuple[dict[sp.Symbol, sp.Expr], sp.Expr, tuple[object, ...], tuple[object, ...]]:
    flows = tuple(MOLAR_FLOW(s) for s in phase.species)
    content = Content(phase, flows, TEMPERATURE, PRESSURE)
    states = (*flows, TEMPERATURE, PRESSURE, FLOW)
    parameters = (*(reference(s) for s in phase.species), CAPACITY)
    return dict(content.definitions), phase.enthalpy(content, FLOW), states, parameters


def enthalpy(fluid: Fluid, stream: Stream, T: float | None = None) -> float:
    """Enthalpy flow of a stream in W.

    Raises
    ------
    InputError
        If the fluid has no enthalpies.
    """
    if fluid.phase.energy is None:
        message = "the enthalpies of this stream are unknown"
        raise fluid.lacks or InputError(message, fluid.label, "give heat capacities, and a temperature")
    names = fluid.phase.species
    values = [*(fluid.numbers[reference(s)] for s in names), fluid.numbers.get(CAPACITY, np.nan)]
    flows = [stream.amounts.get(s, 0.0) for s in names]
    state = np.array([*flows, stream.T if T is None else T, stream.P, stream.volume])
    return float(_enthalpy(fluid.phase)(values)(state, 0.0)[0])


def enthalpy_slopes(fluid: Fluid, stream: Stream) -> tuple[float, dict[str, float], float, float, float]:
    """Enthalpy flow of a stream in W, and its slopes by the amounts, by T, by the volume and by P."""
    names = fluid.phase.species
    values = [*(fluid.numbers[reference(s)] for s in names), fluid.numbers.get(CAPACITY, np.nan)]
    state = np.array([*(stream.amounts.get(s, 0.0) for s in names), stream.T, stream.P, stream.volume])
    by = _enthalpy_gradient(fluid.phase)(values)(state, 0.0)
    n = len(names)
    return enthalpy(fluid, stream), dict(zip(names, by, strict=False)), by[n], by[n + 2], by[n + 1]


def at_enthalpy(fluid: Fluid, stream: Stream, wanted: float) -> Stream:
    """The same stream at the temperature that gives it an enthalpy flow."""

    def off(T: float) -> float:
        return enthalpy(fluid, stream, T) - wanted

    low, high = 150.0, 3000.0
    if off(low) * off(high) > 0:
        message = f"no temperature between {low:g} and {high:g} K gives the stream its enthalpy"
        raise SolveError(message, fluid.label, "check the heat capacities and the heat removed")
    return replace(stream, T=float(scipy.optimize.brentq(off, low, high, xtol=1e-11, rtol=1e-15)))


def adiabatic_rise(fluid: Fluid, start: Stream, net: Mapping[str, Fraction]) -> float:
    """Adiabatic temperature rise in K of a stream by one reaction, to the exhaustion of the limiting reactant."""
    extent = min(start.amounts[s] / -float(moles) for s, moles in net.items() if moles < 0)
    if extent <= 0:
        raise InputError("a reactant of it is missing", fluid.label, "feed it")
    spent = {s: n + extent * float(net.get(s, 0)) for s, n in start.amounts.items()}
    return float(at_enthalpy(fluid, replace(start, amounts=spent), enthalpy(fluid, start)).T - start.T)


def mixed(fluid: Fluid, streams: Sequence[Stream], name: str) -> Stream:
    """Mix streams: amounts, volumes (of liquids) and enthalpies are added; the pressure is the lowest.

    The temperature is the common one if all are equal and mix without heat, otherwise that of the sum of the
    enthalpies; InputError if properties are missing for it.
    """
    amounts = {s: sum(x.amounts.get(s, 0.0) for x in streams) for s in fluid.phase.species}
    pressures = [x.P for x in streams if np.isfinite(x.P)]
    whole = Stream(name, amounts, sum(x.volume for x in streams), streams[0].T, min(pressures, default=np.nan))
    warm = [x.T for x in streams if np.isfinite(x.T)]
    alike = not warm or max(warm) - min(warm) <= 1e-12 * max(warm)
    if alike and (not warm or fluid.phase.energy is None or not fluid.phase.mixes_with_heat):
        return whole
    return at_enthalpy(fluid, whole, sum(enthalpy(fluid, x) for x in streams))


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
        row(share_label(s, "mol"), "number", [x.amounts.get(s, 0.0) / n for x, n in zip(streams, totals, strict=True)])
    if weights and whole:
        for s in names:
            shares = [x.amounts.get(s, 0.0) * by_mass[s] / w for x, w in zip(streams, weights, strict=True)]
            row(share_label(s, "kg"), "number", shares)
    row("volumetric flow" if streams[0].is_flowing else "volume", kinds[2], [x.volume for x in streams])
    row("temperature", "temperature", [x.T for x in streams])
    row("pressure", "pressure", [x.P for x in streams])
    if weights and whole:
        row("density", "density", [w / x.volume for w, x in zip(weights, streams, strict=True)])
    return frame(
        [[label.replace("  [", " ["), *values] for label, values in rows], columns=["stream", *_distinct(streams)]
    )


def _distinct(streams: Sequence[Stream]) -> list[str]:
    """A heading for each stream, numbered where two have the same name."""
    found: list[str] = []
    for stream in streams:
        heading, count = stream.name, 2
        while heading in found or heading == "stream":
            heading, count = f"{stream.name} {count}", count + 1
        found.append(heading)
    return found
