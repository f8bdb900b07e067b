"""The heat safety of a vessel: cooling failure, or the distance of a tube to runaway."""

from __future__ import annotations

import math

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.safety.safety_results import HeatSafety, RunawayBoundary
from molino.desk.figures import style

_LEAST = 1e-2
"""The lowest drawn sensitivity."""


@style.draws
def heat_safety(result: HeatSafety | RunawayBoundary) -> Figure:
    """A cooling failure: the temperature reached from each moment, and the course from the worst one.

    Of a cooled tube the highest temperature and its sensitivity over the temperature of the coolant, with the boundary
    of runaway.

    Parameters
    ----------
    result : HeatSafety or RunawayBoundary

    Returns
    -------
    matplotlib Figure
    """
    return _failure(result) if isinstance(result, HeatSafety) else _boundary(result)


def _failure(result: HeatSafety) -> Figure:
    display = result.display
    figure = style.blank()
    left, right = figure.subplots(1, 2, sharey=True, gridspec_kw={"width_ratios": [1.4, 1]})
    run, (moments, after) = result.run, result.highest_after()
    seconds, process = run.points, run.temperatures
    times = display.number(moments, "time")
    left.plot(
        times, display.number(after, "temperature"), label="highest after a failure at this moment", **style.stroke(1)
    )
    left.plot(
        display.number(seconds, "time"), display.number(process, "temperature"), label="process", **style.stroke(0)
    )
    worst = float(display.number(result.worst_time, "time"))
    hot = float(display.number(result.temperature_after_failure, "temperature"))
    own = float(display.number(result.process_temperature, "temperature"))
    left.plot([worst, worst], [own, hot], color=style.QUIET, linestyle=":", linewidth=1.2)
    left.plot([worst], [hot], "o", color=style.COLOURS[1], ms=6)
    seconds, course = result.course()
    right.plot(display.number(seconds, "time"), display.number(course, "temperature"), **style.stroke(1))
    for axes in (left, right):
        _levels(axes, result)
    left.set_xlim(0, times[-1])
    right.set_xlim(0, float(display.number(seconds[-1], "time")))
    style.dress(left, display.label("moment of the failure", "time"), display.label("temperature", "temperature"))
    style.dress(right, display.label("time since the failure", "time"))
    left.legend(frameon=False, fontsize=9, loc="best")
    there = display.text(result.temperature_after_failure, "temperature", 4)
    number = result.criticality
    title = f"{result.vessel.title}, up to {there} if cooling fails" + (f", class {number} of 5" if number else "")
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    return figure


def _levels(axes: Axes, result: HeatSafety) -> None:
    """The technical limit, and the temperature at which the decomposition takes 24 h."""
    levels = [("technical limit", result.technical_limit), ("24 h to maximum rate", result.temperature_for_24_h)]
    for n, (name, level) in enumerate(levels):
        if level is None or not math.isfinite(level):
            continue
        y = float(result.display.number(level, "temperature"))
        axes.axhline(y, **{**style.stroke(n + 2), "linewidth": 1.3})
        axes.annotate(
            name,
            (1.0, y),
            xycoords=("axes fraction", "data"),
            xytext=(-4, 3),
            ha="right",
            textcoords="offset points",
            fontsize=8.5,
            color=style.COLOURS[n + 2],
        )


def _boundary(result: RunawayBoundary) -> Figure:
    display = result.display
    figure = style.blank()
    top, bottom = figure.subplots(2, 1, sharex=True)
    coolants = display.number(result.coolants, "temperature")
    top.plot(coolants, display.number(result.highest, "temperature"), **style.stroke(1))
    bottom.plot(coolants, np.maximum(result.sensitivities, _LEAST), **style.stroke(0))
    bottom.set_yscale("log")
    style.plain_log(bottom.yaxis)
    own = float(display.number(result.coolant, "temperature"))
    hottest = float(display.number(result.hottest[1], "temperature"))
    top.plot([own], [hottest], "o", color=style.INK, ms=6)
    bottom.plot([own], [max(result.sensitivity, _LEAST)], "o", color=style.INK, ms=6)
    top.annotate("as it is", (own, hottest), xytext=(-4, 8), textcoords="offset points", ha="right", fontsize=9)
    if result.boundary is not None:
        at = float(display.number(result.boundary, "temperature"))
        for axes in (top, bottom):
            axes.axvline(at, color=style.QUIET, linestyle=":", linewidth=1.4)
        side, place = (-5, "right") if at > float(np.mean(coolants)) else (5, "left")
        top.annotate(
            "boundary of runaway",
            (at, 0.5),
            xycoords=("data", "axes fraction"),
            xytext=(side, 0),
            ha=place,
            textcoords="offset points",
            fontsize=9,
            color="#555555",
        )
    style.dress(top, "", display.label("highest temperature", "temperature"))
    style.dress(bottom, display.label("temperature of the coolant", "temperature"), "hot spot sensitivity [K/K]")
    facts = result.facts()
    title = f"{result.vessel.title}, runaway boundary: {facts['runaway boundary']}"
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    return figure
