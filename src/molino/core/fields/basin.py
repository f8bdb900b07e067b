"""The basin: a vessel in two dimensions."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, ClassVar

from molino.core import units
from molino.core.arguments import checked
from molino.core.checks import require_passed
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import Faults, InputError
from molino.core.fields.basin_field import BasinField
from molino.core.fields.basin_run import BasinInTime, BasinRun
from molino.core.fields.field import Field
from molino.core.fields.grid import Grid
from molino.core.fields.openings import Baffle, Inlet, Layout, Outlet
from molino.core.fields.stream_function import Flow, FlowConditions, FlowProblem
from molino.core.fields.transport import SIDES
from molino.core.frozen import FrozenMapping, settle
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.schema import option, quantity, read_fields
from molino.core.units import Value
from molino.core.vessels.feed import check_species, is_molar
from molino.core.vessels.mixture import Mixture
from molino.core.vessels.plug_flow import PlugFlow

FLOWS = ("potential", "creeping", "laminar")
_LEAST, _MOST = 4, 1000
_FINER = "give more cells, or more diffusion"


@dataclass(frozen=True, eq=False)
class Basin(Field):
    """A rectangular vessel in two dimensions, as deep everywhere: inlets, outlets and inner walls where they are.

    The flow is that of a potential, or laminar between walls that it sticks to: creeping, or with its momentum. Then
    what it carries, what diffuses and what reacts,

        dc_i/dt + div(u c_i - D_i grad c_i) = sum_j nu_ij r_j

    in finite volumes (see `core/fields/stream_function.py` and `transport.py`). Nothing diffuses through an opening.

    Parameters
    ----------
    chemistry : Chemistry
    length, width, depth : quantity
        Along x, along y, and out of the plane.
    inlets : Inlet, or sequence of Inlet
    outlets : Outlet, or sequence of Outlet
    baffles : sequence of Baffle
    flow : "potential", "creeping" or "laminar"
    diffusivity : quantity, or mapping of species to quantity
        Molecular, or that of the turbulence; nothing diffuses if left out.
    viscosity : optional
        Of a laminar flow with its momentum, with the density of the feed.
    moving : mapping of side to velocity
        Sides that move along themselves, {"top": "0.1 m/s"}.
    T : temperature, optional
        Prescribed; that of the first feed if left out.
    cells : pair of int
        Along x and along y, roughly: lines meet every end of an opening or inner wall.
    grading : float
        How much wider a cell in the middle of a stretch between two such lines is than at its ends.
    name : str
    show : mapping of kind to unit

    Raises
    ------
    InputError
        With everything that is wrong in it.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="2 L/s")
    >>> basin = mo.Basin(chem, length="4 m", width="2 m", depth="1 m", inlets=mo.Inlet("left", ("0 m", "0.5 m"), feed),
    ...                  outlets=mo.Outlet("right", ("1.5 m", "2 m")), diffusivity="1e-4 m2/s", cells=(32, 16))
    >>> run = basin.run()
    >>> 0.9 < run.conversion("A") < 1
    True
    """

    noun: ClassVar[str] = "basin"
    chemistry: Chemistry
    length: Any = quantity("length")
    width: Any = quantity("length")
    depth: Any = quantity("length")
    inlets: Any = ()
    outlets: Any = ()
    baffles: Any = ()
    flow: str = option("potential", FLOWS)
    diffusivity: Any = None
    viscosity: Any = quantity("viscosity")
    moving: Mapping[str, Any] = field(default_factory=dict)
    T: Any = quantity("temperature")
    cells: Any = (64, 32)
    grading: Any = quantity("number", 1.0)
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, self.label)
        for name, cls in (("inlets", Inlet), ("outlets", Outlet), ("baffles", Baffle)):
            given = getattr(self, name)
            several = (given,) if isinstance(given, cls) else tuple(given)
            if not all(isinstance(one, cls) for one in several):
                faults.add(self.label, f"{name} hold something else", f"give mo.{cls.__name__}(...)")
            settle(self, **{name: several})
        for name in ("length", "width", "depth"):
            if getattr(self, name) is None:
                faults.add(self.label, f"no {name} is given", f"give {name}='2 m'")
        for name in ("inlets", "outlets"):
            if not getattr(self, name):
                faults.add(self.label, f"no {name[:-1]} is given", f"give {name}=mo.{name[:-1].capitalize()}(...)")
        self._check_numbers(faults)
        faults.raise_any()
        with faults.at(self.label):
            self._check_feeds()
        faults.raise_any()
        self._layout.check(faults, self.label)
        faults.raise_any()
        with faults.at(self.label):
            self._conditions(self._grid)
        faults.raise_any()

    def _check_numbers(self, faults: Faults) -> None:
        cells = self.cells
        if not (isinstance(cells, list | tuple) and len(cells) == 2 and all(
                isinstance(n, int) and not isinstance(n, bool) and _LEAST <= n <= _MOST for n in cells)):  # fmt: skip
            faults.add(self.label, f"cells = {cells!r}", f"give two whole numbers from {_LEAST} to {_MOST}")
        else:
            settle(self, cells=tuple(cells))
        if isinstance(self.grading, Value) and not 1 <= self.grading.si <= 100:
            faults.add(self.label, f"grading = {self.grading}", "give a number from 1 to 100")
        with faults.at(self.label):
            settle(self, diffusivity=self._read_diffusivities())
        moving = {}
        for side, given in dict(self.moving).items():
            with faults.at(f"{self.label}, moving"):
                if side not in SIDES:
                    raise InputError(f"there is no side '{side}'", "", f"give {', '.join(SIDES)}")
                moving[side] = units.read(given, "mass transfer coefficient", side)
        settle(self, moving=FrozenMapping(moving))
        if self.flow == "laminar" and self.viscosity is None:
            faults.add(self.label, "a laminar flow with its momentum takes the viscosity", "give it, or 'creeping'")
        if moving and self.flow == "potential":
            faults.add(self.label, "a potential flow does not stick to a side that moves", "give flow='creeping'")
        densities = [f.density for i in self.inlets if isinstance(i, Inlet) and (f := i.feed).density is not None]
        if self.flow == "laminar" and (not densities or is_molar(densities[0])):
            faults.add(self.label, "a laminar flow with its momentum takes the density", "give density to the feed")

    @cached_property
    def _plug(self) -> PlugFlow:
        """The same volume in plug flow, which reads a feed: the first from which a reaction can start."""
        volume, failed = Value(self._volume, "m^3"), None
        for inlet in self.inlets:
            try:
                return PlugFlow(self.chemistry, inlet.feed, volume=volume, T=self.T, name=self.label, show=self.show)
            except InputError as error:
                failed = failed or error
        assert failed is not None
        raise failed

    def _check_feeds(self) -> None:
        """Raise InputError for feeds that are no liquid of constant density, or without a flow."""
        faults = Faults()
        for inlet in self.inlets:
            place = f"{inlet.side} inlet"
            with faults.at(place):
                check_species(inlet.feed.contents, self.chemistry, place)
        faults.raise_any()
        if not self._plug._phase.carries_volume or any(inlet.feed.is_gas for inlet in self.inlets):
            message = "a basin holds a fluid of constant density"
            raise InputError(message, "", "give concentrations and a flow, without P and without a model")
        temperatures = {inlet.feed.T.si for inlet in self.inlets if inlet.feed.T is not None}
        if self.T is None and len(temperatures) > 1:
            faults.add("inlets", "the feeds have different temperatures, and a basin has one", "give T")
        for inlet, mixture in zip(self.inlets, self._mixtures, strict=True):
            if not math.isfinite(float(mixture.volume)):
                faults.add(f"{inlet.side} inlet", "no flow is given", "give flow to the feed")
        faults.raise_any()

    @cached_property
    def _mixtures(self) -> tuple[Mixture, ...]:
        """What each inlet brings: concentrations and volumetric flow."""
        return tuple(inlet.feed.mixture(self._plug._by_name) for inlet in self.inlets)

    @property
    def _fed_flow(self) -> float:
        """In m^3/s, of all inlets."""
        return sum(float(mixture.volume) for mixture in self._mixtures)

    @property
    def _volume(self) -> float:
        return float(self.length.si * self.width.si * self.depth.si)

    @cached_property
    def _layout(self) -> Layout:
        depth = float(self.depth.si)
        flows = tuple((i, float(m.volume) / depth) for i, m in zip(self.inlets, self._mixtures, strict=True))
        moving = {side: float(v.si) for side, v in self.moving.items()}
        return Layout(float(self.length.si), float(self.width.si), flows, self.outlets, self.baffles, moving)

    @cached_property
    def _grid(self) -> Grid:
        return self._layout.grid(self.cells, float(self.grading.si))

    def _conditions(self, grid: Grid) -> FlowConditions:
        return self._layout.conditions(grid, self.flow == "potential")

    def _flow_on(self, grid: Grid) -> tuple[Flow, FlowConditions]:
        conditions = self._conditions(grid)
        problem = FlowProblem(grid, conditions)
        if self.flow == "potential":
            return problem.potential(), conditions
        if self.flow == "creeping":
            return problem.creeping(), conditions
        near = self._coarse_field.flow if grid is self._grid else None
        return problem.laminar(self._kinematic_viscosity, near), conditions

    @property
    def _kinematic_viscosity(self) -> float:
        density = next(i.feed.density for i in self.inlets if i.feed.density is not None)
        return float(self.viscosity.si / density.si)

    @property
    def Reynolds(self) -> float:
        """Of the largest inlet: flow per depth over the kinematic viscosity; nan without both."""
        if self.viscosity is None or not any(i.feed.density is not None for i in self.inlets):
            return math.nan
        return max(flow for _, flow in self._layout.inlets) / self._kinematic_viscosity

    @cached_property
    def _field(self) -> BasinField:
        """The flow on its grid, with what it carries."""
        return BasinField(self, self._grid)

    @cached_property
    def _coarse_field(self) -> BasinField:
        return BasinField(self, self._grid.coarse)

    @checked
    def run(self) -> BasinRun:
        """The steady state, on its grid and on one with half the lines.

        Raises
        ------
        InputError
            If constants are still unknown.
        SolveError
            If no steady flow or field is found.
        """
        self._plug._require_known()
        found, coarse = self._field.steady(), self._coarse_field.steady()
        run = self._field.run_of(found, self._coarse_field.run_of(coarse, None))
        require_passed(run.checks, self.label, _FINER)
        return run

    @checked
    def follow(
        self, time: Any, contents: Mapping[str, Any] | None = None, steps: int = 200, points: int = 51,
        progress: Callable[[float], None] | None = None,
    ) -> BasinInTime:  # fmt: skip
        """Follow the basin over time, in the steady flow, from what fills it on.

        Backward differentiation of second order, implicit in what is carried, diffuses and reacts.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            What fills it at first; the first feed if left out.
        steps : int
            Of time, all alike.
        points : int
            Moments of which the whole field is kept, evenly spaced.
        progress : callable, optional
            Called now and then with the share of the time that is done.

        Raises
        ------
        InputError
            If a number is none, or constants are still unknown.
        """
        self._plug._require_known()
        end = units.positive(time, "time", f"{self.label}, time").si
        faults = Faults()
        for name, value, least in (("steps", steps, 4), ("points", points, 2)):
            if value < least:
                faults.add(self.label, f"{name} = {value}", f"give {least} or more")
        faults.raise_any()
        half = self._coarse_field.follow(end, contents, max(steps // 2, 2), 2, None, None)
        run = self._field.follow(end, contents, steps, points, progress, half)
        require_passed(run.checks, f"{self.label} over time", _FINER)
        return run

    @checked
    def distribution(
        self, diffusivity: Any = None, steps: int = 400, progress: Callable[[float], None] | None = None
    ) -> ResidenceTimeDistribution:
        """The distribution of residence times, by a step of tracer in everything that is fed.

        The moments are exact on the grid: the k-th moment of the age solves the balance of a tracer that is made at k
        times the moment before it (P. V. Danckwerts, Chem. Eng. Sci. 9 (1958) 78), so that the mean is the volume over
        the flow whatever the curve does beyond its cut.

        Parameters
        ----------
        diffusivity : diffusivity, optional
            Of the tracer; the largest of the species if left out.
        steps : int
            Of time.
        progress : callable, optional
            Called now and then with the share that is done.

        Raises
        ------
        InputError
            If a number is none.
        """
        D = self._tracer_diffusivity(diffusivity)
        if steps < 20:
            raise InputError(f"steps = {steps}", self.label, "give 20 or more")
        found, half = self._field.distribution(D, steps, progress), self._coarse_field.raw_moments(D)
        require_passed(found.checks, f"{self.label}, residence times", _FINER)
        coarse = f"{half[1] / half[0] ** 2 - 1:.4g}"
        return replace(found, notes={**found.notes, "relative variance with half the lines": coarse})

    def __str__(self) -> str:
        parts: Sequence[Any] = (*self.inlets, *self.outlets, *self.baffles)
        nx, ny = self._grid.nx, self._grid.ny
        size = f"{self.length} x {self.width}, {self.depth} deep"
        return f"{self.title}, {size}, {self.flow} flow on {nx} x {ny} cells, " + ", ".join(str(one) for one in parts)
