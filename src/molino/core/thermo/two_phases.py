"""The equations of two phases in equilibrium, and their solution at one temperature or pressure."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from molino.core import units
from molino.core.chemistry.species import Species
from molino.core.display import Display
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.thermo.activity import ActivityModel
from molino.core.thermo.cubic import CubicEquation, CubicState
from molino.core.thermo.phase_split import PhaseSplit, bracketed, rachford_rice, ratios, rise_of
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike, Value

_ASKER = "a phase equilibrium"
_CLOSE = 1e-13
_ROUNDS = 2000
_TRIALS = 400
_SPLITS = 1e-9
"""Smallest excess over one of the sum of the fractions of a second phase."""


@dataclass(frozen=True, eq=False)
class TwoPhases(Frozen, Printed):
    """Species and the models of their phases, with the equations of equilibrium."""

    species: tuple[Species, ...]
    liquid: ActivityModel | CubicEquation | None = None

    def __post_init__(self) -> None:
        faults = Faults()
        settle(self, species=tuple(self.species))
        if not self.species or not all(isinstance(s, Species) for s in self.species):
            raise InputError("no species", "phase equilibrium", "give a list of mo.Species")
        if isinstance(self.liquid, ActivityModel):
            settle(self, liquid=self.liquid.over(self.species))
        elif isinstance(self.liquid, CubicEquation):
            settle(self, liquid=CubicEquation(self.species, self.liquid.form, self.liquid.pairs))
        elif self.liquid is not None:
            raise InputError(f"{self.liquid!r} is not a model of a liquid", "liquid", "give an ActivityModel")
        for one in self.species if not isinstance(self.liquid, CubicEquation) else ():
            with faults.at():
                one.require("vapor_pressure", _ASKER)
        faults.raise_any()

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(s.name for s in self.species)

    def _fractions(self, fractions: Mapping[str, float] | np.ndarray) -> np.ndarray:
        if isinstance(fractions, np.ndarray):
            return fractions
        for name in fractions:
            if name not in self.names:
                raise InputError(f"'{name}' is not a species here", "fractions", nearest(str(name), self.names))
        x = np.array([float(fractions.get(name, 0.0)) for name in self.names])
        if not (x >= 0).all() or not x.sum() > 0:
            raise InputError(f"{dict(fractions)} are not fractions", "fractions", "give numbers from zero up")
        return np.asarray(x / x.sum())

    def _log_K(self, T: float, P: float, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """ln(y/x) at equal fugacities, for given compositions."""
        if isinstance(self.liquid, CubicEquation):
            liquid, gas = (
                CubicState(self.liquid, T, P, of, phase).log_coefficients for of, phase in ((x, "liquid"), (y, "gas"))
            )
            return np.asarray(liquid - gas)
        gamma = np.zeros(len(x))
        if self.liquid is not None:
            gamma = np.log([*self.liquid.coefficients(T, dict(zip(self.names, x, strict=True))).values()])
        return np.asarray(gamma + self._log_pressures(T) - math.log(P))

    def _log_pressures(self, T: float) -> np.ndarray:
        return np.array([s.vapor_pressure.log_number(T)[0] for s in self.species])

    def _first_K(self, T: float, P: float) -> np.ndarray:
        """Estimates of ln K: by Raoult's law, or after G. M. Wilson (1969) from critical constants."""
        if not isinstance(self.liquid, CubicEquation):
            return np.asarray(self._log_pressures(T) - math.log(P))
        Tc, Pc, w = (
            np.array([getattr(s, n).si for s in self.species])
            for n in ("critical_temperature", "critical_pressure", "acentric_factor")
        )
        return np.asarray(np.log(Pc / P) + 5.373 * (1 + w) * (1 - Tc / T))

    def _split(self, z: np.ndarray, T: float, P: float, display: Display) -> PhaseSplit:
        """The phases at a temperature and pressure, each of them stable."""
        first = self._first_K(T, P)
        if isinstance(self.liquid, CubicEquation):
            unstable = self._unstable(self.liquid, z, T, P)
            if unstable is None:
                vapor = 1.0 if self._is_gas(self.liquid, z, T, P) else 0.0
                return PhaseSplit(self.names, T, P, vapor, z, z, z, np.ones(len(z)), display)
            return self._converged(z, T, P, unstable, display)
        liquids = self._two_liquids(z, T)
        starts = [self._log_K(T, P, x, x) for x in liquids] or [first]
        if liquids and float(np.exp(starts[0]) @ liquids[0]) <= 1:  # no vapor above them
            y = liquids[0] * np.exp(starts[0])
            y = y / y.sum()
            return PhaseSplit(self.names, T, P, 0.0, z, z, y, ratios(y, z), display, liquids)
        found = [self._converged(z, T, P, start, display) for start in starts]
        other = self._second_liquid(found[0].x, T) if len(found) == 1 else None
        if other is not None:
            found.append(self._converged(z, T, P, self._log_K(T, P, other, other), display))
        stable = [split for split in found if self._second_liquid(split.x, T) is None]
        if not stable:
            message = f"at {T:.5g} K and {P:.5g} Pa there are two liquids and a vapor"
            raise SolveError(message, "flash", "a flash into three phases is not computed: try another pressure")
        return min(stable, key=self._gibbs)

    def _gibbs(self, split: PhaseSplit) -> float:
        """Gibbs energy over R T of a split, without parts that are common to all splits; for activity models."""
        T, x, y = split.T, split.x, split.y
        liquid = float(x @ (np.log(np.where(x > 0, x, 1.0)) + self._log_K(T, 1.0, x, y)))
        gas = float(y @ np.log(np.where(y > 0, y, 1.0))) + math.log(split.P)
        return (1 - split.vapor_fraction) * liquid + split.vapor_fraction * gas

    def _second_liquid(self, x: np.ndarray, T: float) -> np.ndarray | None:
        """The liquid into which a liquid begins to split; None if it is stable, or ideal."""
        if not isinstance(self.liquid, ActivityModel):
            return None
        found = self.liquid.second_liquid(T, dict(zip(self.names, x.tolist(), strict=True)))
        return None if found is None else np.array([found[name] for name in self.names])

    def _two_liquids(self, z: np.ndarray, T: float) -> tuple[np.ndarray, ...]:
        """The two liquids into which a liquid splits, by successive substitution of their ratios; empty if it is
        stable."""
        other = self._second_liquid(z, T)
        if other is None:
            return ()
        logs = np.log(ratios(other, z))
        one, two, moved = z, other, np.inf
        for _ in range(_ROUNDS):
            _, one, two = rachford_rice(z, np.exp(logs))
            found = self._log_K(T, 1.0, one, z) - self._log_K(T, 1.0, two, z)
            last, moved = moved, float(np.max(np.abs(found - logs)[z > 0], initial=0.0))
            logs = found if moved < last else 0.5 * (found + logs)
            if moved < _CLOSE or (moved < 1e-11 and moved >= last):
                break
        if moved > 1e-9 or float(np.max(np.abs(one - two))) < 1e-6:
            raise SolveError(
                f"the liquid splits at {T:.5g} K, and its two liquids are not found",
                "phases",
                "it is near the temperature at which they become one: try another",
            )
        return one, two

    def _converged(self, z: np.ndarray, T: float, P: float, logs: np.ndarray, display: Display) -> PhaseSplit:
        """Accelerated successive substitution of K from estimates; one phase if the other would not exist."""
        moved = np.inf
        for _ in range(_ROUNDS):
            share, x, y = rachford_rice(z, np.exp(logs))
            found = self._log_K(T, P, x, y)
            last, moved = moved, float(np.max(np.abs(found - logs)[z > 0], initial=0.0))
            logs = found if moved < last else 0.5 * (found + logs)
            if moved < _CLOSE or (moved < 1e-11 and moved >= last):
                break
        if moved > 1e-9:
            raise SolveError(f"no split is found at {T:.5g} K and {P:.5g} Pa", "flash", "try other conditions")
        share, x, y = rachford_rice(z, np.exp(logs))
        if isinstance(self.liquid, CubicEquation) and float(np.max(np.abs(x - y))) < 1e-6:
            raise SolveError(f"no split is found at {T:.5g} K and {P:.5g} Pa", "flash", "it is near a critical point")
        return PhaseSplit(self.names, T, P, share, z, x, y, np.exp(logs), display)

    def _unstable(self, equation: CubicEquation, z: np.ndarray, T: float, P: float) -> np.ndarray | None:
        """ln K from which a split is found if one phase is not stable; None if it is.

        By the tangent plane of the Gibbs energy, from a vapor and from a liquid
        (M. L. Michelsen, Fluid Phase Equilib. 9 (1982) 1).
        """
        there, first = z > 0, self._first_K(T, P)

        def logs(of: np.ndarray, phase: str) -> np.ndarray:
            return CubicState(equation, T, P, of, phase).log_coefficients

        plane = np.log(np.where(there, z, 1.0)) + logs(z, "stable")
        for phase, sign in (("gas", 1.0), ("liquid", -1.0)):
            other = z * np.exp(sign * first)
            for _ in range(_TRIALS):
                new = np.where(there, np.exp(plane - logs(other / other.sum(), phase)), 0.0)
                moved, other = float(np.max(np.abs(new - other))), new
                if moved < 1e-11:
                    break
            fractions = other / other.sum()
            if other.sum() > 1 + _SPLITS and float(np.max(np.abs(fractions - z))) > 1e-5:
                ratio = np.where(there, fractions, 1.0) / np.where(there, z, 1.0)
                return np.asarray(np.where(there, sign * np.log(ratio), sign * first))
        return None

    def _is_gas(self, equation: CubicEquation, z: np.ndarray, T: float, P: float) -> bool:
        """The name of a single phase: by its root if there are several, otherwise by its volume over b, compared with
        that of the critical point."""
        state = CubicState(equation, T, P, z, "stable")
        if len(state.roots) > 1:
            return bool(state.roots[-1] == state.Z)
        return state.molar_volume > equation.critical_ratio * float(z @ equation.numbers[1])

    def _point(
        self, fractions: Mapping[str, float] | np.ndarray, T: QuantityLike | None, P: QuantityLike | None, share: float
    ) -> PhaseSplit:
        z = self._fractions(fractions)
        what = "bubble_point" if share == 0.0 else "dew_point"
        if (T is None) == (P is None):
            raise InputError("give one of T and P", what, "T='370 K', or P='1 bar'")
        given = units.positive(T, "temperature", "T") if T is not None else units.positive(P, "pressure", "P")
        if T is not None:
            return self._at_T(z, given.si, share, display_of(given, Value(1e5, "bar")))
        display = display_of(Value(300.0, "K"), given)

        def off(kelvin: float) -> float:
            return math.log(self._at_T(z, kelvin, share, display).P / given.si)

        T_at = bracketed(off, self._guess_T(z, given.si, share))
        return self._at_T(z, T_at, share, display)

    def _guess_T(self, z: np.ndarray, P: float, share: float) -> float:
        """The point by Raoult's law."""

        def off(T: float) -> float:
            K = np.exp(self._first_K(T, P))
            return math.log(float(z @ K)) if share == 0.0 else -math.log(float(z @ (1 / K)))

        return bracketed(off, 350.0)

    def _at_T(self, z: np.ndarray, T: float, share: float, display: Display) -> PhaseSplit:
        """The pressure at which the other phase appears."""
        liquids = self._two_liquids(z, T) if share == 0.0 else ()
        if liquids:  # both boil together
            y = liquids[0] * np.exp(self._log_K(T, 1.0, liquids[0], z))
            P = float(y.sum())
            y = y / P
            return PhaseSplit(self.names, T, P, share, z, z, y, ratios(y, z), display, liquids)
        other, P = z, 1e5
        first = self._first_K(T, P)
        P = float(z @ np.exp(first)) * P if share == 0.0 else P / float(z @ np.exp(-first))
        if isinstance(self.liquid, CubicEquation):
            P = self._cubic_P(z, T, share)
        other, P = self._settled(z, self._appears(z, T, P, share, None)[1], T, P, share)
        if share == 1.0 and (better := self._second_liquid(other, T)) is not None:  # that liquid condenses first
            other, P = self._settled(z, better, T, P, share)
            if self._second_liquid(other, T) is not None:
                raise SolveError(f"no stable liquid is found at {T:.5g} K", "phases", "try another temperature")
        x, y = (z, other) if share == 0.0 else (other, z)
        return PhaseSplit(self.names, T, P, share, z, x, y, np.exp(self._log_K(T, P, x, y)), display)

    def _settled(self, z: np.ndarray, other: np.ndarray, T: float, P: float, share: float) -> tuple[np.ndarray, float]:
        """The other phase and the pressure at which it appears, by successive substitution."""
        moved = np.inf
        for _ in range(_ROUNDS):
            total, new = self._other(z, other, T, P, share)
            moved = max(abs(math.log(total)), float(np.max(np.abs(new - other))))
            other = new
            P = P * total if share == 0.0 else P / total
            if moved < _CLOSE:
                break
        if moved > 1e-10 or not math.isfinite(P):
            raise SolveError(f"no point is found at {T:.5g} K", "phases", "it may lie beyond the critical point")
        return other, P

    def _other(self, z: np.ndarray, other: np.ndarray, T: float, P: float, share: float) -> tuple[float, np.ndarray]:
        """The other phase by equal fugacities: the sum of its fractions, and these scaled to one."""
        logs = self._log_K(T, P, *((z, other) if share == 0.0 else (other, z)))
        new = z * np.exp(logs if share == 0.0 else -logs)
        return float(new.sum()), new / new.sum()

    def _appears(
        self, z: np.ndarray, T: float, P: float, share: float, start: np.ndarray | None
    ) -> tuple[float, np.ndarray]:
        """At one pressure: ln of the sum of the fractions of the other phase, and these fractions."""
        first = self._first_K(T, P)
        other = z * np.exp(first if share == 0.0 else -first) if start is None else start
        other = other / other.sum()
        total = 1.0
        for _ in range(60):
            total, new = self._other(z, other, T, P, share)
            moved, other = float(np.max(np.abs(new - other))), new
            if moved < 1e-10:
                break
        return math.log(total), other

    def _cubic_P(self, z: np.ndarray, T: float, share: float) -> float:
        """The pressure of a bubble or dew point by one equation of state, from low pressures upwards."""
        sign = 1.0 if share == 0.0 else -1.0
        P, low, start, step = 2e3, 0.0, None, 0.25
        while P < 1e9 and step > 1e-6:
            there, other = self._appears(z, T, P, share, start)
            is_apart = float(np.max(np.abs(other - z))) > 1e-5 or (np.count_nonzero(z) == 1 and abs(there) > 1e-9)
            if is_apart and sign * there <= 0 and low > 0:
                try:
                    return float(
                        scipy.optimize.brentq(lambda p, held: self._appears(z, T, p, share, held)[0], low, P, (start,))
                    )
                except ValueError:  # near the critical point
                    break
            if is_apart and sign * there > 0:
                low, start = P, other
            elif low > 0:  # the two phases have become one within this step
                step /= 2
            P = (low or P) * (1 + step)
        raise SolveError(f"no point is found at {T:.5g} K", "phases", "it may lie beyond the critical point")

    def _enthalpy(self, z: np.ndarray, T: float, P: float, phase: str) -> float:
        """In J/mol of a mixture in one phase, without the elements."""
        rises = self._rises(T)
        held = float(z @ rises)
        if isinstance(self.liquid, CubicEquation):
            state = CubicState(self.liquid, T, P, z, phase)
            return held + state.enthalpy_departure
        if phase == "liquid":
            fractions = dict(zip(self.names, z, strict=True))
            return held + (self.liquid.excess_enthalpy(T, fractions) if self.liquid is not None else 0.0)
        boiling = np.array([s.vapor_pressure.log_number(T)[1] for s in self.species]) * GAS_CONSTANT * T**2
        return held + float(z @ boiling)

    def _of_split(self, split: PhaseSplit) -> float:
        parts = []
        if split.vapor_fraction < 1:
            parts.append((1 - split.vapor_fraction) * self._enthalpy(split.x, split.T, split.P, "liquid"))
        if split.vapor_fraction > 0:
            parts.append(split.vapor_fraction * self._enthalpy(split.y, split.T, split.P, "gas"))
        return sum(parts)

    def _rises(self, T: float) -> np.ndarray:
        """Enthalpies relative to those at 298.15 K."""
        return np.array([float(rise(T)) for rise in self._rise_functions])

    @cached_property
    def _rise_functions(self) -> Sequence[Callable[[float], float]]:
        faults, found = Faults(), []
        for one in self.species:
            with faults.at():
                found.append(rise_of(one))
        faults.raise_any()
        return found


def display_of(T: Value, P: Value) -> Display:
    return Display.of([("temperature", T), ("pressure", P)], {}, True)
