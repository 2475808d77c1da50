"""Cutting, joining and putting in order."""
