"""What laminar tubes and basins have in common."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any, ClassVar

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import given_values
from molino.core.units import Display, Value
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank


class Field(Frozen, Printed):
    """Base of the vessels whose flow is a field: a chemistry, diffusivities, and the same volume in plug flow."""

    noun: ClassVar[str]
    chemistry: Chemistry
    diffusivity: Any
    T: Any
    name: str
    show: Mapping[str, str]

    @property
    def label(self) -> str:
        """Its name, or what it is."""
        return self.name or self.noun

    @property
    def title(self) -> str:
        """Name and noun."""
        return f"{self.name}: {self.noun}" if self.name else self.noun

    @property
    def _plug(self) -> PlugFlow:
        """The same volume in plug flow, which reads feed and chemistry."""
        raise NotImplementedError

    def _read_diffusivities(self) -> dict[str, Value]:
        """By species; InputError for what is none, or of no species."""
        given = self.diffusivity
        if given is None:
            return {}
        if not isinstance(given, Mapping):
            given = dict.fromkeys(self.chemistry.names, given)
        strange = sorted({*given} - {*self.chemistry.names})
        if strange:
            raise InputError(f"there is no species {', '.join(strange)}", "diffusivity", "correct the names")
        return {s: units.positive(v, "diffusivity", f"diffusivity of {s}", zero=True) for s, v in given.items()}

    def _tracer_diffusivity(self, given: Any) -> float:
        """That of a tracer in SI; the largest of the species if none is given."""
        if given is None:
            return max((float(v.si) for v in self.diffusivity.values()), default=0.0)
        return units.positive(given, "diffusivity", "diffusivity", zero=True).si

    @cached_property
    def _display(self) -> Display:
        """The units in which its results are shown."""
        with_units = any(p.unit is not None for p in self.chemistry.parameters)
        return Display.of([*given_values(self), *self._plug._given_below()], self.show, with_units)

    def _alike(self) -> dict[str, float]:
        """Conversions of the same volume in plug flow and as a stirred tank."""
        plug, found = self._plug, dict[str, float]()
        tank = StirredTank(plug.chemistry, plug.feed, volume=plug.volume, T=plug.T)
        for s in plug._consumed:
            found[f"conversion of {s} in plug flow"] = plug.run().conversion(s)
            found[f"conversion of {s} in a stirred tank"] = tank.steady().conversion(s)
        return found
