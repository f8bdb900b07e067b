"""The semi-batch vessel: charged, then dosed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import MISSING, dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import HELD, OVERFLOWING, START, START_T, VOLUME, WITHDRAWN
from molino.core.balances.integrate import Event
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.balances.settings import ATOL, RTOL
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contents.feed import (
    MIXTURE_CAPACITIES,
    check_model,
    is_real,
    mixture_of,
    read_density,
    read_mixture_capacity,
)
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.condition import Condition
from molino.core.contract.run_result import RunResult
from molino.core.contract.validation import check_profile, check_vessel, read_vessel_heat
from molino.core.contract.vessel_fields import VesselFields
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import FrozenMapping, settle
from molino.core.runs.follow import follow, verified
from molino.core.runs.run import Run
from molino.core.schema import QuantityField, ReadField, option, part, quantity, read_fields, several_forms
from molino.core.terms.catalyst import Catalyst
from molino.core.terms.decomposition import Decomposition
from molino.core.terms.heat import Jacket, Profile
from molino.core.terms.model import Model
from molino.core.terms.terms import Inflow, outflow
from molino.core.terms.well_mixed import well_mixed
from molino.core.units import QuantityLike, Value
from molino.core.vessels.charged_vessel import ChargedSpecification, ChargedVessel, read_total
from molino.core.vessels.dosing import Dosing

if TYPE_CHECKING:
    from molino.core.balances.integrate import Switch


class SemiBatchSpecification(ChargedSpecification):
    """The specification of a SemiBatch."""

    vessel: SemiBatch

    def validate(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        if not isinstance(vessel.charge, Contents):
            with faults.at(self.label):
                settle(vessel, charge=Contents(vessel.charge, False, "charge"))
        if vessel.total is not None:
            with faults.at(self.label):
                settle(vessel, total=read_total(vessel.total))
        if not vessel.doses or not all(isinstance(d, Dosing) for d in vessel.doses.values()):
            faults.add(self.label, "no dosing is given", "write doses={'acid': mo.Dosing(feed, windows=[...])}")
            faults.raise_any()
        settle(vessel, doses=FrozenMapping(vessel.doses))
        with faults.at(self.label):
            check_model(vessel.model)
            if is_real(vessel.model) or vessel.model == "ideal gas" or self.is_charged_with_gas:
                raise InputError("a semi-batch vessel holds a liquid", "", "use a batch, or a tank of gas")
        with faults.at(self.label):
            settle(vessel, density=read_density(vessel.density))
            settle(vessel, heat_capacity=read_mixture_capacity(vessel.heat_capacity, vessel.density))
        read_vessel_heat(faults, vessel)
        with faults.at(self.label):
            self.check_heat()
        for name, dose in vessel.doses.items():
            with faults.at(f"{self.label}, {name}"):
                dose.piecewise(1.0)
                if (self.is_non_isothermal or isinstance(vessel.heat, Profile)) and dose.feed.T is None:
                    raise InputError("the feed has no temperature, which the energy balance needs", "", "give T")
        with faults.at(self.label):
            settle(vessel, _withdrawn=self.read_withdrawal())
        fed = [s for d in vessel.doses.values() for s in d.feed.contents]
        species = [*vessel.charge, *fed] if isinstance(vessel.charge, Contents) else None
        check_vessel(faults, self, species, self.first_T)
        if not faults.found and vessel.capacity is not None and vessel.capacity.si < self.fed.volume:
            charge = self.display.text(self.fed.volume, "volume")
            message = f"the charge of {charge} is larger than the capacity of {vessel.capacity}"
            faults.add(self.label, message, "charge less, or give a larger capacity")
        faults.raise_any()

    def check_heat(self) -> None:
        vessel = self.vessel
        if isinstance(vessel.heat, Profile):
            check_profile(vessel.T, self.profile)
        if isinstance(vessel.heat, Jacket) and not vessel.heat.has_conductance:
            raise InputError("U is given without the area", "heat", "give area='6 m2', or UA")

    @property
    def is_charged_with_gas(self) -> bool:
        return isinstance(self.vessel.charge, Contents) and self.vessel.charge.is_gas

    @property
    def is_gas(self) -> bool:
        """Always false: it holds a liquid."""
        return False

    def read_withdrawal(self) -> PiecewiseLinear | None:
        vessel = self.vessel
        if vessel.withdrawal is None:
            return None
        if isinstance(vessel.withdrawal, list | tuple):
            return PiecewiseLinear.read(vessel.withdrawal, "time", "volumetric flow", "withdrawal", zero=True)
        return PiecewiseLinear.constant(units.positive(vessel.withdrawal, "volumetric flow", "withdrawal").si)

    @cached_property
    def withdrawn(self) -> PiecewiseLinear | None:
        """The withdrawal over time."""
        return self.read_withdrawal()

    @property
    def inflows(self) -> dict[str, Inflow]:
        return {name: Inflow(name) for name in self.vessel.doses}

    @cached_property
    def doses_fed(self) -> dict[str, Mixture]:
        """The mixture of each feed."""
        return {
            name: mixture_of(
                d.feed.contents,
                [f for f in d.feed.flows if f is not None] or [Value(1.0, "m^3/s")],
                self.species_by_name,
                d.feed.T,
                None,
                d.feed.density,
                self.vessel.model,
            )
            for name, d in self.vessel.doses.items()
        }

    def is_fed(self, species: str) -> bool:
        fed = any(s.concentrations.get(species, 0.0) > 0 for s in self.doses_fed.values())
        return super().is_fed(species) or fed

    def build_model(self) -> Model:
        follows = self.phase.model == "additive volumes"
        leaves = self.vessel.capacity is not None or self.vessel.withdrawal is not None
        terms = (*self.inflows.values(), *((outflow,) if leaves else ()))
        return well_mixed(self.key, terms, "follows" if follows else "carried", "contents")

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        T = self.start_T(given)
        found: dict[sp.Symbol, Number] = {
            TEMPERATURE: T,
            START_T: T,
            VOLUME: fed.volume,
            OVERFLOWING: 0.0,
            WITHDRAWN: 0.0,
        }
        found |= {START(s): fed.concentrations.get(s, 0.0) for s in self.chemistry.names}
        for name, flow in self.inflows.items():
            stream, own_T = self.doses_fed[name], self.vessel.doses[name].feed.T
            found |= {flow.inside(s): stream.concentrations.get(s, 0.0) for s in self.chemistry.names}
            found |= {
                flow.flow: given.get(f"{name} rate", self.steady_doses.get(name, 0.0)),
                flow.T: own_T.si if own_T is not None else T,
            }
        return found

    def moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        found = super().moving_numbers()
        for name, flow in self.inflows.items():
            if name not in self.steady_doses:
                found[flow.flow] = self.vessel.doses[name].piecewise(float(self.doses_fed[name].volume))
        if self.withdrawn is not None:
            found[WITHDRAWN] = self.withdrawn
        return found

    @property
    def has_segments(self) -> bool:
        return True

    def more_conditions(self) -> Iterable[Condition]:
        return (self.profile_condition(f"{name} rate") for name in self.steady_doses)

    @cached_property
    def steady_doses(self) -> dict[str, float]:
        """The doses of constant rate, and their rates."""
        courses = {name: d.piecewise(float(self.doses_fed[name].volume)) for name, d in self.vessel.doses.items()}
        return {name: c.values[0] for name, c in courses.items() if len({*c.values}) == 1}

    def profile_condition(self, name: str) -> Condition:
        if name not in self.more_movable():
            return super().profile_condition(name)
        own = name.removesuffix(" rate")

        def put(value: object) -> SemiBatch:
            return self.vessel.with_(
                doses={**self.vessel.doses, own: Dosing(self.vessel.doses[own].feed, rate=[(0.0, value)])}
            )

        kind = "volumetric flow"
        return Condition(name, kind, _read_rate, put, self.steady_doses.get(own, np.nan), kind)

    def with_profile(self, name: str, profile: Profile) -> VesselFields:
        dose = self.vessel.doses.get(name.removesuffix(" rate")) if name.endswith(" rate") else None
        if dose is None:
            return super().with_profile(name, profile)
        changed = Dosing(dose.feed, rate=[*profile.points])
        return self.vessel.with_(doses={**self.vessel.doses, name.removesuffix(" rate"): changed})

    def moved_symbols(self, name: str) -> dict[sp.Symbol, tuple[float, float]]:
        if name in self.more_movable():
            return {self.inflows[name.removesuffix(" rate")].flow: (0.0, 1.0)}
        return super().moved_symbols(name)

    def more_movable(self) -> tuple[str, ...]:
        return tuple(f"{name} rate" for name in self.vessel.doses)

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return [*super().given_inputs(), *(pair for dose in self.vessel.doses.values() for pair in dose.feed.given())]

    def stream_in(self, run: RunResult) -> Stream:
        return replace(super().stream_in(run), name="charged and fed", volume=np.nan)

    def switch(self) -> Switch | None:
        """The moment at which it is full; from then on it overflows while inflow exceeds withdrawal."""
        if self.vessel.capacity is None:
            return None
        full = Event("full", HELD - sp.Float(self.vessel.capacity.si), 1, True, self.vessel.capacity.si)
        inflows = tuple(f.flow for f in self.inflows.values())

        def after(case: Case, is_full: bool, state: np.ndarray | None) -> tuple[Case, tuple[Event, ...], bool]:
            inflow = sum(case.value(flow) for flow in inflows)
            is_full = is_full and inflow > case.value(WITHDRAWN)
            return case.with_values({OVERFLOWING: 1.0 if is_full else 0.0}), () if is_full else (full,), is_full

        return after


@dataclass(frozen=True, eq=False)
class SemiBatch(ChargedVessel):
    """A well-mixed vessel that is charged and then dosed: a liquid whose volume grows.

    dn_i/dt = sum over feeds Q c_i,in - Q_out c_i + V sum_j nu_ij r_j, dV/dt = sum Q - Q_out at constant density
    (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 6.6); with additive volumes V
    follows from the amounts. Energy as in `StirredTank`.

    Parameters
    ----------
    chemistry : Chemistry
    charge : mapping of species to quantity
        Contents at the start, as for `Batch`.
    doses : mapping of name to Dosing
        The feeds and their times.
    T : temperature, optional
        At the start; constant if isothermal.
    volume : optional
        Of the charge.
    capacity : volume, optional
        Full volume, above which it overflows.
    withdrawal : flow or list of (time, flow), optional
        Volumetric flow of the contents that is withdrawn.
    time : optional
        The end of `run()`; found by `size(free="time")`.
    total : optional
        Amount or mass of the whole charge, with fractions or ratios.
    density : optional
        Of the charge, where volumes and masses are both given.
    heat_capacity, model : optional
        Of the charge, as for `Feed`; liquids only.
    heat : "isothermal", "adiabatic", Adiabatic, Jacket or Profile
        Isothermal by default; the duty is then a result.
    catalyst : Catalyst, optional
        Needed where a rate is per catalyst mass, catalyst volume or area.
    decomposition : Decomposition, optional
        Of the contents, which may follow a cooling failure; see `heat_safety`.
    technical_limit : temperature, optional
        The highest technically permitted temperature: the boiling point at the pressure of the vessel, or the
        temperature at which a relief device opens.
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
    >>> chem = mo.Chemistry(mo.Reaction("A + B -> C", k="0.2 L/mol/min"))
    >>> dose = mo.Dosing(mo.Feed({"B": "2 mol/L"}, flow="1 L/min"), windows=[("0 min", "10 min")])
    >>> vessel = mo.SemiBatch(chem, {"A": "1 mol/L"}, {"B": dose}, volume="20 L", time="30 min")
    >>> round(vessel.run().stream_out().volume, 4)
    0.03
    """

    noun: ClassVar[str] = "semi-batch"
    chemistry: Chemistry
    charge: ReadField = several_forms(MISSING)
    doses: Mapping[str, Dosing] = several_forms(MISSING)
    T: QuantityField = quantity("temperature", setting=True)
    volume: QuantityField = quantity("volume", setting=True)
    capacity: QuantityField = quantity("volume", setting=True)
    withdrawal: ReadField = quantity("volumetric flow", profile=True)
    time: QuantityField = quantity("time", size=True)
    total: ReadField = quantity("amount", alternatives=("mass",))
    density: ReadField = quantity("density", alternatives=("concentration",))
    heat_capacity: ReadField = quantity(MIXTURE_CAPACITIES[0], alternatives=MIXTURE_CAPACITIES[1:])
    model: ReadField = option(None)
    heat: ReadField = several_forms()
    catalyst: Catalyst | None = part(Catalyst)
    decomposition: Decomposition | None = part(Decomposition)
    technical_limit: QuantityField = quantity("temperature")
    name: str = ""
    profiles: Mapping[str, Profile] = field(default_factory=dict)
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> SemiBatchSpecification:
        return SemiBatchSpecification(self)

    def run(
        self,
        time: QuantityLike | None = None,
        points: object = None,
        rtol: float = RTOL / 10,
        atol: float = ATOL / 10,
        verify: str = "usual",
    ) -> Run:
        """Integrate the vessel from the charge to `time` (by default its own); raises as `Batch.run`.

        Also InputError if the vessel becomes empty.
        """
        vessel = self._at_time(time, ("no time is given", "give time='3 h'"))
        try:
            run = follow(vessel, vessel.time.si, points, rtol=rtol, atol=atol, switch=vessel.spec.switch())
            return verified(run, verify)
        except SolveError as error:
            if error.symbol != HELD:
                raise
            at = self.spec.display.text(error.reached, "time")
            raise InputError(f"it is empty before {at}", self.label, "withdraw less, or stop earlier") from error

    def __str__(self) -> str:
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        ends += f", {self.time}" if self.time else ""
        dosed = "; ".join(f"{name}: {dose}" for name, dose in self.doses.items())
        return f"{self.title} charged with {self.charge}{at}{ends}, dosed with {dosed}"


def _read_rate(value: object) -> tuple[float, str]:
    return units.positive(value, "volumetric flow", "rate", zero=True).si, "volumetric flow"
