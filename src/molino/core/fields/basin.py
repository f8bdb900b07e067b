"""The basin: a flow field in two dimensions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

from molino.core import units
from molino.core.annotations import ByName
from molino.core.arguments import checked
from molino.core.checks import require_passed
from molino.core.errors import Faults, InputError
from molino.core.fields.basin_field import BasinField
from molino.core.fields.basin_run import BasinInTime, BasinRun
from molino.core.fields.basin_specification import BasinFields
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.units import QuantityLike

_FINER = "give more cells, or more diffusion"


@dataclass(frozen=True, eq=False)
class Basin(BasinFields):
    """A rectangular vessel of uniform depth in two dimensions, with inlets, outlets and inner walls.

    The flow is a potential flow, or laminar with no slip on the walls: creeping, or with inertia. Then convection,
    diffusion and reaction of species,

        dc_i/dt + div(u c_i - D_i grad c_i) = sum_j nu_ij r_j

    in finite volumes (see `core/fields/stream_function.py` and `transport.py`). There is no diffusion through openings.

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
        Molecular or turbulent; by default zero.
    viscosity : optional
        Of a laminar flow with inertia, with the density of the feed.
    moving : mapping of side to velocity
        Sides that move in their own direction, {"top": "0.1 m/s"}.
    T : temperature, optional
        Prescribed; by default that of the first feed.
    cells : pair of int
        Approximate numbers along x and along y: lines meet every end of an opening or inner wall.
    grading : float
        Ratio of the widths of cells in the middle and at the ends of a section between two such lines.
    name : str
    show : mapping of kind to unit

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="2 L/s")
    >>> inlet = mo.fields.Inlet("left", ("0 m", "0.5 m"), feed)
    >>> outlet = mo.fields.Outlet("right", ("1.5 m", "2 m"))
    >>> basin = mo.fields.Basin(chem, length="4 m", width="2 m", depth="1 m", inlets=inlet, outlets=outlet,
    ...                         diffusivity="1e-4 m2/s", cells=(32, 16))
    >>> run = basin.run()
    >>> 0.9 < run.conversion("A") < 1
    True
    """

    @cached_property
    def _field(self) -> BasinField:
        """The flow and the species on the grid."""
        return BasinField(self, self.spec.grid, self._coarse_field.flow if self.flow == "laminar" else None)

    @cached_property
    def _coarse_field(self) -> BasinField:
        """The same on half the lines."""
        return BasinField(self, self.spec.grid.coarse)

    @checked
    def run(self) -> BasinRun:
        """The steady state, on its grid and on one with half the lines.

        Raises
        ------
        InputError
            If constants are unknown.
        SolveError
            If no steady flow or field is found.
        """
        self.spec.plug.spec.require_known()
        found, coarse = self._field.steady(), self._coarse_field.steady()
        run = self._field.run_of(found, self._coarse_field.run_of(coarse, None))
        require_passed(run.checks, self.label, _FINER)
        return run

    @checked
    def follow(
        self,
        time: QuantityLike,
        contents: ByName | None = None,
        steps: int = 200,
        points: int = 51,
        progress: Callable[[float], None] | None = None,
    ) -> BasinInTime:
        """Integrate the basin over time, in the steady flow, from its initial contents.

        Backward differentiation of second order, implicit in convection, diffusion and reaction.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            Initial contents; by default the first feed.
        steps : int
            Number of equal time steps.
        points : int
            Number of evenly spaced moments at which the whole field is kept.
        progress : callable, optional
            Called with the fraction of the time that is done.

        Raises
        ------
        InputError
            If a number is invalid, or constants are unknown.
        """
        self.spec.plug.spec.require_known()
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
        self, diffusivity: QuantityLike | None = None, steps: int = 400, progress: Callable[[float], None] | None = None
    ) -> ResidenceTimeDistribution:
        """The residence time distribution, by a step of tracer in all feeds.

        The moments are exact on the grid: the k-th moment of the age solves the balance of a tracer with a source of k
        times the moment before it (P. V. Danckwerts, Chem. Eng. Sci. 9 (1958) 78), so that the mean is the volume over
        the flow, independent of the cut of the curve.

        Parameters
        ----------
        diffusivity : diffusivity, optional
            Of the tracer; by default the largest of the species.
        steps : int
            Of time.
        progress : callable, optional
            Called with the fraction that is done.

        Raises
        ------
        InputError
            If a number is invalid.
        """
        D = self.spec.tracer_diffusivity(diffusivity)
        if steps < 20:
            raise InputError(f"steps = {steps}", self.label, "give 20 or more")
        found, half = self._field.distribution(D, steps, progress), self._coarse_field.raw_moments(D)
        require_passed(found.checks, f"{self.label}, residence times", _FINER)
        coarse = f"{half[1] / half[0] ** 2 - 1:.4g}"
        return replace(found, notes={**found.notes, "relative variance with half the lines": coarse})

    def __str__(self) -> str:
        layout, nx, ny = self.spec.layout, self.spec.grid.nx, self.spec.grid.ny
        parts = [str(one) for one in (*(inlet for inlet, _ in layout.inlets), *layout.outlets, *layout.baffles)]
        size = f"{self.length} x {self.width}, {self.depth} deep"
        return f"{self.title}, {size}, {self.flow} flow on {nx} x {ny} cells, " + ", ".join(parts)
