"""Recommendations of arrangements."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from molino.core.design.recommendation import Recommendation
from molino.core.units import pretty
from molino.desk.figures import style


@style.draws
def recommendation(result: Recommendation) -> Figure:
    """The objective of each arrangement as a bar, with its 95 % interval, and its volume.

    Parameters
    ----------
    result : Recommendation

    Returns
    -------
    matplotlib Figure
    """
    able = [a for a in result.arrangements if a.optimum is not None]
    display = result.display
    figure = style.blank()
    left, right = figure.subplots(1, 2, sharey=True, gridspec_kw={"width_ratios": [1.5, 1]})
    places = np.arange(len(able))[::-1]
    values = [a.optimum.objective.shown(display, a.optimum.value) for a in able if a.optimum is not None]
    colors = [style.COLOURS[0] if n == 0 else "#9fb8c8" for n in range(len(able))]
    spread = [a.half_width or 0.0 for a in able]
    left.barh(
        places,
        values,
        color=colors,
        xerr=spread if any(spread) else None,
        height=0.62,
        error_kw={"ecolor": style.INK, "capsize": 3, "lw": 1.2},
    )
    left.set_yticks(places, [a.name for a in able])
    for n, (place, value) in enumerate(zip(places, values, strict=True)):
        left.text(0.0, place, f" {value:.4g}", va="center", color=style.INK if n else "white", fontsize=9)
    first = able[0].optimum
    assert first is not None
    unit = pretty(first.objective.unit(display))
    style.dress(left, f"{result.objective} [{unit}]" if unit else result.objective)
    volumes = [float(display.number(a.volume, "volume")) for a in able]
    right.barh(places, volumes, color=colors, height=0.62)
    for n, (place, volume) in enumerate(zip(places, volumes, strict=True)):
        text = f" {volume:.4g}" if np.isfinite(volume) else " any"
        right.text(0.0, place, text, va="center", fontsize=9, color=style.INK if n else "white")
    unit = pretty(display.unit("volume"))
    style.dress(right, f"volume [{unit}]" if unit else "volume")
    target = f", with {' and '.join(result.target)}" if result.target else ""
    way = "Highest" if result.is_highest else "Lowest"
    title = f"{way} {result.objective}{target}: {result.best.name}"
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    return figure
