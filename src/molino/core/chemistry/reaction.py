"""A reaction: equation, rate law and constants."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.chemistry.constants import Constant, Entry, NotGiven, Unknown, entry, read_constant
from molino.core.chemistry.equation import Equation, parse_equation
from molino.core.chemistry.formula import parse_formula, species_in
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE
from molino.core.chemistry.python_rate_law import name_of, python_law
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen, FrozenMapping, meant, settle
from molino.core.units import Value

BASES = {
    "volume": "rate",
    "catalyst mass": "rate per catalyst mass",
    "catalyst volume": "rate",
    "area": "rate per area",
}
"""The bases of a rate (volume of fluid, mass or bulk volume of catalyst, area), each with its kind of quantity."""


@dataclass(frozen=True, init=False, eq=False)
class Reaction(Frozen):
    """A reaction equation with its rate law.

    Parameters
    ----------
    equation : str
        Like "xylose -> furfural + 3 water" or "A + B <-> C".
    rate : str or function, optional
        The rate law as a formula, e.g. "k*[xylose]*[acid]", amount per volume and time per mole of reaction as written.
        By default the reaction is elementary (law of mass action): k times the concentrations on the left, each to its
        coefficient, less the backward rate of a reversible reaction. A law that no formula can express is a Python
        function: `def rate(xylose, acid, T, k)` gets concentrations in mol/m^3, T in K and the constants in SI, as
        plain numbers, and returns the rate in SI; its derivatives are numeric, and it is slower.
    name : str, optional
        For messages and parameters; otherwise r1, r2, ... by position.
    orders : mapping of species to number or Unknown, optional
        A power law instead of a formula: k times each concentration to its order. An unknown order becomes the
        constant `n_SPECIES`, and concentrations count in `c_ref` = 1 mol/L, so that k has the unit of a rate.
    basis : "volume", "catalyst mass", "catalyst volume" or "area"
        The basis of the rate: volume of fluid, mass or bulk volume of catalyst, catalytic area. All except the first
        need a `Catalyst` in the vessel.
    enthalpy : energy per amount, or Unknown, optional
        Enthalpy of reaction per mole of reaction as written; by default from the enthalpies of formation.
    enthalpy_at : temperature
        Its temperature; by default 298.15 K.
    **constants : str, float, quantity, Arrhenius, VantHoff, FromSpecies or Unknown
        The constants in the rate law. An elementary reaction takes `k`, and if reversible also `k_reverse` or the
        equilibrium constant in concentrations `K` (backward constant = k / K). With neither a rate law nor constants
        the reaction has no kinetics, and can be used in vessels at a given conversion or at equilibrium.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> reaction = mo.Reaction("2 A + B -> C", rate="k*[A]*[B]", k="0.2 L/mol/min")
    >>> print(reaction)
    2 A + B -> C    rate k*[A]*[B]    with k = 0.2 L/mol/min
    """

    equation: Equation
    rate: str | Callable[..., Any] | None
    name: str | None
    basis: str
    enthalpy: Entry | None
    enthalpy_at: Value
    constants: Mapping[str, Constant]

    @checked
    def __init__(
        self,
        /,
        equation: str | Equation,
        rate: str | Callable[..., Any] | None = None,
        name: str | None = None,
        *,
        orders: ByName | None = None,
        basis: str = "volume",
        enthalpy: object = None,
        enthalpy_at: object = STANDARD_TEMPERATURE,
        **constants: Any,
    ):
        faults = Faults()
        held: dict[str, Constant] = {}
        place = name or str(equation)
        with faults.at(place):
            if not isinstance(equation, str | Equation) or not (
                rate is None or isinstance(rate, str) or callable(rate)
            ):
                raise InputError(
                    "equation and rate law are texts", "", "write mo.Reaction('A -> B', rate='k*[A]', k=...)"
                )
            equation = parse_equation(equation) if isinstance(equation, str) else equation
        if basis not in BASES:
            faults.add(place, f"basis = {basis!r}", nearest(str(basis), BASES))
        if orders is not None:
            with faults.at(place):
                if rate is not None:
                    raise InputError("both a rate law and orders are given", "", "give one of them")
                if isinstance(equation, Equation) and equation.reversible:
                    raise InputError("orders are given for a reversible reaction", "", "write its rate as a formula")
                rate, more = _power_law(orders, constants.get("k"))
                constants = {**more, **constants}
        with faults.at(place):
            enthalpy = entry(enthalpy, "energy per amount", "enthalpy") if enthalpy is not None else None
        with faults.at(place):
            enthalpy_at = units.positive(enthalpy_at, "temperature", "enthalpy_at")
        for key, given in constants.items():
            with faults.at(f"{place}, {key}"):
                held[key] = read_constant(given, "")
        with faults.at(place):
            if isinstance(rate, str):
                parse_formula(rate)
            elif rate is not None:
                python_law(rate, frozenset(constants))
            elif isinstance(equation, Equation):
                _check_elementary(equation, held)
        faults.raise_any()
        settle(
            self,
            equation=equation,
            rate=rate,
            name=name,
            basis=basis,
            enthalpy=enthalpy,
            enthalpy_at=enthalpy_at,
            constants=FrozenMapping(held),
        )

    @cached_property
    def formula(self) -> sp.Expr:
        """The rate law over [species] and the constants by their own names."""
        if self.is_python:
            return python_law(self.rate, frozenset(self.constants))  # type: ignore[arg-type]
        return parse_formula(self.law)

    @property
    def is_python(self) -> bool:
        """Whether the rate law is a Python function."""
        return callable(self.rate)

    @property
    def has_kinetics(self) -> bool:
        """Whether its rate constants are given or unknown."""
        return not any(isinstance(part, NotGiven) for c in self.constants.values() for part in c.parts().values())

    @property
    def is_elementary(self) -> bool:
        """Whether the rate follows from the equation by the law of mass action."""
        return self.rate is None

    @property
    def law(self) -> str:
        """The rate law as text, also of an elementary reaction."""
        if callable(self.rate):
            return f"Python function {name_of(self.rate)}({', '.join(str(s) for s in self.formula.args)})"
        if self.rate is not None:
            return self.rate
        forward, backward = (_mass_action(side) or "1" for side in (self.equation.left, self.equation.right))
        if not self.equation.reversible:
            return f"k*{forward}" if self.equation.left else "k"
        return f"k*({forward} - {backward}/K)" if "K" in self.constants else f"k*{forward} - k_reverse*{backward}"

    @cached_property
    def asks(self) -> frozenset[str]:
        """The species whose concentration (pressure, fraction) is in the rate law."""
        found = (species_in(s) for s in self.formula.free_symbols)
        return frozenset(kind[1] for kind in found if kind is not None)

    def with_constants(
        self, constants: Mapping[str, Constant], name: str | None = None, enthalpy: Entry | None = None
    ) -> Reaction:
        """The same reaction with some constants, the name or the enthalpy replaced."""
        held: PlainData = {**self.constants, **constants}
        heat: PlainData = {"enthalpy": enthalpy or self.enthalpy, "enthalpy_at": self.enthalpy_at}
        return Reaction(self.equation, self.rate, name or self.name, basis=self.basis, **heat, **held)

    def __str__(self) -> str:
        if not self.has_kinetics:
            return f"{self.equation}    no rate law"
        held = "; ".join(f"{name} = {value}" for name, value in self.constants.items())
        per = "" if self.basis == "volume" else f" per {self.basis}"
        return f"{self.equation}    rate{per} {self.law}" + (f"    with {held}" if held else "")


def _mass_action(side: Sequence[tuple[str, Fraction]]) -> str:
    """Concentrations to their coefficients: '[A]^2*[B]'."""
    return "*".join(f"[{name}]" + ("" if n == 1 else f"^({n})" if n.denominator > 1 else f"^{n}") for name, n in side)


def _power_law(orders: ByName, k: object) -> tuple[str, PlainData]:
    """The formula of a power law, and its constants.

    With an unknown order each concentration is divided by 1 mol/L (by 1 if k is a bare number), so that the unit of k
    does not depend on the order.
    """
    if not isinstance(orders, Mapping) or not orders:
        raise InputError(f"orders = {orders!r}", "", "write orders={'A': 1.5, 'B': -0.5}")
    unknown = any(isinstance(order, Unknown) for order in orders.values())
    factors: list[str] = ["k"]
    constants: PlainData = {}
    if unknown:
        constants["c_ref"] = "1 mol/L" if k is None or read_constant(k, "k").unit is not None else 1.0
    faults = Faults()
    for species, order in orders.items():
        base = f"([{species}]/c_ref)" if unknown else f"[{species}]"
        if isinstance(order, Unknown):
            name = "n_" + re.sub(r"\W", "_", species)
            constants[name] = order
            factors.append(f"{base}^{name}")
            continue
        with faults.at(f"orders, {species}"):
            number = units.read(order, "number").si
            if number:
                factors.append(base + ("" if number == 1 else f"^{number:.12g}"))
    faults.raise_any()
    return "*".join(factors), constants


def _check_elementary(equation: Equation, held: Mapping[str, Constant]) -> None:
    faults = Faults()
    allowed = {"k", "k_reverse", "K"} if equation.reversible else {"k"}
    for key in sorted(held.keys() - allowed):
        reverse = key in ("k_reverse", "K")
        advice = "write the arrow as <->" if reverse else f"give a rate formula; {nearest(key, allowed)}"
        if key in ("A", "Ea", "n", "at"):
            advice = "give k=mo.Arrhenius(A=..., Ea=...); in a job k = { A = ..., Ea = ... }"
        elif meant(key, ["enthalpy"]).startswith("did you mean"):
            advice = "did you mean 'enthalpy'?"
        faults.add("", f"an elementary {'one-way ' if reverse else ''}reaction has no constant '{key}'", advice)
    if equation.reversible and held and len(held.keys() & {"k_reverse", "K"}) != 1:
        faults.add("", "a reversible elementary reaction needs one of k_reverse and K", "give exactly one of them")
    faults.raise_any()
