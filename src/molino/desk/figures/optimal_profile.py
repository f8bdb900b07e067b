"""An optimal profile: its course with its arcs, its run, and its switching function."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core import units
from molino.core.design.optimize.objective import Limit
from molino.core.design.optimize.optimal_profile import OptimalProfile
from molino.core.design.optimize.optimum import Optimum
from molino.desk.figures import style

_SHADES = {"at its lower bound": "#dbe9f4", "at its upper bound": "#f8e3d4", "singular": "#d9efe6"}
_ELSE = "#f3f0dc"


def draw_optimal_profiles(result: Optimum, title: str) -> Figure:
    """Each profile above its switching function, and the concentrations of the run below."""
    count = len(result.profiles)
    limits = [limit for limit in result.limits if limit.is_everywhere]
    heights = [1.5, 0.9] * count + [1.0] * len(limits) + [1.3]
    figure = style.blank(10.0, max(6.25, 1.55 * sum(heights)))
    panels = figure.subplots(len(heights), 1, sharex=True, gridspec_kw={"height_ratios": heights})
    for n, limit in enumerate(limits):
        _draw_limit(panels[2 * count + n], result, limit)
    for n, profile in enumerate(result.profiles):
        _draw_course(panels[2 * n], profile)
        _draw_switching(panels[2 * n + 1], result, profile)
    _draw_run(panels[-1], result)
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    return figure


def _shown(profile: OptimalProfile, si: np.ndarray) -> np.ndarray:
    unit = profile.along_unit
    return np.array([units.unit(unit).from_si(t) for t in si]) if unit else si


def _draw_course(axes: Axes, profile: OptimalProfile) -> None:
    moving = profile.moving
    axes.plot(_shown(profile, profile.times), [moving.shown(float(v)) for v in profile.values], **style.stroke(0))
    for end in (moving.low, moving.high):
        axes.axhline(moving.shown(end), color=style.INK, lw=0.8, ls=":")
    unit = units.pretty(moving.unit)
    style.dress(axes, "", f"{profile.name} [{unit}]" if unit else profile.name)
    last = float(_shown(profile, profile.times)[-1])
    for arc in profile.arcs:
        begin, end = (float(x) for x in _shown(profile, np.array([arc.begin, arc.end])))
        axes.axvspan(begin, end, color=_SHADES.get(arc.kind, _ELSE), lw=0, zorder=0)
        text = arc.kind.replace("along the limit", "along").removeprefix("at its ")
        if end - begin > 0.09 * last:
            axes.text(
                (begin + end) / 2,
                1.02,
                text,
                transform=axes.get_xaxis_transform(),
                ha="center",
                va="bottom",
                fontsize=8,
                color=style.INK,
            )
    axes.set_xlim(0.0, last)


def _draw_switching(axes: Axes, result: Optimum, profile: OptimalProfile) -> None:
    size = float(np.abs(profile.switching).max()) or 1.0
    axes.axhline(0.0, color=style.INK, lw=0.8)
    axes.plot(_shown(profile, profile.switching_times), profile.switching / size, **style.stroke(1))
    sense = "gains" if result.is_highest else "costs"
    style.dress(axes, "", "switching function")
    axes.set_title(
        f"above zero: more {profile.name} {sense} (relative to its largest)", loc="right", fontsize=8, color=style.INK
    )


def _draw_limit(axes: Axes, result: Optimum, limit: Limit) -> None:
    """The metrics that are limited along the run, with their limits."""
    metric, display = limit.expression.metrics[0], result.display
    x, values = _positions(result), result.run.profile(metric)
    axes.plot(x, display.number(values, metric.kind), **style.stroke(2))
    axes.axhline(float(display.number(limit.value, metric.kind)), color=style.INK, lw=0.8, ls="--")
    style.dress(axes, "", display.label(str(metric).replace("concentration of ", ""), metric.kind))
    axes.set_title(f"limit: {limit.text(display)}", loc="right", fontsize=8, color=style.INK)


def _positions(result: Optimum) -> np.ndarray:
    """The places of the rows of the run, in the unit of results."""
    first = result.profiles[0]
    return _shown(first, {name: values for name, _, values in result.run.positions()}[first.along])


def _draw_run(axes: Axes, result: Optimum) -> None:
    run, display = result.run, result.display
    first = result.profiles[0]
    x = _positions(result)
    for n, (species, values) in enumerate(run.concentrations.items()):
        axes.plot(x, display.number(values, "concentration"), label=species, **style.stroke(n))
    unit = units.pretty(first.along_unit)
    label = display.label("concentration", "concentration")
    style.dress(axes, f"{first.along} [{unit}]" if unit else first.along, label)
    axes.legend(frameon=False, loc="center left", bbox_to_anchor=(1.0, 0.5))
