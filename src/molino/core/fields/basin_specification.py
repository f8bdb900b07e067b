"""The fields of a basin and its specification."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar

from molino.core import units
from molino.core.annotations import ByName
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import check_species, is_molar
from molino.core.contents.mixture_equations import Mixture
from molino.core.errors import Faults, InputError
from molino.core.fields.field import Field, FieldSpecification
from molino.core.fields.grid import Grid
from molino.core.fields.openings import Baffle, Inlet, Layout, Outlet
from molino.core.fields.stream_function import Flow, FlowConditions, FlowProblem
from molino.core.fields.transport import SIDES
from molino.core.frozen import FrozenMapping, settle
from molino.core.schema import QuantityField, ReadField, option, quantity, read_fields, several_forms
from molino.core.units import Value
from molino.core.vessels.plug_flow import PlugFlow

FLOWS = ("potential", "creeping", "laminar")
_LEAST, _MOST = 4, 1000


class BasinSpecification(FieldSpecification):
    """The specification of a Basin."""

    vessel: BasinFields

    def validate(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        for name, cls in (("inlets", Inlet), ("outlets", Outlet), ("baffles", Baffle)):
            given = getattr(vessel, name)
            several = (given,) if isinstance(given, cls) else tuple(given)
            if not all(isinstance(one, cls) for one in several):
                faults.add(self.label, f"{name} hold something else", f"give mo.{cls.__name__}(...)")
            settle(vessel, **{name: several})
        for name in ("length", "width", "depth"):
            if getattr(vessel, name) is None:
                faults.add(self.label, f"no {name} is given", f"give {name}='2 m'")
        for name in ("inlets", "outlets"):
            if not getattr(vessel, name):
                faults.add(self.label, f"no {name[:-1]} is given", f"give {name}=mo.{name[:-1].capitalize()}(...)")
        self.check_numbers(faults)
        faults.raise_any()
        with faults.at(self.label):
            self.check_feeds()
        faults.raise_any()
        self.layout.check(faults, self.label)
        faults.raise_any()
        with faults.at(self.label):
            self.conditions(self.grid)
        faults.raise_any()

    def check_numbers(self, faults: Faults) -> None:
        vessel = self.vessel
        cells = vessel.cells
        if not (
            isinstance(cells, list | tuple)
            and len(cells) == 2
            and all(isinstance(n, int) and not isinstance(n, bool) and _LEAST <= n <= _MOST for n in cells)
        ):
            faults.add(self.label, f"cells = {cells!r}", f"give two whole numbers from {_LEAST} to {_MOST}")
        else:
            settle(vessel, cells=tuple(cells))
        if isinstance(vessel.grading, Value) and not 1 <= vessel.grading.si <= 100:
            faults.add(self.label, f"grading = {vessel.grading}", "give a number from 1 to 100")
        with faults.at(self.label):
            settle(vessel, diffusivity=self.read_diffusivities())
        moving = {}
        for side, given in dict(vessel.moving).items():
            with faults.at(f"{self.label}, moving"):
                if side not in SIDES:
                    raise InputError(f"unknown side '{side}'", "", f"give {', '.join(SIDES)}")
                moving[side] = units.read(given, "mass transfer coefficient", side)
        settle(vessel, moving=FrozenMapping(moving))
        if vessel.flow == "laminar" and vessel.viscosity is None:
            faults.add(self.label, "a laminar flow with inertia needs the viscosity", "give it, or 'creeping'")
        if moving and vessel.flow == "potential":
            faults.add(self.label, "a potential flow cannot have a moving side", "give flow='creeping'")
        densities = [f.density for i in vessel.inlets if isinstance(i, Inlet) and (f := i.feed).density is not None]
        if vessel.flow == "laminar" and (not densities or is_molar(densities[0])):
            faults.add(self.label, "a laminar flow with inertia needs the density", "give density to the feed")

    @cached_property
    def plug(self) -> PlugFlow:
        """The same volume in plug flow, with the first feed from which a reaction can start."""
        volume, failed = Value(self.volume, "m^3"), None
        for inlet in self.vessel.inlets:
            try:
                return PlugFlow(
                    self.chemistry, inlet.feed, volume=volume, T=self.vessel.T, name=self.label, show=self.vessel.show
                )
            except InputError as error:
                failed = failed or error
        assert failed is not None
        raise failed

    def check_feeds(self) -> None:
        """Raise InputError for feeds that are not liquids of constant density, or without a flow."""
        vessel = self.vessel
        faults = Faults()
        for inlet in vessel.inlets:
            place = f"{inlet.side} inlet"
            with faults.at(place):
                check_species(inlet.feed.contents, self.chemistry, place)
        faults.raise_any()
        if not self.plug.spec.phase.carries_volume or any(inlet.feed.is_gas for inlet in vessel.inlets):
            message = "a basin holds a fluid of constant density"
            raise InputError(message, "", "give concentrations and a flow, without P and without a model")
        temperatures = {inlet.feed.T.si for inlet in vessel.inlets if inlet.feed.T is not None}
        if vessel.T is None and len(temperatures) > 1:
            faults.add("inlets", "the feeds have different temperatures, and a basin has one", "give T")
        for inlet, mixture in zip(vessel.inlets, self.mixtures, strict=True):
            if not math.isfinite(float(mixture.volume)):
                faults.add(f"{inlet.side} inlet", "no flow is given", "give flow to the feed")
        faults.raise_any()

    @cached_property
    def mixtures(self) -> tuple[Mixture, ...]:
        """The concentrations and the volumetric flow of each inlet."""
        return tuple(inlet.feed.mixture(self.plug.spec.species_by_name) for inlet in self.vessel.inlets)

    @property
    def fed_flow(self) -> float:
        """In m^3/s, of all inlets."""
        return sum(float(mixture.volume) for mixture in self.mixtures)

    @property
    def volume(self) -> float:
        return float(self.vessel.length.si * self.vessel.width.si * self.vessel.depth.si)

    @cached_property
    def layout(self) -> Layout:
        vessel = self.vessel
        depth = float(vessel.depth.si)
        flows = tuple((i, float(m.volume) / depth) for i, m in zip(vessel.inlets, self.mixtures, strict=True))
        moving = {side: float(v.si) for side, v in vessel.moving.items()}
        return Layout(float(vessel.length.si), float(vessel.width.si), flows, vessel.outlets, vessel.baffles, moving)

    @cached_property
    def grid(self) -> Grid:
        return self.layout.grid(self.vessel.cells, float(self.vessel.grading.si))

    def conditions(self, grid: Grid) -> FlowConditions:
        return self.layout.conditions(grid, self.vessel.flow == "potential")

    def flow_on(self, grid: Grid, near: Flow | None) -> tuple[Flow, FlowConditions]:
        conditions = self.conditions(grid)
        problem = FlowProblem(grid, conditions)
        if self.vessel.flow == "potential":
            return problem.potential(), conditions
        if self.vessel.flow == "creeping":
            return problem.creeping(), conditions
        return problem.laminar(self.kinematic_viscosity, near), conditions

    @property
    def kinematic_viscosity(self) -> float:
        density = next(i.feed.density for i in self.vessel.inlets if i.feed.density is not None)
        return float(self.vessel.viscosity.si / density.si)


@dataclass(frozen=True, eq=False)
class BasinFields(Field):
    """The fields of a basin."""

    noun: ClassVar[str] = "basin"
    chemistry: Chemistry
    length: QuantityField = quantity("length")
    width: QuantityField = quantity("length")
    depth: QuantityField = quantity("length")
    inlets: ReadField = several_forms(())
    outlets: ReadField = several_forms(())
    baffles: ReadField = several_forms(())
    flow: str = option("potential", FLOWS)
    diffusivity: ReadField = several_forms()
    viscosity: QuantityField = quantity("viscosity")
    moving: ByName = field(default_factory=dict)
    T: QuantityField = quantity("temperature")
    cells: ReadField = several_forms((64, 32))
    grading: QuantityField = quantity("number", 1.0)
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> BasinSpecification:
        return BasinSpecification(self)

    @property
    def Reynolds(self) -> float:
        """Of the largest inlet: flow per depth over the kinematic viscosity; nan without both."""
        if self.viscosity is None or not any(i.feed.density is not None for i in self.inlets):
            return math.nan
        return max(flow for _, flow in self.spec.layout.inlets) / self.spec.kinematic_viscosity
