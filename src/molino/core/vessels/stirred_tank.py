"""The continuous stirred tank."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.solve import Solution, steady
from molino.core.balances.system import Balances
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.structure import Structure
from molino.core.errors import Faults, InputError
from molino.core.units import GAS_CONSTANT, Value
from molino.core.vessels.base import (
    FLOW,
    LOCAL_FLOW,
    VOLUME,
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
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.run import Run, follow


def start_symbol(species: str) -> sp.Symbol:
    """The parameter that holds a species' concentration in the tank at t = 0."""
    return sp.Symbol(f"start[{species}]", nonnegative=True)


@lru_cache(maxsize=256)
def _write(structure: Structure, gas: bool) -> Written:
    scale = VOLUME * (total(structure, inlet_symbol) + total(structure, start_symbol))
    held = states(structure, "n", "amount", [VOLUME * start_symbol(s) for s in structure.species], scale)
    amounts = tuple(s.symbol for s in held)
    content = kinetics(structure, amounts, VOLUME)
    fed = [FLOW * inlet_symbol(s) for s in structure.species]
    made = [VOLUME * made for made in content.production]
    definitions, more, out = content.definitions, [VOLUME, FLOW], FLOW
    if gas:  # at constant pressure as many moles leave as come in and are formed
        definitions += ((LOCAL_FLOW, TEMPERATURE / PRESSURE * GAS_CONSTANT * sp.Add(*fed, *made)),)
        more, out = [*more, PRESSURE], LOCAL_FLOW
    leaving = [out * n / VOLUME for n in amounts]
    balances = Balances(
        sp.Symbol("t"),
        held,
        definitions,
        tuple(i - o + m for i, o, m in zip(fed, leaving, made, strict=True)),
        parameters(structure, *(start_symbol(s) for s in structure.species), *more),
        derived(structure),
    )
    return Written(
        balances, dict(zip(structure.species, fed, strict=True)), dict(zip(structure.species, leaving, strict=True))
    )


@dataclass(frozen=True)
class StirredTank(Vessel):
    """A continuous stirred tank: well mixed, isothermal, constant volume; a liquid of constant density or an ideal gas.

    dn_i/dt = F_i,in - Q c_i + V sum_j nu_ij r_j (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, ch. 5);
    of a gas, at constant pressure, as many moles leave as come in and are formed.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
    volume : optional
        Of liquid; or give `space_time`; or neither and let `mo.size` find it.
    space_time : optional
        Volume over volumetric flow.
    T : temperature, optional
        Of the tank; that of the feed if left out.
    contents : mapping of species to concentration or amount, optional
        What is in it at t = 0, for start-up; the feed if left out.
    catalyst, name, show
        As for `Batch`.
    """

    noun: ClassVar[str] = "stirred tank"
    sizes: ClassVar[tuple[str, ...]] = ("volume", "space_time")
    chemistry: Chemistry
    feed: Feed
    volume: Any = None
    space_time: Any = None
    T: Any = None
    contents: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        require_feed(self.feed, self.label)
        faults = Faults()
        convert(faults, self, volume="volume", space_time="time", T="temperature")
        if self.volume is not None and self.space_time is not None:
            faults.add(self.label, "volume and space_time say the same thing twice", "give one of them")
        if self.contents is not None:
            with faults.at(self.label):
                object.__setattr__(self, "contents", Contents(self.contents, False, "contents"))
                if self.feed.is_gas:
                    raise InputError("a tank of gas starts from its feed", "contents", "leave the contents out")
        check_vessel(faults, self, [*self.feed.contents, *(self.contents or ())], self.T or self.feed.T)
        faults.raise_any()

    def write(self) -> Written:
        return _write(self.chemistry.structure, self.gas)

    @property
    def gas(self) -> bool:
        return self.feed.is_gas

    def mixture(self) -> Mixture:
        return self.feed.mixture(self.by_name)

    def _inside(self) -> dict[str, float]:
        """Concentrations at t = 0; nan where amounts are given and the volume is not known yet."""
        T = self.T or self.feed.T
        if self.contents is None:
            warmer = T.si / self.feed.T.si if self.gas else 1.0
            return {s: c / warmer for s, c in self.inlet().items()}
        volume = self.volume_si
        if self.contents.extensive and np.isnan(volume):
            return dict.fromkeys(self.contents, np.nan)
        held = self.contents.mixture([Value(volume)] if np.isfinite(volume) else [], self.by_name, T)
        return held.concentrations  # type: ignore[no-any-return]

    @property
    def volume_si(self) -> float:
        """Volume in m^3; nan while it is not known."""
        if self.volume is not None:
            return float(self.volume.si)
        return float(self.space_time.si * self.fed.volume) if self.space_time is not None else np.nan

    def numbers(self) -> dict[sp.Symbol, float]:
        T = self.T or self.feed.T
        volume = self.volume_si
        numbers = {start_symbol(s): c for s, c in self._inside().items()}
        numbers |= {VOLUME: volume, FLOW: self.fed.volume, PRESSURE: feed_pressure(self)}
        return numbers | {TEMPERATURE: T.si if T is not None else np.nan}

    @property
    def end(self) -> float:
        return np.inf

    def given(self) -> list[tuple[str, Value | None]]:
        return [("volume", self.volume), ("time", self.space_time), ("temperature", self.T), *self.feed.given()]

    def _require_volume(self) -> None:
        if not np.isfinite(self.volume_si):
            advice = "give volume='4 m3' or space_time='20 min', or size it: mo.size(..., vary='volume')"
            raise InputError("no volume is given", self.label, advice)

    def steady(self) -> Run:
        """The steady state that the tank settles to from what is in it at t = 0.

        Raises
        ------
        InputError
            If there is no volume, or constants are still unknown.
        SolveError
            If it never settles.
        """
        self._require_volume()
        self.require_known()
        state, report = steady(self.case, self.volume_si / self.fed.volume)
        return Run(self, Solution(np.array([np.inf]), state[None, :], None, report))

    def run(self, time: Any, points: Any = 101) -> Run:
        """Follow the start-up for some time from what is in the tank at t = 0; raises as `Batch.run`."""
        self._require_volume()
        if self.gas:
            raise InputError("the start-up of a tank of gas cannot be followed yet", self.label, "ask for steady()")
        # the elements in a tank that fills are integrated, not invariant as in a batch: their closure needs the tenth
        return follow(self, units.positive(time, "time", f"{self.label}, time").si, points, tighter=10.0)

    def outcome(self) -> Run:
        return self.steady()

    def __str__(self) -> str:
        size = f" of {self.volume}" if self.volume is not None else ""
        size = f" of space time {self.space_time}" if self.space_time is not None else size
        at = f" at {self.T}" if self.T is not None else ""
        return f"{self.title}{size}{at} fed {self.feed}"
