"""`Decomposition`: the decomposition of a hot mixture, and its time to maximum rate without cooling."""

from __future__ import annotations

import math
from dataclasses import MISSING, dataclass

import scipy

from molino.core import units
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import QuantityField, quantity, read_fields
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike

_COLDEST, _HOTTEST = 150.0, 3000.0
"""The range of temperatures in K of a search."""
_BREAKS = (1.0, 4.0, 12.0, 40.0, 200.0)
"""Divisions of the integral, in conversions over which the rate grows e-fold."""


@dataclass(frozen=True, eq=False)
class Decomposition(Frozen, Printed):
    """The decomposition of a mixture as a calorimeter measures it: its heat and its rate.

    Per mass of the mixture q = q_at exp(-Ea/R (1/T - 1/T_at)) (1 - a)^n with a the fraction that has decomposed, da/dt
    = q/heat; without heat losses T = T_0 + a heat/c_p. The time to maximum rate under adiabatic conditions is the
    integral of da/(da/dt) up to the maximum of q (P. I. Townsend, J. C. Tou, Thermochim. Acta 37 (1980) 1); of order
    zero, and for a large heat, it is c_p R T^2/(q Ea) (N. N. Semenov; F. Stoessel, Thermal Safety of Chemical
    Processes, 2008, section 2.5.5).

    Parameters
    ----------
    heat : quantity
        Heat of the whole decomposition per mass of the mixture, "350 kJ/kg".
    rate : quantity
        Heat release rate per mass of the undecomposed mixture at the temperature `at`, "12 W/kg".
    at : temperature
    Ea : quantity
        Activation energy, "120 kJ/mol".
    order : float
        The order n, by default 1; 0 ignores the consumption, which is on the safe side.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> decay = mo.Decomposition(heat="500 kJ/kg", rate="10 W/kg", at="150 degC", Ea="120 kJ/mol")
    >>> round(decay.time_to_maximum_rate("120 degC", "2 kJ/kg/K") / 3600, 2)
    8.97
    >>> round(decay.temperature_for("24 h", "2 kJ/kg/K") - 273.15, 1)
    109.1
    """

    heat: QuantityField = quantity("energy per mass", MISSING)
    rate: QuantityField = quantity("power per mass", MISSING)
    at: QuantityField = quantity("temperature", MISSING)
    Ea: QuantityField = quantity("energy per amount", MISSING)
    order: QuantityField = quantity("number", 1.0, sign="nonnegative")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "decomposition")
        faults.raise_any()

    def time_to_maximum_rate(self, T: QuantityLike, heat_capacity: QuantityLike) -> float:
        """Time in s from a temperature to the highest rate of decomposition, without cooling.

        Parameters
        ----------
        T : temperature
            Initial temperature.
        heat_capacity : heat capacity per mass

        Returns
        -------
        float
            inf if the decomposition does not accelerate.

        Raises
        ------
        InputError
            If one of them is not a valid quantity.
        """
        start = units.positive(T, "temperature", "T").si
        capacity = units.positive(heat_capacity, "heat capacity per mass", "heat_capacity").si
        return math.exp(self._log_time(start, capacity))

    def temperature_for(self, time: QuantityLike, heat_capacity: QuantityLike) -> float:
        """Temperature in K with a given time to maximum rate; with 24 h it is T_D24.

        Parameters
        ----------
        time : time
        heat_capacity : heat capacity per mass

        Returns
        -------
        float
            inf if the time is longer at all temperatures below 3000 K.

        Raises
        ------
        InputError
            If one of them is not a valid quantity.
        """
        wanted = math.log(units.positive(time, "time", "time").si)
        capacity = units.positive(heat_capacity, "heat capacity per mass", "heat_capacity").si
        hottest = min(_HOTTEST, (1 - 1e-6) * self._accelerates_below(capacity))
        if self._log_time(hottest, capacity) > wanted:
            return math.inf
        if self._log_time(_COLDEST, capacity) < wanted:
            raise InputError(f"at {_COLDEST:g} K the time is already shorter", "decomposition", "check its rate and Ea")
        found = scipy.optimize.brentq(lambda T: self._log_time(T, capacity) - wanted, _COLDEST, hottest, xtol=1e-9)
        return float(found)

    def _accelerates_below(self, capacity: float) -> float:
        """The temperature in K above which its rate falls from the beginning."""
        n: float = self.order.si
        return math.sqrt(self.Ea.si * self.heat.si / capacity / (n * GAS_CONSTANT)) if n else math.inf

    def _log_time(self, start: float, capacity: float) -> float:
        """The logarithm of the time to maximum rate in s; inf if it does not accelerate."""
        rise, n, by_T = float(self.heat.si / capacity), float(self.order.si), float(self.Ea.si / GAS_CONSTANT)
        if start >= self._accelerates_below(capacity):
            return math.inf

        def growth(a: float) -> float:
            """Has the sign of the derivative of the rate by the conversion."""
            return by_T * rise * (1 - a) - n * (start + rise * a) ** 2

        last = float(scipy.optimize.brentq(growth, 0.0, 1.0, xtol=1e-15)) if n else 1.0
        exponent = by_T / start  # the rate at the beginning is taken out, so that nothing overflows

        def slowness(a: float) -> float:
            return float(math.exp(by_T / (start + rise * a) - exponent) / (1 - a) ** n) if a < 1 or not n else math.inf

        width = start**2 / (by_T * rise)
        breaks = [b * width for b in _BREAKS if b * width < last]
        whole, _ = scipy.integrate.quad(slowness, 0.0, last, points=breaks or None, epsabs=0.0, epsrel=1e-11, limit=200)
        first = math.log(self.rate.si / self.heat.si) - by_T * (1 / start - 1 / self.at.si)
        return math.log(whole) - first if whole > 0 else -math.inf

    def log_slopes(self, start: float, capacity: float) -> tuple[float, float]:
        """Derivatives of the logarithm of the time by temperature and heat capacity, by central differences."""
        found = []
        for k, step in enumerate((1e-4 * start, 1e-4 * capacity)):
            ends = [
                self._log_time(start + (sign * step if k == 0 else 0), capacity + (sign * step if k else 0))
                for sign in (1, -1)
            ]
            found.append((ends[0] - ends[1]) / (2 * step))
        return found[0], found[1]

    def __str__(self) -> str:
        order = "" if self.order.si == 1 else f", order {self.order}"
        return f"decomposition with {self.heat}, {self.rate} at {self.at}, Ea {self.Ea}{order}"
