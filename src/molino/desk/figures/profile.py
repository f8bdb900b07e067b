"""Profiles along a run."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from molino.core.errors import InputError
from molino.core.vessels.run import Run
from molino.desk.figures import style


def profile(run: Run) -> Figure:
    """Concentrations above, rates below, against time or along the tube.

    Parameters
    ----------
    run : Run
        Of a batch, a tube, or a tank's start-up.

    Returns
    -------
    matplotlib Figure

    Raises
    ------
    InputError
        For a steady tank, which has no profile.
    """
    if run.is_steady:
        raise InputError("a steady tank has no profile", run.vessel.label, "run its start-up: tank.run('6 h')")
    display = run.vessel.display
    name, kind, along = run.positions()[0]
    x = display.number(along, kind)
    figure = style.blank()
    rate_kinds = run.vessel.rate_kinds
    kinds = list(dict.fromkeys(rate_kinds.values()))
    upper, *lower = figure.subplots(1 + len(kinds), 1, sharex=True, height_ratios=[3, *[2] * len(kinds)])
    count = 0
    for species, values in run.concentrations.items():
        if np.ptp(values) > 1e-9 * max(float(np.max(values)), 1e-300):
            upper.plot(x, display.number(values, "concentration"), label=species, **style.stroke(count))
            count += 1
    style.dress(upper, "", display.label("concentration", "concentration"), str(run.vessel.title))
    for n, (rate, rate_kind) in enumerate(rate_kinds.items()):
        values = display.number(run.derived[rate], rate_kind)
        lower[kinds.index(rate_kind)].plot(x, values, label=rate.removeprefix("rate of "), **style.stroke(n))
    for axes, rate_kind in zip(lower, kinds, strict=True):
        label = display.label(name, kind) if axes is lower[-1] else ""
        style.dress(axes, label, display.label(rate_kind, rate_kind))
    for axes in (upper, *lower):
        axes.legend(frameon=False, loc="center left", bbox_to_anchor=(1.0, 0.5), handlelength=3.2)
        axes.set_ylim(bottom=0 if min(float(np.min(line.get_ydata())) for line in axes.lines) >= 0 else None)
    upper.set_xlim(float(x[0]), float(x[-1]))
    return figure
