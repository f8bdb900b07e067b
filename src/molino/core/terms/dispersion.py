"""Axial dispersion of the flow along a tube: given, or by published correlations."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from molino.core.dual import Number, value_of
from molino.core.errors import Faults
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, option, quantity, read_fields
from molino.core.terms.pressure import PressureDrop

CORRELATIONS = ("laminar", "turbulent", "packed bed")
_TRANSITION = (2100.0, 4000.0)
"""Reynolds numbers below which flow in a pipe is laminar, and above which it is turbulent."""


@dataclass(frozen=True)
class FlowInTube:
    """The properties of a flow for the correlations, in SI: superficial velocity, diameters, voidage and density."""

    velocity: Number
    diameter: Number
    length: Number
    voidage: float = 1.0
    particle: float | None = None
    density: Number | None = None


@dataclass(frozen=True, eq=False)
class Dispersion(Frozen, Printed):
    """Axial dispersion along a tube: a coefficient, a Péclet number, or a correlation.

    Laminar flow in an empty pipe that is long enough for a uniform radial profile, with the molecular diffusivity D_m

        D = D_m + u^2 d^2/(192 D_m)

    (G. Taylor, Proc. R. Soc. A 219 (1953) 186; R. Aris, Proc. R. Soc. A 235 (1956) 67). Turbulent flow in an empty
    pipe, with the friction factor f of Churchill,

        D = 5.05 d u sqrt(f/8)

    (G. Taylor, Proc. R. Soc. A 223 (1954) 446). Packed beds, with the particle diameter d_p, the velocity v = u/e
    between the particles, and the diffusivity D_m of a gas,

        D/(v d_p) = 0.3/(u d_p/D_m) + 0.5/(1 + 3.8/(u d_p/D_m))

    or the viscosity of a liquid, D/(v d_p) = e/(0.2 + 0.011 Re^0.48), Re = u d_p rho/mu (C. Y. Wen, L. T. Fan, Models
    for Flow Systems and Chemical Reactors, 1975, ch. 5).

    Parameters
    ----------
    coefficient : diffusivity, optional
        D in the fluid (in a bed: between the particles), "3 cm2/s".
    peclet : number, optional
        u L/D over the length of the tube, instead of a coefficient.
    correlation : str, optional
        "laminar", "turbulent" or "packed bed", instead of a coefficient.
    diffusivity, viscosity : optional
        Of the fluid, for the correlations.
    roughness : optional
        Of the wall of an empty pipe; by default smooth.
    heat : diffusivity, optional
        The coefficient for heat; by default that of mass.
    conductivity : thermal conductivity, optional
        Along the tube, per area of its cross-section, instead of a coefficient for heat.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> print(mo.Dispersion(peclet=40))
    dispersion with a Péclet number of 40
    """

    coefficient: QuantityField = quantity("diffusivity")
    peclet: QuantityField = quantity("number")
    correlation: ReadField = option(None, CORRELATIONS)
    diffusivity: QuantityField = quantity("diffusivity")
    viscosity: QuantityField = quantity("viscosity")
    roughness: QuantityField = quantity("diameter", 0.0, sign="nonnegative")
    heat: QuantityField = quantity("diffusivity")
    conductivity: QuantityField = quantity("thermal conductivity")
    _asks: ClassVar[dict[str, str]] = {"laminar": "diffusivity", "turbulent": "viscosity"}

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "dispersion")
        given = [name for name in ("coefficient", "peclet", "correlation") if getattr(self, name)]
        if not given:
            advice = "give coefficient='3 cm2/s', peclet=40, or correlation='packed bed'"
            faults.add("dispersion", "no dispersion coefficient is given", advice)
        elif len(given) > 1:
            faults.add("dispersion", f"{' and '.join(given)} specify the same thing twice", "give one of them")
        if self.heat is not None and self.conductivity is not None:
            faults.add("dispersion", "heat and conductivity specify the same thing twice", "give one of them")
        asked = self._asks.get(self.correlation)
        if asked is not None and getattr(self, asked) is None:
            faults.add("dispersion", f"the correlation '{self.correlation}' takes a {asked}", f"give {asked}=...")
        faults.raise_any()

    def faults(self, flow: FlowInTube) -> list[tuple[str, str]]:
        """What a correlation lacks of a flow: the fault and its remedy."""
        found = []
        if not self.peclet and not value_of(flow.diameter) > 0:
            found.append(("a dispersion coefficient needs the diameter", "give it, or peclet=... instead"))
        if self.correlation == "packed bed":
            if flow.particle is None:
                found.append(("there is no packing", "give the catalyst a particle_diameter and its voidage"))
            if self.diffusivity is None and self.viscosity is None:
                found.append(
                    (
                        "the correlation 'packed bed' needs the diffusivity of a gas, or the viscosity of a liquid",
                        "give one of them",
                    )
                )
        if self.takes_density and flow.density is None:
            found.append(("the density is unknown", "give it to the feed, or molar masses to the species"))
        return found

    @property
    def takes_density(self) -> bool:
        return self.correlation == "turbulent" or (self.correlation == "packed bed" and self.diffusivity is None)

    def per_velocity(self, flow: FlowInTube, given: Mapping[str, Number] | None = None) -> Number:
        """D over the velocity in the fluid, in m; with another coefficient or Péclet number if given."""
        inside, given = flow.velocity / flow.voidage, given or {}
        if self.peclet is not None:
            return flow.length / given.get("peclet", self.peclet.si)
        if self.coefficient is not None:
            return given.get("dispersion", self.coefficient.si) / inside
        if self.correlation == "laminar":
            molecular = self.diffusivity.si
            return (molecular + flow.velocity**2.0 * flow.diameter**2.0 / (192 * molecular)) / inside
        if self.correlation == "turbulent":
            _, per = PressureDrop(self.viscosity, self.roughness).empty(flow.velocity * flow.density, flow.diameter)
            factor = per * 2 * flow.diameter
            return 5.05 * flow.diameter * (factor / 8) ** 0.5
        assert flow.particle is not None
        if self.diffusivity is not None:
            both = flow.velocity * flow.particle / self.diffusivity.si
            return flow.particle * (0.3 / both + 0.5 / (1 + 3.8 / both))
        Re = flow.velocity * flow.particle * flow.density / self.viscosity.si
        return flow.particle * flow.voidage / (0.2 + 0.011 * Re**0.48)

    def warning(self, flow: FlowInTube) -> str:
        """A statement if a correlation is used beyond its range; otherwise empty."""
        if self.correlation == "packed bed" and self.diffusivity is not None:
            both = float(value_of(flow.velocity * (flow.particle or 0.0) / self.diffusivity.si))
            if not 0.002 <= both <= 900:
                return f"the correlation for gases in packed beds is valid for Re Sc from 0.002 to 900, here {both:.3g}"
        elif self.correlation == "packed bed" and flow.density is not None:
            Re = float(value_of(flow.velocity * (flow.particle or 0.0) * flow.density / self.viscosity.si))
            if not 1e-3 <= Re <= 1e3:
                return f"the correlation for liquids in packed beds is valid for Re from 0.001 to 1000, here {Re:.3g}"
        elif self.correlation == "laminar":
            even = float(value_of(self.diffusivity.si * flow.length / (flow.velocity * (flow.diameter / 2) ** 2.0)))
            if even < 0.5:
                return (
                    f"the radial profile is not uniform: D_m t/r^2 is {even:.2g}, and the laminar correlation "
                    "holds from some 0.5 up"
                )
            if self.viscosity is not None and flow.density is not None:
                Re = float(value_of(flow.velocity * flow.diameter * flow.density / self.viscosity.si))
                if Re > _TRANSITION[0]:
                    return f"the flow is not laminar: Re = {Re:.3g}"
        elif self.correlation == "turbulent" and flow.density is not None:
            Re = float(value_of(flow.velocity * flow.diameter * flow.density / self.viscosity.si))
            if Re < _TRANSITION[1]:
                return f"the flow is not turbulent: Re = {Re:.3g}"
        return ""

    def __str__(self) -> str:
        if self.peclet is not None:
            return f"dispersion with a Péclet number of {self.peclet}"
        if self.coefficient is not None:
            return f"dispersion of {self.coefficient}"
        return f"dispersion by the correlation '{self.correlation}'"
