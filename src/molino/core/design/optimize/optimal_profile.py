"""`OptimalProfile`: the best course of a number over a run, the arcs of which it consists, its switching function."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from molino.core import units
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.design.optimize.free_profile import MovingNumber
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.results import plain_dict

_INSET = 0.02
"""The share of an arc after which, and before whose end, it is described."""


@dataclass(frozen=True)
class Arc:
    """A stretch of an optimal profile.

    Attributes
    ----------
    begin, end : float
        In SI, of what the profile is over (time; of a tube length, or volume).
    kind : str
        'at its lower bound', 'at its upper bound', 'singular' (the slope of the Hamiltonian is zero, whatever the
        number is), 'between its bounds', 'along the limit ...', or 'in pieces'.
    """

    begin: float
    end: float
    kind: str

    @property
    def is_at_bound(self) -> bool:
        """Whether the number is at one of its bounds."""
        return self.kind.endswith("bound")


@dataclass(frozen=True, eq=False)
class OptimalProfile(Frozen):
    """The best course of a number.

    Attributes
    ----------
    moving : MovingNumber
    along, along_unit : str
        What it is over ('time', 'length', 'volume'), and the unit that is shown in.
    times, values : array, shape (points,)
        In SI; the number goes in straight lines between them, two points at one time are a jump.
    arcs : tuple of Arc
    switching_times, switching : array, shape (places,)
        The switching function: what the objective gains for each unit by which the number is higher at that place, and
        for each unit of `along`, in SI, the limits taken along. At an upper bound it is not below zero where the
        objective is maximized, at a lower one not above, and zero in between.
    """

    moving: MovingNumber
    along: str
    along_unit: str
    times: np.ndarray
    values: np.ndarray
    arcs: tuple[Arc, ...]
    switching_times: np.ndarray
    switching: np.ndarray

    @property
    def name(self) -> str:
        """The number's name."""
        return self.moving.name

    def value_at(self, at: float) -> float:
        """Its value in SI at a place in SI; at a jump the one after it."""
        return PiecewiseLinear(tuple(self.times.tolist()), tuple(self.values.tolist())).after(at)

    def place_text(self, si: float) -> str:
        """A place along the run with its unit."""
        unit = self.along_unit
        number = float(units.unit(unit).from_si(si)) if unit else si
        return f"{units.number_text(number, 4)} {units.pretty(unit)}".rstrip()

    def describe(self) -> str:
        """Its arcs in words: 'at its upper bound 398 K until 0.14 h, then singular'."""
        parts = []
        for n, arc in enumerate(self.arcs):
            text = arc.kind
            if text == "at its lower bound":
                text += f" {self.moving.text(self.moving.low)}"
            elif text == "at its upper bound":
                text += f" {self.moving.text(self.moving.high)}"
            else:
                inset = _INSET * (arc.end - arc.begin)
                ends = [self.moving.text(self.value_at(at), 4) for at in (arc.begin + inset, arc.end - inset)]
                text += f" ({' to '.join(dict.fromkeys(ends))})"
            last = n == len(self.arcs) - 1
            parts.append(text if last else f"{text} until {self.place_text(arc.end)}")
        return ", then ".join(parts)

    def points(self) -> list[tuple[Any, Any]]:
        """As `mo.Profile` takes it."""
        from molino.core.units import Value

        along = self.along_unit
        return [
            (Value(float(t), along) if along else float(t), self.moving.given(float(v)))
            for t, v in zip(self.times, self.values, strict=True)
        ]

    def to_dict(self, display: Display) -> dict[str, Any]:
        """Plain data: points in the units shown, and arcs."""
        unit = self.along_unit
        shown = [float(units.unit(unit).from_si(t)) if unit else float(t) for t in self.times]
        ends = [float(units.unit(unit).from_si(a.end)) if unit else a.end for a in self.arcs]
        return plain_dict(
            {
                "along": self.along,
                "along_unit": unit,
                "unit": self.moving.unit,
                "points": [[t, self.moving.shown(float(v))] for t, v in zip(shown, self.values, strict=True)],
                "low": self.moving.shown(self.moving.low),
                "high": self.moving.shown(self.moving.high),
                "arcs": [{"kind": a.kind, "until": end} for a, end in zip(self.arcs, ends, strict=True)],
            }
        )
