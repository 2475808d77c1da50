"""Filling gaps: from both sides, from like sound, from other channels."""
