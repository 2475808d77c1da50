"""Umbrick, a restoration editor for recordings."""

__version__ = "0.1.0"
