"""The metrics of vessels: conversion, yield, selectivity, quantities of the outlet, production.

A metric is an expression of inlet and outlet, used alike by runs, sizing, comparisons, sweeps, fits and their
uncertainty.
"""

from __future__ import annotations

import re
from functools import lru_cache

from molino.core.arguments import checked
from molino.core.contract.metric import FLOWING, OF_A_SPECIES, OF_THE_WHOLE, PER, Metric
from molino.core.errors import InputError, nearest


@checked
def conversion(species: str) -> Metric:
    """Conversion of a reactant: (inlet - outlet) / inlet.

    Parameters
    ----------
    species : str
        A reactant that is fed or charged.

    Returns
    -------
    Metric

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> round(tube.run().metric(mo.results.conversion("A")), 4)
    0.6321
    """
    return Metric("conversion", species)


@checked
def yield_of(product: str, on: str) -> Metric:
    """Yield of a product on a reactant: product formed / (reactant fed x largest amount of product per mole of it).

    The largest amount per mole follows from the reaction equations: a yield of 1 means that all reactant became this
    product.

    Parameters
    ----------
    product, on : str
        The product and the reactant.

    Returns
    -------
    Metric

    Examples
    --------
    >>> str(mo.results.yield_of("B", on="A"))
    'yield of B on A'
    """
    return Metric("yield", product, on=on)


@checked
def selectivity(wanted: str, over: str | None = None, on: str | None = None) -> Metric:
    """Selectivity, in either of its two definitions.

    `selectivity("B", over="C")`: B formed over C formed, each divided by the largest amount per mole of their common
    reactant (`on` names it where there are several). `selectivity("B", on="A")`: B formed over the largest amount that
    the converted A could have given.

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
    >>> str(mo.results.selectivity("B", over="C"))
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
    >>> str(mo.results.temperature())
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
    >>> str(mo.results.pressure())
    'pressure'
    """
    return Metric("pressure", "")


def duty() -> Metric:
    """Heat flow into a flow vessel through its walls; negative for cooling.

    The metric of a batch is "heat", an energy since the start.

    Returns
    -------
    Metric

    Examples
    --------
    >>> str(mo.results.duty())
    'duty'
    """
    return Metric("duty", "")


def heat_flow() -> Metric:
    """Heat flow through the walls into the vessel at this moment, as a calorimeter measures it.

    Returns
    -------
    Metric

    Examples
    --------
    >>> str(mo.results.heat_flow()), mo.results.heat_flow().kind
    ('heat flow', 'power')
    """
    return Metric("heat flow", "")


@checked
def fraction(species: str, stream: str | None = None) -> Metric:
    """Mole fraction of a species in the outlet (or the contents of a batch), or in another stream, like the permeate.

    Parameters
    ----------
    species : str
    stream : str, optional
        Its name; by default the first stream.

    Returns
    -------
    Metric

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> 2 B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> round(tube.run().metric(mo.results.fraction("B")), 4)
    0.7746
    """
    return Metric("fraction", species, stream=stream)


@checked
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
    >>> str(mo.results.concentration("A"))
    'concentration of A'
    """
    return Metric("concentration", species)


_SPECIES_TEXT = re.compile(
    rf"\s*({'|'.join(sorted(OF_A_SPECIES, key=len, reverse=True))})\s+of\s+(\S+?)(?:\s+over\s+(\S+))?"
    rf"(?:\s+per\s+({'|'.join(PER)}))?(?:\s+in\s+(.+?))?(?:\s+on\s+(\S+))?\s*"
)
_WHOLE_TEXT = re.compile(rf"\s*({'|'.join(sorted(OF_THE_WHOLE, key=len, reverse=True))})(?:\s+in\s+(.+?))?\s*")
_IN_STREAM = {"fraction", "mass fraction", *FLOWING}
_ALLOWED = {"yield": ("on",), "selectivity": ("over", "on"), "production": ("per",)}
"""The further names of each metric; a yield needs its reactant, a selectivity one of the two."""
_SYNONYMS = {"outlet temperature": "temperature", "outlet pressure": "pressure"}
_FORMS = {
    "yield": "yield of B on A",
    "selectivity": "selectivity of B over C",
    "production": "production of B per volume",
}
"""Metrics with more names than a species, each as it is written."""
_EXAMPLES = (
    "'conversion of A', 'yield of B on A', 'selectivity of B over C', 'production of B per volume', 'mass flow of B', "
    "'temperature'"
)


def _advice(text: str) -> str:
    """The nearest known text, or examples."""
    word, of, rest = text.strip().partition(" of ")
    known = word if word in OF_A_SPECIES else ""
    if known and (not of or known in _FORMS):
        return f"write it like '{_FORMS.get(known, f'{known} of A')}'"
    close = nearest(word, [*OF_THE_WHOLE, *OF_A_SPECIES])
    if not close.startswith("did"):
        return f"write it like {_EXAMPLES}"
    meant = close.removeprefix("did you mean '").removesuffix("'?")
    return f"did you mean '{meant}{of}{rest}'?" if of and meant not in _FORMS else f"{close} write it like {_EXAMPLES}"


def parse_metric(text: str) -> Metric:
    """Read a metric as it prints: 'conversion of A', 'yield of B on A', 'selectivity of B over C', 'heat flow'."""
    if not isinstance(text, str):
        raise InputError(f"{text!r} is not a metric", "", _advice(""))
    whole = _WHOLE_TEXT.fullmatch(_SYNONYMS.get(text.strip(), text))
    match = _SPECIES_TEXT.fullmatch(text)
    if whole and (whole[2] is None or whole[1] in _IN_STREAM):
        return Metric(whole[1], "", stream=whole[2])
    if not match:
        raise InputError(f"'{text}' is not a metric", "", _advice(text))
    what, species, over, per, stream, on = match.groups()
    named = {name for name, given in (("over", over), ("per", per), ("in", stream), ("on", on)) if given}
    allowed = {*_ALLOWED.get(what, ()), *(("in",) if what in _IN_STREAM else ())}
    if not named <= allowed or (what in ("yield", "selectivity") and not named):
        raise InputError(f"'{text}' is incomplete, or has too many names", "", _advice(text))
    return Metric(what, species, over, on, stream, per)


@lru_cache(maxsize=4096)
def read_metric(given: Metric | str) -> Metric:
    """A metric, given as `Metric` or by its text."""
    return parse_metric(given) if isinstance(given, str) else given
