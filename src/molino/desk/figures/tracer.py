"""E and F of a tracer test, with moments and models."""

from __future__ import annotations

import math

import numpy as np
from matplotlib.figure import Figure

from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.mixing.flow_fit_result import FlowComparison
from molino.desk.figures import style

_MODELS = 3
"""Number of drawn models."""
_WIDE = 6.0
"""Drawn range, in mean residence times, of a distribution of infinite variance."""


@style.draws
def tracer(distribution: ResidenceTimeDistribution, models: FlowComparison | None = None) -> Figure:
    """E as measured and smoothed, with the mean and one standard deviation on both sides, F below, models in both.

    Parameters
    ----------
    distribution : ResidenceTimeDistribution
    models : FlowComparison, optional
        The most likely of them are drawn.

    Returns
    -------
    matplotlib Figure
    """
    shown = distribution.display
    figure = style.blank()
    upper, lower = figure.subplots(2, 1, sharex=True, height_ratios=[3, 2])
    t, per = shown.number(distribution.times, "time"), float(shown.number(1.0, "time"))
    unit = shown.unit("time")
    style.dress(upper, "", f"E [1/{unit}]" if unit else "E")
    style.dress(lower, shown.label("time", "time"), "F")
    if distribution.is_rough:
        style.dots(upper, 0, t, distribution.E / per, "measured")
    curve = distribution.smoothed
    upper.plot(t, curve / per, **style.stroke(0), label="smoothed" if distribution.is_rough else "E")
    lower.plot(t, distribution.F, **style.stroke(0))
    end = float(distribution.times[-1])
    left = 1 - float(distribution.F[-1])
    last = end
    if left > 1e-3 and math.isfinite(distribution.tail_rate):
        last = min(end + 3 / distribution.tail_rate, 1.25 * end)
        later = np.linspace(end, last, 40)
        fall = left * np.exp(-distribution.tail_rate * (later - end))
        look = {"color": style.QUIET, "lw": 1.6, "ls": (0, (2, 1.5))}
        upper.plot(shown.number(later, "time"), distribution.tail_rate * fall / per, **look, label="extrapolated tail")
        lower.plot(shown.number(later, "time"), 1 - fall, **look)
    times = np.linspace(max(last / 800, 1e-12), last, 800)
    for n, fit in enumerate(models.fits[:_MODELS] if models is not None else (), 1):
        upper.plot(
            shown.number(times, "time"), fit.model.E(times, fit.mean_si) / per, **style.stroke(n), label=fit.model.noun
        )
        lower.plot(shown.number(times, "time"), fit.model.F(times, fit.mean_si), **style.stroke(n))
    mean, spread = distribution.mean_si, math.sqrt(distribution.variance_si)
    if math.isfinite(spread):
        low, high = (float(shown.number(x, "time")) for x in (max(mean - spread, 0.0), mean + spread))
        upper.axvspan(low, high, color=style.COLOURS[4], alpha=0.18, lw=0, label="mean ± standard deviation")
    else:
        last = _WIDE * mean
    for axes in (upper, lower):
        axes.axvline(float(shown.number(mean, "time")), color=style.INK, lw=1.2)
        if distribution.space_time_si is not None:
            axes.axvline(float(shown.number(distribution.space_time_si, "time")), color=style.INK, lw=1.2, ls=":")
    if distribution.space_time_si is not None:
        upper.plot([], [], color=style.INK, lw=1.2, ls=":", label="space time")
    upper.set_xlim(0.0, float(shown.number(last, "time")))
    upper.set_ylim(0.0, 1.12 * min(float(np.max(distribution.E)), 2.5 * float(np.max(curve))) / per)
    lower.set_ylim(0.0, 1.03)
    upper.legend(loc="upper right", frameon=False)
    figure.suptitle(_title(distribution), x=0.01, ha="left", fontsize=11)
    return figure


def _title(distribution: ResidenceTimeDistribution) -> str:
    facts = [f"mean {distribution.display.text(distribution.mean_si, 'time')}"]
    variance = distribution.relative_variance
    facts.append(f"relative variance {variance:.3g}" if math.isfinite(variance) else "infinite variance")
    if math.isfinite(distribution.dead_fraction):
        facts.append(f"dead fraction {distribution.dead_fraction:.2g}")
    if math.isfinite(distribution.recovery):
        facts.append(f"recovery {distribution.recovery:.3g}")
    return "Residence times: " + ", ".join(facts)
