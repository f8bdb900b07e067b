"""Even and logarithmic spans of values for sweeps."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import numpy as np

from molino.core import units
from molino.core.arguments import checked
from molino.core.errors import Faults, InputError
from molino.core.units import QuantityLike, Value

MOST = 200_000
"""The largest number of cases."""
_ENDS = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(\D.*)")


@checked
def span(low: QuantityLike, high: QuantityLike, points: int) -> tuple[object, ...]:
    """Values from low to high, evenly spaced.

    Parameters
    ----------
    low, high : quantities
        Both ends are among the values: "165 degC", "3 bar", "20 mol%", "1 per xylose", or bare numbers.
    points : int
        Number of values.

    Returns
    -------
    tuple
        Quantities in the unit of `low`, as `sweep` takes them.

    Raises
    ------
    InputError
        If the ends are not of the same kind, or the number of points is not a whole number.

    Examples
    --------
    >>> [str(T) for T in mo.span("165 degC", "185 degC", 3)]
    ['165 °C', '175 °C', '185 °C']
    >>> mo.span("1 per A", "3 per A", 3)
    ('1 per A', '2 per A', '3 per A')
    """
    return _between(low, high, points, np.linspace, "span")


@checked
def log_span(low: QuantityLike, high: QuantityLike, points: int) -> tuple[object, ...]:
    """Values from low to high in equal ratios; see `span`.

    Parameters
    ----------
    low, high : quantities
        Both above zero.
    points : int

    Returns
    -------
    tuple

    Raises
    ------
    InputError
        As `span`, and if an end is not above zero.

    Examples
    --------
    >>> [str(V) for V in mo.log_span("1 L", "100 L", 3)]
    ['1 L', '10 L', '100 L']
    """
    return _between(low, high, points, np.geomspace, "log_span")


def _between(
    low: QuantityLike, high: QuantityLike, points: object, spaced: Callable[..., np.ndarray], name: str
) -> tuple[object, ...]:
    if isinstance(points, bool) or not isinstance(points, int) or not 1 <= points <= MOST:
        advice = f"give a whole number from 1 to {MOST:,}"
        raise InputError(f"{points!r} is not a number of points", f"{name}, points", advice)
    texts = [_ENDS.fullmatch(end) if isinstance(end, str) else None for end in (low, high)]
    shares = [m for m in texts if m is not None and (" per " in f" {m[2]}" or "%" in m[2])]
    if len(shares) == 2 and shares[0][2].split() == shares[1][2].split():
        ends = [float(m[1]) for m in shares]
        _check_above_zero(ends, (low, high), spaced, name)
        return tuple(f"{x:.10g} {shares[0][2].strip()}" for x in spaced(*ends, points))
    faults, read = Faults(), list[Value]()
    for place, end in (("low", low), ("high", high)):
        with faults.at(f"{name}, {place}"):
            read.append(units.read(end))
    faults.raise_any()
    dimensions = [units.unit(v.unit or "").dimension if v.unit else None for v in read]
    if dimensions[0] != dimensions[1]:
        raise InputError(f"'{low}' and '{high}' are of different kinds", name, "give both in the same kind of unit")
    _check_above_zero([v.si for v in read], (low, high), spaced, name)
    values = spaced(read[0].si, read[1].si, points)
    unit = read[0].unit
    return tuple(Value(float(x), unit) if unit else float(x) for x in values)


def _check_above_zero(ends: Sequence[float], given: Sequence[object], spaced: object, name: str) -> None:
    if spaced is np.geomspace and min(ends) <= 0:
        message = f"from '{given[0]}' to '{given[1]}' equal ratios are not possible"
        raise InputError(message, name, "give two ends above zero, or use span")
