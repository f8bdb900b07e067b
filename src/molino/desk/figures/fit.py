"""Fit against data."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from molino.core.fitting.fit_result import Fit
from molino.desk.figures import style
from molino.desk.figures.residuals import residuals


def fit(result: Fit) -> Figure:
    """Measured points, fitted curves with their 95 % bands, a panel a run; outliers are ringed.

    The darker band is that of the curve, the lighter one that of a measurement. Of a fit to rates: see `residuals`.

    Parameters
    ----------
    result : Fit

    Returns
    -------
    matplotlib Figure
    """
    display = result.data.display
    if not result.parameter_map.runs:
        return residuals(result)
    runs = result.data.runs
    columns = min(3, len(runs))
    rows = math.ceil(len(runs) / columns)
    figure = style.blank(height=max(6.25, 3.0 * rows))
    panels = figure.subplots(rows, columns, squeeze=False, sharey=True)
    curves = result.curves()
    for n, axes in enumerate(panels.flat):
        if n >= len(runs):
            axes.set_visible(False)
            continue
        run = runs[n]
        at = f", {display.text(run.T, 'temperature')}" if run.T is not None else ""
        bottom, left = n + columns >= len(runs), n % columns == 0
        style.dress(
            axes,
            display.label(run.time_word, "time") if bottom else "",
            display.label("concentration", "concentration") if left else "",
            f"{run.name}{at}",
        )
        band = curves[run.name]
        times = display.number(band.times, "time")
        for i, species in enumerate(result.responses):
            line = style.stroke(i)
            middle = band.values[species]
            for half, alpha in ((band.prediction[species], 0.12), (band.confidence[species], 0.3)):
                ends = (display.number(np.maximum(middle + sign * half, 0.0), "concentration") for sign in (-1, 1))
                if np.isfinite(half).all():
                    axes.fill_between(times, *ends, color=line["color"], alpha=alpha, linewidth=0)
            axes.plot(times, display.number(middle, "concentration"), **line)
            if species in run.measured:
                values = display.number(run.measured[species], "concentration")
                axes.plot(
                    display.number(run.times, "time"), values, style.MARKS[i], color=line["color"], ms=5, mfc="white",
                    mew=1.4, label=species,
                )  # fmt: skip
        for gone in (g for g in result.data.left_out if g.run == run.name):
            place = display.number(gone.time, "time"), display.number(gone.value, "concentration")
            axes.plot(*place, "x", color=style.QUIET, ms=8, mew=2)
            axes.annotate("left out", place, (0, -14), textcoords="offset points", ha="center", fontsize=8)
        for odd in (p for p in result.outliers if p.run == run.name):
            place = display.number(odd.time, "time"), display.number(odd.measured, "concentration")
            axes.plot(*place, "o", ms=14, mfc="none", mec=style.INK, mew=1.2)
            axes.annotate("outlier", place, (0, 10), textcoords="offset points", ha="center", fontsize=8)
        axes.set_xlim(left=0)
    panels[0][0].set_ylim(bottom=0)  # all share it, so only once everything is drawn
    handles: dict[str, Any] = {}
    for axes in panels.flat:
        for handle, label in zip(*axes.get_legend_handles_labels(), strict=True):
            handles.setdefault(label, handle)
    figure.legend(handles.values(), handles.keys(), loc="outside upper right", ncols=len(handles), frameon=False)
    quality = "; ".join(f"{r.species}: R² {r.r_squared:.4f}" for r in result.by_species if np.isfinite(r.r_squared))
    figure.suptitle(f"Measured (points) and fitted (lines)    {quality}", x=0.01, ha="left", fontsize=11)
    return figure
