"""An attainable region, with the kinds of its boundary."""

from __future__ import annotations

import numpy as np
import scipy
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from molino.core.annotations import PlainData
from molino.core.design.attainable_region import AttainableRegion
from molino.core.design.best_train import BestTrain
from molino.desk.figures import style

_LINES: dict[str, tuple[str, str, float]] = {
    "tube": (style.COLOURS[0], "-", 2.4),
    "tank": (style.COLOURS[1], "--", 2.4),
    "mixing": (style.INK, ":", 1.8),
}


@style.draws
def attainable(region: AttainableRegion, best: BestTrain | None = None) -> Figure:
    """The region over its two axes; tubes, tanks and mixing lines of its boundary differ in color and dashes.

    Over three axes it is projected along each of them, with the kinds of its vertices.

    Parameters
    ----------
    region : AttainableRegion
    best : BestTrain, optional
        The point of its train, as a star.

    Returns
    -------
    matplotlib Figure
    """
    if len(region.metrics) == 3:
        return _along_each_axis(region, best)
    display = region.display
    x, y = (np.asarray(display.number(region.vertices[:, n], m.kind)) for n, m in enumerate(region.metrics))
    figure = style.blank()
    axes = figure.subplots()
    axes.fill(x, y, color="#eef3f7", lw=0, zorder=0)
    for n, kind in enumerate(region.pieces):
        color, dashes, width = _LINES[kind]
        m = (n + 1) % len(x)
        axes.plot([x[n], x[m]], [y[n], y[m]], color=color, ls=dashes, lw=width, solid_capstyle="round")
    feed = [float(display.number(v, m.kind)) for v, m in zip(region.fed, region.metrics, strict=True)]
    axes.plot(*feed, "o", ms=8, mfc="white", mec=style.INK, mew=1.4, zorder=5, clip_on=False)
    handles: list[object] = [
        Line2D([], [], color=c, ls=d, lw=w, label=kind) for kind, (c, d, w) in _LINES.items() if kind in region.pieces
    ]
    handles.append(Line2D([], [], marker="o", ls="", mfc="white", mec=style.INK, ms=8, label="feed"))
    title = "Attainable region and the kinds of its boundary"
    if best is not None:
        there = [float(display.number(v, m.kind)) for v, m in zip(best.reached, region.metrics, strict=True)]
        axes.plot(*there, "*", ms=18, mfc="white", mec=style.INK, mew=1.4, zorder=6, clip_on=False)
        handles.append(Line2D([], [], marker="*", ls="", mfc="white", mec=style.INK, ms=14, label="best"))
        title += f"\nbest: {best.description}"
    headings = [display.label(str(m), m.kind) for m in region.metrics]
    style.dress(axes, *headings)
    axes.margins(0.04)
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    figure.legend(handles=handles, loc="outside lower center", ncols=len(handles), frameon=False)
    return figure


def _along_each_axis(region: AttainableRegion, best: BestTrain | None) -> Figure:
    """A region over three axes: its outline and vertices, projected along each axis."""
    display, figure = region.display, style.blank()
    panels = figure.subplots(1, 3)
    shown = np.column_stack([display.number(region.vertices[:, n], m.kind) for n, m in enumerate(region.metrics)])
    fed, reached = (
        [float(display.number(v, m.kind)) for v, m in zip(point, region.metrics, strict=True)]
        for point in (region.fed, best.reached if best is not None else region.fed)
    )
    headings = [display.label(str(m), m.kind) for m in region.metrics]
    kinds = np.array(region.kinds)
    handles: list[object] = []
    for axes, (i, j) in zip(panels, ((0, 1), (0, 2), (1, 2)), strict=True):
        flat = shown[:, [i, j]]
        outline = flat[scipy.spatial.ConvexHull(flat / np.maximum(np.ptp(flat, axis=0), 1e-300)).vertices]
        axes.fill(*outline.T, facecolor="#eef3f7", edgecolor=style.INK, lw=1.2, zorder=0)
        for n, kind in enumerate(("tube", "tank")):
            own = flat[kinds == kind]
            look: PlainData = {"color": _LINES[kind][0], "marker": style.MARKS[n], "ls": "", "ms": 2.5}
            axes.plot(*own.T, mfc="white", **look)
            if axes is panels[0] and len(own):
                handles.append(Line2D([], [], mfc="white", label=kind, **look))
        axes.plot(fed[i], fed[j], "o", ms=8, mfc="white", mec=style.INK, mew=1.4, zorder=5, clip_on=False)
        if best is not None:
            axes.plot(reached[i], reached[j], "*", ms=16, mfc="white", mec=style.INK, mew=1.4, zorder=6, clip_on=False)
        style.dress(axes, headings[i], headings[j])
    handles.append(Line2D([], [], marker="o", ls="", mfc="white", mec=style.INK, ms=8, label="feed"))
    title = "Attainable region, projected along each axis"
    if best is not None:
        handles.append(Line2D([], [], marker="*", ls="", mfc="white", mec=style.INK, ms=14, label="best"))
        title += f"\nbest: {best.description}"
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    figure.legend(handles=handles, loc="outside lower center", ncols=len(handles), frameon=False)
    return figure
