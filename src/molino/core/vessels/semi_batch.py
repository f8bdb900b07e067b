"""The semi-batch vessel: charged, then dosed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.integrate import ATOL, RTOL, Event
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.schema import option, part, quantity, read_fields
from molino.core.units import Value
from molino.core.vessels.base import Setting, check_profile, check_vessel, read_vessel_heat
from molino.core.vessels.catalyst import Catalyst
from molino.core.vessels.charged_vessel import ChargedVessel, read_total
from molino.core.vessels.decomposition import Decomposition
from molino.core.vessels.feed import (
    MIXTURE_CAPACITIES,
    Feed,
    check_model,
    is_real,
    mixture_of,
    read_density,
    read_mixture_capacity,
    require_feed,
)
from molino.core.vessels.heat import Jacket, Profile
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.model import Model
from molino.core.vessels.piecewise_linear import PiecewiseLinear
from molino.core.vessels.roles import HELD, OVERFLOWING, START, START_T, VOLUME, WITHDRAWN
from molino.core.vessels.run import Run, follow, verified
from molino.core.vessels.streams import Stream
from molino.core.vessels.terms import Inflow
from molino.core.vessels.well_mixed import well_mixed

if TYPE_CHECKING:
    from molino.core.vessels.trajectory import Switch


@dataclass(frozen=True, eq=False)
class Dosing(Frozen, Printed):
    """A feed into a semi-batch vessel, over time.

    Parameters
    ----------
    feed : Feed
        Its flow is the rate of dosing while a window is open (besides a `rate` its flow does not matter).
    windows : list of (from, to), optional
        When it runs: [("0 min", "45 min")]; all the time, if neither windows nor rate are given.
    rate : list of (time, volumetric flow), optional
        A profile of straight lines instead; the same time twice is a jump.

    Raises
    ------
    InputError
        With everything that is wrong.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A + B -> C", k="0.2 L/mol/min"))
    >>> dose = mo.Dosing(mo.Feed({"B": "2 mol/L"}, flow="1 L/min"), windows=[("0 min", "10 min")])
    >>> run = mo.SemiBatch(chem, {"A": "1 mol/L"}, {"B": dose}, volume="20 L", time="30 min").run()
    >>> round(run.conversion("A"), 3)
    0.769
    """

    feed: Feed
    windows: Any = None
    rate: Any = None

    def __post_init__(self) -> None:
        require_feed(self.feed, "dosing")
        if self.windows is not None and self.rate is not None:
            raise InputError("both windows and a rate are given", "dosing", "give one of them")
        if self.feed.is_gas:
            raise InputError("a gas is dosed", "dosing", "a semi-batch vessel holds a liquid: leave P out")

    def piecewise(self, flow: float) -> PiecewiseLinear:
        """Volumetric flow over time, with the feed's own flow while it runs."""
        if self.rate is not None:
            return PiecewiseLinear.read(self.rate, "time", "volumetric flow", "dosing, rate", zero=True)
        if self.windows is None:
            return PiecewiseLinear.constant(flow)
        faults = Faults()
        times: list[float] = [0.0]
        values: list[float] = [0.0]
        for window in self.windows:
            with faults.at("dosing, windows"):
                if not isinstance(window, list | tuple) or len(window) != 2:
                    raise InputError(f"{window!r} is not a window", "", "write [('0 min', '45 min')]")
                begin, end = (units.positive(t, "time", "window", zero=True).si for t in window)
                if not times[-1] <= begin < end:
                    raise InputError(f"{window!r} does not come after the one before it", "", "put windows in order")
                times += [begin, begin, end, end]
                values += [0.0, flow, flow, 0.0]
        faults.raise_any()
        return PiecewiseLinear(tuple(times), tuple(values))

    def __str__(self) -> str:
        when = ""
        if self.windows is not None:
            when = " " + " and ".join(f"from {a} to {b}" for a, b in self.windows)
        return f"{self.feed}{when}" + (" by a rate profile" if self.rate is not None else "")


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
        What is in it at the start, as for `Batch`.
    doses : mapping of name to Dosing
        What is fed, and when.
    T : temperature, optional
        At the start, and kept if the heat is isothermal.
    volume : optional
        Of the charge.
    capacity : volume, optional
        At which it is full: from then on as much flows over as comes in.
    withdrawal : flow or list of (time, flow), optional
        Volumetric flow of the contents that is taken out.
    time : optional
        What `run()` runs to and `size(vary="time")` finds.
    total : optional
        Amount or mass of the whole charge, together with fractions or ratios.
    density : optional
        Of the charge, where volume and mass must be brought together.
    heat_capacity, model : optional
        Of the charge, as for `Feed`; liquids only.
    heat : "isothermal", "adiabatic", Adiabatic, Jacket or Profile
        What passes through the walls; isothermal if left out, with the duty that this takes.
    catalyst : Catalyst, optional
        Where a rate is per catalyst mass, catalyst volume or area.
    decomposition : Decomposition, optional
        Of its contents, which a failure of cooling may set off; see `heat_safety`.
    technical_limit : temperature, optional
        The highest that it may reach for technical reasons: the boiling point of its contents at its pressure, or where
        a relief device opens.
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
    >>> chem = mo.Chemistry(mo.Reaction("A + B -> C", k="0.2 L/mol/min"))
    >>> dose = mo.Dosing(mo.Feed({"B": "2 mol/L"}, flow="1 L/min"), windows=[("0 min", "10 min")])
    >>> vessel = mo.SemiBatch(chem, {"A": "1 mol/L"}, {"B": dose}, volume="20 L", time="30 min")
    >>> round(vessel.run().stream_out().volume, 4)
    0.03
    """

    noun: ClassVar[str] = "semi-batch"
    chemistry: Chemistry
    charge: Any
    doses: Mapping[str, Dosing]
    T: Any = quantity("temperature", setting=True)
    volume: Any = quantity("volume", setting=True)
    capacity: Any = quantity("volume", setting=True)
    withdrawal: Any = quantity("volumetric flow", profile=True)
    time: Any = quantity("time", size=True)
    total: Any = quantity("amount", alternatives=("mass",))
    density: Any = quantity("density", alternatives=("concentration",))
    heat_capacity: Any = quantity(MIXTURE_CAPACITIES[0], alternatives=MIXTURE_CAPACITIES[1:])
    model: Any = option(None)
    heat: Any = None
    catalyst: Any = part(Catalyst)
    decomposition: Any = part(Decomposition)
    technical_limit: Any = quantity("temperature")
    name: str = ""
    profiles: Mapping[str, Profile] = field(default_factory=dict)
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, self.label)
        if not isinstance(self.charge, Contents):
            with faults.at(self.label):
                settle(self, charge=Contents(self.charge, False, "charge"))
        if self.total is not None:
            with faults.at(self.label):
                settle(self, total=read_total(self.total))
        if not self.doses or not all(isinstance(d, Dosing) for d in self.doses.values()):
            faults.add(self.label, "no dosing is given", "write doses={'acid': mo.Dosing(feed, windows=[...])}")
            faults.raise_any()
        settle(self, doses=FrozenMapping(self.doses))
        with faults.at(self.label):
            check_model(self.model)
            if is_real(self.model) or self.model == "ideal gas" or self._is_charged_with_gas:
                raise InputError("a semi-batch vessel holds a liquid", "", "use a batch, or a tank of gas")
        with faults.at(self.label):
            settle(self, density=read_density(self.density))
            settle(self, heat_capacity=read_mixture_capacity(self.heat_capacity, self.density))
        read_vessel_heat(faults, self)
        with faults.at(self.label):
            self._check_heat()
        for name, dose in self.doses.items():
            with faults.at(f"{self.label}, {name}"):
                dose.piecewise(1.0)
                if (self.is_non_isothermal or isinstance(self.heat, Profile)) and dose.feed.T is None:
                    raise InputError("the feed has no temperature, which the balance of energy needs", "", "give T")
        with faults.at(self.label):
            settle(self, _withdrawn=self._read_withdrawal())
        fed = [s for d in self.doses.values() for s in d.feed.contents]
        species = [*self.charge, *fed] if isinstance(self.charge, Contents) else None
        check_vessel(faults, self, species, self._first_T)
        if not faults.found and self.capacity is not None and self.capacity.si < self._fed.volume:
            message = (
                f"the charge of {self._display.text(self._fed.volume, 'volume')} is more than {self.capacity} hold"
            )
            faults.add(self.label, message, "charge less, or give a larger capacity")
        faults.raise_any()

    def _check_heat(self) -> None:
        if isinstance(self.heat, Profile):
            check_profile(self.T, self._profile)
        if isinstance(self.heat, Jacket) and not self.heat.has_conductance:
            raise InputError("U is given without the area", "heat", "give area='6 m2', or UA")

    @property
    def _is_charged_with_gas(self) -> bool:
        return isinstance(self.charge, Contents) and self.charge.is_gas

    @property
    def is_gas(self) -> bool:
        """Whether it holds a gas rather than a liquid: it does not."""
        return False

    def _read_withdrawal(self) -> PiecewiseLinear | None:
        if self.withdrawal is None:
            return None
        if isinstance(self.withdrawal, list | tuple):
            return PiecewiseLinear.read(self.withdrawal, "time", "volumetric flow", "withdrawal", zero=True)
        return PiecewiseLinear.constant(units.positive(self.withdrawal, "volumetric flow", "withdrawal").si)

    @cached_property
    def _withdrawn(self) -> PiecewiseLinear | None:
        """What is taken out over time."""
        return self._read_withdrawal()

    @property
    def _inflows(self) -> dict[str, Inflow]:
        return {name: Inflow(name) for name in self.doses}

    @cached_property
    def _doses_fed(self) -> dict[str, Mixture]:
        """Each feed worked out."""
        return {
            name: mixture_of(
                d.feed.contents, [f for f in d.feed.flows if f is not None] or [Value(1.0, "m^3/s")], self._by_name,
                d.feed.T, None, d.feed.density, self.model,
            )
            for name, d in self.doses.items()
        }  # fmt: skip

    def _goes_in(self, species: str) -> bool:
        fed = any(s.concentrations.get(species, 0.0) > 0 for s in self._doses_fed.values())
        return super()._goes_in(species) or fed

    def _build(self) -> Model:
        follows = self._phase.model == "additive volumes"
        leaving = self.capacity is not None or self.withdrawal is not None
        volume = "follows" if follows else "carried"
        return well_mixed(self._key, tuple(self._inflows.values()), volume, leaving, False)

    def _own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        T = self._start_T(given)
        found: dict[sp.Symbol, Number] = {
            TEMPERATURE: T, START_T: T, VOLUME: fed.volume, OVERFLOWING: 0.0, WITHDRAWN: 0.0
        }  # fmt: skip
        found |= {START(s): fed.concentrations.get(s, 0.0) for s in self.chemistry.names}
        for name, flow in self._inflows.items():
            stream, own_T = self._doses_fed[name], self.doses[name].feed.T
            found |= {flow.inside(s): stream.concentrations.get(s, 0.0) for s in self.chemistry.names}
            found |= {
                flow.flow: given.get(f"{name} rate", self._steady_doses.get(name, 0.0)),
                flow.T: own_T.si if own_T is not None else T,
            }
        return found

    def _moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        found = super()._moving_numbers()
        for name, flow in self._inflows.items():
            if name not in self._steady_doses:
                found[flow.flow] = self.doses[name].piecewise(float(self._doses_fed[name].volume))
        if self._withdrawn is not None:
            found[WITHDRAWN] = self._withdrawn
        return found

    @property
    def _has_segments(self) -> bool:
        return True

    def _more_settings(self) -> Iterable[Setting]:
        return (self._profile_setting(f"{name} rate") for name in self._steady_doses)

    @cached_property
    def _steady_doses(self) -> dict[str, float]:
        """The doses whose rate does not change, and those rates."""
        courses = {name: d.piecewise(float(self._doses_fed[name].volume)) for name, d in self.doses.items()}
        return {name: c.values[0] for name, c in courses.items() if len({*c.values}) == 1}

    def _profile_setting(self, name: str) -> Setting:
        if name not in self._more_movable():
            return super()._profile_setting(name)
        own = name.removesuffix(" rate")

        def put(value: Any) -> SemiBatch:
            return self.with_(doses={**self.doses, own: Dosing(self.doses[own].feed, rate=[(0.0, value)])})

        kind = "volumetric flow"
        return Setting(name, kind, _read_rate, put, self._steady_doses.get(own, np.nan), kind)

    def _with_profile(self, name: str, profile: Profile) -> Self:
        dose = self.doses.get(name.removesuffix(" rate")) if name.endswith(" rate") else None
        if dose is None:
            return super()._with_profile(name, profile)
        changed = Dosing(dose.feed, rate=[*profile.points])
        return self.with_(doses={**self.doses, name.removesuffix(" rate"): changed})

    def _moved_symbols(self, name: str) -> dict[sp.Symbol, tuple[float, float]]:
        if name in self._more_movable():
            return {self._inflows[name.removesuffix(" rate")].flow: (0.0, 1.0)}
        return super()._moved_symbols(name)

    def _more_movable(self) -> tuple[str, ...]:
        return tuple(f"{name} rate" for name in self.doses)

    def _given_below(self) -> list[tuple[str, Value | None]]:
        return [*super()._given_below(), *(pair for dose in self.doses.values() for pair in dose.feed.given())]

    def _stream_in(self, run: Run) -> Stream:
        return replace(super()._stream_in(run), name="charged and fed", volume=np.nan)

    def run(
        self, time: Any = None, points: Any = None, rtol: float = RTOL / 10, atol: float = ATOL / 10,
        verify: str = "usual",
    ) -> Run:  # fmt: skip
        """Follow the vessel from the charge to `time` (default: its own); raises as `Batch.run`.

        An InputError, too, where more is withdrawn than there is.
        """
        vessel = self._for(time, ("no time is given", "give time='3 h'"))
        try:
            run = follow(vessel, vessel.time.si, points, rtol=rtol, atol=atol, switch=vessel._switch())
            return verified(run, verify)
        except SolveError as error:
            if error.symbol != HELD:
                raise
            at = self._display.text(error.reached, "time")
            raise InputError(f"it is empty before {at}", self.label, "withdraw less, or stop earlier") from error

    def _switch(self) -> Switch | None:
        """Where it fills, from there on it overflows while more comes in than is taken out."""
        if self.capacity is None:
            return None
        full = Event("full", HELD - sp.Float(self.capacity.si), 1, True, self.capacity.si)
        inflows = tuple(f.flow for f in self._inflows.values())

        def after(case: Case, is_full: bool, state: np.ndarray | None) -> tuple[Case, tuple[Event, ...], bool]:
            inflow = sum(case.value(flow) for flow in inflows)
            is_full = is_full and inflow > case.value(WITHDRAWN)
            return case.with_values({OVERFLOWING: 1.0 if is_full else 0.0}), () if is_full else (full,), is_full

        return after

    def outcome(self) -> Run:
        return self.run()

    def __str__(self) -> str:
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        ends += f", {self.time}" if self.time else ""
        dosed = "; ".join(f"{name}: {dose}" for name, dose in self.doses.items())
        return f"{self.title} charged with {self.charge}{at}{ends}, dosed with {dosed}"


def _read_rate(value: Any) -> tuple[float, str]:
    return units.positive(value, "volumetric flow", "rate", zero=True).si, "volumetric flow"
