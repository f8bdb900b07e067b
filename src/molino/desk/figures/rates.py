"""Rates: the curves that they are derived from, and the lines of a power law."""

from __future__ import annotations

import math

import numpy as np
from matplotlib.figure import Figure

from molino.core.fitting.rates.power_law import PowerLaw
from molino.core.fitting.rates.rates import Rates
from molino.core.statistics import p_text
from molino.core.units import pretty
from molino.desk.figures import style


@style.draws
def slopes(result: Rates) -> Figure:
    """The concentrations of each run with their curve, and a tangent at each rate.

    Parameters
    ----------
    result : Rates
        From concentrations over time.

    Returns
    -------
    matplotlib Figure
    """
    display, runs = result.display, result.slopes
    figure, panels, columns = style.grid_of(len(runs), 3.0, sharey=True)
    for n, axes in enumerate(panels):
        found = runs[n]
        bottom, left = n + columns >= len(runs), n % columns == 0
        smooth = f", smoothing {found.smoothing:.1e}" if math.isfinite(found.smoothing) else ""
        style.dress(
            axes,
            display.label("time", "time") if bottom else "",
            display.label(result.species, "concentration") if left else "",
            f"{found.run}{smooth}",
        )
        length = 0.08 * float(np.ptp(found.times))
        many = len(found.slope) == len(found.at)
        for t, c, slope in zip(found.at if many else found.at[:1], found.curve, found.slope, strict=False):
            ends = np.array([t - length, t + length]) if many else np.array([t, t + 4 * length])
            rise = display.number(c + slope * (ends - t), "concentration")
            axes.plot(display.number(ends, "time"), rise, color=style.COLOURS[1], linewidth=1.4, zorder=3)
        x, y = display.number(found.at, "time"), display.number(found.curve, "concentration")
        axes.plot(x, y, color=style.COLOURS[0], linewidth=4, alpha=0.35)
        style.dots(axes, 0, display.number(found.times, "time"), display.number(found.values, "concentration"))
    panels[0].set_ylim(bottom=0)
    figure.suptitle(f"{result.response.capitalize()}: {result.how}", x=0.01, ha="left", fontsize=11, wrap=True)
    return figure


@style.draws
def power_law(result: PowerLaw) -> Figure:
    """Parity, the line of each order (ln r less the effect of the other concentrations and T, over ln c), residuals.

    Parameters
    ----------
    result : PowerLaw

    Returns
    -------
    matplotlib Figure
    """
    rates, display = result.rates, result.rates.display
    count = len(result.species) + 2
    figure, panels, _ = style.grid_of(count, 3.4, 4.6)
    measured = display.number(rates.rate[result.used], rates.kind)
    fitted = display.number(result.fitted, rates.kind)
    unit = display.unit(rates.kind)
    style.dress(
        panels[0], display.label("measured rate", rates.kind), display.label("fitted rate", rates.kind), "parity"
    )
    ends = [min(measured.min(), fitted.min()) * 0.9, max(measured.max(), fitted.max()) * 1.1]
    panels[0].plot(ends, ends, color=style.QUIET, linewidth=1)
    style.dots(panels[0], 0, measured, fitted)
    for n, species in enumerate(result.species, 1):
        axes = panels[n]
        c = display.number(rates.concentrations[species][result.used], "concentration")
        order = result.orders[species]
        low, high = result.interval(species)
        mean = float(np.exp(np.mean(np.log(c))))
        at_mean = fitted / (c / mean) ** order  # the effect of the rest of the law
        level = float(np.exp(np.mean(np.log(at_mean))))
        style.dress(
            axes,
            display.label(f"[{species}]", "concentration"),
            f"rate at mean conditions [{pretty(unit)}]" if unit else "rate at mean conditions",
            f"order in {species}: {order:.3g} ({low:.3g} to {high:.3g})",
        )
        grid = np.array([c.min() / 1.1, c.max() * 1.1])
        axes.plot(grid, level * (grid / mean) ** order, color=style.COLOURS[n], linewidth=1.8)
        style.dots(axes, n, c, measured * level / at_mean)
    last = panels[-1]
    signs = f"{result.signs.runs} runs of signs, p {p_text(result.signs.probability)}"
    style.dress(last, display.label("fitted rate", rates.kind), "residual of ln r", signs)
    last.axhline(0.0, color=style.QUIET, linewidth=1)
    style.dots(last, 0, fitted, result.residuals)
    last.set_xscale("log")
    limit = 1.15 * max(float(np.max(np.abs(result.residuals))), 1e-6)
    last.set_ylim(-limit, limit)
    style.plain_log(last.xaxis)
    for axes in panels[:-1]:
        axes.set_xscale("log")
        axes.set_yscale("log")
        style.plain_logs(axes)
    figure.suptitle(
        f"Power law: R² of ln r {result.r_squared:.4f}, {rates.how}", x=0.01, ha="left", fontsize=11, wrap=True
    )
    return figure
