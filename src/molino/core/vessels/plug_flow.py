"""The plug-flow tube."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar

import sympy as sp

from molino.core.arguments import short
from molino.core.balances.boundary import solve_boundary
from molino.core.balances.integrate import ATOL, RTOL
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.dual import Number
from molino.core.errors import Fault, Faults, InputError, SolveError
from molino.core.schema import option, part, quantity, read_fields
from molino.core.units import Value
from molino.core.vessels.along_tube import along_tube
from molino.core.vessels.base import (
    check_catalyst_mass,
    check_profile,
    check_vessel,
    read_vessel_heat,
)
from molino.core.vessels.catalyst import Catalyst
from molino.core.vessels.changes import Change
from molino.core.vessels.feed import Feed, require_feed
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.heat import Duty, HeatShape, Jacket, Profile
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.model import Model
from molino.core.vessels.piecewise_linear import PiecewiseLinear
from molino.core.vessels.pressure import PressureDrop
from molino.core.vessels.roles import (
    AREA,
    COOLANT_LEAVES,
    FEED_P,
    FEED_T,
    FLOW,
    LAMINAR,
    LOCAL_FLOW,
    MASS_FLUX,
    START_T,
    TRANSFER,
    TURBULENT,
)
from molino.core.vessels.run import Run, follow, verified
from molino.core.vessels.streams import Stream
from molino.core.vessels.tube_in_time import TubeInTime, follow_tube
from molino.core.vessels.walls import DistributedFeed, Membrane, SideFeedTerm

_MOST_TUBES = 10_000_000


@dataclass(frozen=True, eq=False)
class PlugFlow(FlowVessel):
    """A tube in plug flow, steady: empty or packed, of a liquid or a gas.

    dF_i/dV = sum_j nu_ij r_j, in a gas with Q = sum(F) R T / P (O. Levenspiel, Chemical Reaction Engineering, 3rd ed.
    1999, ch. 5), and where the temperature is not prescribed

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
        Prescribed in the tube; that of the feed if left out. Not given where the temperature is not prescribed.
    heat : "isothermal", "adiabatic", Jacket or Profile
        What passes through the wall; isothermal if left out, with the duty that this takes. A profile is over the
        length (over the volume, where there is no diameter).
    pressure_drop : PressureDrop, optional
        The pressure stays that of the feed if left out.
    wall : Membrane, optional
        Through which species pass; the wall of the tubes, or of an area of its own.
    side : DistributedFeed, optional
        What comes in evenly along the tube.
    catalyst : Catalyst, optional
        Where a rate is per catalyst mass, catalyst volume or area.
    profiles : mapping of condition to Profile, optional
        Other numbers that change while it runs, like a constant of the chemistry: {"u": mo.Profile([...])}.
    name : str
        For tables and messages.
    show : mapping of kind to unit
        Units for results, e.g. {"time": "h"}; otherwise those in which the inputs came.

    Raises
    ------
    InputError
        With everything that is wrong in it.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, diameter="20 mm", length="16 m")
    >>> run = tube.run()
    >>> round(run.conversion("A"), 4)
    0.6341
    """

    noun: ClassVar[str] = "plug flow"
    _counts_packing: ClassVar[bool] = True
    _run_metrics: ClassVar[tuple[str, ...]] = ("hot spot sensitivity",)
    chemistry: Chemistry
    feed: Feed
    diameter: Any = quantity("diameter", setting=True, independent=True)
    length: Any = quantity("length", size=True, independent=True)
    tubes: int = option(1, setting=True)
    volume: Any = quantity("volume", size=True, independent=True)
    space_time: Any = quantity("time", size=True, independent=True)
    catalyst_mass: Any = quantity("mass", size=True, independent=True)
    T: Any = quantity("temperature", setting=True, independent=True)
    heat: Any = None
    pressure_drop: Any = part(PressureDrop)
    wall: Membrane | None = None
    side: DistributedFeed | None = None
    catalyst: Any = part(Catalyst)
    name: str = ""
    profiles: Mapping[str, Profile] = field(default_factory=dict)
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        require_feed(self.feed, self.label)
        faults = Faults()
        read_fields(self, faults, self.label)
        self._check_sizes(faults)
        if self.length is not None and self.diameter is None:
            faults.add(self.label, "a length is given but no diameter", "give the diameter, or the volume instead")
        if isinstance(self.tubes, bool) or not isinstance(self.tubes, int) or not 1 <= self.tubes <= _MOST_TUBES:
            message = f"tubes = {short(self.tubes)}"
            faults.add(self.label, message, f"give a whole number of tubes, from 1 to {_MOST_TUBES:,}")
            faults.raise_any()
        read_vessel_heat(faults, self)
        with faults.at(self.label):
            self._check_heat()
        asks = "T of the feed" if self.is_non_isothermal else "T"
        check_vessel(faults, self, self.feed.contents, self._first_T, asks)
        with faults.at(self.label):
            check_catalyst_mass(self, self.catalyst_mass)
        with faults.at(self.label):
            self._check_pressure()
        with faults.at(self.label):
            self._check_sides()
        faults.raise_any()

    def _check_heat(self) -> None:
        faults = Faults()
        if isinstance(self.heat, Profile):
            with faults.at():
                check_profile(self.T, self._profile)
        elif self.is_non_isothermal and self.T is not None:
            message = "T is given, and the temperature in the tube is not prescribed"
            faults.add("", message, "leave T out: the feed comes in at its own")
        if isinstance(self.heat, Duty):
            faults.add("", "a duty says not where along the tube it passes", "give mo.Jacket(...), or an exchanger")
        if isinstance(self.heat, Jacket):
            if self.diameter is None and self.heat.U is not None and self.heat.area is None:
                faults.add(
                    "", "the area of heat transfer is not known", "give the diameter, or area (or UA) to the jacket"
                )
            if self.heat.coil:
                faults.add("", "a coil is in a tank", "along a tube the coolant flows co- or counter-current")
            if isinstance(self.heat.T, PiecewiseLinear):
                faults.add("", "a steady tube has no profile over time", "give T of the coolant as one temperature")
            for name in ("wall", "stirrer"):
                if getattr(self.heat, name) is not None:
                    faults.add("", f"a steady tube has no {name}", "leave it out")
        faults.raise_any()

    def _check_sides(self) -> None:
        """What comes and goes through the wall on the way."""
        faults = Faults()
        with faults.at():
            self._check_membrane()
        if isinstance(self.wall, Membrane) and self.wall.area is None and self.diameter is None:
            faults.add("wall", "the area of the membrane is not known", "give it, or the diameter of the tube")
        if self.side is not None and not isinstance(self.side, DistributedFeed):
            faults.add("side", f"{self.side!r} is no side feed", "write mo.DistributedFeed(mo.Feed(...))")
        elif self.side is not None:
            with faults.at():
                self.side.check(self.chemistry.names, self.is_gas, self.is_non_isothermal)
        if self.pressure_drop is not None and (self.wall is not None or self.side is not None):
            message = "the pressure drop counts on a mass flow that stays the same along the tube"
            faults.add("pressure_drop", message, "leave it out together with a membrane or side feed")
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
        if not math.isfinite(self._given_pressure()):
            faults.add(
                "pressure_drop",
                "the pressure of the feed is not given",
                "give P to the feed (of a liquid with model='constant density')",
            )
        if self._is_packed and self.catalyst.voidage.si == 1.0:
            faults.add(
                "pressure_drop", "the voidage of the bed is not given", "give voidage=0.4 or alike to the catalyst"
            )
        if not faults.found:
            with faults.at("pressure_drop"):
                self._mass_flow(self._fed)
        faults.raise_any()

    @property
    def _first_T(self) -> Value | None:
        """The temperature at its inlet."""
        if isinstance(self.heat, Profile):
            return Value(self._profile.after(0.0))
        return super()._first_T

    @property
    def _is_packed(self) -> bool:
        """Whether it is packed with particles of known size."""
        return self.catalyst is not None and self.catalyst.particle_diameter is not None

    def _mass_flow(self, fed: Mixture) -> Number:
        """In kg/s, by the density of a liquid or the molar masses."""
        if self.feed.density is not None:
            return self.feed.density.si * fed.volume
        faults = Faults()
        flow: Number = 0.0
        for name, c in fed.concentrations.items():
            with faults.at():
                flow = flow + c * fed.volume * self._by_name[name].require("molar_mass", "the pressure drop").si
        faults.raise_any()
        return flow

    def _area(self, given: Mapping[str, Number]) -> Number:
        """Cross-section of all tubes in m^2; nan without a diameter."""
        if self.diameter is None and "diameter" not in given:
            return math.nan
        return given.get("tubes", self.tubes) * (math.pi / 4) * self._width(given) ** 2.0

    def _width(self, given: Mapping[str, Number]) -> Number:
        return given.get("diameter", self.diameter.si if self.diameter is not None else math.nan)

    def _cross_section(self) -> float:
        return float(self._area({}))

    def _end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Volume of all tubes in m^3; nan while it is not known."""
        length = self._stated_sizes(given).get("length")
        return self._volume(given, fed) if length is None else length * self._area(given)

    @property
    def _heat_shape(self) -> HeatShape:
        return self.heat.along_tube if isinstance(self.heat, Jacket) else super()._heat_shape

    @property
    def _has_side(self) -> bool:  # type: ignore[override]
        return self.side is not None

    def _started_with(self) -> set[str]:
        return super()._started_with() | ({*self.side.feed.contents} if self.side is not None else set())

    def _side_streams(self, run: Run) -> list[Stream]:
        found = [self._side_stream("side feed", self.side.feed)] if self.side is not None else []
        if self.wall is not None and self.wall.sweep is not None:
            found.append(self._side_stream("sweep", self.wall.sweep))
        return found

    @property
    def _profile(self) -> PiecewiseLinear:
        """The temperature profile over the volume."""
        kind, factor = self._moves_along
        piecewise = self.heat.piecewise(kind, self.label)
        return PiecewiseLinear(tuple(z * factor for z in piecewise.times), piecewise.values)

    def _moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        found = super()._moving_numbers()
        return found | {TEMPERATURE: self._profile} if isinstance(self.heat, Profile) else found

    @property
    def _moves_along(self) -> tuple[str, float]:
        return ("volume", 1.0) if self.diameter is None else ("length", self._cross_section())

    def _build(self) -> Model:
        wall = () if self.wall is None else (self.wall.term(self.chemistry.names, along=True),)
        side = () if self.side is None else (SideFeedTerm(),)
        return along_tube(self._key, self.pressure_drop is not None, (*wall, *side))

    def _own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        T, feed_T = self._temperatures(given)
        area, P = self._area(given), self.feed.pressure(fed, given)
        found: dict[sp.Symbol, Number] = {
            TEMPERATURE: T, START_T: T, FEED_T: feed_T, FLOW: fed.volume, AREA: area, PRESSURE: P, FEED_P: P
        }  # fmt: skip
        if isinstance(self.heat, Jacket):
            found[TRANSFER] = self._transfer(given, fed)
            found[COOLANT_LEAVES] = feed_T
        if self.wall is not None:
            swept = None if self.wall.sweep is None else self.wall.sweep.mixture(self._by_name)
            found |= self.wall.numbers(given, 4 / self._width(given), self._end(given, fed), swept)
        if self.side is not None:
            side_mixture = self.side.feed.mixture(self._by_name)
            found |= self.side.numbers(side_mixture, self._end(given, fed), T, self.chemistry.names)
        if self.pressure_drop is not None:
            found[MASS_FLUX] = self._mass_flow(fed) / area
            if self._is_packed:
                both = self.pressure_drop.packed(self.catalyst.voidage.si, self.catalyst.particle_diameter.si)
            else:
                both = self.pressure_drop.empty(found[MASS_FLUX], self._width(given))
            found |= dict(zip((LAMINAR, TURBULENT), both, strict=True))
        return found

    def _transfer(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """U a in W/(m^3 K)."""
        if self.heat.has_conductance:
            return self.heat.conductance(given) / self._end(given, fed)
        return given.get("U", self.heat.U.si) * 4 / self._width(given)

    def _given_below(self) -> list[tuple[str, Value | None]]:
        sides = [self.wall.sweep] if self.wall is not None and self.wall.sweep is not None else []
        sides += [self.side.feed] if self.side is not None else []
        return [*super()._given_below(), *(pair for feed in sides for pair in feed.given())]

    @property
    def _has_boundary_values(self) -> bool:
        """Whether something is given at its end: a coolant that comes in there."""
        return self._heat_shape.coolant == "counter-current"

    @cached_property
    def _case(self) -> Case:
        """The balances with its numbers; of a counter-current coolant with the temperature at which it leaves."""
        plain: Case = super()._case
        if not self._has_boundary_values or not math.isfinite(self._end_si):
            return plain
        try:
            return solve_boundary(plain, self._end_si)
        except SolveError as error:
            raise SolveError(fault.within(self.label) for fault in error.faults) from error

    @property
    def _sized_along(self) -> str:  # type: ignore[override]
        """One run passes every shorter tube, unless what holds at its end, or is spread over all of it, reaches
        back."""
        by_size = isinstance(self.heat, Jacket) and self.heat.has_conductance
        by_size = by_size or self.side is not None or (self.wall is not None and self.wall.area is not None)
        return "whole runs" if self._has_boundary_values or by_size else "run"

    def _default_size(self) -> str:
        return "length" if self.diameter is not None else "volume"

    def _size_of(self, name: str, passed: float) -> float:
        if name == "length":
            if self.diameter is None:
                message = "the length cannot be found without a diameter"
                raise InputError(message, self.label, "give the diameter")
            return passed / self._cross_section()
        return super()._size_of(name, passed)

    def run(
        self, points: Any = None, rtol: float = RTOL, atol: float = ATOL, verify: str = "usual"
    ) -> Run:  # fmt: skip
        """Follow the feed from the inlet to the end of the tube.

        Parameters
        ----------
        points : int or array of m^3, optional
            How many rows the result has, evenly spaced, or at which volumes from the inlet (0 and the end are put in
            if missing). Left out, evenly spaced ones, with more where something moves between two of them.
        rtol, atol : float
            Tolerances of the integration, relative to each state and as a fraction of its scale.
        verify : "usual" or "thorough"
            With a second integration by another method, at a hundredth of the tolerances, that must agree.

        Raises
        ------
        InputError
            If there is no length or volume, or constants are still unknown.
        SolveError
            If the integration cannot go on, or the pressure is used up before the end.
        """
        if not math.isfinite(self._end_si):
            advice = "give length='60 m' (with a diameter) or volume='2 m3', or size it: mo.size(...)"
            raise InputError("no length or volume is given", self.label, advice)
        self._require_known()
        try:
            run = follow(self, self._end_si, points, rtol=rtol, atol=atol)
        except SolveError as error:
            raise self._choked(error) from error
        self._check_choking(run)
        return verified(run, verify)

    def _choked(self, error: SolveError) -> SolveError:
        """Why a tube with falling pressure could not be followed: where the pressure is used up, if it is."""
        if self.pressure_drop is None or not (error.symbol == PRESSURE or self._is_falling(error.reached)):
            return error
        return self._used_up(error.reached)

    def _is_falling(self, at: float) -> bool:
        """Whether little of the pressure is left just before a place."""
        if not 0 < at < self._end_si:
            return False
        try:
            before = follow(self.with_({"volume": 0.999 * at}), 0.999 * at, 2, rtol=RTOL, atol=ATOL)
        except SolveError:
            return False
        return float(before.series["pressure"][-1]) < 0.2 * self._given_pressure()

    def _used_up(self, at: float) -> SolveError:
        area = self._cross_section()
        place, whole = (self._display.text(v / area, "length") for v in (at, self._end_si))
        message = f"the tube chokes: its pressure is used up at length {place} of {whole}"
        advice = "give more tubes, a larger diameter or particle, a shorter bed, less flow or a higher pressure"
        found = SolveError([Fault(self.label, message, advice)])
        found.reached, found.symbol = at, PRESSURE
        return found

    def _limit(self) -> sp.Expr | None:
        """What comes to zero where a gas chokes: it cannot flow faster than where its momentum outgrows its pressure,
        G^2 = rho P."""
        if not self.is_gas or self.pressure_drop is None:
            return None
        return PRESSURE - MASS_FLUX * LOCAL_FLOW / AREA

    def _check_choking(self, run: Run) -> None:
        limit = self._limit()
        if limit is None or run.trajectory.most(limit, -1.0)[1] > 0:
            return
        crossed = run.trajectory.crossings(limit)
        raise self._used_up(crossed[0] if crossed else 0.0)

    def follow(
        self, time: Any, contents: Any = None, changes: Sequence[Change] = (), cells: int = 200, points: Any = 201,
        progress: Callable[[float], None] | None = None, settling_band: float = 0.02,
    ) -> TubeInTime:  # fmt: skip
        """Follow the tube over time: start-up, steps in the feed, fronts that move through a bed.

        dn_i/dt = -dF_i/dV + sum_j nu_ij r_j with the voidage of a bed, in cells of finite volume; a catalyst that
        decays does so place by place, a packing takes up what its isotherm says.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, or "steady", optional
            What is in the tube at first, at the temperature of the feed; "steady" for its steady state; the feed if
            left out.
        changes : sequence of Change, optional
            Steps and ramps of feed, flow, temperature or coolant: [mo.Change("[A]", "2 mol/L", at="5 min")].
        cells : int
            Into how many cells it is cut; the result says by how much half as many change it.
        points : int or array of s
            The moments at which it is looked at.
        progress : callable, optional
            Called now and then with the share of the time that is done.
        settling_band : float
            Within which share of its largest distance from the end a quantity counts as settled.

        Raises
        ------
        InputError
            With everything that cannot be followed over time: a falling pressure, a membrane, a coolant that warms up.
        SolveError
            If the integration cannot go on.
        """
        return follow_tube(self, time, contents, changes, cells, points, progress, settling_band)

    def outcome(self) -> Run:
        """The run to its end."""
        return self.run()

    def __str__(self) -> str:
        many = f"{self.tubes} tubes" if self.tubes > 1 else "tube"
        sizes = {"of diameter": self.diameter, "length": self.length, "volume": self.volume,
                 "space time": self.space_time, "catalyst mass": self.catalyst_mass}  # fmt: skip
        size = ", ".join(f"{name} {value}" for name, value in sizes.items() if value)
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        sides = "".join(f", {one}" for one in (self.wall, self.side) if one is not None)
        moving = "".join(f", {name} on a profile" for name in self.profiles)
        return f"{self.title}, {many}{' ' + size if size else ''}{at}{ends} fed {self.feed}{sides}{moving}"
