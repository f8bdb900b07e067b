"""ln k over 1/T: 1000/T below, degrees Celsius above."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import FixedLocator, FuncFormatter

from molino.core.chemistry.arrhenius_line import TemperatureLine
from molino.core.errors import InputError
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import pretty
from molino.desk.figures import style


@style.draws
def over_temperature(of: object) -> Figure:
    """A table of constants with its line and 95 % band, and the joint 95 % region of energy and factor.

    Parameters
    ----------
    of : Arrhenius or VantHoff through a table, or TemperatureLine

    Raises
    ------
    InputError
        For a constant that does not come from a table.
    """
    line = of if isinstance(of, TemperatureLine) else getattr(of, "through_table", None)
    if line is None:
        raise InputError(f"{of} does not come from a table", "over_temperature", "mo.Arrhenius.through(T=..., k=...)")
    figure = style.blank()
    wide = line.degrees_of_freedom > 0
    panels = figure.subplots(1, 2 if wide else 1, squeeze=False, width_ratios=[3, 2] if wide else None)[0]
    axes = panels[0]
    unit = pretty(line.constants[0].unit or "")
    inverse = np.linspace(line.x.min(), line.x.max(), 101)
    margin = 0.06 * np.ptp(inverse)
    inverse = np.linspace(inverse[0] - margin, inverse[-1] + margin, 101)
    band = np.array([[line.shown(k) for k in line.at(1 / x)] for x in inverse])
    if wide:
        look: style.Look = {"color": style.COLOURS[4], "alpha": 0.35, "lw": 0}
        axes.fill_between(1e3 * inverse, band[:, 1], band[:, 2], **look, label="95 % band of the line")
    axes.semilogy(1e3 * inverse, band[:, 0], **style.stroke(0), label="least squares")
    points = [line.shown(c.si) for c in line.constants]
    axes.semilogy(1e3 * line.x, points, "o", color=style.COLOURS[1], mfc="white", mew=1.4, ms=6, label="table")
    title = f"E = {line.energy / 1e3:.4g} kJ/mol"
    if wide:
        title += f" ± {line.energy_half_width / 1e3:.2g} (95 %)   R² {line.r_squared:.5f}"
    style.dress(axes, "1000/T [1/K]", f"{line.noun} [{unit}]" if unit else line.noun, title)
    style.plain_log(axes.yaxis)
    slope = line.energy / GAS_CONSTANT
    factor = np.log(line.shown(1.0)) + line.log_value + slope / line.reference
    straight = f"ln {line.noun} = {factor:.4g} - ({slope:.5g} K)/T"
    axes.annotate(straight, (0.03, 0.04), xycoords="axes fraction", fontsize=9, color=style.INK)
    axes.legend(frameon=False)
    axes.spines["top"].set_visible(True)
    upper = axes.secondary_xaxis("top", functions=(_celsius, _thousandth))
    upper.set_xlabel("T [°C]", labelpad=4)
    hot, cold = (1 / inverse[0] - 273.15, 1 / inverse[-1] - 273.15)
    upper.xaxis.set_major_locator(FixedLocator(_round_degrees(cold, hot)))
    upper.xaxis.set_major_formatter(FuncFormatter(lambda v, _: f"{v:g}"))
    axes.set_title(title, loc="left", fontsize=10, color=style.INK, pad=40)
    if wide:
        energy, log_factor = line.region()
        right = panels[1]
        right.plot(energy / 1e3, log_factor, **style.stroke(0))
        best = line.log_value + line.energy / GAS_CONSTANT / line.reference
        right.plot(line.energy / 1e3, best, "o", color=style.COLOURS[1], ms=6)
        style.dress(right, "E [kJ/mol]", "ln A (A in SI)", f"joint 95 % region, correlation {line.correlation:.4f}")
    return figure


def _celsius(x: object) -> object:
    return 1e3 / np.maximum(np.asarray(x, dtype=float), 1e-9) - 273.15


def _thousandth(celsius: object) -> object:
    return 1e3 / np.maximum(np.asarray(celsius, dtype=float) + 273.15, 1e-9)


def _round_degrees(cold: float, hot: float) -> list[float]:
    """Round temperatures between two, about six of them."""
    step = next(s for s in (1, 2, 5, 10, 20, 25, 50, 100, 200, 500, 1000) if (hot - cold) / s <= 7)
    return [float(t) for t in np.arange(np.ceil(cold / step) * step, hot + 1e-9, step)]
