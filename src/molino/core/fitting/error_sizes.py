"""The sizes of the errors of observations, by the option of a fit."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from molino.core import units
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.fit_data import Points
from molino.core.fitting.rates.rates import Rates
from molino.core.fitting.replicates import pooled_scatter

ERRORS = ("each", "same", "relative", "constant and relative", "replicates", "given")
"""The options for errors without numbers."""
_OF_ALL = ("same", "constant and relative")
"""Those of all responses."""


def weights_of(errors: object, data: Experiments | Rates, points: Points) -> tuple[np.ndarray, np.ndarray]:
    """Standard deviation of each observation up to a factor, and the group of observations with a common factor.

    Those of known size (given, in numbers or with the values, or from replicates) have one factor.
    """
    names = list(dict.fromkeys(points.response))
    which = np.array([names.index(s) for s in points.response])
    if errors == "same":
        kinds = sorted({data.kind_of(name) for name in names})
        if len(kinds) > 1:
            raise InputError(f"one error for a {' and a '.join(kinds)}", "", "take 'each', or give numbers")
        return np.ones(len(which)), np.zeros(len(which), dtype=int)
    faults, size, group = Faults(), np.ones(len(which)), which + 1
    by_response = dict.fromkeys(names, errors)
    if isinstance(errors, Mapping):
        for name in sorted(errors.keys() - set(names)):
            faults.add("", f"'{name}' was not measured", nearest(name, names))
        for name in sorted(set(names) - errors.keys()):
            faults.add("", f"no error of {name} is given", "give one for each response")
        by_response = {name: errors[name] for name in names if name in errors}
        for name in [n for n, one in by_response.items() if isinstance(one, str) and one in _OF_ALL]:
            faults.add(name, f"'{by_response.pop(name)}' is an option of all responses", "give it instead of a mapping")
    for name, given in by_response.items():
        own = which == names.index(name)
        with faults.at():
            size[own], is_known = _size_of(given, name, data, points, own)
            group[own] = 0 if is_known else group[own]
    faults.raise_any()
    return size, np.unique(group, return_inverse=True)[1]


def _size_of(
    given: object, name: str, data: Experiments | Rates, points: Points, own: np.ndarray
) -> tuple[np.ndarray | float, bool]:
    """The standard deviations of one response up to a factor, and whether they are of known size."""
    if isinstance(given, str) and given in ("each", "constant and relative"):
        return 1.0, False
    if given == "given":
        return _given(points, own, name), True
    if given == "relative":
        found = np.abs(points.measured[own])
        if not (found > 0).all():
            raise InputError("a measured value is zero", "", "'relative' has no error for it: leave it out, or 'each'")
        return found, False
    if given == "replicates":
        values = np.flatnonzero(own & points.is_value)
        keys = [points.replicates[i] for i in values]
        scatter = pooled_scatter(keys, points.measured[values], np.zeros(len(values), dtype=int))
        if not scatter.get(0, (0.0, 0))[0] > 0:
            raise InputError(f"{name} has no replicates with scatter", "", "give its error as a number, or 'each'")
        return scatter[0][0], True
    if isinstance(given, str) and not any(sign.isdigit() for sign in given):
        raise InputError(f"errors = {given!r}", "", nearest(given, ERRORS))
    if given is None or isinstance(given, list | tuple):
        raise InputError(f"errors = {given!r}", "", f"one of {', '.join(ERRORS)}, or numbers")
    return units.read_difference(given, data.kind_of(name), name), True


def _given(points: Points, own: np.ndarray, name: str) -> np.ndarray:
    """The standard deviations of the data of one response; that of a limit without one is their median."""
    found = points.given[own]
    lacking = int(np.isnan(points.given[own & points.is_value]).sum())
    if lacking or np.isnan(found).all():
        message = f"{lacking or int(own.sum())} of {int(own.sum())} values of {name} have no standard deviation"
        raise InputError(message, "", "give all of them, or errors='each'")
    return np.asarray(np.where(np.isnan(found), np.nanmedian(found), found))
