"""Vessels in series, in parallel and in loops."""
