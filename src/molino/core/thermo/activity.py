"""Activity coefficients of liquid mixtures, all derived from one expression of the excess Gibbs energy of each model.

With G the excess Gibbs energy over R T of some amounts n, ln gamma_i = dG/dn_i and the excess enthalpy is -R T^2 dG/dT
(J. M. Smith, H. C. Van Ness, M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005, chapters
11 and 12). G is written with sums that are linear in the amounts, so that derivatives are short.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.species import Species
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.thermo.excess_gibbs import ActivityNumbers, Coefficients, ExcessGibbs
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike

ACTIVITY_FORMS = ("Wilson", "NRTL", "UNIQUAC", "regular solution")
_NEEDS = {
    "Wilson": (),
    "NRTL": (),
    "UNIQUAC": ("relative_volume", "relative_area"),
    "regular solution": ("solubility_parameter", "molar_volume"),
}
_EVEN = 0.3
"""Default nonrandomness of a pair."""
_TRIALS = 200
_SPLITS = 1e-7
"""Smallest excess over one of the sum of the fractions of a second liquid."""


@dataclass(frozen=True, eq=False)
class ActivityModel(Frozen, Printed):
    """A model of activity coefficients for a liquid, as `model` of a feed or charge.

    The parameter of a pair in its order is an energy per amount, or the coefficients (a, b, c, d) of

        p_ij = a + b/T + c ln T + d T     with T in K, omitted ones zero

    and means, by form (G. M. Wilson, J. Am. Chem. Soc. 86 (1964) 127; H. Renon, J. M. Prausnitz, AIChE J. 14 (1968)
    135; D. S. Abrams, J. M. Prausnitz, AIChE J. 21 (1975) 116; J. H. Hildebrand, R. L. Scott, Regular Solutions, 1962):

    - "Wilson": Lambda_ij = (v_j/v_i) exp(-E/(R T)) of an energy, with the molar volumes; ln Lambda_ij = p_ij.
    - "NRTL": tau_ij = E/(R T) of an energy, tau_ij = p_ij; G_ij = exp(-alpha_ij tau_ij).
    - "UNIQUAC": tau_ij = exp(-E/(R T)) of an energy; ln tau_ij = p_ij. Species with `relative_volume` (r) and
      `relative_area` (q), coordination number 10.
    - "regular solution": from the solubility parameters and molar volumes of the species; a pair may have the number
      l_ij of (delta_i - delta_j)^2 + 2 l_ij delta_i delta_j.

    A pair without parameters has zero energy.

    Parameters
    ----------
    species : sequence of Species
    form : str
    pairs : mapping of (name, name) to quantity or coefficients
        Both orders of every pair, {("A", "B"): "2.1 kJ/mol", ("B", "A"): (0.3, -250.0)}; one order for a regular
        solution.
    nonrandomness : mapping of (name, name) to number, optional
        alpha of NRTL, the same for both orders; by default 0.3.

    Raises
    ------
    InputError
        With every missing property of a species, and all faults of the pairs.

    Examples
    --------
    >>> species = [mo.Species("ether"), mo.Species("water")]
    >>> model = mo.thermo.ActivityModel(species, "NRTL", {("ether", "water"): (1.2,), ("water", "ether"): (2.0,)})
    >>> round(model.coefficients("330 K", {"ether": 0.3, "water": 0.7})["ether"], 3)
    3.086
    """

    species: tuple[Species, ...]
    form: str = "NRTL"
    pairs: Mapping[tuple[str, str], object] = field(default_factory=dict)
    nonrandomness: Mapping[tuple[str, str], float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        settle(self, species=tuple(self.species), pairs=FrozenMapping(dict(self.pairs)))
        settle(self, nonrandomness=FrozenMapping(dict(self.nonrandomness)))
        if self.form not in ACTIVITY_FORMS:
            faults.add("activity model", f"unknown form '{self.form}'", nearest(str(self.form), ACTIVITY_FORMS))
            faults.raise_any()
        for one in self.species:
            for name in _NEEDS[self.form]:
                with faults.at():
                    one.require(name, f"the {self.form} model")
        for where, given in (("pairs", self.pairs), ("nonrandomness", self.nonrandomness)):
            for pair in given:
                with faults.at(where):
                    self._check_pair(pair)
        if self.nonrandomness and self.form != "NRTL":
            faults.add("nonrandomness", f"the {self.form} model has none", "leave it out")
        faults.raise_any()
        for pair, value in self.pairs.items():
            with faults.at(f"pairs, {pair[0]} and {pair[1]}"):
                self._coefficients(pair, value)
        for pair in self.nonrandomness:
            with faults.at(f"nonrandomness, {pair[0]} and {pair[1]}"):
                units.positive(self.nonrandomness[pair], "number", "alpha")
        if self.form != "regular solution":
            for first, second in sorted({*self.pairs} - {(b, a) for a, b in self.pairs}):
                message = f"{first} with {second} is given, and {second} with {first} is not"
                faults.add("pairs", message, f"give ('{second}', '{first}'), too")
        faults.raise_any()

    def _check_pair(self, pair: object) -> None:
        if not isinstance(pair, tuple) or len(pair) != 2 or len({*pair}) != 2:
            raise InputError(f"{pair!r} is not a pair of two species", "", "write ('A', 'B')")
        for name in pair:
            if name not in self.names:
                raise InputError(f"'{name}' is not a species here", "", nearest(str(name), self.names))

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(s.name for s in self.species)

    def over(self, species: Sequence[Species]) -> ActivityModel:
        """The same for other species, which include those of its pairs."""
        return ActivityModel(tuple(species), self.form, self.pairs, self.nonrandomness)

    @property
    def unpaired(self) -> list[tuple[str, str]]:
        """The pairs without parameters, which have zero energy."""
        if self.form == "regular solution":
            return []
        names = self.names
        return [(a, b) for i, a in enumerate(names) for b in names[i + 1 :] if (a, b) not in self.pairs]

    def _coefficients(self, pair: tuple[str, str], value: object) -> Coefficients:
        if self.form == "regular solution":
            return (units.read(value, "number").si, 0.0, 0.0, 0.0)
        if isinstance(value, list | tuple) and 1 <= len(value) <= 4:
            numbers = [units.read(v, "number").si for v in value]
            return tuple([*numbers, 0.0, 0.0, 0.0][:4])  # type: ignore[return-value]
        read = units.read(value)
        if isinstance(value, list | tuple) or read.unit is None:
            message = f"{value!r} is neither an energy with its unit nor 1 to 4 coefficients"
            raise InputError(message, "", "write '2.1 kJ/mol', or (0.3, -250.0) for a + b/T")
        energy = units.read(read, "energy per amount").si / GAS_CONSTANT
        if self.form == "NRTL":
            return (0.0, energy, 0.0, 0.0)
        if self.form == "UNIQUAC":
            return (0.0, -energy, 0.0, 0.0)
        asker = "the Wilson model with energies"
        own, other = (self.species[self.names.index(name)].require("molar_volume", asker).si for name in pair)
        return (float(np.log(other / own)), -energy, 0.0, 0.0)

    @cached_property
    def numbers(self) -> ActivityNumbers:
        """Its numbers, in a form that can be a key."""
        place, count = {name: i for i, name in enumerate(self.names)}, len(self.species)
        pairs: list[list[Coefficients]] = [[(0.0, 0.0, 0.0, 0.0)] * count for _ in range(count)]
        even = [[_EVEN] * count for _ in range(count)]
        for (one, two), value in self.pairs.items():
            pairs[place[one]][place[two]] = self._coefficients((one, two), value)
            if self.form == "regular solution":
                pairs[place[two]][place[one]] = pairs[place[one]][place[two]]
        for (one, two), alpha in self.nonrandomness.items():
            even[place[one]][place[two]] = even[place[two]][place[one]] = float(units.read(alpha, "number").si)
        pure = tuple(tuple(s.require(n, self.form).si for n in _NEEDS[self.form]) for s in self.species)
        return ActivityNumbers(self.form, tuple(map(tuple, pairs)), tuple(map(tuple, even)), pure)

    def coefficients(self, T: QuantityLike, fractions: Mapping[str, float]) -> dict[str, float]:
        """Activity coefficients at a temperature and composition.

        Parameters
        ----------
        T : str, float or quantity
        fractions : mapping of species to mole fraction
            Scaled to a sum of one.

        Raises
        ------
        InputError
            If the temperature or the fractions are invalid.
        """
        return dict(zip(self.names, np.exp(self._at(T, fractions)[:-2]).tolist(), strict=True))

    def excess_gibbs(self, T: QuantityLike, fractions: Mapping[str, float]) -> float:
        """Excess Gibbs energy in J/mol; arguments as for `coefficients`."""
        kelvin = units.positive(T, "temperature", "T").si
        return float(self._at(T, fractions)[-2] * GAS_CONSTANT * kelvin)

    def excess_enthalpy(self, T: QuantityLike, fractions: Mapping[str, float]) -> float:
        """Excess enthalpy (heat of mixing) in J/mol; arguments as for `coefficients`."""
        return float(self._at(T, fractions)[-1])

    def second_liquid(self, T: QuantityLike, fractions: Mapping[str, float]) -> dict[str, float] | None:
        """The composition of a second liquid into which a liquid would split; None if it is stable.

        By the tangent plane of the Gibbs energy, from each almost pure species (M. L. Michelsen, Fluid Phase Equilib. 9
        (1982) 1): Y_i gamma_i(Y) = x_i gamma_i(x) has a solution that adds up to more than one. Arguments and errors as
        for `coefficients`.

        Returns
        -------
        dict of species to mole fraction, or None
        """
        kelvin = units.positive(T, "temperature", "T").si
        x = np.array([float(fractions.get(name, 0.0)) for name in self.names])
        here = self._at(kelvin, fractions)[:-2]
        x = x / x.sum()
        there, function = x > 0, _evaluated(self.numbers)
        plane = np.log(np.where(there, x, 1.0)) + here
        for first in np.flatnonzero(there):
            y = np.where(there, 1e-3 / len(x), 0.0)
            y[first] = 1.0
            total = 0.0
            for _ in range(_TRIALS):
                y = y / y.sum()
                new = np.where(there, np.exp(plane - np.array(function(*y, kelvin)[:-2], dtype=float)), 0.0)
                total, moved = float(new.sum()), float(np.max(np.abs(new - y)))
                y = new
                if moved < 1e-10:
                    break
            y = y / total
            if total > 1 + _SPLITS and float(np.max(np.abs(y - x))) > 1e-4:
                return dict(zip(self.names, y.tolist(), strict=True))
        return None

    def _at(self, T: QuantityLike, fractions: Mapping[str, float]) -> np.ndarray:
        kelvin = units.positive(T, "temperature", "T").si
        for name in fractions:
            if name not in self.names:
                raise InputError(f"'{name}' is not a species here", "fractions", nearest(name, self.names))
        x = np.array([float(fractions.get(name, 0.0)) for name in self.names])
        if not (x >= 0).all() or not x.sum() > 0:
            advice = "give numbers from zero up, not all zero"
            raise InputError(f"{dict(fractions)} are not fractions", "activity model", advice)
        return np.array(_evaluated(self.numbers)(*(x / x.sum()), kelvin), dtype=float)

    def __str__(self) -> str:
        return f"{self.form} of {', '.join(self.names)}"


@lru_cache(maxsize=64)
def _evaluated(numbers: ActivityNumbers) -> Callable[..., list[float]]:
    """(fractions, T) -> ln gamma of each species, G over R T per mole, excess enthalpy."""
    x, T = sp.symbols(f"x0:{len(numbers.pairs)}", positive=True), sp.Symbol("T", positive=True)
    excess = ExcessGibbs(numbers, x, T)
    outputs = [*(excess.log_coefficient(i) for i in excess.count), excess.total, excess.enthalpy]
    for symbol, definition in reversed(excess.definitions):
        outputs = [e.xreplace({symbol: definition}) for e in outputs]
    made: Callable[..., list[float]] = sp.lambdify([*x, T], outputs, "numpy", cse=True)
    return made
