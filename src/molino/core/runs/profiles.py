"""The panels of a profile of a run, and the limits of its axes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from molino.core import units
from molino.core.errors import Faults, InputError, nearest

PROFILES = {
    "concentration": "concentration",
    "molar flow": "molar flow",
    "amount": "amount",
    "conversion": "number",
    "rate": "rate",
    "rate per catalyst mass": "rate per catalyst mass",
    "rate per area": "rate per area",
    "flux": "flux",
    "temperature": "temperature",
    "pressure": "pressure",
    "volume": "volume",
    "heat flow": "power",
    "effectiveness": "number",
}
"""The quantities of a run over time or along a tube, each with its kind."""


def read_limits(given: Mapping[str, tuple[object, object]], along: str) -> dict[str, tuple[float, float]]:
    """The limits of axes in SI; InputError with all faults."""
    faults, found = Faults(), {}
    for name, ends in given.items():
        with faults.at(f"limits, {name}"):
            if name != "x" and name not in PROFILES:
                raise InputError(f"unknown panel '{name}'", "", nearest(name, ["x", *PROFILES]))
            if isinstance(ends, str) or not isinstance(ends, Sequence) or len(ends) != 2:
                raise InputError("an axis has two ends", "", "give (low, high)")
            kind = along if name == "x" else PROFILES[name]
            low, high = (units.read(end, kind, name).si for end in ends)
            if not low < high:
                raise InputError("the low end is not below the high one", "", "give (low, high)")
            found[name] = (low, high)
    faults.raise_any()
    return found
