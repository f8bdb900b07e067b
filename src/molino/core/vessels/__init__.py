"""Vessels: fields, specifications and verbs."""
