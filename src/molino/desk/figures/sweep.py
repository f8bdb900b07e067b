"""Metrics over the conditions of a sweep: lines, families of lines, contours."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
from matplotlib import patheffects
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.annotations import PlainData
from molino.core.design.sweep_result import Sweep, SweptCondition
from molino.core.errors import InputError, nearest
from molino.desk.figures import style

_FAMILY = 6
"""The largest number of lines of a family; with more values a condition is an axis of contours."""
_DECADE = 9.99
_OWN: PlainData = {"marker": "*", "ms": 13, "mfc": "white", "mec": style.INK, "linestyle": "none"}


@style.draws
def sweep(result: Sweep, metrics: Sequence[str] | None = None, kind: Literal["", "lines", "contours"] = "") -> Figure:
    """A panel per metric over the swept condition: a line, a family of lines, or contours, the operating point as a
    star.

    One condition gives a line. Of two, the one with fewer values gives a family of lines; with more than six values of
    both, contours. Of more than two, those with the fewest values are fixed at the value nearest to the vessel's own. A
    list of cases is drawn over their number.

    Parameters
    ----------
    result : Sweep
    metrics : sequence of str, optional
        Some of its metrics by their texts; by default all.
    kind : "lines" or "contours", optional
        By default chosen by the number of values.

    Returns
    -------
    matplotlib Figure

    Raises
    ------
    InputError
        If it has no such metric, or nothing was varied.
    """
    known = [str(m) for m in result.metrics]
    asked = known if metrics is None else list(metrics)
    for name in asked:
        if name not in known:
            raise InputError(f"the sweep has no '{name}'", "figure", nearest(name, known))
    if not asked:
        raise InputError("no metric is given", "figure", nearest("", known))
    if not result.varied:
        raise InputError("a single case cannot be drawn", "figure", "give a condition two values or more")
    figure, panels, _ = style.grid_of(len(asked))
    places = [known.index(name) for name in asked]
    if not result.is_grid:
        note = _draw_cases(result, places, panels)
    else:
        note = _draw_grid(figure, result, places, panels, kind)
    figure.suptitle(f"Sweep of {result.vessel.label}{note}", x=0.01, ha="left", fontsize=11)
    return figure


def _draw_cases(result: Sweep, places: Sequence[int], panels: Sequence[Axes]) -> str:
    """Every case over its number."""
    numbers = np.arange(1, len(result.numbers) + 1)
    for place, axes in zip(places, panels, strict=True):
        metric = result.metrics[place]
        shown = result.display.number(result.numbers[:, place], metric.kind)
        axes.plot(numbers, shown, style.MARKS[0], color=style.COLOURS[0], ms=6)
        style.dress(axes, "case", result.display.label(str(metric), metric.kind))
        axes.set_xticks(numbers if len(numbers) <= 20 else numbers[:: len(numbers) // 10])
    return ": the cases in their order"


def _draw_grid(figure: Figure, result: Sweep, places: Sequence[int], panels: Sequence[Axes], kind: str) -> str:
    order = sorted(result.varied, key=lambda c: (c.numbers is None, -len(c.values)))
    first, second = order[0], order[1] if len(order) > 1 else None
    index: list[int | slice] = [0] * len(result.conditions)
    held = order[2:]
    for i, condition in enumerate(result.conditions):
        index[i] = _nearest_own(condition) if condition in held else slice(None) if condition in order[:2] else 0
    is_plane = second is not None and first.numbers is not None and second.numbers is not None
    contours = is_plane and (kind == "contours" or (kind == "" and len(order[1].values) > _FAMILY))
    for place, axes in zip(places, panels, strict=True):
        metric = result.metrics[place]
        values = result.display.number(result.values[str(metric)][tuple(index)], metric.kind)
        own = float(result.display.number(result.operating_point[place], metric.kind))
        label = result.display.label(str(metric), metric.kind)
        if second is not None and result.conditions.index(first) > result.conditions.index(second):
            values = values.T
        if contours and second is not None:
            _draw_contours(figure, axes, first, second, values, label)
        else:
            _draw_lines(axes, first, second, np.atleast_2d(values.T), own, label)
    fixed = [*held, *(c for c in result.conditions if len(c.values) == 1)]
    at = ", ".join(f"{c.name} = {c.text(_nearest_own(c))}" for c in fixed)
    has_star = any(line.get_marker() == "*" for axes in panels for line in axes.lines)
    mark = "    star: operating point" if has_star else ""
    return (f" at {at}" if at else "") + mark


def _nearest_own(condition: SweptCondition) -> int:
    """The place of the value nearest to the vessel's own, else that in the middle."""
    if condition.numbers is None or not np.isfinite(condition.own):
        return len(condition.values) // 2
    return int(np.argmin(np.abs(condition.numbers - condition.own)))


def _axis(condition: SweptCondition) -> np.ndarray:
    """The places of its values on an axis."""
    return np.arange(len(condition.values)) if condition.numbers is None else condition.numbers


def _is_logarithmic(condition: SweptCondition) -> bool:
    """Whether its values span a decade in equal ratios."""
    x = condition.numbers
    if x is None or len(x) < 3 or x.min() <= 0 or x.max() / x.min() < _DECADE:
        return False
    ratios = np.diff(np.log(x))
    return bool(np.ptp(ratios) < 1e-6 * np.max(np.abs(ratios)))


def _scale(axes: Axes, condition: SweptCondition, which: str) -> None:
    if condition.numbers is None:
        names = [str(v) for v in condition.values]
        (axes.set_xticks if which == "x" else axes.set_yticks)(range(len(names)), names)
    elif _is_logarithmic(condition):
        (axes.set_xscale if which == "x" else axes.set_yscale)("log")
        style.plain_log(axes.xaxis if which == "x" else axes.yaxis)


def _draw_lines(
    axes: Axes, first: SweptCondition, second: SweptCondition | None, rows: np.ndarray, own: float, label: str
) -> None:
    """One line for each value of the second condition; `rows` has shape (values of the second, of the first)."""
    x = _axis(first)
    order = np.argsort(x, kind="stable")
    for n, row in enumerate(rows):
        marker = style.MARKS[n % len(style.MARKS)] if len(x) <= 25 else ""
        name = second.text(n) if second is not None else ""
        axes.plot(x[order], row[order], marker=marker, ms=4, label=name, **style.stroke(n))
    style.dress(axes, first.label, label)
    _scale(axes, first, "x")
    if second is not None:
        axes.legend(title=second.name, fontsize=8, title_fontsize=8)
    inside = x.min() <= first.own <= x.max() and np.isfinite(own)
    if inside and first.numbers is not None and (second is None or _is_among(second)):
        axes.plot(first.own, own, **_OWN)


def _is_among(condition: SweptCondition) -> bool:
    """Whether the vessel's own value is one of those of the sweep."""
    x = condition.numbers
    return x is not None and bool(np.isclose(x, condition.own, rtol=1e-9).any())


def _draw_contours(
    figure: Figure, axes: Axes, first: SweptCondition, second: SweptCondition, values: np.ndarray, label: str
) -> None:
    """Filled contours with numbers on their lines; `values` has shape (values of the first, of the second)."""
    x, y = _axis(first), _axis(second)
    by_x, by_y = np.argsort(x), np.argsort(y)
    shown = np.ma.masked_invalid(values[np.ix_(by_x, by_y)].T)
    style.dress(axes, first.label, second.label)
    _scale(axes, first, "x")
    _scale(axes, second, "y")
    axes.set_facecolor("#d9d9d9")
    if shown.count() and float(np.ptp(shown.compressed())) > 0:
        filled = axes.contourf(x[by_x], y[by_y], shown, levels=12, cmap="cividis")
        levels = np.asarray(filled.levels, dtype=float)[::2]
        lines = axes.contour(x[by_x], y[by_y], shown, levels=levels, colors=style.INK, linewidths=0.8)
        halo: list[patheffects.AbstractPathEffect] = [patheffects.withStroke(linewidth=2.5, foreground="white")]
        for text in axes.clabel(lines, fmt=lambda value: f"{value:.3g}", fontsize=9):
            text.set_path_effects(halo)
        figure.colorbar(filled, ax=axes, label=label)
    axes.grid(False)
    if x.min() <= first.own <= x.max() and y.min() <= second.own <= y.max():
        axes.plot(first.own, second.own, **_OWN)
