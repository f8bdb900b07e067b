"""Runs of vessels: trajectories, steady states and checks."""
