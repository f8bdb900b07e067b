"""Heat through the walls of a vessel: none, the duty that holds its temperature constant, or heat transfer to a
coolant."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import MISSING, dataclass, replace

import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import COOLANT, COOLANT_FLOW, DUTY, STIRRER, UA, WALL
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.dual import Number
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, option, quantity, read_fields
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value


@dataclass(frozen=True)
class HeatShape:
    """The properties of the heat that determine the form of the balances.

    `mode` is "isothermal", "adiabatic", "duty" or "jacket"; `coolant` is "constant", "mixed" (a jacket) or "coil", and
    along a tube "co-current" or "counter-current".
    """

    mode: str = "isothermal"
    coolant: str = "constant"
    wall: bool = False
    stirrer: bool = False

    @property
    def is_non_isothermal(self) -> bool:
        """Whether the temperature is an unknown of the balances."""
        return self.mode != "isothermal"

    @property
    def is_flowing(self) -> bool:
        """Whether the coolant flows, so that its temperature changes."""
        return self.mode == "jacket" and self.coolant != "constant"

    def through_wall(self, T: sp.Expr) -> sp.Expr:
        """Heat into a well-mixed vessel in W.

        UA (T_c - T); with a flowing coolant of heat capacity flow C that is itself well mixed
        UA C/(UA + C) (T_in - T), in plug flow through a coil C (1 - exp(-UA/C)) (T_in - T): the coolant's own steady
        balance C dT_c/dA = U (T - T_c), solved.
        """
        if self.mode == "duty":
            return DUTY
        if self.mode != "jacket":
            return sp.Integer(0)
        if self.coolant == "mixed":
            return UA * COOLANT_FLOW / (UA + COOLANT_FLOW) * (COOLANT - T)
        if self.coolant == "coil":
            return COOLANT_FLOW * (1 - sp.exp(-UA / COOLANT_FLOW)) * (COOLANT - T)
        return UA * (COOLANT - T)

    def coolant_out(self, T: sp.Expr) -> sp.Expr:
        """Outlet temperature of a flowing coolant of a well-mixed vessel."""
        return COOLANT - self.through_wall(T) / COOLANT_FLOW

    @property
    def symbols(self) -> tuple[sp.Symbol, ...]:
        """The parameters of the coolant, or the duty, of a well-mixed vessel."""
        return (DUTY,) if self.mode == "duty" else (UA, COOLANT, *([COOLANT_FLOW] if self.is_flowing else []))


@dataclass(frozen=True, eq=False)
class Adiabatic(Frozen, Printed):
    """No heat through the walls.

    Parameters
    ----------
    wall : heat capacity of the vessel itself, optional
        "25 kJ/K"; it has the temperature of the contents.
    stirrer : power of the stirrer, optional
        "2 kW", dissipated as heat.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> hot = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-200 kJ/mol"))
    >>> batch = mo.Batch(hot, {"A": "1 mol/L"}, T="300 K", heat=mo.Adiabatic(), heat_capacity="4.2 MJ/m3/K")
    >>> round(batch.adiabatic_rise(), 2)
    47.62
    """

    wall: QuantityField = quantity("heat per temperature")
    stirrer: QuantityField = quantity("power")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "adiabatic")
        faults.raise_any()

    @property
    def shape(self) -> HeatShape:
        return HeatShape("adiabatic", "constant", self.wall is not None, self.stirrer is not None)

    def numbers(self, given: Mapping[str, Number]) -> dict[sp.Symbol, Number]:
        """The parameters it sets, in SI."""
        return _numbers(self)

    def __str__(self) -> str:
        return ", ".join(["adiabatic", *_extras(self)])


@dataclass(frozen=True, eq=False)
class Duty(Frozen, Printed):
    """A given heat flow through the walls: of a heater or a cooler.

    Parameters
    ----------
    duty : power
        Into the vessel; negative for cooling.
    wall : heat capacity of the vessel itself, optional
        "25 kJ/K"; it has the temperature of the contents.
    stirrer : power of the stirrer, optional
        "2 kW", dissipated as heat.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-50 kJ/mol"))
    >>> charge = {"volume": "1 m3", "T": "300 K", "heat_capacity": "4 MJ/m3/K"}
    >>> batch = mo.Batch(chem, {"A": "0 mol/L", "B": 0.0}, time="10 min", heat=mo.Duty("20 kW"), **charge)
    >>> round(float(batch.run().temperatures[-1]), 3)
    303.0
    """

    duty: QuantityField = quantity("power", MISSING, sign="any", setting=True)
    wall: QuantityField = quantity("heat per temperature")
    stirrer: QuantityField = quantity("power")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "duty")
        faults.raise_any()

    @property
    def shape(self) -> HeatShape:
        return HeatShape("duty", "constant", self.wall is not None, self.stirrer is not None)

    def numbers(self, given: Mapping[str, Number]) -> dict[sp.Symbol, Number]:
        """The parameters it sets, in SI, with another duty if given."""
        return _numbers(self) | {DUTY: given.get("duty", self.duty.si)}

    def __str__(self) -> str:
        return ", ".join([f"duty {self.duty}", *_extras(self)])


@dataclass(frozen=True, eq=False)
class Jacket(Frozen, Printed):
    """Heat through the wall to a coolant (or heating medium) in a jacket or coil.

    Q = U A (T_c - T). The coolant has a constant temperature, or with a flow its own balance.

    Parameters
    ----------
    T : temperature, or list of (time, temperature)
        Of the coolant; with a flow, at its inlet. A list is a piecewise linear profile.
    U : optional
        Overall heat transfer coefficient, "400 W/m2/K".
    area : optional
        Heat transfer area, "6 m2"; along a tube it follows by default from the diameter.
    UA : optional
        Their product, "2.4 kW/K", instead.
    flow : optional
        Of the coolant: its heat capacity flow, "3 kW/K", or its mass flow, "2 t/h", with `heat_capacity`.
    heat_capacity : optional
        Of the coolant per mass; water's 4.19 kJ/kg/K is not assumed.
    counter_current : bool
        Along a tube: the coolant enters at the outlet of the tube.
    coil : bool
        In a tank or batch: the coolant is in plug flow through a coil; otherwise well mixed in the jacket.
    wall : heat capacity of the vessel itself, optional
        "25 kJ/K"; it has the temperature of the contents.
    stirrer : power of the stirrer, optional
        "2 kW", dissipated as heat.

    Raises
    ------
    InputError
        With all faults, and inputs that are missing or specified twice.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-50 kJ/mol"))
    >>> charge = {"volume": "1 m3", "T": "330 K", "heat_capacity": "4.2 MJ/m3/K"}
    >>> batch = mo.Batch(chem, {"A": "1 mol/L"}, time="10 min", heat=mo.Jacket("300 K", UA="2 kW/K"), **charge)
    >>> round(float(batch.run().temperatures[-1]), 1)
    331.1
    """

    T: ReadField = quantity("temperature", MISSING, profile=True)
    U: QuantityField = quantity("heat transfer coefficient", setting=True)
    area: QuantityField = quantity("area")
    UA: QuantityField = quantity("heat capacity flow", setting=True)
    flow: ReadField = quantity("heat capacity flow", alternatives=("mass flow",))
    heat_capacity: QuantityField = quantity("heat capacity per mass")
    counter_current: bool = option(False)
    coil: bool = option(False)
    wall: QuantityField = quantity("heat per temperature")
    stirrer: QuantityField = quantity("power")

    def __post_init__(self) -> None:
        faults = Faults()
        if isinstance(self.T, list | tuple):
            with faults.at("jacket"):
                settle(self, T=PiecewiseLinear.read(self.T, "time", "temperature", "T"))
        elif not isinstance(self.T, PiecewiseLinear):
            with faults.at("jacket"):
                settle(self, T=units.with_deviation(self.T, lambda given: units.positive(given, "temperature", "T")))
        read_fields(self, faults, "jacket")
        if (self.U is None) == (self.UA is None):
            message = "neither U nor UA is given" if self.U is None else "U and UA are both given"
            faults.add("jacket", message, "give U='400 W/m2/K' (and the area), or UA='2.4 kW/K'")
        if self.UA is not None and self.area is not None:
            faults.add("jacket", "UA includes the area", "leave the area out, or give U")
        if self.flow is not None:
            with faults.at("jacket"):
                settle(self, flow=units.with_deviation(self.flow, self._capacity_flow))
        elif self.heat_capacity is not None or self.counter_current or self.coil:
            faults.add("jacket", "the flow of the coolant is not given", "give flow='3 kW/K', or in t/h")
        if self.counter_current and self.coil:
            faults.add("jacket", "counter_current needs a tube, a coil a tank", "give one of them")
        faults.raise_any()

    def _capacity_flow(self, given: object) -> Value:
        """Heat capacity flow of the coolant, from its mass flow if that is given."""
        read = units.read(given, name="flow")
        if read.unit is not None and units.unit(read.unit).dimension == units.unit("kg/s").dimension:
            if self.heat_capacity is None:
                advice = "give heat_capacity='4.19 kJ/kg/K' or that of your coolant"
                raise InputError("the coolant's flow is a mass flow, and its heat capacity is missing", "flow", advice)
            product = units.positive(read, "mass flow", "flow").si * self.heat_capacity.si
            return Value(product, SI_UNITS["heat capacity flow"])
        return units.positive(read, "heat capacity flow", "flow")

    @property
    def shape(self) -> HeatShape:
        kind = "constant"
        if self.flow is not None:
            kind = "coil" if self.coil else "counter-current" if self.counter_current else "mixed"
        return HeatShape("jacket", kind, self.wall is not None, self.stirrer is not None)

    @property
    def along_tube(self) -> HeatShape:
        """The same along a tube."""
        found = self.shape
        return replace(found, coolant="co-current") if found.coolant == "mixed" else found

    @property
    def coolant(self) -> PiecewiseLinear:
        """Temperature of the coolant over time."""
        return self.T if isinstance(self.T, PiecewiseLinear) else PiecewiseLinear.constant(self.T.si)

    def numbers(self, given: Mapping[str, Number]) -> dict[sp.Symbol, Number]:
        """The parameters it sets, in SI, with some of its numbers replaced."""
        found = _numbers(self) | {COOLANT: given.get("coolant T", self.coolant.after(0.0))}
        if self.flow is not None:
            found[COOLANT_FLOW] = given.get("coolant flow", self.flow.si)
        return found | ({UA: self.conductance(given)} if self.has_conductance else {})

    @property
    def has_conductance(self) -> bool:
        """Whether U A is known, without the area of a tube."""
        return self.UA is not None or self.area is not None

    def conductance(self, given: Mapping[str, Number]) -> Number:
        """U A in W/K; nan if the area is that of the tube."""
        if self.UA is not None:
            return given.get("UA", self.UA.si)
        return given.get("U", self.U.si) * self.area.si if self.area is not None else math.nan

    def __str__(self) -> str:
        at = self.T if not isinstance(self.T, PiecewiseLinear) else "a profile of temperatures"
        parts = [f"U {self.U}" if self.U is not None else f"UA {self.UA}"]
        parts += [f"area {self.area}"] if self.area is not None else []
        if self.flow is not None:
            way = "counter-current " if self.counter_current else "through a coil " if self.coil else ""
            parts.append(f"{way}flow {self.flow}")
        return ", ".join([f"coolant at {at}", *parts, *_extras(self)])


@dataclass(frozen=True, eq=False)
class Profile(Frozen, Printed):
    """A condition that changes piecewise linearly over time (in a tube: along its length or volume).

    As `heat` of a vessel it is its temperature; `profiles` of a vessel, and `with_`, take it for other conditions.

    Parameters
    ----------
    points : list of (time, value)
        [("0 min", "20 degC"), ("30 min", "80 degC")]; after the last point it is constant. The same time twice is a
        step.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")))
    >>> ramp = mo.Profile([("0 min", "320 K"), ("10 min", "340 K")])
    >>> round(mo.Batch(chem, {"A": "1 mol/L"}, time="10 min", heat=ramp).run().conversion("A"), 4)
    0.8945
    """

    points: ReadField = quantity("temperature", MISSING, profile=True)

    def piecewise(self, along: str, place: str) -> PiecewiseLinear:
        """A temperature over time, length or volume."""
        return PiecewiseLinear.read(self.points, along, "temperature", f"{place}, heat")

    def of_setting(self, along: str, place: str, read: Callable[[object], float]) -> PiecewiseLinear:
        """Another condition over time, length or volume; `read` gives it in SI."""
        return PiecewiseLinear.read(self.points, along, "number", place, read=read)

    @property
    def shape(self) -> HeatShape:
        return HeatShape()

    def numbers(self, given: Mapping[str, Number]) -> dict[sp.Symbol, Number]:
        """None: the temperature is set by the vessel."""
        return {}

    def __str__(self) -> str:
        pairs = [f"{T} at {t}" for t, T in self.points]
        return f"temperature profile {', '.join(pairs if len(pairs) < 6 else [*pairs[:2], '...', pairs[-1]])}"


Heat = Adiabatic | Duty | Jacket | Profile | None


def read_heat(given: object, place: str) -> Heat:
    """The value of the field `heat` of a vessel; None is isothermal."""
    if given is None or isinstance(given, Adiabatic | Duty | Jacket | Profile):
        return given
    if given == "isothermal":
        return None
    if given == "adiabatic":
        return Adiabatic()
    advice = "write 'isothermal', 'adiabatic', mo.Duty(...), mo.Jacket(...) or mo.Profile(...)"
    raise InputError(f"{given!r} is not a specification of heat transfer", f"{place}, heat", advice)


def _numbers(held: Adiabatic | Duty | Jacket) -> dict[sp.Symbol, Number]:
    given = {WALL: held.wall, STIRRER: held.stirrer}
    return {symbol: value.si for symbol, value in given.items() if value is not None}


def _extras(held: Adiabatic | Duty | Jacket) -> list[str]:
    parts = {"wall": held.wall, "stirrer": held.stirrer}
    return [f"{name} {value}" for name, value in parts.items() if value is not None]
