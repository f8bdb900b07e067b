"""Feeds, charges, mixtures and streams."""
