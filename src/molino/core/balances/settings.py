"""The settings of an integration, and its report."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import sympy as sp

from molino.core.frozen import Unchecked

RTOL = 1e-10
ATOL = 1e-13
"""Default tolerances of integration: relative to each state, and absolute as a fraction of its scale."""


@dataclass(frozen=True)
class Report:
    """The report of an integration."""

    method: str
    steps: int
    evaluations: int
    jacobians: int

    @classmethod
    def of(cls, several: Sequence[Report]) -> Report:
        """The combined report of several integrations."""
        counts = (sum(getattr(r, name) for r in several) for name in ("steps", "evaluations", "jacobians"))
        segments = f" in {len(several)} stages" if len(several) > 1 else ""
        return cls(several[-1].method + segments, *counts)

    def __str__(self) -> str:
        many = f", {self.jacobians} Jacobian{'s' if self.jacobians > 1 else ''}" if self.jacobians else ""
        evaluations = f", {self.evaluations} evaluations" if self.evaluations else ""
        return f"{self.method}, {self.steps} steps{evaluations}{many}"


@dataclass(frozen=True, eq=False)
class Settings(Unchecked):
    """The settings of an integration."""

    rtol: float = RTOL
    atol: float = ATOL
    by: tuple[sp.Symbol, ...] = ()
    initial: np.ndarray | None = None
    slopes: np.ndarray | None = None
    most: int = 100_000
    """Steps from one point to the next."""
