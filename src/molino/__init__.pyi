from molino import (
    fields as fields,
    figures as figures,
    files as files,
    mixing as mixing,
    results as results,
    thermo as thermo,
)
from molino.core.chemistry.chemistry import Chemistry as Chemistry
from molino.core.chemistry.constants import Unknown as Unknown
from molino.core.chemistry.reaction import Reaction as Reaction
from molino.core.chemistry.species import Species as Species
from molino.core.chemistry.temperature_dependence import Arrhenius as Arrhenius, VantHoff as VantHoff
from molino.core.contents.feed import Feed as Feed
from molino.core.design.attainable import attainable as attainable
from molino.core.design.average_size import average_size as average_size
from molino.core.design.comparison import compare as compare
from molino.core.design.confidence import spread_sources as spread_sources
from molino.core.design.evaluator import evaluator as evaluator
from molino.core.design.optimize.free_profile import FreeProfile as FreeProfile
from molino.core.design.optimizing import optimize as optimize
from molino.core.design.recommending import recommend as recommend
from molino.core.design.size.sizing import size as size
from molino.core.design.spans import log_span as log_span, span as span
from molino.core.design.survey import survey as survey
from molino.core.design.sweeping import sweep as sweep
from molino.core.errors import (
    InputError as InputError,
    MolinoError as MolinoError,
    NotFoundError as NotFoundError,
    SolveError as SolveError,
    UnitError as UnitError,
    UnreachableError as UnreachableError,
)
from molino.core.fitting.candidate_laws import candidate_laws as candidate_laws
from molino.core.fitting.discrimination import discriminate as discriminate
from molino.core.fitting.experiment import Experiment as Experiment
from molino.core.fitting.experiments import Experiments as Experiments
from molino.core.fitting.orders.screening import screen_orders as screen_orders
from molino.core.fitting.rates.rates import Rates as Rates
from molino.core.fitting.regression import fit as fit
from molino.core.fitting.signals import Signal as Signal
from molino.core.runs.scheduled_changes import Change as Change
from molino.core.safety.heat_safety import heat_safety as heat_safety
from molino.core.terms.adsorption import Adsorption as Adsorption
from molino.core.terms.catalyst import (
    Catalyst as Catalyst,
    Deactivation as Deactivation,
    InternalDiffusion as InternalDiffusion,
)
from molino.core.terms.decomposition import Decomposition as Decomposition
from molino.core.terms.dispersion import Dispersion as Dispersion
from molino.core.terms.gas_phase import FilmReaction as FilmReaction, GasPhase as GasPhase
from molino.core.terms.heat import Adiabatic as Adiabatic, Duty as Duty, Jacket as Jacket, Profile as Profile
from molino.core.terms.pressure import PressureDrop as PressureDrop
from molino.core.terms.side_feed import DistributedFeed as DistributedFeed
from molino.core.terms.walls import Membrane as Membrane
from molino.core.trains.heat_steps import Exchanger as Exchanger, FeedEffluent as FeedEffluent
from molino.core.trains.phase_steps import Condenser as Condenser, Flash as Flash
from molino.core.trains.pressure_steps import Compressor as Compressor, Pump as Pump, Valve as Valve
from molino.core.trains.steps import (
    From as From,
    Mix as Mix,
    Parallel as Parallel,
    Purge as Purge,
    Separator as Separator,
    SideFeed as SideFeed,
    Split as Split,
    To as To,
)
from molino.core.trains.train import Train as Train
from molino.core.vessels.at_conversion import AtConversion as AtConversion
from molino.core.vessels.at_equilibrium import AtEquilibrium as AtEquilibrium
from molino.core.vessels.batch import Batch as Batch
from molino.core.vessels.bubble_column import BubbleColumn as BubbleColumn
from molino.core.vessels.dispersed_tube import DispersedTube as DispersedTube
from molino.core.vessels.dosing import Dosing as Dosing
from molino.core.vessels.plug_flow import PlugFlow as PlugFlow
from molino.core.vessels.semi_batch import SemiBatch as SemiBatch
from molino.core.vessels.stirred_tank import StirredTank as StirredTank
from molino.desk.job.load import load_job as load_job
from molino.desk.notebook import progress_bar as progress_bar
from molino.desk.report.build import report as report
from molino.desk.tables.experiments import read_experiments as read_experiments, read_rates as read_rates

__version__: str
