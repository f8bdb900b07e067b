"""A feed that is dosed to a vessel over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from molino.core import units
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.contents.feed import (
    Feed,
    require_feed,
)
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.schema import ReadField, several_forms

if TYPE_CHECKING:
    pass


@dataclass(frozen=True, eq=False)
class Dosing(Frozen, Printed):
    """A feed into a semi-batch vessel, over time.

    Parameters
    ----------
    feed : Feed
        Its flow is the rate of dosing during the windows (ignored if a `rate` is given).
    windows : list of (from, to), optional
        Times of dosing: [("0 min", "45 min")]; by default all the time.
    rate : list of (time, volumetric flow), optional
        A piecewise linear rate instead; the same time twice is a step.

    Raises
    ------
    InputError
        With all faults.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A + B -> C", k="0.2 L/mol/min"))
    >>> dose = mo.Dosing(mo.Feed({"B": "2 mol/L"}, flow="1 L/min"), windows=[("0 min", "10 min")])
    >>> run = mo.SemiBatch(chem, {"A": "1 mol/L"}, {"B": dose}, volume="20 L", time="30 min").run()
    >>> round(run.conversion("A"), 3)
    0.769
    """

    feed: Feed
    windows: ReadField = several_forms()
    rate: ReadField = several_forms()

    def __post_init__(self) -> None:
        require_feed(self.feed, "dosing")
        if self.windows is not None and self.rate is not None:
            raise InputError("both windows and a rate are given", "dosing", "give one of them")
        if self.feed.is_gas:
            raise InputError("a gas is dosed", "dosing", "a semi-batch vessel holds a liquid: leave P out")

    def piecewise(self, flow: float) -> PiecewiseLinear:
        """Volumetric flow over time, with the feed's own flow while it runs."""
        if self.rate is not None:
            return PiecewiseLinear.read(self.rate, "time", "volumetric flow", "dosing, rate", zero=True)
        if self.windows is None:
            return PiecewiseLinear.constant(flow)
        faults = Faults()
        times: list[float] = [0.0]
        values: list[float] = [0.0]
        for window in self.windows:
            with faults.at("dosing, windows"):
                if not isinstance(window, list | tuple) or len(window) != 2:
                    raise InputError(f"{window!r} is not a window", "", "write [('0 min', '45 min')]")
                begin, end = (units.positive(t, "time", "window", zero=True).si for t in window)
                if not times[-1] <= begin < end:
                    raise InputError(f"{window!r} does not come after the one before it", "", "put windows in order")
                times += [begin, begin, end, end]
                values += [0.0, flow, flow, 0.0]
        faults.raise_any()
        return PiecewiseLinear(tuple(times), tuple(values))

    def __str__(self) -> str:
        when = ""
        if self.windows is not None:
            when = " " + " and ".join(f"from {a} to {b}" for a, b in self.windows)
        return f"{self.feed}{when}" + (" by a rate profile" if self.rate is not None else "")
