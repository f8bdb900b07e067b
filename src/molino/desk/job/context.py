"""The context of the readers of a job: the content of the file, its units and names, and the faults found so far."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TypeVar

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.arguments import short
from molino.core.chemistry.constants import Unknown
from molino.core.chemistry.library import Library
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.contents.feed import Feed
from molino.core.contract.condition import Condition
from molino.core.errors import Fault, Faults, InputError, nearest
from molino.core.schema import FieldSchema, schema_of
from molino.core.units import Value
from molino.desk.job import models, shapes

_LISTED = 5
"""Largest number of listed places of a fault."""


T = TypeVar("T")


class JobContext:
    """The valid tables of a job file, and its faults.

    The faults of a name that is in the file (`raw`) but has no object have been reported; references to it are skipped.
    """

    def __init__(
        self,
        parsed: models.JobFile,
        path: Path,
        raw: ByName,
        found: list[Fault],
        stored: Mapping[str, Path] | None = None,
    ) -> None:
        self.file, self.path, self.raw = parsed, path, raw
        self._stored = stored
        self.files: dict[str, Path] = {}
        """The other files that it reads, by the names in the job."""
        self.faults = Faults()
        self.faults.found += found
        self.library: Library | None = None
        self.units: dict[str, str] = {}
        for key, text in parsed.units.model_dump(exclude_none=True).items():
            with self.at(f"[units] {key}"):
                units.expect(text, models.UNIT_KINDS[key])
                self.units[models.UNIT_KINDS[key]] = text

    @contextmanager
    def at(self, place: str) -> Iterator[None]:
        """Add faults under a table of the job, without repeating the name."""
        name = place.partition("]")[0].rpartition(".")[2]
        try:
            yield
        except InputError as error:
            for fault in error.faults:
                where = fault.where
                for prefix in (f"reaction {name}", f"run {name}", name):
                    if where == prefix or where.startswith(prefix + ","):
                        where = where[len(prefix) :].lstrip(", ")
                        break
                message = Fault(where, fault.what, fault.advice)
                self.faults.found.append(message.within(place))

    def named_file(self, name: str) -> Path:
        """A file of the job, from its own folder; InputError for one outside, unless the job allows that."""
        if self._stored is not None:
            if name not in self._stored:
                raise InputError(f"'{name}' is not in the report", "file", "run the job itself: molino report JOB")
            self.files[name] = self._stored[name]
            return self._stored[name]
        folder = self.path.parent
        path = folder / name
        try:
            is_outside = not path.resolve().is_relative_to(folder.resolve())
            path.is_file()
        except (OSError, ValueError) as error:  # a name that is not valid on any system
            raise InputError(f"{short(name)} is not a file name", "file", "correct it") from error
        if is_outside and not self.file.allow_outside:
            advice = "copy it into the folder of the job, or write allow_outside = true at the top of the job"
            raise InputError(f"'{name}' is outside the folder of the job", "file", advice)
        self.files[name] = path
        return path

    def known(self, table: str) -> list[str]:
        """The names in a table of the file, valid or not."""
        content = self.raw.get(table, {})
        return list(content) if isinstance(content, dict) else []

    def whole(self, *tables: str) -> bool:
        """Whether all entries of these tables are valid."""
        return all(set(self.known(t)) == set(getattr(self.file, t)) for t in tables)

    def in_unit(self, given: T, kind: str) -> T | Value:
        """A bare number in the unit that [units] gives for its kind; anything else as it is."""
        return units.of(given, self.units[kind]) if isinstance(given, float | int) and kind in self.units else given

    def contents(self, given: ByName) -> PlainData:
        """Quantities by species; a bare number is a concentration."""
        return {species: self.in_unit(number, "concentration") for species, number in given.items()}

    def profile(self, given: object, along: str, kind: str) -> object:
        """A quantity, or pairs of a profile."""
        if isinstance(given, list):
            return [(self.in_unit(at, along), self.in_unit(value, kind)) for at, value in given]
        return self.in_unit(given, kind)

    def read(self, cls: object, table: object, along: str = "time") -> PlainData:
        """The values of a table for the declared fields of a class.

        Raises
        ------
        InputError
            With the faults of its inner tables.
        """
        faults, found = Faults(), {}
        for name, schema in schema_of(cls).items():
            given = getattr(table, name, None)
            if given is None:
                continue
            with faults.at(name if schema.holds in ("part", "parts") else ""):
                if schema.holds == "quantity":
                    found[name] = self._of_kinds(given, schema, name)
                elif schema.holds == "quantities" and isinstance(given, list):
                    found[name] = [self._of_kinds(one, schema, name) for one in given]
                elif schema.holds == "quantities":
                    found[name] = self._of_kinds(given, schema, name)
                elif schema.holds == "profile":
                    found[name] = self.profile(given, along, schema.kind)
                elif schema.holds == "contents":
                    found[name] = self.contents(given)
                elif schema.holds == "entry":
                    found[name] = self.entry(given, schema.kind)
                elif schema.holds == "entries":
                    found[name] = {key: self.entry(one, schema.kind) for key, one in given.items()}
                elif schema.holds == "constant":
                    found[name] = self.constant(given)
                elif schema.holds == "part":
                    found[name] = schema.part(**self.read(schema.part, given))
                elif schema.holds == "parts":
                    found[name] = self._parts(schema.part, given)
                else:
                    found[name] = given
        faults.raise_any()
        return found

    def constant(self, given: object) -> object:
        """A constant: a quantity, an unknown one, or a law over temperature."""
        if isinstance(given, shapes.FromSpeciesTable):
            return FromSpecies(given.from_species, self.in_unit(given.standard, "pressure"))
        if isinstance(given, shapes.ConstantsTable):
            if (given.k is None) == (given.K is None):
                raise InputError("a table of constants has T and k, or T and K", "", "give one of k and K")
            temperatures = [self.in_unit(T, "temperature") for T in given.T]
            if given.k is not None:
                return Arrhenius.through(temperatures, given.k)
            return VantHoff.through(temperatures, given.K or [])
        if isinstance(given, shapes.ArrheniusTable):
            return Arrhenius(**self.read(Arrhenius, given))
        if isinstance(given, shapes.VantHoffTable):
            return VantHoff(**self.read(VantHoff, given))
        return self.entry(given, "")

    def entry(self, given: object, kind: str) -> object:
        """A quantity, or an unknown one."""
        if isinstance(given, shapes.UnknownTable):
            return Unknown(*(self.in_unit(part, kind) for part in (given.guess, given.lower, given.upper)))
        return self.in_unit(given, kind)

    def condition(self, setting: Condition, given: object) -> object:
        """A condition of a vessel by its name, a bare number in the unit that [units] gives for its kind."""
        if setting.name == "flow":
            return self._of_kinds(given, schema_of(Feed)["flow"], "flow")
        return self.in_unit(given, setting.kind)

    def _of_kinds(self, given: object, schema: FieldSchema, name: str) -> object:
        """A bare number in the unit of its kind; InputError if [units] does not determine the kind."""
        others = [kind for kind in schema.alternatives if kind in self.units]
        if len(others) == 1 and schema.kind not in self.units and name == "flow":
            return self.in_unit(given, others[0])  # the kind of flows is the one in [units]
        if others and schema.kind not in self.units and not isinstance(given, str):
            message = f"a bare number may be a {schema.kind} (in SI) or a {others[0]} (in {self.units[others[0]]})"
            raise InputError(message, name, "write it with its unit")
        return self.in_unit(given, schema.kind)

    def _parts(self, cls: type, given: ByName) -> PlainData:
        faults, found = Faults(), {}
        for name, table in given.items():
            with faults.at(name):
                found[name] = cls(**self.read(cls, table))
        faults.raise_any()
        return found

    def feed_named(self, name: str, feeds: Mapping[str, Feed], key: str = "feed") -> Feed:
        """A feed by its name; InputError without a message if its own faults have been reported."""
        if name in feeds:
            return feeds[name]
        if name in self.known("feeds"):
            raise InputError(())
        advice = nearest(name, self.known("feeds"), "add a [feeds.NAME] table")
        raise InputError(f"unknown feed '{name}'", key, advice)

    def raise_merged(self) -> None:
        """Raise all faults, each reported once, with all its places."""
        places: dict[tuple[str, str], list[str]] = {}
        for fault in self.faults.found:
            places.setdefault((fault.what, fault.advice), []).append(fault.where)
        merged = Faults()
        merged.found = [Fault(_places(list(dict.fromkeys(p))), what, advice) for (what, advice), p in places.items()]
        merged.raise_any(self.path.name)


def _places(places: list[str]) -> str:
    """The places of a fault, in words."""
    if len(places) > _LISTED:
        return f"{', '.join(places[:_LISTED])} and {len(places) - _LISTED} more places"
    return " and ".join(places)
