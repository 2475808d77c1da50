"""Holes, and what tells missing sound from a rest."""
