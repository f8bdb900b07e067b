"""Results of runs, fits and decisions, and the metrics that they are asked for."""

from __future__ import annotations

from molino._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
