"""Molino: from a table of measured concentrations to a reactor that can be built.

    import molino as mo

Each name is loaded on first use, so that importing the package stays light.
"""

from __future__ import annotations

import builtins
import importlib
from typing import TYPE_CHECKING, Any

_HOME = {
    "ActivityModel": "core.thermo.activity",
    "Adiabatic": "core.vessels.heat",
    "Arrhenius": "core.chemistry.temperature_dependence",
    "Adsorption": "core.vessels.adsorption",
    "AtConversion": "core.vessels.at_conversion",
    "AtEquilibrium": "core.vessels.at_equilibrium",
    "AttainableRegion": "core.design.attainable",
    "AxialDispersion": "core.mixing.flow_models",
    "Baffle": "core.fields.openings",
    "Basin": "core.fields.basin",
    "BasinInTime": "core.fields.basin_run",
    "BasinRun": "core.fields.basin_run",
    "Batch": "core.vessels.batch",
    "BestTrain": "core.design.attainable",
    "Bootstrap": "core.fitting.bootstrap",
    "Branch": "core.vessels.steady_states",
    "BubbleColumn": "core.vessels.bubble_column",
    "Catalyst": "core.vessels.catalyst",
    "Change": "core.vessels.changes",
    "Chemistry": "core.chemistry.chemistry",
    "Comparison": "core.design.comparison",
    "Compartments": "core.mixing.flow_models",
    "CubicEquation": "core.thermo.cubic",
    "Deactivation": "core.vessels.catalyst",
    "Decomposition": "core.vessels.decomposition",
    "Discrimination": "core.fitting.discrimination",
    "DispersedTube": "core.vessels.dispersed_tube",
    "Dispersion": "core.vessels.dispersion",
    "DistributedFeed": "core.vessels.walls",
    "Dosing": "core.vessels.semi_batch",
    "Duty": "core.vessels.heat",
    "Equations": "core.chemistry.notation",
    "EquilibriumCurves": "core.design.equilibrium_curves",
    "Evaluator": "core.design.evaluator",
    "Exchanger": "core.vessels.train_steps",
    "Experiment": "core.fitting.experiments",
    "Experiments": "core.fitting.experiments",
    "Feed": "core.vessels.feed",
    "FilmReaction": "core.vessels.gas_phase",
    "Fit": "core.fitting.fit_result",
    "FlowComparison": "core.mixing.flow_fit",
    "FlowFit": "core.mixing.flow_fit",
    "FreeProfile": "core.design.free_profile",
    "FromSpecies": "core.chemistry.thermochemistry",
    "GasPhase": "core.vessels.gas_phase",
    "HeatCapacity": "core.chemistry.heat_capacity",
    "HeatSafety": "core.design.heat_safety",
    "Inlet": "core.fields.openings",
    "InputError": "core.errors",
    "InternalDiffusion": "core.vessels.catalyst",
    "Jacket": "core.vessels.heat",
    "LaminarFlow": "core.mixing.flow_models",
    "LaminarInTime": "core.fields.laminar_run",
    "LaminarRun": "core.fields.laminar_run",
    "LaminarTube": "core.fields.laminar_tube",
    "Library": "core.chemistry.library",
    "Membrane": "core.vessels.walls",
    "Metric": "core.vessels.metrics",
    "MixingBounds": "core.mixing.conversion",
    "MolinoError": "core.errors",
    "NextExperiment": "core.fitting.next_experiment",
    "Optimum": "core.design.optimum",
    "Outlet": "core.fields.openings",
    "Parallel": "core.vessels.train_steps",
    "PhaseEquilibrium": "core.thermo.phases",
    "PhaseSplit": "core.thermo.phases",
    "PlugFlow": "core.vessels.plug_flow",
    "PowerLaw": "core.fitting.rates",
    "Prediction": "core.fitting.screening",
    "PressureDrop": "core.vessels.pressure",
    "Profile": "core.vessels.heat",
    "ProfileLikelihood": "core.fitting.profile_likelihood",
    "Rates": "core.fitting.rates",
    "Reaction": "core.chemistry.reaction",
    "Recommendation": "core.design.recommending",
    "Recycle": "core.mixing.flow_models",
    "ResidenceTimeDistribution": "core.mixing.distribution",
    "Review": "core.chemistry.checks",
    "Run": "core.vessels.run",
    "RunawayBoundary": "core.design.heat_safety",
    "Screening": "core.fitting.screening",
    "SemiBatch": "core.vessels.semi_batch",
    "SideFeed": "core.vessels.train_steps",
    "Signal": "core.fitting.signals",
    "Sizing": "core.design.sizing",
    "SolveError": "core.errors",
    "Species": "core.chemistry.species",
    "SpreadSources": "core.design.confidence",
    "StagnantZones": "core.mixing.flow_models",
    "SteadyStates": "core.vessels.steady_states",
    "StirredTank": "core.vessels.stirred_tank",
    "Stream": "core.vessels.streams",
    "Survey": "core.design.survey",
    "Sweep": "core.design.sweeping",
    "SweptCondition": "core.design.sweeping",
    "TankWithDeadZone": "core.mixing.flow_models",
    "TanksInSeries": "core.mixing.flow_models",
    "TracerTest": "core.mixing.tracer_test",
    "Train": "core.vessels.train",
    "TrainInTime": "core.vessels.train_in_time",
    "TrainRun": "core.vessels.train",
    "UnitError": "core.errors",
    "Unknown": "core.chemistry.constants",
    "UnreachableError": "core.errors",
    "VantHoff": "core.chemistry.temperature_dependence",
    "VaporPressure": "core.chemistry.vapor_pressure",
    "WriteError": "core.errors",
    "attainable": "core.design.attainable",
    "compare": "core.design.comparison",
    "concentration": "core.vessels.metrics",
    "conversion": "core.vessels.metrics",
    "discriminate": "core.fitting.discrimination",
    "duty": "core.vessels.metrics",
    "effectiveness_factor": "core.vessels.catalyst",
    "equilibrium_curves": "core.design.equilibrium_curves",
    "evaluator": "core.design.evaluator",
    "figures": "desk.figures",
    "fit": "core.fitting.regression",
    "fit_flow_models": "core.mixing.flow_fit",
    "fraction": "core.vessels.metrics",
    "heat_flow": "core.vessels.metrics",
    "heat_safety": "core.design.heat_safety",
    "load_job": "desk.job.load",
    "log_span": "core.design.sweeping",
    "look_up": "desk.tables.lookup",
    "mixing_bounds": "core.mixing.conversion",
    "optimize": "core.design.optimizing",
    "pressure": "core.vessels.metrics",
    "progress_bar": "desk.notebook",
    "read_chemistry": "desk.job.chemistry",
    "read_experiments": "desk.tables.experiments",
    "read_library": "desk.job.chemistry",
    "read_rates": "desk.tables.experiments",
    "read_species": "desk.tables.species",
    "read_tracer": "desk.tables.tracer",
    "recommend": "core.design.recommending",
    "report": "desk.report.build",
    "screen_orders": "core.fitting.screening",
    "selectivity": "core.vessels.metrics",
    "size": "core.design.sizing",
    "span": "core.design.sweeping",
    "spread_sources": "core.design.confidence",
    "survey": "core.design.survey",
    "sweep": "core.design.sweeping",
    "temperature": "core.vessels.metrics",
    "write_chemistry": "desk.job.chemistry",
    "yield_of": "core.vessels.metrics",
}

__all__ = [*_HOME]

if TYPE_CHECKING:
    __version__: str
    from molino.core.chemistry.checks import Review
    from molino.core.chemistry.chemistry import Chemistry
    from molino.core.chemistry.constants import Unknown
    from molino.core.chemistry.heat_capacity import HeatCapacity
    from molino.core.chemistry.library import Library
    from molino.core.chemistry.notation import Equations
    from molino.core.chemistry.reaction import Reaction
    from molino.core.chemistry.species import Species
    from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
    from molino.core.chemistry.thermochemistry import FromSpecies
    from molino.core.chemistry.vapor_pressure import VaporPressure
    from molino.core.design.attainable import AttainableRegion, BestTrain, attainable
    from molino.core.design.comparison import Comparison, compare
    from molino.core.design.equilibrium_curves import EquilibriumCurves, equilibrium_curves
    from molino.core.design.evaluator import Evaluator, evaluator
    from molino.core.design.free_profile import FreeProfile
    from molino.core.design.heat_safety import HeatSafety, RunawayBoundary, heat_safety
    from molino.core.design.recommending import Recommendation, recommend
    from molino.core.design.sizing import Sizing, size
    from molino.core.design.survey import Survey, survey
    from molino.core.design.sweeping import Sweep, SweptCondition, log_span, span, sweep
    from molino.core.errors import InputError, MolinoError, SolveError, UnitError, UnreachableError, WriteError
    from molino.core.fields.basin import Basin
    from molino.core.fields.basin_run import BasinInTime, BasinRun
    from molino.core.fields.laminar_run import LaminarInTime, LaminarRun
    from molino.core.fields.laminar_tube import LaminarTube
    from molino.core.fields.openings import Baffle, Inlet, Outlet
    from molino.core.fitting.bootstrap import Bootstrap
    from molino.core.fitting.discrimination import Discrimination, discriminate
    from molino.core.fitting.experiments import Experiment, Experiments
    from molino.core.fitting.fit_result import Fit
    from molino.core.fitting.next_experiment import NextExperiment
    from molino.core.fitting.profile_likelihood import ProfileLikelihood
    from molino.core.fitting.rates import PowerLaw, Rates
    from molino.core.fitting.regression import fit
    from molino.core.fitting.screening import Prediction, Screening, screen_orders
    from molino.core.fitting.signals import Signal
    from molino.core.mixing.conversion import MixingBounds, mixing_bounds
    from molino.core.mixing.distribution import ResidenceTimeDistribution
    from molino.core.mixing.flow_fit import FlowComparison, FlowFit, fit_flow_models
    from molino.core.mixing.flow_models import (
        AxialDispersion,
        Compartments,
        LaminarFlow,
        Recycle,
        StagnantZones,
        TanksInSeries,
        TankWithDeadZone,
    )
    from molino.core.mixing.tracer_test import TracerTest
    from molino.core.thermo.activity import ActivityModel
    from molino.core.thermo.cubic import CubicEquation
    from molino.core.thermo.phases import PhaseEquilibrium, PhaseSplit
    from molino.core.vessels.adsorption import Adsorption
    from molino.core.vessels.at_conversion import AtConversion
    from molino.core.vessels.at_equilibrium import AtEquilibrium
    from molino.core.vessels.batch import Batch
    from molino.core.vessels.bubble_column import BubbleColumn
    from molino.core.vessels.catalyst import Catalyst, Deactivation, InternalDiffusion, effectiveness_factor
    from molino.core.vessels.changes import Change
    from molino.core.vessels.decomposition import Decomposition
    from molino.core.vessels.dispersed_tube import DispersedTube
    from molino.core.vessels.dispersion import Dispersion
    from molino.core.vessels.feed import Feed
    from molino.core.vessels.gas_phase import FilmReaction, GasPhase
    from molino.core.vessels.heat import Adiabatic, Duty, Jacket, Profile
    from molino.core.vessels.metrics import (
        Metric,
        concentration,
        conversion,
        duty,
        fraction,
        heat_flow,
        pressure,
        selectivity,
        temperature,
        yield_of,
    )
    from molino.core.vessels.plug_flow import PlugFlow
    from molino.core.vessels.pressure import PressureDrop
    from molino.core.vessels.run import Run
    from molino.core.vessels.semi_batch import Dosing, SemiBatch
    from molino.core.vessels.steady_states import Branch, SteadyStates
    from molino.core.vessels.stirred_tank import StirredTank
    from molino.core.vessels.streams import Stream
    from molino.core.vessels.train import Train, TrainRun
    from molino.core.vessels.train_in_time import TrainInTime
    from molino.core.vessels.train_steps import Exchanger, Parallel, SideFeed
    from molino.core.vessels.walls import DistributedFeed, Membrane
    from molino.desk import figures
    from molino.desk.job.chemistry import read_chemistry, read_library, write_chemistry
    from molino.desk.job.load import load_job
    from molino.desk.notebook import progress_bar
    from molino.desk.report.build import report
    from molino.desk.tables.experiments import read_experiments, read_rates
    from molino.desk.tables.lookup import look_up
    from molino.desk.tables.species import read_species
    from molino.desk.tables.tracer import read_tracer


def __getattr__(name: str) -> Any:
    if name == "__version__":
        from importlib.metadata import version

        return version("molino")
    home = _HOME.get(name)
    if home is None:
        raise AttributeError(f"module 'molino' has no attribute '{name}'")
    module = importlib.import_module(f"molino.{home}")
    found = module if name == "figures" else getattr(module, name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted({*(name for name in globals() if name.startswith("__")), *_HOME, "__version__"})


if hasattr(builtins, "__IPYTHON__"):  # a notebook, or IPython in a terminal
    from molino.desk.notebook import install as _install

    _install()
