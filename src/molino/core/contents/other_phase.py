"""The fluid of the other phase: the liquid of a gas, or the vapor of a liquid."""

from __future__ import annotations

from dataclasses import replace

import sympy as sp

from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.species import Species
from molino.core.contents.streams import Fluid
from molino.core.errors import InputError
from molino.core.thermo.phase_model import MODELS, PhaseModel, molar_volume
from molino.core.unit_tables import GAS_CONSTANT


def other_phase(fluid: Fluid) -> Fluid:
    """The liquid (ideal, with additive volumes) of a gas, or the vapor (an ideal gas) of a liquid.

    Enthalpies differ by the heats of vaporization, H = R T^2 d(ln P_i)/dT (B. P. E. Clapeyron, R. Clausius). A species
    without a vapor pressure is in one phase only.

    Raises
    ------
    InputError
        For a real gas, and for a liquid whose heat capacity is that of its volume.
    """
    phase = fluid.phase
    if phase.real is not None:
        message = "the liquid of a gas by a cubic equation of state is not computed in a train"
        raise InputError(message, fluid.label, "leave the model of the feed out: the gas is then ideal")
    if phase.energy is not None and phase.energy.carried:
        advice = "give heat_capacity to each species instead of the liquid"
        raise InputError("the heat capacity of the vapor is unknown", fluid.label, advice)
    sign = -1 if phase.is_gas else 1
    rises = (
        [r + sign * _vaporization(s) for r, s in zip(phase.energy.rises, fluid.species, strict=True)]
        if phase.energy
        else []
    )
    energy = None if phase.energy is None else replace(phase.energy, rises=tuple(rises))
    numbers = dict(fluid.numbers)
    if phase.is_gas:
        numbers |= {molar_volume(s.name): _volume(s) for s in fluid.species}
    model = MODELS[1 if phase.is_gas else 2]
    return replace(fluid, phase=PhaseModel(phase.species, model, energy), numbers=numbers, density=None)


def _vaporization(species: Species) -> sp.Expr:
    """The heat of vaporization over temperature."""
    if species.vapor_pressure is None:
        return sp.Integer(0)
    return GAS_CONSTANT * TEMPERATURE**2 * species.vapor_pressure.log(TEMPERATURE).diff(TEMPERATURE)


def _volume(species: Species) -> float:
    if species.has_molar_volume:
        return float(species.require("molar_volume", "a liquid").si)
    return 0.0 if species.vapor_pressure is None else float("nan")
