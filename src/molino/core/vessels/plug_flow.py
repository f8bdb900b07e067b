"""The plug-flow tube."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar

import sympy as sp

from molino.core.annotations import ByName
from molino.core.arguments import short
from molino.core.balances.balance_symbols import (
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
from molino.core.balances.boundary import solve_boundary
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.balances.settings import ATOL, RTOL
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.contents.feed import Feed
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.run_result import RunResult
from molino.core.contract.validation import check_catalyst_mass, check_profile, check_vessel, read_vessel_heat
from molino.core.dual import Number
from molino.core.errors import Fault, Faults, InputError, SolveError
from molino.core.runs.follow import follow, verified
from molino.core.runs.run import Run
from molino.core.runs.scheduled_changes import Change
from molino.core.runs.tube_over_time import TubeInTime, follow_tube
from molino.core.safety.hot_spot import HotSpot
from molino.core.schema import QuantityField, ReadField, option, part, quantity, read_fields, several_forms
from molino.core.terms.along_tube import along_tube
from molino.core.terms.catalyst import Catalyst
from molino.core.terms.heat import Duty, HeatShape, Jacket, Profile
from molino.core.terms.model import Model
from molino.core.terms.pressure import PressureDrop
from molino.core.terms.side_feed import DistributedFeed, SideFeedTerm
from molino.core.terms.terms import Term, pressure_fall
from molino.core.terms.walls import Membrane
from molino.core.units import QuantityLike, Value
from molino.core.vessels.flow_vessel import FlowSpecification, FlowVessel

_MOST_TUBES = 10_000_000


class PlugFlowSpecification(FlowSpecification):
    """The specification of a PlugFlow."""

    vessel: PlugFlow
    counts_packing: ClassVar[bool] = True
    whole_numbers: ClassVar[tuple[str, ...]] = ("tubes",)
    run_metrics: ClassVar[ByName] = {"hot spot sensitivity": HotSpot}

    def validate_fed(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        self.check_sizes(faults)
        if vessel.length is not None and vessel.diameter is None:
            faults.add(self.label, "a length is given but no diameter", "give the diameter, or the volume instead")
        if isinstance(vessel.tubes, bool) or not isinstance(vessel.tubes, int) or not 1 <= vessel.tubes <= _MOST_TUBES:
            message = f"tubes = {short(vessel.tubes)}"
            faults.add(self.label, message, f"give a whole number of tubes, from 1 to {_MOST_TUBES:,}")
            faults.raise_any()
        read_vessel_heat(faults, vessel)
        with faults.at(self.label):
            self.check_heat()
        asks = "T of the feed" if self.is_non_isothermal else "T"
        check_vessel(faults, self, vessel.feed.contents, self.first_T, asks)
        with faults.at(self.label):
            check_catalyst_mass(vessel, vessel.catalyst_mass)
        with faults.at(self.label):
            self.check_pressure()
        with faults.at(self.label):
            self.check_sides()
        faults.raise_any()

    def check_heat(self) -> None:
        vessel = self.vessel
        faults = Faults()
        if isinstance(vessel.heat, Profile):
            with faults.at():
                check_profile(vessel.T, self.profile)
        elif self.is_non_isothermal and vessel.T is not None:
            message = "T is given, but the temperature of the tube follows from its heat balance"
            faults.add("", message, "leave T out: the feed has its own temperature")
        if isinstance(vessel.heat, Duty):
            faults.add(
                "", "a duty does not define its distribution along the tube", "give mo.Jacket(...), or an exchanger"
            )
        if isinstance(vessel.heat, Jacket):
            if vessel.diameter is None and vessel.heat.U is not None and vessel.heat.area is None:
                faults.add(
                    "", "the area of heat transfer is unknown", "give the diameter, or area (or UA) to the jacket"
                )
            if vessel.heat.coil:
                faults.add("", "a coil is in a tank", "the coolant of a tube flows co-current or counter-current")
            if isinstance(vessel.heat.T, PiecewiseLinear):
                faults.add("", "a steady tube has no profile over time", "give T of the coolant as one temperature")
            for name in ("wall", "stirrer"):
                if getattr(vessel.heat, name) is not None:
                    faults.add("", f"a steady tube has no {name}", "leave it out")
        faults.raise_any()

    def check_sides(self) -> None:
        """Feeds and losses through the wall along the tube."""
        vessel = self.vessel
        faults = Faults()
        with faults.at():
            self.check_membrane()
        if isinstance(vessel.wall, Membrane) and vessel.wall.area is None and vessel.diameter is None:
            faults.add("wall", "the area of the membrane is unknown", "give it, or the diameter of the tube")
        if vessel.side is not None and not isinstance(vessel.side, DistributedFeed):
            faults.add("side", f"{vessel.side!r} is not a side feed", "write mo.DistributedFeed(mo.Feed(...))")
        elif vessel.side is not None:
            with faults.at():
                vessel.side.check(self.chemistry.names, self.is_gas, self.is_non_isothermal)
        if vessel.pressure_drop is not None and (vessel.wall is not None or vessel.side is not None):
            message = "the pressure drop needs a mass flow that is constant along the tube"
            faults.add("pressure_drop", message, "leave it out together with a membrane or side feed")
        faults.raise_any()

    def check_pressure(self) -> None:
        vessel = self.vessel
        if vessel.pressure_drop is None:
            return
        if not isinstance(vessel.pressure_drop, PressureDrop):
            advice = "write mo.PressureDrop(viscosity='0.02 mPa*s')"
            raise InputError(f"{vessel.pressure_drop!r} is not a pressure drop", "pressure_drop", advice)
        faults = Faults()
        if vessel.diameter is None:
            faults.add("pressure_drop", "the diameter of the tube is not given", "give it")
        if not math.isfinite(self.feed_pressure()):
            faults.add(
                "pressure_drop",
                "the pressure of the feed is not given",
                "give P to the feed (of a liquid with model='constant density')",
            )
        if self.packing is not None and self.packing.voidage.si == 1.0:
            faults.add(
                "pressure_drop",
                "the voidage of the bed is not given",
                "give a voidage to the catalyst, like voidage=0.4",
            )
        if not faults.found:
            with faults.at("pressure_drop"):
                self.mass_flow(self.fed)
        faults.raise_any()

    @property
    def first_T(self) -> Value | None:
        """The temperature at its inlet."""
        if isinstance(self.vessel.heat, Profile):
            return Value(self.profile.after(0.0))
        return super().first_T

    @property
    def packing(self) -> Catalyst | None:
        """Its packing, if it is of particles of known size."""
        catalyst = self.vessel.catalyst
        return catalyst if catalyst is not None and catalyst.particle_diameter is not None else None

    def mass_flow(self, fed: Mixture) -> Number:
        """In kg/s, by the density of a liquid or the molar masses."""
        if self.vessel.feed.density is not None:
            return self.vessel.feed.density.si * fed.volume
        faults = Faults()
        flow: Number = 0.0
        for name, c in fed.concentrations.items():
            with faults.at():
                flow = flow + c * fed.volume * self.species_by_name[name].require("molar_mass", "the pressure drop").si
        faults.raise_any()
        return flow

    def area(self, given: Mapping[str, Number]) -> Number:
        """Cross-section of all tubes in m^2; nan without a diameter."""
        if self.vessel.diameter is None and "diameter" not in given:
            return math.nan
        return given.get("tubes", self.vessel.tubes) * (math.pi / 4) * self.width(given) ** 2.0

    def width(self, given: Mapping[str, Number]) -> Number:
        return given.get("diameter", self.vessel.diameter.si if self.vessel.diameter is not None else math.nan)

    def cross_section(self) -> float:
        return float(self.area({}))

    def end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Volume of all tubes in m^3; nan if unknown."""
        length = self.stated_sizes(given).get("length")
        return self.volume(given, fed) if length is None else length * self.area(given)

    @property
    def heat_shape(self) -> HeatShape:
        return self.vessel.heat.along_tube if isinstance(self.vessel.heat, Jacket) else super().heat_shape

    @property
    def has_side_feed(self) -> bool:  # type: ignore[override]
        return self.vessel.side is not None

    def present_at_start(self) -> set[str]:
        return super().present_at_start() | (
            {*self.vessel.side.feed.contents} if self.vessel.side is not None else set()
        )

    def side_streams(self, run: RunResult) -> list[Stream]:
        vessel = self.vessel
        found = [self.side_stream("side feed", vessel.side.feed)] if vessel.side is not None else []
        if vessel.wall is not None and vessel.wall.sweep is not None:
            found.append(self.side_stream("sweep", vessel.wall.sweep))
        return found

    @property
    def profile(self) -> PiecewiseLinear:
        """The temperature profile over the volume."""
        kind, factor = self.profile_axis
        piecewise = self.vessel.heat.piecewise(kind, self.label)
        return PiecewiseLinear(tuple(z * factor for z in piecewise.times), piecewise.values)

    def moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        found = super().moving_numbers()
        return found | {TEMPERATURE: self.profile} if isinstance(self.vessel.heat, Profile) else found

    @property
    def profile_axis(self) -> tuple[str, float]:
        return ("volume", 1.0) if self.vessel.diameter is None else ("length", self.cross_section())

    def not_followed(self) -> list[tuple[str, str]]:
        falls = [("a pressure that falls", "leave pressure_drop out")] if self.vessel.pressure_drop is not None else []
        has_sides = self.vessel.wall is not None or self.vessel.side is not None
        return falls + ([("a membrane or side feed", "leave it out")] if has_sides else [])

    def as_tube(self) -> PlugFlow:
        return self.vessel

    @property
    def terms(self) -> tuple[Term, ...]:
        """Its terms besides reaction and coolant."""
        vessel = self.vessel
        falls = () if vessel.pressure_drop is None else (pressure_fall,)
        wall = () if vessel.wall is None else (vessel.wall.term(self.chemistry.names, along=True),)
        side = () if vessel.side is None else (SideFeedTerm(),)
        return (*falls, *wall, *side)

    def build_model(self) -> Model:
        return along_tube(self.key, self.terms)

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        vessel = self.vessel
        T, feed_T = self.temperatures(given)
        area, P = self.area(given), vessel.feed.pressure(fed, given)
        found: dict[sp.Symbol, Number] = {
            TEMPERATURE: T,
            START_T: T,
            FEED_T: feed_T,
            FLOW: fed.volume,
            AREA: area,
            PRESSURE: P,
            FEED_P: P,
        }
        if isinstance(vessel.heat, Jacket):
            found[TRANSFER] = self.transfer(given, fed)
            found[COOLANT_LEAVES] = feed_T
        if vessel.wall is not None:
            swept = None if vessel.wall.sweep is None else vessel.wall.sweep.mixture(self.species_by_name)
            found |= vessel.wall.numbers(given, 4 / self.width(given), self.end(given, fed), swept)
        if vessel.side is not None:
            side_mixture = vessel.side.feed.mixture(self.species_by_name)
            found |= vessel.side.numbers(side_mixture, self.end(given, fed), T, self.chemistry.names)
        if vessel.pressure_drop is not None:
            found[MASS_FLUX] = self.mass_flow(fed) / area
            if self.packing is not None:
                both = vessel.pressure_drop.packed(self.packing.voidage.si, self.packing.particle_diameter.si)
            else:
                both = vessel.pressure_drop.empty(found[MASS_FLUX], self.width(given))
            found |= dict(zip((LAMINAR, TURBULENT), both, strict=True))
        return found

    def transfer(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """U a in W/(m^3 K)."""
        if self.vessel.heat.has_conductance:
            return self.vessel.heat.conductance(given) / self.end(given, fed)
        return given.get("U", self.vessel.heat.U.si) * 4 / self.width(given)

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        vessel = self.vessel
        sides = [vessel.wall.sweep] if vessel.wall is not None and vessel.wall.sweep is not None else []
        sides += [vessel.side.feed] if vessel.side is not None else []
        return [*super().given_inputs(), *(pair for feed in sides for pair in feed.given())]

    @property
    def has_boundary_values(self) -> bool:
        """Whether a condition is given at its end: the inlet of a coolant."""
        return self.heat_shape.coolant == "counter-current"

    @cached_property
    def case(self) -> Case:
        """The balances with their numbers; of a counter-current coolant with its outlet temperature."""
        plain: Case = super().case
        if not self.has_boundary_values or not math.isfinite(self.end_si):
            return plain
        try:
            return solve_boundary(plain, self.end_si)
        except SolveError as error:
            raise SolveError(fault.within(self.label) for fault in error.faults) from error

    @property
    def sizing_route(self) -> str:  # type: ignore[override]
        """One run contains every shorter tube, unless a condition at its end, or one that is spread over its length,
        acts on the whole."""
        vessel = self.vessel
        by_size = isinstance(vessel.heat, Jacket) and vessel.heat.has_conductance
        by_size = by_size or vessel.side is not None or (vessel.wall is not None and vessel.wall.area is not None)
        return "whole runs" if self.has_boundary_values or by_size else "run"

    def default_size(self) -> str:
        return "length" if self.vessel.diameter is not None else "volume"

    def size_at(self, name: str, passed: float) -> float:
        if name == "length":
            if self.vessel.diameter is None:
                message = "the length cannot be found without a diameter"
                raise InputError(message, self.label, "give the diameter")
            return passed / self.cross_section()
        return super().size_at(name, passed)

    def choked(self, error: SolveError) -> SolveError:
        """The error of a tube whose pressure falls to zero, with the place."""
        if self.vessel.pressure_drop is None or not (error.symbol == PRESSURE or self.is_falling(error.reached)):
            return error
        return self.used_up(error.reached)

    def is_falling(self, at: float) -> bool:
        """Whether the pressure is small just before a place."""
        if not 0 < at < self.end_si:
            return False
        try:
            before = follow(self.vessel.with_({"volume": 0.999 * at}), 0.999 * at, 2, rtol=RTOL, atol=ATOL)
        except SolveError:
            return False
        return float(before.series["pressure"][-1]) < 0.2 * self.feed_pressure()

    def used_up(self, at: float) -> SolveError:
        area = self.cross_section()
        place, whole = (self.display.text(v / area, "length") for v in (at, self.end_si))
        message = f"the tube chokes: its pressure falls to zero at length {place} of {whole}"
        advice = "give more tubes, a larger diameter or particle, a shorter bed, less flow or a higher pressure"
        found = SolveError([Fault(self.label, message, advice)])
        found.reached, found.symbol = at, PRESSURE
        return found

    def margin(self) -> sp.Expr | None:
        """The quantity that is zero where a gas chokes: G^2 = rho P."""
        if not self.is_gas or self.vessel.pressure_drop is None:
            return None
        return PRESSURE - MASS_FLUX * LOCAL_FLOW / AREA

    def check_choking(self, run: Run) -> None:
        limit = self.margin()
        if limit is None or run.trajectory.most(limit, -1.0)[1] > 0:
            return
        crossed = run.trajectory.crossings(limit)
        raise self.used_up(crossed[0] if crossed else 0.0)


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
    feed : Feed, optional
        In a train it is that of the train.
    diameter, length : optional
        Inner diameter and length of a tube; without length, `mo.size` finds it.
    tubes : int
        Tubes in parallel, sharing the feed.
    volume : optional
        Of all tubes; instead of diameter and length.
    space_time : optional
        Volume over volumetric flow of the feed; instead of volume.
    catalyst_mass : optional
        In all tubes; instead of volume, with the bulk density of the catalyst.
    T : temperature, optional
        Prescribed in the tube; by default that of the feed. Not given with a heat balance.
    heat : "isothermal", "adiabatic", Jacket or Profile
        Isothermal by default; the duty is then a result. A profile is over the length (without a diameter, over the
        volume).
    pressure_drop : PressureDrop, optional
        By default the pressure is constant.
    wall : Membrane, optional
        The wall of the tubes, or one with its own area.
    side : DistributedFeed, optional
        A feed that is distributed evenly along the tube.
    catalyst : Catalyst, optional
        Needed where a rate is per catalyst mass, catalyst volume or area.
    profiles : mapping of condition to Profile, optional
        Other conditions that change during the run, like a constant of the chemistry: {"u": mo.Profile([...])}.
    name : str
        For tables and messages.
    show : mapping of kind to unit
        Units of results, e.g. {"time": "h"}; by default those of the inputs.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, diameter="20 mm", length="16 m")
    >>> run = tube.run()
    >>> round(run.conversion("A"), 4)
    0.6341
    """

    noun: ClassVar[str] = "plug flow"
    chemistry: Chemistry
    feed: Feed = several_forms()
    diameter: QuantityField = quantity("diameter", setting=True, independent=True)
    length: QuantityField = quantity("length", size=True, independent=True)
    tubes: int = option(1, setting=True)
    volume: QuantityField = quantity("volume", size=True, independent=True)
    space_time: QuantityField = quantity("time", size=True, independent=True)
    catalyst_mass: QuantityField = quantity("mass", size=True, independent=True)
    T: QuantityField = quantity("temperature", setting=True, independent=True)
    heat: ReadField = several_forms()
    pressure_drop: PressureDrop | None = part(PressureDrop)
    wall: Membrane | None = None
    side: DistributedFeed | None = None
    catalyst: Catalyst | None = part(Catalyst)
    name: str = ""
    profiles: Mapping[str, Profile] = field(default_factory=dict)
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> PlugFlowSpecification:
        return PlugFlowSpecification(self)

    def run(self, points: object = None, rtol: float = RTOL, atol: float = ATOL, verify: str = "usual") -> Run:
        """Integrate the balances from the inlet to the end of the tube.

        Parameters
        ----------
        points : int or array of m^3, optional
            The number of rows of the result, evenly spaced, or their volumes from the inlet (0 and the end are added).
            By default evenly spaced rows, with more where a state changes between two of them.
        rtol, atol : float
            Tolerances of the integration, relative to each state and as a fraction of its scale.
        verify : "usual" or "thorough"
            "thorough": a second integration by another method at a hundredth of the tolerances must agree.

        Raises
        ------
        InputError
            If there is no length or volume, or constants are unknown.
        SolveError
            If the integration cannot go on, or the pressure is used up before the end.
        """
        if not math.isfinite(self.spec.end_si):
            advice = "give length='60 m' (with a diameter) or volume='2 m3', or size it: mo.size(...)"
            raise InputError("no length or volume is given", self.label, advice)
        self.spec.require_known()
        try:
            run = follow(self, self.spec.end_si, points, rtol=rtol, atol=atol)
        except SolveError as error:
            raise self.spec.choked(error) from error
        self.spec.check_choking(run)
        return verified(run, verify)

    def follow(
        self,
        time: QuantityLike,
        contents: object = None,
        changes: Sequence[Change] = (),
        cells: int = 200,
        points: object = 201,
        progress: Callable[[float], None] | None = None,
        settling_band: float = 0.02,
    ) -> TubeInTime:
        """Integrate the tube over time: start-up, steps of the feed, fronts that move through a bed.

        dn_i/dt = -dF_i/dV + sum_j nu_ij r_j with the voidage of a bed, in cells of finite volume; a catalyst decays
        locally, a packing adsorbs by its isotherm.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, or "steady", optional
            The contents at the start, at the temperature of the feed; "steady": the steady state. By default the feed.
        changes : sequence of Change, optional
            Steps and ramps of feed, flow, temperature or coolant: [mo.Change("[A]", "2 mol/L", at="5 min")].
        cells : int
            Number of cells; the result states its difference from half as many.
        points : int or array of s
            Moments of the result.
        progress : callable, optional
            Called with the fraction of the time that is done.
        settling_band : float
            A quantity counts as settled within this fraction of its largest distance from the end.

        Raises
        ------
        InputError
            For features that are not available over time: a pressure drop, a membrane, a coolant of changing
            temperature.
        SolveError
            If the integration fails.
        """
        return follow_tube(self, time, contents, changes, cells, points, progress, settling_band)

    def __str__(self) -> str:
        many = f"{self.tubes} tubes" if self.tubes > 1 else "tube"
        sizes = {
            "of diameter": self.diameter,
            "length": self.length,
            "volume": self.volume,
            "space time": self.space_time,
            "catalyst mass": self.catalyst_mass,
        }
        size = ", ".join(f"{name} {value}" for name, value in sizes.items() if value)
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        sides = "".join(f", {one}" for one in (self.wall, self.side) if one is not None)
        moving = "".join(f", {name} on a profile" for name in self.profiles)
        return f"{self.title}, {many}{' ' + size if size else ''}{at}{ends} fed {self.feed}{sides}{moving}"
