"""A condition that may change during a run, found by `optimize`."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, dataclass

import sympy as sp

from molino.core import units
from molino.core.contract.vessel import Vessel
from molino.core.dimension_text import si_text
from molino.core.errors import Faults, InputError, UnitError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import ReadField, option, read_fields, several_forms
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value

_MOST_PIECES = 200


@dataclass(frozen=True, eq=False)
class FreeProfile(Frozen, Printed):
    """A condition that may change over time (in a tube: along its length), free between two bounds.

    Parameters
    ----------
    low, high : value
        The bounds, like "298 K" and "398 K".
    pieces : int, optional
        Number of pieces of equal length; by default the course is arbitrary, and the places of steps and bends are
        found.
    kind : "linear" or "constant"
        Linear or constant over each piece.
    slope : value, optional
        The steepest slope, like "2 K/min".

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> first = mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="50 kJ/mol"))
    >>> second = mo.Reaction("B -> C", k=mo.Arrhenius(k="0.1 1/min", at="330 K", Ea="80 kJ/mol"))
    >>> batch = mo.Batch(mo.Chemistry([first, second]), {"A": "1 mol/L"}, T="330 K", time="10 min")
    >>> best = mo.optimize(batch, maximize="yield of B on A", free={"T": mo.FreeProfile("300 K", "370 K")})
    >>> round(best.value, 4)
    0.5524
    """

    low: ReadField = several_forms(MISSING)
    high: ReadField = several_forms(MISSING)
    pieces: ReadField = several_forms()
    kind: str = option("linear", ("linear", "constant"))
    slope: ReadField = several_forms()

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, "free profile")
        pieces = self.pieces
        if pieces is not None and (isinstance(pieces, bool) or not isinstance(pieces, int) or pieces < 1):
            faults.add("free profile, pieces", f"{pieces!r} is not a number of pieces", "give a whole number from 1 up")
        elif pieces is not None and pieces > _MOST_PIECES:
            faults.add("free profile, pieces", f"{pieces} pieces are too many", f"give {_MOST_PIECES} at most")
        if self.slope is not None and self.kind == "constant":
            faults.add("free profile, slope", "constant pieces have steps", "take kind='linear', or no slope")
        faults.raise_any()

    def __str__(self) -> str:
        parts = [f"free between {self.low} and {self.high}"]
        parts += [f"{self.pieces} pieces"] if self.pieces is not None else []
        parts += ["constant pieces"] if self.kind == "constant" else []
        parts += [f"no steeper than {self.slope}"] if self.slope is not None else []
        return ", ".join(parts)


@dataclass(frozen=True, eq=False)
class MovingNumber(Frozen):
    """A free profile after reading: a condition, its bounds in SI, and its parameters in the balances.

    Attributes
    ----------
    name, quantity, unit : str
        `quantity` is its kind of quantity, `unit` its unit in results.
    low, high : float
    pieces : int or None
    kind : 'linear' or 'constant'
    slope : float or None
        Per unit of the independent variable: time or volume.
    symbols : mapping of Symbol to (a, b)
        Parameters of the balances that are a + b times the condition.
    """

    name: str
    quantity: str
    unit: str
    low: float
    high: float
    pieces: int | None
    kind: str
    slope: float | None
    symbols: Mapping[sp.Symbol, tuple[float, float]]

    def given(self, si: float) -> object:
        """A value in the form that `with_` takes."""
        return Value(si, self.unit) if self.unit else si

    def shown(self, si: float) -> float:
        """A value in its unit."""
        return float(units.unit(self.unit).from_si(si)) if self.unit else si

    def text(self, si: float, digits: int = 5) -> str:
        """A value with its unit."""
        return f"{units.number_text(self.shown(si), digits)} {units.pretty(self.unit)}".rstrip()


def read_moving(vessel: Vessel, name: str, given: FreeProfile) -> MovingNumber:
    """Read a free profile of a vessel; InputError if the condition cannot change, or its bounds are invalid."""
    if vessel.spec.has_steady_state:
        message = "a tank at steady state has no profiles"
        raise InputError(message, vessel.label, "free profiles are for batches and tubes")
    symbols = vessel.spec.moved_symbols(name)
    setting = vessel.spec.profile_condition(name)
    (low, form), (high, other) = (_read(vessel, name, end) for end in (given.low, given.high))
    if form != other:
        raise InputError(f"'{given.low}' and '{given.high}' are of different kinds", "", "give both in one form")
    if not low < high:
        raise InputError(f"{given.low} is not below {given.high}", "", "give FreeProfile(low, high)")
    unit = (
        units.read(given.low).unit or (vessel.spec.display.unit(setting.kind) if setting.kind != "number" else "") or ""
    )
    slope = None if given.slope is None else _read_slope(vessel, setting.kind, unit, given.slope)
    return MovingNumber(name, setting.kind, unit, low, high, given.pieces, given.kind, slope, symbols)


def _read(vessel: Vessel, name: str, value: object) -> tuple[float, str]:
    """A bound, which may be zero."""
    read = units.read(value, name=name)
    if read.si == 0.0:
        return 0.0, vessel.spec.profile_condition(name).read(Value(1.0, read.unit) if read.unit else 1.0)[1]
    return vessel.spec.profile_condition(name).read(value)


def _read_slope(vessel: Vessel, kind: str, unit: str, given: object) -> float:
    """The steepest slope in SI, per unit of the independent variable."""
    along, factor = vessel.spec.profile_axis
    read = units.read(given, name="slope")
    if read.unit is not None:
        whole = units.unit(SI_UNITS.get(kind) or unit or "1").dimension
        wanted = units.unit(f"{si_text(whole) or '1'}/{SI_UNITS[along]}").dimension
        if units.unit(read.unit).dimension != wanted:
            advice = f"give it in {si_text(wanted)} or similar"
            raise UnitError(f"slope = '{given}' is of another dimension", "free profile", advice)
    if not read.si > 0:
        raise InputError(f"slope = {given!r} is not above zero", "free profile", "give the steepest slope")
    return read.si / factor
