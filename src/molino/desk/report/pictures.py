"""The figures that show a result."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_FIGURES = {
    "AttainableRegion": ("attainable",),
    "BasinInTime": ("sequence", "over_time"),
    "BasinRun": ("field", "across"),
    "Bootstrap": ("bootstrap",),
    "Branch": ("branch",),
    "TrainBranch": ("branch",),
    "Comparison": ("comparison",),
    "Discrimination": ("candidates",),
    "EquilibriumCurves": ("equilibrium",),
    "Fit": ("fit", "residuals"),
    "HeatSafety": ("heat_safety",),
    "LaminarInTime": ("over_time",),
    "LaminarRun": ("field", "across"),
    "Optimum": ("optimum",),
    "Posterior": ("posterior",),
    "PowerLaw": ("power_law",),
    "Rates": ("slopes",),
    "Recommendation": ("recommendation",),
    "ResidenceTimeDistribution": ("tracer",),
    "RunInfluence": ("run_influence",),
    "Screening": ("orders",),
    "SpreadSources": ("spread_sources",),
    "SteadyStates": ("heat_balance",),
    "Sweep": ("sweep",),
    "TubeInTime": ("over_time",),
}
"""By the class of a result, the figures of `mo.figures` that show it."""


def pictures_of(result: object) -> dict[str, Figure]:
    """The figures that show a result, by their names; none for a result without a figure."""
    from molino.core.runs.run import Run
    from molino.desk.steps.common import load_figures

    figures = load_figures()
    names = _FIGURES.get(type(result).__name__, ())
    if isinstance(result, Run) and not result.is_steady:
        names = ("profile",)
    return {name.replace("_", " "): getattr(figures, name)(result) for name in names}
