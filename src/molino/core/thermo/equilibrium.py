"""`equilibrium`: what a mixture comes to, by least Gibbs energy over chosen species."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import sympy as sp
from scipy.optimize import brentq

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.heat_capacity import Below
from molino.core.chemistry.species import Species, beyond_validity, conserved
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen
from molino.core.results import Result, entry, in_columns, plain
from molino.core.thermo.gibbs import GibbsProblem, LeastGibbs
from molino.core.units import GAS_CONSTANT, Display, Value

if TYPE_CHECKING:
    import pandas as pd

_T = sp.Symbol("T", positive=True)
_ASKER = "its Gibbs energy"
_STANDARD = 1e5
"""Pressure of the standard state in Pa."""
_COLDEST, _HOTTEST = 150.0, 6000.0
"""Between which temperatures in K the adiabatic one is sought."""


@dataclass(frozen=True, eq=False)
class Equilibrium(Frozen, Result):
    """A mixture at equilibrium: a gas, with pure solids or not.

    Attributes
    ----------
    species : tuple of Species
    solids : tuple of str
        Those of them that are pure phases of their own.
    start, amounts : mapping of species to float
        In mol: what it was made of, and what it comes to.
    T, P : float
        In K and Pa.
    heat : float
        That it took in J; nan where the temperature at the start is not known.
    iterations : int
    show : Display
        The units in which it is shown.

    Examples
    --------
    >>> import molino as mo
    >>> N2O4 = mo.Species("N2O4", "N2O4", enthalpy_of_formation=9200.0, entropy=304.3, heat_capacity=77.3)
    >>> NO2 = mo.Species("NO2", "NO2", enthalpy_of_formation=33200.0, entropy=240.1, heat_capacity=37.2)
    >>> found = mo.equilibrium([N2O4, NO2], {"N2O4": "1 mol"}, T="330 K", P="1 bar")
    >>> round(found.fractions["NO2"], 3)
    0.67
    """

    species: tuple[Species, ...]
    solids: tuple[str, ...]
    start: Mapping[str, float]
    amounts: Mapping[str, float]
    T: float
    P: float
    heat: float
    iterations: int
    show: Display

    @property
    def fractions(self) -> dict[str, float]:
        """Mole fractions in the gas; empty where there is none."""
        gas = {s: n for s, n in self.amounts.items() if s not in self.solids}
        total = sum(gas.values())
        return {s: n / total for s, n in gas.items()} if total > 0 else {}

    def table(self) -> pd.DataFrame:
        """One row a species: amounts at the start and at equilibrium, and its mole fraction in the gas."""
        import pandas as pd

        display, fractions = self.show, self.fractions
        start, end = (display.number(np.array([*of.values()]), "amount") for of in (self.start, self.amounts))
        return pd.DataFrame({
            "species": [*self.amounts], "phase": ["solid" if s in self.solids else "gas" for s in self.amounts],
            display.heading("start", "amount"): start, display.heading("equilibrium", "amount"): end,
            "fraction": [fractions.get(s, np.nan) for s in self.amounts],
        })  # fmt: skip

    def facts(self) -> dict[str, str]:
        """Conditions, heat, and the solids that there are."""
        display = self.show
        found = {"temperature": display.text(self.T, "temperature", 5), "pressure": display.text(self.P, "pressure")}
        if np.isfinite(self.heat):
            found["heat taken up"] = display.text(self.heat, "energy")
        for solid in self.solids:
            there = display.text(self.amounts[solid], "amount") if self.amounts[solid] else "none"
            found[f"solid {solid}"] = there
        if beyond := beyond_validity(self.species, self.T, self.T):
            found["heat capacity of"] = "; ".join(beyond)
        return found

    def to_dict(self) -> dict[str, Any]:
        """Plain data: amounts, fractions, temperature, pressure and heat."""
        display = self.show
        return plain({  # type: ignore[no-any-return]
            "temperature": entry(display, self.T, "temperature"), "pressure": entry(display, self.P, "pressure"),
            "heat": entry(display, self.heat, "energy") if np.isfinite(self.heat) else None,
            "amounts": {s: entry(display, n, "amount") for s, n in self.amounts.items()}, "fractions": self.fractions,
        })  # fmt: skip

    def __str__(self) -> str:
        return "\n".join(
            [
                "equilibrium",
                *in_columns(self.facts()),
                self.table().to_string(index=False, float_format="{:.5g}".format),
            ]
        )


@checked
def equilibrium(
    species: Sequence[Species], amounts: Mapping[str, Any], *, T: Any, P: Any, solids: Sequence[str] = (),
    adiabatic: bool = False, show: Mapping[str, str] | None = None,
) -> Equilibrium:  # fmt: skip
    """What amounts of some species come to: the amounts of least Gibbs energy, at a temperature and pressure.

    An ideal gas, with pure solids that appear and vanish by themselves; no reactions are named, every one that keeps
    the elements is possible. mu_i = h_i(T) - T s_i(T) + R T ln(x_i P/P0) of a gas, P0 = 1 bar (J. M. Smith, H. C. Van
    Ness, M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005, section 13.9). No starting
    point is asked for, and traces are as exact as what is plenty.

    Parameters
    ----------
    species : sequence of Species
        Each with formula, enthalpy of formation, entropy (or Gibbs energy of formation) and heat capacity.
    amounts : mapping of species to quantity
        What it is made of: {"methane": "1 mol", "water": "3 mol"}; a bare number is mol.
    T, P : temperature and pressure
        With `adiabatic` the temperature of what it is made of.
    solids : sequence of str
        The species that are pure solids.
    adiabatic : bool
        Whether it keeps its enthalpy, at constant pressure, in place of its temperature.
    show : mapping of kind to unit, optional
        Units for results; otherwise those in which the inputs came.

    Returns
    -------
    Equilibrium

    Raises
    ------
    InputError
        With everything that a species lacks, and names that are none.
    SolveError
        If it is not found.

    Examples
    --------
    >>> import molino as mo
    >>> coke = mo.Species("coke", "C", enthalpy_of_formation=0.0, entropy=5.7, heat_capacity=8.5)
    >>> gas = mo.Species("monoxide", "CO", enthalpy_of_formation=-110500.0, entropy=197.7, heat_capacity=29.1)
    >>> flue = mo.Species("dioxide", "CO2", enthalpy_of_formation=-393500.0, entropy=213.8, heat_capacity=37.1)
    >>> found = mo.equilibrium([coke, gas, flue], {"monoxide": 1.0}, T="900 K", P="1 bar", solids=["coke"])
    >>> found.amounts["coke"] > 0.3
    True
    """
    mixture = _Mixture(species, solids)
    faults = Faults()
    start = dict.fromkeys(mixture.names, 0.0)
    read: list[tuple[str, Value | None]] = []
    for name, given in amounts.items():
        with faults.at(f"amounts, {name}"):
            if name not in start:
                raise InputError(f"'{name}' is not among the species", "", nearest(name, mixture.names))
            value = units.positive(given, "amount", name, zero=True)
            start[name] = value.si
            read.append(("amount", value))
    with faults.at("equilibrium"):
        first = units.positive(T, "temperature", "T")
        read.append(("temperature", first))
    with faults.at("equilibrium"):
        pressure = units.positive(P, "pressure", "P")
        read.append(("pressure", pressure))
    if not faults.found and not sum(start.values()) > 0:
        faults.add("equilibrium", "nothing is there", "give an amount above zero")
    faults.raise_any()
    n = np.array([*start.values()])
    brought = float(n @ mixture.enthalpies(first.si))

    def at(kelvin: float) -> tuple[LeastGibbs, float]:
        found = mixture.least(n, kelvin, pressure.si)
        return found, float(found.amounts @ mixture.enthalpies(kelvin)) - brought

    end = first.si
    if adiabatic:
        ends = [at(T)[1] for T in (_COLDEST, _HOTTEST)]
        if ends[0] * ends[1] > 0:
            message = f"no temperature between {_COLDEST:g} and {_HOTTEST:g} K has its enthalpy"
            raise InputError(message, "equilibrium", "check heat capacities and enthalpies of formation")
        end = float(brentq(lambda T: at(T)[1], _COLDEST, _HOTTEST, xtol=1e-10, rtol=1e-14))
    found, heat = at(end)
    display = Display.of(read, show or {}, True)
    return Equilibrium(
        mixture.species, mixture.solids, start, dict(zip(mixture.names, found.amounts.tolist(), strict=True)), end,
        pressure.si, 0.0 if adiabatic else heat, found.iterations, display,
    )  # fmt: skip


class _Mixture:
    """Species with what their equilibrium takes; InputError with everything that they lack."""

    def __init__(self, species: Sequence[Species], solids: Sequence[str]) -> None:
        faults = Faults()
        self.species, self.solids = tuple(species), tuple(solids)
        self.names = tuple(s.name for s in self.species)
        if not self.species or len({*self.names}) < len(self.names):
            faults.add("equilibrium", "no species, or one of them twice", "give each species once")
        for name in {*self.solids} - {*self.names}:
            faults.add("solids", f"'{name}' is not among the species", nearest(name, self.names))
        enthalpies, entropies, atoms = [], [], []
        for one in self.species:
            with faults.at():
                atoms.append(conserved(one.require("formula", _ASKER)))
                if "charge" in atoms[-1]:
                    raise InputError(f"{one.name} is an ion", "equilibrium", "leave ions out of a gas")
                enthalpies.append(one.enthalpy(_T, _ASKER))
                entropies.append(one.standard_entropy(_T, _ASKER))
        if not faults.found and len({s.entropy_is_absolute for s in self.species}) > 1:
            message = "some species have an absolute entropy, others a Gibbs energy of formation"
            faults.add("equilibrium", message, "give all of them the one or the other")
        faults.raise_any()
        elements = list(dict.fromkeys(e for one in atoms for e in one))
        holds = np.array([[float(one.get(e, 0)) for e in elements] for one in atoms])
        gas = [i for i, name in enumerate(self.names) if name not in self.solids]
        phases = [*([gas] if gas else []), *([i] for i, name in enumerate(self.names) if name in self.solids)]
        self.holds, self.problem = holds, GibbsProblem(holds, phases)
        self.is_gas = np.array([name not in self.solids for name in self.names])
        self._of = sp.lambdify([_T], [enthalpies, entropies], [{"Below": Below.columns}, "numpy"])

    def enthalpies(self, T: float) -> np.ndarray:
        """In J/mol, shape (species,)."""
        return np.array(self._of(T)[0], dtype=float)

    def least(self, n: np.ndarray, T: float, P: float) -> LeastGibbs:
        """The amounts of least Gibbs energy with the elements of some amounts."""
        h, s = (np.array(row, dtype=float) for row in self._of(T))
        g = (h / T - s) / GAS_CONSTANT + np.where(self.is_gas, np.log(P / _STANDARD), 0.0)
        return self.problem.solve(g, n @ self.holds)
