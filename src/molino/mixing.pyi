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
from molino.desk.tables.tracer import read_tracer as read_tracer
