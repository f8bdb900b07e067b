"""Comparisons of vessels."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.contract.run_result import RunResult
from molino.core.design.comparison import Comparison
from molino.core.statistics import half_width
from molino.desk.figures import style


@style.draws
def comparison(result: Comparison) -> Figure:
    """A panel per quantity (volume, residence time, each metric), a bar per vessel, with 95 % intervals where known.

    Parameters
    ----------
    result : Comparison

    Returns
    -------
    matplotlib Figure
    """
    target = _target_of(result)
    panels, equal = _panels(result, target), []
    if len(result.runs) > 1 and not all(panel.is_equal for panel in panels):
        equal = [panel for panel in panels if panel.is_equal]
        panels = [panel for panel in panels if not panel.is_equal]
    columns = 1 if len(panels) == 1 else 2 if len(panels) <= 4 else 3
    rows = math.ceil(len(panels) / columns)
    figure = style.blank(height=max(6.25, 2.0 * rows))
    grid = figure.subplots(rows, columns, squeeze=False, sharey=True)
    for n, axes in enumerate(grid.flat):
        if n >= len(panels):
            axes.set_visible(False)
            continue
        _draw(axes, panels[n], result)
    grid[0][0].invert_yaxis()
    known = any(error for panel in panels for error in panel.errors)
    note = "    ± and bars: 95 % interval from the fit of the constants" if known else ""
    sized = f", each sized for {target[0]} = {target[1]}" if target is not None else ""
    alike = [f"{panel.title} {result.display.text(panel.values[0], panel.kind)}" for panel in equal]
    of_all = f"\nall vessels: {', '.join(alike)}" if alike else ""
    figure.suptitle(f"Comparison{sized}{note}{of_all}", x=0.01, ha="left", fontsize=11)
    return figure


class _Panel(NamedTuple):
    """A quantity of each vessel with its standard deviation (0 where unknown), in SI."""

    title: str
    kind: str
    values: list[float]
    errors: list[float]

    @property
    def is_equal(self) -> bool:
        """Whether all vessels have the same value."""
        return max(self.values) - min(self.values) <= 1e-6 * abs(max(self.values, key=abs))


def _panels(result: Comparison, target: tuple[str, str] | None) -> list[_Panel]:
    """Without the metric that all vessels were sized for, and without quantities that no vessel has."""
    flowing = [0.0 if run.duty_kind == "energy" else 1.0 for run in result.runs]
    volumes = [run.volume_si for run in result.runs]
    times = [run.residence_time_si for run in result.runs]
    sizes = [error or 0.0 for error in result.size_errors]
    of_volumes = [v * e * f if e else 0.0 for v, e, f in zip(volumes, sizes, flowing, strict=True)]
    of_times = [t * e if e else 0.0 for t, e in zip(times, sizes, strict=True)]
    panels = [_Panel("volume", "volume", volumes, of_volumes), _Panel("residence time", "time", times, of_times)]
    for metric in result.metrics:
        name = str(metric)
        errors = [e[name] or 0.0 for e in result.errors]
        panels.append(_Panel(name, metric.kind, [v[name] for v in result.values], errors))
    known = [panel for panel in panels if any(math.isfinite(v) for v in panel.values)]
    return [panel for panel in known if target is None or panel.title != target[0]]


def _draw(axes: Axes, panel: _Panel, result: Comparison) -> None:
    display = result.display
    values = [float(display.number(v, panel.kind)) for v in panel.values]
    unit = float(display.number(1.0, panel.kind)) - float(display.number(0.0, panel.kind))
    halves = [e * _factor(run) * unit for e, run in zip(panel.errors, result.runs, strict=True)]
    style.dress(axes, "", "", display.label(panel.title, panel.kind))
    places = range(len(values))
    lengths = [v if math.isfinite(v) else 0.0 for v in values]
    axes.barh(places, lengths, color=[style.COLOURS[i % len(style.COLOURS)] for i in places], height=0.6)
    for i, (value, half) in enumerate(zip(values, halves, strict=True)):
        if half:
            axes.errorbar(value, i, xerr=half, color=style.INK, capsize=4, linewidth=1.2)
        text = plus_minus(value, half) if math.isfinite(value) else "does not apply"
        side = -1 if value < 0 else 1
        look: style.Look = {"va": "center", "ha": "left" if side > 0 else "right", "fontsize": 9}
        axes.annotate(text, (lengths[i] + side * half, i), (5 * side, 0), textcoords="offset points", **look)
    ends = [value + half for value, half in zip(values, halves, strict=True)]
    _limits(axes, panel.kind, [v for v in values if math.isfinite(v)], [e for e in ends if math.isfinite(e)])
    axes.set_yticks(list(places), result.labels)
    axes.grid(False, axis="y")


def _target_of(result: Comparison) -> tuple[str, str] | None:
    """The metric that all vessels were sized for, and its value."""
    sizings = [s for s in result.sizings if s is not None]
    alike = {(str(s.metric), s.target) for s in sizings}
    if len(sizings) < len(result.runs) or len(alike) != 1 or any(s.margin is not None for s in sizings):
        return None
    first = sizings[0]
    return str(first.metric), result.display.text(first.target, first.metric.kind)


def _limits(axes: Axes, kind: str, values: Sequence[float], ends: Sequence[float]) -> None:
    """Bars from zero, to either side; of temperatures, from a little below the lowest."""
    low, high = min((*values, 0.0)), max((*ends, 0.0))
    if kind == "temperature":
        spread = max(values) - min(values)
        low = min(values) - max(0.5 * spread, 0.02 * abs(max(values)), 1.0)
        axes.set_xlim(low, high + 0.6 * (high - low))
        return
    span = high - low or 1.0
    axes.set_xlim(low - 0.55 * span if low < 0 else 0.0, high + 0.55 * span if high > 0 else 0.1 * span)


def _factor(run: RunResult) -> float:
    """Student's t for 95 %, or 0 if the constants have no covariance."""
    covariance = run.vessel.chemistry.covariance
    return half_width(1.0, covariance.degrees_of_freedom) if covariance is not None else 0.0


def plus_minus(value: float, half: float) -> str:
    """A value with its half interval, both to the same decimal: '0.702 ± 0.016'."""
    if not half or not math.isfinite(half):
        return f"{value:.4g}"
    decimals = max(0, 1 - math.floor(math.log10(half)))
    return f"{value:.{decimals}f} ± {half:.{decimals}f}"
