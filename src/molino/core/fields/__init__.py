"""Vessels whose flow is a field: laminar pipes and slits, two-dimensional basins."""
