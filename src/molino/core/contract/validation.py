"""Reading the fields of vessels, and their common checks."""

from __future__ import annotations

from collections.abc import Iterable

from molino.core import units
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.contents.feed import check_contents, check_species
from molino.core.contract.specification import Specification
from molino.core.contract.vessel_fields import VesselFields
from molino.core.errors import Faults, InputError
from molino.core.frozen import settle
from molino.core.terms.catalyst import Catalyst, check_catalyst
from molino.core.terms.heat import Adiabatic, Duty, Jacket, Profile, read_heat
from molino.core.unit_tables import SI_UNITS
from molino.core.units import QuantityLike, Value


def read_vessel_heat(faults: Faults, vessel: VesselFields) -> None:
    """Read the given heat."""
    with faults.at():
        settle(vessel, heat=read_heat(vessel.heat, vessel.label))


def check_profile(T: QuantityLike, piecewise: PiecewiseLinear) -> None:
    """Raise InputError if a temperature and a profile of it are both given."""
    if T is not None:
        raise InputError(
            f"both T and a temperature profile from {piecewise.after(0.0):g} K are given", "", "give one of them"
        )


def check_vessel(
    faults: Faults, spec: Specification, species: Iterable[str] | None, temperature: Value | None, asks: str = "T"
) -> None:
    """The checks of every vessel: known species, a reaction that can start, a temperature and heats where needed.

    `asks` says which temperature it is.
    """
    vessel = spec.vessel
    if species is not None:
        with faults.at():
            if spec.is_kinetic:
                check_contents(species, spec.chemistry, spec.label, spec.is_closed)
            else:
                check_species(species, spec.chemistry, spec.label)
        if not faults.found:
            with faults.at(spec.label):
                spec.__dict__["fed"] = spec.mixture({})
    network = spec.chemistry.network
    if spec.is_kinetic:
        with faults.at(spec.label):
            check_catalyst(network, vessel.catalyst)
    packing = vessel.catalyst if isinstance(vessel.catalyst, Catalyst) else None
    for name in ("adsorption", "heat_capacity") if packing is not None and not spec.counts_packing else ():
        if getattr(packing, name) is not None:
            message = f"the {name.replace('_', ' ')} of a packing is used only in tubes that are followed over time"
            faults.add(spec.label, message, "leave it out")
    if spec.is_kinetic and network.by_temperature and temperature is None and not isinstance(vessel.heat, Profile):
        message = f"no temperature is given, and {', '.join(network.by_temperature)} depends on it"
        faults.add(spec.label, message, f"give {asks}, like '175 degC'")
    elif temperature is None and isinstance(vessel.heat, Adiabatic | Duty | Jacket):
        faults.add(spec.label, "no temperature is given for the energy balance", f"give {asks}, like '175 degC'")
    if spec.is_kinetic and network.by_pressure and species is not None and not spec.is_gas:
        message = f"a rate law needs the pressure {', '.join(network.by_pressure)}, but this vessel holds a liquid"
        faults.add(spec.label, message, "give P of a gas (in the feed or charge), or write it with concentrations")
    if not faults.found and not isinstance(vessel.heat, Profile | None):
        with faults.at(spec.label):
            spec.require_energy()
    if not faults.found and vessel.profiles:
        with faults.at():
            spec.check_profiles()
    for name, text in vessel.show.items():
        kind = name.replace("_", " ")
        with faults.at(f"{spec.label}, show"):
            if kind not in SI_UNITS:
                raise InputError(f"'{kind}' is not a kind of quantity", "", "kinds: " + ", ".join(SI_UNITS))
            units.expect(text, kind)


def check_catalyst_mass(vessel: VesselFields, mass: Value | None) -> None:
    """Raise InputError if a mass of catalyst is given without a bulk density."""
    if mass is not None and (vessel.catalyst is None or vessel.catalyst.bulk_density is None):
        message = "a catalyst mass is given, and the catalyst has no bulk density"
        raise InputError(message, "", "give catalyst=mo.Catalyst(bulk_density='850 kg/m3')")
