"""Cubic equations of state: compressibility, density, departures and fugacities of gases and liquids and mixtures.

P = R T/(v - b) - a(T)/((v + d_1 b)(v + d_2 b)), with d = (1, 0) in Soave's form (G. Soave, Chem. Eng. Sci. 27 (1972)
1197) and d = (1 + sqrt 2, 1 - sqrt 2) in that of Peng and Robinson (D.-Y. Peng, D. B. Robinson, Ind. Eng. Chem. Fundam.
15 (1976) 59).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.chemistry.species import Species
from molino.core.errors import Faults, nearest
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike

PHASES = ("gas", "liquid", "stable")


@dataclass(frozen=True)
class _Form:
    """The constants of one form; `a` and `b` follow from the critical point, where both derivatives vanish."""

    a: float
    b: float
    slope: tuple[float, float, float]
    """The slope of sqrt(alpha) over 1 - sqrt(T/T_c), as a polynomial in the acentric factor."""
    d: tuple[float, float]


_ROOT = 2 ** (1 / 3) - 1
_SOAVE = _Form(1 / (9 * _ROOT), _ROOT / 3, (0.480, 1.574, -0.176), (1.0, 0.0))
_ETA = 1 / (1 + (4 - 8**0.5) ** (1 / 3) + (4 + 8**0.5) ** (1 / 3))
_PENG_ROBINSON = _Form(
    (8 + 40 * _ETA) / (49 - 37 * _ETA),
    _ETA / (3 + _ETA),
    (0.37464, 1.54226, -0.26992),
    (1 + 2**0.5, 1 - 2**0.5),
)
FORMS = {"Soave": _SOAVE, "Peng-Robinson": _PENG_ROBINSON}


@dataclass(frozen=True, eq=False)
class CubicEquation(Frozen):
    """A cubic equation of state for some species and their mixtures.

    Mixtures by the one-fluid rules a = sum x_i x_j sqrt(a_i a_j) (1 - k_ij), b = sum x_i b_i.

    Parameters
    ----------
    species : sequence of Species
        Each with critical temperature, critical pressure and acentric factor.
    form : "Soave" or "Peng-Robinson"
    pairs : mapping of (name, name) to number, optional
        Binary parameters k_ij; by default 0.

    Raises
    ------
    InputError
        With every missing property of a species, and pairs of unknown species.

    Examples
    --------
    >>> N2 = mo.Species("N2", critical_temperature="126.2 K", critical_pressure="34 bar", acentric_factor=0.038)
    >>> equation = mo.thermo.CubicEquation([N2], "Soave")
    >>> round(equation.at("300 K", "100 bar").Z, 3)
    1.019
    """

    species: tuple[Species, ...]
    form: str = "Soave"
    pairs: Mapping[tuple[str, str], float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        settle(self, species=tuple(self.species))
        if self.form not in FORMS:
            faults.add("equation of state", f"unknown form '{self.form}'", nearest(self.form, FORMS))
        for one in self.species:
            for name in ("critical_temperature", "critical_pressure", "acentric_factor"):
                with faults.at():
                    one.require(name, "the equation of state")
        for pair in self.pairs:
            for name in {*pair} - {*self.names}:
                faults.add("pairs", f"'{name}' is not a species here", nearest(name, self.names))
            if len({*pair}) != 2:
                faults.add("pairs", f"{pair} is not a pair of two species", "a species has no k with itself")
        faults.raise_any()

    @property
    def critical_ratio(self) -> float:
        """Molar volume over b at the critical point, where the sum of the three roots is 3 Z."""
        form = FORMS[self.form]
        return (1 + form.b - sum(form.d) * form.b) / 3 / form.b

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(s.name for s in self.species)

    @cached_property
    def numbers(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """a at the critical point, b, the slope of sqrt(alpha), T_c, and 1 - k_ij."""
        form = FORMS[self.form]
        T, P, w = (
            np.array([getattr(s, n).si for s in self.species])
            for n in ("critical_temperature", "critical_pressure", "acentric_factor")
        )
        a, b = form.a * (GAS_CONSTANT * T) ** 2 / P, form.b * GAS_CONSTANT * T / P
        whole = np.ones((len(T), len(T)))
        for (one, two), k in self.pairs.items():
            i, j = self.names.index(one), self.names.index(two)
            whole[i, j] = whole[j, i] = 1 - k
        return a, b, form.slope[0] + form.slope[1] * w + form.slope[2] * w**2, T, whole

    def at(
        self, T: QuantityLike, P: QuantityLike, fractions: Mapping[str, float] | None = None, phase: str = "stable"
    ) -> CubicState:
        """The state of a mixture.

        Parameters
        ----------
        T, P : str, float or quantity
        fractions : mapping of species to mole fraction, optional
            Scaled to a sum of one; optional for one species.
        phase : "gas", "liquid" or "stable"
            The root if there are three: the largest, the smallest, or that of the lower Gibbs energy.

        Raises
        ------
        InputError
            If a temperature, pressure, fraction or phase is invalid.
        """
        faults = Faults()
        given = dict(fractions) if fractions is not None else dict.fromkeys(self.names, 1.0)
        if fractions is None and len(self.species) > 1:
            faults.add("fractions", f"{len(self.species)} species, and no fractions", "give {'A': 0.3, 'B': 0.7}")
        for name in sorted(given.keys() - {*self.names}):
            faults.add("fractions", f"'{name}' is not a species here", nearest(name, self.names))
        x = np.array([float(given.get(name, 0.0)) for name in self.names])
        if not (x >= 0).all() or not x.sum() > 0:
            faults.add("fractions", f"{given} are not fractions", "give numbers from zero up, not all zero")
        if phase not in PHASES:
            faults.add("phase", f"'{phase}' is not a phase", nearest(phase, PHASES))
        read = {}
        for name, value, kind in (("T", T, "temperature"), ("P", P, "pressure")):
            with faults.at():
                read[name] = units.positive(value, kind, name).si
        faults.raise_any("equation of state")
        return CubicState(self, read["T"], read["P"], x / x.sum(), phase)


def _real_roots(two: float, one: float, zero: float) -> list[float]:
    """The real roots of z^3 + two z^2 + one z + zero, in closed form (F. Viete, G. Cardano)."""
    third = two / 3
    p, q = one / 3 - third**2, third**3 - 0.5 * third * one + 0.5 * zero
    discriminant = q**2 + p**3
    if discriminant > 0:
        s = -math.copysign(math.cbrt(abs(q) + math.sqrt(discriminant)), q)
        return [s - p / s - third]
    size = math.sqrt(max(-p, 0.0))
    angle = math.acos(min(max(-q / size**3, -1.0), 1.0)) if size > 0 else 0.0
    return [2 * size * math.cos((angle + turn) / 3) - third for turn in (0.0, 2 * math.pi, 4 * math.pi)]


@dataclass(frozen=True, eq=False)
class CubicState(Printed):
    """One state of a mixture, in SI: T in K, P in Pa, mole fractions of shape (species,)."""

    equation: CubicEquation
    T: float
    P: float
    x: np.ndarray
    phase: str

    @cached_property
    def _mixed(self) -> tuple[float, float, float, float, np.ndarray]:
        """a, da/dT, d2a/dT2, b of the mixture, and sum_j x_j a_ij of each species."""
        a_c, b, m, T_c, whole = self.equation.numbers
        reduced = np.sqrt(self.T / T_c)
        # sqrt(a_i) = sqrt(a_c) (1 + m (1 - sqrt(T/T_c))): its slope in T falls as 1/sqrt(T)
        root, slope = np.sqrt(a_c) * (1 + m * (1 - reduced)), -np.sqrt(a_c) * m * reduced / (2 * self.T)
        curve = -slope / (2 * self.T)
        left = whole @ (self.x * root)
        a = float(self.x * root @ left)
        first = float(2 * (self.x * slope) @ left)
        second = float(2 * (self.x * curve) @ left + 2 * (self.x * slope) @ whole @ (self.x * slope))
        return a, first, second, float(self.x @ b), root * left

    @cached_property
    def _reduced(self) -> tuple[float, float]:
        """A = a P/(R T)^2 and B = b P/(R T)."""
        a, _, _, b, _ = self._mixed
        RT = GAS_CONSTANT * self.T
        return a * self.P / RT**2, b * self.P / RT

    @property
    def _d(self) -> tuple[float, float]:
        return FORMS[self.equation.form].d

    @cached_property
    def roots(self) -> tuple[float, ...]:
        """Every compressibility factor above B, rising."""
        A, B = self._reduced
        u, w = sum(self._d), math.prod(self._d)
        two, one, zero = -(1 + B - u * B), A + (w - u) * B**2 - u * B, -(A * B + w * B**2 + w * B**3)
        kept = []
        for z in _real_roots(two, one, zero):
            for _ in range(3):  # the closed form, to the last digits
                by = (3 * z + 2 * two) * z + one
                z = z - (((z + two) * z + one) * z + zero) / by if abs(by) > 1e-8 else z
            if z > B:
                kept.append(z)
        return tuple(sorted(kept))

    @cached_property
    def Z(self) -> float:
        """Compressibility factor P v/(R T)."""
        if self.phase == "stable":
            return min(self.roots, key=self._gibbs)
        return self.roots[-1] if self.phase == "gas" else self.roots[0]

    def _log(self, Z: float) -> float:
        """ln((Z + d_1 B)/(Z + d_2 B))/(d_1 - d_2)."""
        (one, two), B = self._d, self._reduced[1]
        return math.log((Z + one * B) / (Z + two * B)) / (one - two)

    def _gibbs(self, Z: float) -> float:
        """Gibbs energy less that of the ideal gas, over R T."""
        A, B = self._reduced
        return Z - 1 - math.log(Z - B) - A / B * self._log(Z)

    @property
    def molar_volume(self) -> float:
        """m^3/mol."""
        return self.Z * GAS_CONSTANT * self.T / self.P

    @property
    def concentration(self) -> float:
        """Amount per volume in mol/m^3."""
        return 1 / self.molar_volume

    @property
    def enthalpy_departure(self) -> float:
        """H - H(ideal gas) in J/mol: R T (Z - 1) + (T da/dT - a)/b times the logarithm."""
        a, first, _, b, _ = self._mixed
        return GAS_CONSTANT * self.T * (self.Z - 1) + (self.T * first - a) / b * self._log(self.Z)

    @property
    def entropy_departure(self) -> float:
        """S - S(ideal gas at the same pressure) in J/mol/K."""
        _, first, _, b, _ = self._mixed
        return GAS_CONSTANT * math.log(self.Z - self._reduced[1]) + first / b * self._log(self.Z)

    @property
    def heat_capacity_departure(self) -> float:
        """C_p - C_p(ideal gas) in J/mol/K: the slope of the enthalpy departure by temperature at constant pressure."""
        a, first, second, b, _ = self._mixed
        Z, B, (one, two) = self.Z, self._reduced[1], self._d
        by_T = self.dZ_dT
        log_slope = -(by_T + Z / self.T) * B / ((Z + one * B) * (Z + two * B))  # B falls as 1/T
        return (
            GAS_CONSTANT * (Z - 1 + self.T * by_T)
            + self.T * second / b * self._log(Z)
            + (self.T * first - a) / b * log_slope
        )

    @cached_property
    def _slopes(self) -> tuple[float, float]:
        """dZ/dA and dZ/dB along the root."""
        A, B = self._reduced
        Z, u, w = self.Z, sum(self._d), math.prod(self._d)
        by_Z = 3 * Z**2 - 2 * (1 + B - u * B) * Z + A + (w - u) * B**2 - u * B
        by_A = Z - B
        by_B = (u - 1) * Z**2 + (2 * (w - u) * B - u) * Z - A - 2 * w * B - 3 * w * B**2
        return -by_A / by_Z, -by_B / by_Z

    @property
    def dZ_dT(self) -> float:
        """At constant pressure and composition, in 1/K."""
        a, first, *_ = self._mixed
        (A, B), (by_A, by_B) = self._reduced, self._slopes
        return by_A * A * (first / a - 2 / self.T) - by_B * B / self.T

    @property
    def dZ_dP(self) -> float:
        """At constant temperature and composition, in 1/Pa."""
        (A, B), (by_A, by_B) = self._reduced, self._slopes
        return (by_A * A + by_B * B) / self.P

    @property
    def fugacity_coefficients(self) -> dict[str, float]:
        """phi_i = f_i/(x_i P) of each species."""
        return dict(zip(self.equation.names, np.exp(self.log_coefficients).tolist(), strict=True))

    @cached_property
    def log_coefficients(self) -> np.ndarray:
        """ln phi_i, shape (species,)."""
        a, _, _, b, cross = self._mixed
        (A, B), Z = self._reduced, self.Z
        share = self.equation.numbers[1] / b
        return np.asarray(share * (Z - 1) - math.log(Z - B) - A / B * (2 * cross / a - share) * self._log(Z))

    def __str__(self) -> str:
        roots = ", ".join(f"{z:.4g}" for z in self.roots)
        many = f" of the roots {roots}" if len(self.roots) > 1 else ""
        return (
            f"{self.equation.form}, {self.phase} at {self.T:.5g} K and {self.P / 1e5:.5g} bar: Z {self.Z:.5g}{many}, "
            f"{self.concentration / 1e3:.4g} mol/L, enthalpy departure {self.enthalpy_departure / 1e3:.4g} kJ/mol"
        )
