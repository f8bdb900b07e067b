"""The part of a specification that each kind of vessel defines."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import ClassVar

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import COOLANT
from molino.core.balances.integrate import Switch
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.findings import Finding
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.condition import Condition
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel_fields import VesselFields
from molino.core.dual import Number
from molino.core.schema import settings_of, sizes_of
from molino.core.terms.heat import HeatShape, Jacket
from molino.core.terms.model import Model
from molino.core.units import Value


class Definition:
    """Everything that a kind of vessel defines, with the defaults of one that has no feed and no side streams.

    Parameters
    ----------
    vessel : VesselFields
        The vessel that is specified.
    """

    has_steady_state: ClassVar[bool] = False
    """Whether inflow and outflow balance, so that it has a steady state over time."""
    is_kinetic: ClassVar[bool] = True
    """Whether its outlet follows from the rate laws."""
    is_closed: ClassVar[bool] = True
    """Whether there is no inlet after the start."""
    has_history: ClassVar[bool] = False
    """Whether a run begins at its first use, so that the age of its catalyst is known."""
    counts_packing: ClassVar[bool] = False
    """Whether adsorption on a packing, and its heat capacity, are part of its balances."""
    has_side_feed: ClassVar[bool] = False
    """Whether there is a feed besides that of the inlet."""
    whole_numbers: ClassVar[tuple[str, ...]] = ()
    """The whole numbers of it that `size` can find."""
    is_at_equilibrium: ClassVar[bool] = False
    """Whether its outlet is at chemical equilibrium."""
    run_metrics: ClassVar[Mapping[str, Callable[[object], object]]] = {}
    """The metrics of a whole run, which are not expressions of the outlet, each with the class of its analysis."""
    sizing_route: ClassVar[str] = "run"
    """How it is sized: "run" (one run passes every smaller size), "steady" (along the curve of its steady states), or
    "whole runs" (each size is a run of its own)."""

    def __init__(self, vessel: VesselFields) -> None:
        self.vessel = vessel

    @property
    def label(self) -> str:
        """The name of the vessel, or its kind."""
        return self.vessel.label

    @property
    def chemistry(self) -> Chemistry:
        """The chemistry of the vessel."""
        return self.vessel.chemistry

    def validate(self) -> None:
        """Read the fields of the vessel and check them together; InputError with all faults."""
        raise NotImplementedError

    def build_model(self) -> Model:
        """The balances as symbols, with the quantities that are read from them."""
        raise NotImplementedError

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        """The parameters of this kind of vessel (temperature, volume, flow), with some conditions replaced."""
        raise NotImplementedError

    def mixture(self, given: Mapping[str, Number]) -> Mixture:
        """The feed or charge with some conditions replaced; InputError if it is incomplete or contradictory."""
        raise NotImplementedError

    def end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """The end of the independent variable: the time of a batch, the volume of a tube; nan while unknown."""
        raise NotImplementedError

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        """Every value given in its feed or charge, with its kind of quantity."""
        raise NotImplementedError

    def more_conditions(self) -> Iterable[Condition]:
        """Conditions besides its fields, its heat, its feed or charge, and the constants."""
        return ()

    def contents(self) -> Contents:
        """The feed or charge as the user wrote it."""
        raise NotImplementedError

    def with_contents(self, contents: Contents) -> VesselFields:
        """The same vessel with another feed or charge."""
        raise NotImplementedError

    def stream_in(self, run: RunResult) -> Stream:
        """The stream at its inlet, or its charge."""
        raise NotImplementedError

    def side_streams(self, run: RunResult) -> list[Stream]:
        """The streams that enter elsewhere than at its inlet."""
        return []

    def more_facts(self, run: RunResult) -> dict[str, str]:
        """Further results of a run, by name."""
        return {}

    @property
    def fluid_model(self) -> object:
        """The volume model as given; None is a liquid of constant density, or an ideal gas."""
        raise NotImplementedError

    @property
    def mixture_capacity(self) -> Value | None:
        """The heat capacity of the whole mixture, if given."""
        raise NotImplementedError

    @property
    def density(self) -> Value | None:
        """The density of the whole mixture, if given."""
        raise NotImplementedError

    @property
    def is_gas(self) -> bool:
        """Whether its fluid is a gas."""
        raise NotImplementedError

    @property
    def first_T(self) -> Value | None:
        """Temperature at the start or the inlet; None if not given."""
        raise NotImplementedError

    @property
    def feed_T(self) -> Value | None:
        """The temperature of its feed or charge."""
        return self.first_T

    def feed_pressure(self) -> float:
        """The pressure of its feed or charge in Pa; nan of a liquid without one."""
        return math.nan

    def require_volume(self) -> None:
        """Raise InputError if a volume that it needs is unknown."""

    @property
    def sizes(self) -> Mapping[str, str]:
        """The sizes that `size` can find, each with its kind of quantity."""
        return sizes_of(type(self.vessel))

    def size_at(self, name: str, passed: float) -> float:
        """A size by its name from the end of the independent variable (of a tank from its volume)."""
        return passed

    def default_size(self) -> str:
        """The size that `size` finds by default."""
        return next(iter(self.sizes))

    def constant_name(self, name: str, taken: Iterable[str] | None = None) -> str:
        """The condition by which a constant is changed: "constant NAME" where another condition has its name."""
        own = {*self.sizes, *settings_of(type(self.vessel))} if taken is None else taken
        return f"constant {name}" if name in own else name

    def margin(self) -> sp.Expr | None:
        """An expression that must be positive along it, besides temperature, pressure and volume."""
        return None

    def cross_section(self) -> float:
        """Cross-section of a tube in m^2; nan of other vessels."""
        return math.nan

    def more_findings(self) -> list[Finding]:
        """Further findings of `check`."""
        return []

    def not_followed(self) -> list[tuple[str, str]]:
        """Its parts that are not followed over time in cells, each with a remedy."""
        return []

    def switch(self) -> Switch | None:
        """The events at which its balances change during a run; None without."""
        return None

    def profile_guesses(self, shares: np.ndarray) -> Iterator[dict[sp.Symbol, np.ndarray]]:
        """Guesses of its states at fractions of its length, for a solution of all points at once."""
        yield from ()

    def present_at_start(self) -> set[str]:
        """Species that are in it at the start besides those of its feed."""
        return set()

    @property
    def heat_shape(self) -> HeatShape:
        """The properties of its heat that change the form of its balances."""
        return self.vessel.heat.shape if self.vessel.heat is not None else HeatShape()

    @property
    def is_non_isothermal(self) -> bool:
        """Whether its temperature follows from an energy balance."""
        return self.heat_shape.is_non_isothermal

    @property
    def profile_axis(self) -> tuple[str, float]:
        """The kind of quantity of the axis of its profiles, and its factor to the independent variable."""
        return "time", 1.0

    def more_movable(self) -> tuple[str, ...]:
        """Further conditions that can change during a run."""
        return ()

    def moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        """The numbers that change during a run."""
        heat = self.vessel.heat
        moves = isinstance(heat, Jacket) and isinstance(heat.T, PiecewiseLinear)
        return {COOLANT: heat.T} if moves else {}

    def conserved(self) -> dict[str, np.ndarray]:
        """The conserved amounts: the invariants of the chemistry, and mass if all species have a molar mass."""
        return dict(self.chemistry.conserved)
