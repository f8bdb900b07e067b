"""Posterior distributions of constants, and the comparison of all intervals."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import scipy
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core import units
from molino.core.errors import InputError
from molino.core.fitting.draws import Draws
from molino.core.fitting.fit_result import Fit
from molino.core.fitting.posterior import Posterior
from molino.core.fitting.profile_likelihood import ProfileLikelihood
from molino.core.statistics import student_t_quantile
from molino.desk.figures import style

_MOST_WALKERS = 12
"""Walkers whose traces are drawn."""
_REACH = 4.0
"""Half width of a panel in standard errors."""


@style.draws
def posterior(result: Posterior) -> Figure:
    """The trace of some walkers for each constant, and its distribution with the 95 % interval.

    Parameters
    ----------
    result : Posterior

    Returns
    -------
    matplotlib Figure
    """
    count = len(result.names)
    figure = style.blank(width=10.5, height=min(1.2 + 1.75 * count, 14.0))
    grid = figure.subplots(count, 2, squeeze=False, width_ratios=(1.7, 1.0))
    for n, (trace, distribution) in enumerate(grid):
        name, unit = result.names[n], units.unit(result.units[n] or "")
        label = style.named(name, result.units[n])
        is_last = n == count - 1
        title = f"effective draws {result.effective[n]:.0f}, R-hat {result.r_hat[n]:.3f}"
        style.dress(trace, "step" if is_last else "", label, title)
        trace.plot(unit.from_si(result.chains[:, :_MOST_WALKERS, n]), color=style.COLOURS[0], lw=0.35, alpha=0.6)
        if result.discarded:
            trace.axvspan(0, result.discarded, color=style.QUIET, alpha=0.25, lw=0)
        low, high = (unit.from_si(end) for end in result.intervals[name])
        style.dress(distribution, label if is_last else "", "", f"{low:.4g} to {high:.4g}")
        distribution.hist(unit.from_si(result.draws[:, n]), bins=40, color=style.COLOURS[4], ec="white", lw=0.3)
        for end in (low, high):
            distribution.axvline(end, color=style.COLOURS[1], linestyle="--", linewidth=1.4)
        distribution.set_yticks([])
    figure.suptitle(
        "Traces (gray: discarded) and posterior distributions with 95 % intervals", x=0.01, ha="left", fontsize=11
    )
    return figure


@style.draws
def intervals(result: Fit, profiles: Mapping[str, ProfileLikelihood] | None = None, *draws: Draws) -> Figure:
    """The uncertainty of each constant by all methods: linear model, profile likelihood, bootstrap, posterior.

    Curves are relative to their maximum; the bars below are the 95 % intervals.

    Parameters
    ----------
    result : Fit
    profiles : mapping of name to ProfileLikelihood, optional
    draws : Bootstrap and Posterior, optional

    Returns
    -------
    matplotlib Figure
    """
    shown = [e for e in result.estimates if np.isfinite(e.standard_error)]
    if not shown:
        raise InputError("no constant is determined", "intervals", "see the warnings of the fit")
    figure, panels, columns = style.grid_of(len(shown))
    t = student_t_quantile(0.975, result.degrees_of_freedom)
    for n, (axes, estimate) in enumerate(zip(panels, shown, strict=True)):
        unit = units.unit(estimate.unit or "")
        label = style.named(estimate.name, estimate.unit)
        style.dress(axes, label, "relative density" if n % columns == 0 else "")
        x = estimate.value + estimate.standard_error * np.linspace(-_REACH, _REACH, 200)
        normal = np.exp(-0.5 * ((x - estimate.value) / estimate.standard_error) ** 2)
        _curve(axes, 0, unit.from_si(x), normal, estimate.shown()[2:], "linear model")
        if profiles is not None and estimate.name in profiles:
            one = profiles[estimate.name]
            order = np.argsort(one.values)
            values, tau = one.values[order], one.tau[order]
            x = np.linspace(values[0], values[-1], 200)
            density = np.exp(-0.5 * (scipy.interpolate.PchipInterpolator(values, tau)(x) * 1.96 / t) ** 2)
            _curve(axes, 1, unit.from_si(x), density, one.shown(), "profile likelihood")
        for i, own in enumerate(draws, 2):
            values = unit.from_si(own.draws[:, own.names.index(estimate.name)])
            x = np.linspace(values.min(), values.max(), 200)
            heights = scipy.stats.gaussian_kde(values)(x)
            low, high = (float(unit.from_si(end)) for end in own.intervals[estimate.name])
            _curve(axes, i, x, heights / heights.max(), (low, high), type(own).__name__.lower())
        reach = unit.from_si(estimate.value + estimate.standard_error * np.array([-_REACH, _REACH]) * 1.15)
        axes.set_xlim(*reach)
        axes.set_ylim(-0.13 * (2 + len(draws)) - 0.05, 1.08)
        axes.set_yticks([0, 0.5, 1])
        axes.locator_params(axis="x", nbins=5)
    handles = dict(zip(*reversed(panels[0].get_legend_handles_labels()), strict=True))
    figure.legend(handles.values(), handles.keys(), loc="outside lower center", ncols=4, frameon=False)
    figure.suptitle("Uncertainty of the constants, with 95 % intervals as bars", x=0.01, ha="left", fontsize=11)
    return figure


def _curve(axes: Axes, i: int, x: np.ndarray, density: np.ndarray, ends: tuple[float, float], label: str) -> None:
    """A density with its interval below."""
    line = style.stroke(i)
    axes.plot(x, density, label=label, **line)
    low, high = (np.clip(end, -1e300, 1e300) for end in ends)
    axes.plot([low, high], [-0.13 * (i + 1)] * 2, color=line["color"], lw=3, solid_capstyle="butt")
