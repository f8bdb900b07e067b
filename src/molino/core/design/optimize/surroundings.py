"""An active limit of an optimum."""

from __future__ import annotations

from dataclasses import dataclass

from molino.core import units


@dataclass(frozen=True)
class ActiveLimit:
    """A limit or bound that is active at an optimum.

    Attributes
    ----------
    text : str
        Which.
    worth : float
        Gain of the objective per `per` by which it is relaxed, in the units of results.
    per, unit : str
        The units of the limited quantity and of the objective.
    """

    text: str
    worth: float
    per: str
    unit: str

    def __str__(self) -> str:
        step = f"1 {units.pretty(self.per)}" if self.per else "0.01"
        gain = f"{self.worth * (1.0 if self.per else 0.01):.3g} {units.pretty(self.unit)}".rstrip()
        return f"{self.text}: relaxing it by {step} gains {gain}"
