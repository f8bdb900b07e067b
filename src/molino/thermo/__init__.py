"""Thermodynamics: properties of species, activity models, equations of state, equilibria of phases and reactions."""

from __future__ import annotations

from molino._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
