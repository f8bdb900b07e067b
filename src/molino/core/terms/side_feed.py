"""A feed distributed along a tube."""

from __future__ import annotations

from dataclasses import dataclass

import sympy as sp

from molino.core.balances.system import POSITION
from molino.core.contents.feed import Feed
from molino.core.contents.mixture_equations import Mixture
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.terms.terms import Contribution, Inflow, Place

SPREAD = "side"
"""The name of a feed along a tube in its parameters."""


@dataclass(frozen=True, eq=False)
class DistributedFeed(Frozen, Printed):
    """A feed that is distributed evenly along the whole length of a tube.

    dF_i/dV = sum_j nu_ij r_j + F_i,side/V (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 6).

    Parameters
    ----------
    feed : Feed
        The total side feed, at its own temperature.

    Raises
    ------
    InputError
        If it is not a feed.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> side = mo.DistributedFeed(mo.Feed({"B": "1 mol/L"}, flow="1 L/min"))
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L", side=side)
    >>> round(tube.run().stream_out().volume * 6e4, 6)
    2.0
    """

    feed: Feed

    def __post_init__(self) -> None:
        if not isinstance(self.feed, Feed):
            raise InputError(f"{self.feed!r} is not a feed", "side", "write mo.DistributedFeed(mo.Feed(...))")

    def check(self, species: tuple[str, ...], is_gas: bool, needs_T: bool) -> None:
        """Raise InputError if it does not fit the tube."""
        faults = Faults()
        for name in sorted({*self.feed.contents} - {*species}):
            advice = nearest(name, species, "declare it: Chemistry(..., species=[...])")
            faults.add("side", f"the chemistry has no species {name}", advice)
        if self.feed.is_gas != is_gas:
            faults.add("side", "one feed is a gas and the other a liquid", "give both alike")
        if needs_T and self.feed.T is None:
            faults.add("side", "the feed has no temperature, which the energy balance needs", "give T")
        faults.raise_any()

    def numbers(self, fed: Mixture, volume: Number, T: Number, names: tuple[str, ...]) -> dict[sp.Symbol, Number]:
        """The parameters it sets, in SI."""
        own = Inflow(SPREAD)
        found: dict[sp.Symbol, Number] = {own.inside(s): fed.concentrations.get(s, 0.0) for s in names}
        return found | {own.flow: fed.volume / volume, own.T: self.feed.T.si if self.feed.T is not None else T}

    def __str__(self) -> str:
        return f"side feed along the tube of {self.feed}"


@dataclass(frozen=True)
class SideFeedTerm:
    """The term of a feed along a tube."""

    brings_volume: bool = True

    def __call__(self, place: Place) -> Contribution:
        inflow = Inflow(SPREAD)
        found = inflow(place)
        so_far = tuple(POSITION * inflow.flow * inflow.inside(s) for s in place.species)
        return Contribution(
            "side feed",
            found.species,
            found.heating,
            found.volume,
            found.crossings,
            parameters=found.parameters,
            entered=so_far,
        )
