"""What a vessel is evaluated by: conversion, yield, selectivity, outlet concentration.

A metric writes itself as an expression of what went in and what comes out, so that the same words serve a run, a
sizing, a comparison and their uncertainty.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import sympy as sp

from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.formula import concentration as concentration_symbol
from molino.core.chemistry.symbolic_network import SymbolicNetwork
from molino.core.errors import InputError, nearest
from molino.core.vessels.model import Model
from molino.core.vessels.roles import VOLUME

_OF_THE_WHOLE = {
    "temperature": "temperature", "pressure": "pressure", "duty": "power", "heat flow": "power",
    "volume": "volume", "outlet flow": "volumetric flow", "coolant temperature": "temperature",
    "coolant outlet temperature": "temperature",
}  # fmt: skip
"""What belongs to no species, with its kind of quantity."""


@dataclass(frozen=True)
class Metric:
    """One number to judge a vessel by, or that can be observed of it; made by `conversion`, `yield_of` and so on.

    `what` is "conversion", "yield", "selectivity", "concentration" or "fraction" (mole fraction) of a species, or, of
    the whole, "temperature", "pressure", "duty", "heat flow" (through the walls at this moment, in), "volume" (of the
    contents), "outlet flow" (volumetric), "coolant temperature" or "coolant outlet temperature". `stream` names another
    stream than the first ("permeate").

    Parameters
    ----------
    what : str
    species : str
        Empty of the whole.
    over, on : str, optional
        The by-product of a selectivity, and the reactant counted by.
    stream : str, optional
        Of a fraction: the stream, if not the first.

    Examples
    --------
    >>> import molino as mo
    >>> metric = mo.yield_of("B", on="A")
    >>> str(metric), metric.kind
    ('yield of B on A', 'number')
    """

    what: str
    species: str
    over: str | None = None
    on: str | None = None
    stream: str | None = None

    @property
    def reactants(self) -> tuple[str, ...]:
        """The species that it counts by, some of which must go in."""
        if self.what == "conversion":
            return (self.species,)
        return (self.on,) if self.on is not None else ()

    @property
    def kind(self) -> str:
        """The kind of quantity, for units."""
        return _OF_THE_WHOLE.get(self.what, "concentration" if self.what == "concentration" else "number")

    def __str__(self) -> str:
        if self.what in _OF_THE_WHOLE:
            return self.what
        text = f"{self.what} of {self.species}"
        text += f" over {self.over}" if self.over else ""
        text += f" in {self.stream}" if self.stream else ""
        return text + (f" on {self.on}" if self.on else "")

    def expression(self, network: SymbolicNetwork, model: Model) -> sp.Expr:
        """Over the states and parameters of a vessel.

        Raises
        ------
        InputError
            If a species is not in the chemistry, or stoichiometry does not make the product from the reactant.
        """
        if self.what in _OF_THE_WHOLE:
            return self._of_the_whole(model)
        for name in (self.species, self.over, self.on):
            if name is not None and name not in network.species:
                advice = nearest(name, network.species)
                raise InputError(f"'{name}' is not a species of the chemistry", str(self), advice)
        inlet, outlet = model.inlet, model.outlet
        if self.what == "concentration":
            return concentration_symbol(self.species)
        if self.what == "fraction":
            amounts = self._stream_amounts(model)
            return amounts[self.species] / sp.Add(*amounts.values())
        if self.what == "conversion":
            return (inlet[self.species] - outlet[self.species]) / inlet[self.species]
        formed = outlet[self.species] - inlet[self.species]
        if self.what == "yield":
            assert self.on is not None
            return formed / (_most(network, self.species, self.on) * inlet[self.on])
        if self.over is None:
            assert self.on is not None
            return formed / (_most(network, self.species, self.on) * (inlet[self.on] - outlet[self.on]))
        source = self.on or _source(network, self.species, self.over)
        ratio = _most(network, self.over, source) / _most(network, self.species, source)
        return ratio * formed / (outlet[self.over] - inlet[self.over])

    def _of_the_whole(self, model: Model) -> sp.Expr:
        """What belongs to no species."""
        symbol = {"temperature": TEMPERATURE, "pressure": PRESSURE}.get(self.what)
        if symbol is not None:
            if symbol in model.balances.known:
                return symbol
            raise InputError(f"no {self.what} is known", str(self), f"give the {self.what}")
        if self.what in model.readings:
            return model.readings[self.what].expression
        if self.what == "volume" and VOLUME in model.balances.known:
            return VOLUME
        if (
            self.what == "outlet flow"
            and model.streams
            and model.streams[0].flowing
            and model.streams[0].volume is not None
        ):
            return model.streams[0].volume
        if self.what in ("duty", "heat flow"):
            if self.what == "duty" and model.duty is not None:
                return model.duty
            advice = "give heat capacities and enthalpies of formation, or an enthalpy to each reaction"
            raise InputError(f"the {self.what} is not known", str(self), advice)
        raise InputError(f"this vessel has no {self.what}", str(self), f"it shows {', '.join(model.readings)}")

    def _stream_amounts(self, model: Model) -> Mapping[str, sp.Expr]:
        """The amounts, or molar flows, of the stream that it looks at."""
        names = [form.name for form in model.streams]
        if self.stream is None:
            return model.streams[0].amounts if model.streams else model.outlet
        if self.stream not in names:
            raise InputError(f"there is no stream '{self.stream}'", str(self), nearest(self.stream, names))
        return model.streams[names.index(self.stream)].amounts


def conversion(species: str) -> Metric:
    """Conversion of a reactant: (fed - left) / fed.

    Parameters
    ----------
    species : str
        A reactant that is fed or charged.

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> round(tube.run().metric(mo.conversion("A")), 4)
    0.6321
    """
    return Metric("conversion", species)


def yield_of(product: str, on: str) -> Metric:
    """Yield of a product on a reactant: product formed / (reactant fed x most product that one mole of it can give).

    The most that one mole can give is what the reaction equations allow, so that a yield of 1 is all of the reactant
    turned into this product.

    Parameters
    ----------
    product, on : str
        Of what, and on which reactant.

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.yield_of("B", on="A"))
    'yield of B on A'
    """
    return Metric("yield", product, on=on)


def selectivity(wanted: str, over: str | None = None, on: str | None = None) -> Metric:
    """Selectivity, in either of its two definitions.

    `selectivity("B", over="C")`: B formed over C formed, each divided by the most of it that one mole of their common
    reactant can give (`on` names that reactant where there are several). `selectivity("B", on="A")`: B formed over
    the most that the converted A could have given.

    Parameters
    ----------
    wanted : str
    over : str, optional
        The by-product.
    on : str, optional
        The reactant.

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.selectivity("B", over="C"))
    'selectivity of B over C'
    """
    if over is None and on is None:
        raise InputError(f"selectivity of {wanted}: over what?", "metric", "give over='by-product' or on='reactant'")
    return Metric("selectivity", wanted, over=over, on=on)


def temperature() -> Metric:
    """Temperature at the outlet (or at the end of a batch).

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.temperature())
    'temperature'
    """
    return Metric("temperature", "")


def pressure() -> Metric:
    """Pressure at the outlet (or at the end of a batch).

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.pressure())
    'pressure'
    """
    return Metric("pressure", "")


def duty() -> Metric:
    """Heat that comes in through the walls; negative where it is taken away.

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.duty())
    'duty'
    """
    return Metric("duty", "")


def heat_flow() -> Metric:
    """Heat that comes in through the walls at this moment, as a calorimeter measures it; negative where it leaves.

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.heat_flow()), mo.heat_flow().kind
    ('heat flow', 'power')
    """
    return Metric("heat flow", "")


def fraction(species: str, stream: str | None = None) -> Metric:
    """Mole fraction of a species in what comes out (or is in a batch), or in another stream, like the permeate.

    Parameters
    ----------
    species : str
    stream : str, optional
        Its name, if not the first.

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> 2 B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> round(tube.run().metric(mo.fraction("B")), 4)
    0.7746
    """
    return Metric("fraction", species, stream=stream)


def concentration(species: str) -> Metric:
    """Concentration of a species at the outlet (or at the end of a batch).

    Parameters
    ----------
    species : str

    Returns
    -------
    Metric

    Examples
    --------
    >>> import molino as mo
    >>> str(mo.concentration("A"))
    'concentration of A'
    """
    return Metric("concentration", species)


_TEXT = re.compile(
    r"\s*(conversion|yield|selectivity|concentration|fraction)\s+of\s+(\S+?)(?:\s+over\s+(\S+))?(?:\s+in\s+(.+?))?"
    r"(?:\s+on\s+(\S+))?\s*"
)
_ALLOWED = {"conversion": (), "concentration": (), "fraction": ("in",), "yield": ("on",), "selectivity": ("over", "on")}
"""What each may name besides its species; a yield must, and a selectivity one of the two."""


def parse_metric(text: str) -> Metric:
    """Read a metric as it prints: 'conversion of A', 'yield of B on A', 'selectivity of B over C', 'heat flow'."""
    if text.strip() in _OF_THE_WHOLE:
        return Metric(text.strip(), "")
    match = _TEXT.fullmatch(text)
    advice = (
        "write 'conversion of A', 'yield of B on A', 'selectivity of B over C' (or 'on A'), 'concentration of A', "
        f"'fraction of A' (or 'in permeate'), or {', '.join(repr(name) for name in _OF_THE_WHOLE)}"
    )
    if not match:
        raise InputError(f"'{text}' is not a metric", "", advice)
    what, species, over, stream, on = match.groups()
    named = {name for name, given in (("over", over), ("in", stream), ("on", on)) if given}
    if not named <= {*_ALLOWED[what]} or (what in ("yield", "selectivity") and not named):
        raise InputError(f"'{text}' is not complete or has too much", "", advice)
    return Metric(what, species, over, on, stream)


@lru_cache(maxsize=4096)
def _most(network: SymbolicNetwork, product: str, reactant: str) -> float:
    """Moles of product that one mole of reactant gives at most, by the reaction equations.

    The largest amount formed over extents >= 0 of all reactions, with one mole of the reactant to spend, nothing else
    that some reaction forms (an intermediate must be made before it is used), and any amount of the other reactants
    that none forms: a linear profile, solved by `scipy.optimize.linprog`.
    """
    from scipy.optimize import linprog

    index = network.species.index
    coefficients = network.matrix
    limits, right = [], []
    for i, species in enumerate(network.species):
        if species == reactant or coefficients[i].max(initial=0.0) > 0:
            limits.append(-coefficients[i])
            right.append(1.0 if species == reactant else 0.0)
    found = linprog(-coefficients[index(product)], np.array(limits), np.array(right), method="highs")
    if found.status != 0 or -found.fun < 1e-9 or product == reactant:
        message = f"the reactions as written do not form {product} from {reactant}"
        raise InputError(message, "metric", "name a product and a reactant that leads to it")
    return float(round(-found.fun, 12))


def _source(network: SymbolicNetwork, first: str, second: str) -> str:
    """The reactant from which both products come: the first that no reaction forms, else the first that serves."""
    coefficients = network.matrix
    order = sorted(network.species, key=lambda s: coefficients[network.species.index(s)].max(initial=0.0) > 0)
    for species in order:
        try:
            if species not in (first, second):
                _most(network, first, species)
                _most(network, second, species)
                return species
        except InputError:
            continue
    raise InputError(f"{first} and {second} come from no common reactant", "metric", "name the reactant with on=")
