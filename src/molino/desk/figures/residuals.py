"""Residuals of a fit."""

from __future__ import annotations

import numpy as np
import scipy
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.display import Display
from molino.core.fitting.fit_result import Fit
from molino.core.unit_tables import GAS_CONSTANT
from molino.desk.figures import style

_RESIDUAL = "residual [standard deviations]"


@style.draws
def residuals(result: Fit) -> Figure:
    """Parity, residuals over fitted values and over each variable, and a normal plot.

    Residuals are in standard deviations of their species; dashed lines are at two.

    Parameters
    ----------
    result : Fit

    Returns
    -------
    matplotlib Figure
    """
    points, display = result.points, result.data.display
    names, kinds = np.array(points.response), dict.fromkeys(result.data.kind_of(r) for r in result.responses)
    against = []
    for kind in kinds:  # other kinds have their own panel
        own = np.array([result.data.kind_of(r) == kind for r in names])
        calculated, shown = _as_pressure(result, points.calculated, kind)
        against.append(("calculated", shown, np.where(own, calculated, np.nan)))
    against += [(name, variable_kind(name), values) for name, values in points.variables.items() if np.ptp(values)][:6]
    count = len(against) + len(kinds) + 1
    figure, panels, columns = style.grid_of(count)
    for axes, kind in zip(panels, kinds, strict=False):
        parity(axes, result, display, kind)
    for n, (axes, (name, what, values)) in enumerate(zip(panels[len(kinds) :], against, strict=False), len(kinds)):
        style.dress(axes, display.label(name, what), _RESIDUAL if n % columns == 0 or n == 1 else "")
        for line in (-2, 0, 2):
            axes.axhline(line, color=style.QUIET, linewidth=0.9, linestyle="-" if line == 0 else "--")
        for i, response in enumerate(result.responses):
            own = (names == response) & np.isfinite(values) & points.is_value
            if own.any():
                style.dots(axes, i, display.number(values[own], what), points.independent[own], response)
        _widen_limits(axes, display.number(values[np.isfinite(values)], what))
    normal(panels[count - 1], result)
    if len(result.responses) > 1:
        pairs = [pair for axes in panels for pair in zip(*axes.get_legend_handles_labels(), strict=True)]
        named = {label: handle for handle, label in pairs}
        figure.legend(named.values(), named.keys(), loc="outside upper right", ncols=len(named), frameon=False)
    figure.suptitle(f"Residuals of {result.extent}", x=0.01, ha="left", fontsize=11)
    return figure


def variable_kind(name: str) -> str:
    """The kind of quantity of a variable of observations, by its name."""
    if name in ("time", "temperature", "length", "volume"):
        return name
    if "p[" in name:
        return "pressure"
    return {"space time": "time", "catalyst mass": "mass"}.get(name, "concentration")


def _as_pressure(result: Fit, values: np.ndarray, kind: str) -> tuple[np.ndarray, str]:
    """Concentrations as partial pressures c R T, if the data of the runs were pressures; and the kind of quantity."""
    if kind != "concentration" or not result.parameter_map.runs or not result.data.is_by_pressure:
        return values, kind
    T = {run.name: float(run.T) for run in result.parameter_map.runs}
    return values * GAS_CONSTANT * np.array([T[run] for run in result.points.run]), "pressure"


def parity(axes: Axes, result: Fit, display: Display, kind: str) -> None:
    """Calculated over measured, of one kind of quantity."""
    points = result.points
    names = np.array(points.response)
    own = np.array([result.data.kind_of(r) == kind for r in names]) & points.is_value
    pair = [_as_pressure(result, values, kind) for values in (points.measured, points.calculated)]
    columns, shown = [values for values, _ in pair], pair[0][1]
    style.dress(axes, display.label("measured", shown), display.label("calculated", shown))
    both = display.number(np.concatenate([values[own] for values in columns]), shown)
    least = min(0.0, both.min()) if kind != "temperature" else both.min() - 0.03 * np.ptp(both)
    ends = np.array([least, both.max() + 0.03 * (both.max() - least)])
    axes.plot(ends, ends, color=style.QUIET, linewidth=1)
    for i, response in enumerate(result.responses):
        if result.data.kind_of(response) != kind:
            continue
        own = (names == response) & points.is_value
        measured, calculated = (display.number(v[own], shown) for v in columns)
        style.dots(axes, i, measured, calculated, response)


def normal(axes: Axes, result: Fit) -> None:
    """Residuals in order against the quantiles of a normal distribution (G. Blom's places)."""
    scaled = np.sort(result.points.independent[result.points.is_value])
    places = scipy.special.ndtri((np.arange(1, len(scaled) + 1) - 0.375) / (len(scaled) + 0.25))
    style.dress(axes, "normal quantile", _RESIDUAL)
    axes.plot(places[[0, -1]], places[[0, -1]], color=style.QUIET, linewidth=1)
    axes.plot(places, scaled, "o", color=style.INK, ms=4, mfc="none")


def _widen_limits(axes: Axes, values: np.ndarray) -> None:
    """Margins at both sides; an axis of few levels shows only these."""
    levels = np.unique(np.round(values, 9))
    if 1 < len(levels) <= 6 and len(values) >= 4 * len(levels):
        axes.set_xticks(levels)
    low, high = float(np.min(values)), float(np.max(values))
    room = 0.06 * (high - low) or 0.1 * abs(high) or 1.0
    axes.set_xlim(low - room, high + room)
