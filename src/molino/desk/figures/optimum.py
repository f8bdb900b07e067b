"""An optimum within its surroundings."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Patch

from molino.core.design.optimize.optimum import Optimum, Surroundings
from molino.core.design.optimize.problem import FreeNumber
from molino.core.units import pretty
from molino.desk.figures import style
from molino.desk.figures.optimal_profile import draw_optimal_profiles

_MET = 1e-6
_OUT = "#c8c8c8"
"""The region in which a limit is not met."""


@style.draws
def optimum(result: Optimum, points: int = 0) -> Figure:
    """The objective over the free conditions, the optimum as a star, hatched where a limit is not met.

    One free condition gives a line, two a map of contours; of more each has a panel, with the others at the optimum.
    Free profiles are drawn with their arcs, their switching functions, and the run.

    Parameters
    ----------
    result : Optimum
    points : int
        Points along each condition; 0 for the default.

    Returns
    -------
    matplotlib Figure
    """
    if result.profiles:
        return draw_optimal_profiles(result, _title(result))
    around = result.surroundings(points)
    if len(around.names) == 1 and len(around.names[0]) == 2:
        figure = style.blank()
        _draw_map(figure, figure.subplots(), around)
    else:
        figure, panels, _ = style.grid_of(len(around.names), 3.4)
        for n, axes in enumerate(panels):
            _draw_line(axes, around, n)
    label = "a limit is not met" + (" for the nominal numbers" if result.confidence is not None else "")
    handles: list[object] = [Patch(facecolor=_OUT, hatch="///", edgecolor="white", label=label)]
    if any((left < -_MET).any() for left in around.left):
        figure.legend(handles=handles, loc="outside lower center", frameon=False)
    figure.suptitle(_title(result), x=0.01, ha="left", fontsize=10, color=style.INK)
    return figure


def _title(result: Optimum) -> str:
    way = "Highest" if result.is_highest else "Lowest"
    value = result.objective.shown_text(result.display, result.value)
    title = f"{way} {result.objective} of {result.vessel.label}: {value}"
    for active in result.active_limits:
        title += f"\nactive: {active.text}"
    return title


def _named(result: Optimum, name: str) -> FreeNumber:
    return next(n for n in result.free if n.name == name)


def _label(number: FreeNumber) -> str:
    return f"{number.name} [{pretty(number.unit)}]" if number.unit else number.name


def _objective(result: Optimum) -> str:
    unit = pretty(result.objective.unit(result.display))
    text = str(result.objective)
    return f"{text} [{unit}]" if unit else text


def _shown(result: Optimum, values: np.ndarray) -> np.ndarray:
    return np.array([result.objective.shown(result.display, float(v)) for v in values.ravel()]).reshape(values.shape)


def _draw_line(axes: Axes, around: Surroundings, n: int) -> None:
    result, number = around.optimum, _named(around.optimum, around.names[n][0])
    x = np.array([number.shown(float(v)) for v in around.grids[n][0]])
    y, is_out = _shown(result, around.values[n]), around.left[n] < -_MET
    mark = "o" if number.is_whole else ""
    axes.plot(x, y, marker=mark, ms=4, **style.stroke(0))
    spread = float(np.nanmax(y) - np.nanmin(y)) or 1.0
    axes.set_ylim(float(np.nanmin(y)) - 0.06 * spread, float(np.nanmax(y)) + 0.12 * spread)
    axes.fill_between(x, *axes.get_ylim(), where=is_out, color=_OUT, alpha=0.5, hatch="///", edgecolor="white", lw=0)
    axes.set_xlim(float(x.min()), float(x.max()))
    best = number.shown(number.value), result.objective.shown(result.display, result.value)
    axes.plot(*best, "*", ms=15, mfc="white", mec=style.INK, mew=1.4, zorder=5, clip_on=False)
    style.dress(
        axes, _label(number), _objective(result) if n == 0 else "", f"{number.name} {number.text(number.value)}"
    )


def _draw_map(figure: Figure, axes: Axes, around: Surroundings) -> None:
    result = around.optimum
    first, second = (_named(result, name) for name in around.names[0])
    x, y = (
        np.array([one.shown(float(v)) for v in grid])
        for one, grid in zip((first, second), around.grids[0], strict=True)
    )
    z = _shown(result, around.values[0]).T
    filled = axes.contourf(x, y, z, levels=14, cmap="cividis")
    lines = axes.contour(x, y, z, levels=np.asarray(filled.levels)[::2], colors=style.INK, linewidths=0.7)
    axes.clabel(lines, fontsize=8, fmt=lambda v: f"{v:.4g}")
    figure.colorbar(filled, ax=axes, label=_objective(result))
    left = around.left[0].T
    if (left < -_MET).any():
        axes.contourf(x, y, left, levels=[-1e300, -_MET], colors=[_OUT], alpha=0.75, hatches=["///"])
    best = first.shown(first.value), second.shown(second.value)
    axes.plot(*best, "*", ms=18, mfc="white", mec=style.INK, mew=1.4, zorder=5, clip_on=False)
    style.dress(
        axes,
        _label(first),
        _label(second),
        f"star: {first.name} {first.text(first.value)}, {second.name} {second.text(second.value)}",
    )
