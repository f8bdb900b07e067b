"""Tracer tests, distributions of residence times, models of flow, and what they do to conversion."""
