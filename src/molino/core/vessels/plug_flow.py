"""The plug-flow tube."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, ClassVar

import numpy as np
import sympy as sp

from molino.core.balances.system import Balances
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.structure import Structure
from molino.core.errors import Faults, InputError
from molino.core.units import GAS_CONSTANT, Value
from molino.core.vessels.base import (
    FLOW,
    LOCAL_FLOW,
    Vessel,
    Written,
    check_vessel,
    convert,
    derived,
    feed_pressure,
    kinetics,
    parameters,
    states,
    total,
)
from molino.core.vessels.feed import Feed, inlet_symbol, require_feed
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.run import Run, follow


@lru_cache(maxsize=256)
def _write(structure: Structure, gas: bool) -> Written:
    fed = [FLOW * inlet_symbol(s) for s in structure.species]
    flowing = states(structure, "F", "molar flow", fed, FLOW * total(structure, inlet_symbol))
    flows = tuple(s.symbol for s in flowing)
    here = LOCAL_FLOW if gas else FLOW
    content = kinetics(structure, flows, here)
    definitions, more = content.definitions, [FLOW]
    if gas:  # an ideal gas at constant pressure: the flow follows the moles
        definitions = ((LOCAL_FLOW, TEMPERATURE / PRESSURE * GAS_CONSTANT * sp.Add(*flows)), *definitions)
        more = [FLOW, PRESSURE]
    balances = Balances(
        sp.Symbol("V"), flowing, definitions, content.production, parameters(structure, *more), derived(structure)
    )
    return Written(
        balances, dict(zip(structure.species, fed, strict=True)), dict(zip(structure.species, flows, strict=True))
    )


@dataclass(frozen=True)
class PlugFlow(Vessel):
    """A tube in plug flow: steady, isothermal, a liquid of constant density or an ideal gas of constant pressure.

    dF_i/dV = sum_j nu_ij r_j, in a gas with Q = sum(F) R T / P (O. Levenspiel, Chemical Reaction Engineering, 3rd ed.
    1999, ch. 5).

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
    diameter, length : optional
        Inner diameter and length of a tube; without length, `mo.size` finds it.
    tubes : int
        Tubes in parallel, sharing the feed.
    volume : optional
        Of all tubes together; instead of diameter and length.
    space_time : optional
        Volume over volumetric flow; instead of volume.
    T : temperature, optional
        Of the tube; that of the feed if left out.
    catalyst, name, show
        As for `Batch`.
    """

    noun: ClassVar[str] = "plug flow"
    sizes: ClassVar[tuple[str, ...]] = ("length", "volume", "space_time")
    chemistry: Chemistry
    feed: Feed
    diameter: Any = None
    length: Any = None
    tubes: int = 1
    volume: Any = None
    space_time: Any = None
    T: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        require_feed(self.feed, self.label)
        faults = Faults()
        convert(
            faults, self, diameter="diameter", length="length", volume="volume", space_time="time", T="temperature"
        )  # fmt: skip
        given = [n for n in ("length", "volume", "space_time") if getattr(self, n) is not None]
        if len(given) > 1:
            faults.add(self.label, f"{' and '.join(given)} say the same thing twice", "give one of them")
        if self.length is not None and self.diameter is None:
            faults.add(self.label, "a length is given but no diameter", "give the diameter, or the volume instead")
        if isinstance(self.tubes, bool) or not isinstance(self.tubes, int) or self.tubes < 1:
            faults.add(self.label, f"tubes = {self.tubes!r}", "give a whole number of tubes, 1 or more")
        check_vessel(faults, self, self.feed.contents, self.T or self.feed.T)
        faults.raise_any()

    @property
    def area(self) -> float:
        """Cross-section of all tubes in m^2; nan without a diameter."""
        return self.tubes * math.pi / 4 * self.diameter.si**2 if self.diameter is not None else math.nan

    @property
    def volume_si(self) -> float:
        """Volume of all tubes in m^3; nan while it is not known."""
        if self.volume is not None:
            return float(self.volume.si)
        if self.space_time is not None:
            return float(self.space_time.si * self.fed.volume)
        return float(self.length.si * self.area) if self.length is not None else math.nan

    def write(self) -> Written:
        return _write(self.chemistry.structure, self.gas)

    @property
    def gas(self) -> bool:
        return self.feed.is_gas

    def mixture(self) -> Mixture:
        return self.feed.mixture(self.by_name)

    def numbers(self) -> dict[sp.Symbol, float]:
        T = self.T or self.feed.T
        return {TEMPERATURE: T.si if T is not None else np.nan, FLOW: self.fed.volume, PRESSURE: feed_pressure(self)}

    @property
    def end(self) -> float:
        return self.volume_si

    def given(self) -> list[tuple[str, Value | None]]:
        own = [("length", self.length), ("diameter", self.diameter), ("volume", self.volume), ("time", self.space_time)]
        return [*own, ("temperature", self.T), *self.feed.given()]

    def run(self, points: Any = 101) -> Run:
        """Follow the feed from the inlet to the end of the tube.

        Parameters
        ----------
        points : int or array of m^3
            How many rows the result has, evenly spaced, or at which volumes from the inlet (0 and the end are put in
            if missing).

        Raises
        ------
        InputError
            If there is no length or volume, or constants are still unknown.
        SolveError
            If the integration cannot go on.
        """
        if not math.isfinite(self.volume_si):
            advice = "give length='60 m' (with a diameter) or volume='2 m3', or size it: mo.size(...)"
            raise InputError("no length or volume is given", self.label, advice)
        return follow(self, self.volume_si, points)

    def outcome(self) -> Run:
        return self.run()

    def __str__(self) -> str:
        many = f"{self.tubes} tubes" if self.tubes > 1 else "tube"
        sizes = [
            f"of diameter {self.diameter}" if self.diameter else "",
            f"length {self.length}" if self.length else "",
        ]
        sizes += [
            f"volume {self.volume}" if self.volume else "",
            f"space time {self.space_time}" if self.space_time else "",
        ]
        size = ", ".join(s for s in sizes if s)
        at = f" at {self.T}" if self.T is not None else ""
        return f"{self.title}, {many}{' ' + size if size else ''}{at} fed {self.feed}"
