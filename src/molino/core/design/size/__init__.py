"""Sizing for a target."""
