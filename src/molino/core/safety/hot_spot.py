"""The hottest place of a cooled tube, and how sharply it answers to the coolant (or the feed)."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np

from molino.core.contract.metric import Metric
from molino.core.contract.metrics import temperature
from molino.core.errors import InputError
from molino.core.runs.run_data import RunData
from molino.core.runs.run_slopes import extreme, slopes_where

_STEP = 5e-4
"""Relative step of the differences by which the sensitivity's own slopes are found."""


class HotSpot:
    """The highest temperature along a tube, and by how much a warmer coolant raises it.

    Parameters
    ----------
    run : Run

    Raises
    ------
    InputError
        If it is no tube whose temperature follows from a balance of energy.
    """

    def __init__(self, run: RunData) -> None:
        vessel = run.vessel
        if run.is_over_time or run.is_steady or not vessel.is_non_isothermal:
            message = "a hot spot is looked for along a tube whose temperature follows from a balance of energy"
            raise InputError(message, vessel.label, "ask it of a tube with a jacket")
        if vessel.spec.heat_shape.mode != "jacket":
            message = "it has no coolant: its highest temperature rises by as much as its feed"
            raise InputError(message, vessel.label, "ask it of a tube with a jacket")
        self.run, self.vessel = run, vessel

    @cached_property
    def place(self) -> tuple[float, float]:
        """Where it is hottest, in m^3 passed, and how hot in K."""
        return extreme(self.run, temperature(), 1.0)

    @cached_property
    def sensitivity(self) -> float:
        """Exact d(highest temperature)/d(temperature of the coolant)."""
        return float(slopes_where(self.run, self.place[0], temperature(), ["coolant T"])[0])

    def metric(self, metric: Metric) -> float:
        """The sensitivity, as a metric of the run."""
        return self.sensitivity

    def slopes(self, metric: Metric, conditions: Sequence[str]) -> np.ndarray:
        """Slopes of the sensitivity by conditions, shape (conditions,): central differences of the exact one."""
        found = []
        for name in conditions:
            condition = self.vessel.spec.condition(name)
            step = _STEP * (abs(condition.own) or 1.0)
            away = (step, -step) if condition.own else (step, 0.0)  # nothing is not made less
            ends = [self._moved(name, condition.give(condition.own + d)).sensitivity for d in away]
            found.append((ends[0] - ends[1]) / (away[0] - away[1]))
        return np.array(found)

    def _moved(self, name: str, value: Any) -> HotSpot:
        run = self.vessel.with_({name: value}).run()
        assert isinstance(run, RunData)
        return HotSpot(run)


def hot_spot_of(run: RunData) -> HotSpot:
    """The hot spot of a run, computed once."""
    return run.analysis_by(HotSpot)
