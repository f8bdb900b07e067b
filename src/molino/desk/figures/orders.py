"""The straight lines of an order screening, and the residuals of the curves."""

from __future__ import annotations

import textwrap

import numpy as np
from matplotlib.figure import Figure

from molino.core import units
from molino.core.fitting.orders.screening_result import Screening
from molino.core.statistics import p_text
from molino.desk.figures import style


@style.draws
def orders(result: Screening) -> Figure:
    """A panel per law: the transformed values over time with the line, the chosen law framed; below, the residuals.

    Parameters
    ----------
    result : Screening

    Returns
    -------
    matplotlib Figure
    """
    display = result.experiments.display
    figure = style.blank(width=max(10.0, 3.3 * len(result.laws)))
    panels = figure.subplots(2, len(result.laws), squeeze=False, sharex=True, height_ratios=[3, 2])
    for n, law in enumerate(result.laws):
        upper, lower = panels[0][n], panels[1][n]
        name, unit, shift, factor = result.transform(law)
        name = name.replace(f"[{result.species}]", "c")
        label = f"{name} [{units.pretty(unit)}]" if unit else name
        fits = [line.r_squared for line in law.lines if line is not None]
        r_squared = f"R² {min(fits):.4f}" if fits else "no line"
        chosen = law is result.chosen
        style.dress(upper, "", label, f"{law.name}{' (chosen)' if chosen else ''}   {r_squared}")
        style.dress(
            lower,
            display.label("time", "time"),
            units.pretty(result.error_heading("residual")) if n == 0 else "",
            f"curve of least squares, p {p_text(law.probability)}",
        )
        if chosen:
            upper.set_title(upper.get_title("left"), loc="left", fontsize=10, fontweight="bold")
            for axes in (upper, lower):
                for spine in axes.spines.values():
                    spine.set(visible=True, color=style.INK, linewidth=1.8)
        if len(result.series) == 1:
            note = result.line_text(law, 0).replace(f"[{result.species}]", "c")
            place = (
                (0.03, 0.93) if result.line_of(law, 0)[1] > 0 else (0.03, 0.03)
            )  # the corner that is free of the line
            upper.annotate(note, place, xycoords="axes fraction", fontsize=8, color=style.INK)
        for i, (s, line, residuals) in enumerate(zip(result.series, law.lines, law.residuals, strict=True)):
            look = style.stroke(i)
            t = display.number(s.times, "time")
            point = {"color": look["color"], "marker": style.MARKS[i % len(style.MARKS)], "ls": "none", "ms": 5}
            if line is not None:
                upper.plot(t[line.used], line.transformed * factor + shift, **point, mfc="white", label=s.run)
                straight = line.intercept + line.slope * s.times
                upper.plot(t, straight * factor + shift, **{**look, "linewidth": 1.3})
            lower.plot(t, result.error_number(residuals), **point, mfc="white")
        lower.axhline(0.0, color=style.QUIET, lw=1.0)
    limit = max(float(np.max(np.abs(axes.get_ylim()))) for axes in panels[1])
    for n, axes in enumerate(panels[1]):
        axes.set_ylim(-limit, limit)
        axes.tick_params(labelleft=n == 0)
    if len(result.series) > 1:
        handles, labels = panels[0][0].get_legend_handles_labels()
        figure.legend(handles, labels, loc="outside lower center", ncols=min(len(labels), 8), frameon=False)
    title = f"Order of c = [{result.species}]: {_short(result.verdict)}"
    figure.suptitle(textwrap.fill(title, int(11 * figure.get_figwidth())), x=0.01, ha="left", fontsize=11)
    return figure


def _short(verdict: str) -> str:
    """The verdict without the list of rejected laws."""
    return verdict.partition("; rejected")[0]
