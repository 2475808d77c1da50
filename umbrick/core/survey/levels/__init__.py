"""Levels over time, of all and of bands."""
