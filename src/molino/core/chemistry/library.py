"""A library of reactions, searched by species and elements."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from molino.core.annotations import PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.composition import ATOMIC_MASSES, composition
from molino.core.chemistry.constants import Constant, Unknown
from molino.core.chemistry.formula import names_in
from molino.core.chemistry.reaction import Reaction
from molino.core.chemistry.species import Species
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import Frozen
from molino.core.printing import Printed


@dataclass(frozen=True, eq=False)
class Library(Frozen, Printed, Mapping[str, Reaction]):
    """Reactions by name, with their species and shared constants; `search` selects from it, `chemistry` makes a
    chemistry.

    Unlike in a `Chemistry` constants may be missing: `needs` lists the missing inputs of each reaction.

    Parameters
    ----------
    reactions : sequence of Reaction, each with a name
    species : sequence of Species
    constants : mapping
        Constants that several rate laws share.

    Examples
    --------
    >>> from importlib.resources import files
    >>> library = mo.files.read_library(files("molino.demo") / "cob-reactions.toml")
    >>> len(library) > 3
    True
    """

    reactions: tuple[Reaction, ...]
    species: tuple[Species, ...] = ()
    constants: Mapping[str, Constant] = field(default_factory=dict)

    def __getitem__(self, name: str) -> Reaction:
        return next(r for r in self.reactions if r.name == name)

    def __iter__(self) -> Iterator[str]:
        return (str(r.name) for r in self.reactions)

    def __len__(self) -> int:
        return len(self.reactions)

    def search(self, species: Iterable[str] | None = None, elements: Iterable[str] | None = None) -> Library:
        """The reactions among chosen species, or of chosen elements (both, if both are given).

        A reaction is among the species if all species of its equation are; a catalyst may be missing, and is then one
        of its needs.

        Raises
        ------
        InputError
            For an unknown species or element.
        """
        faults = Faults()
        there = {name for r in self.reactions for name in (*r.equation.species, *r.asks)} | {
            s.name for s in self.species
        }
        chosen = set(species) if species is not None else there
        for name in sorted(chosen - there):
            faults.add("search", f"no reaction of the library has a species '{name}'", nearest(name, there))
        wanted = set(elements) if elements is not None else set(ATOMIC_MASSES)
        for name in sorted(wanted - set(ATOMIC_MASSES)):
            faults.add("search", f"'{name}' is not an element", "check capitals: Co or CO")
        faults.raise_any()
        formulas = {s.name: s.formula for s in self.species if s.formula}

        def holds(name: str) -> bool:
            return elements is None or (name in formulas and composition(formulas[name]).atoms.keys() <= wanted)

        found = [r for r in self.reactions if all(s in chosen and holds(s) for s in r.equation.species)]
        return replace(self, reactions=tuple(found))

    def needs(self, name: str, given: Iterable[str] | None = None) -> list[str]:
        """The missing inputs of a reaction: constants, catalysts, and properties of its species.

        `given` are the available species; by default all.
        """
        reaction = self[name]
        known = {**self.constants, **reaction.constants}
        wanted = []
        for constant in names_in(reaction.formula):
            if constant not in known:
                wanted.append(constant)
            elif any(isinstance(part, Unknown) for part in known[constant].parts().values()):
                wanted.append(f"a fit of {constant}")
        if given is not None:
            wanted += [
                f"{s} in the mixture" for s in sorted(reaction.asks - set(given) - set(reaction.equation.species))
            ]
        by_name = {s.name: s for s in self.species}
        listed = {s: by_name.get(s, Species(s)) for s in reaction.equation.species}
        for held in reaction.constants.values():
            if isinstance(held, FromSpecies):
                try:
                    held.bound(reaction.equation, listed)
                except InputError as error:
                    wanted += [fault.what.partition(",")[0].replace(" has no ", ": ") for fault in error.faults]
        wanted += [f"the formula of {s}" for s, one in listed.items() if one.formula is None]
        if reaction.basis != "volume":
            wanted.append(f"a catalyst (rate per {reaction.basis})")
        return wanted

    def chemistry(self, *names: str, inerts: Iterable[str] = ()) -> Chemistry:
        """A chemistry of some of its reactions (by default all), with their species.

        `inerts` are further species of the library: a solvent, a carrier gas.

        Raises
        ------
        InputError
            For an unknown name, and with the missing inputs of the reactions.
        """
        faults = Faults()
        for name in names:
            if name not in list(self):
                faults.add("library", f"unknown reaction '{name}'", nearest(name, self))
        listed = [s.name for s in self.species]
        kept = set(inerts)
        for name in sorted(kept - set(listed)):
            faults.add("library", f"it has no species '{name}'", nearest(name, listed))
        faults.raise_any()
        chosen = [self[name] for name in names or self]
        asked = {constant for r in chosen for constant in names_in(r.formula) if constant not in r.constants}
        there = kept | {s for r in chosen for s in (*r.equation.species, *r.asks)}
        species = [s for s in self.species if s.name in there]
        return Chemistry(chosen, species, {n: held for n, held in self.constants.items() if n in asked})

    def rows(self, given: Iterable[str] | None = None) -> list[PlainData]:
        """Name, equation, rate law and needs of each reaction."""
        there = set(given) if given is not None else None
        rows = []
        for r in self.reactions:
            needs = ", ".join(self.needs(str(r.name), there)) or "nothing"
            rows.append({"reaction": str(r.name), "equation": str(r.equation), "rate law": r.law, "still needs": needs})
        return rows

    def __str__(self) -> str:
        count = len(self.reactions)
        lines = [f"{count} reaction{'s' if count != 1 else ''}"]
        for row in self.rows():
            lines += [f"  {row['reaction']}: {row['equation']}", f"    rate {row['rate law']}"]
            lines += [f"    still needs {row['still needs']}"] if row["still needs"] != "nothing" else []
        return "\n".join(lines)
