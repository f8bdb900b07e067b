"""The uncertainty of the constants of a fit."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core import units
from molino.core.fitting.bootstrap import Bootstrap
from molino.core.fitting.discrimination import Discrimination
from molino.core.fitting.fit_result import Fit
from molino.core.fitting.profile_likelihood import ProfileLikelihood, Region
from molino.core.statistics import student_t_quantile
from molino.desk.figures import style
from molino.desk.figures.residuals import variable_kind

_MOST_VARIABLES = 3
"""Conditions over which residuals are drawn."""


@style.draws
def profiles(result: Fit, found: dict[str, ProfileLikelihood]) -> Figure:
    """Each constant's profile: tau over the constant, dashed for the linear model, with the 95 % interval.

    Parameters
    ----------
    result : Fit
    found : mapping of name to ProfileLikelihood
        From `Fit.profile_likelihood`.

    Returns
    -------
    matplotlib Figure
    """
    figure, panels, _ = style.grid_of(len(found))
    t = student_t_quantile(0.975, result.degrees_of_freedom)
    for axes, (name, one) in zip(panels, found.items(), strict=True):
        unit = units.unit(one.unit or "")
        low, high = one.shown()
        style.dress(axes, style.named(name, one.unit), "τ", f"{low:.4g} to {high:.4g}")
        estimate = result[name]
        x = unit.from_si(one.values)
        centre, error = unit.from_si(one.estimate), estimate.standard_error / unit.factor
        if np.isfinite(error) and error > 0:
            axes.plot(
                centre + error * np.array([-1.3 * t, 1.3 * t]), [-1.3 * t, 1.3 * t], "--", color=style.QUIET, lw=1
            )
        axes.plot(x, one.tau, "o-", color=style.COLOURS[0], ms=3, lw=1.6)
        for level, end, flat in ((-t, low, one.flat[0]), (t, high, one.flat[1])):
            axes.axhline(level, color=style.QUIET, lw=0.8)
            if not flat:
                axes.plot([end, end], [-2 * t, level], ":", color=style.COLOURS[1], lw=1.2)
        axes.set_ylim(-1.4 * t, 1.4 * t)
        inside = x[np.abs(one.tau) < 1.4 * t]
        if len(inside) > 1:
            axes.set_xlim(inside.min() - 0.1 * np.ptp(inside), inside.max() + 0.1 * np.ptp(inside))
        axes.locator_params(axis="x", nbins=5)
    figure.suptitle(
        "Profiles, τ = ±√(ΔS / s²), and the linear model (dashed); 95 % intervals dotted",
        x=0.01,
        ha="left",
        fontsize=11,
    )
    return figure


@style.draws
def region(result: Region, draws: Bootstrap | None = None) -> Figure:
    """The joint 95 % region of two constants, with the ellipse of the linear model, and bootstrap refits if given.

    Parameters
    ----------
    result : Region
    draws : Bootstrap, optional

    Returns
    -------
    matplotlib Figure
    """
    figure = style.blank(width=8.0)
    axes = figure.subplots()
    x, y = (units.unit(text or "") for text in result.units)
    labels = [style.named(n, u) for n, u in zip(result.names, result.units, strict=True)]
    style.dress(axes, labels[0], labels[1], "joint 95 % region")
    if draws is not None:
        pair = draws.draws[:, [draws.names.index(n) for n in result.names]]
        axes.plot(
            x.from_si(pair[:, 0]), y.from_si(pair[:, 1]), ".", color=style.COLOURS[4], ms=3, label="bootstrap refits"
        )
    axes.plot(
        x.from_si(result.ellipse[:, 0]), y.from_si(result.ellipse[:, 1]), "--", color=style.QUIET, label="linear model"
    )
    axes.plot(
        x.from_si(result.outline[:, 0]),
        y.from_si(result.outline[:, 1]),
        color=style.COLOURS[0],
        lw=1.8,
        label="profile",
    )
    axes.plot(
        x.from_si(result.estimate[0]), y.from_si(result.estimate[1]), "+", color=style.INK, ms=10, label="estimate"
    )
    axes.legend(frameon=False)
    return figure


@style.draws
def bootstrap(result: Bootstrap) -> Figure:
    """The distribution of each constant over the refits, with its 95 % interval.

    Parameters
    ----------
    result : Bootstrap

    Returns
    -------
    matplotlib Figure
    """
    figure, panels, columns = style.grid_of(len(result.names))
    for n, axes in enumerate(panels):
        name, unit = result.names[n], units.unit(result.units[n] or "")
        low, high = (unit.from_si(end) for end in result.intervals[name])
        style.dress(
            axes, style.named(name, result.units[n]), "refits" if n % columns == 0 else "", f"{low:.4g} to {high:.4g}"
        )
        axes.hist(unit.from_si(result.draws[:, n]), bins=30, color=style.COLOURS[4], edgecolor="white", linewidth=0.4)
        for end in (low, high):
            axes.axvline(end, color=style.COLOURS[1], linestyle="--", linewidth=1.4)
        axes.locator_params(axis="x", nbins=5)
    figure.suptitle(
        f"Bootstrap of {result.kind}: {len(result.draws)} refits; dashed: 95 %", x=0.01, ha="left", fontsize=11
    )
    return figure


@style.draws
def candidates(result: Discrimination, run: str | None = None) -> Figure:
    """The curves of all candidate laws with the data of one run, and their residuals.

    For laws that were fitted to rates: calculated over measured rates, and the residuals over the conditions.

    Parameters
    ----------
    result : Discrimination
    run : str, optional
        By default the run in which the laws differ most.

    Returns
    -------
    matplotlib Figure
    """
    best = next(iter(result.fits.values()))
    if not best.parameter_map.runs:
        return _rate_candidates(result)
    display = best.data.display
    curves = {name: found.curves() for name, found in result.fits.items()}
    names = [r.name for r in best.parameter_map.runs]

    scatter = {r.name: max(r.standard_deviation, 1e-300) for r in best.by_response}

    def apart(name: str) -> float:
        rows = [[v / scatter.get(s, 1.0) for s, v in c[name].values.items()] for c in curves.values()]
        return float(np.max(np.ptp([np.concatenate(row) for row in rows], axis=0)))

    chosen = run if run is not None else max(names, key=apart)
    experiment = next(r for r in best.parameter_map.runs if r.name == chosen)
    responses = [s for s in best.responses if s in experiment.measured]
    figure = style.blank()
    panels = figure.subplots(2, len(responses), squeeze=False, sharex="col", height_ratios=[2.2, 1])
    for column, s in enumerate(responses):
        kind, along = best.data.kind_of(s), experiment.axis_kind
        top, below = panels[0][column], panels[1][column]
        at = f", {display.text(experiment.T, 'temperature')}" if experiment.T is not None else ""
        style.dress(top, "", display.label(s, kind), f"run {chosen}{at}")
        style.dress(below, display.label(experiment.axis, along), "residual [s.d.]" if column == 0 else "")
        below.axhline(0, color=style.QUIET, lw=0.9)
        times = display.number(experiment.times, along)
        for n, (name, found) in enumerate(result.fits.items()):
            band = curves[name][chosen]
            line = style.stroke(n)
            weight = result.weights[name]
            label = f"{name} ({weight:.2f})" if weight >= 0.005 else f"{name} (< 0.01)"
            top.plot(display.number(band.times, along), display.number(band.values[s], kind), **line, label=label)
            places = zip(found.points.run, found.points.response, strict=True)
            own = np.array([r == chosen and q == s for r, q in places])
            scaled = found.points.residuals[own] / best.points.standard_deviation[own]
            look: style.Look = {"color": line["color"], "linestyle": line["linestyle"], "linewidth": 1.0, "ms": 4}
            below.plot(display.number(found.points.time[own], along), scaled, style.MARKS[n % len(style.MARKS)], **look)
        top.plot(times, display.number(experiment.measured[s], kind), "o", color=style.INK, ms=5, mfc="white")
        _room(below)
        if kind == "concentration":
            top.set_ylim(bottom=0)
    panels[0][0].legend(frameon=False, title="law (weight)", alignment="left")
    figure.suptitle(result.verdict, x=0.01, ha="left", fontsize=10, wrap=True)
    return figure


def _rate_candidates(result: Discrimination) -> Figure:
    """Calculated over measured rates of all laws, and their residuals over each varied condition."""
    best = next(iter(result.fits.values()))
    display, points = best.data.display, best.points
    kind, name = best.data.kind_of(points.response[0]), points.response[0]
    variables = list(points.variables.items())[:_MOST_VARIABLES]
    figure = style.blank()
    grid = figure.add_gridspec(2, max(len(variables), 1), height_ratios=[1.6, 1])
    top = figure.add_subplot(grid[0, :])
    style.dress(top, display.label(f"measured {name}", kind), display.label("calculated", kind))
    rows = [figure.add_subplot(grid[1, n]) for n in range(len(variables))]
    for n, (law, found) in enumerate(result.fits.items()):
        weight = result.weights[law]
        label = f"{law} ({weight:.2f})" if weight >= 0.005 else f"{law} (< 0.01)"
        x, y = (display.number(v, kind) for v in (points.measured, found.points.calculated))
        style.dots(top, n, x, y, label)
        for axes, (variable, values) in zip(rows, variables, strict=True):
            along = variable_kind(variable)
            first = variable == variables[0][0]
            style.dress(axes, display.label(variable, along), "residual [s.d.]" if first else "")
            style.dots(axes, n, display.number(values, along), found.points.residuals / points.standard_deviation)
    ends = display.number(np.array([points.measured.min(), points.measured.max()]), kind)
    top.plot(ends, ends, "--", color=style.QUIET, lw=1)
    for axes in rows:
        axes.axhline(0, color=style.QUIET, lw=0.9)
        _room(axes)
    top.legend(frameon=False, title="law (weight)", alignment="left")
    figure.suptitle(result.verdict, x=0.01, ha="left", fontsize=10, wrap=True)
    return figure


def _room(axes: Axes) -> None:
    low, high = axes.get_ylim()
    axes.set_ylim(min(low, -2.5), max(high, 2.5))
