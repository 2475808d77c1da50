"""Gains, level curves and fades."""
