"""Optimal profiles (optimal control)."""
