"""The hot spot of a cooled tube, and its sensitivity to the temperature of the coolant (or the feed)."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from molino.core.contract.metric import Metric
from molino.core.contract.metrics import temperature
from molino.core.errors import InputError
from molino.core.runs.run_data import RunData
from molino.core.runs.run_slopes import extreme, slopes_where

_STEP = 5e-4
"""Relative step of the differences that give the derivatives of the sensitivity."""


class HotSpot:
    """The highest temperature along a tube, and its derivative by the coolant temperature.

    Parameters
    ----------
    run : Run

    Raises
    ------
    InputError
        If it is not a tube with an energy balance.
    """

    def __init__(self, run: RunData) -> None:
        vessel = run.vessel
        if run.is_over_time or run.is_steady or not vessel.is_non_isothermal:
            message = "a hot spot needs a tube with an energy balance"
            raise InputError(message, vessel.label, "ask it of a tube with a jacket")
        if vessel.spec.heat_shape.mode != "jacket":
            message = "it has no coolant: its highest temperature rises by as much as its feed"
            raise InputError(message, vessel.label, "ask it of a tube with a jacket")
        self.run, self.vessel = run, vessel

    @cached_property
    def place(self) -> tuple[float, float]:
        """The place of the highest temperature in m^3 from the inlet, and this temperature in K."""
        return extreme(self.run, temperature(), 1.0)

    @cached_property
    def sensitivity(self) -> float:
        """Exact d(highest temperature)/d(temperature of the coolant)."""
        return float(slopes_where(self.run, self.place[0], temperature(), ["coolant T"])[0])

    def metric(self, metric: Metric) -> float:
        """The sensitivity, as a metric of the run."""
        return self.sensitivity

    def slopes(self, metric: Metric, conditions: Sequence[str]) -> np.ndarray:
        """Derivatives of the sensitivity by conditions, shape (conditions,): central differences of the exact
        sensitivity."""
        found = []
        for name in conditions:
            condition = self.vessel.spec.condition(name)
            step = _STEP * (abs(condition.own) or 1.0)
            away = (step, -step) if condition.own else (step, 0.0)  # zero cannot be decreased
            ends = [self._moved(name, condition.give(condition.own + d)).sensitivity for d in away]
            found.append((ends[0] - ends[1]) / (away[0] - away[1]))
        return np.array(found)

    def _moved(self, name: str, value: object) -> HotSpot:
        run = self.vessel.with_({name: value}).run()
        assert isinstance(run, RunData)
        return HotSpot(run)


def hot_spot_of(run: RunData) -> HotSpot:
    """The hot spot of a run, computed once."""
    return run.analysis_by(HotSpot)
