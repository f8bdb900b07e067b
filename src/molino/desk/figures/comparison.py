"""Vessels side by side."""

from __future__ import annotations

import math

from matplotlib.figure import Figure

from molino.core.design.comparison import Comparison
from molino.core.statistics import half_width
from molino.core.vessels.run import Run
from molino.core.vessels.train import TrainRun
from molino.desk.figures import style


@style.draws
def comparison(result: Comparison) -> Figure:
    """A panel a quantity (volume, residence time, each metric), a bar a vessel, with 95 % intervals where known.

    Parameters
    ----------
    result : Comparison

    Returns
    -------
    matplotlib Figure
    """
    display = result.display
    flowing = [0.0 if run.duty_kind == "energy" else 1.0 for run in result.runs]
    volumes = [run.volume_si for run in result.runs]
    times = [run.residence_time_si for run in result.runs]
    sizes = [error or 0.0 for error in result.size_errors]
    panels = [
        ("volume", "volume", volumes, [v * e * f for v, e, f in zip(volumes, sizes, flowing, strict=True)]),
        ("residence time", "time", times, [t * e for t, e in zip(times, sizes, strict=True)]),
    ]
    for metric in result.metrics:
        name = str(metric)
        errors = [e[name] or 0.0 for e in result.errors]
        panels.append((name, metric.kind, [v[name] for v in result.values], errors))
    factors = [_factor(run) for run in result.runs]
    columns = 1 if len(panels) == 1 else 2 if len(panels) <= 4 else 3
    rows = math.ceil(len(panels) / columns)
    figure = style.blank(height=max(6.25, 2.0 * rows))
    grid = figure.subplots(rows, columns, squeeze=False, sharey=True)
    for n, axes in enumerate(grid.flat):
        if n >= len(panels):
            axes.set_visible(False)
            continue
        title, kind, values, errors = panels[n]
        values = [float(display.number(v, kind)) for v in values]
        unit = float(display.number(1.0, kind)) - float(display.number(0.0, kind))
        halves = [e * f * unit for e, f in zip(errors, factors, strict=True)]
        style.dress(axes, "", "", display.label(title, kind))
        places = range(len(values))
        colours = [style.COLOURS[i % len(style.COLOURS)] for i in places]
        axes.barh(places, values, color=colours, height=0.6)
        ends = []
        for i, (value, half) in enumerate(zip(values, halves, strict=True)):
            if half:
                axes.errorbar(value, i, xerr=half, color=style.INK, capsize=4, linewidth=1.2)
            ends.append(value + half)
            text = plus_minus(value, half)
            axes.annotate(text, (ends[-1], i), (5, 0), textcoords="offset points", va="center", fontsize=9)
        top = max(ends, default=1.0)
        axes.set_xlim(0, top * 1.55 if top > 0 else 1)
        axes.set_yticks(list(places), result.labels)
        axes.grid(False, axis="y")
    grid[0][0].invert_yaxis()
    known = any(error for *_, errors in panels for error in errors)
    note = "    ± and bars: 95 % interval from the fit of the constants" if known else ""
    figure.suptitle(f"Side by side{note}", x=0.01, ha="left", fontsize=11)
    return figure


def _factor(run: Run | TrainRun) -> float:
    """Student's t for 95 %, or 0 where the constants have no covariance."""
    covariance = run.vessel.chemistry.covariance
    return half_width(1.0, covariance.degrees_of_freedom) if covariance is not None else 0.0


def plus_minus(value: float, half: float) -> str:
    """A value with its half interval, both to the same decimal: '0.702 ± 0.016'."""
    if not half or not math.isfinite(half):
        return f"{value:.4g}"
    decimals = max(0, 1 - math.floor(math.log10(half)))
    return f"{value:.{decimals}f} ± {half:.{decimals}f}"
