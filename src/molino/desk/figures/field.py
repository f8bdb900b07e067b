"""Fields: the inside of a basin or a laminar tube, at steady state, across it and over time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from molino.core.errors import InputError
from molino.core.fields.basin_run import BasinInTime, BasinRun
from molino.core.fields.basin_specification import BasinFields
from molino.core.fields.laminar_run import LaminarRun
from molino.core.runs.over_time import heading_of, kind_of
from molino.desk.figures import style

COLOUR_MAPS = {"concentration": "viridis", "temperature": "inferno", "speed": "cividis", "age": "magma"}
_STREAM_LINES = 17
_PROFILES = 5
"""Profiles in one panel."""


@style.draws
def field(run: BasinRun | LaminarRun, show: Sequence[str] | None = None) -> Figure:
    """The quantities inside, a panel each: a basin from above with stream lines; a laminar tube from wall to wall.

    Parameters
    ----------
    run : BasinRun or LaminarRun
    show : sequence of str, optional
        "concentration of A", "temperature", "speed", "age" (of a basin); by default the first reactant, the
        temperature, the speed and the age.

    Returns
    -------
    matplotlib Figure

    Raises
    ------
    InputError
        For quantities that the run does not have.
    """
    known = _known(run)
    first = run.basin.spec.plug if isinstance(run, BasinRun) else run.tube.spec.plug
    chosen = [f"concentration of {s}" for s in first.spec.reactants[:1]]
    names = [*show] if show is not None else [n for n in (*chosen, "temperature", "speed", "age") if n in known]
    strange = [n for n in names if n not in known]
    if strange or not names:
        raise InputError(f"the run has no {', '.join(strange) or 'panel'}", "field", f"it has {', '.join(known)}")
    others = _conversions(run) if show is None else {}
    count = len(names) + bool(others)
    wide = isinstance(run, LaminarRun) or float(np.ptp(run.grid.x)) > 2.5 * float(np.ptp(run.grid.y))
    columns = 1 if wide or count == 1 else 2
    rows = -(-count // columns)
    height = min(max(6.25, 2.2 * rows), 12.0)
    if isinstance(run, BasinRun) and not wide:
        height = height_of(run.grid, rows, columns)
    figure = style.blank(height=height)
    panels = list(figure.subplots(rows, columns, squeeze=False).flat)
    for extra in panels[count:]:
        extra.set_visible(False)
    for axes, name in zip(panels, names, strict=False):
        _draw(axes, run, name)
    if others:
        _bars(panels[len(names)], others, f"conversion of {first.spec.reactants[0]}")
    figure.suptitle(_title(run), x=0.01, ha="left", fontsize=11)
    return figure


def height_of(grid: Any, rows: int, columns: int) -> float:
    """The height in inches of a figure of equally scaled panels, without empty bands between them."""
    tall = float(np.ptp(grid.y)) / float(np.ptp(grid.x))
    return float(np.clip(0.5 + rows * (0.9 + tall * 8.0 / columns), 3.0, 12.0))


def _known(run: BasinRun | LaminarRun) -> list[str]:
    return [*run.inside, "speed", *(["age"] if isinstance(run, BasinRun) else [])]


def _title(run: Any) -> str:
    if isinstance(run, BasinRun):
        parts = [f"{run.basin.label}, {run.basin.flow} flow"]
        parts += [f"conversion of {s} {run.conversion(s):.4g}" for s in run.reactants[:2]]
        parts += [f"stagnant {100 * run.stagnant_fraction:.2g} %"]
        return ", ".join(parts)
    parts = [run.tube.label]
    parts += [f"conversion of {s} {run.conversion(s):.4g}" for s in run.tube.spec.plug.spec.reactants[:2]]
    return ", ".join(parts)


def _values(run: BasinRun | LaminarRun, name: str) -> tuple[np.ndarray, str, str]:
    """The values of a panel, their kind, and its label."""
    if name == "speed":
        rows = run.flow.speed if isinstance(run, BasinRun) else run.velocity
        return rows, "mass transfer coefficient", "speed"
    if name == "age":
        assert isinstance(run, BasinRun)
        return run.age, "time", "mean age"
    return run.inside[name], kind_of(name), heading_of(name)


def _conversions(run: BasinRun | LaminarRun) -> dict[str, float]:
    """Conversion of the first reactant in the vessel, and in the same volume in plug flow and as a stirred tank."""
    label = run.basin.label if isinstance(run, BasinRun) else run.tube.label
    plug = run.basin.spec.plug if isinstance(run, BasinRun) else run.tube.spec.plug
    if not plug.spec.reactants:
        return {}
    s = plug.spec.reactants[0]
    start = f"conversion of {s} in "
    others = {
        n.removeprefix(start).removeprefix("a "): x for n, x in run.ideal_conversions().items() if n.startswith(start)
    }
    return {label: run.conversion(s), **others} if others else {}


def _bars(axes: Axes, values: dict[str, float], title: str) -> None:
    style.dress(axes, "conversion", title=title)
    for n, (name, value) in enumerate(values.items()):
        axes.barh(name, value, color=style.COLOURS[n], height=0.55)
        axes.text(value, n, f"  {value:.3f}", va="center", fontsize=10)
    axes.invert_yaxis()
    axes.set_xlim(0.0, 1.18 * max(max(values.values()), 1e-9))
    axes.grid(False, axis="y")


def _draw(axes: Axes, run: BasinRun | LaminarRun, name: str) -> None:
    values, kind, label = _values(run, name)
    shown = np.asarray(run.display.number(values, kind))
    cmap = COLOUR_MAPS.get(name, COLOUR_MAPS[kind_of(name)])
    heading = run.display.heading(label, kind)
    if isinstance(run, BasinRun):
        mesh = basin_mesh(axes, run, shown, cmap)
        if name == "speed":
            x, y = (run.display.number(line, "length") for line in (run.grid.x, run.grid.y))
            levels = np.linspace(run.flow.psi.min(), run.flow.psi.max(), _STREAM_LINES)[1:-1]
            axes.contour(x, y, run.flow.psi.T, levels=levels, colors="white", linewidths=0.8, linestyles="solid")
            heading += ", with stream lines"
    else:
        mesh = _laminar_mesh(axes, run, shown, cmap)
    place = axes.inset_axes((1.075 if isinstance(run, BasinRun) else 1.02, 0.0, 0.025, 1.0))
    axes.figure.colorbar(mesh, cax=place)
    axes.set_title(heading, loc="left", fontsize=10, color=style.INK)


def basin_mesh(axes: Axes, run: BasinRun | BasinInTime, shown: np.ndarray, cmap: str, **limits: Any) -> Any:
    """The cells of a basin in colour, with its walls and openings."""
    show = run.display
    x, y = (np.asarray(show.number(line, "length")) for line in (run.grid.x, run.grid.y))
    mesh = axes.pcolormesh(x, y, shown.T, cmap=cmap, rasterized=True, **limits)
    axes.set_aspect("equal")
    axes.set_xlabel(show.label("x", "length"))
    axes.set_ylabel(show.label("y", "length"))
    _walls(axes, run.basin, run)
    return mesh


def _walls(axes: Axes, basin: BasinFields, run: BasinRun | BasinInTime) -> None:
    """Sides, inner walls, and arrows at inlets and outlets."""
    show = run.display
    length, width = (float(show.number(v.si, "length")) for v in (basin.length, basin.width))
    for spine in axes.spines.values():
        spine.set_linewidth(2.0)
    for baffle in basin.baffles:
        ends = [[float(show.number(v.si, "length")) for v in end] for end in (baffle.start, baffle.end)]
        axes.plot(*zip(*ends, strict=True), color="white", lw=4.0, solid_capstyle="butt")
        axes.plot(*zip(*ends, strict=True), color=style.INK, lw=2.0, solid_capstyle="butt")
    places = {"left": (0.0, 1, 0), "right": (length, 1, 0), "bottom": (0.0, 0, 1), "top": (width, 0, 1)}
    reach = 0.06 * max(length, width)
    for one, inward in (*((i, True) for i in basin.inlets), *((o, False) for o in basin.outlets)):
        low, high = (float(show.number(v.si, "length")) for v in one.between)
        at, along_x, _ = places[one.side]
        line = ([at, at], [low, high]) if along_x else ([low, high], [at, at])
        axes.plot(*line, color=style.COLOURS[1], lw=4.0, clip_on=False, solid_capstyle="butt", zorder=5)
        out = 1 if one.side in ("right", "top") else -1
        middle = (low + high) / 2
        outside = (at + out * reach, middle) if along_x else (middle, at + out * reach)
        on_side = (at, middle) if along_x else (middle, at)
        tail, head = (outside, on_side) if inward else (on_side, outside)
        axes.annotate(
            "",
            head,
            tail,
            annotation_clip=False,
            zorder=6,
            arrowprops={"arrowstyle": "-|>", "color": style.COLOURS[1], "lw": 1.8},
        )


def _laminar_mesh(axes: Axes, run: LaminarRun, shown: np.ndarray, cmap: str) -> Any:
    """From wall to wall, along the tube."""
    show = run.display
    fine = np.linspace(0.0, 1.0, 61)
    half = np.array([np.interp(fine, run.radii / run.radii[-1], row) for row in shown])
    across = np.concatenate([-fine[:0:-1], fine]) * run.radii[-1]
    both = np.hstack([half[:, :0:-1], half])
    z, r = show.number(run.z, "length"), show.number(across, "diameter")
    mesh = axes.pcolormesh(z, r, both.T, cmap=cmap, shading="gouraud", rasterized=True)
    axes.set_xlabel(show.label("length", "length"))
    axes.set_ylabel(
        show.label("distance from the axis" if run.tube.geometry == "pipe" else "distance from the middle", "diameter")
    )
    return mesh


@style.draws
def across(run: BasinRun | LaminarRun, species: str | None = None) -> Figure:
    """Profiles across at some places along it, and the velocity there.

    Parameters
    ----------
    run : BasinRun or LaminarRun
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
    plug = run.basin.spec.plug if isinstance(run, BasinRun) else run.tube.spec.plug
    name = f"concentration of {species or (*plug.spec.reactants, *plug.chemistry.names)[0]}"
    if name not in run.inside:
        raise InputError(f"unknown species '{species}'", "across", f"there are {', '.join(plug.chemistry.names)}")
    show = run.display
    figure = style.blank()
    left, right = figure.subplots(1, 2, sharey=True)
    label = "y" if isinstance(run, BasinRun) else "distance from the axis"
    kind = "length" if isinstance(run, BasinRun) else "diameter"
    style.dress(left, show.label(heading_of(name), "concentration"), show.label(label, kind))
    style.dress(right, show.label("velocity along it", "mass transfer coefficient"))
    along = run.grid.middle[0] if isinstance(run, BasinRun) else run.z
    at = np.unique(np.round(np.linspace(0.05, 0.95, _PROFILES) * (len(along) - 1)).astype(int))
    for n, i in enumerate(at):
        if isinstance(run, BasinRun):
            place, u = show.number(run.grid.middle[1], kind), run.flow.velocity[0][i]
            c = run.inside[name][i]
        else:
            place, u, c = show.number(run.radii, kind), run.velocity[i], run.inside[name][i]
        text = f"at {show.text(float(along[i]), 'length', 3)}"
        left.plot(show.number(c, "concentration"), place, **style.stroke(n), label=text)
        right.plot(show.number(u, "mass transfer coefficient"), place, **style.stroke(n))
    left.legend(frameon=False, loc="best")
    right.xaxis.set_major_locator(MaxNLocator(5))
    figure.suptitle(_title(run), x=0.01, ha="left", fontsize=11)
    return figure
