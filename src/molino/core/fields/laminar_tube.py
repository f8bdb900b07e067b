"""The laminar tube: a pipe or a slit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.annotations import ByName
from molino.core.arguments import checked
from molino.core.checks import require_passed
from molino.core.errors import InputError
from molino.core.fields.laminar_run import LaminarInTime, LaminarRun
from molino.core.fields.laminar_specification import LaminarTubeFields
from molino.core.fields.laminar_tracer import LaminarTracer
from molino.core.fields.march import March
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.units import QuantityLike

_LEAST_NODES, _MOST_NODES = 4, 200


@dataclass(frozen=True, eq=False)
class LaminarTube(LaminarTubeFields):
    """A pipe or a slit in laminar flow: a parabolic velocity, radial diffusion, local reaction.

        u(r) dc_i/dz = D_i (1/r) d(r dc_i/dr)/dr + sum_j nu_ij r_j
        u(r) C dT/dz = k (1/r) d(r dT/dr)/dr - sum_j dH_j r_j

    in a pipe; in a slit without the factors r (R. B. Bird, W. E. Stewart, E. N. Lightfoot, Transport Phenomena, 2nd ed.
    2002, chapters 2, 12 and 18). The density is constant. Axial diffusion is ignored.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
        A liquid, or a dilute gas of constant density: given with concentrations and a flow, without P.
    diameter : optional
        Inner diameter of a pipe.
    gap, width : optional
        Of a slit between two plates, instead.
    length : quantity
    diffusivity : quantity, or mapping of species to quantity
        Of the species; by default zero.
    conductivity : thermal conductivity, optional
        Of the fluid; needed with an energy balance.
    T : temperature, optional
        Prescribed everywhere; by default that of the feed. Not given with an energy balance.
    heat : "isothermal" or "adiabatic"
        By default isothermal, or determined by the wall.
    wall_T : temperature, optional
        Of the wall.
    wall_flux : heat flux, optional
        Into the fluid through the wall, "2 kW/m2".
    entrance : "developed" or "developing"
        A parabolic velocity from the inlet, or one that develops from a flat profile (needs viscosity and density).
    viscosity : optional
        For the pressure drop, and for a developing velocity.
    name : str
    show : mapping of kind to unit

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> pipe = mo.fields.LaminarTube(chem, feed, diameter="20 mm", length="16 m")
    >>> round(pipe.run().conversion("A"), 4)
    0.5585
    """

    @checked
    def run(self, points: int = 101, nodes: int = 32) -> LaminarRun:
        """Integrate the balances from the inlet to the end.

        Parameters
        ----------
        points : int
            Rows along the tube.
        nodes : int
            Across half of it; the result states its difference from two thirds as many.

        Raises
        ------
        InputError
            If points or nodes are invalid, or constants are unknown.
        SolveError
            If the integration fails.
        """
        self.spec.plug.spec.require_known()
        self.spec.check_counts(points, nodes)
        grid = March(self, nodes)
        coarse = March(self, max(2 * nodes // 3, _LEAST_NODES))
        z = np.linspace(0.0, self.spec.length, points)
        rows, gained = grid.run(z)
        ends = [march.cups(found)[-1] for march, found in ((coarse, coarse.run(z[[0, -1]])[0]), (grid, rows))]
        size = max(float(np.max(np.abs(ends[1][: len(self.chemistry.names)]))), 1e-300)
        error = float(np.max(np.abs(ends[0] - ends[1])[: len(self.chemistry.names)])) / size
        run = grid.result(z, rows, gained, error)
        require_passed(run.checks, self.label, "give more nodes")
        return run

    @checked
    def follow(
        self,
        time: QuantityLike,
        contents: ByName | None = None,
        cells: int = 60,
        nodes: int = 10,
        points: int = 101,
        progress: Callable[[float], None] | None = None,
    ) -> LaminarInTime:
        """Integrate the tube over time, from its initial contents.

        Cells along the tube, with the limiter of van Leer, times nodes across; of a developed velocity.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            Initial contents; by default the feed.
        cells, nodes : int
        points : int
            Number of evenly spaced moments of the result.
        progress : callable, optional
            Called with the fraction of the time that is done.

        Raises
        ------
        InputError
            If an argument is invalid, or the velocity develops.
        SolveError
            If the integration fails.
        """
        self.spec.plug.spec.require_known()
        self.spec.check_counts(points, nodes)
        if not 4 <= cells <= 2000:
            raise InputError(f"cells = {cells}", self.label, "give a whole number from 4 to 2000")
        if self.entrance == "developing":
            raise InputError("over time the velocity is developed", self.label, "give entrance='developed'")
        end = units.positive(time, "time", f"{self.label}, time").si
        times, fewer = np.linspace(0.0, end, points), max(2 * nodes // 3, _LEAST_NODES)
        coarse = March(self, fewer).follow(times, contents, max(cells // 2, 2), None, None)
        run = March(self, nodes).follow(times, contents, cells, progress, coarse)
        require_passed(run.checks, f"{self.label} over time", "give more cells and nodes")
        return run

    def tracer_moments(self, nodes: int = 32, diffusivity: QuantityLike | None = None) -> np.ndarray:
        """Mean, second and third moment about the mean, in s, s^2 and s^3, of the outlet after a pulse of tracer.

        By the moments of the transform, u dm_k/dz = (diffusion of m_k) + k m_(k-1) (R. Aris, Proc. R. Soc. A 235 (1956)
        67), in the eigenvectors of radial diffusion and about the mean, so that no digits cancel.

        Parameters
        ----------
        nodes : int
        diffusivity : diffusivity, optional
            Of the tracer; by default the largest of the species. Without diffusion only the mean is finite.
        """
        return LaminarTracer(self, diffusivity).moments(nodes)

    def distribution(
        self, diffusivity: QuantityLike | None = None, progress: Callable[[float], None] | None = None
    ) -> ResidenceTimeDistribution:
        """The residence time distribution of a tracer, from the transform of a pulse.

        Without diffusion that of the developed velocity in closed form.

        Parameters
        ----------
        diffusivity : diffusivity, optional
            Of the tracer; by default the largest of the species.
        progress : callable, optional
            Called with 1 at the end.

        Raises
        ------
        InputError
            In a slit without diffusion, or if the diffusion is so small that no tracer leaves the wall.
        """
        return LaminarTracer(self, diffusivity).distribution(progress)

    def __str__(self) -> str:
        shape = f"pipe of diameter {self.diameter}" if self.geometry == "pipe" else f"slit {self.gap} x {self.width}"
        walls = [f"wall at {self.wall_T}"] if self.wall_T is not None else []
        walls += [f"heat flux {self.wall_flux}"] if self.wall_flux is not None else []
        walls += [self.heat] if self.heat == "adiabatic" else []
        return ", ".join([f"{self.title}, {shape}, length {self.length} fed {self.feed}", *walls])
