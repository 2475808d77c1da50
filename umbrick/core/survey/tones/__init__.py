"""Tones that hold on."""
