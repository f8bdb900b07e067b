"""Steady states of a tank: heat generation and removal, and the curve through ignition and extinction."""

from __future__ import annotations

import itertools

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.errors import InputError
from molino.core.vessels.branch import Branch
from molino.core.vessels.steady_states import SteadyStates
from molino.desk.figures import style


@style.draws
def heat_balance(states: SteadyStates) -> Figure:
    """Heat generation and heat removal over the temperature; they cross at the steady states.

    Parameters
    ----------
    states : SteadyStates

    Returns
    -------
    matplotlib Figure

    Raises
    ------
    InputError
        If the temperature of the tank is prescribed.
    """
    if not states.vessel.is_non_isothermal:
        raise InputError("its temperature is prescribed: it has no heat balance", states.vessel.label, "print them")
    display = states.display
    figure = style.blank()
    axes = figure.subplots()
    T = display.number(states.temperatures, "temperature")
    generation, removal = (display.number(row, "power") for row in (states.heat_generation, states.heat_removal))
    axes.plot(T, generation, label="generation by reaction", **style.stroke(1))
    axes.plot(T, removal, label="removal by feed and walls", **style.stroke(0))
    for stable in (True, False):
        own = [run for run, s in zip(states.runs, states.stable, strict=True) if s == stable]
        if not own:
            continue
        at = display.number(np.array([run.temperatures[-1] for run in own]), "temperature")
        heat = np.interp(at, T, generation)
        face = style.INK if stable else "white"
        label = "steady, stable" if stable else "steady, unstable"
        axes.plot(at, heat, "o", ms=8, mfc=face, mec=style.INK, mew=1.6, label=label, zorder=5)
        for run, x, y in zip(own, at, heat, strict=True):
            text = display.text(run.temperatures[-1], "temperature")
            axes.annotate(text, (x, y), (9, -12), textcoords="offset points", fontsize=9)
    # the line of removal extends far beyond the generation: show the crossings
    top = float(np.max(np.abs(generation))) or 1.0
    axes.set_ylim(min(float(np.min(generation)), -0.1 * top), 1.15 * max(top, float(np.max(generation))))
    axes.set_xlim(float(T[0]), float(T[-1]))
    style.dress(axes, display.label("temperature", "temperature"), display.label("heat", "power"), states.vessel.title)
    axes.legend(frameon=False, loc="upper left")
    return figure


@style.draws
def branch(curve: Branch) -> Figure:
    """Temperature and conversions of the steady states over the condition that varies; folds are marked.

    Parameters
    ----------
    curve : Branch

    Returns
    -------
    matplotlib Figure
    """
    display = curve.display
    x = display.number(curve.values, curve.kind)
    summaries = [run.summary() for run in curve.runs]
    names = [name for name in summaries[0] if name.startswith("conversion")]
    figure = style.blank()
    upper, lower = figure.subplots(2, 1, sharex=True)
    _stretches(upper, x, display.number(curve.temperatures, "temperature"), curve.stable, 0, "")
    for n, name in enumerate(names):
        _stretches(
            lower, x, np.array([s[name] for s in summaries]), curve.stable, n, name.removeprefix("conversion of ")
        )
    for fold in curve.folds:
        at = float(display.number(fold.value, curve.kind))
        T = float(display.number(fold.temperature, "temperature"))
        upper.plot(at, T, "D", color=style.COLOURS[1], ms=7, zorder=5)
        near = x[np.argsort(np.abs(curve.temperatures - fold.temperature))[:5]]
        left = at < float(np.mean(near))  # the curve turns back here: there is space outside of it
        text = f"{fold.kind} at {display.text(fold.value, curve.kind)}"
        upper.annotate(
            text,
            (at, T),
            (-9 if left else 9, -3),
            textcoords="offset points",
            fontsize=9,
            ha="right" if left else "left",
        )
        lower.axvline(at, color=style.QUIET, linewidth=0.9, linestyle=":")
        upper.axvline(at, color=style.QUIET, linewidth=0.9, linestyle=":")
    title = f"{curve.vessel.label}: steady states (solid: stable, dashed: unstable)"
    style.dress(upper, "", display.label(curve.temperature_name, "temperature"), title)
    style.dress(lower, display.label(curve.condition, curve.kind), "conversion")
    lower.set_ylim(bottom=0)
    lower.margins(x=0.08)
    if len(names) > 1:
        lower.legend(frameon=False, loc="best")
    elif names:
        lower.set_ylabel(names[0])
    return figure


def _stretches(axes: Axes, x: np.ndarray, y: np.ndarray, stable: np.ndarray, n: int, label: str) -> None:
    """A curve in solid and dashed sections."""
    breaks = [0, *(np.flatnonzero(stable[1:] != stable[:-1]) + 1), len(x) - 1]
    for k, (a, b) in enumerate(itertools.pairwise(breaks)):
        own = slice(int(a), int(b) + 1)
        line = "-" if bool(stable[int(a)]) else (0, (4, 2))
        axes.plot(
            x[own],
            y[own],
            color=style.COLOURS[n % 8],
            linestyle=line,
            linewidth=1.9,
            label=label if k == 0 and label else "_",
        )
