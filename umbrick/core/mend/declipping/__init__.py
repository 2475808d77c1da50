"""Rebuilding what was cut off."""
