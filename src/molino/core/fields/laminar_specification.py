"""The fields of a laminar tube and its specification."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar

import numpy as np

from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed, is_molar
from molino.core.errors import Faults
from molino.core.fields.field import Field, FieldSpecification
from molino.core.fields.radial import radial
from molino.core.frozen import settle
from molino.core.schema import QuantityField, ReadField, option, quantity, read_fields, several_forms
from molino.core.units import QuantityLike, Value
from molino.core.vessels.plug_flow import PlugFlow

_LEAST_NODES, _MOST_NODES = 4, 200


class LaminarTubeSpecification(FieldSpecification):
    """The specification of a LaminarTube."""

    vessel: LaminarTubeFields

    def validate(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        with faults.at(self.label):
            settle(vessel, diffusivity=self.read_diffusivities())
        self.check_shape(faults)
        ways = [n for n in ("heat", "wall_T", "wall_flux") if getattr(vessel, n) is not None]
        if len(ways) > 1:
            faults.add(self.label, f"{' and '.join(ways)} specify the same thing twice", "give one of them")
        if vessel.heat not in (None, "isothermal", "adiabatic"):
            advice = "give 'adiabatic', or wall_T, or wall_flux"
            faults.add(self.label, f"heat = {vessel.heat!r} is not available in a laminar tube", advice)
        if vessel.is_non_isothermal and vessel.conductivity is None:
            faults.add(self.label, "the conductivity of the fluid is not given", "give it, like '0.6 W/m/K'")
        if vessel.entrance == "developing" and vessel.viscosity is None:
            faults.add(self.label, "a developing velocity needs the viscosity", "give viscosity='1 mPa*s'")
        if vessel.entrance == "developing" and self.density is None:
            faults.add(self.label, "a developing velocity needs the density", "give density to the feed")
        faults.raise_any()
        plug = self.plug
        if not plug.spec.phase.carries_volume:
            message = "a laminar tube holds a fluid of constant density"
            faults.add(self.label, message, "give concentrations and a flow, without P and without a model")
        faults.raise_any()

    def check_shape(self, faults: Faults) -> None:
        vessel = self.vessel
        if vessel.length is None:
            faults.add(self.label, "no length is given", "give length='16 m'")
        if (vessel.diameter is None) == (vessel.gap is None):
            message = (
                "both diameter and gap are given" if vessel.gap is not None else "neither diameter nor gap is given"
            )
            faults.add(self.label, message, "give the diameter of a pipe, or gap and width of a slit")
        if (vessel.gap is None) != (vessel.width is None):
            faults.add(self.label, "a slit has both gap and width", "give both")

    @property
    def density(self) -> float | None:
        density = self.vessel.feed.density
        return None if density is None or is_molar(density) else float(density.si)

    @property
    def radius(self) -> float:
        """Radius of the pipe, or half the gap, in m."""
        return float((self.vessel.diameter if self.vessel.diameter is not None else self.vessel.gap).si) / 2

    @property
    def area(self) -> float:
        return (
            math.pi * self.radius**2
            if self.vessel.geometry == "pipe"
            else 2 * self.radius * float(self.vessel.width.si)
        )

    @property
    def length(self) -> float:
        """In m."""
        return float(self.vessel.length.si)

    @property
    def volume(self) -> float:
        return self.area * self.length

    @property
    def velocity(self) -> float:
        """Mean velocity in m/s."""
        return float(self.plug.spec.fed.volume) / self.area

    @cached_property
    def plug(self) -> PlugFlow:
        """The same volume in plug flow, with feed, chemistry and heat."""
        vessel = self.vessel
        heat = "adiabatic" if vessel.is_non_isothermal else None
        return PlugFlow(
            self.chemistry,
            vessel.feed,
            volume=Value(self.volume, "m^3"),
            T=vessel.T,
            heat=heat,
            name=self.label,
            show=vessel.show,
        )

    def check_counts(self, points: int, nodes: int) -> None:
        faults = Faults()
        if points < 2:
            faults.add(self.label, f"points = {points}", "give 2 or more")
        if not _LEAST_NODES <= nodes <= _MOST_NODES:
            faults.add(self.label, f"nodes = {nodes}", f"give a whole number from {_LEAST_NODES} to {_MOST_NODES}")
        faults.raise_any()

    def spread_of(self, nodes: int, diffusivity: QuantityLike | None) -> np.ndarray:
        """Diffusion across over the velocity, per length, shape (nodes, nodes)."""
        grid = radial(self.vessel.geometry, nodes)
        per = self.tracer_diffusivity(diffusivity) / self.radius**2 / self.velocity
        return np.asarray(per * grid.sealed / (grid.weights * grid.developed)[:, None])


@dataclass(frozen=True, eq=False)
class LaminarTubeFields(Field):
    """The fields of a laminar tube."""

    noun: ClassVar[str] = "laminar tube"
    chemistry: Chemistry
    feed: Feed
    diameter: QuantityField = quantity("diameter")
    gap: QuantityField = quantity("diameter")
    width: QuantityField = quantity("length")
    length: QuantityField = quantity("length")
    diffusivity: ReadField = several_forms()
    conductivity: QuantityField = quantity("thermal conductivity")
    T: QuantityField = quantity("temperature")
    heat: str | None = None
    wall_T: QuantityField = quantity("temperature")
    wall_flux: QuantityField = quantity("heat flux", sign="any")
    entrance: str = option("developed", ("developed", "developing"))
    viscosity: QuantityField = quantity("viscosity")
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> LaminarTubeSpecification:
        return LaminarTubeSpecification(self)

    @property
    def geometry(self) -> str:
        """'pipe' or 'slit'."""
        return "pipe" if self.diameter is not None else "slit"

    @property
    def is_non_isothermal(self) -> bool:
        """Whether its temperature follows from an energy balance."""
        return self.heat == "adiabatic" or self.wall_T is not None or self.wall_flux is not None

    @property
    def Reynolds(self) -> float:
        """With the mean velocity and the hydraulic diameter; nan without viscosity and density."""
        if self.viscosity is None or self.spec.density is None:
            return math.nan
        wide = 2 * self.spec.radius if self.geometry == "pipe" else 4 * self.spec.radius
        return self.spec.velocity * wide * self.spec.density / float(self.viscosity.si)
