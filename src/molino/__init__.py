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
    "Adiabatic": "core.terms.heat",
    "Arrhenius": "core.chemistry.temperature_dependence",
    "Adsorption": "core.terms.adsorption",
    "AtConversion": "core.vessels.at_conversion",
    "AtEquilibrium": "core.vessels.at_equilibrium",
    "AttainableRegion": "core.design.attainable_region",
    "AxialDispersion": "core.mixing.flow_models",
    "Baffle": "core.fields.openings",
    "Basin": "core.fields.basin",
    "BasinInTime": "core.fields.basin_run",
    "BasinRun": "core.fields.basin_run",
    "Batch": "core.vessels.batch",
    "BestTrain": "core.design.best_train",
    "Bootstrap": "core.fitting.bootstrap",
    "Branch": "core.vessels.branch",
    "BubbleColumn": "core.vessels.bubble_column",
    "Catalyst": "core.terms.catalyst",
    "Change": "core.runs.scheduled_changes",
    "Chemistry": "core.chemistry.chemistry",
    "Comparison": "core.design.comparison",
    "Compartments": "core.mixing.compartments",
    "CubicEquation": "core.thermo.cubic",
    "Deactivation": "core.terms.catalyst",
    "Decomposition": "core.terms.decomposition",
    "Discrimination": "core.fitting.discrimination",
    "DispersedTube": "core.vessels.dispersed_tube",
    "Dispersion": "core.terms.dispersion",
    "DistributedFeed": "core.terms.side_feed",
    "Dosing": "core.vessels.dosing",
    "Duty": "core.terms.heat",
    "Equations": "core.chemistry.notation",
    "EquilibriumCurves": "core.design.equilibrium_curve_result",
    "Evaluator": "core.design.evaluator",
    "Exchanger": "core.trains.steps",
    "Experiment": "core.fitting.experiment",
    "Experiments": "core.fitting.experiments",
    "Feed": "core.contents.feed",
    "FilmReaction": "core.terms.gas_phase",
    "Fit": "core.fitting.fit_result",
    "FlowComparison": "core.mixing.flow_fit_result",
    "FlowFit": "core.mixing.flow_fit_result",
    "FreeProfile": "core.design.optimize.free_profile",
    "FromSpecies": "core.chemistry.thermochemistry",
    "GasPhase": "core.terms.gas_phase",
    "HeatCapacity": "core.chemistry.heat_capacity",
    "HeatSafety": "core.safety.safety_results",
    "Inlet": "core.fields.openings",
    "InputError": "core.errors",
    "InternalDiffusion": "core.terms.catalyst",
    "Jacket": "core.terms.heat",
    "LaminarFlow": "core.mixing.flow_models",
    "LaminarInTime": "core.fields.laminar_run",
    "LaminarRun": "core.fields.laminar_run",
    "LaminarTube": "core.fields.laminar_tube",
    "Library": "core.chemistry.library",
    "Membrane": "core.terms.walls",
    "Metric": "core.contract.metric",
    "MixingBounds": "core.mixing.conversion",
    "MolinoError": "core.errors",
    "NextExperiment": "core.fitting.next_experiment",
    "Optimum": "core.design.optimize.optimum",
    "Outlet": "core.fields.openings",
    "Parallel": "core.trains.steps",
    "PhaseEquilibrium": "core.thermo.phases",
    "PhaseSplit": "core.thermo.phase_split",
    "PlugFlow": "core.vessels.plug_flow",
    "PowerLaw": "core.fitting.rates",
    "Prediction": "core.fitting.screening_result",
    "PressureDrop": "core.terms.pressure",
    "Profile": "core.terms.heat",
    "ProfileLikelihood": "core.fitting.profile_likelihood",
    "Rates": "core.fitting.rates",
    "Reaction": "core.chemistry.reaction",
    "Recommendation": "core.design.recommendation",
    "Recycle": "core.mixing.flow_models",
    "ResidenceTimeDistribution": "core.mixing.distribution",
    "Review": "core.chemistry.checks",
    "Run": "core.runs.run",
    "RunawayBoundary": "core.safety.safety_results",
    "SbmlModel": "desk.tables.sbml_reader",
    "Screening": "core.fitting.screening_result",
    "SemiBatch": "core.vessels.semi_batch",
    "SideFeed": "core.trains.steps",
    "Signal": "core.fitting.signals",
    "Sizing": "core.design.size.size_result",
    "SolveError": "core.errors",
    "Species": "core.chemistry.species",
    "SpreadSources": "core.design.confidence",
    "StagnantZones": "core.mixing.flow_models",
    "SteadyStates": "core.vessels.steady_states",
    "StirredTank": "core.vessels.stirred_tank",
    "Stream": "core.contents.streams",
    "Survey": "core.design.survey",
    "Sweep": "core.design.sweep_result",
    "SweptCondition": "core.design.sweep_result",
    "TankWithDeadZone": "core.mixing.flow_models",
    "TanksInSeries": "core.mixing.flow_models",
    "TracerTest": "core.mixing.tracer_test",
    "Train": "core.trains.train",
    "TrainInTime": "core.trains.train_over_time",
    "TrainRun": "core.trains.train_run",
    "TrainSteadyStates": "core.trains.steady_states",
    "UnitError": "core.errors",
    "Unknown": "core.chemistry.constants",
    "UnreachableError": "core.errors",
    "NotFoundError": "core.errors",
    "Check": "core.checks",
    "VantHoff": "core.chemistry.temperature_dependence",
    "VaporPressure": "core.chemistry.vapor_pressure",
    "WriteError": "core.errors",
    "attainable": "core.design.attainable",
    "compare": "core.design.comparison",
    "concentration": "core.contract.metrics",
    "conversion": "core.contract.metrics",
    "discriminate": "core.fitting.discrimination",
    "duty": "core.contract.metrics",
    "effectiveness_factor": "core.terms.effectiveness",
    "equilibrium_curves": "core.design.equilibrium_curves",
    "evaluator": "core.design.evaluator",
    "figures": "desk.figures",
    "fit": "core.fitting.regression",
    "fit_flow_models": "core.mixing.flow_fit",
    "fraction": "core.contract.metrics",
    "heat_flow": "core.contract.metrics",
    "heat_safety": "core.safety.heat_safety",
    "load_job": "desk.job.load",
    "log_span": "core.design.spans",
    "look_up": "desk.tables.lookup",
    "mixing_bounds": "core.mixing.conversion",
    "optimize": "core.design.optimizing",
    "pressure": "core.contract.metrics",
    "progress_bar": "desk.notebook",
    "read_chemistry": "desk.job.chemistry",
    "read_experiments": "desk.tables.experiments",
    "read_library": "desk.job.chemistry",
    "read_rates": "desk.tables.experiments",
    "read_sbml": "desk.tables.sbml",
    "read_species": "desk.tables.species",
    "read_tracer": "desk.tables.tracer",
    "recommend": "core.design.recommending",
    "report": "desk.report.build",
    "screen_orders": "core.fitting.screening",
    "selectivity": "core.contract.metrics",
    "size": "core.design.size.sizing",
    "span": "core.design.spans",
    "spread_sources": "core.design.confidence",
    "survey": "core.design.survey",
    "sweep": "core.design.sweeping",
    "temperature": "core.contract.metrics",
    "write_chemistry": "desk.job.chemistry",
    "write_sbml": "desk.tables.sbml_writer",
    "yield_of": "core.contract.metrics",
}

__all__ = [*_HOME]

if TYPE_CHECKING:
    __version__: str
    from molino.core.checks import Check as Check
    from molino.core.chemistry.checks import Review as Review
    from molino.core.chemistry.chemistry import Chemistry as Chemistry
    from molino.core.chemistry.constants import Unknown as Unknown
    from molino.core.chemistry.heat_capacity import HeatCapacity as HeatCapacity
    from molino.core.chemistry.library import Library as Library
    from molino.core.chemistry.notation import Equations as Equations
    from molino.core.chemistry.reaction import Reaction as Reaction
    from molino.core.chemistry.species import Species as Species
    from molino.core.chemistry.temperature_dependence import Arrhenius as Arrhenius, VantHoff as VantHoff
    from molino.core.chemistry.thermochemistry import FromSpecies as FromSpecies
    from molino.core.chemistry.vapor_pressure import VaporPressure as VaporPressure
    from molino.core.contents.feed import Feed as Feed
    from molino.core.contents.streams import Stream as Stream
    from molino.core.contract.metric import Metric as Metric
    from molino.core.contract.metrics import (
        concentration as concentration,
        conversion as conversion,
        duty as duty,
        fraction as fraction,
        heat_flow as heat_flow,
        pressure as pressure,
        selectivity as selectivity,
        temperature as temperature,
        yield_of as yield_of,
    )
    from molino.core.design.attainable import attainable as attainable
    from molino.core.design.attainable_region import AttainableRegion as AttainableRegion
    from molino.core.design.best_train import BestTrain as BestTrain
    from molino.core.design.comparison import Comparison as Comparison, compare as compare
    from molino.core.design.equilibrium_curve_result import EquilibriumCurves as EquilibriumCurves
    from molino.core.design.equilibrium_curves import equilibrium_curves as equilibrium_curves
    from molino.core.design.evaluator import Evaluator as Evaluator, evaluator as evaluator
    from molino.core.design.optimize.free_profile import FreeProfile as FreeProfile
    from molino.core.design.recommendation import Recommendation as Recommendation
    from molino.core.design.recommending import recommend as recommend
    from molino.core.design.size.size_result import Sizing as Sizing
    from molino.core.design.size.sizing import size as size
    from molino.core.design.spans import log_span as log_span, span as span
    from molino.core.design.survey import Survey as Survey, survey as survey
    from molino.core.design.sweep_result import Sweep as Sweep, SweptCondition as SweptCondition
    from molino.core.design.sweeping import sweep as sweep
    from molino.core.errors import (
        InputError as InputError,
        MolinoError as MolinoError,
        NotFoundError as NotFoundError,
        SolveError as SolveError,
        UnitError as UnitError,
        UnreachableError as UnreachableError,
        WriteError as WriteError,
    )
    from molino.core.fields.basin import Basin as Basin
    from molino.core.fields.basin_run import BasinInTime as BasinInTime, BasinRun as BasinRun
    from molino.core.fields.laminar_run import LaminarInTime as LaminarInTime, LaminarRun as LaminarRun
    from molino.core.fields.laminar_tube import LaminarTube as LaminarTube
    from molino.core.fields.openings import Baffle as Baffle, Inlet as Inlet, Outlet as Outlet
    from molino.core.fitting.bootstrap import Bootstrap as Bootstrap
    from molino.core.fitting.discrimination import Discrimination as Discrimination, discriminate as discriminate
    from molino.core.fitting.experiment import Experiment as Experiment
    from molino.core.fitting.experiments import Experiments as Experiments
    from molino.core.fitting.fit_result import Fit as Fit
    from molino.core.fitting.next_experiment import NextExperiment as NextExperiment
    from molino.core.fitting.profile_likelihood import ProfileLikelihood as ProfileLikelihood
    from molino.core.fitting.rates import PowerLaw as PowerLaw, Rates as Rates
    from molino.core.fitting.regression import fit as fit
    from molino.core.fitting.screening import screen_orders as screen_orders
    from molino.core.fitting.screening_result import Prediction as Prediction, Screening as Screening
    from molino.core.fitting.signals import Signal as Signal
    from molino.core.mixing.compartments import Compartments as Compartments
    from molino.core.mixing.conversion import MixingBounds as MixingBounds, mixing_bounds as mixing_bounds
    from molino.core.mixing.distribution import ResidenceTimeDistribution as ResidenceTimeDistribution
    from molino.core.mixing.flow_fit import fit_flow_models as fit_flow_models
    from molino.core.mixing.flow_fit_result import FlowComparison as FlowComparison, FlowFit as FlowFit
    from molino.core.mixing.flow_models import (
        AxialDispersion as AxialDispersion,
        LaminarFlow as LaminarFlow,
        Recycle as Recycle,
        StagnantZones as StagnantZones,
        TanksInSeries as TanksInSeries,
        TankWithDeadZone as TankWithDeadZone,
    )
    from molino.core.mixing.tracer_test import TracerTest as TracerTest
    from molino.core.runs.run import Run as Run
    from molino.core.runs.scheduled_changes import Change as Change
    from molino.core.safety.heat_safety import heat_safety as heat_safety
    from molino.core.safety.safety_results import HeatSafety as HeatSafety, RunawayBoundary as RunawayBoundary
    from molino.core.terms.adsorption import Adsorption as Adsorption
    from molino.core.terms.catalyst import (
        Catalyst as Catalyst,
        Deactivation as Deactivation,
        InternalDiffusion as InternalDiffusion,
    )
    from molino.core.terms.decomposition import Decomposition as Decomposition
    from molino.core.terms.dispersion import Dispersion as Dispersion
    from molino.core.terms.effectiveness import effectiveness_factor as effectiveness_factor
    from molino.core.terms.gas_phase import FilmReaction as FilmReaction, GasPhase as GasPhase
    from molino.core.terms.heat import Adiabatic as Adiabatic, Duty as Duty, Jacket as Jacket, Profile as Profile
    from molino.core.terms.pressure import PressureDrop as PressureDrop
    from molino.core.terms.side_feed import DistributedFeed as DistributedFeed
    from molino.core.terms.walls import Membrane as Membrane
    from molino.core.thermo.activity import ActivityModel as ActivityModel
    from molino.core.thermo.cubic import CubicEquation as CubicEquation
    from molino.core.thermo.phase_split import PhaseSplit as PhaseSplit
    from molino.core.thermo.phases import PhaseEquilibrium as PhaseEquilibrium
    from molino.core.trains.steady_states import TrainSteadyStates as TrainSteadyStates
    from molino.core.trains.steps import Exchanger as Exchanger, Parallel as Parallel, SideFeed as SideFeed
    from molino.core.trains.train import Train as Train
    from molino.core.trains.train_over_time import TrainInTime as TrainInTime
    from molino.core.trains.train_run import TrainRun as TrainRun
    from molino.core.vessels.at_conversion import AtConversion as AtConversion
    from molino.core.vessels.at_equilibrium import AtEquilibrium as AtEquilibrium
    from molino.core.vessels.batch import Batch as Batch
    from molino.core.vessels.branch import Branch as Branch
    from molino.core.vessels.bubble_column import BubbleColumn as BubbleColumn
    from molino.core.vessels.dispersed_tube import DispersedTube as DispersedTube
    from molino.core.vessels.dosing import Dosing as Dosing
    from molino.core.vessels.plug_flow import PlugFlow as PlugFlow
    from molino.core.vessels.semi_batch import SemiBatch as SemiBatch
    from molino.core.vessels.steady_states import SteadyStates as SteadyStates
    from molino.core.vessels.stirred_tank import StirredTank as StirredTank
    from molino.desk import figures as figures
    from molino.desk.job.chemistry import (
        read_chemistry as read_chemistry,
        read_library as read_library,
        write_chemistry as write_chemistry,
    )
    from molino.desk.job.load import load_job as load_job
    from molino.desk.notebook import progress_bar as progress_bar
    from molino.desk.report.build import report as report
    from molino.desk.tables.experiments import read_experiments as read_experiments, read_rates as read_rates
    from molino.desk.tables.lookup import look_up as look_up
    from molino.desk.tables.sbml import read_sbml as read_sbml
    from molino.desk.tables.sbml_reader import SbmlModel as SbmlModel
    from molino.desk.tables.sbml_writer import write_sbml as write_sbml
    from molino.desk.tables.species import read_species as read_species
    from molino.desk.tables.tracer import read_tracer as read_tracer


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
