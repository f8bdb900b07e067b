"""Figures: each takes a result and returns a Matplotlib Figure."""

from __future__ import annotations

from collections.abc import Callable

from matplotlib.figure import Figure

from molino.core.errors import InputError
from molino.desk.figures.attainable import attainable
from molino.desk.figures.comparison import comparison
from molino.desk.figures.equations import equations
from molino.desk.figures.equilibrium import equilibrium
from molino.desk.figures.field import across, field
from molino.desk.figures.field_over_time import animation, over_time, sequence
from molino.desk.figures.fit import fit
from molino.desk.figures.heat_safety import heat_safety
from molino.desk.figures.optimum import optimum
from molino.desk.figures.orders import orders
from molino.desk.figures.over_temperature import over_temperature
from molino.desk.figures.posterior import intervals, posterior
from molino.desk.figures.profile import profile
from molino.desk.figures.rates import power_law, slopes
from molino.desk.figures.recommendation import recommendation
from molino.desk.figures.residuals import residuals
from molino.desk.figures.run_influence import run_influence
from molino.desk.figures.sources import spread_sources
from molino.desk.figures.steady import branch, heat_balance
from molino.desk.figures.sweep import sweep
from molino.desk.figures.tracer import tracer
from molino.desk.figures.uncertainty import bootstrap, candidates, profiles, region

_FUNCTIONS: dict[str, Callable[..., Figure]] = {
    "AttainableRegion": attainable,
    "BasinInTime": over_time,
    "BasinRun": field,
    "Bootstrap": bootstrap,
    "Branch": branch,
    "Comparison": comparison,
    "Discrimination": candidates,
    "EquilibriumCurves": equilibrium,
    "Fit": fit,
    "HeatSafety": heat_safety,
    "LaminarInTime": over_time,
    "LaminarRun": field,
    "Optimum": optimum,
    "Posterior": posterior,
    "PowerLaw": power_law,
    "Rates": slopes,
    "Recommendation": recommendation,
    "Region": region,
    "ResidenceTimeDistribution": tracer,
    "Run": profile,
    "RunInfluence": run_influence,
    "RunawayBoundary": heat_safety,
    "Screening": orders,
    "Sizing": lambda sizing, **options: profile(sizing.run, **options),
    "SpreadSources": spread_sources,
    "SteadyStates": heat_balance,
    "TrainBranch": branch,
    "Survey": lambda survey: comparison(survey.comparison),
    "Sweep": sweep,
    "TrainInTime": lambda train: over_time(train.last),
    "TubeInTime": over_time,
}
"""The figure of each class of results."""


def figure_of(result: object, **options: object) -> Figure:
    """The figure of a result, by its class; InputError for one that has none."""
    for cls in type(result).__mro__:
        if cls.__name__ in _FUNCTIONS:
            return _FUNCTIONS[cls.__name__](result, **options)
    name = type(result).__name__
    raise InputError(f"a {name} has no figure", "figure", f"there are figures of {', '.join(_FUNCTIONS)}")


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
    "intervals",
    "optimum",
    "orders",
    "over_temperature",
    "over_time",
    "posterior",
    "power_law",
    "profile",
    "profiles",
    "recommendation",
    "region",
    "residuals",
    "run_influence",
    "sequence",
    "slopes",
    "spread_sources",
    "sweep",
    "tracer",
]
