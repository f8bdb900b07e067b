"""Vessels whose flow is a field: laminar tubes and basins, and their runs."""

from __future__ import annotations

from molino._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
