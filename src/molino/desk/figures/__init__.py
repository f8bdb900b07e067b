"""Figures: each takes a result and returns a Matplotlib Figure."""

from molino.desk.figures.attainable import attainable
from molino.desk.figures.comparison import comparison
from molino.desk.figures.equations import equations
from molino.desk.figures.equilibrium import equilibrium
from molino.desk.figures.field import across, animation, field, over_time, sequence
from molino.desk.figures.fit import fit
from molino.desk.figures.heat_safety import heat_safety
from molino.desk.figures.optimum import optimum
from molino.desk.figures.orders import orders
from molino.desk.figures.over_temperature import over_temperature
from molino.desk.figures.profile import profile
from molino.desk.figures.rates import power_law, slopes
from molino.desk.figures.recommendation import recommendation
from molino.desk.figures.residuals import residuals
from molino.desk.figures.sources import spread_sources
from molino.desk.figures.steady import branch, heat_balance
from molino.desk.figures.sweep import sweep
from molino.desk.figures.tracer import tracer
from molino.desk.figures.uncertainty import bootstrap, candidates, profiles, region

__all__ = [
    "across",
    "animation",
    "attainable",
    "bootstrap",
    "branch",
    "candidates",
    "comparison",
    "equations",
    "equilibrium",
    "field",
    "fit",
    "heat_balance",
    "heat_safety",
    "optimum",
    "orders",
    "over_temperature",
    "over_time",
    "power_law",
    "profile",
    "profiles",
    "recommendation",
    "region",
    "residuals",
    "sequence",
    "slopes",
    "spread_sources",
    "sweep",
    "tracer",
]
