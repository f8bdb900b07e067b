"""Mixtures specified by any consistent set of concentrations, flows, fractions, ratios and partial pressures.

Everything that is specified of a mixture is linear in the amounts (or molar flows) of its species and in its volume (or
volumetric flow): a concentration means n_i - c V = 0, a mole fraction n_i - x sum(n) = 0, a partial pressure n_i R T -
p V = 0, a total sum(n) = N. The statements are solved together; missing inputs are the null space of their matrix,
contradictions its residual.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.chemistry.species import Species
from molino.core.contents.mixture_equations import Mixture, Statements
from molino.core.contents.portion import REST, Portion, read_portion
from molino.core.dual import Number
from molino.core.errors import Faults, InputError
from molino.core.frozen import content
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS
from molino.core.units import Value


def resolve(
    portions: Mapping[str, Portion],
    totals: Iterable[Value],
    species: Mapping[str, Species] | None,
    flowing: bool,
    T: Value | None = None,
    P: Value | None = None,
    density: Value | None = None,
    additive: bool = False,
) -> Mixture:
    """Compute a mixture from its specifications.

    Parameters
    ----------
    portions : mapping of species to Portion
    totals : volume, amount and mass (or the flows of them) that are given
    species : mapping of name to Species, or None
        For molar masses, and for molar volumes of liquids where the volume follows from them. Without it specifications
        that need them are skipped.
    flowing : bool
        Whether flows are meant, or amounts.
    T, P : Value, optional
        With P it is an ideal gas: P V = sum(n) R T.
    density : Value, optional
        Of the whole mixture.
    additive : bool
        Whether the volumes of the pure liquids must add up to that of the mixture.

    Raises
    ------
    InputError
        With the known and the missing inputs, or those that contradict each other.
    """
    totals = list(totals)
    outright = P is None and all(p.kind == "concentration" for p in portions.values())
    by_volume = len(totals) == 1 and "[length]" in units.unit(totals[0].unit or "m^3").dimension
    if outright and not additive and (by_volume or not (totals or flowing)):
        volume = totals[0].si if totals else 1.0  # 1 m^3 as a basis
        return Mixture({s: p.value.si for s, p in portions.items() if p.value is not None}, volume)
    statements = _gathered(portions, totals, species, flowing, T, P, density)
    statements.faults.raise_any()
    if species is not None and additive:
        for name in portions:
            with statements.faults.at():
                species[name].require("molar_volume", "an additive liquid")
        statements.faults.raise_any()
    if species is not None and (additive or "" in statements.free()):
        known = {s: one for s in portions if (one := species.get(s)) is not None and one.has_molar_volume}
        if len(known) == len(portions):
            volumes = {s: _molar_volume(one, T) for s, one in known.items()}
            statements.add("volumes of the pure liquids", {**{s: -v for s, v in volumes.items()}, "": 1.0})
    return statements.solve()


def _gathered(
    portions: Mapping[str, Portion],
    totals: Sequence[Value],
    species: Mapping[str, Species] | None,
    flowing: bool,
    T: Value | None,
    P: Value | None,
    density: Value | None,
) -> Statements:
    """All specifications of the mixture itself."""
    statements = Statements(portions, species, flowing)
    for total in totals:
        statements.add_total(total)
    statements.add_portions(T.si if T is not None else None)
    if density is not None:
        molar = density.unit and units.unit(density.unit).dimension == units.unit("mol/m^3").dimension
        each = dict.fromkeys(portions, 1.0) if molar else statements.masses()
        statements.add(f"density {density}", {**each, "": -density.si})
    if P is not None:
        if T is None:
            statements.faults.add("", "a pressure is given, and no temperature", "give T of the gas")
        else:
            moles = dict.fromkeys(portions, GAS_CONSTANT * T.si)
            statements.add(f"pressure {P} at {T}", {**moles, "": -P.si})
    if not flowing and not totals and not any(p.extensive for p in portions.values()):
        statements.add("1 m³ as a basis", {"": 1.0}, 1.0)
    return statements


def _molar_volume(species: Species, T: Value | None) -> Number:
    asker = "the volume of the mixture"
    own = float(species.require("molar_volume", asker).si)
    if species.rackett_factor is None:
        return own
    if T is None:
        raise InputError(
            f"the volume of {species.name} changes with temperature, and no temperature is given", "", "give T"
        )
    return own * species.expansion(T.si)


class Contents(Mapping[str, Portion]):
    """The contents of a charge or feed: each species with its portion as given.

    Parameters
    ----------
    given : mapping of species to quantity
        "0.35 mol/L", "20 g/L", "4 kmol/h" (or "2 kmol" in a charge), "300 kg/h", "30 mol%", "0.3 mol/mol", "12 wt%",
        "6 per xylose", "2 kg per kg water", "1.2 bar" or "rest"; a bare number is a concentration in mol/m^3.
    flowing : bool
        Whether flows are meant, or amounts.
    place : str
        For messages.
    pressure : Value, optional
        The pressure of a gas that is given as concentrations.

    Raises
    ------
    InputError
        With all faults.
    """

    def __init__(self, given: ByName, flowing: bool, place: str, pressure: Value | None = None) -> None:
        faults = Faults()
        self._portions: dict[str, Portion] = {}
        self.flowing, self.place, self.pressure = flowing, place, pressure
        if not isinstance(given, Mapping):
            raise InputError(f"{given!r} does not specify a composition", place, "write {'A': '0.35 mol/L', ...}")
        for species, number in given.items():
            with faults.at(f"{place}, {species}"):
                self._portions[species] = read_portion(number, flowing)
        rests = [s for s, p in self._portions.items() if p.kind == REST]
        if len(rests) > 1:
            faults.add(place, f"{' and '.join(rests)} are both the rest", "only one species can be")
        faults.raise_any()

    def __getitem__(self, species: str) -> Portion:
        return self._portions[species]

    def __iter__(self) -> Iterator[str]:
        return iter(self._portions)

    def __len__(self) -> int:
        return len(self._portions)

    @property
    def is_gas(self) -> bool:
        """Whether partial pressures are given, or a gas as concentrations."""
        return self.pressure is not None or any(p.kind == "partial pressure" for p in self.values())

    def with_numbers(self, numbers: Mapping[str, Number]) -> Contents:
        """The same with other numbers of some portions: columns, or numbers with derivatives."""
        if not numbers:
            return self
        found = Contents(self, self.flowing, self.place, self.pressure)
        for species, number in numbers.items():
            portion = self._portions[species]
            assert portion.value is not None
            found._portions[species] = replace(portion, value=Value(number, portion.value.unit))
        return found

    def __hash__(self) -> int:
        return hash((content(self._portions), self.flowing, self.pressure))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Contents) and hash(self) == hash(other) and self._portions == other._portions

    def with_portion(self, species: str, given: object) -> Contents:
        """The same with another quantity of one species."""
        return Contents({**self, species: given}, self.flowing, self.place, self.pressure)

    @property
    def extensive(self) -> list[str]:
        """Species given by amount, mass, or the flow of it."""
        return [s for s, p in self.items() if p.extensive]

    def mixture(
        self,
        totals: Iterable[Value | None],
        species: Mapping[str, Species] | None,
        T: Value | None = None,
        P: Value | None = None,
        density: Value | None = None,
        additive: bool = False,
    ) -> Mixture:
        """Compute the mixture; see `resolve`."""
        try:
            return resolve(self, [t for t in totals if t is not None], species, self.flowing, T, P, density, additive)
        except InputError as error:
            raise InputError(fault.within(self.place) for fault in error.faults) from error

    def waits_for_species(self, totals: Sequence[Value], T: Value | None, P: Value | None) -> bool:
        """Whether molar masses are needed, or the volumes of the pure liquids, if only the volume is unknown."""
        if any(p.by_mass for p in self.values()):
            return True
        if any("[mass]" in units.unit(t.unit).dimension for t in totals if t.unit is not None):
            return True
        if all(p.kind == "concentration" for p in self.values()):
            return False
        statements = _gathered(self, totals, None, self.flowing, T, P, None)
        return P is None and not statements.faults.found and statements.free() == [""]

    def settled(self, mixture: Mixture) -> PlainData:
        """Each species as a concentration: the given one, or computed."""
        return {
            s: p.value if p.kind == "concentration" else Value(mixture.concentrations[s], "mol/m^3")
            for s, p in self.items()
        }

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value with its kind, for choosing the units of results."""
        kinds = {"partial pressure": "pressure", "mass concentration": "density"}
        named = [(kinds.get(p.kind, p.kind), p.value) for p in self.values()] + [("pressure", self.pressure)]
        return [(kind, value) for kind, value in named if kind in SI_UNITS and value and value.si]

    def __str__(self) -> str:
        return ", ".join(f"{species} {portion}" for species, portion in self.items())
