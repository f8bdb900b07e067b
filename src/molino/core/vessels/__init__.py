"""Vessels: who writes Balances; and Run, what comes out."""
