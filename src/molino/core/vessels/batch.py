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
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.structure import Structure
from molino.core.errors import Faults, InputError
from molino.core.units import GAS_CONSTANT, Value
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
from molino.core.vessels.feed import Feed, inlet_symbol
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.run import Run, follow


@lru_cache(maxsize=256)
def _write(structure: Structure, gas: bool) -> Written:
    charged = [VOLUME * inlet_symbol(s) for s in structure.species]
    held = states(structure, "n", "amount", charged, VOLUME * total(structure, inlet_symbol))
    amounts = tuple(s.symbol for s in held)
    content = kinetics(structure, amounts, VOLUME)
    definitions, shown = content.definitions, derived(structure)
    if gas:  # a rigid vessel: the pressure follows from what is in it
        definitions = ((PRESSURE, TEMPERATURE / VOLUME * GAS_CONSTANT * sp.Add(*amounts)), *definitions)
        shown = {**shown, "pressure": PRESSURE}
    balances = Balances(
        sp.Symbol("t"),
        held,
        definitions,
        tuple(VOLUME * made for made in content.production),
        parameters(structure, VOLUME),
        shown,
    )
    return Written(
        balances, dict(zip(structure.species, charged, strict=True)), dict(zip(structure.species, amounts, strict=True))
    )


def _read_total(given: Any) -> Value:
    value = units.read(given, name="total")
    kind = (
        "mass"
        if value.unit is not None and units.unit(value.unit).dimension == units.unit("kg").dimension
        else "amount"
    )
    return units.positive(value, kind, "total")


@dataclass(frozen=True)
class Batch(Vessel):
    """A well-mixed batch at constant temperature and volume: a liquid, or an ideal gas in a rigid vessel.

    dn_i/dt = V sum_j nu_ij r_j (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 1.3).

    Parameters
    ----------
    chemistry : Chemistry
    charge : mapping of species to quantity, or Feed
        What is in it at the start, in any way that `Feed` reads, amounts and masses ("2 kmol", "300 kg") in place of
        flows; a bare number is mol/m^3. A `Feed` charges its concentrations, to set a batch beside vessels on the same
        feed.
    T : temperature, optional
        Needed where a rate constant depends on it; that of the feed, if one is the charge.
    volume : optional
        Of what is in it. Left out it follows from the charge, or is 1 m^3 as a basis.
    total : optional
        Amount or mass of the whole charge, "20 kmol" or "1.5 t", beside fractions or ratios.
    P : optional
        Pressure of the charge; makes it an ideal gas. Partial pressures do so, too.
    density : optional
        Of the charge, where volume and mass must be brought together.
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
    total: Any = None
    P: Any = None
    density: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        convert(
            faults, self, T="temperature", volume="volume", time="time", P="pressure", density="density",
        )  # fmt: skip
        if isinstance(self.charge, Feed):
            with faults.at(self.label):
                self._charge_with(self.charge)
        if not isinstance(self.charge, Feed | Contents):
            with faults.at(self.label):
                object.__setattr__(self, "charge", Contents(self.charge, False, "charge"))
        species = list(self.charge) if isinstance(self.charge, Contents) else None
        if self.total is not None:
            with faults.at(self.label):
                object.__setattr__(self, "total", _read_total(self.total))
        check_vessel(faults, self, species, self.T)
        faults.raise_any()

    def _charge_with(self, feed: Feed) -> None:
        """Take over what a feed holds: its concentrations, temperature, and whether it is a gas."""
        mixture = feed.mixture(self.by_name)
        object.__setattr__(self, "T", self.T or feed.T)
        pressure = next((value for kind, value in feed.given() if kind == "pressure"), None) if feed.is_gas else None
        settled = feed.contents.settled(mixture)
        object.__setattr__(self, "charge", Contents(settled, False, "charge", pressure))

    def write(self) -> Written:
        return _write(self.chemistry.structure, self.gas)

    @property
    def gas(self) -> bool:
        return self.P is not None or self.charge.is_gas

    def mixture(self) -> Mixture:
        contents: Contents = self.charge
        return contents.mixture([self.volume, self.total], self.by_name, self.T, self.P, self.density)

    def numbers(self) -> dict[sp.Symbol, float]:
        return {TEMPERATURE: self.T.si if self.T is not None else np.nan, VOLUME: self.fed.volume}

    @property
    def end(self) -> float:
        return float(self.time.si) if self.time is not None else np.nan

    def given(self) -> list[tuple[str, Value | None]]:
        return [
            *self.charge.given(),
            ("time", self.time),
            ("volume", self.volume),
            ("temperature", self.T),
            ("pressure", self.P),
        ]

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
        whole = f"{self.total} of " if self.total is not None else ""
        under = f"{' and' if at else ' at'} {self.P}" if self.P is not None else ""
        return f"{self.title}{size} charged with {whole}{self.charge}{at}{under}" + (
            f", {self.time}" if self.time else ""
        )
