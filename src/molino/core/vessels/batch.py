"""The batch vessel."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.system import Balances
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.structure import Structure
from molino.core.errors import Faults, InputError
from molino.core.units import Value
from molino.core.vessels.base import (
    VOLUME,
    Vessel,
    Written,
    check_vessel,
    convert,
    derived,
    kinetics,
    parameters,
    states,
    total,
)
from molino.core.vessels.feed import Contents, Feed, inlet_symbol
from molino.core.vessels.run import Run, follow


@lru_cache(maxsize=256)
def _write(structure: Structure) -> Written:
    charged = [VOLUME * inlet_symbol(s) for s in structure.species]
    held = states(structure, "n", "amount", charged, VOLUME * total(structure, inlet_symbol))
    amounts = tuple(s.symbol for s in held)
    content = kinetics(structure, amounts, VOLUME)
    balances = Balances(
        sp.Symbol("t"),
        held,
        content.definitions,
        tuple(VOLUME * made for made in content.production),
        parameters(structure, VOLUME),
        derived(structure),
    )
    return Written(
        balances, dict(zip(structure.species, charged, strict=True)), dict(zip(structure.species, amounts, strict=True))
    )


@dataclass(frozen=True)
class Batch(Vessel):
    """A well-mixed batch of liquid at constant temperature and volume.

    dn_i/dt = V sum_j nu_ij r_j (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 1.3).

    Parameters
    ----------
    chemistry : Chemistry
    charge : mapping of species to concentration or amount, or Feed
        What is in it at the start; a bare number is mol/m^3. Amounts ("2 kmol") need the volume. A `Feed` charges its
        concentrations, to set a batch beside vessels on the same feed.
    T : temperature, optional
        Needed where a rate constant depends on it; that of the feed, if one is the charge.
    volume : optional
        Of liquid; 1 m^3 if left out, as a basis.
    time : optional
        Batch time; what `run()` runs to and `size(vary="time")` finds.
    catalyst : Catalyst, optional
        Where a rate is per catalyst mass, catalyst volume or area.
    name : str
        For tables and messages.
    show : mapping of kind to unit
        Units for results, e.g. {"time": "h"}; otherwise those in which the inputs came.
    """

    noun: ClassVar[str] = "batch"
    sizes: ClassVar[tuple[str, ...]] = ("time",)
    chemistry: Chemistry
    charge: Any
    T: Any = None
    volume: Any = None
    time: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        if isinstance(self.charge, Feed):
            object.__setattr__(self, "T", self.T or self.charge.T)
            object.__setattr__(self, "charge", self.charge.per_volume())
        convert(faults, self, T="temperature", volume="volume", time="time")
        species = None
        with faults.at(self.label):
            object.__setattr__(self, "charge", Contents(self.charge, "amount", "charge"))
            species = list(self.charge)
            if self.charge.totals and self.volume is None:
                said = f"the charge gives amounts ({', '.join(self.charge.totals)}) but there is no volume"
                raise InputError(said, "charge", "give the volume, or concentrations")
        check_vessel(faults, self, species, self.T)
        faults.raise_any()

    def write(self) -> Written:
        return _write(self.chemistry.structure)

    def inlet(self) -> dict[str, float]:
        contents: Contents = self.charge
        return contents.concentrations(self.volume.si if self.volume is not None else 1.0)

    def numbers(self) -> dict[sp.Symbol, float]:
        return {
            TEMPERATURE: self.T.si if self.T is not None else np.nan,
            VOLUME: self.volume.si if self.volume is not None else 1.0,
        }

    @property
    def end(self) -> float:
        return float(self.time.si) if self.time is not None else np.nan

    def given(self) -> list[tuple[str, Value | None]]:
        return [*self.charge.given(), ("time", self.time), ("volume", self.volume), ("temperature", self.T)]

    def run(self, time: Any = None, points: Any = 101) -> Run:
        """Follow the batch from the charge to `time` (default: its own batch time).

        Parameters
        ----------
        time : str, float or quantity, optional
        points : int or array of s
            How many rows the result has, evenly spaced, or at which times (0 and the end are put in if missing).

        Raises
        ------
        InputError
            If there is no time, or constants are still unknown.
        SolveError
            If the integration cannot go on.
        """
        given = self.time if time is None else units.positive(time, "time", f"{self.label}, time")
        if given is None:
            raise InputError(
                "no batch time is given", self.label, "give time='3 h', or size it: mo.size(..., vary='time')"
            )
        vessel = self if time is None else self.with_(time=given)
        return follow(vessel, given.si, points)

    def outcome(self) -> Run:
        return self.run()

    def __str__(self) -> str:
        size = f" of {self.volume}" if self.volume is not None else ""
        at = f" at {self.T}" if self.T is not None else ""
        return f"{self.title}{size} charged with {self.charge}{at}" + (f", {self.time}" if self.time else "")
