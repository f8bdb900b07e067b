"""The continuous stirred tank."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import FEED_T, FLOW, LOCAL_FLOW, START, START_T, VOLUME
from molino.core.balances.many_cases import steady_many
from molino.core.balances.settings import ATOL, RTOL, Report
from molino.core.balances.steady import steady
from molino.core.balances.system import Balances, Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.contents.feed import Feed, mixture_of
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.run_result import RunResult
from molino.core.contract.validation import check_catalyst_mass, check_vessel, read_vessel_heat
from molino.core.dual import Number, value_of
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import settle
from molino.core.runs.follow import explained, follow, settled, verified
from molino.core.runs.run import Run
from molino.core.runs.scheduled_changes import Change, changed_numbers
from molino.core.schema import QuantityField, ReadField, contents, part, quantity, read_fields, several_forms
from molino.core.terms.catalyst import Catalyst
from molino.core.terms.gas_phase import GasPhase
from molino.core.terms.heat import Adiabatic, Jacket, Profile
from molino.core.terms.model import Model
from molino.core.terms.terms import Inflow, outflow
from molino.core.terms.walls import Membrane
from molino.core.terms.well_mixed import well_mixed
from molino.core.units import QuantityLike, Value
from molino.core.vessels.branch import Branch, branch
from molino.core.vessels.flow_vessel import FlowSpecification, FlowVessel
from molino.core.vessels.gas_vessel import GasSpecification, GasVessel
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.steady_states import SteadyStates, only_stable_state, steady_states

_NOTHING = 1e-9
"""An outlet below this fraction of the feed counts as zero."""


class StirredTankSpecification(GasSpecification, FlowSpecification):
    """The specification of a StirredTank."""

    vessel: StirredTank
    has_steady_state: ClassVar[bool] = True
    is_mixed: ClassVar[bool] = True
    whole_numbers: ClassVar[tuple[str, ...]] = ("tanks_in_series",)
    sizing_route: ClassVar[str] = "steady"

    def validate_fed(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        self.check_sizes(faults)
        if vessel.contents is not None and not isinstance(vessel.contents, Contents):
            with faults.at(self.label):
                settle(vessel, contents=Contents(vessel.contents, False, "contents"))
        read_vessel_heat(faults, vessel)
        with faults.at(self.label):
            self.check_heat()
        own = vessel.feed.T if self.is_non_isothermal else vessel.T or vessel.feed.T
        asks = "T of the feed" if self.is_non_isothermal else "T"
        species = [*vessel.feed.contents, *(vessel.contents or ()), *self.gas_species]
        check_vessel(faults, self, species, own, asks)
        with faults.at(self.label):
            check_catalyst_mass(vessel, vessel.catalyst_mass)
        with faults.at(self.label):
            self.check_wall()
        with faults.at(self.label):
            self.check_gas()
        faults.raise_any()

    def check_heat(self) -> None:
        vessel = self.vessel
        if isinstance(vessel.heat, Profile):
            raise InputError("a tank at steady state has no profile", "heat", "change T over time: tank.run(...)")
        if isinstance(vessel.heat, Jacket):
            if vessel.heat.counter_current:
                raise InputError("a counter-current coolant needs a tube", "heat", "give coil=True, or leave it out")
            if not vessel.heat.has_conductance:
                raise InputError("U is given without the area", "heat", "give area='6 m2', or UA")

    def check_wall(self) -> None:
        self.check_membrane()
        if self.vessel.wall is None:
            return
        faults = Faults()
        if self.vessel.wall.area is None:
            faults.add("membrane", "the area is not given", "give area='2 m2'")
        if self.vessel.wall.sweep is not None:
            faults.add("membrane", "a sweep flows along a tube", "give outside={...}: the composition beyond the wall")
        faults.raise_any()

    @property
    def start_contents(self) -> Contents | None:
        return self.vessel.contents  # type: ignore[no-any-return]

    def as_tube(self) -> PlugFlow:
        """A tube of a single cell."""
        tank, heat = self.vessel, self.vessel.heat
        self.require_volume()
        if isinstance(heat, Jacket) and (heat.wall is not None or heat.stirrer is not None or not heat.has_conductance):
            message = "over time a wall, a stirrer, or U without its area is not available"
            raise InputError(message, self.label, "give UA")
        if heat is not None and not isinstance(heat, Jacket | Adiabatic | str):
            raise InputError(f"over time {heat} is not followed", self.label, "give a jacket, or 'adiabatic'")
        if self.is_non_isothermal and tank.T is not None:
            message = "over time a tank begins at the temperature of its feed"
            raise InputError(message, self.label, "leave T out, or give it to the feed")
        return PlugFlow(
            tank.chemistry,
            tank.feed,
            volume=Value(self.volume_si, "m^3"),
            T=None if self.is_non_isothermal else tank.T,
            heat=heat,
            catalyst=tank.catalyst,
            name=tank.name,
            show=tank.show,
        )

    def build_model(self) -> Model:
        wall = () if self.vessel.wall is None else (self.vessel.wall.term(self.chemistry.names, along=False),)
        return well_mixed(self.key, (Inflow(), outflow, *wall, *self.gas_terms()), "fixed", "contents")

    def present_at_start(self) -> set[str]:
        return super().present_at_start() | {*(self.vessel.contents or ())}

    def start_concentrations(self, given: Mapping[str, Number], fed: Mixture) -> Mapping[str, Number]:
        """Concentrations at t = 0; nan where amounts are given and the volume is unknown."""
        vessel = self.vessel
        T = Value(self.temperatures(given)[0])
        P = Value(vessel.feed.pressure(fed, given), "Pa") if self.is_gas else None
        if vessel.contents is None:
            if not self.is_gas and not self.phase.expansions:
                return fed.concentrations
            whole = sum(fed.concentrations.values())
            shares = {s: Value(c / whole, "mol/mol") for s, c in fed.concentrations.items()}
            nominal = {s: Value(1 / len(shares), "mol/mol") for s in shares}
            kept = Contents(nominal, False, "contents").with_numbers({s: v.si for s, v in shares.items()})
            return mixture_of(kept, [], self.species_by_name, T, P, None, self.fluid_model).concentrations
        volume = self.volume(given, fed)
        is_known = bool(np.isfinite(np.asarray(value_of(volume), dtype=float)).all())
        if vessel.contents.extensive and not is_known:
            return dict.fromkeys(vessel.contents, np.nan)
        totals = [Value(volume)] if is_known else []
        return mixture_of(vessel.contents, totals, self.species_by_name, T, P, None, self.fluid_model).concentrations

    @property
    def needs_size(self) -> bool:
        return not np.isfinite(self.volume_si)

    @property
    def volume_si(self) -> float:
        return float(self.volume({}, self.fed))

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        T, feed_T = self.temperatures(given)
        found: dict[sp.Symbol, Number] = {START(s): c for s, c in self.start_concentrations(given, fed).items()}
        found |= {VOLUME: self.volume(given, fed), FLOW: fed.volume, PRESSURE: self.vessel.feed.pressure(fed, given)}
        if self.vessel.wall is not None:
            found |= self.vessel.wall.numbers(given, np.nan, 1.0, None)
        return found | {TEMPERATURE: T, START_T: T, FEED_T: feed_T} | self.gas_numbers(given, fed, T)

    @property
    def has_side_feed(self) -> bool:  # type: ignore[override]
        return self.vessel.gas is not None

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return [*super().given_inputs(), *(self.vessel.gas.given() if self.vessel.gas is not None else [])]

    def side_streams(self, run: RunResult) -> list[Stream]:
        return self.gas_stream(run)

    def end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        return np.inf

    def require_volume(self) -> None:
        """Raise InputError if no volume is given."""
        if not np.isfinite(self.volume_si):
            advice = "give volume='4 m3' or space_time='20 min', or size it: mo.size(..., free='volume')"
            raise InputError("no volume is given", self.label, advice)

    def solve_steady(self, case: Case, near: np.ndarray | None = None) -> tuple[Case, np.ndarray, Report]:
        return case, *steady(case, case.value(VOLUME) / case.value(FLOW), near)

    def solve_steady_many(self, balances: Balances, values: np.ndarray) -> np.ndarray:
        volume, flow = (values[:, balances.parameters.index(symbol)] for symbol in (VOLUME, FLOW))
        return steady_many(balances, values, volume / flow)

    def check_outflow(self, run: Run) -> None:
        """Raise SolveError if more than the feed permeates through the wall, so that there is no outlet."""
        if self.vessel.wall is None or self.phase.carries_volume:
            return
        if run.is_steady:
            lowest = float(run.stream_out().volume)
        else:
            lowest = run.trajectory.most(LOCAL_FLOW, -1.0)[1]
        if lowest < _NOTHING * float(self.fed.volume):  # at steady state also a root with a zero outlet
            message = "the flow through the membrane equals or exceeds the feed, so that there is no outlet"
            raise SolveError(message, self.label, "give less area, or a lower pressure in the tank")

    def progress_end(self) -> float:
        return self.volume_si / float(self.fed.volume)


@dataclass(frozen=True, eq=False)
class StirredTank(GasVessel, FlowVessel):
    """A continuous stirred tank: well mixed, at constant volume, of a liquid or a gas.

    dn_i/dt = F_i,in - Q c_i + V sum_j nu_ij r_j (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, ch. 5),
    with the outlet flow Q that keeps the volume constant, and where the temperature is not prescribed

        sum_i n_i Cp_i dT/dt = Q_wall + W - sum_i F_i,in (h_i(T) - h_i(T_in)) - V sum_j dH_j r_j

    (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 13.1).

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed, optional
        In a train it is that of the train.
    volume, space_time, catalyst_mass : optional
        One of the three, or none (`mo.size` finds it): the volume of the contents; volume over volumetric flow of the
        feed; the mass of catalyst of a given bulk density (loading).
    T : temperature, optional
        Prescribed in the tank, by default that of the feed; in a tank with heat balance the temperature at t = 0.
    contents : mapping of species to concentration or amount, optional
        Contents at t = 0; by default the feed.
    heat : "isothermal", "adiabatic", Adiabatic or Jacket
        Isothermal by default; the duty is then a result.
    wall : Membrane, optional
        Of a known area.
    catalyst : Catalyst, optional
        Needed where a rate is per catalyst mass, catalyst volume or area.
    gas : GasPhase, optional
        A well-mixed gas that is bubbled through the liquid; `volume` is then of the liquid alone.
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
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> round(tank.steady().conversion("A"), 4)
    0.5
    >>> round(tank.run("3 min").conversion("A"), 4)
    0.3494
    """

    noun: ClassVar[str] = "stirred tank"
    chemistry: Chemistry
    feed: Feed = several_forms()
    volume: QuantityField = quantity("volume", size=True, independent=True)
    space_time: QuantityField = quantity("time", size=True, independent=True)
    catalyst_mass: QuantityField = quantity("mass", size=True, independent=True)
    T: QuantityField = quantity("temperature", setting=True, independent=True)
    contents: ReadField = contents()
    heat: ReadField = several_forms()
    wall: Membrane | None = None
    catalyst: Catalyst | None = part(Catalyst)
    gas: GasPhase | None = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> StirredTankSpecification:
        return StirredTankSpecification(self)

    def steady(self, near: np.ndarray | None = None) -> Run:
        """The steady state that is reached from the contents at t = 0; `steady_states` finds all of several.

        Parameters
        ----------
        near : array, shape (states,), optional
            The state of a similar tank, as a first guess.

        Raises
        ------
        InputError, SolveError
            If there is no volume, or constants are unknown; if no steady state is reached.
        """
        self.spec.require_volume()
        self.spec.require_known()
        try:
            _, state, report = self.spec.solve_steady(self.spec.case, near)
        except SolveError as error:
            only = only_stable_state(self)
            if only is None:
                raise explained(self, error) from error
            state, report = only
        run = settled(self, state, report)
        self.spec.check_outflow(run)
        return run

    def steady_states(self, T: tuple[object, object] | None = None) -> SteadyStates:
        """All steady states within bounds of temperature, each with its stability.

        The species balances are solved at every temperature between the bounds, along a curve (through folds) that
        begins at the coldest; steady states are the points where heat generation equals heat removal. All steady states
        on this curve are found; others at the same temperature that are not connected to it would be missed. If the
        temperature is prescribed, the steady states on the curve over the volume are found, and those that start-ups
        from the contents at t = 0 and from a fully reacted state reach.

        Parameters
        ----------
        T : pair of temperatures, optional
            Bounds; by default from the coldest feed to 600 K above the hottest.

        Raises
        ------
        InputError, SolveError
            For invalid bounds, or bounds of a prescribed temperature; if the curve cannot be followed.
        """
        return steady_states(self, T)

    def branch(self, free: Mapping[str, Sequence[QuantityLike]]) -> Branch:
        """The steady states as one condition varies, followed through ignition and extinction.

        Parameters
        ----------
        free : mapping of one condition to its range
            {"feed T": ("20 degC", "80 degC")}. The curve begins at the steady state of the lower end.

        Raises
        ------
        InputError, SolveError
            For an unknown condition or an invalid range; if the curve cannot be followed.
        """
        return branch(self, free)

    def run(
        self,
        time: QuantityLike | None = None,
        points: object = None,
        changes: Sequence[Change] = (),
        rtol: float = RTOL / 10,
        atol: float = ATOL / 10,
        settling_band: float = 0.02,
        verify: str = "usual",
    ) -> Run:
        """Compute the steady state, or the course over a time from the contents at t = 0.

        Parameters
        ----------
        time : str, float or quantity, optional
            Without it the steady state is computed, as by `steady()`.
        points : int or array of s, optional
            As for `Batch.run`.
        changes : sequence of Change, optional
            Steps and ramps of feed, flow, temperature or coolant: [mo.Change("feed T", "60 degC", at="2 h")].
        rtol, atol : float
            As for `Batch.run`; a tenth of them, since the outlet is integrated, too.
        settling_band : float
            A quantity counts as settled within this fraction of its largest distance from the steady state.
        verify : "usual" or "thorough"
            "thorough": a second integration by another method at a hundredth of the tolerances must agree.

        Raises
        ------
        InputError, SolveError
            If there is no volume, constants are unknown, or a change is invalid; if the integration fails.
        """
        if time is None:
            if changes:
                raise InputError("changes are given without a time", self.label, "give time='6 h'")
            return verified(self.steady(), verify)
        self.spec.require_volume()
        end = units.positive(time, "time", f"{self.label}, time").si
        as_built = self.with_(**{**dict.fromkeys(self.spec.sizes), "volume": Value(self.spec.volume_si, "m^3")})
        run = follow(self, end, points, rtol=rtol, atol=atol, moving_numbers=changed_numbers(as_built, changes))
        self.spec.check_outflow(run)
        return replace(verified(run, verify), settling_band=settling_band)

    def __str__(self) -> str:
        sizes = {"of": self.volume, "of space time": self.space_time, "of catalyst mass": self.catalyst_mass}
        size = "".join(f" {name} {value}" for name, value in sizes.items() if value is not None)
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}," if self.heat is not None else ""
        more = "".join(f", {one}" for one in (self.wall, self.gas) if one is not None)
        return f"{self.title}{size}{at}{ends} fed {self.feed}{more}"
