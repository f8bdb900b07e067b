"""Steps and ramps of a condition while a vessel runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sympy as sp

from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import quantity, read_fields
from molino.core.vessels.base import Vessel
from molino.core.vessels.piecewise_linear import PiecewiseLinear
from molino.core.vessels.roles import GAS_START, GAS_START_P, START, START_T

_OF_THE_START = (START, START_T.role, GAS_START, GAS_START_P.role)
"""What says how a run begins, which no change on the way alters."""


@dataclass(frozen=True, eq=False)
class Change(Frozen, Printed):
    """A step or ramp of a condition while a vessel runs.

    Parameters
    ----------
    what : str
        "flow", "feed T", "[A]" (of the feed), "coolant T", "T" and so on.
    to : value
        What it becomes.
    at : time
        When it begins.
    over : time, optional
        How long it takes, in a straight line; a step if left out.

    Raises
    ------
    InputError
        If a time is none.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> run = tank.run("1 h", changes=[mo.Change("flow", "2 L/min", at="10 min")])
    >>> round(run.conversion("A"), 4)
    0.3333
    """

    what: str
    to: Any
    at: Any = quantity("time", 0.0, sign="nonnegative")
    over: Any = quantity("time", 0.0, sign="nonnegative")

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, f"change of {self.what}")
        faults.raise_any()

    def __str__(self) -> str:
        ramp = f" over {self.over}" if self.over.si else ""
        return f"{self.what} to {self.to} at {self.at}{ramp}"


def changed_numbers(vessel: Vessel, changes: Sequence[Change]) -> Mapping[sp.Symbol, PiecewiseLinear]:
    """The numbers that changes move, over time: each from the vessel before the change to the vessel after it.

    Raises
    ------
    InputError
        With every change that is none, and those that overlap in one number.
    """
    faults = Faults()
    points: dict[sp.Symbol, list[tuple[float, float]]] = {}
    for change in sorted(changes, key=lambda c: c.at.si):
        with faults.at(f"change of {change.what}"):
            if change.what in vessel._sizes:
                raise InputError("a vessel keeps its size while it runs", "", "change feed, flow, T or coolant")
            after = vessel.with_({change.what: change.to})
            if after._model.balances is not vessel._model.balances:
                raise InputError("changes the form of the balances", "", "change a number that is there already")
            begin, end = change.at.si, change.at.si + change.over.si
            for symbol, was, now in zip(
                vessel._model.balances.parameters, vessel._case.values, after._case.values, strict=True
            ):
                if was == now or symbol.role in _OF_THE_START:
                    continue
                held = points.setdefault(symbol, [(0.0, was)])
                if held[-1][0] > begin:
                    raise InputError("begins before the last change of the same number ends", "", "put them one by one")
                held += [(begin, was), (end, now)]
            vessel = after
    faults.raise_any(vessel.label)
    return {s: PiecewiseLinear(tuple(t for t, _ in p), tuple(v for _, v in p)) for s, p in points.items()}
