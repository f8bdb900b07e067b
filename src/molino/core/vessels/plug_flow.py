"""The plug-flow tube."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any, ClassVar

import numpy as np
import sympy as sp
from scipy.optimize import brentq

from molino.core.balances.solve import integrate
from molino.core.balances.system import ZERO, Balances, Case, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.errors import Fault, Faults, InputError, SolveError
from molino.core.thermo.medium import Content
from molino.core.units import Value
from molino.core.vessels.base import (
    Vessel,
    check_programme,
    check_vessel,
    convert,
    settle_heat,
    volume_of_catalyst,
)
from molino.core.vessels.catalyst import ACTIVITY
from molino.core.vessels.feed import Feed, inlet_symbol, require_feed
from molino.core.vessels.heat import COOLANT, COOLANT_FLOW, HeatShape, Jacket, Programme
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.pressure import LAMINAR, MASS_FLUX, TURBULENT, PressureDrop, gradient
from molino.core.vessels.run import Run, follow
from molino.core.vessels.schedule import Track, slope_of
from molino.core.vessels.writing import (
    DEMAND,
    FEED_T,
    FLOW,
    HEAT,
    HELD_CAPACITY,
    LOCAL_FLOW,
    RELEASED,
    START_T,
    Account,
    Setup,
    Written,
    by_species,
    kinetics,
    reacting_enthalpy,
    shown,
    states,
    total,
)

AREA = sp.Symbol("cross-section", positive=True)
TRANSFER = sp.Symbol("UA per volume", positive=True)
COOLANT_T = sp.Symbol("Tc", positive=True)
"""Temperature of a coolant that flows along the tube."""
FEED_P = sp.Symbol("feed P", positive=True)


@lru_cache(maxsize=256)
def _write(setup: Setup, falling: bool) -> Written:
    structure, medium, heat = setup.structure, setup.medium, setup.heat
    fed = [FLOW * inlet_symbol(s) for s in structure.species]
    scale = FLOW * total(structure, inlet_symbol)
    flowing = states(structure, "F", "molar flow", fed, scale)
    flows = tuple(s.symbol for s in flowing)
    swells = not medium.carries_volume
    here = LOCAL_FLOW if swells else FLOW
    inside = Content(medium, flows, TEMPERATURE, PRESSURE)
    definitions = [*inside.definitions, *([(LOCAL_FLOW, inside.volume)] if swells else [])]
    if setup.catalyst.law is not None:
        definitions.append((ACTIVITY, setup.catalyst.law))
    content = kinetics(setup, flows, here)
    definitions += content.definitions
    derived, kinds = shown(setup)
    extra: list[State] = []
    slopes: list[sp.Expr] = []
    more: list[sp.Symbol] = [FLOW]
    totals: list[tuple[State, sp.Expr]] = []
    inlet_P = FEED_P if falling else PRESSURE
    drop: sp.Expr = ZERO
    if falling:
        drop = gradient(MASS_FLUX * AREA / here, AREA)
        extra.append(State("P", PRESSURE, "pressure", FEED_P, FEED_P))
        slopes.append(drop)
        more += [FEED_P, AREA, MASS_FLUX, LAMINAR, TURBULENT]
        derived["P"], kinds["P"] = PRESSURE, "pressure"
    elif medium.is_gas:
        more.append(PRESSURE)
    if swells:
        derived["flow"], kinds["flow"] = LOCAL_FLOW, "volumetric flow"
        totals.append(
            (State("residence time", sp.Symbol("residence time"), "time", ZERO, sp.Integer(1)), 1 / LOCAL_FLOW)
        )
    energy = duty = None
    if setup.knows_heat:
        demand = content.heat + inside.departure_by_P * drop
        demand += sp.Add(*(inside.departure_by_amount(i) * made for i, made in enumerate(content.production)))
        definitions += [(DEMAND, demand), (HELD_CAPACITY, medium.capacity(inside, FLOW))]
        demand, capacity = DEMAND, HELD_CAPACITY
        through: sp.Expr = ZERO
        if heat.mode == "jacket":
            coolant = COOLANT_T if heat.flowing else COOLANT
            through = TRANSFER * (coolant - TEMPERATURE)
            more += [TRANSFER, COOLANT]
            if heat.flowing:
                way = -1 if heat.coolant == "co-current" else 1
                extra.append(State("coolant T", COOLANT_T, "temperature", COOLANT, COOLANT))
                slopes.append(way * through / COOLANT_FLOW)
                more.append(COOLANT_FLOW)
                derived["coolant T"], kinds["coolant T"] = COOLANT_T, "temperature"
        more.append(FEED_T)
        first: sp.Expr = ZERO
        needed = through
        if heat.moves:
            extra.append(State("T", TEMPERATURE, "temperature", FEED_T, FEED_T))
            slopes.append((through - demand) / capacity)
        else:
            needed = demand + capacity * slope_of(TEMPERATURE)
            first = medium.warming(fed, START_T, FEED_T, FLOW)
            for T, sign in ((START_T, 1), (FEED_T, -1)):
                stream = Content(medium, fed, T, inlet_P)
                first += sign * stream.written_out(stream.departure)
        totals.append((State("heat", HEAT, "energy flow", first, scale * 8314), needed))
        totals.append((State(str(RELEASED), RELEASED, "energy flow", ZERO, scale * 8314), -content.heat))
        start = medium.stream_enthalpy(fed, FEED_T, inlet_P, FLOW)
        there = medium.enthalpy(inside, FLOW)
        reacted = reacting_enthalpy(setup, flows, FEED_T) - reacting_enthalpy(setup, fed, FEED_T)
        warmed = medium.warming(flows, TEMPERATURE, FEED_T, FLOW)
        energy = Account(start + HEAT, there, (HEAT, reacted, warmed))
        duty = ZERO if heat.mode == "adiabatic" else there - start
    balances = Balances(
        sp.Symbol("V"), (*flowing, *extra), tuple(definitions), (*content.production, *slopes),
        tuple(dict.fromkeys((*setup.symbols, *(inlet_symbol(s) for s in structure.species), *more))), derived,
    )  # fmt: skip
    amounts = {s: Account(f, F) for s, f, F in zip(structure.species, fed, flows, strict=True)}
    return Written(balances, by_species(setup, fed), by_species(setup, flows), kinds, tuple(totals), amounts, energy,
                   None, duty)  # fmt: skip


@dataclass(frozen=True)
class PlugFlow(Vessel):
    """A tube in plug flow, steady: empty or packed, of a liquid or a gas.

    dF_i/dV = sum_j nu_ij r_j, in a gas with Q = sum(F) R T / P (O. Levenspiel, Chemical Reaction Engineering, 3rd ed.
    1999, ch. 5), and where the temperature is not kept

        sum_i F_i Cp_i dT/dV = U a (T_c - T) - sum_j dH_j r_j,   a = 4/d

    (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 12.1).

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
        Volume over volumetric flow of the feed; instead of volume.
    catalyst_mass : optional
        In all tubes together; instead of volume, with the bulk density of the catalyst.
    T : temperature, optional
        That is kept in the tube; that of the feed if left out. Not given where the temperature is not kept.
    heat : "isothermal", "adiabatic", Jacket or Programme
        What passes through the wall; isothermal if left out, with the duty that this takes. A programme is over the
        length (over the volume, where there is no diameter).
    pressure_drop : PressureDrop, optional
        The pressure stays that of the feed if left out.
    catalyst, name, show
        As for `Batch`.
    """

    noun: ClassVar[str] = "plug flow"
    sizes: ClassVar[tuple[str, ...]] = ("length", "volume", "space_time", "catalyst_mass")
    chemistry: Chemistry
    feed: Feed
    diameter: Any = None
    length: Any = None
    tubes: int = 1
    volume: Any = None
    space_time: Any = None
    catalyst_mass: Any = None
    T: Any = None
    heat: Any = None
    pressure_drop: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        require_feed(self.feed, self.label)
        faults = Faults()
        convert(
            faults, self, diameter="diameter", length="length", volume="volume", space_time="time", T="temperature",
            catalyst_mass="mass",
        )  # fmt: skip
        given = [n for n in self.sizes if getattr(self, n) is not None]
        if len(given) > 1:
            faults.add(self.label, f"{' and '.join(given)} say the same thing twice", "give one of them")
        if self.length is not None and self.diameter is None:
            faults.add(self.label, "a length is given but no diameter", "give the diameter, or the volume instead")
        if isinstance(self.tubes, bool) or not isinstance(self.tubes, int) or self.tubes < 1:
            faults.add(self.label, f"tubes = {self.tubes!r}", "give a whole number of tubes, 1 or more")
        settle_heat(faults, self)
        with faults.at(self.label):
            self._check_heat()
        check_vessel(faults, self, self.feed.contents, self.start_T, "T of the feed" if self.moves_T else "T")
        with faults.at(self.label):
            volume_of_catalyst(self)
        with faults.at(self.label):
            self._check_pressure()
        faults.raise_any()

    def _check_heat(self) -> None:
        faults = Faults()
        if isinstance(self.heat, Programme):
            with faults.at():
                check_programme(self.T, self.programme)
        elif self.moves_T and self.T is not None:
            said = "T is given, and the temperature in the tube is not kept"
            faults.add("", said, "leave T out: the feed comes in at its own")
        if isinstance(self.heat, Jacket):
            if self.diameter is None and self.heat.U is not None and self.heat.area is None:
                faults.add(
                    "", "the area of heat transfer is not known", "give the diameter, or area (or UA) to the jacket"
                )
            if self.heat.coil:
                faults.add("", "a coil is in a tank", "along a tube the coolant flows co- or counter-current")
            if isinstance(self.heat.T, Track):
                faults.add("", "a steady tube has no programme over time", "give T of the coolant as one temperature")
            for name in ("wall", "stirrer"):
                if getattr(self.heat, name) is not None:
                    faults.add("", f"a steady tube has no {name}", "leave it out")
        faults.raise_any()

    def _check_pressure(self) -> None:
        if self.pressure_drop is None:
            return
        if not isinstance(self.pressure_drop, PressureDrop):
            advice = "write mo.PressureDrop(viscosity='0.02 mPa*s')"
            raise InputError(f"{self.pressure_drop!r} is no pressure drop", "pressure_drop", advice)
        faults = Faults()
        if self.diameter is None:
            faults.add("pressure_drop", "the diameter of the tube is not given", "give it")
        if not math.isfinite(self.feed_pressure()):
            faults.add(
                "pressure_drop",
                "the pressure of the feed is not given",
                "give P to the feed (of a liquid with model='constant density')",
            )
        if self.packed and self.catalyst.voidage.si == 1.0:
            faults.add(
                "pressure_drop", "the voidage of the bed is not given", "give voidage=0.4 or alike to the catalyst"
            )
        if not faults.found:
            with faults.at("pressure_drop"):
                self._mass_flow()
        faults.raise_any()

    @property
    def start_T(self) -> Value | None:
        """The temperature at its inlet."""
        if isinstance(self.heat, Programme):
            return Value(self.programme.after(0.0))
        return self.T or self.feed.T  # type: ignore[no-any-return]

    @property
    def packed(self) -> bool:
        """Whether it is packed with particles of known size."""
        return self.catalyst is not None and self.catalyst.particle_diameter is not None

    def _mass_flow(self) -> float:
        """In kg/s, by the density of a liquid or the molar masses."""
        if self.feed.density is not None:
            return float(self.feed.density.si * self.fed.volume)
        faults = Faults()
        flow = 0.0
        for name, c in self.inlet().items():
            with faults.at():
                flow += c * self.fed.volume * self.by_name[name].require("molar_mass", "the pressure drop").si
        faults.raise_any()
        return flow

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
        if self.catalyst_mass is not None:
            return float(self.catalyst_mass.si / self.catalyst.bulk_density.si)
        return float(self.length.si * self.area) if self.length is not None else math.nan

    @property
    def heat_shape(self) -> HeatShape:
        return self.heat.along_tube if isinstance(self.heat, Jacket) else super().heat_shape

    @property
    def programme(self) -> Track:
        """The temperature programme over the volume."""
        if self.diameter is None:
            return self.heat.track("volume", self.label)  # type: ignore[no-any-return]
        track = self.heat.track("length", self.label)
        return Track(tuple(z * self.area for z in track.times), track.values)

    def tracks(self) -> dict[sp.Symbol, Track]:
        return {TEMPERATURE: self.programme} if isinstance(self.heat, Programme) else {}

    def write(self) -> Written:
        return _write(self.setup, self.pressure_drop is not None)

    def mixture(self) -> Mixture:
        return self.feed.mixture(self.by_name)

    def numbers(self) -> dict[sp.Symbol, float]:
        T = self.start_T
        T_si = T.si if T is not None else np.nan
        feed_T = self.feed.T.si if self.feed.T is not None else T_si
        found = {TEMPERATURE: T_si, START_T: T_si, FEED_T: feed_T, FLOW: self.fed.volume, AREA: self.area}
        found |= {PRESSURE: self.feed_pressure(), FEED_P: self.feed_pressure()}
        if isinstance(self.heat, Jacket):
            found[TRANSFER] = self._transfer()
        if self.pressure_drop is not None:
            found[MASS_FLUX] = self._mass_flow() / self.area
            if self.packed:
                both = self.pressure_drop.packed(self.catalyst.voidage.si, self.catalyst.particle_diameter.si)
            else:
                both = self.pressure_drop.empty(found[MASS_FLUX], self.diameter.si)
            found |= dict(zip((LAMINAR, TURBULENT), both, strict=True))
        return found

    def _transfer(self) -> float:
        """U a in W/(m^3 K)."""
        if math.isfinite(self.heat.conductance):
            return float(self.heat.conductance / self.volume_si)
        return float(self.heat.U.si * 4 / self.diameter.si)

    @property
    def end(self) -> float:
        return self.volume_si

    def given(self) -> list[tuple[str, Value | None]]:
        own = [("length", self.length), ("diameter", self.diameter), ("volume", self.volume), ("time", self.space_time)]
        return [*own, ("mass", self.catalyst_mass), ("temperature", self.T), *self.feed.given()]

    @cached_property
    def case(self) -> Case:
        """The balances with its numbers; of a counter-current coolant with the temperature at which it leaves."""
        plain: Case = super().case
        if self.heat_shape.coolant != "counter-current" or not math.isfinite(self.volume_si):
            return plain
        return _meet_coolant(self, plain)

    @property
    def is_followed(self) -> bool:
        """Whether one integration from the inlet tells of every shorter tube, too."""
        by_size = isinstance(self.heat, Jacket) and math.isfinite(self.heat.conductance)
        return self.heat_shape.coolant != "counter-current" and not by_size

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
            If the integration cannot go on, or the pressure is used up before the end.
        """
        if not math.isfinite(self.volume_si):
            advice = "give length='60 m' (with a diameter) or volume='2 m3', or size it: mo.size(...)"
            raise InputError("no length or volume is given", self.label, advice)
        self.require_known()
        if self.pressure_drop is None:
            return follow(self, self.volume_si, points)
        try:
            run = follow(self, self.volume_si, points)
        except SolveError as error:
            raise self._choked(error) from error
        self._check_choking(run)
        return run

    def _choked(self, error: SolveError) -> SolveError:
        """Why a tube with falling pressure could not be followed: where the pressure runs out, if it does."""
        low = 0.999 * error.reached
        if not 0 < low < self.volume_si:
            return error
        state = integrate(self.case, [0.0, low]).states[-1]
        P = float(state[self.case.balances.names.index("P")])
        if 0.2 * self.feed_pressure() < P:
            return error
        return self._used_up(error.reached)

    def _used_up(self, at: float) -> SolveError:
        place = self.display.text(at / self.area, "length")
        whole = self.display.text(self.volume_si / self.area, "length")
        said = f"the tube chokes: its pressure is used up at length {place} of {whole}"
        advice = "give more tubes, a larger diameter or particle, a shorter bed, less flow or a higher pressure"
        return SolveError([Fault(self.label, said, advice)])

    def _check_choking(self, run: Run) -> None:
        """A gas cannot flow faster than where its momentum outgrows its pressure: G^2 = rho P."""
        if not self.gas:
            return
        flow, P = run.derived["flow"], run.derived["P"]
        flux = self._mass_flow() / self.area
        fast = flux * flow / self.area >= P
        if fast.any():
            raise self._used_up(float(run.solution.points[int(np.argmax(fast))]))

    def outcome(self) -> Run:
        return self.run()

    def __str__(self) -> str:
        many = f"{self.tubes} tubes" if self.tubes > 1 else "tube"
        sizes = {"of diameter": self.diameter, "length": self.length, "volume": self.volume,
                 "space time": self.space_time, "catalyst mass": self.catalyst_mass}  # fmt: skip
        size = ", ".join(f"{name} {value}" for name, value in sizes.items() if value)
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        return f"{self.title}, {many}{' ' + size if size else ''}{at}{ends} fed {self.feed}"


def _meet_coolant(vessel: PlugFlow, case: Case) -> Case:
    """The case with the temperature at which a counter-current coolant leaves (where the feed comes in).

    Found by shooting: the tube is integrated from a trial temperature, and what the coolant must have come in with is
    held against what it comes in with; the trials are spread between the extremes of feed and coolant and beyond by
    the adiabatic rise, so that the first crossing from the coolant's side is taken.
    """
    wanted = case.value(COOLANT)
    place = case.balances.names.index("coolant T")

    def miss(leaves: float) -> float:
        try:
            end = integrate(case.with_values({COOLANT: leaves}), [0.0, vessel.volume_si], rtol=1e-11, atol=1e-13)
        except SolveError:
            return np.nan
        return float(end.states[-1][place]) - wanted

    feed_T = case.value(FEED_T)
    span = max(abs(feed_T - wanted), 1.0)
    low, high = max(min(feed_T, wanted) - span, 1.0), max(feed_T, wanted) + span
    for _ in range(8):
        trials = np.linspace(low, high, 25)
        misses = np.array([miss(float(trial)) for trial in trials])
        order = np.argsort(np.abs(trials[:-1] - wanted))
        for n in order:
            if np.isfinite(misses[[n, n + 1]]).all() and misses[n] * misses[n + 1] <= 0:
                found = brentq(miss, trials[n], trials[n + 1], xtol=1e-10, rtol=1e-14)
                return case.with_values({COOLANT: float(found)})
        span *= 2
        low, high = max(low - span, 1.0), high + span
    said = "no temperature of the coolant at the feed end meets the one at which it comes in"
    raise SolveError([Fault(vessel.label, said, "check flows and areas; try the coolant co-current")])
