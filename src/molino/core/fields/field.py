"""What laminar tubes and basins have in common."""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import cached_property
from typing import ClassVar

import numpy as np

from molino.core import units
from molino.core.checks import Check
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.display import Display
from molino.core.dual import value_of
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.runs.metric_of_ends import Ends, metric_of_ends
from molino.core.runs.over_time import negative_check
from molino.core.schema import ReadField, given_values
from molino.core.units import Value
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank

_OVERSHOOT = 0.1
"""Largest excess of a conserved amount over those of the feeds: each species is limited by itself at a steep front, so
that their sum is not, and a finer grid brings it down."""


class FieldSpecification:
    """What other modules read of a vessel whose flow is a field."""

    def __init__(self, vessel: Field) -> None:
        self.vessel = vessel

    @property
    def label(self) -> str:
        """The name of the vessel, or its kind."""
        return self.vessel.label

    @property
    def chemistry(self) -> Chemistry:
        """The chemistry of the vessel."""
        return self.vessel.chemistry

    def validate(self) -> None:
        """Read the fields of the vessel and check them together; InputError with all faults."""
        raise NotImplementedError

    @property
    def plug(self) -> PlugFlow:
        """The same volume in plug flow, which reads feed and chemistry."""
        raise NotImplementedError

    def metric(self, metric: Metric | str, left: Mapping[str, float], T: float | None = None) -> float:
        """A metric in SI from the mean concentrations at the outlet in mol/m^3, and its temperature in K."""
        plug, flow = self.plug.spec, float(self.plug.spec.fed.volume)
        entering = {s: float(plug.fed.concentrations.get(s, 0.0)) * flow for s in self.chemistry.names}
        product = {s: float(left[s]) * flow for s in self.chemistry.names}
        own = float(plug.first_T.si) if plug.first_T is not None else math.nan
        ends = Ends(
            entering,
            product,
            product,
            flow,
            own if T is None else T,
            plug.feed_pressure(),
            math.nan,
            plug.volume_si,
            math.nan,
        )
        return float(value_of(metric_of_ends([self.plug], read_metric(metric), ends)))

    def read_diffusivities(self) -> dict[str, Value]:
        """By species; InputError for a value that is not valid, or of no species."""
        given = self.vessel.diffusivity
        if given is None:
            return {}
        if not isinstance(given, Mapping):
            given = dict.fromkeys(self.chemistry.names, given)
        strange = sorted({*given} - {*self.chemistry.names})
        if strange:
            raise InputError(f"unknown species {', '.join(strange)}", "diffusivity", "correct the names")
        return {s: units.positive(v, "diffusivity", f"diffusivity of {s}", zero=True) for s, v in given.items()}

    def tracer_diffusivity(self, given: object) -> float:
        """That of a tracer in SI; the largest of the species if none is given."""
        if given is None:
            return max((float(v.si) for v in self.vessel.diffusivity.values()), default=0.0)
        return units.positive(given, "diffusivity", "diffusivity", zero=True).si

    @cached_property
    def display(self) -> Display:
        """The units in which its results are shown."""
        with_units = any(p.unit is not None for p in self.chemistry.parameters)
        return Display.of([*given_values(self.vessel), *self.plug.spec.given_inputs()], self.vessel.show, with_units)

    def bound_checks(self, inside: Mapping[str, np.ndarray], sources: Mapping[str, np.ndarray]) -> tuple[Check, ...]:
        """That no concentration is negative, and that conserved amounts lie within those of feeds and contents.

        The second holds exactly where all species diffuse alike: a conserved amount is carried as a tracer is then.

        Parameters
        ----------
        inside : mapping of name to array
            'concentration of A' in all cells, at all moments.
        sources : mapping of species to array, shape (sources,)
            Concentrations of the feeds and of the contents at the start.
        """
        rows = {s: inside[f"concentration of {s}"] for s in self.chemistry.names}
        checks = [negative_check(inside)]
        if len({self.vessel.diffusivity[s].si if s in self.vessel.diffusivity else 0.0 for s in rows}) > 1:
            return tuple(checks)
        for name, weights in self.plug.spec.conserved().items():
            held, fed = (sum(w * of[s] for w, s in zip(weights, rows, strict=True)) for of in (rows, sources))
            beyond = max(float(held.max() - fed.max()), float(fed.min() - held.min()), 0.0)
            size = max(float(np.max(np.abs(fed))), 1e-300)
            checks.append(Check(f"{name} bounded by the feeds", beyond / size, _OVERSHOOT, "all cells"))
        return tuple(checks)

    def alike(self) -> dict[str, float]:
        """Conversions of the same volume in plug flow and as a stirred tank."""
        plug, found = self.plug, dict[str, float]()
        tank = StirredTank(plug.chemistry, plug.feed, volume=plug.volume, T=plug.T)
        for s in plug.spec.reactants:
            found[f"conversion of {s} in plug flow"] = plug.run().conversion(s)
            found[f"conversion of {s} in a stirred tank"] = tank.steady().conversion(s)
        return found


class Field(Frozen, Printed):
    """Base of the vessels whose flow is a field: a chemistry, diffusivities, and the same volume in plug flow."""

    noun: ClassVar[str]
    chemistry: Chemistry
    diffusivity: ReadField
    T: ReadField
    name: str
    show: Mapping[str, str]

    @cached_property
    def spec(self) -> FieldSpecification:
        """What other modules read of it."""
        raise NotImplementedError

    def __post_init__(self) -> None:
        self.spec.validate()

    @property
    def label(self) -> str:
        """Its name, or its kind."""
        return self.name or self.noun

    @property
    def title(self) -> str:
        """Name and noun."""
        return f"{self.name}: {self.noun}" if self.name else self.noun
