"""The catalyst in a vessel, for rates that are per its mass, bulk volume or area."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.chemistry.structure import Structure
from molino.core.errors import Faults, InputError
from molino.core.printing import Printed

_FACTORS = {
    "catalyst mass": sp.Symbol("bulk_density", positive=True),
    "catalyst volume": sp.Symbol("fraction", positive=True),
    "area": sp.Symbol("area", positive=True),
    "volume": sp.Symbol("voidage", positive=True),
}
"""For each basis of a rate what it is multiplied by to be per volume of vessel; named as the fields of `Catalyst`."""


@dataclass(frozen=True)
class Catalyst(Printed):
    """What a vessel holds of catalyst, per volume of vessel (of liquid, in a batch or tank).

    A rate per catalyst mass times `bulk_density`, per bulk volume of catalyst times `fraction`, per catalytic area
    times `area` is a rate per volume of vessel; one per fluid volume is multiplied by `voidage`
    (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 18).

    Parameters
    ----------
    bulk_density : optional
        Mass of catalyst per volume of vessel, "850 kg/m3"; in a slurry its loading, "20 g/L".
    area : optional
        Catalytic area per volume of vessel, "300 m2/m3".
    fraction : float
        Bulk volume of catalyst per volume of vessel; 1 where the bed fills it.
    voidage : float
        Fluid volume per volume of vessel, for rates per fluid volume beside the others.

    Raises
    ------
    InputError
        With everything that is wrong.
    """

    bulk_density: Any = None
    area: Any = None
    fraction: Any = 1.0
    voidage: Any = 1.0

    def __post_init__(self) -> None:
        faults = Faults()
        kinds = {"bulk_density": "density", "area": "specific area", "fraction": "number", "voidage": "number"}
        for name, kind in kinds.items():
            if getattr(self, name) is not None:
                with faults.at("catalyst"):
                    read = units.positive(getattr(self, name), kind, name)
                    if kind == "number" and read.si > 1.0:
                        raise InputError(f"{read} is more than the whole", name, "give a fraction between 0 and 1")
                    object.__setattr__(self, name, read)
        faults.raise_any()

    def numbers(self) -> dict[sp.Symbol, float]:
        """The parameters it sets, in SI."""
        return {s: given.si for s in _FACTORS.values() if (given := getattr(self, s.name)) is not None}

    def __str__(self) -> str:
        shown = {f.name: getattr(self, f.name) for f in fields(self)}
        return "catalyst of " + ", ".join(
            f"{name.replace('_', ' ')} {value}" for name, value in shown.items() if value is not None
        )


def per_vessel_volume(structure: Structure) -> list[sp.Expr]:
    """What the rate of each reaction is multiplied by; 1 throughout in a vessel without catalyst."""
    if set(structure.bases) == {"volume"}:
        return [sp.Integer(1)] * len(structure.bases)
    return [_FACTORS[basis] for basis in structure.bases]


def catalyst_symbols(structure: Structure) -> Sequence[sp.Symbol]:
    """The parameters that a vessel has for its catalyst."""
    return [f for f in dict.fromkeys(per_vessel_volume(structure)) if f.is_Symbol]


def check_catalyst(structure: Structure, catalyst: Any) -> None:
    """Raise InputError where a rate needs something of the catalyst that is not given."""
    if not isinstance(catalyst, Catalyst | None):
        raise InputError(f"{catalyst!r} is not a catalyst", "", "write mo.Catalyst(bulk_density='850 kg/m3')")
    if catalyst is None and set(structure.bases) == {"volume"}:
        return
    numbers = (catalyst or Catalyst()).numbers()
    faults = Faults()
    for symbol in catalyst_symbols(structure):
        asking = [n for n, b in zip(structure.reactions, structure.bases, strict=True) if _FACTORS[b] == symbol]
        basis = next(b for b, s in _FACTORS.items() if s == symbol)
        if symbol not in numbers or (catalyst is None and basis == "catalyst volume"):
            said = f"the rate of {', '.join(asking)} is per {basis}, and the vessel's catalyst has no {symbol.name}"
            example = {"area": "'300 m2/m3'", "catalyst volume": "1"}.get(basis, "'850 kg/m3'")
            faults.add("", said, f"give catalyst=mo.Catalyst({symbol.name}={example})")
    faults.raise_any()
