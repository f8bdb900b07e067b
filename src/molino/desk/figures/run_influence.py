"""The influence of whole runs on the constants of a fit."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.fitting.run_influence import LeftOutRun, RunInfluence
from molino.desk.figures import style

_POINTS = 101


@style.draws
def run_influence(result: RunInfluence) -> Figure:
    """The change of each constant without each run; and, of a run that disagrees, its data with both fits.

    Parameters
    ----------
    result : RunInfluence

    Returns
    -------
    matplotlib Figure
    """
    figure = style.blank()
    fit, odd = result.fit, result.odd
    shown = [i for i, e in enumerate(fit.estimates) if not e.name.startswith(("start ", "feed "))]
    panels = list(figure.subplots(1, 1 if odd is None else 2, squeeze=False)[0])
    names = [one.run for one in result.without]
    style.dress(panels[0], "without run", "change of the constant [standard errors]")
    for n, i in enumerate(shown):
        x = np.arange(len(names)) + 0.5 * (n + 0.5 - len(shown) / 2) / len(shown)
        style.dots(panels[0], n, x, [one.moved[i] for one in result.without], fit.estimates[i].name)
    for line in (-1, 0, 1):
        panels[0].axhline(line, color=style.QUIET, linewidth=0.9, linestyle="-" if line == 0 else "--")
    panels[0].set_xticks(range(len(names)), names, rotation=45 if max(map(len, names)) > 4 else 0)
    panels[0].legend(frameon=False)
    if odd is not None:
        _draw_both(panels[1], result, odd)
    figure.suptitle(result.verdict, x=0.01, ha="left", fontsize=10, wrap=True)
    return figure


def _draw_both(axes: Axes, result: RunInfluence, odd: LeftOutRun) -> None:
    """The data of a run, with the fit to all runs and the fit to the others."""
    fit, display = result.fit, result.fit.data.display
    run = next(r for r in fit.parameter_map.runs if r.name == odd.run)
    response = next(r for r in fit.responses if r in run.measured)
    kind = fit.data.kind_of(response)
    at = f", {display.text(run.T, 'temperature')}" if run.T is not None else ""
    style.dress(axes, display.label(run.axis, run.axis_kind), display.label(response, kind), f"run {run.name}{at}")
    first = 0.02 * float(run.times[-1]) if run.along == "space_time" else 0.0
    times = np.linspace(first, float(run.times[-1]), _POINTS)
    others = np.where(np.isfinite(odd.values), odd.values, fit.optimum.parameters)
    for n, (parameters, label) in enumerate(((fit.optimum.parameters, "all runs"), (others, "the other runs"))):
        names, values, _, _ = fit.expected(run, times, parameters)
        column = values[:, names.index(response)]
        line = style.stroke(n)
        axes.plot(display.number(times, run.axis_kind), display.number(column, kind), label=f"fit to {label}", **line)
    measured = display.number(run.times, run.axis_kind), display.number(run.measured[response], kind)
    axes.plot(*measured, "o", color=style.INK, ms=5, mfc="white", mew=1.4, label="measured")
    axes.legend(frameon=False)
