from molino.core.checks import Check as Check
from molino.core.chemistry.findings import Review as Review
from molino.core.chemistry.notation import Equations as Equations
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
from molino.core.design.attainable_region import AttainableRegion as AttainableRegion
from molino.core.design.average_size import AverageSize as AverageSize
from molino.core.design.best_train import BestTrain as BestTrain
from molino.core.design.comparison import Comparison as Comparison
from molino.core.design.confidence import SpreadSources as SpreadSources
from molino.core.design.evaluator import Evaluator as Evaluator
from molino.core.design.optimize.optimum import Optimum as Optimum
from molino.core.design.recommendation import Recommendation as Recommendation
from molino.core.design.size.size_result import Sizing as Sizing
from molino.core.design.survey import Survey as Survey
from molino.core.design.sweep_result import Sweep as Sweep, SweptCondition as SweptCondition
from molino.core.fitting.bootstrap import Bootstrap as Bootstrap
from molino.core.fitting.discrimination import Discrimination as Discrimination
from molino.core.fitting.fit_result import Fit as Fit
from molino.core.fitting.next_experiment import NextExperiment as NextExperiment
from molino.core.fitting.orders.screening_result import Prediction as Prediction, Screening as Screening
from molino.core.fitting.posterior import Posterior as Posterior
from molino.core.fitting.profile_likelihood import ProfileLikelihood as ProfileLikelihood
from molino.core.fitting.rates.power_law import PowerLaw as PowerLaw
from molino.core.runs.run import Run as Run
from molino.core.safety.safety_results import HeatSafety as HeatSafety, RunawayBoundary as RunawayBoundary
from molino.core.trains.steady_states import TrainSteadyStates as TrainSteadyStates
from molino.core.trains.train_branch import TrainBranch as TrainBranch
from molino.core.trains.train_over_time import TrainInTime as TrainInTime
from molino.core.trains.train_run import TrainRun as TrainRun
from molino.core.units import Value as Value
from molino.core.vessels.branch import Branch as Branch
from molino.core.vessels.steady_states import SteadyStates as SteadyStates
