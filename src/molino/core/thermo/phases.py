"""Bubble points, dew points and flashes: vapor and liquid with equal fugacities.

Liquids by activity coefficients and vapor pressures, x_i gamma_i P_i = y_i P with an ideal gas, or both phases by one
cubic equation of state, x_i phi_i(liquid) = y_i phi_i(gas) (J. M. Smith, H. C. Van Ness, M. M. Abbott, Introduction to
Chemical Engineering Thermodynamics, 7th ed. 2005, chapters 10 and 14). The phase fractions of a flash follow from the
equation of H. H. Rachford, J. D. Rice, J. Petrol. Technol. 4 (1952) 19.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
import scipy

from molino.core import units
from molino.core.display import Display
from molino.core.errors import InputError, SolveError
from molino.core.thermo.cubic import CubicEquation
from molino.core.thermo.phase_split import COLDEST, PhaseSplit, bracketed
from molino.core.thermo.two_phases import TwoPhases, display_of
from molino.core.units import QuantityLike, Value

_HIGHEST_P, _HALVINGS = 1e9, 16
"""Pressure in Pa up to which two phases are followed, and the number of bisections of their end."""
_STEP_T, _STEP_P = 1.03, 1.2
"""Factors of temperature and pressure between the points of a search for a second phase."""
_INWARDS = 0.0, 1e-3, 1e-2, 5e-2
"""Relative distance in pressure inside the two-phase region at which phases are computed, where they are hardly
distinct at its end."""


@dataclass(frozen=True, eq=False)
class PhaseEquilibrium(TwoPhases):
    """Vapor-liquid equilibrium of some species.

    Parameters
    ----------
    species : sequence of Species
        Each with a vapor pressure; with a cubic equation of state for both phases critical constants instead.
    liquid : ActivityModel or CubicEquation, optional
        By default an ideal liquid (Raoult's law). A cubic equation is used for both phases; with an activity model the
        vapor is an ideal gas.

    Raises
    ------
    InputError
        With all missing properties.

    Examples
    --------
    >>> water = mo.Species("water", vapor_pressure={"antoine": [8.07131, 1730.63, 233.426], "pressure": "mmHg",
    ...                                             "temperature": "degC"})
    >>> point = mo.thermo.PhaseEquilibrium([water]).bubble_point({"water": 1.0}, P="760 mmHg")
    >>> round(point.T - 273.15, 1)
    100.0
    """

    def bubble_point(
        self, fractions: Mapping[str, float], *, T: QuantityLike | None = None, P: QuantityLike | None = None
    ) -> PhaseSplit:
        """The bubble point of a liquid: its pressure at a temperature, or its temperature at a pressure.

        Parameters
        ----------
        fractions : mapping of species to mole fraction
            Scaled to a sum of one.
        T, P : temperature and pressure
            One of them.

        Raises
        ------
        InputError
            If neither or both are given, or the fractions are invalid.
        SolveError
            If there is no bubble point.
        """
        return self._point(fractions, T, P, 0.0)

    def dew_point(
        self, fractions: Mapping[str, float], *, T: QuantityLike | None = None, P: QuantityLike | None = None
    ) -> PhaseSplit:
        """The dew point of a gas; arguments and errors as for `bubble_point`.

        Above its critical temperature a gas may have two dew points, and condense between them: at a temperature the
        lower pressure is returned, with the other in the note.
        """
        if not isinstance(self.liquid, CubicEquation) or (T is None) == (P is None):
            return self._point(fractions, T, P, 1.0)
        z = self._fractions(fractions)
        if T is not None:
            found = self._point(z, T, None, 1.0)
            upper = self._upper_dew(z, found.T, found.P)
            if upper is None:
                return found
            text = found.show.text(upper.P, "pressure")
            return replace(found, note=f"a second dew point is at {text}: between them liquid condenses")
        try:
            return self._point(z, None, P, 1.0)
        except SolveError:
            hottest = self._hottest_dew(z, units.positive(P, "pressure", "P"))
            if hottest is None:
                raise
            return hottest

    def flash(
        self,
        fractions: Mapping[str, float],
        *,
        P: QuantityLike,
        T: QuantityLike | None = None,
        feed_T: QuantityLike | None = None,
        feed: str = "liquid",
    ) -> PhaseSplit:
        """Vapor and liquid at a temperature and pressure, or at a pressure with the enthalpy of a feed (adiabatic).

        The heat capacities of the species are those of their liquids, and heats of vaporization follow from the
        derivatives of the vapor pressures (B. P. E. Clapeyron, R. Clausius), H = R T^2 d(ln P_i)/dT; with a cubic
        equation they are those of the ideal gas, with its departures.

        Parameters
        ----------
        fractions : mapping of species to mole fraction
        P : pressure
        T : temperature, optional
        feed_T : temperature, optional
            Of a feed of these fractions with the same enthalpy.
        feed : "liquid" or "gas"
            The phase of that feed.

        Raises
        ------
        InputError
            If neither or both of `T` and `feed_T` are given, or heat capacities are missing.
        SolveError
            If no split is found.
        """
        z = self._fractions(fractions)
        pressure = units.positive(P, "pressure", "P")
        if (T is None) == (feed_T is None):
            raise InputError("give one of T and feed_T", "flash", "T='370 K', or feed_T='430 K' for an adiabatic one")
        if feed not in ("liquid", "gas"):
            raise InputError(f"feed = {feed!r}", "flash", "give 'liquid' or 'gas'")
        if T is not None:
            kelvin = units.positive(T, "temperature", "T")
            return self._split(z, kelvin.si, pressure.si, display_of(kelvin, pressure))
        start = units.positive(feed_T, "temperature", "feed_T")
        wanted = self._enthalpy(z, start.si, pressure.si, feed)
        display = display_of(start, pressure)

        def off(kelvin: float) -> float:
            found = self._split(z, kelvin, pressure.si, display)
            return self._of_split(found) - wanted

        split = self._split(z, bracketed(off, start.si), pressure.si, display)
        if abs(self._of_split(split) - wanted) < 1e-6 * (1.0 + abs(wanted)):
            return split
        # one species, or an azeotrope: it boils at one temperature, and the enthalpy gives the vapor fraction
        ends = [self._enthalpy(z, split.T, pressure.si, phase) for phase in ("liquid", "gas")]
        share = (wanted - ends[0]) / (ends[1] - ends[0])
        if not 0 <= share <= 1:
            raise SolveError("the enthalpy of the feed is not met", "flash", "check the heat capacities")
        return replace(split, vapor_fraction=share, x=z, y=z, K=np.ones(len(z)))

    def _hottest_dew(self, z: np.ndarray, P: Value) -> PhaseSplit | None:
        """The dew point at a pressure as the highest temperature of two phases; None if they end otherwise."""
        assert isinstance(self.liquid, CubicEquation)
        equation = self.liquid

        def is_two(T: float) -> bool:
            return self._unstable(equation, z, T, P.si) is not None

        inside = outside = float(equation.numbers[3].max())
        while not is_two(inside):
            inside, outside = inside / _STEP_T, inside
            if inside < COLDEST:
                return None
        inside = self._end_of_two(is_two, inside, max(outside, inside * _STEP_T))
        for share in _INWARDS:
            split = self._incipient(z, inside * (1 - share * 1e-2), P.si)
            if split is not None:
                return self._dew_near(z, split, lambda T: (T, P.si), inside, display_of(Value(300.0, "K"), P))
        return None

    def _upper_dew(self, z: np.ndarray, T: float, low: float) -> PhaseSplit | None:
        """The dew point above another at the same temperature; None if the two phases end in a bubble point."""
        assert isinstance(self.liquid, CubicEquation)
        equation = self.liquid

        def is_two(P: float) -> bool:
            return self._unstable(equation, z, T, P) is not None

        inside = low * (1 + 1e-6)
        while inside < _HIGHEST_P and is_two(inside * _STEP_P):
            inside *= _STEP_P
        inside = self._end_of_two(is_two, inside, inside * _STEP_P)
        for share in _INWARDS:
            split = self._incipient(z, T, inside * (1 - share))
            if split is not None:
                return self._dew_near(z, split, lambda P: (T, P), inside, split.show)
        return None

    def _end_of_two(self, is_two: Callable[[float], bool], inside: float, outside: float) -> float:
        for _ in range(_HALVINGS):
            middle = 0.5 * (inside + outside)
            inside, outside = (middle, outside) if is_two(middle) else (inside, middle)
        return inside

    def _incipient(self, z: np.ndarray, T: float, P: float) -> PhaseSplit | None:
        """Two phases near the end of one of them; None if they are hardly distinct."""
        assert isinstance(self.liquid, CubicEquation)
        logs = self._unstable(self.liquid, z, T, P)
        try:
            if logs is not None and np.count_nonzero(z) > 1:
                return self._converged(z, T, P, logs, display_of(Value(T, "K"), Value(P, "bar")))
        except SolveError:
            pass
        return None

    def _dew_near(
        self,
        z: np.ndarray,
        split: PhaseSplit,
        at: Callable[[float], tuple[float, float]],
        inside: float,
        display: Display,
    ) -> PhaseSplit | None:
        """The dew point at the end of a two-phase range, near `inside`, as a function of the number that `at` converts
        to T and P; None if a vapor appears there, or no end is found."""
        if split.vapor_fraction < 0.5:
            return None

        def off(number: float) -> float:
            return self._appears(z, *at(number), 1.0, split.x)[0]

        try:
            number = float(scipy.optimize.brentq(off, inside * (1 - 1e-4), inside * (1 + 1e-4), rtol=1e-13))
        except ValueError:  # near the critical point
            return None
        T, P = at(number)
        x = self._appears(z, T, P, 1.0, split.x)[1]
        return PhaseSplit(self.names, T, P, 1.0, z, x, z, np.exp(self._log_K(T, P, x, z)), display)

    def __str__(self) -> str:
        model = "Raoult's law" if self.liquid is None else str(getattr(self.liquid, "form", ""))
        return f"vapor and liquid of {', '.join(self.names)}, {model}"
