"""The bubble column."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

from molino.core.balances.balance_symbols import GAS_P, HEAD
from molino.core.contents.feed import is_molar
from molino.core.contents.mixture_equations import Mixture
from molino.core.contract.run_result import RunResult
from molino.core.dual import Number
from molino.core.errors import Faults, InputError
from molino.core.schema import QuantityField, quantity
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank, StirredTankSpecification

_GRAVITY = 9.80665
"""Standard acceleration of gravity in m/s^2 (exact, 3rd CGPM 1901)."""


class BubbleColumnSpecification(StirredTankSpecification):
    """The specification of a BubbleColumn."""

    vessel: BubbleColumn
    gas_in_plug_flow: ClassVar[bool] = True

    def validate_fed(self) -> None:
        faults = Faults()
        with faults.at():
            super().validate_fed()
        if self.vessel.gas is None:
            faults.add(self.label, "no gas is given", "give gas=mo.GasPhase(...)")
        if self.vessel.height is not None and self.vessel.diameter is None:
            faults.add(self.label, "a height is given but no diameter", "give the diameter, or the volume instead")
        faults.raise_any()

    def as_tube(self) -> PlugFlow:
        raise InputError(f"over time {self.vessel} is not followed", "", "give stirred tanks and tubes")

    def area(self, given: Mapping[str, Number]) -> Number:
        """Cross-section in m^2; nan without a diameter."""
        own = self.vessel.diameter.si if self.vessel.diameter is not None else math.nan
        return (math.pi / 4) * given.get("diameter", own) ** 2.0

    def share(self, given: Mapping[str, Number]) -> Number:
        """The fraction of liquid in the column."""
        own = self.vessel.gas.holdup.si if self.vessel.gas is not None else 0.0
        return 1 - given.get("holdup", own)

    def volume(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        height = self.stated_sizes(given).get("height")
        return super().volume(given, fed) if height is None else height * self.area(given) * self.share(given)

    def size_at(self, name: str, passed: float) -> float:
        if name == "height":
            if self.vessel.diameter is None:
                raise InputError("the height cannot be found without a diameter", self.label, "give the diameter")
            return passed / float(self.area({}) * self.share({}))
        return super().size_at(name, passed)

    def default_size(self) -> str:
        return "height" if self.vessel.diameter is not None else "volume"

    def head(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        density = self.vessel.feed.density
        if density is None or is_molar(density) or (self.vessel.diameter is None and "diameter" not in given):
            return 0.0
        return self.volume(given, fed) / self.area(given) * (density.si * _GRAVITY)

    def more_facts(self, run: RunResult) -> dict[str, str]:
        found, area = super().more_facts(run), float(self.area({}))
        if math.isfinite(area) and self.vessel.gas is not None:
            T = float(run.stream_out().T)
            numbers = self.gas_numbers({}, self.fed, T)
            pressure = float(numbers[GAS_P] + numbers[HEAD])
            found["pressure at the bottom"] = run.display.text(pressure, "pressure")
            if self.vessel.gas.has_flow:
                speed = float(self.gas_fed.volume) / area
                found["superficial velocity of the gas fed"] = run.display.text(speed, "mass transfer coefficient")
        return found


@dataclass(frozen=True, eq=False)
class BubbleColumn(StirredTank):
    """A column of well-mixed liquid through which a gas rises in plug flow.

    The balances of a `StirredTank` for the liquid, those of plug flow for the gas (O. Levenspiel, Chemical Reaction
    Engineering, 3rd ed. 1999, chapter 24; see `GasPhase`), under the hydrostatic pressure of the liquid, rho g (1 -
    holdup) per height, if the density of the liquid is given.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
        The liquid.
    gas : GasPhase
    diameter : optional
        Inner diameter.
    height : optional
        Of gas and liquid, with the diameter; or give the volume of the liquid.
    volume, space_time, catalyst_mass, T, contents, heat, wall, catalyst, name, show
        As of a `StirredTank`.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A + O2 -> B", k="0.2 L/mol/s"))
    >>> air = mo.GasPhase(mo.Feed({"O2": "21 mol%", "N2": "rest"}, flow="5 mol/s", T="330 K", P="3 bar"), "0.1 1/s",
    ...                   {"O2": "900 bar*L/mol"})
    >>> chem = mo.Chemistry(chem.reactions, ["N2"])
    >>> feed = mo.Feed({"A": "2 mol/L"}, flow="0.5 L/s", density="900 kg/m3")
    >>> column = mo.BubbleColumn(chem, feed, diameter="0.6 m", height="5 m", T="330 K", gas=air)
    >>> round(column.steady().conversion("O2"), 3)
    0.069
    """

    noun: ClassVar[str] = "bubble column"
    diameter: QuantityField = quantity("diameter", setting=True)
    height: QuantityField = quantity("length", size=True)

    @cached_property
    def spec(self) -> BubbleColumnSpecification:
        return BubbleColumnSpecification(self)
