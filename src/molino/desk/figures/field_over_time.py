"""Fields and tubes over time: outlets, sequences and animations."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.animation import FuncAnimation
from matplotlib.artist import Artist
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.core.errors import InputError
from molino.core.fields.basin_run import BasinInTime
from molino.core.fields.laminar_run import LaminarInTime
from molino.core.runs.over_time import heading_of, kind_of
from molino.core.runs.tube_over_time import TubeInTime
from molino.desk.figures import style
from molino.desk.figures.field import COLOUR_MAPS, basin_mesh, height_of

_PANELS = 6
"""Moments in a sequence."""
_FRAMES_PER_SECOND = 10
_PROFILES = 5
"""Profiles in one panel."""


@style.draws
def over_time(run: TubeInTime | LaminarInTime | BasinInTime) -> Figure:
    """The outlet over time with the settling times; of a tube also the profiles at some moments.

    Parameters
    ----------
    run : TubeInTime, LaminarInTime or BasinInTime

    Returns
    -------
    matplotlib Figure
    """
    show, outlet = run.display, run.outlet
    warm = "temperature" in outlet
    is_tube = isinstance(run, TubeInTime)
    figure = style.blank()
    panels = list(figure.subplots(1 + is_tube, 1 + warm, squeeze=False).flat)
    t = show.number(run.times, "time")
    groups = [[n for n in outlet if n.startswith("concentration")], *([["temperature"]] if warm else [])]
    for axes, names in zip(panels, groups, strict=False):
        kind = kind_of(names[0])
        style.dress(
            axes,
            show.label("time", "time"),
            show.label("outlet temperature" if kind == "temperature" else "outlet concentration", kind),
        )
        times = run.settling_times()
        for n, name in enumerate(names):
            axes.plot(t, show.number(outlet[name], kind), **style.stroke(n), label=heading_of(name))
        settled = max((times[n] for n in names if n in times), default=None)
        if settled is not None:
            text = f"settled ({100 * run.settling_band:g} %) at {show.text(settled, 'time', 3)}"
            axes.axvline(float(show.number(settled, "time")), color=style.INK, lw=1.2, ls=":", label=text)
        axes.set_xlim(0.0, float(t[-1]))
        axes.legend(frameon=False)
    if isinstance(run, TubeInTime):
        _profiles_below(run, panels[1 + warm :])
    figure.suptitle(f"{run.names()[0]} over time", x=0.01, ha="left", fontsize=11)
    return figure


def _profiles_below(run: TubeInTime, panels: Sequence[Axes]) -> None:
    """Profiles of a tube at some moments: of the first reactant, and of the temperature."""
    show, area = run.display, run.vessel.spec.cross_section()
    along = ("length", run.volumes / area) if np.isfinite(area) else ("volume", run.volumes)
    still = [n for n in run.inside if n.startswith("loading") or n == "activity"]
    first = [f"concentration of {s}" for s in (*run.vessel.spec.reactants, *run.vessel.chemistry.names)][:1]
    names = [*(still[:1] or first), *(["temperature"] if "temperature" in run.inside else [])]
    moments = np.unique(np.round(np.linspace(0, 1, _PROFILES + 1) * (len(run.times) - 1)).astype(int))
    for axes, name in zip(panels, names, strict=False):
        kind = kind_of(name)
        style.dress(axes, show.label(*along[:1], along[0]), show.label(f"{name} inside", kind))
        for n, i in enumerate(moments):
            axes.plot(
                show.number(along[1], along[0]),
                show.number(run.inside[name][i], kind),
                **style.stroke(n),
                label=show.text(float(run.times[i]), "time", 3),
            )
        axes.legend(frameon=False, title="after", fontsize=9)


@style.draws
def sequence(run: BasinInTime, species: str | None = None) -> Figure:
    """The field at six moments, in one scale.

    Parameters
    ----------
    run : BasinInTime
    species : str, optional
        The drawn species; by default the first reactant.

    Returns
    -------
    matplotlib Figure

    Raises
    ------
    InputError
        For an unknown species.
    """
    name, low, high = _scaled(run, species)
    settled = max(run.settling_times().values(), default=float(run.moments[-1]))
    last = min(int(np.searchsorted(run.moments, 1.3 * settled)), len(run.moments) - 1)
    moments = np.unique(np.round(np.linspace(0, max(last, min(_PANELS, len(run.moments)) - 1), _PANELS)).astype(int))
    tall = float(np.ptp(run.grid.y)) / float(np.ptp(run.grid.x))
    columns = 3 if tall > 0.4 else 2
    rows = -(-len(moments) // columns)
    figure = style.blank(height=height_of(run.grid, rows, columns))
    panels = list(figure.subplots(rows, columns, squeeze=False, sharex=True, sharey=True).flat)
    for extra in panels[len(moments) :]:
        extra.set_visible(False)
    for axes, i in zip(panels, moments, strict=False):
        shown = np.asarray(run.display.number(run.inside[name][i], "concentration"))
        mesh = basin_mesh(axes, run, shown, COLOUR_MAPS["concentration"], vmin=low, vmax=high)
        axes.set_title(f"after {run.display.text(float(run.moments[i]), 'time', 3)}", loc="left", fontsize=10)
        axes.label_outer()
    bar = figure.colorbar(mesh, ax=panels[: len(moments)], shrink=0.8, pad=0.01)
    bar.set_label(run.display.heading(heading_of(name), "concentration"))
    figure.suptitle(f"{run.basin.label} over time", x=0.01, ha="left", fontsize=11)
    return figure


def _scaled(run: BasinInTime, species: str | None) -> tuple[str, float, float]:
    """The field that is drawn, and the ends of its scale."""
    name = f"concentration of {species or (*run.reactants, *run.basin.chemistry.names)[0]}"
    if name not in run.inside:
        there = ", ".join(run.basin.chemistry.names)
        raise InputError(f"unknown species '{species}'", "field over time", f"there are {there}")
    shown = np.asarray(run.display.number(run.inside[name], "concentration"))
    return name, float(shown.min()), float(shown.max())


@style.draws
def animation(run: BasinInTime, species: str | None = None) -> FuncAnimation:
    """The field over time as an animation: `.save("basin.gif", writer="pillow")` needs no other program.

    Parameters
    ----------
    run : BasinInTime
    species : str, optional
        The drawn species; by default the first reactant.

    Returns
    -------
    matplotlib FuncAnimation

    Raises
    ------
    InputError
        For an unknown species.
    """
    name, low, high = _scaled(run, species)
    rows = np.asarray(run.display.number(run.inside[name], "concentration"))
    figure = Figure(figsize=(8.0, 5.0), dpi=80, layout="constrained")
    axes = figure.subplots()
    mesh = basin_mesh(axes, run, rows[0], COLOUR_MAPS["concentration"], vmin=low, vmax=high)
    bar = figure.colorbar(mesh, ax=axes, pad=0.01)
    bar.set_label(run.display.heading(heading_of(name), "concentration"))
    title = axes.set_title("", loc="left", fontsize=10)

    def draw(i: int) -> list[Artist]:
        mesh.set_array(rows[i].T)
        title.set_text(f"{run.basin.label}, after {run.display.text(float(run.moments[i]), 'time', 3)}")
        return [mesh, title]

    draw(0)
    return FuncAnimation(figure, draw, frames=len(rows), interval=1000 / _FRAMES_PER_SECOND)
