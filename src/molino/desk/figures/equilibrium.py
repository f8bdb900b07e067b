"""Equilibrium over temperature and pressure, with operating lines of adiabatic beds and the locus of the best rate."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.design.equilibrium_curve_result import EquilibriumCurves
from molino.desk.figures import style


@style.draws
def equilibrium(result: EquilibriumCurves) -> Figure:
    """A curve per pressure over temperature, the beds as solid lines, the cooling between them dotted, the locus
    dashed.

    Parameters
    ----------
    result : EquilibriumCurves

    Returns
    -------
    matplotlib Figure
    """
    display, metric = result.display, result.metric
    figure = style.blank()
    axes = figure.subplots()
    T = display.number(result.temperatures, "temperature")
    for n, (P, row) in enumerate(zip(result.pressures, result.values, strict=True)):
        at = f", {display.text(P, 'pressure')}" if np.isfinite(P) else ""
        axes.plot(T, display.number(row, metric.kind), **style.stroke(n), label=f"equilibrium{at}")
    if len(result.locus):
        locus: style.Look = {"color": style.COLOURS[3], "linestyle": (0, (6, 3)), "linewidth": 1.6}
        axes.plot(*_shown(result, result.locus), **locus, label="locus of the maximum rate")
    _draw_beds(axes, result)
    if result.target is not None:
        wanted = float(display.number(result.target, metric.kind))
        axes.axhline(wanted, color=style.QUIET, linewidth=1.0)
        offset: style.Look = {"xycoords": ("axes fraction", "data"), "textcoords": "offset points"}
        note: style.Look = {"ha": "right", "fontsize": 9, "color": style.QUIET}
        axes.annotate(f"target {wanted:.4g}", (1.0, wanted), (-4, 4), **offset, **note)
    style.dress(axes, display.label("temperature", "temperature"), display.label(str(metric), metric.kind))
    if metric.kind == "number":
        axes.set_ylim(min(0.0, axes.get_ylim()[0]), max(1.0, axes.get_ylim()[1]) if axes.get_ylim()[1] <= 1.2 else None)
    low, high = axes.get_xlim()
    axes.set_xlim(low, high)
    axes.legend(loc="lower left", frameon=False, fontsize=9)
    figure.suptitle(f"Equilibrium of {result.vessel.feed}{_outcome(result)}", x=0.01, ha="left", fontsize=11)
    return figure


def _shown(result: EquilibriumCurves, line: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Temperatures and values of the metric, in the units of the figure."""
    number = result.display.number
    return number(line[:, 0], "temperature"), number(line[:, 1], result.metric.kind)


def _outcome(result: EquilibriumCurves) -> str:
    if result.target is None:
        return ""
    count = f"{len(result.lines)} bed{'s' if len(result.lines) > 1 else ''}"
    return f": {count} to the target" if result.is_reached else f": {count} do not reach the target"


def _draw_beds(axes: Axes, result: EquilibriumCurves) -> None:
    """The adiabatic beds as numbered lines, and the cooling between them dotted."""
    bed: style.Look = {"color": style.INK, "linewidth": 2.0, "marker": "o", "markevery": [0, -1], "ms": 4}
    number: style.Look = {"ha": "right", "va": "center", "fontsize": 9, "color": style.INK}
    last = None
    for n, line in enumerate(result.lines, 1):
        x, y = _shown(result, line)
        if last is not None:
            label = "between beds" if n == 2 else ""
            axes.plot([last[0], x[0]], [last[1], y[0]], ":", color=style.QUIET, linewidth=1.4, label=label)
        label = "adiabatic bed" if len(result.lines) == 1 else "adiabatic beds"
        axes.plot(x, y, "-", **bed, label=label if n == 1 else "")
        axes.annotate(f"{n}", (x[0], y[0]), (-6, 0), textcoords="offset points", **number)
        last = float(x[-1]), float(y[-1])
