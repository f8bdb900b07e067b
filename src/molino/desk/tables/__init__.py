"""Measured data and results as tables."""
