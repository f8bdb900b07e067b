"""Mixing: tracer tests, residence time distributions, models of flow, conversions from them."""

from __future__ import annotations

from molino._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
