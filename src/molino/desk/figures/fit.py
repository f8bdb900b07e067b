"""Fit against data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.annotations import PlainData
from molino.core.display import Display
from molino.core.errors import InputError, nearest
from molino.core.fitting.experiment import OUTLET, Experiment
from molino.core.fitting.fit_result import Fit
from molino.core.fitting.posterior import Posterior, PredictionBand
from molino.desk.figures import style
from molino.desk.figures.residuals import residuals

_FROM_ZERO = ("concentration", "number")
"""Kinds of quantity that are not negative."""


@dataclass(frozen=True)
class _Panel:
    """A panel: responses of one kind, of one run, or of all runs that were observed at the outlet."""

    runs: tuple[Experiment, ...]
    kind: str
    responses: tuple[str, ...]

    @property
    def is_outlet(self) -> bool:
        return self.runs[0].along == OUTLET


@style.draws
def fit(result: Fit, species: Sequence[str] | None = None, posterior: Posterior | None = None) -> Figure:
    """Measured points, fitted curves with their 95 % bands, a panel per run and kind of quantity; outliers are circled.

    The darker band is that of the curve, the lighter one that of a measurement. Observations at the outlet are shown
    run by run. For a fit to rates see `residuals`.

    Parameters
    ----------
    result : Fit
    species : sequence of str, optional
        The drawn species, besides responses without a species; by default all.
    posterior : Posterior, optional
        From `Fit.posterior`: its medians and bands are drawn, instead of those of the linear model.

    Returns
    -------
    matplotlib Figure

    Raises
    ------
    InputError
        If these species were not measured.
    """
    if not result.parameter_map.runs:
        return residuals(result)
    names = result.chemistry.names
    shown = [r for r in result.responses if species is None or r in species or r not in names]
    if not shown:
        raise InputError(f"not measured: {', '.join(species or ())}", "fit", nearest("", result.responses))
    several = _panels(result, shown)
    kinds = {panel.kind for panel in several}
    share = len(kinds) == 1
    figure, panels, columns = style.grid_of(len(several), sharey=share)
    for n, (axes, panel) in enumerate(zip(panels, several, strict=True)):
        bottom, left = n + columns >= len(several), n % columns == 0 or not share
        _dress(axes, panel, result.data.display, bottom or not share, left)
        if panel.is_outlet:
            _draw_outlets(axes, panel, result)
        else:
            _draw_run(axes, panel, result, posterior)
    for axes, panel in zip(panels, several, strict=True):
        if panel.kind in _FROM_ZERO:
            axes.set_ylim(bottom=min(0.0, axes.get_ylim()[0]) if panel.kind == "number" else 0)
    handles: PlainData = {}
    for axes in panels:
        for handle, label in zip(*axes.get_legend_handles_labels(), strict=True):
            handles.setdefault(label, handle)
    quality = {r.name: f" (R² {r.r_squared:.4f})" for r in result.by_response if np.isfinite(r.r_squared)}
    labels = [label + quality.get(label, "") for label in handles]
    figure.legend(handles.values(), labels, loc="outside lower center", ncols=min(len(labels), 4), frameon=False)
    figure.suptitle("Measured (points) and fitted (lines)", x=0.01, ha="left", fontsize=11)
    return figure


def _panels(result: Fit, shown: Sequence[str]) -> list[_Panel]:
    """The panels of the drawn responses."""
    found, outlets = [], [run for run in result.data.runs if run.along == OUTLET]
    for runs in [(run,) for run in result.data.runs if run.along != OUTLET] + ([tuple(outlets)] if outlets else []):
        by_kind: dict[str, list[str]] = {}
        for response in (r for r in shown if any(r in run.measured for run in runs)):
            by_kind.setdefault(result.data.kind_of(response), []).append(response)
        if len(runs) == 1 and runs[0].is_simple:  # the curves of all species, measured in this run or not
            by_kind = {kind: [r for r in shown if result.data.kind_of(r) == kind] for kind in by_kind}
        found += [_Panel(runs, kind, tuple(responses)) for kind, responses in by_kind.items()]
    return found


def _dress(axes: Axes, panel: _Panel, display: Display, bottom: bool, left: bool) -> None:
    run = panel.runs[0]
    at = f", {display.text(run.T, 'temperature')}" if run.T is not None else ""
    x = "" if not bottom else "run" if panel.is_outlet else display.label(run.axis, run.axis_kind)
    name = panel.responses[0] if panel.kind == "number" and len(panel.responses) == 1 else panel.kind
    plain = "signal" if any(r in run.signals for r in panel.responses) else "fraction or conversion"
    y = display.label({"power": "heat flow", "number": plain}.get(name, name), panel.kind)
    style.dress(axes, x, y if left else "", "at the outlet" if panel.is_outlet else f"{run.name}{at}")


def _bands(result: Fit, run: Experiment, posterior: Posterior | None) -> dict[str, PredictionBand]:
    """The curves of a run with their bands, by response."""
    if posterior is not None:
        return posterior.bands(run.name)
    band, found = result.curve_of(run.name), {}
    for response, middle in band.values.items():
        mean, one = band.confidence[response], band.prediction[response]
        found[response] = PredictionBand(
            band.times, middle, (middle - mean, middle + mean), (middle - one, middle + one)
        )
    return found


def _draw_run(axes: Axes, panel: _Panel, result: Fit, posterior: Posterior | None) -> None:
    """Curves with bands, and points, along one run."""
    (run,), display, kind = panel.runs, result.data.display, panel.kind
    bands = _bands(result, run, posterior)
    for response in (r for r in panel.responses if r in bands):
        i, band = result.responses.index(response), bands[response]
        times, line, middle = display.number(band.times, run.axis_kind), style.stroke(i), band.median
        least = 0.0 if kind in _FROM_ZERO and response not in run.signals else -np.inf
        for both, alpha in ((band.measurement, 0.12), (band.mean, 0.3)):
            ends = (display.number(np.maximum(end, least), kind) for end in both)
            if np.isfinite(both).all():
                axes.fill_between(times, *ends, color=line["color"], alpha=alpha, linewidth=0)
        axes.plot(times, display.number(middle, kind), **line)
        if response in run.measured:
            at, values = display.number(run.times, run.axis_kind), display.number(run.measured[response], kind)
            axes.plot(at, values, style.MARKS[i], color=line["color"], ms=5, mfc="white", mew=1.4, label=response)
            sides, limits = run.limits(response), display.number(run.with_limits(response), kind)
            style.arrows(axes, at[sides != 0], limits[sides != 0], sides[sides != 0], line["color"])
    for gone in (g for g in result.data.left_out if g.run == run.name and g.response in panel.responses):
        place = display.number(gone.time, run.axis_kind), display.number(gone.value, kind)
        axes.plot(*place, "x", color=style.QUIET, ms=8, mew=2, label="left out")
    for odd in (p for p in result.outliers if p.run == run.name and p.response in panel.responses):
        place = display.number(odd.time, run.axis_kind), display.number(odd.measured, kind)
        axes.plot(*place, "o", ms=14, mfc="none", mec=style.INK, mew=1.2, ls="none", label="outlier")
    axes.set_xlim(left=0)


def _draw_outlets(axes: Axes, panel: _Panel, result: Fit) -> None:
    """Measured (points) and calculated (bars) values of every run."""
    points, display = result.points, result.data.display
    names = [run.name for run in panel.runs]
    for response in panel.responses:
        i = result.responses.index(response)
        own = [
            n
            for n, (run, r) in enumerate(zip(points.run, points.response, strict=True))
            if r == response and run in names
        ]
        x, color = np.array([names.index(points.run[n]) for n in own]), style.stroke(i)["color"]
        axes.plot(x, display.number(points.calculated[own], panel.kind), "_", color=color, ms=18, mew=2)
        measured, limits = display.number(points.measured[own], panel.kind), points.side[own] != 0
        style.arrows(axes, x[limits], measured[limits], points.side[own][limits], color)
        axes.plot(
            x[~limits],
            measured[~limits],
            style.MARKS[i],
            color=color,
            ms=5,
            mfc="white",
            mew=1.4,
            label=response,
        )
    _name_runs(axes, names)


def _name_runs(axes: Axes, names: Sequence[str]) -> None:
    axes.set_xticks(range(len(names)), names, rotation=45 if max(len(n) for n in names) > 4 else 0)
    axes.set_xlim(-0.6, len(names) - 0.4)
