"""Profiles along runs: concentrations, flows, conversions, rates, temperature and pressure."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from molino.core.contract.metrics import conversion
from molino.core.errors import Faults, InputError, nearest
from molino.core.runs.profiles import PROFILES, read_limits
from molino.core.runs.run import Run
from molino.desk.figures import style

_FLAT = 1e-9
_DECADES = 1e-8
"""The lower end of a logarithmic axis as a fraction of the largest value."""


@dataclass(frozen=True)
class _Panel:
    """A panel by its name in `PROFILES`, and the curves of a run: name to SI values."""

    name: str
    curves: Callable[[Run], Mapping[str, np.ndarray]]

    @property
    def kind(self) -> str:
        return PROFILES[self.name]

    @property
    def title(self) -> str:
        if self.name.startswith("rate"):
            return "rate"
        return "heat in through the walls" if self.name == "heat flow" else self.name


def _concentrations(run: Run) -> dict[str, np.ndarray]:
    return run.concentrations


def _flows(run: Run) -> dict[str, np.ndarray]:
    return run.flows if run.vessel.spec.model.is_flowing else {}


def _amounts(run: Run) -> dict[str, np.ndarray]:
    return {} if run.vessel.spec.model.is_flowing else run.flows


def _conversions(run: Run) -> dict[str, np.ndarray]:
    return {s: run.profile(conversion(s)) for s in run.reactants}


def _of_kind(kind: str) -> Callable[[Run], dict[str, np.ndarray]]:
    def curves(run: Run) -> dict[str, np.ndarray]:
        found = {n: v for n, v in run.series.items() if run.kinds[n] == kind}
        return {n.removeprefix("rate of ").removeprefix("flux of "): v for n, v in found.items()}

    return curves


def _effectiveness(run: Run) -> dict[str, np.ndarray]:
    start = "effectiveness of "
    return {n.removeprefix(start): v for n, v in run.series.items() if n.startswith(start)}


_CURVES = {
    "concentration": _concentrations,
    "molar flow": _flows,
    "amount": _amounts,
    "conversion": _conversions,
    "effectiveness": _effectiveness,
}
PANELS = {name: _Panel(name, _CURVES.get(name) or _of_kind(kind)) for name, kind in PROFILES.items()}


def _chosen(runs: Sequence[Run], wanted: Iterable[str] | None) -> list[_Panel]:
    """The requested panels, or those in which a quantity changes."""
    if wanted is not None:
        faults, found = Faults(), []
        for name in wanted:
            if name not in PANELS:
                faults.add("profile", f"unknown panel '{name}'", nearest(name, PANELS))
            else:
                found.append(PANELS[name])
        if not found:
            faults.add("profile", "no panel is given", nearest("", PANELS))
        for panel in found:
            if not any(panel.curves(run) for run in runs):
                advice = f"take another of {', '.join(p.name for p in PANELS.values() if p.curves(runs[0]))}"
                faults.add("profile", f"'{panel.name}' is not available for {runs[0].vessel.title}", advice)
        faults.raise_any()
        return found
    own = [
        "concentration",
        "rate",
        "rate per catalyst mass",
        "rate per area",
        "flux",
        "temperature",
        "pressure",
        "volume",
    ]
    found = []
    for name in own:
        rows = [v for run in runs for v in PANELS[name].curves(run).values()]
        changing = any(np.ptp(v) > _FLAT * max(float(np.max(np.abs(v))), 1e-300) for v in rows)
        if rows and (changing or name.startswith("rate")):
            found.append(PANELS[name])
    return found


@style.draws
def profile(
    run: Run | Sequence[Run],
    show: Iterable[str] | None = None,
    log: str = "",
    species: Iterable[str] | None = None,
    limits: Mapping[str, tuple[object, object]] | None = None,
) -> Figure:
    """Panels of the quantities that change over time or along the tube, of one run or of several in one figure.

    Parameters
    ----------
    run : Run, or sequence of Run
        Of a batch, a tube, or a tank over time; several of one kind.
    show : sequence of str, optional
        Panels by name: 'concentration', 'molar flow', 'amount', 'conversion', 'rate', 'temperature', 'pressure',
        'volume', 'heat flow', 'effectiveness'; by default concentrations, rates and others that change.
    log : str
        'x', 'y' or 'xy' for logarithmic axes.
    species : sequence of str, optional
        All by default.
    limits : mapping of panel, or 'x', to (low, high), optional
        Ends of axes: {"x": ("0 min", "60 min"), "concentration": (0.0, "0.4 mol/L")}.

    Raises
    ------
    InputError
        For a steady tank, which has no profile; runs with different independent variables; an unknown panel or
        species; or an invalid limit.
    """
    runs = [run] if isinstance(run, Run) else [*run]
    _check(runs)
    first, kind = runs[0], runs[0].positions()[0][1]
    display, hidden = first.display, _hidden(runs, species)
    ends_of = read_limits(limits or {}, kind)
    chosen = _chosen(runs, show)
    panels = [p for p in chosen if species is None or any(p.curves(one).keys() - hidden for one in runs)]
    if not panels:
        raise InputError("these species have nothing to draw", "profile", "name others, or other panels")
    figure = style.blank()
    places = _draw_panels(figure, panels, runs, log, hidden)
    for axes, panel in zip(places, panels, strict=False):
        if panel.name in ends_of:
            axes.set_ylim(*(float(display.number(end, panel.kind)) for end in ends_of[panel.name]))
    if "x" in ends_of:
        places[0].set_xlim(*(float(display.number(end, kind)) for end in ends_of["x"]))
    elif "x" not in log:
        ends = [one.display.number(one.positions()[0][2], kind) for one in runs]
        places[0].set_xlim(float(min(e[0] for e in ends)), float(max(e[-1] for e in ends)))
    constant = [text for name, text in _constant(first).items() if name not in hidden]
    title = " · ".join(one.vessel.title for one in runs) + (f"\nconstant: {', '.join(constant)}" if constant else "")
    figure.suptitle(title, x=0.01, ha="left", fontsize=10, color=style.INK)
    if len(runs) > 1:
        dashes = [style.STROKES[i % len(style.STROKES)] for i in range(len(runs))]
        strokes = [
            Line2D([], [], color=style.INK, linestyle=dash, label=one.vessel.label)
            for dash, one in zip(dashes, runs, strict=True)
        ]
        layout: style.Look = {"loc": "outside lower center", "ncols": min(len(runs), 4)}
        figure.legend(handles=strokes, frameon=False, fontsize=9, handlelength=3.2, **layout)
    return figure


def _draw_panels(figure: Figure, panels: list[_Panel], runs: Sequence[Run], log: str, hidden: set[str]) -> list[Axes]:
    display, (name, kind, _) = runs[0].display, runs[0].positions()[0]
    columns = 1 if len(panels) <= 3 else 2
    rows = -(-len(panels) // columns)
    heights = [3, *[2] * (rows - 1)] if columns == 1 else None
    places = list(figure.subplots(rows, columns, sharex=True, squeeze=False, height_ratios=heights).flat)
    for extra in places[len(panels) :]:
        extra.set_visible(False)
    for n, (axes, panel) in enumerate(zip(places, panels, strict=False)):
        _draw(axes, panel, runs, log, hidden)
        bottom = n + columns >= len(panels)
        style.dress(axes, display.label(name, kind) if bottom else "", display.label(panel.title, panel.kind))
        axes.tick_params(labelbottom=bottom)
        handles = {line.get_label(): line for line in axes.lines if not str(line.get_label()).startswith("_")}
        if len(handles) > 1 or panel.kind in ("concentration", "molar flow", "number"):
            legend_place: style.Look = (
                {"loc": "center left", "bbox_to_anchor": (1.0, 0.5)} if columns == 1 else {"loc": "best"}
            )
            axes.legend(handles.values(), handles.keys(), frameon=False, handlelength=3.0, fontsize=9, **legend_place)
    return places


def _check(runs: Sequence[Run]) -> None:
    """InputError for runs that cannot be drawn together."""
    if not runs:
        raise InputError("there is no run to draw", "profile", "give one, or several of one kind")
    for one in runs:
        if one.is_steady:
            raise InputError("a steady tank has no profile", one.vessel.label, "run its start-up: tank.run('6 h')")
    if len({one.positions()[0][0] for one in runs}) > 1:
        raise InputError("the runs have different axes (time, length, volume)", "profile", "draw them separately")


def _hidden(runs: Sequence[Run], species: Iterable[str] | None) -> set[str]:
    """The species that are not drawn."""
    known = list(dict.fromkeys(s for one in runs for s in one.vessel.chemistry.names))
    chosen = known if species is None else [*species]
    faults = Faults()
    for name in chosen:
        if name not in known:
            faults.add("profile", f"unknown species '{name}'", nearest(name, known))
    faults.raise_any()
    return {*known} - {*chosen}


def _constant(run: Run) -> dict[str, str]:
    """Constant species (inerts, a catalyst), each with its concentration."""
    found = {}
    for name, values in run.concentrations.items():
        size = float(np.max(np.abs(values)))
        if size > 0 and np.ptp(values) <= _FLAT * size:
            found[name] = f"{name} {run.display.text(float(values[0]), 'concentration')}"
    return found


def _draw(axes: Axes, panel: _Panel, runs: Sequence[Run], log: str, hidden: set[str]) -> None:
    """The curves of one panel: for one run each in its own colour and dash, for several a dash per run."""
    names = list(dict.fromkeys(n for run in runs for n in panel.curves(run)))
    colour = 0
    for quantity in names:
        drawn = False
        for i, run in enumerate(runs):
            values = panel.curves(run).get(quantity)
            if values is None or quantity in hidden:
                continue
            flat = np.ptp(values) <= _FLAT * max(float(np.max(np.abs(values))), 1e-300)
            if flat and panel.kind in ("concentration", "molar flow"):
                continue
            display = run.display
            along = run.positions()[0]
            x, y = display.number(along[2], along[1]), display.number(values, panel.kind)
            look = (
                style.stroke(colour)
                if len(runs) == 1
                else style.stroke(i) | {"color": style.COLOURS[colour % len(style.COLOURS)]}
            )
            axes.plot(x, y, label=quantity if not drawn else "_", **look)
            drawn = True
        colour += drawn
    if "x" in log:
        axes.set_xscale("log")
        starts = [x[x > 0].min() for line in axes.lines if (x := np.asarray(line.get_xdata(), dtype=float)).max() > 0]
        axes.set_xlim(left=min(starts, default=None))
    if "y" in log and panel.kind not in ("temperature",):
        axes.set_yscale("log")
        rows = [y for line in axes.lines if len(y := (d := np.asarray(line.get_ydata(), dtype=float))[d > 0])]
        if rows:  # not twenty decades for the remainder of an exhausted species
            top = max(float(y.max()) for y in rows)
            axes.set_ylim(max(min(float(y.min()) for y in rows), _DECADES * top) / 2, 2 * top)
    elif panel.kind not in ("temperature", "pressure") and axes.lines:
        low = min(float(np.min(line.get_ydata())) for line in axes.lines)
        axes.set_ylim(bottom=0 if low >= 0 else None)
    if panel.kind in ("temperature", "pressure"):
        axes.margins(y=0.12)
