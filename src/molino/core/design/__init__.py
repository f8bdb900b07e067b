"""Reactor design: size, sweep, compare, optimize, recommend."""
