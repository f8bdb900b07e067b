"""Sources of the spread of a metric."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from molino.core.design.confidence import SpreadSources
from molino.desk.figures import style

_MOST = 12
"""The largest number of drawn sources."""


@style.draws
def spread_sources(result: SpreadSources) -> Figure:
    """A pair of bars per source: its effect alone, and with its interactions.

    Parameters
    ----------
    result : SpreadSources

    Returns
    -------
    matplotlib Figure
    """
    order = np.argsort(-result.total)[:_MOST]
    names = [result.sources[i] for i in order]
    figure = style.blank(height=max(3.2, 0.7 * len(names) + 1.9))
    axes = figure.subplots()
    places = np.arange(len(names))
    axes.barh(places - 0.19, 100 * np.maximum(result.first[order], 0), 0.36, color=style.COLOURS[0], label="by itself")
    axes.barh(
        places + 0.19,
        100 * np.maximum(result.total[order], 0),
        0.36,
        color=style.COLOURS[5],
        hatch="//",
        edgecolor="white",
        label="with others",
    )
    axes.plot(100 * result.linear[order], places, "D", color=style.INK, mfc="white", ms=6, label="linear (derivatives)")
    axes.set_yticks(places, names)
    axes.invert_yaxis()
    axes.set_xlim(left=0)
    style.dress(axes, "fraction of the variance [%]", "")
    axes.grid(visible=False, axis="y")
    figure.legend(loc="outside lower center", ncols=3, frameon=False)
    spread = result.vessel.spec.display.text(result.standard_deviation, result.metric.kind, 3)
    title = f"Spread of {result.metric} of {result.vessel.label}: standard deviation {spread}"
    figure.suptitle(title, x=0.01, ha="left", fontsize=11)
    return figure
