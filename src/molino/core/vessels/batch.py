"""The batch vessel."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.errors import Faults, InputError
from molino.core.units import GAS_CONSTANT, Value
from molino.core.vessels.base import Vessel, check_programme, check_vessel, convert, settle_heat
from molino.core.vessels.feed import Feed, check_model, is_gas, is_real, read_mixture_capacity, settle
from molino.core.vessels.heat import Programme
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.run import Run, follow
from molino.core.vessels.schedule import Track
from molino.core.vessels.writing import START_T, VOLUME, Written, well_mixed


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
    """A well-mixed batch: a liquid, or a gas in a rigid vessel or at constant pressure.

    dn_i/dt = V sum_j nu_ij r_j (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 1.3),
    with the balance of enthalpy (of internal energy in a rigid vessel of gas) where the temperature is not kept.

    Parameters
    ----------
    chemistry : Chemistry
    charge : mapping of species to quantity, or Feed
        What is in it at the start, in any way that `Feed` reads, amounts and masses ("2 kmol", "300 kg") in place of
        flows; a bare number is mol/m^3. A `Feed` charges its concentrations, to set a batch beside vessels on the same
        feed.
    T : temperature, optional
        Needed where a rate constant depends on it; that of the feed, if one is the charge. At the start, where the
        temperature is not kept.
    volume : optional
        Of what is in it. Left out it follows from the charge, or is 1 m^3 as a basis.
    total : optional
        Amount or mass of the whole charge, "20 kmol" or "1.5 t", beside fractions or ratios.
    P : optional
        Pressure of the charge; makes it an ideal gas. Partial pressures do so, too.
    density : optional
        Of the charge, where volume and mass must be brought together.
    heat_capacity, model : optional
        Of the charge, as for `Feed`.
    rigid : bool
        Whether a gas keeps its volume; otherwise it keeps its pressure.
    heat : "isothermal", "adiabatic", Adiabatic, Jacket or Programme
        What passes through the walls; isothermal if left out, with the duty that this takes.
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
    heat_capacity: Any = None
    model: Any = None
    rigid: bool = True
    heat: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        convert(
            faults, self, T="temperature", volume="volume", time="time", P="pressure", density="density",
        )  # fmt: skip
        settle_heat(faults, self)
        if isinstance(self.heat, Programme):
            with faults.at(self.label):
                check_programme(self.T, self.heat.track("time", self.label))
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
        with faults.at(self.label):
            check_model(self.model)
            if is_real(self.model) and self.rigid:
                raise InputError("a real gas keeps its pressure in a batch", "", "give rigid=False")
        with faults.at(self.label):
            object.__setattr__(self, "heat_capacity", read_mixture_capacity(self.heat_capacity, self.density))
        check_vessel(faults, self, species, self.start_T)
        faults.raise_any()

    @property
    def start_T(self) -> Value | None:
        """Temperature at the start."""
        return Value(self.programme.after(0.0)) if isinstance(self.heat, Programme) else self.T

    @property
    def programme(self) -> Track:
        """The temperature programme over time."""
        return self.heat.track("time", self.label)  # type: ignore[no-any-return]

    @property
    def mixture_capacity(self) -> Value | None:
        return self.heat_capacity  # type: ignore[no-any-return]

    def _charge_with(self, feed: Feed) -> None:
        """Take over what a feed holds: its concentrations, temperature, and whether it is a gas."""
        mixture = feed.mixture(self.by_name)
        if not isinstance(self.heat, Programme):
            object.__setattr__(self, "T", self.T or feed.T)
        for name in ("heat_capacity", "model"):
            if getattr(self, name) is None:
                object.__setattr__(self, name, getattr(feed, name))
        pressure = next((value for kind, value in feed.given() if kind == "pressure"), None) if feed.is_gas else None
        settled = feed.contents.settled(mixture)
        object.__setattr__(self, "charge", Contents(settled, False, "charge", pressure))

    def write(self) -> Written:
        follows = self.medium.model == "additive volumes" or (self.gas and not self.rigid)
        return well_mixed(self.setup, (), "follows" if follows else "fixed", False, True)

    @property
    def gas(self) -> bool:
        return is_gas(self.model, self.P, self.charge)

    def mixture(self) -> Mixture:
        totals = [self.volume, self.total]
        return settle(self.charge, totals, self.by_name, self.start_T, self.P, self.density, self.model)

    def numbers(self) -> dict[sp.Symbol, float]:
        T = self.start_T.si if self.start_T is not None else np.nan
        found = {TEMPERATURE: T, START_T: T, VOLUME: self.fed.volume}
        if self.gas:
            found[PRESSURE] = self.P.si if self.P is not None else sum(self.inlet().values()) * GAS_CONSTANT * T
        return found

    def tracks(self) -> dict[sp.Symbol, Track]:
        return {TEMPERATURE: self.programme} if isinstance(self.heat, Programme) else super().tracks()

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
        ends = f", {self.heat}" if self.heat is not None else ""
        ends += f", {self.time}" if self.time else ""
        return f"{self.title}{size} charged with {whole}{self.charge}{at}{under}{ends}"
