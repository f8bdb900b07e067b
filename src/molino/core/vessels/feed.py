"""What goes into a vessel: a charge at the start, or a feed all the time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.chemistry.network import Chemistry
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.printing import Printed
from molino.core.units import Value


class Contents(Mapping[str, Value]):
    """What is in a charge or feed: each species with its concentration, or its amount or molar flow.

    Parameters
    ----------
    given : mapping of species to quantity
        A bare number is a concentration in mol/m^3.
    total : 'amount' or 'molar flow'
        What is allowed beside a concentration.
    place : str
        For messages.

    Raises
    ------
    InputError
        With everything that is wrong.
    """

    def __init__(self, given: Mapping[str, Any], total: str, place: str) -> None:
        faults = Faults()
        self._values: dict[str, Value] = {}
        self.kinds: dict[str, str] = {}
        if not isinstance(given, Mapping):
            raise InputError(f"{given!r} does not say how much of what", place, "write {'A': '0.35 mol/L', ...}")
        for species, number in given.items():
            with faults.at(f"{place}, {species}"):
                value = units.read(number)
                kind = "concentration"
                if (
                    value.unit is not None
                    and units.unit(value.unit).dimension == units.unit(units.SI_UNITS[total]).dimension
                ):
                    kind = total
                elif value.unit is not None and units.unit(value.unit).dimension != units.unit("mol/L").dimension:
                    said = f"'{number}' is neither a concentration nor {units.article(total)}"
                    raise UnitError(said, "", f"write it like '0.35 mol/L' or '{units.EXAMPLES[total]}'")
                self._values[species] = units.positive(value, kind, "", zero=True)
                self.kinds[species] = kind
        faults.raise_any()

    def __getitem__(self, species: str) -> Value:
        return self._values[species]

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)

    @property
    def totals(self) -> list[str]:
        """Species given by amount or molar flow."""
        return [s for s, kind in self.kinds.items() if kind != "concentration"]

    def concentrations(self, per: float) -> dict[str, float]:
        """In mol/m^3, for a volume or volumetric flow in SI."""
        return {s: v.si / (1.0 if self.kinds[s] == "concentration" else per) for s, v in self.items()}

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value with its kind, for choosing the units of results."""
        return [(self.kinds[s], v) for s, v in self.items() if v.si != 0]

    def __str__(self) -> str:
        return ", ".join(f"{species} {value}" for species, value in self.items())


def check_contents(given: Iterable[str], chemistry: Chemistry, place: str) -> None:
    """Raise InputError for species that the chemistry does not know, and for what the rate laws miss."""
    faults = Faults()
    names = set(given)
    for name in sorted(names - set(chemistry.names)):
        faults.add(place, f"'{name}' is not a species of the chemistry", nearest(name, chemistry.names))
    formed = {name for r in chemistry.reactions for name in r.equation.species}
    asking: dict[str, list[str]] = {}
    for reaction in chemistry.reactions:
        for name in sorted(reaction.asks - names - formed):
            asking.setdefault(name, []).append(str(reaction.name))
    for name, reactions in asking.items():
        said = f"there is no '{name}', which the rate law of {' and '.join(reactions)} asks for"
        faults.add(place, said, f"give it; write {name} = 0 if there is none")
    if not faults.found and not _can_start(chemistry, names):
        missing = {name for r in chemistry.reactions for name, _ in r.equation.left} - names
        faults.add(place, "no reaction can start from what is given", f"add {', '.join(sorted(missing))}")
    faults.raise_any()


def _can_start(chemistry: Chemistry, names: set[str]) -> bool:
    for reaction in chemistry.reactions:
        sides = [reaction.equation.left] + ([reaction.equation.right] if reaction.equation.reversible else [])
        if any(all(name in names for name, _ in side) for side in sides):
            return True
    return False


@dataclass(frozen=True)
class Feed(Printed):
    """A feed stream of constant density.

    Parameters
    ----------
    contents : mapping of species to concentration or molar flow
        Like {"xylose": "0.35 mol/L", "acid": "300 mol/h"}; a bare number is mol/m^3. Species left out are absent.
    flow : str, float or quantity
        Volumetric flow, "12 m3/h"; a bare number is m^3/s.
    T : temperature, optional
        Needed where a rate constant depends on temperature.

    Raises
    ------
    InputError
        With everything that is wrong.
    """

    contents: Any
    flow: Any
    T: Any = None

    def __post_init__(self) -> None:
        faults = Faults()
        with faults.at():
            object.__setattr__(self, "flow", units.positive(self.flow, "volumetric flow", "feed, flow"))
        with faults.at():
            object.__setattr__(self, "contents", Contents(self.contents, "molar flow", "feed"))
        with faults.at():
            if self.T is not None:
                object.__setattr__(self, "T", units.positive(self.T, "temperature", "feed, T"))
        faults.raise_any()

    @property
    def concentrations(self) -> dict[str, float]:
        """Concentration of each species in mol/m^3."""
        return self.contents.concentrations(self.flow.si)  # type: ignore[no-any-return]

    def per_volume(self) -> dict[str, Value]:
        """Concentration of each species, in the unit it came in where that was one."""
        return {s: v if self.contents.kinds[s] == "concentration" else Value(v.si / self.flow.si, "mol/m^3")
                for s, v in self.contents.items()}  # fmt: skip

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value with its kind, for choosing the units of results."""
        return [*self.contents.given(), ("volumetric flow", self.flow), ("temperature", self.T)]

    def __str__(self) -> str:
        return f"{self.flow} of {self.contents}" + (f" at {self.T}" if self.T is not None else "")


def require_feed(given: Any, label: str) -> None:
    """Raise InputError for anything but a Feed."""
    if not isinstance(given, Feed):
        raise InputError(f"{given!r} is not a feed", label, "write mo.Feed({'A': '0.35 mol/L'}, flow='12 m3/h')")


def inlet_symbol(species: str) -> sp.Symbol:
    """The parameter that holds a species' concentration in the feed or charge."""
    return sp.Symbol(f"in[{species}]", nonnegative=True)
