"""The range of the data that constants were fitted to, and of the flow model, compared with the use in a vessel."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping

from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.findings import Finding
from molino.core.chemistry.reaction_set import Covariance
from molino.core.display import Display
from molino.core.units import Value


def extrapolations(
    covariance: Covariance, temperatures: Iterable[float], concentrations: Mapping[str, float], display: Display
) -> list[str]:
    """The quantities outside the range of the fitted data, each with the limit of the range.

    Parameters
    ----------
    covariance : Covariance
    temperatures : floats in K
        nan if unknown.
    concentrations : mapping of species to float in mol/m^3
        The highest of each.
    display : Display
    """
    found, known = [], [T for T in temperatures if math.isfinite(T)]
    if known and covariance.temperatures is not None and covariance.is_beyond(min(known), max(known)):
        ends = covariance.temperatures
        worst = max((min(known), max(known)), key=lambda T: max(ends[0] - T, T - ends[1]))
        low, high = (display.text(T, "temperature") for T in ends)
        data = low if low == high else f"{low} to {high}"
        found.append(f"fitted at {data}, extrapolated to {display.text(worst, 'temperature')}")
    for species, most in covariance.concentrations.items():
        if covariance.is_above(species, concentrations.get(species, 0.0)):
            own = display.text(concentrations[species], "concentration")
            found.append(f"fitted up to {display.text(most, 'concentration')} of {species}, extrapolated to {own}")
    return found


def fitted_fact(
    covariance: Covariance | None, temperatures: Iterable[float], concentrations: Mapping[str, float], display: Display
) -> dict[str, str]:
    """A statement whether a run is inside the range of the fitted data; see `extrapolations`."""
    if covariance is None or (covariance.temperatures is None and not covariance.concentrations):
        return {}
    found = extrapolations(covariance, temperatures, concentrations, display)
    if found:
        return {"rate constants": f"{'; '.join(found)}: the interval does not cover that"}
    ends = dict.fromkeys(display.text(T, "temperature") for T in covariance.temperatures or ())
    data = f"fitted at {' to '.join(ends)}" if ends else "fitted to concentrations"
    return {"rate constants": f"{data}, which covers this run"}


def range_finding(
    label: str,
    chemistry: Chemistry,
    temperatures: Iterable[Value | None],
    concentrations: Mapping[str, float],
    display: Display,
) -> Finding | None:
    """Findings for constants that are used outside the range of the fitted data, at the inlet or the start."""
    if chemistry.covariance is None:
        return None
    known = [float(T.si) for T in temperatures if T is not None]
    found = extrapolations(chemistry.covariance, known, concentrations, display)
    if not found:
        return None
    message = f"the constants were {'; '.join(found)}"
    return Finding("warning", label, message, "measure there; the intervals do not cover an extrapolation")


def length_finding(label: str, length: float, width: float, display: Display) -> Finding | None:
    """A finding for a tube that is shorter than it is wide; nothing if its length or its width (m) is unknown."""
    if not length < width:
        return None
    sizes = f"length {display.text(length, 'length')}, diameter {display.text(width, 'length')}"
    message = f"it is shorter than it is wide ({sizes}): this is not plug flow"
    return Finding("warning", label, message, "check diameter, flow and rate constants, or take a stirred tank")
