"""Tracer tests, residence time distributions, flow models, and conversion from them."""
