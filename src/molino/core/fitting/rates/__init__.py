"""Rates: measured or derived from concentrations over time, and power laws through them."""
