"""Steps and ramps of a condition during a run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import MISSING, dataclass

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import GAS_START, GAS_START_P, START, START_T
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, quantity, read_fields, several_forms

_OF_THE_START = (START, START_T.role, GAS_START, GAS_START_P.role)
"""Fields of the initial state, which cannot change during a run."""
_ROUNDING = 1e-12
"""Relative difference of two times that are the same."""


@dataclass(frozen=True, eq=False)
class Change(Frozen, Printed):
    """A step or ramp of a condition during a run.

    Parameters
    ----------
    what : str
        "flow", "feed T", "[A]" (of the feed), "coolant T", "T" and so on.
    to : value
        The new value.
    at : time
        Its beginning.
    over : time, optional
        The duration of a ramp; by default a step.

    Raises
    ------
    InputError
        If a time is invalid.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> run = tank.run("1 h", changes=[mo.Change("flow", "2 L/min", at="10 min")])
    >>> round(run.conversion("A"), 4)
    0.3333
    """

    what: str
    to: ReadField = several_forms(MISSING)
    at: QuantityField = quantity("time", 0.0, sign="nonnegative")
    over: QuantityField = quantity("time", 0.0, sign="nonnegative")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, f"change of {self.what}")
        faults.raise_any()

    def __str__(self) -> str:
        ramp = f" over {self.over}" if self.over.si else ""
        return f"{self.what} to {self.to} at {self.at}{ramp}"


def changed_numbers(vessel: Vessel, changes: Sequence[Change]) -> Mapping[sp.Symbol, PiecewiseLinear]:
    """The conditions that change, over time.

    Between two times at which a change begins or ends, each condition is that of the vessel after all completed
    changes, plus the contribution of the ramp that acts on it.

    Raises
    ------
    InputError
        With every invalid change, and with ramps that overlap in one number.
    """
    faults = Faults()
    spans = _spans(vessel, changes, faults)
    marks = sorted({0.0, *(t for _, begin, end in spans for t in (begin, end))})
    symbols = vessel.spec.model.balances.parameters
    base, left = vessel, sorted(spans, key=lambda span: (span[2], span[1]))
    rows: list[tuple[float, np.ndarray]] = []
    for n, start in enumerate(marks):
        while left and left[0][2] <= start and not faults.found:
            with faults.at(f"change of {left[0][0].what}"):
                base = _changed(base, left[0][0])
            left = left[1:]
        now = np.array(base.spec.case.values)
        rising = np.zeros_like(now)
        for change, begin, end in left:
            if begin > start or faults.found:
                continue
            with faults.at(f"change of {change.what}"):
                slope = (np.array(_changed(base, change).spec.case.values) - now) / (end - begin)
                if ((slope != 0) & (rising != 0)).any():
                    raise InputError(
                        "two ramps change the same condition at the same time", "", "arrange them one after another"
                    )
                now, rising = now + slope * (start - begin), rising + slope
        rows.append((start, now))
        if n + 1 < len(marks):
            rows.append((marks[n + 1], now + rising * (marks[n + 1] - start)))
    faults.raise_any(vessel.label)
    times, values = tuple(t for t, _ in rows), np.array([row for _, row in rows])
    moved = (values != values[0]).any(axis=0)
    return {
        symbol: PiecewiseLinear(times, tuple(values[:, k].tolist()))
        for k, symbol in enumerate(symbols)
        if moved[k] and symbol.role not in _OF_THE_START
    }


def _spans(vessel: Vessel, changes: Sequence[Change], faults: Faults) -> list[tuple[Change, float, float]]:
    """Each change with its beginning and end in s, in order; times that differ by rounding are made equal."""
    spans: list[tuple[Change, float, float]] = []
    seen: list[float] = []

    def settled(t: float) -> float:
        known = next((other for other in seen if abs(other - t) <= _ROUNDING * max(other, t)), t)
        seen.append(known)
        return known

    for change in sorted(changes, key=lambda c: c.at.si):
        begin, end = settled(change.at.si), settled(change.at.si + change.over.si)
        with faults.at(f"change of {change.what}"):
            if change.what in vessel.spec.sizes:
                raise InputError("the size of a vessel is constant during a run", "", "change feed, flow, T or coolant")
            if any(other.what == change.what and before > begin for other, _, before in spans):
                raise InputError("begins before the last change of it ends", "", "arrange them one after another")
            spans.append((change, begin, end))
    return spans


def _changed(vessel: Vessel, change: Change) -> Vessel:
    after = vessel.with_({change.what: change.to})
    if after.spec.model.balances is not vessel.spec.model.balances:
        raise InputError("changes the form of the balances", "", "change a number that is given already")
    return after
