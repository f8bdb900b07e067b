"""The laminar pipe and slit."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from scipy.linalg import expm
from scipy.special import roots_legendre

from molino.core import units
from molino.core.arguments import checked
from molino.core.checks import Check, require_passed
from molino.core.chemistry.chemistry import Chemistry
from molino.core.errors import Faults, InputError
from molino.core.fields.field import Field
from molino.core.fields.laminar_run import LaminarInTime, LaminarRun
from molino.core.fields.march import March
from molino.core.fields.radial import radial
from molino.core.frozen import settle
from molino.core.mixing.distribution import RINGING, ResidenceTimeDistribution
from molino.core.mixing.flow_models import LaminarFlow
from molino.core.mixing.inversion import FEW, inverted
from molino.core.schema import option, quantity, read_fields
from molino.core.units import Value
from molino.core.vessels.feed import Feed, is_molar
from molino.core.vessels.plug_flow import PlugFlow

_LEAST_NODES, _MOST_NODES = 4, 200
_TRACER_NODES, _TRACER_TIMES = (16, 24, 36, 54), 101
"""Nodes across for a tracer, in turn until its curve no longer changes, and the points of the curve."""
_AT_ONCE = 2_000_000
"""Elements of the matrices whose exponentials are computed in one call."""
_AGREE, _EVERY = 0.02, 5
"""Difference of two such curves, as a share of the peak, at every fifth point, with which the finer one is taken."""
_NARROW = 2.0
"""Variance over the square of the mean above which the tail of a tracer is not followed."""
_FAR, _UNIT_NODES = 20.0, 40
"""Exponents up to which integrals of exponentials are by quadrature, where closed forms would lose digits."""


@dataclass(frozen=True, eq=False)
class LaminarTube(Field):
    """A pipe or a slit in laminar flow: a parabolic velocity, diffusion across, reaction where the fluid is.

        u(r) dc_i/dz = D_i (1/r) d(r dc_i/dr)/dr + sum_j nu_ij r_j
        u(r) C dT/dz = k (1/r) d(r dT/dr)/dr - sum_j dH_j r_j

    in a pipe; in a slit without the factors r (R. B. Bird, W. E. Stewart, E. N. Lightfoot, Transport Phenomena, 2nd ed.
    2002, chapters 2, 12 and 18). The density is constant. Along the tube nothing diffuses.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
        A liquid, or a gas thin enough that its density stays: given with concentrations and a flow, without P.
    diameter : optional
        Inner diameter of a pipe.
    gap, width : optional
        Of a slit between two plates, instead.
    length : quantity
    diffusivity : quantity, or mapping of species to quantity
        Of the species; nothing diffuses if left out.
    conductivity : thermal conductivity, optional
        Of the fluid; needed where the temperature is not prescribed.
    T : temperature, optional
        Prescribed everywhere; that of the feed if left out. Not given where the temperature is not prescribed.
    heat : "isothermal" or "adiabatic"
        Left out, isothermal, or what the wall says.
    wall_T : temperature, optional
        Of the wall.
    wall_flux : heat flux, optional
        Into the fluid through the wall, "2 kW/m2".
    entrance : "developed" or "developing"
        Whether the velocity is parabolic from the inlet on, or develops from a flat profile (needs viscosity and
        density).
    viscosity : optional
        For the pressure drop, and for a velocity that develops.
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
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> pipe = mo.LaminarTube(chem, feed, diameter="20 mm", length="16 m")
    >>> round(pipe.run().conversion("A"), 4)
    0.5585
    """

    noun: ClassVar[str] = "laminar tube"
    chemistry: Chemistry
    feed: Feed
    diameter: Any = quantity("diameter")
    gap: Any = quantity("diameter")
    width: Any = quantity("length")
    length: Any = quantity("length")
    diffusivity: Any = None
    conductivity: Any = quantity("thermal conductivity")
    T: Any = quantity("temperature")
    heat: str | None = None
    wall_T: Any = quantity("temperature")
    wall_flux: Any = quantity("heat flux", sign="any")
    entrance: str = option("developed", ("developed", "developing"))
    viscosity: Any = quantity("viscosity")
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, self.label)
        with faults.at(self.label):
            settle(self, diffusivity=self._read_diffusivities())
        self._check_shape(faults)
        ways = [n for n in ("heat", "wall_T", "wall_flux") if getattr(self, n) is not None]
        if len(ways) > 1:
            faults.add(self.label, f"{' and '.join(ways)} specify the same thing twice", "give one of them")
        if self.heat not in (None, "isothermal", "adiabatic"):
            advice = "give 'adiabatic', or wall_T, or wall_flux"
            faults.add(self.label, f"heat = {self.heat!r} is not known in a laminar tube", advice)
        if self.is_non_isothermal and self.conductivity is None:
            faults.add(self.label, "the conductivity of the fluid is not given", "give it, like '0.6 W/m/K'")
        if self.entrance == "developing" and self.viscosity is None:
            faults.add(self.label, "a velocity that develops takes the viscosity", "give viscosity='1 mPa*s'")
        if self.entrance == "developing" and self._density is None:
            faults.add(self.label, "a velocity that develops takes the density", "give density to the feed")
        faults.raise_any()
        plug = self._plug
        if not plug._phase.carries_volume:
            message = "a laminar tube holds a fluid of constant density"
            faults.add(self.label, message, "give concentrations and a flow, without P and without a model")
        faults.raise_any()

    def _check_shape(self, faults: Faults) -> None:
        if self.length is None:
            faults.add(self.label, "no length is given", "give length='16 m'")
        if (self.diameter is None) == (self.gap is None):
            message = "both diameter and gap are given" if self.gap is not None else "neither diameter nor gap is given"
            faults.add(self.label, message, "give the diameter of a pipe, or gap and width of a slit")
        if (self.gap is None) != (self.width is None):
            faults.add(self.label, "a slit has both gap and width", "give both")

    @property
    def geometry(self) -> str:
        """'pipe' or 'slit'."""
        return "pipe" if self.diameter is not None else "slit"

    @property
    def is_non_isothermal(self) -> bool:
        """Whether its temperature follows from a balance of energy."""
        return self.heat == "adiabatic" or self.wall_T is not None or self.wall_flux is not None

    @property
    def _density(self) -> float | None:
        density = self.feed.density
        return None if density is None or is_molar(density) else float(density.si)

    @property
    def _radius(self) -> float:
        """Radius of the pipe, or half the gap, in m."""
        return float((self.diameter if self.diameter is not None else self.gap).si) / 2

    @property
    def _area(self) -> float:
        return math.pi * self._radius**2 if self.geometry == "pipe" else 2 * self._radius * float(self.width.si)

    @property
    def _volume(self) -> float:
        return self._area * float(self.length.si)

    @property
    def _velocity(self) -> float:
        """Mean velocity in m/s."""
        return float(self._plug._fed.volume) / self._area

    @cached_property
    def _plug(self) -> PlugFlow:
        """The same volume in plug flow, which reads feed, chemistry and heat."""
        heat = "adiabatic" if self.is_non_isothermal else None
        return PlugFlow(
            self.chemistry, self.feed, volume=Value(self._volume, "m^3"), T=self.T, heat=heat, name=self.label,
            show=self.show,
        )  # fmt: skip

    @property
    def Reynolds(self) -> float:
        """With the mean velocity and the hydraulic diameter; nan without viscosity and density."""
        if self.viscosity is None or self._density is None:
            return math.nan
        wide = 2 * self._radius if self.geometry == "pipe" else 4 * self._radius
        return self._velocity * wide * self._density / float(self.viscosity.si)

    @checked
    def run(self, points: int = 101, nodes: int = 32) -> LaminarRun:
        """March from the inlet to the end.

        Parameters
        ----------
        points : int
            Rows along the tube.
        nodes : int
            Across half of it; the result says by how much two thirds as many change it.

        Raises
        ------
        InputError
            If points or nodes are none, or constants are still unknown.
        SolveError
            If the integration cannot go on.
        """
        self._plug._require_known()
        self._check_counts(points, nodes)
        grid = March(self, nodes)
        coarse = March(self, max(2 * nodes // 3, _LEAST_NODES))
        z = np.linspace(0.0, float(self.length.si), points)
        rows, gained = grid.run(z)
        ends = [march.cups(found)[-1] for march, found in ((coarse, coarse.run(z[[0, -1]])[0]), (grid, rows))]
        size = max(float(np.max(np.abs(ends[1][: len(self.chemistry.names)]))), 1e-300)
        error = float(np.max(np.abs(ends[0] - ends[1])[: len(self.chemistry.names)])) / size
        run = grid.result(z, rows, gained, error)
        require_passed(run.checks, self.label, "give more nodes")
        return run

    @checked
    def follow(
        self, time: Any, contents: Mapping[str, Any] | None = None, cells: int = 60, nodes: int = 10,
        points: int = 101, progress: Callable[[float], None] | None = None,
    ) -> LaminarInTime:  # fmt: skip
        """Follow the tube over time, from what fills it to its steady state.

        Cells along the tube, with the limiter of van Leer, times nodes across; of a developed velocity.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            What fills it at first; the feed if left out.
        cells, nodes : int
        points : int
            Moments at which it is looked at, evenly spaced.
        progress : callable, optional
            Called now and then with the share of the time that is done.

        Raises
        ------
        InputError
            If something of it is none, or the velocity develops.
        SolveError
            If the integration cannot go on.
        """
        self._plug._require_known()
        self._check_counts(points, nodes)
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

    def _check_counts(self, points: int, nodes: int) -> None:
        faults = Faults()
        if points < 2:
            faults.add(self.label, f"points = {points}", "give 2 or more")
        if not _LEAST_NODES <= nodes <= _MOST_NODES:
            faults.add(self.label, f"nodes = {nodes}", f"give a whole number from {_LEAST_NODES} to {_MOST_NODES}")
        faults.raise_any()

    def tracer_transform(self, s: np.ndarray, nodes: int = 32, diffusivity: Any = None) -> np.ndarray:
        """The Laplace transform of what leaves after a pulse of tracer, of the shape of s (in 1/s).

        Parameters
        ----------
        s : array
        nodes : int
        diffusivity : diffusivity, optional
            Of the tracer; the largest of the species if left out.
        """
        grid, matrix = radial(self.geometry, nodes), self._spread_of(nodes, diffusivity)
        flat, cup = np.asarray(s, dtype=complex).ravel(), grid.weights * grid.developed
        slowness, found = np.diag(1 / (self._velocity * grid.developed)), []
        for part in np.array_split(flat, 1 + len(flat) * nodes**2 // _AT_ONCE):
            steps = matrix[None] + part[:, None, None] * slowness[None]
            found.append(expm(-steps * float(self.length.si)).sum(axis=2) @ cup)
        return np.concatenate(found).reshape(np.shape(s))

    def _spread_of(self, nodes: int, diffusivity: Any) -> np.ndarray:
        """Diffusion across over the velocity, per length, shape (nodes, nodes)."""
        grid = radial(self.geometry, nodes)
        per = self._tracer_diffusivity(diffusivity) / self._radius**2 / self._velocity
        return np.asarray(per * grid.sealed / (grid.weights * grid.developed)[:, None])

    def tracer_moments(self, nodes: int = 32, diffusivity: Any = None) -> np.ndarray:
        """Mean, second and third moment about the mean, in s, s^2 and s^3, of what leaves after a pulse of tracer.

        By the moments of the transform, u dm_k/dz = (diffusion of m_k) + k m_(k-1) (R. Aris, Proc. R. Soc. A 235 (1956)
        67), in the eigenvectors of diffusion across and about the mean, so that no digits cancel.

        Parameters
        ----------
        nodes : int
        diffusivity : diffusivity, optional
            Of the tracer; the largest of the species if left out. Without diffusion only the mean is finite.
        """
        grid, length = radial(self.geometry, nodes), float(self.length.si)
        root = np.sqrt(grid.weights * grid.developed)
        decay, vectors = np.linalg.eigh(root[:, None] * self._spread_of(nodes, diffusivity) / root)
        x = np.maximum(decay[1:], 0.0) * length  # the first is the uniform profile, which does not decay
        slowness = length / (self._velocity * grid.developed)
        mean = length / self._velocity
        if not x[0] > 0:
            return np.array([mean, math.inf, math.inf])
        coupled = vectors[:, 1:].T @ ((slowness - mean)[:, None] * vectors[:, 1:])
        a = vectors[:, 1:].T @ (slowness * root)
        variance = 2 * a**2 @ _twice_integrated(x)
        return np.array([mean, variance, 6 * float(a @ (coupled * _convolved(x)) @ a)])

    def distribution(self, diffusivity: Any = None) -> ResidenceTimeDistribution:
        """The distribution of residence times of a tracer, from the transform of a pulse.

        Without diffusion that of the developed velocity in closed form.

        Parameters
        ----------
        diffusivity : diffusivity, optional
            Of the tracer; the largest of the species if left out.

        Raises
        ------
        InputError
            In a slit without diffusion, or where so little diffuses that no tracer leaves the wall.
        """
        tau = self._volume / float(self._plug._fed.volume)
        mean, variance, third = self.tracer_moments(_TRACER_NODES[-1], diffusivity)
        if not variance < _NARROW * tau**2:
            if self.geometry == "pipe":
                return LaminarFlow().distribution(tau, self.show)
            message = "with so little diffusion next to nothing leaves from the wall, and the tail has no end"
            raise InputError(message, self.label, "give the tracer a diffusivity, or take a longer tube")
        times = np.linspace(0.0, mean + 8 * math.sqrt(variance), _TRACER_TIMES)
        nodes, apart = self._tracer_nodes(times, diffusivity)
        where = f"{self.label}, residence times"
        advice = "give more diffusion, or take the closed form mo.LaminarFlow() for a pipe"
        settled = Check(
            "E on fewer nodes", apart, _AGREE, f"the largest difference, of the peak, from those before {nodes}"
        )
        require_passed([settled], where, advice)
        E, F = self._pulse(times, nodes, diffusivity)
        lowest = max(-float(E.min() / E.max()), 0.0)
        verified = (settled, Check("E not negative", lowest, RINGING, "the curve as it was computed"))
        require_passed(verified, where, advice)
        F = np.maximum.accumulate(np.clip(F, 0.0, 1.0))
        E = np.where((F > 1e-6) & (F < 1 - 1e-9), np.maximum(E, 0.0), 0.0)
        raw = np.array([mean, variance + mean**2, third + 3 * mean * variance + mean**3])
        notes = {"from": f"the transform of a pulse through the {self.geometry}, {nodes} nodes across"}
        rate = float(E[-1] / (1 - F[-1])) if F[-1] < 1 - 1e-9 else math.nan
        return ResidenceTimeDistribution(
            times,
            E,
            F,
            raw,
            rate,
            self._plug.volume,
            self.feed.flow,
            notes=notes,
            display=self._display,
            verified=verified,
        )

    def _pulse(self, times: np.ndarray, nodes: int, diffusivity: Any) -> tuple[np.ndarray, np.ndarray]:
        """E and F at times from zero on, as the inversion gives them."""
        held: list[np.ndarray] = []

        def transform(s: np.ndarray) -> np.ndarray:
            held.append(self.tracer_transform(s, nodes, diffusivity))
            return held[0]

        E = inverted(transform, times[1:], FEW)
        F = inverted(lambda s: held[0] / s, times[1:], FEW)
        return np.append(0.0, E), np.append(0.0, F)

    def _tracer_nodes(self, times: np.ndarray, diffusivity: Any) -> tuple[int, float]:
        """Nodes across with which E no longer changes, and its largest difference from that of the number before, as a
        share of its peak."""
        some = times[::_EVERY]
        before = self._pulse(some, _TRACER_NODES[0], diffusivity)[0]
        for nodes in _TRACER_NODES[1:]:
            E = self._pulse(some, nodes, diffusivity)[0]
            apart = float(np.max(np.abs(E - before)) / np.max(E))
            if apart <= _AGREE:
                break
            before = E
        return nodes, apart

    def __str__(self) -> str:
        shape = f"pipe of diameter {self.diameter}" if self.geometry == "pipe" else f"slit {self.gap} x {self.width}"
        walls = [f"wall at {self.wall_T}"] if self.wall_T is not None else []
        walls += [f"heat flux {self.wall_flux}"] if self.wall_flux is not None else []
        walls += [self.heat] if self.heat == "adiabatic" else []
        return ", ".join([f"{self.title}, {shape}, length {self.length} fed {self.feed}", *walls])


def _twice_integrated(x: np.ndarray) -> np.ndarray:
    """The integral of (1 - exp(-x y))/x over y from 0 to 1."""
    y, w = _unit_quadrature()
    far = np.maximum(x, _FAR)
    return np.asarray(np.where(x > _FAR, (far + np.expm1(-far)) / far**2, _risen(np.minimum(x, _FAR), y) @ w))


def _convolved(x: np.ndarray) -> np.ndarray:
    """The integral over y from 0 to 1 of g_i(1 - y) g_j(y) with g_i(y) = (1 - exp(-x_i y))/x_i, shape (x, x)."""
    y, w = _unit_quadrature()
    near = np.minimum(x, _FAR)
    small = (_risen(near, 1 - y) * w) @ _risen(near, y).T
    far = np.maximum(x, 1e-300)
    i, j = far[:, None], far[None]
    high, low = np.maximum(i, j), np.minimum(i, j)
    gap = high - low
    apart = np.exp(-low) * np.where(gap > 1e-8, -np.expm1(-gap) / np.maximum(gap, 1e-300), 1.0)
    closed = (1 + np.expm1(-i) / i + np.expm1(-j) / j + apart) / (i * j)
    return np.asarray(np.where(high > _FAR, closed, small))


def _risen(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(1 - exp(-x y))/x, shape (x, y)."""
    some = np.maximum(x, 1e-300)[:, None]
    return np.asarray(-np.expm1(-some * y) / some)


def _unit_quadrature() -> tuple[np.ndarray, np.ndarray]:
    y, w = roots_legendre(_UNIT_NODES)
    return (y + 1) / 2, w / 2
