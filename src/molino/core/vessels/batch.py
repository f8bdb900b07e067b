"""The batch vessel."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import MISSING, dataclass, field, replace
from functools import cached_property
from typing import ClassVar

import sympy as sp

from molino.core.balances.balance_symbols import START_T, VOLUME
from molino.core.balances.settings import ATOL, RTOL
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.contents.feed import (
    MIXTURE_CAPACITIES,
    Feed,
    check_model,
    is_gas,
    is_real,
    read_density,
    read_mixture_capacity,
    replaced,
)
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.run_result import RunResult
from molino.core.contract.validation import check_profile, check_vessel, read_vessel_heat
from molino.core.dual import Number
from molino.core.errors import Faults, InputError
from molino.core.frozen import settle
from molino.core.runs.follow import follow, verified
from molino.core.runs.run import Run
from molino.core.schema import QuantityField, ReadField, option, part, quantity, read_fields, several_forms
from molino.core.terms.catalyst import Catalyst
from molino.core.terms.decomposition import Decomposition
from molino.core.terms.gas_phase import GasPhase
from molino.core.terms.heat import Profile
from molino.core.terms.model import Model
from molino.core.terms.well_mixed import well_mixed
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value
from molino.core.vessels.charged_vessel import ChargedSpecification, ChargedVessel, read_total
from molino.core.vessels.gas_vessel import GasSpecification, GasVessel


class BatchSpecification(GasSpecification, ChargedSpecification):
    """The specification of a Batch."""

    vessel: Batch

    def validate(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        read_vessel_heat(faults, vessel)
        if isinstance(vessel.heat, Profile):
            with faults.at(self.label):
                check_profile(vessel.T, vessel.heat.piecewise("time", self.label))
        if isinstance(vessel.charge, Feed):
            with faults.at(self.label):
                self.charge_with(vessel.charge)
        if not isinstance(vessel.charge, Feed | Contents):
            with faults.at(self.label):
                settle(vessel, charge=Contents(vessel.charge, False, "charge"))
        species = list(vessel.charge) if isinstance(vessel.charge, Contents) else None
        if vessel.total is not None:
            with faults.at(self.label):
                settle(vessel, total=read_total(vessel.total))
        with faults.at(self.label):
            check_model(vessel.model)
            if is_real(vessel.model) and vessel.constant_volume:
                raise InputError("a real gas is at constant pressure in a batch", "", "give constant_volume=False")
        with faults.at(self.label):
            settle(vessel, density=read_density(vessel.density))
            settle(vessel, heat_capacity=read_mixture_capacity(vessel.heat_capacity, vessel.density))
        species = [*species, *self.gas_species] if species is not None else None
        check_vessel(faults, self, species, self.first_T)
        if not faults.found:
            with faults.at(self.label):
                self.check_gas()
        faults.raise_any()

    def charge_with(self, feed: Feed) -> None:
        """Take over the concentrations and the temperature of a feed, and whether it is a gas."""
        vessel = self.vessel
        if any(p.value is not None and p.value.deviation for p in feed.contents.values()):
            message = "the feed has standard deviations, and the batch is charged with its concentrations"
            raise InputError(message, "charge", "give the standard deviations to a charge of its own")
        mixture = feed.mixture(self.species_by_name)
        if not isinstance(vessel.heat, Profile):
            settle(vessel, T=vessel.T or feed.T)
        for name in ("heat_capacity", "model"):
            if getattr(vessel, name) is None:
                settle(vessel, **{name: getattr(feed, name)})
        pressure = next((value for kind, value in feed.given() if kind == "pressure"), None) if feed.is_gas else None
        settle(vessel, charge=Contents(feed.contents.settled(mixture), False, "charge", pressure))

    def build_model(self) -> Model:
        follows = self.phase.model == "additive volumes" or (self.is_gas and not self.vessel.constant_volume)
        return well_mixed(self.key, self.gas_terms(), "follows" if follows else "fixed", "charge")

    @property
    def is_gas(self) -> bool:
        """Whether its contents are a gas."""
        return is_gas(self.vessel.model, self.vessel.P, self.vessel.charge)

    def charge_pressure(self, given: Mapping[str, Number]) -> Value | None:
        return replaced(self.vessel.P, given, "P")

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        T = self.start_T(given)
        found: dict[sp.Symbol, Number] = {TEMPERATURE: T, START_T: T, VOLUME: fed.volume}
        if self.is_gas:
            found[PRESSURE] = self.pressure(given, fed)
        return found | self.gas_numbers(given, fed, T)

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return [*super().given_inputs(), *(self.vessel.gas.given() if self.vessel.gas is not None else [])]

    def stream_in(self, run: RunResult) -> Stream:
        charge = super().stream_in(run)
        if self.vessel.gas is None:
            return charge
        amounts = {s: float(self.fed.concentrations.get(s, 0.0) * self.fed.volume) for s in self.chemistry.names}
        return replace(charge, amounts=amounts)

    def side_streams(self, run: RunResult) -> list[Stream]:
        return self.gas_stream(run)

    def pressure(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        if self.vessel.P is not None:
            return given.get("P", self.vessel.P.si)
        return sum(fed.concentrations.values()) * GAS_CONSTANT * self.start_T(given)

    def feed_pressure(self) -> float:
        return float(self.pressure({}, self.fed)) if self.is_gas else math.nan


@dataclass(frozen=True, eq=False)
class Batch(GasVessel, ChargedVessel):
    """A well-mixed batch: a liquid, or a gas at constant volume or at constant pressure.

    dn_i/dt = V sum_j nu_ij r_j (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 1.3),
    with the balance of enthalpy (of internal energy in a gas vessel of constant volume) where the temperature is not
    prescribed.

    Parameters
    ----------
    chemistry : Chemistry
    charge : mapping of species to quantity, or Feed
        The contents at the start, in any form that `Feed` takes, with amounts and masses ("2 kmol", "300 kg") instead
        of flows; a bare number is mol/m^3. A `Feed` charges its concentrations, for comparison with vessels of this
        feed.
    T : temperature, optional
        Needed where a rate constant depends on it; by default that of a feed that is the charge. With a heat balance,
        the temperature at the start.
    volume : optional
        Of the contents; by default it follows from the charge, or is 1 m^3 as a basis.
    total : optional
        Amount or mass of the whole charge, "20 kmol" or "1.5 t", with fractions or ratios.
    P : optional
        Pressure of the charge, which is then an ideal gas; also with partial pressures.
    density : optional
        Of the charge, where volumes and masses are both given.
    heat_capacity, model : optional
        Of the charge, as for `Feed`.
    constant_volume : bool
        Whether a gas has a constant volume; otherwise its pressure is constant.
    heat : "isothermal", "adiabatic", Adiabatic, Jacket or Profile
        Isothermal by default; the duty is then a result.
    time : optional
        Batch time: the end of `run()`; found by `size(free="time")`.
    catalyst : Catalyst, optional
        Needed where a rate is per catalyst mass, catalyst volume or area.
    gas : GasPhase, optional
        A gas that is bubbled through a liquid, or supplied as it is absorbed; `volume` is then of the liquid alone.
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
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> run = mo.Batch(chem, {"A": "1 mol/L"}, time="5 min").run()
    >>> round(run.conversion("A"), 4)
    0.6321
    """

    noun: ClassVar[str] = "batch"
    chemistry: Chemistry
    charge: ReadField = several_forms(MISSING)
    T: QuantityField = quantity("temperature", setting=True)
    volume: QuantityField = quantity("volume", setting=True)
    time: QuantityField = quantity("time", size=True)
    total: ReadField = quantity("amount", alternatives=("mass",))
    P: QuantityField = quantity("pressure", setting=True)
    density: ReadField = quantity("density", alternatives=("concentration",))
    heat_capacity: ReadField = quantity(MIXTURE_CAPACITIES[0], alternatives=MIXTURE_CAPACITIES[1:])
    model: ReadField = option(None)
    constant_volume: bool = option(True)
    heat: ReadField = several_forms()
    catalyst: Catalyst | None = part(Catalyst)
    gas: GasPhase | None = None
    decomposition: Decomposition | None = part(Decomposition)
    technical_limit: QuantityField = quantity("temperature")
    name: str = ""
    profiles: Mapping[str, Profile] = field(default_factory=dict)
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> BatchSpecification:
        return BatchSpecification(self)

    def run(
        self,
        time: QuantityLike | None = None,
        points: object = None,
        rtol: float = RTOL,
        atol: float = ATOL,
        verify: str = "usual",
    ) -> Run:
        """Integrate the batch from the charge to `time` (by default its own batch time).

        Parameters
        ----------
        time : str, float or quantity, optional
        points : int or array of s, optional
            The number of rows of the result, evenly spaced, or their times (0 and the end are added). By default evenly
            spaced rows, with more where a state changes between two of them.
        rtol, atol : float
            Tolerances of the integration, relative to each state and as a fraction of its scale.
        verify : "usual" or "thorough"
            "thorough": a second integration by another method at a hundredth of the tolerances must agree.

        Raises
        ------
        InputError
            If there is no time, or constants are unknown.
        SolveError
            If the integration fails.
        """
        missing = "no batch time is given", "give time='3 h', or size it: mo.size(..., free='time')"
        vessel = self._at_time(time, missing)
        return verified(follow(vessel, vessel.time.si, points, rtol=rtol, atol=atol), verify)

    def __str__(self) -> str:
        size = f" of {self.volume}" if self.volume is not None else ""
        at = f" at {self.T}" if self.T is not None else ""
        whole = f"{self.total} of " if self.total is not None else ""
        under = f"{' and' if at else ' at'} {self.P}" if self.P is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        ends += f", {self.time}" if self.time else ""
        gas = f", {self.gas}" if self.gas is not None else ""
        moving = "".join(f", {name} on a profile" for name in self.profiles)
        return f"{self.title}{size} charged with {whole}{self.charge}{at}{under}{ends}{gas}{moving}"
