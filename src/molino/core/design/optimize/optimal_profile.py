"""`OptimalProfile`: the optimal course of a condition over a run, its arcs, its switching function."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.design.optimize.free_profile import MovingNumber
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.results import plain_dict

_INSET = 0.02
"""The fraction of an arc at both ends that is ignored in its description."""


@dataclass(frozen=True)
class Arc:
    """A section of an optimal profile.

    Attributes
    ----------
    begin, end : float
        In SI, of the independent variable (time; of a tube length or volume).
    kind : str
        'at its lower bound', 'at its upper bound', 'singular' (the derivative of the Hamiltonian is zero for any value
        of the condition), 'between its bounds', 'along the limit ...', or 'in pieces'.
    """

    begin: float
    end: float
    kind: str

    @property
    def is_at_bound(self) -> bool:
        """Whether the condition is at one of its bounds."""
        return self.kind.endswith("bound")


@dataclass(frozen=True, eq=False)
class OptimalProfile(Frozen):
    """The optimal course of a condition.

    Attributes
    ----------
    moving : MovingNumber
    along, along_unit : str
        The independent variable ('time', 'length', 'volume'), and its unit in results.
    times, values : array, shape (points,)
        In SI; linear between the points, with a step where two points are at one time.
    arcs : tuple of Arc
    switching_times, switching : array, shape (places,)
        The switching function: the gain of the Lagrange function per unit of the condition at that place and per unit
        of `along`, in SI. If the objective is maximized it is not negative at an upper bound, not positive at a lower
        bound, and zero in between.
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
        """The name of the condition."""
        return self.moving.name

    def value_at(self, at: float) -> float:
        """Its value in SI at a place in SI; at a step the one after it."""
        return PiecewiseLinear(tuple(self.times.tolist()), tuple(self.values.tolist())).after(at)

    def place_text(self, si: float) -> str:
        """A place of the run with its unit."""
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

    def points(self) -> list[tuple[object, object]]:
        """The points of a `mo.Profile`."""
        from molino.core.units import Value

        along = self.along_unit
        return [
            (Value(float(t), along) if along else float(t), self.moving.given(float(v)))
            for t, v in zip(self.times, self.values, strict=True)
        ]

    def to_dict(self, display: Display) -> PlainData:
        """Plain data: points in the units of results, and arcs."""
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
