"""Molino: from a table of measured concentrations to a reactor that can be built.

    import molino as mo

Each name is loaded on first use, so that importing the package stays light.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

_HOME = {
    "Adiabatic": "core.vessels.heat",
    "Arrhenius": "core.chemistry.over_temperature",
    "Batch": "core.vessels.batch",
    "Catalyst": "core.vessels.catalyst",
    "Change": "core.vessels.changes",
    "Chemistry": "core.chemistry.network",
    "CubicEquation": "core.thermo.cubic",
    "Decay": "core.vessels.catalyst",
    "DistributedFeed": "core.vessels.walls",
    "Dosing": "core.vessels.semi_batch",
    "Exchanger": "core.vessels.steps",
    "Experiment": "core.fitting.experiments",
    "Experiments": "core.fitting.experiments",
    "Feed": "core.vessels.feed",
    "FromSpecies": "core.chemistry.thermochemistry",
    "HeatCapacity": "core.chemistry.heat_capacity",
    "InputError": "core.errors",
    "Jacket": "core.vessels.heat",
    "Library": "core.chemistry.library",
    "Membrane": "core.vessels.walls",
    "MolinoError": "core.errors",
    "Parallel": "core.vessels.steps",
    "PlugFlow": "core.vessels.plug_flow",
    "Pores": "core.vessels.catalyst",
    "PressureDrop": "core.vessels.pressure",
    "Programme": "core.vessels.heat",
    "Rates": "core.fitting.rates",
    "Reaction": "core.chemistry.reaction",
    "SemiBatch": "core.vessels.semi_batch",
    "SideFeed": "core.vessels.steps",
    "Signal": "core.fitting.signals",
    "SolveError": "core.errors",
    "Species": "core.chemistry.species",
    "StirredTank": "core.vessels.stirred_tank",
    "Train": "core.vessels.train",
    "UnitError": "core.errors",
    "Unknown": "core.chemistry.constants",
    "UnreachableError": "core.errors",
    "VantHoff": "core.chemistry.over_temperature",
    "compare": "core.design.comparison",
    "concentration": "core.vessels.metrics",
    "conversion": "core.vessels.metrics",
    "discriminate": "core.fitting.discrimination",
    "duty": "core.vessels.metrics",
    "effectiveness_factor": "core.vessels.catalyst",
    "evaluator": "core.design.evaluating",
    "figures": "desk.figures",
    "fit": "core.fitting.regression",
    "load_job": "desk.job.load",
    "look_up": "desk.tables.lookup",
    "pressure": "core.vessels.metrics",
    "read_chemistry": "desk.job.chemistry",
    "read_experiments": "desk.tables.experiments",
    "read_library": "desk.job.chemistry",
    "read_rates": "desk.tables.experiments",
    "read_species": "desk.tables.species",
    "screen_orders": "core.fitting.screening",
    "selectivity": "core.vessels.metrics",
    "size": "core.design.sizing",
    "sweep": "core.design.sweeping",
    "temperature": "core.vessels.metrics",
    "write_chemistry": "desk.job.chemistry",
    "yield_of": "core.vessels.metrics",
}

__all__ = [*_HOME]

if TYPE_CHECKING:
    from molino.core.chemistry.constants import Unknown
    from molino.core.chemistry.heat_capacity import HeatCapacity
    from molino.core.chemistry.library import Library
    from molino.core.chemistry.network import Chemistry
    from molino.core.chemistry.over_temperature import Arrhenius, VantHoff
    from molino.core.chemistry.reaction import Reaction
    from molino.core.chemistry.species import Species
    from molino.core.chemistry.thermochemistry import FromSpecies
    from molino.core.design.comparison import compare
    from molino.core.design.evaluating import evaluator
    from molino.core.design.sizing import size
    from molino.core.design.sweeping import sweep
    from molino.core.errors import InputError, MolinoError, SolveError, UnitError, UnreachableError
    from molino.core.fitting.discrimination import discriminate
    from molino.core.fitting.experiments import Experiment, Experiments
    from molino.core.fitting.rates import Rates
    from molino.core.fitting.regression import fit
    from molino.core.fitting.screening import screen_orders
    from molino.core.fitting.signals import Signal
    from molino.core.thermo.cubic import CubicEquation
    from molino.core.vessels.batch import Batch
    from molino.core.vessels.catalyst import Catalyst, Decay, Pores, effectiveness_factor
    from molino.core.vessels.changes import Change
    from molino.core.vessels.feed import Feed
    from molino.core.vessels.heat import Adiabatic, Jacket, Programme
    from molino.core.vessels.metrics import (
        concentration,
        conversion,
        duty,
        pressure,
        selectivity,
        temperature,
        yield_of,
    )
    from molino.core.vessels.plug_flow import PlugFlow
    from molino.core.vessels.pressure import PressureDrop
    from molino.core.vessels.semi_batch import Dosing, SemiBatch
    from molino.core.vessels.steps import Exchanger, Parallel, SideFeed
    from molino.core.vessels.stirred_tank import StirredTank
    from molino.core.vessels.train import Train
    from molino.core.vessels.walls import DistributedFeed, Membrane
    from molino.desk import figures
    from molino.desk.job.chemistry import read_chemistry, read_library, write_chemistry
    from molino.desk.job.load import load_job
    from molino.desk.tables.experiments import read_experiments, read_rates
    from molino.desk.tables.lookup import look_up
    from molino.desk.tables.species import read_species


def __getattr__(name: str) -> Any:
    home = _HOME.get(name)
    if home is None:
        raise AttributeError(f"module 'molino' has no attribute '{name}'")
    module = importlib.import_module(f"molino.{home}")
    found = module if name == "figures" else getattr(module, name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted([*globals(), *_HOME])
