"""How the residuals of a fit lie."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy.special import ndtri

from molino.core.fitting.fit_result import Fit
from molino.core.units import Display
from molino.desk.figures import style

_RESIDUAL = "residual [standard deviations]"


def residuals(result: Fit) -> Figure:
    """Parity, residuals against fitted values and against each variable, and against a normal distribution.

    Residuals are counted in standard deviations of their species; dashed lines stand at two.

    Parameters
    ----------
    result : Fit

    Returns
    -------
    matplotlib Figure
    """
    points, display, kind = result.points, result.data.display, result.data.kind
    names = np.array(points.species)
    against = [("calculated", kind, points.calculated)]
    against += [(name, variable_kind(name), values) for name, values in points.variables.items() if np.ptp(values)][:6]
    count = len(against) + 2
    figure, panels, columns = style.grid_of(count)
    parity(panels[0], result, display)
    for n, (axes, (name, what, values)) in enumerate(zip(panels[1:], against, strict=False), 1):
        style.dress(axes, display.label(name, what), _RESIDUAL if n % columns == 0 or n == 1 else "")
        for line in (-2, 0, 2):
            axes.axhline(line, color=style.QUIET, linewidth=0.9, linestyle="-" if line == 0 else "--")
        for i, species in enumerate(result.responses):
            own = names == species
            style.dots(axes, i, display.number(values[own], what), points.scaled[own], species)
        _widen_limits(axes, display.number(values, what))
    normal(panels[count - 1], result)
    if len(result.responses) > 1:
        handles, labels = panels[0].get_legend_handles_labels()
        figure.legend(handles, labels, loc="outside upper right", ncols=len(labels), frameon=False)
    figure.suptitle(f"Residuals of {result.extent}", x=0.01, ha="left", fontsize=11)
    return figure


def variable_kind(name: str) -> str:
    """The kind of quantity of a variable of observations, by its name."""
    return name if name in ("time", "temperature") else "concentration"


def parity(axes: Axes, result: Fit, display: Display) -> None:
    """Calculated over measured."""
    points, kind = result.points, result.data.kind
    names = np.array(points.species)
    style.dress(axes, display.label("measured", kind), display.label("calculated", kind))
    both = display.number(np.concatenate([points.measured, points.calculated]), kind)
    ends = np.array([min(0.0, both.min()), both.max() * 1.03])
    axes.plot(ends, ends, color=style.QUIET, linewidth=1)
    for i, species in enumerate(result.responses):
        own = names == species
        measured, calculated = (display.number(v[own], kind) for v in (points.measured, points.calculated))
        style.dots(axes, i, measured, calculated, species)


def normal(axes: Axes, result: Fit) -> None:
    """Residuals in order against the quantiles of a normal distribution (G. Blom's places)."""
    scaled = np.sort(result.points.scaled)
    places = ndtri((np.arange(1, len(scaled) + 1) - 0.375) / (len(scaled) + 0.25))
    style.dress(axes, "normal quantile", _RESIDUAL)
    axes.plot(places[[0, -1]], places[[0, -1]], color=style.QUIET, linewidth=1)
    axes.plot(places, scaled, "o", color=style.INK, ms=4, mfc="none")


def _widen_limits(axes: Axes, values: np.ndarray) -> None:
    """Room at both sides; an axis of few levels shows just these."""
    levels = np.unique(np.round(values, 9))
    if 1 < len(levels) <= 6 and len(values) >= 4 * len(levels):
        axes.set_xticks(levels)
    low, high = float(np.min(values)), float(np.max(values))
    room = 0.06 * (high - low) or 0.1 * abs(high) or 1.0
    axes.set_xlim(low - room, high + room)
