"""Families of rate laws for one reaction, generated from a description."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Unknown
from molino.core.chemistry.equation import Equation, parse_equation
from molino.core.chemistry.reaction import BASES, Reaction
from molino.core.chemistry.species import Species
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.fitting.rates.rates import Rates
from molino.core.units import QuantityLike, Value

LIMITING = ("surface", "adsorption", "desorption")
_ENERGY = "80 kJ/mol"
"""The guess of an activation energy, if none is given."""
_WIDE = 1.0
"""Range of temperatures in K from which on a rate constant has an activation energy."""
_MOST = 200
"""Largest number of laws of a family."""


@checked
def candidate_laws(
    equation: str,
    data: Experiments | Experiment | Rates | Sequence[Experiment | Experiments],
    *,
    orders: Mapping[str, tuple[float, float]] | None = None,
    step: float = 0.5,
    adsorbing: str | Sequence[str] = (),
    dissociating: str | Sequence[str] = (),
    limiting: str | Sequence[str] = ("surface",),
    equilibrium: object = None,
    Ea: QuantityLike = _ENERGY,
    name: str = "r",
) -> dict[str, Chemistry]:
    """Generate rate laws of one reaction as candidates for `discriminate`, with guesses from the data.

    Power laws have every combination of orders in steps. Langmuir-Hinshelwood laws have every subset of the adsorbing
    species in the denominator, one limiting step each (O. A. Hougen, K. M. Watson, Ind. Eng. Chem. 35 (1943) 529). The
    adsorption constants of the reactants in the numerator are part of k.

    - surface: k [A] [B] / (1 + sum K [i])^n, with n adsorbed reactants (1 at least; a dissociating one counts twice).
    - adsorption: k [A] / (1 + sum K [i]) for each adsorbing reactant, without its own term.
    - desorption: k [A] [B] / (1 + sum K [i] + K' [A] [B]), with K' for the product that desorbs.

    Parameters
    ----------
    equation : str
        "A + B -> C".
    data : Experiments, runs, or Rates
        For the guesses; rate constants have an activation energy if temperatures differ.
    orders : mapping of species to pair of float, optional
        The lowest and the highest order: {"A": (0, 2), "B": (0, 1)}.
    step : float
        Of the orders.
    adsorbing, dissociating : species, or several
        Those in the denominators, as K [i], or with dissociation as sqrt(K [i]).
    limiting : str, or several
        "surface", "adsorption", "desorption".
    equilibrium : constant, optional
        The equilibrium constant in concentrations: each law is then also tried as reversible, times 1 - Q/K.
    Ea : energy per amount
        The guess of the activation energy.
    name : str
        Of the reaction.

    Returns
    -------
    dict of name to Chemistry

    Raises
    ------
    InputError
        With all faults of the description.

    Examples
    --------
    >>> run = mo.Experiment("1", [60.0, 120.0, 240.0, 480.0], {"A": [820.0, 675.0, 448.0, 204.0]}, {"A": 1000.0})
    >>> laws = mo.candidate_laws("A -> B", run, orders={"A": (0, 2)}, adsorbing="A")
    >>> list(laws)
    ['k', 'k [A]^0.5', 'k [A]', 'k [A]^1.5', 'k [A]^2', 'k [A]/(1 + K_A [A])']
    """
    read = parse_equation(equation)
    adsorbing, dissociating, limiting = (
        (one,) if isinstance(one, str) else tuple(one) for one in (adsorbing, dissociating, limiting)
    )
    runs = data if isinstance(data, Rates) else as_experiments(data)
    _check(read, runs, orders or {}, step, (*adsorbing, *dissociating), limiting)
    forms = [*_power_laws(orders or {}, step), *_adsorption_laws(read, adsorbing, dissociating, limiting)]
    forms = list({form.structure: form for form in reversed(forms) if form.is_identifiable}.values())[::-1]
    if not forms:
        raise InputError("no law is described", "candidate laws", "give orders, or adsorbing species")
    count = len(forms) * (1 if equilibrium is None else 2)
    if count > _MOST:
        raise InputError(f"{count} laws", "candidate laws", f"describe at most {_MOST}: fewer orders, or a larger step")
    typical = _Typical(runs, read, Ea, name)
    found = {}
    for form in forms:
        found[form.name] = typical.chemistry(form)
        if equilibrium is not None:
            found[f"{form.name}, reversible"] = typical.chemistry(form, equilibrium)
    return found


Powers = tuple[tuple[str, float], ...]
"""Species with their orders."""


@dataclass(frozen=True)
class _Form:
    """A law k numerator/(1 + sum of (K factors)^exponent)^power, by the terms (name of K, factors, exponent)."""

    numerator: Powers
    terms: tuple[tuple[str, Powers, float], ...] = ()
    power: int = 1

    @property
    def order(self) -> float:
        """The overall order of the numerator."""
        return sum(order for _, order in self.numerator)

    @property
    def structure(self) -> tuple[object, ...]:
        """The same for laws that differ only in the names of constants."""
        return self.numerator, frozenset((factors, exponent) for _, factors, exponent in self.terms), self.power

    @property
    def is_identifiable(self) -> bool:
        """Whether no two terms have the same factors."""
        return len({(factors, exponent) for _, factors, exponent in self.terms}) == len(self.terms)

    def text(self, numerator: str | None = None) -> str:
        """The formula, by default with its own numerator."""
        found = numerator if numerator is not None else "*".join(["k", *_factors(self.numerator)])
        if not self.terms:
            return found
        terms = [_raised("*".join([name, *_factors(factors)]), exponent) for name, factors, exponent in self.terms]
        return f"{found}/({' + '.join(['1', *terms])})" + (f"^{self.power}" if self.power > 1 else "")

    @property
    def name(self) -> str:
        """The formula for reading."""
        return self.text().replace("*", " ")


def _factors(powers: Powers) -> list[str]:
    return [_raised(f"[{s}]", n) for s, n in powers if abs(n) > 1e-9]


def _constant(species: str) -> str:
    """The name of the adsorption constant of a species, K_A, in a formula."""
    return "K_" + re.sub(r"\W+", "_", species).strip("_")


def _raised(text: str, exponent: float) -> str:
    if abs(exponent - 1) < 1e-9:
        return text
    return f"({text})^{exponent:g}" if "*" in text else f"{text}^{exponent:g}"


def _check(
    equation: Equation,
    data: Experiments | Rates,
    orders: Mapping[str, tuple[float, float]],
    step: float,
    surface: Sequence[str],
    limiting: Sequence[str],
) -> None:
    faults, names = Faults(), list(equation.net)
    for name in sorted({*orders, *surface} - {*names}):
        faults.add("", f"'{name}' is not in {equation}", nearest(name, names))
    for name, (low, high) in orders.items():
        if not low <= high:
            faults.add(name, f"orders from {low:g} to {high:g}", "give the lowest first")
    if not step > 0:
        faults.add("step", f"a step of {step:g}", "give one above zero")
    for one in limiting:
        if one not in LIMITING:
            faults.add("limiting", f"unknown step '{one}'", nearest(one, LIMITING))
    for name in surface if isinstance(data, Rates) else ():
        if name in names and not data.highest_concentrations.get(name, 0.0) > 0:
            faults.add(name, "its concentration is zero in all data", "its adsorption has no effect: leave it out")
    faults.raise_any("candidate laws")


def _power_laws(orders: Mapping[str, tuple[float, float]], step: float) -> Iterator[_Form]:
    """Every combination of orders."""
    ranges = [np.arange(low, high + 1e-9, step) for low, high in orders.values()]
    for combination in itertools.product(*ranges) if orders else ():
        yield _Form(tuple((s, float(n)) for s, n in zip(orders, combination, strict=True) if abs(n) > 1e-9))


def _adsorption_laws(
    equation: Equation, adsorbing: Sequence[str], dissociating: Sequence[str], limiting: Sequence[str]
) -> Iterator[_Form]:
    """Every subset of adsorbing species, each limiting step."""
    surface = tuple(dict.fromkeys((*adsorbing, *dissociating)))
    reactants = tuple((s, -float(moles)) for s, moles in equation.net.items() if moles < 0)
    sites = {s: 2 if s in dissociating else 1 for s in surface}
    for count in range(1, len(surface) + 1):
        for subset in itertools.combinations(surface, count):
            terms = {s: (_constant(s), ((s, 1.0),), 1.0 / sites[s]) for s in subset}
            if "surface" in limiting:
                needed = sum(sites[s] * math.ceil(moles) for s, moles in reactants if s in subset)
                yield _Form(reactants, tuple(terms.values()), max(needed, 1))
            for s in subset:
                others = tuple(term for name, term in terms.items() if name != s)
                if s in dict(reactants) and "adsorption" in limiting:
                    yield _Form(((s, 1.0),), others, sites[s])
                if s not in dict(reactants) and "desorption" in limiting:
                    yield _Form(reactants, (*others, (_constant(s), reactants, 1.0)))


class _Typical:
    """Typical concentrations and rates of the data, for guesses."""

    def __init__(self, data: Experiments | Rates, equation: Equation, Ea: QuantityLike, name: str) -> None:
        self.equation, self.Ea, self.name, self.display = equation, Ea, name, data.display
        known = data.highest_concentrations
        largest = max(known.values(), default=1.0) or 1.0
        self.concentrations = {s: 0.5 * (known.get(s, 0.0) or largest) for s in equation.net}
        self.inert = [s for s in known if s not in equation.net]
        self.kind = data.kind if isinstance(data, Rates) else "rate"
        self.rate = float(np.median(np.abs(data.rate))) if isinstance(data, Rates) else self._rate_of_runs(data)
        temperatures = [T for T in data.temperatures if np.isfinite(T)]
        self.T = float(np.mean(temperatures)) if temperatures and np.ptp(temperatures) > _WIDE else None

    def _rate_of_runs(self, data: Experiments) -> float:
        """The median over runs and species of the largest change over the time it takes."""
        found = []
        for run in data:
            for species in (s for s in run.measured if s in self.equation.net):
                seen = np.isfinite(run.measured[species]) & (run.times > 0)
                if seen.any():
                    change = np.abs(run.charge.get(species, 0.0) - run.measured[species][seen])
                    best = int(np.argmax(change))
                    found.append(change[best] / run.times[seen][best] / abs(float(self.equation.net[species])))
        return float(np.median(found)) if found else 0.0

    def _product(self, powers: Powers) -> float:
        return float(np.prod([self.concentrations[s] ** n for s, n in powers]))

    def chemistry(self, form: _Form, equilibrium: object = None) -> Chemistry:
        """A law with its guesses: half of the largest concentrations, each K for equal shares of the sites."""
        constants: dict[str, Any] = {}
        for name, factors, _ in form.terms:
            order = sum(n for _, n in factors)
            constants[name] = self._unknown(1 / self._product(factors), self.display.concentration_power(-order))
        size = self._product(form.numerator) / (1.0 + len(form.terms)) ** form.power
        k = self._unknown((self.rate or 1.0) / size, self.display.rate_constant_unit(form.order))
        given: object = k if self.T is None else Arrhenius(k=k, at=Value(self.T, "K"), Ea=Unknown(self.Ea))
        law = form.text()
        if equilibrium is not None:
            law, constants["K_eq"] = form.text(f"k*({self._reversible(form.numerator)})"), equilibrium
        basis = next(basis for basis, kind in BASES.items() if kind == self.kind)
        reaction = Reaction(self.equation, rate=law, name=self.name, basis=basis, k=given, **constants)
        return Chemistry([reaction], species=[Species(s) for s in self.inert])

    def _unknown(self, value: float, unit: str) -> Unknown:
        """A guess, in SI, in a unit of the data."""
        return Unknown(Value(value, unit or None if self.kind == "rate" else None))

    def _reversible(self, numerator: Powers) -> str:
        """The numerator times 1 - Q/K_eq."""
        powers = dict(numerator)
        back = {s: powers.get(s, 0.0) + float(self.equation.net.get(s, 0)) for s in {**powers, **self.equation.net}}
        forward = "*".join(_factors(numerator)) or "1"
        return f"{forward} - {'*'.join(_factors(tuple(back.items()))) or '1'}/K_eq"
