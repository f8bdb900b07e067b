"""The heat exchangers of a train: to a temperature, by a duty, and between two streams of the train."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from molino.core.contents.stream_properties import at_enthalpy, at_temperature, enthalpy, mean_capacity
from molino.core.contents.streams import Stream
from molino.core.contract.condition import Condition
from molino.core.dual import Number, exp, roots, value_of
from molino.core.errors import InputError, SolveError
from molino.core.schema import QuantityField, quantity
from molino.core.trains.train_step import Passed, Surroundings, TrainStep

_SMALL = 1e-3
"""Argument of (1 - exp(-x))/x below which it is a series."""
_ROUNDS, _CLOSE = 200, 1e-13
"""Rounds for the outlet temperatures of an exchanger, which hardly change its mean heat capacities, and their
tolerance, above the rounding of the enthalpies."""


@dataclass(frozen=True, eq=False)
class Exchanger(TrainStep):
    """A heat exchanger between two vessels.

    Parameters
    ----------
    T : temperature, optional
        The outlet temperature.
    duty : power, optional
        The heat flow instead ("-250 kW" cools).
    name : str

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-50 kJ/mol"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="350 K", heat_capacity="4.2 MJ/m3/K")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L", heat="adiabatic")
    >>> run = mo.Train([tube, mo.Exchanger("340 K"), tube]).run()
    >>> {name: round(duty) for name, duty in run.exchanged.items()}
    {'exchanger': -1227}
    """

    noun: ClassVar[str] = "exchanger"
    T: QuantityField = quantity("temperature", setting=True)
    duty: QuantityField = quantity("power", sign="any", setting=True)
    name: str = ""

    def __post_init__(self) -> None:
        if (self.T is None) == (self.duty is None):
            message = "neither T nor duty is given" if self.T is None else "T and duty are both given"
            raise InputError(message, "exchanger", "give one of them")
        self.read()

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        stream, fluid = streams[0], at.fluid_of(streams[0])
        before = enthalpy(fluid, stream)
        if self.T is None:
            duty = at.number(self, "duty")
            return Passed((at_enthalpy(fluid, stream, before + duty),), duty)
        after = at_temperature(fluid, stream, at.number(self, "T"))
        return Passed((after,), enthalpy(fluid, after) - before)

    def __str__(self) -> str:
        return f"{self.label} to {self.T}" if self.T is not None else f"{self.label} of {self.duty}"


@dataclass(frozen=True, eq=False)
class FeedEffluent(TrainStep):
    """A counter-current heat exchanger between two streams of a train, such as the feed and the effluent of a bed.

    It is in a train at two places: `exchanger.feed` and `exchanger.effluent`.

        Q = UA dT_m,  dT_m = (dT_1 - dT_2)/ln(dT_1/dT_2)

    with the temperature differences at its ends (W. L. McCabe, J. C. Smith, P. Harriott, Unit Operations of Chemical
    Engineering, 7th ed. 2005, section 11); the temperatures follow from the enthalpies of the streams.

    Parameters
    ----------
    UA : heat capacity flow, optional
        Heat transfer coefficient times area.
    approach : temperature difference, optional
        The smaller of the temperature differences at its ends, instead.
    name : str

    Raises
    ------
    InputError
        If neither or both are given.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", enthalpy="-50 kJ/mol"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="350 K", heat_capacity="4.2 MJ/m3/K")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L", heat="adiabatic")
    >>> exchanger = mo.FeedEffluent(UA="70 W/K")
    >>> run = mo.Train([exchanger.feed, tube, exchanger.effluent]).run()
    >>> round(run.stream("after feed-effluent exchanger, feed").T, 2)
    357.53
    """

    noun: ClassVar[str] = "feed-effluent exchanger"
    UA: QuantityField = quantity("heat capacity flow", setting=True)
    approach: QuantityField = quantity("temperature difference", setting=True)
    name: str = ""

    def __post_init__(self) -> None:
        if (self.UA is None) == (self.approach is None):
            message = "neither UA nor approach is given" if self.UA is None else "UA and approach are both given"
            raise InputError(message, self.label, "give one of them")
        self.read()

    @property
    def feed(self) -> ExchangerSide:
        """Its place on the line of the feed."""
        return ExchangerSide(self, "feed")

    @property
    def effluent(self) -> ExchangerSide:
        """Its place on the line of the effluent."""
        return ExchangerSide(self, "effluent")

    def require_met(self, streams: Sequence[Stream]) -> None:
        D = abs(float(streams[1].T - streams[0].T))
        if self.approach is not None and self.approach.si > D:
            message = f"the streams differ by {D:.4g} K, less than the approach of {self.approach}"
            raise SolveError(message, self.label, "give a smaller approach, or UA; see also steady_states()")

    def passed(self, streams: Sequence[Stream], at: Surroundings) -> Passed:
        if any(value_of(x.total) <= 0 for x in streams):
            return Passed(tuple(streams))
        (one, two), fluids = streams, [at.fluid_of(x) for x in streams]
        by = "UA" if self.UA is not None else "approach"

        def heat(T1: Number, T2: Number, number: Number, one: Stream, two: Stream) -> tuple[Number, Number, Number]:
            c1, c2 = (mean_capacity(f, x, T) for f, x, T in zip(fluids, (one, two), (T1, T2), strict=True))
            return self._heat(number, two.T - one.T, c1, c2), c1, c2

        def residuals(T1: Number, T2: Number, *inputs: Any) -> list[Number]:
            Q, c1, c2 = heat(T1, T2, *inputs)
            return [T1 - inputs[1].T - Q / c1, inputs[2].T - T2 - Q / c2]

        inputs = (at.number(self, by), one, two)
        plain = (float(value_of(inputs[0])), one.plain(), two.plain())
        T1, T2 = float(plain[1].T), float(plain[2].T)
        for _ in range(_ROUNDS):
            Q, c1, c2 = heat(T1, T2, *plain)
            new = plain[1].T + Q / c1, plain[2].T - Q / c2
            change, (T1, T2) = max(abs(new[0] - T1), abs(new[1] - T2)), new
            if change < _CLOSE * T1:
                break
        else:
            raise SolveError("its outlet temperatures are not found", self.label, "check the heat capacities")
        ends = roots(residuals, (T1, T2), inputs, plain)
        return Passed(tuple(at_temperature(f, x, T) for f, x, T in zip(fluids, streams, ends, strict=True)))

    def _heat(self, number: Number, D: Number, c1: Number, c2: Number) -> Number:
        """The heat from the effluent to the feed, by the difference D of their inlet temperatures and their mean heat
        capacity flows.

        From the logarithmic mean, Q = D UA f/(1 + UA f/c2) with f = (1 - exp(-x))/x and x = UA (1/c1 - 1/c2) >= 0.
        """
        if value_of(c1) > value_of(c2):
            c1, c2 = c2, c1
        if self.UA is not None:
            x = number * (1.0 / c1 - 1.0 / c2)
            small = abs(float(value_of(x))) < _SMALL
            f = 1.0 - x * (0.5 - x * (1.0 / 6.0 - x * (1.0 / 24.0))) if small else (1.0 - exp(-x)) / x
            return D * number * f / (1.0 + number * f / c2)
        left = D - number if value_of(D) > 0 else D + number
        return c1 * left if value_of(left) * value_of(D) > 0 else 0.0 * left

    def __str__(self) -> str:
        return f"{self.label} of {self.UA}" if self.UA is not None else f"{self.label} to {self.approach}"


@dataclass(frozen=True, eq=False)
class ExchangerSide(TrainStep):
    """One of the two places of a `FeedEffluent` in a train.

    Parameters
    ----------
    exchanger : FeedEffluent
    side : "feed" or "effluent"

    Examples
    --------
    >>> print(mo.FeedEffluent(UA="70 W/K").feed)
    feed-effluent exchanger, feed
    """

    noun: ClassVar[str] = "side of an exchanger"
    exchanger: FeedEffluent
    side: str
    name: str = ""

    @property
    def label(self) -> str:
        return f"{self.exchanger.label}, {self.side}"

    def conditions(self) -> dict[str, Condition]:
        return {}

    def __str__(self) -> str:
        return self.label
