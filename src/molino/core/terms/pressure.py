"""Pressure drop along a tube: in a packed bed, or by friction on the wall of an empty tube."""

from __future__ import annotations

from dataclasses import MISSING, dataclass

from molino.core.dual import Number, log
from molino.core.errors import Faults
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import QuantityField, quantity, read_fields


@dataclass(frozen=True, eq=False)
class PressureDrop(Frozen, Printed):
    """The pressure drop along a tube.

    In a packed bed, if the vessel's catalyst has a particle diameter:

        dP/dz = -(150 mu (1 - e)^2/(e^3 d_p^2) u + 1.75 (1 - e)/(e^3 d_p) rho u^2)

    with the superficial velocity u (S. Ergun, Chem. Eng. Prog. 48 (1952) 89). In an empty tube:

        dP/dz = -f rho u^2/(2 d)

    with the friction factor of S. W. Churchill (Chem. Eng. 84 (1977) 91), which covers laminar and turbulent flow and
    rough walls. The acceleration of an expanding gas is ignored; where it would be significant the bed is reported to
    choke.

    Parameters
    ----------
    viscosity : quantity
        Of the fluid, "0.02 mPa*s", constant.
    roughness : optional
        Of the wall of an empty tube, "0.05 mm"; by default smooth.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> species = [mo.Species(s, molar_mass="30 g/mol") for s in "AB"]
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/s"), species=species)
    >>> feed = mo.Feed({"A": "1 mol/s"}, T="500 K", P="5 bar")
    >>> drop = mo.PressureDrop("0.02 mPa*s")
    >>> tube = mo.PlugFlow(chem, feed, diameter="50 mm", length="10 m", pressure_drop=drop)
    >>> bool(tube.run().stream_out().P < 5e5)
    True
    """

    viscosity: QuantityField = quantity("viscosity", MISSING)
    roughness: QuantityField = quantity("diameter", 0.0, sign="nonnegative")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "pressure drop")
        faults.raise_any()

    def packed(self, voidage: float, particle: float) -> tuple[float, float]:
        """The two resistances of Ergun's equation: dP/dz = -(first u + second rho u^2)."""
        solid = 1 - voidage
        viscous = 150 * self.viscosity.si * solid**2 / (voidage**3 * particle**2)
        return viscous, 1.75 * solid / (voidage**3 * particle)

    def empty(self, mass_flux: Number, diameter: Number) -> tuple[Number, Number]:
        """The same for an empty tube; the Reynolds number is constant along it."""
        reynolds = mass_flux * diameter / self.viscosity.si
        rough = 0.27 * self.roughness.si / diameter
        first = (2.457 * log(1 / ((7 / reynolds) ** 0.9 + rough))) ** 16
        second = (37530 / reynolds) ** 16
        factor = 8 * ((8 / reynolds) ** 12 + (first + second) ** -1.5) ** (1 / 12)
        return 0.0, factor / (2 * diameter)

    def __str__(self) -> str:
        return f"pressure drop at a viscosity of {self.viscosity}"
